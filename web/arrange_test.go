package web

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

// sheets is a file of n pages of a size, each with a word and its number, and larger lines above them where headings has them.
func sheetsOf(word string, n int, w, h float64, headings map[int]string) []byte {
	f := &pdftest.File{Version: "1.7"}
	kids := ""
	for i := range n {
		kids += fmt.Sprintf("%d 0 R ", 5+2*i)
	}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[%s]/Count %d/MediaBox[0 0 %g %g]/Resources<</Font<</R 3 0 R/B 4 0 R>>>>>>", kids, n, w, h)
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica-Bold>>")
	for i := range n {
		s := ""
		if t := headings[i+1]; t != "" {
			s += fmt.Sprintf("BT /B 20 Tf 60 %g Td (%s) Tj ET ", h-80, t)
		}
		for k := range 6 {
			s += fmt.Sprintf("BT /R 10 Tf 60 %g Td (%s %d, line %d of the paper that lies on the table of the trust) Tj ET ", h-140-14*float64(k), word, i+1, k+1)
		}
		f.Add("<</Type/Page/Parent 2 0 R/Contents %d 0 R>>", 6+2*i)
		f.Add("%s", pdftest.Stream("", s))
	}
	return f.Bytes()
}

// order gives the first two words of each page of a document, as another program reads them.
func (o *office) order(id string) string {
	o.t.Helper()
	var n uint
	_, _ = fmt.Sscan(id, &n)
	s, err := o.desk.Snapshot(o.t.Context(), n)
	require.NoError(o.t, err)
	var out []string
	for _, text := range pdftest.PageTexts(o.t, pdftest.Whole(o.t, s.PDF)) {
		m := regexp.MustCompile(`(\w)\w* (\d+), line 1`).FindStringSubmatch(text)
		if m == nil {
			out = append(out, "-")
			continue
		}
		out = append(out, m[1]+m[2])
	}
	return strings.Join(out, " ")
}

