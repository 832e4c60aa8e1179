// Package compare tells in what two documents, or two states of one, differ: which page of the one is which of the other, which words came and
// went, and which parts of a page look otherwise. It takes texts and pictures, and knows nothing of documents.
package compare

import (
	"cmp"
	"hash/maphash"
	"image"
	"slices"
	"strings"
)

// Pair is a page of the first and the page of the second that it became, as indexes; -1 where there is none.
type Pair struct{ A, B int }

// Change is words of the first, from A0 to A1, in whose place stand those of the second, from B0 to B1.
type Change struct{ A0, A1, B0, B1 int }

// Words parts a text into words, with where each begins and ends in it.
func Words(text string) (words []string, at [][2]int) {
	start := -1
	for i, r := range text {
		blank := r == ' ' || r == '\n' || r == '\t' || r == '\r' || r == 0xa0
		switch {
		case blank && start >= 0:
			words, at, start = append(words, text[start:i]), append(at, [2]int{start, i}), -1
		case !blank && start < 0:
			start = i
		}
	}
	if start >= 0 {
		words, at = append(words, text[start:]), append(at, [2]int{start, len(text)})
	}
	return words, at
}

var seed = maphash.MakeSeed()

// print is a small picture of a text: of all runs of three words the least hash, by a number of ways to hash.
type print struct {
	whole uint64 // of the text; 0 without words
	least [24]uint32
	n     int
}

func printOf(text string) (p print) {
	words, _ := Words(text)
	p.n = len(words)
	if p.n == 0 {
		return p
	}
	p.whole = maphash.String(seed, strings.Join(words, " "))
	for i := range p.least {
		p.least[i] = ^uint32(0)
	}
	for i := range words {
		h := maphash.String(seed, strings.Join(words[i:min(len(words), i+3)], " "))
		for k := range p.least {
			v := uint32(h>>32) ^ uint32(h)*uint32(2*k+1)
			v *= 0x9e3779b1
			v ^= v >> 15
			p.least[k] = min(p.least[k], v)
		}
	}
	return p
}

// alike is how much two texts have in common, from 0 to 1.
func alike(a, b *print) float64 {
	if a.n == 0 || b.n == 0 {
		if a.n == b.n {
			return 0.5 // both are without words: pictures may tell
		}
		return 0
	}
	if a.whole == b.whole {
		return 1
	}
	same := 0
	for i := range a.least {
		if a.least[i] == b.least[i] {
			same++
		}
	}
	return float64(same) / float64(len(a.least))
}

// Bounds of matching.
const (
	leastAlike = 0.12      // for pages to be the same one
	mostCells  = 4_000_000 // of a table of pages by pages
)

// Pages matches pages by their texts: in order, so that the most of the text has a partner; pages that were put in or taken out have none.
func Pages(a, b []string) []Pair {
	pa, pb := make([]print, len(a)), make([]print, len(b))
	for i, t := range a {
		pa[i] = printOf(t)
	}
	for i, t := range b {
		pb[i] = printOf(t)
	}
	var out []Pair
	i0, j0 := 0, 0
	for i0 < len(a) && j0 < len(b) && same(&pa[i0], &pb[j0]) {
		out = append(out, Pair{i0, j0})
		i0, j0 = i0+1, j0+1
	}
	i1, j1 := len(a), len(b)
	var tail []Pair
	for i1 > i0 && j1 > j0 && same(&pa[i1-1], &pb[j1-1]) {
		i1, j1 = i1-1, j1-1
		tail = append(tail, Pair{i1, j1})
	}
	out = append(out, between(pa, pb, i0, i1, j0, j1)...)
	slices.Reverse(tail)
	return append(out, tail...)
}

func same(a, b *print) bool { return a.n > 0 && a.whole == b.whole }

// between matches a part of both, by the best sum of what they have in common.
func between(pa, pb []print, i0, i1, j0, j1 int) (out []Pair) {
	n, m := i1-i0, j1-j0
	switch {
	case n == 0 || m == 0:
		for i := i0; i < i1; i++ {
			out = append(out, Pair{i, -1})
		}
		for j := j0; j < j1; j++ {
			out = append(out, Pair{-1, j})
		}
		return out
	case n*m > mostCells: // by place, where there are too many
		for k := range max(n, m) {
			p := Pair{-1, -1}
			if k < n {
				p.A = i0 + k
			}
			if k < m {
				p.B = j0 + k
			}
			out = append(out, p)
		}
		return out
	}
	best := make([]float32, (n+1)*(m+1))
	at := func(i, j int) int { return i*(m+1) + j }
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			v := max(best[at(i+1, j)], best[at(i, j+1)])
			if s := float32(alike(&pa[i0+i], &pb[j0+j])); s >= leastAlike {
				v = max(v, s+best[at(i+1, j+1)])
			}
			best[at(i, j)] = v
		}
	}
	var goneA, cameB []int
	flush := func() { // what has no partner by its words has one by its place, where as many came as went
		if len(goneA) == len(cameB) {
			for k := range goneA {
				out = append(out, Pair{goneA[k], cameB[k]})
			}
		} else {
			for _, i := range goneA {
				out = append(out, Pair{i, -1})
			}
			for _, j := range cameB {
				out = append(out, Pair{-1, j})
			}
		}
		goneA, cameB = nil, nil
	}
	i, j := 0, 0
	for i < n || j < m {
		if i < n && j < m {
			s := float32(alike(&pa[i0+i], &pb[j0+j]))
			if s >= leastAlike && best[at(i, j)] == s+best[at(i+1, j+1)] {
				flush()
				out = append(out, Pair{i0 + i, j0 + j})
				i, j = i+1, j+1
				continue
			}
		}
		if j >= m || i < n && best[at(i, j)] == best[at(i+1, j)] {
			goneA = append(goneA, i0+i)
			i++
		} else {
			cameB = append(cameB, j0+j)
			j++
		}
	}
	flush()
	return out
}

