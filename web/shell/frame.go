package shell

import (
	"cmp"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"glenrain/core/finding"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

func (s *Server) deskRoutes(r router) {
	r.Get("/desk/{id}", func(w http.ResponseWriter, r *http.Request) error {
		to := fmt.Sprintf("/desk/%d/%s", station.ID(r, "id"), s.opt.Stations[0].Path)
		if i := slices.IndexFunc(s.opt.Stations, func(st station.Station) bool { return st.Surface == station.Board }); i >= 0 {
			to = fmt.Sprintf("/desk/%d/%s", station.ID(r, "id"), s.opt.Stations[i].Path)
		}
		if err := s.desk.May(r.Context(), station.Person(r).ID, desk.ActLook, station.ID(r, "id")); err != nil {
			return err
		}
		http.Redirect(w, r, to, http.StatusSeeOther)
		return nil
	})
	for i := range s.opt.Stations {
		st := &s.opt.Stations[i]
		for k := range st.Jobs {
			if k > 0 || st.Jobs[k].Path != "" {
				r.Get("/desk/{id}/"+st.Path+"/"+st.Jobs[k].Path, s.deskPage(placeOf(st, &st.Jobs[k])))
			}
		}
		r.Get("/desk/{id}/"+st.Path, s.deskPage(st.Path))
	}
	r.PostLarge("/desk/{id}/do/{step}", maxStep, s.do)
	r.PostLarge("/desk/{id}/preview/{step}", maxStep, s.preview)
	r.Post("/desk/{id}/undo", s.undo)
	r.Post("/desk/{id}/redo", s.redo)
	r.Get("/desk/{id}/trail", s.trailMore)
	r.Get("/desk/{id}/trail/{step}", s.beforeAfter)
	r.Post("/desk/{id}/trail/{step}/undo", s.undoStep)
	r.Get("/desk/{id}/trail/{step}/values", s.stepValues)
	r.PostLarge("/desk/{id}/trail/{step}/values", maxStep, s.changeStep)
	r.Post("/desk/{id}/states/{state}/name", s.callState)
	r.Post("/desk/{id}/states/{state}/go", s.goBack)
	r.Get("/desk/{id}/picture/{key}/{version}/{box}", s.picture)
	r.Get("/desk/{id}/region/{key}", s.region)
	r.Get("/desk/{id}/find", s.findText)
	r.Get("/desk/{id}/hits/{key}", s.pageHits)
	r.Get("/watch", s.watch)
}

// place finds a station and its job by "furnish" or "furnish/numbers"; the first job where the second part is missing or not known.
func (s *Server) place(name string) (*station.Station, *station.Job) {
	path, of, _ := strings.Cut(name, "/")
	st := s.station(path)
	if st == nil {
		return nil, nil
	}
	i := max(0, slices.IndexFunc(st.Jobs, func(j station.Job) bool { return j.Path == of }))
	return st, &st.Jobs[i]
}

func placeOf(st *station.Station, j *station.Job) string {
	return strings.TrimSuffix(st.Path+"/"+j.Path, "/")
}

// stop is a station as the way shows it.
type stop struct {
	*station.Station
	Here  bool
	Count int // what is open there
	Jobs  []wayJob
}

type wayJob struct {
	Words string
	Path  string // behind the station's
	Here  bool
}

// frame is what the desk shows: around a job's own view.
type frame struct {
	station.Around
	Doc       desk.Document
	Folder    string
	Seen      uint
	Station   *station.Station
	Job       *station.Job
	Place     string
	Way       []stop
	Pages     []station.PageView
	Surface   station.Surface
	Trail     trailView
	CanUndo   bool
	CanRedo   bool
	Page      string // the page to go to
	Message   *station.Message
	LooseEnds []looseEnd
	Signed    string            // what becomes of a signature when the document is changed
	Busy      *desk.Reservation // somebody's long work
	Zoom      string            // as this person left it at this station
	Reads     bool              // this person may not do what the slip is for
	Keys      []keyGroup
	View      any // of the job
}

// looseEnd is a finding with the address where it is mended.
type looseEnd struct {
	finding.Finding
	Station *station.Station
	Job     *station.Job
	Key     string // of its page
}

// Said is the finding as a sentence of its own.
func (e looseEnd) Said() string { return step.Sentence(e.Sentence) }

// Act names the job that mends it.
func (e looseEnd) Act() string {
	if e.Job == nil {
		return ""
	}
	return step.Sentence(e.Job.Words)
}

// Where gives the place behind the document's address; empty where nothing mends it.
func (e looseEnd) Where() string {
	if e.Station == nil {
		return ""
	}
	return placeOf(e.Station, e.Job)
}

func (s *Server) deskPage(place string) station.Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		snap, err := s.desk.Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
		if err != nil {
			return err
		}
		s.desk.Opened(r.Context(), station.Person(r).ID, snap.Document.ID, snap.Document.Name)
		return s.show(w, r, station.Shown{Snapshot: snap, Place: place, Page: r.FormValue("page")})
	}
}

