package web

import (
	"bufio"
	"bytes"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
	"glenrain/desk"
)

// raw sends bytes as they are and gives the answer's code and body; 0 where the connection ends without one.
func (o *office) raw(request string) (int, string) {
	c, err := net.Dial("tcp", strings.TrimPrefix(o.http.URL, "http://"))
	require.NoError(o.t, err)
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	_, err = io.WriteString(c, request)
	require.NoError(o.t, err)
	require.NoError(o.t, c.(*net.TCPConn).CloseWrite())
	res, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		return 0, err.Error()
	}
	defer res.Body.Close()
	b, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(b)
}

// What a request brings is bounded before any handler sees it, and before anybody signs in; nothing of it comes to the disk.
func TestBodies(t *testing.T) {
	o := openOffice(t, false)
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	c := o.client()
	parts := "--x\r\nContent-Disposition: form-data; name=\"f\"; filename=\"f\"\r\n\r\n" + strings.Repeat("quay ", 1<<20) + "\r\n--x--\r\n"
	for _, method := range []string{http.MethodGet, http.MethodPost} {
		for _, path := range []string{"/enter", "/documents", "/documents/add", "/nothing"} {
			code, body, _ := c.send(method, path, "multipart/form-data; boundary=x", strings.NewReader(parts))
			assert.Contains(t, []int{http.StatusBadRequest, http.StatusUnsupportedMediaType}, code, "%s %s", method, path)
			assert.NotEmpty(t, body)
		}
	}
	left, err := filepath.Glob(filepath.Join(temp, "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	code, body, _ := c.post("/enter", url.Values{"name": {"isla"}, "password": {strings.Repeat("x", 70<<10)}})
	assert.Equal(t, http.StatusRequestEntityTooLarge, code)
	assert.Contains(t, body, "larger than")
	code, _, _ = c.send(http.MethodDelete, "/documents", "", nil)
	assert.Equal(t, http.StatusMethodNotAllowed, code)
	c.signIn("isla")
	id := c.bring("Tide.pdf", pdftest.Text(2))
	// Forms of steps may name many pages; others have the same bound as before.
	state, request := c.seen(id)
	code, _, _ = c.post("/desk/"+id+"/do/rotate", url.Values{"_seen": {state}, "_request": {request}, "_place": {"arrange"}, "pages": {"0.1"}, "by": {"90"}, "_more": {strings.Repeat("x", 200<<10)}})
	assert.Equal(t, http.StatusOK, code)
	code, _, _ = c.post("/documents/"+id+"/name", url.Values{"name": {strings.Repeat("x", 70<<10)}})
	assert.Equal(t, http.StatusRequestEntityTooLarge, code)
	// A form that is no form, and a cut one.
	code, _, _ = c.send(http.MethodPost, "/documents/"+id+"/name", "application/x-www-form-urlencoded", strings.NewReader("name=%zz"))
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	cookies := ""
	at, _ := url.Parse(o.http.URL)
	for _, k := range c.http.Jar.Cookies(at) {
		cookies += k.Name + "=" + k.Value + "; "
	}
	for _, path := range []string{"/documents/add?name=Cut.pdf", "/documents/" + id + "/name"} {
		kind := "application/x-www-form-urlencoded"
		if strings.Contains(path, "add") {
			kind = "application/pdf"
		}
		code, body := o.raw("POST " + path + " HTTP/1.1\r\nHost: x\r\nCookie: " + cookies + "\r\nContent-Type: " + kind + "\r\nContent-Length: 5000\r\n\r\n%PDF-1.7 name=")
		assert.NotEqual(t, http.StatusOK, code, path)
		assert.True(t, code == 0 || body != "", path)
	}
	_, body = c.get("/documents")
	assert.False(t, strings.Contains(body, "Cut"))
	// A long address, and a request that comes drop by drop before it is one.
	code, _ = c.get("/documents/text?q=" + strings.Repeat("quay+", 600))
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	code, body = c.get("/documents/text?q=" + strings.Repeat("a", 1999))
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, body, "No matches")
}

// HEAD answers as GET does, without a body.
func TestHead(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Tide.pdf", pdftest.Text(2))
	for _, path := range []string{"/documents", "/desk/" + id + "/arrange", "/documents/" + id + "/original", "/static/x/style/base.css", "/me"} {
		code, body, _ := c.send(http.MethodHead, path, "", nil)
		assert.Equal(t, http.StatusOK, code, path)
		assert.Empty(t, body, path)
	}
	code, _, _ := c.send(http.MethodHead, "/desk/99/arrange", "", nil)
	assert.Equal(t, http.StatusNotFound, code)
}

// After signing in one comes to an address of this server, whatever is asked for.
func TestLocalAddresses(t *testing.T) {
	o := openOffice(t, false)
	for to, want := range map[string]string{
		"/desk/1/arrange?page=0.1": "/desk/1/arrange?page=0.1", "//evil.example": "/documents", "/\\evil.example": "/documents", "/\t/evil.example": "/documents", "/%09/evil.example": "/documents",
		"/%5cevil.example": "/documents", "https://evil.example": "/documents", "javascript:alert(1)": "/documents", "": "/documents", "/\n/evil": "/documents", "/ /evil": "/documents", "/%2f/evil": "/documents", "\t//evil": "/documents", "/documents": "/documents",
	} {
		c := o.client()
		c.http.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
		_, _, h := c.post("/enter", url.Values{"name": {"isla"}, "password": {demo.Password}, "to": {to}})
		assert.Equal(t, want, h.Get("Location"), "%q", to)
	}
}

// Cookies and headers of a server that is reached over TLS.
func TestOverTLS(t *testing.T) {
	o := openOffice(t, false)
	s, err := New(o.desk, Options{Secure: true})
	require.NoError(t, err)
	server := httptest.NewTLSServer(s.Handler())
	defer server.Close()
	res, err := server.Client().PostForm(server.URL+"/enter", url.Values{"name": {"isla"}, "password": {demo.Password}})
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, "max-age=31536000", res.Header.Get("Strict-Transport-Security"))
	direct := server.Client()
	direct.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	res, err = direct.PostForm(server.URL+"/enter", url.Values{"name": {"isla"}, "password": {demo.Password}})
	require.NoError(t, err)
	defer res.Body.Close()
	require.Len(t, res.Cookies(), 2)
	for _, k := range res.Cookies() {
		assert.True(t, strings.HasPrefix(k.Name, "__Host-") && k.Secure && k.HttpOnly && k.SameSite == http.SameSiteLaxMode && k.Path == "/", k.Name)
	}
	plain, err := http.Get(o.http.URL + "/enter")
	require.NoError(t, err)
	defer plain.Body.Close()
	assert.Empty(t, plain.Header.Get("Strict-Transport-Security"))
}

