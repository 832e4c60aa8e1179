package table

import (
	"bytes"
	"cmp"
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"glenrain/core/convert/pack"
	"glenrain/core/convert/page"
)

// part is a worksheet's part of the package, as far as the values of its cells are not concerned (ECMA-376 part 1, 18.3).
type part struct {
	name    string
	path    string
	hidden  bool
	widths  map[int]float64 // of columns from 0 on, in points
	away    map[int]bool    // hidden columns
	usual   float64         // of the other columns
	height  float64         // of rows that say nothing
	rows    map[int]rowOf
	merged  [][4]int // rows and columns: from row, from column, to row, to column
	bare    []string // cells with a formula and no value
	styles  map[[2]int]int
	numbers map[[2]int]bool // cells whose values are numbers
	centred map[[2]int]bool
	links   map[[2]int]string // ids of relationships, or places
	breaks  map[int]bool
	columns []int // before which pages begin
	last    [2]int
	frozen  [2]int // rows and columns
	table   int    // 1 + the row of the header of a table
	drawn   bool
	fitted  bool // the sheet is to be fitted to so many pages
	setup   setup
	header  [2]string // odd header and footer
	lines   bool
}

type rowOf struct {
	height float64
	hidden bool
}

// setup is how a sheet is printed (18.3.1.63, 18.3.1.62).
type setup struct {
	paper, scale, wide, high int
	landscape                bool
	margins                  [4]float64 // top, right, bottom, left, points
}

// XLSX reads a workbook.
func XLSX(ctx context.Context, s *page.Sheet, r io.ReaderAt, size int64, paper page.Paper, forced bool) ([]Sheet, error) {
	p, err := pack.Open(ctx, r, size)
	if err != nil {
		return nil, err
	}
	if p.Has("xl/vbaProject.bin") {
		s.Tell("Macros in it were not run, and are not in the result.")
	}
	if p.Has("xl/workbook.bin") {
		return nil, fmt.Errorf("it is a workbook in binary form (xlsb): save it as xlsx in the program that wrote it")
	}
	parts, names, err := workbook(p)
	if err != nil {
		return nil, err
	}
	cells := 0
	for _, k := range parts {
		if k.hidden {
			continue
		}
		if err := k.read(p); err != nil {
			return nil, err
		}
		if cells += len(k.styles); cells > MaxCells || k.last[0] >= MaxRows && len(k.rows) >= MaxRows {
			return nil, ErrTooMany
		}
	}
	f, err := excelize.OpenReader(io.NewSectionReader(r, 0, size), excelize.Options{UnzipSizeLimit: pack.MaxAll, UnzipXMLSizeLimit: 16 << 20})
	if err != nil {
		return nil, pack.Broken(err)
	}
	defer f.Close()
	if props, err := f.GetDocProps(); err == nil {
		s.Title, s.Lang = props.Title, props.Language
	}
	w := &workbookReader{ctx: ctx, s: s, f: f, pack: p, names: names, styles: map[int]Style{}, until: time.Now().Add(calculating)}
	var out []Sheet
	for _, k := range parts {
		if k.hidden {
			s.Tell("Hidden sheets were left out.")
			continue
		}
		h, err := w.sheet(k, paper, forced)
		if err != nil {
			return nil, err
		}
		out = append(out, *h)
	}
	return out, nil
}

// calculating is how long formulas without values may be calculated.
const calculating = 20 * time.Second

