package docx

import (
	"fmt"
	"strings"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
)

// The kinds of headers and footers (17.18.36).
const (
	usualPages = iota
	firstPage
	evenPages
)

var kindsOf = map[string]int{"default": usualPages, "first": firstPage, "even": evenPages}

// running reads the headers and footers that a section names.
func (d *reader) running(sp *pack.Node, parts *[2][3]*pack.Node, rels *[2][3]map[string]pack.Relation) error {
	for i, name := range []string{"headerReference", "footerReference"} {
		for _, ref := range sp.All(name) {
			kind, ok := kindsOf[ref.Attr("type")]
			target := d.rels[ref.Attr("id")].Target
			if !ok || target == "" {
				continue
			}
			root, err := d.pack.XML(target)
			if err != nil {
				return err
			}
			own, err := d.pack.Relations(target)
			if err != nil {
				return err
			}
			parts[i][kind], rels[i][kind] = root, own
		}
	}
	return nil
}

// pageRules writes the @page rules of a section.
func (d *reader) pageRules(name string, p page.Paper, sp *pack.Node, parts [2][3]*pack.Node, rels [2][3]map[string]pack.Relation, first bool) {
	format := map[string]string{"lowerRoman": "lower-roman", "upperRoman": "upper-roman", "lowerLetter": "lower-alpha", "upperLetter": "upper-alpha"}[sp.First("pgNumType").Attr("fmt")]
	if start := sp.First("pgNumType").Attr("start"); start != "" && start != "1" {
		d.s.Tell("Page numbers in headers and footers count from 1 through the whole document, even where a section restarts.")
	}
	boxes := func(kind int) string {
		return d.pieces(parts[0][kind], rels[0][kind], format).Boxes("top", d.runStyle(parts[0][kind])) +
			d.pieces(parts[1][kind], rels[1][kind], format).Boxes("bottom", d.runStyle(parts[1][kind]))
	}
	d.s.CSS("@page %s{%s;%s}", name, p.Rule(), boxes(usualPages))
	if d.evenOdd {
		d.s.CSS("@page %s:left{%s%s}", name, page.NoBoxes, boxes(evenPages))
	}
	if on(sp.First("titlePg")) {
		if first {
			d.s.CSS("@page %s:first{%s%s}", name, page.NoBoxes, boxes(firstPage))
		} else if parts[0][firstPage] != nil || parts[1][firstPage] != nil {
			d.s.Tell("The first pages of later sections have the headers and footers of the other pages.")
		}
	}
}

// runStyle gives the look of a header by its first run.
func (d *reader) runStyle(root *pack.Node) string {
	var p props
	if para := root.Find("p"); para != nil {
		if st := d.styles[para.First("pPr", "pStyle").Attr("val")]; st != nil {
			p = st.p
		}
	}
	if r := root.Find("rPr"); r != nil {
		d.run(&p, r)
	}
	q := d.defaults
	q.over(props{font: p.font, size: p.size, bold: p.bold, italic: p.italic, colour: p.colour})
	return d.css(q, false)
}

// pieces gathers the text of a header or footer in the three places that tabs and alignment give it.
func (d *reader) pieces(root *pack.Node, rels map[string]pack.Relation, format string) (out page.Running) {
	if root == nil {
		return out
	}
	places := [3]*[]page.Piece{&out.Left, &out.Centre, &out.Right}
	lines := [3]int{}
	var paras []*pack.Node
	cellAt := map[*pack.Node]int{}
	for _, b := range flat(root.Nodes(), 0) {
		switch b.Name {
		case "p":
			paras = append(paras, b)
		case "tbl": // its cells stand beside one another
			for _, tr := range b.All("tr") {
				cells := tr.All("tc")
				for i, tc := range cells {
					at := 0
					if len(cells) > 1 {
						at = i * 2 / (len(cells) - 1)
					}
					for _, p := range tc.All("p") {
						paras = append(paras, p)
						cellAt[p] = at
					}
				}
			}
		}
	}
	for _, p := range paras {
		at := 0
		var q props
		if st := d.styles[p.First("pPr", "pStyle").Attr("val")]; st != nil {
			q = st.p
		}
		d.para(&q, p.First("pPr"))
		switch q.align {
		case "center":
			at = 1
		case "right":
			at = 2
		}
		if i, ok := cellAt[p]; ok && i > at {
			at = i
		}
		r := &runningReader{d: d, rels: rels, at: at, format: format, tabs: q.tabs}
		r.nodes(p.Nodes(), 0)
		for i := range 3 {
			if len(r.out[i]) == 0 {
				continue
			}
			if lines[i] > 0 {
				*places[i] = append(*places[i], page.Piece{Text: "\n"})
			}
			lines[i]++
			*places[i] = append(*places[i], r.out[i]...)
		}
	}
	return out
}

