package font_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"testing"

	"github.com/go-fonts/liberation/liberationsansregular"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/font"
)

// encrypt is the cipher of the Type 1 font format (clause 7.1), with four bytes of zero ahead.
func encrypt(plain []byte, key uint16) []byte {
	var out []byte
	for _, p := range append(make([]byte, 4), plain...) {
		c := p ^ byte(key>>8)
		key = (uint16(c)+key)*52845 + 22719
		out = append(out, c)
	}
	return out
}

// type1 makes a Type 1 program of glyphs by name: their charstrings.
func type1(encoding string, glyphs ...[2]string) []byte {
	var private bytes.Buffer
	private.WriteString("dup /Private 8 dict dup begin /lenIV 4 def\n")
	fmt.Fprintf(&private, "/CharStrings %d dict dup begin\n", len(glyphs))
	for _, g := range glyphs {
		c := encrypt([]byte(g[1]), 4330)
		fmt.Fprintf(&private, "/%s %d RD %s ND\n", g[0], len(c), c)
	}
	private.WriteString("end end readonly put")
	var out bytes.Buffer
	out.WriteString("%!PS-AdobeFont-1.0: Quay\n/FontName /Quay def\n/FontMatrix [0.001 0 0 0.001 0 0] readonly def\n" + encoding + "\ncurrentfile eexec\n")
	out.Write(encrypt(private.Bytes(), 55665))
	return out.Bytes()
}

// In charstrings a number n from -107 to 107 is the byte n+139; 13 is hsbw, 14 endchar, 5 rlineto.
var (
	blank = string([]byte{139, 239, 13, 14})                   // 0 100 hsbw endchar
	line  = string([]byte{139, 247, 142, 13, 140, 141, 5, 14}) // 0 250 hsbw 1 2 rlineto endchar
)

func TestType1(t *testing.T) {
	p := font.ParseProgram(type1("/Encoding 256 array\n0 1 255 {1 index exch /.notdef put} for\ndup 65 /A put\ndup 8#102 /B put\nreadonly def",
		[2]string{".notdef", blank}, [2]string{"A", line}, [2]string{"space", blank}))
	require.NotNil(t, p)
	assert.Equal(t, font.Type1Program, p.Kind)
	assert.Equal(t, 3, p.Glyphs)
	assert.Equal(t, "A", p.Encoding[65])
	assert.Equal(t, "B", p.Encoding[66])
	gid, ok := p.GlyphOf("A")
	require.True(t, ok)
	assert.True(t, p.HasOutline(gid))
	w, ok := p.Width(gid)
	assert.True(t, ok)
	assert.InDelta(t, 0.25, w, 1e-9)
	space, _ := p.GlyphOf("space")
	assert.False(t, p.HasOutline(space), "a glyph that draws nothing")
	_, ok = p.GlyphOf("B")
	assert.False(t, ok, "the encoding names it, the program has it not")
	p = font.ParseProgram(type1("/Encoding StandardEncoding def", [2]string{"A", line}))
	assert.Equal(t, "AE", p.Encoding[0xe1])
}

// index writes a CFF INDEX (Technical Note 5176, clause 5).
func index(parts ...[]byte) []byte {
	out := binary.BigEndian.AppendUint16(nil, uint16(len(parts)))
	if len(parts) == 0 {
		return out
	}
	out = append(out, 2)
	at := 1
	for i := 0; i <= len(parts); i++ {
		out = binary.BigEndian.AppendUint16(out, uint16(at))
		if i < len(parts) {
			at += len(parts[i])
		}
	}
	return append(out, bytes.Join(parts, nil)...)
}

// number writes a DICT operand of five bytes.
func number(v int) []byte { return binary.BigEndian.AppendUint32([]byte{29}, uint32(v)) }

