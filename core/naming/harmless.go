package naming

import (
	"strings"
	"unicode"
)

// Harmless takes out of a name what changes how the text around it is shown, or is not seen at all: controls, and the marks that turn the
// direction of writing (Unicode Standard Annex 9, 2), with which "fdp.exe" can be made to read as a PDF.
func Harmless(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case unicode.IsControl(r), r >= 0x200b && r <= 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2060 && r <= 0x206f, r == 0x061c, r == 0xfeff, r >= 0xe0000 && r <= 0xe007f,
			r == 0x2028, r == 0x2029, r == unicode.ReplacementChar:
			return -1
		}
		return r
	}, s)
}
