// Package paper makes pictures of pages look as a scanner sees sheets of paper: askew, in the shadow of a lid, noisy, folded, unevenly lit. What it does follows from a
// seed alone.
package paper

import (
	"image"
	"math"
	"math/rand/v2"
)

// Sheet is how a sheet lies on the glass, and what it is like.
type Sheet struct {
	Askew   float64 // degrees counterclockwise
	Quarter int     // quarters clockwise that it is laid in by
	Lid     float64 // how wide the shadow at two of its edges is, in hundredths of its width
	Noise   float64 // how far pixels stray, 0 to 255
	Specks  float64 // of 1,000 pixels, how many are dust
	Fold    float64 // how far down a fold runs, 0 to 1; 0 for none
	Shade   float64 // how much darker it is at one side, 0 to 1
	Dark    bool    // light on dark
	Seed    uint64
}

// Scan gives what is seen of a page.
func Scan(page *image.Gray, s Sheet) *image.Gray {
	w, h := page.Rect.Dx(), page.Rect.Dy()
	src := page
	if s.Dark {
		src = image.NewGray(page.Rect)
		for i, v := range page.Pix {
			src.Pix[i] = 255 - v
		}
	}
	out := image.NewGray(image.Rect(0, 0, w, h))
	rng := rand.New(rand.NewPCG(s.Seed, 77))
	sin, cos := math.Sincos(s.Askew * math.Pi / 180)
	cx, cy := float64(w-1)/2, float64(h-1)/2
	ground := 250.0
	if s.Dark {
		ground = 5
	}
	lid := s.Lid / 100 * float64(w)
	for y := range h {
		for x := range w {
			rx, ry := float64(x)-cx, float64(y)-cy
			// the place on the sheet that lies here
			sx, sy := cx+cos*rx-sin*ry, cy+sin*rx+cos*ry
			v := ground
			if sx >= 0 && sy >= 0 && sx < float64(w-1) && sy < float64(h-1) {
				ix, iy := int(sx), int(sy)
				ax, ay := sx-float64(ix), sy-float64(iy)
				p := iy*src.Stride + ix
				top := float64(src.Pix[p])*(1-ax) + float64(src.Pix[p+1])*ax
				low := float64(src.Pix[p+src.Stride])*(1-ax) + float64(src.Pix[p+src.Stride+1])*ax
				v = top*(1-ay) + low*ay
			}
			if s.Shade > 0 {
				v *= 1 - s.Shade*float64(x)/float64(w)
			}
			if s.Fold > 0 {
				if d := math.Abs(float64(y) - s.Fold*float64(h) - 0.01*float64(x)); d < 5 {
					v *= 0.8 + 0.04*d
				}
			}
			if lid > 0 {
				if edge := lid * (1 + 0.2*math.Sin(float64(y)/190)); float64(x) < edge {
					v = min(v, 40+60*float64(x)/edge)
				}
				if edge := lid * 0.7; float64(y) < edge {
					v = min(v, 30+90*float64(y)/edge)
				}
			}
			if s.Noise > 0 {
				v += rng.NormFloat64() * s.Noise
			}
			if s.Specks > 0 && rng.Float64() < s.Specks/1000 {
				v = 20 + 60*rng.Float64()
			}
			out.Pix[y*out.Stride+x] = uint8(max(0, min(255, v+0.5)))
		}
	}
	return turned(out, s.Quarter)
}

// turned turns a picture clockwise by quarters.
func turned(g *image.Gray, quarters int) *image.Gray {
	for range (quarters%4 + 4) % 4 {
		w, h := g.Rect.Dx(), g.Rect.Dy()
		out := image.NewGray(image.Rect(0, 0, h, w))
		for y := range h {
			for x := range w {
				out.Pix[x*out.Stride+h-1-y] = g.Pix[y*g.Stride+x]
			}
		}
		g = out
	}
	return g
}
