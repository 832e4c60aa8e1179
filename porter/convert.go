package porter

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"glenrain/core/arrange"
	"glenrain/core/convert"
	"glenrain/core/convert/mail"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/typeset"
)

// Conversion is a file of another kind than PDF that is to be turned into pages.
type Conversion struct {
	Path     string
	Size     int64
	Name     string
	Kind     convert.Kind
	Options  convert.Options
	Attached bool // what is attached to a mail is asked for instead of its pages
}

// Converted is what came of it.
type Converted struct {
	Told     []string // what was left out or changed
	Encoding string   // how its text was read
}

// converted is what a child sends last, behind the sheets, in their parts, and their files one by one.
type converted struct {
	Converted
	Sizes [][2]float64
}

// named is a file that is sent with its name.
type named struct {
	Name string
	File typeset.File
}

// NotConverted is a file that can't be turned into pages, in a sentence without capital and full stop.
type NotConverted struct {
	Sentence string
	Cause    error
}

func (n *NotConverted) Error() string { return n.Sentence }
func (n *NotConverted) Unwrap() error { return n.Cause }

// convertCPU is how much processor time a conversion may take besides what its size gives it.
const convertCPU = 40 * time.Second

// Convert turns a file into pages: a child reads it into a sheet, which is set and written to w as a PDF. An error that the file is to
// blame for is a *NotConverted or *Stopped; typeset.ErrAbsent says that the program that sets sheets is not there.
func Convert(ctx context.Context, in Conversion, w io.Writer) (*Converted, error) {
	if err := typeset.Here(); err != nil {
		return nil, &NotConverted{Sentence: err.Error(), Cause: err}
	}
	var out *Converted
	var sheets []typeset.Sheet
	var files map[string]typeset.File
	begin := func() { out, sheets, files = nil, nil, map[string]typeset.File{} }
	err := ask(ctx, question{Conversion: &in}, convertCPU+cpuFor(in.Size), begin, func(a answer) error {
		if a.Part != nil {
			sheets = append(sheets, typeset.Sheet{HTML: a.Part.HTML, Long: a.Part.Long, Files: files})
		}
		if a.Rows != nil && len(sheets) > 0 && sheets[len(sheets)-1].Long != nil {
			l := sheets[len(sheets)-1].Long
			l.Rows = append(l.Rows, a.Rows...)
		}
		if a.Sheet != nil {
			out = &a.Sheet.Converted
			for i := range sheets {
				sheets[i].Sizes = a.Sheet.Sizes
			}
		}
		if a.File != nil {
			files[a.File.Name] = a.File.File
		}
		if a.Refused != "" {
			return &NotConverted{Sentence: a.Refused}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if out == nil {
		return nil, errors.New("a file was converted without a result")
	}
	if len(sheets) == 1 && sheets[0].Long == nil {
		err = typeset.Set(ctx, sheets[0], typeset.Limits{}, w)
	} else {
		err = join(ctx, sheets, w)
	}
	for _, own := range []error{typeset.ErrTime, typeset.ErrMemory, typeset.ErrFailed} {
		if errors.Is(err, own) {
			return nil, &NotConverted{Sentence: own.Error(), Cause: err}
		}
	}
	if err != nil {
		return nil, err
	}
	return out, nil
}

// wrapped is the title under which the bookmarks of a run come, and from which they are taken again.
const wrapped = "\x01run"

// join sets sheets one after another, long ones in runs, and writes them as one PDF: with the tags, bookmarks and links of each.
func join(ctx context.Context, sheets []typeset.Sheet, w io.Writer) error {
	dir, err := os.MkdirTemp("", "glenrain-join-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	doc := pdf.New()
	var open opened
	defer open.close()
	first := 1
	n := 0
	for _, s := range sheets {
		first, err = typeset.SetLong(ctx, s, typeset.Limits{}, first, func(r typeset.Run) error {
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

// Attachments gives what is attached to a mail, one by one.
func Attachments(ctx context.Context, in Conversion, put func(name string, data []byte) error) error {
	in.Attached = true
	var all []named
	err := ask(ctx, question{Conversion: &in}, convertCPU+cpuFor(in.Size), func() { all = nil }, func(a answer) error {
		if a.File != nil {
			all = append(all, *a.File)
		}
		if a.Refused != "" {
			return &NotConverted{Sentence: a.Refused}
		}
		return nil
	})
	for _, f := range all {
		if err == nil {
			err = put(f.Name, f.File.Data)
		}
	}
	return err
}

// convert answers in the child.
func (s *server) convert(c Conversion) error {
	f, err := os.Open(c.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	ctx := context.Background()
	refused := func(err error) error { return s.enc.Encode(answer{Refused: err.Error(), End: true}) }
	if c.Attached {
		files, err := mail.Attachments(ctx, f)
		if err != nil {
			return refused(err)
		}
		for _, a := range files {
			if err := s.enc.Encode(answer{File: &named{a.Name, typeset.File{Data: a.Data}}}); err != nil {
				return err
			}
		}
		return s.enc.Encode(answer{End: true})
	}
	r, err := read(ctx, c, f)
	var refusal *convert.Refusal
	if errors.As(err, &refusal) {
		return refused(refusal)
	}
	if err != nil {
		return err
	}
	for name, file := range r.Sheets[0].Files {
		if err := s.enc.Encode(answer{File: &named{name, file}}); err != nil {
			return err
		}
	}
	for _, sheet := range r.Sheets {
		p := &part{HTML: sheet.HTML}
		if sheet.Long != nil {
			p.Long = &typeset.Long{Before: sheet.Long.Before, After: sheet.Long.After}
		}
		if err := s.enc.Encode(answer{Part: p}); err != nil {
			return err
		}
		if sheet.Long == nil {
			continue
		}
		for rows := range slices.Chunk(sheet.Long.Rows, 2000) {
			if err := s.enc.Encode(answer{Rows: rows}); err != nil {
				return err
			}
		}
	}
	return s.enc.Encode(answer{Sheet: &converted{Converted{r.Told, r.Encoding}, r.Sheets[0].Sizes}, End: true})
}

// part is a sheet without its files, and without its rows where it is long.
type part struct {
	HTML []byte
	Long *typeset.Long
}

// read reads a file; a fault in a reader is the file's.
func read(ctx context.Context, c Conversion, f *os.File) (r *convert.Result, err error) {
	defer func() {
		if p := recover(); p != nil {
			fmt.Fprintf(os.Stderr, "a file was not converted: %v\n", p)
			r, err = nil, &convert.Refusal{Sentence: "it is made in a way that is not known here, and can't be turned into pages"}
		}
	}()
	return convert.Read(ctx, c.Kind, c.Name, f, c.Size, c.Options)
}
