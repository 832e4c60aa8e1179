package font

import (
	"strconv"
	"strings"
	"sync"

	"glenrain/core/pdf"
)

// readSimple reads what simple fonts have: encoding and widths (9.6).
func (f *Font) readSimple(d *pdf.Dict) {
	symbolic := f.Style.Symbolic
	switch e := f.doc.Resolve(d.Get("Encoding")).(type) {
	case pdf.Name:
		f.base = encodings()[e]
	case *pdf.Dict:
		f.base = encodings()[f.doc.Name(e.Get("BaseEncoding"))]
		f.differences = map[int]string{}
		code := 0
		for _, o := range f.doc.Array(e.Get("Differences")) {
			switch v := f.doc.Resolve(o).(type) {
			case pdf.Integer:
				code = int(v)
			case pdf.Real:
				code = int(v)
			case pdf.Name:
				if code >= 0 && code < 256 {
					f.differences[code] = string(v)
				}
				code++
			}
		}
	}
	if f.base == nil && !f.Embedded {
		switch {
		case f.standard != nil && (f.standard.name == "Symbol" || f.standard.name == "ZapfDingbats"):
			f.base = &f.standard.encoding
		case f.Kind != Type3 && (!symbolic || f.standard != nil):
			f.base = encodings()["StandardEncoding"]
		}
	}
	if f.base == nil && f.Kind == TrueTypeKind && (!symbolic || f.differences != nil) {
		f.base = encodings()["StandardEncoding"] // 9.6.5.4
	}
	scale := 0.001
	if f.Kind == Type3 {
		scale = f.Matrix[0]
		if scale == 0 {
			scale = f.Matrix[1]
		}
	}
	f.firstChar = f.whole(d.Get("FirstChar"))
	for _, o := range f.doc.Array(d.Get("Widths")) {
		f.widths = append(f.widths, f.number(o, 0)*scale)
	}
	f.missing = f.number(f.descriptor.Get("MissingWidth"), 0) * scale
}

// nameOf gives the glyph name of a code by the font's encoding; "" where it has none.
func (f *Font) nameOf(code int) string {
	if n, ok := f.differences[code]; ok {
		return n
	}
	if f.base != nil {
		return f.base[code]
	}
	if f.Kind != Type3 && f.Embedded {
		if p := f.Program(); p != nil && p.Encoding != nil {
			return p.Encoding[code]
		}
	}
	return ""
}

func (f *Font) simpleChar(code int) *Char {
	c := &Char{Code: uint32(code), Bytes: 1}
	if t, ok := f.toUnicodeText(uint32(code)); ok {
		c.Text = plain(t)
	}
	given := code >= f.firstChar && code-f.firstChar < len(f.widths)
	if c.Text == "" || f.differences != nil || !given {
		c.Name = f.nameOf(code)
	}
	if c.Text == "" {
		c.Text = plain(f.textOf(c.Name))
	}
	if c.Text == "" && f.Kind != Type3 {
		c.Text = plain(f.textByProgram(code, c.Name))
	}
	switch {
	case given:
		c.Width = f.widths[code-f.firstChar]
	case len(f.widths) > 0 || f.descriptor.Has("MissingWidth"):
		c.Width = f.missing
	case f.Kind == Type3:
	default:
		c.Width = f.standardWidth(code, c.Name)
	}
	return c
}

// textOf gives the text of a glyph's name in this font. The names that makers of bitmap fonts write (a65, x41) stand for
// the character of that number.
func (f *Font) textOf(name string) string {
	if strings.Contains(f.Name, "Dingbats") {
		if t, ok := dingbats()[name]; ok {
			return t
		}
	}
	if t := TextOf(name); t != "" || name == "" {
		return t
	}
	base := map[byte]int{'a': 10, 'x': 16}[name[0]]
	if base == 0 {
		return ""
	}
	if v, err := strconv.ParseUint(name[1:], base, 8); err == nil && v > 32 {
		if n := encodings()["WinAnsiEncoding"][v]; n != "bullet" || v == 149 {
			return TextOf(n)
		}
	}
	return ""
}

func (f *Font) toUnicodeText(code uint32) (string, bool) {
	switch {
	case f.toUnicode != nil:
		return f.toUnicode.Text(code)
	case f.unicode && code > 0:
		return string(rune(code)), true
	}
	return "", false
}

// textByProgram asks the font program where neither ToUnicode nor the encoding tells: by the name or
// the character of the glyph that the code leads to, and at last as other readers do, as WinAnsi.
func (f *Font) textByProgram(code int, name string) string {
	if p := f.Program(); p != nil {
		if p.Kind != TrueTypeProgram {
			return ""
		}
		if gid, ok := f.glyphTrueType(p, code, name); ok {
			if t := TextOf(p.NameOf(gid)); t != "" {
				return t
			}
			if r := p.runeOf(gid); r != 0 && r < 0xf000 {
				return string(r)
			}
			if name == "" && p.names == nil {
				return TextOf(encodings()["WinAnsiEncoding"][code])
			}
		}
		return ""
	}
	if name == "" && f.Kind == TrueTypeKind {
		return TextOf(encodings()["WinAnsiEncoding"][code])
	}
	return ""
}

// standardWidth is the width where the dictionary gives none: that of the standard font it is or resembles, or of the program.
func (f *Font) standardWidth(code int, name string) float64 {
	if f.standard == nil && f.Embedded {
		if gid, ok := f.Glyph(&Char{Code: uint32(code), Bytes: 1, Name: name}); ok {
			if w, ok := f.Program().Width(gid); ok {
				return w
			}
		}
	}
	m := f.standard
	if m == nil {
		m = allMetrics()[faceOf(f.Style.family(), f.Style.Weight >= 600, f.Style.Italic)]
	}
	if w, ok := m.widths[name]; ok {
		return w / 1000
	}
	if m.name == "Courier" || f.Style.Fixed {
		return 0.6
	}
	return f.missing
}

func (s Style) family() string {
	switch {
	case s.Fixed:
		return "Courier"
	case s.Serif:
		return "Times"
	}
	return "Helvetica"
}

// glyphTrueType gives the glyph of a code of a TrueType program (9.6.5.4).
func (f *Font) glyphTrueType(p *Program, code int, name string) (int, bool) {
	if name != "" && (!f.Style.Symbolic || f.base != nil) {
		if t := []rune(TextOf(name)); len(t) == 1 {
			if gid, ok := p.unicode(t[0]); ok {
				return gid, true
			}
		}
		if mac, ok := macCodes()[name]; ok {
			if gid, ok := p.lookup(1, 0, uint32(mac)); ok {
				return gid, true
			}
		}
		if gid, ok := p.GlyphOf(name); ok && gid != 0 {
			return gid, true
		}
	}
	for _, high := range []uint32{0xf000, 0, 0xf100, 0xf200} {
		if gid, ok := p.lookup(3, 0, high|uint32(code)); ok {
			return gid, true
		}
	}
	if gid, ok := p.lookup(1, 0, uint32(code)); ok {
		return gid, true
	}
	if name == "" {
		if gid, ok := p.unicode(rune(code)); ok {
			return gid, true
		}
	}
	return 0, false
}

// macCodes are the codes of MacRomanEncoding by name.
var macCodes = sync.OnceValue(func() map[string]int {
	m := map[string]int{}
	for c, name := range encodings()["MacRomanEncoding"] {
		if name != "" {
			m[name] = c
		}
	}
	return m
})
