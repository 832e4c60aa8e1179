// Package intake reads files of other kinds than PDF and pictures - letters, workbooks, notes, listings, mail - into sheets, which
// typeset makes pages of. The table of kinds (kinds.go) tells how each is known, how large it may be, what may be said about it and how it is read. What can't be
// shown is left out and told; nothing is fetched from elsewhere, no macro and no script is run.
package intake

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"golang.org/x/net/html/charset"

	"glenrain/core/intake/encoded"
	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
	"glenrain/core/intake/table"
	"glenrain/core/pdf"
	"glenrain/core/typeset"
)

// Options are what a person may say about how a file is turned into pages. The zero value lets the file say, and where it does not, what is usual.
type Options struct {
	Encoding  string `json:"encoding,omitempty"` // of text: utf-8, utf-16le, utf-16be, windows-1252
	Paper     string `json:"paper,omitempty"`    // one of pdf.Papers
	Landscape bool   `json:"landscape,omitempty"`
	Numbers   bool   `json:"numbers,omitempty"`   // lines of listings are numbered
	Plain     bool   `json:"plain,omitempty"`     // listings without colours
	Separator string `json:"separator,omitempty"` // of CSV
	Fit       string `json:"fit,omitempty"`       // of sheets: width, spread
	Fonts     string `json:"-"`                   // a folder with faces of the office's own
}

// Check refuses options that there are not.
func (o Options) Check() error {
	if _, ok := pdf.Papers[o.Paper]; o.Paper != "" && !ok {
		return fmt.Errorf("there is no paper size %q: use A3, A4, A5, A6, Letter or Legal", o.Paper)
	}
	if !encoded.Known(o.Encoding) {
		return fmt.Errorf("there is no encoding %q", o.Encoding)
	}
	if o.Fit != "" && o.Fit != "width" && o.Fit != "spread" {
		return fmt.Errorf("sheets can be fitted to the width or spread, not %q", o.Fit)
	}
	if len([]rune(o.Separator)) > 1 {
		return errors.New("the separator must be one character")
	}
	return nil
}

// paper is what the person says, or the usual one.
func (o Options) paper() (p page.Paper, forced bool) {
	p = page.A4
	if size, ok := pdf.Papers[o.Paper]; ok {
		p.Width, p.Height, forced = size[0], size[1], true
	}
	if o.Landscape {
		p.Width, p.Height, forced = p.Height, p.Width, true
	}
	return p, forced
}

// Refusal is a file that can't be turned into pages, in a sentence without capital and full stop.
type Refusal struct {
	Sentence string
	Cause    error
}

func (r *Refusal) Error() string { return r.Sentence }
func (r *Refusal) Unwrap() error { return r.Cause }

// Result is what a file became.
type Result struct {
	Sheets   []typeset.Sheet // one after another; their files are the same
	Told     []string        // what was left out or changed, as sentences
	Encoding string          // how its text was read; "" where the file itself says so
}

// Read reads a file of a kind. An error that is a *Refusal is the file's.
func Read(ctx context.Context, kind Kind, name string, r io.ReaderAt, size int64, o Options) (*Result, error) {
	if err := o.Check(); err != nil {
		return nil, &Refusal{Sentence: err.Error()}
	}
	as := kind.format()
	if size > as.most {
		return nil, &Refusal{Sentence: fmt.Sprintf("it is over %d MB, the most that can be turned into pages for %s", as.most>>20, as.title)}
	}
	if as.read == nil {
		return nil, &Refusal{Sentence: strings.ReplaceAll(as.refuses, "%s", ending(name))}
	}
	s := page.New(page.ReadOwn(o.Fonts))
	in := &reading{sheet: s, name: path.Base(name), r: io.NewSectionReader(r, 0, size), options: o}
	in.paper, in.forced = o.paper()
	err := as.read(ctx, in)
	if err == nil && s.Over() {
		err = errors.New("it has too much content to turn into pages at once")
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &Refusal{Sentence: sentence(err), Cause: err}
	}
	if s.Title == "" {
		s.Title = strings.TrimSuffix(path.Base(name), path.Ext(name))
	}
	out := &Result{Sheets: s.End(), Told: s.Told, Encoding: in.encoding}
	if n := typeset.Runs(out.Sheets); n > typeset.MaxRuns {
		return nil, &Refusal{Sentence: fmt.Sprintf("it is too wide or too long (over %d parts): leave out columns or rows, or print it in parts from the program that wrote it", typeset.MaxRuns)}
	}
	return out, nil
}

func ending(name string) string {
	ext := strings.TrimPrefix(strings.ToLower(path.Ext(name)), ".")
	if ext == "" || len(ext) > 6 {
		return ""
	}
	return " (" + ext + ")"
}

// sentence keeps what libraries say out of what people read.
func sentence(err error) string {
	for _, own := range []error{pack.ErrTooMuch, pack.ErrTooDeep, pack.ErrTooMany, pack.ErrLocked, pack.ErrDamaged} {
		if errors.Is(err, own) {
			return own.Error()
		}
	}
	return err.Error()
}

// reading is a file that is being read.
type reading struct {
	sheet    *page.Sheet
	name     string // without folders
	r        *io.SectionReader
	options  Options
	paper    page.Paper
	forced   bool                     // paper is what the person wants, whatever the file says
	declares func(data []byte) string // the encoding that a text of this kind says it has; may be nil
	encoding string                   // how its text was read
}

// text is all of a file that is text.
func (in *reading) text() (string, error) {
	data, err := io.ReadAll(in.r)
	if err != nil {
		return "", err
	}
	as := in.options.Encoding
	if as == "" && in.declares != nil {
		as = in.declares(data)
	}
	text, used := encoded.Decode(data, as)
	in.encoding = used
	return text, nil
}

// separator is what the person says of a table of values; 0 for nothing.
func (in *reading) separator() rune {
	for _, r := range in.options.Separator {
		return r
	}
	return 0
}

// tables writes the sheets of a workbook, fitted as the person wants them.
func (in *reading) tables(ctx context.Context, sheets []table.Sheet, err error) error {
	if err != nil {
		return err
	}
	for i := range sheets {
		switch in.options.Fit {
		case "width":
			sheets[i].Fit = table.ToWidth
		case "spread":
			sheets[i].Fit = table.Spread
		}
	}
	return table.Write(ctx, in.sheet, sheets)
}

// declared gives the encoding that a page in HTML declares; "" for none.
func declared(data []byte) string {
	_, name, sure := charset.DetermineEncoding(data[:min(len(data), 1024)], "")
	if !sure && name == "windows-1252" {
		return ""
	}
	return name
}
