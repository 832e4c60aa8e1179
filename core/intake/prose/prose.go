// Package prose reads Markdown (CommonMark 0.31, with tables) and HTML into a sheet. Of HTML only what says something stays: elements of
// text and structure, links, tables, pictures that the file itself holds. Scripts, styles, frames, forms and whatever would be fetched
// from elsewhere go, and that is told.
package prose

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"net/url"
	"strconv"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"
	gmhtml "github.com/yuin/goldmark/renderer/html"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"glenrain/core/intake/page"
)

// Files gives a picture that stands beside the file, by the path that the file names; nil where there is none.
type Files func(path string) []byte

// Markdown writes a text in Markdown.
func Markdown(ctx context.Context, s *page.Sheet, text string, files Files, p page.Paper) error {
	var b bytes.Buffer
	md := goldmark.New(goldmark.WithExtensions(extension.Table, extension.Strikethrough, extension.Linkify, extension.TaskList, extension.Footnote),
		goldmark.WithParserOptions(parser.WithAutoHeadingID()), goldmark.WithRendererOptions(gmhtml.WithUnsafe()))
	if err := md.Convert([]byte(front(s, text)), &b); err != nil {
		return err
	}
	return HTML(ctx, s, b.String(), files, p)
}

// front takes a block of settings off the top of a text, as many programs write one, and reads title and language in it.
func front(s *page.Sheet, text string) string {
	rest, ok := strings.CutPrefix(text, "---\n")
	if !ok {
		return text
	}
	block, body, ok := strings.Cut(rest, "\n---\n")
	if !ok || len(block) > 4000 {
		return text
	}
	for line := range strings.Lines(block) {
		name, value, ok := strings.Cut(line, ":")
		if !ok {
			return text
		}
		value = strings.Trim(strings.TrimSpace(value), `"'`)
		switch strings.TrimSpace(name) {
		case "title":
			s.Title = value
		case "lang":
			s.Lang = value
		}
	}
	return body
}

// kept are the elements that stay, and the attributes that they keep besides id and lang.
var kept = map[atom.Atom]string{
	atom.H1: "", atom.H2: "", atom.H3: "", atom.H4: "", atom.H5: "", atom.H6: "", atom.P: "", atom.Div: "", atom.Span: "", atom.Br: "", atom.Hr: "",
	atom.Blockquote: "", atom.Pre: "", atom.Code: "", atom.Kbd: "", atom.Samp: "", atom.Var: "", atom.Em: "", atom.Strong: "", atom.B: "", atom.I: "", atom.U: "",
	atom.S: "", atom.Del: "", atom.Ins: "", atom.Sub: "", atom.Sup: "", atom.Small: "", atom.Mark: "", atom.Abbr: "title", atom.Cite: "", atom.Q: "", atom.Dfn: "",
	atom.Time: "", atom.Address: "", atom.Article: "", atom.Section: "", atom.Main: "", atom.Nav: "", atom.Aside: "", atom.Header: "", atom.Footer: "", atom.Figure: "",
	atom.Figcaption: "", atom.Ul: "", atom.Ol: "start reversed type", atom.Li: "value", atom.Dl: "", atom.Dt: "", atom.Dd: "", atom.A: "href", atom.Img: "src alt width height",
	atom.Table: "", atom.Caption: "", atom.Thead: "", atom.Tbody: "", atom.Tfoot: "", atom.Tr: "", atom.Th: "scope colspan rowspan align", atom.Td: "colspan rowspan align",
	atom.Colgroup: "", atom.Col: "span", atom.Center: "", atom.Font: "", atom.Ruby: "", atom.Rt: "", atom.Rp: "", atom.Bdo: "dir", atom.Bdi: "", atom.Wbr: "", atom.Details: "", atom.Summary: "",
	atom.Tt: "", atom.Big: "", atom.Strike: "", atom.Label: "", atom.Hgroup: "",
}

// dropped are those that go with all that is in them, and what is told.
var dropped = map[atom.Atom]string{
	atom.Script: "Scripts were left out.", atom.Style: "", atom.Template: "", atom.Noscript: "", atom.Head: "", atom.Iframe: "Frames that show other pages were left out.",
	atom.Frame: "Frames that show other pages were left out.", atom.Frameset: "Frames that show other pages were left out.", atom.Object: "Embedded objects were left out.",
	atom.Embed: "Embedded objects were left out.", atom.Applet: "Embedded objects were left out.", atom.Svg: "Drawings (SVG) were left out.", atom.Math: "Formulas (MathML) were left out.",
	atom.Canvas: "", atom.Video: "Films and sound were left out.", atom.Audio: "Films and sound were left out.", atom.Select: "", atom.Textarea: "", atom.Button: "", atom.Input: "", atom.Title: "", atom.Link: "", atom.Meta: "", atom.Base: "",
}

