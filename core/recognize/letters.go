package recognize

import (
	"image"
	"math"
	"slices"

	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/picture"
)

// bare is a picture from which letters are taken.
type bare struct {
	px     *picture.Planar
	gray   *image.Gray
	toPage pdf.Matrix
	gone   []bool

	darkest int // letter of the page
}

func newBare(px *picture.Planar, toPage pdf.Matrix) *bare {
	return &bare{px: px, gray: px.Gray(), toPage: toPage, gone: make([]bool, px.W()*px.H())}
}

// strip is what a block has of a line: its words, and the way from pixels to the line, where a place is how far along and how far up from the baseline it lies.
type strip struct {
	size   float64
	toLine pdf.Matrix
	words  []draw.InvisibleWord
	from   []float64 // where each word begins along the line
}

// strips gives the parts of lines that a block consists of.
func (b *bare) strips(u *draw.Invisible, of *Block) (out []strip) {
	mine := map[int]bool{}
	for _, w := range of.Words {
		mine[w] = true
	}
	n := 0
	for i := range u.Lines {
		l := &u.Lines[i]
		var s strip
		var to pdf.Matrix
		for _, w := range l.Words {
			n++
			if !mine[n-1] {
				continue
			}
			if len(s.words) == 0 {
				sin, cos := math.Sincos(l.Angle * math.Pi / 180)
				to = pdf.Matrix{cos, sin, -sin, cos, w.X, w.Y}.Invert()
				s.size, s.toLine = l.Size, b.toPage.Mul(to)
			}
			at, _ := to.Apply(w.X, w.Y)
			s.words, s.from = append(s.words, w), append(s.from, at)
		}
		if len(s.words) > 0 {
			out = append(out, s)
		}
	}
	return out
}

// Room around the words of a line in which their letters lie, in parts of the size of type.
const (
	roomAside = 0.25
	roomAbove = 1.05
	roomBelow = 0.4
)

// frame gives the pixels around a strip.
func (b *bare) frame(s *strip) image.Rectangle {
	n := len(s.words)
	r := s.toLine.Invert().Bounds(pdf.Rect{X0: s.from[0] - roomAside*s.size, Y0: -roomBelow * s.size, X1: s.from[n-1] + s.words[n-1].Long + roomAside*s.size, Y1: roomAbove * s.size})
	return image.Rect(int(math.Floor(r.X0)), int(math.Floor(r.Y0)), int(math.Ceil(r.X1)), int(math.Ceil(r.Y1))).Intersect(b.gray.Rect)
}

// inside reports whether a place on the line lies in the strip's room.
func (s *strip) inside(x, y float64) bool {
	n := len(s.words)
	return y >= -roomBelow*s.size && y <= roomAbove*s.size && x >= s.from[0]-roomAside*s.size && x <= s.from[n-1]+s.words[n-1].Long+roomAside*s.size
}

// on reports whether a place on the line lies on one of its words.
func (s *strip) on(x, y float64) bool {
	if y < -0.36*s.size || y > 1.0*s.size {
		return false
	}
	for i, w := range s.words {
		if x >= s.from[i]-0.12*s.size && x <= s.from[i]+w.Long+0.12*s.size {
			return true
		}
	}
	return false
}

// levels gives how light the paper and the letters of a strip are: the paper is what most of it shows.
func (b *bare) levels(s *strip, r image.Rectangle) (paper, ink int) {
	var counts [256]int
	n := 0
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			if s.inside(s.toLine.Apply(float64(x)+0.5, float64(y)+0.5)) {
				counts[b.gray.Pix[y*b.gray.Stride+x]]++
				n++
			}
		}
	}
	part := func(of int) int {
		for v, c := range counts {
			if of -= c; of < 0 {
				return v
			}
		}
		return 255
	}
	paper = part(n / 2)
	lo, hi := part(n/50), part(n-n/50-1)
	ink = lo
	if hi-paper > paper-lo {
		ink = hi
	}
	return paper, ink
}

// leastContrast is how much letters differ from their paper, of 255.
const leastContrast = 25

