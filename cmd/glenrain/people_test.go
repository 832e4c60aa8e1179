package main

import (
	"bytes"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

// Whoever has the machine lists people, invites somebody and lets a locked-out administrator set a new password, while a server runs.
func TestPeopleCommand(t *testing.T) {
	data := t.TempDir()
	setUp(t, data)
	s := serve(t, data)
	t.Cleanup(s.kill)
	code, out, errs := glenrain(t, "", "people", "--data", data)
	require.Zero(t, code, errs)
	assert.Regexp(t, `Isla Merrow\s+isla\s+administrator`, out)
	for args, words := range map[string]string{"--invite=king": "choose a role", "--reset=nobody": "no one signs in with the name"} {
		code, out, errs = glenrain(t, "", "people", "--data", data, args)
		assert.Equal(t, exitUse, code)
		assert.Empty(t, out)
		assert.Contains(t, errs, words)
	}
	code, _, errs = glenrain(t, "", "people", "--data", t.TempDir())
	assert.NotZero(t, code)
	assert.Contains(t, errs, "is no data folder")
	_, out, _ = glenrain(t, "", "people", "--data", data, "--base", s.base, "--reset", "Isla")
	address := regexp.MustCompile(`http\S+/enter/\S+`).FindString(out)
	require.NotEmpty(t, address, out)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	c := &http.Client{Jar: jar}
	res, err := c.PostForm(address, url.Values{"password": {"spring tides again"}})
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, "/documents", res.Request.URL.Path)
	res, err = c.PostForm(s.base+"/enter", url.Values{"name": {"isla"}, "password": {"low water springs"}})
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, http.StatusUnauthorized, res.StatusCode)
	_, out, _ = glenrain(t, "", "people", "--data", data, "--base", s.base, "--invite", "reader", "--for", "Rona")
	assert.Contains(t, out, "joins as reader")
	// A backup, which holds all of this, is for its owner's eyes.
	file := filepath.Join(t.TempDir(), "monday.tar")
	code, _, errs = glenrain(t, "", "backup", data, "-o", file)
	require.Zero(t, code, errs)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// Other addresses than this machine's own need TLS, or a proxy that speaks it.
func TestServeAddresses(t *testing.T) {
	for addr, fine := range map[string]bool{"127.0.0.1:0": true, "localhost:8080": true, "[::1]:0": true, "0.0.0.0:8080": false, "192.0.2.1:80": false, ":8080": false, "nonsense": false} {
		assert.Equal(t, fine, (&serveCommand{Addr: addr}).checkAddr() == nil, addr)
	}
	assert.NoError(t, (&serveCommand{Addr: "0.0.0.0:80", Proxied: true}).checkAddr())
	assert.NoError(t, (&serveCommand{Addr: "0.0.0.0:443", TLSCert: "c", TLSKey: "k"}).checkAddr())
	assert.Error(t, (&serveCommand{Addr: "0.0.0.0:443", TLSCert: "c"}).checkAddr())
}

// The demo's folder is its user's own, and nobody guesses its name.
func TestDemoFolder(t *testing.T) {
	home := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", home)
	dir, err := demoFolder()
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(dir, filepath.Join(home, "glenrain", "demo-")))
	assert.Greater(t, len(filepath.Base(dir)), len("demo-")+5)
	for _, d := range []string{dir, filepath.Dir(dir)} {
		info, err := os.Stat(d)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o700), info.Mode().Perm(), d)
	}
	again, err := demoFolder()
	require.NoError(t, err)
	assert.Equal(t, dir, again, "the same one at the next start")
	// A size that is no number.
	in := write(t, "a.pdf", pdftest.Text(1))
	for _, dpi := range []string{"NaN", "Inf", "0"} {
		code, _, errs := glenrain(t, "", "render", in, "--dpi", dpi, "-o", filepath.Join(home, "x.png"))
		assert.Equal(t, exitUse, code, errs)
	}
	assert.False(t, bytes.Contains([]byte(dir), []byte(os.TempDir()+"/glenrain-demo-")))
}
