package pdf

import (
	"errors"
	"fmt"
	"math"
	"strconv"
)

// Lexer cuts bytes into tokens (7.2) and builds direct objects from them (7.3).
// It serves files, object streams and content streams alike.
type Lexer struct {
	Data []byte
	Pos  int
	// Refs makes "12 0 R" a Ref; content streams have none.
	Refs bool
}

// Keyword is a bare word: an operator, obj, endobj, stream.
type Keyword string

var errEOF = errors.New("end of data")

var charClass = func() (t [256]byte) {
	for _, c := range []byte{0, 9, 10, 12, 13, 32} {
		t[c] = 'w'
	}
	for _, c := range []byte("()<>[]{}/%") {
		t[c] = 'd'
	}
	return
}()

// IsSpace reports whether c is a white-space character (7.2.3, table 1).
func IsSpace(c byte) bool { return charClass[c] == 'w' }

// IsDelimiter reports whether c is a delimiter character (7.2.3, table 2).
func IsDelimiter(c byte) bool { return charClass[c] == 'd' }

// SkipSpace passes over white space and comments.
func (l *Lexer) SkipSpace() {
	for l.Pos < len(l.Data) {
		c := l.Data[l.Pos]
		switch {
		case charClass[c] == 'w':
			l.Pos++
		case c == '%':
			for l.Pos < len(l.Data) && l.Data[l.Pos] != '\n' && l.Data[l.Pos] != '\r' {
				l.Pos++
			}
		default:
			return
		}
	}
}

// Next gives the next object or Keyword, or an error at the end of the data.
func (l *Lexer) Next() (Object, error) { return l.object(0) }

func (l *Lexer) object(depth int) (Object, error) {
	if depth > MaxDepth {
		return nil, ErrTooDeep
	}
	l.SkipSpace()
	if l.Pos >= len(l.Data) {
		return nil, errEOF
	}
	c := l.Data[l.Pos]
	switch {
	case c == '/':
		return l.name(), nil
	case c == '(':
		return l.literal()
	case c == '<':
		if l.Pos+1 < len(l.Data) && l.Data[l.Pos+1] == '<' {
			l.Pos += 2
			return l.dict(depth)
		}
		return l.hex()
	case c == '[':
		l.Pos++
		return l.array(depth)
	case c >= '0' && c <= '9', c == '+', c == '-', c == '.':
		return l.number(), nil
	case c == ']' || c == '{' || c == '}' || c == ')':
		l.Pos++
		return Keyword(c), nil
	case c == '>':
		l.Pos++
		if l.Pos < len(l.Data) && l.Data[l.Pos] == '>' {
			l.Pos++
			return Keyword(">>"), nil
		}
		return Keyword(">"), nil
	}
	start := l.Pos
	for l.Pos < len(l.Data) && charClass[l.Data[l.Pos]] == 0 {
		l.Pos++
	}
	switch w := string(l.Data[start:l.Pos]); w {
	case "true":
		return Boolean(true), nil
	case "false":
		return Boolean(false), nil
	case "null":
		return nil, nil
	default:
		return Keyword(w), nil
	}
}

// natural reads a number of digits alone, without making an object of it.
func (l *Lexer) natural() (n int, ok bool) {
	l.SkipSpace()
	start := l.Pos
	for l.Pos < len(l.Data) && l.Data[l.Pos] >= '0' && l.Data[l.Pos] <= '9' && l.Pos-start < 10 {
		n = n*10 + int(l.Data[l.Pos]-'0')
		l.Pos++
	}
	return n, l.Pos > start
}

// usual are the names that stand in nearly every file, so that they are kept once.
var usual = func() map[string]Name {
	m := map[string]Name{}
	for _, n := range []Name{"Type", "Page", "Pages", "Parent", "Kids", "Count", "Contents", "Resources", "MediaBox", "CropBox", "Rotate",
		"Annots", "Annot", "Subtype", "Link", "Rect", "Border", "A", "S", "D", "URI", "GoTo", "Dest", "XYZ", "Fit", "FitH", "Font", "ProcSet", "PDF", "Text",
		"ImageC", "ImageB", "ImageI", "XObject", "ExtGState", "ColorSpace", "Pattern", "Filter", "FlateDecode", "Length", "Length1",
		"Title", "Next", "Prev", "First", "Last", "P", "K", "Pg", "MCID", "StructElem", "StructParents", "StructParent", "BaseFont", "Encoding",
		"FontDescriptor", "FirstChar", "LastChar", "Widths", "ToUnicode", "Names", "Limits", "Group", "CS", "DeviceRGB", "DeviceGray", "Transparency",
		"H", "I", "C", "N", "F", "AP", "BS", "W", "T", "V", "Width", "Height", "BitsPerComponent", "Image", "Form", "BBox", "Matrix"} {
		m[string(n)] = n
	}
	return m
}()

