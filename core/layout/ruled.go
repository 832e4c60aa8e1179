package layout

import (
	"cmp"
	"math"
	"slices"
	"sort"

	"glenrain/core/content"
)

// ruledCell is where a line stands in a ruled table: between the rules nearest to it on all four sides, so that merged cells are one.
type ruledCell struct {
	table          int // index of the grid; -1 for none
	x0, x1, y0, y1 float64
}

// ruling are the grids of rules on a page, as text in one direction sees them.
type ruling struct {
	grids []grid
	cuts  []rule // upright rules of all of them, by place
	bands []band
}

// band is the space between two level rules that begin and end together, with no upright ones.
type band struct {
	group          int // of rules
	x0, x1, y0, y1 float64
}

// Limits of what is taken for a table.
const (
	mostCrossings = 1_000_000 // pairs of rules that are tried
	mostInCell    = 8         // lines of a cell that are one paragraph; more are text in a frame, cut like other text
)

// rulingOf gives the grids that hold at least two rows and two columns somewhere, turned into the direction of a frame; nil for none.
func (l *Page) rulingOf(frame int32) *ruling {
	for len(l.rulings) <= int(frame) {
		l.rulings = append(l.rulings, nil)
	}
	if r := l.rulings[frame]; r != nil {
		return r
	}
	r := &ruling{}
	l.rulings[frame] = r
	f := l.frames[frame]
	across, upright := 0, 0
	for _, x := range l.Source.Rules {
		if x.Upright {
			upright++
		} else {
			across++
		}
	}
	if across < 2 || across*upright > mostCrossings {
		return r
	}
	if max(math.Abs(f.ax), math.Abs(f.ay)) < 0.999 { // along no axis
		return r
	}
	turned := make([]content.Rule, len(l.Source.Rules))
	for i, x := range l.Source.Rules {
		x0, y0, x1, y1 := x.A, x.At, x.B, x.At
		if x.Upright {
			x0, y0, x1, y1 = x.At, x.A, x.At, x.B
		}
		u0, v0 := f.of(x0, y0)
		u1, v1 := f.of(x1, y1)
		turned[i] = content.Rule{At: v0, A: min(u0, u1), B: max(u0, u1)}
		if math.Abs(u0-u1) < math.Abs(v0-v1) {
			turned[i] = content.Rule{Upright: true, At: u0, A: min(v0, v1), B: max(v0, v1)}
		}
	}
	for _, g := range grids(turned) {
		if len(g.x) > 2 && len(g.y) > 2 || len(g.x) > 3 && len(g.y) > 1 || len(g.x) > 1 && len(g.y) > 3 {
			r.grids = append(r.grids, g)
			r.cuts = append(r.cuts, g.upright...)
		}
	}
	slices.SortFunc(r.cuts, func(a, b rule) int { return cmp.Compare(a.at, b.at) })
	r.readBands(turned)
	return r
}

// sameEnd is by how many points level rules that belong together may differ at their ends.
const sameEnd = 3

// readBands finds level rules, three or more, that begin and end together and are in no grid.
func (r *ruling) readBands(rules []content.Rule) {
	inGrid := map[rule]bool{}
	for _, g := range r.grids {
		for _, x := range g.across {
			inGrid[x] = true
		}
	}
	var level []rule
	for _, x := range rules {
		if !x.Upright {
			level = append(level, rule{x.At, x.A, x.B})
		}
	}
	level = slices.DeleteFunc(joinRules(level), func(x rule) bool { return inGrid[x] })
	slices.SortFunc(level, func(a, b rule) int {
		return cmp.Or(cmp.Compare(math.Round(a.a/sameEnd), math.Round(b.a/sameEnd)), cmp.Compare(math.Round(a.b/sameEnd), math.Round(b.b/sameEnd)), cmp.Compare(b.at, a.at))
	})
	for i := 0; i < len(level); {
		j := i + 1
		for j < len(level) && math.Abs(level[j].a-level[i].a) < sameEnd && math.Abs(level[j].b-level[i].b) < sameEnd {
			j++
		}
		if j-i >= 3 {
			for k := i + 1; k < j; k++ {
				r.bands = append(r.bands, band{i, level[k].a, level[k].b, level[k].at, level[k-1].at})
			}
		}
		i = j
	}
}

