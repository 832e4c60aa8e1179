package furnish

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/font"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

const kindContents = "contents"

// ContentsValues are the values of a table of contents.
type ContentsValues struct {
	Title  string      `json:"title" help:"the heading above it; none if empty"`
	Levels int         `json:"levels" min:"1" max:"6" help:"down to which level to list bookmarks"`
	Font   string      `json:"font" enum:"Sans,Serif" help:"one of the fonts that come with Glenrain; it is embedded"`
	Size   step.Length `json:"size" min:"5" max:"40" help:"font size"`
	Colour step.Colour `json:"colour" help:"colour of the text"`
	Margin step.Length `json:"margin" min:"10" max:"300" help:"margin"`
}

// UsualContents are the values that are offered first.
func UsualContents() ContentsValues {
	return ContentsValues{Title: "Contents", Levels: 2, Font: "Sans", Size: 11, Colour: "ink", Margin: 22 * pdf.MM}
}

// Contents is the step "contents": pages that list the bookmarks, with the pages that they lead to.
type Contents struct {
	To step.Place `json:"to" help:"where: before this page, or at the end"`
	ContentsValues
}

// ContentsChange is the step "contents-change".
type ContentsChange struct {
	ID string `json:"id" required:"yes" help:"its id"`
	ContentsValues
}

// mostListed is how many bookmarks a table of contents lists.
const mostListed = 5000

// Apply inserts the pages and draws them.
func (c *Contents) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	at, err := c.To.Index(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	like := all[min(at, len(all)-1)].Ref
	w, h := seen(doc.Geometry(like))
	entries := c.entries(doc)
	if len(entries) == 0 {
		return nil, step.Refuse("there are no bookmarks to list: add some first")
	}
	n, err := c.pagesFor(len(entries), h)
	if err != nil {
		return nil, err
	}
	keepLabels := nav.KeepLabels(doc)
	labels := nav.Labels(doc)
	pages := make([]pdf.Ref, n)
	called := map[pdf.Ref]nav.Label{}
	for i := range pages {
		pages[i] = doc.Add(pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Rect{X1: w, Y1: h}.Array(), "Resources", pdf.NewDict()))
		if labels != nil {
			called[pages[i]] = nav.Between(labels, at, i)
		}
	}
	if err := doc.InsertPages(at, pages); err != nil {
		return nil, err
	}
	keepLabels(called)
	id := draw.FreshID(doc, env.NewID)
	p, err := c.keep(hex.EncodeToString(id[:]), pages)
	if err != nil {
		return nil, err
	}
	res, err := redraw(doc, env, p, &c.ContentsValues)
	if err != nil {
		return nil, err
	}
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, "The form’s XFA copy was removed, because it can’t follow this change. The form itself is kept.")
	}
	res.Created, res.Moved = pages, true
	res.Pages = res.Pages[:0]
	for i := range pages {
		res.Pages = append(res.Pages, step.Key{Step: env.Step, Ordinal: i + 1})
	}
	res.Show = res.Pages[0]
	res.Sentence = fmt.Sprintf("Table of contents with %s inserted on %s", step.Count(len(entries), "bookmark"), step.Count(n, "page"))
	return res, nil
}

// Apply draws the contents again with other values.
func (c *ContentsChange) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	was, err := find(doc, c.ID)
	if err != nil {
		return nil, err
	}
	if was.Kind != kindContents {
		return nil, step.Refuse("this isn’t a table of contents")
	}
	p, err := c.keep(c.ID, was.Pages)
	if err != nil {
		return nil, err
	}
	res, err := redraw(doc, env, p, &c.ContentsValues)
	if err != nil {
		return nil, err
	}
	res.Sentence = fmt.Sprintf("Contents changed on %s", step.Count(len(res.Pages), "page"))
	return res, nil
}

// Adds: text, and links that no tag holds.
func (c *ContentsValues) Adds() claim.Effect { return claim.Colour | claim.Comment }

func (c *ContentsValues) keep(id string, pages []pdf.Ref) (draw.Placed, error) {
	values, err := json.Marshal(c)
	return draw.Placed{ID: id, Kind: kindContents, Values: values, Pages: pages}, err
}

func readContents(values []byte) (*ContentsValues, error) {
	v := UsualContents()
	if err := step.Decode(values, &v, false); err != nil {
		return nil, step.Refuse("the values of this table of contents can't be read: %v", err)
	}
	return &v, nil
}

// ReadContents gives the values of placed contents, for those who show them; ok is false where it is another kind of furnishing.
func ReadContents(p draw.Placed) (v *ContentsValues, ok bool) {
	if p.Kind != kindContents {
		return nil, false
	}
	v, err := readContents(p.Values)
	return v, err == nil
}

// entry is a line of the contents.
type entry struct {
	Title string    `json:"t"`
	Level int       `json:"l"`
	Page  string    `json:"p"`
	dest  pdf.Array // where it leads
}

