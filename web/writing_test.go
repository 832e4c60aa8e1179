package web

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
	"glenrain/desk"
)

// pointOn gives the place in the window of a place on the page that is shown, in points.
func (o *office) pointOn(x, y float64) proto.Point {
	o.t.Helper()
	v := o.page.MustEval(`(x, y) => { const v = document.querySelector("#view"), f = document.querySelector("#paper"); const at = f.offsetTop + y * f.clientHeight / document.querySelector("#paper-layer").viewBox.baseVal.height; if (at < v.scrollTop + 60 || at > v.scrollTop + v.clientHeight - 60) v.scrollTop = at - v.clientHeight / 2; const p = document.querySelector("#paper").getBoundingClientRect(); const l = document.querySelector("#paper-layer").viewBox.baseVal; const s = p.width / l.width; return [p.left + x * s, p.top + y * s]; }`, x, y).Arr()
	return proto.Point{X: v[0].Num(), Y: v[1].Num()}
}

func (o *office) clickOn(x, y float64) {
	o.t.Helper()
	p := o.pointOn(x, y)
	o.page.Mouse.MustMoveTo(p.X, p.Y)
	o.page.Mouse.MustClick(proto.InputMouseButtonLeft)
}

func (o *office) dragOn(x0, y0, x1, y1 float64) {
	o.t.Helper()
	o.pointOn((x0+x1)/2, (y0+y1)/2) // both are in sight from there
	a, b := o.pointOn(x0, y0), o.pointOn(x1, y1)
	o.page.Mouse.MustMoveTo(a.X, a.Y)
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	require.NoError(o.t, o.page.Mouse.MoveLinear(b, 12))
	o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
}

// choose sets a select or a field, as a person does.
func (o *office) choose(selector, value string) {
	o.t.Helper()
	o.page.MustEval(`(s, v) => { const f = document.querySelector(s); f.value = v; f.dispatchEvent(new Event("input", { bubbles: true })); f.dispatchEvent(new Event("change", { bubbles: true })); }`, selector, value)
}

