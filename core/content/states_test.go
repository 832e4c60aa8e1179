package content_test

import (
	"fmt"
	"image"
	"image/png"
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

// tile is an uncoloured or coloured tiling pattern whose cell shows a word.
func tile(paint int, word string) string {
	return pdftest.Stream(fmt.Sprintf("/Type/Pattern/PatternType 1/PaintType %d/TilingType 1/BBox[0 0 40 20]/XStep 40/YStep 20/Resources<</Font<</F 5 0 R>>>>", paint), "BT /F 12 Tf 2 4 Td ("+word+") Tj ET")
}

// A pattern is changed for one path that it paints: a new pattern under a new name, and the colour as it was behind that path.
func TestApplyToPattern(t *testing.T) {
	doc, ref := page(t, "/Pattern cs /P scn 0 0 200 100 re f 0 200 m 200 200 l 200 300 l h f 0.5 0 0 rg 300 0 50 50 re f\n"+
		"/U cs 0 0 1 /Q scn 0 400 200 100 re f 0 600 200 100 re f /Pattern CS /P SCN 30 w 300 400 m 500 400 l S",
		"/Pattern<</P 6 0 R/Q 7 0 R>>/ColorSpace<</U[/Pattern/DeviceRGB]>>", tile(1, "berth"), tile(2, "quay"))
	p := read(t, doc, ref, content.Options{Deep: true, Paths: true})
	words := func(p *content.Page) (out []string) {
		for i, v := range p.Invocations {
			if v.Kind != content.PatternBody {
				continue
			}
			var b strings.Builder
			for _, s := range p.Shows {
				if s.Invocation == i {
					for _, g := range p.Glyphs[s.First : s.First+s.N] {
						b.WriteString(g.Char.Text)
					}
				}
			}
			out = append(out, b.String())
		}
		return
	}
	require.Equal(t, []string{"berth", "berth", "quay", "quay", "berth"}, words(p))
	require.Len(t, p.Paths, 6, "paths are whole though patterns run between them")
	var first []int // the first letter in the second, third and last drawing
	for i, v := range p.Invocations {
		for _, s := range p.Shows {
			if s.Invocation == i && v.Kind == content.PatternBody && (i == 2 || i == 3 || v.Stroke) {
				first = append(first, s.First)
			}
		}
	}
	require.Len(t, first, 3)
	fork := doc.Fork()
	require.NoError(t, content.Apply(fork, p, content.TakeOut(p, first)))
	after := read(t, fork, ref, content.Options{Deep: true, Paths: true})
	assert.Equal(t, []string{"berth", "erth", "uay", "quay", "erth"}, words(after))
	require.Len(t, after.Paths, 6)
	for i := range p.Paths {
		assert.Equal(t, p.Paths[i].Bounds, after.Paths[i].Bounds)
	}
	assert.Equal(t, [4]float64{0, 0, 1}, after.Paths[4].State.Fill.Values, "the colour of an uncoloured pattern stays")
	// As poppler draws it, what was not changed is the same to the pixel, and what was changed is not.
	was, is := picture(t, pdftest.Whole(t, doc)), picture(t, pdftest.Whole(t, fork))
	for _, part := range []struct {
		what  string
		area  image.Rectangle // from the top, a pixel a point
		equal bool
	}{
		{"the first", image.Rect(0, 700, 200, 800), true}, {"the second", image.Rect(0, 500, 200, 600), false}, {"plain", image.Rect(300, 750, 350, 800), true},
		{"uncoloured", image.Rect(0, 300, 200, 400), false}, {"the next", image.Rect(0, 100, 200, 200), true}, {"stroked", image.Rect(300, 380, 500, 420), false},
	} {
		same := true
		for y := part.area.Min.Y; y < part.area.Max.Y; y++ {
			for x := part.area.Min.X; x < part.area.Max.X; x++ {
				same = same && was.At(x, y) == is.At(x, y)
			}
		}
		assert.Equal(t, part.equal, same, part.what)
	}
}

// picture is the page as poppler draws it, a pixel a point.
func picture(t *testing.T, file []byte) image.Image {
	t.Helper()
	img, err := png.Decode(strings.NewReader(pdftest.Tool(t, file, "pdftoppm", "-r", "72", "-png", "FILE")))
	require.NoError(t, err)
	return img
}

// A path that goes and the pattern that it was painted with may both be patched.
func TestApplyToPatternAndPath(t *testing.T) {
	doc, ref := page(t, "/Pattern cs /P scn 0 0 200 100 re f 0 200 200 100 re f", "/Pattern<</P 6 0 R>>", tile(1, "berth"))
	p := read(t, doc, ref, content.Options{Deep: true, Paths: true})
	patches := content.TakeOut(p, []int{0})
	patches = append(patches, content.Patch{Start: p.Paths[0].Start, End: p.Paths[0].End})
	require.NoError(t, content.Apply(doc, p, patches))
	after := read(t, doc, ref, content.Options{Deep: true, Paths: true})
	require.Len(t, after.Paths, 1)
	assert.Len(t, after.Glyphs, 5)
}

// A pattern that was changed wherever it paints is not in the file any more; one that text is shown with is.
func TestApplyToWholePattern(t *testing.T) {
	for more, stays := range map[string]bool{"": false, " BT /F 9 Tf (a) Tj ET": true} {
		doc, ref := page(t, "/Pattern cs /P scn 0 0 200 100 re f 0 200 200 100 re f"+more+" 0 g 0 400 9 9 re f", "/Pattern<</P 6 0 R>>", tile(1, "berth"))
		p := read(t, doc, ref, content.Options{Deep: true, Paths: true})
		var patterns []int
		for i, g := range p.Glyphs {
			if g.Char.Text == "b" {
				patterns = append(patterns, i)
			}
		}
		require.Len(t, patterns, 2)
		require.NoError(t, content.Apply(doc, p, content.TakeOut(p, patterns)))
		assert.Equal(t, stays, doc.Dict(doc.Dict(doc.Page(ref).Get("Resources")).Get("Pattern")).Has("P"), more)
		plain := pdftest.Tool(t, pdftest.Whole(t, doc), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
		assert.Equal(t, stays, strings.Contains(plain, "berth"), more)
		after := read(t, doc, ref, content.Options{Deep: true, Paths: true})
		assert.Len(t, after.Paths, 3)
	}
}

// The glyph of a Type 3 font can't be changed for one drawing: it is refused, and nothing is changed.
func TestApplyRefuses(t *testing.T) {
	doc, ref := page(t, "BT /T 10 Tf (a) Tj ET", "",
		"<</Type/Font/Subtype/Type3/FontBBox[0 0 100 100]/FontMatrix[.01 0 0 .01 0 0]/FirstChar 97/LastChar 97/Widths[80]/Encoding<</Differences[97/a]>>/CharProcs<</a 7 0 R>>/Resources<</Font<</F 5 0 R>>>>>>",
		pdftest.Stream("", "80 0 d0 BT /F 50 Tf (x) Tj ET"))
	doc.Edit(ref).Set("Resources", pdf.NewDict("Font", pdf.NewDict("T", pdf.Ref{Num: 6})))
	p := read(t, doc, ref, content.Options{Deep: true})
	require.Len(t, p.Glyphs, 2)
	assert.ErrorContains(t, content.Apply(doc.Fork(), p, content.TakeOut(p, []int{1})), "can't be changed for one drawing alone")
}
