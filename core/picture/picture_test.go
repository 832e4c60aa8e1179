package picture_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
)

// onPage puts a picture on a page of a point for each pixel, and gives the file and the image dictionary.
func onPage(t *testing.T, data []byte) (file []byte, dict *pdf.Dict) {
	t.Helper()
	p, err := picture.Decode(data)
	require.NoError(t, err)
	doc := pdf.New()
	x, err := p.XObject(doc)
	require.NoError(t, err)
	w, h := pdf.Integer(p.Width), pdf.Integer(p.Height)
	content := doc.Add(pdf.NewStream(nil, fmt.Appendf(nil, "%d 0 0 %d 0 0 cm /I Do", w, h)))
	page := doc.Add(pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), w, h}, "Contents", content,
		"Resources", pdf.NewDict("XObject", pdf.NewDict("I", x))))
	require.NoError(t, doc.InsertPages(0, []pdf.Ref{page}))
	file = pdftest.Whole(t, doc)
	pdftest.Check(t, file)
	return file, doc.Dict(x)
}

// drawn gives the colours of the pixels of the picture on the page that poppler draws, ten pixels for each point: from
// the middle of each, since poppler lets pictures reach over the edges of pixels.
func drawn(t *testing.T, file []byte) func(x, y int) color.Color {
	t.Helper()
	img, err := png.Decode(strings.NewReader(pdftest.Tool(t, file, "pdftoppm", "-r", "720", "-png", "FILE")))
	require.NoError(t, err)
	return func(x, y int) color.Color { return img.At(10*x+5, 10*y+5) }
}

// fill paints each pixel of a picture by a rule.
func fill[P interface {
	image.Image
	Set(x, y int, c color.Color)
}](img P, rule func(x, y int) color.Color) P {
	b := img.Bounds()
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			img.Set(x, y, rule(x, y))
		}
	}
	return img
}

func gradient(x, y int) color.Color {
	return color.NRGBA{uint8(x * 12), uint8(y * 16), uint8(255 - x*6), 255}
}

// PNG of every kind that encoders write comes out as it went in: opaque ones with their bytes as they are,
// transparent ones with a soft mask.
func TestPNG(t *testing.T) {
	box := image.Rect(0, 0, 20, 15)
	few := color.Palette{color.NRGBA{200, 0, 0, 255}, color.NRGBA{0, 120, 0, 255}, color.NRGBA{0, 0, 90, 255}}
	many := append(color.Palette{}, few...)
	for i := range 200 {
		many = append(many, color.NRGBA{uint8(i), uint8(255 - i), 77, 255})
	}
	clear := append(color.Palette{}, few...)
	clear[1] = color.NRGBA{0, 0, 0, 0}
	cycle := func(p color.Palette) func(x, y int) color.Color {
		return func(x, y int) color.Color { return p[(x+3*y)%len(p)] }
	}
	half := func(x, y int) color.Color { return color.NRGBA{uint8(x * 12), 100, 50, uint8(80 + y*10)} }
	for name, c := range map[string]struct {
		img         image.Image
		asItIs      bool
		transparent bool
	}{
		"grey":                           {fill(image.NewGray(box), gradient), true, false},
		"grey, 16 bits":                  {fill(image.NewGray16(box), gradient), true, false},
		"colour":                         {fill(image.NewNRGBA(box), gradient), true, false},
		"colour, 16 bits":                {fill(image.NewNRGBA64(box), gradient), true, false},
		"palette of 2 bits":              {fill(image.NewPaletted(box, few), cycle(few)), true, false},
		"palette of 8 bits":              {fill(image.NewPaletted(box, many), cycle(many)), true, false},
		"transparent":                    {fill(image.NewNRGBA(box), half), false, true},
		"transparent, 16 bits":           {fill(image.NewNRGBA64(box), half), false, true},
		"palette with a transparent one": {fill(image.NewPaletted(box, clear), cycle(clear)), false, true},
	} {
		t.Run(name, func(t *testing.T) {
			var b bytes.Buffer
			require.NoError(t, png.Encode(&b, c.img))
			file, dict := onPage(t, b.Bytes())
			assert.Equal(t, c.asItIs, dict.Has("DecodeParms"), "the compressed rows are taken over")
			assert.Equal(t, c.transparent, dict.Has("SMask"))
			got := drawn(t, file)
			for y := range box.Max.Y {
				for x := range box.Max.X {
					want := over(c.img.At(x, y))
					near(t, want, got(x, y), 2, "%d, %d", x, y)
				}
			}
		})
	}
}

