package desk

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// turning turns the first page of many documents; those called “Sealed” are refused. hold, where set, is called before each.
func turning(hold func(it *ManyItem)) ManyKind {
	return ManyKind{
		Name:  "turn",
		Label: func(n int) string { return "Rotate the first page of " + step.Count(n, "document") },
		Told: func(done, of int) string {
			return fmt.Sprintf("Rotated in %d of %s.", done, step.Count(of, "document"))
		},
		Do: func(ctx context.Context, d *Desk, _ *background.Work, m *Many, it *ManyItem, _ func(done, of int)) (string, error) {
			if hold != nil {
				hold(it)
			}
			if err := ctx.Err(); err != nil {
				return "", err
			}
			if strings.HasPrefix(it.Name, "Sealed") {
				return "", step.Refuse("it is sealed")
			}
			s, err := d.Look(ctx, m.PersonID, it.DocumentID)
			if err != nil {
				return "", err
			}
			out, err := d.Do(ctx, Change{Document: it.DocumentID, Seen: s.State.ID, Person: m.PersonID, RequestID: m.request(it), Name: "rotate", Params: []byte(`{"pages":"1","by":90}`)})
			if err != nil {
				return "", err
			}
			it.StateID = out.Step.StateID
			return out.Step.Sentence, nil
		},
	}
}

func manyDesk(t *testing.T, dir string, hold func(it *ManyItem)) *Desk {
	t.Helper()
	d, err := Open(dir, Options{PDFiumCache: raster.CacheForTests(), Many: []ManyKind{turning(hold)}})
	require.NoError(t, err)
	return d
}

