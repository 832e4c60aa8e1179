package edit

import (
	"math"
	"slices"

	"glenrain/core/compare"
	"glenrain/core/layout"
	"glenrain/core/step"
)

// row is a line as it is set.
type row struct {
	chars  []char
	u, v   float64
	space  float64 // of the gaps that are not fixed
	hyphen bool
	kept   bool // it is broken as it was
	hard   bool // it ends whatever comes
}

// Bounds of how much lines and their spaces give way.
const (
	leastSpace   = 0.8  // of a space, in justified text
	leastLeading = 0.88 // of the leading, where there is no other room
	mostGiven    = 0.6  // of the gap below a paragraph
	overhang     = 0.3  // points by which a line may be longer
)

// width is how long characters are, with spaces as they are usually set; and how many of these can be stretched.
func (p *para) width(chars []char) (w float64, spaces int) {
	for i := range chars {
		c := &chars[i]
		switch {
		case c.soft && i != len(chars)-1:
		case c.space && !c.fixed:
			w += p.gapOf(c)
			spaces++
		case i == len(chars)-1:
			w += c.wide
		default:
			w += c.adv
		}
	}
	return w, spaces
}

// gapOf is how wide a space is, as it is usually set there.
func (p *para) gapOf(c *char) float64 {
	gap := p.gap
	if c.nat > 0 {
		gap = c.nat
	}
	if c.style == nil {
		return gap
	}
	return gap*p.ratioOf(c) + c.style.spacing
}

// alike reports whether a character is one that stood there already.
func (p *para) alike(a, b *char) bool {
	if a.space != b.space || a.style != b.style || a.hard != b.hard || a.soft != b.soft {
		return false
	}
	if a.space || a.glyph >= 0 && a.glyph == b.glyph {
		return true
	}
	if a.text != b.text || a.text == "" || a.other != nil || b.other != nil { // a letter that was put in its own place is no change
		return false
	}
	x, y := p.page.Shows[a.show].State, p.page.Shows[b.show].State
	return x == y || x.Font == y.Font && x.Size == y.Size && samePaint(x.Fill, y.Fill)
}

// stood gives for each character the one that it was on the page, or -1.
func (p *para) stood() []int {
	out := make([]int, len(p.chars))
	for i := range out {
		out[i] = -1
	}
	if p.anew {
		return out
	}
	key := func(list []char) []string {
		keys := make([]string, len(list))
		for i := range list {
			c := &list[i]
			keys[i] = c.text
			if c.soft {
				keys[i] = "\u00ad"
			} else if c.space {
				keys[i] = " "
			}
		}
		return keys
	}
	note := func(a, b int) {
		if p.alike(&p.before[a], &p.chars[b]) {
			out[b] = a
		}
	}
	a, b := 0, 0
	for _, c := range append(compare.Diff(key(p.before), key(p.chars)), compare.Change{A0: len(p.before), A1: len(p.before), B0: len(p.chars), B1: len(p.chars)}) {
		for a < c.A0 && b < c.B0 {
			note(a, b)
			a, b = a+1, b+1
		}
		a, b = c.A1, c.B1
	}
	return out
}

// end is where a line ended, as characters of before.
func (p *para) end(i int) int {
	if i+1 < len(p.lines) {
		return p.lines[i+1].first
	}
	return len(p.before)
}

// looseness is how much the loosest of the lines that are filled gives: as a space where lines are justified, as room at its end elsewhere.
func (p *para) looseness() (most float64) {
	for i := 0; i+1 < len(p.lines); i++ {
		end := p.end(i)
		if end > 0 && p.before[end-1].hard {
			continue
		}
		free := p.limit - p.lines[i].u1
		if p.align == layout.Justified {
			w, n := p.width(trimmed(p.before[p.lines[i].first:end]))
			if free = 0; n > 0 {
				free = p.gap + (p.lines[i].u1-p.lines[i].u0-w)/float64(n)
			}
		}
		most = max(most, free)
	}
	return most
}

func trimmed(chars []char) []char {
	for len(chars) > 0 && chars[len(chars)-1].space {
		chars = chars[:len(chars)-1]
	}
	return chars
}

// asItWas gives a line with the characters that it had, at the places that they had along it; by is how much further on they come now.
func (p *para) asItWas(i, by int) row {
	end := len(p.before)
	if i+1 < len(p.lines) {
		end = p.lines[i+1].first
	}
	chars := slices.Clone(p.before[p.lines[i].first:end])
	for len(chars) > 0 && chars[len(chars)-1].space {
		chars = chars[:len(chars)-1]
	}
	for k := range chars {
		chars[k].fixed = true
		chars[k].id = p.lines[i].first + k + by
	}
	return row{chars: chars, u: p.lines[i].u0, kept: true}
}

