package font

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf16"

	"glenrain/core/pdf"
)

// Embedding gathers the glyphs that a document uses of one face and writes them
// as a composite font with Identity-H codes (ISO 32000-2, 9.7).
type Embedding struct {
	Face *TrueType
	used map[uint16][]rune // glyph -> the text it stands for
	ref  pdf.Ref
}

// Embed starts an embedding of face in doc. Finish must be called on it once all text is set.
func Embed(doc *pdf.Document, face *TrueType) *Embedding {
	return &Embedding{Face: face, used: map[uint16][]rune{}, ref: doc.Add(nil)}
}

// Ref is the font dictionary, for a page's resources.
func (e *Embedding) Ref() pdf.Ref { return e.ref }

// Encode gives the codes of s (two bytes a glyph) and its width in thousandths of
// the font size. Characters that the face lacks are told in missing.
func (e *Embedding) Encode(s string) (codes []byte, width float64, missing []rune) {
	for _, r := range s {
		g := e.Face.Glyph(r)
		if g == 0 {
			missing = append(missing, r)
		}
		if _, ok := e.used[g]; !ok {
			e.used[g] = []rune{r}
		}
		codes = append(codes, byte(g>>8), byte(g))
		width += e.scaled(e.Face.Advance(g))
	}
	return
}

func (e *Embedding) scaled(v int) float64 { return float64(v) * 1000 / float64(e.Face.UnitsPerEm) }

// Finish writes the font: the subset program, its widths and its way back to text.
func (e *Embedding) Finish(doc *pdf.Document) {
	gids := slices.Sorted(maps.Keys(e.used))
	f := e.Face
	name := pdf.Name(subsetTag(f.Name, gids) + "+" + f.Name)
	program := f.Subset(gids)
	file := doc.Add(pdf.NewFlateStream(pdf.NewDict("Length1", pdf.Integer(len(program))), program))
	set := f.cidSet(gids)
	flags := 32 // nonsymbolic (9.8.2, table 121)
	if f.FixedPitch {
		flags |= 1
	}
	if f.Serif {
		flags |= 2
	}
	if f.Italic != 0 {
		flags |= 64
	}
	num := func(v int) pdf.Object { return pdf.Integer(int(e.scaled(v) + 0.5)) }
	descriptor := doc.Add(pdf.NewDict(
		"Type", pdf.Name("FontDescriptor"), "FontName", name, "Flags", pdf.Integer(flags),
		"FontBBox", pdf.Array{num(f.BBox[0]), num(f.BBox[1]), num(f.BBox[2]), num(f.BBox[3])},
		"ItalicAngle", pdf.Real(f.Italic), "Ascent", num(f.Ascent), "Descent", num(f.Descent),
		"CapHeight", num(f.CapHeight), "StemV", pdf.Integer(50+f.Weight*f.Weight/6500), "FontFile2", file,
		"CIDSet", doc.Add(pdf.NewFlateStream(nil, set)),
	))
	var widths pdf.Array
	for i := 0; i < len(gids); {
		j := i
		var run pdf.Array
		for ; j < len(gids) && int(gids[j]) == int(gids[i])+j-i; j++ {
			run = append(run, pdf.Real(e.scaled(f.Advance(gids[j]))))
		}
		widths = append(widths, pdf.Integer(gids[i]), run)
		i = j
	}
	cid := doc.Add(pdf.NewDict(
		"Type", pdf.Name("Font"), "Subtype", pdf.Name("CIDFontType2"), "BaseFont", name,
		"CIDSystemInfo", pdf.NewDict("Registry", pdf.String("Adobe"), "Ordering", pdf.String("Identity"), "Supplement", pdf.Integer(0)),
		"FontDescriptor", descriptor, "W", widths, "CIDToGIDMap", pdf.Name("Identity"),
	))
	doc.Set(e.ref, pdf.NewDict(
		"Type", pdf.Name("Font"), "Subtype", pdf.Name("Type0"), "BaseFont", name, "Encoding", pdf.Name("Identity-H"),
		"DescendantFonts", pdf.Array{cid}, "ToUnicode", doc.Add(pdf.NewFlateStream(nil, e.toUnicode(gids))),
	))
}

// cidSet tells which glyphs are in a subset, a bit each, the highest first (9.8.3.2); PDF/A-1 asks for it (ISO 19005-1, 6.3.5).
func (t *TrueType) cidSet(gids []uint16) []byte {
	var set []byte
	for g := range t.closure(gids) {
		for len(set) <= int(g)/8 {
			set = append(set, 0)
		}
		set[g/8] |= 0x80 >> (g % 8)
	}
	return set
}

// subsetTag makes the six letters before a subset's name from what is in it (9.9.2).
func subsetTag(name string, gids []uint16) string {
	sum := sha256.Sum256(fmt.Append(nil, name, gids))
	tag := make([]byte, 6)
	for i := range tag {
		tag[i] = 'A' + sum[i]%26
	}
	return string(tag)
}

// toUnicode writes the CMap from codes to text (9.10.3).
func (e *Embedding) toUnicode(gids []uint16) []byte {
	var b bytes.Buffer
	b.WriteString("/CIDInit /ProcSet findresource begin\n12 dict begin\nbegincmap\n" +
		"/CIDSystemInfo <</Registry (Adobe) /Ordering (UCS) /Supplement 0>> def\n" +
		"/CMapName /Adobe-Identity-UCS def\n/CMapType 2 def\n" +
		"1 begincodespacerange\n<0000> <FFFF>\nendcodespacerange\n")
	for group := range slices.Chunk(gids, 100) {
		fmt.Fprintf(&b, "%d beginbfchar\n", len(group))
		for _, g := range group {
			var hex strings.Builder
			for _, u := range utf16.Encode(e.used[g]) {
				fmt.Fprintf(&hex, "%04X", u)
			}
			fmt.Fprintf(&b, "<%04X> <%s>\n", g, hex.String())
		}
		b.WriteString("endbfchar\n")
	}
	b.WriteString("endcmap\nCMapName currentdict /CMap defineresource pop\nend\nend\n")
	return b.Bytes()
}
