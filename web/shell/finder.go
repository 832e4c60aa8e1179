package shell

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// hit is one line under the finder.
type hit struct {
	Kind string // "Action", "Page", "Place", "How to", "Document", "Text"
	Text string
	More string
	Line []desk.TextPart // what stands around a match in a text
	URL  string
}

// longestFind is how much of what is typed is looked for, in bytes.
const longestFind = 400

// find answers the finder: actions and pages of the document that is open, places, and documents by name. It looks into no text.
func (s *Server) find(w http.ResponseWriter, r *http.Request) error {
	text := asked(r)
	lower := strings.ToLower(text)
	doc := station.FormID(r, "doc")
	var hits []hit
	if text != "" && doc != 0 {
		hits = append(hits, s.findPage(r, doc, text)...)
		for i := range s.opt.Stations {
			st := &s.opt.Stations[i]
			for k := range st.Jobs {
				for _, f := range st.Jobs[k].Finds {
					if allWords(f.Words+" "+strings.ToLower(f.Text), lower) {
						to := fmt.Sprintf("/desk/%d/%s", doc, placeOf(st, &st.Jobs[k]))
						if f.Query != "" {
							to += "?" + f.Query
						}
						hits = append(hits, hit{Kind: "Action", Text: f.Text, More: st.Name, URL: to})
					}
				}
			}
		}
	}
	if text != "" {
		for _, sc := range s.opt.Screens {
			for _, p := range sc.Places {
				if (p.Act == "" || station.Person(r).Role.Allows(p.Act)) && allWords(p.Words+" "+strings.ToLower(p.Text), lower) {
					hits = append(hits, hit{Kind: cmp.Or(p.Kind, "Place"), Text: p.Text, URL: p.URL})
				}
			}
		}
		docs, err := s.desk.Search(r.Context(), station.Person(r).ID, lower, 8)
		if err != nil {
			return err
		}
		for _, d := range docs {
			hits = append(hits, hit{Kind: "Document", Text: d.Name, More: step.Count(d.Pages, "page"), URL: fmt.Sprintf("/desk/%d", d.ID)})
		}
		for _, sc := range s.opt.Screens {
			if sc.Search != "" && utf8.RuneCountInString(text) > 1 {
				hits = append(hits, hit{Kind: "Text", Text: "Search all documents for “" + text + "”", URL: sc.Search + "?q=" + url.QueryEscape(text)})
			}
		}
	}
	return s.render(w, http.StatusOK, "shell", "finder-hits", struct {
		Text string
		Hits []hit
	}{text, hits})
}

// findPage gives the pages of a document that are called what is typed: by their place, or by their label.
func (s *Server) findPage(r *http.Request, doc uint, text string) (hits []hit) {
	name := strings.TrimSpace(text)
	if len(name) > 5 && strings.EqualFold(name[:5], "page ") {
		name = strings.TrimSpace(name[5:])
	}
	st, j := s.place(r.FormValue("_place"))
	snap, err := s.desk.Look(r.Context(), station.Person(r).ID, doc)
	if err != nil || st == nil || name == "" {
		return nil
	}
	labels, pages := snap.Labels(), snap.Pages()
	add := func(i int) {
		said := "Go to page " + strconv.Itoa(i+1)
		if labels != nil && labels[i] != strconv.Itoa(i+1) {
			said = fmt.Sprintf("Go to page %s, number %d of %d", labels[i], i+1, len(pages))
		}
		hits = append(hits, hit{Kind: "Page", Text: said, URL: fmt.Sprintf("/desk/%d/%s?page=%s", doc, placeOf(st, j), pages[i].Key)})
	}
	n, err := strconv.Atoi(name)
	if err == nil && n >= 1 && n <= len(pages) {
		add(n - 1)
	}
	for i, l := range labels {
		if strings.EqualFold(l, name) && i != n-1 {
			add(i)
			break
		}
	}
	return hits
}

func asked(r *http.Request) string {
	text := strings.TrimSpace(r.FormValue("q"))
	if len(text) > longestFind {
		text = strings.ToValidUTF8(text[:longestFind], "")
	}
	return text
}

// patience is how long the finder's own look into all texts may take; who wants it whole asks for it.
const patience = 400 * time.Millisecond

// findEverywhere gives the first pages of all documents that hold what is typed, for a finder that stands beside no document. It
// is asked after find, and has no answer where it would take long.
func (s *Server) findEverywhere(w http.ResponseWriter, r *http.Request) error {
	text := asked(r)
	ctx, cancel := context.WithTimeout(r.Context(), patience)
	defer cancel()
	found, err := s.desk.SearchText(ctx, station.Person(r).ID, text, 5)
	if err != nil && ctx.Err() != nil && r.Context().Err() == nil {
		found, err = &desk.TextHits{}, nil
	}
	if err != nil {
		return err
	}
	var hits []hit
	for _, h := range found.Hits {
		hits = append(hits, hit{Kind: "Text", Text: h.Name + ", page " + strconv.Itoa(h.Number), Line: h.Parts,
			URL: fmt.Sprintf("/desk/%d/%s?page=%s&find=%s", h.DocumentID, s.reading(), h.Key, url.QueryEscape(text))})
	}
	if len(hits) == 0 {
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	return s.render(w, http.StatusOK, "shell", "finder-hits", struct {
		Text string
		Hits []hit
	}{text, hits})
}

// reading is the place at which text is read.
func (s *Server) reading() string {
	for i := range s.opt.Stations {
		for k := range s.opt.Stations[i].Jobs {
			if s.opt.Stations[i].Jobs[k].Reads {
				return placeOf(&s.opt.Stations[i], &s.opt.Stations[i].Jobs[k])
			}
		}
	}
	return s.opt.Stations[0].Path
}

// allWords reports whether each word of text begins a word of in.
func allWords(in, text string) bool {
	have := strings.Fields(in)
	for w := range strings.FieldsSeq(text) {
		found := false
		for _, h := range have {
			found = found || strings.HasPrefix(h, w)
		}
		if !found {
			return false
		}
	}
	return true
}
