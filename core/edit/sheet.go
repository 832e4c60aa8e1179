package edit

import (
	"context"
	"math"
	"sync"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/layout"
	"glenrain/core/pdf"
)

// Sheet is a page that was read once, to be looked at and changed by hand. Its methods may be called from several sides.
type Sheet struct {
	Doc  *pdf.Document
	Ref  pdf.Ref
	page *content.Page
	lay  *layout.Page
	mu   sync.Mutex
}

// Open reads a page. Its fonts are read when they are asked for, which may be after ctx has ended.
func Open(ctx context.Context, doc *pdf.Document, ref pdf.Ref) (*Sheet, error) {
	page, err := content.NewReader(doc).Page(ctx, ref, wanted)
	if err != nil {
		return nil, err
	}
	return &Sheet{Doc: doc, Ref: ref, page: page, lay: layout.Read(page, doc.Geometry(ref).Visible, nil)}, nil
}

// Weight is about how much memory the page takes that was read, in bytes.
func (s *Sheet) Weight() int {
	p := s.page
	n := 400*len(p.Shows) + 120*len(p.Glyphs) + 150*len(p.Paths) + 32*len(p.Points) + 250*len(p.Images) + 64*len(p.Rules) + 150*len(s.lay.Words)
	for i := range p.Invocations {
		n += len(p.Invocations[i].Body.Data)
	}
	return n
}

// Block is a paragraph of a page. Places are in default user space.
type Block struct {
	Quad  layout.Quad
	Lines []layout.Quad
	Text  string
	Cell  bool // of a table: a line by itself
}

// Blocks lists the paragraphs of the page's own content, in reading order; what stands in annotations is empty.
func (s *Sheet) Blocks() []Block {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]Block, len(s.lay.Paragraphs))
	for i := range s.lay.Paragraphs {
		p := &s.lay.Paragraphs[i]
		first := &s.lay.Words[s.lay.Lines[p.Lines[0]].Words[0]]
		if s.lay.Annotation(first) {
			continue
		}
		out[i] = Block{Quad: quadOf(s.lay, p.Lines), Text: s.lay.ParagraphText(p), Cell: p.Cell}
		for _, at := range p.Lines {
			out[i].Lines = append(out[i].Lines, quadOf(s.lay, []int{at}))
		}
	}
	return out
}

// Pictured reports whether the page is a picture of paper without text of its own.
func (s *Sheet) Pictured() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range s.lay.Words {
		if w := &s.lay.Words[i]; !s.lay.Annotation(w) {
			if st := s.page.Shows[s.page.Glyphs[s.lay.Glyphs(w)[0]].Show].State; st != nil && st.Render != 3 {
				return false
			}
		}
	}
	v := s.Doc.Geometry(s.Ref).Visible
	covered := 0.0
	for i := range s.page.Images {
		b := s.page.Images[i].Box()
		covered += max(0, min(b.X1, v.X1)-max(b.X0, v.X0)) * max(0, min(b.Y1, v.Y1)-max(b.Y0, v.Y0))
	}
	return covered > 0.4*(v.X1-v.X0)*(v.Y1-v.Y0)
}

// quadOf gives the place of some lines: from the lower left corner on, against the clock, as the first of them runs.
func quadOf(l *layout.Page, lines []int) layout.Quad {
	ax, ay := l.Along(&l.Words[l.Lines[lines[0]].Words[0]])
	u0, u1, v0, v1 := math.Inf(1), math.Inf(-1), math.Inf(1), math.Inf(-1)
	for _, at := range lines {
		ln := &l.Lines[at]
		u0, u1 = min(u0, ln.U0), max(u1, ln.U1)
		v0, v1 = min(v0, ln.V-0.24*ln.Size), max(v1, ln.V+0.8*ln.Size)
	}
	back := func(u, v float64) [2]float64 { return [2]float64{u*ax - v*ay, u*ay + v*ax} }
	return layout.Quad{back(u0, v0), back(u1, v0), back(u1, v1), back(u0, v1)}
}

// Caret is a place between two letters: its foot and its top, in default user space, and in which line it is.
type Caret struct {
	X0, Y0, X1, Y1 float64
	Row            int
}

// Run is a stretch of a paragraph's text that looks alike.
type Run struct {
	From, To     int // letters
	Font         string
	Size         float64 // points
	Bold, Italic bool
	Colour       string // #rrggbb; empty where it is not a plain one
	Other        string // the face that it is set in, because its font lacks letters of it
}

// State is what of a font is there.
type State string

// The font is in the house, whole; only what the file holds of it is there; neither: it is drawn by a stand-in.
const (
	FontWhole State = "whole"
	FontPart  State = "part"
	FontNone  State = "none"
)

// FontState tells what can be set in a font.
type FontState struct {
	Name  string
	State State
	Lacks string // common letters that it does not have
	Near  string // the face that stands in for it
}

