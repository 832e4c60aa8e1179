package web

import (
	"bytes"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
	"glenrain/desk"
)

// client is a browser without a window: it keeps cookies and follows redirects.
type client struct {
	t    *testing.T
	base string
	http *http.Client
}

func (o *office) client() *client {
	jar, err := cookiejar.New(nil)
	require.NoError(o.t, err)
	return &client{o.t, o.http.URL, &http.Client{Jar: jar}}
}

func (c *client) send(method, path, contentType string, body io.Reader, headers ...string) (int, string, http.Header) {
	c.t.Helper()
	req, err := http.NewRequest(method, c.base+path, body)
	require.NoError(c.t, err)
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := c.http.Do(req)
	require.NoError(c.t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	return res.StatusCode, string(b), res.Header
}

func (c *client) get(path string) (int, string) {
	code, body, _ := c.send(http.MethodGet, path, "", nil)
	return code, body
}

func (c *client) post(path string, v url.Values, headers ...string) (int, string, http.Header) {
	return c.send(http.MethodPost, path, "application/x-www-form-urlencoded", strings.NewReader(v.Encode()), headers...)
}

func (c *client) signIn(name string) {
	c.t.Helper()
	code, body, _ := c.post("/enter", url.Values{"name": {name}, "password": {demo.Password}})
	require.Equal(c.t, http.StatusOK, code, body)
	require.Contains(c.t, body, "Drop files or folders here")
}

// do runs a step on a document, with the fields of its form.
func (c *client) do(doc, name, fields string) {
	c.t.Helper()
	v, err := url.ParseQuery(fields)
	require.NoError(c.t, err)
	state, request := c.seen(doc)
	v.Set("_seen", state)
	v.Set("_request", request)
	v.Set("_place", "edit")
	code, body, _ := c.post("/desk/"+doc+"/do/"+name, v)
	require.Equal(c.t, http.StatusOK, code, body)
	require.Eventually(c.t, func() bool { // it may be done in the background
		now, _ := c.seen(doc)
		return now != state
	}, 30*time.Second, 50*time.Millisecond, body)
}

func (c *client) bring(name string, data []byte) string {
	c.t.Helper()
	code, body, _ := c.send(http.MethodPost, "/documents/add?name="+url.QueryEscape(name), "", bytes.NewReader(data))
	require.Equal(c.t, http.StatusOK, code, body)
	return regexp.MustCompile(`"id":(\d+)`).FindStringSubmatch(body)[1]
}

// seen reads what a window knows of a document: its state, and a request id of its own.
func (c *client) seen(doc string) (state, request string) {
	c.t.Helper()
	code, body := c.get("/desk/" + doc + "/arrange")
	require.Equal(c.t, http.StatusOK, code)
	return regexp.MustCompile(`data-seen="(\d+)"`).FindStringSubmatch(body)[1], regexp.MustCompile(`name="_request" value="([^"]+)"`).FindStringSubmatch(body)[1]
}

func TestNothingWithoutSigningIn(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	for _, path := range []string{"/documents", "/desk/1/arrange", "/out/1", "/desk/1/picture/0.1/0/160", "/find?q=a", "/progress/1", "/documents/1/original"} {
		_, body := c.get(path)
		assert.Contains(t, body, "Name you sign in with", path)
	}
	code, _, _ := c.post("/documents/bin", url.Values{"id": {"1"}})
	assert.Equal(t, http.StatusUnauthorized, code)
	code, body, _ := c.post("/enter", url.Values{"name": {"isla"}, "password": {"wrong"}})
	assert.Equal(t, http.StatusUnauthorized, code)
	assert.Contains(t, body, "name or the password is wrong")
	// Throttled: an account has ten tries in a quarter of an hour.
	for range 11 {
		code, _, _ = c.post("/enter", url.Values{"name": {""}, "password": {""}})
	}
	assert.Equal(t, http.StatusTooManyRequests, code)
}

func TestOneTimeAddresses(t *testing.T) {
	o := openOffice(t, false)
	p, err := o.desk.SignIn(t.Context(), "isla", demo.Password)
	require.NoError(t, err)
	token, err := o.desk.InviteToEnter(t.Context(), p.ID, 1e12)
	require.NoError(t, err)
	c := o.client()
	_, body := c.get("/enter/" + token)
	assert.Contains(t, body, "Welcome, Isla Merrow")
	_, body, _ = c.post("/enter/"+token, nil)
	assert.Contains(t, body, "Drop files or folders here")
	code, _ := o.client().get("/enter/" + token)
	assert.Equal(t, http.StatusUnauthorized, code, "it works once")
	first, err := o.desk.InviteFirst(t.Context(), 1e12)
	require.NoError(t, err)
	code, _, _ = o.client().post("/enter/"+first, url.Values{"full-name": {"Tomas Quill"}, "name": {"tomas"}, "password": {"neap tides too"}})
	assert.Equal(t, http.StatusUnauthorized, code, "somebody is set up")
	joins, err := o.desk.Join(t.Context(), p.ID, desk.Member, "Tomas")
	require.NoError(t, err)
	n := o.client()
	code, body, _ = n.post("/enter/"+joins, url.Values{"full-name": {"Tomas Quill"}, "name": {"tomas"}, "password": {"short"}})
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	assert.Contains(t, body, "at least 10 characters")
	_, body, _ = n.post("/enter/"+joins, url.Values{"full-name": {"Tomas Quill"}, "name": {"tomas"}, "password": {"neap tides too"}})
	assert.Contains(t, body, "Drop files or folders here")
}

func TestAnswersAreGuarded(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	_, _, h := c.send(http.MethodGet, "/enter", "", nil)
	csp := h.Get("Content-Security-Policy")
	assert.Contains(t, csp, "script-src 'self';")
	assert.NotContains(t, csp, "unsafe")
	assert.Equal(t, "nosniff", h.Get("X-Content-Type-Options"))
	c.signIn("isla")
	id := c.bring("Tide.pdf", pdftest.Text(2))
	// A request from another site changes nothing.
	code, _, _ := c.post("/documents/bin", url.Values{"id": {id}}, "Sec-Fetch-Site", "cross-site", "Origin", "https://elsewhere.example")
	assert.Equal(t, http.StatusForbidden, code)
	_, body := c.get("/documents")
	assert.Contains(t, body, "Tide")
	// No path, no stack, no inner word in an answer.
	for _, path := range []string{"/desk/999/arrange", "/desk/" + id + "/nowhere", "/out/7", "/desk/" + id + "/picture/x/0/160", "/desk/" + id + "/picture/0.1/0/7", "/nothing", "/desk/" + id + "/picture/0.9/0/160"} {
		code, body := c.get(path)
		assert.Equal(t, http.StatusNotFound, code, path)
		assert.NotContains(t, body, o.dir)
		assert.NotContains(t, body, "goroutine")
	}
	for _, q := range []string{"<script>", "%", "_", "page 2", "rotate"} {
		code, body := c.get("/find?q=" + url.QueryEscape(q) + "&doc=" + id + "&_place=arrange")
		assert.Equal(t, http.StatusOK, code)
		assert.NotContains(t, body, "<script>")
	}
	code, _ = c.get("/desk/" + id + "/region/0.1?scale=2&x=0&y=0&w=100&h=100")
	assert.Equal(t, http.StatusOK, code)
	code, _ = c.get("/desk/" + id + "/region/0.1?scale=1e9&x=0&y=0&w=100&h=100")
	assert.Equal(t, http.StatusUnprocessableEntity, code)
}

// Two windows on one document: the second is shown the new state and loses nothing.
func TestConflictShowsTheNewState(t *testing.T) {
	o := openOffice(t, false)
	_, err := o.desk.AddPerson(t.Context(), "Tomas Quill", "tomas", demo.Password)
	require.NoError(t, err)
	a, b := o.client(), o.client()
	a.signIn("isla")
	b.signIn("tomas")
	id := a.bring("Survey.pdf", pdftest.Text(5))
	state, requestA := a.seen(id)
	_, requestB := b.seen(id)
	turn := url.Values{"_seen": {state}, "_request": {requestA}, "_place": {"arrange"}, "pages": {"0.2"}, "by": {"90"}}
	code, body, _ := a.post("/desk/"+id+"/do/rotate", turn, "HX-Request", "true")
	require.Equal(t, http.StatusOK, code)
	assert.Contains(t, body, "Page 2 rotated right.")
	// The same request again (a double click, a retry) does nothing more.
	code, _, _ = a.post("/desk/"+id+"/do/rotate", turn, "HX-Request", "true")
	require.Equal(t, http.StatusOK, code)
	_, body = a.get("/desk/" + id + "/arrange")
	assert.Equal(t, 1, strings.Count(body, "Page 2 rotated right"))

	code, body, _ = b.post("/desk/"+id+"/do/remove", url.Values{"_seen": {state}, "_request": {requestB}, "_place": {"arrange"}, "pages": {"0.2 0.3"}}, "HX-Request", "true")
	assert.Equal(t, http.StatusConflict, code)
	assert.Contains(t, body, "Someone else changed the document first")
	assert.Contains(t, body, "Page 2 rotated right", "the new state is shown")
	_, body = b.get("/desk/" + id + "/arrange")
	assert.NotContains(t, body, "removed")
	// Other pages may be changed from the old view.
	code, body, _ = b.post("/desk/"+id+"/do/rotate", url.Values{"_seen": {state}, "_request": {requestB + "2"}, "_place": {"arrange"}, "pages": {"0.4"}, "by": {"180"}}, "HX-Request", "true")
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, body, "Page 4 rotated 180 degrees.")
}

