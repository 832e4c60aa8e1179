package font

import (
	"bytes"
	"sync"

	gotext "github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/font/opentype"
	"github.com/go-text/typesetting/language"
	"github.com/go-text/typesetting/shaping"
	"golang.org/x/image/math/fixed"
)

// shaper shapes text in one face; it is made when it is asked for first.
type shaper struct {
	mu   sync.Mutex
	once sync.Once
	face *gotext.Face
	hb   shaping.HarfbuzzShaper
}

// mostShaped is how many letters are shaped at once.
const mostShaped = 4000

// Advances gives how far each letter of a text leads on to the next one, in em, as the face has it: with its kerning, without ligatures. Nothing where
// the face can't be shaped with, or letters become other glyphs than those of Glyph.
func (t *TrueType) Advances(text []rune) (out []float64) {
	if len(text) == 0 || len(text) > mostShaped {
		return nil
	}
	s := &t.shaping
	s.mu.Lock()
	defer s.mu.Unlock()
	defer func() {
		if recover() != nil { // a table that the shaper trips over
			out = nil
		}
	}()
	s.once.Do(func() { s.face, _ = gotext.ParseTTF(bytes.NewReader(t.data)) })
	if s.face == nil {
		return nil
	}
	off := func(tag string) shaping.FontFeature { return shaping.FontFeature{Tag: opentype.MustNewTag(tag)} }
	got := s.hb.Shape(shaping.Input{
		Text: text, RunEnd: len(text), Face: s.face, Size: fixed.I(1000), Script: language.LookupScript(text[0]),
		FontFeatures: []shaping.FontFeature{off("liga"), off("clig"), off("calt"), off("dlig")},
	})
	if len(got.Glyphs) != len(text) {
		return nil
	}
	out = make([]float64, len(text))
	for _, g := range got.Glyphs {
		if uint16(g.GlyphID) != t.Glyph(text[g.TextIndex()]) || g.XOffset != 0 || g.YOffset != 0 {
			return nil
		}
		out[g.TextIndex()] = float64(g.Advance) / 64 / 1000
	}
	return out
}
