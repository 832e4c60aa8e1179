package desk

import (
	"context"
	"fmt"

	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
)

// Slow reports whether the step of that name is run in the background.
func (d *Desk) Slow(name string) bool { return d.registry.Slow(name) }

// DoLater starts a step that takes long: it runs in the background with progress, can be cancelled, and reserves the document: others
// read it meanwhile, and are told who works on it when they want to change it. done is given instead where the same
// request was carried out before. The work's result is the *Outcome.
func (d *Desk) DoLater(ctx context.Context, c Change) (w *background.Work, done *Outcome, err error) {
	if err := d.seen(ctx, c.Person, c.Document, people.ActLook); err != nil {
		return nil, nil, err
	}
	err = d.withLock(ctx, c.Document, func(l *live, head *Snapshot) error {
		was, row, s, err := d.begin(ctx, head, c)
		if err != nil || was != nil {
			done = was
			return err
		}
		v, err := d.Visitor(ctx, c.Person)
		if err != nil {
			return err
		}
		r := &Reservation{Person: c.Person, Who: v.Called(), What: d.registry.Title(c.Name)}
		ready := make(chan struct{})
		w = d.work.StartParts(c.Person, r.What, d.registry.Parts(c.Name), func(ctx context.Context, w *background.Work) (any, error) {
			<-ready
			return d.doReserved(ctx, w, l, c.Document, head, s, row)
		})
		r.Work = w
		d.mu.Lock()
		l.reserved = r
		d.mu.Unlock()
		close(ready)
		return nil
	})
	return w, done, err
}

// doReserved runs a step on the head of a document that is reserved for it, stores it, and gives the document free.
func (d *Desk) doReserved(ctx context.Context, w *background.Work, l *live, document uint, head *Snapshot, s step.Step, row Step) (*Outcome, error) {
	free := func() {
		d.mu.Lock()
		l.reserved = nil
		d.mu.Unlock()
	}
	defer free() // whatever happens
	m, err := d.runBounded(ctx, head, s, row, w)
	if err != nil {
		return nil, err
	}
	if err := l.lock(ctx); err != nil {
		d.tidy(m.all()...)
		return nil, err
	}
	defer l.unlock()
	if now, err := d.current(ctx, l, document); err != nil || now.State.ID != head.State.ID {
		d.tidy(m.all()...)
		if err == nil {
			err = fmt.Errorf("a reserved document: %w", errMoved)
		}
		return nil, err
	}
	return d.store(ctx, l, head, m)
}
