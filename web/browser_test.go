package web

import (
	"errors"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/cdp"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/raster"
	"glenrain/demo"
	"glenrain/desk"
	"glenrain/scanner"
	"glenrain/web/shell"
)

func TestMain(m *testing.M) {
	child.Main()
	os.Exit(m.Run())
}

// office is a real server on a data folder, and a browser in front of it.
type office struct {
	t       *testing.T
	dir     string
	desk    *desk.Desk
	http    *httptest.Server
	server  *shell.Server
	browser *rod.Browser
	page    *rod.Page
	rules   scanner.Rules
}

// openOffice starts a server; with papers it has the demo's documents.
func openOffice(t *testing.T, papers bool) *office {
	o := &office{t: t, dir: t.TempDir()}
	o.start()
	if papers {
		_, err := demo.FillPapers(t.Context(), o.desk)
		require.NoError(t, err)
	} else {
		_, err := o.desk.AddPerson(t.Context(), "Isla Merrow", "isla", demo.Password)
		require.NoError(t, err)
	}
	t.Cleanup(o.stop)
	return o
}

func (o *office) start() {
	d, err := desk.Open(o.dir, desk.Options{PDFiumCache: raster.CacheForTests(), Scanners: o.rules})
	require.NoError(o.t, err)
	s, err := New(d, Options{House: demo.House, Log: slog.New(slog.NewTextHandler(o.t.Output(), nil))})
	require.NoError(o.t, err)
	o.desk, o.http, o.server = d, httptest.NewServer(s.Handler()), s
}

func (o *office) stop() {
	o.server.Stop()
	o.http.Close()
	_ = o.desk.Close()
}

// openBrowser starts Chromium with a window of 1280 x 800.
func (o *office) openBrowser() {
	bin := "/usr/bin/chromium"
	if _, err := os.Stat(bin); err != nil {
		o.t.Fatal("the tests of the screens need Chromium (package chromium)")
	}
	var l *launcher.Launcher
	var u string
	var err error
	for range 3 { // Chromium itself now and then dies at its start on a busy machine
		l = launcher.New().Bin(bin).Headless(true).NoSandbox(true).Leakless(false).UserDataDir(o.t.TempDir()).
			Set("disable-gpu").Set("disable-quic").Set("no-first-run").Set("disable-background-networking").Set("disable-dev-shm-usage").
			Set("disable-component-update").Set("disable-sync").Set("window-size", "1280,800").Set("force-prefers-reduced-motion")
		if u, err = l.Launch(); err == nil {
			break
		}
		l.Kill()
	}
	require.NoError(o.t, err)
	o.browser = rod.New().ControlURL(u)
	require.NoError(o.t, o.browser.Connect())
	o.t.Cleanup(func() { _ = o.browser.Close(); l.Kill() })
	page, err := o.browser.Page(proto.TargetCreateTarget{})
	require.NoError(o.t, err)
	o.page = page.Timeout(4 * time.Minute)
	o.page.MustSetViewport(1280, 800, 1, false)
	go o.page.EachEvent(func(e *proto.RuntimeExceptionThrown) {
		o.t.Errorf("a script failed: %s %s", e.ExceptionDetails.Text, e.ExceptionDetails.Exception.Description)
	}, func(e *proto.LogEntryAdded) {
		if e.Entry.Source == proto.LogLogEntrySourceSecurity {
			o.t.Errorf("the page breaks its policy: %s", e.Entry.Text)
		}
	})()
}

func (o *office) go_(path string) {
	o.page.MustNavigate(o.http.URL + path)
	o.page.MustWaitLoad()
}

// openDocument opens an office that has one document, with the browser signed in, and gives the document's id.
func openDocument(t *testing.T, name string, data []byte) (*office, string) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring(name, data)
	o.openBrowser()
	o.signIn()
	return o, id
}

func (o *office) signIn() {
	o.go_("/enter")
	o.page.MustElement("#name").MustInput("isla")
	o.page.MustElement("#password").MustInput(demo.Password)
	wait := o.page.MustWaitNavigation()
	o.page.MustElement("button.btn-primary").MustClick()
	wait()
	o.page.MustElement("body.documents")
}

