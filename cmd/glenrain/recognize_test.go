package main

import (
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
	scanner "glenrain/standin/scanner"
)

var workRE = regexp.MustCompile(`/progress/(\d+)`)

// A server that is killed while it recognizes has the document as it was before; the pages that were read are not read again when it is taken up.
func TestKilledWhileRecognizing(t *testing.T) {
	if _, err := ocr.Find(); err != nil {
		t.Skip(err)
	}
	doc := pdf.New()
	const pages = 8
	for i := range pages {
		p, err := picture.Decode(scanner.Picture([]string{"letter", "form", "table", "upside down"}[i%4], "Grayscale8", 100+10*i)) // no two alike
		require.NoError(t, err)
		page, err := draw.PicturePage(doc, p, draw.Placement{})
		require.NoError(t, err)
		require.NoError(t, doc.InsertPages(i, []pdf.Ref{page}))
	}
	data := t.TempDir()
	v := setUp(t, data)
	s := serve(t, data)
	body, ok := v.send(s.base, http.MethodPost, "/documents/add?name=Pile.pdf", "", pdftest.Whole(t, doc))
	require.True(t, ok, body)
	id := idRE.FindStringSubmatch(body)[1]
	begin := func(request string) string {
		body, ok := v.send(s.base, http.MethodGet, "/desk/"+id+"/collect/recognize", "", nil)
		require.True(t, ok)
		form := url.Values{"_seen": {seenRE.FindStringSubmatch(body)[1]}, "_request": {request}, "_place": {"collect/recognize"}, "pages": {"all"}, "languages": {"eng"}}
		body, ok = v.send(s.base, http.MethodPost, "/desk/"+id+"/do/recognize", "application/x-www-form-urlencoded", []byte(form.Encode()))
		require.True(t, ok, body)
		m := workRE.FindStringSubmatch(body)
		require.NotNil(t, m, "it goes on in the background")
		return m[1]
	}
	read := func() map[string]time.Time { // the readings that are remembered, and when they were made
		out := map[string]time.Time{}
		list, _ := os.ReadDir(filepath.Join(data, "readings"))
		for _, e := range list {
			if info, err := e.Info(); err == nil && !strings.HasPrefix(e.Name(), ".") {
				out[e.Name()] = info.ModTime()
			}
		}
		return out
	}
	begin("before")
	require.Eventually(t, func() bool { return len(read()) >= 3 }, time.Minute, 20*time.Millisecond)
	s.kill()
	before := read()
	require.Less(t, len(before), pages, "it was killed in the midst")
	s = serve(t, data)
	t.Cleanup(func() { s.kill() })
	assert.Empty(t, v.trail(t, s.base, id), "nothing half done is seen")
	work := begin("after")
	require.Eventually(t, func() bool {
		body, ok := v.send(s.base, http.MethodGet, "/progress/"+work+"?_place=collect/recognize", "", nil)
		require.True(t, ok, body)
		return strings.Contains(body, "Text of pages 1-8 recognized")
	}, 2*time.Minute, 100*time.Millisecond)
	now := read()
	for name, at := range before {
		assert.Equal(t, at, now[name], "a page that was read is not read again")
	}
	assert.GreaterOrEqual(t, len(now), pages)
	assert.Len(t, v.trail(t, s.base, id), 1)
}
