package content_test

import (
	"bytes"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/content"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// ops cuts a stream and gives the operators as text.
func ops(t testing.TB, data string) (out []string) {
	t.Helper()
	s := content.Scanner{Data: []byte(data)}
	var o content.Op
	for s.Next(&o) {
		out = append(out, string(o.Append(nil, s.Data)))
	}
	return out
}

func TestScanner(t *testing.T) {
	for data, want := range map[string][]string{
		"1 0 0 1 72.5 -3 cm":                {"1 0 0 1 72.5 -3 cm"},
		"q\n/F1 12 Tf(a\\(b\\)\\063)Tj Q":   {"q", "/F1 12 Tf", "(a\\(b\\)3) Tj", "Q"},
		"[(A)-120.5<4243>]TJ":               {"[(A) -120.5 (BC)] TJ"},
		"0.5g 1 .25 0 rg":                   {"0.5 g", "1 0.25 0 rg"},
		"--5 1.2.3 12-34 m":                 {"-5 1.2 12 m"},
		"/P <</MCID 3/A[1 2]>> BDC EMC":     {"/P <</MCID 3/A[1 2]>> BDC", "EMC"},
		"% a comment ( with a bracket\n1 w": {"1 w"},
		"[(never closed) 3 Tj ET":           {"[(never closed) 3] Tj", "ET"},
		"(never closed":                     nil,
		"] > } 1 w":                         {"1 w"},
		"BX unknown EX true false null d0x": {"BX", "unknown", "EX", "true false null d0x"},
		"<48 6 9 7>Tj":                      {"(Hip) Tj"},
		"0.000001 123456789012345678901 l":  {"0.000001 123456789012345680000 l"},
	} {
		assert.Equal(t, want, ops(t, data), data)
	}
}

// An inline image ends where its length says, or where EI stands among text: not at an EI in its data.
func TestInlineImages(t *testing.T) {
	s := content.Scanner{Data: []byte("BI /W 4 /H 2 /BPC 8 /CS /G ID ab EI cd EI Q")}
	var o content.Op
	require.True(t, s.Next(&o))
	require.NotNil(t, o.Image)
	assert.Equal(t, "ab EI cd", string(s.Data[o.Image.Start:o.Image.End]))
	require.True(t, s.Next(&o))
	assert.Equal(t, "Q", o.Code.String())
	s = content.Scanner{Data: []byte("BI /W 4 /H 2 /F /Fl ID x EI\x01\x80 y EI\nQ")}
	require.True(t, s.Next(&o))
	assert.Equal(t, "x EI\x01\x80 y", string(s.Data[o.Image.Start:o.Image.End]))
	for _, cut := range []string{"BI", "BI /W", "BI /W 3 ID", "BI ID EI", "BI /W 10 /H 10 /BPC 8 ID abc"} {
		s := content.Scanner{Data: []byte(cut)}
		for s.Next(&o) {
		}
	}
}

// page makes a document of one page with a content stream and resources besides a Helvetica named F.
func page(t testing.TB, stream, resources string, more ...string) (*pdf.Document, pdf.Ref) {
	t.Helper()
	var f pdftest.File
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Count 1/Kids[3 0 R]>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 600 800]/Contents 4 0 R/Resources<</Font<</F 5 0 R>>%s>>>>", resources)
	f.Add("%s", pdftest.Stream("", stream))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	for _, m := range more {
		f.Add("%s", m)
	}
	doc := pdftest.Open(t, f.Bytes())
	return doc, pdftest.Refs(t, doc)[0]
}

func read(t testing.TB, doc *pdf.Document, ref pdf.Ref, opt content.Options) *content.Page {
	t.Helper()
	p, err := content.NewReader(doc).Page(t.Context(), ref, opt)
	require.NoError(t, err)
	return p
}

// The worked formula of 9.4.4: tx = ((w0 - Tj/1000) Tfs + Tc + Tw) Th. Helvetica's A is 667, space 278, B 667 wide.
func TestGlyphPlaces(t *testing.T) {
	doc, ref := page(t, "BT /F 10 Tf 2 Tc 5 Tw 50 Tz 3 Ts 1 0 0 1 100 200 Tm [(A)-100(B A)]TJ ET", "")
	p := read(t, doc, ref, content.Options{})
	require.Len(t, p.Glyphs, 4)
	want := []float64{100, 100 + (6.67+2)*.5 + 1*.5, 0, 0}
	want[2] = want[1] + (6.67+2)*.5
	want[3] = want[2] + (2.78+2+5)*.5
	for i, g := range p.Glyphs {
		assert.InDelta(t, want[i], g.X, 1e-9)
		assert.InDelta(t, 203, g.Y, 1e-9)
		assert.InDelta(t, g.X+g.Char.Width*10*.5, g.EX, 1e-9)
	}
	assert.Equal(t, [2]float64{1, 0}, p.Shows[0].Along)
	assert.InDelta(t, want[3]+(6.67+2)*.5, p.Shows[0].After[4], 1e-9)
}

