package web

import (
	"bytes"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
	"glenrain/desk"
)

// times collects how long answers took, by what was asked.
type times struct {
	mu sync.Mutex
	of map[string][]time.Duration
}

func (t *times) add(what string, d time.Duration) {
	t.mu.Lock()
	t.of[what] = append(t.of[what], d)
	t.mu.Unlock()
}

// Forty people signed in at once upload, arrange and look at pages: no error, no mix-up.
func TestCrowd(t *testing.T) { crowd(t, nil) }

// The same while children are killed, stopped, and filled with somebody's bombs: nobody loses anything, or is refused anything.
func TestCrowdInTrouble(t *testing.T) {
	var bombs [][]byte
	for _, h := range pdftest.Hostiles() {
		if slices.Contains([]string{"one stream twenty times.pdf", "forms that double.pdf", "lengths in a circle.pdf", "ten million lines.pdf"}, h.Name) {
			bombs = append(bombs, h.Data)
		}
	}
	var ended atomic.Int64
	crowd(t, func(c *client, stop <-chan struct{}) {
		chance := rand.New(rand.NewPCG(3, 1))
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			case <-time.After(time.Duration(250+chance.IntN(500)) * time.Millisecond):
			}
			if pids := childrenOf(os.Getpid()); len(pids) > 0 {
				signal := []syscall.Signal{syscall.SIGKILL, syscall.SIGSTOP}[n%2]
				if syscall.Kill(pids[chance.IntN(len(pids))], signal) == nil {
					ended.Add(1)
				}
			}
			if n%5 == 0 { // answered in a sentence, or taken; never with a fault of the server's
				code, body, _ := c.send(http.MethodPost, "/documents/add?name=Bomb.pdf", "", bytes.NewReader(bombs[n/5%len(bombs)]))
				assert.Contains(t, []int{http.StatusOK, http.StatusUnprocessableEntity}, code, "%.200s", body)
			}
		}
	})
	assert.Positive(t, ended.Load())
}

// childrenOf gives the processes that a process started.
func childrenOf(pid int) (out []int) {
	list, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range list {
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		f := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
		if len(f) > 1 && f[1] == strconv.Itoa(pid) {
			if n, err := strconv.Atoi(filepath.Base(filepath.Dir(path))); err == nil {
				out = append(out, n)
			}
		}
	}
	return out
}

func crowd(t *testing.T, trouble func(c *client, stop <-chan struct{})) {
	people := 40
	if testing.Short() {
		people = 6
	}
	o := openOffice(t, false)
	// Each comes from an address of their own, as behind a proxy.
	s, err := New(o.desk, Options{House: demo.House, Proxied: true, Log: slog.New(slog.NewTextHandler(t.Output(), nil))})
	require.NoError(t, err)
	server := httptest.NewServer(s.Handler())
	t.Cleanup(server.Close)
	for i := range people {
		_, err := o.desk.AddPerson(t.Context(), fmt.Sprintf("Person %d", i), fmt.Sprintf("person%d", i), demo.Password)
		require.NoError(t, err)
	}
	took := &times{of: map[string][]time.Duration{}}
	stop, over := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(over)
		if trouble != nil {
			c := o.client()
			c.signIn("isla")
			trouble(c, stop)
		}
	}()
	var wg sync.WaitGroup
	pictureRE := regexp.MustCompile(`(?s)id="pages"[^>]*>(.*?)</script>`)
	for i := range people {
		wg.Go(func() {
			c := o.client()
			c.base = server.URL
			asked := func(what string, f func() (int, string, http.Header)) string {
				start := time.Now()
				code, body, _ := f()
				took.add(what, time.Since(start))
				if code != http.StatusOK {
					t.Errorf("%s: %d %.200s", what, code, body)
				}
				return body
			}
			from := []string{"X-Real-IP", fmt.Sprintf("10.0.0.%d", i+1)}
			asked("sign in", func() (int, string, http.Header) {
				v := url.Values{"name": {fmt.Sprintf("person%d", i)}, "password": {demo.Password}}
				return c.send(http.MethodPost, "/enter", "application/x-www-form-urlencoded", strings.NewReader(v.Encode()), from...)
			})
			pages := 5 + i%20
			body := asked("upload", func() (int, string, http.Header) {
				return c.send(http.MethodPost, fmt.Sprintf("/documents/add?name=Paper%%20%d.pdf", i), "", bytes.NewReader(pdftest.Text(pages)), from...)
			})
			m := regexp.MustCompile(`"id":(\d+)`).FindStringSubmatch(body)
			if m == nil {
				return
			}
			for n := range 6 {
				body = asked("desk", func() (int, string, http.Header) {
					return c.send(http.MethodGet, "/desk/"+m[1]+"/arrange", "", nil, from...)
				})
				seen := regexp.MustCompile(`data-seen="(\d+)"`).FindStringSubmatch(body)
				if seen == nil || !pictureRE.MatchString(body) {
					t.Errorf("no pages on the desk: %.300s", body)
					return
				}
				for _, p := range regexp.MustCompile(`\["(0\.\d+)",(\d+),`).FindAllStringSubmatch(body, 4) {
					asked("picture", func() (int, string, http.Header) {
						return c.send(http.MethodGet, "/desk/"+m[1]+"/picture/"+p[1]+"/"+p[2]+"/152", "", nil, from...)
					})
				}
				v := url.Values{"_seen": seen[1:], "_request": {fmt.Sprint(i, " ", n)}, "_place": {"arrange"}, "pages": {fmt.Sprintf("0.%d", n%pages+1)}, "by": {"90"}}
				asked("step", func() (int, string, http.Header) {
					return c.send(http.MethodPost, "/desk/"+m[1]+"/do/rotate", "application/x-www-form-urlencoded", strings.NewReader(v.Encode()), append(from, "HX-Request", "true")...)
				})
			}
		})
	}
	wg.Wait()
	close(stop)
	<-over
	all, err := o.desk.Documents(t.Context(), desk.Listing{Person: 1, Most: 1000})
	require.NoError(t, err)
	all = slices.DeleteFunc(all, func(d desk.Document) bool { return d.Name == "Bomb" })
	require.Len(t, all, people)
	for _, d := range all {
		n, err := strconv.Atoi(strings.TrimPrefix(d.Name, "Paper "))
		require.NoError(t, err)
		assert.Equal(t, 5+n%20, d.Pages)
		snap, err := o.desk.Snapshot(t.Context(), d.ID)
		require.NoError(t, err)
		steps, err := o.desk.Trail(t.Context(), snap, 0, 100)
		require.NoError(t, err)
		assert.Len(t, steps, 6)
	}
	for what, list := range took.of {
		slices.Sort(list)
		t.Logf("%s: %d, median %v, p95 %v, longest %v", what, len(list), list[len(list)/2].Round(time.Millisecond), list[len(list)*95/100].Round(time.Millisecond), list[len(list)-1].Round(time.Millisecond))
	}
	if b, err := os.ReadFile("/proc/self/status"); err == nil {
		t.Log(regexp.MustCompile(`VmHWM:.*`).FindString(string(b)))
	}
}

