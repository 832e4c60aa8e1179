package station

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"glenrain/core/step"
	"glenrain/desk"
)

type personKey struct{}

// WithPerson notes who asks.
func WithPerson(ctx context.Context, p *desk.Person) context.Context {
	return context.WithValue(ctx, personKey{}, p)
}

// Person gives who asks; everybody who comes to a station is signed in.
func Person(r *http.Request) *desk.Person {
	p, _ := r.Context().Value(personKey{}).(*desk.Person)
	return p
}

// ID reads a number of the address; 0 where it is none.
func ID(r *http.Request, name string) uint { return id(chi.URLParam(r, name)) }

// FormID reads a number of a form; 0 where it is none.
func FormID(r *http.Request, name string) uint { return id(r.FormValue(name)) }

func id(s string) uint {
	v, err := strconv.ParseUint(s, 10, 32)
	if err != nil {
		return 0
	}
	return uint(v)
}

// Text reads a word of the address.
func Text(r *http.Request, name string) string { return chi.URLParam(r, name) }

// PageKey reads the key of a page from the address.
func PageKey(r *http.Request, name string) (step.Key, error) {
	k, err := step.ParseKey(chi.URLParam(r, name))
	if err != nil {
		return k, desk.ErrMissing
	}
	return k, nil
}

// SendJSON answers with data.
func SendJSON(w http.ResponseWriter, v any) error {
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(v)
}

// OnlyPart reports whether htmx asks for a part of a screen.
func OnlyPart(r *http.Request) bool { return r.Header.Get("HX-Request") != "" }
