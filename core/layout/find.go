package layout

import (
	"bytes"
	"errors"
	"math"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"glenrain/core/pdf"
)

// softHyphen stands in a reading where a hyphen at a line's end was undone.
const softHyphen = '\u00ad'

// Reading is a page's text as it is searched and copied: the paragraphs in the order of reading with a line feed between
// them, the cells of a row with a tab; where a word was parted at a line's end, U+00AD stands for the hyphen.
type Reading struct {
	Text  string
	Words []WordAt // in its order
}

// WordAt is where a word of the page stands in a reading, in bytes.
type WordAt struct{ Word, From, To int }

// Reading gives the page's text with the words that it is made of.
func (l *Page) Reading() Reading {
	var r Reading
	var b []byte
	row := -1
	for i := range l.Paragraphs {
		p := &l.Paragraphs[i]
		at := l.Lines[p.Lines[0]].row
		if i > 0 {
			if p.Cell && l.Paragraphs[i-1].Cell && l.Paragraphs[i-1].Block == p.Block && at == row {
				b = append(b, '\t')
			} else {
				b = append(b, '\n')
			}
		}
		row = at
		start := len(b)
		for n, k := range p.Lines {
			line := &l.Lines[k]
			if n > 0 && len(b) > start {
				was := len(b)
				if b = l.joinLines(b, start, line); len(b) < was { // a hyphen went
					b = utf8.AppendRune(b, softHyphen)
					r.Words[len(r.Words)-1].To = len(b)
				}
			}
			for j, wi := range line.Words {
				w := &l.Words[wi]
				if j > 0 && w.Gap {
					b = append(b, ' ')
				}
				from := len(b)
				b = append(b, l.text[w.from:w.to]...)
				r.Words = append(r.Words, WordAt{wi, from, len(b)})
			}
		}
	}
	r.Text = string(b)
	return r
}

// Annotations gives the parts of a reading, from and to in bytes, that stand in appearances of annotations; words that follow one another make
// one part.
func (l *Page) Annotations(r Reading) (parts [][2]int) {
	joined := false
	for _, at := range r.Words {
		if !l.Annotation(&l.Words[at.Word]) {
			joined = false
			continue
		}
		if joined {
			parts[len(parts)-1][1] = at.To
		} else {
			parts = append(parts, [2]int{at.From, at.To})
		}
		joined = true
	}
	return parts
}

// Plain gives a reading's text for people: without the marks of undone hyphens.
func (r Reading) Plain() string { return strings.ReplaceAll(r.Text, string(softHyphen), "") }

// Quad is a piece of a line: its lower left, lower right, upper right and upper left corner on the page, as the text runs.
type Quad [4][2]float64

// Box gives the upright rectangle around it.
func (q Quad) Box() pdf.Rect {
	out := pdf.Rect{X0: math.Inf(1), Y0: math.Inf(1), X1: math.Inf(-1), Y1: math.Inf(-1)}
	for _, c := range q {
		out.X0, out.Y0, out.X1, out.Y1 = min(out.X0, c[0]), min(out.Y0, c[1]), max(out.X1, c[0]), max(out.Y1, c[1])
	}
	return out
}

// Points gives the corners as annotations have them: upper left, upper right, lower left, lower right (12.5.6.10, as readers take it).
func (q Quad) Points() [8]float64 {
	return [8]float64{q[3][0], q[3][1], q[2][0], q[2][1], q[0][0], q[0][1], q[1][0], q[1][1]}
}

// Quads gives the pieces of lines that a part of the reading takes.
func (l *Page) Quads(r Reading, from, to int) []Quad {
	type piece struct {
		line, frame    int
		u0, u1, v0, v1 float64
	}
	var pieces []piece
	i, _ := slices.BinarySearchFunc(r.Words, from, func(w WordAt, at int) int { return w.To - at - 1 })
	for ; i < len(r.Words) && r.Words[i].From < to; i++ {
		at := r.Words[i]
		w := &l.Words[at.Word]
		u0, u1 := l.extent(w, max(from-at.From, 0), min(to, at.To)-at.From)
		v0, v1 := w.V+w.down*w.Size, w.V+w.up*w.Size
		if w.vertical {
			v0, v1 = w.V-w.Size/2, w.V+w.Size/2
		}
		if n := len(pieces); n > 0 && pieces[n-1].line == w.Line {
			p := &pieces[n-1]
			p.u0, p.u1, p.v0, p.v1 = min(p.u0, u0), max(p.u1, u1), min(p.v0, v0), max(p.v1, v1)
			continue
		}
		pieces = append(pieces, piece{w.Line, int(w.frame), u0, u1, v0, v1})
	}
	out := make([]Quad, len(pieces))
	for i, p := range pieces {
		f := l.frames[p.frame]
		for k, c := range [4][2]float64{{p.u0, p.v0}, {p.u1, p.v0}, {p.u1, p.v1}, {p.u0, p.v1}} {
			out[i][k][0], out[i][k][1] = f.back(c[0], c[1])
		}
	}
	return out
}

