// Package page is what the readers of convert write: HTML with print CSS that stands alone, its pictures and faces beside it, and what was
// left out, in sentences. Everything that comes from a file goes through Text, Attr or a value that was read as a number, a colour or an
// address first; scripts, styles and addresses of the file's own never stand in it.
package page

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"html"
	"image"
	_ "image/gif"  // its header is read
	_ "image/jpeg" // as well
	_ "image/png"  // as well
	"math"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"glenrain/core/typeset"
)

// MaxHTML is how many bytes of HTML there may be, MaxFiles how many of pictures.
const (
	MaxHTML  = 96 << 20
	MaxFiles = 192 << 20
)

// Sheet is the HTML of one file under way.
type Sheet struct {
	Title, Lang string
	Told        []string // what was left out or changed, as sentences

	css   bytes.Buffer
	body  bytes.Buffer
	files map[string]typeset.File
	size  int
	used  map[string]bool   // families of faces
	named map[string]string // addresses of pictures by their bytes

	classes map[string]string // by declarations
	over    bool
	told    map[string]int
	cuts    []cut // where a new run begins, and rows
	own     *Own
	owned   []string // own families that are used
}

// cut is a place in the body where something begins.
type cut struct {
	at   int
	what cutKind
}

type cutKind int

const (
	newRun cutKind = iota // on a page of its own
	firstRow
	nextRow
	insideRow // cells of rows above reach into it
	behindRows
)

// Cut begins what is set in a run of its own, on a new page.
func (s *Sheet) Cut() { s.cuts = append(s.cuts, cut{s.body.Len(), newRun}) }

// Row says that a row of a long table begins: the first one, or one that cells of rows above reach into. Rows ends them.
func (s *Sheet) Row(first, inside bool) {
	k := nextRow
	switch {
	case first:
		k = firstRow
	case inside:
		k = insideRow
	}
	s.cuts = append(s.cuts, cut{s.body.Len(), k})
}

// Rows says that the rows of a long table have ended.
func (s *Sheet) Rows() { s.cuts = append(s.cuts, cut{s.body.Len(), behindRows}) }

// New begins a sheet; own are the office's own faces, or nil.
func New(own *Own) *Sheet {
	return &Sheet{own: own, classes: map[string]string{}, files: map[string]typeset.File{}, used: map[string]bool{}, named: map[string]string{}, told: map[string]int{}}
}

// Raw writes HTML of our own.
func (s *Sheet) Raw(parts ...string) {
	if s.body.Len() > MaxHTML {
		s.over = true
		return
	}
	for _, p := range parts {
		s.body.WriteString(p)
	}
}

// Text writes text.
func (s *Sheet) Text(t string) { s.Raw(Escape(t)) }

// CSS adds rules of our own.
func (s *Sheet) CSS(format string, args ...any) { fmt.Fprintf(&s.css, format+"\n", args...) }

// Over reports whether there was more than can be taken.
func (s *Sheet) Over() bool { return s.over }

// Tell adds a sentence on what was left out; how often it was said is told once: "%s" in it stands for the count.
func (s *Sheet) Tell(sentence string) {
	if s.told[sentence]++; s.told[sentence] == 1 {
		s.Told = append(s.Told, sentence)
	}
}

// Escape makes text safe between tags and in attributes. What no XML or HTML may hold is dropped.
func Escape(t string) string {
	clean := func(r rune) rune {
		switch {
		case r == '\t' || r == '\n':
			return r
		case r < 32 || r >= 0x7f && r < 0xa0 || r == 0xfffe || r == 0xffff:
			return -1
		}
		return r
	}
	if !utf8.ValidString(t) {
		t = strings.ToValidUTF8(t, "\ufffd")
	}
	return html.EscapeString(strings.Map(clean, t))
}

// Attr writes an attribute: name="value".
func Attr(name, value string) string { return " " + name + `="` + Escape(value) + `"` }

// Colour reads a colour of six hexadecimal digits, with or without #; "" where it is none.
func Colour(v string) string {
	v = strings.TrimPrefix(strings.TrimSpace(v), "#")
	if len(v) == 8 { // ARGB
		v = v[2:]
	}
	if len(v) != 6 {
		return ""
	}
	if _, err := strconv.ParseUint(v, 16, 32); err != nil {
		return ""
	}
	return "#" + strings.ToLower(v)
}

// Pt writes a length in points.
func Pt(v float64) string {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		v = 0
	}
	return strconv.FormatFloat(math.Round(min(max(v, -20000), 20000)*100)/100, 'f', -1, 64) + "pt"
}

// Link gives an address that may stand in a document; "" for one that may not: scripts, files, data.
func Link(target string) string {
	u, err := url.Parse(strings.TrimSpace(target))
	if err != nil || len(target) > 2000 {
		return ""
	}
	switch strings.ToLower(u.Scheme) {
	case "http", "https", "mailto", "tel", "ftp":
		return u.String()
	case "":
		if strings.HasPrefix(target, "#") && len(target) > 1 {
			return "#" + Anchor(target[1:])
		}
	}
	return ""
}

// Anchor makes an id of a name, so that names of the file can't be ones of ours.
func Anchor(name string) string { return "to-" + url.PathEscape(strings.ReplaceAll(name, " ", "_")) }

// kinds are the pictures that can be shown, by how they begin.
var kinds = []struct{ head, ext, typ string }{
	{"\x89PNG\r\n\x1a\n", "png", "image/png"}, {"\xff\xd8\xff", "jpg", "image/jpeg"}, {"GIF8", "gif", "image/gif"}, {"BM", "bmp", "image/bmp"},
}

