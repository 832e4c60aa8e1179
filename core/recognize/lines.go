package recognize

import (
	"image"
	"math"
	"slices"
	"strings"
	"unicode"

	"glenrain/core/draw"
	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/scan"
)

// Word is a word as it was read, at its place on the page.
type Word struct {
	Text string  `json:"t"`
	X    float64 `json:"x"` // where its baseline begins, in default user space
	Y    float64 `json:"y"`
	Long float64 `json:"l"`
	Sure int     `json:"s"` // hundredths
}

// Line is a line of words.
type Line struct {
	Size  float64 `json:"z"` // of the type, in default user space
	Angle float64 `json:"a,omitempty"`
	Par   int     `json:"p"` // paragraph, counted through the page
	Words []Word  `json:"w"`

	block int
}

// Shapes of letters that tell where a word's baseline and its top are.
const (
	deep = "gjpqy,;Q()[]{}|_§$@/\\µþçşţ"
	tall = "bdfhklt()[]{}|/\\!?ßþ§$&%#@"
)

// Parts of the size of type, as most faces have them.
const (
	capitals = 0.72 // height of capitals and of letters that reach up
	smalls   = 0.53 // height of those that don't
	below    = 0.21 // depth of those that reach down
)

func shape(s string) (up, down, any bool) {
	for _, r := range s {
		if strings.ContainsRune(deep, r) {
			down = true
		}
		if unicode.IsUpper(r) || unicode.IsDigit(r) || strings.ContainsRune(tall, r) {
			up = true
		}
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			any = true
		}
	}
	return
}

// measured is a line with its baseline, y = at + slope x in pixels, and the size of its type in pixels.
type measured struct {
	at, slope, size float64
}

// measure finds a line's baseline through the feet of its words, and the size of its type.
func measure(l ocr.Line) measured {
	type foot struct{ x, y, w float64 }
	var feet []foot
	var sizes []float64
	for _, w := range l.Words {
		up, down, any := shape(w.Text)
		if !any {
			continue
		}
		h := float64(w.Box.Dy())
		n := float64(len([]rune(w.Text)))
		if !down {
			feet = append(feet, foot{float64(w.Box.Min.X+w.Box.Max.X) / 2, float64(w.Box.Max.Y), n})
		}
		part := smalls
		switch {
		case up && down:
			part = capitals + below
		case up:
			part = capitals
		case down:
			part = smalls + below
		}
		if n > 1 || up {
			sizes = append(sizes, h/part)
		}
	}
	m := measured{size: float64(l.Box.Dy()) / (capitals + below)}
	if len(sizes) > 0 {
		slices.Sort(sizes)
		m.size = sizes[len(sizes)/2]
	}
	if len(feet) == 0 {
		m.at = float64(l.Box.Max.Y)
		for _, w := range l.Words {
			if _, down, any := shape(w.Text); down && any {
				m.at = float64(w.Box.Max.Y) - below*m.size
			}
		}
		return m
	}
	// the middle of the feet; then those far from it are left out, and a line is laid through the rest
	ys := make([]float64, len(feet))
	for i, f := range feet {
		ys[i] = f.y
	}
	slices.Sort(ys)
	mid := ys[len(ys)/2]
	var n, sx, sy, sxx, sxy float64
	for _, f := range feet {
		if math.Abs(f.y-mid) > 0.25*m.size {
			continue
		}
		n += f.w
		sx += f.w * f.x
		sy += f.w * f.y
		sxx += f.w * f.x * f.x
		sxy += f.w * f.x * f.y
	}
	m.at = mid
	if d := n*sxx - sx*sx; n > 0 {
		m.at = sy / n
		if long := float64(l.Box.Dx()); len(feet) > 3 && d > 0 && long > 8*m.size {
			if s := (n*sxy - sx*sy) / d; math.Abs(s) < 0.02 {
				m.slope, m.at = s, (sy-s*sx)/n
			}
		}
	}
	return m
}