// show answers with the desk, or with its changing part.
func (s *Server) show(w http.ResponseWriter, r *http.Request, v station.Shown) error {
	st, j := s.place(v.Place)
	if st == nil {
		return desk.ErrMissing
	}
	f, err := s.frame(r, v, st, j)
	if err != nil {
		return err
	}
	name := "desk"
	if station.OnlyPart(r) {
		name = "desk-body"
	}
	return s.render(w, cmp.Or(v.Code, http.StatusOK), "job "+st.Path+"/"+j.Path, name, f)
}

func (s *Server) frame(r *http.Request, v station.Shown, st *station.Station, j *station.Job) (*frame, error) {
	ctx, snap, person := r.Context(), v.Snapshot, station.Person(r)
	f := &frame{
		Around: s.around(r, snap.Document.Name), Doc: snap.Document, Seen: snap.State.ID, Station: st, Job: j, Place: placeOf(st, j),
		CanUndo: snap.CanUndo(), CanRedo: s.desk.CanRedo(ctx, snap), Message: v.Message, Page: v.Page, View: v.View, Keys: s.keys(st, j),
	}
	var err error
	if f.Folder, err = s.desk.FolderName(ctx, snap.Document.FolderID); err != nil {
		return nil, err
	}
	f.Pages = station.PageViews(snap)
	f.Surface = st.Shows(j)
	if f.Trail, err = s.trail(r, snap, f.Place, 0); err != nil {
		return nil, err
	}
	f.LooseEnds = s.looseEnds(snap)
	for i := range s.opt.Stations {
		f.Way = append(f.Way, s.stop(&s.opt.Stations[i], st, j, f.LooseEnds))
	}
	if !mends(st, "signed") {
		f.Signed = finding.Signed(snap.PDF)
	}
	f.Busy = s.desk.Reserved(snap.Document.ID)
	f.Reads = !s.mayDo(person, j)
	if f.Surface == station.Paper {
		f.Zoom = cmp.Or(s.desk.Choice(ctx, person.ID, "zoom "+st.Path), st.Zoom)
	}
	if f.View == nil && j.View != nil {
		f.View, err = j.View(&station.Visit{Request: r, Desk: s.desk, Person: person, Snapshot: snap, Station: st, Job: j})
	}
	return f, err
}

// mayDo reports whether a person's role allows something of what a job is for.
func (s *Server) mayDo(p *desk.Person, j *station.Job) bool {
	if p.Role.Allows(desk.ActChange) {
		return true
	}
	return slices.ContainsFunc(j.Steps, func(f station.Form) bool { return s.desk.Registry().Comments(f.Step) })
}

func mends(st *station.Station, kind string) bool {
	return slices.ContainsFunc(st.Jobs, func(j station.Job) bool { return slices.Contains(j.Fixes, kind) })
}

func (s *Server) stop(st, here *station.Station, at *station.Job, ends []looseEnd) stop {
	out := stop{Station: st, Here: st == here}
	for _, e := range ends {
		if e.Station == st {
			out.Count += e.Open
		}
	}
	if out.Here && len(st.Jobs) > 1 {
		for k := range st.Jobs {
			j := &st.Jobs[k]
			out.Jobs = append(out.Jobs, wayJob{j.Words, placeOf(st, j), j == at})
		}
	}
	return out
}

