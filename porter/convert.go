package porter

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"glenrain/core/arrange"
	"glenrain/core/child"
	"glenrain/core/intake"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/typeset"
)

// Conversion is a file of another kind than PDF that is to be turned into pages.
type Conversion struct {
	Path    string
	Size    int64
	Name    string
	Kind    intake.Kind
	Options intake.Options
	Folder  string // in which a folder for its work is made, and removed; the system's own for such if empty
	Out     string // the file that the PDF is written to
}

// Converted is what came of it.
type Converted struct {
	Told     []string // what was left out or changed
	Encoding string   // how its text was read
}

// NotConverted is a file that can't be turned into pages, in a sentence without capital and full stop.
type NotConverted struct {
	Sentence string
	Cause    error
}

func (n *NotConverted) Error() string { return n.Sentence }
func (n *NotConverted) Unwrap() error { return n.Cause }

// Limits of a conversion: what a child may take besides what the file's size gives it, and how long its file may be set as pages, all runs together.
const (
	convertCPU    = 40 * time.Second
	convertMemory = 640 << 20
	convertHeap   = 320 << 20
	mostSetting   = 3 * time.Minute
)

// setting lets one sheet a core be set at a time, and one more for whoever has none being set: a short note does not wait behind somebody's long tables.
var setting = child.NewTurns(max(1, runtime.NumCPU()), 1)

var errSetting = errors.New("turning it into pages took longer than 3 minutes and was stopped")

// Convert turns a file into pages: a child reads it into sheets, has them set one after another, in turns with those of others, and writes the PDF. An error
// that the file is to blame for is a *NotConverted or *Stopped; typeset.ErrAbsent says that the program that sets sheets is not there.
func Convert(ctx context.Context, in Conversion) (*Converted, error) {
	if err := typeset.Here(); err != nil {
		return nil, &NotConverted{Sentence: err.Error(), Cause: err}
	}
	work, err := os.MkdirTemp(in.Folder, "set-")
	if err != nil {
		return nil, err
	}
	defer removeAll(work) // what was stopped leaves something
	in.Folder = work
	cpu := convertCPU + cpuFor(in.Size)
	var out *Converted
	var over func() // the turn to set that it has
	var since time.Time
	left := mostSetting
	end := func() {
		if over != nil {
			over()
			over, left = nil, left-time.Since(since)
		}
	}
	defer func() { end() }()
	answers := func(k *asked, a answer) error {
		switch {
		case a.Refused != "":
			return &NotConverted{Sentence: a.Refused}
		case a.Sheet != nil:
			out = a.Sheet
		case a.Over:
			end()
		case a.Turn:
			k.done() // it is read
			if left <= 0 {
				return &NotConverted{Sentence: errSetting.Error(), Cause: errSetting}
			}
			var err error
			if over, err = setting.Take(ctx); err != nil {
				return err
			}
			since = time.Now()
			k.left = min(left, typeset.Usual.Time) + 4*cpu
			return k.Send(word{})
		}
		return nil
	}
	for try := 0; ; try++ {
		err = askOnce(ctx, question{Conversion: &in}, limits{convertMemory, convertHeap, cpu, 4 * cpu}, answers)
		end()
		if ctx.Err() != nil || !child.Again(err, try) {
			break
		}
	}
	if err != nil {
		return nil, stopped(err)
	}
	if out == nil {
		return nil, errors.New("a file was converted without a result")
	}
	return out, nil
}

