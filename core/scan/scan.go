// Package scan makes pictures of paper fit to be read: how far a page stands askew is measured, and it is set straight; shadows of the scanner's lid and
// specks are taken away, and uneven light is evened. Nothing is made black or white: what lies between is what a reader of letters goes by.
package scan

import (
	"image"
	"math"
	"slices"
)

// Work is at most so many pixels; larger pictures are refused by whoever decodes them.
const mostSide = 1 << 15

// small gives a picture made smaller by a whole number, each pixel the mean of those it stands for.
func small(g *image.Gray, by int) *image.Gray {
	w, h := g.Rect.Dx()/by, g.Rect.Dy()/by
	if by <= 1 || w < 1 || h < 1 {
		return g
	}
	out := image.NewGray(image.Rect(0, 0, w, h))
	sums := make([]uint32, w)
	area := uint32(by * by)
	for y := range h {
		clear(sums)
		for dy := range by {
			row := g.Pix[(y*by+dy)*g.Stride:]
			for x := range w {
				s := uint32(0)
				for _, v := range row[x*by : x*by+by] {
					s += uint32(v)
				}
				sums[x] += s
			}
		}
		to := out.Pix[y*out.Stride:]
		for x, s := range sums {
			to[x] = uint8(s / area)
		}
	}
	return out
}

// Small is a picture made smaller, by which most of what is asked about it is told.
type Small struct {
	g  *image.Gray
	by int // pixels of the whole for one of it, each way
}

// Shrink makes a picture smaller, to some 1,300 pixels along its longer side.
func Shrink(g *image.Gray) *Small {
	by := max(1, int(math.Round(float64(max(g.Rect.Dx(), g.Rect.Dy()))/1300)))
	s := small(g, by)
	if by == 1 {
		s = image.NewGray(g.Rect)
		copy(s.Pix, g.Pix)
	}
	return &Small{s, by}
}

// further gives it smaller still, to about that many pixels along its longer side.
func (s *Small) further(to int) (*image.Gray, int) {
	by := max(1, max(s.g.Rect.Dx(), s.g.Rect.Dy())/to)
	return small(s.g, by), by * s.by
}

// cells are a grid over a picture with, for each cell, how light the paper is there.
type cells struct {
	w, h, size int
	light      []uint8
}

// paperOf measures the paper: in each cell the light that a tenth of the pixels exceeds, since letters cover less than that. A cell of a dark picture takes
// after its neighbours.
func paperOf(g *image.Gray, size int) cells {
	c := cells{w: max(1, (g.Rect.Dx()+size-1)/size), h: max(1, (g.Rect.Dy()+size-1)/size), size: size}
	c.light = make([]uint8, c.w*c.h)
	var counts [256]int
	for cy := range c.h {
		for cx := range c.w {
			counts = [256]int{}
			n := 0
			for y := cy * size; y < min(g.Rect.Dy(), (cy+1)*size); y++ {
				row := g.Pix[y*g.Stride:]
				for x := cx * size; x < min(g.Rect.Dx(), (cx+1)*size); x++ {
					counts[row[x]]++
					n++
				}
			}
			left := n / 10
			v := 255
			for ; v > 0; v-- {
				if left -= counts[v]; left < 0 {
					break
				}
			}
			c.light[cy*c.w+cx] = uint8(v)
		}
	}
	return c
}

// at gives the light between the middles of cells, by two lines.
func (c *cells) at(x, y int) int {
	fx, fy := (x<<8)/c.size-128, (y<<8)/c.size-128
	fx, fy = max(0, min(fx, (c.w-1)<<8)), max(0, min(fy, (c.h-1)<<8))
	x0, y0 := fx>>8, fy>>8
	x1, y1 := min(x0+1, c.w-1), min(y0+1, c.h-1)
	ax, ay := fx&255, fy&255
	top := int(c.light[y0*c.w+x0])*(256-ax) + int(c.light[y0*c.w+x1])*ax
	low := int(c.light[y1*c.w+x0])*(256-ax) + int(c.light[y1*c.w+x1])*ax
	return (top*(256-ay) + low*ay) >> 16
}

