package edit

import (
	"context"
	"fmt"
	"math"
	"slices"

	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Object names something that stands on a page, and says where it goes: distance to the right and down as the page is seen, how it is
// scaled about its middle, and by how much it is turned clockwise.
type Object struct {
	What   string      `json:"what" enum:"paragraph,picture,drawing,shape" help:"what it is"`
	At     int         `json:"at" min:"0" help:"its number on the page, counted from 0"`
	X      step.Length `json:"x,omitempty" help:"distance to the right"`
	Y      step.Length `json:"y,omitempty" help:"distance down"`
	ScaleX float64     `json:"scale_x,omitempty" min:"0" max:"10000" help:"width, per cent; 0 for unchanged"`
	ScaleY float64     `json:"scale_y,omitempty" min:"0" max:"10000" help:"height, per cent; 0 for unchanged"`
	Turn   float64     `json:"turn,omitempty" min:"-360" max:"360" help:"degrees clockwise"`
}

// MoveObjects is the step "move-objects".
type MoveObjects struct {
	Page    step.Pages `json:"page" required:"yes" help:"the page they are on"`
	Objects []Object   `json:"objects" was:"things" required:"yes" help:"the objects and how they move: what, at, x, y, scale_x, scale_y, turn"`
	Copy    bool       `json:"copy,omitempty" help:"keep the originals"`
	To      step.Pages `json:"to,omitempty" help:"another page to move them to, at the same place"`
}

// RemoveObjects is the step "remove-objects".
type RemoveObjects struct {
	Page    step.Pages `json:"page" required:"yes" help:"the page they are on"`
	Objects []Object   `json:"objects" was:"things" required:"yes" help:"the objects: what, at"`
}

const mostObjects = 500

// object is an object as it stands on a page.
type object struct {
	Object
	box    pdf.Rect
	glyphs []int
	images []int
	paths  []int
	para   *para // of a paragraph
	shape  *drawnShape
}

// drawings gathers the paths of a page that lie together; those that lie behind or below words are left out.
func drawings(page *content.Page, visible pdf.Rect, held map[int]bool) (out [][]int) {
	type group struct {
		box  pdf.Rect
		list []int
	}
	var groups []group
	n := 0
	for i := range page.Paths {
		pa := &page.Paths[i]
		v := &page.Invocations[pa.Invocation]
		if pa.Hidden || pa.N == 0 || held[i] || !v.Annotation.IsZero() || pa.Start >= pa.End {
			continue
		}
		if n++; n > 5000 {
			break
		}
		b, pad := pa.Bounds, max(0.5, pa.State.LineWidth/2)
		b = pdf.Rect{X0: b.X0 - pad, Y0: b.Y0 - pad, X1: b.X1 + pad, Y1: b.Y1 + pad}
		if (b.X1-b.X0)*(b.Y1-b.Y0) > 0.9*(visible.X1-visible.X0)*(visible.Y1-visible.Y0) { // a ground for all of the page
			groups = append(groups, group{b, []int{-1 - i}})
			continue
		}
		to := -1
		for k := 0; k < len(groups); k++ {
			g := &groups[k]
			if g.list[0] < 0 || b.X0 > g.box.X1+2 || b.X1 < g.box.X0-2 || b.Y0 > g.box.Y1+2 || b.Y1 < g.box.Y0-2 {
				continue
			}
			if to < 0 {
				to = k
				g.list = append(g.list, i)
				g.box = around(g.box, b)
				b = g.box
				continue
			}
			groups[to].list = append(groups[to].list, g.list...)
			groups[to].box = around(groups[to].box, g.box)
			b = groups[to].box
			groups = slices.Delete(groups, k, k+1)
			k--
		}
		if to < 0 {
			groups = append(groups, group{b, []int{i}})
		}
	}
	for _, g := range groups {
		if g.list[0] < 0 {
			out = append(out, []int{-1 - g.list[0]})
			continue
		}
		slices.Sort(g.list)
		out = append(out, g.list)
	}
	return out
}

func around(a, b pdf.Rect) pdf.Rect {
	return pdf.Rect{X0: min(a.X0, b.X0), Y0: min(a.Y0, b.Y0), X1: max(a.X1, b.X1), Y1: max(a.Y1, b.Y1)}
}

var (
	errNoObject  = step.Refuse("there is no such object on the page")
	errPlacedOne = step.Refuse("it was added in Finish: change or remove it there")
)

// placedBy reports whether what stands at a place of an invocation's body was put on by a step that keeps it as an object of its own.
func placedBy(doc *pdf.Document, page *content.Page, at, start int) bool {
	for n := 0; at >= 0 && n < 64; n++ {
		v := &page.Invocations[at]
		for _, part := range v.Body.Parts {
			if start >= part.Start && start < part.End {
				if s := doc.Stream(part.Ref); s != nil && draw.IsPlaced(s.Dict) {
					return true
				}
			}
		}
		at, start = v.Parent, v.Start
	}
	return false
}

// objectsOf finds what a list names.
func objectsOf(doc *pdf.Document, page *content.Page, l *layout.Page, list []Object) ([]object, error) {
	if len(list) == 0 || len(list) > mostObjects {
		return nil, step.Refuse("give 1 to %d objects", mostObjects)
	}
	visible := doc.Geometry(page.Ref).Visible
	var drawn [][]int
	seen := map[string]bool{}
	var out []object
	for _, t := range list {
		key := fmt.Sprint(t.What, t.At)
		if seen[key] {
			return nil, step.Refuse("an object is listed twice")
		}
		seen[key] = true
		o := object{Object: t}
		invocation, start := -1, 0
		switch t.What {
		case "paragraph":
			if t.At < 0 || t.At >= len(l.Paragraphs) {
				return nil, errNoObject
			}
			para := &l.Paragraphs[t.At]
			o.box = para.Box
			for _, at := range para.Lines {
				for _, w := range l.Lines[at].Words {
					if l.Annotation(&l.Words[w]) {
						return nil, step.Refuse("it is in a comment or form field")
					}
				}
				o.glyphs = append(o.glyphs, lineGlyphs(l, at)...)
			}
			if len(o.glyphs) == 0 {
				return nil, errNoObject
			}
			sh := &page.Shows[page.Glyphs[o.glyphs[0]].Show]
			invocation, start = sh.Invocation, sh.Start
			if p, err := read(doc, l, t.At, visible); err == nil { // what belongs to its words goes along
				o.para = p
				for _, d := range p.decorations {
					o.paths = append(o.paths, d.path)
				}
			}
		case "picture":
			if t.At < 0 || t.At >= len(page.Images) {
				return nil, errNoObject
			}
			o.box, o.images = page.Images[t.At].Box(), []int{t.At}
			invocation, start = page.Images[t.At].Invocation, page.Images[t.At].Start
		case "drawing":
			if drawn == nil {
				drawn = drawings(page, visible, heldPaths(doc, page, l, visible))
			}
			if t.At < 0 || t.At >= len(drawn) {
				return nil, errNoObject
			}
			o.paths = drawn[t.At]
			o.box = page.Paths[o.paths[0]].Bounds
			for _, i := range o.paths {
				o.box = around(o.box, page.Paths[i].Bounds)
			}
			invocation, start = page.Paths[o.paths[0]].Invocation, page.Paths[o.paths[0]].Start
		case "shape":
			shapes := shapesOf(page)
			if t.At < 0 || t.At >= len(shapes) {
				return nil, errNoObject
			}
			o.shape = &shapes[t.At]
			o.box, invocation, start = o.shape.Shape.box(), 0, o.shape.start
		default:
			return nil, step.Refuse("an object must be a paragraph, a picture, a drawing or a shape")
		}
		if placedBy(doc, page, invocation, start) {
			return nil, errPlacedOne
		}
		if !page.Invocations[invocation].Annotation.IsZero() {
			return nil, step.Refuse("it is in a comment or form field")
		}
		if page.Invocations[invocation].Kind == content.PatternBody || page.Invocations[invocation].Kind == content.GlyphBody {
			return nil, step.Refuse("it is part of a pattern, so you can’t change it alone")
		}
		out = append(out, o)
	}
	return out, nil
}

// heldPaths are the paths that belong to words.
func heldPaths(doc *pdf.Document, page *content.Page, l *layout.Page, visible pdf.Rect) map[int]bool {
	held := map[int]bool{}
	for i := range page.Paths {
		if inShape(page, page.Paths[i].Mark) {
			held[i] = true
		}
	}
	if len(page.Paths) == 0 || len(page.Paths)*len(l.Paragraphs) > 4_000_000 {
		return held
	}
	for i := range l.Paragraphs {
		if p, err := read(doc, l, i, visible); err == nil {
			for _, d := range p.decorations {
				held[d.path] = true
			}
		}
	}
	return held
}

// matrix gives what an object's move is on the page: in its own units, about its middle.
func (t *Object) matrix(g pdf.Geometry, box pdf.Rect) (pdf.Matrix, error) {
	sx, sy := t.ScaleX/100, t.ScaleY/100
	if t.ScaleX == 0 {
		sx = 1
	}
	if t.ScaleY == 0 {
		sy = 1
	}
	for _, v := range []float64{sx, sy, t.Turn, float64(t.X), float64(t.Y)} {
		if math.IsNaN(v) || math.Abs(v) > 20_000 {
			return pdf.Identity, step.Refuse("that is too far")
		}
	}
	if sx < 0.01 || sy < 0.01 || sx > 100 || sy > 100 {
		return pdf.Identity, step.Refuse("objects can be scaled from 1 to 10,000 per cent")
	}
	up := draw.Upright(g)
	seen := up.Invert().Bounds(box)
	cx, cy := (seen.X0+seen.X1)/2, (seen.Y0+seen.Y1)/2
	sin, cos := math.Sincos(-t.Turn * math.Pi / 180)
	m := pdf.Matrix{1, 0, 0, 1, -cx, -cy}.Mul(pdf.Matrix{sx, 0, 0, sy, 0, 0}).Mul(pdf.Matrix{cos, sin, -sin, cos, 0, 0}).Mul(pdf.Matrix{1, 0, 0, 1, cx + float64(t.X), cy - float64(t.Y)})
	return up.Invert().Mul(m).Mul(up), nil
}

func onePage(p *step.Pages, doc *pdf.Document, env *step.Env, what string) (pdf.Ref, error) {
	refs, err := p.Refs(doc, env.Keys)
	if err != nil {
		return pdf.Ref{}, err
	}
	if len(refs) != 1 {
		return pdf.Ref{}, step.Refuse("%s on one page at a time", what)
	}
	return refs[0], nil
}

// opened is a page that a step works on.
func opened(ctx context.Context, doc *pdf.Document, ref pdf.Ref) (*content.Page, *layout.Page, error) {
	page, err := content.NewReader(doc).Page(ctx, ref, wanted)
	if err != nil {
		return nil, nil, err
	}
	if page.Cut {
		return nil, nil, step.Refuse("the page has too much content to read")
	}
	return page, layout.Read(page, doc.Geometry(ref).Visible, nil), nil
}

// taken opens a page and takes the objects of it that a list names.
func taken(ctx context.Context, doc *pdf.Document, ref pdf.Ref, list []Object) (*mover, []object, error) {
	page, l, err := opened(ctx, doc, ref)
	if err != nil {
		return nil, nil, err
	}
	objects, err := objectsOf(doc, page, l, list)
	return &mover{doc: doc, page: page, lay: l}, objects, err
}

// Apply moves the objects.
func (s *MoveObjects) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	ref, err := onePage(&s.Page, doc, env, "objects are moved")
	if err != nil {
		return nil, err
	}
	to := ref
	if s.To.Rule != "" || len(s.To.Keys) > 0 {
		if to, err = onePage(&s.To, doc, env, "objects are put"); err != nil {
			return nil, err
		}
	}
	m, list, err := taken(ctx, doc, ref, s.Objects)
	if err != nil {
		return nil, err
	}
	g := doc.Geometry(ref)
	for i := range list {
		o := &list[i]
		t, err := o.matrix(g, o.box)
		if err != nil {
			return nil, err
		}
		switch {
		case to != ref:
			err = m.carry(o, t)
			if err == nil && !s.Copy {
				m.remove(o)
			}
		case !s.Copy && t == pdf.Identity:
		default:
			err = m.move(o, t, s.Copy)
		}
		if err != nil {
			return nil, err
		}
	}
	if m.empty() {
		return nil, step.Refuse("they are already there")
	}
	if err := m.set.apply(doc); err != nil {
		return nil, err
	}
	if !s.Copy && to != ref {
		m.silence(ctx, ref)
	}
	if len(m.carried) > 0 {
		if err := m.put(doc, to); err != nil {
			return nil, err
		}
	}
	refs := []pdf.Ref{ref}
	if to != ref {
		refs = append(refs, to)
	}
	res := &step.Result{Pages: env.Keys.Of(refs), Redrawn: step.RedrawPages, Show: env.Keys.Key(to), Warnings: m.warnings}
	verb := "moved"
	if s.Copy {
		verb = "copied"
	}
	if !s.Copy && to == ref {
		turned, scaled := false, false
		for _, t := range s.Objects {
			turned = turned || t.Turn != 0
			scaled = scaled || t.ScaleX != 0 && t.ScaleX != 100 || t.ScaleY != 0 && t.ScaleY != 100
		}
		switch {
		case turned:
			verb = "rotated"
		case scaled:
			verb = "resized"
		}
	}
	res.Sentence = fmt.Sprintf("%s %s on %s", called(list), verb, inSentence(doc, doc.PageIndexes([]pdf.Ref{ref})))
	if to != ref {
		res.Sentence = fmt.Sprintf("%s %s from %s to %s", called(list), verb, inSentence(doc, doc.PageIndexes([]pdf.Ref{ref})), inSentence(doc, doc.PageIndexes([]pdf.Ref{to})))
	}
	return res, nil
}

