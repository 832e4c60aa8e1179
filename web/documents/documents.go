// Package documents is the first screen: all documents, the Bin, what was handed out, and the search in all texts.
package documents

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"os"
	"strings"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html *.js
var files embed.FS

// Home is the address that one comes to.
const Home = "/documents"

// Screen is the value that the list of screens has.
func Screen() station.Screen {
	return station.Screen{
		Name: "documents", Title: "Documents", Files: files, Search: "/documents/text",
		Routes: func(r station.Router, h station.Host) { (&screen{h, h.Desk()}).routes(r) },
		Keys: []station.Key{
			{Keys: []string{"Tab"}, Show: []string{"Tab", "Space"}, What: "to a document; select it"},
			{Keys: []string{"Enter"}, What: "open the document that has the focus"},
		},
		Places: []station.Place{
			{Text: "All documents", Words: "documents all list add upload files home", URL: "/documents"},
			{Text: "Files handed out", Words: "handed out files written downloads", URL: "/documents/out"},
			{Text: "The Bin", Words: "bin deleted removed restore trash", URL: "/documents/bin"},
		},
	}
}

// maxUpload is the largest file that can be added, in bytes.
const maxUpload = 600 << 20

// screen answers the requests of the screen.
type screen struct {
	station.Host
	desk *desk.Desk
}

func (s *screen) routes(r station.Router) {
	r.Get("/documents", func(w http.ResponseWriter, r *http.Request) error { return s.show(w, r, "here", nil) })
	r.Get("/documents/bin", func(w http.ResponseWriter, r *http.Request) error { return s.show(w, r, "bin", nil) })
	r.Get("/documents/out", func(w http.ResponseWriter, r *http.Request) error { return s.show(w, r, "out", nil) })
	r.Get("/documents/text", s.search)
	r.Get("/documents/more/{view}", s.more)
	r.PostLarge("/documents/add", maxUpload, s.add)
	r.Post("/documents/combine", s.combine)
	r.Post("/documents/bin", s.bin)
	r.Post("/documents/restore", s.restore)
	r.Get("/documents/{id}/name", s.nameForm)
	r.Post("/documents/{id}/name", s.rename)
	r.Get("/documents/{id}/first", s.firstPicture)
	r.Get("/documents/{id}/original", s.original)
	r.Get("/out/{id}", s.handedOut)
	r.Post("/documents/move", s.move)
	r.Post("/documents/purge", s.purge)
	r.Get("/documents/{id}/people", s.seers)
	r.Post("/documents/{id}/people", s.passOn)
	r.Get("/folders", s.folders)
	r.Post("/folders", s.makeFolder)
	r.Post("/folders/{id}", s.openFolder)
}

type row struct {
	desk.Document
	ToDo            string // what one would act on, in a few words
	Who             string
	Binned          bool
	Folder          string // that it is in, where that is worth telling
	Changes, Purges bool   // what this person may do
}

type outRow struct {
	desk.HandOut
	Who string
}

type view struct {
	station.Around
	View    string // "here", "bin", "out", "text" or "folders"
	Folders []desk.FolderView
	Folder  desk.FolderView // the one whose documents are listed; zero for all
	People  []desk.Person   // of the house
	Chosen  map[uint]string // who sees a closed folder besides administrators, by its id
	Changes bool            // this person may add and change documents
	Purges  bool
	Rows    []row
	Outs    []outRow
	More    uint // the row to go on behind; 0 where all are there
	Here    int
	Binned  int
	Out     int
	Message *station.Message
	Query   string // what was looked for in the text of all documents
	Found   *desk.TextHits
	Unread  int // pages without text
}

// listPart is how many rows are sent at a time.
const listPart = 50

