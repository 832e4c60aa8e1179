package pdf

import (
	"bytes"
	"fmt"
	"io"
	"slices"
)

// xrefKind is how a file writes its cross-reference data.
type xrefKind int

const (
	xrefTable  xrefKind = iota // 7.5.4
	xrefStream                 // 7.5.8
	xrefHybrid                 // 7.5.8.4: a table with /XRefStm
)

// entry says where an object is: kind 0 free or unknown, 1 at off in the file,
// 2 the idx-th object of object stream off (7.5.8.3, table 18).
type entry struct {
	kind byte
	gen  uint16
	idx  int32
	off  int64
}

// section is one cross-reference section with what its trailer says.
type section struct {
	kind    xrefKind
	entries []numbered
	trailer *Dict
	prev    int64 // offset of the section before, or -1
	xrefStm int64 // offset of a hybrid's stream, or -1
}

type numbered struct {
	num int
	entry
}

// readSection reads the cross-reference section at off.
func (d *Document) readSection(off int64) (*section, error) {
	if off < 0 || off >= d.size {
		return nil, refuse(ErrDamaged, fmt.Sprintf("the file places its cross-reference table at byte %d, outside the file", off))
	}
	for window := int64(4096); ; window *= 8 {
		buf, last, err := d.window(off, window)
		if err != nil {
			return nil, err
		}
		l := &Lexer{Data: buf, Refs: true}
		l.SkipSpace()
		var s *section
		if bytes.HasPrefix(buf[l.Pos:], []byte("xref")) {
			l.Pos += 4
			s, err = readTable(l)
		} else {
			s, err = d.readXRefStream(off)
			last = true
		}
		if err == nil {
			return s, nil
		}
		if last {
			return nil, err
		}
	}
}

// window reads up to n bytes at off and says whether the file ends there.
func (d *Document) window(off, n int64) (buf []byte, last bool, err error) {
	if off+n >= d.size {
		n, last = d.size-off, true
	}
	if n <= 0 {
		return nil, true, nil
	}
	buf = make([]byte, n)
	if _, err := d.src.ReadAt(buf, off); err != nil && err != io.EOF {
		return nil, false, fmt.Errorf("reading the file at byte %d: %w", off, err)
	}
	return buf, last, nil
}

// readTable reads subsections and the trailer after the word xref (7.5.4, 7.5.5).
func readTable(l *Lexer) (*section, error) {
	s := &section{kind: xrefTable, prev: -1, xrefStm: -1}
	bad := refuse(ErrDamaged, "the cross-reference table can't be read")
	for {
		o, err := l.Next()
		if err != nil {
			return nil, bad
		}
		if o == Keyword("trailer") {
			break
		}
		start, ok1 := o.(Integer)
		o, err = l.Next()
		count, ok2 := o.(Integer)
		if err != nil || !ok1 || !ok2 || start < 0 || count < 0 || start+count > MaxObjects+1 {
			return nil, bad
		}
		l.SkipSpace()
		for i := range int(count) {
			e, ok := tableEntry(l)
			if !ok {
				return nil, bad
			}
			s.entries = append(s.entries, numbered{int(start) + i, e})
		}
	}
	o, err := l.Next()
	t, ok := o.(*Dict)
	if err != nil || !ok {
		return nil, refuse(ErrDamaged, "the file has no readable trailer")
	}
	s.setTrailer(t)
	if v, ok := t.Get("XRefStm").(Integer); ok {
		s.kind, s.xrefStm = xrefHybrid, int64(v)
	}
	return s, nil
}

func (s *section) setTrailer(t *Dict) {
	s.trailer = t
	if v, ok := Number(t.Get("Prev")); ok {
		s.prev = int64(v)
	}
}

