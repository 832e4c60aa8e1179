// Package encoded finds out how text is encoded and decodes it: by its mark, as UTF-8 where it is valid, as UTF-16 where every second byte
// tells so, and otherwise as Windows-1252, which is what office machines wrote. Whoever knows better says so.
package encoded

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"
)

// The encodings that are offered, by the names of the WHATWG's Encoding Standard.
const (
	UTF8        = "utf-8"
	UTF16LE     = "utf-16le"
	UTF16BE     = "utf-16be"
	Windows1252 = "windows-1252"
)

// Titles are what people call them, in the order in which they are offered.
var Titles = [][2]string{{UTF8, "UTF-8"}, {UTF16LE, "UTF-16, little endian"}, {UTF16BE, "UTF-16, big endian"}, {Windows1252, "Windows-1252"}}

// Title is what people call an encoding.
func Title(name string) string {
	for _, t := range Titles {
		if t[0] == name {
			return t[1]
		}
	}
	return name
}

// looked is how many bytes are looked at to tell UTF-16.
const looked = 64 << 10

// Find tells how text is encoded.
func Find(data []byte) string {
	switch {
	case bytes.HasPrefix(data, []byte{0xef, 0xbb, 0xbf}):
		return UTF8
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}):
		return UTF16LE
	case bytes.HasPrefix(data, []byte{0xfe, 0xff}):
		return UTF16BE
	}
	head := data[:min(len(data), looked)&^1]
	var zeros [2]int
	for i, b := range head {
		if b == 0 {
			zeros[i&1]++
		}
	}
	switch half := len(head) / 2; {
	case half > 0 && zeros[1] > half/2 && zeros[0] < half/10:
		return UTF16LE
	case half > 0 && zeros[0] > half/2 && zeros[1] < half/10:
		return UTF16BE
	case utf8.Valid(data):
		return UTF8
	}
	return Windows1252
}

// Decode gives text in an encoding, found where it is empty, with line feeds alone at the ends of lines. What is no
// character comes out as U+FFFD.
func Decode(data []byte, name string) (text, used string) {
	if name == "" {
		name = Find(data)
	}
	var e encoding.Encoding
	switch name {
	case UTF8:
		data = bytes.TrimPrefix(data, []byte{0xef, 0xbb, 0xbf})
	case UTF16LE:
		e = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM)
	case UTF16BE:
		e = unicode.UTF16(unicode.BigEndian, unicode.UseBOM)
	case Windows1252:
		e = charmap.Windows1252
	default:
		if other, err := htmlindex.Get(name); err == nil {
			e = other
		}
	}
	if e != nil {
		if out, err := e.NewDecoder().Bytes(data); err == nil {
			data = out
		}
	}
	text = strings.ToValidUTF8(string(data), "\ufffd")
	return strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text), name
}

// Known reports whether text can be decoded by that name.
func Known(name string) bool {
	_, err := htmlindex.Get(name)
	return name == "" || err == nil
}

// IsText reports whether a file begins like text: it has none of the control characters that text has not.
func IsText(head []byte) bool {
	if len(head) == 0 {
		return true
	}
	if f := Find(head); f == UTF16LE || f == UTF16BE {
		return true
	}
	odd := 0
	for _, b := range head {
		if b == 0 {
			return false
		}
		if b < 32 && b != '\t' && b != '\n' && b != '\r' && b != '\f' && b != 0x1b {
			odd++
		}
	}
	return odd*50 <= len(head)
}
