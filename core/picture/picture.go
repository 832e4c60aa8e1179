// Package picture brings image files into a PDF: it reads their size, resolution
// and orientation and makes image XObjects of them, leaving their bytes encoded as
// they are wherever PDF knows the encoding. It takes JPEG, PNG, TIFF (of many pages), BMP, GIF, WebP and HEIC files.
package picture

import (
	"bytes"
	"errors"
	"fmt"
	"math"

	"glenrain/core/pdf"
)

// ErrFormat: the bytes are no picture that is read here.
var ErrFormat = errors.New("not a picture that can be read")

// Picture is an image file, read as far as its header.
type Picture struct {
	Kind          string // "JPEG", "PNG", "TIFF", "BMP", "GIF", "WebP" or "HEIC"
	Width, Height int    // pixels, as stored
	Frames        int    // of an animation, of which the first is taken: 2 where there are more
	DPIX, DPIY    float64
	Stated        bool // the resolution is the file's own, not assumed
	// Orientation is the EXIF orientation, 1 to 8: how the stored rows are to be
	// turned to stand upright (EXIF 2.32, 4.6.4).
	Orientation int

	make func(*pdf.Document) (pdf.Ref, error)
}

// DefaultDPI is the resolution of a picture that states none, or an absurd one.
const DefaultDPI = 96

// MaxPoints is the longest side of a page (ISO 32000-1, annex C.2; still what
// readers keep to).
const MaxPoints = 14400

// DecodeAll reads the headers of a file's pictures: of a TIFF's pages, or of the one that others hold. data is kept and must not change.
func DecodeAll(data []byte) ([]*Picture, error) {
	if isTIFF(data) {
		return readTIFF(data)
	}
	p, err := Decode(data)
	if err != nil {
		return nil, err
	}
	return []*Picture{p}, nil
}

// Decode reads a picture's header, the first page's of a TIFF. data is kept and must not change.
func Decode(data []byte) (*Picture, error) {
	var p *Picture
	var err error
	k := wholeKind(data)
	switch {
	case isTIFF(data):
		all, err := readTIFF(data)
		if err != nil {
			return nil, err
		}
		return all[0], nil
	case k != nil:
		p, err = readWhole(data, k)
	case bytes.HasPrefix(data, []byte{0xff, 0xd8, 0xff}):
		p, err = readJPEG(data)
	case bytes.HasPrefix(data, pngMark):
		p, err = readPNG(data)
	default:
		return nil, ErrFormat
	}
	if err != nil {
		return nil, err
	}
	if p.Width < 1 || p.Height < 1 {
		return nil, ErrFormat
	}
	p.settleResolution()
	return p, nil
}

// Is reports whether data begins like a picture that Decode reads.
func Is(head []byte) bool {
	return bytes.HasPrefix(head, []byte{0xff, 0xd8, 0xff}) || bytes.HasPrefix(head, pngMark) || isTIFF(head) || wholeKind(head) != nil
}

// HeadSize is how many bytes of a file Is looks at.
const HeadSize = 32

// settleResolution replaces what no camera or scanner means: below 20 or above
// 4,800 dpi, or sides that differ more than four times.
func (p *Picture) settleResolution() {
	sane := func(v float64) bool { return v >= 20 && v <= 4800 }
	if !sane(p.DPIX) || !sane(p.DPIY) || math.Max(p.DPIX, p.DPIY) > 4*math.Min(p.DPIX, p.DPIY) {
		p.DPIX, p.DPIY, p.Stated = DefaultDPI, DefaultDPI, false
	}
	if p.Orientation < 1 || p.Orientation > 8 {
		p.Orientation = 1
	}
}

// Points is the size of the upright picture in points: its pixels at its
// resolution, brought down in proportion where a side would be over MaxPoints.
func (p *Picture) Points() (w, h float64) {
	w, h = float64(p.Width)*72/p.DPIX, float64(p.Height)*72/p.DPIY
	if p.Orientation >= 5 {
		w, h = h, w
	}
	if m := math.Max(w, h); m > MaxPoints {
		w, h = w*MaxPoints/m, h*MaxPoints/m
	}
	return
}

// XObject adds the picture to a document as an image XObject (8.9.5).
func (p *Picture) XObject(doc *pdf.Document) (ref pdf.Ref, err error) {
	defer func() { // decoders of libraries stop by a fault at some damaged files
		if f := recover(); f != nil {
			if over := doc.Over(); over != nil {
				err = over
				return
			}
			err = fmt.Errorf("%w: it is damaged", ErrFormat)
		}
	}()
	return p.make(doc)
}

// Matrix places the unit square of the image XObject upright into w by h points
// from the origin on, turned as its orientation says.
func (p *Picture) Matrix(w, h float64) pdf.Matrix {
	switch p.Orientation {
	case 2: // mirrored left to right
		return [6]float64{-w, 0, 0, h, w, 0}
	case 3: // turned by 180 degrees
		return [6]float64{-w, 0, 0, -h, w, h}
	case 4: // mirrored top to bottom
		return [6]float64{w, 0, 0, -h, 0, h}
	case 5: // the first row is the left side, read downwards
		return [6]float64{0, -h, -w, 0, w, h}
	case 6: // the first row is the right side
		return [6]float64{0, -h, w, 0, 0, h}
	case 7:
		return [6]float64{0, h, w, 0, 0, 0}
	case 8: // the first row is the left side, read upwards
		return [6]float64{0, h, -w, 0, w, 0}
	}
	return [6]float64{w, 0, 0, h, 0, 0}
}
