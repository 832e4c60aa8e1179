// Package raster turns pages into pixels with PDFium, run as WebAssembly in child
// processes so that one that overruns its time or memory can be stopped.
//
// It takes where the bytes of a document are (files and pieces in memory) and a
// page; it gives a picture. It knows nothing of steps or of what is on a page.
package raster

import (
	"bytes"
	"errors"
	"image"
	"io"
	"os"

	"glenrain/core/pdf"
)

// Format says how the pixels come back.
type Format string

const (
	// Auto is PNG for line work and text, JPEG for photographs.
	Auto Format = "auto"
	// PNG is always PNG.
	PNG Format = "png"
	// Raw is 4 bytes a pixel, RGBA, rows from the top without padding.
	Raw Format = "raw"
)

// Part is a stretch of a document's bytes: Size bytes of the file at Path from
// Off on, or Data itself.
type Part struct {
	Path string
	Off  int64
	Size int64
	Data []byte
}

// OpenParts opens parts, to be read as one; done closes their files.
func OpenParts(list []Part) (parts *pdf.Parts, done func(), err error) {
	var files []*os.File
	done = func() {
		for _, f := range files {
			_ = f.Close()
		}
	}
	parts = pdf.NewParts()
	for _, p := range list {
		if p.Path == "" {
			parts = parts.With(bytes.NewReader(p.Data), int64(len(p.Data)))
			continue
		}
		f, err := os.Open(p.Path)
		if err != nil {
			done()
			return nil, nil, err
		}
		files = append(files, f)
		parts = parts.With(io.NewSectionReader(f, p.Off, p.Size), p.Size)
	}
	return parts, done, nil
}

// Source names a document: Key is the same only for the same bytes.
type Source struct {
	Key   string
	Parts []Part
}

// Request asks for one page.
type Request struct {
	Source Source
	Page   int     // 0 is the first
	Scale  float64 // pixels a point; 96 dpi is 96.0/72
	// Width and Height, where not 0, are the most pixels the page may take: the
	// picture fits into them, and Scale is not used.
	Width, Height int
	// Region, where not empty, is the part to show, in pixels of the whole page's picture.
	Region image.Rectangle
	Format Format
	Save   bool // gives no picture but the document as PDFium saves it, mended as far as it can
	Count  bool // gives no picture but the number of pages that PDFium finds
}

// Picture is a rendered page or region, or the bytes of a file that was saved, or a number of pages.
type Picture struct {
	Type   string // media type, or "" for Raw
	Data   []byte
	Width  int
	Height int
	Pages  int
}

// Errors of rendering; each is a sentence.
var (
	ErrTime   = &pdf.Error{Kind: pdf.ErrLimit, Sentence: "the page took too long to draw and was stopped"}
	ErrMemory = &pdf.Error{Kind: pdf.ErrLimit, Sentence: "the page took too much memory to draw and was stopped"}
	ErrBusy   = errors.New("too many pages wait to be drawn")
	ErrDead   = errors.New("the page could not be drawn: drawing it stopped the renderer")
	ErrPage   = errors.New("the page can't be drawn")
)
