package desk

import (
	"context"
	"encoding/json"
	"errors"
	"io"

	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/store"
)

// Measured is what a step would do to a document, found out without doing it.
type Measured struct {
	Document Document
	Before   int64 // bytes of the file if it were exported as it is
	After    int64 // and after the step
	Pages    []step.Key
	All      bool // it concerns all pages
	Sentence string
	Warnings []string
	Refused  string // why the step can't be done; the rest is empty then
}

// Measure does a step in memory and tells what would come of it. Nothing is kept. An error is the step's: a *step.Refusal, or that it took too long.
func (d *Desk) Measure(ctx context.Context, c Change) (*Measured, error) {
	head, s, err := d.toTry(ctx, c)
	if err != nil {
		return nil, err
	}
	timed, cancel := d.limited(ctx)
	defer cancel()
	return bounded(timed, d, c.Name, func(ctx context.Context) (*Measured, error) { return d.measure(ctx, head, c, s) }, nil)
}

func (d *Desk) measure(ctx context.Context, head *Snapshot, c Change, s step.Step) (*Measured, error) {
	src := &sources{desk: d, person: c.Person}
	defer src.close()
	env := &step.Env{Now: d.now(), Name: head.Document.Name, Seed: [16]byte{1}, Step: head.Document.NextNo, Keys: head.Keys, Sources: src}
	defer d.tools(env, "measure")()
	m := &Measured{Document: head.Document}
	var err error
	if m.Before, err = d.weight(ctx, head.PDF.Fork()); err != nil {
		return nil, err
	}
	doc, res, err := d.registry.Run(ctx, head.PDF, s, env)
	if err != nil {
		return nil, err
	}
	m.Pages, m.All, m.Sentence, m.Warnings = res.Pages, res.All, res.Sentence, res.Warnings
	m.After, err = d.weight(ctx, doc.Fork())
	return m, err
}

// weight is how many bytes a document has that is written anew. doc is changed.
func (d *Desk) weight(ctx context.Context, doc *pdf.Document) (int64, error) {
	var n weighing
	err := (&outgoing.Way{At: d.now()}).Write(ctx, doc, &n)
	return int64(n), err
}

// weighing counts what is written to it.
type weighing int64

func (w *weighing) Write(b []byte) (int, error) {
	*w += weighing(len(b))
	return len(b), nil
}

var _ io.Writer = new(weighing)

// MeasureMany measures a step on several documents, one after another. One on which it can't be done says so (Measured.Refused) and stops no other; an error is that ctx ended,
// or that one of them may not be seen.
func (d *Desk) MeasureMany(ctx context.Context, w *background.Work, person uint, name string, params json.RawMessage, ids []uint) ([]Measured, error) {
	if len(ids) > mostAtOnce {
		return nil, step.Refuse("you can do this for up to %s at once", step.Count(mostAtOnce, "document"))
	}
	var out []Measured
	for i, id := range ids {
		w.Set(i, len(ids))
		row, err := d.Document(ctx, person, id)
		if err != nil {
			return nil, err
		}
		m, err := d.Measure(ctx, Change{Document: id, Seen: row.HeadID, Person: person, Name: name, Params: params})
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case errors.Is(err, store.ErrMissing):
			return nil, err
		case err != nil:
			m = &Measured{Document: *row, Refused: step.Sentence(sentenceOf(err))}
		}
		out = append(out, *m)
	}
	w.Set(len(ids), len(ids))
	return out, nil
}
