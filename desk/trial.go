package desk

import (
	"context"
	"crypto/rand"
	"fmt"
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
