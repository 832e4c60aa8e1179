package web

import (
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
)

// TestOtherJobs does what the story does not: the finder, bringing pages in, numbers that go
// stale and are asked about, names, taking away and back, the key map.
func TestOtherJobs(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	c.bring("Pile inspection.pdf", pdftest.Text(4))
	c.bring("Berth tariffs.pdf", pdftest.Text(5))
	o.openBrowser()
	o.signIn()

	// A document is found by typing, and opened with Enter.
	o.press('/')
	require.Equal(t, "finder-field", o.page.MustEval(`() => document.activeElement.id`).Str())
	o.page.MustElement("#finder-field").MustInput("tariff")
	o.page.MustElement("#finder-hits [aria-selected=true]")
	o.press(input.Enter)
	o.page.MustElement("body.desk")
	assert.Equal(t, "Berth tariffs", *o.page.MustElement("#swap").MustAttribute("data-name"))
	// An action is found by a word that people use for it.
	o.press('/')
	o.page.MustElement("#finder-field").MustInput("footer")
	o.wait(`() => document.querySelector("#finder-hits [aria-selected=true]")?.textContent.includes("Number the pages")`)
	o.shot("finder")
	o.press(input.Enter)
	o.page.MustElement(".station-furnish")
	o.wait(`() => document.querySelector("[data-outcome]")?.textContent === "Number 4 pages"`)
	// A senseless value is told at once, and the button waits.
	o.page.MustElement(`#number-form input[name="size"]`).MustSelectAllText().MustInput("huge")
	o.wait(`() => document.querySelector("input[name=size] + .field-wrong")?.textContent.includes("is not a length") && document.querySelector("[data-outcome]").disabled`)
	o.page.MustElement(`#number-form input[name="size"]`).MustSelectAllText().MustInput("1p")
	o.wait(`() => !document.querySelector("[data-outcome]").disabled`)
	o.click("[data-outcome]")
	o.says("4 pages numbered at the bottom.")

	// Pages of another document are brought in: seen first, then there.
	o.press('1')
	o.page.MustElement(".station-collect")
	o.page.MustElement(`#insert-form select`).MustSelect("Pile inspection (4 pages)")
	o.page.MustElement(`#insert-form input[name="pages"]`).MustSelectAllText().MustInput("2-3")
	o.page.MustElement(`#insert-form input[name="to"]`).MustInput("2")
	o.wait(`() => document.querySelector("[data-outcome]").textContent === "Insert 2 pages" && document.getElementById("paper-picture").src.startsWith("blob:")`)
	o.shot("collect")
	o.click("[data-outcome]")
	o.says("Pages 2 and 3 of “Pile inspection” inserted before page 2.")
	require.Len(t, o.pageKeys(), 7)
	assert.Contains(t, o.text("#message"), "update them before you export")
	assert.Contains(t, o.text(".way"), "Finish 1 open")

	// Handing out asks about the numbers that are wrong now.
	o.press('6')
	o.page.MustElement("#out-form")
	o.click("#out-form .btn-primary")
	o.page.MustElement(".asks")
	o.shot("release-asks")
	assert.Contains(t, o.text(".asks"), "Page numbers are out of date")
	o.click(`.asks button[name="update"]`)
	o.page.MustElement(".written")
	assert.Contains(t, o.text(".trail"), "Page numbers updated on")
	file := o.fetch(*o.page.MustElement(".written a.btn-primary").MustAttribute("href"))
	assert.Equal(t, []string{"Page 1", "Page 2 2 of 7", "Page 3 3 of 7", "Page 2 4 of 7", "Page 3 5 of 7", "Page 4 6 of 7", "Page 5 7 of 7"}, pdftest.PageTexts(t, file))

	// The keys are told, and a page is gone to by its number.
	o.press('?')
	o.page.MustElement("#keys[open]")
	o.shot("keys")
	o.press(input.Escape)
	o.press('2')
	o.page.MustElement(".station-arrange")
	o.press('/')
	o.page.MustElement("#finder-field").MustInput("6")
	o.wait(`() => document.querySelector("#finder-hits [aria-selected=true]")?.textContent.includes("Go to page 6")`)
	o.press(input.Enter)
	o.wait(`() => document.querySelector(".leaf.cursor")?.dataset.index === "5"`)

	// A page set is chosen by writing it, moved by writing the place, and gone back from.
	before := o.pageKeys()
	o.page.MustElement("#set").MustSelectAllText().MustInput("6-last")
	assert.Equal(t, "2 pages selected", o.text("#selected-title"))
	o.page.MustElement("#move-to").MustInput("1")
	o.click("#move-form button")
	o.says("Pages 6 and 7 moved before page 1.")
	after := o.pageKeys()
	assert.Equal(t, []string{before[5], before[6], before[0]}, after[:3])
	o.click("#message button")
	o.says("Undone:")
	assert.Equal(t, before, o.pageKeys())

	// A document is renamed, removed and brought back.
	o.go_("/documents")
	o.click(`button[aria-label="Rename Pile inspection"]`)
	o.page.MustElement(".name-form input").MustSelectAllText().MustInput("Pile inspection, north face")
	o.press(input.Enter)
	o.says("Renamed to “Pile inspection, north face”.")
	o.click(`tr[data-name="Pile inspection, north face"] input`)
	o.click("#tray-bin")
	o.says("1 document deleted to the Bin.")
	require.Len(t, o.page.MustElements("#document-table tbody tr"), 1)
	o.click("#message button")
	o.says("1 document restored.")
	require.Len(t, o.page.MustElements("#document-table tbody tr"), 2)

	// Signing out ends it.
	o.click("details.me summary")
	o.click(`form[action="/leave"] button`)
	o.page.MustElement("#password")
	o.go_("/documents")
	o.page.MustElement("#password")
}

