package arrange

import (
	"bytes"
	"context"
	"fmt"
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

// layered is a page with two layers, one of them hidden, and an attached file.
func layered() []byte {
	f := &pdftest.File{Version: "2.0"}
	f.Add("<</Type/Catalog/Pages 2 0 R/OCProperties<</OCGs[5 0 R 6 0 R 7 0 R]/D<</Order[5 0 R 6 0 R 7 0 R]/OFF[6 0 R]>>>>/Names<</EmbeddedFiles<</Names[(a.txt) 8 0 R]>>>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 200 200]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 4 0 R/Resources<</Properties<</Shown 5 0 R/Hidden 6 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", "/OC /Shown BDC 0 0 1 rg 0 0 50 50 re f EMC /OC /Hidden BDC 1 0 0 rg 100 100 50 50 re f EMC"))
	f.Add("<</Type/OCG/Name(Shown)>>")
	f.Add("<</Type/OCG/Name(Hidden)>>")
	f.Add("<</Type/OCG/Name(Unused)>>")
	f.Add("<</Type/Filespec/F(a.txt)/EF<</F 9 0 R>>>>")
	f.Add("%s", pdftest.Stream("/Type/EmbeddedFile", "levels"))
	return f.Bytes()
}

func TestCombine(t *testing.T) {
	src := jobstest.Memory{"letter": pdftest.Text(2), "layered": layered(), "survey": pdftest.Text(3)}
	env := &step.Env{Now: time.Unix(0, 0), Sources: src}
	var told []int
	doc, warnings, err := Combine(t.Context(), env, []Insert{{From: "letter", Name: "Letter"}, {From: "layered", Name: "Plan"}, {From: "survey", Name: "Survey", Pages: step.Pages{Rule: "2-"}}},
		func(done int) { told = append(told, done) })
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2, 3}, told)
	assert.Equal(t, []string{"Includes 1 attached file of “Plan”."}, warnings)
	out := pdftest.Whole(t, doc)
	pdftest.Check(t, out)
	assert.Equal(t, []string{"Page 1", "Page 2", "", "Page 2", "Page 3"}, pdftest.PageTexts(t, out))
	d := pdftest.Open(t, out)
	assert.Equal(t, "2.0", d.Version(), "the latest version among them")
	var titles []string
	for _, it := range nav.Outline(d) {
		titles = append(titles, it.Title)
		assert.GreaterOrEqual(t, d.PageIndex(nav.Target(d, it.Dest)), 0)
	}
	assert.Equal(t, []string{"Letter", "Plan", "Survey"}, titles)
	// The hidden layer stays hidden; a layer that nothing uses stays behind.
	props := d.Dict(d.Catalog().Get("OCProperties"))
	assert.Len(t, d.Array(props.Get("OCGs")), 2)
	off := d.Array(d.Dict(props.Get("D")).Get("OFF"))
	require.Len(t, off, 1)
	assert.Equal(t, pdf.String("Hidden"), d.Dict(off[0]).Get("Name"))

	_, _, err = Combine(t.Context(), env, nil, nil)
	assert.ErrorIs(t, err, pdf.ErrNoPages)
	_, _, err = Combine(t.Context(), env, []Insert{{From: "nowhere"}}, nil)
	assert.Error(t, err)
	_, _, err = Combine(t.Context(), env, []Insert{{From: "letter", Pages: step.Pages{Rule: "9-"}}}, nil)
	assert.ErrorContains(t, err, "no such page")
	cancelled, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = Combine(cancelled, env, []Insert{{From: "letter"}}, nil)
	assert.ErrorIs(t, err, context.Canceled)
}

// carrier is two pages with attached files, by name, in a name tree of two levels.
func carrier(files ...string) []byte {
	f := &pdftest.File{Version: "1.7"}
	var kids []string
	f.Add("<</Type/Catalog/Pages 2 0 R/Names<</EmbeddedFiles 4 0 R/Dests<<>>>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R 5 0 R]/Count 2/MediaBox[0 0 200 200]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	for _, name := range files {
		data := f.Add("%s", pdftest.Stream("/Type/EmbeddedFile", "levels of "+name))
		spec := f.Add("<</Type/Filespec/F(%s)/UF(%s)/EF<</F %d 0 R>>>>", name, name, data)
		kids = append(kids, fmt.Sprintf("%d 0 R", f.Add("<</Limits[(%s)(%s)]/Names[(%s) %d 0 R]>>", name, name, name, spec)))
	}
	kids = append(kids, "4 0 R") // and one that leads back
	f.Objects[3] = "<</Kids[" + strings.Join(kids, " ") + "]>>"
	return f.Bytes()
}

