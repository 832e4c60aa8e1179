package layout

import (
	"cmp"
	"math"
	"slices"

	"glenrain/core/pdf"
)

// block is a run of lines one under another in a column, or the cells of a table.
type block struct {
	lines      []int // indexes of lines, in reading order
	u0, u1     float64
	top, below float64 // v of its upper and lower edge
	frame      int32
	table      bool
	cells      []ruledCell // of the lines, in a ruled table
	seq        int

	usual map[int]float64 // the usual leading, by eighths of the size
	even  bool            // most lines reach its edge
}

// makeBlocks gathers lines into blocks: a line goes with the only one above it if it is the only one below that. Rows whose
// parts are shown one after another are rows of a table, where the next row has parts too.
func (l *Page) makeBlocks() []block {
	n := len(l.Lines)
	above, below := make([]int, n), make([]int, n) // -1 none, -2 several
	for i := range above {
		above[i], below[i] = -1, -1
	}
	ruled, in := l.ruledTables()
	cells := l.cells(in)
	// Lines are sorted by frame and from the top. The active ones are those that nothing has covered yet.
	var active []int
	for i := range l.Lines {
		b := &l.Lines[i]
		if i > 0 && l.Lines[i-1].frame != b.frame {
			active = active[:0]
		}
		if in != nil && in[i] >= 0 {
			continue
		}
		keep := active[:0]
		nearest, several := math.Inf(1), false
		for _, k := range active {
			if a := &l.Lines[k]; a.row != b.row && over(a, b) {
				several = several || !math.IsInf(nearest, 1)
				nearest = min(nearest, a.V)
			}
		}
		for _, k := range active {
			a := &l.Lines[k]
			if a.row == b.row || !over(a, b) {
				keep = append(keep, k)
				continue
			}
			if a.V-nearest < 0.6*max(a.Size, b.Size) { // what ends further up is only covered
				above[i] = one(above[i], k)
				if shared := min(a.U1, b.U1) - max(a.U0, b.U0); several && shared < 0.5*max(a.U1-a.U0, b.U1-b.U0) {
					above[i] = -2
				}
				if l.overGutter(k, i) {
					above[i] = -2
				}
				below[k] = one(below[k], i)
			}
			if l.besides(i, k) { // others of its row may stand below it as well
				keep = append(keep, k)
			}
		}
		active = append(keep, i)
	}
	at := make([]int, n)
	var blocks []block
	for i := range l.Lines {
		if in != nil && in[i] >= 0 {
			continue
		}
		b := &l.Lines[i]
		k := above[i]
		joined := false
		switch {
		case cells[i] >= 0: // the parts of a table stay together
			first := cells[i]
			if first != i {
				at[i] = at[first]
				joined = true
			}
		case k >= 0 && below[k] == i && cells[k] < 0:
			a := &l.Lines[k]
			if step := a.V - b.V; step <= 2.6*max(a.Size, b.Size) && step > 0 {
				at[i] = at[k]
				joined = true
			}
		}
		if !joined {
			at[i] = len(blocks)
			blocks = append(blocks, block{u0: b.U0, u1: b.U1, top: b.V + b.Size*0.7, frame: b.frame, seq: b.seq, table: cells[i] >= 0})
		}
		bl := &blocks[at[i]]
		bl.lines = append(bl.lines, i)
		bl.u0, bl.u1 = min(bl.u0, b.U0), max(bl.u1, b.U1)
		bl.below = b.V - b.Size*0.2
		bl.seq = min(bl.seq, b.seq)
	}
	for i := range ruled {
		if len(ruled[i].lines) > 0 {
			blocks = append(blocks, ruled[i].block(l))
		}
	}
	return blocks
}

// over reports whether two lines stand over one another.
func over(a, b *Line) bool { return min(a.U1, b.U1)-max(a.U0, b.U0) > 0.1*min(a.Size, b.Size) }

// overGutter reports whether line k hangs out to the left over line i, where something else stands in i's row: a head over columns.
func (l *Page) overGutter(k, i int) bool {
	a, b := &l.Lines[k], &l.Lines[i]
	return i > 0 && l.Lines[i-1].row == b.row && l.Lines[i-1].U1 < b.U0 && a.U0 < b.U0-2.2*max(a.Size, b.Size)
}

func one(have, k int) int {
	if have == -1 {
		return k
	}
	return -2
}

