// Package pdf is the object layer: it reads the objects of a PDF file when they
// are asked for, keeps changed objects in an overlay, and writes them back as an
// incremental update or as a whole new file.
//
// It takes an io.ReaderAt and gives Objects; it knows pages as a tree of
// dictionaries, but nothing of what is drawn on them. Names and clauses are
// those of ISO 32000-2:2020.
package pdf
