package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"

	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
)

// Change asks for a step.
type Change struct {
	Document  uint
	Seen      uint   // the state that whoever asks has seen
	RequestID string // of this request alone: a second one of the same id does nothing
	Person    uint
	Name      string
	Params    json.RawMessage
}

// Outcome is what a change did.
type Outcome struct {
	Snapshot *Snapshot
	Step     *Step // nil for going back and forward
}

// Conflict: the document was changed since it was seen, on the same pages.
type Conflict struct{ Head *Snapshot }

func (c *Conflict) Error() string {
	return "somebody changed the document meanwhile; what you see now is the newest state, and your step was not done"
}

// Do runs a step on a document, stores it, and moves the head to it. What it gives back
// is on the disk.
func (d *Desk) Do(ctx context.Context, c Change) (*Outcome, error) {
	ctx, cancel := limited(ctx)
	defer cancel()
	out, err := d.change(ctx, c)
	return out, overran(ctx, err)
}

func (d *Desk) change(ctx context.Context, c Change) (*Outcome, error) {
	l, done := d.document(c.Document)
	defer done()
	l.mu.Lock()
	defer l.mu.Unlock()
	head, err := d.current(ctx, l, c.Document)
	if err != nil {
		return nil, err
	}
	if done, err := d.doneBefore(ctx, head, c); done != nil || err != nil {
		return done, err
	}
	s, err := d.registry.New(c.Name, c.Params)
	if err != nil {
		return nil, err
	}
	if c.Seen != head.State.ID {
		if err := d.settle(ctx, head, c.Seen, s); err != nil {
			return nil, err
		}
	}
	row := Step{
		DocumentID: c.Document, RequestID: c.RequestID, No: head.Document.NextNo, PersonID: c.Person,
		At: d.now().UTC().Truncate(time.Second), Seed: make([]byte, 16), Name: c.Name, Params: string(c.Params),
		Sources: toJSON(step.NamedSources(s)),
	}
	_, _ = rand.Read(row.Seed) // never fails
	snap, err := d.apply(ctx, head, s, row)
	if err != nil {
		return nil, err
	}
	snap.before = head
	d.put(l, snap)
	d.wakeReading()
	return &Outcome{snap, &snap.Steps[len(snap.Steps)-1]}, nil
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
	return &Outcome{head, &was}, nil
}

// settle decides whether a step that was asked for on an older state may run on the
// head: it may if the pages it names were not touched since.
func (d *Desk) settle(ctx context.Context, head *Snapshot, seen uint, s step.Step) error {
	states, err := d.chain(ctx, head.Document.ID, head.State.ID)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(states, func(st State) bool { return st.ID == seen })
	named, rules := step.NamedPages(s)
	if at < 0 || rules || len(named) == 0 {
		return &Conflict{head}
	}
	for _, later := range head.Steps[at:] {
		if later.All || slices.ContainsFunc(later.keys(), func(k step.Key) bool { return slices.Contains(named, k) }) {
			return &Conflict{head}
		}
	}
	return nil
}

