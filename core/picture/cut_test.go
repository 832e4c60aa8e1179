package picture_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/picture"
)

// stored adds an image XObject of given samples.
func stored(doc *pdf.Document, w, h, bits int, space pdf.Object, samples []byte, more ...any) pdf.Ref {
	d := pdf.NewDict("Type", pdf.Name("XObject"), "Subtype", pdf.Name("Image"), "Width", pdf.Integer(w), "Height", pdf.Integer(h),
		"BitsPerComponent", pdf.Integer(bits), "ColorSpace", space)
	for i := 0; i < len(more); i += 2 {
		d.Set(pdf.Name(more[i].(string)), more[i+1].(pdf.Object))
	}
	return doc.Add(pdf.NewStream(d, samples))
}

// left gives the samples of a picture that was cut, and its size.
func left(t *testing.T, doc *pdf.Document, ref pdf.Ref) (string, string) {
	t.Helper()
	s := doc.Stream(ref)
	require.NotNil(t, s)
	data, _, err := doc.Decode(s)
	require.NoError(t, err)
	return fmt.Sprintf("%x", data), fmt.Sprintf("%vx%v", s.Dict.Get("Width"), s.Dict.Get("Height"))
}

// A picture of 4 by 4 pixels stands at 100, 100 with 40 points a side: a pixel has 10 points. Rows are stored from the top.
func TestCutSamples(t *testing.T) {
	whole := pdf.Matrix{40, 0, 0, 40, 100, 100}
	gray, rgb := pdf.Name("DeviceGray"), pdf.Name("DeviceRGB")
	rows := []byte{0x00, 0x01, 0x02, 0x03, 0x10, 0x11, 0x12, 0x13, 0x20, 0x21, 0x22, 0x23, 0x30, 0x31, 0x32, 0x33}
	var colours []byte
	for _, v := range rows {
		colours = append(colours, v, 0xaa, v)
	}
	for _, c := range []struct {
		name    string
		bits    int
		space   pdf.Object
		samples []byte
		at      pdf.Matrix
		frame   pdf.Rect
		want    string
		size    string
		through pdf.Matrix
	}{
		{"the lower left quarter", 8, gray, rows, whole, pdf.Rect{X0: 0, Y0: 0, X1: 120, Y1: 120}, "20213031", "2x2", pdf.Matrix{0.5, 0, 0, 0.5, 0, 0}},
		{"a pixel that the edge crosses stays", 8, gray, rows, whole, pdf.Rect{X0: 115, Y0: 125, X1: 125, Y1: 200}, "01021112", "2x2", pdf.Matrix{0.5, 0, 0, 0.5, 0.25, 0.5}},
		{"the upper row, in colour", 8, rgb, colours, whole, pdf.Rect{X0: 0, Y0: 130, X1: 500, Y1: 500}, "00aa0001aa0102aa0203aa03", "4x1", pdf.Matrix{1, 0, 0, 0.25, 0, 0.75}},
		{"one bit a pixel, from the second on", 1, gray, []byte{0b10110000, 0b01000000, 0b11110000, 0b00010000}, whole, pdf.Rect{X0: 110, Y0: 0, X1: 500, Y1: 500}, "60" + "80" + "e0" + "20", "3x4", pdf.Matrix{0.75, 0, 0, 1, 0.25, 0}},
		{"upside down: the frame's lower edge is the picture's upper", 8, gray, rows, pdf.Matrix{40, 0, 0, -40, 100, 140}, pdf.Rect{X0: 0, Y0: 0, X1: 500, Y1: 110}, "00010203", "4x1", pdf.Matrix{1, 0, 0, 0.25, 0, 0.75}},
		{"turned by a quarter: what is low on the page is left in the picture", 8, gray, rows, pdf.Matrix{0, 40, -40, 0, 140, 100}, pdf.Rect{X0: 0, Y0: 0, X1: 500, Y1: 110}, "00102030", "1x4", pdf.Matrix{0.25, 0, 0, 1, 0, 0}},
	} {
		t.Run(c.name, func(t *testing.T) {
			doc := pdf.New()
			ref, through, err := picture.Cut(doc, stored(doc, 4, 4, c.bits, c.space, c.samples), c.at, c.frame)
			require.NoError(t, err)
			got, size := left(t, doc, ref)
			assert.Equal(t, c.size, size)
			if c.bits == 1 { // bits behind the last pixel of a row say nothing
				const mask = 0xe0 // three pixels
				s := doc.Stream(ref)
				data, _, err := doc.Decode(s)
				require.NoError(t, err)
				for i := range data {
					data[i] &= mask
				}
				got = fmt.Sprintf("%x", data)
			}
			assert.Equal(t, c.want, got)
			for i := range through {
				assert.InDelta(t, c.through[i], through[i], 1e-9, "number %d of the matrix", i)
			}
		})
	}
}