// runningReader reads a paragraph of a header.
type runningReader struct {
	d      *reader
	rels   map[string]pack.Relation
	at     int
	out    [3][]page.Piece
	format string
	tabs   []tabStop
	tabbed int
	code   *string
	shown  bool // the field's value was replaced
}

func (r *runningReader) add(p page.Piece) {
	if p.Text != "" || p.Field != "" {
		r.out[r.at] = append(r.out[r.at], p)
	}
}

func (r *runningReader) fieldOf(code string) bool {
	f := strings.Fields(code)
	if len(f) == 0 {
		return false
	}
	switch strings.ToUpper(f[0]) {
	case "PAGE":
		r.add(page.Piece{Field: "page", Format: r.format})
	case "NUMPAGES", "SECTIONPAGES":
		r.add(page.Piece{Field: "pages"})
	default:
		return false
	}
	return true
}

func (r *runningReader) nodes(list []*pack.Node, depth int) {
	if depth > maxNested {
		return
	}
	for _, n := range list {
		switch n.Name {
		case "fldSimple":
			if !r.fieldOf(n.Attr("instr")) {
				r.nodes(n.Nodes(), depth+1)
			}
		case "r", "hyperlink", "sdt", "sdtContent", "ins", "smartTag", "customXml":
			r.nodes(n.Nodes(), depth+1)
		case "t":
			if r.code == nil && !r.shown {
				r.add(page.Piece{Text: n.Words()})
			}
		case "tab", "ptab":
			r.tab(n)
		case "br":
			r.add(page.Piece{Text: "\n"})
		case "fldChar":
			switch n.Attr("fldCharType") {
			case "begin":
				s := ""
				r.code = &s
			case "separate":
				if r.code != nil {
					r.shown = r.fieldOf(*r.code)
				}
				r.code = nil
			case "end":
				if r.code != nil { // it has no value
					r.fieldOf(*r.code)
				}
				r.code, r.shown = nil, false
			}
		case "instrText":
			if r.code != nil && len(*r.code) < 1000 {
				*r.code += n.Words()
			}
		case "drawing", "pict", "object":
			if n.Find("txbxContent") != nil {
				r.d.s.Tell("Text boxes in headers and footers were left out.")
			} else if piece, ok := r.d.logo(n, r.rels); ok {
				r.add(piece)
			}
		case "AlternateContent":
			r.nodes(choice(n).Nodes(), depth+1)
		}
	}
}

// tab goes on to the next stop: the first in the middle, the second at the right, unless the stops say otherwise.
func (r *runningReader) tab(n *pack.Node) {
	if n.Name == "ptab" {
		r.at = map[string]int{"center": 1, "right": 2}[n.Attr("alignment")]
		return
	}
	r.tabbed++
	if len(r.tabs) >= r.tabbed {
		switch r.tabs[r.tabbed-1].kind {
		case "center":
			r.at = max(r.at, 1)
		case "right", "end":
			r.at = 2
		}
		return
	}
	r.at = min(2, r.at+1)
}

// logo gives a picture in a header, at the size that it is to have.
func (d *reader) logo(n *pack.Node, rels map[string]pack.Relation) (page.Piece, bool) {
	id := n.Find("blip").Attr("embed")
	if id == "" {
		id = n.Find("imagedata").Attr("id")
	}
	if id == "" {
		return page.Piece{}, false
	}
	data, err := d.pack.Read(rels[id].Target)
	if err != nil {
		return page.Piece{}, false
	}
	src := d.s.Picture(data)
	width := emu(n.Find("extent").Attr("cx"))
	px := page.PixelWidth(data)
	if src == "" || px == 0 || width == 0 {
		d.s.Tell("A picture in a header or footer was left out.")
		return page.Piece{}, false
	}
	// A picture in a margin box is as large as its pixels at a resolution (CSS Images 4, 2.4).
	return page.Piece{Picture: fmt.Sprintf(`image-set(url(%s) %.4fx)`, src, float64(px)*0.75/width)}, true
}
