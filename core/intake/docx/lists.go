package docx

import (
	"fmt"
	"strconv"
	"strings"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
)

// list is a numbering (17.9): its levels, and what it is counted by.
type list struct {
	abstract string
	levels   [9]numberLevel
}

type numberLevel struct {
	format, text string
	start        int
	restart      int // after which level it begins anew; -1 for the usual
	pPr          *pack.Node
	there        bool
}

// readNumbering reads the lists.
func (d *reader) readNumbering(root *pack.Node) {
	abstract := map[string]*pack.Node{}
	for _, n := range root.All("abstractNum") {
		abstract[n.Attr("abstractNumId")] = n
	}
	for _, n := range root.All("num") {
		id := n.First("abstractNumId").Attr("val")
		a := abstract[id]
		for range 5 { // a style may name another list (17.9.21)
			link := a.First("numStyleLink").Attr("val")
			st := d.styles[link]
			if link == "" || st == nil || st.p.numID == "" {
				break
			}
			for _, other := range root.All("num") {
				if other.Attr("numId") == st.p.numID {
					id = other.First("abstractNumId").Attr("val")
					a = abstract[id]
				}
			}
		}
		l := &list{abstract: id}
		for _, lvl := range a.All("lvl") {
			l.read(lvl)
		}
		for _, over := range n.All("lvlOverride") {
			if lvl := over.First("lvl"); lvl != nil {
				l.read(lvl)
			}
			if s := over.First("startOverride"); s != nil {
				i, err := strconv.Atoi(over.Attr("ilvl"))
				if err == nil && i >= 0 && i < 9 {
					l.levels[i].start, _ = strconv.Atoi(s.Attr("val"))
					l.abstract = id + "/" + n.Attr("numId") // counted by itself
				}
			}
		}
		d.numbering[n.Attr("numId")] = l
	}
}

func (l *list) read(n *pack.Node) {
	i, err := strconv.Atoi(n.Attr("ilvl"))
	if err != nil || i < 0 || i > 8 {
		return
	}
	v := numberLevel{format: n.First("numFmt").Attr("val"), text: n.First("lvlText").Attr("val"), start: 1, restart: -1, pPr: n.First("pPr"), there: true}
	if s := n.First("start"); s != nil {
		v.start, _ = strconv.Atoi(s.Attr("val"))
	}
	if r := n.First("lvlRestart"); r != nil {
		v.restart, _ = strconv.Atoi(r.Attr("val"))
	}
	l.levels[i] = v
}

// item gives the level that a paragraph is an item of, counted, and its label; nil where it is none.
func (d *reader) item(p props) (*numberLevel, string) {
	l := d.numbering[p.numID]
	if l == nil || p.numID == "0" || p.level < 0 || p.level > 8 || !l.levels[p.level].there {
		return nil, ""
	}
	at := &l.levels[p.level]
	counts := d.counters[l.abstract]
	if counts == nil {
		counts = make([]int, 9)
		for i := range counts {
			counts[i] = -1
		}
		d.counters[l.abstract] = counts
	}
	if counts[p.level] == -1 {
		counts[p.level] = at.start
	} else {
		counts[p.level]++
	}
	for i := p.level + 1; i < 9; i++ {
		if l.levels[i].restart != 0 {
			counts[i] = -1
		}
	}
	if at.format == "bullet" {
		return at, bullet(at.text)
	}
	if at.format == "none" {
		return at, ""
	}
	label := at.text
	for i := 8; i >= 0; i-- {
		mark := fmt.Sprintf("%%%d", i+1)
		if strings.Contains(label, mark) {
			n := counts[i]
			if n == -1 {
				n = l.levels[i].start
			}
			label = strings.ReplaceAll(label, mark, numeral(n, l.levels[i].format))
		}
	}
	return at, label
}

// bullet gives a sign that the shipped faces have for one of a symbol font.
func bullet(text string) string {
	r := []rune(text)
	if len(r) == 0 {
		return "•"
	}
	if r[0] >= 0xf000 && r[0] <= 0xf0ff {
		if s, ok := symbols[int64(r[0]&0xff)]; ok {
			return s
		}
		return "•"
	}
	if r[0] == 'o' && len(r) == 1 {
		return "○"
	}
	return string(r[0])
}

