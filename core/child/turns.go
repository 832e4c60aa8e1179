package child

import (
	"context"
	"sync"
)

type forKey struct{}

// For names whom the work in a context is done for: those who wait for the same thing take turns, so that one who asks for much holds nobody up.
func For(ctx context.Context, who string) context.Context {
	return context.WithValue(ctx, forKey{}, who)
}

// Whose gives the name that For put into a context; empty where there is none.
func Whose(ctx context.Context) string {
	who, _ := ctx.Value(forKey{}).(string)
	return who
}

// Turns lets a few pieces of work run at a time, whoever they are for, and some more for those who have none running: somebody who has many pieces under
// way can't fill all places.
type Turns struct {
	usual, extra int

	mu      sync.Mutex
	running int
	of      map[string]int
	waiting []*turn // in the order in which they came
}

type turn struct {
	who     string
	granted chan struct{}
}

// NewTurns lets usual pieces run at a time, and up to extra more for those who have none running.
func NewTurns(usual, extra int) *Turns {
	return &Turns{usual: usual, extra: extra, of: map[string]int{}}
}

// Take waits for a turn, as long as ctx lasts; done gives it back and may be called more than once.
func (t *Turns) Take(ctx context.Context) (done func(), err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	w := &turn{who: Whose(ctx), granted: make(chan struct{})}
	t.mu.Lock()
	t.waiting = append(t.waiting, w)
	t.next()
	t.mu.Unlock()
	back := sync.OnceFunc(func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.running--
		if t.of[w.who]--; t.of[w.who] == 0 {
			delete(t.of, w.who)
		}
		t.next()
	})
	select {
	case <-w.granted:
		return back, nil
	case <-ctx.Done():
	}
	t.mu.Lock()
	for i, x := range t.waiting {
		if x == w {
			t.waiting = append(t.waiting[:i:i], t.waiting[i+1:]...)
			t.mu.Unlock()
			return nil, ctx.Err()
		}
	}
	t.mu.Unlock()
	back() // it was granted at the same moment
	return nil, ctx.Err()
}

// next grants turns while there are places: to whoever has the fewest running, and of those to the one that came first. The caller holds the lock.
func (t *Turns) next() {
	for len(t.waiting) > 0 {
		best := 0
		for i, w := range t.waiting {
			if t.of[w.who] < t.of[t.waiting[best].who] {
				best = i
			}
		}
		w := t.waiting[best]
		if t.running >= t.usual && (t.of[w.who] > 0 || t.running >= t.usual+t.extra) {
			return
		}
		t.waiting = append(t.waiting[:best:best], t.waiting[best+1:]...)
		t.running++
		t.of[w.who]++
		close(w.granted)
	}
}
