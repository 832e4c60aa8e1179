// Package web is what people see: routes, handlers, templates and static files. A
// handler parses, calls the desk and renders; no rule of a job stands here.
package web

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"

	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk"
)

//go:embed templates static
var files embed.FS

// Options say how the pages are served.
type Options struct {
	House   string // the name of the office, shown at the top
	Secure  bool   // cookies only over TLS
	Proxied bool   // behind a trusted proxy: its X-Real-IP names the visitor
	Log     *slog.Logger
}

// Server serves the pages of one desk.
type Server struct {
	desk     *desk.Desk
	opt      Options
	sessions *scs.SessionManager
	pages    *templates
	assets   string // changes when a static file does
}

// New prepares the pages of d.
func New(d *desk.Desk, opt Options) (*Server, error) {
	if opt.House == "" {
		opt.House = "Glenrain"
	}
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	t, assets, err := parseTemplates()
	if err != nil {
		return nil, err
	}
	s := &Server{desk: d, opt: opt, pages: t, assets: assets, sessions: scs.New()}
	s.sessions.Store = d.Sessions()
	s.sessions.Lifetime = 30 * 24 * time.Hour
	s.sessions.IdleTimeout = 7 * 24 * time.Hour
	s.sessions.HashTokenInStore = false // the desk hashes them
	s.sessions.Cookie.Name = "glenrain"
	s.sessions.Cookie.HttpOnly = true
	s.sessions.Cookie.SameSite = http.SameSiteLaxMode
	s.sessions.Cookie.Secure = opt.Secure
	s.sessions.ErrorFunc = func(w http.ResponseWriter, r *http.Request, err error) { s.fail(w, r, err) }
	return s, nil
}

// signInTries is how often an address may try to sign in within a minute.
const signInTries = 10

// Handler gives the routes.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(s.recoverer, headers)
	if s.opt.Proxied {
		r.Use(middleware.ClientIPFromHeader("X-Real-IP"))
	} else {
		r.Use(middleware.ClientIPFromRemoteAddr)
	}
	throttled := httprate.LimitBy(signInTries, time.Minute, func(r *http.Request) (string, error) {
		return httprate.CanonicalizeIP(middleware.GetClientIP(r.Context())), nil
	})
	static, err := fs.Sub(files, "static")
	if err != nil {
		panic(err) // the folder is embedded
	}
	r.Handle("/static/*", http.StripPrefix("/static/", immutable(http.FileServerFS(static))))
	r.Get("/favicon.ico", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/static/mark.svg", http.StatusMovedPermanently)
	})
	r.Group(func(r chi.Router) {
		r.Use(s.sessions.LoadAndSave)
		r.Get("/enter", s.enterPage)
		r.With(throttled).Post("/enter", s.enter)
		r.Get("/enter/{token}", s.invitePage)
		r.With(throttled).Post("/enter/{token}", s.useInvite)
		r.Post("/leave", s.leave)
		r.Group(func(r chi.Router) {
			r.Use(s.signedIn)
			r.Get("/", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/documents", http.StatusSeeOther) })
			s.documentRoutes(r)
			s.deskRoutes(r)
			s.textRoutes(r)
			r.Get("/find", s.find)
			r.Get("/progress/{work}", s.workPage)
			r.Post("/progress/{work}/cancel", s.cancelWork)
		})
	})
	r.NotFound(func(w http.ResponseWriter, r *http.Request) { s.fail(w, r, desk.ErrMissing) })
	return http.NewCrossOriginProtection().Handler(r)
}

// headers are those of every answer: only our own scripts, styles and pictures.
func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; "+
			"font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cache-Control", "no-store")
		next.ServeHTTP(w, r)
	})
}

func immutable(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Get("v") != "" {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			w.Header().Set("Cache-Control", "no-cache")
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

type personKey struct{}

// signedIn lets only signed-in people pass.
func (s *Server) signedIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := s.sessions.GetInt(r.Context(), "person")
		p, err := s.desk.Person(r.Context(), uint(max(id, 0)))
		if err != nil {
			if r.Header.Get("HX-Request") != "" {
				w.Header().Set("HX-Redirect", "/enter")
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			if r.Method != http.MethodGet {
				http.Error(w, "You are not signed in any more.", http.StatusUnauthorized)
				return
			}
			http.Redirect(w, r, "/enter?to="+url.QueryEscape(r.URL.RequestURI()), http.StatusSeeOther)
			return
		}
		ctx := raster.For(r.Context(), p.SignIn)
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, personKey{}, p)))
	})
}

func person(r *http.Request) *desk.Person {
	p, _ := r.Context().Value(personKey{}).(*desk.Person)
	return p
}

