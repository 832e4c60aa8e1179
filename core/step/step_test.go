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
	assert.Error(t, json.Unmarshal([]byte(`{"P":"nine,, ten"}`), &v))
	assert.Error(t, json.Unmarshal([]byte(`{"A":"nowhere"}`), &v))
	assert.Error(t, json.Unmarshal([]byte(`{"A":0}`), &v))
}

type sample struct {
	Pages  Pages  `json:"pages" required:"yes" help:"which"`
	How    string `json:"how" enum:"a,b" labels:"a=as it is" help:"how"`
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
	assert.Equal(t, map[string]string{"a": "as it is", "b": "b"}, d.Fields[1].Labels)
	assert.InDelta(t, 5, *d.Fields[2].Max, 0)
}

func TestWithin(t *testing.T) {
	for in, want := range map[string]string{"Pages 3 and 4": "pages 3 and 4", "Élan": "élan", "": "", "7 pages": "7 pages"} {
		assert.Equal(t, want, Within(in))
	}
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
	assert.Equal(t, "3 matches", Count(3, "match", "matches"))
	assert.Equal(t, "1 match", Count(1, "match", "matches"))
	assert.Equal(t, "page 4", Named([]int{3}))
	assert.Equal(t, "pages 7 and 8", Named([]int{6, 7}))
	assert.Equal(t, "pages 2-5", Named([]int{1, 2, 3, 4}))
	assert.Equal(t, "7 pages", Named([]int{0, 2, 4, 6, 8, 10, 12}))
}

// piece is a row of a list.
type piece struct {
	Text  string `json:"text"`
	Field string `json:"field"`
}

// notice has each sort of parameter.
type notice struct {
	Pages  Pages        `json:"pages" required:"yes"`
	To     Place        `json:"to"`
	Size   Length       `json:"size" was:"height,tall" min:"2" max:"200"`
	Colour Colour       `json:"colour"`
	Edge   string       `json:"edge" enum:"top,bottom" wasvalue:"head=top,foot=bottom"`
	Times  int          `json:"times" max:"9"`
	Angle  *int         `json:"angle,omitempty"`
	Share  float64      `json:"share"`
	Loud   bool         `json:"loud"`
	Words  []piece      `json:"words" required:"say something"`
	Quads  [][4]float64 `json:"quads"`
	From   SourceRef    `json:"from"`
	More   []struct {
		Source SourceRef `json:"source"`
		At     *Place    `json:"at"`
	} `json:"more"`
	Keys []Key `json:"keys"`
}

func (*notice) Apply(context.Context, *pdf.Document, *Env) (*Result, error) { return &Result{}, nil }

func notices() *Registry {
	return NewRegistry(nil, Kind{Name: "notice", Was: []string{"bill"}, New: func() Step { return &notice{Edge: "top", Size: 9, Colour: "moss", Times: 1} }})
}

// A form's fields are read into the step's own struct, each by its own reading; what is wrong is told for each field.
func TestRead(t *testing.T) {
	g := notices()
	s, err := g.Read("notice", map[string][]string{
		"pages": {"0.3  0.4"}, "to": {"7"}, "size": {"1p6"}, "colour": {" #2f6149 "}, "edge": {"bottom"}, "times": {" 3 "}, "angle": {"90"}, "share": {"0.5"}, "loud": {"no", "yes"},
		"words.text": {"of ", "", "", "end"}, "words.field": {"", "page", "", ""}, "quads": {"[[1,2,3,4]]"}, "from": {"state:4"}, "keys": {"0.1", "2.1"}, "_seen": {"1"}, "unknown": {"x"},
	}, nil)
	require.NoError(t, err)
	n := s.(*notice)
	assert.Equal(t, []Key{{0, 3}, {0, 4}}, n.Pages.Keys)
	assert.Equal(t, Place{Number: 7}, n.To)
	assert.InDelta(t, 18, float64(n.Size), 1e-9)
	assert.Equal(t, Colour("#2f6149"), n.Colour)
	assert.Equal(t, []piece{{Text: "of "}, {Field: "page"}, {Text: "end"}}, n.Words, "a row without a value is none")
	assert.Equal(t, [][4]float64{{1, 2, 3, 4}}, n.Quads)
	assert.Equal(t, 90, *n.Angle)
	assert.True(t, n.Loud)
	assert.Equal(t, []Key{{0, 1}, {2, 1}}, n.Keys)
	assert.Equal(t, SourceRef("state:4"), n.From)

	_, err = g.Read("notice", map[string][]string{"size": {"wide"}, "times": {"12"}, "edge": {"left"}, "colour": {"red!"}, "share": {"NaN"}, "words": {""}}, nil)
	var bad *Invalid
	require.ErrorAs(t, err, &bad)
	of := map[string]string{}
	for _, f := range bad.Fields {
		of[f.Field] = f.Sentence
	}
	assert.Equal(t, map[string]string{
		"size": "\"wide\" is not a length: type it like 12 mm, 0.5 in, 9 pt or 1p6", "times": "12 is too large: 9 at most", "edge": "\"left\" isn’t one of top, bottom",
		"colour": "\"red!\" isn’t a colour: type #rrggbb or one of black, ink, moss, ochre, slate, white", "share": "\"NaN\" is not a number",
		"pages": "no page is selected", "words": "say something",
	}, of)
	for _, size := range []string{"NaN", "Inf", "1e400mm", "201pt"} {
		_, err = g.Read("notice", map[string][]string{"pages": {"1"}, "words.text": {"x"}, "size": {size}}, nil)
		require.ErrorAs(t, err, &bad, size)
	}
	// What no field can say is filled in before it is missed.
	s, err = g.Read("notice", map[string][]string{"pages": {"1"}}, func(s Step) error { s.(*notice).Words = []piece{{Text: "x"}}; return nil })
	require.NoError(t, err)
	assert.Len(t, s.(*notice).Words, 1)
	_, err = g.Read("notice", nil, func(Step) error { return Refuse("not now") })
	require.ErrorContains(t, err, "not now")
	_, err = g.Read("nothing", nil, nil)
	require.Error(t, err)
	// What was read goes through JSON as it is.
	b, err := json.Marshal(n)
	require.NoError(t, err)
	again, err := g.New("notice", b)
	require.NoError(t, err)
	assert.Equal(t, n, again)
}