// orders waits until a document's pages stand so.
func (o *office) orders(id, want string) {
	o.t.Helper()
	for range 100 {
		if o.order(id) == want {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	assert.Equal(o.t, want, o.order(id))
}

func (o *office) hold(key input.Key, do func()) {
	o.t.Helper()
	require.NoError(o.t, o.page.Keyboard.Press(key))
	do()
	require.NoError(o.t, o.page.Keyboard.Release(key))
}

// ctrl presses keys while Ctrl is held.
func (o *office) ctrl(keys ...input.Key) {
	o.t.Helper()
	o.hold(input.ControlLeft, func() { o.press(keys...) })
}

// lane opens a document in a lane by keys: the field, part of its name, Enter.
func (o *office) lane(words, id string) {
	o.t.Helper()
	o.page.MustEval(`() => document.activeElement?.blur()`)
	o.press('o')
	o.page.MustElement("#lane-words").MustInput(words)
	o.wait(`() => document.querySelectorAll("#lane-hits [data-open-lane]").length === 1`)
	o.press(input.Enter)
	o.wait(`(id) => document.querySelector("#board-" + id + " .leaf") !== null`, id)
}

// at gives the middle of a page's picture on a board.
func (o *office) at(board string, index int) proto.Point {
	o.t.Helper()
	o.ready()
	sel := fmt.Sprintf(`%s .leaf[data-index="%d"] img`, board, index)
	o.wait(`(s) => document.querySelector(s) !== null`, sel)
	got := o.page.MustEval(`async (s) => { // the board may be drawn again meanwhile: it is asked for until it rests
		const middle = () => {
			const e = document.querySelector(s);
			if (!e) return "";
			e.scrollIntoView({ block: "nearest", inline: "nearest" });
			const r = e.getBoundingClientRect();
			return [r.x + r.width / 2, r.y + r.height / 2].join(" ");
		};
		let was = "";
		for (let i = 0; i < 200; i++) {
			const now = middle();
			if (now && now === was) return now;
			was = now;
			await new Promise((f) => setTimeout(f, 60));
		}
		return was;
	}`, sel).Str()
	var p proto.Point
	_, err := fmt.Sscan(got, &p.X, &p.Y)
	require.NoError(o.t, err, "%s does not rest: %q", sel, got)
	return p
}

// drag takes a page to the left half of another one, or to the right half; see is asked while it is held.
func (o *office) drag(from, to proto.Point, right bool, see func()) {
	o.t.Helper()
	o.page.Mouse.MustMoveTo(from.X, from.Y)
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	dx := -40.0
	if right {
		dx = 40
	}
	require.NoError(o.t, o.page.Mouse.MoveLinear(proto.Point{X: to.X + dx, Y: to.Y}, 8))
	if see != nil {
		see()
	}
	o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
}

// three opens an office with three documents, one of them on the board and the others in lanes beside it.
func three(t *testing.T) (o *office, survey, tides, squares string) {
	o = openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	survey = c.bring("Survey.pdf", sheetsOf("Survey", 6, 595, 842, nil))
	tides = c.bring("Tide table.pdf", sheetsOf("Tide", 4, 595, 842, nil))
	squares = c.bring("Squared paper.pdf", sheetsOf("Quad", 5, 420, 595, nil))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + survey + "/arrange")
	o.ready()
	o.lane("tide", tides)
	o.lane("squared", squares)
	return
}

// Pages go between three lanes with the mouse: the mark says what comes where, Ctrl turns copying and moving round, and a move is undone in both.
func TestLanesByMouse(t *testing.T) {
	alone(t)
	o, survey, tides, squares := three(t)
	o.drag(o.at("#board-"+tides, 1), o.at("#board", 2), false, func() {
		o.wait(`() => document.querySelector("#board .insert-bar")?.textContent === "1 page will be copied here, before page 3"`)
		assert.Equal(t, "Copy 1 page (Ctrl: move)", o.text(".drag-stack b"))
	})
	o.says("1 page copied from “Tide table” into “Survey”.")
	o.orders(survey, "S1 S2 T2 S3 S4 S5 S6")
	o.orders(tides, "T1 T2 T3 T4")

	// Two are selected by a frame around them, and moved with Ctrl held.
	o.wait(`() => !document.querySelector(".htmx-request")`)
	a, b := o.at("#board-"+squares, 0), o.at("#board-"+squares, 1)
	o.page.Mouse.MustMoveTo(a.X-58, a.Y-75)
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: b.X + 10, Y: b.Y}, 6))
	o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
	o.wait(`(id) => document.querySelectorAll("#board-" + id + " .leaf.selected").length === 2`, squares)
	assert.Contains(t, o.text("#of-lane"), "Squared paper")
	o.page.Mouse.MustMoveTo(a.X, a.Y)
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	to := o.at("#board-"+tides, 0)
	require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: to.X - 40, Y: to.Y}, 8))
	o.hold(input.ControlLeft, func() {
		o.wait(`(id) => document.querySelector("#board-" + id + " .insert-bar")?.textContent === "2 pages will move here, before page 1"`, tides)
		o.shot("lanes-drag")
		o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
	})
	o.says("2 pages moved from “Squared paper” into “Tide table”.")
	o.orders(tides, "Q1 Q2 T1 T2 T3 T4")
	o.orders(squares, "Q3 Q4 Q5")
	// Undone in one lane, it is undone in the other too.
	o.wait(`(id) => document.querySelectorAll("#board-" + id + " .leaf").length === 6`, tides)
	o.click(`[data-lane="` + tides + `"] [aria-label^="Undo"]`)
	o.says("Undone in “Tide table”")
	o.orders(tides, "T1 T2 T3 T4")
	o.orders(squares, "Q1 Q2 Q3 Q4 Q5")
	o.click(`[data-lane="` + squares + `"] [aria-label^="Redo"]`)
	o.says("Redone in “Squared paper”")
	o.orders(tides, "Q1 Q2 T1 T2 T3 T4")

	// Given up with Esc, nothing is changed; over nothing, neither.
	o.page.Mouse.MustMoveTo(a.X, a.Y)
	p := o.at("#board", 0)
	o.page.Mouse.MustMoveTo(p.X, p.Y)
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: p.X + 200, Y: p.Y}, 6))
	o.press(input.Escape)
	o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
	o.orders(survey, "S1 S2 T2 S3 S4 S5 S6")

	// A click on one page lets the selection go, and one key brings it back.
	o.page.MustElement("#board").MustFocus()
	o.ctrl('a')
	o.wait(`() => document.querySelectorAll("#board .leaf.selected").length === 7`)
	p = o.at("#board", 3)
	o.page.Mouse.MustMoveTo(p.X, p.Y)
	o.page.Mouse.MustClick(proto.InputMouseButtonLeft)
	o.wait(`() => document.querySelectorAll("#board .leaf.selected").length === 1`)
	o.press('b')
	o.wait(`() => document.querySelectorAll("#board .leaf.selected").length === 7`)

	// Larger and smaller pages, one looked at large; the lanes are there again when the page is loaded again.
	was := o.page.MustEval(`() => document.querySelector("#board .leaf img").width`).Int()
	o.press('+')
	o.wait(`(w) => document.querySelector("#board .leaf img").width > w`, was)
	o.press('-', '-')
	o.wait(`(w) => document.querySelector("#board .leaf img").width < w`, was)
	o.press('+')
	o.press('z')
	o.wait(`() => document.querySelector("#large[open] img")?.alt === "Page 4 of Survey"`)
	o.press(input.ArrowRight)
	o.wait(`() => document.querySelector("#large[open] img")?.alt === "Page 5 of Survey"`)
	o.press(input.Escape)
	o.wait(`() => document.querySelector("#board .leaf.cursor")?.dataset.index === "4"`)
	o.go_("/desk/" + survey + "/arrange")
	o.wait(`() => document.querySelectorAll(".lane").length === 3`)
}