// bandOf finds the band of a line; -1 for none.
func (r *ruling) bandOf(line *Line) int {
	v := line.V + 0.3*line.Size
	for i, b := range r.bands {
		if b.y0 < v && v <= b.y1 && line.U0 >= b.x0-sameEnd && line.U1 <= b.x1+sameEnd {
			return i
		}
	}
	return -1
}

// ruledBetween reports whether an upright rule of a table stands between two words at a height.
func (r *ruling) ruledBetween(u0, u1, v float64) bool {
	i := sort.Search(len(r.cuts), func(i int) bool { return r.cuts[i].at >= u0-sameAt })
	for ; i < len(r.cuts) && r.cuts[i].at <= u1+sameAt; i++ {
		if c := r.cuts[i]; c.a <= v && v <= c.b {
			return true
		}
	}
	return false
}

// cellOf finds the cell of a line.
func (r *ruling) cellOf(line *Line) ruledCell {
	u, v := (line.U0+line.U1)/2, line.V+0.3*line.Size
	for i, g := range r.grids {
		c := ruledCell{i, math.Inf(-1), math.Inf(1), math.Inf(-1), math.Inf(1)}
		for _, x := range g.upright {
			if x.a-sameAt <= v && v <= x.b+sameAt {
				if x.at <= u {
					c.x0 = max(c.x0, x.at)
				} else {
					c.x1 = min(c.x1, x.at)
				}
			}
		}
		for _, y := range g.across {
			if y.a-sameAt <= u && u <= y.b+sameAt {
				if y.at <= v {
					c.y0 = max(c.y0, y.at)
				} else {
					c.y1 = min(c.y1, y.at)
				}
			}
		}
		if !math.IsInf(c.x0, 0) && !math.IsInf(c.x1, 0) && !math.IsInf(c.y0, 0) && !math.IsInf(c.y1, 0) {
			return c
		}
	}
	return ruledCell{table: -1}
}

// ruledTable is a table of rules with the lines in its cells.
type ruledTable struct {
	frame int32
	lines []int
	cells []ruledCell // of the lines
}

// ruledTables finds the tables of rules and the lines in them. in tells for each line whose table it is in, -1 for none. A frame around text, with
// nothing beside it or below it, is no table.
func (l *Page) ruledTables() (tables []ruledTable, in []int) {
	if len(l.Source.Rules) < 3 {
		return nil, nil
	}
	type key struct {
		frame int32
		grid  int
	}
	at := map[key]int{}
	in = make([]int, len(l.Lines))
	for i := range l.Lines {
		in[i] = -1
		line := &l.Lines[i]
		r := l.rulingOf(line.frame)
		if len(r.grids) == 0 {
			continue
		}
		c := r.cellOf(line)
		if c.table < 0 {
			continue
		}
		k := key{line.frame, c.table}
		n, ok := at[k]
		if !ok {
			n = len(tables)
			at[k] = n
			tables = append(tables, ruledTable{frame: line.frame})
		}
		tables[n].lines = append(tables[n].lines, i)
		tables[n].cells = append(tables[n].cells, c)
		in[i] = n
	}
	for n := range tables {
		if !tables[n].holds() {
			for _, i := range tables[n].lines {
				in[i] = -1
			}
			tables[n].lines = nil
			continue
		}
		l.splitRows(&tables[n])
		l.sortCells(&tables[n])
	}
	return l.bandTables(tables, in), in
}

// Limits of what is taken for rows that no rules part.
const (
	leastRows = 3   // rows that stand in several cells
	fullLine  = 0.7 // of a cell's width: what fills it is text that goes on from line to line
)

