package pdf

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
)

// AppendObject writes o in its canonical form (7.3) to b. Streams are written
// without their bytes: as their dictionary.
func AppendObject(b []byte, o Object) []byte { return appendMapped(b, o, nil) }

// appendMapped writes o with every reference replaced by what to gives for it; an
// entry of a dictionary that becomes null is left out (7.3.7).
func appendMapped(b []byte, o Object, to func(Ref) Object) []byte {
	switch v := o.(type) {
	case nil:
		return append(b, "null"...)
	case Boolean:
		return strconv.AppendBool(b, bool(v))
	case Integer:
		return strconv.AppendInt(b, int64(v), 10)
	case Real:
		return appendReal(b, float64(v))
	case String:
		return appendString(b, string(v))
	case Name:
		return appendName(b, string(v))
	case Ref:
		if to != nil {
			return appendMapped(b, to(v), nil)
		}
		b = strconv.AppendInt(b, int64(v.Num), 10)
		b = append(b, ' ')
		b = strconv.AppendInt(b, int64(v.Gen), 10)
		return append(b, " R"...)
	case Array:
		b = append(b, '[')
		for i, e := range v {
			if i > 0 {
				b = append(b, ' ')
			}
			b = appendMapped(b, e, to)
		}
		return append(b, ']')
	case *Dict:
		b = append(b, "<<"...)
		for _, e := range v.Entries() {
			value := e.Value
			if r, ok := value.(Ref); ok && to != nil {
				if value = to(r); value == nil {
					continue
				}
				b = appendName(b, string(e.Key))
				b = append(b, ' ')
				b = AppendObject(b, value)
				continue
			}
			b = appendName(b, string(e.Key))
			if needsSpace(value) {
				b = append(b, ' ')
			}
			b = appendMapped(b, value, to)
		}
		return append(b, ">>"...)
	case *Stream:
		return appendMapped(b, v.Dict, to)
	case Keyword:
		return append(b, v...)
	}
	return append(b, fmt.Sprintf("null %%%T\n", o)...)
}

func needsSpace(o Object) bool {
	switch o.(type) {
	case Name, String, Array, *Dict:
		return false
	}
	return true
}

// appendReal writes a real number without an exponent, which PDF does not know (7.3.3).
func appendReal(b []byte, f float64) []byte {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		f = 0
	}
	if f == math.Trunc(f) && math.Abs(f) < 1e15 {
		return strconv.AppendInt(b, int64(f), 10)
	}
	return strconv.AppendFloat(b, f, 'f', -1, 64)
}

func appendName(b []byte, s string) []byte {
	b = append(b, '/')
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c < '!' || c > '~' || c == '#' || IsDelimiter(c) {
			b = append(b, '#', "0123456789ABCDEF"[c>>4], "0123456789ABCDEF"[c&15])
			continue
		}
		b = append(b, c)
	}
	return b
}

func appendString(b []byte, s string) []byte {
	odd := 0
	for i := 0; i < len(s); i++ {
		if s[i] < 32 || s[i] > 126 {
			odd++
		}
	}
	if odd > len(s)/3 {
		b = append(b, '<')
		for i := 0; i < len(s); i++ {
			b = append(b, "0123456789ABCDEF"[s[i]>>4], "0123456789ABCDEF"[s[i]&15])
		}
		return append(b, '>')
	}
	b = append(b, '(')
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '(', ')', '\\':
			b = append(b, '\\', c)
		case '\r':
			b = append(b, `\r`...)
		default:
			b = append(b, c)
		}
	}
	return append(b, ')')
}

// appendIndirect writes "n g obj ... endobj" with a stream's bytes.
func appendIndirect(b *bytes.Buffer, num, gen int, o Object) error {
	fmt.Fprintf(b, "%d %d obj\n", num, gen)
	s, ok := o.(*Stream)
	if !ok {
		b.Write(AppendObject(b.AvailableBuffer(), o))
		b.WriteString("\nendobj\n")
		return nil
	}
	b.Write(AppendObject(b.AvailableBuffer(), withLength(s)))
	b.WriteString("\nstream\n")
	if err := s.rawTo(b); err != nil {
		return err
	}
	b.WriteString("\nendstream\nendobj\n")
	return nil
}

// withLength gives the stream's dictionary with its true, direct /Length.
func withLength(s *Stream) *Dict {
	if v, ok := s.Dict.Get("Length").(Integer); ok && int64(v) == s.RawLen() {
		return s.Dict
	}
	d := s.Dict.Clone()
	d.Set("Length", Integer(s.RawLen()))
	return d
}
