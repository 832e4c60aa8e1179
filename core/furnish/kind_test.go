package furnish

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/arrange"
	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// draft is a throw-away kind: “DRAFT” aslant under each page's content, with the document's name and date below it, and a badge that is a picture.
type draft struct {
	Pages step.Pages `json:"pages"`
	Words string     `json:"words"`
}

func (d *draft) On() step.Pages   { return d.Pages }
func (*draft) Adds() claim.Effect { return claim.Colour }

func (d *draft) Plan(g *Ground, at []int) (map[pdf.Ref][]Item, error) {
	pages, err := g.Doc.Pages()
	if err != nil {
		return nil, err
	}
	out := map[pdf.Ref][]Item{}
	for _, i := range at {
		ref := pages[i].Ref
		if !g.Wants(ref) {
			continue
		}
		w, h := g.Doc.Geometry(ref).Seen()
		c := math.Sqrt2 / 2
		aslant := pdf.Matrix{c, c, -c, c, w / 4, h / 4}.Mul(draw.Upright(g.Doc.Geometry(ref)))
		flat := pdf.Translate(20, 20).Mul(draw.Upright(g.Doc.Geometry(ref)))
		under := draw.Stamp{Subtype: "Watermark", Under: true}
		out[ref] = []Item{
			{Text: d.Words, At: aslant, W: 60, H: 20, Stamp: under},
			{Text: g.Title() + ", " + g.Now.UTC().Format("2006-01-02"), Look: "small", At: flat, W: 60, H: 20, Stamp: under},
		}
	}
	return out, nil
}

// draftPainter counts its forms.
type draftPainter struct {
	*text
	doc  *pdf.Document
	uses map[string]pdf.Ref
	made *int
}

func (d *draft) Painter(g *Ground) (Painter, error) {
	t, err := newText(g.Doc, "Sans", 20, "moss")
	return &draftPainter{t, g.Doc, g.Uses, &formsMade}, err
}

func (p *draftPainter) Form(it Item) (pdf.Ref, error) {
	*p.made++
	form, err := p.text.Form(it)
	if badge := p.uses["badge"]; err == nil && !badge.IsZero() {
		p.doc.Dict(p.doc.Edit(form).Get("Resources")).Set("XObject", pdf.NewDict("Badge", badge))
	}
	return form, err
}

var formsMade int

// putDraft is its step.
type putDraft struct{ draft }

func (d *putDraft) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	id := draw.FreshID(doc, env.NewID)
	p, err := placed(doc, env, hex.EncodeToString(id[:]), "draft", &d.draft, &d.Pages)
	if err != nil {
		return nil, err
	}
	p.Uses = map[string]pdf.Ref{"badge": doc.Add(pdf.NewStream(pdf.NewDict("Type", pdf.Name("XObject"), "Subtype", pdf.Name("Image"), "Width", pdf.Integer(1), "Height", pdf.Integer(1),
		"ColorSpace", pdf.Name("DeviceGray"), "BitsPerComponent", pdf.Integer(8)), []byte{0x7b}))}
	res, err := redraw(doc, env, p, &d.draft)
	if err == nil {
		res.Sentence = "Marked as a draft"
	}
	return res, err
}

