// Package content reads content streams (ISO 32000-2, 7.8.2): it cuts them into operators, interprets these, and says of every
// glyph, picture and path where it stands on the page, in which state, and which bytes of which stream put it
// there. It also patches streams: bytes that no patch names stay as they are. It takes documents of core/pdf and
// fonts of core/font; words and lines are core/layout's.
package content

import (
	"strconv"

	"glenrain/core/pdf"
)

// Kind is what an operand is.
type Kind uint8

// The kinds of operands.
const (
	Null Kind = iota
	Bool
	Number
	Name
	String
	Array
	Dict
)

// Operand is one operand with its place in the stream. Bytes, Items and Dict hold until the scanner's next Next.
type Operand struct {
	Kind       Kind
	Num        float64 // of a Number; 1 for true
	Bytes      []byte  // of a String or Name, decoded
	Items      []Operand
	Dict       *pdf.Dict
	Start, End int // in bytes of the stream
}

// Op is one operator after its operands.
type Op struct {
	Code       Code
	Args       []Operand
	Image      *Inline // of BI ... EI
	Start, End int     // from the first operand to behind the keyword
	At         int     // where the keyword stands
}

// Bounds of what one operator may hold.
const (
	maxOperands = 1 << 16
	maxNesting  = 64
)

// Scanner cuts a content stream into operators.
type Scanner struct {
	Data []byte
	Pos  int
	// Broken: a string, dictionary or array had no end, or a bracket no beginning. Programs go on from there in different ways, or not at all.
	Broken bool

	args  []Operand
	items []Operand
	text  []byte // decoded strings of the operator at hand
}

const (
	regular = iota
	space
	delimiter
)

var class = func() (t [256]uint8) {
	for _, c := range []byte{0, 9, 10, 12, 13, 32} {
		t[c] = space
	}
	for _, c := range []byte("()<>[]{}/%") {
		t[c] = delimiter
	}
	return
}()

// Next gives the next operator, in an Op that is used again. At the end it returns false; operands that no
// operator follows are passed over.
func (s *Scanner) Next(o *Op) bool {
	s.args, s.items, s.text = s.args[:0], s.items[:0], s.text[:0]
	o.Image = nil
	start := -1
	data := s.Data
	for {
		for s.Pos < len(data) && class[data[s.Pos]] == space {
			s.Pos++
		}
		if s.Pos >= len(data) {
			return false
		}
		c := data[s.Pos]
		at := s.Pos
		switch {
		case c >= '0' && c <= '9' || c == '-' || c == '.' || c == '+':
			v := s.number()
			s.push(Operand{Kind: Number, Num: v, Start: at, End: s.Pos})
		case c == '%':
			s.comment()
			continue
		case class[c] == delimiter:
			v, ok := s.operand(0)
			if !ok {
				continue
			}
			s.push(v)
		default:
			for s.Pos < len(data) && class[data[s.Pos]] == regular {
				s.Pos++
			}
			w := data[at:s.Pos]
			if v, ok := constant(w); ok {
				v.Start, v.End = at, s.Pos
				s.push(v)
				break
			}
			if start < 0 {
				start = at
			}
			o.Code, o.Args, o.Start, o.At, o.End = codeOf(w), s.args, start, at, s.Pos
			if o.Code == opBI {
				s.inline(o)
			}
			return true
		}
		if start < 0 {
			start = at
		}
	}
}

// constant knows true, false and null.
func constant(w []byte) (Operand, bool) {
	if len(w) < 4 {
		return Operand{}, false
	}
	switch string(w) {
	case "true":
		return Operand{Kind: Bool, Num: 1}, true
	case "false":
		return Operand{Kind: Bool}, true
	case "null":
		return Operand{}, true
	}
	return Operand{}, false
}

func (s *Scanner) push(v Operand) {
	if len(s.args) < maxOperands {
		s.args = append(s.args, v)
	}
}

func (s *Scanner) comment() {
	for s.Pos < len(s.Data) && s.Data[s.Pos] != '\n' && s.Data[s.Pos] != '\r' {
		s.Pos++
	}
}

// operand reads what begins with a delimiter; false for what is none.
func (s *Scanner) operand(depth int) (v Operand, ok bool) {
	data := s.Data
	v.Start = s.Pos
	switch data[s.Pos] {
	case '/':
		v.Kind, v.Bytes = Name, s.name()
	case '(':
		v.Kind, v.Bytes = String, s.literal()
	case '<':
		if s.Pos+1 < len(data) && data[s.Pos+1] == '<' {
			lx := pdf.Lexer{Data: data, Pos: s.Pos}
			o, err := lx.Next()
			s.Pos = max(lx.Pos, s.Pos+2)
			d, isDict := o.(*pdf.Dict)
			if err != nil || !isDict {
				s.Broken = true
				return v, false
			}
			v.Kind, v.Dict = Dict, d
			break
		}
		v.Kind, v.Bytes = String, s.hex()
	case '[':
		s.Pos++
		v.Kind = Array
		if depth == 0 {
			from := len(s.items)
			s.array(&s.items, depth)
			v.Items = s.items[from:len(s.items):len(s.items)]
			break
		}
		var inner []Operand
		s.array(&inner, depth)
		v.Items = inner
	default: // a bracket that nothing opened
		s.Pos++
		s.Broken = true
		return v, false
	}
	v.End = s.Pos
	return v, true
}

