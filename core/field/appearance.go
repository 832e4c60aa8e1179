package field

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"

	"glenrain/core/font"
	"glenrain/core/pdf"
)

// Flags of fields (12.7.5, tables 228, 229, 231, 233).
const (
	flagMultiline = 1 << 12
	flagPassword  = 1 << 13
	flagComb      = 1 << 24
	flagRadio     = 1 << 15
	flagPush      = 1 << 16
	flagCombo     = 1 << 17
)

// dresser draws widgets whose appearance is missing or left to programs (12.7.4.3).
type dresser struct {
	doc   *pdf.Document
	form  *pdf.Dict
	again bool // also text that has an appearance which shows none of its value
	fonts map[string]*font.Font
	sans  *font.Embedding // for letters that the field's own font has not
}

// mostText is how many letters of a value are drawn.
const mostText = 20_000

// dress gives a widget an appearance where it needs one, and tells whether it did.
func (d *dresser) dress(r pdf.Ref) bool {
	w := d.doc.Dict(r)
	rect, ok := d.doc.Rect(w.Get("Rect"))
	if d.doc.Name(w.Get("Subtype")) != "Widget" || !ok || rect.W() <= 0 || rect.H() <= 0 || rect.W() > 1e5 || rect.H() > 1e5 {
		return false
	}
	normal := d.doc.Resolve(d.doc.Dict(w.Get("AP")).Get("N"))
	flags, _ := pdf.Number(inherited(d.doc, r, "Ff"))
	b := box{doc: d.doc, w: rect.W(), h: rect.H(), flags: int(flags), look: d.doc.Dict(w.Get("MK"))}
	b.read(w)
	switch d.doc.Name(inherited(d.doc, r, "FT")) {
	case "Tx", "Ch":
		value := d.value(r)
		if normal != nil && !(d.again && value != "" && !showsText(d.doc, normal)) {
			return false
		}
		if options, _ := d.options(r); value == "" && len(options) == 0 && b.plain() {
			return false
		}
		d.put(r, &b, d.text(r, &b, value))
	case "Btn":
		if normal != nil {
			return false
		}
		if b.flags&flagPush != 0 {
			caption, _ := d.doc.Resolve(b.look.Get("CA")).(pdf.String)
			if caption == "" && b.plain() {
				return false
			}
			b.centred = true
			d.put(r, &b, d.text(r, &b, pdf.Text(caption)))
			return true
		}
		d.button(r, &b)
	default:
		return false
	}
	return true
}

// finish writes the font that was embedded, if one was.
func (d *dresser) finish() {
	if d.sans != nil {
		d.sans.Finish(d.doc)
	}
}

// value gives what a text or choice field shows, lines parted by \n.
func (d *dresser) value(r pdf.Ref) string {
	var s string
	switch v := inherited(d.doc, r, "V").(type) {
	case pdf.String:
		s = pdf.Text(v)
	case pdf.Array:
		var all []string
		for _, o := range v {
			if t, ok := d.doc.Resolve(o).(pdf.String); ok {
				all = append(all, pdf.Text(t))
			}
		}
		s = strings.Join(all, "\n")
	case *pdf.Stream:
		if data, rest, err := d.doc.DecodeMost(v, 1<<20); err == nil && len(rest) == 0 {
			s = pdf.Text(pdf.String(data))
		}
	}
	options, _ := inherited(d.doc, r, "Opt").(pdf.Array)
	for _, o := range options { // what is chosen may be called otherwise
		pair := d.doc.Array(o)
		if len(pair) != 2 {
			continue
		}
		export, _ := d.doc.Resolve(pair[0]).(pdf.String)
		if shown, ok := d.doc.Resolve(pair[1]).(pdf.String); ok && pdf.Text(export) == s {
			s = pdf.Text(shown)
			break
		}
	}
	s = strings.NewReplacer("\r\n", "\n", "\r", "\n", "\t", " ").Replace(s)
	if runes := []rune(s); len(runes) > mostText {
		s = string(runes[:mostText])
	}
	return s
}

// mostOptions is how many options of a list are drawn.
const mostOptions = 500

