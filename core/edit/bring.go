package edit

import (
	"context"
	"fmt"

	"glenrain/core/claim"
	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// BringObjects is the step "bring-objects": objects of a page of another document come to a page of this one, with their fonts.
type BringObjects struct {
	From     step.SourceRef `json:"from" required:"choose a source document" help:"the document: path:FILE, sha256:HASH or state:ID"`
	FromPage int            `json:"from_page" min:"1" help:"the number of its page, counted from 1"`
	Objects  []Object       `json:"objects" was:"things" required:"yes" help:"the objects and how far they move: what, at, x, y"`
	Page     step.Pages     `json:"page" required:"yes" help:"the page to copy them to"`
}

// Apply brings the objects.
func (s *BringObjects) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	to, err := onePage(&s.Page, doc, env, "objects are put")
	if err != nil {
		return nil, err
	}
	src, err := env.Sources.Open(ctx, s.From)
	if err != nil {
		return nil, err
	}
	from := src.Doc
	if from == nil {
		if from, _, _, err = pdf.OpenVerified(ctx, src.Data, src.Size, ""); err != nil {
			return nil, step.Refuse("%s can't be read: %v", src.Name, err)
		}
	}
	from = from.ForkIn(ctx)
	leaves, err := from.Pages()
	if err != nil {
		return nil, err
	}
	if s.FromPage < 1 || s.FromPage > len(leaves) {
		return nil, step.Refuse("%s has no page %d", src.Name, s.FromPage)
	}
	ref := leaves[s.FromPage-1].Ref
	page, err := content.NewReader(from).Page(ctx, ref, wanted)
	if err != nil {
		return nil, err
	}
	if page.Cut {
		return nil, step.Refuse("the page has too much content to read")
	}
	g := from.Geometry(ref)
	l := layout.Read(page, g.Visible, nil)
	list, err := objectsOf(from, page, l, s.Objects)
	if err != nil {
		return nil, err
	}
	copier, err := pdf.NewCopier(doc, from)
	if err != nil {
		return nil, err
	}
	m := &mover{doc: from, page: page, lay: l, into: doc, bring: func(o pdf.Object) (pdf.Ref, error) {
		c, err := copier.Object(o)
		if err != nil {
			return pdf.Ref{}, err
		}
		if r, ok := c.(pdf.Ref); ok {
			return r, nil
		}
		return doc.Add(c), nil
	}}
	// To the same place of the page, as both are seen.
	across := upright(from, ref).Invert().Mul(upright(doc, to))
	for i := range list {
		t, err := list[i].matrix(g, list[i].box)
		if err != nil {
			return nil, err
		}
		if err := m.carry(&list[i], t.Mul(across)); err != nil {
			return nil, err
		}
	}
	if over := from.Over(); over != nil {
		return nil, over
	}
	if err := m.put(doc, to); err != nil {
		return nil, err
	}
	refs := []pdf.Ref{to}
	return &step.Result{
		Pages: env.Keys.Of(refs), Redrawn: step.RedrawPages, Show: env.Keys.Key(to), Warnings: m.warnings, Adds: claim.Foreign,
		Sentence: fmt.Sprintf("%s copied from page %d of “%s” to %s", called(list), s.FromPage, src.Name, inSentence(doc, doc.PageIndexes(refs))),
	}, nil
}

// upright takes a page as it is seen, from its upper left corner down, to its default user space.
func upright(doc *pdf.Document, page pdf.Ref) pdf.Matrix {
	g := doc.Geometry(page)
	_, h := g.Seen()
	return seenMatrix(g, h)
}