// workbook lists the sheets, and the names that say what is printed, by "sheet index name" (18.2.5, 18.2.19).
func workbook(p *pack.Package) ([]*part, map[string]string, error) {
	main := "xl/workbook.xml"
	if rels, err := p.Relations(""); err == nil {
		for _, r := range rels {
			if r.Type == "officeDocument" && p.Has(r.Target) {
				main = r.Target
			}
		}
	}
	root, err := p.XML(main)
	if err != nil {
		return nil, nil, err
	}
	if root == nil {
		return nil, nil, pack.ErrDamaged
	}
	rels, err := p.Relations(main)
	if err != nil {
		return nil, nil, err
	}
	var parts []*part
	for _, n := range root.First("sheets").All("sheet") {
		parts = append(parts, &part{name: n.Attr("name"), path: rels[n.Attr("id")].Target, hidden: n.Attr("state") != "" && n.Attr("state") != "visible" || rels[n.Attr("id")].Type == "chartsheet"})
	}
	names := map[string]string{}
	for _, n := range root.First("definedNames").All("definedName") {
		if id := n.Attr("localSheetId"); id != "" {
			names[id+" "+strings.TrimPrefix(n.Attr("name"), "_xlnm.")] = n.Words()
		}
	}
	for i, k := range parts { // by the sheet's own name from here on
		for _, what := range []string{"Print_Area", "Print_Titles"} {
			if v, ok := names[strconv.Itoa(i)+" "+what]; ok {
				names[k.name+"\x00"+what] = v
			}
		}
	}
	return parts, names, nil
}

// digit is the width of a digit of the usual font, 11 points, in pixels (18.3.1.13).
const digit = 7

func columnPoints(chars float64) float64 {
	return float64(int(chars*digit+0.5)) * 0.75
}

// read goes through a worksheet's XML once, keeping little.
func (k *part) read(p *pack.Package) error {
	k.widths, k.away, k.rows, k.styles, k.numbers, k.centred = map[int]float64{}, map[int]bool{}, map[int]rowOf{}, map[[2]int]int{}, map[[2]int]bool{}, map[[2]int]bool{}
	k.links, k.breaks = map[[2]int]string{}, map[int]bool{}
	k.usual, k.height, k.last = columnPoints(8.43+0.71), 15, [2]int{-1, -1}
	k.setup = setup{paper: 0, margins: [4]float64{54, 50.4, 54, 50.4}}
	r, err := p.Reader(k.path)
	if err != nil {
		return err
	}
	if r == nil {
		return nil
	}
	defer r.Close()
	d := pack.Decoder(r)
	row, in := -1, ""
	at, formula, value := [2]int{-1, -1}, false, false
	for n := 0; ; n++ {
		t, err := d.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return pack.Broken(err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			a := attrs(t)
			switch t.Name.Local {
			case "row":
				row++
				if v, err := strconv.Atoi(a["r"]); err == nil && v > 0 {
					row = v - 1
				}
				at = [2]int{row, -1}
				h := rowOf{hidden: a["hidden"] == "1" || a["hidden"] == "true"}
				if a["ht"] != "" && (a["customHeight"] == "1" || a["customHeight"] == "true") {
					h.height = number(a["ht"])
				}
				if len(k.rows) > MaxRows {
					return ErrTooMany
				}
				if h != (rowOf{}) || a["r"] != "" {
					k.rows[row] = h
				}
			case "c":
				at = [2]int{row, at[1] + 1}
				if c, r, err := excelize.CellNameToCoordinates(a["r"]); err == nil {
					at = [2]int{r - 1, c - 1}
				}
				if v, err := strconv.Atoi(a["s"]); err == nil {
					k.styles[at] = v
				} else {
					k.styles[at] = 0
				}
				if len(k.styles) > MaxCells {
					return ErrTooMany
				}
				formula, value = false, false
				switch a["t"] {
				case "", "n", "d":
					k.numbers[at] = true
				case "b", "e":
					k.centred[at] = true
				}
			case "f":
				formula = true
			case "v", "is", "t":
				value = true
				if at[0] >= 0 {
					k.last = [2]int{max(k.last[0], at[0]), max(k.last[1], at[1])}
				}
			case "oddHeader", "oddFooter":
				in = t.Name.Local
			default:
				k.about(t.Name.Local, a)
			}
		case xml.CharData:
			switch in {
			case "oddHeader":
				k.header[0] += string(t)
			case "oddFooter":
				k.header[1] += string(t)
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "c":
				if formula && !value {
					name, err := excelize.CoordinatesToCellName(at[1]+1, at[0]+1)
					if err == nil && len(k.bare) < 200_000 {
						k.bare = append(k.bare, name)
						k.last = [2]int{max(k.last[0], at[0]), max(k.last[1], at[1])}
					}
				} else if !value {
					delete(k.numbers, at)
				}
			case "oddHeader", "oddFooter":
				in = ""
			}
		}
	}
}

