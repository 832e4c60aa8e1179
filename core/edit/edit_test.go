package edit_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/edit"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

func TestMain(m *testing.M) {
	child.Main()
	os.Exit(m.Run())
}

// set is a file of one page with content, set in Helvetica (F1) and Times (F2).
func set(content string, args ...any) []byte {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F1 5 0 R/F2 6 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", fmt.Sprintf(content, args...)))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Times-Roman/Encoding/WinAnsiEncoding>>")
	return f.Bytes()
}

type bench struct {
	t    testing.TB
	doc  *pdf.Document
	keys *step.Keys
	n    int
}

func newBench(t testing.TB, file []byte) *bench {
	d := pdftest.Open(t, file)
	pages, err := d.Pages()
	require.NoError(t, err)
	return &bench{t, d, step.NewKeys(pages), 0}
}

func (b *bench) try(s step.Step) (*step.Result, error) {
	b.n++
	doc, res, err := step.NewRegistry(nil, edit.Kinds()...).Run(b.t.Context(), b.doc, s, &step.Env{Keys: b.keys, Step: b.n})
	if err == nil {
		b.doc = doc
	}
	return res, err
}

func (b *bench) run(s step.Step) *step.Result {
	b.t.Helper()
	res, err := b.try(s)
	require.NoError(b.t, err)
	return res
}

func (b *bench) text() string {
	b.t.Helper()
	return strings.Join(strings.Fields(pdftest.Tool(b.t, pdftest.Whole(b.t, b.doc), "pdftotext", "-raw", "FILE", "-")), " ")
}

func replace(find, with string) *edit.ReplaceText {
	return &edit.ReplaceText{Pages: step.Pages{Rule: "all"}, Pairs: []edit.Pair{{Find: find, With: with}}}
}

const lines = `BT /F1 11 Tf 14 TL 72 700 Td
(The soundings of the north berth were taken at low water on the fourth) Tj T*
(of October and agree with those of the spring within five centimetres. What) Tj T*
(has come down the river is soft.) Tj
0 -40 Td (The office is open on weekdays.) Tj ET`

// A word is replaced by a longer one: the lines are broken anew from there on, and what stands elsewhere stays.
func TestReplaceText(t *testing.T) {
	b := newBench(t, set(lines))
	res := b.run(replace("north berth", "northern and the western berths"))
	assert.Equal(t, "“north berth” replaced by “northern and the western berths” in 1 place on 1 page", res.Sentence)
	assert.Empty(t, res.Warnings)
	assert.Equal(t, "The soundings of the northern and the western berths were taken at low water on the fourth of October and agree with those of the spring within five centimetres. "+
		"What has come down the river is soft. The office is open on weekdays.", b.text())
	pdftest.Check(t, pdftest.Whole(t, b.doc))
	_, err := b.try(replace("north berth", "x"))
	assert.EqualError(t, err, "no matches on these pages")
	b.run(replace("OFFICE", "harbour"))
	assert.Contains(t, b.text(), "The harbour is open on weekdays.")
	res = b.run(replace("soft", ""))
	assert.Contains(t, b.text(), "the river is .")
	assert.Contains(t, res.Sentence, " removed in 1 place")
}

// glyphsAt tells where each word begins, as poppler has it.
func wordsAt(t *testing.T, file []byte) map[string][2]float64 {
	t.Helper()
	out := map[string][2]float64{}
	for line := range strings.Lines(pdftest.Tool(t, file, "pdftotext", "-bbox", "-cropbox", "FILE", "-")) {
		var x0, y0, x1, y1 float64
		var word string
		if n, _ := fmt.Sscanf(strings.TrimSpace(line), `<word xMin="%f" yMin="%f" xMax="%f" yMax="%f">%s`, &x0, &y0, &x1, &y1, &word); n == 5 {
			word, _, _ = strings.Cut(word, "<")
			out[word] = [2]float64{x0, y1}
		}
	}
	return out
}

// What an operator left behind it is left there by what is put in: spacing, stretch, rise, both matrices, in every way of showing text.
func TestStateStays(t *testing.T) {
	const content = `BT /F1 12 Tf 1 Tc 3 Tw 90 Tz 16 TL 72 700 Td (alpha) Tj ( beta) Tj
(gamma) ' 1 0.5 (delta ) " [(ep) -20 (silon) 300 (zeta)] TJ
0 -60 Td (eta) Tj 4 Ts (theta) Tj 0 Ts (iota) Tj
T* (kappa) Tj ET q 0.9 0 0 0.9 30 20 cm BT /F2 14 Tf 72 300 Td (lambda mu) Tj ( nu) Tj ET Q`
	for _, word := range []string{"alpha", "gamma", "delta", "silon", "theta", "lambda"} {
		t.Run(word, func(t *testing.T) {
			b := newBench(t, set(content))
			before := wordsAt(t, pdftest.Whole(t, b.doc))
			b.run(replace(word, word)) // the same again: nothing moves
			file := pdftest.Whole(t, b.doc)
			pdftest.Check(t, file)
			after := wordsAt(t, file)
			require.Equal(t, len(before), len(after))
			for w, at := range before {
				assert.InDelta(t, at[0], after[w][0], 0.3, w)
				assert.InDelta(t, at[1], after[w][1], 0.3, w)
			}
		})
	}
}

