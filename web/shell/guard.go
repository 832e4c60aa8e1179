package shell

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"

	"glenrain/core/step"
)

// What a request may bring, and how long it may take to come and to go.
const (
	maxForm      = 64 << 10         // bytes of a form
	maxHeader    = 32 << 10         // of the address and the headers
	bodyPatience = 30 * time.Second // between two pieces of a body that come, or of an answer that goes
)

// MaxHeader is the most bytes of address and headers, for the server that listens.
const MaxHeader = maxHeader

type bodyKey struct{}

// guard looks at every request before any handler does: no body where none belongs, none of many parts, which would be written to the
// disk, no more of it than a form has (routes for more say so: see larger), and none that comes drop by drop.
func (s *Server) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rc := http.NewResponseController(w)
		refuse := func(code int, sentence string) {
			w.Header().Set("Connection", "close")
			http.Error(w, sentence, code)
		}
		switch r.Method {
		case http.MethodGet, http.MethodHead:
			if r.ContentLength != 0 || len(r.TransferEncoding) > 0 {
				refuse(http.StatusBadRequest, "A request that asks for something has no body.")
				return
			}
		case http.MethodPost:
		default:
			w.Header().Set("Allow", "GET, HEAD, POST")
			refuse(http.StatusMethodNotAllowed, "This is neither asking nor doing.")
			return
		}
		if strings.HasPrefix(strings.ToLower(strings.TrimSpace(r.Header.Get("Content-Type"))), "multipart/") {
			refuse(http.StatusUnsupportedMediaType, "A form of several parts is not taken here.")
			return
		}
		if r.Method == http.MethodPost {
			whole := &body{ReadCloser: r.Body, rc: rc}
			r = r.WithContext(context.WithValue(r.Context(), bodyKey{}, whole))
			r.Body = http.MaxBytesReader(w, whole, maxForm)
		}
		next.ServeHTTP(&answer{ResponseWriter: w, rc: rc}, r)
	})
}

// larger lets a route take more than a form has.
func larger(most int64, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if whole, ok := r.Context().Value(bodyKey{}).(*body); ok {
			r.Body = http.MaxBytesReader(w, whole, most)
		}
		next.ServeHTTP(w, r)
	})
}

// body is what a request brings. Each piece of it has its time.
type body struct {
	io.ReadCloser
	rc *http.ResponseController
}

func (b *body) Read(p []byte) (int, error) {
	_ = b.rc.SetReadDeadline(time.Now().Add(bodyPatience)) // not every connection knows deadlines
	n, err := b.ReadCloser.Read(p)
	if err != nil { // what comes behind it is another request
		_ = b.rc.SetReadDeadline(time.Time{})
	}
	return n, err
}

// answer gives each piece of an answer its time to go.
type answer struct {
	http.ResponseWriter
	rc *http.ResponseController
}

func (a *answer) Unwrap() http.ResponseWriter { return a.ResponseWriter }

func (a *answer) Write(p []byte) (int, error) {
	_ = a.rc.SetWriteDeadline(time.Now().Add(bodyPatience))
	return a.ResponseWriter.Write(p)
}

// readForm reads the form of a request, so that one that is too large, or broken off, is told and not taken for an empty one.
func readForm(r *http.Request) error {
	if r.Method != http.MethodPost || !strings.HasPrefix(r.Header.Get("Content-Type"), "application/x-www-form-urlencoded") {
		return nil
	}
	err := r.ParseForm()
	var large *http.MaxBytesError
	switch {
	case err == nil, errors.As(err, &large):
		return err
	case errors.Is(err, io.ErrUnexpectedEOF):
		return errCutOff
	}
	return step.Refuse("the form can't be read; nothing was changed")
}

// errCutOff: the connection ended before the request was whole.
var errCutOff = step.Refuse("the request did not arrive whole; nothing was changed")

// printable reports whether a text has no controls, of which addresses and names are free.
func printable(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r >= 0x7f && r <= 0x9f || r == '\ufffd' }) && bytes.IndexByte([]byte(s), 0) < 0
}
