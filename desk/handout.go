package desk

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"glenrain/core/arrange"
	"glenrain/core/finding"
	"glenrain/core/jobs"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
)

// Asks: the document has loose ends that handing out asks about first.
type Asks struct{ Findings []finding.Finding }

func (a *Asks) Error() string { return a.Findings[0].Sentence }

// Order asks for a hand-out.
type Order struct {
	Document  uint
	Seen      uint
	RequestID string // of this request alone: a second one of the same id hands nothing more out
	Person    uint
	Name      string   // of the copy, without ".pdf"
	Replace   bool     // the original, instead of a copy
	AsItIs    bool     // although it has loose ends that ask
	Finish    []string // names of the finishers that were chosen
	Folder    uint     // where it is kept as a document, too; 0 for nowhere
}

// found are the loose ends of a state, once they were looked for.
type found struct {
	once sync.Once
	list []finding.Finding
}

// LooseEnds finds what should be mended before the document goes out: once for each state. What could not be looked for is among them, and keeps nobody
// from opening the document.
func (d *Desk) LooseEnds(s *Snapshot) []finding.Finding {
	s.found.once.Do(func() {
		// Whoever asked first may go away; others wait for the same.
		ctx, cancel := context.WithTimeoutCause(context.Background(), maxLooking, pdf.ErrTooLong)
		defer cancel()
		var err error
		if s.found.list, err = finding.Run(ctx, s.PDF, d.checks()); err != nil {
			s.found.list = append(s.found.list, finding.Finding{Kind: finding.Unchecked, Asks: true,
				Sentence: "checking this document took too long and was stopped: a problem may go unnoticed"})
		}
	})
	if s.Document.Locked && !d.CanFinish(s, FinishLock) {
		return append([]finding.Finding{unlocked}, s.found.list...)
	}
	return s.found.list
}

// checks are those before a document goes out.
func (d *Desk) checks() []finding.Check { return append(jobs.LooseEnds(), d.moreChecks...) }

// maxLooking is how long loose ends are looked for.
const maxLooking = 30 * time.Second

// HandOut writes the document anew, whole, as a file to give away: only what can be
// reached, nothing of what was undone or removed.
func (d *Desk) HandOut(ctx context.Context, w *background.Work, o Order) (*HandOut, error) {
	row, err := d.row(ctx, o.Document)
	if err == nil {
		err = d.may(ctx, o.Person, people.ActHandOut, row)
	}
	if err != nil {
		return nil, err
	}
	s, err := d.Snapshot(ctx, o.Document)
	if err != nil {
		return nil, err
	}
	if was, err := d.asked(ctx, o.Person, o.RequestID); err != nil {
		return nil, err
	} else if was != nil {
		if was.DocumentID != o.Document {
			return nil, errAsked
		}
		return d.handedOut(ctx, was.HandOutID)
	}
	if s.State.ID != o.Seen {
		return nil, &Conflict{s}
	}
	if !o.AsItIs {
		if asks := append(d.missed(s, o.Finish), finding.Asking(d.LooseEnds(s))...); len(asks) > 0 {
			return nil, &Asks{asks}
		}
	}
	if o.Folder != 0 {
		if f, err := d.Folder(ctx, o.Person, o.Folder); err != nil || f.ID == 0 {
			return nil, errors.Join(err, step.Refuse("this folder has been deleted; nothing was exported"))
		}
		if slices.Contains(o.Finish, FinishLock) {
			return nil, step.Refuse("you can’t save a locked file in a folder: export it without saving it there")
		}
	}
	way, note, err := d.wayOut(ctx, s, o.Finish)
	if err != nil {
		return nil, err
	}
	name := s.Document.Name + ".pdf"
	if !o.Replace {
		if strings.TrimSpace(o.Name) == "" {
			return nil, step.Refuse("a copy needs a name")
		}
		name = trimPDF(cleanName(o.Name)) + ".pdf"
		if err := d.nameTaken(ctx, d.db.WithContext(ctx), o.Person, name); err != nil { // before the work; who comes first is settled after it
			return nil, err
		}
	}
	h := &HandOut{DocumentID: o.Document, StateID: s.State.ID, Name: name, NameKey: nameKey(name), Replaced: o.Replace, PersonID: o.Person, At: way.At}
	note(h)
	doc := s.PDF.Fork()
	way.Progress = func(done int) { w.Set(done, doc.Objects()) }
	h.SHA, h.Size, err = d.Store.Put(func(to io.Writer) error { return way.Write(ctx, doc, to) })
	if err != nil {
		return nil, err
	}
	if h.Pages, err = d.check(h.SHA, h.Locked); err != nil {
		d.tidy(h.SHA)
		return nil, fmt.Errorf("the file that was written does not read back: %w", err)
	}
	if h.Pages == 0 {
		h.Pages = s.Document.Pages
	}
	var kept *newDocument
	if o.Folder != 0 {
		if kept, err = d.keptIn(ctx, o.Person, o.Folder, h); err != nil {
			d.tidy(h.SHA)
			return nil, err
		}
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := present(tx, o.Document); err != nil {
			return err
		}
		if kept != nil {
			if err := d.createIn(ctx, tx, kept); err != nil {
				return err
			}
			h.KeptID = kept.row.ID
		}
		if o.Replace {
			if err := tx.Model(&Document{}).Where("id = ?", o.Document).
				Updates(map[string]any{"original_sha": h.SHA, "original_name": name}).Error; err != nil {
				return err
			}
		} else if err := d.nameTaken(ctx, tx, o.Person, name); err != nil {
			return err
		}
		if err := tx.Create(h).Error; err != nil {
			return err
		}
		if err := d.NoteIn(ctx, tx, people.Record{PersonID: o.Person, What: "handed out", DocumentID: o.Document, Document: s.Document.Name, Detail: name}); err != nil {
			return err
		}
		return d.answer(tx, Request{ID: o.RequestID, PersonID: o.Person, DocumentID: o.Document, HandOutID: h.ID})
	})
	if err != nil {
		d.tidy(h.SHA)
		if was, aerr := d.asked(ctx, o.Person, o.RequestID); aerr == nil && was != nil { // the same request, twice at once
			return d.handedOut(ctx, was.HandOutID)
		}
		return nil, err
	}
	d.Store.Unpin(h.SHA)
	if kept != nil {
		d.wakeReading()
	}
	return h, nil
}

