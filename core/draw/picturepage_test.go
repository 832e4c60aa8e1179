package draw

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
)

// quarters is a picture of 80 x 40 pixels: red and green above, blue and white below.
func quarters() *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, 80, 40))
	for y := range 40 {
		for x := range 80 {
			c := []color.NRGBA{{255, 0, 0, 255}, {0, 255, 0, 255}, {0, 0, 255, 255}, {255, 255, 255, 255}}[x/40+2*(y/20)]
			img.Set(x, y, c)
		}
	}
	return img
}

// withExif puts an EXIF segment with the orientation, and a resolution where dpi is not 0, behind SOI.
func withExif(jpg []byte, orientation, dpi int) []byte {
	var b bytes.Buffer
	b.WriteString("Exif\x00\x00MM\x00*\x00\x00\x00\x08")
	n := 1
	if dpi > 0 {
		n = 4
	}
	w := func(v ...any) {
		for _, x := range v {
			_ = binary.Write(&b, binary.BigEndian, x)
		}
	}
	w(uint16(n), uint16(0x0112), uint16(3), uint32(1), uint16(orientation), uint16(0))
	if dpi > 0 {
		at := uint32(8 + 2 + 12*4 + 4)
		w(uint16(0x011a), uint16(5), uint32(1), at, uint16(0x011b), uint16(5), uint32(1), at, uint16(0x0128), uint16(3), uint32(1), uint16(2), uint16(0))
	}
	w(uint32(0))
	if dpi > 0 {
		w(uint32(dpi), uint32(1))
	}
	head := []byte{0xff, 0xd8, 0xff, 0xe1, 0, 0}
	binary.BigEndian.PutUint16(head[4:], uint16(b.Len()+2))
	return append(append(head, b.Bytes()...), jpg[2:]...)
}

func pageOf(t *testing.T, data []byte) (*pdf.Document, *picture.Picture, []byte) {
	t.Helper()
	p, err := picture.Decode(data)
	require.NoError(t, err)
	doc := pdf.New()
	page, err := PicturePage(doc, p, Placement{})
	require.NoError(t, err)
	require.NoError(t, doc.InsertPages(0, []pdf.Ref{page}))
	out := pdftest.Whole(t, doc)
	pdftest.Check(t, out)
	return doc, p, out
}

// corners draws the file with poppler at 96 dpi and names the colours of its four quarters.
func corners(t *testing.T, file []byte) (string, image.Rectangle) {
	t.Helper()
	img := paged(t, file)
	b := img.Bounds()
	s := ""
	for _, at := range [][2]int{{1, 1}, {3, 1}, {1, 3}, {3, 3}} {
		r, g, bl, _ := img.At(b.Dx()*at[0]/4, b.Dy()*at[1]/4).RGBA()
		switch {
		case r > 0xc000 && g > 0xc000 && bl > 0xc000:
			s += "W"
		case r > 0xc000 && g < 0x4000:
			s += "R"
		case g > 0xc000 && r < 0x4000:
			s += "G"
		case bl > 0xc000 && r < 0x4000:
			s += "B"
		default:
			s += "?"
		}
	}
	return s, b
}

func TestOrientation(t *testing.T) {
	var jpg bytes.Buffer
	require.NoError(t, jpeg.Encode(&jpg, quarters(), &jpeg.Options{Quality: 95}))
	// EXIF 2.32, 4.6.4 A: what the 0th row and the 0th column are, for stored RG over BW.
	for orientation, want := range map[int]string{
		1: "RGBW", 2: "GRWB", 3: "WBGR", 4: "BWRG", 5: "RBGW", 6: "BRWG", 7: "WGBR", 8: "GWRB", 9: "RGBW",
	} {
		data := withExif(jpg.Bytes(), orientation, 0)
		_, p, file := pageOf(t, data)
		got, size := corners(t, file)
		assert.Equal(t, want, got, "orientation %d", orientation)
		w, h := p.Points()
		if orientation >= 5 && orientation <= 8 {
			assert.Equal(t, [2]float64{30, 60}, [2]float64{w, h})
			assert.Equal(t, [2]int{40, 80}, [2]int{size.Dx(), size.Dy()})
		} else {
			assert.Equal(t, [2]float64{60, 30}, [2]float64{w, h}, "80 x 40 pixels at 96 dpi")
		}
	}
}

