package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/go-chi/chi/v5"

	"glenrain/core/step"
	"glenrain/desk"
)

// maxUpload is the largest file that can be brought in, in bytes.
const maxUpload = 600 << 20

func (s *Server) documentRoutes(r chi.Router) {
	r.Get("/documents", s.documents)
	r.Get("/documents/away", s.documents)
	r.Get("/documents/out", s.handOuts)
	r.Post("/documents/bring", s.bring)
	r.Post("/documents/together", s.together)
	r.Post("/documents/away", s.takeAway)
	r.Post("/documents/back", s.bringBack)
	r.Get("/documents/{id}/name", s.nameForm)
	r.Post("/documents/{id}/name", s.rename)
	r.Get("/documents/{id}/first", s.firstPicture)
	r.Get("/documents/{id}/original", s.original)
	r.Get("/out/{id}", s.handedOut)
}

type documentRow struct {
	desk.Document
	Arrived string // what arrived, in a few words
	Loose   bool   // it needs a look
	Who     string
	Away    bool
}

type documentsView struct {
	page
	View    string // "here", "away", "out" or "text"
	Rows    []documentRow
	Outs    []outRow
	Here    int64
	Away    int64
	Out     int64
	Message *messageView
	Query   string // what was looked for in the text of all documents
	Hits    []desk.TextHit
	AllHits int
	Unread  int // pages without text
}

func (s *Server) documentsView(r *http.Request, view string) (*documentsView, error) {
	v := &documentsView{page: s.page(r, "Documents"), View: view}
	var err error
	if v.Here, v.Away, v.Out, err = s.desk.Counts(r.Context()); err != nil {
		return nil, err
	}
	if view == "out" || view == "text" {
		return v, nil
	}
	docs, err := s.desk.Documents(r.Context(), view == "away")
	if err != nil {
		return nil, err
	}
	people, err := s.desk.People(r.Context())
	if err != nil {
		return nil, err
	}
	for _, d := range docs {
		v.Rows = append(v.Rows, rowOf(d, people))
	}
	return v, nil
}

func rowOf(d desk.Document, people map[uint]string) documentRow {
	row := documentRow{Document: d, Arrived: "ready", Who: people[d.ChangedBy], Away: d.AwayAt != nil}
	if d.MadeFrom != "" {
		row.Arrived, _, _ = strings.Cut("made from "+d.MadeFrom, ". ")
	}
	for _, f := range d.Found() {
		if f.Kind == "untagged" && d.MadeFrom != "" {
			continue
		}
		if f.Kind == "no-text" && strings.HasSuffix(d.MadeFrom, "picture") {
			continue
		}
		row.Arrived, row.Loose = f.Sentence, f.Kind != "untagged"
		break
	}
	return row
}

func (s *Server) documents(w http.ResponseWriter, r *http.Request) {
	view := "here"
	if strings.HasSuffix(r.URL.Path, "/away") {
		view = "away"
	}
	s.showDocuments(w, r, view, nil)
}

// showDocuments shows the screen, or only its changing part to htmx.
func (s *Server) showDocuments(w http.ResponseWriter, r *http.Request, view string, m *messageView) {
	v, err := s.documentsView(r, view)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	v.Message = m
	name := "documents"
	if r.Header.Get("HX-Request") != "" {
		name = "documents-body"
	}
	s.render(w, http.StatusOK, name, v)
}

// bring takes one file as the body of the request; its name is in the address.
func (s *Server) bring(w http.ResponseWriter, r *http.Request) {
	name := r.URL.Query().Get("name")
	in, err := s.desk.Store.Create()
	if err != nil {
		s.fail(w, r, err)
		return
	}
	defer in.Drop()
	if _, err := io.Copy(in, http.MaxBytesReader(w, r.Body, maxUpload)); err != nil {
		var tooLarge *http.MaxBytesError
		if !errors.As(err, &tooLarge) && !desk.NoSpace(err) {
			err = step.Refuse("“%s” did not arrive whole; nothing was changed", name)
		}
		s.fail(w, r, err)
		return
	}
	folder, err := s.desk.EnsureFolder(r.Context(), "Documents")
	if err != nil {
		s.fail(w, r, err)
		return
	}
	// The password of a locked file comes in a header, percent-encoded: never in the address.
	password, err := url.PathUnescape(r.Header.Get("File-Password"))
	if err != nil {
		password = ""
	}
	d, err := s.desk.Arrive(r.Context(), person(r).ID, folder.ID, name, password, in)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{
		"id": d.ID, "name": d.Name, "sentence": fmt.Sprintf("%s, %s, %s", step.Count(d.Pages, "page"), d.Paper, weight(d.Weight)),
	})
}

