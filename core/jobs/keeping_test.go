package jobs

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/annot"
	"glenrain/core/arrange"
	"glenrain/core/draw"
	"glenrain/core/jobs/jobstest"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// What is kept, merged, dropped and told (docs/KEEPING.md), each on a file made for it and read by other programs.

const wantsDrawing = "/AcroForm<</Fields[10 0 R]/NeedAppearances true/DA(/F1 14 Tf 0 0 1 rg)/Q 2/DR<</Font<</F1 4 0 R>>>>>>"

// Fields keep the defaults of the form that they come from, and nobody's drawing changes, in either direction.
func TestFormDefaults(t *testing.T) {
	letting := jobstest.Made(wantsDrawing, []string{"Berth form|/Annots[10 0 R]"}, "<</Type/Annot/Subtype/Widget/FT/Tx/T(ship)/V(Low water)/Rect[20 100 280 130]/P 100 0 R>>")
	finished := jobstest.Made("/AcroForm<</Fields[10 0 R]/DA(/F1 9 Tf 1 0 0 rg)/DR<</Font<</F1 3 0 R>>>>>>", []string{"Dredging form|/Annots[10 0 R]"},
		"<</Type/Annot/Subtype/Widget/FT/Tx/T(ship)/V(High water)/Rect[20 100 280 130]/P 100 0 R/AP<</N 11 0 R>>>>",
		pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 260 30]/Resources<</Font<</F1 3 0 R>>>>", "/Tx BMC BT /F1 9 Tf 1 0 0 rg 5 10 Td (High water) Tj ET EMC"))

	b := jobstest.New(t, Registry(), finished)
	b.Src["other"] = letting
	res := b.Run("insert", `{"from":"other","to":"end"}`)
	assert.Contains(t, jobstest.Told(res), "1 form field renamed")
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	assert.Equal(t, jobstest.Drawn(t, finished, 1), jobstest.Drawn(t, got, 1), "what was there looks as it did")
	text := jobstest.Plain(t, got)
	assert.NotContains(t, text, "NeedAppearances")
	assert.Contains(t, text, "/DA (/F1 9 Tf 1 0 0 rg)", "the document's own defaults stay")
	assert.Contains(t, text, "/DA (/F1-2 14 Tf 0 0 1 rg)", "the field has its own, with a font of another name")
	assert.Contains(t, text, "/Q 2")
	assert.Contains(t, pdftest.Tool(t, got, "pdftotext", "-f", "2", "-l", "2", "FILE", "-"), "Low water", "it is drawn here")
	assert.Contains(t, pdftest.Tool(t, got, "pdffonts", "-f", "2", "-l", "2", "FILE"), "Courier")

	// A list shows what can be chosen, from where it is scrolled to.
	b = jobstest.New(t, Registry(), finished)
	b.Src["other"] = jobstest.Made("/AcroForm<</Fields[10 0 R]/NeedAppearances true/DA(/F1 10 Tf 0 g)/DR<</Font<</F1 3 0 R>>>>>>", []string{"Berths|/Annots[10 0 R]"},
		"<</Type/Annot/Subtype/Widget/FT/Ch/T(berth)/V(s)/TI 1/Opt[[(n)(North quay)][(s)(South quay)](Fish pier)]/Rect[20 100 280 200]/P 100 0 R>>")
	b.Run("insert", `{"from":"other","to":"end"}`)
	words := pdftest.Tool(t, jobstest.Out(t, b.Doc), "pdftotext", "-f", "2", "-l", "2", "FILE", "-")
	assert.Contains(t, words, "South quay\nFish pier")
	assert.NotContains(t, words, "North quay")

	b = jobstest.New(t, Registry(), letting)
	b.Src["other"] = finished
	b.Run("insert", `{"from":"other","to":"end"}`)
	got = jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	assert.Equal(t, jobstest.Drawn(t, letting, 1), jobstest.Drawn(t, got, 1))
	assert.Contains(t, jobstest.Plain(t, got), "NeedAppearances true")
	assert.Contains(t, pdftest.Tool(t, got, "pdftotext", "-f", "2", "-l", "2", "FILE", "-"), "High water")
	assert.Contains(t, jobstest.Plain(t, got), "(/F1-2 9 Tf 1 0 0 rg)")
}

