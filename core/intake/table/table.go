// Package table sets sheets of cells: of spreadsheets (ECMA-376 SpreadsheetML; OpenDocument) and of values separated by commas. A sheet
// becomes a table with its columns' widths, merged cells, header rows that are repeated on each page, fitted to the width of
// its paper or spread over pages side by side, as the file or the person says.
package table

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"glenrain/core/intake/page"
)

// Sheet is one sheet of cells.
type Sheet struct {
	Name    string
	Hidden  bool
	Columns []Column
	Rows    []Row
	Styles  map[int]Style
	Head    int // how many rows at the top are headers, repeated on each page
	Sides   int // how many columns at the left are headers
	Paper   page.Paper
	Fit     Fit
	Scale   float64 // of the file's own, where Fit is Scaled: 1 is as large as stated
	Header  page.Running
	Footer  page.Running
	Lines   bool  // lines between all cells, also where no style says so
	Breaks  []int // columns before which a page begins
	Figures []Figure
}

// Column is one with its width in points.
type Column struct{ Width float64 }

// Row is one with its height in points; 0 for as high as its text.
type Row struct {
	Height float64
	Cells  []Cell // as many as there are columns, or fewer
	Break  bool   // a page begins with it
}

// Cell is one with what it shows.
type Cell struct {
	Text       string
	Style      int
	Cols, Rows int // how many it spans, where more than one
	Covered    bool
	Link       string
	Number     bool // stands at the right where its style says nothing
	Centred    bool // true and false, and errors
}

// Style is the look of cells.
type Style struct {
	Bold, Italic, Underline, Strike bool
	Family                          string // of page's
	Size                            float64
	Colour, Fill                    string
	Across, Down                    string // left, right, center, justify; top, middle, bottom
	Wrap                            bool
	Indent                          int
	Borders                         [4]string // top, right, bottom, left: "1pt solid #000000"
}

// Figure is a picture of a sheet.
type Figure struct {
	Data          []byte
	Alt           string
	Width, Height float64 // points; 0 for its own
}

// Fit says how a sheet's width goes with that of the paper.
type Fit int

// Ways to fit.
const (
	Legible Fit = iota // fitted as long as it can be read, on the paper's other side if that helps, and otherwise spread
	ToWidth            // all columns on one page, however small
	Spread             // as large as stated, over pages side by side
	Scaled             // as the file's own scale says, over pages side by side
)

// Limits of what is set.
const (
	MaxCells = 300_000
	MaxRows  = 30_000
	// longCells is how many cells a sheet may have that is set in one run.
	longCells = 8000
	// least is the smallest scale at which a sheet can be read.
	least = 0.6
	// smallest is that at which it is set at all.
	smallest = 0.1
)

// ErrTooMany: there are more cells than can be set.
var ErrTooMany = errors.New("it has more cells than can be set as pages (300,000, in 30,000 rows): print it in parts from the program that wrote it")

// Write writes sheets, each beginning on a page of its own. They are headings where there are several.
func Write(ctx context.Context, s *page.Sheet, sheets []Sheet) error {
	s.CSS("table{table-layout:fixed}td,th{padding:1.5pt 2.5pt;vertical-align:bottom;font-weight:400;text-align:left;overflow-wrap:anywhere;line-height:1.2}h2{font:700 12pt %s;margin:0 0 6pt}", s.Family(page.Sans))
	s.CSS("table.lines td,table.lines th{border:.5pt solid #b9c0b9}.o{white-space:nowrap;overflow:visible}figure{margin:12pt 0;break-inside:avoid}")
	shown := 0
	for i := range sheets {
		if !sheets[i].Hidden && (len(sheets[i].Rows) > 0 || len(sheets[i].Figures) > 0) {
			shown++
		}
	}
	if shown == 0 {
		s.Raw("<p>This file has no cells with anything in them.</p>")
		return nil
	}
	n := 0
	for i := range sheets {
		h := &sheets[i]
		if h.Hidden || len(h.Rows) == 0 && len(h.Figures) == 0 {
			continue
		}
		n++
		if err := h.write(ctx, s, n, shown > 1); err != nil {
			return err
		}
	}
	return nil
}