// inked gives, for the words of a line, where their ink begins and ends: the line's ink is parted at its widest gaps, of which there have to be as many as between
// its words, and clearly wider than those within them. It gives nothing where that does not fit what the program says.
func inked(g *image.Gray, l ocr.Line, m measured) [][2]float64 {
	n := len(l.Words)
	x0, x1 := max(0, l.Box.Min.X-int(m.size/3)), min(g.Rect.Dx(), l.Box.Max.X+int(m.size/3))
	if n == 0 || x1-x0 < 4 || m.size < 8 {
		return nil
	}
	dark := make([]bool, x1-x0)
	for x := x0; x < x1; x++ {
		base := m.at + m.slope*float64(x)
		top, low := max(0, int(base-0.78*m.size)), min(g.Rect.Dy()-1, int(base+0.24*m.size))
		for y := top; y <= low; y++ {
			if g.Pix[y*g.Stride+x] < 140 {
				dark[x-x0] = true
				break
			}
		}
	}
	type gap struct{ from, to int }
	var gaps []gap
	first, last := -1, -1
	for x, d := range dark {
		if !d {
			continue
		}
		if first < 0 {
			first = x
		} else if x-last > 1 {
			gaps = append(gaps, gap{last + 1, x})
		}
		last = x
	}
	if first < 0 || len(gaps) < n-1 {
		return nil
	}
	slices.SortFunc(gaps, func(a, b gap) int { return (b.to - b.from) - (a.to - a.from) })
	if n-1 < len(gaps) && n > 1 {
		if in, out := gaps[n-2].to-gaps[n-2].from, gaps[n-1].to-gaps[n-1].from; float64(in) < 1.15*float64(out) {
			return nil
		}
	}
	gaps = gaps[:n-1]
	slices.SortFunc(gaps, func(a, b gap) int { return a.from - b.from })
	out := make([][2]float64, n)
	at := first
	for i := range out {
		end := last + 1
		if i < n-1 {
			end = gaps[i].from
		}
		out[i] = [2]float64{float64(x0 + at), float64(x0 + end)}
		w := l.Words[i].Box
		if mid := (out[i][0] + out[i][1]) / 2; math.Abs(mid-float64(w.Min.X+w.Max.X)/2) > 0.8*m.size || math.Abs(out[i][0]-float64(w.Min.X)) > m.size {
			return nil
		}
		if i < n-1 {
			at = gaps[i].to
		}
	}
	return out
}

// toInk sets the sides of words to where their ink is.
func toInk(g *image.Gray, lines []ocr.Line) {
	for i := range lines {
		l := &lines[i]
		for k, x := range inked(g, *l, measure(*l)) {
			l.Words[k].Box.Min.X, l.Words[k].Box.Max.X = int(x[0]), int(x[1])
		}
	}
}

// Letters leave a little room at their sides, which belongs to a word as it is set: in parts of the size of type.
const (
	roomBefore = 0.04
	roomBehind = 0.05
)

// room gives what is left free before and behind the ink of a word.
func room(s string) (before, behind float64) {
	r := []rune(s)
	before, behind = roomBefore, roomBehind
	if r[0] == '1' {
		before = 0.1
	}
	switch r[len(r)-1] {
	case '.', ',', ':', ';', '1':
		behind = 0.08
	}
	return
}

// place sets lines that were read in a picture on the page. words that lie on real text are left out.
func place(lines []ocr.Line, px *pixels, f *scan.Found, text []pdf.Rect, firstPar int) (out []Line, pars int) {
	w, h := px.gray.Rect.Dx(), px.gray.Rect.Dy()
	at := func(x, y float64) (float64, float64) {
		x, y = f.Place(w, h, x, y)
		return px.toPage.Apply(x, y)
	}
	last := [2]int{-1, -1}
	pars = firstPar
	for _, l := range lines {
		m := measure(l)
		foot := func(x float64) (float64, float64) { return at(x, m.at+m.slope*x) }
		x0, y0 := foot(float64(l.Box.Min.X))
		x1, y1 := foot(float64(l.Box.Max.X))
		ux, uy := at(float64(l.Box.Min.X), m.at+m.slope*float64(l.Box.Min.X)-m.size)
		line := Line{Size: math.Hypot(ux-x0, uy-y0), Angle: math.Round(math.Atan2(y1-y0, x1-x0)*180/math.Pi*20) / 20}
		for _, word := range l.Words {
			if word.Sure < leastSure && !plain(word.Text) {
				continue
			}
			from, to := float64(word.Box.Min.X), float64(word.Box.Max.X)
			before, behind := room(word.Text)
			bx, by := foot(from - before*m.size)
			ex, ey := foot(to + behind*m.size)
			if on(text, (bx+ex)/2+(ux-x0)*0.3, (by+ey)/2+(uy-y0)*0.3) {
				continue
			}
			line.Words = append(line.Words, Word{Text: word.Text, X: round(bx, 100), Y: round(by, 100), Long: round(math.Hypot(ex-bx, ey-by), 100), Sure: int(word.Sure + 0.5)})
		}
		if len(line.Words) == 0 {
			continue
		}
		if k := [2]int{l.Block, l.Par}; k != last {
			last = k
			pars++
		}
		line.Par, line.block = pars, l.Block
		line.Size = max(1, round(line.Size, 5))
		line.part()
		out = append(out, line)
	}
	even(out)
	return byRows(out), pars
}

