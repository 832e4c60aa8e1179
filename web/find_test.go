package web

import (
	"bytes"
	"fmt"
	"image"
	"image/jpeg"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/web/station"
)

// columns makes a document of four pages in two columns in which "breakwater" stands 40 times, often parted at the end of a line, twice of
// one column and the next. The first paragraph of each page is given.
func columns() (data []byte, first string) {
	var f pdftest.File
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Count 4/Kids[4 0 R 6 0 R 8 0 R 10 0 R]>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	for i := range 4 {
		f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents %d 0 R/Resources<</Font<</F 3 0 R>>>>>>", 5+2*i)
		var b strings.Builder
		put := func(x, y float64, line string) { fmt.Fprintf(&b, "BT /F 10 Tf %g %g Td (%s) Tj ET\n", x, y, line) }
		for c := range 2 {
			y := 780.0
			for range 2 {
				for _, line := range []string{"The lights on the breakwater are seen to by the", "harbour master, who keeps the key of the break-",
					"water stores and lends it to nobody at all."} {
					put(60+float64(c)*260, y, line)
					y -= 13
				}
				y -= 12
			}
			put(60+float64(c)*260, y, "Vessels keep off the breakwater.")
		}
		f.Add("%s", pdftest.Stream("", b.String()))
	}
	return f.Bytes(), "The lights on the breakwater are seen to by the harbour master, who keeps the key of the breakwater stores and lends it to nobody at all."
}

