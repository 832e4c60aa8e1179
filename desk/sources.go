package desk

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// mayName refuses sources that somebody may not name in a step's parameters: files by their hash, but for those in known, which name what the
// house kept for this very step; and states of documents that the person can't see. Doing, previewing and revising ask it alike.
func (d *Desk) mayName(ctx context.Context, person uint, s step.Step, known ...string) error {
	for _, ref := range step.NamedSources(s) {
		if slices.Contains(known, ref) && strings.HasPrefix(ref, "sha256:") {
			continue
		}
		id, err := stateOf(ref)
		if err != nil {
			return err
		}
		var st State
		err = d.db.WithContext(ctx).Select("document_id").First(&st, id).Error
		if err = store.Missing(err); err == nil {
			err = d.seen(ctx, person, st.DocumentID, people.ActLook)
		}
		if err != nil {
			return gone(err)
		}
	}
	return nil
}

// stateOf reads "state:ID".
func stateOf(ref string) (uint, error) {
	text, ok := strings.CutPrefix(ref, "state:")
	id, err := strconv.ParseUint(text, 10, 63)
	if !ok || err != nil {
		return 0, step.Refuse("the source %q can't be named so", ref)
	}
	return uint(id), nil
}

// gone is the refusal for a document that is not there, or not there for whoever asks; other errors stay.
func gone(err error) error {
	var refusal *step.Refusal
	if errors.Is(err, store.ErrMissing) || errors.As(err, &refusal) {
		return step.Refuse("the document to insert pages from doesn’t exist, or you have no access to it")
	}
	return err
}

// sources opens what steps name, from the house.
type sources struct {
	desk   *Desk
	person uint // whose rights decide what opens; 0 for steps that are in a trail already
	open   []io.Closer
	kept   []string // files that steps' work made, which no row names yet
}

func (s *sources) close() {
	for _, c := range s.open {
		_ = c.Close()
	}
}

// Open opens "state:ID" and "sha256:HASH".
func (s *sources) Open(ctx context.Context, name step.SourceRef) (*step.Source, error) {
	ref := string(name)
	if strings.HasPrefix(ref, "state:") {
		id, err := stateOf(ref)
		if err != nil {
			return nil, err
		}
		open := s.desk.At
		if s.person != 0 {
			open = func(ctx context.Context, state uint) (*Snapshot, error) { return s.desk.LookAt(ctx, s.person, state) }
		}
		snap, err := open(ctx, id)
		if err != nil {
			return nil, gone(err)
		}
		return &step.Source{Name: snap.Document.Name, Doc: snap.PDF, Data: snap.PDF.Source(), Size: snap.PDF.Size()}, nil
	}
	if sha, ok := strings.CutPrefix(ref, "sha256:"); ok && isHash(sha) {
		f, err := s.desk.Store.Open(sha)
		if err != nil {
			return nil, step.Refuse("the file to insert pages from is no longer kept")
		}
		s.open = append(s.open, f)
		st, err := f.Stat()
		if err != nil {
			return nil, err
		}
		return &step.Source{Name: "file", Data: f, Size: st.Size()}, nil
	}
	return nil, step.Refuse("the source %q can't be opened here", ref)
}

// Keep keeps what long work made, for the step that names it.
func (s *sources) Keep(write func(io.Writer) error) (step.SourceRef, error) {
	sha, _, err := s.desk.Store.Put(write)
	if err != nil {
		return "", err
	}
	s.kept = append(s.kept, sha)
	return step.SourceRef("sha256:" + sha), nil
}

func isHash(s string) bool {
	b, err := hex.DecodeString(s)
	return err == nil && len(b) == sha256.Size
}
