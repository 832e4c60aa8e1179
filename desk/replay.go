package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// Revision asks for one earlier step to go, or to be done with other parameters.
type Revision struct {
	Document uint
	Seen     uint
	Person   uint
	Step     uint            // its id
	Params   json.RawMessage // the new ones; nil undoes the step alone
}

// mostReplayed is how many later steps are run again at most.
const mostReplayed = 2000

// Revise undoes one earlier step alone, or changes it: the ones after it are run again, with their own time and chance, on the
// state before it. All is run in memory and stored at once. If one of them can't be done so, nothing is changed and the refusal
// names it. Undoing what Revise did leads back to the trail as it was.
func (d *Desk) Revise(ctx context.Context, v Revision) (*Outcome, error) {
	act, noted := "", false // in the record, with the steps that ran again
	out, err := d.onHead(ctx, v.Document, v.Seen, v.Person, nil, func(head *Snapshot) (*Snapshot, error) {
		rows, err := d.Trail(ctx, head, 0, mostReplayed)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(rows, func(r Step) bool { return r.ID == v.Step })
		if i < 0 {
			return nil, store.ErrMissing
		}
		if rows[i].Together != "" {
			return nil, step.Refuse("you can’t undo this step alone, because it moved pages between two documents: use Undo, or move the pages back")
		}
		target, later := rows[i], rows[:i]
		slices.Reverse(later)
		act = fmt.Sprintf("“%s” undone", target.Sentence)
		if v.Params != nil {
			act = fmt.Sprintf("“%s” changed", target.Sentence)
			if err := d.mayRevise(ctx, v, target); err != nil {
				return nil, err
			}
			target.Params, target.PersonID = string(v.Params), v.Person
			later = append([]Step{target}, later...)
		}
		if len(later) == 0 && head.State.back() == target.parent {
			return d.headTo(ctx, head, target.parent, v.Person)
		}
		if len(later) == 0 { // undoing leads elsewhere from here: the state before the step comes again
			return d.comeAgain(ctx, head, target.parent, act, v.Person)
		}
		snap, err := d.runOn(ctx, head, target.parent, later, v.Params != nil, State{BackID: head.State.ID, Act: act}, v.Person)
		if err != nil {
			return nil, err
		}
		noted = true
		return snap, nil
	})
	if err == nil {
		out.Undone = act
		if !noted {
			d.changed(ctx, v.Person, out, act)
		}
	}
	return out, err
}

// runOn runs stored steps again on a state and makes what comes of it the head, or changes nothing. last says what is special about that state; for
// changed, see runAll.
func (d *Desk) runOn(ctx context.Context, head *Snapshot, state uint, rows []Step, changed bool, last State, person uint) (*Snapshot, error) {
	from, err := d.load(ctx, head.Document, state)
	if err != nil {
		return nil, err
	}
	timed, cancel := d.limited(ctx)
	defer cancel()
	type ranAll struct {
		list  []*ran
		files []string
	}
	all, err := bounded(timed, d, last.Act, func(ctx context.Context) (a ranAll, err error) {
		a.list, a.files, err = d.runAll(ctx, from, rows, changed)
		return a, err
	}, func(a ranAll) { d.tidy(a.files...) })
	if err != nil {
		d.tidy(all.files...)
		return nil, err
	}
	snap, err := d.commit(ctx, head, all.list, last, person)
	if err != nil {
		d.tidy(all.files...)
		return nil, fmt.Errorf("storing the trail: %w", err)
	}
	d.Store.Unpin(all.files...)
	return snap, nil
}

// mayRevise refuses parameters for a step that is in a trail where whoever changes it may not see what it takes pages from: with others it would show
// more of that.
func (d *Desk) mayRevise(ctx context.Context, v Revision, was Step) error {
	old, err := d.registry.New(was.Name, json.RawMessage(was.Params))
	if err != nil {
		return err
	}
	changed, err := d.registry.New(was.Name, v.Params)
	if err != nil {
		return err
	}
	known := step.NamedSources(old)
	if err := d.mayName(ctx, v.Person, changed, known...); err != nil {
		if slices.Equal(known, step.NamedSources(changed)) {
			return step.Refuse("you can’t change this step, because it takes pages from a document that you can’t see; you can undo it")
		}
		return err
	}
	return nil
}

