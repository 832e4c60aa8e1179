package amend

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// other is a shipped face in which words are set that the font of their place can't show.
type other struct {
	embedding *font.Embedding
	ratio     float64 // of its size to that of the font, so that its letters are as wide
}

// faces are the shipped faces that a step uses.
type faces struct {
	doc *pdf.Document
	set map[string]*font.Embedding
}

// near gives the shipped face that is nearest to a font.
func (f *faces) near(of *font.Font) (name string, e *font.Embedding, err error) {
	st := of.Style
	name = "Sans"
	switch {
	case st.Fixed:
		name = "Mono"
	case st.Serif:
		name = "Serif"
	}
	switch {
	case name == "Mono":
	case st.Weight >= 600:
		name += " Bold"
	case st.Italic:
		name += " Italic"
	}
	if e = f.set[name]; e == nil {
		face, err := font.Face(name)
		if err != nil {
			return "", nil, err
		}
		e = font.Embed(f.doc, face)
		f.set[name] = e
	}
	return name, e, nil
}

func (f *faces) finish() {
	for _, name := range font.Faces() {
		if e := f.set[name]; e != nil {
			e.Finish(f.doc)
		}
	}
}

// unit is how long a unit of text space is along the line, of an operator, in points.
func unit(sh *content.Show) float64 {
	m := sh.Before.Mul(sh.State.CTM)
	return math.Hypot(m[0], m[1])
}

// edit puts text in the place of what stands between two places of the paragraph's text.
func (p *para) edit(from, to int, text string) {
	whole, of := p.text()
	a, b := len(p.chars), len(p.chars)
	if from < len(of) {
		a = of[from]
	}
	if to < len(of) {
		b = of[to]
	}
	if from == to {
		b = a
	}
	// What a ligature has more than is replaced stays.
	before, after := "", ""
	for i := from - 1; i >= 0 && a < len(p.chars) && of[i] == a; i-- {
		before = whole[i:from]
	}
	if b > 0 && to > from && to < len(of) && of[to] == of[to-1] {
		end := to
		for end < len(of) && of[end] == of[to] {
			end++
		}
		after = whole[to:end]
		b++
	}
	for b > 0 && to > from && b < len(p.chars) && p.chars[b].text == "" && !p.chars[b].soft { // what belongs to the last piece
		b++
	}
	style := char{glyph: -1}
	switch {
	case a < len(p.chars):
		style.show, style.up, style.line = p.chars[a].show, p.chars[a].up, p.chars[a].line
	case len(p.chars) > 0:
		last := p.chars[len(p.chars)-1]
		style.show, style.up, style.line = last.show, last.up, last.line
	}
	if from == to && a > 0 { // what is put in goes on as what stands before it
		style.show, style.up, style.line = p.chars[a-1].show, p.chars[a-1].up, p.chars[a-1].line
	}
	var fresh []char
	for _, r := range before + text + after {
		c := style
		c.text = string(r)
		if r == ' ' || r == '\n' || r == '\t' || r == 0xa0 {
			c.text, c.space, c.adv = " ", true, p.gap
		}
		fresh = append(fresh, c)
	}
	for a > 0 && a-1 < len(p.chars) && p.chars[a-1].soft && len(fresh) > 0 && fresh[0].space { // a word that ends now is not parted
		a--
	}
	p.chars = slices.Replace(p.chars, a, b, fresh...)
}

// encode finds how new characters are shown: in the font of their place, or, a whole word at a time, in the nearest face. lacking are the words for which that was so.
func (p *para) encode(f *faces) (lacking []string, face string, err error) {
	for from := 0; from < len(p.chars); {
		if p.chars[from].space {
			from++
			continue
		}
		to := from
		for to < len(p.chars) && !p.chars[to].space {
			to++
		}
		word := p.chars[from:to]
		from = to
		if !slices.ContainsFunc(word, func(c char) bool { return c.glyph < 0 }) {
			continue
		}
		able := true
		for i := range word {
			c := &word[i]
			if c.glyph >= 0 {
				continue
			}
			sh := &p.page.Shows[c.show]
			code, ok := sh.State.Font.CodeOf(c.text)
			if !ok {
				able = false
				break
			}
			c.code = code.Append(nil)
			ch, _ := sh.State.Font.Next(c.code)
			c.wide = ch.Width * sh.State.Size * sh.State.Scale * unit(sh)
			c.adv = c.wide + sh.State.CharSpace*sh.State.Scale*unit(sh)
		}
		if able {
			if last := &word[len(word)-1]; last.glyph < 0 { // spaces are measured from where its ink ends
				last.adv = last.wide
			}
			continue
		}
		var text strings.Builder
		for i := range word {
			c := &word[i]
			if c.soft {
				continue
			}
			sh := &p.page.Shows[c.show]
			name, e, err := f.near(sh.State.Font)
			if err != nil {
				return nil, "", err
			}
			codes, width, missing := e.Encode(c.text)
			if len(missing) > 0 {
				return nil, "", step.Refuse("“%s” has letters that no face here has", spelled(word))
			}
			o := &other{e, p.ratio(c.show, e)}
			c.other, c.code, c.glyph = o, codes, -1
			c.wide = width / 1000 * sh.State.Size * o.ratio * sh.State.Scale * unit(sh)
			c.adv = c.wide
			text.WriteString(c.text)
			face = name
		}
		lacking = append(lacking, strings.TrimFunc(text.String(), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }))
	}
	return lacking, face, nil
}

