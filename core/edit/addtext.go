package edit

import (
	"context"
	"fmt"
	"math"
	"strings"

	"glenrain/core/claim"
	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/font"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// AddText is the step "add-text". Places are on the page as it is seen: points from its upper left corner.
type AddText struct {
	Page  step.Pages  `json:"page" required:"yes" help:"the page"`
	X     step.Length `json:"x" help:"its left edge, from the left edge of the page"`
	Y     step.Length `json:"y" help:"its upper edge, from the upper edge of the page"`
	Width step.Length `json:"width,omitempty" min:"0" max:"14400" help:"its width; up to the margin if empty"`
	Text  string      `json:"text,omitempty" help:"the text"`
	Edits []Edit      `json:"edits,omitempty" help:"edits, in order"`
	Align string      `json:"align,omitempty" enum:",left,right,centred,justified" labels:"=usual" help:"alignment"`
	Lead  step.Length `json:"leading,omitempty" min:"0" max:"2000" help:"line spacing"`
	Look
}

// usualSize is how large new text is, in points, where nothing is said.
const usualSize = 11

// Apply puts the text on the page.
func (a *AddText) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := a.Page.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(refs) != 1 {
		return nil, step.Refuse("you can add text to one page at a time")
	}
	w := &worker{doc: doc, faces: newFaces(doc), index: doc.PageIndexes(refs)}
	p, _, err := a.set(ctx, w, refs[0])
	if err != nil {
		return nil, err
	}
	text, _ := p.text()
	if strings.TrimSpace(text) == "" {
		return nil, step.Refuse("there is no text yet")
	}
	res := &step.Result{Pages: env.Keys.Of(refs), Redrawn: step.RedrawPages, Show: env.Keys.Key(refs[0]), Warnings: w.warnings()}
	res.Adds = claim.Colour | a.adds()
	for i := range a.Edits {
		res.Adds |= a.Edits[i].adds()
	}
	if structure.Tagged(doc) {
		res.Warnings = append(res.Warnings, "The document is tagged but the new text isn’t, so screen readers skip it.")
	}
	res.Sentence = fmt.Sprintf("“%s” added to %s", shortened(flat(text), 40), inSentence(doc, w.index))
	return res, nil
}

// shortened gives the beginning of a text, by words where that is possible.
func shortened(s string, most int) string {
	r := []rune(s)
	if len(r) <= most {
		return s
	}
	cut := string(r[:most])
	if at := strings.LastIndex(cut, " "); at > most/2 {
		cut = cut[:at]
	}
	return strings.TrimRight(cut, " .,;:") + "…"
}

