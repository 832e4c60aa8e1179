package font

import (
	_ "embed"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"
)

//go:embed data/glyphlist.txt
var glyphListText string

// dingbats are the names of ZapfDingbats, which mean other things elsewhere.
var dingbats = sync.OnceValue(func() map[string]string {
	m := map[string]string{}
	for code, name := range standard14("ZapfDingbats").encoding {
		if name != "" && name != "space" {
			m[name] = string(dingbat(code))
		}
	}
	return m
})

// glyphList is the Adobe Glyph List with some of TeX's names.
var glyphList = sync.OnceValue(func() map[string]string {
	m := make(map[string]string, 4700)
	for l := range strings.Lines(glyphListText) {
		name, codes, ok := strings.Cut(strings.TrimSpace(l), ";")
		if !ok || name[0] == '#' {
			continue
		}
		m[name] = hexText(codes)
	}
	for l := range strings.Lines(texNames) {
		for f := strings.Fields(l); len(f) >= 2; f = f[2:] {
			m[f[0]] = f[1]
		}
	}
	for name, text := range map[string]string{"nbspace": "\u00a0", "sfthyphen": "\u00ad", "vector": "\u20d7", "negationslash": "\u0338"} {
		m[name] = text
	}
	return m
})

// dingbat gives the character of a code of ZapfDingbats (Unicode's own mapping of it).
func dingbat(code int) rune {
	switch {
	case code >= 0x80 && code <= 0x8d:
		return rune(0x2768 + code - 0x80)
	case code >= 0xac && code <= 0xb5:
		return rune(0x2460 + code - 0xac)
	case code >= 0xb6 && code <= 0xd4:
		return rune(0x2776 + code - 0xb6)
	case code >= 0xa1 && code <= 0xa7:
		return rune(0x2761 + code - 0xa1)
	}
	if r, ok := map[int]rune{0x25: 0x260e, 0x2a: 0x261b, 0x2b: 0x261e, 0x48: 0x2605, 0x6c: 0x25cf, 0x6e: 0x25a0, 0x73: 0x25b2, 0x74: 0x25bc,
		0x75: 0x25c6, 0x77: 0x25d7, 0xa8: 0x2663, 0xa9: 0x2666, 0xaa: 0x2665, 0xab: 0x2660, 0xd5: 0x2192, 0xd6: 0x2194, 0xd7: 0x2195}[code]; ok {
		return r
	}
	if code >= 0xd8 {
		return rune(0x2798 + code - 0xd8)
	}
	return rune(0x2701 + code - 0x21)
}

func hexText(codes string) string {
	out := ""
	for _, c := range strings.Fields(codes) {
		v, err := strconv.ParseUint(c, 16, 32)
		if err != nil {
			return ""
		}
		out += string(rune(v))
	}
	return out
}

// TextOf gives the text that a glyph's name stands for, by the Adobe Glyph List and its rules for names
// that are not in it (AGL Specification, 2): uniXXXX, uXXXXXX, parts joined by _, a suffix after a full stop. It is empty
// where the name tells nothing.
func TextOf(name string) string {
	if t, ok := glyphList()[name]; ok {
		return t
	}
	base, _, _ := strings.Cut(name, ".")
	if base == "" {
		return ""
	}
	if !strings.Contains(base, "_") {
		return textOfPart(base)
	}
	out := ""
	for part := range strings.SplitSeq(base, "_") {
		out += textOfPart(part)
	}
	return out
}

func textOfPart(name string) string {
	if t, ok := glyphList()[name]; ok {
		return t
	}
	if digits, ok := strings.CutPrefix(name, "uni"); ok && len(digits) >= 4 && len(digits)%4 == 0 {
		out := ""
		for i := 0; i < len(digits); i += 4 {
			r := scalar(digits[i : i+4])
			if r == 0 {
				return ""
			}
			out += string(r)
		}
		return out
	}
	if digits, ok := strings.CutPrefix(name, "u"); ok && len(digits) >= 4 && len(digits) <= 6 {
		if r := scalar(digits); r != 0 {
			return string(r)
		}
	}
	return ""
}

func scalar(digits string) rune {
	v, err := strconv.ParseUint(digits, 16, 32)
	if err != nil || !utf8.ValidRune(rune(v)) {
		return 0
	}
	return rune(v)
}

// texNames are names that the fonts of TeX use beyond the list, with what they stand for.
const texNames = `
ff ff fi fi fl fl ffi ffi ffl ffl dotlessj ȷ visiblespace ␣ Dbar Đ dbar đ mapsto ↦ angbracketleft ⟨ angbracketright ⟩
slurabove ⁀ slurbelow ‿ lscript ℓ epsilon1 ϵ follows ≻ precedes ≺ bardbl ‖ star ⋆ trianglerightsld ▶ triangleleftsld ◀
trianglesolid ▲ triangledownsld ▼ square □ squaresolid ■ check ✓ checkmark ✓ maltesecross ✠ diamondsolid ◆ owner ∋
turnstileleft ⊢ turnstileright ⊣ latticetop ⊤ forces ⊩ similarequal ≃ equivasymptotic ≍ followsequal ⪰ precedesequal ⪯
lessmuch ≪ greatermuch ≫ unionmulti ⊎ intersectionsq ⊓ unionsq ⊔ subsetsqequal ⊑ supersetsqequal ⊒ lessorequalslant ⩽
greaterorequalslant ⩾ floorleft ⌊ floorright ⌋ ceilingleft ⌈ ceilingright ⌉ circlecopyrt ◯ diamondmath ⋄ arrownortheast ↗
arrownorthwest ↖ arrowsoutheast ↘ arrowsouthwest ↙ arrowbothv ↕ asteriskmath ∗ coproduct ⨿ natural ♮ flat ♭ sharp ♯
`
