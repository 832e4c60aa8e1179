package furnish

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

func registry() *step.Registry { return step.NewRegistry(Hooks(), Kinds()...) }

// apply runs steps, one after another, each name followed by its parameters.
func apply(t *testing.T, doc *pdf.Document, calls ...string) (*pdf.Document, *step.Result) {
	t.Helper()
	pages, err := doc.Pages()
	require.NoError(t, err)
	keys := step.NewKeys(pages)
	var res *step.Result
	for i := 0; i < len(calls); i += 2 {
		s, err := registry().New(calls[i], json.RawMessage(calls[i+1]))
		require.NoError(t, err)
		var r *step.Result
		_, r, err = registry().Run(t.Context(), doc, s, &step.Env{Now: time.Unix(1e9, 0), Seed: [16]byte{byte(i), 3}, Step: i + 1, Keys: keys})
		require.NoError(t, err)
		doc, err = doc.With(r.Update)
		require.NoError(t, err)
		res = r
	}
	return doc, res
}

func TestRoman(t *testing.T) {
	for n, want := range map[int]string{1: "i", 4: "iv", 9: "ix", 14: "xiv", 40: "xl", 90: "xc", 400: "cd", 1944: "mcmxliv", 2026: "mmxxvi", 3999: "mmmcmxcix", 0: "0", 4000: "4000"} {
		assert.Equal(t, want, nav.Roman(n))
	}
}

// On a page rotated any way, cut to a part and with a larger unit, the number stands upright
// at the bottom of what is seen. The places are worked out by hand for "7" of 10 pt in
// Liberation Sans, 5.56 pt wide (Helvetica's AFM), 20 pt from foot and side.
func TestPlaces(t *testing.T) {
	for rotate, seen := range map[int][2]float64{0: {400, 600}, 90: {600, 400}, 180: {400, 600}, 270: {600, 400}} {
		f := &pdftest.File{Version: "1.6"}
		f.Add("<</Type/Catalog/Pages 2 0 R>>")
		f.Add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
		f.Add("<</Type/Page/Parent 2 0 R/MediaBox[-50 -50 300 400]/CropBox[10 20 210 320]/UserUnit 2/Rotate %d>>", rotate)
		for _, c := range []struct {
			align, edge string
			x, y        float64 // left end of the baseline, from the lower left corner of what is seen
		}{
			{"left", "bottom", 20, 20}, {"right", "bottom", seen[0] - 20 - 5.56, 20}, {"centre", "bottom", (seen[0] - 5.56) / 2, 20},
			// capitals are 1409 of 2048 units high in Liberation Sans (OS/2 sCapHeight): 6.88 pt
			{"centre", "top", (seen[0] - 5.56) / 2, seen[1] - 20 - 6.88},
		} {
			doc, _ := apply(t, pdftest.Open(t, f.Bytes()), "number",
				fmt.Sprintf(`{"pages":"all","edge":%q,"align":%q,"size":10,"margin":20,"first":7}`, c.edge, c.align))
			file := pdftest.Whole(t, doc)
			pdftest.Check(t, file)
			page := pdftest.Refs(t, doc)[0]
			spot, ok := SpotOf(doc, "", page)
			x, y, w, h := spot.X, spot.Y, spot.W, spot.H
			require.True(t, ok)
			assert.InDelta(t, c.x, x, 0.01, "%d %+v", rotate, c)
			assert.InDelta(t, seen[1]-c.y-8, y, 0.02)
			assert.InDelta(t, 5.56, w, 0.01)
			assert.InDelta(t, 10, h, 0)
			// mutool tells the origin of the glyph in the page as it is seen, in its own units (half of ours).
			out := pdftest.Tool(t, file, "mutool", "draw", "-F", "stext", "FILE")
			gx, gy := glyph(t, out)
			assert.InDelta(t, c.x, gx, 0.6, "rotate %d %+v:\n%s", rotate, c, out)
			assert.InDelta(t, seen[1]-c.y, gy, 0.6, "rotate %d %+v:\n%s", rotate, c, out)
			assert.Contains(t, out, `dir="1 0"`, "upright")
		}
	}
}

