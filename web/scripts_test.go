package web

import (
	"fmt"
	"testing"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
	"glenrain/web/station"
)

// listenersOf counts the listeners of an object of the page.
func (o *office) listenersOf(name string) int {
	obj, err := proto.RuntimeEvaluate{Expression: name}.Call(o.page)
	require.NoError(o.t, err)
	got, err := proto.DOMDebuggerGetEventListeners{ObjectID: obj.Result.ObjectID}.Call(o.page)
	require.NoError(o.t, err)
	return len(got.Listeners)
}

// listeners counts all listeners that are alive in the page.
func (o *office) listeners() int {
	require.NoError(o.t, proto.HeapProfilerCollectGarbage{}.Call(o.page))
	got, err := proto.PerformanceGetMetrics{}.Call(o.page)
	require.NoError(o.t, err)
	for _, m := range got.Metrics {
		if m.Name == "JSEventListeners" {
			return int(m.Value)
		}
	}
	o.t.Fatal("the browser counts no listeners")
	return 0
}

// No listener is left behind by what a step took down: on the board, beside a sentence that is previewed, and where text is selected.
func TestListenersDoNotGrow(t *testing.T) {
	alone(t)
	o, id := openDocument(t, "Long.pdf", pdftest.Text(6))
	require.NoError(t, proto.PerformanceEnable{}.Call(o.page))
	rotate := func(n int, place string) { // and undo it, so that the trail and with it the page stay as long
		o.page.MustEval(`async (n, place) => {
			const seen = () => document.getElementById("swap").dataset.seen;
			const act = async (what, values) => {
				const was = seen();
				window.htmx.ajax("POST", "/desk/" + document.getElementById("swap").dataset.doc + what, { target: "#swap", swap: "outerHTML", values: { _seen: was, _place: place, ...values } });
				for (let waited = 0; seen() === was; waited += 10) {
					if (waited > 20000) throw new Error("no answer to " + what);
					await new Promise(r => setTimeout(r, 10));
				}
				await new Promise(r => setTimeout(r, 20)); // the slip is mounted
			};
			for (let i = 0; i < n; i++) {
				await act("/do/rotate", { _request: "r" + Math.random(), pages: "1", by: "90" });
				await act("/undo", {});
			}
		}`, n, place)
		o.quiet()
	}
	for _, place := range []string{"arrange", "furnish", "review"} {
		o.go_("/desk/" + id + "/" + place)
		o.ready()
		rotate(3, place)
		document, window, all := o.listenersOf("document"), o.listenersOf("window"), o.listeners()
		rotate(25, place) // 50 steps
		assert.Equal(t, document, o.listenersOf("document"), "%s: on the document", place)
		assert.Equal(t, window, o.listenersOf("window"), "%s: on the window", place)
		assert.Less(t, o.listeners(), all+10, "%s: in all; one for each step would be 50", place)
		t.Logf("%s: %d listeners on the document, %d on the window, %d in all", place, document, window, all)
	}
}

// A script that does not arrive is missed in words; what else the screen does, it does.
func TestScriptIsMissing(t *testing.T) {
	o, id := openDocument(t, "Long.pdf", pdftest.Text(2))
	router := o.page.HijackRequests()
	require.NoError(t, router.Add("*/arrange/pages.js", "", func(h *rod.Hijack) { h.Response.Fail(proto.NetworkErrorReasonConnectionFailed) }))
	go router.Run()
	o.go_("/desk/" + id + "/arrange")
	o.ready()
	o.says("Part of this screen didn’t load. Reload the page.")
	require.NoError(t, router.Stop())
	o.go_("/desk/" + id + "/arrange")
	o.ready()
	o.page.MustElement(".leaf")
	assert.Empty(t, o.text("#message"))
}

