package web

import (
	"fmt"
	"net/http"
	"time"

	"glenrain/desk"
)

type workView struct {
	ID       uint
	Label    string
	Progress desk.Progress
	Percent  int
	Sentence string // of what went wrong
}

// workPage shows how far background work is; the part asks again by itself until it ends.
func (s *Server) workPage(w http.ResponseWriter, r *http.Request) {
	work, err := s.desk.Work(number(r, "work"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.showWork(w, r, work)
}

// quick is how long an answer waits for work that may end at once.
const quick = 400 * time.Millisecond

func (s *Server) showWork(w http.ResponseWriter, r *http.Request, work *desk.Work) {
	select {
	case <-time.After(quick):
	case <-work.Ended():
	case <-r.Context().Done():
		return
	}
	p := work.Look()
	v := workView{ID: work.ID, Label: work.Label, Progress: p}
	if p.Total > 0 {
		v.Percent = min(100, 100*p.Done/p.Total)
	}
	if p.Err != nil {
		if p.State == desk.WorkCancelled {
			v.Sentence = "Cancelled. Nothing was changed."
		} else {
			var code int
			if code, v.Sentence = status(p.Err); code == http.StatusInternalServerError {
				s.opt.Log.Error("background work failed", "work", work.Label, "err", p.Err)
			}
		}
	}
	if to, ok := p.Result.(string); ok && p.State == desk.WorkDone {
		if r.Header.Get("HX-Request") != "" {
			w.Header().Set("HX-Redirect", to)
			w.WriteHeader(http.StatusNoContent)
			return
		}
		http.Redirect(w, r, to, http.StatusSeeOther)
		return
	}
	w.Header().Set("HX-Retarget", "#message")
	w.Header().Set("HX-Reswap", "innerHTML")
	s.render(w, http.StatusOK, "work", v)
}

func (s *Server) cancelWork(w http.ResponseWriter, r *http.Request) {
	work, err := s.desk.Work(number(r, "work"))
	if err != nil {
		s.fail(w, r, err)
		return
	}
	if work.PersonID != person(r).ID {
		s.fail(w, r, fmt.Errorf("not theirs: %w", desk.ErrMissing))
		return
	}
	work.Cancel()
	work.Wait(r.Context())
	s.showWork(w, r, work)
}
