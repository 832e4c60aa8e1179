// Package shell is what stands around every station: the server with its sessions and routes, the answer to errors, the frame of the
// desk, previews and steps, the finder, the keys. It is given stations and screens as values (web/station) and knows none of them.
package shell

import (
	"embed"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"sync"

	"github.com/alexedwards/scs/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"glenrain/core/child"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed html static
var files embed.FS

// Options say how the pages are served.
type Options struct {
	House   string // the name of the office, shown at the top
	Secure  bool   // cookies only over TLS
	Proxied bool   // behind a trusted proxy: its X-Real-IP names the visitor
	Log     *slog.Logger

	Stations []station.Station // in the order people work
	Screens  []station.Screen
	Home     string // the address that one comes to
}

// Server serves the pages of one desk.
type Server struct {
	hasValues sync.Map // by the name of a step: whether it has values that can be changed later
	desk      *desk.Desk
	opt       Options
	sessions  *scs.SessionManager
	pages     *templates
	forms     map[string]job // by the step that they are for
	closing   chan struct{}
	closed    sync.Once
	watchers  sync.Mutex
	watching  map[uint]int // windows that watch, by person; guarded by watchers
}

// Stop ends the answers that go on for as long as somebody listens, so that the server can shut down.
func (s *Server) Stop() { s.closed.Do(func() { close(s.closing) }) }

// job is a station's job with its station.
type job struct {
	station *station.Station
	job     *station.Job
	form    station.Form
}

// New prepares the pages of d.
func New(d *desk.Desk, opt Options) (*Server, error) {
	if opt.House == "" {
		opt.House = "Glenrain"
	}
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	s := &Server{desk: d, opt: opt, sessions: scs.New(), forms: map[string]job{}, closing: make(chan struct{})}
	for i := range opt.Stations {
		st := &opt.Stations[i]
		if len(st.Jobs) == 0 {
			return nil, fmt.Errorf("the station %s has no job", st.Path)
		}
		for k := range st.Jobs {
			for _, f := range st.Jobs[k].Steps {
				if was, taken := s.forms[f.Step]; taken {
					return nil, fmt.Errorf("the step %s has a form at %s and at %s", f.Step, was.station.Path, st.Path)
				}
				if !d.Registry().Has(f.Step) {
					return nil, fmt.Errorf("%s has a form for the step %s, which there is not", st.Path, f.Step)
				}
				s.forms[f.Step] = job{st, &st.Jobs[k], f}
			}
		}
	}
	var err error
	if s.pages, err = parseTemplates(opt.Stations, opt.Screens); err != nil {
		return nil, err
	}
	s.sessions.Store = d.Sessions()
	s.sessions.Lifetime = desk.Longest
	s.sessions.IdleTimeout = desk.Idle
	s.sessions.HashTokenInStore = false // the desk hashes them
	s.sessions.Cookie.Name = cookieName("glenrain", opt.Secure)
	s.sessions.Cookie.HttpOnly = true
	s.sessions.Cookie.SameSite = http.SameSiteLaxMode
	s.sessions.Cookie.Secure = opt.Secure
	s.sessions.ErrorFunc = func(w http.ResponseWriter, r *http.Request, err error) { s.fail(w, r, err) }
	return s, nil
}

// cookieName marks a cookie that only this host sets, and only over TLS (RFC 6265bis, 4.1.3.2).
func cookieName(name string, secure bool) string {
	if secure {
		return "__Host-" + name
	}
	return name
}

// router takes the routes of the shell, of stations and of screens: an error of a handler is answered in one place.
type router struct {
	s     *Server
	on    chi.Router
	below string // the address that patterns stand below
}

func (r router) Get(pattern string, h station.Handler)  { r.on.Get(r.below+pattern, r.s.handle(h)) }
func (r router) Post(pattern string, h station.Handler) { r.on.Post(r.below+pattern, r.s.handle(h)) }

// PostLarge takes a body of up to so many bytes.
func (r router) PostLarge(pattern string, most int64, h station.Handler) {
	r.on.Method(http.MethodPost, r.below+pattern, larger(most, r.s.handle(h)))
}

func (s *Server) handle(h station.Handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		err := readForm(r)
		if err == nil {
			err = h(w, r)
		}
		if err != nil {
			s.fail(w, r, err)
		}
	}
}

// Handler answers requests.
func (s *Server) Handler() http.Handler { return http.NewCrossOriginProtection().Handler(s.Routes()) }