// Limits of one text.
const (
	maxDepth = 512
	maxNodes = 4_000_000
)

// Why HTML is not set.
var (
	ErrDeep = errors.New("its elements are nested too deeply to open safely")
	ErrMany = errors.New("it has more elements than can be set as pages")
)

// HTML writes a text in HTML.
func HTML(ctx context.Context, s *page.Sheet, text string, files Files, p page.Paper) error {
	style(s, p)
	root, err := html.ParseWithOptions(strings.NewReader(text), html.ParseOptionEnableScripting(false))
	if err != nil {
		return ErrDeep
	}
	w := &writer{s: s, files: files, ctx: ctx}
	if err := w.head(root); err != nil {
		return err
	}
	return w.node(root, 0)
}

// style is the look of text that brings none.
func style(s *page.Sheet, p page.Paper) {
	s.CSS("@page{%s;%s}", p.Sane().Rule(), page.Running{Right: []page.Piece{{Field: "page"}}}.Boxes("bottom", "font:8.5pt "+s.Family(page.Sans)+";color:#555"))
	s.CSS("body{font:11pt/1.45 %s}h1,h2,h3,h4,h5,h6{font-family:%s;line-height:1.2;margin:1.2em 0 .4em}h1{font-size:20pt;margin-top:0}h2{font-size:15pt}h3{font-size:12.5pt}h4,h5,h6{font-size:11pt}", s.Family(page.Serif), s.Family(page.Sans))
	s.CSS("p,ul,ol,dl,table,pre,blockquote,figure{margin:0 0 .8em}ul,ol{padding-left:1.7em}li>p{margin:0 0 .3em}blockquote{margin-left:1.5em;padding-left:1em;border-left:2pt solid #bbb}figure{margin-left:0}")
	s.CSS("code,pre,kbd,samp,tt{font-family:%s;font-size:.86em}pre{white-space:pre-wrap;padding:.6em .8em;background:#f3f3f0;break-inside:auto}pre code{font-size:1em}", s.Family(page.Mono))
	s.CSS("table{font-size:10pt}th,td{border:.5pt solid #999;padding:3pt 6pt;text-align:left;vertical-align:top}th{background:#eee;font-family:%s}caption{text-align:left;font-style:italic;padding-bottom:3pt}hr{border:0;border-top:.5pt solid #999;margin:1.2em 0}", s.Family(page.Sans))
	s.CSS("a{color:#1c5a45}.done{font-family:%s}", s.Family(page.Sans))
}

type writer struct {
	s     *page.Sheet
	files Files
	ctx   context.Context
	nodes int
}

// head reads title and language.
func (w *writer) head(root *html.Node) error {
	for n := range root.Descendants() {
		if w.nodes++; w.nodes > maxNodes {
			return ErrMany
		}
		switch n.DataAtom {
		case atom.Html:
			if l := attr(n, "lang"); l != "" && w.s.Lang == "" && len(l) < 36 {
				w.s.Lang = l
			}
		case atom.Title:
			if w.s.Title == "" && n.FirstChild != nil {
				w.s.Title = strings.Join(strings.Fields(n.FirstChild.Data), " ")
			}
		case atom.H1:
			if w.s.Title == "" {
				w.s.Title = strings.Join(strings.Fields(words(n)), " ")
			}
		case atom.Body:
			continue
		}
	}
	w.nodes = 0
	return nil
}

func words(n *html.Node) string {
	var b strings.Builder
	for d := range n.Descendants() {
		if d.Type == html.TextNode {
			b.WriteString(d.Data)
		}
	}
	return b.String()
}

