package desk

import (
	"context"

	"glenrain/core/content"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
)

// Limits of what is a blank page, as it is drawn.
const (
	blankBox   = 160    // pixels of its longest side
	blankEdge  = 0.04   // of each side: what a scanner leaves at the edges of paper does not count
	blankDark  = 0.80   // of full light: pixels that are darker are marks
	blankMarks = 0.0012 // of the pixels: with fewer marks than that it is blank, dust on a scan and all
)

// BlankPages finds the pages on which nothing is to be seen: those without anything, and scans of empty paper. A page with a page number on it is not blank.
// report, where set, is told how many were looked at.
func (d *Desk) BlankPages(ctx context.Context, s *Snapshot, report func(done, of int)) ([]step.Key, error) {
	pages := s.Pages()
	doc := s.PDF.In(ctx)
	reader := content.NewReader(doc)
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	var out []step.Key
	var page *content.Page
	for i, l := range all {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := doc.Over(); err != nil {
			return nil, err
		}
		if report != nil {
			report(i, len(all))
		}
		if page, err = reader.Page(ctx, l.Ref, content.Options{Images: true, Paths: true, Into: page}); err != nil {
			return nil, err
		}
		if page.Cut {
			continue
		}
		if _, any := page.Printed(doc.Geometry(l.Ref).Visible); !any {
			out = append(out, pages[i].Key)
			continue
		}
		if shownText(page, doc.Geometry(l.Ref).Visible) || len(page.Images) == 0 {
			continue
		}
		blank, err := d.drawsBlank(ctx, s, i)
		if err != nil {
			return nil, err
		}
		if blank {
			out = append(out, pages[i].Key)
		}
	}
	return out, nil
}

// shownText reports whether text is to be seen on a page.
func shownText(p *content.Page, visible pdf.Rect) bool {
	for i := range p.Glyphs {
		g := &p.Glyphs[i]
		if sh := &p.Shows[g.Show]; !sh.Hidden && sh.State.Render != 3 && g.Char != nil && g.Char.Text != " " && p.OnPage(g, visible) {
			return true
		}
	}
	return false
}

// drawsBlank draws a page small and reports whether there is next to nothing on it.
func (d *Desk) drawsBlank(ctx context.Context, s *Snapshot, page int) (bool, error) {
	pic, err := d.pool.Render(ctx, raster.Request{Source: s.source(), Page: page, Width: blankBox, Height: blankBox, Format: raster.Raw})
	if err != nil {
		return false, err
	}
	if len(pic.Data) < 4*pic.Width*pic.Height {
		return false, nil
	}
	dx, dy := int(float64(pic.Width)*blankEdge), int(float64(pic.Height)*blankEdge)
	marks, n := 0, 0
	for y := dy; y < pic.Height-dy; y++ {
		for x := dx; x < pic.Width-dx; x++ {
			p := pic.Data[4*(y*pic.Width+x):]
			n++
			if (299*float64(p[0])+587*float64(p[1])+114*float64(p[2]))/1000 < blankDark*0xff {
				marks++
			}
		}
	}
	return n > 0 && float64(marks) < blankMarks*float64(n), nil
}