func attrs(t xml.StartElement) map[string]string {
	if len(t.Attr) == 0 {
		return nil
	}
	m := make(map[string]string, len(t.Attr))
	for _, a := range t.Attr {
		m[a.Name.Local] = a.Value
	}
	return m
}

func number(s string) float64 {
	v, _ := strconv.ParseFloat(s, 64)
	return v
}

func whole(s string) int {
	v, _ := strconv.Atoi(s)
	return v
}

func yes(s string) bool { return s == "1" || s == "true" }

// about reads elements besides rows and cells.
func (k *part) about(name string, a map[string]string) {
	switch name {
	case "sheetFormatPr":
		if v := number(a["defaultColWidth"]); v > 0 {
			k.usual = columnPoints(v)
		} else if v := number(a["baseColWidth"]); v > 0 {
			k.usual = columnPoints(v + 0.71)
		}
		if v := number(a["defaultRowHeight"]); v > 0 {
			k.height = v
		}
	case "col":
		from, to := whole(a["min"])-1, whole(a["max"])-1
		for i := max(0, from); i <= min(to, 16383); i++ {
			if v := number(a["width"]); v > 0 {
				k.widths[i] = columnPoints(v)
			}
			if yes(a["hidden"]) {
				k.away[i] = true
			}
		}
	case "mergeCell":
		if m, ok := area(a["ref"]); ok && len(k.merged) < 100_000 {
			k.merged = append(k.merged, m)
		}
	case "hyperlink":
		if m, ok := area(a["ref"]); ok && len(k.links) < 100_000 {
			k.links[[2]int{m[0], m[1]}] = a["id"]
		}
	case "brk":
		if a["man"] == "" || yes(a["man"]) {
			if whole(a["max"]) > 17000 { // over all rows: a break between columns
				k.columns = append(k.columns, whole(a["id"]))
			} else {
				k.breaks[whole(a["id"])] = true
			}
		}
	case "pane":
		if a["state"] == "frozen" || a["state"] == "frozenSplit" {
			k.frozen = [2]int{int(number(a["ySplit"])), int(number(a["xSplit"]))}
		}
	case "autoFilter":
		if m, ok := area(a["ref"]); ok {
			k.table = m[0] + 1
		}
	case "drawing":
		k.drawn = true
	case "pageSetUpPr":
		k.fitted = yes(a["fitToPage"])
	case "pageMargins":
		k.setup.margins = [4]float64{number(a["top"]) * 72, number(a["right"]) * 72, number(a["bottom"]) * 72, number(a["left"]) * 72}
	case "pageSetup":
		k.setup.paper, k.setup.scale, k.setup.landscape = whole(a["paperSize"]), whole(a["scale"]), a["orientation"] == "landscape"
		k.setup.wide, k.setup.high = 1, 1
		if v, ok := a["fitToWidth"]; ok {
			k.setup.wide = whole(v)
		}
		if v, ok := a["fitToHeight"]; ok {
			k.setup.high = whole(v)
		}
	case "printOptions":
		k.lines = yes(a["gridLines"])
	}
}

// area reads a range of cells: "A1:C4", also with $ and the name of a sheet.
func area(ref string) (m [4]int, ok bool) {
	if i := strings.LastIndexByte(ref, '!'); i >= 0 {
		ref = ref[i+1:]
	}
	from, to, two := strings.Cut(strings.ReplaceAll(ref, "$", ""), ":")
	if !two {
		to = from
	}
	c1, r1, err1 := excelize.CellNameToCoordinates(from)
	c2, r2, err2 := excelize.CellNameToCoordinates(to)
	if err1 != nil || err2 != nil {
		return m, false
	}
	return [4]int{min(r1, r2) - 1, min(c1, c2) - 1, max(r1, r2) - 1, max(c1, c2) - 1}, true
}

