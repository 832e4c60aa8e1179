package layout

import (
	"cmp"
	"context"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"glenrain/core/content"
	"glenrain/core/pdf"
)

// Heading is a paragraph that looks like a heading.
type Heading struct {
	Page  int // index from 0
	Text  string
	Level int     // 1 is the top
	Top   float64 // of its first line, in default user space
}

// Limits of what makes a heading.
const (
	largerBy     = 1.12 // than the text, to be a heading by its size
	mostHeading  = 160  // characters
	headingLines = 3
	headingBold  = 600 // weight
	maxHeadings  = 20_000
	sameStyle    = 0.04 // sizes that differ by less are one style
)

// line is a paragraph of a page as Headings gathers it.
type headingLine struct {
	Text string  `json:"t"`
	Size float64 `json:"s"`
	Bold bool    `json:"b,omitempty"`
	Top  float64 `json:"y"`
	Edge string  `json:"e,omitempty"` // what it reads near the edge of the page, figures as #
	At   float64 `json:"a,omitempty"`
}

// headingPage is what Headings gathers of a page.
type headingPage struct {
	Letters map[int]int   `json:"l"` // by tenths of a point; negative where they are bold
	Lines   []headingLine `json:"h,omitempty"`
}

// Headings finds the headings of a document: short paragraphs that are set larger than the text, or as large and bold where the text is not. Their levels
// are told by size and weight, the largest first; there are no more than levels. Headers and footers, and cells of tables, are none.
// report, where set, is told how many pages are read.
func Headings(ctx context.Context, doc *pdf.Document, pages []pdf.Ref, levels int, report func(done int)) ([]Heading, error) {
	all := make([]headingPage, len(pages))
	letters := map[int]int{}
	err := Pages(ctx, doc, pages, content.Options{NoAnnotations: true}, 1, func(_ int, l *Page, b []byte) []byte {
		out, err := json.Marshal(l.headingPage())
		if err != nil { // sizes that are no numbers
			return b
		}
		return append(b, out...)
	}, func(i int, b []byte) error {
		if len(b) > 0 {
			if err := json.Unmarshal(b, &all[i]); err != nil {
				return err
			}
		}
		for k, n := range all[i].Letters {
			letters[k] += n
		}
		if report != nil {
			report(i + 1)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	body, bold, most := 0.0, false, 0
	sizes := map[int]int{}
	for k, n := range letters {
		sizes[max(k, -k)] += n
	}
	for k, n := range sizes {
		if n > most || n == most && float64(k)/10 < body {
			most, body = n, float64(k)/10
		}
	}
	at := int(math.Round(body * 10))
	bold = letters[-at] > letters[at]
	edges := make([][]Edge, len(all))
	for i, p := range all {
		for k, h := range p.Lines {
			if h.Edge != "" {
				edges[i] = append(edges[i], Edge{Paragraph: k, Text: h.Edge, Y: h.At, Head: true})
			}
		}
	}
	repeated := Repeats(edges)
	var out []Heading
	var styles []style
	var of []style
	for i, p := range all {
		for k, h := range p.Lines {
			if repeated[i][k] || len(out) >= maxHeadings {
				continue
			}
			larger := h.Size >= largerBy*body
			if !larger && !(h.Bold && !bold && h.Size >= 0.97*body) {
				continue
			}
			s := style{h.Size, h.Bold}
			of = append(of, s)
			if !slices.ContainsFunc(styles, s.like) {
				styles = append(styles, s)
			}
			out = append(out, Heading{Page: i, Text: h.Text, Top: h.Top})
		}
	}
	slices.SortFunc(styles, func(a, b style) int {
		if !a.alike(b) {
			return cmp.Compare(b.size, a.size)
		}
		return cmp.Compare(weight(b.bold), weight(a.bold))
	})
	if len(styles) > levels { // what stands in rare sizes at the end of the list is left out
		styles = styles[:levels]
	}
	kept := out[:0]
	for i, h := range out {
		if k := slices.IndexFunc(styles, of[i].like); k >= 0 {
			h.Level = k + 1
			kept = append(kept, h)
		}
	}
	for i := range kept { // no level is left out on the way down
		top := 1
		if i > 0 {
			top = kept[i-1].Level + 1
		}
		kept[i].Level = min(kept[i].Level, top)
	}
	return kept, nil
}

// style is how a heading is set.
type style struct {
	size float64
	bold bool
}

func (s style) alike(o style) bool { return math.Abs(s.size-o.size) <= sameStyle*max(s.size, o.size) }
func (s style) like(o style) bool  { return s.alike(o) && s.bold == o.bold }

func weight(bold bool) int {
	if bold {
		return 1
	}
	return 0
}

// headingPage gathers what may be headings on a page, and how its text is set.
func (l *Page) headingPage() headingPage {
	out := headingPage{Letters: map[int]int{}}
	edges := map[int]Edge{}
	for _, e := range l.Edges(l.visible) {
		edges[e.Paragraph] = e
	}
	for i := range l.Paragraphs {
		p := &l.Paragraphs[i]
		letters, bold := 0, 0
		for _, n := range p.Lines {
			for _, w := range l.Lines[n].Words {
				word := &l.Words[w]
				c := utf8.RuneCountInString(l.Text(word))
				letters += c
				if word.Font != nil && word.Font.Style.Weight >= headingBold {
					bold += c
				}
			}
		}
		key := int(math.Round(p.Size * 10))
		if bold*2 > letters {
			key = -key
		}
		if key != 0 && p.Size < 1000 {
			out.Letters[key] += letters
		}
		if p.Cell || len(p.Lines) > headingLines || p.Size < 1 || p.Size > 1000 {
			continue
		}
		text := strings.Join(strings.Fields(l.ParagraphText(p)), " ")
		if n := utf8.RuneCountInString(text); n < 2 || n > mostHeading || !strings.ContainsFunc(text, unicode.IsLetter) {
			continue
		}
		h := headingLine{Text: text, Size: math.Round(p.Size*10) / 10, Bold: bold*10 > letters*8, Top: p.Box.Y1}
		if e, ok := edges[i]; ok {
			h.Edge, h.At = e.Text, e.Y
		}
		out.Lines = append(out.Lines, h)
	}
	return out
}

// Standing gives the short paragraphs of one page that are set larger, or bolder, than most of its text, from the top: what may be its headings.
func Standing(l *Page, most int) []Heading {
	p := l.headingPage()
	sizes := map[int]int{}
	bolds := 0
	letters := 0
	for k, n := range p.Letters {
		sizes[max(k, -k)] += n
		letters += n
		if k < 0 {
			bolds += n
		}
	}
	body, top := 0, 0
	for k, n := range sizes {
		if n > top || n == top && k < body {
			body, top = k, n
		}
	}
	bold := bolds*2 > letters
	var out []Heading
	for _, h := range p.Lines {
		if h.Size*10 >= largerBy*float64(body) || h.Bold && !bold && h.Size*10 >= 0.97*float64(body) {
			out = append(out, Heading{Text: h.Text, Level: 1, Top: h.Top})
		}
		if len(out) == most {
			break
		}
	}
	return out
}
