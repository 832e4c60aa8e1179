package amend

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/pdf"
)

// laid is how paragraphs of one page are set: the glyphs that go, and what comes behind which operators. Two paragraphs may be shown by one of them.
type laid struct {
	page  *content.Page
	gone  []int
	bits  map[int32][]piece
	order []int32
}

// add takes in a paragraph with its lines; those that are as they were are left.
func (d *laid) add(p *para, rows []row) {
	if d.bits == nil {
		d.page, d.bits = p.page, map[int32][]piece{}
	}
	for i := range p.lines {
		if i < len(rows) && p.same(i, &rows[i]) {
			rows[i].chars = nil
			continue
		}
		d.gone = append(d.gone, p.glyphsOf(i)...)
	}
	for i := range rows {
		for _, b := range p.pieces(&rows[i]) {
			if d.bits[b.show] == nil {
				d.order = append(d.order, b.show)
			}
			d.bits[b.show] = append(d.bits[b.show], b)
		}
	}
}

// patches writes what was taken in into the page's content.
func (d *laid) patches() []content.Patch {
	if d.page == nil {
		return nil
	}
	out := content.TakeOut(d.page, d.gone)
	for _, show := range d.order {
		sh := &d.page.Shows[show]
		list := d.bits[show]
		at := slices.IndexFunc(out, func(c content.Patch) bool { return c.Invocation == sh.Invocation && c.Start == sh.Start })
		if at < 0 {
			out = append(out, content.Patch{Invocation: sh.Invocation, Start: sh.End, End: sh.End})
			at = len(out) - 1
		}
		before := out[at].New
		out[at].Make = func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
			return write(append(slices.Clone(before), '\n'), sh, list, name)
		}
	}
	return out
}

// same reports whether a line is set as it stands.
func (p *para) same(i int, r *row) bool {
	end := len(p.before)
	if i+1 < len(p.lines) {
		end = p.lines[i+1].first
	}
	was := p.before[p.lines[i].first:end]
	for len(was) > 0 && was[len(was)-1].space {
		was = was[:len(was)-1]
	}
	if len(was) != len(r.chars) || math.Abs(r.v-p.lines[i].v) > 0.01 {
		return false
	}
	for k := range was {
		if was[k].glyph != r.chars[k].glyph || was[k].space != r.chars[k].space || !was[k].space && was[k].glyph < 0 {
			return false
		}
	}
	return true
}

