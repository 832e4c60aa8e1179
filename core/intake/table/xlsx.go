package table

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
	"glenrain/core/pdf"
)

// XLSX reads a workbook.
func XLSX(ctx context.Context, s *page.Sheet, r io.ReaderAt, size int64, paper page.Paper, forced bool) ([]Sheet, error) {
	p, err := pack.Open(ctx, r, size)
	if err != nil {
		return nil, err
	}
	if p.Has("xl/vbaProject.bin") {
		s.Tell("Its macros were not run and are not in the result.")
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
		w.s.Tell("Sheets with a print area show only that area.")
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
	if size, ok := pdf.Papers[paperSizes[k.setup.paper]]; ok {
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
		w.s.Tell("Some formulas could not be calculated: their cells show “?”.")
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
				w.s.Tell("Charts were left out: their values are in the cells.")
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
			w.s.Tell("Pictures on sheets are placed after their tables.")
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
