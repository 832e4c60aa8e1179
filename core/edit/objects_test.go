package edit_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/claim"
	"glenrain/core/edit"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

func writeFile(t *testing.T, path string, data []byte) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, data, 0o600))
}

const objectsOnPage = `BT /F1 12 Tf 72 760 Td (Heading) Tj ET q 100 0 0 60 72 600 cm /Im Do Q q 100 0 0 60 300 600 cm /Im Do Q
0 0.5 0 rg 72 500 50 50 re f 0 g BT /F1 12 Tf 72 460 Td (Below the box) Tj ET q 1 0 0 1 72 300 cm /Fm Do Q q 1 0 0 1 72 200 cm /Fm Do Q`

func moves(list ...edit.Object) *edit.MoveObjects {
	return &edit.MoveObjects{Page: step.Pages{Rule: "1"}, Objects: list}
}

// Objects move, turn, are resized and copied by what is said, on turned pages as these are seen; nothing else does.
func TestMoveObjects(t *testing.T) {
	b := newBench(t, page(objectsOnPage, "", ""))
	before := wordsAt(t, pdftest.Whole(t, b.doc))
	res := b.run(moves(edit.Object{What: "picture", At: 0, X: 10, Y: 20}, edit.Object{What: "drawing", X: 200}, edit.Object{What: "paragraph", X: 30, Y: -5}))
	assert.Equal(t, "3 objects moved on page 1", res.Sentence)
	assert.Equal(t, "ff0000", b.pixel(85, 842-638+1), "its upper left corner")
	assert.Equal(t, "ffffff", b.pixel(74, 842-650))
	assert.Equal(t, "ff0000", b.pixel(302, 842-658), "the other one stays")
	assert.Equal(t, "008000", b.pixel(280, 842-520))
	after := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.InDelta(t, before["Heading"][0]+30, after["Heading"][0], 0.1)
	assert.InDelta(t, before["Heading"][1]-5, after["Heading"][1], 0.1)
	assert.InDelta(t, before["Below"][0], after["Below"][0], 0.01)

	b = newBench(t, page(objectsOnPage, "", ""))
	b.run(moves(edit.Object{What: "picture", At: 1, ScaleX: 50, ScaleY: 50, Turn: 90}))
	// The middle stays: 350, 630. It is 30 wide and 50 high, and its red corner is at the upper right.
	assert.Equal(t, "ff0000", b.pixel(362, 842-653))
	assert.Equal(t, "ffffff", b.pixel(330, 842-630))
	m := moves(edit.Object{What: "paragraph", At: 1, Y: 30})
	m.Copy = true
	assert.Equal(t, "Paragraph copied on page 1", b.run(m).Sentence)
	assert.Equal(t, 2, strings.Count(b.text(), "Below the box"))

	b = newBench(t, page(objectsOnPage, "", "/Rotate 90"))
	turned := wordsAt(t, pdftest.Whole(t, b.doc))
	b.run(moves(edit.Object{What: "paragraph", X: 40, Y: 10}))
	now := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.InDelta(t, turned["Heading"][0]+40, now["Heading"][0], 0.1, "to the right as the page is seen")
	assert.InDelta(t, turned["Heading"][1]+10, now["Heading"][1], 0.1)
	for _, bad := range []*edit.MoveObjects{moves(), moves(edit.Object{What: "picture", At: 7}), moves(edit.Object{What: "picture"}, edit.Object{What: "picture"}), moves(edit.Object{What: "cloud"}), moves(edit.Object{What: "picture", X: 1e9}), moves(edit.Object{What: "picture"})} {
		_, err := b.try(bad)
		var no *step.Refusal
		assert.ErrorAs(t, err, &no)
	}
}

// Of a form that is drawn twice, one drawing changes.
func TestFormDrawnTwice(t *testing.T) {
	b := newBench(t, page(objectsOnPage, "", ""))
	require.Equal(t, 2, strings.Count(b.text(), "Drawn in a form"))
	list := findAll(t, b, "Drawn in a form")
	require.Len(t, list, 2)
	b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, At: list[1], Text: "Drawn in the second form"})
	assert.Equal(t, 1, strings.Count(b.text(), "Drawn in a form"))
	b.run(&edit.RemoveObjects{Page: step.Pages{Rule: "1"}, Objects: []edit.Object{{What: "paragraph", At: list[0]}}})
	assert.NotContains(t, b.text(), "Drawn in a form")
	assert.Contains(t, b.text(), "Drawn in the second form")
	pdftest.Check(t, pdftest.Whole(t, b.doc))
}