// What the scripts compute by themselves is what the server computes: lengths, and places on a page.
func TestScriptsAgree(t *testing.T) {
	alone(t)
	o, id := openDocument(t, "Long.pdf", pdftest.Text(2))
	o.go_("/desk/" + id + "/furnish")
	for _, text := range []string{"12mm", " 1.5 CM", "0.5in", "9pt", "9", "1p6", "2p", ".5in", "-3mm", "12 mm", "1e2pt"} {
		want, err := step.ParseLength(text)
		require.NoError(t, err, text)
		got := o.page.MustEval(`async (x) => (await import("/static/x/sentence/units.js")).parse(x)`, text).Num()
		assert.InDelta(t, float64(want), got, 1e-9, text)
	}
	for _, text := range []string{"", "mm", "twelve", "12 ells", "p6", "NaN", "Infinity", "1,5mm"} {
		_, err := step.ParseLength(text)
		assert.Error(t, err, text)
		assert.True(t, o.page.MustEval(`async (x) => (await import("/static/x/sentence/units.js")).parse(x) === null`, text).Bool(), text)
	}
	for was, want := range map[string]string{"12mm": "13 mm", "0.5in": "0.55 in", "9": "9.5 pt", "9pt": "9.5 pt", "1cm": "1.1 cm", "1p6": "1p6", "wide": "wide"} {
		assert.Equal(t, want, o.page.MustEval(`async (x) => (await import("/static/x/sentence/units.js")).nudge(x, 1)`, was).Str())
	}
	// A quad of the server's has the bounds that the scripts find, however the page is turned.
	for _, rotate := range []int{0, 90, 180, 270} {
		g := pdf.Geometry{Visible: pdf.Rect{X1: 600, Y1: 800}, Rotate: rotate, UserUnit: 1}
		q := station.Corners(g, [4][2]float64{{100, 200}, {300, 200}, {300, 220}, {100, 220}})
		got := o.page.MustEval(`async (q) => JSON.stringify((await import("/static/x/geometry.js")).bounds(q))`, q).Str()
		b := station.InvisibleRect(g, q[0], q[1], q[4], q[5])
		assert.Equal(t, pdf.Rect{X0: 100, Y0: 200, X1: 300, Y1: 220}, b)
		x0, y0 := min(q[0], q[4]), min(q[1], q[5])
		x1, y1 := max(q[0], q[4]), max(q[1], q[5])
		assert.Equal(t, fmt.Sprintf("[%v,%v,%v,%v]", x0, y0, x1, y1), got)
	}
	geometry := func(js string) string {
		return o.page.MustEval(`async () => { const g = await import("/static/x/geometry.js"); return JSON.stringify(` + js + `); }`).Str()
	}
	assert.Equal(t, "[1,2,5,9]", geometry(`g.frame([5, 2], [1, 9])`))
	assert.Equal(t, "true", geometry(`g.inside([0, 0, 10, 10], [10, 3])`))
	assert.Equal(t, "false", geometry(`g.inside([0, 0, 10, 10], [10.1, 3])`))
	assert.Equal(t, "[0,32]", geometry(`[g.distance([0, 0, 10, 10], [4, 4]), g.distance([0, 0, 10, 10], [12, 20])]`))
	assert.Equal(t, "[5,5]", geometry(`g.middle([0, 0, 10, 0, 10, 10, 0, 10])`))
	assert.Equal(t, "[0,0,20,0,20,10,0,10]", geometry(`g.upTo([0, 0, 8, 0, 8, 10, 0, 10], [20, 0, 30, 0, 30, 10, 20, 10])`))
	assert.Equal(t, "[20,0,28,0,28,10,20,10]", geometry(`g.upTo([20, 0, 28, 0, 28, 10, 20, 10], [0, 0, 8, 0, 8, 10, 0, 10])`), "text from right to left")
	// A4 in 900 x 700 pixels: the whole page by its height, the width by its width, and never over three times its size; the longest side is a multiple of 4.
	for _, how := range []string{`"page"`, `"width"`, "1", "2.5"} {
		long := o.page.MustEval(`async () => (await import("/static/x/geometry.js")).scaled(` + how + `, 595, 842, 900, 700) * 842`).Num()
		assert.InDelta(t, 0, long-4*float64(int(long/4+0.5)), 1e-6, how)
	}
	assert.InDelta(t, 700, o.page.MustEval(`async () => (await import("/static/x/geometry.js")).scaled("page", 595, 842, 900, 700) * 842`).Num(), 4)
	assert.InDelta(t, 900, o.page.MustEval(`async () => (await import("/static/x/geometry.js")).scaled("width", 595, 842, 900, 700) * 595`).Num(), 4)
	assert.InDelta(t, 96.0/72, o.page.MustEval(`async () => (await import("/static/x/geometry.js")).scaled(1, 595, 842, 900, 700)`).Num(), 0.01)
}

// The size of the page is kept for a person and a station, also on another machine.
func TestZoomIsKept(t *testing.T) {
	alone(t)
	o, id := openDocument(t, "Long.pdf", pdftest.Text(2))
	o.go_("/desk/" + id + "/review")
	o.ready()
	o.press('0')
	o.wait(`() => document.getElementById("zoom-page").getAttribute("aria-pressed") === "true"`)
	whole := o.text("#zoom-now")
	o.press('w')
	o.wait(`() => document.getElementById("zoom-width").getAttribute("aria-pressed") === "true"`)
	wide := o.text("#zoom-now")
	assert.NotEqual(t, whole, wide)
	fits := `() => { const v = document.getElementById("view"); const notes = document.getElementById("margin").getBoundingClientRect(); return v.scrollWidth <= v.clientWidth && notes.right <= v.getBoundingClientRect().right; }`
	assert.True(t, o.page.MustEval(fits).Bool(), "the page and its margin notes fit the width")
	require.Eventually(t, func() bool { return o.desk.Choice(t.Context(), 1, "zoom review") == "width" }, 5e9, 2e7)
	o.go_("/desk/" + id + "/furnish")
	o.ready()
	assert.Equal(t, "true", *o.page.MustElement("#zoom-page").MustAttribute("aria-pressed"), "another station has its own")
	o.go_("/desk/" + id + "/review")
	o.ready()
	assert.Equal(t, wide, o.text("#zoom-now"))
	over := o.page.MustEval(`() => { const z = document.querySelector(".zoom").getBoundingClientRect(); const m = document.getElementById("margin").getBoundingClientRect(); return z.left >= m.right; }`).Bool()
	assert.True(t, over, "the zoom covers no margin note")
	c := o.client()
	c.signIn("isla")
	code, _, _ := c.post("/me/keep", map[string][]string{"name": {"zoom nowhere"}, "value": {"1"}}, "Sec-Fetch-Dest", "empty")
	assert.Equal(t, 422, code)
}
