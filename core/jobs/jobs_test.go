package jobs

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/annot"
	"glenrain/core/child"
	"glenrain/core/draw"
	"glenrain/core/house"
	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
	"glenrain/core/raster"
	"glenrain/core/step"
	scanner "glenrain/standin/scanner"
)

func TestMain(m *testing.M) {
	child.Main()
	os.Exit(m.Run())
}

// memory gives sources from bytes by name.
type memory map[string][]byte

func (m memory) Open(_ context.Context, ref step.SourceRef) (*step.Source, error) {
	b, ok := m[string(ref)]
	if !ok {
		return nil, step.Refuse("there is no %s", ref)
	}
	return &step.Source{Name: string(ref), Data: bytes.NewReader(b), Size: int64(len(b))}, nil
}

// bench is a document on which steps are run one after another.
type bench struct {
	t    testing.TB
	reg  *step.Registry
	base []byte
	doc  *pdf.Document
	keys *step.Keys
	src  memory
	n    int
	ups  [][]byte
}

func newBench(t testing.TB, data []byte) *bench {
	d := pdftest.Open(t, data)
	pages, err := d.Pages()
	require.NoError(t, err)
	return &bench{t: t, reg: Registry(), base: data, doc: d, keys: step.NewKeys(pages), src: memory{"other": pdftest.Text(9)}}
}

func (b *bench) env() *step.Env {
	return &step.Env{Now: time.Unix(1_800_000_000, 0).UTC(), Seed: [16]byte{byte(b.n), 7}, Step: b.n, Keys: b.keys, Sources: b.src}
}

func (b *bench) run(name, params string) *step.Result {
	b.t.Helper()
	res, err := b.try(name, params)
	require.NoError(b.t, err)
	return res
}

// reads holds what a step says against the patterns of plain English.
func reads(t testing.TB, sentences ...string) {
	t.Helper()
	for _, s := range sentences {
		words, instead := house.Wrong(s)
		assert.Empty(t, words, "%s: %s", s, instead)
	}
}

func (b *bench) try(name, params string) (*step.Result, error) {
	s, err := b.reg.New(name, json.RawMessage(params))
	if err != nil {
		return nil, err
	}
	b.n++
	_, res, err := b.reg.Run(b.t.Context(), b.doc, s, b.env())
	if err != nil {
		reads(b.t, err.Error())
		return nil, err
	}
	reads(b.t, append([]string{res.Sentence}, res.Warnings...)...)
	b.doc, err = b.doc.With(res.Update)
	require.NoError(b.t, err)
	b.keys = b.keys.With(b.n, res.Created)
	b.ups = append(b.ups, res.Update)
	return res, nil
}

func (b *bench) texts() []string { return pdftest.PageTexts(b.t, pdftest.Whole(b.t, b.doc)) }

// file is base and updates, as they stand on the disk.
func (b *bench) file() []byte {
	return append(bytes.Clone(b.base), bytes.Join(b.ups, nil)...)
}

func TestMove(t *testing.T) {
	b := newBench(t, pdftest.Text(8))
	res := b.run("move", `{"pages":["0.2","0.6"],"to":"0.5"}`)
	assert.Equal(t, "Pages 2, 6 moved before page 5", res.Sentence)
	assert.Equal(t, "Page 1,Page 3,Page 4,Page 2,Page 6,Page 5,Page 7,Page 8", strings.Join(b.texts(), ","))
	b.run("move", `{"pages":"1","to":"end"}`)
	b.run("move", `{"pages":"last","to":1}`)
	b.run("move", `{"pages":["0.8"],"to":"first"}`)
	assert.Equal(t, "Page 8,Page 1,Page 3,Page 4,Page 2,Page 6,Page 5,Page 7", strings.Join(b.texts(), ","))
	pdftest.Check(t, b.file())
	_, err := b.try("move", `{"pages":["0.8"],"to":"first"}`)
	assert.ErrorContains(t, err, "already there")
	_, err = b.try("move", `{"pages":"20","to":"first"}`)
	assert.ErrorContains(t, err, "no page")
}

