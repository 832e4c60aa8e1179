package edit

import (
	"cmp"
	"math"
	"slices"

	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
)

// item is something that stands on a page: a line of text, a picture or a drawing, with the rectangle that it takes along and across
// the lines of a paragraph.
type item struct {
	u0, u1, bottom, top float64
	line, image, path   int // one of them; -1 for the others
}

// moved is a item with how far it moves, on the page.
type moved struct {
	item
	m pdf.Matrix
}

// items lists what stands on the page besides a paragraph.
func (p *para) items() (out []item) {
	l := p.lay
	mine := map[int]bool{}
	for _, at := range p.mine {
		mine[at] = true
	}
	box := func(b pdf.Rect) (t item) {
		t = item{u0: math.Inf(1), u1: math.Inf(-1), bottom: math.Inf(1), top: math.Inf(-1), line: -1, image: -1, path: -1}
		for _, c := range [4][2]float64{{b.X0, b.Y0}, {b.X1, b.Y0}, {b.X0, b.Y1}, {b.X1, b.Y1}} {
			u, v := p.of(c[0], c[1])
			t.u0, t.u1, t.bottom, t.top = min(t.u0, u), max(t.u1, u), min(t.bottom, v), max(t.top, v)
		}
		return t
	}
	for i := range l.Lines {
		o := &l.Lines[i]
		if mine[i] || len(o.Words) == 0 {
			continue
		}
		t := box(o.Box)
		if ax, ay := l.Along(&l.Words[o.Words[0]]); math.Abs(ax-p.ax) < 0.02 && math.Abs(ay-p.ay) < 0.02 {
			t.u0, t.u1, t.bottom, t.top = o.U0, o.U1, o.V-0.25*o.Size, o.V+0.8*o.Size
		}
		t.line = i
		out = append(out, t)
	}
	for i := range p.page.Images {
		if im := &p.page.Images[i]; !im.Hidden {
			t := box(im.Box())
			t.image = i
			out = append(out, t)
		}
	}
	drawn := map[int]bool{}
	for _, d := range p.decorations {
		drawn[d.path] = true
	}
	for i := range p.page.Paths {
		if pa := &p.page.Paths[i]; !pa.Hidden && !drawn[i] && pa.N > 0 {
			t := box(pa.Bounds)
			t.path = i
			out = append(out, t)
		}
	}
	return out
}

func (t *item) over(o *item) bool {
	return t.u0 < o.u1-0.1 && t.u1 > o.u0+0.1 && t.bottom < o.top-0.1 && t.top > o.bottom+0.1
}

// pushDown finds what stands below a paragraph in its column, down to a gap that is wide enough, and moves it down; false where there
// is no room, or something that can't be moved stands in the way.
func (p *para) pushDown(by float64) bool {
	n := len(p.lines)
	first, last := p.lines[0].v+0.8*p.size, p.lines[n-1].v
	floor := p.floor
	var below, rest []item
	for _, t := range p.items() {
		switch {
		case t.top > last-0.05*p.size && t.bottom < last: // it goes past where the paragraph ends
			if t.u0 < p.limit && t.u1 > p.lines[0].u0 && t.top >= first-p.size { // and around it, or behind it
				floor = max(floor, t.bottom)
			}
			rest = append(rest, t)
		case t.top <= last-0.05*p.size && p.placedObject(&t): // what Furnish put on stays, and ends the room
			if t.u0 < p.limit && t.u1 > p.lines[0].u0 {
				floor = max(floor, t.top)
			}
			rest = append(rest, t)
		case t.top <= last-0.05*p.size:
			below = append(below, t)
		default:
			rest = append(rest, t)
		}
	}
	slices.SortStableFunc(below, func(a, b item) int { return cmp.Compare(b.top, a.top) })
	u0, u1 := min(p.left, p.lines[0].u0), p.limit
	low := last - 0.25*p.size
	var down []item
	closed := false
	for _, t := range below {
		if t.u1 <= u0+0.1 || t.u0 >= u1-0.1 {
			rest = append(rest, t)
			continue
		}
		if len(down) > 0 && !closed && low-t.top >= by+0.8*p.leading { // here is room enough
			closed = true
		}
		if closed {
			rest = append(rest, t)
			continue
		}
		u0, u1 = min(u0, t.u0), max(u1, t.u1)
		low = min(low, t.bottom)
		down = append(down, t)
	}
	if len(down) == 0 || low-by < floor {
		return false
	}
	x0, y0 := p.back(0, 0)
	x, y := p.back(0, -by)
	m := pdf.Matrix{1, 0, 0, 1, x - x0, y - y0}
	p.moves = p.moves[:0]
	for _, t := range down {
		if !p.movable(&t, m) {
			return false
		}
		to := t
		to.bottom, to.top = t.bottom-by, t.top-by
		for i := range rest {
			if to.over(&rest[i]) && !t.over(&rest[i]) {
				return false
			}
		}
		p.moves = append(p.moves, moved{t, m})
	}
	return true
}

