package arrange

import (
	"context"
	"fmt"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/pdf"
	"glenrain/core/picture"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Crop is the step "crop".
type Crop struct {
	Pages  step.Pages  `json:"pages" required:"yes" help:"which pages"`
	To     string      `json:"to" enum:"edges,print" labels:"edges=at the edges,print=to the content" help:"crop this much at each edge, or crop to the page content with some room around it"`
	Left   step.Length `json:"left" min:"0" max:"14400" help:"how much to crop at the left of the visible page"`
	Top    step.Length `json:"top" min:"0" max:"14400" help:"how much at the top"`
	Right  step.Length `json:"right" min:"0" max:"14400" help:"how much at the right"`
	Bottom step.Length `json:"bottom" min:"0" max:"14400" help:"how much at the bottom"`
	Room   step.Length `json:"room" min:"0" max:"1000" help:"the room left around the page content"`
	Alike  bool        `json:"alike,omitempty" help:"all pages get the same frame, around the content of all of them"`
	Remove bool        `json:"remove,omitempty" help:"content outside the frame is removed; if no, it is hidden and can be shown again"`
}

// leastSeen is how much of a page is left to be seen, in points.
const leastSeen = 9

// Apply sets what is seen of the pages (CropBox, 14.11.2). With Remove, text, drawings and comments outside it are removed, pictures are cut, and the page
// ends there.
func (c *Crop) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := c.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	frames, bare, err := c.frames(ctx, doc, refs)
	if err != nil {
		return nil, err
	}
	var cropped []pdf.Ref
	var annots, fields int
	var shared map[pdf.Ref]bool
	if c.Remove {
		shared = annot.Shared(doc)
	}
	for i, r := range refs {
		frame, ok := frames[r]
		if !ok {
			continue
		}
		g := doc.Geometry(r)
		at := doc.PageIndex(refs[i])
		if frame.W()*g.UserUnit < leastSeen || frame.H()*g.UserUnit < leastSeen {
			return nil, step.Refuse("nothing of page %d would be left: crop less", at+1)
		}
		same := near(frame.X0, g.Visible.X0) && near(frame.Y0, g.Visible.Y0) && near(frame.X1, g.Visible.X1) && near(frame.Y1, g.Visible.Y1)
		if same && (!c.Remove || g.Visible == g.MediaBox) {
			continue
		}
		p := doc.Edit(r)
		p.Set("CropBox", frame.Array())
		p.Delete("Thumb") // a small picture of what was there
		if c.Remove {
			if !env.Wants(r) {
				cropped = append(cropped, r)
				continue
			}
			a, f, err := removeOutside(ctx, doc, r, frame, shared)
			if err != nil {
				return nil, err
			}
			annots, fields = annots+a, fields+f
		}
		cropped = append(cropped, r)
	}
	if len(cropped) == 0 {
		if len(bare) > 0 {
			return nil, step.Refuse("there is no content on %s", step.NamedIn(doc, bare))
		}
		return nil, step.Refuse("there is nothing to crop: the pages are already that size")
	}
	res := &step.Result{Pages: env.Keys.Of(cropped), Redrawn: step.RedrawPages, Show: env.Keys.Key(cropped[0])}
	res.Sentence = step.Sentence(step.NamedIn(doc, doc.PageIndexes(cropped))) + " cropped"
	if c.To == "print" {
		res.Sentence += " to the page content"
	}
	if c.Remove {
		res.Sentence += "; the content outside removed"
		if annots+fields > 0 {
			res.Warnings = append(res.Warnings, fmt.Sprintf("Removed with it: %s.", counted(annots, "comment or link", fields, "form field")))
		}
	} else {
		res.Warnings = append(res.Warnings, "The cropped area is hidden, not removed: anyone with the file can show it again.")
	}
	if len(bare) > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("There is no content on %s: left unchanged.", step.NamedIn(doc, bare)))
	}
	return res, nil
}

// frames gives what is to be seen of each page, in its default user space, and the indexes of pages on which nothing is printed.
func (c *Crop) frames(ctx context.Context, doc *pdf.Document, refs []pdf.Ref) (out map[pdf.Ref]pdf.Rect, bare []int, err error) {
	out = make(map[pdf.Ref]pdf.Rect, len(refs))
	if c.To != "print" {
		for _, r := range refs {
			g := doc.Geometry(r)
			w, h := g.Seen()
			out[r] = onPage(g, pdf.Rect{X0: float64(c.Left), Y0: float64(c.Bottom), X1: w - float64(c.Right), Y1: h - float64(c.Top)})
		}
		return out, nil, nil
	}
	reader := content.NewReader(doc)
	seen := map[pdf.Ref]pdf.Rect{} // as it is seen, from the lower left
	var all pdf.Rect
	var page *content.Page
	for _, r := range refs {
		if page, err = reader.Page(ctx, r, content.Options{Images: true, Paths: true, Into: page}); err != nil {
			return nil, nil, err
		}
		g := doc.Geometry(r)
		box, any := page.Printed(g.Visible)
		if !any {
			bare = append(bare, doc.PageIndex(r))
			continue
		}
		u := draw.Upright(g).Invert().Bounds(box)
		if len(seen) == 0 {
			all = u
		}
		all = pdf.Rect{X0: min(all.X0, u.X0), Y0: min(all.Y0, u.Y0), X1: max(all.X1, u.X1), Y1: max(all.Y1, u.Y1)}
		seen[r] = u
	}
	for r, u := range seen {
		if c.Alike {
			u = all
		}
		g := doc.Geometry(r)
		w, h := g.Seen()
		room := float64(c.Room)
		out[r] = onPage(g, pdf.Rect{X0: max(0, u.X0-room), Y0: max(0, u.Y0-room), X1: min(w, u.X1+room), Y1: min(h, u.Y1+room)})
	}
	return out, bare, nil
}

