package layout

import (
	"math"
	"slices"
	"unicode"
	"unicode/utf8"

	"glenrain/core/font"
	"glenrain/core/pdf"
)

// Align is how the lines of a paragraph are set.
type Align uint8

// The ways of setting lines.
const (
	Left Align = iota
	Right
	Centred
	Justified
)

// String names it.
func (a Align) String() string { return [...]string{"left", "right", "centred", "justified"}[a] }

// Paragraph is a run of lines that belong together, or a cell of a table.
type Paragraph struct {
	Lines   []int // indexes into the page's lines
	Box     pdf.Rect
	Align   Align
	Leading float64 // from baseline to baseline, points; 0 for a single line
	Indent  float64 // of the first line against the others, points; negative where it hangs out
	Size    float64
	Block   int // paragraphs of one block stand in one column
	Cell    bool
}

// Limits of what makes a paragraph.
const (
	sameLeading = 0.15 // of the leading
	otherSize   = 0.12 // of the size
	leastIndent = 0.8  // em
	mostIndent  = 8.0  // em

	mostLines = 10_000
)

func (l *Page) makeParagraphs() {
	if len(l.Lines) == 0 {
		return
	}
	if len(l.Lines) > mostLines { // no page for people
		for i := range l.Lines {
			l.endParagraph(i, []int{i}, block{u0: l.Lines[i].U0, u1: l.Lines[i].U1}, false)
		}
		return
	}
	for i, b := range l.order(l.makeBlocks()) {
		switch {
		case b.cells != nil:
			l.cutRuled(i, b)
			continue
		case b.table:
			l.cutTable(i, b)
			continue
		}
		l.cutBlock(i, b)
	}
}

// cutBlock cuts the lines of a block into paragraphs.
func (l *Page) cutBlock(number int, b block) {
	lines := b.lines
	b.usual, b.even = map[int]float64{}, l.even(b)
	centred := l.centred(b)
	hanging := !centred && l.hanging(b)
	begin := 0
	for i := 1; i <= len(lines); i++ {
		if i == len(lines) || l.parts(b, begin, i, hanging, centred) {
			l.endParagraph(number, lines[begin:i], b, false)
			begin = i
		}
	}
}

// step is the distance from line i-1 of a block to line i.
func (l *Page) step(b block, i int) float64 { return l.Lines[b.lines[i-1]].V - l.Lines[b.lines[i]].V }

// parts reports whether a paragraph begins with line i of a block, where the one before began with line begin.
func (l *Page) parts(b block, begin, i int, hanging, centred bool) bool {
	prev, cur := &l.Lines[b.lines[i-1]], &l.Lines[b.lines[i]]
	return math.Abs(prev.Size-cur.Size) > otherSize*max(prev.Size, cur.Size) ||
		l.otherLeading(b, begin, i) ||
		l.beginsItem(&l.Lines[b.lines[begin]], prev, cur) ||
		l.otherFont(prev, cur) ||
		l.leads(prev) ||
		!centred && l.indentParts(b, begin, i, hanging) ||
		l.shortEnd(b, prev, cur, centred)
}

// otherLeading reports whether line i of a block stands further from the one before, or closer, than is usual in the paragraph.
func (l *Page) otherLeading(b block, begin, i int) bool {
	step, usual := l.step(b, i), l.usualStep(b, begin, i)
	return step > usual*(1+sameLeading)+0.3 || step < usual*(1-2*sameLeading)
}

// beginsItem reports whether a line begins an item of a list: with a bullet or number; a dash may also stand in the sentence of the line before,
// where the paragraph began with none and the line stands where that one does.
func (l *Page) beginsItem(first, prev, cur *Line) bool {
	start := l.lineStart(cur)
	if !item(start) {
		return false
	}
	return !dash(start) || dash(l.lineStart(first)) || l.sentence(prev, cur) || math.Abs(cur.U0-prev.U0) > leastIndent*max(prev.Size, cur.Size)
}