// A signed document says so before it is changed, and leaves with its signature or without, as is chosen.
func TestSignedFiles(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/AcroForm<</SigFlags 3/Fields[5 0 R]>>/Perms<</DocMDP 6 0 R>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2/MediaBox[0 0 300 300]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Annots[5 0 R]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("<</Type/Annot/Subtype/Widget/FT/Sig/T(harbour master)/V 6 0 R/Rect[0 0 0 0]/P 3 0 R>>")
	f.Add("<</Type/Sig/Filter/Adobe.PPKLite/SubFilter/adbe.pkcs7.detached/Name(Rona Tarbet)/ByteRange[0 9 9 9]/Contents<00ff>" +
		"/Reference[<</TransformMethod/DocMDP/TransformParams<</P 2>>>>]>>")
	signed := f.Bytes()
	id := c.bring("Licence.pdf", signed)
	const who = "certified by Rona Tarbet, who allows only filling in its form: other changes make the signature invalid"
	for _, page := range []string{"/documents", "/desk/" + id + "/arrange", "/desk/" + id + "/furnish"} {
		_, body := c.get(page)
		assert.Contains(t, body, who, page)
	}
	out := func(name, how string) []byte {
		state, _ := c.seen(id)
		v := url.Values{"_seen": {state}, "_request": {name}, "how": {"copy"}, "name": {name}, "signed": {how}, "as-it-is": {"yes"}}
		code, body, h := c.post("/desk/"+id+"/out", v, "HX-Request", "true")
		require.Equal(t, http.StatusNoContent, code, body)
		at := regexp.MustCompile(`out=(\d+)`).FindStringSubmatch(h.Get("HX-Redirect"))[1]
		_, body = c.get("/out/" + at)
		return []byte(body)
	}
	_, body := c.get("/desk/" + id + "/release")
	assert.Regexp(t, `value="keep" checked`, body)
	assert.Equal(t, signed, out("Untouched", "keep"), "nothing was changed: the file as it came")

	state, request := c.seen(id)
	code, _, _ := c.post("/desk/"+id+"/do/rotate", url.Values{"_seen": {state}, "_request": {request}, "_place": {"arrange"}, "pages": {"0.2"}, "by": {"90"}}, "HX-Request", "true")
	require.Equal(t, http.StatusOK, code)
	_, body = c.get("/desk/" + id + "/release")
	assert.Regexp(t, `value="no" checked`, body)
	kept := out("Kept", "keep")
	assert.Equal(t, signed, kept[:len(signed)], "the bytes that were signed are there")
	pdftest.Check(t, kept)
	anew := out("Anew", "no")
	for name, data := range map[string][]byte{"kept": kept, "anew": anew} {
		d, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		assert.Equal(t, 90, d.Geometry(pdftest.Refs(t, d)[1]).Rotate, name)
	}
	pdftest.Check(t, anew)
	plain := pdftest.Tool(t, anew, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	assert.Contains(t, plain, "/T (harbour master)")
	for _, gone := range []string{"/ByteRange", "Rona Tarbet", "/Perms", "/SigFlags"} {
		assert.NotContains(t, plain, gone)
	}
}
