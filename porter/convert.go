package porter

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"glenrain/core/convert"
	"glenrain/core/convert/mail"
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

// converted is what a child sends: the sheet, and its files one by one.
type converted struct {
	Converted
	HTML  []byte
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
	sheet := typeset.Sheet{}
	begin := func() { out, sheet = nil, typeset.Sheet{Files: map[string]typeset.File{}} }
	err := ask(ctx, question{Conversion: &in}, convertCPU+cpuFor(in.Size), begin, func(a answer) error {
		if a.Sheet != nil {
			out, sheet.HTML, sheet.Sizes = &a.Sheet.Converted, a.Sheet.HTML, a.Sheet.Sizes
		}
		if a.File != nil {
			sheet.Files[a.File.Name] = a.File.File
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
	if err := typeset.Set(ctx, sheet, typeset.Limits{}, w); err != nil {
		if errors.Is(err, typeset.ErrTime) || errors.Is(err, typeset.ErrMemory) {
			return nil, &NotConverted{Sentence: err.Error(), Cause: err}
		}
		return nil, err
	}
	return out, nil
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
	for name, file := range r.Sheet.Files {
		if err := s.enc.Encode(answer{File: &named{name, file}}); err != nil {
			return err
		}
	}
	return s.enc.Encode(answer{Sheet: &converted{Converted{r.Told, r.Encoding}, r.Sheet.HTML, r.Sheet.Sizes}, End: true})
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
