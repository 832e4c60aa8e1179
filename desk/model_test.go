package desk

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// entry is a state in the model of a trail: the numbers of the steps that led to it, and the document.
type entry struct {
	numbers []int
	bytes   []byte
}

func entryOf(t *testing.T, d *Desk, s *Snapshot) entry {
	e := entry{numbers: []int{}, bytes: bytesOf(t, s)}
	for _, st := range trail(t, d, s) {
		e.numbers = append(e.numbers, st.No)
	}
	return e
}

// Property: steps, undoing, redoing, undoing a step alone and starting the program anew, in any order, are what a list of states
// with a place in it is.
func TestTrailModel(t *testing.T) {
	rounds := 150
	if testing.Short() {
		rounds = 40
	}
	dir := t.TempDir()
	d := openDesk(t, dir)
	t.Cleanup(func() { _ = d.Close() })
	doc := bring(t, d, "doc.pdf", pdftest.Text(5))
	model, at := []entry{entryOf(t, d, snapshot(t, d, doc.ID))}, 0
	r := rand.New(rand.NewPCG(7, 11))
	var acts [5]int
	for range rounds {
		head := snapshot(t, d, doc.ID)
		act := r.IntN(5)
		switch act {
		case 0: // a step
			name, params := "rotate", fmt.Sprintf(`{"pages":["0.%d"],"by":90}`, r.IntN(5)+1)
			if r.IntN(2) == 0 {
				name, params = "move", fmt.Sprintf(`{"pages":["0.%d"],"to":"end"}`, r.IntN(5)+1)
			}
			out, err := do(t, d, doc.ID, head.State.ID, name, params)
			if err != nil { // a page that is the last already
				var refusal *step.Refusal
				require.ErrorAs(t, err, &refusal)
				continue
			}
			now := entryOf(t, d, out.Snapshot)
			require.Equal(t, append(slices.Clone(model[at].numbers), out.Step.No), now.numbers)
			model, at = append(model[:at+1:at+1], now), at+1
		case 1:
			out, err := d.Undo(t.Context(), doc.ID, head.State.ID, 1)
			require.Equal(t, at == 0, err != nil, err)
			if err == nil {
				require.NotEmpty(t, out.Undone)
				at--
			}
		case 2:
			require.Equal(t, at < len(model)-1, d.CanRedo(t.Context(), head))
			_, err := d.Redo(t.Context(), doc.ID, head.State.ID, 1)
			require.Equal(t, at == len(model)-1, err != nil, err)
			if err == nil {
				at++
			}
		case 3: // one step undone alone
			steps := trail(t, d, head)
			if len(steps) == 0 {
				continue
			}
			target := steps[r.IntN(len(steps))]
			newest := target.ID == steps[len(steps)-1].ID
			out, err := d.Revise(t.Context(), Revision{Document: doc.ID, Seen: head.State.ID, Person: 1, Step: target.ID})
			if err != nil { // a later step can't be done without it
				var refusal *step.Refusal
				require.ErrorAs(t, err, &refusal)
				break
			}
			now := entryOf(t, d, out.Snapshot)
			require.Equal(t, slices.DeleteFunc(slices.Clone(model[at].numbers), func(n int) bool { return n == target.No }), now.numbers)
			if newest { // that is what Undo does
				if out.Snapshot.State.ID == head.State.back() {
					at--
					break
				}
			}
			model, at = append(model[:at+1:at+1], now), at+1
		case 4:
			require.NoError(t, d.Close())
			d = openDesk(t, dir)
		}
		acts[act]++
		head = snapshot(t, d, doc.ID)
		now := entryOf(t, d, head)
		require.Equal(t, model[at].numbers, now.numbers)
		require.True(t, bytes.Equal(model[at].bytes, now.bytes), "the same document as when it was there before")
		require.Equal(t, at > 0, head.CanUndo())
	}
	for act, n := range acts {
		assert.NotZero(t, n, "act %d", act)
	}
	pdftest.Check(t, model[at].bytes)
}

