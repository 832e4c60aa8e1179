package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"slices"

	"glenrain/core/finding"
	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Finisher is something that may be done to a document when it is exported, chosen by its name: locking it, signing it. Options.Finishers has those besides
// the house's own.
type Finisher struct {
	Name string // stable: Order.Finish, "lock"
	// Can reports whether it can be done to a document.
	Can func(s *Snapshot) bool
	// Missed is what is asked about where it could be done and was not chosen; may be nil.
	Missed func(s *Snapshot) *finding.Finding
	// Note says in what is stored of an export that it was done; may be nil.
	Note func(h *HandOut)
	// Make gives what is to be done.
	Make func(ctx context.Context, s *Snapshot) (outgoing.Finisher, error)
}

// Names of the house's own finishers.
const (
	FinishLock   = "lock"   // as it came, with the same passwords
	FinishSigned = "signed" // the file with its changes behind it, instead of written anew
)

// unlocked is what is asked about where a locked document leaves as an open file.
var unlocked = finding.Finding{Kind: "unlocked", Asks: true,
	Sentence: "The document was locked with a password; the exported file is not locked"}

// ownFinishers are those that the house has.
var ownFinishers = []Finisher{
	{
		Name:   FinishLock,
		Can:    func(s *Snapshot) bool { return s.Document.Lock != "" },
		Missed: func(*Snapshot) *finding.Finding { return &unlocked },
		Note:   func(h *HandOut) { h.Locked = true },
		Make: func(_ context.Context, s *Snapshot) (outgoing.Finisher, error) {
			again := &pdf.Kept{}
			if err := json.Unmarshal([]byte(s.Document.Lock), again); err != nil {
				return outgoing.Finisher{}, fmt.Errorf("how the document was locked: %w", err)
			}
			return outgoing.Finisher{Name: FinishLock, Options: func(opt *pdf.FullOptions) error {
				opt.Protect = &pdf.Protection{Again: again, Rand: rand.Reader}
				return nil
			}}, nil
		},
	},
	{
		Name: FinishSigned,
		Can: func(s *Snapshot) bool {
			r := s.Document
			return !r.Working && !r.Locked && r.Mended == "" && r.Made.Of == "" && finding.Signed(s.PDF) != ""
		},
		Note: func(h *HandOut) { h.Signed = true },
		Make: func(_ context.Context, s *Snapshot) (outgoing.Finisher, error) {
			return outgoing.Finisher{Name: FinishSigned, Write: func(_ context.Context, to io.Writer) error {
				_, err := io.Copy(to, io.NewSectionReader(s.PDF.Source(), 0, s.PDF.Size()))
				return err
			}}, nil
		},
	},
}

// finishers are all that there are.
func (d *Desk) finishers() []Finisher { return slices.Concat(ownFinishers, d.moreFinishers) }

// CanFinish reports whether a document can be exported with what a finisher does.
func (d *Desk) CanFinish(s *Snapshot, name string) bool {
	return slices.ContainsFunc(d.finishers(), func(f Finisher) bool { return f.Name == name && f.Can(s) })
}

// wayOut is how a document leaves with the finishers that were chosen. note is called with what is stored of the export. An error is a *step.Refusal
// where one of them can't be had.
func (d *Desk) wayOut(ctx context.Context, s *Snapshot, chosen []string) (way *outgoing.Way, note func(*HandOut), err error) {
	way = &outgoing.Way{At: d.now()}
	_, _ = rand.Read(way.ID[:]) // never fails
	var notes []func(*HandOut)
	all := d.finishers()
	for _, name := range chosen {
		i := slices.IndexFunc(all, func(f Finisher) bool { return f.Name == name && f.Can(s) })
		if i < 0 {
			return nil, nil, step.Refuse("you can’t export the document this way")
		}
		f, err := all[i].Make(ctx, s)
		if err != nil {
			return nil, nil, err
		}
		way.Finishers = append(way.Finishers, f)
		if all[i].Note != nil {
			notes = append(notes, all[i].Note)
		}
	}
	if len(way.Finishers) > 1 && slices.ContainsFunc(way.Finishers, func(f outgoing.Finisher) bool { return f.Write != nil }) {
		return nil, nil, step.Refuse("you can’t export the document this way: choose either to keep its signature or something else")
	}
	return way, func(h *HandOut) {
		for _, f := range notes {
			f(h)
		}
	}, nil
}

// writeInto writes a document into a file that can't be read back while it is written, such as a zip.
func (d *Desk) writeInto(ctx context.Context, way *outgoing.Way, doc *pdf.Document, to io.Writer) error {
	if !way.Signs() {
		return way.Write(ctx, doc, to)
	}
	in, err := d.Store.Create()
	if err != nil {
		return err
	}
	defer in.Drop()
	if err := way.Write(ctx, doc, in); err != nil {
		return err
	}
	_, err = io.Copy(to, io.NewSectionReader(in, 0, in.Size))
	return err
}

// missed is what is asked about since a finisher was not chosen.
func (d *Desk) missed(s *Snapshot, chosen []string) (out []finding.Finding) {
	for _, f := range d.finishers() {
		if f.Missed == nil || slices.Contains(chosen, f.Name) || !f.Can(s) {
			continue
		}
		if m := f.Missed(s); m != nil {
			out = append(out, *m)
		}
	}
	return out
}

// usual are the finishers of a document that leaves as it came.
func (d *Desk) usual(s *Snapshot) (out []string) {
	for _, f := range d.finishers() {
		if f.Missed != nil && f.Can(s) && f.Missed(s) != nil {
			out = append(out, f.Name)
		}
	}
	return out
}
