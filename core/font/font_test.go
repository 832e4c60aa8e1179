package font

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/go-fonts/liberation/liberationsansregular"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// The Liberation faces have the widths of the standard 14 (Adobe Core 14 AFM files).
func TestWidths(t *testing.T) {
	for name, widths := range map[string]map[rune]int{
		"Sans":       {'A': 667, 'a': 556, 'i': 222, 'W': 944, ' ': 278, '1': 556, '.': 278, '@': 1015, 'é': 556},
		"Sans Bold":  {'A': 722, 'a': 556, 'i': 278, 'W': 944, '1': 556},
		"Serif":      {'A': 722, 'a': 444, 'i': 278, 'W': 944, ' ': 250, '1': 500, '@': 921},
		"Serif Bold": {'A': 722, 'a': 500, 'W': 1000},
		"Mono":       {'A': 600, 'i': 600, 'W': 600, ' ': 600},
	} {
		f, err := Face(name)
		require.NoError(t, err)
		for r, want := range widths {
			got := float64(f.Advance(f.Glyph(r))) * 1000 / float64(f.UnitsPerEm)
			assert.InDelta(t, want, got, 0.7, "%s %c", name, r)
		}
	}
	_, err := Face("Fraktur")
	assert.Error(t, err)
	for name := range shipped {
		f, err := Face(name)
		require.NoError(t, err, name)
		assert.NotEmpty(t, f.Name)
		assert.Equal(t, strings.Contains(name, "Italic"), f.Italic != 0, name)
		assert.Equal(t, strings.Contains(name, "Bold"), f.Weight >= 700, name)
		assert.Equal(t, strings.HasPrefix(name, "Mono"), f.FixedPitch, name)
		if !strings.HasPrefix(name, "Mono") { // its slabs count as serifs
			assert.Equal(t, strings.HasPrefix(name, "Serif"), f.Serif, name)
		}
		assert.Positive(t, f.CapHeight)
		assert.Negative(t, f.Descent)
	}
}

// A subset keeps glyph numbers and outlines, holds the parts of composite glyphs, and is small.
func TestSubset(t *testing.T) {
	whole, err := ParseTrueType(liberationsansregular.TTF)
	require.NoError(t, err)
	e, o := whole.Glyph('é'), whole.Glyph('o')
	data := whole.Subset([]uint16{e, o})
	assert.Less(t, len(data), len(liberationsansregular.TTF)/10)
	tables := tablesOf(t, data)
	assert.Equal(t, []string{"cvt ", "fpgm", "glyf", "head", "hhea", "hmtx", "loca", "maxp", "prep"}, tables.tags)
	for _, g := range []uint16{e, o, whole.Glyph('e')} { // é is made of e and an accent
		assert.Equal(t, whole.outline(g), tables.outline(g)[:len(whole.outline(g))], "glyph %d", g)
		assert.NotEmpty(t, tables.outline(g))
	}
	assert.Empty(t, tables.outline(whole.Glyph('x')), "a glyph that is not used")
	// The whole file sums up to the magic number (OpenType 1.9, "checksums").
	assert.Equal(t, uint32(0xB1B0AFBA), checksum(data))
	assert.Equal(t, data, whole.Subset([]uint16{o, e}), "the same glyphs give the same bytes")
}

type tables struct {
	tags []string
	TrueType
}

// tablesOf reads a subset's directory; it has no cmap, so ParseTrueType does not.
func tablesOf(t *testing.T, data []byte) *tables {
	out := &tables{TrueType: TrueType{tables: map[string][]byte{}}}
	for i := range int(be16(data, 4)) {
		rec := data[12+16*i:]
		tag := string(rec[:4])
		body := data[be32(rec, 8):][:be32(rec, 12)]
		out.tags = append(out.tags, tag)
		out.TrueType.tables[tag] = body
		if tag != "head" {
			assert.Equal(t, be32(rec, 4), checksum(body), tag)
		}
	}
	assert.True(t, slices.IsSorted(out.tags))
	out.Glyphs = int(be16(out.TrueType.tables["maxp"], 4))
	for i := range out.Glyphs + 1 {
		out.loca = append(out.loca, be32(out.TrueType.tables["loca"], 4*i))
	}
	return out
}

