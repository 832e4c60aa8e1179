// Package arrange is about which pages a document has, in which order and which way
// up: inserting, moving, removing and rotating them. Its steps work on the page
// tree and on all that leads to pages; what is drawn on pages stays as it is.
package arrange

import (
	"glenrain/core/step"
)

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return []step.Kind{
		{Name: "insert", Meaning: "Inserts pages of another document, or a picture as a page of its own size.",
			New: func() step.Step { return &Insert{Pages: step.Pages{Rule: "all"}} }},
		{Name: "move", Meaning: "Moves pages together to another place; they keep their order.",
			New: func() step.Step { return &Move{} }},
		{Name: "remove", Was: []string{"take-out"}, Meaning: "Removes pages, with every bookmark, link, tag and field that leads to them.",
			New: func() step.Step { return &Remove{Headings: "keep"} }},
		{Name: "rotate", Was: []string{"turn"}, Meaning: "Rotates pages by a right angle, or to one.",
			New: func() step.Step { return &Rotate{} }},
	}
}
