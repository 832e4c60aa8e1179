package station

import (
	"math"
	"net/http"
	"strconv"
	"strings"

	"glenrain/core/draw"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk"
)

// SeenPoint takes a point of default user space to the page as it is seen: points from its upper left corner.
func SeenPoint(g pdf.Geometry, x, y float64) (float64, float64) {
	_, h := g.Seen()
	x, y = draw.Upright(g).Invert().Apply(x, y)
	return math.Round(x*100) / 100, math.Round((h-y)*100) / 100
}

// InvisibleRect takes a rectangle of the page as it is seen to default user space.
func InvisibleRect(g pdf.Geometry, x0, y0, x1, y1 float64) pdf.Rect {
	_, h := g.Seen()
	return draw.Upright(g).Bounds(pdf.Rect{X0: min(x0, x1), Y0: h - max(y0, y1), X1: max(x0, x1), Y1: h - min(y0, y1)})
}

// Corners writes a quad for the layer over the page: x and y of four corners, going round.
func Corners(g pdf.Geometry, q layout.Quad) [8]float64 {
	var out [8]float64
	for i, c := range q {
		out[2*i], out[2*i+1] = SeenPoint(g, c[0], c[1])
	}
	return out
}

// Frame reads a frame on the page as it is seen: left, top, right and bottom in points, with spaces between.
func Frame(text string) (f [4]float64, err error) {
	parts := strings.Fields(text)
	if len(parts) != 4 {
		return f, step.Refuse("a frame needs four numbers")
	}
	for i, p := range parts {
		if f[i], err = strconv.ParseFloat(p, 64); err != nil || math.IsNaN(f[i]) || math.Abs(f[i]) > 1e6 {
			return f, step.Refuse("%q isn’t a place on the page", p)
		}
	}
	return f, nil
}

// ReadPage reads the text of the page that an address names.
func ReadPage(d *desk.Desk, r *http.Request) (*layout.Page, pdf.Geometry, error) {
	key, err := PageKey(r, "key")
	if err != nil {
		return nil, pdf.Geometry{}, err
	}
	snap, err := d.Look(r.Context(), Person(r).ID, ID(r, "id"))
	if err != nil {
		return nil, pdf.Geometry{}, err
	}
	return d.ReadPage(r.Context(), snap, key)
}
