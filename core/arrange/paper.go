package arrange

import (
	"context"
	"fmt"

	"glenrain/core/annot"
	"glenrain/core/draw"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Paper is the step "paper": pages come to stand on paper of another size.
type Paper struct {
	Pages  step.Pages  `json:"pages" required:"yes" help:"which pages"`
	Paper  string      `json:"paper" enum:"A3,A4,A5,A6,Letter,Legal,own size" labels:"own size=custom size" help:"which paper"`
	Turned string      `json:"turned" enum:"as the page,portrait,landscape" labels:"as the page=same way up as the page" help:"paper orientation"`
	Width  step.Length `json:"width,omitempty" min:"0" max:"14400" help:"width of a custom size"`
	Height step.Length `json:"height,omitempty" min:"0" max:"14400" help:"height of a custom size"`
	Fit    string      `json:"fit" enum:"scale,shrink only,keep" labels:"shrink only=only if too large" help:"whether the page is scaled to the paper, only reduced if it is too large, or keeps its size"`
	Margin step.Length `json:"margin" min:"0" max:"1000" help:"margin around a scaled page"`
	Stands string      `json:"stands" enum:"middle,top left,top,top right,left,right,bottom left,bottom,bottom right" help:"where the page is on the paper"`
}

// places are the parts of the room left over that are at the left of the page, and below it.
var places = map[string][2]float64{
	"middle": {0.5, 0.5}, "top left": {0, 1}, "top": {0.5, 1}, "top right": {1, 1}, "left": {0, 0.5}, "right": {1, 0.5},
	"bottom left": {0, 0}, "bottom": {0.5, 0}, "bottom right": {1, 0},
}

// Apply puts the pages on the paper: content, comments, links and the places that bookmarks lead to move together.
func (p *Paper) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := p.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	size := pdf.Papers[p.Paper]
	name := p.Paper
	if p.Paper == "own size" {
		size = [2]float64{float64(p.Width), float64(p.Height)}
		name = fmt.Sprintf("%.0f × %.0f mm", size[0]/mm, size[1]/mm)
		if size[0] < 10 || size[1] < 10 {
			return nil, step.Refuse("a custom size needs a width and a height of at least 10 points")
		}
	}
	if 2*float64(p.Margin) > min(size[0], size[1])-10 {
		return nil, step.Refuse("that margin leaves no room on the paper")
	}
	moved := newMover(doc)
	var cut []int
	for _, r := range refs {
		g := doc.Geometry(r)
		w, h := g.Seen()
		W, H := size[0], size[1]
		switch {
		case p.Turned == "landscape" && p.Paper != "own size", p.Turned == "as the page" && w > h && W < H:
			W, H = max(W, H), min(W, H)
		case p.Turned == "as the page" && w < h && W > H && p.Paper != "own size":
			W, H = H, W
		}
		s, edge := 1.0, 0.0
		if p.Fit != "keep" {
			edge = float64(p.Margin)
			s = min((W-2*edge)/w, (H-2*edge)/h)
			if p.Fit == "shrink only" {
				s = min(s, 1)
			}
		}
		at := places[p.Stands]
		x, y := edge+(W-2*edge-s*w)*at[0], edge+(H-2*edge-s*h)*at[1]
		if s*w > W+0.5 || s*h > H+0.5 {
			cut = append(cut, doc.PageIndex(r))
		}
		if s == 1 && near(x, 0) && near(y, 0) && near(w, W) && near(h, H) {
			continue // it stands on that paper
		}
		if err := moved.page(r, pdf.Matrix{s, 0, 0, s, x, y}, W, H); err != nil {
			return nil, err
		}
	}
	if len(moved.pages) == 0 {
		return nil, step.Refuse("the pages already have that paper size")
	}
	res := moved.result(env)
	how := map[string]string{"scale": "scaled to ", "shrink only": "placed on ", "keep": "placed on "}[p.Fit]
	res.Sentence = step.Sentence(step.NamedIn(doc, doc.PageIndexes(moved.pages))) + " " + how + name
	if len(cut) > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("%s %s larger than the paper: content beyond its edge is hidden, not removed.", step.Sentence(step.NamedIn(doc, cut)), plural(len(cut), "is", "are")))
	}
	return res, nil
}

func near(a, b float64) bool { return a-b < 0.05 && b-a < 0.05 }

// Binding is the step "binding": room at the inner edge, where pages are bound.
type Binding struct {
	Pages  step.Pages  `json:"pages" required:"yes" help:"which pages"`
	Margin step.Length `json:"margin" min:"1" max:"400" help:"how much room"`
	Edge   string      `json:"edge" enum:"left,right,top" help:"the bound edge of odd pages"`
	Mirror bool        `json:"mirror" help:"even pages have it at the opposite edge, for printing on both sides"`
	How    string      `json:"how" enum:"wider paper,move,make smaller" labels:"wider paper=enlarge the paper,make smaller=reduce the pages" help:"enlarge the paper, move the page on its paper, or reduce the page to leave room"`
}