// Routes gives the routes behind the protection against other sites.
func (s *Server) Routes() chi.Router {
	r := chi.NewRouter()
	r.Use(s.recoverer, s.headers, s.guard, middleware.GetHead)
	if s.opt.Proxied {
		r.Use(middleware.ClientIPFromHeader("X-Real-IP"))
	} else {
		r.Use(middleware.ClientIPFromRemoteAddr)
	}
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			next.ServeHTTP(w, r.WithContext(desk.From(r.Context(), middleware.GetClientIP(r.Context()))))
		})
	})
	r.Get("/static/*", http.StripPrefix("/static/", s.pages.static()).ServeHTTP)
	r.Get("/favicon.ico", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, s.pages.asset("mark.svg"), http.StatusFound)
	})
	r.Group(func(r chi.Router) {
		r.Use(s.sessions.LoadAndSave)
		r.Get("/enter", s.handle(s.enterPage))
		r.Post("/enter", s.handle(s.enter))
		r.Get("/enter/{token}", s.handle(s.invitePage))
		r.Post("/enter/{token}", s.handle(s.useInvite))
		r.Post("/leave", s.handle(s.leave))
		r.Group(func(r chi.Router) {
			r.Use(s.signedIn)
			own := router{s, r, ""}
			r.Get("/", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, s.opt.Home, http.StatusSeeOther) })
			own.Get("/find", s.find)
			own.Get("/find/text", s.findEverywhere)
			own.Post("/me/keep", s.keepChoice)
			own.Get("/me", s.mePage)
			own.Post("/me/password", s.setPassword)
			own.Post("/me/sessions", s.endOwnSession)
			own.Get("/progress/{work}", s.workPage)
			own.Post("/progress/{work}/cancel", s.cancelWork)
			own.Post("/progress/{work}/stop", s.stopWork)
			own.Post("/many/{many}/undo", s.undoMany)
			s.deskRoutes(own)
			for i := range s.opt.Stations {
				st := &s.opt.Stations[i]
				if st.Routes != nil {
					st.Routes(router{s, r, "/desk/{id}"}, host{s, "station " + st.Path, st})
				}
			}
			for _, sc := range s.opt.Screens {
				if sc.Routes != nil {
					sc.Routes(own, host{s, "screen " + sc.Name, nil})
				}
			}
		})
	})
	r.NotFound(func(w http.ResponseWriter, r *http.Request) { s.fail(w, r, desk.ErrMissing) })
	return r
}

// headers are those of every answer: only our own scripts, styles and pictures.
func (s *Server) headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; "+
			"font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cache-Control", "no-store")
		h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=()")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		if s.opt.Secure { // for a year (RFC 6797)
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Server) recoverer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil {
				if p == http.ErrAbortHandler {
					panic(p)
				}
				s.fail(w, r, fmt.Errorf("panic: %v", p))
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// signedIn lets only signed-in people pass.
func (s *Server) signedIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p, err := s.desk.Whose(r.Context(), s.sessions.Token(r.Context()))
		if err != nil && !errors.Is(err, desk.ErrNobody) {
			s.fail(w, r, err)
			return
		}
		if err != nil {
			if station.OnlyPart(r) {
				w.Header().Set("HX-Redirect", "/enter")
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			if r.Method != http.MethodGet && r.Method != http.MethodHead {
				http.Error(w, "You are no longer signed in.", http.StatusUnauthorized)
				return
			}
			http.Redirect(w, r, "/enter?to="+url.QueryEscape(r.URL.RequestURI()), http.StatusSeeOther)
			return
		}
		ctx := child.For(r.Context(), p.SignIn)
		next.ServeHTTP(w, r.WithContext(station.WithPerson(ctx, p)))
	})
}

// station gives the station of a path.
func (s *Server) station(path string) *station.Station {
	i := slices.IndexFunc(s.opt.Stations, func(st station.Station) bool { return st.Path == path })
	if i < 0 {
		return nil
	}
	return &s.opt.Stations[i]
}

// host is what the shell lends to one station or screen.
type host struct {
	s    *Server
	set  string // its templates
	here *station.Station
}

func (h host) Desk() *desk.Desk { return h.s.desk }

func (h host) Screen(r *http.Request, title string) station.Around { return h.s.around(r, title) }

func (h host) Render(w http.ResponseWriter, code int, name string, data any) error {
	return h.s.render(w, code, h.set, name, data)
}

func (h host) Sentence(err error) string {
	_, s := status(err)
	return s
}

func (h host) Work(w http.ResponseWriter, r *http.Request, work *desk.Work) error {
	return h.s.showWork(w, r, work)
}

func (h host) Show(w http.ResponseWriter, r *http.Request, v station.Shown) error {
	if v.Place == "" && h.here != nil {
		v.Place = h.here.Path
	}
	return h.s.show(w, r, v)
}