// otherFont reports whether two lines are each set in one font, and not in the same.
func (l *Page) otherFont(prev, cur *Line) bool {
	a, b := l.oneFont(prev), l.oneFont(cur)
	return a != nil && b != nil && differ(a, b)
}

// indentParts reports whether the indent of line i begins a paragraph: against the column's left edge, or in hanging blocks against the lines
// between.
func (l *Page) indentParts(b block, begin, i int, hanging bool) bool {
	prev, cur := &l.Lines[b.lines[i-1]], &l.Lines[b.lines[i]]
	size := max(prev.Size, cur.Size)
	dent := cur.U0 - prev.U0
	if b.rtl(l) {
		dent = prev.U1 - cur.U1
	}
	in := dent > leastIndent*size && dent < mostIndent*size
	out := dent < -leastIndent*size
	hang, isItem := l.hang(&l.Lines[b.lines[begin]])
	switch {
	case isItem && math.Abs(cur.U0-hang) < 0.6*size: // goes on beside its bullet or number
		return false
	case hanging:
		return out && dent > -mostIndent*size
	case in:
		// The first line of the next one, unless the one before hangs: its first line out, the others in.
		return i-begin > 1 || !l.staysIn(b, i)
	case i-begin == 1 && math.Abs(dent) < 0.3*size: // a line is a paragraph, and so begins the next
		return l.alone(b, i)
	}
	return i-begin > 1 && out // comes back out of an indent that was no first line's
}

func (b block) rtl(l *Page) bool { return l.Lines[b.lines[0]].RTL }

// flush reports whether a line begins at the left edge of its block.
func (l *Page) flush(b block, line *Line) bool { return line.U0-b.u0 < 0.5*line.Size }

// staysIn reports whether the line after i is as far in as line i, so that the line before i hangs out.
func (l *Page) staysIn(b block, i int) bool {
	if i+1 >= len(b.lines) {
		return false
	}
	cur, next := &l.Lines[b.lines[i]], &l.Lines[b.lines[i+1]]
	return math.Abs(cur.U0-next.U0) < 0.4*cur.Size
}

// alone reports whether line i stands in, as the one before it does, and the next does not.
func (l *Page) alone(b block, i int) bool {
	if i+1 >= len(b.lines) {
		return false
	}
	in := func(k int) float64 { return (l.Lines[b.lines[k]].U0 - b.u0) / l.Lines[b.lines[k]].Size }
	return in(i) > leastIndent && in(i) < 4 && in(i+1) < 0.3
}

// hanging reports whether in a block the first lines of paragraphs stand out and the others in: where the line before one that
// stands out ends early more often than the line before one that stands in.
func (l *Page) hanging(b block) bool {
	inside := func(i int) bool {
		line := &l.Lines[b.lines[i]]
		d := line.U0 - b.u0
		if b.rtl(l) {
			d = b.u1 - line.U1
		}
		return d > leastIndent*line.Size && d < mostIndent*line.Size
	}
	out, against := 0, 0
	for i := 1; i < len(b.lines); i++ {
		prev, cur := &l.Lines[b.lines[i-1]], &l.Lines[b.lines[i]]
		if inside(i-1) == inside(i) || !l.shortEnd(b, prev, cur, false) {
			continue
		}
		if inside(i) {
			against++
		} else {
			out++
		}
	}
	if out != against {
		return out > against
	}
	in := 0
	for i := range b.lines {
		if inside(i) {
			in++
		}
	}
	return !inside(0) && in*2 > len(b.lines)
}

// centred reports whether the lines of a block stand about one middle and begin at different places.
func (l *Page) centred(b block) bool {
	if len(b.lines) < 2 {
		return false
	}
	var middles []float64
	flush := 0
	for _, k := range b.lines {
		line := &l.Lines[k]
		middles = append(middles, (line.U0+line.U1)/2)
		if l.flush(b, line) {
			flush++
		}
	}
	sorted := slices.Sorted(slices.Values(middles))
	mid, near := sorted[len(sorted)/2], 0
	for i, m := range middles {
		if math.Abs(m-mid) < 0.6*l.Lines[b.lines[i]].Size {
			near++
		}
	}
	return near*10 >= 9*len(middles) && flush*10 <= 7*len(middles)
}

