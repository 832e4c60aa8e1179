package arrange

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"glenrain/core/annot"
	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Remove is the step "remove".
type Remove struct {
	Pages    step.Pages `json:"pages" required:"yes" help:"which pages; at least one must stay"`
	Headings string     `json:"headings,omitempty" enum:"keep,remove" help:"bookmarks and tags of removed pages that contain others: keep them as headings without a target, or remove them"`
}

// Apply removes the pages. What leads to them is cut where it stands, and the page
// objects with their annotations become null, so that no path that was overlooked
// can reach what was on them: no file written afterwards holds it.
func (t *Remove) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := t.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	if len(refs) == len(all) {
		return nil, step.Refuse("you can’t remove the last page, because a document needs one: delete the document instead")
	}
	at := doc.PageIndexes(refs)
	named := step.NamedIn(doc, at)
	gone := make(map[pdf.Ref]bool, len(refs))
	for _, r := range refs {
		gone[r] = true
	}
	isGone := func(r pdf.Ref) bool { return gone[r] }
	var show pdf.Ref // the page that comes to stand where the first one was
	for i, l := range all {
		if gone[l.Ref] {
			continue
		}
		show = l.Ref
		if i > at[0] {
			break
		}
	}

	keepLabels := nav.KeepLabels(doc)
	headings := t.Headings != "remove"
	var links []annot.Removed
	var touched []step.Key
	for _, l := range all {
		if gone[l.Ref] {
			continue
		}
		if cut := annot.CutLinks(doc, l.Ref, isGone); len(cut) > 0 {
			links = append(links, cut...)
			touched = append(touched, env.Keys.Key(l.Ref))
		}
	}
	structure.CutObjects(doc, links)
	tags, titles := structure.CutPages(doc, isGone, headings)
	fields := field.CutPages(doc, refs)
	cut := nav.CutPages(doc, gone, headings)
	free := slices.Concat(slices.SortedFunc(maps.Keys(annot.Only(doc, refs)), func(a, b pdf.Ref) int { return a.Num - b.Num }), refs)
	if err := doc.RemovePages(refs); err != nil {
		return nil, err
	}
	keepLabels(nil)
	doc.Free(free...)
	res := &step.Result{
		Pages: append(env.Keys.Of(refs), touched...), Redrawn: step.RedrawPages, Moved: true, Show: env.Keys.Key(show),
		Sentence: step.Sentence(named) + " removed",
	}
	var fell []string
	for _, f := range []struct {
		n    int
		noun string
	}{{cut.Bookmarks, "bookmark"}, {cut.Destinations, "named place"}, {len(links), "link"}, {fields, "form field"}, {tags, "tag"}} {
		if f.n > 0 {
			fell = append(fell, step.Count(f.n, f.noun))
		}
	}
	if len(fell) > 0 {
		res.Warnings = []string{fmt.Sprintf("Removed with them, because they pointed there: %s.", strings.Join(fell, ", "))}
	}
	if titles = append(cut.Headings, titles...); headings && len(titles) > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("Kept, because they contain others on remaining pages: %s. To remove them too, undo and choose that.", quoted(titles)))
	}
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, droppedXFA)
	}
	res.Warnings = append(res.Warnings, shiftPages(doc)...)
	return res, nil
}
