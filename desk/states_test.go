package desk

import (
	"encoding/json"
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/finding"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// A state gets a name, is listed, and is gone back to; undoing leads to where one was.
func TestStatesWithNames(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Letter.pdf", pdftest.Text(3))
	mustDo(t, d, doc.ID, "rotate", `{"pages":"1","by":90}`)
	s, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	first := s.State.ID
	require.NoError(t, d.CallState(t.Context(), 1, doc.ID, first, "  Sent   to the pilots "))
	assert.ErrorIs(t, d.CallState(t.Context(), 1, doc.ID, 9999, "Nowhere"), store.ErrMissing)
	var no *step.Refusal
	assert.ErrorAs(t, d.CallState(t.Context(), 1, doc.ID, first, string(make([]rune, 300))+"x"), &no)
	mustDo(t, d, doc.ID, "remove", `{"pages":"2"}`)
	named, err := d.NamedStates(t.Context(), doc.ID)
	require.NoError(t, err)
	require.Len(t, named, 1)
	assert.Equal(t, "Sent to the pilots", named[0].Called)
	called, err := d.Called(t.Context(), doc.ID, []uint{first, first + 1})
	require.NoError(t, err)
	assert.Equal(t, map[uint]string{first: "Sent to the pilots"}, called)

	now, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	out, err := d.GoBack(t.Context(), doc.ID, now.State.ID, 1, first)
	require.NoError(t, err)
	assert.Equal(t, "Returned to “Sent to the pilots”", out.Undone)
	assert.Len(t, out.Snapshot.Pages(), 3)
	_, err = d.GoBack(t.Context(), doc.ID, now.State.ID, 1, first)
	var conflict *Conflict
	assert.ErrorAs(t, err, &conflict, "somebody who has not seen it")
	back, err := d.Undo(t.Context(), doc.ID, out.Snapshot.State.ID, 1)
	require.NoError(t, err)
	assert.Len(t, back.Snapshot.Pages(), 2)
	require.NoError(t, d.CallState(t.Context(), 1, doc.ID, first, ""))
	named, err = d.NamedStates(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.Empty(t, named)
}

// Two states are compared page by page: words, looks, pages that went and came; and two documents by their texts.
func TestCompareStates(t *testing.T) {
	if testing.Short() {
		t.Skip("takes its time; nothing in it happens at once")
	}
	d := newDesk(t)
	doc := bring(t, d, "Letter.pdf", pdftest.Text(4))
	mustDo(t, d, doc.ID, "replace-text", `{"pages":"2","pairs":[{"find":"Page","with":"Leaf"}]}`)
	mustDo(t, d, doc.ID, "rotate", `{"pages":"3","by":90}`)
	mustDo(t, d, doc.ID, "remove", `{"pages":"4"}`)
	mustDo(t, d, doc.ID, "blank", `{"to":1}`)
	now, then, err := d.Against(t.Context(), 1, doc.ID, "arrival")
	require.NoError(t, err)
	c, err := d.Compare(t.Context(), then, now)
	require.NoError(t, err)
	require.Len(t, c.Pages, 4)
	came, words, looks, went := c.Pages[0], c.Pages[1], c.Pages[2], c.Pages[3]
	assert.Nil(t, came.Then)
	assert.Equal(t, []ComparedWords{{Was: "Page", Is: "Leaf", After: "2"}}, words.Words)
	assert.True(t, looks.Looks)
	assert.Nil(t, went.Now)
	places, err := d.ComparePage(t.Context(), then, now, words.Then.Key, words.Now.Key)
	require.NoError(t, err)
	assert.Equal(t, [][2]int{{0, 4}}, places.A)
	assert.Equal(t, [][2]int{{0, 4}}, places.B)
	assert.NotEmpty(t, places.Looks)

	other := bring(t, d, "Other.pdf", pdftest.Text(3))
	now, then, err = d.Against(t.Context(), 1, doc.ID, "doc:"+toText(other.ID))
	require.NoError(t, err)
	c, err = d.Compare(t.Context(), then, now)
	require.NoError(t, err)
	assert.NotEmpty(t, c.Pages)
	for _, bad := range []string{"", "state:99999", "doc:99999", "page:1"} {
		_, _, err := d.Against(t.Context(), 1, doc.ID, bad)
		assert.Error(t, err, bad)
	}
}

func toText(id uint) string {
	b, _ := json.Marshal(id) // of a number
	return string(b)
}

// A step on a page that nobody touched may be done on a newer state, but not where somebody meanwhile did something to all pages.
func TestSomebodyChangedAllMeanwhile(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Letter.pdf", pdftest.Text(3))
	seen := doc.HeadID
	mustDo(t, d, doc.ID, "rotate", `{"pages":["0.3"],"by":90}`)
	_, err := do(t, d, doc.ID, seen, "rotate", `{"pages":["0.1"],"by":90}`)
	require.NoError(t, err, "another page")
	labelled := mustDo(t, d, doc.ID, "label", `{"pages":"all","style":"i ii iii","first":1}`)
	seen = labelled.Snapshot.State.ID
	out := mustDo(t, d, doc.ID, "labels-remove", `{}`)
	require.True(t, out.Step.All)
	_, err = do(t, d, doc.ID, seen, "rotate", `{"pages":["0.2"],"by":90}`)
	var conflict *Conflict
	require.ErrorAs(t, err, &conflict)
	assert.Equal(t, out.Snapshot.State.ID, conflict.Head.State.ID)
	assert.Contains(t, err.Error(), "someone else changed the document first")
}

// A refusal leaves the document open; only a change that could not be stored has it read again.
func TestRefusalKeepsTheDocumentOpen(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Letter.pdf", pdftest.Text(3))
	out := mustDo(t, d, doc.ID, "rotate", `{"pages":"1","by":90}`)
	open := func() *Snapshot {
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.live[doc.ID].snap
	}
	was := open()
	require.NotNil(t, was)
	var no *step.Refusal
	_, err := d.Redo(t.Context(), doc.ID, was.State.ID, 1)
	require.ErrorAs(t, err, &no)
	_, err = d.Revise(t.Context(), Revision{Document: doc.ID, Seen: was.State.ID, Person: 1, Step: out.Step.ID, Params: json.RawMessage(`{"pages":"9","by":90}`)})
	require.ErrorAs(t, err, &no)
	_, err = d.Revise(t.Context(), Revision{Document: doc.ID, Seen: was.State.ID, Person: 1, Step: 9999})
	require.ErrorIs(t, err, store.ErrMissing)
	_, err = d.GoBack(t.Context(), doc.ID, was.State.ID, 1, was.State.ID)
	require.ErrorAs(t, err, &no)
	assert.Same(t, was, open())
	require.NoError(t, d.db.Exec("CREATE TRIGGER broken BEFORE UPDATE OF head_id ON documents BEGIN SELECT RAISE(ABORT, 'broken'); END").Error)
	for _, f := range []func() error{
		func() error { _, err := d.Undo(t.Context(), doc.ID, was.State.ID, 1); return err },
		func() error { _, err := d.GoBack(t.Context(), doc.ID, was.State.ID, 1, doc.HeadID); return err },
		func() error {
			_, err := d.Revise(t.Context(), Revision{Document: doc.ID, Seen: was.State.ID, Person: 1, Step: out.Step.ID, Params: json.RawMessage(`{"pages":"1","by":180}`)})
			return err
		},
	} {
		_, err := d.Snapshot(t.Context(), doc.ID)
		require.NoError(t, err)
		require.ErrorContains(t, f(), "broken")
		assert.Nil(t, open(), "it is read again")
	}
}

// A check that fails, by an error or a fault, is something to look at; it keeps nobody from opening or exporting the document.
func TestFailingChecks(t *testing.T) {
	d, err := Open(t.TempDir(), Options{PDFiumCache: raster.CacheForTests(), Checks: []finding.Check{
		func(*pdf.Document) ([]finding.Finding, error) { return nil, errors.New("it can't look") },
		func(*pdf.Document) ([]finding.Finding, error) { panic("a fault") },
		func(*pdf.Document) ([]finding.Finding, error) {
			return []finding.Finding{{Kind: "last", Sentence: "the last check is made too"}}, nil
		},
	}})
	require.NoError(t, err)
	defer d.Close()
	somebody(t, d, "isla", people.Administrator)
	doc := bring(t, d, "Letter.pdf", pdftest.Text(1))
	s, err := d.Look(t.Context(), 1, doc.ID)
	require.NoError(t, err)
	list := d.LooseEnds(s)
	at := slices.IndexFunc(list, func(f finding.Finding) bool { return f.Kind == finding.Unchecked })
	require.GreaterOrEqual(t, at, 0)
	assert.Equal(t, "2 checks failed on this document: a problem may go unnoticed", list[at].Sentence)
	assert.True(t, slices.ContainsFunc(list, func(f finding.Finding) bool { return f.Kind == "last" }))
	o := Order{Document: doc.ID, Seen: s.State.ID, Person: 1, Name: "Out", RequestID: "o"}
	var asks *Asks
	_, err = d.HandOut(t.Context(), &background.Work{}, o)
	require.ErrorAs(t, err, &asks)
	o.AsItIs = true
	_, err = d.HandOut(t.Context(), &background.Work{}, o)
	require.NoError(t, err)
}
