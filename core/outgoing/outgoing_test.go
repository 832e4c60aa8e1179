package outgoing_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// A PDF/A-1 file stays one in its outer form, is dated in both places, and nothing that was signed or kept for the work only goes out.
func TestPrepare(t *testing.T) {
	f := &pdftest.File{Version: "1.4"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Metadata 4 0 R/Perms<</UR3 5 0 R>>/AcroForm<</Fields[6 0 R]/SigFlags 3>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Annots[6 0 R]>>")
	f.Add("%s", pdftest.Stream("/Type/Metadata/Subtype/XML", `<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" `+
		`xmlns:xmp="http://ns.adobe.com/xap/1.0/" xmlns:pdfaid="http://www.aiim.org/pdfa/ns/id/" pdfaid:part="1" pdfaid:conformance="B" xmp:ModifyDate="2020-01-01T00:00:00Z"/></rdf:RDF>`))
	f.Add("<</Type/Sig/Filter/Standard/Name(Harbour master)>>")
	f.Add("<</Type/Annot/Subtype/Widget/FT/Sig/T(master)/V 5 0 R/Rect[0 0 9 9]>>")
	f.Add("<</Title(Berths)/ModDate(D:2020)>>")
	data := bytes.Replace(f.Bytes(), []byte("/Root 1 0 R"), []byte("/Root 1 0 R/Info 7 0 R"), 1)
	doc := pdftest.Open(t, data).Fork()
	private, err := draw.Private(doc)
	require.NoError(t, err)
	private.Set("Sources", pdf.String("for the work only"))

	at := time.Date(2031, 5, 6, 7, 8, 9, 0, time.FixedZone("", 3600))
	opt := outgoing.Prepare(doc, at)
	var out bytes.Buffer
	require.NoError(t, doc.WriteFull(t.Context(), &out, opt))
	pdftest.Check(t, out.Bytes())
	assert.True(t, bytes.HasPrefix(out.Bytes(), []byte("%PDF-1.4\n")))
	for _, never := range []string{"/ObjStm", "/XRef", "Harbour master", "/Perms", "PieceInfo", "for the work", "SigFlags"} {
		assert.NotContains(t, out.String(), never)
	}
	assert.Contains(t, out.String(), `xmp:ModifyDate="2031-05-06T07:08:09+01:00"`)
	assert.Contains(t, string(pdftest.Tool(t, out.Bytes(), "pdfinfo", "-rawdates", "FILE")), "D:20310506070809+01'00")
	assert.Contains(t, out.String(), "/T(master)")

	// Anything else is written small.
	doc = pdftest.Open(t, pdftest.Text(3)).Fork()
	out.Reset()
	require.NoError(t, doc.WriteFull(t.Context(), &out, outgoing.Prepare(doc, at)))
	assert.Contains(t, out.String(), "/ObjStm")
}
