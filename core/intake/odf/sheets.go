package odf

import (
	"cmp"
	"context"
	"io"
	"strconv"
	"strings"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
	"glenrain/core/intake/table"
)

// workbook is a workbook being read.
type workbook struct {
	*document
	ids   map[string]int // of styles of cells
	cells int
}

// Sheets reads a workbook. Its cells hold what they show, beside their values (9.1.4).
func Sheets(ctx context.Context, s *page.Sheet, r io.ReaderAt, size int64, paper page.Paper, forced bool) ([]table.Sheet, error) {
	d, err := open(ctx, s, r, size)
	if err != nil {
		return nil, err
	}
	body := d.body.First("spreadsheet")
	if body == nil {
		return nil, pack.ErrDamaged
	}
	w := &workbook{document: d, ids: map[string]int{}}
	var out []table.Sheet
	for _, n := range body.All("table") {
		chain := d.chain("table", n.Attr("style-name"))
		h := table.Sheet{Name: n.Attr("name"), Styles: map[int]table.Style{}}
		if d.prop(chain, "table-properties", "display") == "false" {
			s.Tell("Hidden sheets were left out.")
			continue
		}
		master := d.first
		for _, c := range chain {
			master = cmp.Or(c.Attr("master-page-name"), master)
		}
		h.Paper = d.paper(master, paper, forced)
		m := d.masters[master]
		d.sheetName = h.Name
		h.Header, h.Footer = d.running(m.First("header")), d.running(m.First("footer"))
		lp := d.layouts[m.Attr("page-layout-name")].First("page-layout-properties")
		h.Lines = strings.Contains(lp.Attr("print"), "grid")
		if scale, ok := strings.CutSuffix(lp.Attr("scale-to"), "%"); ok && scale != "100" {
			v, _ := strconv.ParseFloat(scale, 64)
			h.Fit, h.Scale = table.Scaled, v/100
		}
		if lp.Attr("scale-to-X") == "1" || lp.Attr("scale-to-pages") == "1" {
			h.Fit = table.ToWidth
		}
		if err := w.sheet(n, &h); err != nil {
			return nil, err
		}
		out = append(out, h)
	}
	return out, nil
}

// maxRepeat is how often an empty row or column is taken that stands before others.
const maxRepeat = 2000

// column is a column with the style that its cells have.
type column struct {
	width  float64
	hidden bool
	style  string
	head   bool
}

func (w *workbook) sheet(n *pack.Node, h *table.Sheet) error {
	var columns []column
	var gather func(n *pack.Node, head bool, depth int)
	gather = func(n *pack.Node, head bool, depth int) {
		for _, c := range n.Nodes() {
			switch c.Name {
			case "table-columns", "table-column-group", "table-header-columns":
				if depth < 20 {
					gather(c, head || c.Name == "table-header-columns", depth+1)
				}
			case "table-column":
				k, _ := strconv.Atoi(c.Attr("number-columns-repeated"))
				wd := pt(w.prop(w.chain("table-column", c.Attr("style-name")), "table-column-properties", "column-width"))
				for range min(max(1, k), maxRepeat) {
					if len(columns) < 16384 {
						columns = append(columns, column{cmp.Or(wd, 64), c.Attr("visibility") == "collapse" || c.Attr("visibility") == "filter", c.Attr("default-cell-style-name"), head})
					}
				}
			}
		}
	}
	gather(n, false, 0)
	r := &rowReader{w: w, h: h, columns: columns}
	if err := r.rows(n, false, 0); err != nil {
		return err
	}
	// Columns and rows behind the last with something in it are not set.
	used := 0
	for _, row := range h.Rows {
		for j, c := range row.Cells {
			if c.Text != "" {
				used = max(used, j+max(1, c.Cols))
			}
		}
	}
	for i := range h.Rows {
		h.Rows[i].Cells = h.Rows[i].Cells[:min(len(h.Rows[i].Cells), used)]
	}
	for len(h.Rows) > r.filled {
		h.Rows = h.Rows[:len(h.Rows)-1]
	}
	at := make([]int, 0, len(columns)) // where columns come to stand without the hidden ones
	for j := 0; j < min(used, len(columns)); j++ {
		at = append(at, len(h.Columns))
		if !columns[j].hidden {
			h.Columns = append(h.Columns, table.Column{Width: columns[j].width})
			if columns[j].head && len(h.Columns) == h.Sides+1 {
				h.Sides++
			}
		}
	}
	if len(h.Columns) < len(at) {
		for i := range h.Rows {
			var cells []table.Cell
			for j, c := range h.Rows[i].Cells {
				if j < len(columns) && !columns[j].hidden {
					cells = append(cells, c)
				}
			}
			h.Rows[i].Cells = cells
		}
	}
	return nil
}

