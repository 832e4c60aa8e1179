// Package spelling knows whether words are spelled as a dictionary has them, and what comes near those that are not. It reads the dictionaries of
// hunspell, as Debian installs them (hunspell(5)): an affix file with rules, and a list of stems with flags.
package spelling

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/transform"
)

// ErrDictionary: a dictionary can't be read.
var ErrDictionary = errors.New("the dictionary can't be read")

// Limits of a dictionary.
const (
	mostFile  = 64 << 20
	mostStems = 2_000_000
	mostRules = 100_000
	longest   = 60 // letters of a word that is tried
)

// flags are those of one stem or affix, each a rune.
type flags string

func (f flags) has(r rune) bool { return r != 0 && strings.ContainsRune(string(f), r) }

// affix is one rule: what is taken off a stem, what is put on, and which stems it is for.
type affix struct {
	flag       rune
	cross      bool
	strip, add string
	when       []class // one for each letter, from the edge that the affix is on outwards in reading order
	more       flags
}

// class is a letter of a condition: a set, or what is not in one; an empty set that is negated is any letter.
type class struct {
	set string
	not bool
}

func (c class) fits(r rune) bool { return strings.ContainsRune(c.set, r) != c.not }

// Dictionary is one language's.
type Dictionary struct {
	stems              map[string][]flags
	suffixes, prefixes map[string][]*affix // by what they put on
	longestSuffix      int                 // bytes
	longestPrefix      int
	try                []rune
	swaps              [][2]string

	flagKind                                           string // "", long, num, UTF-8
	aliases                                            []flags
	noSuggest, forbidden, needAffix, keepCase          rune
	compound, begin, middle, end, onlyCompound, permit rune
	compoundMin                                        int
	input                                              []string // ICONV: pairs
	breaks                                             []string
}

// Open reads the dictionary whose files are base.aff and base.dic.
func Open(base string) (*Dictionary, error) {
	d := &Dictionary{stems: map[string][]flags{}, suffixes: map[string][]*affix{}, prefixes: map[string][]*affix{}, compoundMin: 3, breaks: []string{"-"}}
	charset, err := d.readRules(base + ".aff")
	if err != nil {
		return nil, err
	}
	return d, d.readStems(base+".dic", charset)
}

// lines gives the lines of a file in UTF-8.
func lines(path, charset string, each func(line string) error) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrDictionary, err)
	}
	defer f.Close()
	var r io.Reader = io.LimitReader(f, mostFile)
	if charset != "" && !strings.EqualFold(charset, "UTF-8") {
		e, err := htmlindex.Get(strings.Replace(strings.ToLower(charset), "iso8859", "iso-8859", 1))
		if err != nil {
			return fmt.Errorf("%w: it is in the encoding %s", ErrDictionary, charset)
		}
		r = transform.NewReader(r, e.NewDecoder())
	}
	s := bufio.NewScanner(r)
	s.Buffer(make([]byte, 0, 1<<16), 1<<20)
	for s.Scan() {
		if err := each(strings.TrimPrefix(s.Text(), "\ufeff")); err != nil {
			return err
		}
	}
	if err := s.Err(); err != nil {
		return fmt.Errorf("%w: %w", ErrDictionary, err)
	}
	return nil
}

func charsetOf(path string) (string, error) {
	set := "ISO-8859-1"
	err := lines(path, "", func(line string) error {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "SET" {
			set = f[1]
		}
		return nil
	})
	return set, err
}

