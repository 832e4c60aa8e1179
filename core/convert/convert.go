// Package convert reads files of other kinds than PDF and pictures - letters, workbooks, notes, listings, mail - into sheets, which
// typeset makes pages of. It tells which kind a file is by what is in it and by its name, and reads it within limits. What can't be
// shown is left out and told; nothing is fetched from elsewhere, no macro and no script is run.
package convert

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"glenrain/core/convert/docx"
	"glenrain/core/convert/encoded"
	"glenrain/core/convert/listing"
	"glenrain/core/convert/mail"
	"glenrain/core/convert/odf"
	"glenrain/core/convert/pack"
	"glenrain/core/convert/page"
	"glenrain/core/convert/prose"
	"glenrain/core/convert/table"
	"glenrain/core/typeset"
)

// Kind is a kind of file.
type Kind string

// The kinds that are read.
const (
	None     Kind = ""
	Text     Kind = "text"
	Source   Kind = "source"
	Markdown Kind = "markdown"
	HTML     Kind = "html"
	CSV      Kind = "csv"
	XLSX     Kind = "xlsx"
	DOCX     Kind = "docx"
	ODT      Kind = "odt"
	ODS      Kind = "ods"
	Mail     Kind = "mail"
	Zip      Kind = "zip"     // brings in what is in it; it is not turned into pages itself
	Foreign  Kind = "foreign" // of an office program, and of a kind that is not read
)

// Title is what people call a kind: "a text".
func (k Kind) Title() string {
	return map[Kind]string{Text: "a text", Source: "a program source", Markdown: "a Markdown text", HTML: "an HTML page", CSV: "a table of values (CSV)", XLSX: "a workbook (xlsx)",
		DOCX: "a text document (docx)", ODT: "a text document (odt)", ODS: "a workbook (ods)", Mail: "an email", Zip: "a zip file"}[k]
}

// Options are what a person may say about how a file is turned into pages. The zero value lets the file say, and where it does not, what is usual.
type Options struct {
	Encoding  string `json:"encoding,omitempty"` // of text: utf-8, utf-16le, utf-16be, windows-1252
	Paper     string `json:"paper,omitempty"`    // A3, A4, A5, Letter, Legal
	Landscape bool   `json:"landscape,omitempty"`
	Numbers   bool   `json:"numbers,omitempty"`   // lines of listings are numbered
	Plain     bool   `json:"plain,omitempty"`     // listings without colours
	Separator string `json:"separator,omitempty"` // of CSV
	Fit       string `json:"fit,omitempty"`       // of sheets: width, spread
	Fonts     string `json:"-"`                   // a folder with faces of the office's own
}

// Check refuses options that there are not.
func (o Options) Check() error {
	if _, ok := page.Papers[o.Paper]; o.Paper != "" && !ok {
		return fmt.Errorf("there is no paper size %q: use A3, A4, A5, Letter or Legal", o.Paper)
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
	if size, ok := page.Papers[o.Paper]; ok {
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

// sized are the largest files of a kind that are read, in bytes.
var sized = map[Kind]int64{Text: 24 << 20, Source: 24 << 20, Markdown: 16 << 20, HTML: 32 << 20, CSV: 64 << 20, Mail: 200 << 20}

// maxOffice is the largest office file.
const maxOffice = 300 << 20

// Read reads a file of a kind. An error that is a *Refusal is the file's.
func Read(ctx context.Context, kind Kind, name string, r io.ReaderAt, size int64, o Options) (*Result, error) {
	if err := o.Check(); err != nil {
		return nil, &Refusal{Sentence: err.Error()}
	}
	most, ok := sized[kind]
	if !ok {
		most = maxOffice
	}
	if size > most {
		return nil, &Refusal{Sentence: fmt.Sprintf("it is over %d MB, the most that can be turned into pages for %s", most>>20, kind.Title())}
	}
	if kind == Foreign {
		return nil, &Refusal{Sentence: fmt.Sprintf("this kind of file%s can’t be turned into pages: save it as docx, xlsx, odt, ods or PDF in the program that wrote it", ending(name))}
	}
	s := page.New(page.ReadOwn(o.Fonts))
	out := &Result{}
	err := out.read(ctx, s, kind, path.Base(name), io.NewSectionReader(r, 0, size), o)
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
	out.Sheets, out.Told = s.End(), s.Told
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

func (out *Result) read(ctx context.Context, s *page.Sheet, kind Kind, name string, r *io.SectionReader, o Options) error {
	paper, forced := o.paper()
	switch kind {
	case DOCX:
		return docx.Read(ctx, s, r, r.Size(), paper, forced)
	case ODT:
		return odf.Text(ctx, s, r, r.Size(), paper, forced)
	case ODS:
		sheets, err := odf.Sheets(ctx, s, r, r.Size(), paper, forced)
		if err != nil {
			return err
		}
		return table.Write(ctx, s, fitted(sheets, o))
	case XLSX:
		sheets, err := table.XLSX(ctx, s, r, r.Size(), paper, forced)
		if err != nil {
			return err
		}
		return table.Write(ctx, s, fitted(sheets, o))
	case Mail:
		return mail.Write(ctx, s, r, paper)
	}
	data, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	if kind == HTML && o.Encoding == "" {
		o.Encoding = declared(data)
	}
	text, used := encoded.Decode(data, o.Encoding)
	out.Encoding = used
	switch kind {
	case Markdown:
		return prose.Markdown(ctx, s, text, nil, paper)
	case HTML:
		return prose.HTML(ctx, s, text, nil, paper)
	case CSV:
		sep := rune(0)
		for _, r := range o.Separator {
			sep = r
		}
		h, err := table.CSV(name, text, sep, paper)
		if err != nil {
			return err
		}
		return table.Write(ctx, s, fitted([]table.Sheet{*h}, o))
	case Text, Source:
		paper.Left, paper.Right = paper.Left*0.8, paper.Right*0.8
		return listing.Write(ctx, s, name, text, listing.Options{Numbers: o.Numbers, Plain: o.Plain, Paper: paper})
	}
	return fmt.Errorf("files of this kind can't be turned into pages")
}

func fitted(sheets []table.Sheet, o Options) []table.Sheet {
	for i := range sheets {
		switch o.Fit {
		case "width":
			sheets[i].Fit = table.ToWidth
		case "spread":
			sheets[i].Fit = table.Spread
		}
	}
	return sheets
}
