package font_test

import (
	"testing"

	"github.com/go-fonts/liberation/liberationserifbold"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/font"
	"glenrain/core/pdf"
)

func TestTextOf(t *testing.T) {
	for name, want := range map[string]string{
		"A": "A", "Aacute": "Á", "fi": "fi", "f_f_i": "ffi", "a.sc": "a", "uni0041": "A", "uni00410042": "AB", "u1F600": "😀", "uniD800": "",
		"Euro": "€", "nonsense": "", ".notdef": "", "trianglerightsld": "▶", "afii10017": "А", "dotlessj": "ȷ", "Lcommaaccent_uni20AC0308_u1040C.alternate": "Ļ€̈𐐌",
	} {
		assert.Equal(t, want, font.TextOf(name), name) // the last is the specification's own example
	}
}

// The example of ISO 32000-2, 9.10.3: ranges, a range with an array, and a character beyond the basic plane.
func TestToUnicode(t *testing.T) {
	m := font.ParseCMap([]byte(`/CIDInit /ProcSet findresource begin 12 dict begin begincmap
/CIDSystemInfo << /Registry (Adobe) /Ordering (UCS) /Supplement 0 >> def /CMapName /Adobe-Identity-UCS def /CMapType 2 def
1 begincodespacerange <0000> <FFFF> endcodespacerange
2 beginbfrange <0000> <005E> <0020> <005F> <0061> [<00660066> <00660069> <00660066006C>] endbfrange
1 beginbfchar <3A51> <D840DC3E> endbfchar
endcmap CMapName currentdict /CMap defineresource pop end end`), nil)
	for code, want := range map[uint32]string{0: " ", 0x21: "A", 0x5e: "~", 0x5f: "ff", 0x60: "fi", 0x61: "ffl", 0x3a51: "\U0002003e"} {
		got, ok := m.Text(code)
		assert.True(t, ok)
		assert.Equal(t, want, got)
	}
	_, ok := m.Text(0x62)
	assert.False(t, ok)
	assert.Equal(t, "Adobe-Identity-UCS", m.Name)
}

// Codes of one and two bytes are told apart by the code spaces (9.7.6.3), and the public tables lead from codes to CIDs to text.
func TestPredefinedCMaps(t *testing.T) {
	m := font.PredefinedCMap("90ms-RKSJ-H")
	require.NotNil(t, m)
	code, n := m.Next([]byte{0x82, 0xa0, 0x41})
	assert.Equal(t, 2, n)
	cid, ok := m.CID(code, n)
	assert.True(t, ok)
	assert.EqualValues(t, 843, cid) // Hiragana A in Adobe-Japan1 (Technical Note 5078)
	code, n = m.Next([]byte{0x41, 0x82})
	assert.Equal(t, 1, n)
	cid, _ = m.CID(code, n)
	assert.EqualValues(t, 264, cid) // half-width A
	text, _ := font.PredefinedCMap("Adobe-Japan1-UCS2").Text(843)
	assert.Equal(t, "あ", text)
	v := font.PredefinedCMap("UniJIS-UTF16-V")
	require.NotNil(t, v)
	assert.True(t, v.Vertical)
	cid, _ = v.CID(0x3042, 2)
	assert.EqualValues(t, 843, cid, "by usecmap")
	for _, name := range []string{"GBK-EUC-H", "B5pc-H", "KSCms-UHC-H", "UniCNS-UTF16-H", "UniGB-UCS2-V", "UniKS-UTF16-H", "H", "V", "Adobe-KR-UCS2"} {
		assert.NotNil(t, font.PredefinedCMap(name), name)
	}
	assert.Nil(t, font.PredefinedCMap("../H"))
	assert.Nil(t, font.PredefinedCMap("Nothing"))
}

func dict(doc *pdf.Document, s string) *pdf.Dict {
	o, err := (&pdf.Lexer{Data: []byte(s), Refs: true}).Next()
	if err != nil {
		panic(err)
	}
	return o.(*pdf.Dict)
}

func char(f *font.Font, code ...byte) *font.Char {
	c, _ := f.Next(code)
	return c
}

func TestSimpleFonts(t *testing.T) {
	doc := pdf.New()
	f := font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type1/BaseFont/Times-Roman>>"))
	assert.Equal(t, "’", char(f, 39).Text, "StandardEncoding")
	assert.InDelta(t, 0.25, char(f, ' ').Width, 1e-9)
	f = font.Read(doc, dict(doc, "<</Type/Font/Subtype/TrueType/BaseFont/ABCDEF+Arial,Bold/Encoding/WinAnsiEncoding/FirstChar 65/Widths[700 710]>>"))
	assert.Equal(t, "Arial,Bold", f.Name)
	assert.True(t, f.Subset)
	assert.Equal(t, 700, f.Style.Weight)
	assert.Equal(t, "€", char(f, 0x80).Text)
	assert.InDelta(t, 0.71, char(f, 66).Width, 1e-9)
	f = font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type1/BaseFont/Quay/Encoding<</BaseEncoding/MacRomanEncoding/Differences[65/alpha 200/bollard/f_i]>>>>"))
	assert.Equal(t, "α", char(f, 65).Text)
	assert.Equal(t, "fi", char(f, 201).Text)
	assert.Equal(t, "ä", char(f, 0x8a).Text)
	assert.Empty(t, char(f, 200).Text)
	f = font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type1/BaseFont/Symbol>>"))
	assert.Equal(t, "α", char(f, 'a').Text)
	f = font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type1/BaseFont/ZapfDingbats>>"))
	assert.Equal(t, "✁", char(f, '!').Text)
	f = font.Read(doc, dict(doc, "<</Type/Font/Subtype/Type3/FontMatrix[.01 0 0 .01 0 0]/FirstChar 65/Widths[50]/Encoding<</Differences[65/a65/x42]>>>>"))
	assert.Equal(t, "A", char(f, 65).Text)
	assert.Equal(t, "B", char(f, 66).Text)
	assert.InDelta(t, 0.5, char(f, 65).Width, 1e-9)
}

