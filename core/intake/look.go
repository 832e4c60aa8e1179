package intake

import (
	"bytes"
	"context"
	"io"
	"path"
	"slices"
	"strings"

	"glenrain/core/intake/encoded"
	"glenrain/core/intake/pack"
)

// file is a file whose kind is looked for.
type file struct {
	ctx  context.Context
	name string
	ext  string // in small letters, with its dot
	r    io.ReaderAt
	size int64
	head []byte

	isText, looked bool // whether it is one, once looked is set
	part           *string
}

// headSize is how many bytes of a file are looked at to tell its kind; mostSniffed how much of a member of a package.
const (
	headSize    = 8 << 10
	mostSniffed = 1 << 20
)

// own are the endings of PDFs and pictures: whatever such a file holds, it is read as one, and said to be none.
var own = []string{".pdf", ".jpg", ".jpeg", ".png", ".tif", ".tiff", ".bmp", ".gif", ".webp", ".heic", ".heif"}

func look(ctx context.Context, name string, r io.ReaderAt, size int64) *file {
	f := &file{ctx: ctx, name: name, ext: strings.ToLower(path.Ext(name)), r: r, size: size, head: make([]byte, headSize)}
	n, _ := r.ReadAt(f.head, 0)
	f.head = f.head[:n]
	return f
}

// ends reports whether the name has one of the endings.
func (f *file) ends(exts ...string) bool { return slices.Contains(exts, f.ext) }

// packed reports whether it is a zip package; compound whether it is one of the office files of before.
func (f *file) packed() bool {
	return bytes.HasPrefix(f.head, []byte("PK\x03\x04")) || bytes.HasPrefix(f.head, []byte("PK\x05\x06"))
}

func (f *file) compound() bool {
	return bytes.HasPrefix(f.head, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"))
}

// text reports whether it is text, and no damaged PDF or picture.
func (f *file) text() bool {
	if !f.looked {
		f.looked = true
		f.isText = len(f.head) > 0 && !f.packed() && !f.compound() && !f.ends(own...) && !bytes.Contains(f.head[:min(len(f.head), 1024)], []byte("%PDF-")) && encoded.IsText(f.head)
	}
	return f.isText
}

// begins reports whether a text begins so, in small or capital letters.
func (f *file) begins(with string) bool {
	return bytes.HasPrefix(bytes.ToLower(bytes.TrimLeft(f.head, " \t\r\n\ufeff")), []byte(with))
}

// office reports whether it is an office package (ECMA-376) whose main part is in a folder. Where that can't be told its ending does: what such a file holds may be
// damaged, or locked, but it is no zip of documents.
func (f *file) office(folder string, exts ...string) bool {
	if f.compound() { // a package that is locked
		return f.ends(exts...)
	}
	return f.packed() && (f.inside() == folder || f.inside() == "" && f.ends(exts...))
}

// openDocument reports whether it is an OpenDocument of a type, or one that can't be read by its ending.
func (f *file) openDocument(kind string, exts ...string) bool {
	return f.packed() && (strings.HasPrefix(f.inside(), "application/vnd.oasis.opendocument."+kind) || f.inside() == "" && f.ends(exts...))
}

// inside tells what a package is by what is in it: the type of an OpenDocument or another file of its kind, the folder of an office file's main part, "?"
// for an office file whose main part is elsewhere; "" where it does not say.
func (f *file) inside() string {
	if f.part == nil {
		part := insideOf(f.ctx, f.r, f.size)
		f.part = &part
	}
	return *f.part
}

func insideOf(ctx context.Context, r io.ReaderAt, size int64) string {
	p, err := pack.Open(ctx, r, size)
	if err != nil { // whoever reads it says what is wrong with it
		return ""
	}
	p.Allow(mostSniffed, 2*mostSniffed)
	if p.Has("mimetype") {
		t, _ := p.Read("mimetype")
		if s := strings.TrimSpace(string(t)); strings.HasPrefix(s, "application/") {
			return s
		}
	}
	if !p.Has("[Content_Types].xml") {
		return ""
	}
	rels, _ := p.Relations("")
	for _, r := range rels {
		if r.Type == "officeDocument" {
			if folder, _, ok := strings.Cut(r.Target, "/"); ok && (folder == "word" || folder == "xl") {
				return folder + "/"
			}
		}
	}
	switch {
	case p.Has("word/document.xml"):
		return "word/"
	case p.Has("xl/workbook.xml"), p.Has("xl/workbook.bin"):
		return "xl/"
	}
	return "?"
}
