package web

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/ocr"
	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
	"glenrain/scanner"
	standin "glenrain/standin/scanner"
)

// openScanner starts an office that has the scanner which ships with the program; without the engine that recognizes text there is nothing to try.
func openScanner(t *testing.T) (*office, *standin.Scanner, string) {
	if _, err := ocr.Find(); err != nil {
		t.Skip(err)
	}
	l, err := standin.Listen()
	require.NoError(t, err)
	s := standin.New()
	server := &http.Server{Handler: s, ReadHeaderTimeout: time.Minute}
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { _ = server.Close() })
	o := &office{t: t, dir: t.TempDir(), rules: scanner.Rules{Here: []netip.AddrPort{l.Addr().(*net.TCPAddr).AddrPort()}}}
	o.start()
	t.Cleanup(o.stop)
	_, err = o.desk.AddPerson(t.Context(), "Isla Merrow", "isla", demo.Password)
	require.NoError(t, err)
	return o, s, l.Addr().String()
}

// From a pile in the feeder to a document whose text is found, with two doubted words put right.
func TestPileToText(t *testing.T) {
	alone(t)
	o, s, address := openScanner(t)
	s.Load("form", standin.Sheet{Front: "letter", Back: "blank"}, standin.Sheet{Front: "table"}, standin.Sheet{Front: "upside down"})
	o.openBrowser()
	o.signIn()
	o.click(`a[href^="/scan"]`)
	// The scanner's address is typed once; one that leads elsewhere is refused.
	o.page.MustElement(`#scan-with [name="address"]`).MustInput("127.0.0.1:22")
	o.click(`#scan-with details button`)
	o.says("scanners are at the ports")
	o.page.MustElement(`#scan-with [name="address"]`).MustSelectAllText().MustInput("127.0.0.1:80")
	o.click(`#scan-with details button`)
	o.says("points to the server itself")
	o.page.MustElement(`#scan-with [name="address"]`).MustSelectAllText().MustInput(address)
	o.click(`#scan-with details button`)
	o.page.MustElement("#scan-form")
	o.wait(`() => document.querySelector("#message").textContent.trim() === ""`) // what was refused before is said no more
	assert.Contains(t, o.text("#scan-choices"), "There is paper in the feeder.")
	o.accessible("scanning")
	o.click("[data-look]")
	o.wait(`() => document.querySelector("#scan-look img")?.naturalWidth > 500`)
	o.page.MustElement(`#scan-form [name="dpi"]`).MustSelect("100 dpi")
	o.page.MustElement(`#scan-form [name="name"]`).MustInput("Letters of the day")
	o.shot("scanning")
	o.click("#scan-form .btn-primary")
	o.page.MustElement("body.desk")
	o.waitLong(`() => document.querySelector("#slip")?.innerText.includes("6 pages scanned.")`)
	slip := o.text("#slip")
	assert.Contains(t, slip, "3 pages are blank: 2, 4, 6.")
	assert.Contains(t, slip, "1 page is upside down: 5.")
	assert.Len(t, o.pageKeys(), 6)
	o.page.MustElementR("#slip button", "Remove them").MustClick()
	o.says("Pages 2, 4, 6 removed")
	o.page.MustElementR("#slip button", "Rotate it").MustClick()
	o.says("Page 3 rotated")
	// A sheet more, into the document; the feeder jams, and what came in stays.
	s.Load("form", standin.Sheet{Front: "form"}, standin.Sheet{Front: "letter"})
	s.Break("jam", 1)
	o.click(`.way a[href*="collect/scan"]`)
	o.page.MustElement(`#scan-form [name="from"]`).MustSelect("feeder, one side")
	o.page.MustElement(`#scan-form [name="dpi"]`).MustSelect("100 dpi")
	o.page.MustElement(`#scan-form [name="before"]`).MustInput("2")
	o.click("#scan-form .btn-primary")
	o.waitLong(`() => document.querySelector("#slip")?.innerText.includes("paper is jammed in the feeder")`)
	assert.Contains(t, o.text("#slip"), "1 page scanned.")
	assert.Len(t, o.pageKeys(), 4)
	s.Break("", 0)
	// All of it is recognized.
	o.click(`.way a[href*="collect/recognize"]`)
	o.page.MustElement("#recognize-form")
	o.waitLong(`() => document.querySelector("[data-guess]")?.dataset.guess === "eng"`)
	assert.Contains(t, o.text("#slip"), "All pages are pictures without text.")
	o.shot("recognize")
	o.click("#recognize-form .btn-primary")
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("recognized")`)
	o.says("Text of pages 1-4 recognized")
	o.waitLong(`() => !!document.getElementById("doubt-pages")`)
	// Two doubted words are put right, by mouse.
	var fixed []string
	for i := range 2 {
		if i == 0 {
			o.click("#doubt-next")
		}
		o.wait(`() => !document.getElementById("doubt-form").hidden && document.getElementById("doubt-picture").naturalWidth > 10`)
		if i == 0 {
			o.accessible("doubted words")
		}
		was := o.page.MustElement(`#doubt-form [name="_was"]`).MustProperty("value").String()
		now := fmt.Sprintf("Rightly%d", i)
		o.page.MustElement(`#doubt-form [name="_text"]`).MustSelectAllText().MustInput(now)
		o.click("#doubt-do")
		o.says("“" + was + "” corrected to “" + now + "”")
		o.wait(`(was) => document.querySelector('#doubt-form [name="_word"]') && !document.querySelector("#doubt-form").hidden`, was)
		fixed = append(fixed, now)
	}
	// It is found at once, in the document and among all.
	list, err := o.desk.Search(t.Context(), 1, "Letters of the day", 1)
	require.NoError(t, err)
	require.Len(t, list, 1)
	hits := func(words string) int {
		n := 0
		require.Eventually(t, func() bool {
			found, err := o.desk.SearchText(t.Context(), 1, words, 10)
			require.NoError(t, err)
			n = found.Pages
			return n > 0
		}, 20*time.Second, 50*time.Millisecond, words)
		return n
	}
	assert.Positive(t, hits("soundings"))
	// The lines of a page come in order, though the sheet lay askew.
	snap, err := o.desk.Look(t.Context(), 1, list[0].ID)
	require.NoError(t, err)
	texts, err := o.desk.Texts(t.Context(), snap)
	require.NoError(t, err)
	first, then := strings.Index(texts[0].Text, "To the holders"), strings.Index(texts[0].Text, "Vessels at berths")
	assert.True(t, first > 0 && then > first, texts[0].Text)
	assert.Equal(t, 1, hits(fixed[0]))
}

