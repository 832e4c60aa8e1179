package arrange

import (
	"context"
	"fmt"

	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Duplicate is the step "duplicate".
type Duplicate struct {
	Pages step.Pages `json:"pages" required:"yes" help:"which pages"`
	Where string     `json:"where" enum:"behind each,together" labels:"behind each=after each" help:"each copy after its page, or all of them together"`
	To    step.Place `json:"to" help:"where to place them: before this page, or at the end"`
}

// Apply copies the pages. What they draw with stands in the file once, for both. Bookmarks and links lead to the pages that they led to; fields of the
// copies have names of their own, and the copies are tagged like their pages.
func (d *Duplicate) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if _, err := doc.SplitSharedPages(); err != nil {
		return nil, err
	}
	at, err := d.Pages.Resolve(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(at) == 0 {
		return nil, step.Refuse("no page is selected")
	}
	to, err := d.To.Index(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	refs := make([]pdf.Ref, len(at))
	for i, n := range at {
		refs[i] = all[n].Ref
	}
	keepLabels := nav.KeepLabels(doc)
	labels := nav.LabelsOf(doc, doc, at)
	c, err := copies(ctx, doc, env, refs)
	if err != nil {
		return nil, err
	}
	named, where := step.NamedIn(doc, at), "placed at the end"
	if to < len(all) {
		where = "placed before " + step.NamedIn(doc, []int{to})
	}
	if d.Where == "together" {
		err = doc.InsertPages(to, c.pages)
	} else {
		where = "after each"
		if len(at) == 1 {
			where = "placed after it"
		}
		for i := len(at) - 1; i >= 0 && err == nil; i-- {
			err = doc.InsertPages(at[i]+1, c.pages[i:i+1])
		}
	}
	if err != nil {
		return nil, err
	}
	called := map[pdf.Ref]nav.Label{}
	for i, l := range labels {
		called[c.pages[i]] = l
	}
	keepLabels(called)
	structure.Place(doc, c.tags, 0)
	structure.Follow(doc, c.pages)
	res := &step.Result{Moved: true, Created: c.pages, Redrawn: step.RedrawPages, Warnings: c.told}
	for i := range c.pages {
		res.Pages = append(res.Pages, step.Key{Step: env.Step, Ordinal: i + 1})
	}
	res.Show = res.Pages[0]
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, droppedXFA)
	}
	res.Warnings = append(res.Warnings, shiftPages(doc)...)
	copied := "copies"
	if len(at) == 1 {
		copied = "the copy"
	}
	res.Sentence = fmt.Sprintf("%s duplicated, %s %s", step.Sentence(named), copied, where)
	return res, nil
}

// copies makes copies of pages within their document, which stand nowhere yet; their tags stand at the end of the tree.
func copies(ctx context.Context, doc *pdf.Document, env *step.Env, refs []pdf.Ref) (b brought, err error) {
	from := doc.ForkIn(ctx)
	these := map[pdf.Ref]bool{}
	for _, r := range refs {
		these[r] = true
	}
	if structure.Tagged(from) {
		structure.CutPages(from, func(r pdf.Ref) bool { return !these[r] }, true)
	}
	c, err := pdf.NewCopier(doc, from)
	if err != nil {
		return b, err
	}
	if err := c.Share(refs); err != nil {
		return b, err
	}
	if b.pages, err = c.Pages(refs); err != nil {
		return b, err
	}
	if b.tags, err = structure.Bring(doc, from, c, b.pages); err != nil {
		return b, err
	}
	form, err := field.Bring(doc, from, c, b.pages)
	if err != nil {
		return b, err
	}
	if form.Renamed > 0 {
		b.tell("%s of the copies renamed: a field of the same name would hold the same value.", step.Count(form.Renamed, "form field"))
	}
	if form.Unsigned > 0 {
		b.tell("%s removed from the copies: a signature is valid only in its own place.", step.Count(form.Unsigned, "signature"))
	}
	// Furnishings that name their pages singly are for the copies, too.
	twin := make(map[pdf.Ref]pdf.Ref, len(refs))
	for i, r := range refs {
		twin[r] = b.pages[i]
	}
	for _, f := range draw.List(doc) {
		more := f.Pages
		for _, r := range f.Pages {
			if n, ok := twin[r]; ok {
				more = append(more, n)
			}
		}
		if len(more) > len(f.Pages) {
			f.Pages = more
			if err := draw.Keep(doc, f, env.Now); err != nil {
				return b, err
			}
		}
	}
	return b, nil
}
