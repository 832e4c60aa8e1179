package content

import (
	"errors"
	"fmt"
	"slices"

	"glenrain/core/pdf"
)

// meets reports whether two rectangles have points in common.
func meets(a, b pdf.Rect) bool { return a.X1 > b.X0 && a.X0 < b.X1 && a.Y1 > b.Y0 && a.Y0 < b.Y1 }

// Box gives the smallest upright rectangle around a picture.
func (u *ImageUse) Box() pdf.Rect { return u.Matrix.Bounds(pdf.Rect{X1: 1, Y1: 1}) }

// box gives the smallest upright rectangle around what a path paints, with its line.
func (u *PathUse) box() pdf.Rect {
	b := u.Bounds
	if u.State != nil && u.Strokes() {
		m := u.State.CTM
		w := u.State.LineWidth / 2 * max(abs(m[0])+abs(m[2]), abs(m[1])+abs(m[3]))
		b = pdf.Rect{X0: b.X0 - w, Y0: b.Y0 - w, X1: b.X1 + w, Y1: b.Y1 + w}
	}
	return b
}

func abs(v float64) float64 { return max(v, -v) }

// white reports whether a path only fills with white: paper that is painted on paper.
func (u *PathUse) white() bool {
	if u.State == nil || !u.Fills() || u.Strokes() {
		return false
	}
	f := u.State.Fill
	switch name, _ := f.Space.(pdf.Name); {
	case f.Space == nil || name == "DeviceGray" || name == "G":
		return f.N == 1 && f.Values[0] == 1
	case name == "DeviceRGB" || name == "RGB":
		return f.N == 3 && f.Values[0] == 1 && f.Values[1] == 1 && f.Values[2] == 1
	case name == "DeviceCMYK" || name == "CMYK":
		return f.N == 4 && f.Values == [4]float64{}
	}
	return false
}

// Printed gives the smallest rectangle around what is printed in the visible part of a page, in default user space: text by its cells, pictures, and
// lines and areas that are not white. any is false where there is nothing. The page must have been read with pictures and paths.
func (p *Page) Printed(visible pdf.Rect) (box pdf.Rect, any bool) {
	add := func(b pdf.Rect) {
		if !meets(b, visible) && (b.W() > 0 || b.H() > 0) {
			return
		}
		b = pdf.Rect{X0: max(b.X0, visible.X0), Y0: max(b.Y0, visible.Y0), X1: min(b.X1, visible.X1), Y1: min(b.Y1, visible.Y1)}
		if b.X1 < b.X0 || b.Y1 < b.Y0 {
			return
		}
		if !any {
			box, any = b, true
			return
		}
		box = pdf.Rect{X0: min(box.X0, b.X0), Y0: min(box.Y0, b.Y0), X1: max(box.X1, b.X1), Y1: max(box.Y1, b.Y1)}
	}
	clipped := func(b pdf.Rect, st *State) pdf.Rect {
		if st == nil {
			return b
		}
		return intersect(b, st.Clip)
	}
	for i := range p.Glyphs {
		g := &p.Glyphs[i]
		sh := &p.Shows[g.Show]
		if sh.Hidden || sh.State.Render == 3 || sh.State.Render == 7 || g.Char == nil || blankText(g.Char.Text) {
			continue
		}
		if b := clipped(p.Box(g), sh.State); b.X1 > b.X0 && b.Y1 > b.Y0 {
			add(b)
		}
	}
	for i := range p.Images {
		if u := &p.Images[i]; !u.Hidden {
			if b := clipped(u.Box(), u.State); b.X1 > b.X0 && b.Y1 > b.Y0 {
				add(b)
			}
		}
	}
	for i := range p.Paths {
		u := &p.Paths[i]
		if u.Hidden || u.white() || u.Bounds.X1 < u.Bounds.X0 {
			continue
		}
		if b := clipped(u.box(), u.State); b.X1 >= b.X0 && b.Y1 >= b.Y0 {
			add(b)
		}
	}
	return box, any
}

func blankText(s string) bool {
	for _, r := range s {
		switch r {
		case ' ', '\t', '\n', '\u00a0', '\u2002', '\u2003', '\u2009', '\u200b', '\u3000':
		default:
			return false
		}
	}
	return s != ""
}

