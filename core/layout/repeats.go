package layout

import (
	"math"
	"strings"
	"unicode"

	"glenrain/core/pdf"
)

// Edge is a paragraph near the upper or lower edge of a page, which may be a header or footer.
type Edge struct {
	Paragraph int
	Text      string // figures as #, so that page numbers are alike
	Y         float64
	Head      bool
}

// edgePart is how much of a page's height counts as its edge.
const edgePart = 0.12

// Edges gives the paragraphs of a page that lie near its upper or lower edge, as the page was made.
func (l *Page) Edges(visible pdf.Rect) []Edge {
	var out []Edge
	for i := range l.Paragraphs {
		p := &l.Paragraphs[i]
		if len(p.Lines) > 3 {
			continue
		}
		head := p.Box.Y0 > visible.Y1-edgePart*visible.H()
		if !head && p.Box.Y1 > visible.Y0+edgePart*visible.H() {
			continue
		}
		text := strings.Map(func(r rune) rune {
			if unicode.IsDigit(r) {
				return '#'
			}
			return r
		}, l.ParagraphText(p))
		for strings.Contains(text, "##") {
			text = strings.ReplaceAll(text, "##", "#")
		}
		if roman(text) {
			text = "#"
		}
		out = append(out, Edge{i, text, (p.Box.Y0 + p.Box.Y1) / 2, head})
	}
	return out
}

// roman reports whether text is a small Roman number alone, as front matter is numbered.
func roman(text string) bool {
	return text != "" && len(text) <= 6 && strings.Trim(text, "ivxlIVXL") == ""
}

// Repeats tells which edges of pages are headers and footers: those that stand in the same place with the same words, but for figures, on the
// next pages too, or on every second one. It gives for each page its paragraphs that are.
func Repeats(pages [][]Edge) []map[int]bool {
	out := make([]map[int]bool, len(pages))
	const near = 4.0 // points
	same := func(a, b Edge) bool {
		return a.Head == b.Head && a.Text == b.Text && math.Abs(a.Y-b.Y) <= near
	}
	for i, edges := range pages {
		for _, e := range edges {
			found := 0
			for d := 1; d <= 4; d++ {
				for _, j := range []int{i - d, i + d} {
					if j < 0 || j >= len(pages) {
						continue
					}
					for _, o := range pages[j] {
						if same(e, o) {
							found++
							break
						}
					}
				}
			}
			if found >= 2 || found == 1 && len(pages) <= 3 {
				if out[i] == nil {
					out[i] = map[int]bool{}
				}
				out[i][e.Paragraph] = true
			}
		}
	}
	return out
}

// Leave takes paragraphs out of the page's reading.
func (l *Page) Leave(paragraphs map[int]bool) {
	left := l.Paragraphs[:0]
	for i, p := range l.Paragraphs {
		if !paragraphs[i] {
			left = append(left, p)
		}
	}
	l.Paragraphs = left
}