func (l *Lexer) name() Name {
	l.Pos++
	start := l.Pos
	plain := true
	for l.Pos < len(l.Data) && charClass[l.Data[l.Pos]] == 0 {
		if l.Data[l.Pos] == '#' {
			plain = false
		}
		l.Pos++
	}
	raw := l.Data[start:l.Pos]
	if plain {
		if n, ok := usual[string(raw)]; ok {
			return n
		}
		return Name(raw)
	}
	out := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); i++ {
		if raw[i] == '#' && i+2 < len(raw)+0 && Unhex(raw[i+1]) >= 0 && Unhex(raw[i+2]) >= 0 {
			out = append(out, byte(Unhex(raw[i+1])<<4|Unhex(raw[i+2])))
			i += 2
			continue
		}
		out = append(out, raw[i])
	}
	return Name(out)
}

// Unhex gives the value of a hexadecimal digit, or -1.
func Unhex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// literal reads a (string) (7.3.4.2).
func (l *Lexer) literal() (Object, error) {
	out, end, ok := AppendLiteral(nil, l.Data, l.Pos+1)
	l.Pos = end
	if !ok {
		return nil, fmt.Errorf("string without its end: %w", errEOF)
	}
	return String(out), nil
}

// AppendLiteral decodes a literal string from behind its opening bracket (7.3.4.2, table 3). end is behind the closing one; ok is false where
// that is missing.
func AppendLiteral(b, data []byte, at int) (out []byte, end int, ok bool) {
	depth := 1
	for at < len(data) {
		c := data[at]
		at++
		switch c {
		case '(':
			depth++
		case ')':
			depth--
			if depth == 0 {
				return b, at, true
			}
		case '\r': // any end of line is read as \n
			if at < len(data) && data[at] == '\n' {
				at++
			}
			c = '\n'
		case '\\':
			if at >= len(data) {
				return b, at, false
			}
			e := data[at]
			at++
			switch e {
			case 'n':
				c = '\n'
			case 'r':
				c = '\r'
			case 't':
				c = '\t'
			case 'b':
				c = '\b'
			case 'f':
				c = '\f'
			case '\r':
				if at < len(data) && data[at] == '\n' {
					at++
				}
				continue
			case '\n':
				continue
			case '0', '1', '2', '3', '4', '5', '6', '7':
				v := int(e - '0')
				for n := 0; n < 2 && at < len(data) && data[at] >= '0' && data[at] <= '7'; n++ {
					v = v<<3 | int(data[at]-'0')
					at++
				}
				c = byte(v)
			default:
				c = e
			}
		}
		b = append(b, c)
	}
	return b, at, false
}

// hex reads a <string> of hexadecimal digits (7.3.4.3).
func (l *Lexer) hex() (Object, error) {
	out, end, ok := AppendHex(nil, l.Data, l.Pos+1)
	l.Pos = end
	if !ok {
		return nil, fmt.Errorf("hexadecimal string without its end: %w", errEOF)
	}
	return String(out), nil
}

// AppendHex decodes a hexadecimal string from behind its opening bracket (7.3.4.3). end is behind the closing one; ok is false where
// that is missing.
func AppendHex(b, data []byte, at int) (out []byte, end int, ok bool) {
	high := -1
	for at < len(data) {
		c := data[at]
		at++
		v := Unhex(c)
		switch {
		case v < 0:
		case high < 0:
			high = v
		default:
			b = append(b, byte(high<<4|v))
			high = -1
		}
		if ok = c == '>'; ok {
			break
		}
	}
	if high >= 0 {
		b = append(b, byte(high<<4))
	}
	return b, at, ok
}

func (l *Lexer) array(depth int) (Object, error) {
	var out Array
	for {
		o, err := l.object(depth + 1)
		if err != nil {
			return nil, err
		}
		if k, ok := o.(Keyword); ok {
			switch {
			case k == "]" && out == nil:
				return Array{}, nil
			case k == "]":
				return out, nil
			case k == "R" && l.Refs && len(out) >= 2:
				if r, ok := refOf(out[len(out)-2], out[len(out)-1]); ok {
					out = append(out[:len(out)-2], r)
				}
			case k == ">>" || k == "endobj":
				return nil, errors.New("array without its end")
			}
			continue // a stray word: read on, as other readers do
		}
		if out == nil {
			out = make(Array, 0, 4) // as many as a rectangle has
		}
		out = append(out, o)
	}
}

