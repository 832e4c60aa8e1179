package desk

import (
	"context"
	"fmt"
	"slices"

	"glenrain/desk/background"
	"glenrain/desk/store"
)

// live is a document that is worked on: its newest snapshot, and the lock that those who change it hold.
type live struct {
	turn     chan struct{} // holds one token while nobody has the lock
	snap     *Snapshot     // guarded by Desk.mu
	users    int           // who holds or waits for the lock, or loads; guarded by Desk.mu
	reserved *Reservation  // guarded by Desk.mu
}

// Reservation is long work on a document: until it ends, others read the document and do not change it.
type Reservation struct {
	Person uint
	Who    string
	What   string // "Compress"
	Work   *background.Work
}

// Busy: somebody's long work reserves the document.
type Busy struct{ Reservation }

func (b *Busy) Error() string {
	return fmt.Sprintf("%s is running “%s” on this document; you can read it now and change it when that finishes", b.Who, b.What)
}

func newLive() *live {
	l := &live{turn: make(chan struct{}, 1)}
	l.turn <- struct{}{}
	return l
}

// lock waits for the document's lock, as long as ctx lasts.
func (l *live) lock(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	select {
	case <-l.turn:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (l *live) unlock() { l.turn <- struct{}{} }

const (
	liveDocuments = 24 // documents kept open
	keptBefore    = 24 // states before the head that are kept for undoing
)

// document gives the live document of an id, to be given back with done; its snapshot may
// not be loaded yet. The ones least used lately, and by nobody now, are closed.
func (d *Desk) document(id uint) (l *live, done func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.order = append(slices.DeleteFunc(d.order, func(x uint) bool { return x == id }), id)
	l, ok := d.live[id]
	if !ok {
		l = newLive()
		d.live[id] = l
	}
	l.users++
	for i := 0; len(d.order) > liveDocuments && i < len(d.order); {
		if at := d.live[d.order[i]]; at.users > 0 || at.reserved != nil {
			i++
			continue
		}
		delete(d.live, d.order[i])
		d.order = slices.Delete(d.order, i, i+1)
	}
	return l, func() {
		d.mu.Lock()
		l.users--
		d.mu.Unlock()
	}
}

// withLock runs f with a document's lock held, on its newest snapshot, unless somebody's long work reserves it.
func (d *Desk) withLock(ctx context.Context, id uint, f func(l *live, head *Snapshot) error) error {
	l, done := d.document(id)
	defer done()
	if err := l.lock(ctx); err != nil {
		return err
	}
	defer l.unlock()
	head, err := d.current(ctx, l, id)
	if err != nil {
		return err
	}
	if r := d.reservation(l); r != nil {
		return &Busy{*r}
	}
	return f(l, head)
}

func (d *Desk) reservation(l *live) *Reservation {
	d.mu.Lock()
	defer d.mu.Unlock()
	return l.reserved
}

// Reserved tells who works on a document for long; nil where nobody does.
func (d *Desk) Reserved(id uint) *Reservation {
	d.mu.Lock()
	defer d.mu.Unlock()
	if l, ok := d.live[id]; ok {
		return l.reserved
	}
	return nil
}

// Snapshot gives a document at its head.
func (d *Desk) Snapshot(ctx context.Context, id uint) (*Snapshot, error) {
	l, done := d.document(id)
	defer done()
	d.mu.Lock()
	s := l.snap
	d.mu.Unlock()
	if s != nil {
		return s, nil
	}
	if err := l.lock(ctx); err != nil {
		return nil, err
	}
	defer l.unlock()
	return d.current(ctx, l, id)
}

// current gives the snapshot of a live document whose lock is held, loading it if need be.
func (d *Desk) current(ctx context.Context, l *live, id uint) (*Snapshot, error) {
	d.mu.Lock()
	s := l.snap
	d.mu.Unlock()
	if s != nil {
		return s, nil
	}
	var row Document
	if err := d.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return nil, store.Missing(err)
	}
	s, err := d.load(ctx, row, row.HeadID)
	if err != nil {
		return nil, err
	}
	d.put(l, s)
	return s, nil
}

// put makes s the newest snapshot of a document whose lock is held.
func (d *Desk) put(l *live, s *Snapshot) {
	at := s
	for range keptBefore {
		if at == nil {
			break
		}
		at = at.before
	}
	d.mu.Lock()
	if at != nil {
		at.before = nil
	}
	was := l.snap
	l.snap = s
	d.mu.Unlock()
	if was == nil || was.State.ID != s.State.ID {
		d.watch.moved(s.Document.ID)
	}
}

// forget has the document read anew by the next who asks: after a commit that failed, only the database knows its head.
func (d *Desk) forget(l *live) {
	d.mu.Lock()
	l.snap = nil
	d.mu.Unlock()
}
