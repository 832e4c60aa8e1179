// Package odf reads text documents and workbooks of OpenDocument 1.3 (OASIS) into sheets, as far as pages show them: headings, lists, tables,
// pictures, links, notes, page styles with headers and footers; cells with what they show, merged, with their styles.
package odf

import (
	"cmp"
	"context"
	"io"
	"strconv"
	"strings"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
)

// document is what texts and workbooks have in common.
type document struct {
	ctx     context.Context
	s       *page.Sheet
	pack    *pack.Package
	body    *pack.Node
	styles  map[string]*pack.Node // by "family name"
	layouts map[string]*pack.Node // style:page-layout-properties by name
	masters map[string]*pack.Node
	lists   map[string]*pack.Node
	fonts   map[string]string // family by the name of the face
	first   string            // the first master page

	sheetName string // of a workbook, for headers
}

func open(ctx context.Context, s *page.Sheet, r io.ReaderAt, size int64) (*document, error) {
	p, err := pack.Open(ctx, r, size)
	if err != nil {
		return nil, err
	}
	if m, err := p.XML("META-INF/manifest.xml"); err == nil && m.Find("encryption-data") != nil {
		return nil, pack.ErrLocked
	}
	d := &document{ctx: ctx, s: s, pack: p, styles: map[string]*pack.Node{}, layouts: map[string]*pack.Node{}, masters: map[string]*pack.Node{}, lists: map[string]*pack.Node{}, fonts: map[string]string{}}
	content, err := p.XML("content.xml")
	if err != nil {
		return nil, err
	}
	if content == nil {
		return nil, pack.ErrDamaged
	}
	styles, err := p.XML("styles.xml")
	if err != nil {
		return nil, err
	}
	meta, err := p.XML("meta.xml")
	if err != nil {
		return nil, err
	}
	for _, root := range []*pack.Node{styles, content} {
		for _, f := range root.First("font-face-decls").All("font-face") {
			d.fonts[f.Attr("name")] = strings.Trim(f.Attr("font-family"), "'\"")
		}
		for _, part := range []string{"styles", "automatic-styles"} {
			for _, n := range root.First(part).Nodes() {
				switch n.Name {
				case "style":
					d.styles[n.Attr("family")+" "+n.Attr("name")] = n
				case "default-style":
					d.styles[n.Attr("family")+" "] = n
				case "page-layout":
					d.layouts[n.Attr("name")] = n
				case "list-style":
					d.lists[n.Attr("name")] = n
				}
			}
		}
		for _, n := range root.First("master-styles").All("master-page") {
			d.masters[n.Attr("name")] = n
			d.first = cmp.Or(d.first, n.Attr("name"))
		}
	}
	if d.masters["Standard"] != nil {
		d.first = "Standard"
	}
	d.body = content.First("body")
	if hasMacros(p) {
		s.Tell("Its macros were not run and are not in the result.")
	}
	s.Title = strings.TrimSpace(meta.First("meta", "title").Words())
	s.Lang = strings.TrimSpace(meta.First("meta", "language").Words())
	if s.Lang == "" {
		t := d.styles["paragraph "].First("text-properties")
		if l := t.Attr("language"); l != "" && l != "none" {
			s.Lang = l
			if c := t.Attr("country"); c != "" && c != "none" {
				s.Lang += "-" + c
			}
		}
	}
	return d, nil
}

func hasMacros(p *pack.Package) bool {
	for _, n := range p.Names() {
		if strings.HasPrefix(n, "Basic/") || strings.HasPrefix(n, "Scripts/") {
			return true
		}
	}
	return false
}

// maxChain is how many styles one may be based on.
const maxChain = 30

// chain gives a style and those it is based on, the last first.
func (d *document) chain(family, name string) (out []*pack.Node) {
	if n := d.styles[family+" "]; n != nil {
		out = append(out, n)
	}
	var own []*pack.Node
	for n := d.styles[family+" "+name]; n != nil && len(own) < maxChain; n = d.styles[family+" "+n.Attr("parent-style-name")] {
		own = append([]*pack.Node{n}, own...)
		if n.Attr("parent-style-name") == "" {
			break
		}
	}
	return append(out, own...)
}

// prop gives a property of a style, of those that say it the nearest: in "text-properties" and the like.
func (d *document) prop(chain []*pack.Node, in, name string) string {
	for i := len(chain) - 1; i >= 0; i-- {
		if v := chain[i].First(in); v.Has(name) {
			return v.Attr(name)
		}
	}
	return ""
}