func (h *Sheet) write(ctx context.Context, s *page.Sheet, no int, titled bool) error {
	h.pad()
	scale, parts, paper := h.layOut()
	name := fmt.Sprintf("s%d", no)
	run := "font:8pt " + s.Family(page.Sans)
	long := len(h.Rows)*len(h.Columns) > longCells
	if long {
		s.Cut()
		if h.Header.Untotal() || h.Footer.Untotal() {
			s.Tell("In a table this long, headers and footers show the page number without the total.")
		}
		defer s.Cut()
	}
	s.CSS("@page %s{%s;%s%s}.%s{page:%s%s}", name, paper.Rule(), h.Header.Boxes("top", run), h.Footer.Boxes("bottom", run), name, name,
		map[bool]string{true: ";break-before:page"}[no > 1])
	for id, st := range h.Styles {
		s.CSS(".%s td.x%d,.%s th.x%d{%s}", name, id, name, id, st.css(s, scale))
	}
	s.Raw(`<section class="`, name, `">`)
	if titled {
		s.Raw("<h2>", page.Escape(h.Name), "</h2>")
	}
	inner, _ := paper.Inner()
	for i, p := range parts {
		if err := h.part(ctx, s, p, scale, i > 0, inner, long); err != nil {
			return err
		}
		if long {
			s.Raw("</section>")
			s.Cut()
			s.Raw(`<section class="`, name, `">`)
		}
	}
	for _, f := range h.Figures {
		src := s.Picture(f.Data)
		if src == "" {
			s.Tell("A picture of a kind that can't be shown was left out.")
			continue
		}
		st := ""
		if f.Width > 0 {
			st = page.Style("width", page.Pt(f.Width))
		}
		s.Raw("<figure><img", page.Attr("src", src), page.Attr("alt", f.Alt), st, "></figure>")
	}
	s.Raw("</section>")
	return nil
}

// pad gives each row a cell for each column as far as cells reach.
func (h *Sheet) pad() {
	n := len(h.Columns)
	for _, r := range h.Rows {
		n = max(n, len(r.Cells))
	}
	for len(h.Columns) < n {
		h.Columns = append(h.Columns, Column{48})
	}
	h.Head = min(h.Head, len(h.Rows))
	if h.Head == len(h.Rows) && h.Head > 1 {
		h.Head = 1
	}
	h.Sides = min(h.Sides, n)
	for i := range h.Rows { // numbers are never cut: their columns are as wide as they need
		for j := range h.Rows[i].Cells {
			c := &h.Rows[i].Cells[j]
			if c.Text == "" || c.Cols > 1 || c.Covered || h.Columns[j].Width == 0 {
				continue
			}
			need := natural(c.Text, h.Styles[c.Style]) + 6
			if !c.Number { // and words are broken only where they are far too long
				need = min(2*h.Columns[j].Width, longestWord(c.Text, h.Styles[c.Style])+6)
			}
			h.Columns[j].Width = max(h.Columns[j].Width, need)
		}
	}
}

// natural is about how wide a text is that is not broken, in points.
func natural(text string, st Style) float64 {
	longest := 0.0
	for line := range strings.SplitSeq(text, "\n") {
		n := 0.0
		for _, r := range line {
			switch {
			case r < 0x370: // Latin
				n += 0.54
			case r < 0x1100:
				n += 0.7
			default: // most of them as wide as they are high
				n++
			}
		}
		longest = max(longest, n)
	}
	w := longest * cmp.Or(st.Size, 10)
	if st.Bold {
		w *= 1.08
	}
	return w
}

func longestWord(text string, st Style) (w float64) {
	for word := range strings.FieldsSeq(text) {
		w = max(w, natural(word, st))
	}
	return w
}

// span is a run of columns.
type span struct{ from, to int }

func (h *Sheet) width(from, to int) (w float64) {
	for _, c := range h.Columns[from:to] {
		w += c.Width
	}
	return w
}