// sheet is a page with two paragraphs, a heading, a picture drawn twice, and a frame with a line below it.
func sheetFile() []byte {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 8 0 R]/Count 2>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F1 5 0 R/F2 6 0 R>>/XObject<</Im 7 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", `BT /F2 16 Tf 72 770 Td (Winter berths) Tj ET
BT /F1 12 Tf 15 TL 72 730 Td (The harbour of Orrin Quay is dredged in the winter of 2026, from the ferry) Tj T* (ramp to the knuckle, where the silt is soft.) Tj ET
BT /F1 12 Tf 15 TL 72 680 Td (Berth 4 is closed from the first of December on; boats that lie there) Tj T* (move to the ice quay.) Tj ET
q 120 0 0 90 72 480 cm /Im Do Q q 120 0 0 90 300 480 cm /Im Do Q
0.2 0.4 0.3 RG 1 w 72 300 200 60 re S`))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica-Bold/Encoding/WinAnsiEncoding>>")
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Image/Width 2/Height 1/BitsPerComponent 8/ColorSpace/DeviceRGB", "\xff\x00\x00\x00\x00\xff"))
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 9 0 R/Resources<</Font<</F1 5 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", "BT /F1 12 Tf 72 700 Td (A second leaf.) Tj ET"))
	return f.Bytes()
}

func (o *office) bringSheet() string {
	c := o.client()
	c.signIn("isla")
	id := c.bring("Sheet.pdf", sheetFile())
	o.openBrowser()
	o.signIn()
	return id
}

// typed waits until the server has set what was typed.
func (o *office) typed(words string) {
	o.t.Helper()
	o.wait(`w => (document.querySelector("#paper").dataset.set ?? "").includes(w)`, words)
}

// A paragraph is written in by mouse: where one clicks the caret stands, what is typed is drawn by the server, a selection is made bold, and the
// click elsewhere keeps it all as one step; Esc leaves nothing.
func TestWritingByMouse(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit")
	o.wait(`() => document.querySelector("#paper").dataset.blocks === "0.1"`)
	o.clickOn(200, 112)
	o.wait(`() => !document.querySelector("#edit-form").hidden`)
	assert.Contains(t, o.text("#edit-fonts"), "Helvetica is not embedded")
	at := o.page.MustEval(`() => { const f = document.querySelector(".edit-field"); return f.value.slice(0, f.selectionStart) }`).Str()
	assert.Contains(t, []string{"The harbour of Orrin Q", "The harbour of Orrin Qu", "The harbour of Orrin Qua"}, at)
	o.page.MustEval(`() => { const f = document.querySelector(".edit-field"); const i = f.value.indexOf("winter"); f.setSelectionRange(i, i); }`)
	for _, r := range "late and very cold " { // as fast as keys can come
		require.NoError(t, o.page.Keyboard.Type(input.Key(r)))
	}
	o.typed("in the late and very cold winter")
	o.wait(`() => !!document.querySelector("img.edit-picture[src^=data]")`)
	o.accessible("writing in a paragraph")
	took := o.page.MustEval(`() => Number(document.querySelector("#paper").dataset.took)`).Num()
	t.Logf("from key to picture %v ms", took)
	o.page.MustEval(`() => { const f = document.querySelector(".edit-field"); const i = f.value.indexOf("silt"); f.setSelectionRange(i, i + 4); }`)
	o.click(`[data-look="bold"]`)
	o.wait(`() => document.querySelector('[data-look="bold"]').getAttribute("aria-pressed") === "true"`)
	o.choose("#look-colour", "ochre")
	o.wait(`() => !document.querySelector("#edit-keep").disabled`)
	o.clickOn(400, 600) // elsewhere
	o.says("edited on page 1")
	text := o.pageTexts(id)
	assert.Contains(t, text, "dredged in the late and very cold winter of 2026, from the ferry ramp to the knuckle, where the silt is soft.")
	assert.Contains(t, text, "Berth 4 is closed from the first of December on; boats that lie there move to the ice quay.")
	assert.Contains(t, o.tool(id, "pdffonts", "FILE"), "Helvetica-Bold")
	o.wait(`() => document.querySelector("#edit-form")?.hidden === true || document.querySelector("#edit-title").textContent === "New text"`)
	o.press(input.Escape)
	o.wait(`() => document.querySelector("#edit-form").hidden`)

	o.clickOn(200, 112) // the first paragraph, which goes on in the second one
	o.wait(`() => !document.querySelector("#edit-form").hidden`)
	o.page.MustEval(`() => document.querySelector(".more-looks").open = true`)
	o.click("#edit-join")
	o.wait(`() => document.querySelector(".edit-field")?.value.includes("move to the ice quay")`)
	o.page.MustEval(`() => { const f = document.querySelector(".edit-field"); const i = f.value.indexOf("Berth 4"); f.setSelectionRange(i, i); }`)
	o.click("#edit-part")
	o.wait(`() => document.querySelector(".edit-field")?.value.startsWith("Berth 4")`)
	o.press(input.Escape)
	o.wait(`() => document.querySelector("#edit-form").hidden`)
	o.clickOn(200, 162) // the second paragraph; nothing of it is kept
	o.wait(`() => !document.querySelector("#edit-form").hidden`)
	o.page.MustInsertText("XX")
	o.typed("XX")
	o.press(input.Escape)
	o.wait(`() => document.querySelector("#edit-form").hidden`)
	assert.NotContains(t, o.pageTexts(id), "XX")
	o.page.MustElementR("#trail", "edited on page 1")
}

// tool runs a program on the document as it is written out.
func (o *office) tool(id, name string, args ...string) string {
	o.t.Helper()
	s, err := o.desk.Look(o.t.Context(), 1, number(id))
	require.NoError(o.t, err)
	return pdftest.Tool(o.t, pdftest.Whole(o.t, s.PDF), name, args...)
}

// By keys alone: from paragraph to paragraph, the caret by lines, undone within the edit, letters of input methods, kept by a key; and new text.
func TestWritingByKeys(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit")
	o.wait(`() => document.querySelector("#paper").dataset.blocks === "0.1"`)
	o.press('.')
	o.press('.')
	o.wait(`() => document.querySelector("#edit-said").textContent.startsWith("The harbour")`)
	o.press(input.Enter)
	o.wait(`() => document.activeElement?.className === "edit-field"`)
	o.press(input.ArrowDown)
	o.press(input.End)
	at := o.page.MustEval(`() => { const f = document.querySelector(".edit-field"); return [f.selectionStart, f.value.length] }`).Arr()
	assert.Equal(t, at[1].Int(), at[0].Int(), "the end of the second line is the end")
	o.press(input.Home)
	o.wait(`() => { const f = document.querySelector(".edit-field"); return f.value.slice(f.selectionStart).startsWith("ramp to") }`)
	o.page.MustInsertText("old ")
	o.typed("ferry old ramp")
	o.page.MustEval(`() => { // as an input method sends it
		const f = document.querySelector(".edit-field");
		f.dispatchEvent(new CompositionEvent("compositionstart"));
		f.setRangeText("´", f.selectionStart, f.selectionEnd, "end");
		f.dispatchEvent(new InputEvent("input", { inputType: "insertCompositionText", isComposing: true, data: "´" }));
		f.setRangeText("é", f.selectionStart - 1, f.selectionEnd, "end");
		f.dispatchEvent(new InputEvent("input", { inputType: "insertCompositionText", isComposing: true, data: "é" }));
		f.dispatchEvent(new CompositionEvent("compositionend", { data: "é" }));
	}`)
	o.typed("old éramp")
	o.hold(input.ControlLeft, func() { o.press('z') })
	o.wait(`() => !document.querySelector(".edit-field").value.includes("é")`)
	o.hold(input.ControlLeft, func() { o.press('z') })
	o.wait(`() => !document.querySelector(".edit-field").value.includes("old")`)
	time.Sleep(500 * time.Millisecond) // what is under way is set
	o.hold(input.ControlLeft, func() { o.press('y') })
	o.typed("ferry old ramp")
	o.press(input.Home)
	o.hold(input.ShiftLeft, func() { o.press(input.End) })
	o.hold(input.ControlLeft, func() { o.press('b') })
	o.wait(`() => document.querySelector('[data-look="bold"]').getAttribute("aria-pressed") === "true"`)
	o.hold(input.ControlLeft, func() { o.press(input.Enter) })
	o.says("edited on page 1")
	assert.Contains(t, o.pageTexts(id), "from the ferry old ramp to the knuckle")
	fonts := o.tool(id, "pdftohtml", "-xml", "-stdout", "FILE")
	assert.Contains(t, fonts, "<b>old ramp to the knuckle, where the silt is soft.</b>")

	o.wait(`() => document.querySelector("#paper").dataset.blocks === "0.1" && document.querySelector("#edit-form").hidden`)
	o.page.MustEval(`() => document.querySelector("#view").focus()`)
	o.press('t')
	o.wait(`() => document.activeElement?.className === "edit-field"`)
	o.page.MustInsertText("Notice of the harbour office")
	o.typed("Notice of the harbour office")
	o.hold(input.ControlLeft, func() { o.press(input.Enter) })
	o.says("“Notice of the harbour office” added to page 1")
	assert.Contains(t, o.tool(id, "pdftotext", "FILE", "-"), "Notice of the harbour office")
}

// What can't be set is said, and nothing that was typed is lost; a page that another changed meanwhile is not changed.
func TestWritingRefused(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit")
	o.wait(`() => document.querySelector("#paper").dataset.blocks === "0.1"`)
	o.clickOn(200, 112)
	o.wait(`() => document.activeElement?.className === "edit-field"`)
	o.page.MustInsertText("港")
	o.wait(`() => document.querySelector("#edit-wrong").textContent.includes("no font here has")`)
	o.wait(`() => document.querySelector("#edit-keep").disabled`)
	assert.Contains(t, o.page.MustEval(`() => document.querySelector(".edit-field").value`).Str(), "港")
	o.press(input.Backspace)
	o.wait(`() => document.querySelector("#edit-wrong").hidden`)
	o.page.MustEval(`() => { const f = document.querySelector(".edit-field"); f.setRangeText("x".repeat(5 << 20), 0, 0, "end"); f.dispatchEvent(new InputEvent("input", { inputType: "insertFromPaste" })); }`)
	o.waitLong(`() => !document.querySelector("#edit-wrong").hidden`)
	assert.Contains(t, o.text("#edit-wrong"), "up to")
	o.hold(input.ControlLeft, func() { o.press('z') })
	o.wait(`() => document.querySelector("#edit-wrong").hidden`)
	o.page.MustInsertText("mine ")
	o.typed("mine ")

	c := o.client()
	c.signIn("isla")
	c.do(id, "edit-paragraph", "page=0.1&paragraph=1&text=Another+text.")
	o.hold(input.ControlLeft, func() { o.press(input.Enter) })
	o.wait(`() => document.querySelector("#message").innerText.includes("Someone else changed this page first")`)
	assert.NotContains(t, o.pageTexts(id), "mine")
	assert.Contains(t, o.page.MustEval(`() => document.querySelector(".edit-field").value`).Str(), "mine")
}

// Blocks, pictures and drawings by mouse: drawn to another place, resized, copied, taken off, lined up; and to another page.
func TestObjectsByMouse(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit/objects")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1"`)
	o.clickOn(100, 320)
	o.wait(`() => document.querySelector("#objects-title").textContent === "Picture 1"`)
	assert.Contains(t, o.text("#object-detail"), "2 by 1 pixels")
	o.accessible("a picture that is taken")
	o.dragOn(100, 320, 130, 360)
	o.says("Picture moved on page 1")
	images := o.tool(id, "pdfimages", "-list", "FILE")
	assert.Equal(t, 2, strings.Count(images, "rgb"), images)
	o.wait(`() => parseFloat(document.querySelector("#object-x")?.value) > 34 && parseFloat(document.querySelector("#object-y").value) > 108`)
	o.choose("#object-w", "20mm")
	o.says("Picture resized on page 1")
	o.wait(`() => document.querySelector("#object-w").value === "20 mm" && document.querySelector("#object-h").value === "15 mm"`)
	o.choose("#object-turn", "90°")
	o.says("Picture rotated on page 1")
	o.wait(`() => document.querySelector("#object-w").value === "15 mm" && document.querySelector("#object-h").value === "20 mm"`)
	o.choose("#object-turn", "-90°")
	o.wait(`() => document.querySelector("#object-w").value === "20 mm"`)
	o.choose("#picture-handles", "cut")
	at := o.page.MustEval(`() => { const h = document.querySelector('.handle[data-handle="e"]').getBoundingClientRect(); return [h.left + h.width / 2, h.top + h.height / 2] }`).Arr()
	o.page.Mouse.MustMoveTo(at[0].Num(), at[1].Num())
	o.page.Mouse.MustDown(proto.InputMouseButtonLeft)
	require.NoError(t, o.page.Mouse.MoveLinear(proto.Point{X: at[0].Num() - 30, Y: at[1].Num()}, 8))
	o.page.Mouse.MustUp(proto.InputMouseButtonLeft)
	o.wait(`() => Number(document.querySelector("#picture-form").elements.cut_right.value) > 20 && document.querySelector("#paper-picture").src.startsWith("blob:") && !document.querySelector("#picture-form .btn-primary").disabled`)
	o.click("#picture-form .btn-primary")
	o.says("Picture cropped on page 1")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1"`)
	o.click("#objects-copy")
	o.says("Picture copied on page 1")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1"`)
	o.press(input.Escape)
	o.clickOn(200, 112) // the first paragraph
	o.wait(`() => !document.querySelector("#objects-held").hidden`)
	o.dragOn(200, 112, 200, 312)
	o.says("Paragraph moved on page 1")
	text := o.tool(id, "pdftotext", "-layout", "FILE", "-")
	assert.Less(t, strings.Index(text, "Berth 4 is closed"), strings.Index(text, "The harbour of Orrin Quay"))
	o.press(input.Escape)
	c := o.client()
	c.signIn("isla")
	other := c.bring("Letter.pdf", lettersFile(1))
	o.go_("/desk/" + id + "/edit/objects")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1"`)
	o.clickOn(150, 66) // the heading, which goes to another document with its font
	o.wait(`() => !document.querySelector("#objects-held").hidden`)
	o.choose("#objects-doc", other)
	o.choose("#objects-to", "1")
	o.choose("#objects-how", "yes")
	o.click("#objects-go")
	o.says("Paragraph copied from page 1 of “Sheet” to page 1")
	assert.Contains(t, o.tool(other, "pdftotext", "FILE", "-"), "Winter berths")
	assert.Contains(t, o.tool(other, "pdffonts", "FILE"), "Helvetica-Bold")
	o.press(input.Escape)
	o.clickOn(80, 512) // the frame
	o.wait(`() => document.querySelector("#objects-title").textContent === "Drawing 1"`)
	o.choose("#objects-doc", "")
	o.choose("#objects-how", "")
	o.choose("#objects-to", "2")
	o.click("#objects-go")
	o.says("Drawing moved from page 1 to page 2")
	o.page.MustElementR("#message button", "Undo").MustClick()
	o.says("Undone")
}

