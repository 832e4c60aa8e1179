package desk

import (
	"context"
	"encoding/json"
	"io"
	"maps"

	"gorm.io/gorm"

	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// ran is a step that was run in memory, with what its row and state will be; it is not stored yet.
type ran struct {
	row   Step
	state State // without ids
	on    *Snapshot
	pdf   *pdf.Document // after it
	keys  *step.Keys
	base  *openBase // a new base that it made
	res   *step.Result
	with  func(tx *gorm.DB) error // what is stored with it
}

// files are the stored files that it made.
func (r *ran) files() (shas []string) {
	if r.row.UpdateSHA != "" {
		shas = append(shas, r.row.UpdateSHA)
	}
	if r.base != nil {
		shas = append(shas, r.state.BaseSHA)
	}
	if r.on.State.FoldSHA != "" {
		shas = append(shas, r.on.State.FoldSHA)
	}
	return shas
}

// run runs a step on a snapshot and stores nothing but files, which nobody names yet. env has the sources.
func (d *Desk) run(ctx context.Context, at *Snapshot, s step.Step, row Step, env *step.Env) (*ran, error) {
	if at.unfolded() >= foldAfter {
		var err error
		if at, err = d.fold(at); err != nil {
			return nil, err
		}
	}
	r := &ran{on: at, row: row}
	env.Now, env.Seed, env.Step, env.Name = row.At, [16]byte(row.Seed), row.No, at.Document.Name
	q := step.Sequence{Registry: d.registry, Doc: at.PDF, Keys: at.Keys, Base: func(ctx context.Context, write func(context.Context, io.Writer) error) (*pdf.Document, error) {
		sha, _, err := d.Store.Put(func(w io.Writer) error { return write(ctx, w) })
		if err != nil {
			return nil, err
		}
		r.state.BaseSHA = sha
		if r.base, err = d.base(sha); err != nil {
			return nil, err
		}
		return r.base.doc, nil
	}}
	res, err := q.Run(ctx, s, env)
	if err != nil {
		return nil, err
	}
	r.res, r.pdf, r.keys = res, q.Doc, q.Keys
	if r.base != nil {
		r.state.Rooted = true
	} else {
		r.state.BaseSHA, r.state.Depth = at.State.BaseSHA, at.State.Depth+1
	}
	if _, works := s.(step.Worker); works { // it keeps in its parameters what its work made
		params, err := json.Marshal(s)
		if err != nil {
			return nil, err
		}
		r.row.Params = string(params)
	}
	r.row.Sources = toJSON(step.NamedSources(s))
	r.row.Created, r.row.Pages, r.row.All = toJSON(res.Created), toJSON(res.Pages), res.All
	r.row.Redrawn, r.row.Moved = int(res.Redrawn), res.Moved
	r.row.Sentence, r.row.Warnings = res.Sentence, toJSON(res.Warnings)
	r.row.UpdateSize = int64(len(res.Update))
	if !res.Show.IsZero() {
		r.row.Show = res.Show.String()
	}
	if len(res.Update) > smallUpdate {
		r.row.UpdateSHA, _, err = d.Store.Put(func(w io.Writer) error { _, err := w.Write(res.Update); return err })
	} else {
		r.row.Update = res.Update
	}
	return r, err
}

// after gives the snapshot that a step leads to. It has no place in the database before the commit, and its bookkeeping of pictures
// lacks the step until noted.
func (r *ran) after(store *store.Store) *Snapshot {
	snap := *r.on
	snap.State, snap.PDF, snap.Keys, snap.before, snap.folded, snap.found = r.state, r.pdf, r.keys, nil, false, &found{}
	if r.base != nil {
		snap.base, snap.parts = r.base, []raster.Part{r.base.part}
		return &snap
	}
	snap.addPart(&r.row, r.res.Update, store.Path(r.row.UpdateSHA))
	return &snap
}

// commit stores steps that were run one after another, the first on a state that is in the database, and moves the document's head
// to the last: all in one transaction, or nothing. last says what is special about the state that it ends at.
func (d *Desk) commit(ctx context.Context, head *Snapshot, list []*ran, last State, person uint) (snap *Snapshot, err error) {
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		snap, err = d.commitIn(ctx, tx, head, list, last, person)
		return err
	})
	if err != nil {
		return nil, unstored(err)
	}
	return snap, nil
}