// An embedded font gives codes only for what it can draw, whatever its ToUnicode says.
func TestCodesOfEmbeddedFont(t *testing.T) {
	doc := pdf.New()
	program := doc.Add(pdf.NewFlateStream(pdf.NewDict(), type1("/Encoding StandardEncoding def", [2]string{".notdef", blank}, [2]string{"A", line}, [2]string{"space", blank})))
	to := doc.Add(pdf.NewFlateStream(pdf.NewDict(), []byte("1 begincodespacerange <00> <ff> endcodespacerange 1 beginbfrange <20> <7e> <0020> endbfrange")))
	d := dict(doc, "<</Type/Font/Subtype/Type1/BaseFont/ABCDEF+Quay/FirstChar 32/Widths[250]>>")
	d.Set("FontDescriptor", pdf.NewDict("FontFile", program, "Flags", pdf.Integer(4)))
	d.Set("ToUnicode", to)
	f := font.Read(doc, d)
	require.True(t, f.Embedded)
	c, ok := f.CodeOf("A")
	assert.True(t, ok)
	assert.Equal(t, []byte{65}, c.Append(nil))
	_, ok = f.CodeOf("B")
	assert.False(t, ok, "ToUnicode knows it, the program has it not")
	_, ok = f.CodeOf(" ")
	assert.True(t, ok, "a space draws nothing")
	assert.True(t, f.Draws(char(f, 65)))
	assert.False(t, f.Draws(char(f, 66)))
}

func TestCompositeFonts(t *testing.T) {
	doc := pdf.New()
	f := font.Read(doc, dict(doc, `<</Type/Font/Subtype/Type0/BaseFont/Mincho/Encoding/90ms-RKSJ-V/DescendantFonts[<</Type/Font/Subtype/CIDFontType0
		/CIDSystemInfo<</Registry(Adobe)/Ordering(Japan1)/Supplement 2>>/W[843[600 700] 900 902 500]/W2[843[-900 300 800]]>>]>>`))
	assert.True(t, f.Vertical)
	c, n := f.Next([]byte{0x82, 0xa0})
	assert.Equal(t, 2, n)
	assert.Equal(t, "あ", c.Text)
	assert.EqualValues(t, 843, c.CID)
	assert.Equal(t, []float64{0.6, -0.9, 0.3, 0.8}, []float64{c.Width, c.Down, c.VX, c.VY})
	c, n = f.Next([]byte{0x41})
	assert.Equal(t, 1, n)
	assert.Equal(t, "A", c.Text)
	assert.Equal(t, []float64{1, -1, 0.5, 0.88}, []float64{c.Width, c.Down, c.VX, c.VY}, "the defaults of table 115")

	// Identity, without ToUnicode: the text comes from the program.
	program := doc.Add(pdf.NewFlateStream(pdf.NewDict(), liberationserifbold.TTF))
	d := dict(doc, `<</Type/Font/Subtype/Type0/BaseFont/ABCDEF+Serif/Encoding/Identity-H/DescendantFonts[<</Type/Font/Subtype/CIDFontType2/CIDToGIDMap/Identity/DW 500>>]>>`)
	doc.Dict(doc.Array(d.Get("DescendantFonts"))[0]).Set("FontDescriptor", pdf.NewDict("FontFile2", program))
	f = font.Read(doc, d)
	code, ok := f.CodeOf("Q")
	require.True(t, ok)
	c, _ = f.Next(code.Append(nil))
	assert.Equal(t, "Q", c.Text)
	gid, _ := f.Glyph(c)
	assert.Equal(t, "Q", f.Program().NameOf(gid))
}

func FuzzCMap(f *testing.F) {
	f.Add([]byte("1 begincodespacerange <00> <80> endcodespacerange 1 begincidrange <00> <7f> 3 endcidrange 2 beginbfrange <00> <05> <0041> <06> <07> [<0042> /A] endbfrange"))
	f.Add([]byte("/H usecmap 1 beginbfchar <3A51> <D840DC3E> endbfchar /WMode 1 def"))
	f.Add([]byte("begincodespacerange <81><9f> <8140> <9ffc> <e040> <fcfc> endcodespacerange begincidchar <8140> 7 endcidchar"))
	f.Fuzz(func(t *testing.T, data []byte) {
		m := font.ParseCMap(data, func(string) *font.CMap { return nil })
		for i := 0; i < len(data); {
			code, n := m.Next(data[i:])
			if n < 1 {
				t.Fatal("no way forward")
			}
			m.CID(code, n)
			m.Text(code)
			i += n
		}
		m.CodeOf(5)
	})
}