func findAll(t *testing.T, b *bench, text string) (at []int) {
	t.Helper()
	s, err := edit.Open(t.Context(), b.doc, pdftest.Refs(t, b.doc)[0])
	require.NoError(t, err)
	for _, f := range s.Objects() {
		if f.What == "paragraph" && f.Text == text {
			at = append(at, f.At)
		}
	}
	return at
}

// A picture that a frame would cut off leaves the frame, and text that would be cut off is refused.
func TestFrames(t *testing.T) {
	b := newBench(t, page(`q 72 600 100 60 re W n q 100 0 0 60 72 600 cm /Im Do Q Q 1 0 0 rg 300 100 20 20 re f
q 60 400 200 40 re W n BT /F1 12 Tf 72 410 Td (Cut off by a frame) Tj ET Q`, "", ""))
	b.run(moves(edit.Object{What: "picture", X: 200, Y: 50}))
	assert.Equal(t, "ff0000", b.pixel(275, 842-608+1))
	assert.Equal(t, "ff0000", b.pixel(310, 842-110), "what comes behind is drawn as it was")
	_, err := b.try(moves(edit.Object{What: "paragraph", Y: 100}))
	assert.ErrorContains(t, err, "the page clips that place")
	b.run(moves(edit.Object{What: "paragraph", Y: -10}))
}

// A picture is mirrored, cut, toned and put behind; what it is drawn from elsewhere stays.
func TestChangePicture(t *testing.T) {
	change := func(c edit.ChangePicture) *bench {
		t.Helper()
		b := newBench(t, page(objectsOnPage, "", ""))
		c.Page = step.Pages{Rule: "1"}
		b.run(&c)
		pdftest.Check(t, pdftest.Whole(t, b.doc))
		return b
	}
	upperLeft := func(b *bench) string { return b.pixel(80, 842-655) }
	assert.Equal(t, "ff0000", upperLeft(newBench(t, page(objectsOnPage, "", ""))))
	b := change(edit.ChangePicture{Flip: "across"})
	assert.Equal(t, "00ff00", upperLeft(b))
	assert.Equal(t, "ff0000", b.pixel(308, 842-655))
	assert.Equal(t, "0000ff", upperLeft(change(edit.ChangePicture{Flip: "down"})))
	b = change(edit.ChangePicture{Left: 50})
	assert.Equal(t, "ffffff", upperLeft(b))
	assert.Equal(t, "00ff00", b.pixel(160, 842-655))
	assert.Contains(t, plain(t, b), "\xff\x00\x00\x00\xff\x00", "of the other drawing the picture stays whole")
	assert.Equal(t, "4c4c4c", upperLeft(change(edit.ChangePicture{Colours: "gray"})), "as luma has it: 0.299 of red")
	both := change(edit.ChangePicture{Colours: "gray", Everywhere: true})
	assert.Equal(t, "4c4c4c", both.pixel(308, 842-655))
	assert.Equal(t, "000000", upperLeft(change(edit.ChangePicture{Colours: "black-and-white"})))
	assert.Equal(t, "ff7f7f", upperLeft(change(edit.ChangePicture{Opacity: 50})))
	light := upperLeft(change(edit.ChangePicture{Brightness: 40}))
	assert.Equal(t, "ff6666", light)
	_, err := newBench(t, page(objectsOnPage, "", "")).try(&edit.ChangePicture{Page: step.Pages{Rule: "1"}})
	assert.ErrorContains(t, err, "at least one change to the picture")
	_, err = newBench(t, page(objectsOnPage, "", "")).try(&edit.ChangePicture{Page: step.Pages{Rule: "1"}, Left: 60, Right: 60})
	assert.ErrorContains(t, err, "the whole picture would be cropped away")

	over := newBench(t, page(`0 0 1 rg 60 590 200 80 re f q 100 0 0 60 72 600 cm /Im Do Q`, "", ""))
	over.run(&edit.ChangePicture{Page: step.Pages{Rule: "1"}, Order: "back"})
	assert.Equal(t, "0000ff", upperLeft(over))
	over.run(&edit.ChangePicture{Page: step.Pages{Rule: "1"}, Order: "front"})
	assert.Equal(t, "ff0000", upperLeft(over))
}

