package shell

import (
	"fmt"
	"net/http"
	"time"

	"glenrain/desk"
	"glenrain/web/station"
)

type workView struct {
	ID       uint
	Label    string
	Progress desk.Progress
	Percent  int
	Sentence string // of what went wrong
	Place    string // of the desk that is shown when a step has ended
	Step     bool   // its outcome shows the desk anew
	Parts    bool   // it can be stopped with what is done kept
	Stopping bool
	Left     string // how long it takes still
	Details  []string
	Fine     bool // the sentence is not of a problem
	Many     uint // work on many documents that can be undone as one; 0 for none
}

// workPage shows how far background work is; the part asks again by itself until it ends.
func (s *Server) workPage(w http.ResponseWriter, r *http.Request) error {
	work, err := s.theirWork(r)
	if err != nil {
		return err
	}
	return s.showWork(w, r, work)
}

// quick is how long an answer waits for work that may end at once.
const quick = 400 * time.Millisecond

func (s *Server) showWork(w http.ResponseWriter, r *http.Request, work *desk.Work) error {
	select {
	case <-time.After(quick):
	case <-work.Ended():
	case <-r.Context().Done():
		return nil
	}
	p := work.Look()
	if to := work.Leads(); to != "" && p.State == desk.WorkRunning && station.OnlyPart(r) && r.FormValue("_here") == "" {
		w.Header().Set("HX-Redirect", to)
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
	v := workView{ID: work.ID, Label: work.Label, Progress: p, Place: r.FormValue("_place"), Step: r.FormValue("_place") != "" && work.Leads() == "", Parts: work.Parts, Stopping: work.Enough()}
	if p.Total > 0 {
		v.Percent = min(100, 100*p.Done/p.Total)
		v.Left = left(time.Since(work.Since()), p.Done, p.Total)
	}
	if p.Err != nil {
		if p.State == desk.WorkCancelled {
			v.Sentence = "Cancelled. Nothing was changed."
			if work.Several() {
				v.Sentence = "Cancelled. Documents that were finished before stay as they are now."
			}
		} else {
			var code int
			if code, v.Sentence = status(p.Err); code == http.StatusInternalServerError {
				s.opt.Log.Error("background work failed", "work", work.Label, "err", p.Err)
			}
		}
	}
	if p.State == desk.WorkDone {
		switch led := p.Result.(type) {
		case string:
			if station.OnlyPart(r) {
				w.Header().Set("HX-Redirect", led)
				w.WriteHeader(http.StatusNoContent)
				return nil
			}
			http.Redirect(w, r, led, http.StatusSeeOther)
			return nil
		case *desk.Told:
			v.Sentence, v.Details, v.Fine = led.Sentence, led.Details, !led.Problem
			v.Many = led.Many
		case *desk.Outcome:
			w.Header().Set("HX-Retarget", "#swap")
			w.Header().Set("HX-Reswap", "outerHTML")
			return s.answer(w, r, led, led.Step.Sentence+".", true)
		}
	}
	w.Header().Set("HX-Retarget", "#message")
	w.Header().Set("HX-Reswap", "innerHTML")
	return s.render(w, http.StatusOK, "shell", "work", v)
}

// left says how long work takes still, where it is known by what was done so far.
func left(so time.Duration, done, total int) string {
	if done < 1 || done >= total || so < 3*time.Second {
		return ""
	}
	t := time.Duration(float64(so) * float64(total-done) / float64(done))
	switch {
	case t < 10*time.Second:
		return "a few seconds left"
	case t < 90*time.Second:
		return fmt.Sprintf("about %d seconds left", int(t.Seconds()/10+0.5)*10)
	case t < 2*time.Hour:
		return fmt.Sprintf("about %d minutes left", int(t.Minutes()+0.5))
	}
	return fmt.Sprintf("about %d hours left", int(t.Hours()+0.5))
}

// stopWork lets work end with what is done so far.
func (s *Server) stopWork(w http.ResponseWriter, r *http.Request) error {
	work, err := s.theirWork(r)
	if err != nil {
		return err
	}
	work.Stop()
	return s.showWork(w, r, work)
}

// undoMany takes back what work on many documents did.
func (s *Server) undoMany(w http.ResponseWriter, r *http.Request) error {
	work, err := s.desk.UndoMany(r.Context(), station.Person(r).ID, station.ID(r, "many"))
	if err != nil {
		return err
	}
	return s.showWork(w, r, work)
}

func (s *Server) cancelWork(w http.ResponseWriter, r *http.Request) error {
	work, err := s.theirWork(r)
	if err != nil {
		return err
	}
	work.Cancel()
	work.Wait(r.Context())
	return s.showWork(w, r, work)
}

// theirWork gives the work that an address names, to whoever started it.
func (s *Server) theirWork(r *http.Request) (*desk.Work, error) {
	work, err := s.desk.Work(station.ID(r, "work"))
	if err == nil && work.PersonID != station.Person(r).ID {
		return nil, desk.ErrMissing
	}
	return work, err
}
