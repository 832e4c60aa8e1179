package arrange

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

func (s *bench) routes(r station.Router) {
	r.Get("/arrange/documents", s.documents)
	r.Get("/arrange/lane/{lane}", s.lane)
	r.PostLarge("/arrange/act", maxAct, s.act)
	r.PostLarge("/arrange/extract", maxAct, s.extract)
	r.Get("/arrange/cuts", s.cuts)
	r.PostLarge("/arrange/parts", maxAct, s.parts)
	r.PostLarge("/arrange/split", maxAct, s.split)
	r.Post("/arrange/parts/{what}", s.binParts)
	r.Get("/arrange/blank-pages", s.blank)
	r.Get("/arrange/headings", s.headings)
}

// bench is the station with what the shell lends to it.
type bench struct {
	station.Host
}

// maxAct is the largest form, in bytes: the keys of some 100,000 pages.
const maxAct = 2 << 20

// offered is how many documents the field for a lane offers at once; more are found by typing.
const offered = 12

// documents answers the field that opens a lane.
func (s *bench) documents(w http.ResponseWriter, r *http.Request) error {
	open, who := station.ID(r, "id"), station.Person(r).ID
	if err := s.Desk().May(r.Context(), who, desk.ActLook, open); err != nil {
		return err
	}
	words := r.FormValue("words")
	if len(words) > 400 {
		words = words[:400]
	}
	list, err := s.Desk().Documents(r.Context(), desk.Listing{Person: who, Words: words, Most: offered + 1})
	if err != nil {
		return err
	}
	var out []desk.Document
	for _, row := range list {
		if row.ID != open && len(out) < offered {
			out = append(out, row)
		}
	}
	return s.Render(w, http.StatusOK, "lane-documents", out)
}

// laneView is a lane as scripts get it.
type laneView struct {
	Doc     uint               `json:"doc"`
	Seen    uint               `json:"seen"`
	Name    string             `json:"name"`
	Folder  string             `json:"folder"`
	Weight  string             `json:"weight"`
	CanUndo bool               `json:"canUndo"`
	CanRedo bool               `json:"canRedo"`
	Pages   []station.PageView `json:"pages"`
}

func (s *bench) lane(w http.ResponseWriter, r *http.Request) error {
	who := station.Person(r).ID
	if err := s.Desk().May(r.Context(), who, desk.ActLook, station.ID(r, "id")); err != nil {
		return err
	}
	snap, err := s.Desk().Look(r.Context(), who, station.ID(r, "lane"))
	if err != nil {
		return err
	}
	v := laneView{Doc: snap.Document.ID, Seen: snap.State.ID, Name: snap.Document.Name, Weight: station.Weight(snap.Document.Weight),
		CanUndo: snap.CanUndo(), CanRedo: s.Desk().CanRedo(r.Context(), snap), Pages: station.PageViews(snap)}
	if v.Folder, err = s.Desk().FolderName(r.Context(), snap.Document.FolderID); err != nil {
		return err
	}
	return station.SendJSON(w, v)
}

// act does something that concerns lanes, and shows the open document again.
func (s *bench) act(w http.ResponseWriter, r *http.Request) error {
	open, who := station.ID(r, "id"), station.Person(r).ID
	if err := s.Desk().May(r.Context(), who, desk.ActLook, open); err != nil {
		return err
	}
	m, page, err := s.doAct(r, open, who)
	if err != nil {
		return s.refused(w, r, open, err)
	}
	snap, err := s.Desk().Look(r.Context(), who, open)
	if err != nil {
		return err
	}
	return s.Show(w, r, station.Shown{Snapshot: snap, Place: r.FormValue("_place"), Message: m, Page: page})
}

// refused shows a conflict in another document as a sentence over the open one; its lane is brought up to date by that.
func (s *bench) refused(w http.ResponseWriter, r *http.Request, open uint, err error) error {
	var c *desk.Conflict
	if !errors.As(err, &c) || c.Head == nil || c.Head.Document.ID == open {
		return err
	}
	snap, lerr := s.Desk().Look(r.Context(), station.Person(r).ID, open)
	if lerr != nil {
		return err
	}
	return s.Show(w, r, station.Shown{Snapshot: snap, Place: r.FormValue("_place"), Code: http.StatusConflict, Message: &station.Message{Problem: true,
		Text: fmt.Sprintf("Someone else changed “%s”. You now see its newest version; nothing was done.", c.Head.Document.Name)}})
}

// doAct does it, and gives what is said, and the page of the open document to go to.
func (s *bench) doAct(r *http.Request, open, who uint) (*station.Message, string, error) {
	what := r.FormValue("what")
	request := station.RequestID(r.FormValue("_request"), what, r.FormValue("from"), r.FormValue("to"), r.FormValue("pages"), r.FormValue("before"), r.FormValue("lane"), r.FormValue("by"))
	if request == "" {
		return nil, "", step.Refuse("the request has no id of its own")
	}
	switch what {
	case "move", "copy":
		return s.transfer(r, open, who, request)
	case "undo", "redo":
		lane := station.FormID(r, "lane")
		do := s.Desk().Undo
		if what == "redo" {
			do = s.Desk().Redo
		}
		out, err := do(r.Context(), lane, station.FormID(r, "seen_lane"), who)
		if err != nil {
			return nil, "", err
		}
		word := map[string]string{"undo": "Undone", "redo": "Redone"}[what]
		return &station.Message{Text: fmt.Sprintf("%s in “%s”: %s.", word, out.Snapshot.Document.Name, out.Undone)}, "", nil
	case "rotate", "remove", "duplicate", "reverse":
		st, err := s.Desk().Registry().Read(what, r.Form, nil)
		if err != nil {
			return nil, "", err
		}
		return s.do(r, open, who, station.FormID(r, "lane"), station.FormID(r, "seen_lane"), request, what, st)
	}
	return nil, "", step.Refuse("this action is not possible between documents")
}

