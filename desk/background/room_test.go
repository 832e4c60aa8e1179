package background

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/desk/store"
)

// Work that runs is known and can be cancelled, however much was begun since; what has ended long ago is not.
func TestRunningWorkIsKept(t *testing.T) {
	d := New()
	long := d.Start(1, "Long", func(ctx context.Context, _ *Work) (any, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	short := d.Start(1, "Short", func(context.Context, *Work) (any, error) { return nil, nil })
	short.Wait(t.Context())
	for range 3 * keptWork {
		d.Start(1, "Short", func(context.Context, *Work) (any, error) { return nil, nil }).Wait(t.Context())
	}
	w, err := d.Work(long.ID)
	require.NoError(t, err)
	assert.Equal(t, WorkRunning, w.Look().State)
	_, err = d.Work(short.ID)
	assert.ErrorIs(t, err, store.ErrMissing)
	assert.LessOrEqual(t, len(d.byID), keptWork+1)
	second := d.Start(1, "Long too", func(ctx context.Context, _ *Work) (any, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	closed := make(chan error, 1)
	go func() { d.Stop(); closed <- nil }()
	select {
	case err := <-closed:
		require.NoError(t, err)
	case <-time.After(20 * time.Second):
		t.Fatal("closing hangs: work that runs was forgotten")
	}
	assert.Equal(t, []WorkState{WorkCancelled, WorkCancelled}, []WorkState{long.Look().State, second.Look().State})
}

type about uint

func (a about) Concerns(document uint) bool { return uint(a) == document }

// A fault ends work and nothing else; what work gave of a document goes when the document does.
func TestResults(t *testing.T) {
	r := New()
	fault := r.Start(1, "Faulty", func(context.Context, *Work) (any, error) { panic("at the turn of the tide") })
	p := fault.Wait(t.Context())
	assert.Equal(t, WorkFailed, p.State)
	assert.ErrorContains(t, p.Err, "at the turn of the tide")
	of := func(v any) *Work {
		w := r.Start(1, "x", func(context.Context, *Work) (any, error) { return v, nil })
		w.Wait(t.Context())
		return w
	}
	first, second, many := of(about(3)), of(about(4)), of("three documents")
	many.Is(9, []uint{3, 4})
	assert.Nil(t, r.Doing(9), "it has ended")
	r.Forget(3, "gone")
	assert.Equal(t, []any{"gone", about(4), "gone"}, []any{first.Look().Result, second.Look().Result, many.Look().Result})
	begun := make(chan struct{})
	running := r.Start(1, "Running", func(ctx context.Context, w *Work) (any, error) {
		w.Set(1, 3)
		close(begun)
		<-ctx.Done()
		return nil, ctx.Err()
	})
	running.Is(10, nil)
	<-begun
	assert.Same(t, running, r.Doing(10))
	assert.Equal(t, 1, running.Look().Done)
	assert.False(t, r.Ending())
	r.Stop()
	assert.True(t, r.Ending())
	assert.Equal(t, WorkCancelled, running.Look().State)
	late := r.Start(1, "Late", func(ctx context.Context, _ *Work) (any, error) { return nil, ctx.Err() })
	assert.Equal(t, WorkCancelled, late.Wait(t.Context()).State, "nothing begins when all ends")
}
