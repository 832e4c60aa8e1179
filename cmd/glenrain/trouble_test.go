package main

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

func turn(v *visitor, base, doc, page, request string) (string, int) {
	body, _ := v.ask(base, http.MethodGet, "/desk/"+doc+"/arrange", "", nil)
	m := seenRE.FindStringSubmatch(body)
	if m == nil {
		return body, 0
	}
	form := url.Values{"_seen": {m[1]}, "_request": {request}, "_place": {"arrange"}, "pages": {"0." + page}, "by": {"90"}}
	return v.ask(base, http.MethodPost, "/desk/"+doc+"/do/rotate", "application/x-www-form-urlencoded", []byte(form.Encode()))
}

func trailOf(t *testing.T, v *visitor, base, doc string) int {
	t.Helper()
	body, code := v.ask(base, http.MethodGet, "/desk/"+doc+"/arrange", "", nil)
	require.Equal(t, http.StatusOK, code, body)
	return strings.Count(body, `class="trail-go"`)
}

// A disk that is full: it is said so, what is there is still seen, and all that was acknowledged is there when there is room again.
func TestDiskFull(t *testing.T) {
	if exec.Command("unshare", "-m", "true").Run() != nil {
		t.Skip("this needs the right to mount a small disk")
	}
	first := t.TempDir()
	v := setUp(t, first)
	dir := t.TempDir()
	script := fmt.Sprintf("mount -t tmpfs -o size=80m tmpfs %[1]s && cp -a %[2]s/. %[1]s && exec %[3]s serve --data %[1]s --addr 127.0.0.1:0", dir, first, os.Args[0])
	cmd := exec.Command("unshare", "-m", "sh", "-c", script)
	cmd.Env = append(os.Environ(), asProgram+"=1")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	base := ""
	for lines := bufio.NewScanner(out); base == "" && lines.Scan(); {
		if m := regexp.MustCompile(`Glenrain is at (\S+)`).FindStringSubmatch(lines.Text()); m != nil {
			base = m[1]
		}
	}
	require.NotEmpty(t, base)
	inside := func(script string) {
		t.Helper()
		b, err := exec.Command("nsenter", "-t", fmt.Sprint(cmd.Process.Pid), "-m", "sh", "-c", script).CombinedOutput()
		require.NoError(t, err, string(b))
	}
	bring := func(name string, data []byte) (string, int) {
		return v.ask(base, http.MethodPost, "/documents/add?name="+name+".pdf", "", data)
	}
	body, code := bring("Trail", pdftest.Text(12))
	require.Equal(t, http.StatusOK, code, body)
	doc := idRE.FindStringSubmatch(body)[1]
	_, code = turn(v, base, doc, "1", "a")
	require.Equal(t, http.StatusOK, code)

	// One file that does not fit.
	big := append(pdftest.Text(2), make([]byte, 60<<20)...)
	body, code = bring("Big", big)
	assert.Equal(t, http.StatusInsufficientStorage, code)
	assert.Contains(t, body, "disk")
	_, code = bring("Small", pdftest.Text(3))
	assert.Equal(t, http.StatusOK, code, "what fits still comes in")

	// Not a byte is left.
	inside("head -c 100m /dev/zero > " + dir + "/filler; true")
	said := 0
	steps := 1
	for i := range 40 {
		body, code := turn(v, base, doc, "2", fmt.Sprint("full", i))
		switch code {
		case http.StatusOK:
			steps++
		case http.StatusInsufficientStorage:
			said++
			assert.Contains(t, body, "is full or can’t be written to. Nothing was changed")
			assert.Equal(t, 1, strings.Count(body, "is full"), "said once")
		default:
			t.Fatalf("%d %s", code, body)
		}
	}
	assert.Positive(t, said)
	assert.Equal(t, steps, trailOf(t, v, base, doc), "what is there is seen, and no half step")
	_, code = bring("More", pdftest.Text(2))
	assert.Equal(t, http.StatusInsufficientStorage, code)

	// Room again: work goes on in the same server.
	inside("rm " + dir + "/filler")
	_, code = turn(v, base, doc, "3", "after")
	assert.Equal(t, http.StatusOK, code)
	assert.Equal(t, steps+1, trailOf(t, v, base, doc))
	body, code = v.ask(base, http.MethodGet, "/documents", "", nil)
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, body, `data-name="Small"`)
	assert.NotContains(t, body, `data-name="Big"`)
	assert.NotContains(t, body, `data-name="More"`)
}

// A folder that can't be written to is refused at the start, in a sentence.
func TestReadOnlyFolder(t *testing.T) {
	if exec.Command("unshare", "-m", "true").Run() != nil {
		t.Skip("this needs the right to mount a folder read-only")
	}
	data := t.TempDir()
	setUp(t, data)
	script := fmt.Sprintf("mount --bind %[1]s %[1]s && mount -o remount,bind,ro %[1]s && exec %[2]s serve --data %[1]s --addr 127.0.0.1:0", data, os.Args[0])
	cmd := exec.Command("unshare", "-m", "sh", "-c", script)
	cmd.Env = append(os.Environ(), asProgram+"=1")
	b, err := cmd.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(b), "the data folder")
	assert.Contains(t, string(b), "read-only")
	assert.NotContains(t, string(b), "panic")
}

