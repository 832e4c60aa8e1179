package content

import (
	"glenrain/core/font"
	"glenrain/core/pdf"
)

// do draws an XObject (8.8).
func (x *runner) do(o *Op) {
	name := pdf.Name(o.Args[0].Bytes)
	obj := x.doc.Dict(x.res.dict.Get("XObject")).Get(name)
	s := x.doc.Stream(obj)
	if s == nil {
		return
	}
	ref, _ := obj.(pdf.Ref)
	switch x.doc.Name(s.Dict.Get("Subtype")) {
	case "Image":
		if x.opt.Images {
			x.page.Images = append(x.page.Images, ImageUse{Invocation: x.at, Start: o.Start, End: o.End, Name: name, Ref: ref,
				Matrix: x.state.CTM, State: x.snap(), Mark: x.mark, Hidden: x.hidden || x.r.layers.hides(s.Dict.Get("OC"))})
		}
	case "Form":
		x.form(Invocation{Kind: FormBody, Ref: ref, Name: name, Parent: x.at, Start: o.Start, End: o.End}, s, pdf.Identity)
	}
}

// form runs a form XObject: its matrix, clip and resources (8.10.1). after is applied after its own matrix.
func (x *runner) form(v Invocation, s *pdf.Stream, after pdf.Matrix) {
	if x.depth >= maxForms {
		x.page.Cut = true
		return
	}
	for _, r := range x.forms[:x.depth] {
		if r == v.Ref && !r.IsZero() { // draws itself
			return
		}
	}
	keep := x.graphics
	outerHidden := x.hidden
	m := pdf.Identity
	if a := x.doc.Array(s.Dict.Get("Matrix")); len(a) == 6 {
		for i := range m {
			m[i], _ = pdf.Number(x.doc.Resolve(a[i]))
		}
	}
	x.state.CTM = m.Mul(after).Mul(x.state.CTM)
	x.dirty = true
	if x.opt.Paths {
		if box, ok := x.doc.Rect(s.Dict.Get("BBox")); ok {
			x.state.Clip = intersect(x.state.Clip, x.state.CTM.Bounds(box))
		}
	}
	if x.r.layers.hides(s.Dict.Get("OC")) {
		x.hidden = true
	}
	v.Body = x.r.body(v.Ref, s)
	v.Matrix = x.state.CTM
	v.Resources = x.doc.Dict(s.Dict.Get("Resources"))
	if v.Resources == nil {
		v.Resources = x.res.dict
	}
	x.forms[x.depth] = v.Ref
	x.depth++
	hidden := x.hidden
	mark := x.mark
	if hidden && !outerHidden { // hold it while marks inside open and close
		x.page.Marks = append(x.page.Marks, MarkedContent{MCID: -1, Parent: mark, Invocation: x.at, Start: v.Start, Hidden: true, Tag: "OC"})
		x.mark = len(x.page.Marks) - 1
	}
	x.invoke(v)
	x.depth--
	x.mark, x.hidden = mark, outerHidden
	x.graphics = keep
}

func intersect(a, b pdf.Rect) pdf.Rect {
	return pdf.Rect{X0: max(a.X0, b.X0), Y0: max(a.Y0, b.Y0), X1: min(a.X1, b.X1), Y1: min(a.Y1, b.Y1)}
}

// Annotation flags (table 167).
const (
	annotHidden = 1 << 1
	annotNoView = 1 << 5
)

