package picture

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"

	"glenrain/core/pdf"
)

// Planar holds the pixels of an image XObject as they can be worked on: a plane for each colour, of 0 to 255.
type Planar struct {
	Planes  []*image.Gray // one: how light it is; three: red, green and blue
	Bilevel bool          // it has black and white alone
	Lossy   bool          // it is stored as a JPEG
	space   pdf.Object    // its colour space, where the planes are its samples; else the device's
}

// W is how many pixels a row has.
func (p *Planar) W() int { return p.Planes[0].Rect.Dx() }

// H is how many rows there are.
func (p *Planar) H() int { return p.Planes[0].Rect.Dy() }

// ReadPlanar decodes an image XObject (8.9.5) to be worked on. It is an ErrUncut where it is stored in a way that isn't read here, is a stencil, has a mask, or is made of
// other colours than gray, red, green and blue.
func ReadPlanar(doc *pdf.Document, ref pdf.Ref) (*Planar, error) {
	s := doc.Stream(ref)
	if s == nil {
		return nil, fmt.Errorf("%w: there is none", ErrUncut)
	}
	if mask, _ := doc.Resolve(s.Dict.Get("ImageMask")).(pdf.Boolean); bool(mask) {
		return nil, fmt.Errorf("%w: it is a stencil", ErrUncut)
	}
	if s.Dict.Has("SMask") || s.Dict.Has("Mask") {
		return nil, fmt.Errorf("%w: it has a mask", ErrUncut)
	}
	raw, err := readSamples(doc, s)
	if err != nil {
		return nil, err
	}
	out := &Planar{Lossy: raw.depth != 0}
	depth := raw.depth
	if depth == 0 {
		n, _ := pdf.Number(doc.Resolve(s.Dict.Get("BitsPerComponent")))
		depth = int(n)
	}
	n := raw.bits / max(1, depth)
	space := doc.Array(s.Dict.Get("ColorSpace"))
	indexed := len(space) > 0 && (doc.Name(space[0]) == "Indexed" || doc.Name(space[0]) == "I")
	special := len(space) > 0 && (doc.Name(space[0]) == "Separation" || doc.Name(space[0]) == "DeviceN" || doc.Name(space[0]) == "Lab")
	switch {
	case special || n != 1 && n != 3 || depth > 8 || n == 3 && depth != 8:
		return nil, fmt.Errorf("%w: its colour space is not supported here", ErrUncut)
	case indexed:
		return out, out.fromPalette(doc, s.Dict, raw, space, depth)
	case n == 3:
		levels, err := lights(doc, s.Dict, n, depth, false)
		if err != nil {
			return nil, err
		}
		out.planes(raw, 3)
		for i := range raw.w * raw.h {
			if 3*i+2 >= len(raw.data) {
				break
			}
			for k, p := range out.Planes {
				p.Pix[i] = levels.part(k, raw.data[3*i+k])
			}
		}
		out.space = s.Dict.Get("ColorSpace")
		if raw.space != nil {
			out.space = raw.space
		}
		return out, nil
	}
	g, err := Gray(doc, ref)
	if err != nil {
		return nil, err
	}
	out.Planes, out.Bilevel = []*image.Gray{g}, depth == 1
	if !out.Bilevel {
		out.space = s.Dict.Get("ColorSpace")
	}
	return out, nil
}

func (p *Planar) planes(raw *samples, n int) {
	for range n {
		p.Planes = append(p.Planes, image.NewGray(image.Rect(0, 0, raw.w, raw.h)))
	}
}

// fromPalette reads a picture whose samples are numbers of colours (8.6.6.3).
func (p *Planar) fromPalette(doc *pdf.Document, d *pdf.Dict, raw *samples, space pdf.Array, depth int) error {
	if d.Has("Decode") {
		return fmt.Errorf("%w: its palette is used in a way of its own", ErrUncut)
	}
	base, table, err := palette(doc, space)
	if err != nil {
		return err
	}
	if base != 1 && base != 3 {
		return fmt.Errorf("%w: its palette is of colours that are not worked on here", ErrUncut)
	}
	p.planes(raw, base)
	p.space = space[1]
	stride := raw.stride()
	mask := byte(1<<depth - 1)
	for y := range raw.h {
		for x := range raw.w {
			bit := x * depth
			at := y*stride + bit/8
			if at >= len(raw.data) {
				continue
			}
			i := int(raw.data[at] >> (8 - depth - bit%8) & mask)
			for k := range base {
				if i*base+k < len(table) {
					p.Planes[k].Pix[y*raw.w+x] = table[i*base+k]
				}
			}
		}
	}
	if depth == 1 && len(table) >= 2*base {
		pure := true
		for _, v := range table[:2*base] {
			pure = pure && (v == 0 || v == 255)
		}
		for i := range 2 {
			for k := range base {
				pure = pure && table[i*base+k] == table[i*base]
			}
		}
		if pure { // it is black and white, whatever its palette could be
			p.Planes, p.space, p.Bilevel = p.Planes[:1], nil, true
		}
	}
	return nil
}