// removeAll removes a folder, and stops processes that still work in it: those of the program that sets sheets outlive a child that was killed by a moment, and
// create folders again that are gone.
func removeAll(dir string) {
	for range 500 {
		left := stopBelow(dir)
		if err := os.RemoveAll(dir); err == nil && !left {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// stopBelow kills the processes whose working directory is a folder or one in it, and reports whether there were any.
func stopBelow(dir string) (any bool) {
	if real, err := filepath.EvalSymlinks(filepath.Dir(dir)); err == nil {
		dir = filepath.Join(real, filepath.Base(dir))
	}
	if whole, err := filepath.Abs(dir); err == nil {
		dir = whole
	}
	list, _ := filepath.Glob("/proc/[0-9]*/cwd")
	for _, link := range list {
		cwd, err := os.Readlink(link) // one that was removed ends in " (deleted)" (proc(5))
		if err != nil || cwd != dir && !strings.HasPrefix(cwd, dir+"/") && cwd != dir+" (deleted)" {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(link))); err == nil && pid != os.Getpid() {
			any = syscall.Kill(pid, syscall.SIGKILL) == nil || any
		}
	}
	return any
}

// convert answers in the child.
func (s *server) convert(c Conversion) error {
	f, err := os.Open(c.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := os.Setenv("TMPDIR", c.Folder); err != nil { // of this process, and of the one that sets sheets
		return err
	}
	ctx := context.Background()
	refused := func(err error) error { return s.enc.Encode(answer{Refused: err.Error(), End: true}) }
	r, err := read(ctx, c, f)
	var refusal *intake.Refusal
	if errors.As(err, &refusal) {
		return refused(refusal)
	}
	if err != nil {
		return err
	}
	out, err := os.OpenFile(c.Out, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	err = s.set(ctx, r.Sheets, out)
	if cerr := out.Close(); err == nil {
		err = cerr
	}
	for _, own := range []error{typeset.ErrTime, typeset.ErrMemory, typeset.ErrFailed} {
		if errors.Is(err, own) {
			fmt.Fprintf(os.Stderr, "a sheet was not set: %v\n", err)
			return refused(own)
		}
	}
	if err != nil {
		return err
	}
	return s.enc.Encode(answer{Sheet: &Converted{r.Told, r.Encoding}, End: true})
}

// turn waits for a turn to set something; over gives it back.
func (s *server) turn() (over func() error, err error) {
	if err := s.wait(answer{Turn: true}); err != nil {
		return nil, err
	}
	return func() error { return s.enc.Encode(answer{Over: true}) }, nil
}

// set sets sheets, and writes them as one PDF.
func (s *server) set(ctx context.Context, sheets []typeset.Sheet, w io.Writer) error {
	if len(sheets) != 1 || sheets[0].Long != nil {
		return s.join(ctx, sheets, w)
	}
	over, err := s.turn()
	if err != nil {
		return err
	}
	return errors.Join(typeset.Set(ctx, sheets[0], typeset.Limits{}, w), over())
}

// wrapped is the title under which the bookmarks of a run come, and from which they are taken again.
const wrapped = "\x01run"

// join sets sheets one after another, long ones in runs, and writes them as one PDF: with the tags, bookmarks and links of each.
func (s *server) join(ctx context.Context, sheets []typeset.Sheet, w io.Writer) error {
	child.Lower() // it takes long
	dir, err := os.MkdirTemp("", "join-")
	if err != nil {
		return err
	}
	doc := pdf.New()
	var open opened
	defer open.close()
	first := 1
	n := 0
	setter := typeset.NewSetter(typeset.Limits{})
	defer setter.Close()
	for _, sheet := range sheets {
		first, err = setter.SetLong(ctx, sheet, first, s.turn, func(r typeset.Run) error {
			n++
			path := filepath.Join(dir, fmt.Sprint(n))
			if err := os.Rename(r.Path, path); err != nil {
				return err
			}
			in := arrange.Insert{From: step.SourceRef(path), Name: wrapped, Pages: step.Pages{Rule: fmt.Sprintf("1-%d", r.Pages)}}
			_, err := in.Apply(ctx, doc, &step.Env{Now: time.Now(), Step: n, Sources: &open})
			return err
		})
		if err != nil {
			return err
		}
	}
	if len(open.files) == 0 {
		return typeset.ErrFailed
	}
	nav.Unwrap(doc, wrapped)
	like := open.first
	doc.Edit(doc.Root()).Set("Lang", like.Resolve(like.Catalog().Get("Lang")))
	if title := like.Resolve(like.Dict(like.Trailer().Get("Info")).Get("Title")); title != nil {
		doc.Trailer().Set("Info", doc.Add(pdf.NewDict("Title", title, "Creator", pdf.String("Glenrain"), "CreationDate", pdf.DateString(time.Now()))))
	}
	return doc.WriteFull(ctx, w, pdf.FullOptions{Once: true})
}

// opened are the runs that were joined, which stay open until they are written.
type opened struct {
	files []*os.File
	first *pdf.Document
}

// Open opens a run (step.Sources).
func (o *opened) Open(_ context.Context, ref step.SourceRef) (*step.Source, error) {
	f, err := os.Open(string(ref))
	if err != nil {
		return nil, err
	}
	o.files = append(o.files, f)
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	doc, err := pdf.Open(f, st.Size())
	if err != nil {
		return nil, err
	}
	if o.first == nil {
		o.first = doc // the others are not kept: what was copied of them names their files alone
	}
	return &step.Source{Name: wrapped, Data: f, Size: st.Size(), Doc: doc}, nil
}

func (o *opened) close() {
	for _, f := range o.files {
		_ = f.Close()
	}
}

// read reads a file; a fault in a reader is the file's.
func read(ctx context.Context, c Conversion, f *os.File) (r *intake.Result, err error) {
	defer func() {
		if p := recover(); p != nil {
			fmt.Fprintf(os.Stderr, "a file was not converted: %v\n", p)
			r, err = nil, &intake.Refusal{Sentence: "its format is unknown here, so it can’t be turned into pages"}
		}
	}()
	return intake.Read(ctx, c.Kind, c.Name, f, c.Size, c.Options)
}
