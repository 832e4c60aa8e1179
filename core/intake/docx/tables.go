package docx

import (
	"cmp"
	"strconv"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
)

// cell is one of a table, with the columns it spans.
type cell struct {
	n          *pack.Node
	at, cols   int
	rows       int
	continued  bool // vertically merged with the one above
	rowSpanned bool
}

// maxColumns is the most columns of a table.
const maxColumns = 200

// table writes a table (17.4).
func (d *reader) table(n *pack.Node) error {
	var widths []float64
	for _, g := range n.First("tblGrid").All("gridCol") {
		if len(widths) < maxColumns {
			widths = append(widths, twips(g.Attr("w")))
		}
	}
	rows, heads := tableRows(n)
	tblPr := n.First("tblPr")
	st := d.styles[tblPr.First("tblStyle").Attr("val")]
	lines := d.tableLines(tblPr, st)
	css, total := tableStyle(tblPr, widths)
	d.s.Raw("<table", d.s.Class(css), ">")
	if total > 0 {
		d.s.Raw("<colgroup>")
		for _, w := range widths {
			d.s.Raw(`<col style="width:`, strconv.FormatFloat(w/total*100, 'f', 2, 64), `%">`)
		}
		d.s.Raw("</colgroup>")
	}
	last, around := d.lists(), d.around
	defer func() { d.around = around }()
	for chain, at := 0, st; at != nil && chain < 10; chain, at = chain+1, d.styles[at.basedOn] {
		if pPr := at.table.First("pPr"); pPr != nil {
			d.para(&d.around, pPr)
			break
		}
	}
	head := 0
	for head < len(heads) && heads[head] {
		head++
	}
	if head == len(heads) {
		head = 0
	}
	firstRow := tblPr.First("tblLook").Attr("firstRow") == "1" && st.conditional("firstRow") != nil
	for i, row := range rows {
		switch {
		case i == 0 && head > 0:
			d.s.Raw("<thead>")
		case i == head && head > 0:
			d.s.Raw("</thead><tbody>")
		case i == 0:
			d.s.Raw("<tbody>")
		}
		d.s.Raw("<tr>")
		if len(row) > 0 && row[0].at > 0 {
			d.s.Raw(`<td colspan="`, strconv.Itoa(row[0].at), `" style="border:none"></td>`)
		}
		for _, c := range row {
			if c.rowSpanned {
				continue
			}
			if err := d.cell(c, i < head, i == 0 && firstRow, st, tblPr, lines); err != nil {
				return err
			}
		}
		d.s.Raw("</tr>")
	}
	if len(rows) == 0 {
		d.s.Raw("<tbody><tr><td></td></tr>")
	}
	d.s.Raw("</tbody></table>")
	d.levels = last
	return nil
}

// tableRows reads the rows of a table, and which of them are heads; cells that are merged with the one above are counted there.
func tableRows(n *pack.Node) (rows [][]cell, heads []bool) {
	for _, tr := range flat(n.Nodes(), 0) {
		if tr.Name != "tr" {
			continue
		}
		at, _ := strconv.Atoi(tr.First("trPr", "gridBefore").Attr("val"))
		at = min(max(at, 0), maxColumns)
		var cells []cell
		for _, tc := range flat(tr.Nodes(), 0) {
			if tc.Name != "tc" {
				continue
			}
			cols, _ := strconv.Atoi(tc.First("tcPr", "gridSpan").Attr("val"))
			cols = min(max(cols, 1), maxColumns)
			c := cell{n: tc, at: at, cols: cols, rows: 1}
			if m := tc.First("tcPr", "vMerge"); m != nil && m.Attr("val") != "restart" {
				c.continued = true
			}
			cells = append(cells, c)
			if at += cols; at > maxColumns {
				break
			}
		}
		rows = append(rows, cells)
		heads = append(heads, on(tr.First("trPr", "tblHeader")))
	}
	above := map[int]*cell{}
	for i := range rows {
		for j := range rows[i] {
			c := &rows[i][j]
			if up := above[c.at]; c.continued && up != nil && up.cols == c.cols {
				up.rows++
				c.rowSpanned = true
				continue
			}
			above[c.at] = c
		}
	}
	return rows, heads
}

