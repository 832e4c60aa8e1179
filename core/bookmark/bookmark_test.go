package bookmark

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/nav"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// bench is a document on which steps are run one after another.
type bench struct {
	t   *testing.T
	reg *step.Registry
	seq step.Sequence
	n   int
}

func newBench(t *testing.T, data []byte) *bench {
	doc := pdftest.Open(t, data)
	pages, err := doc.Pages()
	require.NoError(t, err)
	reg := step.NewRegistry(nil, Kinds()...)
	return &bench{t: t, reg: reg, seq: step.Sequence{Registry: reg, Doc: doc, Keys: step.NewKeys(pages)}}
}

func (b *bench) try(name, params string) (*step.Result, error) {
	s, err := b.reg.New(name, json.RawMessage(params))
	if err != nil {
		return nil, err
	}
	b.n++
	return b.seq.Run(b.t.Context(), s, &step.Env{Step: b.n, Seed: [16]byte{byte(b.n)}})
}

func (b *bench) run(name, params string) *step.Result {
	b.t.Helper()
	res, err := b.try(name, params)
	require.NoError(b.t, err)
	return res
}

// outline is what another program reads: titles with their pages, nested by dots.
func (b *bench) outline() string {
	out := pdftest.Whole(b.t, b.seq.Doc)
	pdftest.Check(b.t, out)
	var read struct {
		Outlines []entry `json:"outlines"`
	}
	require.NoError(b.t, json.Unmarshal([]byte(pdftest.Tool(b.t, out, "qpdf", "--json", "--json-key=outlines", "FILE")), &read))
	return written(read.Outlines, "")
}

type entry struct {
	Title string  `json:"title"`
	Page  int     `json:"destpageposfrom1"`
	Kids  []entry `json:"kids"`
}

func written(list []entry, dots string) string {
	var s strings.Builder
	for _, e := range list {
		fmt.Fprintf(&s, "%s%s %d\n", dots, e.Title, e.Page)
		s.WriteString(written(e.Kids, dots+"."))
	}
	return s.String()
}

func TestTree(t *testing.T) {
	b := newBench(t, pdftest.Text(6))
	assert.Equal(t, "Bookmark “Berths” added to page 2", b.run("bookmark-add", `{"title":"  Berths ","page":["0.2"],"top":"20mm"}`).Sentence)
	b.run("bookmark-add", `{"title":"Tides","page":"4"}`)
	b.run("bookmark-add", `{"title":"North","page":"3","under":"1"}`)
	b.run("bookmark-add", `{"title":"Foreword","page":"1","before":1}`)
	b.run("bookmark-add", `{"title":"South","page":"3","under":"2","before":1}`)
	assert.Equal(t, "Foreword 1\nBerths 2\n.South 3\n.North 3\nTides 4\n", b.outline())

	res := b.run("bookmark-move", `{"at":"3","under":"2","before":2}`)
	assert.Equal(t, "Bookmark “Tides” moved below “Berths”, after “South”", res.Sentence)
	assert.Equal(t, "Foreword 1\nBerths 2\n.South 3\n.Tides 4\n.North 3\n", b.outline())
	b.run("bookmark-move", `{"at":"2.3","before":1}`)
	b.run("bookmark-move", `{"at":"1","before":3}`)
	assert.Equal(t, "Foreword 1\nNorth 3\nBerths 2\n.South 3\n.Tides 4\n", b.outline())
	for params, why := range map[string]string{
		`{"at":"3","under":"3.1"}`: "inside itself", `{"at":"3","under":"3"}`: "inside itself", `{"at":"7"}`: "bookmark 7 has been removed", `{"at":"3","before":4}`: "already",
		`{"at":"x"}`: "isn’t the place",
	} {
		_, err := b.try("bookmark-move", params)
		assert.ErrorContains(t, err, why, params)
	}
	assert.Equal(t, "Bookmark “Tides” renamed “Tide table” and target set to page 6", b.run("bookmark-change", `{"at":"3.2","title":"Tide table","page":"6"}`).Sentence)
	_, err := b.try("bookmark-change", `{"at":"3.2","title":"Tide table"}`)
	assert.ErrorContains(t, err, "already")
	_, err = b.try("bookmark-add", `{"title":"Both","page":"1-2"}`)
	assert.ErrorContains(t, err, "one target page")
	assert.Equal(t, "Bookmark “Berths” removed", b.run("bookmark-remove", `{"at":"3"}`).Sentence)
	assert.Equal(t, "Foreword 1\nNorth 3\nSouth 3\nTide table 6\n", b.outline())
	b.run("bookmark-move", `{"at":"3","under":"2"}`)
	assert.Equal(t, "Bookmark “North” removed with 1 bookmark below it", b.run("bookmark-remove", `{"at":"2","below":"remove"}`).Sentence)
	b.run("bookmark-remove", `{"at":"2"}`)
	b.run("bookmark-remove", `{"at":"1"}`)
	assert.Equal(t, "", b.outline())
	assert.False(t, b.seq.Doc.Catalog().Has("Outlines"))
}