// paperSizes are the codes of paperSize (18.3.1.63) that have a size here.
var paperSizes = map[int]string{1: "Letter", 5: "Legal", 8: "A3", 9: "A4", 11: "A5"}

type workbookReader struct {
	ctx    context.Context
	s      *page.Sheet
	f      *excelize.File
	pack   *pack.Package
	names  map[string]string
	styles map[int]Style
	until  time.Time
}

func (w *workbookReader) sheet(k *part, paper page.Paper, forced bool) (*Sheet, error) {
	h := &Sheet{Name: k.name, Styles: map[int]Style{}, Lines: k.lines, Paper: paper}
	if !forced {
		h.Paper = k.paper(paper)
	}
	switch {
	case k.fitted && k.setup.wide == 1:
		h.Fit = ToWidth
	case k.fitted && k.setup.wide == 0, len(k.columns) > 0:
		h.Fit = Spread
	case k.setup.scale > 0 && k.setup.scale != 100:
		h.Fit, h.Scale = Scaled, float64(k.setup.scale)/100
	}
	from, to := [2]int{0, 0}, k.last
	if m, ok := area(w.names[k.name+"\x00Print_Area"]); ok {
		from, to = [2]int{m[0], m[1]}, [2]int{min(m[2], max(k.last[0], m[0])), m[3]}
		w.s.Tell("Of sheets that say which part is printed, only that part was set.")
	}
	for _, m := range k.merged {
		if m[0] <= k.last[0] && m[1] <= k.last[1] {
			to = [2]int{max(to[0], min(m[2], k.last[0]+50)), max(to[1], min(m[3], k.last[1]+50))}
		}
	}
	if to[0] < from[0] || to[1] < from[1] {
		return h, w.pictures(k, h)
	}
	lines, columns := k.used(from, to) // those that are shown
	if len(lines) < to[0]-from[0]+1-k.hiddenRows(from[0], to[0]) || len(columns) < to[1]-from[1]+1-len(k.away) {
		w.s.Tell("Long runs of empty rows and columns were shortened.")
	}
	if len(lines)*len(columns) > 4*MaxCells || len(lines) > MaxRows {
		return nil, ErrTooMany
	}
	for _, j := range columns {
		h.Columns = append(h.Columns, Column{cmp.Or(k.widths[j], k.usual)})
	}
	for _, b := range k.columns {
		if i, ok := slices.BinarySearch(columns, b); ok {
			h.Breaks = append(h.Breaks, i)
		}
	}
	values, err := w.values(k, from, to)
	if err != nil {
		return nil, err
	}
	heads, sides := w.headers(k)
	for n, i := range lines {
		if n%1000 == 0 && w.ctx.Err() != nil {
			return nil, w.ctx.Err()
		}
		row := Row{Height: cmp.Or(k.rows[i].height, k.height), Break: k.breaks[i]}
		texts := values[i]
		for _, j := range columns {
			at := [2]int{i, j}
			c := Cell{Number: k.numbers[at], Centred: k.centred[at]}
			if j < len(texts) {
				c.Text = texts[j]
			}
			if st, ok := k.styles[at]; ok {
				c.Style = st
				if err := w.style(h, st); err != nil {
					return nil, err
				}
			}
			row.Cells = append(row.Cells, c)
		}
		h.Rows = append(h.Rows, row)
		if i < heads {
			h.Head++
		}
	}
	for _, j := range columns {
		if j < sides {
			h.Sides++
		}
	}
	k.merge(h, lines, columns)
	if err := w.link(k, h, lines, columns); err != nil {
		return nil, err
	}
	h.Header, h.Footer = running(k.header[0], k.name, w.s.Title), running(k.header[1], k.name, w.s.Title)
	return h, w.pictures(k, h)
}

// paper is what the sheet is printed on, where it says so.
func (k *part) paper(usual page.Paper) page.Paper {
	p := usual
	if size, ok := page.Papers[paperSizes[k.setup.paper]]; ok {
		p.Width, p.Height = size[0], size[1]
	}
	if k.setup.landscape {
		p.Width, p.Height = p.Height, p.Width
	}
	m := k.setup.margins
	p.Top, p.Right, p.Bottom, p.Left = max(m[0], 28), max(m[1], 14), max(m[2], 28), max(m[3], 14)
	return p
}