func (s *screen) view(r *http.Request, name string, after uint) (*view, error) {
	me := station.Person(r)
	v := &view{Around: s.Host.Screen(r, "Documents"), View: name, Changes: me.Role.Allows(desk.ActChange), Purges: me.Role.Allows(desk.ActPurge)}
	if after == 0 {
		here, binned, out, err := s.desk.Counts(r.Context(), me.ID)
		if err != nil {
			return nil, err
		}
		v.Here, v.Binned, v.Out = int(here), int(binned), int(out)
	}
	if name == "text" {
		return v, nil
	}
	folder := station.FormID(r, "folder")
	if name == "here" || name == "folders" {
		var err error
		if v.Folders, err = s.desk.Folders(r.Context(), me.ID); err != nil {
			return nil, err
		}
		for _, f := range v.Folders {
			if f.ID == folder {
				v.Folder = f
			}
		}
		if folder != 0 && v.Folder.ID == 0 {
			return nil, desk.ErrMissing
		}
	}
	if name == "folders" {
		var err error
		if err = s.desk.CountFolders(r.Context(), me.ID, v.Folders); err != nil {
			return nil, err
		}
		if v.People, err = s.desk.Others(r.Context(), 0); err != nil {
			return nil, err
		}
		v.Chosen = map[uint]string{}
		for _, f := range v.Folders {
			v.Chosen[f.ID] = chosen(f, v.People)
		}
		return v, nil
	}
	people, err := s.desk.People(r.Context())
	if err != nil {
		return nil, err
	}
	part := desk.Listing{Person: me.ID, Binned: name == "bin", Folder: v.Folder.ID, After: after, Most: listPart + 1}
	if name == "out" {
		list, err := s.desk.HandOuts(r.Context(), 0, part)
		if err != nil {
			return nil, err
		}
		if len(list) > listPart {
			list = list[:listPart]
			v.More = list[listPart-1].ID
		}
		for _, h := range list {
			v.Outs = append(v.Outs, outRow{h, people[h.PersonID]})
		}
		return v, nil
	}
	docs, err := s.desk.Documents(r.Context(), part)
	if err != nil {
		return nil, err
	}
	if len(docs) > listPart {
		docs = docs[:listPart]
		v.More = docs[listPart-1].ID
	}
	for _, d := range docs {
		v.Rows = append(v.Rows, rowOf(d, people, v))
	}
	return v, nil
}

// quiet are findings that nobody acts on in a list of documents.
var quiet = map[string]bool{"untagged": true}

func rowOf(d desk.Document, people map[uint]string, v *view) row {
	out := row{Document: d, Who: people[d.ChangedBy], Binned: d.BinnedAt != nil, Changes: v.Changes, Purges: v.Purges}
	for _, f := range v.Folders {
		if f.ID == d.FolderID && (f.Closed || f.Name != "Documents") {
			out.Folder = f.Name
		}
	}
	for _, f := range d.Found() {
		if quiet[f.Kind] || f.Kind == "no-text" && d.Made.Of == "picture" {
			continue
		}
		out.ToDo = f.Sentence
		break
	}
	return out
}

// show answers with the screen, or only its changing part.
func (s *screen) show(w http.ResponseWriter, r *http.Request, name string, m *station.Message) error {
	v, err := s.view(r, name, 0)
	if err != nil {
		return err
	}
	v.Message = m
	return s.render(w, r, v)
}

func (s *screen) render(w http.ResponseWriter, r *http.Request, v *view) error {
	name := "documents"
	if station.OnlyPart(r) {
		name = "documents-body"
	}
	return s.Render(w, http.StatusOK, name, v)
}

// more sends the rows behind one that is there.
func (s *screen) more(w http.ResponseWriter, r *http.Request) error {
	name := station.Text(r, "view")
	part := map[string]string{"here": "document-rows", "bin": "document-rows", "out": "out-rows"}[name]
	if part == "" {
		return desk.ErrMissing
	}
	v, err := s.view(r, name, station.FormID(r, "after"))
	if err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, part, v)
}

// search shows what a search through the text of all documents found.
func (s *screen) search(w http.ResponseWriter, r *http.Request) error {
	v, err := s.view(r, "text", 0)
	if err != nil {
		return err
	}
	v.Query = strings.TrimSpace(r.FormValue("q"))
	const shown = 200
	if v.Found, err = s.desk.SearchText(r.Context(), station.Person(r).ID, v.Query, shown); err != nil {
		return err
	}
	unread, err := s.desk.Unread(r.Context(), station.Person(r).ID)
	if err != nil {
		return err
	}
	v.Unread = int(unread)
	return s.render(w, r, v)
}

// add takes one file as the body of the request; its name is in the address, the request's id in a header.
func (s *screen) add(w http.ResponseWriter, r *http.Request) error {
	name := r.URL.Query().Get("name")
	in, err := s.desk.Store.Create()
	if err != nil {
		return err
	}
	defer in.Drop()
	if _, err := io.Copy(in, r.Body); err != nil {
		var tooLarge *http.MaxBytesError
		if !errors.As(err, &tooLarge) && !desk.NoSpace(err) {
			err = step.Refuse("“%s” did not arrive whole; nothing was changed", name)
		}
		return err
	}
	folder := station.FormID(r, "folder")
	if folder == 0 {
		f, err := s.desk.EnsureFolder(r.Context(), "Documents")
		if err != nil {
			return err
		}
		folder = f.ID
	}
	// The password of a locked file comes in a header, percent-encoded: never in the address.
	password, err := url.PathUnescape(r.Header.Get("File-Password"))
	if err != nil {
		password = ""
	}
	d, err := s.desk.Arrive(r.Context(), desk.Arrival{Person: station.Person(r).ID, Folder: folder, Name: name, Password: password, RequestID: station.RequestID(r.Header.Get("Request-Id"), name, fmt.Sprint(in.Size))}, in)
	if err != nil {
		return err
	}
	return station.SendJSON(w, map[string]any{
		"id": d.ID, "name": d.Name, "sentence": fmt.Sprintf("%s, %s, %s", step.Count(d.Pages, "page"), d.Paper, station.Weight(d.Weight)),
	})
}

