package step

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

func TestEvalRule(t *testing.T) {
	for rule, want := range map[string][]int{
		"3-5, last":      {2, 3, 4, 9},
		"odd":            {0, 2, 4, 6, 8},
		"even 7-":        {7, 9},
		"odd -4":         {0, 2},
		"all":            {0, 1, 2, 3, 4, 5, 6, 7, 8, 9},
		"all but first":  {1, 2, 3, 4, 5, 6, 7, 8, 9},
		"all but 2-last": {0},
		"2,2,1-2":        {0, 1},
		"8-last":         {7, 8, 9},
		"5-3":            {2, 3, 4},
		"12-20":          nil,
		"9-40":           {8, 9},
		"40-":            nil,
		"FIRST":          {0},
	} {
		got, err := EvalRule(rule, 10)
		require.NoError(t, err, rule)
		assert.Equal(t, want, got, rule)
	}
	for _, rule := range []string{"", "x", "3-x", "-", "1,,2", "0", "odd x", "1 2"} {
		_, err := EvalRule(rule, 10)
		assert.Error(t, err, rule)
	}
	assert.Equal(t, "1-3, 5, 8-9", WriteSet([]int{0, 1, 2, 4, 7, 8}))
}

func TestLength(t *testing.T) {
	// 1 in = 25.4 mm = 72 pt = 6 pica
	for s, want := range map[string]float64{"12mm": 34.0157, "0.5in": 36, "1p6": 18, "2p": 24, "9 pt": 9, "7": 7, "2.54cm": 72} {
		got, err := ParseLength(s)
		require.NoError(t, err, s)
		assert.InDelta(t, want, float64(got), 0.001, s)
	}
	for _, s := range []string{"", "mm", "12 furlongs", "1p6p"} {
		_, err := ParseLength(s)
		assert.Error(t, err, s)
	}
}

func TestPlaceAndPagesJSON(t *testing.T) {
	var v struct {
		P Pages
		A Place
	}
	for _, in := range []string{`{"P":"3-8, last","A":"end"}`, `{"P":["0.3","2.1"],"A":"0.7"}`, `{"P":"odd","A":4}`} {
		require.NoError(t, json.Unmarshal([]byte(in), &v), in)
		out, err := json.Marshal(v)
		require.NoError(t, err)
		assert.JSONEq(t, in, string(out))
		v.P, v.A = Pages{}, Place{}
	}
	assert.Error(t, json.Unmarshal([]byte(`{"P":"nine"}`), &v))
	assert.Error(t, json.Unmarshal([]byte(`{"A":"nowhere"}`), &v))
	assert.Error(t, json.Unmarshal([]byte(`{"A":0}`), &v))
}

type sample struct {
	Pages  Pages  `json:"pages" required:"yes" help:"which"`
	How    string `json:"how" enum:"a,b" help:"how"`
	Amount int    `json:"amount" min:"1" max:"5" help:"how much"`
	panics bool
}

func (s *sample) Apply(_ context.Context, doc *pdf.Document, env *Env) (*Result, error) {
	refs, err := s.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	for _, r := range refs {
		doc.Edit(r).Set("Rotate", pdf.Integer(90))
	}
	if s.panics {
		panic("a fault")
	}
	return &Result{Pages: env.Keys.Of(refs), Redrawn: RedrawPages}, nil
}

func testRegistry(panics bool) *Registry {
	return NewRegistry(nil, Kind{Name: "sample", Meaning: "A sample.", New: func() Step { return &sample{How: "a", Amount: 2, panics: panics} }})
}

func TestParameters(t *testing.T) {
	g := testRegistry(false)
	s, err := g.New("sample", json.RawMessage(`{"pages":"1","how":"b"}`))
	require.NoError(t, err)
	assert.Equal(t, 2, s.(*sample).Amount, "the usual value stays")
	for _, bad := range []string{
		`{"pages":"1","colour":"red"}`, `{"pages":"1","how":"c"}`, `{"pages":"1","amount":9}`, `{"amount":2}`,
		`{"pages":"1"} {}`, `{"pages":true}`, `[]`, `{"pages":"1","amount":"much"}`,
	} {
		_, err := g.New("sample", json.RawMessage(bad))
		var r *Refusal
		require.ErrorAs(t, err, &r, bad)
	}
	_, err = g.New("unknown", nil)
	assert.Error(t, err)
	d := g.Kinds()[0].Describe()
	require.Len(t, d.Fields, 3)
	assert.Equal(t, "pages", d.Fields[0].Name)
	assert.True(t, d.Fields[0].Required)
	assert.Equal(t, []string{"a", "b"}, d.Fields[1].OneOf)
	assert.InDelta(t, 5, *d.Fields[2].Max, 0)
}

func TestRunLeavesTheDocument(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(4))
	before := pdftest.Whole(t, doc)
	keys := NewKeys(mustPages(t, doc))
	for _, panics := range []bool{false, true} {
		s, err := testRegistry(panics).New("sample", json.RawMessage(`{"pages":["0.3"]}`))
		require.NoError(t, err)
		next, res, err := testRegistry(panics).Run(t.Context(), doc, s, &Env{Keys: keys, Step: 1})
		assert.Equal(t, before, pdftest.Whole(t, doc))
		if panics {
			require.ErrorIs(t, err, ErrPanic)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, []Key{{0, 3}}, res.Pages)
		reopened, err := doc.With(res.Update)
		require.NoError(t, err)
		assert.Equal(t, pdftest.Whole(t, next), pdftest.Whole(t, reopened))
	}
	s, err := testRegistry(false).New("sample", json.RawMessage(`{"pages":["0.9"]}`))
	require.NoError(t, err)
	_, _, err = testRegistry(false).Run(t.Context(), doc, s, &Env{Keys: keys})
	var r *Refusal
	assert.ErrorAs(t, err, &r, "a page that is not there")
}

func TestEnvIsDeterministic(t *testing.T) {
	a, b := &Env{Seed: [16]byte{1}}, &Env{Seed: [16]byte{1}}
	first := a.NewID()
	assert.Equal(t, first, b.NewID())
	assert.NotEqual(t, first, a.NewID())
	assert.NotEqual(t, first, (&Env{Seed: [16]byte{2}}).NewID())
}

func mustPages(t *testing.T, d *pdf.Document) []pdf.Leaf {
	p, err := d.Pages()
	require.NoError(t, err)
	return p
}

func TestSentences(t *testing.T) {
	assert.Equal(t, "1 page", Count(1, "page"))
	assert.Equal(t, "12,345 pages", Count(12345, "page"))
	assert.Equal(t, "page 4", Named([]int{3}))
	assert.Equal(t, "pages 7 and 8", Named([]int{6, 7}))
	assert.Equal(t, "pages 2-5", Named([]int{1, 2, 3, 4}))
	assert.Equal(t, "7 pages", Named([]int{0, 2, 4, 6, 8, 10, 12}))
}
