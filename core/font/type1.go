package font

import (
	"bytes"
	"strconv"

	"glenrain/core/pdf"
)

// parseType1 reads a Type 1 program (Adobe Type 1 Font Format): the encoding in its clear part, the names of its
// glyphs and whether they draw in its encrypted part.
func parseType1(data []byte) *Program {
	data = withoutSegments(data)
	p := &Program{Kind: Type1Program, Matrix: [6]float64{0.001, 0, 0, 0.001}, byName: map[string]int{}}
	clear, secret := data, []byte(nil)
	if i := bytes.Index(data, []byte("eexec")); i >= 0 {
		clear = data[:i]
		secret = decryptEexec(data[i+5:])
	}
	p.readEncoding(clear)
	if i := bytes.Index(clear, []byte("/FontMatrix")); i >= 0 {
		if m := numbersIn(clear[i:]); len(m) == 6 && m[0] != 0 {
			copy(p.Matrix[:], m)
		}
	}
	if secret == nil { // some are not encrypted
		secret = data
	}
	p.readCharStrings(secret)
	return p
}

// withoutSegments drops the headers of a PFB file.
func withoutSegments(data []byte) []byte {
	if len(data) == 0 || data[0] != 0x80 {
		return data
	}
	var out []byte
	for len(data) >= 6 && data[0] == 0x80 && data[1] != 3 {
		n := int(data[2]) | int(data[3])<<8 | int(data[4])<<16 | int(data[5])<<24
		data = data[6:]
		n = max(0, min(n, len(data)))
		out = append(out, data[:n]...)
		data = data[n:]
	}
	return out
}

// decryptEexec undoes eexec encryption, of binary or hexadecimal data (clause 7.2).
func decryptEexec(b []byte) []byte {
	for len(b) > 0 && (b[0] == ' ' || b[0] == '\t' || b[0] == '\r' || b[0] == '\n') {
		b = b[1:]
	}
	hex := len(b) >= 4
	for _, c := range b[:min(len(b), 4)] {
		hex = hex && pdf.Unhex(c) >= 0
	}
	if hex {
		b, _, _ = pdf.AppendHex(make([]byte, 0, len(b)/2), b, 0)
	}
	return decryptType1(b, 55665, 4)
}

// decryptType1 is the cipher of clause 7.1; the first skip bytes are random.
func decryptType1(b []byte, key uint16, skip int) []byte {
	out := make([]byte, len(b))
	for i, c := range b {
		out[i] = c ^ byte(key>>8)
		key = (uint16(c)+key)*52845 + 22719
	}
	return out[min(skip, len(out)):]
}

// readEncoding reads "dup 65 /A put" lines, or StandardEncoding.
func (p *Program) readEncoding(b []byte) {
	i := bytes.Index(b, []byte("/Encoding"))
	if i < 0 {
		return
	}
	b = b[i+len("/Encoding"):]
	var e [256]string
	p.Encoding = &e
	s := psScanner{data: b}
	if w := s.word(); string(w) == "StandardEncoding" {
		e = standard14("Helvetica").encoding
		return
	} else if len(w) > 0 && w[0] == '[' { // an array of names
		for code := 0; code < 256; {
			w := s.word()
			if len(w) == 0 || w[0] == ']' {
				return
			}
			if w[0] == '/' {
				if n := string(w[1:]); n != ".notdef" {
					e[code] = n
				}
				code++
			}
		}
		return
	}
	for {
		w := s.word()
		switch {
		case len(w) == 0, string(w) == "def", string(w) == "readonly":
			return
		case string(w) == "dup":
			num, name := s.word(), s.word()
			code, err := strconv.Atoi(string(num))
			if base, digits, ok := bytes.Cut(num, []byte("#")); ok { // 8#101
				if radix, rerr := strconv.Atoi(string(base)); rerr == nil && radix >= 2 && radix <= 36 {
					v, perr := strconv.ParseInt(string(digits), radix, 16)
					code, err = int(v), perr
				}
			}
			if err == nil && code >= 0 && code < 256 && len(name) > 1 && name[0] == '/' {
				if n := string(name[1:]); n != ".notdef" {
					e[code] = n
				}
			}
		}
	}
}

// psScanner cuts PostScript into words: names keep their solidus, brackets stand alone.
type psScanner struct {
	data []byte
	pos  int
}