// The operators of lines, and a text matrix that turns: 9.4.2.
func TestTextLines(t *testing.T) {
	doc, ref := page(t, "1 0 0 1 10 20 cm BT /F 10 Tf 14 TL 0 1 -1 0 50 60 Tm (A)Tj T* (B)Tj 5 7 Td (C)Tj 1 -9 TD (D)Tj T* (E) ' 3 4 (F) \" ET", "")
	p := read(t, doc, ref, content.Options{})
	at := map[string][2]float64{}
	for _, g := range p.Glyphs {
		at[g.Char.Text] = [2]float64{math.Round(g.X*1000) / 1000, math.Round(g.Y*1000) / 1000}
	}
	// Lines go to the right of the page here, x of the text upwards.
	assert.Equal(t, [2]float64{60, 80}, at["A"])
	assert.Equal(t, [2]float64{74, 80}, at["B"])
	assert.Equal(t, [2]float64{67, 85}, at["C"])
	assert.Equal(t, [2]float64{76, 86}, at["D"])
	assert.Equal(t, [2]float64{94, 86}, at["E"], "T* and ' go by the leading that TD set")
	assert.Equal(t, [2]float64{103, 86}, at["F"])
	assert.Equal(t, 3.0, p.Shows[5].State.WordSpace)
	assert.Equal(t, 4.0, p.Shows[5].State.CharSpace)
}

// Forms run with their matrix and resources, each drawing is an invocation of its own, and one that draws itself ends.
func TestForms(t *testing.T) {
	form := func(dict, s string) string {
		return pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 100 100]"+dict, s)
	}
	doc, ref := page(t, "q /X Do Q 1 0 0 1 0 300 cm /X Do BT /F 5 Tf (page) Tj ET", "/XObject<</X 6 0 R>>",
		form("/Matrix[2 0 0 2 10 10]/Resources<</Font<</F 5 0 R>>/XObject<</Y 7 0 R>>>>", "BT /F 10 Tf 1 2 Td (x) Tj ET /Y Do"),
		form("/Resources<</XObject<</X 6 0 R/Y 7 0 R>>/Font<</F 5 0 R>>>>", "/X Do /Y Do BT /F 10 Tf (y) Tj ET"))
	p := read(t, doc, ref, content.Options{})
	got := ""
	for _, g := range p.Glyphs {
		got += fmt.Sprintf("%s %.0f,%.0f ", g.Char.Text, g.X, g.Y)
	}
	assert.Equal(t, "x 12,14 y 10,10 x 12,314 y 10,310 p 0,300 a 3,300 g 6,300 e 8,300 ", got)
	require.Len(t, p.Invocations, 5)
	assert.Equal(t, []int{-1, 0, 1, 0, 3}, []int{p.Invocations[0].Parent, p.Invocations[1].Parent, p.Invocations[2].Parent, p.Invocations[3].Parent, p.Invocations[4].Parent})
	v := p.Invocations[3]
	assert.Equal(t, "/X Do", string(p.Invocations[0].Body.Data[v.Start:v.End]))
}

// Marked content with its properties; optional content that is off is hidden with all in it.
func TestMarks(t *testing.T) {
	doc, ref := page(t, "/P <</MCID 4>> BDC BT /F 9 Tf (a) Tj ET /OC /L BDC BT (b) Tj /Span BMC (c) Tj EMC ET EMC BT (d) Tj ET EMC BT (e) Tj ET",
		"/Properties<</L 6 0 R>>", "<</Type/OCG/Name(layer)>>")
	doc.Edit(doc.Root()).Set("OCProperties", pdf.NewDict("OCGs", pdf.Array{pdf.Ref{Num: 6}}, "D", pdf.NewDict("OFF", pdf.Array{pdf.Ref{Num: 6}})))
	p := read(t, doc, ref, content.Options{})
	got := ""
	for _, s := range p.Shows {
		got += p.Glyphs[s.First].Char.Text
		if s.Hidden {
			got += "-"
		}
		if s.Mark >= 0 {
			got += fmt.Sprint(p.Marks[s.Mark].MCID)
		}
	}
	assert.Equal(t, "a4b--1c--1d4e", got)
}