// placedObject reports whether something was put on by a step that keeps it as an object of its own.
func (p *para) placedObject(t *item) bool {
	switch {
	case t.line >= 0:
		sh := &p.page.Shows[p.page.Glyphs[p.lay.Glyphs(&p.lay.Words[p.lay.Lines[t.line].Words[0]])[0]].Show]
		return placedBy(p.doc, p.page, sh.Invocation, sh.Start)
	case t.image >= 0:
		return placedBy(p.doc, p.page, p.page.Images[t.image].Invocation, p.page.Images[t.image].Start)
	}
	return placedBy(p.doc, p.page, p.page.Paths[t.path].Invocation, p.page.Paths[t.path].Start)
}

// movable reports whether something can be moved by m, and be seen still.
func (p *para) movable(t *item, m pdf.Matrix) bool {
	own := func(at int) bool { return p.page.Invocations[at].Annotation.IsZero() }
	switch {
	case t.line >= 0:
		box := m.Bounds(p.lay.Lines[t.line].Box)
		for _, w := range p.lay.Lines[t.line].Words {
			word := &p.lay.Words[w]
			for _, g := range p.lay.Glyphs(word) {
				sh := &p.page.Shows[p.page.Glyphs[g].Show]
				if sh.State == nil || sh.State.Font == nil || !own(sh.Invocation) || !inClip(sh.State, box) {
					return false
				}
			}
		}
	case t.image >= 0:
		im := &p.page.Images[t.image]
		return own(im.Invocation) && inClip(im.State, m.Bounds(im.Box()))
	case t.path >= 0:
		pa := &p.page.Paths[t.path]
		return own(pa.Invocation) && pa.Start < pa.End && !clips(p.page, pa) && inClip(pa.State, m.Bounds(pa.Bounds))
	}
	return true
}

// inClip reports whether what is painted in a rectangle would be seen, by and large.
func inClip(st *content.State, box pdf.Rect) bool {
	c := st.Clip
	if c.X1 <= c.X0 || c.Y1 <= c.Y0 {
		return true
	}
	const near = 1
	return box.X0 >= c.X0-near && box.X1 <= c.X1+near && box.Y0 >= c.Y0-near && box.Y1 <= c.Y1+near
}

// lineGlyphs gives the glyphs of a line, with those that show its spaces.
func lineGlyphs(l *layout.Page, at int) (out []int) {
	p := l.Source
	ln := &l.Lines[at]
	if len(ln.Words) == 0 {
		return nil
	}
	ax, ay := l.Along(&l.Words[ln.Words[0]])
	shows := map[int32]bool{}
	for _, w := range ln.Words {
		for _, g := range l.Glyphs(&l.Words[w]) {
			out = append(out, int(g))
			shows[p.Glyphs[g].Show] = true
		}
	}
	return append(out, spacesOf(l, shows, func(x, y float64) bool {
		u, v := x*ax+y*ay, y*ax-x*ay
		return u > ln.U0-0.1 && u < ln.U1+0.6*ln.Size && math.Abs(v-ln.V) < 0.5*ln.Size
	})...)
}
