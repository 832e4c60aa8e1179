package edit

import (
	"math"
	"slices"

	"glenrain/core/font"
)

// habits is how a page sets a font: which letters it sets closer or wider than their widths, and which it sets as one glyph.
type habits struct {
	spacing   float64               // between letters besides their widths, in em: of most letters of the paragraph, as some programs kern by it
	kern      map[[2]string]float64 // em
	ligatures []string              // the longest first
}

const (
	mostKern = 0.25 // em; more is no kerning
	mostSeen = 31   // of a pair
)

// habitsOf reads them off the page's own glyphs.
func (p *para) habitsOf(f *font.Font) *habits {
	if h := p.habits[f]; h != nil {
		return h
	}
	h := &habits{kern: map[[2]string]float64{}}
	if p.habits == nil {
		p.habits = map[*font.Font]*habits{}
	}
	p.habits[f] = h
	seen := map[[2]string][]float64{}
	usual := p.usualSpacing(f)
	h.spacing = usual
	var own []float64
	for i := range p.before {
		if c := &p.before[i]; c.glyph >= 0 && p.page.Shows[c.show].State.Font == f {
			st := p.page.Shows[c.show].State
			own = append(own, st.CharSpace/st.Size)
		}
	}
	if len(own) > 0 {
		slices.Sort(own)
		h.spacing = own[len(own)/2]
	}
	for s := range p.page.Shows {
		sh := &p.page.Shows[s]
		st := sh.State
		if st == nil || st.Font != f || st.Size <= 0 || st.Scale <= 0 {
			continue
		}
		em := st.Size * st.Scale * unit(sh)
		if em <= 0 {
			continue
		}
		for g := sh.First; g < sh.First+sh.N; g++ {
			a := &p.page.Glyphs[g]
			if n := len([]rune(a.Char.Text)); n > 1 && n < 4 && !slices.Contains(h.ligatures, a.Char.Text) && a.Char.Text[0] == 'f' {
				h.ligatures = append(h.ligatures, a.Char.Text)
			}
			if g+1 == sh.First+sh.N {
				break
			}
			b := &p.page.Glyphs[g+1]
			if a.Char.Text == " " || b.Char.Text == " " || a.Char.Text == "" || b.Char.Text == "" {
				continue
			}
			pair := [2]string{a.Char.Text, b.Char.Text}
			if len(seen[pair]) >= mostSeen {
				continue
			}
			k := ((b.X-a.X)*sh.Along[0]+(b.Y-a.Y)*sh.Along[1])/em - a.Char.Width - usual
			if math.Abs(k) < mostKern {
				seen[pair] = append(seen[pair], k)
			}
		}
	}
	for pair, list := range seen { // letters of a line may be spaced out to fill it: most are not
		slices.Sort(list)
		if k := list[len(list)/2]; math.Abs(k) >= 0.0004 {
			h.kern[pair] = k
		}
	}
	slices.SortFunc(h.ligatures, func(a, b string) int { return len(b) - len(a) })
	return h
}

// usualSpacing is how far apart most letters of a font stand on the page, besides their widths, in em.
func (p *para) usualSpacing(f *font.Font) float64 {
	var list []float64
	for s := range p.page.Shows {
		sh := &p.page.Shows[s]
		if sh.State != nil && sh.State.Font == f && sh.State.Size > 0 {
			for range min(sh.N, 200) {
				list = append(list, sh.State.CharSpace/sh.State.Size)
			}
		}
	}
	if len(list) == 0 {
		return 0
	}
	slices.Sort(list)
	return list[len(list)/2]
}

// ligate sets letters that come new as one glyph, where the page does so.
func (p *para) ligate(run []char, f *font.Font) {
	for _, l := range p.habitsOf(f).ligatures {
		if _, ok := f.CodeOf(l); !ok {
			continue
		}
		parts := []rune(l)
		for i := 0; i+len(parts) <= len(run); i++ {
			fits := true
			for k, r := range parts {
				c := &run[i+k]
				fits = fits && c.glyph < 0 && c.text == string(r) && !c.soft
			}
			if !fits {
				continue
			}
			run[i].text = l
			for k := 1; k < len(parts); k++ {
				run[i+k].text = ""
			}
		}
	}
}

// kern sets the space behind each letter whose neighbour is not the one that it had, as the page sets such a pair.
func (p *para) kern(run []char, f *font.Font) {
	h := p.habitsOf(f)
	for i := 0; i+1 < len(run); i++ {
		c := &run[i]
		if c.text == "" || c.soft || c.other != nil && c.other.embedding != nil {
			continue
		}
		k := i + 1
		for k < len(run) && run[k].text == "" {
			k++
		}
		if k == len(run) || run[k].soft && k+1 == len(run) {
			continue
		}
		n := &run[k]
		if n.soft {
			n = &run[k+1]
		}
		if c.glyph >= 0 && n.glyph >= 0 && n.glyph == c.next {
			continue
		}
		sh := &p.page.Shows[c.show]
		em := sh.State.Size * sh.State.Scale * unit(sh) * p.ratioOf(c)
		c.adv = c.wide + (h.spacing+h.kern[[2]string{c.text, n.text}])*em
	}
}