// options gives what a list shows from its first visible one on (12.7.5.4, table 234), and which are chosen; nothing for fields that are no lists.
func (d *dresser) options(r pdf.Ref) (shown []string, chosen map[int]bool) {
	flags, _ := pdf.Number(inherited(d.doc, r, "Ff"))
	if d.doc.Name(inherited(d.doc, r, "FT")) != "Ch" || int(flags)&flagCombo != 0 {
		return nil, nil
	}
	values := map[string]bool{}
	switch v := inherited(d.doc, r, "V").(type) {
	case pdf.String:
		values[pdf.Text(v)] = true
	case pdf.Array:
		for _, o := range v {
			if t, ok := d.doc.Resolve(o).(pdf.String); ok {
				values[pdf.Text(t)] = true
			}
		}
	}
	top, _ := pdf.Number(inherited(d.doc, r, "TI"))
	options, _ := inherited(d.doc, r, "Opt").(pdf.Array)
	chosen = map[int]bool{}
	for i, o := range options {
		if i < int(top) || len(shown) >= mostOptions {
			continue
		}
		export, _ := d.doc.Resolve(o).(pdf.String)
		name := export
		if pair := d.doc.Array(o); len(pair) == 2 {
			export, _ = d.doc.Resolve(pair[0]).(pdf.String)
			name, _ = d.doc.Resolve(pair[1]).(pdf.String)
		}
		if values[pdf.Text(export)] {
			chosen[len(shown)] = true
		}
		shown = append(shown, strings.ReplaceAll(pdf.Text(name), "\n", " "))
	}
	return shown, chosen
}

// showsText reports whether an appearance shows any text.
func showsText(doc *pdf.Document, normal pdf.Object) bool {
	s, ok := normal.(*pdf.Stream)
	if !ok {
		return true
	}
	data, _, err := doc.DecodeMost(s, 1<<20)
	return err != nil || showRE.Match(data)
}

var showRE = regexp.MustCompile(`[)\]>]\s*T[jJ]|['"]\s`)

// box is where a widget is drawn: its own space, upright, and what is around it.
type box struct {
	doc     *pdf.Document
	w, h    float64
	turn    int // degrees, counterclockwise
	border  float64
	flags   int
	look    *pdf.Dict // MK: its colours (12.5.6.19)
	centred bool
}

func (b *box) read(w *pdf.Dict) {
	b.border = 1
	if n, ok := pdf.Number(b.doc.Resolve(b.doc.Dict(w.Get("BS")).Get("W"))); ok && n >= 0 && n < 100 {
		b.border = n
	} else if a := b.doc.Array(w.Get("Border")); len(a) >= 3 {
		if n, ok := pdf.Number(b.doc.Resolve(a[2])); ok && n >= 0 && n < 100 {
			b.border = n
		}
	}
	if n, ok := pdf.Number(b.doc.Resolve(b.look.Get("R"))); ok {
		b.turn = ((int(n)/90*90)%360 + 360) % 360
	}
	if b.turn%180 != 0 {
		b.w, b.h = b.h, b.w
	}
}

// plain reports whether nothing is drawn but the value.
func (b *box) plain() bool {
	return len(b.doc.Array(b.look.Get("BG"))) == 0 && (len(b.doc.Array(b.look.Get("BC"))) == 0 || b.border == 0)
}

// paint writes a colour of MK as operators; "" where there is none.
func (b *box) paint(key pdf.Name, operators [3]string) string {
	a := b.doc.Array(b.look.Get(key))
	i := map[int]int{1: 0, 3: 1, 4: 2}[len(a)]
	if len(a) == 0 || i == 0 && len(a) != 1 {
		return ""
	}
	var s strings.Builder
	for _, o := range a {
		n, _ := pdf.Number(b.doc.Resolve(o))
		s.WriteString(pdf.Decimal(n) + " ")
	}
	return s.String() + operators[i] + "\n"
}