// The same by keys alone: pages are cut or copied in one lane and pasted in another, rotated and removed where they stand, and all is undone and redone.
func TestLanesByKeys(t *testing.T) {
	alone(t)
	o, survey, tides, squares := three(t)
	// The lane of the squared paper has the focus. All five are copied before the tide table's first page.
	o.ctrl('a', 'c')
	o.says("5 pages copied: go to the new place and press Ctrl V.")
	o.press('.', '.') // round to the open document, and on to the tide table
	o.wait(`(id) => document.activeElement.id === "board-" + id`, tides)
	o.press(input.Home)
	o.ctrl('v')
	o.says("5 pages copied from “Squared paper” into “Tide table”.")
	o.orders(tides, "Q1 Q2 Q3 Q4 Q5 T1 T2 T3 T4")
	o.wait(`(id) => document.activeElement.id === "board-" + id`, tides)
	o.ctrl('z')
	o.says("Undone in “Tide table”")
	o.orders(tides, "T1 T2 T3 T4")
	o.ctrl('y')
	o.says("Redone in “Tide table”")
	o.orders(tides, "Q1 Q2 Q3 Q4 Q5 T1 T2 T3 T4")

	// One is cut there, and pasted behind the third page of the survey.
	o.press(input.End)
	o.ctrl('x')
	o.says("1 page cut")
	o.press('.', '.')
	o.wait(`() => document.activeElement.id === "board"`)
	o.press(input.Home, input.ArrowRight, input.ArrowRight)
	o.hold(input.ShiftLeft, func() { o.ctrl('v') })
	o.says("1 page moved from “Tide table” into “Survey”.")
	o.orders(survey, "S1 S2 S3 T4 S4 S5 S6")
	o.orders(tides, "Q1 Q2 Q3 Q4 Q5 T1 T2 T3")

	// In another lane: rotated, duplicated, removed. It is a step of that document.
	o.press('.')
	o.wait(`(id) => document.activeElement.id === "board-" + id`, tides)
	o.press(input.Home, 'r')
	o.wait(`() => document.querySelector("#rotate-do")?.textContent === "Rotate 1 page right"`)
	o.press(input.Enter)
	o.says("In “Tide table”: Page 1 rotated right.")
	o.press('d')
	o.says("In “Tide table”: Page 1 duplicated")
	o.orders(tides, "Q1 Q1 Q2 Q3 Q4 Q5 T1 T2 T3")
	o.press(input.Delete)
	o.says("In “Tide table”: Page 1 removed.")
	o.orders(tides, "Q1 Q2 Q3 Q4 Q5 T1 T2 T3")
	o.orders(squares, "Q1 Q2 Q3 Q4 Q5")

	// By the slip: a page set of another lane, before a page of the open document.
	o.page.MustElement("#set").MustSelectAllText().MustInput("7-last")
	o.wait(`() => document.querySelector("#selected-title").textContent === "2 pages selected"`)
	o.page.MustElement("#move-how").MustSelect("copy")
	o.page.MustElement("#move-to").MustInput("1")
	o.page.MustElement("#move-lane").MustSelect("Survey")
	o.click("#move-do")
	o.says("2 pages copied from “Tide table” into “Survey”.")
	o.orders(survey, "T2 T3 S1 S2 S3 T4 S4 S5 S6")
}

