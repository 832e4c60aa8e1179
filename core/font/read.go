package font

import (
	"math"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"

	"glenrain/core/pdf"
)

// Kind is the kind of a font dictionary (9.5, table 108).
type Kind uint8

// The kinds of fonts. CIDType0 and CIDType2 are those of a Type 0 font's descendant.
const (
	Type1 Kind = iota
	TrueTypeKind
	Type3
	CIDType0
	CIDType2
)

// Font is a font dictionary as text is shown with it (9.5 to 9.10): what its codes are, what they
// stand for, how wide they are and which glyphs they lead to. It may be used by several goroutines.
type Font struct {
	Kind     Kind
	Name     string // BaseFont without the tag of a subset
	Subset   bool
	Embedded bool
	Vertical bool       // writing mode 1 (9.7.4.3)
	Matrix   [6]float64 // of a Type 3 font: glyph space to text space
	Box      pdf.Rect   // of a Type 3 font, in glyph space
	Ascent   float64    // in em, as all heights and widths here
	Descent  float64    // below the baseline, negative
	Style    Style
	Dict     *pdf.Dict

	doc        *pdf.Document
	descriptor *pdf.Dict
	toUnicode  *CMap
	unicode    bool // ToUnicode is a predefined identity: codes are characters

	// of a simple font
	base        *[256]string // encoding that the dictionary names; nil where it is the program's own
	differences map[int]string
	widths      []float64 // em; negative where not given
	firstChar   int
	missing     float64
	standard    *metrics // where the font is not embedded
	simple      [256]atomic.Pointer[Char]

	// of a composite font
	encoding   *CMap
	collection *CMap // CIDs to text
	cidWidths  map[uint32]float64
	cidDown    map[uint32][3]float64 // vertical: advance and the position vector
	dw         float64
	dw2        [2]float64
	cidToGID   []byte
	rows       [256]atomic.Pointer[[256]Char] // two-byte codes by their first byte
	others     sync.Map                       // further codes

	emOnce      sync.Once
	em          float64
	programOnce sync.Once
	program     *Program
	codesOnce   sync.Once
	codes       map[string]Code
}

// Style is what a face looks like, for choosing a substitute.
type Style struct {
	Weight               int // 100 to 900
	Width                int // per cent of normal: 50 ultra condensed to 200 ultra expanded
	Italic, Serif, Fixed bool
	Symbolic             bool
}

// Char is what a font says of one code.
type Char struct {
	Text  string  // what it stands for; "" where nothing tells. A ligature has its letters
	Width float64 // horizontal advance in em, without spacing
	Code  uint32
	Bytes uint8  // of the code
	Name  string // of the glyph, in a simple font
	CID   uint32
	// Vertical writing: advance downwards (negative) and the vector from the origin for horizontal writing to that for vertical (9.7.4.3).
	Down, VX, VY float64
}

var tagRE = regexp.MustCompile(`^[A-Z]{6}\+`)

// Read reads a font dictionary. It always gives a font: what is missing or wrong is taken as other readers take it.
func Read(doc *pdf.Document, o pdf.Object) *Font {
	d := doc.Dict(o)
	f := &Font{doc: doc, Dict: d, Matrix: [6]float64{0.001, 0, 0, 0.001}}
	name := string(doc.Name(d.Get("BaseFont")))
	f.Subset = tagRE.MatchString(name)
	f.Name = tagRE.ReplaceAllString(name, "")
	f.readToUnicode(d.Get("ToUnicode"))
	switch doc.Name(d.Get("Subtype")) {
	case "Type0":
		f.readComposite(d)
		return f
	case "Type3":
		f.Kind = Type3
		if m := doc.Array(d.Get("FontMatrix")); len(m) == 6 {
			for i, v := range m {
				f.Matrix[i], _ = pdf.Number(doc.Resolve(v))
			}
		}
		f.Box, _ = doc.Rect(d.Get("FontBBox"))
	case "TrueType":
		f.Kind = TrueTypeKind
	}
	f.readDescriptor(d.Get("FontDescriptor"))
	f.readSimple(d)
	return f
}

