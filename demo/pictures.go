package demo

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"math/rand/v2"

	xfont "golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"

	"github.com/go-fonts/liberation/liberationserifregular"
)

// scene draws a view of the quay as a photograph would show it, with its grain, and
// gives it as JPEG: sky, hills, water with the light on it, the wall and its piles.
func scene(w, h int, seed uint64, dpi int) []byte {
	r := rand.New(rand.NewPCG(seed, 99))
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	horizon := int(float64(h) * (0.40 + 0.06*r.Float64()))
	base := r.Float64() * 10
	hill := func(x float64, layer int) float64 {
		f := float64(layer + 1)
		return (0.09 - 0.025*f) * float64(h) * (1.2 + math.Sin(x*3.1*f+base) + 0.5*math.Sin(x*7.3+base*f))
	}
	wallLeft, wallTop := int(float64(w)*(0.5+0.2*r.Float64())), horizon-h/14
	clamp := func(v float64) uint8 { return uint8(max(0, min(255, v))) }
	for x := range w {
		u := float64(x) / float64(w)
		h1, h2 := horizon-int(hill(u, 0)), horizon-int(hill(u, 1))
		for y := range h {
			v := float64(y) / float64(h)
			var c [3]float64
			switch {
			case y < h1:
				cloud := 12 * math.Sin(u*9+v*14+base) * math.Sin(u*3-v*21)
				c = [3]float64{168 + 60*v + cloud, 190 + 40*v + cloud, 205 + 22*v + cloud}
			case y < h2 && y < horizon:
				c = [3]float64{128, 150, 146}
			case y < horizon:
				c = [3]float64{92, 116, 104}
			default:
				d := float64(y-horizon) / float64(h-horizon)
				wave := 16 * math.Sin(float64(y)*0.9/(0.15+d)+3*math.Sin(u*40*(1.2-d))+base) * (0.3 + d)
				c = [3]float64{78 - 18*d + wave, 104 - 16*d + wave, 104 - 8*d + wave*1.1}
			}
			// The wall runs from the right into the picture, in courses, over its reflection.
			slope := int(float64(x-wallLeft) * 0.16)
			if x > wallLeft && y > wallTop-slope/3 && y < horizon+h/12+slope {
				course := (y - wallTop) / max(6, h/70)
				joint := (x/max(10, w/48) + course%2) % 2
				stone := 96 + float64((course*37+x/max(10, w/48)*53)%34) + 6*float64(joint)
				wet := 0.0
				if y > horizon+slope/2 {
					wet = 34
				}
				c = [3]float64{stone - wet, stone - 4 - wet, stone - 14 - wet*0.9}
				if (x-wallLeft)%max(40, w/14) < max(6, w/120) {
					c = [3]float64{62 - wet/3, 48 - wet/3, 38 - wet/3}
				}
			}
			grain := r.NormFloat64() * 7
			img.SetRGBA(x, y, color.RGBA{clamp(c[0] + grain), clamp(c[1] + grain), clamp(c[2] + grain), 255})
		}
	}
	return encode(img, dpi)
}

// encode writes a JPEG that states its resolution.
func encode(img image.Image, dpi int) []byte {
	var b bytes.Buffer
	_ = jpeg.Encode(&b, img, &jpeg.Options{Quality: 91}) // a bytes.Buffer does not fail
	jfif := []byte{0xff, 0xd8, 0xff, 0xe0, 0, 16, 'J', 'F', 'I', 'F', 0, 1, 2, 1, 0, 0, 0, 0, 0, 0}
	binary.BigEndian.PutUint16(jfif[14:], uint16(dpi))
	binary.BigEndian.PutUint16(jfif[16:], uint16(dpi))
	return append(jfif, b.Bytes()[2:]...)
}

func photoKnuckle() (File, error) {
	return File{"Knuckle at low water.jpg", scene(2400, 1600, 11, 240)}, nil
}

func photoRamp() (File, error) {
	return File{"Ferry ramp from the east.jpg", scene(2100, 1400, 23, 240)}, nil
}

// photoUpright is held upright: its rows are stored sideways and its EXIF data says so.
func photoUpright() (File, error) {
	upright, err := jpeg.Decode(bytes.NewReader(scene(1300, 1950, 31, 240)))
	if err != nil {
		return File{}, err
	}
	b := upright.Bounds()
	side := image.NewRGBA(image.Rect(0, 0, b.Dy(), b.Dx()))
	for y := range b.Dy() { // orientation 6: the first row is the right side
		for x := range b.Dx() {
			side.Set(y, b.Dx()-1-x, upright.At(x, y))
		}
	}
	data := encode(side, 240)
	exif := []byte("\xff\xe1\x00\x22Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00\x06\x00\x00\x00\x00\x00\x00")
	return File{"Ladder 14.jpg", append(append(append([]byte{}, data[:20]...), exif...), data[20:]...)}, nil
}

