package layout

import (
	"math"
	"slices"
	"strings"

	"glenrain/core/content"
	"glenrain/core/pdf"
)

// Table is a grid of cells: of rules that are drawn, or of words that stand in rows and columns.
type Table struct {
	Box   pdf.Rect
	Ruled bool
	Rows  [][]string // the text of each cell; "" where there is none
	X, Y  []float64  // of a ruled table: its upright rules from the left, its level ones from below
}

// Copied gives the text in a rectangle on the page for copying: the cells of a ruled table as its rules have them, else
// what stands in rows and columns as Frame sees it.
func (l *Page) Copied(r pdf.Rect) string {
	for _, t := range l.Tables() {
		w, h := min(t.Box.X1, r.X1)-max(t.Box.X0, r.X0), min(t.Box.Y1, r.Y1)-max(t.Box.Y0, r.Y0)
		if !t.Ruled || w <= 0 || h <= 0 || w*h < 0.6*r.W()*r.H() {
			continue
		}
		var b strings.Builder
		for i, row := range t.Rows {
			k := len(t.Y) - 2 - i
			if y := (t.Y[k] + t.Y[k+1]) / 2; y < r.Y0 || y > r.Y1 {
				continue
			}
			if b.Len() > 0 {
				b.WriteByte('\n')
			}
			first := true
			for c, cell := range row {
				if x := (t.X[c] + t.X[c+1]) / 2; x < r.X0 || x > r.X1 {
					continue
				}
				if !first {
					b.WriteByte('\t')
				}
				first = false
				b.WriteString(cell)
			}
		}
		return b.String()
	}
	return l.Frame(r)
}

// Tables finds the tables of a page.
func (l *Page) Tables() []Table {
	var out []Table
	for _, g := range grids(l.Source.Rules) {
		t := Table{Ruled: true, X: g.x, Y: g.y, Box: pdf.Rect{X0: g.x[0], Y0: g.y[0], X1: g.x[len(g.x)-1], Y1: g.y[len(g.y)-1]}}
		any := false
		for r := len(g.y) - 2; r >= 0; r-- { // from the top
			row := make([]string, len(g.x)-1)
			for c := range row {
				row[c] = strings.ReplaceAll(l.Frame(pdf.Rect{X0: g.x[c], Y0: g.y[r], X1: g.x[c+1], Y1: g.y[r+1]}), "\n", " ")
				row[c] = strings.ReplaceAll(row[c], "\t", " ")
				any = any || row[c] != ""
			}
			t.Rows = append(t.Rows, row)
		}
		if any {
			out = append(out, t)
		}
	}
	// By alignment: blocks of cells that lie in no ruled table.
	for i := 0; i < len(l.Paragraphs); {
		if !l.Paragraphs[i].Cell {
			i++
			continue
		}
		j := i
		t := Table{}
		row := -1
		starts := l.columns(l.Paragraphs[i].Block)
		for ; j < len(l.Paragraphs) && l.Paragraphs[j].Cell && l.Paragraphs[j].Block == l.Paragraphs[i].Block; j++ {
			p := &l.Paragraphs[j]
			line := &l.Lines[p.Lines[0]]
			if line.row != row {
				t.Rows = append(t.Rows, make([]string, len(starts)))
				row = line.row
			}
			at := 0
			for at+1 < len(starts) && line.U0 >= starts[at+1]-0.1*line.Size {
				at++
			}
			t.Rows[len(t.Rows)-1][at] = strings.TrimSpace(t.Rows[len(t.Rows)-1][at] + " " + l.ParagraphText(p))
			t.Box = around(t.Box, p.Box)
		}
		inside := slices.ContainsFunc(out, func(o Table) bool {
			return o.Ruled && o.Box.X0 < t.Box.X1 && o.Box.X1 > t.Box.X0 && o.Box.Y0 < t.Box.Y1 && o.Box.Y1 > t.Box.Y0
		})
		if !inside {
			out = append(out, t)
		}
		i = j
	}
	return out
}