// Justified lines are justified again; the style of words stays with them.
func TestJustified(t *testing.T) {
	b := newBench(t, set(`BT /F2 12 Tf 15 TL 72 700 Td
[(The)-700(soundings)-700(of)-700(the)-700(north)-700(berth)-700(were)-700(taken)] TJ T*
[(at)-593(low)-593(water)-593(on)-593(the)-593(fourth)-593(of)-593(October)-593(and)-601(so)] TJ T*
[(agree)-250(with)-250(those)-250(of)-250(spring.)] TJ ET`))
	right := func() (edge []float64) {
		for line := range strings.Lines(pdftest.Tool(t, pdftest.Whole(t, b.doc), "pdftotext", "-bbox-layout", "FILE", "-")) {
			var x0, y0, x1, y1 float64
			if n, _ := fmt.Sscanf(strings.TrimSpace(line), `<line xMin="%f" yMin="%f" xMax="%f" yMax="%f">`, &x0, &y0, &x1, &y1); n == 4 {
				edge = append(edge, x1)
			}
		}
		return edge
	}
	before := right()
	require.Len(t, before, 3)
	b.run(replace("north", "northernmost"))
	after := right()
	require.Len(t, after, 3)
	assert.InDelta(t, before[0], after[0], 0.5)
	assert.InDelta(t, before[0], after[1], 0.5)
	assert.Contains(t, b.text(), "the northernmost berth were")
}

// The last line of a paragraph that goes on elsewhere is full, and stays within the column.
func TestFullLastLine(t *testing.T) {
	b := newBench(t, set(`BT /F2 12 Tf 15 TL 72 700 Td
[(The)-700(soundings)-700(of)-700(the)-700(north)-700(berth)-700(were)-700(taken)] TJ T*
[(at)-593(low)-593(water)-593(on)-593(the)-593(fourth)-593(of)-593(October)-593(and)-601(so)] TJ T*
[(at)-593(low)-593(water)-593(on)-593(the)-593(eighth)-593(of)-593(October)-593(and)-560(so)] TJ ET`))
	before := wordsRight(t, pdftest.Whole(t, b.doc))
	b.run(replace("eighth", "twelfth"))
	assert.InDelta(t, before, wordsRight(t, pdftest.Whole(t, b.doc)), 0.5)
}

// wordsRight gives how far the words of a file reach to the right.
func wordsRight(t *testing.T, file []byte) (most float64) {
	t.Helper()
	for line := range strings.Lines(pdftest.Tool(t, file, "pdftotext", "-bbox", "-cropbox", "FILE", "-")) {
		var x0, y0, x1, y1 float64
		if n, _ := fmt.Sscanf(strings.TrimSpace(line), `<word xMin="%f" yMin="%f" xMax="%f" yMax="%f">`, &x0, &y0, &x1, &y1); n == 4 {
			most = max(most, x1)
		}
	}
	return most
}

// Words that the font can't show are set in the nearest face, and it is said.
func TestOtherFace(t *testing.T) {
	b := newBench(t, set(lines))
	res := b.run(replace("river", "řeka"))
	require.Len(t, res.Warnings, 1)
	assert.Equal(t, "“řeka” set in Sans, because the original font lacks some letters.", res.Warnings[0])
	assert.Contains(t, b.text(), "come down the řeka is soft.")
	file := pdftest.Whole(t, b.doc)
	pdftest.Check(t, file)
	assert.Contains(t, pdftest.Tool(t, file, "pdffonts", "FILE"), "LiberationSans")
	_, err := b.try(replace("soft", "\U0001F6A2"))
	assert.ErrorContains(t, err, "has characters that no font here has")
}

// Where there is no room it is said how much is missing, and nothing changes; other places are changed.
func TestNoRoom(t *testing.T) {
	file := set(`BT /F1 11 Tf 14 TL 72 700 Td (One line that goes on for as long as the column of this page is wide, and then ends) Tj T*
(soft) Tj 0 -14 Td /F1 24 Tf (HEADING) Tj /F1 11 Tf 0 -300 Td (soft) Tj ET`)
	b := newBench(t, file)
	long := strings.Repeat("soundings and ", 140) + "tides"
	res := b.run(replace("soft", long))
	assert.Contains(t, res.Sentence, "in 1 place")
	require.Len(t, res.Warnings, 1)
	assert.Regexp(t, `^1 place left on page 1: the text is \d+ lines? longer and needs \d+ pt more space below\.$`, res.Warnings[0])
	assert.Equal(t, 1, strings.Count(b.text(), long))
}