// usualStep is the leading of a paragraph so far; at its second line, that of the block.
func (l *Page) usualStep(b block, begin, i int) float64 {
	if i-begin >= 2 {
		return l.step(b, i-1)
	}
	at := l.Lines[b.lines[i]].Size
	if usual, ok := b.usual[int(at*8)]; ok {
		return usual
	}
	var steps []float64
	for k := 1; k < len(b.lines); k++ { // of lines of this size
		if math.Abs(l.Lines[b.lines[k]].Size-at) < otherSize*at && math.Abs(l.Lines[b.lines[k-1]].Size-at) < otherSize*at {
			steps = append(steps, l.step(b, k))
		}
	}
	if len(steps) == 0 {
		return l.step(b, i)
	}
	slices.Sort(steps)
	usual := steps[len(steps)/2]
	// Between paragraphs that are set apart the usual step is theirs where most have one line.
	if low := steps[0]; usual > 1.15*low && low > 0.9*at && low < 1.75*at {
		usual = low
	}
	usual = min(usual, 2.6*at)
	b.usual[int(at*8)] = usual
	return usual
}

// hang gives where the text of an item begins that a line opens with a bullet or number.
func (l *Page) hang(line *Line) (float64, bool) {
	if start := l.lineStart(line); !item(start) && !sectionNumber(start) {
		return 0, false
	}
	for _, k := range line.Words[1:] {
		if w := &l.Words[k]; w.Gap {
			return w.U0, true
		}
	}
	return 0, false
}

// lineStart gives the first word of a line.
func (l *Page) lineStart(line *Line) string {
	if len(line.Words) == 0 {
		return ""
	}
	w := &l.Words[line.Words[0]]
	if len(line.Words) > 1 && !l.Words[line.Words[1]].Gap && w.to-w.from < 4 { // "1" and "." in two sizes
		v := &l.Words[line.Words[1]]
		return string(l.text[w.from:w.to]) + string(l.text[v.from:v.to])
	}
	return string(l.text[w.from:w.to])
}

// item reports whether a line that begins with a word begins an item of a list: a bullet, a number or letter with its mark.
func item(word string) bool {
	r, n := utf8.DecodeRuneInString(word)
	switch r {
	case '•', '◦', '▪', '■', '□', '●', '○', '‣', '⁃', '∙', '·', '✓', '➢', '►', '▶', 0xf0b7, 0xf0a7:
		return true
	case '–', '—', '*', '-':
		return n == len(word)
	}
	s := word
	opened := false
	if s != "" && (s[0] == '(' || s[0] == '[') {
		s, opened = s[1:], true
	}
	if s == "" || len(s) > 9 {
		return false
	}
	last := s[len(s)-1]
	body := s[:len(s)-1]
	switch {
	case last == ')' || last == ']' && opened:
	case last == '.' && !opened:
	default:
		return false
	}
	if body == "" {
		return false
	}
	if len(body) == 1 && unicode.IsLetter(rune(body[0])) {
		return true
	}
	for _, c := range body {
		if !unicode.IsDigit(c) && c != '.' && (last == '.' || c != 'i' && c != 'v' && c != 'x') {
			return false
		}
	}
	return len(body) <= 6
}

// sectionNumber reports whether a word is a number such as 3.2.1.
func sectionNumber(word string) bool {
	for _, c := range word {
		if !unicode.IsDigit(c) && c != '.' {
			return false
		}
	}
	return word != "" && len(word) < 12
}

// dash reports whether a word is a dash, which begins an item or stands in a sentence.
func dash(word string) bool {
	switch word {
	case "–", "—", "-", "*":
		return true
	}
	return false
}

