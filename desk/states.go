package desk

import (
	"context"
	"fmt"
	"strings"

	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// mostCalled is how long the name of a state may be, in letters.
const mostCalled = 80

// CallState gives a state of a document's trail a name, by which it is found again; an empty one takes it away.
func (d *Desk) CallState(ctx context.Context, person, document, state uint, name string) error {
	if err := d.May(ctx, person, people.ActChange, document); err != nil {
		return err
	}
	name = strings.Join(strings.Fields(name), " ")
	if len([]rune(name)) > mostCalled {
		return step.Refuse("a name can have up to %d characters", mostCalled)
	}
	res := d.db.WithContext(ctx).Model(&State{}).Where("id = ? and document_id = ?", state, document).Update("called", name)
	if res.Error == nil && res.RowsAffected == 0 {
		return store.ErrMissing
	}
	return res.Error
}

// Called gives the names of those of some states that have one.
func (d *Desk) Called(ctx context.Context, document uint, states []uint) (map[uint]string, error) {
	var rows []State
	if err := d.db.WithContext(ctx).Select("id", "called").Where("document_id = ? and id in ? and coalesce(called, '') <> ''", document, states).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := map[uint]string{}
	for _, r := range rows {
		out[r.ID] = r.Called
	}
	return out, nil
}

// NamedStates lists the states of a document that have a name, the newest first.
func (d *Desk) NamedStates(ctx context.Context, document uint) (out []State, err error) {
	err = d.db.WithContext(ctx).Where("document_id = ? and coalesce(called, '') <> ''", document).Order("id desc").Limit(200).Find(&out).Error
	return out, err
}

// Arrival gives the state in which a document came.
func (d *Desk) Arrival(ctx context.Context, s *Snapshot) (uint, error) {
	var first State
	err := d.db.WithContext(ctx).Where("document_id = ? and parent_id = 0", s.Document.ID).Order("id").First(&first).Error
	return first.ID, store.Missing(err)
}

// GoBack makes a state of before the newest one; marks that others added since stay. Undoing leads back to where one was.
func (d *Desk) GoBack(ctx context.Context, document, seen, person, state uint) (*Outcome, error) {
	act, noted := "", false // in the record, with the marks
	out, err := d.onHead(ctx, document, seen, person, nil, func(head *Snapshot) (*Snapshot, error) {
		var to State
		if err := d.db.WithContext(ctx).First(&to, "id = ? and document_id = ?", state, document).Error; err != nil {
			return nil, store.Missing(err)
		}
		if to.ID == head.State.ID {
			return nil, step.Refuse("this is the current version")
		}
		what := to.Called
		if what == "" {
			what, _ = d.whatLed(ctx, &to)
		}
		if what == "" {
			what = "original version"
		}
		act = fmt.Sprintf("Returned to “%s”", what)
		marks, err := d.marksSince(ctx, head, &to, person)
		if err != nil {
			return nil, err
		}
		if len(marks) == 0 {
			return d.comeAgain(ctx, head, to.ID, act, person)
		}
		var snap *Snapshot
		snap, act, err = d.returnWith(ctx, head, &to, marks, act, person)
		noted = err == nil && snap.State.StepID != to.StepID
		return snap, err
	})
	if err == nil {
		out.Undone = act
		if !noted {
			d.changed(ctx, person, out, act)
		}
	}
	return out, err
}

// StepOf gives a step of a document's trail, without its update.
func (d *Desk) StepOf(ctx context.Context, person, document, id uint) (*Step, error) {
	head, err := d.Look(ctx, person, document)
	if err == nil {
		err = d.may(ctx, person, people.ActHistory, &head.Document)
	}
	if err != nil {
		return nil, err
	}
	var row Step
	if err := d.db.WithContext(ctx).Omit("update").First(&row, "id = ? and document_id = ?", id, document).Error; err != nil {
		return nil, store.Missing(err)
	}
	return &row, nil
}
