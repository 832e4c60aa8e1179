package layout_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// set makes a page of a content stream, with Helvetica as F and Helvetica-Bold as B, and reads it.
func set(t testing.TB, stream string) *layout.Page {
	t.Helper()
	var f pdftest.File
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Count 1/Kids[3 0 R]>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 600 800]/Contents 4 0 R/Resources<</Font<</F 5 0 R/B 6 0 R/J 7 0 R/H 8 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", stream))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica-Bold/Encoding/WinAnsiEncoding>>")
	f.Add("<</Type/Font/Subtype/Type0/BaseFont/Mincho/Encoding/UniJIS-UCS2-V/DescendantFonts[<</Type/Font/Subtype/CIDFontType0/CIDSystemInfo<</Registry(Adobe)/Ordering(Japan1)/Supplement 2>>>>]>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Quay/FirstChar 97/Widths[500 500 500 500 500]/Encoding<</Differences[97/afii57664/afii57665/afii57666/one/two]>>>>")
	doc := pdftest.Open(t, f.Bytes())
	p, err := content.NewReader(doc).Page(t.Context(), pdftest.Refs(t, doc)[0], content.Options{})
	require.NoError(t, err)
	return layout.Read(p, pdf.Rect{X1: 600, Y1: 800}, nil)
}

func words(l *layout.Page) (out []string) {
	for i := range l.Words {
		if !l.Dropped(&l.Words[i]) {
			out = append(out, l.Text(&l.Words[i]))
		}
	}
	return
}

func TestWords(t *testing.T) {
	for stream, want := range map[string]string{
		"BT /F 10 Tf 50 700 Td (quay wall) Tj ET":                                  "quay|wall",
		"BT /F 10 Tf 50 700 Td [(quay)-300(wall)] TJ ET":                           "quay|wall",
		"BT /F 10 Tf 50 700 Td [(qu)-20(a)15(y)] TJ ET":                            "quay",
		"BT /F 10 Tf 50 700 Td (q) Tj /B 10 Tf (uay) Tj ET":                        "quay",
		"BT /F 10 Tf 50 700 Td (m) Tj /F 7 Tf 4 Ts (2) Tj ET":                      "m|2",
		"BT /F 10 Tf 50 700 Td [(caf\\264)333(e)] TJ ET":                           "café",
		"BT /F 10 Tf 50 700 Td [(Gr\\250)333(u\\337e)] TJ ET":                      "Grüße",
		"BT /F 10 Tf 50 700 Td (T) Tj -2 -2 Td 6.1 0 Td (E) Tj 5.2 2 Td (X) Tj ET": "TEX",
		"BT /F 10 Tf 4 Tc 50 700 Td (QUAY) Tj ET":                                  "QUAY",
		"BT /F 10 Tf 50 700 Td (bold) Tj 0.3 0 Td (bold) Tj ET":                    "bold",
		"BT /F 10 Tf 50 -90 Td (off the page) Tj ET":                               "",
		"BT /F 10 Tf 50 700 Td (a) Tj 0 1 -1 0 300 300 Tm (up) Tj ET":              "a|up",
	} {
		assert.Equal(t, want, strings.Join(words(set(t, stream)), "|"), stream)
	}
}

func TestPlaces(t *testing.T) {
	l := set(t, "BT /F 10 Tf 0 1 -1 0 300 200 Tm (up) Tj ET")
	w := &l.Words[0]
	box := l.Box(w)
	assert.InDelta(t, 200, box.Y0, 1e-9)
	assert.InDelta(t, 200+5.56+5.56, box.Y1, 1e-9)
	x, y := l.Base(w)
	assert.InDelta(t, 300, x, 1e-9)
	assert.InDelta(t, 200, y, 1e-9)
	ax, ay := l.Along(w)
	assert.InDelta(t, 0, ax, 1e-9)
	assert.InDelta(t, 1, ay, 1e-9)
}