// columns gives where the columns of a block of cells begin: behind gaps that no cell stands over.
func (l *Page) columns(block int) []float64 {
	var spans [][2]float64
	size := 1.0
	for i := range l.Paragraphs {
		if p := &l.Paragraphs[i]; p.Cell && p.Block == block {
			for _, k := range p.Lines {
				spans = append(spans, [2]float64{l.Lines[k].U0, l.Lines[k].U1})
				size = l.Lines[k].Size
			}
		}
	}
	slices.SortFunc(spans, func(a, b [2]float64) int {
		if a[0] < b[0] {
			return -1
		}
		return 1
	})
	var starts []float64
	end := math.Inf(-1)
	for _, s := range spans {
		if s[0]-end > 0.3*size {
			starts = append(starts, s[0])
		}
		end = max(end, s[1])
	}
	return starts
}

// grid is where rules cross: x from the left, y from below; and the rules themselves.
type grid struct {
	x, y            []float64
	across, upright []rule
}

// rule is a straight line along an axis, from a to b at a place on the other axis.
type rule struct{ at, a, b float64 }

const (
	sameAt  = 1.5 // points: lines that lie closer are one
	leastAt = 4.0 // cells are larger
)

// grids joins the rules of a page that cross into grids.
func grids(rules []content.Rule) []grid {
	var across, upright []rule
	for _, r := range rules {
		if r.Upright {
			upright = append(upright, rule{r.At, r.A, r.B})
		} else {
			across = append(across, rule{r.At, r.A, r.B})
		}
	}
	across, upright = joinRules(across), joinRules(upright)
	// Rules that cross belong together.
	group := make([]int, len(across)+len(upright))
	for i := range group {
		group[i] = i
	}
	var root func(i int) int
	root = func(i int) int {
		if group[i] != i {
			group[i] = root(group[i])
		}
		return group[i]
	}
	for i, h := range across {
		for j, v := range upright {
			if v.at > h.a-sameAt && v.at < h.b+sameAt && h.at > v.a-sameAt && h.at < v.b+sameAt {
				group[root(i)] = root(len(across) + j)
			}
		}
	}
	byRoot := map[int]*grid{}
	var order []int
	for i, h := range across {
		r := root(i)
		if byRoot[r] == nil {
			byRoot[r] = &grid{}
			order = append(order, r)
		}
		byRoot[r].y = append(byRoot[r].y, h.at)
		byRoot[r].across = append(byRoot[r].across, h)
	}
	for j, v := range upright {
		if g := byRoot[root(len(across)+j)]; g != nil {
			g.x = append(g.x, v.at)
			g.upright = append(g.upright, v)
		}
	}
	var out []grid
	for _, r := range order {
		g := byRoot[r]
		g.x, g.y = distinct(g.x), distinct(g.y)
		if len(g.x) > 2 && len(g.y) > 1 || len(g.x) > 1 && len(g.y) > 2 {
			out = append(out, *g)
		}
	}
	return out
}

// joinRules puts pieces of one line together.
func joinRules(list []rule) []rule {
	slices.SortFunc(list, func(a, b rule) int {
		if math.Abs(a.at-b.at) > sameAt/2 {
			if a.at < b.at {
				return -1
			}
			return 1
		}
		if a.a < b.a {
			return -1
		}
		return 1
	})
	var out []rule
	for _, r := range list {
		if n := len(out); n > 0 && math.Abs(out[n-1].at-r.at) <= sameAt && r.a <= out[n-1].b+sameAt {
			out[n-1].b = max(out[n-1].b, r.b)
			continue
		}
		out = append(out, r)
	}
	return out
}

// distinct sorts places and drops those that are nearly the same.
func distinct(v []float64) []float64 {
	slices.Sort(v)
	var out []float64
	for _, x := range v {
		if len(out) == 0 || x-out[len(out)-1] > leastAt/2 {
			out = append(out, x)
		}
	}
	return out
}