// onPage turns a frame on the page as it is seen into one in its default user space.
func onPage(g pdf.Geometry, seen pdf.Rect) pdf.Rect {
	if seen.W() <= 0 || seen.H() <= 0 {
		return pdf.Rect{}
	}
	b := draw.Upright(g).Bounds(seen)
	v := g.Visible // rounding must not lead beyond what is seen
	return pdf.Rect{X0: max(b.X0, v.X0), Y0: max(b.Y0, v.Y0), X1: min(b.X1, v.X1), Y1: min(b.Y1, v.Y1)}
}

// Uncrop is the step "uncrop".
type Uncrop struct {
	Pages step.Pages `json:"pages" required:"yes" help:"which pages"`
}

// Apply shows what cropping hid.
func (u *Uncrop) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := u.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	var shown []pdf.Ref
	for _, r := range refs {
		g := doc.Geometry(r)
		if g.Visible == g.MediaBox {
			continue
		}
		p := doc.Edit(r)
		p.Set("CropBox", g.MediaBox.Array()) // one may be inherited
		p.Delete("Thumb")
		shown = append(shown, r)
	}
	if len(shown) == 0 {
		return nil, step.Refuse("these pages aren’t cropped")
	}
	return &step.Result{Pages: env.Keys.Of(shown), Redrawn: step.RedrawPages, Show: env.Keys.Key(shown[0]),
		Sentence: step.Sentence(step.NamedIn(doc, doc.PageIndexes(shown))) + " uncropped"}, nil
}

// removeOutside removes for good what lies outside a frame on a page, and lets the page end there. It tells how many annotations and fields went.
func removeOutside(ctx context.Context, doc *pdf.Document, page pdf.Ref, frame pdf.Rect, shared map[pdf.Ref]bool) (annots, fields int, err error) {
	at := doc.PageIndex(page) + 1
	gone := annot.CutOutside(doc, page, frame)
	widgets := map[pdf.Ref]bool{}
	var free []pdf.Ref
	for _, a := range gone {
		if shared[a.Ref] { // it stands on another page, too
			annots++
			continue
		}
		d := doc.Dict(a.Ref)
		switch doc.Name(d.Get("Subtype")) {
		case "Widget":
			widgets[a.Ref] = true
		case "Popup":
		default:
			annots++
		}
		if !a.Ref.IsZero() {
			free = append(free, a.Ref)
		}
	}
	structure.CutObjects(doc, slices.DeleteFunc(gone, func(a annot.Removed) bool { return shared[a.Ref] }))
	if len(widgets) > 0 {
		fields = field.CutWidgets(doc, widgets)
	}
	doc.Free(free...)
	reader := content.NewReader(doc)
	p, err := reader.Page(ctx, page, content.Options{Images: true, Paths: true, NoAnnotations: true})
	if err != nil {
		return 0, 0, err
	}
	if p.Cut {
		return 0, 0, step.Refuse("page %d has too much content to remove: crop it without removing", at)
	}
	patches, emptied, err := p.Outside(frame, func(u *content.ImageUse) (pdf.Ref, pdf.Matrix, error) {
		return picture.Cut(doc, u.Ref, u.Matrix, frame)
	})
	if err != nil {
		return 0, 0, step.Refuse("you can’t remove the content outside the frame from page %d: %v; crop without removing", at, err)
	}
	if err := content.Apply(doc, p, patches); err != nil {
		return 0, 0, err
	}
	structure.Silence(doc, page, emptied)
	d := doc.Edit(page)
	d.Set("MediaBox", frame.Array())
	d.Set("CropBox", frame.Array())
	d.Delete("PieceInfo") // what programs keep of the page as it was
	for _, k := range []pdf.Name{"TrimBox", "BleedBox", "ArtBox"} {
		if b, ok := doc.Rect(d.Get(k)); ok {
			b = pdf.Rect{X0: max(b.X0, frame.X0), Y0: max(b.Y0, frame.Y0), X1: min(b.X1, frame.X1), Y1: min(b.Y1, frame.Y1)}
			if b.W() <= 0 || b.H() <= 0 {
				d.Delete(k)
				continue
			}
			d.Set(k, b.Array())
		}
	}
	return annots, fields, nil
}
