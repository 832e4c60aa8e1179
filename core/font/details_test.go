package font_test

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"testing"

	"github.com/go-fonts/liberation/liberationsansregular"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/font"
	"glenrain/core/pdf"
)

// The encrypted part of a Type 1 program may be binary or hexadecimal (clause 7.2), and the whole may stand in the
// segments of a PFB file.
func TestType1Wrappings(t *testing.T) {
	plain := type1("/Encoding [/.notdef /A/space] readonly def", [2]string{".notdef", blank}, [2]string{"A", line}, [2]string{"space", blank})
	cut := bytes.Index(plain, []byte("eexec\n")) + len("eexec\n")
	segment := func(kind byte, b []byte) []byte {
		return append(binary.LittleEndian.AppendUint32([]byte{0x80, kind}, uint32(len(b))), b...)
	}
	for name, data := range map[string][]byte{
		"binary":      plain,
		"hexadecimal": append(bytes.Clone(plain[:cut]), hex.EncodeToString(plain[cut:])...),
		"PFB":         bytes.Join([][]byte{segment(1, plain[:cut]), segment(2, plain[cut:]), {0x80, 3}}, nil),
	} {
		p := font.ParseProgram(data)
		require.NotNil(t, p, name)
		assert.Equal(t, 3, p.Glyphs, name)
		assert.Equal(t, []string{"", "A", "space"}, p.Encoding[:3], name)
		gid, ok := p.GlyphOf("A")
		assert.True(t, ok && p.HasOutline(gid), name)
	}
	short := segment(1, plain[:cut])
	binary.LittleEndian.PutUint32(short[2:], 1<<31) // a length that lies
	assert.NotPanics(t, func() { font.ParseProgram(short) })
}

// Advances of charstrings: clause 6.2 for the numbers, 6.4 for hsbw, sbw and div.
func TestType1Widths(t *testing.T) {
	for want, code := range map[float64][]byte{
		0.1:    {139, 239, 13, 14},                          // 0 100 hsbw
		0.108:  {139, 247, 0, 13, 14},                       // 108: the first of two bytes
		-0.364: {139, 252, 0, 13, 14},                       // -(252-251)*256-0-108
		0.7:    {139, 255, 0, 0, 2, 188, 13, 14},            // 700 in five bytes
		0.35:   {139, 255, 0, 0, 2, 188, 141, 12, 12, 13},   // 700 2 div
		0.25:   {139, 139, 247, 142, 139, 12, 7, 14, 0, 14}, // 0 0 250 0 sbw
	} {
		p := font.ParseProgram(type1("/Encoding StandardEncoding def", [2]string{"A", string(code)}))
		require.NotNil(t, p)
		w, ok := p.Width(0)
		assert.True(t, ok, want)
		assert.InDelta(t, want, w, 1e-9)
	}
	p := font.ParseProgram(type1("/Encoding StandardEncoding def", [2]string{"A", "\x05"}))
	_, ok := p.Width(0)
	assert.False(t, ok, "a charstring without hsbw has no width")
}

// table writes a CFF program: glyphs' charstrings, and the parts of its top DICT that are put behind it.
func table(top []byte, charset, encoding, private []byte, glyphs ...[]byte) []byte {
	head, names, strs, subrs := []byte{1, 0, 4, 1}, index([]byte("Quay")), index([]byte("bollard"), []byte("capstan")), index()
	build := func(at int) []byte {
		d := bytes.Clone(top)
		if charset != nil {
			d = append(append(d, number(at)...), 15)
			at += len(charset)
		}
		if encoding != nil {
			d = append(append(d, number(at)...), 16)
			at += len(encoding)
		}
		d = append(append(append(d, number(len(private))...), number(at)...), 18)
		at += len(private)
		d = append(append(d, number(at)...), 17)
		return bytes.Join([][]byte{head, names, index(d), strs, subrs}, nil)
	}
	return bytes.Join([][]byte{build(len(build(0))), charset, encoding, private, index(glyphs...)}, nil)
}

