package picture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"image/color"
	"image/png"
	"io"

	"github.com/klauspost/compress/zlib" // packs three times as fast as the standard library's

	"glenrain/core/pdf"
)

var pngMark = []byte("\x89PNG\r\n\x1a\n")

// pngHeader is what the chunks say (ISO/IEC 15948, 11).
type pngHeader struct {
	width, height, bits, colour int
	interlaced                  bool
	transparent                 bool // a tRNS chunk or an alpha channel
	palette, trns, iccp         []byte
	idat                        [][]byte
	dpiX, dpiY                  float64
}

func readPNG(data []byte) (*Picture, error) {
	h := &pngHeader{}
	for at := 8; at+12 <= len(data); {
		n := int(binary.BigEndian.Uint32(data[at:]))
		if n < 0 || at+12+n > len(data) {
			break
		}
		body := data[at+8 : at+8+n]
		switch string(data[at+4 : at+8]) {
		case "IHDR":
			if n < 13 {
				return nil, ErrFormat
			}
			h.width, h.height = int(binary.BigEndian.Uint32(body)), int(binary.BigEndian.Uint32(body[4:]))
			h.bits, h.colour, h.interlaced = int(body[8]), int(body[9]), body[12] != 0
			h.transparent = h.colour&4 != 0
		case "PLTE":
			h.palette = body
		case "iCCP":
			h.iccp = body
		case "tRNS":
			h.transparent, h.trns = true, body
		case "pHYs":
			if n >= 9 && body[8] == 1 { // pixels a metre
				h.dpiX = float64(binary.BigEndian.Uint32(body)) * 0.0254
				h.dpiY = float64(binary.BigEndian.Uint32(body[4:])) * 0.0254
			}
		case "IDAT":
			h.idat = append(h.idat, body)
		}
		at += 12 + n
	}
	if h.width <= 0 || h.height <= 0 || h.width > 1<<20 || h.height > 1<<20 || len(h.idat) == 0 {
		return nil, ErrFormat
	}
	p := &Picture{Kind: "PNG", Width: h.width, Height: h.height, DPIX: h.dpiX, DPIY: h.dpiY, Stated: h.dpiX > 0, Orientation: 1}
	p.make = func(doc *pdf.Document) (pdf.Ref, error) {
		if h.transparent || h.interlaced {
			return h.decoded(doc, data)
		}
		return h.asItIs(doc), nil
	}
	return p, nil
}

// asItIs takes the compressed rows over: PNG's own filters are what Flate's
// predictor 15 undoes (ISO 32000-2, 7.4.4.4).
func (h *pngHeader) asItIs(doc *pdf.Document) pdf.Ref {
	components := 1
	var space pdf.Object = pdf.Name("DeviceGray")
	switch h.colour {
	case 0:
		space = profiled(doc, h.icc(), 1, space)
	case 2:
		components, space = 3, profiled(doc, h.icc(), 3, pdf.Name("DeviceRGB"))
	case 3:
		base := profiled(doc, h.icc(), 3, pdf.Name("DeviceRGB"))
		space = pdf.Array{pdf.Name("Indexed"), base, pdf.Integer(len(h.palette)/3 - 1), pdf.String(h.palette)}
	}
	d := imageDict(h.width, h.height, h.bits, space)
	d.Set("Filter", pdf.Name("FlateDecode"))
	d.Set("DecodeParms", pdf.NewDict("Predictor", pdf.Integer(15), "Colors", pdf.Integer(components),
		"BitsPerComponent", pdf.Integer(h.bits), "Columns", pdf.Integer(h.width)))
	return doc.Add(pdf.NewStream(d, bytes.Join(h.idat, nil)))
}

