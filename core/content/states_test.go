package content_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/content"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// A graphics state dictionary may set font and line width (8.4.5, table 57); q and Q keep and restore them.
func TestStateDictionaries(t *testing.T) {
	doc, ref := page(t, "q /G gs BT (a) Tj ET 0 0 m 9 9 l S Q BT /F 7 Tf (b) Tj ET 0 0 m 9 9 l S /Missing gs BT (c) Tj ET",
		"/ExtGState<</G<</Type/ExtGState/Font[5 0 R 12]/LW 4>>>>")
	p := read(t, doc, ref, content.Options{Paths: true})
	require.Len(t, p.Shows, 3)
	assert.Equal(t, []float64{12, 7, 7}, []float64{p.Shows[0].State.Size, p.Shows[1].State.Size, p.Shows[2].State.Size})
	assert.Equal(t, "Helvetica", p.Shows[0].State.Font.Name)
	assert.Equal(t, pdf.Name("F"), p.Shows[1].State.FontName)
	require.Len(t, p.Paths, 2)
	assert.Equal(t, []float64{4, 1}, []float64{p.Paths[0].State.LineWidth, p.Paths[1].State.LineWidth})
}

// Colours by operator (8.6): each sets its space and values for filling or for stroking.
func TestColours(t *testing.T) {
	doc, ref := page(t, "0.25 g 0.5 G 0 0 1 1 re B .1 .2 .3 rg .4 .5 .6 RG 0 0 1 1 re B .1 .2 .3 .4 k .5 .6 .7 .8 K 0 0 1 1 re B "+
		"/DeviceRGB cs 1 0 1 sc /DeviceGray CS .75 SC 0 0 1 1 re B /S cs .9 scn 0 0 1 1 re B", "/ColorSpace<</S[/Separation/Buoy/DeviceCMYK 6 0 R]>>",
		"<</FunctionType 2/N 1/Domain[0 1]/C0[0 0 0 0]/C1[0 1 1 0]>>")
	p := read(t, doc, ref, content.Options{Paths: true})
	require.Len(t, p.Paths, 5)
	for i, want := range [][2][4]float64{
		{{.25}, {.5}},
		{{.1, .2, .3}, {.4, .5, .6}},
		{{.1, .2, .3, .4}, {.5, .6, .7, .8}},
		{{1, 0, 1}, {.75}},
		{{.9}, {.75}},
	} {
		assert.Equal(t, want[0], p.Paths[i].State.Fill.Values, i)
		assert.Equal(t, want[1], p.Paths[i].State.Stroke.Values, i)
		assert.True(t, p.Paths[i].Fills() && p.Paths[i].Strokes(), i)
	}
}

// Names keep their escapes undone, and are written with them where they need it (7.3.5).
func TestNamesInContent(t *testing.T) {
	doc, ref := page(t, "BT /My#20F 9 Tf (a) Tj ET", "")
	doc.Edit(ref).Set("Resources", pdf.NewDict("Font", pdf.NewDict("My F", pdf.Ref{Num: 5})))
	p := read(t, doc, ref, content.Options{})
	require.Len(t, p.Shows, 1)
	assert.Equal(t, pdf.Name("My F"), p.Shows[0].State.FontName)
	assert.Equal(t, []string{"/My#20F 9 Tf", "/A#2FB gs", "/#23zz gs"}, ops(t, "/My#20F 9 Tf /A#2FB gs /#zz gs"))
	assert.True(t, content.Names([]byte("/My#20F 9 Tf"))["Font"]["My F"])
}

// The appearance of an annotation is changed for that annotation alone, in the state that it shows.
func TestApplyToAppearance(t *testing.T) {
	ap := pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 60 10]/Resources<</Font<</F 5 0 R>>>>", "BT /F 9 Tf (berth) Tj ET")
	doc, ref := page(t, "", "", ap, "<</Type/Annot/Subtype/Stamp/Rect[0 0 60 10]/AP<</N 6 0 R>>>>",
		"<</Type/Annot/Subtype/Widget/AS/On/Rect[0 50 60 60]/AP<</N<</On 6 0 R/Off 6 0 R>>/D 6 0 R>>>>")
	doc.Edit(ref).Set("Annots", pdf.Array{pdf.Ref{Num: 7}, pdf.Ref{Num: 8}})
	text := func(d *pdf.Document) string {
		var b strings.Builder
		for _, g := range read(t, d, ref, content.Options{}).Glyphs {
			b.WriteString(g.Char.Text)
		}
		return b.String()
	}
	p := read(t, doc, ref, content.Options{})
	require.Equal(t, "berthberth", text(doc))
	first := doc.Fork()
	require.NoError(t, content.Apply(first, p, content.TakeOut(p, []int{0})))
	assert.Equal(t, "erthberth", text(first))
	second := doc.Fork()
	require.NoError(t, content.Apply(second, p, content.TakeOut(p, []int{9})))
	assert.Equal(t, "berthbert", text(second))
	states := second.Dict(second.Dict(second.Dict(pdf.Ref{Num: 8}).Get("AP")).Get("N"))
	assert.Equal(t, pdf.Ref{Num: 6}, states.Get("Off"), "the state that is not shown stays")
	assert.NotEqual(t, pdf.Ref{Num: 6}, states.Get("On"))
	pdftest.Check(t, pdftest.Whole(t, second))
}

// What hangs in a pattern or in the glyph of a Type 3 font can't be changed for one drawing: it is refused, and
// nothing is changed.
func TestApplyRefuses(t *testing.T) {
	doc, ref := page(t, "/Pattern cs /P scn 0 0 100 100 re f", "/Pattern<</P 6 0 R>>",
		pdftest.Stream("/PatternType 1/PaintType 1/TilingType 1/BBox[0 0 20 20]/XStep 20/YStep 20/Resources<</Font<</F 5 0 R>>>>", "BT /F 5 Tf (p) Tj ET"))
	p := read(t, doc, ref, content.Options{Deep: true})
	require.Len(t, p.Glyphs, 1)
	assert.ErrorContains(t, content.Apply(doc.Fork(), p, content.TakeOut(p, []int{0})), "can't be changed for one drawing alone")
}
