package pdf

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
)

// work is a piece of work that a document is read for: a step, a request, a file that is added. What it reads counts against its
// budget, and once its time is over the document gives nothing any more, so that no loop over what a file says goes
// on, whoever wrote it.
type work struct {
	over     atomic.Bool
	unpacked atomic.Int64 // bytes
	nodes    atomic.Int64 // of trees
	kept     atomic.Int64 // bytes

	mu   sync.Mutex
	err  error
	memo map[string]any
}

// end ends the work for a reason; the first one counts.
func (w *work) end(err error) {
	w.mu.Lock()
	if w.err == nil {
		w.err = err
	}
	w.mu.Unlock()
	w.over.Store(true)
}

func (w *work) why() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// spend counts bytes that were unpacked or looked through.
func (w *work) spend(bytes int) error {
	if w.unpacked.Add(int64(bytes)) > MaxInflatedAll {
		return ErrTooMuch
	}
	return nil
}

// In gives the same document, to be read for a piece of work that ends with ctx and has a budget of its own. It is not to be
// changed where d is in use: see ForkIn. Objects that were read stay good.
func (d *Document) In(ctx context.Context) *Document {
	d.mu.Lock()
	d.common = true // here and in the copy
	n := *d
	d.mu.Unlock()
	n.mu = &sync.Mutex{}
	n.begin(ctx)
	return &n
}

// ForkIn is Fork for a piece of work that ends with ctx.
func (d *Document) ForkIn(ctx context.Context) *Document {
	n := d.Fork()
	n.begin(ctx)
	return n
}

func (d *Document) begin(ctx context.Context) {
	w := &work{}
	d.work = w
	if err := ctx.Err(); err != nil {
		w.end(context.Cause(ctx))
		return
	}
	context.AfterFunc(ctx, func() { w.end(context.Cause(ctx)) })
}

// Over gives the reason for which the document's work is over; nil while it goes on.
func (d *Document) Over() error {
	if !d.work.over.Load() {
		return nil
	}
	return d.work.why()
}

// Memo keeps what make makes of the document for as long as its work goes on, or until Forget is called with the same key.
func (d *Document) Memo(key string, make func() any) any {
	d.work.mu.Lock()
	v, ok := d.work.memo[key]
	d.work.mu.Unlock()
	if ok {
		return v
	}
	v = make()
	d.work.mu.Lock()
	if d.work.memo == nil {
		d.work.memo = map[string]any{}
	}
	d.work.memo[key] = v
	d.work.mu.Unlock()
	return v
}

// Forget forgets what Memo keeps: whoever changes what it was made of calls it.
func (d *Document) Forget(key string) {
	d.work.mu.Lock()
	delete(d.work.memo, key)
	d.work.mu.Unlock()
}

// loading is an object that is being read, with what it is read for: a stream's length may stand in another object, which
// stands in a stream of its own, and so on, until one of them leads back.
type loading struct {
	num   int
	depth int
	up    *loading
}

// maxLoading is how many objects may be needed for one: a length, in an object stream, whose length is elsewhere, each encrypted.
const maxLoading = 12

var errLoading = refuse(ErrDamaged, "the file is damaged: an object can't be read without itself")

func (l *loading) has(num int) bool {
	for ; l != nil; l = l.up {
		if l.num == num {
			return true
		}
	}
	return false
}

// with notes one more object that is being read.
func (l *loading) with(num int) (*loading, error) {
	n := &loading{num: num, up: l}
	if l != nil {
		n.depth = l.depth + 1
	}
	if l.has(num) || n.depth > maxLoading {
		return nil, errLoading
	}
	return n, nil
}

// lasting reports whether an error would come again whenever the object is read.
func lasting(err error) bool {
	return err != errLoading && (errors.Is(err, ErrDamaged) || errors.Is(err, ErrLimit)) && !errors.Is(err, ErrTooMuch) && !errors.Is(err, ErrTooLong)
}

// Walk is one walk through a tree, a chain, or whatever else of a file leads from object to object. Each object is entered once, so
// that one that leads back, or is named by many, costs nothing more; the nodes of all walks count against the budget of the
// document's work; and where that is over, no more is entered.
type Walk struct {
	doc   *Document
	seen  map[int]bool
	depth int
	err   error
}

// NewWalk begins a walk.
func (d *Document) NewWalk() *Walk { return &Walk{doc: d, seen: map[int]bool{}} }

// mostDeep is how deep a walk goes: what is deeper is passed over. The page tree and nested objects have MaxDepth.
const mostDeep = 1000

// Enter enters the dictionary that o is or refers to. It gives nil where o is none, where it was entered before, and where the
// walk is over; the caller calls Leave behind what is below it if it is not nil.
func (w *Walk) Enter(o Object) *Dict {
	if !w.Once(o) || w.depth >= mostDeep {
		return nil
	}
	d := w.doc.Dict(o)
	if d != nil {
		w.depth++
	}
	return d
}

// Leave ends what is below an object that was entered.
func (w *Walk) Leave() { w.depth-- }

// Once reports whether o may be looked at: not where it is an object that was before, nor where the walk is over. What is no object
// of its own stands in one place only.
func (w *Walk) Once(o Object) bool {
	if w.Err() != nil {
		return false
	}
	r, ok := o.(Ref)
	if !ok {
		return true
	}
	if w.seen[r.Num] {
		return false
	}
	w.seen[r.Num] = true
	return true
}

// Err tells why the walk is over; nil while it goes on.
func (w *Walk) Err() error {
	if w.err == nil {
		w.err = w.doc.Over()
	}
	if w.err == nil && w.doc.work.nodes.Add(1) > MaxNodes {
		w.err = ErrTooManyNodes
		w.doc.work.end(w.err)
	}
	return w.err
}
