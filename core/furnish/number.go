package furnish

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"glenrain/core/draw"
	"glenrain/core/font"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

const kindNumbers = "numbers"

// Part is one piece of a wording: plain text, or a value.
type Part struct {
	Text  string `json:"text,omitempty"`
	Field string `json:"field,omitempty"` // "page": the page's number; "pages": the last number
}

// UnmarshalJSON reads a part afresh; it must be one of the three.
func (p *Part) UnmarshalJSON(b []byte) error {
	type plain Part
	var v plain
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&v); err != nil {
		return step.Refuse("a part of a wording is a text or a field: %v", err)
	}
	if v.Field != "" && v.Field != "page" && v.Field != "pages" || v.Field != "" && v.Text != "" {
		return step.Refuse("a part of a wording is a text, or the field page or pages")
	}
	*p = Part(v)
	return nil
}

// TypeName describes a part to those who write steps.
func (Part) TypeName() string {
	return `parts: {"text":"..."} or {"field":"page"} or {"field":"pages"}`
}

// Values are the values of page numbers.
type Values struct {
	Pages   step.Pages  `json:"pages" help:"which pages carry a number"`
	Edge    string      `json:"edge" enum:"foot,head" help:"at the foot or the head of the page"`
	Align   string      `json:"align" enum:"left,middle,right" help:"where along that edge, on the page as it is seen"`
	Wording []Part      `json:"wording" help:"what it reads"`
	Figures string      `json:"figures" enum:"1 2 3,i ii iii" help:"how numbers are written"`
	First   int         `json:"first" min:"0" max:"1000000" help:"the number of the first page that carries one; the pages after it count on, also over pages without one"`
	Face    string      `json:"face" enum:"Sans,Sans Bold,Sans Italic,Serif,Serif Bold,Serif Italic,Mono" help:"the shipped face, which is embedded"`
	Size    step.Length `json:"size" min:"2" max:"200" help:"size of the letters"`
	Colour  step.Colour `json:"colour" help:"colour of the letters"`
	Margin  step.Length `json:"margin" min:"0" max:"1000" help:"distance from the edge, and from the side where it stands left or right"`
}

func usual() Values {
	return Values{
		Pages: step.Pages{Rule: "all"}, Edge: "foot", Align: "middle", Wording: []Part{{Field: "page"}}, Figures: "1 2 3",
		First: 1, Face: "Sans", Size: 9, Colour: "slate", Margin: 12 * 72 / 25.4,
	}
}

func readValues(p draw.Placed) (*Values, error) {
	v := usual()
	if err := json.Unmarshal(p.Values, &v); err != nil {
		return nil, step.Refuse("the values of these page numbers can't be read: %v", err)
	}
	return &v, nil
}

// ReadNumbers gives the values of placed page numbers, for those who show them. Pages
// that are named singly are given as a page set of the document as it is.
func ReadNumbers(doc *pdf.Document, p draw.Placed) (*Values, error) {
	v, err := readValues(p)
	if err != nil || p.Pages == nil {
		return v, err
	}
	at, err := v.where(doc, p)
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
	ID string `json:"id" required:"yes" help:"the furnishing's id"`
	Values
}

// Apply puts the numbers on.
func (n *Number) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	id := draw.FreshID(doc, env.NewID)
	p, err := n.placed(doc, env, hex.EncodeToString(id[:]))
	if err != nil {
		return nil, err
	}
	res, err := n.redraw(doc, env, p)
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
	p, err := n.placed(doc, env, n.ID)
	if err != nil {
		return nil, err
	}
	res, err := n.redraw(doc, env, p)
	if err != nil {
		return nil, err
	}
	res.Sentence = fmt.Sprintf("Page numbers changed on %s", step.Count(len(res.Pages), "page"))
	return res, nil
}

// placed turns values into what the document keeps.
func (v *Values) placed(doc *pdf.Document, env *step.Env, id string) (draw.Placed, error) {
	p := draw.Placed{ID: id, Kind: kindNumbers}
	keep := *v
	if keep.Pages.Keys != nil {
		refs, err := keep.Pages.Refs(doc, env.Keys)
		if err != nil {
			return p, err
		}
		p.Pages, keep.Pages = refs, step.Pages{}
	}
	var err error
	p.Values, err = json.Marshal(keep)
	return p, err
}

