package recognize_test

import (
	"image"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
	"glenrain/core/recognize"
	"glenrain/core/scan"
	"glenrain/core/step"
	"glenrain/standin/paper"
)

func straight() *recognize.Straighten {
	return &recognize.Straighten{Pages: step.Pages{Rule: "all"}, Straight: true, Edges: true, Light: true}
}

func setText(keep string) *recognize.SetText {
	return &recognize.SetText{Pages: step.Pages{Rule: "all"}, Straight: true, Keep: keep}
}

// shown gives the picture that a page shows, and the way from its pixels to the page.
func (b *bench) shown(at int) (*image.Gray, pdf.Matrix) {
	b.t.Helper()
	ref := pdftest.Refs(b.t, b.doc)[at]
	p, err := content.NewReader(b.doc).Page(b.t.Context(), ref, content.Options{Images: true})
	require.NoError(b.t, err)
	require.Len(b.t, p.Images, 1)
	g, err := picture.Gray(b.doc, p.Images[0].Ref)
	require.NoError(b.t, err)
	return g, pdf.Matrix{1 / float64(g.Rect.Dx()), 0, 0, -1 / float64(g.Rect.Dy()), 0, 1}.Mul(p.Images[0].Matrix)
}

// places gives where the words of a page's layer begin.
func (b *bench) places(at int) (words []string, x, y []float64) {
	u, _, ok := recognize.Layer(b.doc, pdftest.Refs(b.t, b.doc)[at])
	require.True(b.t, ok)
	for _, l := range u.Lines {
		for _, w := range l.Words {
			words, x, y = append(words, w.Text), append(x, w.X), append(y, w.Y)
		}
	}
	return words, x, y
}

// A sheet that lies askew, in shade and with the shadow of a lid comes out straight and clean; its text stays on its letters.
func TestStraighten(t *testing.T) {
	page := drawnGray(t, typed(texts...), 150)
	b := newBench(t, scanned(t, "", paper.Scan(page, paper.Sheet{Askew: 2.2, Lid: 3, Shade: 0.3}), page))
	b.run(all("eng"))
	res := b.run(straight())
	assert.Regexp(t, `^Page 1 straightened by 2\.[12] degrees, dark edges removed, lighting evened out$`, res.Sentence)
	assert.Equal(t, []string{"Page 2 left: nothing needs to be done."}, res.Warnings)
	g, _ := b.shown(0)
	deg, sure := scan.Shrink(g).Skew(8)
	assert.True(t, sure)
	assert.InDelta(t, 0, deg, 0.15)
	for _, at := range []int{4, g.Stride / 2, g.Stride - 5} {
		assert.Greater(t, g.Pix[5*g.Stride+at], uint8(200), "the edge is as light as the paper")
	}
	words, x, y := b.places(0)
	b.run(&recognize.Recognize{Pages: step.Pages{Rule: "1"}, Languages: "eng", Again: true})
	again, ax, ay := b.places(0)
	require.Equal(t, words, again)
	for i := range words {
		assert.InDelta(t, ax[i], x[i], 1.5, words[i])
		assert.InDelta(t, ay[i], y[i], 1.5, words[i])
	}
	_, err := b.try(straight())
	assert.ErrorContains(t, err, "nothing needs to be done to these pages")
	file := pdftest.Whole(t, b.doc)
	pdftest.Check(t, file)

	text := newBench(t, pdftest.Text(2))
	_, err = text.try(straight())
	assert.EqualError(t, err, "Pages 1 and 2 left: not a scan")
	_, err = text.try(&recognize.Straighten{Pages: step.Pages{Rule: "all"}})
	assert.EqualError(t, err, "choose at least one change to the pages")
}

// Recognized text becomes real text where it stood, in a face like its own; nothing of it is left in the picture. A block that is kept stays as it was.
func TestSetText(t *testing.T) {
	page := drawnGray(t, typed(texts...), 200)
	b := newBench(t, scanned(t, "", paper.Scan(page, paper.Sheet{Askew: 1})))
	_, err := b.try(setText(""))
	assert.EqualError(t, err, "Page 1 left: no text was recognized here")
	b.run(all("eng"))
	want := read(t, pdftest.Whole(t, b.doc))
	res := b.run(setText(""))
	assert.Equal(t, "Page 1 changed to editable text", res.Sentence)
	file := pdftest.Whole(t, b.doc)
	pdftest.Check(t, file)
	assert.Equal(t, want, read(t, file))
	assert.Contains(t, pdftest.Tool(t, file, "pdffonts", "FILE"), "LiberationSans")
	_, _, layered := recognize.Layer(b.doc, pdftest.Refs(t, b.doc)[0])
	assert.False(t, layered, "no invisible text is left")
	g, _ := b.shown(0)
	dark := 0
	for _, v := range g.Pix {
		if v < 150 {
			dark++
		}
	}
	assert.Less(t, dark, 20, "letters are left in the picture")
	// As drawn it looks as the straight page did: the ink is where it was, but for a shift of a pixel or two.
	now := drawnGray(t, file, 200)
	inked := func(g *image.Gray) (out []float64) { // in bands of the page
		out = make([]float64, 100)
		for y := range g.Rect.Dy() {
			for _, v := range g.Pix[y*g.Stride:][:g.Rect.Dx()] {
				out[y*100/g.Rect.Dy()] += float64(255-v) / 255
			}
		}
		return out
	}
	was, is := inked(page), inked(now)
	sumWas, sumIs := 0.0, 0.0
	for i := range was {
		sumWas, sumIs = sumWas+was[i], sumIs+is[i]
	}
	assert.InDelta(t, 1, sumIs/sumWas, 0.15, "as much ink as there was")
	for i := range was {
		if was[i] > 200 {
			assert.Greater(t, is[i]+is[max(0, i-1)]+is[min(99, i+1)], 0.6*was[i], "band %d", i)
		}
	}
}