// Under gives the parts of the reading, from and to in bytes, whose letters have their middle in one of the areas; letters that
// follow one another make one part.
func (l *Page) Under(r Reading, areas []pdf.Rect) (parts [][2]int) {
	in := func(b pdf.Rect) bool {
		x, y := (b.X0+b.X1)/2, (b.Y0+b.Y1)/2
		return slices.ContainsFunc(areas, func(a pdf.Rect) bool { return x >= a.X0 && x <= a.X1 && y >= a.Y0 && y <= a.Y1 })
	}
	last := -2 // the word in which the last part ends, where it reaches its end
	for i, at := range r.Words {
		box := l.Box(&l.Words[at.Word])
		if !slices.ContainsFunc(areas, func(a pdf.Rect) bool { return a.X0 <= box.X1 && a.X1 >= box.X0 && a.Y0 <= box.Y1 && a.Y1 >= box.Y0 }) {
			continue
		}
		whole := strings.TrimSuffix(r.Text[at.From:at.To], string(softHyphen))
		for k, n := 0, 0; k < len(whole); k += n {
			_, n = utf8.DecodeRuneInString(whole[k:])
			from, to := at.From+k, at.From+k+n
			if q := l.Quads(r, from, to); len(q) == 0 || !in(q[0].Box()) {
				continue
			}
			if to == at.From+len(whole) {
				to = at.To
			}
			end := len(parts) - 1
			switch {
			case end >= 0 && parts[end][1] == from, k == 0 && last == i-1:
				parts[end][1] = to
			default:
				parts = append(parts, [2]int{from, to})
			}
			if to == at.To {
				last = i
			}
		}
	}
	return parts
}

// extent gives where bytes a to b of a word begin and end along its line.
func (l *Page) extent(w *Word, a, b int) (u0, u1 float64) {
	length := int(w.to - w.from)
	if a <= 0 && b >= length {
		return w.U0, w.U1
	}
	glyphs := l.Glyphs(w)
	f := l.frames[w.frame]
	u0, u1 = math.Inf(1), math.Inf(-1)
	at, total := 0, 0
	for _, g := range glyphs {
		total += len(l.Source.Glyphs[g].Char.Text)
	}
	for _, g := range glyphs {
		gl := &l.Source.Glyphs[g]
		n := len(gl.Char.Text)
		// Where accents were put together the glyphs' texts are not the word's: in proportion.
		from, to := at*length/total, (at+n)*length/total
		at += n
		if to <= a || from >= b {
			continue
		}
		x, _ := f.of(gl.X, gl.Y)
		y, _ := f.of(gl.EX, gl.EY)
		if y < x {
			x, y = y, x
		}
		// Of a ligature, its part.
		if to > from && !w.rtl {
			lo, hi := float64(max(a, from)-from)/float64(to-from), float64(min(b, to)-from)/float64(to-from)
			x, y = x+(y-x)*lo, x+(y-x)*hi
		}
		u0, u1 = min(u0, x), max(u1, y)
	}
	if u0 > u1 {
		return w.U0, w.U1
	}
	return u0, u1
}

// Query is what is looked for in readings.
type Query struct {
	Text    string
	Case    bool // capitals matter
	Words   bool // whole words only
	Accents bool // accents matter
	Pattern bool // Text is a regular expression (RE2)
}

// Errors of a query that can't be looked for.
var (
	ErrEmptyQuery   = errors.New("type some words to search for")
	ErrLongQuery    = errors.New("the search text is longer than 500 characters")
	ErrPatternQuery = errors.New("the pattern isn’t valid")
	ErrLargeQuery   = errors.New("the pattern is too large: it repeats too much")
)

// Finder looks for a query. It may be used by several goroutines.
type Finder struct {
	q      Query
	needle []byte
	re     *regexp.Regexp
}

// largestPattern is how many instructions a pattern may have: each letter of the text may meet all of them.
const largestPattern = 1000

