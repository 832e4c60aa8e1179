// Package recognize is about pages that are pictures of text: which they are, the text they show, set invisible over the picture so that it is found, marked and
// copied where it stands, and the words of it that are doubted.
package recognize

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/claim"
	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/finding"
	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/spelling"
	"glenrain/core/step"
)

// Kinds are the steps of this job.
func Kinds() []step.Kind {
	return []step.Kind{
		{Name: "recognize", Title: "Recognize text", Meaning: "Recognizes the text of scanned pages and adds it as an invisible text layer.", Slow: true, Parts: true,
			New: func() step.Step { return &Recognize{Pages: step.Pages{Rule: "all"}} }},
		{Name: "recognize-words", Title: "Correct recognized words", Meaning: "Accepts or corrects recognized words.", New: func() step.Step { return &Words{} }},
		{Name: "straighten", Title: "Straighten and clean", Meaning: "Straightens scanned pages, removes dark edges and evens out the lighting.", Slow: true,
			New: func() step.Step {
				return &Straighten{Pages: step.Pages{Rule: "all"}, Straight: true, Edges: true, Light: true}
			}},
		{Name: "set-text", Title: "Make recognized text editable", Meaning: "Replaces recognized letters in the pictures with editable text.", Slow: true,
			New: func() step.Step { return &SetText{Pages: step.Pages{Rule: "all"}, Straight: true} }},
		{Name: "recognize-remove", Title: "Remove recognized text", Meaning: "Removes recognized text from pages; the pictures stay.", New: func() step.Step { return &Remove{Pages: step.Pages{Rule: "all"}} }},
	}
}

// Recognize is the step "recognize".
type Recognize struct {
	Pages     step.Pages `json:"pages" help:"which pages; those that already have text are skipped"`
	Languages string     `json:"languages,omitempty" help:"languages as three-letter codes, such as eng+deu; detected if empty"`
	Again     bool       `json:"again,omitempty" help:"replace an existing text layer"`
	// Made is what the work read: set by it.
	Made step.SourceRef `json:"made,omitempty" help:"set by the step itself"`

	fresh *Reading
}

// Reading is what was read of a document.
type Reading struct {
	Engine    string        `json:"engine"`
	Languages []string      `json:"languages"`
	Found     bool          `json:"found,omitempty"` // the languages were found, not given
	Pages     []PageReading `json:"pages"`
	Asked     int           `json:"asked"`            // pages that needed it
	Left      int           `json:"left,omitempty"`   // of those, not begun: the work was stopped
	Failed    []Failure     `json:"failed,omitempty"` // pages that could not be read
	House     []string      `json:"house,omitempty"`  // words that the house knew
}

// PageReading is what was read of a page.
type PageReading struct {
	Page  step.Key `json:"page"`
	Lines []Line   `json:"lines"`
	Skew  float64  `json:"skew,omitempty"` // degrees counterclockwise
	Turn  int      `json:"turn,omitempty"` // quarters clockwise that the page would have to be turned by to stand upright
	Dark  bool     `json:"dark,omitempty"`
	// Doubts are the words that were doubted when the page was read, by the dictionaries there were then; Checked tells them from a reading of before, which
	// keeps none.
	Doubts  []Doubt `json:"doubts,omitempty"`
	Checked bool    `json:"checked,omitempty"`
}

// Failure is a page that could not be read, and why.
type Failure struct {
	Page step.Key `json:"page"`
	Why  string   `json:"why"`
}

