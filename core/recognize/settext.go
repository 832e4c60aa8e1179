package recognize

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/claim"
	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/font"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/scan"
	"glenrain/core/step"
)

// SetText is the step "set-text": recognized text becomes real text, and its letters are taken out of the picture.
type SetText struct {
	Pages step.Pages `json:"pages" help:"which pages; their text has to be recognized"`
	// Straight asks that pages that lie askew are set straight with it.
	Straight bool   `json:"straight" help:"straighten tilted pages"`
	Keep     string `json:"keep,omitempty" help:"pages to keep as pictures, by key (0.3), or blocks (0.3:2), counted from 0"`
}

// kept tells what stays a picture.
type kept struct {
	pages  map[step.Key]bool
	blocks map[step.Key]map[int]bool
}

const mostKept = 20_000

func readKept(s string) (*kept, error) {
	out := &kept{map[step.Key]bool{}, map[step.Key]map[int]bool{}}
	list := strings.Fields(s)
	if len(list) > mostKept {
		return nil, step.Refuse("more than %s blocks are listed to keep as pictures", step.Thousands(mostKept))
	}
	for _, part := range list {
		name, block, one := strings.Cut(part, ":")
		key, err := step.ParseKey(name)
		if err != nil {
			return nil, step.Refuse("there is no page %q", name)
		}
		if !one {
			out.pages[key] = true
			continue
		}
		n, err := strconv.Atoi(block)
		if err != nil || n < 0 {
			return nil, step.Refuse("there is no block %q", part)
		}
		if out.blocks[key] == nil {
			out.blocks[key] = map[int]bool{}
		}
		out.blocks[key][n] = true
	}
	return out, nil
}

// Block is a paragraph, or a table, of recognized text.
type Block struct {
	Box   pdf.Rect
	Words []int // of the layer, counted from 0, in its order
	Text  string
}

// Blocks gives the blocks of a page's recognized text, as its layout finds them.
func Blocks(ctx context.Context, doc *pdf.Document, ref pdf.Ref) ([]Block, error) {
	u, _, ok := Layer(doc, ref)
	if !ok {
		return nil, nil
	}
	p, err := content.NewReader(doc).Page(ctx, ref, content.Options{NoAnnotations: true, Paths: true})
	if err != nil {
		return nil, err
	}
	return blocksOf(p, doc.Geometry(ref), u), nil
}

func blocksOf(p *content.Page, g pdf.Geometry, u *draw.Invisible) (out []Block) {
	l := layout.Read(p, g.Visible, nil)
	type place struct {
		x, y float64
		word int
	}
	var places []place
	n := 0
	for i := range u.Lines {
		for _, w := range u.Lines[i].Words {
			places = append(places, place{w.X, w.Y, n})
			n++
		}
	}
	slices.SortFunc(places, func(a, b place) int { return cmp.Compare(a.x, b.x) })
	// at gives the word of the layer that begins at a place.
	const slack = 0.3
	taken := make([]bool, n)
	at := func(x, y float64) int {
		from, _ := slices.BinarySearchFunc(places, x-slack, func(p place, x float64) int { return cmp.Compare(p.x, x) })
		for ; from < len(places) && places[from].x <= x+slack; from++ {
			if p := places[from]; math.Abs(p.y-y) <= slack && !taken[p.word] {
				return p.word
			}
		}
		return -1
	}
	wordOf := make([]int, n)
	for i := range wordOf {
		wordOf[i] = -1
	}
	last := -1 // the block of the table that goes on
	block := 0
	for i := range l.Paragraphs {
		para := &l.Paragraphs[i]
		var words []int
		for _, line := range para.Lines {
			for _, k := range l.Lines[line].Words {
				for _, gl := range l.Glyphs(&l.Words[k]) { // what the layout joins may be several words of the layer
					if w := at(p.Glyphs[gl].X, p.Glyphs[gl].Y); w >= 0 {
						taken[w] = true
						words = append(words, w)
					}
				}
			}
		}
		if len(words) == 0 {
			continue
		}
		if !para.Cell || last < 0 {
			last = block
			block++
		}
		for _, w := range words {
			wordOf[w] = last
		}
		if !para.Cell {
			last = -1
		}
	}
	if slices.Contains(wordOf, -1) { // words that no paragraph has
		for i, b := range wordOf {
			if b < 0 {
				wordOf[i] = block
			}
		}
		block++
	}
	out = make([]Block, block)
	n = 0
	for i := range u.Lines {
		line := &u.Lines[i]
		for k := range line.Words {
			b := &out[wordOf[n]]
			b.Words = append(b.Words, n)
			box := wordBox(line, k)
			if len(b.Words) == 1 {
				b.Box = box
			} else {
				b.Box = around(b.Box, box)
				b.Text += " "
			}
			b.Text += line.Words[k].Text
			n++
		}
	}
	return slices.DeleteFunc(out, func(b Block) bool { return len(b.Words) == 0 })
}

