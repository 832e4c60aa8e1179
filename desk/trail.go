package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// Change asks for a step.
type Change struct {
	Document  uint
	Seen      uint   // the state that whoever asks has seen
	RequestID string // of this request alone: a second one of the same id does nothing
	Person    uint
	Name      string
	Params    json.RawMessage

	own  string                  // a file that the house itself put into the store for it
	with func(tx *gorm.DB) error // what is stored with the step, or not at all
}

// owned names the file that was kept for a change, where there is one.
func (c *Change) owned() []string {
	if c.own == "" {
		return nil
	}
	return []string{"sha256:" + c.own}
}

// Outcome is what a change did.
type Outcome struct {
	Snapshot *Snapshot
	Step     *Step  // nil for undoing and redoing
	Undone   string // what undoing undid, or redoing did again
	Other    string // the document in which the other half of it was undone or redone, where there is one
}

// Concerns reports whether the outcome shows a document.
func (o *Outcome) Concerns(document uint) bool {
	return o != nil && o.Snapshot != nil && o.Snapshot.Document.ID == document
}

// Conflict: the document was changed since it was seen, on the same pages.
type Conflict struct{ Head *Snapshot }

func (c *Conflict) Error() string {
	return "someone else changed the document first: you now see that version, and your step was not applied"
}

// Do runs a step on a document, stores it, and moves the head to it. What it gives back
// is on the disk. Waiting for others who change the document does not count as the step's time.
func (d *Desk) Do(ctx context.Context, c Change) (out *Outcome, err error) {
	if err := d.seen(ctx, c.Person, c.Document, people.ActLook); err != nil { // before it is known that somebody works on it
		return nil, err
	}
	err = d.withLock(ctx, c.Document, func(l *live, head *Snapshot) error {
		done, row, s, err := d.begin(ctx, head, c)
		if err != nil || done != nil {
			out = done
			return err
		}
		timed, cancel := d.limited(ctx)
		defer cancel()
		m, err := d.runBounded(timed, head, s, row, nil)
		if err != nil {
			return err
		}
		m.ran.with = c.with
		out, err = d.store(ctx, l, head, m)
		return err
	})
	return out, err
}

// actOf gives the act that a step is.
func (d *Desk) actOf(name string) people.Act {
	if d.registry.Comments(name) {
		return people.ActComment
	}
	return people.ActChange
}

// MayStep asks the gate whether a person may run a step on a document.
func (d *Desk) MayStep(ctx context.Context, person, document uint, name string) error {
	return d.seen(ctx, person, document, d.actOf(name))
}

// begin looks whether a change may run on the head, and makes its row; done is what came of the same request before.
func (d *Desk) begin(ctx context.Context, head *Snapshot, c Change) (done *Outcome, row Step, s step.Step, err error) {
	if err := d.may(ctx, c.Person, d.actOf(c.Name), &head.Document); err != nil {
		return nil, row, nil, err
	}
	if done, err = d.doneBefore(ctx, head, c); done != nil || err != nil {
		return done, row, nil, err
	}
	if s, err = d.registry.New(c.Name, c.Params); err != nil {
		return nil, row, nil, err
	}
	if d.registry.Apart(c.Name) {
		return nil, row, nil, step.Refuse("this step makes a new document, and leaves this one as it is")
	}
	if err := d.mayName(ctx, c.Person, s, c.owned()...); err != nil {
		return nil, row, nil, err
	}
	if c.Seen != head.State.ID {
		if err := d.settle(ctx, head, c.Seen, c.Name, s); err != nil {
			return nil, row, nil, err
		}
	}
	row = Step{
		DocumentID: c.Document, RequestID: c.RequestID, No: head.Document.NextNo, PersonID: c.Person,
		At: d.now().UTC().Truncate(time.Second), Seed: make([]byte, 16), Name: c.Name, Params: string(c.Params),
	}
	_, _ = rand.Read(row.Seed) // never fails
	return nil, row, s, nil
}

// store commits a step that was run on the head.
func (d *Desk) store(ctx context.Context, l *live, head *Snapshot, m made) (*Outcome, error) {
	snap, err := d.commit(ctx, head, []*ran{m.ran}, State{}, m.row.PersonID)
	if err != nil {
		d.forget(l)
		d.tidy(m.all()...)
		return nil, fmt.Errorf("storing the step: %w", err)
	}
	d.Store.Unpin(m.all()...)
	snap.before = head
	d.put(l, snap)
	d.wakeReading()
	return &Outcome{Snapshot: snap, Step: &m.row}, nil
}

