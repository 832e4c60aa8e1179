package arrange

import (
	"context"
	"slices"

	"glenrain/core/draw"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Part makes a document of some pages of one. The result is in the document's overlay: write it whole. warnings say what could not come along.
func Part(ctx context.Context, env *step.Env, in Insert) (*pdf.Document, []string, error) {
	doc := pdf.New()
	in.To = step.Place{}
	env.Step = 1
	res, err := in.Apply(ctx, doc, env)
	if err != nil {
		return nil, nil, err
	}
	draw.Tidy(doc)
	return doc, res.Warnings, nil
}

// BookmarkStarts gives the indexes of the pages that bookmarks down to a level lead to, ascending, each once, with the title of the first that leads there.
func BookmarkStarts(doc *pdf.Document, level int) (at []int, titles []string) {
	type mark struct {
		page  int
		title string
	}
	var marks []mark
	var walk func([]*nav.Item, int)
	walk = func(list []*nav.Item, depth int) {
		for _, it := range list {
			if page, ok := it.Leads(doc); ok && !page.IsZero() {
				marks = append(marks, mark{doc.PageIndex(page), it.Title})
			}
			if depth < level {
				walk(it.Kids, depth+1)
			}
		}
	}
	walk(nav.Outline(doc), 1)
	slices.SortStableFunc(marks, func(a, b mark) int { return a.page - b.page })
	for _, m := range marks {
		if n := len(at); n == 0 || at[n-1] != m.page {
			at, titles = append(at, m.page), append(titles, m.title)
		}
	}
	return at, titles
}