// tableStyle gives where a table stands and how wide it is, and the width of all its columns in points.
func tableStyle(tblPr *pack.Node, widths []float64) (css string, total float64) {
	switch tblPr.First("jc").Attr("val") {
	case "center":
		css = "margin-left:auto;margin-right:auto"
	case "right", "end":
		css = "margin-left:auto"
	default:
		if ind := twips(tblPr.First("tblInd").Attr("w")); ind > 0 {
			css = "margin-left:" + page.Pt(ind)
		}
	}
	for _, w := range widths {
		total += w
	}
	if w := tblPr.First("tblW"); w.Attr("type") == "pct" {
		css = join(css, "width:100%")
	} else if total > 0 {
		layout := "auto" // columns grow with words that are longer
		if tblPr.First("tblLayout").Attr("type") == "fixed" {
			layout = "fixed"
		}
		css = join(css, "table-layout:"+layout+";max-width:100%;width:"+page.Pt(total))
	}
	return css, total
}

// lists puts open lists aside while a table is written.
func (d *reader) lists() []level {
	was := d.levels
	d.levels = nil
	return was
}

// conditional gives what a style of tables says of a part of them (17.7.6).
func (st *style) conditional(part string) *pack.Node {
	if st == nil {
		return nil
	}
	for _, c := range st.table.All("tblStylePr") {
		if c.Attr("type") == part {
			return c
		}
	}
	return nil
}

// tableLines gives the lines of a table by their places.
func (d *reader) tableLines(tblPr *pack.Node, st *style) map[string]string {
	out := map[string]string{}
	read := func(n *pack.Node) {
		for _, b := range n.Nodes() {
			name := map[string]string{"start": "left", "end": "right"}[b.Name]
			out[cmp.Or(name, b.Name)] = border(b)
		}
	}
	for range 10 {
		if st == nil {
			break
		}
		if n := st.table.First("tblPr", "tblBorders"); n != nil {
			read(n)
			break
		}
		st = d.styles[st.basedOn]
	}
	read(tblPr.First("tblBorders"))
	return out
}

func (d *reader) cell(c cell, head, firstRow bool, st *style, tblPr *pack.Node, lines map[string]string) error {
	tcPr := c.n.First("tcPr")
	var decl []string
	// Lines collapse, so that those inside and those at the edges can be said cell by cell; the table's own edges are drawn by its outer cells.
	for _, side := range []string{"top", "right", "bottom", "left"} {
		line := lines[side]
		if v := lines[map[string]string{"top": "insideH", "bottom": "insideH", "left": "insideV", "right": "insideV"}[side]]; v != "" && v != "none" {
			line = v
		}
		for _, b := range tcPr.First("tcBorders").Nodes() {
			if b.Name == side || b.Name == "start" && side == "left" || b.Name == "end" && side == "right" {
				line = border(b)
			}
		}
		if line != "" && line != "none" {
			decl = append(decl, "border-"+side, line)
		}
	}
	fill := page.Colour(tcPr.First("shd").Attr("fill"))
	var p props
	if firstRow {
		cond := st.conditional("firstRow")
		d.run(&p, cond.First("rPr"))
		fill = cmp.Or(fill, page.Colour(cond.First("tcPr", "shd").Attr("fill")))
	}
	if fill != "" {
		decl = append(decl, "background", fill)
	}
	if v := tcPr.First("vAlign").Attr("val"); v != "" {
		decl = append(decl, "vertical-align", map[string]string{"center": "middle", "bottom": "bottom"}[v])
	}
	pad := [4]float64{0, 5.4, 0, 5.4}
	for i, side := range []string{"top", "right", "bottom", "left"} {
		for _, from := range []*pack.Node{tblPr.First("tblCellMar", side), tcPr.First("tcMar", side)} {
			if from != nil {
				pad[i] = min(60, max(0, twips(from.Attr("w"))))
			}
		}
	}
	decl = append(decl, "padding", page.Pt(pad[0])+" "+page.Pt(pad[1])+" "+page.Pt(pad[2])+" "+page.Pt(pad[3]))
	css := d.css(p, false)
	for i := 0; i+1 < len(decl); i += 2 {
		if decl[i+1] != "" {
			css = join(css, decl[i]+":"+decl[i+1])
		}
	}
	tag := "td"
	attrs := d.s.Class(css)
	if head || firstRow {
		tag = "th"
		attrs += ` scope="col"`
	}
	if c.cols > 1 {
		attrs += ` colspan="` + strconv.Itoa(c.cols) + `"`
	}
	if c.rows > 1 {
		attrs += ` rowspan="` + strconv.Itoa(c.rows) + `"`
	}
	d.s.Raw("<", tag, attrs, ">")
	if err := d.story(flat(c.n.Nodes(), 0)); err != nil {
		return err
	}
	d.s.Raw("</", tag, ">")
	return nil
}
