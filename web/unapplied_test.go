package web

import (
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/desk"
)

// writeInFirst begins writing in the first paragraph and types words at its end.
func (o *office) writeInFirst(words string) {
	o.t.Helper()
	o.wait(`() => document.querySelector("#paper").dataset.blocks === "0.1" && document.querySelector("#edit-form").hidden`)
	o.clickOn(200, 112)
	o.wait(`() => !document.querySelector("#edit-form").hidden && document.activeElement?.className === "edit-field"`)
	o.page.MustEval(`() => { const f = document.querySelector(".edit-field"); f.setSelectionRange(f.value.length, f.value.length); }`)
	o.page.MustInsertText(words)
	o.typed(words)
}

func (o *office) seen(id string) uint {
	o.t.Helper()
	s, err := o.desk.Look(o.t.Context(), 1, number(id))
	require.NoError(o.t, err)
	return s.State.ID
}

// What is typed is applied by going anywhere else in the program: a station, a job, the list of documents, another page.
func TestTypedIsAppliedByLeaving(t *testing.T) {
	o := openOffice(t, false)
	id := o.bringSheet()
	for words, leave := range map[string]struct {
		link, to string
	}{
		" By station.":   {`.way-to[href*="/review"]`, "/review"},
		" By release.":   {`.way-to[href*="/release"]`, "/release"},
		" By job.":       {`.way-jobs a[href*="/edit/spelling"]`, "/edit/spelling"},
		" By documents.": {`.where a`, "/documents"},
	} {
		o.go_("/desk/" + id + "/edit")
		o.writeInFirst(words)

		o.click(leave.link)
		o.wait(`to => location.pathname.includes(to)`, leave.to)
		assert.Contains(t, o.pageTexts(id), words[1:], "%s", leave.link)
	}
	// A click on another page applies it too, and goes there.
	o.go_("/desk/" + id + "/edit")
	o.writeInFirst(" By page.")
	o.click(`#strip [data-index="1"]`)
	o.wait(`() => document.querySelector("#stage-where").textContent.startsWith("Page 2") && document.querySelector("#paper").dataset.blocks === "0.2"`)
	assert.Contains(t, o.pageTexts(id), "By page.")
	assert.Equal(t, 0, o.page.MustEval(`() => sessionStorage.length`).Int(), "no draft is left of what is a step")
}

// Where it can't be applied one stays, and is told why; what was typed is there.
func TestTypedThatIsRefusedStays(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit")
	o.writeInFirst(" Typed by the one.")
	_, err := o.desk.Do(t.Context(), desk.Change{Document: number(id), Seen: o.seen(id), Person: 1, RequestID: "the other", Name: "edit-paragraph", Params: []byte(`{"page":["0.1"],"paragraph":1,"text":"Changed by the other"}`)})
	require.NoError(t, err)
	o.click(`.way-to[href*="/review"]`)
	o.wait(`() => document.querySelector("#message").textContent.includes("Your text is still on the page")`)
	assert.Equal(t, "/desk/"+id+"/edit", o.page.MustEval(`() => location.pathname`).Str())
	assert.Contains(t, o.page.MustEval(`() => document.querySelector(".edit-field").value`).Str(), "Typed by the one.")
}

