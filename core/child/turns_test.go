package child

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asks waits for a turn in the background.
func asks(ctx context.Context, t *Turns, who string) <-chan func() {
	got := make(chan func(), 1)
	began := make(chan struct{})
	go func() {
		close(began)
		if done, err := t.Take(For(ctx, who)); err == nil {
			got <- done
		}
		close(got)
	}()
	<-began
	return got
}

func (t *Turns) waits(n int) func() bool {
	return func() bool {
		t.mu.Lock()
		defer t.mu.Unlock()
		return len(t.waiting) == n
	}
}

// One who has much to do fills the usual places, and somebody else comes at once; of those who wait, the one with the fewest under way is next.
func TestTurns(t *testing.T) {
	turns := NewTurns(2, 1)
	ctx := t.Context()
	take := func(who string) func() {
		done, err := turns.Take(For(ctx, who))
		require.NoError(t, err)
		return done
	}
	a1, a2 := take("isla"), take("isla")
	a3 := asks(ctx, turns, "isla")
	require.Eventually(t, turns.waits(1), waitLong, waitTick)
	b := take("tomas") // although both places are taken, and somebody waits
	c := asks(ctx, turns, "petra")
	require.Eventually(t, turns.waits(2), waitLong, waitTick)
	a1()
	got := <-c
	require.NotNil(t, got, "who has none comes before who has one")
	require.True(t, turns.waits(1)())
	b()
	got()
	done := <-a3
	require.NotNil(t, done)
	done()
	done() // twice is once
	a2()
	assert.Empty(t, turns.of)
	assert.Zero(t, turns.running)

	// Whoever goes away while waiting takes no place.
	a1, a2 = take("isla"), take("isla")
	gone, cancel := context.WithCancel(ctx)
	d := asks(gone, turns, "isla")
	require.Eventually(t, turns.waits(1), waitLong, waitTick)
	cancel()
	_, ok := <-d
	assert.False(t, ok)
	a1()
	a2()
	assert.Zero(t, turns.running)
	assert.Empty(t, turns.waiting)
	_, err := turns.Take(gone)
	assert.ErrorIs(t, err, context.Canceled)
}

const (
	waitLong = 10 * time.Second
	waitTick = time.Millisecond
)
