package field

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// form is a file of two pages: field "name" on page 1, "berth" with a widget on each page,
// a group "boat" with "length" on page 2 only.
func form() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/AcroForm 10 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Annots[5 0 R 7 0 R]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Annots[8 0 R 11 0 R]>>")
	f.Add("<</Type/Annot/Subtype/Widget/FT/Tx/T(name)/V(Ferrier)/Rect[0 0 9 9]>>")
	f.Add("<</FT/Tx/T(berth)/V(North 3)/Kids[7 0 R 8 0 R]>>")
	f.Add("<</Type/Annot/Subtype/Widget/Parent 6 0 R/Rect[0 10 9 19]>>")
	f.Add("<</Type/Annot/Subtype/Widget/Parent 6 0 R/Rect[0 10 9 19]>>")
	f.Add("<</T(boat)/Kids[11 0 R]>>")
	f.Add("<</Fields[5 0 R 6 0 R 9 0 R]/CO[5 0 R 11 0 R]/DA(/Helv 9 Tf)/DR<</Font<</Helv 12 0 R>>>>>>")
	f.Add("<</Type/Annot/Subtype/Widget/Parent 9 0 R/FT/Tx/T(length)/V(9.4)/Rect[0 0 9 9]>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	return f.Bytes()
}

func names(d *pdf.Document) []string {
	var out []string
	for _, o := range d.Array(d.Dict(d.Catalog().Get("AcroForm")).Get("Fields")) {
		out = append(out, fieldName(d, o))
	}
	return out
}

func TestCutPages(t *testing.T) {
	d := pdftest.Open(t, form()).Fork()
	refs := pdftest.Refs(t, d)
	assert.Equal(t, 2, CutPages(d, refs[1:]), "length, and boat with it")
	assert.Equal(t, []string{"name", "berth"}, names(d))
	assert.Len(t, d.Array(d.Dict(pdf.Ref{Num: 6}).Get("Kids")), 1)
	assert.Len(t, d.Array(d.Dict(d.Catalog().Get("AcroForm")).Get("CO")), 1)
	require.NoError(t, d.RemovePages(refs[1:]))
	pdftest.Check(t, pdftest.Whole(t, d))

	d = pdftest.Open(t, form()).Fork()
	assert.Equal(t, 1, CutPages(d, refs[:1]))
	assert.Equal(t, []string{"berth", "boat"}, names(d))
	d = pdftest.Open(t, form()).Fork()
	assert.Equal(t, 4, CutPages(d, refs), "all of them")
	assert.Empty(t, names(d))
	assert.Zero(t, CutPages(pdftest.Open(t, pdftest.Text(1)), nil), "no form at all")
}

func TestBring(t *testing.T) {
	src := pdftest.Open(t, form())
	refs := pdftest.Refs(t, src)
	dst := pdftest.Open(t, form()).Fork()
	bring := func(which []pdf.Ref) Brought {
		c, err := pdf.NewCopier(dst, src)
		require.NoError(t, err)
		pages, err := c.Pages(which)
		require.NoError(t, err)
		brought, err := Bring(dst, src, c, pages)
		require.NoError(t, err)
		all := pdftest.Refs(t, dst)
		require.NoError(t, dst.InsertPages(len(all), pages))
		return brought
	}
	assert.Equal(t, Brought{Fields: 2, Renamed: 2, Drawn: 2}, bring(refs[:1]))
	assert.Equal(t, []string{"name", "berth", "boat", "name 2", "berth 2"}, names(dst))
	assert.Equal(t, Brought{Fields: 3, Renamed: 3, Drawn: 4}, bring(refs))
	assert.Equal(t, []string{"name", "berth", "boat", "name 2", "berth 2", "name 3", "berth 3", "boat 2"}, names(dst))
	file := pdftest.Whole(t, dst)
	pdftest.Check(t, file)
	d := pdftest.Open(t, file)
	berth2 := d.Dict(d.Array(d.Dict(d.Catalog().Get("AcroForm")).Get("Fields"))[4])
	assert.Len(t, d.Array(berth2.Get("Kids")), 1, "only the widget of the page that was brought")

	// Into a document without a form: its resources come along; its default appearance belongs to the fields from then on.
	plain := pdftest.Open(t, pdftest.Text(1)).Fork()
	c, err := pdf.NewCopier(plain, src)
	require.NoError(t, err)
	pages, err := c.Pages(refs)
	require.NoError(t, err)
	brought, err := Bring(plain, src, c, pages)
	require.NoError(t, err)
	assert.Equal(t, Brought{Fields: 3, Drawn: 4}, brought)
	got := plain.Dict(plain.Catalog().Get("AcroForm"))
	assert.False(t, got.Has("DA"))
	for _, o := range plain.Array(got.Get("Fields")) {
		assert.Equal(t, pdf.String("/Helv 9 Tf"), plain.Dict(o).Get("DA"))
	}
	assert.NotNil(t, plain.Dict(plain.Dict(got.Get("DR")).Get("Font")).Get("Helv"))
}