// wordBox gives the upright rectangle around a word.
func wordBox(l *draw.InvisibleLine, k int) pdf.Rect {
	w := l.Words[k]
	sin, cos := math.Sincos(l.Angle * math.Pi / 180)
	m := pdf.Matrix{cos, sin, -sin, cos, w.X, w.Y}
	return m.Bounds(pdf.Rect{X0: 0, Y0: -below * l.Size, X1: w.Long, Y1: capitals * l.Size})
}

// Apply sets the text.
func (s *SetText) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	keep, err := readKept(s.Keep)
	if err != nil {
		return nil, err
	}
	refs, err := s.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	res := &step.Result{Redrawn: step.RedrawPages, Adds: claim.Foreign}
	index := doc.PageIndexes(refs)
	faces := &faces{doc: doc, set: map[string]*font.Embedding{}}
	var left leftOut
	var done []pdf.Ref
	blocks, stay := 0, 0
	for i, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		key := env.Keys.Key(ref)
		if keep.pages[key] {
			continue
		}
		if !env.Wants(ref) {
			done = append(done, ref)
			continue
		}
		n, k := 0, 0
		err := inTurn(ctx, func() (err error) {
			if s.Straight {
				if _, err := straighten(ctx, doc, content.NewReader(doc), ref, scan.Wish{Straight: true}); err != nil && !errors.As(err, new(*errSheet)) {
					return err
				}
			}
			n, k, err = setPage(ctx, doc, content.NewReader(doc), ref, keep.blocks[key], faces)
			return err
		})
		var not *errSheet
		switch {
		case errors.As(err, &not):
			left.add(not.why, index[i])
		case err != nil:
			return nil, err
		case n == 0:
			left.add("the whole page stays a picture", index[i])
		default:
			done = append(done, ref)
			blocks, stay = blocks+n, stay+k
		}
		env.Report(i+1, len(refs))
	}
	faces.finish()
	res.Warnings = left.tell(doc)
	if len(done) == 0 {
		if len(res.Warnings) > 0 {
			return nil, step.Refuse("%s", strings.TrimSuffix(strings.Join(res.Warnings, " "), "."))
		}
		return nil, step.Refuse("all pages stay pictures")
	}
	res.Pages, res.Show = env.Keys.Of(done), env.Keys.Key(done[0])
	res.Sentence = step.Sentence(step.NamedIn(doc, doc.PageIndexes(done))) + " changed to editable text"
	if stay > 0 {
		res.Sentence += fmt.Sprintf(", but for %s", step.Count(stay, "block"))
	}
	if n := len(faces.lacked); n > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("%s with characters that no font here has stayed as pictures.", step.Sentence(step.Count(faces.kept, "block"))))
	}
	return res, nil
}