// The order of calculation and the scripts that fields may call come with them; a signature does not.
func TestFormScripts(t *testing.T) {
	dues := jobstest.Made("/AcroForm<</Fields[10 0 R 11 0 R 12 0 R]/CO[11 0 R 10 0 R]/SigFlags 3>>/Names<</JavaScript<</Names[(dues)<</S/JavaScript/JS(function dues\\(\\){})>>]>>>>",
		[]string{"Dues|/Annots[10 0 R 11 0 R 12 0 R]"},
		"<</Type/Annot/Subtype/Widget/FT/Tx/T(length)/Rect[0 0 9 9]/AA<</C<</S/JavaScript/JS(dues\\(\\))>>>>>>",
		"<</Type/Annot/Subtype/Widget/FT/Tx/T(dues)/Rect[0 0 9 9]>>",
		"<</Type/Annot/Subtype/Widget/FT/Sig/T(master)/V<</Type/Sig/Name(Harbour master)>>/Rect[0 0 9 9]>>")
	b := jobstest.New(t, Registry(), pdftest.Text(1))
	b.Src["other"] = dues
	res := b.Run("insert", `{"from":"other","to":"end"}`)
	assert.Contains(t, jobstest.Told(res), "1 script of “other” was added with its form")
	assert.Contains(t, jobstest.Told(res), "1 signature of “other” removed")
	got := jobstest.Plain(t, jobstest.Out(t, b.Doc))
	assert.Regexp(t, `/CO \[\s+\d+ 0 R\s+\d+ 0 R\s+\]`, got)
	assert.Contains(t, got, "function dues")
	assert.NotContains(t, got, "Harbour master")
	assert.NotContains(t, got, "SigFlags")
}

// XFA knows nothing of pages that come, go or move, and holds the values of fields that were removed.
func TestXFA(t *testing.T) {
	form := jobstest.Made("/NeedsRendering true/AcroForm<</Fields[10 0 R]/XFA[(datasets) 11 0 R]>>", []string{"One|/Annots[10 0 R]", "Two", "Three"},
		"<</Type/Annot/Subtype/Widget/FT/Tx/T(secret)/Rect[0 0 9 9]/V(HARBOURSECRET)>>", pdftest.Stream("", "<data>HARBOURSECRET</data>"))
	for name, params := range map[string]string{"remove": `{"pages":"1"}`, "move": `{"pages":"3","to":1}`, "insert": `{"from":"other","to":1}`} {
		b := jobstest.New(t, Registry(), form)
		res := b.Run(name, params)
		assert.Contains(t, jobstest.Told(res), "XFA", name)
		got := jobstest.Plain(t, jobstest.Out(t, b.Doc))
		assert.NotContains(t, got, "XFA", name)
		assert.NotContains(t, got, "NeedsRendering", name)
		assert.Equal(t, name != "remove", strings.Contains(got, "HARBOURSECRET"), name)
		assert.NotContains(t, got, "<data>", name)
	}
	b := jobstest.New(t, Registry(), form)
	b.Run("rotate", `{"pages":"1","by":90}`)
	assert.Contains(t, jobstest.Plain(t, jobstest.Out(t, b.Doc)), "XFA", "turning a page does not touch it")
}

// Each page keeps the label it had, whatever comes, goes or moves around it.
func TestLabels(t *testing.T) {
	report := jobstest.Made("/PageLabels<</Nums[0<</S/r>>2<</S/D>>4<</P(Annex )/S/A/St 2>>]>>", []string{"a", "b", "c", "d", "e"})
	require.Equal(t, []string{"r1", "r2", "D1", "D2", "Annex A2"}, jobstest.Labels(t, report))
	b := jobstest.New(t, Registry(), report)
	b.Run("move", `{"pages":"5","to":1}`)
	assert.Equal(t, []string{"Annex A2", "r1", "r2", "D1", "D2"}, jobstest.Labels(t, jobstest.Out(t, b.Doc)))
	b.Run("remove", `{"pages":"2"}`)
	assert.Equal(t, []string{"Annex A2", "r2", "D1", "D2"}, jobstest.Labels(t, jobstest.Out(t, b.Doc)))
	b.Src["other"] = report
	b.Run("insert", `{"from":"other","pages":"2-3","to":3}`)
	assert.Equal(t, []string{"Annex A2", "r2", "r2", "D1", "D1", "D2"}, jobstest.Labels(t, jobstest.Out(t, b.Doc)))
	b.Src["plain"] = pdftest.Text(2)
	b.Run("insert", `{"from":"plain","to":"end"}`)
	assert.Equal(t, []string{"Annex A2", "r2", "r2", "D1", "D1", "D2", "D1", "D2"}, jobstest.Labels(t, jobstest.Out(t, b.Doc)), "pages without labels keep their numbers")

	doc, _, err := arrange.Combine(t.Context(), &step.Env{Sources: b.Src}, []arrange.Insert{{From: "other", Name: "Report"}, {From: "other", Name: "Report"}}, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"r1", "r2", "D1", "D2", "Annex A2", "r1", "r2", "D1", "D2", "Annex A2"}, jobstest.Labels(t, jobstest.Out(t, doc)))
	b = jobstest.New(t, Registry(), pdftest.Text(3))
	b.Run("move", `{"pages":"3","to":1}`)
	assert.NotContains(t, jobstest.Plain(t, jobstest.Out(t, b.Doc)), "PageLabels", "none where there were none")
}