// glyphsOf gives the glyphs of a line, with the spaces between them that are shown as such.
func (p *para) glyphsOf(i int) (out []int) {
	end := len(p.before)
	if i+1 < len(p.lines) {
		end = p.lines[i+1].first
	}
	shows := map[int32]bool{}
	for _, c := range p.before[p.lines[i].first:end] {
		if c.glyph >= 0 {
			out = append(out, int(c.glyph))
			shows[p.page.Glyphs[c.glyph].Show] = true
		}
	}
	ln := &p.lines[i]
	for s := range shows {
		sh := &p.page.Shows[s]
		for g := sh.First; g < sh.First+sh.N; g++ {
			gl := &p.page.Glyphs[g]
			if strings.TrimSpace(gl.Char.Text) != "" || gl.Char.Text == "" {
				continue
			}
			if u, v := p.of(gl.X, gl.Y); u > ln.u0-0.1 && u < ln.u1+0.6*p.size && math.Abs(v-ln.v) < 0.5*p.size {
				out = append(out, g)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// piece is a run of characters that one operator shows.
type piece struct {
	of    *para
	show  int32
	other *other
	chars []char
	u, v  float64
	space float64
}

// pieces parts a line where its style, or what it belongs to, changes.
func (p *para) pieces(r *row) (out []piece) {
	u := r.u
	for i := range r.chars {
		c := &r.chars[i]
		n := len(out) - 1
		fits := n >= 0 && p.together(&out[n], c)
		if c.space && n >= 0 {
			fits = true
		}
		if !fits {
			out = append(out, piece{of: p, show: c.show, other: c.other, u: u, v: r.v + c.up, space: r.space})
			n++
		}
		b := &out[n]
		if !c.space {
			b.show = max(b.show, c.show) // over all that was painted before the last of them
		}
		b.chars = append(b.chars, *c)
		switch {
		case c.space && !c.fixed:
			u += r.space
		default:
			u += c.adv
		}
	}
	return out
}

// together reports whether a character can be shown by the operator of a piece.
func (p *para) together(b *piece, c *char) bool {
	if (b.other == nil) != (c.other == nil) || b.other != nil && b.other.embedding != c.other.embedding {
		return false
	}
	var prev *char
	for i := len(b.chars) - 1; i >= 0 && prev == nil; i-- {
		if !b.chars[i].space {
			prev = &b.chars[i]
		}
	}
	if prev == nil || math.Abs(prev.up-c.up) > 0.02 {
		return false
	}
	if b.show == c.show {
		return true
	}
	x, y := &p.page.Shows[b.show], &p.page.Shows[c.show]
	s, t := x.State, y.State
	near := func(a, b pdf.Matrix) bool {
		for i := range 4 {
			if math.Abs(a[i]-b[i]) > 1e-6 {
				return false
			}
		}
		return true
	}
	return x.Invocation == y.Invocation && x.Mark == y.Mark && s.Font == t.Font && s.FontName == t.FontName && s.Size == t.Size && s.Scale == t.Scale && s.Rise == t.Rise &&
		s.Render == t.Render && samePaint(s.Fill, t.Fill) && samePaint(s.Stroke, t.Stroke) && s.CTM == t.CTM && near(x.Before, y.Before)
}

func samePaint(a, b content.Paint) bool {
	return a.N == b.N && a.Values == b.Values && a.Pattern == b.Pattern && fmt.Sprint(a.Space) == fmt.Sprint(b.Space)
}

// write writes pieces behind an operator, whose state and places they leave as they were.
func write(b []byte, sh *content.Show, list []piece, name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
	st := sh.State
	num := func(v float64) { b = append(content.AppendNumber(b, math.Round(v*1e5)/1e5), ' ') }
	op := func(s string) { b = append(append(b, s...), '\n') }
	spaced := st.CharSpace != 0 || st.WordSpace != 0
	if spaced {
		op("0 Tc 0 Tw")
	}
	k := st.Size * st.Scale * unit(sh) / 1000 // points of a number in a TJ array
	font := func(n pdf.Name, size float64) {
		b = append(pdf.AppendObject(b, n), ' ')
		num(size)
		op("Tf")
	}
	set := false // another font is set
	for i := range list {
		pc := &list[i]
		scale := k
		switch {
		case pc.other != nil:
			font(name("Font", pc.other.embedding.Ref()), st.Size*pc.other.ratio)
			scale, set = k*pc.other.ratio, true
		case set:
			font(st.FontName, st.Size)
			set = false
		}
		m := pc.of.matrix(sh, pc.u, pc.v)
		for _, v := range m {
			num(v)
		}
		op("Tm")
		b = append(b, '[')
		var run []byte
		at, want := 0.0, 0.0 // how far along the text has come, and is to come
		for n := range pc.chars {
			c := &pc.chars[n]
			if c.space {
				gap := pc.space
				if c.fixed {
					gap = c.adv
				}
				if code, w, ok := pc.of.spaceCode(sh, pc.other); ok && n < len(pc.chars)-1 { // programs that take text find it
					if off := want - at; math.Abs(off) > 0.002 {
						b = content.AppendString(b, run)
						run = run[:0]
						num(-off / scale)
						at = want
					}
					run = append(run, code...)
					at += w * scale * 1000
				}
				want += gap
				continue
			}
			if off := want - at; math.Abs(off) > 0.002 {
				if len(run) > 0 {
					b = content.AppendString(b, run)
					run = run[:0]
				}
				num(-off / scale)
				at = want
			}
			run = append(run, c.code...)
			at += c.wide
			want += c.adv
		}
		if len(run) > 0 {
			b = content.AppendString(b, run)
		}
		op("]TJ")
	}
	if set {
		font(st.FontName, st.Size)
	}
	if st.CharSpace != 0 {
		num(st.CharSpace)
		op("Tc")
	}
	if st.WordSpace != 0 {
		num(st.WordSpace)
		op("Tw")
	}
	// Both matrices are what they were behind the operator: the line's is set, and a number leads on to where the text was.
	ln := sh.Line
	for _, v := range ln {
		b = append(content.AppendNumber(b, v), ' ')
	}
	op("Tm")
	if x, _ := ln.Invert().Apply(sh.After[4], sh.After[5]); math.Abs(x) > 1e-9 {
		b = append(b, '[')
		b = content.AppendNumber(b, -x*1000/(st.Size*st.Scale))
		op("]TJ")
	}
	return b
}

// spaceCode gives the code of a space in the font of an operator, or in another face, and how wide it is, in em.
func (p *para) spaceCode(sh *content.Show, o *other) (code []byte, wide float64, ok bool) {
	if o != nil {
		codes, width, missing := o.embedding.Encode(" ")
		return codes, width / 1000, len(missing) == 0
	}
	f := sh.State.Font
	if p.spaces == nil {
		p.spaces = map[*font.Font]*content.Glyph{}
		for i := range p.page.Glyphs { // one that the page itself shows: what encodings say of spaces programs take in different ways
			g := &p.page.Glyphs[i]
			if g.Char.Text == " " {
				if of := p.page.Shows[g.Show].State.Font; p.spaces[of] == nil {
					p.spaces[of] = g
				}
			}
		}
	}
	g := p.spaces[f]
	if g == nil {
		return nil, 0, false
	}
	return font.Code{Value: g.Char.Code, Bytes: int(g.Char.Bytes)}.Append(nil), g.Char.Width, true
}

// matrix gives the text matrix with which a glyph of an operator's state stands at a place of the line.
func (p *para) matrix(sh *content.Show, u, v float64) pdf.Matrix {
	x, y := p.back(u, v)
	ctm := sh.State.CTM
	m := sh.Before
	m[4], m[5] = 0, 0
	rx, ry := m.Apply(0, sh.State.Rise)
	tx, ty := ctm.Invert().Apply(x, y)
	m[4], m[5] = tx-rx, ty-ry
	return m
}