// take marks the letters of a block: what is inked on its words and hangs together there. Rules that go on beyond are left.
func (b *bare) take(u *draw.Invisible, of *Block) {
	for _, s := range b.strips(u, of) {
		r := b.frame(&s)
		if r.Empty() {
			continue
		}
		paper, ink := b.levels(&s, r)
		if abs(float64(ink-paper)) < leastContrast {
			continue
		}
		w, h := r.Dx(), r.Dy()
		dark := make([]bool, w*h)
		for y := range h {
			for x := range w {
				v := int(b.gray.Pix[(r.Min.Y+y)*b.gray.Stride+r.Min.X+x])
				if float64(v-paper)/float64(ink-paper) > 0.25 && s.inside(s.toLine.Apply(float64(r.Min.X+x)+0.5, float64(r.Min.Y+y)+0.5)) {
					dark[y*w+x] = true
				}
			}
		}
		b.takeParts(&s, r, dark)
	}
}

// takeParts goes through what hangs together.
func (b *bare) takeParts(s *strip, r image.Rectangle, dark []bool) {
	w, h := r.Dx(), r.Dy()
	seen := make([]bool, w*h)
	upright := abs(s.toLine[0]) >= abs(s.toLine[1]) // its line runs along the rows of pixels
	unit := math.Hypot(s.toLine[0], s.toLine[1])
	long := int(2*s.size/unit) + 1 // pixels in a row that are no letter any more
	grow := max(1, int(math.Round(0.03*s.size/unit)))
	var part, stack []int
	for start := range dark {
		if !dark[start] || seen[start] {
			continue
		}
		part, stack = part[:0], append(stack[:0], start)
		seen[start] = true
		x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
		on := 0
		for len(stack) > 0 {
			at := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			part = append(part, at)
			px, py := at%w, at/w
			lx, ly := s.toLine.Apply(float64(r.Min.X+px)+0.5, float64(r.Min.Y+py)+0.5)
			x0, y0, x1, y1 = min(x0, lx), min(y0, ly), max(x1, lx), max(y1, ly)
			if s.on(lx, ly) {
				on++
			}
			for dy := -1; dy <= 1; dy++ {
				for dx := -1; dx <= 1; dx++ {
					nx, ny := px+dx, py+dy
					if nx < 0 || ny < 0 || nx >= w || ny >= h {
						continue
					}
					if n := ny*w + nx; dark[n] && !seen[n] {
						seen[n] = true
						stack = append(stack, n)
					}
				}
			}
		}
		switch wide, high := x1-x0, y1-y0; {
		case on*2 < len(part), wide > 2.5*s.size && high < 0.22*s.size, high > 1.35*s.size && wide < 0.2*s.size:
			continue // not on the words, or a rule
		}
		if x1-x0 > 3*s.size { // it may hang on a rule, which stays
			part = slices.DeleteFunc(part, func(at int) bool { return run(dark, w, h, at, upright) > long })
		}
		for _, at := range part {
			px, py := r.Min.X+at%w, r.Min.Y+at/w
			for y := max(0, py-grow); y <= min(b.gray.Rect.Dy()-1, py+grow); y++ {
				for x := max(0, px-grow); x <= min(b.gray.Rect.Dx()-1, px+grow); x++ {
					b.gone[y*b.gray.Rect.Dx()+x] = true
				}
			}
		}
	}
}

// run counts the dark pixels that stand in a row, or a column, with one of them.
func run(dark []bool, w, h, at int, across bool) int {
	n := 1
	x, y := at%w, at/w
	if across {
		for i := x - 1; i >= 0 && dark[y*w+i]; i-- {
			n++
		}
		for i := x + 1; i < w && dark[y*w+i]; i++ {
			n++
		}
		return n
	}
	for i := y - 1; i >= 0 && dark[i*w+x]; i-- {
		n++
	}
	for i := y + 1; i < h && dark[i*w+x]; i++ {
		n++
	}
	return n
}

// groundCell is the side of the cells in which the ground is measured, in pixels.
const groundCell = 24

