package web

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/hhrutter/tiff"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/intake/intaketest"
	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
)

// photo makes a photograph of so many pixels.
func photo(w, h int) []byte {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.Set(x, y, color.RGBA{uint8(x), uint8(y), 90, 255})
		}
	}
	var b bytes.Buffer
	_ = jpeg.Encode(&b, img, nil)
	return b.Bytes()
}

// unlike puts a folder of unlike things on the disk, as somebody drops it.
func unlike(t *testing.T) (paths []string) {
	t.Helper()
	dir := t.TempDir()
	others, err := demo.Others()
	require.NoError(t, err)
	var two bytes.Buffer
	require.NoError(t, tiff.EncodeAll(&two, []image.Image{image.NewGray(image.Rect(0, 0, 60, 40)), image.NewGray(image.Rect(0, 0, 40, 60))}, nil))
	files := []demo.File{
		{Name: "depth.go", Data: []byte("package quay\n\n// Depth is in metres.\nfunc Depth() float64 { return 4.2 }\n")},
		{Name: "Two views.tiff", Data: two.Bytes()}, {Name: "Wide.jpg", Data: photo(600, 400)}, {Name: "Upright.jpg", Data: photo(400, 600)},
		{Name: "From a colleague.zip", Data: intaketest.Zip("Plans/Plan.pdf", string(pdftest.Text(2)), "Plans/old/Note.txt", "an old note", "__MACOSX/x", "junk")},
		{Name: "Cover.pdf", Data: pdftest.Text(1)}, {Name: "Damaged.pdf", Data: bytes.Replace(pdftest.Text(3), []byte("xref\n"), []byte("xxxx\n"), 1)},
		{Name: "French.txt", Data: []byte("S\xe9ance du quai\n")}, {Name: "Broken.zip", Data: []byte("PK\x03\x04 no zip")},
	}
	for _, f := range append(files, others...) {
		p := filepath.Join(dir, f.Name)
		require.NoError(t, os.WriteFile(p, f.Data, 0o600))
		paths = append(paths, p)
	}
	return paths
}

