package spelling

import (
	"os"
	"path/filepath"
	"strings"
)

// Folders are where dictionaries are looked for.
var Folders = []string{"/usr/share/hunspell", "/usr/share/myspell/dicts"}

// files are the names of dictionaries by the codes that recognition has for languages, the usual one first.
var files = map[string][]string{
	"eng": {"en_GB", "en_US"}, "deu": {"de_DE", "de_DE_frami", "de_AT", "de_CH"}, "fra": {"fr_FR", "fr"}, "ita": {"it_IT"}, "spa": {"es_ES", "es"}, "nld": {"nl_NL", "nl"},
	"por": {"pt_PT", "pt_BR"}, "pol": {"pl_PL"}, "dan": {"da_DK"}, "swe": {"sv_SE"}, "nor": {"nb_NO", "nn_NO"}, "fin": {"fi_FI"}, "ces": {"cs_CZ"}, "slk": {"sk_SK"},
	"hun": {"hu_HU"}, "ron": {"ro_RO"}, "rus": {"ru_RU"}, "ukr": {"uk_UA"}, "ell": {"el_GR"}, "tur": {"tr_TR"}, "hrv": {"hr_HR"}, "slv": {"sl_SI"}, "bul": {"bg_BG"},
	"est": {"et_EE"}, "lav": {"lv_LV"}, "lit": {"lt_LT"}, "cat": {"ca_ES", "ca"}, "glg": {"gl_ES"}, "isl": {"is_IS"}, "cym": {"cy_GB"}, "gle": {"ga_IE"},
}

// spelledWays are languages that are spelled in several ways, each of which is right.
var spelledWays = map[string]bool{"eng": true, "por": true}

// bases gives the base names of the dictionaries of a language that are installed: the first of them, or all where it is spelled in several ways.
func bases(code string) (out []string) {
	for _, name := range files[code] {
		for _, dir := range Folders {
			base := filepath.Join(dir, name)
			if exists(base+".aff") && exists(base+".dic") {
				if out = append(out, base); !spelledWays[code] {
					return out
				}
				break
			}
		}
	}
	return out
}

// Where gives the base name of the dictionary of a language, by its code of three letters; nothing where none is installed.
func Where(code string) string {
	if list := bases(code); len(list) > 0 {
		return list[0]
	}
	return ""
}

// Package names Debian's package with the dictionary of a language.
func Package(code string) string {
	if names := files[code]; len(names) > 0 {
		return "hunspell-" + strings.ToLower(strings.ReplaceAll(names[len(names)-1], "_", "-"))
	}
	return ""
}

func exists(path string) bool {
	st, err := os.Stat(path)
	return err == nil && st.Mode().IsRegular()
}
