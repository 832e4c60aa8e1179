package draw

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"glenrain/core/content"
	"glenrain/core/pdf"
)

// keyInvisible is on the stream of an invisible layer: what is noted of it.
const keyInvisible = pdf.Name("GLRN_Unseen")

// entryInvisible is where the private dictionary keeps the font of invisible text.
const entryInvisible = pdf.Name("Unseen")

// InvisibleWord is a word of an invisible line: where its baseline begins, in the page's default user space, and how long it is along the line.
type InvisibleWord struct {
	Text string
	X, Y float64
	Long float64
}

// InvisibleLine is a line of words, in reading order.
type InvisibleLine struct {
	Size  float64 // of the type, in units of the page's default user space
	Angle float64 // degrees counterclockwise that it climbs by in default user space
	Words []InvisibleWord
}

// Invisible is a layer of text that is found and copied but not seen (text rendering mode 3; ISO 32000-2, 9.3.6), over a picture of it.
type Invisible struct {
	Lines []InvisibleLine
	Note  string // kept with it, for whoever made it
}

// Words counts the words.
func (u *Invisible) Words() (n int) {
	for i := range u.Lines {
		n += len(u.Lines[i].Words)
	}
	return n
}

// Widths of the font without outlines, in thousandths of its size: those of letters from space to tilde are as in most sans-serif faces, so that words of
// usual type need little stretching; all others are as wide as a figure.
var invisibleWidths = [95]int{278, 278, 355, 556, 556, 889, 667, 191, 333, 333, 389, 584, 278, 333, 278, 278, 556, 556, 556, 556, 556, 556, 556, 556, 556, 556, 278, 278, 584, 584,
	584, 556, 1015, 667, 667, 722, 722, 667, 611, 778, 722, 278, 500, 667, 556, 833, 722, 778, 667, 778, 722, 667, 611, 722, 667, 944, 667, 667, 611, 278, 278, 278, 469, 556, 333,
	556, 556, 500, 556, 556, 278, 556, 556, 222, 222, 500, 222, 833, 556, 556, 556, 556, 333, 500, 278, 556, 500, 722, 500, 500, 500, 334, 260, 334, 584}

const (
	invisibleOther = 556
	invisibleUp    = 905 // ascent and descent of the letters, as most faces have them
	invisibleDown  = -212
	mostStretch    = 400 // hundredths
)

func invisibleWidth(u uint16) int {
	if u >= 32 && int(u) < 32+len(invisibleWidths) {
		return invisibleWidths[u-32]
	}
	return invisibleOther
}

// codes gives the two-byte codes of a text: its UTF-16. What lies beyond the first plane has no code of its own.
func codes(s string) (out []uint16) {
	for _, r := range s {
		if r >= 0x10000 || utf16.IsSurrogate(r) {
			r = 0xfffd
		}
		if r < 32 {
			r = ' '
		}
		out = append(out, uint16(r))
	}
	return out
}

func invisibleLong(c []uint16) (sum float64) {
	for _, u := range c {
		sum += float64(invisibleWidth(u))
	}
	return sum / 1000
}

// usualRows are the first bytes of the codes of Latin, Greek, Cyrillic, Hebrew and Arabic letters, of punctuation and signs. All 256 would cost a
// document more than the rest of the font.
var usualRows = []int{0x00, 0x01, 0x02, 0x03, 0x04, 0x05, 0x06, 0x1e, 0x1f, 0x20, 0x21, 0x22, 0x25, 0xfb, 0xff}

func usual(u *Invisible) bool {
	for i := range u.Lines {
		for _, w := range u.Lines[i].Words {
			for _, c := range codes(w.Text) {
				if !slices.Contains(usualRows, int(c>>8)) {
					return false
				}
			}
		}
	}
	return true
}