// mostApart is how many words may differ for the shortest list of changes to be looked for.
const mostApart = 3000

// Diff gives the changes by which the words a become b, in order: the fewest words, by Myers' algorithm (An O(ND) Difference Algorithm and Its Variations,
// 1986); one change for all that differs where that is too much.
func Diff(a, b []string) []Change {
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	x, y := a[head:len(a)-tail], b[head:len(b)-tail]
	n, m := len(x), len(y)
	if n == 0 && m == 0 {
		return nil
	}
	whole := []Change{{head, head + n, head, head + m}}
	if n == 0 || m == 0 {
		return whole
	}
	most := min(n+m, mostApart)
	v := make([]int32, 2*most+2)
	var trace [][]int32
	found := -1
	for d := 0; d <= most && found < 0; d++ {
		trace = append(trace, slices.Clone(v[most-d:most+d+2]))
		for k := -d; k <= d; k += 2 {
			var i int32
			if k == -d || k != d && v[most+k-1] < v[most+k+1] {
				i = v[most+k+1]
			} else {
				i = v[most+k-1] + 1
			}
			for int(i) < n && int(i)-k < m && int(i)-k >= 0 && x[i] == y[int(i)-k] {
				i++
			}
			v[most+k] = i
			if int(i) >= n && int(i)-k >= m {
				found = d
				break
			}
		}
	}
	if found < 0 {
		return whole
	}
	var out []Change
	i, j := n, m
	for d := found; d > 0; d-- {
		row := trace[d] // v before step d: from k = -d on
		k := i - j
		get := func(k int) int32 { return row[k+d] }
		var pk int
		if k == -d || k != d && get(k-1) < get(k+1) {
			pk = k + 1
		} else {
			pk = k - 1
		}
		pi := int(get(pk))
		pj := pi - pk
		if pk == k+1 {
			out = append(out, Change{pi, pi, pj, pj + 1})
		} else {
			out = append(out, Change{pi, pi + 1, pj, pj})
		}
		i, j = pi, pj
	}
	slices.SortFunc(out, func(a, b Change) int { return cmp.Or(cmp.Compare(a.A0, b.A0), cmp.Compare(a.B0, b.B0)) })
	var joined []Change
	for _, c := range out {
		c = Change{c.A0 + head, c.A1 + head, c.B0 + head, c.B1 + head}
		if k := len(joined) - 1; k >= 0 && joined[k].A1 == c.A0 && joined[k].B1 == c.B0 {
			joined[k].A1, joined[k].B1 = c.A1, c.B1
			continue
		}
		joined = append(joined, c)
	}
	return joined
}

// Bounds of comparing pictures.
const (
	otherLevel = 40 // how far apart two pixels are that differ, of 255
	cell       = 12 // pixels of a place
)

// Looks gives the places in which two pictures of a page differ, as rectangles in pixels of the first; the second is taken to be as large.
func Looks(a, b image.Image) (out []image.Rectangle) {
	r, s := a.Bounds(), b.Bounds()
	w, h := min(r.Dx(), s.Dx()), min(r.Dy(), s.Dy())
	nx, ny := (w+cell-1)/cell, (h+cell-1)/cell
	grid := make([]bool, nx*ny)
	for y := range h {
		for x := range w {
			if g := y/cell*nx + x/cell; !grid[g] && apart(a, b, r.Min.X+x, r.Min.Y+y, s.Min.X+x, s.Min.Y+y) {
				grid[g] = true
			}
		}
	}
	for y := range ny { // cells that touch are one place
		for x := range nx {
			if !grid[y*nx+x] {
				continue
			}
			box := image.Rect(x, y, x+1, y+1)
			stack := []image.Point{{X: x, Y: y}}
			grid[y*nx+x] = false
			for len(stack) > 0 {
				p := stack[len(stack)-1]
				stack = stack[:len(stack)-1]
				box = box.Union(image.Rect(p.X, p.Y, p.X+1, p.Y+1))
				for dy := -2; dy <= 2; dy++ {
					for dx := -2; dx <= 2; dx++ {
						if q := image.Pt(p.X+dx, p.Y+dy); q.X >= 0 && q.Y >= 0 && q.X < nx && q.Y < ny && grid[q.Y*nx+q.X] {
							grid[q.Y*nx+q.X] = false
							stack = append(stack, q)
						}
					}
				}
			}
			out = append(out, image.Rect(box.Min.X*cell, box.Min.Y*cell, min(w, box.Max.X*cell), min(h, box.Max.Y*cell)))
		}
	}
	return out
}

func apart(a, b image.Image, ax, ay, bx, by int) bool {
	r1, g1, b1, _ := a.At(ax, ay).RGBA()
	r2, g2, b2, _ := b.At(bx, by).RGBA()
	d := func(x, y uint32) uint32 { return max(x, y) - min(x, y) }
	return max(d(r1, r2), d(g1, g2), d(b1, b2))>>8 > otherLevel
}