// annotations runs the normal appearances (12.5.5).
func (x *runner) annotations(page pdf.Ref, res *pdf.Dict) {
	for _, o := range x.doc.Array(x.doc.Page(page).Get("Annots")) {
		a := x.doc.Dict(o)
		if a == nil {
			continue
		}
		flags, _ := x.doc.Resolve(a.Get("F")).(pdf.Integer)
		if flags&(annotHidden|annotNoView) != 0 || x.doc.Name(a.Get("Subtype")) == "Popup" || x.r.layers.hides(a.Get("OC")) {
			continue
		}
		n := x.doc.Dict(a.Get("AP")).Get("N")
		s := x.doc.Stream(n)
		if s == nil {
			n = x.doc.Dict(n).Get(x.doc.Name(a.Get("AS")))
			if s = x.doc.Stream(n); s == nil {
				if n, s = nil, x.freeText(a); s == nil {
					continue
				}
			}
		}
		rect, ok1 := x.doc.Rect(a.Get("Rect"))
		box, ok2 := x.doc.Rect(s.Dict.Get("BBox"))
		if !ok1 || !ok2 {
			continue
		}
		m := pdf.Identity
		if arr := x.doc.Array(s.Dict.Get("Matrix")); len(arr) == 6 {
			for i := range m {
				m[i], _ = pdf.Number(x.doc.Resolve(arr[i]))
			}
		}
		around := m.Bounds(box)
		if around.W() <= 0 || around.H() <= 0 {
			continue
		}
		sx, sy := rect.W()/around.W(), rect.H()/around.H()
		fit := pdf.Matrix{sx, 0, 0, sy, rect.X0 - around.X0*sx, rect.Y0 - around.Y0*sy}
		ref, _ := n.(pdf.Ref)
		annot, _ := o.(pdf.Ref)
		x.state = State{CTM: pdf.Identity, Scale: 1, LineWidth: 1, Alpha: 1}
		if x.opt.Paths {
			x.state.Clip = rect
		}
		x.dirty = true
		x.res = &resources{dict: res, fonts: map[string]*font.Font{}}
		x.mark, x.hidden = -1, false
		x.form(Invocation{Kind: AppearanceBody, Ref: ref, Parent: -1, Annotation: annot}, s, fit)
	}
}

// patterns runs the cell of a tiling pattern once where it paints a path (8.7.3): in the coordinates of what the pattern belongs to.
func (x *runner) patterns(o *Op) {
	use := PathUse{Paint: o.Code}
	fills, strokes := use.Fills(), use.Strokes()
	if !fills && !strokes && o.Code != opn {
		return
	}
	if !x.inPath { // there is nothing to paint
		return
	}
	x.inPath = false
	start := x.deepStart
	if fills {
		x.pattern(Invocation{Paint: x.state.Fill, Start: start, End: o.End})
	}
	if strokes {
		x.pattern(Invocation{Paint: x.state.Stroke, Start: start, End: o.End, Stroke: true})
	}
}

func (x *runner) pattern(v Invocation) {
	name := v.Paint.Pattern
	if name == "" {
		return
	}
	o := x.doc.Dict(x.res.dict.Get("Pattern")).Get(name)
	s := x.doc.Stream(o)
	if s == nil {
		return
	}
	v.Kind, v.Name, v.Parent = PatternBody, name, x.at
	v.Ref, _ = o.(pdf.Ref)
	keep := x.state.CTM
	x.state.CTM = x.page.Invocations[x.at].Matrix
	x.form(v, s, pdf.Identity)
	x.state.CTM = keep
	x.dirty = true
}

// glyphProcs runs the procedures of a Type 3 font's glyphs (9.6.4).
func (x *runner) glyphProcs(show int) {
	sh := x.page.Shows[show]
	f := sh.State.Font
	procs := x.doc.Dict(f.Dict.Get("CharProcs"))
	res := x.doc.Dict(f.Dict.Get("Resources"))
	if res == nil {
		res = x.res.dict
	}
	if x.depth >= maxForms {
		return
	}
	for i := sh.First; i < sh.First+sh.N; i++ {
		g := x.page.Glyphs[i]
		o := procs.Get(pdf.Name(g.Char.Name))
		s := x.doc.Stream(o)
		if s == nil {
			continue
		}
		ref, _ := o.(pdf.Ref)
		keep := x.graphics
		m := sh.Before.Mul(sh.State.CTM)
		m[4], m[5] = g.X, g.Y
		x.state.CTM = pdf.Matrix(f.Matrix).Mul(pdf.Matrix{sh.State.Size * sh.State.Scale, 0, 0, sh.State.Size}).Mul(m)
		x.dirty = true
		x.forms[x.depth] = ref
		running := false
		for _, r := range x.forms[:x.depth] {
			running = running || r == ref && !r.IsZero()
		}
		if !running {
			x.depth++
			x.invoke(Invocation{Kind: GlyphBody, Body: x.r.body(ref, s), Ref: ref, Name: pdf.Name(g.Char.Name), Parent: x.at, Start: sh.Start, End: sh.End,
				Matrix: x.state.CTM, Resources: res})
			x.depth--
		}
		x.graphics = keep
	}
}