// codesOf reads "eng+deu", "eng, deu" or "eng deu".
func codesOf(s string) ([]string, error) {
	var out []string
	for _, c := range strings.FieldsFunc(s, func(r rune) bool { return r == '+' || r == ',' || r == ' ' }) {
		if !codeForm.MatchString(c) {
			return nil, step.Refuse("%q isn’t a language: type three-letter codes, such as eng or eng+deu", c)
		}
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	if len(out) > 4 {
		return nil, step.Refuse("you can recognize up to four languages at once")
	}
	return out, nil
}

var codeForm = regexp.MustCompile(`^[a-z]{3}(_[a-z]+)?$`)

// doubt tells which words of a page are doubted, and how sure the page is as a whole, in hundredths.
func doubt(lines []Line, sp *spelling.Speller) (doubts []Doubt, sure int) {
	n, sum, letters := 0, 0, 0
	for _, l := range lines {
		for _, w := range l.Words {
			k := len([]rune(w.Text))
			sum += w.Sure * k
			letters += k
			if doubted(w, sp) {
				doubts = append(doubts, Doubt{Word: n, Sure: w.Sure})
			}
			n++
		}
	}
	if letters > 0 {
		sure = (sum + letters/2) / letters
	}
	return doubts, sure
}

// unlikely is how sure a reading has to be for a dictionary to decide, in hundredths: below it, it is doubted whatever it says.
const unlikely = 55

// doubted: the program is not sure of a word, or less than quite sure of one that no dictionary has.
func doubted(w Word, sp *spelling.Speller) bool {
	core := spelling.Core(w.Text)
	letters := len([]rune(core))
	switch {
	case !strings.ContainsFunc(w.Text, letterOrFigure):
		return false
	case w.Sure < unlikely:
		return true
	case letters >= 3 && w.Sure < 88:
		return !sp.Knows(w.Text)
	case letters == 0: // figures
		return w.Sure < 70
	}
	return false
}

func letterOrFigure(r rune) bool {
	return r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 0xbf
}

// Doubted gives the words of a layer that are doubted still: not those that were read well enough and that the house has learned since.
func Doubted(u *draw.Invisible, n Note, house func(string) bool) (out []Doubt) {
	for _, d := range n.Doubts {
		w := word(u, d.Word)
		if w == nil {
			continue
		}
		if core := spelling.Core(w.Text); d.Sure >= unlikely && core != "" && (house(core) || house(strings.ToLower(core))) {
			continue
		}
		out = append(out, d)
	}
	return out
}

// Doubt is a doubted word: which of the layer's words, counted from 0, and how sure the reading was in hundredths.
type Doubt struct{ Word, Sure int }

// Note is what a layer keeps about itself: how sure it is, in which languages it was read, and what is doubted still.
type Note struct {
	Sure      int
	Languages []string
	Doubts    []Doubt
}

func (n Note) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d %s", n.Sure, strings.Join(n.Languages, "+"))
	for _, d := range n.Doubts {
		fmt.Fprintf(&b, " %d:%d", d.Word, d.Sure)
	}
	return b.String()
}

const mostDoubts = 5000

func readNote(s string, words int) (n Note) {
	f := strings.Fields(s)
	if len(f) < 2 {
		return n
	}
	n.Sure, _ = strconv.Atoi(f[0])
	n.Sure = max(0, min(100, n.Sure))
	n.Languages, _ = codesOf(f[1])
	for _, d := range f[2:] {
		a, b, ok := strings.Cut(d, ":")
		w, err1 := strconv.Atoi(a)
		s, err2 := strconv.Atoi(b)
		if ok && err1 == nil && err2 == nil && w >= 0 && w < words && len(n.Doubts) < mostDoubts {
			n.Doubts = append(n.Doubts, Doubt{w, max(0, min(100, s))})
		}
	}
	return n
}

// Layer gives the recognized text of a page, and what is noted of it; ok is false where Glenrain set none.
func Layer(doc *pdf.Document, page pdf.Ref) (u *draw.Invisible, n Note, ok bool) {
	u, ok = draw.ReadInvisible(doc, page)
	if !ok {
		return nil, n, false
	}
	return u, readNote(u.Note, u.Words()), true
}

// Apply sets the layers.
func (r *Recognize) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	read, err := r.reading(ctx, env)
	if err != nil {
		return nil, err
	}
	res := &step.Result{Redrawn: step.RedrawPages, Adds: claim.Foreign}
	sp := spelling.For(read.Languages, func(w string) bool { return slices.Contains(read.House, w) })
	words, sum, letters, empty, doubts := 0, 0, 0, 0, 0
	var done, turned []pdf.Ref
	for _, p := range read.Pages {
		ref, ok := env.Keys.Ref(p.Page)
		if !ok || doc.PageIndexes([]pdf.Ref{ref})[0] < 0 {
			continue
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		done = append(done, ref)
		if p.Turn != 0 {
			turned = append(turned, ref)
		}
		if !env.Wants(ref) {
			continue
		}
		if r.Again {
			if err := dropLayer(ctx, doc, ref); err != nil {
				return nil, err
			}
		}
		if len(p.Lines) == 0 {
			empty++
			continue
		}
		n := Note{Languages: read.Languages}
		n.Doubts, n.Sure = doubt(p.Lines, sp)
		if p.Checked { // dictionaries that came or went since change nothing when the step is done again
			n.Doubts = p.Doubts
		}
		if err := draw.PutInvisible(doc, ref, layer(p.Lines, n.String())); err != nil {
			return nil, err
		}
		for _, l := range p.Lines {
			words += len(l.Words)
			for _, w := range l.Words {
				k := len([]rune(w.Text))
				sum, letters = sum+k*w.Sure, letters+k
			}
		}
		doubts += len(n.Doubts)
	}
	if len(done) == 0 {
		if len(read.Failed) > 0 {
			return nil, step.Refuse("%s could not be recognized: %s", step.Count(len(read.Failed), "page"), read.Failed[0].Why)
		}
		return nil, step.Refuse("the recognized pages have been removed")
	}
	res.Pages, res.Show = env.Keys.Of(done), env.Keys.Key(done[0])
	res.Sentence = step.Sentence("text of "+strings.ToLower(step.NamedIn(doc, doc.PageIndexes(done))[:1])+step.NamedIn(doc, doc.PageIndexes(done))[1:]) + " recognized: " + step.Count(words, "word")
	if letters > 0 {
		res.Sentence += fmt.Sprintf(", %d%% confidence", (sum+letters/2)/letters)
	}
	if doubts > 0 {
		res.Sentence += ", " + strconv.Itoa(doubts) + " uncertain"
	}
	if empty > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("No text was found on %s.", step.Count(empty, "page")))
	}
	if len(turned) > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("%s %s not upright: rotate %s in Arrange.", step.Sentence(step.NamedIn(doc, doc.PageIndexes(turned))),
			map[bool]string{true: "is", false: "are"}[len(turned) == 1], map[bool]string{true: "it", false: "them"}[len(turned) == 1]))
	}
	if read.Left > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("Stopped: %s of %d left as they were.", step.Count(read.Left, "page"), read.Asked))
	}
	for i, f := range read.Failed {
		if i == 5 {
			res.Warnings = append(res.Warnings, fmt.Sprintf("%s more could not be recognized.", step.Count(len(read.Failed)-i, "page")))
			break
		}
		at := -1
		if ref, ok := env.Keys.Ref(f.Page); ok {
			at = doc.PageIndexes([]pdf.Ref{ref})[0]
		}
		if at >= 0 {
			res.Warnings = append(res.Warnings, fmt.Sprintf("%s could not be recognized: %s.", step.Sentence(step.NamedIn(doc, []int{at})), f.Why))
		}
	}
	return res, nil
}

