package edit

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Letters before which, and behind which, a line of Chinese or Japanese is not broken (JIS X 4051, 4.3; W3C, Requirements for Japanese Text Layout, 3.1.7).
const (
	notFirst = "、。，．・：；？！）」』】〕》〉’”…‥ー々〻ぁぃぅぇぉっゃゅょゎァィゥェォッャュョヮヵヶ"
	notLast  = "（「『【〔《〈‘“"
)

// written reports whether a letter is of a script that is written without spaces between words.
func written(r rune) bool {
	return unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana) || r >= 0x3000 && r <= 0x303f || r >= 0xff00 && r <= 0xffef
}

// parts reports whether a line can end between two characters although no space stands there.
func parts(a, b *char) bool {
	if a.space || b.space || a.soft {
		return false
	}
	x, _ := utf8.DecodeLastRuneInString(a.text)
	y, _ := utf8.DecodeRuneInString(b.text)
	if x == utf8.RuneError || y == utf8.RuneError || !written(x) && !written(y) {
		return false
	}
	return !strings.ContainsRune(notFirst, y) && !strings.ContainsRune(notLast, x)
}

// fillOut spaces the letters of a line out to fill it, where no spaces can.
func (p *para) fillOut(r *row, free float64) {
	var at []int
	for i := 0; i+1 < len(r.chars); i++ {
		if parts(&r.chars[i], &r.chars[i+1]) {
			at = append(at, i)
		}
	}
	if len(at) == 0 || free <= 0 || free > 1.5*p.size {
		return
	}
	for _, i := range at {
		r.chars[i].adv += free / float64(len(at))
	}
}
