// Package furnish puts things on pages by rule, so that they can be listed, changed,
// updated and removed later. Each kind stands in a file of its own and in one table. How a furnishing is kept in the file is
// core/draw's concern (draw.Placed).
package furnish

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return []step.Kind{
		{Name: "number", Meaning: "Adds page numbers at the top or bottom of pages.",
			New: func() step.Step { n := &Number{}; n.Values = usual(); return n }},
		{Name: "number-change", Meaning: "Changes existing page numbers; give every value again.",
			New: func() step.Step { n := &NumberChange{}; n.Values = usual(); return n }},
		{Name: "contents", Meaning: "Inserts a table of contents that lists the bookmarks with their pages.",
			New: func() step.Step { return &Contents{ContentsValues: UsualContents()} }},
		{Name: "contents-change", Meaning: "Changes an existing table of contents; give every value again.",
			New: func() step.Step { return &ContentsChange{ContentsValues: UsualContents()} }},
		{Name: "furnishing-remove", Meaning: "Removes page numbers or a table of contents from every page.",
			New: func() step.Step { return &Remove{} }},
		{Name: "furnishing-update", Was: []string{"furnishing-renew"}, Meaning: "Updates page numbers and tables of contents to the current pages.",
			New: func() step.Step { return &Update{} }},
	}
}

// Hooks are called after pages moved or were rotated.
func Hooks() []step.Hook { return []step.Hook{markStale} }

func ruleOf(p draw.Placed) (Rule, error) { return kindOf(p.Kind).Read(p.Values) }

// Since says what put a kind of furnishing out of date.
func Since(name string) string { return kindOf(name).Since }

// Title is what people call a kind of furnishing.
func Title(name string) string { return kindOf(name).Title }

// ground is a document for a furnishing of it.
func ground(doc *pdf.Document, env *step.Env, p draw.Placed) *Ground {
	return &Ground{Doc: doc, Now: env.Now, Name: env.Name, Uses: p.Uses, wants: env.Wants}
}

// where gives the indexes of the pages that a furnishing is for.
func where(doc *pdf.Document, p draw.Placed, r Rule) ([]int, error) {
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	if p.Pages == nil {
		return step.EvalIn(doc, r.On().Rule)
	}
	in := map[pdf.Ref]bool{}
	for _, r := range p.Pages {
		in[r] = true
	}
	var at []int
	for i, l := range all {
		if in[l.Ref] {
			at = append(at, i)
		}
	}
	return at, nil
}

// placed turns values into what the document keeps: v is the struct of values, pages the field in it that says which.
func placed(doc *pdf.Document, env *step.Env, id, kind string, v any, pages *step.Pages) (draw.Placed, error) {
	p := draw.Placed{ID: id, Kind: kind}
	if pages.Keys != nil { // keys belong to a trail and not to a file
		refs, err := pages.Refs(doc, env.Keys)
		if err != nil {
			return p, err
		}
		p.Pages = refs
		keep := *pages
		*pages = step.Pages{}
		defer func() { *pages = keep }()
	}
	var err error
	p.Values, err = json.Marshal(v)
	return p, err
}

