package picture

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/png"

	"glenrain/core/pdf"
)

var pngMark = []byte("\x89PNG\r\n\x1a\n")

// pngHeader is what the chunks say (ISO/IEC 15948, 11).
type pngHeader struct {
	width, height, bits, colour int
	interlaced                  bool
	transparent                 bool // a tRNS chunk or an alpha channel
	palette                     []byte
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
		case "tRNS":
			h.transparent = true
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
	case 2:
		components, space = 3, pdf.Name("DeviceRGB")
	case 3:
		space = pdf.Array{pdf.Name("Indexed"), pdf.Name("DeviceRGB"), pdf.Integer(len(h.palette)/3 - 1), pdf.String(h.palette)}
	}
	d := imageDict(h.width, h.height, h.bits, space)
	d.Set("Filter", pdf.Name("FlateDecode"))
	d.Set("DecodeParms", pdf.NewDict("Predictor", pdf.Integer(15), "Colors", pdf.Integer(components),
		"BitsPerComponent", pdf.Integer(h.bits), "Columns", pdf.Integer(h.width)))
	return doc.Add(pdf.NewStream(d, bytes.Join(h.idat, nil)))
}

// decoded writes colour and transparency as two pictures: the second is the soft
// mask of the first (11.6.5.2).
func (h *pngHeader) decoded(doc *pdf.Document, data []byte) (pdf.Ref, error) {
	if h.width > pdf.MaxPixels/h.height {
		return pdf.Ref{}, fmt.Errorf("%w: %w", ErrFormat, pdf.ErrTooManyPixels)
	}
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return pdf.Ref{}, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	b := img.Bounds()
	n := b.Dx() * b.Dy()
	rgb, alpha := make([]byte, 0, 3*n), make([]byte, 0, n)
	opaque := true
	at := pixelReader(img)
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			c := at(x, y)
			rgb = append(rgb, c.R, c.G, c.B)
			alpha = append(alpha, c.A)
			opaque = opaque && c.A == 255
		}
	}
	d := imageDict(b.Dx(), b.Dy(), 8, pdf.Name("DeviceRGB"))
	if !opaque {
		d.Set("SMask", doc.Add(pdf.NewFlateStream(imageDict(b.Dx(), b.Dy(), 8, pdf.Name("DeviceGray")), alpha)))
	}
	return doc.Add(pdf.NewFlateStream(d, rgb)), nil
}

// pixelReader gives colours that are not multiplied by their transparency.
func pixelReader(img image.Image) func(x, y int) color.NRGBA {
	if n, ok := img.(*image.NRGBA); ok {
		return n.NRGBAAt
	}
	return func(x, y int) color.NRGBA { return color.NRGBAModel.Convert(img.At(x, y)).(color.NRGBA) }
}