// splitRows parts cells that stand beside one another where their lines are rows of the table without rules between them: the lines stand on the same
// heights, and are not text that is broken at the cell's edge.
func (l *Page) splitRows(t *ruledTable) {
	type span struct{ y0, y1 float64 }
	type rows struct {
		at        map[int]map[ruledCell]bool // rows of lines, and the cells that they go over
		top       map[int]float64            // of these rows
		lines     map[ruledCell][]int
		full, all int // lines that fill their cell, of how many
		shared    int // rows that go over several cells
	}
	groups := map[span]*rows{}
	for k, c := range t.cells {
		s := span{c.y0, c.y1}
		g := groups[s]
		if g == nil {
			g = &rows{at: map[int]map[ruledCell]bool{}, top: map[int]float64{}, lines: map[ruledCell][]int{}}
			groups[s] = g
		}
		line := &l.Lines[t.lines[k]]
		if g.at[line.row] == nil {
			g.at[line.row] = map[ruledCell]bool{}
		}
		g.at[line.row][c] = true
		if y, ok := g.top[line.row]; !ok || y < line.V+line.Size {
			g.top[line.row] = line.V + line.Size
		}
		g.lines[c] = append(g.lines[c], t.lines[k])
	}
	for _, g := range groups {
		for cell, lines := range g.lines {
			for _, i := range lines[:len(lines)-1] { // they come from the top: the last of a text may be short
				g.all++
				if l.Lines[i].U1-l.Lines[i].U0 > fullLine*(cell.x1-cell.x0) {
					g.full++
				}
			}
		}
		for _, cells := range g.at {
			if len(cells) > 1 {
				g.shared++
			}
		}
	}
	for k, c := range slices.Clone(t.cells) {
		g := groups[span{c.y0, c.y1}]
		if g.shared >= leastRows && g.shared*2 >= len(g.at) && g.full*2 <= g.all {
			line := &l.Lines[t.lines[k]]
			t.cells[k] = ruledCell{c.table, line.U0, line.U1, g.top[line.row] - 1, g.top[line.row]}
		}
	}
}

// bandTables adds tables whose rows are parted by level rules alone, as in many forms: what stands beside one another in a band are its cells. A band
// that holds rows of its own makes it another kind of table, which is known by how its words stand.
func (l *Page) bandTables(tables []ruledTable, in []int) []ruledTable {
	type key struct {
		frame int32
		group int
	}
	byBand := map[key]map[int][]int{}
	var order []key
	for i := range l.Lines {
		if in[i] >= 0 {
			continue
		}
		r := l.rulingOf(l.Lines[i].frame)
		n := r.bandOf(&l.Lines[i])
		if n < 0 {
			continue
		}
		k := key{l.Lines[i].frame, r.bands[n].group}
		if byBand[k] == nil {
			byBand[k] = map[int][]int{}
			order = append(order, k)
		}
		byBand[k][n] = append(byBand[k][n], i)
	}
	for _, k := range order {
		t := ruledTable{frame: k.frame}
		rows, several := 0, 0
		fits := true
		for n, lines := range byBand[k] {
			b := l.rulingOf(k.frame).bands[n]
			cells, ok := l.beside(lines)
			fits = fits && ok
			rows++
			if len(cells) > 1 {
				several++
			}
			for _, c := range cells {
				for _, i := range c {
					t.lines = append(t.lines, i)
					t.cells = append(t.cells, ruledCell{-2 - n, l.Lines[c[0]].U0, b.x1, b.y0, b.y1})
				}
			}
		}
		if !fits || several < 2 || several*2 < rows {
			continue
		}
		for _, i := range t.lines {
			in[i] = len(tables)
		}
		l.sortCells(&t)
		tables = append(tables, t)
	}
	return tables
}