// harbourMark is the Trust's mark as a PNG with a transparent ground.
func harbourMark() (File, error) {
	const n = 480
	img := image.NewNRGBA(image.Rect(0, 0, n, n))
	moss := color.NRGBA{47, 97, 73, 255}
	for y := range n {
		for x := range n {
			dx, dy := float64(x-n/2), float64(y-n/2)
			d := math.Hypot(dx, dy)
			ring := 1 - min(1, max(0, math.Abs(d-210)-14))
			wave := float64(y) - (n*0.62 + 16*math.Sin(float64(x)/26))
			water := 0.0
			if d < 196 && wave > 0 && int(wave)/26%2 == 0 {
				water = 1
			}
			quay := 0.0
			if d < 196 && y > 170 && y < 230 && x < n/2+60 {
				quay = 1
			}
			c := moss
			c.A = uint8(255 * max(ring, water, quay))
			img.SetNRGBA(x, y, c)
		}
	}
	var b bytes.Buffer
	err := png.Encode(&b, img)
	return File{"Trust mark.png", b.Bytes()}, err
}

// scan draws a typed and signed sheet on grey paper at 150 dpi, turned by 1.3 degrees.
func scan() []byte {
	const w, h = 1240, 1754
	flat := image.NewGray(image.Rect(0, 0, w, h))
	for i := range flat.Pix {
		flat.Pix[i] = 238
	}
	write := func(size float64, x, y int, text string) {
		f, err := opentype.Parse(liberationserifregular.TTF)
		if err != nil {
			return
		}
		face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: 150})
		if err != nil {
			return
		}
		d := xfont.Drawer{Dst: flat, Src: image.NewUniform(color.Gray{44}), Face: face, Dot: fixed.P(x, y)}
		d.DrawString(text)
	}
	write(18, 150, 230, "Mooring licence")
	write(11, 150, 290, House)
	for i, l := range []string{
		"This licence lets the vessel named below lie at the berth named below, from", "1 October 2026 to 31 March 2027, under the byelaws of the Trust.", "",
		"Vessel:   Grey Heron, 9.4 m, drawing 1.6 m", "Berth:    North 3", "Holder:   M. Ferrier, 6 Netlofts, Orrin Quay", "",
		"The holder doubles the lines from 1 December on, keeps the bilge dry, and", "moves the vessel within two tides when the harbour master asks for it.", "",
		"Shore power is read on the first of each month. The holder has received a", "key to the water point and a copy of the byelaws.",
	} {
		write(12, 150, 400+i*46, l)
	}
	write(12, 150, 1250, "Orrin Quay, 28 September 2026")
	sign := func(x0, y0 float64, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 5))
		a, b := 2+r.Float64()*2, 3+r.Float64()*2
		for t := 0.0; t < 1; t += 0.0004 {
			x, y := x0+t*300+24*math.Sin(t*20*a), y0+34*math.Sin(t*9*b)*(1-t*0.6)-20*t
			for dy := -1.5; dy <= 1.5; dy++ {
				flat.SetGray(int(x), int(y+dy), color.Gray{60})
				flat.SetGray(int(x)+1, int(y+dy), color.Gray{60})
			}
		}
	}
	sign(170, 1390, 3)
	sign(720, 1380, 8)
	write(9, 150, 1450, "for the Trust")
	write(9, 700, 1450, "holder")
	out := image.NewGray(flat.Bounds())
	r := rand.New(rand.NewPCG(5, 5))
	sin, cos := math.Sincos(1.3 * math.Pi / 180)
	for y := range h {
		for x := range w {
			dx, dy := float64(x-w/2), float64(y-h/2)
			sx, sy := cos*dx+sin*dy+w/2, -sin*dx+cos*dy+h/2
			v := 205.0
			if sx > 4 && sy > 4 && sx < w-5 && sy < h-5 {
				fx, fy := sx-math.Floor(sx), sy-math.Floor(sy)
				at := func(i, j int) float64 { return float64(flat.GrayAt(int(sx)+i, int(sy)+j).Y) }
				v = (at(0, 0)*(1-fx)+at(1, 0)*fx)*(1-fy) + (at(0, 1)*(1-fx)+at(1, 1)*fx)*fy
			}
			out.SetGray(x, y, color.Gray{uint8(max(0, min(255, v+r.NormFloat64()*4)))})
		}
	}
	return encode(out, 150)
}