// invisibleFont gives the document's font for invisible text; all asks that it says of every code which letter it is, not of usual ones alone.
func invisibleFont(doc *pdf.Document, all bool) (pdf.Ref, error) {
	rows := usualRows
	if all {
		rows = make([]int, 256)
		for i := range rows {
			rows[i] = i
		}
	}
	private := ReadPrivate(doc)
	if ref, ok := private.Get(entryInvisible).(pdf.Ref); ok && doc.Name(doc.Dict(ref).Get("Subtype")) == "Type0" {
		if had, _ := pdf.Number(doc.Resolve(private.Get(entryInvisible + "Rows"))); int(had) < len(rows) {
			own, err := Private(doc)
			if err != nil {
				return pdf.Ref{}, err
			}
			own.Set(entryInvisible+"Rows", pdf.Integer(len(rows)))
			doc.Edit(ref).Set("ToUnicode", doc.Add(pdf.NewFlateStream(nil, invisibleUnicode(rows))))
		}
		return ref, nil
	}
	n := len(invisibleWidths)
	file := doc.Add(pdf.NewFlateStream(pdf.NewDict("Length1", pdf.Integer(len(invisibleProgram()))), invisibleProgram()))
	glyphs := make([]byte, 0, 1<<17)
	for cid := range 1 << 16 {
		g := n + 1
		if cid >= 32 && cid < 32+n {
			g = cid - 31
		}
		glyphs = binary.BigEndian.AppendUint16(glyphs, uint16(g))
	}
	widths := make(pdf.Array, n)
	for i, w := range invisibleWidths {
		widths[i] = pdf.Integer(w)
	}
	name := pdf.Name("GLRNAA+Unseen")
	descriptor := doc.Add(pdf.NewDict("Type", pdf.Name("FontDescriptor"), "FontName", name, "Flags", pdf.Integer(4), "FontBBox",
		pdf.Array{pdf.Integer(0), pdf.Integer(invisibleDown), pdf.Integer(1015), pdf.Integer(invisibleUp)}, "ItalicAngle", pdf.Integer(0),
		"Ascent", pdf.Integer(invisibleUp), "Descent", pdf.Integer(invisibleDown), "CapHeight", pdf.Integer(716), "StemV", pdf.Integer(80), "FontFile2", file))
	cid := doc.Add(pdf.NewDict("Type", pdf.Name("Font"), "Subtype", pdf.Name("CIDFontType2"), "BaseFont", name,
		"CIDSystemInfo", pdf.NewDict("Registry", pdf.String("Adobe"), "Ordering", pdf.String("Identity"), "Supplement", pdf.Integer(0)),
		"FontDescriptor", descriptor, "DW", pdf.Integer(invisibleOther), "W", pdf.Array{pdf.Integer(32), widths}, "CIDToGIDMap", doc.Add(pdf.NewFlateStream(nil, glyphs))))
	font := doc.Add(pdf.NewDict("Type", pdf.Name("Font"), "Subtype", pdf.Name("Type0"), "BaseFont", name, "Encoding", pdf.Name("Identity-H"),
		"DescendantFonts", pdf.Array{cid}, "ToUnicode", doc.Add(pdf.NewFlateStream(nil, invisibleUnicode(rows)))))
	own, err := Private(doc)
	if err != nil {
		return pdf.Ref{}, err
	}
	own.Set(entryInvisible, font)
	own.Set(entryInvisible+"Rows", pdf.Integer(len(rows)))
	return font, nil
}

// invisibleUnicode maps codes to text (9.10.3): each is its own. A range stays within codes whose first byte is the same.
func invisibleUnicode(rows []int) []byte {
	var b bytes.Buffer
	b.WriteString("/CIDInit /ProcSet findresource begin\n12 dict begin\nbegincmap\n/CMapName /Unseen def\n/CMapType 2 def\n1 begincodespacerange\n<0000><FFFF>\nendcodespacerange\n")
	for part := range slices.Chunk(rows, 64) {
		fmt.Fprintf(&b, "%d beginbfrange\n", len(part))
		for _, i := range part {
			fmt.Fprintf(&b, "<%02X00><%02XFF><%02X00>\n", i, i, i)
		}
		b.WriteString("endbfrange\n")
	}
	b.WriteString("endcmap\nCMapName currentdict /CMap defineresource pop\nend\nend\n")
	return b.Bytes()
}

