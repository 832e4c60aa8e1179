package content

import (
	"math"

	"glenrain/core/pdf"
)

// Rule is a straight line along an axis that is painted on the page: from A to B, at a place on the other axis, in points.
type Rule struct {
	Upright  bool
	At, A, B float64
}

// Limits of what counts as rules.
const (
	mostRules    = 5_000   // more are a drawing
	mostSegments = 200_000 // of a page, looked at for rules
	mostInPath   = 4_096   // of one path
	thinRule     = 2.5     // points: a filled rectangle that is thinner is a line
	leastRule    = 4.0     // points: what is shorter is none
	straight     = 0.5     // points by which its ends may differ on the other axis
)

// ruler gathers the rules of a page while its paths go by, in little memory.
type ruler struct {
	seen       int          // segments looked at
	lines      [][4]float64 // of the path at hand, on the page
	boxes      []pdf.Rect   // rectangles of the path at hand
	sx, sy     float64      // where the subpath began, on the page
	px, py     float64      // where it is
	overflowed bool
}

// rule looks at an operator that makes or paints a path (8.5).
func (x *runner) rule(o *Op) {
	r := &x.ruler
	if r.overflowed {
		return
	}
	at := func(ux, uy float64) (float64, float64) { return x.state.CTM.Apply(ux, uy) }
	line := func(px, py float64) {
		if r.seen++; len(r.lines) <= mostInPath {
			r.lines = append(r.lines, [4]float64{r.px, r.py, px, py})
		}
		r.px, r.py = px, py
	}
	switch o.Code {
	case opm:
		r.px, r.py = at(num(o, 0), num(o, 1))
		r.sx, r.sy = r.px, r.py
	case opl:
		line(at(num(o, 0), num(o, 1)))
	case oph:
		line(r.sx, r.sy)
	case opre:
		ax, ay := at(num(o, 0), num(o, 1))
		bx, by := at(num(o, 0)+num(o, 2), num(o, 1)+num(o, 3))
		r.boxes = append(r.boxes, pdf.Rect{X0: min(ax, bx), Y0: min(ay, by), X1: max(ax, bx), Y1: max(ay, by)})
		r.seen += 4
		r.px, r.py, r.sx, r.sy = ax, ay, ax, ay
	case opc, opv, opy:
		r.seen++
		r.px, r.py = at(num(o, max(0, len(o.Args)-2)), num(o, max(0, len(o.Args)-1)))
	case opS, ops, opf, opF, opfstar, opB, opBstar, opb, opbstar, opn:
		r.paint(x.page, o.Code, x.hidden)
	}
	if r.seen > mostSegments || len(r.boxes) > mostSegments || len(x.page.Rules) > mostRules {
		r.overflowed = true
		r.lines, r.boxes, x.page.Rules = nil, nil, nil
	}
}

// paint takes over what a path that is painted has of rules.
func (r *ruler) paint(p *Page, how Code, hidden bool) {
	use := PathUse{Paint: how}
	put := func(x0, y0, x1, y1 float64) {
		switch {
		case math.Abs(y0-y1) < straight && math.Abs(x1-x0) > leastRule:
			p.Rules = append(p.Rules, Rule{false, (y0 + y1) / 2, min(x0, x1), max(x0, x1)})
		case math.Abs(x0-x1) < straight && math.Abs(y1-y0) > leastRule:
			p.Rules = append(p.Rules, Rule{true, (x0 + x1) / 2, min(y0, y1), max(y0, y1)})
		}
	}
	if !hidden && (use.Fills() || use.Strokes()) && len(r.lines)+len(r.boxes) <= mostInPath {
		boxes := r.boxes
		if !use.Strokes() && len(r.lines) > 0 && len(r.lines) <= 5 { // a rectangle of single lines
			b := pdf.Rect{X0: math.Inf(1), Y0: math.Inf(1), X1: math.Inf(-1), Y1: math.Inf(-1)}
			for _, l := range r.lines {
				b = pdf.Rect{X0: min(b.X0, l[0], l[2]), Y0: min(b.Y0, l[1], l[3]), X1: max(b.X1, l[0], l[2]), Y1: max(b.Y1, l[1], l[3])}
			}
			boxes = append(boxes, b)
		}
		for _, b := range boxes {
			switch {
			case b.H() <= thinRule:
				put(b.X0, (b.Y0+b.Y1)/2, b.X1, (b.Y0+b.Y1)/2)
			case b.W() <= thinRule:
				put((b.X0+b.X1)/2, b.Y0, (b.X0+b.X1)/2, b.Y1)
			case use.Strokes():
				put(b.X0, b.Y0, b.X1, b.Y0)
				put(b.X0, b.Y1, b.X1, b.Y1)
				put(b.X0, b.Y0, b.X0, b.Y1)
				put(b.X1, b.Y0, b.X1, b.Y1)
			}
		}
		if use.Strokes() {
			for _, l := range r.lines {
				put(l[0], l[1], l[2], l[3])
			}
		}
	}
	r.lines, r.boxes = r.lines[:0], r.boxes[:0]
}
