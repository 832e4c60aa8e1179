package web

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

// upload puts five files on the disk: two PDFs, a JPEG, a PNG, and a text that is no PDF.
func upload(t *testing.T) (paths []string, photo []byte) {
	dir := t.TempDir()
	img := image.NewRGBA(image.Rect(0, 0, 600, 400))
	for y := range 400 {
		for x := range 600 {
			img.Set(x, y, color.RGBA{uint8(x / 3), uint8(y / 2), 120, 255})
		}
	}
	var jpg, pn bytes.Buffer
	require.NoError(t, jpeg.Encode(&jpg, img, nil))
	require.NoError(t, png.Encode(&pn, image.NewNRGBA(image.Rect(0, 0, 90, 60))))
	for _, f := range []struct {
		name string
		data []byte
	}{
		{"Survey notes.pdf", pdftest.Text(6)}, {"Cover.pdf", pdftest.Text(1)}, {"Quay.jpg", jpg.Bytes()}, {"Mark.png", pn.Bytes()},
		{"minutes.pdf", []byte("Minutes of the berth meeting, typed as text.\n")},
	} {
		p := filepath.Join(dir, f.name)
		require.NoError(t, os.WriteFile(p, f.data, 0o600))
		paths = append(paths, p)
	}
	return paths, jpg.Bytes()
}

