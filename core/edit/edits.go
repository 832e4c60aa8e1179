package edit

import (
	"maps"
	"math"
	"slices"
	"strings"
	"unicode"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// other is a font that words are set in which is not that of the operator there, or that is set at another size.
type other struct {
	embedding *font.Embedding // of a face that is here; nil for a font of the document
	own       *font.Font
	name      pdf.Name // of own
	face      string   // what it is called, where it is one that is here
	ratio     float64  // of its size to that of the font
}

func (o *other) like(p *other) bool {
	if o == nil || p == nil {
		return o == p
	}
	return o.embedding == p.embedding && o.own == p.own && math.Abs(o.ratio-p.ratio) < 1e-6
}

// faces are the faces of the house that a step uses.
type faces struct {
	doc *pdf.Document
	set map[string]*font.Embedding
}

func newFaces(doc *pdf.Document) *faces { return &faces{doc: doc, set: map[string]*font.Embedding{}} }

// near gives the face that is nearest to a font: the one that it is cut from, where the house has that.
func (f *faces) near(of *font.Font) (name string, whole bool, e *font.Embedding, err error) {
	if name, _ := of.Whole(); name != "" {
		e, err = f.named(name)
		return name, true, e, err
	}
	name = faceName(likeness(of), of.Style.Weight >= 600, of.Style.Italic)
	e, err = f.named(name)
	return name, false, e, err
}

// named gives a face by its name.
func (f *faces) named(name string) (*font.Embedding, error) {
	if e := f.set[name]; e != nil {
		return e, nil
	}
	face, err := font.Face(name)
	if err != nil {
		return nil, step.Refuse("there is no font named “%s” here", name)
	}
	f.set[name] = font.Embed(f.doc, face)
	return f.set[name], nil
}

func (f *faces) finish() {
	for _, name := range slices.Sorted(maps.Keys(f.set)) {
		f.set[name].Finish(f.doc)
	}
}

// unit is how long a unit of text space is along the line, of an operator, in points.
func unit(sh *content.Show) float64 {
	m := sh.Before.Mul(sh.State.CTM)
	return math.Hypot(m[0], m[1])
}

// edit puts text in the place of what stands between two places of the paragraph's text.
func (p *para) edit(from, to int, text string) {
	whole, of := p.text()
	from = max(0, min(from, len(whole)))
	to = max(from, min(to, len(whole)))
	a, b := len(p.chars), len(p.chars)
	if from < len(of) {
		a = of[from]
	}
	if to < len(of) {
		b = of[to]
	}
	if from == to {
		b = a
	}
	// What a ligature has more than is replaced stays.
	before, after := "", ""
	for i := from - 1; i >= 0 && a < len(p.chars) && of[i] == a; i-- {
		before = whole[i:from]
	}
	if b > 0 && to > from && to < len(of) && of[to] == of[to-1] {
		end := to
		for end < len(of) && of[end] == of[to] {
			end++
		}
		after = whole[to:end]
		b++
	}
	for b > 0 && to > from && b < len(p.chars) && p.chars[b].text == "" && !p.chars[b].soft { // what belongs to the last piece
		b++
	}
	like := char{glyph: -1, show: p.donor}
	at := min(a, len(p.chars)-1)
	if from == to && a > 0 { // what is put in goes on as what stands before it
		at = a - 1
	}
	if at >= 0 {
		c := &p.chars[at]
		like.show, like.up, like.line, like.style = c.show, c.up, c.line, c.style
		if like.links = c.links; from == to && a < len(p.chars) { // but a link, or a box behind words, ends where it ends
			like.links, like.decorations = c.links&p.chars[a].links, c.decorations&p.chars[a].decorations
		} else if from != to {
			like.decorations = c.decorations
		} else {
			like.links = 0
		}
	}
	var fresh []char
	for _, r := range before + text + after {
		c := like
		c.text = string(r)
		if r == '\n' {
			c.text, c.space, c.hard = "\n", true, true
		} else if r == ' ' || r == '\t' || r == 0xa0 {
			c.text, c.space, c.adv = " ", true, p.gap
		}
		fresh = append(fresh, c)
	}
	for a > 0 && a-1 < len(p.chars) && p.chars[a-1].soft && len(fresh) > 0 && fresh[0].space { // a word that ends now is not parted
		a--
	}
	p.chars = slices.Replace(p.chars, a, max(a, b), fresh...)
}

// encode finds how new characters are shown: as their style has it, in the font of their place, or, a whole word at a time, in the nearest
// face. lacking are the words for which that was so, by face.
func (p *para) encode(f *faces) (lacking map[string][]string, err error) {
	lacking = map[string][]string{}
	for from := 0; from < len(p.chars); {
		if p.chars[from].space {
			from++
			continue
		}
		to := from + 1
		for to < len(p.chars) && !p.chars[to].space && p.chars[to].style == p.chars[from].style && p.fontOf(to) == p.fontOf(from) {
			to++
		}
		run := p.chars[from:to]
		ends := to == len(p.chars) || p.chars[to].space
		from = to
		if !slices.ContainsFunc(run, func(c char) bool { return c.glyph < 0 }) {
			p.kern(run, p.page.Shows[run[0].show].State.Font)
			for i := range run {
				p.spaced(&run[i], ends && i == len(run)-1)
			}
			continue
		}
		ok, err := p.encodeAs(run, p.targetOf(&run[0], f), f)
		if err != nil {
			return nil, err
		}
		if !ok {
			face, err := p.encodeNear(run, f)
			if err != nil {
				return nil, err
			}
			if face != "" {
				word := strings.TrimFunc(spelled(run), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
				lacking[face] = append(lacking[face], word)
			}
		}
		for i := range run {
			p.spaced(&run[i], ends && i == len(run)-1)
		}
	}
	p.chars = slices.DeleteFunc(p.chars, func(c char) bool { return c.text == "" && c.glyph < 0 && !c.soft }) // what is shown with the letter before it
	return lacking, nil
}

func (p *para) fontOf(i int) *font.Font { return p.page.Shows[p.chars[i].show].State.Font }

// spaced adds the space between letters that a style asks for.
func (p *para) spaced(c *char, last bool) {
	if c.style == nil || c.style.spacing == 0 {
		return
	}
	c.adv = c.wide + c.style.spacing
	if last {
		c.adv = c.wide
	}
}

// ratioOf is how large a character is set, to the size of its operator's font.
func (p *para) ratioOf(c *char) float64 {
	if c.style == nil {
		return 1
	}
	sh := &p.page.Shows[c.show]
	size := p.sizeOf(c, c.style)
	if c.style.level == "raised" || c.style.level == "lowered" {
		size *= raisedSize
	}
	own := sh.State.Size * unit(sh)
	if own <= 0 {
		return 1
	}
	return size / own
}

// encodeAs encodes the new ones of some characters in a font; false where it lacks letters of them.
func (p *para) encodeAs(run []char, t target, f *faces) (bool, error) {
	if t.face != "" {
		e, err := f.named(t.face)
		if err != nil {
			return false, err
		}
		return p.inFace(run, e, t.face, nil), nil
	}
	p.ligate(run, t.own)
	codes := make([][]byte, len(run))
	for i := range run {
		c := &run[i]
		if c.glyph >= 0 || c.text == "" {
			continue
		}
		code, ok := t.own.CodeOf(c.text)
		if !ok {
			unligate(run)
			return false, nil
		}
		codes[i] = code.Append(nil)
	}
	for i := range run {
		c := &run[i]
		if c.glyph >= 0 {
			continue
		}
		if c.text == "" { // it is shown with the letter before it
			c.code, c.other, c.wide, c.adv = nil, run[max(0, i-1)].other, 0, 0
			continue
		}
		sh := &p.page.Shows[c.show]
		ch, _ := t.own.Next(codes[i])
		ratio := p.ratioOf(c)
		c.code, c.other = codes[i], nil
		if t.own != sh.State.Font || math.Abs(ratio-1) > 1e-4 {
			c.other = &other{own: t.own, name: t.name, ratio: ratio}
		}
		c.wide = ch.Width * sh.State.Size * ratio * sh.State.Scale * unit(sh)
		c.adv = c.wide
		if i < len(run)-1 { // spaces are measured from where its ink ends
			c.adv += p.habitsOf(t.own).spacing * sh.State.Size * ratio * sh.State.Scale * unit(sh)
		}
	}
	p.kern(run, t.own)
	return true, nil
}

// unligate parts again what was made one glyph.
func unligate(run []char) {
	for i := range run {
		letters := []rune(run[i].text)
		if run[i].glyph >= 0 || len(letters) < 2 {
			continue
		}
		for k, r := range letters {
			if i+k < len(run) && (k == 0 || run[i+k].text == "" && run[i+k].glyph < 0) {
				run[i+k].text = string(r)
			}
		}
	}
}

// encodeNear sets characters in the face that is nearest to their font.
func (p *para) encodeNear(run []char, f *faces) (face string, err error) {
	t := p.targetOf(&run[0], f)
	of := t.own
	name, whole, e := t.face, false, (*font.Embedding)(nil)
	if of != nil {
		name, whole, e, err = f.near(of)
	} else {
		e, err = f.named(name)
	}
	if err != nil {
		return "", err
	}
	ratio := 1.0
	if of != nil && !whole {
		ratio = p.ratio(run[0].show, e)
	}
	if !p.inFace(run, e, name, &ratio) {
		return "", step.Refuse("“%s” has characters that no font here has", spelled(run))
	}
	if whole {
		return "", nil
	}
	return name, nil
}

// inFace sets characters in a face; false where it lacks letters. With a ratio, those that stand there already come with it.
func (p *para) inFace(run []char, e *font.Embedding, face string, ratio *float64) bool {
	for i := range run {
		for _, r := range run[i].text {
			if (ratio != nil || run[i].glyph < 0) && !run[i].soft && e.Face.Glyph(r) == 0 {
				return false
			}
		}
	}
	for i := range run {
		c := &run[i]
		if c.soft || ratio == nil && c.glyph >= 0 {
			continue
		}
		by := p.ratioOf(c)
		if ratio != nil {
			by *= *ratio
		}
		sh := &p.page.Shows[c.show]
		codes, width, _ := e.Encode(c.text)
		c.other, c.code, c.glyph = &other{embedding: e, face: face, ratio: by}, codes, -1
		c.wide = width / 1000 * sh.State.Size * by * sh.State.Scale * unit(sh)
		c.adv = c.wide
	}
	p.shape(run, e)
	return true
}

// shape sets letters that stand in a face that is here as far apart as the face has it.
func (p *para) shape(run []char, e *font.Embedding) {
	for from := 0; from < len(run); {
		to := from
		var text []rune
		for to < len(run) && run[to].other != nil && run[to].other.embedding == e && !run[to].soft && len([]rune(run[to].text)) == 1 {
			text = append(text, []rune(run[to].text)...)
			to++
		}
		if len(text) > 1 {
			for i, adv := range e.Face.Advances(text) {
				c := &run[from+i]
				sh := &p.page.Shows[c.show]
				if i+1 < len(text) {
					c.adv = adv * sh.State.Size * c.other.ratio * sh.State.Scale * unit(sh)
				}
			}
		}
		from = max(to, from+1)
	}
}

func spelled(word []char) string {
	var b strings.Builder
	for _, c := range word {
		if !c.soft {
			b.WriteString(c.text)
		}
	}
	return b.String()
}

// ratio is how large a face is set for its letters to be as high as those of a font, where that tells how high they are, and else as wide: by
// the letters of the paragraph.
func (p *para) ratio(show int32, e *font.Embedding) float64 {
	own := p.page.Shows[show].State.Font
	if a, b := own.XHeight(), e.Face.XHeight(); a > 0.3 && a < 0.7 && b > 0 {
		return max(0.85, min(1.18, a/b))
	}
	var a, b float64
	for i := range p.chars {
		c := &p.chars[i]
		if c.glyph < 0 || p.page.Shows[c.show].State.Font != own {
			continue
		}
		g := e.Face.Glyph([]rune(c.text + " ")[0])
		if g == 0 {
			continue
		}
		a += p.page.Glyphs[c.glyph].Char.Width
		b += float64(e.Face.Advance(g)) / float64(e.Face.UnitsPerEm)
	}
	if a <= 0 || b <= 0 {
		return 1
	}
	return max(0.85, min(1.18, a/b))
}
