// Package formerly puts sentences that earlier versions stored into the words of today.
package formerly

import (
	"regexp"
	"slices"
	"strings"
)

// formerly are sentences of the trail and of the activity log as they were written before, and as they read today. A stored sentence stays as it is and is put into
// today's words when it is read.
var formerly = []struct {
	was *regexp.Regexp
	now string
}{
	{regexp.MustCompile(`\bamended on\b`), "edited on"},
	{regexp.MustCompile(`\bParagraph taken out on\b`), "Paragraph removed from"},
	{regexp.MustCompile(`\bwhat stands below moved down by\b`), "text below moved down"},
	{regexp.MustCompile(`\b(\d+) things\b`), "$1 objects"},
	{regexp.MustCompile(`\btaken off\b`), "removed from"},
	{regexp.MustCompile(`\bwritten on (pages? )`), "added to $1"},
	{regexp.MustCompile(`\bbrought from page\b`), "copied from page"},
	{regexp.MustCompile(`\bPicture put on\b`), "Picture added to"},
	{regexp.MustCompile(`\bput on\b`), "placed on"},
	{regexp.MustCompile(`\bset straight\b`), "straightened"},
	{regexp.MustCompile(`\bshadows at the edges taken away\b`), "dark edges removed"},
	{regexp.MustCompile(`\blight evened\b`), "lighting evened out"},
	{regexp.MustCompile(`\bmade real text\b`), "changed to editable text"},
	{regexp.MustCompile(`\bput right:`), "corrected to"},
	{regexp.MustCompile(`\bput right\b`), "corrected"},
	{regexp.MustCompile(`(\d+) % sure\b`), "$1% confidence"},
	{regexp.MustCompile(`\bdoubted\b`), "uncertain"},
	{regexp.MustCompile(`\bput in reverse order\b`), "reversed"},
	{regexp.MustCompile(`\bmade into a booklet\b`), "arranged as a booklet"},
	{regexp.MustCompile(`\bmade of headings\b`), "created from headings"},
	{regexp.MustCompile(`\bto what is printed\b`), "to the page content"},
	{regexp.MustCompile(`, the rest removed for good\b`), "; the content outside removed"},
	{regexp.MustCompile(`^All of (.*) shown again$`), "$1 uncropped"},
	{regexp.MustCompile(`\bmade (gray|black and white)\b`), "changed to $1"},
	{regexp.MustCompile(`^(Picture|Paragraph|Drawing|Shape|\d+ objects) turned on\b`), "$1 rotated on"},
	{regexp.MustCompile(`^(Picture|\d+ objects) (cut|mirrored) on\b`), "$1 changed on"},
	{regexp.MustCompile(`\bto gray\b`), "to greyscale"},
	{regexp.MustCompile(`\bhanded out\b`), "exported"},
	{regexp.MustCompile(`\bis open to the house\b`), "is visible to everyone"},
	{regexp.MustCompile(`\bpassed on\b`), "shared"},
	{regexp.MustCompile(`^Went back to `), "Returned to "},
	{regexp.MustCompile(`, behind (“|$)`), ", after $1"},
	{regexp.MustCompile(`^the record is kept\b`), "the activity log is kept"},
}

// marks are pieces of which each sentence of before has one: most have none, and are read for every document that is opened.
var marks = []string{"amended", "taken ", "below moved", " things ", "written on", "brought from", "put ", "straight", "evened", "real text", "% sure", "doubted", "made ", "printed", "the rest removed", "shown again",
	" turned on", " cut on", " mirrored on", "gray", "handed out", "house", "passed on", "Went back", "behind", "the record"}

// Today puts a stored sentence into today's words. What stands in quotation marks is somebody's own, and stays.
func Today(sentence string) string {
	if !slices.ContainsFunc(marks, func(m string) bool { return strings.Contains(sentence, m) }) {
		return sentence
	}
	var b strings.Builder
	for sentence != "" {
		plain, quoted := sentence, ""
		if i := strings.Index(sentence, "“"); i >= 0 {
			plain, quoted = sentence[:i], sentence[i:]
			if k := strings.Index(quoted, "”"); k >= 0 {
				quoted, sentence = quoted[:k+len("”")], quoted[k+len("”"):]
			} else {
				sentence = ""
			}
		} else {
			sentence = ""
		}
		for _, f := range formerly {
			plain = f.was.ReplaceAllString(plain, f.now)
		}
		b.WriteString(plain + quoted)
	}
	return b.String()
}
