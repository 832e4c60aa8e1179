package web

import (
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// Forty files at once, one of them no PDF: thirty-nine arrive and nothing is held up.
func TestFortyFiles(t *testing.T) {
	alone(t)
	o := openOffice(t, false)
	dir := t.TempDir()
	var paths []string
	for i := range 40 {
		data := pdftest.Text(i%7 + 1)
		if i == 17 {
			data = []byte("a list of moorings, as text")
		}
		p := filepath.Join(dir, fmt.Sprintf("Paper %02d.pdf", i))
		if i == 3 {
			p = filepath.Join(dir, strings.Repeat("soundings_of_the_north_berths_", 5)+".pdf")
		}
		require.NoError(t, os.WriteFile(p, data, 0o600))
		paths = append(paths, p)
	}
	o.openBrowser()
	o.signIn()
	o.page.MustElement("#drop-files").MustSetFiles(paths...)
	o.wait(`() => document.getElementById("drop-said").textContent === "39 of 40 added, 1 could not be added."`)
	o.wait(`() => document.querySelectorAll("#document-table tbody tr").length === 39`)
	assert.Equal(t, "Paper 17.pdf the file is plain text, not a PDF", o.text("#drop-wrong"))
	assert.Equal(t, "39 files arrived", o.text("#drop-done summary"))
	o.shot("forty")
	assert.True(t, o.page.MustEval(`() => { const m = document.querySelector("main"); return m.scrollWidth <= m.clientWidth; }`).Bool(), "a long name breaks, and the table fits")
}

// What the board chooses while one types a page set is what the server means by it.
func TestPageSetsAgree(t *testing.T) {
	alone(t)
	o, id := openDocument(t, "Long.pdf", pdftest.Text(12))
	o.go_("/desk/" + id + "/arrange")
	o.page.MustElement(".leaf")
	for _, rule := range []string{"3-5, last", "odd", "even 7-", "odd -4", "all", "2,2,1-2", "8-last", "9-40", "40-", "first", "last", "12", "-3", "all but first", "all but 2-last"} {
		at, err := step.EvalRule(rule, 12)
		require.NoError(t, err)
		got := o.page.MustEval(`async (r) => { const m = await import("/static/x/sentence/pageset.js"); return m.writeSet(m.pageSet(r, 12)); }`, rule).Str()
		assert.Equal(t, step.WriteSet(at), got, rule)
	}
	for _, bad := range []string{"x", "3-x", "-", "1,,2", "all but x"} {
		_, err := step.EvalRule(bad, 12)
		assert.Error(t, err, bad)
		assert.True(t, o.page.MustEval(`async (r) => (await import("/static/x/sentence/pageset.js")).pageSet(r, 12) === null`, bad).Bool(), bad)
	}
}

// Several people look at pages and change documents at once: no error, and every step is there.
func TestSeveralAtOnce(t *testing.T) {
	o := openOffice(t, false)
	const people, turns = 6, 8
	first := o.client()
	first.signIn("isla")
	var ids []string
	for i := range people {
		ids = append(ids, first.bring(fmt.Sprintf("Paper %d.pdf", i), pdftest.Text(10)))
	}
	var wg sync.WaitGroup
	for i := range people {
		wg.Go(func() {
			c := &client{t, o.http.URL, first.http}
			for n := range turns {
				state, request := c.seen(ids[i])
				v := url.Values{"_seen": {state}, "_request": {request}, "_place": {"arrange"}, "pages": {fmt.Sprintf("0.%d", n+1)}, "by": {"90"}}
				code, _, _ := c.post("/desk/"+ids[i]+"/do/rotate", v, "HX-Request", "true")
				assert.Equal(t, http.StatusOK, code)
				code, _ = c.get(fmt.Sprintf("/desk/%s/picture/0.%d/0/160", ids[(i+n)%people], n+3))
				assert.Equal(t, http.StatusOK, code, "a page is drawn as it was, also when it is turned meanwhile")
			}
		})
	}
	wg.Wait()
	for _, id := range ids {
		_, body := first.get("/desk/" + id + "/arrange")
		assert.Equal(t, turns, strings.Count(body, `class="trail-go"`))
	}
}
