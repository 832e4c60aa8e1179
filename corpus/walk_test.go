package main

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// papersOf is a file with one of everything that a walk holds.
func papersOf() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/PageLabels<</Nums[0<</S/r>>]>>/Outlines 10 0 R/AcroForm<</Fields[14 0 R]/DA(/F 9 Tf 0 g)/DR<</Font<</F 9 0 R>>>>>>" +
		"/OCProperties<</OCGs[16 0 R]/D<<>>>>/StructTreeRoot 17 0 R/MarkInfo<</Marked true>>/Names<</EmbeddedFiles<</Names[(levels) 20 0 R]>>>>/PageLayout/SinglePage>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R]/Count 3/MediaBox[0 0 300 300]/Resources<</Font<</F 9 0 R>>/Properties<</L 16 0 R>>>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 6 0 R/StructParents 0/Annots[13 0 R 14 0 R]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 7 0 R/StructParents 1>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 8 0 R>>")
	for i, s := range []string{"Harbour", "Dredging", "Winterberths"} {
		f.Add("%s", pdftest.Stream("", fmt.Sprintf("/P <</MCID 0>> BDC BT /F 20 Tf 30 %d Td (%s) Tj ET EMC /P <</MCID 1>> BDC EMC", 200-i, s)))
	}
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>") // 9
	f.Add("<</First 11 0 R/Last 12 0 R/Count 2>>")
	f.Add("<</Title(Harbour office)/Parent 10 0 R/Next 12 0 R/Dest[3 0 R/Fit]>>")
	f.Add("<</Title(Tides)/Parent 10 0 R/Prev 11 0 R/A<</S/URI/URI(https://tides.example/)>>>>")
	f.Add("<</Type/Annot/Subtype/Link/Rect[0 0 9 9]/Dest[4 0 R/Fit]>>")
	f.Add("<</Type/Annot/Subtype/Widget/FT/Tx/T(ship)/V(Low water)/Rect[20 20 90 40]/AP<</N 15 0 R>>>>")
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 70 20]", "0 0 9 9 re f")) // 15
	f.Add("<</Type/OCG/Name(Depths)>>")
	f.Add("<</Type/StructTreeRoot/K[18 0 R 19 0 R]/ParentTree<</Nums[0[18 0 R 18 0 R]1[19 0 R]]>>>>")
	f.Add("<</S/P/P 17 0 R/Pg 3 0 R/K[0 1]>>")
	f.Add("<</S/P/P 17 0 R/Pg 4 0 R/K 0>>")
	f.Add("<</Type/Filespec/F(levels)/EF<</F 21 0 R>>>>") // 20
	f.Add("%s", pdftest.Stream("/Type/EmbeddedFile", "4.1"))
	return f.Bytes()
}

// held holds an exported file against the one it was, pages by their numbers as they were.
func held(t *testing.T, before, out []byte, final func(*pdf.Document)) []string {
	dir := t.TempDir()
	base, is := filepath.Join(dir, "was.pdf"), filepath.Join(dir, "is.pdf")
	require.NoError(t, os.WriteFile(base, before, 0o600))
	require.NoError(t, os.WriteFile(is, out, 0o600))
	doc := pdftest.Open(t, before)
	end := doc.Fork()
	if final != nil {
		final(end)
	}
	w := &walked{paper: &paper{path: base}, rng: rand.New(rand.NewPCG(1, 2)), base: base, doc: doc, named: map[pdf.Ref]bool{}, from: map[pdf.Ref]origin{}}
	w.hold(end, is)
	return w.misses
}

func handedOut(t *testing.T, data []byte, change func(*pdf.Document)) []byte {
	d := pdftest.Open(t, data).Fork()
	if change != nil {
		change(d)
	}
	var b bytes.Buffer
	require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{}))
	return b.Bytes()
}