// Gaps between words, in parts of the size: programs that take text go by the room between words, and join those that stand too close.
const (
	leastGap = 0.16
	mostCut  = 0.14 // of a word's end, for the sake of the gap behind it
)

// part sees to it that there is room between words.
func (l *Line) part() {
	for i := 1; i < len(l.Words); i++ {
		a, b := &l.Words[i-1], &l.Words[i]
		gap := math.Hypot(b.X-a.X, b.Y-a.Y) - a.Long
		if short := leastGap*l.Size - gap; short > 0 {
			a.Long = round(max(0.5*a.Long, a.Long-min(short, mostCut*l.Size)), 100)
		}
	}
}

// leastSure is how sure a reading that is no word must be to be kept: pictures are full of what looks like letters.
const leastSure = 25

// plain reports whether a reading is made of letters and figures, as words are.
func plain(s string) bool {
	n := 0
	for _, r := range s {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			n++
		}
	}
	return n*2 < len([]rune(s)) && len([]rune(s)) > 2
}

func round(v, by float64) float64 { return math.Round(v*by) / by }

func on(rects []pdf.Rect, x, y float64) bool {
	for _, r := range rects {
		if x >= r.X0 && x <= r.X1 && y >= r.Y0 && y <= r.Y1 {
			return true
		}
	}
	return false
}

// even gives the lines of a paragraph, and runs of paragraphs whose type is nearly the same, one size and angle: single lines are measured less well than many.
func even(lines []Line) {
	for i := 0; i < len(lines); {
		k := i + 1
		sizes := []float64{lines[i].Size}
		for k < len(lines) && math.Abs(lines[k].Size-lines[i].Size) < 0.15*lines[i].Size {
			sizes = append(sizes, lines[k].Size)
			k++
		}
		slices.Sort(sizes)
		mid := sizes[len(sizes)/2]
		for ; i < k; i++ {
			if math.Abs(lines[i].Size-mid) < 0.12*mid {
				lines[i].Size = mid
			}
		}
	}
	count := map[float64]int{}
	best := 0.0
	for _, l := range lines {
		n := len(l.Words)
		count[l.Angle] += n
		if count[l.Angle] > count[best] {
			best = l.Angle
		}
	}
	for i := range lines {
		lines[i].along(best)
	}
}

// Lines run the same way where their angles are that near, in degrees, or where their ends are no further off than that, in points: single lines are measured
// less well than many, and whoever takes text puts the lines of one way in order.
const (
	sameAngle = 0.12
	sameWay   = 1.0
	sameEnds  = 1.2
)

// along turns a line to an angle about its middle, where it runs that way.
func (l *Line) along(angle float64) {
	n := len(l.Words)
	off := l.Angle - angle
	if n == 0 || off == 0 {
		return
	}
	if math.Abs(off) < sameAngle {
		l.Angle = angle
		return
	}
	first, last := l.Words[0], l.Words[n-1]
	long := math.Hypot(last.X-first.X, last.Y-first.Y) + last.Long
	if math.Abs(off) > sameWay || math.Abs(off)*math.Pi/180*long/2 > sameEnds {
		return
	}
	was, now := l.Angle*math.Pi/180, angle*math.Pi/180
	mx, my := first.X+math.Cos(was)*long/2, first.Y+math.Sin(was)*long/2
	for i := range l.Words {
		w := &l.Words[i]
		s := (w.X-mx)*math.Cos(was) + (w.Y-my)*math.Sin(was)
		w.X, w.Y = round(mx+s*math.Cos(now), 100), round(my+s*math.Sin(now), 100)
	}
	l.Angle = angle
}

// layer makes an invisible layer of lines.
func layer(lines []Line, note string) *draw.Invisible {
	u := &draw.Invisible{Note: note}
	for _, l := range lines {
		one := draw.InvisibleLine{Size: l.Size, Angle: l.Angle}
		for _, w := range l.Words {
			one.Words = append(one.Words, draw.InvisibleWord{Text: w.Text, X: w.X, Y: w.Y, Long: w.Long})
		}
		u.Lines = append(u.Lines, one)
	}
	return u
}