// Two stacks are interleaved, pages extracted and replaced; a file of the computer is dropped between two pages.
func TestPagesFromElsewhere(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Scans.pdf", sheetsOf("Scan", 6, 595, 842, nil))
	plan := c.bring("Plan.pdf", sheetsOf("Plan", 2, 842, 595, nil))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/arrange")
	o.ready()
	o.page.MustElement("#board").MustFocus()
	o.ctrl('a')
	o.page.MustElement("#more").MustSelect("interleave fronts and backs of")
	assert.Equal(t, "1-3", o.page.MustElement(`#interleave-form [name="fronts"]`).MustProperty("value").Str())
	o.page.MustElement(`#interleave-form [name="reversed"]`).MustSelect("from the last to the first")
	o.click("#interleave-form button")
	o.says("3 fronts and 3 backs interleaved, the backs from last to first.")
	o.orders(id, "S1 S6 S2 S5 S3 S4")
	o.ctrl('z')
	o.says("Undone")
	o.orders(id, "S1 S2 S3 S4 S5 S6")
	o.ctrl('y')
	o.says("Redone")
	o.orders(id, "S1 S6 S2 S5 S3 S4")

	// Extracted to a new document, and removed here.
	o.page.MustElement("#set").MustSelectAllText().MustInput("5-6")
	o.page.MustElement("#more").MustSelect("extract")
	o.page.MustElement(`#extract-form [name="name"]`).MustSelectAllText().MustInput("Last sheet")
	o.page.MustElement(`#extract-form [name="remove"]`).MustSelect("remove")
	o.click("#extract-form button")
	o.says("“Last sheet” created from 2 pages, which are removed here.")
	o.orders(id, "S1 S6 S2 S5")
	made := regexp.MustCompile(`\d+`).FindString(*o.page.MustElement("#message a").MustAttribute("href"))
	o.orders(made, "S3 S4")

	// Replaced by a page of another document, open in a lane.
	o.lane("plan", plan)
	o.page.MustElement("#board").MustFocus()
	o.page.MustElement("#set").MustSelectAllText().MustInput("2")
	o.page.MustElement("#more").MustSelect("replace")
	o.page.MustElement(`#replace-form [name="with"]`).MustSelectAllText().MustInput("1")
	o.click("#replace-form button")
	o.says("Page 2 replaced by page 1 of “Plan”.")
	o.orders(id, "S1 P1 S2 S5")

	// Files of the computer, dropped between two pages; one of them is none that can be added.
	files := []string{filepath.Join(t.TempDir(), "Ladders.pdf"), filepath.Join(t.TempDir(), "Broken.pdf")}
	require.NoError(t, os.WriteFile(files[0], sheetsOf("Ladder", 2, 595, 842, nil), 0o644))
	require.NoError(t, os.WriteFile(files[1], []byte("%PDF-1.7 and nothing else"), 0o644))
	o.page.MustEval(`() => { const i = document.createElement("input"); i.type = "file"; i.multiple = true; i.id = "from-here"; document.body.append(i); }`)
	o.page.MustElement("#from-here").MustSetFiles(files...)
	p := o.at("#board", 2)
	o.page.MustEval(`(x, y) => {
		const d = new DataTransfer();
		for (const f of document.getElementById("from-here").files) d.items.add(f);
		const at = document.elementFromPoint(x, y);
		for (const type of ["dragenter", "dragover"]) at.dispatchEvent(new DragEvent(type, { bubbles: true, cancelable: true, clientX: x, clientY: y, dataTransfer: d }));
		window.said = document.querySelector("#board .insert-bar").textContent;
		at.dispatchEvent(new DragEvent("drop", { bubbles: true, cancelable: true, clientX: x, clientY: y, dataTransfer: d }));
		document.getElementById("from-here").remove();
	}`, p.X-40, p.Y)
	assert.Equal(t, "2 files will be added here, before page 3", o.page.MustEval(`() => window.said`).Str())
	o.waitLong(`() => document.querySelector("#message")?.textContent.includes("1 file came in")`)
	assert.Contains(t, o.text("#message"), "Broken.pdf")
	o.orders(id, "S1 P1 L1 L2 S2 S5")
	o.ctrl('z')
	o.orders(id, "S1 P1 S2 S5")

	// The same by keys: before the page under the cursor.
	o.wait(`() => !document.querySelector(".htmx-request") && document.querySelector("#lane-files") !== null`)
	o.page.MustElement("#board").MustFocus()
	o.press(input.End)
	o.page.MustEval(`() => { window.picked = 0; document.getElementById("lane-files").addEventListener("click", (e) => { e.preventDefault(); window.picked++; }); }`)
	o.press('f')
	o.wait(`() => window.picked === 1`)
	o.page.MustElement("#lane-files").MustSetFiles(files[0])
	o.orders(id, "S1 P1 S2 L1 L2 S5")
	o.ctrl('z')
	o.orders(id, "S1 P1 S2 S5")
}