// By keys alone: taken, moved by arrows, taken off; a picture changed, seen before.
func TestObjectsByKeys(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit/objects")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1"`)
	for range 4 { // heading, two paragraphs, the first picture
		o.press('.')
	}
	o.wait(`() => document.querySelector("#objects-title").textContent === "Picture 1"`)
	o.press(input.ArrowRight)
	o.press(input.ArrowRight)
	o.hold(input.ShiftLeft, func() { o.press(input.ArrowDown) })
	o.says("Picture moved on page 1")
	o.wait(`() => document.querySelector("#object-x").value === "26.1 mm" && document.querySelector("#object-y").value === "99.5 mm"`)
	o.page.MustElement(`#picture-form [name="colours"]`).MustFocus()
	o.page.MustInsertText("greyscale")
	o.choose(`#picture-form [name="colours"]`, "gray")
	o.wait(`() => document.querySelector("#paper-picture").src.startsWith("blob:") && !document.querySelector("#picture-form .btn-primary").disabled`)
	o.page.MustElement(`#picture-form .btn-primary`).MustFocus()
	o.press(input.Enter)
	o.says("Picture changed to greyscale on page 1")
	assert.Contains(t, o.tool(id, "pdfimages", "-list", "FILE"), "gray")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1" && document.querySelector("#objects-title").textContent === "Picture 1"`)
	o.page.MustEval(`() => document.querySelector("#view").focus()`)
	o.press(input.Delete)
	o.says("Picture removed from page 1")
	assert.Equal(t, 1, strings.Count(o.tool(id, "pdfimages", "-list", "FILE"), "rgb"))
}

