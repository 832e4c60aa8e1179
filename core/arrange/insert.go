package arrange

import (
	"context"
	"fmt"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Insert is the step "insert".
type Insert struct {
	From  step.SourceRef `json:"from" required:"choose a document to insert pages from" help:"the source: path:FILE, sha256:HASH or state:ID; a PDF or a picture"`
	Pages step.Pages     `json:"pages" help:"its pages"`
	To    step.Place     `json:"to" help:"where: before this page, or at the end"`
	Name  string         `json:"name,omitempty" help:"a name for the source in messages and bookmarks; its file name if empty"`
	Marks string         `json:"bookmarks,omitempty" enum:"under one of its name,as they are,none" labels:"under one of its name=under its name" help:"where to place the source’s bookmarks"`
	Moves string         `json:"transitions,omitempty" enum:"keep,drop" help:"transitions of pages and their actions on opening and closing: keep or drop"`
}

// Apply inserts the pages.
func (in *Insert) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if env.Sources == nil {
		return nil, step.Refuse("there is no document to insert pages from")
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
	res := &step.Result{Moved: true, Adds: claim.Foreign}
	keepLabels := nav.KeepLabels(doc)
	var pages []pdf.Ref
	var b brought
	what := ""
	if src.Doc == nil && draw.IsPicture(src.Data) {
		if pages, err = in.pictures(doc, src, env); err != nil {
			return nil, err
		}
		what = fmt.Sprintf("Picture “%s”", name)
		if len(pages) > 1 {
			what = fmt.Sprintf("%s of the picture “%s”", step.Count(len(pages), "page"), name)
		}
	} else {
		from := src.Doc
		if from == nil {
			if from, _, err = pdf.OpenMended(ctx, src.Data, src.Size, ""); err != nil {
				return nil, step.Refuse("“%s” can't be inserted: %v", name, err)
			}
		}
		if claim.Keeps(doc, from) {
			res.Adds = 0
		}
		if b, err = in.bring(doc, from, env, name, nil); err != nil {
			return nil, err
		}
		pages, res.Warnings = b.pages, b.told
		what = fmt.Sprintf("%s of “%s”", step.Sentence(step.NamedIn(from, b.chosen)), name)
	}
	all, err := doc.Pages()
	where := "at the end"
	if err == nil && at < len(all) {
		where = "before " + step.NamedIn(doc, []int{at})
	}
	if err := doc.InsertPages(at, pages); err != nil {
		return nil, err
	}
	keepLabels(b.labels)
	structure.Place(doc, b.tags, at)
	if !slices.IsSorted(b.chosen) { // the tags are in the source's order
		structure.Follow(doc, pages)
	}
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, droppedXFA)
	}
	res.Warnings = append(res.Warnings, shiftPages(doc)...)
	res.Created = pages
	for i := range pages {
		res.Pages = append(res.Pages, step.Key{Step: env.Step, Ordinal: i + 1})
	}
	res.Show = res.Pages[0]
	res.Redrawn = step.RedrawPages
	res.Sentence = fmt.Sprintf("%s inserted %s", what, where)
	return res, nil
}

// pictures makes pages of an image file, of which the chosen ones stay.
func (in *Insert) pictures(doc *pdf.Document, src *step.Source, env *step.Env) ([]pdf.Ref, error) {
	cant := func(err error) error { return step.Refuse("“%s” can't be inserted: %v", src.Name, err) }
	list, err := draw.ReadPictures(src.Data, src.Size)
	if err != nil {
		return nil, cant(err)
	}
	chosen := make([]int, len(list))
	for i := range chosen {
		chosen[i] = i
	}
	if len(list) > 1 && !in.Pages.IsZero() { // which of them is understood as of a document with as many pages
		like := pdf.New()
		for i := range list {
			page := like.Add(pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(1), pdf.Integer(1)}))
			if err := like.InsertPages(i, []pdf.Ref{page}); err != nil {
				return nil, err
			}
		}
		if chosen, err = in.Pages.Resolve(like, env.Keys); err != nil {
			return nil, err
		}
	}
	pages := make([]pdf.Ref, len(chosen))
	for i, at := range chosen {
		if pages[i], err = draw.PicturePage(doc, list[at], draw.Placement{}); err != nil {
			return nil, cant(err)
		}
	}
	return pages, nil
}

// brought is what came of a source.
type brought struct {
	pages  []pdf.Ref
	chosen []int // their indexes in the source
	labels map[pdf.Ref]nav.Label
	tags   []pdf.Ref
	told   []string
}