// Hebrew letters that are shown from the left, as the eye meets them, and from the right, as they are read; figures stay as they are.
func TestRightToLeft(t *testing.T) {
	l := set(t, "BT /H 10 Tf 100 700 Td (abc) Tj ET")
	assert.Equal(t, []string{"גבא"}, words(l), "shown c, b, a from the right is read from the right")
	l = set(t, "BT /H 10 Tf 110 700 Td (a) Tj -5 0 Td (b) Tj -5 0 Td (c) Tj ET")
	assert.Equal(t, []string{"אבג"}, words(l))
	l = set(t, "BT /H 10 Tf 200 700 Td (a) Tj -20 0 Td (b) Tj -20 0 Td (c) Tj ET")
	assert.Equal(t, "א ב ג", l.ParagraphText(&l.Paragraphs[0]), "the words of a line from the right")
	// A passage within a line from the left, over a figure that stands in it; and one from the left within a line from the right.
	l = set(t, "BT /F 10 Tf 50 700 Td (the ) Tj /H 10 Tf (c ) Tj /F 10 Tf (12 ) Tj /H 10 Tf (ba ) Tj /F 10 Tf (quay 7 ) Tj /H 10 Tf (b a) Tj ET")
	assert.Equal(t, "the אב 12 ג quay 7 א ב", l.ParagraphText(&l.Paragraphs[0]))
	l = set(t, "BT /H 10 Tf 50 700 Td (bcb ) Tj /F 10 Tf (quay 7 ) Tj /H 10 Tf (aba ccc) Tj ET")
	assert.Equal(t, "גגג אבא quay 7 בגב", l.ParagraphText(&l.Paragraphs[0]))
}

func TestVertical(t *testing.T) {
	l := set(t, "BT /J 12 Tf 500 700 Td <304230443046> Tj -20 0 Td <304830 4a> Tj ET")
	require.NotEmpty(t, l.Paragraphs)
	all := ""
	for i := range l.Paragraphs {
		all += l.ParagraphText(&l.Paragraphs[i])
	}
	assert.Equal(t, "あいうえお", all, "downwards, lines from the right")
}

func TestReading(t *testing.T) {
	l := set(t, "BT /F 10 Tf 12 TL 50 700 Td (Notice of the dred-) Tj T* (ging of the basin) Tj ET")
	r := l.Reading()
	assert.Equal(t, "Notice of the dred\u00adging of the basin", r.Text)
	assert.Equal(t, "Notice of the dredging of the basin", r.Plain())
	f, err := layout.Query{Text: "dredging"}.Compile()
	require.NoError(t, err)
	hits := f.Find(r.Text, 10)
	require.Len(t, hits, 1)
	quads := l.Quads(r, hits[0][0], hits[0][1])
	require.Len(t, quads, 2, "a piece of each line")
	assert.InDelta(t, 700, quads[0][0][1]+2.07, 1)
	assert.InDelta(t, 50, quads[1][0][0], 1e-6)
	assert.InDelta(t, 688, quads[1][0][1]+2.07, 1)
	// What lies under areas: half a word, a word over a line's end with its hyphen, and what is apart.
	under := func(areas ...pdf.Rect) (out []string) {
		for _, p := range l.Under(r, areas) {
			out = append(out, r.Text[p[0]:p[1]])
		}
		return
	}
	assert.Equal(t, []string{"Not"}, under(pdf.Rect{X0: 40, Y0: 699, X1: 65, Y1: 712}))
	assert.Equal(t, []string{"dred\u00adging"}, under(quads[0].Box(), quads[1].Box()))
	assert.Equal(t, []string{"otic", "ging of the basin"}, under(pdf.Rect{X0: 56, Y0: 699, X1: 73, Y1: 712}, pdf.Rect{X0: 40, Y0: 687, X1: 300, Y1: 697}))
	assert.Empty(t, under(pdf.Rect{X0: 300, Y0: 300, X1: 400, Y1: 400}))
	before, found, after := layout.Around(r.Text, hits[0], 12)
	assert.Equal(t, []string{"of the ", "dredging", " of the"}, []string{before, found, after})
}