// apply runs a step on a snapshot and stores the new state. The caller holds the
// document's lock.
func (d *Desk) apply(ctx context.Context, head *Snapshot, s step.Step, row Step) (*Snapshot, error) {
	src := &sources{desk: d}
	defer src.close()
	if head.unfolded() >= foldAfter {
		var err error
		if head, err = d.fold(head); err != nil {
			return nil, err
		}
	}
	env := &step.Env{Now: row.At, Seed: [16]byte(row.Seed), Step: row.No, Keys: head.Keys, Sources: src}
	fork, res, err := d.registry.Run(ctx, head.PDF, s, env)
	if err != nil {
		return nil, err
	}
	next, err := head.PDF.With(res.Update)
	if err != nil {
		return nil, err
	}
	next.KeepPages(fork)
	row.Created, row.Pages, row.All = toJSON(res.Created), toJSON(res.Pages), res.All
	row.Redrawn, row.Moved = int(res.Redrawn), res.Moved
	row.Sentence, row.Warnings = res.Sentence, toJSON(res.Warnings)
	row.UpdateSize = int64(len(res.Update))
	if !res.Show.IsZero() {
		row.Show = res.Show.String()
	}
	if len(res.Update) > smallUpdate {
		row.UpdateSHA, _, err = d.Store.Put(func(w io.Writer) error { _, err := w.Write(res.Update); return err })
		if err != nil {
			return nil, err
		}
	} else {
		row.Update = res.Update
	}
	doc := head.Document
	doc.NextNo = max(doc.NextNo, row.No+1)
	doc.Weight = next.Size()
	doc.ChangedAt, doc.ChangedBy = row.At, row.PersonID
	if pages, err := next.Pages(); err == nil {
		doc.Pages = len(pages)
	}
	if res.Moved || res.Redrawn != step.RedrawNone {
		if !samePaper(doc.Paper, next, head, res) {
			doc.Paper = paperOf(next)
		}
	}
	st := State{DocumentID: doc.ID, ParentID: head.State.ID, BaseSHA: head.State.BaseSHA, Depth: head.State.Depth + 1}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if head.State.FoldSHA != "" {
			if err := tx.Model(&head.State).Update("fold_sha", head.State.FoldSHA).Error; err != nil {
				return err
			}
		}
		if err := tx.Create(&st).Error; err != nil {
			return err
		}
		row.StateID = st.ID
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		st.StepID = row.ID
		doc.HeadID, doc.TipID = st.ID, st.ID
		if err := tx.Model(&st).Update("step_id", row.ID).Error; err != nil {
			return err
		}
		return moveHead(tx, head.Document.HeadID, &doc, "HeadID", "TipID", "NextNo", "Pages", "Paper", "Weight", "ChangedAt", "ChangedBy")
	})
	if err != nil {
		return nil, fmt.Errorf("storing the step: %w", err)
	}
	snap := *head
	snap.Document, snap.State, snap.PDF, snap.before, snap.folded = doc, st, next, nil, false
	snap.versions = maps.Clone(head.versions)
	snap.add(row, res.Update, d.Store.Path(row.UpdateSHA))
	return &snap, nil
}

// samePaper reports whether a step left the name of the document's paper as it is: cheaply, for the
// steps that touch a few pages and move none.
func samePaper(name string, next *pdf.Document, head *Snapshot, res *step.Result) bool {
	if res.Moved || res.Redrawn == step.RedrawAll || len(res.Pages) > 20 {
		return false
	}
	for _, k := range res.Pages {
		r, ok := head.Keys.Ref(k)
		if !ok || Paper(next.Geometry(r).Seen()) != name {
			return false
		}
	}
	return true
}

// foldAfter is after how many updates the ones before are read as one: readers follow the
// chain of cross-reference sections from the last to the first, each time.
const foldAfter = 256

// unfolded counts the updates since the base, or since the fold that the snapshot stands on.
func (s *Snapshot) unfolded() int { return len(s.parts) - 1 }

// fold gives the same state standing on its base and one update. The single updates stay where they are,
// for going back; what comes later stands on the fold.
func (d *Desk) fold(s *Snapshot) (*Snapshot, error) {
	bytes, err := s.PDF.Fold(s.base.doc)
	if err != nil {
		return nil, err
	}
	folded, err := s.base.doc.With(bytes)
	if err != nil {
		return nil, err
	}
	folded.KeepPages(s.PDF)
	c := *s
	if c.State.FoldSHA, _, err = d.Store.Put(func(w io.Writer) error { _, err := w.Write(bytes); return err }); err != nil {
		return nil, err
	}
	c.PDF, c.folded = folded, true
	c.parts = []raster.Part{s.base.part, {Path: d.Store.Path(c.State.FoldSHA), Size: int64(len(bytes))}}
	return &c, nil
}

// errMoved: the head in the database is not the one that this process knows. It can only
// come of a fault; the change is not stored.
var errMoved = errors.New("the document's head has moved")

// moveHead writes columns of a document's row, provided that its head is still from.
func moveHead(tx *gorm.DB, from uint, row *Document, columns ...string) error {
	res := tx.Model(row).Where("head_id = ?", from).Select(columns).Updates(row)
	if res.Error == nil && res.RowsAffected != 1 {
		return errMoved
	}
	return res.Error
}

// Back goes a step back; Forward goes to the step that was gone back from.
func (d *Desk) Back(ctx context.Context, document, seen, person uint) (*Outcome, error) {
	return d.goTo(ctx, document, seen, person, func(head *Snapshot) (uint, error) {
		if head.State.ParentID == 0 {
			return 0, step.Refuse("there is no step to go back")
		}
		return head.State.ParentID, nil
	})
}