// numeral writes a number in a format (17.18.59).
func numeral(n int, format string) string {
	switch format {
	case "lowerLetter", "upperLetter":
		if n < 1 || n > 780 {
			return strconv.Itoa(n)
		}
		s := strings.Repeat(string(rune('a'+(n-1)%26)), (n-1)/26+1)
		if format == "upperLetter" {
			return strings.ToUpper(s)
		}
		return s
	case "lowerRoman":
		return strings.ToLower(roman(n))
	case "upperRoman":
		return roman(n)
	case "decimalZero":
		return fmt.Sprintf("%02d", n)
	case "ordinal":
		suffix := "th"
		if n%100 < 11 || n%100 > 13 {
			suffix = map[int]string{1: "st", 2: "nd", 3: "rd"}[n%10]
			if suffix == "" {
				suffix = "th"
			}
		}
		return strconv.Itoa(n) + suffix
	}
	return strconv.Itoa(n)
}

func roman(n int) string {
	if n < 1 || n > 3999 {
		return strconv.Itoa(n)
	}
	var b strings.Builder
	for _, r := range []struct {
		v int
		s string
	}{{1000, "M"}, {900, "CM"}, {500, "D"}, {400, "CD"}, {100, "C"}, {90, "XC"}, {50, "L"}, {40, "XL"}, {10, "X"}, {9, "IX"}, {5, "V"}, {4, "IV"}, {1, "I"}} {
		for n >= r.v {
			b.WriteString(r.s)
			n -= r.v
		}
	}
	return b.String()
}

// openItem opens the item of a list at its level.
func (d *reader) openItem(at *numberLevel, label string, p props) {
	tag := "ol"
	if at.format == "bullet" {
		tag = "ul"
	}
	depth := p.level + 1
	d.closeLists(depth)
	if len(d.levels) == depth {
		top := &d.levels[depth-1]
		if top.item {
			d.s.Raw("</li>")
			top.item = false
		}
		if top.tag != tag {
			d.closeLists(depth - 1)
		}
	}
	left := pts(p.left)
	for len(d.levels) < depth {
		base := 0.0
		for _, l := range d.levels {
			base += l.indent
		}
		indent := 0.0
		if len(d.levels) == depth-1 {
			indent = max(-base, left-base)
		}
		if len(d.levels) > 0 && !d.levels[len(d.levels)-1].item { // a level that is left out
			d.s.Raw(`<li style="list-style-type:none">`)
			d.levels[len(d.levels)-1].item = true
		}
		if len(d.levels) == depth-1 && base+indent < labelRoom { // so that the label has room before the text
			indent = labelRoom - base
		}
		d.s.Raw("<", tag, page.Style("margin-left", page.Pt(indent)), ">")
		d.levels = append(d.levels, level{tag: tag, indent: indent})
	}
	top := &d.levels[depth-1]
	top.item = true
	d.s.Raw("<li", d.s.Class(d.css(runOnly(p), false)), ` style="list-style-type:`, page.Escape(page.String(label+" ")), `">`)
}

// labelRoom is the least indent of an item, in points.
const labelRoom = 14

// runOnly is what a label takes of its paragraph.
func runOnly(p props) props {
	return props{font: p.font, size: p.size, bold: p.bold, italic: p.italic, colour: p.colour}
}

// paraOnly is what paragraphs take of those around them.
func paraOnly(p props) props {
	return props{align: p.align, before: p.before, after: p.after, line: p.line, lineRule: p.lineRule, left: p.left, right: p.right, first: p.first}
}

// inItem is a paragraph's look inside an item, whose list has its indent.
func (d *reader) inItem(p props) props {
	p.left, p.first = nil, nil
	return p
}

// closeLists closes lists until there are no more than n.
func (d *reader) closeLists(n int) {
	for len(d.levels) > n {
		top := d.levels[len(d.levels)-1]
		if top.item {
			d.s.Raw("</li>")
		}
		d.s.Raw("</", top.tag, ">")
		d.levels = d.levels[:len(d.levels)-1]
	}
}
