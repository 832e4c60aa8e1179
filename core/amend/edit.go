package amend

import (
	"math"
	"slices"
	"strings"
	"unicode"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// other is a shipped face in which words are set that the font of their place can't show.
type other struct {
	embedding *font.Embedding
	ratio     float64 // of its size to that of the font, so that its letters are as wide
}

// faces are the shipped faces that a step uses.
type faces struct {
	doc *pdf.Document
	set map[string]*font.Embedding
}

// near gives the shipped face that is nearest to a font.
func (f *faces) near(of *font.Font) (name string, e *font.Embedding, err error) {
	st := of.Style
	name = "Sans"
	switch {
	case st.Fixed:
		name = "Mono"
	case st.Serif:
		name = "Serif"
	}
	switch {
	case name == "Mono":
	case st.Weight >= 600:
		name += " Bold"
	case st.Italic:
		name += " Italic"
	}
	if e = f.set[name]; e == nil {
		face, err := font.Face(name)
		if err != nil {
			return "", nil, err
		}
		e = font.Embed(f.doc, face)
		f.set[name] = e
	}
	return name, e, nil
}

func (f *faces) finish() {
	for _, name := range font.Faces() {
		if e := f.set[name]; e != nil {
			e.Finish(f.doc)
		}
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
	style := char{glyph: -1}
	switch {
	case a < len(p.chars):
		style.show, style.up, style.line = p.chars[a].show, p.chars[a].up, p.chars[a].line
	case len(p.chars) > 0:
		last := p.chars[len(p.chars)-1]
		style.show, style.up, style.line = last.show, last.up, last.line
	}
	if from == to && a > 0 { // what is put in goes on as what stands before it
		style.show, style.up, style.line = p.chars[a-1].show, p.chars[a-1].up, p.chars[a-1].line
	}
	var fresh []char
	for _, r := range before + text + after {
		c := style
		c.text = string(r)
		if r == ' ' || r == '\n' || r == '\t' || r == 0xa0 {
			c.text, c.space, c.adv = " ", true, p.gap
		}
		fresh = append(fresh, c)
	}
	for a > 0 && a-1 < len(p.chars) && p.chars[a-1].soft && len(fresh) > 0 && fresh[0].space { // a word that ends now is not parted
		a--
	}
	p.chars = slices.Replace(p.chars, a, b, fresh...)
}

// encode finds how new characters are shown: in the font of their place, or, a whole word at a time, in the nearest face. lacking are the words for which that was so.
func (p *para) encode(f *faces) (lacking []string, face string, err error) {
	for from := 0; from < len(p.chars); {
		if p.chars[from].space {
			from++
			continue
		}
		to := from
		for to < len(p.chars) && !p.chars[to].space {
			to++
		}
		word := p.chars[from:to]
		from = to
		if !slices.ContainsFunc(word, func(c char) bool { return c.glyph < 0 }) {
			continue
		}
		able := true
		for i := range word {
			c := &word[i]
			if c.glyph >= 0 {
				continue
			}
			sh := &p.page.Shows[c.show]
			code, ok := sh.State.Font.CodeOf(c.text)
			if !ok {
				able = false
				break
			}
			c.code = code.Append(nil)
			ch, _ := sh.State.Font.Next(c.code)
			c.wide = ch.Width * sh.State.Size * sh.State.Scale * unit(sh)
			c.adv = c.wide + sh.State.CharSpace*sh.State.Scale*unit(sh)
		}
		if able {
			if last := &word[len(word)-1]; last.glyph < 0 { // spaces are measured from where its ink ends
				last.adv = last.wide
			}
			continue
		}
		var text strings.Builder
		for i := range word {
			c := &word[i]
			if c.soft {
				continue
			}
			sh := &p.page.Shows[c.show]
			name, e, err := f.near(sh.State.Font)
			if err != nil {
				return nil, "", err
			}
			codes, width, missing := e.Encode(c.text)
			if len(missing) > 0 {
				return nil, "", step.Refuse("“%s” has letters that no face here has", spelled(word))
			}
			o := &other{e, p.ratio(c.show, e)}
			c.other, c.code, c.glyph = o, codes, -1
			c.wide = width / 1000 * sh.State.Size * o.ratio * sh.State.Scale * unit(sh)
			c.adv = c.wide
			text.WriteString(c.text)
			face = name
		}
		lacking = append(lacking, strings.TrimFunc(text.String(), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }))
	}
	return lacking, face, nil
}

func spelled(word []char) string {
	var b strings.Builder
	for _, c := range word {
		b.WriteString(c.text)
	}
	return b.String()
}

// ratio is how large a face is set for its letters to be as wide as those of a font: by the letters of the paragraph.
func (p *para) ratio(show int32, e *font.Embedding) float64 {
	own := p.page.Shows[show].State.Font
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
