package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
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

	"glenrain/core/intake/intaketest"
	"glenrain/core/pdf/pdftest"
)

// What a hostile file may take, the server and its children together.
const (
	mostSeconds = 10
	mostMemory  = 1 << 30
	mostOwn     = 300 << 20 // the server alone
)

// quick are those of the files that tests make which tell most in little time; the porter's own test tries all of them.
var quick = []string{"lengths in a circle.pdf", "a name tree in itself.pdf", "fields in themselves.pdf", "tags in themselves.pdf", "layers in themselves.pdf", "bookmarks in themselves.pdf",
	"fifty thousand levels.pdf", "packed twice.pdf", "a form in itself.pdf", "a million times one page.pdf", "eighteen thousand squared.png"}

// hostiles gives files that tests make: with GLENRAIN_HOSTILE all of them, and those in the folder that it names.
func hostiles(t *testing.T) []pdftest.Hostile {
	all := append(slices.Clone(pdftest.Hostiles()), pdftest.HostilePictures()...)
	dir := os.Getenv("GLENRAIN_HOSTILE")
	if dir == "" {
		return slices.DeleteFunc(all, func(h pdftest.Hostile) bool { return !slices.Contains(quick, h.Name) })
	}
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range list {
		data, err := os.ReadFile(filepath.Join(dir, e.Name()))
		require.NoError(t, err)
		all = append(all, pdftest.Hostile{Name: e.Name(), Data: data})
	}
	return all
}

// quickOther are those of the files of other kinds than PDF that tell most in little time.
var quickOther = []string{"cut in the middle.docx", "entities.docx", "two hundred million pixels.docx", "ten gigabytes of zeros.zip", "zips in zips.zip", "out of the folder.zip", "a million rows.xlsx", "formulas of themselves.xlsx",
	"tables in tables.html", "parts in parts.eml", "a million rows.ods", "a directory of millions.zip", "sixteen thousand columns.csv", "mails in mails.eml"}

// others gives files of other kinds than PDF that tests make: with GLENRAIN_HOSTILE all of them.
func others() (out []pdftest.Hostile) {
	for _, h := range intaketest.Hostiles() {
		if h.Name == "three thousand files.zip" { // each becomes a document, one after another, as long as somebody waits
			continue
		}
		if os.Getenv("GLENRAIN_HOSTILE") != "" || slices.Contains(quickOther, h.Name) {
			out = append(out, pdftest.Hostile(h))
		}
	}
	return out
}

// settingSeconds is how long setting a file as pages may take, besides.
const settingSeconds = 60

// TestHostileOthers takes hostile files of other kinds through the running program, and through the command line.
func TestHostileOthers(t *testing.T) {
	if testing.Short() {
		t.Skip("many files, each slow to read")
	}
	v, s, seen := attacked(t)
	for _, h := range others() {
		t.Run(h.Name, func(t *testing.T) {
			g := watch(s.cmd.Process.Pid, seen)
			start := time.Now()
			answer, code := v.ask(s.base, http.MethodPost, "/documents/add?name="+url.QueryEscape(h.Name), "", h.Data)
			took := time.Since(start)
			g.stop()
			t.Logf("%.1f s, %d MB at most, the server %d, others waited %d ms at most, %d: %.160s", took.Seconds(), g.most.Load()>>20, g.own.Load()>>20, g.slowest.Load()/1e6, code, answer)
			assert.Less(t, g.own.Load(), int64(mostOwn))
			assert.Less(t, g.slowest.Load(), int64(time.Second))
			assert.Less(t, took.Seconds(), float64(settingSeconds))
			assert.Less(t, g.most.Load(), int64(mostMemory))
			assert.Zero(t, g.failed.Load(), "others are answered")
			assert.Contains(t, []int{200, 422, 423}, code, "%.300s", answer)
			assert.NotContains(t, answer, "goroutine")
			if code == 422 {
				assert.Contains(t, answer, "nothing was changed")
			}
			assert.NoError(t, s.cmd.Process.Signal(syscall.Signal(0)), "the server is alive")
		})
		t.Run(h.Name+" on the command line", func(t *testing.T) {
			path := filepath.Join(t.TempDir(), h.Name)
			require.NoError(t, os.WriteFile(path, h.Data, 0o600))
			cmd := exec.Command(os.Args[0], "combine", path, "-o", path+".pdf")
			cmd.Env = append(os.Environ(), asProgram+"=1")
			var errs strings.Builder
			cmd.Stderr = &errs
			start := time.Now()
			_ = cmd.Run()
			assert.Less(t, time.Since(start).Seconds(), float64(settingSeconds))
			code := cmd.ProcessState.ExitCode()
			assert.True(t, slices.Contains([]int{exitDone, exitRead}, code), "%d: %s", code, errs.String())
			assert.NotContains(t, errs.String(), "goroutine")
			if code != exitDone {
				assert.Contains(t, errs.String(), "glenrain: ")
				assert.NoFileExists(t, path+".pdf")
			}
		})
	}
	assert.NoFileExists(t, "/tmp/out.txt")
	assert.NoFileExists(t, "/etc/out.txt")
}

