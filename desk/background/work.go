// Package background runs what takes long, and lets it be looked at, cancelled and waited for.
package background

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"glenrain/desk/store"
)

// Work is something that takes long and goes on in the background: it can be looked
// at and cancelled.
type Work struct {
	ID       uint
	Label    string
	PersonID uint
	Parts    bool // it can be stopped with what is done kept

	mu     sync.Mutex
	done   int
	total  int
	state  WorkState
	err    error
	result any
	cancel context.CancelFunc
	ended  chan struct{}
	enough bool
	lead   string
	moved  chan struct{} // closed and made anew when it is further
	since  time.Time
	shows  func(result any) any
	of     []uint // documents that the result says something of
	many   uint   // the work on many documents that it is
}

// WorkState is how far work is.
type WorkState string

// The states of work.
const (
	WorkRunning   WorkState = "running"
	WorkDone      WorkState = "done"
	WorkFailed    WorkState = "failed"
	WorkCancelled WorkState = "cancelled"
)

// Progress is a look at work.
type Progress struct {
	Done, Total int
	State       WorkState
	Err         error
	Result      any
}

// Look tells how far the work is.
func (w *Work) Look() Progress {
	w.mu.Lock()
	defer w.mu.Unlock()
	result := w.result
	if w.state == WorkDone && w.shows != nil {
		result = w.shows(result)
	}
	return Progress{w.done, w.total, w.state, w.err, result}
}

// Several reports whether it is work on one document after another, of which those that were finished stay finished.
func (w *Work) Several() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.of) > 0
}

// Shows has the result given as f makes it: where it is shown, for one.
func (w *Work) Shows(f func(result any) any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.shows = f
}

// Set tells how much is done.
func (w *Work) Set(done, total int) {
	w.mu.Lock()
	w.done, w.total = done, total
	w.tell()
	w.mu.Unlock()
}

func (w *Work) tell() {
	if w.moved != nil {
		close(w.moved)
	}
	w.moved = make(chan struct{})
}

// Changed is closed when the work is further than it was at the time of the call, or asked to stop.
func (w *Work) Changed() <-chan struct{} {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.moved == nil { // it is part of other work, and nobody started it
		w.moved = make(chan struct{})
	}
	return w.moved
}

// Stop asks the work to begin no more parts, and to keep what is done. Work that has no parts goes on to its end.
func (w *Work) Stop() {
	w.mu.Lock()
	w.enough = true
	w.tell()
	w.mu.Unlock()
}

// Enough reports whether the work was asked to stop.
func (w *Work) Enough() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.enough
}

// Lead tells where the work can be watched from now on.
func (w *Work) Lead(to string) {
	w.mu.Lock()
	w.lead = to
	w.tell()
	w.mu.Unlock()
}

// Leads is where the work can be watched; empty where that is nowhere in particular.
func (w *Work) Leads() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.lead
}

// Since is when the work began.
func (w *Work) Since() time.Time { return w.since }

// Cancel asks the work to end.
func (w *Work) Cancel() { w.cancel() }

// Wait waits for the end of the work, or of ctx.
func (w *Work) Wait(ctx context.Context) Progress {
	select {
	case <-w.ended:
	case <-ctx.Done():
	}
	return w.Look()
}

// Room is the pieces of work since the server started; old ones are forgotten.
type Room struct {
	mu      sync.Mutex
	next    uint
	byID    map[uint]*Work
	running sync.WaitGroup
	stopped bool
}

// New gives a room in which nothing goes on yet.
func New() *Room { return &Room{byID: map[uint]*Work{}} }

// Concerning is a result of work that says something of documents.
type Concerning interface{ Concerns(document uint) bool }

const keptWork = 200

// trim forgets the oldest pieces of work that have ended, while there are more than keptWork. What runs stays, to be looked at, cancelled and stopped.
func (r *Room) trim() {
	if len(r.byID) <= keptWork {
		return
	}
	for _, id := range slices.Sorted(maps.Keys(r.byID)) {
		if len(r.byID) <= keptWork {
			return
		}
		if r.byID[id].Look().State != WorkRunning {
			delete(r.byID, id)
		}
	}
}

// Forget drops what work of a document gave, which may show it; instead is given in its place.
func (r *Room) Forget(document uint, instead any) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, w := range r.byID {
		w.mu.Lock()
		if of, ok := w.result.(Concerning); ok && of.Concerns(document) || slices.Contains(w.of, document) {
			w.result = instead
		}
		w.mu.Unlock()
	}
}

// Start runs f in the background.
func (r *Room) Start(person uint, label string, f func(context.Context, *Work) (any, error)) *Work {
	return r.StartParts(person, label, false, f)
}

// StartParts runs f in the background; parts says that it can be stopped with what is done kept.
func (r *Room) StartParts(person uint, label string, parts bool, f func(context.Context, *Work) (any, error)) *Work {
	ctx, cancel := context.WithCancel(context.Background())
	w := &Work{Label: label, Parts: parts, PersonID: person, state: WorkRunning, cancel: cancel, ended: make(chan struct{}), moved: make(chan struct{}), since: time.Now()}
	r.mu.Lock()
	r.next++
	w.ID = r.next
	r.byID[w.ID] = w
	r.trim()
	if r.stopped {
		cancel()
	}
	r.running.Add(1)
	r.mu.Unlock()
	go func() {
		defer r.running.Done()
		defer cancel()
		result, err := guarded(ctx, w, f)
		w.mu.Lock()
		w.result, w.err = result, err
		switch {
		case err == nil:
			w.state = WorkDone
		case errors.Is(err, context.Canceled):
			w.state = WorkCancelled
		default:
			w.state = WorkFailed
		}
		w.mu.Unlock()
		close(w.ended)
	}()
	return w
}

func guarded(ctx context.Context, w *Work, f func(context.Context, *Work) (any, error)) (result any, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = Fault(p)
		}
	}()
	return f(ctx, w)
}

// Fault makes an error of a panic.
func Fault(p any) error { return fmt.Errorf("a fault in the program: %v\n%s", p, debug.Stack()) }

// Is says which work on many documents this is, and of which documents its result says something.
func (w *Work) Is(many uint, of []uint) {
	w.mu.Lock()
	w.many, w.of = many, of
	w.mu.Unlock()
}

// Work gives a piece of work.
func (r *Room) Work(id uint) (*Work, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if w, ok := r.byID[id]; ok {
		return w, nil
	}
	return nil, store.ErrMissing
}

// Doing gives the work that does some work on many documents now; nil where none does.
func (r *Room) Doing(many uint) *Work {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, w := range r.byID {
		w.mu.Lock()
		is := w.many == many && w.state == WorkRunning
		w.mu.Unlock()
		if is {
			return w
		}
	}
	return nil
}

// Ending reports whether the server is being stopped.
func (r *Room) Ending() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.stopped
}

// Stop cancels all that runs and waits until it has ended.
func (r *Room) Stop() {
	r.mu.Lock()
	r.stopped = true
	for _, w := range r.byID {
		w.cancel()
	}
	r.mu.Unlock()
	r.running.Wait()
}

// Ended is closed when the work has ended.
func (w *Work) Ended() <-chan struct{} { return w.ended }