// TestKeyboardAlone puts the main job through without a pointer.
func TestKeyboardAlone(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	c.bring("B.pdf", pdftest.Text(2))
	c.bring("A.pdf", pdftest.Text(3))
	o.openBrowser()
	o.go_("/enter")
	o.page.MustInsertText("isla")
	o.press(input.Tab)
	o.page.MustInsertText(demo.Password)
	o.press(input.Enter)
	o.page.MustElement("body.documents")
	tabTo := func(selector string) {
		t.Helper()
		for range 60 {
			if o.page.MustEval(`(s) => document.activeElement.matches(s)`, selector).Bool() {
				return
			}
			o.press(input.Tab)
		}
		t.Fatalf("Tab does not lead to %s", selector)
	}
	tabTo(`tr[data-name="A"] input`)
	o.press(input.Space)
	tabTo(`tr[data-name="B"] input`)
	o.press(input.Space)
	tabTo("#tray-gather")
	o.press(input.Enter)
	o.wait(`() => document.activeElement.id === "tray-combine"`)
	o.press(input.Enter)
	o.page.MustElement("body.desk")
	o.page.MustElement(".leaf")
	o.press(input.ArrowRight, input.Space)
	o.ctrl('x')
	o.press(input.End)
	o.ready()
	require.NoError(t, o.page.Keyboard.Press(input.ShiftLeft))
	o.ctrl('v')
	require.NoError(t, o.page.Keyboard.Release(input.ShiftLeft))
	o.says("Page 2 moved to the end.")
	o.press(input.Escape, input.Home, input.Space, 'l', input.Enter)
	o.says("Page 1 rotated left.")
	o.press(input.Escape, input.ArrowRight, input.Space, input.Delete)
	o.says("Page 2 removed.")
	require.Len(t, o.pageKeys(), 4)
	o.press('4')
	o.page.MustElement(".station-furnish")
	tabTo(`[data-outcome]:not(:disabled)`)
	o.press(input.Enter)
	o.says("3 pages numbered at the bottom.")
	o.press('6')
	o.page.MustElement("#out-form")
	tabTo("#out-form .btn-primary")
	o.press(input.Enter)
	o.page.MustElement(".written")
}

// Removing pages offers to let their headings go only where there may be some, tells those that stay, and does as it is told.
func TestHeadingsOfRemovedPages(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Outlines 5 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2/MediaBox[0 0 300 300]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("<</First 6 0 R/Last 6 0 R/Count 2>>")
	f.Add("<</Title(Dredging)/Parent 5 0 R/First 7 0 R/Last 7 0 R/Count 1/Dest[3 0 R/Fit]>>")
	f.Add("<</Title(Outer basin)/Parent 6 0 R/Dest[4 0 R/Fit]>>")
	plain, headed := c.bring("plain.pdf", pdftest.Text(2)), c.bring("headed.pdf", f.Bytes())
	offers := func(id string) bool {
		code, body := c.get("/desk/" + id + "/arrange")
		require.Equal(t, http.StatusOK, code)
		return strings.Contains(body, `name="headings"`)
	}
	assert.False(t, offers(plain))
	assert.True(t, offers(headed))
	remove := func(what string) string {
		state, request := c.seen(headed)
		code, body, _ := c.post("/desk/"+headed+"/do/remove", url.Values{"_seen": {state}, "_request": {request}, "_place": {"arrange"}, "pages": {"0.1"}, "headings": {what}}, "HX-Request", "true")
		require.Equal(t, http.StatusOK, code)
		return body
	}
	assert.True(t, strings.Contains(remove("keep"), "“Dredging”"), "it is told what stays")
	state, request := c.seen(headed)
	code, _, _ := c.post("/desk/"+headed+"/undo", url.Values{"_seen": {state}, "_request": {request}, "_place": {"arrange"}}, "HX-Request", "true")
	require.Equal(t, http.StatusOK, code)
	assert.False(t, strings.Contains(remove("remove"), "“Dredging”"))
	assert.NotContains(t, pdftest.Tool(t, c.handOut(t, headed), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-"), "Dredging")
}