func TestJPEGBytesStay(t *testing.T) {
	var jpg bytes.Buffer
	require.NoError(t, jpeg.Encode(&jpg, quarters(), nil))
	data := withExif(jpg.Bytes(), 6, 150)
	_, p, file := pageOf(t, data)
	w, h := p.Points()
	assert.InDelta(t, 40*72/150.0, w, 1e-9)
	assert.InDelta(t, 80*72/150.0, h, 1e-9)
	dir := t.TempDir()
	path := filepath.Join(dir, "in.pdf")
	require.NoError(t, os.WriteFile(path, file, 0o600))
	out, err := exec.Command("pdfimages", "-all", path, filepath.Join(dir, "im")).CombinedOutput()
	require.NoError(t, err, string(out))
	got, err := os.ReadFile(filepath.Join(dir, "im-000.jpg"))
	require.NoError(t, err)
	assert.Equal(t, data, got)
}

func TestPNG(t *testing.T) {
	opaque := quarters()
	glass := quarters()
	for y := range 20 {
		for x := range 40 {
			glass.Set(x, y, color.NRGBA{255, 0, 0, 0}) // the red quarter lets the paper through
		}
	}
	palette := image.NewPaletted(opaque.Bounds(), color.Palette{color.NRGBA{255, 0, 0, 255}, color.NRGBA{0, 255, 0, 255}, color.NRGBA{0, 0, 255, 255}, color.White})
	for y := range 40 {
		for x := range 80 {
			palette.SetColorIndex(x, y, uint8(x/40+2*(y/20)))
		}
	}
	for name, c := range map[string]struct {
		img  image.Image
		want string
	}{"rgb": {opaque, "RGBW"}, "alpha": {glass, "WGBW"}, "palette": {palette, "RGBW"}} {
		var b bytes.Buffer
		require.NoError(t, png.Encode(&b, c.img))
		doc, p, file := pageOf(t, b.Bytes())
		got, _ := corners(t, file)
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, "PNG", p.Kind)
		im := doc.Dict(doc.Dict(doc.Dict(pdftest.Refs(t, doc)[0]).Get("Resources")).Get("XObject")).Get("Picture")
		assert.Equal(t, name == "alpha", doc.Dict(im).Has("SMask"), name)
	}
}

// A CMYK JPEG with an Adobe segment stores inverted values: the red square stays red.
func TestCMYK(t *testing.T) {
	data, err := os.ReadFile("testdata/cmyk.jpg")
	require.NoError(t, err)
	_, _, file := pageOf(t, data)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "p.pdf"), file, 0o600))
	out, err := exec.Command("pdftoppm", "-png", "-singlefile", filepath.Join(dir, "p.pdf"), filepath.Join(dir, "p")).CombinedOutput()
	require.NoError(t, err, string(out))
	f, err := os.Open(filepath.Join(dir, "p.png"))
	require.NoError(t, err)
	defer f.Close()
	img, err := png.Decode(f)
	require.NoError(t, err)
	r, g, b, _ := img.At(5, 5).RGBA()
	assert.Greater(t, r>>8, uint32(150))
	assert.Less(t, g>>8, uint32(90))
	assert.Less(t, b>>8, uint32(90))
}

func TestResolutions(t *testing.T) {
	var jpg bytes.Buffer
	require.NoError(t, jpeg.Encode(&jpg, quarters(), nil))
	for dpi, want := range map[int]float64{300: 80 * 72 / 300.0, 1: 60, 30000: 60} {
		_, p, _ := pageOf(t, withExif(jpg.Bytes(), 1, dpi))
		w, _ := p.Points()
		assert.InDelta(t, want, w, 1e-9, "%d dpi", dpi)
		assert.Equal(t, dpi == 300, p.Stated)
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, 20_000, 4))))
	_, p, _ := pageOf(t, b.Bytes())
	w, h := p.Points()
	assert.Equal(t, "14400 2.88", fmt.Sprint(w, " ", h), "brought down in proportion")
}

func TestBadPictures(t *testing.T) {
	for _, data := range [][]byte{nil, []byte("GIF89a"), {0xff, 0xd8, 0xff, 0xe0}, []byte("\x89PNG\r\n\x1a\n"), []byte("\x89PNG\r\n\x1a\n\x7f\xff\xff\xffIHDR")} {
		_, err := picture.Decode(data)
		assert.ErrorIs(t, err, picture.ErrFormat)
	}
}

func FuzzPicture(f *testing.F) {
	var jpg, pn bytes.Buffer
	_ = jpeg.Encode(&jpg, quarters(), nil)
	_ = png.Encode(&pn, quarters())
	f.Add(withExif(jpg.Bytes(), 6, 72))
	f.Add(pn.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := picture.Decode(data)
		if err == nil && p.Width*p.Height < 1<<20 {
			_, _ = PicturePage(pdf.New(), p, Placement{})
		}
	})
}

