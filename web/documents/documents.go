// Package documents is the first screen: all documents in their folders, what arrives, what is about to be combined, the Bin, what was
// handed out, and the search in all texts.
package documents

import (
	"embed"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"os"
	"strings"

	"glenrain/core/step"
	"glenrain/core/typeset"
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
			{Keys: []string{"Enter"}, What: "open the document"},
			{Keys: []string{"Shift+ArrowUp"}, Show: []string{"Shift ↑", "Shift ↓"}, What: "on the combine list: move the entry"},
			{Keys: []string{"Delete"}, Show: []string{"Delete"}, What: "on the combine list: remove the entry"},
		},
		Places: []station.Place{
			{Text: "All documents", Words: "documents all list add upload files home", URL: "/documents"},
			{Text: "Exported files", Words: "exported files written downloads", URL: "/documents/out"},
			{Text: "The Bin", Words: "bin deleted removed restore trash", URL: "/documents/bin"},
			{Text: "Documents without searchable text", Words: "scan scanned ocr no text find", URL: "/documents?trait=no-text"},
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
	r.Post("/documents/again", s.again)
	r.Post("/documents/combine", s.combine)
	r.Post("/documents/bin", s.bin)
	r.Post("/documents/recognize", s.recognize)
	r.Post("/documents/restore", s.restore)
	r.Get("/documents/{id}/about", s.about)
	r.Get("/documents/{id}/name", s.nameForm)
	r.Post("/documents/{id}/name", s.rename)
	r.Get("/documents/{id}/first", s.firstPicture)
	r.Get("/documents/{id}/original", s.original)
	r.Get("/out/{id}", s.handedOut)
	r.Post("/documents/move", s.move)
	r.Post("/documents/purge", s.purge)
	r.Get("/documents/{id}/people", s.seers)
	r.Post("/documents/{id}/people", s.passOn)
	r.Get("/documents/pictures", s.pictures)
	r.Post("/documents/pictures", s.makePictures)
	r.Post("/gather", s.gather)
	r.Post("/gather/{what}", s.gathered)
	r.Get("/folders", s.folders)
	r.Get("/folders/find", s.findFolders)
	r.Post("/folders", s.makeFolder)
	r.Post("/folders/{id}", s.openFolder)
	r.Post("/folders/{id}/name", s.renameFolder)
	r.Post("/folders/{id}/move", s.moveFolder)
	r.Post("/folders/{id}/remove", s.removeFolder)
}

type row struct {
	desk.Document
	Who             string
	Binned          bool
	Folder          string // that it is in, where that is worth telling
	Changes, Purges bool   // what this person may do
}

type outRow struct {
	desk.HandOut
	Who string
}

// choice is one of the words in the line that says what is listed.
type choice struct {
	Value, Text string
	Chosen      bool
}

type view struct {
	station.Around
	View    string // "here", "bin", "out", "text", "folders" or "pictures"
	Folders []desk.FolderView
	Folder  desk.FolderView // the one whose documents are listed; zero for all
	People  []desk.Person   // of the house
	Chosen  map[uint]string // who sees a closed folder besides administrators, by its id
	Changes bool            // this person may add and change documents
	Purges  bool
	Rows    []row
	Outs    []outRow
	More    string // the address of the rows behind those that are there; empty where all are
	Here    int
	Listed  int // documents that the list has in all
	Binned  int
	BinDays int // after which documents in the Bin are purged; 0 for never
	Out     int
	Message *station.Message
	Traits  []choice
	Sorts   []choice
	Words   string
	Narrow  bool // the list is narrowed by a trait or by words
	Absent  bool // what sets files of other kinds as pages is not on this machine
	List    *desk.GatheredOutcome
	Query   string // what was looked for in the text of all documents
	Found   *desk.TextHits
	Unread  int // pages without text
	Pics    *picturesView
}

// listPart is how many rows are sent at a time.
const listPart = 50

// sorts are the orders of the list, as its line says them.
var sorts = []choice{{Value: "", Text: "newest first"}, {Value: "name", Text: "by name"}, {Value: "pages", Text: "most pages first"}, {Value: "weight", Text: "largest first"}}

// listing reads what is asked for from the address.
func listing(r *http.Request, name string) desk.Listing {
	return desk.Listing{Person: station.Person(r).ID, Binned: name == "bin", Trait: r.FormValue("trait"), Words: strings.TrimSpace(r.FormValue("words")),
		Sort: desk.Sort(r.FormValue("sort")), After: station.FormID(r, "after"), Most: listPart + 1}
}