// Gray gives how light each pixel is.
func (p *Planar) Gray() *image.Gray {
	if len(p.Planes) == 1 {
		return p.Planes[0]
	}
	out := image.NewGray(p.Planes[0].Rect)
	for i := range out.Pix {
		out.Pix[i] = luma(p.Planes[0].Pix[i], p.Planes[1].Pix[i], p.Planes[2].Pix[i])
	}
	return out
}

// madeQuality is that of a JPEG that is stored again: the first one's errors are not added to in a way that is seen.
const madeQuality = 90

// Add stores the pixels as a new image XObject: a JPEG as a JPEG, all others without loss. like is the XObject they were read from: what it says besides is kept.
func (p *Planar) Add(doc *pdf.Document, like pdf.Ref) (pdf.Ref, error) {
	d := pdf.NewDict()
	if s := doc.Stream(like); s != nil {
		d = s.Dict.Clone()
	}
	for _, k := range []pdf.Name{"Filter", "DecodeParms", "Length", "F", "FFilter", "FDecodeParms", "Decode", "Metadata", "PieceInfo", "Alternates", "OPI", "SMaskInData"} {
		d.Delete(k)
	}
	w, h, n := p.W(), p.H(), len(p.Planes)
	d.Set("Width", pdf.Integer(w))
	d.Set("Height", pdf.Integer(h))
	d.Set("BitsPerComponent", pdf.Integer(8))
	d.Set("ColorSpace", map[int]pdf.Object{1: pdf.Name("DeviceGray"), 3: pdf.Name("DeviceRGB")}[n])
	if p.space != nil {
		d.Set("ColorSpace", p.space)
	}
	if p.Bilevel {
		d.Set("BitsPerComponent", pdf.Integer(1))
		row := (w + 7) / 8
		data := make([]byte, row*h)
		for y := range h {
			for x, v := range p.Planes[0].Pix[y*p.Planes[0].Stride:][:w] {
				if v >= 128 {
					data[y*row+x/8] |= 0x80 >> (x % 8)
				}
			}
		}
		return doc.Add(predicted(d, data, row, 1, 1, w)), nil
	}
	if p.Lossy {
		var b bytes.Buffer
		var img image.Image = p.Planes[0]
		if n == 3 {
			img = p.ycc()
		}
		if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: madeQuality}); err != nil {
			return pdf.Ref{}, fmt.Errorf("storing a picture: %w", err)
		}
		d.Set("Filter", pdf.Name("DCTDecode"))
		return doc.Add(pdf.NewStream(d, b.Bytes())), nil
	}
	row := w * n
	data := make([]byte, row*h)
	for y := range h {
		for k, plane := range p.Planes {
			for x, v := range plane.Pix[y*plane.Stride:][:w] {
				data[y*row+x*n+k] = v
			}
		}
	}
	return doc.Add(predicted(d, data, row, n, 8, w)), nil
}

// ycc gives the colours as a JPEG stores them: light for each pixel, and the two differences for every four.
func (p *Planar) ycc() *image.YCbCr {
	w, h := p.W(), p.H()
	out := image.NewYCbCr(image.Rect(0, 0, w, h), image.YCbCrSubsampleRatio420)
	at := func(x, y int) (uint8, uint8, uint8) {
		i := y*p.Planes[0].Stride + x
		return p.Planes[0].Pix[i], p.Planes[1].Pix[i], p.Planes[2].Pix[i]
	}
	for y := 0; y < h; y += 2 {
		for x := 0; x < w; x += 2 {
			var cb, cr, n int
			for _, d := range [4][2]int{{0, 0}, {1, 0}, {0, 1}, {1, 1}} {
				if x+d[0] >= w || y+d[1] >= h {
					continue
				}
				l, b, r := color.RGBToYCbCr(at(x+d[0], y+d[1]))
				out.Y[out.YOffset(x+d[0], y+d[1])] = l
				cb, cr, n = cb+int(b), cr+int(r), n+1
			}
			c := out.COffset(x, y)
			out.Cb[c], out.Cr[c] = uint8((cb+n/2)/n), uint8((cr+n/2)/n)
		}
	}
	return out
}