// A throttled office: who signs in with a browser that is known still gets in, over the wire.
func TestThrottledOffice(t *testing.T) {
	o := openOffice(t, false)
	known, strange := o.client(), o.client()
	known.signIn("isla")
	_, _, _ = known.post("/leave", nil)
	for range 12 {
		_, _, _ = strange.post("/enter", url.Values{"name": {"isla"}, "password": {"wrong wrong wrong"}})
	}
	code, body, h := strange.post("/enter", url.Values{"name": {"isla"}, "password": {demo.Password}})
	assert.Equal(t, http.StatusTooManyRequests, code)
	assert.Contains(t, body, "Too many tries failed")
	assert.NotEmpty(t, h.Get("Retry-After"))
	known.signIn("isla")
}

// Patterns and searches that would take for ever end in a sentence.
func TestBoundedSearches(t *testing.T) {
	o, id := openOffice(t, false), ""
	c := o.client()
	c.signIn("isla")
	id = c.bring("Tide.pdf", pdftest.Text(2))
	for _, q := range []string{"(x{1,500}){1,500}", strings.Repeat("(a|b)", 99) + "{900}", "((((a{99}){99}){99}){99})"} {
		start := time.Now()
		code, body := c.get("/desk/" + id + "/find?pattern=on&q=" + url.QueryEscape(q))
		assert.Equal(t, http.StatusUnprocessableEntity, code, q)
		assert.NotEmpty(t, body)
		assert.Less(t, time.Since(start), 3*time.Second)
	}
	code, body := c.get("/desk/" + id + "/find?pattern=on&q=" + url.QueryEscape(`Page \d+`))
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, body, `"hits":2`)
	for _, v := range []string{"NaN", "Inf", "-1", "1e300", ""} {
		code, _ = c.get("/desk/" + id + "/region/0.1?scale=" + v + "&x=0&y=0&w=10&h=10")
		assert.Equal(t, http.StatusUnprocessableEntity, code, v)
		state, request := c.seen(id)
		code, body, _ = c.post("/desk/"+id+"/do/number", url.Values{"_seen": {state}, "_request": {request}, "pages": {"all"}, "edge": {"bottom"}, "align": {"centre"}, "figures": {"1 2 3"}, "first": {"1"},
			"font": {"Sans"}, "size": {v}, "colour": {"slate"}, "margin": {"12mm"}, "wording": {""}, "wording.field": {"page"}, "wording.text": {""}})
		assert.Equal(t, http.StatusUnprocessableEntity, code, "%q: %.100s", v, body)
	}
}

// Names that turn the writing round, or hide something, are shown without it.
func TestHarmlessNames(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("invoice\u202efdp.exe\u2066", pdftest.Text(1))
	_, body := c.get("/documents")
	assert.True(t, strings.Contains(body, "invoicefdp"))
	assert.False(t, strings.ContainsAny(body, "\u202e\u2066"))
	_, body, _ = c.post("/documents/"+id+"/name", url.Values{"name": {"a\u200fb\u2067c"}})
	assert.True(t, strings.Contains(body, "abc"))
}

// What a file is refused for is a sentence beside its name; one page that can't be drawn is shown as such.
func TestRefusedFile(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	var bomb []byte
	for _, h := range pdftest.Hostiles() {
		if h.Name == "a million times one page.pdf" {
			code, body, _ := c.send(http.MethodPost, "/documents/add?name=Soundings.pdf", "", bytes.NewReader(h.Data))
			assert.Equal(t, http.StatusUnprocessableEntity, code)
			assert.Contains(t, body, "nothing was changed")
		}
		if h.Name == "forms that double.pdf" {
			bomb = h.Data
		}
	}
	id := c.bring("Forms.pdf", bomb)
	code, body, h := c.send(http.MethodGet, "/desk/"+id+"/picture/0.1/0/640", "", nil)
	assert.Equal(t, http.StatusOK, code)
	if h.Get("Content-Type") == "image/svg+xml" {
		assert.Contains(t, body, "can’t be shown")
	}
	require.NotNil(t, desk.Whats)
	list, err := os.ReadDir(filepath.Join(o.dir, "coming"))
	require.NoError(t, err)
	assert.Empty(t, list, "nothing is left behind")
}