// redraw takes off what stands on the pages, draws what the rule says now, and keeps the rule.
func (v *Values) redraw(doc *pdf.Document, env *step.Env, p draw.Placed) (*step.Result, error) {
	was, err := clear(doc, env, p.ID)
	if err != nil {
		return nil, err
	}
	want, err := v.draws(doc, p)
	if err != nil {
		return nil, err
	}
	if len(want) == 0 {
		return nil, step.Refuse("no page is chosen")
	}
	face, err := font.Face(v.Face)
	if err != nil {
		return nil, err
	}
	r, g, b, err := v.Colour.RGB()
	if err != nil {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	embedded := font.Embed(doc, face)
	resources := pdf.NewDict("Font", pdf.NewDict("F", embedded.Ref()))
	forms := map[string]pdf.Ref{}
	missing := map[rune]bool{}
	touched := map[pdf.Ref]bool{}
	for _, r := range was {
		touched[r] = true
	}
	for _, l := range all {
		pl, ok := want[l.Ref]
		if !ok {
			continue
		}
		touched[l.Ref] = true
		if !env.Wants(l.Ref) {
			continue
		}
		form, made := forms[pl.text]
		if !made {
			codes, width, lacks := embedded.Encode(pl.text)
			for _, c := range lacks {
				missing[c] = true
			}
			size := float64(v.Size)
			var c draw.Content
			c.Op("BT").Op("Tf", pdf.Name("F"), size).Op("rg", r, g, b).Op("Tj", pdf.String(codes)).Op("ET")
			up, down := float64(face.BBox[3])/float64(face.UnitsPerEm), float64(face.BBox[1])/float64(face.UnitsPerEm)
			form = draw.Form(doc, pdf.Rect{X0: -size, Y0: down * size, X1: width/1000*size + size, Y1: up * size}, resources, c.Bytes())
			forms[pl.text] = form
		}
		mark := draw.Mark{ID: p.ID, Subtype: "Footer", Edge: "Bottom", Form: form, At: pl.at, Made: pl.made()}
		if v.Edge == "head" {
			mark.Subtype, mark.Edge = "Header", "Top"
		}
		if err := draw.Put(doc, l.Ref, mark); err != nil {
			return nil, err
		}
	}
	embedded.Finish(doc)
	p.Stale = false
	if err := draw.Keep(doc, p, env.Now); err != nil {
		return nil, err
	}
	res := &step.Result{Redrawn: step.RedrawPages}
	for _, l := range all {
		if touched[l.Ref] {
			res.Pages = append(res.Pages, env.Keys.Key(l.Ref))
			if _, drawn := want[l.Ref]; drawn && res.Show.IsZero() {
				res.Show = env.Keys.Key(l.Ref)
			}
		}
	}
	for c := range missing {
		res.Warnings = append(res.Warnings, fmt.Sprintf("The face %s has no “%c”: choose another wording.", v.Face, c))
		break
	}
	return res, nil
}

// where gives the indexes of the pages that the furnishing is for.
func (v *Values) where(doc *pdf.Document, p draw.Placed) ([]int, error) {
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	if p.Pages == nil {
		return step.EvalRule(v.Pages.Rule, len(all))
	}
	in := map[pdf.Ref]bool{}
	for _, r := range p.Pages {
		in[r] = true
	}
	var at []int
	for i, l := range all {
		if in[l.Ref] {
			at = append(at, i)
		}
	}
	return at, nil
}

// draws says what number goes where: text and matrix for each page. "pages" is the number
// that the document's last page has or would have, so that "2 of 24" counts up to 24 of 24.
func (v *Values) draws(doc *pdf.Document, p draw.Placed) (map[pdf.Ref]planned, error) {
	at, err := v.where(doc, p)
	if err != nil || len(at) == 0 {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	face, err := font.Face(v.Face)
	if err != nil {
		return nil, err
	}
	out := make(map[pdf.Ref]planned, len(at))
	last := v.First + len(all) - 1 - at[0]
	for _, i := range at {
		text := v.text(v.First+i-at[0], last)
		g := doc.Geometry(all[i].Ref)
		out[all[i].Ref] = planned{text, v.place(g, width(face, text)*float64(v.Size), face)}
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
		return roman(n)
	}
	return strconv.Itoa(n)
}

// roman writes n in small Roman figures; 0 and what is over 3,999 in Arabic ones.
func roman(n int) string {
	if n < 1 || n > 3999 {
		return strconv.Itoa(n)
	}
	var b strings.Builder
	for _, d := range []struct {
		n int
		s string
	}{{1000, "m"}, {900, "cm"}, {500, "d"}, {400, "cd"}, {100, "c"}, {90, "xc"}, {50, "l"}, {40, "xl"}, {10, "x"}, {9, "ix"}, {5, "v"}, {4, "iv"}, {1, "i"}} {
		for ; n >= d.n; n -= d.n {
			b.WriteString(d.s)
		}
	}
	return b.String()
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
// Margin above the foot, or its capitals end Margin below the head, of what is seen of
// the page, upright as it is seen.
func (v *Values) place(g pdf.Geometry, w float64, face *font.TrueType) draw.Matrix {
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
	if v.Edge == "head" {
		y = seenH - margin - float64(v.Size)*float64(face.CapHeight)/float64(face.UnitsPerEm)
	}
	return draw.Translate(x, y).Mul(draw.Upright(g))
}

// Spot tells where the step of that name and parameters puts something on a page of the
// document after it: a rectangle in points from the upper left corner of the page as it
// is seen. ok is false where it puts nothing there.
func Spot(doc *pdf.Document, name string, params json.RawMessage, page pdf.Ref) (x, y, w, h float64, ok bool) {
	if name != "number" && name != "number-change" {
		return
	}
	id := struct{ ID string }{}
	_ = json.Unmarshal(params, &id) // a new one has none
	for _, p := range draw.List(doc) {
		v, err := readValues(p)
		if err != nil || id.ID != "" && p.ID != id.ID {
			continue
		}
		want, err := v.draws(doc, p)
		pl, there := want[page]
		if err != nil || !there {
			ok = false
			continue
		}
		face, err := font.Face(v.Face)
		if err != nil {
			return
		}
		g := doc.Geometry(page)
		_, seenH := g.Seen()
		m := pl.at.Mul(draw.Upright(g).Invert())
		// The last one is the newest: the one that this step put there.
		w, h, ok = width(face, pl.text)*float64(v.Size), float64(v.Size), true
		x, y = m[4], seenH-m[5]-h*0.8
	}
	return
}