// What is as it was is held without a miss, and each thing that is not is one.
func TestHold(t *testing.T) {
	data := papersOf()
	pdftest.Check(t, data)
	assert.Empty(t, held(t, data, handedOut(t, data, nil), nil))
	ref := func(n int) pdf.Ref { return pdf.Ref{Num: n} }
	for what, c := range map[string]struct {
		change func(d *pdf.Document)
		miss   string
	}{
		"a label":       {func(d *pdf.Document) { d.Edit(d.Root()).Delete("PageLabels") }, "label"},
		"text":          {func(d *pdf.Document) { d.Set(ref(8), pdf.NewStream(nil, []byte("BT /F 20 Tf 30 198 Td (Else) Tj ET"))) }, "text differs"},
		"pixels":        {func(d *pdf.Document) { d.Edit(ref(9)).Set("BaseFont", pdf.Name("Courier")) }, "pixels by"},
		"a box":         {func(d *pdf.Document) { d.Edit(ref(4)).Set("MediaBox", pdf.Rect{X1: 200, Y1: 200}.Array()) }, "MediaBox"},
		"a rotation":    {func(d *pdf.Document) { d.Edit(ref(4)).Set("Rotate", pdf.Integer(90)) }, "Rotate is new"},
		"a link":        {func(d *pdf.Document) { d.Edit(ref(13)).Set("Dest", pdf.Array{ref(5), pdf.Name("Fit")}) }, "should lead to page 2"},
		"an annotation": {func(d *pdf.Document) { d.Edit(ref(3)).Set("Annots", pdf.Array{ref(14)}) }, "annotations"},
		"a value":       {func(d *pdf.Document) { d.Edit(ref(14)).Set("V", pdf.String("High water")) }, "field"},
		"a default":     {func(d *pdf.Document) { d.Edit(ref(14)).Set("DA", pdf.String("/F 14 Tf 0 g")) }, "field"},
		"an appearance": {func(d *pdf.Document) { d.Set(ref(15), pdf.NewStream(pdf.NewDict(), []byte("1 0 0 rg 0 0 9 9 re f"))) }, "AP"},
		"the form": {func(d *pdf.Document) {
			d.Dict(d.Edit(d.Root()).Get("AcroForm")).Set("NeedAppearances", pdf.Boolean(true))
		}, "NeedAppearances"},
		"a layer": {func(d *pdf.Document) {
			d.Dict(d.Dict(d.Edit(d.Root()).Get("OCProperties")).Get("D")).Set("OFF", pdf.Array{ref(16)})
		}, "layers"},
		"tags":              {func(d *pdf.Document) { d.Edit(ref(18)).Set("K", pdf.Array{pdf.Integer(1), pdf.Integer(0)}) }, "tags"},
		"the order of tags": {func(d *pdf.Document) { d.Edit(ref(17)).Set("K", pdf.Array{ref(19), ref(18)}) }, "tags come to page 2 before page 1"},
		"a bookmark":        {func(d *pdf.Document) { d.Edit(ref(12)).Delete("A") }, "bookmark"},
		"a colour of one":   {func(d *pdf.Document) { d.Edit(ref(12)).Set("F", pdf.Integer(2)) }, "bookmark"},
		"an attached file":  {func(d *pdf.Document) { d.Edit(d.Root()).Delete("Names") }, "EmbeddedFiles"},
		"the catalog":       {func(d *pdf.Document) { d.Edit(d.Root()).Set("PageLayout", pdf.Name("OneColumn")) }, "PageLayout"},
		"a new entry":       {func(d *pdf.Document) { d.Edit(d.Root()).Set("Lang", pdf.String("en")) }, "Lang is new"},
	} {
		misses := strings.Join(held(t, data, handedOut(t, data, c.change), nil), "; ")
		assert.True(t, strings.Contains(misses, c.miss), "%s: %s", what, misses)
	}
}

// What a removed page alone said is found where it is left.
func TestHoldRemoved(t *testing.T) {
	data := papersOf()
	remove := func(d *pdf.Document) { require.NoError(t, d.RemovePages([]pdf.Ref{{Num: 5}})) }
	assert.Empty(t, held(t, data, handedOut(t, data, remove), remove))
	left := handedOut(t, data, func(d *pdf.Document) {
		remove(d)
		d.Edit(pdf.Ref{Num: 14}).Set("TU", pdf.String("of the Winterberths"))
	})
	assert.Contains(t, strings.Join(held(t, data, left, remove), "; "), "Winterberths")
}

// A walk over made files goes through all kinds of steps without a miss.
func TestWalk(t *testing.T) {
	dir := t.TempDir()
	var papers []*paper
	for name, data := range map[string][]byte{"one.pdf": papersOf(), "two.pdf": pdftest.Text(12)} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		papers = append(papers, &paper{group: "made", path: path})
	}
	require.NoError(t, walks(papers, 1, ""))
	for _, p := range papers {
		assert.Empty(t, p.refused)
		assert.Empty(t, p.misses, strings.Join(p.steps, "\n"))
		assert.Greater(t, len(p.steps), walkSteps/2)
	}
	assert.Contains(t, string(reportWalk(dir, papers)), "2 files")
	doc := filepath.Join(dir, "doc.md")
	require.NoError(t, os.WriteFile(doc, []byte("# Head\n"), 0o600))
	require.NoError(t, put(doc, "a", []byte("first\n")))
	require.NoError(t, put(doc, "b", []byte("second\n")))
	require.NoError(t, put(doc, "a", []byte("third\n")))
	got, err := os.ReadFile(doc)
	require.NoError(t, err)
	assert.Equal(t, "# Head\n\n<!-- a -->\nthird\n<!-- end of a -->\n\n<!-- b -->\nsecond\n<!-- end of b -->\n", string(got))
}