// Five squared A5 pages come before the tide table, with the mouse and by keys; blank pages that are there are found and removed.
func TestBlankSheets(t *testing.T) {
	alone(t)
	o, id := openDocument(t, "Tide table.pdf", sheetsOf("Tide", 4, 595, 842, nil))
	o.go_("/desk/" + id + "/arrange/blank")
	o.ready()
	fill := func() {
		o.page.MustElement(`#blank-form [name="count"]`).MustSelectAllText().MustInput("5")
		o.page.MustElement(`#blank-form [name="paper"]`).MustSelect("A5")
		o.page.MustElement(`#blank-form [name="ruling"]`).MustSelect("ruled with squares")
	}
	fill()
	// with the mouse: between no page and the first one
	p := o.at("#board", 0)
	r := o.page.MustEval(`() => { const r = document.querySelector('#board .leaf[data-index="0"]').getBoundingClientRect(); return r.left; }`).Num()
	o.page.Mouse.MustMoveTo(r+2, p.Y)
	o.page.Mouse.MustClick(proto.InputMouseButtonLeft)
	o.wait(`() => document.querySelector("#blank-to").value === "1"`)
	o.click("#blank-do")
	o.says("5 pages ruled with squares inserted before page 1.")
	o.orders(id, "- - - - - T1 T2 T3 T4")
	size := o.page.MustEval(`() => JSON.parse(document.getElementById("pages").textContent)[0].slice(2, 4)`).Arr()
	assert.InDelta(t, 419.53, size[0].Num(), 0.1, "A5 is 148 by 210 mm (ISO 216)")
	assert.InDelta(t, 595.28, size[1].Num(), 0.1)
	o.page.MustEval(`() => document.activeElement?.blur()`)
	o.ctrl('z')
	o.says("Undone")
	o.orders(id, "T1 T2 T3 T4")
	o.ctrl('y')
	o.says("Redone")
	o.orders(id, "- - - - - T1 T2 T3 T4")
	o.ctrl('z')
	o.says("Undone") // the form is there again
	o.orders(id, "T1 T2 T3 T4")
	// by keys: the cursor says where
	fill()
	o.page.MustElement("#board").MustFocus()
	o.press(input.Home, 's')
	o.wait(`() => document.querySelector("#blank-to").value === "1"`)
	o.page.MustElement("#blank-do").MustFocus()
	o.press(input.Enter)
	o.says("5 pages ruled with squares inserted before page 1.")
	o.orders(id, "- - - - - T1 T2 T3 T4")
	o.page.MustEval(`() => document.activeElement?.blur()`)
	o.ctrl('z')
	o.orders(id, "T1 T2 T3 T4")
	// a plain one is found, and removed
	o.click("#blank-do")
	o.says("1 blank page inserted at the end.")
	o.click("#blank-find")
	o.wait(`() => document.querySelector("#blank-found").textContent === "1 blank page: 5."`)
	o.click("#blank-remove button")
	o.says("Page 5 removed.")
	o.orders(id, "T1 T2 T3 T4")
}

// What others do meanwhile: a lane's document changed, deleted, or removed while somebody arranges; each is a sentence, and nothing is lost.
func TestLanesMeanwhile(t *testing.T) {
	alone(t)
	o, survey, tides, squares := three(t)
	other := o.client()
	other.signIn("isla")
	change := func(id, step string, values url.Values) {
		t.Helper()
		seen, _ := other.seen(id)
		values.Set("_seen", seen)
		values.Set("_place", "arrange")
		values.Set("_request", step+id+seen)
		code, body, _ := other.post("/desk/"+id+"/do/"+step, values)
		require.Equal(t, http.StatusOK, code, body)
	}
	// The lane shows by itself what was done elsewhere.
	change(tides, "remove", url.Values{"pages": {"1"}})
	o.wait(`(id) => document.querySelectorAll("#board-" + id + " .leaf").length === 3`, tides)
	// So does the open document, unless something is being written.
	change(survey, "remove", url.Values{"pages": {"6"}})
	o.wait(`() => document.querySelectorAll("#board .leaf").length === 5`)
	o.page.MustElement("#set").MustSelectAllText().MustInput("2")
	change(survey, "remove", url.Values{"pages": {"5"}})
	o.says("Someone changed this document.")
	assert.Equal(t, "2", o.page.MustElement("#set").MustProperty("value").Str(), "what was written is there")
	o.click("#message .btn-link")
	o.wait(`() => document.querySelectorAll("#board .leaf").length === 4`)

	// A page that is dragged is removed by somebody else meanwhile: nothing is done, and it is said.
	from := o.at("#board-"+tides, 0)
	to := o.at("#board", 0)
	o.drag(from, to, false, func() {
		change(tides, "remove", url.Values{"pages": {"1"}})
		o.says("“Tide table” was changed by someone else")
	})
	o.says("A selected page has been removed.")
	o.orders(survey, "S1 S2 S3 S4")
	o.orders(tides, "T3 T4")

	// A document that is deleted loses its lane.
	code, _, _ := other.post("/documents/bin", url.Values{"id": {squares}})
	require.Less(t, code, 400)
	o.says("“Squared paper” was deleted, or you no longer have access to it.")
	o.wait(`() => document.querySelectorAll(".lane").length === 2`)
	o.go_("/desk/" + survey + "/arrange")
	o.ready()
	o.wait(`(id) => document.querySelector("#board-" + id) !== null`, tides)
	assert.Equal(t, 2, o.page.MustEval(`() => document.querySelectorAll(".lane").length`).Int())
	o.orders(survey, "S1 S2 S3 S4")
}

