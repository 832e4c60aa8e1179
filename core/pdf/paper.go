package pdf

import (
	"math"
	"strconv"
)

// MM is a millimetre in points.
const MM = 72 / 25.4

// Papers are the sizes of paper that have a name, portrait, in points: ISO 216, ANSI/ASME Y14.1 (Letter), and Legal by common practice.
var Papers = map[string][2]float64{
	"A3": {297 * MM, 420 * MM}, "A4": {210 * MM, 297 * MM}, "A5": {148 * MM, 210 * MM}, "A6": {105 * MM, 148 * MM}, "Letter": {612, 792}, "Legal": {612, 1008},
}

// Paper names a size in points that is within 2 points of one of Papers; "" where there is none.
func Paper(w, h float64) (name string, landscape bool) {
	near := func(a, b float64) bool { return math.Abs(a-b) < 2 }
	for name, p := range Papers {
		switch {
		case near(w, p[0]) && near(h, p[1]):
			return name, false
		case near(w, p[1]) && near(h, p[0]):
			return name, true
		}
	}
	return "", false
}

// Millimetres writes a length in points as people read it, to a tenth: "12 mm", "12.5 mm".
func Millimetres(points float64) string {
	return strconv.FormatFloat(math.Round(points/MM*10)/10, 'f', -1, 64) + " mm"
}
