package edit_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/claim"
	"glenrain/core/edit"
	"glenrain/core/font"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// page is a file of one page with content, annotations and further entries of the page.
func page(content, annots, more string, extra ...string) []byte {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.Add("%s", "<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Annots["+annots+"]/Resources<</Font<</F1 5 0 R/F2 6 0 R/F3 7 0 R>>/XObject<</Im 8 0 R/Fm 9 0 R>>>>"+more+">>")
	f.Add("%s", pdftest.Stream("", content))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica-Bold/Encoding/WinAnsiEncoding>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Courier/Encoding/WinAnsiEncoding>>")
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Image/Width 2/Height 2/BitsPerComponent 8/ColorSpace/DeviceRGB", "\xff\x00\x00\x00\xff\x00\x00\x00\xff\xff\xff\xff"))
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 300 100]/Resources<</Font<</F1 5 0 R>>>>", "BT /F1 12 Tf 10 50 Td (Drawn in a form) Tj ET"))
	for _, e := range extra {
		f.Add("%s", e)
	}
	return f.Bytes()
}

// pixel gives the colour at a place of the first page, in points from the upper left corner, as "rrggbb".
func (b *bench) pixel(x, y float64) string {
	b.t.Helper()
	const dpi = 72
	ppm := pdftest.Tool(b.t, pdftest.Whole(b.t, b.doc), "pdftoppm", "-r", fmt.Sprint(dpi), "-f", "1", "-l", "1", "-aa", "no", "-aaVector", "no", "FILE")
	var w, h, most int
	_, err := fmt.Sscanf(ppm, "P6\n%d %d\n%d\n", &w, &h, &most)
	require.NoError(b.t, err)
	at := len(ppm) - 3*w*h + 3*(int(y)*w+int(x))
	return fmt.Sprintf("%x", ppm[at:at+3])
}

func (b *bench) annot() *pdf.Dict {
	b.t.Helper()
	list := b.doc.Array(b.doc.Dict(pdftest.Refs(b.t, b.doc)[0]).Get("Annots"))
	require.NotEmpty(b.t, list)
	return b.doc.Dict(list[0])
}

func editing(edits ...edit.Edit) *edit.Paragraph {
	return &edit.Paragraph{Page: step.Pages{Rule: "1"}, Edits: edits}
}

// A link goes where its words go, also where these come to stand in another line; one whose words are gone goes with them.
func TestLinkFollows(t *testing.T) {
	file := page(`BT /F1 11 Tf 14 TL 72 700 Td (The soundings of the north berth were taken at low water, see the report on) Tj T* (the quay wall of the spring.) Tj ET`,
		`<</Type/Annot/Subtype/Link/Rect[402 697 443 709]/Border[0 0 0]/A<</S/URI/URI(https://orrin.example)>>>>`, "")
	b := newBench(t, file)
	words := wordsAt(t, file)
	before, _ := b.doc.Rect(b.annot().Get("Rect"))
	assert.InDelta(t, words["report"][0], before.X0, 25)
	b.run(replace("north", "northern and the western"))
	after := wordsAt(t, pdftest.Whole(t, b.doc))
	r, _ := b.doc.Rect(b.annot().Get("Rect"))
	assert.Greater(t, after["report"][1], words["report"][1]+10, "the word is in the second line now")
	assert.InDelta(t, before.Y0-14, r.Y0, 1)
	assert.InDelta(t, after["report"][0]+before.X0-words["report"][0], r.X0, 3)
	b.run(replace("the report on", "it:"))
	assert.Empty(t, b.doc.Array(b.doc.Dict(pdftest.Refs(t, b.doc)[0]).Get("Annots")))
	pdftest.Check(t, pdftest.Whole(t, b.doc))
}

