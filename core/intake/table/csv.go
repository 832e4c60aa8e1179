package table

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"glenrain/core/intake/page"
)

// separators are those that are tried, the likelier first.
var separators = []rune{',', ';', '\t', '|'}

// Separator tells what separates the values of a text: what divides its first lines into equally many fields, the more the better.
func Separator(text string) rune {
	head := text
	if len(head) > 64<<10 {
		head = head[:64<<10]
		head = head[:max(1, strings.LastIndexByte(head, '\n')+1)]
	}
	best, most := ',', 1.0
	for _, sep := range separators {
		r := reader(head, sep)
		rows, same, fields := 0, 0, 0
		for rows < 200 {
			f, err := r.Read()
			if err != nil {
				break
			}
			if rows == 0 {
				fields = len(f)
			}
			rows++
			if len(f) == fields {
				same++
			}
		}
		if rows == 0 || fields < 2 {
			continue
		}
		if score := float64(fields) * float64(same*same) / float64(rows*rows); score > most {
			best, most = sep, score
		}
	}
	return best
}

func reader(text string, sep rune) *csv.Reader {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes, r.ReuseRecord = sep, -1, true, true
	return r
}

// maxValue is the longest value of a cell, in bytes; linesOfValue is how many lines one that is longer may have.
const (
	maxValue     = 32 << 10
	linesOfValue = 100
)

func notClosed(line int) error {
	return fmt.Errorf("line %d can’t be read as separated values: a quotation mark is not closed", line)
}

// CSV reads values separated by sep (RFC 4180), found out where it is 0. The first row is a header where none of its values is
// a number, none is empty, and no two are the same.
func CSV(name, text string, sep rune, paper page.Paper) (*Sheet, error) {
	if sep == 0 {
		sep = Separator(text)
	}
	h := &Sheet{Name: name, Paper: paper, Lines: true, Fit: Legible, Styles: map[int]Style{
		0: {Size: 9, Wrap: true, Down: "top"}, 1: {Size: 9, Bold: true, Wrap: true, Fill: "#eeeeee"}}}
	r := reader(text, sep)
	cells := 0
	for {
		f, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			var at *csv.ParseError
			if errors.As(err, &at) {
				return nil, notClosed(at.StartLine)
			}
			return nil, err
		}
		row := Row{Cells: make([]Cell, len(f))}
		for i, v := range f {
			if len(v) > maxValue && strings.Count(v, "\n") > linesOfValue { // the rest of the file
				line, _ := r.FieldPos(i)
				return nil, notClosed(line)
			}
			if len(v) > maxValue {
				v = v[:maxValue]
			}
			row.Cells[i] = Cell{Text: strings.ToValidUTF8(v, "\ufffd"), Number: isNumber(v)}
		}
		if cells += len(f); cells > MaxCells || len(h.Rows) >= MaxRows {
			return nil, ErrTooMany
		}
		h.Rows = append(h.Rows, row)
	}
	if len(h.Rows) > 1 && header(h.Rows[0]) {
		h.Head = 1
		for i := range h.Rows[0].Cells {
			h.Rows[0].Cells[i].Style = 1
		}
	}
	h.natural()
	h.Footer = page.Running{Left: []page.Piece{{Text: name}}, Right: []page.Piece{{Field: "page"}, {Text: " of "}, {Field: "pages"}}}
	return h, nil
}

func header(r Row) bool {
	seen := map[string]bool{}
	for _, c := range r.Cells {
		v := strings.TrimSpace(c.Text)
		if v == "" || c.Number || seen[v] || len(v) > 120 {
			return false
		}
		seen[v] = true
	}
	return len(r.Cells) > 1
}

// isNumber reports whether a value is written as a number, in the ways that offices write them.
func isNumber(v string) bool {
	v = strings.TrimSpace(v)
	if v == "" || len(v) > 40 {
		return false
	}
	v = strings.TrimSuffix(strings.TrimLeft(v, "+-−"), "%")
	digits := 0
	for _, r := range v {
		switch {
		case r >= '0' && r <= '9':
			digits++
		case r == '.' || r == ',' || r == '\u00a0' || r == '\u202f' || r == '\'':
		case (r == 'e' || r == 'E') && digits > 0:
			_, err := strconv.ParseFloat(v, 64)
			return err == nil
		default:
			return false
		}
	}
	return digits > 0
}

// looked is how many rows are looked at for the widths of columns, widest the width that none is over by itself.
const (
	looked = 5000
	widest = 200.0
)

// natural gives columns the widths that their texts need; where that is more than the paper has, the widest give way.
func (h *Sheet) natural() {
	for i, r := range h.Rows {
		if i >= looked {
			break
		}
		for j, c := range r.Cells {
			for len(h.Columns) <= j {
				h.Columns = append(h.Columns, Column{24})
			}
			h.Columns[j].Width = max(h.Columns[j].Width, min(widest, natural(c.Text, h.Styles[c.Style])+7))
		}
	}
	w, _ := h.Paper.Sane().Inner()
	for limit := widest; h.width(0, len(h.Columns)) > w && limit > 60; limit -= 10 {
		for j := range h.Columns {
			h.Columns[j].Width = min(h.Columns[j].Width, limit)
		}
	}
}
