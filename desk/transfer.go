package desk

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"glenrain/core/arrange"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// Transfer asks for pages of one document to come into another.
type Transfer struct {
	From, To         uint
	SeenFrom, SeenTo uint // the states that whoever asks has seen
	Person           uint
	RequestID        string
	Pages            step.Pages
	Place            step.Place
	Copy             bool   // they stay where they are, too
	Marks, Moves     string // as the step "insert" has them; the usual ones if empty
}

// Transferred is what came of it.
type Transferred struct {
	From, To *Outcome // From is nil where the pages were copied
	Sentence string
}

// both runs f with the locks of two documents held, always in the same order.
func (d *Desk) both(ctx context.Context, a, b uint, f func(la, lb *live, ha, hb *Snapshot) error) error {
	if a < b {
		return d.withLock(ctx, a, func(la *live, ha *Snapshot) error {
			return d.withLock(ctx, b, func(lb *live, hb *Snapshot) error { return f(la, lb, ha, hb) })
		})
	}
	return d.withLock(ctx, b, func(lb *live, hb *Snapshot) error {
		return d.withLock(ctx, a, func(la *live, ha *Snapshot) error { return f(la, lb, ha, hb) })
	})
}

// Transfer copies or moves pages into another document. A move is one act: a step in the trail of each, stored at once, that is undone and redone in both.
func (d *Desk) Transfer(ctx context.Context, t Transfer) (*Transferred, error) {
	if t.From == t.To {
		return nil, step.Refuse("both are the same document: move pages within it instead")
	}
	for _, id := range []uint{t.From, t.To} { // before it is known what they are
		if err := d.seen(ctx, t.Person, id, people.ActLook); err != nil {
			return nil, err
		}
	}
	if t.Copy {
		return d.copyPages(ctx, t)
	}
	var out Transferred
	err := d.both(ctx, t.From, t.To, func(lf, lt *live, from, to *Snapshot) error {
		remove, _ := json.Marshal(arrange.Remove{Pages: t.Pages, Headings: "keep"})
		out1 := Change{Document: t.From, Seen: t.SeenFrom, RequestID: t.RequestID, Person: t.Person, Name: "remove", Params: remove}
		done, outRow, outStep, err := d.begin(ctx, from, out1)
		if err != nil {
			return err
		}
		if done != nil { // asked once more
			was, err := d.doneBefore(ctx, to, Change{Document: t.To, RequestID: t.RequestID})
			if err == nil && was == nil {
				err = errAsked
			}
			out = Transferred{From: done, To: was}
			return err
		}
		into, n, err := d.into(t, from)
		if err != nil {
			return err
		}
		if n == from.Document.Pages {
			return step.Refuse("a document needs at least one page: copy them instead, and delete “%s” if you no longer need it", from.Document.Name)
		}
		was, inRow, inStep, err := d.begin(ctx, to, into)
		if err != nil {
			return err
		}
		if was != nil {
			return errAsked
		}
		id := make([]byte, 16)
		_, _ = rand.Read(id) // never fails
		inRow.Together, outRow.Together = hex.EncodeToString(id), hex.EncodeToString(id)
		timed, cancel := d.limited(ctx)
		defer cancel()
		came, err := d.runBounded(timed, to, inStep, inRow, nil)
		if err != nil {
			return err
		}
		went, err := d.runBounded(timed, from, outStep, outRow, nil)
		if err != nil {
			d.tidy(came.all()...)
			return err
		}
		went.row.Sentence += fmt.Sprintf(", into “%s”", to.Document.Name)
		came.row.Sentence += ", moved from there"
		var next, rest *Snapshot
		err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			if next, err = d.commitIn(ctx, tx, to, []*ran{came.ran}, State{}, t.Person); err != nil {
				return err
			}
			rest, err = d.commitIn(ctx, tx, from, []*ran{went.ran}, State{}, t.Person)
			return err
		})
		if err != nil {
			d.forget(lf)
			d.forget(lt)
			d.tidy(append(came.all(), went.all()...)...)
			return fmt.Errorf("storing the move: %w", err)
		}
		d.Store.Unpin(append(came.all(), went.all()...)...)
		next.before, rest.before = to, from
		d.put(lt, next)
		d.put(lf, rest)
		d.wakeReading()
		out = Transferred{From: &Outcome{Snapshot: rest, Step: &went.row}, To: &Outcome{Snapshot: next, Step: &came.row}}
		out.Sentence = fmt.Sprintf("%s moved from “%s” into “%s”", step.Count(n, "page"), from.Document.Name, to.Document.Name)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return &out, nil
}

// into is the change that brings the pages, as they are at a snapshot of the document that they come from.
func (d *Desk) into(t Transfer, from *Snapshot) (Change, int, error) {
	at, err := t.Pages.Resolve(from.PDF, from.Keys)
	if err != nil {
		return Change{}, 0, err
	}
	if len(at) == 0 {
		return Change{}, 0, step.Refuse("no page is selected")
	}
	in := arrange.Insert{From: step.SourceRef(fmt.Sprintf("state:%d", from.State.ID)), Pages: step.Pages{Rule: step.WriteSet(at)}, To: t.Place,
		Name: from.Document.Name, Marks: "under one of its name", Moves: "keep"}
	if t.Marks != "" {
		in.Marks = t.Marks
	}
	if t.Moves != "" {
		in.Moves = t.Moves
	}
	params, err := json.Marshal(in)
	return Change{Document: t.To, Seen: t.SeenTo, RequestID: t.RequestID, Person: t.Person, Name: "insert", Params: params}, len(at), err
}