// A layer is seen if it was seen, hidden if it was hidden, whatever either document says of layers that it does not name.
func TestLayers(t *testing.T) {
	// mutool takes two layers for one where their dictionaries say the same, so the names differ.
	layered := func(whose, config string) []byte {
		return jobstest.Made("/OCProperties<</OCGs[10 0 R 11 0 R]/D<<"+config+"/Order[10 0 R 11 0 R]/Locked[11 0 R]>>>>", []string{
			"Chart|/Annots[12 0 R 13 0 R]"}, "<</Type/OCG/Name("+whose+" depths)>>", "<</Type/OCG/Name("+whose+" cables)>>",
			"<</Type/Annot/Subtype/Stamp/Rect[10 10 60 60]/OC 10 0 R/AP<</N 14 0 R>>>>", "<</Type/Annot/Subtype/Stamp/Rect[100 10 160 60]/OC 11 0 R/AP<</N 14 0 R>>>>",
			pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 10 10]", "1 0 0 rg 0 0 10 10 re f"))
	}
	configs := []string{"", "/OFF[11 0 R]", "/BaseState/OFF/ON[10 0 R]", "/BaseState/OFF", "/BaseState/ON/OFF[10 0 R 11 0 R]"}
	for _, host := range configs {
		for _, guest := range configs {
			b := jobstest.New(t, Registry(), layered("Host", host))
			b.Src["other"] = layered("Guest", guest)
			b.Run("insert", `{"from":"other","to":"end"}`)
			got := jobstest.Out(t, b.Doc)
			pdftest.Check(t, got)
			assert.Equal(t, jobstest.Drawn(t, layered("Host", host), 1), jobstest.Drawn(t, got, 1), "%q with %q", host, guest)
			assert.Equal(t, jobstest.Drawn(t, layered("Guest", guest), 1), jobstest.Drawn(t, got, 2), "%q in %q", guest, host)
		}
	}
	oneOf := layered("Host", "/OFF[11 0 R]/RBGroups[[10 0 R 11 0 R]]")
	b := jobstest.New(t, Registry(), oneOf)
	b.Src["other"] = oneOf
	b.Run("insert", `{"from":"other","to":"end"}`)
	got := b.Doc.Dict(b.Doc.Dict(b.Doc.Catalog().Get("OCProperties")).Get("D"))
	assert.Len(t, b.Doc.Array(got.Get("Order")), 4)
	assert.Len(t, b.Doc.Array(got.Get("RBGroups")), 2)
	assert.Len(t, b.Doc.Array(got.Get("Locked")), 2)
}

// entries are those of the catalog (ISO 32000-2, 7.7.2, table 29).
var entries = strings.Fields("Version Extensions PageLabels Names Dests ViewerPreferences PageLayout PageMode Outlines Threads OpenAction AA URI AcroForm Metadata " +
	"StructTreeRoot MarkInfo Lang SpiderInfo OutputIntents PieceInfo OCProperties Perms Legal Requirements Collection NeedsRendering DSS AF DPartRoot")

// Each entry may be null, free, or of the wrong type, in either document: no step stops, and what is written is a file.
func TestTroubledCatalogs(t *testing.T) {
	for _, e := range entries {
		t.Run(e, func(t *testing.T) {
			for _, v := range []string{"null", "98 0 R", "4711 0 R", "7", "true", "(x)", "/N", "[]", "[7 null 1 0 R]", "<<>>", "1 0 R", "2 0 R",
				"<</Nums 7/Names 7/Kids[1 0 R]/Fields[100 0 R]/First 100 0 R/K 100 0 R/OCGs[100 0 R]/D 7>>"} {
				trouble := jobstest.Made("/"+e+" "+v, []string{"One|/StructParents 0", "Two", "Three"})
				b := jobstest.New(t, Registry(), trouble)
				b.Src["trouble"] = trouble
				b.Src["good"] = jobstest.Linked()
				b.Run("insert", `{"from":"good","to":2}`)
				b.Run("move", `{"pages":"1","to":"end"}`)
				b.Run("number", `{"pages":"all"}`)
				b.Run("mark-text", `{"page":"1","quads":[[72,724,150,724,72,696,150,696]]}`)
				b.Run("remove", `{"pages":"2"}`)
				b.Run("insert", `{"from":"trouble","pages":"1-2","to":1}`)
				b.Run("furnishing-update", `{}`)
				got := jobstest.Out(t, b.Doc)
				assert.Len(t, pdftest.Refs(t, pdftest.Open(t, got)), 7, v)
				doc, _, err := arrange.Combine(t.Context(), &step.Env{Sources: b.Src}, []arrange.Insert{{From: "trouble", Name: "a"}, {From: "good", Name: "b"}, {From: "trouble", Name: "c"}}, nil)
				require.NoError(t, err, v)
				assert.Len(t, pdftest.Refs(t, pdftest.Open(t, jobstest.Out(t, doc))), 9, v)
				if v == "null" || v == "98 0 R" || v == "4711 0 R" { // as if it were not there
					pdftest.Check(t, got)
				}
			}
		})
	}
}