// Dark reports whether it is light writing on dark ground.
func (of *Small) Dark() bool {
	s, _ := of.further(400)
	var counts [256]int
	for y := range s.Rect.Dy() {
		for _, v := range s.Pix[y*s.Stride:][:s.Rect.Dx()] {
			counts[v]++
		}
	}
	half, v := s.Rect.Dx()*s.Rect.Dy()/2, 0
	for ; v < 255; v++ {
		if half -= counts[v]; half < 0 {
			break
		}
	}
	return v < 90
}

// Invert turns light to dark in place.
func Invert(g *image.Gray) {
	for i := range g.Pix {
		g.Pix[i] = 255 - g.Pix[i]
	}
}

// marks gives whether pixels of a small picture are dark against the paper around.
func marks(s *image.Gray) []bool {
	paper := paperOf(s, 48)
	w, h := s.Rect.Dx(), s.Rect.Dy()
	out := make([]bool, w*h)
	for y := range h {
		row, to := s.Pix[y*s.Stride:][:w], out[y*w:][:w]
		light := paper.light[y/paper.size*paper.w:]
		for x := 0; x < w; x += paper.size {
			limit := uint8(int(light[x/paper.size]) * 72 / 100)
			for i := x; i < min(w, x+paper.size); i++ {
				to[i] = row[i] < limit
			}
		}
	}
	return out
}

// Skew measures by how many degrees the lines climb to the right (as on the page: counterclockwise), between -most and most, to about a
// twentieth of a degree: the angle at which the feet of the letters gather in the fewest rows. sure is false where there are not lines enough to tell.
func (of *Small) Skew(most float64) (degrees float64, sure bool) {
	deg, clear := feetOf(of.g).skew(most)
	return deg, clear > 1.25
}

// feet are the places where strokes end downwards.
type feet struct {
	at   []foot
	w, h int
}

type foot struct{ x, y float32 }

func feetOf(s *image.Gray) (f feet) {
	w, h := s.Rect.Dx(), s.Rect.Dy()
	f.w, f.h = w, h
	if w < 40 || h < 20 || w > mostSide || h > mostSide {
		return f
	}
	dark := marks(s)
	edge := w / 50
	for y := 1; y < h-2; y++ {
		for x := edge; x < w-edge; x++ {
			if dark[y*w+x] && !dark[(y+1)*w+x] && dark[(y-1)*w+x] { // the foot of a stroke, not a speck
				f.at = append(f.at, foot{float32(x) - float32(w)/2, float32(y)})
			}
		}
	}
	return f
}

// some gives an even choice of them, which is as good as all.
func (f feet) some(most int) []foot {
	if len(f.at) <= most {
		return f.at
	}
	out := make([]foot, most)
	for i := range out {
		out[i] = f.at[i*len(f.at)/most]
	}
	return out
}

// gathered tells how much they gather in rows that climb by an angle.
func (f feet) gathered(at []foot, deg float64, rows []float32) float64 {
	clear(rows)
	t := float32(math.Tan(deg * math.Pi / 180))
	off := float32(len(rows)-f.h) / 2
	for _, f := range at {
		p := f.y + f.x*t + off
		i := int(p)
		if i < 0 || i+1 >= len(rows) {
			continue
		}
		part := p - float32(i)
		rows[i] += 1 - part
		rows[i+1] += part
	}
	sum := 0.0
	for _, v := range rows {
		sum += float64(v * v)
	}
	return sum
}