// wrap breaks the paragraph into lines.
func (p *para) wrap() (rows []row, err error) {
	tight := 1.0
	if p.align == layout.Justified {
		tight = leastSpace
	}
	p.number()
	was := stoodLines{stood: p.stood(), starts: map[int]int{}, loosest: p.looseness()}
	for i, l := range p.lines {
		was.starts[l.first] = i
	}
	from := 0
	for from < len(p.chars) {
		for from < len(p.chars) && p.chars[from].space && !p.chars[from].hard {
			from++
		}
		if from >= len(p.chars) {
			break
		}
		if p.chars[from].hard {
			rows = append(rows, row{u: p.left, space: p.gap, hard: true})
			from++
			continue
		}
		if k, ok := was.starts[was.stood[from]]; ok && was.stood[from] >= 0 && (k == 0) == (len(rows) == 0) { // a line that says what it said stays
			n := p.end(k) - p.lines[k].first
			whole := from+n <= len(p.chars) && (k+1 < len(p.lines) || from+n == len(p.chars))
			for i := 0; whole && i < n; i++ {
				whole = was.stood[from+i] == p.lines[k].first+i
			}
			if whole {
				rows = append(rows, p.asItWas(k, from-p.lines[k].first))
				from += n
				continue
			}
		}
		left := p.left
		if len(rows) == 0 {
			left = p.lines[0].u0
		}
		room := p.limit - left
		if p.align == layout.Centred || p.align == layout.Right {
			room = p.limit - min(p.left, p.lines[0].u0)
		}
		end, hyphen := p.fit(from, room, tight, was)
		if end < 0 {
			word := from
			for word < len(p.chars) && !p.chars[word].space {
				word++
			}
			return nil, step.Refuse("“%s” is wider than the column", spelled(p.chars[from:word]))
		}
		r := row{chars: slices.Clone(p.chars[from:end]), u: left, space: p.gap, hyphen: hyphen, hard: end < len(p.chars) && p.chars[end].hard}
		rows = append(rows, r)
		from = end
		if r.hard { // it is one line that ends; a second one behind it is an empty line
			from++
		}
	}
	p.setRows(rows)
	return rows, nil
}

// stoodLines is where lines began before.
type stoodLines struct {
	stood   []int       // of each character, where it stood; below 0 for new ones
	starts  map[int]int // lines by their first characters
	loosest float64     // how much was left free at the end of a line
}

// fit gives how far the line from a character on goes in its room, and whether it ends with a hyphen; end is -1 where nothing fits.
func (p *para) fit(from int, room, tight float64, was stoodLines) (end int, hyphen bool) {
	end = -1
	for i := from + 1; i <= len(p.chars); i++ { // as far as it fits
		atSpace := i == len(p.chars) || p.chars[i].space
		atSoft := i < len(p.chars) && p.chars[i-1].soft
		between := !atSpace && !atSoft && parts(&p.chars[i-1], &p.chars[i])
		if !atSpace && !atSoft && !between {
			continue
		}
		w, spaces := p.width(p.chars[from:i])
		if w-(1-tight)*p.gap*float64(spaces) > room+overhang {
			break
		}
		end, hyphen = i, atSoft && !atSpace
		if next := i + 1; (atSoft || between) && !atSpace || i < len(p.chars) && next < len(p.chars) { // where a line ended, one may end again, if it is not looser than others
			if (atSoft || between) && !atSpace {
				next = i
			}
			if _, ok := was.starts[was.stood[next]]; ok && was.stood[next] > 0 {
				free := room - w
				if p.align == layout.Justified {
					free = p.gap + (room-w)/float64(max(1, spaces))
				}
				if free <= was.loosest+0.01 {
					break
				}
			}
		}
		if i < len(p.chars) && p.chars[i].hard {
			break
		}
	}
	return end, hyphen
}

