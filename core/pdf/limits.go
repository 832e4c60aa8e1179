package pdf

import "time"

// Limits that no honest file reaches, of all rooms. Where one is passed, the error is the value
// named beside it, which wraps ErrLimit and has a sentence.
const (
	// MaxDepth is the nesting of arrays and dictionaries, and of the page tree (ErrTooDeep).
	MaxDepth = 200
	// MaxObjects is the largest object number (Annex C); more pages than that are ErrTooManyPages.
	MaxObjects = 8_388_607
	// MaxSections is how many cross-reference sections one file may have (ErrTooManySections).
	MaxSections = 100_000
	// MaxPages is the most pages of one file (ErrTooManyPages); MaxShared, how often pages may be listed again (ErrTooOften).
	MaxPages  = 200_000
	MaxShared = 20_000
	// MaxInflated is how many bytes one stream may unpack to (ErrTooLarge); MaxContent, the content of one page.
	MaxInflated = 128 << 20
	MaxContent  = 48 << 20
	// freeParsed is the size of an object from which on reading it counts as work.
	freeParsed = 64 << 10
	// MaxRatio is by how much a stream may grow when it is unpacked (ErrTooDense), once it takes
	// freeInflated bytes. Deflate itself can't pass 1,032; only packed packages do.
	MaxRatio     = 2000
	freeInflated = 16 << 20
	// MaxFilters is how many filters one stream may have (ErrTooDense).
	MaxFilters = 16
	// MaxInflatedAll is how many bytes one piece of work on a document may unpack (ErrTooMuch); MaxNodes,
	// how many nodes of trees it may look at (ErrTooManyNodes).
	MaxInflatedAll = 4 << 30
	MaxNodes       = 20_000_000
	// MaxKept is how many bytes of font programs one piece of work may keep (ErrTooMuch).
	MaxKept = 96 << 20
	// MaxPixels is the most one picture may have that is decoded (ErrTooManyPixels).
	MaxPixels = 200_000_000
	// MaxDrawn is the most pixels a drawn page may have (ErrTooManyPixels).
	MaxDrawn = 64 << 20
	// MaxWork is how long one file may take to be added, or one step (ErrTooLong); MaxDrawing,
	// how long one page may take to be drawn.
	MaxWork    = 5 * time.Minute
	MaxDrawing = 30 * time.Second
)

// What is said where a limit is passed.
var (
	ErrTooDeep         = refuse(ErrLimit, "the file’s objects are nested too deeply to open safely")
	ErrTooManyPages    = refuse(ErrLimit, "the file has too many pages to open")
	ErrTooOften        = refuse(ErrLimit, "the file lists the same pages too many times to open")
	ErrTooManyNodes    = refuse(ErrLimit, "the file’s trees are too large to open")
	ErrTooManySections = refuse(ErrLimit, "the file has too many updates to open")
	ErrTooLarge        = refuse(ErrLimit, "a stream in the file unpacks to more than 128 MB")
	ErrTooDense        = refuse(ErrLimit, "a stream in the file unpacks to far more than can be opened")
	ErrTooMuch         = refuse(ErrLimit, "the file unpacks to more than 4 GB in all")
	ErrTooManyPixels   = refuse(ErrLimit, "the picture has more pixels than the 200 million that can be worked on here")
	ErrTooLong         = refuse(ErrLimit, "this took too long, so it was stopped")
)
