package annotate_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/annot"
	"glenrain/core/annotate"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// run runs a step and gives the changed document.
func run(t *testing.T, doc *pdf.Document, name, params string) (*pdf.Document, *step.Result, error) {
	t.Helper()
	reg := step.NewRegistry(nil, annotate.Kinds()...)
	s, err := reg.New(name, json.RawMessage(params))
	if err != nil {
		return nil, nil, err
	}
	pages, err := doc.Pages()
	require.NoError(t, err)
	fork, res, err := reg.Run(t.Context(), doc, s, &step.Env{Now: time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC), Step: 1, Keys: step.NewKeys(pages)})
	return fork, res, err
}

// A mark is a standard annotation with its appearance: other programs list it, draw it, and lose it when it is taken off.
func TestMark(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(3))
	plain := pdftest.Whole(t, doc)
	doc, res, err := run(t, doc, "mark-text", `{"page":"1","quads":[[72,724,150,724,72,696,150,696]],"how":"highlight","colour":"#ffee00","text":"Page 1","author":"Isla Merrow"}`)
	require.NoError(t, err)
	assert.Equal(t, "“Page 1” highlighted on page 1", res.Sentence)
	whole := pdftest.Whole(t, doc)
	pdftest.Check(t, whole)
	qdf := pdftest.Tool(t, whole, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	for _, want := range []string{"/Subtype /Highlight", "/QuadPoints [", "/NM (GLRN-", "/T (Isla Merrow)", "/BM /Multiply"} {
		assert.Contains(t, qdf, want)
	}
	ppm := func(file []byte) string {
		return pdftest.Tool(t, file, "pdftoppm", "-r", "50", "-f", "1", "-l", "1", "FILE")
	}
	assert.NotEqual(t, ppm(plain), ppm(whole))
	m := annot.Markups(doc, pdftest.Refs(t, doc)[0])
	require.Len(t, m, 1)
	assert.Equal(t, [3]float64{1, 238.0 / 255, 0}, m[0].Colour)
	number := m[0].Ref.Num

	changed, _, err := run(t, doc, "mark-change", fmt.Sprintf(`{"page":"1","mark":%d,"how":"strike out","colour":"ink"}`, number))
	require.NoError(t, err)
	assert.Equal(t, pdf.Name("StrikeOut"), annot.Markups(changed, pdftest.Refs(t, changed)[0])[0].Kind)
	off, _, err := run(t, changed, "mark-remove", fmt.Sprintf(`{"page":"1","mark":%d}`, number))
	require.NoError(t, err)
	assert.Equal(t, ppm(plain), ppm(pdftest.Whole(t, off)), "as if it had never been")
	assert.False(t, off.Page(pdftest.Refs(t, off)[0]).Has("Annots"))
}

// What can't be done is said, and changes nothing.
func TestRefusals(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(3))
	for name, params := range map[string][]string{
		"mark-text": {`{"page":"1-2","quads":[[0,0,1,0,0,1,1,1]]}`, `{"page":"1","quads":[]}`, `{"page":"1","quads":[[1e9,0,0,0,0,0,0,0]]}`,
			`{"page":"9","quads":[[0,0,1,0,0,1,1,1]]}`, `{"page":"1","quads":[[0,0,1,0,0,1,1,1]],"how":"circle"}`, `{"page":"1","quads":[[0,0,1,0,0,1,1,1]],"colour":"loud"}`},
		"mark-change": {`{"page":"1","mark":3,"how":"underline","colour":"ink"}`},
		"mark-remove": {`{"page":"1","mark":3}`, `{"page":"1","mark":0}`},
	} {
		for _, p := range params {
			_, _, err := run(t, doc, name, p)
			var refusal *step.Refusal
			assert.ErrorAs(t, err, &refusal, "%s %s", name, p)
		}
	}
	assert.Empty(t, doc.Changed())
}