func (d *Dictionary) readRules(path string) (charset string, err error) {
	if charset, err = charsetOf(path); err != nil {
		return "", err
	}
	rules := 0
	headers := map[string]bool{} // of affixes whose first line was seen: whether they go with the other kind
	err = lines(path, charset, func(line string) error {
		f := strings.Fields(line)
		if len(f) < 2 || strings.HasPrefix(f[0], "#") {
			return nil
		}
		one := func() rune {
			for _, r := range d.flagsOf(f[1]) {
				return r
			}
			return 0
		}
		switch f[0] {
		case "FLAG":
			d.flagKind = f[1]
		case "TRY":
			d.try = []rune(f[1])
		case "AF":
			if _, err := strconv.Atoi(f[1]); err != nil || len(d.aliases) > 0 {
				d.aliases = append(d.aliases, d.flagsOf(f[1]))
			}
		case "REP":
			if len(f) >= 3 {
				d.swaps = append(d.swaps, [2]string{strings.Trim(f[1], "^$"), strings.ReplaceAll(strings.Trim(f[2], "^$"), "_", " ")})
			}
		case "ICONV":
			if len(f) >= 3 {
				d.input = append(d.input, f[1], f[2])
			}
		case "BREAK":
			if _, err := strconv.Atoi(f[1]); err == nil {
				d.breaks = nil
			} else if b := strings.Trim(f[1], "^$"); b != "" {
				d.breaks = append(d.breaks, b)
			}
		case "NOSUGGEST":
			d.noSuggest = one()
		case "FORBIDDENWORD":
			d.forbidden = one()
		case "NEEDAFFIX", "PSEUDOROOT":
			d.needAffix = one()
		case "KEEPCASE":
			d.keepCase = one()
		case "COMPOUNDFLAG":
			d.compound = one()
		case "COMPOUNDBEGIN":
			d.begin = one()
		case "COMPOUNDMIDDLE":
			d.middle = one()
		case "COMPOUNDEND", "COMPOUNDLAST":
			d.end = one()
		case "COMPOUNDPERMITFLAG":
			d.permit = one()
		case "ONLYINCOMPOUND":
			d.onlyCompound = one()
		case "COMPOUNDMIN":
			if n, err := strconv.Atoi(f[1]); err == nil {
				d.compoundMin = max(1, min(20, n))
			}
		case "PFX", "SFX":
			if len(f) < 4 {
				return nil
			}
			key := f[0] + f[1]
			if _, ok := headers[key]; !ok {
				headers[key] = f[2] == "Y"
				return nil
			}
			if rules++; rules > mostRules {
				return fmt.Errorf("%w: it has too many rules", ErrDictionary)
			}
			a := &affix{flag: one(), cross: headers[key]}
			if f[2] != "0" {
				a.strip = f[2]
			}
			add, more, _ := strings.Cut(f[3], "/")
			if add != "0" {
				a.add = add
			}
			a.more = d.flagsOf(more)
			if len(f) > 4 && f[4] != "." {
				a.when = condition(f[4])
			}
			if f[0] == "PFX" {
				d.prefixes[a.add] = append(d.prefixes[a.add], a)
				d.longestPrefix = max(d.longestPrefix, len(a.add))
			} else {
				d.suffixes[a.add] = append(d.suffixes[a.add], a)
				d.longestSuffix = max(d.longestSuffix, len(a.add))
			}
		}
		return nil
	})
	return charset, err
}

// condition reads "[^ei]n": classes of letters.
func condition(s string) (out []class) {
	r := []rune(s)
	for i := 0; i < len(r) && len(out) < 40; i++ {
		switch r[i] {
		case '[':
			c := class{}
			i++
			if i < len(r) && r[i] == '^' {
				c.not = true
				i++
			}
			for ; i < len(r) && r[i] != ']'; i++ {
				c.set += string(r[i])
			}
			out = append(out, c)
		case '.':
			out = append(out, class{not: true})
		default:
			out = append(out, class{set: string(r[i])})
		}
	}
	return out
}

// flagsOf reads flags as the dictionary writes them.
func (d *Dictionary) flagsOf(s string) flags {
	if s == "" {
		return ""
	}
	if len(d.aliases) > 0 {
		if n, err := strconv.Atoi(s); err == nil && n > 0 && n <= len(d.aliases) {
			return d.aliases[n-1]
		}
	}
	var out []rune
	switch d.flagKind {
	case "long":
		r := []rune(s)
		for i := 0; i+1 < len(r); i += 2 {
			out = append(out, 0x10000+(r[i]&0xff)<<8|r[i+1]&0xff)
		}
	case "num":
		for p := range strings.SplitSeq(s, ",") {
			if n, err := strconv.Atoi(p); err == nil && n > 0 && n < 65510 {
				out = append(out, rune(0x10000+n))
			}
		}
	default:
		return flags(s)
	}
	return flags(out)
}

