package edit

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

// Paragraph is the step "edit-paragraph". Text says what the paragraph is to say; or Edits are made in it, one after the other.
type Paragraph struct {
	Page  step.Pages `json:"page" required:"yes" help:"the page"`
	At    int        `json:"paragraph" names:"yes" min:"0" help:"which paragraph of the page, in the order that text --json lists them, counted from 0"`
	Line  int        `json:"line,omitempty" names:"yes" min:"0" help:"only this line of it, counted from 1; 0 for all of it"`
	Last  int        `json:"last_line,omitempty" names:"yes" min:"0" help:"the last line, if more than one"`
	Join  int        `json:"join,omitempty" names:"yes" min:"0" max:"50" help:"how many of the following paragraphs to join"`
	Text  string     `json:"text,omitempty" help:"the new text"`
	Edits []Edit     `json:"edits,omitempty" help:"edits, in order"`
	Grow  string     `json:"grow,omitempty" enum:",push,tighten,fill" labels:"=whichever works first,push=move text below down,tighten=tighten the line spacing,fill=use the space below" help:"if the text gets longer: push (move text below down), tighten (line spacing) or fill (use the space below); the first that works if empty"`

	Align   string      `json:"align,omitempty" enum:",left,right,centred,justified" labels:"=unchanged" help:"alignment"`
	Leading step.Length `json:"leading,omitempty" min:"0" max:"2000" help:"line spacing"`
	Above   step.Length `json:"above,omitempty" min:"0" max:"2000" help:"extra space above it"`
	Width   step.Length `json:"width,omitempty" min:"0" max:"14400" help:"its width"`
	// Was is the paragraph's text when it was edited: another text is refused.
	Was string `json:"was,omitempty" names:"yes" help:"its current text; if it differs, nothing is done"`
}

// Edit puts a text in the place of another, or, with Style, gives what stands there another look.
type Edit struct {
	From  int    `json:"from" help:"first character, counted from 0"`
	To    int    `json:"to" help:"end character"`
	Text  string `json:"text,omitempty" help:"the new text"`
	Style bool   `json:"style,omitempty" help:"keep the text and change only its style"`
	Look
}

// Bounds of editing one paragraph.
const (
	mostParagraph = 50_000 // letters
	mostEdits     = 5000
)

// Apply edits the paragraph.
func (a *Paragraph) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := a.Page.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(refs) != 1 {
		return nil, step.Refuse("you can edit a paragraph on one page at a time")
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
	res.Sentence = fmt.Sprintf("“%s” edited on %s", shortened(flat(text), 32), inSentence(doc, w.index))
	if flat(text) == "" {
		res.Sentence = "Paragraph removed from " + inSentence(doc, w.index)
	}
	for i := range a.Edits {
		res.Adds |= a.Edits[i].adds()
	}
	switch {
	case f.Moved > 0:
		res.Sentence += fmt.Sprintf("; text below moved down %.1f pt", f.Moved)
	case f.Lines > 0:
		res.Sentence += fmt.Sprintf("; %s longer", step.Count(f.Lines, "line"))
	}
	return res, nil
}

// inSentence names pages within a sentence.
func inSentence(doc *pdf.Document, index []int) string {
	return step.Within(step.NamedIn(doc, index))
}

// set makes the change in doc, which page was read from.
func (a *Paragraph) set(w *worker, page *content.Page, l *layout.Page) (*para, fit, error) {
	if page.Cut {
		return nil, fit{}, step.Refuse("the page has too much content to read")
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
		return nil, step.Refuse("there is no next paragraph to join")
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
		return step.Refuse("the paragraph has changed since: select it again")
	}
	edits := a.Edits
	switch {
	case len(edits) > mostEdits:
		return step.Refuse("more than %s changes at once", step.Thousands(mostEdits))
	case len(edits) == 0 && (a.Text != "" || !a.formed()):
		if len([]rune(a.Text)) > mostParagraph {
			return step.Refuse("a paragraph can have up to %s characters", step.Thousands(mostParagraph))
		}
		now := flat(a.Text)
		if now == flat(was) && !a.formed() {
			return step.Refuse("the paragraph already says that")
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
			return step.Refuse("a paragraph must be at least as wide as a letter is high")
		}
		p.limit, p.anew = p.left+float64(a.Width), true
	}
	if p.align == layout.Centred && (a.Align != "" || a.Width != 0) {
		p.centre = (p.left + p.limit) / 2
	}
	if a.Leading != 0 {
		if float64(a.Leading) < 0.3*p.size {
			return step.Refuse("lines need to be at least %.1f pt apart", 0.3*p.size)
		}
		p.leading, p.spread = float64(a.Leading), true
	}
	if a.Above != 0 {
		if math.Abs(float64(a.Above)) > 2000 {
			return step.Refuse("the space above a paragraph can be up to 2,000 pt")
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
		return step.Refuse("a paragraph can have up to %s characters", step.Thousands(mostParagraph))
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