func TestQueries(t *testing.T) {
	const text = "The Harbour Master’s “Café” lies at the pier–head.\nHARBOUR dues: 12.50; well\u00adknown co\u00adoperation"
	for q, want := range map[layout.Query]int{
		{Text: "harbour"}:                          2,
		{Text: "harbour", Case: true}:              0,
		{Text: "Harbour", Case: true}:              1,
		{Text: "cafe"}:                             1,
		{Text: "cafe", Accents: true}:              0,
		{Text: "café", Accents: true}:              1,
		{Text: `master's "cafe"`}:                  1,
		{Text: "pier-head"}:                        1,
		{Text: "head harbour"}:                     0,
		{Text: "head. harbour"}:                    1,
		{Text: "wellknown"}:                        1,
		{Text: "well-known"}:                       1,
		{Text: "due", Words: true}:                 0,
		{Text: "dues", Words: true}:                1,
		{Text: `\d+\.\d+`, Pattern: true}:          1,
		{Text: `h\w+r`, Pattern: true}:             2,
		{Text: `h\w+r`, Pattern: true, Case: true}: 0,
		{Text: `cooperation|known`, Pattern: true}: 2,
		{Text: `x*`, Pattern: true}:                0,
	} {
		f, err := q.Compile()
		require.NoError(t, err)
		hits := f.Find(text, 100)
		assert.Len(t, hits, want, "%+v", q)
		for _, h := range hits {
			assert.True(t, h[0] < h[1] && h[1] <= len(text))
		}
	}
	for _, q := range []layout.Query{{}, {Text: "  "}, {Text: strings.Repeat("a", 501)}, {Text: "(", Pattern: true}, {Pattern: true}} {
		_, err := q.Compile()
		assert.Error(t, err)
	}
	f, _ := layout.Query{Text: "a"}.Compile()
	assert.Len(t, f.Find(strings.Repeat("a", 1000), 7), 7, "no more than asked for")
}

func TestFrame(t *testing.T) {
	var b strings.Builder
	for i, row := range [][3]string{{"Berth", "Length", "Dues"}, {"North face", "40 m", "1,200"}, {"Inner basin", "12 m", "310"}} {
		for j, cell := range row {
			fmt.Fprintf(&b, "BT /F 10 Tf %d %d Td (%s) Tj ET ", []int{60, 160, 260}[j], 700-16*i, cell)
		}
	}
	l := set(t, b.String())
	assert.Equal(t, "Berth\tLength\tDues\nNorth face\t40 m\t1,200\nInner basin\t12 m\t310", l.Frame(pdf.Rect{X0: 50, Y0: 600, X1: 400, Y1: 720}))
	assert.Equal(t, "Length\n40 m\n12 m", l.Frame(pdf.Rect{X0: 150, Y0: 600, X1: 220, Y1: 720}))
	assert.Empty(t, l.Frame(pdf.Rect{}))
	assert.Equal(t, "Berth\tLength\tDues\nNorth face\t40 m\t1,200\nInner basin\t12 m\t310\n", string(l.AppendPage(nil)), "and so in the text of the page")
}

// How the paragraphs of made pages are set is told.
func TestAlign(t *testing.T) {
	for style, want := range map[string]layout.Align{"one spaced": layout.Left, "one spaced justified": layout.Justified, "centred": layout.Centred} {
		n, same := 0, 0
		for seed := range uint64(6) {
			l, _ := made(t, style, seed)
			for _, p := range l.Paragraphs {
				if len(p.Lines) < 3 {
					continue
				}
				n++
				if p.Align == want {
					same++
				}
				assert.Zero(t, p.Indent)
				assert.Greater(t, p.Leading, p.Size)
			}
		}
		assert.GreaterOrEqual(t, float64(same), 0.95*float64(n), style)
		assert.Greater(t, n, 10)
	}
	l, _ := made(t, "one indented justified", 3)
	indented := 0
	for _, p := range l.Paragraphs {
		if len(p.Lines) > 2 && p.Indent > p.Size {
			indented++
		}
	}
	assert.Greater(t, indented, 3)
}