func selected(r *http.Request) []uint {
	var out []uint
	_ = r.ParseForm()
	for _, v := range strings.Split(strings.Join(r.Form["id"], ","), ",") {
		var id uint
		if _, err := fmt.Sscan(v, &id); err == nil {
			out = append(out, id)
		}
	}
	return out
}

func (s *screen) combine(w http.ResponseWriter, r *http.Request) error {
	c := desk.Combination{Documents: selected(r), Name: strings.TrimSpace(r.FormValue("name")), Person: station.Person(r).ID}
	c.RequestID = station.RequestID(r.FormValue("_request"), fmt.Sprintf("%+v", c))
	if len(c.Documents) < 2 {
		return step.Refuse("select at least two documents to combine")
	}
	for _, id := range c.Documents { // told at once, and not by the work
		if err := s.desk.May(r.Context(), c.Person, desk.ActLook, id); err != nil {
			return err
		}
	}
	if err := s.desk.May(r.Context(), c.Person, desk.ActAdd, 0); err != nil {
		return err
	}
	return s.Work(w, r, s.desk.Start(c.Person, "Combining "+step.Count(len(c.Documents), "document"), func(ctx context.Context, w *desk.Work) (any, error) {
		d, err := s.desk.Combine(desk.FromSame(ctx, r.Context()), w, c)
		if err != nil {
			return nil, err
		}
		return fmt.Sprintf("/desk/%d", d.ID), nil
	}))
}

func (s *screen) bin(w http.ResponseWriter, r *http.Request) error {
	ids := selected(r)
	if err := s.desk.Bin(r.Context(), station.Person(r).ID, ids); err != nil {
		return err
	}
	list := make([]string, len(ids))
	for i, id := range ids {
		list[i] = fmt.Sprint(id)
	}
	return s.show(w, r, "here", &station.Message{Text: step.Count(len(ids), "document") + " deleted to the Bin.", Undo: "/documents/restore", UndoWord: "Restore", Values: map[string]string{"id": strings.Join(list, ",")}})
}

func (s *screen) restore(w http.ResponseWriter, r *http.Request) error {
	ids := selected(r)
	if err := s.desk.Restore(r.Context(), station.Person(r).ID, ids); err != nil {
		return err
	}
	return s.show(w, r, "here", &station.Message{Text: step.Count(len(ids), "document") + " restored."})
}

func (s *screen) nameForm(w http.ResponseWriter, r *http.Request) error {
	d, err := s.desk.Document(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, "name-form", d)
}

func (s *screen) rename(w http.ResponseWriter, r *http.Request) error {
	d, err := s.desk.Rename(r.Context(), station.Person(r).ID, station.ID(r, "id"), r.FormValue("name"))
	if err != nil {
		return err
	}
	return s.show(w, r, "here", &station.Message{Text: fmt.Sprintf("Renamed to “%s”.", d.Name)})
}

// thumb is the longest side of the picture in a row, in pixels.
const thumb = 80

// firstPicture sends the picture of a document's first page; its address changes with the document's state.
func (s *screen) firstPicture(w http.ResponseWriter, r *http.Request) error {
	data, err := s.desk.FirstPicture(r.Context(), station.Person(r).ID, station.ID(r, "id"), thumb)
	if station.Undrawn(err) {
		return station.SendUndrawn(w, true)
	}
	if err != nil {
		return err
	}
	station.SendPicture(w, r, data, "86400")
	return nil
}

func (s *screen) handedOut(w http.ResponseWriter, r *http.Request) error {
	f, name, err := s.desk.OpenHandedOut(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	return sendFile(w, r, f, name)
}

func (s *screen) original(w http.ResponseWriter, r *http.Request) error {
	f, name, err := s.desk.OpenOriginal(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	return sendFile(w, r, f, name)
}

// sendFile sends a stored file to be saved under a name.
func sendFile(w http.ResponseWriter, r *http.Request, f *os.File, name string) error {
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
	w.Header().Set("Content-Type", "application/octet-stream")
	if strings.HasSuffix(strings.ToLower(name), ".pdf") {
		w.Header().Set("Content-Type", "application/pdf")
	}
	http.ServeContent(w, r, "", st.ModTime(), f)
	return nil
}
