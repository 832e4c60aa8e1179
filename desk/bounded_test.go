package desk

import (
	"context"
	"encoding/json"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/arrange"
	"glenrain/core/furnish"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
)

// stuck is a step that heeds nothing, until the test ends.
type stuck struct{ until chan struct{} }

func (s *stuck) Apply(context.Context, *pdf.Document, *step.Env) (*step.Result, error) {
	<-s.until
	return nil, errors.New("at last")
}

// greedy is a step that reads on and on, as a walk without an end would.
type greedy struct{}

func (greedy) Apply(_ context.Context, doc *pdf.Document, _ *step.Env) (*step.Result, error) {
	for doc.Catalog() != nil {
	}
	return &step.Result{Sentence: "Nothing"}, nil
}

// faulty is a step with a fault.
type faulty struct{}

func (faulty) Apply(context.Context, *pdf.Document, *step.Env) (*step.Result, error) {
	var p []int
	return nil, errors.New(string(rune(p[3])))
}

// A step that does not end answers, and frees the document, whatever it does; the next one runs.
func TestWatchdog(t *testing.T) {
	until := make(chan struct{})
	t.Cleanup(func() { close(until) })
	kinds := append(append(arrange.Kinds(), furnish.Kinds()...), step.Kind{Name: "stuck", New: func() step.Step { return &stuck{until} }},
		step.Kind{Name: "greedy", New: func() step.Step { return &greedy{} }}, step.Kind{Name: "faulty", New: func() step.Step { return &faulty{} }},
		step.Kind{Name: "stuck-slow", Slow: true, New: func() step.Step { return &stuck{until} }})
	d, err := Open(t.TempDir(), Options{PDFiumCache: raster.CacheForTests(), Registry: step.NewRegistry(furnish.Hooks(), kinds...), MaxWork: 200 * time.Millisecond})
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	somebody(t, d, "isla", people.Administrator)
	d.maxWork = time.Minute // for the file
	doc := bring(t, d, "Tariffs.pdf", pdftest.Text(3))
	d.maxWork = 200 * time.Millisecond
	change := func(name string) Change {
		s, err := d.Snapshot(t.Context(), doc.ID)
		require.NoError(t, err)
		requests++
		return Change{Document: doc.ID, Seen: s.State.ID, RequestID: people.NewToken(), Person: 1, Name: name, Params: json.RawMessage("{}")}
	}
	for _, name := range []string{"stuck", "greedy"} {
		start := time.Now()
		_, err := d.Do(t.Context(), change(name))
		assert.ErrorIs(t, err, pdf.ErrTooLong, name)
		assert.Less(t, time.Since(start), grace+3*time.Second, name)
		_, err = d.Preview(t.Context(), change(name), Previewed{W: 40, H: 40})
		assert.ErrorIs(t, err, pdf.ErrTooLong, name)
	}
	_, err = d.Do(t.Context(), change("faulty"))
	assert.ErrorIs(t, err, step.ErrPanic)
	d.maxWork = time.Minute
	c := change("rotate")
	c.Params = json.RawMessage(`{"pages":"1","by":90}`)
	_, err = d.Do(t.Context(), c)
	require.NoError(t, err, "the document is free")
	// A slow one is given up when it is cancelled, and the document is no longer reserved.
	w, _, err := d.DoLater(t.Context(), change("stuck-slow"))
	require.NoError(t, err)
	assert.NotNil(t, d.Reserved(doc.ID))
	w.Cancel()
	p := w.Wait(t.Context())
	assert.Equal(t, background.WorkCancelled, p.State)
	assert.Nil(t, d.Reserved(doc.ID))
}

// What comes after the time was over is given to whoever tidies up, and to nobody else.
func TestLate(t *testing.T) {
	d := newDesk(t)
	ctx, cancel := context.WithTimeoutCause(t.Context(), 20*time.Millisecond, pdf.ErrTooLong)
	defer cancel()
	go_, late := make(chan struct{}), make(chan string, 1)
	v, err := bounded(ctx, d, "late", func(context.Context) (string, error) { <-go_; return "a file", nil }, func(s string) { late <- s })
	assert.ErrorIs(t, err, pdf.ErrTooLong)
	assert.Empty(t, v)
	close(go_)
	assert.Equal(t, "a file", <-late)
	v, err = bounded(t.Context(), d, "in time", func(context.Context) (string, error) { return "a file", nil }, nil)
	require.NoError(t, err)
	assert.Equal(t, "a file", v)
}

// A document that was being read when the server stopped, twice, is passed over by itself, and read when somebody asks.
func TestPassedOver(t *testing.T) {
	dir := t.TempDir()
	d := openDesk(t, dir)
	doc := bring(t, d, "Tariffs.pdf", pdftest.Text(3))
	again := func(tries int) {
		require.NoError(t, d.db.Model(&Document{}).Where("id = ?", doc.ID).Updates(map[string]any{"reading_tries": tries, "text_id": 0}).Error)
		require.NoError(t, d.Close())
		d = openDesk(t, dir)
	}
	again(1)
	require.Eventually(t, func() bool {
		row, err := d.row(t.Context(), doc.ID)
		return err == nil && row.TextID == row.HeadID && row.ReadingTries == 0
	}, 20*time.Second, 20*time.Millisecond, "once may be somebody else's fault")
	again(2)
	t.Cleanup(func() { _ = d.Close() })
	row, err := d.row(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.True(t, row.Unreadable)
	time.Sleep(2 * readAhead)
	row, err = d.row(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.Zero(t, row.TextID, "nobody asked")
	s, err := d.Look(t.Context(), 1, doc.ID)
	require.NoError(t, err)
	rows, err := d.Texts(t.Context(), s)
	require.NoError(t, err)
	assert.Len(t, rows, 3)
}
