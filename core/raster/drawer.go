package raster

import (
	"bufio"
	"context"
	"fmt"
	"image"
	"os"
	"sync"
	"sync/atomic"

	"glenrain/core/child"
	"glenrain/core/pdf"
)

// Drawer draws pages of documents as they are in memory: each is written to a file of its own, once, as long as it is not another document that is asked for.
type Drawer struct {
	pool   func() (*Pool, error)
	who    string
	folder string

	mu   sync.Mutex
	doc  *pdf.Document
	part Part
	key  string
}

// NewDrawer gives a drawer; pool is asked for a pool when the first page is to be drawn. who is whom it draws for, as child.For has it. Its files are in folder,
// or where the system has such if that is empty, until Close removes them.
func NewDrawer(who, folder string, pool func() (*Pool, error)) *Drawer {
	return &Drawer{pool: pool, who: who, folder: folder}
}

// drawnFiles counts the files of all drawers: renderers know a file by its number, so no two may have the same.
var drawnFiles atomic.Int64

// Close removes what was written.
func (d *Drawer) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.forget()
}

func (d *Drawer) forget() {
	if d.part.Path != "" {
		_ = os.Remove(d.part.Path)
	}
	d.doc, d.part = nil, Part{}
}

// written gives the file of a document, and the pool that draws it.
func (d *Drawer) written(ctx context.Context, doc *pdf.Document) (Source, *Pool, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	pool, err := d.pool()
	if err != nil {
		return Source{}, nil, err
	}
	if d.doc == doc {
		return Source{Key: d.key, Parts: []Part{d.part}}, pool, nil
	}
	d.forget()
	f, err := os.CreateTemp(d.folder, "glenrain-drawn-*.pdf")
	if err != nil {
		return Source{}, nil, err
	}
	b := bufio.NewWriterSize(f, 1<<16)
	if err = doc.WriteFull(ctx, b, pdf.FullOptions{KeepNumbers: true}); err == nil {
		err = b.Flush()
	}
	st, serr := f.Stat()
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = serr
	}
	if err != nil {
		_ = os.Remove(f.Name())
		return Source{}, nil, err
	}
	d.doc, d.part, d.key = doc, Part{Path: f.Name(), Size: st.Size()}, fmt.Sprintf("drawn-%d", drawnFiles.Add(1))
	return Source{Key: d.key, Parts: []Part{d.part}}, pool, nil
}

// Draw gives a page as it is seen, upright, at dpi pixels an inch.
func (d *Drawer) Draw(ctx context.Context, doc *pdf.Document, page int, dpi float64) (*image.RGBA, error) {
	src, pool, err := d.written(ctx, doc)
	if err != nil {
		return nil, err
	}
	pic, err := pool.Render(child.For(ctx, d.who), Request{Source: src, Page: page, Scale: dpi / 72, Format: Raw})
	if err != nil {
		return nil, err
	}
	if len(pic.Data) < 4*pic.Width*pic.Height {
		return nil, ErrPage
	}
	return &image.RGBA{Pix: pic.Data, Stride: 4 * pic.Width, Rect: image.Rect(0, 0, pic.Width, pic.Height)}, nil
}
