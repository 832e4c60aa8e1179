package docx

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
)

// props are the properties of a paragraph and of runs in it, as far as they are shown. A value that is not set is nil or empty.
type props struct {
	// runs (17.3.2)
	bold, italic, strike, caps, small, hidden, underline *bool
	font, colour, back, vert, lang                       string
	size                                                 float64
	// paragraphs (17.3.1)
	align                                     string
	left, right, first                        *float64
	before, after, line                       *float64
	lineRule                                  string
	keepNext, keepLines, pageBreak, close, bi *bool
	outline                                   int // 1 to 9; 0 for none
	numID                                     string
	level                                     int
	shade, styleID                            string
	borders                                   map[string]string
	tabs                                      []tabStop
}

type tabStop struct {
	kind string
	at   float64
}

type style struct {
	id, name, basedOn, kind string
	p                       props
	table                   *pack.Node
}

// on reads a value that is on or off (17.17.4).
func on(n *pack.Node) bool {
	if n == nil {
		return false
	}
	v := n.Attr("val")
	return v != "0" && v != "false" && v != "off"
}

func flag(n *pack.Node, into **bool) {
	if n != nil {
		v := on(n)
		*into = &v
	}
}

func length(n *pack.Node, into **float64, names ...string) {
	for _, name := range names {
		if n.Has(name) {
			v := twips(n.Attr(name))
			*into = &v
			return
		}
	}
}

// run reads run properties over those there are.
func (d *reader) run(p *props, n *pack.Node) {
	for _, k := range n.Nodes() {
		switch k.Name {
		case "b":
			flag(k, &p.bold)
		case "i":
			flag(k, &p.italic)
		case "strike", "dstrike":
			flag(k, &p.strike)
		case "caps":
			flag(k, &p.caps)
		case "smallCaps":
			flag(k, &p.small)
		case "vanish":
			flag(k, &p.hidden)
		case "u":
			v := k.Attr("val") != "none" && k.Attr("val") != ""
			p.underline = &v
		case "rFonts":
			name := k.Attr("ascii")
			switch {
			case strings.HasPrefix(k.Attr("asciiTheme"), "minor"):
				name = d.theme["minor"]
			case strings.HasPrefix(k.Attr("asciiTheme"), "major"):
				name = d.theme["major"]
			}
			p.font = cmp.Or(name, k.Attr("hAnsi"), p.font)
		case "sz":
			if v, err := strconv.ParseFloat(k.Attr("val"), 64); err == nil && v > 0 && v < 3300 {
				p.size = v / 2
			}
		case "color":
			p.colour = page.Colour(k.Attr("val"))
		case "highlight":
			p.back = highlights[k.Attr("val")]
		case "shd":
			p.back = page.Colour(k.Attr("fill"))
		case "vertAlign":
			p.vert = map[string]string{"superscript": "super", "subscript": "sub"}[k.Attr("val")]
		case "lang":
			p.lang = k.Attr("val")
		}
	}
}

// highlights are the colours of 17.18.40.
var highlights = map[string]string{"yellow": "#ffff00", "green": "#00ff00", "cyan": "#00ffff", "magenta": "#ff00ff", "blue": "#0000ff", "red": "#ff0000", "darkBlue": "#000080",
	"darkCyan": "#008080", "darkGreen": "#008000", "darkMagenta": "#800080", "darkRed": "#800000", "darkYellow": "#808000", "darkGray": "#808080", "lightGray": "#c0c0c0"}