// pictureFile is a PNG of one colour, in a file.
func pictureFile(t *testing.T, c color.Color) string {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, 30, 30))
	for i := range 900 {
		img.Set(i%30, i/30, c)
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	path := filepath.Join(t.TempDir(), "new.png")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	return path
}

// A picture is replaced in its frame, there alone: another program takes the new one out, and the old one is gone from what is handed out
// once nothing shows it any more; a new one is put on the page; a file that is no picture is refused in words.
func TestPictureReplaced(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit/objects")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1"`)
	o.clickOn(100, 320)
	o.wait(`() => !document.querySelector("#picture-file").hidden`)
	words := filepath.Join(t.TempDir(), "words.png")
	require.NoError(t, os.WriteFile(words, []byte("these are words"), 0o600))
	o.page.MustElement("#picture-new").MustSetFiles(words)
	o.wait(`() => document.querySelector("#message").innerText.includes("can’t be read as a picture")`)
	o.page.MustElement("#picture-new").MustSetFiles(pictureFile(t, color.NRGBA{G: 200, A: 255}))
	o.says("Picture replaced on page 1")
	list := o.tool(id, "pdfimages", "-list", "FILE")
	assert.Contains(t, list, "30    30")
	assert.Regexp(t, `\s2\s+1\s+rgb`, list, "the other one stays")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1" && !document.querySelector("#picture-file").hidden`)
	out := o.fetch("/desk/" + id + "/edit/taken/0.1?picture=0")
	img, err := png.Decode(bytes.NewReader(out))
	require.NoError(t, err)
	_, g, _, _ := img.At(15, 15).RGBA()
	assert.Equal(t, uint32(200), g>>8)
	o.press(input.Escape)
	o.clickOn(330, 320)
	o.wait(`() => document.querySelector("#objects-title").textContent === "Picture 2"`)
	o.page.MustElement("#picture-new").MustSetFiles(pictureFile(t, color.NRGBA{R: 90, A: 255}))
	o.wait(`() => document.querySelectorAll("#trail li").length === 3`)
	s, err := o.desk.Look(t.Context(), 1, number(id))
	require.NoError(t, err)
	whole := pdftest.Whole(t, s.PDF)
	list = pdftest.Tool(t, whole, "pdfimages", "-list", "FILE")
	assert.NotRegexp(t, `\s2\s+1\s+rgb`, list)
	path := filepath.Join(t.TempDir(), "out.pdf")
	require.NoError(t, os.WriteFile(path, whole, 0o600))
	plain, err := exec.Command("qpdf", "--qdf", "--object-streams=disable", path, "-").Output()
	require.NoError(t, err)
	assert.NotContains(t, string(plain), "\xff\x00\x00\x00\x00\xff", "the old picture's bytes")

	o.press(input.Escape)
	o.wait(`() => !document.querySelector("#objects-add").hidden`)
	o.page.MustElement("#picture-add").MustSetFiles(pictureFile(t, color.NRGBA{B: 90, A: 255}))
	o.says("top left corner")
	o.clickOn(400, 640)
	o.says("Picture added to page 1")
	assert.Equal(t, 3, strings.Count(o.tool(id, "pdfimages", "-list", "FILE"), "rgb"))
}