// setPage makes the blocks of a page real text, but for those that are kept. n are set, stay are not.
func setPage(ctx context.Context, doc *pdf.Document, reader *content.Reader, ref pdf.Ref, keep map[int]bool, f *faces) (n, stay int, err error) {
	u, note, ok := Layer(doc, ref)
	if !ok {
		return 0, 0, &errSheet{"no text was recognized here"}
	}
	s, err := sheetOf(ctx, doc, reader, ref)
	if err != nil {
		return 0, 0, err
	}
	px, err := s.planes(doc)
	if err != nil {
		return 0, 0, err
	}
	if dpi := s.dpi(px); dpi < 0.95*leastDPI {
		return 0, 0, &errSheet{fmt.Sprintf("the scan’s resolution is too low (%.0f dpi; at least %d is needed)", dpi, leastDPI)}
	}
	blocks := blocksOf(s.page, s.geo, u)
	b := newBare(px, s.toPage(px))
	gone := map[int]bool{}
	var lines []draw.SetLine
	chosen := f.choose(b, u, blocks)
	for i := range blocks {
		if keep[i] || len(chosen[i].lines) == 0 {
			stay++
			continue
		}
		n++
		colour := b.colour(u, &blocks[i])
		for _, w := range blocks[i].Words {
			gone[w] = true
		}
		set, err := f.setLines(u, &blocks[i], chosen[i].lines, colour)
		if err != nil {
			return 0, 0, err
		}
		lines = append(lines, set...)
		b.take(u, &blocks[i])
	}
	if n == 0 {
		return 0, stay, nil
	}
	b.fill()
	if err := s.swap(doc, px); err != nil {
		return 0, 0, err
	}
	without(u, &note, gone)
	u.Note = note.String()
	if _, err := draw.DropInvisible(doc, ref); err != nil {
		return 0, 0, err
	}
	if err := draw.SetText(doc, ref, lines); err != nil {
		return 0, 0, err
	}
	return n, stay, draw.PutInvisible(doc, ref, u)
}

// leastDPI is how fine a scan is at least whose letters can be measured and told from one another.
const leastDPI = 100

// Bounds of how much the letters of a face are stretched to take the room of those in the picture, in hundredths.
const (
	leastStretch = 70.0
	mostStretch  = 140.0
)

// setLines sets the words of a block in the faces of its lines: the size is that of the lines, each begins where it began.
func (f *faces) setLines(u *draw.Invisible, b *Block, names []string, colour [3]float64) (out []draw.SetLine, err error) {
	mine := map[int]bool{}
	for _, w := range b.Words {
		mine[w] = true
	}
	var sizes []float64
	var wide, natural float64
	n := 0
	for i := range u.Lines {
		l := &u.Lines[i]
		line := draw.SetLine{Size: l.Size * capitals, Angle: level(l.Angle), Colour: colour}
		for _, w := range l.Words {
			if mine[n] {
				line.Words = append(line.Words, w)
			}
			n++
		}
		if len(line.Words) == 0 {
			continue
		}
		if line.Face, err = f.use(names[min(len(out), len(names)-1)]); err != nil {
			return nil, err
		}
		line.Size /= capHeight(line.Face.Face)
		out = append(out, line)
		sizes = append(sizes, line.Size)
	}
	if len(out) == 0 {
		return nil, nil
	}
	slices.Sort(sizes)
	size := sizes[len(sizes)/2]
	for i := range out {
		if l := &out[i]; math.Abs(l.Size-size) < 0.15*size {
			l.Size = size
		}
		for _, w := range out[i].Words {
			_, width, _ := out[i].Face.Encode(w.Text)
			wide, natural = wide+w.Long, natural+width/1000*out[i].Size
		}
	}
	// Height and width are both measured, and neither is measured well: what they agree on is the size, in half points.
	whole := 1.0
	if natural > 0 {
		whole = wide / natural
	}
	if whole > 0.85 && whole < 1.18 {
		for i := range out {
			out[i].Size = max(0.5, math.Round(out[i].Size*math.Sqrt(whole)*4)/4)
		}
	} else if len(b.Text) >= 12 { // the heights are mistaken: boxes of small print take in what stands above and below
		for i := range out {
			var long, own float64
			for _, w := range out[i].Words {
				_, width, _ := out[i].Face.Encode(w.Text)
				long, own = long+w.Long, own+width/1000
			}
			if own > 0 {
				out[i].Size = max(0.5, math.Round(long/own*4)/4)
			}
		}
		even := make([]float64, len(out))
		for i := range out {
			even[i] = out[i].Size
		}
		slices.Sort(even)
		for i := range out {
			if mid := even[len(even)/2]; math.Abs(out[i].Size-mid) < 0.15*mid {
				out[i].Size = mid
			}
		}
	}
	var stretches []float64
	for i := range out {
		var long, own float64
		for _, w := range out[i].Words {
			_, width, _ := out[i].Face.Encode(w.Text)
			long, own = long+w.Long, own+width/1000*out[i].Size
		}
		if own > 0 {
			stretches = append(stretches, long/own)
		}
	}
	usual := 1.0
	if len(stretches) > 0 {
		slices.Sort(stretches)
		usual = stretches[len(stretches)/2]
	}
	var parts []draw.SetLine
	for _, l := range out {
		for from := 0; from < len(l.Words); {
			to := from + 1
			for to < len(l.Words) && along(l, to)-along(l, to-1)-l.Words[to-1].Long < wideGap*l.Size {
				to++
			}
			part := l
			part.Words = slices.Clone(l.Words[from:to])
			flow(&part, usual)
			parts = append(parts, part)
			from = to
		}
	}
	return parts, nil
}

