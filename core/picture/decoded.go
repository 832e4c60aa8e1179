package picture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/gif"
	"io"

	"github.com/gen2brain/heic"
	"github.com/klauspost/compress/zlib"
	"golang.org/x/image/bmp"
	"golang.org/x/image/webp"

	"glenrain/core/pdf"
)

// maxWhole is the most pixels of a picture that is decoded at once.
const maxWhole = 64_000_000

// errWhole: it has too many.
var errWhole = fmt.Errorf("it has more than the %d million pixels that a picture of this kind may have here: %w", maxWhole/1_000_000, pdf.ErrLimit)

// kind is one that a library decodes whole.
type kind struct {
	name   string
	config func(io.Reader) (image.Config, error)
	decode func(io.Reader) (image.Image, error)
}

func wholeKind(data []byte) *kind {
	switch {
	case bytes.HasPrefix(data, []byte("GIF8")):
		return &kind{"GIF", gif.DecodeConfig, gif.Decode}
	case bytes.HasPrefix(data, []byte("BM")) && len(data) > 26 && binary.LittleEndian.Uint32(data[14:]) <= 200:
		return &kind{"BMP", bmp.DecodeConfig, bmp.Decode}
	case len(data) > 12 && string(data[:4]) == "RIFF" && string(data[8:12]) == "WEBP":
		return &kind{"WebP", webp.DecodeConfig, webp.Decode}
	case isHEIC(data):
		return &kind{"HEIC", heicConfig(data), heic.Decode}
	}
	return nil
}

// isHEIC tells by the brands of the file (ISO/IEC 23008-12, 10).
func isHEIC(data []byte) bool {
	if len(data) < 12 || string(data[4:8]) != "ftyp" {
		return false
	}
	switch string(data[8:12]) {
	case "heic", "heix", "hevc", "heim", "heis", "mif1":
		return true
	}
	return false
}

// heicConfig finds the size of the largest picture of the file, before anything of it is decoded: the property "ispe" (ISO/IEC 23008-12, 6.5.3).
func heicConfig(data []byte) func(io.Reader) (image.Config, error) {
	return func(io.Reader) (cfg image.Config, err error) {
		for at := 0; ; {
			i := bytes.Index(data[at:min(len(data), 4<<20)], []byte("ispe"))
			if i < 0 {
				break
			}
			at += i + 4
			if at+12 > len(data) {
				break
			}
			w, h := binary.BigEndian.Uint32(data[at+4:]), binary.BigEndian.Uint32(data[at+8:])
			if w < 1<<20 && h < 1<<20 && int(w)*int(h) > cfg.Width*cfg.Height {
				cfg.Width, cfg.Height = int(w), int(h)
			}
		}
		if cfg.Width == 0 {
			return cfg, ErrFormat
		}
		return cfg, nil
	}
}

// heicProfile gives the ICC profile of a file, in the property "colr" (ISO/IEC 14496-12, 12.1.5).
func heicProfile(data []byte) []byte {
	head := data[:min(len(data), 4<<20)]
	i := bytes.Index(head, []byte("colrprof"))
	if i < 4 {
		return nil
	}
	n := int(binary.BigEndian.Uint32(data[i-4:]))
	if n < 12+128 || i-4+n > len(data) {
		return nil
	}
	return data[i+8 : i-4+n]
}

// webpProfile gives that of a WebP file: its chunk ICCP.
func webpProfile(data []byte) []byte {
	for at := 12; at+8 <= len(data); {
		n := int(binary.LittleEndian.Uint32(data[at+4:]))
		if n < 0 || at+8+n > len(data) {
			break
		}
		if string(data[at:at+4]) == "ICCP" {
			return data[at+8 : at+8+n]
		}
		at += 8 + n + n&1
	}
	return nil
}

