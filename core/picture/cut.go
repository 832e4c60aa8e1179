package picture

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"io"
	"math"

	"golang.org/x/image/ccitt"

	"glenrain/core/pdf"
)

// ErrUncut: a picture in a document can't be cut.
var ErrUncut = errors.New("a picture crosses the edge that can't be cut")

// mostCut is how many bytes of samples a picture has that is cut.
const mostCut = 256 << 20

// Cut gives an image XObject (8.9.5) with the part of another one that lies in a frame on the page, where m takes the unit square of the whole picture to the
// page; and the matrix from the unit square of the part to that of the whole. Pixels that the edge of the frame crosses stay. Samples are what they
// were, those of a JPEG what it decodes to. An error is told where the picture is stored in a way that can't be cut, or stands at an angle.
func Cut(doc *pdf.Document, ref pdf.Ref, m pdf.Matrix, frame pdf.Rect) (pdf.Ref, pdf.Matrix, error) {
	size := max(math.Abs(m[0]), math.Abs(m[1]), math.Abs(m[2]), math.Abs(m[3]))
	along := math.Abs(m[1])+math.Abs(m[2]) < 1e-3*size
	across := math.Abs(m[0])+math.Abs(m[3]) < 1e-3*size
	s := doc.Stream(ref)
	if s == nil || m[0]*m[3] == m[1]*m[2] {
		return pdf.Ref{}, pdf.Identity, nil // it draws nothing
	}
	if !along && !across {
		return pdf.Ref{}, pdf.Identity, fmt.Errorf("%w: it is at an angle", ErrUncut)
	}
	u := m.Invert().Bounds(frame)
	u = pdf.Rect{X0: max(0, u.X0), Y0: max(0, u.Y0), X1: min(1, u.X1), Y1: min(1, u.Y1)}
	base, err := readSamples(doc, s)
	if err != nil {
		return pdf.Ref{}, pdf.Identity, err
	}
	px := base.pixels(u)
	if px.Empty() {
		return pdf.Ref{}, pdf.Identity, fmt.Errorf("%w: nothing of it is left", ErrUncut)
	}
	w, h := float64(base.w), float64(base.h)
	exact := pdf.Rect{X0: float64(px.Min.X) / w, X1: float64(px.Max.X) / w, Y0: 1 - float64(px.Max.Y)/h, Y1: 1 - float64(px.Min.Y)/h}
	d := s.Dict.Clone()
	for _, k := range []pdf.Name{"Metadata", "PieceInfo", "Alternates", "OPI", "Measure", "PtData", "SMaskInData"} {
		d.Delete(k) // which tell of, or hold, the whole picture
	}
	for _, k := range []pdf.Name{"SMask", "Mask"} {
		mask := doc.Stream(d.Get(k))
		if mask == nil {
			continue
		}
		from, err := readSamples(doc, mask)
		if err != nil {
			return pdf.Ref{}, pdf.Identity, err
		}
		md := mask.Dict.Clone()
		md.Delete("Metadata")
		d.Set(k, doc.Add(from.part(from.pixels(exact), md)))
	}
	out := base.part(px, d)
	return doc.Add(out), pdf.Matrix{exact.W(), 0, 0, exact.H(), exact.X0, exact.Y0}, nil
}

// samples are those of an image XObject, row by row from the top.
type samples struct {
	w, h, bits int // bits of a pixel
	data       []byte
	space      pdf.Object // where decoding gave another colour space or depth
	depth      int
}

func (s *samples) stride() int { return (s.w*s.bits + 7) / 8 }

// pixels gives the pixels that a part of the unit square touches.
func (s *samples) pixels(u pdf.Rect) image.Rectangle {
	const slack = 1e-6
	w, h := float64(s.w), float64(s.h)
	return image.Rect(int(math.Floor(u.X0*w+slack)), int(math.Floor((1-u.Y1)*h+slack)), int(math.Ceil(u.X1*w-slack)), int(math.Ceil((1-u.Y0)*h-slack))).
		Intersect(image.Rect(0, 0, s.w, s.h))
}

