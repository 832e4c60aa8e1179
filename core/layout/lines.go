package layout

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"unicode"

	"glenrain/core/pdf"
)

// Line is a row of words that are read one after another.
type Line struct {
	Words  []int   // indexes into the page's words, in reading order
	U0, U1 float64 // from where to where, along its direction
	V      float64 // of its baseline
	Size   float64 // of most of its text
	Box    pdf.Rect
	RTL    bool

	frame   int32
	seq     int // the first of its words in the order of showing
	letters int
	row     int // lines of one row stand beside one another
	word    int // the first of its words in scratch.sorted
	n       int
}

// scratch is memory that is used again from page to page.
type scratch struct {
	order []int32
	glue  []int32
	words []int
}

// Limits of what makes a line, in em.
const (
	sameRow    = 0.35 // baselines that differ by less are one row's
	gutter     = 0.8  // a gap that parts lines where the words are not shown one after another
	wideGutter = 2.0  // and where they are
)

// makeLines puts words into rows and cuts these at gutters.
func (l *Page) makeLines() {
	s := &l.scratch
	s.order = s.order[:0]
	for i := range l.Words {
		s.order = append(s.order, int32(i))
	}
	l.glueWords()
	words := l.Words
	slices.SortStableFunc(s.order, func(a, b int32) int {
		wa, wb := &words[s.glue[a]], &words[s.glue[b]]
		if wa.frame != wb.frame {
			return cmp.Compare(wa.frame, wb.frame)
		}
		return cmp.Compare(wb.V, wa.V)
	})
	s.words = slices.Grow(s.words[:0], len(words))
	row := 0
	for i := 0; i < len(s.order); {
		first := &words[s.glue[s.order[i]]]
		j := i + 1
		for j < len(s.order) {
			w := &words[s.glue[s.order[j]]]
			if w.frame != first.frame || first.V-w.V > sameRow*max(first.Size, w.Size) {
				break
			}
			j++
		}
		l.cutRow(s.order[i:j], row)
		row++
		i = j
	}
	l.rows = row
}

// glueWords tells for each word which word it goes with in its row: itself, or that whose raised or lowered part it is.
func (l *Page) glueWords() {
	s := &l.scratch
	s.glue = slices.Grow(s.glue[:0], len(l.Words))[:len(l.Words)]
	for i := range s.glue {
		s.glue[i] = int32(i)
	}
	for i := 1; i < len(l.Words); i++ {
		a, b := &l.Words[i-1], &l.Words[i]
		if a.frame != b.frame || a.V == b.V {
			continue
		}
		big := max(a.Size, b.Size)
		gap := b.U0 - a.U1
		if gap < -0.5*big || gap > 0.4*big || math.Abs(a.V-b.V) > 0.7*big {
			continue
		}
		// The larger one, or the one before, leads.
		if b.Size > 1.1*a.Size && s.glue[i-1] == int32(i-1) {
			s.glue[i-1] = int32(i)
		} else if b.Size <= 1.1*a.Size && (b.Size < 0.9*a.Size || l.Words[s.glue[i-1]].Size > b.Size*1.1 ||
			gap < gapOfWords*big && math.Abs(a.V-b.V) < sameRow*big) {
			s.glue[i] = s.glue[i-1]
		}
	}
	for i := range s.glue { // no chains
		for k := 0; k < 4 && s.glue[s.glue[i]] != s.glue[i]; k++ {
			s.glue[i] = s.glue[s.glue[i]]
		}
	}
}

// cutRow cuts the words of a row at its gutters.
func (l *Page) cutRow(row []int32, number int) {
	words := l.Words
	slices.SortFunc(row, func(a, b int32) int {
		if c := cmp.Compare(words[a].U0, words[b].U0); c != 0 {
			return c
		}
		return cmp.Compare(a, b)
	})
	var rules *ruling
	if len(row) > 1 && len(l.Source.Rules) > 3 {
		rules = l.rulingOf(words[row[0]].frame)
	}
	var line *Line
	last := -1
	lastEnd := math.Inf(-1)
	for _, k := range row {
		w := &words[k]
		if line != nil {
			if l.again(line, w) { // shadows and bold made of two prints
				w.hidden = true
				continue
			}
			gap := w.U0 - lastEnd
			size := max(w.Size, line.Size)
			follows := int(k) == last+1 || int(k) == last-1 && w.rtl
			if gap > wideGutter*size || gap > gutter*size && !follows || rules != nil && len(rules.cuts) > 0 && rules.ruledBetween(lastEnd, w.U0, w.V+0.3*w.Size) {
				l.endLine(line)
				line = nil
			} else {
				w.Gap = gap > gapOfWords*min(w.Size, words[last].Size) || w.spaced && gap > -0.2*size || gap < -size && w.spaced
			}
		}
		if line == nil {
			l.Lines = append(l.Lines, Line{U0: w.U0, V: w.V, frame: w.frame, seq: int(k), row: number, word: len(l.scratch.words), Size: w.Size})
			line = &l.Lines[len(l.Lines)-1]
			lastEnd = math.Inf(-1)
			w.Gap = false
		}
		l.scratch.words = append(l.scratch.words, int(k))
		line.n++
		line.seq = min(line.seq, int(k))
		if w.Size > line.Size*1.05 {
			line.Size = w.Size
		}
		lastEnd = max(lastEnd, w.U1)
		line.U1 = lastEnd
		last = int(k)
	}
	if line != nil {
		l.endLine(line)
	}
}

