package furnish

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/font"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

const kindNumbers = "numbers"

// Piece is one piece of a wording: plain text, or a value.
type Piece struct {
	Text  string `json:"text,omitempty"`
	Field string `json:"field,omitempty"` // "page": the page's number; "pages": the last number
}

// UnmarshalJSON reads a piece afresh; it must be one of the three.
func (p *Piece) UnmarshalJSON(b []byte) error {
	type plain Piece
	var v plain
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&v); err != nil {
		return step.Refuse("a piece of the wording must be a text or a field: %v", err)
	}
	if v.Field != "" && v.Field != "page" && v.Field != "pages" || v.Field != "" && v.Text != "" {
		return step.Refuse("a piece of the wording must be a text, or the field page or pages")
	}
	*p = Piece(v)
	return nil
}

// TypeName describes a piece to those who write steps.
func (Piece) TypeName() string {
	return `pieces: {"text":"..."} or {"field":"page"} or {"field":"pages"}`
}

// Values are the values of page numbers.
type Values struct {
	Pages   step.Pages  `json:"pages" required:"yes" help:"which pages carry a number"`
	Edge    string      `json:"edge" enum:"bottom,top" wasvalue:"foot=bottom,head=top" help:"at the bottom or the top of the page"`
	Align   string      `json:"align" enum:"left,centre,right" wasvalue:"middle=centre" help:"alignment along that edge of the visible page"`
	Wording []Piece     `json:"wording" required:"the wording is empty: add the page number or some text" help:"the wording"`
	Figures string      `json:"figures" enum:"1 2 3,i ii iii" help:"number style"`
	First   int         `json:"first" min:"0" max:"1000000" help:"the number of the first numbered page; later pages count on, including pages without a number"`
	Font    string      `json:"font" was:"face" enum:"Sans,Sans Bold,Sans Italic,Serif,Serif Bold,Serif Italic,Mono" help:"one of the fonts that come with Glenrain; it is embedded"`
	Size    step.Length `json:"size" min:"2" max:"200" help:"font size"`
	Colour  step.Colour `json:"colour" help:"colour of the text"`
	Margin  step.Length `json:"margin" min:"0" max:"1000" help:"distance from the edge, and from the side if it is left or right"`
}

func usual() Values {
	return Values{
		Pages: step.Pages{Rule: "all"}, Edge: "bottom", Align: "centre", Wording: []Piece{{Field: "page"}}, Figures: "1 2 3",
		First: 1, Font: "Sans", Size: 9, Colour: "slate", Margin: 12 * pdf.MM,
	}
}

func readNumbers(values []byte) (*Values, error) {
	v := usual()
	if err := step.Decode(values, &v, false); err != nil {
		return nil, step.Refuse("the values of these page numbers can't be read: %v", err)
	}
	return &v, nil
}

// ReadNumbers gives the values of placed page numbers, for those who show them. Pages
// that are named singly are given as a page set of the document as it is.
func ReadNumbers(doc *pdf.Document, p draw.Placed) (*Values, error) {
	v, err := readNumbers(p.Values)
	if err != nil || p.Pages == nil {
		return v, err
	}
	at, err := where(doc, p, v)
	if err != nil {
		return nil, err
	}
	v.Pages = step.Pages{Rule: step.WriteSet(at)}
	return v, nil
}

// IsNumbers reports whether p are page numbers.
func IsNumbers(p draw.Placed) bool { return p.Kind == kindNumbers }

// Number is the step "number".
type Number struct{ Values }

// NumberChange is the step "number-change".
type NumberChange struct {
	ID string `json:"id" required:"yes" help:"its id"`
	Values
}

// Apply puts the numbers on.
func (n *Number) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	id := draw.FreshID(doc, env.NewID)
	res, err := n.put(doc, env, hex.EncodeToString(id[:]))
	if err != nil {
		return nil, err
	}
	res.Sentence = fmt.Sprintf("%s numbered at the %s", step.Count(len(res.Pages), "page"), n.Edge)
	return res, nil
}

// Apply draws the numbers again with other values.
func (n *NumberChange) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if _, err := find(doc, n.ID); err != nil {
		return nil, err
	}
	res, err := n.put(doc, env, n.ID)
	if err != nil {
		return nil, err
	}
	res.Sentence = fmt.Sprintf("Page numbers changed on %s", step.Count(len(res.Pages), "page"))
	return res, nil
}

func (v *Values) put(doc *pdf.Document, env *step.Env, id string) (*step.Result, error) {
	p, err := placed(doc, env, id, kindNumbers, v, &v.Pages)
	if err != nil {
		return nil, err
	}
	return redraw(doc, env, p, v)
}

// On is the page set.
func (v *Values) On() step.Pages { return v.Pages }

// Adds: text.
func (*Values) Adds() claim.Effect { return claim.Colour }

func (v *Values) stamp() draw.Stamp {
	if v.Edge == "top" {
		return draw.Stamp{Subtype: "Header", Edge: "Top"}
	}
	return draw.Stamp{Subtype: "Footer", Edge: "Bottom"}
}

// Painter prepares the font.
func (v *Values) Painter(g *Ground) (Painter, error) {
	return newText(g.Doc, v.Font, float64(v.Size), v.Colour)
}

// Plan says what number goes where. "pages" is the number that the document's last page has or would have, so that "2 of 24"
// counts up to 24 of 24.
func (v *Values) Plan(g *Ground, at []int) (map[pdf.Ref][]Item, error) {
	if len(at) == 0 {
		return nil, nil
	}
	all, err := g.Doc.Pages()
	if err != nil {
		return nil, err
	}
	face, err := font.Face(v.Font)
	if err != nil {
		return nil, err
	}
	out := map[pdf.Ref][]Item{}
	last := v.First + len(all) - 1 - at[0]
	for _, i := range at {
		ref := all[i].Ref
		if !g.Wants(ref) {
			continue
		}
		text := v.text(v.First+i-at[0], last)
		w := width(face, text) * float64(v.Size)
		out[ref] = []Item{{Text: text, At: v.place(g.Doc.Geometry(ref), w, face), W: w, H: float64(v.Size), Stamp: v.stamp()}}
	}
	return out, nil
}

func (v *Values) text(page, pages int) string {
	var b strings.Builder
	for _, p := range v.Wording {
		switch p.Field {
		case "page":
			b.WriteString(v.figure(page))
		case "pages":
			b.WriteString(v.figure(pages))
		default:
			b.WriteString(p.Text)
		}
	}
	return b.String()
}

func (v *Values) figure(n int) string {
	if v.Figures == "i ii iii" {
		return nav.Roman(n)
	}
	return strconv.Itoa(n)
}

// width gives the width of s in ems.
func width(f *font.TrueType, s string) float64 {
	w := 0
	for _, r := range s {
		w += f.Advance(f.Glyph(r))
	}
	return float64(w) / float64(f.UnitsPerEm)
}

// place gives the matrix for a line of that width in points: its baseline stands
// Margin above the bottom, or its capitals end Margin below the top, of what is seen of
// the page, upright as it is seen.
func (v *Values) place(g pdf.Geometry, w float64, face *font.TrueType) pdf.Matrix {
	seenW, seenH := g.Seen()
	margin := float64(v.Margin)
	x := (seenW - w) / 2
	switch v.Align {
	case "left":
		x = margin
	case "right":
		x = seenW - margin - w
	}
	y := margin
	if v.Edge == "top" {
		y = seenH - margin - float64(v.Size)*float64(face.CapHeight)/float64(face.UnitsPerEm)
	}
	return pdf.Translate(x, y).Mul(draw.Upright(g))
}