// headers tells how many rows at the top and columns at the left are headers: those that are repeated in print, those that are frozen, or
// the row that a table or a filter begins with.
func (w *workbookReader) headers(k *part) (rows, columns int) {
	for ref := range strings.SplitSeq(w.names[k.name+"\x00Print_Titles"], ",") {
		if i := strings.LastIndexByte(ref, '!'); i >= 0 {
			ref = ref[i+1:]
		}
		_, to, ok := strings.Cut(strings.ReplaceAll(ref, "$", ""), ":")
		if !ok {
			continue
		}
		if v, err := strconv.Atoi(to); err == nil {
			rows = v
		} else if v, err := excelize.ColumnNameToNumber(to); err == nil {
			columns = v
		}
	}
	if rows == 0 && columns == 0 {
		rows, columns = k.frozen[0], k.frozen[1]
	}
	if rows == 0 {
		rows = k.table
		if tables, err := w.f.GetTables(k.name); rows == 0 && err == nil && len(tables) > 0 {
			if m, ok := area(tables[0].Range); ok && (tables[0].ShowHeaderRow == nil || *tables[0].ShowHeaderRow) {
				rows = m[0] + 1
			}
		}
	}
	return min(rows, 40), min(columns, 10)
}

// values gives the values of cells as they are shown, by row. Formulas without a value are calculated.
func (w *workbookReader) values(k *part, from, to [2]int) (map[int][]string, error) {
	out := map[int][]string{}
	rows, err := w.f.Rows(k.name)
	if err != nil {
		return nil, pack.Broken(err)
	}
	defer rows.Close()
	for i := 0; i <= to[0] && rows.Next(); i++ {
		if i%1000 == 0 && w.ctx.Err() != nil {
			return nil, w.ctx.Err()
		}
		texts, err := rows.Columns()
		if err != nil {
			return nil, pack.Broken(err)
		}
		if i >= from[0] && len(texts) > 0 {
			out[i] = texts[:min(len(texts), to[1]+1)]
		}
	}
	failed := 0
	for _, name := range k.bare {
		c, r, err := excelize.CellNameToCoordinates(name)
		if err != nil || r-1 < from[0] || r-1 > to[0] || c-1 > to[1] {
			continue
		}
		v := ""
		if failed < 100 && time.Now().Before(w.until) && w.ctx.Err() == nil {
			v, err = w.f.CalcCellValue(k.name, name)
		} else {
			err = context.DeadlineExceeded
		}
		if err != nil {
			failed++
		}
		if err != nil && v == "" {
			v = "?"
		}
		texts := out[r-1]
		if c > len(texts) {
			texts = append(texts, make([]string, c-len(texts))...)
		}
		texts[c-1] = v
		out[r-1] = texts
		if isNumber(v) {
			k.numbers[[2]int{r - 1, c - 1}] = true
		}
	}
	if failed > 0 {
		w.s.Tell("Some formulas without a value could not be calculated: “?” stands in their cells.")
	}
	return out, nil
}

// merge makes cells span others (18.3.1.55).
func (k *part) merge(h *Sheet, rows, columns []int) {
	for _, m := range k.merged {
		r1, r2 := lower(rows, m[0]), lower(rows, m[2]+1)
		c1, c2 := lower(columns, m[1]), lower(columns, m[3]+1)
		if r1 >= r2 || c1 >= c2 || c1 >= len(h.Rows[r1].Cells) {
			continue
		}
		c := &h.Rows[r1].Cells[c1]
		if c.Covered || r2-r1 == 1 && c2-c1 == 1 {
			continue
		}
		c.Rows, c.Cols = r2-r1, c2-c1
		for i := r1; i < r2; i++ {
			for j := c1; j < min(c2, len(h.Rows[i].Cells)); j++ {
				h.Rows[i].Cells[j].Covered = i > r1 || j > c1
			}
		}
	}
}

