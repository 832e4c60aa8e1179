package pdf

// briefKeys are what the page tree and the geometry of pages are made of.
var briefKeys = [...]Name{"Type", "Parent", "Kids", "MediaBox", "CropBox", "Rotate", "UserUnit"}

// brief gives a page or a node of the page tree with briefKeys alone, where the object was not read yet: a
// walk through thousands of pages need not build their resources and annotations. nil where r is no
// dictionary.
func (d *Document) brief(r Ref) *Dict {
	if d.work.over.Load() {
		return nil
	}
	if o, ok := d.overlay[r.Num]; ok {
		dict, _ := o.(*Dict)
		return dict
	}
	e, updated := d.lookup(r.Num)
	if e.kind == 0 || e.kind > 2 || e.kind == 1 && int(e.gen) != r.Gen && r.Gen != 0 {
		return nil
	}
	c := d.shared
	if updated {
		c = d.own
	}
	c.mu.Lock()
	o, ok := c.objects[r.Num]
	dict := c.briefs[r.Num]
	c.mu.Unlock()
	if dict != nil {
		return dict
	}
	if ok {
		dict, _ = o.(*Dict)
		return dict
	}
	var data []byte
	if e.kind == 1 {
		buf, _, err := d.window(e.off, 1024)
		if err != nil {
			return nil
		}
		l := Lexer{Data: buf}
		num, ok1 := l.natural()
		_, ok2 := l.natural()
		if l.SkipSpace(); ok1 && ok2 && num == r.Num && len(buf)-l.Pos > 3 && string(buf[l.Pos:l.Pos+3]) == "obj" {
			data = buf[l.Pos+3:]
		}
	} else if s, err := d.objectStream(int(e.off), c, nil); err == nil {
		data, _ = s.object(int(e.idx), r.Num)
	}
	c.mu.Lock()
	seen := c.seen
	c.mu.Unlock()
	if dict = pick(data, &seen); dict == nil {
		return d.itself(r) // larger, or not plain: read it whole
	}
	c.mu.Lock()
	c.seen = seen
	if c.briefs == nil || len(c.briefs) >= cacheObjects {
		c.briefs = map[int]*Dict{}
	}
	c.briefs[r.Num] = dict
	c.mu.Unlock()
	return dict
}

// lately keeps, for each of briefKeys, the bytes of its last value and what they came to: that of the next
// page is the same more often than not.
type lately [len(briefKeys)]struct {
	raw   string
	value Object
}

// pick reads the entries of a dictionary that are among briefKeys. It gives nil where data does not hold a
// whole dictionary in plain form; what it gives is what the Lexer gives.
func pick(data []byte, seen *lately) *Dict {
	l := Lexer{Data: data, Refs: true}
	l.SkipSpace()
	if l.Pos+1 >= len(data) || data[l.Pos] != '<' || data[l.Pos+1] != '<' {
		return nil
	}
	l.Pos += 2
	out := &Dict{entries: make([]Entry, 0, 4)}
	for {
		l.SkipSpace()
		if l.Pos+1 >= len(data) {
			return nil
		}
		if data[l.Pos] == '>' && data[l.Pos+1] == '>' {
			return out
		}
		if data[l.Pos] != '/' {
			return nil
		}
		start := l.Pos + 1
		for l.Pos++; l.Pos < len(data) && charClass[data[l.Pos]] == 0; l.Pos++ {
			if data[l.Pos] == '#' {
				return nil
			}
		}
		key := briefKey(data[start:l.Pos])
		start = l.Pos
		if !l.skipValue(0) {
			return nil
		}
		if key < 0 {
			continue
		}
		if out.Has(briefKeys[key]) { // the Lexer has its own way with keys that stand twice
			return nil
		}
		was := &seen[key]
		if was.raw != string(data[start:l.Pos]) {
			one := Lexer{Data: data[start:l.Pos], Refs: true}
			v, err := one.dictValue()
			if err != nil {
				return nil
			}
			was.raw, was.value = string(one.Data), v
		}
		if was.value != nil {
			out.entries = append(out.entries, Entry{briefKeys[key], was.value})
		}
	}
}

// briefKey gives the place of a name among briefKeys, or -1.
func briefKey(raw []byte) int {
	for i, k := range briefKeys {
		if string(k) == string(raw) {
			return i
		}
	}
	return -1
}

// dictValue reads one value in a dictionary.
func (l *Lexer) dictValue() (Object, error) {
	o, err := l.object(0)
	if err != nil {
		return nil, err
	}
	if v, ok := o.(Integer); ok {
		save := l.Pos
		if gen, ok := l.natural(); ok {
			if l.SkipSpace(); l.Pos < len(l.Data) && l.Data[l.Pos] == 'R' && (l.Pos+1 == len(l.Data) || charClass[l.Data[l.Pos+1]] != 0) {
				if r, ok := refOf(v, Integer(gen)); ok {
					l.Pos++
					return r, nil
				}
			}
		}
		l.Pos = save
	}
	if _, word := o.(Keyword); word {
		return nil, errEOF
	}
	return o, nil
}

// skipValue passes over one value without building it.
func (l *Lexer) skipValue(depth int) bool {
	l.SkipSpace()
	if l.Pos >= len(l.Data) || depth > MaxDepth {
		return false
	}
	switch c := l.Data[l.Pos]; {
	case c == '/':
		for l.Pos++; l.Pos < len(l.Data) && charClass[l.Data[l.Pos]] == 0; l.Pos++ {
		}
		return true
	case c == '(':
		for depth := 0; l.Pos < len(l.Data); l.Pos++ {
			switch l.Data[l.Pos] {
			case '\\':
				l.Pos++
			case '(':
				depth++
			case ')':
				if depth--; depth == 0 {
					l.Pos++
					return true
				}
			}
		}
		return false
	case c == '<' && l.Pos+1 < len(l.Data) && l.Data[l.Pos+1] == '<':
		for l.Pos += 2; ; {
			if l.SkipSpace(); l.Pos+1 >= len(l.Data) {
				return false
			}
			if l.Data[l.Pos] == '>' {
				l.Pos += 2
				return l.Data[l.Pos-1] == '>'
			}
			if !l.skipValue(depth + 1) {
				return false
			}
		}
	case c == '<':
		for ; l.Pos < len(l.Data); l.Pos++ {
			if l.Data[l.Pos] == '>' {
				l.Pos++
				return true
			}
		}
		return false
	case c == '[':
		for l.Pos++; ; {
			if l.SkipSpace(); l.Pos >= len(l.Data) {
				return false
			}
			if l.Data[l.Pos] == ']' {
				l.Pos++
				return true
			}
			if !l.skipValue(depth + 1) {
				return false
			}
		}
	case charClass[c] == 'd':
		return false
	}
	// A number, which may begin a reference, or a word: up to what can't go on a value.
	for l.Pos < len(l.Data) {
		for l.Pos < len(l.Data) && charClass[l.Data[l.Pos]] == 0 {
			l.Pos++
		}
		if l.SkipSpace(); l.Pos >= len(l.Data) || charClass[l.Data[l.Pos]] == 'd' {
			return true
		}
	}
	return true
}