// invisibleProgram is a TrueType program of glyphs that draw nothing.
func invisibleProgram() []byte {
	n := len(invisibleWidths) + 2
	u16 := func(v ...int) (b []byte) {
		for _, x := range v {
			b = binary.BigEndian.AppendUint16(b, uint16(int16(x)))
		}
		return b
	}
	u32 := func(v ...uint32) (b []byte) {
		for _, x := range v {
			b = binary.BigEndian.AppendUint32(b, x)
		}
		return b
	}
	hmtx := u16(invisibleOther, 0)
	for _, w := range invisibleWidths {
		hmtx = append(hmtx, u16(w, 0)...)
	}
	hmtx = append(hmtx, u16(invisibleOther, 0)...)
	tables := []struct {
		tag  string
		data []byte
	}{
		{"cmap", slices.Concat(u16(0, 1, 3, 1), u32(12), u16(4, 32, 0, 4, 4, 1, 0), u16(126), u16(-1), u16(0), u16(32), u16(-1), u16(-31), u16(1), u16(0, 0))},
		{"glyf", []byte{0, 0, 0, 0}},
		{"head", slices.Concat(u32(0x00010000, 0x00010000, 0, 0x5F0F3CF5), u16(0, 1000), u32(0, 0, 0, 0), u16(0, invisibleDown, 1015, invisibleUp), u16(0, 8, 2, 0, 0))},
		{"hhea", slices.Concat(u32(0x00010000), u16(invisibleUp, invisibleDown, 0, 1015, 0, 0, 1015, 1, 0, 0, 0, 0, 0, 0, 0, n))},
		{"hmtx", hmtx},
		{"loca", make([]byte, 2*(n+1))},
		{"maxp", slices.Concat(u32(0x00010000), u16(n, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0))},
	}
	sum := func(b []byte) (s uint32) {
		for i := 0; i < len(b); i += 4 {
			var w [4]byte
			copy(w[:], b[i:])
			s += binary.BigEndian.Uint32(w[:])
		}
		return s
	}
	out := slices.Concat(u32(0x00010000), u16(len(tables), 64, 2, len(tables)*16-64))
	at := len(out) + 16*len(tables)
	var body []byte
	for _, t := range tables {
		out = append(out, t.tag...)
		out = append(out, u32(sum(t.data), uint32(at+len(body)), uint32(len(t.data)))...)
		body = append(body, t.data...)
		for len(body)%4 != 0 {
			body = append(body, 0)
		}
	}
	return append(out, body...)
}