// called names objects in a sentence.
func called(list []object) string {
	count := map[string]int{}
	for _, o := range list {
		count[o.What]++
	}
	if len(count) == 1 {
		what := list[0].What
		if len(list) == 1 {
			return map[string]string{"paragraph": "Paragraph", "picture": "Picture", "drawing": "Drawing", "shape": "Shape"}[what]
		}
		return step.Count(len(list), what)
	}
	return step.Count(len(list), "object")
}

// Apply takes the objects off.
func (s *RemoveObjects) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	ref, err := onePage(&s.Page, doc, env, "objects are removed")
	if err != nil {
		return nil, err
	}
	m, list, err := taken(ctx, doc, ref, s.Objects)
	if err != nil {
		return nil, err
	}
	for i := range list {
		m.remove(&list[i])
	}
	if err := m.set.apply(doc); err != nil {
		return nil, err
	}
	m.silence(ctx, ref)
	return &step.Result{
		Pages: env.Keys.Of([]pdf.Ref{ref}), Redrawn: step.RedrawPages, Show: env.Keys.Key(ref), Warnings: m.warnings,
		Sentence: fmt.Sprintf("%s removed from %s", called(list), inSentence(doc, doc.PageIndexes([]pdf.Ref{ref}))),
	}, nil
}

// Found is an object of a page as screens show it. Its quad is the one that it is drawn in, from the lower left corner on, against the clock.
type Found struct {
	What  string
	At    int
	Quad  layout.Quad
	Text  string       // of a paragraph
	Bases [][2]float64 // and where its lines' baselines begin
	// of a picture
	W, H   int     // pixels
	DPI    float64 // as it is shown here
	Kind   string  // how it is stored: "JPEG", "JPEG 2000", "black and white", ...
	Bytes  int64
	Uses   int // how often the page shows it
	Inline bool
	Why    string // why it can't be changed
	Shape  *Shape // in default user space
}