// commitIn does it within a transaction.
func (d *Desk) commitIn(ctx context.Context, tx *gorm.DB, head *Snapshot, list []*ran, last State, person uint) (*Snapshot, error) {
	snap := *list[0].on
	snap.versions = maps.Clone(snap.versions)
	doc := head.Document
	final := list[len(list)-1]
	doc.ChangedAt, doc.ChangedBy = final.row.At, person
	if last.Act != "" {
		doc.ChangedAt = d.now()
	}
	paper := ""
	for _, r := range list {
		doc.NextNo = max(doc.NextNo, r.row.No+1)
		if r.res.Moved || r.res.Redrawn != step.RedrawNone || len(list) > 1 {
			if len(list) > 1 || !samePaper(doc.Paper, r) {
				paper = "look"
			}
		}
	}
	if paper != "" {
		doc.Paper = paperOf(final.pdf)
	}
	err := func() error {
		parent := list[0].on.State.ID
		for i, r := range list {
			if on := r.on; on.folded { // it stands on a fold that was made for it
				on.State.ID = parent
				if i > 0 {
					on.versions, on.all = maps.Clone(snap.versions), snap.all
				}
				text, err := on.writeNotes()
				if err != nil {
					return err
				}
				if err := tx.Model(&State{ID: parent}).Updates(State{FoldSHA: on.State.FoldSHA, Noted: text}).Error; err != nil {
					return err
				}
			}
			st := r.state
			st.DocumentID, st.ParentID = doc.ID, parent
			if i == len(list)-1 {
				st.BackID, st.Act, st.WithoutID = last.BackID, last.Act, last.WithoutID
			}
			if err := tx.Create(&st).Error; err != nil {
				return err
			}
			r.row.StateID = st.ID
			if err := tx.Create(&r.row).Error; err != nil {
				return err
			}
			if r.with != nil {
				if err := r.with(tx); err != nil {
					return err
				}
			}
			st.StepID = r.row.ID
			update := State{StepID: r.row.ID}
			snap.PDF, snap.folded, snap.base = r.pdf, false, r.on.base
			snap.note(r.row)
			if r.base != nil {
				snap.Keys = r.keys
				text, err := snap.writeNotes()
				if err != nil {
					return err
				}
				st.Noted, update.Noted = text, text
				snap.base, snap.parts = r.base, []raster.Part{r.base.part}
			} else {
				snap.parts = r.on.parts
				snap.addPart(&r.row, r.res.Update, d.Store.Path(r.row.UpdateSHA))
			}
			if err := tx.Model(&State{ID: st.ID}).Updates(update).Error; err != nil {
				return err
			}
			r.row.Update = nil
			snap.State, parent = st, st.ID
		}
		snap.Keys = final.keys
		doc.HeadID, doc.TipID = snap.State.ID, snap.State.ID
		snap.Document = doc
		snap.describe()
		columns := []string{"HeadID", "TipID", "NextNo", "Pages", "Paper", "Weight", "FirstKey", "FirstVersion", "ChangedAt", "ChangedBy"}
		if final.base != nil { // its text may be read now
			snap.Document.Unreadable = false
			columns = append(columns, "Unreadable")
		}
		what := final.row.Sentence
		if last.Act != "" {
			what = last.Act
		}
		if err := d.NoteIn(ctx, tx, people.Record{PersonID: person, What: "changed", DocumentID: doc.ID, Document: doc.Name, Detail: what}); err != nil {
			return err
		}
		return moveHead(tx, head.Document.HeadID, &snap.Document, columns...)
	}()
	if err != nil {
		return nil, err
	}
	snap.before, snap.found = nil, &found{}
	return &snap, nil
}

// samePaper reports whether a step left the name of the document's paper as it is: cheaply, for the
// steps that touch a few pages and move none.
func samePaper(name string, r *ran) bool {
	if r.res.Moved || r.res.Redrawn == step.RedrawAll || len(r.res.Pages) > 20 {
		return false
	}
	for _, k := range r.res.Pages {
		ref, ok := r.on.Keys.Ref(k)
		if !ok || Paper(r.pdf.Geometry(ref).Seen()) != name {
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
// for undoing; what comes later stands on the fold.
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