// decoded writes colour and transparency as two pictures: the second is the soft mask of the first (11.6.5.2). The standard
// library's decoder holds all pixels at once, which a small file may have hundreds of millions of: rows that follow one another are
// taken one by one here, and only interlaced pictures go through it.
func (h *pngHeader) decoded(doc *pdf.Document, data []byte) (pdf.Ref, error) {
	most := pdf.MaxPixels
	if h.interlaced {
		most = maxInterlaced
	}
	if h.width > most/h.height {
		return pdf.Ref{}, pdf.ErrTooManyPixels
	}
	parts := newRows(h.width, h.bits == 16)
	put := func(row []color.NRGBA64) error {
		if err := doc.Over(); err != nil {
			return err
		}
		if parts.deep {
			return parts.putDeep(row)
		}
		return parts.put(shallow(row))
	}
	rows := h.rows
	if h.interlaced {
		rows = func(put func([]color.NRGBA64) error) error { return wholeRows(data, put) }
	}
	if err := rows(put); err != nil {
		return pdf.Ref{}, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	return parts.add(doc, h.width, h.height, h.icc()), nil
}

// shallow takes the upper 8 bits of 16.
func shallow(row []color.NRGBA64) []color.NRGBA {
	out := make([]color.NRGBA, len(row))
	for i, c := range row {
		out[i] = color.NRGBA{uint8(c.R >> 8), uint8(c.G >> 8), uint8(c.B >> 8), uint8(c.A >> 8)}
	}
	return out
}

// maxProfile is the largest colour profile that is taken over, in bytes.
const maxProfile = 4 << 20

// icc gives the picture's colour profile (11.3.2.3); nil where it has none.
func (h *pngHeader) icc() []byte {
	_, packed, ok := bytes.Cut(h.iccp, []byte{0})
	if !ok || len(packed) < 2 || packed[0] != 0 {
		return nil
	}
	r, err := zlib.NewReader(bytes.NewReader(packed[1:]))
	if err != nil {
		return nil
	}
	out, err := io.ReadAll(io.LimitReader(r, maxProfile+1))
	if err != nil || len(out) > maxProfile {
		return nil
	}
	return out
}

// maxInterlaced is the most pixels of a picture whose rows do not follow one another.
const maxInterlaced = 40_000_000

// channels is how many samples a pixel has, by its colour type (11.2.2, table 11.1).
var channels = map[int]int{0: 1, 2: 3, 3: 1, 4: 2, 6: 4}

// rows reads the rows of a picture that is not interlaced.
func (h *pngHeader) rows(put func([]color.NRGBA64) error) error {
	n, known := channels[h.colour]
	if !known || h.bits != 1 && h.bits != 2 && h.bits != 4 && h.bits != 8 && h.bits != 16 || n > 1 && h.bits < 8 || h.colour == 3 && h.bits > 8 {
		return errors.New("its kind of pixels is not known")
	}
	parts := make([]io.Reader, len(h.idat))
	for i, b := range h.idat {
		parts[i] = bytes.NewReader(b)
	}
	from, err := zlib.NewReader(io.MultiReader(parts...))
	if err != nil {
		return err
	}
	bpp := max(1, n*h.bits/8)
	line := make([]byte, 1+(h.width*n*h.bits+7)/8)
	above := make([]byte, len(line))
	row := make([]color.NRGBA64, h.width)
	for range h.height {
		if _, err := io.ReadFull(from, line); err != nil {
			return err
		}
		if err := unfilter(line, above, bpp); err != nil {
			return err
		}
		h.pixels(line[1:], n, row)
		if err := put(row); err != nil {
			return err
		}
		line, above = above, line
	}
	return nil
}

// unfilter undoes the filter of a row (9.2), whose kind is its first byte.
func unfilter(line, above []byte, bpp int) error {
	cur, up := line[1:], above[1:]
	left := func(b []byte, i int) int {
		if i < bpp {
			return 0
		}
		return int(b[i-bpp])
	}
	switch line[0] {
	case 0:
	case 1:
		for i := bpp; i < len(cur); i++ {
			cur[i] += cur[i-bpp]
		}
	case 2:
		for i := range cur {
			cur[i] += up[i]
		}
	case 3:
		for i := range cur {
			cur[i] += byte((left(cur, i) + int(up[i])) / 2)
		}
	case 4:
		for i := range cur {
			a, b, c := left(cur, i), int(up[i]), left(up, i)
			pa, pb, pc := distance(b, c), distance(a, c), distance(a+b, 2*c)
			switch {
			case pa <= pb && pa <= pc:
				cur[i] += byte(a)
			case pb <= pc:
				cur[i] += byte(b)
			default:
				cur[i] += byte(c)
			}
		}
	default:
		return errors.New("a row is filtered in an unknown way")
	}
	return nil
}

func distance(a, b int) int { return max(a-b, b-a) }

// pixels gives the colours of a row of samples, n for each pixel, in 16 bits.
func (h *pngHeader) pixels(line []byte, n int, row []color.NRGBA64) {
	sample := func(i int) int {
		switch h.bits {
		case 8:
			return int(line[i])
		case 16:
			return int(line[2*i])<<8 | int(line[2*i+1])
		}
		at := i * h.bits
		return int(line[at/8]) >> (8 - h.bits - at%8) & (1<<h.bits - 1)
	}
	top := 1<<h.bits - 1
	value := func(v int) uint16 {
		if h.bits == 16 {
			return uint16(v)
		}
		return uint16(v * 255 / top * 257)
	}
	clear := func(k int) int { // the one colour that is transparent (11.3.2.1)
		if len(h.trns) < 2*k+2 {
			return -1
		}
		return int(h.trns[2*k])<<8 | int(h.trns[2*k+1])
	}
	for x := range row {
		switch h.colour {
		case 0, 4:
			v := sample(x * n)
			c := color.NRGBA64{value(v), value(v), value(v), 65535}
			if h.colour == 4 {
				c.A = value(sample(x*n + 1))
			} else if v == clear(0) {
				c.A = 0
			}
			row[x] = c
		case 2, 6:
			r, g, b := sample(x*n), sample(x*n+1), sample(x*n+2)
			c := color.NRGBA64{value(r), value(g), value(b), 65535}
			if h.colour == 6 {
				c.A = value(sample(x*n + 3))
			} else if r == clear(0) && g == clear(1) && b == clear(2) {
				c.A = 0
			}
			row[x] = c
		case 3:
			i := sample(x)
			c := color.NRGBA64{A: 65535}
			if 3*i+2 < len(h.palette) {
				c.R, c.G, c.B = uint16(h.palette[3*i])*257, uint16(h.palette[3*i+1])*257, uint16(h.palette[3*i+2])*257
			}
			if i < len(h.trns) {
				c.A = uint16(h.trns[i]) * 257
			}
			row[x] = c
		}
	}
}

// wholeRows decodes a picture at once and gives its rows.
func wholeRows(data []byte, put func([]color.NRGBA64) error) error {
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return err
	}
	b := img.Bounds()
	row := make([]color.NRGBA64, b.Dx())
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := range row {
			row[x] = color.NRGBA64Model.Convert(img.At(b.Min.X+x, y)).(color.NRGBA64)
		}
		if err := put(row); err != nil {
			return err
		}
	}
	return nil
}