func (d *Dictionary) readStems(path, charset string) error {
	first := true
	n := 0
	return lines(path, charset, func(line string) error {
		if first { // how many there are
			first = false
			if _, err := strconv.Atoi(strings.TrimSpace(line)); err == nil {
				return nil
			}
		}
		line, _, _ = strings.Cut(line, "\t")
		word, fl := line, ""
		for i := 1; i < len(line); i++ {
			if line[i] == '/' && line[i-1] != '\\' {
				word, fl = line[:i], line[i+1:]
				break
			}
		}
		word = strings.ReplaceAll(strings.TrimSpace(word), `\/`, "/")
		if fl != "" {
			fl, _, _ = strings.Cut(fl, " ")
		} else if i := strings.Index(word, " po:"); i > 0 {
			word = word[:i]
		}
		if word == "" {
			return nil
		}
		if n++; n > mostStems {
			return fmt.Errorf("%w: it has too many words", ErrDictionary)
		}
		d.stems[word] = append(d.stems[word], d.flagsOf(fl))
		return nil
	})
}

// ends reports whether a stem ends as a condition asks; begins, whether it begins so.
func ends(stem string, when []class) bool {
	for i := len(when) - 1; i >= 0; i-- {
		r, n := utf8.DecodeLastRuneInString(stem)
		if n == 0 || !when[i].fits(r) {
			return false
		}
		stem = stem[:len(stem)-n]
	}
	return true
}

func begins(stem string, when []class) bool {
	for _, c := range when {
		r, n := utf8.DecodeRuneInString(stem)
		if n == 0 || !c.fits(r) {
			return false
		}
		stem = stem[n:]
	}
	return true
}

// form is one way to read a word: the flags it has as it stands.
type form struct {
	own   flags // of the stem
	more  flags // of its affixes
	bare  bool  // it is the stem itself
	affix bool
}

// forms calls each for every way to read a word as a stem with affixes, until it gives true.
func (d *Dictionary) forms(word string, each func(form) bool) bool {
	for _, f := range d.stems[word] {
		if each(form{own: f, bare: true}) {
			return true
		}
	}
	if d.suffixed(word, "", each) {
		return true
	}
	for n := min(d.longestPrefix, len(word)); n >= 0; n-- {
		for _, p := range d.prefixes[word[:n]] {
			stem := p.strip + word[n:]
			if !begins(stem, p.when) {
				continue
			}
			for _, f := range d.stems[stem] {
				if f.has(p.flag) && each(form{own: f, more: p.more, affix: true}) {
					return true
				}
			}
			if p.cross && d.crossed(stem, p, each) {
				return true
			}
		}
	}
	return false
}

// suffixed reads a word as a stem with one suffix, or two of which the inner one allows the outer.
func (d *Dictionary) suffixed(word string, outer flags, each func(form) bool) bool {
	for n := min(d.longestSuffix, len(word)); n >= 0; n-- {
		for _, s := range d.suffixes[word[len(word)-n:]] {
			if n == 0 && s.strip == "" && s.more == "" {
				continue
			}
			stem := word[:len(word)-n] + s.strip
			if !ends(stem, s.when) {
				continue
			}
			for _, f := range d.stems[stem] {
				if f.has(s.flag) && each(form{own: f, more: s.more, affix: true}) {
					return true
				}
			}
			if d.inner(stem, s, each) {
				return true
			}
		}
	}
	return false
}

// inner reads a stem as one with a suffix of its own that allows the outer one.
func (d *Dictionary) inner(word string, outer *affix, each func(form) bool) bool {
	for n := min(d.longestSuffix, len(word)); n >= 0; n-- {
		for _, s := range d.suffixes[word[len(word)-n:]] {
			if !s.more.has(outer.flag) {
				continue
			}
			stem := word[:len(word)-n] + s.strip
			if !ends(stem, s.when) {
				continue
			}
			for _, f := range d.stems[stem] {
				if f.has(s.flag) && each(form{own: f, more: outer.more, affix: true}) {
					return true
				}
			}
		}
	}
	return false
}

// crossed reads what a prefix leaves as a stem with a suffix, both of which go together.
func (d *Dictionary) crossed(word string, p *affix, each func(form) bool) bool {
	for n := min(d.longestSuffix, len(word)); n >= 0; n-- {
		for _, s := range d.suffixes[word[len(word)-n:]] {
			if !s.cross {
				continue
			}
			stem := word[:len(word)-n] + s.strip
			if !ends(stem, s.when) {
				continue
			}
			for _, f := range d.stems[stem] {
				if f.has(s.flag) && (f.has(p.flag) || s.more.has(p.flag)) && each(form{own: f, more: p.more + s.more, affix: true}) {
					return true
				}
			}
		}
	}
	return false
}