// A connection that is lost in the middle of an upload leaves nothing.
func TestLostConnection(t *testing.T) {
	data := t.TempDir()
	v := setUp(t, data)
	s := serve(t, data)
	t.Cleanup(s.kill)
	coming := func() int {
		left, err := os.ReadDir(filepath.Join(data, "coming"))
		require.NoError(t, err)
		return len(left)
	}
	for i := range 5 {
		c, err := net.Dial("tcp", strings.TrimPrefix(s.base, "http://"))
		require.NoError(t, err)
		cookie := ""
		for _, k := range v.cookies {
			cookie += k.Name + "=" + k.Value + "; "
		}
		_, err = fmt.Fprintf(c, "POST /documents/add?name=Half%d.pdf HTTP/1.1\r\nHost: x\r\nCookie: %s\r\nContent-Length: 5000000\r\n\r\n%s", i, cookie, pdftest.Text(30))
		require.NoError(t, err)
		require.Eventually(t, func() bool { return coming() == 1 }, 5*time.Second, 5*time.Millisecond)
		require.NoError(t, c.Close())
		require.Eventually(t, func() bool { return coming() == 0 }, 5*time.Second, 5*time.Millisecond)
	}
	body, code := v.ask(s.base, http.MethodGet, "/documents", "", nil)
	assert.Equal(t, http.StatusOK, code)
	assert.NotContains(t, body, "Half")
}

// A second server on the same folder is refused in a sentence.
func TestTwoServers(t *testing.T) {
	data := t.TempDir()
	setUp(t, data)
	s := serve(t, data)
	t.Cleanup(s.kill)
	cmd := exec.Command(os.Args[0], "serve", "--data", data, "--addr", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), asProgram+"=1")
	b, err := cmd.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(b), "another server works on this data folder")
}

// A backup of a server that is being worked on, restored into a new folder, has all that was acknowledged
// before it began; what is unused is swept at the next start.
func TestBackup(t *testing.T) {
	data := t.TempDir()
	v := setUp(t, data)
	s := serve(t, data)
	t.Cleanup(s.kill)
	body, code := v.ask(s.base, http.MethodPost, "/documents/add?name=Trail.pdf", "", pdftest.Text(9))
	require.Equal(t, http.StatusOK, code)
	doc := idRE.FindStringSubmatch(body)[1]
	for i := range 5 {
		_, code = turn(v, s.base, doc, "1", fmt.Sprint("before", i))
		require.Equal(t, http.StatusOK, code)
	}
	stop := make(chan struct{})
	busy := make(chan struct{})
	go func() { // work goes on meanwhile
		defer close(busy)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
				turn(v, s.base, doc, "2", fmt.Sprint("during", i))
			}
		}
	}()
	program := func(args ...string) (string, error) {
		cmd := exec.Command(os.Args[0], args...)
		cmd.Env = append(os.Environ(), asProgram+"=1")
		b, err := cmd.CombinedOutput()
		return string(b), err
	}
	file := filepath.Join(t.TempDir(), "monday.tar")
	said, err := program("backup", data, "-o", file)
	require.NoError(t, err, said)
	assert.Contains(t, said, "The database and 1 file are in")
	close(stop)
	<-busy

	again := filepath.Join(t.TempDir(), "again")
	said, err = program("restore", file, "-o", again)
	require.NoError(t, err, said)
	require.NoError(t, os.MkdirAll(filepath.Join(again, "files", "ab"), 0o700))
	stray := filepath.Join(again, "files", "ab", strings.Repeat("ab", 32))
	require.NoError(t, os.WriteFile(stray, []byte("left over"), 0o600))
	s2 := serve(t, again)
	t.Cleanup(s2.kill)
	assert.GreaterOrEqual(t, trailOf(t, v, s2.base, doc), 5)
	assert.NoFileExists(t, stray)
	_, code = turn(v, s2.base, doc, "3", "in the restored one")
	assert.Equal(t, http.StatusOK, code)

	// Neither into a folder in use, nor of a damaged backup.
	said, err = program("restore", file, "-o", data)
	assert.Error(t, err)
	assert.Contains(t, said, "is not empty")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	at := strings.LastIndex(string(b), "%%EOF")
	require.Positive(t, at)
	b[at-20] ^= 1
	require.NoError(t, os.WriteFile(file, b, 0o600))
	bad := filepath.Join(t.TempDir(), "bad")
	said, err = program("restore", file, "-o", bad)
	assert.Error(t, err)
	assert.Contains(t, said, "damaged")
	assert.NoDirExists(t, bad)
	assert.NoDirExists(t, bad+".coming")
	said, err = program("backup", t.TempDir(), "-o", file)
	assert.Error(t, err)
	assert.Contains(t, said, "no data folder")
}