// para reads paragraph properties over those there are.
func (d *reader) para(p *props, n *pack.Node) {
	for _, k := range n.Nodes() {
		switch k.Name {
		case "jc":
			p.align = map[string]string{"left": "left", "start": "left", "center": "center", "right": "right", "end": "right", "both": "justify", "distribute": "justify"}[k.Attr("val")]
		case "ind":
			length(k, &p.left, "left", "start")
			length(k, &p.right, "right", "end")
			length(k, &p.first, "firstLine")
			if k.Has("hanging") {
				v := -twips(k.Attr("hanging"))
				p.first = &v
			}
		case "spacing":
			length(k, &p.before, "before")
			length(k, &p.after, "after")
			if k.Has("line") {
				length(k, &p.line, "line")
				p.lineRule = k.Attr("lineRule")
			}
		case "keepNext":
			flag(k, &p.keepNext)
		case "keepLines":
			flag(k, &p.keepLines)
		case "pageBreakBefore":
			flag(k, &p.pageBreak)
		case "contextualSpacing":
			flag(k, &p.close)
		case "bidi":
			flag(k, &p.bi)
		case "outlineLvl":
			if v, err := strconv.Atoi(k.Attr("val")); err == nil && v < 9 && v >= 0 {
				p.outline = v + 1
			} else {
				p.outline = 0
			}
		case "numPr":
			if id := k.First("numId"); id != nil {
				p.numID = id.Attr("val")
			}
			if l := k.First("ilvl"); l != nil {
				p.level, _ = strconv.Atoi(l.Attr("val"))
			}
		case "shd":
			p.shade = page.Colour(k.Attr("fill"))
		case "pBdr":
			p.borders = maps.Clone(p.borders)
			if p.borders == nil {
				p.borders = map[string]string{}
			}
			for _, b := range k.Nodes() {
				p.borders[b.Name] = border(b)
			}
		case "tabs":
			p.tabs = slices.Clone(p.tabs)
			for _, t := range k.All("tab") {
				if t.Attr("val") != "clear" && len(p.tabs) < 50 {
					p.tabs = append(p.tabs, tabStop{t.Attr("val"), twips(t.Attr("pos"))})
				}
			}
		case "rPr":
		}
	}
}

// border reads a line (17.3.4): "0.5pt solid #000000".
func border(b *pack.Node) string {
	kind := b.Attr("val")
	if b == nil || kind == "" || kind == "nil" || kind == "none" {
		return "none"
	}
	w, _ := strconv.ParseFloat(b.Attr("sz"), 64)
	look := "solid"
	switch {
	case strings.HasPrefix(kind, "dot"):
		look = "dotted"
	case strings.HasPrefix(kind, "dash"):
		look = "dashed"
	case kind == "double":
		look, w = "double", max(w, 12)
	}
	return page.Pt(min(12, max(0.25, w/8))) + " " + look + " " + cmp.Or(page.Colour(b.Attr("color")), "#000000")
}

// readStyles reads the styles with what they are based on.
func (d *reader) readStyles(root *pack.Node) {
	d.run(&d.defaults, root.First("docDefaults", "rPrDefault", "rPr"))
	d.para(&d.defaults, root.First("docDefaults", "pPrDefault", "pPr"))
	d.lang = d.defaults.lang
	if d.defaults.size == 0 {
		d.defaults.size = 10
	}
	d.defaults.font = cmp.Or(d.defaults.font, "Times New Roman")
	nodes := map[string]*pack.Node{}
	for _, n := range root.All("style") {
		id := n.Attr("styleId")
		nodes[id] = n
		d.styles[id] = &style{id: id, name: strings.ToLower(n.First("name").Attr("val")), basedOn: n.First("basedOn").Attr("val"), kind: n.Attr("type"), table: n}
		if n.Attr("default") == "1" || n.Attr("default") == "true" {
			d.usual[n.Attr("type")] = id
		}
	}
	for id, st := range d.styles {
		chain := []string{}
		for at, seen := id, map[string]bool{}; d.styles[at] != nil && !seen[at]; at = d.styles[at].basedOn {
			seen[at] = true
			chain = append(chain, at)
		}
		slices.Reverse(chain)
		for _, c := range chain {
			d.para(&st.p, nodes[c].First("pPr"))
			d.run(&st.p, nodes[c].First("rPr"))
			if name, ok := strings.CutPrefix(d.styles[c].name, "heading "); ok {
				if v, err := strconv.Atoi(name); err == nil && v > 0 && v < 10 && nodes[c].First("pPr", "outlineLvl") == nil {
					st.p.outline = v
				}
			}
		}
	}
}

