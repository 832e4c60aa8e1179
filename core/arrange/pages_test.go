package arrange

import (
	"bytes"
	"encoding/json"
	"fmt"
	_ "image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/jobs/jobstest"
	"glenrain/core/nav"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// What changes pages and keeps what belongs to them, read by other programs.

func spokenText(t *testing.T, data []byte) string {
	var words []string
	for line := range strings.SplitSeq(pdftest.Tool(t, data, "pdfinfo", "-struct-text", "FILE"), "\n") {
		if s := strings.TrimSpace(line); strings.HasPrefix(s, `"`) {
			words = append(words, strings.Trim(s, `"`))
		}
	}
	return strings.Join(words, " ")
}

func TestDuplicate(t *testing.T) {
	b := newBench(t, jobstest.Linked())
	res := b.Run("duplicate", `{"pages":["0.1","0.3"]}`)
	assert.Equal(t, "Pages 1, 3 duplicated, copies after each", res.Sentence)
	assert.Equal(t, []string{"1 form field of the copies renamed: a field of the same name would hold the same value."}, res.Warnings)
	assert.Equal(t, "FIRST,FIRST,HARBOURSECRET HARBOURSECRET value,THIRD,THIRD", strings.Join(b.Texts(), ","))
	pdftest.Check(t, b.File())
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	assert.Equal(t, "FIRST FIRST HARBOURSECRET THIRD THIRD", spokenText(t, got), "tags stand where their pages stand")
	d := b.Doc
	refs := pdftest.Refs(t, d)
	assert.Equal(t, d.Dict(refs[0]).Get("Contents"), d.Dict(refs[1]).Get("Contents"), "they draw with the same stream")
	for i, to := range []int{2, 2, 0} { // the links of the first page: to the second, to the second, to the first by its name
		link := d.Dict(d.Array(d.Dict(refs[1]).Get("Annots"))[i])
		assert.Equal(t, refs[to], nav.Target(d, nav.Of(d, link)), "link %d of the copy", i)
	}
	assert.Contains(t, jobstest.Plain(t, got), "(both 2)")

	res = b.Run("duplicate", `{"pages":"2","where":"together","to":"end"}`)
	assert.Equal(t, "Page 2 duplicated, the copy placed at the end", res.Sentence)
	assert.Equal(t, "FIRST", b.Texts()[5])
}

func TestReverseAndInterleave(t *testing.T) {
	b := newBench(t, jobstest.Linked())
	b.Run("reverse", `{"pages":"all"}`)
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	assert.Equal(t, []string{"THIRD", "HARBOURSECRET HARBOURSECRET value", "FIRST"}, pdftest.PageTexts(t, got))
	assert.Equal(t, "THIRD HARBOURSECRET FIRST", spokenText(t, got))
	outline := pdftest.Tool(t, got, "mutool", "show", "FILE", "outline")
	assert.Regexp(t, `"One".*#page=3\b(?s:.*)"Secret bookmark".*#page=2\b(?s:.*)"Three".*#page=1\b`, outline)

	// Two stacks of a scanner: the fronts 1 3 5 7 9, and the backs with the stack turned over, 8 6 4 2 (the last sheet has none).
	b = newBench(t, pdftest.Text(9))
	res := b.Run("interleave", `{"fronts":"1-5","backs":"6-9","reversed":true}`)
	assert.Equal(t, "Page 1,Page 9,Page 2,Page 8,Page 3,Page 7,Page 4,Page 6,Page 5", strings.Join(b.Texts(), ","))
	assert.Equal(t, []string{"There are fewer backs than fronts: page 9 got none."}, res.Warnings)
	b = newBench(t, pdftest.Text(7))
	b.Run("interleave", `{"fronts":"2-3","backs":"6-7"}`)
	assert.Equal(t, "Page 1,Page 2,Page 6,Page 3,Page 7,Page 4,Page 5", strings.Join(b.Texts(), ","))
	_, err := b.Try("interleave", `{"fronts":"1-2","backs":"2-3"}`)
	assert.ErrorContains(t, err, "page 2 can't be a front and a back")
	_, err = b.Try("interleave", `{"fronts":"1","backs":"2-3"}`)
	assert.ErrorContains(t, err, "more backs (2) than fronts (1)")
	_, err = b.Try("reverse", `{"pages":"1"}`)
	assert.ErrorContains(t, err, "at least two")
}

func TestReplace(t *testing.T) {
	b := newBench(t, jobstest.Linked())
	b.Run("label", `{"pages":"2","style":"no number","prefix":"Plan"}`)
	res := b.Run("replace", `{"pages":["0.2"],"from":"other","with":"4","name":"Survey"}`)
	assert.Equal(t, "Page Plan replaced by page 4 of “Survey”", res.Sentence)
	assert.Equal(t, []step.Key{{Ordinal: 2}}, res.Pages, "it is the same page")
	assert.Contains(t, jobstest.Told(res), "Removed with the replaced page: ")
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	assert.Equal(t, []string{"FIRST", "Page 4", "THIRD"}, pdftest.PageTexts(t, got))
	text := jobstest.Plain(t, got)
	assert.NotContains(t, text, "HARBOURSECRET")
	assert.Contains(t, pdftest.Tool(t, got, "mutool", "show", "FILE", "outline"), "Secret bookmark")
	assert.Regexp(t, `"Secret bookmark".*#.*page=2|"Secret bookmark".*#nameddest=second`, pdftest.Tool(t, got, "mutool", "show", "FILE", "outline"))
	d := pdftest.Open(t, got)
	refs := pdftest.Refs(t, d)
	assert.Len(t, d.Array(d.Dict(refs[0]).Get("Annots")), 3, "links to it stay")
	for _, o := range d.Array(d.Dict(refs[0]).Get("Annots"))[:2] {
		assert.Equal(t, refs[1], nav.Target(d, nav.Of(d, d.Dict(o))))
	}
	assert.Equal(t, []string{"1", "Plan", "3"}, nav.Called(d))
	_, err := b.Try("replace", `{"pages":"1-2","from":"other","with":"4"}`)
	assert.ErrorContains(t, err, "1 page can't take the place of 2 pages")

	// A tagged page in the place of another one: it is read where it stands.
	b = newBench(t, jobstest.Linked())
	b.Src["linked"] = jobstest.Linked()
	b.Run("replace", `{"pages":"1","from":"linked","with":"3"}`)
	got = jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	assert.Equal(t, "THIRD HARBOURSECRET THIRD", spokenText(t, got))
}

func TestBlank(t *testing.T) {
	b := newBench(t, pdftest.Text(5))
	b.Run("label", `{"pages":"1-2","style":"i ii iii"}`)
	res := b.Run("blank", `{"to":"0.3","count":2,"paper":"A5","turned":"landscape","ruling":"squares"}`)
	assert.Equal(t, "2 pages ruled with squares inserted before page 3", res.Sentence)
	res = b.Run("blank", `{"to":"end"}`)
	assert.Equal(t, "1 blank page inserted at the end", res.Sentence)
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	info := pdftest.Tool(t, got, "pdfinfo", "-l", "9", "FILE")
	assert.Regexp(t, `Page +3 size: +595\.2\d+ x 419\.5\d+`, info, "A5, ISO 216: 148 by 210 mm")
	assert.Equal(t, []string{"i", "ii", "iia", "iib", "3", "4", "5", "5a"}, nav.Called(pdftest.Open(t, got)))
	// Squares of 5 mm between borders of 10 mm: 190 and 128 mm have 38 and 25 of them.
	page := jobstest.Plain(t, got)
	assert.Contains(t, page, "/Artifact BMC")
	d := pdftest.Open(t, got)
	data, _, err := d.Decode(d.Stream(d.Dict(pdftest.Refs(t, d)[2]).Get("Contents")))
	require.NoError(t, err)
	assert.Equal(t, 39+26, bytes.Count(data, []byte(" l\n")))
	_, err = b.Try("blank", `{"to":"end","paper":"own size","width":20,"height":20,"ruling":"lines"}`)
	assert.ErrorContains(t, err, "too small for that ruling")

	// Parts that begin on pages 2, 4 and 5 of five: before each that would begin on an even page stands a blank one.
	b = newBench(t, pdftest.Text(5))
	res = b.Run("blank-odd", `{"starts":"2, 4, 5"}`)
	assert.Equal(t, "2 blank pages inserted, so that each of 3 parts begins on an odd page", res.Sentence)
	assert.Equal(t, "Page 1,,Page 2,Page 3,Page 4,,Page 5", strings.Join(b.Texts(), ","))
	_, err = b.Try("blank-odd", `{"starts":"1, 3"}`)
	assert.ErrorContains(t, err, "already")
	b = newBench(t, jobstest.Linked())
	b.Run("blank-odd", `{"level":1}`)
	assert.Equal(t, "FIRST,,HARBOURSECRET HARBOURSECRET value,,THIRD", strings.Join(b.Texts(), ","))
}

// Labels as another program reads them (ISO 32000-2, 12.4.2), kept through what pages go through.
func TestLabelPages(t *testing.T) {
	b := newBench(t, pdftest.Text(12))
	res := b.Run("label", `{"pages":"1-4","style":"i ii iii"}`)
	assert.Equal(t, "Pages 1-4 labelled i to iv", res.Sentence)
	b.Run("label", `{"pages":"5-9","style":"1 2 3"}`)
	res = b.Run("label", `{"pages":"10-","style":"1 2 3","prefix":"A-"}`)
	assert.Empty(t, res.Warnings)
	var read struct {
		Labels []struct {
			Index int            `json:"index"`
			Label map[string]any `json:"label"`
		} `json:"pagelabels"`
	}
	got := jobstest.Out(t, b.Doc)
	require.NoError(t, json.Unmarshal([]byte(pdftest.Tool(t, got, "qpdf", "--json", "--json-key=pagelabels", "FILE")), &read))
	require.Len(t, read.Labels, 3)
	assert.Equal(t, map[string]any{"/S": "/r", "/St": 1.0}, read.Labels[0].Label)
	assert.Equal(t, 4, read.Labels[1].Index)
	assert.Equal(t, "/D", read.Labels[1].Label["/S"])
	assert.Equal(t, "u:A-", read.Labels[2].Label["/P"])
	res = b.Run("label", `{"pages":"12","style":"1 2 3","first":3}`)
	assert.Equal(t, []string{"More than one page is labelled 3 now: it is the label of the first."}, res.Warnings)
	_, err := b.Try("label", `{"pages":"12","style":"1 2 3","first":3}`)
	assert.ErrorContains(t, err, "already")

	// A page set names pages by place, and by label where that is no number; in quotes, always by label.
	for set, want := range map[string][]int{"ii-iv": {1, 2, 3}, "A-1": {9}, `"2"`: {5}, "3-4": {2, 3}, "iv-6": {3, 4, 5}, `"A-1"-last`: {9, 10, 11}, "odd ii-": {2, 4, 6, 8, 10}} {
		var p step.Pages
		require.NoError(t, p.UnmarshalText([]byte(set)), set)
		at, err := p.Resolve(b.Doc, b.Keys)
		require.NoError(t, err, set)
		assert.Equal(t, want, at, set)
	}
	var p step.Pages
	require.NoError(t, p.UnmarshalText([]byte("xii")))
	_, err = p.Resolve(b.Doc, b.Keys)
	assert.ErrorContains(t, err, "there is no page “xii”")
	b.Run("labels-remove", `{}`)
	assert.Nil(t, nav.Called(b.Doc))
}

func TestBinding(t *testing.T) {
	b := newBench(t, jobstest.Placed(0))
	b.Run("duplicate", `{"pages":"1"}`)
	b.Run("binding", `{"pages":"all","margin":20}`)
	got := jobstest.Out(t, b.Doc)
	assert.Equal(t, "220x200 220x200", jobstest.Sizes(t, got))
	odd, even := jobstest.Inked(t, got, 1), jobstest.Inked(t, got, 2)
	assert.InDelta(t, odd[0]-20, even[0], 0.6, "odd pages have the room at the left, even ones at the right")
	b.Run("binding", `{"pages":"all","margin":20,"how":"make smaller","mirror":false,"edge":"top"}`)
	got = jobstest.Out(t, b.Doc)
	assert.Equal(t, "220x200 220x200", jobstest.Sizes(t, got))
	assert.Greater(t, jobstest.Inked(t, got, 1)[1], odd[1]*0.9+19)
}

// pictured is a page with text and lines in each corner, a picture across the middle, and what a program noted of it.
func pictured() []byte {
	var pixels bytes.Buffer
	for y := range 40 {
		for x := range 40 {
			fmt.Fprintf(&pixels, "%02x%02x%02x", x*6, y*6, 90)
		}
	}
	return jobstest.Made("/StructTreeRoot 20 0 R/AcroForm<</Fields[12 0 R]/DA(/F 9 Tf)>>",
		[]string{"CORNER) Tj 0 -240 Td (OUTSIDE|/Contents 15 0 R/Resources<</Font<</F 3 0 R>>/XObject<</Im 14 0 R>>>>/StructParents 0/Annots[11 0 R 12 0 R 13 0 R]/PieceInfo<</Other<</LastModified(D:2026)/Private(OUTSIDE)>>>>"},
		"null",
		"<</Type/Annot/Subtype/Text/Rect[10 10 20 20]/Contents(OUTSIDE comment)>>",
		"<</Type/Annot/Subtype/Widget/FT/Tx/T(OUTSIDE field)/V(OUTSIDE value)/Rect[250 10 280 20]/P 100 0 R>>",
		"<</Type/Annot/Subtype/Text/Rect[150 150 160 160]/Contents(stays)>>",
		pdftest.Stream("/Type/XObject/Subtype/Image/Width 40/Height 40/BitsPerComponent 8/ColorSpace/DeviceRGB/Filter/ASCIIHexDecode/Metadata 16 0 R", pixels.String()+">"),
		pdftest.Stream("", "/P <</MCID 0>> BDC BT /F 12 Tf 20 250 Td (OUTSIDE words) Tj ET EMC "+
			"/Span <</ActualText(OUTSIDE said)>> BDC BT /F 12 Tf 20 20 Td (OUTSIDE too) Tj ET EMC "+
			"/P <</MCID 1>> BDC BT /F 12 Tf 120 150 Td (inside) Tj ET EMC "+
			"q 160 0 0 160 60 60 cm /Im Do Q 1 0 0 RG 4 w 0 290 m 300 290 l S BT /F 12 Tf 90 110 Td [(OUTSIDE) -9000 (here)] TJ ET"),
		pdftest.Stream("/Type/Metadata/Subtype/XML", "<x>OUTSIDE</x>"),
		"null", "null", "null",
		"<</Type/StructTreeRoot/K[21 0 R 22 0 R]/ParentTree<</Nums[0[21 0 R 22 0 R]]>>/ParentTreeNextKey 1>>",
		"<</Type/StructElem/S/P/P 20 0 R/Pg 100 0 R/K 0/ActualText(OUTSIDE spoken)>>",
		"<</Type/StructElem/S/P/P 20 0 R/Pg 100 0 R/K 1/Alt(stays)>>")
}

// What is cropped away for good is nowhere in the file that is handed out, and what is inside looks as it did.
func TestCropForGood(t *testing.T) {
	b := newBench(t, pictured())
	hidden := newBench(t, pictured())
	res := hidden.Run("crop", `{"pages":"all","left":100,"top":100,"right":100,"bottom":100}`)
	assert.Contains(t, jobstest.Told(res), "hidden, not removed")
	kept := jobstest.Out(t, hidden.Doc)
	assert.Contains(t, jobstest.Plain(t, kept), "OUTSIDE words")
	res = b.Run("crop", `{"pages":"all","left":100,"top":100,"right":100,"bottom":100,"remove":true}`)
	assert.Equal(t, []string{"Removed with it: 1 comment or link and 1 form field."}, res.Warnings)
	pdftest.Check(t, b.File())
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	text := jobstest.Plain(t, got)
	assert.NotContains(t, text, "OUTSIDE")
	assert.Contains(t, text, "stays")
	assert.Equal(t, "100x100", jobstest.Sizes(t, got))
	seen, left := pdftest.Tool(t, kept, "pdftoppm", "-r", "72", "-cropbox", "FILE"), pdftest.Tool(t, got, "pdftoppm", "-r", "72", "FILE")
	require.Len(t, left, len(seen))
	most := 0
	for i := range len(seen) {
		most = max(most, int(seen[i])-int(left[i]), int(left[i])-int(seen[i]))
	}
	assert.LessOrEqual(t, most, 8, "what is inside looks as it did")
	assert.Contains(t, pdftest.Tool(t, got, "pdftotext", "FILE", "-"), "inside")
	assert.Regexp(t, `/Width 25\b`, text, "100 of 160 points, 25 of 40 pixels")
	hidden.Run("uncrop", `{"pages":"all"}`)
	assert.Equal(t, "300x300", jobstest.Sizes(t, jobstest.Out(t, hidden.Doc)))
	_, err := hidden.Try("uncrop", `{"pages":"all"}`)
	assert.ErrorContains(t, err, "aren’t cropped")
	_, err = hidden.Try("crop", `{"pages":"all","left":150,"right":149}`)
	assert.ErrorContains(t, err, "would be left: crop less")
}

// To what is printed: as close as the cells of glyphs are, held against the ink that another program draws.
func TestCropToPrint(t *testing.T) {
	data := jobstest.Made("", []string{"Soundings of the north berth|", "|", ") Tj 1 0 0 RG 3 w 50 60 m 200 60 l S 1 g 0 0 300 300 re f 0 0 1 rg 100 100 30 30 re f (|"})
	b := newBench(t, data)
	before := jobstest.Inked(t, data, 1)
	res := b.Run("crop", `{"pages":"all","to":"print","room":0}`)
	assert.Equal(t, "Pages 1, 3 cropped to the page content", res.Sentence)
	assert.Contains(t, jobstest.Told(res), "There is no content on page 2")
	refs := pdftest.Refs(t, b.Doc)
	v := b.Doc.Geometry(refs[0]).Visible
	assert.InDelta(t, before[0], v.X0, 2)
	assert.InDelta(t, before[2], v.X1, 2)
	assert.InDelta(t, 300-before[3], v.Y0, 4)
	assert.InDelta(t, 300-before[1], v.Y1, 4)
	v = b.Doc.Geometry(refs[2]).Visible
	assert.InDelta(t, 50, v.X0, 2)
	assert.InDelta(t, 58.5, v.Y0, 2)
	assert.InDelta(t, 130, v.Y1, 2)
	b.Run("uncrop", `{"pages":"all"}`)
	b.Run("crop", `{"pages":"1, 3","to":"print","alike":true}`)
	assert.Equal(t, b.Doc.Geometry(refs[0]).Visible, b.Doc.Geometry(refs[2]).Visible)
}

// The order of a booklet, worked by hand with folded sheets: of eight pages, the outer sheet has 8 and 1 outside, 2 and 7 inside, the inner one 6
// and 3, 4 and 5.
func TestFold(t *testing.T) {
	assert.Equal(t, [][2]int{{7, 0}, {1, 6}, {5, 2}, {3, 4}}, Fold(8, 0))
	assert.Equal(t, [][2]int{{3, 0}, {1, 2}}, Fold(4, 0))
	assert.Equal(t, [][2]int{{-1, 0}, {1, -1}, {-1, 2}, {3, 4}}, Fold(5, 0), "what is missing stays empty at the end")
	assert.Equal(t, [][2]int{{3, 0}, {1, 2}, {7, 4}, {5, 6}}, Fold(8, 1), "sets of one sheet")
	assert.Equal(t, [][2]int{{7, 0}, {1, 6}, {5, 2}, {3, 4}, {11, 8}, {9, 10}}, Fold(12, 2))
}

func TestSheets(t *testing.T) {
	words := func(data []byte) (out []string) {
		for page := range strings.SplitSeq(pdftest.Tool(t, data, "pdftotext", "-layout", "FILE", "-"), "\f") {
			if s := strings.Join(strings.Fields(page), " "); s != "" {
				out = append(out, s)
			}
		}
		return out
	}
	pages := func(n int) []byte {
		list := make([]string, n)
		for i := range list {
			list[i] = fmt.Sprintf("Page %d|", i+1)
		}
		return jobstest.Made("", list)
	}
	b := newBench(t, pages(8))
	res := b.Run("sheets", `{"pages":"all","kind":"booklet"}`)
	assert.Equal(t, "Pages 1-8 arranged as a booklet of 2 sheets", res.Sentence)
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	assert.Equal(t, []string{"Page 8 Page 1", "Page 2 Page 7", "Page 6 Page 3", "Page 4 Page 5"}, words(got))
	assert.Equal(t, "842x595 842x595 842x595 842x595", jobstest.Sizes(t, got))
	assert.Equal(t, 4, strings.Count(jobstest.Plain(t, got), "/Type /Page\n"))

	b = newBench(t, pages(5))
	b.Run("sheets", `{"pages":"all","columns":2,"rows":2,"down":true}`)
	assert.Equal(t, []string{"Page 1 Page 3 Page 2 Page 4", "Page 5"}, words(jobstest.Out(t, b.Doc)))
	b = newBench(t, pages(5))
	b.Run("sheets", `{"pages":"2-5","columns":2,"rows":1,"rtl":true,"paper":"as needed","margin":0,"gap":0}`)
	assert.Equal(t, []string{"Page 1", "Page 3 Page 2", "Page 5 Page 4"}, words(jobstest.Out(t, b.Doc)))

	// Bookmarks and named places lead to the sheets, comments are drawn.
	b = newBench(t, jobstest.Linked())
	res = b.Run("sheets", `{"pages":"all"}`)
	assert.Contains(t, jobstest.Told(res), "3 links, 3 form fields and 4 tags")
	got = jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	outline := pdftest.Tool(t, got, "mutool", "show", "FILE", "outline")
	for title, page := range map[string]int{"One": 1, "Three": 2} {
		assert.Regexp(t, fmt.Sprintf(`"%s".*page=%d\b`, title, page), outline)
	}
	b = newBench(t, jobstest.Placed(90))
	b.Run("duplicate", `{"pages":"1"}`)
	one := jobstest.Inked(t, b.Base, 1)
	b.Run("sheets", `{"pages":"all","paper":"as needed","margin":0,"gap":0}`)
	two := jobstest.Inked(t, jobstest.Out(t, b.Doc), 1)
	for i, add := range []float64{0, 0, 200, 0} {
		assert.InDelta(t, one[i]+add, two[i], 0.6)
	}
	_, err := b.Try("sheets", `{"pages":"all","columns":1,"rows":1}`)
	assert.ErrorContains(t, err, "one page on each sheet")
}

// Sentences name pages as they are called.
func TestNamedByLabel(t *testing.T) {
	b := newBench(t, pdftest.Text(6))
	b.Run("label", `{"pages":"1-3","style":"i ii iii"}`)
	b.Run("label", `{"pages":"4-","style":"1 2 3"}`)
	for _, c := range [][3]string{
		{"rotate", `{"pages":"ii","by":90}`, "Page ii rotated right"},
		{"move", `{"pages":"i-ii","to":"0.5"}`, "Pages i to ii moved before page 2"},
		{"duplicate", `{"pages":"\"1\""}`, "Page 1 duplicated, the copy placed after it"},
		{"remove", `{"pages":"last"}`, "Page 3 removed"},
	} {
		assert.Equal(t, c[2], b.Run(c[0], c[1]).Sentence)
	}
	assert.Equal(t, []string{"iii", "1", "1", "i", "ii", "2"}, nav.Called(b.Doc))
}