// errInline: what stands in the content itself can't be cut.
var errInline = errors.New("a picture that is part of the content crosses the edge")

// Outside gives the patches that take away what lies wholly outside a frame: glyphs, paths and pictures. A picture that crosses its edge is given to
// cut, which gives the XObject that is drawn instead, and the matrix from the place of it to that of the whole one. What clips stays. emptied are the
// identifiers of marked content of the page itself of which nothing is left; what is said in the place of it goes, too.
func (p *Page) Outside(frame pdf.Rect, cut func(*ImageUse) (pdf.Ref, pdf.Matrix, error)) (patches []Patch, emptied []int, err error) {
	had, left := make([]int, len(p.Marks)), make([]int, len(p.Marks))
	count := func(mark int, stays bool) {
		if mark < 0 {
			return
		}
		had[mark]++
		if stays {
			left[mark]++
		}
	}
	var glyphs []int
	for i := range p.Glyphs {
		g := &p.Glyphs[i]
		b := p.Box(g)
		stays := meets(b, frame) || g.X > frame.X0 && g.X < frame.X1 && g.Y > frame.Y0 && g.Y < frame.Y1
		if !stays {
			glyphs = append(glyphs, i)
		}
		count(p.Shows[g.Show].Mark, stays)
	}
	patches = TakeOut(p, glyphs)
	for i := range p.Images {
		u := &p.Images[i]
		b := u.Box()
		inside := b.X0 >= frame.X0-0.01 && b.X1 <= frame.X1+0.01 && b.Y0 >= frame.Y0-0.01 && b.Y1 <= frame.Y1+0.01
		stays := inside || meets(b, frame)
		count(u.Mark, stays)
		switch {
		case inside:
		case !stays:
			patches = append(patches, Patch{Invocation: u.Invocation, Start: u.Start, End: u.End})
		case u.Ref.IsZero():
			return nil, nil, errInline
		default:
			ref, through, err := cut(u)
			if err != nil {
				return nil, nil, err
			}
			if !ref.IsZero() {
				patches = append(patches, Patch{Invocation: u.Invocation, Start: u.Start, End: u.End, Draw: ref, Through: through})
			}
		}
	}
	for i := range p.Paths {
		u := &p.Paths[i]
		stays := meets(u.box(), frame) || u.Bounds.X1 < u.Bounds.X0
		count(u.Mark, stays)
		if !stays && !p.clips(u) {
			patches = append(patches, Patch{Invocation: u.Invocation, Start: u.Start, End: u.End})
		}
	}
	for k := len(p.Marks) - 1; k >= 0; k-- { // those inside come behind those around them
		if up := p.Marks[k].Parent; up >= 0 && up < k {
			had[up] += had[k]
			left[up] += left[k]
		}
	}
	for k, n := range had {
		m := &p.Marks[k]
		if n == 0 || left[k] > 0 || m.Tag == "OC" {
			continue
		}
		if m.MCID >= 0 && p.Invocations[m.Invocation].Kind == PageBody {
			emptied = append(emptied, m.MCID)
		}
		if !m.Props.Has("ActualText") && !m.Props.Has("Alt") && !m.Props.Has("E") {
			continue
		}
		s := Scanner{Data: p.Invocations[m.Invocation].Body.Data, Pos: m.Start}
		var o Op
		if !s.Next(&o) {
			continue
		}
		tag := pdf.AppendObject(nil, m.Tag)
		now := fmt.Appendf(nil, "%s BMC", tag)
		if m.MCID >= 0 {
			now = fmt.Appendf(nil, "%s <</MCID %d>> BDC", tag, m.MCID)
		}
		patches = append(patches, Patch{Invocation: m.Invocation, Start: o.Start, End: o.End, New: now})
	}
	slices.Sort(emptied)
	return patches, slices.Compact(emptied), nil
}

// clips reports whether the operators of a path also make it a clipping path.
func (p *Page) clips(u *PathUse) bool {
	s := Scanner{Data: p.Invocations[u.Invocation].Body.Data[:u.End], Pos: u.Start}
	var o Op
	for s.Next(&o) {
		if o.Code == opW || o.Code == opWstar {
			return true
		}
	}
	return false
}
