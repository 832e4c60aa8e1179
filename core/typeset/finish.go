package typeset

import (
	"context"
	"io"
	"math"

	"glenrain/core/pdf"
)

// near is by how much a page may be off the size that was asked for: Chromium counts in pixels of 1/96 inch.
const near = 1.0

// finish writes what Chromium made with the sizes of pages that were asked for, to the point, and without what it says of itself.
func finish(ctx context.Context, r io.ReaderAt, size int64, sizes [][2]float64, w io.Writer) error {
	doc, err := pdf.Open(r, size)
	if err != nil {
		return err
	}
	doc = doc.ForkIn(ctx)
	pages, err := doc.Pages()
	if err != nil {
		return err
	}
	for _, p := range pages {
		box := doc.Geometry(p.Ref).MediaBox
		w, h := box.X1-box.X0, box.Y1-box.Y0
		for _, s := range sizes {
			if math.Abs(s[0]-w) <= near && math.Abs(s[1]-h) <= near { // the upper left corner stays: the text hangs from it
				doc.Edit(p.Ref).Set("MediaBox", pdf.Array{pdf.Real(box.X0), pdf.Real(box.Y1 - s[1]), pdf.Real(box.X0 + s[0]), pdf.Real(box.Y1)})
				break
			}
		}
	}
	if info, ok := doc.Trailer().Get("Info").(pdf.Ref); ok {
		d := doc.Edit(info)
		d.Set("Creator", pdf.String("Glenrain"))
	}
	if err := doc.Over(); err != nil {
		return err
	}
	return doc.WriteFull(ctx, w, pdf.FullOptions{Once: true})
}
