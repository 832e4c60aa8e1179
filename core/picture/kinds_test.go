package picture_test

import (
	"bytes"
	"image"
	"image/color"
	"image/gif"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/hhrutter/tiff"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/image/bmp"

	"glenrain/core/pdf"
	"glenrain/core/picture"
)

// tiffOf writes a TIFF with a directory of our own making: Group 4 data in one strip (TIFF 6.0, sections 2 and 11).
func tiffOf(t *testing.T, img image.Image, c tiff.CompressionType) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, tiff.Encode(&b, img, &tiff.Options{Compression: c, Predictor: c == tiff.Deflate}))
	return b.Bytes()
}

// BMP, GIF and TIFF of every depth come out as they went in.
func TestDecodedKinds(t *testing.T) {
	const w, h = 24, 16
	rgb := fill(image.NewRGBA(image.Rect(0, 0, w, h)), func(x, y int) color.Color { return color.NRGBA{uint8(x * 10), uint8(y * 15), 90, 255} })
	glass := fill(image.NewNRGBA(image.Rect(0, 0, w, h)), func(x, y int) color.Color { return color.NRGBA{uint8(x * 10), uint8(y * 15), 90, uint8(255 - x*5)} })
	grey := fill(image.NewGray(image.Rect(0, 0, w, h)), func(x, y int) color.Color { return color.Gray{uint8(x*9 + y)} })
	tones := fill(image.NewGray(image.Rect(0, 0, w, h)), func(x, y int) color.Color { return color.Gray{uint8((x / 6 % 2) * 255)} })
	deep := fill(image.NewGray16(image.Rect(0, 0, w, h)), func(x, y int) color.Color { return color.Gray16{uint16(x*2500 + y)} })
	deepRGB := fill(image.NewNRGBA64(image.Rect(0, 0, w, h)), func(x, y int) color.Color { return color.NRGBA64{uint16(x * 2500), uint16(y * 4000), 9000, 65535} })
	cmyk := image.NewCMYK(image.Rect(0, 0, w, h))
	for i := range cmyk.Pix {
		cmyk.Pix[i] = byte(i * 3 % 200)
	}
	var asBMP, asGIF bytes.Buffer
	require.NoError(t, bmp.Encode(&asBMP, rgb))
	web := image.NewPaletted(rgb.Bounds(), color.Palette{color.White, color.NRGBA{200, 30, 30, 255}, color.NRGBA{0, 0, 0, 0}})
	for i := range web.Pix {
		web.Pix[i] = byte(i % 3)
	}
	require.NoError(t, gif.EncodeAll(&asGIF, &gif.GIF{Image: []*image.Paletted{web, web}, Delay: []int{1, 1}, Disposal: []byte{gif.DisposalBackground, gif.DisposalBackground}}))
	for _, c := range []struct {
		kind string
		data []byte
		img  image.Image
		bits int
		room string
		mask bool
	}{
		{"BMP", asBMP.Bytes(), rgb, 8, "DeviceRGB", false}, {"GIF", asGIF.Bytes(), web, 8, "DeviceRGB", true}, {"TIFF", tiffOf(t, rgb, tiff.Deflate), rgb, 8, "DeviceRGB", false},
		{"TIFF", tiffOf(t, glass, tiff.LZW), glass, 8, "DeviceRGB", true}, {"TIFF", tiffOf(t, grey, tiff.Uncompressed), grey, 8, "DeviceGray", false}, {"TIFF", tiffOf(t, tones, tiff.Uncompressed), tones, 1, "DeviceGray", false},
		{"TIFF", tiffOf(t, deep, tiff.Deflate), deep, 16, "DeviceGray", false}, {"TIFF", tiffOf(t, deepRGB, tiff.Deflate), deepRGB, 16, "DeviceRGB", false}, {"TIFF", tiffOf(t, cmyk, tiff.Deflate), nil, 8, "DeviceCMYK", false},
	} {
		p, err := picture.Decode(c.data)
		require.NoError(t, err, c.kind)
		assert.Equal(t, [3]any{c.kind, w, h}, [3]any{p.Kind, p.Width, p.Height})
		assert.True(t, picture.Is(c.data[:picture.HeadSize]))
		file, dict := onPage(t, c.data)
		bits, _ := pdf.Number(dict.Get("BitsPerComponent"))
		assert.EqualValues(t, c.bits, bits, "%s %s", c.kind, c.room)
		assert.Equal(t, pdf.Name(c.room), dict.Get("ColorSpace"))
		assert.Equal(t, c.mask, dict.Has("SMask"), "%s %s", c.kind, c.room)
		if c.img == nil {
			continue
		}
		at := drawn(t, file)
		for y := 0; y < h; y += 5 {
			for x := 0; x < w; x += 5 {
				near(t, over(c.img.At(x, y)), at(x, y), 3, "%s %d bits at %d,%d", c.kind, c.bits, x, y)
			}
		}
	}
	p, err := picture.Decode(asGIF.Bytes())
	require.NoError(t, err)
	assert.Equal(t, 2, p.Frames, "an animation, of which the first picture is taken")
}

