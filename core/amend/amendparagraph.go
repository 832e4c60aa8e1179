package amend

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"glenrain/core/compare"
	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Paragraph is the step "amend-paragraph". Text says what the paragraph is to say; or Edits are made in it, one after the other.
type Paragraph struct {
	Page  step.Pages `json:"page" required:"yes" help:"the page"`
	At    int        `json:"paragraph" names:"yes" min:"0" help:"which paragraph of the page: its place in the list that text --json gives, counted from 0"`
	Line  int        `json:"line,omitempty" names:"yes" min:"0" help:"only this line of it, counted from 1; 0 for all of it"`
	Last  int        `json:"last_line,omitempty" names:"yes" min:"0" help:"up to which line, where it is more than one"`
	Join  int        `json:"join,omitempty" names:"yes" min:"0" max:"50" help:"how many of the paragraphs behind it belong to it"`
	Text  string     `json:"text,omitempty" help:"what it is to say"`
	Edits []Edit     `json:"edits,omitempty" help:"what is changed in it, one after the other"`
	Grow  string     `json:"grow,omitempty" enum:",push,tighten,fill" help:"where it grows: what stands below moves down, its lines stand closer, or it fills the room below; by itself the first of these that is possible"`

	Align   string      `json:"align,omitempty" enum:",left,right,centred,justified" help:"how its lines are set"`
	Leading step.Length `json:"leading,omitempty" min:"0" max:"2000" help:"from line to line"`
	Above   step.Length `json:"above,omitempty" min:"0" max:"2000" help:"space that is put above it"`
	Width   step.Length `json:"width,omitempty" min:"0" max:"14400" help:"how wide it is"`
	// Was is the paragraph's text when it was edited: another text is refused.
	Was string `json:"was,omitempty" names:"yes" help:"what it says now; where it does not, nothing is done"`
}

// Edit puts a text in the place of another, or, with Style, gives what stands there another look.
type Edit struct {
	From  int    `json:"from" help:"from which letter on, counted from 0"`
	To    int    `json:"to" help:"up to which letter"`
	Text  string `json:"text,omitempty" help:"what comes in its place"`
	Style bool   `json:"style,omitempty" help:"the text stays, and only looks otherwise"`
	Look
}

// Bounds of amending one paragraph.
const (
	mostParagraph = 50_000 // letters
	mostEdits     = 5000
)

// Apply amends the paragraph.
func (a *Paragraph) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := a.Page.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(refs) != 1 {
		return nil, step.Refuse("a paragraph is amended on one page")
	}
	page, err := content.NewReader(doc).Page(ctx, refs[0], wanted)
	if err != nil {
		return nil, err
	}
	l := layout.Read(page, doc.Geometry(refs[0]).Visible, nil)
	w := &worker{doc: doc, faces: newFaces(doc), index: doc.PageIndexes(refs)}
	p, f, err := a.set(w, page, l)
	if err != nil {
		return nil, err
	}
	w.moved = 0 // the sentence says it
	text, _ := p.text()
	res := &step.Result{Pages: env.Keys.Of(refs), Redrawn: step.RedrawPages, Show: env.Keys.Key(refs[0]), Warnings: w.warnings()}
	res.Sentence = fmt.Sprintf("“%s” amended on %s", shortened(flat(text), 32), inSentence(doc, w.index))
	if flat(text) == "" {
		res.Sentence = "Paragraph taken out on " + inSentence(doc, w.index)
	}
	for i := range a.Edits {
		res.Adds |= a.Edits[i].adds()
	}
	switch {
	case f.Moved > 0:
		res.Sentence += fmt.Sprintf("; what stands below moved down by %.1f pt", f.Moved)
	case f.Lines > 0:
		res.Sentence += fmt.Sprintf("; it grew by %s", step.Count(f.Lines, "line"))
	}
	return res, nil
}

// inSentence names pages within a sentence.
func inSentence(doc *pdf.Document, index []int) string {
	s := step.NamedIn(doc, index)
	return strings.ToLower(s[:1]) + s[1:]
}

// set makes the change in doc, which page was read from.
func (a *Paragraph) set(w *worker, page *content.Page, l *layout.Page) (*para, fit, error) {
	if page.Cut {
		return nil, fit{}, step.Refuse("the page holds more than can be read")
	}
	p, err := a.take(w.doc, l)
	if err != nil {
		return nil, fit{}, err
	}
	if err := a.change(p); err != nil {
		return nil, fit{}, err
	}
	var set laid
	f, err := w.lay(&set, p, a.Grow, true)
	if err != nil {
		return nil, f, err
	}
	err = set.apply(w.doc)
	w.faces.finish() // by now all is encoded, spaces too
	return p, f, err
}

// take takes the paragraph, or the line, apart.
func (a *Paragraph) take(doc *pdf.Document, l *layout.Page) (*para, error) {
	visible := doc.Geometry(l.Source.Ref).Visible
	switch {
	case a.At < 0 || a.At >= len(l.Paragraphs):
		return nil, errNone
	case a.Join < 0 || a.Join > 50 || a.At+a.Join >= len(l.Paragraphs):
		return nil, step.Refuse("there is no paragraph behind it to be joined with")
	}
	lines := slices.Clone(l.Paragraphs[a.At].Lines)
	for _, p := range l.Paragraphs[a.At+1 : a.At+1+a.Join] {
		if w, first := &l.Words[l.Lines[p.Lines[0]].Words[0]], &l.Words[l.Lines[lines[0]].Words[0]]; !alongside(l, w, first) {
			return nil, step.Refuse("the next paragraph runs in another direction")
		}
		lines = append(lines, p.Lines...)
	}
	if a.Line > 0 {
		last := max(a.Line, a.Last)
		if last > len(lines) {
			return nil, step.Refuse("the paragraph has %s", step.Count(len(lines), "line"))
		}
		lines = lines[a.Line-1 : last]
	}
	return readLines(doc, l, a.At, lines, visible)
}

