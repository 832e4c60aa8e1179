package web

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

// TestLooks walks the main views of the demo and keeps a picture of each, where
// GLENRAIN_SHOTS names a folder.
func TestLooks(t *testing.T) {
	if os.Getenv("GLENRAIN_SHOTS") == "" {
		t.Skip("pictures are made by make shots")
	}
	o := openOffice(t, true)
	o.openBrowser()
	o.go_("/enter")
	o.shot("sign-in")
	o.signIn()
	o.click(`tr[data-name="Mooring licence, signed"] [data-about]`)
	o.page.MustElement("tr.about dl")
	o.page.MustEval(`() => document.querySelector("main").scrollTo(0, 240)`)
	o.shot("documents")
	for _, name := range []string{"Knuckle at low water", "Ladder 14", "Trust mark"} {
		o.click(`tr[data-name="` + name + `"] input`)
	}
	o.click("#tray-pictures")
	o.page.MustElement("[name=paper]").MustSelect("of A4 paper")
	o.wait(`() => document.getElementById("placed").textContent.includes("6 mm white above and below")`)
	o.go_("/documents")
	for _, name := range []string{"Letter to berth holders", "Tide table 2027", "Quay wall survey", "Ladder 14"} {
		o.click(`tr[data-name="` + name + `"] input`)
	}
	o.click("#tray-gather")
	o.wait(`() => document.querySelectorAll("#tray-order li").length === 4`)
	o.page.MustEval(`() => { const p = document.querySelectorAll("#tray-order .tray-pages")[2]; p.value = "1-6, last"; p.dispatchEvent(new Event("change", { bubbles: true })); }`)
	o.wait(`() => document.getElementById("gather-count").textContent === "22 pages of 4 documents"`)
	o.click(`[data-gather=clear]`)
	o.wait(`() => document.getElementById("gather").hidden`)
	o.go_("/documents")
	o.page.MustElement(`tr[data-name="Quay wall survey"] .name a`).MustClick()
	o.page.MustElement("body.desk")
	o.ready()
	idOf := func(name string) string {
		list, err := o.desk.Search(t.Context(), 1, name, 1)
		require.NoError(t, err)
		require.Len(t, list, 1)
		return fmt.Sprint(list[0].ID)
	}
	letter, tides := idOf("Letter to berth holders"), idOf("Tide table 2027")
	o.lane("letter to berth", letter)
	o.lane("tide table", tides)
	from, to := o.at("#board-"+letter, 0), o.at("#board", 3)
	o.page.MustElement("#board-" + letter).MustFocus()
	o.press('a')
	o.drag(from, to, false, func() { o.shot("arrange") })
	o.says("copied from")
	o.press('u')
	o.says("Undone")
	o.click(`[data-lane="` + letter + `"] [aria-label^="Close"]`)
	o.click(`[data-lane="` + tides + `"] [aria-label^="Close"]`)
	o.click(`.way a[href*="arrange/split"]`)
	o.page.MustElement("#cuts-form")
	o.ready()
	o.page.MustElement(`#cuts-form [name="by"]`).MustSelect("at bookmarks of level 1")
	o.click("#cuts-form button")
	o.wait(`() => document.querySelectorAll("#parts li").length > 5`)
	o.shot("split")
	o.click(`.way a[href*="arrange/size"]`)
	o.page.MustElement("#crop-form")
	o.ready()
	o.page.MustElement(`#crop-form [name="pages"]`).MustSelectAllText().MustInput("2")
	o.page.MustElement(`#crop-form [name="to"]`).MustSelect("to what is printed")
	o.wait(`() => !document.querySelector("#crop-form [data-outcome]").disabled && document.getElementById("paper-picture").src.startsWith("blob:")`)
	o.click(`.way a[href*="arrange/bookmarks"]`)
	o.page.MustElement("#head-find")
	o.ready()
	o.page.MustElement("#tree").MustFocus()
	o.press(input.ArrowDown, input.ArrowDown)
	o.wait(`() => document.querySelector("#tree .selected")?.dataset.at === "3"`)
	o.shot("bookmarks")
	o.go_("/handing?id=" + letter + "," + tides)
	o.ready()
	o.click(`#handing-form [data-add="date"]`)
	o.wait(`() => document.querySelector("#plan strong").textContent.includes("20")`)
	o.shot("handing")
	o.go_("/desk/" + idOf("Quay wall survey") + "/arrange")
	o.ready()
	o.click(`.way a[href*="/amend"]`)
	o.page.MustElement(`#replace-form [name="find"]`).MustInput("ferry ramp")
	o.page.MustElement(`#replace-form [name="with"]`).MustInput("landing stage")
	o.wait(`() => document.querySelectorAll("#replace-hits li").length > 20`)
	o.press(input.Tab)
	o.page.MustEval(`() => document.querySelectorAll("#replace-hits li .btn")[2].click()`)
	o.wait(`() => document.querySelector("#stage-where").textContent === "Page 2 of 22, as it will be"`)
	o.shot("amend")
	o.click(`.way a[href*="furnish"]`)
	o.page.MustElement("body.desk .station-furnish, .desk-body.station-furnish")
	o.wait(`() => document.querySelector("[data-outcome]").textContent.includes("21")`)
	o.shot("furnish")
	o.click("[data-outcome]")
	o.says("21 pages numbered")
	o.press('1')
	o.page.MustElement(".station-collect")
	o.page.MustElement("#insert-form select").MustSelect("Letter to berth holders (2 pages)")
	o.wait(`() => document.querySelector("[data-outcome]").textContent === "Insert 2 pages" && document.getElementById("paper-picture").src.startsWith("blob:")`)
	o.shot("collect")
	o.page.MustEval(`() => document.activeElement.blur()`)
	o.click(`.way a[href*="review"]`)
	o.page.MustElement(".station-review")
	o.press('/')
	o.page.MustElement("#finder-field").MustInput("fender")
	o.wait(`() => document.getElementById("find-said").textContent.includes("matches on")`)
	o.shot("find")
	o.press(input.Enter)
	o.wait(`() => !document.getElementById("found").hidden && document.getElementById("paper").dataset.read === new URL(location.href).searchParams.get("page") && document.activeElement.id === "view"`)
	o.press('g', 'g', input.ArrowDown, input.ArrowDown)
	o.wait(`() => !document.getElementById("taken").hidden`)
	o.press('m')
	o.says("highlighted")
	o.page.MustElement(".marks li")
	o.shot("review")
	o.click(`.way a[href*="release"]`)
	o.page.MustElement("#out-form")
	o.shot("release")
	o.click("#out-form .btn-primary")
	o.page.MustElement(".written")
	o.go_("/documents")
	var refused []string
	for _, h := range append(pdftest.HostilePictures()[:1:1], pdftest.Hostiles()...) {
		if name := map[string]string{"eighteen thousand squared.png": "Harbour from the air.png", "a million times one page.pdf": "Soundings.pdf"}[h.Name]; name != "" {
			refused = append(refused, filepath.Join(t.TempDir(), name))
			require.NoError(t, os.WriteFile(refused[len(refused)-1], h.Data, 0o600))
		}
	}
	o.page.MustElement("#drop-files").MustSetFiles(refused...)
	o.wait(`() => document.getElementById("drop-said").textContent.startsWith("0 of 2 added, 2 did not come in")`)
	o.go_("/folders")
	o.page.MustEval(`() => { document.querySelector("details.closed").open = true }`)
	o.shot("folders")
	o.go_("/people")
	o.page.MustElement("input[name=for]").MustInput("Petra Holm")
	o.page.MustElement(".slip-line button").MustClick()
	o.page.MustElement("#one-time")
	o.shot("people")
	o.go_("/people/1")
	o.go_("/people/record")
}
