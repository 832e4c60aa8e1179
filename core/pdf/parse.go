package pdf

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
)

// parseAt parses the indirect object at off; up is what it is read for.
func (d *Document) parseAt(off int64, up *loading) (num int, o Object, err error) {
	if off < 0 || off >= d.size {
		return 0, nil, refuse(ErrDamaged, fmt.Sprintf("the file is damaged: it places an object at byte %d, outside the file", off))
	}
	for window := int64(1024); ; window *= 8 {
		buf, last, err := d.window(off, window)
		if err == nil && len(buf) > freeParsed {
			err = d.work.spend(len(buf))
		}
		if err != nil {
			return 0, nil, err
		}
		l := &Lexer{Data: buf, Refs: true}
		num, o, err := d.parseIndirect(l, off, up)
		if err == nil && (l.Pos < len(buf) || last) {
			return num, o, nil
		}
		if last {
			if err == nil {
				err = errEOF
			}
			if _, ok := err.(*Error); !ok {
				err = refuse(ErrDamaged, fmt.Sprintf("the file is damaged: the object at byte %d can't be read", off))
			}
			return 0, nil, err
		}
	}
}

// parseIndirect reads "n g obj ... endobj" (7.3.10); the lexer stands at off of the file.
func (d *Document) parseIndirect(l *Lexer, off int64, up *loading) (int, Object, error) {
	n, err1 := l.Next()
	g, err2 := l.Next()
	k, err3 := l.Next()
	num, ok1 := n.(Integer)
	gen, ok2 := g.(Integer)
	if err1 != nil || err2 != nil || err3 != nil || !ok1 || !ok2 || k != Keyword("obj") {
		return 0, nil, errEOF
	}
	o, err := l.Next()
	if err != nil {
		return 0, nil, err
	}
	if o == Keyword("endobj") {
		return int(num), nil, nil
	}
	if v, ok := o.(Integer); ok { // "12 0 R" as an object of its own
		save := l.Pos
		g, e1 := l.Next()
		r, e2 := l.Next()
		if e1 == nil && e2 == nil && r == Keyword("R") {
			if ref, ok := refOf(v, g); ok {
				o = ref
			}
		} else {
			l.Pos = save
		}
	}
	end, err := l.Next()
	dict, isDict := o.(*Dict)
	if err != nil {
		return 0, nil, err
	}
	if end != Keyword("stream") || !isDict {
		return int(num), d.decrypted(o, int(num), int(gen), up), nil // a missing endobj is harmless here
	}
	for l.Pos < len(l.Data) && l.Data[l.Pos] == ' ' { // which some writers put before the end of the line
		l.Pos++
	}
	if l.Pos < len(l.Data) && l.Data[l.Pos] == '\r' {
		l.Pos++
	}
	if l.Pos < len(l.Data) && l.Data[l.Pos] == '\n' {
		l.Pos++
	}
	if l.Pos >= len(l.Data) {
		return 0, nil, errEOF
	}
	at := off + int64(l.Pos)
	length := int64(-1)
	lo := dict.Get("Length")
	if r, ok := lo.(Ref); ok {
		lo = d.resolve(r, up)
	}
	if v, ok := lo.(Integer); ok && v >= 0 && at+int64(v) <= d.size {
		length = int64(v)
	}
	if length < 0 || !d.endsStream(at+length) {
		if length, err = d.scanEndstream(at); err != nil {
			return 0, nil, err
		}
	}
	return int(num), d.decrypted(&Stream{Dict: dict, src: d.src, off: at, n: length}, int(num), int(gen), up), nil
}

func (d *Document) endsStream(at int64) bool {
	buf, _, err := d.window(at, 32)
	if err != nil {
		return false
	}
	l := Lexer{Data: buf}
	l.SkipSpace()
	return bytes.HasPrefix(buf[l.Pos:], []byte("endstream")) || bytes.HasPrefix(buf[l.Pos:], []byte("endobj"))
}

// scanEndstream finds the length of a stream whose /Length is wrong.
func (d *Document) scanEndstream(at int64) (int64, error) {
	word, last := []byte("endstream"), []byte("endobj")
	step := int64(4 << 10)
	for pos := at; pos < d.size; pos, step = pos+step, min(4*step, 256<<10) {
		buf, _, err := d.window(pos, step+int64(len(word)))
		if err == nil && pos > at {
			err = d.work.spend(len(buf))
		}
		if err != nil {
			return 0, err
		}
		i := bytes.Index(buf, word)
		if d.lenient { // the word may be missing: then the object's end is the stream's
			if j := bytes.Index(buf, last); j >= 0 && (i < 0 || j < i) {
				i = j
			}
		}
		if i >= 0 {
			end := pos + int64(i)
			tail, _, err := d.window(max(at, end-2), end-max(at, end-2))
			if err != nil {
				return 0, err
			}
			switch {
			case bytes.HasSuffix(tail, []byte("\r\n")):
				end -= 2
			case bytes.HasSuffix(tail, []byte("\n")), bytes.HasSuffix(tail, []byte("\r")):
				end--
			}
			return end - at, nil
		}
	}
	if d.lenient {
		return d.size - at, nil // cut off: what is there may still be of use
	}
	return 0, refuse(ErrDamaged, "the file is damaged: a stream has no end")
}

