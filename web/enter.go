package web

import (
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"glenrain/desk"
)

type enterView struct {
	page
	To      string // where to go afterwards
	SignIn  string
	Problem string
}

func (s *Server) enterPage(w http.ResponseWriter, r *http.Request) {
	s.render(w, http.StatusOK, "enter", enterView{page: s.page(r, "Sign in"), To: localPath(r.FormValue("to"))})
}

// localPath keeps a redirect within this server.
func localPath(to string) string {
	if !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.Contains(to, `\`) {
		return "/documents"
	}
	return to
}

func (s *Server) enter(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	v := enterView{page: s.page(r, "Sign in"), To: localPath(r.FormValue("to")), SignIn: r.FormValue("name")}
	p, err := s.desk.SignIn(r.Context(), v.SignIn, r.FormValue("password"))
	if err != nil {
		code, sentence := status(err)
		v.Problem = sentence
		s.render(w, code, "enter", v)
		return
	}
	s.begin(w, r, p, v.To)
}

// begin starts a session; the token is renewed so that nobody can fix it beforehand.
func (s *Server) begin(w http.ResponseWriter, r *http.Request, p *desk.Person, to string) {
	if err := s.sessions.RenewToken(r.Context()); err != nil {
		s.fail(w, r, err)
		return
	}
	s.sessions.Put(r.Context(), "person", int(p.ID))
	http.Redirect(w, r, to, http.StatusSeeOther)
}

func (s *Server) leave(w http.ResponseWriter, r *http.Request) {
	if err := s.sessions.Destroy(r.Context()); err != nil {
		s.fail(w, r, err)
		return
	}
	http.Redirect(w, r, "/enter", http.StatusSeeOther)
}

type inviteView struct {
	page
	Who     *desk.Person // whom the address signs in; nil where a person is set up
	Name    string
	SignIn  string
	Problem string
}

// invitePage shows what a one-time address does; only sending its form uses it up, so that
// a program that fetches addresses in advance does not.
func (s *Server) invitePage(w http.ResponseWriter, r *http.Request) {
	id, err := s.desk.InviteFor(r.Context(), chi.URLParam(r, "token"))
	v := inviteView{page: s.page(r, "Welcome")}
	if err == nil && id != 0 {
		v.Who, err = s.desk.Person(r.Context(), id)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.render(w, http.StatusOK, "invite", v)
}

func (s *Server) useInvite(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	token := chi.URLParam(r, "token")
	id, err := s.desk.InviteFor(r.Context(), token)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	var p *desk.Person
	if id != 0 {
		p, err = s.desk.Person(r.Context(), id)
	} else {
		v := inviteView{page: s.page(r, "Welcome"), Name: r.FormValue("full-name"), SignIn: r.FormValue("name")}
		if p, err = s.desk.AddPerson(r.Context(), v.Name, v.SignIn, r.FormValue("password")); err != nil {
			code, sentence := status(err)
			v.Problem = sentence
			s.render(w, code, "invite", v)
			return
		}
	}
	if err == nil {
		err = s.desk.UseInvite(r.Context(), token)
	}
	if err != nil {
		s.fail(w, r, err)
		return
	}
	s.begin(w, r, p, "/documents")
}
