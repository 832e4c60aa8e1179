package furnish_test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/furnish"
	"glenrain/core/jobs"
	"glenrain/core/nav"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// marked is a document on which steps are run one after another.
type marked struct {
	t   *testing.T
	seq step.Sequence
	n   int
}

func open(t *testing.T, data []byte) *marked {
	doc := pdftest.Open(t, data)
	pages, err := doc.Pages()
	require.NoError(t, err)
	return &marked{t: t, seq: step.Sequence{Registry: jobs.Registry(), Doc: doc, Keys: step.NewKeys(pages)}}
}

func (m *marked) run(name, params string) *step.Result {
	m.t.Helper()
	s, err := m.seq.Registry.New(name, json.RawMessage(params))
	require.NoError(m.t, err)
	m.n++
	res, err := m.seq.Run(m.t.Context(), s, &step.Env{Step: m.n, Seed: [16]byte{byte(m.n)}})
	require.NoError(m.t, err)
	return res
}

var leaders = regexp.MustCompile(`[ .]*\.[ .]+`)

func (m *marked) text(page int) string {
	out := pdftest.Whole(m.t, m.seq.Doc)
	pdftest.Check(m.t, out)
	n := fmt.Sprint(page)
	var lines []string
	for line := range strings.SplitSeq(pdftest.Tool(m.t, out, "pdftotext", "-layout", "-f", n, "-l", n, "FILE", "-"), "\n") {
		if s := strings.Join(strings.Fields(leaders.ReplaceAllString(line, " ")), " "); s != "" {
			lines = append(lines, s)
		}
	}
	return strings.Join(lines, "|")
}

// The contents list bookmarks with the pages that they lead to, with links, and say when that is not so any more.
func TestContents(t *testing.T) {
	m := open(t, pdftest.Text(6))
	m.run("bookmark-add", `{"title":"Berths","page":"2"}`)
	m.run("bookmark-add", `{"title":"North quay","page":"3","under":"1"}`)
	m.run("bookmark-add", `{"title":"Tides","page":"5"}`)
	res := m.run("contents", `{"to":2,"levels":2}`)
	assert.Equal(t, "Table of contents with 3 bookmarks inserted on 1 page", res.Sentence)
	assert.Equal(t, "Contents|Berths 3|North quay 4|Tides 6", m.text(2))
	// Another program follows the links.
	d := m.seq.Doc
	refs := pdftest.Refs(t, d)
	var led []int
	for _, o := range d.Array(d.Dict(refs[1]).Get("Annots")) {
		led = append(led, d.PageIndex(nav.Target(d, d.Dict(o).Get("Dest")))+1)
	}
	assert.Equal(t, []int{3, 4, 6}, led)

	// Pages move, a bookmark is renamed, pages are labelled: each makes it stale, and updating puts it right.
	for _, c := range []struct{ name, params, want string }{
		{"move", `{"pages":"6","to":3}`, "Contents|Berths 4|North quay 5|Tides 3"},
		{"bookmark-change", `{"at":"2","title":"Tide table"}`, "Contents|Berths 4|North quay 5|Tide table 3"},
		{"label", `{"pages":"3-","style":"1 2 3"}`, "Contents|Berths 2|North quay 3|Tide table 1"},
		{"bookmark-remove", `{"at":"2"}`, "Contents|Berths 2|North quay 3"},
	} {
		res = m.run(c.name, c.params)
		assert.Contains(t, strings.Join(res.Warnings, " "), "The table of contents is out of date: update it", c.name)
		require.True(t, draw.List(m.seq.Doc)[0].Stale)
		updated := m.run("furnishing-update", `{}`)
		assert.Equal(t, claim.Colour|claim.Comment, updated.Adds, "text, and links that no tag holds")
		assert.Equal(t, c.want, m.text(2), c.name)
		assert.False(t, draw.List(m.seq.Doc)[0].Stale)
	}
	// Other values; and a list that outgrows its page gets another one.
	id := draw.List(m.seq.Doc)[0].ID
	res = m.run("contents-change", fmt.Sprintf(`{"id":%q,"title":"What is in it","levels":1,"size":9}`, id))
	assert.Equal(t, claim.Colour|claim.Comment, res.Adds)
	assert.Equal(t, "What is in it|Berths 2", m.text(2))
	var list []string
	for i := range 90 {
		list = append(list, fmt.Sprintf(`{"title":"Paper %d","level":1,"page":"0.%d","top":0}`, i+1, i%6+1))
	}
	m.run("bookmarks-make", `{"entries":[`+strings.Join(list, ",")+`]}`)
	res = m.run("furnishing-update", fmt.Sprintf(`{"id":%q}`, id))
	require.NotEmpty(t, res.Created)
	assert.Equal(t, res.Pages[1], step.Key{Step: m.n, Ordinal: 1})
	assert.True(t, strings.HasPrefix(m.text(2), "What is in it|Paper 1 1|"), m.text(2))
	last := m.text(2 + len(res.Created))
	assert.True(t, strings.HasSuffix(last, "Paper 90 5"), last)
	assert.Len(t, draw.List(m.seq.Doc)[0].Pages, 1+len(res.Created))

	// Removed, nothing of it is left on the pages.
	res = m.run("furnishing-remove", fmt.Sprintf(`{"id":%q}`, id))
	assert.Contains(t, strings.Join(res.Warnings, " "), "blank now")
	assert.Equal(t, "", m.text(2))
	for _, r := range pdftest.Refs(t, m.seq.Doc) {
		assert.Nil(t, m.seq.Doc.Dict(r).Get("Annots"))
	}
	_, ok := furnish.ReadContents(draw.Placed{Kind: "numbers"})
	assert.False(t, ok)

	// Without bookmarks there is nothing to list.
	m = open(t, pdftest.Text(2))
	s, err := m.seq.Registry.New("contents", json.RawMessage(`{"to":1}`))
	require.NoError(t, err)
	_, err = m.seq.Run(t.Context(), s, &step.Env{Step: 1})
	assert.ErrorContains(t, err, "no bookmarks")
}
