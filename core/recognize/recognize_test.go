package recognize_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/draw"
	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
	"glenrain/core/raster"
	"glenrain/core/recognize"
	"glenrain/core/step"
	"glenrain/standin/paper"
)

func TestMain(m *testing.M) {
	child.Main()
	os.Exit(m.Run())
}

var texts = []string{
	"The soundings of the north berth were taken at low water",
	"on the fourth of October and agree with those of spring.",
	"Between the ferry ramp and the knuckle the bottom lies",
	"0.31 metres higher than a year ago, and is soft.",
}

// typed is a file of one page with lines of Helvetica.
func typed(lines ...string) []byte {
	var b strings.Builder
	b.WriteString("BT /F1 14 Tf 18 TL 60 700 Td ")
	for _, l := range lines {
		fmt.Fprintf(&b, "(%s) Tj T* ", l)
	}
	b.WriteString("ET")
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F1 5 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", b.String()))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	return f.Bytes()
}

// drawnGray is a page as poppler draws it.
func drawnGray(t testing.TB, file []byte, dpi int) *image.Gray {
	t.Helper()
	img, err := png.Decode(strings.NewReader(pdftest.Tool(t, file, "pdftoppm", "-r", fmt.Sprint(dpi), "-png", "FILE")))
	require.NoError(t, err)
	g := image.NewGray(img.Bounds())
	for y := range g.Rect.Dy() {
		for x := range g.Rect.Dx() {
			g.Set(x, y, img.At(x, y))
		}
	}
	return g
}

// scanned is a document of pages that are pictures of a size of 595 by 842 points, each with operators of its own behind.
func scanned(t testing.TB, more string, pages ...*image.Gray) []byte {
	t.Helper()
	doc := pdf.New()
	font := doc.Add(pdf.NewDict("Type", pdf.Name("Font"), "Subtype", pdf.Name("Type1"), "BaseFont", pdf.Name("Helvetica")))
	for i, g := range pages {
		var b bytes.Buffer
		require.NoError(t, png.Encode(&b, g))
		p, err := picture.Decode(b.Bytes())
		require.NoError(t, err)
		x, err := p.XObject(doc)
		require.NoError(t, err)
		content := doc.Add(pdf.NewStream(nil, []byte("q 595 0 0 842 0 0 cm /I Do Q "+more)))
		page := doc.Add(pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(595), pdf.Integer(842)}, "Contents", content,
			"Resources", pdf.NewDict("XObject", pdf.NewDict("I", x), "Font", pdf.NewDict("F1", font))))
		require.NoError(t, doc.InsertPages(i, []pdf.Ref{page}))
	}
	return pdftest.Whole(t, doc)
}

// kept remembers in memory.
type kept struct {
	mu         sync.Mutex
	parts      map[[32]byte][]byte
	asked, hit int
}

func (k *kept) Recall(of [32]byte) ([]byte, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.asked++
	b, ok := k.parts[of]
	if ok {
		k.hit++
	}
	return b, ok
}

func (k *kept) Store(of [32]byte, b []byte) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.parts[of] = b
}

type bench struct {
	t    testing.TB
	doc  *pdf.Document
	keys *step.Keys
	env  step.Env
	n    int
}

func newBench(t testing.TB, file []byte) *bench {
	t.Helper()
	if _, err := ocr.Find(); err != nil {
		t.Skip(err)
	}
	d := pdftest.Open(t, file)
	pages, err := d.Pages()
	require.NoError(t, err)
	b := &bench{t: t, doc: d, keys: step.NewKeys(pages)}
	drawer := raster.NewDrawer("test", "", sync.OnceValues(func() (*raster.Pool, error) { return raster.NewPool(raster.CacheForTests(), 1) }))
	t.Cleanup(drawer.Close)
	b.env = step.Env{Keys: b.keys, Draw: drawer}
	return b
}