// Bookmarks come with what they do and how they look; those that lead nowhere are told.
func TestBookmarks(t *testing.T) {
	guide := jobstest.Made("/Outlines 10 0 R", []string{"One", "Two"},
		"<</First 11 0 R/Last 15 0 R/Count 5>>",
		"<</Title(Tide tables)/Parent 10 0 R/Next 12 0 R/A<</S/URI/URI(https://tides.example/)>>/C[1 0 0]/F 3>>",
		"<</Title(Last page)/Parent 10 0 R/Prev 11 0 R/Next 13 0 R/A<</S/Named/N/LastPage>>>>",
		"<</Title(Chart)/Parent 10 0 R/Prev 12 0 R/Next 14 0 R/A<</S/Launch/F(chart.dwg)>>>>",
		"<</Title(Sums)/Parent 10 0 R/Prev 13 0 R/Next 15 0 R/A<</S/JavaScript/JS(app.beep\\(\\))>>>>",
		"<</Title(Lost)/Parent 10 0 R/Prev 14 0 R/Dest(nobody)>>")
	b := jobstest.New(t, Registry(), pdftest.Text(2))
	b.Src["other"] = guide
	res := b.Run("insert", `{"from":"other","to":"end"}`)
	assert.Contains(t, jobstest.Told(res), "1 bookmark of “other” has no target page.")
	got := jobstest.Plain(t, jobstest.Out(t, b.Doc))
	for _, want := range []string{"https://tides.example/", "/LastPage", "chart.dwg", "app.beep", "(Tide tables)", "(Lost)"} {
		assert.Contains(t, got, want)
	}
	assert.Regexp(t, `/C \[\s+1\s+0\s+0\s+\]\s+/F 3`, got)

	// Where the catalog holds the outline directly, it stays when pages go or come.
	direct := jobstest.Made("/Outlines<</First 10 0 R/Last 11 0 R/Count 2>>", []string{"One", "Two"},
		"<</Title(First berth)/Next 11 0 R/Dest[100 0 R/Fit]>>", "<</Title(Second berth)/Prev 10 0 R/Dest[101 0 R/Fit]>>")
	b = jobstest.New(t, Registry(), direct)
	b.Run("remove", `{"pages":"2"}`)
	b.Src["other"] = guide
	b.Run("insert", `{"from":"other","to":"end"}`)
	var titles []string
	for _, it := range nav.Outline(pdftest.Open(t, jobstest.Out(t, b.Doc))) {
		titles = append(titles, it.Title)
	}
	assert.Equal(t, []string{"First berth", "other"}, titles)
}

// Removed titles: a bookmark and a tag that have others below them on pages that stay are kept and told, or go too.
func TestHeadingsOfRemovedPages(t *testing.T) {
	book := jobstest.Made("/Outlines 10 0 R/StructTreeRoot 13 0 R", []string{"One|/StructParents 0", "Two|/StructParents 1"},
		"<</First 11 0 R/Last 11 0 R/Count 2>>", "<</Title(HARBOURSECRET chapter)/Parent 10 0 R/First 12 0 R/Last 12 0 R/Count 1/Dest[100 0 R/Fit]>>",
		"<</Title(Second berth)/Parent 11 0 R/Dest[101 0 R/Fit]>>",
		"<</Type/StructTreeRoot/K 14 0 R/ParentTree<</Nums[0[15 0 R]1[16 0 R]]>>>>", "<</S/Sect/P 13 0 R/T(HARBOURSECRET section)/K[15 0 R 16 0 R]>>",
		"<</S/P/P 14 0 R/Pg 100 0 R/K 0>>", "<</S/P/P 14 0 R/Pg 101 0 R/K 0>>")
	b := jobstest.New(t, Registry(), book)
	res := b.Run("remove", `{"pages":"1"}`)
	assert.Contains(t, jobstest.Told(res), "“HARBOURSECRET chapter”")
	assert.Contains(t, jobstest.Plain(t, jobstest.Out(t, b.Doc)), "(HARBOURSECRET chapter)")
	b = jobstest.New(t, Registry(), book)
	b.Run("remove", `{"pages":"1","headings":"remove"}`)
	got := jobstest.Plain(t, jobstest.Out(t, b.Doc))
	assert.NotContains(t, got, "HARBOURSECRET chapter")
	assert.Contains(t, got, "(Second berth)")
}

