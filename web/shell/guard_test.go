package shell

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// timed is an answer that notes the times that are set for it.
type timed struct {
	*httptest.ResponseRecorder
	reads, writes []time.Time
}

func (t *timed) SetReadDeadline(at time.Time) error  { t.reads = append(t.reads, at); return nil }
func (t *timed) SetWriteDeadline(at time.Time) error { t.writes = append(t.writes, at); return nil }

// dribble gives one byte at a time.
type dribble struct{ io.Reader }

func (d dribble) Read(p []byte) (int, error) { return d.Reader.Read(p[:1]) }

// The guard refuses what no handler should see, bounds what they read, and gives each piece of a request and of an answer its time.
func TestGuard(t *testing.T) {
	var got []byte
	var failed error
	reached := 0
	read := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		reached++
		got, failed = io.ReadAll(r.Body)
		_, _ = io.WriteString(w, "one")
		_, _ = io.WriteString(w, "two")
	})
	s := &Server{}
	plain, large := s.guard(read), s.guard(larger(100<<10, read))
	ask := func(h http.Handler, method, contentType string, body io.Reader) *timed {
		r := httptest.NewRequest(method, "/", body)
		r.Header.Set("Content-Type", contentType)
		w := &timed{ResponseRecorder: httptest.NewRecorder()}
		h.ServeHTTP(w, r)
		return w
	}
	for _, c := range []struct {
		method, contentType, body string
		code                      int
	}{
		{"GET", "", "", 200}, {"HEAD", "", "", 200}, {"GET", "text/plain", "x", 400}, {"HEAD", "", "x", 400}, {"PUT", "", "", 405}, {"DELETE", "", "", 405}, {"TRACE", "", "", 405}, {"OPTIONS", "", "", 405},
		{"POST", "multipart/form-data; boundary=x", "x", 415}, {"POST", " Multipart/Mixed", "x", 415}, {"POST", "application/pdf", "x", 200},
	} {
		before := reached
		w := ask(plain, c.method, c.contentType, strings.NewReader(c.body))
		assert.Equal(t, c.code, w.Code, "%s %s %q", c.method, c.contentType, c.body)
		assert.Equal(t, c.code == 200, reached > before, "%s %s", c.method, c.contentType)
		if c.code != 200 {
			assert.Equal(t, "close", w.Header().Get("Connection"), "what comes behind it is not read")
			assert.NotEmpty(t, w.Body.String())
		}
		if c.code == 405 {
			assert.Equal(t, "GET, HEAD, POST", w.Header().Get("Allow"))
		}
	}
	form := bytes.Repeat([]byte("x"), maxForm)
	ask(plain, "POST", "", bytes.NewReader(form))
	require.NoError(t, failed)
	assert.Len(t, got, maxForm)
	ask(plain, "POST", "", bytes.NewReader(append(form, 'x')))
	var tooLarge *http.MaxBytesError
	require.True(t, errors.As(failed, &tooLarge))
	ask(large, "POST", "", bytes.NewReader(append(form, 'x')))
	require.NoError(t, failed, "a route that takes more")
	ask(large, "POST", "", bytes.NewReader(make([]byte, 101<<10)))
	require.True(t, errors.As(failed, &tooLarge), "and has a bound of its own")

	start := time.Now()
	w := ask(plain, "POST", "", dribble{strings.NewReader("abc")})
	require.Len(t, w.reads, 5, "three bytes, the end, and no time for what comes behind it")
	for _, at := range w.reads[:4] {
		assert.WithinDuration(t, start.Add(bodyPatience), at, 5*time.Second)
	}
	assert.True(t, w.reads[4].IsZero())
	require.Len(t, w.writes, 2, "each piece of the answer")
	for _, at := range w.writes {
		assert.WithinDuration(t, start.Add(bodyPatience), at, 5*time.Second)
	}
	assert.Equal(t, "onetwo", w.Body.String())
}
