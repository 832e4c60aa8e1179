package font

import (
	"strings"

	"glenrain/core/pdf"
)

// readComposite reads a Type 0 font and its descendant (9.7).
func (f *Font) readComposite(d *pdf.Dict) {
	var desc *pdf.Dict
	if a := f.doc.Array(d.Get("DescendantFonts")); len(a) > 0 {
		desc = f.doc.Dict(a[0])
	} else {
		desc = f.doc.Dict(d.Get("DescendantFonts"))
	}
	f.Kind = CIDType0
	if f.doc.Name(desc.Get("Subtype")) == "CIDFontType2" {
		f.Kind = CIDType2
	}
	if f.Name == "" {
		f.Name = tagRE.ReplaceAllString(string(f.doc.Name(desc.Get("BaseFont"))), "")
	}
	switch e := f.doc.Resolve(d.Get("Encoding")).(type) {
	case pdf.Name:
		f.encoding = PredefinedCMap(string(e))
	case *pdf.Stream:
		if data, _, err := f.doc.DecodeMost(e, maxCMapBytes); err == nil || len(data) > 0 {
			f.encoding = ParseCMap(data, PredefinedCMap)
			if f.doc.Name(e.Dict.Get("UseCMap")) != "" && f.encoding.use == nil {
				f.encoding.use = PredefinedCMap(string(f.doc.Name(e.Dict.Get("UseCMap"))))
			}
			if v, ok := f.doc.Resolve(e.Dict.Get("WMode")).(pdf.Integer); ok {
				f.encoding.Vertical = v == 1
			}
		}
	}
	if f.encoding == nil {
		f.encoding = identity("Identity-H", false)
	}
	f.Vertical = f.encoding.Vertical
	f.readDescriptor(desc.Get("FontDescriptor"))
	info := f.doc.Dict(desc.Get("CIDSystemInfo"))
	if ordering, ok := f.doc.Resolve(info.Get("Ordering")).(pdf.String); ok {
		switch o := string(ordering); o {
		case "Japan1", "GB1", "CNS1", "Korea1", "KR":
			f.collection = PredefinedCMap("Adobe-" + o + "-UCS2")
		}
	}
	if s := f.doc.Stream(desc.Get("CIDToGIDMap")); s != nil {
		f.cidToGID, _, _ = f.doc.DecodeMost(s, 2<<16)
	}
	f.dw = f.number(desc.Get("DW"), 1000) / 1000
	f.cidWidths = map[uint32]float64{}
	f.eachWidth(desc.Get("W"), 1, func(cid uint32, v []float64) { f.cidWidths[cid] = v[0] / 1000 })
	f.dw2 = [2]float64{0.88, -1}
	if a := f.doc.Array(desc.Get("DW2")); len(a) == 2 {
		f.dw2 = [2]float64{f.number(a[0], 880) / 1000, f.number(a[1], -1000) / 1000}
	}
	if f.Vertical {
		f.cidDown = map[uint32][3]float64{}
		f.eachWidth(desc.Get("W2"), 3, func(cid uint32, v []float64) { f.cidDown[cid] = [3]float64{v[0] / 1000, v[1] / 1000, v[2] / 1000} })
	}
}

// eachWidth walks a W or W2 array (9.7.4.3): "c [w ...]" and "first last w".
func (f *Font) eachWidth(o pdf.Object, n int, set func(cid uint32, v []float64)) {
	const most = 1 << 18
	a := f.doc.Array(o)
	told := 0
	for i := 0; i < len(a); {
		first := f.number(a[i], -1)
		i++
		if first < 0 || first > 0xffff || i >= len(a) {
			continue
		}
		if list, ok := f.doc.Resolve(a[i]).(pdf.Array); ok {
			i++
			v := make([]float64, n)
			for k := 0; k+n <= len(list) && told < most; k += n {
				for j := range v {
					v[j] = f.number(list[k+j], 0)
				}
				set(uint32(first)+uint32(k/n), v)
				told++
			}
			continue
		}
		if i+n >= len(a) {
			return
		}
		last := f.number(a[i], -1)
		v := make([]float64, n)
		for j := range v {
			v[j] = f.number(a[i+1+j], 0)
		}
		i += 1 + n
		for c := first; c <= last && c <= 0xffff && told < most; c++ {
			set(uint32(c), v)
			told++
		}
	}
}

func (f *Font) cidChar(code uint32, n int) Char {
	c := Char{Code: code, Bytes: uint8(n)}
	c.CID, _ = f.encoding.CID(code, n)
	c.Width = f.dw
	if w, ok := f.cidWidths[c.CID]; ok {
		c.Width = w
	}
	if f.Vertical {
		c.Down, c.VX, c.VY = f.dw2[1], c.Width/2, f.dw2[0]
		if v, ok := f.cidDown[c.CID]; ok {
			c.Down, c.VX, c.VY = v[0], v[1], v[2]
		}
	}
	if t, ok := f.toUnicodeText(code); ok {
		c.Text = plain(t)
	}
	if c.Text == "" && f.collection != nil {
		if t, ok := f.collection.Text(c.CID); ok && t != "\ufffd" {
			c.Text = plain(t)
		}
	}
	if c.Text == "" && f.toUnicode == nil {
		c.Text = plain(f.textByCIDProgram(&c))
	}
	return c
}

// textByCIDProgram asks the font program: by the name or character of the glyph.
func (f *Font) textByCIDProgram(c *Char) string {
	if strings.HasPrefix(f.encoding.Name, "Uni") && strings.Contains(f.encoding.Name, "UCS2") {
		return string(rune(c.Code))
	}
	p := f.Program()
	gid, ok := f.Glyph(c)
	if p == nil || !ok || gid == 0 {
		return ""
	}
	if t := TextOf(p.NameOf(gid)); t != "" {
		return t
	}
	if r := p.runeOf(gid); r != 0 {
		return string(r)
	}
	return ""
}
