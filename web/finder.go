package web

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"unicode/utf8"

	"glenrain/core/step"
	"glenrain/desk"
)

// hit is one line under the finder.
type hit struct {
	Kind string // "Action", "Page", "Document", "Text"
	Text string
	More string
	Line []desk.TextPart // what stands around a hit in a text
	URL  string
}

// textURL leads to a page that a search found, with its hits marked.
func textURL(h desk.TextHit, q string) string {
	return fmt.Sprintf("/desk/%d/review?page=%s&find=%s", h.DocumentID, h.Key, url.QueryEscape(q))
}

// actions are what the finder knows to do on a document: the words that find them, and
// where they are done.
var actions = []struct{ words, text, station string }{
	{"arrange move order drag pages reorder", "Move pages", "arrange"},
	{"turn rotate pages upright landscape sideways", "Turn pages", "arrange"},
	{"take out remove delete drop pages", "Take pages out", "arrange"},
	{"number page numbers footer header foot head pagination numbering", "Number the pages", "furnish?new=1"},
	{"change page numbers wording", "Change what is on the pages", "furnish"},
	{"insert bring collect add pages picture document merge", "Bring in pages of another document", "collect"},
	{"find search text words look", "Find in the text", "review"},
	{"highlight underline strike out mark text comment copy select", "Mark or copy text", "review"},
	{"hand out save export download release finish copy original replace", "Hand out", "release"},
}

// find answers the finder: actions and pages of the document that is open, and documents.
func (s *Server) find(w http.ResponseWriter, r *http.Request) {
	text := strings.ToLower(strings.TrimSpace(r.FormValue("q")))
	doc := formNumber(r, "doc")
	var hits []hit
	if text != "" && doc != 0 {
		if n, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(text, "page"))); err == nil {
			if snap, err := s.desk.Snapshot(r.Context(), doc); err == nil && n >= 1 && n <= snap.Document.Pages {
				station := r.FormValue("station")
				hits = append(hits, hit{Kind: "Page", Text: "Go to page " + strconv.Itoa(n), URL: fmt.Sprintf("/desk/%d/%s?page=%s", doc, station, snap.Pages()[n-1].Key)})
			}
		}
		for _, a := range actions {
			if allWords(a.words+" "+strings.ToLower(a.text), text) {
				hits = append(hits, hit{Kind: "Action", Text: a.text, URL: fmt.Sprintf("/desk/%d/%s", doc, a.station)})
			}
		}
	}
	for _, a := range []struct{ words, text, url string }{
		{"documents all list bring in upload files home", "All documents", "/documents"},
		{"handed out files written downloads", "What was handed out", "/documents/out"},
		{"taken away bin deleted back", "What was taken away", "/documents/away"},
	} {
		if text != "" && allWords(a.words+" "+strings.ToLower(a.text), text) {
			hits = append(hits, hit{Kind: "Place", Text: a.text, URL: a.url})
		}
	}
	if text != "" {
		docs, err := s.desk.Search(r.Context(), text, 8)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		for _, d := range docs {
			hits = append(hits, hit{Kind: "Document", Text: d.Name, More: step.Count(d.Pages, "page"), URL: fmt.Sprintf("/desk/%d/arrange", d.ID)})
		}
		if utf8.RuneCountInString(text) > 1 {
			found, all, err := s.desk.SearchText(r.Context(), r.FormValue("q"), 5)
			if err != nil {
				s.fail(w, r, err)
				return
			}
			if doc == 0 { // on a desk its own text comes first, and is looked for there
				for _, h := range found {
					hits = append(hits, hit{Kind: "Text", Text: h.Name + ", page " + strconv.Itoa(h.Number), Line: h.Parts, URL: textURL(h, r.FormValue("q"))})
				}
			}
			if all > 0 {
				hits = append(hits, hit{Kind: "Text", Text: "In all documents: " + step.Count(int(all), "page"), URL: "/documents/text?q=" + url.QueryEscape(r.FormValue("q"))})
			}
		}
	}
	s.render(w, http.StatusOK, "finder-hits", struct {
		Text string
		Hits []hit
	}{text, hits})
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