// cff makes a CFF program of three glyphs: .notdef, A, and one that is named by the program itself.
func cff(cids bool) []byte {
	head := []byte{1, 0, 4, 1}
	names := index([]byte("Quay"))
	strs := index([]byte("bollard"))
	glyphs := index([]byte{14}, []byte{140, 141, 5, 14}, []byte{139, 14})
	charset := []byte{0, 0, 34, 391 >> 8, 391 & 0xff} // A is SID 34; 391 is the first own string
	if cids {
		charset = []byte{0, 0, 7, 3, 9} // CIDs 7 and 777
	}
	encoding := []byte{0, 2, 65, 200} // codes of the second and third glyph
	build := func(charsetAt, encodingAt, glyphsAt int) []byte {
		var top []byte
		if cids {
			top = append(append(append(number(391), number(391)...), number(0)...), 12, 30)
		}
		top = append(append(top, number(charsetAt)...), 15)
		top = append(append(top, number(encodingAt)...), 16)
		top = append(append(top, number(glyphsAt)...), 17)
		return bytes.Join([][]byte{head, names, index(top), strs, index()}, nil)
	}
	at := len(build(0, 0, 0))
	return bytes.Join([][]byte{build(at, at+len(charset), at+len(charset)+len(encoding)), charset, encoding, glyphs}, nil)
}

func TestCFF(t *testing.T) {
	p := font.ParseProgram(cff(false))
	require.NotNil(t, p)
	assert.Equal(t, 3, p.Glyphs)
	assert.Equal(t, []string{".notdef", "A", "bollard"}, []string{p.NameOf(0), p.NameOf(1), p.NameOf(2)})
	assert.Equal(t, "A", p.Encoding[65])
	assert.Equal(t, "bollard", p.Encoding[200])
	assert.True(t, p.HasOutline(1))
	assert.False(t, p.HasOutline(2))
	p = font.ParseProgram(cff(true))
	require.True(t, p.CIDs)
	gid, ok := p.GlyphOfCID(777)
	assert.True(t, ok)
	assert.Equal(t, 2, gid)
	_, ok = p.GlyphOfCID(8)
	assert.False(t, ok)
}

func TestTrueTypeProgram(t *testing.T) {
	p := font.ParseProgram(liberationsansregular.TTF)
	require.NotNil(t, p)
	assert.Equal(t, font.TrueTypeProgram, p.Kind)
	a, ok := p.GlyphOf("A")
	require.True(t, ok)
	assert.True(t, p.HasOutline(a))
	w, _ := p.Width(a)
	assert.InDelta(t, 0.667, w, 0.001)
	space, _ := p.GlyphOf("space")
	assert.False(t, p.HasOutline(space))
	assert.Equal(t, "A", p.NameOf(a))
	assert.Nil(t, font.ParseProgram([]byte("no")))
	for n := 0; n < 4000; n += 37 { // cut off anywhere
		font.ParseProgram(liberationsansregular.TTF[:n])
	}
}

func FuzzType1(f *testing.F) {
	f.Add(type1("/Encoding StandardEncoding def", [2]string{"A", line}, [2]string{"B", blank}))
	f.Add(type1("/Encoding 256 array dup 65 /A put def", [2]string{"A", line}))
	f.Add([]byte("%!PS\n/Encoding [/A /B] def /CharStrings 2 dict /A 3 RD abc ND"))
	fuzzProgram(f, []byte("%!"))
}

func FuzzCFF(f *testing.F) {
	f.Add(cff(false))
	f.Add(cff(true))
	fuzzProgram(f, []byte{1, 0, 4, 1})
}

func FuzzSFNT(f *testing.F) {
	f.Add(liberationsansregular.TTF[:3000])
	f.Add([]byte("OTTO\x00\x01\x00\x00\x00\x00\x00\x00CFF \x00\x00\x00\x00\x00\x00\x00\x1c\x00\x00\x00\x10\x01\x00\x04\x01"))
	f.Add([]byte("ttcf\x00\x01\x00\x00\x00\x00\x00\x01\x00\x00\x00\x10"))
	fuzzProgram(f, []byte{0, 1, 0, 0})
}

// fuzzProgram reads font programs, with the right bytes at their beginning and without, and asks for all there is.
func fuzzProgram(f *testing.F, magic []byte) {
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, d := range [][]byte{data, append(bytes.Clone(magic), data[min(len(data), len(magic)):]...)} {
			p := font.ParseProgram(d)
			if p == nil {
				continue
			}
			for gid := range min(p.Glyphs, 300) {
				p.HasOutline(gid)
				p.Width(gid)
				p.GlyphOf(p.NameOf(gid))
				p.GlyphOfCID(uint32(gid))
			}
		}
	})
}
