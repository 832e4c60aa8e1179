package convert

import (
	"bytes"
	"context"
	"io"
	"path"
	"strings"

	"golang.org/x/net/html/charset"

	"glenrain/core/convert/encoded"
	"glenrain/core/convert/listing"
	"glenrain/core/convert/pack"
)

// byExt are the kinds that names tell where the bytes say no more than that it is text.
var byExt = map[string]Kind{".md": Markdown, ".markdown": Markdown, ".mdown": Markdown, ".html": HTML, ".htm": HTML, ".xhtml": HTML, ".csv": CSV, ".tsv": CSV, ".eml": Mail,
	".txt": Text, ".text": Text, ".log": Text, ".asc": Text}

// own are the endings of PDFs and pictures: whatever such a file holds, it is read as one, and said to be none.
var own = map[string]bool{".pdf": true, ".jpg": true, ".jpeg": true, ".png": true, ".tif": true, ".tiff": true, ".bmp": true, ".gif": true, ".webp": true, ".heic": true, ".heif": true}

// looked is how many bytes of a file are looked at to tell its kind.
const looked = 8 << 10

// Find tells the kind of a file by what is in it, and where that is text by its name; None where it is none that is read here.
func Find(ctx context.Context, name string, r io.ReaderAt, size int64) Kind {
	head := make([]byte, looked)
	n, _ := r.ReadAt(head, 0)
	head = head[:n]
	ext := strings.ToLower(path.Ext(name))
	if bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06")) {
		return packed(ctx, r, size, ext)
	}
	if bytes.HasPrefix(head, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")) { // a compound file: read no further than to say so
		switch ext {
		case ".docx", ".docm":
			return DOCX
		case ".xlsx", ".xlsm":
			return XLSX
		}
		return Foreign
	}
	if own[ext] || len(head) == 0 || bytes.Contains(head[:min(n, 1024)], []byte("%PDF-")) || !encoded.IsText(head) {
		return None
	}
	if k, ok := byExt[ext]; ok {
		return k
	}
	low := bytes.ToLower(bytes.TrimLeft(head, " \t\r\n\ufeff"))
	switch {
	case bytes.HasPrefix(low, []byte("<!doctype html")), bytes.HasPrefix(low, []byte("<html")):
		return HTML
	case listing.Lexer(name) != "":
		return Source
	}
	return Text
}

// mostSniffed is how much of a member is read to tell what a package is, in bytes.
const mostSniffed = 1 << 20

// packed tells what is in a package; where that can't be read, its name does.
func packed(ctx context.Context, r io.ReaderAt, size int64, ext string) Kind {
	p, err := pack.Open(ctx, r, size)
	if err != nil { // whoever reads it says what is wrong with it
		return named(ext)
	}
	p.Allow(mostSniffed, 2*mostSniffed)
	if p.Has("mimetype") {
		t, _ := p.Read("mimetype")
		switch s := strings.TrimSpace(string(t)); {
		case strings.HasPrefix(s, "application/vnd.oasis.opendocument.text"):
			return ODT
		case strings.HasPrefix(s, "application/vnd.oasis.opendocument.spreadsheet"):
			return ODS
		case strings.HasPrefix(s, "application/"):
			return Foreign
		}
	}
	if p.Has("[Content_Types].xml") {
		rels, err := p.Relations("")
		if err == nil {
			for _, r := range rels {
				if r.Type != "officeDocument" {
					continue
				}
				switch {
				case strings.HasPrefix(r.Target, "word/"):
					return DOCX
				case strings.HasPrefix(r.Target, "xl/"):
					return XLSX
				}
			}
		}
		switch {
		case p.Has("word/document.xml"):
			return DOCX
		case p.Has("xl/workbook.xml"), p.Has("xl/workbook.bin"):
			return XLSX
		}
		return Foreign
	}
	return named(ext)
}

// named is the kind of a package as its ending tells it: what such a file holds may be damaged, but it is no zip of documents.
func named(ext string) Kind {
	if k, ok := map[string]Kind{".docx": DOCX, ".docm": DOCX, ".xlsx": XLSX, ".xlsm": XLSX, ".odt": ODT, ".ods": ODS}[ext]; ok {
		return k
	}
	return Zip
}

// declared gives the encoding that a page in HTML declares; "" for none.
func declared(data []byte) string {
	_, name, sure := charset.DetermineEncoding(data[:min(len(data), 1024)], "")
	if !sure && name == "windows-1252" {
		return ""
	}
	return name
}

// Readable tells which kinds can be changed by which option: "encoding", "listing", "sheet", "separator".
func (k Kind) Readable(option string) bool {
	switch option {
	case "encoding":
		return k == Text || k == Source || k == Markdown || k == HTML || k == CSV
	case "listing":
		return k == Text || k == Source
	case "sheet":
		return k == XLSX || k == ODS || k == CSV
	case "separator":
		return k == CSV
	}
	return false
}
