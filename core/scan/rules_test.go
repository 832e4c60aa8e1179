package scan

import (
	"image"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Thin rules go; what crosses or stands on them, and what is thick, stays.
func TestRules(t *testing.T) {
	g := image.NewGray(image.Rect(0, 0, 1200, 1600))
	for i := range g.Pix {
		g.Pix[i] = 245
	}
	fill := func(x0, y0, x1, y1 int) {
		for y := y0; y < y1; y++ {
			for x := x0; x < x1; x++ {
				g.Pix[y*g.Stride+x] = 40
			}
		}
	}
	fill(100, 300, 1100, 303) // a rule across
	fill(200, 100, 202, 1500) // and one upwards
	fill(500, 270, 506, 330)  // a stroke that crosses the first
	fill(700, 285, 740, 300)  // a block that stands on it
	fill(100, 900, 1100, 940) // a bar
	fill(300, 1200, 340, 1203)
	at := func(x, y int) uint8 { return g.Pix[y*g.Stride+x] }
	assert.True(t, Rules(g))
	assert.Greater(t, at(300, 301), uint8(200))
	assert.Greater(t, at(1090, 301), uint8(200))
	assert.Greater(t, at(201, 700), uint8(200))
	assert.Equal(t, uint8(40), at(503, 301), "the stroke goes through")
	assert.Equal(t, uint8(40), at(503, 275))
	assert.Equal(t, uint8(40), at(720, 290))
	assert.Equal(t, uint8(40), at(600, 920), "a bar is no rule")
	assert.Equal(t, uint8(40), at(320, 1201), "nor is a dash")
	assert.False(t, Rules(g), "once they are gone there are none")
}

// What is asked for is done, and nothing else; a picture that needs nothing comes back as it is.
func TestTidy(t *testing.T) {
	sheet := func() *image.Gray {
		g := image.NewGray(image.Rect(0, 0, 900, 1200))
		for y := range 1200 {
			for x := range 900 {
				g.Pix[y*g.Stride+x] = 250
				if y < 12 {
					g.Pix[y*g.Stride+x] = 30
				}
			}
		}
		for row := range 20 { // words that stand askew by about two degrees
			for word := range 9 {
				for x := 100 + word*75; x < 155+word*75; x++ {
					for y := 200 + row*40; y < 216+row*40; y++ {
						if x%6 < 3 {
							g.Pix[(y-x*35/1000)*g.Stride+x] = 20
						}
					}
				}
			}
		}
		return g
	}
	g := sheet()
	planes, f := Tidy([]*image.Gray{sheet()}, g, Wish{Straight: true})
	assert.InDelta(t, 2, f.Skew, 0.15)
	assert.Equal(t, Found{Skew: f.Skew}, f)
	assert.Less(t, planes[0].Pix[3*planes[0].Stride+450], uint8(80), "the edge was not to be cleaned")
	planes, f = Tidy([]*image.Gray{sheet()}, sheet(), Wish{Edges: true})
	assert.Equal(t, Found{Lid: true}, f)
	assert.Greater(t, planes[0].Pix[3*planes[0].Stride+450], uint8(220))
	deg, sure := Shrink(planes[0]).Skew(8)
	assert.True(t, sure)
	assert.InDelta(t, 2, deg, 0.15)
	x, y := Moved(900, 1200, 2, 100, 100)
	bx, by := Back(900, 1200, 2, x, y)
	assert.InDelta(t, 100, bx, 1e-9)
	assert.InDelta(t, 100, by, 1e-9)
}