// looseEnds gives what should be mended before the document goes out, with the job that mends it.
func (s *Server) looseEnds(snap *desk.Snapshot) []looseEnd {
	list := s.desk.LooseEnds(snap)
	pages := snap.Pages()
	out := make([]looseEnd, len(list))
	for i, f := range list {
		out[i].Finding = f
		if f.Page > 0 && f.Page <= len(pages) {
			out[i].Key = pages[f.Page-1].Key.String()
		}
		for k := range s.opt.Stations {
			st := &s.opt.Stations[k]
			if n := slices.IndexFunc(st.Jobs, func(j station.Job) bool { return slices.Contains(j.Fixes, f.Kind) }); n >= 0 {
				out[i].Station, out[i].Job = st, &st.Jobs[n]
				break
			}
		}
	}
	return out
}

// trailView is a part of a document's trail, newest first.
type trailView struct {
	Doc   uint
	Seen  uint
	Place string
	Steps []trailStep
	First bool   // begins with the newest
	More  uint   // the state to go on before; 0 where the beginning is reached
	Began string // how the document came to be
	At    string
}

type trailStep struct {
	ID       uint
	Sentence string
	Warnings []string
	Who      string
	At       string
	Show     string
	Newest   bool
	State    uint
	Called   string
	Values   bool // it has some that can be changed
}

// trailPart is how many steps are sent at a time.
const trailPart = 30

func (s *Server) trail(r *http.Request, snap *desk.Snapshot, place string, before uint) (trailView, error) {
	v := trailView{Doc: snap.Document.ID, Seen: snap.State.ID, Place: place, First: before == 0, At: station.When(snap.Document.CreatedAt)}
	steps, err := s.desk.Trail(r.Context(), snap, before, trailPart+1)
	if err != nil {
		return v, err
	}
	people, err := s.desk.People(r.Context())
	if err != nil {
		return v, err
	}
	if len(steps) > trailPart {
		steps = steps[:trailPart]
		v.More = steps[trailPart-1].StateID
	} else if made := snap.Document.Made; made.Of != "" {
		v.Began = "Created from " + made.String()
	} else {
		v.Began = "Added"
	}
	states := make([]uint, len(steps))
	for i := range steps {
		states[i] = steps[i].StateID
	}
	called, err := s.desk.Called(r.Context(), snap.Document.ID, states)
	if err != nil {
		return v, err
	}
	for i, st := range steps {
		v.Steps = append(v.Steps, trailStep{st.ID, st.Sentence, st.WarningList(), people[st.PersonID], station.When(st.At), st.Show, before == 0 && i == 0, st.StateID, called[st.StateID], s.changeable(&st)})
	}
	return v, nil
}

// trailMore sends earlier steps.
func (s *Server) trailMore(w http.ResponseWriter, r *http.Request) error {
	snap, err := s.desk.Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	v, err := s.trail(r, snap, r.FormValue("_place"), station.FormID(r, "before"))
	if err != nil {
		return err
	}
	return s.render(w, http.StatusOK, "shell", "trail-steps", v)
}

// beforeAfter shows the page of a step as it was before and after.
func (s *Server) beforeAfter(w http.ResponseWriter, r *http.Request) error {
	v, err := s.desk.BeforeAfter(r.Context(), station.Person(r).ID, station.ID(r, "id"), station.ID(r, "step"))
	if err != nil {
		return err
	}
	return s.render(w, http.StatusOK, "shell", "before-after", struct {
		*desk.BeforeAfter
		Box int
	}{v, 640})
}

// keepChoice keeps how a person wants a screen to be.
func (s *Server) keepChoice(w http.ResponseWriter, r *http.Request) error {
	name, value := r.FormValue("name"), r.FormValue("value")
	if !strings.HasPrefix(name, "zoom ") || s.station(strings.TrimPrefix(name, "zoom ")) == nil || len(value) > 40 {
		return step.Refuse("this is nothing that is kept")
	}
	if err := s.desk.Choose(r.Context(), station.Person(r).ID, name, value); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
