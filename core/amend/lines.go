package amend

import (
	"math"
	"slices"

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
			w += p.gap
			spaces++
		case i == len(chars)-1:
			w += c.wide
		default:
			w += c.adv
		}
	}
	return w, spaces
}

// changed gives the line in which the first change stands, and the character behind the last one.
func (p *para) changed() (line, rest int) {
	alike := func(a, b *char) bool { return a.space == b.space && a.glyph == b.glyph && (a.space || a.glyph >= 0) }
	n := min(len(p.before), len(p.chars))
	head := 0
	for head < n && alike(&p.before[head], &p.chars[head]) {
		head++
	}
	tail := 0
	for tail < n-head && alike(&p.before[len(p.before)-1-tail], &p.chars[len(p.chars)-1-tail]) {
		tail++
	}
	for line+1 < len(p.lines) && p.lines[line+1].first <= head {
		line++
	}
	return line, len(p.chars) - tail
}

// asItWas gives a line with the characters that it had, at the places that they had along it.
func (p *para) asItWas(i int) row {
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
	}
	return row{chars: chars, u: p.lines[i].u0, kept: true}
}

// wrap breaks the paragraph into lines.
func (p *para) wrap() (rows []row, err error) {
	tight := 1.0
	if p.align == layout.Justified {
		tight = leastSpace
	}
	first, rest := p.changed()
	from := 0
	for i := 0; i < len(p.lines) && i < first; i++ { // lines before what changed stay as they are
		end := p.lines[i+1].first
		rows = append(rows, p.asItWas(i))
		from = end
	}
	for from < len(p.chars) {
		for from < len(p.chars) && p.chars[from].space {
			from++
		}
		if from >= len(p.chars) {
			break
		}
		if from >= rest { // and so do those behind it, from where a line begins as it did
			at := len(p.before) - (len(p.chars) - from)
			if k := slices.IndexFunc(p.lines, func(l line) bool { return l.first == at }); k >= 0 {
				for ; k < len(p.lines); k++ {
					rows = append(rows, p.asItWas(k))
				}
				break
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
		end, hyphen := -1, false
		for i := from + 1; i <= len(p.chars); i++ { // as far as it fits
			atSpace := i == len(p.chars) || p.chars[i].space
			atSoft := i < len(p.chars) && p.chars[i-1].soft
			if !atSpace && !atSoft {
				continue
			}
			w, spaces := p.width(p.chars[from:i])
			if w-(1-tight)*p.gap*float64(spaces) > room+overhang {
				break
			}
			end, hyphen = i, atSoft && !atSpace
		}
		if end < 0 {
			word := from
			for word < len(p.chars) && !p.chars[word].space {
				word++
			}
			return nil, step.Refuse("“%s” is wider than the column", spelled(p.chars[from:word]))
		}
		r := row{chars: slices.Clone(p.chars[from:end]), u: left, space: p.gap, hyphen: hyphen}
		rows = append(rows, r)
		from = end
	}
	for i := range rows {
		r := &rows[i]
		if r.kept {
			continue
		}
		if !r.hyphen { // hyphens that part no word any more go
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
			mid := (p.lines[0].u0 + p.lines[0].u1) / 2
			r.u = mid - w/2
		case layout.Justified:
			last := i == len(rows)-1
			if last { // of a paragraph that goes on elsewhere, the last line is full, too
				was := p.lines[len(p.lines)-1]
				full := p.limit-was.u1 < 1 && p.limit-r.u-w < 2*p.size
				last = !full && r.u+w <= p.limit+overhang
			}
			if !last && spaces > 0 {
				r.space = p.gap + (p.limit-r.u-w)/float64(spaces)
			}
		}
	}
	return rows, nil
}

// place gives each line its height; lines that come new stand below, as far as there is room.
func (p *para) place(rows []row) (grown int, tightened bool, err error) {
	n := len(p.lines)
	leading := p.leading
	if len(rows) > n {
		need := float64(len(rows)-n) * leading
		last := p.lines[n-1].v
		free := last - 0.28*p.size - p.below
		if free < 1.5*leading { // what parts it from the next paragraph stays, by and large
			free *= mostGiven
		}
		if need > free {
			whole := p.lines[0].v - last + free // between the first baseline and the lowest that may be
			leading = whole / float64(len(rows)-1)
			if n < 2 || leading < leastLeading*p.leading {
				return 0, false, step.Refuse("it grows by %s, and %.0f pt are missing below it", step.Count(len(rows)-n, "line"), math.Ceil(need-free))
			}
			tightened = true
		}
	}
	for i := range rows {
		switch {
		case tightened:
			rows[i].v = p.lines[0].v - float64(i)*leading
		case i < n:
			rows[i].v = p.lines[i].v
		default:
			rows[i].v = p.lines[n-1].v - float64(i-n+1)*leading
		}
	}
	return len(rows) - n, tightened, nil
}