func chosenIDs(r *http.Request) []uint {
	var out []uint
	_ = r.ParseForm()
	for _, v := range r.Form["id"] {
		var id uint
		if _, err := fmt.Sscan(v, &id); err == nil {
			out = append(out, id)
		}
	}
	return out
}

func (s *Server) together(w http.ResponseWriter, r *http.Request) {
	ids, name := chosenIDs(r), strings.TrimSpace(r.FormValue("name"))
	if len(ids) < 2 {
		s.fail(w, r, step.Refuse("choose at least two documents to put together"))
		return
	}
	who := person(r).ID
	work := s.desk.Start(who, "Putting "+step.Count(len(ids), "document")+" together", func(ctx context.Context, w *desk.Work) (any, error) {
		d, err := s.desk.Together(ctx, w, who, ids, name)
		if err != nil {
			return nil, err
		}
		return "/desk/" + fmt.Sprint(d.ID) + "/arrange", nil
	})
	s.showWork(w, r, work)
}

func (s *Server) takeAway(w http.ResponseWriter, r *http.Request) {
	ids := chosenIDs(r)
	if err := s.desk.TakeAway(r.Context(), ids); err != nil {
		s.fail(w, r, err)
		return
	}
	undo := ""
	for _, id := range ids {
		undo += fmt.Sprintf("id=%d&", id)
	}
	s.showDocuments(w, r, "here", &messageView{Text: step.Count(len(ids), "document") + " taken away.", Undo: "/documents/back?" + undo, UndoWord: "Bring back"})
}

func (s *Server) bringBack(w http.ResponseWriter, r *http.Request) {
	ids := chosenIDs(r)
	if err := s.desk.BringBack(r.Context(), ids); err != nil {
		s.fail(w, r, err)
		return
	}
	s.showDocuments(w, r, "here", &messageView{Text: step.Count(len(ids), "document") + " brought back."})
}

func (s *Server) nameForm(w http.ResponseWriter, r *http.Request) {
	d, err := s.desk.Document(r.Context(), number(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.render(w, http.StatusOK, "name-form", d)
}

func (s *Server) rename(w http.ResponseWriter, r *http.Request) {
	d, err := s.desk.Rename(r.Context(), number(r, "id"), r.FormValue("name"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.showDocuments(w, r, "here", &messageView{Text: fmt.Sprintf("Now named “%s”.", d.Name)})
}

// firstPicture sends the picture of a document's first page.
func (s *Server) firstPicture(w http.ResponseWriter, r *http.Request) {
	snap, err := s.desk.Snapshot(r.Context(), number(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	first := snap.Pages()[0]
	s.sendPicture(w, r, snap.Document.ID, first.Key, first.Version, boxThumb)
}

type outRow struct {
	desk.HandOut
	Who string
}

func (s *Server) handOuts(w http.ResponseWriter, r *http.Request) {
	v, err := s.documentsView(r, "out")
	if err != nil {
		s.fail(w, r, err)
		return
	}
	list, err := s.desk.HandOuts(r.Context(), 0)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	people, err := s.desk.People(r.Context())
	if err != nil {
		s.fail(w, r, err)
		return
	}
	for _, h := range list {
		v.Outs = append(v.Outs, outRow{h, people[h.PersonID]})
	}
	s.render(w, http.StatusOK, "documents", v)
}

func (s *Server) handedOut(w http.ResponseWriter, r *http.Request) {
	h, err := s.desk.HandedOut(r.Context(), number(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.sendFile(w, r, h.SHA, h.Name)
}

func (s *Server) original(w http.ResponseWriter, r *http.Request) {
	d, err := s.desk.Document(r.Context(), number(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.sendFile(w, r, d.OriginalSHA, d.OriginalName)
}

// sendFile sends a stored file to be saved under a name.
func (s *Server) sendFile(w http.ResponseWriter, r *http.Request, sha, name string) {
	f, err := s.desk.Store.Open(sha)
	if err != nil {
		if os.IsNotExist(err) {
			err = desk.ErrMissing
		}
		s.fail(w, r, err)
		return
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
	w.Header().Set("Content-Type", "application/octet-stream")
	if strings.HasSuffix(strings.ToLower(name), ".pdf") {
		w.Header().Set("Content-Type", "application/pdf")
	}
	http.ServeContent(w, r, "", st.ModTime(), f)
}