// predicted packs rows, each as what differs from the one above it (PNG's filter "up"; 7.4.4.4), as pictures of paper pack best.
func predicted(d *pdf.Dict, data []byte, row, colours, depth, columns int) *pdf.Stream {
	out := make([]byte, 0, len(data)+len(data)/max(1, row))
	for at := 0; at+row <= len(data); at += row {
		out = append(out, 2)
		for i, v := range data[at : at+row] {
			up := byte(0)
			if at > 0 {
				up = data[at-row+i]
			}
			out = append(out, v-up)
		}
	}
	s := pdf.NewFlateStream(d, out)
	if !s.Dict.Has("Filter") { // it was not shorter
		return pdf.NewFlateStream(d, data)
	}
	s.Dict.Set("DecodeParms", pdf.NewDict("Predictor", pdf.Integer(15), "Colors", pdf.Integer(colours), "BitsPerComponent", pdf.Integer(depth), "Columns", pdf.Integer(columns)))
	return s
}

// Grayed gives the picture as how light it is.
func (p *Planar) Grayed() *Planar {
	if len(p.Planes) == 1 {
		return &Planar{Planes: p.Planes, Bilevel: p.Bilevel, Lossy: p.Lossy, space: p.space}
	}
	return &Planar{Planes: []*image.Gray{p.Gray()}, Lossy: p.Lossy}
}

// StoredJPEG gives the bytes of an image XObject that is stored as a JPEG file of gray, or of red, green and blue, and nothing over that.
func StoredJPEG(doc *pdf.Document, s *pdf.Stream) ([]byte, bool) {
	filter := doc.Resolve(s.Dict.Get("Filter"))
	if a, ok := filter.(pdf.Array); ok && len(a) == 1 {
		filter = doc.Resolve(a[0])
	}
	if filter != pdf.Object(pdf.Name("DCTDecode")) || s.Dict.Has("Decode") || s.Dict.Has("SMask") || s.Dict.Has("Mask") {
		return nil, false
	}
	raw, err := s.Raw()
	if err != nil {
		return nil, false
	}
	c, err := jpeg.DecodeConfig(bytes.NewReader(raw))
	if err != nil || c.ColorModel == color.CMYKModel {
		return nil, false
	}
	return raw, true
}

// Pixelled decodes an image XObject, with its soft mask as how opaque it is. It is an ErrUncut where it is stored in a way that isn't read here.
func Pixelled(doc *pdf.Document, ref pdf.Ref) (image.Image, error) {
	s := doc.Stream(ref)
	if s == nil {
		return nil, fmt.Errorf("%w: there is none", ErrUncut)
	}
	d := s.Dict.Clone()
	mask, _ := d.Get("SMask").(pdf.Ref)
	d.Delete("SMask")
	d.Delete("Mask")
	raw, err := s.Raw()
	if err != nil {
		return nil, err
	}
	fork := doc.Fork()
	p, err := ReadPlanar(fork, fork.Add(pdf.NewStream(d, raw)))
	if err != nil {
		g, grayErr := Gray(doc, ref) // a stencil, or colours that aren't worked on
		if grayErr != nil {
			return nil, err
		}
		return g, nil
	}
	var opaque *image.Gray
	if !mask.IsZero() {
		opaque, _ = Gray(doc, mask)
	}
	if opaque == nil && len(p.Planes) == 1 {
		return p.Planes[0], nil
	}
	w, h := p.W(), p.H()
	out := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			c := color.NRGBA{A: 255}
			at := func(k int) uint8 { return p.Planes[min(k, len(p.Planes)-1)].GrayAt(x, y).Y }
			c.R, c.G, c.B = at(0), at(1), at(2)
			if opaque != nil {
				c.A = opaque.GrayAt(x*opaque.Rect.Dx()/w, y*opaque.Rect.Dy()/h).Y
			}
			out.SetNRGBA(x, y, c)
		}
	}
	return out, nil
}