// reading gives what the work read, just now or before.
func (r *Recognize) reading(ctx context.Context, env *step.Env) (*Reading, error) {
	if r.fresh != nil {
		return r.fresh, nil
	}
	if r.Made == "" {
		return nil, step.Refuse("nothing was recognized")
	}
	src, err := env.Sources.Open(ctx, r.Made)
	if err != nil {
		return nil, err
	}
	read := &Reading{}
	dec := json.NewDecoder(io.LimitReader(io.NewSectionReader(src.Data, 0, src.Size), mostReading))
	if err := dec.Decode(read); err != nil {
		return nil, step.Refuse("the recognized text can’t be read")
	}
	return read, nil
}

const mostReading = 512 << 20

// dropLayer takes off the text that is not seen: the layer of ours, and those of others.
func dropLayer(ctx context.Context, doc *pdf.Document, page pdf.Ref) error {
	if _, err := draw.DropInvisible(doc, page); err != nil {
		return err
	}
	p, err := content.NewReader(doc).Page(ctx, page, content.Options{NoAnnotations: true})
	if err != nil || p.Cut {
		return err
	}
	var gone []int
	for i := range p.Glyphs {
		if st := p.Shows[p.Glyphs[i].Show].State; st != nil && st.Render == 3 {
			gone = append(gone, i)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	return content.Apply(doc, p, content.TakeOut(p, gone))
}

// Remove is the step "recognize-remove".
type Remove struct {
	Pages step.Pages `json:"pages" help:"from which pages"`
}

// Apply takes layers off.
func (r *Remove) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := r.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	var done []pdf.Ref
	for _, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		had, err := draw.DropInvisible(doc, ref)
		if err != nil {
			return nil, err
		}
		if had {
			done = append(done, ref)
		}
	}
	if len(done) == 0 {
		return nil, step.Refuse("no text was recognized on these pages")
	}
	return &step.Result{Pages: env.Keys.Of(done), Redrawn: step.RedrawPages, Show: env.Keys.Key(done[0]),
		Sentence: "Recognized text removed from " + lower(step.NamedIn(doc, doc.PageIndexes(done)))}, nil
}