// TestFind looks for a word over hyphens and columns, goes through the hits by keys, takes a paragraph, copies it and pastes it
// into a field, highlights it and takes that back.
func TestFind(t *testing.T) {
	alone(t)
	o := openOffice(t, true)
	c := o.client()
	c.signIn("isla")
	data, paragraph := columns()
	id := c.bring("Breakwater notes.pdf", data)
	o.openBrowser()
	require.NoError(t, proto.BrowserGrantPermissions{Permissions: []proto.BrowserPermissionType{"clipboardReadWrite", "clipboardSanitizedWrite"},
		Origin: o.http.URL}.Call(o.browser))
	o.signIn()
	o.go_("/desk/" + id + "/review")
	o.ready()
	require.NoError(t, o.page.Keyboard.Press(input.ControlLeft))
	o.press('f')
	require.NoError(t, o.page.Keyboard.Release(input.ControlLeft))
	require.Equal(t, "finder-field", o.page.MustEval(`() => document.activeElement.id`).Str())
	o.page.MustElement("#finder-field").MustInput("breakwater")
	o.wait(`() => document.getElementById("find-said").textContent === "40 matches on 4 pages"`)
	o.shot("find")
	assert.Equal(t, 40, o.page.MustEval(`() => document.querySelectorAll("#finder-hits [data-page]").length`).Int())
	o.press(input.Enter)
	o.wait(`() => document.getElementById("found-where").textContent.includes("match 1 of 40") && document.activeElement.id === "view"`)
	o.wait(`() => document.querySelectorAll("#paper-layer .hit").length === 14 && document.querySelectorAll(".hit-note").length > 5`)
	assert.Equal(t, 4, o.page.MustEval(`() => document.querySelectorAll(".leaf-hits").length`).Int(), "marked in the ribbon")
	for range 10 {
		o.press('n')
	}
	o.wait(`() => document.getElementById("found-where").textContent.includes("match 11 of 40") && new URL(location.href).searchParams.get("page") === "0.2"`)
	o.press('N')
	o.wait(`() => document.getElementById("found-where").textContent.includes("match 10 of 40") && new URL(location.href).searchParams.get("page") === "0.1"`)

	// Ways of looking.
	o.press('/')
	o.click(`#find-ways input[name="case"]`)
	o.page.MustElement("#finder-field").MustSelectAllText().MustInput("Breakwater")
	o.wait(`() => document.getElementById("find-said").textContent === "No matches in this document"`)
	o.click(`#find-ways input[name="case"]`)
	o.click(`#find-ways input[name="pattern"]`)
	o.page.MustElement("#finder-field").MustSelectAllText().MustInput("break(ers|water) (stores|are)")
	o.wait(`() => document.getElementById("find-said").textContent === "32 matches on 4 pages"`)
	o.page.MustElement("#finder-field").MustSelectAllText().MustInput("break(")
	o.wait(`() => document.getElementById("find-said").textContent.includes("isn’t valid")`)
	o.click(`#find-ways input[name="pattern"]`)
	o.page.MustElement("#finder-field").MustSelectAllText().MustInput("breakwater")
	o.wait(`() => document.getElementById("find-said").textContent === "40 matches on 4 pages"`)
	o.press(input.Escape)

	// A paragraph is taken, copied, and pasted into a field.
	o.click("#view")
	o.wait(`() => document.getElementById("paper").dataset.read === "0.1"`)
	o.page.MustEval(`() => document.getElementById("view").focus()`)
	o.press('g', 'g')
	require.Equal(t, "paragraph", o.page.MustElement("#grain").MustProperty("value").Str())
	o.press(input.ArrowDown)
	o.wait(`() => document.getElementById("taken-count").textContent === "27 words of page 1"`)
	o.shot("review")
	o.ctrl('c')
	o.wait(`() => document.getElementById("taken-count").textContent === "Copied."`)
	o.press('/')
	o.page.MustElement("#finder-field").MustSelectAllText()
	o.ready()
	require.NoError(t, o.page.Keyboard.Press(input.ControlLeft))
	o.press('v')
	require.NoError(t, o.page.Keyboard.Release(input.ControlLeft))
	o.wait(`(text) => document.getElementById("finder-field").value === text`, paragraph)
	o.press(input.Escape)

	// With the pointer: drawn over the last line of the first column.
	o.page.MustElement("#grain").MustSelect("line")
	at := o.page.MustElement("#paper").MustShape().Box()
	scale := at.Width / 595
	o.page.Mouse.MustMoveTo(at.X+80*scale, at.Y+(842-684)*scale)
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	o.page.Mouse.MustMoveTo(at.X+90*scale, at.Y+(842-684)*scale)
	o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
	o.wait(`() => document.getElementById("taken-text").textContent === "Vessels keep off the breakwater."`)
	o.page.MustElement(`#mark-form select[name="how"]`).MustSelect("Underline")
	o.click("#mark-do")
	o.says("“Vessels keep off the breakwater.” underlined on page 1.")
	o.wait(`() => document.querySelector(".marks li")?.textContent.includes("underlined by Isla Merrow")`)
	assert.Contains(t, pdftest.Tool(t, c.handOut(t, id), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-"), "/Underline")

	// Highlighted, changed and taken off again.
	o.press('g')
	o.page.MustEval(`() => document.getElementById("view").focus()`)
	o.wait(`() => document.getElementById("paper").dataset.read === "0.1"`)
	o.press(input.ArrowDown)
	o.wait(`() => document.getElementById("taken-count").textContent.includes("words of page 1")`)
	o.press('m')
	o.says("highlighted on page 1.")
	o.wait(`() => document.querySelectorAll(".marks li").length === 2`)
	o.shot("marked")
	o.page.MustEval(`() => { document.querySelectorAll(".marks li")[1].querySelector("details").open = true }`)
	o.page.MustElements(".marks li")[1].MustElement(`select[name="colour"]`).MustSelect("sky")
	o.page.MustElements(".marks li")[1].MustElement(`form[hx-post$="mark-change"] button`).MustClick()
	o.says("A mark changed on page 1.")
	o.wait(`() => document.querySelectorAll(".marks li .swatch")[1]?.dataset.colour === "#b5d9f2"`)
	o.page.MustEval(`() => { document.querySelectorAll(".marks li")[1].querySelector("details").open = true }`)
	o.page.MustElements(".marks li")[1].MustElement(`form[hx-post$="mark-remove"] button`).MustClick()
	o.says("A mark removed on page 1.")
	o.wait(`() => document.querySelectorAll(".marks li").length === 1`)
	o.ctrl('z', 'z')
	o.wait(`() => document.querySelectorAll(".marks li").length === 2`)

	o.go_("/desk/" + id + "/review")
	o.wait(`() => document.querySelectorAll(".marks .swatch").length === 2 && [...document.querySelectorAll(".marks .swatch")].every((s) => s.style.background !== "")`)

	// From a station without a page, a hit leads to Review.
	o.go_("/desk/" + id + "/arrange")
	o.page.MustElement(".leaf")
	o.press('/')
	o.wait(`(text) => document.getElementById("finder-field").value === text`, paragraph)
	o.page.MustElement("#finder-field").MustSelectAllText().MustInput("breakwater")
	o.wait(`() => document.querySelectorAll("#finder-hits [data-page]").length === 40`)
	o.page.MustEval(`() => document.querySelectorAll("#finder-hits [data-page]")[12].click()`)
	o.page.MustElement(".station-review")
	o.wait(`() => document.getElementById("found-where").textContent.includes("match 13 of 40") && new URL(location.href).searchParams.get("page") === "0.2"`)

	// All documents.
	o.go_("/documents")
	o.page.MustElement("#finder-field").MustInput("breakwater stores")
	o.wait(`() => document.querySelector("#finder-hits .hit-line")?.textContent.includes("breakwater stores")`)
	o.shot("search")
	o.go_("/documents/text?" + url.Values{"q": {"harbour master"}}.Encode())
	require.Eventually(t, func() bool {
		o.go_("/documents/text?" + url.Values{"q": {"harbour master"}}.Encode())
		return len(o.page.MustElements("tbody tr")) > 10
	}, 20*time.Second, 300*time.Millisecond, "the demo's documents are read in the background")
	o.shot("search-all")
	o.page.MustElement(`tbody a[href*="find="]`).MustClick()
	o.page.MustElement(".station-review")
	o.wait(`() => document.getElementById("found-where").textContent.includes("harbour master") && !!document.querySelector("#paper-layer .hit")`)
}

// A page without text says so where text would be taken.
func TestPageWithoutText(t *testing.T) {
	alone(t)
	o, id := openDocument(t, "Photograph.jpg", photograph(t))
	o.go_("/desk/" + id + "/review")
	o.wait(`() => document.getElementById("paper").dataset.read === "0.1" && !document.getElementById("no-text").hidden`)
	o.press('/')
	o.page.MustElement("#finder-field").MustInput("berth")
	o.wait(`() => document.getElementById("find-said").textContent === "No matches in this document; 1 page has no text and was not searched"`)
}

func photograph(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 60, 40)), nil))
	return b.Bytes()
}

