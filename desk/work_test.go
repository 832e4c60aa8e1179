package desk

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/desk/background"
	"glenrain/desk/store"
)

// A scan is known as long as the work that makes it.
func TestScansOfWork(t *testing.T) {
	d := openDesk(t, t.TempDir())
	long := d.Start(1, "Long", func(ctx context.Context, _ *background.Work) (any, error) {
		<-ctx.Done()
		return nil, ctx.Err()
	})
	short := d.Start(1, "Short", func(context.Context, *background.Work) (any, error) { return nil, nil })
	short.Wait(t.Context())
	d.scans.byID = map[uint]*Scanned{short.ID: {Document: 1}, long.ID: {Document: 2}}
	for range 600 {
		d.Start(1, "Short", func(context.Context, *background.Work) (any, error) { return nil, nil }).Wait(t.Context())
	}
	_, err := d.Work(short.ID)
	assert.ErrorIs(t, err, store.ErrMissing)
	d.scans.trim(d)
	assert.Len(t, d.scans.byID, 1)
	assert.Contains(t, d.scans.byID, long.ID)
	require.NoError(t, d.Close())
}
