package odf

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"glenrain/core/intake/pack"
	"glenrain/core/intake/page"
)

// text is a text document being read.
type text struct {
	*document
	usual   page.Paper
	forced  bool
	notes   []*pack.Node
	section int
	master  string
	began   bool
	blocks  int
}

// maxDepth is how deeply elements of a text are nested.
const maxDepth = 200

// Text reads a text document.
func Text(ctx context.Context, s *page.Sheet, r io.ReaderAt, size int64, paper page.Paper, forced bool) error {
	d, err := open(ctx, s, r, size)
	if err != nil {
		return err
	}
	body := d.body.First("text")
	if body == nil {
		return pack.ErrDamaged
	}
	t := &text{document: d, usual: paper, forced: forced}
	base := page.Declarations(d.runCSS(d.chain("paragraph", ""), false)...)
	s.CSS("body{%s}p,h1,h2,h3,h4,h5,h6{margin:0;font-weight:inherit;font-size:inherit}ul,ol{margin:0}td,th{vertical-align:top;padding:2pt 4pt;text-align:left}.tab{white-space:pre;tab-size:36pt}.notes{margin-top:14pt;border-top:.5pt solid #888;padding-top:4pt;font-size:85%%}",
		base)
	t.begin(d.first)
	if err := t.story(body.Nodes(), 0); err != nil {
		return err
	}
	if len(t.notes) > 0 {
		s.Tell("Footnotes are at the end of the text, with links to and from them.")
		s.Raw(`<section class="notes"><ol>`)
		for i := 0; i < len(t.notes) && i < 20_000; i++ {
			s.Raw("<li", page.Attr("id", "note-"+strconv.Itoa(i+1)), ">")
			if err := t.story(t.notes[i].Nodes(), 0); err != nil {
				return err
			}
			s.Raw("</li>")
		}
		s.Raw("</ol></section>")
	}
	s.Raw("</section>")
	return nil
}

// begin begins a part of the text on a page style (16.9).
func (t *text) begin(master string) {
	if t.section > 0 {
		t.s.Raw("</section>")
	}
	t.section++
	t.master = master
	name := fmt.Sprintf("s%d", t.section)
	m := t.masters[master]
	p := t.paper(master, t.usual, t.forced)
	run := page.Declarations(t.runCSS(t.chain("paragraph", cmp.Or(m.First("header", "p").Attr("style-name"), "Header")), false)...)
	boxes := func(head, foot string) string {
		return t.running(m.First(head)).Boxes("top", run) + t.running(m.First(foot)).Boxes("bottom", run)
	}
	t.s.CSS("@page %s{%s;%s}", name, p.Rule(), boxes("header", "footer"))
	if m.First("header-left") != nil || m.First("footer-left") != nil {
		t.s.CSS("@page %s:left{%s%s}", name, page.NoBoxes, boxes("header-left", "footer-left"))
	}
	if (m.First("header-first") != nil || m.First("footer-first") != nil) && t.section == 1 {
		t.s.CSS("@page %s:first{%s%s}", name, page.NoBoxes, boxes("header-first", "footer-first"))
	}
	t.s.CSS(".%s{page:%s%s}", name, name, map[bool]string{true: ";break-before:page"}[t.section > 1])
	t.s.Raw(`<section class="`, name, `">`)
}

func (t *text) class(decl []string) string { return t.s.Class(page.Declarations(decl...)) }

func (t *text) story(list []*pack.Node, depth int) error {
	if depth > maxDepth {
		return pack.ErrTooDeep
	}
	for _, n := range list {
		if t.blocks++; t.blocks%64 == 0 && t.ctx.Err() != nil {
			return t.ctx.Err()
		}
		if t.s.Over() {
			return pack.ErrTooMany
		}
		var err error
		switch n.Name {
		case "h", "p":
			err = t.paragraph(n, depth)
		case "list":
			err = t.list(n, "", 1, depth)
		case "table":
			err = t.table(n, depth)
		case "section", "table-of-content", "index-body", "index-title", "illustration-index", "alphabetical-index", "bibliography", "user-index", "table-index":
			if n.Attr("display") != "none" {
				err = t.story(n.Nodes(), depth+1)
			}
		case "frame":
			t.s.Raw("<p>")
			err = t.frame(n, depth)
			t.s.Raw("</p>")
		case "tracked-changes":
			t.s.Tell("Changes that were tracked are shown as accepted.")
		}
		if err != nil {
			return err
		}
		t.began = true
	}
	return nil
}