// tooLarge reports whether a pattern has more instructions than that.
func tooLarge(pattern string) (bool, error) {
	parsed, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return false, err
	}
	prog, err := syntax.Compile(parsed.Simplify())
	if err != nil {
		return false, err
	}
	return len(prog.Inst) > largestPattern, nil
}

// Compile makes a query ready. A pattern takes time in proportion to the text and to its own size, which is bounded.
func (q Query) Compile() (*Finder, error) {
	f := &Finder{q: q}
	switch {
	case len(q.Text) > 500:
		return nil, ErrLongQuery
	case q.Pattern:
		flags := "(?m)"
		if !q.Case {
			flags = "(?im)"
		}
		if large, err := tooLarge(flags + q.Text); err != nil {
			return nil, ErrPatternQuery
		} else if large {
			return nil, ErrLargeQuery
		}
		re, err := regexp.Compile(flags + q.Text)
		if err != nil {
			return nil, ErrPatternQuery
		}
		if q.Text == "" {
			return nil, ErrEmptyQuery
		}
		f.re = re
		return f, nil
	}
	f.needle, _ = q.fold(strings.TrimSpace(q.Text), false)
	if len(f.needle) == 0 {
		return nil, ErrEmptyQuery
	}
	return f, nil
}

// fold gives text as it is compared, and for each of its bytes where that stands in the text: nil where at the same place. Undone
// hyphens go, or become hyphens again.
func (q Query) fold(text string, hyphens bool) (folded []byte, at []int32) {
	plain := true
	for i := 0; i < len(text); i++ {
		if c := text[i]; c >= 0x80 || c == '\n' || c == '\t' {
			plain = false
			break
		}
	}
	if plain {
		folded = []byte(text)
		if !q.Case && !q.Pattern {
			for i, c := range folded {
				if c >= 'A' && c <= 'Z' {
					folded[i] = c + 'a' - 'A'
				}
			}
		}
		return folded, nil
	}
	folded = make([]byte, 0, len(text)+16)
	at = make([]int32, 0, len(text)+16)
	put := func(r rune, i int) {
		folded = utf8.AppendRune(folded, r)
		for len(at) < len(folded) {
			at = append(at, int32(i))
		}
	}
	for i, r := range text {
		switch {
		case r == softHyphen:
			if hyphens {
				put('-', i)
			}
			continue
		case r == '\n' || r == '\t' || r == '\u00a0':
			put(' ', i)
			continue
		case r < 0x80:
			if !q.Case && !q.Pattern && r >= 'A' && r <= 'Z' {
				r += 'a' - 'A'
			}
			put(r, i)
			continue
		case q.Pattern:
			put(r, i)
			continue
		}
		switch r { // typographic signs are found by those of the keyboard
		case '‘', '’', '‚', '′':
			r = '\''
		case '“', '”', '„', '″':
			r = '"'
		case '‐', '‑', '–', '—', '−':
			r = '-'
		}
		if !q.Case {
			r = unicode.ToLower(r)
		}
		if r < 0x80 {
			put(r, i)
			continue
		}
		form := norm.NFKC
		if !q.Accents {
			form = norm.NFKD
		}
		for _, d := range form.String(string(r)) {
			if !q.Accents && unicode.Is(unicode.Mn, d) {
				continue
			}
			put(d, i)
		}
	}
	return folded, at
}

// Find gives where the query stands in a reading's text, as [from, to) in bytes; no more than most.
func (f *Finder) Find(text string, most int) [][2]int {
	out := f.find(text, false, most)
	// A hyphen that was undone may be one of the word's own.
	if strings.ContainsRune(text, softHyphen) && (f.re != nil || bytes.IndexByte(f.needle, '-') >= 0) {
		for _, h := range f.find(text, true, most) {
			if !slices.ContainsFunc(out, func(o [2]int) bool { return o[0] < h[1] && h[0] < o[1] }) {
				out = append(out, h)
			}
		}
		slices.SortFunc(out, func(a, b [2]int) int { return a[0] - b[0] })
	}
	return out[:min(len(out), most)]
}

func (f *Finder) find(text string, hyphens bool, most int) (out [][2]int) {
	folded, at := f.q.fold(text, hyphens)
	place := func(a, b int) [2]int {
		if at == nil {
			return [2]int{a, b}
		}
		last := int(at[b-1])
		_, n := utf8.DecodeRuneInString(text[last:])
		return [2]int{int(at[a]), last + n}
	}
	take := func(a, b int) bool {
		if a == b || f.q.Words && !(edge(folded, a) && edge(folded, b)) {
			return true
		}
		out = append(out, place(a, b))
		return len(out) < most
	}
	if f.re != nil {
		for _, m := range f.re.FindAllIndex(folded, most) {
			if !take(m[0], m[1]) {
				break
			}
		}
		return out
	}
	for from := 0; ; {
		i := bytes.Index(folded[from:], f.needle)
		if i < 0 {
			return out
		}
		if !take(from+i, from+i+len(f.needle)) {
			return out
		}
		from += i + max(1, len(f.needle))
	}
}