// invisibleContent writes the operators of a layer; font is the name of its font among the page's resources.
func invisibleContent(u *Invisible, font pdf.Name) []byte {
	b := []byte("q BT 3 Tr ")
	num := func(v float64, places int) {
		s := strconv.FormatFloat(v, 'f', places, 64)
		if strings.Contains(s, ".") {
			s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
		}
		if s == "" || s == "-0" {
			s = "0"
		}
		s = strings.Replace(strings.Replace(s, "-0.", "-.", 1), "0.", ".", map[bool]int{true: 1}[strings.HasPrefix(s, "0.")])
		b = append(b, s...)
	}
	angle, size, stretch := math.NaN(), math.NaN(), math.NaN()
	var sin, cos, lx, ly float64 // where the line begins, along and across the direction
	for _, l := range u.Lines {
		if len(l.Words) == 0 {
			continue
		}
		if l.Angle != angle {
			angle = l.Angle
			sin, cos = math.Sincos(angle * math.Pi / 180)
			for _, v := range []float64{cos, sin, -sin, cos} {
				num(v, 5)
				b = append(b, ' ')
			}
			b = append(b, "0 0 Tm "...)
			// the matrix as it is read back: rounded
			lx, ly = 0, 0
		}
		if l.Size != size {
			size = l.Size
			b = append(b, '/')
			b = append(b, font...)
			b = append(b, ' ')
			num(size, 1)
			b = append(b, " Tf "...)
		}
		x, y := l.Words[0].X*cos+l.Words[0].Y*sin, -l.Words[0].X*sin+l.Words[0].Y*cos
		x, y = math.Round(x*10)/10, math.Round(y*10)/10
		num(x-lx, 1)
		b = append(b, ' ')
		num(y-ly, 1)
		b = append(b, " Td "...)
		lx, ly = x, y
		at := x
		for i, w := range l.Words {
			text := codes(w.Text)
			if len(text) == 0 {
				continue
			}
			wide := invisibleLong(text) * size
			tz := math.Round(max(1, min(mostStretch, 100*w.Long/max(0.01, wide))))
			if tz != stretch {
				stretch = tz
				num(tz, 0)
				b = append(b, " Tz"...)
			}
			want := w.X*cos + w.Y*sin
			off := math.Round(-(want - at) * 1000 / (size * tz / 100))
			last := i == len(l.Words)-1
			if !last {
				text = append(text, ' ')
			}
			raw := make([]byte, 0, 2*len(text))
			for _, c := range text {
				raw = binary.BigEndian.AppendUint16(raw, c)
			}
			if i > 0 && math.Abs(off) >= 12 {
				b = append(b, '[')
				num(off, 0)
				b = content.AppendString(b, raw)
				b = append(b, "]TJ "...)
				at -= off / 1000 * size * tz / 100
			} else {
				b = content.AppendString(b, raw)
				b = append(b, "Tj "...)
			}
			at += invisibleLong(text) * size * tz / 100
		}
	}
	return append(b, "ET Q"...)
}

// PutInvisible sets a layer over all that a page shows, in the place of the one that was set before. One without words takes that away.
func PutInvisible(doc *pdf.Document, page pdf.Ref, u *Invisible) error {
	if u.Words() == 0 {
		_, err := DropInvisible(doc, page)
		return err
	}
	font, err := invisibleFont(doc, !usual(u))
	if err != nil {
		return err
	}
	if _, err := fence(doc, page); err != nil {
		return err
	}
	fonts := ownResources(doc, page, "Font")
	name := pdf.Name("")
	for _, e := range fonts.Entries() {
		if e.Value == pdf.Object(font) {
			name = e.Key
		}
	}
	if name == "" {
		name = freeName(fonts, "U")
		fonts.Set(name, font)
	}
	stream := pdf.NewFlateStream(pdf.NewDict(keyInvisible, pdf.TextString(u.Note)), invisibleContent(u, name))
	list := slices.Clone(contents(doc, page))
	if at := invisibleAt(doc, list); at >= 0 {
		list[at] = doc.Add(stream)
	} else {
		list = append(list, doc.Add(stream))
	}
	doc.Edit(page).Set("Contents", list)
	return nil
}

// invisibleAt gives which of a page's streams is its invisible layer; -1 for none.
func invisibleAt(doc *pdf.Document, list pdf.Array) int {
	return slices.IndexFunc(list, func(o pdf.Object) bool {
		s := doc.Stream(o)
		return s != nil && s.Dict.Has(keyInvisible)
	})
}

