// Package layout groups the glyphs that core/content found on a page: words, lines, columns, paragraphs, tables, and the
// order in which they are read. It only reads; places are in default user space (points), as content gives them.
package layout

import (
	"math"
	"unicode"
	"unicode/utf8"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/pdf"
)

// Page is a page's text, grouped.
type Page struct {
	Source     *content.Page
	Words      []Word
	Lines      []Line
	Paragraphs []Paragraph // in reading order

	text    []byte
	glyphs  []int32 // of the words, in the order of their text
	frames  []frame
	rulings []*ruling // by frame, once they were asked for
	rows    int       // how many rows of lines there are
	visible pdf.Rect
	scratch scratch
}

// frame is a direction in which text runs. In it a place is u along the baseline and v upwards from it.
type frame struct{ ax, ay float64 }

func (f frame) of(x, y float64) (u, v float64) { return x*f.ax + y*f.ay, y*f.ax - x*f.ay }

func (f frame) back(u, v float64) (x, y float64) { return u*f.ax - v*f.ay, u*f.ay + v*f.ax }

// Word is a run of glyphs that stand together: without a gap, of one size, on one baseline. What is written without a space but in
// two sizes is two words, of which the second has no Gap.
type Word struct {
	Size   float64 // of the font, in points on the page
	Font   *font.Font
	Gap    bool // a space or a gap stands before it in its line
	Line   int
	U0, U1 float64 // where it begins and ends, along its direction
	V      float64 // of its baseline

	frame    int32
	from, to int32 // its text
	first, n int32 // its glyphs
	up, down float64
	rtl      bool
	hidden   bool // dropped: the same again in the same place
	joined   bool // became a part of the word before it
	even     bool // one of letters that are spaced out
	spaced   bool // a space character was shown before it
	vertical bool
}

// farthest is further from the origin than any page reaches, in points.
const farthest = 1e6

// Limits of what makes a word, in em.
const (
	gapOfWords = 0.1  // a gap that is wider parts words
	sameSize   = 0.01 // sizes that differ by less are the same
	overlap    = 0.1  // how far a glyph may stand over the one before it
)

// Read groups the text of a page that was interpreted. into is a page whose memory is used again, or nil.
func Read(p *content.Page, visible pdf.Rect, into *Page) *Page {
	if into == nil {
		into = &Page{}
	}
	l := into
	l.Source, l.visible = p, visible
	l.Words, l.Lines, l.Paragraphs = l.Words[:0], l.Lines[:0], l.Paragraphs[:0]
	l.text, l.glyphs, l.frames, l.rulings = l.text[:0], l.glyphs[:0], l.frames[:0], nil
	l.readWords()
	l.makeLines()
	l.makeParagraphs()
	return l
}

func (l *Page) frameOf(sh *content.Show) int32 {
	ax, ay := sh.Along[0], sh.Along[1]
	if f := sh.State.Font; f != nil && f.Vertical { // it runs downwards
		n := math.Hypot(sh.Up[0], sh.Up[1])
		if n > 0 {
			ax, ay = -sh.Up[0]/n, -sh.Up[1]/n
		}
	}
	for i, f := range l.frames {
		if math.Abs(f.ax-ax) < 0.005 && math.Abs(f.ay-ay) < 0.005 {
			return int32(i)
		}
	}
	if len(l.frames) > 64 { // text along a curve, in as many directions as it has letters
		return 0
	}
	l.frames = append(l.frames, frame{ax, ay})
	return int32(len(l.frames) - 1)
}

// readWords cuts the glyphs into words, in the order in which they are shown.
func (l *Page) readWords() {
	r := wordReader{l: l, show: -1}
	p := l.Source
	for i := range p.Glyphs {
		g := &p.Glyphs[i]
		if g.Show != r.show {
			r.turnTo(g.Show)
		}
		if r.hidden || r.size == 0 {
			continue
		}
		if blank(g.Char.Text) {
			if g.Char.Text != "" {
				r.end()
				r.spaced = true
			}
			continue
		}
		if p.OnPage(g, l.visible) && math.Abs(g.X)+math.Abs(g.Y)+math.Abs(g.EX)+math.Abs(g.EY) < farthest {
			r.take(int32(i), g)
		}
	}
	r.end()
}

