package web

import (
	"bytes"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
	"glenrain/desk"
)

// who of the office may use a route.
type who int

const (
	anybody who = iota // also who is not signed in
	person             // who is signed in
	readers            // who sees the document
	members            // and may change it
	admins
)

// routes tells for each route who may use it, and what is sent so that the gate decides and not the form. A route that is not here fails the test.
var routes = map[string]struct {
	who  who
	form string // of a POST; "ID" stands for the document, "OUT" for the hand-out, "SEEN" for its state
}{
	"GET /static/*": {anybody, ""}, "GET /favicon.ico": {anybody, ""}, "GET /enter": {anybody, ""}, "POST /enter": {anybody, "name=x&password=y"},
	"GET /enter/{token}": {anybody, ""}, "POST /enter/{token}": {anybody, "name=x"}, "POST /leave": {anybody, ""},
	"GET /": {person, ""}, "GET /find": {person, ""}, "GET /find/text": {person, ""}, "POST /me/keep": {person, "name=zoom+review&value=page"}, "GET /me": {person, ""}, "GET /help": {person, ""}, "GET /help/*": {person, ""},
	"POST /me/password": {person, "was=x&new=yyyyyyyyyy&again=zzzzzzzzzz"}, "POST /me/sessions": {person, "number=none"},
	"GET /progress/{work}": {person, ""}, "POST /progress/{work}/cancel": {person, ""}, "POST /progress/{work}/stop": {person, ""}, "POST /many/{many}/undo": {person, ""},
	"GET /settings": {admins, ""}, "POST /settings/{section}": {admins, "office.name=Orrin+Quay"},

	"GET /documents": {person, ""}, "GET /documents/bin": {person, ""}, "GET /documents/out": {person, ""}, "GET /documents/text": {person, ""}, "GET /documents/more/{view}": {person, ""},
	"POST /documents/add": {members, "%PDF"}, "POST /documents/combine": {members, "id=ID&id=ID&_request=x"}, "POST /documents/bin": {members, "id=ID"}, "POST /documents/restore": {members, "id=ID"},
	"POST /documents/move": {members, "id=ID&to=1"}, "POST /documents/purge": {admins, "id=ID"},
	"GET /documents/{id}/name": {readers, ""}, "POST /documents/{id}/name": {members, "name=Same"}, "GET /documents/{id}/first": {readers, ""}, "GET /documents/{id}/original": {readers, ""},
	"GET /documents/{id}/people": {readers, ""}, "POST /documents/{id}/people": {members, "to=1"}, "GET /out/{id}": {readers, ""},
	"GET /folders": {person, ""}, "POST /folders": {members, "name=F"}, "POST /folders/{id}": {admins, "for=chosen"}, "POST /folders/{id}/name": {admins, "name=Closed"},
	"POST /folders/{id}/move": {admins, "to=0"}, "POST /folders/{id}/remove": {admins, ""},
	"GET /documents/{id}/about": {readers, ""}, "POST /documents/again": {members, "id=ID&paper=A5"}, "GET /documents/pictures": {person, ""}, "POST /documents/pictures": {members, "id=ID"},
	"GET /folders/find": {person, ""}, "GET /handing": {members, ""}, "POST /handing/plan": {members, "id=ID"}, "POST /handing": {members, "id=ID&as-it-is=yes&_request=h"}, "GET /desk/{id}/release/name": {readers, ""},
	"POST /documents/recognize": {members, "id=ID"}, "GET /desk/{id}/collect/recognize": {readers, ""}, "GET /desk/{id}/collect/scan": {readers, ""}, "GET /desk/{id}/collect/straighten": {readers, ""}, "GET /desk/{id}/collect/set-text": {readers, ""}, "GET /desk/{id}/recognize/blocks/{key}": {readers, ""},
	"GET /desk/{id}/edit": {readers, ""}, "GET /desk/{id}/edit/replace": {readers, ""}, "GET /desk/{id}/edit/objects": {readers, ""}, "GET /desk/{id}/edit/shapes": {readers, ""}, "GET /desk/{id}/edit/spelling": {readers, ""}, "GET /desk/{id}/edit/compare": {readers, ""},
	"GET /desk/{id}/edit/blocks/{key}": {readers, ""}, "GET /desk/{id}/edit/begin/{key}": {readers, ""}, "GET /desk/{id}/edit/found/{key}": {readers, ""}, "GET /desk/{id}/edit/taken/{key}": {readers, ""}, "GET /desk/{id}/edit/compared": {readers, ""}, "GET /desk/{id}/edit/compared/{key}": {readers, ""},
	"GET /desk/{id}/edit/spelled": {readers, ""}, "GET /desk/{id}/edit/spelled/{key}": {readers, ""}, "POST /desk/{id}/edit/learn": {members, "word=Netloft"}, "POST /desk/{id}/edit/set/{key}": {members, `{"paragraph":0,"text":"x","seen":SEEN,"box":400}`}, "POST /desk/{id}/edit/carry/{key}": {members, "to=ID&page=1&_objects=[]&request=c"}, "POST /desk/{id}/edit/bring/{key}": {members, "a picture"},
	"GET /desk/{id}/trail/{step}/values": {readers, ""}, "POST /desk/{id}/trail/{step}/values": {members, "_seen=SEEN"}, "POST /desk/{id}/states/{state}/name": {members, "name=Sent"}, "POST /desk/{id}/states/{state}/go": {members, "_seen=SEEN"},
	"POST /desk/{id}/edit/hits": {readers, "find=page&with=leaf&pages=all"}, "POST /desk/{id}/recognize/words": {members, "word=Netlofts"}, "POST /desk/{id}/recognize/words/forget": {members, "word=1"}, "GET /desk/{id}/recognize/doubts/{key}": {readers, ""}, "GET /desk/{id}/recognize/near": {readers, ""}, "GET /desk/{id}/recognize/guess": {readers, ""},
	"GET /scan": {members, ""}, "GET /scan/choices": {members, "scanner=1"}, "GET /scan/look": {members, "scanner=1"}, "POST /scan/scanners": {members, "address=127.0.0.1:22"}, "POST /scan/scanners/{id}/remove": {members, ""},
	"POST /scan/start": {members, "scanner=1&paper=A4&dpi=100&colour=Grayscale8&from=glass&doc=ID"},
	"POST /gather":     {members, "id=ID"}, "POST /gather/{what}": {members, "by=name"},

	"GET /desk/{id}": {readers, ""}, "GET /desk/{id}/collect": {readers, ""}, "GET /desk/{id}/arrange": {readers, ""}, "GET /desk/{id}/furnish": {readers, ""}, "GET /desk/{id}/review": {readers, ""},
	"GET /desk/{id}/release": {readers, ""}, "GET /desk/{id}/trail": {readers, ""}, "GET /desk/{id}/trail/{step}": {readers, ""}, "GET /desk/{id}/picture/{key}/{version}/{box}": {readers, ""},
	"GET /desk/{id}/region/{key}": {readers, ""}, "GET /desk/{id}/find": {readers, ""}, "GET /desk/{id}/hits/{key}": {readers, ""}, "GET /desk/{id}/words/{key}": {readers, ""}, "GET /desk/{id}/marks": {readers, ""},
	"GET /desk/{id}/frame/{key}": {readers, ""}, "GET /desk/{id}/collect/documents": {readers, ""},
	"GET /desk/{id}/arrange/blank": {readers, ""}, "GET /desk/{id}/arrange/size": {readers, ""}, "GET /desk/{id}/arrange/sheets": {readers, ""}, "GET /desk/{id}/arrange/split": {readers, ""},
	"GET /desk/{id}/arrange/bookmarks": {readers, ""}, "GET /desk/{id}/arrange/labels": {readers, ""}, "GET /desk/{id}/arrange/documents": {readers, ""}, "GET /desk/{id}/arrange/lane/{lane}": {readers, ""},
	"GET /desk/{id}/arrange/cuts": {readers, ""}, "GET /desk/{id}/arrange/blank-pages": {readers, ""}, "GET /desk/{id}/arrange/headings": {readers, ""}, "GET /watch": {person, ""},
	"POST /desk/{id}/arrange/act": {members, "what=rotate&lane=ID&seen_lane=SEEN&pages=0.1&by=90&_request=l"}, "POST /desk/{id}/arrange/extract": {members, "_seen=SEEN&pages=0.1&_request=x"},
	"POST /desk/{id}/arrange/parts": {readers, "cuts=0.2&pattern=[]"}, "POST /desk/{id}/arrange/split": {members, "_seen=SEEN&cuts=0.2&name=A&name=B&_request=s"}, "POST /desk/{id}/arrange/parts/{what}": {members, "made=none"},
	"POST /desk/{id}/do/{step}": {members, "pages=0.1&by=90&_seen=SEEN&_request=r"}, "POST /desk/{id}/preview/{step}": {members, "pages=0.1&by=90&_seen=SEEN"},
	"POST /desk/{id}/undo": {members, "_seen=SEEN"}, "POST /desk/{id}/redo": {members, "_seen=SEEN"}, "POST /desk/{id}/trail/{step}/undo": {members, "_seen=SEEN"},
	"POST /desk/{id}/out": {members, "_seen=SEEN&how=copy&name=Copy&_request=o&as-it-is=yes"},

	"GET /people": {admins, ""}, "POST /people/invite": {admins, "role=reader"}, "POST /people/void": {admins, "number=none"}, "GET /people/record": {admins, ""}, "GET /people/record/export": {admins, ""},
	"POST /people/keep": {admins, "record=365&bin=0"}, "GET /people/{id}": {admins, ""}, "POST /people/{id}/role": {admins, "role=none"}, "POST /people/{id}/reset": {admins, ""},
	"POST /people/{id}/sessions": {admins, "number=none"}, "POST /people/{id}/remove": {admins, "heir=0"},
}

