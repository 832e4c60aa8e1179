package edit

import (
	"math"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/content"
	"glenrain/core/pdf"
	"glenrain/core/structure"
)

// decoration is a path that belongs to words: a line below or through them, or a box behind them. It goes where they go.
type decoration struct {
	path           int
	box            pdf.Rect // along and across the lines
	before, behind float64  // by how much it begins before its first letter, and ends behind its last one
	up             float64  // of its lower edge over the baseline
	under, strike  bool
}

// linked is an annotation that lies on words: a link, or text that is marked.
type linked struct {
	at    int // in the page's list
	ref   pdf.Ref
	dict  *pdf.Dict
	quads [][4]float64 // along and across the lines: u0, u1, bottom, top
	mine  []bool       // which of them lie on words of the paragraph
	up    float64      // of the lower edge over the baseline
	high  float64
}

const mostFollowing = 64 // of each kind, in one paragraph

// follows finds what belongs to words of the paragraph.
func (p *para) follows() {
	p.findDecos()
	p.findLinks()
}

// span gives the characters whose middle lies in a stretch of a line, as indexes; from == to where there is none.
func (p *para) span(i int, u0, u1 float64) (from, to int) {
	end := len(p.chars)
	if i+1 < len(p.lines) {
		end = p.lines[i+1].first
	}
	from, to = -1, -1
	for k := p.lines[i].first; k < end; k++ {
		c := &p.chars[k]
		if c.glyph < 0 {
			continue
		}
		u, _ := p.of(p.page.Glyphs[c.glyph].X, p.page.Glyphs[c.glyph].Y)
		if mid := u + c.wide/2; mid > u0 && mid < u1 {
			if from < 0 {
				from = k
			}
			to = k + 1
		}
	}
	if from < 0 {
		return 0, 0
	}
	return from, to
}

// between gives the letter behind which a short rule stands that is a letter of its own, as an underscore of some programs is; the gap that it stands
// in keeps its width.
func (p *para) between(i int, b pdf.Rect, high float64) (from, to int) {
	if high > 0.16*p.size || b.X1-b.X0 > p.size {
		return 0, 0
	}
	end := len(p.chars)
	if i+1 < len(p.lines) {
		end = p.lines[i+1].first
	}
	for k := p.lines[i].first; k+1 < end; k++ {
		c := &p.chars[k]
		if c.glyph < 0 {
			continue
		}
		u, _ := p.endOf(c.glyph)
		if u > b.X0+0.15*p.size {
			break
		}
		if gap := &p.chars[k+1]; gap.space && u+gap.adv > b.X1-0.2*p.size {
			gap.fixed = true
			return k, k + 1
		}
	}
	return 0, 0
}

func (p *para) findDecos() {
	cell := p.lay.Paragraphs[p.at].Cell
	for n := range p.page.Paths {
		pa := &p.page.Paths[n]
		if pa.Hidden || pa.N == 0 || len(p.decorations) >= mostFollowing || pa.Start >= pa.End || !p.page.Invocations[pa.Invocation].Annotation.IsZero() {
			continue
		}
		b := p.across(pa.Bounds)
		high := b.Y1 - b.Y0
		if pa.Strokes() && high < 0.2*p.size { // a stroke is as high as its line is wide
			high = max(high, 0.1)
		}
		for i := range p.lines {
			ln := &p.lines[i]
			if b.X0 < ln.u0-0.5*p.size || b.X1 > ln.u1+0.5*p.size || b.Y0 < ln.v-0.6*p.size || b.Y1 > ln.v+1.3*p.size || b.X1-b.X0 < 0.3*p.size {
				continue
			}
			from, to := p.span(i, b.X0, b.X1)
			if from == to {
				if from, to = p.between(i, b, high); from == to {
					continue
				}
			}
			mid := (b.Y0+b.Y1)/2 - ln.v
			thin := high < 0.16*p.size
			d := decoration{path: n, box: b, up: b.Y0 - ln.v, under: thin && mid < 0.06*p.size, strike: thin && mid > 0.12*p.size && mid < 0.5*p.size}
			whole := from == p.lines[i].first && ln.u1-b.X1 < 0.5*p.size
			if !d.under && !d.strike && (thin || !pa.Fills() || high < 0.5*p.size || cell && whole || whole && len(p.lines) == 1) {
				continue
			}
			if clips(p.page, pa) {
				continue
			}
			first, last := p.chars[from].glyph, p.chars[to-1].glyph
			if first < 0 || last < 0 {
				continue
			}
			u, _ := p.of(p.page.Glyphs[first].X, p.page.Glyphs[first].Y)
			end, _ := p.endOf(last)
			d.before, d.behind = u-b.X0, b.X1-end
			for k := from; k < to; k++ {
				p.chars[k].decorations |= 1 << len(p.decorations)
			}
			p.decorations = append(p.decorations, d)
			break
		}
	}
}