// Annotations' appearances are run where their rectangle has them (12.5.5, algorithm 8.1); hidden ones are not.
func TestAppearances(t *testing.T) {
	ap := pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 10 10]/Resources<</Font<</F 5 0 R>>>>", "BT /F 5 Tf 2 4 Td (n) Tj ET")
	doc, ref := page(t, "", "", ap, "<</Type/Annot/Subtype/Stamp/Rect[100 200 120 240]/AP<</N 6 0 R>>>>",
		"<</Type/Annot/Subtype/Stamp/F 2/Rect[0 0 20 20]/AP<</N 6 0 R>>>>", "<</Type/Annot/Subtype/Widget/AS/On/Rect[0 0 10 10]/AP<</N<</On 6 0 R/Off 6 0 R>>>>>>")
	doc.Edit(ref).Set("Annots", pdf.Array{pdf.Ref{Num: 7}, pdf.Ref{Num: 8}, pdf.Ref{Num: 9}})
	p := read(t, doc, ref, content.Options{})
	require.Len(t, p.Glyphs, 2)
	assert.InDelta(t, 104, p.Glyphs[0].X, 1e-9)
	assert.InDelta(t, 216, p.Glyphs[0].Y, 1e-9)
	assert.InDelta(t, 2, p.Glyphs[1].X, 1e-9)
	assert.Empty(t, read(t, doc, ref, content.Options{NoAnnotations: true}).Glyphs)
}

// Pictures and paths with their places, states and clips.
func TestPicturesAndPaths(t *testing.T) {
	doc, ref := page(t, "q 50 0 0 40 10 20 cm /I Do Q 0 0 100 100 re W n 1 0 0 rg 20 20 200 10 re f 0 1 0 RG 3 w 10 10 m 10 90 l S", "/XObject<</I 6 0 R>>",
		pdftest.Stream("/Type/XObject/Subtype/Image/Width 1/Height 1/BitsPerComponent 8/ColorSpace/DeviceGray", "x"))
	p := read(t, doc, ref, content.Options{Images: true, Paths: true})
	require.Len(t, p.Images, 1)
	assert.Equal(t, pdf.Matrix{50, 0, 0, 40, 10, 20}, p.Images[0].Matrix)
	assert.Equal(t, pdf.Ref{Num: 6}, p.Images[0].Ref)
	require.Len(t, p.Paths, 2)
	assert.True(t, p.Paths[0].Fills())
	assert.Equal(t, pdf.Rect{X0: 20, Y0: 20, X1: 220, Y1: 30}, p.Paths[0].Bounds)
	assert.Equal(t, [4]float64{1, 0, 0, 0}, p.Paths[0].State.Fill.Values)
	assert.Equal(t, pdf.Rect{X1: 100, Y1: 100}, p.Paths[0].State.Clip)
	assert.True(t, p.Paths[1].Strokes())
	assert.Equal(t, 3.0, p.Paths[1].State.LineWidth)
	assert.Equal(t, "20 20 200 10 re f", string(p.Invocations[0].Body.Data[p.Paths[0].Start:p.Paths[0].End]))
}

// Patterns and the glyphs of Type 3 fonts are run where all is asked for.
func TestDeep(t *testing.T) {
	doc, ref := page(t, "1 0 0 1 50 50 cm /Pattern cs /P scn 0 0 100 100 re f BT /T 10 Tf 3 4 Td (a) Tj ET", "/Pattern<</P 6 0 R>>",
		pdftest.Stream("/PatternType 1/PaintType 1/TilingType 1/BBox[0 0 20 20]/XStep 20/YStep 20/Matrix[1 0 0 1 7 8]/Resources<</Font<</F 5 0 R>>>>", "BT /F 5 Tf (p) Tj ET"),
		"<</Type/Font/Subtype/Type3/FontBBox[0 0 100 100]/FontMatrix[.01 0 0 .01 0 0]/FirstChar 97/LastChar 97/Widths[80]/Encoding<</Differences[97/a]>>/CharProcs<</a 8 0 R>>/Resources<</XObject<</I 9 0 R>>>>>>",
		pdftest.Stream("", "80 0 d0 50 0 0 60 0 0 cm /I Do"),
		pdftest.Stream("/Type/XObject/Subtype/Image/Width 1/Height 1/BitsPerComponent 8/ColorSpace/DeviceGray", "x"))
	doc.Edit(ref).Set("Resources", func() *pdf.Dict {
		r := doc.Dict(doc.Page(ref).Get("Resources")).Clone()
		r.Set("Font", pdf.NewDict("F", pdf.Ref{Num: 5}, "T", pdf.Ref{Num: 7}))
		return r
	}())
	p := read(t, doc, ref, content.Options{Deep: true, Images: true})
	require.Len(t, p.Invocations, 3)
	assert.Equal(t, content.PatternBody, p.Invocations[1].Kind)
	require.Len(t, p.Glyphs, 2)
	assert.Equal(t, "p", p.Glyphs[0].Char.Text)
	assert.InDelta(t, 7, p.Glyphs[0].X, 1e-9, "in the page's own coordinates")
	assert.InDelta(t, 8, p.Glyphs[0].Y, 1e-9)
	assert.Equal(t, content.GlyphBody, p.Invocations[2].Kind)
	require.Len(t, p.Images, 1)
	for i, want := range []float64{5, 0, 0, 6, 53, 54} {
		assert.InDelta(t, want, p.Images[0].Matrix[i], 1e-9)
	}
	assert.Len(t, read(t, doc, ref, content.Options{}).Invocations, 1)
}