// A shape is drawn, seen before it is kept, taken and changed.
func TestShapes(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit/shapes")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1"`)
	o.dragOn(320, 600, 460, 680)
	o.wait(`() => !document.querySelector("#shape-form .btn-primary").disabled && document.querySelector("#paper-picture").src.startsWith("blob:")`)
	o.accessible("drawing a shape")
	o.click("#shape-form .btn-primary")
	o.says("Rectangle drawn on page 1")
	o.wait(`() => document.querySelector("#paper").dataset.found === "0.1"`)
	o.clickOn(390, 640)
	o.wait(`() => document.querySelector("#shape-title").textContent === "Shape 1"`)
	o.choose(`#shape-form [name="kind"]`, "ellipse")
	o.choose(`#shape-form [name="fill"]`, "moss")
	o.wait(`() => !document.querySelector("#shape-form .btn-primary").disabled`)
	time.Sleep(300 * time.Millisecond) // the preview that the second choice asks for
	o.wait(`() => !document.querySelector("#shape-form .btn-primary").disabled`)
	o.click("#shape-form .btn-primary")
	o.says("Ellipse changed on page 1")
	ppm := o.tool(id, "pdftoppm", "-r", "36", "-f", "1", "-l", "1", "FILE")
	var w, h, most int
	_, err := fmt.Sscanf(ppm, "P6\n%d %d\n%d\n", &w, &h, &most)
	require.NoError(t, err)
	at := len(ppm) - 3*w*h + 3*(640/2*w+390/2)
	assert.Equal(t, "2f6149", fmt.Sprintf("%x", ppm[at:at+3]))
}

