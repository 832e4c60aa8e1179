package spelling

import (
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Installed gives the languages that have a dictionary here, by their codes of three letters.
func Installed() (out []string) {
	for _, code := range slices.Sorted(maps.Keys(files)) {
		if Where(code) != "" {
			out = append(out, code)
		}
	}
	return out
}

// Guess gives the one of the installed languages that knows the most words of a text; nothing where none knows half of them.
func Guess(text string) string {
	var words []string
	for _, w := range strings.Fields(text) {
		if c := Core(w); utf8.RuneCountInString(c) > 2 {
			if words = append(words, c); len(words) >= 300 {
				break
			}
		}
	}
	best, most := "", len(words)/2
	for _, code := range Installed() {
		s, n := For([]string{code}, nil), 0
		for _, w := range words {
			if s.Knows(w) {
				n++
			}
		}
		if n > most {
			best, most = code, n
		}
	}
	return best
}

// Doubted gives the words of a text that a speller does not know, as where they begin and end in bytes, without the punctuation around them. Addresses,
// names of files, words with figures or with capitals within, and abbreviations in capitals are not words of a language.
func Doubted(text string, s *Speller) (out [][2]int) {
	start := -1
	word := func(from, to int) {
		w := text[from:to]
		if strings.ContainsAny(w, "@/\\_#=<>{}[]|~^0123456789") || strings.Contains(w, "://") || strings.HasPrefix(w, "www.") || dotted(w) {
			return
		}
		for from < to { // its parts, where hyphens part it
			end := from
			for end < to {
				r, n := utf8.DecodeRuneInString(text[end:])
				if r == '-' || r == '–' || r == '—' || r == '‐' {
					break
				}
				end += n
			}
			a, b := trimmed(text, from, end)
			if a < b && doubtful(text[a:b], s) {
				out = append(out, [2]int{a, b})
			}
			_, n := utf8.DecodeRuneInString(text[end:])
			from = end + max(1, n)
		}
	}
	for i, r := range text {
		switch {
		case unicode.IsSpace(r):
			if start >= 0 {
				word(start, i)
			}
			start = -1
		case start < 0:
			start = i
		}
	}
	if start >= 0 {
		word(start, len(text))
	}
	return out
}

// dotted reports whether a dot stands between letters, as in addresses and file names.
func dotted(w string) bool {
	for i := 1; i+1 < len(w); i++ {
		if w[i] == '.' && letterAt(w, i+1) && w[i-1] < utf8.RuneSelf && letterAt(w, i-1) {
			return true
		}
	}
	return false
}

func letterAt(w string, i int) bool {
	r, _ := utf8.DecodeRuneInString(w[i:])
	return unicode.IsLetter(r)
}

func trimmed(text string, from, to int) (int, int) {
	for from < to {
		r, n := utf8.DecodeRuneInString(text[from:to])
		if unicode.IsLetter(r) {
			break
		}
		from += n
	}
	for from < to {
		r, n := utf8.DecodeLastRuneInString(text[from:to])
		if unicode.IsLetter(r) {
			break
		}
		to -= n
	}
	return from, to
}

func doubtful(w string, s *Speller) bool {
	if utf8.RuneCountInString(w) < 2 {
		return false
	}
	upper, lower := 0, 0
	for i, r := range w {
		switch {
		case unicode.IsUpper(r):
			upper++
			if i > 0 && lower > 0 {
				return false // capitals within
			}
		case unicode.IsLower(r):
			lower++
		}
	}
	if lower == 0 && utf8.RuneCountInString(w) <= 5 { // an abbreviation
		return false
	}
	plain := strings.NewReplacer("’", "'", "‘", "'").Replace(w)
	return !s.Knows(w) && !s.Knows(plain) && !s.Knows(strings.TrimSuffix(plain, "'s")) && (lower > 0 || !s.Knows(strings.ToLower(plain)))
}
