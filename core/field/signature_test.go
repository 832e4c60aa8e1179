package field

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// signed is a page with a signature field in a group, one that is not signed yet, and a text field. reference stands in
// the signature, perms in the catalog.
func signed(reference, perms string) *pdf.Document {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/AcroForm<</SigFlags 3/Fields[5 0 R 7 0 R 8 0 R]>>%s>>", perms)
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Annots[6 0 R 7 0 R 8 0 R]>>")
	f.Add("<</Type/Sig/Filter/Adobe.PPKLite/SubFilter/adbe.pkcs7.detached/Name(Harbour master)/ByteRange[0 0 0 0]/Contents<00>%s>>", reference)
	f.Add("<</T(approval)/FT/Sig/Kids[6 0 R]>>")
	f.Add("<</Type/Annot/Subtype/Widget/Parent 5 0 R/T(master)/V 4 0 R/Rect[0 0 9 9]>>")
	f.Add("<</Type/Annot/Subtype/Widget/FT/Sig/T(clerk)/Rect[0 10 9 19]>>")
	f.Add("<</Type/Annot/Subtype/Widget/FT/Tx/T(name)/V(4 0 R)/Rect[0 20 9 29]>>")
	data := f.Bytes()
	doc, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		panic(err)
	}
	return doc
}

// What a certification allows is its DocMDP parameter (12.8.2.2, table 257), and only if the catalog names the signature.
func TestSignatures(t *testing.T) {
	docMDP := func(params string) string {
		return "/Reference[<</TransformMethod/FieldMDP>><</Type/SigRef/TransformMethod/DocMDP" + params + ">>]"
	}
	const named = "/Perms<</DocMDP 4 0 R>>"
	for _, c := range []struct {
		reference, perms string
		want             Certified
		words            string
	}{
		{"", "", 0, "any change"},
		{docMDP("/TransformParams<</P 1>>"), "", 0, "any change"},
		{docMDP("/TransformParams<</P 1>>"), named, NoChanges, "no changes"},
		{docMDP("/TransformParams<</P 2>>"), named, FormsOnly, "only filling in its form"},
		{docMDP("/TransformParams<</P 3>>"), named, FormsAndNotes, "only filling in its form and adding notes"},
		{docMDP(""), named, FormsOnly, "only filling in its form"},
		{docMDP("/TransformParams<</P 9>>"), named, FormsOnly, "only filling in its form"},
		{"", named, FormsOnly, "only filling in its form"},
	} {
		got := Signatures(signed(c.reference, c.perms))
		assert.Equal(t, []Signature{{Field: "approval.master", Signer: "Harbour master", Certifies: c.want}}, got, fmt.Sprint(c))
		assert.Equal(t, c.words, got[0].Certifies.Allows())
	}
	assert.Empty(t, Signatures(pdftest.Open(t, pdftest.Text(1))))
}

// Taken out of a document that is written anew, signatures leave their fields, empty, and nothing that speaks of them.
func TestUnsign(t *testing.T) {
	doc := signed("", "/Perms<</DocMDP 4 0 R>>").Fork()
	Unsign(doc)
	assert.Empty(t, Signatures(doc))
	assert.False(t, doc.Catalog().Has("Perms"))
	assert.False(t, doc.Dict(doc.Catalog().Get("AcroForm")).Has("SigFlags"))
	assert.Equal(t, []string{"approval", "clerk", "name"}, names(doc), "the fields stay")
	assert.Equal(t, pdf.String("4 0 R"), doc.Dict(pdf.Ref{Num: 8}).Get("V"), "and other fields keep their values")
	out := pdftest.Whole(t, doc)
	pdftest.Check(t, out)
	assert.NotContains(t, pdftest.Tool(t, out, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-"), "Harbour master")

	plain := pdftest.Open(t, form()).Fork()
	Unsign(plain)
	assert.Empty(t, plain.Changed(), "without signatures nothing is touched")
}

// A field tree that leads back to itself ends.
func TestSignaturesInARing(t *testing.T) {
	doc := signed("", "").Fork()
	doc.Edit(pdf.Ref{Num: 6}).Set("Kids", pdf.Array{pdf.Ref{Num: 5}, pdf.Ref{Num: 6}})
	assert.Len(t, Signatures(doc), 1)
}
