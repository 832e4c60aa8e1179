package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"gorm.io/gorm"

	"glenrain/core/arrange"
	"glenrain/core/field"
	"glenrain/core/finding"
	"glenrain/core/jobs"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Asks: the document has loose ends that handing out asks about first.
type Asks struct{ Findings []finding.Finding }

func (a *Asks) Error() string { return a.Findings[0].Sentence }

// Order asks for a hand-out.
type Order struct {
	Document uint
	Seen     uint
	Person   uint
	Name     string // of the copy, without ".pdf"
	Replace  bool   // the original, instead of a copy
	AsItIs   bool   // although it has loose ends that ask
	Lock     bool   // again as it came, with the same passwords
	Signed   bool   // the original with the changes behind it, instead of written anew
}

// CanLock reports whether the document can be locked again as it came.
func (s *Snapshot) CanLock() bool { return s.Document.Lock != "" }

// CanKeepSignature reports whether the document is signed and its signature can leave with it.
func (s *Snapshot) CanKeepSignature() bool {
	r := s.Document
	return !r.Working && !r.Locked && r.Mended == "" && r.MadeFrom == "" && finding.Signed(s.PDF) != ""
}

// LooseEnds finds what should be mended before the document goes out.
func (d *Desk) LooseEnds(s *Snapshot) ([]finding.Finding, error) {
	found, err := finding.Run(s.PDF, jobs.LooseEnds())
	if err == nil && s.Document.Locked && !s.CanLock() {
		found = append([]finding.Finding{unlocked}, found...)
	}
	return found, err
}

var unlocked = finding.Finding{Kind: "unlocked", Asks: true,
	Sentence: "The document came locked with a password; the file that goes out is not locked"}

// HandOut writes the document anew, whole, as a file to give away: only what can be
// reached, nothing of what was undone or taken out.
func (d *Desk) HandOut(ctx context.Context, w *Work, o Order) (*HandOut, error) {
	s, err := d.Snapshot(ctx, o.Document)
	if err != nil {
		return nil, err
	}
	if s.State.ID != o.Seen {
		return nil, &Conflict{s}
	}
	if !o.AsItIs {
		ends, err := d.LooseEnds(s)
		if err != nil {
			return nil, err
		}
		var asks []finding.Finding
		if s.CanLock() && !o.Lock {
			asks = append(asks, unlocked)
		}
		for _, e := range ends {
			if e.Asks {
				asks = append(asks, e)
			}
		}
		if len(asks) > 0 {
			return nil, &Asks{asks}
		}
	}
	if o.Lock && !s.CanLock() || o.Signed && !s.CanKeepSignature() {
		return nil, step.Refuse("the document can't be handed out in this way")
	}
	name := s.Document.Name + ".pdf"
	if !o.Replace {
		if strings.TrimSpace(o.Name) == "" {
			return nil, step.Refuse("a copy needs a name")
		}
		name = trimPDF(cleanName(o.Name)) + ".pdf"
	}
	h := &HandOut{DocumentID: o.Document, StateID: s.State.ID, Name: name, Replaced: o.Replace, PersonID: o.Person, At: d.now()}
	doc := s.PDF.Fork()
	stamp(doc, pdf.DateString(h.At))
	field.Unsign(doc)
	opt := pdf.FullOptions{Progress: func(done int) { w.Set(done, doc.Objects()) }}
	_, _ = rand.Read(opt.ID[:]) // never fails
	write := func(out io.Writer) error { return doc.WriteFull(ctx, out, opt) }
	switch {
	case o.Signed:
		h.Signed = true
		write = func(out io.Writer) error {
			_, err := io.Copy(out, io.NewSectionReader(s.PDF.Source(), 0, s.PDF.Size()))
			return err
		}
	case o.Lock:
		h.Locked = true
		opt.Protect = &pdf.Protection{Again: &pdf.Kept{}, Rand: rand.Reader}
		if err := json.Unmarshal([]byte(s.Document.Lock), opt.Protect.Again); err != nil {
			return nil, fmt.Errorf("how the document was locked: %w", err)
		}
	}
	h.SHA, h.Size, err = d.Store.Put(write)
	if err != nil {
		return nil, err
	}
	if h.Pages, err = d.check(h.SHA, h.Locked); err != nil {
		return nil, fmt.Errorf("the file that was written does not read back: %w", err)
	}
	if h.Pages == 0 {
		h.Pages = s.Document.Pages
	}
	return h, d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if o.Replace {
			if err := tx.Model(&Document{}).Where("id = ?", o.Document).
				Updates(map[string]any{"original_sha": h.SHA, "original_name": name}).Error; err != nil {
				return err
			}
			return tx.Create(h).Error
		}
		taken, err := nameTaken(tx, name)
		if err != nil {
			return err
		}
		if taken {
			return step.Refuse("something was handed out under the name “%s” already: choose another", trimPDF(name))
		}
		return tx.Create(h).Error
	})
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

// stamp sets the date of change in the document information dictionary (ISO 32000-2, 14.3.3).
func stamp(doc *pdf.Document, date pdf.String) {
	if info, ok := doc.Trailer().Get("Info").(pdf.Ref); ok {
		if d := doc.Edit(info); d != nil {
			d.Set("ModDate", date)
		}
	}
}

// Together puts documents together, in the order given, into a new one.
func (d *Desk) Together(ctx context.Context, w *Work, person uint, ids []uint, name string) (*Document, error) {
	if len(ids) == 0 {
		return nil, step.Refuse("no document is chosen")
	}
	var inserts []arrange.Insert
	var folder uint
	total := 0
	for i, id := range ids {
		s, err := d.Snapshot(ctx, id)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			folder = s.Document.FolderID
			if strings.TrimSpace(name) == "" {
				name = s.Document.Name + " and others"
			}
		}
		total += s.Document.Pages
		inserts = append(inserts, arrange.Insert{From: fmt.Sprintf("state:%d", s.State.ID), Name: s.Document.Name})
	}
	src := &sources{desk: d}
	defer src.close()
	env := &step.Env{Now: d.now(), Sources: src}
	_, _ = rand.Read(env.Seed[:]) // never fails
	w.Set(0, len(ids))
	doc, warnings, err := arrange.Combine(ctx, env, inserts, func(done int) { w.Set(done, len(ids)) })
	if err != nil {
		return nil, err
	}
	sha, _, err := d.Store.Put(func(out io.Writer) error {
		return doc.WriteFull(ctx, out, pdf.FullOptions{ID: env.NewID()})
	})
	if err != nil {
		return nil, err
	}
	row := &Document{
		FolderID: folder, Name: cleanName(name), OriginalSHA: sha, OriginalName: cleanName(name) + ".pdf",
		MadeFrom: step.Count(len(ids), "document"), ChangedBy: person,
	}
	if len(warnings) > 0 {
		row.MadeFrom += ". " + strings.Join(warnings, " ")
	}
	row, err = d.addDocument(ctx, row, sha)
	if err == nil && row.Pages != total {
		err = fmt.Errorf("%d pages went in and %d came out", total, row.Pages)
	}
	return row, err
}
