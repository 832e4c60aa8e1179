package intake

import (
	"context"
	"io"
	"slices"

	"glenrain/core/intake/docx"
	"glenrain/core/intake/listing"
	"glenrain/core/intake/mail"
	"glenrain/core/intake/odf"
	"glenrain/core/intake/prose"
	"glenrain/core/intake/table"
)

// Kind is a kind of file, as documents remember it.
type Kind string

// The kinds that others ask for by name.
const (
	None    Kind = ""
	Source  Kind = "source"
	Mail    Kind = "mail"
	Zip     Kind = "zip"     // its contents are added one by one; it has no pages of its own
	Foreign Kind = "foreign" // of an office program, and of a kind that is not read
)

// Option is what a person may say about files of a kind.
type Option string

// The options there are.
const (
	Encoding  Option = "encoding"
	Listing   Option = "listing" // numbers, colours
	Sheets    Option = "sheet"   // how sheets are fitted
	Separator Option = "separator"
)

// format is a row of the table of kinds.
type format struct {
	kind    Kind
	title   string // what people call it: "a text"
	most    int64  // bytes of the largest that is read
	options []Option
	is      func(f *file) bool                           // by what is in a file, and by its name where that says no more
	read    func(ctx context.Context, in *reading) error // into in.sheet; nil where it is not turned into pages
	refuses string                                       // why it is not, with the ending of the file for %s
}

// maxOffice is the largest office file.
const maxOffice = 300 << 20

// formats is the table of kinds. A file is of the first one that it is.
var formats = []format{
	{
		kind: "docx", title: "a text document (docx)", most: maxOffice,
		is: func(f *file) bool { return f.office("word/", ".docx", ".docm") },
		read: func(ctx context.Context, in *reading) error {
			return docx.Read(ctx, in.sheet, in.r, in.r.Size(), in.paper, in.forced)
		},
	},
	{
		kind: "xlsx", title: "a workbook (xlsx)", most: maxOffice, options: []Option{Sheets},
		is: func(f *file) bool { return f.office("xl/", ".xlsx", ".xlsm") },
		read: func(ctx context.Context, in *reading) error {
			sheets, err := table.XLSX(ctx, in.sheet, in.r, in.r.Size(), in.paper, in.forced)
			return in.tables(ctx, sheets, err)
		},
	},
	{
		kind: "odt", title: "a text document (odt)", most: maxOffice,
		is: func(f *file) bool { return f.openDocument("text", ".odt") },
		read: func(ctx context.Context, in *reading) error {
			return odf.Text(ctx, in.sheet, in.r, in.r.Size(), in.paper, in.forced)
		},
	},
	{
		kind: "ods", title: "a workbook (ods)", most: maxOffice, options: []Option{Sheets},
		is: func(f *file) bool { return f.openDocument("spreadsheet", ".ods") },
		read: func(ctx context.Context, in *reading) error {
			sheets, err := odf.Sheets(ctx, in.sheet, in.r, in.r.Size(), in.paper, in.forced)
			return in.tables(ctx, sheets, err)
		},
	},
	{
		kind: Zip, title: "a zip file", most: maxOffice,
		is:      func(f *file) bool { return f.packed() && f.inside() == "" },
		refuses: "files of this kind can't be turned into pages",
	},
	{
		kind: Foreign, most: maxOffice,
		is:      func(f *file) bool { return f.packed() || f.compound() }, // read no further than to say so
		refuses: "this kind of file%s can’t be turned into pages: save it as docx, xlsx, odt, ods or PDF in the program that wrote it",
	},
	{
		kind: "markdown", title: "a Markdown text", most: 16 << 20, options: []Option{Encoding},
		is: func(f *file) bool { return f.text() && f.ends(".md", ".markdown", ".mdown") },
		read: func(ctx context.Context, in *reading) error {
			text, err := in.text()
			if err != nil {
				return err
			}
			return prose.Markdown(ctx, in.sheet, text, nil, in.paper)
		},
	},
	{
		kind: "csv", title: "a table of values (CSV)", most: 64 << 20, options: []Option{Encoding, Sheets, Separator},
		is: func(f *file) bool { return f.text() && f.ends(".csv", ".tsv") },
		read: func(ctx context.Context, in *reading) error {
			text, err := in.text()
			if err != nil {
				return err
			}
			sheet, err := table.CSV(in.name, text, in.separator(), in.paper)
			if err != nil {
				return err
			}
			return in.tables(ctx, []table.Sheet{*sheet}, nil)
		},
	},
	{
		kind: Mail, title: "an email", most: 200 << 20,
		is:   func(f *file) bool { return f.text() && f.ends(".eml") },
		read: func(ctx context.Context, in *reading) error { return mail.Write(ctx, in.sheet, in.r, in.paper) },
	},
	{
		kind: "html", title: "an HTML page", most: 32 << 20, options: []Option{Encoding},
		is: func(f *file) bool {
			return f.text() && (f.ends(".html", ".htm", ".xhtml") || !f.ends(plain...) && (f.begins("<!doctype html") || f.begins("<html")))
		},
		read: func(ctx context.Context, in *reading) error {
			in.declares = declared
			text, err := in.text()
			if err != nil {
				return err
			}
			return prose.HTML(ctx, in.sheet, text, nil, in.paper)
		},
	},
	{
		kind: Source, title: "a program source", most: 24 << 20, options: []Option{Encoding, Listing},
		is:   func(f *file) bool { return f.text() && !f.ends(plain...) && listing.Lexer(f.name) != "" },
		read: listed,
	},
	{
		kind: "text", title: "a text", most: 24 << 20, options: []Option{Encoding, Listing},
		is:   (*file).text,
		read: listed,
	},
}

// plain are the endings of texts that are no more than that, whatever they begin with.
var plain = []string{".txt", ".text", ".log", ".asc"}

// listed reads a text line by line.
func listed(ctx context.Context, in *reading) error {
	text, err := in.text()
	if err != nil {
		return err
	}
	paper := in.paper
	paper.Left, paper.Right = paper.Left*0.8, paper.Right*0.8
	return listing.Write(ctx, in.sheet, in.name, text, listing.Options{Numbers: in.options.Numbers, Plain: in.options.Plain, Paper: paper})
}

// format gives the row of a kind; one that says nothing where there is none.
func (k Kind) format() *format {
	for i := range formats {
		if formats[i].kind == k {
			return &formats[i]
		}
	}
	return &format{kind: k, most: maxOffice, refuses: "files of this kind can't be turned into pages"}
}

// Title is what people call a kind: "a text".
func (k Kind) Title() string { return k.format().title }

// Takes reports whether an option means something for files of a kind.
func (k Kind) Takes(o Option) bool { return slices.Contains(k.format().options, o) }

// Find tells the kind of a file by what is in it, and where that is text by its name; None where it is none that is read here.
func Find(ctx context.Context, name string, r io.ReaderAt, size int64) Kind {
	f := look(ctx, name, r, size)
	for i := range formats {
		if formats[i].is(f) {
			return formats[i].kind
		}
	}
	return None
}
