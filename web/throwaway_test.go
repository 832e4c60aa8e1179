package web

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/furnish"
	"glenrain/core/jobs"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/demo"
	"glenrain/desk"
	"glenrain/web/station"
)

// tint is a step of the throw-away station: it fills a band at the top of pages.
type tint struct {
	Pages  step.Pages  `json:"pages" required:"yes" help:"which pages"`
	Height step.Length `json:"height" min:"4" max:"200" help:"of the band"`
	Colour step.Colour `json:"colour" help:"of the band"`
	By     string      `json:"by,omitempty" help:"who tints"`
}

func (s *tint) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := s.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	r, g, b, err := s.Colour.RGB()
	if err != nil {
		return nil, err
	}
	for _, ref := range refs {
		if !env.Wants(ref) {
			continue
		}
		geo := doc.Geometry(ref)
		w, h := geo.Seen()
		var c draw.Content
		c.Op("q").Matrix(draw.Upright(geo)).Op("rg", r, g, b).Op("re", 0.0, h-float64(s.Height), w, float64(s.Height)).Op("f").Op("Q")
		stream := doc.Add(pdf.NewStream(nil, c.Bytes()))
		contents := pdf.Array{doc.Page(ref).Get("Contents"), stream}
		doc.Edit(ref).Set("Contents", contents)
	}
	return &step.Result{Pages: env.Keys.Of(refs), Redrawn: step.RedrawPages, Show: env.Keys.Key(refs[0]), Sentence: step.Count(len(refs), "page") + " tinted by " + s.By}, nil
}

// dredge is a step with long work.
type dredge struct {
	Depth int `json:"depth" min:"1" max:"9" help:"how deep"`
	Done  int `json:"done,omitempty" help:"how deep it was dredged"`

	goOn chan bool
}

