package picture

import (
	"bytes"
	"encoding/binary"

	"glenrain/core/pdf"
)

// jpegHeader is what the segments before the first scan say (ITU-T T.81, annex B).
type jpegHeader struct {
	width, height, components, bits int
	adobe                           bool // an Adobe APP14 segment: four components are stored inverted
	dpiX, dpiY                      float64
	exifX, exifY                    float64
	orientation                     int
	icc                             map[int][]byte
}

func readJPEG(data []byte) (*Picture, error) {
	h, err := scanJPEG(data)
	if err != nil {
		return nil, err
	}
	p := &Picture{Kind: "JPEG", Width: h.width, Height: h.height, DPIX: h.dpiX, DPIY: h.dpiY, Orientation: h.orientation}
	if p.DPIX == 0 {
		p.DPIX, p.DPIY = h.exifX, h.exifY
	}
	p.Stated = p.DPIX > 0
	p.make = func(doc *pdf.Document) (pdf.Ref, error) {
		space := map[int]pdf.Name{1: "DeviceGray", 3: "DeviceRGB", 4: "DeviceCMYK"}[h.components]
		d := imageDict(h.width, h.height, h.bits, space)
		if profile := h.profile(); profile != nil {
			d.Set("ColorSpace", pdf.Array{pdf.Name("ICCBased"), doc.Add(pdf.NewFlateStream(
				pdf.NewDict("N", pdf.Integer(h.components), "Alternate", space), profile))})
		}
		if h.components == 4 && h.adobe {
			d.Set("Decode", pdf.Array{pdf.Integer(1), pdf.Integer(0), pdf.Integer(1), pdf.Integer(0),
				pdf.Integer(1), pdf.Integer(0), pdf.Integer(1), pdf.Integer(0)})
		}
		d.Set("Filter", pdf.Name("DCTDecode"))
		return doc.Add(pdf.NewStream(d, data)), nil
	}
	return p, nil
}

func imageDict(w, h, bits int, space pdf.Object) *pdf.Dict {
	return pdf.NewDict("Type", pdf.Name("XObject"), "Subtype", pdf.Name("Image"), "Width", pdf.Integer(w),
		"Height", pdf.Integer(h), "ColorSpace", space, "BitsPerComponent", pdf.Integer(bits))
}

func scanJPEG(data []byte) (*jpegHeader, error) {
	h := &jpegHeader{orientation: 1, icc: map[int][]byte{}}
	for at := 2; at+4 <= len(data); {
		if data[at] != 0xff {
			at++ // stuffing between segments
			continue
		}
		m := data[at+1]
		if m == 0xff || m == 0x01 || m >= 0xd0 && m <= 0xd8 {
			at++
			if m != 0xff {
				at++
			}
			continue
		}
		n := int(binary.BigEndian.Uint16(data[at+2:]))
		if n < 2 || at+2+n > len(data) {
			break
		}
		seg := data[at+4 : at+2+n]
		at += 2 + n
		switch {
		case m == 0xda || m == 0xd9:
			at = len(data)
		case m >= 0xc0 && m <= 0xcf && m != 0xc4 && m != 0xc8 && m != 0xcc:
			if len(seg) < 6 {
				return nil, ErrFormat
			}
			if m != 0xc0 && m != 0xc1 && m != 0xc2 {
				return nil, ErrFormat // lossless and arithmetic coding: DCTDecode does not know them
			}
			h.bits, h.components = int(seg[0]), int(seg[5])
			h.height, h.width = int(binary.BigEndian.Uint16(seg[1:])), int(binary.BigEndian.Uint16(seg[3:]))
		case m == 0xe0 && bytes.HasPrefix(seg, []byte("JFIF\x00")) && len(seg) >= 12:
			x, y := float64(binary.BigEndian.Uint16(seg[8:])), float64(binary.BigEndian.Uint16(seg[10:]))
			switch seg[7] {
			case 1:
				h.dpiX, h.dpiY = x, y
			case 2:
				h.dpiX, h.dpiY = x*2.54, y*2.54
			}
		case m == 0xe1 && bytes.HasPrefix(seg, []byte("Exif\x00\x00")):
			h.readEXIF(seg[6:])
		case m == 0xe2 && bytes.HasPrefix(seg, []byte("ICC_PROFILE\x00")) && len(seg) > 14:
			h.icc[int(seg[12])] = seg[14:]
		case m == 0xee && bytes.HasPrefix(seg, []byte("Adobe")):
			h.adobe = true
		}
	}
	if h.width == 0 || h.components != 1 && h.components != 3 && h.components != 4 || h.bits != 8 {
		return nil, ErrFormat
	}
	return h, nil
}

// profile joins the parts of an ICC profile; nil where there is none or it is for
// other components than the picture has.
func (h *jpegHeader) profile() []byte {
	var all []byte
	for i := 1; i <= len(h.icc); i++ {
		all = append(all, h.icc[i]...)
	}
	if len(all) < 128 {
		return nil
	}
	want := map[int]string{1: "GRAY", 3: "RGB ", 4: "CMYK"}[h.components]
	if string(all[16:20]) != want {
		return nil
	}
	return all
}

// readEXIF reads orientation and resolution from the first directory (EXIF 2.32, 4.6).
func (h *jpegHeader) readEXIF(b []byte) {
	if len(b) < 8 {
		return
	}
	var order binary.ByteOrder = binary.BigEndian
	if b[0] == 'I' {
		order = binary.LittleEndian
	}
	at := int(order.Uint32(b[4:]))
	if at < 0 || at+2 > len(b) {
		return
	}
	unit := 2.0 // inches
	var x, y float64
	rational := func(off int) float64 {
		if off < 0 || off+8 > len(b) || order.Uint32(b[off+4:]) == 0 {
			return 0
		}
		return float64(order.Uint32(b[off:])) / float64(order.Uint32(b[off+4:]))
	}
	for i := range int(order.Uint16(b[at:])) {
		e := at + 2 + 12*i
		if e+12 > len(b) {
			return
		}
		switch order.Uint16(b[e:]) {
		case 0x0112:
			h.orientation = int(order.Uint16(b[e+8:]))
		case 0x011a:
			x = rational(int(order.Uint32(b[e+8:])))
		case 0x011b:
			y = rational(int(order.Uint32(b[e+8:])))
		case 0x0128:
			unit = float64(order.Uint16(b[e+8:]))
		}
	}
	if unit == 3 {
		x, y = x*2.54, y*2.54
	}
	h.exifX, h.exifY = x, y
}