// Apply makes room for binding.
func (b *Binding) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := b.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	moved := newMover(doc)
	v := float64(b.Margin)
	for i, at := range doc.PageIndexes(refs) {
		w, h := doc.Geometry(refs[i]).Seen()
		edge := b.Edge
		if b.Mirror && at%2 == 1 {
			edge = map[string]string{"left": "right", "right": "left", "top": "bottom"}[edge]
		}
		across := edge == "left" || edge == "right"
		if v > 0.5*w && across || v > 0.5*h && !across {
			return nil, step.Refuse("page %d is too small for that margin", at+1)
		}
		W, H, s, x, y := w, h, 1.0, 0.0, 0.0
		switch {
		case b.How == "wider paper" && across:
			W += v
		case b.How == "wider paper":
			H += v
		case b.How == "make smaller" && across:
			s = (w - v) / w
			y = (h - s*h) / 2
		case b.How == "make smaller":
			s = (h - v) / h
			x = (w - s*w) / 2
		}
		switch edge {
		case "left":
			x = v
		case "right":
			x = 0
			if b.How == "move" {
				x = -v
			}
		case "top":
			y = 0
			if b.How == "move" {
				y = -v
			}
		case "bottom":
			y = v
		}
		if err := moved.page(refs[i], pdf.Matrix{s, 0, 0, s, x, y}, W, H); err != nil {
			return nil, err
		}
	}
	res := moved.result(env)
	res.Sentence = fmt.Sprintf("%.4g mm for binding added to %s", v/mm, step.NamedIn(doc, doc.PageIndexes(moved.pages)))
	if b.Mirror {
		res.Sentence += ", mirrored on even pages"
	}
	if b.How == "move" {
		res.Warnings = append(res.Warnings, "Content moved beyond the edge of the paper is hidden, not removed.")
	}
	return res, nil
}

// mover moves what stands on pages: content, annotations, and places that something leads to.
type mover struct {
	doc    *pdf.Document
	pages  []pdf.Ref
	by     map[pdf.Ref]pdf.Matrix
	broken []int
	shared map[pdf.Ref]bool // annotations that stand on several pages
}

func newMover(doc *pdf.Document) *mover {
	return &mover{doc: doc, by: map[pdf.Ref]pdf.Matrix{}, shared: annot.Shared(doc)}
}

// page brings what is seen of a page through place, which is upright and in points from the lower left corner, onto paper of a width and height.
func (m *mover) page(r pdf.Ref, place pdf.Matrix, w, h float64) error {
	g := m.doc.Geometry(r)
	now := pdf.Geometry{MediaBox: pdf.Rect{X1: w, Y1: h}, Rotate: g.Rotate, UserUnit: 1}
	if g.Rotate%180 != 0 {
		now.MediaBox = pdf.Rect{X1: h, Y1: w}
	}
	now.Visible = now.MediaBox
	by := draw.Upright(g).Invert().Mul(place).Mul(draw.Upright(now))
	broken, err := draw.Moved(m.doc, r, by, g.Visible)
	if err != nil {
		return err
	}
	if broken {
		m.broken = append(m.broken, m.doc.PageIndex(r))
	}
	annot.Moved(m.doc, r, by, m.shared)
	p := m.doc.Edit(r)
	p.Set("MediaBox", now.MediaBox.Array())
	p.Set("Rotate", pdf.Integer(g.Rotate))
	for _, k := range []pdf.Name{"CropBox", "UserUnit", "Thumb"} {
		p.Delete(k)
	}
	p.Set("CropBox", now.MediaBox.Array()) // none is inherited
	for _, k := range []pdf.Name{"TrimBox", "BleedBox", "ArtBox"} {
		if box, ok := m.doc.Rect(p.Get(k)); ok {
			b := by.Bounds(box)
			b = pdf.Rect{X0: max(b.X0, 0), Y0: max(b.Y0, 0), X1: min(b.X1, now.MediaBox.X1), Y1: min(b.Y1, now.MediaBox.Y1)}
			if b.W() <= 0 || b.H() <= 0 {
				p.Delete(k)
				continue
			}
			p.Set(k, b.Array())
		}
	}
	if views := m.doc.Array(p.Get("VP")); views != nil {
		own := make(pdf.Array, len(views))
		for i, o := range views {
			own[i] = o
			if v := m.doc.Dict(o); v != nil {
				v = v.Clone()
				if box, ok := m.doc.Rect(v.Get("BBox")); ok {
					v.Set("BBox", by.Bounds(box).Array())
				}
				own[i] = v
			}
		}
		p.Set("VP", own)
	}
	m.by[r] = by
	m.pages = append(m.pages, r)
	return nil
}

// result ends it: what leads to a place on the pages leads to where that stands now.
func (m *mover) result(env *step.Env) *step.Result {
	nav.Rewrite(m.doc, func(dest pdf.Array) pdf.Array {
		if len(dest) == 0 {
			return nil
		}
		r, _ := dest[0].(pdf.Ref)
		by, ok := m.by[r]
		if !ok {
			return nil
		}
		return nav.Moved(dest, by)
	})
	res := &step.Result{Pages: env.Keys.Of(m.pages), Redrawn: step.RedrawPages, Show: env.Keys.Key(m.pages[0])}
	if len(m.broken) > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("The content of %s has errors: some programs may show it differently.", step.NamedIn(m.doc, m.broken)))
	}
	return res
}