// A kind more is a row of the table and its step: aslant, two items a page, with the document's name and the date, and a picture of its own that survives updating,
// and being carried into another document; it goes out of date, is updated, and is removed.
func TestKindMore(t *testing.T) {
	was := table
	defer func() { table = was }()
	table = append(slices.Clone(table), Kind{Name: "draft", Title: "Draft mark", Since: "pages have changed", OutOfDate: "The draft mark is out of date", Them: "it", Read: func(values []byte) (Rule, error) {
		d := &draft{}
		return d, json.Unmarshal(values, d)
	}})
	kinds := append(append(Kinds(), arrange.Kinds()...), step.Kind{Name: "draft", Meaning: "Marks pages as a draft.", New: func() step.Step { return &putDraft{} }})
	run := func(doc *pdf.Document, no int, name, params, title string) (*pdf.Document, *step.Result) {
		t.Helper()
		r := step.NewRegistry(Hooks(), kinds...)
		s, err := r.New(name, json.RawMessage(params))
		require.NoError(t, err)
		pages, err := doc.Pages()
		require.NoError(t, err)
		_, res, err := r.Run(t.Context(), doc, s, &step.Env{Now: time.Unix(1e9, 0), Name: title, Seed: [16]byte{byte(no)}, Step: no, Keys: step.NewKeys(pages)})
		require.NoError(t, err)
		doc, err = doc.With(res.Update)
		require.NoError(t, err)
		return doc, res
	}
	data := pdftest.Text(3)
	formsMade = 0
	doc, res := run(pdftest.Open(t, data), 1, "draft", `{"pages":"all","words":"DRAFT"}`, "Berth list")
	assert.Equal(t, 2, formsMade, "three pages share two forms")
	assert.Len(t, res.Pages, 3)
	assert.Empty(t, res.Warnings, "aslant, it is on the page as a whole")
	file := pdftest.Whole(t, doc)
	pdftest.Check(t, file)
	for i, s := range pdftest.PageTexts(t, file) {
		assert.Contains(t, s, fmt.Sprint("Page ", i+1))
		assert.Contains(t, s, "Berth list, 2001-09-09")
	}
	assert.Equal(t, 3, strings.Count(pdftest.Tool(t, file, "mutool", "draw", "-F", "stext", "FILE"), `dir=".70710679 -.70710679"`), "aslant as each page is seen")
	list := draw.List(doc)
	require.Len(t, list, 1)
	spot, ok := SpotOf(doc, list[0].ID, pdftest.Refs(t, doc)[0])
	require.True(t, ok)
	assert.Greater(t, spot.H, 40.0, "the rectangle of both")

	// Under another name it would say something else: it is out of date, and updated with its picture.
	doc, res = run(doc, 2, "rotate", `{"pages":"1","by":180}`, "Berths")
	assert.Equal(t, []string{"The draft mark is out of date: update it before you export."}, res.Warnings)
	doc, _ = run(doc, 3, "furnishing-update", `{}`, "Berths")
	assert.Contains(t, pdftest.PageTexts(t, pdftest.Whole(t, doc))[1], "Berths, 2001-09-09")
	badge := func(doc *pdf.Document) string {
		list := draw.List(doc)
		require.Len(t, list, 1)
		s := doc.Stream(list[0].Uses["badge"])
		require.NotNil(t, s)
		b, _, err := doc.Decode(s)
		require.NoError(t, err)
		return string(b)
	}
	assert.Equal(t, "\x7b", badge(doc))
	again := pdftest.Open(t, pdftest.Whole(t, doc))
	assert.Equal(t, "\x7b", badge(again), "kept when the file is rewritten")

	// Carried into another document.
	other := pdftest.Open(t, pdftest.Text(1)).Fork()
	c, err := pdf.NewCopier(other, again)
	require.NoError(t, err)
	refs, err := c.Pages(pdftest.Refs(t, again)[:1])
	require.NoError(t, err)
	require.NoError(t, other.InsertPages(1, refs))
	got, err := draw.Carry(other, again, refs, c.Object, func() [16]byte { return [16]byte{9} }, time.Unix(1e9, 0))
	require.NoError(t, err)
	require.Len(t, got, 1)
	assert.Equal(t, "\x7b", badge(other))

	// Removed, nothing of it is left.
	doc, _ = run(doc, 4, "furnishing-remove", fmt.Sprintf(`{"id":%q}`, draw.List(doc)[0].ID), "Berths")
	assert.Equal(t, []string{"Page 1", "Page 2", "Page 3"}, trimmed(pdftest.PageTexts(t, pdftest.Whole(t, doc))))
	assert.Empty(t, draw.List(doc))
	assert.NotContains(t, string(pdftest.Whole(t, doc)), "Badge")
}

func trimmed(list []string) (out []string) {
	for _, s := range list {
		out = append(out, strings.TrimSpace(s))
	}
	return out
}

// What a newer version placed is named, and left as it is.
func TestKindUnknown(t *testing.T) {
	assert.Equal(t, "Furnishing", Title("of next year"))
	_, err := ruleOf(draw.Placed{Kind: "of next year"})
	assert.ErrorContains(t, err, "newer version")
	assert.Equal(t, "Page numbers", Title(kindNumbers))
}
