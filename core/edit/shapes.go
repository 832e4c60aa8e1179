package edit

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"

	"glenrain/core/claim"
	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Shape is something that is drawn on a page and stays an object of its own. Points are "x,y x,y ...": as parameters points of the page as it
// is seen, from its upper left corner; in the file default user space. A line and an arrow have two, a rectangle and an ellipse two corners of
// the frame or all four, a polygon and a stroke as many as they need.
type Shape struct {
	Kind    string      `json:"kind" enum:"line,arrow,rectangle,ellipse,polygon,stroke" labels:"stroke=freehand stroke" help:"what it is"`
	Points  string      `json:"points" required:"draw the shape on the page" help:"its points: x,y from the upper left corner of the page, separated by spaces"`
	Stroke  string      `json:"stroke,omitempty" help:"line colour: #rrggbb or the name of an office colour; none for no line"`
	Fill    string      `json:"fill,omitempty" help:"fill colour; none for no fill"`
	Width   step.Length `json:"width,omitempty" min:"0" max:"200" help:"line width"`
	Dash    string      `json:"dash,omitempty" enum:",dashed,dotted" labels:"=solid" help:"line style"`
	Opacity float64     `json:"opacity,omitempty" min:"0" max:"100" help:"opacity, per cent"`
}

func usualShape() Shape {
	return Shape{Kind: "rectangle", Stroke: "ochre", Fill: "none", Width: 1.5, Opacity: 100}
}

// AddShape is the step "add-shape".
type AddShape struct {
	Page step.Pages `json:"page" required:"yes" help:"the page"`
	Shape
}

// ChangeShape is the step "change-shape". Points that are empty stay.
type ChangeShape struct {
	Page step.Pages `json:"page" required:"yes" help:"the page"`
	At   int        `json:"at" names:"yes" min:"0" help:"the shape’s number on the page, counted from 0"`
	Shape
}

// The marked content that holds a shape, and the entry of its properties that says what it is.
const (
	shapeTag  = pdf.Name("GLRN_Shape")
	shapeMade = pdf.Name("GLRN_Made")
)

const mostPoints = 5000

type drawnShape struct {
	Shape
	start, end int // in the page's content
}

// points reads the places.
func (s *Shape) points() ([][2]float64, error) {
	var out [][2]float64
	for part := range strings.FieldsSeq(s.Points) {
		a, b, ok := strings.Cut(part, ",")
		x, err1 := strconv.ParseFloat(a, 64)
		y, err2 := strconv.ParseFloat(b, 64)
		if !ok || err1 != nil || err2 != nil || !(math.Abs(x) < 20_000) || !(math.Abs(y) < 20_000) {
			return nil, step.Refuse("%q is no place on a page", part)
		}
		if out = append(out, [2]float64{x, y}); len(out) > mostPoints {
			return nil, step.Refuse("a shape can have up to %s points", step.Thousands(mostPoints))
		}
	}
	least, frames := 2, s.Kind == "rectangle" || s.Kind == "ellipse"
	if s.Kind == "polygon" {
		least = 3
	}
	if len(out) < least {
		return nil, step.Refuse("the shape needs %d points at least", least)
	}
	if frames && len(out) == 2 {
		a, b := out[0], out[1]
		out = [][2]float64{a, {b[0], a[1]}, b, {a[0], b[1]}}
	}
	if frames && len(out) != 4 || (s.Kind == "line" || s.Kind == "arrow") && len(out) != 2 {
		return nil, step.Refuse("the shape has too many points")
	}
	return out, nil
}

func (s *Shape) setPoints(list [][2]float64) {
	var b []byte
	for i, p := range list {
		if i > 0 {
			b = append(b, ' ')
		}
		b = strconv.AppendFloat(b, math.Round(p[0]*100)/100, 'f', -1, 64)
		b = append(b, ',')
		b = strconv.AppendFloat(b, math.Round(p[1]*100)/100, 'f', -1, 64)
	}
	s.Points = string(b)
}

// moved gives the shape with its points moved by m.
func (s Shape) moved(m pdf.Matrix) Shape {
	list, err := s.points()
	if err != nil {
		return s
	}
	for i, p := range list {
		list[i][0], list[i][1] = m.Apply(p[0], p[1])
	}
	s.setPoints(list)
	return s
}

// box is the rectangle around it.
func (s *Shape) box() pdf.Rect {
	list, err := s.points()
	if err != nil || len(list) == 0 {
		return pdf.Rect{}
	}
	out := pdf.Rect{X0: list[0][0], Y0: list[0][1], X1: list[0][0], Y1: list[0][1]}
	for _, p := range list {
		out = around(out, pdf.Rect{X0: p[0], Y0: p[1], X1: p[0], Y1: p[1]})
	}
	return out
}

// check tells what of it can't be.
func (s *Shape) check() error {
	for _, c := range []string{s.Stroke, s.Fill} {
		if c != "" && c != "none" {
			if _, _, _, err := step.Colour(c).RGB(); err != nil {
				return err
			}
		}
	}
	if s.Width < 0 || s.Width > 200 {
		return step.Refuse("a line can be up to 200 pt wide")
	}
	if s.Opacity < 0 || s.Opacity > 100 {
		return step.Refuse("opacity can be 1 to 100 per cent")
	}
	if (s.Stroke == "none" || s.Stroke == "") && (s.Fill == "none" || s.Fill == "") {
		return step.Refuse("a shape without a line or a fill would be invisible")
	}
	_, err := s.points()
	return err
}