// A line below a word and a gray box behind one go with them.
func TestDecorationsFollow(t *testing.T) {
	b := newBench(t, page(`0.9 g 205 697 44 13 re f 0 g 0 0 1 RG 1 w 118 698 m 145 698 l S
BT /F1 11 Tf 72 700 Td (See also first ) Tj /F3 11 Tf (and ) Tj /F3 11 Tf 133 0 Td (berth) Tj /F1 11 Tf ( for more.) Tj ET`, "", ""))
	assert.Equal(t, "e5e5e5", b.pixel(240, 842-708))
	b.run(replace("See", "Please see"))
	words := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.Equal(t, "e5e5e5", b.pixel(words["berth"][0]+12, 842-709), "the box is behind its word")
	assert.Equal(t, "ffffff", b.pixel(200, 842-709))
	blue := 0
	for x := words["first"][0] - 3; x < words["first"][0]+26; x++ {
		if b.pixel(x, 842-697.5) == "0000ff" || b.pixel(x, 842-698.4) == "0000ff" {
			blue++
		}
	}
	assert.Greater(t, blue, 15, "the line is below its word")
}

// What stands below moves down with its pictures and links, and stops at a gap that is wide enough; a frame that cuts off what is outside of it is heeded.
func TestPush(t *testing.T) {
	file := page(`BT /F1 11 Tf 14 TL 72 700 Td (The soundings of the north berth were taken at low water on the fourth) Tj T* (of October and agree with those of the spring.) Tj ET
BT /F2 11 Tf 72 665 Td (Next) Tj ET q 60 0 0 20 72 635 cm /Im Do Q 72 630 m 300 630 l S BT /F1 11 Tf 72 300 Td (Far below) Tj ET`,
		`<</Type/Annot/Subtype/Link/Rect[70 663 100 676]/Border[0 0 0]/A<</S/URI/URI(https://orrin.example)>>>>`, "")
	b := newBench(t, file)
	before := wordsAt(t, file)
	res := b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Grow: "push", Edits: []edit.Edit{{Text: strings.Repeat("Late soundings were added. ", 6)}}})
	require.Contains(t, res.Sentence, "text below moved down 42.0 pt")
	after := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.InDelta(t, before["Next"][1]+42, after["Next"][1], 0.1)
	assert.InDelta(t, before["below"][1], after["below"][1], 0.1)
	r, _ := b.doc.Rect(b.annot().Get("Rect"))
	assert.InDelta(t, 663-42, r.Y0, 0.1)
	assert.Equal(t, "ff0000", b.pixel(80, 842-610), "the picture stands lower")
	assert.Equal(t, "ffffff", b.pixel(80, 842-652))

	cut := newBench(t, page(`q 60 690 400 40 re W n BT /F1 11 Tf 14 TL 72 700 Td (The soundings of the north berth were taken at low water on the fourth) Tj ET Q`, "", ""))
	_, err := cut.try(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Edits: []edit.Edit{{Text: strings.Repeat("Late soundings were added. ", 6)}}})
	assert.ErrorContains(t, err, "more space below")
}

// Lines of an address stay lines.
func TestHardBreaks(t *testing.T) {
	b := newBench(t, set(`BT /F1 11 Tf 14 TL 72 700 Td (Harbour Office) Tj T* (Pier 3) Tj T* (Orrin Quay) Tj 0 -40 Td (The office is open on weekdays, and on Saturdays in the season, from) Tj T* (eight to four.) Tj ET`))
	b.run(replace("Office", "Master's Office"))
	lines := strings.Split(strings.TrimSpace(pdftest.Tool(t, pdftest.Whole(t, b.doc), "pdftotext", "-layout", "FILE", "-")), "\n")
	require.GreaterOrEqual(t, len(lines), 3)
	assert.Equal(t, "Harbour Master's Office", strings.TrimSpace(lines[0]))
	assert.Equal(t, "Pier 3", strings.TrimSpace(lines[1]))
	b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Edits: []edit.Edit{{From: 7, To: 7, Text: "\nThe"}}})
	lines = strings.Split(strings.TrimSpace(pdftest.Tool(t, pdftest.Whole(t, b.doc), "pdftotext", "-layout", "FILE", "-")), "\n")
	assert.Equal(t, "Harbour", strings.TrimSpace(lines[0]))
	assert.Equal(t, "The Master's Office", strings.TrimSpace(lines[1]))
}