// fill gives the marked pixels the ground around them: how light and coloured it is nearby, with the grain that it has.
func (b *bare) fill() {
	w, h := b.px.W(), b.px.H()
	cw, ch := (w+groundCell-1)/groundCell, (h+groundCell-1)/groundCell
	touched := make([]bool, cw*ch)
	for y := range h {
		for x := range w {
			if b.gone[y*w+x] {
				touched[y/groundCell*cw+x/groundCell] = true
			}
		}
	}
	for _, p := range b.px.Planes {
		if b.px.Bilevel {
			b.fillBilevel(p, touched, cw)
			continue
		}
		ground := make([]int, cw*ch)
		for i := range ground {
			ground[i] = -1
		}
		near := func(c int) bool { // only where it is asked for
			cx, cy := c%cw, c/cw
			for dy := -2; dy <= 2; dy++ {
				for dx := -2; dx <= 2; dx++ {
					if x, y := cx+dx, cy+dy; x >= 0 && y >= 0 && x < cw && y < ch && touched[y*cw+x] {
						return true
					}
				}
			}
			return false
		}
		for c := range ground {
			if near(c) {
				ground[c] = b.ground(p, c%cw, c/cw)
			}
		}
		for range 8 { // cells that letters fill take after their neighbours
			again := false
			was := slices.Clone(ground)
			for c, v := range was {
				if v >= 0 || !near(c) {
					continue
				}
				sum, n := 0, 0
				for _, d := range [4][2]int{{-1, 0}, {1, 0}, {0, -1}, {0, 1}} {
					if x, y := c%cw+d[0], c/cw+d[1]; x >= 0 && y >= 0 && x < cw && y < ch && was[y*cw+x] >= 0 {
						sum, n = sum+was[y*cw+x], n+1
					}
				}
				if n > 0 {
					ground[c], again = sum/n, true
				}
			}
			if !again {
				break
			}
		}
		b.fillPlane(p, ground, cw, ch)
	}
}

// ground gives how light a plane is in a cell, where it was not inked: what most of its pixels are; -1 where too few are left.
func (b *bare) ground(p *image.Gray, cx, cy int) int {
	var counts [256]int
	n := 0
	w, h := b.px.W(), b.px.H()
	for y := cy * groundCell; y < min(h, (cy+1)*groundCell); y++ {
		for x := cx * groundCell; x < min(w, (cx+1)*groundCell); x++ {
			if !b.gone[y*w+x] {
				counts[p.Pix[y*p.Stride+x]]++
				n++
			}
		}
	}
	if n*6 < groundCell*groundCell {
		return -1
	}
	n /= 2
	for v, c := range counts {
		if n -= c; n < 0 {
			return v
		}
	}
	return -1
}

const mostGrain = 14

func (b *bare) fillPlane(p *image.Gray, ground []int, cw, ch int) {
	w, h := b.px.W(), b.px.H()
	whole := 255
	if v := medianOf(p); v >= 0 {
		whole = v
	}
	cell := func(x, y int) int {
		if v := ground[max(0, min(ch-1, y))*cw+max(0, min(cw-1, x))]; v >= 0 {
			return v
		}
		return whole
	}
	at := func(x, y int) int { // between the middles of cells
		fx, fy := float64(x)/groundCell-0.5, float64(y)/groundCell-0.5
		ix, iy := int(math.Floor(fx)), int(math.Floor(fy))
		ax, ay := fx-float64(ix), fy-float64(iy)
		top := float64(cell(ix, iy))*(1-ax) + float64(cell(ix+1, iy))*ax
		low := float64(cell(ix, iy+1))*(1-ax) + float64(cell(ix+1, iy+1))*ax
		return int(top*(1-ay) + low*ay + 0.5)
	}
	var grain [64]int // of the ground that was passed last
	n, next := 0, 0
	for y := range h {
		for x := range w {
			if !b.gone[y*w+x] {
				if x%2 == 0 && (n < len(grain) || x%6 == 0) && nearGone(b.gone, w, x, y) {
					if g := int(p.Pix[y*p.Stride+x]) - at(x, y); g > -mostGrain && g < mostGrain {
						grain[next%len(grain)] = g
						next++
						n = min(len(grain), n+1)
					}
				}
				continue
			}
			v := at(x, y)
			if n > 0 {
				v += grain[(x*7+y*13)%n]
			}
			p.Pix[y*p.Stride+x] = uint8(max(0, min(255, v)))
		}
	}
}

