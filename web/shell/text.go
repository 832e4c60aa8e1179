package shell

import (
	"net/http"
	"strconv"

	"glenrain/core/layout"
	"glenrain/core/step"
	"glenrain/web/station"
)

func query(r *http.Request) layout.Query {
	return layout.Query{Text: r.FormValue("q"), Case: r.FormValue("case") != "", Words: r.FormValue("words") != "",
		Accents: r.FormValue("accents") != "", Pattern: r.FormValue("pattern") != ""}
}

// findText answers with all matches in a document: how many on which page, and the first with what stands around them.
func (s *Server) findText(w http.ResponseWriter, r *http.Request) error {
	snap, err := s.desk.Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	found, err := s.desk.Find(r.Context(), snap, query(r))
	if err != nil {
		return err
	}
	type line struct {
		N      int    `json:"n"`
		Before string `json:"before"`
		Text   string `json:"text"`
		After  string `json:"after"`
		Note   bool   `json:"note,omitempty"` // it stands in an annotation
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
			o.Lines = append(o.Lines, line{l.N, l.Before, l.Text, l.After, l.Annotation})
		}
		out.Pages = append(out.Pages, o)
	}
	for _, k := range found.Unread {
		out.Unread = append(out.Unread, k.String())
	}
	switch n := len(found.Unread); {
	case n == 1:
		out.Said = "1 page has no text and was not searched"
	case n > 1:
		out.Said = strconv.Itoa(n) + " pages have no text and were not searched"
	}
	return station.SendJSON(w, out)
}

// mostMarked is how many matches are marked on a page.
const mostMarked = 2000

// pageHits gives where the matches of a page stand: for each its pieces of lines.
func (s *Server) pageHits(w http.ResponseWriter, r *http.Request) error {
	l, g, err := station.ReadPage(s.desk, r)
	if err != nil {
		return err
	}
	f, err := query(r).Compile()
	if err != nil {
		return step.Refuse("%s", err)
	}
	reading := l.Reading()
	out := [][][8]float64{}
	for _, h := range f.Find(reading.Text, mostMarked) {
		pieces := [][8]float64{}
		for _, q := range l.Quads(reading, h[0], h[1]) {
			pieces = append(pieces, station.Corners(g, q))
		}
		out = append(out, pieces)
	}
	return station.SendJSON(w, out)
}