// doneBefore finds the outcome of a request that was carried out already.
func (d *Desk) doneBefore(ctx context.Context, head *Snapshot, c Change) (*Outcome, error) {
	var was Step
	err := d.db.WithContext(ctx).Omit("update").First(&was, "document_id = ? and request_id = ?", c.Document, c.RequestID).Error
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return nil, nil
	case err != nil:
		return nil, err
	}
	return &Outcome{Snapshot: head, Step: &was}, nil
}

// settled is how many steps a window may lie behind so that its own may still be done.
const settled = 1000

// settle decides whether a step that was asked for on an older state may run on the
// head: it may if the pages it names were not touched since, and where it only annotates, whatever was annotated since.
func (d *Desk) settle(ctx context.Context, head *Snapshot, seen uint, name string, s step.Step) error {
	named, rules := step.NamedPages(s)
	loose := rules || len(named) == 0
	annotates := d.registry.Annotates(name)
	if loose && !annotates {
		return &Conflict{head}
	}
	since, err := d.Trail(ctx, head, 0, settled)
	if err != nil {
		return err
	}
	for _, later := range since {
		switch {
		case annotates && d.registry.Annotates(later.Name) && later.Together == "":
		case loose, later.All, slices.ContainsFunc(later.keys(), func(k step.Key) bool { return slices.Contains(named, k) }):
			return &Conflict{head}
		}
		if later.parent == seen {
			return nil
		}
	}
	return &Conflict{head}
}

// Trail gives steps of a snapshot's trail without their updates, newest first, no more than most: from the newest on, or from the
// step that led to the state before.
func (d *Desk) Trail(ctx context.Context, s *Snapshot, before uint, most int) ([]Step, error) {
	from := s.State.ID
	if before != 0 {
		var st State
		if err := d.db.WithContext(ctx).First(&st, "id = ? and document_id = ?", before, s.Document.ID).Error; err != nil {
			return nil, store.Missing(err)
		}
		from = st.ParentID
	}
	var at []struct{ StepID, ParentID uint }
	err := d.db.WithContext(ctx).Raw(`WITH RECURSIVE c AS (
			SELECT id, parent_id, step_id, 1 AS n FROM states WHERE id = ? AND document_id = ?
			UNION ALL
			SELECT s.id, s.parent_id, s.step_id, c.n + 1 FROM states s JOIN c ON s.id = c.parent_id WHERE c.n < ?
		) SELECT step_id, parent_id FROM c WHERE step_id <> 0 ORDER BY n`, from, s.Document.ID, most).Scan(&at).Error
	if err != nil {
		return nil, err
	}
	out := make([]Step, 0, len(at))
	for group := range slices.Chunk(at, 200) {
		ids := make([]uint, len(group))
		for i, a := range group {
			ids[i] = a.StepID
		}
		var rows []Step
		if err := d.db.WithContext(ctx).Omit("update").Where("id in ?", ids).Find(&rows).Error; err != nil {
			return nil, err
		}
		byID := make(map[uint]Step, len(rows))
		for _, r := range rows {
			byID[r.ID] = r
		}
		for _, a := range group {
			r, ok := byID[a.StepID]
			if !ok {
				return nil, fmt.Errorf("step %d of a trail is missing", a.StepID)
			}
			r.parent = a.ParentID
			out = append(out, r)
		}
	}
	return out, nil
}

// Undo takes a person's own newest step back; what it was is in the outcome. Redo does it again. What others did since stays: see undoBeneath. What was
// done to the trail itself, such as returning to a version, is undone whoever did it.
func (d *Desk) Undo(ctx context.Context, document, seen, person uint) (*Outcome, error) {
	if others, err := d.othersOnTop(ctx, document, seen, person); err != nil {
		return nil, err
	} else if others {
		return d.undoBeneath(ctx, document, seen, person)
	}
	if out, err := d.undoTogether(ctx, document, seen, person, false); out != nil || err != nil {
		return out, err
	}
	out, err := d.goTo(ctx, document, seen, person, func(head *Snapshot) uint { return head.State.StepID }, func(head *Snapshot) (to uint, what string, err error) {
		if head.State.back() == 0 {
			return 0, "", step.Refuse("there is nothing to undo")
		}
		what, err = d.whatLed(ctx, &head.State)
		return head.State.back(), what, err
	})
	if err == nil {
		d.changed(ctx, person, out, "undone: "+out.Undone)
	}
	return out, err
}

