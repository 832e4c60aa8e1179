package web

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"glenrain/core/step"
)

// hit is one line under the finder.
type hit struct {
	Kind string // "Action", "Page", "Document"
	Text string
	More string
	URL  string
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
				hits = append(hits, hit{"Page", "Go to page " + strconv.Itoa(n), "", fmt.Sprintf("/desk/%d/%s?page=%s", doc, station, snap.Pages()[n-1].Key)})
			}
		}
		for _, a := range actions {
			if allWords(a.words+" "+strings.ToLower(a.text), text) {
				hits = append(hits, hit{"Action", a.text, "", fmt.Sprintf("/desk/%d/%s", doc, a.station)})
			}
		}
	}
	for _, a := range []struct{ words, text, url string }{
		{"documents all list bring in upload files home", "All documents", "/documents"},
		{"handed out files written downloads", "What was handed out", "/documents/out"},
		{"taken away bin deleted back", "What was taken away", "/documents/away"},
	} {
		if text != "" && allWords(a.words+" "+strings.ToLower(a.text), text) {
			hits = append(hits, hit{"Place", a.text, "", a.url})
		}
	}
	if text != "" {
		docs, err := s.desk.Search(r.Context(), text, 8)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		for _, d := range docs {
			hits = append(hits, hit{"Document", d.Name, step.Count(d.Pages, "page"), fmt.Sprintf("/desk/%d/arrange", d.ID)})
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