// over is a colour on white paper.
func over(c color.Color) color.NRGBA {
	n := color.NRGBAModel.Convert(c).(color.NRGBA)
	mix := func(v uint8) uint8 { return uint8((int(v)*int(n.A) + 255*(255-int(n.A))) / 255) }
	return color.NRGBA{mix(n.R), mix(n.G), mix(n.B), 255}
}

func near(t *testing.T, want, got color.Color, by float64, where string, args ...any) {
	t.Helper()
	r, g, b, _ := want.RGBA()
	r2, g2, b2, _ := got.RGBA()
	msg := append([]any{where}, args...)
	assert.InDelta(t, r>>8, r2>>8, by, msg...)
	assert.InDelta(t, g>>8, g2>>8, by, msg...)
	assert.InDelta(t, b>>8, b2>>8, by, msg...)
}

// chunk puts a chunk of its own behind the header of a PNG file.
func chunk(data []byte, kind string, body []byte) []byte {
	c := binary.BigEndian.AppendUint32(nil, uint32(len(body)))
	c = append(append(c, kind...), body...)
	c = binary.BigEndian.AppendUint32(c, crc32.ChecksumIEEE(c[4:]))
	const header = 8 + 12 + 13
	return append(append(bytes.Clone(data[:header]), c...), data[header:]...)
}

// The resolution of a PNG is in pixels a metre (11.3.5.3); absurd ones are not believed.
func TestResolution(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, 300, 150))))
	phys := func(x, y uint32, unit byte) []byte {
		return chunk(b.Bytes(), "pHYs", append(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, x), y), unit))
	}
	for name, c := range map[string]struct {
		data   []byte
		dpi    float64
		stated bool
	}{
		"none":           {b.Bytes(), picture.DefaultDPI, false},
		"300 dpi":        {phys(11811, 11811, 1), 300, true},
		"without a unit": {phys(11811, 11811, 0), picture.DefaultDPI, false},
		"2 dpi":          {phys(79, 79, 1), picture.DefaultDPI, false},
		"sides apart":    {phys(11811, 1000, 1), picture.DefaultDPI, false},
	} {
		p, err := picture.Decode(c.data)
		require.NoError(t, err, name)
		assert.InDelta(t, c.dpi, p.DPIX, 0.01, name)
		assert.Equal(t, c.stated, p.Stated, name)
		w, h := p.Points()
		assert.InDelta(t, 300*72/c.dpi, w, 0.01, name)
		assert.InDelta(t, 150*72/c.dpi, h, 0.01, name)
	}
	p := picture.Picture{Width: 40000, Height: 10000, DPIX: 72, DPIY: 72, Orientation: 1}
	w, h := p.Points()
	assert.Equal(t, []float64{14400, 3600}, []float64{w, h}, "brought down to what a page may be")
}

// segment is a marker segment of a JPEG file (T.81, B.1.1.4).
func segment(marker byte, body []byte) []byte {
	return append(binary.BigEndian.AppendUint16([]byte{0xff, marker}, uint16(len(body)+2)), body...)
}

// withSegments puts segments behind the start of a JPEG file.
func withSegments(jpg []byte, segments ...[]byte) []byte {
	return bytes.Join([][]byte{jpg[:2], bytes.Join(segments, nil), jpg[2:]}, nil)
}

func encoded(t *testing.T, img image.Image) []byte {
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, &jpeg.Options{Quality: 95}))
	return b.Bytes()
}

