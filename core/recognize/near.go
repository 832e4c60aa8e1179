package recognize

import (
	"context"
	"slices"
	"strings"

	"glenrain/core/ocr"
	"glenrain/core/spelling"
)

// names of languages by their codes (ISO 639-2).
var names = map[string]string{
	"eng": "English", "deu": "German", "fra": "French", "ita": "Italian", "spa": "Spanish", "nld": "Dutch", "por": "Portuguese", "pol": "Polish", "dan": "Danish", "swe": "Swedish",
	"nor": "Norwegian", "fin": "Finnish", "ces": "Czech", "slk": "Slovak", "hun": "Hungarian", "ron": "Romanian", "rus": "Russian", "ukr": "Ukrainian", "ell": "Greek", "tur": "Turkish",
	"hrv": "Croatian", "slv": "Slovenian", "bul": "Bulgarian", "est": "Estonian", "lav": "Latvian", "lit": "Lithuanian", "cat": "Catalan", "glg": "Galician", "isl": "Icelandic",
	"cym": "Welsh", "gle": "Irish", "gla": "Scottish Gaelic", "lat": "Latin", "ara": "Arabic", "heb": "Hebrew", "jpn": "Japanese", "kor": "Korean", "chi_sim": "Chinese, simplified",
	"chi_tra": "Chinese, traditional", "hin": "Hindi", "vie": "Vietnamese", "tha": "Thai",
}

// LanguageName names a language in English by its code; the code itself where it is not known.
func LanguageName(code string) string {
	if n := names[code]; n != "" {
		return n
	}
	return code
}

// mistaken are letters that are read for one another.
var mistaken = [][2]string{
	{"rn", "m"}, {"m", "rn"}, {"cl", "d"}, {"d", "cl"}, {"vv", "w"}, {"ii", "u"}, {"li", "h"}, {"1", "l"}, {"l", "1"}, {"I", "l"}, {"l", "I"}, {"0", "o"}, {"0", "O"}, {"O", "0"}, {"5", "s"}, {"5", "S"},
	{"8", "B"}, {"|", "l"}, {"|", "I"}, {"!", "l"}, {"]", "l"}, {"c", "e"}, {"e", "c"}, {"h", "b"}, {"b", "h"}, {"f", "t"}, {"t", "f"}, {"i", "l"}, {"l", "i"}, {"u", "n"}, {"n", "u"}, {"fi", "fl"}, {"ﬁ", "fi"}, {"ﬂ", "fl"},
}

// Near gives words that come near a doubted one, in the languages of its page: those that differ by letters which are read for one another first.
func Near(word, languages string, house func(string) bool) []string {
	codes, err := codesOf(languages)
	if err != nil || len(codes) == 0 {
		return nil
	}
	return spelling.For(codes, house).Suggest(word, 5, mistaken...)
}

// Poorly reports whether invisible text makes no sense: of its words, most are in no dictionary of the languages that are installed.
func Poorly(ctx context.Context, text string) bool {
	e, err := ocr.Find()
	if err != nil {
		return false
	}
	sp := spelling.For(e.Languages, nil)
	if len(sp.Languages) == 0 {
		return false
	}
	known, all := 0, 0
	for w := range strings.FieldsSeq(text) {
		core := spelling.Core(w)
		if len([]rune(core)) < 3 {
			continue
		}
		if all++; sp.Knows(core) {
			known++
		}
		if all == 150 || ctx.Err() != nil {
			break
		}
	}
	return all >= 20 && known*100 < all*45
}

// Installed gives the languages in which text can be recognized here and words looked up; and those that can be recognized alone.
func Installed() (both, alone []string) {
	e, err := ocr.Find()
	if err != nil {
		return nil, nil
	}
	for _, c := range e.Languages {
		if spelling.Where(c) != "" {
			both = append(both, c)
		} else if !slices.Contains(alone, c) {
			alone = append(alone, c)
		}
	}
	return both, alone
}