func (s *psScanner) word() []byte {
	for s.pos < len(s.data) {
		c := s.data[s.pos]
		if c == '%' {
			for s.pos < len(s.data) && s.data[s.pos] != '\n' && s.data[s.pos] != '\r' {
				s.pos++
			}
			continue
		}
		if !isSpace(c) {
			break
		}
		s.pos++
	}
	start := s.pos
	if start >= len(s.data) {
		return nil
	}
	s.pos++
	switch s.data[start] {
	case '[', ']', '{', '}', '(', ')', '<', '>':
		return s.data[start:s.pos]
	}
	for s.pos < len(s.data) {
		c := s.data[s.pos]
		if isSpace(c) || c == '/' || c == '[' || c == ']' || c == '{' || c == '}' || c == '(' || c == ')' || c == '<' || c == '>' || c == '%' {
			break
		}
		s.pos++
	}
	return s.data[start:s.pos]
}

func isSpace(c byte) bool {
	return c == ' ' || c == '\n' || c == '\r' || c == '\t' || c == '\f' || c == 0
}

// numbersIn gives the numbers of the first array in b.
func numbersIn(b []byte) (out []float64) {
	i := bytes.IndexAny(b, "[{")
	if i < 0 {
		return nil
	}
	s := psScanner{data: b[i+1:]}
	for len(out) < 16 {
		v, err := strconv.ParseFloat(string(s.word()), 64)
		if err != nil {
			return out
		}
		out = append(out, v)
	}
	return out
}

// readCharStrings reads "/name 123 RD ...bytes... ND" entries of the CharStrings dictionary.
func (p *Program) readCharStrings(b []byte) {
	lenIV := 4
	if i := bytes.Index(b, []byte("/lenIV")); i >= 0 {
		s := psScanner{data: b, pos: i + 6}
		if v, err := strconv.Atoi(string(s.word())); err == nil {
			lenIV = v
		}
	}
	i := bytes.Index(b, []byte("/CharStrings"))
	if i < 0 {
		return
	}
	s := psScanner{data: b, pos: i + len("/CharStrings")}
	var codes [][]byte
	for {
		w := s.word()
		if len(w) == 0 || string(w) == "end" && len(codes) > 0 {
			break
		}
		if w[0] != '/' {
			continue
		}
		n, err := strconv.Atoi(string(s.word()))
		if err != nil || n < 0 {
			continue
		}
		s.word() // RD or -|
		from := s.pos + 1
		if from+n > len(b) {
			break
		}
		name := string(w[1:])
		if _, ok := p.byName[name]; !ok {
			p.byName[name] = len(codes)
		}
		p.names = append(p.names, name)
		codes = append(codes, b[from:from+n])
		s.pos = from + n
	}
	p.Glyphs = len(codes)
	open := func(gid int) []byte {
		if lenIV < 0 {
			return codes[gid]
		}
		return decryptType1(codes[gid], 4330, lenIV)
	}
	p.outline = func(gid int) bool { return type1Draws(open(gid)) }
	p.width = func(gid int) (float64, bool) {
		w, ok := type1Width(open(gid))
		return w * p.Matrix[0], ok
	}
}

// shortNumber reads a number of one or two bytes, as charstrings of both types and CFF's DICTs write it (Adobe Type 1 Font Format, 6.2;
// Technical Notes 5176, table 3, and 5177, 3.2). n is 0 where b begins with none.
func shortNumber(b []byte) (v float64, n int) {
	switch c := int(b[0]); {
	case c >= 32 && c <= 246:
		return float64(c - 139), 1
	case c >= 247 && c <= 250 && len(b) > 1:
		return float64((c-247)*256 + int(b[1]) + 108), 2
	case c >= 251 && c <= 254 && len(b) > 1:
		return float64(-(c-251)*256 - int(b[1]) - 108), 2
	}
	return 0, 0
}

// type1Width reads the advance of a charstring: the second number before hsbw, the third before sbw (clause 6.4).
func type1Width(b []byte) (float64, bool) {
	var held []float64
	for i := 0; i < len(b); {
		if v, n := shortNumber(b[i:]); n > 0 {
			held = append(held, v)
			i += n
			continue
		}
		c := int(b[i])
		switch {
		case c == 255 && i+4 < len(b):
			held = append(held, float64(int32(be32(b, i+1))))
			i += 5
		case c == 13 && len(held) >= 2:
			return held[1], true
		case c == 12 && i+1 < len(b) && b[i+1] == 7 && len(held) >= 4:
			return held[2], true
		case c == 12 && i+1 < len(b) && b[i+1] == 12 && len(held) >= 2: // div
			n := len(held)
			held = append(held[:n-2], held[n-2]/held[n-1])
			i += 2
		default:
			return 0, false
		}
	}
	return 0, false
}

// type1Draws reports whether a charstring does more than set its width and end.
func type1Draws(b []byte) bool {
	for i := 0; i < len(b); {
		switch c := b[i]; {
		case c == 13:
			i++
		case c == 14:
			return false
		case c == 12 && i+1 < len(b) && (b[i+1] == 7 || b[i+1] == 12):
			i += 2
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