// TestCollect drops a folder of unlike things, looks at what arrived, orders some of it by dragging, and combines it.
func TestCollect(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	o.openBrowser()
	o.signIn()
	paths := unlike(t)
	o.page.MustElement("#drop-files").MustSetFiles(paths...)
	o.waitLong(`() => document.getElementById("drop-said").textContent.endsWith(".")`)
	assert.Equal(t, "13 of 14 added, 14 documents, 1 could not be added.", o.text("#drop-said"))
	assert.Equal(t, "Broken.zip the zip file is damaged and can't be unpacked", o.text("#drop-wrong"))
	o.wait(`() => document.querySelectorAll("#document-table tbody tr[data-id]").length === 14`)
	// The zip's folders are kept.
	assert.Contains(t, o.text("#tree"), "Plans")
	assert.Contains(t, o.text("#tree"), "old")
	o.shot("arrivals")
	// A wrong guess is put right in the arrival's row.
	o.click("#drop-done summary")
	assert.Equal(t, "windows-1252", o.page.MustEval(`() => [...document.querySelectorAll("#drop-list li")].find((l) => l.textContent.includes("French.txt")).querySelector("select").value`).Str())
	o.page.MustEval(`() => { const s = [...document.querySelectorAll("#drop-list li")].find((l) => l.textContent.includes("French.txt")).querySelector("select"); s.value = "utf-16be"; s.dispatchEvent(new Event("change", { bubbles: true })); }`)
	o.waitLong(`() => { const s = [...document.querySelectorAll("#drop-list li")].find((l) => l.textContent.includes("French.txt")).querySelector("select"); return s && !s.disabled && s.value === "utf-16be"; }`)
	// What arrived: the damaged one says so, in the list and in its details.
	o.go_("/documents")
	o.waitLong(`() => document.querySelector('tr[data-name="Damaged"] .edge') !== null`)
	assert.Contains(t, o.text(`tr[data-name="Damaged"] .edge`), "damaged and has been repaired")
	o.click(`tr[data-name="Berth applications"] [data-about]`)
	o.wait(`() => document.querySelector("tr.about dl") !== null`)
	about := o.text("tr.about")
	for _, want := range []string{"with text 2", "A4 2", "tags for screen readers yes", "en-GB", "a workbook (xlsx)"} {
		assert.Contains(t, about, want)
	}
	o.click(`tr[data-name="Berth applications"] [data-about]`)
	// Filter by what one would act on, and by name; sorted so that 2 comes before 10.
	o.go_("/documents?trait=mended")
	assert.Equal(t, 1, o.page.MustEval(`() => document.querySelectorAll("#document-table tbody tr[data-id]").length`).Int())
	o.go_("/documents?words=views&sort=name")
	assert.Equal(t, 1, o.page.MustEval(`() => document.querySelectorAll("#document-table tbody tr[data-id]").length`).Int())
	o.go_("/documents?sort=name")

	// Some are put on the list, which is kept while one looks on; then dragged into order.
	for _, name := range []string{"Gauge readings", "Letter to the pilots", "Two views", "Cover", "Berth applications"} {
		o.click(`tr[data-name="` + name + `"] input`)
	}
	o.click("#tray-gather")
	o.wait(`() => document.querySelectorAll("#tray-order li").length === 5`)
	o.go_("/documents?trait=mended")
	o.click(`tr[data-name="Damaged"] input`)
	o.click("#tray-gather")
	o.wait(`() => document.querySelectorAll("#tray-order li").length === 6`)
	o.page.MustEval(`() => { const p = document.querySelector('#tray-order li:last-child .tray-pages'); p.value = "2-3"; p.dispatchEvent(new Event("change", { bubbles: true })); }`)
	o.wait(`() => document.getElementById("gather-count").textContent === "10 pages of 6 documents"`)
	names := func() string {
		return o.page.MustEval(`() => [...document.querySelectorAll("#tray-order .tray-name")].map((n) => n.textContent).join(", ")`).Str()
	}
	box := func(n string) (x, y, w float64) {
		b := o.page.MustEval(`(n) => { const li = [...document.querySelectorAll("#tray-order li")].find((l) => l.ariaLabel === n); li.scrollIntoView(); const r = li.querySelector(".tray-name").getBoundingClientRect(); return [r.x, r.y + r.height / 2, r.width]; }`, n).Arr()
		return b[0].Num(), b[1].Num(), b[2].Num()
	}
	tx, ty, _ := box("Gauge readings")
	fx, fy, fw := box("Cover")
	o.page.Mouse.MustMoveTo(fx+fw/2, fy)
	o.page.Mouse.MustDown("left")
	require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: tx - 8, Y: ty}, 12))
	o.page.Mouse.MustUp("left")
	o.wait(`() => document.querySelector("#tray-order .tray-name").textContent === "Cover"`)
	assert.Equal(t, "Cover, Gauge readings, Letter to the pilots, Two views, Berth applications, Damaged", names())
	// By keys: the letter before the readings; then off again and by name.
	o.page.MustEval(`() => document.querySelector('#tray-order li[aria-label="Letter to the pilots"]').focus()`)
	require.NoError(t, o.page.Keyboard.Press(input.ShiftLeft))
	o.press(input.ArrowLeft)
	require.NoError(t, o.page.Keyboard.Release(input.ShiftLeft))
	o.wait(`() => document.querySelectorAll("#tray-order .tray-name")[1].textContent === "Letter to the pilots"`)
	assert.Contains(t, o.text("#gather .tray-quiet"), "mixed sizes")
	o.go_("/documents") // it is kept as it was
	assert.Equal(t, "Cover, Letter to the pilots, Gauge readings, Two views, Berth applications, Damaged", names())
	o.page.MustElement("#tray-name").MustInput("Winter papers")
	o.click("#tray-combine")
	o.page.MustElement("body.desk")
	require.Len(t, o.pageKeys(), 10)
	id := *o.page.MustElement("#swap").MustAttribute("data-doc")

	// The result, read by other programs: text of each kind, tags, bookmarks, fonts.
	c := o.client()
	c.signIn("isla")
	out := filepath.Join(t.TempDir(), "out.pdf")
	require.NoError(t, os.WriteFile(out, c.handOut(t, id), 0o600))
	said := func(name string, args ...string) string {
		b, err := exec.Command(name, append(args, out)...).CombinedOutput()
		require.NoError(t, err, string(b))
		return string(b)
	}
	b, err := exec.Command("pdftotext", "-layout", out, "-").Output()
	require.NoError(t, err)
	for _, want := range []string{"To the pilots of Orrin Quay", "take the inner leading line as given", "read by hand, by R. Skerry", "Nine Fathoms", "Winter berths 2027: applications"} {
		assert.Contains(t, string(b), want)
	}
	tags := said("pdfinfo", "-struct-text")
	for _, want := range []string{"H1", "H2", "LI", "TH"} {
		assert.Contains(t, tags, want)
	}
	said("qpdf", "--check")
	for line := range strings.Lines(said("pdffonts")) {
		if strings.Contains(line, "Liberation") || strings.Contains(line, "DejaVu") {
			assert.Contains(t, line, "yes yes yes", "embedded, a subset, with its text")
		}
	}
}