// ground draws the background and the border.
func (b *box) ground() string {
	var s strings.Builder
	if c := b.paint("BG", [3]string{"g", "rg", "k"}); c != "" {
		fmt.Fprintf(&s, "%s0 0 %s %s re f\n", c, pdf.Decimal(b.w), pdf.Decimal(b.h))
	}
	if c := b.paint("BC", [3]string{"G", "RG", "K"}); c != "" && b.border > 0 {
		half := b.border / 2
		fmt.Fprintf(&s, "%s%s w %s %s %s %s re S\n", c, pdf.Decimal(b.border), pdf.Decimal(half), pdf.Decimal(half),
			pdf.Decimal(max(0, b.w-b.border)), pdf.Decimal(max(0, b.h-b.border)))
	}
	return s.String()
}

// form makes a form XObject of what is drawn in the box.
func (b *box) form(content string, resources *pdf.Dict) pdf.Ref {
	if resources == nil {
		resources = pdf.NewDict()
	}
	d := pdf.NewDict("Type", pdf.Name("XObject"), "Subtype", pdf.Name("Form"), "BBox", pdf.Rect{X1: b.w, Y1: b.h}.Array(), "Resources", resources)
	switch b.turn {
	case 90:
		d.Set("Matrix", matrix(0, 1, -1, 0, b.h, 0))
	case 180:
		d.Set("Matrix", matrix(-1, 0, 0, -1, b.w, b.h))
	case 270:
		d.Set("Matrix", matrix(0, -1, 1, 0, 0, b.w))
	}
	return b.doc.Add(pdf.NewFlateStream(d, []byte(content)))
}

func matrix(v ...float64) (a pdf.Array) {
	for _, n := range v {
		a = append(a, pdf.Real(n))
	}
	return
}

func (d *dresser) put(r pdf.Ref, b *box, drawn drawnText) {
	w := d.doc.Edit(r)
	ap := d.doc.Dict(w.Get("AP")).Clone()
	ap.Set("N", b.form(b.ground()+drawn.content, drawn.resources))
	w.Set("AP", ap)
}

// drawnText is text as operators, with what they need.
type drawnText struct {
	content   string
	resources *pdf.Dict
}

// setter sets text in one font: its codes and widths in em.
type setter struct {
	name  string
	codes func(s string) ([]byte, float64)
	up    float64 // of capitals
	ref   pdf.Object
}

// setter gives the field's own font where it has all the letters, else one that is embedded.
func (d *dresser) setter(name, text string) setter {
	ref := d.doc.Dict(d.doc.Dict(d.form.Get("DR")).Get("Font")).Get(pdf.Name(name))
	if d.fonts == nil {
		d.fonts = map[string]*font.Font{}
	}
	f := d.fonts[name]
	if f == nil && d.doc.Dict(ref) != nil {
		f = font.Read(d.doc, ref)
		d.fonts[name] = f
	}
	own := f != nil
	for _, c := range text {
		if own && c != '\n' {
			_, own = f.CodeOf(string(c))
		}
	}
	if own {
		return setter{name: name, ref: ref, up: 0.7, codes: func(s string) (b []byte, w float64) {
			for _, c := range s {
				code, _ := f.CodeOf(string(c))
				b = code.Append(b)
				char, _ := f.Next(code.Append(nil))
				w += char.Width
			}
			return
		}}
	}
	if d.sans == nil {
		face, err := font.Face("Sans")
		if err != nil {
			return setter{name: "F", codes: func(string) ([]byte, float64) { return nil, 0 }}
		}
		d.sans = font.Embed(d.doc, face)
	}
	return setter{name: "F", ref: d.sans.Ref(), up: 0.7, codes: func(s string) ([]byte, float64) {
		codes, w, _ := d.sans.Encode(s)
		return codes, w / 1000
	}}
}

