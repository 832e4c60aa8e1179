package scan

import (
	"image"
	"math"
)

// Found is what was done to a picture before it was read, in the order it was done.
type Found struct {
	Dark    bool    // light writing on dark ground: turned to dark on light
	Quarter int     // quarters clockwise it was turned by
	Skew    float64 // degrees counterclockwise it stood askew by
	Lid     bool    // shadows at the edges were taken away
	Specks  bool
	Uneven  bool // its light was evened
}

// clean is what takes shadows, uneven light and specks away, in place.
func clean(g *image.Gray, s *Small, f *Found) {
	f.Lid = lid(g, s)
	if paper, lo, hi := s.paper(); hi-lo > 24 || hi < 225 {
		even(g, &paper)
		f.Uneven = true
	}
	if specks(g) {
		f.Specks = true
	}
}

// paper measures the paper of the whole picture, and how light it is where it is darkest and where it is lightest.
func (of *Small) paper() (paper cells, lo, hi int) {
	paper = paperOf(of.g, max(8, 64/of.by))
	paper.size *= of.by
	lo = 255
	for _, v := range paper.light {
		lo, hi = min(lo, int(v)), max(hi, int(v))
	}
	return paper, lo, hi
}

// even makes the paper equally light everywhere. Where a cell is much darker than the paper as a whole it shows a picture, not paper in shade, and is
// evened by what is around it.
func even(g *image.Gray, paper *cells) {
	typical := median(paper.light)
	for i, v := range paper.light {
		if int(v)*100 < int(typical)*45 {
			paper.light[i] = typical
		}
	}
	w := g.Rect.Dx()
	// one factor for every fourth pixel, as light changes slowly
	for y := range g.Rect.Dy() {
		row := g.Pix[y*g.Stride:][:w]
		for x := 0; x < w; x += 8 {
			p := max(32, paper.at(x+4, y))
			k := 245 << 12 / p
			for i := x; i < min(w, x+8); i++ {
				row[i] = uint8(min(255, int(row[i])*k>>12))
			}
		}
	}
}

func median(v []uint8) uint8 {
	var counts [256]int
	for _, x := range v {
		counts[x]++
	}
	half := len(v) / 2
	for i, n := range counts {
		if half -= n; half < 0 {
			return uint8(i)
		}
	}
	return 255
}

// lid finds dark bands along the edges: the shadow of a lid, the ground a sheet lies on. They are long and not deep, and touch the edge; what is
// written there is not.
func lid(g *image.Gray, of *Small) bool {
	along, by := lidOf(of)
	if len(along) == 0 {
		return false
	}
	s, _ := of.further(300)
	light := median(s.Pix)
	lightenAll(g, along, by, light)
	if of.g != g {
		lightenAll(of.g, along, by/of.by, light)
	}
	return true
}

// lightenAll makes cells of by pixels a side as light as the paper.
func lightenAll(g *image.Gray, cells [][2]int, by int, light uint8) {
	for _, c := range cells {
		lighten(g, c[0]*by, c[1]*by, by, light)
	}
}

// lidOf finds the cells that such bands take, of by pixels a side.
func lidOf(of *Small) (along [][2]int, by int) {
	s, by := of.further(300)
	w, h := s.Rect.Dx(), s.Rect.Dy()
	if w < 30 || h < 30 {
		return nil, by
	}
	paper := float64(median(s.Pix[:w*h]))
	dark := make([]bool, w*h)
	for i, v := range s.Pix[:w*h] {
		dark[i] = float64(v) < 0.55*paper
	}
	seen := make([]bool, w*h)
	stack := make([]int, 0, w+h)
	for start := range w * h {
		x, y := start%w, start/w
		if !dark[start] || seen[start] || x > 0 && y > 0 && x < w-1 && y < h-1 {
			continue
		}
		var part []int
		stack = append(stack[:0], start)
		seen[start] = true
		x0, y0, x1, y1 := x, y, x, y
		rim := 0
		for len(stack) > 0 {
			at := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			part = append(part, at)
			px, py := at%w, at/w
			x0, y0, x1, y1 = min(x0, px), min(y0, py), max(x1, px), max(y1, py)
			if px == 0 || py == 0 || px == w-1 || py == h-1 {
				rim++
			}
			for _, d := range [4][2]int{{-1, 0}, {1, 0}, {0, -1}, {0, 1}} {
				nx, ny := px+d[0], py+d[1]
				if nx < 0 || ny < 0 || nx >= w || ny >= h {
					continue
				}
				if n := ny*w + nx; dark[n] && !seen[n] {
					seen[n] = true
					stack = append(stack, n)
				}
			}
		}
		long := max(float64(x1-x0+1)/float64(w), float64(y1-y0+1)/float64(h))
		if long < 0.25 || float64(len(part)) > 0.3*float64(w*h) || float64(rim) < 0.15*float64(min(w, h)) {
			continue
		}
		for _, at := range part {
			along = append(along, [2]int{at % w, at / w})
		}
	}
	return along, by
}

// lighten makes a cell and its soft edge as light as the paper.
func lighten(g *image.Gray, x, y, by int, light uint8) {
	for yy := max(0, y-by); yy < min(g.Rect.Dy(), y+2*by); yy++ {
		row := g.Pix[yy*g.Stride:]
		for xx := max(0, x-by); xx < min(g.Rect.Dx(), x+2*by); xx++ {
			row[xx] = max(row[xx], light)
		}
	}
}