// clips reports whether a path also becomes the clip.
func clips(p *content.Page, pa *content.PathUse) bool {
	s := content.Scanner{Data: p.Invocations[pa.Invocation].Body.Data[:pa.End], Pos: pa.Start}
	var o content.Op
	for s.Next(&o) {
		if o.Code.Clips() {
			return true
		}
	}
	return false
}

// across takes a rectangle of the page to one along and across the lines.
func (p *para) across(b pdf.Rect) pdf.Rect {
	out := pdf.Rect{X0: math.Inf(1), Y0: math.Inf(1), X1: math.Inf(-1), Y1: math.Inf(-1)}
	for _, c := range [4][2]float64{{b.X0, b.Y0}, {b.X1, b.Y0}, {b.X0, b.Y1}, {b.X1, b.Y1}} {
		u, v := p.of(c[0], c[1])
		out.X0, out.X1, out.Y0, out.Y1 = min(out.X0, u), max(out.X1, u), min(out.Y0, v), max(out.Y1, v)
	}
	return out
}

// onText are the annotations that lie on words.
var onText = []pdf.Name{"Link", "Highlight", "Underline", "StrikeOut", "Squiggly"}

func (p *para) findLinks() {
	for at, o := range p.doc.Array(p.doc.Dict(p.page.Ref).Get("Annots")) {
		d := p.doc.Dict(o)
		if d == nil || len(p.links) >= mostFollowing || !slices.Contains(onText, p.doc.Name(d.Get("Subtype"))) {
			continue
		}
		k := linked{at: at, dict: d}
		k.ref, _ = o.(pdf.Ref)
		points := p.doc.Array(d.Get("QuadPoints"))
		if len(points) >= 8 && len(points) <= 8*1000 {
			var n []float64
			for _, v := range points {
				f, _ := pdf.Number(p.doc.Resolve(v))
				n = append(n, f)
			}
			for ; len(n) >= 8; n = n[8:] {
				r := pdf.Rect{X0: min(n[0], n[2], n[4], n[6]), X1: max(n[0], n[2], n[4], n[6]), Y0: min(n[1], n[3], n[5], n[7]), Y1: max(n[1], n[3], n[5], n[7])}
				b := p.across(r)
				k.quads = append(k.quads, [4]float64{b.X0, b.X1, b.Y0, b.Y1})
			}
		} else if r, ok := p.doc.Rect(d.Get("Rect")); ok {
			b := p.across(r)
			k.quads = append(k.quads, [4]float64{b.X0, b.X1, b.Y0, b.Y1})
		}
		any := false
		k.mine = make([]bool, len(k.quads))
		for q, b := range k.quads {
			for i := range p.lines {
				if mid := p.lines[i].v + 0.25*p.size; mid < b[2] || mid > b[3] {
					continue
				}
				from, to := p.span(i, b[0], b[1])
				for c := from; c < to; c++ {
					p.chars[c].links |= 1 << len(p.links)
				}
				if from < to && !any {
					k.up, k.high, any = b[2]-p.lines[i].v, min(b[3]-b[2], 1.6*p.size), true
				}
				k.mine[q] = k.mine[q] || from < to
			}
		}
		if any {
			p.links = append(p.links, k)
		}
	}
}

// stretch is a part of a line.
type stretch struct{ u0, u1, v float64 }

// where finds the stretches of lines that characters of a bit take.
func (p *para) where(rows []row, of func(*char) bool) (out []stretch) {
	for i := range rows {
		u := rows[i].u
		open := -1
		for k := range rows[i].chars {
			c := &rows[i].chars[k]
			w := p.advOf(&rows[i], c)
			switch {
			case of(c) && !c.space:
				if open < 0 {
					open = len(out)
					out = append(out, stretch{u, u + c.wide, rows[i].v})
				}
				out[open].u1 = u + c.wide
			case !of(c):
				open = -1
			}
			u += w
		}
	}
	return out
}

// advOf is how far a character of a line leads on.
func (p *para) advOf(r *row, c *char) float64 {
	if c.space && !c.fixed {
		return p.gapOf(c) + r.space - p.gap
	}
	return c.adv
}

// follow gives the patches by which what belongs to words goes where they went.
func (p *para) follow(rows []row) (out []content.Patch) {
	for n := range p.decorations {
		d := &p.decorations[n]
		pa := &p.page.Paths[d.path]
		at := p.where(rows, func(c *char) bool {
			gone := c.style != nil && (d.under && c.style.under == "no" || d.strike && c.style.strike == "no")
			return c.decorations&(1<<n) != 0 && !gone
		})
		if len(at) == 1 && math.Abs(at[0].u0-d.before-d.box.X0) < 0.05 && math.Abs(at[0].u1+d.behind-d.box.X1) < 0.05 && math.Abs(at[0].v+d.up-d.box.Y0) < 0.05 {
			continue
		}
		var b []byte
		body := p.page.Invocations[pa.Invocation].Body.Data[pa.Start:pa.End]
		for _, s := range at {
			sx := (s.u1 + d.behind - s.u0 + d.before) / max(1e-6, d.box.X1-d.box.X0)
			// Along the line it is stretched, across it only moved.
			along := pdf.Matrix{p.ax, -p.ay, p.ay, p.ax, 0, 0}
			m := along.Mul(pdf.Matrix{sx, 0, 0, 1, s.u0 - d.before - sx*d.box.X0, s.v + d.up - d.box.Y0}).Mul(along.Invert())
			b = transformed(b, body, pa.State, m)
		}
		out = append(out, content.Patch{Invocation: pa.Invocation, Start: pa.Start, End: pa.End, New: b})
	}
	return out
}

