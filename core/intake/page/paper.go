package page

import (
	"fmt"
	"strings"

	"glenrain/core/pdf"
)

// Paper is a size of pages with its margins, in points.
type Paper struct {
	Width, Height            float64
	Top, Right, Bottom, Left float64
}

// mm is a millimetre in points.
const mm = pdf.MM

// A4 is the paper where neither the file nor the person says one (ISO 216), with margins of 20 mm.
var A4 = Paper{210 * mm, 297 * mm, 20 * mm, 20 * mm, 20 * mm, 20 * mm}

// Sane brings a paper into what can be set.
func (p Paper) Sane() Paper {
	clamp := func(v, low, high float64) float64 {
		if !(v >= low) { // NaN too
			return low
		}
		return min(v, high)
	}
	p.Width, p.Height = clamp(p.Width, 72, 14400), clamp(p.Height, 72, 14400)
	p.Left, p.Right = clamp(p.Left, 0, p.Width*0.45), clamp(p.Right, 0, p.Width*0.45)
	p.Top, p.Bottom = clamp(p.Top, 0, p.Height*0.45), clamp(p.Bottom, 0, p.Height*0.45)
	return p
}

// Inner is the size of what is inside the margins.
func (p Paper) Inner() (w, h float64) { return p.Width - p.Left - p.Right, p.Height - p.Top - p.Bottom }

// Rule gives the declarations of an @page rule.
func (p Paper) Rule() string {
	return fmt.Sprintf("size:%s %s;margin:%s %s %s %s", Pt(p.Width), Pt(p.Height), Pt(p.Top), Pt(p.Right), Pt(p.Bottom), Pt(p.Left))
}

// Running is what stands in the margin boxes of a page: text with fields, in three places.
type Running struct{ Left, Centre, Right []Piece }

// Piece is text of a header or footer, or a field.
type Piece struct {
	Text    string
	Field   string // "page" or "pages"
	Format  string // of its numbers: "lower-roman"
	Picture string // a CSS image
}

// Empty reports whether nothing stands there.
func (r Running) Empty() bool { return len(r.Left)+len(r.Centre)+len(r.Right) == 0 }

// Boxes gives the margin boxes for what runs along an edge, "top" or "bottom" (CSS Paged Media 3, 5), with declarations for their text.
func (r Running) Boxes(edge, style string) string {
	var b strings.Builder
	align := "bottom"
	if edge == "bottom" {
		align = "top"
	}
	for i, pieces := range [][]Piece{r.Left, r.Centre, r.Right} {
		if len(pieces) == 0 {
			continue
		}
		var c []string
		for _, p := range pieces {
			switch p.Field {
			case "page", "pages":
				f := p.Field
				if p.Format != "" {
					f += "," + p.Format
				}
				c = append(c, "counter("+f+")")
			default:
				if p.Picture != "" {
					c = append(c, p.Picture)
				} else {
					c = append(c, String(p.Text))
				}
			}
		}
		fmt.Fprintf(&b, "@%s-%s{content:%s;white-space:pre-wrap;vertical-align:%s;text-align:%s;padding:%s 0;%s}",
			edge, []string{"left", "center", "right"}[i], strings.Join(c, " "), align, []string{"left", "center", "right"}[i], Pt(6), style)
	}
	return b.String()
}

// String writes a CSS string (CSS Syntax 3, 4.3.5); it can't end the style element that it stands in.
func String(t string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range strings.ToValidUTF8(t, "\ufffd") {
		switch {
		case r == '"' || r == '\\' || r == '<' || r == '>' || r == '&' || r < 32 || r >= 0x7f && r < 0xa0:
			fmt.Fprintf(&b, "\\%x ", r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// Untotal takes the total of pages out, with the words before it, where it is; it reports whether it was.
func (r *Running) Untotal() bool {
	found := false
	for _, pieces := range []*[]Piece{&r.Left, &r.Centre, &r.Right} {
		var out []Piece
		for _, p := range *pieces {
			if p.Field == "pages" {
				found = true
				if n := len(out); n > 0 && out[n-1].Field == "" && out[n-1].Picture == "" {
					out = out[:n-1]
				}
				continue
			}
			out = append(out, p)
		}
		*pieces = out
	}
	return found
}

// NoBoxes takes away what stands in the margin boxes of the other pages.
const NoBoxes = "@top-left{content:none}@top-center{content:none}@top-right{content:none}@bottom-left{content:none}@bottom-center{content:none}@bottom-right{content:none}"