// An annotation, or a field, that stands on two pages stays when one of them goes.
func TestSharedAnnotations(t *testing.T) {
	both := jobstest.Made("/AcroForm<</Fields[10 0 R]>>", []string{"One|/Annots[10 0 R 11 0 R]", "Two|/Annots[10 0 R 11 0 R]", "Three"},
		"<</Type/Annot/Subtype/Widget/FT/Tx/T(ship)/V(Low water)/Rect[0 0 9 9]>>", "<</Type/Annot/Subtype/Link/Rect[0 0 9 9]/A<</S/URI/URI(https://tides.example/)>>>>")
	b := jobstest.New(t, Registry(), both)
	b.Run("remove", `{"pages":"1"}`)
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	assert.Contains(t, jobstest.Plain(t, got), "(Low water)")
	assert.Contains(t, jobstest.Plain(t, got), "tides.example")
	b.Run("remove", `{"pages":"1"}`)
	got = jobstest.Out(t, b.Doc)
	assert.NotContains(t, jobstest.Plain(t, got), "(Low water)")
	assert.NotContains(t, jobstest.Plain(t, got), "tides.example")
}

// A page does not take from the tree that it comes into what it did not have.
func TestInheritedElsewhere(t *testing.T) {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2>>")
	f.Add("<</Type/Pages/Parent 2 0 R/Kids[5 0 R]/Count 1/MediaBox[0 0 300 300]/CropBox[0 0 100 100]/Rotate 90/Resources<</Font<</F 7 0 R>>>>>>")
	f.Add("<</Type/Pages/Parent 2 0 R/Kids[6 0 R]/Count 1/MediaBox[0 0 200 400]>>")
	f.Add("<</Type/Page/Parent 3 0 R>>")
	f.Add("<</Type/Page/Parent 4 0 R>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	b := jobstest.New(t, Registry(), f.Bytes())
	b.Src["other"] = pdftest.Text(1)
	b.Run("insert", `{"from":"other","to":1}`)
	b.Run("move", `{"pages":"3","to":1}`)
	out := jobstest.Out(t, b.Doc)
	pdftest.Check(t, out)
	info := strings.Join(strings.Fields(pdftest.Tool(t, out, "pdfinfo", "-f", "1", "-l", "3", "FILE")), " ")
	assert.Contains(t, info, "Page 1 size: 200 x 400 pts Page 1 rot: 0")
	assert.Contains(t, info, "Page 2 size: 595 x 842 pts (A4) Page 2 rot: 0")
	assert.Contains(t, info, "Page 3 size: 100 x 100 pts Page 3 rot: 90")
}

// What the catalog says of the whole: of the first into a new document; languages go with the pages; the rest is told.
func TestCatalogEntries(t *testing.T) {
	welsh := jobstest.Made("/Lang(cy)/OutputIntents[<</S/GTS_PDFX/OutputConditionIdentifier(FOGRA39)>>]/AA<</WP<</S/JavaScript/JS(x)>>>>/Collection<<>>/Threads[<</F 12 0 R>>]"+
		"/ViewerPreferences<</DisplayDocTitle true/PrintPageRange[0 1]>>/PageLayout/TwoColumnLeft/DPartRoot<</Type/DPartRoot/DPartRootNode 10 0 R>>",
		[]string{"Angorfa|/DPart 11 0 R/B[12 0 R]", "Llanw"}, "<</Type/DPart/Parent 1 0 R/DParts[[11 0 R]]>>", "<</Type/DPart/Parent 10 0 R/Start 100 0 R/End 101 0 R>>",
		"<</Type/Bead/T<</F 12 0 R/I<</Title(HARBOURTHREAD)>>>>/N 12 0 R/V 12 0 R/P 101 0 R/R[0 0 9 9]>>")
	b := jobstest.New(t, Registry(), jobstest.Made("/Lang(en)/PageLayout/SinglePage", []string{"Berth"}))
	b.Src["other"] = welsh
	res := b.Run("insert", `{"from":"other","pages":"1","to":"end"}`)
	for _, want := range []string{"different printing condition", "runs when it is opened", "collection of files", "article threads"} {
		assert.Contains(t, jobstest.Told(res), want)
	}
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	text := jobstest.Plain(t, got)
	assert.Regexp(t, `/Span\s*<<\s*/Lang\s*\(cy\)\s*>>\s*BDC`, text)
	for _, never := range []string{"FOGRA39", "/AA", "/Collection", "/TwoColumnLeft", "/PrintPageRange", "/DPart", "/Bead", "HARBOURTHREAD"} {
		assert.NotContains(t, text, never)
	}
	assert.Contains(t, text, "/Lang (en)")

	doc, told, err := arrange.Combine(t.Context(), &step.Env{Sources: b.Src}, []arrange.Insert{{From: "other", Name: "Angorfa"}}, nil)
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(told, " "), "printing condition")
	text = jobstest.Plain(t, jobstest.Out(t, doc))
	for _, want := range []string{"FOGRA39", "/Lang (cy)", "/DisplayDocTitle true", "/TwoColumnLeft"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "/PrintPageRange")

	b = jobstest.New(t, Registry(), welsh)
	res = b.Run("move", `{"pages":"2","to":1}`)
	assert.Contains(t, jobstest.Told(res), "The list of pages to print")
	assert.Contains(t, jobstest.Told(res), "DPart")
	pdftest.Check(t, jobstest.Out(t, b.Doc))
}