// over puts what is set in q over p.
func (p *props) over(q props) {
	for _, f := range []struct{ to, from **bool }{{&p.bold, &q.bold}, {&p.italic, &q.italic}, {&p.strike, &q.strike}, {&p.caps, &q.caps}, {&p.small, &q.small}, {&p.hidden, &q.hidden},
		{&p.underline, &q.underline}, {&p.keepNext, &q.keepNext}, {&p.keepLines, &q.keepLines}, {&p.pageBreak, &q.pageBreak}, {&p.close, &q.close}, {&p.bi, &q.bi}} {
		if *f.from != nil {
			*f.to = *f.from
		}
	}
	for _, f := range []struct{ to, from **float64 }{{&p.left, &q.left}, {&p.right, &q.right}, {&p.first, &q.first}, {&p.before, &q.before}, {&p.after, &q.after}, {&p.line, &q.line}} {
		if *f.from != nil {
			*f.to = *f.from
		}
	}
	if q.line != nil {
		p.lineRule = q.lineRule
	}
	for _, f := range []struct{ to, from *string }{{&p.font, &q.font}, {&p.colour, &q.colour}, {&p.back, &q.back}, {&p.vert, &q.vert}, {&p.lang, &q.lang}, {&p.align, &q.align}, {&p.shade, &q.shade}} {
		*f.to = cmp.Or(*f.from, *f.to)
	}
	p.size = cmp.Or(q.size, p.size)
	p.outline = cmp.Or(q.outline, p.outline)
	if q.numID != "" {
		p.numID, p.level = q.numID, q.level
	}
	if q.borders != nil {
		p.borders = q.borders
	}
	if q.tabs != nil {
		p.tabs = q.tabs
	}
}

func is(b *bool) bool { return b != nil && *b }

func pts(v *float64) float64 {
	if v == nil {
		return 0
	}
	return *v
}

// css gives the declarations of run properties, and with block those of the paragraph.
func (d *reader) css(p props, block bool) string {
	var decl []string
	add := func(on bool, name, value string) {
		if on {
			decl = append(decl, name, value)
		}
	}
	if p.font != "" || p.size > 0 {
		family, factor := d.s.Stand(cmp.Or(p.font, d.defaults.font))
		add(p.font != "", "font-family", d.s.Family(family))
		if p.size > 0 {
			size := p.size * factor
			if p.vert != "" {
				size *= 0.65
			}
			decl = append(decl, "font-size", page.Pt(size))
		}
	}
	add(p.bold != nil, "font-weight", map[bool]string{true: "700", false: "400"}[is(p.bold)])
	add(p.italic != nil, "font-style", map[bool]string{true: "italic", false: "normal"}[is(p.italic)])
	line := strings.TrimSpace(map[bool]string{true: "underline "}[is(p.underline)] + map[bool]string{true: "line-through"}[is(p.strike)])
	add(line != "", "text-decoration", line)
	add(is(p.caps), "text-transform", "uppercase")
	add(is(p.small), "font-variant-caps", "small-caps")
	add(p.colour != "", "color", p.colour)
	add(p.back != "", "background", p.back)
	add(p.vert != "", "vertical-align", p.vert)
	if block {
		add(p.align != "", "text-align", p.align)
		add(pts(p.left) != 0, "margin-left", page.Pt(pts(p.left)))
		add(pts(p.right) != 0, "margin-right", page.Pt(pts(p.right)))
		add(pts(p.first) != 0, "text-indent", page.Pt(pts(p.first)))
		add(pts(p.before) != 0, "margin-top", page.Pt(min(200, pts(p.before))))
		add(pts(p.after) != 0, "margin-bottom", page.Pt(min(200, pts(p.after))))
		switch {
		case p.line == nil:
		case p.lineRule == "exact" || p.lineRule == "atLeast":
			decl = append(decl, "line-height", page.Pt(max(4, *p.line)))
		default: // in lines of 12 points; a line of a font is about 1.17 of its size
			decl = append(decl, "line-height", strconv.FormatFloat(min(5, max(0.8, *p.line/12*1.17)), 'f', 3, 64))
		}
		add(is(p.keepNext), "break-after", "avoid")
		add(is(p.keepLines), "break-inside", "avoid")
		add(p.shade != "", "background", p.shade)
		for _, side := range []string{"top", "right", "bottom", "left"} {
			add(p.borders[side] != "" && p.borders[side] != "none", "border-"+side, p.borders[side])
		}
		add(len(p.borders) > 0, "padding", "1pt 4pt")
	}
	return page.Declarations(decl...)
}
