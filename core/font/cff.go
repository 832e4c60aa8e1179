package font

import (
	"math"
	"strconv"
	"strings"
)

// parseCFF reads a Compact Font Format program (Adobe Technical Note 5176), bare or CID-keyed.
func parseCFF(data []byte) *Program {
	r := &cffReader{data: data}
	at := int(data[2])
	_, at = r.index(at) // names
	tops, at := r.index(at)
	strs, at := r.index(at)
	r.index(at) // global subroutines
	if len(tops) == 0 {
		return nil
	}
	r.strings = strs
	top := cffDict(tops[0])
	glyphs, _ := r.index(top.int(17, 0))
	if len(glyphs) == 0 {
		return nil
	}
	p := &Program{Kind: CFFProgram, Glyphs: len(glyphs), Matrix: [6]float64{0.001, 0, 0, 0.001}}
	if m := top[12<<8|7]; len(m) == 6 {
		copy(p.Matrix[:], m)
	}
	_, p.CIDs = top[12<<8|30]
	sids := r.charset(top.int(15, 0), len(glyphs), p.CIDs)
	if p.CIDs {
		p.cidOf = sids
		p.cid = make(map[uint32]int, len(sids))
		for g, c := range sids {
			if _, ok := p.cid[c]; !ok {
				p.cid[c] = g
			}
		}
	} else {
		p.names = make([]string, len(glyphs))
		p.byName = make(map[string]int, len(glyphs))
		for g, s := range sids {
			p.names[g] = r.text(int(s))
			if _, ok := p.byName[p.names[g]]; !ok {
				p.byName[p.names[g]] = g
			}
		}
		p.Encoding = r.encoding(top.int(16, 0), p)
	}
	p.outline = func(gid int) bool { return draws(glyphs[gid]) }
	if at := top[18]; len(at) == 2 && !p.CIDs { // Private: its size and where it stands
		size, from := int(at[0]), int(at[1])
		if size >= 0 && from >= 0 && from+size <= len(data) {
			private := cffDict(data[from : from+size])
			usual, nominal := private.number(20), private.number(21)
			p.width = func(gid int) (float64, bool) {
				w, ok := type2Width(glyphs[gid], usual, nominal)
				return w * p.Matrix[0], ok
			}
		}
	}
	return p
}

type cffReader struct {
	data    []byte
	strings [][]byte
}

// index reads an INDEX: its parts and where it ends.
func (r *cffReader) index(at int) (parts [][]byte, end int) {
	n := int(be16(r.data, at))
	at += 2
	if n == 0 {
		return nil, at
	}
	size := int(r.data[at])
	if size < 1 || size > 4 {
		panic("offset size")
	}
	at++
	base := at + (n+1)*size - 1
	off := func(i int) int {
		v := 0
		for _, b := range r.data[at+i*size : at+(i+1)*size] {
			v = v<<8 | int(b)
		}
		return v
	}
	parts = make([][]byte, n)
	for i := range parts {
		a, b := base+off(i), base+off(i+1)
		if b > len(r.data) {
			b = len(r.data)
		}
		if a > b {
			a = b
		}
		parts[i] = r.data[a:b]
	}
	return parts, base + off(n)
}

// text gives the string of an SID.
func (r *cffReader) text(sid int) string {
	if sid < len(cffStrings) {
		return cffStrings[sid]
	}
	if i := sid - len(cffStrings); i < len(r.strings) {
		return string(r.strings[i])
	}
	return ""
}

// dictOf is a DICT: operands by operator, two-byte ones as 12<<8 | second.
type dictOf map[int][]float64

func (d dictOf) int(op, def int) int {
	if v := d[op]; len(v) > 0 && v[len(v)-1] >= 0 && v[len(v)-1] < math.MaxInt32 {
		return int(v[len(v)-1])
	}
	return def
}

func (d dictOf) number(op int) float64 {
	if v := d[op]; len(v) > 0 {
		return v[len(v)-1]
	}
	return 0
}

func cffDict(b []byte) dictOf {
	d := dictOf{}
	var held []float64
	for i := 0; i < len(b); {
		c := int(b[i])
		i++
		switch {
		case c == 12 && i < len(b):
			d[12<<8|int(b[i])] = held
			held = nil
			i++
		case c <= 21:
			d[c] = held
			held = nil
		case c == 28 && i+2 <= len(b):
			held = append(held, float64(int16(be16(b, i))))
			i += 2
		case c == 29 && i+4 <= len(b):
			held = append(held, float64(int32(be32(b, i))))
			i += 4
		case c == 30:
			var s strings.Builder
			for done := false; !done && i < len(b); i++ {
				for _, n := range []byte{b[i] >> 4, b[i] & 15} {
					switch {
					case n <= 9:
						s.WriteByte('0' + n)
					case n == 10:
						s.WriteByte('.')
					case n == 11:
						s.WriteByte('E')
					case n == 12:
						s.WriteString("E-")
					case n == 14:
						s.WriteByte('-')
					case n == 15:
						done = true
					}
					if done {
						break
					}
				}
			}
			v, _ := strconv.ParseFloat(s.String(), 64)
			held = append(held, v)
		default:
			if v, n := shortNumber(b[i-1:]); n > 0 {
				held = append(held, v)
				i += n - 1
			}
		}
		if len(held) > 64 {
			held = held[:64]
		}
	}
	return d
}

