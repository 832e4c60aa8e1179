package recognize

import (
	"image"
	"math"

	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/picture"
)

// part is a place on a page that shows a picture which may be one of text.
type part struct {
	frame pdf.Rect      // on the page, in default user space
	own   []partPicture // the pictures that lie there
	text  []pdf.Rect    // real text that is seen there; it is not recognized again
	drawn bool          // it is to be drawn: its own pixels can't be had, or are not all that is seen
}

type partPicture struct {
	ref    pdf.Ref
	matrix pdf.Matrix
}

// Limits of a picture that may hold text: smaller ones are logos and rules.
const (
	leastSide = 24.0       // points
	leastArea = 30.0 * 100 // square points
	drawnDPI  = 300
	mostDPI   = 600
	mostLook  = 40_000_000 // pixels of one part
)

// partsOf finds the pictures of a page: those that touch one another are one part, as scans are often stored in strips and layers.
func partsOf(doc *pdf.Document, p *content.Page, g pdf.Geometry) (out []part) {
	v := g.Visible
	unit := g.UserUnit
	for i := range p.Images {
		u := &p.Images[i]
		if u.Hidden {
			continue
		}
		b := u.Box()
		b = pdf.Rect{X0: max(b.X0, v.X0), Y0: max(b.Y0, v.Y0), X1: min(b.X1, v.X1), Y1: min(b.Y1, v.Y1)}
		if b.X1-b.X0 < 1 || b.Y1-b.Y0 < 1 {
			continue
		}
		one := part{frame: b, own: []partPicture{{u.Ref, u.Matrix}}, drawn: u.Ref.IsZero()}
		if st := u.State; st != nil && !covers(st.Clip, b) {
			one.drawn = true
		}
		for k := 0; k < len(out); { // all that it touches becomes one with it
			if near(out[k].frame, one.frame) {
				one.frame = around(one.frame, out[k].frame)
				one.own = append(out[k].own, one.own...)
				one.drawn = true
				out[k] = out[len(out)-1]
				out = out[:len(out)-1]
				k = 0
				continue
			}
			k++
		}
		out = append(out, one)
	}
	kept := out[:0]
	for _, one := range out {
		w, h := one.frame.W()*unit, one.frame.H()*unit
		if w < leastSide || h < leastSide || w*h < leastArea {
			continue
		}
		for i := range p.Glyphs {
			gl := &p.Glyphs[i]
			sh := &p.Shows[gl.Show]
			if sh.Hidden || sh.State == nil || sh.State.Render == 3 || sh.State.Render == 7 || gl.Char == nil {
				continue
			}
			if b := p.Box(gl); overlaps(b, one.frame) {
				one.text = append(one.text, b)
			}
		}
		for i := range p.Paths {
			if u := &p.Paths[i]; !u.Hidden && u.Start > 0 && overlaps(u.Bounds, one.frame) && u.Bounds.W()*u.Bounds.H() > 0.02*one.frame.W()*one.frame.H() && u.Bounds.W() < 0.98*v.W() {
				one.drawn = true // something that is drawn covers a part of it
			}
		}
		kept = append(kept, one)
	}
	return kept
}

func covers(clip, b pdf.Rect) bool {
	return clip.X0 <= b.X0+0.5 && clip.Y0 <= b.Y0+0.5 && clip.X1 >= b.X1-0.5 && clip.Y1 >= b.Y1-0.5
}

func near(a, b pdf.Rect) bool {
	const gap = 1.5
	return a.X1+gap > b.X0 && a.X0-gap < b.X1 && a.Y1+gap > b.Y0 && a.Y0-gap < b.Y1
}

func overlaps(a, b pdf.Rect) bool { return a.X1 > b.X0 && a.X0 < b.X1 && a.Y1 > b.Y0 && a.Y0 < b.Y1 }

func around(a, b pdf.Rect) pdf.Rect {
	return pdf.Rect{X0: min(a.X0, b.X0), Y0: min(a.Y0, b.Y0), X1: max(a.X1, b.X1), Y1: max(a.Y1, b.Y1)}
}

// pixels are a picture of a part as it is to be read: where a place in it lies on the page, and how many pixels an inch it has.
type pixels struct {
	gray   *image.Gray
	toPage pdf.Matrix // from pixels, from the upper left corner, to default user space
	dpi    float64
}

// ownPixels gives the part's picture as it is stored, at its own resolution.
func (p *part) ownPixels(doc *pdf.Document, unit float64) (*pixels, error) {
	g, err := picture.Gray(doc, p.own[0].ref)
	if err != nil {
		return nil, err
	}
	w, h := float64(g.Rect.Dx()), float64(g.Rect.Dy())
	m := p.own[0].matrix
	across := math.Hypot(m[0], m[1]) * unit
	px := &pixels{gray: g, toPage: pdf.Matrix{1 / w, 0, 0, -1 / h, 0, 1}.Mul(m), dpi: 72 * w / max(1, across)}
	return px, nil
}

// crop cuts what is drawn of a page to a part of it. upright is the page as it was drawn, at dpi.
func (p *part) crop(all *image.RGBA, g pdf.Geometry, dpi float64) *pixels {
	up := draw.Upright(g)
	high := g.Visible.H() * g.UserUnit
	if g.Rotate%180 != 0 {
		high = g.Visible.W() * g.UserUnit
	}
	s := dpi / 72
	toPage := pdf.Matrix{1 / s, 0, 0, -1 / s, 0, high}.Mul(up) // from pixels of the whole
	b := toPage.Invert().Bounds(p.frame)
	r := image.Rect(int(math.Floor(b.X0)), int(math.Floor(b.Y0)), int(math.Ceil(b.X1)), int(math.Ceil(b.Y1))).Intersect(all.Rect)
	out := image.NewGray(image.Rect(0, 0, r.Dx(), r.Dy()))
	for y := range r.Dy() {
		row := all.Pix[all.PixOffset(r.Min.X, r.Min.Y+y):]
		for x := range r.Dx() {
			c := row[4*x : 4*x+3]
			out.Pix[y*out.Stride+x] = uint8((299*uint32(c[0]) + 587*uint32(c[1]) + 114*uint32(c[2]) + 500) / 1000)
		}
	}
	px := &pixels{gray: out, dpi: dpi}
	px.toPage = pdf.Matrix{1, 0, 0, 1, float64(r.Min.X), float64(r.Min.Y)}.Mul(toPage)
	return px
}