// text draws a value as the field's default appearance says.
func (d *dresser) text(r pdf.Ref, b *box, value string) drawnText {
	options, chosen := d.options(r)
	if value == "" && len(options) == 0 {
		return drawnText{}
	}
	if b.flags&flagPassword != 0 && d.doc.Name(inherited(d.doc, r, "FT")) == "Tx" {
		value = strings.Repeat("*", len([]rune(value)))
	}
	da, _ := inherited(d.doc, r, "DA").(pdf.String)
	if da == "" {
		da, _ = d.doc.Resolve(d.form.Get("DA")).(pdf.String)
	}
	name, size := "Helv", 0.0
	colour := "0 g"
	if m := daFont.FindStringSubmatch(string(da)); m != nil {
		name = m[1]
		size, _ = strconv.ParseFloat(m[2], 64)
	}
	if c := colourRE.FindString(string(da)); c != "" {
		colour = c
	}
	letters := value
	if len(options) > 0 {
		letters = strings.Join(options, "\n")
	}
	set := d.setter(name, letters)
	pad := 2 * max(1, b.border)
	width, height := max(1, b.w-2*pad), max(1, b.h-2*b.border)
	many := b.flags&flagMultiline != 0 || d.doc.Name(inherited(d.doc, r, "FT")) == "Ch" && b.flags&flagCombo == 0
	if !many {
		value = strings.ReplaceAll(value, "\n", " ")
	}
	if size <= 0 || size > 1000 || math.IsNaN(size) {
		size = d.fit(set, value, width, height, many)
	}
	lines := strings.Split(value, "\n")
	if many {
		lines = wrap(set, value, width, size)
	}
	q, _ := pdf.Number(inherited(d.doc, r, "Q"))
	var s strings.Builder
	fmt.Fprintf(&s, "/Tx BMC\nq\n%s %s %s %s re W n\nBT\n%s\n/%s %s Tf\n", pdf.Decimal(b.border), pdf.Decimal(b.border),
		pdf.Decimal(max(0, b.w-2*b.border)), pdf.Decimal(max(0, b.h-2*b.border)), colour, set.name, pdf.Decimal(size))
	y := (b.h - set.up*size) / 2
	if many {
		y = b.h - pad - 0.9*size
	}
	most, _ := pdf.Number(inherited(d.doc, r, "MaxLen"))
	if b.flags&flagComb != 0 && !many && most >= 1 && most <= 1000 {
		cell := b.w / most
		for i, c := range []rune(value) {
			codes, w := set.codes(string(c))
			fmt.Fprintf(&s, "1 0 0 1 %s %s Tm %s Tj\n", pdf.Decimal(cell*(float64(i)+0.5)-w*size/2), pdf.Decimal(y), pdf.AppendObject(nil, pdf.String(codes)))
		}
		lines = nil
	}
	if len(options) > 0 {
		lines = options
	}
	for i, l := range lines {
		codes, w := set.codes(l)
		if chosen[i] { // as selected text is shown
			fmt.Fprintf(&s, "ET 0.6 0.75 0.86 rg %s %s %s %s re f %s BT /%s %s Tf\n", pdf.Decimal(b.border), pdf.Decimal(y-0.25*size),
				pdf.Decimal(max(0, b.w-2*b.border)), pdf.Decimal(1.15*size), colour, set.name, pdf.Decimal(size))
		}
		x := pad
		switch {
		case b.centred || q == 1:
			x = (b.w - w*size) / 2
		case q == 2:
			x = b.w - pad - w*size
		}
		if len(codes) > 0 {
			fmt.Fprintf(&s, "1 0 0 1 %s %s Tm %s Tj\n", pdf.Decimal(x), pdf.Decimal(y), pdf.AppendObject(nil, pdf.String(codes)))
		}
		if y -= 1.15 * size; y < -size {
			break
		}
	}
	s.WriteString("ET\nQ\nEMC\n")
	res := pdf.NewDict()
	if set.ref != nil {
		res.Set("Font", pdf.NewDict(set.name, set.ref))
	}
	return drawnText{s.String(), res}
}

var colourRE = regexp.MustCompile(`(?:[0-9.]+\s+){1}g\b|(?:[0-9.]+\s+){3}rg\b|(?:[0-9.]+\s+){4}k\b`)

