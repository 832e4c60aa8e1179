package picture

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"

	"glenrain/core/pdf"
)

// Gray gives the pixels of an image XObject (8.9.5) as how light they are, 0 black to 255 white, at the picture's own size: what its decode array and
// palette make of its samples. An image mask is black where it paints. It is an ErrUncut where the picture is stored in a way that isn't read here; masks on it are
// not looked at.
func Gray(doc *pdf.Document, ref pdf.Ref) (*image.Gray, error) {
	s := doc.Stream(ref)
	if s == nil {
		return nil, fmt.Errorf("%w: there is none", ErrUncut)
	}
	if g, err := grayJPEG(doc, s); g != nil || err != nil {
		return g, err
	}
	raw, err := readSamples(doc, s)
	if err != nil {
		return nil, err
	}
	depth := raw.depth
	if depth == 0 {
		n, _ := pdf.Number(doc.Resolve(s.Dict.Get("BitsPerComponent")))
		depth = int(n)
	}
	mask, _ := doc.Resolve(s.Dict.Get("ImageMask")).(pdf.Boolean)
	if mask {
		depth = 1
	}
	n := raw.bits / max(1, depth)
	if n != 1 && n != 3 && n != 4 {
		return nil, fmt.Errorf("%w: it has %d colours", ErrUncut, n)
	}
	levels, err := lights(doc, s.Dict, n, depth, bool(mask))
	if err != nil {
		return nil, err
	}
	out := image.NewGray(image.Rect(0, 0, raw.w, raw.h))
	stride := raw.stride()
	if len(raw.data) < stride*raw.h {
		raw.data = append(raw.data, make([]byte, stride*raw.h-len(raw.data))...)
	}
	switch {
	case n == 1 && depth == 8:
		for y := range raw.h {
			row, to := raw.data[y*stride:], out.Pix[y*out.Stride:]
			for x := range raw.w {
				to[x] = levels.one[row[x]]
			}
		}
	case n == 1 && depth < 8:
		mask := byte(1<<depth - 1)
		for y := range raw.h {
			row, to := raw.data[y*stride:], out.Pix[y*out.Stride:]
			for x := range raw.w {
				bit := x * depth
				to[x] = levels.one[row[bit/8]>>(8-depth-bit%8)&mask]
			}
		}
	case n == 3 && depth == 8 && len(levels.dec) == 0:
		for y := range raw.h {
			row, to := raw.data[y*stride:][:3*raw.w], out.Pix[y*out.Stride:][:raw.w]
			for x := range to {
				to[x] = luma(row[3*x], row[3*x+1], row[3*x+2])
			}
		}
	case depth == 8 || depth == 16:
		step := depth / 8
		for y := range raw.h {
			row, to := raw.data[y*stride:], out.Pix[y*out.Stride:]
			for x := range raw.w {
				p := row[x*n*step:]
				switch n {
				case 1:
					to[x] = levels.one[p[0]]
				case 3:
					to[x] = luma(levels.part(0, p[0]), levels.part(1, p[step]), levels.part(2, p[2*step]))
				case 4: // what ink leaves of the light
					k := 255 - int(levels.part(3, p[3*step]))
					to[x] = luma(uint8((255-int(levels.part(0, p[0])))*k/255), uint8((255-int(levels.part(1, p[step])))*k/255), uint8((255-int(levels.part(2, p[2*step])))*k/255))
				}
			}
		}
	default:
		return nil, fmt.Errorf("%w: it has %d bits a colour", ErrUncut, depth)
	}
	return out, nil
}

func luma(r, g, b uint8) uint8 {
	return uint8((19595*uint32(r) + 38470*uint32(g) + 7471*uint32(b) + 1<<15) >> 16)
}