// layOut decides on scale, on the columns of each page, and on how the paper lies.
func (h *Sheet) layOut() (scale float64, parts []span, paper page.Paper) {
	paper = h.Paper.Sane()
	total := h.width(0, len(h.Columns))
	fits := func(p page.Paper) float64 {
		w, _ := p.Inner()
		return min(1, w/max(total, 1))
	}
	turned := paper
	turned.Width, turned.Height, turned.Top, turned.Right, turned.Bottom, turned.Left = paper.Height, paper.Width, paper.Left, paper.Top, paper.Right, paper.Bottom
	all := []span{{0, len(h.Columns)}}
	switch h.Fit {
	case ToWidth:
		return max(smallest, fits(paper)), all, paper
	case Legible:
		switch {
		case fits(paper) >= 0.8:
			return fits(paper), all, paper
		case fits(turned) >= least && fits(turned) > fits(paper):
			return fits(turned), all, turned
		case fits(paper) >= least:
			return fits(paper), all, paper
		}
		scale = 0.8
	case Scaled:
		scale = min(4, max(smallest, h.Scale))
	default:
		scale = 1
	}
	w, _ := paper.Inner()
	w /= scale
	sides := h.width(0, h.Sides)
	if sides > w/2 {
		sides, h.Sides = 0, 0
	}
	for at := 0; at < len(h.Columns); {
		to := at
		sum := 0.0
		if at > 0 {
			sum = sides
		}
		for to < len(h.Columns) && (to == at || sum+h.Columns[to].Width <= w+0.5) && (to == at || !h.breaksAt(to)) {
			sum += h.Columns[to].Width
			to++
		}
		if to < len(h.Columns) {
			to = h.uncut(at, to)
		}
		parts = append(parts, span{at, to})
		at = to
	}
	return scale, parts, paper
}

func (h *Sheet) breaksAt(col int) bool {
	for _, b := range h.Breaks {
		if b == col {
			return true
		}
	}
	return false
}

// uncut moves the end of a part back so that no merged cell of its header rows is cut.
func (h *Sheet) uncut(from, to int) int {
	best := to
	for _, r := range h.Rows[:h.Head] {
		for j, c := range r.Cells {
			if c.Cols > 1 && j < to && j+c.Cols > to && j > from {
				best = min(best, j)
			}
		}
	}
	return best
}

// part writes the table of some columns; those after the first repeat the header columns.
func (h *Sheet) part(ctx context.Context, s *page.Sheet, p span, scale float64, repeat bool, inner float64, long bool) error {
	reaches := 0 // the row behind the last that a cell above reaches into
	columns := make([]int, 0, p.to-p.from+h.Sides)
	if repeat {
		for j := range h.Sides {
			columns = append(columns, j)
		}
	}
	for j := max(p.from, len(columns)); j < p.to; j++ {
		columns = append(columns, j)
	}
	w := 0.0
	for _, j := range columns {
		w += h.Columns[j].Width
	}
	room := max(0, inner/scale-w)
	class := ""
	if h.Lines {
		class = ` class="lines"`
	}
	next := ""
	if repeat {
		next = ";break-before:page"
	}
	s.Raw("<table", class, ` style="width:`, page.Pt(w*scale), next, `"><colgroup>`)
	for _, j := range columns {
		s.Raw(`<col style="width:`, page.Pt(h.Columns[j].Width*scale), `">`)
	}
	s.Raw("</colgroup>")
	if h.Head > 0 {
		s.Raw("<thead>")
	} else {
		s.Raw("<tbody>")
	}
	for i, r := range h.Rows {
		if i%500 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if s.Over() {
			return ErrTooMany
		}
		if i == h.Head && i > 0 {
			s.Raw("</thead><tbody>")
		}
		if long && i >= h.Head {
			s.Row(i == h.Head, i < reaches)
			for _, c := range r.Cells {
				reaches = max(reaches, i+c.Rows)
			}
		}
		style := ""
		if r.Height > 0 {
			style += "height:" + page.Pt(r.Height*scale)
		}
		if r.Break && i > 0 {
			style += ";break-before:page"
		}
		s.Raw("<tr")
		if style != "" {
			s.Raw(` style="`, strings.TrimPrefix(style, ";"), `"`)
		}
		s.Raw(">")
		for _, j := range columns {
			h.cell(s, r, i, j, p, columns, scale, room)
		}
		s.Raw("</tr>")
	}
	if long {
		s.Rows()
	}
	if h.Head == len(h.Rows) && h.Head > 0 {
		s.Raw("</thead></table>")
	} else {
		s.Raw("</tbody></table>")
	}
	return nil
}

