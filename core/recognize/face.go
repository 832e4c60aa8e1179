package recognize

import (
	"cmp"
	"image"
	"image/color"
	"math"
	"slices"
	"sync"

	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"

	xfont "golang.org/x/image/font"

	"glenrain/core/draw"
	"glenrain/core/font"
	"glenrain/core/pdf"
)

// faces are those in which a document's recognized text is set.
type faces struct {
	doc    *pdf.Document
	set    map[string]*font.Embedding
	lacked map[rune]bool
	kept   int // blocks that stay pictures, since no face has their letters
}

// use gives the embedding of a face.
func (f *faces) use(name string) (*font.Embedding, error) {
	if e, ok := f.set[name]; ok {
		return e, nil
	}
	face, err := font.Face(name)
	if err != nil {
		return nil, err
	}
	f.set[name] = font.Embed(f.doc, face)
	return f.set[name], nil
}

// setIn are the faces that recognized text is set in, and compared with.
var setIn = []string{"Mono", "Sans", "Sans Bold", "Sans Italic", "Serif", "Serif Bold", "Serif Italic"}

func (f *faces) finish() {
	for _, name := range setIn {
		if e := f.set[name]; e != nil {
			e.Finish(f.doc)
		}
	}
}

// choice tells in which faces the lines of a block are set.
type choice struct {
	lines []string // by strip; empty: no face has the letters of the block
}

// looks is what was found by looking at some words: how much they differ from the faces, and how many letters they have.
type looks struct {
	off map[string]float64
	n   int
}

func (l *looks) add(o looks) {
	if l.off == nil {
		l.off = map[string]float64{}
	}
	for name, v := range o.off {
		l.off[name] += v
	}
	l.n += o.n
}

// Words that are looked at to find the face of a block, and how their pictures are compared: rows for the room from below the baseline to above the capitals.
const (
	lookedAt  = 5
	mostWide  = 400
	lookRows  = 28
	lookLow   = -0.25 // parts of the size
	lookHigh  = 0.8
	perSize   = lookRows / (lookHigh - lookLow)
	plainBy   = 0.97 // faces that are neither bold nor italic are likelier
	commonBy  = 0.98 // and so is the one that fits the page best
	leastText = 4    // letters by which a face can be told
)

// choose finds the shipped face that is nearest for each line of each block: its words are drawn in all of them, and held against the picture. A line takes after its
// block where it is as well, and a block after its page.
func (f *faces) choose(b *bare, u *draw.Invisible, blocks []Block) []choice {
	out := make([]choice, len(blocks))
	lines := make([][]looks, len(blocks))
	of := make([]looks, len(blocks))
	var whole looks
	b.darkest = b.inkOf(u, blocks)
	for i := range blocks {
		for _, s := range b.strips(u, &blocks[i]) {
			l := b.look(&s)
			lines[i] = append(lines[i], l)
			of[i].add(l)
		}
		whole.add(of[i])
	}
	page := nearest(whole, "")
	for i := range out {
		block := page
		if of[i].n >= leastText {
			block = nearest(of[i], page)
		}
		var fallback string
		for _, try := range []string{block, "Sans", "Serif"} {
			if face, err := font.Face(try); err == nil && has(face, blocks[i].Text) {
				fallback = try
				break
			}
		}
		if fallback == "" {
			f.lack(blocks[i].Text)
			continue
		}
		for _, l := range lines[i] {
			name := fallback
			if l.n >= leastText && fallback == block {
				name = nearest(l, block)
				if face, err := font.Face(name); err != nil || !has(face, blocks[i].Text) {
					name = fallback
				}
			}
			out[i].lines = append(out[i].lines, name)
		}
	}
	return out
}

func (f *faces) lack(text string) {
	if f.lacked == nil {
		f.lacked = map[rune]bool{}
	}
	for _, r := range text {
		f.lacked[r] = true
	}
	f.kept++
}

// look holds some words of a line against the faces.
func (b *bare) look(s *strip) looks {
	out := looks{off: map[string]float64{}}
	var words []int
	for k, w := range s.words {
		if n := len([]rune(w.Text)); n > 2 || n > 0 && len(s.words) < 6 {
			words = append(words, k)
		}
	}
	slices.SortStableFunc(words, func(x, y int) int { return cmp.Compare(fits(s.words[y].Text), fits(s.words[x].Text)) })
	for _, k := range words[:min(len(words), lookedAt)] {
		seen := b.seen(s, k)
		if seen == nil {
			continue
		}
		text := s.words[k].Text
		n := len([]rune(text))
		out.n += n
		for _, name := range setIn {
			out.off[name] += float64(n) * differ(seen, drawnWord(name, text, seen.Rect.Dx()))
		}
	}
	return out
}

// fits is how much a word tells of its face: up to a dozen letters, the more the better.
func fits(s string) int {
	n := len([]rune(s))
	if n > 12 {
		return 24 - n
	}
	return n
}

// nearest gives the face whose letters differ least.
func nearest(l looks, common string) string {
	best, least := "Sans", math.Inf(1)
	for _, name := range setIn {
		v, ok := l.off[name]
		if !ok {
			continue
		}
		if name == "Sans" || name == "Serif" {
			v *= plainBy
		}
		if name == common {
			v *= commonBy
		}
		if v < least {
			best, least = name, v
		}
	}
	return best
}