// Objects lists what stands on the page: paragraphs, pictures, drawings and shapes, in the order in which the first three are painted.
func (s *Sheet) Objects() (out []Found) {
	s.mu.Lock()
	defer s.mu.Unlock()
	visible := s.Doc.Geometry(s.Ref).Visible
	rect := func(b pdf.Rect) layout.Quad {
		return layout.Quad{{b.X0, b.Y0}, {b.X1, b.Y0}, {b.X1, b.Y1}, {b.X0, b.Y1}}
	}
	for i := range s.lay.Paragraphs {
		p := &s.lay.Paragraphs[i]
		if s.lay.Annotation(&s.lay.Words[s.lay.Lines[p.Lines[0]].Words[0]]) {
			continue
		}
		f := Found{What: "paragraph", At: i, Quad: quadOf(s.lay, p.Lines), Text: s.lay.ParagraphText(p)}
		for _, at := range p.Lines {
			x, y := s.lay.Base(&s.lay.Words[s.lay.Lines[at].Words[0]])
			f.Bases = append(f.Bases, [2]float64{x, y})
		}
		sh := &s.page.Shows[s.page.Glyphs[s.lay.Glyphs(&s.lay.Words[s.lay.Lines[p.Lines[0]].Words[0]])[0]].Show]
		if placedBy(s.Doc, s.page, sh.Invocation, sh.Start) {
			f.Why = errPlacedOne.Error()
		}
		out = append(out, f)
	}
	for i := range s.page.Images {
		im := &s.page.Images[i]
		if im.Hidden || !s.page.Invocations[im.Invocation].Annotation.IsZero() {
			continue
		}
		f := Found{What: "picture", At: i, Inline: im.Ref.IsZero()}
		for k, c := range [4][2]float64{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
			f.Quad[k][0], f.Quad[k][1] = im.Matrix.Apply(c[0], c[1])
		}
		if placedBy(s.Doc, s.page, im.Invocation, im.Start) {
			f.Why = errPlacedOne.Error()
		}
		if st := s.Doc.Stream(im.Ref); st != nil {
			n := func(k pdf.Name) int {
				v, _ := pdf.Number(s.Doc.Resolve(st.Dict.Get(k)))
				return int(max(0, min(v, 1e6)))
			}
			f.W, f.H, f.Kind = n("Width"), n("Height"), storedAs(s.Doc, st)
			f.Bytes = int64(n("Length"))
			if long := math.Hypot(im.Matrix[0], im.Matrix[1]); long > 0 {
				f.DPI = float64(f.W) / long * 72
			}
			for k := range s.page.Images {
				if s.page.Images[k].Ref == im.Ref {
					f.Uses++
				}
			}
		}
		out = append(out, f)
	}
	for i, list := range drawings(s.page, visible, heldPaths(s.Doc, s.page, s.lay, visible)) {
		pa := &s.page.Paths[list[0]]
		box := pa.Bounds
		for _, k := range list {
			box = around(box, s.page.Paths[k].Bounds)
		}
		f := Found{What: "drawing", At: i, Quad: rect(box)}
		if placedBy(s.Doc, s.page, pa.Invocation, pa.Start) {
			f.Why = errPlacedOne.Error()
		}
		out = append(out, f)
	}
	for i, sh := range shapesOf(s.page) {
		shape := sh.Shape
		out = append(out, Found{What: "shape", At: i, Quad: rect(shape.box()), Shape: &shape})
	}
	return out
}

// storedAs says for people how a picture is stored.
func storedAs(doc *pdf.Document, s *pdf.Stream) string {
	filter := doc.Resolve(s.Dict.Get("Filter"))
	if a, ok := filter.(pdf.Array); ok && len(a) > 0 {
		filter = doc.Resolve(a[len(a)-1])
	}
	name, _ := filter.(pdf.Name)
	switch name {
	case "DCTDecode":
		return "JPEG"
	case "JPXDecode":
		return "JPEG 2000"
	case "JBIG2Decode", "CCITTFaxDecode":
		return "black and white"
	}
	if mask, _ := doc.Resolve(s.Dict.Get("ImageMask")).(pdf.Boolean); bool(mask) {
		return "stencil"
	}
	return "without loss"
}
