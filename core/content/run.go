package content

import (
	"context"
	"math"

	"glenrain/core/font"
	"glenrain/core/pdf"
)

// runner interprets one page.
type runner struct {
	ctx  context.Context
	r    *Reader
	doc  *pdf.Document
	page *Page
	opt  Options
	err  error

	graphics
	scope
	ruler ruler
	ops   int
	read  int // bytes of bodies
	depth int
	forms [maxForms]pdf.Ref // that are running

	// the path under construction
	pathStart  int
	deepStart  int // of the path that is being made, where patterns are asked for
	pathFirst  int
	x, y       float64 // current point, in user space
	sx, sy     float64
	clipNext   bool
	pathBounds pdf.Rect
}

// graphics is the graphics state as q keeps it and Q brings it back.
type graphics struct {
	state State
	last  *State // the newest snapshot of state, where that is not dirty
	dirty bool
}

// scope is what a body has of its own while it runs, and what runs it gets back unchanged.
type scope struct {
	at         int // the invocation at hand
	res        *resources
	mark       int // the innermost marked content
	hidden     bool
	line, text pdf.Matrix // Tlm and Tm
	stack      []graphics // of q
	inPath     bool       // a path is being made
}

// resources gives what names stand for; a font is looked up once.
type resources struct {
	dict  *pdf.Dict
	fonts map[string]*font.Font
}

func (x *runner) snap() *State {
	if x.dirty || x.last == nil {
		if len(x.page.states) == cap(x.page.states) {
			x.page.states = make([]State, 0, 32)
		}
		x.page.states = append(x.page.states, x.state)
		x.last = &x.page.states[len(x.page.states)-1]
		x.dirty = false
	}
	return x.last
}

// invoke runs a body with its own text matrices, marked content and resources, and the state that is there.
func (x *runner) invoke(v Invocation) {
	x.read += len(v.Body.Data)
	if len(x.page.Invocations) >= maxInvoked || x.read > maxRead {
		x.page.Cut = true
		return
	}
	x.page.Invocations = append(x.page.Invocations, v)
	outer := x.scope
	defer func() {
		x.scope = outer
		x.inPath = false // what an outer path had begun is over
	}()
	x.scope = scope{at: len(x.page.Invocations) - 1, res: outer.res, mark: outer.mark, hidden: outer.hidden, line: pdf.Identity, text: pdf.Identity}
	if outer.res == nil || outer.res.dict != v.Resources {
		x.res = &resources{dict: v.Resources, fonts: map[string]*font.Font{}}
	}
	if v.Parent < 0 {
		x.mark, x.hidden = -1, false
	}
	s := Scanner{Data: v.Body.Data}
	var o Op
	for s.Next(&o) {
		if x.ops++; x.ops > maxOperators || x.page.full() {
			x.page.Cut = true
			break
		}
		if x.ops&0x3ff == 0 {
			if x.err = x.ctx.Err(); x.err == nil {
				x.err = x.doc.Over()
			}
			if x.err != nil {
				break
			}
		}
		x.operator(&o)
		if x.err != nil {
			break
		}
	}
}

func num(o *Op, i int) float64 {
	if i < len(o.Args) && o.Args[i].Kind == Number {
		return o.Args[i].Num
	}
	return 0
}

// operator runs one operator. One with too few operands counts those that lack as zero, or is passed over where that would
// make no sense.
func (x *runner) operator(o *Op) {
	if x.textOperator(o) || x.textState(o) || x.graphicsState(o) || x.objectOperator(o) || x.paint(o) {
		return
	}
	x.pathOperator(o)
}

// textOperator begins text objects, positions text and shows it (9.4); false for other operators.
func (x *runner) textOperator(o *Op) bool {
	switch o.Code {
	case opTj:
		x.show(o, lastArg(o))
	case opTJ:
		items := lastArg(o)
		if len(items) > 0 && items[0].Kind == Array {
			items = items[0].Items
		}
		x.show(o, items)
	case opQuote:
		x.nextLine(0, -x.state.Leading)
		x.show(o, lastArg(o))
	case opQuote2:
		if len(o.Args) >= 3 {
			x.set(&x.state.WordSpace, num(o, 0))
			x.set(&x.state.CharSpace, num(o, 1))
		}
		x.nextLine(0, -x.state.Leading)
		x.show(o, lastArg(o))
	case opTd:
		x.nextLine(num(o, 0), num(o, 1))
	case opTD:
		x.set(&x.state.Leading, -num(o, 1))
		x.nextLine(num(o, 0), num(o, 1))
	case opTstar:
		x.nextLine(0, -x.state.Leading)
	case opTm:
		if len(o.Args) >= 6 {
			x.line = matrixOf(o.Args)
			x.text = x.line
		}
	case opBT:
		x.line, x.text = pdf.Identity, pdf.Identity
	default:
		return false
	}
	return true
}