func spelled(word []char) string {
	var b strings.Builder
	for _, c := range word {
		b.WriteString(c.text)
	}
	return b.String()
}

// ratio is how large a face is set for its letters to be as wide as those of a font: by the letters of the paragraph.
func (p *para) ratio(show int32, e *font.Embedding) float64 {
	own := p.page.Shows[show].State.Font
	var a, b float64
	for i := range p.chars {
		c := &p.chars[i]
		if c.glyph < 0 || p.page.Shows[c.show].State.Font != own {
			continue
		}
		g := e.Face.Glyph([]rune(c.text + " ")[0])
		if g == 0 {
			continue
		}
		a += p.page.Glyphs[c.glyph].Char.Width
		b += float64(e.Face.Advance(g)) / float64(e.Face.UnitsPerEm)
	}
	if a <= 0 || b <= 0 {
		return 1
	}
	return max(0.85, min(1.18, a/b))
}

// row is a line as it is set.
type row struct {
	chars  []char
	u, v   float64
	space  float64 // of the gaps that are not fixed
	hyphen bool
	kept   bool // it is broken as it was
}

// Bounds of how much lines and their spaces give way.
const (
	leastSpace   = 0.8  // of a space, in justified text
	leastLeading = 0.88 // of the leading, where there is no other room
	mostGiven    = 0.6  // of the gap below a paragraph
	overhang     = 0.3  // points by which a line may be longer
)

// width is how long characters are, with spaces as they are usually set; and how many of these can be stretched.
func (p *para) width(chars []char) (w float64, spaces int) {
	for i := range chars {
		c := &chars[i]
		switch {
		case c.soft && i != len(chars)-1:
		case c.space && !c.fixed:
			w += p.gap
			spaces++
		case i == len(chars)-1:
			w += c.wide
		default:
			w += c.adv
		}
	}
	return w, spaces
}

// changed gives the line in which the first change stands, and the character behind the last one.
func (p *para) changed() (line, rest int) {
	alike := func(a, b *char) bool { return a.space == b.space && a.glyph == b.glyph && (a.space || a.glyph >= 0) }
	n := min(len(p.before), len(p.chars))
	head := 0
	for head < n && alike(&p.before[head], &p.chars[head]) {
		head++
	}
	tail := 0
	for tail < n-head && alike(&p.before[len(p.before)-1-tail], &p.chars[len(p.chars)-1-tail]) {
		tail++
	}
	for line+1 < len(p.lines) && p.lines[line+1].first <= head {
		line++
	}
	return line, len(p.chars) - tail
}

// asItWas gives a line with the characters that it had, at the places that they had along it.
func (p *para) asItWas(i int) row {
	end := len(p.before)
	if i+1 < len(p.lines) {
		end = p.lines[i+1].first
	}
	chars := slices.Clone(p.before[p.lines[i].first:end])
	for len(chars) > 0 && chars[len(chars)-1].space {
		chars = chars[:len(chars)-1]
	}
	for k := range chars {
		chars[k].fixed = true
	}
	return row{chars: chars, u: p.lines[i].u0, kept: true}
}