// A JPEG's bytes are kept as they are, and its profile goes along, joined of its parts, where it is one for its components.
func TestJPEG(t *testing.T) {
	box := image.Rect(0, 0, 20, 15)
	colour, grey := encoded(t, fill(image.NewNRGBA(box), gradient)), encoded(t, fill(image.NewGray(box), gradient))
	file, dict := onPage(t, colour)
	assert.Equal(t, pdf.Name("DeviceRGB"), dict.Get("ColorSpace"))
	assert.True(t, bytes.Contains(file, colour), "byte for byte")
	near(t, gradient(10, 7), drawn(t, file)(10, 7), 12, "in the middle")
	_, dict = onPage(t, grey)
	assert.Equal(t, pdf.Name("DeviceGray"), dict.Get("ColorSpace"))

	profile := make([]byte, 300)
	copy(profile[16:], "RGB ")
	part := func(n byte, b []byte) []byte {
		return segment(0xe2, append([]byte("ICC_PROFILE\x00"+string(n)+"\x02"), b...))
	}
	second, first := part(2, profile[100:]), part(1, profile[:100])
	for name, c := range map[string]struct {
		data []byte
		want int // bytes of the profile that are taken
	}{
		"parts in any order":   {withSegments(colour, second, first), 300},
		"for other components": {withSegments(grey, first, second), 0},
		"too short to be one":  {withSegments(colour, part(1, profile[:40])), 0},
	} {
		p, err := picture.Decode(c.data)
		require.NoError(t, err, name)
		doc := pdf.New()
		x, err := p.XObject(doc)
		require.NoError(t, err)
		space, based := doc.Dict(x).Get("ColorSpace").(pdf.Array)
		require.Equal(t, c.want > 0, based, name)
		if based {
			got, _, err := doc.Decode(doc.Stream(space[1]))
			require.NoError(t, err)
			assert.Equal(t, profile, got, name)
			assert.Equal(t, pdf.Integer(3), doc.Dict(space[1]).Get("N"))
		}
	}
}

// Four components that an Adobe segment marks are stored inverted; lossless and arithmetic coding are refused, since
// DCTDecode does not know them.
func TestJPEGFrames(t *testing.T) {
	frame := func(marker, bits, components byte) []byte {
		body := []byte{bits, 0, 9, 0, 12, components}
		for i := range components {
			body = append(body, i+1, 0x11, 0)
		}
		return append(append([]byte{0xff, 0xd8}, segment(marker, body)...), 0xff, 0xd9)
	}
	decode := func(data []byte) (*pdf.Dict, error) {
		p, err := picture.Decode(data)
		if err != nil {
			return nil, err
		}
		assert.Equal(t, []int{12, 9}, []int{p.Width, p.Height})
		doc := pdf.New()
		x, err := p.XObject(doc)
		return doc.Dict(x), err
	}
	d, err := decode(frame(0xc0, 8, 4))
	require.NoError(t, err)
	assert.Equal(t, pdf.Name("DeviceCMYK"), d.Get("ColorSpace"))
	assert.False(t, d.Has("Decode"))
	d, err = decode(withSegments(frame(0xc2, 8, 4), segment(0xee, []byte("Adobe\x00\x64\x00\x00\x00\x00\x02"))))
	require.NoError(t, err)
	assert.Len(t, d.Get("Decode"), 8)
	for name, data := range map[string][]byte{
		"lossless": frame(0xc3, 8, 3), "arithmetic": frame(0xc9, 8, 3), "12 bits": frame(0xc1, 12, 3), "two components": frame(0xc0, 8, 2),
		"no frame": {0xff, 0xd8, 0xff, 0xd9}, "cut off": frame(0xc0, 8, 3)[:9], "a short frame": append([]byte{0xff, 0xd8}, segment(0xc0, []byte{8})...),
		"a PNG without data": []byte("\x89PNG\r\n\x1a\n"), "text": []byte("Berth tariffs"), "nothing": nil,
	} {
		_, err := picture.Decode(data)
		assert.ErrorIs(t, err, picture.ErrFormat, name)
	}
	// Resolution by JFIF, in inches and in centimetres.
	jfif := func(unit byte, v uint16) []byte {
		return withSegments(frame(0xc0, 8, 3), segment(0xe0, append(binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(append([]byte("JFIF\x00\x01\x02"), unit), v), v), 0, 0)))
	}
	for unit, v := range map[byte]uint16{1: 254, 2: 100} {
		p, err := picture.Decode(jfif(unit, v))
		require.NoError(t, err)
		assert.InDelta(t, 254, p.DPIX, 1e-9)
		assert.True(t, p.Stated)
	}
}

func FuzzDecode(f *testing.F) {
	var b bytes.Buffer
	_ = png.Encode(&b, fill(image.NewNRGBA(image.Rect(0, 0, 9, 9)), gradient))
	f.Add(b.Bytes())
	b.Reset()
	_ = jpeg.Encode(&b, fill(image.NewGray(image.Rect(0, 0, 9, 9)), gradient), nil)
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := picture.Decode(data)
		if err != nil {
			return
		}
		w, h := p.Points()
		assert.True(t, w > 0 && h > 0 && w <= picture.MaxPoints && h <= picture.MaxPoints)
		if p.Width*p.Height < 1<<20 {
			_, _ = p.XObject(pdf.New())
		}
	})
}