// A locked file asks for its password, keeps what its owner allows, and going out unlocked is asked about.
func TestLockedFiles(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	lock := func(args ...string) []byte {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(dir+"/a.pdf", pdftest.Text(3), 0o600))
		require.NoError(t, exec.Command("qpdf", append(append([]string{"--encrypt"}, args...), "--", dir+"/a.pdf", dir+"/l.pdf")...).Run())
		b, err := os.ReadFile(dir + "/l.pdf")
		require.NoError(t, err)
		return b
	}
	bring := func(data []byte, password string) (int, string) {
		code, body, _ := c.send(http.MethodPost, "/documents/add?name=Licence.pdf", "", bytes.NewReader(data), "File-Password", url.PathEscape(password))
		return code, body
	}
	data := lock("ebb & flüt", "owner", "256")
	code, body := bring(data, "")
	assert.Equal(t, http.StatusLocked, code)
	assert.Contains(t, body, "“Licence.pdf”: this file is locked: enter its password.")
	code, body = bring(data, "wrong")
	assert.Equal(t, http.StatusLocked, code)
	assert.Contains(t, body, "that password is wrong")
	code, body = bring(data, "ebb & flüt")
	require.Equal(t, http.StatusOK, code, body)
	id := regexp.MustCompile(`"id":(\d+)`).FindStringSubmatch(body)[1]
	_, body = c.get("/documents")
	assert.Contains(t, body, "was locked with a password")
	_, body = c.get("/documents/" + id + "/original")
	assert.Equal(t, string(data), body, "the original stays as it came")
	state, request := c.seen(id)
	v := url.Values{"_seen": {state}, "_request": {request}, "_place": {"arrange"}, "pages": {"0.2"}, "by": {"90"}}
	code, _, _ = c.post("/desk/"+id+"/do/rotate", v, "HX-Request", "true")
	assert.Equal(t, http.StatusOK, code)
	state, _ = c.seen(id)
	v = url.Values{"_seen": {state}, "_request": {"r"}, "how": {"copy"}, "name": {"Licence out"}}
	code, body, _ = c.post("/desk/"+id+"/out", v, "HX-Request", "true")
	assert.Equal(t, http.StatusConflict, code)
	assert.Contains(t, body, "was locked with a password; the exported file is not locked")
	assert.NotContains(t, body, "Update them")
	v.Set("as-it-is", "yes")
	code, _, h := c.post("/desk/"+id+"/out", v, "HX-Request", "true")
	assert.Equal(t, http.StatusNoContent, code)
	assert.Contains(t, h.Get("HX-Redirect"), "/release?out=")

	// Locked again as it came, it opens with both passwords, of which one was never told.
	_, body = c.get("/desk/" + id + "/release")
	assert.Contains(t, body, "Lock it with its original passwords")
	v = url.Values{"_seen": {state}, "_request": {"r2"}, "how": {"copy"}, "name": {"Licence locked"}, "lock": {"yes"}}
	code, _, h = c.post("/desk/"+id+"/out", v, "HX-Request", "true")
	require.Equal(t, http.StatusNoContent, code)
	_, body = c.get(h.Get("HX-Redirect"))
	assert.Contains(t, body, ", locked again")
	_, body = c.get("/out/" + regexp.MustCompile(`out=(\d+)`).FindStringSubmatch(h.Get("HX-Redirect"))[1])
	_, err := pdf.Open(strings.NewReader(body), int64(len(body)))
	require.ErrorIs(t, err, pdf.ErrLocked)
	for _, pw := range []string{"ebb & flüt", "owner"} {
		pdftest.Tool(t, []byte(body), "qpdf", "--check", "--password="+pw, "FILE")
		d, err := pdf.OpenLocked(strings.NewReader(body), int64(len(body)), pw)
		require.NoError(t, err)
		assert.Equal(t, 180, d.Geometry(pdftest.Refs(t, d)[1]).Rotate, "it came turned by 90, and was turned once more")
	}

	// What the owner forbids needs the owner's password.
	strict := lock("", "owner", "256", "--modify=none")
	code, body = bring(strict, "")
	assert.Equal(t, http.StatusLocked, code)
	assert.Contains(t, body, "owner allows no changes")
	code, _ = bring(strict, "owner")
	assert.Equal(t, http.StatusOK, code)
	// No password is kept anywhere.
	for _, name := range []string{"glenrain.db", "glenrain.db-wal"} {
		b, err := os.ReadFile(o.dir + "/" + name)
		require.NoError(t, err)
		assert.NotContains(t, string(b), "ebb & fl")
	}
}

