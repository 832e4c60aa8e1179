package web

import (
	"bytes"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRealFiles walks each real file that make papers gathered through the whole house (make walk): brought in, seen at every
// station, drawn, searched, turned, numbered, marked, put in before itself, a page removed, handed out. Each file ends as one
// that qpdf finds sound and that has as many pages as the desk says, or is refused in words at the door.
func TestRealFiles(t *testing.T) {
	dir := os.Getenv("GLENRAIN_PAPERS")
	if dir == "" {
		t.Skip("there are no real files: make walk gathers them")
	}
	var files []string
	require.NoError(t, filepath.WalkDir(dir, func(p string, _ fs.DirEntry, err error) error {
		if strings.HasSuffix(p, ".pdf") {
			files = append(files, p)
		}
		return err
	}))
	require.NotEmpty(t, files)
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	refused := map[string]int{}
	for i, path := range files {
		t.Run(strings.TrimPrefix(path, dir), func(t *testing.T) {
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			code, body, _ := c.send(http.MethodPost, "/documents/add?name="+url.QueryEscape(fmt.Sprintf("%d %s", i, filepath.Base(path))), "", bytes.NewReader(data))
			if code != http.StatusOK {
				require.Less(t, code, http.StatusInternalServerError, body)
				require.NotEmpty(t, body)
				refused[regexp.MustCompile(`“[^”]*”: `).ReplaceAllString(strings.TrimSpace(body), "")]++
				return
			}
			w := &walker{c: &client{t, c.base, c.http}, id: regexp.MustCompile(`"id":(\d+)`).FindStringSubmatch(body)[1]}
			w.look()
			pages := w.change()
			w.out(path, data, pages)
		})
	}
	for words, n := range refused {
		t.Logf("%d refused: %s", n, words)
	}
}

// walker is one file on its way.
type walker struct {
	c  *client
	id string
}

func (w *walker) get(path string) string {
	w.c.t.Helper()
	code, body := w.c.get("/desk/" + w.id + path)
	require.Equal(w.c.t, http.StatusOK, code, "%s: %.300s", path, body)
	return body
}

func (w *walker) do(job string, fields url.Values) {
	w.c.t.Helper()
	state, request := w.c.seen(w.id)
	fields.Set("_seen", state)
	fields.Set("_request", request)
	code, body, _ := w.c.post("/desk/"+w.id+"/do/"+job, fields, "HX-Request", "true")
	require.Equal(w.c.t, http.StatusOK, code, "%s: %.300s", job, body)
}

// pages gives key and version of each page.
func (w *walker) pages() [][2]string {
	w.c.t.Helper()
	list := regexp.MustCompile(`(?s)id="pages"[^>]*>(\[.*?\])</script>`).FindStringSubmatch(w.get("/arrange"))
	require.NotNil(w.c.t, list)
	var out [][2]string
	for _, m := range regexp.MustCompile(`\["([0-9.]+)",(\d+)`).FindAllStringSubmatch(list[1], -1) {
		out = append(out, [2]string{m[1], m[2]})
	}
	require.NotEmpty(w.c.t, out)
	return out
}

// look sees the file at every station, its first and last page, and looks for a word.
func (w *walker) look() {
	for _, station := range []string{"collect", "arrange", "furnish", "review", "release"} {
		w.get("/" + station)
	}
	pages := w.pages()
	for _, p := range [][2]string{pages[0], pages[len(pages)-1]} {
		assert.NotEmpty(w.c.t, w.get("/picture/"+p[0]+"/"+p[1]+"/400"))
		w.get("/words/" + p[0])
		w.get("/hits/" + p[0] + "?q=the")
	}
	w.get("/find?q=the")
	w.get("/marks")
}

// manyPages is from where on a document is not put into itself.
const manyPages = 300

// change takes each step once, and gives how many pages there are then.
func (w *walker) change() int {
	pages := w.pages()
	first := pages[0][0]
	w.do("rotate", url.Values{"_place": {"arrange"}, "pages": {first}, "by": {"90"}})
	w.do("number", url.Values{"_place": {"furnish"}, "pages": {"all"}, "edge": {"bottom"}, "align": {"centre"}, "figures": {"1 2 3"}, "first": {"1"},
		"font": {"Sans"}, "size": {"9pt"}, "colour": {"slate"}, "margin": {"12mm"}, "wording": {""}, "wording.field": {"page"}, "wording.text": {""}})
	if words := strings.Count(w.get("/words/"+first), "["); words > 10 { // each word is a list of its own, after the number too
		w.do("mark-text", url.Values{"_place": {"review"}, "page": {first}, "_words": {"0-1 3-3"}, "how": {"highlight"}, "colour": {"#f6dd8f"}})
		assert.Contains(w.c.t, w.get("/marks"), "Page 1")
	}
	if len(pages) >= manyPages {
		return len(pages)
	}
	state, _ := w.c.seen(w.id)
	w.do("insert", url.Values{"_place": {"collect"}, "from": {"state:" + state}, "pages": {"all"}, "to": {first}})
	w.do("remove", url.Values{"_place": {"arrange"}, "pages": {first}})
	return 2*len(pages) - 1
}

// out hands the document out and holds the file against qpdf.
func (w *walker) out(path string, came []byte, pages int) {
	t := w.c.t
	file := w.c.handOut(t, w.id)
	written := filepath.Join(t.TempDir(), "out.pdf")
	require.NoError(t, os.WriteFile(written, file, 0o600))
	if exec.Command("qpdf", "--check", written).Run() != nil {
		assert.Error(t, exec.Command("qpdf", "--check", path).Run(), "qpdf finds the file that came sound, and what went out not")
	}
	n, _ := exec.Command("qpdf", "--show-npages", written).Output()
	assert.Equal(t, fmt.Sprint(pages), strings.TrimSpace(string(n)))
	assert.NotEqual(t, came, file)
}
