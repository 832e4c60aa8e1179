package picture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"math/bits"

	"github.com/hhrutter/tiff"

	"glenrain/core/pdf"
)

// isTIFF tells by the header (TIFF 6.0, section 2).
func isTIFF(head []byte) bool {
	return bytes.HasPrefix(head, []byte("II*\x00")) || bytes.HasPrefix(head, []byte("MM\x00*"))
}

// maxFrames is the most pages of one TIFF file; maxAllPixels, the most pixels of all of them.
const (
	maxFrames    = 5000
	maxAllPixels = 6_000_000_000
)

// frame is one image file directory, as far as it is looked at.
type frame struct {
	at                               int64
	width, height                    int
	bits, compression, photometric   int
	fill, orientation, samples, unit int
	x, y                             float64
	icc                              []byte
	strips, counts                   []int
	rowsPerStrip                     int
	t4                               int
	thumbnail                        bool
}

// frames lists the directories of a file, each once.
func frames(data []byte) ([]frame, error) {
	var order binary.ByteOrder = binary.LittleEndian
	if data[0] == 'M' {
		order = binary.BigEndian
	}
	if len(data) < 8 {
		return nil, ErrFormat
	}
	var out []frame
	seen := map[uint32]bool{}
	total := 0
	for at := order.Uint32(data[4:]); at != 0 && !seen[at]; {
		seen[at] = true
		f, next, err := readFrame(data, order, at)
		if err != nil {
			if len(out) > 0 { // those before are there
				break
			}
			return nil, err
		}
		if !f.thumbnail {
			out = append(out, *f)
			total += f.width * f.height
		}
		if len(out) > maxFrames || total > maxAllPixels {
			return nil, fmt.Errorf("it has too many pages or pixels to open: %w", pdf.ErrLimit)
		}
		at = next
	}
	if len(out) == 0 {
		return nil, ErrFormat
	}
	return out, nil
}

// sizes of the types of values (TIFF 6.0, section 2).
var tiffSizes = map[uint16]int{1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8}

func readFrame(data []byte, order binary.ByteOrder, at uint32) (*frame, uint32, error) {
	if int64(at)+2 > int64(len(data)) {
		return nil, 0, ErrFormat
	}
	n := int(order.Uint16(data[at:]))
	end := int(at) + 2 + 12*n
	if end+4 > len(data) {
		return nil, 0, ErrFormat
	}
	f := &frame{at: int64(at), bits: 1, compression: 1, fill: 1, orientation: 1, samples: 1, unit: 2}
	for i := range n {
		e := data[int(at)+2+12*i:]
		tag, typ, count := order.Uint16(e), order.Uint16(e[2:]), int(order.Uint32(e[4:]))
		size := tiffSizes[typ] * count
		if size <= 0 || count > 1<<24 {
			continue
		}
		v := e[8:12]
		if size > 4 {
			off := int(order.Uint32(e[8:]))
			if off+size > len(data) || off < 0 {
				continue
			}
			v = data[off : off+size]
		}
		num := func(i int) int {
			switch {
			case i >= count:
				return 0
			case typ == 1:
				return int(v[i])
			case typ == 3:
				return int(order.Uint16(v[2*i:]))
			case typ == 4:
				return int(order.Uint32(v[4*i:]))
			}
			return 0
		}
		list := func() []int {
			out := make([]int, count)
			for i := range out {
				out[i] = num(i)
			}
			return out
		}
		rational := func() float64 {
			if typ != 5 || order.Uint32(v[4:]) == 0 {
				return 0
			}
			return float64(order.Uint32(v)) / float64(order.Uint32(v[4:]))
		}
		switch tag {
		case 254:
			f.thumbnail = num(0)&1 == 1
		case 256:
			f.width = num(0)
		case 257:
			f.height = num(0)
		case 258:
			f.bits = num(0)
		case 259:
			f.compression = num(0)
		case 262:
			f.photometric = num(0)
		case 266:
			f.fill = num(0)
		case 273:
			f.strips = list()
		case 274:
			f.orientation = num(0)
		case 277:
			f.samples = num(0)
		case 278:
			f.rowsPerStrip = num(0)
		case 279:
			f.counts = list()
		case 282:
			f.x = rational()
		case 283:
			f.y = rational()
		case 292:
			f.t4 = num(0)
		case 296:
			f.unit = num(0)
		case 34675:
			f.icc = v
		}
	}
	if f.width <= 0 || f.height <= 0 || f.width > 1<<20 || f.height > 1<<20 {
		return nil, 0, ErrFormat
	}
	return f, order.Uint32(data[end:]), nil
}

// readTIFF reads the pages of a file.
func readTIFF(data []byte) ([]*Picture, error) {
	list, err := frames(data)
	if err != nil {
		return nil, err
	}
	out := make([]*Picture, len(list))
	for i := range list {
		f := &list[i]
		p := &Picture{Kind: "TIFF", Width: f.width, Height: f.height, Orientation: f.orientation, DPIX: f.x, DPIY: f.y, Stated: f.x > 0 && f.unit != 1}
		if f.unit == 3 { // centimetres
			p.DPIX, p.DPIY = f.x*2.54, f.y*2.54
		} else if f.unit == 1 {
			p.DPIX, p.DPIY = 0, 0
		}
		p.make = func(doc *pdf.Document) (pdf.Ref, error) { return f.xobject(doc, data) }
		p.settleResolution()
		out[i] = p
	}
	return out, nil
}

func (f *frame) xobject(doc *pdf.Document, data []byte) (pdf.Ref, error) {
	if fax, ok := f.fax(data); ok {
		return doc.Add(fax), nil
	}
	if f.width > maxWhole/f.height {
		return pdf.Ref{}, errWhole
	}
	img, err := f.decode(data)
	if err != nil {
		return pdf.Ref{}, err
	}
	return pack(doc, img, f.icc)
}

// fax takes the data of a black and white page over as they are, where they are one strip of Group 4 (ITU-T T.6), which PDF knows
// (ISO 32000-2, 7.4.6).
func (f *frame) fax(data []byte) (*pdf.Stream, bool) {
	if f.compression != 4 || f.bits != 1 || f.samples != 1 || len(f.strips) != 1 || len(f.counts) != 1 || f.photometric > 1 {
		return nil, false
	}
	from, n := f.strips[0], f.counts[0]
	if from < 0 || n <= 0 || from+n > len(data) {
		return nil, false
	}
	body := data[from : from+n]
	if f.fill == 2 {
		body = bytes.Clone(body)
		for i, b := range body {
			body[i] = bits.Reverse8(b)
		}
	}
	d := imageDict(f.width, f.height, 1, pdf.Name("DeviceGray"))
	d.Set("Filter", pdf.Name("CCITTFaxDecode"))
	d.Set("DecodeParms", pdf.NewDict("K", pdf.Integer(-1), "Columns", pdf.Integer(f.width), "Rows", pdf.Integer(f.height), "BlackIs1", pdf.Boolean(f.photometric == 1)))
	return pdf.NewStream(d, body), true
}

func (f *frame) decode(data []byte) (img image.Image, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", ErrFormat, p)
		}
	}()
	img, err = tiff.DecodeAt(bytes.NewReader(data), f.at)
	var cant tiff.UnsupportedError
	if errors.As(err, &cant) {
		return nil, fmt.Errorf("its kind of TIFF (%s) is not read here", string(cant))
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	return img, nil
}