// skew gives the angle at which they gather most, and how much more than at the middle one of the angles tried.
func (f feet) skew(most float64) (at, clear float64) {
	if len(f.at) < 60 {
		return 0, 0
	}
	rows := make([]float32, 2*f.h+f.w+8)
	best := -1.0
	var all []float64
	try := func(feet []foot, deg float64) {
		v := f.gathered(feet, deg, rows)
		if all = append(all, v); v > best {
			best, at = v, deg
		}
	}
	few := f.some(8000)
	for d := -most; d <= most+1e-9; d += 0.25 {
		try(few, d)
	}
	slices.Sort(all)
	clear = best / max(1, all[len(all)/2])
	many := f.some(24000)
	for _, step := range []float64{0.08, 0.025} {
		mid := at
		best = -1
		for k := -3; k <= 3; k++ {
			try(many, mid+float64(k)*step)
		}
	}
	return at, clear
}

// Lying reports whether the lines run up or down rather than across: it is turned by a quarter. Their feet gather in few rows more clearly then once it is
// turned back.
func (of *Small) Lying() bool {
	s, _ := of.further(800)
	_, upright := feetOf(s).skew(8)
	_, turned := feetOf(Turn(s, 1)).skew(8)
	return turned > 1.25 && turned > 1.2*upright
}

// Turn turns a picture by quarters, clockwise.
func Turn(g *image.Gray, quarters int) *image.Gray {
	w, h := g.Rect.Dx(), g.Rect.Dy()
	switch (quarters%4 + 4) % 4 {
	case 1:
		out := image.NewGray(image.Rect(0, 0, h, w))
		for y := range h {
			row := g.Pix[y*g.Stride:]
			for x := range w {
				out.Pix[x*out.Stride+h-1-y] = row[x]
			}
		}
		return out
	case 2:
		out := image.NewGray(image.Rect(0, 0, w, h))
		for y := range h {
			row, to := g.Pix[y*g.Stride:], out.Pix[(h-1-y)*out.Stride:]
			for x := range w {
				to[w-1-x] = row[x]
			}
		}
		return out
	case 3:
		out := image.NewGray(image.Rect(0, 0, h, w))
		for y := range h {
			row := g.Pix[y*g.Stride:]
			for x := range w {
				out.Pix[(w-1-x)*out.Stride+y] = row[x]
			}
		}
		return out
	}
	return g
}

// Straight turns a picture clockwise by an angle about its middle, so that lines which climbed by it lie level. Its size stays; what comes in from beyond is fill.
func Straight(g *image.Gray, degrees float64, fill uint8) *image.Gray {
	w, h := g.Rect.Dx(), g.Rect.Dy()
	out := image.NewGray(image.Rect(0, 0, w, h))
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	const one = 1 << 16
	cx, cy := float64(w-1)/2, float64(h-1)/2
	dx, dy := int(math.Round(cos*one)), int(math.Round(-sin*one))
	for y := range h {
		// the place in the old picture of the first pixel of this row
		oy := float64(y) - cy
		sx := int(math.Round((cx - cos*cx + sin*oy) * one))
		sy := int(math.Round((cy + sin*cx + cos*oy) * one))
		to := out.Pix[y*out.Stride:][:w]
		for x := range to {
			ix, iy := sx>>16, sy>>16
			if ix < 0 || iy < 0 || ix >= w-1 || iy >= h-1 {
				to[x] = fill
				if ix >= 0 && iy >= 0 && ix < w && iy < h {
					to[x] = g.Pix[iy*g.Stride+ix]
				}
			} else {
				ax, ay := (sx>>8)&255, (sy>>8)&255
				p := iy*g.Stride + ix
				a, b, c, d := int(g.Pix[p]), int(g.Pix[p+1]), int(g.Pix[p+g.Stride]), int(g.Pix[p+g.Stride+1])
				top := a<<8 + (b-a)*ax
				low := c<<8 + (d-c)*ax
				to[x] = uint8((top<<8 + (low-top)*ay) >> 16)
			}
			sx += dx
			sy += dy
		}
	}
	return out
}

// Back gives the place in the picture before Straight of a place in the one after it.
func Back(w, h int, degrees, x, y float64) (float64, float64) {
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	cx, cy := float64(w)/2, float64(h)/2
	x, y = x-cx, y-cy
	return cx + cos*x + sin*y, cy - sin*x + cos*y
}
