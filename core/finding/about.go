package finding

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"glenrain/core/content"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/structure"
)

// About is what a document is made of, as far as people ask before they work with it.
type About struct {
	Title, Language string   `json:",omitempty"`
	Tagged          bool     `json:",omitempty"`
	Fonts           int      `json:",omitempty"`
	Loose           []string `json:",omitempty"` // fonts that are not embedded, by name, the first of them
	LooseFonts      int      `json:",omitempty"` // how many they are
	Fields          int      `json:",omitempty"`
	Comments        int      `json:",omitempty"`
	Links           int      `json:",omitempty"`
	Attachments     int      `json:",omitempty"`
	Layers          int      `json:",omitempty"`
	Scripts         int      `json:",omitempty"`
	Bookmarks       int      `json:",omitempty"`
	Weight          Weight
	Sizes           []Size `json:",omitempty"` // of pages as they are seen, the most frequent first
	MoreSizes       bool   `json:",omitempty"`
}

// Weight is the bytes of a document by what they are spent on.
type Weight struct{ Pictures, Fonts, Content, Rest int64 }

// Size is how many pages are of a size, in points.
type Size struct {
	Width, Height float64
	Pages         int
}

// PageLook is what a page shows, as far as it is told how its text and its pictures stand to one another.
type PageLook struct {
	Shown     int  `json:"s,omitempty"` // glyphs that are seen
	Invisible int  `json:"u,omitempty"` // glyphs of an invisible text layer (text rendering mode 3)
	Pictured  int  `json:"p,omitempty"` // how much of the page pictures cover, in hundredths
	Scan      bool `json:"b,omitempty"` // one of them is black and white, or covers nearly all of the page
}

// PageKind is what a page is by its look.
type PageKind int

// The kinds of pages.
const (
	Blank      PageKind = iota // nothing that is text or picture
	Words                      // text
	Picture                    // pictures alone
	TextLayer                  // pictures with an invisible text layer
	PartlyText                 // a picture of text, with a little text besides: page numbers, a stamp
)

const (
	fewGlyphs = 200 // as many as a header, a stamp or a page number has
	mostly    = 70  // hundredths of a page that pictures cover where the page is one of them
)

// Kind tells what a page is.
func (l PageLook) Kind() PageKind {
	switch {
	case l.Shown == 0 && l.Invisible == 0 && l.Pictured == 0:
		return Blank
	case l.Invisible > 0 && l.Invisible >= l.Shown && l.Pictured >= mostly/2:
		return TextLayer
	case l.Shown == 0 && l.Invisible == 0:
		return Picture
	case l.Scan && l.Pictured >= mostly && l.Shown < fewGlyphs:
		return PartlyText
	}
	return Words
}

// LookAt looks at a page that was read with its pictures.
func LookAt(doc *pdf.Document, p *content.Page, g pdf.Geometry) (l PageLook) {
	for i := range p.Shows {
		s := &p.Shows[i]
		switch {
		case s.Hidden || s.State == nil:
		case s.State.Render == 3 || s.State.Render == 7:
			l.Invisible += s.N
		default:
			l.Shown += s.N
		}
	}
	v := g.Visible
	area := (v.X1 - v.X0) * (v.Y1 - v.Y0)
	if area <= 0 {
		return l
	}
	covered := 0.0
	for i := range p.Images {
		u := &p.Images[i]
		if u.Hidden {
			continue
		}
		b := u.Matrix.Bounds(pdf.Rect{X1: 1, Y1: 1})
		w, h := min(b.X1, v.X1)-max(b.X0, v.X0), min(b.Y1, v.Y1)-max(b.Y0, v.Y0)
		if w <= 0 || h <= 0 {
			continue
		}
		part := w * h / area
		covered += part
		if part > 0.9 {
			l.Scan = true
		} else if part > 0.5 && !u.Ref.IsZero() {
			d := doc.Dict(u.Ref)
			bits, _ := pdf.Number(doc.Resolve(d.Get("BitsPerComponent")))
			l.Scan = l.Scan || bits == 1 || d.Get("ImageMask") != nil
		}
	}
	l.Pictured = min(100, int(covered*100+0.5))
	if covered > 0 && l.Pictured == 0 {
		l.Pictured = 1
	}
	return l
}

const (
	namedFonts = 12
	namedSizes = 8
)

// Describe tells what a document is made of: it goes once through all that can be reached.
func Describe(ctx context.Context, doc *pdf.Document) (*About, error) {
	doc = doc.In(ctx)
	a := &About{Tagged: structure.Tagged(doc)}
	text := func(o pdf.Object) string {
		s, _ := doc.Resolve(o).(pdf.String)
		return strings.TrimSpace(pdf.Text(s))
	}
	a.Title, a.Language = short(text(doc.Dict(doc.Trailer().Get("Info")).Get("Title"))), short(text(doc.Catalog().Get("Lang")))
	d := &describer{doc: doc, a: a, w: doc.NewWalk(), loose: map[string]bool{}, contents: map[int]bool{}}
	pages, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	d.pages(pages)
	d.todo = []pdf.Object{doc.Trailer().Get("Root"), doc.Trailer().Get("Info")}
	for len(d.todo) > 0 {
		o := d.todo[len(d.todo)-1]
		d.todo = d.todo[:len(d.todo)-1]
		d.object(o)
	}
	if err := d.w.Err(); err != nil {
		return nil, err
	}
	nav.Names(doc, doc.Dict(doc.Catalog().Get("Names")).Get("EmbeddedFiles"), func(pdf.String, pdf.Object) { a.Attachments++ })
	a.Layers = len(doc.Array(doc.Dict(doc.Catalog().Get("OCProperties")).Get("OCGs")))
	a.Bookmarks = countItems(nav.Outline(doc))
	for name := range d.loose {
		a.Loose = append(a.Loose, name)
	}
	slices.Sort(a.Loose)
	a.LooseFonts = len(a.Loose)
	a.Loose = a.Loose[:min(len(a.Loose), namedFonts)]
	w := &a.Weight
	w.Rest = max(0, doc.Size()-w.Pictures-w.Fonts-w.Content)
	return a, doc.Over()
}

