// Package step is the contract that every change of a document keeps: a named
// step with plain parameters, run on a document in memory, giving one incremental
// update, the pages it concerned and a sentence for people. The web page, the
// command line, a replay and a preview all run the same steps.
//
// It knows documents and pages; what a step does is for the jobs, who stores it
// for the desk.
package step

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"math/rand/v2"
	"runtime/debug"
	"time"

	"glenrain/core/claim"
	"glenrain/core/pdf"
)

// Step is a change with its parameters: a pointer to a struct whose fields are
// the parameters (see Describe).
type Step interface {
	// Apply changes doc, which is a fork of its own, and tells what it did. It
	// takes time and chance from env only. A refusal that a person reads is a *Refusal.
	Apply(ctx context.Context, doc *pdf.Document, env *Env) (*Result, error)
}

// Result is what a step did.
type Result struct {
	Pages    []Key        // the pages concerned; empty with All
	All      bool         // every page is concerned
	Redrawn  Redrawn      // whose pictures change
	Moved    bool         // pages came, went or changed places
	Named    bool         // what pages are called changed, or the bookmarks that lead to them
	Sentence string       // for people, in the past tense: "Page 11 rotated right"
	Warnings []string     // sentences on what fell away or needs a look
	Created  []pdf.Ref    // page objects it made, in the order of their keys
	Adds     claim.Effect // what it brought in that a standard which the document says it follows may not allow
	// Whole: what it did can't be appended; the document is written anew, with the same object numbers, as a new base.
	Whole bool
	// What came of it, set by the runner: one incremental update, or with Whole the writer of the new base.
	Update  []byte
	NewBase func(context.Context, io.Writer) error
	// Show is the page that the view should go to afterwards.
	Show Key
}

// Redrawn says which pages look different after a step.
type Redrawn int

// No page, the pages concerned, or all of them.
const (
	RedrawNone Redrawn = iota
	RedrawPages
	RedrawAll
)

// Env is all that a step may know besides its parameters and the document.
type Env struct {
	Now     time.Time
	Name    string   // of the document, as its file is called, without the ending
	Seed    [16]byte // the step's own chance
	Step    int      // the step's number in the trail, part of the keys of pages it makes
	Keys    *Keys
	Sources Sources
	// Only, where set, is the one page a preview will show: a step may leave out
	// work on other pages that this page does not show.
	Only pdf.Ref
	// Files and Progress are for steps with long work (Worker); without Files what they make is not kept.
	Files    Files
	Progress func(done, total int)
	// Enough, where set, is asked between the parts of long work: when it says so, what is done by then is kept and the rest is left.
	Enough func() bool
	// Draw draws pages for work that looks at them. Remember knows parts of work that was done before and broken off.
	Draw     Drawer
	Remember Memory
	// Knows reports whether the house has learned a word; nil where there is no house.
	Knows func(word string) bool

	rand *rand.ChaCha8
}

// Drawer draws pages of a document.
type Drawer interface {
	// Draw gives page (0 is the first) as it is seen, upright, at dpi pixels an inch.
	Draw(ctx context.Context, doc *pdf.Document, page int, dpi float64) (*image.RGBA, error)
}

// Memory keeps parts of long work by what they were made of, so that work which was broken off goes on where it was. It may forget.
type Memory interface {
	Recall(of [sha256.Size]byte) ([]byte, bool)
	Store(of [sha256.Size]byte, data []byte)
}

// Stopped reports whether no more parts of the work are to be begun.
func (e *Env) Stopped() bool { return e.Enough != nil && e.Enough() }

// Wants reports whether work on that page is asked for.
func (e *Env) Wants(page pdf.Ref) bool { return e.Only.IsZero() || e.Only == page }

// Report tells how far long work is.
func (e *Env) Report(done, total int) {
	if e.Progress != nil {
		e.Progress(done, total)
	}
}

// NewID gives 128 bits of the step's own chance; a replay gives the same ones.
func (e *Env) NewID() (id [16]byte) {
	if e.rand == nil {
		e.rand = rand.NewChaCha8(sha256.Sum256(e.Seed[:]))
	}
	binary.BigEndian.PutUint64(id[:], e.rand.Uint64())
	binary.BigEndian.PutUint64(id[8:], e.rand.Uint64())
	return
}

// Refusal is a step that can't be done as asked, in a sentence.
type Refusal struct {
	Sentence string
	Cause    error // what lies behind it, where that is an error of its own
}

func (r *Refusal) Error() string { return r.Sentence }
func (r *Refusal) Unwrap() error { return r.Cause }

// Refuse makes a Refusal; an error among args becomes its cause.
func Refuse(format string, args ...any) error {
	r := &Refusal{Sentence: fmt.Sprintf(format, args...)}
	for _, a := range args {
		if err, ok := a.(error); ok {
			r.Cause = err
		}
	}
	return r
}

// ErrPanic: a step stopped by a fault in the program; the document is as it was.
var ErrPanic = errors.New("the step failed because of a fault in the program; the document is as it was")

// Hook is called after a step moved, redrew or named pages, before its update is written.
// It gives warnings.
type Hook func(doc *pdf.Document, env *Env, r *Result) ([]string, error)

// Run applies s to a fork of doc. It gives the changed fork, whose overlay is what
// Result.Update or Result.NewBase writes. doc stays as it was, whatever happens.
func (g *Registry) Run(ctx context.Context, doc *pdf.Document, s Step, env *Env) (_ *pdf.Document, res *Result, err error) {
	var fork *pdf.Document
	defer func() {
		if p := recover(); p != nil {
			if fork != nil && fork.Over() != nil { // what it reads was taken away from it
				res, err = nil, fork.Over()
				return
			}
			res, err = nil, fmt.Errorf("%w: %v\n%s", ErrPanic, p, debug.Stack())
		}
	}()
	if w, ok := s.(Worker); ok {
		if err := w.Work(ctx, doc.In(ctx), env); err != nil {
			return nil, nil, err
		}
	}
	fork = doc.ForkIn(ctx)
	res, err = s.Apply(ctx, fork, env)
	if over := fork.Over(); over != nil {
		return nil, nil, over
	}
	if err != nil {
		return nil, nil, err
	}
	if res.Moved || res.Named || res.Redrawn != RedrawNone {
		for _, h := range g.hooks {
			warnings, err := h(fork, env, res)
			if err != nil {
				return nil, nil, err
			}
			res.Warnings = append(res.Warnings, warnings...)
		}
	}
	res.Warnings = append(res.Warnings, claim.Told(claim.Settle(fork, res.Adds))...)
	if pages, err := fork.Pages(); err != nil || len(pages) == 0 {
		return nil, nil, fmt.Errorf("after the step: %w", cmp.Or(err, pdf.ErrNoPages))
	}
	if over := fork.Over(); over != nil {
		return nil, nil, over
	}
	if id := env.NewID(); res.Whole {
		res.NewBase = func(ctx context.Context, w io.Writer) error {
			return fork.WriteFull(ctx, w, pdf.FullOptions{KeepNumbers: true, ID: id})
		}
	} else if res.Update, err = fork.Update(id); err != nil {
		return nil, nil, err
	}
	return fork, res, nil
}
