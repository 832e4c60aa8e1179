package desk

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/desk/store"
)

// Work that runs is known and can be cancelled, however much was begun since; what has ended long ago is not, nor are scans of it.
func TestRunningWorkIsKept(t *testing.T) {
	d := openDesk(t, t.TempDir())
	long := d.Start(1, "Long", func(ctx context.Context, _ *Work) (any, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	short := d.Start(1, "Short", func(context.Context, *Work) (any, error) { return nil, nil })
	short.Wait(t.Context())
	d.scans.byID = map[uint]*Scanned{short.ID: {Document: 1}, long.ID: {Document: 2}}
	for range 3 * keptWork {
		d.Start(1, "Short", func(context.Context, *Work) (any, error) { return nil, nil }).Wait(t.Context())
	}
	w, err := d.Work(long.ID)
	require.NoError(t, err)
	assert.Equal(t, WorkRunning, w.Look().State)
	_, err = d.Work(short.ID)
	assert.ErrorIs(t, err, store.ErrMissing)
	assert.LessOrEqual(t, len(d.work.byID), keptWork+1)
	d.scans.trim(d)
	assert.Len(t, d.scans.byID, 1)
	assert.Contains(t, d.scans.byID, long.ID)
	second := d.Start(1, "Long too", func(ctx context.Context, _ *Work) (any, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	closed := make(chan error, 1)
	go func() { closed <- d.Close() }()
	select {
	case err := <-closed:
		require.NoError(t, err)
	case <-time.After(20 * time.Second):
		t.Fatal("closing hangs: work that runs was forgotten")
	}
	assert.Equal(t, []WorkState{WorkCancelled, WorkCancelled}, []WorkState{long.Look().State, second.Look().State})
}
