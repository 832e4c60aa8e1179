package desk

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
)

// Work is something that takes long and goes on in the background: it can be looked
// at and cancelled.
type Work struct {
	ID       uint
	Label    string
	PersonID uint

	mu     sync.Mutex
	done   int
	total  int
	state  WorkState
	err    error
	result any
	cancel context.CancelFunc
	ended  chan struct{}
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
	return Progress{w.done, w.total, w.state, w.err, w.result}
}

// Set tells how much is done.
func (w *Work) Set(done, total int) {
	w.mu.Lock()
	w.done, w.total = done, total
	w.mu.Unlock()
}

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

// Start runs f in the background.
func (d *Desk) Start(person uint, label string, f func(context.Context, *Work) (any, error)) *Work {
	ctx, cancel := context.WithCancel(context.Background())
	w := &Work{Label: label, PersonID: person, state: WorkRunning, cancel: cancel, ended: make(chan struct{})}
	d.work.mu.Lock()
	if d.work.byID == nil {
		d.work.byID = map[uint]*Work{}
	}
	d.work.next++
	w.ID = d.work.next
	d.work.byID[w.ID] = w
	delete(d.work.byID, w.ID-keptWork)
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
	return nil, ErrMissing
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