func TestRotate(t *testing.T) {
	b := newBench(t, pdftest.Text(3))
	b.run("rotate", `{"pages":"all","by":90}`)
	r := pdftest.Refs(t, b.doc)
	assert.Equal(t, []int{90, 180, 90}, []int{b.doc.Geometry(r[0]).Rotate, b.doc.Geometry(r[1]).Rotate, b.doc.Geometry(r[2]).Rotate})
	b.run("rotate", `{"pages":"2","to":0}`)
	b.run("rotate", `{"pages":"1","by":-180}`)
	assert.Equal(t, 0, b.doc.Geometry(r[1]).Rotate)
	assert.Equal(t, 270, b.doc.Geometry(r[0]).Rotate)
	for _, bad := range []string{`{"pages":"1"}`, `{"pages":"1","by":90,"to":0}`, `{"pages":"1","by":45}`, `{"pages":"1","to":45}`} {
		_, err := b.try("rotate", bad)
		assert.Error(t, err, bad)
	}
}

// linked is a file in which a bookmark, a named place, links, tags and a form field lead to page 2.
func linked() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add(`<</Type/Catalog/Pages 2 0 R/Outlines 10 0 R/Names<</Dests 14 0 R>>/StructTreeRoot 20 0 R/MarkInfo<</Marked true>>/AcroForm<</Fields[30 0 R 31 0 R]/DA(/F1 9 Tf)>>/OpenAction[4 0 R/Fit]>>`)
	f.Add(`<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R]/Count 3/MediaBox[0 0 300 300]/Resources<</Font<</F1 9 0 R>>>>>>`)
	f.Add(`<</Type/Page/Parent 2 0 R/Contents 6 0 R/StructParents 0/Annots[15 0 R 16 0 R 17 0 R]>>`)
	f.Add(`<</Type/Page/Parent 2 0 R/Contents 7 0 R/StructParents 1/Annots[30 0 R 32 0 R]>>`)
	f.Add(`<</Type/Page/Parent 2 0 R/Contents 8 0 R/StructParents 2/Annots[33 0 R]>>`)
	for i, s := range []string{"FIRST", "HARBOURSECRET", "THIRD"} {
		f.Add("%s", pdftest.Stream("", fmt.Sprintf("/P <</MCID 0>> BDC BT /F1 20 Tf 30 %d Td (%s) Tj ET EMC", 200-i, s)))
	}
	f.Add(`<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>`)                                                         // 9
	f.Add(`<</Type/Outlines/First 11 0 R/Last 13 0 R/Count 3>>`)                                                     // 10
	f.Add(`<</Title(One)/Parent 10 0 R/Next 12 0 R/Dest[3 0 R/Fit]>>`)                                               // 11
	f.Add(`<</Title(Secret bookmark)/Parent 10 0 R/Prev 11 0 R/Next 13 0 R/A<</S/GoTo/D(second)>>>>`)                // 12
	f.Add(`<</Title(Three)/Parent 10 0 R/Prev 12 0 R/Dest[5 0 R/Fit]>>`)                                             // 13
	f.Add(`<</Names[(first)[3 0 R/Fit](second)<</D[4 0 R/Fit]>>]>>`)                                                 // 14
	f.Add(`<</Type/Annot/Subtype/Link/Rect[0 0 50 50]/Dest[4 0 R/Fit]>>`)                                            // 15
	f.Add(`<</Type/Annot/Subtype/Link/Rect[0 50 50 90]/A<</S/GoTo/D(second)>>>>`)                                    // 16
	f.Add(`<</Type/Annot/Subtype/Link/Rect[0 90 50 120]/Dest(first)>>`)                                              // 17
	f.Add(`null`)                                                                                                    // 18
	f.Add(`null`)                                                                                                    // 19
	f.Add(`<</Type/StructTreeRoot/K[21 0 R]/ParentTree<</Nums[0[22 0 R]1[23 0 R]2[24 0 R]]>>/ParentTreeNextKey 3>>`) // 20
	f.Add(`<</Type/StructElem/S/Document/P 20 0 R/K[22 0 R 23 0 R 24 0 R]>>`)                                        // 21
	f.Add(`<</Type/StructElem/S/P/P 21 0 R/Pg 3 0 R/K 0>>`)                                                          // 22
	f.Add(`<</Type/StructElem/S/P/P 21 0 R/Pg 4 0 R/K 0/ActualText(HARBOURSECRET spoken)>>`)                         // 23
	f.Add(`<</Type/StructElem/S/P/P 21 0 R/K<</Type/MCR/Pg 5 0 R/MCID 0>>>>`)                                        // 24
	for range 5 {                                                                                                    // 25-29
		f.Add(`null`)
	}
	f.Add(`<</Type/Annot/Subtype/Widget/FT/Tx/T(secret field)/V(HARBOURSECRET value)/Rect[0 0 9 9]/P 4 0 R>>`) // 30
	f.Add(`<</FT/Tx/T(both)/Kids[32 0 R 33 0 R]>>`)                                                            // 31
	f.Add(`<</Type/Annot/Subtype/Widget/Parent 31 0 R/Rect[0 10 9 19]/P 4 0 R/Contents(HARBOURSECRET note)>>`) // 32
	f.Add(`<</Type/Annot/Subtype/Widget/Parent 31 0 R/Rect[0 10 9 19]/P 5 0 R>>`)                              // 33
	return f.Bytes()
}