func (f *Font) number(o pdf.Object, def float64) float64 {
	if v, ok := pdf.Number(f.doc.Resolve(o)); ok {
		return v
	}
	return def
}

// whole is number for what counts something: 0 for what no font has, so that sums with it stay in bounds.
func (f *Font) whole(o pdf.Object) int {
	if v := f.number(o, 0); v > -1<<31 && v < 1<<31 {
		return int(v)
	}
	return 0
}

func (f *Font) readToUnicode(o pdf.Object) {
	switch v := f.doc.Resolve(o).(type) {
	case *pdf.Stream:
		data, _, err := f.doc.DecodeMost(v, maxCMapBytes)
		if err != nil && len(data) == 0 {
			return
		}
		f.toUnicode = ParseCMap(data, PredefinedCMap)
		if f.toUnicode.use == nil {
			if n := f.doc.Name(v.Dict.Get("UseCMap")); n != "" {
				f.toUnicode.use = PredefinedCMap(string(n))
			}
		}
		if !f.toUnicode.HasText() {
			f.toUnicode = nil
		}
	case pdf.Name:
		if strings.HasPrefix(string(v), "Identity") {
			f.unicode = true
		} else if m := PredefinedCMap(string(v)); m.HasText() {
			f.toUnicode = m
		}
	}
}

// Flags of table 121.
const (
	flagFixed    = 1 << 0
	flagSerif    = 1 << 1
	flagSymbolic = 1 << 2
	flagItalic   = 1 << 6
	flagBold     = 1 << 18
)

func (f *Font) readDescriptor(o pdf.Object) {
	d := f.doc.Dict(o)
	f.descriptor = d
	for _, k := range []pdf.Name{"FontFile", "FontFile2", "FontFile3"} {
		f.Embedded = f.Embedded || f.doc.Stream(d.Get(k)) != nil
	}
	flags := f.whole(d.Get("Flags"))
	lower := strings.ToLower(f.Name)
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(lower, w) {
				return true
			}
		}
		return false
	}
	f.standard = standard14(f.Name)
	s := &f.Style
	s.Weight = int(f.number(d.Get("FontWeight"), 400))
	switch {
	case has("black", "heavy"):
		s.Weight = max(s.Weight, 900)
	case has("semibold", "demi"):
		s.Weight = max(s.Weight, 600)
	case has("bold", "cmbx") || flags&flagBold != 0 || f.number(d.Get("StemV"), 0) >= 140:
		s.Weight = max(s.Weight, 700)
	}
	s.Width = 100
	if w, ok := stretches[f.doc.Name(d.Get("FontStretch"))]; ok {
		s.Width = w
	} else if has("condensed", "narrow", "compressed") {
		s.Width = 75
	} else if has("extended", "expanded") {
		s.Width = 125
	}
	s.Italic = flags&flagItalic != 0 || f.number(d.Get("ItalicAngle"), 0) != 0 || has("italic", "oblique", "cmti", "cmsl", "slanted")
	s.Fixed = flags&flagFixed != 0 || has("courier", "mono", "cmtt", "typewriter", "consol")
	s.Serif = flags&flagSerif != 0 || has("times", "roman", "serif", "cmr", "garamond", "georgia") && !has("sans")
	s.Symbolic = flags&flagSymbolic != 0
	f.Ascent, f.Descent = f.number(d.Get("Ascent"), 0)/1000, f.number(d.Get("Descent"), 0)/1000
	if f.Descent > 0 { // written so by some programs
		f.Descent = -f.Descent
	}
	if f.Ascent <= 0 || f.Ascent > 3 || f.Descent < -3 {
		f.Ascent, f.Descent = 0.75, -0.25
		if f.standard != nil && f.standard.ascent > 0 {
			f.Ascent, f.Descent = f.standard.ascent/1000, f.standard.descent/1000
		}
	}
}

// stretches are the widths of table 120 in per cent of normal.
var stretches = map[pdf.Name]int{"UltraCondensed": 50, "ExtraCondensed": 62, "Condensed": 75, "SemiCondensed": 87, "Normal": 100, "SemiExpanded": 112,
	"Expanded": 125, "ExtraExpanded": 150, "UltraExpanded": 200}

