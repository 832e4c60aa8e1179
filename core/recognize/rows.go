package recognize

import (
	"cmp"
	"math"
	"slices"
)

// Cells of tables: blocks of lines of a few words each, which stand in rows.
const (
	fewWords  = 3.2
	leastRows = 3
	manyCells = 2.5 // cells in a row, by which it is a table
	fewRows   = 5   // rows of two cells, by which it is one
)

// byRows puts the lines of tables in order that were read column by column: row by row, as they are meant to be read. Columns of running text stay as they are.
func byRows(lines []Line) []Line {
	short := func(from, to int) bool {
		n := 0
		for _, l := range lines[from:to] {
			n += len(l.Words)
		}
		return float64(n) <= fewWords*float64(to-from)
	}
	for from := 0; from < len(lines); {
		to := from
		for to < len(lines) { // as many blocks as are short
			end := to + 1
			for end < len(lines) && lines[end].block == lines[to].block {
				end++
			}
			if !short(to, end) {
				if to == from {
					from, to = end, end
				}
				break
			}
			to = end
		}
		if to > from {
			sortRows(lines[from:to])
			from = to
		}
	}
	return lines
}

// sortRows puts the lines of some blocks into rows, where they stand so.
func sortRows(lines []Line) {
	if len(lines) < 2*leastRows {
		return
	}
	sin, cos := math.Sincos(lines[0].Angle * math.Pi / 180)
	type placed struct {
		at, row int
		u, v    float64
	}
	list := make([]placed, len(lines))
	for i, l := range lines {
		if math.Abs(l.Angle-lines[0].Angle) > sameWay {
			return
		}
		w := l.Words[0]
		list[i] = placed{at: i, u: w.X*cos + w.Y*sin, v: w.Y*cos - w.X*sin}
	}
	slices.SortStableFunc(list, func(a, b placed) int { return cmp.Compare(b.v, a.v) })
	rows, cells, row := 0, 0, 0
	for from := 0; from < len(list); {
		to := from + 1
		for to < len(list) && list[from].v-list[to].v < 0.45*lines[list[from].at].Size {
			to++
		}
		for i := from; i < to; i++ {
			list[i].row = row
		}
		row++
		if to-from > 1 {
			rows, cells = rows+1, cells+to-from
		}
		from = to
	}
	if rows < leastRows || cells*10 < 6*len(lines) {
		return
	}
	if float64(cells) < manyCells*float64(rows) && (rows < fewRows || cells*10 < 8*len(lines)) {
		return
	}
	slices.SortStableFunc(list, func(a, b placed) int { return cmp.Or(cmp.Compare(a.row, b.row), cmp.Compare(a.u, b.u)) })
	was := slices.Clone(lines)
	for i, p := range list {
		lines[i] = was[p.at]
	}
}