// resident gives the bytes that a process and its children have resident now, and those of the process alone.
func resident(pid int) (sum, own int64) {
	list, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range list {
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
		if len(f) < 22 || f[1] != strconv.Itoa(pid) && path != fmt.Sprintf("/proc/%d/stat", pid) {
			continue
		}
		n, _ := strconv.ParseInt(f[21], 10, 64)
		sum += n * int64(os.Getpagesize())
		if path == fmt.Sprintf("/proc/%d/stat", pid) {
			own = n * int64(os.Getpagesize())
		}
	}
	return sum, own
}

// guard watches the memory of a process with its children, and how long another visitor waits for a list meanwhile.
type guard struct {
	most    atomic.Int64
	own     atomic.Int64 // of the process itself
	slowest atomic.Int64
	failed  atomic.Int64
	end     chan struct{}
	wg      sync.WaitGroup
}

func watch(pid int, ask func() bool) *guard {
	g := &guard{end: make(chan struct{})}
	each := func(wait time.Duration, f func()) {
		g.wg.Go(func() {
			for {
				select {
				case <-g.end:
					return
				case <-time.After(wait):
					f()
				}
			}
		})
	}
	each(20*time.Millisecond, func() {
		sum, own := resident(pid)
		g.most.Store(max(g.most.Load(), sum))
		g.own.Store(max(g.own.Load(), own))
	})
	if ask != nil {
		each(150*time.Millisecond, func() {
			start := time.Now()
			if !ask() {
				g.failed.Add(1)
			}
			g.slowest.Store(max(g.slowest.Load(), int64(time.Since(start))))
		})
	}
	return g
}

func (g *guard) stop() { close(g.end); g.wg.Wait() }

// attacked starts a server, with a visitor, and another one who wants to see a list meanwhile.
func attacked(t *testing.T) (*visitor, *server, func() bool) {
	t.Helper()
	data := t.TempDir()
	v := setUp(t, data)
	s := serve(t, data)
	t.Cleanup(s.kill)
	other := func() bool {
		_, code := v.ask(s.base, http.MethodGet, "/documents", "", nil)
		return code == http.StatusOK
	}
	require.True(t, other())
	return v, s, other
}

// waits reports whether a process is a reader that was asked nothing yet: one that reads has a limit of processor time.
func waits(pid, cmd string) bool {
	limits, err := os.ReadFile("/proc/" + pid + "/limits")
	return err == nil && strings.Contains(cmd, "\x00porter\x00") && regexp.MustCompile(`Max cpu time +unlimited`).Match(limits)
}

