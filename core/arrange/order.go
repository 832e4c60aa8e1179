package arrange

import (
	"context"
	"slices"
	"strings"

	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Reverse is the step "reverse".
type Reverse struct {
	Pages step.Pages `json:"pages" required:"yes" help:"which pages; the last takes the place of the first, and so on"`
}

// Apply reverses the order of the pages among the places that they have.
func (r *Reverse) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	at, err := r.Pages.Resolve(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(at) < 2 {
		return nil, step.Refuse("there is nothing to reverse: select at least two pages")
	}
	order, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	refs := leaves(order)
	named := step.NamedIn(doc, at)
	for i, j := 0, len(at)-1; i < j; i, j = i+1, j-1 {
		refs[at[i]], refs[at[j]] = refs[at[j]], refs[at[i]]
	}
	res, err := reorder(doc, env, refs)
	if err != nil {
		return nil, err
	}
	res.Sentence = step.Sentence(named) + " reversed"
	return res, nil
}

// Interleave is the step "interleave": what was scanned in two stacks, all fronts and then all backs, comes into the order in which it is read.
type Interleave struct {
	Fronts   step.Pages `json:"fronts" required:"choose the front pages" help:"the front pages, in order"`
	Backs    step.Pages `json:"backs" required:"choose the back pages" help:"the back pages; if there are fewer, they go with the first sheets"`
	Reversed bool       `json:"reversed,omitempty" help:"the backs were scanned from the last sheet to the first, as when you turn over the whole stack"`
}

// Apply puts each back behind its front, from where the first of all of them stands.
func (in *Interleave) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	fronts, err := in.Fronts.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	backs, err := in.Backs.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	among := make(map[pdf.Ref]bool, len(fronts)+len(backs))
	for _, r := range slices.Concat(fronts, backs) {
		if among[r] {
			return nil, step.Refuse("page %d can't be a front and a back", doc.PageIndex(r)+1)
		}
		among[r] = true
	}
	if len(backs) > len(fronts) {
		return nil, step.Refuse("there are more backs (%d) than fronts (%d): nothing was changed", len(backs), len(fronts))
	}
	if in.Reversed {
		slices.Reverse(backs)
	}
	var sheets []pdf.Ref
	for i, f := range fronts {
		sheets = append(sheets, f)
		if i < len(backs) {
			sheets = append(sheets, backs[i])
		}
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	var order []pdf.Ref
	put := false
	for _, l := range all {
		switch {
		case !among[l.Ref]:
			order = append(order, l.Ref)
		case !put:
			order, put = append(order, sheets...), true
		}
	}
	res, err := reorder(doc, env, order)
	if err != nil {
		return nil, err
	}
	res.Show = env.Keys.Key(sheets[0])
	res.Sentence = step.Count(len(fronts), "front") + " and " + step.Count(len(backs), "back") + " interleaved"
	if in.Reversed {
		res.Sentence += ", the backs from last to first"
	}
	if few := len(fronts) - len(backs); few > 0 {
		res.Warnings = append([]string{strings.TrimSpace("There are fewer backs than fronts: " + step.NamedIn(doc, doc.PageIndexes(fronts[len(backs):])) + " got none.")}, res.Warnings...)
	}
	return res, nil
}

func leaves(list []pdf.Leaf) []pdf.Ref {
	refs := make([]pdf.Ref, len(list))
	for i, l := range list {
		refs[i] = l.Ref
	}
	return refs
}

// reorder brings the pages of a document into another order. Bookmarks, links, fields and labels go with their pages; tags stand where their
// pages stand.
func reorder(doc *pdf.Document, env *step.Env, order []pdf.Ref) (*step.Result, error) {
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	lo, hi := 0, len(all) // what changes lies between them
	for lo < hi && all[lo].Ref == order[lo] {
		lo++
	}
	for hi > lo && all[hi-1].Ref == order[hi-1] {
		hi--
	}
	if lo == hi {
		return nil, step.Refuse("the pages are already in that order")
	}
	keepLabels := nav.KeepLabels(doc)
	moving := order[lo:hi]
	var moved []pdf.Ref // those that stand elsewhere afterwards
	for i, r := range moving {
		if all[lo+i].Ref != r {
			moved = append(moved, r)
		}
	}
	if err := doc.DetachPages(moving[1:]); err != nil { // one stays, so that there are always pages: it stands where it belongs then
		return nil, err
	}
	if err := doc.InsertPages(lo+1, moving[1:]); err != nil {
		return nil, err
	}
	keepLabels(nil)
	structure.Follow(doc, moving)
	res := &step.Result{Pages: env.Keys.Of(moved), Moved: true, Show: env.Keys.Key(moved[0])}
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, droppedXFA)
	}
	res.Warnings = append(res.Warnings, shiftPages(doc)...)
	return res, nil
}