// A look is laid on words and on nothing else: the document's own bold, a colour, a line below, a larger size, raised letters, opacity.
func TestStyle(t *testing.T) {
	content := `0 0 1 rg BT /F1 20 Tf 26 TL 72 700 Td (alpha beta gamma) Tj T* (delta epsilon) Tj ET BT /F2 9 Tf 72 500 Td (Bold is here) Tj ET BT /F1 20 Tf 26 TL 72 600 Td (A second paragraph that is as wide as) Tj T* (the column of this page.) Tj ET`
	word := func(text string, look edit.Look) *edit.Paragraph {
		at := strings.Index("alpha beta gamma\ndelta epsilon", text) // the lines end early
		return editing(edit.Edit{From: at, To: at + len(text), Style: true, Look: look})
	}
	b := newBench(t, page(content, "", ""))
	res := b.run(word("beta", edit.Look{Bold: "yes", Colour: "#ff0000", Underline: "yes"}))
	assert.Equal(t, claim.Colour, res.Adds)
	file := pdftest.Whole(t, b.doc)
	pdftest.Check(t, file)
	fonts := pdftest.Tool(t, file, "pdffonts", "FILE")
	assert.NotContains(t, fonts, "Liberation", "the bold that the page has is used")
	at := wordsAt(t, file)
	red, blue := 0, 0
	for x := at["beta"][0]; x < at["gamma"][0]-4; x++ {
		if b.pixel(x, 842-697.5) == "ff0000" || b.pixel(x, 842-698.3) == "ff0000" {
			red++
		}
	}
	for x := at["gamma"][0]; x < at["gamma"][0]+50; x++ {
		if b.pixel(x, 842-704) == "0000ff" {
			blue++
		}
	}
	assert.Greater(t, red, 30, "a red line below the word")
	assert.Greater(t, blue, 5, "what comes after has its own colour")
	_, y := at["delta"][0], at["delta"][1]

	b.run(word("delta", edit.Look{Size: 40}))
	big := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.Greater(t, big["delta"][1], y+10, "the line with large letters stands lower")
	assert.InDelta(t, at["alpha"][1], big["alpha"][1], 0.1)

	b = newBench(t, page(content, "", ""))
	b.run(word("gamma", edit.Look{Level: "raised"}))
	up := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.Less(t, up["gamma"][1], at["gamma"][1]-4)
	b = newBench(t, page(content, "", ""))
	res = b.run(word("alpha", edit.Look{Opacity: 50, Face: "Serif", Spacing: "3pt"}))
	assert.Equal(t, claim.Transparency, res.Adds)
	file = pdftest.Whole(t, b.doc)
	assert.Contains(t, pdftest.Tool(t, file, "pdffonts", "FILE"), "LiberationSerif")
	assert.Contains(t, b.text(), "alpha beta gamma delta epsilon Bold")
	b = newBench(t, page(content, "", ""))
	b.run(word("gamma", edit.Look{Face: "Helvetica-Bold", Size: 20})) // a style that was lifted elsewhere on the page
	assert.NotContains(t, pdftest.Tool(t, pdftest.Whole(t, b.doc), "pdffonts", "FILE"), "Liberation")
	for _, bad := range []edit.Look{{Face: "Nothing"}, {Size: 5000}, {Colour: "redish"}, {Spacing: "wide"}, {Opacity: 400}} {
		_, err := b.try(word("beta", bad))
		var no *step.Refusal
		assert.ErrorAs(t, err, &no, "%v", bad)
	}
	for _, e := range []edit.Edit{{From: -1}, {From: 4, To: 2}, {From: 0, To: 999}} {
		_, err := b.try(editing(e))
		assert.ErrorContains(t, err, "the paragraph has")
	}
}

