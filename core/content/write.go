package content

import (
	"strconv"

	"glenrain/core/pdf"
)

// AppendNumber writes a number with all the digits it needs to be read as the same again.
func AppendNumber(b []byte, v float64) []byte {
	if v == 0 {
		return append(b, '0')
	}
	return strconv.AppendFloat(b, v, 'f', -1, 64)
}

// AppendString writes a string, as a literal or in hexadecimal, whichever is likely to be shorter.
func AppendString(b, s []byte) []byte {
	odd := 0
	for _, c := range s {
		if c < 0x20 || c >= 0x7f {
			odd++
		}
	}
	if odd*2 > len(s) {
		const digits = "0123456789abcdef"
		b = append(b, '<')
		for _, c := range s {
			b = append(b, digits[c>>4], digits[c&15])
		}
		return append(b, '>')
	}
	b = append(b, '(')
	for _, c := range s {
		switch c {
		case '(', ')', '\\':
			b = append(b, '\\', c)
		case '\r':
			b = append(b, '\\', 'r')
		case '\n':
			b = append(b, '\\', 'n')
		default:
			b = append(b, c)
		}
	}
	return append(b, ')')
}

// Append writes an operand.
func (v Operand) Append(b []byte) []byte {
	switch v.Kind {
	case Number:
		return AppendNumber(b, v.Num)
	case Bool:
		return strconv.AppendBool(b, v.Num != 0)
	case Name:
		return pdf.AppendObject(b, pdf.Name(v.Bytes))
	case String:
		return AppendString(b, v.Bytes)
	case Array:
		b = append(b, '[')
		for i, e := range v.Items {
			if i > 0 {
				b = append(b, ' ')
			}
			b = e.Append(b)
		}
		return append(b, ']')
	case Dict:
		return pdf.AppendObject(b, v.Dict)
	}
	return append(b, "null"...)
}

// Append writes an operator after its operands; data is the stream that it was read from.
func (o *Op) Append(b, data []byte) []byte {
	for _, v := range o.Args {
		b = append(v.Append(b), ' ')
	}
	if o.Image != nil {
		b = append(b, "BI "...)
		for _, e := range o.Image.Dict.Entries() {
			b = append(pdf.AppendObject(b, e.Key), ' ')
			b = append(pdf.AppendObject(b, e.Value), ' ')
		}
		b = append(b, "ID "...)
		b = append(b, data[o.Image.Start:o.Image.End]...)
		return append(b, "\nEI"...)
	}
	return append(b, data[o.At:o.End]...)
}