// Work on thirty documents with two refusals is broken off by the end of the server, taken up by the next one, and undone as one.
func TestMany(t *testing.T) {
	dir := t.TempDir()
	reached, goOn := make(chan struct{}), make(chan struct{})
	d := manyDesk(t, dir, func(it *ManyItem) {
		if it.Place == 12 {
			close(reached)
			<-goOn
		}
	})
	person := somebody(t, d, "isla", people.Administrator)
	ids := make([]uint, 30)
	for i := range ids {
		name := fmt.Sprintf("Berth %d.pdf", i)
		if i == 4 || i == 20 {
			name = fmt.Sprintf("Sealed %d.pdf", i)
		}
		ids[i] = bring(t, d, name, pdftest.Text(1)).ID
	}
	w, err := d.Many(t.Context(), person, "turn", struct{}{}, ids, "act")
	require.NoError(t, err)
	<-reached
	twice, err := d.Many(t.Context(), person, "turn", struct{}{}, ids, "act")
	require.NoError(t, err)
	assert.Equal(t, w.ID, twice.ID, "the same request, while it goes on, is the same work")
	ended := make(chan struct{})
	go func() { _ = d.Close(); close(ended) }()
	require.Eventually(t, d.work.Ending, 10*time.Second, time.Millisecond)
	close(goOn)
	<-ended
	assert.Equal(t, background.WorkCancelled, w.Look().State)

	// As if it had been killed between a step and the note of it.
	require.NoError(t, func() error {
		db, done, err := store.OpenDatabase("file:" + filepath.Join(dir, store.DatabaseName))
		require.NoError(t, err)
		res := db.Model(&ManyItem{}).Where("place = ? and outcome = ?", 11, ManyDone).Updates(map[string]any{"outcome": ManyWaits, "state_id": 0})
		assert.Equal(t, int64(1), res.RowsAffected)
		return errors.Join(res.Error, done())
	}())
	var again atomic.Int32
	d = manyDesk(t, dir, func(*ManyItem) { again.Add(1); time.Sleep(time.Millisecond) })
	t.Cleanup(func() { _ = d.Close() })
	m := waitMany(t, d)
	assert.Equal(t, int32(19), again.Load(), "what was noted is not done again")
	var items []ManyItem
	require.NoError(t, d.db.Order("place").Find(&items, "many_id = ?", m.ID).Error)
	require.Len(t, items, 30)
	refused := 0
	for _, it := range items {
		switch it.Outcome {
		case ManyRefused:
			refused++
			assert.Equal(t, "It is sealed", it.Sentence)
		default:
			assert.Equal(t, ManyDone, it.Outcome)
			s := snapshot(t, d, it.DocumentID)
			assert.Equal(t, it.StateID, s.State.ID)
			steps, err := d.Trail(t.Context(), s, 0, 9)
			require.NoError(t, err)
			assert.Len(t, steps, 1, "once in each")
		}
	}
	assert.Equal(t, 2, refused)

	// Asked for again, the same act does nothing more and tells the same.
	w, err = d.Many(t.Context(), person, "turn", struct{}{}, ids, "act")
	require.NoError(t, err)
	told, ok := w.Wait(t.Context()).Result.(*Told)
	require.True(t, ok)
	assert.Equal(t, "Rotated in 28 of 30 documents.", told.Sentence)
	assert.Equal(t, []string{"“Sealed 4”: It is sealed.", "“Sealed 20”: It is sealed."}, told.Details[:2])
	assert.True(t, told.Problem)
	assert.Equal(t, m.ID, told.Many)
	assert.Equal(t, int32(19), again.Load())

	// Undone as one, but for what was changed since.
	mustDo(t, d, ids[0], "rotate", `{"pages":"1","by":90}`)
	w, err = d.UndoMany(t.Context(), person, m.ID)
	require.NoError(t, err)
	told, ok = w.Wait(t.Context()).Result.(*Told)
	require.True(t, ok)
	assert.Equal(t, "Undone in 27 of 28 documents.", told.Sentence)
	assert.Equal(t, []string{"“Berth 0”: It was changed since: undo it there."}, told.Details)
	assert.Zero(t, snapshot(t, d, ids[1]).State.ParentID)
	_, err = d.UndoMany(t.Context(), somebody(t, d, "tam", people.Member), m.ID)
	assert.ErrorIs(t, err, store.ErrMissing, "it is not theirs")

	// What is deleted for good is named nowhere any more.
	require.NoError(t, d.Bin(t.Context(), person, []uint{ids[4]}))
	require.NoError(t, d.Purge(t.Context(), person, ids[4]))
	var left int64
	require.NoError(t, d.db.Model(&ManyItem{}).Where("document_id = ?", ids[4]).Count(&left).Error)
	assert.Zero(t, left)
	told, ok = w.Look().Result.(*Told)
	require.True(t, ok)
	assert.NotContains(t, fmt.Sprint(told), "Sealed 4")
}

// waitMany waits until all that was begun has ended, and gives the last.
func waitMany(t *testing.T, d *Desk) (m Many) {
	t.Helper()
	require.Eventually(t, func() bool {
		var open int64
		return d.db.Model(&Many{}).Where("ended_at is null").Count(&open).Error == nil && open == 0
	}, 30*time.Second, 10*time.Millisecond)
	require.NoError(t, d.db.Last(&m).Error)
	return m
}