// shot keeps a picture of the window where GLENRAIN_SHOTS names a folder.
func (o *office) shot(name string) {
	dir := os.Getenv("GLENRAIN_SHOTS")
	if dir == "" {
		return
	}
	o.quiet()
	b := o.page.MustScreenshot()
	require.NoError(o.t, os.WriteFile(filepath.Join(dir, name+".png"), b, 0o644))
}

// quiet waits until pictures have come and nothing is asked for.
func (o *office) quiet() {
	o.page.MustEval(`async () => {
		for (let calm = 0, n = 0; calm < 3 && n < 300; n++) {
			await new Promise(r => setTimeout(r, 60));
			const coming = [...document.images].some(i => !i.complete && i.getAttribute("src") && i.loading !== "lazy");
			calm = coming || document.querySelector(".htmx-request") ? 0 : calm + 1;
		}
	}`)
}

// alone leaves a test that is about what the browser shows out of the run with the race detector (-short), where it takes three times as long.
func alone(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("about what the browser shows")
	}
}

func (o *office) text(selector string) string {
	return strings.Join(strings.Fields(o.page.MustElement(selector).MustText()), " ")
}

// says waits until the message line holds the words.
func (o *office) says(words string) {
	o.t.Helper()
	err := rod.Try(func() {
		o.page.Timeout(40*time.Second).MustWait(`(w) => document.querySelector("#message")?.textContent.includes(w)`, words)
	})
	if err != nil {
		o.t.Fatalf("the page does not say %q but %q", words, o.text("#message"))
	}
}

// wait waits until a condition holds in the page, and says what the page shows when it does not.
func (o *office) wait(js string, args ...any) {
	o.t.Helper()
	o.waitFor(40*time.Second, js, args)
}

// waitLong is wait for what takes long.
func (o *office) waitLong(js string, args ...any) {
	o.t.Helper()
	o.waitFor(2*time.Minute, js, args)
}

// waitFor takes a condition that throws for one that does not hold: while another page is being loaded there may be no body yet.
func (o *office) waitFor(most time.Duration, js string, args []any) {
	o.t.Helper()
	end := time.Now().Add(most)
	for {
		err := rod.Try(func() { o.page.Timeout(time.Until(end)).MustWait(js, args...) })
		if err == nil {
			return
		}
		var threw *rod.EvalError
		var left *cdp.Error // the page that was asked
		if (errors.As(err, &threw) || errors.As(err, &left)) && time.Now().Before(end) {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		o.shot("failed")
		o.t.Fatalf("waited in vain for %s (%v): %.600s", js, err, o.page.MustEval(`() => document.body.innerText`).String())
	}
}

// ready waits until the scripts of the page hear keys and the pointer: a page that was just
// gone to shows its elements before that.
func (o *office) ready() {
	o.t.Helper()
	o.wait(`() => document.body?.dataset.ready === "yes"`)
}

func (o *office) click(selector string) {
	o.t.Helper()
	o.ready()
	for try := 0; ; try++ { // the part of the page that it stands in may be drawn again meanwhile
		err := rod.Try(func() { o.page.Timeout(5 * time.Second).MustElement(selector).MustClick() })
		if err == nil {
			return
		}
		if try == 5 {
			o.shot("failed")
			o.t.Fatalf("%s can't be clicked: %v", selector, err)
		}
	}
}

func (o *office) press(keys ...input.Key) {
	o.t.Helper()
	o.ready()
	for _, k := range keys {
		o.page.Keyboard.MustType(k)
	}
}

// pageKeys gives the keys of the pages, in order, as the desk shows them.
func (o *office) pageKeys() []string {
	var out []string
	for _, v := range o.page.MustEval(`() => JSON.parse(document.getElementById("pages").textContent).map(p => p[0])`).Arr() {
		out = append(out, v.Str())
	}
	return out
}

// leaf gives the place of a page on the board: the middle of its picture.
func (o *office) leaf(index int) proto.Point {
	o.t.Helper()
	return o.at("", index)
}
