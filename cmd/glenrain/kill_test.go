package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
)

// server is the program serving a data folder, to be killed.
type server struct {
	cmd  *exec.Cmd
	base string
	data string // folder
}

func serve(t *testing.T, data string) *server {
	t.Helper()
	cmd := exec.Command(os.Args[0], "serve", "--data", data, "--addr", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), asProgram+"=1")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	s := &server{cmd: cmd, data: data}
	lines := bufio.NewScanner(out)
	for s.base == "" && lines.Scan() {
		if m := regexp.MustCompile(`Glenrain is at (\S+)`).FindStringSubmatch(lines.Text()); m != nil {
			s.base = m[1]
		}
	}
	require.NotEmpty(t, s.base, "the server starts")
	go func() {
		for lines.Scan() {
		}
	}()
	return s
}

func (s *server) kill() {
	_ = s.cmd.Process.Kill()
	_ = s.cmd.Wait()
}

// visitor sends requests to a server, signed in as its first person.
type visitor struct{ cookies []*http.Cookie }

// setUp makes a data folder with its first person.
func setUp(t *testing.T, data string) *visitor {
	t.Helper()
	// PDFium's compiled form is made once, so that no killed server leaves a compilation behind.
	pool, err := raster.NewPool(raster.CacheForTests(), 1)
	require.NoError(t, err)
	_, err = pool.Render(t.Context(), raster.Request{Source: raster.Source{Key: "warm", Parts: []raster.Part{{Data: pdftest.Text(1)}}}, Scale: 0.1})
	pool.Close()
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(filepath.Join(data, "pdfium"), os.DirFS(raster.CacheForTests())))
	// The first person, by the one-time address that the first start prints.
	first := exec.Command(os.Args[0], "serve", "--data", data, "--addr", "127.0.0.1:0")
	first.Env = append(os.Environ(), asProgram+"=1")
	out, err := first.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, first.Start())
	var address string
	for lines := bufio.NewScanner(out); address == "" && lines.Scan(); {
		address = regexp.MustCompile(`https?://\S+/enter/\S+`).FindString(lines.Text())
	}
	require.NotEmpty(t, address)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	c := &http.Client{Jar: jar, Timeout: 20 * time.Second}
	res, err := c.PostForm(address, url.Values{"full-name": {"Isla Merrow"}, "name": {"isla"}, "password": {"low water springs"}})
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusOK, res.StatusCode)
	u, err := url.Parse(address)
	require.NoError(t, err)
	v := &visitor{jar.Cookies(u)}
	require.NotEmpty(t, v.cookies)
	_ = first.Process.Kill()
	_ = first.Wait()
	return v
}

// send gives the answer, and whether it is 200 and came whole.
func (v *visitor) send(base, method, path, contentType string, body []byte) (string, bool) {
	answer, code := v.ask(base, method, path, contentType, body)
	return answer, code == http.StatusOK
}

// ask gives the answer and its code; 0 where none came, or not whole.
func (v *visitor) ask(base, method, path, contentType string, body []byte) (string, int) {
	req, err := http.NewRequest(method, base+path, bytes.NewReader(body))
	if err != nil {
		return err.Error(), 0
	}
	if contentType != "" {
		req.Header.Set("Content-Type", contentType)
		req.Header.Set("HX-Request", "true")
	}
	for _, k := range v.cookies {
		req.AddCookie(k)
	}
	res, err := (&http.Client{Timeout: 20 * time.Second}).Do(req)
	if err != nil {
		return err.Error(), 0
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		return err.Error(), 0
	}
	return string(b), res.StatusCode
}

var (
	seenRE = regexp.MustCompile(`data-seen="(\d+)"`)
	idRE   = regexp.MustCompile(`"id":(\d+)`)
	moreRE = regexp.MustCompile(`/documents/more/here\?after=(\d+)`)
	backRE = regexp.MustCompile(`trail\?before=(\d+)`)
	stepRE = regexp.MustCompile(`/trail/(\d+)/undo`)
)

