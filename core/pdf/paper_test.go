package pdf

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Sizes of ISO 216 in points, as other programs write them.
func TestPaper(t *testing.T) {
	for want, size := range map[string][2]float64{
		"A3": {841.89, 1190.55}, "A4": {595.276, 841.89}, "A5": {419.53, 595.28}, "A6": {297.64, 419.53}, "Letter": {612, 792}, "Legal": {612, 1008}, "": {600, 800},
	} {
		name, turned := Paper(size[0], size[1])
		assert.Equal(t, want, name)
		assert.False(t, turned)
		name, turned = Paper(size[1], size[0])
		assert.Equal(t, want, name)
		assert.Equal(t, want != "", turned)
	}
	for points, want := range map[float64]string{0: "0 mm", 12 * MM: "12 mm", 12.5 * MM: "12.5 mm", 34.02: "12 mm", 1: "0.4 mm", -MM: "-1 mm"} {
		assert.Equal(t, want, Millimetres(points))
	}
}
