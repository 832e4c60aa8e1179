package spelling_test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/spelling"
)

// made writes a dictionary and opens it.
func made(t *testing.T, aff, dic string) *spelling.Dictionary {
	t.Helper()
	base := filepath.Join(t.TempDir(), "made")
	require.NoError(t, os.WriteFile(base+".aff", []byte(aff), 0o600))
	require.NoError(t, os.WriteFile(base+".dic", []byte(dic), 0o600))
	d, err := spelling.Open(base)
	require.NoError(t, err)
	return d
}

// The examples of hunspell(5): affixes with conditions, both kinds together, two suffixes, flags of other forms, compounds.
func TestRules(t *testing.T) {
	d := made(t, "SET UTF-8\nTRY esianrtolcdugmphbyfvkwqxz\nREP 1\nREP f ph\nPFX A Y 1\nPFX A 0 re .\nSFX B Y 2\nSFX B 0 ed [^y]\nSFX B y ied y\n", "3\nhello\ntry/B\nwork/AB\n")
	for word, ok := range map[string]bool{"hello": true, "Hello": true, "HELLO": true, "hELLO": false, "tried": true, "tryed": false, "work": true, "worked": true, "reworked": true, "rework": true, "retried": false, "workied": false} {
		assert.Equal(t, ok, d.Has(word), word)
	}
	d = made(t, "SFX Y Y 1\nSFX Y 0 s .\nSFX X Y 1\nSFX X 0 able/Y .\n", "1\ndrink/X\n")
	for word, ok := range map[string]bool{"drink": true, "drinkable": true, "drinkables": true, "drinks": false} {
		assert.Equal(t, ok, d.Has(word), word)
	}
	d = made(t, "FLAG num\nCOMPOUNDFLAG 7\nCOMPOUNDMIN 3\nFORBIDDENWORD 9\nNEEDAFFIX 8\nSFX 1001 Y 1\nSFX 1001 0 s .\n", "4\nharbour/7\nmaster/7,1001\nquay/8,1001\nharbourharbour/9\n")
	for word, ok := range map[string]bool{"harbourmaster": true, "harbour": true, "quay": false, "quays": true, "harbourharbour": false, "masterharbour": true, "harbourmast": false} {
		assert.Equal(t, ok, d.Has(word), word)
	}
	d = made(t, "FLAG long\nSET ISO8859-1\nKEEPCASE Kk\nSFX Pl Y 1\nSFX Pl 0 n e\n", "2\nM\xf6we/Pl\nkg/Kk\n")
	for word, ok := range map[string]bool{"Möwe": true, "Möwen": true, "MÖWEN": true, "kg": true, "Kg": false} {
		assert.Equal(t, ok, d.Has(word), word)
	}
}

// What can't be a dictionary is an error or knows nothing; it never hangs.
func TestBadDictionaries(t *testing.T) {
	_, err := spelling.Open(filepath.Join(t.TempDir(), "none"))
	assert.ErrorIs(t, err, spelling.ErrDictionary)
	long := strings.Repeat("ab", 4000)
	for _, aff := range []string{"SFX A Y 99999999\nSFX A 0 0/A .\n", "SFX A Y 1\nSFX A 0 a/A .\n", "COMPOUNDFLAG A\nCOMPOUNDMIN 1\n", "SFX A Y 1\nSFX A [ ] [^\n", "AF 3\nAF A\nFLAG UTF-8\n", "BREAK 2\nBREAK a\nBREAK b\n"} {
		d := made(t, aff, "1\na/A\nab/A\n")
		assert.False(t, d.Has(long), aff)
		d.Has(long[:50])
		d.Suggest(long[:30]+"q", 5)
	}
}