// Text of no size moves on by its spacing alone; what is taken out of it goes, and what follows stays where it is.
func TestTakeOutFlat(t *testing.T) {
	doc, ref := page(t, "BT /F 0 Tf 3 Tc 50 700 Td [(se)-500(cret)] TJ /F 10 Tf (!) Tj ET", "")
	p := read(t, doc, ref, content.Options{})
	require.Len(t, p.Glyphs, 7)
	require.NoError(t, content.Apply(doc, p, content.TakeOut(p, []int{0, 2, 3, 5})))
	after := read(t, doc, ref, content.Options{})
	require.Len(t, after.Glyphs, 3)
	for i, k := range []int{1, 4, 6} {
		assert.Equal(t, p.Glyphs[k].Char.Text, after.Glyphs[i].Char.Text)
		assert.InDelta(t, p.Glyphs[k].X, after.Glyphs[i].X, 1e-6)
		assert.Equal(t, p.Shows[p.Glyphs[k].Show].State.Size, after.Shows[after.Glyphs[i].Show].State.Size)
	}
}

// A form that is drawn twice is changed in one drawing alone; the other stays, and so does the form.
func TestApply(t *testing.T) {
	form := pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 100 100]/Resources<</Font<</F 5 0 R>>>>", "BT /F 10 Tf (secret) Tj ET")
	doc, ref := page(t, "/X Do 1 0 0 1 0 50 cm /X Do", "/XObject<</X 6 0 R/Unused 6 0 R>>", form)
	p := read(t, doc, ref, content.Options{})
	var second []int
	for i, g := range p.Glyphs {
		if p.Shows[g.Show].Invocation == 2 && g.Char.Text == "e" {
			second = append(second, i)
		}
	}
	require.Len(t, second, 2)
	patches := content.TakeOut(p, second)
	require.Len(t, patches, 1)
	fork := doc.Fork()
	require.NoError(t, content.Apply(fork, p, patches))
	after := read(t, fork, ref, content.Options{})
	got := ""
	for _, g := range after.Glyphs {
		got += g.Char.Text
	}
	assert.Equal(t, "secretscrt", got)
	for i, j := 6, 6; i < len(p.Glyphs); i++ {
		if p.Glyphs[i].Char.Text == "e" {
			continue
		}
		assert.InDelta(t, p.Glyphs[i].X, after.Glyphs[j].X, 1e-9)
		j++
	}
	x := fork.Dict(fork.Dict(fork.Page(ref).Get("Resources")).Get("XObject"))
	assert.True(t, x.Has("X") && x.Has("X-1") && !x.Has("Unused"), "what is not drawn any more is not named any more")
	again, err := fork.Update([16]byte{1})
	require.NoError(t, err)
	assert.NotEmpty(t, again)
	for _, bad := range [][]content.Patch{{{Invocation: 9}}, {{Start: 5, End: 2}}, {{Start: 0, End: 999}}, {{Start: 0, End: 4}, {Start: 2, End: 5}}} {
		assert.Error(t, content.Apply(doc.Fork(), p, bad))
	}
	none := doc.Fork()
	require.NoError(t, content.Apply(none, p, nil))
	assert.Empty(t, none.Changed(), "nothing patched, nothing changed")
}

