package layout

import (
	"math"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// combining gives the combining mark of an accent that stands for itself; 0 for other text. whole says
// that the text is nothing else.
func combining(text string) (mark rune, whole bool) {
	r, n := utf8.DecodeRuneInString(text)
	switch r {
	case '`', 0x2cb:
		mark = 0x300
	case 0xb4, 0x2ca:
		mark = 0x301
	case 0x2c6:
		mark = 0x302
	case 0x2dc:
		mark = 0x303
	case 0xaf, 0x2c9:
		mark = 0x304
	case 0x2d8:
		mark = 0x306
	case 0x2d9:
		mark = 0x307
	case 0xa8:
		mark = 0x308
	case 0x2da:
		mark = 0x30a
	case 0x2dd:
		mark = 0x30b
	case 0x2c7:
		mark = 0x30c
	case 0xb8:
		mark = 0x327
	case 0x2db:
		mark = 0x328
	default:
		return 0, false
	}
	return mark, n == len(text)
}

// accent puts an accent and its letter together where they are shown one over the other, as fonts without
// accented letters have it. The glyph at hand is either; the other is the last of the open word. It reports whether it did.
func (l *Page) accent(w *Word, text string, u0, u1, v, lastStart, lastEnd, size float64, frame int32) bool {
	if w.frame != frame || math.Abs(w.Size-size) > sameSize*size || math.Abs(w.V-v) > 0.5*size {
		return false
	}
	last := l.Source.Glyphs[l.glyphs[len(l.glyphs)-1]].Char.Text
	markNow, now := combining(text)
	markLast, before := combining(last)
	if now == before || math.Abs((u0+u1)-(lastStart+lastEnd))/2 > 0.22*size {
		return false
	}
	letter, mark := last, markNow
	if before {
		letter, mark = text, markLast
	}
	if r, n := utf8.DecodeRuneInString(letter); n != len(letter) || r < 'A' || r == 0x131 && mark == 0 {
		return false
	} else if r == 0x131 { // a dotless i under its accent is an i
		letter = "i"
	} else if r == 0x237 {
		letter = "j"
	}
	if string(l.text[len(l.text)-min(len(last), len(l.text)):]) != last {
		return false
	}
	l.text = append(l.text[:len(l.text)-len(last)], norm.NFC.String(letter+string(mark))...)
	if before && w.n == 0 && int(w.first)+1 == len(l.glyphs) { // the accent alone was the word so far
		w.V, w.U0, w.U1 = v, u0, u1
	}
	return true
}