// part makes the stream of some pixels, with what dict says besides.
func (s *samples) part(px image.Rectangle, dict *pdf.Dict) *pdf.Stream {
	w := px.Dx()
	row := (w*s.bits + 7) / 8
	out := make([]byte, 0, row*px.Dy())
	for y := px.Min.Y; y < px.Max.Y; y++ {
		from := s.data[min(len(s.data), y*s.stride()):min(len(s.data), (y+1)*s.stride())]
		at := len(out)
		out = out[:at+row]
		copyBits(out[at:], from, px.Min.X*s.bits, w*s.bits)
	}
	for _, k := range []pdf.Name{"Filter", "DecodeParms", "Length", "F", "FFilter", "FDecodeParms"} {
		dict.Delete(k)
	}
	dict.Set("Width", pdf.Integer(w))
	dict.Set("Height", pdf.Integer(px.Dy()))
	if s.space != nil {
		dict.Set("ColorSpace", s.space)
	}
	if s.depth != 0 {
		dict.Set("BitsPerComponent", pdf.Integer(s.depth))
	}
	return pdf.NewFlateStream(dict, out)
}

// copyBits copies n bits of from, beginning at bit first, to the beginning of to.
func copyBits(to, from []byte, first, n int) {
	shift := first % 8
	from = from[min(len(from), first/8):]
	bytes := (n + 7) / 8
	if shift == 0 {
		copy(to[:bytes], from)
	} else {
		for i := range bytes {
			var a, b byte
			if i < len(from) {
				a = from[i]
			}
			if i+1 < len(from) {
				b = from[i+1]
			}
			to[i] = a<<shift | b>>(8-shift)
		}
	}
	if over := n % 8; over != 0 { // what lies beyond is not carried along
		to[bytes-1] &= 0xff << (8 - over)
	}
}

// readSamples decodes an image XObject.
func readSamples(doc *pdf.Document, s *pdf.Stream) (*samples, error) {
	number := func(k pdf.Name) int { n, _ := pdf.Number(doc.Resolve(s.Dict.Get(k))); return int(n) }
	out := &samples{w: number("Width"), h: number("Height")}
	if out.w < 1 || out.h < 1 || out.w > 1<<20 || out.h > 1<<20 {
		return nil, fmt.Errorf("%w: its size is wrong", ErrUncut)
	}
	depth := number("BitsPerComponent")
	n := components(doc, s.Dict.Get("ColorSpace"), 0)
	if mask, _ := doc.Resolve(s.Dict.Get("ImageMask")).(pdf.Boolean); bool(mask) {
		depth, n = 1, 1
	}
	out.bits = depth * n
	if out.bits < 1 || out.stride()*out.h > mostCut {
		return nil, fmt.Errorf("%w: it is too large, or its colours are not known", ErrUncut)
	}
	data, rest, err := doc.DecodeMost(s, mostCut)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUncut, err)
	}
	out.data = data
	if len(rest) == 0 {
		return out, nil
	}
	if len(rest) > 1 {
		return nil, fmt.Errorf("%w: it is stored as %s", ErrUncut, rest[0])
	}
	switch rest[0] {
	case "DCTDecode", "DCT":
		return out, out.fromJPEG(n)
	case "CCITTFaxDecode", "CCF":
		parms := doc.Dict(s.Dict.Get("DecodeParms"))
		if list := doc.Array(s.Dict.Get("DecodeParms")); len(list) > 0 {
			parms = doc.Dict(list[len(list)-1])
		}
		return out, out.fromFax(doc, parms)
	}
	return nil, fmt.Errorf("%w: it is stored as %s", ErrUncut, rest[0])
}

