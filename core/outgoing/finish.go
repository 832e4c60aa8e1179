package outgoing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"glenrain/core/pdf"
)

// Finisher is a part of how a document leaves: whatever it has to do at the stages that it has. A nil function is a stage that it has not.
type Finisher struct {
	Name string // stable: "lock"
	// Prepare changes the document, a fork of its own, before it is written.
	Prepare func(ctx context.Context, doc *pdf.Document) error
	// Options say how it is written: encrypted, for one.
	Options func(opt *pdf.FullOptions) error
	// Write writes it in another way than anew. It comes alone: what is written so is not prepared.
	Write func(ctx context.Context, to io.Writer) error
	// Sign gives what is put behind the file that was written.
	Sign func(ctx context.Context, file io.ReaderAt, size int64) ([]byte, error)
}

// ErrTogether: finishers that can't be had together were asked for.
var ErrTogether = errors.New("this can’t be combined")

// Sized is a file that is being written and can be read.
type Sized interface {
	io.ReaderAt
	Length() int64
}

// Way is how one document leaves.
type Way struct {
	At        time.Time // the date of the change
	ID        [16]byte  // the second part of the trailer's /ID
	Finishers []Finisher
	Progress  func(done int)
}

// Signs reports whether something is put behind the file that was written, which has to be read for that.
func (w *Way) Signs() bool {
	return slices.ContainsFunc(w.Finishers, func(f Finisher) bool { return f.Sign != nil })
}

// Write writes a document, of which doc is a fork of its own. Where a finisher signs, to must be Sized too. An error is ErrTogether, one of a finisher, or that of
// writing.
func (w *Way) Write(ctx context.Context, doc *pdf.Document, to io.Writer) error {
	for _, f := range w.Finishers {
		if f.Write == nil {
			continue
		}
		if len(w.Finishers) > 1 {
			return ErrTogether
		}
		return f.Write(ctx, to)
	}
	for _, f := range w.Finishers {
		if f.Prepare != nil {
			if err := f.Prepare(ctx, doc); err != nil {
				return fmt.Errorf("%s: %w", f.Name, err)
			}
		}
	}
	opt := Prepare(doc, w.At)
	opt.ID, opt.Progress = w.ID, w.Progress
	for _, f := range w.Finishers {
		if f.Options != nil {
			if err := f.Options(&opt); err != nil {
				return fmt.Errorf("%s: %w", f.Name, err)
			}
		}
	}
	if err := doc.WriteFull(ctx, to, opt); err != nil {
		return err
	}
	for _, f := range w.Finishers {
		if f.Sign == nil {
			continue
		}
		file, ok := to.(Sized)
		if !ok {
			return ErrTogether
		}
		more, err := f.Sign(ctx, file, file.Length())
		if err == nil {
			_, err = to.Write(more)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
	}
	return nil
}