// Redo undoes Undo.
func (d *Desk) Redo(ctx context.Context, document, seen, person uint) (*Outcome, error) {
	if out, err := d.undoTogether(ctx, document, seen, person, true); out != nil || err != nil {
		return out, err
	}
	over := func(head *Snapshot) uint {
		next, err := d.after(ctx, head)
		switch {
		case err != nil || next == nil:
			return 0
		case next.ID == head.State.BackID: // a step that was undone beneath others'
			return head.State.WithoutID
		}
		return next.StepID
	}
	out, err := d.goTo(ctx, document, seen, person, over, func(head *Snapshot) (to uint, what string, err error) {
		next, err := d.after(ctx, head)
		if err == nil && next == nil {
			err = step.Refuse("there is nothing to redo")
		}
		if err != nil {
			return 0, "", err
		}
		if what, err = d.whatLed(ctx, next); next.ID == head.State.BackID {
			what, err = d.sentence(ctx, head.State.WithoutID)
		}
		return next.ID, what, err
	})
	if err == nil {
		d.changed(ctx, person, out, "redone: "+out.Undone)
	}
	return out, err
}

// whatLed says what led to a state: the sentence of its step, or of what was done to the trail.
func (d *Desk) whatLed(ctx context.Context, s *State) (string, error) {
	if s.Act != "" {
		return s.Act, nil
	}
	return d.sentence(ctx, s.StepID)
}

// sentence is what a step says.
func (d *Desk) sentence(ctx context.Context, id uint) (string, error) {
	var row Step
	err := d.db.WithContext(ctx).Select("sentence").First(&row, id).Error
	return row.Sentence, store.Missing(err)
}

// after gives the state that redoing leads to; nil where there is none.
func (d *Desk) after(ctx context.Context, head *Snapshot) (*State, error) {
	if head.Document.TipID != head.State.ID {
		const back = "CASE WHEN coalesce(s.back_id, 0) <> 0 AND coalesce(s.without_id, 0) = 0 THEN s.back_id ELSE s.parent_id END AS back"
		var out []State
		err := d.db.WithContext(ctx).Raw(`WITH RECURSIVE c AS (
				SELECT s.id, `+back+` FROM states s WHERE s.id = ? AND s.document_id = ?
				UNION ALL
				SELECT s.id, `+back+` FROM states s JOIN c ON s.id = c.back WHERE c.back <> ?
			) SELECT s.* FROM states s JOIN c ON c.id = s.id WHERE c.back = ?`, head.Document.TipID, head.Document.ID, head.State.ID, head.State.ID).Scan(&out).Error
		if err != nil {
			return nil, err
		}
		if len(out) > 0 {
			return &out[0], nil
		}
	}
	if head.State.WithoutID == 0 {
		return nil, nil
	}
	var with State // all that was there before the step was undone
	err := d.db.WithContext(ctx).First(&with, head.State.BackID).Error
	return &with, store.Missing(err)
}

// CanUndo reports whether there is something to undo.
func (s *Snapshot) CanUndo() bool { return s.State.back() != 0 }

// CanRedo reports whether there is something to redo.
func (d *Desk) CanRedo(ctx context.Context, s *Snapshot) bool {
	next, err := d.after(ctx, s)
	return err == nil && next != nil
}

// onHead runs f with a document's lock held, if its head is still the state that was
// seen, and makes the snapshot that f gives the head. comment tells whether it is about a comment of the person's own, where that may be.
func (d *Desk) onHead(ctx context.Context, document, seen, person uint, comment func(head *Snapshot) bool, f func(head *Snapshot) (*Snapshot, error)) (out *Outcome, err error) {
	if err := d.seen(ctx, person, document, people.ActLook); err != nil {
		return nil, err
	}
	err = d.withLock(ctx, document, func(l *live, head *Snapshot) error {
		act := people.ActChange
		if comment != nil && comment(head) {
			act = people.ActComment
		}
		if err := d.may(ctx, person, act, &head.Document); err != nil {
			return err
		}
		if seen != head.State.ID {
			return &Conflict{head}
		}
		snap, err := f(head)
		if err != nil {
			if errors.Is(err, errUnstored) { // a refusal leaves the document open as it is
				d.forget(l)
			}
			return err
		}
		d.put(l, snap)
		d.wakeReading()
		out = &Outcome{Snapshot: snap}
		return nil
	})
	return out, err
}