// Stopped, it keeps what is done and tells what is left; cancelled, it does not begin anew with the next server; what ended long ago is forgotten.
func TestManyStopped(t *testing.T) {
	dir := t.TempDir()
	var d *Desk
	at, goOn := make(chan *ManyItem), make(chan struct{})
	d = manyDesk(t, dir, func(it *ManyItem) { at <- it; <-goOn })
	person := somebody(t, d, "isla", people.Administrator)
	a, b, c := bring(t, d, "A.pdf", pdftest.Text(1)), bring(t, d, "B.pdf", pdftest.Text(1)), bring(t, d, "C.pdf", pdftest.Text(1))
	ids := []uint{a.ID, b.ID, c.ID}
	w, err := d.Many(t.Context(), person, "turn", nil, ids, "stopped")
	require.NoError(t, err)
	<-at
	w.Stop()
	close(goOn)
	told, ok := w.Wait(t.Context()).Result.(*Told)
	require.True(t, ok)
	assert.Equal(t, "Rotated in 1 of 3 documents. Stopped: 2 documents left as they were.", told.Sentence)
	w, err = d.Many(t.Context(), person, "turn", nil, ids, "stopped") // the same request again tells the same, and does nothing
	require.NoError(t, err)
	told, ok = w.Wait(t.Context()).Result.(*Told)
	require.True(t, ok)
	assert.Equal(t, "Rotated in 1 of 3 documents. Stopped: 2 documents left as they were.", told.Sentence)

	w, err = d.Many(t.Context(), person, "turn", nil, ids, "")
	require.NoError(t, err)
	assert.True(t, w.Several() || w.Look().State == background.WorkRunning)
	w.Cancel()
	select {
	case <-at:
	case <-w.Ended():
	}
	assert.Equal(t, background.WorkCancelled, w.Wait(t.Context()).State)
	waitMany(t, d)
	require.NoError(t, d.Close())

	later := time.Now().Add(keptMany + time.Hour)
	d, err = Open(dir, Options{PDFiumCache: raster.CacheForTests(), Many: []ManyKind{turning(func(*ManyItem) { t.Error("it began anew") })}, Now: func() time.Time { return later }})
	require.NoError(t, err)
	var n int64
	require.NoError(t, d.db.Model(&ManyItem{}).Count(&n).Error)
	assert.Zero(t, n)
	require.NoError(t, d.Close())
}

func TestManyRefused(t *testing.T) {
	d := manyDesk(t, t.TempDir(), nil)
	t.Cleanup(func() { _ = d.Close() })
	isla, tam := somebody(t, d, "isla", people.Administrator), somebody(t, d, "tam", people.Member)
	a := bring(t, d, "A.pdf", pdftest.Text(1))
	closed, err := d.MakeFolderIn(t.Context(), isla, 0, "Closed")
	require.NoError(t, err)
	require.NoError(t, d.OpenFolder(t.Context(), isla, closed.ID, true, nil))
	_, err = d.MoveTo(t.Context(), isla, []uint{a.ID}, closed.ID)
	require.NoError(t, err)
	for want, ask := range map[string]func() (*background.Work, error){
		"called \"nothing\"":  func() (*background.Work, error) { return d.Many(t.Context(), isla, "nothing", nil, []uint{a.ID}, "") },
		"no document":         func() (*background.Work, error) { return d.Many(t.Context(), isla, "turn", nil, nil, "") },
		"up to 500 documents": func() (*background.Work, error) { return d.Many(t.Context(), isla, "turn", nil, make([]uint, 501), "") },
		"doesn’t exist":       func() (*background.Work, error) { return d.Many(t.Context(), tam, "turn", nil, []uint{a.ID}, "") },
		"it doesn’t exist or": func() (*background.Work, error) { return d.UndoMany(t.Context(), isla, 77) },
		"used for something": func() (*background.Work, error) {
			return d.Many(t.Context(), isla, "recognize", nil, []uint{a.ID}, "first")
		},
		"there is nothing to u": func() (*background.Work, error) { return d.UndoMany(t.Context(), isla, 1) },
	} {
		if strings.HasPrefix(want, "used") {
			w, err := d.Many(t.Context(), isla, "turn", nil, []uint{bring(t, d, "Sealed.pdf", pdftest.Text(1)).ID}, "first")
			require.NoError(t, err)
			w.Wait(t.Context())
		}
		if strings.HasPrefix(want, "there") {
			continue
		}
		_, err := ask()
		assert.ErrorContains(t, err, want)
	}
	m := waitMany(t, d)
	_, err = d.UndoMany(t.Context(), isla, m.ID)
	assert.ErrorContains(t, err, "there is nothing to undo")
}
