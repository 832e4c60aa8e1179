package shell

import (
	"cmp"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"glenrain/desk"
	"glenrain/web/station"
)

type enterView struct {
	station.Around
	To      string // where to go afterwards
	SignIn  string
	Problem string
}

func (s *Server) enterPage(w http.ResponseWriter, r *http.Request) error {
	return s.render(w, http.StatusOK, "shell", "enter", enterView{Around: s.around(r, "Sign in"), To: localPath(r.FormValue("to"))})
}

// localPath keeps a redirect within this server; empty where the address leads elsewhere.
func localPath(to string) string {
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.ContainsFunc(to, func(r rune) bool { return r == '\\' || r < ' ' }) {
		return ""
	}
	return to
}

func (s *Server) enter(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	v := enterView{Around: s.around(r, "Sign in"), To: localPath(r.FormValue("to")), SignIn: r.FormValue("name")}
	p, err := s.desk.SignIn(r.Context(), v.SignIn, r.FormValue("password"))
	if err != nil {
		code, sentence := status(err)
		v.Problem = sentence
		return s.render(w, code, "shell", "enter", v)
	}
	return s.begin(w, r, p, v.To)
}

// begin starts a session; the token is renewed so that nobody can fix it beforehand.
func (s *Server) begin(w http.ResponseWriter, r *http.Request, p *desk.Person, to string) error {
	if err := s.sessions.RenewToken(r.Context()); err != nil {
		return err
	}
	s.sessions.Put(r.Context(), "person", int(p.ID))
	http.Redirect(w, r, cmp.Or(to, s.opt.Home), http.StatusSeeOther)
	return nil
}

func (s *Server) leave(w http.ResponseWriter, r *http.Request) error {
	if err := s.sessions.Destroy(r.Context()); err != nil {
		return err
	}
	http.Redirect(w, r, "/enter", http.StatusSeeOther)
	return nil
}

type inviteView struct {
	station.Around
	Who     *desk.Person // whom the address signs in; nil where a person is set up
	Name    string
	SignIn  string
	Problem string
}

// invitePage shows what a one-time address does; only sending its form uses it up, so that
// a program that fetches addresses in advance does not.
func (s *Server) invitePage(w http.ResponseWriter, r *http.Request) error {
	id, err := s.desk.InviteFor(r.Context(), chi.URLParam(r, "token"))
	v := inviteView{Around: s.around(r, "Welcome")}
	if err == nil && id != 0 {
		v.Who, err = s.desk.Person(r.Context(), id)
	}
	if err != nil {
		return err
	}
	return s.render(w, http.StatusOK, "shell", "invite", v)
}

func (s *Server) useInvite(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	token := chi.URLParam(r, "token")
	id, err := s.desk.InviteFor(r.Context(), token)
	if err != nil {
		return err
	}
	var p *desk.Person
	if id != 0 {
		p, err = s.desk.Person(r.Context(), id)
	} else {
		v := inviteView{Around: s.around(r, "Welcome"), Name: r.FormValue("full-name"), SignIn: r.FormValue("name")}
		if p, err = s.desk.AddPerson(r.Context(), v.Name, v.SignIn, r.FormValue("password")); err != nil {
			code, sentence := status(err)
			v.Problem = sentence
			return s.render(w, code, "shell", "invite", v)
		}
	}
	if err == nil {
		err = s.desk.UseInvite(r.Context(), token)
	}
	if err != nil {
		return err
	}
	return s.begin(w, r, p, s.opt.Home)
}