// again reports whether one of the last words of a line is the same word in the same place.
func (l *Page) again(line *Line, w *Word) bool {
	for i := len(l.scratch.words) - 1; i >= line.word && i > len(l.scratch.words)-4; i-- {
		o := &l.Words[l.scratch.words[i]]
		if math.Abs(o.U0-w.U0) < 0.1*w.Size && math.Abs(o.V-w.V) < 0.2*w.Size && string(l.text[o.from:o.to]) == string(l.text[w.from:w.to]) {
			return true
		}
	}
	return false
}

// join puts words of a line together that no space or gap parts: of one size, but raised, lowered or overlapping, as in the
// names of some programs; and the letters of a line that is spaced out evenly.
func (l *Page) join(line *Line) {
	list := l.scratch.words[line.word : line.word+line.n]
	l.spacedOut(list)
	out := list[:1]
	for _, k := range list[1:] {
		a, b := &l.Words[out[len(out)-1]], &l.Words[k]
		big := max(a.Size, b.Size)
		gap := b.U0 - a.U1
		if math.Abs(a.Size-b.Size) > 0.05*big || b.Gap && !b.even || gap < -0.8*big || a.rtl || b.rtl || math.Abs(a.V-b.V) > sameRow*big {
			out = append(out, k)
			continue
		}
		from, first := int32(len(l.text)), int32(len(l.glyphs))
		l.text = append(append(l.text, l.text[a.from:a.to]...), l.text[b.from:b.to]...)
		l.glyphs = append(append(l.glyphs, l.glyphs[a.first:a.first+a.n]...), l.glyphs[b.first:b.first+b.n]...)
		if b.to-b.from > a.to-a.from {
			a.V = b.V
		}
		a.from, a.to, a.first, a.n = from, int32(len(l.text)), first, int32(len(l.glyphs))-first
		a.U0, a.U1 = min(a.U0, b.U0), max(a.U1, b.U1)
		b.joined = true
	}
	line.n = len(out)
	l.scratch.words = l.scratch.words[:line.word+line.n]
}

// spacedOut marks the letters of a line that consists of nothing else, at even distances with no space character between them.
func (l *Page) spacedOut(list []int) {
	if len(list) < 2 || len(list) < 4 && !wide(l.text[l.Words[list[0]].from]) {
		return
	}
	var first float64
	for i, k := range list {
		w := &l.Words[k]
		if w.n != 1 || i > 0 && w.spaced {
			return
		}
		if i == 0 {
			continue
		}
		gap := w.U0 - l.Words[list[i-1]].U1
		if i == 1 {
			first = gap
		}
		if gap > 0.7*w.Size || math.Abs(gap-first) > 0.07*w.Size {
			return
		}
	}
	for _, k := range list[1:] {
		l.Words[k].even = true
	}
}

// wide reports whether UTF-8 that begins with b is of a script whose characters are as wide as high.
func wide(b byte) bool { return b >= 0xe3 && b <= 0xed }

// endLine settles what a line is: the size and baseline of most of its letters, its box, its direction.
func (l *Page) endLine(line *Line) {
	l.join(line)
	line.Words = l.scratch.words[line.word : line.word+line.n : line.word+line.n]
	best, rtl := 0, 0
	for _, k := range line.Words {
		w := &l.Words[k]
		n := int(w.to - w.from)
		line.letters += n
		if n > best {
			best, line.Size, line.V = n, w.Size, w.V
		}
		if w.rtl {
			rtl += n
		}
		w.Line = len(l.Lines) - 1
		b := l.Box(w)
		if line.Box == (pdf.Rect{}) {
			line.Box = b
		} else {
			line.Box = pdf.Rect{X0: min(line.Box.X0, b.X0), Y0: min(line.Box.Y0, b.Y0), X1: max(line.Box.X1, b.X1), Y1: max(line.Box.Y1, b.Y1)}
		}
	}
	switch {
	case rtl*2 > line.letters:
		line.RTL = true
		l.turnRound(line.Words)
	case rtl > 0: // a passage that is quoted
		for i := 0; i < len(line.Words); i++ {
			n := l.passage(line.Words[i:])
			l.turnRound(line.Words[i : i+n])
			i += n
		}
	}
}

// passage counts the words that a right-to-left passage begins with: from one such word to the last, over what has no letters.
func (l *Page) passage(w []int) (n int) {
	for i, k := range w {
		switch {
		case l.Words[k].rtl:
			n = i + 1
		case n == 0 || strings.ContainsFunc(l.Text(&l.Words[k]), unicode.IsLetter):
			return n
		}
	}
	return n
}

// turnRound puts words that run to the left into the order of reading: from the right, what runs to the right within them from the left.
func (l *Page) turnRound(w []int) {
	if len(w) < 2 {
		return
	}
	gaps := make([]bool, len(w))
	for i, k := range w {
		gaps[i] = l.Words[k].Gap
	}
	slices.Reverse(w)
	for i := range w { // the gap before a word was behind it
		if i == 0 {
			l.Words[w[i]].Gap = gaps[0]
		} else {
			l.Words[w[i]].Gap = gaps[len(w)-i]
		}
	}
	for i := 0; i < len(w); {
		j := i
		for j < len(w) && !l.Words[w[j]].rtl {
			j++
		}
		if j-i > 1 {
			slices.Reverse(w[i:j])
		}
		i = max(j, i+1)
	}
}

// AppendLine writes a line's text, with a space at each gap.
func (l *Page) AppendLine(b []byte, line *Line) []byte {
	for i, k := range line.Words {
		w := &l.Words[k]
		if i > 0 && w.Gap {
			b = append(b, ' ')
		}
		b = append(b, l.text[w.from:w.to]...)
	}
	return b
}

// LineText gives a line's text.
func (l *Page) LineText(line *Line) string { return string(l.AppendLine(nil, line)) }
