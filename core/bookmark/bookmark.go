// Package bookmark is about the tree of bookmarks (ISO 32000-2, 12.3.3): adding, renaming, aiming, nesting, moving and removing them, and making
// them of a document's headings.
package bookmark

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"glenrain/core/draw"
	"glenrain/core/layout"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return []step.Kind{
		{Name: "bookmark-add", Meaning: "Adds a bookmark to a page.", New: func() step.Step { return &Add{Top: -1} }},
		{Name: "bookmark-change", Meaning: "Renames a bookmark, or changes its target.", New: func() step.Step { return &Change{Top: -1} }},
		{Name: "bookmark-move", Meaning: "Moves a bookmark, with those below it, to another place in the tree.", New: func() step.Step { return &Move{} }},
		{Name: "bookmark-remove", Meaning: "Removes a bookmark.", New: func() step.Step { return &Remove{Below: "keep"} }},
		{Name: "bookmarks-make", Meaning: "Creates bookmarks from the document’s headings.", New: func() step.Step { return &Make{Levels: 3, How: "replace all"} }},
	}
}

const (
	maxTitle  = 500    // characters
	maxBefore = 50_000 // bookmarks that one step makes
)

func checkTitle(s string) (string, error) {
	s = strings.Join(strings.Fields(s), " ")
	if s == "" {
		return "", step.Refuse("a bookmark needs a title")
	}
	if utf8.RuneCountInString(s) > maxTitle {
		return "", step.Refuse("a bookmark's title has up to %d characters", maxTitle)
	}
	return s, nil
}

// dest is the destination for a page and the height from its upper edge, as it is seen; a negative height shows the whole page.
func dest(doc *pdf.Document, page pdf.Ref, top step.Length) pdf.Array {
	g := doc.Geometry(page)
	_, h := g.Seen()
	if top < 0 || g.Rotate%180 != 0 || g.Rotate != 0 { // a height means nothing where the page stands on its side
		return pdf.Array{page, pdf.Name("Fit")}
	}
	_, y := draw.Upright(g).Apply(0, h-min(float64(top), h))
	return nav.Place(page, y)
}

// one gives the one page that is meant.
func one(doc *pdf.Document, env *step.Env, p step.Pages) (pdf.Ref, error) {
	refs, err := p.Refs(doc, env.Keys)
	if err != nil {
		return pdf.Ref{}, err
	}
	if len(refs) > 1 {
		return pdf.Ref{}, step.Refuse("a bookmark needs one target page")
	}
	return refs[0], nil
}

// found gives the bookmark of a path.
func found(items *[]*nav.Item, at string) (list *[]*nav.Item, i int, p nav.Path, err error) {
	if p, err = nav.ParsePath(at); err != nil {
		return nil, 0, nil, step.Refuse("%v", err)
	}
	list, i, ok := nav.At(items, p)
	if !ok {
		return nil, 0, nil, step.Refuse("bookmark %s has been removed", at)
	}
	return list, i, p, nil
}

// Spot is a place in the tree.
type Spot struct {
	Under  string `json:"under,omitempty" help:"the parent bookmark by its place, such as 2.1; top level if empty"`
	Before int    `json:"before,omitempty" min:"0" help:"its position there, from 1; last if 0"`
}

// put puts a bookmark there.
func (s Spot) put(items *[]*nav.Item, it *nav.Item) error {
	into := items
	if s.Under != "" {
		list, i, p, err := found(items, s.Under)
		if err != nil {
			return err
		}
		if len(p) >= 30 {
			return step.Refuse("bookmarks are nested 30 deep at most")
		}
		(*list)[i].Open = true
		into = &(*list)[i].Kids
	}
	at := len(*into)
	if s.Before > 0 {
		at = min(s.Before-1, at)
	}
	*into = slices.Insert(*into, at, it)
	return nil
}

// Add is the step "bookmark-add".
type Add struct {
	Title string      `json:"title" required:"a bookmark needs a title" help:"its title"`
	Page  step.Pages  `json:"page" required:"yes" help:"its target page"`
	Top   step.Length `json:"top" help:"how far down the page its target is, in points; below 0 shows the whole page"`
	Spot
}