// TestRoutesAndRoles asks for every route with every role: of a document that all may see, and of one that is not theirs to see.
func TestRoutesAndRoles(t *testing.T) {
	o := openOffice(t, false)
	for name, role := range map[string]desk.Role{"tomas": desk.Member, "rona": desk.Reader} {
		_, err := o.desk.AddPersonAs(t.Context(), role, name, name, demo.Password)
		require.NoError(t, err)
	}
	isla := o.client()
	isla.signIn("isla")
	type of struct{ id, out, seen string }
	bring := func(name string) of {
		v := of{id: isla.bring(name+".pdf", pdftest.Text(2))}
		v.seen, _ = isla.seen(v.id)
		isla.handOut(t, v.id)
		_, list := isla.get("/documents/out")
		v.out = regexp.MustCompile(`/out/(\d+)`).FindStringSubmatch(list)[1]
		return v
	}
	open, closed := bring("Open"), bring("Secret")
	folder, err := o.desk.MakeFolder(t.Context(), 1, "Closed")
	require.NoError(t, err)
	require.NoError(t, o.desk.OpenFolder(t.Context(), 1, folder.ID, true, nil))
	var secret uint
	_, err = fmt.Sscan(closed.id, &secret)
	require.NoError(t, err)
	_, err = o.desk.MoveTo(t.Context(), 1, []uint{secret}, folder.ID)
	require.NoError(t, err)

	visitors := map[string]*client{"": o.client(), "isla": isla}
	for _, name := range []string{"tomas", "rona"} {
		c := o.client()
		c.http.CheckRedirect = nil
		_, _, _ = c.post("/enter", url.Values{"name": {name}, "password": {demo.Password}})
		visitors[name] = c
	}
	for _, c := range visitors {
		c.http.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	}
	s, err := New(o.desk, Options{})
	require.NoError(t, err)
	seen := map[string]bool{}
	var all []string
	require.NoError(t, chi.Walk(s.Routes(), func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if name := method + " " + route; !seen[name] {
			seen[name] = true
			all = append(all, name)
		}
		return nil
	}))
	slices.Sort(all)
	var reads = regexp.MustCompile(`\{(id|token|work|many|step|key|version|box|view|what|lane|section)\}`)
	// Those that leave or end something come last, and are asked of the closed document only by those who may not.
	ask := func(who, name string, d of) int {
		method, route, _ := strings.Cut(name, " ")
		path := reads.ReplaceAllStringFunc(route, func(p string) string {
			switch p {
			case "{id}":
				switch {
				case strings.HasPrefix(route, "/out/"):
					return d.out
				case strings.HasPrefix(route, "/people/"), strings.HasPrefix(route, "/folders/"):
					return "2"
				}
				return d.id
			case "{token}":
				return "none"
			case "{step}":
				if strings.Contains(route, "trail") {
					return "1"
				}
				return "rotate"
			case "{key}":
				return "0.1"
			case "{version}":
				return "0"
			case "{box}":
				return "160"
			case "{what}":
				return "sort"
			case "{view}":
				return "here"
			case "{section}":
				return "office"
			}
			return "1"
		})
		switch path {
		case "/static/*":
			path = "/static/x/style/base.css"
		case "/handing":
			if method == http.MethodGet {
				path += "?id=" + d.id
			}
		case "/desk/" + d.id + "/region/0.1":
			path += "?scale=1&x=0&y=0&w=40&h=40"
		case "/desk/" + d.id + "/frame/0.1":
			path += "?frame=0+0+9+9"
		case "/desk/" + d.id + "/find", "/desk/" + d.id + "/hits/0.1":
			path += "?q=page"
		}
		c := visitors[who]
		if method == http.MethodGet {
			code, _ := c.get(path)
			return code
		}
		form := strings.NewReplacer("ID", d.id, "OUT", d.out, "SEEN", d.seen).Replace(routes[name].form)
		kind := "application/x-www-form-urlencoded"
		if path == "/documents/add" {
			kind = ""
		}
		code, _, _ := c.send(method, path, kind, strings.NewReader(form))
		return code
	}
	let := func(code int) bool { // through the gate, whatever comes of it
		return !slices.Contains([]int{http.StatusUnauthorized, http.StatusForbidden, http.StatusInternalServerError, http.StatusMethodNotAllowed}, code)
	}
	for _, name := range all {
		rule, known := routes[name]
		if !assert.True(t, known, "%s is in no line of the table", name) {
			continue
		}
		if name == "POST /leave" || name == "POST /documents/purge" {
			continue // asked below
		}
		onDocument := rule.who == readers || name == "GET /handing" || strings.Contains(name, "/desk/{id}") || strings.Contains(rule.form, "ID") || strings.Contains(name, "/documents/{id}")
		if rule.who != anybody {
			code := ask("", name, open)
			assert.Contains(t, []int{http.StatusSeeOther, http.StatusUnauthorized}, code, "%s without signing in: %d", name, code)
		}
		for _, who := range []string{"rona", "tomas"} {
			rank := map[string]int{"rona": int(readers), "tomas": int(members)}[who]
			if onDocument {
				assert.Equal(t, http.StatusNotFound, ask(who, name, closed), "%s of what %s may not see", name, who)
			}
			code := ask(who, name, open)
			switch {
			case rule.who == anybody:
			case int(rule.who) > rank && strings.HasPrefix(name, "POST /folders/{id}") && who == "tomas": // it is not there for them
				assert.Contains(t, []int{403, 404}, code, name)
			case int(rule.who) > rank:
				assert.Equal(t, http.StatusForbidden, code, "%s by %s", name, who)
			default:
				assert.True(t, let(code), "%s by %s: %d", name, who, code)
			}
		}
		if rule.who != anybody {
			code := ask("isla", name, open)
			assert.True(t, let(code), "%s by an administrator: %d", name, code)
		}
		if name == "POST /documents/bin" {
			ask("isla", "POST /documents/restore", open)
		}
	}
	for name := range routes {
		assert.True(t, seen[name], "%s is no route", name)
	}
	assert.Equal(t, http.StatusForbidden, ask("tomas", "POST /documents/purge", open))
	assert.Equal(t, http.StatusForbidden, ask("rona", "POST /documents/purge", open))
	// Nothing on any screen names what is not seen.
	for _, path := range []string{"/documents", "/documents/out", "/documents/bin", "/documents/text?q=page", "/find?q=secret", "/find/text?q=page+1", "/folders", "/documents/more/here", "/documents/more/out",
		"/desk/" + open.id + "/collect", "/desk/" + open.id + "/collect/documents?words=secret", "/desk/" + open.id + "/release"} {
		for _, who := range []string{"rona", "tomas"} {
			code, body := visitors[who].get(path)
			assert.Equal(t, http.StatusOK, code, path)
			assert.False(t, strings.Contains(body, "Secret") || strings.Contains(body, ">Closed<"), "%s for %s", path, who)
		}
		_, body := isla.get(path)
		assert.False(t, strings.Contains(body, "goroutine"), path)
	}
}

