package web

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/proto"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

// Files being added are not lost by opening something else: that is asked about, and can be opened beside. What was refused, or waits for a password, stays
// listed when the screen is loaded again, until the list is closed; the password is asked for then, too.
func TestFilesOnTheWay(t *testing.T) {
	o, id := openDocument(t, "Tides.pdf", pdftest.Text(2))
	dir := t.TempDir()
	put := func(name string, data []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		return path
	}
	long := put("levels.txt", []byte(strings.Repeat("level 1.2 at the north quay, wind of force 4 from the west\n", 60_000)))
	bad, licence := put("bad.pdf", []byte("%PDF-1.7\n1 0 obj\n<</Type/Catalog>>\nendobj\n")), put("Licence.pdf", lockedFile(t))
	o.go_("/documents")
	o.ready()
	o.page.MustElement("#drop-files").MustSetFiles(bad, licence, long)
	o.wait(`() => document.querySelectorAll("#drop-wrong li").length === 2 && document.querySelectorAll("#drop-going li").length === 1`)
	o.click(`a[href^="/desk/` + id + `"]`)
	o.wait(`() => document.querySelector("#leaving").open`)
	assert.Contains(t, o.text("#leaving-says"), "1 file is not added yet")
	o.accessible("leaving while files arrive")
	o.shot("leaving")
	o.page.MustElementR("#leaving button", "Stay here").MustClick()
	o.wait(`() => !document.querySelector("#leaving").open && location.pathname === "/documents"`)
	o.click(`a[href^="/desk/` + id + `"]`)
	o.wait(`() => document.querySelector("#leaving").open`)
	wait := o.page.MustWaitOpen()
	o.page.MustElementR("#leaving button", "Open in a new tab").MustClick()
	beside := wait()
	beside.MustWaitLoad()
	assert.Contains(t, beside.MustInfo().URL, "/desk/"+id)
	require.NoError(t, beside.Close())
	assert.Equal(t, 1, o.page.MustEval(`() => document.querySelectorAll("#drop-going li").length`).Int(), "it goes on here")
	// Loading the screen again asks as well.
	asked, handle := o.page.HandleDialog()
	done := make(chan bool, 1)
	go func() {
		done <- asked().Type == proto.PageDialogTypeBeforeunload
		_ = handle(&proto.PageHandleJavaScriptDialog{Accept: false})
	}()
	go func() { _ = proto.PageReload{}.Call(o.page) }()
	select {
	case was := <-done:
		assert.True(t, was)
	case <-time.After(20 * time.Second):
		t.Fatal("loading the screen again does not ask")
	}
	o.click("#arriving-cancel")
	o.wait(`() => document.querySelector("#drop-said").textContent.includes("1 cancelled")`)

	o.go_("/documents")
	o.ready()
	o.wait(`() => document.querySelectorAll("#drop-wrong li").length === 2 && !!document.querySelector("#drop-wrong input[type=password]")`)
	assert.Contains(t, o.text("#drop-said"), "0 of 2 added, 1 needs its password, 1 could not be added")
	assert.Contains(t, o.text("#drop-wrong"), "the file is damaged")
	o.page.MustElement("#drop-wrong input[type=password]").MustInput("harbour")
	o.page.MustElementR("#drop-wrong button", "Unlock").MustClick()
	o.wait(`() => document.querySelectorAll("#drop-list li").length === 1 && document.querySelectorAll("#drop-wrong li").length === 1`)
	o.go_("/documents")
	o.ready()
	o.wait(`() => document.querySelectorAll("#drop-wrong li").length === 1`)
	assert.NotContains(t, o.text("#drop-wrong"), "Licence")
	o.click("#arriving-close")
	o.go_("/documents")
	o.ready()
	assert.Equal(t, 0, o.page.MustEval(`() => document.querySelectorAll("#drop-wrong li").length`).Int())
	assert.True(t, o.page.MustEval(`() => document.querySelector("#arriving").hidden`).Bool())
}

// lockedFile is a file that opens with the password “harbour”.
func lockedFile(t *testing.T) []byte {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/a.pdf", pdftest.Text(3), 0o600))
	require.NoError(t, exec.Command("qpdf", "--encrypt", "harbour", "owner", "256", "--", dir+"/a.pdf", dir+"/l.pdf").Run())
	b, err := os.ReadFile(dir + "/l.pdf")
	require.NoError(t, err)
	return b
}