// wordReader gathers glyphs into words.
type wordReader struct {
	l      *Page
	w      Word // that is being made
	open   bool // one is
	spaced bool // a space character was shown since the last word

	lastStart, lastEnd float64 // of the glyph before, along its direction

	// of the operator at hand
	show             int32
	font             *font.Font
	frame            int32
	along            frame
	size, up, down   float64
	vertical, hidden bool
}

// turnTo goes to another showing operator.
func (r *wordReader) turnTo(show int32) {
	sh := &r.l.Source.Shows[show]
	r.show, r.font, r.hidden = show, sh.State.Font, sh.Hidden
	r.frame = r.l.frameOf(sh)
	r.along = r.l.frames[r.frame]
	r.size = math.Hypot(sh.Up[0], sh.Up[1])
	r.up, r.down, r.vertical = 0.75, -0.25, false
	if f := r.font; f != nil {
		r.up, r.down, r.vertical = f.Ascent, f.Descent, f.Vertical
		r.size *= f.Em()
	}
}

// take adds a glyph to the word that is being made, or begins another with it.
func (r *wordReader) take(i int32, g *content.Glyph) {
	l, text := r.l, g.Char.Text
	u0, v := r.along.of(g.X, g.Y)
	u1, _ := r.along.of(g.EX, g.EY)
	if r.vertical {
		v -= g.Char.Width / 2 * r.size // the line's middle
	}
	if u1 < u0 {
		u0, u1 = u1, u0
	}
	if r.open && l.accent(&r.w, text, u0, u1, v, r.lastStart, r.lastEnd, r.size, r.frame) {
		l.glyphs = append(l.glyphs, i)
		r.w.U0, r.w.U1 = min(r.w.U0, u0), max(r.w.U1, u1)
		if mark, _ := combining(text); mark == 0 {
			r.lastStart, r.lastEnd = u0, u1
		}
		return
	}
	toLeft := false
	if r.open {
		var goesOn bool
		if goesOn, toLeft = r.goesOn(text, u0, u1, v); !goesOn {
			r.end()
		}
	}
	if !r.open {
		r.open = true
		r.w = Word{Size: r.size, Font: r.font, U0: u0, U1: u1, V: v, frame: r.frame, from: int32(len(l.text)),
			first: int32(len(l.glyphs)), up: r.up, down: r.down, spaced: r.spaced, vertical: r.vertical}
		r.spaced = false
	}
	r.w.rtl = r.w.rtl || toLeft
	l.text = append(l.text, text...)
	l.glyphs = append(l.glyphs, i)
	r.w.U0, r.w.U1 = min(r.w.U0, u0), max(r.w.U1, u1)
	r.lastStart, r.lastEnd = u0, u1
}

// goesOn reports whether a glyph from u0 to u1 on the baseline v belongs to the word that is being made, and whether that goes on to the
// left: right-to-left text in its own order.
func (r *wordReader) goesOn(text string, u0, u1, v float64) (on, toLeft bool) {
	w, size := &r.w, r.size
	if w.frame != r.frame || math.Abs(size-w.Size) > sameSize*w.Size || math.Abs(v-w.V) > 0.5 {
		return false, false
	}
	gap := u0 - r.lastEnd
	again := math.Abs(u0-r.lastStart) < overlap*size && u1-u0 > 0
	if gap >= -overlap*size && gap <= gapOfWords*size && !again {
		return true, false
	}
	if back := r.lastStart - u1; rightToLeft(text) && back > -overlap*size && back < gapOfWords*size {
		return true, true
	}
	// An accent without width stands over its letter.
	return u1-u0 < 0.02*size && gap > -0.6*size && gap <= gapOfWords*size, false
}

// end ends the word that is being made.
func (r *wordReader) end() {
	if !r.open {
		return
	}
	r.open = false
	l, w := r.l, &r.w
	w.to, w.n = int32(len(l.text)), int32(len(l.glyphs))-w.first
	if w.to == w.from { // of glyphs that nothing is known of
		l.glyphs = l.glyphs[:w.first]
		return
	}
	l.endWord(w)
	l.Words = append(l.Words, *w)
}