// glyph gives the origin of the only glyph in mutool's stext output, in points.
func glyph(t *testing.T, out string) (x, y float64) {
	t.Helper()
	i := strings.Index(out, "<char ")
	require.GreaterOrEqual(t, i, 0, out)
	num := func(attr string) float64 {
		_, rest, _ := strings.Cut(out[i:], " "+attr+`="`)
		var v float64
		_, err := fmt.Sscanf(rest, "%g", &v)
		require.NoError(t, err)
		return v
	}
	return num("x"), num("y")
}

// Two furnishings are removed singly, whichever was put on first, and the page's content
// is as it was.
func TestRemovedSingly(t *testing.T) {
	data := pdftest.Text(3)
	whole := func(d *pdf.Document) []string { return pdftest.PageTexts(t, pdftest.Whole(t, d)) }
	for _, first := range []int{0, 1} {
		doc, _ := apply(t, pdftest.Open(t, data), "number", `{"pages":"all","wording":[{"text":"foot "},{"field":"page"}]}`,
			"number", `{"pages":"all","edge":"top","wording":[{"text":"head "},{"field":"page"}]}`)
		list := draw.List(doc)
		require.Len(t, list, 2)
		assert.Contains(t, whole(doc)[0], "foot 1")
		assert.Contains(t, whole(doc)[0], "head 1")
		doc, _ = apply(t, doc, "furnishing-remove", fmt.Sprintf(`{"id":%q}`, list[first].ID))
		got := whole(doc)[0]
		assert.Equal(t, first != 0, strings.Contains(got, "foot 1"))
		assert.Equal(t, first != 1, strings.Contains(got, "head 1"))
		doc, _ = apply(t, doc, "furnishing-remove", fmt.Sprintf(`{"id":%q}`, list[1-first].ID))
		assert.Equal(t, []string{"Page 1", "Page 2", "Page 3"}, whole(doc))
		base := pdftest.Open(t, data)
		for i, r := range pdftest.Refs(t, doc) {
			assert.Equal(t, base.Dict(pdftest.Refs(t, base)[i]).Get("Contents"), doc.Dict(r).Get("Contents"), "the streams of page %d are its own again", i+1)
			assert.Empty(t, draw.Items(doc, r))
		}
		assert.Empty(t, draw.List(doc))
	}
}

func TestNumbering(t *testing.T) {
	doc, res := apply(t, pdftest.Open(t, pdftest.Text(6)), "number", `{"pages":"odd","first":10,"wording":[{"field":"page"},{"text":" of "},{"field":"pages"}]}`)
	assert.Equal(t, "3 pages numbered at the bottom", res.Sentence)
	assert.Equal(t, []string{"Page 1 10 of 15", "Page 2", "Page 3 12 of 15", "Page 4", "Page 5 14 of 15", "Page 6"}, pdftest.PageTexts(t, pdftest.Whole(t, doc)),
		"pages without a number are counted too")
	v, err := ReadNumbers(doc, draw.List(doc)[0])
	require.NoError(t, err)
	assert.Equal(t, "odd", v.Pages.Rule, "the rule stays a rule")

	doc, _ = apply(t, pdftest.Open(t, pdftest.Text(6)), "number", `{"pages":["0.5","0.2"]}`)
	v, err = ReadNumbers(doc, draw.List(doc)[0])
	require.NoError(t, err)
	assert.Equal(t, "2, 5", v.Pages.Rule, "pages named singly are told as a set")

	_, res = apply(t, pdftest.Open(t, pdftest.Text(2)), "number", `{"wording":[{"text":"漢 "},{"field":"page"}]}`)
	require.Len(t, res.Warnings, 1)
	assert.Contains(t, res.Warnings[0], "“漢”")

	for _, bad := range []string{`{"wording":[{"field":"day"}]}`, `{"wording":[{"text":"a","field":"page"}]}`, `{"wording":[{"words":"a"}]}`, `{"size":0}`, `{"size":"1m"}`, `{"edge":"side"}`, `{"colour":"greenish"}`, `{"first":-1}`} {
		_, err := registry().New("number", json.RawMessage(bad))
		var r *step.Refusal
		assert.ErrorAs(t, err, &r, bad)
	}
	s, err := registry().New("number", json.RawMessage(`{"pages":"40-"}`))
	require.NoError(t, err)
	_, _, err = registry().Run(t.Context(), pdftest.Open(t, pdftest.Text(2)), s, &step.Env{})
	assert.ErrorContains(t, err, "no page is selected")
}