func TestJSON(t *testing.T) {
	l := set(t, "BT /F 10 Tf 50 700 Td (quay \\\"wall\\\") Tj ET")
	var got struct {
		Page  int
		Chars []struct {
			T    string
			X, Y float64
		}
		Words []struct {
			T              string
			X0, Y0, X1, Y1 float64
			Base           float64
		}
		Paragraphs []struct {
			T     string
			Words []int
		}
	}
	require.NoError(t, json.Unmarshal(l.AppendJSON(nil, 7, pdf.Geometry{MediaBox: pdf.Rect{X1: 600, Y1: 800}, UserUnit: 1}), &got))
	assert.Equal(t, 7, got.Page)
	assert.Len(t, got.Chars, 11)
	require.Len(t, got.Words, 2)
	assert.Equal(t, `"wall"`, got.Words[1].T)
	assert.Equal(t, 700.0, got.Words[1].Base)
	assert.Equal(t, `quay "wall"`, got.Paragraphs[0].T)
	assert.Equal(t, []int{0, 1}, got.Paragraphs[0].Words)
}

// Pages come in order, whatever is ready first; an error ends it.
func TestPages(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(40))
	refs := pdftest.Refs(t, doc)
	next := 0
	render := func(_ int, l *layout.Page, b []byte) []byte { return append(b, l.Reading().Text...) }
	require.NoError(t, layout.Pages(t.Context(), doc, refs, content.Options{}, 3, render, func(i int, b []byte) error {
		assert.Equal(t, next, i)
		assert.Equal(t, fmt.Sprintf("Page %d", i+1), string(b))
		next++
		return nil
	}))
	assert.Equal(t, 40, next)
	stop := fmt.Errorf("enough")
	assert.ErrorIs(t, layout.Pages(t.Context(), doc, refs, content.Options{}, 3, render, func(i int, _ []byte) error {
		if i == 5 {
			return stop
		}
		return nil
	}), stop)
}

// A page of very many scraps ends.
func TestManyScraps(t *testing.T) {
	var b strings.Builder
	b.WriteString("BT /F 1 Tf ")
	for i := range 40_000 {
		fmt.Fprintf(&b, "1 0 0 1 %.2f %.2f Tm (a) Tj ", float64(i%200)*3, float64(i/200)*4)
	}
	l := set(t, b.String()+"ET")
	assert.Len(t, l.Words, 40_000)
	assert.NotEmpty(t, l.Paragraphs)
	b.Reset()
	b.WriteString("BT /F 5 Tf ")
	for i := range 9_000 { // each line a paragraph
		fmt.Fprintf(&b, "1 0 0 1 50 %.3f Tm (Ends. %d) Tj ", 790-float64(i)*0.08, i)
	}
	assert.NotEmpty(t, set(t, b.String()+"ET").Paragraphs)
}