// DropInvisible takes the invisible layer off a page, and reports whether it had one.
func DropInvisible(doc *pdf.Document, page pdf.Ref) (bool, error) {
	list := slices.Clone(contents(doc, page))
	at := invisibleAt(doc, list)
	if at < 0 {
		return false, nil
	}
	name := invisibleFontName(doc, page, list[at])
	list = slices.Delete(list, at, at+1)
	if !slices.ContainsFunc(list, func(o pdf.Object) bool { s := doc.Stream(o); return s != nil && s.Dict.Has(keyID) }) {
		list = slices.DeleteFunc(list, func(o pdf.Object) bool { return isFence(doc, o) })
	}
	p := doc.Edit(page)
	switch len(list) {
	case 0:
		p.Delete("Contents")
	case 1:
		p.Set("Contents", list[0])
	default:
		p.Set("Contents", list)
	}
	if name != "" {
		fonts := ownResources(doc, page, "Font")
		if fonts.Delete(name); fonts.Len() == 0 {
			doc.Dict(p.Get("Resources")).Delete("Font")
		}
	}
	return true, nil
}

// invisibleFontName gives the name of the font that a layer is set in, where only the layer uses it.
func invisibleFontName(doc *pdf.Document, page pdf.Ref, stream pdf.Object) pdf.Name {
	data, _, err := doc.DecodeMost(doc.Stream(stream), pdf.MaxContent)
	if err != nil {
		return ""
	}
	s := content.Scanner{Data: data}
	var o content.Op
	for s.Next(&o) {
		if o.Code.String() == "Tf" && len(o.Args) == 2 {
			return pdf.Name(o.Args[0].Bytes)
		}
	}
	return ""
}

// ReadInvisible gives the invisible layer of a page as PutInvisible set it; ok is false where it has none, or one that was changed by others.
func ReadInvisible(doc *pdf.Document, page pdf.Ref) (u *Invisible, ok bool) {
	list := contents(doc, page)
	at := invisibleAt(doc, list)
	if at < 0 {
		return nil, false
	}
	stream := doc.Stream(list[at])
	data, rest, err := doc.DecodeMost(stream, pdf.MaxContent)
	if err != nil || len(rest) > 0 {
		return nil, false
	}
	note, _ := doc.Resolve(stream.Dict.Get(keyInvisible)).(pdf.String)
	u = &Invisible{Note: pdf.Text(note)}
	s := content.Scanner{Data: data}
	var o content.Op
	var line *InvisibleLine
	angle, size, stretch := 0.0, 0.0, 100.0
	var sin, cos, lx, ly, x float64 = 0, 1, 0, 0, 0
	show := func(raw []byte) {
		if line == nil || len(raw)%2 != 0 {
			ok = false
			return
		}
		c := make([]uint16, len(raw)/2)
		for i := range c {
			c[i] = binary.BigEndian.Uint16(raw[2*i:])
		}
		whole := invisibleLong(c) * size * stretch / 100
		for len(c) > 0 && c[len(c)-1] == ' ' {
			c = c[:len(c)-1]
		}
		line.Words = append(line.Words, InvisibleWord{Text: string(utf16.Decode(c)), X: x*cos - ly*sin, Y: x*sin + ly*cos, Long: invisibleLong(c) * size * stretch / 100})
		x += whole
	}
	ok = true
	for s.Next(&o) && ok {
		n := func(i int) float64 {
			if i < len(o.Args) {
				return o.Args[i].Num
			}
			ok = false
			return 0
		}
		switch o.Code.String() {
		case "Tm":
			angle = math.Atan2(n(1), n(0)) * 180 / math.Pi
			cos, sin, lx, ly = n(0), n(1), 0, 0
		case "Tf":
			size = n(1)
		case "Tz":
			stretch = n(0)
		case "Td":
			lx, ly = lx+n(0), ly+n(1)
			x = lx
			u.Lines = append(u.Lines, InvisibleLine{Size: size, Angle: math.Round(angle*1000) / 1000})
			line = &u.Lines[len(u.Lines)-1]
		case "Tj":
			if len(o.Args) == 1 {
				show(o.Args[0].Bytes)
			}
		case "TJ":
			if len(o.Args) != 1 {
				continue
			}
			for _, item := range o.Args[0].Items {
				if item.Kind == content.Number {
					x -= item.Num / 1000 * size * stretch / 100
				} else {
					show(item.Bytes)
				}
			}
		}
	}
	return u, ok
}
