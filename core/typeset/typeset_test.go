package typeset

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func set(t *testing.T, s Sheet) (path string) {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Set(t.Context(), s, Limits{}, &b))
	path = filepath.Join(t.TempDir(), "out.pdf")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	return path
}

func said(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).Output()
	require.NoError(t, err)
	return string(out)
}

func TestSet(t *testing.T) {
	path := set(t, Sheet{HTML: []byte(`<!DOCTYPE html><html lang="en-GB"><title>Notice</title><style>@page{size:419.53pt 595.28pt;margin:20mm;@bottom-center{content:counter(page) " of " counter(pages)}}</style>
		<h1>Low water</h1><p>Take care. <a href="https://tides.example/">Tides</a></p><ul><li>One</li></ul><table><thead><tr><th scope="col">Berth</th></tr></thead><tr><td>North 1</td></tr></table><h2>After</h2>`), Sizes: [][2]float64{{419.53, 595.28}}})
	tags := said(t, "pdfinfo", "-struct-text", path)
	for _, want := range []string{"H1", "H2", "Link", "LI", "Table", "TH", `"Low water"`} {
		assert.Contains(t, tags, want)
	}
	info := said(t, "pdfinfo", path)
	assert.Regexp(t, `Tagged: +yes`, info)
	assert.Regexp(t, `Page size: +419\.53 x 595\.28 pts`, info, "ISO 216: 148 x 210 mm")
	assert.NotContains(t, info, "Mozilla")
	assert.Contains(t, said(t, "qpdf", "--check", path), "No syntax or stream encoding errors found")
	assert.Contains(t, said(t, "pdftotext", path, "-"), "1 of 1")
	assert.Contains(t, said(t, "mutool", "show", path, "outline"), "Low water")
	for line := range strings.Lines(said(t, "pdffonts", path)) {
		if f := strings.Fields(line); len(f) > 5 && f[0] != "name" && !strings.HasPrefix(f[0], "--") {
			assert.Equal(t, "yes", f[len(f)-5], "embedded: %s", line)
		}
	}
}

// A sheet reaches nothing but its own files: not the network, not the machine's files, not the files of others.
func TestShutIn(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "secret.html")
	require.NoError(t, os.WriteFile(secret, []byte("<p>the secret of the house</p>"), 0o600))
	var visits atomic.Int32
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			visits.Add(1)
			_, _ = c.Write([]byte("HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nAccess-Control-Allow-Origin: *\r\nContent-Length: 24\r\n\r\n<p>from the network</p>\n"))
			_ = c.Close()
		}
	}()
	out := "http://" + l.Addr().String() + "/x"
	file := "file://" + secret
	svg := base64.StdEncoding.EncodeToString([]byte(`<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><script>document.title="ran"</script><image href="` + out + `"/></svg>`))
	for name, html := range map[string]string{
		"script":       `<p id=x>as it was</p><script>document.getElementById("x").textContent="a script ran"</script>`,
		"handler":      `<p id=x>as it was</p><img src="none.png" onerror="document.getElementById('x').textContent='a script ran'">`,
		"http":         `<p>as it was</p><img src="%[1]s"><iframe src="%[1]s"></iframe><object data="%[1]s"></object><embed src="%[1]s"><link rel=stylesheet href="%[1]s"><link rel=prefetch href="%[1]s"><link rel=dns-prefetch href="//tides.example">`,
		"file":         `<p>as it was</p><iframe src="%[2]s" width=400 height=200></iframe><object data="%[2]s"></object><img src="%[2]s"><embed src="%[2]s">`,
		"import":       `<p>as it was</p><style>@import "%[1]s";@import url(%[2]s);@font-face{font-family:x;src:url(%[1]s)}p{font-family:x;background:url(%[1]s)}</style>`,
		"refresh":      `<meta http-equiv="refresh" content="0;url=%[1]s"><p>as it was</p>`,
		"refresh file": `<meta http-equiv="refresh" content="0;url=%[2]s"><p>as it was</p>`,
		"base":         `<base href="%[1]s"><p>as it was</p><img src="y.png">`,
		"svg":          `<p>as it was</p><img src="data:image/svg+xml;base64,` + svg + `"><svg><image href="%[1]s"/><use href="%[1]s#a"/><foreignObject><iframe src="%[2]s"></iframe></foreignObject></svg>`,
		"data":         `<p>as it was</p><iframe src="data:text/html,<p>other document</p><img src='%[1]s'>"></iframe>`,
		"form":         `<form action="%[1]s"><p>as it was</p><button autofocus>go</button></form>`,
		"other files":  `<p>as it was</p><img src="/etc/passwd"><iframe src="http://other.invalid/"></iframe><iframe src="chrome://version"></iframe>`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			html := strings.NewReplacer("%[1]s", out, "%[2]s", file).Replace(html)
			text := said(t, "pdftotext", set(t, Sheet{HTML: []byte("<!DOCTYPE html><title>T</title>" + html)}), "-")
			assert.Contains(t, text, "as it was")
			for _, never := range []string{"a script ran", "secret", "from the network", "other document", "root:"} {
				assert.NotContains(t, text, never)
			}
		})
	}
	t.Cleanup(func() { assert.Zero(t, visits.Load(), "somebody was called") })
}

func TestFiles(t *testing.T) {
	png, err := base64.StdEncoding.DecodeString("iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==")
	require.NoError(t, err)
	path := set(t, Sheet{HTML: []byte(`<!DOCTYPE html><title>T</title><img src="p1.png" alt="a mark" width=80 height=80><img src="p2.png" alt="none">`), Files: map[string]File{"p1.png": {"image/png", png}}})
	list := said(t, "pdfimages", "-list", path)
	assert.Contains(t, list, "   1     1 ", "a picture of one pixel: %s", list)
	assert.Contains(t, said(t, "pdfinfo", "-struct", path), "Figure")
}

// What takes too long or too much is stopped, with all of its processes and its profile.
func TestLimits(t *testing.T) {
	before, _ := filepath.Glob(filepath.Join(os.TempDir(), "glenrain-set-*"))
	var deep strings.Builder
	for i := range 200_000 {
		fmt.Fprintf(&deep, "<table><tr><td>%d", i%10)
	}
	at := time.Now()
	err := Set(t.Context(), Sheet{HTML: []byte(deep.String())}, Limits{Time: 3 * time.Second, Memory: 1 << 30}, &bytes.Buffer{})
	if err != nil { // it may be quick to give up by itself
		assert.True(t, err == ErrTime || err == ErrMemory || strings.Contains(err.Error(), ErrFailed.Error()), "%v", err)
	}
	assert.Less(t, time.Since(at), 20*time.Second)
	err = Set(t.Context(), Sheet{HTML: []byte(strings.Repeat("<p>The tide table of the harbour.</p>", 200_000))}, Limits{Time: 1500 * time.Millisecond, Memory: 2 << 30}, &bytes.Buffer{})
	assert.ErrorIs(t, err, ErrTime)
	err = Set(t.Context(), Sheet{HTML: []byte("<p>x")}, Limits{Time: 20 * time.Second, Memory: 10 << 20}, &bytes.Buffer{})
	assert.ErrorIs(t, err, ErrMemory)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, Set(ctx, Sheet{HTML: []byte("<p>x")}, Limits{}, &bytes.Buffer{}), context.Canceled)
	after, _ := filepath.Glob(filepath.Join(os.TempDir(), "glenrain-set-*"))
	assert.LessOrEqual(t, len(after), len(before), "profiles are left: %v", after)
}