// Text set in an embedded face is read back by other programs, as text and as a font.
func TestEmbed(t *testing.T) {
	doc := pdf.New()
	f, err := Face("Serif")
	require.NoError(t, err)
	e := Embed(doc, f)
	text := "Größe: 4½ m – “ﬁrst” Ωmega €"
	codes, width, missing := e.Encode(text)
	assert.Empty(t, missing)
	assert.Len(t, codes, 2*len([]rune(text)))
	assert.Positive(t, width)
	_, _, missing = e.Encode("漢")
	assert.Equal(t, []rune{'漢'}, missing)
	content := append([]byte("BT /F 20 Tf 30 100 Td "), pdf.AppendObject(nil, pdf.String(codes))...)
	content = append(content, " Tj ET"...)
	e.Finish(doc)
	page := doc.Add(pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(400), pdf.Integer(200)},
		"Resources", pdf.NewDict("Font", pdf.NewDict("F", e.Ref())), "Contents", doc.Add(pdf.NewStream(nil, content))))
	require.NoError(t, doc.InsertPages(0, []pdf.Ref{page}))
	file := pdftest.Whole(t, doc)
	pdftest.Check(t, file)
	assert.Equal(t, []string{text}, pdftest.PageTexts(t, file))
	fonts := pdftest.Tool(t, file, "pdffonts", "FILE")
	assert.Regexp(t, `[A-Z]{6}\+LiberationSerif\s+CID TrueType\s+Identity-H\s+yes yes yes`, fonts)
	// The page draws: poppler finds ink where the text stands.
	assert.Contains(t, pdftest.Tool(t, file, "pdftotext", "-bbox", "FILE", "-"), "xMin=\"30.")
}

func TestBadFonts(t *testing.T) {
	good := liberationsansregular.TTF
	for _, data := range [][]byte{nil, []byte("OTTO"), good[:5000], bytes.Repeat([]byte{0, 1, 0, 0}, 100), append([]byte("wOF2"), good[4:]...)} {
		_, err := ParseTrueType(data)
		assert.ErrorIs(t, err, ErrFormat)
	}
}

func FuzzTrueType(f *testing.F) {
	f.Add(liberationsansregular.TTF[:3000])
	f.Fuzz(func(t *testing.T, data []byte) {
		font, err := ParseTrueType(data)
		if err == nil && font.Glyphs > 0 {
			_ = font.Glyph('a')
		}
	})
}

// Letters are kerned as the face has it: against the pairs of its kern table (OpenType, "kern", format 0).
func TestAdvances(t *testing.T) {
	f, err := Face("Sans")
	require.NoError(t, err)
	kern := f.tables["kern"]
	require.NotEmpty(t, kern)
	pairs := map[[2]uint16]int16{}
	n := int(be16(kern, 10))
	for i := range n {
		at := 18 + 6*i
		pairs[[2]uint16{be16(kern, at), be16(kern, at+2)}] = int16(be16(kern, at+4))
	}
	kerned := 0
	for _, pair := range []string{"AV", "To", "Te", "Yo", "WA", "P.", "no", "ab", "11"} {
		r := []rune(pair)
		got := f.Advances(r)
		require.Len(t, got, 2, pair)
		want := float64(f.Advance(f.Glyph(r[0]))) + float64(pairs[[2]uint16{f.Glyph(r[0]), f.Glyph(r[1])}])
		assert.InDelta(t, want/float64(f.UnitsPerEm), got[0], 0.002, pair)
		if pairs[[2]uint16{f.Glyph(r[0]), f.Glyph(r[1])}] != 0 {
			kerned++
		}
	}
	assert.Greater(t, kerned, 4)
	assert.Nil(t, f.Advances(nil))
	assert.Len(t, f.Advances([]rune("office")), 6, "no ligatures")
}
