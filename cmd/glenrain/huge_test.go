package main

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

// photographs writes a file of pages that each show one picture of about half a megabyte, which packs no further.
func photographs(t *testing.T, path string, pages int) {
	t.Helper()
	f, err := os.Create(path)
	require.NoError(t, err)
	w := bufio.NewWriterSize(f, 1<<20)
	at, offsets := 0, []int{}
	put := func(format string, args ...any) {
		n, err := fmt.Fprintf(w, format, args...)
		require.NoError(t, err)
		at += n
	}
	object := func() { offsets = append(offsets, at); put("%d 0 obj\n", len(offsets)) }
	put("%%PDF-1.7\n")
	object()
	put("<</Type/Catalog/Pages 2 0 R>>\nendobj\n")
	object()
	put("<</Type/Pages/Count %d/Kids[", pages)
	for i := range pages {
		put("%d 0 R ", 3+3*i)
	}
	put("]>>\nendobj\n")
	noise := rand.NewChaCha8([32]byte{1})
	grey := make([]byte, 800*640)
	for i := range pages {
		n := 3 + 3*i
		object()
		put("<</Type/Page/Parent 2 0 R/MediaBox[0 0 400 320]/Contents %d 0 R/Resources<</XObject<</P %d 0 R>>>>>>\nendobj\n", n+1, n+2)
		object()
		put("<</Length 28>>stream\nq 400 0 0 320 0 0 cm /P Do Q\nendstream\nendobj\n")
		object()
		_, _ = noise.Read(grey)
		put("<</Type/XObject/Subtype/Image/Width 800/Height 640/BitsPerComponent 8/ColorSpace/DeviceGray/Length %d>>stream\n%s\nendstream\nendobj\n", len(grey), grey)
	}
	start := at
	put("xref\n0 %d\n0000000000 65535 f \n", len(offsets)+1)
	for _, o := range offsets {
		put("%010d 00000 n \n", o)
	}
	put("trailer\n<</Size %d/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF\n", len(offsets)+1, start)
	require.NoError(t, w.Flush())
	require.NoError(t, f.Close())
}

// peak gives the most memory that a process and its children have held, in MB, each at its own time.
func peak(t *testing.T, pid int) int {
	t.Helper()
	all := 0
	list, err := filepath.Glob("/proc/[0-9]*/status")
	require.NoError(t, err)
	number := func(status []byte, key string) int {
		m := regexp.MustCompile(`(?m)^` + key + `:\s+(\d+)`).FindSubmatch(status)
		if m == nil {
			return 0
		}
		n, _ := strconv.Atoi(string(m[1]))
		return n
	}
	for _, path := range list {
		b, err := os.ReadFile(path)
		if err == nil && (number(b, "Pid") == pid || number(b, "PPid") == pid) {
			all += number(b, "VmHWM") / 1024
		}
	}
	return all
}

