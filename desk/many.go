package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// ManyKind is a kind of work that is done on one document after another: recognizing, exporting. What it does is kept, document by document, so that it goes on where
// it was when the server was stopped, and steps are undone as one.
type ManyKind struct {
	Name  string             // stable: it is kept
	Label func(n int) string // "Recognize the text of 12 documents"
	Told  func(done, of int) string
	// Do does it for one document; report tells how far it is within that. An error is the document's, and stops no other. What it does must come to the same where it is done again
	// with the same it.RequestID: it may have been killed before that was noted.
	Do func(ctx context.Context, d *Desk, w *background.Work, m *Many, it *ManyItem, report func(done, of int)) (sentence string, err error)
	// Result is what the work gives; a *Told of all where it is nil.
	Result func(m *Many, items []ManyItem) (any, error)
}

// Many is work on many documents.
type Many struct {
	ID       uint
	PersonID uint
	Kind     string
	Params   string // JSON, of the kind
	Token    string // the requests of its documents are made of it
	At       time.Time
	EndedAt  *time.Time // nil while it goes on, or waits for the server to start
}

// Read reads its parameters.
func (m *Many) Read(v any) error { return json.Unmarshal([]byte(m.Params), v) }

// ManyItem is one document of many.
type ManyItem struct {
	ID         uint
	ManyID     uint `gorm:"index"`
	Place      int
	DocumentID uint `gorm:"index"`
	Name       string
	Outcome    ManyOutcome
	Sentence   string // what was done, or why it was not
	StateID    uint   // that it led to; 0 where it changed nothing
	HandOutID  uint   // that it made
}

// ManyOutcome is what became of a document.
type ManyOutcome string

// The outcomes there are.
const (
	ManyWaits   ManyOutcome = ""
	ManyDone    ManyOutcome = "done"
	ManyRefused ManyOutcome = "refused"
	ManyUndone  ManyOutcome = "undone"
)

// request is the id of the request that does a document.
func (m *Many) request(it *ManyItem) string { return subRequest(m.Token, it.Place) }

// mostAtOnce is how many documents are worked on at once.
const mostAtOnce = 500

// keptMany is how long it is remembered what was done to many documents.
const keptMany = 30 * 24 * time.Hour

// manyKinds are those that the house has.
var manyKinds = []ManyKind{recognizing, exporting}

func (d *Desk) manyKind(name string) (*ManyKind, error) {
	for _, k := range slices.Concat(manyKinds, d.moreMany) {
		if k.Name == name {
			return &k, nil
		}
	}
	return nil, fmt.Errorf("there is no work on many documents called %q", name)
}

// Many begins work on documents, in their order. params is of the kind. request, where it is not empty, is of this act alone: asked again it gives the same work.
func (d *Desk) Many(ctx context.Context, person uint, kind string, params any, ids []uint, request string) (*background.Work, error) {
	k, err := d.manyKind(kind)
	if err != nil {
		return nil, err
	}
	if len(ids) == 0 {
		return nil, step.Refuse("no document is selected")
	}
	if len(ids) > mostAtOnce {
		return nil, step.Refuse("you can do this for up to %s at once", step.Count(mostAtOnce, "document"))
	}
	token := request
	if token == "" {
		token = people.NewToken()
	}
	d.manyMu.Lock()
	defer d.manyMu.Unlock()
	var m Many
	var items []ManyItem
	if err := d.db.WithContext(ctx).First(&m, "person_id = ? and token = ?", person, token).Error; err == nil {
		if m.Kind != kind {
			return nil, errAsked
		}
		if w := d.work.Doing(m.ID); w != nil {
			return w, nil
		}
		if err := d.db.WithContext(ctx).Order("place").Find(&items, "many_id = ?", m.ID).Error; err != nil {
			return nil, err
		}
		return d.carryOn(ctx, k, &m, items), nil
	} else if !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	m = Many{PersonID: person, Kind: kind, Params: toJSON(params), Token: token, At: d.now()}
	for i, id := range ids {
		row, err := d.Document(ctx, person, id)
		if err != nil {
			return nil, err
		}
		items = append(items, ManyItem{Place: i, DocumentID: id, Name: row.Name})
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(&m).Error; err != nil {
			return err
		}
		for i := range items {
			items[i].ManyID = m.ID
		}
		return tx.Create(&items).Error
	})
	if err != nil {
		return nil, err
	}
	return d.carryOn(ctx, k, &m, items), nil
}

// carryOn does what is not done yet, in the background.
func (d *Desk) carryOn(asked context.Context, k *ManyKind, m *Many, items []ManyItem) *background.Work {
	of := make([]uint, len(items))
	for i, it := range items {
		of[i] = it.DocumentID
	}
	w := d.work.StartParts(m.PersonID, k.Label(len(items)), true, func(ctx context.Context, w *background.Work) (any, error) {
		ctx = people.FromSame(ctx, asked)
		for i := range items {
			it := &items[i]
			w.Set(i, len(items))
			if it.Outcome != ManyWaits {
				continue
			}
			if w.Enough() || m.EndedAt != nil { // it was stopped or cancelled before: it is told, and not gone on with
				break
			}
			sentence, err := k.Do(ctx, d, w, m, it, func(int, int) { w.Set(i, len(items)) })
			if ctx.Err() != nil {
				if !d.work.Ending() { // by whoever started it; at the end of the server it waits for the next one
					d.endMany(m)
				}
				return nil, ctx.Err()
			}
			it.Outcome, it.Sentence = ManyDone, sentence
			if err != nil {
				it.Outcome, it.Sentence = ManyRefused, step.Sentence(sentenceOf(err))
			}
			if err := d.noteItem(ctx, it); err != nil {
				return nil, err
			}
		}
		w.Set(len(items), len(items))
		if m.EndedAt == nil {
			d.endMany(m)
		}
		if k.Result != nil {
			return k.Result(m, items)
		}
		return toldOf(k, m, items), nil
	})
	w.Is(m.ID, of)
	return w
}