// Attached files come along with a whole document, under other names where there are such already; not with a part of one.
func TestBringFiles(t *testing.T) {
	env := &step.Env{Now: time.Unix(0, 0), Sources: jobstest.Memory{"north": carrier("east.csv", "levels.csv"), "south": carrier("levels.csv", "notes"), "survey": pdftest.Text(3)}}
	doc, told, err := Combine(t.Context(), env, []Insert{{From: "north", Name: "North"}, {From: "survey", Name: "Survey"}, {From: "south", Name: "South"}, {From: "south", Name: "South"}}, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"Includes 2 attached files of “North”.", "Includes 2 attached files of “South”, 1 under another name, since that name is taken.",
		"Includes 2 attached files of “South”, 2 under another name, since that name is taken."}, told)
	out := pdftest.Whole(t, doc)
	pdftest.Check(t, out)
	list := pdftest.Tool(t, out, "qpdf", "--list-attachments", "FILE")
	var names []string
	for _, line := range strings.Split(strings.TrimSpace(list), "\n") {
		name, _, _ := strings.Cut(line, " -> ")
		names = append(names, name)
	}
	assert.Equal(t, []string{"east.csv", "levels 2.csv", "levels 3.csv", "levels.csv", "notes", "notes 2"}, names)
	assert.Equal(t, "levels of levels.csv", pdftest.Tool(t, out, "qpdf", "--show-attachment=levels 3.csv", "FILE"))

	doc, told, err = Combine(t.Context(), env, []Insert{{From: "north", Pages: step.Pages{Rule: "2"}}}, nil)
	require.NoError(t, err)
	assert.Empty(t, told)
	assert.NotContains(t, pdftest.Tool(t, pdftest.Whole(t, doc), "qpdf", "--list-attachments", "FILE"), "csv")
}

// A damaged source is mended on the way in; a locked one is refused in words.
func TestInsertTroubled(t *testing.T) {
	whole := pdftest.Text(3)
	cut := whole[:bytes.LastIndex(whole, []byte("\nxref\n"))]
	env := &step.Env{Now: time.Unix(0, 0), Sources: jobstest.Memory{"cut": cut, "none": []byte("%PDF-1.7"), "locked": []byte(strings.Replace(string(whole), "trailer\n<<", "trailer\n<</Encrypt<</Filter/Standard/V 2/R 3/O()/U()/P -4>>", 1))}}
	doc, _, err := Combine(t.Context(), env, []Insert{{From: "cut", Name: "Cut"}}, nil)
	require.NoError(t, err)
	assert.Len(t, pdftest.Refs(t, doc), 3)
	for name, kind := range map[string]error{"none": pdf.ErrDamaged, "locked": pdf.ErrLocked} {
		_, _, err = Combine(t.Context(), env, []Insert{{From: step.SourceRef(name), Name: name}}, nil)
		var r *step.Refusal
		require.ErrorAs(t, err, &r, name)
		assert.ErrorIs(t, err, kind, name)
		assert.Contains(t, r.Sentence, "can't be inserted")
	}
}

// The view goes to the page that comes to stand where the first one was removed.
func TestRemoveShows(t *testing.T) {
	for pages, want := range map[string]step.Key{"1": {Ordinal: 2}, "3": {Ordinal: 4}, "5": {Ordinal: 4}, "2-4": {Ordinal: 5}, "4-5": {Ordinal: 3}, "1, 3": {Ordinal: 2}} {
		d := pdftest.Open(t, pdftest.Text(5)).Fork()
		leaves, err := d.Pages()
		require.NoError(t, err)
		res, err := (&Remove{Pages: step.Pages{Rule: pages}}).Apply(t.Context(), d, &step.Env{Keys: step.NewKeys(leaves)})
		require.NoError(t, err)
		assert.Equal(t, want, res.Show, pages)
	}
}