// Fronts and backs are scanned one after the other, and put together; what is to follow is done with it.
func TestScanTwoPasses(t *testing.T) {
	alone(t)
	o, s, address := openScanner(t)
	_, err := o.desk.AddScanner(t.Context(), 1, address)
	require.NoError(t, err)
	s.Load("form", standin.Sheet{Front: "letter"}, standin.Sheet{Front: "form"})
	o.openBrowser()
	o.signIn()
	o.click(`a[href^="/scan"]`)
	o.page.MustElement("#scan-form")
	o.page.MustElement(`#scan-form [name="from"]`).MustSelect("feeder, one side")
	o.page.MustElement(`#scan-form [name="dpi"]`).MustSelect("100 dpi")
	o.page.MustElement(`#scan-form [name="name"]`).MustInput("Two sides")
	o.page.MustElement(`#scan-form [name="then"]`).MustSelect("straighten and recognize")
	o.click("#scan-form .btn-primary")
	o.page.MustElement("body.desk")
	o.waitLong(`() => document.querySelector("#slip")?.innerText.includes("2 pages scanned.")`)
	slip := o.text("#slip")
	assert.Contains(t, slip, "straightened by")
	assert.Contains(t, slip, "Text of pages 1 and 2 recognized")
	assert.NotContains(t, slip, "their backs")
	s.Load("form", standin.Sheet{Front: "table"}, standin.Sheet{Front: "upside down"}) // the stack turned over: the last sheet's back comes first
	o.page.MustElement(`#scan-form [name="from"]`).MustSelect("feeder, one side")
	o.page.MustElement(`#scan-form [name="dpi"]`).MustSelect("100 dpi")
	o.click("#scan-form .btn-primary")
	o.waitLong(`() => document.querySelector("#slip")?.innerText.includes("are these its backs?")`)
	require.Equal(t, 4, len(o.pageKeys()))
	before := o.pageKeys()
	o.page.MustElementR("#slip button", "Interleave fronts and backs").MustClick()
	o.says("interleaved")
	assert.Equal(t, []string{before[0], before[3], before[1], before[2]}, o.pageKeys())
}

