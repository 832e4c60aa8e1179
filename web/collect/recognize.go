package collect

import (
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"

	"glenrain/core/draw"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/recognize"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// recognizing is the job in which pages that are pictures get text.
func recognizing() station.Job {
	return station.Job{
		Path: "recognize", Words: "recognize text", Slip: "recognize.html", Module: "recognize.js", View: recognizeView, Fixes: []string{"no-text"},
		Steps: []station.Form{{Step: "recognize", Fill: fillRecognize}, {Step: "recognize-words", Fill: fillWords}, {Step: "recognize-remove"}},
		Finds: []station.Find{
			{Text: "Recognize text of scanned pages", Words: "ocr recognize recognise scan scanned text searchable picture"},
			{Text: "Check uncertain words", Words: "ocr uncertain words check recognized proofread", Query: "doubts=1"},
		},
		Keys: []station.Key{
			{Keys: []string{"."}, Act: "doubt-next", What: "next uncertain word"},
			{Keys: []string{","}, Act: "doubt-back", What: "previous uncertain word"},
			{Keys: []string{"y"}, Act: "doubt-accept", What: "accept the word"},
		},
	}
}

// languageView is a language that can be chosen.
type languageView struct{ Code, Name string }

type doubtPage struct {
	Key    string `json:"key"`
	Number int    `json:"-"`
	Doubts int    `json:"n"`
	Sure   int    `json:"-"`
}

type recognizeSlip struct {
	Wrong     string // why nothing can be recognized here
	Known     bool   // the pages were looked through
	Says      string // what needs it, in a sentence
	Pages     string // the set that is proposed
	N         int
	Again     bool // the proposal replaces layers
	Poor      int
	Layered   string // the set of those that have invisible text
	LayeredN  int
	Sure      int // of what was recognized here, on average
	Recog     []doubtPage
	Doubts    int
	Languages []languageView
	Chosen    string
	Words     []desk.LearnedWord // of the house
	WordsN    int64
}

const mostWordsShown = 200

func recognizeView(v *station.Visit) (any, error) {
	out := &recognizeSlip{}
	codes, last, wrong := v.Desk.Languages()
	out.Wrong, out.Chosen = wrong, last
	for _, c := range codes {
		out.Languages = append(out.Languages, languageView{c, recognize.LanguageName(c)})
	}
	if n := len(out.Languages); n <= 5 {
		for i := range n {
			for k := i + 1; k < n; k++ {
				a, b := out.Languages[i], out.Languages[k]
				out.Languages = append(out.Languages, languageView{a.Code + "+" + b.Code, a.Name + " and " + b.Name})
			}
		}
	}
	var err error
	if out.Words, out.WordsN, err = v.Desk.LearnedWords(v.Request.Context(), mostWordsShown); err != nil {
		return nil, err
	}
	needs, known, err := v.Desk.Needs(v.Request.Context(), v.Snapshot)
	if err != nil {
		return nil, err
	}
	out.Known = known
	var at, layered []int
	whole, part, sum := 0, 0, 0
	for i, n := range needs {
		switch n.Needs {
		case recognize.Whole:
			whole++
			at = append(at, i)
		case recognize.Parts:
			part++
			at = append(at, i)
		case recognize.Poor:
			out.Poor++
			at = append(at, i)
		}
		if n.Needs == recognize.Layered || n.Needs == recognize.Poor {
			layered = append(layered, i)
		}
		if n.Sure >= 0 {
			out.Recog = append(out.Recog, doubtPage{n.Key.String(), n.Number, n.Doubts, n.Sure})
			out.Doubts += n.Doubts
			sum += n.Sure
		}
	}
	if len(out.Recog) > 0 {
		out.Sure = (sum + len(out.Recog)/2) / len(out.Recog)
	}
	out.N, out.Pages, out.Layered, out.LayeredN = len(at), step.WriteSet(at), step.WriteSet(layered), len(layered)
	out.Again = out.Poor > 0
	out.Says = says(len(needs), whole, part, out.Poor)
	return out, nil
}

// says tells what needs to be recognized.
func says(all, whole, part, poor int) string {
	var list []string
	are := func(n int, one, more string) {
		switch {
		case n == 1:
			list = append(list, "1 page "+one)
		case n > 1:
			list = append(list, step.Count(n, "page")+" "+more)
		}
	}
	if whole == all && all > 1 {
		return "All pages are pictures without text."
	}
	are(whole, "is a picture with no searchable text", "are pictures with no searchable text")
	are(part, "shows a picture that may contain text", "show pictures that may contain text")
	are(poor, "has a text layer that is wrong or misplaced", "have a text layer that is wrong or misplaced")
	if len(list) == 0 {
		return "No pages need text recognition."
	}
	return strings.Join(list, "; ") + "."
}

func fillRecognize(v *station.Visit, s step.Step) error {
	if r, ok := s.(*recognize.Recognize); ok {
		r.Made = "" // it is the work's own to set
		v.Desk.KeepLanguages(r.Languages)
	}
	return nil
}

func fillWords(v *station.Visit, s step.Step) error {
	w, ok := s.(*recognize.Words)
	if !ok {
		return step.Refuse("no word is given")
	}
	n := int(station.FormID(v.Request, "_word"))
	w.Changes = []recognize.Change{{Word: n, Was: v.Request.FormValue("_was"), Text: v.Request.FormValue("_text"), Gone: strings.TrimSpace(v.Request.FormValue("_text")) == ""}}
	return nil
}

// doubted is a doubted word of a page as the script gets it.
type doubted struct {
	Word int        `json:"word"`
	Text string     `json:"text"`
	Sure int        `json:"sure"`
	Q    [8]float64 `json:"q"`    // its corners on the page as it is seen, in points
	Line string     `json:"line"` // the words around it
}

func recognizeRoutes(r station.Router, h station.Host) {
	r.Get("/recognize/doubts/{key}", func(w http.ResponseWriter, r *http.Request) error { return doubtsOf(h.Desk(), w, r) })
	r.Get("/recognize/blocks/{key}", func(w http.ResponseWriter, r *http.Request) error { return blocksOf(h.Desk(), w, r) })
	r.Get("/recognize/near", func(w http.ResponseWriter, r *http.Request) error {
		if err := h.Desk().May(r.Context(), station.Person(r).ID, desk.ActLook, station.ID(r, "id")); err != nil {
			return err
		}
		word := r.FormValue("word")
		if len(word) > 80 {
			return station.SendJSON(w, []string{})
		}
		list := recognize.Near(word, r.FormValue("languages"), h.Desk().KnowsWord)
		if list == nil {
			list = []string{}
		}
		return station.SendJSON(w, list)
	})
	r.Post("/recognize/words", func(w http.ResponseWriter, r *http.Request) error {
		if err := h.Desk().May(r.Context(), station.Person(r).ID, desk.ActLook, station.ID(r, "id")); err != nil {
			return err
		}
		word, err := h.Desk().LearnWord(r.Context(), station.Person(r).ID, r.FormValue("word"))
		if err != nil {
			return err
		}
		return shown(h, w, r, "“"+word+"” added to the dictionary for all documents.")
	})
	r.Post("/recognize/words/forget", func(w http.ResponseWriter, r *http.Request) error {
		if err := h.Desk().May(r.Context(), station.Person(r).ID, desk.ActLook, station.ID(r, "id")); err != nil {
			return err
		}
		if err := h.Desk().ForgetWord(r.Context(), station.Person(r).ID, station.FormID(r, "word")); err != nil {
			return err
		}
		return shown(h, w, r, "Word removed from the dictionary.")
	})
	r.Get("/recognize/guess", func(w http.ResponseWriter, r *http.Request) error {
		snap, err := h.Desk().Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
		if err != nil {
			return err
		}
		pages := step.Pages{}
		if err := pages.UnmarshalText([]byte(r.FormValue("pages"))); err != nil {
			return err
		}
		g, err := h.Desk().GuessLanguage(r.Context(), snap, pages, r.FormValue("again") == "yes")
		if err != nil {
			return err
		}
		return h.Render(w, http.StatusOK, "guess", guessView(g))
	})
}

// shown answers with the desk, at the page that was looked at.
func shown(h station.Host, w http.ResponseWriter, r *http.Request, said string) error {
	snap, err := h.Desk().Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	return h.Show(w, r, station.Shown{Snapshot: snap, Place: "collect/recognize", Page: r.FormValue("page"), Message: &station.Message{Text: said}})
}

type guessed struct {
	Codes, Names string
	Says         string
	Sample       []string
}

func guessView(g *recognize.Guess) guessed {
	out := guessed{Codes: strings.Join(g.Codes, "+"), Sample: g.Sample}
	var names []string
	for _, c := range g.Codes {
		names = append(names, recognize.LanguageName(c))
	}
	out.Names = strings.Join(names, " and ")
	switch {
	case len(g.Codes) > 0:
		out.Says = fmt.Sprintf("This looks like %s: of %s on the sample page, %d%% are in its dictionary.", out.Names, step.Count(g.Words, "word"), g.Known[g.Codes[0]])
	case g.Script != "" && g.Script != "Latin":
		out.Says = fmt.Sprintf("The text is in %s script, and no language for it is installed.", g.Script)
	case g.Words > 0:
		out.Says = "The language can’t be detected: choose one."
	default:
		out.Says = "No words were found on the sample page."
	}
	return out
}

// pageOf gives the page that an address names, in the newest state of its document.
func pageOf(d *desk.Desk, r *http.Request) (*pdf.Document, pdf.Ref, error) {
	key, err := station.PageKey(r, "key")
	if err != nil {
		return nil, pdf.Ref{}, err
	}
	snap, err := d.Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return nil, pdf.Ref{}, err
	}
	ref, ok := snap.Keys.Ref(key)
	if !ok {
		return nil, pdf.Ref{}, desk.ErrMissing
	}
	return snap.PDF.In(r.Context()), ref, nil
}

