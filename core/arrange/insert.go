package arrange

import (
	"context"
	"fmt"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Insert is the step "insert".
type Insert struct {
	From  step.SourceRef `json:"from" required:"choose a document to insert pages from" help:"the source: path:FILE, sha256:HASH or state:ID; a PDF, JPEG or PNG"`
	Pages step.Pages     `json:"pages" help:"which of its pages; a picture has one"`
	To    step.Place     `json:"to" help:"where: before this page, or at the end"`
	Name  string         `json:"name,omitempty" help:"what the source is called in sentences and bookmarks; its file name if empty"`
}

// Apply inserts the pages.
func (in *Insert) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if env.Sources == nil {
		return nil, step.Refuse("there is nothing to insert pages from here")
	}
	src, err := env.Sources.Open(ctx, in.From)
	if err != nil {
		return nil, err
	}
	name := in.Name
	if name == "" {
		name = src.Name
	}
	at, err := in.To.Index(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	res := &step.Result{Moved: true}
	var pages []pdf.Ref
	what := ""
	if src.Doc == nil && draw.IsPicture(src.Data) {
		page, _, err := draw.PictureFile(doc, src.Data, src.Size)
		if err != nil {
			return nil, step.Refuse("“%s” can't be inserted: %v", src.Name, err)
		}
		pages = []pdf.Ref{page}
		what = fmt.Sprintf("Picture “%s”", name)
	} else {
		from := src.Doc
		if from == nil {
			if from, _, err = pdf.OpenMended(ctx, src.Data, src.Size, ""); err != nil {
				return nil, step.Refuse("“%s” can't be inserted: %v", name, err)
			}
		}
		chosen, warnings, err := in.bring(doc, from, env, name, &pages)
		if err != nil {
			return nil, err
		}
		res.Warnings = warnings
		what = fmt.Sprintf("%s of “%s”", step.Sentence(step.Named(chosen)), name)
	}
	all, err := doc.Pages()
	where := "at the end"
	if err == nil && at < len(all) {
		where = fmt.Sprintf("before page %d", at+1)
	}
	if err := doc.InsertPages(at, pages); err != nil {
		return nil, err
	}
	res.Created = pages
	for i := range pages {
		res.Pages = append(res.Pages, step.Key{Step: env.Step, Ordinal: i + 1})
	}
	res.Show = res.Pages[0]
	res.Redrawn = step.RedrawPages
	res.Sentence = fmt.Sprintf("%s inserted %s", what, where)
	return res, nil
}

// bring copies the chosen pages of from into doc, with their links, fields, layers,
// tags, bookmarks and furnishings, and, where all are chosen, the files that are attached. It gives the indexes in from.
func (in *Insert) bring(doc, from *pdf.Document, env *step.Env, name string, out *[]pdf.Ref) ([]int, []string, error) {
	from = from.Fork()
	if _, err := from.SplitSharedPages(); err != nil {
		return nil, nil, step.Refuse("“%s” can't be inserted: %v", name, err)
	}
	// Keys in the parameters name pages of this document, so a source's are rules.
	chosen, err := in.Pages.Resolve(from, env.Keys)
	if err != nil {
		return nil, nil, err
	}
	if len(chosen) == 0 {
		return nil, nil, step.Refuse("“%s” has no such page", name)
	}
	all, err := from.Pages()
	if err != nil {
		return nil, nil, err
	}
	refs := make([]pdf.Ref, len(chosen))
	here := make(map[pdf.Ref]bool, len(chosen))
	for i, n := range chosen {
		refs[i] = all[n].Ref
		here[refs[i]] = true
	}
	stays := func(r pdf.Ref) bool { return !here[r] }
	links := 0
	for _, r := range refs {
		annot.Explicit(from, r)
		links += annot.CutLinks(from, r, stays)
	}
	if len(refs) < len(all) && structure.Tagged(from) {
		structure.CutPages(from, stays)
	}
	c, err := pdf.NewCopier(doc, from)
	if err != nil {
		return nil, nil, err
	}
	pages, err := c.Pages(refs)
	if err != nil {
		return nil, nil, step.Refuse("“%s” can't be inserted: %v", name, err)
	}
	var warnings []string
	if links > 0 {
		warnings = append(warnings, fmt.Sprintf("%s to pages that were not inserted fell away.", step.Count(links, "link")))
	}
	if _, err := structure.Bring(doc, from, c, pages); err != nil {
		return nil, nil, err
	}
	_, renamed, err := field.Bring(doc, from, c, pages)
	if err != nil {
		return nil, nil, err
	}
	if renamed > 0 {
		warnings = append(warnings, fmt.Sprintf("%s renamed, because the document has one of the same name.", step.Count(renamed, "form field")))
	}
	bringLayers(doc, from, c)
	if _, err := nav.Bring(doc, from, c, name, pages[0]); err != nil {
		return nil, nil, err
	}
	if _, err := draw.Carry(doc, from, pages, env.NewID, env.Now); err != nil {
		return nil, nil, err
	}
	if len(refs) == len(all) { // all of it: what hangs on the document comes too
		told, err := bringFiles(doc, from, c, name)
		if err != nil {
			return nil, nil, step.Refuse("“%s” can't be inserted: %v", name, err)
		}
		warnings = append(warnings, told...)
	}
	if from.Version() > doc.Version() {
		doc.Edit(doc.Root()).Set("Version", pdf.Name(from.Version()))
	}
	*out = pages
	return chosen, warnings, nil
}

// bringLayers lists the optional content groups that came with copied pages in dst's
// catalog, shown or hidden as they were (ISO 32000-2, 8.11.4).
func bringLayers(dst, src *pdf.Document, c *pdf.Copier) {
	props := src.Dict(src.Catalog().Get("OCProperties"))
	if props == nil {
		return
	}
	var came []pdf.Ref
	for _, o := range src.Array(props.Get("OCGs")) {
		if r, ok := o.(pdf.Ref); ok {
			if n, ok := c.Ref(r); ok {
				came = append(came, n)
			}
		}
	}
	if len(came) == 0 {
		return
	}
	config := src.Dict(props.Get("D"))
	hidden := map[pdf.Ref]bool{}
	base := src.Name(config.Get("BaseState"))
	for _, o := range src.Array(config.Get("OFF")) {
		if r, ok := o.(pdf.Ref); ok {
			if n, ok := c.Ref(r); ok {
				hidden[n] = true
			}
		}
	}
	if base == "OFF" {
		on := map[pdf.Ref]bool{}
		for _, o := range src.Array(config.Get("ON")) {
			if r, ok := o.(pdf.Ref); ok {
				if n, ok := c.Ref(r); ok {
					on[n] = true
				}
			}
		}
		for _, r := range came {
			hidden[r] = !on[r]
		}
	}
	own := dst.Dict(dst.Catalog().Get("OCProperties")).Clone()
	d := dst.Dict(own.Get("D")).Clone()
	groups := slices.Clone(dst.Array(own.Get("OCGs")))
	off := slices.Clone(dst.Array(d.Get("OFF")))
	order := slices.Clone(dst.Array(d.Get("Order")))
	for _, r := range came {
		if slices.Contains(groups, pdf.Object(r)) {
			continue
		}
		groups = append(groups, r)
		order = append(order, r)
		if hidden[r] {
			off = append(off, r)
		}
	}
	own.Set("OCGs", groups)
	if len(off) > 0 {
		d.Set("OFF", off)
	}
	d.Set("Order", order)
	own.Set("D", d)
	dst.Edit(dst.Root()).Set("OCProperties", own)
}
