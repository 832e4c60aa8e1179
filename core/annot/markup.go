package annot

import (
	"fmt"
	"strings"
	"time"

	"glenrain/core/pdf"
)

// Markup is a text markup annotation (12.5.6.10): text that is highlighted, underlined or struck out.
type Markup struct {
	Ref    pdf.Ref
	Kind   pdf.Name // Highlight, Underline, StrikeOut or Squiggly
	Colour [3]float64
	Quads  [][8]float64 // x and y of upper left, upper right, lower left and lower right corner, in default user space
	Author string
	Made   time.Time
}

// Markups lists those of a page, in their order.
func Markups(doc *pdf.Document, page pdf.Ref) []Markup {
	var out []Markup
	for _, r := range Refs(doc, page) {
		d := doc.Dict(r)
		m := Markup{Ref: r, Kind: doc.Name(d.Get("Subtype"))}
		switch m.Kind {
		case "Highlight", "Underline", "StrikeOut", "Squiggly":
		default:
			continue
		}
		numbers := func(k pdf.Name) (n []float64) {
			for _, o := range doc.Array(d.Get(k)) {
				v, _ := pdf.Number(doc.Resolve(o))
				n = append(n, v)
			}
			return
		}
		switch c := numbers("C"); len(c) {
		case 1:
			m.Colour = [3]float64{c[0], c[0], c[0]}
		case 3:
			copy(m.Colour[:], c)
		case 4:
			for i := range 3 {
				m.Colour[i] = (1 - c[i]) * (1 - c[3])
			}
		}
		for q := numbers("QuadPoints"); len(q) >= 8; q = q[8:] {
			m.Quads = append(m.Quads, [8]float64(q[:8]))
		}
		if s, ok := doc.Resolve(d.Get("T")).(pdf.String); ok {
			m.Author = pdf.Text(s)
		}
		out = append(out, m)
	}
	return out
}

// PutMarkup adds a text markup annotation to a page, with its appearance. id is its name in the document.
func PutMarkup(doc *pdf.Document, page pdf.Ref, m Markup, id string) pdf.Ref {
	d := pdf.NewDict("Type", pdf.Name("Annot"), "Subtype", m.Kind, "P", page, "F", pdf.Integer(4), "NM", pdf.TextString(id),
		"CreationDate", pdf.DateString(m.Made))
	if m.Author != "" {
		d.Set("T", pdf.TextString(m.Author))
	}
	ref := doc.Add(d)
	dress(doc, d, m)
	doc.Set(ref, d)
	list := append(pdf.Array{}, doc.Array(doc.Dict(page).Get("Annots"))...)
	setAnnots(doc, page, append(list, ref))
	return ref
}

// ChangeMarkup gives a text markup annotation another kind and colour.
func ChangeMarkup(doc *pdf.Document, m Markup) {
	d := doc.Edit(m.Ref)
	d.Set("Subtype", m.Kind)
	dress(doc, d, m)
}

// dress sets what an annotation of its kind looks like.
func dress(doc *pdf.Document, d *pdf.Dict, m Markup) {
	var points pdf.Array
	box := pdf.Rect{X0: m.Quads[0][0], Y0: m.Quads[0][1], X1: m.Quads[0][0], Y1: m.Quads[0][1]}
	for _, q := range m.Quads {
		for i := 0; i < 8; i += 2 {
			points = append(points, pdf.Real(q[i]), pdf.Real(q[i+1]))
			box = pdf.Rect{X0: min(box.X0, q[i]), Y0: min(box.Y0, q[i+1]), X1: max(box.X1, q[i]), Y1: max(box.Y1, q[i+1])}
		}
	}
	box = pdf.Rect{X0: box.X0 - 1, Y0: box.Y0 - 1, X1: box.X1 + 1, Y1: box.Y1 + 1} // room for the line's width
	d.Set("Rect", box.Array())
	d.Set("QuadPoints", points)
	d.Set("C", pdf.Array{pdf.Real(m.Colour[0]), pdf.Real(m.Colour[1]), pdf.Real(m.Colour[2])})
	d.Set("M", pdf.DateString(m.Made))
	d.Set("AP", pdf.NewDict("N", doc.Add(appearance(box, m))))
}

// appearance draws it: a highlight multiplies what is under it, so that the text stays dark. A program that finds blending on a page may draw
// all of the page in a group, which makes the edges of its letters a level or two lighter or darker: mutool does, whether the appearance is
// a group of its own, isolated or not, or none. Opacity in place of blending would avoid that, and fade the text under the mark.
func appearance(box pdf.Rect, m Markup) *pdf.Stream {
	var b strings.Builder
	c := m.Colour
	resources := pdf.NewDict()
	if m.Kind == "Highlight" {
		resources.Set("ExtGState", pdf.NewDict("G", pdf.NewDict("BM", pdf.Name("Multiply"))))
		fmt.Fprintf(&b, "/G gs %.4g %.4g %.4g rg\n", c[0], c[1], c[2])
	} else {
		fmt.Fprintf(&b, "%.4g %.4g %.4g RG\n", c[0], c[1], c[2])
	}
	for _, q := range m.Quads {
		if m.Kind == "Highlight" {
			fmt.Fprintf(&b, "%.3f %.3f m %.3f %.3f l %.3f %.3f l %.3f %.3f l f\n", q[4], q[5], q[6], q[7], q[2], q[3], q[0], q[1])
			continue
		}
		at := 0.12 // of the height, from below
		if m.Kind == "StrikeOut" {
			at = 0.44
		}
		height := max(abs(q[0]-q[4]), abs(q[1]-q[5]))
		x := func(i int) float64 { return q[4+i] + (q[i]-q[4+i])*at }
		fmt.Fprintf(&b, "%.3f w %.3f %.3f m %.3f %.3f l S\n", max(0.4, height*0.06), x(0), x(1), x(2), x(3))
	}
	return pdf.NewFlateStream(pdf.NewDict("Type", pdf.Name("XObject"), "Subtype", pdf.Name("Form"), "BBox", box.Array(), "Resources", resources), []byte(b.String()))
}

func abs(v float64) float64 { return max(v, -v) }

// Remove takes an annotation off a page, with the note that belongs to it, and gives both; nothing where the page has it not.
func Remove(doc *pdf.Document, page, ref pdf.Ref) []Removed {
	popup, _ := doc.Dict(ref).Get("Popup").(pdf.Ref)
	if doc.Name(doc.Dict(popup).Get("Subtype")) != "Popup" { // whatever else a file names there stays
		popup = pdf.Ref{}
	}
	var left pdf.Array
	found := false
	for _, o := range doc.Array(doc.Dict(page).Get("Annots")) {
		switch r, _ := o.(pdf.Ref); {
		case r == ref && !ref.IsZero():
			found = true
		case r == popup && !popup.IsZero():
		default:
			left = append(left, o)
		}
	}
	if !found {
		return nil
	}
	gone := []Removed{removed(doc, ref)}
	free := []pdf.Ref{ref}
	if !popup.IsZero() {
		gone, free = append(gone, removed(doc, popup)), append(free, popup)
	}
	setAnnots(doc, page, left)
	doc.Free(free...)
	return gone
}