// Pictures on paper, worked by hand. ISO 216: A4 is 210 x 297 mm. Common practice: a 3:2 picture on landscape A4 is 297 x 198 mm, with 6 mm above
// and below; a 16:9 one leaves less on Legal than on Letter, and none on a page of its own.
func TestPlacement(t *testing.T) {
	const mm = 72 / 25.4
	a4 := Placement{Width: 210 * mm, Height: 297 * mm}
	at := func(pl Placement, w, h float64) PlacedPicture {
		p, err := pl.Place(w, h)
		require.NoError(t, err)
		return p
	}
	p := at(a4, 600, 400)
	side, above := p.Borders()
	assert.InDelta(t, 0, side/mm, 1e-9)
	assert.InDelta(t, 6, above/mm, 1e-9)
	assert.InDelta(t, 297, p.W/mm, 1e-9)
	assert.InDelta(t, 198, p.H/mm, 1e-9)
	p = at(a4, 400, 600)
	side, above = p.Borders()
	assert.InDelta(t, 6, side/mm, 1e-9, "an upright one turns the paper")
	assert.InDelta(t, 0, above/mm, 1e-9)
	letter, legal := Placement{Width: 612, Height: 792}, Placement{Width: 612, Height: 1008}
	_, l1 := at(letter, 1600, 900).Borders()
	_, l2 := at(legal, 1600, 900).Borders()
	assert.InDelta(t, (612-792*9/16.0)/2, l1, 1e-9)
	assert.InDelta(t, (612-1008*9/16.0)/2, l2, 1e-9, "22.5 points, less than on Letter")
	s0, a0 := at(Placement{}, 1600, 900).Borders()
	assert.Zero(t, s0+a0)
	m := a4
	m.Margin, m.Turn = 10*mm, TurnPortrait
	p = at(m, 600, 400)
	side, above = p.Borders()
	assert.InDelta(t, 10, side/mm, 1e-9)
	assert.InDelta(t, (297-190*2/3.0)/2, above/mm, 1e-9)
	f := a4
	f.Fill = true
	p = at(f, 600, 400)
	w, h := p.Cut()
	assert.InDelta(t, 1-297/315.0, w, 1e-9, "210 mm high it would be 315 mm wide")
	assert.Zero(t, h)
	side, above = p.Borders()
	assert.Zero(t, side+above)
	_, err := Placement{Width: 100, Height: 100, Margin: 48}.Place(10, 10)
	assert.ErrorIs(t, err, ErrMargin)

	// The pixels: on its own page the picture has no border, and its ratio; on paper the borders are white, as wide as told; filled, none is.
	var jpg bytes.Buffer
	require.NoError(t, jpeg.Encode(&jpg, quarters(), &jpeg.Options{Quality: 95}))
	pic, err := picture.Decode(jpg.Bytes())
	require.NoError(t, err)
	for _, c := range []struct {
		pl         Placement
		w, h, x, y int // of the page, and the first pixel of the picture, at 96 dpi
	}{{Placement{}, 80, 40, 0, 0}, {Placement{Width: 60, Height: 60}, 80, 80, 0, 20}, {Placement{Width: 60, Height: 60, Margin: 6}, 80, 80, 8, 24}, {Placement{Width: 60, Height: 60, Fill: true}, 80, 80, 0, 0}} {
		doc := pdf.New()
		page, err := PicturePage(doc, pic, c.pl)
		require.NoError(t, err)
		require.NoError(t, doc.InsertPages(0, []pdf.Ref{page}))
		img := paged(t, pdftest.Whole(t, doc))
		require.Equal(t, [2]int{c.w, c.h}, [2]int{img.Bounds().Dx(), img.Bounds().Dy()})
		first := func(along, at int, get func(i int) color.Color) int {
			for i := range along {
				r, g, b, _ := get(i).RGBA()
				if r < 0xf000 || g < 0xf000 || b < 0xf000 {
					return i
				}
			}
			return along
		}
		assert.InDelta(t, c.x, first(c.w, 0, func(i int) color.Color { return img.At(i, c.h/2-2) }), 1)
		assert.InDelta(t, c.y, first(c.h, 0, func(i int) color.Color { return img.At(c.w/4, i) }), 1)
	}
}

// paged draws a file with poppler at 96 dpi.
func paged(t *testing.T, file []byte) image.Image {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "p.pdf"), file, 0o600))
	out, err := exec.Command("pdftoppm", "-r", "96", "-png", "-singlefile", filepath.Join(dir, "p.pdf"), filepath.Join(dir, "p")).CombinedOutput()
	require.NoError(t, err, string(out))
	f, err := os.Open(filepath.Join(dir, "p.png"))
	require.NoError(t, err)
	defer f.Close()
	img, err := png.Decode(f)
	require.NoError(t, err)
	return img
}