// longGap is how many empty rows or columns are shown one after another.
const longGap = 40

// used gives the numbers of rows and columns that are shown: those that have cells, and gaps between them as far as they are not long.
func (k *part) used(from, to [2]int) (rows, columns []int) {
	full := [2]map[int]bool{{}, {}}
	for at := range k.styles {
		full[0][at[0]], full[1][at[1]] = true, true
	}
	for _, name := range k.bare {
		if c, r, err := excelize.CellNameToCoordinates(name); err == nil {
			full[0][r-1], full[1][c-1] = true, true
		}
	}
	list := func(full map[int]bool, from, to int, hidden func(int) bool) (out []int) {
		var at []int
		for i := range full {
			if i >= from && i <= to {
				at = append(at, i)
			}
		}
		at = append(at, from, to)
		slices.Sort(at)
		last := from - 1
		for _, i := range at {
			if i-last > longGap {
				last = i - 2
			}
			for last < i {
				last++
				if !hidden(last) {
					out = append(out, last)
				}
			}
		}
		return out
	}
	rows = list(full[0], from[0], to[0], func(i int) bool { return k.rows[i].hidden })
	return rows, list(full[1], from[1], to[1], func(j int) bool { return k.away[j] })
}

func (k *part) hiddenRows(from, to int) (n int) {
	for i, r := range k.rows {
		if r.hidden && i >= from && i <= to {
			n++
		}
	}
	return n
}

func lower(list []int, v int) int { i, _ := slices.BinarySearch(list, v); return i }

func (w *workbookReader) link(k *part, h *Sheet, rows, columns []int) error {
	if len(k.links) == 0 {
		return nil
	}
	rels, err := w.pack.Relations(k.path)
	if err != nil {
		return err
	}
	for at, id := range k.links {
		i, there := slices.BinarySearch(rows, at[0])
		j, here := slices.BinarySearch(columns, at[1])
		if there && here && rels[id].External {
			h.Rows[i].Cells[j].Link = rels[id].Target
		}
	}
	return nil
}

// pictures gathers those of a sheet, which are set after its table.
func (w *workbookReader) pictures(k *part, h *Sheet) error {
	if !k.drawn {
		return nil
	}
	rels, err := w.pack.Relations(k.path)
	if err != nil {
		return err
	}
	for _, r := range rels {
		if r.Type != "drawing" {
			continue
		}
		d, err := w.pack.XML(r.Target)
		if err != nil {
			return err
		}
		images, err := w.pack.Relations(r.Target)
		if err != nil {
			return err
		}
		for _, anchor := range d.Nodes() {
			if anchor.Find("chart") != nil {
				w.s.Tell("Charts were left out: their values stand in the cells.")
			}
			pic := anchor.Find("pic")
			if pic == nil {
				continue
			}
			data, err := w.pack.Read(images[pic.Find("blip").Attr("embed")].Target)
			if err != nil {
				return err
			}
			about := pic.Find("cNvPr")
			ext := pic.Find("xfrm").First("ext")
			h.Figures = append(h.Figures, Figure{Data: data, Alt: cmp.Or(about.Attr("descr"), about.Attr("title")), Width: number(ext.Attr("cx")) / 12700})
			w.s.Tell("Pictures of sheets stand after their tables.")
		}
	}
	return nil
}

// running reads the code of a header or footer (18.3.1.39).
func running(code, sheet, title string) (r page.Running) {
	if code == "" {
		return r
	}
	at := &r.Centre
	text := ""
	flush := func() {
		if text != "" {
			*at = append(*at, page.Piece{Text: text})
		}
		text = ""
	}
	for i := 0; i < len(code); i++ {
		if code[i] != '&' || i+1 == len(code) {
			text += string(code[i])
			continue
		}
		i++
		switch c := code[i]; c {
		case 'L', 'C', 'R':
			flush()
			at = map[byte]*[]page.Piece{'L': &r.Left, 'C': &r.Centre, 'R': &r.Right}[c]
		case 'P', 'N':
			flush()
			*at = append(*at, page.Piece{Field: map[byte]string{'P': "page", 'N': "pages"}[c]})
		case 'A':
			text += sheet
		case 'F':
			text += title
		case '&':
			text += "&"
		case '"': // the name of a font
			if end := strings.IndexByte(code[i+1:], '"'); end >= 0 {
				i += end + 1
			}
		case 'K': // a colour of six digits
			i = min(len(code)-1, i+6)
		default: // a size; bold, italic and the like; date, time and path, which belong to the moment and place of printing
			for c >= '0' && c <= '9' && i+1 < len(code) && code[i+1] >= '0' && code[i+1] <= '9' {
				i++
			}
		}
	}
	flush()
	return r
}