func refOf(num, gen Object) (Object, bool) {
	n, ok1 := num.(Integer)
	g, ok2 := gen.(Integer)
	if !ok1 || !ok2 || n < 0 || n > MaxObjects || g < 0 || g > 65535 {
		return nil, false
	}
	if n == 0 {
		return nil, true
	}
	return Ref{int(n), int(g)}, true
}

func (l *Lexer) dict(depth int) (Object, error) {
	d := &Dict{}
	var key Name
	var vals [3]Object // the values since the last key: more than one only for "n g R"
	n, have := 0, false
	flush := func() {
		if have && n > 0 && vals[0] != nil {
			d.Set(key, vals[0])
		}
		n = 0
	}
	for {
		l.SkipSpace()
		// A name is the next key, unless the current key still lacks its value.
		o, err := l.object(depth + 1)
		if err != nil {
			return nil, err
		}
		switch v := o.(type) {
		case Name:
			if !have || n > 0 {
				flush()
				key, have = v, true
				continue
			}
			vals[0], n = v, 1
		case Keyword:
			switch {
			case v == ">>":
				flush()
				return d, nil
			case v == "R" && l.Refs && n == 2:
				if r, ok := refOf(vals[0], vals[1]); ok {
					vals[0], n = r, 1
				}
			case v == "endobj" || v == "stream":
				return nil, errors.New("dictionary without its end")
			}
		default:
			if !have {
				continue
			}
			if n < len(vals) {
				vals[n] = o
				n++
			}
		}
	}
}

// maxExact is the first integer from which on not every one is a float64.
const maxExact = 1 << 53

// powers are those powers of ten that are exact as a float64.
var powers = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// number reads an integer or real (7.3.3). Malformed ones ("--5", "1.2.3") are
// read as far as they make sense, as other readers do.
func (l *Lexer) number() Object {
	start := l.Pos
	neg := false
	for l.Pos < len(l.Data) && (l.Data[l.Pos] == '+' || l.Data[l.Pos] == '-') {
		if l.Data[l.Pos] == '-' {
			neg = true
		}
		l.Pos++
	}
	digits := l.Pos
	var n int64
	overflow := false
	for l.Pos < len(l.Data) && l.Data[l.Pos] >= '0' && l.Data[l.Pos] <= '9' {
		if n > (math.MaxInt64-9)/10 {
			overflow = true
		} else {
			n = n*10 + int64(l.Data[l.Pos]-'0')
		}
		l.Pos++
	}
	if l.Pos < len(l.Data) && l.Data[l.Pos] == '.' {
		l.Pos++
		point := l.Pos
		for l.Pos < len(l.Data) && l.Data[l.Pos] >= '0' && l.Data[l.Pos] <= '9' {
			if n < maxExact/16 {
				n = n*10 + int64(l.Data[l.Pos]-'0')
			} else {
				overflow = true
			}
			l.Pos++
		}
		var f float64
		if places := l.Pos - point; !overflow && n < maxExact && places < len(powers) {
			f = float64(n) / powers[places] // both are exact, so that this is rounded once, as it is by ParseFloat
		} else {
			f, _ = strconv.ParseFloat(string(l.Data[digits:l.Pos]), 64)
		}
		if neg {
			f = -f
		}
		l.skipRegular()
		return Real(f)
	}
	if l.Pos == digits && l.Pos < len(l.Data) && charClass[l.Data[l.Pos]] == 0 {
		// "-foo": not a number at all
		l.skipRegular()
		return Keyword(l.Data[start:l.Pos])
	}
	if l.Pos < len(l.Data) && charClass[l.Data[l.Pos]] == 0 {
		c := l.Data[l.Pos]
		if c == '-' { // "12-34" is read as 12
			l.skipRegular()
		} else if !l.Refs && c != 'e' && c != 'E' {
			// content streams may run an operator into a number: "0g"
		} else if (c == 'e' || c == 'E') && l.Refs && digits < l.Pos && l.Pos+1 < len(l.Data) && l.Data[l.Pos+1] != 'n' {
			l.skipRegular()
			if f, err := strconv.ParseFloat(string(l.Data[digits:l.Pos]), 64); err == nil {
				if neg {
					f = -f
				}
				return Real(f)
			}
		}
	}
	if overflow {
		f, _ := strconv.ParseFloat(string(l.Data[digits:l.Pos]), 64)
		if neg {
			f = -f
		}
		return Real(f)
	}
	if neg {
		n = -n
	}
	return Integer(n)
}

// skipRegular passes what is glued to a malformed real.
func (l *Lexer) skipRegular() {
	for l.Pos < len(l.Data) && charClass[l.Data[l.Pos]] == 0 && !(l.Data[l.Pos] >= 'A' && !l.Refs) {
		l.Pos++
	}
}