// Held against hunspell's own command on the same words: those of the dictionaries' languages, and words that are none.
func TestAgainstHunspell(t *testing.T) {
	if _, err := exec.LookPath("hunspell"); err != nil {
		t.Skip(err)
	}
	samples := map[string]string{
		"eng": `The harbour harbor master's dredging dredger unlikeliest reworked tries tryed vessels berths moorings re-elected can't won't isn't pre-war colour color quays Quays QUAYS
			walking walked walker walkest happily unhappiness happyness misunderstanding misunderstood antidisestablishmentarianism Edinburgh edinburgh NATO nato 1st 22nd ph.d. e-mail O'Neill`,
		"deu": `Der Hafen hafen Hafenmauer Hafenmauern Winterliegeplatz Winterliegeplätze Schiffahrtsgesellschaft Schifffahrtsgesellschaft gegangen ging gehst geht Straße Strasse STRASSE
			Baggerarbeiten Hafenmeisterin Hafenmeisterinnen Liegegebühr Liegegebuehr abgerechnet Möwe Möwen möwe Nordsee Nordseeküste Donaudampfschifffahrt Wasserstand Wasserstände Wasserstandd`,
		"fra": `Le port l'eau d'abord mangeaient mangerions bateaux bateau bateus quai quais aujourd'hui Paris paris marée marées maree débarcadère anticonstitutionnellement qu'il lorsqu'elle jusqu'à`,
	}
	for code, words := range samples {
		base := spelling.Where(code)
		if base == "" {
			continue
		}
		d, err := spelling.Open(base)
		require.NoError(t, err)
		list := strings.Fields(words)
		cmd := exec.Command("hunspell", "-d", base, "-i", "UTF-8", "-G") // lists the lines that are right
		cmd.Stdin = strings.NewReader(strings.Join(list, "\n") + "\n")
		out, err := cmd.Output()
		require.NoError(t, err)
		right := map[string]bool{}
		for s := bufio.NewScanner(strings.NewReader(string(out))); s.Scan(); {
			right[strings.TrimSpace(s.Text())] = true
		}
		require.NotEmpty(t, right, code)
		var unlike []string
		for _, w := range list {
			if strings.ContainsAny(w, "'-.0123456789") { // the command takes these apart by itself
				continue
			}
			if d.Has(w) != right[w] {
				unlike = append(unlike, w)
			}
		}
		assert.Empty(t, unlike, "%s: of %d words", code, len(list))
	}
}

func TestSuggest(t *testing.T) {
	s := spelling.For([]string{"eng", "xxx"}, func(w string) bool { return w == "Orrin" })
	if len(s.Languages) == 0 {
		t.Skip("no English dictionary is installed")
	}
	assert.Equal(t, []string{"eng"}, s.Languages)
	for word, want := range map[string]string{"dredgnig": "dredging", "Berhts": "Berths", "(quayy)": "(quay)", "mooringsat": "moorings at", "receieved,": "received,"} {
		assert.Contains(t, s.Suggest(word, 5), want)
	}
	assert.Empty(t, s.Suggest("2027", 5), "numbers are not for a dictionary")
	assert.True(t, s.Knows("Orrin"), "a word of the office")
	assert.True(t, s.Knows("“harbors”,"))
	assert.True(t, s.Knows("—"))
	assert.True(t, s.Knows("A4"))
	assert.False(t, s.Knows("harbuor"))
	assert.True(t, spelling.For(nil, nil).Knows("anything"), "without a dictionary nothing is wrong")
}

// Words that no dictionary has are found; what is no word of a language is passed over.
func TestDoubted(t *testing.T) {
	dir := t.TempDir()
	was := spelling.Folders
	spelling.Folders = []string{dir}
	t.Cleanup(func() { spelling.Folders = was })
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cy_GB.aff"), []byte("SET UTF-8\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cy_GB.dic"), []byte("8\nthe\nharbour\nquay\nsee\nor\nand\nsheet\na\n"), 0o600))
	assert.Equal(t, []string{"cym"}, spelling.Installed())
	text := "The harbour’s quay, see www.orrin.example or pilots@orrin.example, sheet_4.pdf and HM2; a berht-quay, the Harbour and the qay. DREDGE HARBOUR NHS iPad"
	var got []string
	for _, at := range spelling.Doubted(text, spelling.For([]string{"cym"}, nil)) {
		got = append(got, text[at[0]:at[1]])
	}
	assert.Equal(t, []string{"berht", "qay", "DREDGE"}, got)
	assert.Equal(t, "cym", spelling.Guess("the harbour and the quay, or a sheet"))
	assert.Empty(t, spelling.Guess("der Hafen und die Kaimauer"))
}