// A paragraph is set in another alignment, leading and width.
func TestForm(t *testing.T) {
	b := newBench(t, set(lines))
	before := wordsAt(t, pdftest.Whole(t, b.doc))
	b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Width: 200, Leading: 20})
	after := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.InDelta(t, before["soundings"][1], after["soundings"][1], 0.1)
	assert.Greater(t, after["centimetres."][1], before["centimetres."][1]+40)
	for _, at := range after {
		assert.Less(t, at[0], 272.0)
	}
	b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Align: "right"})
	right := pdftest.Tool(t, pdftest.Whole(t, b.doc), "pdftotext", "-bbox-layout", "FILE", "-")
	n, edge := 0, 0.0
	for line := range strings.Lines(right) {
		var x0, y0, x1, y1 float64
		if k, _ := fmt.Sscanf(strings.TrimSpace(line), `<line xMin="%f" yMin="%f" xMax="%f" yMax="%f">`, &x0, &y0, &x1, &y1); k == 4 && y0 < 300 && x1 > 200 {
			if edge == 0 {
				edge = x1
			}
			if x1 > edge-0.6 && x1 < edge+0.6 {
				n++
			}
		}
	}
	assert.Equal(t, 5, n, "lines that end at one edge")
}

// New text stands where it is put, also on a page that is turned, and can be edited like all other.
func TestAddText(t *testing.T) {
	for _, turn := range []string{"", "/Rotate 90", "/Rotate 180", "/Rotate 270/CropBox[20 30 500 800]"} {
		b := newBench(t, page(`2 0 0 2 5 5 cm q`, "", turn)) // which is left open
		res := b.run(&edit.AddText{Page: step.Pages{Rule: "1"}, X: 100, Y: 120, Width: 150, Text: "Notice to all\nmasters of vessels that lie at the north berth", Look: edit.Look{Size: 12, Bold: "yes"}})
		assert.Equal(t, "“Notice to all masters of vessels that…” added to page 1", res.Sentence)
		file := pdftest.Whole(t, b.doc)
		pdftest.Check(t, file)
		at := wordsAt(t, file)
		assert.InDelta(t, 100, at["Notice"][0], 1, turn)
		assert.InDelta(t, 100, at["masters"][0], 1, turn)
		assert.InDelta(t, 120+0.8*12+14.4+2.5, at["masters"][1], 1.5, turn)
		for w, p := range at {
			assert.Less(t, p[0], 250.0, "%s %s", turn, w)
		}
		b.run(replace("north", "ice"))
		assert.Contains(t, b.text(), "at the ice berth")
	}
	b := newBench(t, set(lines))
	for _, bad := range []*edit.AddText{{X: 10, Y: 10}, {X: 9000, Y: 10, Text: "x"}, {X: 10, Y: 10, Text: "港"}, {X: 10, Y: 10, Text: strings.Repeat("long ", 30_000)}} {
		bad.Page = step.Pages{Rule: "1"}
		_, err := b.try(bad)
		var no *step.Refusal
		assert.ErrorAs(t, err, &no)
	}
}

