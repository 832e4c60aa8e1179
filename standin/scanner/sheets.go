package scanner

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"sync"

	xfont "golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"

	"github.com/go-fonts/liberation/liberationsansbold"
	"github.com/go-fonts/liberation/liberationsansregular"
	"github.com/go-fonts/liberation/liberationserifregular"
)

// Of a sheet of A4, in points.
const (
	wide = 595.28
	high = 841.89
)

// Kinds are the sheets that can lie in the scanner.
var Kinds = []string{"letter", "form", "table", "photograph", "blank", "upside down"}

// Words are what a sheet of a kind says, line by line.
func Words(kind string) []string { return sheets[kind] }

var sheets = map[string][]string{
	"letter": {
		"Orrin Quay Harbour Trust", "To the holders of winter berths", "",
		"The north berth is dredged between 11 January and 5 February 2027.", "Vessels at berths 4 to 9 stay where they are; those further in",
		"move to the south quay before the end of the year. The harbour", "office finds a place for each, and tells you by post.", "",
		"Shore power and water go on as usual. While the grab is at work", "the channel is closed at night, from six in the evening on.", "",
		"If you want to be away during that time, please say so by the", "first of December: your berth is kept for you.", "", "Isla Merrow, harbour master",
	},
	"form": {
		"Application for a winter berth", "", "Name of the vessel:   Grey Heron", "Length over all:   9.40 m", "Draught:   1.60 m", "Owner:   M. Ferrier", "Address:   6 Netlofts, Orrin Quay", "",
		"Berth wanted from:   1 October 2026", "to:   31 March 2027", "Shore power:   yes", "", "Orrin Quay, 28 September 2026",
	},
	"table": {
		"Soundings of the north berth", "", "Station|Charted|Sounded|Change", "1|4.00|3.55|0.45", "2|4.40|4.06|0.34", "3|3.30|3.20|0.10", "4|3.80|3.74|0.06", "5|3.30|3.09|0.21", "6|3.90|3.70|0.20", "7|3.70|3.42|0.28",
	},
	"upside down": {
		"Minutes of the berths committee", "", "The committee met in the old customs house on Wednesday,", "7 October 2026, at half past six. All members were there.", "",
		"The offer for the dredging was read and accepted. A fifth of the", "price is paid when the work begins.", "", "The next meeting is on 11 November.",
	},
}

var faces = sync.OnceValue(func() map[string]*opentype.Font {
	out := map[string]*opentype.Font{}
	for name, ttf := range map[string][]byte{"serif": liberationserifregular.TTF, "sans": liberationsansregular.TTF, "bold": liberationsansbold.TTF} {
		if f, err := opentype.Parse(ttf); err == nil {
			out[name] = f
		}
	}
	return out
})