// holds reports whether a page's text holds a word of a search, by looking at each place of it.
func holds(text, word string) bool {
	fold := strings.NewReplacer("é", "e", "É", "e")
	text, word = fold.Replace(strings.ToLower(text)), fold.Replace(strings.ToLower(word))
	if unspaced(firstRune(word)) { // also over the end of a line
		text = strings.ReplaceAll(text, " ", "")
	}
	short := len([]rune(word)) == 1
	for i := range text {
		if !strings.HasPrefix(text[i:], word) {
			continue
		}
		before := []rune(text[:i])
		after := firstRune(text[i+len(word):])
		begins := len(before) == 0 || !isLetter(before[len(before)-1]) || unspaced(before[len(before)-1]) || unspaced(firstRune(word))
		ends := !short || unspaced(firstRune(word)) || !isLetter(after) || unspaced(after)
		if begins && ends {
			return true
		}
	}
	return false
}

// Property: a search across documents gives the pages that reading every text gives, whatever the scripts and however they mix.
func TestSearchAgrees(t *testing.T) {
	if testing.Short() {
		t.Skip("takes its time; nothing in it happens at once")
	}
	d := newDesk(t)
	doc := bring(t, d, "Notice.pdf", pdftest.Text(1))
	require.NoError(t, d.ReadAll(t.Context(), 1))
	r := rand.New(rand.NewPCG(3, 5))
	scraps := []string{"quay", "Quays", "berth", "berths ", "a", "b", "7", "12", "café", "CAFE", "港", "湾", "岸壁", "冬", "PDF", "x", " ", " ", " ", ", ", "\n", "-", "กา", "ポート"}
	scrap := func() string { return scraps[r.IntN(len(scraps))] }
	texts := map[string]string{}
	for n := range 300 {
		var b strings.Builder
		for range 1 + r.IntN(12) {
			b.WriteString(scrap())
		}
		row := PageText{DocumentID: doc.ID, Key: fmt.Sprintf("1.%d", n), Number: n + 2}
		row.keep(b.String())
		require.NoError(t, d.db.Create(&row).Error)
		texts[row.Key] = b.String()
	}
	some := 0
	for range 300 {
		var query []string
		for range 1 + r.IntN(3) {
			query = append(query, strings.TrimFunc(scrap()+scrap(), func(r rune) bool { return !isLetter(r) }))
		}
		asked := strings.Join(query, " ")
		var words []string // cut where scripts change, as the search does
		for _, w := range strings.FieldsFunc(asked, func(r rune) bool { return !isLetter(r) }) {
			run := ""
			for _, c := range w {
				if run != "" && unspaced(firstRune(run)) != unspaced(c) {
					words, run = append(words, run), ""
				}
				run += string(c)
			}
			words = append(words, run)
		}
		if len(words) == 0 {
			continue
		}
		want := []string{}
		for key, text := range texts {
			if !slices.ContainsFunc(words, func(w string) bool { return !holds(text, w) }) {
				want = append(want, key)
			}
		}
		found, err := d.SearchText(t.Context(), 1, asked, 1000)
		require.NoError(t, err)
		got := []string{}
		for _, h := range found.Hits {
			if h.Key == "0.1" { // the document's own page
				continue
			}
			got = append(got, h.Key)
			if slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(strings.ToLower(texts[h.Key]), strings.ToLower(w)) }) {
				continue // over a line's end, or with other accents
			}
			marked := slices.ContainsFunc(h.Parts, func(p TextPart) bool {
				return p.Hit && strings.ContainsFunc(p.Text, unicode.IsLetter) || p.Hit && strings.ContainsFunc(p.Text, unicode.IsDigit)
			})
			assert.True(t, marked, "what was found in %q for %q is marked", texts[h.Key], asked)
		}
		slices.Sort(want)
		slices.Sort(got)
		if !slices.Equal(want, got) {
			for _, key := range append(want, got...) {
				t.Logf("%q %q", key, texts[key])
			}
		}
		require.Equal(t, want, got, "%q", asked)
		some += len(got)
	}
	assert.Greater(t, some, 1000)
}