// whole reports whether a word stands in the dictionary as it is written.
func (d *Dictionary) whole(word string, lowered bool) bool {
	for _, f := range d.stems[word] {
		if f.has(d.forbidden) {
			return false
		}
	}
	return d.forms(word, func(f form) bool {
		if f.own.has(d.forbidden) || f.own.has(d.onlyCompound) || f.more.has(d.onlyCompound) || f.bare && f.own.has(d.needAffix) || f.more.has(d.needAffix) {
			return false
		}
		return !(lowered && f.own.has(d.keepCase))
	})
}

func (d *Dictionary) compounds() bool { return d.compound != 0 || d.begin != 0 && d.end != 0 }

// compounded reports whether a word is made of parts that may stand together.
func (d *Dictionary) compounded(word string) bool {
	if !d.compounds() || utf8.RuneCountInString(word) < 2*d.compoundMin {
		return false
	}
	budget := 400 // forms looked at: a word has few parts
	return d.parts(word, 0, &budget)
}

func (d *Dictionary) parts(word string, before int, budget *int) bool {
	if before >= 4 {
		return false
	}
	cut := 0
	for i := range word {
		if cut++; cut-1 < d.compoundMin || utf8.RuneCountInString(word[i:]) < d.compoundMin {
			continue
		}
		if *budget--; *budget < 0 {
			return false
		}
		place := d.middle
		if before == 0 {
			place = d.begin
		}
		if !d.partly(word[:i], place, before > 0) {
			continue
		}
		if d.partly(word[i:], d.end, true) || d.parts(word[i:], before+1, budget) {
			return true
		}
	}
	return false
}

// partly reports whether a form may stand at a place in a compound. What does not begin the word is looked up with a capital, too, as nouns have it.
func (d *Dictionary) partly(part string, place rune, inside bool) bool {
	ok := func(f form) bool {
		if f.own.has(d.forbidden) || f.affix && f.more.has(d.forbidden) {
			return false
		}
		all := f.own
		if f.affix {
			all = f.more
			if f.own.has(place) && f.more == "" && place == d.end { // endings on the last part
				return true
			}
		}
		return all.has(d.compound) || all.has(place)
	}
	if d.forms(part, ok) {
		return true
	}
	return inside && d.forms(title(part), ok)
}

func title(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

// Has reports whether a word is spelled as the dictionary has it, whatever its capitals where they may differ: at the beginning of a sentence, or all of them.
func (d *Dictionary) Has(word string) bool {
	if len(d.input) > 0 {
		word = strings.NewReplacer(d.input...).Replace(word)
	}
	word = strings.ReplaceAll(word, "\u2019", "'")
	if utf8.RuneCountInString(word) > longest {
		return false
	}
	return d.spelled(word, 0)
}

func (d *Dictionary) spelled(word string, depth int) bool {
	if slices.ContainsFunc(d.stems[word], func(f flags) bool { return f.has(d.forbidden) }) {
		return false
	}
	if d.whole(word, false) || d.compounded(word) {
		return true
	}
	lower := strings.ToLower(word)
	if lower != word {
		upper := strings.ToUpper(word)
		switch {
		case title(lower) == word, upper == word:
			if d.whole(lower, upper != word) || d.compounded(lower) {
				return true
			}
			if upper == word && (d.whole(title(lower), false) || d.compounded(title(lower)) || d.sharp(lower)) {
				return true
			}
		}
	}
	if depth >= 3 {
		return false
	}
	for _, b := range d.breaks {
		if i := strings.Index(word, b); i > 0 && i+len(b) < len(word) {
			if d.spelled(word[:i], depth+1) && d.spelled(word[i+len(b):], depth+1) {
				return true
			}
		} else if i > 0 && i+len(b) == len(word) && d.spelled(word[:i], depth+1) {
			return true
		}
	}
	return false
}

// sharp reports whether a word in capitals is one that has ß in small letters.
func (d *Dictionary) sharp(lower string) bool {
	for i := 0; i+2 <= len(lower); i++ {
		if lower[i:i+2] == "ss" {
			if w := lower[:i] + "ß" + lower[i+2:]; d.whole(w, false) || d.whole(title(w), false) {
				return true
			}
		}
	}
	return false
}