func (h *Sheet) cell(s *page.Sheet, r Row, i, j int, p span, columns []int, scale, room float64) {
	if j >= len(r.Cells) {
		s.Raw("<td></td>")
		return
	}
	c := r.Cells[j]
	if c.Covered {
		return
	}
	tag := "td"
	var attrs strings.Builder
	switch {
	case i < h.Head:
		tag = "th"
		attrs.WriteString(` scope="col"`)
	case j < h.Sides && c.Text != "":
		tag = "th"
		attrs.WriteString(` scope="row"`)
	}
	if c.Cols > 1 {
		attrs.WriteString(` colspan="` + strconv.Itoa(min(c.Cols, columns[len(columns)-1]-j+1)) + `"`)
	}
	if c.Rows > 1 {
		n := c.Rows
		if i < h.Head {
			n = min(n, h.Head-i)
		}
		attrs.WriteString(` rowspan="` + strconv.Itoa(min(n, len(h.Rows)-i)) + `"`)
	}
	st := h.Styles[c.Style]
	class := ""
	if _, ok := h.Styles[c.Style]; ok {
		class = "x" + strconv.Itoa(c.Style)
	}
	if c.Text != "" && !st.Wrap && c.Cols < 2 && h.spills(r, j, p, st, c, room) {
		class += " o"
	}
	if class != "" {
		attrs.WriteString(` class="` + strings.TrimSpace(class) + `"`)
	}
	if st.Across == "" && (c.Number || c.Centred) {
		attrs.WriteString(page.Style("text-align", map[bool]string{true: "right", false: "center"}[c.Number]))
	}
	s.Raw("<", tag, attrs.String(), ">")
	text := strings.ReplaceAll(page.Escape(c.Text), "\n", "<br>")
	if to := page.Link(c.Link); to != "" && c.Text != "" {
		text = "<a" + page.Attr("href", to) + ">" + text + "</a>"
	}
	s.Raw(text, "</", tag, ">")
}

// spills reports whether a text goes on over the empty cells beside it: it does if they are wide enough; otherwise it is broken,
// so that nothing of it is cut off.
func (h *Sheet) spills(r Row, j int, p span, st Style, c Cell, room float64) bool {
	need := natural(c.Text, st) + 5
	if need <= h.Columns[j].Width {
		return true
	}
	if c.Number || st.Across == "right" || st.Across == "center" || strings.Contains(c.Text, "\n") {
		return false
	}
	have := h.Columns[j].Width
	for k := j + 1; k <= p.to; k++ {
		if k == p.to { // what the paper has beside the table
			have += room
			break
		}
		if k < len(r.Cells) && (r.Cells[k].Text != "" || r.Cells[k].Covered) {
			break
		}
		have += h.Columns[k].Width
	}
	return need <= have
}

func (st Style) css(s *page.Sheet, scale float64) string {
	size := cmp.Or(st.Size, 10)
	decl := []string{"font-family", s.Family(cmp.Or(st.Family, page.Sans)), "font-size", page.Pt(math.Max(1, size*scale))}
	add := func(on bool, name, value string) {
		if on {
			decl = append(decl, name, value)
		}
	}
	add(st.Bold, "font-weight", "700")
	add(st.Italic, "font-style", "italic")
	line := strings.TrimSpace(map[bool]string{true: "underline "}[st.Underline] + map[bool]string{true: "line-through"}[st.Strike])
	add(line != "", "text-decoration", line)
	add(st.Colour != "", "color", st.Colour)
	add(st.Fill != "", "background", st.Fill)
	add(st.Across != "", "text-align", st.Across)
	add(st.Down != "", "vertical-align", st.Down)
	add(st.Indent > 0, "padding-left", page.Pt(float64(st.Indent)*8*scale+2.5))
	for i, side := range []string{"top", "right", "bottom", "left"} {
		add(st.Borders[i] != "", "border-"+side, st.Borders[i])
	}
	return page.Declarations(decl...)
}