// A furnishing of a kind that this version does not know is left alone.
func TestUnknownKind(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(2)).Fork()
	id := strings.Repeat("ab", 16)
	require.NoError(t, draw.Keep(doc, draw.Placed{ID: id, Kind: "stamp-of-the-future", Values: []byte(`{"x":1}`)}, time.Unix(0, 0)))
	up, err := doc.Update([16]byte{})
	require.NoError(t, err)
	data := append(pdftest.Text(2), up...)
	doc, _ = apply(t, pdftest.Open(t, data), "number", `{"pages":"1"}`)
	list := draw.List(doc)
	require.Len(t, list, 2)
	assert.Equal(t, "stamp-of-the-future", list[0].Kind)
	assert.Equal(t, `{"x":1}`, string(list[0].Values))
	s, err := registry().New("furnishing-update", json.RawMessage(fmt.Sprintf(`{"id":%q}`, id)))
	require.NoError(t, err)
	_, _, err = registry().Run(t.Context(), doc, s, &step.Env{})
	assert.ErrorContains(t, err, "newer version")
}

func TestChecks(t *testing.T) {
	doc, _ := apply(t, pdftest.Open(t, pdftest.Text(3)), "number", `{}`)
	found, err := stale(doc)
	require.NoError(t, err)
	assert.Empty(t, found)
	fork := doc.Fork()
	p := draw.List(fork)[0]
	p.Stale = true
	require.NoError(t, draw.Keep(fork, p, time.Unix(0, 0)))
	found, err = stale(fork)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.True(t, found[0].Asks)
}

// A page whose content can't be unpacked is numbered like others: what can't be read draws nothing, and stays.
func TestUnreadableContent(t *testing.T) {
	f := &pdftest.File{Version: "1.6"}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 300 400]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents[4 0 R 5 0 R]>>")
	f.Add("%s", pdftest.Stream("/Filter/FlateDecode", "no deflated bytes at all"))
	f.Add("%s", pdftest.Stream("/Filter/Soundings", "q q q"))
	doc, res := apply(t, pdftest.Open(t, f.Bytes()), "number", `{"pages":"all"}`)
	assert.Equal(t, "1 page numbered at the bottom", res.Sentence)
	assert.Equal(t, []string{"The content of page 1 has errors: some programs may not show the added text."}, res.Warnings)
	out := pdftest.Whole(t, doc)
	assert.Contains(t, pdftest.Tool(t, out, "pdftotext", "-q", "FILE", "-"), "1")
	assert.True(t, bytes.Contains(out, []byte("no deflated bytes at all")))
}

// A number that does not fit on its page is drawn, and told.
func TestTinyPages(t *testing.T) {
	f := &pdftest.File{Version: "1.6"}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R 6 0 R]/Count 4/MediaBox[0 0 300 400]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 300 30]>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 12 400]>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 30 30]/UserUnit 10>>")
	_, res := apply(t, pdftest.Open(t, f.Bytes()), "number", `{"pages":"all","first":1000}`)
	assert.Equal(t, []string{"Pages 2 and 3 are too small: part or all of the text there is off the page."}, res.Warnings)
	_, res = apply(t, pdftest.Open(t, pdftest.Text(3)), "number", `{"pages":"all"}`)
	assert.Empty(t, res.Warnings)
}