func (d *Desk) goTo(ctx context.Context, document, seen, person uint, over func(*Snapshot) uint, to func(*Snapshot) (state uint, what string, err error)) (*Outcome, error) {
	what := ""
	ownComment := func(head *Snapshot) bool {
		var row Step
		err := d.db.WithContext(ctx).Select("name", "person_id").Limit(1).Find(&row, "id = ? and document_id = ?", over(head), document).Error
		return err == nil && row.PersonID == person && d.registry.Comments(row.Name)
	}
	out, err := d.onHead(ctx, document, seen, person, ownComment, func(head *Snapshot) (*Snapshot, error) {
		state, said, err := to(head)
		if err != nil {
			return nil, err
		}
		what = said
		return d.headTo(ctx, head, state, person)
	})
	if err == nil {
		out.Undone = what
	}
	return out, err
}

// changed notes a change in the record.
func (d *Desk) changed(ctx context.Context, person uint, out *Outcome, what string) {
	d.Note(ctx, people.Record{PersonID: person, What: "changed", DocumentID: out.Snapshot.Document.ID, Document: out.Snapshot.Document.Name, Detail: what})
}

// headTo moves a document's head to a state of its own. The caller holds its lock.
func (d *Desk) headTo(ctx context.Context, head *Snapshot, state, person uint) (*Snapshot, error) {
	return d.headToIn(ctx, d.db.WithContext(ctx), head, state, person)
}

// headToIn does it within a transaction.
func (d *Desk) headToIn(ctx context.Context, tx *gorm.DB, head *Snapshot, state, person uint) (*Snapshot, error) {
	d.mu.Lock()
	snap := head.before
	d.mu.Unlock()
	if snap == nil || snap.State.ID != state {
		var err error
		if snap, err = d.load(ctx, head.Document, state); err != nil {
			return nil, err
		}
	} else {
		c := *snap
		snap = &c
	}
	doc := head.Document
	doc.HeadID = state
	doc.ChangedAt, doc.ChangedBy = d.now(), person
	snap.Document = doc
	snap.describe()
	snap.Document.Paper = paperOf(snap.PDF)
	columns := []string{"HeadID", "Pages", "Paper", "Weight", "FirstKey", "FirstVersion", "ChangedAt", "ChangedBy"}
	if head.State.WithoutID != 0 && head.State.BackID == state { // redone: there is nothing after it
		snap.Document.TipID = state
		columns = append(columns, "TipID")
	}
	err := moveHead(tx, head.State.ID, &snap.Document, columns...)
	return snap, unstored(err)
}

// describe brings the document's row up to the snapshot, but for its paper.
func (s *Snapshot) describe() {
	s.Document.Weight = s.PDF.Size()
	if pages, err := s.PDF.Pages(); err == nil && len(pages) > 0 {
		first := s.Keys.Key(pages[0].Ref)
		s.Document.Pages, s.Document.FirstKey, s.Document.FirstVersion = len(pages), first.String(), s.version(first)
	}
}

// errMoved: the head in the database is not the one that this process knows. It can only
// come of a fault; the change is not stored.
var errMoved = errors.New("the document's head has moved")

// errUnstored marks an error of storing: whether the change is in the database is not known, so the document is read again.
var errUnstored = errors.New("the change was not stored")

// unstored marks an error as one of storing; nil stays nil.
func unstored(err error) error {
	if err == nil {
		return nil
	}
	return notStored{err}
}

type notStored struct{ error }

func (n notStored) Unwrap() []error { return []error{n.error, errUnstored} }

// moveHead writes columns of a document's row, provided that its head is still from.
func moveHead(tx *gorm.DB, from uint, row *Document, columns ...string) error {
	res := tx.Model(row).Where("head_id = ?", from).Select(columns).Updates(row)
	if res.Error == nil && res.RowsAffected != 1 {
		return errMoved
	}
	return res.Error
}