// wrap breaks the paragraph into lines.
func (p *para) wrap() (rows []row, err error) {
	tight := 1.0
	if p.align == layout.Justified {
		tight = leastSpace
	}
	first, rest := p.changed()
	from := 0
	for i := 0; i < len(p.lines) && i < first; i++ { // lines before what changed stay as they are
		end := p.lines[i+1].first
		rows = append(rows, p.asItWas(i))
		from = end
	}
	for from < len(p.chars) {
		for from < len(p.chars) && p.chars[from].space {
			from++
		}
		if from >= len(p.chars) {
			break
		}
		if from >= rest { // and so do those behind it, from where a line begins as it did
			at := len(p.before) - (len(p.chars) - from)
			if k := slices.IndexFunc(p.lines, func(l line) bool { return l.first == at }); k >= 0 {
				for ; k < len(p.lines); k++ {
					rows = append(rows, p.asItWas(k))
				}
				break
			}
		}
		left := p.left
		if len(rows) == 0 {
			left = p.lines[0].u0
		}
		room := p.limit - left
		if p.align == layout.Centred || p.align == layout.Right {
			room = p.limit - min(p.left, p.lines[0].u0)
		}
		end, hyphen := -1, false
		for i := from + 1; i <= len(p.chars); i++ { // as far as it fits
			atSpace := i == len(p.chars) || p.chars[i].space
			atSoft := i < len(p.chars) && p.chars[i-1].soft
			if !atSpace && !atSoft {
				continue
			}
			w, spaces := p.width(p.chars[from:i])
			if w-(1-tight)*p.gap*float64(spaces) > room+overhang {
				break
			}
			end, hyphen = i, atSoft && !atSpace
		}
		if end < 0 {
			word := from
			for word < len(p.chars) && !p.chars[word].space {
				word++
			}
			return nil, step.Refuse("“%s” is wider than the column", spelled(p.chars[from:word]))
		}
		r := row{chars: slices.Clone(p.chars[from:end]), u: left, space: p.gap, hyphen: hyphen}
		rows = append(rows, r)
		from = end
	}
	for i := range rows {
		r := &rows[i]
		if r.kept {
			continue
		}
		if !r.hyphen { // hyphens that part no word any more go
			r.chars = slices.DeleteFunc(r.chars, func(c char) bool { return c.soft })
		} else {
			last := len(r.chars) - 1
			kept := r.chars[:0]
			for k, c := range r.chars {
				if !c.soft || k == last {
					kept = append(kept, c)
				}
			}
			r.chars = kept
		}
		w, spaces := p.width(r.chars)
		switch p.align {
		case layout.Right:
			r.u = p.limit - w
		case layout.Centred:
			mid := (p.lines[0].u0 + p.lines[0].u1) / 2
			r.u = mid - w/2
		case layout.Justified:
			last := i == len(rows)-1
			if last { // of a paragraph that goes on elsewhere, the last line is full, too
				was := p.lines[len(p.lines)-1]
				full := p.limit-was.u1 < 1 && p.limit-r.u-w < 2*p.size
				last = !full && r.u+w <= p.limit+overhang
			}
			if !last && spaces > 0 {
				r.space = p.gap + (p.limit-r.u-w)/float64(spaces)
			}
		}
	}
	return rows, nil
}

// place gives each line its height; lines that come new stand below, as far as there is room.
func (p *para) place(rows []row) (grown int, tightened bool, err error) {
	n := len(p.lines)
	leading := p.leading
	if len(rows) > n {
		need := float64(len(rows)-n) * leading
		last := p.lines[n-1].v
		free := last - 0.28*p.size - p.below
		if free < 1.5*leading { // what parts it from the next paragraph stays, by and large
			free *= mostGiven
		}
		if need > free {
			whole := p.lines[0].v - last + free // between the first baseline and the lowest that may be
			leading = whole / float64(len(rows)-1)
			if n < 2 || leading < leastLeading*p.leading {
				return 0, false, step.Refuse("it grows by %s, and %.0f pt are missing below it", step.Count(len(rows)-n, "line"), math.Ceil(need-free))
			}
			tightened = true
		}
	}
	for i := range rows {
		switch {
		case tightened:
			rows[i].v = p.lines[0].v - float64(i)*leading
		case i < n:
			rows[i].v = p.lines[i].v
		default:
			rows[i].v = p.lines[n-1].v - float64(i-n+1)*leading
		}
	}
	return len(rows) - n, tightened, nil
}

// patches writes lines in the place of those that stood there. Lines that are as they were are left.
func (p *para) patches(rows []row) []content.Patch {
	var gone []int
	bits := map[int32][]piece{} // by the operator behind which they are set
	var order []int32
	for i := range p.lines {
		if i < len(rows) && p.same(i, &rows[i]) {
			rows[i].chars = nil
			continue
		}
		gone = append(gone, p.glyphsOf(i)...)
	}
	for i := range rows {
		for _, b := range p.pieces(&rows[i]) {
			if bits[b.show] == nil {
				order = append(order, b.show)
			}
			bits[b.show] = append(bits[b.show], b)
		}
	}
	out := content.TakeOut(p.page, gone)
	for _, show := range order {
		sh := &p.page.Shows[show]
		list := bits[show]
		at := slices.IndexFunc(out, func(c content.Patch) bool { return c.Invocation == sh.Invocation && c.Start == sh.Start })
		if at < 0 {
			out = append(out, content.Patch{Invocation: sh.Invocation, Start: sh.End, End: sh.End})
			at = len(out) - 1
		}
		before := out[at].New
		out[at].Make = func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
			return p.write(append(slices.Clone(before), '\n'), sh, list, name)
		}
	}
	return out
}

// same reports whether a line is set as it stands.
func (p *para) same(i int, r *row) bool {
	end := len(p.was())
	if i+1 < len(p.lines) {
		end = p.lines[i+1].first
	}
	was := p.was()[p.lines[i].first:end]
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
	end := len(p.was())
	if i+1 < len(p.lines) {
		end = p.lines[i+1].first
	}
	shows := map[int32]bool{}
	for _, c := range p.was()[p.lines[i].first:end] {
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
			out = append(out, piece{show: c.show, other: c.other, u: u, v: r.v + c.up, space: r.space})
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
func (p *para) write(b []byte, sh *content.Show, list []piece, name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
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
		m := p.matrix(sh, pc.u, pc.v)
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
				if code, w, ok := p.spaceCode(sh, pc.other); ok && n < len(pc.chars)-1 { // programs that take text find it
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