// TestKilled kills the server many times in the middle of uploads and steps: whatever was
// acknowledged is there afterwards, nothing half-done is seen, and it always starts again.
func TestKilled(t *testing.T) {
	kills := 50
	if testing.Short() {
		kills = 5
	}
	data := t.TempDir()
	v := setUp(t, data)
	send := v.send
	file := pdftest.Text(12)
	s := serve(t, data)
	body, ok := send(s.base, http.MethodPost, "/documents/add?name=Trail.pdf", "", file)
	require.True(t, ok, body)
	doc := idRE.FindStringSubmatch(body)[1]
	acknowledged, brought := 0, []string{"Trail"}
	r := rand.New(rand.NewPCG(50, 9))
	for i := range kills {
		var wg sync.WaitGroup
		base := s.base
		wg.Go(func() { // steps, one after another
			body, ok := send(base, http.MethodGet, "/desk/"+doc+"/arrange", "", nil)
			for n := 0; ok; n++ {
				m := seenRE.FindStringSubmatch(body)
				if m == nil {
					return
				}
				form := url.Values{"_seen": {m[1]}, "_request": {fmt.Sprintf("%d-%d", i, n)}, "_place": {"arrange"}, "pages": {fmt.Sprintf("0.%d", n%12+1)}, "by": {"90"}}
				if body, ok = send(base, http.MethodPost, "/desk/"+doc+"/do/rotate", "application/x-www-form-urlencoded", []byte(form.Encode())); ok {
					acknowledged++
				}
			}
		})
		wg.Go(func() { // uploads
			for n := 0; ; n++ {
				name := fmt.Sprintf("Upload %d %d", i, n)
				if _, ok := send(base, http.MethodPost, "/documents/add?name="+url.QueryEscape(name+".pdf"), "", file); !ok {
					return
				}
				brought = append(brought, name)
			}
		})
		time.Sleep(time.Duration(20+r.IntN(120)) * time.Millisecond)
		s.kill()
		wg.Wait()
		s = serve(t, data)
		steps := len(v.trail(t, s.base, doc))
		// One step more may have been stored without its answer having arrived.
		require.True(t, steps >= acknowledged && steps <= acknowledged+1, "kill %d: %d steps acknowledged, %d there", i+1, acknowledged, steps)
		acknowledged = steps
	}
	t.Cleanup(s.kill)
	body, ok = send(s.base, http.MethodGet, "/documents", "", nil)
	require.True(t, ok)
	for more := moreRE.FindStringSubmatch(body); more != nil; {
		part, ok := send(s.base, http.MethodGet, "/documents/more/here?after="+more[1], "", nil)
		require.True(t, ok)
		body, more = body+part, moreRE.FindStringSubmatch(part)
	}
	for _, name := range brought {
		assert.Contains(t, body, `data-name="`+name+`"`)
	}
	left, err := os.ReadDir(filepath.Join(data, "coming"))
	require.NoError(t, err)
	assert.Empty(t, left, "what was half uploaded is swept away")
	assert.Greater(t, acknowledged, kills/2, "there was something to lose")
}

// trail gives the ids of a document's steps, newest first, as its desk lists them.
func (v *visitor) trail(t *testing.T, base, doc string) (ids []string) {
	t.Helper()
	body, ok := v.send(base, http.MethodGet, "/desk/"+doc+"/arrange", "", nil)
	for {
		require.True(t, ok)
		for _, m := range stepRE.FindAllStringSubmatch(body, -1) {
			ids = append(ids, m[1])
		}
		more := backRE.FindStringSubmatch(body)
		if more == nil {
			return ids
		}
		body, ok = v.send(base, http.MethodGet, "/desk/"+doc+"/trail?before="+more[1], "", nil)
	}
}

// A server that is killed while it undoes one step in the middle of a trail leaves the trail as it was or as it should be; the next step
// is done, and what is handed out is sound.
func TestKilledReplay(t *testing.T) {
	kills := 20
	if testing.Short() {
		kills = 3
	}
	data := t.TempDir()
	v := setUp(t, data)
	s := serve(t, data)
	t.Cleanup(func() { s.kill() })
	body, ok := v.send(s.base, http.MethodPost, "/documents/add?name=Trail.pdf", "", pdftest.Text(12))
	require.True(t, ok, body)
	doc := idRE.FindStringSubmatch(body)[1]
	do := func(n int) {
		body, ok := v.send(s.base, http.MethodGet, "/desk/"+doc+"/arrange", "", nil)
		require.True(t, ok)
		form := url.Values{"_seen": {seenRE.FindStringSubmatch(body)[1]}, "_request": {fmt.Sprint("step ", n)}, "_place": {"arrange"}, "pages": {fmt.Sprintf("0.%d", n%12+1)}, "by": {"90"}}
		_, ok = v.send(s.base, http.MethodPost, "/desk/"+doc+"/do/rotate", "application/x-www-form-urlencoded", []byte(form.Encode()))
		require.True(t, ok)
	}
	for n := range 40 {
		do(n)
	}
	r := rand.New(rand.NewPCG(20, 7))
	left, gone := 0, 0
	for i := range kills {
		before := v.trail(t, s.base, doc)
		target := before[1+r.IntN(len(before)-1)]
		body, ok := v.send(s.base, http.MethodGet, "/desk/"+doc+"/arrange", "", nil)
		require.True(t, ok)
		form := url.Values{"_seen": {seenRE.FindStringSubmatch(body)[1]}, "_place": {"arrange"}}
		answered := make(chan bool)
		go func() {
			_, ok := v.send(s.base, http.MethodPost, "/desk/"+doc+"/trail/"+target+"/undo", "application/x-www-form-urlencoded", []byte(form.Encode()))
			answered <- ok
		}()
		time.Sleep(time.Duration(r.IntN(40*(1+i%4*2))) * time.Millisecond) // some of them late, for a slow machine
		s.kill()
		acknowledged := <-answered
		s = serve(t, data)
		now := v.trail(t, s.base, doc)
		switch {
		case len(now) == len(before):
			require.False(t, acknowledged, "kill %d", i+1)
			require.Equal(t, before, now)
			left++
		default:
			require.Len(t, now, len(before)-1, "kill %d", i+1)
			require.NotContains(t, now, target)
			gone++
		}
		do(1000 + i)
	}
	t.Logf("the trail was left as it was %d times, and as it should be %d times", left, gone)
	assert.NotZero(t, left)
	if !testing.Short() {
		assert.NotZero(t, gone)
	}
}
