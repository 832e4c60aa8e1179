package edit

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/layout"
	"glenrain/core/pdf"
)

// laid is how objects of one page are set anew: the glyphs that go, what comes behind which operators, and what else is patched. Two
// paragraphs may be shown by one of them.
type laid struct {
	page    *content.Page
	gone    []int
	bits    map[int32][]piece
	shifts  map[int32][]shift
	order   []int32
	extra   []content.Patch
	strokes []stroke
	after   []func() // what is changed besides the content
}

// shift are glyphs of an operator that are shown again, transformed by m on the page.
type shift struct {
	glyphs map[int]bool
	m      pdf.Matrix
}

// stroke is a line below words, or through them: a rectangle along and across the lines.
type stroke struct {
	of     *para
	show   int32
	u0, u1 float64
	v0, v1 float64
	colour *[3]float64
}

func (d *laid) at(page *content.Page) {
	if d.bits == nil {
		d.page, d.bits, d.shifts = page, map[int32][]piece{}, map[int32][]shift{}
	}
}

func (d *laid) touch(show int32) {
	if d.bits[show] == nil && d.shifts[show] == nil {
		d.order = append(d.order, show)
	}
}

// add takes in a paragraph with its lines; those that are as they were are left.
func (d *laid) add(p *para, rows []row) {
	d.at(p.page)
	d.extra = append(d.extra, p.follow(rows)...)
	d.strokes = append(d.strokes, p.strokes(rows)...)
	for i := range p.lines {
		if i < len(rows) && p.same(i, &rows[i]) {
			rows[i].chars = nil
			continue
		}
		d.gone = append(d.gone, p.glyphsOf(i)...)
	}
	for i := range rows {
		for _, b := range p.pieces(&rows[i]) {
			d.touch(b.show)
			d.bits[b.show] = append(d.bits[b.show], b)
		}
	}
}

// move takes in objects that move.
func (d *laid) move(page *content.Page, l *layout.Page, list []moved) {
	d.at(page)
	for _, t := range list {
		switch {
		case t.line >= 0:
			d.moveGlyphs(page, lineGlyphs(l, t.line), t.m)
		case t.image >= 0:
			im := &page.Images[t.image]
			body := page.Invocations[im.Invocation].Body.Data[im.Start:im.End]
			d.extra = append(d.extra, content.Patch{Invocation: im.Invocation, Start: im.Start, End: im.End, New: transformed(nil, body, im.State, t.m)})
		case t.path >= 0:
			pa := &page.Paths[t.path]
			body := page.Invocations[pa.Invocation].Body.Data[pa.Start:pa.End]
			d.extra = append(d.extra, content.Patch{Invocation: pa.Invocation, Start: pa.Start, End: pa.End, New: transformed(nil, body, pa.State, t.m)})
		}
	}
}

func (d *laid) moveGlyphs(page *content.Page, glyphs []int, m pdf.Matrix) {
	d.at(page)
	by := map[int32]map[int]bool{}
	for _, g := range glyphs {
		s := page.Glyphs[g].Show
		if by[s] == nil {
			by[s] = map[int]bool{}
		}
		by[s][g] = true
	}
	for _, s := range slices.Sorted(maps.Keys(by)) {
		d.touch(s)
		d.shifts[s] = append(d.shifts[s], shift{by[s], m})
	}
	d.gone = append(d.gone, glyphs...)
}

// patches writes what was taken in into the page's content.
func (d *laid) patches() []content.Patch {
	if d.page == nil {
		return nil
	}
	slices.Sort(d.gone)
	d.gone = slices.Compact(d.gone)
	out := content.TakeOut(d.page, d.gone)
	for _, show := range d.order {
		sh := &d.page.Shows[show]
		list, shifts := d.bits[show], d.shifts[show]
		at := slices.IndexFunc(out, func(c content.Patch) bool { return c.Invocation == sh.Invocation && c.Start == sh.Start })
		if at < 0 {
			out = append(out, content.Patch{Invocation: sh.Invocation, Start: sh.End, End: sh.End})
			at = len(out) - 1
		}
		before := out[at].New
		out[at].Make = func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
			return write(append(slices.Clone(before), '\n'), d.page, sh, shifts, list, name)
		}
	}
	return append(append(out, d.extra...), d.underlines()...)
}

