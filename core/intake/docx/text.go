package docx

import (
	"cmp"
	"strconv"
	"strings"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
)

// paragraph writes a paragraph: as a heading, as an item of a list, or as it is.
func (d *reader) paragraph(n *pack.Node) error {
	pPr := n.First("pPr")
	id := cmp.Or(pPr.First("pStyle").Attr("val"), d.usual["paragraph"])
	p := d.around
	st := d.styles[id]
	if st != nil {
		p.over(st.p)
	}
	d.para(&p, pPr)
	p.styleID = id
	item, label := d.item(p)
	if item != nil { // the list's own indents stand below those of the paragraph (17.9.23)
		var q props
		d.para(&q, item.pPr)
		if p.numID != "" && pPr.First("ind") == nil && (st == nil || st.p.left == nil || pPr.First("numPr") != nil) {
			p.left, p.first = q.left, q.first
		}
	}
	if d.last != nil && is(d.last.close) && is(p.close) && d.last.styleID == id {
		zero := 0.0
		p.before = &zero
	}
	if is(p.close) && item != nil {
		zero := 0.0
		p.after = &zero
	}
	was := p
	d.last = &was
	heading := p.outline > 0 && p.outline < 10
	if heading || item == nil {
		d.closeLists(0)
	}
	css := d.css(p, true)
	if is(p.pageBreak) || d.brk {
		css = join(css, "break-before:page")
		d.brk = false
	}
	tag, end := "p", "</p>"
	dir := ""
	if is(p.bi) {
		dir = ` dir="rtl"`
	}
	switch {
	case heading:
		h := "h" + strconv.Itoa(min(p.outline, 6))
		tag, end = h, "</"+h+">"
		if d.s.Title == "" && p.outline == 1 {
			d.s.Title = strings.Join(strings.Fields(n.Words()), " ")
		}
	case item != nil:
		d.openItem(item, label, p)
		css = d.css(d.inItem(p), true)
	}
	if st != nil && st.name == "title" && d.s.Title == "" {
		d.s.Title = strings.Join(strings.Fields(n.Words()), " ")
	}
	row := d.ends(p, n)
	if row {
		tag, end = "p", "</span></p>"
	}
	attrs := d.s.Class(css) + dir
	if row {
		d.s.Raw("<p", d.s.Class(join(css, "display:flex;gap:6pt")), dir, "><span>")
	} else {
		d.s.Raw("<", tag, attrs, ">")
	}
	if heading && item != nil && label != "" {
		d.s.Raw("<span>", page.Escape(label), "</span> ")
	}
	w := &inline{d: d, base: p, tag: tag, attrs: attrs, row: row}
	if err := w.nodes(n.Nodes(), 0); err != nil {
		return err
	}
	if !w.wrote && item == nil {
		d.s.Raw("<br>")
	}
	d.s.Raw(end)
	boxes := d.boxes
	d.boxes = nil
	for _, b := range boxes {
		d.s.Raw(`<div style="border:.5pt solid #999;padding:4pt;margin:4pt 0">`)
		if err := d.story(flat(b.Nodes(), 0)); err != nil {
			return err
		}
		d.s.Raw("</div>")
	}
	return nil
}

func join(css, more string) string {
	if css == "" {
		return more
	}
	return css + ";" + more
}

// ends reports whether a paragraph has text that stands at the right edge after a tab, as tables of contents have.
func (d *reader) ends(p props, n *pack.Node) bool {
	right := false
	for _, t := range p.tabs {
		right = right || t.kind == "right" || t.kind == "end"
	}
	return right && countTabs(n, 0) == 1 && p.outline == 0
}

func countTabs(n *pack.Node, depth int) (c int) {
	for _, k := range n.Nodes() {
		if k.Name == "tab" && n.Name == "r" {
			c++
		}
		if depth < 40 && k.Name != "pPr" && k.Name != "txbxContent" {
			c += countTabs(k, depth+1)
		}
	}
	return c
}

// inline writes what stands in a paragraph.
type inline struct {
	d          *reader
	base       props
	tag, attrs string
	row        bool
	wrote      bool
	link       int
}

// maxNested is how deeply elements of a paragraph are nested.
const maxNested = 100

