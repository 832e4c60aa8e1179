package web

import (
	"encoding/json"
	"fmt"
	"os"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
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
	if testing.Short() {
		t.Skip("it takes its time")
	}
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
	o.accessible("taken away")
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