// tableEntry reads "nnnnnnnnnn ggggg n", with any white space after it.
func tableEntry(l *Lexer) (e entry, ok bool) {
	for l.Pos < len(l.Data) && IsSpace(l.Data[l.Pos]) {
		l.Pos++
	}
	num := func() (v int64, ok bool) {
		start := l.Pos
		for l.Pos < len(l.Data) && l.Data[l.Pos] >= '0' && l.Data[l.Pos] <= '9' && l.Pos-start < 19 {
			v = v*10 + int64(l.Data[l.Pos]-'0')
			l.Pos++
		}
		ok = l.Pos > start
		for l.Pos < len(l.Data) && l.Data[l.Pos] == ' ' {
			l.Pos++
		}
		return
	}
	off, ok1 := num()
	gen, ok2 := num()
	if !ok1 || !ok2 || l.Pos >= len(l.Data) {
		return e, false
	}
	c := l.Data[l.Pos]
	l.Pos++
	switch c {
	case 'n':
		return entry{kind: 1, gen: uint16(gen), off: off}, true
	case 'f':
		return entry{kind: 0, gen: uint16(gen)}, true
	}
	return e, false
}

// readXRefStream reads a cross-reference stream (7.5.8).
func (d *Document) readXRefStream(off int64) (*section, error) {
	bad := refuse(ErrDamaged, "the cross-reference table can't be read")
	_, o, err := d.parseAt(off, nil)
	if err != nil {
		return nil, bad
	}
	st, ok := o.(*Stream)
	if !ok || st.Dict.Get("Type") != Name("XRef") {
		return nil, bad
	}
	data, rest, err := d.Decode(st)
	if err != nil || len(rest) > 0 {
		return nil, bad
	}
	s := &section{kind: xrefStream, prev: -1, xrefStm: -1}
	s.setTrailer(st.Dict)
	var w [3]int
	wa, _ := st.Dict.Get("W").(Array)
	if len(wa) < 3 {
		return nil, bad
	}
	total := 0
	for i := range w {
		n, _ := wa[i].(Integer)
		if n < 0 || n > 8 {
			return nil, bad
		}
		w[i] = int(n)
		total += int(n)
	}
	if total == 0 {
		return nil, bad
	}
	index, _ := st.Dict.Get("Index").(Array)
	if index == nil {
		index = Array{Integer(0), st.Dict.Get("Size")}
	}
	for i := 0; i+1 < len(index); i += 2 {
		start, ok1 := index[i].(Integer)
		count, ok2 := index[i+1].(Integer)
		if !ok1 || !ok2 || start < 0 || count < 0 || start+count > MaxObjects+1 {
			return nil, bad
		}
		s.entries = slices.Grow(s.entries, min(int(count), len(data)/total))
		for j := range int(count) {
			if len(data) < total {
				break
			}
			row := data[:total]
			data = data[total:]
			kind := int64(1)
			if w[0] > 0 {
				kind = bigEndian(row[:w[0]])
			}
			f2, f3 := bigEndian(row[w[0]:w[0]+w[1]]), bigEndian(row[w[0]+w[1]:])
			e := entry{kind: byte(kind), off: f2}
			switch kind {
			case 1:
				e.gen = uint16(f3)
			case 2:
				e.idx = int32(f3)
			default:
				e = entry{}
			}
			s.entries = append(s.entries, numbered{int(start) + j, e})
		}
	}
	return s, nil
}

func bigEndian(b []byte) (v int64) {
	for _, c := range b {
		v = v<<8 | int64(c)
	}
	return v
}

// readChain reads all sections from startxref back along /Prev, newest first.
func (d *Document) readChain(startxref int64) ([]*section, error) {
	var out []*section
	seen := map[int64]bool{}
	for off := startxref; off >= 0; {
		if seen[off] {
			break // a loop: what was read so far is all there is
		}
		seen[off] = true
		if len(seen) > MaxSections {
			return nil, ErrTooManySections
		}
		s, err := d.readSection(off)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
		if s.xrefStm >= 0 && !seen[s.xrefStm] {
			// 7.5.8.4: looked up after the table itself and before /Prev
			seen[s.xrefStm] = true
			hidden, err := d.readXRefStream(s.xrefStm)
			if err != nil {
				return nil, err
			}
			hidden.prev = -1
			out = append(out, hidden)
		}
		off = s.prev
	}
	return out, nil
}
