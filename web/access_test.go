package web

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
	"glenrain/desk"
)

// accessible holds the page that is shown against axe-core's rules for WCAG 2.2 A and AA.
func (o *office) accessible(name string) {
	o.t.Helper()
	o.quiet()
	axe, err := os.ReadFile("testdata/axe.min.js")
	require.NoError(o.t, err)
	_, err = o.page.Eval(`() => { if (!window.axe) { ` + string(axe) + ` } }`)
	require.NoError(o.t, err)
	out := o.page.MustEval(`async () => {
		const r = await window.axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] });
		return JSON.stringify(r.violations.map(v => ({ id: v.id, help: v.help, at: v.nodes.map(n => n.target.join(" ") + ": " + n.failureSummary) })));
	}`).Str()
	var found []struct {
		ID, Help string
		At       []string
	}
	require.NoError(o.t, json.Unmarshal([]byte(out), &found))
	for _, f := range found {
		o.t.Errorf("%s: %s (%s)\n%s", name, f.ID, f.Help, fmt.Sprintln(f.At))
	}
}

// TestAccessible looks at every screen with axe-core.
func TestAccessible(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	c.bring("Pile inspection.pdf", pdftest.Text(4))
	id := c.bring("Berth tariffs.pdf", pdftest.Text(5))
	o.openBrowser()
	o.go_("/enter")
	o.accessible("sign-in")
	o.signIn()
	o.accessible("documents")
	o.click(`#document-table tbody tr input`)
	o.accessible("documents, one chosen")
	o.go_("/documents/out")
	o.accessible("handed out")
	o.go_("/documents/bin")
	o.accessible("removed")
	o.go_("/desk/" + id + "/arrange")
	o.page.MustElement(".leaf")
	o.accessible("arrange")
	o.press(input.ArrowRight, input.Space)
	o.accessible("arrange, one chosen")
	o.press('r')
	o.page.MustElement(".leaf .as")
	o.accessible("arrange, turning")
	o.press(input.Enter)
	o.says("rotated right")
	o.accessible("arrange, done")
	o.go_("/desk/" + id + "/furnish")
	o.wait(`() => document.querySelector("[data-outcome]")?.textContent === "Number 4 pages"`)
	o.accessible("furnish")
	o.click("[data-outcome]")
	o.says("4 pages numbered")
	o.accessible("furnish, numbered")
	o.go_("/desk/" + id + "/collect")
	o.accessible("collect")
	o.go_("/desk/" + id + "/review")
	o.wait(`() => document.getElementById("paper").dataset.read === "0.1"`)
	o.accessible("review")
	o.page.MustEval(`() => document.getElementById("view").focus()`)
	o.press(input.ArrowDown, 'm')
	o.says("highlighted on page 1")
	o.page.MustElement(".marks li")
	o.press('/')
	o.page.MustElement("#finder-field").MustInput("page")
	o.wait(`() => document.getElementById("find-said").textContent.includes("matches on")`)
	o.accessible("find")
	o.page.MustEval(`() => document.querySelector("#finder-hits a[data-page]").click()`)
	o.wait(`() => !document.getElementById("found").hidden && !!document.querySelector(".hit-note")`)
	o.page.MustEval(`() => { document.querySelector(".marks details").open = true }`)
	o.accessible("review, marked and found")
	o.go_("/documents/text?q=page")
	o.accessible("search")
	o.go_("/desk/" + id + "/release")
	o.accessible("release")
	o.click("#out-form .btn-primary")
	o.page.MustElement(".written")
	o.accessible("handed out, told")
	o.press('?')
	o.page.MustElement("#keys[open]")
	o.accessible("keys")
	o.press(input.Escape, 'e')
	o.page.MustElement("#reader:not([hidden]) img")
	o.accessible("reader's view")
}

// TestPeopleScreens goes through the administrator's screens with the mouse and the keys, and looks at each with axe-core.
func TestPeopleScreens(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	_, err := o.desk.AddPersonAs(t.Context(), desk.Reader, "Rona Skerry", "rona", demo.Password)
	require.NoError(t, err)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Licence.pdf", pdftest.Text(2))
	o.openBrowser()
	o.signIn()
	o.go_("/people")
	o.page.MustElement("input[name=for]").MustInput("Petra Holm")
	o.press(input.Enter)
	o.page.MustElement("#one-time")
	o.accessible("people, invited")
	o.go_("/people/2")
	o.page.MustEval(`() => { document.querySelector(".danger").open = true }`)
	o.accessible("a person")
	o.page.MustElement("select[name=role]").MustSelect("member")
	o.click(`form[action$="/role"] button`)
	o.says("Role changed to member")
	o.go_("/people/record?what=role")
	assert.Contains(t, o.text("main"), "Rona Skerry is member, was reader")
	o.accessible("activity log")
	o.go_("/me")
	o.accessible("your account")
	// A folder for selected people, a document moved into it by the tray.
	o.go_("/folders")
	o.page.MustElement("input[name=name]").MustInput("Licences")
	o.press(input.Enter)
	o.says("Folder “Licences” created")
	o.page.MustEval(`() => document.querySelectorAll("main details").forEach(d => { d.open = true })`)
	o.accessible("folders")
	form := `form[action="/folders/2"] `
	o.click(form + `input[value=chosen]`)
	o.click(form + `button`)
	o.says("Only the selected people")
	o.go_("/documents")
	o.click(`#document-table tbody tr input`)
	o.page.MustElement("#tray-to").MustSelect("Licences")
	o.click(`#tray button[hx-post="/documents/move"]`)
	o.says("1 document moved to “Licences”")
	o.accessible("documents, moved")
	rona := o.client()
	code, _, _ := rona.post("/enter", url.Values{"name": {"rona"}, "password": {demo.Password}})
	require.Equal(t, http.StatusOK, code)
	code, _ = rona.get("/desk/" + id + "/arrange")
	assert.Equal(t, http.StatusNotFound, code)
	// Passed on, it is there.
	o.click(`button[title="Access"]`)
	o.page.MustElement(".seers select")
	o.accessible("who sees it")
	o.click(".seers form button")
	o.wait(`() => document.querySelector(".seers p").textContent.includes("shared with")`)
	code, _ = rona.get("/desk/" + id + "/arrange")
	assert.Equal(t, http.StatusOK, code)
	// In the Bin it can be purged, and is gone.
	o.go_("/documents")
	o.click(`#document-table tbody tr input`)
	o.click("#tray-bin")
	o.says("deleted to the Bin")
	o.go_("/documents/bin")
	o.page.MustEval(`() => { document.querySelector(".danger").open = true }`)
	o.accessible("the Bin")
	o.click(".danger button")
	o.says("deleted for good")
	code, _ = c.get("/desk/" + id + "/arrange")
	assert.Equal(t, http.StatusNotFound, code)
}
