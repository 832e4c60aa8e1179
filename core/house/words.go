// Package house holds the rules of the house: which room may import which, what the documents claim, and how Glenrain speaks.
package house

import (
	"regexp"
	"strings"
)

// Pattern is a way of putting things that a plain English sentence does without.
type Pattern struct {
	Re  *regexp.Regexp
	Say string // what to write instead
}

// Patterns are looked for in everything that people read.
var Patterns = []Pattern{
	{regexp.MustCompile(`\b(is|are|was|were) (told|said|asked|looked|noted)\b`), "name who acts"},
	{regexp.MustCompile(`\b[Ww]h(at|o|oever) (is|are|stands?|lies?|comes?|came|goes|one)\b`), "a noun in place of the clause"},
	{regexp.MustCompile(`\b(stands?|stood|lies|goes for|leads? nowhere|askew)\b`), "is, appears, points to"},
	{regexp.MustCompile(`\b(anew|otherwise|meanwhile|besides|by itself|for good and all)\b|\bnot .{0,20}\bany ?more\b`), "again, differently, automatically"},
	{regexp.MustCompile(`\btak(e|es|en|ing) (it )?(off|out|away|back)\b|\bput (in|on|right)\b`), "remove, insert, correct"},
	{regexp.MustCompile(`\bhand(s|ed|ing)?( it)? out\b|\bgo(es)? out\b|\bpass(ed)? (it )?on\b|\bthe house\b`), "export, share, the office"},
	{regexp.MustCompile(`\bthings?\b|\bloose end|\bhonest|\bdoubt|\bmended\b|\bface\b|\bunseen\b`), "name it"},
	{regexp.MustCompile(`\b(came|come) (in|new|along|locked)\b|\bwent\b|\bmade\b`), "added, removed, created"},
	{regexp.MustCompile(`%d %%|\} %|\d(mm|pt)\b|\bgray|\be-mail|\b[Ss]omebody\b|\b[Nn]obody\b|\b[Ee]verybody\b`), "46%, 12 mm, grey, email, someone"},
}

// named is what somebody else worded: the name of a document, words of a page.
var named = regexp.MustCompile(`“[^”]*”`)

// Wrong gives the words of a sentence that should be others, and what to write instead; nothing where it is fine.
func Wrong(sentence string) (words, instead string) {
	sentence = named.ReplaceAllString(sentence, "“”")
	for _, p := range Patterns {
		if m := p.Re.FindString(sentence); m != "" {
			return strings.TrimSpace(m), p.Say
		}
	}
	return "", ""
}