// has reports whether a face has the letters of a text.
func has(f *font.TrueType, s string) bool {
	for _, r := range s {
		if r != ' ' && f.Glyph(r) == 0 {
			return false
		}
	}
	return true
}

// seen gives a word as the picture shows it, in rows of its own line, 0 paper to 255 ink.
func (b *bare) seen(s *strip, k int) *image.Gray {
	r := b.frame(s)
	if r.Empty() {
		return nil
	}
	paper, ink := b.levels(s, r)
	if abs(float64(ink-paper)) < leastContrast {
		return nil
	}
	if d := b.darkest; ink < paper && d < ink && float64(paper-ink) > 0.5*float64(paper-d) {
		ink = d // thin strokes are washed out: their ink is that of thicker ones
	}
	w := int(s.words[k].Long / s.size * perSize)
	if w < 6 || w > mostWide {
		return nil
	}
	back := s.toLine.Invert()
	out := image.NewGray(image.Rect(0, 0, w, lookRows))
	for y := range lookRows {
		up := (lookHigh - (float64(y)+0.5)/perSize) * s.size
		for x := range w {
			px, py := back.Apply(s.from[k]+(float64(x)+0.5)/perSize*s.size, up)
			v := b.at(px-0.5, py-0.5)
			out.Pix[y*out.Stride+x] = uint8(max(0, min(255, 255*(v-float64(paper))/float64(ink-paper))))
		}
	}
	return out
}

// inkOf gives how dark the darkest letters of a page are.
func (b *bare) inkOf(u *draw.Invisible, blocks []Block) int {
	least := 255
	for i := range blocks {
		for _, s := range b.strips(u, &blocks[i]) {
			if r := b.frame(&s); !r.Empty() {
				if paper, ink := b.levels(&s, r); ink < paper-leastContrast {
					least = min(least, ink)
				}
			}
		}
	}
	return least
}

// at gives how light the picture is between pixels.
func (b *bare) at(x, y float64) float64 {
	w, h := b.gray.Rect.Dx(), b.gray.Rect.Dy()
	x, y = max(0, min(float64(w)-1.001, x)), max(0, min(float64(h)-1.001, y))
	ix, iy := int(x), int(y)
	ax, ay := x-float64(ix), y-float64(iy)
	at := func(x, y int) float64 { return float64(b.gray.Pix[min(h-1, y)*b.gray.Stride+min(w-1, x)]) }
	return (at(ix, iy)*(1-ax)+at(ix+1, iy)*ax)*(1-ay) + (at(ix, iy+1)*(1-ax)+at(ix+1, iy+1)*ax)*ay
}

// drawers are the shipped faces as they are drawn for looking at them, each twice as large as it is compared.
var drawers = sync.OnceValue(func() map[string]xfont.Face {
	out := map[string]xfont.Face{}
	for _, name := range setIn {
		f, err := opentype.Parse(font.File(name))
		if err != nil {
			continue
		}
		t, err := font.Face(name)
		if err != nil {
			continue
		}
		face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: 2 * perSize * capitals / capHeight(t), DPI: 72, Hinting: xfont.HintingNone})
		if err == nil {
			out[name] = face
		}
	}
	return out
})

var drawing sync.Mutex // a drawer draws for one at a time

// drawnWord draws a word in a face, made as wide as it is in the picture.
func drawnWord(name, text string, wide int) *image.Gray {
	drawing.Lock()
	defer drawing.Unlock()
	face := drawers()[name]
	if face == nil {
		return nil
	}
	w := xfont.MeasureString(face, text).Ceil()
	if w < 2 || w > 8*mostWide {
		return nil
	}
	img := image.NewGray(image.Rect(0, 0, w, 2*lookRows))
	base := 2 * lookHigh * perSize
	d := xfont.Drawer{Dst: img, Src: image.NewUniform(color.White), Face: face, Dot: fixed.Point26_6{Y: fixed.Int26_6(base * 64)}}
	d.DrawString(text)
	out := image.NewGray(image.Rect(0, 0, wide, lookRows))
	for y := range lookRows {
		for x := range wide {
			x0, x1 := x*w/wide, max(x*w/wide+1, (x+1)*w/wide)
			sum, n := 0, 0
			for i := x0; i < min(w, x1); i++ {
				sum += int(img.Pix[2*y*img.Stride+i]) + int(img.Pix[(2*y+1)*img.Stride+i])
				n += 2
			}
			out.Pix[y*out.Stride+x] = uint8(sum / max(1, n))
		}
	}
	return out
}

// differ tells how much two pictures of a word differ, of 0 to 1, at the best of a few places they can be laid on one another.
func differ(a, b *image.Gray) float64 {
	if b == nil {
		return 1
	}
	w, h := a.Rect.Dx(), a.Rect.Dy()
	best := math.Inf(1)
	for dy := -2; dy <= 2; dy++ {
		for dx := -2; dx <= 2; dx++ {
			sum := 0
			for y := range h {
				sy := y + dy
				for x := range w {
					v := 0
					if sx := x + dx; sx >= 0 && sy >= 0 && sx < w && sy < h {
						v = int(b.Pix[sy*b.Stride+sx])
					}
					d := int(a.Pix[y*a.Stride+x]) - v
					sum += max(d, -d)
				}
			}
			best = min(best, float64(sum)/255/float64(w*h))
		}
	}
	return best
}