// textState sets a part of the text state (9.3); false for other operators.
func (x *runner) textState(o *Op) bool {
	switch o.Code {
	case opTf:
		if len(o.Args) >= 2 && o.Args[0].Kind == Name {
			x.setFont(o.Args[0].Bytes, num(o, 1))
		}
	case opTc:
		x.set(&x.state.CharSpace, num(o, 0))
	case opTw:
		x.set(&x.state.WordSpace, num(o, 0))
	case opTz:
		x.set(&x.state.Scale, num(o, 0)/100)
	case opTL:
		x.set(&x.state.Leading, num(o, 0))
	case opTs:
		x.set(&x.state.Rise, num(o, 0))
	case opTr:
		x.state.Render, x.dirty = int(num(o, 0)), true
	default:
		return false
	}
	return true
}

// mostSaved is how many graphics states are kept by q.
const mostSaved = 1 << 12

// graphicsState keeps the graphics state, brings it back, and changes what is followed of it besides colours (8.4); false for other operators.
func (x *runner) graphicsState(o *Op) bool {
	switch o.Code {
	case opq:
		if len(x.stack) < mostSaved {
			x.stack = append(x.stack, x.graphics)
		}
	case opQ:
		if n := len(x.stack); n > 0 {
			x.graphics, x.stack = x.stack[n-1], x.stack[:n-1]
		}
	case opcm:
		if len(o.Args) >= 6 {
			x.state.CTM, x.dirty = matrixOf(o.Args).Mul(x.state.CTM), true
		}
	case opgs:
		if len(o.Args) > 0 {
			x.setState(o.Args[0].Bytes)
		}
	default:
		return false
	}
	return true
}

// objectOperator draws XObjects and inline pictures (8.8, 8.9.7), and opens and closes marked content (14.6); false for other operators.
func (x *runner) objectOperator(o *Op) bool {
	switch o.Code {
	case opDo:
		if len(o.Args) > 0 && o.Args[0].Kind == Name {
			x.do(o)
		}
	case opBI:
		if x.opt.Images {
			x.page.Images = append(x.page.Images, ImageUse{Invocation: x.at, Start: o.Start, End: o.End, Inline: o.Image,
				Matrix: x.state.CTM, State: x.snap(), Mark: x.mark, Hidden: x.hidden})
		}
	case opBMC, opBDC:
		x.begin(o)
	case opEMC:
		if x.mark >= 0 && x.page.Marks[x.mark].Invocation == x.at {
			x.mark = x.page.Marks[x.mark].Parent
			x.hidden = x.mark >= 0 && x.page.Marks[x.mark].Hidden
		}
	default:
		return false
	}
	return true
}

// set sets a number of the graphics state.
func (x *runner) set(at *float64, v float64) { *at, x.dirty = v, true }

// lastArg gives the last operand, in a list; none where there is none.
func lastArg(o *Op) []Operand { return o.Args[max(0, len(o.Args)-1):] }

// pathOperator makes and paints paths (8.5).
func (x *runner) pathOperator(o *Op) {
	if x.opt.Deep && (o.Code == opm || o.Code == opre) && !x.inPath {
		x.inPath, x.deepStart = true, o.Start
	}
	if x.opt.Paths {
		x.path(o)
	}
	x.rule(o)
	if x.opt.Deep { // behind the path, since its points are together until it is painted
		x.patterns(o)
	}
}

func matrixOf(a []Operand) pdf.Matrix {
	return pdf.Matrix{a[0].Num, a[1].Num, a[2].Num, a[3].Num, a[4].Num, a[5].Num}
}

func (x *runner) nextLine(tx, ty float64) {
	m := &x.line
	m[4], m[5] = tx*m[0]+ty*m[2]+m[4], tx*m[1]+ty*m[3]+m[5]
	x.text = *m
}

func (x *runner) setFont(name []byte, size float64) {
	f, ok := x.res.fonts[string(name)]
	if !ok {
		if o := x.doc.Dict(x.res.dict.Get("Font")).Get(pdf.Name(name)); o != nil {
			f = x.r.Font(o)
		}
		x.res.fonts[string(name)] = f
	}
	st := &x.state
	if f == st.Font && size == st.Size && string(st.FontName) == string(name) {
		return
	}
	st.Font, st.Size = f, size
	if string(st.FontName) != string(name) {
		st.FontName = pdf.Name(name)
	}
	x.dirty = true
}