func trimPDF(name string) string {
	if len(name) > 4 && strings.EqualFold(name[len(name)-4:], ".pdf") {
		return name[:len(name)-4]
	}
	return name
}

// check opens a written file and counts its pages. A locked one needs a password that is not known;
// it is enough then that it asks for it, and that it opens where the user's is empty.
func (d *Desk) check(sha string, locked bool) (int, error) {
	f, err := d.Store.Open(sha)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return 0, err
	}
	doc, err := pdf.Open(f, st.Size())
	if locked && errors.Is(err, pdf.ErrLocked) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	pages, err := doc.Pages()
	return len(pages), err
}

// Combination asks for one document made of several, in their order.
type Combination struct {
	Documents []uint
	Pages     []string // which pages of each, as page sets, "" for all; nil for all of all
	Name      string   // that of the first, and others, if empty
	Person    uint
	RequestID string // of this request alone: a second one of the same id makes nothing more
	Marks     string // where bookmarks of each come to stand, and Moves whether transitions are kept, as the step "insert" has them
	Moves     string
}

// Combine makes one new document of several.
func (d *Desk) Combine(ctx context.Context, w *background.Work, c Combination) (*Document, error) {
	if len(c.Documents) == 0 {
		return nil, step.Refuse("no document is selected")
	}
	if err := d.may(ctx, c.Person, people.ActAdd, nil); err != nil {
		return nil, err
	}
	if was, err := d.asked(ctx, c.Person, c.RequestID); err != nil {
		return nil, err
	} else if was != nil {
		return d.row(ctx, was.DocumentID)
	}
	ids, name := c.Documents, c.Name
	var inserts []arrange.Insert
	var folder uint
	total := 0
	for i, id := range ids {
		s, err := d.Look(ctx, c.Person, id)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			folder = s.Document.FolderID
			if strings.TrimSpace(name) == "" {
				name = s.Document.Name + " and others"
			}
		}
		insert := arrange.Insert{From: step.SourceRef(fmt.Sprintf("state:%d", s.State.ID)), Name: s.Document.Name, Marks: c.Marks, Moves: c.Moves}
		n := s.Document.Pages
		if i < len(c.Pages) && c.Pages[i] != "" {
			insert.Pages.Rule = c.Pages[i]
			if n, err = step.CountRule(c.Pages[i], n); err != nil {
				return nil, step.Refuse("the pages of “%s”: %v", s.Document.Name, err)
			}
		}
		total += n
		inserts = append(inserts, insert)
	}
	src := &sources{desk: d, person: c.Person}
	defer src.close()
	env := &step.Env{Now: d.now(), Sources: src}
	_, _ = rand.Read(env.Seed[:]) // never fails
	w.Set(0, len(ids))
	doc, warnings, err := arrange.Combine(ctx, env, inserts, func(done int) { w.Set(done, len(ids)) })
	if err != nil {
		return nil, err
	}
	sha, _, err := d.Store.Put(func(out io.Writer) error {
		return doc.WriteFull(ctx, out, pdf.FullOptions{Once: true, ID: env.NewID()})
	})
	if err != nil {
		return nil, err
	}
	row := &Document{
		FolderID: folder, Name: cleanName(name), OriginalSHA: sha, OriginalName: cleanName(name) + ".pdf",
		Made: Made{Of: "documents", Count: len(ids), Warnings: warnings}, ChangedBy: c.Person, OwnerID: c.Person,
	}
	n, err := d.madeHere(ctx, row, sha, total, c.RequestID)
	if err != nil {
		return nil, err
	}
	return d.addDocument(ctx, n)
}