// readWhole reads the header of a picture that a library decodes whole.
func readWhole(data []byte, k *kind) (*Picture, error) {
	cfg, err := k.config(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	if cfg.Width < 1 || cfg.Height < 1 || cfg.Width > maxWhole/cfg.Height {
		return nil, errWhole
	}
	p := &Picture{Kind: k.name, Width: cfg.Width, Height: cfg.Height, Orientation: 1}
	switch k.name {
	case "BMP":
		if len(data) > 46 {
			p.DPIX, p.DPIY = float64(binary.LittleEndian.Uint32(data[38:]))*0.0254, float64(binary.LittleEndian.Uint32(data[42:]))*0.0254
			p.Stated = p.DPIX > 0
		}
	case "HEIC": // its own turns are applied when it is decoded, so the size may come out the other way round
		img, err := decodeWhole(data, k)
		if err != nil {
			return nil, err
		}
		p.Width, p.Height = img.Bounds().Dx(), img.Bounds().Dy()
		p.make = func(doc *pdf.Document) (pdf.Ref, error) { return pack(doc, img, heicProfile(data)) }
		return p, nil
	case "GIF":
		p.Frames = gifFrames(data)
	}
	p.make = func(doc *pdf.Document) (pdf.Ref, error) {
		img, err := decodeWhole(data, k)
		if err != nil {
			return pdf.Ref{}, err
		}
		var profile []byte
		if k.name == "WebP" {
			profile = webpProfile(data)
		}
		return pack(doc, img, profile)
	}
	return p, nil
}

// gifFrames counts the pictures of an animation, two at most: that there are more than one.
func gifFrames(data []byte) int {
	n := 0
	for _, block := range [][]byte{{0x21, 0xf9, 0x04}} {
		n = bytes.Count(data, block)
	}
	return min(n, 2)
}

func decodeWhole(data []byte, k *kind) (img image.Image, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%w: %v", ErrFormat, p)
		}
	}()
	if img, err = k.decode(bytes.NewReader(data)); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	return img, nil
}

// profiled gives the colour space of a picture: by its profile, where it is one for as many components.
func profiled(doc *pdf.Document, profile []byte, n int, space pdf.Object) pdf.Object {
	if len(profile) < 128 || string(profile[16:20]) != map[int]string{1: "GRAY", 3: "RGB ", 4: "CMYK"}[n] {
		return space
	}
	return pdf.Array{pdf.Name("ICCBased"), doc.Add(pdf.NewFlateStream(pdf.NewDict("N", pdf.Integer(n), "Alternate", space), profile))}
}

// pack adds a decoded picture as an image XObject that keeps what it has: grey, CMYK, 16 bits, transparency.
func pack(doc *pdf.Document, img image.Image, profile []byte) (pdf.Ref, error) {
	b := img.Bounds()
	w, h := b.Dx(), b.Dy()
	switch m := img.(type) {
	case *image.Gray:
		return packRows(doc, w, h, 1, 8, profile, func(y int, row []byte) { copy(row, m.Pix[y*m.Stride:]) }, twoTones(m))
	case *image.Gray16:
		return packRows(doc, w, h, 1, 16, profile, func(y int, row []byte) { copy(row, m.Pix[y*m.Stride:]) }, nil)
	case *image.CMYK:
		return packRows(doc, w, h, 4, 8, profile, func(y int, row []byte) { copy(row, m.Pix[y*m.Stride:]) }, nil)
	case *image.YCbCr:
		return packRows(doc, w, h, 3, 8, profile, func(y int, row []byte) {
			for x := range w {
				c := m.YCbCrAt(b.Min.X+x, b.Min.Y+y)
				row[3*x], row[3*x+1], row[3*x+2] = color8(c.Y, c.Cb, c.Cr)
			}
		}, nil)
	}
	deep := false
	switch img.(type) {
	case *image.NRGBA64, *image.RGBA64:
		deep = true
	}
	parts := newRows(w, deep)
	if deep {
		row := make([]color.NRGBA64, w)
		for y := range h {
			if err := doc.Over(); err != nil {
				return pdf.Ref{}, err
			}
			for x := range w {
				row[x] = color.NRGBA64Model.Convert(img.At(b.Min.X+x, b.Min.Y+y)).(color.NRGBA64)
			}
			if err := parts.putDeep(row); err != nil {
				return pdf.Ref{}, err
			}
		}
		return parts.add(doc, w, h, profile), nil
	}
	row := make([]color.NRGBA, w)
	n, nrgba := img.(*image.NRGBA)
	for y := range h {
		if err := doc.Over(); err != nil {
			return pdf.Ref{}, err
		}
		for x := range w {
			if nrgba {
				row[x] = n.NRGBAAt(b.Min.X+x, b.Min.Y+y)
			} else {
				row[x] = color.NRGBAModel.Convert(img.At(b.Min.X+x, b.Min.Y+y)).(color.NRGBA)
			}
		}
		if err := parts.put(row); err != nil {
			return pdf.Ref{}, err
		}
	}
	return parts.add(doc, w, h, profile), nil
}

