// Package pdftest makes small PDF files for tests, written out by hand so that they do
// not depend on the code under test, and runs the outside tools that check results.
package pdftest

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
)

// File is a PDF under construction: objects by number from 1 on.
type File struct {
	Objects []string // "<<...>>", or with "stream\n...\nendstream"
	Version string
}

// Add appends an object and gives its number.
func (f *File) Add(format string, args ...any) int {
	f.Objects = append(f.Objects, fmt.Sprintf(format, args...))
	return len(f.Objects)
}

// Stream writes a stream object.
func Stream(dict, content string) string {
	return fmt.Sprintf("<<%s/Length %d>>\nstream\n%s\nendstream", dict, len(content), content)
}

// Bytes writes the file with a cross-reference table; object 1 is the catalog.
func (f *File) Bytes() []byte {
	var b bytes.Buffer
	v := f.Version
	if v == "" {
		v = "1.4"
	}
	fmt.Fprintf(&b, "%%PDF-%s\n%%\xe2\xe3\xcf\xd3\n", v)
	offs := make([]int, len(f.Objects))
	for i, o := range f.Objects {
		offs[i] = b.Len()
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", i+1, o)
	}
	at := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(f.Objects)+1)
	for _, o := range offs {
		fmt.Fprintf(&b, "%010d 00000 n \n", o)
	}
	fmt.Fprintf(&b, "trailer\n<</Size %d/Root 1 0 R/ID[<00><00>]>>\nstartxref\n%d\n%%%%EOF", len(f.Objects)+1, at)
	return b.Bytes()
}

// Text is a file of n pages (A4, in nodes of five) that read "Page 1" and so on in a
// font of the standard 14. Page 2 is turned by 90 degrees, page 3 has a CropBox and leaves q open.
func Text(n int) []byte {
	f := &File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("") // the root of the page tree, below
	font := f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	res := f.Add("<</Font<</F1 %d 0 R>>>>", font)
	var nodes []string
	for start := 0; start < n; start += 5 {
		node := f.Add("")
		var kids []string
		for i := start; i < min(start+5, n); i++ {
			content := fmt.Sprintf("BT /F1 24 Tf 72 700 Td (Page %d) Tj ET 0.2 0.5 %.2f rg 72 300 200 %d re f", i+1, float64(i%7)/7, 50+i%40)
			extra := ""
			switch i {
			case 1:
				extra = "/Rotate 90"
			case 2:
				extra = "/CropBox[20 30 500 800]"
				content = "q 0.5 0 0 0.5 0 0 cm q " + content
			}
			c := f.Add("%s", Stream("", content))
			kids = append(kids, fmt.Sprintf("%d 0 R", f.Add("<</Type/Page/Parent %d 0 R/Contents %d 0 R%s>>", node, c, extra)))
		}
		f.Objects[node-1] = fmt.Sprintf("<</Type/Pages/Parent 2 0 R/Kids[%s]/Count %d/Resources %d 0 R>>", strings.Join(kids, " "), len(kids), res)
		nodes = append(nodes, fmt.Sprintf("%d 0 R", node))
	}
	f.Objects[1] = fmt.Sprintf("<</Type/Pages/Kids[%s]/Count %d/MediaBox[0 0 595 842]>>", strings.Join(nodes, " "), n)
	return f.Bytes()
}

// Noted is a file of one page of 300 points that shows a text of its own and a FreeText
// annotation, whose appearance is the content stream given with the form X that shows
// "is let" to the right of its middle; the font is F.
func Noted(page, note string) []byte {
	var f File
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Count 1/Kids[3 0 R]>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 300 300]/Contents 4 0 R/Resources<</Font<</F 5 0 R>>>>/Annots[6 0 R]>>")
	f.Add("%s", Stream("", "BT /F 12 Tf 20 250 Td ("+page+") Tj ET"))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	f.Add("<</Type/Annot/Subtype/FreeText/Rect[20 100 200 130]/AP<</N 7 0 R>>>>")
	f.Add("%s", Stream("/Type/XObject/Subtype/Form/BBox[0 0 180 30]/Resources<</Font<</F 5 0 R>>/XObject<</X 8 0 R>>>>", note))
	f.Add("%s", Stream("/Type/XObject/Subtype/Form/BBox[0 0 180 30]/Resources<</Font<</F 5 0 R>>>>", "BT /F 12 Tf 90 10 Td (is let) Tj ET"))
	return f.Bytes()
}

// Open opens bytes as a document.
func Open(t testing.TB, data []byte) *pdf.Document {
	t.Helper()
	d, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	return d
}

// Refs gives the page objects in order.
func Refs(t testing.TB, d *pdf.Document) []pdf.Ref {
	t.Helper()
	pages, err := d.Pages()
	require.NoError(t, err)
	out := make([]pdf.Ref, len(pages))
	for i, p := range pages {
		out[i] = p.Ref
	}
	return out
}

// Whole writes a document anew, as it is handed out.
func Whole(t testing.TB, d *pdf.Document) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{}))
	return b.Bytes()
}

// Tool runs an outside program on the file's bytes ("FILE" in args is its path) and gives what it prints.
func Tool(t testing.TB, data []byte, name string, args ...string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "file.pdf")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	for i := range args {
		if args[i] == "FILE" {
			args[i] = path
		}
	}
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
	return string(out)
}

// Check holds a file against qpdf --check, which also fails on warnings.
func Check(t testing.TB, data []byte) {
	t.Helper()
	Tool(t, data, "qpdf", "--check", "FILE")
}

// PageTexts gives the text of each page as poppler reads it.
func PageTexts(t testing.TB, data []byte) []string {
	t.Helper()
	out := Tool(t, data, "pdftotext", "FILE", "-")
	pages := strings.Split(strings.TrimSuffix(out, "\f"), "\f")
	for i := range pages {
		pages[i] = strings.Join(strings.Fields(pages[i]), " ")
	}
	return pages
}