func (w *inline) nodes(list []*pack.Node, depth int) error {
	if depth > maxNested {
		return pack.ErrTooDeep
	}
	d := w.d
	for _, n := range list {
		switch n.Name {
		case "r":
			if err := w.run(n, depth); err != nil {
				return err
			}
		case "hyperlink":
			to := ""
			if id := n.Attr("id"); id != "" && d.rels[id].External {
				to = d.rels[id].Target
			}
			if a := n.Attr("anchor"); a != "" {
				to += "#" + a
			}
			href := page.Link(to)
			if href != "" && w.link == 0 {
				d.s.Raw("<a", page.Attr("href", href), ">")
			}
			w.link++
			err := w.nodes(n.Nodes(), depth+1)
			w.link--
			if href != "" && w.link == 0 {
				d.s.Raw("</a>")
			}
			if err != nil {
				return err
			}
		case "bookmarkStart":
			d.bookmark(n)
		case "fldSimple":
			if err := w.nodes(n.Nodes(), depth+1); err != nil {
				return err
			}
		case "sdt":
			if err := w.nodes(n.First("sdtContent").Nodes(), depth+1); err != nil {
				return err
			}
		case "ins", "moveTo", "smartTag", "customXml", "dir", "bdo":
			if err := w.nodes(n.Nodes(), depth+1); err != nil {
				return err
			}
		case "del", "moveFrom":
			d.s.Tell("Changes that were tracked are shown as accepted.")
		case "oMath", "oMathPara":
			w.wrote = true
			d.math(n)
		case "AlternateContent":
			if err := w.nodes(choice(n).Nodes(), depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// bookmark writes the place that links lead to.
func (d *reader) bookmark(n *pack.Node) {
	name := n.Attr("name")
	if name == "" || name == "_GoBack" || d.anchored[name] {
		return
	}
	d.anchored[name] = true
	d.s.Raw("<a", page.Attr("id", page.Anchor(name)), "></a>")
}

// math writes the letters of a formula in a row.
func (d *reader) math(n *pack.Node) {
	d.s.Tell("Formulas are shown as plain text.")
	var walk func(*pack.Node, int)
	walk = func(n *pack.Node, depth int) {
		for _, k := range n.Nodes() {
			if k.Name == "t" {
				d.s.Text(k.Words())
			} else if depth < maxNested {
				walk(k, depth+1)
			}
		}
	}
	d.s.Raw("<i>")
	walk(n, 0)
	d.s.Raw("</i>")
}

// run writes a run (17.3.2.25).
func (w *inline) run(n *pack.Node, depth int) error {
	d := w.d
	var p props
	rPr := n.First("rPr")
	if st := d.styles[rPr.First("rStyle").Attr("val")]; st != nil {
		p = st.p
		p.left, p.right, p.first = nil, nil, nil
	}
	d.run(&p, rPr)
	if is(p.hidden) || p.hidden == nil && is(w.base.hidden) {
		return nil
	}
	if p.size == 0 && (p.vert != "" || p.font != "") { // what the size is taken from
		p.size = cmp.Or(w.base.size, d.defaults.size)
	}
	if p.font == "" && p.size > 0 {
		p.font = w.base.font
	}
	lang := ""
	if p.lang != "" && p.lang != cmp.Or(w.base.lang, d.lang) && len(p.lang) < 36 {
		lang = page.Attr("lang", p.lang)
	}
	attrs := d.s.Class(d.css(p, false)) + lang
	open := false
	text := func(t string) {
		if t == "" || d.skipped() {
			return
		}
		if attrs != "" && !open {
			d.s.Raw("<span", attrs, ">")
			open = true
		}
		w.wrote = true
		d.s.Text(t)
	}
	shut := func() {
		if open {
			d.s.Raw("</span>")
			open = false
		}
	}
	for _, k := range n.Nodes() {
		switch k.Name {
		case "t":
			text(k.Words())
		case "tab", "ptab":
			if w.row {
				shut()
				d.s.Raw("</span><span>")
				w.row = false
				continue
			}
			text("\u200b")
			if !d.skipped() {
				d.s.Raw(`<span class="tab">`, "\t", `</span>`)
			}
		case "br", "cr":
			switch k.Attr("type") {
			case "page":
				if !w.wrote { // nothing stands before it
					d.brk = true
					continue
				}
				shut()
				d.s.Raw("</", w.tag, "><", w.tag, d.s.Class("break-before:page"), ">")
			case "column":
				shut()
				d.s.Raw(`<span style="break-before:column"></span>`)
			default:
				d.s.Raw("<br>")
				w.wrote = true
			}
		case "noBreakHyphen":
			text("\u2011")
		case "softHyphen":
			text("\u00ad")
		case "sym":
			text(symbol(k))
		case "footnoteReference", "endnoteReference":
			key := strings.TrimSuffix(k.Name, "Reference") + " " + k.Attr("id")
			if d.notes[key] == nil {
				continue
			}
			shut()
			d.noted = append(d.noted, key)
			no := strconv.Itoa(len(d.noted))
			d.s.Raw(`<sup><a href="#note-`, no, `">`, no, "</a></sup>")
			w.wrote = true
		case "drawing", "pict", "object":
			shut()
			if err := w.drawing(k); err != nil {
				return err
			}
		case "AlternateContent":
			shut()
			c := choice(k)
			for _, x := range c.Nodes() {
				if x.Name == "drawing" || x.Name == "pict" {
					if err := w.drawing(x); err != nil {
						return err
					}
				}
			}
		case "fldChar":
			shut()
			d.fieldChar(w, k.Attr("fldCharType"))
		case "instrText":
			if len(d.field) > 0 {
				f := &d.field[len(d.field)-1]
				if len(f.code) < 4000 {
					f.code += k.Words()
				}
			}
		}
	}
	shut()
	return nil
}

// skipped reports whether the code of a field is being read, which is not shown.
func (d *reader) skipped() bool {
	for _, f := range d.field {
		if !f.value {
			return true
		}
	}
	return false
}

// fieldChar begins, parts or ends a field. Fields show the value that they had when the file was written; links lead where they say.
func (d *reader) fieldChar(w *inline, kind string) {
	switch kind {
	case "begin":
		if len(d.field) < 50 {
			d.field = append(d.field, field{})
		}
	case "separate":
		if len(d.field) == 0 {
			return
		}
		f := &d.field[len(d.field)-1]
		f.value = true
		if href := fieldLink(f.code); href != "" && w.link == 0 {
			d.s.Raw("<a", page.Attr("href", href), ">")
			f.open = true
			w.link++
		}
	case "end":
		if len(d.field) == 0 {
			return
		}
		f := d.field[len(d.field)-1]
		d.field = d.field[:len(d.field)-1]
		if f.open {
			d.s.Raw("</a>")
			w.link--
		}
	}
}

// fieldLink gives where a field HYPERLINK leads to (17.16.5.25).
func fieldLink(code string) string {
	f := strings.Fields(code)
	if len(f) < 2 || !strings.EqualFold(f[0], "HYPERLINK") {
		return ""
	}
	if strings.EqualFold(f[1], `\l`) && len(f) > 2 {
		return page.Link("#" + strings.Trim(f[2], `"`))
	}
	return page.Link(strings.Trim(f[1], `"`))
}

// symbols are characters of symbol fonts that are common, by their code below F000.
var symbols = map[int64]string{0xb7: "•", 0xa7: "▪", 0xd8: "➢", 0xfc: "✓", 0xfb: "✗", 0xfe: "☑", 0xa8: "☐", 0x6f: "☐", 0x6c: "●", 0x6e: "■", 0x76: "❖", 0x4a: "☺", 0xe0: "→", 0xdf: "←", 0xae: "→", 0x2d: "–"}

func symbol(n *pack.Node) string {
	v, err := strconv.ParseInt(n.Attr("char"), 16, 32)
	if err != nil {
		return ""
	}
	if s, ok := symbols[v&0xff]; ok && v&0xf000 == 0xf000 {
		return s
	}
	if v >= 0xe000 && v < 0xf900 {
		return "\ufffd"
	}
	return string(rune(v))
}

// drawing writes a picture or a text box.
func (w *inline) drawing(n *pack.Node) error {
	d := w.d
	if box := n.Find("txbxContent"); box != nil {
		if len(d.boxes) < 200 {
			d.boxes = append(d.boxes, box)
		}
		return nil
	}
	id, alt := n.Find("blip").Attr("embed"), ""
	about := n.Find("docPr")
	alt = cmp.Or(about.Attr("descr"), about.Attr("title"))
	width, height := 0.0, 0.0
	if ext := n.Find("extent"); ext != nil {
		width, height = emu(ext.Attr("cx")), emu(ext.Attr("cy"))
	}
	if id == "" {
		img := n.Find("imagedata")
		id = img.Attr("id")
		shape := n.Find("shape")
		alt = cmp.Or(alt, shape.Attr("alt"))
		for decl := range strings.SplitSeq(shape.Attr("style"), ";") {
			k, v, _ := strings.Cut(decl, ":")
			switch strings.TrimSpace(k) {
			case "width":
				width = twips(v)
			case "height":
				height = twips(v)
			}
		}
	}
	if id == "" {
		if n.Find("chart") != nil || n.Find("relIds") != nil {
			d.s.Tell("Charts and diagrams were left out.")
		}
		return nil
	}
	data, err := d.pack.Read(d.rels[id].Target)
	if err != nil {
		return err
	}
	src := d.s.Picture(data)
	w.wrote = true
	if src == "" {
		d.s.Tell("Pictures in formats that can’t be shown (such as EMF or WMF) were replaced by their descriptions.")
		if alt != "" {
			d.s.Raw("<span>[", page.Escape(alt), "]</span>")
		}
		return nil
	}
	css := ""
	if width > 0 && height > 0 {
		css = "width:" + page.Pt(width) + ";max-height:95vh"
	}
	if anchor := n.First("anchor"); anchor != nil {
		if side := anchor.First("positionH", "align").Words(); (side == "left" || side == "right") && (anchor.First("wrapSquare") != nil || anchor.First("wrapTight") != nil) {
			css = join(css, "float:"+side+";margin:0 6pt 6pt 6pt")
		}
	}
	d.s.Raw("<img", page.Attr("src", src), page.Attr("alt", alt), d.s.Class(css), ">")
	return nil
}

// emu reads English metric units (20.1.2.1): 12,700 to the point.
func emu(v string) float64 {
	f, _ := strconv.ParseFloat(v, 64)
	return min(20000, max(0, f/12700))
}