// atWork lists the processes below a server that read, unpack or set files: all but those that draw pages, and one that waits for the next file.
func atWork(pid int) (list []string) {
	parents, waiting := map[string]string{}, 0
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range stats {
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		if f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:])); len(f) > 2 && f[0] != "Z" {
			parents[filepath.Base(filepath.Dir(path))] = f[1]
		}
	}
	for p := range parents {
		for at, n := p, 0; at != "" && n < 20; at, n = parents[at], n+1 {
			if parents[at] == strconv.Itoa(pid) {
				cmd, _ := os.ReadFile("/proc/" + p + "/cmdline")
				switch {
				case waits(p, string(cmd)):
					if waiting++; waiting > 1 {
						list = append(list, "another reader that waits")
					}
				case !strings.Contains(string(cmd), "renderer\x00") || strings.Contains(string(cmd), "chrom"):
					list = append(list, strings.ReplaceAll(string(cmd), "\x00", " "))
				}
				break
			}
		}
	}
	return list
}

// Who leaves while a file arrives leaves no work behind: nothing more of it is added, no process goes on, and nothing is left of it on the disk.
func TestLeftWhileArriving(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes its time")
	}
	v, s, _ := attacked(t)
	var notes []string
	for i := range 200 {
		notes = append(notes, fmt.Sprintf("papers/note %d.md", i), fmt.Sprintf("# Note %d\n\nThe berth is clear.", i))
	}
	for name, data := range map[string][]byte{
		"notes.zip": intaketest.Zip(notes...), "levels.txt": []byte(strings.Repeat("level 1.2 at the north quay, wind of force 4 from the west, all is well\n", 60_000)),
	} {
		t.Run(name, func(t *testing.T) {
			ctx, leave := context.WithCancel(t.Context())
			r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.base+"/documents/add?name="+url.QueryEscape(name), bytes.NewReader(data))
			require.NoError(t, err)
			for _, c := range v.cookies {
				r.AddCookie(c)
			}
			gone := make(chan struct{})
			go func() {
				defer close(gone)
				if got, err := http.DefaultClient.Do(r); err == nil {
					_, _ = io.Copy(io.Discard, got.Body)
					_ = got.Body.Close()
				}
			}()
			require.Eventually(t, func() bool {
				return slices.ContainsFunc(atWork(s.cmd.Process.Pid), func(c string) bool { return strings.Contains(c, "chrom") })
			}, 30*time.Second, 20*time.Millisecond)
			leave()
			<-gone
			require.Eventually(t, func() bool { return len(atWork(s.cmd.Process.Pid)) == 0 }, 10*time.Second, 50*time.Millisecond, "%v", atWork(s.cmd.Process.Pid))
			count := func() int {
				body, _ := v.ask(s.base, http.MethodGet, "/documents", "", nil)
				return strings.Count(body, "/first")
			}
			before := count()
			for range 10 {
				time.Sleep(100 * time.Millisecond)
				assert.Empty(t, atWork(s.cmd.Process.Pid))
			}
			assert.Equal(t, before, count())
			for _, dir := range []string{"setting", "coming"} {
				left, err := os.ReadDir(filepath.Join(s.data, dir))
				require.NoError(t, err)
				assert.Empty(t, left, dir)
			}
		})
	}
}

// TestHostile takes hostile files through the whole running program: each ends in a sentence or a sound result, within time and
// memory, and others work on meanwhile.
func TestHostile(t *testing.T) {
	if testing.Short() {
		t.Skip("many files, each slow to read")
	}
	v, s, other := attacked(t)
	for _, h := range hostiles(t) {
		t.Run(h.Name, func(t *testing.T) {
			g := watch(s.cmd.Process.Pid, other)
			w := &attack{t, v, s.base, ""}
			w.all(h)
			g.stop()
			t.Logf("%d MB at most, others waited %d ms at most", g.most.Load()>>20, g.slowest.Load()/1e6)
			assert.Less(t, g.most.Load(), int64(mostMemory))
			assert.Zero(t, g.failed.Load(), "others are answered")
			assert.Less(t, g.slowest.Load(), int64(2*time.Second))
			assert.NoError(t, s.cmd.Process.Signal(syscall.Signal(0)), "the server is alive")
		})
	}
}

