package recognize

import (
	"context"
	"errors"
	"slices"
	"strings"

	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/spelling"
	"glenrain/core/step"
)

// languages finds what the pages are written in: a page or two are read, and their words tried against the dictionaries of the languages that are installed.
func (w *worker) languages(ctx context.Context, list []candidate) ([]string, error) {
	found, err := w.guess(ctx, list)
	if err != nil {
		return nil, err
	}
	if len(found.Codes) == 0 {
		return []string{usual(w.engine)}, nil
	}
	return found.Codes, nil
}

// usual is the language that is tried first.
func usual(e *ocr.Engine) string {
	if slices.Contains(e.Languages, "eng") || len(e.Languages) == 0 {
		return "eng"
	}
	return e.Languages[0]
}

// Guess is what a document seems to be written in.
type Guess struct {
	Codes  []string       // the likeliest first; empty where it can't be told
	Known  map[string]int // of the words that were tried, how many hundredths each language's dictionary knows
	Words  int
	Script string
	Sample []string // a few lines as they were read
}

func (w *worker) guess(ctx context.Context, list []candidate) (*Guess, error) {
	g := &Guess{Known: map[string]int{}}
	was := w.codes
	defer func() { w.codes = was }()
	w.codes = []string{usual(w.engine)}
	if err := w.engine.Check(w.codes); err != nil {
		return nil, step.Refuse("%v", err)
	}
	w.known = map[int]known{}
	var words []string
	for tried, i := 0, 0; i < len(list) && tried < 3 && len(words) < 60; i += max(1, len(list)/5) {
		tried++
		px, err := w.pixels(ctx, w.doc, &list[i], &list[i].parts[0])
		if err != nil {
			continue // it is told when it is read
		}
		lines, f, err := w.read(ctx, px)
		if err == nil {
			w.known[list[i].at] = known{strings.Join(w.codes, "+"), lines, f}
		} else {
			if ctx.Err() != nil || errors.Is(err, ocr.ErrNone) {
				return nil, err
			}
			continue
		}
		for _, l := range lines {
			var all []string
			for _, word := range l.Words {
				all = append(all, word.Text)
				if core := spelling.Core(word.Text); len([]rune(core)) >= 3 && word.Sure > 40 {
					words = append(words, core)
				}
			}
			if len(g.Sample) < 4 && len(all) > 3 {
				g.Sample = append(g.Sample, strings.Join(all, " "))
			}
		}
		if g.Script == "" && len(words) < 12 {
			if t, ok, err := w.orientation(ctx, px); err == nil && ok {
				g.Script = t.Script
			}
		}
	}
	g.Words = len(words)
	if len(words) == 0 {
		return g, nil
	}
	type knowing struct {
		code string
		n    int
		own  int // words that no better language knows
	}
	var all []knowing
	left := map[string]bool{}
	knows := map[string]map[string]bool{}
	for _, word := range words {
		left[word] = true
	}
	for _, code := range w.engine.Languages {
		sp := spelling.For([]string{code}, nil)
		if len(sp.Languages) == 0 {
			continue
		}
		k := knowing{code: code}
		knows[code] = map[string]bool{}
		for word := range left {
			if sp.Knows(word) {
				k.n++
				knows[code][word] = true
			}
		}
		g.Known[code] = 100 * k.n / len(left)
		all = append(all, k)
	}
	slices.SortFunc(all, func(a, b knowing) int {
		if a.n != b.n {
			return b.n - a.n
		}
		return strings.Compare(a.code, b.code)
	})
	for i := range all { // a second language brings words of its own that the first has not
		for word := range knows[all[i].code] {
			if left[word] {
				all[i].own++
				delete(left, word)
			}
		}
		total := len(knows[all[i].code])
		switch {
		case i == 0 && total*4 >= g.unique(words):
			g.Codes = append(g.Codes, all[i].code)
		case i > 0 && len(g.Codes) > 0 && len(g.Codes) < 2 && all[i].own*5 >= g.unique(words) && all[i].own >= 10:
			g.Codes = append(g.Codes, all[i].code)
		}
	}
	return g, nil
}

func (g *Guess) unique(words []string) int {
	seen := map[string]bool{}
	for _, w := range words {
		seen[w] = true
	}
	return len(seen)
}

// FindLanguage tells what the pages of a document that need recognizing are written in.
func FindLanguage(ctx context.Context, doc *pdf.Document, env *step.Env, pages step.Pages, again bool) (*Guess, error) {
	e, err := Engine()
	if err != nil {
		return nil, err
	}
	refs, err := pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	list, _, err := candidates(ctx, doc, refs, again)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, errNothing
	}
	w := &worker{doc: doc, env: env, engine: e}
	return w.guess(ctx, list)
}