func (t *text) paragraph(n *pack.Node, depth int) error {
	chain := t.chain("paragraph", n.Attr("style-name"))
	decl := append(t.runCSS(chain, false), t.paraCSS(chain)...)
	for i := len(chain) - 1; i >= 0; i-- {
		if m := chain[i].Attr("master-page-name"); m != "" {
			if t.masters[m] != nil && depth == 0 && (t.began || m != t.master) {
				if t.began {
					t.begin(m)
				} else {
					t.s.CSS("@page s1{%s}", t.paper(m, t.usual, t.forced).Rule())
					t.master = m
				}
			}
			break
		}
	}
	if t.began && t.prop(chain, "paragraph-properties", "break-before") == "page" {
		decl = append(decl, "break-before", "page")
	}
	if t.prop(chain, "paragraph-properties", "break-after") == "page" {
		decl = append(decl, "break-after", "page")
	}
	tag := "p"
	if n.Name == "h" {
		l, _ := strconv.Atoi(n.Attr("outline-level"))
		tag = "h" + strconv.Itoa(min(6, max(1, l)))
		if l <= 1 && t.s.Title == "" {
			t.s.Title = strings.Join(strings.Fields(n.Words()), " ")
		}
	}
	t.s.Raw("<", tag, t.class(decl), ">")
	if len(n.Kids) == 0 {
		t.s.Raw("<br>")
	}
	err := t.inline(n, depth+1)
	t.s.Raw("</", tag, ">")
	return err
}