// leads reports whether a line ends with leaders and a number, as in a table of contents.
func (l *Page) leads(line *Line) bool {
	n := len(line.Words)
	dots := 0
	for i := n - 1; i >= 0 && i > n-40; i-- {
		w := &l.Words[line.Words[i]]
		t := l.text[w.from:w.to]
		for _, c := range t {
			if c == '.' {
				dots++
			} else if i < n-1 {
				return dots >= 4
			}
		}
	}
	return dots >= 4
}

// oneFont gives the font of a line that is all in one; nil else.
func (l *Page) oneFont(line *Line) *font.Font {
	var f *font.Font
	for _, k := range line.Words {
		w := &l.Words[k]
		if f != nil && w.Font != f {
			return nil
		}
		f = w.Font
	}
	return f
}

func differ(a, b *font.Font) bool {
	return a != b && (a.Style.Weight/200 != b.Style.Weight/200 || a.Style.Fixed != b.Style.Fixed || a.Name != b.Name && a.Style.Italic == b.Style.Italic && a.Style.Serif != b.Style.Serif)
}

// shortEnd reports whether the line before ends so early that the first word of the next would have fitted.
func (l *Page) shortEnd(b block, prev, cur *Line, centred bool) bool {
	w := &l.Words[cur.Words[0]]
	need := w.U1 - w.U0 + 0.5*cur.Size
	// A word that is cut at the line's end in two sizes or fonts goes on.
	for _, k := range cur.Words[1:] {
		if next := &l.Words[k]; !next.Gap {
			need += next.U1 - next.U0
			continue
		}
		break
	}
	free := b.u1 - prev.U1
	if b.rtl(l) {
		free = prev.U0 - b.u0
	} else if centred {
		free = b.u1 - b.u0 - (prev.U1 - prev.U0)
	}
	width := b.u1 - b.u0
	if free <= need+0.02*width {
		return false
	}
	// In ragged text lines may end early; there it takes the end of a sentence, or much room.
	return free > 0.3*width || b.even || l.sentence(prev, cur)
}

// even reports whether most lines of a block reach its edge, as justified text does.
func (l *Page) even(b block) bool {
	n := 0
	for _, k := range b.lines {
		line := &l.Lines[k]
		edge := b.u1 - line.U1
		if b.rtl(l) {
			edge = line.U0 - b.u0
		}
		if edge < 0.6*line.Size {
			n++
		}
	}
	return n*2 > len(b.lines)
}

// sentence reports whether a line ends as sentences do and the next begins as they do.
func (l *Page) sentence(prev, cur *Line) bool {
	a, b := &l.Words[prev.Words[len(prev.Words)-1]], &l.Words[cur.Words[0]]
	last, _ := utf8.DecodeLastRune(l.text[a.from:a.to])
	first, _ := utf8.DecodeRune(l.text[b.from:b.to])
	switch last {
	case '.', ':', ';', '?', '!', '”', '"', '’', '»', '。':
	default:
		return false
	}
	return !unicode.IsLower(first)
}

// cutTable makes each cell a paragraph. A row in which the first column is empty and that stands close goes on with the cells above.
func (l *Page) cutTable(number int, b block) {
	type cell struct{ lines []int }
	var open []cell
	flush := func() {
		for _, c := range open {
			l.endParagraph(number, c.lines, b, true)
		}
		open = open[:0]
	}
	for i := 0; i < len(b.lines); {
		j := i + 1
		for j < len(b.lines) && l.Lines[b.lines[j]].row == l.Lines[b.lines[i]].row {
			j++
		}
		goesOn := len(open) > 0 && j-i < len(open)
		if goesOn {
			for _, k := range b.lines[i:j] {
				line := &l.Lines[k]
				at := -1
				for c := range open {
					last := &l.Lines[open[c].lines[len(open[c].lines)-1]]
					if math.Abs(last.U0-line.U0) < 0.5*line.Size && last.V-line.V < 1.35*line.Size {
						at = c
					}
				}
				goesOn = goesOn && at > 0
			}
		}
		if !goesOn {
			flush()
			for _, k := range b.lines[i:j] {
				open = append(open, cell{[]int{k}})
			}
		} else {
			for _, k := range b.lines[i:j] {
				for c := range open {
					last := &l.Lines[open[c].lines[len(open[c].lines)-1]]
					if math.Abs(last.U0-l.Lines[k].U0) < 0.5*last.Size {
						open[c].lines = append(open[c].lines, k)
						break
					}
				}
			}
		}
		i = j
	}
	flush()
}