// What is asked for wrongly is answered in a sentence.
func TestTextAnswers(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	data, _ := columns()
	id := c.bring("Notes.pdf", data)
	for path, want := range map[string]int{
		"/desk/" + id + "/find?q=":                            http.StatusUnprocessableEntity,
		"/desk/" + id + "/find?q=(&pattern=yes":               http.StatusUnprocessableEntity,
		"/desk/" + id + "/find?q=" + strings.Repeat("a", 600): http.StatusUnprocessableEntity,
		"/desk/" + id + "/find?q=harbour":                     http.StatusOK,
		"/desk/" + id + "/hits/0.1?q=harbour":                 http.StatusOK,
		"/desk/" + id + "/hits/0.9?q=harbour":                 http.StatusNotFound,
		"/desk/" + id + "/words/nothing":                      http.StatusNotFound,
		"/desk/" + id + "/frame/0.1?at=1+2+3":                 http.StatusUnprocessableEntity,
		"/desk/" + id + "/frame/0.1?at=50+50+300+110":         http.StatusOK,
		"/desk/999/find?q=harbour":                            http.StatusNotFound,
		"/documents/text?q=%22":                               http.StatusOK,
	} {
		code, body, _ := c.send(http.MethodGet, path, "", nil, "Sec-Fetch-Dest", "empty")
		assert.Equal(t, want, code, "%s: %s", path, body)
		assert.NotContains(t, body, "panic")
	}
	_, body := c.get("/desk/" + id + "/frame/0.1?at=50+50+300+110")
	assert.True(t, strings.HasPrefix(body, "The lights on the breakwater are seen to by the\nharbour master"), body)
}

// handOut hands a document out as a copy, written anew and as it is, and gives the file.
func (c *client) handOut(t *testing.T, id string) []byte {
	t.Helper()
	state, request := c.seen(id)
	code, body, h := c.post("/desk/"+id+"/out", url.Values{"_seen": {state}, "_request": {request}, "how": {"copy"}, "name": {"Out " + request}, "as-it-is": {"yes"}, "signed": {"no"}}, "HX-Request", "true")
	for code == http.StatusOK && strings.Contains(body, `hx-get="/progress/`) { // it takes longer
		time.Sleep(50 * time.Millisecond)
		code, body, h = c.send(http.MethodGet, regexp.MustCompile(`/progress/\w+`).FindString(body), "", nil, "HX-Request", "true")
	}
	require.Equal(t, http.StatusNoContent, code, body)
	_, body = c.get("/out/" + regexp.MustCompile(`out=(\d+)`).FindStringSubmatch(h.Get("HX-Redirect"))[1])
	return []byte(body)
}

// Places on the page go to the screen and back, however the page is turned, cropped and scaled.
func TestSeenPlaces(t *testing.T) {
	for _, rotate := range []int{0, 90, 180, 270} {
		g := pdf.Geometry{MediaBox: pdf.Rect{X1: 600, Y1: 800}, Visible: pdf.Rect{X0: 20, Y0: 30, X1: 520, Y1: 730}, Rotate: rotate, UserUnit: 2}
		w, h := g.Seen()
		ax, ay := station.SeenPoint(g, 120, 130)
		bx, by := station.SeenPoint(g, 170, 160)
		for _, v := range []float64{ax, bx} {
			assert.True(t, v >= 0 && v <= w, "%v in %v", v, w)
		}
		for _, v := range []float64{ay, by} {
			assert.True(t, v >= 0 && v <= h)
		}
		r := station.InvisibleRect(g, ax, ay, bx, by)
		for i, want := range []float64{120, 130, 170, 160} {
			assert.InDelta(t, want, []float64{r.X0, r.Y0, r.X1, r.Y1}[i], 0.02, rotate)
		}
	}
	x, y := station.SeenPoint(pdf.Geometry{Visible: pdf.Rect{X1: 600, Y1: 800}, UserUnit: 1}, 0, 800)
	assert.Equal(t, [2]float64{}, [2]float64{x, y}, "the upper left corner")
	x, y = station.SeenPoint(pdf.Geometry{Visible: pdf.Rect{X1: 600, Y1: 800}, Rotate: 90, UserUnit: 1}, 0, 0)
	assert.Equal(t, [2]float64{}, [2]float64{x, y}, "of a page that is turned to the right")
}