func (b *bench) try(s step.Step) (*step.Result, error) {
	b.n++
	env := b.env
	env.Seed[0] = byte(b.n)
	doc, res, err := step.NewRegistry(nil, recognize.Kinds()...).Run(b.t.Context(), b.doc, s, &env)
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

func all(languages string) *recognize.Recognize {
	return &recognize.Recognize{Pages: step.Pages{Rule: "all"}, Languages: languages}
}

func read(t testing.TB, file []byte) string {
	return strings.Join(strings.Fields(pdftest.Tool(t, file, "pdftotext", "-raw", "FILE", "-")), " ")
}

// Pages that are pictures get text that other programs find where it stands; nothing that is seen changes.
func TestRecognize(t *testing.T) {
	page := drawnGray(t, typed(texts...), 150)
	b := newBench(t, scanned(t, "", page, paper.Scan(page, paper.Sheet{Askew: 2.5}), paper.Scan(page, paper.Sheet{Quarter: 2})))
	before := pdftest.Tool(t, pdftest.Whole(t, b.doc), "pdftoppm", "-r", "40", "FILE")
	var told [][2]int
	b.env.Progress = func(done, total int) { told = append(told, [2]int{done, total}) }
	res := b.run(all("eng"))
	assert.Regexp(t, `^Text of pages 1-3 recognized: \d+ words, 9\d% confidence`, res.Sentence)
	assert.Contains(t, res.Warnings, "Page 3 is not upright: rotate it in Arrange.")
	assert.Equal(t, [2]int{3, 3}, told[len(told)-1])
	got := pdftest.Whole(t, b.doc)
	pdftest.Check(t, got)
	assert.Equal(t, before, pdftest.Tool(t, got, "pdftoppm", "-r", "40", "FILE"), "nothing that is seen changes")
	want := strings.Join(texts, " ")
	assert.Equal(t, strings.Join([]string{want, want, want}, " "), read(t, got))
	// A second time there is nothing to do, unless what is there is to be replaced.
	_, err := b.try(all("eng"))
	assert.ErrorContains(t, err, "nothing to recognize: the pages have a text layer already")
	again := all("eng")
	again.Again = true
	b.run(again)
	assert.Equal(t, strings.Join([]string{want, want, want}, " "), read(t, pdftest.Whole(t, b.doc)), "replaced, not doubled")
	b.run(&recognize.Remove{Pages: step.Pages{Rule: "2-3"}})
	assert.Equal(t, want, read(t, pdftest.Whole(t, b.doc)))
	_, err = b.try(&recognize.Remove{Pages: step.Pages{Rule: "2"}})
	assert.ErrorContains(t, err, "no text was recognized")
}

// Of a page with text only the picture is recognized; its own bytes stay; what is set over the picture is not read twice.
func TestMixed(t *testing.T) {
	page := drawnGray(t, typed(texts...), 150)
	b := newBench(t, scanned(t, "BT /F1 12 Tf 60 40 Td (Page 7 of the minutes) Tj ET", page))
	content := fmt.Sprint(b.doc.Dict(pdftest.Refs(t, b.doc)[0]).Get("Contents"))
	b.run(all("eng"))
	text := read(t, pdftest.Whole(t, b.doc))
	assert.Equal(t, 1, strings.Count(text, "minutes"))
	assert.Contains(t, text, texts[1])
	assert.Contains(t, fmt.Sprint(b.doc.Dict(pdftest.Refs(t, b.doc)[0]).Get("Contents")), content, "its own stream is the same object")
	// A page of text alone is left.
	b = newBench(t, typed(texts...))
	_, err := b.try(all("eng"))
	assert.ErrorContains(t, err, "nothing to recognize: these pages have text")
}

// The language is found by what the words of a page are.
func TestLanguageFound(t *testing.T) {
	german := []string{"Die Winterliegeplaetze werden ab dem ersten Oktober vergeben.", "Wer sein Schiff laenger liegen lassen will, meldet sich bitte", "im Hafen und bringt die Papiere des Schiffes mit. Strom und",
		"Wasser werden nach Verbrauch berechnet, und die Einfahrt", "bleibt in der Nacht geschlossen, solange hier gebaggert wird."}
	e, err := ocr.Find()
	if err != nil || e.Check([]string{"deu", "eng"}) != nil {
		t.Skip("German or English is not installed")
	}
	for want, lines := range map[string][]string{"eng": append(texts, "The contractor takes it up with a grab in two shifts, and begins", "on Monday when the vessels have left their berths."), "deu": german} {
		b := newBench(t, scanned(t, "", drawnGray(t, typed(lines...), 150)))
		g, err := recognize.FindLanguage(t.Context(), b.doc, &b.env, step.Pages{Rule: "all"}, false)
		require.NoError(t, err)
		assert.Equal(t, []string{want}, g.Codes, "%+v", g)
		assert.NotEmpty(t, g.Sample)
		assert.Greater(t, g.Known[want], 80)
		b.run(all(""))
		_, note, ok := recognize.Layer(b.doc, pdftest.Refs(t, b.doc)[0])
		require.True(t, ok)
		assert.Equal(t, []string{want}, note.Languages)
	}
}

// What was read is remembered page by page; stopped work keeps what is done; what can't be read is told and stops nothing.
func TestStopped(t *testing.T) {
	var pages []*image.Gray
	for i := range 6 {
		pages = append(pages, drawnGray(t, typed(texts[i%4], fmt.Sprintf("Sheet %d of the pile", i+1)), 100))
	}
	b := newBench(t, scanned(t, "", pages...))
	remembered := &kept{parts: map[[32]byte][]byte{}}
	b.env.Remember = remembered
	n := 0
	b.env.Progress = func(done, _ int) { n = done }
	b.env.Enough = func() bool { return n >= 2 }
	res := b.run(all("eng"))
	assert.Regexp(t, `^Stopped: \d pages? of 6 left as they were.$`, strings.Join(res.Warnings, "\n"))
	assert.Less(t, len(res.Pages), 6)
	done := len(remembered.parts)
	assert.GreaterOrEqual(t, done, 2)
	// Broken off in the middle, nothing is changed; begun again, it goes on where it was.
	ctx, cancel := context.WithCancel(t.Context())
	b = newBench(t, scanned(t, "", pages...))
	b.env.Remember = remembered
	b.env.Progress = func(done, _ int) {
		if done >= 4 {
			cancel()
		}
	}
	env := b.env
	_, _, err := step.NewRegistry(nil, recognize.Kinds()...).Run(ctx, b.doc, all("eng"), &env)
	assert.ErrorIs(t, err, context.Canceled)
	assert.GreaterOrEqual(t, len(remembered.parts), 3)
	had := len(remembered.parts)
	b.env.Progress = nil
	remembered.hit = 0
	b.run(all("eng"))
	assert.GreaterOrEqual(t, remembered.hit, had, "what was read before is not read again")
	assert.Contains(t, read(t, pdftest.Whole(t, b.doc)), "Sheet 6 of the pile")
	for _, bad := range []string{"english", "xyz", "eng+deu+fra+ita+spa", "../x"} {
		_, err := newBench(t, scanned(t, "", pages[0])).try(all(bad))
		var refused *step.Refusal
		assert.ErrorAs(t, err, &refused, bad)
	}
}

// A picture that is stored in a way that isn't read here is drawn; so are pictures in strips.
func TestDrawn(t *testing.T) {
	page := drawnGray(t, typed(texts...), 150)
	doc := pdf.New()
	xobjects := pdf.NewDict()
	var ops strings.Builder
	h := page.Rect.Dy()
	for i := range 4 { // four strips
		y0, y1 := h*i/4, h*(i+1)/4
		strip := image.NewGray(image.Rect(0, 0, page.Rect.Dx(), y1-y0))
		copy(strip.Pix, page.Pix[y0*page.Stride:y1*page.Stride])
		var b bytes.Buffer
		require.NoError(t, png.Encode(&b, strip))
		p, err := picture.Decode(b.Bytes())
		require.NoError(t, err)
		x, err := p.XObject(doc)
		require.NoError(t, err)
		name := pdf.Name(fmt.Sprintf("S%d", i))
		xobjects.Set(name, x)
		top := 842 - 842*float64(y0)/float64(h)
		fmt.Fprintf(&ops, "q 595 0 0 %.4f 0 %.4f cm /%s Do Q ", 842*float64(y1-y0)/float64(h), top-842*float64(y1-y0)/float64(h), name)
	}
	ref := doc.Add(pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(595), pdf.Integer(842)}, "Rotate", pdf.Integer(90),
		"Contents", doc.Add(pdf.NewStream(nil, []byte(ops.String()))), "Resources", pdf.NewDict("XObject", xobjects)))
	require.NoError(t, doc.InsertPages(0, []pdf.Ref{ref}))
	b := newBench(t, pdftest.Whole(t, doc))
	b.run(all("eng"))
	assert.Equal(t, strings.Join(texts, " "), read(t, pdftest.Whole(t, b.doc)))
	u, _, ok := recognize.Layer(b.doc, pdftest.Refs(t, b.doc)[0])
	require.True(t, ok)
	w := u.Lines[0].Words[0]
	assert.Equal(t, "The", w.Text)
	assert.InDelta(t, 60, w.X, 2, "where it stands in the page's own space")
	assert.InDelta(t, 700, w.Y, 2)
}

