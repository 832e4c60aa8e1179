package arrange

import (
	"context"
	"fmt"
	"slices"

	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Move is the step "move".
type Move struct {
	Pages step.Pages `json:"pages" required:"yes" help:"which pages; they are placed together, in their order"`
	To    step.Place `json:"to" help:"where: before this page, or at the end"`
}

// Apply moves the pages.
func (m *Move) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := m.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	at, err := m.To.Index(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	from := doc.PageIndexes(refs)
	named := step.NamedIn(doc, from)
	keepLabels := nav.KeepLabels(doc)
	moving := map[pdf.Ref]bool{}
	for _, r := range refs {
		moving[r] = true
	}
	var order []pdf.Ref // of those that stay
	place := 0
	for i, l := range all {
		if moving[l.Ref] {
			continue
		}
		if i < at {
			place++
		}
		order = append(order, l.Ref)
	}
	after := slices.Insert(slices.Clone(order), place, refs...)
	if slices.EqualFunc(after, all, func(r pdf.Ref, l pdf.Leaf) bool { return r == l.Ref }) {
		return nil, step.Refuse("the pages are already there")
	}
	where := "to the end"
	if place < len(order) {
		where = "before " + step.NamedIn(doc, []int{doc.PageIndex(order[place])})
	}
	if err := doc.DetachPages(refs); err != nil {
		return nil, err
	}
	if err := doc.InsertPages(place, refs); err != nil {
		return nil, err
	}
	keepLabels(nil)
	structure.Move(doc, refs)
	res := &step.Result{
		Pages: env.Keys.Of(refs), Moved: true, Show: env.Keys.Key(refs[0]),
		Sentence: fmt.Sprintf("%s moved %s", step.Sentence(named), where),
	}
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, droppedXFA)
	}
	res.Warnings = append(res.Warnings, shiftPages(doc)...)
	return res, nil
}
