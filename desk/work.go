package desk

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

// works are the pieces of work since the server started; old ones are forgotten.
type works struct {
	mu      sync.Mutex
	next    uint
	byID    map[uint]*Work
	running sync.WaitGroup
	stopped bool
}

const keptWork = 200

// trim forgets the oldest pieces of work that have ended, while there are more than keptWork. What runs stays, to be looked at, cancelled and stopped.
func (ws *works) trim() {
	if len(ws.byID) <= keptWork {
		return
	}
	for _, id := range slices.Sorted(maps.Keys(ws.byID)) {
		if len(ws.byID) <= keptWork {
			return
		}
		if ws.byID[id].Look().State != WorkRunning {
			delete(ws.byID, id)
		}
	}
}

// forget drops what work of a document gave, which may show it.
func (ws *works) forget(document uint) {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	for _, w := range ws.byID {
		w.mu.Lock()
		out, ok := w.result.(*Outcome)
		if ok && out != nil && out.Snapshot != nil && out.Snapshot.Document.ID == document || slices.Contains(w.of, document) {
			w.result = &Told{Sentence: "The document was deleted for good."}
		}
		w.mu.Unlock()
	}
}

// Start runs f in the background.
func (d *Desk) Start(person uint, label string, f func(context.Context, *Work) (any, error)) *Work {
	return d.start(person, label, false, f)
}

// start runs f in the background; parts says that it can be stopped with what is done kept.
func (d *Desk) start(person uint, label string, parts bool, f func(context.Context, *Work) (any, error)) *Work {
	ctx, cancel := context.WithCancel(context.Background())
	w := &Work{Label: label, Parts: parts, PersonID: person, state: WorkRunning, cancel: cancel, ended: make(chan struct{}), moved: make(chan struct{}), since: time.Now()}
	d.work.mu.Lock()
	if d.work.byID == nil {
		d.work.byID = map[uint]*Work{}
	}
	d.work.next++
	w.ID = d.work.next
	d.work.byID[w.ID] = w
	d.work.trim()
	if d.work.stopped {
		cancel()
	}
	d.work.running.Add(1)
	d.work.mu.Unlock()
	go func() {
		defer d.work.running.Done()
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
			err = faultOf(p)
		}
	}()
	return f(ctx, w)
}

// faultOf makes an error of a panic.
func faultOf(p any) error { return fmt.Errorf("a fault in the program: %v\n%s", p, debug.Stack()) }

// Work gives a piece of work.
func (d *Desk) Work(id uint) (*Work, error) {
	d.work.mu.Lock()
	defer d.work.mu.Unlock()
	if w, ok := d.work.byID[id]; ok {
		return w, nil
	}
	return nil, store.ErrMissing
}

// doing gives the work that does some work on many documents now; nil where none does.
func (ws *works) doing(many uint) *Work {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	for _, w := range ws.byID {
		w.mu.Lock()
		is := w.many == many && w.state == WorkRunning
		w.mu.Unlock()
		if is {
			return w
		}
	}
	return nil
}

// ending reports whether the server is being stopped.
func (ws *works) ending() bool {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	return ws.stopped
}

func (ws *works) stop() {
	ws.mu.Lock()
	ws.stopped = true
	for _, w := range ws.byID {
		w.cancel()
	}
	ws.mu.Unlock()
	ws.running.Wait()
}

// Ended is closed when the work has ended.
func (w *Work) Ended() <-chan struct{} { return w.ended }