// A page that bookmarks, links, tags and fields point to is nowhere in the file that is handed out.
func TestRemoveLeavesNothing(t *testing.T) {
	b := newBench(t, linked())
	require.Contains(t, string(pdftest.Tool(t, b.base, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")), "HARBOURSECRET")
	res := b.run("remove", `{"pages":["0.2"]}`)
	assert.Equal(t, []string{"Removed with them, because they pointed there: 1 bookmark, 1 named place, 2 links, 1 form field, 1 tag."}, res.Warnings)
	assert.Equal(t, step.Key{Ordinal: 3}, res.Show)
	pdftest.Check(t, b.file())

	out := pdftest.Whole(t, b.doc)
	pdftest.Check(t, out)
	plain := pdftest.Tool(t, out, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	assert.NotContains(t, plain, "SECRET")
	assert.NotContains(t, plain, "ecret")
	assert.Equal(t, 2, strings.Count(plain, "/Type /Page\n"))
	assert.Equal(t, []string{"FIRST", "THIRD"}, pdftest.PageTexts(t, out))
	for _, left := range []string{"(One)", "(Three)", "(first)", "(both)", "/OBJR", "/OpenAction"} {
		want := left != "/OBJR" && left != "/OpenAction"
		assert.Equal(t, want, strings.Contains(plain, left), left)
	}
	d := pdftest.Open(t, out)
	assert.Len(t, d.Array(d.Dict(pdftest.Refs(t, d)[0]).Get("Annots")), 1, "the link to the first page stays")
	assert.Contains(t, pdftest.Tool(t, out, "pdfinfo", "-struct-text", "FILE"), "THIRD")

	_, err := b.try("remove", `{"pages":"all"}`)
	assert.ErrorContains(t, err, "because a document needs one")
}

func TestInsertBringsWhatBelongs(t *testing.T) {
	b := newBench(t, pdftest.Text(3))
	b.src["linked"] = linked()
	res := b.run("insert", `{"from":"linked","pages":"1, 3","to":"0.2","name":"Harbour papers"}`)
	assert.Equal(t, "Pages 1, 3 of “Harbour papers” inserted before page 2", res.Sentence)
	assert.Equal(t, []string{"2 links to pages that were not inserted removed."}, res.Warnings)
	assert.Equal(t, []step.Key{{Step: 1, Ordinal: 1}, {Step: 1, Ordinal: 2}}, res.Pages)
	assert.Equal(t, "Page 1,FIRST,THIRD,Page 2,Page 3", strings.Join(b.texts(), ","))
	// The same once more: the form field gets another name.
	res = b.run("insert", `{"from":"linked","to":"end","name":"Again"}`)
	assert.Contains(t, strings.Join(res.Warnings, " "), "1 form field renamed")
	out := pdftest.Whole(t, b.doc)
	pdftest.Check(t, out)
	pdftest.Check(t, b.file())
	plain := pdftest.Tool(t, out, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	assert.Equal(t, 1, strings.Count(plain, "HARBOURSECRET value"), "page 2 came only the second time")
	assert.Contains(t, plain, "(both 2)")
	assert.Contains(t, plain, "(Harbour papers)")
	d := pdftest.Open(t, out)
	refs := pdftest.Refs(t, d)
	link := d.Dict(d.Array(d.Dict(refs[1]).Get("Annots"))[0])
	assert.Equal(t, refs[1], d.Array(link.Get("Dest"))[0], "a named place became the page itself")
	assert.Contains(t, pdftest.Tool(t, out, "pdfinfo", "-struct-text", "FILE"), "HARBOURSECRET")

	_, err := b.try("insert", `{"from":"nowhere","to":"end"}`)
	assert.Error(t, err)
	b.src["text"] = []byte("just text")
	_, err = b.try("insert", `{"from":"text","to":"end"}`)
	assert.ErrorContains(t, err, "plain text")
}

// What two pages share comes once.
func TestInsertOnce(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2/MediaBox[0 0 100 100]/Resources<</XObject<</Im 5 0 R>>>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 6 0 R>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 6 0 R>>")
	noise := make([]byte, 40_000)
	for i := range noise {
		noise[i] = byte(i*i>>3 ^ i)
	}
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Image/Width 200/Height 200/ColorSpace/DeviceGray/BitsPerComponent 8", string(noise)))
	f.Add("%s", pdftest.Stream("", "100 0 0 100 0 0 cm /Im Do"))
	b := newBench(t, pdftest.Text(2))
	b.src["pictures"] = f.Bytes()
	res := b.run("insert", `{"from":"pictures","to":"end"}`)
	assert.Greater(t, len(res.Update), 40_000)
	assert.Less(t, len(res.Update), 44_000)
}

func TestNumbers(t *testing.T) {
	b := newBench(t, pdftest.Text(4))
	res := b.run("number", `{"pages":"all but first","wording":[{"text":"Sheet "},{"field":"page"},{"text":" of "},{"field":"pages"}],"first":2,"margin":"12mm","size":9}`)
	assert.Equal(t, "3 pages numbered at the bottom", res.Sentence)
	assert.Equal(t, []string{"Page 1", "Page 2 Sheet 2 of 4", "Page 3 Sheet 3 of 4", "Page 4 Sheet 4 of 4"}, b.texts())
	pdftest.Check(t, b.file())
	id := draw.List(b.doc)[0].ID

	// Places by hand: "Sheet 4 of 4" in Liberation Sans of 9 pt has the widths of Helvetica (Adobe Core 14 AFM):
	// S 667 h 556 e 556 e 556 t 278 space 278 4 556 space 278 o 556 f 278 space 278 4 556 = 5393 -> 48.537 pt.
	// A4 is 595 pt wide here: it starts at (595 - 48.537) / 2 = 273.23; the baseline is 12 mm = 34.016 pt up.
	out := pdftest.Whole(t, b.doc)
	box := pdftest.Tool(t, out, "pdftotext", "-f", "4", "-l", "4", "-bbox", "FILE", "-")
	x0, x1, base := wordsAt(t, box, "Sheet", "4")
	assert.InDelta(t, 273.23, x0, 0.05)
	assert.InDelta(t, 273.23+48.537, x1, 0.05)
	assert.InDelta(t, 842-34.016, base, 2.2) // poppler's box ends a descent below the baseline
	// On the rotated page it stands upright at the foot of what is seen: 842 wide, 595 high.
	box = pdftest.Tool(t, out, "pdftotext", "-f", "2", "-l", "2", "-bbox", "FILE", "-")
	x0, _, base = wordsAt(t, box, "Sheet", "4")
	assert.InDelta(t, (842-48.537)/2, x0, 0.05)
	assert.InDelta(t, 595-34.016, base, 2.2)

	// Changed later, also after handing out and bringing in again.
	again := newBench(t, out)
	list := draw.List(again.doc)
	require.Len(t, list, 1)
	require.Equal(t, id, list[0].ID)
	again.run("number-change", fmt.Sprintf(`{"id":%q,"pages":"2-","edge":"top","align":"right","wording":[{"field":"page"}],"figures":"i ii iii","first":4}`, id))
	assert.Equal(t, []string{"Page 1", "iv Page 2", "v Page 3", "vi Page 4"}, again.texts())
	plain := pdftest.Tool(t, pdftest.Whole(t, again.doc), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	assert.Equal(t, 3, strings.Count(plain, "/Artifact <</Type/Pagination/Subtype/Header/Attached[/Top]"))
	assert.NotContains(t, plain, "/Footer")
	again.run("furnishing-remove", fmt.Sprintf(`{"id":%q}`, id))
	assert.Equal(t, []string{"Page 1", "Page 2", "Page 3", "Page 4"}, again.texts())
	assert.Empty(t, draw.List(again.doc))
	plain = pdftest.Tool(t, pdftest.Whole(t, again.doc), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	assert.NotContains(t, plain, "Artifact")
	assert.NotContains(t, plain, "FontFile2")
}

// wordsAt gives left, right and bottom of the words from first to last in poppler's -bbox output.
func wordsAt(t *testing.T, bbox, first, last string) (x0, x1, y1 float64) {
	t.Helper()
	for line := range strings.Lines(bbox) {
		var a, b, c, d float64
		line = strings.TrimSpace(line)
		if n, _ := fmt.Sscanf(line, `<word xMin="%f" yMin="%f" xMax="%f" yMax="%f">`, &a, &b, &c, &d); n != 4 {
			continue
		}
		if strings.Contains(line, ">"+first+"<") {
			x0 = a
		}
		if strings.Contains(line, ">"+last+"<") {
			x1, y1 = c, d
		}
	}
	require.NotZero(t, x0, bbox)
	return
}

func TestNumbersGoStale(t *testing.T) {
	b := newBench(t, pdftest.Text(6))
	b.run("number", `{"pages":"all"}`)
	stale := func() bool { return draw.List(b.doc)[0].Stale }
	require.False(t, stale())
	res := b.run("move", `{"pages":"1","to":"end"}`)
	assert.Contains(t, strings.Join(res.Warnings, " "), "update them")
	assert.True(t, stale())
	b.run("move", `{"pages":"last","to":"first"}`)
	assert.False(t, stale(), "back in order, the numbers are right again")
	b.run("rotate", `{"pages":"4","by":90}`)
	assert.True(t, stale(), "a rotated page has its number at the wrong edge")
	b.run("remove", `{"pages":"2"}`)
	res = b.run("furnishing-update", `{}`)
	assert.Equal(t, "Page numbers updated on 5 pages", res.Sentence)
	assert.False(t, stale())
	want := []string{"Page 1 1", "Page 3 2", "Page 4 3", "Page 5 4", "Page 6 5"}
	assert.ElementsMatch(t, strings.Fields(strings.Join(want, " ")), strings.Fields(strings.Join(b.texts(), " ")))
	_, err := b.try("furnishing-update", `{}`)
	assert.Error(t, err)
}

// Furnishings of brought pages come along; one of the same id gets a new one.
func TestInsertCarriesFurnishings(t *testing.T) {
	a := newBench(t, pdftest.Text(3))
	a.run("number", `{"pages":"all","wording":[{"text":"A"},{"field":"page"}]}`)
	file := pdftest.Whole(t, a.doc)
	b := newBench(t, file)
	b.src["same"] = file
	b.run("insert", `{"from":"same","pages":"2-3","to":"end","name":"same"}`)
	list := draw.List(b.doc)
	require.Len(t, list, 2)
	assert.NotEqual(t, list[0].ID, list[1].ID)
	assert.Len(t, list[1].Pages, 2)
	b.run("number-change", fmt.Sprintf(`{"id":%q,"pages":"4-5","wording":[{"text":"B"},{"field":"page"}]}`, list[1].ID))
	assert.Equal(t, []string{"Page 1 A1", "Page 2 A2", "Page 3 A3", "Page 2 B1", "Page 3 B2"}, b.texts())
	b.run("furnishing-remove", fmt.Sprintf(`{"id":%q}`, list[1].ID))
	b.run("furnishing-update", fmt.Sprintf(`{"id":%q}`, list[0].ID))
	assert.Equal(t, []string{"Page 1 A1", "Page 2 A2", "Page 3 A3", "Page 2 A4", "Page 3 A5"}, b.texts())
}

// For each registered step: pages that it does not name look the same to the pixel, the
// update leaves a file that others read, and a preview of one page shows what the step shows.
func TestEveryStep(t *testing.T) {
	pool, err := raster.NewPool(raster.CacheForTests(), 1)
	require.NoError(t, err)
	t.Cleanup(pool.Close)
	pixels := func(file []byte, n int) map[int][]byte {
		out := map[int][]byte{}
		for i := range n {
			pic, err := pool.Render(t.Context(), raster.Request{
				Source: raster.Source{Key: fmt.Sprintf("%x", hash(file)), Parts: []raster.Part{{Data: file}}}, Page: i, Scale: 0.5, Format: raster.Raw})
			require.NoError(t, err)
			out[i] = append(fmt.Appendf(nil, "%dx%d ", pic.Width, pic.Height), pic.Data...)
		}
		return out
	}
	params := map[string][]string{
		"insert":            {`{"from":"other","pages":"2-4","to":"0.3"}`},
		"move":              {`{"pages":["0.1","0.5"],"to":"0.3"}`},
		"remove":            {`{"pages":"2, 4"}`},
		"rotate":            {`{"pages":"odd","by":90}`},
		"number":            {`{"pages":"2-3","margin":"30mm"}`, `{"pages":"all","edge":"top"}`},
		"number-change":     {`{"id":"ID","pages":"3-5","align":"left","size":20}`},
		"furnishing-remove": {`{"id":"ID"}`},
		"furnishing-update": {`{"id":"ID"}`},
		"mark-text": {`{"page":["0.1"],"quads":[[72,724,150,724,72,696,150,696]],"how":"highlight","colour":"#f6dd8f"}`,
			`{"page":["0.2"],"quads":[[72,724,150,724,72,696,150,696],[72,600,150,600,72,580,150,580]],"how":"strike out","colour":"ochre","text":"Page 2"}`},
		"duplicate":        {`{"pages":"2, 5"}`, `{"pages":"1-2","where":"together","to":"end"}`},
		"reverse":          {`{"pages":"2-5"}`},
		"interleave":       {`{"fronts":"1-3","backs":"4-6","reversed":true}`},
		"replace":          {`{"pages":"2-3","from":"other","with":"7-8"}`},
		"blank":            {`{"to":"0.3","count":2}`, `{"to":"end","paper":"A5","turned":"landscape","ruling":"dots"}`},
		"blank-odd":        {`{"starts":"2, 4"}`},
		"crop":             {`{"pages":"2-3","left":"20mm","top":"40mm"}`, `{"pages":"all","to":"print"}`, `{"pages":"odd","to":"print","remove":true}`},
		"uncrop":           {`{"pages":"all"}`},
		"paper":            {`{"pages":"2-4","paper":"A5"}`, `{"pages":"1","paper":"A3","fit":"keep","stands":"top right"}`},
		"binding":          {`{"pages":"1-4","margin":"12mm"}`, `{"pages":"5","margin":"12mm","how":"make smaller"}`},
		"sheets":           {`{"pages":"1-4","frame":true}`, `{"pages":"all","kind":"booklet"}`},
		"contents":         {`{"to":1}`},
		"contents-change":  {`{"id":"TOC","size":14,"title":"List"}`},
		"bookmark-add":     {`{"title":"Berths","page":"3","top":40}`},
		"bookmark-change":  {`{"at":"1","title":"Tides","page":"4"}`},
		"bookmark-move":    {`{"at":"2","before":1}`},
		"bookmark-remove":  {`{"at":"1"}`},
		"bookmarks-make":   {`{"entries":[{"title":"Berths","level":1,"page":"0.2","top":0}]}`},
		"label":            {`{"pages":"1-3","style":"i ii iii"}`},
		"labels-remove":    {`{}`},
		"mark-change":      {`{"page":["0.5"],"mark":MARK,"how":"underline","colour":"ink"}`},
		"mark-remove":      {`{"page":["0.5"],"mark":MARK}`},
		"recognize":        {`{"pages":"1-2","languages":"eng"}`},
		"recognize-words":  {`{"page":"1","words":[{"word":1,"was":"Quay","text":"Quays"}]}`},
		"replace-text":     {`{"pages":"all","pairs":[{"find":"Page","with":"Leaf"}]}`, `{"pages":"2-3","pairs":[{"find":"page 2","with":"Seite zwei"},{"find":"page","with":"sheet of paper"}],"leave":"0.3:1:0"}`},
		"edit-paragraph":   {`{"page":"3","paragraph":0,"text":"Another text altogether, with ŵords that its font lacks"}`},
		"add-text":         {`{"page":"2","x":"60pt","y":"300pt","width":"200pt","text":"The north berth is closed\nin the winter of 2026.","bold":"yes","colour":"moss"}`},
		"move-objects":     {`{"page":"1","objects":[{"what":"paragraph","at":0,"x":20,"y":30,"turn":10}]}`, `{"page":"2","objects":[{"what":"picture","at":0,"scale_x":50,"scale_y":50}],"copy":true}`, `{"page":"2","objects":[{"what":"picture","at":0},{"what":"shape","at":0}],"to":"5"}`},
		"bring-objects":    {`{"from":"other","from_page":4,"objects":[{"what":"paragraph","at":0,"x":40,"y":200}],"page":"2"}`},
		"remove-objects":   {`{"page":"2","objects":[{"what":"picture","at":0},{"what":"shape","at":0}]}`},
		"change-picture":   {`{"page":"2","picture":0,"flip":"across","cut_left":20,"colours":"gray","opacity":50}`, `{"page":"2","picture":0,"brightness":30,"contrast":20,"everywhere":true}`},
		"tone-pages":       {`{"pages":"1-3","brightness":30}`},
		"replace-picture":  {`{"page":"2","picture":0,"from":"photo","fit":"fill"}`, `{"page":"2","picture":0,"from":"photo","everywhere":true}`},
		"add-picture":      {`{"page":"3","from":"photo","x":100,"y":100,"width":"60mm"}`},
		"add-shape":        {`{"page":"3","kind":"arrow","points":"100,100 300,200","opacity":50}`, `{"page":"3","kind":"ellipse","points":"100,100 300,200","fill":"moss","dash":"dotted"}`},
		"change-shape":     {`{"page":"2","at":0,"kind":"polygon","points":"100,100 300,200 120,240","stroke":"ink"}`},
		"recognize-remove": {`{"pages":"1"}`},
		"straighten":       {`{"pages":"1"}`, `{"pages":"all","light":false}`},
		"set-text":         {`{"pages":"1-2","keep":"0.1:2"}`},
	}
	scans := scans(t)
	for _, k := range Registry().Kinds() {
		require.NotEmpty(t, params[k.Name], "no parameters to try %q with", k.Name)
		for _, p := range params[k.Name] {
			t.Run(k.Name, func(t *testing.T) {
				file := pdftest.Text(6)
				invisible := strings.HasPrefix(k.Name, "recognize") // it changes what is read, and not what is seen
				if invisible || k.Name == "straighten" || k.Name == "set-text" {
					if _, err := ocr.Find(); err != nil {
						t.Skip(err)
					}
					file = scans
				}
				b := newBench(t, file)
				b.t = t
				b.run("number", `{"pages":"1-4","wording":[{"text":"No. "},{"field":"page"}],"align":"right"}`)
				b.run("mark-text", `{"page":"5","quads":[[72,724,150,724,72,696,150,696]]}`)
				p := strings.ReplaceAll(p, "ID", draw.List(b.doc)[0].ID)
				marks := annot.Markups(b.doc, pdftest.Refs(t, b.doc)[4])
				p = strings.ReplaceAll(p, "MARK", fmt.Sprint(marks[0].Ref.Num))
				switch k.Name {
				case "recognize-words", "recognize-remove", "set-text":
					b.run("recognize", `{"pages":"1-2","languages":"eng"}`)
				case "uncrop":
					b.run("crop", `{"pages":"2-4","left":"50mm"}`)
				case "bookmark-change", "bookmark-move", "bookmark-remove":
					b.run("bookmark-add", `{"title":"One","page":"1"}`)
					b.run("bookmark-add", `{"title":"Two","page":"2"}`)
				case "contents", "contents-change":
					b.run("bookmark-add", `{"title":"One","page":"3"}`)
					if k.Name == "contents-change" {
						b.run("contents", `{"to":2}`)
						p = strings.ReplaceAll(p, "TOC", draw.List(b.doc)[1].ID)
					}
				case "move-objects", "remove-objects", "change-picture", "tone-pages", "replace-picture", "change-shape":
					b.src["photo"] = gray(40, 30)
					b.run("add-picture", `{"page":"2","from":"photo","x":100,"y":300,"width":200}`)
					b.run("add-shape", `{"page":"2","kind":"rectangle","points":"100,600 300,700","fill":"ochre"}`)
					b.src["photo"] = gray(30, 50)
				case "add-picture":
					b.src["photo"] = gray(30, 50)
				case "labels-remove":
					b.run("label", `{"pages":"1-2","style":"I II III"}`)
				}
				beforeRefs := pdftest.Refs(t, b.doc)
				before := pixels(b.file(), len(beforeRefs))
				was := map[pdf.Ref][]byte{}
				for i, r := range beforeRefs {
					was[r] = before[i]
				}
				doc, n := b.doc, b.n
				res := b.run(k.Name, p)
				pdftest.Check(t, b.file())
				refs := pdftest.Refs(t, b.doc)
				after := pixels(b.file(), len(refs))
				named := map[pdf.Ref]bool{}
				for _, key := range res.Pages {
					r, _ := b.keys.Ref(key)
					named[r] = true
				}
				changed := 0
				for i, r := range refs {
					old, had := was[r]
					if !had {
						assert.True(t, named[r], "page %d is new and not named", i+1)
						continue
					}
					if !bytes.Equal(old, after[i]) {
						changed++
						assert.True(t, named[r] && res.Redrawn != step.RedrawNone, "page %d changed and is not named", i+1)
					}
				}
				if res.Redrawn == step.RedrawPages && len(res.Created) == 0 && k.Name != "remove" && k.Name != "furnishing-update" && !invisible {
					assert.NotZero(t, changed, "the step shows nothing")
				}
				if k.Parts { // it is not previewed
					return
				}
				// The preview of each page alone.
				for i, r := range refs {
					s, err := b.reg.New(k.Name, json.RawMessage(p))
					require.NoError(t, err)
					env := b.env()
					env.Step = n + 1
					env.Only = r
					_, only, err := b.reg.Run(t.Context(), doc, s, env)
					require.NoError(t, err)
					base := append(bytes.Clone(b.base), bytes.Join(b.ups[:len(b.ups)-1], nil)...)
					shown := pixels(append(base, only.Update...), i+1)
					assert.Equal(t, after[i], shown[i], "the preview of page %d differs", i+1)
				}
			})
		}
	}
}

// scans is a document of two pages that are pictures of paper, before six of text.
func scans(t *testing.T) []byte {
	doc := pdftest.Open(t, pdftest.Text(6))
	for i, kind := range []string{"letter", "table"} {
		p, err := picture.Decode(scanner.Picture(kind, "Grayscale8", 150))
		require.NoError(t, err)
		page, err := draw.PicturePage(doc, p, draw.Placement{})
		require.NoError(t, err)
		require.NoError(t, doc.InsertPages(i, []pdf.Ref{page}))
	}
	return pdftest.Whole(t, doc)
}

func hash(b []byte) (h uint64) {
	for _, c := range b {
		h = h*1099511628211 + uint64(c)
	}
	return
}

// gray is a PNG file with a slope from black to white.
func gray(w, h int) []byte {
	img := image.NewGray(image.Rect(0, 0, w, h))
	for i := range img.Pix {
		img.Pix[i] = uint8(i * 255 / len(img.Pix))
	}
	var b bytes.Buffer
	_ = png.Encode(&b, img) // into memory
	return b.Bytes()
}
