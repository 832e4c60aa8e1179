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

// Tables finds the tables of a page. Ruled ones need a page that was read with its paths.
func (l *Page) Tables() []Table {
	var out []Table
	for _, g := range grids(l.Source) {
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

// grid is where rules cross: x from the left, y from below.
type grid struct{ x, y []float64 }

// rule is a straight line along an axis, from a to b at a place on the other axis.
type rule struct{ at, a, b float64 }

const (
	thin    = 2.5 // points: a filled rectangle that is thinner is a line
	sameAt  = 1.5 // lines that lie closer are one
	leastAt = 4.0 // cells are larger
)

// grids gathers the rules that are drawn and joins those that cross into grids.
func grids(p *content.Page) []grid {
	var across, upright []rule
	line := func(x0, y0, x1, y1 float64) {
		switch {
		case math.Abs(y0-y1) < 0.5 && math.Abs(x1-x0) > leastAt:
			across = append(across, rule{(y0 + y1) / 2, min(x0, x1), max(x0, x1)})
		case math.Abs(x0-x1) < 0.5 && math.Abs(y1-y0) > leastAt:
			upright = append(upright, rule{(x0 + x1) / 2, min(y0, y1), max(y0, y1)})
		}
	}
	for i := range p.Paths {
		u := &p.Paths[i]
		b := u.Bounds
		if u.Hidden {
			continue
		}
		if u.Fills() && !u.Strokes() {
			switch {
			case b.H() <= thin && b.W() > leastAt:
				line(b.X0, (b.Y0+b.Y1)/2, b.X1, (b.Y0+b.Y1)/2)
			case b.W() <= thin && b.H() > leastAt:
				line((b.X0+b.X1)/2, b.Y0, (b.X0+b.X1)/2, b.Y1)
			}
			continue
		}
		if !u.Strokes() {
			continue
		}
		var start, last content.Point
		for _, pt := range p.Points[u.First : u.First+u.N] {
			switch pt.Op {
			case content.MoveTo:
				start = pt
			case content.LineTo:
				line(last.X, last.Y, pt.X, pt.Y)
			case content.Close:
				line(last.X, last.Y, start.X, start.Y)
			}
			last = pt
		}
		if len(across)+len(upright) > 5000 { // a drawing
			return nil
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
	}
	for j, v := range upright {
		if g := byRoot[root(len(across)+j)]; g != nil {
			g.x = append(g.x, v.at)
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
