package edit

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Pair is what is looked for, and what is put in its place.
type Pair struct {
	Find string `json:"find"`
	With string `json:"with"`
}

// ReplaceText is the step "replace-text".
type ReplaceText struct {
	Pages step.Pages `json:"pages" help:"on which pages"`
	Pairs []Pair     `json:"pairs" required:"yes" help:"the words to find and their replacements: find, with"`
	Case  bool       `json:"match_case,omitempty" help:"match case"`
	Whole bool       `json:"whole_words,omitempty" help:"whole words only"`
	// Leave names hits that stay: "0.3:2:1" is the second hit (counted from 0) of the third pair on the page 0.3.
	Leave string `json:"leave,omitempty" help:"matches to leave alone: page key, pair and match, counted from 0, as 0.3:0:1"`
}

// Bounds of what is replaced at once.
const (
	mostPairs = 500
	mostHits  = 20_000
	mostText  = 2000 // letters of what comes in the place of a hit
)

// Hit is a place where something is found that could be replaced.
type Hit struct {
	Page   pdf.Ref
	Pair   int
	Number int // of the pair's hits on this page
	Before string
	Found  string
	After  string
	With   string
	Why    string // why it can't be replaced; empty where it can
	Face   string // in which its words are set, where the font there lacks letters of them
}

func (r *ReplaceText) finders() ([]*layout.Finder, error) {
	if len(r.Pairs) == 0 || len(r.Pairs) > mostPairs {
		return nil, step.Refuse("give the words to find and their replacements: up to %d pairs", mostPairs)
	}
	var out []*layout.Finder
	for _, p := range r.Pairs {
		if len([]rune(p.With)) > mostText {
			return nil, step.Refuse("a replacement can have up to %s characters", step.Thousands(mostText))
		}
		f, err := layout.Query{Text: p.Find, Case: r.Case, Words: r.Whole, Accents: true}.Compile()
		if err != nil {
			return nil, step.Refuse("“%s”: %v", p.Find, err)
		}
		out = append(out, f)
	}
	return out, nil
}

// In gives a function that tells whether a text has something that is looked for: pages without it need not be read.
func (r *ReplaceText) In() (func(text string) bool, error) {
	finders, err := r.finders()
	if err != nil {
		return nil, err
	}
	return func(text string) bool {
		return slices.ContainsFunc(finders, func(f *layout.Finder) bool { return len(f.Find(text, 1)) > 0 })
	}, nil
}

// found is a hit in a paragraph of a page.
type found struct {
	Hit
	para     int
	from, to int // in the paragraph's text
}

// hits finds the hits on a page, by paragraph, in order.
func (r *ReplaceText) hits(l *layout.Page, finders []*layout.Finder, ref pdf.Ref) (out []found) {
	reading := l.Reading()
	paraOf := map[int]int{} // by line
	for i := range l.Paragraphs {
		for _, at := range l.Paragraphs[i].Lines {
			paraOf[at] = i
		}
	}
	taken := make([]bool, len(reading.Text))
	for n, f := range finders {
		for k, h := range f.Find(reading.Text, mostHits) {
			hit := found{Hit: Hit{Page: ref, Pair: n, Number: k}, para: -1}
			hit.Before, hit.Found, hit.After = layout.Around(reading.Text, h, 40)
			hit.With = cased(hit.Found, r.Pairs[n].With, r.Case)
			first := slices.IndexFunc(reading.Words, func(w layout.WordAt) bool { return w.To > h[0] })
			if first < 0 || slices.Contains(taken[h[0]:h[1]], true) { // another pair was first
				continue
			}
			for i := h[0]; i < h[1]; i++ {
				taken[i] = true
			}
			hit.para = paraOf[l.Words[reading.Words[first].Word].Line]
			// Where it stands in its paragraph: by counting what is no space before it.
			start := first
			for start > 0 && paraOf[l.Words[reading.Words[start-1].Word].Line] == hit.para {
				start--
			}
			hit.from, hit.to = solid(reading.Text[reading.Words[start].From:h[0]]), solid(reading.Text[reading.Words[start].From:h[1]])
			for i := first; i < len(reading.Words) && reading.Words[i].From < h[1]; i++ {
				w := &l.Words[reading.Words[i].Word]
				switch {
				case paraOf[w.Line] != hit.para:
					hit.Why = "it runs from one paragraph into another"
				case l.Annotation(w):
					hit.Why = "it is in a comment or form field"
				}
			}
			out = append(out, hit)
		}
	}
	return out
}

// solid counts the bytes of a text that are neither spaces nor marks of hyphens.
func solid(s string) (n int) {
	for _, r := range s {
		if !blank(r) {
			n += len(string(r))
		}
	}
	return n
}

func blank(r rune) bool { return r == ' ' || r == '\n' || r == '\t' || r == 0xad || r == 0xa0 }