// A document of chapters is split at its bookmarks, which are created from headings, and handed out as a zip; labels and a crop, each undone and redone.
func TestSplitBookmarksLabelsCrop(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Berth rules.pdf", sheetsOf("Rule", 9, 595, 842, map[int]string{2: "Moorings", 5: "Dues", 8: "Winter"}))
	o.openBrowser()
	o.signIn()
	again := func(words string) {
		t.Helper()
		o.page.MustEval(`() => document.activeElement?.blur()`)
		o.ctrl('z')
		o.says("Undone: " + words)
		o.ctrl('y')
		o.says("Redone: " + words)
	}
	whole := func() []byte {
		var n uint
		_, _ = fmt.Sscan(id, &n)
		s, err := o.desk.Snapshot(t.Context(), n)
		require.NoError(t, err)
		return pdftest.Whole(t, s.PDF)
	}

	o.go_("/desk/" + id + "/arrange/bookmarks")
	o.ready()
	o.click("#head-find")
	o.wait(`() => document.querySelectorAll("#heads li").length === 3`)
	o.shot("arrange-headings")
	o.click("#make-do")
	o.says("3 bookmarks created from headings.")
	again("3 bookmarks created from headings")
	assert.Regexp(t, `"Moorings".*page=2\b(?s:.*)"Dues".*page=5\b(?s:.*)"Winter".*page=8\b`, pdftest.Tool(t, whole(), "mutool", "show", "FILE", "outline"))
	// By keys: the last one is nested below the one ahead of it, then moved up; and with the mouse it is dragged to the top again.
	o.page.MustElement("#tree").MustFocus()
	o.press(input.End)
	o.hold(input.AltLeft, func() { o.press(input.ArrowRight) })
	o.says("Bookmark “Winter” moved below “Dues”")
	o.wait(`() => document.querySelector("#tree .selected")?.dataset.at === "2.1"`)
	again("Bookmark “Winter” moved below “Dues”")
	o.page.MustElement("#tree").MustFocus()
	box := func(title string) proto.Point {
		return *o.page.MustElement(`#tree li[data-title="` + title + `"] .mark-title`).MustShape().OnePointInside()
	}
	from, to := box("Winter"), box("Moorings")
	o.page.Mouse.MustMoveTo(from.X, from.Y)
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: to.X - 60, Y: to.Y - 20}, 8))
	o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
	o.says("Bookmark “Winter” moved at the top, as the first.")
	again("Bookmark “Winter” moved at the top, as the first")
	// Renamed, and one added from the view.
	o.page.MustElement("#tree").MustFocus()
	o.press(input.Home, input.Enter)
	o.page.MustElement(`#change-form [name="title"]`).MustSelectAllText().MustInput("Winter berths")
	o.press(input.Enter)
	o.says("Bookmark “Winter” renamed “Winter berths”.")
	o.wait(`() => document.querySelector(".head-offer")?.textContent === "Winter"`)
	o.press(input.Escape)
	o.page.MustElement("#tree").MustFocus()
	o.press(input.Home, input.Delete)
	o.says("Bookmark “Winter berths” removed.")
	o.ctrl('z')
	o.says("Undone")

	// Split at the bookmarks.
	o.go_("/desk/" + id + "/arrange/split")
	o.ready()
	o.page.MustElement(`#cuts-form [name="by"]`).MustSelect("at bookmarks of level 1")
	o.click("#cuts-form button")
	o.wait(`() => document.querySelectorAll("#parts li").length === 4`)
	assert.Equal(t, "pages 2-4, about", o.page.MustEval(`() => document.querySelectorAll(".part-figures")[1].textContent.slice(0, 16)`).Str())
	// Two equal names are told before; a cut by hand with a key, and away again.
	names := o.page.MustElements(`#parts [name="name"]`)
	was := names[1].MustProperty("value").Str()
	assert.Equal(t, "2 Moorings", was)
	names[1].MustSelectAllText().MustInput(names[2].MustProperty("value").Str())
	o.wait(`() => document.querySelector("#split-do").disabled && document.querySelector("#parts-said").textContent.includes("Two parts would be called “3 Dues”")`)
	names[1].MustSelectAllText().MustInput(was)
	o.wait(`() => !document.querySelector("#split-do").disabled`)
	o.page.MustElement("#board").MustFocus()
	o.press(input.End, 's')
	o.wait(`() => document.querySelectorAll("#parts li").length === 5`)
	o.press('s')
	o.wait(`() => document.querySelectorAll("#parts li").length === 4`)
	// The first part is left out.
	o.click(`#parts li:first-child input[type="checkbox"]`)
	o.page.MustElement(`#split-form [name="into"]`).MustSelect("files in a zip")
	o.wait(`() => document.querySelector("#split-do").textContent === "Create 3 files"`)
	o.shot("arrange-split")
	o.click("#split-do")
	o.waitLong(`() => document.querySelector(".written.made a[download]") !== null`)
	data := o.fetch(*o.page.MustElement(".written.made a[download]").MustAttribute("href"))
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	got := map[string]int{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		b, err := io.ReadAll(r)
		require.NoError(t, err)
		got[f.Name] = len(pdftest.PageTexts(t, b))
		assert.Contains(t, pdftest.PageTexts(t, b)[0], strings.Fields(f.Name[2 : len(f.Name)-4])[0])
	}
	assert.Equal(t, map[string]int{"2 Moorings.pdf": 3, "3 Dues.pdf": 3, "4 Winter berths.pdf": 2}, got)
	// As documents: undone, they are in the Bin; redone, back.
	o.go_("/desk/" + id + "/arrange/split")
	o.ready()
	o.page.MustElement(`#cuts-form [name="by"]`).MustSelect("every few pages")
	o.page.MustElement(`#cuts-form [name="every"]`).MustSelectAllText().MustInput("4")
	o.click("#cuts-form button")
	o.wait(`() => document.querySelectorAll("#parts li").length === 3`)
	o.click("#split-do")
	o.waitLong(`() => document.querySelectorAll(".parts-made a").length === 3`)
	o.click(".written.made form button")
	o.says("Undone: 3 documents moved to the Bin.")
	o.click(".written.made form button")
	o.says("Redone: 3 documents restored.")

	// Roman labels for the foreword.
	o.go_("/desk/" + id + "/arrange/labels")
	o.ready()
	o.page.MustElement("#set").MustInput("1-3")
	o.wait(`() => document.querySelector("#label-like").textContent === "3 pages: i, ii, iii"`)
	o.click("#label-do")
	o.says("Pages 1-3 labelled i to iii.")
	o.wait(`() => document.querySelector("#board .leaf .leaf-name").textContent.includes("i")`)
	again("Pages 1-3 labelled i to iii")
	o.press('/')
	o.page.MustElement("#finder-field").MustInput("iii")
	o.wait(`() => document.querySelector("#finder-hits [aria-selected=true]")?.textContent.includes("Go to page iii")`)
	o.press(input.Escape, input.Escape)

	// A crop to the page content, seen before.
	o.go_("/desk/" + id + "/arrange/size")
	o.ready()
	o.page.MustElement(`#crop-form [name="pages"]`).MustSelectAllText().MustInput("ii-iii")
	o.page.MustElement(`#crop-form [name="to"]`).MustSelect("to the content")
	o.wait(`() => document.querySelector("#crop-form [data-outcome]").textContent === "Crop 2 pages" && document.getElementById("paper-picture").src.startsWith("blob:")`)
	o.click("#crop-form [data-outcome]")
	o.says("Pages ii to iii cropped to the page content.")
	again("Pages ii to iii cropped to the page content")
	assert.NotContains(t, pdftest.Tool(t, whole(), "pdfinfo", "-f", "2", "-l", "2", "FILE"), "595 x 842")
	// A frame that is drawn gives the same as its numbers.
	o.page.MustElement(`#crop-form [name="to"]`).MustSelect("at the edges")
	o.page.MustElement(`#crop-form [name="pages"]`).MustSelectAllText().MustInput("2")
	p := o.page.MustEval(`() => { const r = document.getElementById("paper").getBoundingClientRect(); return [r.left, r.top, r.width, r.height]; }`).Arr()
	x, y, w, h := p[0].Num(), p[1].Num(), p[2].Num(), p[3].Num()
	o.page.Mouse.MustMoveTo(x+w*0.25, y+h*0.25)
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: x + w*0.75, Y: y + h*0.5}, 6))
	o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
	o.wait(`() => parseFloat(document.querySelector('#crop-form [name="left"]').value) > 10 && !document.querySelector("#crop-form [data-outcome]").disabled`)
	o.shot("arrange-crop")
}

