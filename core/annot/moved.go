package annot

import (
	"glenrain/core/pdf"
)

// Shared gives the annotations that stand on more than one page, which the standard does not allow (12.5.2) but some programs write.
func Shared(doc *pdf.Document) map[pdf.Ref]bool {
	out := map[pdf.Ref]bool{}
	pages, err := doc.Pages()
	if err != nil {
		return out
	}
	on := map[pdf.Ref]pdf.Ref{}
	for _, l := range pages {
		for _, r := range Refs(doc, l.Ref) {
			if first, ok := on[r]; ok && first != l.Ref {
				out[r] = true
			}
			on[r] = l.Ref
		}
	}
	return out
}

// Moved moves and scales a page's annotations with its content, by m, which turns nothing: their rectangles, and the points that they are drawn
// from (12.5.6). Appearances follow the rectangle (12.5.5). One of those that are shared becomes one of the page's own.
func Moved(doc *pdf.Document, page pdf.Ref, m pdf.Matrix, shared map[pdf.Ref]bool) {
	list := doc.Array(doc.Dict(page).Get("Annots"))
	own := append(pdf.Array{}, list...)
	direct := false
	for i, o := range list {
		d := doc.Dict(o)
		if d == nil {
			continue
		}
		switch r, ok := o.(pdf.Ref); {
		case ok && shared[r]:
			d = d.Clone()
			d.Set("P", page)
			own[i], direct = doc.Add(d), true
		case ok:
			d = doc.Edit(r)
		default:
			d = d.Clone()
			own[i], direct = d, true
		}
		Move(doc, d, m)
	}
	if direct {
		doc.Edit(page).Set("Annots", own)
	}
}

// Move moves and scales one annotation, whose dictionary is d.
func Move(doc *pdf.Document, d *pdf.Dict, m pdf.Matrix) {
	if r, ok := doc.Rect(d.Get("Rect")); ok {
		x0, y0 := m.Apply(r.X0, r.Y0)
		x1, y1 := m.Apply(r.X1, r.Y1)
		d.Set("Rect", pdf.Rect{X0: min(x0, x1), Y0: min(y0, y1), X1: max(x0, x1), Y1: max(y0, y1)}.Array())
	}
	for _, k := range []pdf.Name{"QuadPoints", "L", "Vertices", "CL"} {
		if a := doc.Array(d.Get(k)); a != nil {
			d.Set(k, points(doc, a, m))
		}
	}
	for _, k := range []pdf.Name{"InkList", "Path"} {
		if lines := doc.Array(d.Get(k)); lines != nil {
			out := make(pdf.Array, len(lines))
			for n, l := range lines {
				out[n] = l
				if a := doc.Array(l); a != nil {
					out[n] = points(doc, a, m)
				}
			}
			d.Set(k, out)
		}
	}
	if rd := doc.Array(d.Get("RD")); len(rd) == 4 {
		out := make(pdf.Array, 4)
		for n, v := range rd {
			out[n] = v
			if f, ok := pdf.Number(doc.Resolve(v)); ok {
				scale := m[0]
				if n%2 == 1 {
					scale = m[3]
				}
				out[n] = pdf.Real(f * max(scale, -scale))
			}
		}
		d.Set("RD", out)
	}
}

// points moves pairs of coordinates; what is none stays.
func points(doc *pdf.Document, a pdf.Array, m pdf.Matrix) pdf.Array {
	out := append(pdf.Array{}, a...)
	for i := 0; i+1 < len(a); i += 2 {
		x, ok1 := pdf.Number(doc.Resolve(a[i]))
		y, ok2 := pdf.Number(doc.Resolve(a[i+1]))
		if ok1 && ok2 {
			x, y = m.Apply(x, y)
			out[i], out[i+1] = pdf.Real(x), pdf.Real(y)
		}
	}
	return out
}