func TestBadForms(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Survey.pdf", pdftest.Text(3))
	state, _ := c.seen(id)
	number := url.Values{"pages": {"all"}, "edge": {"bottom"}, "align": {"centre"}, "figures": {"1 2 3"}, "first": {"1"}, "font": {"Sans"}, "size": {"9pt"},
		"colour": {"slate"}, "margin": {"12mm"}, "wording": {""}, "wording.field": {"page"}, "wording.text": {""}}
	for _, k := range []struct{ job, field, value, says string }{
		{"rotate", "pages", "x.y", "There is no page “x.y”: type a page set"}, {"rotate", "pages", "", "No page is selected"}, {"remove", "pages", "all", "because a document needs one"},
		{"move", "to", "nowhere", "is not a place"}, {"insert", "from", "", "Choose a document"}, {"insert", "from", "state:999", "doesn’t exist, or you have no access"},
		{"number", "size", "large", "is not a length"}, {"number", "margin", "12 ells", "is not a length"}, {"number", "pages", "some", "There is no page “some”"},
		{"number", "colour", "red!", "isn’t a colour"}, {"number", "first", "one", "is not a whole number"}, {"number", "font", "Comic", "isn’t one of"}, {"number", "size", "NaN", "is not a length"},
		{"number", "wording.field", "", "wording is empty"}, {"number-change", "id", "00", "has been removed"}, {"furnishing-update", "id", "", "is out of date"},
	} {
		v := url.Values{"_seen": {state}, "_request": {k.job + k.field + k.value}, "_place": {"arrange"}, "pages": {"0.1"}, "by": {"90"}}
		if k.job == "move" || k.job == "insert" {
			v.Set("to", "end")
		}
		if strings.HasPrefix(k.job, "number") {
			v = url.Values{"_seen": {state}, "_request": {k.job + k.field + k.value}, "_place": {"furnish"}}
			for f, x := range number {
				v[f] = x
			}
		}
		v.Set(k.field, k.value)
		for _, way := range []string{"do", "preview"} {
			code, body, _ := c.post("/desk/"+id+"/"+way+"/"+k.job, v, "Sec-Fetch-Dest", "empty")
			assert.Equal(t, http.StatusUnprocessableEntity, code, "%s %+v: %s", way, k, body)
			assert.Contains(t, body, k.says, "%s %+v", way, k)
		}
	}
	now, _ := c.seen(id)
	assert.Equal(t, state, now, "nothing was changed")
	code, body, _ := c.post("/documents/combine", url.Values{"id": {id}}, "HX-Request", "true")
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	assert.Contains(t, body, "at least two documents")
}

