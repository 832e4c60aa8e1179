package edit

import (
	"context"
	"math"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// mover moves objects of a page.
type mover struct {
	doc      *pdf.Document
	page     *content.Page
	lay      *layout.Page
	set      laid
	carried  []carried
	warnings []string
	into     *pdf.Document                     // another document that they go to; nil for their own
	bring    func(pdf.Object) (pdf.Ref, error) // takes what objects are drawn with to the document that they go to
	emptied  []int                             // marked content of which something went
}

func (m *mover) empty() bool { return m.set.page == nil && len(m.carried) == 0 }

func (m *mover) warn(text string) {
	if !slices.Contains(m.warnings, text) {
		m.warnings = append(m.warnings, text)
	}
}

// move moves or copies an object on its page.
func (m *mover) move(o *object, t pdf.Matrix, copies bool) error {
	m.set.at(m.page)
	if o.shape != nil {
		return m.moveShape(o.shape, t, copies)
	}
	for _, at := range o.glyphs {
		sh := &m.page.Shows[m.page.Glyphs[at].Show]
		if sh.State == nil || !inClip(sh.State, t.Bounds(m.page.Box(&m.page.Glyphs[at]))) {
			return step.Refuse("the page clips that place: the text would not be visible")
		}
	}
	if copies {
		m.set.showAgain(m.page, o.glyphs, t)
	} else {
		m.set.moveGlyphs(m.page, o.glyphs, t)
	}
	for _, i := range o.images {
		if err := m.moveImage(&m.page.Images[i], t, copies); err != nil {
			return err
		}
	}
	for _, i := range o.paths {
		pa := &m.page.Paths[i]
		if !inClip(pa.State, t.Bounds(pa.Bounds)) {
			return step.Refuse("the page clips that place: the drawing would not be visible")
		}
		if clips(m.page, pa) {
			return step.Refuse("the drawing also clips later content, so you can’t move it alone")
		}
		body := m.page.Invocations[pa.Invocation].Body.Data[pa.Start:pa.End]
		var b []byte
		if copies {
			b = append(append(b, body...), '\n')
		}
		m.set.extra = append(m.set.extra, content.Patch{Invocation: pa.Invocation, Start: pa.Start, End: pa.End, New: transformed(b, body, pa.State, t)})
	}
	if p := o.para; p != nil && !copies {
		m.set.after = append(m.set.after, func() {
			for i := range p.links {
				if d := p.own(&p.links[i]); d != nil {
					annot.Move(m.doc, d, t)
				}
			}
		})
	}
	return nil
}

// moveImage moves a picture: where it stands in the order of painting, or, where a frame around it would cut it off, behind that frame.
func (m *mover) moveImage(im *content.ImageUse, t pdf.Matrix, copies bool) error {
	body := m.page.Invocations[im.Invocation].Body.Data
	if inClip(im.State, t.Bounds(im.Box())) {
		var b []byte
		if copies {
			b = append(append(b, body[im.Start:im.End]...), '\n')
		}
		m.set.extra = append(m.set.extra, content.Patch{Invocation: im.Invocation, Start: im.Start, End: im.End, New: transformed(b, body[im.Start:im.End], im.State, t)})
		return nil
	}
	at, ctm, marks, ok := outside(body, im.Start, m.page.Invocations[im.Invocation].Matrix)
	if !ok {
		return step.Refuse("the page clips that place: the picture would not be visible")
	}
	if marks && im.Mark >= 0 {
		m.warn("The picture has lost its tag, so screen readers skip it.")
	}
	if alpha(im.State) < 1 {
		m.warn("The picture is opaque now.")
	}
	b := append([]byte("\nq "), numbers(im.Matrix.Mul(t).Mul(ctm.Invert()))...)
	b = append(append(append(b, "cm "...), body[im.Start:im.End]...), " Q\n"...)
	if !copies {
		m.set.extra = append(m.set.extra, content.Patch{Invocation: im.Invocation, Start: im.Start, End: im.End})
	}
	m.set.extra = append(m.set.extra, content.Patch{Invocation: im.Invocation, Start: at, End: at, New: b})
	return nil
}

// numbers writes a matrix as operands.
func numbers(m pdf.Matrix) (b []byte) {
	for _, v := range m {
		b = append(content.AppendNumber(b, math.Round(v*1e6)/1e6), ' ')
	}
	return b
}

// outside finds where the outermost q that is open at a place of a body is closed, and the matrix that holds there. marks: marked content
// ends between the two.
func outside(body []byte, from int, base pdf.Matrix) (at int, ctm pdf.Matrix, marks, ok bool) {
	s := content.Scanner{Data: body}
	var o content.Op
	ctm = base
	var stack []pdf.Matrix
	passed := false
	for s.Next(&o) {
		passed = passed || o.Start >= from
		switch {
		case o.Code.Saves():
			stack = append(stack, ctm)
		case o.Code.Restores():
			if len(stack) > 0 {
				ctm, stack = stack[len(stack)-1], stack[:len(stack)-1]
			}
			if passed && len(stack) == 0 {
				return o.End, ctm, marks, true
			}
		case o.Code.Transforms() && len(o.Args) == 6:
			var c pdf.Matrix
			for i, a := range o.Args {
				c[i] = a.Num
			}
			ctm = c.Mul(ctm)
		case passed && o.Code.EndsMark():
			marks = true
		}
		if passed && len(stack) == 0 {
			return 0, ctm, false, false // it is in no frame of its own
		}
	}
	return 0, ctm, false, false
}

// remove takes an object off.
func (m *mover) remove(o *object) {
	m.set.at(m.page)
	if o.shape != nil {
		m.set.extra = append(m.set.extra, content.Patch{Invocation: 0, Start: o.shape.start, End: o.shape.end})
		return
	}
	m.set.gone = append(m.set.gone, o.glyphs...)
	mark := func(at int) {
		for n := 0; at >= 0 && n < 64; n++ {
			if id := m.page.Marks[at].MCID; id >= 0 && !slices.Contains(m.emptied, id) {
				m.emptied = append(m.emptied, id)
			}
			at = m.page.Marks[at].Parent
		}
	}
	for _, g := range o.glyphs {
		mark(m.page.Shows[m.page.Glyphs[g].Show].Mark)
	}
	for _, i := range o.images {
		im := &m.page.Images[i]
		mark(im.Mark)
		m.set.extra = append(m.set.extra, content.Patch{Invocation: im.Invocation, Start: im.Start, End: im.End})
	}
	for _, i := range o.paths {
		pa := &m.page.Paths[i]
		if clips(m.page, pa) {
			continue
		}
		mark(pa.Mark)
		m.set.extra = append(m.set.extra, content.Patch{Invocation: pa.Invocation, Start: pa.Start, End: pa.End})
	}
	if p := o.para; p != nil {
		m.set.after = append(m.set.after, func() {
			for i := range p.links {
				if !slices.Contains(p.links[i].mine, false) {
					p.unlink(&p.links[i])
				}
			}
		})
	}
}

// silence takes what is said instead of content from tags of which nothing is left.
func (m *mover) silence(ctx context.Context, ref pdf.Ref) {
	if len(m.emptied) == 0 {
		return
	}
	now, err := content.NewReader(m.doc).Page(ctx, ref, wanted)
	if err != nil || now.Cut {
		return
	}
	left := map[int]bool{}
	note := func(at int) {
		for n := 0; at >= 0 && n < 64; n++ {
			left[now.Marks[at].MCID] = true
			at = now.Marks[at].Parent
		}
	}
	for i := range now.Shows {
		if now.Shows[i].N > 0 {
			note(now.Shows[i].Mark)
		}
	}
	for i := range now.Images {
		note(now.Images[i].Mark)
	}
	for i := range now.Paths {
		note(now.Paths[i].Mark)
	}
	structure.Silence(m.doc, ref, slices.DeleteFunc(m.emptied, func(id int) bool { return left[id] }))
}

// showAgain shows glyphs once more, moved.
func (d *laid) showAgain(page *content.Page, glyphs []int, m pdf.Matrix) {
	gone := d.gone
	d.moveGlyphs(page, glyphs, m)
	d.gone = gone
}

// carried is content that goes to another page.
type carried struct {
	write func(name func(kind pdf.Name, ref pdf.Ref) pdf.Name) []byte
}

// target is the document that objects go to.
func (m *mover) target() *pdf.Document {
	if m.into != nil {
		return m.into
	}
	return m.doc
}

// brought gives the object that stands for a resource in the document that objects go to.
func (m *mover) brought(o pdf.Object) (pdf.Ref, error) {
	if m.bring != nil {
		return m.bring(o)
	}
	if r, ok := o.(pdf.Ref); ok {
		return r, nil
	}
	return m.doc.Add(o), nil
}

// carry takes an object along to another page.
func (m *mover) carry(o *object, t pdf.Matrix) error {
	if o.shape != nil {
		moved := o.shape.Shape.moved(t)
		m.carried = append(m.carried, carried{func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte { return moved.write(m.target(), name) }})
		return nil
	}
	var shows []int32
	in := map[int]bool{}
	for _, g := range o.glyphs {
		in[g] = true
		if s := m.page.Glyphs[g].Show; !slices.Contains(shows, s) {
			shows = append(shows, s)
		}
	}
	for _, i := range o.paths {
		pa := &m.page.Paths[i]
		fill, ok := pa.State.Fill.Set(m.doc, nil, false)
		stroke, ok2 := pa.State.Stroke.Set(m.doc, nil, true)
		if !ok && pa.Fills() || !ok2 && pa.Strokes() {
			return step.Refuse("a drawing’s colours can’t be copied to another page")
		}
		body := slices.Clone(m.page.Invocations[pa.Invocation].Body.Data[pa.Start:pa.End])
		m.carried = append(m.carried, carried{func(func(pdf.Name, pdf.Ref) pdf.Name) []byte {
			b := append([]byte("q "), numbers(pa.State.CTM.Mul(t))...)
			b = append(append(append(b, "cm "...), fill...), stroke...)
			b = append(content.AppendNumber(b, pa.State.LineWidth), " w "...)
			return append(append(b, body...), " Q\n"...)
		}})
	}
	for _, i := range o.images {
		im := &m.page.Images[i]
		if im.Ref.IsZero() {
			return step.Refuse("the picture is part of the page’s content, so it can’t go to another page")
		}
		ref, err := m.brought(im.Ref)
		if err != nil {
			return err
		}
		m.carried = append(m.carried, carried{func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
			b := append([]byte("q "), numbers(im.Matrix.Mul(t))...)
			return append(append(pdf.AppendObject(append(b, "cm "...), name("XObject", ref)), " Do"...), " Q\n"...)
		}})
	}
	slices.Sort(shows)
	for _, s := range shows {
		sh := &m.page.Shows[s]
		st := sh.State
		v := &m.page.Invocations[sh.Invocation]
		fill, ok := st.Fill.Set(m.doc, nil, false)
		own := m.doc.Dict(v.Resources.Get("Font")).Get(st.FontName)
		only, ok2 := content.Only(m.page, sh, func(g int) bool { return in[g] })
		if !ok || !ok2 || own == nil || st.FontName == "" {
			return step.Refuse("the text’s settings can’t be copied to another page")
		}
		font, err := m.brought(own)
		if err != nil {
			return err
		}
		m.carried = append(m.carried, carried{func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
			b := append([]byte("q "), fill...)
			b = append(b, "BT "...)
			b = append(pdf.AppendObject(b, name("Font", font)), ' ')
			for _, x := range []struct {
				v  float64
				op string
			}{{st.Size, "Tf"}, {st.CharSpace, "Tc"}, {st.WordSpace, "Tw"}, {100 * st.Scale, "Tz"}, {st.Rise, "Ts"}, {float64(st.Render), "Tr"}} {
				b = append(append(append(content.AppendNumber(b, x.v), ' '), x.op...), ' ')
			}
			b = append(append(b, numbers(sh.Before.Mul(st.CTM).Mul(t))...), "Tm "...)
			return append(append(b, only...), " ET Q\n"...)
		}})
	}
	return nil
}

// put writes what was carried onto a page.
func (m *mover) put(doc *pdf.Document, to pdf.Ref) error {
	if structure.Tagged(doc) {
		m.warn("The document is tagged but the objects on the other page aren’t, so screen readers skip them.")
	}
	return draw.Onto(doc, to, func(name func(pdf.Name, pdf.Ref) pdf.Name) (b []byte) {
		for _, c := range m.carried {
			b = append(b, c.write(name)...)
		}
		return b
	})
}
