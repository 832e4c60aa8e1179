// Package annotate is about what people mark in a document for one another: text that is highlighted, underlined or struck
// out. Its steps write standard annotations with their appearance; the page's own content stays as it is.
package annotate

import (
	"context"
	"encoding/hex"
	"math"

	"glenrain/core/annot"
	"glenrain/core/claim"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return []step.Kind{
		{Name: "mark-text", Meaning: "Highlights, underlines or strikes out text on a page.", Comment: true, Annotates: true,
			New: func() step.Step { return &MarkText{How: "highlight", Colour: "#f6dd8f"} }},
		{Name: "mark-change", Meaning: "Changes the kind or colour of a mark.", Annotates: true, New: func() step.Step { return &Change{} }},
		{Name: "mark-remove", Meaning: "Removes marks from text.", Annotates: true, New: func() step.Step { return &Remove{} }},
	}
}

// kinds are the annotations that the words mean, and how a sentence says it.
var kinds = map[string]struct {
	subtype pdf.Name
	done    string
}{"highlight": {"Highlight", "highlighted"}, "underline": {"Underline", "underlined"}, "strike out": {"StrikeOut", "struck out"}}

// How gives the word for an annotation's kind; wavy lines count as underlines.
func How(kind pdf.Name) string {
	switch kind {
	case "Highlight":
		return "highlight"
	case "StrikeOut":
		return "strike out"
	}
	return "underline"
}

// MarkText is the step "mark-text".
type MarkText struct {
	Page   step.Pages  `json:"page" required:"yes" help:"the page"`
	Quads  Quads       `json:"quads" required:"yes" help:"the marked text: four corners for each piece of a line"`
	How    string      `json:"how" enum:"highlight,underline,strike out" help:"the kind of mark"`
	Colour step.Colour `json:"colour" help:"its colour"`
	Text   string      `json:"text,omitempty" help:"the words, for the trail"`
	Author string      `json:"author,omitempty" help:"the author"`
}

// Quads are pieces of lines: x and y of upper left, upper right, lower left and lower right corner, in default user space (12.5.6.10).
type Quads [][8]float64

const mostQuads = 2000

func (q Quads) check() error {
	if len(q) == 0 || len(q) > mostQuads {
		return step.Refuse("no text is selected")
	}
	for _, p := range q {
		for _, v := range p {
			if math.IsNaN(v) || math.Abs(v) > 1e6 {
				return step.Refuse("the selected place is outside the page")
			}
		}
	}
	return nil
}

// Apply marks the text.
func (m *MarkText) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := m.Page.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(refs) != 1 {
		return nil, step.Refuse("you can mark text on one page at a time")
	}
	if err := m.Quads.check(); err != nil {
		return nil, err
	}
	r, g, b, err := m.Colour.RGB()
	if err != nil {
		return nil, err
	}
	id := env.NewID()
	annot.PutMarkup(doc, refs[0], annot.Markup{Kind: kinds[m.How].subtype, Colour: [3]float64{r, g, b}, Quads: m.Quads, Author: m.Author, Made: env.Now},
		"GLRN-"+hex.EncodeToString(id[:8]))
	what := "Text"
	if m.Text != "" {
		what = "“" + shorten(m.Text) + "”"
	}
	res := done(doc, env, refs[0], what+" "+kinds[m.How].done)
	res.Adds = claim.Comment | effect(m.How)
	return res, nil
}

// effect is what a mark brings in, whichever way it came: only a highlight blends.
func effect(how string) claim.Effect {
	if kinds[how].subtype == "Highlight" {
		return claim.Colour | claim.Transparency
	}
	return claim.Colour
}

// shorten keeps the trail's sentences to a line.
func shorten(s string) string {
	r := []rune(s)
	if len(r) > 40 {
		return string(r[:38]) + "…"
	}
	return s
}

func done(doc *pdf.Document, env *step.Env, page pdf.Ref, sentence string) *step.Result {
	return &step.Result{Pages: env.Keys.Of([]pdf.Ref{page}), Redrawn: step.RedrawPages, Show: env.Keys.Key(page),
		Sentence: sentence + " on " + step.NamedIn(doc, doc.PageIndexes([]pdf.Ref{page}))}
}

// Change is the step "mark-change".
type Change struct {
	Page   step.Pages  `json:"page" required:"yes" help:"the page"`
	Mark   int         `json:"mark" required:"yes" help:"the object number of the mark"`
	How    string      `json:"how" enum:"highlight,underline,strike out" help:"the kind of mark"`
	Colour step.Colour `json:"colour" help:"its colour"`
}

// find gives the mark of a page by its object number.
func find(doc *pdf.Document, page step.Pages, keys *step.Keys, number int) (pdf.Ref, annot.Markup, error) {
	refs, err := page.Refs(doc, keys)
	if err != nil {
		return pdf.Ref{}, annot.Markup{}, err
	}
	for _, r := range refs {
		for _, m := range annot.Markups(doc, r) {
			if m.Ref.Num == number && len(m.Quads) > 0 {
				return r, m, nil
			}
		}
	}
	return pdf.Ref{}, annot.Markup{}, step.Refuse("the mark has been removed")
}

// Apply changes the mark.
func (c *Change) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	page, m, err := find(doc, c.Page, env.Keys, c.Mark)
	if err != nil {
		return nil, err
	}
	r, g, b, err := c.Colour.RGB()
	if err != nil {
		return nil, err
	}
	m.Kind, m.Colour, m.Made = kinds[c.How].subtype, [3]float64{r, g, b}, env.Now
	annot.ChangeMarkup(doc, m)
	res := done(doc, env, page, "A mark changed")
	res.Adds = effect(c.How)
	return res, nil
}

// Remove is the step "mark-remove".
type Remove struct {
	Page step.Pages `json:"page" required:"yes" help:"the page"`
	Mark int        `json:"mark" required:"yes" help:"the object number of the mark"`
}

// Apply removes the mark.
func (c *Remove) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	page, m, err := find(doc, c.Page, env.Keys, c.Mark)
	if err != nil {
		return nil, err
	}
	structure.CutObjects(doc, annot.Remove(doc, page, m.Ref))
	return done(doc, env, page, "A mark removed"), nil
}
