// Package font reads font programs, cuts them down to the glyphs a document uses
// and embeds them. It takes font files and text; it gives codes, widths and font
// dictionaries. Where text stands on a page is not its concern.
package font

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"slices"
	"unicode/utf16"
)

// ErrFormat: the font file can't be read.
var ErrFormat = errors.New("not a TrueType font that can be read")

// TrueType is a parsed TrueType font (OpenType 1.9 with glyf outlines). Widths and
// heights are in font units: UnitsPerEm to the em.
type TrueType struct {
	Name       string // PostScript name (name table, ID 6)
	UnitsPerEm int
	Glyphs     int
	Ascent     int
	Descent    int // below the baseline, negative
	CapHeight  int
	BBox       [4]int
	Italic     float64 // degrees, negative leans right (post table)
	Weight     int     // 100 to 900 (OS/2)
	FixedPitch bool
	Serif      bool

	data    []byte // the whole file
	shaping shaper
	tables  map[string][]byte
	loca    []uint32
	hmtx    []byte
	nHMtx   int
	cmap    map[rune]uint16
}

// ParseTrueType reads a font file.
func ParseTrueType(data []byte) (t *TrueType, err error) {
	defer func() {
		if recover() != nil { // an offset outside its table
			t, err = nil, ErrFormat
		}
	}()
	if len(data) < 12 || binary.BigEndian.Uint32(data) != 0x00010000 && string(data[:4]) != "true" {
		return nil, ErrFormat
	}
	data = data[:len(data):len(data)] // nothing behind its end can be reached
	t = &TrueType{data: data, tables: map[string][]byte{}, cmap: map[rune]uint16{}}
	for i := range int(be16(data, 4)) {
		rec := data[12+16*i:]
		off, n := be32(rec, 8), be32(rec, 12)
		t.tables[string(rec[:4])] = data[off : off+n : off+n]
	}
	for _, tag := range []string{"head", "hhea", "hmtx", "maxp", "loca", "glyf", "cmap"} {
		if t.tables[tag] == nil {
			return nil, fmt.Errorf("%w: no %s table", ErrFormat, tag)
		}
	}
	head, hhea := t.tables["head"], t.tables["hhea"]
	t.UnitsPerEm = int(be16(head, 18))
	for i := range t.BBox {
		t.BBox[i] = int(int16(be16(head, 36+2*i)))
	}
	t.Glyphs = int(be16(t.tables["maxp"], 4))
	t.Ascent, t.Descent = int(int16(be16(hhea, 4))), int(int16(be16(hhea, 6)))
	t.nHMtx, t.hmtx = int(be16(hhea, 34)), t.tables["hmtx"]
	loca := t.tables["loca"]
	t.loca = make([]uint32, t.Glyphs+1)
	for i := range t.loca {
		if be16(head, 50) == 0 {
			t.loca[i] = 2 * uint32(be16(loca, 2*i))
		} else {
			t.loca[i] = be32(loca, 4*i)
		}
	}
	t.CapHeight, t.Weight = t.Ascent*7/10, 400
	if os2 := t.tables["OS/2"]; len(os2) >= 64 {
		t.Weight = int(be16(os2, 4))
		t.Serif = os2[32] == 2 && os2[33] >= 2 && os2[33] <= 10 // PANOSE serif style
		if be16(os2, 0) >= 2 && len(os2) >= 90 {
			t.CapHeight = int(int16(be16(os2, 88)))
		}
	}
	if post := t.tables["post"]; len(post) >= 16 {
		t.Italic = float64(int32(be32(post, 4))) / 65536
		t.FixedPitch = be32(post, 12) != 0
	}
	t.readName()
	t.readCmap()
	if t.UnitsPerEm == 0 || t.nHMtx == 0 || len(t.cmap) == 0 {
		return nil, ErrFormat
	}
	return t, nil
}

func be16(b []byte, i int) uint16 { return binary.BigEndian.Uint16(b[i:]) }
func be32(b []byte, i int) uint32 { return binary.BigEndian.Uint32(b[i:]) }

func (t *TrueType) readName() {
	b := t.tables["name"]
	if len(b) < 6 {
		return
	}
	strs := b[be16(b, 4):]
	for i := range int(be16(b, 2)) {
		rec := b[6+12*i:]
		if be16(rec, 6) != 6 {
			continue
		}
		s := strs[be16(rec, 10):][:be16(rec, 8)]
		if be16(rec, 0) == 1 {
			t.Name = string(s)
			continue
		}
		u := make([]uint16, len(s)/2)
		for j := range u {
			u[j] = be16(s, 2*j)
		}
		t.Name = string(utf16.Decode(u))
	}
}

func (t *TrueType) readCmap() {
	b := t.tables["cmap"]
	for i := range int(be16(b, 2)) {
		rec := b[4+8*i:]
		platform, enc := be16(rec, 0), be16(rec, 2)
		if platform != 0 && (platform != 3 || enc != 1 && enc != 10) {
			continue
		}
		m := charMap{glyphs: map[uint32]int{}}
		m.read(b[be32(rec, 4):])
		for c, g := range m.glyphs {
			t.cmap[rune(c)] = uint16(g)
		}
	}
}

// Glyph gives the glyph of a character; 0 is the missing glyph.
func (t *TrueType) Glyph(r rune) uint16 { return t.cmap[r] }

// Advance gives a glyph's advance width in font units.
func (t *TrueType) Advance(gid uint16) int {
	return int(be16(t.hmtx, 4*min(int(gid), t.nHMtx-1)))
}