// follow sends a form, waits for the work that it starts, and gives the address that the work ends at.
func follow(t *testing.T, v *visitor, base, path string, form url.Values) string {
	t.Helper()
	method, body := http.MethodPost, strings.NewReader(form.Encode())
	for range 600 {
		req, err := http.NewRequest(method, base+path, body)
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		req.Header.Set("HX-Request", "true")
		for _, k := range v.cookies {
			req.AddCookie(k)
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		if to := res.Header.Get("HX-Redirect"); to != "" {
			return to
		}
		path = regexp.MustCompile(`/progress/\d+`).FindString(string(b))
		require.NotEmpty(t, path, string(b))
		method, body = http.MethodGet, strings.NewReader("")
	}
	t.Fatal("the work does not end")
	return ""
}

// fetch saves what an address gives.
func fetch(t *testing.T, v *visitor, address string) string {
	t.Helper()
	req, err := http.NewRequest(http.MethodGet, address, nil)
	require.NoError(t, err)
	for _, k := range v.cookies {
		req.AddCookie(k)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode)
	f, err := os.Create(filepath.Join(t.TempDir(), "out.pdf"))
	require.NoError(t, err)
	defer f.Close()
	_, err = io.Copy(f, res.Body)
	require.NoError(t, err)
	return f.Name()
}

// through turns pages, looks at them, hands the document out and counts what was handed out.
func through(t *testing.T, v *visitor, base, doc string, pages int) {
	t.Helper()
	for _, page := range []int{1, pages / 2, pages} {
		key := fmt.Sprint(page)
		body, code := turn(v, base, doc, key, "turn"+key)
		require.Equal(t, http.StatusOK, code)
		at := regexp.MustCompile(`(?:&#34;|")0\.` + key + `(?:&#34;|"),(?:&#34;|")?(\d+)`).FindStringSubmatch(body)
		require.NotNil(t, at, body)
		picture, code := v.ask(base, http.MethodGet, fmt.Sprintf("/desk/%s/picture/0.%s/%s/640", doc, key, at[1]), "", nil)
		require.Equal(t, http.StatusOK, code, picture)
	}
	body, _ := v.ask(base, http.MethodGet, "/desk/"+doc+"/release", "", nil)
	m := seenRE.FindStringSubmatch(body)
	require.NotNil(t, m)
	to := follow(t, v, base, "/desk/"+doc+"/out", url.Values{"_seen": {m[1]}, "_request": {"out " + doc}, "name": {fmt.Sprint("Exported ", pages)}, "how": {"copy"}, "as-it-is": {"yes"}})
	out := fetch(t, v, base+"/out/"+regexp.MustCompile(`out=(\d+)`).FindStringSubmatch(to)[1])
	n, err := exec.Command("qpdf", "--show-npages", out).Output()
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprint(pages), strings.TrimSpace(string(n)))
}

// Half a gigabyte is added, seen, rotated and handed out, in memory that does not grow with the file; and
// so are 5,000 pages that are combined.
func TestHuge(t *testing.T) {
	if testing.Short() {
		t.Skip("half a gigabyte is written and read")
	}
	data := t.TempDir()
	v := setUp(t, data)
	s := serve(t, data)
	t.Cleanup(s.kill)
	const most = 500 // MB: the server and the children that draw
	pid := s.cmd.Process.Pid

	path := filepath.Join(t.TempDir(), "photographs.pdf")
	photographs(t, path, 1000)
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	st, err := f.Stat()
	require.NoError(t, err)
	require.Greater(t, st.Size(), int64(500e6))
	req, err := http.NewRequest(http.MethodPost, s.base+"/documents/add?name=Photographs.pdf", f)
	require.NoError(t, err)
	for _, k := range v.cookies {
		req.AddCookie(k)
	}
	start := time.Now()
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	b, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusOK, res.StatusCode, string(b))
	t.Logf("%d MB added within %.1f s; peak %d MB", st.Size()>>20, time.Since(start).Seconds(), peak(t, pid))
	doc := idRE.FindStringSubmatch(string(b))[1]
	start = time.Now()
	through(t, v, s.base, doc, 1000)
	t.Logf("rotated, seen and handed out within %.1f s; peak %d MB", time.Since(start).Seconds(), peak(t, pid))
	assert.Less(t, peak(t, pid), most)

	var ids []string
	for i := range 4 {
		body, code := v.ask(s.base, http.MethodPost, fmt.Sprintf("/documents/add?name=Part%d.pdf", i), "", pdftest.Text(1250))
		require.Equal(t, http.StatusOK, code, body)
		ids = append(ids, idRE.FindStringSubmatch(body)[1])
	}
	start = time.Now()
	to := follow(t, v, s.base, "/documents/combine", url.Values{"id": ids, "name": {"The selection"}})
	t.Logf("combined within %.1f s; peak %d MB", time.Since(start).Seconds(), peak(t, pid))
	through(t, v, s.base, strings.Split(to, "/")[2], 5000)
	t.Logf("rotated, seen and handed out; peak %d MB", peak(t, pid))
	assert.Less(t, peak(t, pid), most)
}