func TestLost(t *testing.T) {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Outlines 4 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 200 200]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("<</First 5 0 R/Last 7 0 R>>")
	f.Add("<</Title(Gone)/Parent 4 0 R/Next 6 0 R/Dest[99 0 R/Fit]>>")
	f.Add("<</Title(Pilots)/Parent 4 0 R/Prev 5 0 R/Next 7 0 R/A<</S/URI/URI(https://pilots.example)>>>>")
	f.Add("<</Title(Heading)/Parent 4 0 R/Prev 6 0 R/First 8 0 R/Last 8 0 R>>")
	f.Add("<</Title(There)/Parent 7 0 R/Dest[3 0 R/XYZ 0 150 0]>>")
	b := newBench(t, f.Bytes())
	items := nav.Outline(b.seq.Doc)
	var lost []bool
	for _, it := range items {
		lost = append(lost, it.Lost(b.seq.Doc))
	}
	assert.Equal(t, []bool{true, false, false}, lost)
	y, ok := nav.Height(b.seq.Doc, items[2].Kids[0].Dest)
	assert.True(t, ok)
	assert.Equal(t, 150.0, y)
	b.run("bookmark-change", `{"at":"1","page":"1","top":"50"}`)
	it := nav.Outline(b.seq.Doc)[0]
	assert.False(t, it.Lost(b.seq.Doc))
	y, _ = nav.Height(b.seq.Doc, it.Dest)
	assert.Equal(t, 150.0, y, "50 points below the upper edge of 200")
	b.run("bookmark-change", `{"at":"2","title":"Pilot office"}`)
	assert.Contains(t, string(pdftest.Tool(t, pdftest.Whole(t, b.seq.Doc), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")), "pilots.example", "what it does is kept")
}

// manual is a document with headings by size, by weight, and a running header in bold.
func manual() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[%s]/Count 6/MediaBox[0 0 595 842]/Resources<</Font<</R 3 0 R/B 4 0 R>>>>>>", "10 0 R 11 0 R 12 0 R 13 0 R 14 0 R 15 0 R")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica-Bold>>")
	for len(f.Objects) < 9 {
		f.Add("null")
	}
	for i := range 6 {
		f.Add("<</Type/Page/Parent 2 0 R/Contents %d 0 R>>", 16+i)
	}
	for i := range 6 {
		var s strings.Builder
		at := func(font string, size, y float64, text string) {
			fmt.Fprintf(&s, "BT /%s %g Tf 70 %g Td (%s) Tj ET\n", font, size, y, text)
		}
		at("B", 9, 815, fmt.Sprintf("Orrin Quay Harbour Trust, page %d", i+1))
		if i%3 == 0 {
			at("B", 20, 740, fmt.Sprintf("Part %d of the works", i/3+1))
		}
		at("R", 14, 700, fmt.Sprintf("%d Dredging at berth %d", i+1, i+1))
		for k := range 12 {
			at("R", 10, 670-14*float64(k), "The bed of the basin is taken down to the depth that the berth is used at, as")
		}
		at("B", 10, 480, fmt.Sprintf("%d.1 Spoil", i+1))
		for k := range 12 {
			at("R", 10, 460-14*float64(k), "What is taken up goes by barge to the ground off the point, where it is sounded")
		}
		f.Add("%s", pdftest.Stream("", s.String()))
	}
	return f.Bytes()
}

func TestHeadings(t *testing.T) {
	b := newBench(t, manual())
	res := b.run("bookmarks-make", `{"levels":3}`)
	assert.Equal(t, "14 bookmarks created from headings", res.Sentence)
	assert.True(t, strings.HasPrefix(b.outline(), "Part 1 of the works 1\n.1 Dredging at berth 1 1\n..1.1 Spoil 1\n.2 Dredging at berth 2 2\n..2.1 Spoil 2\n"), b.outline())
	it := nav.Outline(b.seq.Doc)[1].Kids[0]
	y, ok := nav.Height(b.seq.Doc, it.Dest)
	assert.True(t, ok)
	assert.InDelta(t, 710, y, 6, "above the baseline at 700 stands a line of 14 points")
	res = b.run("bookmarks-make", `{"levels":1}`)
	assert.Equal(t, []string{"Replaced: 14 bookmarks."}, res.Warnings)
	assert.Equal(t, "Part 1 of the works 1\nPart 2 of the works 4\n", b.outline())
	b.run("bookmarks-make", `{"how":"behind the others","entries":[{"title":"Notes","level":3,"page":"0.5","top":0},{"title":"Own","level":2,"page":"0.6","top":0}]}`)
	assert.Equal(t, "Part 1 of the works 1\nPart 2 of the works 4\nNotes 5\n.Own 6\n", b.outline())
	_, err := b.try("bookmarks-make", `{"entries":[{"title":"Notes","level":1,"page":"0.50","top":0}]}`)
	assert.ErrorContains(t, err, "has been removed")
	b = newBench(t, pdftest.Text(2))
	_, err = b.try("bookmarks-make", `{}`)
	assert.ErrorContains(t, err, "no headings were found")
}