// write writes it as content, in default user space.
func (s *Shape) write(doc *pdf.Document, name func(kind pdf.Name, ref pdf.Ref) pdf.Name) []byte {
	list, err := s.points()
	if err != nil {
		return nil
	}
	made, _ := json.Marshal(s) // of strings and numbers: it can't fail
	var b []byte
	b = append(b, "/Artifact BMC\n"...)
	b = append(pdf.AppendObject(b, shapeTag), ' ')
	b = append(pdf.AppendObject(b, pdf.NewDict(shapeMade, pdf.TextString(string(made)))), " BDC\nq\n"...)
	num := func(v float64) { b = append(content.AppendNumber(b, math.Round(v*1000)/1000), ' ') }
	op := func(o string) { b = append(append(b, o...), '\n') }
	colour := func(c, o string) bool {
		if c == "" || c == "none" {
			return false
		}
		r, g, bl, err := step.Colour(c).RGB()
		if err != nil {
			return false
		}
		num(r)
		num(g)
		num(bl)
		op(o)
		return true
	}
	if s.Opacity > 0 && s.Opacity < 100 {
		gs := doc.Add(pdf.NewDict("Type", pdf.Name("ExtGState"), "ca", pdf.Real(s.Opacity/100), "CA", pdf.Real(s.Opacity/100)))
		b = append(pdf.AppendObject(b, name("ExtGState", gs)), " gs\n"...)
	}
	fills := colour(s.Fill, "rg") && s.Kind != "line" && s.Kind != "arrow"
	strokes := colour(s.Stroke, "RG")
	w := float64(s.Width)
	if w == 0 {
		w = 1
	}
	num(w)
	op("w")
	if s.Kind == "stroke" || s.Dash == "dotted" {
		op("1 J 1 j")
	}
	switch s.Dash {
	case "dashed":
		b = append(b, '[')
		num(4 * w)
		num(2.5 * w)
		op("] 0 d")
	case "dotted":
		b = append(b, "[0 "...)
		num(2 * w)
		op("] 0 d")
	}
	to := func(p [2]float64, o string) {
		num(p[0])
		num(p[1])
		op(o)
	}
	closed := s.Kind == "rectangle" || s.Kind == "polygon" || s.Kind == "ellipse"
	end := list[len(list)-1]
	head := [3][2]float64{}
	if s.Kind == "arrow" { // the line ends within the head
		dx, dy := end[0]-list[0][0], end[1]-list[0][1]
		n := math.Hypot(dx, dy)
		if n > 0 {
			long, wide := min(n, 4*w+4), 1.5*w+1.5
			ux, uy := dx/n, dy/n
			foot := [2]float64{end[0] - long*ux, end[1] - long*uy}
			head = [3][2]float64{end, {foot[0] - wide*uy, foot[1] + wide*ux}, {foot[0] + wide*uy, foot[1] - wide*ux}}
			end = [2]float64{end[0] - 0.8*long*ux, end[1] - 0.8*long*uy}
		}
	}
	switch s.Kind {
	case "ellipse":
		at := func(u, v float64) [2]float64 { // of the frame, from -1 to 1
			c := [2]float64{(list[0][0] + list[2][0]) / 2, (list[0][1] + list[2][1]) / 2}
			ax, ay := (list[1][0]-list[0][0])/2, (list[1][1]-list[0][1])/2
			bx, by := (list[3][0]-list[0][0])/2, (list[3][1]-list[0][1])/2
			return [2]float64{c[0] + u*ax + v*bx, c[1] + u*ay + v*by}
		}
		const k = 0.5522847498 // a quarter of a circle as a Bézier curve
		to(at(1, 0), "m")
		for _, q := range [4][3][2]float64{{{1, k}, {k, 1}, {0, 1}}, {{-k, 1}, {-1, k}, {-1, 0}}, {{-1, -k}, {-k, -1}, {0, -1}}, {{k, -1}, {1, -k}, {1, 0}}} {
			for i, p := range q {
				c := at(p[0], p[1])
				num(c[0])
				num(c[1])
				if i == 2 {
					op("c")
				}
			}
		}
	default:
		to(list[0], "m")
		for i, p := range list[1:] {
			if i == len(list)-2 {
				p = end
			}
			to(p, "l")
		}
	}
	switch {
	case closed && fills && strokes:
		op("b")
	case closed && fills:
		op("f")
	case closed:
		op("s")
	case fills && s.Kind == "stroke" && strokes:
		op("B")
	default:
		op("S")
	}
	if s.Kind == "arrow" && head[0] != head[1] {
		colour(s.Stroke, "rg")
		to(head[0], "m")
		to(head[1], "l")
		to(head[2], "l")
		op("f")
	}
	return append(b, "Q\nEMC\nEMC\n"...)
}