// attack is one hostile file on its way.
type attack struct {
	t    *testing.T
	v    *visitor
	base string
	id   string
}

// ask asks for one thing, which is answered within the time: with what was asked for, or in a sentence.
func (w *attack) ask(method, path, contentType, body string) (string, int) {
	w.t.Helper()
	start := time.Now()
	answer, code := w.v.ask(w.base, method, path, contentType, []byte(body))
	assert.Less(w.t, time.Since(start).Seconds(), float64(mostSeconds), path)
	assert.NotZero(w.t, code, "%s: %s", path, answer)
	assert.NotContains(w.t, []int{500, 501, 502}, code, "%s: %.300s", path, answer)
	if code >= 400 {
		assert.NotEmpty(w.t, strings.TrimSpace(answer), path)
	}
	return answer, code
}

func (w *attack) do(name string, fields url.Values) {
	w.t.Helper()
	body, _ := w.ask(http.MethodGet, "/desk/"+w.id+"/arrange", "", "")
	m := seenRE.FindStringSubmatch(body)
	if m == nil {
		return
	}
	fields.Set("_seen", m[1])
	fields.Set("_request", fmt.Sprint(name, time.Now().UnixNano()))
	fields.Set("_place", "arrange")
	if from := fields.Get("from"); from != "" {
		fields.Set("from", "state:"+m[1])
	}
	for _, path := range []string{"/preview/", "/do/"} {
		w.ask(http.MethodPost, "/desk/"+w.id+path+name, "application/x-www-form-urlencoded", fields.Encode())
	}
}

func (w *attack) all(h pdftest.Hostile) {
	body, code := w.ask(http.MethodPost, "/documents/add?name="+url.QueryEscape(h.Name), "", string(h.Data))
	if code != http.StatusOK {
		assert.Contains(w.t, body, "nothing was changed", "refused in a sentence")
		return
	}
	w.id = idRE.FindStringSubmatch(body)[1]
	for _, place := range []string{"/collect", "/arrange", "/furnish", "/review", "/release", "/find?q=hello", "/words/0.1", "/hits/0.1?q=hello", "/picture/0.1/0/640", "/marks", "/region/0.1?scale=2&x=0&y=0&w=400&h=400",
		"/collect/recognize", "/collect/straighten", "/collect/set-text", "/recognize/guess?pages=all", "/recognize/blocks/0.1", "/recognize/doubts/0.1"} {
		w.ask(http.MethodGet, "/desk/"+w.id+place, "", "")
	}
	w.ask(http.MethodGet, "/documents/text?q=hello", "", "")
	w.ask(http.MethodGet, "/documents/"+w.id+"/first", "", "")
	for name, form := range map[string]url.Values{"recognize": {"pages": {"0.1"}, "languages": {"eng"}}, "straighten": {"pages": {"0.1"}, "straight": {"yes"}, "edges": {"yes"}, "light": {"yes"}},
		"set-text": {"pages": {"0.1"}, "straight": {"yes"}}} {
		w.do(name, form)
		for end := time.Now().Add(mostSeconds * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) { // it reserves the document as long as it runs
			if body, _ := w.ask(http.MethodGet, "/desk/"+w.id+"/collect", "", ""); !strings.Contains(body, "/progress/") && !strings.Contains(body, "is running") {
				break
			}
		}
	}
	w.do("rotate", url.Values{"pages": {"0.1"}, "by": {"90"}})
	w.do("number", url.Values{"pages": {"all"}, "edge": {"bottom"}, "align": {"centre"}, "figures": {"1 2 3"}, "first": {"1"}, "font": {"Sans"}, "size": {"9pt"},
		"colour": {"slate"}, "margin": {"12mm"}, "wording": {""}, "wording.field": {"page"}, "wording.text": {""}})
	w.do("mark-text", url.Values{"page": {"0.1"}, "_words": {"0-0"}, "how": {"highlight"}, "colour": {"#f6dd8f"}})
	w.do("insert", url.Values{"from": {"itself"}, "pages": {"1"}, "to": {"0.1"}})
	w.do("move", url.Values{"pages": {"0.1"}, "to": {""}})
	w.do("remove", url.Values{"pages": {"0.1"}})
	w.ask(http.MethodPost, "/desk/"+w.id+"/undo", "application/x-www-form-urlencoded", "_seen=1")
	body, _ = w.ask(http.MethodGet, "/desk/"+w.id+"/release", "", "")
	if m := seenRE.FindStringSubmatch(body); m != nil {
		form := url.Values{"_seen": {m[1]}, "_request": {"out" + w.id}, "name": {"out " + w.id}, "how": {"copy"}, "as-it-is": {"yes"}}
		body, code = w.ask(http.MethodPost, "/desk/"+w.id+"/out", "application/x-www-form-urlencoded", form.Encode())
		for end := time.Now().Add(mostSeconds * time.Second); code == http.StatusOK; {
			at := regexp.MustCompile(`/progress/\d+`).FindString(body)
			if at == "" {
				break
			}
			if !assert.True(w.t, time.Now().Before(end), "handed out in time") {
				break
			}
			body, code = w.ask(http.MethodGet, at, "", "")
		}
	}
}

