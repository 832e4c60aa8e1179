package annot

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// two is a file of two pages, whose annotations are those that are named for each; they are the objects from 5 on.
func two(t *testing.T, first, second string, annots ...string) (*pdf.Document, []pdf.Ref) {
	t.Helper()
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Dests<</berths[4 0 R/XYZ 10 190 null]>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2/MediaBox[0 0 200 200]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Annots[%s]>>", first)
	f.Add("<</Type/Page/Parent 2 0 R/Annots[%s]>>", second)
	for _, a := range annots {
		f.Add("%s", a)
	}
	d := pdftest.Open(t, f.Bytes()).Fork()
	return d, pdftest.Refs(t, d)
}

func nums(refs []pdf.Ref) (out []int) {
	for _, r := range refs {
		out = append(out, r.Num)
	}
	return out
}

func TestRefsAreObjects(t *testing.T) {
	d, p := two(t, "5 0 R<</Type/Annot/Subtype/Text/Rect[0 0 9 9]>>6 0 R", "6 0 R", "<</Subtype/Text>>", "<</Subtype/Text>>")
	assert.Equal(t, []int{5, 6}, nums(Refs(d, p[0])))
	assert.Equal(t, map[pdf.Ref]bool{{Num: 5}: true}, Only(d, p[:1]), "the other one stands on another page, too")
	assert.Equal(t, map[pdf.Ref]bool{{Num: 5}: true, {Num: 6}: true}, Only(d, p))
	assert.Equal(t, map[pdf.Ref]bool{{Num: 6}: true}, Shared(d))
}

// Links to pages that go are cut, by the place itself, by its name and by an action; what leads elsewhere stays.
func TestCutLinks(t *testing.T) {
	d, p := two(t, "5 0 R 6 0 R 7 0 R 8 0 R<</Subtype/Link/Dest[4 0 R/Fit]>>", "",
		"<</Subtype/Link/Dest[4 0 R/Fit]/StructParent 3>>", "<</Subtype/Link/A<</S/GoTo/D/berths>>>>", "<</Subtype/Link/Dest[3 0 R/Fit]>>", "<</Subtype/Text>>")
	cut := CutLinks(d, p[0], func(r pdf.Ref) bool { return r == p[1] })
	assert.Equal(t, []Removed{{pdf.Ref{Num: 5}, 3}, {pdf.Ref{Num: 6}, -1}, {pdf.Ref{}, -1}}, cut)
	assert.Equal(t, []int{7, 8}, nums(Refs(d, p[0])))
	assert.Nil(t, d.Dict(pdf.Ref{Num: 5}), "its object is gone")
	cut = CutLinks(d, p[0], func(pdf.Ref) bool { return true })
	assert.Len(t, cut, 1)
	assert.Empty(t, CutLinks(d, p[1], func(pdf.Ref) bool { return true }))
	pdftest.Check(t, pdftest.Whole(t, d))
}

// The last annotation takes the list with it.
func TestNoEmptyList(t *testing.T) {
	d, p := two(t, "5 0 R", "", "<</Subtype/Text/Rect[0 0 9 9]>>")
	assert.Equal(t, []Removed{{pdf.Ref{Num: 5}, -1}}, Remove(d, p[0], pdf.Ref{Num: 5}))
	assert.False(t, d.Dict(p[0]).Has("Annots"))
	assert.Empty(t, Remove(d, p[0], pdf.Ref{Num: 5}), "it is gone already")
	assert.Empty(t, Remove(d, p[1], pdf.Ref{}))
}