// Tried is a paragraph as it is, or as it would be.
type Tried struct {
	Doc    *pdf.Document // with the change; nil for the paragraph as it is
	Text   string        // lines that end whatever comes are parted by line feeds
	Carets []Caret       // one before each letter, and one at the end
	Rows   int
	Runs   []Run
	Fonts  []FontState
	Lines  int     // by how many it grew
	Moved  float64 // points that what stands below moves down
	Tight  bool
	Lack   map[string][]string // words that are set in another face, by face
	Box    pdf.Rect            // what is drawn anew
	Align  layout.Align
	Size   float64
	Lead   float64 // from line to line
	Width  float64
}

// Begin takes the paragraph, or lines of it, that a step names, to be written in.
func (s *Sheet) Begin(a *Paragraph) (*Tried, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := a.take(s.Doc, s.lay)
	if err != nil {
		return nil, err
	}
	p.number()
	p.before = append([]char(nil), p.chars...)
	var rows []row
	for i := range p.lines {
		r := p.asItWas(i, 0)
		r.v = p.lines[i].v
		rows = append(rows, r)
	}
	p.rows = rows
	out := s.tried(p)
	out.Fonts = p.fonts()
	return out, nil
}

// Try makes the change of a step in a fork of the document.
func (s *Sheet) Try(ctx context.Context, a *Paragraph) (*Tried, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	doc := s.Doc.ForkIn(ctx)
	w := &worker{doc: doc, faces: newFaces(doc), index: []int{0}}
	p, f, err := a.set(w, s.page, s.lay)
	if over := doc.Over(); over != nil {
		return nil, over
	}
	if err != nil {
		return nil, err
	}
	out := s.tried(p)
	out.Doc, out.Lines, out.Moved, out.Tight = doc, f.Lines, f.Moved, f.Tight
	out.Lack = map[string][]string{}
	for word, face := range w.set {
		out.Lack[face] = append(out.Lack[face], word)
	}
	for _, t := range p.moves {
		if f.Moved > 0 {
			b := p.boxOf(t.u0, t.u1, t.bottom-f.Moved, t.top)
			out.Box = pdf.Rect{X0: min(out.Box.X0, b.X0), Y0: min(out.Box.Y0, b.Y0), X1: max(out.Box.X1, b.X1), Y1: max(out.Box.Y1, b.Y1)}
		}
	}
	return out, nil
}

// boxOf gives the rectangle on the page around a place along and across the lines.
func (p *para) boxOf(u0, u1, v0, v1 float64) pdf.Rect {
	out := pdf.Rect{X0: math.Inf(1), Y0: math.Inf(1), X1: math.Inf(-1), Y1: math.Inf(-1)}
	for _, c := range [4][2]float64{{u0, v0}, {u1, v0}, {u0, v1}, {u1, v1}} {
		x, y := p.back(c[0], c[1])
		out.X0, out.X1, out.Y0, out.Y1 = min(out.X0, x), max(out.X1, x), min(out.Y0, y), max(out.Y1, y)
	}
	return out
}

// tried tells how a paragraph is set.
func (s *Sheet) tried(p *para) *Tried {
	text, _ := p.text()
	out := &Tried{Text: text, Rows: len(p.rows), Align: p.align, Size: p.size, Lead: p.leading, Width: p.limit - min(p.left, p.lines[0].u0)}
	out.Carets = p.carets()
	out.Runs = p.runs()
	u0, u1, v0, v1 := math.Inf(1), math.Inf(-1), math.Inf(1), math.Inf(-1)
	for _, l := range p.lines {
		u0, u1, v0, v1 = min(u0, l.u0), max(u1, l.u1), min(v0, l.v), max(v1, l.v)
	}
	for i := range p.rows {
		r := &p.rows[i]
		w := 0.0
		for k := range r.chars {
			w += p.advOf(r, &r.chars[k])
		}
		u0, u1, v0, v1 = min(u0, r.u), max(u1, r.u+w), min(v0, r.v), max(v1, r.v)
	}
	large := p.size
	for _, r := range out.Runs {
		large = max(large, r.Size)
	}
	out.Box = p.boxOf(u0-large, u1+large, v0-0.6*large, v1+1.2*large)
	return out
}

// number gives each character its place, by which it is found in its line.
func (p *para) number() {
	for i := range p.chars {
		p.chars[i].id = i
	}
}

