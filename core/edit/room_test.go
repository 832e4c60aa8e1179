package edit_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/edit"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// first is a paragraph of two lines at the top of a page, 11 on 14 pt, 460 pt wide; more makes it longer by three lines, which are 42 pt.
const first = "BT /F1 11 Tf 14 TL 72 700 Td (The soundings of the north berth were taken at low water on the fourth) Tj T* (of October and agree with those of the spring.) Tj ET\n"

var more = edit.Edit{Text: strings.Repeat("Late soundings were added. ", 6)}

// What goes down, and what stays, when a paragraph becomes three lines longer. All that goes down goes equally far: no further than the lines need.
func TestRoom(t *testing.T) {
	for name, c := range map[string]struct {
		content    string
		at         int // the paragraph
		down, stay string
	}{
		"a paragraph below":                  {first + "BT /F1 11 Tf 72 660 Td (Next) Tj ET", 0, "Next", ""},
		"two, with a small gap between them": {first + "BT /F1 11 Tf 72 660 Td (Next) Tj 0 -20 Td (After) Tj ET", 0, "Next After", ""},
		"two, with a gap that is wide":       {first + "BT /F1 11 Tf 72 660 Td (Next) Tj 0 -120 Td (After) Tj ET", 0, "Next", "After"},
		"room enough above the next":         {first + "BT /F1 11 Tf 72 560 Td (Next) Tj ET", 0, "", "Next"},
		"another column":                     {first + "BT /F1 11 Tf 72 660 Td (Next) Tj 420 0 Td (Beside) Tj ET", 0, "Next", "Beside"},
		"the text above":                     {"BT /F1 11 Tf 72 740 Td (Above) Tj ET\n" + first + "BT /F1 11 Tf 72 660 Td (Next) Tj ET", 1, "Next", "Above"},
		"a heading with a rule under it":     {first + "BT /F2 14 Tf 72 655 Td (Heading) Tj ET 72 650 m 300 650 l S BT /F1 11 Tf 72 630 Td (Next) Tj ET", 0, "Heading Next", ""},
		"a picture between":                  {first + "q 60 0 0 20 72 640 cm /Im Do Q BT /F1 11 Tf 72 620 Td (Next) Tj ET", 0, "Next", ""},
	} {
		t.Run(name, func(t *testing.T) {
			file := page(c.content, "", "")
			b := newBench(t, file)
			before := wordsAt(t, file)
			b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, At: c.at, Grow: "push", Edits: []edit.Edit{more}})
			whole := pdftest.Whole(t, b.doc)
			pdftest.Check(t, whole)
			after := wordsAt(t, whole)
			far := 0.0
			for i, word := range strings.Fields(c.down) {
				require.Contains(t, after, word)
				by := after[word][1] - before[word][1]
				if i == 0 {
					far = by
					assert.Greater(t, by, 30.0, word)
					assert.LessOrEqual(t, by, 42.01, word)
					assert.Greater(t, after[word][1]-11, after["spring."][1], "below the last line")
				}
				assert.InDelta(t, far, by, 0.05, word)
				assert.InDelta(t, before[word][0], after[word][0], 0.05, word)
			}
			for _, word := range strings.Fields(c.stay) {
				assert.Equal(t, before[word], after[word], word)
			}
			assert.Greater(t, after["spring."][1], before["spring."][1]+40, "three lines more")
		})
	}
}

// Where there is no room the change is refused with what is missing, nothing moves, and the other ways of growing are tried in their order.
func TestNoRoomBelow(t *testing.T) {
	low := strings.Replace(first, "72 700 Td", "72 70 Td", 1)
	for name, c := range map[string]struct {
		content, grow, want string
	}{
		"at the foot of the page":            {low + "BT /F1 11 Tf 72 30 Td (Foot) Tj ET", "push", `\d+ pt more space below`},
		"something across that can't move":   {first + "q 0 640 595 30 re W n BT /F1 11 Tf 72 655 Td (Clipped) Tj ET Q", "push", `\d+ pt more space below`},
		"tightened further than can be read": {low + "BT /F1 11 Tf 72 40 Td (Foot) Tj ET", "tighten", `\d+ pt more space below`},
		"no space that could be used":        {first + "BT /F1 11 Tf 72 670 Td (Next) Tj ET", "fill", `\d+ pt more space below`},
		"no way given, and none works":       {low + "BT /F1 11 Tf 72 40 Td (Foot) Tj ET", "", `\d+ pt more space below`},
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, page(c.content, "", ""))
			_, err := b.try(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Grow: c.grow, Edits: []edit.Edit{more}})
			require.Error(t, err)
			assert.Regexp(t, c.want, err.Error())
			assert.NotContains(t, b.text(), "Late soundings")
		})
	}
	// What lies free below is used where it is enough, and nothing else moves.
	file := page(first+"BT /F1 11 Tf 72 500 Td (Far) Tj ET", "", "")
	b := newBench(t, file)
	b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Grow: "fill", Edits: []edit.Edit{more}})
	after := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.InDelta(t, wordsAt(t, file)["Far"][1], after["Far"][1], 0.1)
	assert.Contains(t, b.text(), "Late soundings")
	// Lines stand closer, and end no lower than they did.
	roomy := page("BT /F1 11 Tf 20 TL 72 700 Td (The soundings of the north berth were taken at low water on the fourth of) Tj T* (October and agree with those of the spring, and with what the harbour master) Tj T* "+
		"(wrote down in the year before that one, when the ferry ramp was built, and) Tj T* (the dredger lay here.) Tj ET BT /F1 11 Tf 72 610 Td (Next) Tj ET", "", "")
	b = newBench(t, roomy)
	b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Grow: "tighten", Edits: []edit.Edit{{Text: "Late soundings were added to these, and agree with them in most places. "}}})
	after = wordsAt(t, pdftest.Whole(t, b.doc))
	assert.InDelta(t, wordsAt(t, roomy)["Next"][1], after["Next"][1], 0.1)
	assert.Less(t, after["lay"][1], after["Next"][1]-11, "the last line stays above the next paragraph")
	assert.Less(t, after["lay"][1]-after["soundings"][1], 5*20.0-15, "closer than five lines were before")
}