// What a page is written on by hand: a place between all letters, in their lines, and what the fonts can set.
func TestSheet(t *testing.T) {
	b := newBench(t, set(lines))
	s, err := edit.Open(t.Context(), b.doc, pdftest.Refs(t, b.doc)[0])
	require.NoError(t, err)
	require.Len(t, s.Blocks(), 2)
	was, err := s.Begin(&edit.Paragraph{})
	require.NoError(t, err)
	assert.Len(t, was.Carets, len([]rune(was.Text))+1)
	assert.Equal(t, 2, was.Carets[len(was.Carets)-1].Row)
	assert.InDelta(t, 72, was.Carets[0].X0, 0.01)
	assert.Equal(t, edit.FontNone, was.Fonts[0].State)
	is, err := s.Try(t.Context(), &edit.Paragraph{Edits: []edit.Edit{{From: 4, To: 4, Text: "řeka "}}})
	require.NoError(t, err)
	assert.Equal(t, "The řeka soundings", is.Text[:19])
	assert.Len(t, is.Carets, len([]rune(is.Text))+1)
	assert.Equal(t, []string{"řeka"}, is.Lack["Sans"])
	for i := 1; i < len(is.Carets); i++ {
		if is.Carets[i].Row == is.Carets[i-1].Row {
			assert.GreaterOrEqual(t, is.Carets[i].X0, is.Carets[i-1].X0-0.01)
		}
	}
	line, err := s.Begin(&edit.Paragraph{Line: 2})
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(line.Text, "of October"))
	joined, err := s.Begin(&edit.Paragraph{Join: 1})
	require.NoError(t, err)
	assert.True(t, strings.HasSuffix(joined.Text, "weekdays."))
	_, err = s.Begin(&edit.Paragraph{Join: 2})
	assert.Error(t, err)
	assert.Empty(t, b.doc.Changed(), "the document is as it was")
}

// A font of the office that a document's font is cut from serves for letters that the file lacks; one of the same name with other widths does not.
func TestFontOfTheHouse(t *testing.T) {
	dir := t.TempDir()
	writeFile(t, dir+"/house.ttf", font.File("Sans"))
	b := newBench(t, set(lines))
	b.run(&edit.AddText{Page: step.Pages{Rule: "1"}, X: 72, Y: 400, Text: "Set in Sans"})
	file := pdftest.Whole(t, b.doc)
	odd := func() (string, []string) {
		b := newBench(t, file)
		return strings.Join(b.run(replace("Set", "Qřt")).Warnings, " "), font.OwnFaces()
	}
	said, own := odd()
	assert.Contains(t, said, "“Qřt” set in Sans")
	assert.Empty(t, own)
	require.Empty(t, font.UseFolder(dir))
	t.Cleanup(func() { font.UseFolder(t.TempDir()) })
	said, own = odd()
	assert.Empty(t, said)
	assert.Equal(t, []string{"LiberationSans"}, own)
	writeFile(t, dir+"/bad.ttf", []byte("no font"))
	assert.Len(t, font.UseFolder(dir), 1)
}

// A step changes the page and adds to the file; it rewrites nothing else, and weighs little more than the page's own content.
func TestOnlyThePageChanges(t *testing.T) {
	b := newBench(t, pdftest.Text(5))
	refs := pdftest.Refs(t, b.doc)
	res := b.run(&edit.Paragraph{Page: step.Pages{Rule: "3"}, Edits: []edit.Edit{{Text: "Late "}}})
	for _, r := range b.doc.Changed() {
		if r != refs[2] {
			assert.Nil(t, pdftest.Open(t, pdftest.Text(5)).Resolve(r), "object %v was there before", r)
		}
	}
	assert.Less(t, len(res.Update), 3000)
}

// Very much text is refused in a sentence, in good time; as is what has no room.
func TestVeryMuch(t *testing.T) {
	b := newBench(t, set(lines))
	for _, n := range []int{10_001, 9_000} {
		_, err := b.try(editing(edit.Edit{Text: strings.Repeat("quay ", n)}))
		var no *step.Refusal
		require.ErrorAs(t, err, &no)
	}
	many := make([]edit.Edit, 6000)
	_, err := b.try(editing(many...))
	assert.ErrorContains(t, err, "changes at once")
	_, err = b.try(editing(edit.Edit{Text: strings.Repeat("x", 4000)}))
	assert.ErrorContains(t, err, "wider than the column")
	_, err = b.try(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Was: "Something else", Edits: []edit.Edit{{Text: "x"}}})
	assert.ErrorContains(t, err, "has changed since")
}