// fromJPEG decodes a JPEG of n components.
func (s *samples) fromJPEG(n int) error {
	cfg, err := jpeg.DecodeConfig(bytes.NewReader(s.data))
	if err != nil || cfg.Width != s.w || cfg.Height != s.h {
		return fmt.Errorf("%w: it is a JPEG that can't be read", ErrUncut)
	}
	img, err := jpeg.Decode(bytes.NewReader(s.data))
	if err != nil {
		return fmt.Errorf("%w: it is a JPEG that can't be read", ErrUncut)
	}
	switch v := img.(type) {
	case *image.Gray:
		if n != 1 {
			break
		}
		s.data, s.bits, s.depth = nil, 8, 8
		for y := range s.h {
			s.data = append(s.data, v.Pix[y*v.Stride:y*v.Stride+s.w]...)
		}
		return nil
	case *image.YCbCr, *image.RGBA:
		if n != 3 {
			break
		}
		s.data, s.bits, s.depth = make([]byte, 0, 3*s.w*s.h), 24, 8
		for y := range s.h {
			for x := range s.w {
				var r, g, b uint8
				if yc, ok := img.(*image.YCbCr); ok {
					i, c := yc.YOffset(x, y), yc.COffset(x, y)
					r, g, b = color.YCbCrToRGB(yc.Y[i], yc.Cb[c], yc.Cr[c])
				} else {
					at := img.(*image.RGBA).RGBAAt(x, y)
					r, g, b = at.R, at.G, at.B
				}
				s.data = append(s.data, r, g, b)
			}
		}
		return nil
	}
	return fmt.Errorf("%w: it is a JPEG of %d colours", ErrUncut, n)
}

// fromFax decodes CCITT data (7.4.6).
func (s *samples) fromFax(doc *pdf.Document, parms *pdf.Dict) error {
	k, _ := pdf.Number(doc.Resolve(parms.Get("K")))
	columns, rows := 1728, s.h
	if v, ok := pdf.Number(doc.Resolve(parms.Get("Columns"))); ok {
		columns = int(v)
	}
	black, _ := doc.Resolve(parms.Get("BlackIs1")).(pdf.Boolean)
	align, _ := doc.Resolve(parms.Get("EncodedByteAlign")).(pdf.Boolean)
	if columns != s.w || k > 0 {
		return fmt.Errorf("%w: it is a fax of a kind that is not read here", ErrUncut)
	}
	kind := ccitt.Group4
	if k == 0 {
		kind = ccitt.Group3
	}
	r := ccitt.NewReader(bytes.NewReader(s.data), ccitt.MSB, kind, columns, rows, &ccitt.Options{Align: bool(align), Invert: bool(black)})
	out := make([]byte, s.stride()*rows)
	if _, err := io.ReadFull(r, out); err != nil {
		return fmt.Errorf("%w: it is a fax that can't be read", ErrUncut)
	}
	s.data, s.bits = out, 1
	return nil
}

// components is how many components a colour space has (8.6); 0 where it is not known.
func components(doc *pdf.Document, o pdf.Object, depth int) int {
	switch v := doc.Resolve(o).(type) {
	case pdf.Name:
		return map[pdf.Name]int{"DeviceGray": 1, "CalGray": 1, "G": 1, "DeviceRGB": 3, "CalRGB": 3, "RGB": 3, "DeviceCMYK": 4, "CMYK": 4, "Lab": 3}[v]
	case pdf.Array:
		if len(v) == 0 || depth > 4 {
			return 0
		}
		switch name := doc.Name(v[0]); name {
		case "ICCBased":
			if len(v) < 2 {
				return 0
			}
			n, _ := pdf.Number(doc.Resolve(doc.Dict(v[1]).Get("N")))
			if s := doc.Stream(v[1]); s != nil {
				n, _ = pdf.Number(doc.Resolve(s.Dict.Get("N")))
			}
			return int(n)
		case "Indexed", "I", "Separation":
			return 1
		case "DeviceN":
			if len(v) < 2 {
				return 0
			}
			return len(doc.Array(v[1]))
		default:
			return components(doc, name, depth+1)
		}
	}
	return 0
}