func short(s string) string {
	if r := []rune(s); len(r) > 200 {
		return string(r[:199]) + "…"
	}
	return s
}

func countItems(items []*nav.Item) (n int) {
	for _, it := range items {
		n += 1 + countItems(it.Kids)
	}
	return n
}

// describer goes through a document.
type describer struct {
	doc      *pdf.Document
	a        *About
	w        *pdf.Walk
	todo     []pdf.Object
	loose    map[string]bool
	contents map[int]bool // streams of pages
}

func (d *describer) pages(pages []pdf.Leaf) {
	sizes := map[[2]int]int{}
	for _, l := range pages {
		page := d.doc.Page(l.Ref)
		w, h := d.doc.Geometry(l.Ref).Seen()
		sizes[[2]int{int(w*10 + 0.5), int(h*10 + 0.5)}]++
		c := page.Get("Contents")
		if r, ok := c.(pdf.Ref); ok && d.doc.Stream(c) != nil {
			d.contents[r.Num] = true
		}
		for _, o := range d.doc.Array(c) {
			if r, ok := o.(pdf.Ref); ok {
				d.contents[r.Num] = true
			}
		}
		if d.doc.Over() != nil {
			return
		}
	}
	for k, n := range sizes {
		d.a.Sizes = append(d.a.Sizes, Size{float64(k[0]) / 10, float64(k[1]) / 10, n})
	}
	slices.SortFunc(d.a.Sizes, func(a, b Size) int {
		return cmp.Or(cmp.Compare(b.Pages, a.Pages), cmp.Compare(a.Width, b.Width), cmp.Compare(a.Height, b.Height))
	})
	if len(d.a.Sizes) > namedSizes {
		d.a.Sizes, d.a.MoreSizes = d.a.Sizes[:namedSizes], true
	}
}

// object looks at one, and puts what it leads to on the list.
func (d *describer) object(o pdf.Object) {
	if !d.w.Once(o) {
		return
	}
	num := 0
	if r, ok := o.(pdf.Ref); ok {
		num = r.Num
		o = d.doc.Resolve(o)
	}
	switch v := o.(type) {
	case pdf.Array:
		d.todo = append(d.todo, refs(v)...)
	case *pdf.Dict:
		d.dict(v)
	case *pdf.Stream:
		d.dict(v.Dict)
		n := v.RawLen()
		name := d.doc.Name(v.Dict.Get("Subtype"))
		switch {
		case name == "Image":
			d.a.Weight.Pictures += n
		case name == "Type1C" || name == "CIDFontType0C" || name == "OpenType" || v.Dict.Has("Length1"):
			d.a.Weight.Fonts += n
		case name == "Form" || v.Dict.Has("PatternType") || d.contents[num]:
			d.a.Weight.Content += n
		}
	}
}

func refs(list pdf.Array) []pdf.Object {
	out := make([]pdf.Object, 0, len(list))
	for _, o := range list {
		switch o.(type) {
		case pdf.Ref, pdf.Array, *pdf.Dict:
			out = append(out, o)
		}
	}
	return out
}

func (d *describer) dict(v *pdf.Dict) {
	for _, e := range v.Entries() {
		switch e.Value.(type) {
		case pdf.Ref, pdf.Array, *pdf.Dict:
			d.todo = append(d.todo, e.Value)
		}
	}
	doc, a := d.doc, d.a
	kind := doc.Name(v.Get("Type"))
	switch sub := doc.Name(v.Get("Subtype")); {
	case kind == "Font":
		d.font(v, sub)
	case kind == "Annot" || v.Has("Rect"):
		switch sub {
		case "Link":
			a.Links++
		case "Widget", "Popup", "":
		default:
			a.Comments++
		}
	}
	if doc.Name(v.Get("S")) == "JavaScript" && v.Has("JS") {
		a.Scripts++
	}
	if ft := doc.Name(v.Get("FT")); ft != "" {
		a.Fields++
	}
}

func (d *describer) font(v *pdf.Dict, sub pdf.Name) {
	if sub == "Type0" { // its descendant has the program
		d.a.Fonts++
		return
	}
	if sub == "Type3" {
		d.a.Fonts++
		return
	}
	descriptor := d.doc.Dict(v.Get("FontDescriptor"))
	if !strings.HasPrefix(string(sub), "CIDFont") {
		d.a.Fonts++
	}
	if descriptor.Has("FontFile") || descriptor.Has("FontFile2") || descriptor.Has("FontFile3") {
		return
	}
	name := string(d.doc.Name(v.Get("BaseFont")))
	if name == "" {
		name = "a font without a name"
	}
	if len(d.loose) < 500 {
		d.loose[short(strings.ToValidUTF8(name, "?"))] = true
	}
}
