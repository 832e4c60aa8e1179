// Package docx reads text documents (ECMA-376 part 1, WordprocessingML) into a sheet: headings, runs, lists with their numbering, tables,
// pictures, links, notes, breaks, and sections with paper, margins, headers and footers of their own. What has no place on pages that are set
// anew - macros, comments, deletions that were tracked - is left out and told.
package docx

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

// reader is a document being read.
type reader struct {
	ctx       context.Context
	s         *page.Sheet
	pack      *pack.Package
	main      string // the part
	rels      map[string]pack.Relation
	styles    map[string]*style
	usual     map[string]string // the id of the style that is used where none is named, by its type
	defaults  props
	numbering map[string]*list
	counters  map[string][]int // of lists that are numbered on, by abstract list
	notes     map[string]*pack.Node
	noted     []string          // notes in the order of their marks, by "footnote 3"
	theme     map[string]string // "minor" and "major" fonts
	evenOdd   bool
	lang      string
	boxes     []*pack.Node // text boxes that wait for the end of their paragraph
	levels    []level      // open lists
	blocks    int
	last      *props // of the paragraph before
	forced    bool
	around    props // of paragraphs that say nothing: those of the document, or of the table they stand in
	anchored  map[string]bool
	field     []field
	brk       bool // the next paragraph begins a page
}

// level is an open list.
type level struct {
	tag    string
	indent float64
	item   bool // an item is open in it
}

// field is one that is being read (17.16.18).
type field struct {
	code  string
	value bool // its value is being read
	open  bool // as a link
}

// Read reads a document onto a sheet; paper is what is used where the document says none, or always where it is forced.
func Read(ctx context.Context, s *page.Sheet, r io.ReaderAt, size int64, paper page.Paper, forced bool) error {
	p, err := pack.Open(ctx, r, size)
	if err != nil {
		return err
	}
	d := &reader{ctx: ctx, s: s, pack: p, styles: map[string]*style{}, usual: map[string]string{}, numbering: map[string]*list{}, counters: map[string][]int{},
		notes: map[string]*pack.Node{}, theme: map[string]string{}, forced: forced, anchored: map[string]bool{}}
	d.main = "word/document.xml"
	if rels, err := p.Relations(""); err == nil {
		for _, r := range rels {
			if r.Type == "officeDocument" && p.Has(r.Target) {
				d.main = r.Target
			}
		}
	}
	root, err := p.XML(d.main)
	if err != nil {
		return err
	}
	body := root.First("body")
	if body == nil {
		return pack.ErrDamaged
	}
	if d.rels, err = p.Relations(d.main); err != nil {
		return err
	}
	if err := d.parts(); err != nil {
		return err
	}
	if p.Has("word/vbaProject.bin") {
		s.Tell("Its macros were not run and are not in the result.")
	}
	s.CSS("body{%s}p{margin:0}ul,ol{margin:0;padding:0}li{margin:0}td,th{vertical-align:top;text-align:inherit;font-weight:inherit;overflow-wrap:break-word}h1,h2,h3,h4,h5,h6,p{margin:0;font-weight:inherit;font-size:inherit;font-style:inherit}.tab{white-space:pre;tab-size:36pt}.row{display:flex;gap:6pt}.row>:last-child{margin-left:auto}.notes{margin-top:14pt;border-top:.5pt solid #888;padding-top:4pt;font-size:85%%}",
		d.css(runOnly(d.defaults), false))
	d.around = paraOnly(d.defaults)
	if err := d.sections(body, paper); err != nil {
		return err
	}
	s.Lang = cmp.Or(s.Lang, d.lang)
	return nil
}

