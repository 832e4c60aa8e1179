// Package porter reads what comes from outside in a child process under limits of memory, time and processor: it opens and
// verifies a file that arrives, walks its trees, looks for findings and reads the text of its pages, which is all that the house
// will later do with it by itself. Texts of documents in the house are read by it too. What it finds comes back as data; a
// fault in our reader, or a file made to find one, costs one child.
package porter

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"syscall"
	"time"

	"glenrain/core/child"
	"glenrain/core/draw"
	"glenrain/core/finding"
	"glenrain/core/pdf"
	"glenrain/core/raster"
)

// Arrival is a file that arrives.
type Arrival struct {
	Path     string
	Size     int64
	Password string
	Working  string // the file that a working copy is written to, where one is needed
}

// Problem says why a file does not come in.
type Problem string

// The problems there are.
const (
	NeedsPassword Problem = "password" // it is locked
	NeedsOwner    Problem = "owner"    // it is open, but must not be changed
	NeedsFiles    Problem = "files"    // what is attached to it is locked
	Damaged       Problem = "damaged"  // as far as our reader understands it
	Refused       Problem = "refused"
)

// Report is what the porter found out about a file.
type Report struct {
	Problem  Problem
	Sentence string // of a problem; without a capital and a full stop

	Picture string   // the kind of the picture that it is: "PNG"
	Working bool     // a working copy was written, on which the document stands
	Wrong   []string // what was wrong with the file
	Locked  bool
	Kept    *pdf.Kept // what it takes to lock it again; nil where that is not known
	Pages   int
	Found   []finding.Finding
	About   *finding.About
	Unread  int    // pages whose text took too long to read
	Partial bool   // not all of the texts are here: reading them took too long
	Texts   []Text // in the order of the pages
}

// Text is a page's text as it is kept for searching.
type Text struct {
	Reading   string // a layout.Reading's
	Annotated string // the parts of it that stand in annotations, as a JSON array of from and to in bytes
	Look      finding.PageLook
}

// Reading asks for the texts of pages of a document: of a base with its updates.
type Reading struct {
	Parts   []raster.Part
	Pages   []pdf.Ref
	Workers int                  // 0 for one a core
	Low     bool                 // at low priority: nobody waits for it
	About   func(*finding.About) // where it is asked for, what the document is made of
}

type question struct {
	Conversion *Conversion
	Packed     *Packed
	Arrival    *Arrival
	Reading    *reading
	Pictures   *Pictures
	Seconds    float64 // how long texts may be read
	Limits     child.Limits
}

// reading is a Reading as it is sent.
type reading struct {
	Parts   []raster.Part
	Pages   []pdf.Ref
	Workers int
	Low     bool
	About   bool
}

type answer struct {
	Sheet   *Converted
	Member  *Member
	Turn    bool   // it waits until it may set something as pages
	Over    bool   // that is done
	Refused string // why a file is not converted, or unpacked
	Report  *Report
	About   *finding.About
	Texts   []Text
	End     bool
	Unread  int
	Done    int // pictures that were placed
	Error   string
	Full    bool // since the disk is
}

// limits of one child.
type limits struct {
	memory, heap int64
	cpu          time.Duration
	wall         time.Duration // in which it has to answer, while it is at work
}

const (
	memory = 400 << 20
	heap   = 200 << 20
	// base is how much processor time any file may take, perBytes for how many bytes of it a second more. A picture has pictureCPU, whatever its size: what
	// it says of its pixels may be made up.
	base       = 5 * time.Second
	perBytes   = 4 << 20
	pictureCPU = 60 * time.Second
)

// usual are the limits of what takes so much processor time.
func usual(cpu time.Duration) limits { return limits{memory, heap, cpu, 4 * cpu} } // others may need the processor

// errStopped: a child was stopped, or stopped by itself.
var errStopped = errors.New("reading stopped")

// Stopped is a file that stopped the child that read it.
type Stopped struct{ Sentence string }

func (s *Stopped) Error() string { return s.Sentence }
func (s *Stopped) Unwrap() error { return errStopped }

func stopped(err error) error {
	switch {
	case errors.Is(err, child.ErrTime):
		return &Stopped{"reading it took too long, so it was stopped"}
	case errors.Is(err, child.ErrMemory), errors.Is(err, child.ErrCrowded):
		return &Stopped{"reading it took too much memory, so it was stopped"}
	case errors.Is(err, child.ErrEnded):
		return &Stopped{"reading it was stopped from outside, several times"}
	case errors.Is(err, child.ErrDead):
		return &Stopped{"reading it failed because of a fault: the file is damaged in an unknown way"}
	}
	return err
}

// cpuFor is how much processor time a file of a size may take.
func cpuFor(size int64) time.Duration {
	return base + time.Duration(size)*time.Second/perBytes
}

// turns lets a few files be read at a time, and some more for those who have none being read.
var turns = child.NewTurns(2, 2)