func lower(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

// Word changes of the step "recognize-words".
type Change struct {
	Word int    `json:"word"`           // which word of the layer, counted from 0
	Was  string `json:"was"`            // what it says now
	Text string `json:"text,omitempty"` // what it is to say; nothing: it is right as it is
	Gone bool   `json:"gone,omitempty"` // it is no word, and goes
}

// Words is the step "recognize-words".
type Words struct {
	Page    step.Pages `json:"page" required:"yes" help:"the page"`
	Changes []Change   `json:"words" required:"yes" help:"the words: word, was, and text for a correction"`
}

const mostChanges = 2000

// Apply puts words right.
func (w *Words) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := w.Page.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(refs) != 1 {
		return nil, step.Refuse("you can correct words on one page at a time")
	}
	if len(w.Changes) == 0 || len(w.Changes) > mostChanges {
		return nil, step.Refuse("no word is named")
	}
	u, note, ok := Layer(doc, refs[0])
	if !ok {
		return nil, step.Refuse("no text was recognized on this page")
	}
	accepted, changed := 0, 0
	gone := map[int]bool{}
	var first Change
	for _, c := range w.Changes {
		at := word(u, c.Word)
		if at == nil || at.Text != c.Was {
			return nil, step.Refuse("the text of this page has changed since")
		}
		text := strings.Join(strings.Fields(c.Text), " ")
		if len(text) > 400 {
			return nil, step.Refuse("a word can have up to 400 characters")
		}
		note.Doubts = slices.DeleteFunc(note.Doubts, func(d Doubt) bool { return d.Word == c.Word })
		if c.Gone {
			gone[c.Word] = true
		} else if text == "" || text == at.Text {
			accepted++
		} else {
			at.Text = text
			changed++
			first = Change{Word: c.Word, Was: c.Was, Text: text}
		}
	}
	without(u, &note, gone)
	u.Note = note.String()
	if err := draw.PutInvisible(doc, refs[0], u); err != nil {
		return nil, err
	}
	res := &step.Result{Pages: env.Keys.Of(refs), Redrawn: step.RedrawPages, Show: env.Keys.Key(refs[0])}
	removed := ""
	if n := len(gone); n > 0 {
		removed = fmt.Sprintf(", %d removed", n)
	}
	switch {
	case changed+accepted == 0:
		res.Sentence = step.Count(len(gone), "recognized word") + " removed: not text"
		if len(gone) == 1 {
			res.Sentence = fmt.Sprintf("Recognized word “%s” removed: not text", w.Changes[0].Was)
		}
	case changed == 1 && accepted == 0 && removed == "":
		res.Sentence = fmt.Sprintf("Recognized word “%s” corrected to “%s”", first.Was, first.Text)
	case changed == 0 && accepted == 1 && removed == "":
		res.Sentence = fmt.Sprintf("Recognized word “%s” accepted", w.Changes[0].Was)
	case changed == 0:
		res.Sentence = step.Count(accepted, "recognized word") + " accepted" + removed
	default:
		res.Sentence = step.Count(changed, "recognized word") + " corrected"
		if accepted > 0 {
			res.Sentence += fmt.Sprintf(", %d accepted", accepted)
		}
		res.Sentence += removed
	}
	return res, nil
}

// without takes words out of a layer; the doubts that are left go on naming theirs.
func without(u *draw.Invisible, note *Note, gone map[int]bool) {
	if len(gone) == 0 {
		return
	}
	now := map[int]int{}
	n, left := 0, 0
	for i := range u.Lines {
		l := &u.Lines[i]
		var kept []draw.InvisibleWord
		for _, w := range l.Words {
			if !gone[n] {
				now[n] = left
				left++
				kept = append(kept, w)
			}
			n++
		}
		l.Words = kept
	}
	u.Lines = slices.DeleteFunc(u.Lines, func(l draw.InvisibleLine) bool { return len(l.Words) == 0 })
	var doubts []Doubt
	for _, d := range note.Doubts {
		if at, ok := now[d.Word]; ok {
			doubts = append(doubts, Doubt{at, d.Sure})
		}
	}
	note.Doubts = doubts
}

// word gives a word of a layer.
func word(u *draw.Invisible, n int) *draw.InvisibleWord {
	for i := range u.Lines {
		if l := &u.Lines[i]; n < len(l.Words) {
			if n < 0 {
				return nil
			}
			return &l.Words[n]
		} else {
			n -= len(l.Words)
		}
	}
	return nil
}

// Needs is what a page needs.
type Needs int

// What a page needs.
const (
	Nothing  Needs = iota // it has text
	Whole                 // it is a picture
	Parts                 // a part of it is a picture, beside text
	Poor                  // its invisible text does not say what is seen
	Layered               // it has invisible text already
	Unneeded              // nothing is to be seen on it that could be text
)

// Scan reports whether a page of a need is a picture of paper, with or without invisible text over it.
func (n Needs) Scan() bool { return n == Whole || n == Layered || n == Poor }

// NeedsOf tells from the look of a page what recognizing may do for it.
func NeedsOf(l finding.PageLook) Needs {
	switch l.Kind() {
	case finding.Picture:
		return Whole
	case finding.PartlyText:
		return Parts
	case finding.TextLayer:
		return Layered
	case finding.Words:
		if l.Pictured >= 4 {
			return Parts
		}
	}
	return Nothing
}

var errNothing = &step.Refusal{Sentence: "none of these pages needs text recognition"}

// Engine gives the engine, or a refusal in a sentence.
func Engine() (*ocr.Engine, error) {
	e, err := ocr.Find()
	if err != nil {
		return nil, step.Refuse("%v", err)
	}
	return e, nil
}