// entries lists the bookmarks that lead to pages, in order.
func (c *ContentsValues) entries(doc *pdf.Document) (out []entry) {
	all, err := doc.Pages()
	if err != nil {
		return nil
	}
	at := make(map[pdf.Ref]int, len(all))
	for i, l := range all {
		at[l.Ref] = i
	}
	labels := nav.Labels(doc)
	var walk func([]*nav.Item, int)
	walk = func(list []*nav.Item, level int) {
		for _, it := range list {
			if len(out) == mostListed {
				return
			}
			if page, ok := it.Leads(doc); ok && !page.IsZero() {
				e := entry{Title: strings.Join(strings.Fields(it.Title), " "), Level: level, dest: nav.Explicit(doc, it.Dest), Page: strconv.Itoa(at[page] + 1)}
				if labels != nil {
					e.Page = labels[at[page]].String()
				}
				out = append(out, e)
			}
			if level < c.Levels {
				walk(it.Kids, level+1)
			}
		}
	}
	walk(nav.Outline(doc), 1)
	return out
}

// Sizes in the contents, of the font size.
const (
	leading   = 1.6
	titleSize = 1.8
	titleRoom = 3.6
	indent    = 1.6
)

// room tells how many lines a page of a height has: the first, and each other one.
func (c *ContentsValues) room(h float64) (first, each int) {
	line := float64(c.Size) * leading
	free := h - 2*float64(c.Margin)
	each = int(free / line)
	first = each
	if c.Title != "" {
		first = int((free - float64(c.Size)*titleRoom) / line)
	}
	return first, each
}

func (c *ContentsValues) pagesFor(lines int, h float64) (int, error) {
	first, each := c.room(h)
	if first < 1 || each < 1 {
		return 0, step.Refuse("the page is too small for that size and margin")
	}
	if lines <= first {
		return 1, nil
	}
	return 1 + (lines-first+each-1)/each, nil
}

// On is not asked: it names its pages.
func (c *ContentsValues) On() step.Pages { return step.Pages{} }

// sheet is what stands on one page of the contents.
type sheet struct {
	Title string  `json:"title,omitempty"`
	Lines []entry `json:"lines"`
	W     float64 `json:"w"`
	H     float64 `json:"h"`
	More  int     `json:"more,omitempty"` // lines that have no room on any page
}

// Plan says which lines stand on which of its pages.
func (c *ContentsValues) Plan(on *Ground, at []int) (map[pdf.Ref][]Item, error) {
	doc := on.Doc
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	lines := c.entries(doc)
	out := map[pdf.Ref][]Item{}
	for n, i := range at {
		ref := all[i].Ref
		g := doc.Geometry(ref)
		w, h := seen(g)
		first, each := c.room(h)
		room := each
		s := sheet{W: w, H: h}
		if n == 0 {
			room, s.Title = first, c.Title
		}
		room = max(0, min(room, len(lines)))
		s.Lines = lines[:room]
		lines = lines[room:]
		if n == len(at)-1 && len(lines) > 0 && room > 0 {
			s.More = len(lines) + 1
			s.Lines = s.Lines[:room-1]
		}
		if len(s.Lines) == 0 && n > 0 {
			continue
		}
		if !on.Wants(ref) {
			continue
		}
		text, err := json.Marshal(s)
		if err != nil {
			return nil, err
		}
		it := Item{Text: string(text), At: draw.Upright(g), W: w, H: h}
		for k, e := range s.Lines {
			y := c.baseline(h, n == 0, k)
			box := draw.Upright(g).Bounds(pdf.Rect{X0: float64(c.Margin), Y0: y - float64(c.Size)*0.4, X1: w - float64(c.Margin), Y1: y + float64(c.Size)*1.1})
			it.Links = append(it.Links, Link{box, e.dest, fmt.Sprintf("%s, page %s", e.Title, e.Page)})
		}
		out[ref] = []Item{it}
	}
	return out, nil
}

// baseline is the height of a line above the lower edge of the page as it is seen.
func (c *ContentsValues) baseline(h float64, first bool, line int) float64 {
	y := h - float64(c.Margin) - float64(c.Size)
	if first && c.Title != "" {
		y -= float64(c.Size) * titleRoom
	}
	return y - float64(line)*float64(c.Size)*leading
}

// contentsPainter draws pages of contents.
type contentsPainter struct {
	*ContentsValues
	doc           *pdf.Document
	plain, strong *text
	cut           int // titles that were shortened
}

// Painter prepares the fonts.
func (c *ContentsValues) Painter(g *Ground) (Painter, error) {
	plain, err := newText(g.Doc, c.Font, float64(c.Size), c.Colour)
	if err != nil {
		return nil, err
	}
	strong, err := newText(g.Doc, c.Font+" Bold", float64(c.Size), c.Colour)
	if err != nil {
		return nil, err
	}
	return &contentsPainter{c, g.Doc, plain, strong, 0}, nil
}