// borderStyles are the styles of lines (18.18.3) by excelize's numbers.
var borderStyles = map[int]string{1: ".5pt solid", 2: "1pt solid", 3: ".5pt dashed", 4: ".5pt dotted", 5: "1.5pt solid", 6: "1.5pt double", 7: ".5pt dotted",
	8: "1pt dashed", 9: ".5pt dashed", 10: "1pt dashed", 11: ".5pt dotted", 12: "1pt dotted", 13: "1pt dashed"}

// style reads a style of cells once.
func (w *workbookReader) style(h *Sheet, id int) error {
	if _, ok := h.Styles[id]; ok {
		return nil
	}
	if st, ok := w.styles[id]; ok {
		h.Styles[id] = st
		return nil
	}
	var st Style
	x, err := w.f.GetStyle(id)
	if err == nil && x != nil {
		st = w.styleOf(x)
	}
	w.styles[id], h.Styles[id] = st, st
	return nil
}

func (w *workbookReader) styleOf(x *excelize.Style) (st Style) {
	st.Down = "bottom"
	if f := x.Font; f != nil {
		family, factor := w.s.Stand(f.Family)
		st.Family, st.Size = family, cmp.Or(f.Size, 11)*factor
		st.Bold, st.Italic, st.Strike, st.Underline = f.Bold, f.Italic, f.Strike, f.Underline != "" && f.Underline != "none"
		if c := page.Colour(w.f.GetBaseColor(f.Color, f.ColorIndexed, f.ColorTheme)); c != "" && c != "#000000" {
			st.Colour = tinted(c, f.ColorTint)
		}
	}
	if x.Fill.Type == "pattern" && x.Fill.Pattern > 0 && len(x.Fill.Color) > 0 {
		st.Fill = page.Colour(x.Fill.Color[0])
	} else if x.Fill.Type == "gradient" && len(x.Fill.Color) > 1 {
		st.Fill = page.Colour(x.Fill.Color[1])
	}
	if a := x.Alignment; a != nil {
		st.Across = map[string]string{"left": "left", "center": "center", "right": "right", "justify": "justify", "distributed": "justify", "centerContinuous": "center"}[a.Horizontal]
		st.Down = cmp.Or(map[string]string{"top": "top", "center": "middle", "justify": "top"}[a.Vertical], "bottom")
		st.Wrap, st.Indent = a.WrapText || a.Horizontal == "justify", a.Indent
	}
	for _, b := range x.Border {
		i := slices.Index([]string{"top", "right", "bottom", "left"}, b.Type)
		if line := borderStyles[b.Style]; i >= 0 && line != "" {
			st.Borders[i] = line + " " + cmp.Or(page.Colour(b.Color), "#000000")
		}
	}
	return st
}

// tinted makes a colour lighter or darker (18.8.19).
func tinted(c string, tint float64) string {
	if tint == 0 || len(c) != 7 {
		return c
	}
	var b bytes.Buffer
	b.WriteByte('#')
	for i := 1; i < 7; i += 2 {
		v, _ := strconv.ParseUint(c[i:i+2], 16, 8)
		f := float64(v)
		if tint < 0 {
			f *= 1 + max(-1, tint)
		} else {
			f += (255 - f) * min(1, tint)
		}
		fmt.Fprintf(&b, "%02x", uint8(f+0.5))
	}
	return b.String()
}