// array reads to the closing bracket. An operator that shows text, or ET, ends one that lacks it, as in other readers.
func (s *Scanner) array(into *[]Operand, depth int) {
	data := s.Data
	for {
		for s.Pos < len(data) && class[data[s.Pos]] == space {
			s.Pos++
		}
		if s.Pos >= len(data) || depth > maxNesting || len(*into) > maxOperands {
			s.Broken = true
			return
		}
		c := data[s.Pos]
		at := s.Pos
		switch {
		case c == ']':
			s.Pos++
			return
		case c >= '0' && c <= '9' || c == '-' || c == '.' || c == '+':
			v := s.number()
			*into = append(*into, Operand{Kind: Number, Num: v, Start: at, End: s.Pos})
		case c == '%':
			s.comment()
		case class[c] == delimiter:
			if v, ok := s.operand(depth + 1); ok {
				*into = append(*into, v)
			}
		default:
			for s.Pos < len(data) && class[data[s.Pos]] == regular {
				s.Pos++
			}
			w := data[at:s.Pos]
			if v, ok := constant(w); ok {
				v.Start, v.End = at, s.Pos
				*into = append(*into, v)
			} else if code := codeOf(w); code == opTJ || code == opTj || code == opET {
				s.Pos, s.Broken = at, true
				return
			}
		}
	}
}

var tens = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// mostNumber is about the largest a reader takes (Annex C.2).
const mostNumber = 3.4e38

// number reads a number (7.3.3); malformed ones ("--5", "1.2.3", "12-34") as far as they make sense.
func (s *Scanner) number() float64 {
	data := s.Data
	i := s.Pos
	neg := false
	for i < len(data) && (data[i] == '-' || data[i] == '+') {
		neg = neg || data[i] == '-'
		i++
	}
	var n uint64
	digits, point := 0, -1
	first := i
loop:
	for ; i < len(data); i++ {
		c := data[i]
		switch {
		case c >= '0' && c <= '9':
			n = n*10 + uint64(c-'0')
			digits++
		case c == '.' && point < 0:
			point = digits
		default:
			break loop
		}
	}
	end := i
	for i < len(data) && (data[i] == '-' || data[i] == '.' || i > end && data[i] >= '0' && data[i] <= '9') { // the rest of a malformed number
		i++
	}
	s.Pos = i
	var v float64
	switch {
	case digits > 15:
		v, _ = strconv.ParseFloat(string(data[first:end]), 64)
		v = min(v, mostNumber)
	case point < 0:
		v = float64(n)
	default:
		v = float64(n) / tens[digits-point]
	}
	if neg {
		return -v
	}
	return v
}

func (s *Scanner) name() []byte {
	data := s.Data
	s.Pos++
	start := s.Pos
	plain := true
	for s.Pos < len(data) && class[data[s.Pos]] == regular {
		plain = plain && data[s.Pos] != '#'
		s.Pos++
	}
	raw := data[start:s.Pos:s.Pos]
	if plain {
		return raw
	}
	out := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); i++ {
		if raw[i] == '#' && i+2 < len(raw) && pdf.Unhex(raw[i+1]) >= 0 && pdf.Unhex(raw[i+2]) >= 0 {
			out = append(out, byte(pdf.Unhex(raw[i+1])<<4|pdf.Unhex(raw[i+2])))
			i += 2
			continue
		}
		out = append(out, raw[i])
	}
	return out
}

// literal reads a (string) (7.3.4.2). One without escapes is a part of the data; else it is decoded beside.
func (s *Scanner) literal() []byte {
	data := s.Data
	s.Pos++
	start := s.Pos
	depth := 1
	i := start
	for ; i < len(data); i++ {
		switch data[i] {
		case '(':
			depth++
		case ')':
			depth--
			if depth == 0 {
				s.Pos = i + 1
				return data[start:i:i]
			}
		case '\\', '\r':
			from := len(s.text)
			var ok bool
			s.text, s.Pos, ok = pdf.AppendLiteral(s.text, data, start)
			s.Broken = s.Broken || !ok
			return s.text[from:len(s.text):len(s.text)]
		}
	}
	s.Pos, s.Broken = i, true
	return data[start:i:i]
}

// hex reads a <string> (7.3.4.3).
func (s *Scanner) hex() []byte {
	from := len(s.text)
	var ok bool
	s.text, s.Pos, ok = pdf.AppendHex(s.text, s.Data, s.Pos+1)
	s.Broken = s.Broken || !ok
	return s.text[from:len(s.text):len(s.text)]
}