// cased gives a replacement the capitals of what it replaces, where these do not matter.
func cased(was, now string, exact bool) string {
	if exact || was == "" || now == "" {
		return now
	}
	upper, lower := strings.ToUpper(was), strings.ToLower(was)
	switch {
	case was == upper && was != lower && len([]rune(was)) > 1:
		return strings.ToUpper(now)
	case was != lower && strings.HasPrefix(was, string([]rune(upper)[0])) && now == strings.ToLower(now):
		r := []rune(now)
		return strings.ToUpper(string(r[0])) + string(r[1:])
	}
	return now
}

// placeOf turns a count of what is no space into a place of the paragraph's text.
func (p *para) placeOf(n int, end bool) int {
	text, _ := p.text()
	at := 0
	for i, r := range text {
		if at >= n && (end || !blank(r)) {
			return i
		}
		if !blank(r) {
			at += len(string(r))
		}
	}
	return len(text)
}

// Apply replaces the text.
func (r *ReplaceText) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	finders, err := r.finders()
	if err != nil {
		return nil, err
	}
	refs, err := r.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	leave := map[string]bool{}
	for part := range strings.FieldsSeq(r.Leave) {
		leave[part] = true
	}
	w := &worker{doc: doc, faces: newFaces(doc), index: doc.PageIndexes(refs)}
	reader := content.NewReader(doc)
	hits := 0
	for i, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		page, err := reader.Page(ctx, ref, wanted)
		if err != nil {
			return nil, err
		}
		if page.Cut {
			continue
		}
		g := doc.Geometry(ref)
		l := layout.Read(page, g.Visible, nil)
		key := env.Keys.Key(ref).String()
		var list []found
		for _, h := range r.hits(l, finders, ref) {
			if !leave[fmt.Sprintf("%s:%d:%d", key, h.Pair, h.Number)] {
				list = append(list, h)
			}
		}
		if hits += len(list); hits > mostHits {
			return nil, step.Refuse("more than %s matches: choose fewer pages", step.Thousands(mostHits))
		}
		if len(list) > 0 {
			if !env.Wants(ref) {
				w.pages = append(w.pages, ref)
				w.done += len(list)
				continue
			}
			if err := w.page(ctx, page, l, ref, i, list); err != nil {
				return nil, err
			}
		}
		env.Report(i+1, len(refs))
	}
	w.faces.finish()
	if w.done == 0 {
		if len(w.whys) > 0 {
			return nil, step.Refuse("%s", strings.TrimSuffix(strings.Join(w.warnings(), " "), "."))
		}
		return nil, step.Refuse("no matches on these pages")
	}
	res := &step.Result{Pages: env.Keys.Of(w.pages), Redrawn: step.RedrawPages, Show: env.Keys.Key(w.pages[0]), Warnings: w.warnings()}
	what := fmt.Sprintf("“%s” replaced by “%s”", r.Pairs[0].Find, r.Pairs[0].With)
	if r.Pairs[0].With == "" {
		what = fmt.Sprintf("“%s” removed", r.Pairs[0].Find)
	}
	if n := len(r.Pairs); n > 1 {
		what += " and " + step.Count(n-1, "more pair")
	}
	res.Sentence = fmt.Sprintf("%s in %s on %s", what, step.Count(w.done, "place"), step.Count(len(w.pages), "page"))
	return res, nil
}

// Find tells what the step would do on some pages: up to most hits, each with why it can't be replaced, by itself, or in which face it would be set. doc is not changed.
func (r *ReplaceText) Find(ctx context.Context, doc *pdf.Document, refs []pdf.Ref, most int) ([]Hit, error) {
	finders, err := r.finders()
	if err != nil {
		return nil, err
	}
	doc = doc.Fork()
	reader := content.NewReader(doc)
	f := newFaces(doc)
	var out []Hit
	for _, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		page, err := reader.Page(ctx, ref, wanted)
		if err != nil {
			return nil, err
		}
		visible := doc.Geometry(ref).Visible
		l := layout.Read(page, visible, nil)
		for _, h := range r.hits(l, finders, ref) {
			if len(out) >= most {
				return out, nil
			}
			if h.Why == "" {
				h.Why, h.Face = f.dry(l, visible, h)
			}
			out = append(out, h.Hit)
		}
	}
	return out, nil
}

// dry sets a paragraph with one hit replaced, and throws it away.
func (f *faces) dry(l *layout.Page, visible pdf.Rect, h found) (why, face string) {
	p, err := read(f.doc, l, h.para, visible)
	if err == nil {
		p.edit(p.placeOf(h.from, false), p.placeOf(h.to, true), h.With)
		p.push = p.pushDown
		var lacking map[string][]string
		if lacking, err = p.encode(f); err == nil {
			for name := range lacking {
				face = name
			}
			var rows []row
			if rows, err = p.wrap(); err == nil {
				_, err = p.place(rows, growAuto)
			}
		}
	}
	if err != nil {
		return strings.TrimSuffix(err.Error(), "."), ""
	}
	return "", face
}