// Apply adds it.
func (a *Add) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	title, err := checkTitle(a.Title)
	if err != nil {
		return nil, err
	}
	page, err := one(doc, env, a.Page)
	if err != nil {
		return nil, err
	}
	items := nav.Outline(doc)
	it := nav.New(doc, title, dest(doc, page, a.Top))
	if err := a.put(&items, it); err != nil {
		return nil, err
	}
	nav.Write(doc, items)
	return &step.Result{Named: true, Pages: []step.Key{env.Keys.Key(page)}, Show: env.Keys.Key(page),
		Sentence: fmt.Sprintf("Bookmark “%s” added to page %d", title, doc.PageIndex(page)+1)}, nil
}

// Change is the step "bookmark-change".
type Change struct {
	At    string      `json:"at" required:"choose a bookmark" help:"which bookmark, by its place, such as 2.1"`
	Title string      `json:"title,omitempty" help:"its new title; unchanged if empty"`
	Page  step.Pages  `json:"page,omitempty" help:"its new target page; unchanged if empty"`
	Top   step.Length `json:"top" help:"how far down the page its target is, in points; below 0 shows the whole page"`
}

// Apply changes it.
func (c *Change) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	items := nav.Outline(doc)
	list, i, _, err := found(&items, c.At)
	if err != nil {
		return nil, err
	}
	it := (*list)[i]
	was := it.Title
	res := &step.Result{Named: true}
	var said []string
	if c.Title != "" {
		title, err := checkTitle(c.Title)
		if err != nil {
			return nil, err
		}
		if title != was {
			it.Rename(doc, title)
			said = append(said, fmt.Sprintf("renamed “%s”", title))
		}
	}
	if !c.Page.IsZero() {
		page, err := one(doc, env, c.Page)
		if err != nil {
			return nil, err
		}
		it.Aim(doc, dest(doc, page, c.Top))
		res.Show = env.Keys.Key(page)
		res.Pages = []step.Key{res.Show}
		said = append(said, fmt.Sprintf("target set to page %d", doc.PageIndex(page)+1))
	}
	if len(said) == 0 {
		return nil, step.Refuse("the bookmark already has this title and target")
	}
	res.Sentence = fmt.Sprintf("Bookmark “%s” %s", was, strings.Join(said, " and "))
	return res, nil
}

// Move is the step "bookmark-move".
type Move struct {
	At string `json:"at" required:"choose a bookmark" help:"which bookmark, by its place, such as 2.1"`
	Spot
}

// Apply moves it, with those below it. The place is counted in the tree as it is before.
func (m *Move) Apply(_ context.Context, doc *pdf.Document, _ *step.Env) (*step.Result, error) {
	items := nav.Outline(doc)
	list, i, from, err := found(&items, m.At)
	if err != nil {
		return nil, err
	}
	under, err := nav.ParsePath(m.Under)
	if err != nil {
		return nil, step.Refuse("%v", err)
	}
	if under.Below(from) {
		return nil, step.Refuse("a bookmark can’t be inside itself")
	}
	it := (*list)[i]
	into := &items
	where := "at the top"
	if m.Under != "" {
		up, k, p, err := found(&items, m.Under)
		if err != nil {
			return nil, err
		}
		if len(p) >= 30 {
			return nil, step.Refuse("bookmarks are nested 30 deep at most")
		}
		(*up)[k].Open = true
		into = &(*up)[k].Kids
		where = fmt.Sprintf("below “%s”", (*up)[k].Title)
	}
	at := len(*into)
	if m.Before > 0 {
		at = min(m.Before-1, at)
	}
	if into == list {
		if at == i || at == i+1 {
			return nil, step.Refuse("the bookmark is already there")
		}
		if at > i {
			at--
		}
	}
	*list = slices.Delete(*list, i, i+1)
	*into = slices.Insert(*into, at, it)
	nav.Write(doc, items)
	if at > 0 {
		where += fmt.Sprintf(", after “%s”", (*into)[at-1].Title)
	} else if len(*into) > 1 {
		where += ", as the first"
	}
	return &step.Result{Named: true, Sentence: fmt.Sprintf("Bookmark “%s” moved %s", it.Title, where)}, nil
}

// Remove is the step "bookmark-remove".
type Remove struct {
	At    string `json:"at" required:"choose a bookmark" help:"which bookmark, by its place, such as 2.1"`
	Below string `json:"below" enum:"keep,remove" help:"bookmarks below it move up, or are removed too"`
}

