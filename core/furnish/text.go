package furnish

import (
	"fmt"
	"maps"
	"slices"

	"glenrain/core/draw"
	"glenrain/core/font"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// text draws lines of text in one of the fonts that come with Glenrain, in one size and colour: the painter of kinds whose items are such lines, and what other painters
// draw their text with.
type text struct {
	doc     *pdf.Document
	name    string
	face    *font.TrueType
	font    *font.Embedding
	size    float64
	rgb     [3]float64
	missing map[rune]bool
}

func newText(doc *pdf.Document, name string, size float64, colour step.Colour) (*text, error) {
	face, err := font.Face(name)
	if err != nil {
		return nil, err
	}
	r, g, b, err := colour.RGB()
	if err != nil {
		return nil, err
	}
	return &text{doc, name, face, font.Embed(doc, face), size, [3]float64{r, g, b}, map[rune]bool{}}, nil
}

// ink sets the colour.
func (t *text) ink(c *draw.Content) { c.Op("rg", t.rgb[0], t.rgb[1], t.rgb[2]) }

// codes gives the bytes that show words, and remembers what the font lacks.
func (t *text) codes(words string) pdf.String {
	codes, _, lacks := t.font.Encode(words)
	for _, c := range lacks {
		t.missing[c] = true
	}
	return pdf.String(codes)
}

// Form is the item's text as one line: its baseline begins at the origin.
func (t *text) Form(it Item) (pdf.Ref, error) {
	var c draw.Content
	c.Op("BT").Op("Tf", pdf.Name("F"), t.size)
	t.ink(&c)
	c.Op("Tj", t.codes(it.Text)).Op("ET")
	em := float64(t.face.UnitsPerEm)
	up, down := float64(t.face.BBox[3])/em, float64(t.face.BBox[1])/em
	box := pdf.Rect{X0: -t.size, Y0: down * t.size, X1: width(t.face, it.Text)*t.size + t.size, Y1: up * t.size}
	return draw.Form(t.doc, box, pdf.NewDict("Font", pdf.NewDict("F", t.font.Ref())), c.Bytes()), nil
}

// finish writes the font and gives what it lacks.
func (t *text) finish() []rune {
	t.font.Finish(t.doc)
	return slices.Sorted(maps.Keys(t.missing))
}

// Finish writes the font and tells what it lacks.
func (t *text) Finish() []string {
	if lacks := t.finish(); len(lacks) > 0 {
		return []string{fmt.Sprintf("The font %s has no “%c”: choose another wording.", t.name, lacks[0])}
	}
	return nil
}