// parts reads what the text refers to.
func (d *reader) parts() error {
	by := map[string]string{}
	for _, r := range d.rels {
		if !r.External {
			by[r.Type] = r.Target
		}
	}
	get := func(kind string) (*pack.Node, error) {
		if by[kind] == "" {
			return nil, nil
		}
		return d.pack.XML(by[kind])
	}
	theme, err := get("theme")
	if err != nil {
		return err
	}
	fonts := theme.First("themeElements", "fontScheme")
	d.theme["minor"], d.theme["major"] = fonts.First("minorFont", "latin").Attr("typeface"), fonts.First("majorFont", "latin").Attr("typeface")
	styles, err := get("styles")
	if err != nil {
		return err
	}
	d.readStyles(styles)
	numbers, err := get("numbering")
	if err != nil {
		return err
	}
	d.readNumbering(numbers)
	settings, err := get("settings")
	if err != nil {
		return err
	}
	d.evenOdd = on(settings.First("evenAndOddHeaders"))
	for _, kind := range []string{"footnote", "endnote"} {
		notes, err := get(kind + "s")
		if err != nil {
			return err
		}
		for _, n := range notes.All(kind) {
			if t := n.Attr("type"); t == "" || t == "normal" {
				d.notes[kind+" "+n.Attr("id")] = n
			}
		}
	}
	comments, err := get("comments")
	if err != nil {
		return err
	}
	if len(comments.All("comment")) > 0 {
		d.s.Tell("Comments were left out.")
	}
	props, err := d.pack.XML("docProps/core.xml")
	if err != nil {
		return err
	}
	d.s.Title, d.s.Lang = strings.TrimSpace(props.First("title").Words()), strings.TrimSpace(props.First("language").Words())
	return nil
}

// section is a part of the document with paper of its own (17.6.17).
type section struct {
	props  *pack.Node
	blocks []*pack.Node
}

// sections writes the body, section by section.
func (d *reader) sections(body *pack.Node, paper page.Paper) error {
	var all []section
	var cur section
	for _, b := range flat(body.Nodes(), 0) {
		if b.Name == "sectPr" {
			cur.props = b
			continue
		}
		cur.blocks = append(cur.blocks, b)
		if b.Name == "p" {
			if sp := b.First("pPr", "sectPr"); sp != nil {
				all = append(all, section{sp, cur.blocks})
				cur = section{}
			}
		}
	}
	if len(cur.blocks) > 0 || len(all) == 0 {
		all = append(all, cur)
	}
	var headers [2][3]*pack.Node // those of the section before go on where a section names none (17.10.5)
	var rels [2][3]map[string]pack.Relation
	for i, sec := range all {
		name := fmt.Sprintf("s%d", i+1)
		p := d.paper(sec.props, paper)
		if err := d.running(sec.props, &headers, &rels); err != nil {
			return err
		}
		d.pageRules(name, p, sec.props, headers, rels, i == 0)
		css := "page:" + name
		kind := sec.props.First("type").Attr("val")
		if i > 0 && kind != "continuous" {
			css += ";break-before:page"
			if kind == "oddPage" {
				css += ";break-before:right"
			}
		}
		if i > 0 && kind == "continuous" { // it goes on on the paper of the one before
			css = "page:" + d.pageOf(all, i)
		}
		cols := sec.props.First("cols")
		if n, _ := strconv.Atoi(cols.Attr("num")); n > 1 && n < 10 {
			css += fmt.Sprintf(";column-count:%d;column-gap:%s", n, page.Pt(twips(cmp.Or(cols.Attr("space"), "720"))))
		}
		d.s.CSS(".%s{%s}", name, css)
		d.s.Raw(`<section class="`, name, `">`)
		if err := d.story(sec.blocks); err != nil {
			return err
		}
		if i == len(all)-1 {
			if err := d.writeNotes(); err != nil {
				return err
			}
		}
		d.s.Raw("</section>")
	}
	return nil
}

func (d *reader) pageOf(all []section, i int) string {
	for i > 0 && all[i].props.First("type").Attr("val") == "continuous" {
		i--
	}
	return fmt.Sprintf("s%d", i+1)
}