func (d *Desk) copyPages(ctx context.Context, t Transfer) (*Transferred, error) {
	from, err := d.Look(ctx, t.Person, t.From)
	if err != nil {
		return nil, err
	}
	if t.SeenFrom != 0 && from.State.ID != t.SeenFrom { // the pages must be those that were seen
		remove, _ := json.Marshal(arrange.Remove{Pages: t.Pages, Headings: "keep"})
		s, err := d.registry.New("remove", remove)
		if err != nil {
			return nil, err
		}
		if err := d.settle(ctx, from, t.SeenFrom, "remove", s); err != nil {
			return nil, step.Refuse("“%s” has changed, also on these pages: check them again; nothing was copied", from.Document.Name)
		}
	}
	c, n, err := d.into(t, from)
	if err != nil {
		return nil, err
	}
	out, err := d.Do(ctx, c)
	if err != nil {
		return nil, err
	}
	return &Transferred{To: out, Sentence: fmt.Sprintf("%s copied from “%s” into “%s”", step.Count(n, "page"), from.Document.Name, out.Snapshot.Document.Name)}, nil
}

// undoTogether undoes, or redoes, an act that was done in several documents at once, where the last one of this document is such. It gives nil where it is not.
func (d *Desk) undoTogether(ctx context.Context, document, seen, person uint, again bool) (*Outcome, error) {
	id, other, err := d.togetherAt(ctx, document, again)
	if err != nil || id == "" {
		return nil, err
	}
	if err := d.seen(ctx, person, document, people.ActLook); err != nil {
		return nil, err
	}
	if err := d.seen(ctx, person, other, people.ActChange); err != nil {
		return nil, step.Refuse("this moved pages between two documents, and you can’t change the other one: nothing was undone")
	}
	var out *Outcome
	err = d.both(ctx, document, other, func(la, lb *live, ha, hb *Snapshot) error {
		for _, h := range []*Snapshot{ha, hb} {
			if err := d.may(ctx, person, people.ActChange, &h.Document); err != nil {
				return err
			}
		}
		if seen != ha.State.ID {
			return &Conflict{ha}
		}
		toA, okA, err := d.togetherState(ctx, ha, id, again)
		if err != nil {
			return err
		}
		toB, okB, err := d.togetherState(ctx, hb, id, again)
		if err != nil {
			return err
		}
		if !okA {
			return &Conflict{ha}
		}
		if !okB {
			word := "Undo"
			if again {
				word = "Redo"
			}
			return step.Refuse("pages were moved between this document and “%s”, which was changed since: %s there until that move is the next, then it goes in both. Nothing was changed", hb.Document.Name, word)
		}
		what, err := d.sentenceOf(ctx, id, document)
		if err != nil {
			return err
		}
		var a, b *Snapshot
		err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			if a, err = d.headToIn(ctx, tx, ha, toA, person); err != nil {
				return err
			}
			b, err = d.headToIn(ctx, tx, hb, toB, person)
			return err
		})
		if err != nil {
			d.forget(la)
			d.forget(lb)
			return err
		}
		d.put(la, a)
		d.put(lb, b)
		d.wakeReading()
		out = &Outcome{Snapshot: a, Undone: what, Other: b.Document.Name}
		said := "undone: " + what
		if again {
			said = "redone: " + what
		}
		d.changed(ctx, person, out, said)
		d.changed(ctx, person, &Outcome{Snapshot: b}, said)
		return nil
	})
	return out, err
}

// togetherAt tells whether what undoing, or redoing, concerns in a document is part of an act in several: its id, and the other document.
func (d *Desk) togetherAt(ctx context.Context, document uint, again bool) (id string, other uint, err error) {
	head, err := d.Snapshot(ctx, document)
	if err != nil {
		return "", 0, err
	}
	st := &head.State
	if again {
		if st, err = d.after(ctx, head); err != nil || st == nil {
			return "", 0, err
		}
	}
	if st.Act != "" || st.StepID == 0 {
		return "", 0, nil
	}
	var row Step
	if err := d.db.WithContext(ctx).Select("together").Limit(1).Find(&row, "id = ?", st.StepID).Error; err != nil || row.Together == "" {
		return "", 0, err
	}
	var ids []uint
	err = d.db.WithContext(ctx).Model(&Step{}).Where("together = ? and document_id <> ?", row.Together, document).Distinct().Pluck("document_id", &ids).Error
	if err != nil || len(ids) != 1 { // the other document was deleted for good
		return "", 0, err
	}
	return row.Together, ids[0], nil
}

