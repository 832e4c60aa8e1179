package scan_test

import (
	"image"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/scan"
	"glenrain/standin/paper"
)

// written draws lines that look like writing: strokes of unlike heights on baselines, words with gaps, in one column or two.
func written(w, h, columns int) *image.Gray {
	g := image.NewGray(image.Rect(0, 0, w, h))
	for i := range g.Pix {
		g.Pix[i] = 252
	}
	n := uint32(7)
	next := func(k int) int { n = n*1664525 + 1013904223; return int(n>>16) % k }
	for c := range columns {
		left, right := w/10+c*(w*8/10)/columns, w/10+(c+1)*(w*8/10)/columns-20
		for base := h / 10; base < h*9/10; base += 34 {
			for x := left; x < right-next(30); {
				for range 3 + next(7) { // a word
					tall := 12 + 8*(next(3)/2)
					for y := base - tall; y < base; y++ {
						for d := range 3 {
							g.Pix[y*g.Stride+x+d] = 30
							if y < base-tall+3 {
								g.Pix[y*g.Stride+x+3+d] = 30
							}
						}
					}
					if x += 10; x >= right-12 {
						break
					}
				}
				x += 10
			}
		}
	}
	return g
}

// The angle a page was turned by is measured to a twentieth of a degree, and the page straightened stands within a tenth.
func TestSkew(t *testing.T) {
	for _, columns := range []int{1, 2} {
		page := written(1200, 1600, columns)
		for _, deg := range []float64{0, 0.3, -1, 2.4, -3.7, 5, 7} {
			seen := paper.Scan(page, paper.Sheet{Askew: deg})
			got, sure := scan.Shrink(seen).Skew(8)
			require.True(t, sure)
			assert.InDelta(t, deg, got, 0.06)
			left, _ := scan.Shrink(scan.Straight(seen, got, 250)).Skew(8)
			assert.InDelta(t, 0, left, 0.1)
			assert.False(t, scan.Shrink(seen).Lying(), "%g", deg)
			if math.Abs(deg) <= 5 {
				assert.True(t, scan.Shrink(scan.Turn(seen, 1)).Lying(), "%g", deg)
				assert.True(t, scan.Shrink(scan.Turn(seen, 3)).Lying(), "%g", deg)
			}
		}
	}
	blank := image.NewGray(image.Rect(0, 0, 800, 800))
	_, sure := scan.Shrink(blank).Skew(8)
	assert.False(t, sure)
	tiny := image.NewGray(image.Rect(0, 0, 3, 1))
	_, sure = scan.Shrink(tiny).Skew(8)
	assert.False(t, sure)
	assert.False(t, scan.Shrink(tiny).Lying())
}

// A place in the picture that is read is led back to where it was on the glass.
func TestPlace(t *testing.T) {
	page := written(900, 1200, 1)
	for quarter := range 4 {
		for _, deg := range []float64{0, 2, -3} {
			seen := paper.Scan(page, paper.Sheet{Askew: deg, Quarter: quarter})
			ready, f := scan.Ready(seen, scan.Shrink(seen), 4-quarter)
			assert.InDelta(t, deg, f.Skew, 0.1)
			assert.Equal(t, image.Rect(0, 0, 900, 1200), ready.Rect)
			for _, p := range [][2]float64{{100, 200}, {450, 600}, {800, 1000}} {
				x, y := f.Place(seen.Rect.Dx(), seen.Rect.Dy(), p[0], p[1])
				// where the sheet's place lies on the glass
				sin, cos := math.Sincos(deg * math.Pi / 180)
				rx, ry := p[0]-450, p[1]-600
				wx, wy := 450+cos*rx+sin*ry, 600-sin*rx+cos*ry
				w, h := 900.0, 1200.0
				for range quarter {
					wx, wy, w, h = h-wy, wx, h, w
				}
				assert.InDelta(t, wx, x, 2.5)
				assert.InDelta(t, wy, y, 2.5)
			}
		}
	}
}

// Shade is evened, the lid's shadow and dust are removed, writing stays; what is clean is left as it is.
func TestReady(t *testing.T) {
	page := written(1200, 1600, 1)
	ready, f := scan.Ready(page, scan.Shrink(page), 0)
	assert.Equal(t, scan.Found{}, f, "nothing had to be done")
	assert.Equal(t, page.Pix, ready.Pix)
	ink := func(g *image.Gray) (n int) {
		for y := 100; y < 1500; y++ {
			for x := 100; x < 1100; x++ {
				if g.Pix[y*g.Stride+x] < 128 {
					n++
				}
			}
		}
		return n
	}
	for name, s := range map[string]paper.Sheet{"shade": {Shade: 0.5}, "lid": {Lid: 4}, "dust": {Specks: 4, Seed: 2}, "dark": {Dark: true}} {
		t.Run(name, func(t *testing.T) {
			seen := paper.Scan(page, s)
			before := append([]uint8(nil), seen.Pix...)
			ready, f := scan.Ready(seen, scan.Shrink(seen), 0)
			assert.Equal(t, before, seen.Pix, "the picture given stays as it is")
			assert.Equal(t, name == "shade", f.Uneven)
			assert.Equal(t, name == "lid", f.Lid)
			assert.Equal(t, name == "dust", f.Specks)
			assert.Equal(t, name == "dark", f.Dark)
			assert.InEpsilon(t, ink(page), ink(ready), 0.06, "writing stays")
			assert.Greater(t, ready.Pix[5*ready.Stride+600], uint8(200), "the upper edge is paper")
			assert.Greater(t, ready.Pix[800*ready.Stride+1190], uint8(200), "and the right one")
		})
	}
}