// What belongs to a picture is cut with it, at its own resolution, and what tells of the whole goes.
func TestCutMasks(t *testing.T) {
	doc := pdf.New()
	mask := stored(doc, 2, 2, 8, pdf.Name("DeviceGray"), []byte{0x40, 0x50, 0x60, 0x70}, "Metadata", pdf.Name("whole"))
	ref := stored(doc, 4, 4, 8, pdf.Name("DeviceGray"), make([]byte, 16), "SMask", mask, "Metadata", pdf.Name("whole"), "Alternates", pdf.Array{}, "Interpolate", pdf.Boolean(true))
	cut, _, err := picture.Cut(doc, ref, pdf.Matrix{40, 0, 0, 40, 0, 0}, pdf.Rect{X0: 20, Y0: 0, X1: 60, Y1: 20})
	require.NoError(t, err)
	d := doc.Dict(cut)
	assert.False(t, d.Has("Metadata"))
	assert.False(t, d.Has("Alternates"))
	assert.Equal(t, pdf.Boolean(true), d.Get("Interpolate"), "how it is drawn stays")
	got, size := left(t, doc, d.Get("SMask").(pdf.Ref))
	assert.Equal(t, "70", got)
	assert.Equal(t, "1x1", size)
	assert.False(t, doc.Dict(d.Get("SMask")).Has("Metadata"))
	assert.True(t, doc.Dict(ref).Has("Metadata"), "the whole picture is not touched: it may be drawn elsewhere")
}

// Of a JPEG stays what it decodes to; nothing of the bytes that held the rest.
func TestCutJPEG(t *testing.T) {
	img := image.NewRGBA(image.Rect(0, 0, 32, 32))
	for y := range 32 {
		for x := range 32 {
			c := color.RGBA{R: 200, G: 30, B: 30, A: 255}
			if x >= 16 {
				c = color.RGBA{R: 30, G: 30, B: 200, A: 255}
			}
			img.Set(x, y, c)
		}
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, &jpeg.Options{Quality: 95}))
	doc := pdf.New()
	ref := stored(doc, 32, 32, 8, pdf.Name("DeviceRGB"), b.Bytes(), "Filter", pdf.Name("DCTDecode"))
	cut, _, err := picture.Cut(doc, ref, pdf.Matrix{32, 0, 0, 32, 0, 0}, pdf.Rect{X0: 0, Y0: 0, X1: 8, Y1: 8})
	require.NoError(t, err)
	s := doc.Stream(cut)
	assert.Equal(t, pdf.Name("FlateDecode"), s.Dict.Get("Filter"))
	data, _, err := doc.Decode(s)
	require.NoError(t, err)
	require.Len(t, data, 8*8*3)
	for i := 0; i < len(data); i += 3 {
		assert.InDelta(t, 200, int(data[i]), 12, "red everywhere")
		assert.InDelta(t, 30, int(data[i+2]), 12, "nothing of the blue half")
	}
	// One that says another size than it has is left alone, and so is one that is cut short.
	wrong := stored(doc, 64, 32, 8, pdf.Name("DeviceRGB"), b.Bytes(), "Filter", pdf.Name("DCTDecode"))
	_, _, err = picture.Cut(doc, wrong, pdf.Matrix{32, 0, 0, 32, 0, 0}, pdf.Rect{X1: 8, Y1: 8})
	assert.ErrorIs(t, err, picture.ErrUncut)
	short := stored(doc, 32, 32, 8, pdf.Name("DeviceRGB"), b.Bytes()[:200], "Filter", pdf.Name("DCTDecode"))
	_, _, err = picture.Cut(doc, short, pdf.Matrix{32, 0, 0, 32, 0, 0}, pdf.Rect{X1: 8, Y1: 8})
	assert.ErrorIs(t, err, picture.ErrUncut)
}

// What can't be cut is told, and nothing is made.
func TestUncut(t *testing.T) {
	square := pdf.Matrix{40, 0, 0, 40, 0, 0}
	for name, c := range map[string]struct {
		at   pdf.Matrix
		more []any
		w    int
	}{
		"askew":               {pdf.Matrix{30, 10, -10, 30, 0, 0}, nil, 4},
		"too large":           {square, nil, 1 << 20},
		"no width":            {square, nil, 0},
		"wavelets":            {square, []any{"Filter", pdf.Name("JPXDecode")}, 4},
		"a colour unheard of": {square, []any{"ColorSpace", pdf.Name("Harbour")}, 4},
	} {
		t.Run(name, func(t *testing.T) {
			doc := pdf.New()
			h := 4
			if c.w > 4 {
				h = 1 << 19
			}
			ref := stored(doc, c.w, h, 8, pdf.Name("DeviceGray"), make([]byte, 16), c.more...)
			cut, _, err := picture.Cut(doc, ref, c.at, pdf.Rect{X1: 10, Y1: 10})
			assert.ErrorIs(t, err, picture.ErrUncut)
			assert.True(t, cut.IsZero())
		})
	}
	doc := pdf.New()
	ref := stored(doc, 4, 4, 8, pdf.Name("DeviceGray"), make([]byte, 16))
	cut, _, err := picture.Cut(doc, ref, pdf.Matrix{0, 0, 0, 40, 0, 0}, pdf.Rect{X1: 10, Y1: 10})
	require.NoError(t, err, "one that is squeezed to a line draws nothing")
	assert.True(t, cut.IsZero())
}