// togetherState gives the state that undoing, or redoing, an act leads a document to; false where that is not the next thing to undo or redo there.
func (d *Desk) togetherState(ctx context.Context, head *Snapshot, id string, again bool) (uint, bool, error) {
	st := &head.State
	if again {
		var err error
		if st, err = d.after(ctx, head); err != nil || st == nil {
			return 0, false, err
		}
	}
	var row Step
	if err := d.db.WithContext(ctx).Select("together").Limit(1).Find(&row, "id = ?", st.StepID).Error; err != nil {
		return 0, false, err
	}
	if st.Act != "" || row.Together != id {
		return 0, false, nil
	}
	if again {
		return st.ID, true, nil
	}
	return head.State.back(), true, nil
}

func (d *Desk) sentenceOf(ctx context.Context, id string, document uint) (string, error) {
	var row Step
	err := d.db.WithContext(ctx).Select("sentence").First(&row, "together = ? and document_id = ?", id, document).Error
	return row.Sentence, store.Missing(err)
}

// Extraction asks for a new document of some pages of one.
type Extraction struct {
	Document, Seen uint
	Person         uint
	RequestID      string
	Pages          step.Pages
	Name           string
	Remove         bool // they are removed here
}

// Extract makes a new document of pages, in the same folder, and removes them here where that is asked for.
func (d *Desk) Extract(ctx context.Context, w *background.Work, e Extraction) (made *Document, out *Outcome, err error) {
	s, err := d.Look(ctx, e.Person, e.Document)
	if err != nil {
		return nil, nil, err
	}
	at, err := e.Pages.Resolve(s.PDF, s.Keys)
	if err != nil {
		return nil, nil, err
	}
	if len(at) == 0 {
		return nil, nil, step.Refuse("no page is selected")
	}
	if e.Remove {
		if len(at) == s.Document.Pages {
			return nil, nil, step.Refuse("a document needs at least one page: extract them without removing them here")
		}
		if err := d.MayStep(ctx, e.Person, e.Document, "remove"); err != nil {
			return nil, nil, err
		}
		if s.State.ID != e.Seen {
			return nil, nil, &Conflict{s}
		}
	}
	name := cleanName(e.Name)
	if strings.TrimSpace(e.Name) == "" {
		name = cleanName(fmt.Sprintf("%s, %s", s.Document.Name, step.Named(at)))
	}
	n := part{snap: s, at: at, name: name, folder: s.Document.FolderID, person: e.Person, request: e.RequestID}
	if !e.Remove {
		made, err = d.partDocument(ctx, n)
		return made, nil, err
	}
	if err := d.may(ctx, e.Person, people.ActAdd, nil); err != nil {
		return nil, nil, err
	}
	remove, _ := json.Marshal(arrange.Remove{Pages: e.Pages, Headings: "keep"})
	c := Change{Document: e.Document, Seen: e.Seen, RequestID: e.RequestID, Person: e.Person, Name: "remove", Params: remove}
	if was, err := d.asked(ctx, e.Person, e.RequestID); err != nil {
		return nil, nil, err
	} else if was != nil { // both was done
		if made, err = d.row(ctx, was.DocumentID); err != nil {
			return nil, nil, err
		}
		out, err = d.Do(ctx, c)
		return made, out, err
	}
	fresh, err := d.newPart(ctx, n)
	if err != nil {
		return nil, nil, err
	}
	if err = d.describeNew(fresh); err == nil {
		c.with = func(tx *gorm.DB) error { return d.createIn(ctx, tx, fresh) }
		out, err = d.Do(ctx, c)
	}
	if err == nil && fresh.row.ID == 0 {
		err = errAsked
	}
	if err != nil {
		d.tidy(fresh.files()...)
		return nil, nil, err
	}
	d.Store.Unpin(fresh.files()...)
	return fresh.row, out, nil
}

// part is some pages of a document that become one of their own.
type part struct {
	snap    *Snapshot
	at      []int // indexes
	name    string
	folder  uint
	person  uint
	request string
}

// newPart writes pages of a document as a document of their own, which is not stored yet.
func (d *Desk) newPart(ctx context.Context, p part) (*newDocument, error) {
	sha, pages, warnings, err := d.writePart(ctx, p, false)
	if err != nil {
		return nil, err
	}
	row := &Document{FolderID: p.folder, Name: p.name, OriginalSHA: sha, OriginalName: p.name + ".pdf", ChangedBy: p.person, OwnerID: p.person,
		Made: Made{Of: "pages", Name: p.snap.Document.Name, Count: len(p.at), Warnings: warnings}}
	return d.madeHere(ctx, row, sha, pages, p.request)
}

// partDocument makes a document of pages of another.
func (d *Desk) partDocument(ctx context.Context, p part) (*Document, error) {
	if err := d.may(ctx, p.person, people.ActAdd, nil); err != nil {
		return nil, err
	}
	if was, err := d.asked(ctx, p.person, p.request); err != nil {
		return nil, err
	} else if was != nil {
		return d.row(ctx, was.DocumentID)
	}
	n, err := d.newPart(ctx, p)
	if err != nil {
		return nil, err
	}
	return d.addDocument(ctx, n)
}
