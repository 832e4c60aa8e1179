package desk

import (
	"context"
	"errors"
	"fmt"
	"time"

	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk/background"
)

// grace is how long a piece of work may take to notice that its time is over.
const grace = 3 * time.Second

// limited bounds how long one file or step may take.
func (d *Desk) limited(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, d.maxWork, pdf.ErrTooLong)
}

// overran says in a sentence that the time was over.
func overran(ctx context.Context, err error) error {
	if errors.Is(err, context.DeadlineExceeded) && errors.Is(context.Cause(ctx), pdf.ErrTooLong) {
		return pdf.ErrTooLong
	}
	return err
}

// bounded runs f and gives what it gives, but waits no longer than until ctx has ended and grace is over: whoever waits is answered,
// and what is held for f is free, whatever f does. What it gives then is given to late; it must hold nothing that others use.
func bounded[T any](ctx context.Context, d *Desk, what string, f func(context.Context) (T, error), late func(T)) (T, error) {
	type result struct {
		v   T
		err error
	}
	done := make(chan result, 1)
	go func() {
		v, err := catch(ctx, f)
		done <- result{v, err}
	}()
	select {
	case r := <-done:
		return r.v, overran(ctx, r.err)
	case <-ctx.Done():
	}
	select {
	case r := <-done:
		return r.v, overran(ctx, r.err)
	case <-time.After(grace):
	}
	d.log.Error("work went on after its time and was given up", "what", what, "why", context.Cause(ctx))
	go func() {
		if r := <-done; late != nil {
			late(r.v)
		}
		d.log.Warn("work that was given up has ended", "what", what)
	}()
	var none T
	return none, overran(ctx, ctx.Err())
}

func catch[T any](ctx context.Context, f func(context.Context) (T, error)) (v T, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = errors.Join(step.ErrPanic, background.Fault(p))
		}
	}()
	return f(ctx)
}

// made is what a step made, with the files that its work kept besides.
type made struct {
	*ran
	kept []string
}

func (m made) all() []string {
	if m.ran == nil {
		return m.kept
	}
	return append(m.kept, m.files()...)
}

// runBounded runs a step on a snapshot, as bounded. Its files are tidied up where it fails.
func (d *Desk) runBounded(ctx context.Context, at *Snapshot, s step.Step, row Step, w *background.Work) (made, error) {
	m, err := bounded(ctx, d, row.Name, func(ctx context.Context) (made, error) {
		src := &sources{desk: d, person: row.PersonID}
		defer src.close()
		env := &step.Env{Sources: src, Files: src}
		defer d.tools(env, fmt.Sprintf("step-%d", at.Document.ID))()
		if w != nil {
			env.Progress, env.Enough = w.Set, w.Enough
		}
		r, err := d.run(ctx, at, s, row, env)
		return made{r, src.kept}, err
	}, func(m made) { d.tidy(m.all()...) })
	if err != nil {
		d.tidy(m.all()...)
	}
	return m, err
}