// A scan is straightened, and its text made real, with the page as it is beside the page as it will be; a block is left a picture. By keys alone.
func TestStraightenAndSetText(t *testing.T) {
	alone(t)
	o, _, _ := openScanner(t)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Form.jpg", standin.Picture("form", "Grayscale8", 150))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/collect/straighten")
	o.wait(`() => !!document.getElementById("straighten-form")`)
	o.waitLong(`() => document.querySelector("#paper-picture").src.startsWith("blob:")`)
	o.wait(`() => { const b = document.querySelector(".paper img.before"); return !b.hidden && b.naturalWidth > 10 }`)
	o.accessible("straighten")
	edge := o.page.MustElement(".parting")
	edge.MustFocus()
	assert.Equal(t, "50", *edge.MustAttribute("aria-valuenow"))
	o.press(input.ArrowLeft)
	o.press(input.ArrowLeft)
	assert.Equal(t, "46", *edge.MustAttribute("aria-valuenow"))
	assert.Equal(t, "inset(0px 54% 0px 0px)", o.page.MustEval(`() => document.querySelector(".paper img.before").style.clipPath`).String())
	box := o.page.MustElement("#paper").MustShape().Box()
	o.page.Mouse.MustMoveTo(box.X+box.Width*0.46, box.Y+box.Height/2).MustDown("left")
	o.page.Mouse.MustMoveTo(box.X+box.Width*0.8, box.Y+box.Height/2).MustUp("left")
	o.wait(`() => Math.abs(document.querySelector(".parting").getAttribute("aria-valuenow") - 80) < 2`)
	o.page.MustElement("#straighten-form .btn-primary").MustFocus()
	o.press(input.Enter)
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("straightened by")`)
	o.ctrl('z')
	o.says("Undone")
	o.go_("/desk/" + id + "/collect/recognize")
	o.waitLong(`() => !!document.querySelector("#recognize-form .btn-primary")`)
	o.page.MustElement("#recognize-form .btn-primary").MustFocus()
	o.press(input.Enter)
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("recognized")`)
	o.go_("/desk/" + id + "/collect/set-text")
	o.wait(`() => document.querySelectorAll("#set-blocks input").length > 3`)
	o.waitLong(`() => document.querySelector("#paper-picture").src.startsWith("blob:")`)
	o.accessible("editable text")
	o.page.MustElement(".parting").MustFocus()
	o.press(input.PageDown)
	o.shot("real-text")
	assert.Equal(t, "Application for a winter berth", o.page.MustEval(`() => document.querySelectorAll("#set-blocks label")[1].innerText.trim()`).String())
	o.page.MustElement(`#set-blocks [data-name="0.1:0"]`).MustFocus()
	o.press(input.Space)
	o.wait(`() => document.querySelector("#set-text-form").elements.keep.value === "0.1:0"`)
	assert.True(t, o.page.MustEval(`() => document.activeElement.dataset.name === "0.1:0" && document.activeElement.checked`).Bool())
	o.page.MustElement("#set-text-form .btn-primary").MustFocus()
	o.press(input.Enter)
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("changed to editable text, but for 1 block")`)
	o.ctrl('z')
	o.says("Undone")
}

// Recognizing and the doubted words, by keys alone.
func TestRecognizeByKeys(t *testing.T) {
	alone(t)
	o, s, _ := openScanner(t)
	s.Load("table")
	c := o.client()
	c.signIn("isla")
	id := c.bring("Table.jpg", standin.Picture("table", "Grayscale8", 75))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/review")
	o.ready()
	o.press('/')
	o.page.MustInsertText("recognize")
	o.wait(`() => document.querySelector("#finder-hits")?.innerText.includes("Recognize text of scanned pages")`)
	o.press(input.ArrowDown, input.Enter)
	o.page.MustElement("#recognize-form")
	o.ready()
	// The uncertain words come only after the key for the next one was pressed.
	o.page.MustEval(`() => {
		const get = window.fetch, held = new Promise((go) => (window.release = go));
		window.fetch = (at, ...more) => (String(at?.url ?? at).includes("/doubts/") ? held.then(() => get(at, ...more)) : get(at, ...more));
	}`)
	for range 60 { // to the button
		if o.page.MustEval(`() => document.activeElement?.matches("#recognize-form .btn-primary")`).Bool() {
			break
		}
		o.press(input.Tab)
	}
	o.press(input.Enter)
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("recognized")`)
	o.wait(`() => !!document.getElementById("doubt-form")`)
	n := o.page.MustEval(`() => JSON.parse(document.getElementById("doubt-pages").textContent)[0].n`).Int()
	require.Positive(t, n)
	o.press('.')
	o.page.MustEval(`() => window.release()`)
	for i := range n {
		o.wait(`() => document.activeElement?.name === "_text"`)
		if i == 0 {
			o.page.MustElement(`#doubt-form [name="_text"]`).MustSelectAllText()
			o.page.MustInsertText("Soundings")
		}
		o.press(input.Enter)
		if i == 0 {
			o.says("corrected to “Soundings”")
		}
		o.wait(`(left) => (JSON.parse(document.getElementById("doubt-pages").textContent)[0].n) === left`, n-1-i)
	}
	assert.Contains(t, o.text("#slip"), "no uncertain words")
	o.ctrl('z')
	o.says("Undone")
	o.wait(`() => JSON.parse(document.getElementById("doubt-pages").textContent)[0].n === 1`)
}

