package jobs

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/annot"
	"glenrain/core/child"
	"glenrain/core/draw"
	"glenrain/core/jobs/jobstest"
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

func TestNumbers(t *testing.T) {
	b := jobstest.New(t, Registry(), pdftest.Text(4))
	res := b.Run("number", `{"pages":"all but first","wording":[{"text":"Sheet "},{"field":"page"},{"text":" of "},{"field":"pages"}],"first":2,"margin":"12mm","size":9}`)
	assert.Equal(t, "3 pages numbered at the bottom", res.Sentence)
	assert.Equal(t, []string{"Page 1", "Page 2 Sheet 2 of 4", "Page 3 Sheet 3 of 4", "Page 4 Sheet 4 of 4"}, b.Texts())
	pdftest.Check(t, b.File())
	id := draw.List(b.Doc)[0].ID

	// Places by hand: "Sheet 4 of 4" in Liberation Sans of 9 pt has the widths of Helvetica (Adobe Core 14 AFM):
	// S 667 h 556 e 556 e 556 t 278 space 278 4 556 space 278 o 556 f 278 space 278 4 556 = 5393 -> 48.537 pt.
	// A4 is 595 pt wide here: it starts at (595 - 48.537) / 2 = 273.23; the baseline is 12 mm = 34.016 pt up.
	out := pdftest.Whole(t, b.Doc)
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
	again := jobstest.New(t, Registry(), out)
	list := draw.List(again.Doc)
	require.Len(t, list, 1)
	require.Equal(t, id, list[0].ID)
	again.Run("number-change", fmt.Sprintf(`{"id":%q,"pages":"2-","edge":"top","align":"right","wording":[{"field":"page"}],"figures":"i ii iii","first":4}`, id))
	assert.Equal(t, []string{"Page 1", "iv Page 2", "v Page 3", "vi Page 4"}, again.Texts())
	plain := pdftest.Tool(t, pdftest.Whole(t, again.Doc), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	assert.Equal(t, 3, strings.Count(plain, "/Artifact <</Type/Pagination/Subtype/Header/Attached[/Top]"))
	assert.NotContains(t, plain, "/Footer")
	again.Run("furnishing-remove", fmt.Sprintf(`{"id":%q}`, id))
	assert.Equal(t, []string{"Page 1", "Page 2", "Page 3", "Page 4"}, again.Texts())
	assert.Empty(t, draw.List(again.Doc))
	plain = pdftest.Tool(t, pdftest.Whole(t, again.Doc), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
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
	b := jobstest.New(t, Registry(), pdftest.Text(6))
	b.Run("number", `{"pages":"all"}`)
	stale := func() bool { return draw.List(b.Doc)[0].Stale }
	require.False(t, stale())
	res := b.Run("move", `{"pages":"1","to":"end"}`)
	assert.Contains(t, strings.Join(res.Warnings, " "), "update them")
	assert.True(t, stale())
	b.Run("move", `{"pages":"last","to":"first"}`)
	assert.False(t, stale(), "back in order, the numbers are right again")
	b.Run("rotate", `{"pages":"4","by":90}`)
	assert.True(t, stale(), "a rotated page has its number at the wrong edge")
	b.Run("remove", `{"pages":"2"}`)
	res = b.Run("furnishing-update", `{}`)
	assert.Equal(t, "Page numbers updated on 5 pages", res.Sentence)
	assert.False(t, stale())
	want := []string{"Page 1 1", "Page 3 2", "Page 4 3", "Page 5 4", "Page 6 5"}
	assert.ElementsMatch(t, strings.Fields(strings.Join(want, " ")), strings.Fields(strings.Join(b.Texts(), " ")))
	_, err := b.Try("furnishing-update", `{}`)
	assert.Error(t, err)
}

// Furnishings of brought pages come along; one of the same id gets a new one.
func TestInsertCarriesFurnishings(t *testing.T) {
	a := jobstest.New(t, Registry(), pdftest.Text(3))
	a.Run("number", `{"pages":"all","wording":[{"text":"A"},{"field":"page"}]}`)
	file := pdftest.Whole(t, a.Doc)
	b := jobstest.New(t, Registry(), file)
	b.Src["same"] = file
	b.Run("insert", `{"from":"same","pages":"2-3","to":"end","name":"same"}`)
	list := draw.List(b.Doc)
	require.Len(t, list, 2)
	assert.NotEqual(t, list[0].ID, list[1].ID)
	assert.Len(t, list[1].Pages, 2)
	b.Run("number-change", fmt.Sprintf(`{"id":%q,"pages":"4-5","wording":[{"text":"B"},{"field":"page"}]}`, list[1].ID))
	assert.Equal(t, []string{"Page 1 A1", "Page 2 A2", "Page 3 A3", "Page 2 B1", "Page 3 B2"}, b.Texts())
	b.Run("furnishing-remove", fmt.Sprintf(`{"id":%q}`, list[1].ID))
	b.Run("furnishing-update", fmt.Sprintf(`{"id":%q}`, list[0].ID))
	assert.Equal(t, []string{"Page 1 A1", "Page 2 A2", "Page 3 A3", "Page 2 A4", "Page 3 A5"}, b.Texts())
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
				Source: raster.Source{Key: fmt.Sprintf("%x", jobstest.Hash(file)), Parts: []raster.Part{{Data: file}}}, Page: i, Scale: 0.5, Format: raster.Raw})
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
				b := jobstest.New(t, Registry(), file)
				b.T = t
				b.Run("number", `{"pages":"1-4","wording":[{"text":"No. "},{"field":"page"}],"align":"right"}`)
				b.Run("mark-text", `{"page":"5","quads":[[72,724,150,724,72,696,150,696]]}`)
				p := strings.ReplaceAll(p, "ID", draw.List(b.Doc)[0].ID)
				marks := annot.Markups(b.Doc, pdftest.Refs(t, b.Doc)[4])
				p = strings.ReplaceAll(p, "MARK", fmt.Sprint(marks[0].Ref.Num))
				switch k.Name {
				case "recognize-words", "recognize-remove", "set-text":
					b.Run("recognize", `{"pages":"1-2","languages":"eng"}`)
				case "uncrop":
					b.Run("crop", `{"pages":"2-4","left":"50mm"}`)
				case "bookmark-change", "bookmark-move", "bookmark-remove":
					b.Run("bookmark-add", `{"title":"One","page":"1"}`)
					b.Run("bookmark-add", `{"title":"Two","page":"2"}`)
				case "contents", "contents-change":
					b.Run("bookmark-add", `{"title":"One","page":"3"}`)
					if k.Name == "contents-change" {
						b.Run("contents", `{"to":2}`)
						p = strings.ReplaceAll(p, "TOC", draw.List(b.Doc)[1].ID)
					}
				case "move-objects", "remove-objects", "change-picture", "tone-pages", "replace-picture", "change-shape":
					b.Src["photo"] = gray(40, 30)
					b.Run("add-picture", `{"page":"2","from":"photo","x":100,"y":300,"width":200}`)
					b.Run("add-shape", `{"page":"2","kind":"rectangle","points":"100,600 300,700","fill":"ochre"}`)
					b.Src["photo"] = gray(30, 50)
				case "add-picture":
					b.Src["photo"] = gray(30, 50)
				case "labels-remove":
					b.Run("label", `{"pages":"1-2","style":"I II III"}`)
				}
				beforeRefs := pdftest.Refs(t, b.Doc)
				before := pixels(b.File(), len(beforeRefs))
				was := map[pdf.Ref][]byte{}
				for i, r := range beforeRefs {
					was[r] = before[i]
				}
				doc, n := b.Doc, b.N
				res := b.Run(k.Name, p)
				pdftest.Check(t, b.File())
				refs := pdftest.Refs(t, b.Doc)
				after := pixels(b.File(), len(refs))
				named := map[pdf.Ref]bool{}
				for _, key := range res.Pages {
					r, _ := b.Keys.Ref(key)
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
					s, err := b.Reg.New(k.Name, json.RawMessage(p))
					require.NoError(t, err)
					env := b.Env()
					env.Step = n + 1
					env.Only = r
					_, only, err := b.Reg.Run(t.Context(), doc, s, env)
					require.NoError(t, err)
					base := append(bytes.Clone(b.Base), bytes.Join(b.Ups[:len(b.Ups)-1], nil)...)
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