// Doubted words are kept with the layer, and put right one by one.
func TestWords(t *testing.T) {
	b := newBench(t, typed("x"))
	ref := pdftest.Refs(t, b.doc)[0]
	u := &draw.Invisible{Note: "81 eng 1:40 3:52", Lines: []draw.InvisibleLine{
		{Size: 12, Words: []draw.InvisibleWord{{Text: "The", X: 60, Y: 500, Long: 20}, {Text: "soundlngs", X: 84, Y: 500, Long: 60}}},
		{Size: 12, Words: []draw.InvisibleWord{{Text: "were", X: 60, Y: 480, Long: 30}, {Text: "##", X: 94, Y: 480, Long: 20}, {Text: "taken", X: 120, Y: 480, Long: 30}}},
	}}
	require.NoError(t, draw.PutInvisible(b.doc, ref, u))
	page := step.Pages{Rule: "1"}
	res := b.run(&recognize.Words{Page: page, Changes: []recognize.Change{{Word: 1, Was: "soundlngs", Text: "soundings"}}})
	assert.Equal(t, "Recognized word “soundlngs” corrected to “soundings”", res.Sentence)
	_, note, _ := recognize.Layer(b.doc, ref)
	assert.Equal(t, []recognize.Doubt{{Word: 3, Sure: 52}}, note.Doubts)
	_, err := b.try(&recognize.Words{Page: page, Changes: []recognize.Change{{Word: 1, Was: "soundlngs", Text: "x"}}})
	assert.ErrorContains(t, err, "has changed since")
	_, err = b.try(&recognize.Words{Page: page, Changes: []recognize.Change{{Word: 99, Was: "x", Text: "x"}}})
	assert.ErrorContains(t, err, "has changed since")
	_, err = b.try(&recognize.Words{Page: page})
	assert.ErrorContains(t, err, "no word is")
	res = b.run(&recognize.Words{Page: page, Changes: []recognize.Change{{Word: 3, Was: "##", Gone: true}}})
	assert.Equal(t, "Recognized word “##” removed: not text", res.Sentence)
	after, note, _ := recognize.Layer(b.doc, ref)
	assert.Empty(t, note.Doubts)
	assert.Equal(t, 4, after.Words())
	assert.Equal(t, "taken", after.Lines[1].Words[1].Text)
	assert.InDelta(t, 120, after.Lines[1].Words[1].X, 0.2, "the others stay where they were")
	assert.Equal(t, 81, note.Sure)
	res = b.run(&recognize.Words{Page: page, Changes: []recognize.Change{{Word: 0, Was: "The"}}})
	assert.Equal(t, "Recognized word “The” accepted", res.Sentence)
}

