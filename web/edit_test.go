package web

import (
	"fmt"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

// letters is a file of some pages with a few lines each.
func lettersFile(pages int) []byte {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	kids := ""
	for i := range pages {
		kids += fmt.Sprintf("%d 0 R ", 4+2*i)
	}
	f.Add("<</Type/Pages/Kids[%s]/Count %d>>", kids, pages)
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	for i := range pages {
		f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents %d 0 R/Resources<</Font<</F1 3 0 R>>>>>>", 5+2*i)
		f.Add("%s", pdftest.Stream("", fmt.Sprintf("BT /F1 12 Tf 15 TL 72 700 Td (The harbour of Orrin Quay is dredged in the winter of 2026, from the ferry) Tj T* (ramp to the knuckle, sheet %d.) Tj 0 -60 Td (Berth 4 is closed in 2026.) Tj ET", i+1)))
	}
	return f.Bytes()
}

func (o *office) pageTexts(id string) string {
	var list []string
	s, err := o.desk.Look(o.t.Context(), 1, number(id))
	require.NoError(o.t, err)
	texts, err := o.desk.Texts(o.t.Context(), s)
	require.NoError(o.t, err)
	for _, p := range texts {
		list = append(list, strings.Join(strings.Fields(p.Text), " "))
	}
	return strings.Join(list, " / ")
}

func number(id string) (n uint) {
	_, _ = fmt.Sscan(id, &n)
	return n
}

// Words are replaced throughout, seen before; one place stays. By mouse, and undone.
func TestReplaceWords(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Letters.pdf", lettersFile(3))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/review")
	o.click(`.way a[href*="/edit"]`)
	o.click(`.way a[href*="/edit/replace"]`)
	o.page.MustElement(`#replace-form [name="find"]`).MustInput("2026")
	o.page.MustElement(`#replace-form [name="with"]`).MustInput("2027 and 2028")
	o.wait(`() => document.querySelectorAll("#replace-hits li").length === 6`)
	o.wait(`() => document.querySelector("#paper-picture").src.startsWith("blob:")`)
	assert.Equal(t, "6 places on 3 pages.", o.text("#replace-count"))
	o.accessible("replace words")
	o.click("#replace-hits li:nth-child(2) input")
	o.click("#pair-add")
	pairs := o.page.MustElements("#pairs .pair")
	require.Len(t, pairs, 2)
	pairs[1].MustElement("[name=find]").MustInput("knuckle")
	pairs[1].MustElement("[name=with]").MustInput("řeka")
	o.wait(`() => document.querySelectorAll("#replace-hits li").length === 9`)
	// The list may have come once before the second pair was typed to its end.
	o.wait(`() => document.querySelector("#replace-hits").innerText.includes("set in Sans: this font lacks some letters")`)
	o.click("#replace-hits li:nth-child(2) input") // they were listed anew, so it is chosen again
	o.wait(`() => document.querySelector("#replace-form").elements.leave.value === "0.1:0:1"`)
	o.wait(`() => !document.querySelector("#replace-form .btn-primary").disabled`)
	o.click("#replace-form .btn-primary")
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("and 1 more pair in 8 places on 3 pages")`)
	text := o.pageTexts(id)
	assert.Equal(t, 5, strings.Count(text, "2027 and 2028"), text)
	assert.Contains(t, text, "Berth 4 is closed in 2026. / ")
	assert.Equal(t, 3, strings.Count(text, "to the řeka, sheet"), text)
	o.page.MustElementR("#message button", "Undo").MustClick()
	o.says("Undone")
	assert.Equal(t, 6, strings.Count(o.pageTexts(id), "2026"))
}

// The same by keys alone.
func TestReplaceByKeys(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	id := c.bring("Letters.pdf", lettersFile(1))
	o.openBrowser()
	o.signIn()
	o.go_("/desk/" + id + "/review")
	o.ready()
	o.press('/')
	o.page.MustInsertText("replace words throughout")
	o.wait(`() => document.querySelector("#finder-hits [aria-selected=true]")?.textContent.includes("Replace words throughout")`)
	o.press(input.Enter)
	o.wait(`() => !!document.querySelector("#replace-form")`)
	o.ready()
	o.wait(`() => document.activeElement?.name === "find"`)
	o.page.MustInsertText("ferry ramp")
	o.press(input.Tab)
	o.page.MustInsertText("landing stage")
	o.wait(`() => document.querySelectorAll("#replace-hits li").length === 1`)
	o.wait(`() => !document.querySelector("#replace-form .btn-primary").disabled`)
	o.press(input.Enter)
	o.waitLong(`() => document.querySelector("#message")?.innerText.includes("in 1 place on 1 page")`)
	assert.Contains(t, o.pageTexts(id), "from the landing stage to the knuckle")
}
