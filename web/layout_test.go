package web

import (
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/docs"
	"glenrain/web/help"
)

// zoom reads how large the page is shown, in per cent.
func (o *office) zoom() (n int) {
	o.t.Helper()
	o.wait(`() => /^\d+%$/.test(document.getElementById("zoom-now").textContent)`)
	_, err := fmt.Sscanf(o.text("#zoom-now"), "%d%%", &n)
	require.NoError(o.t, err)
	return n
}

// The page has the room: a whole A4 page at 60 % of its size or more, its width where one reads and writes, and nothing is scrolled sideways.
func TestPageHasTheRoom(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/furnish")
	o.ready()
	assert.GreaterOrEqual(t, o.zoom(), 60)
	for _, at := range []string{"/review", "/edit", "/edit/spelling"} {
		o.go_("/desk/" + id + at)
		o.ready()
		assert.GreaterOrEqual(t, o.zoom(), 85, at)
	}
	for _, size := range [][2]int{{1280, 800}, {800, 600}, {800, 1000}, {390, 844}} {
		o.page.MustSetViewport(size[0], size[1], 1, false)
		for _, at := range []string{"/documents", "/folders", "/desk/" + id + "/arrange", "/desk/" + id + "/edit", "/desk/" + id + "/edit/objects", "/desk/" + id + "/furnish", "/desk/" + id + "/release", "/people", "/people/record", "/settings", "/help"} {
			o.go_(at)
			o.ready()
			assert.LessOrEqual(t, o.page.MustEval(`() => document.documentElement.scrollWidth`).Int(), size[0], "%v %s", size, at)
			if size[1] > 800 { // the other tests look at windows of 1280 by 800
				o.accessible(fmt.Sprint(at, " at ", size[0]))
			}
		}
	}
}

// The wheel goes on to the next page at the end of one, a page a turn, and back.
func TestWheelGoesOn(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Six.pdf", pdftest.Text(6))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/review")
	o.ready()
	box := o.page.MustElement("#view").MustShape().Box()
	o.page.Mouse.MustMoveTo(box.X+box.Width/2, box.Y+box.Height/2)
	turn := func(by float64) {
		time.Sleep(400 * time.Millisecond) // a turn of its own
		require.NoError(t, o.page.Mouse.Scroll(0, by, 1))
	}
	at := func(n int) {
		t.Helper()
		o.wait(`n => document.getElementById("stage-where").textContent.startsWith("Page " + n + " of 6")`, n)
	}
	o.page.MustElement("#zoom-page").MustClick()
	o.page.Mouse.MustMoveTo(box.X+box.Width/2, box.Y+box.Height/2)
	at(1)
	turn(120)
	at(2)
	turn(120)
	at(3)
	turn(-120)
	at(2)
	for range 6 { // larger than the view, it is scrolled to its end first
		o.page.MustElement("#zoom-in").MustClick()
	}
	o.page.Mouse.MustMoveTo(box.X+box.Width/2, box.Y+box.Height/2)
	o.wait(`() => document.getElementById("view").scrollHeight > document.getElementById("view").clientHeight + 50`)
	turn(5000)
	o.wait(`() => { const v = document.getElementById("view"); return v.scrollTop + v.clientHeight >= v.scrollHeight - 1 }`)
	at(2)
	turn(120)
	at(3)
	o.wait(`() => document.getElementById("view").scrollTop === 0`)
}

// On a phone the page comes first: the stations are one list, the settings open from below; one searches and marks text there.
func TestPhone(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.page.MustSetViewport(390, 844, 1, true)
	o.go_("/desk/" + id + "/review")
	o.ready()
	shown := func(css string) bool {
		return o.page.MustEval(`css => { const r = document.querySelector(css).getBoundingClientRect(); return r.width > 0 && r.height > 0 }`, css).Bool()
	}
	assert.False(t, shown("#slip"))
	assert.False(t, shown("#way"))
	paper := o.page.MustElement("#paper").MustShape().Box()
	assert.Greater(t, paper.Width, 330.0, "the page comes first")
	over := o.page.MustEval(`() => [...document.querySelectorAll(".bar *:not(.visually-hidden)")].filter(a => a.checkVisibility()).filter(a => a.getBoundingClientRect().bottom > document.querySelector(".way-open").getBoundingClientRect().top + 1).map(a => a.outerHTML.slice(0, 90)).join("\n")`).Str()
	assert.Empty(t, over, "the head lies over nothing")

	o.click(".side-open")
	o.wait(`() => document.querySelector(".side-open").getAttribute("aria-expanded") === "true"`)
	assert.True(t, shown("#slip"))
	o.accessible("settings on a phone")
	o.click(".side-open")
	assert.False(t, shown("#slip"))

	o.click(".way-open")
	assert.True(t, shown("#way"))
	o.accessible("stations on a phone")
	o.click(`.way-to[href*="/release"]`)
	o.wait(`() => location.pathname.endsWith("/release")`)
	o.go_("/desk/" + id + "/review")
	o.ready()

	o.page.MustElement("#finder-field").MustClick()
	o.page.MustInsertText("dredged")
	o.wait(`() => document.querySelector("#finder-hits")?.innerText.includes("dredged")`)
	o.press(input.Enter)
	o.wait(`() => document.querySelectorAll("#paper-layer .hit").length > 0`)
	o.press(input.Escape)
	o.page.MustEval(`() => document.getElementById("view").focus()`)
	o.hold(input.ShiftLeft, func() { o.press(input.ArrowRight, input.ArrowRight) })
	o.press('m')
	o.wait(`() => document.querySelector("#message").innerText.toLowerCase().includes("highlight")`)
	assert.True(t, shown("#message .said"), "what was done is said over the page")
}

// Each job says how it is done: from its settings, from the search field, and each address in the text is one that there is.
func TestHowTo(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/arrange/split")
	assert.Equal(t, "/help/arrange/split", *o.page.MustElement("#slip .how").MustAttribute("href"))
	o.go_("/help/arrange/split")
	o.wait(`() => location.hash === "#split-a-document"`)
	assert.Contains(t, o.text(".how-job:target"), "every few pages")
	o.press('/')
	o.page.MustInsertText("booklet")
	o.wait(`() => document.querySelector("#finder-hits").innerText.includes("Print several pages on a sheet, or a booklet")`)
	o.page.MustElementR("#finder-hits a", "Print several pages").MustClick()
	o.wait(`() => location.hash === "#print-several-pages-on-a-sheet-or-a-booklet"`)

	c := o.client()
	c.signIn("isla")
	for _, m := range regexp.MustCompile(`<!-- (\S+) -->`).FindAllStringSubmatch(docs.Howto, -1) {
		at := "/desk/" + id + "/" + m[1]
		if m[1] == "documents" {
			at = "/documents"
		}
		code, _, _ := c.send(http.MethodGet, at, "", http.NoBody)
		assert.Equal(t, http.StatusOK, code, at)
	}
	for _, st := range Stations() {
		for _, j := range st.Jobs {
			assert.NotEmpty(t, help.Anchor(strings.TrimSuffix(st.Path+"/"+j.Path, "/")), "%s/%s has no how-to", st.Path, j.Path)
		}
	}
}

// Whoever has no documents is told how to begin.
func TestEmptyDocuments(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	o.openBrowser()
	o.signIn()
	assert.Equal(t, 3, o.page.MustEval(`() => document.querySelectorAll(".begin li").length`).Int())
	o.accessible("no documents")
}
