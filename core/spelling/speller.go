package spelling

import (
	"slices"
	"strings"
	"sync"
	"unicode"
)

// Speller tries words against the dictionaries of several languages, and words that the house has learned.
type Speller struct {
	Languages []string // those that have a dictionary here
	dicts     []*Dictionary
	house     func(word string) bool
}

var (
	openMu sync.Mutex
	opened = map[string]*Dictionary{} // by base name: a dictionary is read once
)

// For gives the speller of languages, by their codes of three letters. Those without a dictionary here are left out. house, where set, knows the words of the house.
func For(codes []string, house func(word string) bool) *Speller {
	s := &Speller{house: house}
	openMu.Lock()
	defer openMu.Unlock()
	for _, c := range codes {
		if slices.Contains(s.Languages, c) {
			continue
		}
		some := false
		for _, base := range bases(c) {
			d, ok := opened[base]
			if !ok {
				d, _ = Open(base) // one that can't be read is none
				opened[base] = d
			}
			if d != nil {
				some = true
				s.dicts = append(s.dicts, d)
			}
		}
		if some {
			s.Languages = append(s.Languages, c)
		}
	}
	return s
}

// Core gives what of a word is spelled: without the punctuation around it. It is empty where the word has letters of no kind, or figures: names of things and
// numbers are not for a dictionary.
func Core(word string) string {
	w := strings.TrimFunc(word, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsNumber(r) })
	for _, r := range w {
		if unicode.IsNumber(r) {
			return ""
		}
	}
	return w
}

// Knows reports whether a word is right in one of the languages, or can't be told: punctuation, numbers, or there is no dictionary.
func (s *Speller) Knows(word string) bool {
	w := Core(word)
	if w == "" || len(s.dicts) == 0 {
		return true
	}
	if s.house != nil && (s.house(w) || s.house(strings.ToLower(w))) {
		return true
	}
	for _, d := range s.dicts {
		if d.Has(w) {
			return true
		}
	}
	return false
}

// Suggest gives up to n words that come near, with the punctuation around the word kept.
func (s *Speller) Suggest(word string, n int, more ...[2]string) (out []string) {
	core := strings.TrimFunc(word, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsNumber(r) })
	at := strings.Index(word, core)
	if !strings.ContainsFunc(core, unicode.IsLetter) { // numbers are not for a dictionary
		return nil
	}
	for _, d := range s.dicts {
		for _, w := range d.Suggest(core, n, more...) {
			if w = word[:at] + w + word[at+len(core):]; !slices.Contains(out, w) {
				out = append(out, w)
			}
		}
	}
	return out[:min(n, len(out))]
}