// beside parts the lines of a band by what stands beside one another; false where more than one row goes over several parts, or a part has much text.
func (l *Page) beside(lines []int) (parts [][]int, ok bool) {
	sorted := slices.Clone(lines)
	slices.SortStableFunc(sorted, func(a, b int) int { return cmp.Compare(l.Lines[a].U0, l.Lines[b].U0) })
	end := math.Inf(-1)
	for _, i := range sorted {
		line := &l.Lines[i]
		if line.U0 > end {
			parts = append(parts, nil)
		}
		end = max(end, line.U1)
		parts[len(parts)-1] = append(parts[len(parts)-1], i)
	}
	over := map[int]int{} // rows, and over how many parts they go
	for _, p := range parts {
		if len(p) > mostInCell {
			return parts, false
		}
		slices.SortStableFunc(p, func(a, b int) int { return cmp.Compare(l.Lines[b].V, l.Lines[a].V) })
		for _, i := range p {
			over[l.Lines[i].row]++
		}
	}
	shared := 0
	for _, n := range over {
		if n > 1 {
			shared++
		}
	}
	return parts, shared <= 1
}

// holds reports whether there are cells beside one another, and cells below one another.
func (t *ruledTable) holds() bool {
	beside, below := false, false
	for i := range t.cells {
		for k := range t.cells[:i] {
			a, b := t.cells[i], t.cells[k]
			if a == b {
				continue
			}
			level := min(a.y1, b.y1)-max(a.y0, b.y0) > sameAt
			beside = beside || level
			below = below || !level
			if beside && below {
				return true
			}
		}
		if i > 400 { // as many lines say enough
			break
		}
	}
	return false
}

// sortCells puts the lines of a table into the order of its cells: rows from the top by where they begin, cells of a row from the left, or from the right
// where most text runs so; and gives the lines of a row one number.
func (l *Page) sortCells(t *ruledTable) {
	rtl := 0
	for _, i := range t.lines {
		if l.Lines[i].RTL {
			rtl++
		}
	}
	order := make([]int, len(t.lines))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(x, y int) int {
		a, b := t.cells[x], t.cells[y]
		if math.Abs(a.y1-b.y1) > sameAt {
			return cmp.Compare(b.y1, a.y1)
		}
		if c := cmp.Compare(a.x0, b.x0); c != 0 {
			if rtl*2 > len(t.lines) {
				return -c
			}
			return c
		}
		p, q := &l.Lines[t.lines[x]], &l.Lines[t.lines[y]]
		return cmp.Or(cmp.Compare(q.V, p.V), cmp.Compare(p.U0, q.U0))
	})
	lines, cells := make([]int, len(order)), make([]ruledCell, len(order))
	for i, k := range order {
		lines[i], cells[i] = t.lines[k], t.cells[k]
	}
	t.lines, t.cells = lines, cells
	for i := range t.lines {
		if i == 0 || math.Abs(t.cells[i].y1-t.cells[i-1].y1) > sameAt {
			l.rows++
		}
		l.Lines[t.lines[i]].row = l.rows
	}
}

// block makes a block of a table.
func (t *ruledTable) block(l *Page) block {
	b := block{lines: t.lines, frame: t.frame, table: true, cells: t.cells, u0: math.Inf(1), u1: math.Inf(-1), top: math.Inf(-1), below: math.Inf(1), seq: math.MaxInt}
	for i, k := range t.lines {
		c := t.cells[i]
		b.u0, b.u1, b.top, b.below = min(b.u0, c.x0), max(b.u1, c.x1), max(b.top, c.y1), min(b.below, c.y0)
		b.seq = min(b.seq, l.Lines[k].seq)
	}
	return b
}

// cutRuled makes each cell of a ruled table a paragraph; one with much text is cut like other text.
func (l *Page) cutRuled(number int, b block) {
	for i := 0; i < len(b.lines); {
		j := i + 1
		for j < len(b.lines) && b.cells[j] == b.cells[i] {
			j++
		}
		cell := block{lines: b.lines[i:j], frame: b.frame, u0: math.Inf(1), u1: math.Inf(-1)}
		for _, k := range cell.lines {
			cell.u0, cell.u1 = min(cell.u0, l.Lines[k].U0), max(cell.u1, l.Lines[k].U1)
		}
		if j-i > mostInCell {
			l.cutBlock(number, cell)
		} else {
			l.endParagraph(number, cell.lines, cell, true)
		}
		i = j
	}
}
