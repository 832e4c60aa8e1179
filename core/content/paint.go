package content

import (
	"bytes"
	"math"
	"strings"

	"glenrain/core/pdf"
)

// paint runs the colour operators (8.6.8) and those of line width; false for others.
func (x *runner) paint(o *Op) bool {
	st := &x.state
	switch o.Code {
	case opg:
		st.Fill = device("DeviceGray", o, 1)
	case opG:
		st.Stroke = device("DeviceGray", o, 1)
	case oprg:
		st.Fill = device("DeviceRGB", o, 3)
	case opRG:
		st.Stroke = device("DeviceRGB", o, 3)
	case opk:
		st.Fill = device("DeviceCMYK", o, 4)
	case opK:
		st.Stroke = device("DeviceCMYK", o, 4)
	case opcs:
		st.Fill = x.space(o)
	case opCS:
		st.Stroke = x.space(o)
	case opsc, opscn:
		x.colour(o, &st.Fill)
	case opSC, opSCN:
		x.colour(o, &st.Stroke)
	case opw:
		st.LineWidth = num(o, 0)
	default:
		return false
	}
	x.dirty = true
	return true
}

func device(space pdf.Name, o *Op, n int) Paint {
	p := Paint{Space: space, N: n}
	for i := range n {
		p.Values[i] = num(o, i)
	}
	return p
}

func (x *runner) space(o *Op) Paint {
	if len(o.Args) == 0 || o.Args[0].Kind != Name {
		return Paint{}
	}
	name := pdf.Name(o.Args[0].Bytes)
	switch name {
	case "DeviceGray", "DeviceRGB", "DeviceCMYK", "Pattern":
		return Paint{Space: name}
	}
	if v := x.doc.Dict(x.res.dict.Get("ColorSpace")).Get(name); v != nil {
		return Paint{Space: v}
	}
	return Paint{Space: name}
}

func (x *runner) colour(o *Op, p *Paint) {
	p.N = 0
	p.Pattern = ""
	for _, a := range o.Args {
		switch a.Kind {
		case Number:
			if p.N < len(p.Values) {
				p.Values[p.N] = a.Num
				p.N++
			}
		case Name:
			p.Pattern = pdf.Name(a.Bytes)
		}
	}
}

// path runs the path operators (8.5).
func (x *runner) path(o *Op) {
	switch o.Code {
	case opm:
		x.x, x.y = num(o, 0), num(o, 1)
		x.sx, x.sy = x.x, x.y
		x.point(o, MoveTo, x.x, x.y)
	case opl:
		x.x, x.y = num(o, 0), num(o, 1)
		x.point(o, LineTo, x.x, x.y)
	case opc:
		x.curve(o, num(o, 0), num(o, 1), num(o, 2), num(o, 3), num(o, 4), num(o, 5))
	case opv:
		x.curve(o, x.x, x.y, num(o, 0), num(o, 1), num(o, 2), num(o, 3))
	case opy:
		x.curve(o, num(o, 0), num(o, 1), num(o, 2), num(o, 3), num(o, 2), num(o, 3))
	case oph:
		x.x, x.y = x.sx, x.sy
		x.point(o, Close, x.x, x.y)
	case opre:
		a, b, w, h := num(o, 0), num(o, 1), num(o, 2), num(o, 3)
		x.point(o, MoveTo, a, b)
		x.point(o, LineTo, a+w, b)
		x.point(o, LineTo, a+w, b+h)
		x.point(o, LineTo, a, b+h)
		x.point(o, Close, a, b)
		x.x, x.y, x.sx, x.sy = a, b, a, b
	case opW, opWstar:
		x.clipNext = true
	case opS, ops, opf, opF, opfstar, opB, opBstar, opb, opbstar, opn:
		x.endPath(o)
	case opsh:
		x.page.Paths = append(x.page.Paths, PathUse{Invocation: x.at, Start: o.Start, End: o.End, Paint: opsh, Bounds: x.state.Clip,
			First: len(x.page.Points), State: x.snap(), Mark: x.mark, Hidden: x.hidden})
	}
}