// plain is the document written without packing.
func plain(t *testing.T, b *bench) string {
	t.Helper()
	return pdftest.Tool(t, pdftest.Whole(t, b.doc), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
}

// A shape keeps what it is, when it moves and when it is drawn anew, after saving too.
func TestShapes(t *testing.T) {
	b := newBench(t, page(objectsOnPage, "", "/Rotate 90"))
	res := b.run(&edit.AddShape{Page: step.Pages{Rule: "1"}, Shape: edit.Shape{Kind: "rectangle", Points: "100,100 200,150", Stroke: "none", Fill: "#ff00ff"}})
	assert.Equal(t, "Rectangle drawn on page 1", res.Sentence)
	assert.Equal(t, "ff00ff", b.pixel(150, 125))
	b.run(moves(edit.Object{What: "shape", X: 300}))
	assert.Equal(t, "ffffff", b.pixel(150, 125))
	assert.Equal(t, "ff00ff", b.pixel(450, 125))
	again := newBench(t, pdftest.Whole(t, b.doc))
	changed := again.run(&edit.ChangeShape{Page: step.Pages{Rule: "1"}, Shape: edit.Shape{Kind: "ellipse", Points: "as it is", Fill: "#00ffff"}})
	assert.Equal(t, claim.Colour, changed.Adds)
	fainter := newBench(t, pdftest.Whole(t, again.doc)).run(&edit.ChangeShape{Page: step.Pages{Rule: "1"}, Shape: edit.Shape{Kind: "ellipse", Points: "as it is", Fill: "#00ffff", Opacity: 40}})
	assert.Equal(t, claim.Colour|claim.Transparency, fainter.Adds, "PDF/A-1 allows no opacity (ISO 19005-1, 6.4)")
	assert.Equal(t, "00ffff", again.pixel(450, 125))
	assert.NotEqual(t, "00ffff", again.pixel(401, 101), "an ellipse has no corners")
	again.run(&edit.RemoveObjects{Page: step.Pages{Rule: "1"}, Objects: []edit.Object{{What: "shape"}}})
	assert.Equal(t, "ffffff", again.pixel(450, 125))
	pdftest.Check(t, pdftest.Whole(t, again.doc))
	for _, bad := range []edit.Shape{{Kind: "line", Points: "1,1", Stroke: "ink"}, {Kind: "line", Points: "1,1 2,x", Stroke: "ink"}, {Kind: "polygon", Points: "1,1 2,2", Stroke: "ink"}, {Kind: "rectangle", Points: "1,1 9,9"}, {Kind: "line", Points: "1,1 9,9", Stroke: "pinkish"}, {Kind: "stroke", Points: strings.Repeat("1,1 ", 6000), Stroke: "ink"}} {
		_, err := b.try(&edit.AddShape{Page: step.Pages{Rule: "1"}, Shape: bad})
		var no *step.Refusal
		assert.ErrorAs(t, err, &no)
	}
}

// Tags stay with the words: what is read to people is what it was, but for the new words, and a picture that is taken off is not described any more.
func TestTagsStay(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R/MarkInfo<</Marked true>>/StructTreeRoot 7 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/StructParents 0/Resources<</Font<</F1 5 0 R>>/XObject<</Im 6 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", `/H1 <</MCID 0>> BDC BT /F1 18 Tf 72 760 Td (Soundings) Tj ET EMC /P <</MCID 1>> BDC BT /F1 11 Tf 14 TL 72 700 Td (The north berth was sounded at low water, from the) Tj T* (ferry ramp to the knuckle.) Tj ET EMC
/P <</MCID 2>> BDC BT /F1 11 Tf 72 650 Td (Silt is soft.) Tj ET EMC /Figure <</MCID 3>> BDC q 100 0 0 60 72 500 cm /Im Do Q EMC`))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Image/Width 1/Height 1/BitsPerComponent 8/ColorSpace/DeviceGray", "\x80"))
	f.Add("<</Type/StructTreeRoot/K[8 0 R]/ParentTree<</Nums[0[9 0 R 10 0 R 11 0 R 12 0 R]]>>>>")
	f.Add("<</Type/StructElem/S/Document/P 7 0 R/K[9 0 R 10 0 R 11 0 R 12 0 R]>>")
	for i, s := range []string{"H1", "P", "P", "Figure"} {
		alt := ""
		if s == "Figure" {
			alt = "/Alt(The quay at low water)"
		}
		f.Add("<</Type/StructElem/S/%s/P 8 0 R/Pg 3 0 R/K %d%s>>", s, i, alt)
	}
	b := newBench(t, f.Bytes())
	tags := func() string {
		return strings.Join(strings.Fields(pdftest.Tool(t, pdftest.Whole(t, b.doc), "pdfinfo", "-struct-text", "FILE")), "") // spaces at the ends of lines are of no program's making
	}
	was := tags()
	b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, At: 1, Grow: "push", Edits: []edit.Edit{{From: 4, To: 9, Text: "northern and the western berths, and the ice"}}})
	assert.Equal(t, strings.Replace(was, "north", "northernandthewesternberths,andtheice", 1), tags())
	assert.Contains(t, plain(t, b), "The quay at low water")
	b.run(&edit.RemoveObjects{Page: step.Pages{Rule: "1"}, Objects: []edit.Object{{What: "picture"}}})
	assert.NotContains(t, plain(t, b), "The quay at low water")
}