func attr(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

func (w *writer) node(n *html.Node, depth int) error {
	if w.nodes++; w.nodes%1024 == 0 {
		if err := w.ctx.Err(); err != nil {
			return err
		}
	}
	switch {
	case depth > maxDepth:
		return ErrDeep
	case w.nodes > maxNodes:
		return ErrMany
	}
	switch n.Type {
	case html.TextNode:
		w.s.Text(n.Data)
		return nil
	case html.DocumentNode:
		return w.kids(n, depth)
	case html.ElementNode:
	default:
		return nil
	}
	if told, gone := dropped[n.DataAtom]; gone || n.Namespace != "" {
		if n.DataAtom == atom.Input && attr(n, "type") == "checkbox" {
			_, done := find(n, "checked")
			w.s.Raw(`<span class="done">`, map[bool]string{true: "☑", false: "☐"}[done], "</span> ")
			return nil
		}
		if told != "" {
			w.s.Tell(told)
		}
		return nil
	}
	attrs, ok := kept[n.DataAtom]
	if !ok {
		if dir := attr(n, "dir"); dir == "rtl" && (n.DataAtom == atom.Html || n.DataAtom == atom.Body) { // of the whole text
			w.s.Raw(`<div dir="rtl">`)
			defer w.s.Raw("</div>")
		}
		return w.kids(n, depth)
	}
	if n.DataAtom == atom.Img {
		w.picture(n)
		return nil
	}
	name := n.DataAtom.String()
	switch n.DataAtom {
	case atom.Font, atom.Center, atom.Tt, atom.Big, atom.Details, atom.Label:
		name = map[atom.Atom]string{atom.Font: "span", atom.Center: "div", atom.Tt: "code", atom.Big: "span", atom.Details: "div", atom.Label: "span"}[n.DataAtom]
	case atom.Summary:
		name = "p"
	}
	w.s.Raw("<", name)
	w.attributes(n, attrs)
	w.s.Raw(">")
	switch n.DataAtom {
	case atom.Br, atom.Hr, atom.Wbr, atom.Col:
		return nil
	}
	if err := w.kids(n, depth); err != nil {
		return err
	}
	w.s.Raw("</", name, ">")
	return nil
}

func (w *writer) kids(n *html.Node, depth int) error {
	for k := n.FirstChild; k != nil; k = k.NextSibling {
		if err := w.node(k, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func find(n *html.Node, name string) (string, bool) {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val, true
		}
	}
	return "", false
}

func (w *writer) attributes(n *html.Node, names string) {
	for _, a := range n.Attr {
		switch {
		case a.Key == "id" || a.Key == "name" && n.DataAtom == atom.A:
			w.s.Raw(page.Attr("id", page.Anchor(a.Val)))
		case a.Key == "lang" || a.Key == "dir":
			if len(a.Val) < 36 {
				w.s.Raw(page.Attr(a.Key, a.Val))
			}
		case a.Key == "href" && n.DataAtom == atom.A:
			if to := page.Link(a.Val); to != "" {
				w.s.Raw(page.Attr("href", to))
			}
		case a.Key == "style" || !strings.Contains(" "+names+" ", " "+a.Key+" "):
			if a.Key == "style" {
				if align := textAlign(a.Val); align != "" {
					w.s.Raw(page.Style("text-align", align))
				}
			}
		case a.Key == "align":
			if align := textAlign("text-align:" + a.Val); align != "" {
				w.s.Raw(page.Style("text-align", align))
			}
		case a.Key == "colspan" || a.Key == "rowspan" || a.Key == "start" || a.Key == "value" || a.Key == "span":
			if v, err := strconv.Atoi(strings.TrimSpace(a.Val)); err == nil && v >= -100000 && v <= 1000 {
				w.s.Raw(page.Attr(a.Key, strconv.Itoa(v)))
			}
		default:
			w.s.Raw(page.Attr(a.Key, a.Val))
		}
	}
	if n.DataAtom == atom.Th && attr(n, "scope") == "" {
		scope := "col"
		if n.Parent != nil && n.Parent.Parent != nil && n.Parent.Parent.DataAtom == atom.Tbody && n.PrevSibling == nil {
			for k := n.NextSibling; k != nil; k = k.NextSibling {
				if k.DataAtom == atom.Td {
					scope = "row"
				}
			}
		}
		w.s.Raw(page.Attr("scope", scope))
	}
}

// textAlign reads the one declaration of a style that tables in Markdown bring.
func textAlign(style string) string {
	for d := range strings.SplitSeq(style, ";") {
		name, value, _ := strings.Cut(d, ":")
		value = strings.ToLower(strings.TrimSpace(value))
		if strings.TrimSpace(strings.ToLower(name)) == "text-align" && (value == "left" || value == "right" || value == "center" || value == "justify") {
			return value
		}
	}
	return ""
}

// picture writes a picture that the file holds or that stands beside it, and otherwise what stands for it.
func (w *writer) picture(n *html.Node) {
	src, alt := attr(n, "src"), strings.TrimSpace(attr(n, "alt"))
	var data []byte
	if rest, ok := strings.CutPrefix(src, "data:"); ok {
		if _, b, ok := strings.Cut(rest, ";base64,"); ok {
			data, _ = base64.StdEncoding.DecodeString(b)
		}
	} else if u, err := url.Parse(src); err == nil && u.Scheme == "" && u.Host == "" && w.files != nil {
		data = w.files(u.Path)
	}
	if name := w.s.Picture(data); name != "" {
		w.s.Raw("<img", page.Attr("src", name), page.Attr("alt", alt))
		for _, side := range []string{"width", "height"} {
			if v, err := strconv.Atoi(attr(n, side)); err == nil && v > 0 && v < 10000 {
				w.s.Raw(page.Attr(side, strconv.Itoa(v)))
			}
		}
		w.s.Raw(">")
		return
	}
	w.s.Tell("Linked pictures were replaced by their descriptions.")
	if alt != "" {
		w.s.Raw("<span>[", page.Escape(alt), "]</span>")
	}
}