// Names of before are read, of a step, its parameters and their values; a name of today goes first.
func TestOldNames(t *testing.T) {
	g := notices()
	s, err := g.New("bill", json.RawMessage(`{"pages":"1","tall":12,"edge":"foot","words":[{"text":"x"}]}`))
	require.NoError(t, err)
	assert.InDelta(t, 12, float64(s.(*notice).Size), 0)
	assert.Equal(t, "bottom", s.(*notice).Edge)
	_, err = g.New("notice", json.RawMessage(`{"pages":"1","tall":12,"size":10,"words":[{"text":"x"}]}`))
	assert.Error(t, err, "both at once are one too many")
	assert.Panics(t, func() { NewRegistry(nil, Kind{Name: "a"}, Kind{Name: "b", Was: []string{"a"}}) })
}

// Pages and sources are found wherever they stand in the parameters.
func TestNamed(t *testing.T) {
	s, err := notices().New("notice", json.RawMessage(`{"pages":["0.1"],"to":"0.2","words":[{"text":"x"}],"from":"sha256:aa","keys":["3.1"],
		"more":[{"source":"sha256:bb","at":"0.5"},{"source":"sha256:aa"},{"source":"","at":4}]}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"sha256:aa", "sha256:bb"}, NamedSources(s))
	keys, rules := NamedPages(s)
	assert.ElementsMatch(t, []Key{{0, 1}, {0, 2}, {0, 5}, {3, 1}}, keys)
	assert.True(t, rules, "a page number is a rule")
}

// whole changes a page and asks for a new base.
type whole struct{}

func (whole) Apply(_ context.Context, doc *pdf.Document, env *Env) (*Result, error) {
	pages, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	doc.Edit(pages[0].Ref).Set("Rotate", pdf.Integer(90))
	return &Result{Whole: true, Sentence: "whole"}, nil
}

// A sequence goes on over a step that makes a new base, in memory.
func TestSequence(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(4))
	g := NewRegistry(nil, Kind{Name: "whole", New: func() Step { return &whole{} }}, Kind{Name: "sample", New: func() Step { return &sample{How: "a", Amount: 2} }})
	q := Sequence{Registry: g, Doc: doc, Keys: NewKeys(mustPages(t, doc))}
	for i, call := range []Call{{"sample", json.RawMessage(`{"pages":["0.3"]}`)}, {"whole", nil}, {"sample", json.RawMessage(`{"pages":["0.4"]}`)}} {
		s, err := g.New(call.Name, call.Params)
		require.NoError(t, err)
		res, err := q.Run(t.Context(), s, &Env{Step: i + 1})
		require.NoError(t, err)
		assert.Equal(t, call.Name == "whole", res.NewBase != nil)
		assert.Equal(t, call.Name == "whole", res.Update == nil)
	}
	pages := mustPages(t, q.Doc)
	require.Len(t, pages, 4)
	assert.Equal(t, 90, q.Doc.Geometry(pages[0].Ref).Rotate)
	ref, ok := q.Keys.Ref(Key{0, 4})
	require.True(t, ok)
	assert.Equal(t, pages[3].Ref, ref, "keys hold over a new base")
	pdftest.Check(t, pdftest.Whole(t, q.Doc))
}
