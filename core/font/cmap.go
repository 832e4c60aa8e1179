package font

import (
	"archive/zip"
	"bytes"
	"cmp"
	_ "embed"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"
	"unicode/utf16"

	"glenrain/core/pdf"
)

//go:embed data/cmaps.zip
var cmapFiles []byte

// CMap maps the codes of a composite font to CIDs, or any font's codes to text (9.7.5, 9.10.3).
type CMap struct {
	Name     string
	Vertical bool // WMode 1
	// Registry and Ordering name the character collection of the CIDs.
	Registry, Ordering string

	use    *CMap // what usecmap names
	spaces []codeSpace
	cids   [5][]cidRange // by length of the code in bytes
	texts  []textRange
}

// codeSpace is a range of codes of n bytes: each byte lies between those of lo and hi.
type codeSpace struct {
	n      int
	lo, hi uint32
}

type cidRange struct{ lo, hi, cid uint32 }

// textRange maps codes to text: that of lo, its last character one further with each code.
type textRange struct {
	lo, hi uint32
	text   []uint16
}

// identity is the predefined Identity-H or Identity-V (table 116).
func identity(name string, vertical bool) *CMap {
	m := &CMap{Name: name, Vertical: vertical, spaces: []codeSpace{{2, 0, 0xffff}}}
	m.cids[2] = []cidRange{{0, 0xffff, 0}}
	return m
}

// PredefinedCMap gives a CMap that the standard names (table 116), or nil. The four Adobe collections' maps to
// text are called Adobe-Japan1-UCS2 and so on.
func PredefinedCMap(name string) *CMap {
	switch name {
	case "Identity-H":
		return identity(name, false)
	case "Identity-V":
		return identity(name, true)
	}
	predefined.Lock()
	m, ok := predefined.maps[name]
	predefined.Unlock()
	if ok {
		return m
	}
	z, err := zip.NewReader(bytes.NewReader(cmapFiles), int64(len(cmapFiles)))
	if err != nil {
		return nil
	}
	f, err := z.Open(name)
	if err != nil || strings.Contains(name, "/") {
		return nil
	}
	defer f.Close()
	data, err := io.ReadAll(f)
	if err != nil {
		return nil
	}
	m = ParseCMap(data, PredefinedCMap)
	predefined.Lock()
	predefined.maps[name] = m
	predefined.Unlock()
	return m
}

var predefined = struct {
	sync.Mutex
	maps map[string]*CMap
}{maps: map[string]*CMap{}}

// maxCMap bounds how many entries one CMap may have.
const maxCMap = 1 << 20

// ParseCMap reads a CMap file (Adobe Technical Note 5014); use gives the map that usecmap names. What can't
// be read is passed over.
func ParseCMap(data []byte, use func(name string) *CMap) *CMap {
	m := &CMap{}
	lx := &pdf.Lexer{Data: data}
	var held []pdf.Object // operands since the last operator
	entries := 0
	for entries < maxCMap {
		at := lx.Pos
		o, err := lx.Next()
		if err != nil {
			if lx.Pos <= at || errors.Is(err, pdf.ErrTooDeep) {
				break
			}
			if lx.Pos >= len(data) {
				break
			}
			continue
		}
		word, ok := o.(pdf.Keyword)
		if !ok {
			if len(held) < 400 {
				held = append(held, o)
			}
			continue
		}
		switch word {
		case "usecmap":
			if n, ok := last(held).(pdf.Name); ok && use != nil {
				m.use = use(string(n))
			}
		case "def":
			m.define(held)
		case "endcodespacerange":
			for i := 0; i+1 < len(held); i += 2 {
				lo, n, ok1 := codeOf(held[i])
				hi, _, ok2 := codeOf(held[i+1])
				if ok1 && ok2 {
					m.spaces = append(m.spaces, codeSpace{n, lo, hi})
				}
			}
		case "endcidrange":
			for i := 0; i+2 < len(held); i += 3 {
				lo, n, ok1 := codeOf(held[i])
				hi, _, ok2 := codeOf(held[i+1])
				if cid, ok := held[i+2].(pdf.Integer); ok && ok1 && ok2 && lo <= hi && cid >= 0 {
					m.cids[n] = append(m.cids[n], cidRange{lo, hi, uint32(cid)})
					entries++
				}
			}
		case "endcidchar":
			for i := 0; i+1 < len(held); i += 2 {
				lo, n, ok1 := codeOf(held[i])
				if cid, ok := held[i+1].(pdf.Integer); ok && ok1 && cid >= 0 {
					m.cids[n] = append(m.cids[n], cidRange{lo, lo, uint32(cid)})
					entries++
				}
			}
		case "endbfrange":
			for i := 0; i+2 < len(held); i += 3 {
				entries += m.bfRange(held[i], held[i+1], held[i+2])
			}
		case "endbfchar":
			for i := 0; i+1 < len(held); i += 2 {
				entries += m.bfRange(held[i], held[i], held[i+1])
			}
		}
		if word != "dict" && word != "dup" {
			held = held[:0]
		}
	}
	for n := range m.cids {
		slices.SortStableFunc(m.cids[n], func(a, b cidRange) int { return cmp.Compare(a.lo, b.lo) })
	}
	slices.SortStableFunc(m.texts, func(a, b textRange) int { return cmp.Compare(a.lo, b.lo) })
	return m
}

func last(held []pdf.Object) pdf.Object {
	if len(held) == 0 {
		return nil
	}
	return held[len(held)-1]
}