// comeAgain makes a state of before the head, as a state of its own that undoing leads back from. The caller holds the lock.
func (d *Desk) comeAgain(ctx context.Context, head *Snapshot, state uint, act string, person uint) (*Snapshot, error) {
	snap, err := d.load(ctx, head.Document, state)
	if err != nil {
		return nil, err
	}
	snap.State.ID, snap.State.BackID, snap.State.Act, snap.State.Called = 0, head.State.ID, act, ""
	snap.Document.ChangedAt, snap.Document.ChangedBy = d.now(), person
	snap.describe()
	snap.Document.Paper = paperOf(snap.PDF)
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(&snap.State).Error; err != nil {
			return err
		}
		snap.Document.HeadID, snap.Document.TipID = snap.State.ID, snap.State.ID
		return moveHead(tx, head.State.ID, &snap.Document, "HeadID", "TipID", "Pages", "Paper", "Weight", "FirstKey", "FirstVersion", "ChangedAt", "ChangedBy")
	})
	return snap, unstored(err)
}

// runAll runs stored steps one after another in memory. changed says that the first has new parameters: it runs with the rights of its person, who is
// the one that changed it; the others bring what they brought before, whoever may see it. files are what it put into the store.
func (d *Desk) runAll(ctx context.Context, at *Snapshot, rows []Step, changed bool) (list []*ran, files []string, err error) {
	for n, row := range rows {
		if err := ctx.Err(); err != nil {
			return list, files, err
		}
		s, err := d.registry.New(row.Name, json.RawMessage(row.Params))
		if err != nil {
			return list, files, err
		}
		again := Step{DocumentID: row.DocumentID, RequestID: people.NewToken(), No: row.No, PersonID: row.PersonID, At: row.At, Seed: row.Seed, Name: row.Name, Params: row.Params}
		src := &sources{desk: d}
		if changed && n == 0 {
			src.person = row.PersonID
		}
		r, err := d.run(ctx, at, s, again, &step.Env{Sources: src, Files: src})
		src.close()
		files = append(files, src.kept...)
		if err != nil {
			if ctx.Err() != nil {
				return list, files, err
			}
			why := "“%s” depends on this step: %v"
			if changed && n == 0 {
				why = "“%s” can’t be done with these settings: %v"
			} else if changed {
				why = "“%s” can’t be done after that: %v"
			}
			return list, files, step.Refuse(why, row.Sentence, err)
		}
		list, files = append(list, r), append(files, r.files()...)
		at = r.after(d.Store)
	}
	return list, files, nil
}

// Replay runs a document's whole trail again, from its base or its last new base on, and gives the updates that
// come of it; they equal the stored ones.
func (d *Desk) Replay(ctx context.Context, document uint) ([][]byte, error) {
	head, err := d.Snapshot(ctx, document)
	if err != nil {
		return nil, err
	}
	var states []State
	err = d.db.WithContext(ctx).Raw(`WITH RECURSIVE c AS (
			SELECT *, 0 AS n FROM states WHERE id = ?
			UNION ALL
			SELECT s.*, c.n + 1 FROM states s JOIN c ON s.id = c.parent_id WHERE NOT coalesce(c.rooted, 0)
		) SELECT * FROM c ORDER BY n DESC`, head.State.ID).Scan(&states).Error
	if err != nil {
		return nil, err
	}
	at, err := d.load(ctx, head.Document, states[0].ID)
	if err != nil {
		return nil, err
	}
	q := step.Sequence{Registry: d.registry, Doc: at.PDF, Keys: at.Keys}
	src := &sources{desk: d}
	defer src.close()
	var out [][]byte
	for i, st := range states[1:] {
		if states[i].FoldSHA != "" {
			folded, err := q.Doc.Fold(at.base.doc)
			if err != nil {
				return nil, err
			}
			if q.Doc, err = at.base.doc.With(folded); err != nil {
				return nil, err
			}
		}
		var r Step
		if err := d.db.WithContext(ctx).Omit("update").First(&r, st.StepID).Error; err != nil {
			return nil, store.Missing(err)
		}
		s, err := d.registry.New(r.Name, json.RawMessage(r.Params))
		if err != nil {
			return nil, err
		}
		res, err := q.Run(ctx, s, &step.Env{Now: r.At, Seed: [16]byte(r.Seed), Step: r.No, Sources: src})
		if err != nil {
			return nil, fmt.Errorf("running “%s” again: %w", r.Sentence, err)
		}
		out = append(out, res.Update)
	}
	return out, nil
}

// BeforeAfter is the page of a step, as it was before and after.
type BeforeAfter struct {
	Step
	Page          step.Key
	Number        int // of the page after it, from 1; 0 where it is not there any more
	Before, After *PageInfo
}