// do runs a step on the document of a lane, or the open one.
func (s *bench) do(r *http.Request, open, who, doc, seen uint, request, name string, st any) (*station.Message, string, error) {
	params, err := json.Marshal(st)
	if err != nil {
		return nil, "", err
	}
	out, err := s.Desk().Do(r.Context(), desk.Change{Document: doc, Seen: seen, RequestID: request, Person: who, Name: name, Params: params})
	if err != nil {
		return nil, "", err
	}
	return s.said(r, open, out, ""), showIf(out, open), nil
}

func showIf(out *desk.Outcome, open uint) string {
	if out == nil || out.Step == nil || out.Snapshot.Document.ID != open {
		return ""
	}
	return out.Step.Show
}

// said says what was done, with the button that undoes it.
func (s *bench) said(r *http.Request, open uint, out *desk.Outcome, text string) *station.Message {
	doc := out.Snapshot.Document
	if text == "" {
		text = out.Step.Sentence
		if doc.ID != open {
			text = fmt.Sprintf("In “%s”: %s", doc.Name, text)
		}
	}
	m := &station.Message{Text: text + ".", Details: out.Step.WarningList(), UndoWord: "Undo", Values: map[string]string{"_place": r.FormValue("_place")}}
	seen := strconv.Itoa(int(out.Snapshot.State.ID))
	if doc.ID == open {
		m.Undo, m.Values["_seen"] = fmt.Sprintf("/desk/%d/undo", open), seen
		return m
	}
	m.Undo = fmt.Sprintf("/desk/%d/arrange/act", open)
	m.Values["what"], m.Values["lane"], m.Values["seen_lane"], m.Values["_request"] = "undo", strconv.Itoa(int(doc.ID)), seen, "undo-"+seen
	return m
}

// transfer moves or copies pages within a document, or into another.
func (s *bench) transfer(r *http.Request, open, who uint, request string) (*station.Message, string, error) {
	from, to := station.FormID(r, "from"), station.FormID(r, "to")
	cp := r.FormValue("what") == "copy"
	var pages step.Pages
	if err := pages.UnmarshalText([]byte(r.FormValue("pages"))); err != nil {
		return nil, "", err
	}
	if pages.IsZero() {
		return nil, "", step.Refuse("no page is selected")
	}
	var place step.Place
	if err := place.UnmarshalText([]byte(r.FormValue("before"))); err != nil {
		return nil, "", err
	}
	if from == to {
		seen := station.FormID(r, "seen_to")
		if cp {
			return s.do(r, open, who, to, seen, request, "duplicate", map[string]any{"pages": pages, "where": "together", "to": place})
		}
		return s.do(r, open, who, to, seen, request, "move", map[string]any{"pages": pages, "to": place})
	}
	t := desk.Transfer{From: from, To: to, SeenFrom: station.FormID(r, "seen_from"), SeenTo: station.FormID(r, "seen_to"), Person: who, RequestID: request,
		Pages: pages, Place: place, Copy: cp}
	out, err := s.Desk().Transfer(r.Context(), t)
	if err != nil {
		return nil, "", err
	}
	text := out.Sentence
	if r.FormValue("files") != "" {
		text = out.To.Step.Sentence
	}
	text = strings.TrimSuffix(text, ".")
	at := out.To
	if at.Snapshot.Document.ID != open && out.From != nil && out.From.Snapshot.Document.ID == open {
		at = out.From // undone from here, in both
	}
	m := s.said(r, open, at, text)
	m.Details = out.To.Step.WarningList()
	if out.From != nil {
		m.Details = append(m.Details, out.From.Step.WarningList()...)
	}
	return m, showIf(out.To, open), nil
}

// extract makes a new document of pages.
func (s *bench) extract(w http.ResponseWriter, r *http.Request) error {
	open, who := station.ID(r, "id"), station.Person(r).ID
	if err := s.Desk().May(r.Context(), who, desk.ActLook, open); err != nil {
		return err
	}
	e := desk.Extraction{Document: open, Seen: station.FormID(r, "_seen"), Person: who, Name: r.FormValue("name"), Remove: r.FormValue("remove") == "yes"}
	if err := e.Pages.UnmarshalText([]byte(r.FormValue("pages"))); err != nil {
		return err
	}
	e.RequestID = station.RequestID(r.FormValue("_request"), fmt.Sprintf("%+v", e))
	made, out, err := s.Desk().Extract(r.Context(), &desk.Work{}, e)
	if err != nil {
		return err
	}
	snap, err := s.Desk().Look(r.Context(), who, open)
	if err != nil {
		return err
	}
	m := &station.Message{Text: fmt.Sprintf("“%s” created from %s.", made.Name, step.Count(made.Pages, "page")), Details: made.Made.Warnings,
		Go: fmt.Sprintf("/desk/%d", made.ID), GoWord: "Open it"}
	if out != nil {
		m.Text = fmt.Sprintf("“%s” created from %s, which are removed here.", made.Name, step.Count(made.Pages, "page"))
		m.Details = append(m.Details, out.Step.WarningList()...)
		m.Details = append(m.Details, "Undo brings the pages back here; the new document stays.")
		m.Undo, m.UndoWord = fmt.Sprintf("/desk/%d/undo", open), "Undo"
		m.Values = map[string]string{"_seen": strconv.Itoa(int(snap.State.ID)), "_place": r.FormValue("_place")}
	}
	return s.Show(w, r, station.Shown{Snapshot: snap, Place: r.FormValue("_place"), Message: m})
}
