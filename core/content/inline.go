package content

import (
	"math"

	"glenrain/core/pdf"
)

// Inline is an inline image (8.9.7).
type Inline struct {
	Dict       *pdf.Dict // with the keys as they are written
	Start, End int       // the data between ID and EI
}

// inline reads an inline image from behind BI to behind EI.
func (s *Scanner) inline(o *Op) {
	im := &Inline{Dict: pdf.NewDict()}
	o.Image = im
	lx := pdf.Lexer{Data: s.Data, Pos: s.Pos}
	for {
		k, err := lx.Next()
		if err != nil {
			s.Pos, o.End = len(s.Data), len(s.Data)
			im.Start, im.End = s.Pos, s.Pos
			return
		}
		if w, ok := k.(pdf.Keyword); ok {
			if w == "ID" {
				break
			}
			if w == "EI" { // an image without data
				s.Pos, o.End = lx.Pos, lx.Pos
				im.Start, im.End = lx.Pos-2, lx.Pos-2
				return
			}
			continue
		}
		key, ok := k.(pdf.Name)
		if !ok {
			continue
		}
		v, err := lx.Next()
		if err != nil {
			continue
		}
		if w, ok := v.(pdf.Keyword); ok {
			if w == "ID" {
				break
			}
			continue
		}
		im.Dict.Set(key, v)
	}
	im.Start = min(lx.Pos, len(s.Data))
	if im.Start < len(s.Data) && class[s.Data[im.Start]] == space {
		im.Start++
	}
	im.End, s.Pos = s.endOfInline(im)
	o.End = s.Pos
}

// endOfInline finds EI: behind the length that the dictionary tells where the data is not packed, else
// where white space, EI and text-like bytes follow one another.
func (s *Scanner) endOfInline(im *Inline) (end, behind int) {
	data := s.Data
	if n, ok := im.rawLength(); ok {
		at := im.Start + n
		for at < len(data) && at < im.Start+n+4 && class[data[at]] == space {
			at++
		}
		if at+2 <= len(data) && data[at] == 'E' && data[at+1] == 'I' {
			return im.Start + n, at + 2
		}
	}
	for i := im.Start; i+1 < len(data); i++ {
		if data[i] != 'E' || data[i+1] != 'I' || i > im.Start && class[data[i-1]] != space || i+2 < len(data) && class[data[i+2]] != space {
			continue
		}
		if !textLike(data[i+2:]) {
			continue
		}
		if i > im.Start {
			return i - 1, i + 2
		}
		return i, i + 2
	}
	return len(data), len(data)
}

// textLike looks at the next bytes: operators are printable, image data is not for long.
func textLike(b []byte) bool {
	for _, c := range b[:min(len(b), 16)] {
		if c >= 0x7f || c < 0x20 && class[c] != space || c == 0 {
			return false
		}
	}
	return true
}

// Get gives a value under its short or its long key (table 91).
func (im *Inline) Get(short, long pdf.Name) pdf.Object {
	if v := im.Dict.Get(short); v != nil {
		return v
	}
	return im.Dict.Get(long)
}

// rawLength is how many bytes an unpacked inline image takes.
func (im *Inline) rawLength() (int, bool) {
	if im.Get("F", "Filter") != nil {
		return 0, false
	}
	w, ok1 := pdf.Number(im.Get("W", "Width"))
	h, ok2 := pdf.Number(im.Get("H", "Height"))
	bits, ok3 := pdf.Number(im.Get("BPC", "BitsPerComponent"))
	if mask, _ := im.Get("IM", "ImageMask").(pdf.Boolean); bool(mask) {
		bits, ok3 = 1, true
	}
	if !ok1 || !ok2 || !ok3 || w < 1 || h < 1 || w > 1<<16 || h > 1<<16 || bits < 1 || bits > 16 {
		return 0, false
	}
	n := 1.0
	switch cs := im.Get("CS", "ColorSpace").(type) {
	case nil, pdf.Array:
	case pdf.Name:
		switch cs {
		case "G", "DeviceGray", "CalGray":
		case "RGB", "DeviceRGB", "CalRGB":
			n = 3
		case "CMYK", "DeviceCMYK":
			n = 4
		default:
			return 0, false
		}
	default:
		return 0, false
	}
	return int(math.Ceil(w*n*bits/8)) * int(h), true
}