// A one-time address, sessions and roles as somebody goes through them.
func TestJoiningAndLeaving(t *testing.T) {
	o := openOffice(t, false)
	isla, rona := o.client(), o.client()
	isla.signIn("isla")
	code, body, _ := isla.post("/people/invite", url.Values{"for": {"Rona Skerry"}, "role": {"reader"}})
	require.Equal(t, http.StatusOK, code, body)
	at := regexp.MustCompile(`/enter/[\w-]+`).FindString(body)
	require.NotEmpty(t, at)
	_, body = isla.get("/people")
	assert.NotContains(t, body, at, "it is shown once")
	_, body = rona.get(at)
	assert.Contains(t, body, "You join as a reader, who can read documents")
	code, body, _ = rona.post(at, url.Values{"full-name": {"Rona Skerry"}, "name": {"rona"}, "password": {demo.Password}})
	require.Equal(t, http.StatusOK, code)
	assert.NotContains(t, body, "Drop files or folders here", "a reader adds nothing")
	code, _ = o.client().get(at)
	assert.Equal(t, http.StatusUnauthorized, code)
	code, _, _ = rona.send(http.MethodPost, "/documents/add?name=a.pdf", "", bytes.NewReader(pdftest.Text(1)))
	assert.Equal(t, http.StatusForbidden, code)
	id := isla.bring("Tariffs.pdf", pdftest.Text(2))
	code, body = rona.get("/desk/" + id + "/arrange")
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, body, "You can read this document and comment on it")
	// An administrator ends her session: the next request finds nobody signed in.
	_, page := isla.get("/people/2")
	number := regexp.MustCompile(`name="number" value="([^"]+)"`).FindStringSubmatch(page)
	require.NotNil(t, number)
	code, _, _ = isla.post("/people/2/sessions", url.Values{"number": {number[1]}})
	require.Equal(t, http.StatusOK, code)
	_, body = rona.get("/desk/" + id + "/arrange")
	assert.Contains(t, body, "Sign in")
	// A new password by a one-time address, and one's own.
	_, body, _ = isla.post("/people/2/reset", nil)
	at = regexp.MustCompile(`/enter/[\w-]+`).FindString(body)
	_, body, _ = rona.post(at, url.Values{"password": {"neap tides too"}})
	assert.Contains(t, body, "Documents")
	_, body, _ = rona.post("/me/password", url.Values{"was": {"neap tides too"}, "new": {"spring tides then"}, "again": {"spring tides than"}})
	assert.Contains(t, body, "are not the same")
	_, body, _ = rona.post("/me/password", url.Values{"was": {"neap tides too"}, "new": {"spring tides then"}, "again": {"spring tides then"}})
	assert.Contains(t, body, "Your password was changed")
	// Removed, she is signed out at once.
	code, body, _ = isla.post("/people/2/remove", url.Values{"heir": {"1"}})
	require.Equal(t, http.StatusOK, code, body)
	_, body = rona.get("/documents")
	assert.Contains(t, body, "Sign in")
	_, body = isla.get("/people/record?words=Rona")
	for _, what := range []string{"invited", "joined", "signed in", "password changed", "sessions ended", "person removed"} {
		assert.Contains(t, body, "<td>"+what+"</td>")
	}
	code, csv, h := isla.send(http.MethodGet, "/people/record/export?what=joined", "", nil)
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, h.Get("Content-Type"), "text/csv")
	assert.Contains(t, csv, "Rona Skerry,joined")
}