// Undo and redo of the bar are of the text while one writes; Esc can be taken back; reloading asks, and offers the draft after that.
func TestTypedIsTakenBack(t *testing.T) {
	o := openOffice(t, false)
	id := o.bringSheet()
	o.go_("/desk/" + id + "/edit")
	o.writeInFirst(" First.")
	time.Sleep(1100 * time.Millisecond) // what comes after a pause is undone by itself
	o.page.MustInsertText(" Second.")
	o.typed("Second.")
	value := `(document.querySelector(".edit-field")?.value ?? "")`
	o.click("#undo")
	o.wait(`() => ` + value + `.endsWith(" First.")`)
	o.click("#undo") // all of it: what is left is the text as it stands on the page
	o.wait(`() => ` + value + `.endsWith("where the silt is soft.")`)
	o.click("#redo")
	o.wait(`() => ` + value + `.endsWith(" First.")`)
	o.click("#redo")
	o.wait(`() => ` + value + `.endsWith(" First. Second.")`)
	assert.Contains(t, o.text("#trail"), "Added", "the trail is as it was")
	assert.NotContains(t, o.text("#trail"), "edited")

	o.page.MustEval(`() => document.querySelector(".edit-field").focus()`)
	o.press(input.Escape)
	o.says("Change cancelled.")
	o.wait(`() => document.querySelector("#edit-form").hidden`)
	o.page.MustElementR("#message button", "Restore text").MustClick()
	o.wait(`() => ` + value + `.endsWith(" First. Second.")`)
	o.typed("Second.")
	o.accessible("text that was restored")

	// Reloading asks; whoever goes on finds the text offered.
	o.page.MustEval(`() => { window.asked = 0; window.addEventListener("beforeunload", (e) => { if (e.defaultPrevented) window.asked++; }); }`)
	wait, handle := o.page.HandleDialog()
	done := make(chan string, 1)
	go func() {
		e := wait()
		done <- string(e.Type)
		_ = handle(&proto.PageHandleJavaScriptDialog{Accept: true})
	}()
	go func() { _ = proto.PageReload{}.Call(o.page) }()
	select {
	case kind := <-done:
		assert.Equal(t, string(proto.PageDialogTypeBeforeunload), kind)
	case <-time.After(20 * time.Second):
		t.Fatal("reloading does not ask")
	}
	o.wait(`() => document.body?.dataset.ready === "yes" && document.querySelector("#edit-draft")?.hidden === false`)
	assert.Contains(t, o.text("#edit-draft"), "Text that you typed on page 1 was not applied: “First. Second.”")
	o.accessible("a draft that is offered")
	o.shot("draft")
	o.page.MustElementR("#edit-draft button", "Restore text").MustClick()
	o.wait(`() => ` + value + `.endsWith(" First. Second.")`)
	o.typed("Second.")
	o.hold(input.ControlLeft, func() { o.press(input.Enter) })
	o.says("edited on page 1")
	assert.Contains(t, o.pageTexts(id), "First. Second.")
	o.wait(`() => sessionStorage.length === 0 && document.querySelector("#edit-draft").hidden`)

	// New text is kept like that; another draft does not take its place, and one is dropped by a button.
	o.wait(`() => document.querySelector("#paper").dataset.blocks === "0.1"`)
	o.page.MustEval(`() => document.querySelector("#view").focus()`)
	o.press('t')
	o.wait(`() => document.activeElement?.className === "edit-field"`)
	o.page.MustInsertText("A new line")
	o.typed("A new line")
	o.page.MustEval(`() => { window.onbeforeunload = null; }`)
	draft := o.page.MustEval(`() => sessionStorage.getItem(sessionStorage.key(0))`).Str()
	o.press(input.Escape)
	o.wait(`() => document.querySelector("#edit-form").hidden && sessionStorage.length === 0`)
	o.page.MustEval(`(id, d) => sessionStorage.setItem("drafts " + id, d)`, id, draft) // as it is after a browser that stopped
	o.go_("/desk/" + id + "/edit")
	o.wait(`() => document.querySelector("#edit-draft")?.hidden === false`)
	o.writeInFirst(" Meanwhile.")
	assert.Equal(t, 2, o.page.MustEval(`id => JSON.parse(sessionStorage.getItem("drafts " + id)).length`, id).Int())
	o.hold(input.ControlLeft, func() { o.press(input.Enter) })
	o.says("edited on page 1")
	o.wait(`() => !document.querySelector("#edit-draft").hidden`)
	o.page.MustElementR("#edit-draft button", "Restore text").MustClick()
	o.wait(`() => ` + value + ` === "A new line"`)
	o.press(input.Escape)
	o.wait(`() => document.querySelector("#edit-draft").hidden && sessionStorage.length === 0`)
}