func (m *CMap) define(held []pdf.Object) {
	if len(held) < 2 {
		return
	}
	key, _ := held[len(held)-2].(pdf.Name)
	switch v := last(held).(type) {
	case pdf.Integer:
		if key == "WMode" {
			m.Vertical = v == 1
		}
	case pdf.Name:
		if key == "CMapName" {
			m.Name = string(v)
		}
	case pdf.String:
		switch key {
		case "Registry":
			m.Registry = string(v)
		case "Ordering":
			m.Ordering = string(v)
		}
	}
}

// codeOf gives a code and its length in bytes.
func codeOf(o pdf.Object) (code uint32, n int, ok bool) {
	s, ok := o.(pdf.String)
	if !ok || len(s) == 0 || len(s) > 4 {
		return 0, 0, false
	}
	for i := range len(s) {
		code = code<<8 | uint32(s[i])
	}
	return code, len(s), true
}

func (m *CMap) bfRange(from, to, target pdf.Object) int {
	lo, _, ok1 := codeOf(from)
	hi, _, ok2 := codeOf(to)
	if !ok1 || !ok2 || lo > hi {
		return 0
	}
	switch t := target.(type) {
	case pdf.String:
		m.texts = append(m.texts, textRange{lo, hi, utf16Of(string(t))})
	case pdf.Name:
		if text := TextOf(string(t)); text != "" {
			m.texts = append(m.texts, textRange{lo, lo, utf16.Encode([]rune(text))})
		}
	case pdf.Integer: // written so by some programs
		if t >= 0 && t < 0xffff {
			m.texts = append(m.texts, textRange{lo, hi, []uint16{uint16(t)}})
		}
	case pdf.Array:
		for i, e := range t {
			s, ok := e.(pdf.String)
			if c := lo + uint32(i); ok && c <= hi {
				m.texts = append(m.texts, textRange{c, c, utf16Of(string(s))})
			}
		}
		return len(t)
	}
	return 1
}

// utf16Of reads UTF-16BE; a lone byte stands for itself.
func utf16Of(s string) []uint16 {
	if len(s) == 1 {
		return []uint16{uint16(s[0])}
	}
	out := make([]uint16, 0, len(s)/2)
	for i := 0; i+1 < len(s); i += 2 {
		out = append(out, uint16(s[i])<<8|uint16(s[i+1]))
	}
	return out
}

// Next cuts the next code from s: its value and its length in bytes, at least 1 (9.7.6.3).
func (m *CMap) Next(s []byte) (code uint32, n int) {
	if len(m.spaces) == 1 && m.spaces[0] == (codeSpace{2, 0, 0xffff}) && len(s) >= 2 {
		return uint32(s[0])<<8 | uint32(s[1]), 2
	}
	shortest := 4
	for n = 1; n <= 4 && n <= len(s); n++ {
		code = code<<8 | uint32(s[n-1])
		for at := m; at != nil; at = at.use {
			for _, sp := range at.spaces {
				if sp.n == n && sp.holds(code) {
					return code, n
				}
				shortest = min(shortest, sp.n)
			}
		}
	}
	// No code space holds it: as many bytes as the shortest code that it begins.
	n, code = 0, 0
	for n < shortest && n < len(s) {
		code = code<<8 | uint32(s[n])
		n++
	}
	return code, n
}

func (c codeSpace) holds(code uint32) bool {
	for shift := 0; shift < 8*c.n; shift += 8 {
		if b := code >> shift & 0xff; b < c.lo>>shift&0xff || b > c.hi>>shift&0xff {
			return false
		}
	}
	return true
}

// CID gives the CID of a code of n bytes.
func (m *CMap) CID(code uint32, n int) (cid uint32, ok bool) {
	if n < 1 || n > 4 {
		return 0, false
	}
	for depth := 0; m != nil && depth < 10; m, depth = m.use, depth+1 {
		list := m.cids[n]
		i, found := slices.BinarySearchFunc(list, code, func(r cidRange, c uint32) int { return cmp.Compare(r.lo, c) })
		if found {
			for i+1 < len(list) && list[i+1].lo == code { // of two the later one holds
				i++
			}
		} else {
			i--
		}
		for ; i >= 0 && i < len(list); i-- {
			if list[i].hi >= code {
				return list[i].cid + code - list[i].lo, true
			}
			if list[i].lo+0xffff < code {
				break
			}
		}
	}
	return 0, false
}

// Text gives what a code stands for.
func (m *CMap) Text(code uint32) (string, bool) {
	for depth := 0; m != nil && depth < 10; m, depth = m.use, depth+1 {
		list := m.texts
		i, found := slices.BinarySearchFunc(list, code, func(r textRange, c uint32) int { return cmp.Compare(r.lo, c) })
		if found {
			for i+1 < len(list) && list[i+1].lo == code {
				i++
			}
		} else {
			i--
		}
		for ; i >= 0 && i < len(list); i-- {
			if r := list[i]; r.hi >= code {
				u := r.text
				if code > r.lo && len(u) > 0 {
					u = slices.Clone(u)
					u[len(u)-1] += uint16(code - r.lo)
				}
				return string(utf16.Decode(u)), true
			}
			if list[i].lo+0xffff < code {
				break
			}
		}
	}
	return "", false
}

// CodeOf gives a code, and its length, that stands for a CID.
func (m *CMap) CodeOf(cid uint32) (code uint32, n int, ok bool) {
	for depth := 0; m != nil && depth < 10; m, depth = m.use, depth+1 {
		for n := 1; n <= 4; n++ {
			for _, r := range m.cids[n] {
				if cid >= r.cid && cid-r.cid <= r.hi-r.lo {
					return r.lo + cid - r.cid, n, true
				}
			}
		}
	}
	return 0, 0, false
}

// HasText reports whether the map leads to text at all.
func (m *CMap) HasText() bool { return m != nil && (len(m.texts) > 0 || m.use.HasText()) }
