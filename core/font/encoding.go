package font

import (
	"maps"
	"slices"
	"sync"

	"golang.org/x/text/encoding/charmap"

	"glenrain/core/pdf"
)

// encodings are the predefined ones (Annex D): glyph names by code.
var encodings = sync.OnceValue(func() map[pdf.Name]*[256]string {
	names := map[rune]string{}
	for _, n := range slices.Sorted(maps.Keys(standard14("Helvetica").widths)) {
		if t := []rune(TextOf(n)); len(t) == 1 && names[t[0]] == "" {
			names[t[0]] = n
		}
	}
	for r, n := range map[rune]string{'∞': "infinity", '∏': "product", 'π': "pi", '∫': "integral", 'Ω': "Omega", '≈': "approxequal", 'ﬁ': "fi", 'ﬂ': "fl"} {
		names[r] = n
	}
	from := func(m *charmap.Charmap) *[256]string {
		var e [256]string
		for c := 32; c < 256; c++ {
			e[c] = names[m.DecodeByte(byte(c))]
		}
		return &e
	}
	win := from(charmap.Windows1252)
	win[0xa0], win[0xad] = "space", "hyphen"
	for _, c := range []int{0x7f, 0x81, 0x8d, 0x8f, 0x90, 0x9d} { // Annex D.2, note 3: unused codes show a bullet
		win[c] = "bullet"
	}
	mac := from(charmap.Macintosh)
	mac[0xca], mac[0xdb] = "space", "currency"
	standard := standard14("Helvetica").encoding
	return map[pdf.Name]*[256]string{"StandardEncoding": &standard, "WinAnsiEncoding": win, "MacRomanEncoding": mac, "MacExpertEncoding": &macExpert}
})

// macExpert is MacExpertEncoding (Annex D.4).
var macExpert = [256]string{
	0x20: "space", 0x21: "exclamsmall", 0x22: "Hungarumlautsmall", 0x23: "centoldstyle", 0x24: "dollaroldstyle", 0x25: "dollarsuperior", 0x26: "ampersandsmall",
	0x27: "Acutesmall", 0x28: "parenleftsuperior", 0x29: "parenrightsuperior", 0x2a: "twodotenleader", 0x2b: "onedotenleader", 0x2c: "comma", 0x2d: "hyphen",
	0x2e: "period", 0x2f: "fraction", 0x30: "zerooldstyle", 0x31: "oneoldstyle", 0x32: "twooldstyle", 0x33: "threeoldstyle", 0x34: "fouroldstyle",
	0x35: "fiveoldstyle", 0x36: "sixoldstyle", 0x37: "sevenoldstyle", 0x38: "eightoldstyle", 0x39: "nineoldstyle", 0x3a: "colon", 0x3b: "semicolon",
	0x3d: "threequartersemdash", 0x3f: "questionsmall", 0x44: "Ethsmall", 0x47: "onequarter", 0x48: "onehalf", 0x49: "threequarters", 0x4a: "oneeighth",
	0x4b: "threeeighths", 0x4c: "fiveeighths", 0x4d: "seveneighths", 0x4e: "onethird", 0x4f: "twothirds", 0x56: "ff", 0x57: "fi", 0x58: "fl", 0x59: "ffi",
	0x5a: "ffl", 0x5b: "parenleftinferior", 0x5d: "parenrightinferior", 0x5e: "Circumflexsmall", 0x5f: "hypheninferior", 0x60: "Gravesmall",
	0x61: "Asmall", 0x62: "Bsmall", 0x63: "Csmall", 0x64: "Dsmall", 0x65: "Esmall", 0x66: "Fsmall", 0x67: "Gsmall", 0x68: "Hsmall", 0x69: "Ismall",
	0x6a: "Jsmall", 0x6b: "Ksmall", 0x6c: "Lsmall", 0x6d: "Msmall", 0x6e: "Nsmall", 0x6f: "Osmall", 0x70: "Psmall", 0x71: "Qsmall", 0x72: "Rsmall",
	0x73: "Ssmall", 0x74: "Tsmall", 0x75: "Usmall", 0x76: "Vsmall", 0x77: "Wsmall", 0x78: "Xsmall", 0x79: "Ysmall", 0x7a: "Zsmall",
}
