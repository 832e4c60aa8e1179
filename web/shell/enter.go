package shell

import (
	"cmp"
	"errors"
	"net/http"
	"net/url"
	"strconv"
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

// localPath keeps a redirect within this server; empty where the address leads elsewhere, or might be read so.
func localPath(to string) string {
	u, err := url.Parse(to)
	if err != nil || u.Scheme != "" || u.Host != "" || u.User != nil || u.Opaque != "" || !printable(to) ||
		!strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.ContainsAny(to, "\\ ") || strings.HasPrefix(u.Path, "//") || !printable(u.Path) || strings.Contains(u.Path, "\\") {
		return ""
	}
	return to
}

func (s *Server) enter(w http.ResponseWriter, r *http.Request) error {
	v := enterView{Around: s.around(r, "Sign in"), To: localPath(r.FormValue("to")), SignIn: r.FormValue("name")}
	p, err := s.desk.Enter(r.Context(), v.SignIn, r.FormValue("password"), s.device(r))
	if err != nil {
		var throttled *desk.Throttled
		if errors.As(err, &throttled) {
			w.Header().Set("Retry-After", strconv.Itoa(int(throttled.Wait.Seconds())+1))
		}
		code, sentence := status(err)
		v.Problem = sentence
		return s.render(w, code, "shell", "enter", v)
	}
	return s.begin(w, r, p, v.To)
}

// deviceCookie keeps the token of a browser in which somebody signed in before.
const deviceCookie = "glenrain-device"

func (s *Server) device(r *http.Request) string {
	c, err := r.Cookie(cookieName(deviceCookie, s.opt.Secure))
	if err != nil {
		return ""
	}
	return c.Value
}

// begin starts a session; the token is renewed so that nobody can fix it beforehand.
func (s *Server) begin(w http.ResponseWriter, r *http.Request, p *desk.Person, to string) error {
	if was := s.sessions.Token(r.Context()); was != "" { // of whoever was signed in here
		if err := s.desk.Leave(r.Context(), was); err != nil {
			return err
		}
	}
	if err := s.sessions.RenewToken(r.Context()); err != nil {
		return err
	}
	s.sessions.Put(r.Context(), "person", int(p.ID))
	if err := s.desk.Begin(r.Context(), s.sessions.Token(r.Context()), p.ID, r.UserAgent()); err != nil {
		return err
	}
	device := s.device(r)
	if len(device) != len(s.desk.NewDevice()) {
		device = s.desk.NewDevice()
	}
	if err := s.desk.Remember(r.Context(), device, p.ID); err != nil {
		return err
	}
	http.SetCookie(w, &http.Cookie{Name: cookieName(deviceCookie, s.opt.Secure), Value: device, Path: "/", MaxAge: int(desk.Remembered.Seconds()), HttpOnly: true, Secure: s.opt.Secure, SameSite: http.SameSiteLaxMode})
	http.Redirect(w, r, cmp.Or(to, s.opt.Home), http.StatusSeeOther)
	return nil
}

func (s *Server) leave(w http.ResponseWriter, r *http.Request) error {
	if err := s.desk.Leave(r.Context(), s.sessions.Token(r.Context())); err != nil {
		return err
	}
	if err := s.sessions.Destroy(r.Context()); err != nil {
		return err
	}
	w.Header().Set("Clear-Site-Data", `"cache", "storage"`)
	http.Redirect(w, r, "/enter", http.StatusSeeOther)
	return nil
}

type inviteView struct {
	station.Around
	Invite  *desk.Invite
	Who     *desk.Person // whom the address signs in, or whose password it sets
	Name    string
	SignIn  string
	Problem string
}

func (s *Server) inviteView(r *http.Request) (*inviteView, error) {
	in, err := s.desk.InviteFor(r.Context(), chi.URLParam(r, "token"))
	if err != nil {
		return nil, err
	}
	v := &inviteView{Around: s.around(r, "Welcome"), Invite: in, Name: in.For}
	if in.PersonID != 0 {
		if v.Who, err = s.desk.Person(r.Context(), in.PersonID); err != nil {
			return nil, desk.ErrInvite
		}
	}
	return v, nil
}

// invitePage shows what a one-time address does; only sending its form uses it up, so that
// a program that fetches addresses in advance does not.
func (s *Server) invitePage(w http.ResponseWriter, r *http.Request) error {
	v, err := s.inviteView(r)
	if err != nil {
		return err
	}
	return s.render(w, http.StatusOK, "shell", "invite", v)
}

func (s *Server) useInvite(w http.ResponseWriter, r *http.Request) error {
	v, err := s.inviteView(r)
	if err != nil {
		return err
	}
	p, err := s.desk.Accept(r.Context(), chi.URLParam(r, "token"), desk.Accepted{Name: r.FormValue("full-name"), SignIn: r.FormValue("name"), Password: r.FormValue("password")})
	var bad *desk.BadPerson
	if errors.As(err, &bad) {
		v.Name, v.SignIn, v.Problem = r.FormValue("full-name"), r.FormValue("name"), bad.Sentence
		return s.render(w, http.StatusUnprocessableEntity, "shell", "invite", v)
	}
	if err != nil {
		return err
	}
	return s.begin(w, r, p, s.opt.Home)
}