// Form draws one page.
func (p *contentsPainter) Form(it Item) (pdf.Ref, error) {
	var s sheet
	if err := json.Unmarshal([]byte(it.Text), &s); err != nil {
		return pdf.Ref{}, err
	}
	var out draw.Content
	p.plain.ink(&out)
	show := func(t *text, size, x, y float64, words string) {
		out.Op("BT").Op("Tf", map[bool]pdf.Name{true: "B", false: "F"}[t == p.strong], size).Op("Td", x, y).Op("Tj", t.codes(words)).Op("ET")
	}
	size, left, right := float64(p.Size), float64(p.Margin), s.W-float64(p.Margin)
	if s.Title != "" {
		show(p.strong, size*titleSize, left, s.H-float64(p.Margin)-size*titleSize, s.Title)
	}
	dot := width(p.plain.face, ".") * size
	for k, e := range s.Lines {
		y := p.baseline(s.H, s.Title != "", k)
		t := p.plain
		if e.Level == 1 && p.Levels > 1 {
			t = p.strong
		}
		x := left + float64(e.Level-1)*indent*size
		num := width(t.face, e.Page) * size
		title, short := fit(t.face, e.Title, (right-num-2*size-x)/size)
		if short {
			p.cut++
		}
		show(t, size, x, y, title)
		show(t, size, right-num, y, e.Page)
		from := x + width(t.face, title)*size + 0.6*size
		if n := int(min((right-num-0.6*size-from)/(2*dot), mostDots)); n > 1 && dot > 0 {
			show(p.plain, size, right-num-0.6*size-float64(n)*2*dot, y, strings.Repeat(". ", n))
		}
	}
	if s.More > 0 {
		show(p.plain, size, left, p.baseline(s.H, s.Title != "", len(s.Lines)), fmt.Sprintf("… and %s", step.Count(s.More, "more line")))
	}
	resources := pdf.NewDict("Font", pdf.NewDict("F", p.plain.font.Ref(), "B", p.strong.font.Ref()))
	return draw.Form(p.doc, pdf.Rect{X1: s.W, Y1: s.H}, resources, out.Bytes()), nil
}

// Finish tells of what was shortened and what the fonts lack.
func (p *contentsPainter) Finish() (told []string) {
	lacks := slices.Concat(p.plain.finish(), p.strong.finish())
	if p.cut > 0 {
		told = append(told, fmt.Sprintf("%s too long for %s and shortened.", map[bool]string{true: "1 title is", false: fmt.Sprint(p.cut) + " titles are"}[p.cut == 1], map[bool]string{true: "its line", false: "their lines"}[p.cut == 1]))
	}
	if len(lacks) > 0 {
		told = append(told, fmt.Sprintf("The font %s has no “%c”, so it is missing from the table of contents.", p.Font, slices.Min(lacks)))
	}
	return told
}

const (
	mostDots = 400     // that lead from a title to its page
	mostSide = 14400.0 // points of a page: what programs show
)

// seen gives the size of a page as it is seen, as far as programs show it.
func seen(g pdf.Geometry) (w, h float64) {
	w, h = g.Seen()
	return min(w, mostSide), min(h, mostSide)
}

// fit shortens a title to a width in ems.
func fit(f *font.TrueType, s string, most float64) (string, bool) {
	if width(f, s) <= most {
		return s, false
	}
	r := []rune(s)
	for len(r) > 1 && width(f, string(r)+"…") > most {
		r = r[:len(r)-1]
	}
	return strings.TrimSpace(string(r)) + "…", true
}

// Grow gives the contents more pages where its lines have no room, behind those that it has.
func (c *ContentsValues) Grow(doc *pdf.Document, p *draw.Placed) ([]pdf.Ref, error) {
	at := doc.PageIndexes(p.Pages)
	pages := p.Pages[:0:0]
	last := -1
	for i, r := range p.Pages {
		if at[i] >= 0 {
			pages = append(pages, r)
			last = max(last, at[i])
		}
	}
	if len(pages) == 0 {
		return nil, step.Refuse("the pages of the table of contents have been removed: remove it and insert it again")
	}
	w, h := seen(doc.Geometry(pages[0]))
	n, err := c.pagesFor(len(c.entries(doc)), h)
	if err != nil {
		return nil, err
	}
	var more []pdf.Ref
	keepLabels := nav.KeepLabels(doc)
	labels := nav.Labels(doc)
	called := map[pdf.Ref]nav.Label{}
	for i := len(pages); i < n; i++ {
		r := doc.Add(pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Rect{X1: w, Y1: h}.Array(), "Resources", pdf.NewDict()))
		if labels != nil {
			called[r] = nav.Between(labels, last+1, i-len(pages))
		}
		more = append(more, r)
	}
	if len(more) > 0 {
		if err := doc.InsertPages(last+1, more); err != nil {
			return nil, err
		}
		keepLabels(called)
	}
	p.Pages = append(pages, more...)
	return more, nil
}