// Charsets and encodings in ranges (Technical Note 5176, clauses 12 and 13), with codes that a supplement adds.
func TestCFFRanges(t *testing.T) {
	end := []byte{14}
	supplement := []byte{0x81, 1, 65, 2, 1, 250, 391 >> 8, 391 & 0xff} // codes 65 to 67; 250 too is the first own string
	for name, charset := range map[string][]byte{
		"format 0": {0, 0, 34, 0, 35, 0, 36},
		"format 1": {1, 0, 34, 2},
		"format 2": {2, 0, 34, 0, 2},
	} {
		p := font.ParseProgram(table(nil, charset, supplement, nil, end, end, end, end))
		require.NotNil(t, p, name)
		assert.Equal(t, []string{"A", "B", "C"}, []string{p.NameOf(1), p.NameOf(2), p.NameOf(3)}, name)
		assert.Equal(t, []string{"A", "B", "C"}, p.Encoding[65:68], name)
		assert.Equal(t, "bollard", p.Encoding[250], name)
	}
	// The predefined ones: ISOAdobe and the standard encoding where nothing is said, Expert by its number.
	p := font.ParseProgram(table(nil, nil, nil, nil, end, end, end))
	assert.Equal(t, []string{"space", "exclam"}, []string{p.NameOf(1), p.NameOf(2)})
	assert.Equal(t, "quoteright", p.Encoding[39])
	p = font.ParseProgram(table(append(append(number(1), 15), append(number(1), 16)...), nil, nil, nil, end, end, end))
	assert.Equal(t, []string{"space", "exclamsmall"}, []string{p.NameOf(1), p.NameOf(2)})
	p = font.ParseProgram(table(append(number(2), 15), nil, nil, nil, end, end, end))
	assert.Equal(t, []string{"space", "dollaroldstyle"}, []string{p.NameOf(1), p.NameOf(2)})
}

// The advance of a Type 2 charstring (Technical Note 5177, clause 3.1) and a FontMatrix in reals (5176, table 5).
func TestCFFWidths(t *testing.T) {
	private := append(append(number(500), 20), append(number(300), 21)...) // defaultWidthX, nominalWidthX
	half := []byte{30, 0xa0, 0x00, 0x5f}                                   // .0005
	zero := []byte{139}
	matrix := append(bytes.Join([][]byte{half, zero, zero, half, zero, zero}, nil), 12, 7)
	shift := func(op ...byte) []byte { return append(append([]byte{239}, op...), 14) } // 100 ahead of an operator
	for name, c := range map[string]struct {
		code []byte
		want float64
	}{
		"endchar alone":             {[]byte{14}, 500},
		"endchar with a width":      {[]byte{239, 14}, 400},
		"an accented letter":        {[]byte{139, 139, 204, 205, 14}, 500},
		"the same with a width":     {[]byte{189, 139, 139, 204, 205, 14}, 350},
		"rmoveto":                   {[]byte{140, 141, 21, 14}, 500},
		"rmoveto with a width":      {shift(140, 141, 21), 400},
		"hmoveto with a width":      {shift(140, 22), 400},
		"stems with a width":        {shift(140, 141, 1), 400},
		"stems without":             {[]byte{140, 141, 142, 143, 18, 14}, 500},
		"a width in three bytes":    {[]byte{28, 0, 200, 14}, 300 + 200},
		"a negative one":            {[]byte{251, 0, 14}, 300 - 108},
		"a width in fractions":      {[]byte{255, 0, 10, 0x80, 0, 14}, 310.5},
		"a width in two, and a set": {[]byte{247, 0, 140, 4, 14}, 408},
	} {
		p := font.ParseProgram(table(matrix, nil, nil, private, c.code))
		require.NotNil(t, p, name)
		w, ok := p.Width(0)
		assert.True(t, ok, name)
		assert.InDelta(t, c.want*0.0005, w, 1e-9, name)
	}
	p := font.ParseProgram(table(nil, nil, nil, private, []byte{140, 10}))
	_, ok := p.Width(0)
	assert.False(t, ok, "what stands in a subroutine is not guessed at")
}

