// Package amend changes what stands on pages: words of paragraphs are replaced, and the paragraph is broken anew in its own width, alignment, font, size and colour.
package amend

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return []step.Kind{
		{Name: "replace-text", Title: "Replace text", Meaning: "Puts other words in the place of those that are found, wherever they stand on the pages.", Slow: true,
			New: func() step.Step { return &ReplaceText{Pages: step.Pages{Rule: "all"}} }},
		{Name: "amend-paragraph", Title: "Amend a paragraph", Meaning: "Gives a paragraph another text; what stays of it keeps its style.", New: func() step.Step { return &Paragraph{} }},
	}
}

// Pair is what is looked for, and what is put in its place.
type Pair struct {
	Find string `json:"find"`
	With string `json:"with"`
}

// ReplaceText is the step "replace-text".
type ReplaceText struct {
	Pages step.Pages `json:"pages" help:"on which pages"`
	Pairs []Pair     `json:"pairs" required:"yes" help:"what is looked for, and what comes in its place: find, with"`
	Case  bool       `json:"match_case,omitempty" help:"capitals matter"`
	Whole bool       `json:"whole_words,omitempty" help:"whole words only"`
	// Leave names hits that stay: "0.3:2:1" is the second hit (counted from 0) of the third pair on the page 0.3.
	Leave string `json:"leave,omitempty" help:"hits that stay as they are: page key, pair and hit, counted from 0, as 0.3:0:1"`
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
		return nil, step.Refuse("name what is looked for, and what comes in its place: up to %d pairs", mostPairs)
	}
	var out []*layout.Finder
	for _, p := range r.Pairs {
		if len([]rune(p.With)) > mostText {
			return nil, step.Refuse("what comes in the place of a word has up to %s letters", step.Thousands(mostText))
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
					hit.Why = "it goes from one paragraph into another"
				case l.Annotation(w):
					hit.Why = "it stands in a comment or field"
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
	w := &worker{doc: doc, faces: &faces{doc: doc, set: map[string]*font.Embedding{}}, index: doc.PageIndexes(refs)}
	reader := content.NewReader(doc)
	hits := 0
	for i, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		page, err := reader.Page(ctx, ref, content.Options{Images: true})
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
			return nil, step.Refuse("more than %s hits: choose fewer pages", step.Thousands(mostHits))
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
		return nil, step.Refuse("nothing of it is found on these pages")
	}
	res := &step.Result{Pages: env.Keys.Of(w.pages), Redrawn: step.RedrawPages, Show: env.Keys.Key(w.pages[0]), Warnings: w.warnings()}
	what := fmt.Sprintf("“%s” replaced by “%s”", r.Pairs[0].Find, r.Pairs[0].With)
	if r.Pairs[0].With == "" {
		what = fmt.Sprintf("“%s” taken out", r.Pairs[0].Find)
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
	f := &faces{doc: doc, set: map[string]*font.Embedding{}}
	var out []Hit
	for _, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		page, err := reader.Page(ctx, ref, content.Options{Images: true})
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
	p, err := read(l, h.para, visible)
	if err == nil {
		p.edit(p.placeOf(h.from, false), p.placeOf(h.to, true), h.With)
		if _, face, err = p.encode(f); err == nil {
			var rows []row
			if rows, err = p.wrap(); err == nil {
				_, _, err = p.place(rows)
			}
		}
	}
	if err != nil {
		return strings.TrimSuffix(err.Error(), "."), ""
	}
	return "", face
}

// worker changes pages of a document.
type worker struct {
	doc   *pdf.Document
	faces *faces
	index []int
	pages []pdf.Ref
	done  int
	whys  []string
	at    map[string][]int // pages by why something was left
	count map[string]int
	set   map[string]string // words that were set in another face, and which
	tight int
	grown int
}

func (w *worker) left(why string, page, n int) {
	if w.at == nil {
		w.at, w.count = map[string][]int{}, map[string]int{}
	}
	if w.count[why] == 0 {
		w.whys = append(w.whys, why)
	}
	w.count[why] += n
	if list := w.at[why]; len(list) == 0 || list[len(list)-1] != page {
		w.at[why] = append(list, page)
	}
}

// page replaces hits on a page, paragraph by paragraph; one that can't be is left, and told.
func (w *worker) page(ctx context.Context, page *content.Page, l *layout.Page, ref pdf.Ref, at int, list []found) error {
	var set laid
	visible := w.doc.Geometry(ref).Visible
	byPara := map[int][]found{}
	var order []int
	for _, h := range list {
		if h.Why != "" {
			w.left(h.Why, w.index[at], 1)
			continue
		}
		if byPara[h.para] == nil {
			order = append(order, h.para)
		}
		byPara[h.para] = append(byPara[h.para], h)
	}
	slices.Sort(order)
	done := 0
	for _, n := range order {
		if err := ctx.Err(); err != nil {
			return err
		}
		hits := byPara[n]
		p, err := read(l, n, visible)
		if err == nil {
			slices.SortFunc(hits, func(a, b found) int { return b.from - a.from }) // from behind, so that places stay
			for _, h := range hits {
				p.edit(p.placeOf(h.from, false), p.placeOf(h.to, true), h.With)
			}
			if err = w.lay(&set, p); err == nil {
				done += len(hits)
				continue
			}
		}
		var no *step.Refusal
		if !errors.As(err, &no) {
			return err
		}
		w.left(no.Sentence, w.index[at], len(hits))
	}
	if done == 0 {
		return nil
	}
	if err := content.Apply(w.doc, page, set.patches()); err != nil {
		return err
	}
	w.pages = append(w.pages, ref)
	w.done += done
	return nil
}

// lay sets a paragraph that was edited.
func (w *worker) lay(set *laid, p *para) error {
	words, face, err := p.encode(w.faces)
	if err != nil {
		return err
	}
	rows, err := p.wrap()
	if err != nil {
		return err
	}
	grown, tight, err := p.place(rows)
	if err != nil {
		return err
	}
	if tight {
		w.tight++
	}
	if grown > 0 {
		w.grown++
	}
	if w.set == nil {
		w.set = map[string]string{}
	}
	for _, word := range words {
		w.set[word] = face
	}
	set.add(p, rows)
	return nil
}

func (w *worker) warnings() (out []string) {
	if len(w.set) > 0 {
		byFace := map[string][]string{}
		for word, face := range w.set {
			byFace[face] = append(byFace[face], "“"+word+"”")
		}
		for _, face := range font.Faces() {
			if words := byFace[face]; len(words) > 0 {
				slices.Sort(words)
				more := ""
				if n := len(words) - 8; n > 0 {
					words, more = words[:8], fmt.Sprintf(" and %d more", n)
				}
				out = append(out, fmt.Sprintf("%s%s set in %s: the font there lacks letters of it.", strings.Join(words, ", "), more, face))
			}
		}
	}
	if w.tight > 0 {
		out = append(out, fmt.Sprintf("Lines of %s stand closer than they did, for want of room.", step.Count(w.tight, "paragraph")))
	}
	for _, why := range w.whys {
		out = append(out, fmt.Sprintf("%s left on %s: %s.", step.Count(w.count[why], "place"), strings.ToLower(step.NamedIn(w.doc, w.at[why])[:1])+step.NamedIn(w.doc, w.at[why])[1:], why))
	}
	return out
}

// Paragraph is the step "amend-paragraph".
type Paragraph struct {
	Page step.Pages `json:"page" required:"yes" help:"the page"`
	At   int        `json:"paragraph" min:"0" help:"which paragraph of the page: its place in the list that text --json gives, counted from 0"`
	Text string     `json:"text" help:"what it is to say"`
}

const mostParagraph = 50_000 // letters

// Apply amends the paragraph.
func (a *Paragraph) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := a.Page.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(refs) != 1 {
		return nil, step.Refuse("a paragraph is amended on one page")
	}
	if len([]rune(a.Text)) > mostParagraph {
		return nil, step.Refuse("a paragraph has up to %s letters", step.Thousands(mostParagraph))
	}
	page, err := content.NewReader(doc).Page(ctx, refs[0], content.Options{Images: true})
	if err != nil {
		return nil, err
	}
	l := layout.Read(page, doc.Geometry(refs[0]).Visible, nil)
	p, err := read(l, a.At, doc.Geometry(refs[0]).Visible)
	if err != nil {
		return nil, err
	}
	was, _ := p.text()
	now := strings.Join(strings.Fields(a.Text), " ")
	if was == now {
		return nil, step.Refuse("the paragraph says that already")
	}
	for _, e := range slices.Backward(changes(was, now)) {
		p.edit(e.from, e.to, e.text)
	}
	w := &worker{doc: doc, faces: &faces{doc: doc, set: map[string]*font.Embedding{}}, index: doc.PageIndexes(refs)}
	var set laid
	if err := w.lay(&set, p); err != nil {
		return nil, err
	}
	w.faces.finish()
	if err := content.Apply(doc, page, set.patches()); err != nil {
		return nil, err
	}
	res := &step.Result{Pages: env.Keys.Of(refs), Redrawn: step.RedrawPages, Show: env.Keys.Key(refs[0]), Warnings: w.warnings()}
	res.Sentence = "Paragraph amended on " + strings.ToLower(step.NamedIn(doc, w.index)[:1]) + step.NamedIn(doc, w.index)[1:]
	return res, nil
}

// change is a part of a text that another comes in the place of.
type change struct {
	from, to int
	text     string
}

// changes tells what differs between two texts, by words: what stands in both keeps its style.
func changes(was, now string) []change {
	a, b := tokens(was), tokens(now)
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	from := len(strings.Join(a[:head], ""))
	to := len(was) - len(strings.Join(a[len(a)-tail:], ""))
	return []change{{from, to, strings.Join(b[head:len(b)-tail], "")}}
}

// tokens parts a text into words and spaces.
func tokens(s string) (out []string) {
	start := 0
	for i, r := range s {
		if r == ' ' {
			if i > start {
				out = append(out, s[start:i])
			}
			out = append(out, " ")
			start = i + 1
		}
	}
	if start < len(s) {
		out = append(out, s[start:])
	}
	return out
}