// FuzzRead groups what any content stream shows, and asks for all there is.
func FuzzRead(f *testing.F) {
	for _, s := range []string{"BT /F 10 Tf 50 700 Td (quay wall) Tj 12 TL (b) ' ET", "BT /H 10 Tf 100 700 Td (abc) Tj /J 9 Tf <3042> Tj ET", ruled(),
		"BT /F 1e3 Tf 50 Tz -5 Ts 0 1 -1 0 9 9 Tm [(a)9999(b)-9999(\\264e)] TJ ET"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		l := set(t, string(data))
		r := l.Reading()
		for i := range r.Words {
			l.Quads(r, r.Words[i].From, r.Words[i].To)
		}
		for _, p := range l.Under(r, []pdf.Rect{{X1: 300, Y1: 800}}) {
			if p[0] < 0 || p[1] <= p[0] || p[1] > len(r.Text) {
				t.Fatal("a part outside the reading", p)
			}
		}
		q, err := layout.Query{Text: "a"}.Compile()
		if err != nil {
			t.Fatal(err)
		}
		for _, h := range q.Find(r.Text, 100) {
			l.Quads(r, h[0], h[1])
			layout.Around(r.Text, h, 20)
		}
		l.Tables()
		l.Copied(pdf.Rect{X1: 600, Y1: 800})
		l.AppendPage(nil)
		l.Edges(pdf.Rect{X1: 600, Y1: 800})
		if !json.Valid(l.AppendJSON(nil, 1, pdf.Geometry{UserUnit: 1})) {
			t.Fatal("not JSON")
		}
	})
}

// The text of an annotation's appearance is text, and is said to be one's.
func TestAnnotations(t *testing.T) {
	data := pdftest.Noted("On the page", "BT /F 12 Tf 5 10 Td (Berth seven) Tj ET /X Do")
	doc := pdftest.Open(t, data)
	ref := pdftest.Refs(t, doc)[0]
	p, err := content.NewReader(doc).Page(t.Context(), ref, content.Options{})
	require.NoError(t, err)
	l := layout.Read(p, doc.Geometry(ref).Visible, nil)
	r := l.Reading()
	parts := l.Annotations(r)
	require.Len(t, parts, 1)
	assert.Equal(t, "Berth seven is let", r.Text[parts[0][0]:parts[0][1]])
	assert.Equal(t, 4, strings.Count(string(l.AppendJSON(nil, 1, doc.Geometry(ref))), `"annotation":true`))
	assert.Contains(t, pdftest.Tool(t, data, "pdftotext", "FILE", "-"), "Berth seven", "poppler reads it too")
}

// A free text annotation without an appearance is drawn by programs from what it says: its text is text here, too, in whatever script.
func TestFreeText(t *testing.T) {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 300 300]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Resources<</Font<</F<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>>>>>/Annots[4 0 R 5 0 R 6 0 R]>>")
	f.Add(`<</Type/Annot/Subtype/FreeText/Rect[20 200 280 260]/DA(/Helv 10 Tf 0 g)/Contents(Berth seven is let\rto the pilot cutter until the end of the winter season)>>`)
	f.Add("<</Type/Annot/Subtype/FreeText/Rect[20 100 280 160]/DA(nonsense)/Contents<FEFF5CB858C1007100750061007903B1>>>")
	f.Add("<</Type/Annot/Subtype/Stamp/Rect[20 20 120 60]/AP<</N<</On 7 0 R/Off 8 0 R>>>>/AS/On>>")
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 100 40]", "BT /F 12 Tf 5 10 Td (Approved) Tj ET")) // with the page's resources
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 100 40]", "BT /F 12 Tf 5 10 Td (Refused) Tj ET"))
	data := f.Bytes()
	doc := pdftest.Open(t, data)
	ref := pdftest.Refs(t, doc)[0]
	p, err := content.NewReader(doc).Page(t.Context(), ref, content.Options{})
	require.NoError(t, err)
	l := layout.Read(p, doc.Geometry(ref).Visible, nil)
	text := strings.Join(strings.Fields(l.Reading().Text), " ")
	for _, want := range []string{"Berth seven is let", "to the pilot cutter until the end of the winter season", "岸壁quayα", "Approved"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "Refused")
	outside := strings.Join(strings.Fields(pdftest.Tool(t, data, "pdftotext", "FILE", "-")), " ")
	assert.Contains(t, outside, "Berth seven is let to the pilot cutter", "poppler draws it, too")
}