// bring copies the chosen pages of from into doc, with their links, labels, fields, layers, tags, bookmarks and furnishings, and, where all are
// chosen, the files that are attached. docs/KEEPING.md says what becomes of each entry of the source's catalog. as, where given, are pages of doc that
// they take the places of: as many.
func (in *Insert) bring(doc, from *pdf.Document, env *step.Env, name string, as []pdf.Ref) (b brought, err error) {
	from = from.Fork()
	cant := func(err error) error { return step.Refuse("“%s” can't be inserted: %v", name, err) }
	if _, err := from.SplitSharedPages(); err != nil {
		return b, cant(err)
	}
	// Keys in the parameters name pages of this document, so a source's are rules.
	if b.chosen, err = in.Pages.Resolve(from, env.Keys); err != nil {
		return b, err
	}
	if len(b.chosen) == 0 {
		return b, step.Refuse("“%s” has no such page", name)
	}
	all, err := from.Pages()
	if err != nil {
		return b, err
	}
	refs := make([]pdf.Ref, len(b.chosen))
	here := make(map[pdf.Ref]bool, len(b.chosen))
	for i, n := range b.chosen {
		refs[i] = all[n].Ref
		here[refs[i]] = true
	}
	whole := len(here) == len(all)
	labels := nav.LabelsOf(doc, from, b.chosen)
	stays := func(r pdf.Ref) bool { return !here[r] }
	var links []annot.Removed
	for _, r := range refs {
		annot.Explicit(from, r)
		links = append(links, annot.CutLinks(from, r, stays)...)
	}
	structure.CutObjects(from, links)
	if !whole && structure.Tagged(from) {
		structure.CutPages(from, stays, true)
	}
	c, err := pdf.NewCopier(doc, from)
	if err != nil {
		return b, err
	}
	id := identity(from)
	known := remembered(doc, id)
	c.Known(known)
	if as != nil && len(as) != len(refs) {
		return b, step.Refuse("%s can't take the place of %s: choose as many", step.Count(len(refs), "page"), step.Count(len(as), "page"))
	}
	if b.pages = as; as != nil {
		err = c.PagesAs(refs, as)
	} else {
		b.pages, err = c.Pages(refs)
	}
	if err != nil {
		return b, cant(err)
	}
	if in.Moves == "drop" && dropMoves(doc, b.pages) {
		b.tell("Transitions and page actions of “%s” were left out.", name)
	}
	if labels != nil {
		b.labels = make(map[pdf.Ref]nav.Label, len(labels))
		for i, p := range b.pages {
			b.labels[p] = labels[i]
		}
	}
	if len(links) > 0 {
		b.tell("%s to pages that were not inserted removed.", step.Count(len(links), "link"))
	}
	b.told = append(b.told, bringCatalog(doc, from, c, name)...)
	spoken(doc, from, b.pages)
	if b.tags, err = structure.Bring(doc, from, c, b.pages); err != nil {
		return b, err
	}
	form, err := field.Bring(doc, from, c, b.pages)
	if err != nil {
		return b, err
	}
	b.tellForm(form, name)
	bringLayers(doc, from, c)
	var marks nav.Brought
	switch in.Marks {
	case "none":
	case "as they are":
		marks, err = nav.Bring(doc, from, c, "", pdf.Ref{}, whole)
	default:
		marks, err = nav.Bring(doc, from, c, name, b.pages[0], whole)
	}
	if err != nil {
		return b, err
	}
	if marks.Nowhere > 0 {
		b.tell("%s of “%s” %s no target page.", step.Count(marks.Nowhere, "bookmark"), name, map[bool]string{true: "has", false: "have"}[marks.Nowhere == 1])
	}
	if _, err := draw.Carry(doc, from, b.pages, c.Object, env.NewID, env.Now); err != nil {
		return b, err
	}
	if form.Scripts {
		told, err := bringScripts(doc, from, c, name)
		if err != nil {
			return b, cant(err)
		}
		b.told = append(b.told, told...)
	}
	if whole { // what hangs on the document comes too
		told, err := bringFiles(doc, from, c, name)
		if err != nil {
			return b, cant(err)
		}
		b.told = append(b.told, told...)
	}
	fresh, err := c.DrawnWith(b.pages)
	if err != nil {
		return b, err
	}
	return b, remember(doc, id, fresh, known)
}

// dropMoves takes out what pages of a presentation do (transitions, 12.4.4) and what a page does when it is opened or closed (12.6.3); it tells
// whether there was anything.
func dropMoves(doc *pdf.Document, pages []pdf.Ref) (any bool) {
	for _, p := range pages {
		for _, k := range []pdf.Name{"Trans", "Dur", "AA"} {
			if doc.Dict(p).Has(k) {
				doc.Edit(p).Delete(k)
				any = true
			}
		}
	}
	return any
}

func (b *brought) tell(format string, args ...any) {
	b.told = append(b.told, fmt.Sprintf(format, args...))
}

func (b *brought) tellForm(f field.Brought, name string) {
	if f.Renamed > 0 {
		b.tell("%s renamed, because the document has one of the same name.", step.Count(f.Renamed, "form field"))
	}
	if f.Unsigned > 0 {
		b.tell("%s of “%s” removed: a signature is valid only in the file that was signed.", step.Count(f.Unsigned, "signature"), name)
	}
}

// underName is the usual place of a source's bookmarks.
const underName = "under one of its name"