// The same request does nothing twice: adding, combining, handing out, a step. The same form with other values is another request.
func TestRetriesDoNothingTwice(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	count := func() (here, outs int64) {
		here, _, outs, err := o.desk.Counts(t.Context(), 1)
		require.NoError(t, err)
		return here, outs
	}
	add := func(name, request string, data []byte) string {
		code, body, _ := c.send(http.MethodPost, "/documents/add?name="+url.QueryEscape(name), "", bytes.NewReader(data), "Request-Id", request)
		require.Equal(t, http.StatusOK, code, body)
		return regexp.MustCompile(`"id":(\d+)`).FindStringSubmatch(body)[1]
	}
	a := add("A.pdf", "one", pdftest.Text(2))
	assert.Equal(t, a, add("A.pdf", "one", pdftest.Text(2)))
	b := add("B.pdf", "one", pdftest.Text(3))
	assert.NotEqual(t, a, b)
	combine := func(name string) string {
		code, _, h := c.post("/documents/combine", url.Values{"_request": {"tray"}, "id": {a, b}, "name": {name}}, "HX-Request", "true")
		require.Equal(t, http.StatusNoContent, code)
		return h.Get("HX-Redirect")
	}
	both := combine("Both")
	assert.Equal(t, both, combine("Both"))
	assert.NotEqual(t, both, combine("Both, again"))
	here, _ := count()
	assert.EqualValues(t, 4, here)
	state, _ := c.seen(a)
	out := func(name string) string {
		code, _, h := c.post("/desk/"+a+"/out", url.Values{"_seen": {state}, "_request": {"out"}, "how": {"copy"}, "name": {name}, "as-it-is": {"yes"}}, "HX-Request", "true")
		require.Equal(t, http.StatusNoContent, code)
		return h.Get("HX-Redirect")
	}
	first := out("First")
	assert.Equal(t, first, out("First"))
	assert.NotEqual(t, first, out("Second"))
	_, outs := count()
	assert.EqualValues(t, 2, outs)
	// A form that was gone back to, with another page in it.
	for _, page := range []string{"0.1", "0.1", "0.2"} {
		code, body, _ := c.post("/desk/"+a+"/do/rotate", url.Values{"_seen": {state}, "_request": {"form"}, "_place": {"arrange"}, "pages": {page}, "by": {"90"}}, "HX-Request", "true")
		require.Equal(t, http.StatusOK, code, body)
	}
	snap, err := o.desk.Snapshot(t.Context(), 1)
	require.NoError(t, err)
	steps, err := o.desk.Trail(t.Context(), snap, 0, 9)
	require.NoError(t, err)
	require.Len(t, steps, 2)
	assert.Equal(t, "Page 2 rotated right", steps[0].Sentence)
}