// draw draws a sheet as it was printed.
func draw(kind string, n int, dpi float64) *image.RGBA {
	s := dpi / 72
	img := image.NewRGBA(image.Rect(0, 0, int(wide*s+0.5), int(high*s+0.5)))
	for i := range img.Pix {
		img.Pix[i] = 251
	}
	ink := color.RGBA{34, 36, 44, 255}
	write := func(face string, size, x, y float64, text string) {
		f := faces()[face]
		if f == nil {
			return
		}
		ff, err := opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: dpi, Hinting: xfont.HintingNone})
		if err != nil {
			return
		}
		defer ff.Close()
		d := xfont.Drawer{Dst: img, Src: image.NewUniform(ink), Face: ff, Dot: fixed.Point26_6{X: fixed.Int26_6(x * s * 64), Y: fixed.Int26_6(y * s * 64)}}
		d.DrawString(text)
	}
	rule := func(x0, y0, x1 float64) {
		for x := int(x0 * s); x < int(x1*s); x++ {
			for y := int(y0 * s); y < int(y0*s)+max(1, int(s*0.6)); y++ {
				img.SetRGBA(x, y, color.RGBA{120, 124, 130, 255})
			}
		}
	}
	switch kind {
	case "blank":
	case "photograph":
		b := img.Bounds()
		x0, y0, x1, y1 := int(60*s), int(90*s), int((wide-60)*s), int(560*s)
		for y := y0; y < min(y1, b.Max.Y); y++ {
			for x := x0; x < min(x1, b.Max.X); x++ {
				u, v := float64(x-x0)/float64(x1-x0), float64(y-y0)/float64(y1-y0)
				sky := 1 - v
				wave := 0.5 + 0.5*math.Sin(u*40+v*v*120+math.Sin(u*9)*3)
				c := color.RGBA{uint8(90 + 110*sky), uint8(120 + 90*sky), uint8(130 + 100*sky), 255}
				if v > 0.55 {
					c = color.RGBA{uint8(40 + 40*wave), uint8(70 + 50*wave), uint8(80 + 50*wave), 255}
				}
				if quay := 0.62 - 0.2*u; v > quay && v < quay+0.12 {
					c = color.RGBA{96, 92, 88, 255}
				}
				img.SetRGBA(x, y, c)
			}
		}
		write("sans", 10, 60, 585, "The ferry ramp at low water, seen from the east")
	default:
		y := 96.0
		for i, l := range sheets[kind] {
			face, size := "serif", 12.0
			if i == 0 {
				face, size = "bold", 17
			}
			if kind == "table" && i > 1 {
				x := 70.0
				face = "sans"
				if i == 2 {
					face = "bold"
				}
				for cell := range splitSeq(l) {
					write(face, 11, x, y, cell)
					x += 115
				}
				rule(64, y+6, 530)
				y += 24
				continue
			}
			write(face, size, 70, y, l)
			if kind == "form" && i > 1 && l != "" {
				rule(70, y+5, 420)
			}
			y += 21
			if i == 0 {
				y += 8
			}
		}
		write("sans", 8, wide-110, high-40, fmt.Sprintf("sheet %d", n))
	}
	return img
}

func splitSeq(s string) func(func(string) bool) {
	return func(yield func(string) bool) {
		from := 0
		for i := 0; i <= len(s); i++ {
			if i == len(s) || s[i] == '|' {
				if !yield(s[from:i]) {
					return
				}
				from = i + 1
			}
		}
	}
}

// seen gives what the scanner sees of a sheet: askew by an angle of its own, in the shadow of the lid, with noise and a fold.
func seen(img *image.RGBA, askew, lid, fold float64, upside bool, seed uint64) *image.RGBA {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	out := image.NewRGBA(img.Rect)
	sin, cos := math.Sincos(askew * math.Pi / 180)
	cx, cy := float64(w-1)/2, float64(h-1)/2
	state := seed*2862933555777941757 + 3037000493
	edge := lid / 100 * float64(w)
	for y := range h {
		to := out.Pix[y*out.Stride:]
		for x := range w {
			rx, ry := float64(x)-cx, float64(y)-cy
			sx, sy := cx+cos*rx-sin*ry, cy+sin*rx+cos*ry
			if upside {
				sx, sy = float64(w-1)-sx, float64(h-1)-sy
			}
			k := 1.0
			if fold > 0 {
				if d := math.Abs(float64(y) - fold*float64(h) - 0.012*float64(x)); d < float64(h)/400 {
					k = 0.84
				}
			}
			if edge > 0 {
				if d := float64(x); d < edge {
					k = min(k, 0.2+0.3*d/edge)
				}
				if d := float64(y); d < edge*0.6 {
					k = min(k, 0.15+0.4*d/edge)
				}
			}
			state ^= state << 13
			state ^= state >> 7
			state ^= state << 17
			noise := float64(state>>40%13) - 6
			inside := sx >= 0 && sy >= 0 && sx < float64(w-1) && sy < float64(h-1)
			ix, iy := int(sx), int(sy)
			ax, ay := sx-float64(ix), sy-float64(iy)
			for c := range 3 {
				v := 236.0
				if inside {
					p := iy*img.Stride + 4*ix + c
					top := float64(img.Pix[p])*(1-ax) + float64(img.Pix[p+4])*ax
					low := float64(img.Pix[p+img.Stride])*(1-ax) + float64(img.Pix[p+img.Stride+4])*ax
					v = top*(1-ay) + low*ay
				}
				to[4*x+c] = uint8(max(0, min(255, v*k+noise*0.5+0.5)))
			}
			to[4*x+3] = 255
		}
	}
	return out
}