// flat unwraps what only wraps blocks (content controls, custom XML).
func flat(nodes []*pack.Node, depth int) (out []*pack.Node) {
	for _, n := range nodes {
		switch n.Name {
		case "sdt":
			n = n.First("sdtContent")
		case "customXml", "smartTag", "ins", "moveTo":
		case "AlternateContent":
			n = choice(n)
		default:
			out = append(out, n)
			continue
		}
		if depth < 100 {
			out = append(out, flat(n.Nodes(), depth+1)...)
		}
	}
	return out
}

// choice gives the branch of an alternative that is read (ECMA-376 part 3, 10.2).
func choice(n *pack.Node) *pack.Node {
	if c := n.First("Choice"); c != nil && (c.Find("txbxContent") != nil || c.Find("blip") != nil) {
		return c
	}
	if f := n.First("Fallback"); f != nil {
		return f
	}
	return n.First("Choice")
}

// paper is what a section says of its paper (17.6.13, 17.6.11).
func (d *reader) paper(sp *pack.Node, usual page.Paper) page.Paper {
	p := usual
	if sp == nil || d.forced {
		return p.Sane()
	}
	if sz := sp.First("pgSz"); sz != nil {
		if w, h := twips(sz.Attr("w")), twips(sz.Attr("h")); w > 0 && h > 0 {
			p.Width, p.Height = w, h
		}
		if sz.Attr("orient") == "landscape" && p.Width < p.Height {
			p.Width, p.Height = p.Height, p.Width
		}
	}
	if m := sp.First("pgMar"); m != nil {
		abs := func(v float64) float64 { return max(v, -v) }
		p.Top, p.Right, p.Bottom, p.Left = abs(twips(m.Attr("top"))), twips(m.Attr("right")), abs(twips(m.Attr("bottom"))), twips(m.Attr("left"))+twips(m.Attr("gutter"))
	}
	return p.Sane()
}

// twips reads twentieths of a point, or a length with a unit (22.9.2.14).
func twips(v string) float64 {
	v = strings.TrimSpace(v)
	for unit, by := range map[string]float64{"pt": 1, "in": 72, "cm": 72 / 2.54, "mm": 72 / 25.4, "pc": 12, "pi": 12} {
		if n, ok := strings.CutSuffix(v, unit); ok {
			f, _ := strconv.ParseFloat(n, 64)
			return f * by
		}
	}
	f, _ := strconv.ParseFloat(v, 64)
	return f / 20
}

// story writes blocks: paragraphs and tables.
func (d *reader) story(blocks []*pack.Node) error {
	for _, b := range blocks {
		if d.blocks++; d.blocks%64 == 0 && d.ctx.Err() != nil {
			return d.ctx.Err()
		}
		if d.s.Over() {
			return pack.ErrTooMany
		}
		switch b.Name {
		case "p":
			if err := d.paragraph(b); err != nil {
				return err
			}
		case "tbl":
			d.closeLists(0)
			if err := d.table(b); err != nil {
				return err
			}
			d.last = nil
		case "altChunk":
			d.s.Tell("A linked part was left out.")
		case "bookmarkStart":
			d.bookmark(b)
		case "oMathPara":
			d.s.Raw("<p>")
			d.math(b)
			d.s.Raw("</p>")
		}
	}
	d.closeLists(0)
	d.last = nil
	return nil
}

// writeNotes writes footnotes and endnotes at the end, with links back.
func (d *reader) writeNotes() error {
	if len(d.noted) == 0 {
		return nil
	}
	d.s.Tell("Footnotes are at the end of the text, with links to and from them.")
	d.s.Raw(`<section class="notes"><ol>`)
	for i := 0; i < len(d.noted); i++ { // a note may have notes of its own
		key := d.noted[i]
		d.s.Raw(`<li style="list-style-type:'`, strconv.Itoa(i+1), `  '"`, page.Attr("id", "note-"+strconv.Itoa(i+1)), ">")
		if err := d.story(flat(d.notes[key].Nodes(), 0)); err != nil {
			return err
		}
		d.s.Raw(`</li>`)
		if i > 20_000 {
			return pack.ErrTooMany
		}
	}
	d.s.Raw("</ol></section>")
	return nil
}