// Several documents are handed out: names are shown and checked while the pattern is written, a folder is found by a part of its name, and at the end stands what
// was written.
func TestHandOutSeveral(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	a := c.bring("Berths.pdf", sheetsOf("Berth", 2, 595, 842, nil))
	b := c.bring("Tides.pdf", sheetsOf("Tide", 3, 595, 842, nil))
	winter, err := o.desk.MakeFolderIn(t.Context(), 1, 0, "Winter papers, sent")
	require.NoError(t, err)
	o.openBrowser()
	o.signIn()
	o.go_("/documents")
	o.click(`tr[data-id="` + a + `"] input`)
	o.click(`tr[data-id="` + b + `"] input`)
	o.click("#tray-out")
	o.page.MustElement("#handing-form")
	o.ready()
	names := func() string {
		return o.page.MustEval(`() => [...document.querySelectorAll("#plan strong")].map((x) => x.textContent).join(", ")`).Str()
	}
	assert.Equal(t, "Berths.pdf, Tides.pdf", names())
	o.click(`#handing-form [data-add="typed"]`)
	o.wait(`() => document.querySelector("#handing-do").disabled && document.querySelector("#plan").textContent.includes("type the file number first")`)
	o.page.MustElement(`#handing-form [name="typed"]`).MustInput(" HT-7")
	o.wait(`() => !document.querySelector("#handing-do").disabled`)
	assert.Equal(t, "BerthsHT-7.pdf, TidesHT-7.pdf", names())
	// Two equal names are told.
	o.click(`#handing-form .piece[data-field="name"] .piece-off`)
	o.wait(`() => document.querySelector("#plan").textContent.includes("“Berths” would have the same name")`)
	o.click(`#handing-form [data-add="number"]`)
	o.wait(`() => !document.querySelector("#plan .edge") && document.querySelector("#handing-do").textContent === "Export 2 files"`)
	assert.Equal(t, "HT-71.pdf, HT-72.pdf", names())
	// The folder is found by a part of its name.
	o.page.MustElement(".folder-field input[type=search]").MustInput("sent")
	o.wait(`() => document.querySelectorAll(".folder-hits [data-folder]").length === 1`)
	o.press(input.Enter)
	o.wait(`(id) => document.querySelector(".folder-field input[name=folder]").value === id`, fmt.Sprint(winter.ID))
	o.shot("handing")
	if asks := o.page.MustElement("#asks-place"); asks.MustVisible() {
		asks.MustElement("input").MustClick()
	}
	o.click("#handing-do")
	o.waitLong(`() => document.querySelectorAll(".handed tbody tr").length === 2`)
	assert.Contains(t, o.text(".handed"), "kept in a folder")
	file := o.fetch(*o.page.MustElement(".handed tr:nth-child(2) a[download]").MustAttribute("href"))
	assert.Len(t, pdftest.PageTexts(t, file), 3)
	_, body := c.get(fmt.Sprintf("/documents?folder=%d", winter.ID))
	assert.Contains(t, body, "HT-72")

	// A name that is taken is told while it is written.
	o.go_("/desk/" + a + "/release")
	o.ready()
	o.page.MustElement(`#out-form [name="name"]`).MustSelectAllText().MustInput("HT-71")
	o.wait(`() => document.querySelector("#name-taken")?.textContent.includes("“HT-71 2” is available")`)
}

