package step

import (
	"bytes"
	"context"
	"fmt"
	"io"

	"glenrain/core/pdf"
)

// Sequence runs steps one after another on a document in memory: a list of steps, a replay, a preview of what is left when
// one step goes.
type Sequence struct {
	Registry *Registry
	Doc      *pdf.Document
	Keys     *Keys
	// Base keeps a new base and opens it; in memory where it is nil.
	Base func(ctx context.Context, write func(context.Context, io.Writer) error) (*pdf.Document, error)
}

// Run runs s and goes on from its result. env needs no keys.
func (q *Sequence) Run(ctx context.Context, s Step, env *Env) (*Result, error) {
	env.Keys = q.Keys
	fork, res, err := q.Registry.Run(ctx, q.Doc, s, env)
	if err != nil {
		return nil, err
	}
	var next *pdf.Document
	switch {
	case res.NewBase == nil:
		if next, err = q.Doc.With(res.Update); err == nil {
			next.KeepPages(fork)
		}
	case q.Base != nil:
		next, err = q.Base(ctx, res.NewBase)
	default:
		var b bytes.Buffer
		if err = res.NewBase(ctx, &b); err == nil {
			next, err = pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
		}
	}
	if err != nil {
		return nil, fmt.Errorf("after the step: %w", err)
	}
	q.Doc, q.Keys = next, q.Keys.With(env.Step, res.Created)
	return res, nil
}