// fit chooses a size for a field that leaves it open: as large as the box allows, and no more than 12 points.
func (d *dresser) fit(set setter, value string, width, height float64, many bool) float64 {
	for size := 12.0; size > 4; size -= 0.5 {
		if many {
			if float64(len(wrap(set, value, width, size)))*1.15*size <= height {
				return size
			}
			continue
		}
		if _, w := set.codes(value); w*size <= width && size <= height {
			return size
		}
	}
	return 4
}

// wrap breaks a value into lines.
func wrap(set setter, value string, width, size float64) (lines []string) {
	for _, p := range strings.Split(value, "\n") {
		line, used := "", 0.0
		for _, word := range strings.SplitAfter(p, " ") {
			_, w := set.codes(word)
			if line != "" && (used+w)*size > width {
				lines = append(lines, line)
				line, used = "", 0
			}
			line += word
			used += w
		}
		lines = append(lines, line)
	}
	return
}

// button draws a check box or a radio button, on and off.
func (d *dresser) button(r pdf.Ref, b *box) {
	w := d.doc.Edit(r)
	on := d.doc.Name(w.Get("AS"))
	if on == "" || on == "Off" {
		on, _ = inherited(d.doc, r, "V").(pdf.Name)
	}
	if on == "" || on == "Off" {
		on = "Yes"
	}
	sign, _ := d.doc.Resolve(b.look.Get("CA")).(pdf.String)
	if sign == "" {
		sign = "4"
		if b.flags&flagRadio != 0 {
			sign = "l"
		}
	}
	w.Set("AP", pdf.NewDict("N", pdf.NewDict(on, b.form(b.ground()+mark(string(sign), b.w, b.h), nil), "Off", b.form(b.ground(), nil))))
	if !w.Has("AS") {
		w.Set("AS", pdf.Name("Off"))
		if v, _ := inherited(d.doc, r, "V").(pdf.Name); v == on {
			w.Set("AS", on)
		}
	}
}

// mark draws the sign of a button that is on, by its code in ZapfDingbats: 4 a tick, l a disc, 8 a cross, u a diamond, n a square, H a star.
func mark(sign string, w, h float64) string {
	side := 0.6 * min(w, h)
	x0, y0 := (w-side)/2, (h-side)/2
	at := func(x, y float64) string { return pdf.Decimal(x0+x*side) + " " + pdf.Decimal(y0+y*side) }
	poly := func(points ...float64) string {
		var s strings.Builder
		for i := 0; i < len(points); i += 2 {
			op := " l "
			if i == 0 {
				op = " m "
			}
			s.WriteString(at(points[i], points[i+1]) + op)
		}
		return s.String()
	}
	switch sign {
	case "l":
		const k = 0.2761 // of the diameter: four Bézier curves that make a circle
		return "0 g " + at(1, 0.5) + " m " + at(1, 0.5+k) + " " + at(0.5+k, 1) + " " + at(0.5, 1) + " c " + at(0.5-k, 1) + " " + at(0, 0.5+k) + " " + at(0, 0.5) + " c " +
			at(0, 0.5-k) + " " + at(0.5-k, 0) + " " + at(0.5, 0) + " c " + at(0.5+k, 0) + " " + at(1, 0.5-k) + " " + at(1, 0.5) + " c f\n"
	case "8":
		return fmt.Sprintf("0 G %s w %sS %sS\n", pdf.Decimal(side/7), poly(0, 0, 1, 1), poly(0, 1, 1, 0))
	case "u":
		return "0 g " + poly(0.5, 0, 1, 0.5, 0.5, 1, 0, 0.5) + "f\n"
	case "n":
		return "0 g " + poly(0, 0, 1, 0, 1, 1, 0, 1) + "f\n"
	case "H":
		var points []float64
		for i := range 10 {
			radius := 0.5
			if i%2 == 1 {
				radius = 0.2
			}
			a := math.Pi/2 + float64(i)*math.Pi/5
			points = append(points, 0.5+radius*math.Cos(a), 0.5+radius*math.Sin(a))
		}
		return "0 g " + poly(points...) + "f\n"
	}
	return fmt.Sprintf("0 G %s w 1 j 1 J %sS\n", pdf.Decimal(side/7), poly(0, 0.5, 0.38, 0.1, 1, 0.95))
}
