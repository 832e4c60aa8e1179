package desk

import (
	"context"
	"errors"
	"slices"

	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// binned are the acts that a document in the Bin can be the object of.
var binned = []people.Act{people.ActBin, people.ActRestore, people.ActPurge}

var errBinned = step.Refuse("this document is in the Bin: restore it to open it")

// may asks the gate before an act, with the document that it is about (nil where it is about none, or a new one). What a
// visitor may not see is not there for them (ErrMissing); what they may not do is *Forbidden.
func (d *Desk) may(ctx context.Context, visitor uint, act people.Act, document *Document) error {
	v, err := d.Visitor(ctx, visitor)
	if err != nil {
		return err
	}
	if document != nil {
		if in, args := v.Scope("documents"); in != people.Everything {
			var n int64
			if err := d.db.WithContext(ctx).Model(&Document{}).Where("documents.id = ?", document.ID).Where(in, args...).Limit(1).Count(&n).Error; err != nil {
				return err
			}
			if n == 0 {
				return store.ErrMissing
			}
		}
		if document.BinnedAt != nil && !slices.Contains(binned, act) {
			return errBinned
		}
	}
	return v.May(act)
}

// mayHistory is may for what shows a document as it was before.
func (d *Desk) mayHistory(ctx context.Context, visitor uint, act people.Act, document *Document) error {
	if err := d.may(ctx, visitor, act, document); err != nil {
		return err
	}
	return d.may(ctx, visitor, people.ActHistory, document)
}

// May asks the gate about an act on a document; 0 where it is about none, or a new one.
func (d *Desk) May(ctx context.Context, visitor uint, act people.Act, document uint) error {
	if document == 0 {
		return d.may(ctx, visitor, act, nil)
	}
	return d.seen(ctx, visitor, document, act)
}

// handedOutOf gives the condition on rows of hand_outs that a visitor may see the documents they are of.
func (d *Desk) handedOutOf(ctx context.Context, visitor uint) (string, []any, error) {
	v, err := d.Visitor(ctx, visitor)
	if err != nil {
		return "", nil, err
	}
	if v.May(people.ActHistory) != nil {
		return people.Nothing, nil, nil
	}
	in, args := v.Scope("d")
	if in == people.Everything {
		return people.Everything, nil, nil
	}
	return "EXISTS (SELECT 1 FROM documents d WHERE d.id = hand_outs.document_id AND d.away_at IS NULL AND " + in + ")", args, nil
}

// Look gives a document at its head to a person.
func (d *Desk) Look(ctx context.Context, person, id uint) (*Snapshot, error) {
	row, err := d.Document(ctx, person, id)
	if err != nil {
		return nil, err
	}
	if err := d.may(ctx, person, people.ActLook, row); err != nil {
		return nil, err
	}
	return d.Snapshot(ctx, id)
}

// LookAt gives a document as it was at a state.
func (d *Desk) LookAt(ctx context.Context, person, state uint) (*Snapshot, error) {
	var st State
	if err := d.db.WithContext(ctx).First(&st, state).Error; err != nil {
		return nil, store.Missing(err)
	}
	s, err := d.Look(ctx, person, st.DocumentID)
	if err != nil {
		return nil, err
	}
	if s.State.ID == state {
		return s, nil
	}
	if err := d.may(ctx, person, people.ActHistory, &s.Document); err != nil {
		return nil, err
	}
	return d.At(ctx, state)
}

// Document gives the row of a document that a person may see, wherever it is.
func (d *Desk) Document(ctx context.Context, person, id uint) (*Document, error) {
	row, err := d.row(ctx, id)
	if err != nil {
		return nil, err
	}
	act := people.ActLook
	if row.BinnedAt != nil {
		act = people.ActBin // it is only seen
		var no *people.Forbidden
		if errors.As(d.may(ctx, person, people.ActRestore, nil), &no) {
			return nil, store.ErrMissing // for those who could not restore it
		}
	}
	return row, d.may(ctx, person, act, row)
}

// RemovePerson ends a person's being here: see Register.RemovePerson.
func (d *Desk) RemovePerson(ctx context.Context, person, of, to uint) error {
	err := d.Register.RemovePerson(ctx, person, of, to)
	d.mu.Lock()
	for _, l := range d.live { // rows in snapshots are read again: they have another owner
		l.snap = nil
	}
	d.mu.Unlock()
	return err
}

// Start runs f in the background: see background.Room.
func (d *Desk) Start(person uint, label string, f func(context.Context, *background.Work) (any, error)) *background.Work {
	return d.work.Start(person, label, f)
}

// Work gives a piece of work that goes on, or has ended lately.
func (d *Desk) Work(id uint) (*background.Work, error) { return d.work.Work(id) }
