package picture_test

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/picture"
)

// Pixels that are read and stored again are what they were, but for what a JPEG loses.
func TestPlanar(t *testing.T) {
	const w, h = 61, 40
	rgb, gray := image.NewNRGBA(image.Rect(0, 0, w, h)), image.NewGray(image.Rect(0, 0, w, h))
	palette := image.NewPaletted(image.Rect(0, 0, w, h), color.Palette{color.RGBA{250, 240, 200, 255}, color.RGBA{20, 30, 90, 255}, color.RGBA{160, 20, 20, 255}})
	two := image.NewPaletted(image.Rect(0, 0, w, h), color.Palette{color.Gray{0}, color.Gray{255}})
	for y := range h {
		for x := range w {
			rgb.Set(x, y, color.NRGBA{uint8(4 * x), uint8(5 * y), uint8(x + y), 255})
			gray.Set(x, y, color.Gray{uint8(2*x + 3*y)})
			palette.SetColorIndex(x, y, uint8((x/7+y/5)%3))
			two.SetColorIndex(x, y, uint8((x/3+y/4)%2))
		}
	}
	stored := func(encode func(*bytes.Buffer) error) (*pdf.Document, pdf.Ref) {
		var b bytes.Buffer
		require.NoError(t, encode(&b))
		p, err := picture.Decode(b.Bytes())
		require.NoError(t, err)
		doc := pdf.New()
		ref, err := p.XObject(doc)
		require.NoError(t, err)
		return doc, ref
	}
	for name, of := range map[string]struct {
		img    image.Image
		jpeg   bool
		planes int
		off    int
	}{
		"rgb": {rgb, false, 3, 0}, "gray": {gray, false, 1, 0}, "palette": {palette, false, 3, 0}, "two": {two, false, 1, 0}, "rgb jpeg": {rgb, true, 3, 14}, "gray jpeg": {gray, true, 1, 8},
	} {
		t.Run(name, func(t *testing.T) {
			doc, ref := stored(func(b *bytes.Buffer) error {
				if of.jpeg {
					return jpeg.Encode(b, of.img, &jpeg.Options{Quality: 95})
				}
				return png.Encode(b, of.img)
			})
			px, err := picture.ReadPlanar(doc, ref)
			require.NoError(t, err)
			again, err := px.Add(doc, ref)
			require.NoError(t, err)
			require.NotEqual(t, ref, again)
			got, err := picture.ReadPlanar(doc, again)
			require.NoError(t, err)
			require.Len(t, got.Planes, of.planes)
			require.Equal(t, [2]int{w, h}, [2]int{got.W(), got.H()})
			assert.Equal(t, of.jpeg, got.Lossy)
			for y := range h {
				for x := range w {
					c := color.NRGBAModel.Convert(of.img.At(x, y)).(color.NRGBA)
					want := []uint8{c.R, c.G, c.B}
					for k, p := range got.Planes {
						assert.InDelta(t, int(want[k]), int(p.Pix[y*p.Stride+x]), float64(of.off), "%d %d", x, y)
					}
				}
			}
		})
	}
	doc, ref := stored(func(b *bytes.Buffer) error { return png.Encode(b, gray) })
	doc.Stream(ref).Dict.Set("ImageMask", pdf.Boolean(true))
	_, err := picture.ReadPlanar(doc, ref)
	assert.ErrorIs(t, err, picture.ErrUncut)
	_, err = picture.ReadPlanar(doc, pdf.Ref{Num: 999})
	assert.ErrorIs(t, err, picture.ErrUncut)
}