// objectStream is an unpacked object stream (7.5.7).
type objectStream struct {
	nums  []int
	offs  []int
	first int
	data  []byte
}

// object gives the bytes from the object of that number on; idx is where it should be in the list.
func (s *objectStream) object(idx, num int) ([]byte, bool) {
	if idx >= len(s.nums) || s.nums[idx] != num {
		if idx = slices.Index(s.nums, num); idx < 0 {
			return nil, false
		}
	}
	at := s.first + s.offs[idx]
	if at > len(s.data) {
		return nil, false
	}
	return s.data[at:], true
}

// objectStream opens the object stream of that number.
func (d *Document) objectStream(container int, c *cache, up *loading) (*objectStream, error) {
	c.mu.Lock()
	s, err := c.streams[container], c.failed[-container] // numbers of objects are positive
	ahead := c.ahead
	c.mu.Unlock()
	if s != nil || err != nil {
		return s, err
	}
	here, err := up.with(container)
	if err != nil {
		return nil, err
	}
	if ahead != nil && up == nil { // who is asked on behalf of another object waits for nobody
		s = ahead.take(container)
	}
	if s == nil {
		s, err = d.unpackObjects(container, here)
	}
	if err != nil {
		if lasting(err) {
			c.mu.Lock()
			c.failed[-container] = err
			c.mu.Unlock()
		}
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	kept := len(s.data)
	for _, o := range c.streams {
		kept += len(o.data)
	}
	if len(c.streams) >= cacheStreams || kept > cacheUnpacked {
		clear(c.streams)
	}
	c.streams[container] = s
	return s, nil
}

// unpackObjects reads an object stream.
func (d *Document) unpackObjects(container int, up *loading) (*objectStream, error) {
	bad := refuse(ErrDamaged, fmt.Sprintf("the file is damaged: object stream %d can't be read", container))
	e, _ := d.lookup(container)
	if e.kind != 1 {
		return nil, bad
	}
	_, o, err := d.parseAt(e.off, up)
	if err != nil {
		return nil, err
	}
	st, ok := o.(*Stream)
	if !ok {
		return nil, bad
	}
	n, _ := d.resolve(st.Dict.Get("N"), up).(Integer)
	first, _ := d.resolve(st.Dict.Get("First"), up).(Integer)
	data, rest, err := d.decode(st, MaxInflated, up)
	if errors.Is(err, ErrLimit) {
		return nil, err
	}
	if err != nil || len(rest) > 0 || n < 0 || first < 0 || int(first) > len(data) {
		return nil, bad
	}
	s := &objectStream{first: int(first), data: data}
	l := Lexer{Data: data[:first]}
	pairs := make([]int, 2*min(int(n), s.first))
	s.nums, s.offs = pairs[:0:len(pairs)/2], pairs[len(pairs)/2:len(pairs)/2]
	for range int(n) {
		num, ok1 := l.natural()
		off, ok2 := l.natural()
		if !ok1 || !ok2 || off > MaxInflated {
			break
		}
		s.nums, s.offs = append(s.nums, num), append(s.offs, off)
	}
	return s, nil
}

func (d *Document) fromStream(container, idx, num int, c *cache, up *loading) (Object, error) {
	s, err := d.objectStream(container, c, up)
	if err != nil {
		return nil, err
	}
	bad := func() error {
		return refuse(ErrDamaged, fmt.Sprintf("the file is damaged: object stream %d can't be read", container))
	}
	data, ok := s.object(idx, num)
	if !ok {
		return nil, bad()
	}
	l := Lexer{Data: data, Refs: true}
	o, err := l.Next()
	if err != nil {
		return nil, bad()
	}
	if v, ok := o.(Integer); ok {
		if g, err := l.Next(); err == nil {
			if k, err := l.Next(); err == nil && k == Keyword("R") {
				if r, ok := refOf(v, g); ok {
					return r, nil
				}
			}
		}
	}
	if _, ok := o.(Keyword); ok {
		return nil, bad()
	}
	return o, nil
}
