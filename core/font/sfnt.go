package font

// parseSFNT reads a TrueType or OpenType file as documents embed it: tables may be missing (9.9.1).
func parseSFNT(data []byte) *Program {
	if string(data[:4]) == "ttcf" && len(data) >= 16 {
		at := be32(data, 12)
		if int64(at)+12 > int64(len(data)) {
			return nil
		}
		return sfntTables(data, int(at))
	}
	return sfntTables(data, 0)
}

func sfntTables(data []byte, at int) *Program {
	tables := map[string][]byte{}
	for i := range int(be16(data, at+4)) {
		rec := at + 12 + 16*i
		if rec+16 > len(data) {
			break
		}
		off, n := uint64(be32(data, rec+8)), uint64(be32(data, rec+12))
		if off > uint64(len(data)) {
			continue
		}
		end := min(off+n, uint64(len(data)))
		tables[string(data[rec:rec+4])] = data[off:end:end]
	}
	p := &Program{Kind: TrueTypeProgram, Matrix: [6]float64{0.001, 0, 0, 0.001}}
	if cff := tables["CFF "]; cff != nil {
		if p = parseCFF(cff); p == nil {
			return nil
		}
		p.readCharMaps(tables["cmap"])
		return p
	}
	if b := tables["maxp"]; len(b) >= 6 {
		p.Glyphs = int(be16(b, 4))
	}
	head, loca, glyf := tables["head"], tables["loca"], tables["glyf"]
	units := 1000.0
	long := false
	if len(head) >= 52 {
		if u := be16(head, 18); u != 0 {
			units = float64(u)
		}
		long = be16(head, 50) != 0
	}
	entry := 2
	if long {
		entry = 4
	}
	if n := len(loca)/entry - 1; p.Glyphs == 0 || n < p.Glyphs {
		p.Glyphs = max(n, 0)
	}
	p.outline = func(gid int) bool {
		var a, b uint32
		if long {
			a, b = be32(loca, 4*gid), be32(loca, 4*gid+4)
		} else {
			a, b = 2*uint32(be16(loca, 2*gid)), 2*uint32(be16(loca, 2*gid+2))
		}
		return a < b && int64(a) < int64(len(glyf))
	}
	if hhea, hmtx := tables["hhea"], tables["hmtx"]; len(hhea) >= 36 && len(hmtx) >= 4 {
		n := min(int(be16(hhea, 34)), len(hmtx)/4)
		p.width = func(gid int) (float64, bool) {
			if n == 0 {
				return 0, false
			}
			return float64(be16(hmtx, 4*min(gid, n-1))) / units, true
		}
	}
	p.readPost(tables["post"])
	p.readCharMaps(tables["cmap"])
	return p
}

// readPost reads glyph names (post table, formats 1 and 2).
func (p *Program) readPost(b []byte) {
	if len(b) < 32 {
		return
	}
	switch be32(b, 0) {
	case 0x00010000:
		p.names = macOrder[:min(len(macOrder), p.Glyphs)]
	case 0x00020000:
		if len(b) < 34 {
			return
		}
		n := min(int(be16(b, 32)), (len(b)-34)/2)
		var own []string
		for at := 34 + 2*n; at < len(b); {
			l := int(b[at])
			if at+1+l > len(b) {
				break
			}
			own = append(own, string(b[at+1:at+1+l]))
			at += 1 + l
		}
		p.names = make([]string, n)
		for i := range n {
			switch k := int(be16(b, 34+2*i)); {
			case k < 258:
				p.names[i] = macOrder[k]
			case k-258 < len(own):
				p.names[i] = own[k-258]
			}
		}
	default:
		return
	}
	p.byName = make(map[string]int, len(p.names))
	for i, n := range p.names {
		if _, ok := p.byName[n]; !ok {
			p.byName[n] = i
		}
	}
}

// maxMapped bounds how many characters one subtable may map.
const maxMapped = 1 << 17

// readCharMaps reads the subtables of cmap, in formats 0, 4, 6 and 12.
func (p *Program) readCharMaps(b []byte) {
	if len(b) < 4 {
		return
	}
	for i := range min(int(be16(b, 2)), 32) {
		if 4+8*i+8 > len(b) {
			return
		}
		off := be32(b, 4+8*i+4)
		if int64(off)+6 > int64(len(b)) {
			continue
		}
		m := charMap{int(be16(b, 4+8*i)), int(be16(b, 4+8*i+2)), map[uint32]int{}}
		m.read(b[off:])
		p.cmaps = append(p.cmaps, m)
	}
}

func (m *charMap) read(sub []byte) {
	defer func() { _ = recover() }() // cut off: what was read holds
	switch be16(sub, 0) {
	case 0:
		for c := range 256 {
			if g := int(sub[6+c]); g != 0 {
				m.glyphs[uint32(c)] = g
			}
		}
	case 4:
		n := int(be16(sub, 6))
		ends, starts := sub[14:], sub[16+n:]
		deltas, offs := sub[16+2*n:], sub[16+3*n:]
		for i := 0; i < n; i += 2 {
			end, start := int(be16(ends, i)), int(be16(starts, i))
			delta, off := int(be16(deltas, i)), int(be16(offs, i))
			for c := start; c <= end && c < 0xffff; c++ {
				g := c + delta
				if off != 0 && off != 0xffff {
					at := i + off + 2*(c-start)
					if at+2 > len(offs) {
						break
					}
					if g = int(be16(offs, at)); g != 0 {
						g += delta
					}
				}
				if g &= 0xffff; g != 0 {
					m.glyphs[uint32(c)] = g
				}
			}
		}
	case 6:
		first, n := int(be16(sub, 6)), int(be16(sub, 8))
		for i := range n {
			if g := int(be16(sub, 10+2*i)); g != 0 {
				m.glyphs[uint32(first+i)] = g
			}
		}
	case 12:
		for j := range int(min(be32(sub, 12), 1<<16)) {
			g := sub[16+12*j:]
			first, end, gid := be32(g, 0), be32(g, 4), be32(g, 8)
			for c := first; c <= end && len(m.glyphs) < maxMapped; c++ {
				m.glyphs[c] = int(gid + c - first)
			}
		}
	}
}