// A page of several streams: only the one that a patch falls into is written anew.
func TestApplyToParts(t *testing.T) {
	doc, ref := page(t, "BT /F 10 Tf (one", "", pdftest.Stream("", ") Tj ET"), pdftest.Stream("", "BT /F 10 Tf 0 20 Td (two) Tj ET"))
	doc.Edit(ref).Set("Contents", pdf.Array{pdf.Ref{Num: 4}, pdf.Ref{Num: 6}, pdf.Ref{Num: 7}})
	p := read(t, doc, ref, content.Options{})
	require.Len(t, p.Invocations[0].Body.Parts, 3)
	var o []int
	for i, g := range p.Glyphs {
		if g.Char.Text == "o" && g.Y > 10 {
			o = append(o, i)
		}
	}
	fork := doc.Fork()
	require.NoError(t, content.Apply(fork, p, content.TakeOut(p, o)))
	c := fork.Array(fork.Page(ref).Get("Contents"))
	require.Len(t, c, 3)
	assert.Equal(t, pdf.Ref{Num: 4}, c[0])
	assert.Equal(t, pdf.Ref{Num: 6}, c[1])
	assert.NotEqual(t, pdf.Ref{Num: 7}, c[2])
	// A token that two streams share goes from the one that begins it.
	fork = doc.Fork()
	require.NoError(t, content.Apply(fork, p, content.TakeOut(p, []int{0})))
	got := ""
	for _, g := range read(t, fork, ref, content.Options{}).Glyphs {
		got += g.Char.Text
	}
	assert.Equal(t, "netwo", got)
}

// Damaged and hostile content is read as far as it makes sense, and ends.
func TestHostileContent(t *testing.T) {
	deep := "/X Do"
	doc, ref := page(t, deep, "/XObject<</X 6 0 R>>", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 1 1]/Resources<</XObject<</X 6 0 R>>>>", "/X Do /X Do /X Do"))
	assert.Len(t, read(t, doc, ref, content.Options{}).Invocations, 2)
	// Forms that each draw the next one many times.
	var more []string
	for i := range 12 {
		more = append(more, pdftest.Stream(fmt.Sprintf("/Type/XObject/Subtype/Form/BBox[0 0 1 1]/Resources<</XObject<</N %d 0 R>>>>", 7+i), "/N Do /N Do /N Do /N Do /N Do /N Do /N Do /N Do"))
	}
	doc, ref = page(t, "/X Do", "/XObject<</X 6 0 R>>", more...)
	p := read(t, doc, ref, content.Options{})
	assert.True(t, p.Cut)
	assert.LessOrEqual(t, len(p.Invocations), 100_000)
	for _, s := range []string{"BT (a) Tj", "ET ET Q Q Q EMC (x) Tj", "/Nothing 12 Tf (x) Tj /Nothing Do", "1 0 cm 1 Tm [ [ [ (a", "/F 0 Tf (a) Tj", "/F nan Tf 1e5 Tz (a)'"} {
		doc, ref := page(t, s, "")
		read(t, doc, ref, content.Options{Images: true, Paths: true, Deep: true})
	}
}

// A reader may be used by many at once.
func TestReaderTogether(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(12))
	r := content.NewReader(doc)
	done := make(chan int)
	for range 4 {
		go func() {
			n := 0
			for _, ref := range pdftest.Refs(t, doc) {
				p, err := r.Page(t.Context(), ref, content.Options{})
				if assert.NoError(t, err) {
					n += len(p.Glyphs)
				}
			}
			done <- n
		}()
	}
	first := <-done
	for range 3 {
		assert.Equal(t, first, <-done)
	}
	assert.Positive(t, first)
}

func seeds(f *testing.F) {
	for _, s := range []string{"BT /F1 12 Tf [(A)-120<4243>]TJ ET", "q 1 0 0 1 0 0 cm /X Do Q", "/Pattern cs /P scn 0 0 9 9 re f 0 0 9 9 re B BT /F 9 Tf (ab) Tj ET", "/Pattern CS /P SCN 0 0 m 9 9 l S /X Do BT /F 9 Tf (ab) Tj ET", "BI /W 2 /H 2 /BPC 8 /CS /G ID abcd EI", "/P <</MCID 3>> BDC EMC",
		"0 0 m 1 1 2 2 3 3 c h f* (a\\053\\\r\nb)' 1 2 (x)\" [[1[2]](", "<</A<</B[<</C(]"} {
		f.Add([]byte(s))
	}
	dir := os.Getenv("GLENRAIN_PAPERS")
	if dir == "" {
		return
	}
	files, _ := filepath.Glob(filepath.Join(dir, "module", "*.pdf"))
	for _, path := range files {
		if st, err := os.Stat(path); err != nil || st.Size() > 200_000 {
			continue
		}
		file, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		doc, err := pdf.Open(bytes.NewReader(file), int64(len(file)))
		if err != nil {
			continue
		}
		pages, err := doc.Pages()
		if err != nil {
			continue
		}
		for _, l := range pages[:min(2, len(pages))] {
			if s := doc.Stream(doc.Page(l.Ref).Get("Contents")); s != nil {
				if data, _, err := doc.Decode(s); err == nil && len(data) < 20_000 {
					f.Add(data)
				}
			}
		}
	}
}