// Proposals are words of the dictionary that differ by letters which are read for one another.
func TestNear(t *testing.T) {
	for word, want := range map[string]string{"rnooring": "mooring", "harb0r": "harbor", "clredging": "dredging", "(tidcs)": "(tides)", "wa1l,": "wall,"} {
		assert.Contains(t, recognize.Near(word, "eng", nil), want)
	}
	assert.Empty(t, recognize.Near("mooring", "xx", nil))
	assert.Empty(t, recognize.Near("", "eng", nil))
}

// Without the program everything else works, and it is told which package has it.
func TestMissing(t *testing.T) {
	file := scanned(t, "", drawnGray(t, typed(texts[0]), 100))
	b := newBench(t, file)
	t.Setenv("PATH", filepath.Join(t.TempDir(), "none"))
	_, err := b.try(all("eng"))
	assert.ErrorContains(t, err, "tesseract-ocr")
	var refused *step.Refusal
	assert.ErrorAs(t, err, &refused)
}

// places gives where the words of a file stand that it has once, as poppler sees the page: left, top, right, bottom.
func places(t *testing.T, file []byte) map[string][4]float64 {
	t.Helper()
	out, seen := map[string][4]float64{}, map[string]int{}
	for line := range strings.Lines(pdftest.Tool(t, file, "pdftotext", "-bbox", "FILE", "-")) {
		var b [4]float64
		var word string
		if n, _ := fmt.Sscanf(strings.TrimSpace(line), `<word xMin="%f" yMin="%f" xMax="%f" yMax="%f">%s`, &b[0], &b[1], &b[2], &b[3], &word); n == 5 {
			word, _, _ = strings.Cut(word, "<")
			if seen[word]++; seen[word] > 1 {
				delete(out, word)
			} else {
				out[word] = b
			}
		}
	}
	return out
}

// On a page that is cropped and turned the words lie where those of the typed page lie that is cropped and turned like it.
func TestCropped(t *testing.T) {
	file := typed(texts...)
	turned := func(file []byte) []byte {
		d := pdftest.Open(t, file)
		p := d.Edit(pdftest.Refs(t, d)[0])
		p.Set("CropBox", pdf.Array{pdf.Integer(40), pdf.Integer(560), pdf.Integer(560), pdf.Integer(760)})
		p.Set("Rotate", pdf.Integer(90))
		return pdftest.Whole(t, d)
	}
	want := places(t, turned(file))
	b := newBench(t, turned(scanned(t, "", drawnGray(t, file, 200))))
	b.run(all("eng"))
	got := places(t, pdftest.Whole(t, b.doc))
	right, near := 0, 0
	for w, at := range want {
		is, ok := got[w]
		if !ok {
			continue
		}
		right++
		near++
		for _, i := range []int{0, 1, 3} { // not where the ascent of the face decides
			if math.Abs(at[i]-is[i]) > 1.5 {
				near--
				t.Logf("%s, side %d: %.1f, %.1f", w, i, at[i], is[i])
				break
			}
		}
	}
	assert.Greater(t, right, 25)
	assert.GreaterOrEqual(t, near, right-1)
}
