package desk

import (
	"encoding/json"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
	"glenrain/core/recognize"
	"glenrain/desk/background"
	"glenrain/desk/people"
	scanner "glenrain/standin/scanner"
)

// pile is a document of pages that are scans, no two alike.
func pile(t *testing.T, n int) []byte {
	t.Helper()
	if _, err := ocr.Find(); err != nil {
		t.Skip(err)
	}
	doc := pdf.New()
	for i := range n {
		p, err := picture.Decode(scanner.Picture([]string{"letter", "form", "table"}[i%3], "Grayscale8", 75+5*i))
		require.NoError(t, err)
		page, err := draw.PicturePage(doc, p, draw.Placement{})
		require.NoError(t, err)
		require.NoError(t, doc.InsertPages(i, []pdf.Ref{page}))
	}
	return pdftest.Whole(t, doc)
}

func (d *Desk) layers(t *testing.T, document uint) (n int) {
	t.Helper()
	s, err := d.Snapshot(t.Context(), document)
	require.NoError(t, err)
	for _, p := range s.Pages() {
		ref, _ := s.Keys.Ref(p.Key)
		if _, _, ok := recognize.Layer(s.PDF.In(t.Context()), ref); ok {
			n++
		}
	}
	return n
}

// Recognizing that is stopped keeps what is done, and the rest is done later; while it goes on others read the document and change nothing. Cancelled, it leaves
// nothing.
func TestRecognizeStopped(t *testing.T) {
	d := newDesk(t)
	const pages = 6
	doc := bring(t, d, "Pile.pdf", pile(t, pages))
	tomas := somebody(t, d, "Tomas", people.Member)
	begin := func() *background.Work {
		s, err := d.Look(t.Context(), 1, doc.ID)
		require.NoError(t, err)
		w, done, err := d.DoLater(t.Context(), Change{Document: doc.ID, Seen: s.State.ID, Person: 1, Name: "recognize", Params: json.RawMessage(`{"pages":"all","languages":"eng"}`), RequestID: people.NewToken()})
		require.NoError(t, err)
		require.Nil(t, done)
		return w
	}
	reach := func(w *background.Work, n int) {
		require.Eventually(t, func() bool { return w.Look().Done >= n }, time.Minute, 5*time.Millisecond)
	}

	w := begin()
	reach(w, 1)
	w.Cancel()
	require.Equal(t, background.WorkCancelled, w.Wait(t.Context()).State)
	assert.Zero(t, d.layers(t, doc.ID))

	d.readings.forget() // so that it takes its time again
	w = begin()
	reach(w, 1)
	s, err := d.Look(t.Context(), tomas, doc.ID)
	require.NoError(t, err, "others read it meanwhile")
	_, err = d.Do(t.Context(), Change{Document: doc.ID, Seen: s.State.ID, Person: tomas, Name: "rotate", Params: json.RawMessage(`{"pages":"all","by":90}`), RequestID: "r"})
	var busy *Busy
	require.True(t, errors.As(err, &busy), "and change nothing: %v", err)
	w.Stop()
	p := w.Wait(t.Context())
	require.NoError(t, p.Err)
	out, ok := p.Result.(*Outcome)
	require.True(t, ok)
	n := d.layers(t, doc.ID)
	assert.Positive(t, n)
	assert.Less(t, n, pages)
	require.NotEmpty(t, out.Step.WarningList())
	assert.Contains(t, out.Step.WarningList()[len(out.Step.WarningList())-1], "left as they were")

	w = begin() // the rest
	p = w.Wait(t.Context())
	require.NoError(t, p.Err)
	assert.Equal(t, pages, d.layers(t, doc.ID))
	s, err = d.Look(t.Context(), 1, doc.ID)
	require.NoError(t, err)
	started := time.Now()
	undone, err := d.Undo(t.Context(), doc.ID, s.State.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, n, d.layers(t, doc.ID))
	_, err = d.Redo(t.Context(), doc.ID, undone.Snapshot.State.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, pages, d.layers(t, doc.ID))
	assert.Less(t, time.Since(started), 5*time.Second, "nothing is read again")
}

// Several documents are recognized one after the other; one that can't be is told, and stops nothing.
func TestRecognizeMany(t *testing.T) {
	if testing.Short() {
		t.Skip("children do the work, which takes them long under the race detector")
	}
	d := newDesk(t)
	a, b := bring(t, d, "One.pdf", pile(t, 1)), bring(t, d, "Two.pdf", pile(t, 2))
	text := bring(t, d, "Text.pdf", pdftest.Text(2))
	w, err := d.RecognizeMany(t.Context(), 1, []uint{a.ID, text.ID, b.ID}, "eng")
	require.NoError(t, err)
	p := w.Wait(t.Context())
	require.NoError(t, p.Err)
	told, ok := p.Result.(*Told)
	require.True(t, ok)
	assert.Equal(t, "Text of 2 of 3 documents recognized.", told.Sentence)
	assert.True(t, told.Problem)
	assert.Contains(t, told.Details[0], "“Text”: Nothing to recognize")
	assert.Equal(t, []int{1, 2, 0}, []int{d.layers(t, a.ID), d.layers(t, b.ID), d.layers(t, text.ID)})
}
