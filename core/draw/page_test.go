package draw

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"glenrain/core/pdf"
)

func TestBalance(t *testing.T) {
	for content, want := range map[string][2]int{
		"q Q":               {0, 0},
		"q q Q":             {1, 0},
		"Q q":               {1, 1},
		"Q Q":               {0, 2},
		"(q) Tj [(Q) 3] TJ": {0, 0},
		"q BI /W 1 /H 1 /BPC 8 /CS /G ID \xf0 Q q EIq EI Q":      {0, 0},
		"q BI /W 16 /H 1 /BPC 8 /CS /G ID q EI q q q EI qq EI Q": {0, 0}, // unpacked data that looks like content
		"% q in a comment\nq": {1, 0},
	} {
		missing, extra := balance([]byte(content))
		assert.Equal(t, want, [2]int{missing, extra}, content)
	}
}

func TestMatrix(t *testing.T) {
	g := pdf.Geometry{Visible: pdf.Rect{X0: 10, Y0: 20, X1: 110, Y1: 220}, UserUnit: 2}
	for rotate, want := range map[int][2]float64{0: {15, 30}, 90: {100, 25}, 180: {105, 210}, 270: {20, 215}} {
		g.Rotate = rotate
		m := pdf.Translate(10, 20).Mul(Upright(g)) // 10 and 20 points as seen are 5 and 10 units
		assert.InDeltaSlice(t, want[:], m[4:], 1e-9, "turned by %d", rotate)
		back := m.Mul(m.Invert())
		assert.InDeltaSlice(t, []float64{1, 0, 0, 1, 0, 0}, back[:], 1e-9)
	}
}
