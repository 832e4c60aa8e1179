// Package furnish puts things on pages by rule, so that they can be listed, changed,
// renewed and taken off later: page numbers are the first. How a furnishing is kept
// in the file is core/draw's concern (draw.Placed).
package furnish

import (
	"context"
	"fmt"

	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return []step.Kind{
		{Name: "number", Meaning: "Puts page numbers at the head or foot of pages.",
			New: func() step.Step { n := &Number{}; n.Values = usual(); return n }},
		{Name: "number-change", Meaning: "Changes page numbers that are there: every value is given anew.",
			New: func() step.Step { n := &NumberChange{}; n.Values = usual(); return n }},
		{Name: "furnishing-remove", Meaning: "Takes a furnishing off every page it is on.",
			New: func() step.Step { return &Remove{} }},
		{Name: "furnishing-renew", Meaning: "Draws furnishings anew for the pages as they are now.",
			New: func() step.Step { return &Renew{} }},
	}
}

// Hooks are called after pages moved or turned.
func Hooks() []step.Hook { return []step.Hook{markStale} }

// rule is what each kind of furnishing must know.
type rule interface {
	// draws gives what is to stand on each page: nil where nothing is.
	draws(doc *pdf.Document, p draw.Placed) (map[pdf.Ref]planned, error)
}

// planned is one thing to draw on a page.
type planned struct {
	text string
	at   draw.Matrix
}

func (p planned) made() string { return p.text + " @ " + p.at.String() }

func ruleOf(p draw.Placed) (rule, error) {
	if p.Kind == kindNumbers {
		return readValues(p)
	}
	return nil, step.Refuse("this furnishing was made by a newer version and can't be changed here")
}

// find gives the furnishing of an id, or refuses.
func find(doc *pdf.Document, id string) (draw.Placed, error) {
	p, ok := draw.Find(doc, id)
	if !ok {
		return p, step.Refuse("what you want to change is not in the document any more")
	}
	return p, nil
}

// clear takes a furnishing off all pages and gives the ones it was on.
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
		was, err := draw.TakeOff(doc, l.Ref, id)
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
	ID string `json:"id" required:"yes" help:"the furnishing's id"`
}

// Apply takes the furnishing off.
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
		Sentence: fmt.Sprintf("%s taken off %s", Title(p.Kind), step.Count(len(touched), "page"))}
	if len(res.Pages) > 0 {
		res.Show = res.Pages[0]
	}
	return res, nil
}

// Title is what people call a kind of furnishing.
func Title(kind string) string {
	if kind == kindNumbers {
		return "Page numbers"
	}
	return "Furnishing"
}

// Renew is the step "furnishing-renew".
type Renew struct {
	ID string `json:"id,omitempty" help:"the furnishing's id; empty for all that are stale"`
}

// Apply draws the furnishings anew.
func (r *Renew) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	var which []draw.Placed
	for _, p := range draw.List(doc) {
		if p.ID == r.ID || r.ID == "" && p.Stale {
			which = append(which, p)
		}
	}
	if len(which) == 0 {
		return nil, step.Refuse("nothing needs to be renewed")
	}
	res := &step.Result{Redrawn: step.RedrawPages}
	title := ""
	for _, p := range which {
		ru, err := ruleOf(p)
		if err != nil {
			return nil, err
		}
		v, ok := ru.(*Values)
		if !ok {
			continue
		}
		done, err := v.redraw(doc, env, p)
		if err != nil {
			return nil, err
		}
		res.Pages = append(res.Pages, done.Pages...)
		res.Warnings = append(res.Warnings, done.Warnings...)
		title = Title(p.Kind)
	}
	res.Sentence = fmt.Sprintf("%s renewed on %s", title, step.Count(len(res.Pages), "page"))
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
	on := map[string]map[pdf.Ref]string{}
	for _, l := range pages {
		for _, it := range draw.Items(doc, l.Ref) {
			if on[it.ID] == nil {
				on[it.ID] = map[pdf.Ref]string{}
			}
			on[it.ID][l.Ref] = it.Made
		}
	}
	var warnings []string
	for _, p := range list {
		ru, err := ruleOf(p)
		if err != nil {
			continue // of a newer version: left as it is
		}
		want, err := ru.draws(doc, p)
		if err != nil {
			return nil, err
		}
		stale := len(want) != len(on[p.ID])
		for page, w := range want {
			stale = stale || on[p.ID][page] != w.made()
		}
		if stale == p.Stale {
			continue
		}
		if stale {
			warnings = append(warnings, Title(p.Kind)+" don't fit the pages any more: renew them before the file goes out.")
		}
		p.Stale = stale
		if err := draw.Keep(doc, p, env.Now); err != nil {
			return nil, err
		}
	}
	return warnings, nil
}