// set writes the text into doc.
func (a *AddText) set(ctx context.Context, w *worker, ref pdf.Ref) (*para, fit, error) {
	g := w.doc.Geometry(ref)
	seenW, seenH := g.Seen()
	x, y := float64(a.X), float64(a.Y)
	if math.IsNaN(x) || math.IsNaN(y) || x < 0 || y < 0 || x > seenW || y > seenH {
		return nil, fit{}, step.Refuse("the place is not on the page")
	}
	size := float64(a.Size)
	if size == 0 {
		size = usualSize
	}
	if size < 1 || size > mostSize {
		return nil, fit{}, step.Refuse("letters can be 1 to %d pt large", mostSize)
	}
	letters := a.Text
	for _, e := range a.Edits {
		letters += e.Text
	}
	if len([]rune(letters)) > 2*mostParagraph {
		return nil, fit{}, step.Refuse("a paragraph can have up to %s characters", step.Thousands(mostParagraph))
	}
	family := a.Face
	if family == "" {
		family = "Sans"
	}
	face, err := font.Face(faceName(family, a.Bold == "yes", a.Italic == "yes"))
	if err != nil {
		return nil, fit{}, step.Refuse("there is no font named “%s” here", family)
	}
	e := font.Embed(w.doc, face)
	codes, _, _ := e.Encode("x ")
	for _, r := range letters { // all of it, so that one font holds it
		if face.Glyph(r) != 0 {
			e.Encode(string(r))
		}
	}
	e.Finish(w.doc)
	up := draw.Upright(g)
	unit := math.Hypot(up[0], up[1])
	baseline := seenH - y - 0.8*size
	err = draw.Onto(w.doc, ref, func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
		var c draw.Content
		c.Op("q").Op("BT").Op("g", 0).Op("Tf", name("Font", e.Ref()), size)
		tx, ty := up.Apply(x, baseline)
		c.Op("Tm", up[0], up[1], up[2], up[3], tx, ty).Op("Tj", pdf.String(codes[:2])).Op("ET").Op("Q")
		return c.Bytes()
	})
	if err != nil {
		return nil, fit{}, err
	}
	page, err := content.NewReader(w.doc).Page(ctx, ref, wanted)
	if err != nil {
		return nil, fit{}, err
	}
	show := -1
	for i := range page.Shows { // the last one of the page's own content that is set in the face
		if s := &page.Shows[i]; s.Invocation == 0 && s.State != nil && s.State.Font != nil && s.N == 1 && s.State.Font.Dict == w.doc.Dict(e.Ref()) {
			show = i
		}
	}
	if show < 0 {
		return nil, fit{}, step.Refuse("you can’t add text to this page, because its content can’t be read to the end")
	}
	p := &para{doc: w.doc, page: page, at: -1, size: size * unit, leading: 1.2 * size * unit, donor: int32(show), anew: true, lay: &layout.Page{Source: page}}
	p.ax, p.ay = up[0]/unit, up[1]/unit
	gl := &page.Glyphs[page.Shows[show].First]
	u, v := p.of(gl.X, gl.Y)
	end, _ := p.of(gl.EX, gl.EY)
	p.lines = []line{{u0: u, u1: end, v: v}}
	p.before = []char{{text: "x", glyph: int32(page.Shows[show].First), show: int32(show)}}
	p.gap = float64(face.Advance(face.Glyph(' '))) / float64(face.UnitsPerEm) * p.size
	p.left, p.limit = u, u+(seenW-x-min(36, x, seenW/4))*unit
	if a.Width > 0 {
		p.limit = u + float64(a.Width)*unit
	}
	p.below = v - baseline*unit // the lower edge of the page
	look := a.Look
	look.Face, look.Bold, look.Italic, look.Size = "", "", "", 0
	if a.Text != "" {
		if err := p.make(&Edit{Text: a.Text, Look: look}); err != nil {
			return nil, fit{}, err
		}
	}
	for i := range a.Edits {
		if a.Edits[i].empty() && !a.Edits[i].Style {
			a.Edits[i].Look = look
		}
		if err := p.make(&a.Edits[i]); err != nil {
			return nil, fit{}, err
		}
	}
	if err := (&Paragraph{Align: a.Align, Leading: a.Lead}).form(p); err != nil {
		return nil, fit{}, err
	}
	if p.align == layout.Centred {
		p.centre = (p.left + p.limit) / 2
	}
	var set laid
	f, err := w.lay(&set, p, growFill, false)
	if err != nil {
		return nil, f, err
	}
	err = set.apply(w.doc)
	w.faces.finish() // by now all is encoded, spaces too
	return p, f, err
}

// TryNew sets new text in a fork of the document.
func (s *Sheet) TryNew(ctx context.Context, a *AddText) (*Tried, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	doc := s.Doc.ForkIn(ctx)
	w := &worker{doc: doc, faces: newFaces(doc), index: []int{0}}
	p, f, err := a.set(ctx, w, s.Ref)
	if over := doc.Over(); over != nil {
		return nil, over
	}
	if err != nil {
		return nil, err
	}
	out := s.tried(p)
	out.Doc, out.Lines = doc, f.Lines
	out.Lack = map[string][]string{}
	for word, face := range w.set {
		out.Lack[face] = append(out.Lack[face], word)
	}
	return out, nil
}