// besides reports whether a later line of i's row could also stand under k.
func (l *Page) besides(i, k int) bool {
	for j := i + 1; j < len(l.Lines) && l.Lines[j].row == l.Lines[i].row; j++ {
		if min(l.Lines[j].U1, l.Lines[k].U1)-max(l.Lines[j].U0, l.Lines[k].U0) > 0 {
			return true
		}
	}
	return false
}

// cells gives for each line the first line of the table without rules that it is in, or -1. in tells which lines are in ruled ones.
func (l *Page) cells(in []int) []int {
	out := make([]int, len(l.Lines))
	for i := range out {
		out[i] = -1
	}
	type row struct{ from, to int } // lines that are shown one after another in one row
	var rows []row
	for i := 0; i < len(l.Lines); {
		if in != nil && in[i] >= 0 {
			i++
			continue
		}
		j := i + 1
		for j < len(l.Lines) && (in == nil || in[j] < 0) && l.Lines[j].row == l.Lines[i].row && l.follows(j-1, j) {
			j++
		}
		rows = append(rows, row{i, j})
		i = j
	}
	defer func() { l.runningText(out) }()
	begin := -1
	for r, cur := range rows {
		several := cur.to-cur.from > 1
		if !several {
			begin = -1
			continue
		}
		if begin >= 0 {
			last := rows[r-1]
			a, b := &l.Lines[last.from], &l.Lines[cur.from]
			if a.frame == b.frame && a.V-b.V < 4*max(a.Size, b.Size) && l.share(last.from, last.to, cur.from, cur.to) {
				for k := last.from; k < cur.to; k++ {
					out[k] = begin
				}
				continue
			}
		}
		begin = cur.from
	}
	return out
}

// Limits of what is taken for columns of running text that are shown row by row, and not for a table.
const (
	leastRunning = 4   // rows
	longParts    = 22  // letters of a part on average
	closeRows    = 1.5 // em from row to row
)

// runningText takes those tables out of a list of cells that are columns of running text, with or without a head over each: long parts in
// each of several close rows.
func (l *Page) runningText(cells []int) {
	tables := map[int]*columnsOfText{}
	for i, t := range cells {
		if t < 0 {
			continue
		}
		if tables[t] == nil {
			tables[t] = &columnsOfText{}
		}
		tables[t].add(&l.Lines[i])
	}
	for i, t := range cells {
		if t >= 0 && tables[t].running() {
			cells[i] = -1
		}
	}
}

// columnsOfText adds up what may be columns of text.
type columnsOfText struct {
	last                       *Line
	rows, far                  int
	parts, letters, short      int // of all rows
	parts1, letters1, shorter1 int // of the first one
}

func (c *columnsOfText) add(line *Line) {
	if c.last == nil || c.last.row != line.row {
		if c.rows > 1 && c.last.V-line.V > closeRows*max(c.last.Size, line.Size) { // a head may stand apart
			c.far++
		}
		c.rows++
	}
	c.last = line
	short := 0
	if line.letters < longParts/2 {
		short = 1
	}
	c.parts, c.letters, c.short = c.parts+1, c.letters+line.letters, c.short+short
	if c.rows == 1 {
		c.parts1, c.letters1, c.shorter1 = c.parts, c.letters, c.short
	}
}

func (c *columnsOfText) running() bool {
	parts, letters, short := c.parts-c.parts1, c.letters-c.letters1, c.short-c.shorter1
	return c.rows >= leastRunning && letters >= longParts*parts && short*8 <= parts && c.far*4 <= c.rows
}

// follows reports whether line b is shown right behind line a.
func (l *Page) follows(a, b int) bool {
	wa, wb := l.Lines[a].Words, l.Lines[b].Words
	hi, lo := 0, math.MaxInt
	for _, k := range wa {
		hi = max(hi, k)
	}
	for _, k := range wb {
		lo = min(lo, k)
	}
	gap := lo - hi
	return gap >= 1 && gap <= 3 // joined words lie between
}

// share reports whether two rows have parts that begin, end or centre at the same places.
func (l *Page) share(a0, a1, b0, b1 int) bool {
	same := 0
	for i := a0; i < a1; i++ {
		for j := b0; j < b1; j++ {
			a, b := &l.Lines[i], &l.Lines[j]
			tol := 0.6 * max(a.Size, b.Size)
			if math.Abs(a.U0-b.U0) < tol || math.Abs(a.U1-b.U1) < tol || math.Abs(a.U0+a.U1-b.U0-b.U1)/2 < tol {
				same++
				break
			}
		}
	}
	return same >= 2
}