// rowReader reads rows.
type rowReader struct {
	w       *workbook
	h       *table.Sheet
	columns []column
	filled  int // rows up to the last with something in it
}

func (r *rowReader) rows(n *pack.Node, head bool, depth int) error {
	for _, k := range n.Nodes() {
		switch k.Name {
		case "table-rows", "table-row-group", "table-header-rows":
			if depth > 20 {
				return pack.ErrTooDeep
			}
			if err := r.rows(k, head || k.Name == "table-header-rows", depth+1); err != nil {
				return err
			}
		case "table-row":
			if err := r.row(k, head); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *rowReader) row(k *pack.Node, head bool) error {
	w := r.w
	if len(r.h.Rows)%500 == 0 && w.ctx.Err() != nil {
		return w.ctx.Err()
	}
	if v := k.Attr("visibility"); v == "collapse" || v == "filter" {
		return nil
	}
	chain := w.chain("table-row", k.Attr("style-name"))
	row := table.Row{Break: w.prop(chain, "table-row-properties", "break-before") == "page"}
	if w.prop(chain, "table-row-properties", "use-optimal-row-height") == "false" {
		row.Height = pt(w.prop(chain, "table-row-properties", "row-height"))
	}
	full := false
	for _, c := range k.Nodes() {
		if c.Name != "table-cell" && c.Name != "covered-table-cell" {
			continue
		}
		n, _ := strconv.Atoi(c.Attr("number-columns-repeated"))
		n = max(1, n)
		cell, something, err := r.cell(c, len(row.Cells))
		if err != nil {
			return err
		}
		full = full || something
		if !something && n > 200 { // to the edge of the sheet
			n = min(n, 1)
		}
		for range min(n, maxRepeat) {
			row.Cells = append(row.Cells, cell)
		}
	}
	times, _ := strconv.Atoi(k.Attr("number-rows-repeated"))
	times = max(1, times)
	if !full {
		times = min(times, maxRepeat)
	}
	for range times {
		if w.cells += len(row.Cells); w.cells > table.MaxCells || len(r.h.Rows) >= table.MaxRows {
			if !full {
				return nil
			}
			return table.ErrTooMany
		}
		copied := row
		copied.Cells = append([]table.Cell(nil), row.Cells...)
		r.h.Rows = append(r.h.Rows, copied)
		if full {
			r.filled = len(r.h.Rows)
		}
	}
	if head && len(r.h.Rows) == r.h.Head+times {
		r.h.Head += times
	}
	return nil
}

func (r *rowReader) cell(c *pack.Node, at int) (out table.Cell, something bool, err error) {
	w := r.w
	if c.Name == "covered-table-cell" {
		return table.Cell{Covered: true}, false, nil
	}
	var lines []string
	for _, p := range c.All("p") {
		lines = append(lines, plain(p, 0))
		if a := p.Find("a"); a != nil {
			out.Link = a.Attr("href")
		}
	}
	out.Text = strings.Join(lines, "\n")
	switch c.Attr("value-type") {
	case "float", "percentage", "currency", "date", "time":
		out.Number = true
	case "boolean":
		out.Centred = true
	}
	if out.Text == "" && c.Attr("value") != "" {
		out.Text = c.Attr("value")
	}
	out.Cols, _ = strconv.Atoi(c.Attr("number-columns-spanned"))
	out.Rows, _ = strconv.Atoi(c.Attr("number-rows-spanned"))
	out.Cols, out.Rows = min(out.Cols, 16384), min(out.Rows, table.MaxRows)
	name := c.Attr("style-name")
	if name == "" && at < len(r.columns) {
		name = r.columns[at].style
	}
	out.Style = w.style(r.h, name)
	if c.First("annotation") != nil {
		w.s.Tell("Comments were left out.")
	}
	for _, f := range c.All("frame") {
		if img := f.First("image"); img != nil && len(r.h.Figures) < 500 {
			data, err := w.pack.Read(strings.TrimPrefix(img.Attr("href"), "./"))
			if err != nil {
				return out, false, err
			}
			r.h.Figures = append(r.h.Figures, table.Figure{Data: data, Alt: cmp.Or(strings.TrimSpace(f.First("desc").Words()), strings.TrimSpace(f.First("title").Words())), Width: pt(f.Attr("width"))})
			w.s.Tell("Pictures on sheets are placed after their tables.")
		}
		if f.First("object") != nil {
			w.s.Tell("Charts were left out: their values are in the cells.")
		}
	}
	return out, out.Text != "" || out.Cols > 1, nil
}

// plain gives the text of a paragraph of a cell.
func plain(n *pack.Node, depth int) string {
	var b strings.Builder
	for _, k := range n.Kids {
		switch k.Name {
		case "":
			b.WriteString(k.Text)
		case "s":
			c, _ := strconv.Atoi(k.Attr("c"))
			b.WriteString(strings.Repeat(" ", min(200, max(1, c))))
		case "tab":
			b.WriteByte(' ')
		case "line-break":
			b.WriteByte('\n')
		case "annotation", "note":
		default:
			if depth < 50 {
				b.WriteString(plain(k, depth+1))
			}
		}
	}
	return b.String()
}

// style gives the number of a style of cells.
func (w *workbook) style(h *table.Sheet, name string) int {
	id, ok := w.ids[name]
	if !ok {
		id = len(w.ids) + 1
		w.ids[name] = id
	}
	if _, ok := h.Styles[id]; ok {
		return id
	}
	chain := w.chain("table-cell", name)
	text := func(p string) string { return w.prop(chain, "text-properties", p) }
	cell := func(p string) string { return w.prop(chain, "table-cell-properties", p) }
	st := table.Style{Down: "bottom", Wrap: cell("wrap-option") == "wrap", Fill: page.Colour(cell("background-color"))}
	family, factor := w.s.Stand(cmp.Or(w.fonts[text("font-name")], text("font-family")))
	st.Family, st.Size = family, cmp.Or(pt(text("font-size")), 10)*factor
	st.Bold, st.Italic = text("font-weight") == "bold", text("font-style") == "italic"
	if u := text("text-underline-style"); u != "" && u != "none" {
		st.Underline = true
	}
	if u := text("text-line-through-style"); u != "" && u != "none" {
		st.Strike = true
	}
	if c := page.Colour(text("color")); c != "#000000" {
		st.Colour = c
	}
	if w.prop(chain, "table-cell-properties", "text-align-source") != "value-type" {
		st.Across = map[string]string{"start": "left", "left": "left", "center": "center", "end": "right", "right": "right", "justify": "justify"}[w.prop(chain, "paragraph-properties", "text-align")]
	}
	st.Down = cmp.Or(map[string]string{"top": "top", "middle": "middle"}[cell("vertical-align")], "bottom")
	for i, side := range []string{"top", "right", "bottom", "left"} {
		st.Borders[i] = line(cmp.Or(cell("border-"+side), cell("border")))
	}
	h.Styles[id] = st
	return id
}