// Pictures to pages: the borders that will be left are told before it is done, and the page is as told.
func TestPicturesToPages(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	wide, upright := c.bring("Wide.jpg", photo(600, 400)), c.bring("Upright.jpg", photo(400, 600))
	o.openBrowser()
	o.signIn()
	o.click(`tr[data-name="Wide"] input`)
	o.click(`tr[data-name="Upright"] input`)
	o.click("#tray-pictures")
	o.page.MustElement("#pictures-form")
	assert.Contains(t, o.text("#placed"), "no border", "of its own size at first")
	o.page.MustElement("[name=paper]").MustSelect("of A4 paper")
	// Common practice: a 3:2 picture on landscape A4 is 297 x 198 mm, which leaves 6 mm above and below.
	o.wait(`() => document.getElementById("placed").textContent.includes("6 mm white above and below")`)
	assert.Contains(t, o.text("#placed"), "Upright 6 mm white left and right")
	o.shot("collect-pictures")
	o.page.MustElement("[name=fit]").MustSelect("fills the page and is cropped")
	o.wait(`() => document.getElementById("placed").textContent.includes("6% of its width is cropped")`)
	o.page.MustElement("[name=margin]").MustSelectAllText().MustInput("200mm")
	o.wait(`() => document.getElementById("placed").textContent.includes("leave no room")`)
	o.page.MustElement("[name=margin]").MustSelectAllText().MustInput("10mm")
	o.page.MustElement("[name=fit]").MustSelect("fits inside the page")
	o.wait(`() => document.getElementById("placed").textContent.includes("12.7 mm white above and below, 10 mm left and right")`)
	o.click("#pictures-do")
	o.page.MustElement("body.desk")
	require.Len(t, o.pageKeys(), 2)
	// The same by a form: each for itself.
	code, _, _ := c.post("/documents/pictures", url.Values{"id": {wide + "," + upright}, "paper": {"own"}, "margin": {"0"}, "as": {"each"}, "_request": {"p"}}, "HX-Request", "true")
	assert.Contains(t, []int{200, 204}, code)
	o.go_("/documents?sort=name")
	o.waitLong(`() => { if (document.querySelectorAll("#document-table tbody tr[data-id]").length === 5) return true; location.reload(); return false; }`)
}

// Folders: made, nested, renamed, moved by dragging and by a form, found by typing; documents are dragged into them.
func TestFolderTree(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	c.bring("Plan.pdf", pdftest.Text(1))
	for _, name := range []string{"Winter", "Berths"} {
		code, body, _ := c.post("/folders", url.Values{"name": {name}})
		require.Equal(t, 200, code, body)
	}
	o.openBrowser()
	o.signIn()
	at := func(selector string) (x, y float64) {
		b := o.page.MustElement(selector).MustShape().Box()
		return b.X + b.Width/3, b.Y + b.Height/2
	}
	drag := func(from, to string) {
		x, y := at(from)
		o.page.Mouse.MustMoveTo(x, y)
		o.page.Mouse.MustDown("left")
		tx, ty := at(to)
		require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: tx, Y: ty}, 10))
		o.page.Mouse.MustUp("left")
	}
	drag(`#tree li[data-name="Berths"] a`, `#tree li[data-name="Winter"] a`)
	o.says("The folder “Berths” is in “Winter” now.")
	o.go_("/documents")
	drag(`tr[data-name="Plan"] td.num`, `#tree li[data-name="Winter / Berths"] a`)
	o.wait(`() => document.querySelector('#tree li[data-name="Winter / Berths"] .num').textContent === "1"`)
	o.go_("/folders")
	o.page.MustEval(`() => document.querySelectorAll(".folders-table details").forEach((d) => { d.open = true })`)
	o.page.MustElement(`form[hx-post$="/name"] input[name=name][value=Winter]`).MustSelectAllText().MustInput("Winter 2027")
	o.page.MustEval(`() => document.querySelector('form[hx-post$="/name"] input[name=name][value=Winter]').form.requestSubmit()`)
	o.wait(`() => document.querySelector('#tree li[data-name="Winter 2027 / Berths"]') !== null`)
}