// shapesOf lists the shapes of a page.
func shapesOf(page *content.Page) (out []drawnShape) {
	if len(page.Invocations) == 0 {
		return nil
	}
	body := page.Invocations[0].Body.Data
	for i := range page.Marks {
		m := &page.Marks[i]
		if m.Tag != shapeTag || m.Invocation != 0 {
			continue
		}
		text, ok := m.Props.Get(shapeMade).(pdf.String)
		if !ok {
			continue
		}
		s := drawnShape{start: m.Start}
		if json.Unmarshal([]byte(pdf.Text(text)), &s.Shape) != nil || s.check() != nil {
			continue
		}
		if p := m.Parent; p >= 0 && page.Marks[p].Tag == "Artifact" { // which is around it
			s.start = page.Marks[p].Start
		}
		if s.end, ok = markEnd(body, s.start); ok {
			out = append(out, s)
		}
	}
	return out
}

// inShape reports whether marked content is a shape, or in one.
func inShape(page *content.Page, at int) bool {
	for n := 0; at >= 0 && n < 64; n++ {
		if page.Marks[at].Tag == shapeTag {
			return true
		}
		at = page.Marks[at].Parent
	}
	return false
}

// markEnd finds where the marked content ends that begins at a place.
func markEnd(body []byte, start int) (int, bool) {
	s := content.Scanner{Data: body, Pos: start}
	var o content.Op
	depth := 0
	for s.Next(&o) {
		switch {
		case o.Code.BeginsMark():
			depth++
		case o.Code.EndsMark():
			if depth--; depth == 0 {
				return o.End, true
			}
		}
	}
	return 0, false
}

// invisible takes a shape's points from the page as it is seen to default user space.
func (s Shape) invisible(g pdf.Geometry) (Shape, error) {
	if err := s.check(); err != nil {
		return s, err
	}
	_, h := g.Seen()
	return s.moved(seenMatrix(g, h)), nil
}

// seenMatrix takes a page as it is seen, h points high, from its upper left corner down, to its default user space.
func seenMatrix(g pdf.Geometry, h float64) pdf.Matrix {
	return pdf.Matrix{1, 0, 0, -1, 0, h}.Mul(draw.Upright(g))
}

func (m *mover) moveShape(o *drawnShape, t pdf.Matrix, copies bool) error {
	moved := o.Shape.moved(t)
	start := o.start
	if copies {
		start = o.end
	}
	m.set.extra = append(m.set.extra, content.Patch{Invocation: 0, Start: start, End: o.end, Make: func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
		return append([]byte("\n"), moved.write(m.doc, name)...)
	}})
	return nil
}

// Apply draws the shape.
func (s *AddShape) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	ref, err := onePage(&s.Page, doc, env, "a shape is drawn")
	if err != nil {
		return nil, err
	}
	shape, err := s.invisible(doc.Geometry(ref))
	if err != nil {
		return nil, err
	}
	err = draw.Onto(doc, ref, func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte { return shape.write(doc, name) })
	if err != nil {
		return nil, err
	}
	res := &step.Result{Pages: env.Keys.Of([]pdf.Ref{ref}), Redrawn: step.RedrawPages, Show: env.Keys.Key(ref), Adds: shape.adds()}
	res.Sentence = fmt.Sprintf("%s drawn on %s", strings.ToUpper(s.Kind[:1])+s.Kind[1:], inSentence(doc, doc.PageIndexes([]pdf.Ref{ref})))
	return res, nil
}

// adds is what drawing the shape brings in.
func (s *Shape) adds() claim.Effect {
	if s.Opacity > 0 && s.Opacity < 100 {
		return claim.Colour | claim.Transparency
	}
	return claim.Colour
}

// Apply changes the shape.
func (s *ChangeShape) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	ref, err := onePage(&s.Page, doc, env, "a shape is changed")
	if err != nil {
		return nil, err
	}
	page, l, err := opened(ctx, doc, ref)
	if err != nil {
		return nil, err
	}
	shapes := shapesOf(page)
	if s.At < 0 || s.At >= len(shapes) {
		return nil, errNoObject
	}
	was := shapes[s.At]
	shape := s.Shape
	if shape.Points == "" || shape.Points == "as it is" {
		shape.Points = was.Points
		if err := shape.check(); err != nil {
			return nil, err
		}
	} else if shape, err = s.invisible(doc.Geometry(ref)); err != nil {
		return nil, err
	}
	m := &mover{doc: doc, page: page, lay: l}
	m.set.at(page)
	m.set.extra = append(m.set.extra, content.Patch{Invocation: 0, Start: was.start, End: was.end, Make: func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte { return shape.write(doc, name) }})
	if err := m.set.apply(doc); err != nil {
		return nil, err
	}
	res := &step.Result{Pages: env.Keys.Of([]pdf.Ref{ref}), Redrawn: step.RedrawPages, Show: env.Keys.Key(ref), Adds: shape.adds()}
	res.Sentence = fmt.Sprintf("%s changed on %s", strings.ToUpper(shape.Kind[:1])+shape.Kind[1:], inSentence(doc, doc.PageIndexes([]pdf.Ref{ref})))
	return res, nil
}
