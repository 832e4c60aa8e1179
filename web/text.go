package web

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"glenrain/core/draw"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk"
)

func (s *Server) textRoutes(r chi.Router) {
	r.Get("/desk/{id}/find", s.findText)
	r.Get("/desk/{id}/hits/{key}", s.pageHits)
	r.Get("/desk/{id}/words/{key}", s.pageWords)
	r.Get("/desk/{id}/frame/{key}", s.frameText)
	r.Get("/desk/{id}/marks", s.marks)
	r.Get("/documents/text", s.searchPage)
}

func query(r *http.Request) layout.Query {
	return layout.Query{Text: r.FormValue("q"), Case: r.FormValue("case") != "", Words: r.FormValue("words") != "",
		Accents: r.FormValue("accents") != "", Pattern: r.FormValue("pattern") != ""}
}

func (s *Server) sendJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

// findText answers with all hits in a document: how many on which page, and the first with what stands around them.
func (s *Server) findText(w http.ResponseWriter, r *http.Request) {
	snap, err := s.desk.Snapshot(r.Context(), number(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	found, err := s.desk.Find(r.Context(), snap, query(r))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	type line struct {
		N      int    `json:"n"`
		Before string `json:"before"`
		Text   string `json:"text"`
		After  string `json:"after"`
	}
	type page struct {
		Key    string `json:"key"`
		Number int    `json:"number"`
		Hits   int    `json:"hits"`
		Lines  []line `json:"lines"`
	}
	out := struct {
		Hits   int      `json:"hits"`
		More   bool     `json:"more"`
		Pages  []page   `json:"pages"`
		Unread []string `json:"unread"`
		Said   string   `json:"said"` // of pages that could not be searched
	}{Hits: found.Hits, More: found.More, Pages: []page{}, Unread: []string{}}
	for _, p := range found.Pages {
		o := page{Key: p.Key.String(), Number: p.Number, Hits: p.Hits}
		for _, l := range p.Lines {
			o.Lines = append(o.Lines, line{l.N, l.Before, l.Text, l.After})
		}
		out.Pages = append(out.Pages, o)
	}
	for _, k := range found.Unread {
		out.Unread = append(out.Unread, k.String())
	}
	switch n := len(found.Unread); {
	case n == 1:
		out.Said = "1 page has no text: not searched"
	case n > 1:
		out.Said = strconv.Itoa(n) + " pages have no text: not searched"
	}
	s.sendJSON(w, out)
}

// readPage reads the text of the page that an address names.
func (s *Server) readPage(r *http.Request, paths bool) (*layout.Page, pdf.Geometry, error) {
	snap, err := s.desk.Snapshot(r.Context(), number(r, "id"))
	if err != nil {
		return nil, pdf.Geometry{}, err
	}
	key, err := step.ParseKey(chi.URLParam(r, "key"))
	if err != nil {
		return nil, pdf.Geometry{}, desk.ErrMissing
	}
	return s.desk.ReadPage(r.Context(), snap, key, paths)
}

// seenPoint takes a point of default user space to the page as it is seen: points from its upper left corner.
func seenPoint(g pdf.Geometry, x, y float64) (float64, float64) {
	_, h := g.Seen()
	x, y = draw.Upright(g).Invert().Apply(x, y)
	return math.Round(x*100) / 100, math.Round((h-y)*100) / 100
}

// unseenRect takes a rectangle of the page as it is seen to default user space.
func unseenRect(g pdf.Geometry, x0, y0, x1, y1 float64) pdf.Rect {
	_, h := g.Seen()
	return draw.Upright(g).Bounds(pdf.Rect{X0: min(x0, x1), Y0: h - max(y0, y1), X1: max(x0, x1), Y1: h - min(y0, y1)})
}

// corners writes a quad for the layer over the page: x and y of four corners, going round.
func corners(g pdf.Geometry, q layout.Quad) [8]float64 {
	var out [8]float64
	for i, c := range q {
		out[2*i], out[2*i+1] = seenPoint(g, c[0], c[1])
	}
	return out
}

// pageHits gives where the hits of a page stand: for each its pieces of lines.
func (s *Server) pageHits(w http.ResponseWriter, r *http.Request) {
	l, g, err := s.readPage(r, false)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	f, err := query(r).Compile()
	if err != nil {
		s.fail(w, r, step.Refuse("%s", err))
		return
	}
	reading := l.Reading()
	out := [][][8]float64{}
	for _, h := range f.Find(reading.Text, mostMarked) {
		pieces := [][8]float64{}
		for _, q := range l.Quads(reading, h[0], h[1]) {
			pieces = append(pieces, corners(g, q))
		}
		out = append(out, pieces)
	}
	s.sendJSON(w, out)
}

// mostMarked is how many hits are marked on a page.
const mostMarked = 2000

// pageWords gives the words of a page in the order of reading, for choosing text: each with what stands between it and the one before it,
// its place, and the line, paragraph and column that it is in.
func (s *Server) pageWords(w http.ResponseWriter, r *http.Request) {
	l, g, err := s.readPage(r, false)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	type word struct {
		T string     `json:"t"`
		S string     `json:"s"` // what stands before it
		Q [8]float64 `json:"q"`
		L int        `json:"l"`
		P int        `json:"p"`
		C int        `json:"c"`
	}
	reading := l.Reading()
	paragraph := map[int]int{}
	column := map[int]int{}
	for i, p := range l.Paragraphs {
		for _, k := range p.Lines {
			paragraph[k], column[k] = i, p.Block
		}
	}
	out := make([]word, len(reading.Words))
	last := 0
	for i, at := range reading.Words {
		lw := &l.Words[at.Word]
		o := word{T: strings.TrimSuffix(reading.Text[at.From:at.To], "\u00ad"), S: reading.Text[last:at.From], L: lw.Line, P: paragraph[lw.Line], C: column[lw.Line]}
		if q := l.Quads(reading, at.From, at.To); len(q) > 0 {
			o.Q = corners(g, q[0])
		}
		out[i], last = o, at.To
	}
	s.sendJSON(w, out)
}

// frameText gives the text in a rectangle of the page as it is seen, as rows and columns.
func (s *Server) frameText(w http.ResponseWriter, r *http.Request) {
	l, g, err := s.readPage(r, true)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	frame, err := frameOf(r.FormValue("at"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = fmt.Fprint(w, l.Copied(unseenRect(g, frame[0], frame[1], frame[2], frame[3])))
}

func frameOf(text string) (f [4]float64, err error) {
	parts := strings.Fields(text)
	if len(parts) != 4 {
		return f, step.Refuse("a frame has four numbers")
	}
	for i, p := range parts {
		if f[i], err = strconv.ParseFloat(p, 64); err != nil || math.IsNaN(f[i]) || math.Abs(f[i]) > 1e6 {
			return f, step.Refuse("%q is no place on a page", p)
		}
	}
	return f, nil
}

// markForm reads what is to be marked: words by their places in the page's order of reading, as "3-17 22-30".
func (s *Server) markForm(r *http.Request) (any, error) {
	snap, err := s.desk.Snapshot(r.Context(), number(r, "id"))
	if err != nil {
		return nil, err
	}
	pages, err := formPages(r, "page", "")
	if err != nil || len(pages.Keys) != 1 {
		return nil, step.Refuse("text is marked on one page at a time")
	}
	var ranges [][2]int
	for part := range strings.FieldsSeq(r.FormValue("words")) {
		a, b, _ := strings.Cut(part, "-")
		from, err1 := strconv.Atoi(a)
		to, err2 := strconv.Atoi(b)
		if err1 != nil || err2 != nil {
			return nil, step.Refuse("no text is chosen")
		}
		ranges = append(ranges, [2]int{from, to})
	}
	quads, text, err := s.desk.Taken(r.Context(), snap, pages.Keys[0], ranges)
	if err != nil {
		return nil, err
	}
	return map[string]any{"page": pages, "quads": quads, "how": r.FormValue("how"), "colour": markColour(r), "text": text, "author": person(r).Name}, nil
}

// markColours are the colours that are offered for marks.
var markColours = []struct{ Name, Value string }{{"straw", "#f6dd8f"}, {"fern", "#b9e2bf"}, {"sky", "#b5d9f2"}, {"rose", "#f3bdb6"}, {"ochre", "#9c5f00"}, {"ink", "#22302c"}}

func markColour(r *http.Request) string {
	v := r.FormValue("colour")
	for _, c := range markColours {
		if c.Name == v {
			return c.Value
		}
	}
	return v
}

func markChangeForm(r *http.Request) (any, error) {
	pages, err := formPages(r, "page", "")
	return map[string]any{"page": pages, "mark": formNumber(r, "mark"), "how": r.FormValue("how"), "colour": markColour(r)}, err
}

func markRemoveForm(r *http.Request) (any, error) {
	pages, err := formPages(r, "page", "")
	return map[string]any{"page": pages, "mark": formNumber(r, "mark")}, err
}

// markView is a mark in the list of the slip.
type markView struct {
	Mark   int
	Page   string
	Number int
	How    string
	Done   string
	Colour string // its name, or #rrggbb
	Hex    string
	Text   string
	Who    string
	Quads  [][8]float64 // as seen, for the margin
}

// marks gives the list of what is marked in a document, with what it takes to change it.
func (s *Server) marks(w http.ResponseWriter, r *http.Request) {
	snap, err := s.desk.Snapshot(r.Context(), number(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	list, err := s.desk.Marks(r.Context(), snap)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	v := struct {
		Doc     desk.Document
		Seen    uint
		Station string
		Marks   []markView
		Colours any
	}{snap.Document, snap.State.ID, "review", nil, markColours}
	for _, m := range list {
		hex := fmt.Sprintf("#%02x%02x%02x", int(m.Colour[0]*255+0.5), int(m.Colour[1]*255+0.5), int(m.Colour[2]*255+0.5))
		o := markView{Mark: m.Object, Page: m.Page.String(), Number: m.Number, How: m.How, Hex: hex, Colour: hex, Text: m.Text, Who: m.Author,
			Done: map[string]string{"highlight": "highlighted", "underline": "underlined", "strike out": "struck out"}[m.How]}
		if i := slices.IndexFunc(markColours, func(c struct{ Name, Value string }) bool { return c.Value == hex }); i >= 0 {
			o.Colour = markColours[i].Name
		}
		v.Marks = append(v.Marks, o)
	}
	s.render(w, http.StatusOK, "marks", v)
}

// searchPage shows what a search through the text of all documents found.
func (s *Server) searchPage(w http.ResponseWriter, r *http.Request) {
	v, err := s.documentsView(r, "text")
	if err != nil {
		s.fail(w, r, err)
		return
	}
	v.Query = strings.TrimSpace(r.FormValue("q"))
	var all int64
	if v.Hits, all, err = s.desk.SearchText(r.Context(), v.Query, 200); err != nil {
		s.fail(w, r, err)
		return
	}
	unread, err := s.desk.Unread(r.Context())
	if err != nil {
		s.fail(w, r, err)
		return
	}
	v.AllHits, v.Unread = int(all), int(unread)
	name := "documents"
	if r.Header.Get("HX-Request") != "" {
		name = "documents-body"
	}
	s.render(w, http.StatusOK, name, v)
}