// maxSide is the longest side of a picture that is shown, in pixels.
const maxSide = 30_000

// Picture keeps a picture and gives the address under which the sheet names it; "" where it can't be shown. Equal ones are kept once.
func (s *Sheet) Picture(data []byte) string {
	key := string(data)
	if src, ok := s.named[key]; ok {
		return src
	}
	typ, ext := "", ""
	for _, k := range kinds {
		if bytes.HasPrefix(data, []byte(k.head)) {
			typ, ext = k.typ, k.ext
		}
	}
	if len(data) > 12 && string(data[:4]) == "RIFF" && string(data[8:12]) == "WEBP" {
		typ, ext = "image/webp", "webp"
	}
	if typ == "" || tooMany(data) {
		return ""
	}
	if s.size += len(data); s.size > MaxFiles {
		s.over = true
		return ""
	}
	src := fmt.Sprintf("p%d.%s", len(s.named)+1, ext)
	s.named[key] = src
	s.files[src] = typeset.File{Type: typ, Data: data}
	return src
}

// tooMany reports whether a PNG says that it has more pixels than can be shown.
func tooMany(data []byte) bool {
	if len(data) < 24 || data[0] != 0x89 {
		return false
	}
	w, h := uint64(binary.BigEndian.Uint32(data[16:])), uint64(binary.BigEndian.Uint32(data[20:]))
	return w > maxSide || h > maxSide || w*h > 200_000_000
}

// Style gives the attribute for declarations; see Declarations.
func Style(pairs ...string) string {
	if d := Declarations(pairs...); d != "" {
		return ` style="` + d + `"`
	}
	return ""
}

// Class gives the attribute for declarations; equal ones share a rule.
func (s *Sheet) Class(declarations string) string {
	if declarations == "" {
		return ""
	}
	name, ok := s.classes[declarations]
	if !ok {
		name = "q" + strconv.Itoa(len(s.classes)+1)
		s.classes[declarations] = name
		s.CSS(".%s{%s}", name, declarations)
	}
	return ` class="` + name + `"`
}

// Declarations joins declarations: name, value, name, value; those without a value are left out.
func Declarations(pairs ...string) string {
	var b strings.Builder
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		if b.Len() > 0 {
			b.WriteByte(';')
		}
		b.WriteString(pairs[i] + ":" + pairs[i+1])
	}
	return b.String()
}

// base is the CSS that all sheets begin with.
const base = `*{box-sizing:border-box}html{-webkit-print-color-adjust:exact;print-color-adjust:exact}body{margin:0;color:#000;background:#fff;overflow-wrap:anywhere}
img{max-width:100%;height:auto}table{border-collapse:collapse}thead{display:table-header-group}tr{break-inside:avoid}h1,h2,h3,h4,h5,h6{break-after:avoid}a{color:inherit}
`

// End gives what is to be set, run by run, with the faces that it uses.
func (s *Sheet) End() []typeset.Sheet {
	head := s.head()
	const foot = "</body></html>"
	body := s.body.Bytes()
	var out []typeset.Sheet
	from := 0
	var long *typeset.Long
	begin := 0 // of the row
	inside := false
	end := func(to int) {
		if to == from && long == nil {
			return
		}
		sheet := typeset.Sheet{Files: s.files, Sizes: s.sizes()}
		if long != nil {
			long.After = append(append([]byte(nil), body[begin:to]...), foot...)
			sheet.Long = long
		} else {
			sheet.HTML = slices.Concat(head, body[from:to], []byte(foot))
		}
		out = append(out, sheet)
		from, long = to, nil
	}
	for _, c := range s.cuts {
		switch {
		case c.what == newRun:
			end(c.at)
		case c.what == firstRow:
			long = &typeset.Long{Before: slices.Concat(head, body[from:c.at])}
			begin, inside = c.at, false
		case long != nil:
			long.Rows = append(long.Rows, typeset.Row{HTML: body[begin:c.at], Inside: inside})
			begin, inside = c.at, c.what == insideRow
		}
	}
	end(len(body))
	if len(out) == 0 {
		out = append(out, typeset.Sheet{HTML: append(head, foot...), Files: s.files, Sizes: s.sizes()})
	}
	return out
}

func (s *Sheet) head() []byte {
	var b bytes.Buffer
	b.WriteString("<html" + Attr("lang", cmp.Or(s.Lang, "en")) + "><head><meta charset=\"utf-8\"><title>" + Escape(cmp.Or(s.Title, "Untitled")) + "</title><style>")
	for _, name := range slices.Sorted(mapKeys(s.used)) {
		s.face(&b, name)
	}
	b.WriteString(base)
	b.Write(s.css.Bytes())
	b.WriteString("</style></head><body>")
	return b.Bytes()
}

var sizeRule = regexp.MustCompile(`size:([\d.]+)pt ([\d.]+)pt`)

// sizes gives the sizes of pages that the rules ask for.
func (s *Sheet) sizes() (out [][2]float64) {
	for _, m := range sizeRule.FindAllSubmatch(s.css.Bytes(), -1) {
		w, err1 := strconv.ParseFloat(string(m[1]), 64)
		h, err2 := strconv.ParseFloat(string(m[2]), 64)
		if err1 == nil && err2 == nil && !slices.Contains(out, [2]float64{w, h}) {
			out = append(out, [2]float64{w, h})
		}
	}
	return out
}

func mapKeys(m map[string]bool) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// PixelWidth tells how many pixels wide a picture is; 0 where that can't be told.
func PixelWidth(data []byte) int {
	cfg, _, err := image.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return 0
	}
	return cfg.Width
}