// The glyph of a code of a TrueType program: 9.6.5.4, with names and without.
func TestTrueTypeCodes(t *testing.T) {
	doc := pdf.New()
	program := doc.Add(pdf.NewFlateStream(pdf.NewDict(), liberationsansregular.TTF))
	of := func(flags int, entries string) *font.Font {
		d := dict(doc, "<</Type/Font/Subtype/TrueType/BaseFont/ABCDEF+LiberationSans"+entries+">>")
		d.Set("FontDescriptor", pdf.NewDict("FontFile2", program, "Flags", pdf.Integer(flags)))
		return font.Read(doc, d)
	}
	drawn := func(f *font.Font, code byte) string {
		gid, ok := f.Glyph(char(f, code))
		require.True(t, ok, code)
		return f.Program().NameOf(gid)
	}
	const symbolic, nonsymbolic = 4, 32
	f := of(nonsymbolic, "/Encoding/WinAnsiEncoding")
	assert.Equal(t, "Adieresis", drawn(f, 0xc4))
	assert.Equal(t, "Euro", drawn(f, 0x80))
	assert.InDelta(t, 0.667, char(f, 'A').Width, 0.001, "without Widths the program's own")
	f = of(nonsymbolic, "/Encoding/MacRomanEncoding")
	assert.Equal(t, "Adieresis", drawn(f, 0x80))
	f = of(nonsymbolic, "/Encoding<</BaseEncoding/WinAnsiEncoding/Differences[65/omega/fi]>>")
	assert.Equal(t, "omega", drawn(f, 65))
	assert.Equal(t, "fi", char(f, 66).Text)
	f = of(symbolic, "")
	assert.Equal(t, "B", drawn(f, 'B'), "by the code itself, where the program has no table for symbols")
	assert.Equal(t, "B", char(f, 'B').Text)
	code, ok := f.CodeOf("Q")
	assert.True(t, ok)
	assert.Equal(t, []byte("Q"), code.Append(nil))
	_, ok = f.CodeOf("漢")
	assert.False(t, ok)
}

// A font that says no widths takes those of the standard font that it resembles (Adobe's AFM files for the core 14).
func TestWidthsOfLikeness(t *testing.T) {
	doc := pdf.New()
	for entries, want := range map[string]float64{
		"/BaseFont/Quay-Bold/FontDescriptor<</Flags 32/FontWeight 700>>":                    0.722,
		"/BaseFont/Quay-Italic/FontDescriptor<</Flags 98/ItalicAngle -12>>":                 0.611,
		"/BaseFont/Quay-BoldItalic/FontDescriptor<</Flags 98/ItalicAngle -12/StemV 150>>":   0.667,
		"/BaseFont/Quay-Roman/FontDescriptor<</Flags 34>>":                                  0.722,
		"/BaseFont/Quay-Mono/FontDescriptor<</Flags 33>>":                                   0.6,
		"/BaseFont/Helvetica-Oblique":                                                       0.667,
		"/BaseFont/Quay/FirstChar 65/Widths[]/FontDescriptor<</Flags 32/MissingWidth 333>>": 0.333,
	} {
		f := font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type1/Encoding/WinAnsiEncoding"+entries+">>"))
		assert.InDelta(t, want, char(f, 'A').Width, 1e-9, entries)
	}
}

// The em of a Type 3 font is judged by the widths of its letters, and by its box where it has none that are known.
func TestEmOfType3(t *testing.T) {
	doc := pdf.New()
	f := font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type3/FontMatrix[1 0 0 1 0 0]/FirstChar 110/Widths[5.5 5]/Encoding<</Differences[110/n/o]>>>>"))
	assert.InDelta(t, 10, f.Em(), 1e-9)
	f = font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type3/FontMatrix[.01 0 0 .01 0 0]/FontBBox[0 -200 90 800]/FirstChar 1/Widths[50]/Encoding<</Differences[1/shape]>>>>"))
	assert.InDelta(t, 10, f.Em(), 1e-9)
	f = font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type3/FontMatrix[.01 0 0 .01 0 0]>>"))
	assert.InDelta(t, 1, f.Em(), 1e-9)
	assert.InDelta(t, 1, font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type1/BaseFont/Times-Roman>>")).Em(), 1e-9)
}
