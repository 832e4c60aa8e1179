package shell

import (
	"net/http"

	"glenrain/desk"
	"glenrain/web/station"
)

// meView is a person's own page.
type meView struct {
	station.Around
	Sessions []desk.SessionView
	Message  *station.Message
}

func (s *Server) mePage(w http.ResponseWriter, r *http.Request) error {
	return s.showMe(w, r, http.StatusOK, nil)
}

func (s *Server) showMe(w http.ResponseWriter, r *http.Request, code int, m *station.Message) error {
	p := station.Person(r)
	list, err := s.desk.SessionsOf(r.Context(), p.ID, p.ID, s.sessions.Token(r.Context()))
	if err != nil {
		return err
	}
	return s.render(w, code, "shell", "me-page", meView{s.around(r, "Your account"), list, m})
}

// setPassword changes a person's own password.
func (s *Server) setPassword(w http.ResponseWriter, r *http.Request) error {
	said := func(err error) error {
		code, sentence := status(err)
		if code >= http.StatusInternalServerError {
			return err
		}
		return s.showMe(w, r, code, &station.Message{Text: sentence, Problem: true})
	}
	if r.FormValue("new") != r.FormValue("again") {
		return said(&desk.BadPerson{Sentence: "The two new passwords are not the same; yours was not changed."})
	}
	if err := s.desk.SetPassword(r.Context(), station.Person(r).ID, r.FormValue("was"), r.FormValue("new"), s.sessions.Token(r.Context())); err != nil {
		return said(err)
	}
	return s.showMe(w, r, http.StatusOK, &station.Message{Text: "Your password was changed. You are signed out everywhere else."})
}

// endOwnSession ends one of a person's sessions, or all the others.
func (s *Server) endOwnSession(w http.ResponseWriter, r *http.Request) error {
	p, token := station.Person(r), s.sessions.Token(r.Context())
	if err := s.desk.EndSession(r.Context(), p.ID, p.ID, r.FormValue("number"), token); err != nil {
		return err
	}
	return s.showMe(w, r, http.StatusOK, &station.Message{Text: "Signed out there."})
}