// charset gives the SID or CID of each glyph (clause 13).
func (r *cffReader) charset(at, n int, cids bool) []uint32 {
	out := make([]uint32, 1, n)
	add := func(first, last int) {
		for s := first; s <= last && len(out) < n; s++ {
			out = append(out, uint32(s))
		}
	}
	switch {
	case at <= 2 && cids:
		add(1, n-1)
		return out
	case at == 0:
		add(1, 228)
	case at == 1: // Expert (Appendix C)
		for _, s := range [][2]int{{1, 1}, {229, 238}, {13, 15}, {99, 99}, {239, 248}, {27, 28}, {249, 266}, {109, 110}, {267, 318}, {158, 158}, {155, 155},
			{163, 163}, {319, 326}, {150, 150}, {164, 164}, {169, 169}, {327, 378}} {
			add(s[0], s[1])
		}
	case at == 2: // ExpertSubset
		for _, s := range [][2]int{{1, 1}, {231, 232}, {235, 238}, {13, 15}, {99, 99}, {239, 248}, {27, 28}, {249, 251}, {253, 266}, {109, 110}, {267, 270},
			{272, 272}, {300, 302}, {305, 305}, {314, 315}, {158, 158}, {155, 155}, {163, 163}, {320, 326}, {150, 150}, {164, 164}, {169, 169}, {327, 346}} {
			add(s[0], s[1])
		}
	default:
		format := r.data[at]
		at++
		for len(out) < n && at+2 <= len(r.data) {
			first, left := int(be16(r.data, at)), 0
			at += 2
			switch format {
			case 1:
				left = int(r.data[at])
				at++
			case 2:
				left = int(be16(r.data, at))
				at += 2
			}
			add(first, first+left)
		}
	}
	for len(out) < n {
		out = append(out, 0)
	}
	return out
}

// encoding gives the program's own encoding (clause 12).
func (r *cffReader) encoding(at int, p *Program) *[256]string {
	var e [256]string
	switch at {
	case 0:
		e = standard14("Helvetica").encoding
		return &e
	case 1:
		e = macExpert // near enough to Expert: the codes that documents use are the same
		return &e
	}
	format, n := r.data[at], int(r.data[at+1])
	at += 2
	gid := 1
	for range n {
		first, left := int(r.data[at]), 0
		at++
		if format&0x7f == 1 {
			left = int(r.data[at])
			at++
		}
		for c := first; c <= first+left && c < 256; c++ {
			if gid < len(p.names) {
				e[c] = p.names[gid]
			}
			gid++
		}
	}
	if format&0x80 != 0 {
		k := int(r.data[at])
		at++
		for range k {
			e[r.data[at]] = r.text(int(be16(r.data, at+1)))
			at += 3
		}
	}
	return &e
}

// type2Width reads the advance of a charstring (Technical Note 5177, clause 3.1): a number more than its first operator
// takes is the difference to nominal, without one it is the usual width. false where that operator stands in a subroutine.
func type2Width(b []byte, usual, nominal float64) (float64, bool) {
	n, first := 0, 0.0
	push := func(v float64) {
		if n == 0 {
			first = v
		}
		n++
	}
	for i := 0; i < len(b); {
		if v, n := shortNumber(b[i:]); n > 0 {
			push(v)
			i += n
			continue
		}
		c := int(b[i])
		i++
		more := false
		switch {
		case c == 28 && i+2 <= len(b):
			push(float64(int16(be16(b, i))))
			i += 2
			continue
		case c == 255 && i+4 <= len(b):
			push(float64(int32(be32(b, i))) / 65536)
			i += 4
			continue
		case c == 1, c == 3, c == 18, c == 19, c == 20, c == 23: // stems and their masks take pairs
			more = n%2 == 1
		case c == 21: // rmoveto
			more = n > 2
		case c == 4, c == 22: // vmoveto, hmoveto
			more = n > 1
		case c == 14: // endchar, which may take the four of an accented letter
			more = n == 1 || n == 5
		default:
			return 0, false
		}
		if more {
			return nominal + first, true
		}
		return usual, true
	}
	return 0, false
}

// draws reports whether a charstring does more than end (Technical Note 5177): a number or two for the
// width, then endchar.
func draws(b []byte) bool {
	for i := 0; i < len(b); {
		switch c := b[i]; {
		case c == 14:
			return false
		case c == 28:
			i += 3
		case c >= 32 && c <= 246:
			i++
		case c >= 247 && c <= 254:
			i += 2
		case c == 255:
			i += 5
		default:
			return true
		}
	}
	return false
}