// FuzzScanner cuts streams into operators: what they take and what lies between gives the stream again, and written anew they are read as the same.
func FuzzScanner(f *testing.F) {
	seeds(f)
	f.Fuzz(func(t *testing.T, data []byte) {
		s := content.Scanner{Data: data}
		var o content.Op
		at := 0
		for s.Next(&o) {
			if o.Start < at || o.At < o.Start || o.End < o.At || o.End > len(data) {
				t.Fatalf("operator from %d to %d behind %d of %d", o.Start, o.End, at, len(data))
			}
			at = o.End
			once := o.Append(nil, data)
			if o.Image != nil {
				continue
			}
			again := content.Scanner{Data: once}
			var p content.Op
			if !again.Next(&p) || p.Code != o.Code || len(p.Args) != len(o.Args) || !bytes.Equal(p.Append(nil, once), once) {
				t.Fatalf("%q is read otherwise", once)
			}
		}
	})
}

// FuzzInterpreter runs content streams on a page that has a font, forms and a picture.
func FuzzInterpreter(f *testing.F) {
	seeds(f)
	f.Fuzz(func(t *testing.T, data []byte) {
		const own = "/Resources<</Font<</F 5 0 R>>>>"
		for _, more := range []string{"", own} { // without resources of their own, form and pattern draw themselves
			doc, ref := page(t, string(data), "/XObject<</X 6 0 R/I 7 0 R>>/ExtGState<</G 8 0 R>>/Pattern<</P 9 0 R>>",
				pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 100 100]"+more, string(data)),
				pdftest.Stream("/Type/XObject/Subtype/Image/Width 1/Height 1/BitsPerComponent 8/ColorSpace/DeviceGray", "x"), "<</Font[5 0 R 7]>>",
				pdftest.Stream("/PatternType 1/PaintType 1/TilingType 1/BBox[0 0 20 20]/XStep 20/YStep 20"+more, string(data)))
			all := content.Options{Images: true, Paths: true, Deep: true}
			p := read(t, doc, ref, all)
			if len(p.Glyphs) == 0 || p.Cut {
				return
			}
			fork := doc.Fork()
			require.NoError(t, content.Apply(fork, p, content.TakeOut(p, []int{len(p.Glyphs) / 2})))
			if more != "" {
				after := read(t, fork, ref, all)
				assert.Len(t, after.Glyphs, len(p.Glyphs)-1, "one glyph less, and no more")
				assert.Len(t, after.Paths, len(p.Paths))
				assert.Len(t, after.Images, len(p.Images))
			}
		}
	})
}

// A hundred thousand marks within one another, with as many glyphs in the innermost: what lies outside is found in time that grows with them, not with
// their product.
func TestOutsideOfDeepMarks(t *testing.T) {
	const n = 100_000
	body := strings.Repeat("/P BMC ", n) + "BT /F1 10 Tf 10 10 Td (" + strings.Repeat("a", n) + ") Tj ET " + strings.Repeat("EMC ", n)
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 200 200]/Resources<</Font<</F1 5 0 R>>>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 4 0 R>>")
	f.Add("%s", pdftest.Stream("", body))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	d := pdftest.Open(t, f.Bytes())
	p, err := content.NewReader(d).Page(t.Context(), pdftest.Refs(t, d)[0], content.Options{Paths: true, Images: true})
	require.NoError(t, err)
	done := make(chan int, 1)
	go func() {
		patches, _, err := p.Outside(pdf.Rect{X0: 100, Y0: 100, X1: 120, Y1: 120}, nil)
		assert.NoError(t, err)
		done <- len(patches)
	}()
	select {
	case patches := <-done:
		assert.Positive(t, patches)
	case <-time.After(20 * time.Second):
		t.Fatal("it does not end")
	}
}