// grayJPEG takes the light of a JPEG as it is stored: it need not be made of colours first. It gives nothing where the picture is something else.
func grayJPEG(doc *pdf.Document, s *pdf.Stream) (*image.Gray, error) {
	n := components(doc, s.Dict.Get("ColorSpace"), 0)
	if n != 1 && n != 3 || s.Dict.Has("Decode") {
		return nil, nil
	}
	if a := doc.Array(s.Dict.Get("ColorSpace")); len(a) > 0 && (doc.Name(a[0]) == "Indexed" || doc.Name(a[0]) == "I") {
		return nil, nil
	}
	filter := doc.Name(s.Dict.Get("Filter"))
	if list := doc.Array(s.Dict.Get("Filter")); len(list) > 0 {
		filter = doc.Name(list[len(list)-1])
	}
	if filter != "DCTDecode" && filter != "DCT" {
		return nil, nil
	}
	data, rest, err := doc.DecodeMost(s, mostCut)
	if err != nil || len(rest) != 1 || rest[0] != "DCTDecode" && rest[0] != "DCT" {
		return nil, nil // it is read, or refused, as samples
	}
	cfg, err := jpeg.DecodeConfig(bytes.NewReader(data))
	if err != nil || cfg.Width < 1 || cfg.Height < 1 || cfg.Width*cfg.Height > mostCut {
		return nil, fmt.Errorf("%w: it is a JPEG that can't be read", ErrUncut)
	}
	img, err := jpeg.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%w: it is a JPEG that can't be read", ErrUncut)
	}
	switch v := img.(type) {
	case *image.Gray:
		return v, nil
	case *image.YCbCr:
		out := image.NewGray(image.Rect(0, 0, cfg.Width, cfg.Height))
		for y := range cfg.Height {
			copy(out.Pix[y*out.Stride:][:cfg.Width], v.Y[v.YOffset(v.Rect.Min.X, v.Rect.Min.Y+y):])
		}
		return out, nil
	}
	return nil, nil
}

// light is how samples become light: of one component a table, of several a line for each.
type light struct {
	one [256]uint8
	dec []float64 // decode array in 0 to 255; empty where samples are the values
}

func (l *light) part(i int, v uint8) uint8 {
	if len(l.dec) < 2*i+2 {
		return v
	}
	return clamp8(l.dec[2*i] + float64(v)/255*(l.dec[2*i+1]-l.dec[2*i]))
}

func clamp8(v float64) uint8 { return uint8(max(0, min(255, v+0.5))) }

// palette gives the colours of an Indexed space (8.6.6.3), and how many components each has.
func palette(doc *pdf.Document, space pdf.Array) (base int, table []byte, err error) {
	if len(space) < 4 {
		return 0, nil, fmt.Errorf("%w: its palette is wrong", ErrUncut)
	}
	switch v := doc.Resolve(space[3]).(type) {
	case pdf.String:
		table = []byte(v)
	case *pdf.Stream:
		data, rest, err := doc.DecodeMost(v, 1<<16)
		if err != nil || len(rest) > 0 {
			return 0, nil, fmt.Errorf("%w: its palette can't be read", ErrUncut)
		}
		table = data
	}
	return components(doc, space[1], 0), table, nil
}

// lights makes the table of a picture of n components of depth bits.
func lights(doc *pdf.Document, d *pdf.Dict, n, depth int, mask bool) (*light, error) {
	l := &light{}
	var dec []float64
	for _, o := range doc.Array(d.Get("Decode")) {
		v, _ := pdf.Number(doc.Resolve(o))
		dec = append(dec, v)
	}
	most := 255.0
	if depth < 8 {
		most = float64(int(1)<<depth - 1)
	}
	space := doc.Array(d.Get("ColorSpace"))
	name := pdf.Name("")
	if len(space) > 0 {
		name = doc.Name(space[0])
	}
	switch {
	case mask: // 0 paints, unless it is decoded the other way round (8.9.6.2)
		l.one[0], l.one[1] = 0, 255
		if len(dec) == 2 && dec[0] == 1 {
			l.one[0], l.one[1] = 255, 0
		}
	case n == 1 && (name == "Indexed" || name == "I"):
		base, table, err := palette(doc, space)
		if err != nil {
			return nil, err
		}
		for i := range 256 {
			at := i
			if len(dec) == 2 {
				at = int(dec[0] + float64(i)/most*(dec[1]-dec[0]) + 0.5)
			}
			if at < 0 || (at+1)*base > len(table) {
				continue
			}
			switch p := table[at*base:]; base {
			case 1:
				l.one[i] = p[0]
			case 3:
				l.one[i] = luma(p[0], p[1], p[2])
			case 4:
				k := 255 - int(p[3])
				l.one[i] = luma(uint8((255-int(p[0]))*k/255), uint8((255-int(p[1]))*k/255), uint8((255-int(p[2]))*k/255))
			default:
				return nil, fmt.Errorf("%w: its palette is of colours that are not known", ErrUncut)
			}
		}
	case n == 1:
		ink := name == "Separation" || name == "DeviceN"
		for i := range 256 {
			v := min(1, float64(i)/most)
			if len(dec) == 2 {
				v = dec[0] + v*(dec[1]-dec[0])
			}
			if ink {
				v = 1 - v
			}
			l.one[i] = clamp8(v * 255)
		}
	case len(dec) >= 2*n && name != "Lab":
		for _, v := range dec {
			l.dec = append(l.dec, v*255)
		}
	}
	return l, nil
}
