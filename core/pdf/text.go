package pdf

import (
	"fmt"
	"time"
	"unicode/utf16"
	"unicode/utf8"
)

// pdfDoc maps the codes of PDFDocEncoding that differ from Latin-1 (annex D.3).
var pdfDoc = map[byte]rune{
	0x18: '˘', 0x19: 'ˇ', 0x1a: 'ˆ', 0x1b: '˙', 0x1c: '˝', 0x1d: '˛', 0x1e: '˚', 0x1f: '˜',
	0x80: '•', 0x81: '†', 0x82: '‡', 0x83: '…', 0x84: '—', 0x85: '–', 0x86: 'ƒ', 0x87: '⁄',
	0x88: '‹', 0x89: '›', 0x8a: '−', 0x8b: '‰', 0x8c: '„', 0x8d: '“', 0x8e: '”', 0x8f: '‘',
	0x90: '’', 0x91: '‚', 0x92: '™', 0x93: 'ﬁ', 0x94: 'ﬂ', 0x95: 'Ł', 0x96: 'Œ', 0x97: 'Š',
	0x98: 'Ÿ', 0x99: 'Ž', 0x9a: 'ı', 0x9b: 'ł', 0x9c: 'œ', 0x9d: 'š', 0x9e: 'ž', 0xa0: '€',
}

// Text decodes a text string (7.9.2.2): UTF-16BE or UTF-8 by its mark, else PDFDocEncoding.
func Text(s String) string {
	switch {
	case len(s) >= 2 && s[0] == 0xfe && s[1] == 0xff:
		u := make([]uint16, 0, len(s)/2)
		for i := 2; i+1 < len(s); i += 2 {
			u = append(u, uint16(s[i])<<8|uint16(s[i+1]))
		}
		return string(utf16.Decode(u))
	case len(s) >= 3 && s[:3] == "\xef\xbb\xbf" && utf8.ValidString(string(s[3:])):
		return string(s[3:])
	}
	out := make([]rune, 0, len(s))
	for i := 0; i < len(s); i++ {
		if r, ok := pdfDoc[s[i]]; ok {
			out = append(out, r)
		} else {
			out = append(out, rune(s[i]))
		}
	}
	return string(out)
}

// TextString encodes s: as it stands where it is plain ASCII, else UTF-16BE (7.9.2.2).
func TextString(s string) String {
	ascii := true
	for i := 0; i < len(s); i++ {
		if s[i] >= 0x7f || s[i] < 0x20 && s[i] != '\n' && s[i] != '\t' {
			ascii = false
		}
	}
	if ascii {
		return String(s)
	}
	b := []byte{0xfe, 0xff}
	for _, u := range utf16.Encode([]rune(s)) {
		b = append(b, byte(u>>8), byte(u))
	}
	return String(b)
}

// DateString writes a date (7.9.4).
func DateString(t time.Time) String {
	_, off := t.Zone()
	sign := '+'
	if off < 0 {
		sign, off = '-', -off
	}
	if off == 0 {
		return String(t.Format("D:20060102150405") + "Z")
	}
	return String(fmt.Sprintf("%s%c%02d'%02d'", t.Format("D:20060102150405"), sign, off/3600, off/60%60))
}
