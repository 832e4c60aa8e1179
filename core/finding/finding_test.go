package finding

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

func kinds(t *testing.T, data []byte, checks []Check) map[string]Finding {
	found, err := Run(t.Context(), pdftest.Open(t, data), checks)
	require.NoError(t, err)
	out := map[string]Finding{}
	for _, f := range found {
		out[f.Kind] = f
		assert.NotEmpty(t, f.Sentence)
	}
	return out
}

func TestFindings(t *testing.T) {
	plain := kinds(t, pdftest.Text(3), General)
	assert.Contains(t, plain, "untagged")
	assert.Contains(t, plain, "no-title")
	assert.NotContains(t, plain, "no-text")
	assert.NotContains(t, plain, "signed")

	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/StructTreeRoot<</Type/StructTreeRoot>>/AcroForm<</Fields[]/SigFlags 3>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R]/Count 3/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Resources<</XObject<</Im 6 0 R>>>>>>") // a picture
	f.Add("<</Type/Page/Parent 2 0 R/Resources<</XObject<</Fm 7 0 R>>>>>>") // text in a form
	f.Add("<</Type/Page/Parent 2 0 R/Resources<</XObject<</Fm 9 0 R>>>>>>") // a form that draws itself, without text
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Image/Width 1/Height 1/ColorSpace/DeviceGray/BitsPerComponent 8", "x"))
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 9 9]/Resources<</Font<</F 8 0 R>>>>", "BT ET"))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 9 9]/Resources 10 0 R", "/Fm Do"))
	f.Add("<</XObject<</Fm 9 0 R>>>>")
	got := kinds(t, f.Bytes(), Arrival)
	assert.Contains(t, got, "signed")
	assert.NotContains(t, got, "untagged")
	require.Contains(t, got, "no-text")
	assert.Equal(t, "2 pages are pictures without text", got["no-text"].Sentence)
	assert.Equal(t, 1, got["no-text"].Page)
	assert.Equal(t, 2, got["no-text"].Open, "pages there are to do something about")
	assert.Zero(t, got["signed"].Open, "nothing is to be done about a signature")
}

// What takes more than a piece of work may ends in an error, with what was found until then.
func TestRunWithoutTime(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	found, err := Run(ctx, pdftest.Open(t, pdftest.Text(3)), []Check{untagged, func(*pdf.Document) ([]Finding, error) { cancel(); return nil, nil }, noTitle})
	require.ErrorIs(t, err, context.Canceled)
	require.Len(t, found, 1)
	assert.Equal(t, "untagged", found[0].Kind)
}

// Who signed, and what that allows, is told before anything is changed.
func TestSigned(t *testing.T) {
	file := func(signature, perms string) []byte {
		f := &pdftest.File{Version: "1.7"}
		f.Add("<</Type/Catalog/Pages 2 0 R/AcroForm<</SigFlags 3/Fields[5 0 R]>>%s>>", perms)
		f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 100 100]>>")
		f.Add("<</Type/Page/Parent 2 0 R/Annots[5 0 R]>>")
		f.Add("<</Type/Sig/Filter/Adobe.PPKLite%s>>", signature)
		f.Add("<</Type/Annot/Subtype/Widget/FT/Sig/T(master)/V 4 0 R/Rect[0 0 9 9]>>")
		return f.Bytes()
	}
	for _, c := range []struct{ signature, perms, want string }{
		{"", "", "signed: any change makes the signature invalid"},
		{"/Name(Harbour master)", "", "signed by Harbour master: any change makes the signature invalid"},
		{"/Name(Harbour master)/Reference[<</TransformMethod/DocMDP/TransformParams<</P 1>>>>]", "/Perms<</DocMDP 4 0 R>>",
			"certified by Harbour master, who allows no changes: other changes make the signature invalid"},
	} {
		assert.Equal(t, c.want, Signed(pdftest.Open(t, file(c.signature, c.perms))))
	}
	assert.Empty(t, Signed(pdftest.Open(t, pdftest.Text(1))))
}

// What the first change ends, what can't be read here, and what leads nowhere is told on arrival.
func TestArrivals(t *testing.T) {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Perms<</UR3<</Type/Sig>>>>/AcroForm<</Fields[]/XFA(xdp)>>/Outlines 4 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("<</First 5 0 R/Last 7 0 R/Count 3>>")
	f.Add("<</Title(Low water)/Parent 4 0 R/Next 6 0 R/Dest(nobody)>>")
	f.Add("<</Title(Chart)/Parent 4 0 R/Prev 5 0 R/Next 7 0 R/Dest[3 0 R/Fit]>>")
	f.Add("<</Title(Tide tables)/Parent 4 0 R/Prev 6 0 R/Dest[99 0 R/Fit]>>")
	got := kinds(t, f.Bytes(), Arrival)
	assert.Contains(t, got, "rights")
	assert.Contains(t, got, "xfa")
	assert.Equal(t, "2 bookmarks have no target page; the first is “Low water”", got["nowhere"].Sentence)
	for _, kind := range []string{"rights", "xfa", "nowhere"} {
		assert.NotContains(t, kinds(t, pdftest.Text(1), Arrival), kind)
	}
}