// BeforeAfter gives the page that a step of a document leads the view to, before and after; either is nil where the page was not
// there.
func (d *Desk) BeforeAfter(ctx context.Context, person, document, stepID uint) (*BeforeAfter, error) {
	head, err := d.Look(ctx, person, document)
	if err != nil {
		return nil, err
	}
	if err := d.may(ctx, person, people.ActHistory, &head.Document); err != nil {
		return nil, err
	}
	v := &BeforeAfter{}
	if err := d.db.WithContext(ctx).Omit("update").First(&v.Step, "id = ? and document_id = ?", stepID, document).Error; err != nil {
		return nil, store.Missing(err)
	}
	after, err := d.load(ctx, head.Document, v.StateID)
	if err != nil {
		return nil, err
	}
	before, err := d.load(ctx, head.Document, after.State.ParentID)
	if err != nil {
		return nil, err
	}
	key, err := step.ParseKey(v.Show)
	if keys := v.keys(); len(keys) > 0 && (err != nil || !slices.Contains(keys, key)) {
		key, err = keys[0], nil // where pages went, the first of them
	}
	if err != nil {
		return nil, step.Refuse("this step changes nothing you can see on a page")
	}
	v.Page = key
	v.Before, _ = before.page(key)
	var at int
	v.After, at = after.page(key)
	v.Number = at + 1
	if v.After == nil {
		v.Number = 0
	}
	return v, nil
}

// page gives a page by its key, and its place from 0 on; nil where it is not there.
func (s *Snapshot) page(k step.Key) (*PageInfo, int) {
	at := s.Index(k)
	if at < 0 {
		return nil, at
	}
	ref, _ := s.Keys.Ref(k)
	p := &PageInfo{Key: k, Version: s.version(k)}
	p.W, p.H = s.PDF.Geometry(ref).Seen()
	return p, at
}

// Preview is a step run in memory, as far as one page shows it.
type Preview struct {
	Picture raster.Picture
	Step    step.Step
	Result  *step.Result
	Key     step.Key      // of the page shown
	Page    int           // its index in the document after the step
	Doc     *pdf.Document // after the step, as far as this page shows it
	Ref     pdf.Ref       // the page shown
}

// Previewed says which page of a preview is drawn, and how large.
type Previewed struct {
	At   step.Key // zero: the page that the step leads to, which may be a new one; all of the step's work is done then
	Else bool     // where the step does not concern that page, the one that it leads to
	W, H int      // pixels that it fits into
}

// toTry gives what a change is tried on in memory, and its step, by the rules of doing it.
func (d *Desk) toTry(ctx context.Context, c Change) (*Snapshot, step.Step, error) {
	head, err := d.Look(ctx, c.Person, c.Document)
	if err != nil {
		return nil, nil, err
	}
	if c.Seen != head.State.ID {
		return nil, nil, &Conflict{head}
	}
	s, err := d.registry.New(c.Name, c.Params)
	if err != nil {
		return nil, nil, err
	}
	return head, s, d.mayName(ctx, c.Person, s, c.owned()...)
}

// Preview runs the step on the document in memory and draws a page as it would be. Work on pages that are not shown is left out.
func (d *Desk) Preview(ctx context.Context, c Change, v Previewed) (*Preview, error) {
	head, s, err := d.toTry(ctx, c)
	if err != nil {
		return nil, err
	}
	timed, cancel := d.limited(ctx)
	defer cancel()
	p, err := bounded(timed, d, c.Name, func(ctx context.Context) (*Preview, error) { return d.preview(ctx, head, c, s, v) }, nil)
	if err != nil {
		return nil, err
	}
	p.Doc = p.Doc.In(ctx) // it is looked at after the step's time
	return p, nil
}

// preview runs a step in memory on a snapshot.
func (d *Desk) preview(ctx context.Context, head *Snapshot, c Change, s step.Step, v Previewed) (p *Preview, err error) {
	src := &sources{desk: d, person: c.Person}
	defer src.close()
	now, no := d.now(), head.Document.NextNo
	p = &Preview{Step: s, Key: v.At}
	var seed [16]byte
	copy(seed[:], people.NewToken())
	run := func(only pdf.Ref) error {
		p.Doc, p.Result, err = d.registry.Run(ctx, head.PDF, s, &step.Env{Now: now, Name: head.Document.Name, Seed: seed, Step: no, Keys: head.Keys, Sources: src, Only: only})
		p.Ref = only
		return err
	}
	only, _ := head.Keys.Ref(v.At)
	if err := run(only); err != nil {
		return nil, err
	}
	if show, old := head.Keys.Ref(p.Result.Show); v.Else && old && !only.IsZero() && !p.Result.All && !slices.Contains(p.Result.Pages, v.At) {
		p.Key = p.Result.Show
		if err := run(show); err != nil {
			return nil, err
		}
	}
	if p.Ref.IsZero() {
		p.Key = p.Result.Show
		p.Ref, _ = head.Keys.With(no, p.Result.Created).Ref(p.Key)
	}
	if p.Page = p.Doc.PageIndex(p.Ref); p.Page < 0 {
		return nil, step.Refuse("the page is not in the document after this step")
	}
	p.Picture, err = d.drawFork(ctx, head, p.Result, p.Page, fmt.Sprintf("preview-%x", seed), v.W, v.H)
	return p, err
}
