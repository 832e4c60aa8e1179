// Package amend changes what stands on pages: words of paragraphs are replaced, and the paragraph is broken anew in its own width,
// alignment, font, size and colour; paragraphs, pictures and drawings are moved, changed and taken off.
package amend

import "glenrain/core/step"

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return append([]step.Kind{
		{Name: "replace-text", Title: "Replace text", Meaning: "Puts other words in the place of those that are found, wherever they stand on the pages.", Slow: true,
			New: func() step.Step { return &ReplaceText{Pages: step.Pages{Rule: "all"}} }},
		{Name: "amend-paragraph", Title: "Amend a paragraph", Meaning: "Gives a paragraph another text; what stays of it keeps its style.", New: func() step.Step { return &Paragraph{} }},
		{Name: "add-text", Title: "Write on a page", Meaning: "Puts new text on a page, at a place and in a width.", New: func() step.Step { return &AddText{} }},
		{Name: "move-things", Title: "Move things on a page", Meaning: "Moves, turns, resizes or copies paragraphs, pictures and drawings, on their page or to another one.", New: func() step.Step { return &MoveThings{} }},
		{Name: "bring-things", Title: "Bring things from another document", Meaning: "Puts paragraphs, pictures and drawings of another document's page on a page, with their fonts.", New: func() step.Step { return &BringThings{FromPage: 1} }},
		{Name: "remove-things", Title: "Take things off a page", Meaning: "Takes paragraphs, pictures and drawings off a page.", New: func() step.Step { return &RemoveThings{} }},
		{Name: "add-shape", Title: "Draw a shape", Meaning: "Draws a line, an arrow, a rectangle, an ellipse, a polygon or a stroke on a page; it can be changed later.", New: func() step.Step { return &AddShape{Shape: usualShape()} }},
		{Name: "change-shape", Title: "Change a shape", Meaning: "Changes a shape that was drawn on a page.", New: func() step.Step { return &ChangeShape{Shape: usualShape()} }},
	}, pictureKinds()...)
}