// redraw removes what stands on the pages, draws what the rule says now, and keeps the rule.
func redraw(doc *pdf.Document, env *step.Env, p draw.Placed, r Rule) (*step.Result, error) {
	was, err := clear(doc, env, p.ID)
	if err != nil {
		return nil, err
	}
	var created []pdf.Ref
	if g, ok := r.(Grower); ok {
		if created, err = g.Grow(doc, &p); err != nil {
			return nil, err
		}
	}
	at, err := where(doc, p, r)
	if err != nil {
		return nil, err
	}
	if len(at) == 0 {
		return nil, step.Refuse("no page is selected")
	}
	on := ground(doc, env, p)
	want, err := r.Plan(on, at)
	if err != nil {
		return nil, err
	}
	painter, err := r.Painter(on)
	if err != nil {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	res := &step.Result{Redrawn: step.RedrawPages, Adds: r.Adds()}
	forms := map[[2]string]pdf.Ref{}
	var off, broken []int // pages
	touched := make(map[pdf.Ref]bool, len(was)+len(at))
	for _, ref := range was {
		touched[ref] = true
	}
	for _, i := range at {
		page := all[i].Ref
		touched[page] = true
		if res.Show.IsZero() {
			res.Show = env.Keys.Key(page)
		}
		bad, over := false, false
		for _, it := range want[page] {
			form, made := forms[it.form()]
			if !made {
				if form, err = painter.Form(it); err != nil {
					return nil, err
				}
				forms[it.form()] = form
			}
			stamp := it.Stamp
			stamp.ID, stamp.Form, stamp.At, stamp.Made = p.ID, form, it.At, it.made()
			b, err := draw.Put(doc, page, stamp)
			if err != nil {
				return nil, err
			}
			for _, l := range it.Links {
				if err := draw.Link(doc, page, p.ID, l.Rect, l.Dest, l.Said); err != nil {
					return nil, err
				}
			}
			bad, over = bad || b, over || !it.fits(doc.Geometry(page))
		}
		if bad {
			broken = append(broken, i)
		}
		if over {
			off = append(off, i)
		}
	}
	res.Warnings = painter.Finish()
	if len(off) > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("%s %s too small: part or all of the text there is off the page.", step.Sentence(step.NamedIn(doc, off)), map[bool]string{true: "is", false: "are"}[len(off) == 1]))
	}
	if len(broken) > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("The content of %s has errors: some programs may not show the added text.", step.NamedIn(doc, broken)))
	}
	p.Stale = false
	if err := draw.Keep(doc, p, env.Now); err != nil {
		return nil, err
	}
	res.Created, res.Moved = created, len(created) > 0
	for _, l := range all {
		if !touched[l.Ref] {
			continue
		}
		k := env.Keys.Key(l.Ref)
		if i := slices.Index(created, l.Ref); i >= 0 {
			k = step.Key{Step: env.Step, Ordinal: i + 1}
		}
		res.Pages = append(res.Pages, k)
	}
	return res, nil
}

// Spot is a place on a page, in points from the upper left corner of the page as it is seen.
type Spot struct{ X, Y, W, H float64 }

// SpotOf tells where the furnishing of that id stands on a page; with no id, the newest one. ok is false where it does not
// stand there.
func SpotOf(doc *pdf.Document, id string, page pdf.Ref) (s Spot, ok bool) {
	list := draw.List(doc)
	for i := len(list) - 1; i >= 0; i-- {
		p := list[i]
		if id != "" && p.ID != id {
			continue
		}
		r, err := ruleOf(p)
		if err != nil {
			return s, false
		}
		at, err := where(doc, p, r)
		if err != nil {
			return s, false
		}
		want, err := r.Plan(&Ground{Doc: doc, Uses: p.Uses, wants: func(ref pdf.Ref) bool { return ref == page }}, at)
		items := want[page]
		if err != nil || len(items) == 0 {
			return s, false
		}
		g := doc.Geometry(page)
		_, seenH := g.Seen()
		box := items[0].upright(g)
		for _, it := range items[1:] {
			r := it.upright(g)
			box = pdf.Rect{X0: min(box.X0, r.X0), Y0: min(box.Y0, r.Y0), X1: max(box.X1, r.X1), Y1: max(box.Y1, r.Y1)}
		}
		return Spot{box.X0, seenH - box.Y1, box.X1 - box.X0, (box.Y1 - box.Y0) / ofHeight}, true
	}
	return s, false
}

// find gives the furnishing of an id, or refuses.
func find(doc *pdf.Document, id string) (draw.Placed, error) {
	p, ok := draw.Find(doc, id)
	if !ok {
		return p, step.Refuse("the item to change has been removed")
	}
	return p, nil
}

// clear removes a furnishing from all pages and gives the ones it was on.
func clear(doc *pdf.Document, env *step.Env, id string) ([]pdf.Ref, error) {
	pages, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	var touched []pdf.Ref
	for _, l := range pages {
		if !env.Wants(l.Ref) {
			continue
		}
		was, err := draw.Erase(doc, l.Ref, id)
		if err != nil {
			return nil, err
		}
		if was {
			touched = append(touched, l.Ref)
		}
	}
	return touched, nil
}

