package desk

import (
	"context"
	"errors"
	"time"

	"glenrain/desk/store"
)

// readAhead is how long after a change its text is read in the background.
const readAhead = 400 * time.Millisecond

// startReading reads in the background the texts of documents that were added or changed, so that a search finds them.
func (d *Desk) startReading() {
	ctx, cancel := context.WithCancel(context.Background())
	d.texts = texts{of: map[uint]*docText{}, wake: make(chan struct{}, 1), cancel: cancel, ended: make(chan struct{})}
	d.wakeReading()
	go func() {
		defer close(d.texts.ended)
		tick := time.NewTicker(expireEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				if err := errors.Join(d.expire(), d.purgeOld(ctx)); err != nil {
					d.log.Error("what has run out was not removed", "err", err)
				}
				continue
			case <-d.texts.wake:
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(readAhead):
			}
			if err := d.ReadAll(ctx, 1); err != nil && ctx.Err() == nil {
				d.log.Error("reading texts failed", "err", err)
			}
		}
	}()
}

func (d *Desk) wakeReading() {
	select {
	case d.texts.wake <- struct{}{}:
	default:
	}
}

func (d *Desk) stopReading() {
	if d.texts.cancel != nil {
		d.texts.cancel()
		<-d.texts.ended
	}
}

// ReadAll reads the texts of all documents whose text is not that of their head, with so many workers.
func (d *Desk) ReadAll(ctx context.Context, workers int) error {
	var ids []uint
	if err := d.db.WithContext(ctx).Model(&Document{}).Where("text_id <> head_id and away_at is null and not unreadable").Order("changed_at desc").Pluck("id", &ids).Error; err != nil {
		return err
	}
	for _, id := range ids {
		s, err := d.Snapshot(ctx, id)
		if err == nil {
			err = d.readMarked(ctx, s, workers)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if errors.Is(err, store.ErrMissing) { // it was purged meanwhile
			continue
		}
		if err != nil { // the next one may do; this one is not tried again by itself
			d.log.Error("reading the text of a document failed", "document", id, "err", err)
			if err := d.db.WithContext(ctx).Model(&Document{}).Where("id = ?", id).Update("unreadable", true).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// readMarked reads a document's text in the background. It is marked before, so that one that stops the server is passed over when
// it starts again.
func (d *Desk) readMarked(ctx context.Context, s *Snapshot, workers int) error {
	tries := s.Document.ReadingTries
	mark := func(n int) error {
		return d.db.Model(&Document{}).Where("id = ?", s.Document.ID).Update("reading_tries", n).Error
	}
	if err := mark(tries + 1); err != nil {
		return err
	}
	_, err := d.readTexts(ctx, s, workers)
	if ctx.Err() != nil { // the server is stopping, as it was asked to
		return errors.Join(err, mark(tries))
	}
	return errors.Join(err, mark(0))
}

// mostTries is how often a document's text may be begun and not ended, since the server stopped: once may be somebody else's fault.
const mostTries = 2

// passOver marks as unreadable what was being read when the server stopped.
func (d *Desk) passOver() error {
	res := d.db.Model(&Document{}).Where("reading_tries >= ?", mostTries).Updates(map[string]any{"reading_tries": 0, "unreadable": true})
	if res.RowsAffected > 0 {
		d.log.Warn("the server stopped while it read the text of documents, which are passed over now", "documents", res.RowsAffected)
	}
	return res.Error
}