// inline writes what stands in a paragraph.
func (t *text) inline(n *pack.Node, depth int) error {
	if depth > maxDepth {
		return pack.ErrTooDeep
	}
	for _, k := range n.Kids {
		var err error
		switch k.Name {
		case "":
			t.s.Text(strings.Map(func(r rune) rune {
				if r == '\n' || r == '\r' {
					return ' '
				}
				return r
			}, k.Text))
		case "span":
			chain := t.chain("text", k.Attr("style-name"))
			attrs := t.class(t.runCSS(chain, true))
			t.s.Raw("<span", attrs, ">")
			err = t.inline(k, depth+1)
			t.s.Raw("</span>")
		case "a":
			href := page.Link(k.Attr("href"))
			if href == "" {
				err = t.inline(k, depth+1)
				break
			}
			t.s.Raw("<a", page.Attr("href", href), ">")
			err = t.inline(k, depth+1)
			t.s.Raw("</a>")
		case "s":
			c, _ := strconv.Atoi(k.Attr("c"))
			t.s.Text(strings.Repeat("\u00a0", min(200, max(1, c))))
		case "tab":
			t.s.Raw(`<span class="tab">`, "\t", `</span>`)
		case "line-break":
			t.s.Raw("<br>")
		case "bookmark", "bookmark-start", "reference-mark", "reference-mark-start":
			t.s.Raw("<a", page.Attr("id", page.Anchor(k.Attr("name"))), "></a>")
		case "note":
			t.notes = append(t.notes, k.First("note-body"))
			no := strconv.Itoa(len(t.notes))
			t.s.Raw(`<sup><a href="#note-`, no, `">`, no, "</a></sup>")
		case "frame":
			err = t.frame(k, depth+1)
		case "annotation", "annotation-end":
			t.s.Tell("Comments were left out.")
		case "soft-page-break", "change", "change-start", "change-end", "sequence-decls", "forms":
		case "ruby":
			err = t.inline(k.First("ruby-base"), depth+1)
		default: // fields show the value that they had when the file was written
			if len(k.Kids) > 0 {
				err = t.inline(k, depth+1)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// frame writes a picture or a text box.
func (t *text) frame(n *pack.Node, depth int) error {
	alt := cmp.Or(strings.TrimSpace(n.First("desc").Words()), strings.TrimSpace(n.First("title").Words()))
	if box := n.First("text-box"); box != nil {
		t.s.Raw(`</p><div style="border:.5pt solid #bbb;padding:3pt;margin:4pt 0">`)
		err := t.story(box.Nodes(), depth+1)
		t.s.Raw("</div><p>")
		return err
	}
	if n.First("object") != nil {
		t.s.Tell("Embedded objects (charts, formulas, sheets) are shown by their pictures, where they have one.")
	}
	for _, img := range n.All("image") {
		href := strings.TrimPrefix(img.Attr("href"), "./")
		if strings.Contains(href, "://") {
			continue
		}
		data, err := t.pack.Read(href)
		if err != nil {
			return err
		}
		if src := t.s.Picture(data); src != "" {
			w := pt(n.Attr("width"))
			css := []string{}
			if w > 0 {
				css = append(css, "width", page.Pt(w), "max-height", "95vh")
			}
			t.s.Raw("<img", page.Attr("src", src), page.Attr("alt", alt), t.class(css), ">")
			return nil
		}
	}
	if n.First("image") != nil {
		t.s.Tell("Pictures in formats that can’t be shown (such as SVM, EMF or WMF) were replaced by their descriptions.")
		if alt != "" {
			t.s.Raw("<span>[", page.Escape(alt), "]</span>")
		}
	}
	return nil
}

// list writes a list (5.3).
func (t *text) list(n *pack.Node, style string, level, depth int) error {
	if depth > maxDepth || level > 10 {
		return pack.ErrTooDeep
	}
	style = cmp.Or(n.Attr("style-name"), style)
	tag, css, prefix := "ul", []string{}, ""
	suffix, format := "", ""
	for _, l := range t.lists[style].Nodes() {
		if l.Attr("level") != strconv.Itoa(level) {
			continue
		}
		if l.Name == "list-level-style-number" && l.Attr("num-format") != "" {
			tag = "ol"
			prefix, suffix = l.Attr("num-prefix"), l.Attr("num-suffix")
			format = map[string]string{"1": "decimal", "a": "lower-alpha", "A": "upper-alpha", "i": "lower-roman", "I": "upper-roman"}[l.Attr("num-format")]
		} else if l.Name == "list-level-style-number" {
			format = "none"
		}
	}
	if format != "" && prefix == "" && (suffix == "." || suffix == "") || format == "none" {
		css = append(css, "list-style-type", format)
	}
	start := 1
	if v, err := strconv.Atoi(n.First("list-item").Attr("start-value")); err == nil {
		start = v
	}
	t.s.Raw("<", tag)
	if start != 1 && tag == "ol" {
		t.s.Raw(page.Attr("start", strconv.Itoa(start)))
	}
	t.s.Raw(t.class(css), ">")
	no := start - 1
	for _, item := range n.Nodes() {
		switch item.Name {
		case "list-item":
			no++
			t.s.Raw("<li")
			if tag == "ol" && len(css) == 0 && format != "" {
				t.s.Raw(` style="list-style-type:`, page.Escape(page.String(prefix+numeral(no, format)+suffix+" ")), `"`)
			}
			t.s.Raw(">")
		case "list-header":
			t.s.Raw(`<li style="list-style-type:none">`)
		default:
			continue
		}
		for _, k := range item.Nodes() {
			var err error
			if k.Name == "list" {
				err = t.list(k, style, level+1, depth+1)
			} else {
				err = t.story([]*pack.Node{k}, depth+1)
			}
			if err != nil {
				return err
			}
		}
		t.s.Raw("</li>")
	}
	t.s.Raw("</", tag, ">")
	return nil
}

// numeral writes a number as CSS would.
func numeral(n int, format string) string {
	switch {
	case format == "lower-alpha" && n > 0 && n <= 26:
		return string(rune('a' + n - 1))
	case format == "upper-alpha" && n > 0 && n <= 26:
		return string(rune('A' + n - 1))
	case strings.HasSuffix(format, "roman") && n > 0 && n < 40:
		s := strings.Repeat("X", n/10) + []string{"", "I", "II", "III", "IV", "V", "VI", "VII", "VIII", "IX"}[n%10]
		if format == "lower-roman" {
			return strings.ToLower(s)
		}
		return s
	}
	return strconv.Itoa(n)
}

// table writes a table of a text (9.1).
func (t *text) table(n *pack.Node, depth int) error {
	chain := t.chain("table", n.Attr("style-name"))
	css := []string{"table-layout", "fixed"}
	if w := pt(t.prop(chain, "table-properties", "width")); w > 0 {
		css = append(css, "width", page.Pt(w), "max-width", "100%")
	} else {
		css = append(css, "width", "100%")
	}
	switch t.prop(chain, "table-properties", "align") {
	case "center":
		css = append(css, "margin-left", "auto", "margin-right", "auto")
	case "right":
		css = append(css, "margin-left", "auto")
	}
	t.s.Raw("<table", t.class(css), "><colgroup>")
	var widths []float64
	var walk func(n *pack.Node)
	walk = func(n *pack.Node) {
		for _, c := range n.Nodes() {
			switch c.Name {
			case "table-columns", "table-header-columns", "table-column-group":
				if len(widths) < 200 {
					walk(c)
				}
			case "table-column":
				w := pt(t.prop(t.chain("table-column", c.Attr("style-name")), "table-column-properties", "column-width"))
				k, _ := strconv.Atoi(c.Attr("number-columns-repeated"))
				for range min(200, max(1, k)) {
					widths = append(widths, w)
				}
			}
		}
	}
	walk(n)
	total := 0.0
	for _, w := range widths {
		total += w
	}
	for _, w := range widths {
		if total > 0 {
			t.s.Raw(`<col style="width:`, strconv.FormatFloat(w/total*100, 'f', 2, 64), `%">`)
		}
	}
	t.s.Raw("</colgroup>")
	if h := n.First("table-header-rows"); h != nil {
		t.s.Raw("<thead>")
		if err := t.rows(h.Nodes(), "th", depth); err != nil {
			return err
		}
		t.s.Raw("</thead>")
	}
	t.s.Raw("<tbody>")
	err := t.rows(n.Nodes(), "td", depth)
	t.s.Raw("</tbody></table>")
	return err
}

func (t *text) rows(list []*pack.Node, tag string, depth int) error {
	for _, r := range list {
		switch r.Name {
		case "table-rows", "table-row-group":
			if depth > maxDepth {
				return pack.ErrTooDeep
			}
			if err := t.rows(r.Nodes(), tag, depth+1); err != nil {
				return err
			}
		case "table-row":
			t.s.Raw("<tr>")
			for _, c := range r.All("table-cell") {
				if err := t.cell(c, tag, depth); err != nil {
					return err
				}
			}
			t.s.Raw("</tr>")
		}
	}
	return nil
}

func (t *text) cell(c *pack.Node, tag string, depth int) error {
	chain := t.chain("table-cell", c.Attr("style-name"))
	get := func(name string) string { return t.prop(chain, "table-cell-properties", name) }
	var css []string
	for _, side := range []string{"top", "right", "bottom", "left"} {
		if l := line(cmp.Or(get("border-"+side), get("border"))); l != "" {
			css = append(css, "border-"+side, l)
		}
	}
	css = append(css, "background", page.Colour(get("background-color")), "vertical-align", map[string]string{"middle": "middle", "bottom": "bottom"}[get("vertical-align")])
	if p := get("padding"); pt(p) > 0 {
		css = append(css, "padding", page.Pt(min(60, pt(p))))
	}
	attrs := t.class(css)
	if tag == "th" {
		attrs += ` scope="col"`
	}
	for from, to := range map[string]string{"number-columns-spanned": "colspan", "number-rows-spanned": "rowspan"} {
		if v, err := strconv.Atoi(c.Attr(from)); err == nil && v > 1 && v < 1000 {
			attrs += page.Attr(to, strconv.Itoa(v))
		}
	}
	k, _ := strconv.Atoi(c.Attr("number-columns-repeated"))
	for range min(200, max(1, k)) {
		t.s.Raw("<", tag, attrs, ">")
		if err := t.story(c.Nodes(), depth+1); err != nil {
			return err
		}
		t.s.Raw("</", tag, ">")
	}
	return nil
}
