package arrange

import (
	"context"
	"fmt"

	"glenrain/core/draw"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Combine makes one new document of sources, in order, each with a bookmark
// of its name. The result is in the document's overlay: write it whole. each, where
// set, is told how many sources are done.
func Combine(ctx context.Context, env *step.Env, sources []Insert, each func(done int)) (*pdf.Document, []string, error) {
	doc := pdf.New()
	var warnings []string
	var firsts []pdf.Ref
	for i := range sources {
		if err := ctx.Err(); err != nil {
			return nil, nil, err
		}
		in := sources[i]
		in.To = step.Place{}
		if in.Pages.IsZero() {
			in.Pages.Rule = "all"
		}
		env.Step = i + 1
		marks := len(nav.Outline(doc))
		res, err := in.Apply(ctx, doc, env)
		if err != nil {
			return nil, nil, err
		}
		warnings = append(warnings, res.Warnings...)
		firsts = append(firsts, res.Created[0])
		if len(nav.Outline(doc)) == marks && (in.Marks == "" || in.Marks == underName) { // it had no bookmarks of its own
			if err := nav.Title(doc, in.Name, res.Created[0]); err != nil {
				return nil, nil, err
			}
		}
		if each != nil {
			each(i + 1)
		}
	}
	if len(firsts) == 0 {
		return nil, nil, fmt.Errorf("nothing to combine: %w", pdf.ErrNoPages)
	}
	draw.Tidy(doc)
	return doc, warnings, nil
}
