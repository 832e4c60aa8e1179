package shell

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// maxStep is the largest form of a step, in bytes: the keys of some 100,000 pages.
const maxStep = 2 << 20

// change reads the step that a form asks for. The fields of the frame itself begin with "_".
func (s *Server) change(r *http.Request) (desk.Change, job, error) {
	c := desk.Change{
		Document: station.ID(r, "id"), Seen: station.FormID(r, "_seen"), Person: station.Person(r).ID,
		Name: chi.URLParam(r, "step"),
	}
	j, ok := s.forms[c.Name]
	if !ok {
		return c, j, desk.ErrMissing
	}
	if err := s.desk.MayStep(r.Context(), c.Person, c.Document, c.Name); err != nil { // before anything of the form is looked at
		return c, j, err
	}
	var fill func(step.Step) error
	if j.form.Fill != nil {
		fill = func(st step.Step) error {
			snap, err := s.desk.Look(r.Context(), c.Person, c.Document)
			if err != nil {
				return err
			}
			return j.form.Fill(&station.Visit{Request: r, Desk: s.desk, Person: station.Person(r), Snapshot: snap, Station: j.station, Job: j.job}, st)
		}
	}
	st, err := s.desk.Registry().Read(c.Name, r.Form, fill)
	if err != nil {
		return c, j, err
	}
	c.Params, err = json.Marshal(st)
	c.RequestID = station.RequestID(r.FormValue("_request"), c.Name, string(c.Params))
	return c, j, err
}

func (s *Server) do(w http.ResponseWriter, r *http.Request) error {
	c, _, err := s.change(r)
	if err == nil && c.RequestID == "" {
		err = step.Refuse("the request has no id of its own")
	}
	if err != nil {
		return err
	}
	if s.desk.Slow(c.Name) {
		work, done, err := s.desk.DoLater(r.Context(), c)
		if err != nil {
			return err
		}
		if done != nil {
			return s.answer(w, r, done, done.Step.Sentence+".", true)
		}
		return s.showWork(w, r, work)
	}
	out, err := s.desk.Do(r.Context(), c)
	if err != nil {
		return err
	}
	return s.answer(w, r, out, out.Step.Sentence+".", true)
}

// answer shows the desk after a change: where to go, and what was done in one line, with the button that undoes it where undoable.
func (s *Server) answer(w http.ResponseWriter, r *http.Request, out *desk.Outcome, text string, undoable bool) error {
	v := station.Shown{Snapshot: out.Snapshot, Place: r.FormValue("_place"), Message: &station.Message{Text: text}}
	if st := out.Step; st != nil {
		v.Page = st.Show
		v.Message.Details = st.WarningList()
	}
	if undoable {
		v.Message.Undo = fmt.Sprintf("/desk/%d/undo", out.Snapshot.Document.ID)
		v.Message.UndoWord = "Undo"
		v.Message.Values = map[string]string{"_seen": strconv.Itoa(int(out.Snapshot.State.ID)), "_place": v.Place}
	}
	return s.show(w, r, v)
}

func (s *Server) undo(w http.ResponseWriter, r *http.Request) error {
	out, err := s.desk.Undo(r.Context(), station.ID(r, "id"), station.FormID(r, "_seen"), station.Person(r).ID)
	if err != nil {
		return err
	}
	return s.answer(w, r, out, "Undone: "+out.Undone+".", false)
}

func (s *Server) redo(w http.ResponseWriter, r *http.Request) error {
	out, err := s.desk.Redo(r.Context(), station.ID(r, "id"), station.FormID(r, "_seen"), station.Person(r).ID)
	if err != nil {
		return err
	}
	return s.answer(w, r, out, "Redone: "+out.Undone+".", false)
}

// undoStep undoes one earlier step alone.
func (s *Server) undoStep(w http.ResponseWriter, r *http.Request) error {
	out, err := s.desk.Revise(r.Context(), desk.Revision{Document: station.ID(r, "id"), Seen: station.FormID(r, "_seen"), Person: station.Person(r).ID, Step: station.ID(r, "step")})
	if err != nil {
		return err
	}
	return s.answer(w, r, out, out.Undone+"; later steps are kept.", true)
}

// defaultBox is the longest side of a preview that asks for no size, in pixels.
const defaultBox = 960

// preview runs a step in memory and sends the page as it would be; the header Preview says what
// the step would do.
func (s *Server) preview(w http.ResponseWriter, r *http.Request) error {
	c, j, err := s.change(r)
	if err != nil {
		return err
	}
	var at step.Key
	if k := r.FormValue("_page"); k != "" {
		if at, err = step.ParseKey(k); err != nil {
			return step.Refuse("there is no page %q", k)
		}
	}
	box := int(station.FormID(r, "_box"))
	if !boxOK(box) {
		box = defaultBox
	}
	p, err := s.desk.Preview(r.Context(), c, desk.Previewed{At: at, Else: r.FormValue("_else") != "", W: box, H: box})
	if err != nil {
		return err
	}
	v := previewed{Pages: len(p.Result.Pages), Sentence: p.Result.Sentence, Warnings: p.Result.Warnings, Show: p.Key.String()}
	v.W, v.H = p.Doc.Geometry(p.Ref).Seen()
	v.Number = p.Page + 1
	if all, err := p.Doc.Pages(); err == nil {
		v.Of = len(all)
	}
	if j.form.Spot != nil {
		if spot, ok := j.form.Spot(p); ok {
			v.Spot = &spot
		}
	}
	if snap, err := s.desk.Look(r.Context(), c.Person, c.Document); err == nil {
		v.Set = touched(snap, p.Result)
	}
	list, err := json.Marshal(v)
	if err != nil {
		return err
	}
	h := w.Header()
	h.Set("Preview", url.PathEscape(string(list)))
	h.Set("Content-Type", p.Picture.Type)
	_, _ = w.Write(p.Picture.Data)
	return nil
}

// previewed is what a preview says besides the picture.
type previewed struct {
	Pages    int           `json:"pages"`
	Set      string        `json:"set"` // which pages of the document as it is, as a page set
	Sentence string        `json:"sentence"`
	Warnings []string      `json:"warnings,omitempty"`
	Show     string        `json:"show"`
	Number   int           `json:"number"` // of the page that is shown, and of how many there will be
	Of       int           `json:"of"`
	W        float64       `json:"w"` // of the page that is shown, in points
	H        float64       `json:"h"`
	Spot     *station.Spot `json:"spot,omitempty"`
}

// mostParts is how many parts of a page set fit a header.
const mostParts = 600

// touched gives the pages that a step concerns, of the document before it, as a page set; empty where that would be too long.
func touched(snap *desk.Snapshot, res *step.Result) string {
	if res.All {
		return "all"
	}
	at := make([]int, 0, len(res.Pages))
	index := snap.Indexes(res.Pages)
	for _, i := range index {
		if i >= 0 {
			at = append(at, i)
		}
	}
	set := step.WriteSet(at)
	if strings.Count(set, ",") > mostParts {
		return ""
	}
	return set
}
