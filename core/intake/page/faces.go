package page

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/go-fonts/dejavu/dejavusans"
	"github.com/go-fonts/dejavu/dejavusansbold"
	"github.com/go-fonts/liberation/liberationmonobold"
	"github.com/go-fonts/liberation/liberationmonobolditalic"
	"github.com/go-fonts/liberation/liberationmonoitalic"
	"github.com/go-fonts/liberation/liberationmonoregular"
	"github.com/go-fonts/liberation/liberationsansbold"
	"github.com/go-fonts/liberation/liberationsansbolditalic"
	"github.com/go-fonts/liberation/liberationsansitalic"
	"github.com/go-fonts/liberation/liberationsansregular"
	"github.com/go-fonts/liberation/liberationserifbold"
	"github.com/go-fonts/liberation/liberationserifbolditalic"
	"github.com/go-fonts/liberation/liberationserifitalic"
	"github.com/go-fonts/liberation/liberationserifregular"

	"glenrain/core/typeset"
)

// The families that ship with the program. What their faces lack is taken from the wide one, and then from what the machine has.
const (
	Sans  = "Sheet Sans"
	Serif = "Sheet Serif"
	Mono  = "Sheet Mono"
	wide  = "Sheet Wide"
)

// cuts are a family's faces: regular, bold, italic, bold italic.
var cuts = map[string][][]byte{
	Sans:  {liberationsansregular.TTF, liberationsansbold.TTF, liberationsansitalic.TTF, liberationsansbolditalic.TTF},
	Serif: {liberationserifregular.TTF, liberationserifbold.TTF, liberationserifitalic.TTF, liberationserifbolditalic.TTF},
	Mono:  {liberationmonoregular.TTF, liberationmonobold.TTF, liberationmonoitalic.TTF, liberationmonobolditalic.TTF},
	wide:  {dejavusans.TTF, dejavusansbold.TTF},
}

// Family gives the value of font-family for a shipped family.
func (s *Sheet) Family(name string) string {
	s.used[name], s.used[wide] = true, true
	if own, ok := strings.CutPrefix(name, ownMark); ok {
		return fmt.Sprintf("'Own %d',%s", s.ownNumber(own), s.Family(Like(own)))
	}
	generic := map[string]string{Sans: "sans-serif", Serif: "serif", Mono: "monospace"}[name]
	return "'" + name + "','" + wide + "'," + generic
}

// Like gives the shipped family that stands in for a font by its name: by its metrics where they are the same, or by its kind.
func Like(font string) string {
	f := strings.ToLower(font)
	for _, w := range []string{"mono", "courier", "consol", "typewriter", "fixed", "code", "menlo"} {
		if strings.Contains(f, w) {
			return Mono
		}
	}
	if strings.Contains(f, "sans") {
		return Sans
	}
	for _, w := range []string{"serif", "times", "roman", "cambria", "georgia", "garamond", "palatino", "book", "minion", "caslon", "baskerville", "century", "song", "ming", "batang"} {
		if strings.Contains(f, w) {
			return Serif
		}
	}
	return Sans
}

// face writes the rules of a family and keeps its faces.
func (s *Sheet) face(b *bytes.Buffer, name string) {
	faces := cuts[name]
	if own, ok := strings.CutPrefix(name, ownMark); ok {
		name = fmt.Sprintf("Own %d", s.ownNumber(own))
		four := s.own.data(own)
		faces = four[:]
	}
	for i, data := range faces {
		if data == nil {
			continue
		}
		src := fmt.Sprintf("f-%s-%d.ttf", strings.ToLower(strings.ReplaceAll(name, " ", "-")), i)
		s.files[src] = typeset.File{Type: "font/ttf", Data: data}
		fmt.Fprintf(b, "@font-face{font-family:'%s';font-weight:%s;font-style:%s;src:url(%s)}\n", name,
			[]string{"400", "700"}[i&1], []string{"normal", "italic"}[i>>1], src)
	}
}

// narrow are fonts that are narrower than the family that stands in for them, and by how much its letters are made smaller, so
// that lines break about where they did.
var narrow = map[string]float64{"calibri": 0.92, "carlito": 0.92, "aptos": 0.95, "candara": 0.93, "corbel": 0.93, "segoe": 0.97, "narrow": 0.82}

// stand gives the family that stands in for a font, and the factor for its size.
func stand(font string) (family string, factor float64) {
	f := strings.ToLower(font)
	for name, by := range narrow {
		if strings.Contains(f, name) {
			return Like(font), by
		}
	}
	return Like(font), 1
}
