package arrange

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/claim"
	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Replace is the step "replace".
type Replace struct {
	Pages step.Pages     `json:"pages" required:"yes" help:"which pages are replaced"`
	From  step.SourceRef `json:"from" required:"choose the document that the new pages come from" help:"the source: path:FILE, sha256:HASH or state:ID; a PDF or a picture"`
	With  step.Pages     `json:"with" required:"choose the pages to replace them with" help:"its pages, as many as are replaced, in order"`
	Name  string         `json:"name,omitempty" help:"a name for the source in messages; its file name if empty"`
}

// Apply puts pages of the source in the places of pages. Each stays the same page to all that leads to it: bookmarks, links, named places, its
// label and the page sets of furnishings; what stood on it goes, with its comments, fields and tags.
func (r *Replace) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if env.Sources == nil {
		return nil, step.Refuse("there is no document to take pages from")
	}
	src, err := env.Sources.Open(ctx, r.From)
	if err != nil {
		return nil, err
	}
	refs, err := r.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	in := Insert{Pages: r.With, Name: r.Name, Marks: "none"}
	if in.Name == "" {
		in.Name = src.Name
	}
	from := src.Doc
	if from == nil {
		if from, _, err = pdf.OpenMended(ctx, src.Data, src.Size, ""); err != nil {
			return nil, step.Refuse("the pages of “%s” can't be used: %v", in.Name, err)
		}
	}
	at := doc.PageIndexes(refs)
	chosen, err := r.With.Resolve(from, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(chosen) != len(refs) {
		return nil, step.Refuse("%s can't take the place of %s: select as many", step.Count(len(chosen), "page"), step.Count(len(refs), "page"))
	}
	res := &step.Result{Moved: true, Redrawn: step.RedrawPages, Adds: claim.Foreign}
	if claim.Keeps(doc, from) {
		res.Adds = 0
	}
	clear := make(map[pdf.Ref]bool, len(refs))
	for _, p := range refs {
		clear[p] = true
	}
	tags, _ := structure.CutPages(doc, func(p pdf.Ref) bool { return clear[p] }, false)
	fields := field.CutPages(doc, refs)
	gone := slices.SortedFunc(maps.Keys(annot.Only(doc, refs)), func(a, b pdf.Ref) int { return a.Num - b.Num })
	comments := 0
	for _, a := range gone {
		if s := doc.Name(doc.Dict(a).Get("Subtype")); s != "Link" && s != "Widget" && s != "Popup" {
			comments++
		}
	}
	for _, p := range refs { // what the new page does not say must not be left of the old one
		left := pdf.NewDict("Type", pdf.Name("Page"), "Parent", doc.Dict(p).Get("Parent"))
		doc.Set(p, left)
	}
	doc.Free(gone...)
	keepLabels := nav.KeepLabels(doc)
	b, err := in.bring(doc, from, env, in.Name, refs)
	if err != nil {
		return nil, err
	}
	keepLabels(nil)
	structure.Place(doc, b.tags, 0)
	structure.Follow(doc, refs)
	res.Warnings = b.told
	if n := comments + fields + tags; n > 0 {
		res.Warnings = append([]string{fmt.Sprintf("Removed with the replaced %s: %s.", plural(len(refs), "page", "pages"), counted(comments, "comment", fields, "form field", tags, "tag"))}, res.Warnings...)
	}
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, droppedXFA)
	}
	res.Pages = env.Keys.Of(refs)
	res.Show = res.Pages[0]
	res.Sentence = fmt.Sprintf("%s replaced by %s of “%s”", step.Sentence(step.NamedIn(doc, at)), step.NamedIn(from, b.chosen), in.Name)
	return res, nil
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// counted lists what there is any of: 2, "comment", 0, "tag" gives "2 comments".
func counted(pairs ...any) string {
	var parts []string
	for i := 0; i+1 < len(pairs); i += 2 {
		if n := pairs[i].(int); n > 0 {
			parts = append(parts, step.Count(n, pairs[i+1].(string)))
		}
	}
	out := ""
	for i, p := range parts {
		switch {
		case i == 0:
		case i == len(parts)-1:
			out += " and "
		default:
			out += ", "
		}
		out += p
	}
	return out
}
