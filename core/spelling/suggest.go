package spelling

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Suggest gives up to n words that come near, the nearest first. more are pairs that are often taken for one another, besides those of the dictionary.
func (d *Dictionary) Suggest(word string, n int, more ...[2]string) []string {
	type near struct {
		word string
		far  int
	}
	if word == "" || utf8.RuneCountInString(word) > 40 {
		return nil
	}
	var found []near
	seen := map[string]bool{word: true}
	tried := 0
	try := func(w string, far int) {
		if seen[w] || w == "" || tried > 60_000 {
			return
		}
		seen[w] = true
		tried++
		ok := true
		for part := range strings.SplitSeq(w, " ") {
			ok = ok && part != "" && d.Has(part)
		}
		if ok && !slices.ContainsFunc(d.stems[w], func(f flags) bool { return f.has(d.noSuggest) }) {
			found = append(found, near{w, far})
		}
	}
	for _, list := range [][][2]string{more, d.swaps} {
		for _, s := range list {
			for i := 0; i+len(s[0]) <= len(word) && s[0] != ""; i++ {
				if word[i:i+len(s[0])] == s[0] {
					w := word[:i] + s[1] + word[i+len(s[0]):]
					try(w, 1)
					for _, s2 := range more { // two of them in one word
						for j := 0; j+len(s2[0]) <= len(w) && s2[0] != ""; j++ {
							if w[j:j+len(s2[0])] == s2[0] {
								try(w[:j]+s2[1]+w[j+len(s2[0]):], 2)
							}
						}
					}
				}
			}
		}
	}
	try(title(strings.ToLower(word)), 2)
	r := []rune(word)
	for i := range r {
		try(string(slices.Delete(slices.Clone(r), i, i+1)), 3)
		if i+1 < len(r) {
			s := slices.Clone(r)
			s[i], s[i+1] = s[i+1], s[i]
			try(string(s), 3)
		}
	}
	letters := d.try
	if len(letters) == 0 {
		letters = []rune("esianrtolcdugmphbyfvkwqxz")
	}
	for i := range len(r) + 1 {
		for _, c := range letters {
			if !unicode.IsLetter(c) && c != '\'' {
				continue
			}
			if i < len(r) {
				s := slices.Clone(r)
				s[i] = c
				try(string(s), 3)
			}
			try(string(slices.Insert(slices.Clone(r), i, c)), 3)
		}
	}
	for i := 2; i+2 <= len(r); i++ {
		try(string(r[:i])+" "+string(r[i:]), 4)
	}
	slices.SortStableFunc(found, func(a, b near) int { return a.far - b.far })
	var out []string
	for _, f := range found[:min(n, len(found))] {
		out = append(out, f.word)
	}
	return out
}
