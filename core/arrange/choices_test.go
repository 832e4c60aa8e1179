package arrange

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/jobs/jobstest"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// shown is a file of a presentation: a page with a transition and an action, and a bookmark.
func shown() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Outlines 4 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 200 200]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Trans<</S/Fade>>/Dur 4/AA<</O<</S/Named/N/NextPage>>>>>>")
	f.Add("<</First 5 0 R/Last 5 0 R>>")
	f.Add("<</Title(Berths)/Parent 4 0 R/Dest[3 0 R/Fit]>>")
	return f.Bytes()
}

// What comes along is as chosen: bookmarks below the source's name, as they are, or not; transitions and actions kept or dropped.
func TestChoices(t *testing.T) {
	env := &step.Env{Now: time.Unix(0, 0), Sources: jobstest.Memory{"slides": shown()}}
	titles := func(d *pdf.Document) string {
		var out []string
		var walk func([]*nav.Item, string)
		walk = func(list []*nav.Item, in string) {
			for _, it := range list {
				out = append(out, in+it.Title)
				walk(it.Kids, in+it.Title+"/")
			}
		}
		walk(nav.Outline(d), "")
		return strings.Join(out, " ")
	}
	for _, c := range []struct {
		marks, moves, titles, told string
		trans                      bool
	}{
		{"under one of its name", "keep", "Slides Slides/Berths", "", true},
		{"as they are", "drop", "Berths", "Transitions and page actions", false},
		{"none", "keep", "", "", true},
		{"", "", "Slides Slides/Berths", "", true},
	} {
		doc, told, err := Combine(t.Context(), env, []Insert{{From: "slides", Name: "Slides", Marks: c.marks, Moves: c.moves}}, nil)
		require.NoError(t, err)
		out := pdftest.Whole(t, doc)
		pdftest.Check(t, out)
		d := pdftest.Open(t, out)
		assert.Equal(t, c.titles, titles(d), c.marks)
		assert.Contains(t, strings.Join(told, " "), c.told)
		page := d.Dict(pdftest.Refs(t, d)[0])
		for _, k := range []pdf.Name{"Trans", "Dur", "AA"} {
			assert.Equal(t, c.trans, page.Has(k), "%s, %s", c.moves, k)
		}
	}
}
