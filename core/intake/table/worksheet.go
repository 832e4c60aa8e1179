package table

import (
	"encoding/xml"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"

	"glenrain/core/intake/pack"
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
