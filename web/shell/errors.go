package shell

import (
	"cmp"
	"encoding/json"
	"errors"
	"io/fs"
	"net/http"
	"net/url"

	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// status tells how an error is answered and in which sentence. What is no refusal is
// a fault of ours: it is logged, and the answer says nothing of it.
func status(err error) (int, string) {
	var refusal *step.Refusal
	var invalid *step.Invalid
	var refused *desk.Refused
	var conflict *desk.Conflict
	var busy *desk.Busy
	var bad *desk.BadPerson
	var locked *pdf.Error
	var tooLarge *http.MaxBytesError
	var needs *desk.NeedsPassword
	var asks *desk.Asks
	var forbidden *desk.Forbidden
	var throttled *desk.Throttled
	switch {
	case errors.As(err, &asks):
		return http.StatusConflict, asks.Error() + "."
	case errors.As(err, &forbidden):
		return http.StatusForbidden, step.Sentence(forbidden.Sentence) + "."
	case errors.As(err, &throttled):
		return http.StatusTooManyRequests, step.Sentence(throttled.Error()) + "."
	case errors.As(err, &needs):
		return http.StatusLocked, needs.Error() + "."
	case errors.As(err, &invalid):
		return http.StatusUnprocessableEntity, step.Sentence(invalid.Error()) + "."
	case errors.As(err, &refusal):
		return http.StatusUnprocessableEntity, step.Sentence(refusal.Sentence) + "."
	case errors.As(err, &refused):
		return http.StatusUnprocessableEntity, refused.Error() + "."
	case errors.As(err, &bad):
		return http.StatusUnprocessableEntity, bad.Sentence
	case errors.As(err, &conflict):
		return http.StatusConflict, step.Sentence(conflict.Error()) + "."
	case errors.As(err, &busy):
		return http.StatusConflict, busy.Error() + "."
	case errors.Is(err, raster.ErrTime), errors.Is(err, raster.ErrMemory):
		return http.StatusUnprocessableEntity, "This page can’t be shown: " + err.Error() + "."
	case errors.As(err, &locked):
		return http.StatusUnprocessableEntity, step.Sentence(locked.Sentence) + "."
	case errors.As(err, &tooLarge):
		return http.StatusRequestEntityTooLarge, "That is larger than you can add at once."
	case errors.Is(err, desk.ErrMissing), errors.Is(err, fs.ErrNotExist):
		return http.StatusNotFound, "It doesn’t exist, or it has been deleted."
	case errors.Is(err, desk.ErrSignIn), errors.Is(err, desk.ErrInvite), errors.Is(err, desk.ErrNobody):
		return http.StatusUnauthorized, step.Sentence(err.Error()) + "."
	case errors.Is(err, raster.ErrBusy):
		return http.StatusServiceUnavailable, "The server is busy drawing pages. Try again in a moment."
	case errors.Is(err, raster.ErrPage), errors.Is(err, raster.ErrDead):
		return http.StatusUnprocessableEntity, "This page can’t be shown."
	case desk.NoSpace(err):
		return http.StatusInsufficientStorage, "The server’s disk is full or can’t be written to. Nothing was changed."
	case errors.Is(err, step.ErrPanic):
		return http.StatusInternalServerError, "The step failed because of a fault in the program. The document is as it was."
	}
	return http.StatusInternalServerError, "A fault in the program stopped this. Nothing was changed."
}

// fields gives the fields that an error is about.
func fields(err error) []step.FieldError {
	var invalid *step.Invalid
	if errors.As(err, &invalid) {
		return invalid.Fields
	}
	return nil
}

// fail answers an error: a screen, or for a part of one its sentence alone. A conflict on the desk shows the newest state.
func (s *Server) fail(w http.ResponseWriter, r *http.Request, err error) {
	if r.Context().Err() != nil { // most likely nobody waits for the answer any more: but whoever does must not take it for a good one
		http.Error(w, "The request was interrupted. Nothing was changed.", http.StatusBadRequest)
		return
	}
	code, sentence := status(err)
	if code == http.StatusInternalServerError {
		s.opt.Log.Error("a request failed", "method", r.Method, "path", r.URL.Path, "err", err)
	}
	if code == http.StatusForbidden {
		who := uint(0)
		if p := station.Person(r); p != nil {
			who = p.ID
		}
		s.opt.Log.Warn("the gate refused something", "person", who, "method", r.Method, "path", r.URL.Path)
	}
	if code == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", "2")
	}
	var conflict *desk.Conflict
	kept := r.FormValue("_keep") != "" // what was written stands in the page, and would be lost with it
	if kept && errors.As(err, &conflict) {
		sentence = "Someone else changed this page first, so your change wasn’t saved. Copy your text, then reload the page."
	}
	if !kept && errors.As(err, &conflict) && r.FormValue("_place") != "" && station.OnlyPart(r) {
		shown := station.Shown{Snapshot: conflict.Head, Place: r.FormValue("_place"), Code: code, Message: &station.Message{Text: sentence, Problem: true}}
		if err := s.show(w, r, shown); err == nil {
			return
		}
	}
	if station.OnlyPart(r) {
		w.Header().Set("HX-Retarget", "#message")
		w.Header().Set("HX-Reswap", "innerHTML")
		s.mustRender(w, code, "shell", "message", &station.Message{Text: sentence, Problem: true, Fields: fields(err)})
		return
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead || r.Header.Get("Sec-Fetch-Dest") == "image" || r.Header.Get("Sec-Fetch-Dest") == "empty" {
		if bad := fields(err); bad != nil {
			if list, err := json.Marshal(bad); err == nil {
				w.Header().Set("Bad-Fields", url.PathEscape(string(list)))
			}
		}
		http.Error(w, sentence, code)
		return
	}
	s.mustRender(w, code, "shell", "problem", struct {
		station.Around
		Sentence string
	}{s.around(r, "Not found"), sentence})
}

// house is the office's name: the one that was set, or the one that the server was started with.
func (s *Server) house(r *http.Request) string {
	name := ""
	if _, err := s.desk.Setting(r.Context(), desk.OfficeName, &name); err != nil {
		s.opt.Log.Error("the name of the office can’t be read", "err", err)
	}
	return cmp.Or(name, s.opt.House)
}

func (s *Server) around(r *http.Request, title string) station.Around {
	return station.Around{Title: title, House: s.house(r), Person: station.Person(r)}
}

func (s *Server) render(w http.ResponseWriter, code int, set, name string, data any) error {
	b, err := s.pages.execute(set, name, data)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(code)
	_, _ = w.Write(b)
	return nil
}

// mustRender is for answers to errors, behind which there is no other.
func (s *Server) mustRender(w http.ResponseWriter, code int, set, name string, data any) {
	if err := s.render(w, code, set, name, data); err != nil {
		s.opt.Log.Error("a page could not be built", "page", name, "err", err)
		http.Error(w, "A fault in the program stopped this.", http.StatusInternalServerError)
	}
}
