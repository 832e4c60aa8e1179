package font

import (
	"bytes"
	"encoding/binary"
	"sync"
)

// Program is an embedded font program (9.9): what a reader of text and a writer that reuses
// the font need of it. Which glyphs there are comes from here, never from widths or ToUnicode.
type Program struct {
	Kind   ProgramKind
	Glyphs int // their number
	// Encoding is the program's own: glyph names by code; nil where it has none.
	Encoding *[256]string
	// CIDs says that glyphs are found by CID (a CID-keyed CFF).
	CIDs bool
	// Matrix takes glyph space to text space; only 1/1000 or its kin in practice.
	Matrix [6]float64

	names   []string       // by glyph
	byName  map[string]int // glyph of a name
	cid     map[uint32]int // glyph of a CID, where they differ
	cidOf   []uint32       // CID by glyph
	outline func(gid int) bool
	width   func(gid int) (float64, bool) // in text space units of one em
	cmaps   []charMap                     // of TrueType

	runesOnce sync.Once
	runes     map[int]rune // the lowest character that leads to a glyph
}

// ProgramKind is the format of a font program.
type ProgramKind uint8

// The formats of table 124.
const (
	NoProgram ProgramKind = iota
	Type1Program
	CFFProgram
	TrueTypeProgram
)

// charMap is a subtable of cmap.
type charMap struct {
	platform, encoding int
	glyphs             map[uint32]int
}

// ParseProgram reads a font program of any kind, by what its bytes are; nil where nothing can be read.
func ParseProgram(data []byte) (p *Program) {
	defer func() {
		if recover() != nil { // an offset outside its table
			p = nil
		}
	}()
	data = data[:len(data):len(data)]
	switch {
	case len(data) < 4:
		return nil
	case string(data[:4]) == "OTTO", string(data[:4]) == "true", string(data[:4]) == "ttcf", string(data[:4]) == "typ1", binary.BigEndian.Uint32(data) == 0x00010000:
		return parseSFNT(data)
	case data[0] == 1 && data[1] <= 1 && data[2] >= 4 && data[3] >= 1 && data[3] <= 4:
		return parseCFF(data)
	case data[0] == 0x80, bytes.HasPrefix(data, []byte("%!")), bytes.Contains(data[:min(len(data), 4096)], []byte("/FontName")), bytes.Contains(data, []byte("eexec")):
		return parseType1(data)
	}
	return parseCFF(data)
}

// GlyphOf gives the glyph of a name.
func (p *Program) GlyphOf(name string) (gid int, ok bool) {
	if p == nil {
		return 0, false
	}
	gid, ok = p.byName[name]
	return gid, ok
}

// NameOf gives a glyph's name, or "".
func (p *Program) NameOf(gid int) string {
	if p == nil || gid < 0 || gid >= len(p.names) {
		return ""
	}
	return p.names[gid]
}

// GlyphOfCID gives the glyph of a CID.
func (p *Program) GlyphOfCID(cid uint32) (gid int, ok bool) {
	switch {
	case p == nil:
		return 0, false
	case p.CIDs:
		gid, ok = p.cid[cid]
		return gid, ok
	}
	return int(cid), int(cid) < p.Glyphs
}

// HasOutline reports whether a glyph draws anything.
func (p *Program) HasOutline(gid int) bool {
	return p != nil && gid >= 0 && gid < p.Glyphs && p.outline != nil && p.outline(gid)
}

// Width gives a glyph's advance in em.
func (p *Program) Width(gid int) (float64, bool) {
	if p == nil || gid < 0 || gid >= p.Glyphs || p.width == nil {
		return 0, false
	}
	return p.width(gid)
}

// lookup finds a code in the subtable of a platform and encoding.
func (p *Program) lookup(platform, encoding int, code uint32) (gid int, ok bool) {
	for _, m := range p.cmaps {
		if m.platform == platform && m.encoding == encoding {
			gid, ok = m.glyphs[code]
			return gid, ok && gid != 0
		}
	}
	return 0, false
}

// unicode gives the glyph of a character.
func (p *Program) unicode(r rune) (gid int, ok bool) {
	for _, m := range p.cmaps {
		if m.platform == 0 || m.platform == 3 && (m.encoding == 1 || m.encoding == 10) {
			if gid := m.glyphs[uint32(r)]; gid != 0 {
				return gid, true
			}
		}
	}
	return 0, false
}

// runeOf gives a character that leads to a glyph by the program's own table; 0 where none does.
func (p *Program) runeOf(gid int) rune {
	p.runesOnce.Do(func() {
		p.runes = map[int]rune{}
		for _, m := range p.cmaps {
			if m.platform != 0 && (m.platform != 3 || m.encoding != 1 && m.encoding != 10) {
				continue
			}
			for r, g := range m.glyphs {
				if best, ok := p.runes[g]; r != 0 && (!ok || rune(r) < best) {
					p.runes[g] = rune(r)
				}
			}
		}
	})
	return p.runes[gid]
}