// Forward undoes Back.
func (d *Desk) Forward(ctx context.Context, document, seen, person uint) (*Outcome, error) {
	return d.goTo(ctx, document, seen, person, func(head *Snapshot) (uint, error) {
		next, err := d.after(ctx, head)
		if err == nil && next == 0 {
			err = step.Refuse("there is no step to go forward to")
		}
		return next, err
	})
}

// after gives the state that going forward leads to; 0 where there is none.
func (d *Desk) after(ctx context.Context, head *Snapshot) (uint, error) {
	if head.Document.TipID == head.State.ID {
		return 0, nil
	}
	states, err := d.chain(ctx, head.Document.ID, head.Document.TipID)
	if err != nil {
		return 0, err
	}
	for _, st := range states {
		if st.ParentID == head.State.ID {
			return st.ID, nil
		}
	}
	return 0, nil
}

// CanForward reports whether there is a step to go forward to.
func (d *Desk) CanForward(ctx context.Context, s *Snapshot) bool {
	next, err := d.after(ctx, s)
	return err == nil && next != 0
}

// onHead runs f with a document's lock held, if its head is still the state that was
// seen, and makes the snapshot that f gives the head.
func (d *Desk) onHead(ctx context.Context, document, seen uint, f func(head *Snapshot) (*Snapshot, error)) (*Outcome, error) {
	l, done := d.document(document)
	defer done()
	l.mu.Lock()
	defer l.mu.Unlock()
	head, err := d.current(ctx, l, document)
	if err != nil {
		return nil, err
	}
	if seen != head.State.ID {
		return nil, &Conflict{head}
	}
	snap, err := f(head)
	if err != nil {
		return nil, err
	}
	d.put(l, snap)
	d.wakeReading()
	return &Outcome{Snapshot: snap}, nil
}

func (d *Desk) goTo(ctx context.Context, document, seen, person uint, to func(*Snapshot) (uint, error)) (*Outcome, error) {
	return d.onHead(ctx, document, seen, func(head *Snapshot) (*Snapshot, error) {
		state, err := to(head)
		if err != nil {
			return nil, err
		}
		return d.headTo(ctx, head, state, person)
	})
}

// headTo moves a document's head to a state of its own. The caller holds its lock.
func (d *Desk) headTo(ctx context.Context, head *Snapshot, state, person uint) (*Snapshot, error) {
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
	doc.Weight, doc.Paper = snap.PDF.Size(), paperOf(snap.PDF)
	doc.ChangedAt, doc.ChangedBy = d.now(), person
	if pages, err := snap.PDF.Pages(); err == nil {
		doc.Pages = len(pages)
	}
	err := moveHead(d.db.WithContext(ctx), head.State.ID, &doc, "HeadID", "Pages", "Paper", "Weight", "ChangedAt", "ChangedBy")
	snap.Document = doc
	return snap, err
}

// TakeOutStep undoes one step in the middle of the trail: the ones after it are run
// again, with their own time and chance, on the state before it. If one of them can't
// be done without it, nothing is changed and the refusal names it.
func (d *Desk) TakeOutStep(ctx context.Context, document, seen, person, stepID uint) (*Outcome, error) {
	return d.onHead(ctx, document, seen, func(head *Snapshot) (*Snapshot, error) {
		i := slices.IndexFunc(head.Steps, func(s Step) bool { return s.ID == stepID })
		if i < 0 {
			return nil, ErrMissing
		}
		states, err := d.chain(ctx, document, head.State.ID)
		if err != nil {
			return nil, err
		}
		rows := slices.Clone(head.Steps[i+1:])
		if len(rows) == 0 {
			return d.headTo(ctx, head, states[i].ID, person)
		}
		snap, err := d.load(ctx, head.Document, states[i].ID)
		if err != nil {
			return nil, err
		}
		// First in memory: what can't be done without the step must change nothing.
		if err := d.tryAll(ctx, snap, rows); err != nil {
			return nil, err
		}
		for _, r := range rows {
			s, err := d.registry.New(r.Name, json.RawMessage(r.Params))
			if err != nil {
				return nil, err
			}
			again := Step{DocumentID: r.DocumentID, RequestID: newToken(), No: r.No, PersonID: r.PersonID, At: r.At, Seed: r.Seed, Name: r.Name, Params: r.Params, Sources: r.Sources}
			if snap, err = d.apply(ctx, snap, s, again); err != nil {
				return nil, err
			}
		}
		return snap, nil
	})
}