// What is put on pages and removed again leaves nothing behind.
func TestRemovedFurnishingLeavesNothing(t *testing.T) {
	b := jobstest.New(t, Registry(), pdftest.Text(3))
	was := jobstest.Out(t, b.Doc)
	b.Run("number", `{"pages":"all"}`)
	list := strings.Split(jobstest.Plain(t, jobstest.Out(t, b.Doc)), "/Furnishings")
	require.Len(t, list, 2)
	b.Run("insert", `{"from":"other","pages":"1","to":"end"}`)
	b.Run("remove", `{"pages":"4"}`)
	b.Run("mark-text", `{"page":"1","quads":[[72,724,150,724,72,696,150,696]]}`)
	b.Run("mark-remove", fmt.Sprintf(`{"page":"1","mark":%d}`, lastMark(b)))
	b.Run("furnishing-remove", fmt.Sprintf(`{"id":%q}`, furnishing(b)))
	got := jobstest.Out(t, b.Doc)
	assert.LessOrEqual(t, objects(t, got), objects(t, was))
	for _, never := range []string{"PieceInfo", "Glenrain", "Artifact", "Furnish"} {
		assert.NotContains(t, jobstest.Plain(t, got), never)
	}
}

// objects counts what qpdf finds in a file, but for object streams and cross-reference streams.
func objects(t *testing.T, data []byte) int {
	return strings.Count(jobstest.Plain(t, data), " obj\n")
}

// What says the same stands once: ten copies of a letter, and pages of one source that came one by one.
func TestOnce(t *testing.T) {
	letterhead := strings.Repeat("0 0 1 rg 10 280 m 20 270 l 30 290 l f\n% "+strings.Repeat("quay", 50)+"\n", 40)
	letter := func(n int) []byte {
		return jobstest.Made("", []string{fmt.Sprintf("Letter %d|/Annots[<</Type/Annot/Subtype/Stamp/Rect[0 0 99 99]/AP<</N 10 0 R>>>>]", n)},
			pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 300 300]/Resources<</Font<</F 3 0 R>>>>", letterhead))
	}
	src := jobstest.Memory{}
	var list []arrange.Insert
	for i := range 5 {
		name := fmt.Sprintf("letter %d", i)
		src[name] = letter(i)
		list = append(list, arrange.Insert{From: step.SourceRef(name), Name: name})
	}
	doc, _, err := arrange.Combine(t.Context(), &step.Env{Sources: src}, list, nil)
	require.NoError(t, err)
	got := jobstest.Out(t, doc)
	pdftest.Check(t, got)
	assert.Less(t, len(got), len(letter(1))*3/2, "the letterhead stands once")
	assert.Equal(t, 1, strings.Count(jobstest.Plain(t, got), "/BBox"))
	for i := range 5 {
		assert.Equal(t, jobstest.Drawn(t, letter(i), 1), jobstest.Drawn(t, got, i+1))
	}

	manual := jobstest.Made("", []string{"One|/Group<</X 10 0 R>>", "Two"}, pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 300 300]", letterhead))
	manual = bytes.ReplaceAll(manual, []byte("/Resources<</Font<</F 3 0 R>>>>"), []byte("/Resources<</Font<</F 3 0 R>>/XObject<</X 10 0 R>>>>"))
	b := jobstest.New(t, Registry(), pdftest.Text(1))
	b.Src["other"] = manual
	b.Run("insert", `{"from":"other","pages":"1","to":"end"}`)
	first := len(b.File())
	for range 5 {
		b.Run("insert", `{"from":"other","pages":"2","to":"end"}`)
	}
	assert.Less(t, len(b.File())-first, len(letterhead), "within a trail a source is remembered")
}