// TestStory is the main job from end to end, as a person does it in the browser: several
// files become one numbered PDF, which other programs then open.
func TestStory(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	o.openBrowser()
	o.signIn()

	// Five files at once; four arrive, the fifth is refused with the reason.
	paths, photo := upload(t)
	o.page.MustElement("#drop-files").MustSetFiles(paths...)
	o.wait(`() => document.getElementById("drop-said").textContent === "4 of 5 added, 1 could not be added."`)
	assert.Equal(t, "minutes.pdf the file is plain text, not a PDF", o.text("#drop-wrong"))
	o.wait(`() => document.querySelectorAll("#document-table tbody tr").length === 4`)
	row := o.text(`tr[data-name="Survey notes"]`)
	assert.Contains(t, row, "6 several sizes")
	assert.Contains(t, o.text(`tr[data-name="Quay"]`), "1 159 × 106 mm", "600 x 400 pixels at 96 dpi")

	// The four are chosen, put into order and put together.
	for _, name := range []string{"Quay", "Cover", "Mark", "Survey notes"} {
		o.click(`tr[data-name="` + name + `"] input`)
	}
	assert.Equal(t, "4 selected, 9 pages", o.text("#tray-count"))
	o.click("#tray-gather")
	o.wait(`() => document.querySelectorAll("#tray-order li").length === 4`)
	o.click(`#tray-order button[aria-label="Move Cover earlier"]`)
	o.wait(`() => document.querySelector("#tray-order li .tray-name").textContent === "Cover"`)
	o.page.MustElement("#tray-name").MustInput("Winter papers")
	assert.Equal(t, "Cover ‹ › × Quay ‹ › × Mark ‹ › × Survey notes ‹ › ×", o.text("#tray-order"))
	o.shot("documents-chosen")
	o.click("#tray-combine")
	o.page.MustElement("body.desk")
	keys := o.pageKeys()
	require.Len(t, keys, 9)
	docID := *o.page.MustElement("#swap").MustAttribute("data-doc")

	// Two pages are moved together with the mouse: 5 and 6 before 2.
	o.page.Mouse.MustMoveTo(o.leaf(4).X, o.leaf(4).Y).MustClick("left")
	o.ready()
	require.NoError(t, o.page.Keyboard.Press(input.ControlLeft))
	o.page.Mouse.MustMoveTo(o.leaf(5).X, o.leaf(5).Y).MustClick("left")
	require.NoError(t, o.page.Keyboard.Release(input.ControlLeft))
	assert.Equal(t, "2 pages selected", o.text("#selected-title"))
	from, to := o.leaf(4), o.leaf(1)
	o.page.Mouse.MustMoveTo(from.X, from.Y)
	o.page.Mouse.MustDown("left")
	require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: to.X - 40, Y: to.Y}, 12))
	assert.Equal(t, "2 pages will move here, before page 2", o.text(".insert-bar"))
	o.shot("arrange-dragging")
	o.page.Mouse.MustUp("left")
	o.says("Pages 5 and 6 moved before page 2.")
	want := []string{keys[0], keys[4], keys[5], keys[1], keys[2], keys[3], keys[6], keys[7], keys[8]}
	assert.Equal(t, want, o.pageKeys())

	// The last is moved by keys: lifted, and set down before the third.
	o.page.MustElement("#board").MustFocus()
	o.press(input.End, input.Escape, input.Space)
	o.ctrl('x')
	o.press(input.Home, input.ArrowRight, input.ArrowRight)
	o.ctrl('v')
	o.says("Page 9 moved before page 3.")
	want = []string{keys[0], keys[4], keys[8], keys[5], keys[1], keys[2], keys[3], keys[6], keys[7]}
	assert.Equal(t, want, o.pageKeys())

	// One is turned, and seen turned before it is done (it was made lying on its side).
	o.press(input.Escape, input.Home, input.ArrowRight, input.Space, 'r')
	o.page.MustElement(`.leaf[data-index="1"] .as`)
	assert.Equal(t, "rotated right", o.text(`.leaf[data-index="1"] .as`))
	o.wait(`() => { const i = document.querySelector('.leaf[data-index="1"] img'); return i.src.startsWith("blob:") && i.naturalWidth < i.naturalHeight; }`)
	assert.Equal(t, "Rotate 1 page right", o.text("#rotate-do"))
	o.shot("arrange-turning")
	o.press(input.Enter)
	o.says("Page 2 rotated right.")

	// One is removed; a step back and forward again.
	o.press(input.Escape, input.End, input.Space)
	o.click("#remove-do")
	o.says("Page 9 removed.")
	require.Len(t, o.pageKeys(), 8)
	o.ctrl('z')
	o.says("Undone: Page 9 removed.")
	require.Len(t, o.pageKeys(), 9)
	o.ctrl('y')
	o.says("Redone: Page 9 removed.")
	require.Len(t, o.pageKeys(), 8)
	trail := o.text(".trail")
	for _, s := range []string{"Page 9 removed", "Page 2 rotated right", "Page 9 moved before page 3", "Pages 5 and 6 moved before page 2", "Created from 4 documents"} {
		assert.Contains(t, trail, s)
	}

	// Page numbers on all but the first, seen on the real page before they are there.
	o.press('4')
	o.page.MustElement(".station-furnish")
	o.wait(`() => document.querySelector("[data-outcome]")?.textContent === "Number 7 pages"`)
	o.wait(`() => document.getElementById("paper-picture").src.startsWith("blob:") && document.querySelector(".spot") !== null`)
	assert.Contains(t, o.text("#margin"), "The number goes here")
	assert.Equal(t, 7, len(o.page.MustElements(".strip .touched")))
	o.click("[data-outcome]")
	o.says("7 pages numbered at the bottom.")
	// Their wording is changed afterwards.
	o.click(`.placed a[href*="edit="]`)
	o.page.MustElement(`.edited`)
	o.page.MustElement(`#wording .piece:nth-of-type(2) input[name="wording.text"]`).MustSelectAllText().MustInput(" out of ")
	o.wait(`() => document.querySelector("[data-outcome]")?.textContent === "Change 7 pages"`)
	o.shot("furnish-change")
	o.click("[data-outcome]")
	o.says("Page numbers changed on 7 pages.")

	// Reader's view, and back with the same key.
	o.press('e')
	o.page.MustElement("#reader:not([hidden]) img")
	o.shot("reader")
	o.press('e')
	o.page.MustElement("#reader[hidden]")

	// A copy is handed out under a new name, and what was written is told.
	o.click(`.way a[href*="release"]`)
	o.page.MustElement(`#out-form input[name="name"]`).MustSelectAllText().MustInput("Winter papers, final")
	o.click("#out-form .btn-primary")
	o.page.MustElement(".written")
	assert.Contains(t, o.text(".written"), "Winter papers, final.pdf")
	assert.Contains(t, o.text(".written"), "Pages 8")
	o.shot("handed-out")
	link := *o.page.MustElement(".written a.btn-primary").MustAttribute("href")
	file := o.fetch(link)

	// Other programs open it without complaint.
	pdftest.Check(t, file)
	texts := pdftest.PageTexts(t, file)
	require.Len(t, texts, 8)
	assert.Equal(t, []string{"Page 1", "Page 2 2 out of 8", "Page 6 3 out of 8", "Page 3 4 out of 8", "5 out of 8", "6 out of 8", "Page 1 7 out of 8", "Page 4 8 out of 8"}, texts)
	// By hand, for the last page (A4 as made by the test, 595 x 842 pt): "8 out of 8" of 9 pt in Liberation Sans, whose
	// widths are Helvetica's (Adobe Core 14 AFM): 8 556, space 278, o 556, u 556, t 278, space 278, o 556, f 278, space 278,
	// 8 556 = 4170 -> 37.53 pt; it starts at (595 - 37.53) / 2 = 278.74 and its baseline is 12 mm = 34.02 pt above the foot.
	box := pdftest.Tool(t, file, "pdftotext", "-f", "8", "-l", "8", "-bbox", "FILE", "-")
	x0, _, y1 := firstWord(t, box, ">8<")
	assert.InDelta(t, 278.74, x0, 0.05)
	assert.InDelta(t, 842-34.02, y1, 2.2)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "out.pdf"), file, 0o600))
	out, err := exec.Command("pdfimages", "-all", filepath.Join(dir, "out.pdf"), filepath.Join(dir, "im")).CombinedOutput()
	require.NoError(t, err, string(out))
	jpgs, err := filepath.Glob(filepath.Join(dir, "*.jpg"))
	require.NoError(t, err)
	require.Len(t, jpgs, 1)
	got, err := os.ReadFile(jpgs[0])
	require.NoError(t, err)
	assert.Equal(t, photo, got, "the JPEG's bytes are unchanged")

	// The server is started again: all is there.
	cookies := o.page.MustCookies()
	o.stop()
	o.start()
	o.page.MustSetCookies()
	for _, c := range cookies {
		require.NoError(t, o.page.SetCookies([]*proto.NetworkCookieParam{{Name: c.Name, Value: c.Value, URL: o.http.URL}}))
	}
	o.go_("/desk/" + docID + "/arrange")
	require.Len(t, o.pageKeys(), 8)
	assert.Contains(t, o.text(".trail"), "Page numbers changed on 7 pages")
	assert.Equal(t, file, o.fetch(link))
	o.go_("/documents/out")
	assert.Contains(t, o.text(".sheet"), "Winter papers, final.pdf")
}

