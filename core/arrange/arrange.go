// Package arrange is about which pages a document has, in which order, how large and which way
// up: inserting, moving, duplicating, replacing and removing them, cropping, paper, sheets to print, and what pages are called. Its steps work on the page
// tree and on all that leads to pages.
package arrange

import (
	"glenrain/core/step"
)

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return []step.Kind{
		{Name: "insert", Meaning: "Inserts pages of another document, or a picture as a page of its own size.",
			New: func() step.Step {
				return &Insert{Pages: step.Pages{Rule: "all"}, Marks: underName, Moves: "keep"}
			}},
		{Name: "move", Meaning: "Moves pages together to another place; they keep their order.",
			New: func() step.Step { return &Move{} }},
		{Name: "remove", Was: []string{"take-out"}, Meaning: "Removes pages, with every bookmark, link, tag and field that leads to them.",
			New: func() step.Step { return &Remove{Headings: "keep"} }},
		{Name: "rotate", Was: []string{"turn"}, Meaning: "Rotates pages by a right angle, or to one.",
			New: func() step.Step { return &Rotate{} }},
		{Name: "duplicate", Meaning: "Makes copies of pages within the document.",
			New: func() step.Step { return &Duplicate{Where: "behind each"} }},
		{Name: "reverse", Meaning: "Reverses the order of pages.",
			New: func() step.Step { return &Reverse{} }},
		{Name: "interleave", Meaning: "Interleaves the pages of two stacks, fronts and backs.",
			New: func() step.Step { return &Interleave{} }},
		{Name: "replace", Meaning: "Replaces pages with those of another document; links and bookmarks to them stay.",
			New: func() step.Step { return &Replace{} }},
		{Name: "blank", Meaning: "Inserts blank pages, plain or ruled.",
			New: func() step.Step { return &Blank{Count: 1, Sheet: usualSheet()} }},
		{Name: "blank-odd", Meaning: "Inserts blank pages so that each part begins on an odd page.",
			New: func() step.Step { return &BlankOdd{Sheet: usualSheet()} }},
		{Name: "crop", Meaning: "Sets the visible area of pages; content outside it is hidden or removed.",
			New: func() step.Step { return &Crop{To: "edges", Room: 5 * mm} }},
		{Name: "uncrop", Meaning: "Shows the cropped parts of pages again.",
			New: func() step.Step { return &Uncrop{} }},
		{Name: "paper", Meaning: "Places pages on another paper size.",
			New: func() step.Step {
				return &Paper{Paper: "A4", Turned: "as the page", Fit: "scale", Stands: "middle"}
			}},
		{Name: "binding", Meaning: "Adds a binding margin at the inner edge of pages.",
			New: func() step.Step {
				return &Binding{Margin: 10 * mm, Edge: "left", Mirror: true, How: "wider paper"}
			}},
		{Name: "sheets", Meaning: "Places several pages on each sheet, or creates a booklet, to print.",
			New: func() step.Step {
				return &Sheets{Kind: "grid", Columns: 2, Rows: 1, Fold: "one stack", Set: 4, Paper: "A4", Turned: "as fits", Margin: 5 * mm, Gap: 5 * mm}
			}},
		{Name: "label", Meaning: "Sets page labels: i, ii, 1, 2, A-1.",
			New: func() step.Step { return &Label{Style: "1 2 3", First: 1} }},
		{Name: "labels-remove", Meaning: "Removes page labels: pages go back to plain numbers.",
			New: func() step.Step { return &LabelsRemove{} }},
	}
}