// mostOrdered is how many blocks are put into order; many scattered scraps are read from the top.
const mostOrdered = 160

// order sorts blocks as they are read: one above another before it, one left of another before it unless something
// between them stands over both, provided that there are columns (after the rules of T. Breuel, High Performance Document Layout Analysis, 2003).
func (l *Page) order(blocks []block) []block {
	if len(blocks) < 2 {
		return blocks
	}
	l.fromTheTop(blocks)
	if len(blocks) > mostOrdered {
		return blocks
	}
	rtl := 0
	for i := range l.Lines {
		if l.Lines[i].RTL {
			rtl++
		}
	}
	o := ordering{blocks: blocks, fromRight: rtl*2 > len(l.Lines), state: make([]uint8, len(blocks)), out: make([]block, 0, len(blocks))}
	for j := range blocks {
		o.visit(j)
	}
	return o.out
}

// fromTheTop sorts blocks by their direction, that of most text first, then from the top and from the left.
func (l *Page) fromTheTop(blocks []block) {
	weight := map[int32]int{}
	for i := range l.Lines {
		weight[l.Lines[i].frame] += l.Lines[i].letters
	}
	slices.SortStableFunc(blocks, func(a, b block) int {
		if a.frame != b.frame {
			return cmp.Or(cmp.Compare(weight[b.frame], weight[a.frame]), cmp.Compare(a.frame, b.frame))
		}
		return cmp.Or(cmp.Compare(b.top, a.top), cmp.Compare(a.u0, b.u0))
	})
}

// ordering sorts blocks topologically by what is read before what.
type ordering struct {
	blocks    []block // from the top
	fromRight bool    // columns are read from the right
	state     []uint8 // 1 under way, 2 done
	out       []block
}

// visit puts out what is read before a block, and then the block.
func (o *ordering) visit(j int) {
	if o.state[j] != 0 {
		return
	}
	o.state[j] = 1
	for i := range o.blocks {
		if i != j && o.state[i] == 0 && o.before(i, j) {
			o.visit(i)
		}
	}
	o.state[j] = 2
	o.out = append(o.out, o.blocks[j])
}

// above reports whether two blocks stand over one another.
func (b *block) above(c *block) bool { return min(b.u1, c.u1)-max(b.u0, c.u0) > 0 }

// middle is the height of a block's middle.
func (b *block) middle() float64 { return (b.top + b.below) / 2 }

// before reports whether block i is read before block j.
func (o *ordering) before(i, j int) bool {
	a, b := &o.blocks[i], &o.blocks[j]
	if a.frame != b.frame {
		return i < j
	}
	if a.above(b) {
		return a.middle() > b.middle()
	}
	first := a.u1 <= b.u0
	if o.fromRight {
		first = a.u0 >= b.u1
	}
	return first && o.columns(i, j) && !o.bridged(i, j)
}

// columns reports whether blocks i and j stand in columns beside one another: whether something of i's column, or i itself, stands beside j.
// A number at the edge of the head is in no column.
func (o *ordering) columns(i, j int) bool {
	a, b := &o.blocks[i], &o.blocks[j]
	for k := range o.blocks {
		c := &o.blocks[k]
		if c.frame == a.frame && (k == i || k != j && c.above(a) && !c.above(b)) && min(c.top, b.top) > max(c.below, b.below) {
			return true
		}
	}
	return false
}

// bridged reports whether something between the heights of blocks i and j stands over both.
func (o *ordering) bridged(i, j int) bool {
	a, b := &o.blocks[i], &o.blocks[j]
	for k := range o.blocks {
		c := &o.blocks[k]
		if k == i || k == j || c.frame != a.frame || !c.above(a) || !c.above(b) {
			continue
		}
		if mid := c.middle(); mid < max(a.middle(), b.middle()) && mid > min(a.middle(), b.middle()) {
			return true
		}
	}
	return false
}

func around(a, b pdf.Rect) pdf.Rect {
	if a == (pdf.Rect{}) {
		return b
	}
	return pdf.Rect{X0: min(a.X0, b.X0), Y0: min(a.Y0, b.Y0), X1: max(a.X1, b.X1), Y1: max(a.Y1, b.Y1)}
}