// setState takes from a graphics state dictionary what is kept here (8.4.5).
func (x *runner) setState(name []byte) {
	d := x.doc.Dict(x.doc.Dict(x.res.dict.Get("ExtGState")).Get(pdf.Name(name)))
	if a := x.doc.Array(d.Get("Font")); len(a) == 2 {
		if f := x.r.Font(a[0]); f != nil {
			size, _ := pdf.Number(x.doc.Resolve(a[1]))
			x.state.Font, x.state.FontName, x.state.Size = f, "", size
			x.dirty = true
		}
	}
	if a, ok := pdf.Number(x.doc.Resolve(d.Get("ca"))); ok {
		x.state.Alpha, x.dirty = a, true
	}
	if w, ok := pdf.Number(x.doc.Resolve(d.Get("LW"))); ok {
		x.state.LineWidth = w
		x.dirty = true
	}
}

// show shows the strings of a TJ array, or the one of another operator (9.4.3).
func (x *runner) show(o *Op, items []Operand) {
	if len(o.Args) == 0 {
		return
	}
	st := x.snap()
	f := st.Font
	sh := Show{Invocation: x.at, Code: o.Code, Start: o.Start, End: o.End, At: o.At, State: st, Line: x.line, Before: x.text,
		First: len(x.page.Glyphs), Mark: x.mark, Hidden: x.hidden}
	id := int32(len(x.page.Shows))
	m := x.text.Mul(st.CTM)
	size, scale := st.Size, st.Scale
	lx, ly := m[0]*scale, m[1]*scale
	if n := math.Hypot(lx, ly); n > 0 {
		sh.Along = [2]float64{lx / n, ly / n}
	} else {
		sh.Along = [2]float64{1, 0}
	}
	if size < 0 {
		sh.Along = [2]float64{-sh.Along[0], -sh.Along[1]}
	}
	sh.Up = [2]float64{m[2] * size, m[3] * size}
	var tx, ty float64
	vertical := f != nil && f.Vertical
	glyphs := x.page.Glyphs
	for i := range items {
		it := &items[i]
		switch it.Kind {
		case Number:
			if vertical {
				ty -= it.Num / 1000 * size
			} else {
				tx -= it.Num / 1000 * size * scale
			}
		case String:
			if f == nil {
				continue
			}
			s := it.Bytes
			for at := 0; at < len(s) && len(glyphs) <= maxGlyphs; {
				ch, n := f.Next(s[at:])
				g := Glyph{Char: ch, Show: id, Item: int32(i), Byte: int32(at)}
				w := ch.Width * size * scale
				adv := st.CharSpace
				if n == 1 && s[at] == ' ' {
					adv += st.WordSpace
				}
				if vertical {
					ox, oy := tx-ch.VX*size*scale, ty-ch.VY*size+st.Rise
					g.X, g.Y = m[0]*ox+m[2]*oy+m[4], m[1]*ox+m[3]*oy+m[5]
					g.EX, g.EY = g.X+m[2]*ch.Down*size, g.Y+m[3]*ch.Down*size
					ty += ch.Down*size + adv
				} else {
					g.X, g.Y = m[0]*tx+m[2]*st.Rise+m[4], m[1]*tx+m[3]*st.Rise+m[5]
					g.EX, g.EY = g.X+m[0]*w, g.Y+m[1]*w
					tx += w + adv*scale
				}
				glyphs = append(glyphs, g)
				at += n
			}
		}
	}
	x.page.Glyphs = glyphs
	t := &x.text
	t[4], t[5] = tx*t[0]+ty*t[2]+t[4], tx*t[1]+ty*t[3]+t[5]
	sh.After = *t
	sh.N = len(glyphs) - sh.First
	x.page.Shows = append(x.page.Shows, sh)
	if x.opt.Deep && f != nil && f.Kind == font.Type3 {
		x.glyphProcs(len(x.page.Shows) - 1)
	}
}

// begin opens marked content.
func (x *runner) begin(o *Op) {
	m := MarkedContent{MCID: -1, Parent: x.mark, Invocation: x.at, Start: o.Start, Hidden: x.hidden}
	if len(o.Args) > 0 && o.Args[0].Kind == Name {
		m.Tag = pdf.Name(o.Args[0].Bytes)
	}
	var named pdf.Object
	if o.Code == opBDC && len(o.Args) > 1 {
		switch p := o.Args[1]; p.Kind {
		case Dict:
			m.Props = p.Dict
		case Name:
			named = x.doc.Dict(x.res.dict.Get("Properties")).Get(pdf.Name(p.Bytes))
			m.Props = x.doc.Dict(named)
		}
	}
	if v, ok := x.doc.Resolve(m.Props.Get("MCID")).(pdf.Integer); ok && v >= 0 {
		m.MCID = int(v)
	}
	if m.Tag == "OC" && x.r.layers.hides(named) {
		m.Hidden = true
	}
	x.hidden = m.Hidden
	x.page.Marks = append(x.page.Marks, m)
	x.mark = len(x.page.Marks) - 1
}