// pt reads a length (fo, XSL 5.9.13); 0 where it is none.
func pt(v string) float64 {
	v = strings.TrimSpace(v)
	for unit, by := range map[string]float64{"pt": 1, "in": 72, "cm": 72 / 2.54, "mm": 72 / 25.4, "pc": 12, "px": 0.75} {
		if n, ok := strings.CutSuffix(v, unit); ok {
			f, err := strconv.ParseFloat(n, 64)
			if err != nil || f != f {
				return 0
			}
			return min(20000, max(-20000, f*by))
		}
	}
	return 0
}

// runCSS gives the declarations of text properties.
func (d *document) runCSS(chain []*pack.Node, own bool) []string {
	get := func(name string) string { return d.prop(chain, "text-properties", name) }
	var decl []string
	add := func(on bool, name, value string) {
		if on {
			decl = append(decl, name, value)
		}
	}
	font := cmp.Or(d.fonts[get("font-name")], strings.Trim(get("font-family"), "'\""))
	factor := 1.0
	if font != "" {
		var family string
		family, factor = d.s.Stand(font)
		add(true, "font-family", d.s.Family(family))
	}
	if size := get("font-size"); strings.HasSuffix(size, "%") {
		add(len(size) < 6 && own, "font-size", page.Escape(size))
	} else if v := pt(size); v > 0 {
		add(true, "font-size", page.Pt(v*factor))
	}
	weight := get("font-weight")
	add(weight == "bold" || weight == "700" || weight == "800" || weight == "900", "font-weight", "700")
	add(weight == "normal" || weight == "400", "font-weight", "400")
	style := get("font-style")
	add(style == "italic" || style == "oblique", "font-style", "italic")
	add(style == "normal", "font-style", "normal")
	line := ""
	if u := get("text-underline-style"); u != "" && u != "none" {
		line = "underline"
	}
	if u := get("text-line-through-style"); u != "" && u != "none" {
		line = strings.TrimSpace(line + " line-through")
	}
	add(line != "", "text-decoration", line)
	add(page.Colour(get("color")) != "" && get("use-window-font-color") != "true", "color", page.Colour(get("color")))
	add(page.Colour(get("background-color")) != "", "background", page.Colour(get("background-color")))
	pos := get("text-position")
	add(strings.HasPrefix(pos, "super") || strings.HasPrefix(pos, "3"), "vertical-align", "super")
	add(strings.HasPrefix(pos, "sub") || strings.HasPrefix(pos, "-"), "vertical-align", "sub")
	add(pos != "" && pos != "0% 100%" && !strings.HasPrefix(pos, "0%"), "font-size", "65%")
	add(get("font-variant") == "small-caps", "font-variant-caps", "small-caps")
	add(get("text-transform") == "uppercase", "text-transform", "uppercase")
	return decl
}

// paraCSS gives the declarations of paragraph properties.
func (d *document) paraCSS(chain []*pack.Node) []string {
	get := func(name string) string { return d.prop(chain, "paragraph-properties", name) }
	var decl []string
	add := func(on bool, name, value string) {
		if on {
			decl = append(decl, name, value)
		}
	}
	align := map[string]string{"start": "left", "left": "left", "center": "center", "end": "right", "right": "right", "justify": "justify"}[get("text-align")]
	add(align != "", "text-align", align)
	for _, side := range []string{"top", "bottom", "left", "right"} {
		v := cmp.Or(get("margin-"+side), get("margin"))
		add(pt(v) != 0, "margin-"+side, page.Pt(min(300, pt(v))))
	}
	add(pt(get("text-indent")) != 0, "text-indent", page.Pt(pt(get("text-indent"))))
	lh := get("line-height")
	if p, ok := strings.CutSuffix(lh, "%"); ok {
		v, err := strconv.ParseFloat(p, 64)
		add(err == nil && v > 20 && v < 1000, "line-height", strconv.FormatFloat(v/100*1.17, 'f', 3, 64))
	} else {
		add(pt(lh) > 0, "line-height", page.Pt(pt(lh)))
	}
	add(get("keep-with-next") == "always", "break-after", "avoid")
	add(get("keep-together") == "always", "break-inside", "avoid")
	add(page.Colour(get("background-color")) != "", "background", page.Colour(get("background-color")))
	add(get("writing-mode") == "rl-tb", "direction", "rtl")
	for _, side := range []string{"top", "bottom", "left", "right"} {
		add(line(cmp.Or(get("border-"+side), get("border"))) != "", "border-"+side, line(cmp.Or(get("border-"+side), get("border"))))
	}
	return decl
}