// Remove is the step "furnishing-remove".
type Remove struct {
	ID string `json:"id" required:"yes" help:"its id"`
}

// Apply removes the furnishing.
func (r *Remove) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	p, err := find(doc, r.ID)
	if err != nil {
		return nil, err
	}
	touched, err := clear(doc, env, r.ID)
	if err != nil {
		return nil, err
	}
	if err := draw.Forget(doc, r.ID, env.Now); err != nil {
		return nil, err
	}
	res := &step.Result{Pages: env.Keys.Of(touched), Redrawn: step.RedrawPages,
		Sentence: fmt.Sprintf("%s removed from %s", Title(p.Kind), step.Count(len(touched), "page"))}
	if left := kindOf(p.Kind).Left; left != "" {
		res.Warnings = []string{left}
	}
	if len(res.Pages) > 0 {
		res.Show = res.Pages[0]
	}
	return res, nil
}

// Update is the step "furnishing-update".
type Update struct {
	ID string `json:"id,omitempty" help:"its id; empty for all that are out of date"`
}

// Apply draws the furnishings again.
func (r *Update) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	var which []draw.Placed
	for _, p := range draw.List(doc) {
		if p.ID == r.ID || r.ID == "" && p.Stale {
			which = append(which, p)
		}
	}
	if len(which) == 0 {
		return nil, step.Refuse("nothing is out of date")
	}
	res := &step.Result{Redrawn: step.RedrawPages}
	title := ""
	for _, p := range which {
		ru, err := ruleOf(p)
		if err != nil {
			return nil, err
		}
		done, err := redraw(doc, env, p, ru)
		if err != nil {
			return nil, err
		}
		for _, k := range done.Pages {
			if k.Step == env.Step { // it is one of those that were created
				k.Ordinal += len(res.Created)
			}
			res.Pages = append(res.Pages, k)
		}
		res.Created = append(res.Created, done.Created...)
		res.Moved = res.Moved || done.Moved
		res.Adds |= done.Adds
		res.Warnings = append(res.Warnings, done.Warnings...)
		title = cmp.Or(title, Title(p.Kind))
	}
	res.Sentence = fmt.Sprintf("%s updated on %s", title, step.Count(len(res.Pages), "page"))
	if len(res.Pages) > 0 {
		res.Show = res.Pages[0]
	}
	return res, nil
}

// markStale is the hook: it compares what stands on the pages with what the rule would
// draw now, and marks the furnishing where they differ.
func markStale(doc *pdf.Document, env *step.Env, _ *step.Result) ([]string, error) {
	if !env.Only.IsZero() {
		return nil, nil
	}
	list := draw.List(doc)
	if len(list) == 0 {
		return nil, nil
	}
	pages, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	on := map[string]map[pdf.Ref][]string{}
	for _, l := range pages {
		for _, it := range draw.Items(doc, l.Ref) {
			if on[it.ID] == nil {
				on[it.ID] = map[pdf.Ref][]string{}
			}
			on[it.ID][l.Ref] = append(on[it.ID][l.Ref], it.Made)
		}
	}
	var warnings []string
	for _, p := range list {
		ru, err := ruleOf(p)
		if err != nil {
			continue // of a newer version: left as it is
		}
		at, err := where(doc, p, ru)
		if err != nil {
			return nil, err
		}
		want, err := ru.Plan(ground(doc, env, p), at)
		if err != nil {
			return nil, err
		}
		stale := len(want) != len(on[p.ID])
		for page, items := range want {
			stale = stale || !slices.EqualFunc(items, on[p.ID][page], func(it Item, made string) bool { return it.made() == made })
		}
		if stale == p.Stale {
			continue
		}
		if stale {
			warnings = append(warnings, kindOf(p.Kind).OutOfDate+": update "+kindOf(p.Kind).Them+" before you export.")
		}
		p.Stale = stale
		if err := draw.Keep(doc, p, env.Now); err != nil {
			return nil, err
		}
	}
	return warnings, nil
}