// A comment goes with its note; what a file calls its note, and is none, stays.
func TestRemoveWithNote(t *testing.T) {
	d, p := two(t, "5 0 R 6 0 R 7 0 R", "", "<</Subtype/Text/Popup 6 0 R/StructParent 2>>", "<</Subtype/Popup/Parent 5 0 R>>", "<</Subtype/Text/Popup 8 0 R>>", "<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	assert.Equal(t, []Removed{{pdf.Ref{Num: 5}, 2}, {pdf.Ref{Num: 6}, -1}}, Remove(d, p[0], pdf.Ref{Num: 5}))
	assert.Equal(t, []Removed{{pdf.Ref{Num: 7}, -1}}, Remove(d, p[0], pdf.Ref{Num: 7}))
	assert.NotNil(t, d.Dict(pdf.Ref{Num: 8}), "the font that the second one calls its note")
}

// A link's name becomes the place that it stands for, in the link alone.
func TestExplicit(t *testing.T) {
	d, p := two(t, "5 0 R<</Subtype/Link/A<</S/GoTo/D/berths>>>>6 0 R 7 0 R", "", "<</Subtype/Link/Dest/berths>>", "<</Subtype/Link/Dest/nowhere>>", "<</Subtype/Link/A<</S/URI/URI(https://tides.example)>>>>")
	Explicit(d, p[0])
	list := d.Array(d.Dict(p[0]).Get("Annots"))
	for i := range 2 {
		link := d.Dict(list[i])
		assert.False(t, link.Has("A"), "link %d", i)
		dest := d.Array(link.Get("Dest"))
		require.Len(t, dest, 5, "link %d", i)
		assert.Equal(t, p[1], dest[0])
		assert.Equal(t, pdf.Name("XYZ"), dest[1])
	}
	assert.Equal(t, pdf.Name("nowhere"), d.Dict(list[2]).Get("Dest"))
	assert.True(t, d.Dict(list[3]).Has("A"))
}

// Marks are read as they were written, here and by another program.
func TestMarkup(t *testing.T) {
	d, p := two(t, "5 0 R 6 0 R", "", "<</Subtype/Underline/C[0.5]/QuadPoints[1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17]/T(Fen)>>", "<</Subtype/Squiggly/C[0 1 1 0.5]/QuadPoints[1 2]>>")
	made := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	quad := [8]float64{20, 120, 80, 120, 20, 100, 80, 100}
	ref := PutMarkup(d, p[0], Markup{Kind: "Highlight", Colour: [3]float64{1, 0.5, 0}, Quads: [][8]float64{quad}, Author: "Isla Merrow", Made: made}, "m1")
	list := Markups(d, p[0])
	require.Len(t, list, 3)
	assert.Equal(t, [3]float64{0.5, 0.5, 0.5}, list[0].Colour, "gray")
	assert.Len(t, list[0].Quads, 2, "and a number that is left over")
	assert.Equal(t, "Fen", list[0].Author)
	assert.Equal(t, [3]float64{0.5, 0, 0}, list[1].Colour, "cyan, magenta, yellow, black (8.6.4.4): no cyan, half as light")
	assert.Empty(t, list[1].Quads)
	assert.Equal(t, Markup{Ref: ref, Kind: "Highlight", Colour: [3]float64{1, 0.5, 0}, Quads: [][8]float64{quad}, Author: "Isla Merrow"}, list[2])
	a := d.Dict(ref)
	assert.Equal(t, pdf.String("D:20260304050607Z"), a.Get("CreationDate"))
	assert.Equal(t, pdf.Integer(4), a.Get("F"), "it is printed")
	box, ok := d.Rect(a.Get("Rect"))
	require.True(t, ok)
	assert.Equal(t, pdf.Rect{X0: 19, Y0: 99, X1: 81, Y1: 121}, box, "all quads, with room for a line")
	whole := pdftest.Whole(t, d)
	pdftest.Check(t, whole)
	assert.Contains(t, pdftest.Tool(t, whole, "mutool", "show", "FILE", "trailer/Root/Pages/Kids/1/Annots/3/Subtype"), "/Highlight")

	list[2].Kind, list[2].Made = "StrikeOut", made.Add(time.Hour)
	ChangeMarkup(d, list[2])
	a = d.Dict(ref)
	assert.Equal(t, pdf.Name("StrikeOut"), a.Get("Subtype"))
	assert.Equal(t, pdf.String("D:20260304060607Z"), a.Get("M"))
	assert.Equal(t, pdf.String("D:20260304050607Z"), a.Get("CreationDate"), "it was made when it was")
	form, _ := d.Resolve(d.Dict(a.Get("AP")).Get("N")).(*pdf.Stream)
	drawn, _, err := d.Decode(form)
	require.NoError(t, err)
	// A line at 0.44 of the height of 20 from below, 0.06 of it wide.
	assert.Equal(t, "1 0.5 0 RG\n1.200 w 20.000 108.800 m 80.000 108.800 l S\n", string(drawn))
}

// Annotations move and grow with their page, with every point that they are drawn from (12.5.6); one that two pages share becomes two.
func TestMoved(t *testing.T) {
	d, p := two(t, "5 0 R 6 0 R<</Subtype/Text/Rect[0 0 10 10]>>null", "6 0 R",
		"<</Subtype/Ink/Rect[10 10 50 50]/InkList[[10 10 50 50][12 12 20]7]/RD[1 2 3 4]>>", "<</Subtype/Line/Rect[0 0 20 20]/L[0 0 20 20]/P 3 0 R>>")
	Moved(d, p[1], pdf.Matrix{2, 0, 0, 3, 100, 200}, Shared(d))
	Moved(d, p[0], pdf.Matrix{2, 0, 0, 3, 100, 200}, nil)
	list := d.Array(d.Dict(p[0]).Get("Annots"))
	ink := d.Dict(list[0])
	text := func(o pdf.Object) string { return string(pdf.AppendObject(nil, o)) }
	assert.Equal(t, "[120 230 200 350]", text(ink.Get("Rect")))
	assert.Equal(t, "[[120 230 200 350] [124 236 20] 7]", text(ink.Get("InkList")), "what is no pair of coordinates stays")
	assert.Equal(t, "[2 6 6 12]", text(ink.Get("RD")))
	assert.Equal(t, "[100 200 120 230]", text(d.Dict(list[2]).Get("Rect")), "one that is no object of its own")
	other := Refs(d, p[1])
	require.Len(t, other, 1)
	assert.NotEqual(t, 6, other[0].Num, "the second page has its own now")
	assert.Equal(t, p[1], d.Dict(other[0]).Get("P"))
	assert.Equal(t, "[100 200 140 260]", text(d.Dict(other[0]).Get("L")))
	assert.Equal(t, "[100 200 140 260]", text(d.Dict(pdf.Ref{Num: 6}).Get("L")), "moved once")
	pdftest.Check(t, pdftest.Whole(t, d))
}

// Mirrored rectangles stay rectangles.
func TestMoveMirrored(t *testing.T) {
	d, _ := two(t, "", "", "<</Rect[10 10 50 30]/RD[1 2 3 4]>>")
	a := d.Edit(pdf.Ref{Num: 5})
	Move(d, a, pdf.Matrix{-1, 0, 0, 1, 200, 0})
	r, ok := d.Rect(a.Get("Rect"))
	require.True(t, ok)
	assert.Equal(t, pdf.Rect{X0: 150, Y0: 10, X1: 190, Y1: 30}, r)
	assert.Equal(t, "[1 2 3 4]", string(pdf.AppendObject(nil, a.Get("RD"))))
}

// What lies wholly outside a frame goes with its note; what touches it, and a note of one that stays, stays.
func TestCutOutside(t *testing.T) {
	d, p := two(t, "5 0 R 6 0 R 7 0 R 8 0 R 9 0 R<</Subtype/Text/Rect[150 150 160 160]>>", "",
		"<</Subtype/Text/Rect[150 10 160 20]/StructParent 1>>", "<</Subtype/Popup/Parent 5 0 R/Rect[10 10 90 90]/StructParent 4>>",
		"<</Subtype/Text/Rect[90 90 150 150]>>", "<</Subtype/Popup/Parent 7 0 R/Rect[150 150 190 190]>>", "<</Subtype/Text>>")
	gone := CutOutside(d, p[0], pdf.Rect{X0: 0, Y0: 0, X1: 100, Y1: 100})
	assert.Equal(t, []Removed{{pdf.Ref{Num: 5}, 1}, {pdf.Ref{}, -1}, {pdf.Ref{Num: 6}, 4}}, gone)
	assert.Equal(t, []int{7, 8, 9}, nums(Refs(d, p[0])), "one without a rectangle is nowhere, and stays")
	assert.Empty(t, CutOutside(d, p[0], pdf.Rect{X0: 0, Y0: 0, X1: 100, Y1: 100}))
}
