// Package edit changes what stands on pages: words of paragraphs are replaced, and the paragraph is broken anew in its own width,
// alignment, font, size and colour; paragraphs, pictures and drawings are moved, changed and taken off.
package edit

import "glenrain/core/step"

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return append([]step.Kind{
		{Name: "replace-text", Title: "Replace text", Meaning: "Replaces words wherever they are on the pages.", Slow: true,
			New: func() step.Step { return &ReplaceText{Pages: step.Pages{Rule: "all"}} }},
		{Name: "edit-paragraph", Was: []string{"amend-paragraph"}, Title: "Edit a paragraph", Meaning: "Changes the text of a paragraph; unchanged words keep their style.", New: func() step.Step { return &Paragraph{} }},
		{Name: "add-text", Title: "Add text", Meaning: "Adds text to a page, at a place and in a width.", New: func() step.Step { return &AddText{} }},
		{Name: "move-objects", Was: []string{"move-things"}, Title: "Move objects on a page", Meaning: "Moves, rotates, resizes or copies paragraphs, pictures and drawings, on their page or to another one.", New: func() step.Step { return &MoveObjects{} }},
		{Name: "bring-objects", Was: []string{"bring-things"}, Title: "Copy objects from another document", Meaning: "Copies paragraphs, pictures and drawings from another document’s page, with their fonts.", New: func() step.Step { return &BringObjects{FromPage: 1} }},
		{Name: "remove-objects", Was: []string{"remove-things"}, Title: "Remove objects from a page", Meaning: "Removes paragraphs, pictures and drawings from a page.", New: func() step.Step { return &RemoveObjects{} }},
		{Name: "add-shape", Title: "Draw a shape", Meaning: "Draws a line, an arrow, a rectangle, an ellipse, a polygon or a stroke on a page; it can be changed later.", New: func() step.Step { return &AddShape{Shape: usualShape()} }},
		{Name: "change-shape", Title: "Change a shape", Meaning: "Changes a shape that was drawn on a page.", New: func() step.Step { return &ChangeShape{Shape: usualShape()} }},
	}, pictureKinds()...)
}