// edge reports whether a word begins or ends at a place.
func edge(b []byte, at int) bool {
	before, _ := utf8.DecodeLastRune(b[:at])
	after, _ := utf8.DecodeRune(b[at:])
	in := func(r rune) bool { return r != utf8.RuneError && (unicode.IsLetter(r) || unicode.IsDigit(r)) }
	return !in(before) || !in(after)
}

// Around gives a hit with what stands before and behind it, for a list: about so many characters, cut at words.
func Around(text string, hit [2]int, most int) (before, found, after string) {
	clean := func(s string) string {
		return strings.Map(func(r rune) rune {
			switch r {
			case softHyphen:
				return -1
			case '\n', '\t':
				return ' '
			}
			return r
		}, s)
	}
	from := hit[0]
	for n := 0; from > 0 && n < most && text[from-1] != '\n'; n++ {
		_, w := utf8.DecodeLastRuneInString(text[:from])
		from -= w
	}
	if from > 0 && text[from-1] != '\n' {
		if i := strings.IndexByte(text[from:hit[0]], ' '); i >= 0 {
			from += i + 1
		}
	}
	to := hit[1]
	for n := 0; to < len(text) && n < most && text[to] != '\n'; n++ {
		_, w := utf8.DecodeRuneInString(text[to:])
		to += w
	}
	if to < len(text) && text[to] != '\n' {
		if i := strings.LastIndexByte(text[hit[1]:to], ' '); i >= 0 {
			to = hit[1] + i
		}
	}
	return clean(text[from:hit[0]]), clean(text[hit[0]:hit[1]]), clean(text[hit[1]:to])
}

// Frame gives the text of what stands in a rectangle on the page, as rows and columns where it is set so: a line feed between rows, a tab
// between columns.
func (l *Page) Frame(r pdf.Rect) string {
	type item struct {
		w   *Word
		box pdf.Rect
	}
	var items []item
	for i := range l.Words {
		w := &l.Words[i]
		if l.Dropped(w) {
			continue
		}
		b := l.Box(w)
		if x, y := (b.X0+b.X1)/2, (b.Y0+b.Y1)/2; x >= r.X0 && x <= r.X1 && y >= r.Y0 && y <= r.Y1 {
			items = append(items, item{w, b})
		}
	}
	if len(items) == 0 {
		return ""
	}
	slices.SortStableFunc(items, func(a, b item) int { return int(b.w.V*16) - int(a.w.V*16) })
	// Columns: gaps that no word of any row stands over.
	spans := make([][2]float64, len(items))
	size := 0.0
	for i, it := range items {
		spans[i] = [2]float64{it.box.X0, it.box.X1}
		size += it.w.Size / float64(len(items))
	}
	slices.SortFunc(spans, func(a, b [2]float64) int {
		if a[0] < b[0] {
			return -1
		}
		return 1
	})
	var edges []float64 // where columns begin
	end := math.Inf(-1)
	for _, s := range spans {
		if s[0]-end > 0.7*size {
			edges = append(edges, s[0])
		}
		end = max(end, s[1])
	}
	var b strings.Builder
	for i := 0; i < len(items); {
		j := i + 1
		for j < len(items) && items[i].w.V-items[j].w.V < 0.5*max(items[i].w.Size, items[j].w.Size) {
			j++
		}
		row := items[i:j]
		slices.SortStableFunc(row, func(a, b item) int { return int(a.box.X0*16) - int(b.box.X0*16) })
		if i > 0 {
			b.WriteByte('\n')
		}
		column := 0
		for k, it := range row {
			at := column
			for at+1 < len(edges) && it.box.X0 >= edges[at+1]-0.1*size {
				at++
			}
			switch {
			case at > column:
				b.WriteString(strings.Repeat("\t", at-column))
			case k > 0 && it.box.X0-row[k-1].box.X1 > gapOfWords*it.w.Size:
				b.WriteByte(' ')
			}
			column = at
			b.WriteString(l.Text(it.w))
		}
		i = j
	}
	return b.String()
}