// Apply removes it.
func (r *Remove) Apply(_ context.Context, doc *pdf.Document, _ *step.Env) (*step.Result, error) {
	items := nav.Outline(doc)
	list, i, _, err := found(&items, r.At)
	if err != nil {
		return nil, err
	}
	it := (*list)[i]
	said := fmt.Sprintf("Bookmark “%s” removed", it.Title)
	if r.Below == "keep" {
		*list = slices.Replace(*list, i, i+1, it.Kids...)
		it.Kids = nil
	} else {
		*list = slices.Delete(*list, i, i+1)
		if n := count(it.Kids); n > 0 {
			said += fmt.Sprintf(" with %s below it", step.Count(n, "bookmark"))
		}
	}
	nav.Write(doc, items, it)
	return &step.Result{Named: true, Sentence: said}, nil
}

func count(list []*nav.Item) int {
	n := len(list)
	for _, it := range list {
		n += count(it.Kids)
	}
	return n
}

// Entry is a bookmark that is to be made.
type Entry struct {
	Title string      `json:"title"`
	Level int         `json:"level"`
	Page  step.Key    `json:"page"`
	Top   step.Length `json:"top"`
}

// TypeName describes an entry to those who write steps.
func (Entry) TypeName() string {
	return `bookmarks: {"title":"...","level":1,"page":KEY,"top":POINTS from the upper edge}`
}

// Make is the step "bookmarks-make".
type Make struct {
	Entries []Entry `json:"entries,omitempty" help:"the bookmarks, in order; the headings found if empty"`
	Levels  int     `json:"levels" min:"1" max:"6" help:"the deepest heading level to use if no entries are given"`
	How     string  `json:"how" enum:"replace all,behind the others" labels:"behind the others=after the others" help:"replace existing bookmarks, or add after them"`
}

// Apply makes the bookmarks.
func (m *Make) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	entries := m.Entries
	if len(entries) == 0 {
		var err error
		if entries, err = Headings(ctx, doc, env.Keys, m.Levels, func(done, of int) { env.Report(done, of) }); err != nil {
			return nil, err
		}
		if len(entries) == 0 {
			return nil, step.Refuse("no headings were found: no text is larger or bolder than the rest")
		}
	}
	if len(entries) > maxBefore {
		return nil, step.Refuse("one step can create up to %s", step.Count(maxBefore, "bookmark"))
	}
	was := nav.Outline(doc)
	var items []*nav.Item
	if m.How != "replace all" {
		items = was
	}
	open := []*[]*nav.Item{&items} // where the next of each level goes
	res := &step.Result{Named: true}
	for _, e := range entries {
		title, err := checkTitle(e.Title)
		if err != nil {
			return nil, err
		}
		page, ok := env.Keys.Ref(e.Page)
		if !ok || doc.PageIndex(page) < 0 {
			return nil, step.Refuse("the page of “%s” has been removed", title)
		}
		level := max(1, min(e.Level, len(open), 30))
		it := nav.New(doc, title, dest(doc, page, e.Top))
		it.Open = level < 2
		list := open[level-1]
		*list = append(*list, it)
		open = append(open[:level], &it.Kids)
		if res.Show.IsZero() {
			res.Show = e.Page
		}
	}
	if m.How == "replace all" {
		nav.Write(doc, items, was...)
	} else {
		nav.Write(doc, items)
	}
	res.Sentence = step.Count(len(entries), "bookmark") + " created from headings"
	if n := count(was); n > 0 && m.How == "replace all" {
		res.Warnings = []string{fmt.Sprintf("Replaced: %s.", step.Count(n, "bookmark"))}
	}
	return res, nil
}

// Headings gives the bookmarks that a document's headings would make.
func Headings(ctx context.Context, doc *pdf.Document, keys *step.Keys, levels int, report func(done, of int)) ([]Entry, error) {
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	refs := make([]pdf.Ref, len(all))
	for i, l := range all {
		refs[i] = l.Ref
	}
	list, err := layout.Headings(ctx, doc, refs, levels, func(done int) {
		if report != nil {
			report(done, len(refs))
		}
	})
	if err != nil {
		return nil, err
	}
	out := make([]Entry, len(list))
	for i, h := range list {
		page := refs[h.Page]
		g := doc.Geometry(page)
		_, height := g.Seen()
		_, y := draw.Upright(g).Invert().Apply(g.Visible.X0, h.Top)
		title := []rune(h.Text)
		if len(title) > maxTitle {
			title = title[:maxTitle]
		}
		out[i] = Entry{Title: string(title), Level: h.Level, Page: keys.Key(page), Top: step.Length(max(0, height-y))}
	}
	return out, nil
}