// underlines draws the lines below words and through them, behind the text object that shows these.
func (d *laid) underlines() (out []content.Patch) {
	for _, s := range d.strokes {
		sh := &d.page.Shows[s.show]
		v := &d.page.Invocations[sh.Invocation]
		at, ok := textEnd(v.Body.Data, sh.End)
		if !ok {
			continue
		}
		var b []byte
		b = append(b, "\nq "...)
		for _, n := range sh.State.CTM.Invert() {
			b = append(content.AppendNumber(b, math.Round(n*1e6)/1e6), ' ')
		}
		b = append(b, "cm "...)
		switch paint, ok := sh.State.Fill.Set(s.of.doc, v.Resources, false); {
		case s.colour != nil:
			for _, n := range s.colour {
				b = append(content.AppendNumber(b, math.Round(n*1e4)/1e4), ' ')
			}
			b = append(b, "rg "...)
		case ok:
			b = append(b, paint...)
		default:
			b = append(b, "0 g "...)
		}
		for i, c := range [4][2]float64{{s.u0, s.v0}, {s.u1, s.v0}, {s.u1, s.v1}, {s.u0, s.v1}} {
			x, y := s.of.back(c[0], c[1])
			b = append(content.AppendNumber(b, math.Round(x*1e3)/1e3), ' ')
			b = append(content.AppendNumber(b, math.Round(y*1e3)/1e3), " l "...)
			if i == 0 {
				b[len(b)-2] = 'm'
			}
		}
		b = append(b, "f Q\n"...)
		if sh.Mark < 0 && v.Kind == content.PageBody {
			b = append(append([]byte("\n/Artifact BMC"), b...), "EMC\n"...)
		}
		out = append(out, content.Patch{Invocation: sh.Invocation, Start: at, End: at, New: b})
	}
	return out
}

// textEnd finds where the text object ends that is open at a place.
func textEnd(data []byte, from int) (int, bool) {
	s := content.Scanner{Data: data, Pos: from}
	var o content.Op
	for s.Next(&o) {
		if o.Code.EndsText() {
			return o.End, true
		}
		if o.Code.BeginsText() {
			return 0, false
		}
	}
	return 0, false
}

// Lines below words and through them, in em.
const (
	underAt    = -0.13
	strikeAt   = 0.25
	strokeHigh = 0.055
)