// Roles, classes and identifiers that mean something else there are renamed; the language, and headers by identifier, stay right.
func TestClashingTags(t *testing.T) {
	tagged := func(lang, roles, class, word string) []byte {
		return jobstest.Made("/Lang("+lang+")/MarkInfo<</Marked true>>/StructTreeRoot 10 0 R", []string{word + "|/StructParents 0"},
			"<</Type/StructTreeRoot/K 11 0 R/ParentTree<</Nums[0[12 0 R 13 0 R]]>>/RoleMap<<"+roles+">>/ClassMap<</Wide "+class+">>/IDTree<</Names[(h1) 12 0 R]>>>>",
			"<</S/Document/P 10 0 R/K[12 0 R 13 0 R]>>",
			"<</S/Figure/P 11 0 R/Pg 100 0 R/ID(h1)/C/Wide/Alt(The pier of "+word+")/K 0>>",
			"<</S/TD/P 11 0 R/Pg 100 0 R/A<</O/Table/Headers[(h1)]>>/K 1>>")
	}
	b := jobstest.New(t, Registry(), tagged("en", "/Box/Sect", "<</O/Layout/Placement/Block>>", "Ness"))
	b.Src["other"] = bytes.Replace(tagged("cy", "/Figure/Sect/Box/Figure", "<</O/Layout/Placement/Inline>>", "Aber"), []byte("/S/TD/P"), []byte("/S/Box/P"), 1)
	b.Run("insert", `{"from":"other","to":"end"}`)
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	tree := pdftest.Tool(t, got, "pdfinfo", "-struct", "FILE")
	assert.Contains(t, tree, "Placement /Inline")
	assert.Contains(t, tree, "Placement /Block")
	d := pdftest.Open(t, got)
	root := d.Dict(d.Catalog().Get("StructTreeRoot"))
	roles := d.Dict(root.Get("RoleMap"))
	assert.Equal(t, pdf.Name("Sect"), d.Name(roles.Get("Box")), "the document's own stays")
	assert.False(t, roles.Has("Figure"), "and so does what the standard calls so")
	text := jobstest.Plain(t, got)
	assert.Regexp(t, `/Lang \(cy\)`, text)
	assert.Contains(t, text, "The pier of Aber")
	ids := map[string]bool{}
	nav.Names(d, root.Get("IDTree"), func(k pdf.String, v pdf.Object) { ids[string(k)] = true })
	assert.Len(t, ids, 2)
	// The document's figure is one as before; of the source's, what was a figure by its map is a section, as it was, and its boxes are figures that the
	// map of the source makes sections in turn.
	figure := 0
	tops := d.Array(root.Get("K"))
	if tops == nil {
		tops = pdf.Array{root.Get("K")}
	}
	for _, o := range tops {
		figure += figures(d, o, roles, 0)
	}
	assert.Equal(t, 1, figure)
}

// figures counts the elements that are figures by the role map.
func figures(d *pdf.Document, o pdf.Object, roles *pdf.Dict, depth int) (n int) {
	e := d.Dict(o)
	if e == nil || depth > 9 {
		return 0
	}
	role := d.Name(e.Get("S"))
	for range 5 {
		to := d.Name(roles.Get(role))
		if to == "" {
			break
		}
		role = to
	}
	if role == "Figure" {
		n++
	}
	kids := d.Array(e.Get("K"))
	if kids == nil {
		kids = pdf.Array{e.Get("K")}
	}
	for _, k := range kids {
		n += figures(d, k, roles, depth+1)
	}
	return n
}

