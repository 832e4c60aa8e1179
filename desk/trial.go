package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"slices"

	"glenrain/core/pdf"
	"glenrain/core/raster"
)

// ForSomebody runs f for somebody who waits at a page, within the time that a page may take; f must notice that ctx has ended.
func (d *Desk) ForSomebody(ctx context.Context, what string, f func(context.Context) error) error {
	timed, cancel := context.WithTimeoutCause(ctx, maxPage, errPage)
	defer cancel()
	_, err := bounded(timed, d, what, func(ctx context.Context) (struct{}, error) { return struct{}{}, f(ctx) }, nil)
	if err != nil && ctx.Err() == nil && timed.Err() != nil {
		return errPage
	}
	return err
}

// Trial draws a page of a fork of a snapshot's document, or a part of it. Nothing is kept.
func (d *Desk) Trial(ctx context.Context, head *Snapshot, fork *pdf.Document, r raster.Request) (raster.Picture, error) {
	var id [16]byte
	_, _ = rand.Read(id[:]) // never fails
	update, err := fork.Update(id)
	if err != nil {
		return raster.Picture{}, err
	}
	r.Source = raster.Source{Key: fmt.Sprintf("trial-%x", id), Parts: append(slices.Clone(head.parts), raster.Part{Data: update})}
	return d.pool.Render(ctx, r)
}

// DoWith runs a step that takes something from a file which somebody sends along: the file is kept, and params gives the step's parameters,
// with what names it.
func (d *Desk) DoWith(ctx context.Context, c Change, file io.Reader, params func(from string) (json.RawMessage, error)) (*Outcome, error) {
	if err := d.MayStep(ctx, c.Person, c.Document, c.Name); err != nil {
		return nil, err
	}
	sha, _, err := d.Store.Put(func(w io.Writer) error { _, err := io.Copy(w, file); return err })
	if err != nil {
		return nil, err
	}
	if c.Params, err = params("sha256:" + sha); err == nil {
		c.own = sha
		var out *Outcome
		if out, err = d.Do(ctx, c); err == nil {
			d.Store.Unpin(sha)
			return out, nil
		}
	}
	d.tidy(sha)
	return nil, err
}