// strokes finds the lines below words and through them that a style asks for.
func (p *para) strokes(rows []row) (out []stroke) {
	for i := range rows {
		r := &rows[i]
		for pass := range 2 {
			u := r.u
			open := -1
			for k := range r.chars {
				c := &r.chars[k]
				want := c.style != nil && (pass == 0 && c.style.under == "yes" || pass == 1 && c.style.strike == "yes")
				if want {
					for n := range p.decorations { // it has one already
						if c.decorations&(1<<n) != 0 && (pass == 0 && p.decorations[n].under || pass == 1 && p.decorations[n].strike) {
							want = false
						}
					}
				}
				if !want {
					open = -1
				} else {
					size := p.sizeOf(c, c.style)
					at := underAt
					if pass == 1 {
						at = strikeAt
					}
					if open < 0 && !c.space {
						open = len(out)
						out = append(out, stroke{of: p, show: c.show, u0: u, v0: r.v + at*size, v1: r.v + (at+strokeHigh)*size, colour: c.style.colour})
					}
					if open >= 0 && !c.space {
						out[open].u1 = u + c.wide
						out[open].show = max(out[open].show, c.show)
					}
				}
				u += p.advOf(r, c)
			}
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
	if len(was) != len(r.chars) || math.Abs(r.v-p.lines[i].v) > 0.01 || math.Abs(r.u-p.lines[i].u0) > 0.01 || !r.kept {
		return false
	}
	for k := range was {
		if was[k].style != r.chars[k].style || was[k].glyph != r.chars[k].glyph || was[k].space != r.chars[k].space || !was[k].space && was[k].glyph < 0 {
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
	out = append(out, spacesOf(p.lay, shows, func(x, y float64) bool {
		u, v := p.of(x, y)
		return u > ln.u0-0.1 && u < ln.u1+0.6*p.size && math.Abs(v-ln.v) < 0.5*p.size
	})...)
	slices.Sort(out)
	return slices.Compact(out)
}

// spacesOf gives the glyphs of operators that show spaces, in a place.
func spacesOf(l *layout.Page, shows map[int32]bool, in func(x, y float64) bool) (out []int) {
	p := l.Source
	for s := range shows {
		sh := &p.Shows[s]
		for g := sh.First; g < sh.First+sh.N; g++ {
			gl := &p.Glyphs[g]
			if strings.TrimSpace(gl.Char.Text) == "" && gl.Char.Text != "" && in(gl.X, gl.Y) {
				out = append(out, g)
			}
		}
	}
	return out
}

// piece is a run of characters that one operator shows.
type piece struct {
	of    *para
	show  int32
	other *other
	chars []char
	u, v  float64
	space float64
	style *style
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
			out = append(out, piece{of: p, show: c.show, other: c.other, u: u, v: r.v + c.up, space: r.space, style: c.style})
			n++
		}
		b := &out[n]
		if !c.space {
			b.show = max(b.show, c.show) // over all that was painted before the last of them
		}
		b.chars = append(b.chars, *c)
		u += p.advOf(r, c)
	}
	return out
}

// together reports whether a character can be shown by the operator of a piece.
func (p *para) together(b *piece, c *char) bool {
	if !b.other.like(c.other) || !sameInk(b.style, c.style) {
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

// sameInk reports whether two styles paint alike.
func sameInk(a, b *style) bool {
	if a == nil {
		a = &style{opacity: -1}
	}
	if b == nil {
		b = &style{opacity: -1}
	}
	return a.opacity == b.opacity && (a.colour == nil) == (b.colour == nil) && (a.colour == nil || *a.colour == *b.colour)
}

func samePaint(a, b content.Paint) bool {
	return a.N == b.N && a.Values == b.Values && a.Pattern == b.Pattern && fmt.Sprint(a.Space) == fmt.Sprint(b.Space)
}

// write writes glyphs that are moved, and pieces, behind an operator, whose state and places they leave as they were.
func write(b []byte, page *content.Page, sh *content.Show, shifts []shift, list []piece, name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
	st := sh.State
	matrix := func(m pdf.Matrix) {
		for _, v := range m {
			b = append(content.AppendNumber(b, v), ' ')
		}
		b = append(b, "Tm\n"...)
	}
	for _, s := range shifts {
		only, ok := content.Only(page, sh, func(g int) bool { return s.glyphs[g] })
		if !ok {
			continue
		}
		matrix(sh.Before.Mul(st.CTM).Mul(s.m).Mul(st.CTM.Invert()))
		b = append(append(b, only...), '\n')
	}
	num := func(v float64) { b = appendRounded(b, v) }
	op := func(s string) { b = append(append(b, s...), '\n') }
	spaced := (st.CharSpace != 0 || st.WordSpace != 0) && len(list) > 0
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
	res := page.Invocations[sh.Invocation].Resources
	for i := range list {
		pc := &list[i]
		scale := k
		switch {
		case pc.other != nil:
			called := pc.other.name
			if pc.other.embedding != nil {
				called = name("Font", pc.other.embedding.Ref())
			}
			font(called, st.Size*pc.other.ratio)
			scale, set = k*pc.other.ratio, true
		case set:
			font(st.FontName, st.Size)
			set = false
		}
		ink := pc.style
		if ink != nil && ink.colour != nil {
			for _, v := range ink.colour {
				num(v)
			}
			op("rg")
		}
		if ink != nil && ink.opacity >= 0 {
			b = append(pdf.AppendObject(b, name("ExtGState", pc.of.opaque(ink.opacity))), " gs\n"...)
		}
		m := pc.of.matrix(sh, pc.u, pc.v)
		for _, v := range m {
			num(v)
		}
		op("Tm")
		b = pc.shown(b, sh, scale)
		if ink != nil && ink.colour != nil {
			paint, _ := st.Fill.Set(pc.of.doc, res, false)
			b = append(b, paint...)
		}
		if ink != nil && ink.opacity >= 0 {
			b = append(pdf.AppendObject(b, name("ExtGState", pc.of.opaque(alpha(st)))), " gs\n"...)
		}
	}
	if set {
		font(st.FontName, st.Size)
	}
	if spaced && st.CharSpace != 0 {
		num(st.CharSpace)
		op("Tc")
	}
	if spaced && st.WordSpace != 0 {
		num(st.WordSpace)
		op("Tw")
	}
	// Both matrices are what they were behind the operator: the line's is set, and a number leads on to where the text was.
	ln := sh.Line
	matrix(ln)
	if x, _ := ln.Invert().Apply(sh.After[4], sh.After[5]); math.Abs(x) > 1e-9 {
		b = append(b, '[')
		b = content.AppendNumber(b, -x*1000/(st.Size*st.Scale))
		op("]TJ")
	}
	return b
}

// appendRounded writes a number to five places, and a space.
func appendRounded(b []byte, v float64) []byte {
	return append(content.AppendNumber(b, math.Round(v*1e5)/1e5), ' ')
}

// shown writes the array of a piece's text, of whose numbers each is scale points, and TJ.
func (pc *piece) shown(b []byte, sh *content.Show, scale float64) []byte {
	b = append(b, '[')
	var run []byte
	at, want := 0.0, 0.0 // how far along the text has come, and is to come
	for n := range pc.chars {
		c := &pc.chars[n]
		if c.space {
			gap := pc.space
			if c.fixed {
				gap = c.adv
			} else {
				gap += pc.of.gapOf(c) - pc.of.gap
			}
			if code, w, ok := pc.of.spaceCode(sh, pc.other); ok && n < len(pc.chars)-1 { // programs that take text find it
				if off := want - at; math.Abs(off) > 0.002 {
					b = content.AppendString(b, run)
					run = run[:0]
					b = appendRounded(b, -off/scale)
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
			b = appendRounded(b, -off/scale)
			at = want
		}
		run = append(run, c.code...)
		at += c.wide
		want += c.adv
	}
	if len(run) > 0 {
		b = content.AppendString(b, run)
	}
	return append(b, "]TJ\n"...)
}

// opaque gives a graphics state that fills so opaquely, the same one each time.
func (p *para) opaque(v float64) pdf.Ref {
	if p.opacities == nil {
		p.opacities = map[float64]pdf.Ref{}
	}
	if p.opacities[v].IsZero() {
		p.opacities[v] = p.doc.Add(pdf.NewDict("Type", pdf.Name("ExtGState"), "ca", pdf.Real(v)))
	}
	return p.opacities[v]
}

// spaceCode gives the code of a space in the font of an operator, or in another face, and how wide it is, in em.
func (p *para) spaceCode(sh *content.Show, o *other) (code []byte, wide float64, ok bool) {
	if o != nil && o.embedding != nil {
		codes, width, missing := o.embedding.Encode(" ")
		return codes, width / 1000, len(missing) == 0
	}
	f := sh.State.Font
	if o != nil {
		f = o.own
	}
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