func (x *runner) point(o *Op, how PointOp, ux, uy float64) {
	if len(x.page.Points) == x.pathFirst {
		x.pathStart = o.Start
		x.pathBounds = pdf.Rect{X0: math.Inf(1), Y0: math.Inf(1), X1: math.Inf(-1), Y1: math.Inf(-1)}
	}
	if len(x.page.Points) > maxGlyphs {
		x.page.Cut = true
		return
	}
	px, py := x.state.CTM.Apply(ux, uy)
	x.page.Points = append(x.page.Points, Point{px, py, how})
	b := &x.pathBounds
	b.X0, b.Y0, b.X1, b.Y1 = min(b.X0, px), min(b.Y0, py), max(b.X1, px), max(b.Y1, py)
}

func (x *runner) curve(o *Op, x1, y1, x2, y2, x3, y3 float64) {
	x.point(o, CurveTo, x1, y1)
	x.point(o, CurveTo, x2, y2)
	x.point(o, CurveTo, x3, y3)
	x.x, x.y = x3, y3
}

func (x *runner) endPath(o *Op) {
	if n := len(x.page.Points) - x.pathFirst; n > 0 {
		if o.Code == opn {
			if x.clipNext {
				x.state.Clip = intersect(x.state.Clip, x.pathBounds)
				x.dirty = true
			}
			x.page.Points = x.page.Points[:x.pathFirst]
		} else {
			x.page.Paths = append(x.page.Paths, PathUse{Invocation: x.at, Start: x.pathStart, End: o.End, Paint: o.Code, Bounds: x.pathBounds,
				First: x.pathFirst, N: n, State: x.snap(), Mark: x.mark, Hidden: x.hidden})
			if x.clipNext {
				x.state.Clip = intersect(x.state.Clip, x.pathBounds)
				x.dirty = true
			}
		}
	}
	x.clipNext = false
	x.pathFirst = len(x.page.Points)
}

// Set writes the operators that make a colour the one to fill with, or to stroke with, where res are the resources; false where the colour
// can't be named there.
func (p Paint) Set(doc *pdf.Document, res *pdf.Dict, stroke bool) ([]byte, bool) {
	ops := [6]string{"g", "rg", "k", "cs", "sc", "scn"}
	if stroke {
		ops = [6]string{"G", "RG", "K", "CS", "SC", "SCN"}
	}
	var b []byte
	for _, v := range p.Values[:p.N] {
		b = append(AppendNumber(b, v), ' ')
	}
	space, named := p.Space.(pdf.Name)
	switch {
	case p.Space == nil && p.N == 0:
		return append(b, "0 "+ops[0]+"\n"...), true
	case p.Space == nil || space == "DeviceGray" && p.N == 1:
		return append(b, ops[0]+"\n"...), true
	case space == "DeviceRGB" && p.N == 3:
		return append(b, ops[1]+"\n"...), true
	case space == "DeviceCMYK" && p.N == 4:
		return append(b, ops[2]+"\n"...), true
	}
	name := space
	if !named || !strings.HasPrefix(string(space), "Device") && space != "Pattern" {
		name = ""
		for _, e := range doc.Dict(res.Get("ColorSpace")).Entries() {
			if same(e.Value, p.Space) {
				name = e.Key
				break
			}
		}
	}
	if name == "" {
		return nil, false
	}
	out := append(pdf.AppendObject(nil, name), " "+ops[3]+"\n"...)
	if p.N == 0 && p.Pattern == "" { // the first colour of the space
		return out, true
	}
	out = append(out, b...)
	if p.Pattern != "" {
		out = append(pdf.AppendObject(out, p.Pattern), ' ')
	}
	return append(out, ops[5]+"\n"...), true
}

func same(a, b pdf.Object) bool {
	x, isRef := a.(pdf.Ref)
	if y, ok := b.(pdf.Ref); ok || isRef {
		return ok && isRef && x == y
	}
	return bytes.Equal(pdf.AppendObject(nil, a), pdf.AppendObject(nil, b))
}