// transformed appends operators that draw on the page what body draws, transformed by m.
func transformed(b, body []byte, st *content.State, m pdf.Matrix) []byte {
	b = append(b, "q "...)
	for _, v := range st.CTM.Mul(m).Mul(st.CTM.Invert()) {
		b = append(content.AppendNumber(b, math.Round(v*1e6)/1e6), ' ')
	}
	return append(append(append(b, "cm "...), body...), " Q\n"...)
}

// relink moves annotations to where their words went; those that have none left are taken off.
func (p *para) relink(rows []row) (gone int) {
	for n := range p.links {
		k := &p.links[n]
		var quads [][4]float64
		for q, b := range k.quads {
			if !k.mine[q] {
				quads = append(quads, b)
			}
		}
		left := len(quads)
		for _, s := range p.where(rows, func(c *char) bool { return c.links&(1<<n) != 0 }) {
			quads = append(quads, [4]float64{s.u0, s.u1, s.v + k.up, s.v + k.up + k.high})
		}
		if len(quads) == 0 {
			left := n // those that were moved first keep their places in the list
			defer func() { gone += p.unlink(&p.links[left]) }()
			continue
		}
		if p.still(k, quads[left:]) {
			continue
		}
		p.putLink(k, quads)
	}
	return gone
}

// unlink takes an annotation off the page.
func (p *para) unlink(k *linked) int {
	if !k.ref.IsZero() {
		gone := annot.Remove(p.doc, p.page.Ref, k.ref)
		structure.CutObjects(p.doc, gone)
		return min(1, len(gone))
	}
	page := p.doc.Edit(p.page.Ref)
	left := pdf.Array{}
	n := 0
	for _, o := range p.doc.Array(page.Get("Annots")) {
		if d, ok := o.(*pdf.Dict); ok && d == k.dict {
			n++
			continue
		}
		left = append(left, o)
	}
	page.Set("Annots", left)
	return n
}

// still reports whether the stretches are those that an annotation has already, by and large.
func (p *para) still(k *linked, now [][4]float64) bool {
	n := 0
	for q, b := range k.quads {
		if !k.mine[q] {
			continue
		}
		if n >= len(now) || math.Abs(b[0]-now[n][0]) > 1.5 || math.Abs(b[1]-now[n][1]) > 1.5 || math.Abs(b[2]-now[n][2]) > 0.5 {
			return false
		}
		n++
	}
	return n == len(now)
}

func (p *para) putLink(k *linked, quads [][4]float64) {
	box := pdf.Rect{X0: math.Inf(1), Y0: math.Inf(1), X1: math.Inf(-1), Y1: math.Inf(-1)}
	var points pdf.Array
	var corners [][8]float64
	for _, q := range quads {
		var c [8]float64
		for i, at := range [4][2]float64{{q[0], q[3]}, {q[1], q[3]}, {q[0], q[2]}, {q[1], q[2]}} { // as programs write them: upper left, upper right, lower left, lower right
			x, y := p.back(at[0], at[1])
			c[2*i], c[2*i+1] = x, y
			box = pdf.Rect{X0: min(box.X0, x), Y0: min(box.Y0, y), X1: max(box.X1, x), Y1: max(box.Y1, y)}
			points = append(points, pdf.Real(math.Round(x*1000)/1000), pdf.Real(math.Round(y*1000)/1000))
		}
		corners = append(corners, c)
	}
	if !k.ref.IsZero() {
		for _, m := range annot.Markups(p.doc, p.page.Ref) {
			if m.Ref == k.ref { // its picture is drawn anew
				was := p.doc.Resolve(k.dict.Get("M"))
				m.Quads = corners
				annot.ChangeMarkup(p.doc, m)
				if was != nil {
					p.doc.Edit(k.ref).Set("M", was)
				}
				return
			}
		}
	}
	d := p.own(k)
	if d == nil {
		return
	}
	d.Set("Rect", box.Array())
	if len(quads) > 1 || d.Has("QuadPoints") {
		d.Set("QuadPoints", points)
	}
}

// own gives an annotation's dictionary to be changed: one that stands in the page's list itself is set anew there. nil where it is gone.
func (p *para) own(k *linked) *pdf.Dict {
	if !k.ref.IsZero() {
		return p.doc.Edit(k.ref)
	}
	list := slices.Clone(p.doc.Array(p.doc.Dict(p.page.Ref).Get("Annots")))
	if k.at >= len(list) {
		return nil
	}
	d := k.dict.Clone()
	list[k.at] = d
	p.doc.Edit(p.page.Ref).Set("Annots", list)
	return d
}