// XHeight is how high small letters are, in em; 0 where the face does not say (OpenType, OS/2, sxHeight).
func (t *TrueType) XHeight() float64 {
	os2 := t.tables["OS/2"]
	if len(os2) < 90 || be16(os2, 0) < 2 || t.UnitsPerEm == 0 {
		return 0
	}
	return float64(int16(be16(os2, 86))) / float64(t.UnitsPerEm)
}

// outline is a glyph's description in the glyf table; empty for a space.
func (t *TrueType) outline(gid uint16) []byte {
	if int(gid) >= t.Glyphs {
		return nil
	}
	a, b := t.loca[gid], t.loca[gid+1]
	if glyf := t.tables["glyf"]; a < b && int(b) <= len(glyf) {
		return glyf[a:b]
	}
	return nil
}

// HasOutline reports whether a glyph draws anything.
func (t *TrueType) HasOutline(gid uint16) bool { return len(t.outline(gid)) > 0 }

// components adds the glyphs that a composite glyph is made of.
func (t *TrueType) components(gid uint16, into map[uint16]bool) {
	if into[gid] {
		return
	}
	into[gid] = true
	g := t.outline(gid)
	if len(g) < 10 || int16(be16(g, 0)) >= 0 {
		return
	}
	for at := 10; at+4 <= len(g); {
		flags, part := be16(g, at), be16(g, at+2)
		t.components(part, into)
		at += 4
		if flags&0x0001 != 0 {
			at += 4
		} else {
			at += 2
		}
		switch {
		case flags&0x0008 != 0:
			at += 2
		case flags&0x0040 != 0:
			at += 4
		case flags&0x0080 != 0:
			at += 8
		}
		if flags&0x0020 == 0 {
			break
		}
	}
}

// closure gives glyphs with those they are composed of, and the one for characters that are missing.
func (t *TrueType) closure(gids []uint16) map[uint16]bool {
	keep := map[uint16]bool{}
	t.components(0, keep)
	for _, g := range gids {
		t.components(g, keep)
	}
	return keep
}

// Subset gives a font file with only the given glyphs (and those they are made
// of), under the numbers they have here. It holds the tables that an embedded
// TrueType program needs (ISO 32000-2, 9.9.1).
func (t *TrueType) Subset(gids []uint16) []byte {
	keep := t.closure(gids)
	used := slices.Sorted(maps.Keys(keep))
	n := min(int(used[len(used)-1])+1, t.Glyphs)
	loca := make([]byte, 4*(n+1))
	hmtx := make([]byte, 4*n)
	var glyf []byte
	for g := range n {
		binary.BigEndian.PutUint32(loca[4*g:], uint32(len(glyf)))
		if !keep[uint16(g)] {
			continue
		}
		glyf = append(glyf, t.outline(uint16(g))...)
		for len(glyf)%4 != 0 {
			glyf = append(glyf, 0)
		}
		binary.BigEndian.PutUint16(hmtx[4*g:], uint16(t.Advance(uint16(g))))
		binary.BigEndian.PutUint16(hmtx[4*g+2:], uint16(t.bearing(g)))
	}
	binary.BigEndian.PutUint32(loca[4*n:], uint32(len(glyf)))
	head := slices.Clone(t.tables["head"])
	binary.BigEndian.PutUint32(head[8:], 0)
	binary.BigEndian.PutUint16(head[50:], 1)
	hhea := slices.Clone(t.tables["hhea"])
	binary.BigEndian.PutUint16(hhea[34:], uint16(n))
	maxp := slices.Clone(t.tables["maxp"])
	binary.BigEndian.PutUint16(maxp[4:], uint16(n))
	out := map[string][]byte{"head": head, "hhea": hhea, "maxp": maxp, "loca": loca, "hmtx": hmtx, "glyf": glyf}
	for _, tag := range []string{"cvt ", "fpgm", "prep"} {
		if b := t.tables[tag]; b != nil {
			out[tag] = b
		}
	}
	return assemble(out)
}

func (t *TrueType) bearing(g int) int16 {
	at := 4*g + 2
	if g >= t.nHMtx {
		at = 4*t.nHMtx + 2*(g-t.nHMtx)
	}
	if at+2 > len(t.hmtx) {
		return 0
	}
	return int16(be16(t.hmtx, at))
}

// assemble writes tables as a font file with its directory and checksums.
func assemble(tables map[string][]byte) []byte {
	tags := slices.Sorted(maps.Keys(tables))
	n := len(tags)
	pow, log := 1, 0
	for pow*2 <= n {
		pow, log = pow*2, log+1
	}
	out := binary.BigEndian.AppendUint32(nil, 0x00010000)
	for _, v := range []int{n, pow * 16, log, n*16 - pow*16} {
		out = binary.BigEndian.AppendUint16(out, uint16(v))
	}
	off := 12 + 16*n
	headAt := 0
	for _, tag := range tags {
		b := tables[tag]
		if tag == "head" {
			headAt = off
		}
		out = append(out, tag...)
		out = binary.BigEndian.AppendUint32(out, checksum(b))
		out = binary.BigEndian.AppendUint32(out, uint32(off))
		out = binary.BigEndian.AppendUint32(out, uint32(len(b)))
		off += (len(b) + 3) &^ 3
	}
	for _, tag := range tags {
		out = append(out, tables[tag]...)
		for len(out)%4 != 0 {
			out = append(out, 0)
		}
	}
	binary.BigEndian.PutUint32(out[headAt+8:], 0xB1B0AFBA-checksum(out))
	return out
}

func checksum(b []byte) (sum uint32) {
	for len(b) >= 4 {
		sum += binary.BigEndian.Uint32(b)
		b = b[4:]
	}
	if len(b) > 0 {
		var last [4]byte
		copy(last[:], b)
		sum += binary.BigEndian.Uint32(last[:])
	}
	return
}