// Blocks and pages that are kept stay pictures.
func TestSetTextKeeps(t *testing.T) {
	lines := append([]string{"Soundings", "", "", ""}, texts...)
	page := drawnGray(t, typed(lines...), 200)
	b := newBench(t, scanned(t, "", page, page))
	b.run(all("eng"))
	refs := pdftest.Refs(t, b.doc)
	list, err := recognize.Blocks(t.Context(), b.doc, refs[0])
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "Soundings", list[0].Text)
	assert.Equal(t, strings.Join(texts, " "), list[1].Text)
	before, toPage := b.shown(0)
	first, second := b.keys.Key(refs[0]).String(), b.keys.Key(refs[1]).String()
	res := b.run(setText(first + ":0 " + second))
	assert.Equal(t, "Page 1 changed to editable text, but for 1 block", res.Sentence)
	after, _ := b.shown(0)
	box := toPage.Invert().Bounds(list[0].Box)
	same := 0
	for y := int(box.Y0); y < int(box.Y1); y++ {
		for x := int(box.X0); x < int(box.X1); x++ {
			if math.Abs(float64(before.Pix[y*before.Stride+x])-float64(after.Pix[y*after.Stride+x])) < 2 {
				same++
			}
		}
	}
	assert.Equal(t, (int(box.Y1)-int(box.Y0))*(int(box.X1)-int(box.X0)), same, "the block that is kept is as it was")
	u, _, ok := recognize.Layer(b.doc, refs[0])
	require.True(t, ok)
	assert.Equal(t, 1, u.Words())
	u, _, ok = recognize.Layer(b.doc, refs[1])
	require.True(t, ok)
	assert.Greater(t, u.Words(), 30, "the other page stays a picture")
	_, err = b.try(setText(first + " " + second))
	assert.EqualError(t, err, "all pages stay pictures")
	_, err = b.try(setText("nonsense"))
	assert.EqualError(t, err, `there is no page "nonsense"`)
}

// Words in bold and in a face with serifs are set so; colours stay.
func TestSetTextFaces(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</B 5 0 R/S 6 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", "BT /B 18 Tf 60 700 Td (Winter berths of the harbour) Tj /S 13 Tf 0 -60 Td 0.7 0.1 0.1 rg (Vessels that lie here pay for the whole season.) Tj ET"))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica-Bold>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Times-Roman>>")
	typed := f.Bytes()
	doc := pdf.New()
	jpeg := pdftest.Tool(t, typed, "pdftoppm", "-r", "200", "-jpeg", "-jpegopt", "quality=92", "FILE")
	p, err := picture.Decode([]byte(jpeg))
	require.NoError(t, err)
	x, err := p.XObject(doc)
	require.NoError(t, err)
	page := doc.Add(pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(595), pdf.Integer(842)},
		"Contents", doc.Add(pdf.NewStream(nil, []byte("q 595 0 0 842 0 0 cm /I Do Q"))), "Resources", pdf.NewDict("XObject", pdf.NewDict("I", x))))
	require.NoError(t, doc.InsertPages(0, []pdf.Ref{page}))
	b := newBench(t, pdftest.Whole(t, doc))
	b.run(all("eng"))
	b.run(setText(""))
	file := pdftest.Whole(t, b.doc)
	fonts := pdftest.Tool(t, file, "pdffonts", "FILE")
	assert.Contains(t, fonts, "LiberationSans-Bold")
	assert.Contains(t, fonts, "LiberationSerif ")
	assert.Contains(t, pdftest.Tool(t, file, "pdfimages", "-list", "FILE"), "jpeg")
	c, err := content.NewReader(b.doc).Page(t.Context(), pdftest.Refs(t, b.doc)[0], content.Options{})
	require.NoError(t, err)
	red := 0
	for _, s := range c.Shows {
		if v := s.State.Fill.Values; v[0] > 0.55 && v[1] < 0.35 && v[2] < 0.35 {
			red++
		}
	}
	assert.Positive(t, red, "red words are red")
}

// A layer lies on its letters; one that was moved does not.
func TestOnInk(t *testing.T) {
	page := drawnGray(t, typed(texts...), 150)
	b := newBench(t, scanned(t, "", page))
	ref := pdftest.Refs(t, b.doc)[0]
	_, ok := recognize.OnInk(t.Context(), b.doc, ref)
	assert.False(t, ok, "there are no words")
	b.run(all("eng"))
	on, ok := recognize.OnInk(t.Context(), b.doc, ref)
	require.True(t, ok)
	assert.Greater(t, on, 95)
	assert.False(t, recognize.Misplaced(on))
	u, _, ok := recognize.Layer(b.doc, ref)
	require.True(t, ok)
	for i := range u.Lines {
		for k := range u.Lines[i].Words {
			u.Lines[i].Words[k].Y -= 200
		}
	}
	require.NoError(t, draw.PutInvisible(b.doc, ref, u))
	on, ok = recognize.OnInk(t.Context(), b.doc, ref)
	require.True(t, ok)
	assert.True(t, recognize.Misplaced(on), on)
}