// setRows aligns new lines, and takes out hyphens that part no word any more.
func (p *para) setRows(rows []row) {
	for i := range rows {
		r := &rows[i]
		if r.kept {
			continue
		}
		if !r.hyphen {
			r.chars = slices.DeleteFunc(r.chars, func(c char) bool { return c.soft })
		} else {
			last := len(r.chars) - 1
			kept := r.chars[:0]
			for k, c := range r.chars {
				if !c.soft || k == last {
					kept = append(kept, c)
				}
			}
			r.chars = kept
		}
		w, spaces := p.width(r.chars)
		switch p.align {
		case layout.Right:
			r.u = p.limit - w
		case layout.Centred:
			r.u = p.middle() - w/2
		case layout.Justified:
			last := i == len(rows)-1 || r.hard
			if last && !r.hard { // of a paragraph that goes on elsewhere, the last line is full, too
				was := p.lines[len(p.lines)-1]
				full := p.limit-was.u1 < 1 && p.limit-r.u-w < 2*p.size
				last = !full && r.u+w <= p.limit+overhang
			}
			switch {
			case last:
			case spaces > 0:
				r.space = p.gap + (p.limit-r.u-w)/float64(spaces)
			default:
				p.fillOut(r, p.limit-r.u-w)
			}
		}
	}
}

// middle is where centred lines have their middle.
func (p *para) middle() float64 {
	if p.centre != 0 {
		return p.centre
	}
	return (p.lines[0].u0 + p.lines[0].u1) / 2
}

// What happens where a paragraph grows.
const (
	growAuto    = ""
	growPush    = "push"    // what stands below moves down
	growTighten = "tighten" // its lines stand closer
	growFill    = "fill"    // it takes the room down to what stands below
)

// fit is how a paragraph was fitted in.
type fit struct {
	Lines int     // by how many it grew; negative where it has fewer
	Moved float64 // points that what stands below it moves down
	Tight bool
	Need  float64 // points that it grew by
}

// leads gives how far each line stands below the one before it; the first one's is how far it stands below where it stood.
func (p *para) leads(rows []row) []float64 {
	out := make([]float64, len(rows))
	for i := range rows {
		large := 0.0
		for k := range rows[i].chars {
			if c := &rows[i].chars[k]; c.style != nil && c.style.size != 0 && !c.space {
				large = max(large, c.style.size)
			}
		}
		lead := p.leading
		if i > 0 && i < len(p.lines) && !p.spread {
			lead = p.lines[i-1].v - p.lines[i].v
		}
		switch {
		case i == 0:
			lead = p.lower
			if large > p.size {
				lead += 0.75 * (large - p.size)
			}
		case large > 1.02*p.size && !p.spread:
			lead = max(lead, p.leading*large/p.size)
		}
		out[i] = lead
	}
	return out
}

// place gives each line its height; where there is not enough room below, what is to happen does.
func (p *para) place(rows []row, grow string) (f fit, err error) {
	n := len(p.lines)
	f.Lines = len(rows) - n
	leads := p.leads(rows)
	set := func() {
		v := p.lines[0].v
		for i := range rows {
			v -= leads[i]
			rows[i].v = v
		}
		f.Need = 0
		if len(rows) > 0 {
			f.Need = p.lines[n-1].v - v
		}
	}
	set()
	if f.Need <= 0.05 {
		return f, nil
	}
	free := p.lines[n-1].v - 0.28*p.size - p.below
	natural := free
	if free < 1.5*p.leading { // what parts it from the next paragraph stays, by and large
		natural *= mostGiven
	}
	push := func() bool {
		by := f.Need - max(0, free-p.leading)
		if by <= 0 || p.push == nil {
			return false
		}
		f.Moved = by
		return p.push(by)
	}
	tighten := func() bool {
		whole := p.lines[0].v - p.lines[n-1].v - leads[0] + natural // between the first baseline and the lowest that may be
		if len(rows) < 2 {
			return false
		}
		least, most := 0.0, 0.0
		for _, l := range leads[1:] {
			most += l
		}
		if least = whole / most; least < leastLeading || n < 2 && len(rows) > 2 {
			return false
		}
		for i := range leads[1:] {
			leads[i+1] *= min(1, least)
		}
		set()
		f.Tight = true
		return true
	}
	var ok bool
	switch grow {
	case growPush:
		ok = push() || f.Need <= natural || tighten()
	case growTighten:
		ok = f.Need <= 0 || tighten() || f.Need <= natural
	case growFill:
		ok = f.Need <= free || tighten()
	default:
		ok = f.Need <= natural || push() || tighten()
	}
	if !ok {
		f.Moved = 0
		if f.Lines > 0 {
			return f, step.Refuse("the text is %s longer and needs %.0f pt more space below", step.Count(f.Lines, "line"), math.Ceil(f.Need-natural))
		}
		return f, step.Refuse("it is %.0f pt longer and needs %.0f pt more space below", math.Ceil(f.Need), math.Ceil(f.Need-natural))
	}
	if f.Tight || grow != growPush && f.Need <= natural {
		f.Moved = 0
	}
	return f, nil
}
