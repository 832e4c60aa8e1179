package draw

import (
	"fmt"
	"slices"
	"strings"

	"glenrain/core/pdf"
)

// Moved draws a page's own content through m, cut to clip, which is in the space that the content was made for. What furnishings put there
// stays where it is: it is not part of it. broken: as Put.
func Moved(doc *pdf.Document, page pdf.Ref, m pdf.Matrix, clip pdf.Rect) (broken bool, err error) {
	if broken, err = fence(doc, page); err != nil {
		return false, err
	}
	list := contents(doc, page)
	first := slices.IndexFunc(list, func(o pdf.Object) bool { return isFence(doc, o) })
	if first < 0 {
		return false, nil // there is nothing on it
	}
	last := len(list) - 1
	for !isFence(doc, list[last]) {
		last--
	}
	depth := func(o pdf.Object) int {
		n, _ := pdf.Number(doc.Resolve(doc.Stream(o).Dict.Get(keyFence)))
		return int(n)
	}
	// The fences become part of the page's own content: a furnishing that goes takes only its own away.
	var c Content
	for range depth(list[first]) {
		c.Op("q")
	}
	c.Matrix(m).Op("re", clip.X0, clip.Y0, clip.W(), clip.H()).Op("W").Op("n")
	out := slices.Clone(list)
	out[first] = doc.Add(pdf.NewStream(pdf.NewDict(), c.Bytes()))
	out[last] = doc.Add(pdf.NewStream(pdf.NewDict(), []byte(strings.Repeat("Q ", depth(list[last])))))
	furnished := slices.ContainsFunc(out, func(o pdf.Object) bool { s := doc.Stream(o); return s != nil && s.Dict.Has(keyID) })
	doc.Edit(page).Set("Contents", out)
	if furnished { // and a new fence stands around it
		open, err := fenceStream(doc, "q", 1)
		if err != nil {
			return broken, err
		}
		closing, err := fenceStream(doc, "Q", 1)
		if err != nil {
			return broken, err
		}
		out = slices.Insert(out, last+1, pdf.Object(closing))
		out = slices.Insert(out, first, pdf.Object(open))
		doc.Edit(page).Set("Contents", out)
	} else {
		leaveNothing(doc, false)
	}
	return broken, nil
}

// AsForm makes a form XObject (8.10) of what is seen of a page: its content, and the appearances of its annotations as they print (12.5.5). The form's
// space is the page's default user space, its box what is visible.
func AsForm(doc *pdf.Document, page pdf.Ref) (pdf.Ref, error) {
	g := doc.Geometry(page)
	var data []byte
	for _, o := range contents(doc, page) {
		s := doc.Stream(o)
		if s == nil {
			continue
		}
		part, _, err := doc.DecodeMost(s, pdf.MaxContent-len(data))
		if err != nil {
			return pdf.Ref{}, fmt.Errorf("the content of a page: %w", err)
		}
		if len(data) > 0 {
			data = append(data, '\n')
		}
		data = append(data, part...)
	}
	missing, extra, _ := balance(data)
	res := doc.Dict(doc.Inherited(page, "Resources")).Clone()
	var c Content
	for range 1 + extra {
		c.Op("q")
	}
	c.b.Write(data)
	c.b.WriteByte('\n')
	for range 1 + missing {
		c.Op("Q")
	}
	xobjects := doc.Dict(res.Get("XObject")).Clone()
	for _, o := range doc.Array(doc.Dict(page).Get("Annots")) {
		form, at, ok := printed(doc, doc.Dict(o))
		if !ok {
			continue
		}
		name := freeName(xobjects, "Annotation")
		xobjects.Set(name, form)
		c.Op("q").Matrix(at).Op("Do", name).Op("Q")
	}
	if xobjects.Len() > 0 {
		res.Set("XObject", xobjects)
	}
	ref := Form(doc, g.Visible, res, c.Bytes())
	if group := doc.Dict(page).Get("Group"); doc.Dict(group) != nil {
		doc.Edit(ref).Set("Group", group)
	}
	return ref, nil
}

// Flags of annotations (12.5.3).
const (
	flagHidden = 1 << 1
	flagPrint  = 1 << 2
)

// printed gives the appearance stream of an annotation that prints, and the matrix that brings it to its rectangle (12.5.5, algorithm 8).
func printed(doc *pdf.Document, a *pdf.Dict) (form pdf.Ref, at pdf.Matrix, ok bool) {
	flags, _ := pdf.Number(doc.Resolve(a.Get("F")))
	if int(flags)&flagHidden != 0 || int(flags)&flagPrint == 0 || doc.Name(a.Get("Subtype")) == "Popup" {
		return
	}
	o := doc.Dict(a.Get("AP")).Get("N")
	if states := doc.Dict(o); states != nil && doc.Stream(o) == nil {
		o = states.Get(doc.Name(a.Get("AS")))
	}
	s := doc.Stream(o)
	form, isRef := o.(pdf.Ref)
	rect, hasRect := doc.Rect(a.Get("Rect"))
	if s == nil || !isRef || !hasRect {
		return
	}
	box, hasBox := doc.Rect(s.Dict.Get("BBox"))
	if !hasBox {
		return
	}
	m := pdf.Identity
	if v := doc.Array(s.Dict.Get("Matrix")); len(v) == 6 {
		for i := range v {
			m[i], _ = pdf.Number(doc.Resolve(v[i]))
		}
	}
	b := m.Bounds(box)
	if b.W() <= 0 || b.H() <= 0 {
		return
	}
	sx, sy := rect.W()/b.W(), rect.H()/b.H()
	return form, pdf.Matrix{sx, 0, 0, sy, rect.X0 - b.X0*sx, rect.Y0 - b.Y0*sy}, true
}