// tryAll runs stored steps one after another without storing anything.
func (d *Desk) tryAll(ctx context.Context, from *Snapshot, rows []Step) error {
	src := &sources{desk: d}
	defer src.close()
	doc, keys := from.PDF, from.Keys
	for _, r := range rows {
		s, err := d.registry.New(r.Name, json.RawMessage(r.Params))
		if err != nil {
			return err
		}
		env := &step.Env{Now: r.At, Seed: [16]byte(r.Seed), Step: r.No, Keys: keys, Sources: src}
		_, res, err := d.registry.Run(ctx, doc, s, env)
		if err != nil {
			return step.Refuse("“%s” can't be done without it: %v", r.Sentence, err)
		}
		if doc, err = doc.With(res.Update); err != nil {
			return err
		}
		keys = keys.With(r.No, res.Created)
	}
	return nil
}

// Replay runs a document's whole trail again from its base and gives the updates that
// come of it; they equal the stored ones.
func (d *Desk) Replay(ctx context.Context, document uint) ([][]byte, error) {
	head, err := d.Snapshot(ctx, document)
	if err != nil {
		return nil, err
	}
	src := &sources{desk: d}
	defer src.close()
	states, err := d.chain(ctx, document, head.State.ID)
	if err != nil {
		return nil, err
	}
	doc, keys := head.base.doc, step.NewKeys(head.base.pages)
	var out [][]byte
	for i, r := range head.Steps {
		if states[i].FoldSHA != "" {
			folded, err := doc.Fold(head.base.doc)
			if err != nil {
				return nil, err
			}
			if doc, err = head.base.doc.With(folded); err != nil {
				return nil, err
			}
		}
		s, err := d.registry.New(r.Name, json.RawMessage(r.Params))
		if err != nil {
			return nil, err
		}
		_, res, err := d.registry.Run(ctx, doc, s, &step.Env{Now: r.At, Seed: [16]byte(r.Seed), Step: r.No, Keys: keys, Sources: src})
		if err != nil {
			return nil, fmt.Errorf("running “%s” again: %w", r.Sentence, err)
		}
		if doc, err = doc.With(res.Update); err != nil {
			return nil, err
		}
		keys = keys.With(r.No, res.Created)
		out = append(out, res.Update)
	}
	return out, nil
}

// Preview is a step run in memory, as far as one page shows it.
type Preview struct {
	Picture raster.Picture
	Result  *step.Result
	Page    int           // the page shown, from 0 on, in the document after the step
	Doc     *pdf.Document // after the step, as far as this page shows it
	Ref     pdf.Ref       // the page shown
}

// Preview runs the step on the document in memory and draws the page of that key as it
// would be. Where the step names the page to go to and at is zero, that one is drawn.
func (d *Desk) Preview(ctx context.Context, c Change, at step.Key, w, h int) (*Preview, error) {
	head, err := d.Snapshot(ctx, c.Document)
	if err != nil {
		return nil, err
	}
	if c.Seen != head.State.ID {
		return nil, &Conflict{head}
	}
	s, err := d.registry.New(c.Name, c.Params)
	if err != nil {
		return nil, err
	}
	src := &sources{desk: d}
	defer src.close()
	only, _ := head.Keys.Ref(at)
	env := &step.Env{Now: d.now(), Step: head.Document.NextNo, Keys: head.Keys, Sources: src, Only: only}
	_, _ = rand.Read(env.Seed[:])
	fork, res, err := d.registry.Run(ctx, head.PDF, s, env)
	if err != nil {
		return nil, err
	}
	if only.IsZero() {
		only, _ = head.Keys.With(env.Step, res.Created).Ref(res.Show)
	}
	page := fork.PageIndex(only)
	if page < 0 {
		return nil, step.Refuse("the page is not in the document after this step")
	}
	source := head.source()
	source.Key = fmt.Sprintf("preview-%x", env.Seed)
	source.Parts = append(slices.Clone(source.Parts), raster.Part{Data: res.Update})
	pic, err := d.pool.Render(ctx, raster.Request{Source: source, Page: page, Width: w, Height: h, Format: raster.Auto})
	if err != nil {
		return nil, err
	}
	return &Preview{pic, res, page, fork, only}, nil
}