// Several documents at once, from the list; screens answer meanwhile.
func TestRecognizeSeveral(t *testing.T) {
	alone(t)
	o, _, _ := openScanner(t)
	c := o.client()
	c.signIn("isla")
	for i, kind := range []string{"letter", "form", "upside down"} {
		c.bring(fmt.Sprintf("Sheet %d.jpg", i+1), standin.Picture(kind, "Grayscale8", 100))
	}
	c.bring("Text.pdf", pdftest.Text(2))
	o.openBrowser()
	o.signIn()
	o.wait(`() => document.querySelectorAll("#document-table tbody tr").length === 4`)
	o.click("#select-all")
	o.click("#tray-read")
	var slowest time.Duration
	for range 30 {
		at := time.Now()
		c.get("/documents")
		slowest = max(slowest, time.Since(at))
		time.Sleep(50 * time.Millisecond)
	}
	t.Logf("the list answered within %v", slowest)
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("Text of 3 of 4 documents recognized.")`)
	assert.Contains(t, o.text("#message"), "“Text”: Nothing to recognize")
	require.Eventually(t, func() bool {
		found, err := o.desk.SearchText(t.Context(), 1, "committee", 10)
		return err == nil && found.Pages == 1
	}, 20*time.Second, 50*time.Millisecond, "the one upside down was read, too")
	// All of it is taken back at once.
	o.page.MustElementR("#message button", "Undo in all of them").MustClick()
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("Undone in 3 of 3 documents.")`)
	require.Eventually(t, func() bool {
		found, err := o.desk.SearchText(t.Context(), 1, "committee", 10)
		return err == nil && found.Pages == 0
	}, 20*time.Second, 50*time.Millisecond)
}