// Doubted words are listed and marked; one is replaced everywhere, one passed over.
func TestSpelling(t *testing.T) {
	alone(t)
	if _, err := os.Stat("/usr/share/hunspell/en_US.dic"); err != nil {
		t.Skip("no dictionary is installed here")
	}
	o := openOffice(t, false)
	id := o.bringSheet()
	c := o.client()
	c.signIn("isla")
	c.do(id, "replace-text", "find=closed&with=closde&pages=all&whole_words=yes")
	c.do(id, "replace-text", "find=dredged&with=dregded&pages=all&whole_words=yes") // no dictionary has it, whichever are installed
	o.go_("/desk/" + id + "/edit/spelling")
	o.waitLong(`() => document.querySelector("#spell-list li") !== null`)
	o.page.MustElementR("#spell-list button", "^closde$").MustClick()
	o.wait(`() => document.querySelector("#spell-word").textContent === "closde"`)
	o.wait(`() => !!document.querySelector("#paper-layer polygon.unsure.now")`)
	o.accessible("spelling")
	o.page.MustElementR("#spell-near button", "^closed$").MustClick()
	o.click("#spell-form .btn-primary")
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("replaced by “closed”")`)
	assert.Contains(t, o.pageTexts(id), "Berth 4 is closed")
	o.waitLong(`() => { const words = [...document.querySelectorAll("#spell-list button")].map((b) => b.textContent); return words.includes("dregded") && !words.includes("closde") }`)
	o.page.MustElementR("#spell-list button", "^dregded$").MustClick()
	o.wait(`() => document.querySelector("#spell-word").textContent === "dregded"`)
	o.click("#spell-ignore")
	o.wait(`() => ![...document.querySelectorAll("#spell-list button")].some((b) => b.textContent === "dregded")`)
}

// The settings of a step that was stored under an earlier name can be changed.
func TestValuesOfAStepOfBefore(t *testing.T) {
	packed, err := os.Open("../desk/testdata/earlier.tar.gz")
	require.NoError(t, err)
	defer packed.Close()
	z, err := gzip.NewReader(packed)
	require.NoError(t, err)
	o := &office{t: t, dir: t.TempDir()}
	_, err = desk.Restore(z, o.dir)
	require.NoError(t, err)
	o.start()
	t.Cleanup(o.stop)
	_, err = o.desk.AddPersonAs(t.Context(), desk.Administrator, "Petra Quill", "petra", demo.Password)
	require.NoError(t, err)
	c := o.client()
	c.signIn("petra")
	s, err := o.desk.Snapshot(t.Context(), 1)
	require.NoError(t, err)
	steps, err := o.desk.Trail(t.Context(), s, 0, 9)
	require.NoError(t, err)
	first := steps[len(steps)-1]
	require.Equal(t, "amend-paragraph", first.Name)
	code, body := c.get(fmt.Sprintf("/desk/1/trail/%d/values", first.ID))
	require.Equal(t, http.StatusOK, code, body)
	assert.Contains(t, body, "first of November")
	assert.Contains(t, body, "move text below down", "values of an enum have labels")
}

// What changed is listed and shown; values of an earlier step are changed, a state gets a name and is gone back to.
func TestBeforeAndAfter(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	c := o.client()
	c.signIn("isla")
	c.do(id, "replace-text", "find=closed&with=open&pages=all")
	c.do(id, "rotate", "pages=0.2&by=90")
	o.go_("/desk/" + id + "/edit/compare")
	o.waitLong(`() => document.querySelector("#paper").dataset.compared === "arrival"`)
	assert.Equal(t, "1 text change, 1 page changed in appearance only.", o.text("#compare-count"))
	assert.Contains(t, o.text("#compare-list"), "Berth 4 is closed open from the first")
	o.wait(`() => Number(document.querySelector("#paper").dataset.places) >= 2`)
	o.wait(`() => document.querySelector("img.before")?.hidden === false`)
	o.accessible("before and after")
	o.choose("#compare-how", "beside")
	o.wait(`() => !document.querySelector(".paper.beside").hidden`)

	other := c.bring("Other.pdf", bytes.Replace(sheetFile(), []byte("A second leaf."), []byte("A second page."), 1))
	o.go_("/desk/" + id + "/edit/compare?with=doc:" + other)
	o.waitLong(`id => document.querySelector("#paper").dataset.compared === "doc:" + id`, other)
	assert.Contains(t, o.text("#compare-list"), "page. leaf.")

	o.page.MustEval(`() => document.querySelectorAll(".trail-do")[1].setAttribute("open", "")`)
	o.page.MustElementR("#trail li:nth-child(2) .trail-do button", "Change settings").MustClick()
	o.wait(`() => document.querySelector("#look").open`)
	o.choose("#value-pages", "2")
	o.page.MustElementR(".step-values button", "Apply").MustClick()
	o.wait(`() => document.querySelector("#look").open && document.querySelector(".values-said").textContent.includes("no matches on these pages")`)
	o.choose("#value-match_case", "yes")
	o.choose("#value-pages", "all")
	o.page.MustElementR(".step-values button", "Apply").MustClick()
	o.says("were run again")
	assert.Contains(t, o.pageTexts(id), "Berth 4 is open")

	settled := func() { // the list is there again, and nothing is under way
		o.waitLong(`() => document.querySelector("#paper")?.dataset.compared && !document.querySelector(".htmx-request")`)
		time.Sleep(time.Second)
		o.waitLong(`() => document.querySelector("#paper")?.dataset.compared && !document.querySelector(".htmx-request")`)
	}
	settled()
	o.page.MustEval(`() => { const f = document.querySelectorAll(".state-name")[1]; f.elements.name.value = "Sent to the pilots"; f.requestSubmit(); }`)
	o.says("named “Sent to the pilots”")
	settled()
	o.page.MustElementR("#compare-with option", "version “Sent to the pilots”")
	o.page.MustEval(`() => [...document.querySelectorAll("#trail li:nth-child(2) .trail-do button")].find((b) => b.textContent === "Return to this version").click()`)
	o.says("Returned to “Sent to the pilots”")
	assert.Len(t, o.page.MustElements("#trail li"), 2)
	settled()
	o.click("#undo")
	o.says("Undone")
	assert.Len(t, o.page.MustElements("#trail li"), 3)
}

// On a picture of paper it is said that there are no letters to be changed, and where they can be made.
func TestWritingOnAScan(t *testing.T) {
	alone(t)
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</XObject<</Im 5 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", "q 595 0 0 842 0 0 cm /Im Do Q"))
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Image/Width 1/Height 1/BitsPerComponent 8/ColorSpace/DeviceGray", "\xf0"))
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Scan.pdf", f.Bytes())
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/edit")
	o.wait(`() => !document.querySelector("#edit-scan").hidden`)
	assert.Contains(t, o.text("#edit-scan"), "This page is a scan")
	o.click(`#edit-scan a[href$="/collect/recognize"]`)
	o.wait(`() => location.pathname.endsWith("/collect/recognize")`)
}