// fetch gets a file with the browser's session.
func (o *office) fetch(path string) []byte {
	o.t.Helper()
	req, err := http.NewRequest(http.MethodGet, o.http.URL+path, nil)
	require.NoError(o.t, err)
	for _, c := range o.page.MustCookies() {
		req.AddCookie(&http.Cookie{Name: c.Name, Value: c.Value})
	}
	res, err := (&http.Client{Timeout: time.Minute}).Do(req)
	require.NoError(o.t, err)
	defer res.Body.Close()
	require.Equal(o.t, http.StatusOK, res.StatusCode)
	var b bytes.Buffer
	_, err = b.ReadFrom(res.Body)
	require.NoError(o.t, err)
	return b.Bytes()
}

// firstWord gives left, right and bottom of the first word in poppler's -bbox output whose
// line holds s.
func firstWord(t *testing.T, bbox, s string) (x0, x1, y1 float64) {
	t.Helper()
	for line := range strings.Lines(bbox) {
		if !strings.Contains(line, s) {
			continue
		}
		attr := func(name string) float64 {
			_, rest, _ := strings.Cut(line, name+`="`)
			v, _, _ := strings.Cut(rest, `"`)
			f, err := strconv.ParseFloat(v, 64)
			require.NoError(t, err)
			return f
		}
		return attr("xMin"), attr("xMax"), attr("yMax")
	}
	t.Fatalf("no word %s in %s", s, bbox)
	return
}