// line reads a border: "0.5pt solid #000000".
func line(v string) string {
	f := strings.Fields(v)
	if len(f) < 3 || f[1] == "none" {
		return ""
	}
	style := map[string]string{"solid": "solid", "double": "double", "dotted": "dotted", "dashed": "dashed"}[f[1]]
	return page.Pt(min(12, max(0.25, pt(f[0])))) + " " + cmp.Or(style, "solid") + " " + cmp.Or(page.Colour(f[2]), "#000000")
}

// paper is that of a master page.
func (d *document) paper(master string, usual page.Paper, forced bool) page.Paper {
	m := d.masters[master]
	l := d.layouts[m.Attr("page-layout-name")].First("page-layout-properties")
	p := usual
	if l == nil || forced {
		return p.Sane()
	}
	if w, h := pt(l.Attr("page-width")), pt(l.Attr("page-height")); w > 0 && h > 0 {
		p.Width, p.Height = w, h
	}
	for _, side := range []struct {
		name string
		to   *float64
	}{{"top", &p.Top}, {"right", &p.Right}, {"bottom", &p.Bottom}, {"left", &p.Left}} {
		if v := cmp.Or(l.Attr("margin-"+side.name), l.Attr("margin")); v != "" {
			*side.to = pt(v)
		}
	}
	// Headers and footers stand between the margins and the text (16.5, 16.6).
	layout := d.layouts[m.Attr("page-layout-name")]
	if m.First("header") != nil {
		hp := layout.First("header-style", "header-footer-properties")
		p.Top += max(14, cmp.Or(pt(hp.Attr("height")), pt(hp.Attr("min-height")))) + pt(hp.Attr("margin-bottom"))
	}
	if m.First("footer") != nil {
		hp := layout.First("footer-style", "header-footer-properties")
		p.Bottom += max(14, cmp.Or(pt(hp.Attr("height")), pt(hp.Attr("min-height")))) + pt(hp.Attr("margin-top"))
	}
	return p.Sane()
}

// running gathers a header or footer.
func (d *document) running(n *pack.Node) (out page.Running) {
	if n == nil || n.Attr("display") == "false" {
		return out
	}
	if n.First("region-left") != nil || n.First("region-center") != nil || n.First("region-right") != nil { // of workbooks
		for name, to := range map[string]*[]page.Piece{"region-left": &out.Left, "region-center": &out.Centre, "region-right": &out.Right} {
			for _, p := range n.First(name).All("p") {
				*to = append(*to, d.pieces(p, 0)...)
			}
		}
		return out
	}
	places := []*[]page.Piece{&out.Left, &out.Centre, &out.Right}
	for _, p := range append(n.All("p"), n.All("h")...) {
		at := 0
		switch d.prop(d.chain("paragraph", p.Attr("style-name")), "paragraph-properties", "text-align") {
		case "center":
			at = 1
		case "end", "right":
			at = 2
		}
		for i, piece := range d.pieces(p, 0) {
			if piece.Text == "\t" {
				at = min(2, at+1)
				continue
			}
			if i == 0 && len(*places[at]) > 0 {
				*places[at] = append(*places[at], page.Piece{Text: "\n"})
			}
			*places[at] = append(*places[at], piece)
		}
	}
	return out
}

func (d *document) pieces(n *pack.Node, depth int) (out []page.Piece) {
	if depth > 60 {
		return nil
	}
	for _, k := range n.Kids {
		switch k.Name {
		case "":
			if t := k.Text; strings.TrimSpace(t) != "" || t == " " {
				out = append(out, page.Piece{Text: t})
			}
		case "page-number":
			out = append(out, page.Piece{Field: "page", Format: map[string]string{"i": "lower-roman", "I": "upper-roman", "a": "lower-alpha", "A": "upper-alpha"}[k.Attr("num-format")]})
		case "sheet-name":
			out = append(out, page.Piece{Text: cmp.Or(d.sheetName, k.Words())})
		case "title":
			out = append(out, page.Piece{Text: cmp.Or(d.s.Title, k.Words())})
		case "page-count":
			out = append(out, page.Piece{Field: "pages"})
		case "tab":
			out = append(out, page.Piece{Text: "\t"})
		case "s":
			out = append(out, page.Piece{Text: " "})
		case "line-break":
			out = append(out, page.Piece{Text: "\n"})
		default:
			out = append(out, d.pieces(k, depth+1)...)
		}
	}
	return out
}