func blank(s string) bool {
	if len(s) == 1 {
		return s[0] <= ' '
	}
	for _, r := range s {
		if !unicode.IsSpace(r) && !unicode.IsControl(r) && r != 0x200b && r != 0xfeff {
			return false
		}
	}
	return true
}

func rightToLeft(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return r >= 0x590 && (r <= 0x8ff || r >= 0xfb1d && r <= 0xfdff || r >= 0xfe70 && r <= 0xfefe || r >= 0x10800 && r <= 0x10fff || r >= 0x1e800 && r <= 0x1efff)
}

// endWord puts right-to-left words that are shown in the order of the eye, from the left, into the order of reading.
func (l *Page) endWord(w *Word) {
	text := string(l.text[w.from:w.to])
	if w.rtl || !rightToLeft(text) && !rightToLeft(lastOf(text)) {
		return
	}
	w.rtl = true
	glyphs := l.glyphs[w.first : w.first+w.n]
	for i, j := 0, len(glyphs)-1; i < j; i, j = i+1, j-1 {
		glyphs[i], glyphs[j] = glyphs[j], glyphs[i]
	}
	l.text = l.text[:w.from]
	for i := 0; i < len(glyphs); {
		// Figures stay from left to right.
		j := i
		for j < len(glyphs) && figure(l.Source.Glyphs[glyphs[j]].Char.Text) {
			j++
		}
		for a, b := i, j-1; a < b; a, b = a+1, b-1 {
			glyphs[a], glyphs[b] = glyphs[b], glyphs[a]
		}
		i = max(j, i+1)
	}
	for _, g := range glyphs {
		l.text = append(l.text, l.Source.Glyphs[g].Char.Text...)
	}
}

func lastOf(s string) string {
	_, n := utf8.DecodeLastRuneInString(s)
	return s[len(s)-n:]
}

func figure(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return unicode.IsDigit(r)
}

// Text gives a word's text.
func (l *Page) Text(w *Word) string { return string(l.text[w.from:w.to]) }

// Glyphs gives a word's glyphs, as indexes into the source's, in the order of its text.
func (l *Page) Glyphs(w *Word) []int32 { return l.glyphs[w.first : w.first+w.n] }

// Box gives the upright rectangle around a word.
func (l *Page) Box(w *Word) pdf.Rect {
	lo, hi := w.V+w.down*w.Size, w.V+w.up*w.Size
	if w.vertical {
		lo, hi = w.V-w.Size/2, w.V+w.Size/2
	}
	return l.frames[w.frame].box(w.U0, w.U1, lo, hi)
}

func (f frame) box(u0, u1, v0, v1 float64) pdf.Rect {
	if f.ax == 1 && f.ay == 0 {
		return pdf.Rect{X0: u0, Y0: v0, X1: u1, Y1: v1}
	}
	out := pdf.Rect{X0: math.Inf(1), Y0: math.Inf(1), X1: math.Inf(-1), Y1: math.Inf(-1)}
	for _, c := range [4][2]float64{{u0, v0}, {u1, v0}, {u0, v1}, {u1, v1}} {
		x, y := f.back(c[0], c[1])
		out.X0, out.Y0, out.X1, out.Y1 = min(out.X0, x), min(out.Y0, y), max(out.X1, x), max(out.Y1, y)
	}
	return out
}

// Dropped reports whether a word is not one: it was shown in the same place before (a shadow, or bold made of two prints), or is a part of another.
func (l *Page) Dropped(w *Word) bool { return w.hidden || w.joined }

// Annotation reports whether a word stands in the appearance of an annotation, and not in the page's own content.
func (l *Page) Annotation(w *Word) bool {
	if w.n == 0 {
		return false
	}
	at := l.Source.Shows[l.Source.Glyphs[l.glyphs[w.first]].Show].Invocation
	for l.Source.Invocations[at].Parent >= 0 {
		at = l.Source.Invocations[at].Parent
	}
	return l.Source.Invocations[at].Kind == content.AppearanceBody
}

// Along gives the direction of a word's baseline, a unit vector.
func (l *Page) Along(w *Word) (x, y float64) { f := l.frames[w.frame]; return f.ax, f.ay }

// Base gives the place on the page where a word's baseline begins.
func (l *Page) Base(w *Word) (x, y float64) { return l.frames[w.frame].back(w.U0, w.V) }