// A claim of PDF/A or PDF/UA is kept by steps that keep it, and goes, told, with those that do not.
func TestClaims(t *testing.T) {
	archived := func(part string) []byte {
		return jobstest.Made("/Metadata 10 0 R/OutputIntents[<</S/GTS_PDFA1/OutputConditionIdentifier(sRGB)/DestOutputProfile 11 0 R>>]", []string{"One", "Two", "Three"},
			pdftest.Stream("/Type/Metadata/Subtype/XML", `<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" `+
				`xmlns:pdfaid="http://www.aiim.org/pdfa/ns/id/" pdfaid:part="`+part+`" pdfaid:conformance="B"/></rdf:RDF>`),
			pdftest.Stream("/N 3", "profile"))
	}
	for _, c := range []struct {
		part, name, params string
		kept               bool
	}{
		{"1", "move", `{"pages":"3","to":1}`, true},
		{"1", "remove", `{"pages":"3"}`, true},
		{"1", "rotate", `{"pages":"3","by":90}`, true},
		{"1", "number", `{"pages":"all"}`, true},
		{"1", "insert", `{"from":"same","to":1}`, true},
		{"1", "insert", `{"from":"other","to":1}`, false},
		{"1", "mark-text", `{"page":"1","quads":[[72,724,150,724,72,696,150,696]],"how":"underline"}`, true},
		{"1", "mark-text", `{"page":"1","quads":[[72,724,150,724,72,696,150,696]],"how":"highlight"}`, false},
		{"2", "mark-text", `{"page":"1","quads":[[72,724,150,724,72,696,150,696]],"how":"highlight"}`, true},
	} {
		b := jobstest.New(t, Registry(), archived(c.part))
		b.Src["same"] = archived(c.part)
		res := b.Run(c.name, c.params)
		got := jobstest.Out(t, b.Doc)
		pdftest.Check(t, got)
		assert.Equal(t, c.kept, strings.Contains(pdftest.Tool(t, got, "pdfinfo", "-meta", "FILE"), "pdfaid:part"), "%v", c)
		assert.Equal(t, !c.kept, strings.Contains(jobstest.Told(res), "PDF/A-"+c.part+"b"), "%v", c)
		assert.Equal(t, c.kept && c.part == "1", !bytes.Contains(got, []byte("/ObjStm")), "%v", c)
	}
}

func lastMark(b *jobstest.Bench) int {
	list := annot.Markups(b.Doc, pdftest.Refs(b.T, b.Doc)[0])
	return list[len(list)-1].Ref.Num
}

func furnishing(b *jobstest.Bench) string { return draw.List(b.Doc)[0].ID }

// Pages that share a key of the parent tree keep theirs; what is left empty goes, with its title; so does the object reference of a link that goes.
func TestTagsOfRemovedPages(t *testing.T) {
	report := jobstest.Made("/MarkInfo<</Marked true>>/StructTreeRoot 10 0 R", []string{"One|/StructParents 0", "Two|/StructParents 0", "Three|/StructParents 1/Annots[30 0 R]"},
		"<</Type/StructTreeRoot/K 11 0 R/ParentTree<</Nums[0[13 0 R]1[19 0 R]2 20 0 R]>>>>", // 10
		"<</S/Document/P 10 0 R/K[12 0 R 14 0 R 18 0 R]>>",
		"<</S/Sect/P 11 0 R/T(HARBOURSECRET section)/K[13 0 R]>>",
		"<</S/P/P 12 0 R/Pg 100 0 R/K 0>>",
		"<</S/Table/P 11 0 R/K[15 0 R 16 0 R]>>",
		"<</S/TR/P 14 0 R/T(HARBOURSECRET row)/K 17 0 R>>", // 15
		"<</S/TR/P 14 0 R/K<</S/TD/P 16 0 R/Pg 101 0 R/K 0>>>>",
		"<</S/TD/P 15 0 R/Pg 100 0 R/Alt(HARBOURSECRET cell)/K 1>>",
		"<</S/Sect/P 11 0 R/K[19 0 R 20 0 R]>>",
		"<</S/P/P 18 0 R/Pg 102 0 R/K 0>>",
		"<</S/Link/P 18 0 R/Pg 102 0 R/K<</Type/OBJR/Obj 30 0 R>>>>", // 20
		"null", "null", "null", "null", "null", "null", "null", "null", "null",
		"<</Type/Annot/Subtype/Link/Rect[0 0 9 9]/StructParent 2/Dest[100 0 R/Fit]>>") // 30
	b := jobstest.New(t, Registry(), report)
	res := b.Run("remove", `{"pages":"1"}`)
	assert.NotContains(t, jobstest.Told(res), "HARBOURSECRET")
	got := jobstest.Out(t, b.Doc)
	pdftest.Check(t, got)
	text := jobstest.Plain(t, got)
	for _, never := range []string{"HARBOURSECRET", "/OBJR", "/S /Link"} {
		assert.NotContains(t, text, never)
	}
	assert.Equal(t, 1, strings.Count(text, "/S /TR"), "the row that is left")
	assert.Equal(t, 1, strings.Count(text, "/S /Sect"))
	d := pdftest.Open(t, got)
	refs := pdftest.Refs(t, d)
	assert.True(t, d.Dict(refs[0]).Has("StructParents"), "the page that shared a key keeps it")
}
