package claim_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/claim"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

const ids = `xmlns:pdfaid="http://www.aiim.org/pdfa/ns/id/" xmlns:u="http://www.aiim.org/pdfua/ns/id/" xmlns:xmp="http://ns.adobe.com/xap/1.0/"`

// file claims what the description says; profile is its output intent's number of components.
func file(attributes, elements string, profile int) []byte {
	f := &pdftest.File{Version: "1.4"}
	intent := ""
	if profile > 0 {
		intent = "/OutputIntents[<</S/GTS_PDFA1/OutputConditionIdentifier(x)/DestOutputProfile 5 0 R>>]"
	}
	f.Add("<</Type/Catalog/Pages 2 0 R/Metadata 4 0 R%s>>", intent)
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("%s", pdftest.Stream("/Type/Metadata/Subtype/XML", `<?xpacket begin="" id="W5M0MpCehiHzreSzNTczkc9d"?><x:xmpmeta xmlns:x="adobe:ns:meta/">`+
		`<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="uuid:7" `+ids+` `+attributes+`>`+elements+
		`<dc:title xmlns:dc="http://purl.org/dc/elements/1.1/">Berths &amp; tides</dc:title></rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end="w"?>`))
	f.Add("%s", pdftest.Stream(fmt.Sprintf("/N %d", profile), "not a profile"))
	return f.Bytes()
}

func xmp(t *testing.T, doc *pdf.Document) string {
	b, _, err := doc.Decode(doc.Stream(doc.Catalog().Get("Metadata")))
	require.NoError(t, err)
	return string(b)
}

func TestClaims(t *testing.T) {
	both := `<pdfaid:part>1</pdfaid:part><pdfaid:conformance>B</pdfaid:conformance><u:part>1</u:part>`
	short := `pdfaid:part="2" pdfaid:conformance='U'`
	for _, c := range []struct {
		attributes, elements string
		profile              int
		adds                 claim.Effect
		has, gone            string
	}{
		{"", both, 3, 0, "PDF/A-1b and PDF/UA-1", ""},
		{"", both, 3, claim.Colour, "PDF/A-1b and PDF/UA-1", ""},
		{"", both, 4, claim.Colour, "PDF/A-1b and PDF/UA-1", "PDF/A-1b"},
		{"", both, 0, claim.Colour, "PDF/A-1b and PDF/UA-1", "PDF/A-1b"},
		{"", both, 3, claim.Transparency, "PDF/A-1b and PDF/UA-1", "PDF/A-1b"},
		{"", both, 3, claim.Comment, "PDF/A-1b and PDF/UA-1", "PDF/UA-1"},
		{"", both, 3, claim.Foreign, "PDF/A-1b and PDF/UA-1", "PDF/A-1b and PDF/UA-1"},
		{short, "", 3, claim.Transparency | claim.Comment | claim.Colour, "PDF/A-2u", ""},
		{short, "", 3, claim.Foreign, "PDF/A-2u", "PDF/A-2u"},
		{`pdfaid:part="tide"`, "", 3, claim.Foreign, "", ""},
		{"", "<pdfaid:part>1</pdfaid:part", 3, claim.Foreign, "", ""}, // broken
	} {
		doc := pdftest.Open(t, file(c.attributes, c.elements, c.profile)).Fork()
		assert.Equal(t, c.has, claim.Names(claim.Of(doc)))
		gone := claim.Settle(doc, c.adds)
		assert.Equal(t, c.gone, claim.Names(gone))
		assert.Equal(t, len(gone) > 0, len(claim.Told(gone)) > 0)
		for _, left := range claim.Of(doc) {
			assert.NotContains(t, c.gone, left.String())
		}
		assert.Contains(t, xmp(t, doc), "Berths &amp; tides")
		if c.gone == "PDF/A-1b" {
			assert.NotContains(t, xmp(t, doc), "<pdfaid:")
			assert.Contains(t, xmp(t, doc), "<u:part>1</u:part>")
		}
	}
	assert.Empty(t, claim.Of(pdftest.Open(t, pdftest.Text(1))))
}

func TestKeeps(t *testing.T) {
	open := func(part, level string, profile int) *pdf.Document {
		return pdftest.Open(t, file(fmt.Sprintf(`pdfaid:part="%s" pdfaid:conformance="%s"`, part, level), "", profile))
	}
	plain := pdftest.Open(t, pdftest.Text(1))
	assert.True(t, claim.Keeps(plain, open("1", "B", 3)), "who claims nothing loses nothing")
	assert.False(t, claim.Keeps(open("1", "B", 3), plain))
	assert.True(t, claim.Keeps(open("2", "B", 3), open("2", "A", 3)))
	assert.False(t, claim.Keeps(open("2", "A", 3), open("2", "B", 3)))
	assert.False(t, claim.Keeps(open("1", "B", 3), open("2", "B", 3)))
	assert.False(t, claim.Keeps(open("2", "B", 3), open("2", "B", 0)))
}

// The date is set where it stands, as an element or an attribute, and added where it is not.
func TestDate(t *testing.T) {
	for _, in := range [][2]string{
		{`xmp:ModifyDate="2020-01-01" xmp:MetadataDate="2020-01-01"`, ""},
		{"", "<xmp:ModifyDate>2020-01-01</xmp:ModifyDate>"},
		{"", "<xmp:ModifyDate/>"},
		{"", ""},
	} {
		doc := pdftest.Open(t, file(in[0], in[1], 0)).Fork()
		claim.Date(doc, "2031-05-06T07:08:09+01:00")
		got := xmp(t, doc)
		assert.NotContains(t, got, "2020")
		assert.Equal(t, max(1, strings.Count(in[0], "Date=")), strings.Count(got, "2031-05-06T07:08:09+01:00"), got)
		if in[0]+in[1] == "" {
			assert.Contains(t, got, `rdf:about="uuid:7" xmlns:xmp=`)
		}
		var whole strings.Builder
		require.NoError(t, doc.WriteFull(t.Context(), &whole, pdf.FullOptions{}))
		assert.Contains(t, string(pdftest.Tool(t, []byte(whole.String()), "pdfinfo", "-meta", "FILE")), "2031-05-06")
	}
	plain := pdftest.Open(t, pdftest.Text(1)).Fork()
	claim.Date(plain, "2031-05-06T07:08:09+01:00")
	assert.False(t, plain.Catalog().Has("Metadata"))
}