// carets finds the places between letters.
func (p *para) carets() []Caret {
	type spot struct {
		row  int
		u, w float64
		ok   bool
	}
	at := make([]spot, len(p.chars))
	ends := make([]float64, len(p.rows))
	for i := range p.rows {
		r := &p.rows[i]
		u := r.u
		for k := range r.chars {
			c := &r.chars[k]
			w := p.advOf(r, c)
			if c.id >= 0 && c.id < len(at) {
				at[c.id] = spot{i, u, w, true}
			}
			u += w
			ends[i] = u
			if k == len(r.chars)-1 && !c.space {
				ends[i] = u - w + c.wide
			}
		}
		if len(r.chars) == 0 {
			ends[i] = r.u
		}
	}
	var out []Caret
	put := func(row int, u float64) {
		c := Caret{Row: row}
		if row < len(p.rows) {
			v := p.rows[row].v
			c.X0, c.Y0 = p.back(u, v-0.24*p.size)
			c.X1, c.Y1 = p.back(u, v+0.82*p.size)
		}
		out = append(out, c)
	}
	row := 0
	for i := range p.chars {
		c := &p.chars[i]
		if c.soft {
			continue
		}
		n := len([]rune(c.text))
		s := at[i]
		if s.ok {
			row = s.row
		}
		for k := range n {
			switch {
			case s.ok:
				put(s.row, s.u+s.w*float64(k)/float64(n))
			case row < len(p.rows): // a space at which a line was broken stands at its end
				put(row, ends[row])
			default:
				put(max(0, len(p.rows)-1), p.lines[0].u0)
			}
		}
		if c.hard && !s.ok && row+1 < len(p.rows) {
			row++
		}
	}
	last := len(p.rows) - 1
	switch {
	case last < 0:
		out = append(out, Caret{})
		c := &out[len(out)-1]
		c.X0, c.Y0 = p.back(p.lines[0].u0, p.lines[0].v-0.24*p.size)
		c.X1, c.Y1 = p.back(p.lines[0].u0, p.lines[0].v+0.82*p.size)
	default:
		end := ends[last]
		if n := len(p.chars); n > 0 && p.chars[n-1].space && !p.chars[n-1].hard { // spaces that were typed last
			for k := n - 1; k >= 0 && p.chars[k].space && !p.chars[k].hard; k-- {
				end += p.gapOf(&p.chars[k])
			}
		}
		put(last, end)
	}
	return out
}

// runs tells what the letters look like.
func (p *para) runs() (out []Run) {
	n := 0
	for i := range p.chars {
		c := &p.chars[i]
		if c.soft {
			continue
		}
		letters := len([]rune(c.text))
		r := p.lookOf(c)
		r.From, r.To = n, n+letters
		n += letters
		if k := len(out) - 1; k >= 0 && out[k].Font == r.Font && math.Abs(out[k].Size-r.Size) < 0.01 && out[k].Colour == r.Colour && out[k].Bold == r.Bold && out[k].Italic == r.Italic && (out[k].Other == r.Other || c.space) {
			out[k].To = r.To
			continue
		}
		out = append(out, r)
	}
	return out
}

func (p *para) lookOf(c *char) Run {
	st := p.page.Shows[c.show].State
	f := st.Font
	r := Run{Font: f.Name, Size: math.Round(p.sizeOf(c, c.style)*100) / 100, Bold: f.Style.Weight >= 600, Italic: f.Style.Italic, Colour: plain(st.Fill)}
	if s := c.style; s != nil {
		if s.bold != "" {
			r.Bold = s.bold == "yes"
		}
		if s.italic != "" {
			r.Italic = s.italic == "yes"
		}
		if s.face != "" {
			r.Font = s.face
		}
		if s.colour != nil {
			r.Colour = hex(*s.colour)
		}
	}
	if c.other != nil && c.other.embedding != nil && (c.style == nil || c.style.face == "" && c.style.bold == "" && c.style.italic == "") {
		if name, _ := f.Whole(); name != c.other.face {
			r.Other = c.other.face
		}
	}
	return r
}

// plain writes a colour that is one of the device's.
func plain(p content.Paint) string {
	switch {
	case p.Pattern != "":
		return ""
	case p.N == 0 && p.Space == nil:
		return "#000000"
	case p.N == 1 && (p.Space == nil || p.Space == pdf.Object(pdf.Name("DeviceGray"))):
		return hex([3]float64{p.Values[0], p.Values[0], p.Values[0]})
	case p.N == 3:
		return hex([3]float64(p.Values[:3]))
	case p.N == 4:
		k := 1 - p.Values[3]
		return hex([3]float64{(1 - p.Values[0]) * k, (1 - p.Values[1]) * k, (1 - p.Values[2]) * k})
	}
	return ""
}

func hex(c [3]float64) string {
	const digits = "0123456789abcdef"
	b := []byte{'#'}
	for _, v := range c {
		n := int(max(0, min(1, v))*255 + 0.5)
		b = append(b, digits[n>>4], digits[n&15])
	}
	return string(b)
}

// common are the letters that a font of Latin text is asked for.
const common = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.,;:!?()-’“”"

// fonts tells what can be set in the fonts of the paragraph.
func (p *para) fonts() (out []FontState) {
	seen := map[*font.Font]bool{}
	for i := range p.chars {
		f := p.fontOf(i)
		if seen[f] || p.chars[i].space {
			continue
		}
		seen[f] = true
		s := FontState{Name: f.Name, State: FontPart}
		switch whole, _ := f.Whole(); {
		case whole != "":
			s.State, s.Near = FontWhole, whole
		case !f.Embedded && f.Kind != font.Type3:
			s.State = FontNone
		}
		if s.State != FontWhole {
			s.Near = faceName(likeness(f), f.Style.Weight >= 600, f.Style.Italic)
			for _, r := range common {
				if _, ok := f.CodeOf(string(r)); !ok {
					s.Lacks += string(r)
				}
			}
		}
		out = append(out, s)
	}
	return out
}