func doubtsOf(d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	doc, ref, err := pageOf(d, r)
	if err != nil {
		return err
	}
	u, note, ok := recognize.Layer(doc, ref)
	out := struct {
		Languages string    `json:"languages"`
		Words     []doubted `json:"words"`
	}{strings.Join(note.Languages, "+"), []doubted{}}
	if ok {
		g := doc.Geometry(ref)
		doubts := recognize.Doubted(u, note, d.KnowsWord)
		n := 0
		for i := range u.Lines {
			l := &u.Lines[i]
			for k := range l.Words {
				if at := slices.IndexFunc(doubts, func(d recognize.Doubt) bool { return d.Word == n }); at >= 0 {
					out.Words = append(out.Words, doubted{n, l.Words[k].Text, doubts[at].Sure, station.Corners(g, quad(l, k)), around(l, k)})
				}
				n++
			}
		}
	}
	return station.SendJSON(w, out)
}

// quad gives the corners of a word, in default user space, going round from the upper left one.
func quad(l *draw.InvisibleLine, k int) layout.Quad {
	w := l.Words[k]
	sin, cos := math.Sincos(l.Angle * math.Pi / 180)
	at := func(along, up float64) [2]float64 {
		return [2]float64{w.X + along*cos - up*sin, w.Y + along*sin + up*cos}
	}
	up, down := 0.8*l.Size, -0.22*l.Size
	return layout.Quad{at(0, up), at(w.Long, up), at(w.Long, down), at(0, down)}
}

// around gives a word with those beside it.
func around(l *draw.InvisibleLine, k int) string {
	var words []string
	for i := max(0, k-3); i < min(len(l.Words), k+4); i++ {
		words = append(words, l.Words[i].Text)
	}
	return strings.Join(words, " ")
}
