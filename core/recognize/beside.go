package recognize

import (
	"context"

	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/scan"
)

// fewPlaced is of how many words on a page it can be told whether they lie on their letters.
const fewPlaced = 12

// OnInk tells how many hundredths of the invisible words of a page lie where its picture shows something: those of a layer that is in its place nearly all, those of
// one that stands beside its letters few. ok is false where it can't be told: the page is not one picture, or has few words.
func OnInk(ctx context.Context, doc *pdf.Document, ref pdf.Ref) (hundredths int, ok bool) {
	s, err := sheetOf(ctx, doc, content.NewReader(doc), ref)
	if err != nil {
		return 0, false
	}
	px, err := (&part{own: []partPicture{{s.use.Ref, s.use.Matrix}}}).ownPixels(doc, s.geo.UserUnit)
	if err != nil || px.gray.Rect.Dx()*px.gray.Rect.Dy() > mostLook {
		return 0, false
	}
	p, err := content.NewReader(doc).Page(ctx, ref, content.Options{NoAnnotations: true})
	if err != nil {
		return 0, false
	}
	g := px.gray
	isDark := scan.Shrink(g).Dark()
	back := px.toPage.Invert()
	l := layout.Read(p, s.geo.Visible, nil)
	all, on := 0, 0
	for i := range l.Words {
		w := &l.Words[i]
		glyphs := l.Glyphs(w)
		if len(glyphs) < 3 {
			continue
		}
		if st := p.Shows[p.Glyphs[glyphs[0]].Show].State; st == nil || st.Render != 3 {
			continue
		}
		b := back.Bounds(l.Box(w))
		x0, y0, x1, y1 := max(0, int(b.X0)), max(0, int(b.Y0)), min(g.Rect.Dx(), int(b.X1)), min(g.Rect.Dy(), int(b.Y1))
		if x1-x0 < 3 || y1-y0 < 3 {
			continue
		}
		all++
		lo, hi, dark := 255, 0, 0
		for y := y0; y < y1; y++ {
			for _, v := range g.Pix[y*g.Stride+x0 : y*g.Stride+x1] {
				lo, hi = min(lo, int(v)), max(hi, int(v))
			}
		}
		if hi-lo < 60 {
			continue // paper alone
		}
		for y := y0; y < y1; y++ {
			for _, v := range g.Pix[y*g.Stride+x0 : y*g.Stride+x1] {
				if (int(v) < (lo+hi)/2) != isDark {
					dark++
				}
			}
		}
		if part := 100 * dark / ((x1 - x0) * (y1 - y0)); part >= 6 && part <= 70 {
			on++
		}
	}
	if all < fewPlaced {
		return 0, false
	}
	return 100 * on / all, true
}

// Misplaced reports whether a layer of which so many hundredths lie on ink stands beside its letters.
func Misplaced(onInk int) bool { return onInk < 60 }