// endParagraph settles what a paragraph is like.
func (l *Page) endParagraph(number int, lines []int, b block, cell bool) {
	p := Paragraph{Lines: slices.Clone(lines), Block: number, Cell: cell}
	var left, right []float64
	for i, k := range lines {
		line := &l.Lines[k]
		p.Box = around(p.Box, line.Box)
		p.Size = max(p.Size, line.Size)
		left = append(left, line.U0)
		right = append(right, line.U1)
		if i == 1 {
			p.Leading = l.Lines[lines[0]].V - line.V
		}
	}
	tol := 0.15 * p.Size
	if n := len(lines); n > 1 {
		p.Indent = left[0] - left[1]
		if math.Abs(p.Indent) < tol {
			p.Indent = 0
		}
		evenLeft, evenRight, centred := true, true, true
		for i := 1; i < n; i++ {
			evenLeft = evenLeft && math.Abs(left[i]-left[1]) < tol
			centred = centred && math.Abs((left[i]+right[i])-(left[0]+right[0])) < 2*tol
		}
		for i := 0; i < n-1; i++ {
			evenRight = evenRight && math.Abs(right[i]-right[0]) < tol
		}
		lastRight := math.Abs(right[n-1]-right[0]) < tol
		switch {
		case evenLeft && evenRight && (n > 2 || lastRight || right[0] > b.u1-tol && n == 2 && right[0]-left[0] > 20*p.Size):
			p.Align = Justified
		case evenLeft:
		case centred:
			p.Align, p.Indent = Centred, 0
		case evenRight && lastRight:
			p.Align, p.Indent = Right, 0
		}
	}
	l.Paragraphs = append(l.Paragraphs, p)
}

// AppendParagraph writes a paragraph's text: its lines joined by spaces, words that were parted by a hyphen at a line's end whole.
func (l *Page) AppendParagraph(b []byte, p *Paragraph) []byte {
	start := len(b)
	for i, k := range p.Lines {
		if i > 0 && len(b) > start {
			b = l.joinLines(b, start, &l.Lines[k])
		}
		b = l.AppendLine(b, &l.Lines[k])
	}
	return b
}

// ParagraphText gives a paragraph's text.
func (l *Page) ParagraphText(p *Paragraph) string { return string(l.AppendParagraph(nil, p)) }

// joinLines prepares b for the next line: without the hyphen of a parted word, else with a space, but none between wide characters.
func (l *Page) joinLines(b []byte, start int, next *Line) []byte {
	if len(next.Words) == 0 {
		return b
	}
	w := &l.Words[next.Words[0]]
	first, _ := utf8.DecodeRune(l.text[w.from:w.to])
	last, n := utf8.DecodeLastRune(b[start:])
	if HyphenAtEnd(b[start:]) && unicode.IsLower(first) {
		return b[:len(b)-n]
	}
	if last == 0xad {
		return b[:len(b)-n]
	}
	if wideRune(last) && wideRune(first) {
		return b
	}
	return append(b, ' ')
}

// HyphenAtEnd reports whether text ends with a hyphen behind a letter.
func HyphenAtEnd(b []byte) bool {
	last, n := utf8.DecodeLastRune(b)
	if last != '-' && last != 0x2010 && last != 0xad {
		return false
	}
	before, _ := utf8.DecodeLastRune(b[:len(b)-n])
	return unicode.IsLetter(before)
}

func wideRune(r rune) bool {
	return r >= 0x2e80 && r <= 0x9fff || r >= 0xac00 && r <= 0xd7ff || r >= 0xf900 && r <= 0xfaff || r >= 0xff00 && r <= 0xffef || r >= 0x20000 && r <= 0x3ffff
}