func color8(y, cb, cr uint8) (r, g, b uint8) { return color.YCbCrToRGB(y, cb, cr) }

// twoTones gives what makes a row of bits of a grey picture that is black and white alone; nil where it is more.
func twoTones(m *image.Gray) func(row []byte) []byte {
	for _, v := range m.Pix {
		if v != 0 && v != 255 {
			return nil
		}
	}
	return func(row []byte) []byte {
		out := make([]byte, (len(row)+7)/8)
		for i, v := range row {
			if v != 0 {
				out[i/8] |= 0x80 >> (i & 7)
			}
		}
		return out
	}
}

// packRows adds a picture of n components row by row; bits, where given, makes bits of a row.
func packRows(doc *pdf.Document, w, h, n, depth int, profile []byte, fill func(y int, row []byte), bits func([]byte) []byte) (pdf.Ref, error) {
	var out bytes.Buffer
	z := zlib.NewWriter(&out)
	row := make([]byte, w*n*depth/8)
	for y := range h {
		if err := doc.Over(); err != nil {
			return pdf.Ref{}, err
		}
		fill(y, row)
		line := row
		if bits != nil {
			line = bits(row)
		}
		if _, err := z.Write(line); err != nil {
			return pdf.Ref{}, err
		}
	}
	if err := z.Close(); err != nil {
		return pdf.Ref{}, err
	}
	if bits != nil {
		depth = 1
	}
	var space pdf.Object = map[int]pdf.Name{1: "DeviceGray", 3: "DeviceRGB", 4: "DeviceCMYK"}[n]
	d := imageDict(w, h, depth, profiled(doc, profile, n, space))
	d.Set("Filter", pdf.Name("FlateDecode"))
	return doc.Add(pdf.NewStream(d, out.Bytes())), nil
}

// rows packs the rows of a picture, colour and transparency apart, of 8 or 16 bits.
type rows struct {
	rgb, alpha       bytes.Buffer
	toRGB, toAlpha   *zlib.Writer
	oneRGB, oneAlpha []byte
	transparent      bool
	deep             bool
}

func newRows(width int, deep bool) *rows {
	size := 1
	if deep {
		size = 2
	}
	r := &rows{oneRGB: make([]byte, 3*width*size), oneAlpha: make([]byte, width*size), deep: deep}
	r.toRGB, r.toAlpha = zlib.NewWriter(&r.rgb), zlib.NewWriter(&r.alpha)
	return r
}

func (r *rows) put(row []color.NRGBA) error {
	for x, c := range row {
		r.oneRGB[3*x], r.oneRGB[3*x+1], r.oneRGB[3*x+2], r.oneAlpha[x] = c.R, c.G, c.B, c.A
		r.transparent = r.transparent || c.A != 255
	}
	return r.write()
}

func (r *rows) putDeep(row []color.NRGBA64) error {
	for x, c := range row {
		binary.BigEndian.PutUint16(r.oneRGB[6*x:], c.R)
		binary.BigEndian.PutUint16(r.oneRGB[6*x+2:], c.G)
		binary.BigEndian.PutUint16(r.oneRGB[6*x+4:], c.B)
		binary.BigEndian.PutUint16(r.oneAlpha[2*x:], c.A)
		r.transparent = r.transparent || c.A != 65535
	}
	return r.write()
}

func (r *rows) write() error {
	_, err := r.toRGB.Write(r.oneRGB)
	_, aerr := r.toAlpha.Write(r.oneAlpha)
	return errors.Join(err, aerr)
}

// add adds what was packed as an image XObject, whose transparency is its soft mask (11.6.5.2).
func (r *rows) add(doc *pdf.Document, w, h int, profile []byte) pdf.Ref {
	_, _ = r.toRGB.Close(), r.toAlpha.Close() // a bytes.Buffer does not fail
	depth := 8
	if r.deep {
		depth = 16
	}
	d := imageDict(w, h, depth, profiled(doc, profile, 3, pdf.Name("DeviceRGB")))
	if r.transparent {
		mask := imageDict(w, h, depth, pdf.Name("DeviceGray"))
		mask.Set("Filter", pdf.Name("FlateDecode"))
		d.Set("SMask", doc.Add(pdf.NewStream(mask, r.alpha.Bytes())))
	}
	d.Set("Filter", pdf.Name("FlateDecode"))
	return doc.Add(pdf.NewStream(d, r.rgb.Bytes()))
}