func (s *screen) view(r *http.Request, name string) (*view, error) {
	me, ctx := station.Person(r), r.Context()
	v := &view{Around: s.Host.Screen(r, "Documents"), View: name, Changes: me.Role.Allows(desk.ActChange), Purges: me.Role.Allows(desk.ActPurge)}
	v.Absent = typeset.Here() != nil
	part := listing(r, name)
	if part.After == 0 {
		here, binned, out, err := s.desk.Counts(ctx, me.ID)
		if err != nil {
			return nil, err
		}
		v.Here, v.Binned, v.Out = int(here), int(binned), int(out)
		if v.Changes {
			if v.List, err = s.desk.GatheredList(ctx, me.ID); err != nil {
				return nil, err
			}
		}
	}
	var err error
	if v.Folders, err = s.desk.Folders(ctx, me.ID); err != nil {
		return nil, err
	}
	if part.After == 0 {
		if err := s.desk.CountFolders(ctx, me.ID, v.Folders); err != nil {
			return nil, err
		}
	}
	switch name {
	case "text", "pictures":
		return v, nil
	case "folders":
		return v, s.peopleOf(r, v)
	}
	folder := station.FormID(r, "folder")
	for _, f := range v.Folders {
		if f.ID == folder {
			v.Folder = f
		}
	}
	if folder != 0 && v.Folder.ID == 0 {
		return nil, desk.ErrMissing
	}
	part.Folder = v.Folder.ID
	people, err := s.desk.People(ctx)
	if err != nil {
		return nil, err
	}
	if name == "out" {
		return v, s.outs(r, v, part, people)
	}
	return v, s.rows(r, v, part, people)
}

func (s *screen) outs(r *http.Request, v *view, part desk.Listing, people map[uint]string) error {
	list, err := s.desk.HandOuts(r.Context(), 0, part)
	if err != nil {
		return err
	}
	if len(list) > listPart {
		list = list[:listPart]
		v.More = fmt.Sprintf("/documents/more/out?after=%d", list[listPart-1].ID)
	}
	for _, h := range list {
		v.Outs = append(v.Outs, outRow{h, people[h.PersonID]})
	}
	return nil
}

func (s *screen) rows(r *http.Request, v *view, part desk.Listing, people map[uint]string) error {
	ctx := r.Context()
	docs, err := s.desk.Documents(ctx, part)
	if err != nil {
		return err
	}
	if len(docs) > listPart {
		docs = docs[:listPart]
		q := url.Values{"after": {fmt.Sprint(docs[listPart-1].ID)}}
		for key, value := range map[string]string{"trait": part.Trait, "words": part.Words, "sort": string(part.Sort)} {
			if value != "" {
				q.Set(key, value)
			}
		}
		if part.Folder != 0 {
			q.Set("folder", fmt.Sprint(part.Folder))
		}
		v.More = "/documents/more/" + v.View + "?" + q.Encode()
	}
	for _, d := range docs {
		v.Rows = append(v.Rows, rowOf(d, people, v))
	}
	if part.After != 0 {
		return nil
	}
	v.Words, v.Narrow = part.Words, part.Trait != "" || part.Words != ""
	if v.View == "bin" {
		h, err := s.desk.House(ctx)
		v.BinDays = h.BinDays
		return err
	}
	n, err := s.desk.CountDocuments(ctx, part)
	if err != nil {
		return err
	}
	v.Listed = int(n)
	counts, err := s.desk.Traits(ctx, part.Person, part)
	if err != nil {
		return err
	}
	v.Traits = []choice{{Text: "all"}}
	for _, k := range desk.TraitKinds {
		if counts[k.Kind] > 0 || part.Trait == k.Kind {
			v.Traits = append(v.Traits, choice{k.Kind, fmt.Sprintf("%s (%s)", k.Name, step.Thousands(counts[k.Kind])), part.Trait == k.Kind})
		}
	}
	for _, o := range sorts {
		o.Chosen = o.Value == string(part.Sort)
		v.Sorts = append(v.Sorts, o)
	}
	return nil
}

func rowOf(d desk.Document, people map[uint]string, v *view) row {
	out := row{Document: d, Who: people[d.ChangedBy], Binned: d.BinnedAt != nil, Changes: v.Changes, Purges: v.Purges}
	for _, f := range v.Folders {
		if f.ID == d.FolderID && v.Folder.ID != f.ID && (f.Closed || f.Path != "Documents") {
			out.Folder = f.Path
		}
	}
	return out
}

// show answers with the screen, or only its changing part.
func (s *screen) show(w http.ResponseWriter, r *http.Request, name string, m *station.Message) error {
	v, err := s.view(r, name)
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
	v, err := s.view(r, name)
	if err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, part, v)
}

// search shows what a search through the text of all documents found.
func (s *screen) search(w http.ResponseWriter, r *http.Request) error {
	v, err := s.view(r, "text")
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

// thumb is the longest side of the picture in a row, in pixels; largeThumb that of one that a picture's page is shown with.
const (
	thumb      = 80
	largeThumb = 240
)

// firstPicture sends the picture of a document's first page; its address changes with the document's state.
func (s *screen) firstPicture(w http.ResponseWriter, r *http.Request) error {
	size := thumb
	if r.FormValue("large") != "" {
		size = largeThumb
	}
	data, err := s.desk.FirstPicture(r.Context(), station.Person(r).ID, station.ID(r, "id"), size)
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

// recognize recognizes the text of the documents that are selected.
func (s *screen) recognize(w http.ResponseWriter, r *http.Request) error {
	work, err := s.desk.RecognizeMany(r.Context(), station.Person(r).ID, selected(r), "")
	if err != nil {
		return err
	}
	return s.Work(w, r, work)
}
