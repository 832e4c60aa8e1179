package pdf_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// whole writes a document with what says the same once.
func onceWhole(t *testing.T, doc *pdf.Document) string {
	var b bytes.Buffer
	require.NoError(t, doc.WriteFull(t.Context(), &b, pdf.FullOptions{Once: true}))
	pdftest.Check(t, b.Bytes())
	return pdftest.Tool(t, b.Bytes(), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
}

// Fonts whose descendants and programs were copied apart join, also where they refer to one another in a ring; what differs deep down does not.
func TestOnce(t *testing.T) {
	file := func(deep ...string) *pdf.Document {
		f := &pdftest.File{Version: "1.7"}
		f.Add("<</Type/Catalog/Pages 2 0 R>>")
		var kids strings.Builder
		for i := range deep {
			fmt.Fprintf(&kids, "%d 0 R ", 3+5*i)
		}
		f.Add("<</Type/Pages/Kids[%s]/Count %d/MediaBox[0 0 99 99]>>", kids.String(), len(deep))
		for i, d := range deep {
			n := 3 + 5*i
			f.Add("<</Type/Page/Parent 2 0 R/Resources<</Font<</F %d 0 R>>>>>>", n+1)
			f.Add("<</Type/Font/Subtype/Type0/BaseFont/Quay/Encoding/Identity-H/DescendantFonts[%d 0 R]>>", n+2)
			f.Add("<</Type/Font/Subtype/CIDFontType2/BaseFont/Quay/FontDescriptor %d 0 R/Up %d 0 R>>", n+3, n+1)
			f.Add("<</Type/FontDescriptor/FontName/Quay/FontFile2 %d 0 R>>", n+4)
			f.Add("%s", pdftest.Stream("", d))
		}
		return pdftest.Open(t, f.Bytes())
	}
	count := func(text, what string) int { return strings.Count(text, what) }
	text := onceWhole(t, file("same", "same", "same", "same"))
	assert.Equal(t, 1, count(text, "/Subtype /Type0"))
	assert.Equal(t, 1, count(text, "/Subtype /CIDFontType2"))
	assert.Equal(t, 1, count(text, "same\n"))
	text = onceWhole(t, file("same", "else", "same", "else"))
	assert.Equal(t, 2, count(text, "/Subtype /Type0"), "what they lead to differs")
	assert.Equal(t, 2, count(text, "/Type /FontDescriptor"))
}

// What is known by which one it is, and not by what it says, is never joined.
func TestOnceIdentities(t *testing.T) {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/OCProperties<</OCGs[6 0 R 7 0 R]/D<</OFF[7 0 R]>>>>/StructTreeRoot 12 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2/MediaBox[0 0 99 99]>>")
	for i := range 2 {
		f.Add("<</Type/Page/Parent 2 0 R/Contents 5 0 R/Resources<</Properties<</L %d 0 R>>/XObject<</X %d 0 R>>>>/Annots[%d 0 R]>>", 6+i, 8+i, 10+i)
	}
	f.Add("%s", pdftest.Stream("", "/X Do"))
	f.Add("<</Type/OCG/Name(Layer)>>")
	f.Add("<</Type/OCG/Name(Layer)>>")
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 9 9]/StructParent 0", "0 0 9 9 re f"))
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 9 9]/StructParent 0", "0 0 9 9 re f"))
	f.Add("<</Type/Annot/Subtype/Square/Rect[0 0 9 9]>>")
	f.Add("<</Type/Annot/Subtype/Square/Rect[0 0 9 9]>>")
	f.Add("<</Type/StructTreeRoot>>")
	text := onceWhole(t, pdftest.Open(t, f.Bytes()))
	for _, what := range []string{"/Type /OCG\n", "/Subtype /Form", "/Subtype /Square", "/Type /Page\n"} {
		assert.Equal(t, 2, strings.Count(text, what), what)
	}
}

// A file of the older form: a table, no object streams, its version, and the same objects.
func TestClassic(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(70))
	var b bytes.Buffer
	require.NoError(t, doc.WriteFull(t.Context(), &b, pdf.FullOptions{Classic: true}))
	pdftest.Check(t, b.Bytes())
	assert.True(t, bytes.HasPrefix(b.Bytes(), []byte("%PDF-1.4\n")))
	assert.NotContains(t, b.String(), "ObjStm")
	assert.NotContains(t, b.String(), "/XRef")
	assert.Equal(t, pdftest.PageTexts(t, pdftest.Text(70)), pdftest.PageTexts(t, b.Bytes()))
	// With numbers kept there are holes in the table.
	d := doc.Fork()
	d.Set(pdf.Ref{Num: 900}, pdf.NewDict())
	d.Edit(d.Root()).Set("Far", pdf.Ref{Num: 900})
	b.Reset()
	require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{Classic: true, KeepNumbers: true}))
	pdftest.Check(t, b.Bytes())
	assert.Len(t, pdftest.Refs(t, pdftest.Open(t, b.Bytes())), 70)
}
