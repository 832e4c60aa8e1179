package font

import (
	"slices"

	"glenrain/core/pdf"
)

// Code is a code of a font with its length in bytes.
type Code struct {
	Value uint32
	Bytes int
}

// Append writes the code.
func (c Code) Append(b []byte) []byte {
	for i := c.Bytes - 1; i >= 0; i-- {
		b = append(b, byte(c.Value>>(8*i)))
	}
	return b
}

// Glyph gives the glyph of the font program that a code draws; false where the program has none, or there is no program.
func (f *Font) Glyph(c *Char) (gid int, ok bool) {
	p := f.Program()
	if p == nil {
		return 0, false
	}
	if f.Composite() {
		switch {
		case f.cidToGID != nil:
			at := 2 * int(c.CID)
			if at+2 > len(f.cidToGID) {
				return 0, false
			}
			gid = int(be16(f.cidToGID, at))
			return gid, gid < p.Glyphs
		case f.Kind == CIDType2:
			return int(c.CID), int(c.CID) < p.Glyphs
		}
		return p.GlyphOfCID(c.CID)
	}
	name := c.Name
	if name == "" {
		name = f.nameOf(int(c.Code))
	}
	if p.Kind == TrueTypeProgram {
		return f.glyphTrueType(p, int(c.Code), name)
	}
	return p.GlyphOf(name)
}

// Draws reports whether a code leads to a glyph with an outline. Of a font that is not embedded it
// says what its encoding says.
func (f *Font) Draws(c *Char) bool {
	switch {
	case f.Kind == Type3:
		return f.doc.Stream(f.doc.Dict(f.Dict.Get("CharProcs")).Get(pdf.Name(c.Name))) != nil
	case !f.Embedded:
		return c.Text != ""
	}
	gid, ok := f.Glyph(c)
	return ok && f.Program().HasOutline(gid)
}

// CodeOf gives a code that shows the text, which is one character or the letters of a ligature, with a glyph
// that is there; a space needs none. Which glyph that is comes from the program, so a code that
// only ToUnicode knows is not offered.
func (f *Font) CodeOf(text string) (Code, bool) {
	f.codesOnce.Do(func() {
		f.codes = map[string]Code{}
		offer := func(c *Char) {
			if c.Text == "" || c.Text != " " && !f.Draws(c) {
				return
			}
			if _, ok := f.codes[c.Text]; !ok {
				f.codes[c.Text] = Code{c.Code, int(c.Bytes)}
			}
		}
		if !f.Composite() {
			for code := range 256 {
				c, _ := f.Next([]byte{byte(code)})
				offer(c)
			}
			return
		}
		for _, code := range f.twoByteCodes() {
			c, _ := f.Next([]byte{byte(code >> 8), byte(code)})
			offer(c)
		}
	})
	c, ok := f.codes[text]
	return c, ok
}

// twoByteCodes are the codes that may stand for something.
func (f *Font) twoByteCodes() (out []uint32) {
	seen := map[uint32]bool{}
	add := func(c uint32) {
		if c <= 0xffff && !seen[c] {
			seen[c] = true
			out = append(out, c)
		}
	}
	for m := f.toUnicode; m != nil; m = m.use {
		for _, r := range m.texts {
			for c := r.lo; c <= r.hi && c <= 0xffff; c++ {
				add(c)
			}
		}
	}
	if len(out) == 0 {
		for c := range uint32(0x10000) {
			add(c)
		}
	}
	slices.Sort(out)
	return out
}