// Capitals go along where they are ignored; whole words, several pairs and hits that stay.
func TestPairs(t *testing.T) {
	b := newBench(t, set(`BT /F1 11 Tf 72 700 Td (Berth BERTH berth berths) Tj 0 -40 Td (In 2025 and 2026) Tj ET`))
	r := &edit.ReplaceText{Pages: step.Pages{Rule: "all"}, Pairs: []edit.Pair{{Find: "berth", With: "quay"}, {Find: "2025", With: "2026"}, {Find: "2026", With: "2027"}}, Whole: true}
	res := b.run(r)
	assert.Equal(t, "“berth” replaced by “quay” and 2 more pairs in 5 places on 1 page", res.Sentence)
	assert.Equal(t, "Quay QUAY quay berths In 2026 and 2027", b.text())
	b.run(&edit.ReplaceText{Pages: step.Pages{Rule: "all"}, Pairs: []edit.Pair{{Find: "quay", With: "pier"}}, Leave: "0.1:0:1"})
	assert.Equal(t, "Pier QUAY pier berths In 2026 and 2027", b.text())
	for _, no := range []*edit.ReplaceText{{Pages: step.Pages{Rule: "all"}}, replace("", "x"), replace("pier", strings.Repeat("x", 3000))} {
		_, err := b.try(no)
		assert.Error(t, err)
	}
}

// A paragraph gets another text; it is named by its place. What is said in other words by the file is not changed.
func TestEditParagraph(t *testing.T) {
	b := newBench(t, set(lines))
	res := b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, At: 1, Text: "The office is open on weekdays, and on Saturdays until noon."})
	assert.Equal(t, "“The office is open on weekdays…” edited on page 1", res.Sentence)
	assert.Contains(t, b.text(), "weekdays, and on Saturdays until noon.")
	_, err := b.try(&edit.Paragraph{Page: step.Pages{Rule: "1"}, At: 7, Text: "x"})
	assert.EqualError(t, err, "there is no such paragraph on the page")
	b = newBench(t, set(`/Span <</ActualText (Harbour)>> BDC BT /F1 11 Tf 72 700 Td (Hrbr) Tj ET EMC`))
	_, err = b.try(replace("Hrbr", "x"))
	assert.ErrorContains(t, err, "the file stores a replacement text")
}

// Two paragraphs that one operator shows are both changed; what it shows besides stays where it is.
func TestOneOperator(t *testing.T) {
	b := newBench(t, set(`BT /F1 11 Tf 72 700 Td [(The tide is low)-12000(The tide is high)-9000(ebb)] TJ 0 -40 Td (below) Tj ET`))
	before := wordsAt(t, pdftest.Whole(t, b.doc))
	b.run(replace("tide", "water"))
	assert.Equal(t, "ebb The water is low The water is high below", b.text(), "in the order of the content")
	after := wordsAt(t, pdftest.Whole(t, b.doc))
	for _, w := range []string{"ebb", "below"} {
		assert.InDelta(t, before[w][0], after[w][0], 0.1, w)
		assert.InDelta(t, before[w][1], after[w][1], 0.1, w)
	}
	pdftest.Check(t, pdftest.Whole(t, b.doc))
}

// A form that is drawn twice changes where it is drawn on the page that was named; text that stands on its side is set on its side.
func TestFormAndTurned(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2>>")
	for range 2 {
		f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 5 0 R/Resources<</Font<</F1 7 0 R>>/XObject<</X 6 0 R>>>>>>")
	}
	f.Add("%s", pdftest.Stream("", "q 1 0 0 1 50 100 cm /X Do Q BT /F1 11 Tf 0 1 -1 0 300 200 Tm (Soundings at the quay wall) Tj ET"))
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 500 700]/Resources<</Font<</F1 7 0 R>>>>", "BT /F1 11 Tf 20 500 Td (The harbour office) Tj ET"))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	b := newBench(t, f.Bytes())
	b.run(&edit.ReplaceText{Pages: step.Pages{Rule: "1"}, Pairs: []edit.Pair{{Find: "office", With: "master"}, {Find: "quay", With: "harbour"}}})
	file := pdftest.Whole(t, b.doc)
	pdftest.Check(t, file)
	pages := pdftest.PageTexts(t, file)
	require.Len(t, pages, 2)
	assert.Contains(t, pages[0], "The harbour master")
	assert.Contains(t, pages[0], "Soundings at the harbour wall")
	assert.Contains(t, pages[1], "The harbour office")
	assert.Contains(t, pages[1], "Soundings at the quay wall")
}

// Pages that show nothing, and text that runs from right to left, end in a sentence.
func TestNothingToEdit(t *testing.T) {
	b := newBench(t, set(``))
	_, err := b.try(replace("harbour", "quay"))
	assert.EqualError(t, err, "no matches on these pages")
	_, err = b.try(&edit.Paragraph{Page: step.Pages{Rule: "1"}, Text: "x"})
	assert.EqualError(t, err, "there is no such paragraph on the page")
	b = newBench(t, set(lines))
	_, err = b.try(&edit.Paragraph{Page: step.Pages{Rule: "1"}, At: 1, Text: strings.Repeat("x ", 60_000)})
	assert.EqualError(t, err, "a paragraph can have up to 50,000 characters")
	before := b.text()
	b.run(&edit.Paragraph{Page: step.Pages{Rule: "1"}, At: 1, Text: ""})
	assert.Equal(t, strings.TrimSuffix(before, " The office is open on weekdays."), b.text(), "a paragraph that is emptied is gone")
}
