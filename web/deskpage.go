package web

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"math"
	"net/http"
	"slices"
	"strconv"

	"github.com/go-chi/chi/v5"

	"glenrain/core/finding"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk"
)

func (s *Server) deskRoutes(r chi.Router) {
	r.Get("/desk/{id}", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, r.URL.Path+"/arrange", http.StatusSeeOther)
	})
	r.Get("/desk/{id}/{station}", s.deskPage)
	r.Post("/desk/{id}/do/{job}", s.do)
	r.Post("/desk/{id}/preview/{job}", s.preview)
	r.Post("/desk/{id}/back", s.back)
	r.Post("/desk/{id}/forward", s.forward)
	r.Post("/desk/{id}/out", s.handOut)
	r.Get("/desk/{id}/picture/{key}/{version}/{box}", s.picture)
	r.Get("/desk/{id}/region/{key}", s.region)
}

// station is a place of the desk, with its jobs in trade words.
type station struct {
	Name  string // as shown
	Jobs  string
	Path  string
	Count int // what is open there
	Here  bool
}

// stations are those that work so far, in the order people work.
var stations = []station{
	{Name: "Collect", Jobs: "pages from elsewhere", Path: "collect"},
	{Name: "Arrange", Jobs: "order, turn, take out", Path: "arrange"},
	{Name: "Furnish", Jobs: "page numbers", Path: "furnish"},
	{Name: "Review", Jobs: "read, copy, mark text", Path: "review"},
	{Name: "Release", Jobs: "hand out", Path: "release"},
}

// pageView is a page as the scripts get it: key, version of its picture, width and
// height in points.
type pageView [4]any

type trailView struct {
	Sentence string
	Warnings []string
	Who      string
	At       string
	Show     string
}

type deskView struct {
	page
	Doc        desk.Document
	Folder     string
	Seen       uint
	Station    string
	Stations   []station
	Pages      []pageView
	Trail      []trailView
	Began      string // how the document came to be
	CanBack    bool
	CanForward bool
	Show       string // the page to go to
	Message    *messageView
	Furnish    *furnishView
	Release    *releaseView
	Collect    *collectView
	LooseEnds  []finding.Finding
	Signed     string // what becomes of a signature when the document is changed
}

type collectView struct {
	Documents []desk.Document
}

type releaseView struct {
	Name    string // offered for a copy
	Outs    []desk.HandOut
	Written *desk.HandOut
	Asks    []finding.Finding
	Chosen  string // "copy" or "replace"

	Signed     string // by whom, and what becomes of it; empty where the signature can't leave with the file
	KeepSigned bool
	CanLock    bool
	Unlock     bool
}