func (s *dredge) Work(ctx context.Context, _ *pdf.Document, env *step.Env) error {
	for ; s.Done < s.Depth; s.Done++ {
		env.Report(s.Done, s.Depth)
		select {
		case <-s.goOn:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

func (s *dredge) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	pages, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	doc.Edit(pages[0].Ref).Set("GLRN_Dredged", pdf.Integer(s.Depth))
	return &step.Result{Pages: []step.Key{env.Keys.Key(pages[0].Ref)}, Sentence: fmt.Sprintf("Dredged to %d m", s.Depth)}, nil
}

// throwAway is a station that nobody knows but this test: two jobs, of which the second is slow.
func throwAway() station.Station {
	return station.Station{
		Path: "sound", Name: "Sound", Words: "tint, dredge", Surface: station.Paper,
		Files: fstest.MapFS{
			"tint.html": {Data: []byte(`{{define "slip"}}<h2>Tint</h2>
<form id="tint-form" class="job" data-preview {{do .Doc.ID "tint"}}>{{template "frame-fields" .}}
<p class="sentence">Tint pages <input name="pages" class="in-line" value="{{.View}}" aria-label="Which pages"> over <input name="height" class="in-line" data-unit="mm" value="20mm" aria-label="Height">
in <select name="colour" class="in-line" aria-label="Colour"><option>moss</option><option>ochre</option></select></p>
<p class="go"><button class="btn btn-primary" data-outcome="Tint" id="tint-do">Tint</button></p><p class="help" data-said></p></form>{{end}}`)},
			"tint.js": {Data: []byte(`import { startPreview } from "../sentence/preview.js";
import { answersTo } from "../keys.js";
export function mount({ slip, paper, strip, signal }) {
  const form = slip.querySelector("#tint-form");
  startPreview(form, { paper, strip, signal });
  answersTo("tint", () => form.requestSubmit(), signal);
}`)},
			"dredge.html": {Data: []byte(`{{define "slip"}}<h2>Dredge</h2><form id="dredge-form" {{do .Doc.ID "dredge"}}>{{template "frame-fields" .}}
<p class="sentence">Dredge to <input name="depth" class="in-line narrow" value="3" aria-label="Depth"> m</p><p class="go"><button class="btn btn-primary" id="dredge-do">Dredge</button></p></form>{{end}}`)},
		},
		Jobs: []station.Job{{
			Words: "tint", Slip: "tint.html", Module: "tint.js",
			View: func(v *station.Visit) (any, error) { return fmt.Sprintf("2-%d", v.Snapshot.Document.Pages), nil },
			Steps: []station.Form{{Step: "tint",
				Fill: func(v *station.Visit, s step.Step) error { s.(*tint).By = v.Person.Name; return nil },
				Spot: func(p *desk.Preview) (station.Spot, bool) {
					return station.Spot{X: 4, Y: 4, W: 40, H: 10, Title: "The band", Text: "at the top"}, true
				}}},
			Finds: []station.Find{{Text: "Tint pages", Words: "colour band wash"}},
			Keys:  []station.Key{{Keys: []string{"t"}, Act: "tint", What: "tint"}},
			Fixes: []string{"no-title"},
		}, {
			Path: "dredge", Words: "dredge", Slip: "dredge.html", Steps: []station.Form{{Step: "dredge"}},
			Finds: []station.Find{{Text: "Dredge the document", Words: "deepen"}},
		}},
		Routes: func(r station.Router, h station.Host) {
			r.Get("/sound/echo", func(w http.ResponseWriter, r *http.Request) error {
				return step.Refuse("no echo from %d", station.ID(r, "id"))
			})
		},
	}
}

// openWith starts an office whose desk has the throw-away steps, and those stations besides the house's own.
func openWith(t *testing.T, goOn chan bool, more ...station.Station) *office {
	o := &office{t: t, dir: t.TempDir()}
	kinds := slices.Clone(jobs.Registry().Kinds())
	kinds = append(kinds, step.Kind{Name: "tint", Meaning: "Tints.", New: func() step.Step { return &tint{Height: 20, Colour: "moss"} }},
		step.Kind{Name: "dredge", Title: "Dredge", Slow: true, Meaning: "Dredges.", New: func() step.Step { return &dredge{goOn: goOn} }})
	d, err := desk.Open(o.dir, desk.Options{PDFiumCache: raster.CacheForTests(), Registry: step.NewRegistry(furnish.Hooks(), kinds...)})
	require.NoError(t, err)
	stations := append(Stations()[:2:2], more...)
	stations = append(stations, Stations()[2:]...)
	s, err := New(d, Options{House: demo.House, Stations: stations, Log: slog.New(slog.NewTextHandler(t.Output(), nil))})
	require.NoError(t, err)
	o.desk, o.http, o.server = d, httptest.NewServer(s.Handler()), s
	t.Cleanup(o.stop)
	_, err = d.AddPerson(t.Context(), "Isla Merrow", "isla", demo.Password)
	require.NoError(t, err)
	return o
}

// A station with its jobs is added by its value alone: its form, preview, step, keys, finder words, findings, routes and trail are there.
func TestThrowAwayStation(t *testing.T) {
	alone(t)
	goOn := make(chan bool)
	o := openWith(t, goOn, throwAway())
	c := o.client()
	c.signIn("isla")
	id := c.bring("Soundings.pdf", pdftest.Text(5))
	o.openBrowser()
	o.signIn()

	// The finder knows it, and leads there.
	o.go_("/desk/" + id + "/arrange")
	o.press('/')
	o.page.MustElement("#finder-field").MustInput("wash")
	o.wait(`() => document.querySelector("#finder-hits [aria-selected=true]")?.textContent.includes("Tint pages")`)
	o.press(input.Enter)
	o.page.MustElement(".station-sound")
	// Its jobs are links on the way while one is there, and its trade words elsewhere.
	assert.Equal(t, "tintdredge", o.text(".stop.here ul"))
	assert.Equal(t, "page", *o.page.MustElement(".stop.here ul a:first-child").MustAttribute("aria-current"))
	// The preview: the page that changes first, what is touched, and where it will be.
	o.wait(`() => document.querySelector("[data-outcome]").textContent === "Tint 4 pages" && document.querySelectorAll(".strip .touched").length === 4`)
	o.wait(`() => document.getElementById("paper-picture").src.startsWith("blob:") && document.querySelector("#margin strong")?.textContent === "The band"`)
	assert.Equal(t, "0.2", o.page.MustEval(`() => new URL(location.href).searchParams.get("page")`).Str())
	// A wrong value is told at its field; arrows change a length in its unit.
	o.page.MustElement(`input[name="height"]`).MustSelectAllText().MustInput("400mm")
	o.wait(`() => document.querySelector("input[name=height] + .field-wrong")?.textContent.includes("is too large: 200 pt at most") && document.querySelector("[data-outcome]").disabled`)
	o.page.MustElement(`input[name="height"]`).MustSelectAllText().MustInput("20mm")
	o.press(input.ArrowUp, input.ArrowUp)
	assert.Equal(t, "22 mm", o.page.MustElement(`input[name="height"]`).MustProperty("value").Str())
	o.wait(`() => !document.querySelector(".field-wrong") && !document.querySelector("[data-outcome]").disabled`)
	// The step, by its key; the field that no form has is filled in.
	o.page.MustEval(`() => document.getElementById("view").focus()`)
	o.press('t')
	o.says("4 pages tinted by Isla Merrow.")
	assert.Contains(t, o.text(".trail"), "4 pages tinted by Isla Merrow")
	o.press('?')
	o.page.MustElement("#keys[open]")
	assert.Contains(t, o.text("#keys"), "In Sound T tint")
	o.press(input.Escape)
	// The step's page before and after, and that step undone alone from the trail.
	o.page.MustEval(`() => { const d = document.querySelector(".trail-do"); d.open = true; d.querySelector("button").click(); }`)
	o.page.MustElement("#look[open] figure:nth-child(2) img")
	assert.Contains(t, o.text("#look"), "Before After: page 2")
	o.press(input.Escape)
	o.ctrl('z')
	o.says("Undone: 4 pages tinted by Isla Merrow.")
	// What is said moves nothing.
	top := o.page.MustEval(`() => document.getElementById("view").getBoundingClientRect().top`).Num()
	o.click(".said-close")
	assert.InDelta(t, top, o.page.MustEval(`() => document.getElementById("view").getBoundingClientRect().top`).Num(), 0)
	// The loose end that it mends leads there from Release.
	o.go_("/desk/" + id + "/release")
	assert.Equal(t, "Tint", o.text(`.ends a[href$="/sound"]`), "named by the job that it leads to")
	assert.Contains(t, o.text(`.ends li:has(a[href$="/sound"])`), "The document has no title")
	// A route of its own, and its refusal in words.
	code, body, _ := c.send(http.MethodGet, "/desk/"+id+"/sound/echo", "", nil, "Sec-Fetch-Dest", "empty")
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	assert.Equal(t, "No echo from "+id+".", strings.TrimSpace(body))
	// A template or an unknown file is no static file.
	code, _ = c.get("/static/x/sound/tint.html")
	assert.Equal(t, http.StatusNotFound, code)
}

// A slow step runs in the background with a bar; others see who works on the document and are refused in words; cancelled it leaves the
// document as it was, done it is in the trail.
func TestSlowStepOnScreen(t *testing.T) {
	alone(t)
	goOn := make(chan bool, 9)
	o := openWith(t, goOn, throwAway())
	_, err := o.desk.AddPerson(t.Context(), "Tomas Quill", "tomas", demo.Password)
	require.NoError(t, err)
	c, tomas := o.client(), o.client()
	c.signIn("isla")
	tomas.signIn("tomas")
	id := c.bring("Soundings.pdf", pdftest.Text(3))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/sound/dredge")
	o.click("#dredge-do")
	o.wait(`() => document.querySelector("#message .work .num")?.textContent === "0 of 3"`)
	_, body := tomas.get("/desk/" + id + "/arrange")
	assert.Contains(t, body, "Isla Merrow is running “Dredge” on this document.")
	state, request := tomas.seen(id)
	code, body, _ := tomas.post("/desk/"+id+"/do/rotate", url.Values{"_seen": {state}, "_request": {request}, "_place": {"arrange"}, "pages": {"0.1"}, "by": {"90"}}, "HX-Request", "true")
	assert.Equal(t, http.StatusConflict, code)
	assert.Contains(t, body, "Isla Merrow is running “Dredge”")
	work := regexp.MustCompile(`/progress/(\d+)`).FindString(o.page.MustElement("#message").MustHTML())
	code, _, _ = tomas.post(work+"/cancel", nil, "HX-Request", "true")
	assert.Equal(t, http.StatusNotFound, code, "nobody cancels another's work")
	goOn <- true
	o.wait(`() => document.querySelector("#message .work .num")?.textContent === "1 of 3"`)
	o.shot("slow-step")
	o.click("#message .work button")
	o.says("Cancelled. Nothing was changed.")
	assert.NotContains(t, o.text(".trail"), "Dredged")
	o.click("#dredge-do")
	for range 3 {
		goOn <- true
	}
	o.says("Dredged to 3 m.")
	assert.Contains(t, o.text(".trail"), "Dredged to 3 m")
	assert.Equal(t, 0, o.page.MustEval(`() => document.querySelectorAll(".busy").length`).Int())
	require.Eventually(t, func() bool {
		_, body := tomas.get("/desk/" + id + "/arrange")
		return !strings.Contains(body, "is running")
	}, 5*time.Second, 50*time.Millisecond)
}

// Eight stations, the one that one is in with six jobs, fit a window of 1280 and one of 800 pixels.
func TestWayOfEight(t *testing.T) {
	alone(t)
	files := fstest.MapFS{"slip.html": {Data: []byte(`{{define "slip"}}<h2>Nothing here</h2>{{end}}`)}}
	of := func(path, name, words string, jobs ...string) station.Station {
		s := station.Station{Path: path, Name: name, Words: words, Surface: station.Paper, Files: files}
		for i, j := range jobs {
			s.Jobs = append(s.Jobs, station.Job{Words: j, Slip: "slip.html", Path: map[bool]string{true: "", false: j}[i == 0]})
		}
		return s
	}
	o := openWith(t, nil, of("redact", "Redact", "black out for good", "mark", "words", "patterns", "pictures", "prove", "compare"), of("tag", "Tag", "accessibility", "tags"))
	c := o.client()
	c.signIn("isla")
	id := c.bring("Soundings.pdf", pdftest.Text(3))
	o.openBrowser()
	o.signIn()
	for _, width := range []int{1280, 800} {
		o.page.MustSetViewport(width, 800, 1, false)
		for _, at := range []string{"redact/prove", "collect", "furnish", "arrange/split"} {
			o.go_("/desk/" + id + "/" + at)
			o.ready()
			o.shot(fmt.Sprintf("way-%d-%s", width, strings.ReplaceAll(at, "/", "-")))
			out := o.page.MustEval(`() => {
				const names = [...document.querySelectorAll(".way-name, .stop.here ul a")];
				const cut = names.filter(n => n.getBoundingClientRect().right > innerWidth || n.getBoundingClientRect().left < 0).map(n => n.textContent);
				const boxes = [...document.querySelectorAll(".stop")].map(s => s.getBoundingClientRect());
				const over = boxes.some((b, i) => i && b.left < boxes[i - 1].right - 1);
				const names2 = [...document.querySelectorAll(".way-name")].map(n => n.getBoundingClientRect());
				return JSON.stringify([cut, over, names2.some((b, i) => i && b.left < names2[i - 1].right - 8)]);
			}`).Str()
			assert.Equal(t, `[[],false,false]`, out, "%d %s", width, at)
			if at == "redact/prove" {
				o.accessible(fmt.Sprint("the way of eight at ", width))
			}
		}
	}
}
