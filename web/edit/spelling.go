package edit

import (
	"net/http"
	"slices"
	"strings"

	"glenrain/core/recognize"
	"glenrain/core/spelling"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// spell is the job in which the words of the document are tried against a dictionary.
func spell() station.Job {
	return station.Job{
		Path: "spelling", Words: "spelling", Slip: "spelling.html", Module: "spelling.js", View: spellView,
		Finds: []station.Find{{Text: "Check the spelling", Words: "spelling spell check typo dictionary words correct"}},
		Keys: []station.Key{
			{Keys: []string{"."}, Act: "word-next", What: "next unknown word"},
			{Keys: []string{","}, Act: "word-back", What: "previous unknown word"},
			{Keys: []string{"y"}, Act: "word-ignore", What: "ignore it in this document"},
		},
	}
}

type language struct {
	Code, Name string
	Chosen     bool
}

type spellSlip struct{ Languages []language }

func spellView(v *station.Visit) (any, error) {
	out := &spellSlip{}
	codes := spelling.Installed()
	if len(codes) == 0 {
		return out, nil
	}
	texts, err := v.Desk.Texts(v.Request.Context(), v.Snapshot)
	if err != nil {
		return nil, err
	}
	var sample strings.Builder
	for _, t := range texts {
		if sample.Len() > 20_000 {
			break
		}
		sample.WriteString(t.Text + "\n")
	}
	guess := spelling.Guess(sample.String())
	for _, c := range codes {
		out.Languages = append(out.Languages, language{c, recognize.LanguageName(c), c == guess})
	}
	return out, nil
}

type doubted struct {
	Word  string   `json:"word"`
	Count int      `json:"count"`
	Pages []string `json:"pages"`  // keys, the first few
	First int      `json:"number"` // of the first page
	Near  []string `json:"near"`
}

// Bounds of the list.
const (
	mostWords    = 400
	mostSuggests = 120 // words for which something is suggested at once
	fewPages     = 20
)

// spelled lists the words of a document that are doubted, those that come most often first.
func spelled(_ *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	snap, err := d.Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	texts, err := d.Texts(r.Context(), snap)
	if err != nil {
		return err
	}
	sp := spelling.For([]string{r.FormValue("language")}, d.KnowsWord)
	if len(sp.Languages) == 0 {
		return step.Refuse("no dictionary is installed for this language")
	}
	by := map[string]*doubted{}
	var list []*doubted
	for i, p := range snap.Pages() {
		if err := r.Context().Err(); err != nil {
			return err
		}
		if i >= len(texts) {
			break
		}
		for _, at := range spelling.Doubted(texts[i].Text, sp) {
			word := texts[i].Text[at[0]:at[1]]
			one := by[word]
			if one == nil {
				one = &doubted{Word: word, First: i + 1, Near: []string{}}
				by[word] = one
				list = append(list, one)
			}
			one.Count++
			if key := p.Key.String(); len(one.Pages) < fewPages && !slices.Contains(one.Pages, key) {
				one.Pages = append(one.Pages, key)
			}
		}
	}
	out := struct {
		Words []*doubted `json:"words"`
		More  int        `json:"more,omitempty"`
	}{Words: list}
	if len(list) > mostWords {
		out.Words, out.More = list[:mostWords], len(list)-mostWords
	}
	for i, one := range out.Words {
		if i >= mostSuggests || r.Context().Err() != nil {
			break
		}
		if near := sp.Suggest(one.Word, 4); near != nil {
			one.Near = near
		}
	}
	if out.Words == nil {
		out.Words = []*doubted{}
	}
	return station.SendJSON(w, out)
}

type spelledWord struct {
	Word string       `json:"word"`
	Q    [][8]float64 `json:"q"`
}

// spelledPage tells where the doubted words of a page stand.
func spelledPage(_ *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	l, g, err := station.ReadPage(d, r)
	if err != nil {
		return err
	}
	sp := spelling.For([]string{r.FormValue("language")}, d.KnowsWord)
	reading := l.Reading()
	out := []spelledWord{}
	for _, at := range spelling.Doubted(reading.Text, sp) {
		word := spelledWord{Word: strings.ReplaceAll(reading.Text[at[0]:at[1]], "\u00ad", "")}
		if sp.Knows(word.Word) { // it was only parted by a hyphen
			continue
		}
		for _, q := range l.Quads(reading, at[0], at[1]) {
			word.Q = append(word.Q, station.Corners(g, q))
		}
		if out = append(out, word); len(out) >= 500 {
			break
		}
	}
	return station.SendJSON(w, out)
}

// learn has the house learn a word.
func learn(_ *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	if err := d.May(r.Context(), station.Person(r).ID, desk.ActLook, station.ID(r, "id")); err != nil {
		return err
	}
	word, err := d.LearnWord(r.Context(), station.Person(r).ID, r.FormValue("word"))
	if err != nil {
		return err
	}
	return station.SendJSON(w, map[string]string{"said": "“" + word + "” added to the dictionary for all documents."})
}