// The pages of a TIFF, each with its size and resolution; directories in a circle, and behind the end.
func TestPagesOfTIFF(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, tiff.EncodeAll(&b, []image.Image{image.NewGray(image.Rect(0, 0, 60, 40)), image.NewRGBA(image.Rect(0, 0, 40, 60))}, nil))
	all, err := picture.DecodeAll(b.Bytes())
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, [4]int{60, 40, 40, 60}, [4]int{all[0].Width, all[0].Height, all[1].Width, all[1].Height})
	circle := []byte("II*\x00\x08\x00\x00\x00\x02\x00" + "\x00\x01\x03\x00\x01\x00\x00\x00\x04\x00\x00\x00" + "\x01\x01\x03\x00\x01\x00\x00\x00\x04\x00\x00\x00" + "\x08\x00\x00\x00")
	all, err = picture.DecodeAll(circle)
	require.NoError(t, err)
	assert.Len(t, all, 1, "a directory that leads to itself is one page")
	for _, bad := range []string{"II*\x00", "II*\x00\xff\xff\xff\xff", "MM\x00*\x00\x00\x00\x08\xff\xff"} {
		_, err := picture.DecodeAll([]byte(bad))
		assert.ErrorIs(t, err, picture.ErrFormat, "%q", bad)
	}
}

// Group 4 data are taken over as they are: written by libtiff's own tools where they are there, and by hand here. A row of white pixels is the
// code V0 (ITU-T T.6, table 4): the bit 1; the end of the block is 000000000001 twice.
func TestGroup4(t *testing.T) {
	fax := []byte{0xf0, 0x01, 0x00, 0x10} // four white rows, and the end
	var b bytes.Buffer
	b.WriteString("II*\x00\x0c\x00\x00\x00")
	b.Write(fax)
	entry := func(tag, typ uint16, v uint32) {
		b.Write([]byte{byte(tag), byte(tag >> 8), byte(typ), 0, 1, 0, 0, 0, byte(v), byte(v >> 8), byte(v >> 16), byte(v >> 24)})
	}
	b.Write([]byte{8, 0})
	for _, e := range [][3]uint32{{256, 3, 16}, {257, 3, 4}, {258, 3, 1}, {259, 3, 4}, {262, 3, 0}, {273, 4, 8}, {278, 3, 4}, {279, 4, 4}} {
		entry(uint16(e[0]), uint16(e[1]), e[2])
	}
	b.Write(make([]byte, 4))
	file, dict := onPage(t, b.Bytes())
	assert.Equal(t, pdf.Name("CCITTFaxDecode"), dict.Get("Filter"))
	at := drawn(t, file)
	near(t, color.NRGBA{255, 255, 255, 255}, at(8, 2), 1, "white")
}

// The real files of the libraries that read them: each comes in, or is refused without a fault.
func TestRealPictures(t *testing.T) {
	var files []string
	for _, dir := range []string{"github.com/hhrutter/tiff@v1.0.6", "golang.org/x/image@v0.48.0", "github.com/gen2brain/heic@v0.4.5"} {
		list, _ := filepath.Glob(filepath.Join(os.Getenv("HOME"), "go/pkg/mod", dir, "testdata", "*"))
		files = append(files, list...)
	}
	if len(files) == 0 {
		t.Skip("the libraries' files are not on this machine")
	}
	in := map[string]int{}
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil || !picture.Is(data[:min(len(data), picture.HeadSize)]) {
			continue
		}
		all, err := picture.DecodeAll(data)
		if err != nil {
			assert.False(t, strings.Contains(err.Error(), "runtime error"), "%s: %v", f, err)
			continue
		}
		doc := pdf.New()
		for _, p := range all {
			if _, err = p.XObject(doc); err == nil {
				in[p.Kind]++
			} else {
				assert.False(t, strings.Contains(err.Error(), "runtime error"), "%s: %v", f, err)
			}
		}
	}
	for _, kind := range []string{"TIFF", "BMP", "WebP", "HEIC", "PNG"} {
		assert.Positive(t, in[kind], kind)
	}
}
