package edit

import (
	"math"
	"slices"
	"unicode"
	"unicode/utf8"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// char is a character of a paragraph: one that stands on the page, or a new one.
type char struct {
	text        string
	glyph       int32  // of the page; -1 for a new one
	show        int32  // the operator whose style it has
	next        int32  // the glyph that stood behind it in its word; -1 for none
	code        []byte // in the font of that operator, or in another face
	other       *other // a face that is used instead of the font; nil for the font itself
	adv         float64
	nat         float64 // of a space that stood on the page: how wide it is where nothing is stretched; 0 where that is not known
	wide        float64 // without what parts it from the next one
	up          float64 // how far it stands above the line
	space       bool
	fixed       bool // of a space: a gap that stays as it is, as behind a bullet
	soft        bool // a hyphen that parts a word at a line's end; it is not of the text
	hard        bool // of a space: a line ends here whatever comes
	line        int
	style       *style
	decorations uint64 // what is drawn behind, below or through it, by bits
	id          int    // its place in the paragraph when that was broken into lines
	links       uint64 // annotations that it is of, by bits
}

// line is a line of a paragraph as it stands on the page.
type line struct {
	u0, u1, v float64
	first     int // of its characters
}

// para is a paragraph that can be set anew.
type para struct {
	doc         *pdf.Document
	page        *content.Page
	lay         *layout.Page
	at          int // which of the page's paragraphs
	ax, ay      float64
	chars       []char
	before      []char // as it stands on the page
	lines       []line
	align       layout.Align
	size        float64
	leading     float64
	gap         float64 // a space between words, as it is usually set there
	limit       float64 // where the lines end at the right
	wide        float64 // and where they would end, were each a line by itself
	left        float64 // where all lines but the first begin
	below       float64 // how far down it may grow: a place of v
	donor       int32   // the operator whose style is taken where there is no letter
	mine        []int   // its lines, of the page
	floor       float64 // how far down what stands below may be moved
	anew        bool    // all lines are broken anew
	spread      bool    // all lines are put anew, by the leading
	lower       float64 // how far it is moved down, points
	spaces      map[*font.Font]*content.Glyph
	centre      float64 // of centred lines, where it is not that of the first one
	decorations []decoration
	links       []linked
	habits      map[*font.Font]*habits
	opacities   map[float64]pdf.Ref
	push        func(by float64) bool // moves what stands below down; nil where that must not be
	moves       []moved               // what it found
	rows        []row                 // as it was set
}

func (p *para) of(x, y float64) (u, v float64)   { return x*p.ax + y*p.ay, y*p.ax - x*p.ay }
func (p *para) back(u, v float64) (x, y float64) { return u*p.ax - v*p.ay, u*p.ay + v*p.ax }

// Why a paragraph can't be set anew.
var (
	errRTL      = step.Refuse("you can’t edit text that runs from right to left or downwards yet")
	errActual   = step.Refuse("the file stores a replacement text for it (ActualText), which would become wrong")
	errMirrored = step.Refuse("the text is mirrored or has no size")
	errNameless = step.Refuse("its font has no name, so it can’t be reused")
	errNone     = step.Refuse("there is no such paragraph on the page")
)

// read takes a paragraph of a page apart.
func read(doc *pdf.Document, l *layout.Page, at int, visible pdf.Rect) (*para, error) {
	if at < 0 || at >= len(l.Paragraphs) {
		return nil, errNone
	}
	return readLines(doc, l, at, l.Paragraphs[at].Lines, visible)
}

// readLines takes some lines of a paragraph apart, as if they were one.
func readLines(doc *pdf.Document, l *layout.Page, at int, lines []int, visible pdf.Rect) (*para, error) {
	if at < 0 || at >= len(l.Paragraphs) || len(lines) == 0 {
		return nil, errNone
	}
	src := l.Paragraphs[at]
	src.Lines = lines
	page := l.Source
	p := &para{doc: doc, mine: lines, page: page, lay: l, at: at, align: src.Align, size: src.Size, leading: src.Leading, limit: math.Inf(-1), left: math.Inf(1)}
	p.ax, p.ay = l.Along(&l.Words[l.Lines[src.Lines[0]].Words[0]])
	var gaps []float64
	for i, at := range src.Lines {
		ln := &l.Lines[at]
		if ln.RTL {
			return nil, errRTL
		}
		first := len(p.chars)
		for k, w := range ln.Words {
			word := &l.Words[w]
			glyphs := l.Glyphs(word)
			if k > 0 && word.Gap && len(p.chars) > first {
				prev := &p.chars[len(p.chars)-1]
				end, _ := p.endOf(prev.glyph)
				u, _ := p.of(page.Glyphs[glyphs[0]].X, page.Glyphs[glyphs[0]].Y)
				gap := u - end
				p.chars = append(p.chars, char{text: " ", glyph: -1, show: prev.show, adv: gap, space: true, fixed: gap > 0.7*word.Size, line: i})
				if gap < 0.7*word.Size {
					gaps = append(gaps, gap)
				}
			}
			start, single := len(p.chars), ""
			for n, g := range glyphs {
				gl := &page.Glyphs[g]
				sh := &page.Shows[gl.Show]
				if err := usable(page, sh); err != nil {
					return nil, err
				}
				u, v := p.of(gl.X, gl.Y)
				end, _ := p.endOf(g)
				c := char{text: gl.Char.Text, glyph: g, show: gl.Show, code: font.Code{Value: gl.Char.Code, Bytes: int(gl.Char.Bytes)}.Append(nil), wide: end - u, adv: end - u, up: v - ln.V, line: i}
				c.next = -1
				if n+1 < len(glyphs) {
					c.next = glyphs[n+1]
					next, _ := p.of(page.Glyphs[glyphs[n+1]].X, page.Glyphs[glyphs[n+1]].Y)
					if d := next - u; math.Abs(d) < 3*word.Size { // kerned, or an accent over the next letter
						c.adv = d
					}
				}
				single += c.text
				p.chars = append(p.chars, c)
			}
			if text := l.Text(word); single != text { // letters that are made of several glyphs: the word is one piece
				for i := start; i < len(p.chars); i++ {
					p.chars[i].text = ""
				}
				p.chars[start].text = text
			}
		}
		if len(p.chars) == first {
			continue
		}
		u0, v := p.of(page.Glyphs[p.chars[first].glyph].X, page.Glyphs[p.chars[first].glyph].Y)
		v -= p.chars[first].up
		u1, _ := p.endOf(p.chars[len(p.chars)-1].glyph)
		p.lines = append(p.lines, line{u0, u1, v, first})
		p.limit = max(p.limit, u1)
		if i > 0 {
			p.left = min(p.left, u0)
		}
		if i+1 == len(src.Lines) {
			break
		}
		last := &p.chars[len(p.chars)-1]
		if layout.HyphenAtEnd([]byte(l.LineText(ln))) && beginsSmall(l, &l.Lines[src.Lines[i+1]]) {
			last.soft = true
		} else if first := []rune(l.Text(&l.Words[l.Lines[lines[i+1]].Words[0]])); len(first) > 0 && parts(last, &char{text: "字"}) && written(first[0]) { // written without spaces
		} else {
			p.chars = append(p.chars, char{text: " ", glyph: -1, show: last.show, space: true, line: i})
		}
	}
	if len(p.lines) == 0 {
		return nil, errNone
	}
	if sh := &page.Shows[p.chars[p.lines[0].first].show]; placedBy(doc, page, sh.Invocation, sh.Start) {
		return nil, errPlacedOne
	}
	if math.IsInf(p.left, 1) {
		p.left = p.lines[0].u0
	}
	if p.leading <= 0 {
		p.leading = 1.2 * p.size
	}
	p.usualGap(gaps)
	p.natural()
	for i := range p.chars {
		if c := &p.chars[i]; c.space && c.adv == 0 {
			c.adv = p.gap
		}
	}
	p.bounds(visible)
	p.breaks()
	p.follows()
	p.before = slices.Clone(p.chars)
	return p, nil
}

// usualGap finds how wide the spaces of a paragraph are, of those within its lines.
func (p *para) usualGap(gaps []float64) {
	slices.Sort(gaps)
	p.gap = 0.26 * p.size
	if len(gaps) > 0 {
		p.gap = gaps[len(gaps)/2]
	}
	if p.align == layout.Justified { // the last line is set as wide as the words are
		p.gap = min(p.gap, 0.34*p.size)
		if n := len(p.lines); n > 1 {
			var last []float64
			for _, c := range p.chars[p.lines[n-1].first:] {
				if c.space && !c.fixed && c.adv > 0 {
					last = append(last, c.adv)
				}
			}
			if slices.Sort(last); len(last) > 1 {
				p.gap = last[len(last)/2]
			}
		}
	}
}

// natural finds how wide each space is where nothing is stretched: after some marks they may be wider than elsewhere.
func (p *para) natural() {
	for i := range p.lines {
		end := len(p.chars)
		if i+1 < len(p.lines) {
			end = p.lines[i+1].first
		}
		list := p.chars[p.lines[i].first:end]
		sum, n := 0.0, 0
		for k := range list {
			if c := &list[k]; c.space && !c.fixed && c.adv > 0 {
				sum, n = sum+c.adv, n+1
			}
		}
		if n == 0 {
			continue
		}
		by := 1.0
		if p.align == layout.Justified && i+1 < len(p.lines) {
			by = p.gap * float64(n) / sum
		}
		for k := range list {
			if c := &list[k]; c.space && !c.fixed && c.adv > 0 {
				c.nat = max(0.6*p.gap, min(2.4*p.gap, c.adv*by))
			}
		}
	}
}

// inBox keeps the paragraph within a box that is drawn around it, or behind it; one that is as wide as the page is none.
func (p *para) inBox(page float64) {
	first, last := p.lines[0].v+0.5*p.size, p.lines[len(p.lines)-1].v
	left, right := math.Inf(1), p.widest()
	for _, l := range p.lines {
		left = min(left, l.u0)
	}
	for i := range p.page.Paths {
		pa := &p.page.Paths[i]
		if pa.Hidden || pa.N < 4 {
			continue
		}
		b := p.across(pa.Bounds)
		if b.X0 > left+1 || b.X1 < right-1 || b.Y1 < first || b.Y0 > last || b.X1-b.X0 > 0.95*page || b.Y1-b.Y0 < p.size {
			continue
		}
		edge := max(right, b.X1-0.3*p.size)
		p.limit, p.wide = min(p.limit, edge), min(p.wide, edge)
		p.below, p.floor = max(p.below, b.Y0), max(p.floor, b.Y0)
	}
}

// widest is where the longest line ends.
func (p *para) widest() (u float64) {
	u = math.Inf(-1)
	for _, l := range p.lines {
		u = max(u, l.u1)
	}
	return u
}

func (p *para) endOf(glyph int32) (u, v float64) {
	g := &p.page.Glyphs[glyph]
	return p.of(g.EX, g.EY)
}

func beginsSmall(l *layout.Page, next *layout.Line) bool {
	r, _ := utf8.DecodeRuneInString(l.Text(&l.Words[next.Words[0]]))
	return unicode.IsLower(r)
}

// usable reports why text of an operator can't be set anew; nil where it can.
func usable(p *content.Page, sh *content.Show) error {
	st := sh.State
	if st == nil || st.Font == nil || st.Font.Vertical {
		return errRTL
	}
	if st.Size <= 0 || st.Scale <= 0 {
		return errMirrored
	}
	if st.FontName == "" {
		return errNameless
	}
	for m, n := sh.Mark, 0; m >= 0 && n < 64; m, n = p.Marks[m].Parent, n+1 {
		if p.Marks[m].Props.Has("ActualText") {
			return errActual
		}
	}
	return nil
}

// bounds finds how far the lines may reach to the right, and down.
func (p *para) bounds(visible pdf.Rect) {
	l := p.lay
	src := &l.Paragraphs[p.at]
	mine := map[int]bool{}
	for _, at := range p.mine {
		mine[at] = true
	}
	if !src.Cell && p.align != layout.Justified { // ragged lines may be as long as those of the column
		for i := range l.Paragraphs {
			o := &l.Paragraphs[i]
			below := len(o.Lines) > 1 && math.Abs(o.Size-src.Size) < 0.05*src.Size && math.Abs(l.Lines[o.Lines[len(o.Lines)-1]].U0-p.left) < 0.5*src.Size // of the same column, by its look
			if !o.Cell && i != p.at && (o.Block == src.Block || below) {
				for _, at := range o.Lines {
					p.limit = max(p.limit, l.Lines[at].U1)
				}
			}
		}
	}
	corners := [4][2]float64{{visible.X0, visible.Y0}, {visible.X1, visible.Y0}, {visible.X0, visible.Y1}, {visible.X1, visible.Y1}}
	var u0, u1, v0 float64
	for i, c := range corners {
		u, v := p.of(c[0], c[1])
		if i == 0 {
			u0, u1, v0 = u, u, v
		}
		u0, u1, v0 = min(u0, u), max(u1, u), min(v0, v)
	}
	margin := max(18, min(p.lines[0].u0-u0, 0.2*(u1-u0)))
	p.wide = max(p.limit, u1-margin)
	if len(p.lines) == 1 { // a line by itself may go on as far as there is room, within margins as wide as the left one
		p.limit = p.wide
	}
	last := p.lines[len(p.lines)-1].v
	p.below, p.floor = v0+18, v0+max(18, min(48, 0.5*(p.lines[0].u0-u0)))
	for i := range l.Lines {
		o := &l.Lines[i]
		if mine[i] || len(o.Words) == 0 {
			continue
		}
		if ax, ay := l.Along(&l.Words[o.Words[0]]); math.Abs(ax-p.ax) > 0.02 || math.Abs(ay-p.ay) > 0.02 {
			continue
		}
		over := o.U1 > p.lines[0].u0 && o.U0 < p.limit
		for k := range p.lines { // what stands beside it ends its room
			if p.lines[k].v-o.V < 0.6*p.size && o.V-p.lines[k].v < 0.9*p.size && o.U0 > p.lines[k].u1 {
				p.limit = max(p.lines[k].u1, min(p.limit, o.U0-0.5*p.size))
				p.wide = max(p.widest(), min(p.wide, o.U0-0.5*p.size))
				over = over && o.U0 < p.limit
			}
		}
		if top := o.V + 0.75*o.Size; over && o.V < last-0.1*p.size {
			p.below = max(p.below, top)
		}
	}
	for _, c := range p.chars { // what lies outside of where is painted would not be seen
		clip := p.page.Shows[c.show].State.Clip
		if clip.X1 <= clip.X0 || clip.Y1 <= clip.Y0 || p.ay != 0 || p.ax < 0 {
			continue
		}
		p.below, p.floor = max(p.below, clip.Y0), max(p.floor, clip.Y0)
		if clip.X1 > p.lines[0].u0+p.size {
			p.limit, p.wide = max(min(p.limit, clip.X1), p.widest()), max(min(p.wide, clip.X1), p.widest())
		}
	}
	p.inBox(u1 - u0)
	for i := range p.page.Images {
		b := p.page.Images[i].Box()
		u, v := p.of(b.X0, b.Y1)
		w, _ := p.of(b.X1, b.Y1)
		if p.ay == 0 && w > p.lines[0].u0 && u < p.limit && v < last && v > p.below {
			p.below = v
		}
	}
	for i := range p.page.Rules {
		r := &p.page.Rules[i]
		if p.ay == 0 && p.ax > 0 && !r.Upright && max(r.A, r.B) > p.lines[0].u0 && min(r.A, r.B) < p.limit && r.At < last-0.05*p.size && r.At > p.below {
			p.below = r.At
		}
	}
}

// Lines that end early: a line stays broken where what begins the next one would have had room on it.
const (
	earlyRagged    = 0.6 // em
	earlyJustified = 1.0
)

// breaks finds the places where lines end whatever stands on them.
func (p *para) breaks() {
	hard, soft := 0, 0
	for i := 0; i+1 < len(p.lines); i++ {
		last := p.lines[i+1].first - 1
		if last < 0 || !p.chars[last].space {
			continue
		}
		end := last + 1
		for end < len(p.chars) && !p.chars[end].space {
			end++
		}
		w, _ := p.width(p.chars[last+1 : end])
		free := p.limit - p.lines[i].u1
		if p.align == layout.Justified && free > earlyJustified*p.size || p.align == layout.Left && free-p.gap-w > earlyRagged*p.size {
			p.chars[last].hard, p.chars[last].text = true, "\n"
			hard++
		} else if p.lines[i].u1 < p.widest()-0.1 {
			soft++
		}
	}
	if p.align != layout.Left || hard == 0 || soft > 0 || p.lay.Paragraphs[p.at].Cell {
		return
	}
	// All end early, as those of an address do, but for the longest, which sets the measure: they are lines by themselves.
	for i := 0; i+1 < len(p.lines); i++ {
		if last := &p.chars[p.lines[i+1].first-1]; last.space {
			last.hard, last.text = true, "\n"
		}
	}
	p.limit = p.wide
}

// text gives the paragraph's text, and for each byte of it the character that it is of.
func (p *para) text() (string, []int) {
	var b []byte
	var of []int
	for i := range p.chars {
		if c := &p.chars[i]; !c.soft {
			b = append(b, c.text...)
			for range len(c.text) {
				of = append(of, i)
			}
		}
	}
	return string(b), of
}