// On the command line each ends in a sentence and a code of its own, within time and memory.
func TestHostileCommands(t *testing.T) {
	if testing.Short() {
		t.Skip("many files, each slow to read")
	}
	dir := t.TempDir()
	good := filepath.Join(dir, "good.pdf")
	require.NoError(t, os.WriteFile(good, pdftest.Text(2), 0o600))
	rotate := filepath.Join(dir, "rotate.json")
	require.NoError(t, os.WriteFile(rotate, []byte(`{"steps":[{"name":"rotate","params":{"pages":"1","by":90}}]}`), 0o600))
	cache := "XDG_CACHE_HOME=" + filepath.Join(os.TempDir(), "glenrain-test-cache")
	first := exec.Command(os.Args[0], "render", good, "-o", filepath.Join(dir, "good.png")) // prepares the renderer, once on each machine
	first.Env = append(os.Environ(), asProgram+"=1", cache)
	require.NoError(t, first.Run())
	for _, h := range hostiles(t) {
		path := filepath.Join(dir, "hostile"+filepath.Ext(h.Name))
		require.NoError(t, os.WriteFile(path, h.Data, 0o600))
		out := filepath.Join(dir, "out")
		commands := [][]string{{"info", path}, {"text", path}, {"run", rotate, path, "-o", out}, {"combine", good, path, "-o", out}, {"render", path, "-o", out}}
		if strings.HasSuffix(path, ".png") {
			commands = commands[3:4]
		}
		for _, args := range commands {
			t.Run(h.Name+"/"+args[0], func(t *testing.T) {
				cmd := exec.Command(os.Args[0], args...)
				cmd.Env = append(os.Environ(), asProgram+"=1", cache)
				var errs strings.Builder
				cmd.Stderr = &errs
				start := time.Now()
				require.NoError(t, cmd.Start())
				g := watch(cmd.Process.Pid, nil)
				timer := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
				_ = cmd.Wait()
				timer.Stop()
				g.stop()
				took := time.Since(start).Seconds()
				assert.Less(t, took, float64(mostSeconds))
				assert.Less(t, g.most.Load(), int64(mostMemory))
				code := cmd.ProcessState.ExitCode()
				assert.True(t, slices.Contains([]int{exitDone, exitFailed, exitUse, exitPassword, exitRead}, code), "%d", code)
				said := strings.Trim(errs.String(), "\n")
				assert.NotContains(t, said, "panic")
				assert.NotContains(t, said, "goroutine")
				if code != exitDone {
					assert.Contains(t, said, "glenrain: ")
				}
				t.Logf("%.1f s, %d MB, %d: %.200s", took, g.most.Load()>>20, code, said)
			})
		}
	}
}