func alongside(l *layout.Page, a, b *layout.Word) bool {
	ax, ay := l.Along(a)
	bx, by := l.Along(b)
	return math.Abs(ax-bx) < 0.02 && math.Abs(ay-by) < 0.02
}

// change makes the edits in a paragraph, and gives it the form that is asked for.
func (a *Paragraph) change(p *para) error {
	was, _ := p.text()
	if a.Was != "" && flat(a.Was) != flat(was) {
		return step.Refuse("the paragraph says something else by now")
	}
	edits := a.Edits
	switch {
	case len(edits) > mostEdits:
		return step.Refuse("more than %s changes at once", step.Thousands(mostEdits))
	case len(edits) == 0 && (a.Text != "" || !a.formed()):
		if len([]rune(a.Text)) > mostParagraph {
			return step.Refuse("a paragraph has up to %s letters", step.Thousands(mostParagraph))
		}
		now := flat(a.Text)
		if now == flat(was) && !a.formed() {
			return step.Refuse("the paragraph says that already")
		}
		for _, c := range changes(flat(was), now) {
			p.edit(c.from, c.to, c.text)
		}
	}
	for _, e := range edits {
		if err := p.make(&e); err != nil {
			return err
		}
	}
	return a.form(p)
}

// flat is a text in one line.
func flat(s string) string { return strings.Join(strings.Fields(s), " ") }

// formed reports whether the paragraph is to be set in another way.
func (a *Paragraph) formed() bool {
	return a.Align != "" || a.Leading != 0 || a.Above != 0 || a.Width != 0
}

// form sets how the lines are set.
func (a *Paragraph) form(p *para) error {
	switch a.Align {
	case "left":
		p.align, p.anew = layout.Left, true
	case "right":
		p.align, p.anew = layout.Right, true
	case "centred":
		p.align, p.anew = layout.Centred, true
	case "justified":
		p.align, p.anew = layout.Justified, true
	}
	if a.Align != "" && p.at >= 0 && p.lay.Paragraphs[p.at].Align != layout.Left {
		p.left = min(p.left, p.lines[0].u0)
		for _, l := range p.lines {
			p.left = min(p.left, l.u0)
		}
		p.lines[0].u0 = p.left
	}
	if a.Width != 0 {
		if float64(a.Width) < p.size {
			return step.Refuse("a paragraph is at least as wide as a letter is high")
		}
		p.limit, p.anew = p.left+float64(a.Width), true
	}
	if p.align == layout.Centred && (a.Align != "" || a.Width != 0) {
		p.centre = (p.left + p.limit) / 2
	}
	if a.Leading != 0 {
		if float64(a.Leading) < 0.3*p.size {
			return step.Refuse("lines stand at least %.1f pt apart", 0.3*p.size)
		}
		p.leading, p.spread = float64(a.Leading), true
	}
	if a.Above != 0 {
		if math.Abs(float64(a.Above)) > 2000 {
			return step.Refuse("up to 2,000 pt are put above a paragraph")
		}
		p.lower = float64(a.Above)
	}
	return nil
}

// make makes one edit.
func (p *para) make(e *Edit) error {
	text, of := p.text()
	letters := 0
	from, to := -1, -1
	for i := range text {
		if letters == e.From {
			from = i
		}
		if letters == e.To {
			to = i
		}
		letters++
	}
	if e.From == letters {
		from = len(text)
	}
	if e.To == letters {
		to = len(text)
	}
	if from < 0 || to < from {
		return step.Refuse("the paragraph has %s, and none from %d to %d", step.Count(letters, "letter"), e.From, e.To)
	}
	if letters+len([]rune(e.Text)) > mostParagraph {
		return step.Refuse("a paragraph has up to %s letters", step.Thousands(mostParagraph))
	}
	at := func(i int) int {
		if i < len(of) {
			return of[i]
		}
		return len(p.chars)
	}
	if e.Style {
		end := at(to)
		if to > 0 && to < len(of) && of[to] == of[to-1] { // within a ligature: all of it
			end++
		}
		return p.dress(at(from), end, &e.Look)
	}
	first := at(from)
	fresh := e.Text
	if e.empty() { // letters that stay keep their style
		for from < to && fresh != "" {
			a, n := utf8.DecodeRuneInString(text[from:to])
			b, _ := utf8.DecodeRuneInString(fresh)
			if a != b {
				break
			}
			from, fresh = from+n, fresh[n:]
		}
		for from < to && fresh != "" {
			a, n := utf8.DecodeLastRuneInString(text[from:to])
			b, _ := utf8.DecodeLastRuneInString(fresh)
			if a != b {
				break
			}
			to, fresh = to-n, fresh[:len(fresh)-n]
		}
		if from == to && fresh == "" {
			return nil
		}
	}
	p.edit(from, to, fresh)
	if n := len([]rune(e.Text)); n > 0 && !e.empty() {
		return p.dress(min(first, len(p.chars)), min(first+n, len(p.chars)), &e.Look)
	}
	return nil
}

// change is a part of a text that another comes in the place of.
type change struct {
	from, to int
	text     string
}

// changes tells what differs between two texts, by words: what stands in both keeps its style.
func changes(was, now string) (out []change) {
	a, b := tokens(was), tokens(now)
	at := make([]int, len(a)+1)
	for i, w := range a {
		at[i+1] = at[i] + len(w)
	}
	for _, c := range compare.Diff(a, b) {
		out = append(out, change{at[c.A0], at[c.A1], strings.Join(b[c.B0:c.B1], "")})
	}
	slices.Reverse(out) // from behind, so that places stay
	return out
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