// The largest font programs and CMaps that are read, in bytes, unpacked.
const maxProgram, maxCMapBytes = 48 << 20, 16 << 20

// Program gives the embedded font program, read when it is first asked for; nil where there is none that can be read.
func (f *Font) Program() *Program {
	f.programOnce.Do(func() {
		for _, k := range []pdf.Name{"FontFile", "FontFile2", "FontFile3"} {
			s := f.doc.Stream(f.descriptor.Get(k))
			if s == nil {
				continue
			}
			data, rest, err := f.doc.DecodeKept(s, maxProgram)
			if err != nil && len(data) == 0 || len(rest) > 0 {
				continue
			}
			if f.program = ParseProgram(data); f.program != nil {
				return
			}
		}
	})
	return f.program
}

// Em is how many units of text space the font's em takes: 1, but for Type 3 fonts, whose makers choose their own; there it is judged
// by the widths of letters, or by the font's box.
func (f *Font) Em() float64 {
	if f.Kind != Type3 {
		return 1
	}
	f.emOnce.Do(func() {
		sum, n := 0.0, 0
		for code := range 256 {
			c, _ := f.Next([]byte{byte(code)})
			if e, ok := emOf[c.Text]; ok && c.Width != 0 {
				sum += math.Abs(c.Width) / e
				n++
			}
		}
		switch {
		case n > 0:
			f.em = sum / float64(n)
		case f.Box.H() > 0 && f.Box.H() < 1e5:
			f.em = f.Box.H() * math.Max(math.Abs(f.Matrix[3]), math.Abs(f.Matrix[0]))
		}
		if f.em <= 0 {
			f.em = 1
		}
	})
	return f.em
}

// emOf are usual widths of letters and figures, in em.
var emOf = map[string]float64{"m": 0.83, "n": 0.55, "o": 0.5, "e": 0.45, "a": 0.5, "t": 0.37, "i": 0.28, "s": 0.39, "0": 0.5, "1": 0.5, "2": 0.5,
	"A": 0.72, "E": 0.67, "T": 0.68, "о": 0.5, "е": 0.45, "а": 0.5, "и": 0.57, "н": 0.56}

// Composite reports whether codes may have several bytes.
func (f *Font) Composite() bool { return f.Kind == CIDType0 || f.Kind == CIDType2 }

// Next gives the next code of a string that is shown, and its length in bytes; s is not empty.
func (f *Font) Next(s []byte) (*Char, int) {
	if !f.Composite() {
		c := f.simple[s[0]].Load()
		if c == nil {
			c = f.simpleChar(int(s[0]))
			f.simple[s[0]].Store(c)
		}
		return c, 1
	}
	code, n := f.encoding.Next(s)
	if n == 2 {
		row := f.rows[code>>8].Load()
		if row == nil {
			row = &[256]Char{}
			for low := range row {
				row[low] = f.cidChar(code&^0xff|uint32(low), 2)
			}
			f.rows[code>>8].Store(row)
		}
		return &row[code&0xff], 2
	}
	key := uint64(n)<<32 | uint64(code)
	if c, ok := f.others.Load(key); ok {
		return c.(*Char), n
	}
	c := f.cidChar(code, n)
	f.others.Store(key, &c)
	return &c, n
}

// plain makes of what a map says the text that people get: ligatures as their letters, nothing that is no character.
func plain(s string) string {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 || c == 0x7f || c >= 0xc2 {
			return plainSlow(s)
		}
	}
	return s
}

func plainSlow(s string) string {
	return strings.Map(func(r rune) rune {
		if r == 0 || r == 0xfffe || r == 0xffff || r >= 0xe0100 && r <= 0xe01ef { // nor the variant of an ideograph
			return -1
		}
		return r
	}, ligatures.Replace(s))
}

var ligatures = strings.NewReplacer("ﬀ", "ff", "ﬁ", "fi", "ﬂ", "fl", "ﬃ", "ffi", "ﬄ", "ffl", "ﬅ", "ſt", "ﬆ", "st")