// ask starts a child for one question and gives what it answers to put, until the end; begin is called before each
// try, whose answers begin anew.
func ask(ctx context.Context, q question, l limits, begin func(), put func(answer) error) error {
	for try := 0; ; try++ {
		begin()
		err := askOnce(ctx, q, l, func(_ *asked, a answer) error { return put(a) })
		if ctx.Err() == nil && child.Again(err, try) {
			continue
		}
		return stopped(err)
	}
}

// waiting is a child that was started ahead, for whoever asks next: starting one takes longer than reading a letter.
var waiting = make(chan *child.Process, 1)

// next gives a child that was asked nothing yet.
func next() (*child.Process, error) {
	select {
	case c := <-waiting:
		return c, nil
	default:
		return child.StartAhead("porter", child.Limits{})
	}
}

// busy is how many are asked now.
var busy atomic.Int64

// Ahead starts a child for the next one who asks, where none waits, and none reads: it is not to take memory beside one that needs much.
func Ahead() {
	if len(waiting) > 0 || busy.Load() > 0 {
		return
	}
	c, err := child.StartAhead("porter", child.Limits{})
	if err != nil { // whoever asks next is told
		return
	}
	select {
	case waiting <- c:
	default:
		c.Kill()
	}
}

// asked is a child with its question.
type asked struct {
	*child.Process
	left time.Duration // in which it has to answer
	done func()        // gives back the turn to read that it has
}

// word is what a child is told while it answers: that it may go on.
type word struct{}

func askOnce(ctx context.Context, q question, l limits, put func(*asked, answer) error) error {
	done, err := turns.Take(ctx)
	if err != nil {
		return err
	}
	c, err := next()
	if err != nil {
		done()
		return fmt.Errorf("starting to read a file: %w", err)
	}
	q.Limits = child.Limits{Memory: l.memory, CPU: 2 * l.cpu, Ask: l.cpu, Heap: l.heap}
	c.Limit(q.Limits)
	k := &asked{c, l.wall, done}
	busy.Add(1)
	defer func() {
		busy.Add(-1)
		go Ahead()
	}()
	defer func() { k.done() }()
	defer c.Kill()
	if err := c.Send(q); err != nil {
		return err
	}
	for {
		var a answer
		begun := time.Now()
		if err := c.Receive(ctx, &a, k.left); err != nil {
			return err
		}
		k.left -= time.Since(begun)
		if a.Full {
			return fmt.Errorf("%s: %w", a.Error, syscall.ENOSPC)
		}
		if a.Error != "" {
			return errors.New(a.Error)
		}
		if err := put(k, a); err != nil || a.End {
			return err
		}
	}
}

// isPicture reports whether a file begins like a picture.
func isPicture(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	return draw.IsPicture(f)
}

// readCPU is how much processor time a file of a size may take that is read here.
func readCPU(path string, size int64) time.Duration {
	if isPicture(path) {
		return pictureCPU
	}
	return cpuFor(size)
}

// Arrive reads a file that arrives. An error is *Stopped, or none of the file's.
func Arrive(ctx context.Context, in Arrival) (*Report, error) {
	var r *Report
	cpu := readCPU(in.Path, in.Size)
	err := ask(ctx, question{Arrival: &in, Seconds: (cpu / 2).Seconds()}, usual(cpu), func() { r = nil }, func(a answer) error {
		if a.Report != nil {
			r = a.Report
		}
		if r != nil {
			r.Texts = append(r.Texts, a.Texts...)
			r.Unread += a.Unread
			r.Partial = a.End && len(r.Texts) < r.Pages
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if r == nil {
		return nil, errors.New("a file was read without a report")
	}
	return r, nil
}

// Read reads texts, in the order of the pages; put gets some at a time. An error is *Stopped, that of put, or none of the document's.
func Read(ctx context.Context, in Reading, put func([]Text) error) error {
	var size int64
	for _, p := range in.Parts {
		size += max(p.Size, int64(len(p.Data)))
	}
	cpu := cpuFor(size) + time.Duration(len(in.Pages))*pageCPU
	got, at := 0, 0 // how many were given to put, and how many came in this try
	q := question{Reading: &reading{in.Parts, in.Pages, in.Workers, in.Low, in.About != nil}, Seconds: (4 * cpu).Seconds()}
	err := ask(ctx, q, usual(cpu), func() { at = 0 }, func(a answer) error {
		if a.About != nil && in.About != nil {
			in.About(a.About)
		}
		fresh := a.Texts[min(len(a.Texts), max(0, got-at)):]
		at += len(a.Texts)
		if len(fresh) == 0 {
			return nil
		}
		got += len(fresh)
		return put(fresh)
	})
	if err == nil && got < len(in.Pages) {
		return &Stopped{"reading its text took too long and was stopped"}
	}
	return err
}

// pageCPU is how much processor time a page more may take where texts are read.
const pageCPU = 20 * time.Millisecond
