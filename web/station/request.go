package station

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"glenrain/core/raster"
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

// Param gives a part of the address.
func Param(r *http.Request, name string) string { return chi.URLParam(r, name) }

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

// RequestID gives the id of a request with what it asks for: a form that is shown once more, as it was, by going back in the browser, and is
// sent with other values, asks for something new. Empty where the form has no id.
func RequestID(id string, asks ...string) string {
	if id == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(id + "\x00" + strings.Join(asks, "\x00")))
	return hex.EncodeToString(sum[:16])
}

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

// SendPicture answers with a picture, which a browser may keep for a time in seconds.
func SendPicture(w http.ResponseWriter, r *http.Request, data []byte, keep string) {
	w.Header().Set("Cache-Control", "private, max-age="+keep)
	w.Header().Set("Content-Type", http.DetectContentType(data))
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
}

// SendUndrawn answers with a picture that says in the place of a page, or of its small picture, that it can't be drawn.
func SendUndrawn(w http.ResponseWriter, small bool) error {
	w.Header().Set("Content-Type", "image/svg+xml")
	text := `<text x="70" y="98" text-anchor="middle" font-family="sans-serif" font-size="11" fill="#55645e">This page can’t be shown</text>`
	if small {
		text = ""
	}
	_, err := w.Write([]byte(`<svg xmlns="http://www.w3.org/2000/svg" width="560" height="792" viewBox="0 0 140 198"><path d="M.5.5h139v197H.5z" fill="#eef1ec" stroke="#cfd6cd"/><path d="M58 60l24 24m0-24L58 84" stroke="#9c5f00" stroke-width="4" stroke-linecap="round"/>` + text + `</svg>`))
	return err
}

// Undrawn reports whether an error is that of a page that can't be drawn.
func Undrawn(err error) bool {
	for _, e := range []error{raster.ErrTime, raster.ErrMemory, raster.ErrPage, raster.ErrDead} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// OnlyPart reports whether htmx asks for a part of a screen.
func OnlyPart(r *http.Request) bool { return r.Header.Get("HX-Request") != "" }