// specks takes single dark pixels, and pairs, out of light paper where there are many of them.
func specks(g *image.Gray) bool {
	w, h := g.Rect.Dx(), g.Rect.Dy()
	if w < 8 || h < 8 {
		return false
	}
	lone := func(x, y int) bool {
		p := y*g.Stride + x
		v := int(g.Pix[p])
		if v > 150 {
			return false
		}
		light := 0
		for dy := -1; dy <= 1; dy++ {
			for dx := -1; dx <= 1; dx++ {
				if int(g.Pix[p+dy*g.Stride+dx]) > v+70 {
					light++
				}
			}
		}
		return light >= 7
	}
	n, looked := 0, 0
	for y := 4; y < h-1; y += 7 { // a choice of rows tells whether there are many
		for x := 1; x < w-1; x++ {
			looked++
			if lone(x, y) {
				n++
			}
		}
	}
	if n*2500 < looked {
		return false
	}
	type speck struct{ at, by int }
	var all []speck
	for y := 1; y < h-1; y++ {
		for x := 1; x < w-1; x++ {
			if lone(x, y) {
				p := y*g.Stride + x
				v := 0
				for _, o := range [4]int{-1, 1, -g.Stride, g.Stride} {
					v = max(v, int(g.Pix[p+o]))
				}
				all = append(all, speck{p, v})
			}
		}
	}
	for _, s := range all {
		g.Pix[s.at] = uint8(s.by)
	}
	return true
}

// Ready makes a picture fit to be read: turned by quarters, dark on light, straight, clean. The picture given is left as it is; s is it, made small, which is changed.
func Ready(g *image.Gray, s *Small, quarters int) (*image.Gray, Found) {
	f := Found{Quarter: (quarters%4 + 4) % 4}
	var out *image.Gray
	if f.Quarter != 0 {
		out = Turn(g, f.Quarter)
		s = &Small{Turn(s.g, f.Quarter), s.by}
	} else {
		out = image.NewGray(image.Rect(0, 0, g.Rect.Dx(), g.Rect.Dy()))
		for y := range g.Rect.Dy() {
			copy(out.Pix[y*out.Stride:][:g.Rect.Dx()], g.Pix[y*g.Stride:])
		}
	}
	if f.Dark = s.Dark(); f.Dark {
		Invert(out)
		Invert(s.g)
	}
	clean(out, s, &f)
	if deg, sure := s.Skew(8); sure && math.Abs(deg) >= 0.08 {
		f.Skew = deg
		out = Straight(out, deg, 245)
	}
	return out, f
}

// Place gives the place in the picture that Ready was given, of w by h pixels, of a place in the one it made.
func (f *Found) Place(w, h int, x, y float64) (float64, float64) {
	tw, th := w, h
	if f.Quarter%2 == 1 {
		tw, th = h, w
	}
	if f.Skew != 0 {
		x, y = Back(tw, th, f.Skew, x, y)
	}
	switch f.Quarter {
	case 1: // clockwise: the old left edge is the new top edge
		return y, float64(h) - x
	case 2:
		return float64(w) - x, float64(h) - y
	case 3:
		return float64(w) - y, x
	}
	return x, y
}

// Wish is what is to be done to a picture of paper for those who look at it.
type Wish struct {
	Straight bool // set straight
	Edges    bool // the shadows along its edges are taken away
	Light    bool // the paper is made equally light everywhere
}

// Least angle that is worth the loss that turning brings, in degrees.
const leastTurn = 0.15

// Tidy does to a picture of paper what is wished, as far as it needs it. planes are its colours, gray is how light it is; light writing on dark ground is left as it is, but
// for its angle. The planes that are given are changed, and others may come back.
func Tidy(planes []*image.Gray, gray *image.Gray, wish Wish) ([]*image.Gray, Found) {
	var f Found
	s := Shrink(gray)
	dark := s.Dark()
	fill := make([]uint8, len(planes)) // the paper's colour
	for i, p := range planes {
		fill[i] = median(p.Pix)
	}
	if !dark { // the shadows mislead whoever measures how askew it stands
		if along, by := lidOf(s); len(along) > 0 {
			if f.Lid = wish.Edges; f.Lid {
				for i, p := range planes {
					lightenAll(p, along, by, fill[i])
				}
			}
			lightenAll(s.g, along, max(1, by/s.by), median(s.g.Pix))
		}
	}
	skew := 0.0
	if wish.Straight {
		at := &Small{Turn(s.g, 0), s.by}
		if dark {
			Invert(at.g)
		}
		if at.Lying() { // its lines run upwards: a quarter's turn does not change the angle
			at.g = Turn(at.g, 1)
		}
		if deg, sure := at.Skew(8); sure {
			skew = deg
		}
	}
	if wish.Light && !dark {
		if paper, lo, hi := s.paper(); hi-lo > 10 || hi < 240 {
			f.Uneven = true
			typical := median(paper.light)
			for i, p := range planes {
				even(p, &paper)
				fill[i] = uint8(min(255, int(fill[i])*245/max(32, int(typical))))
			}
		}
	}
	if math.Abs(skew) >= leastTurn {
		f.Skew = skew
		for i, p := range planes {
			planes[i] = Straight(p, skew, fill[i])
		}
	}
	return planes, f
}

// Moved gives where a place of a picture of w by h pixels is after it was set straight by so many degrees.
func Moved(w, h int, degrees, x, y float64) (float64, float64) { return Back(w, h, -degrees, x, y) }