// TestArrangeAccessible looks at the jobs of Arrange, and at handing out several, with axe-core.
func TestArrangeAccessible(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Berth rules.pdf", sheetsOf("Rule", 6, 595, 842, map[int]string{2: "Moorings", 5: "Dues"}))
	other := c.bring("Tides.pdf", sheetsOf("Tide", 3, 595, 842, nil))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/arrange")
	o.ready()
	o.lane("tides", other)
	o.press(input.Space)
	o.accessible("lanes")
	o.press('z')
	o.page.MustElement("#large[open] img")
	o.accessible("a page, large")
	o.press(input.Escape)
	o.wait(`() => !document.querySelector("#large[open]")`)
	o.press('o')
	o.wait(`() => !document.querySelector("#lane-hits").hidden`)
	o.accessible("opening a lane")
	o.page.MustElement("#board").MustFocus()
	o.ctrl('a')
	for _, what := range []string{"duplicate", "interleave fronts and backs of", "extract", "replace"} {
		o.page.MustElement("#more").MustSelect(what)
		o.accessible("pages, " + what)
	}
	for _, job := range []string{"blank", "size", "sheets", "labels"} {
		o.go_("/desk/" + id + "/arrange/" + job)
		o.ready()
		o.accessible(job)
	}
	o.go_("/desk/" + id + "/arrange/bookmarks")
	o.ready()
	o.click("#head-find")
	o.wait(`() => document.querySelectorAll("#heads li").length === 2`)
	o.accessible("headings")
	o.click("#make-do")
	o.says("2 bookmarks created from headings.")
	o.page.MustElement("#tree").MustFocus()
	o.press(input.ArrowDown)
	o.accessible("bookmarks")
	o.click("#contents-form button")
	o.says("Table of contents with 2 bookmarks")
	o.accessible("contents")
	o.go_("/desk/" + id + "/arrange/split")
	o.ready()
	o.page.MustElement(`#cuts-form [name="by"]`).MustSelect("every few pages")
	o.click("#cuts-form button")
	o.wait(`() => document.querySelectorAll("#parts li").length > 1`)
	o.accessible("split")
	o.go_("/handing?id=" + id + "," + other)
	o.ready()
	o.page.MustElement(".folder-field input[type=search]").MustFocus()
	o.wait(`() => document.querySelectorAll(".folder-hits [data-folder]").length > 0`)
	o.accessible("handing out several")
}