// nearGone reports whether a pixel that is to be filled stands in the same row within reach.
func nearGone(gone []bool, w, x, y int) bool {
	const reach = 40
	return x+reach < w && gone[y*w+x+reach] || x+reach/4 < w && gone[y*w+x+reach/4]
}

func medianOf(p *image.Gray) int {
	var counts [256]int
	for _, v := range p.Pix {
		counts[v]++
	}
	n := len(p.Pix) / 2
	for v, c := range counts {
		if n -= c; n < 0 {
			return v
		}
	}
	return -1
}

// fillBilevel gives marked pixels what most of those around them are.
func (b *bare) fillBilevel(p *image.Gray, touched []bool, cw int) {
	w, h := b.px.W(), b.px.H()
	for c, t := range touched {
		if !t {
			continue
		}
		cx, cy := c%cw, c/cw
		light, dark := 0, 0
		for y := max(0, (cy-1)*groundCell); y < min(h, (cy+2)*groundCell); y++ {
			for x := max(0, (cx-1)*groundCell); x < min(w, (cx+2)*groundCell); x++ {
				if b.gone[y*w+x] {
					continue
				}
				if p.Pix[y*p.Stride+x] >= 128 {
					light++
				} else {
					dark++
				}
			}
		}
		v := uint8(255)
		if dark > light {
			v = 0
		}
		for y := cy * groundCell; y < min(h, (cy+1)*groundCell); y++ {
			for x := cx * groundCell; x < min(w, (cx+1)*groundCell); x++ {
				if b.gone[y*w+x] {
					p.Pix[y*p.Stride+x] = v
				}
			}
		}
	}
}

// washedOut is how many pixels high type is whose strokes are thinner than a pixel or two.
const washedOut = 24

// colour gives the colour of a block's letters, of 0 to 1: of their pixels those that differ most from the paper. What is nearly black is black.
func (b *bare) colour(u *draw.Invisible, of *Block) [3]float64 {
	var values [3][]int
	washed := false // strokes so thin that their ink is nowhere to be seen whole
	for _, s := range b.strips(u, of) {
		r := b.frame(&s)
		paper, ink := b.levels(&s, r)
		if high := s.size / math.Hypot(s.toLine[0], s.toLine[1]); high < washedOut && ink < paper && float64(paper-ink) > 0.35*float64(paper-b.darkest) {
			washed = true
		}
		if r.Empty() || paper == ink {
			continue
		}
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x := r.Min.X; x < r.Max.X; x++ {
				v := int(b.gray.Pix[y*b.gray.Stride+x])
				if float64(v-paper)/float64(ink-paper) < 0.85 || !s.on(s.toLine.Apply(float64(x)+0.5, float64(y)+0.5)) {
					continue
				}
				for k := range 3 {
					p := b.px.Planes[min(k, len(b.px.Planes)-1)]
					values[k] = append(values[k], int(p.Pix[y*p.Stride+x]))
				}
			}
		}
		if len(values[0]) > 20_000 {
			break
		}
	}
	if len(values[0]) == 0 {
		return [3]float64{}
	}
	var out [3]float64
	lo, hi := 255.0, 0.0
	for k, list := range values {
		slices.Sort(list)
		v := float64(list[len(list)/2])
		out[k] = v
		lo, hi = min(lo, v), max(hi, v)
	}
	switch {
	case hi < 110 && hi-lo < 28, washed && hi-lo < 28:
		return [3]float64{}
	case lo > 225:
		return [3]float64{1, 1, 1}
	}
	for k := range out {
		out[k] = math.Round(out[k]/255*100) / 100
	}
	return out
}