// Spaces between words, in parts of the size: wider gaps part a line, others are evened within bounds.
const (
	wideGap    = 1.2
	leastSpace = 0.16
	mostSpace  = 0.6
	usualSpace = 0.25
)

// along is where a word begins on its line.
func along(l draw.SetLine, k int) float64 {
	sin, cos := math.Sincos(l.Angle * math.Pi / 180)
	return (l.Words[k].X-l.Words[0].X)*cos + (l.Words[k].Y-l.Words[0].Y)*sin
}

// flow sets the words of a line as they are typed: stretched as the block is, with even spaces that take up what is left.
func flow(l *draw.SetLine, usual float64) {
	n := len(l.Words)
	whole := along(*l, n-1) + l.Words[n-1].Long
	own := 0.0
	wide := make([]float64, n)
	for i, w := range l.Words {
		_, width, _ := l.Face.Encode(w.Text)
		wide[i] = width / 1000 * l.Size
		own += wide[i]
	}
	if own == 0 {
		l.Stretch = 100
		return
	}
	stretch, space := usual, 0.0
	if n > 1 {
		space = (whole - own*stretch) / float64(n-1)
		if space < leastSpace*l.Size || space > mostSpace*l.Size {
			space = usualSpace * l.Size
			stretch = (whole - space*float64(n-1)) / own
		}
	} else if s := whole / own; math.Abs(s-usual) > 0.12 {
		stretch = s
	}
	l.Stretch = math.Round(max(leastStretch, min(mostStretch, 100*stretch))*10) / 10
	sin, cos := math.Sincos(l.Angle * math.Pi / 180)
	x, y, at := l.Words[0].X, l.Words[0].Y, 0.0
	for i := range l.Words {
		l.Words[i].X, l.Words[i].Y = x+at*cos, y+at*sin
		at += wide[i]*l.Stretch/100 + space
	}
}

// level gives the angle of a line that is all but level, or upright, as that.
func level(angle float64) float64 {
	if q := math.Round(angle/90) * 90; math.Abs(angle-q) < 0.25 {
		return q
	}
	return angle
}

// capHeight is how high the capitals of a face are, in parts of its size.
func capHeight(f *font.TrueType) float64 {
	if f.CapHeight <= 0 {
		return capitals
	}
	return float64(f.CapHeight) / float64(f.UnitsPerEm)
}