// status tells how an error is answered and in which sentence. What is no refusal is
// a fault of ours: it is logged, and the answer says nothing of it.
func status(err error) (int, string) {
	var refusal *step.Refusal
	var refused *desk.Refused
	var conflict *desk.Conflict
	var bad *desk.BadPerson
	var locked *pdf.Error
	var tooLarge *http.MaxBytesError
	var needs *desk.NeedsPassword
	var asks *desk.Asks
	switch {
	case errors.As(err, &asks):
		return http.StatusConflict, asks.Error() + "."
	case errors.As(err, &needs):
		return http.StatusLocked, needs.Error() + "."
	case errors.As(err, &refusal):
		return http.StatusUnprocessableEntity, step.Sentence(refusal.Sentence) + "."
	case errors.As(err, &refused):
		return http.StatusUnprocessableEntity, refused.Error() + "."
	case errors.As(err, &bad):
		return http.StatusUnprocessableEntity, bad.Sentence
	case errors.As(err, &conflict):
		return http.StatusConflict, step.Sentence(conflict.Error()) + "."
	case errors.As(err, &locked):
		return http.StatusUnprocessableEntity, step.Sentence(locked.Sentence) + "."
	case errors.As(err, &tooLarge):
		return http.StatusRequestEntityTooLarge, "That is larger than what can be brought in at once."
	case errors.Is(err, desk.ErrMissing), errors.Is(err, fs.ErrNotExist):
		return http.StatusNotFound, "It is not there, or not any more."
	case errors.Is(err, desk.ErrSignIn), errors.Is(err, desk.ErrInvite):
		return http.StatusUnauthorized, step.Sentence(err.Error()) + "."
	case errors.Is(err, raster.ErrBusy):
		return http.StatusServiceUnavailable, "Too many pages wait to be drawn. Try again in a moment."
	case errors.Is(err, raster.ErrTime), errors.Is(err, raster.ErrPage), errors.Is(err, raster.ErrDead):
		return http.StatusUnprocessableEntity, "This page can't be drawn."
	case desk.NoSpace(err):
		return http.StatusInsufficientStorage, "The disk that Glenrain keeps its files on is full, or can't be written to. Nothing was changed."
	case errors.Is(err, step.ErrPanic):
		return http.StatusInternalServerError, "The step failed because of a fault in the program. The document is as it was."
	}
	return http.StatusInternalServerError, "Something went wrong in the program. Nothing was changed."
}

// fail answers an error: a page, or for a part of a page its sentence alone.
func (s *Server) fail(w http.ResponseWriter, r *http.Request, err error) {
	if r.Context().Err() != nil {
		return // nobody waits for the answer any more
	}
	code, sentence := status(err)
	if code == http.StatusInternalServerError {
		s.opt.Log.Error("a request failed", "method", r.Method, "path", r.URL.Path, "err", err)
	}
	if code == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", "2")
	}
	if r.Header.Get("HX-Request") != "" {
		w.Header().Set("HX-Retarget", "#message")
		w.Header().Set("HX-Reswap", "innerHTML")
		s.render(w, code, "message", messageView{Text: sentence, Problem: true})
		return
	}
	if r.Method != http.MethodGet || r.Header.Get("Sec-Fetch-Dest") == "image" || r.Header.Get("Sec-Fetch-Dest") == "empty" {
		http.Error(w, sentence, code)
		return
	}
	s.render(w, code, "problem", struct {
		page
		Sentence string
	}{s.page(r, "Not there"), sentence})
}

// page is what every screen shows around its own content.
type page struct {
	Title  string
	House  string
	Assets string
	Person *desk.Person
}

func (s *Server) page(r *http.Request, title string) page {
	return page{title, s.opt.House, s.assets, person(r)}
}

// messageView is the line that says what was done, or what could not be.
type messageView struct {
	Text       string
	Details    []string
	Problem    bool
	Undo       string            // the address that takes it back
	UndoWord   string            // what the button says
	UndoValues map[string]string // sent along
}

func (s *Server) render(w http.ResponseWriter, code int, name string, data any) {
	b, err := s.pages.execute(name, data)
	if err != nil {
		s.opt.Log.Error("a page could not be made", "page", name, "err", err)
		http.Error(w, "Something went wrong in the program.", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(code)
	_, _ = w.Write(b)
}

// number reads a number of the address.
func number(r *http.Request, name string) uint {
	v, err := strconv.ParseUint(chi.URLParam(r, name), 10, 32)
	if err != nil {
		return 0
	}
	return uint(v)
}

func formNumber(r *http.Request, name string) uint {
	v, err := strconv.ParseUint(r.FormValue(name), 10, 32)
	if err != nil {
		return 0
	}
	return uint(v)
}