// noteItem keeps what became of a document, unless it was deleted for good meanwhile.
func (d *Desk) noteItem(ctx context.Context, it *ManyItem) error {
	return d.db.WithContext(context.WithoutCancel(ctx)).Transaction(func(tx *gorm.DB) error {
		if present(tx, it.DocumentID) != nil {
			return nil
		}
		return tx.Model(&ManyItem{}).Where("id = ?", it.ID).Select("Outcome", "Sentence", "StateID", "HandOutID").Updates(it).Error
	})
}

func (d *Desk) endMany(m *Many) {
	now := d.now()
	m.EndedAt = &now
	if err := d.db.Model(&Many{}).Where("id = ?", m.ID).Update("ended_at", now).Error; err != nil {
		d.log.Error("the end of work on many documents could not be noted", "kind", m.Kind, "err", err)
	}
}

// takeUp goes on, at the start, with work on many documents that the end of the server before broke off, and forgets what ended long ago.
func (d *Desk) takeUp() error {
	old := d.db.Model(&Many{}).Select("id").Where("ended_at < ?", d.now().Add(-keptMany))
	if err := errors.Join(d.db.Where("many_id in (?)", old).Delete(&ManyItem{}).Error, d.db.Where("ended_at < ?", d.now().Add(-keptMany)).Delete(&Many{}).Error); err != nil {
		return err
	}
	var open []Many
	if err := d.db.Order("id").Find(&open, "ended_at is null").Error; err != nil {
		return err
	}
	for _, m := range open {
		k, err := d.manyKind(m.Kind)
		if err != nil { // of a program that had more
			d.log.Warn("work on many documents is not taken up", "why", err)
			continue
		}
		var items []ManyItem
		if err := d.db.Order("place").Find(&items, "many_id = ?", m.ID).Error; err != nil {
			return err
		}
		d.carryOn(context.Background(), k, &m, items)
	}
	return nil
}

// UndoMany takes back what work on many documents did, in those that were not changed since. Its result is a *Told.
func (d *Desk) UndoMany(ctx context.Context, person, id uint) (*background.Work, error) {
	var m Many
	if err := d.db.WithContext(ctx).First(&m, "id = ? and person_id = ?", id, person).Error; err != nil {
		return nil, store.Missing(err)
	}
	if m.EndedAt == nil {
		return nil, step.Refuse("this is still going on: stop it first")
	}
	var items []ManyItem
	if err := d.db.WithContext(ctx).Order("place").Find(&items, "many_id = ? and outcome = ? and state_id <> 0", m.ID, ManyDone).Error; err != nil {
		return nil, err
	}
	if len(items) == 0 {
		return nil, step.Refuse("there is nothing to undo")
	}
	return d.work.StartParts(person, "Undo in "+step.Count(len(items), "document"), true, func(ctx context.Context, w *background.Work) (any, error) {
		t := &Told{}
		undone := 0
		for i := range items {
			it := &items[i]
			w.Set(i, len(items))
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			if w.Enough() {
				break
			}
			err := d.undoItem(ctx, person, it)
			if err != nil {
				t.Problem = true
				t.Details = append(t.Details, fmt.Sprintf("“%s”: %s.", it.Name, step.Sentence(sentenceOf(err))))
				continue
			}
			undone++
			it.Outcome = ManyUndone
			if err := d.noteItem(ctx, it); err != nil {
				return nil, err
			}
		}
		w.Set(len(items), len(items))
		t.Sentence = fmt.Sprintf("Undone in %d of %s.", undone, step.Count(len(items), "document"))
		return t, nil
	}), nil
}

func (d *Desk) undoItem(ctx context.Context, person uint, it *ManyItem) error {
	s, err := d.Look(ctx, person, it.DocumentID)
	if err != nil {
		return err
	}
	if s.State.ID != it.StateID {
		return step.Refuse("it was changed since: undo it there")
	}
	_, err = d.Undo(ctx, it.DocumentID, s.State.ID, person)
	return err
}

// Told is a result of work that leads nowhere: what was done, in a sentence, and more about it.
type Told struct {
	Sentence string
	Details  []string
	Problem  bool
	Many     uint // of work on many documents that can be undone; 0 for none
}

// mostTold is how many documents that went well are named.
const mostTold = 40

// toldOf says what came of work on many documents: what went wrong first.
func toldOf(k *ManyKind, m *Many, items []ManyItem) *Told {
	t := &Told{}
	done, waits := 0, 0
	for _, it := range items {
		switch it.Outcome {
		case ManyRefused:
			t.Problem = true
			t.Details = append(t.Details, said(&it))
		case ManyWaits:
			waits++
		default:
			done++
			if it.StateID != 0 {
				t.Many = m.ID
			}
		}
	}
	for _, it := range items {
		if it.Outcome == ManyDone && len(t.Details) < mostTold {
			t.Details = append(t.Details, said(&it))
		}
	}
	t.Sentence = k.Told(done, len(items))
	if waits > 0 {
		t.Sentence += fmt.Sprintf(" Stopped: %s left as they were.", step.Count(waits, "document"))
	}
	return t
}

func said(it *ManyItem) string {
	return fmt.Sprintf("“%s”: %s.", it.Name, strings.TrimSuffix(it.Sentence, "."))
}