func (s *Server) deskPage(w http.ResponseWriter, r *http.Request) {
	snap, err := s.desk.Snapshot(r.Context(), number(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	name := chi.URLParam(r, "station")
	if !slices.ContainsFunc(stations, func(st station) bool { return st.Path == name }) {
		s.fail(w, r, desk.ErrMissing)
		return
	}
	v, err := s.deskView(r, snap, name)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	v.Show = r.FormValue("page")
	if id := formNumber(r, "out"); id != 0 && v.Release != nil {
		if h, err := s.desk.HandedOut(r.Context(), id); err == nil && h.DocumentID == v.Doc.ID {
			v.Release.Written = h
		}
	}
	s.showDesk(w, r, http.StatusOK, v)
}

func (s *Server) showDesk(w http.ResponseWriter, r *http.Request, code int, v *deskView) {
	name := "desk"
	if r.Header.Get("HX-Request") != "" {
		name = "desk-body"
	}
	s.render(w, code, name, v)
}

func (s *Server) deskView(r *http.Request, snap *desk.Snapshot, at string) (*deskView, error) {
	v := &deskView{
		page: s.page(r, snap.Document.Name), Doc: snap.Document, Seen: snap.State.ID, Station: at,
		CanBack: snap.State.ParentID != 0, CanForward: s.desk.CanForward(r.Context(), snap),
		Began: "Brought in",
	}
	folder, err := s.desk.Folder(r.Context(), snap.Document.FolderID)
	if err != nil {
		return nil, err
	}
	v.Folder = folder.Name
	if snap.Document.MadeFrom != "" {
		v.Began = "Made from " + snap.Document.MadeFrom
	}
	for _, p := range snap.Pages() {
		v.Pages = append(v.Pages, pageView{p.Key.String(), p.Version, math.Round(p.W*100) / 100, math.Round(p.H*100) / 100})
	}
	people, err := s.desk.People(r.Context())
	if err != nil {
		return nil, err
	}
	for i := len(snap.Steps) - 1; i >= 0; i-- {
		st := snap.Steps[i]
		v.Trail = append(v.Trail, trailView{st.Sentence, st.WarningList(), people[st.PersonID], when(st.At), st.Show})
	}
	if v.LooseEnds, err = s.desk.LooseEnds(snap); err != nil {
		return nil, err
	}
	v.Stations = slices.Clone(stations)
	for i := range v.Stations {
		v.Stations[i].Here = v.Stations[i].Path == at
		for _, f := range v.LooseEnds {
			if f.Station == v.Stations[i].Path {
				v.Stations[i].Count++
			}
		}
	}
	if at != "release" {
		v.Signed = finding.Signed(snap.PDF)
	}
	switch at {
	case "furnish":
		v.Furnish, err = s.furnishView(r, snap)
	case "release":
		v.Release, err = s.releaseView(r, snap)
	case "collect":
		v.Collect, err = s.collectView(r, snap)
	}
	return v, err
}

func (s *Server) collectView(r *http.Request, snap *desk.Snapshot) (*collectView, error) {
	all, err := s.desk.Documents(r.Context(), false)
	if err != nil {
		return nil, err
	}
	v := &collectView{}
	for _, d := range all {
		if d.ID != snap.Document.ID {
			v.Documents = append(v.Documents, d)
		}
	}
	return v, nil
}

func (s *Server) releaseView(r *http.Request, snap *desk.Snapshot) (*releaseView, error) {
	name, err := s.desk.FreeName(r.Context(), snap.Document.Name)
	if err != nil {
		return nil, err
	}
	outs, err := s.desk.HandOuts(r.Context(), snap.Document.ID)
	v := &releaseView{Name: name, Outs: outs, Chosen: "copy", CanLock: snap.CanLock()}
	if snap.CanKeepSignature() {
		v.Signed, v.KeepSigned = finding.Signed(snap.PDF), snap.State.ParentID == 0
	}
	return v, err
}

// CanRenew reports whether what is asked about can be mended at once.
func (v *releaseView) CanRenew() bool {
	return slices.ContainsFunc(v.Asks, func(f finding.Finding) bool { return f.Kind == "stale" })
}

// answer shows the desk after a change: where to go, and what was done in one line.
func (s *Server) answer(w http.ResponseWriter, r *http.Request, out *desk.Outcome, text string) {
	v, err := s.deskView(r, out.Snapshot, r.FormValue("station"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	v.Message = &messageView{Text: text}
	if st := out.Step; st != nil {
		v.Show = st.Show
		v.Message.Details = st.WarningList()
		v.Message.Undo = fmt.Sprintf("/desk/%d/back", v.Doc.ID)
		v.Message.UndoWord = "Go back"
		v.Message.UndoValues = map[string]string{"seen": strconv.Itoa(int(v.Seen)), "station": v.Station}
	}
	s.showDesk(w, r, http.StatusOK, v)
}

// MarkColours are offered for marks.
func (v *deskView) MarkColours() any { return markColours }

// refuse answers what could not be done. A conflict shows the newest state.
func (s *Server) refuse(w http.ResponseWriter, r *http.Request, err error) {
	var conflict *desk.Conflict
	if !asConflict(err, &conflict) {
		s.fail(w, r, err)
		return
	}
	code, sentence := status(err)
	v, verr := s.deskView(r, conflict.Head, r.FormValue("station"))
	if verr != nil {
		s.fail(w, r, verr)
		return
	}
	v.Message = &messageView{Text: sentence, Problem: true}
	s.showDesk(w, r, code, v)
}

// change reads the step that a form asks for.
func (s *Server) change(r *http.Request) (desk.Change, error) {
	c := desk.Change{
		Document: number(r, "id"), Seen: formNumber(r, "seen"), RequestID: r.FormValue("request"), Person: person(r).ID,
		Name: chi.URLParam(r, "job"),
	}
	read, ok := jobForms[c.Name]
	if c.Name == "mark-text" { // whose form names words, which are looked up
		read, ok = s.markForm, true
	}
	if !ok {
		return c, desk.ErrMissing
	}
	params, err := read(r)
	if err != nil {
		return c, err
	}
	c.Params, err = json.Marshal(params)
	return c, err
}

func (s *Server) do(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<20)
	c, err := s.change(r)
	if err == nil && c.RequestID == "" {
		err = step.Refuse("the request has no id of its own")
	}
	if err != nil {
		s.refuse(w, r, err)
		return
	}
	out, err := s.desk.Do(r.Context(), c)
	if err != nil {
		s.refuse(w, r, err)
		return
	}
	s.answer(w, r, out, out.Step.Sentence+".")
}

func (s *Server) back(w http.ResponseWriter, r *http.Request) {
	before, err := s.desk.Snapshot(r.Context(), number(r, "id"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	out, err := s.desk.Back(r.Context(), number(r, "id"), formNumber(r, "seen"), person(r).ID)
	if err != nil {
		s.refuse(w, r, err)
		return
	}
	text := "Gone back."
	if n := len(before.Steps); n > 0 {
		text = "Gone back before “" + before.Steps[n-1].Sentence + "”."
	}
	s.answer(w, r, out, text)
}

func (s *Server) forward(w http.ResponseWriter, r *http.Request) {
	out, err := s.desk.Forward(r.Context(), number(r, "id"), formNumber(r, "seen"), person(r).ID)
	if err != nil {
		s.refuse(w, r, err)
		return
	}
	text := "Gone forward."
	if n := len(out.Snapshot.Steps); n > 0 {
		text = "Done again: " + out.Snapshot.Steps[n-1].Sentence + "."
	}
	s.answer(w, r, out, text)
}

// boxThumb is the longest side of the picture in a list, in pixels.
const boxThumb = 80

// boxOK reports whether pages are drawn in a size: its longest side in pixels, in steps
// of 4 so that a cache has a chance.
func boxOK(box int) bool { return box >= 40 && box <= 4400 && box%4 == 0 }

func (s *Server) picture(w http.ResponseWriter, r *http.Request) {
	key, err := step.ParseKey(chi.URLParam(r, "key"))
	box, berr := strconv.Atoi(chi.URLParam(r, "box"))
	if err != nil || berr != nil || !boxOK(box) {
		s.fail(w, r, desk.ErrMissing)
		return
	}
	s.sendPicture(w, r, number(r, "id"), key, number(r, "version"), box)
}

func (s *Server) sendPicture(w http.ResponseWriter, r *http.Request, doc uint, key step.Key, version uint, box int) {
	data, err := s.desk.Picture(r.Context(), doc, key, version, box, box)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	if chi.URLParam(r, "version") == "" {
		w.Header().Set("Cache-Control", "private, no-cache") // the address of a first page stays when the page changes
	}
	w.Header().Set("Content-Type", http.DetectContentType(data))
	http.ServeContent(w, r, "", timeZero, bytes.NewReader(data))
}

// region draws a part of a page at any scale: x, y, w and h in pixels of the page at
// scale pixels a point.
func (s *Server) region(w http.ResponseWriter, r *http.Request) {
	key, err := step.ParseKey(chi.URLParam(r, "key"))
	scale, serr := strconv.ParseFloat(r.FormValue("scale"), 64)
	var v [4]int
	for i, k := range []string{"x", "y", "w", "h"} {
		n, nerr := strconv.Atoi(r.FormValue(k))
		if nerr != nil {
			serr = nerr
		}
		v[i] = n
	}
	if err != nil || serr != nil || scale <= 0 || scale > 40 || v[2] < 1 || v[3] < 1 || v[2] > 4000 || v[3] > 4000 {
		s.fail(w, r, step.Refuse("this part of a page can't be drawn"))
		return
	}
	pic, err := s.desk.Region(r.Context(), raster.Request{Scale: scale, Region: image.Rect(v[0], v[1], v[0]+v[2], v[1]+v[3]), Format: raster.Auto}, number(r, "id"), key)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", pic.Type)
	_, _ = w.Write(pic.Data)
}
