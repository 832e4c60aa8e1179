package main

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
	"glenrain/desk"
	scanner "glenrain/standin/scanner"
)

// harbour is a server that is killed again and again, with what was acknowledged until then.
type harbour struct {
	*testing.T
	v    *visitor
	s    *server
	temp string // the system's temporary folder, as the server knows it
	n    atomic.Int64

	left, right, pile string // documents by id

	mu    sync.Mutex
	names map[string]bool // of documents that were acknowledged
	outs  map[string]bool // of exported files
}

func (h *harbour) form(doc, path, place string, fields url.Values) (string, bool) {
	body, ok := h.v.send(h.s.base, http.MethodGet, "/desk/"+doc+"/"+place, "", nil)
	if m := seenRE.FindStringSubmatch(body); ok && m != nil {
		fields.Set("_seen", m[1])
		fields.Set("seen_from", m[1])
	}
	fields.Set("_request", fmt.Sprintf("request-of-the-test-%d", h.n.Add(1)))
	fields.Set("_place", place)
	body, code := h.v.ask(h.s.base, http.MethodPost, "/desk/"+doc+"/"+path, "application/x-www-form-urlencoded", []byte(fields.Encode()))
	return body, code >= 200 && code < 300 // what has ended already leads elsewhere, without a body
}

// ended waits for work that an answer leads to, and tells whether it was done.
func (h *harbour) ended(body string) bool {
	m := workRE.FindStringSubmatch(body)
	for code := 200; code == 200 && m != nil; time.Sleep(20 * time.Millisecond) {
		if body, code = h.v.ask(h.s.base, http.MethodGet, "/progress/"+m[1], "", nil); code == http.StatusNoContent || code == 200 && !strings.Contains(body, "/progress/") {
			return true
		}
	}
	return m == nil
}

func (h *harbour) acknowledge(of map[string]bool, names ...string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, n := range names {
		of[n] = true
	}
}

// TestKilledAtAll kills the server during uploads that are set as pages, splits, moves between two documents, exports that are kept in a folder, and
// recognizing: nothing that was acknowledged is lost, nothing is half done, and no temporary file and no child is left.
func TestKilledAtAll(t *testing.T) {
	if testing.Short() {
		t.Skip("many kills")
	}
	kills := 10 // and as many as GLENRAIN_KILLS says
	if k, err := strconv.Atoi(os.Getenv("GLENRAIN_KILLS")); err == nil {
		kills = k
	}
	h := &harbour{T: t, names: map[string]bool{}, outs: map[string]bool{}, temp: t.TempDir()}
	data := t.TempDir()
	h.v = setUp(t, data)
	t.Setenv("TMPDIR", h.temp)
	h.s = serve(t, data)
	t.Cleanup(func() { h.s.kill() })
	add := func(name string, file []byte) string {
		body, ok := h.v.send(h.s.base, http.MethodPost, "/documents/add?name="+url.QueryEscape(name), "", file)
		require.True(t, ok, body)
		return idRE.FindStringSubmatch(body)[1]
	}
	h.left, h.right = add("Left.pdf", pdftest.Text(40)), add("Right.pdf", pdftest.Text(40))
	reads := true
	if _, err := ocr.Find(); err != nil {
		reads = false
	}
	doc := pdf.New()
	for i := range 3 {
		p, err := picture.Decode(scanner.Picture([]string{"letter", "form", "table"}[i], "Grayscale8", 100))
		require.NoError(t, err)
		page, err := draw.PicturePage(doc, p, draw.Placement{})
		require.NoError(t, err)
		require.NoError(t, doc.InsertPages(i, []pdf.Ref{page}))
	}
	h.pile = add("Pile.pdf", pdftest.Whole(t, doc))
	body, ok := h.v.send(h.s.base, http.MethodPost, "/folders", "application/x-www-form-urlencoded", []byte("name=Kept"))
	require.True(t, ok, body)

	r := rand.New(rand.NewPCG(60, 21))
	acts := []func(){
		func() { // files of other kinds, which Chromium sets
			for i := 0; ; i++ {
				name := fmt.Sprintf("Note %d", h.n.Add(1))
				if _, ok := h.v.send(h.s.base, http.MethodPost, "/documents/add?name="+url.QueryEscape(name+".md"), "", []byte("# "+name+"\n\nThe berth is clear.\n")); !ok {
					return
				}
				h.acknowledge(h.names, name)
			}
		},
		func() { // splits
			for ok := true; ok; {
				n := h.n.Add(1)
				parts := []string{fmt.Sprintf("Part %d a", n), fmt.Sprintf("Part %d b", n), fmt.Sprintf("Part %d c", n), fmt.Sprintf("Part %d d", n)}
				var body string
				if body, ok = h.form(h.left, "arrange/split", "arrange/split", url.Values{"cuts": {"0.38 0.39 0.40"}, "name": parts}); ok && h.ended(body) {
					h.acknowledge(h.names, parts...)
				}
			}
		},
		func() { // pages to and fro
			for i := 0; ; i++ {
				from, to := h.left, h.right
				if i%2 == 1 {
					from, to = to, from
				}
				body, ok := h.v.send(h.s.base, http.MethodGet, "/desk/"+to+"/arrange", "", nil)
				m := seenRE.FindStringSubmatch(body)
				if !ok || m == nil {
					return
				}
				if _, ok := h.form(from, "arrange/act", "arrange", url.Values{"what": {"move"}, "from": {from}, "to": {to}, "seen_to": {m[1]}, "pages": {"2"}, "before": {""}}); !ok {
					return
				}
			}
		},
		func() { // exports, kept in a folder too
			for ok := true; ok; {
				name := fmt.Sprintf("Out %d", h.n.Add(1))
				var body string
				if body, ok = h.form(h.right, "out", "release", url.Values{"how": {"copy"}, "name": {name}, "as-it-is": {"yes"}, "folder": {"2"}}); ok && h.ended(body) {
					h.acknowledge(h.outs, name)
				}
			}
		},
		func() { // recognizing
			if reads {
				if body, ok := h.form(h.pile, "do/recognize", "collect/recognize", url.Values{"pages": {"all"}, "languages": {"eng"}, "again": {"yes"}}); ok {
					h.ended(body)
				}
			}
		},
	}
	for i := range kills {
		var wg sync.WaitGroup
		for _, k := range []int{i % len(acts), (i + 1 + i/len(acts)) % len(acts)} {
			wg.Go(acts[k])
		}
		time.Sleep(time.Duration(200+r.IntN(4400)) * time.Millisecond)
		below := descendants(h.s.cmd.Process.Pid)
		h.s.kill()
		wg.Wait()
		require.Eventually(t, func() bool { return !anyAlive(below) }, 10*time.Second, 20*time.Millisecond, "kill %d: children outlive the server", i+1)
		h.look(data, i)
		h.s = serve(t, data)
	}
	t.Logf("%d documents and %d exported files were acknowledged in %d lives", len(h.names), len(h.outs), kills)
	assert.Greater(t, len(h.names), kills/4)
	assert.NotEmpty(t, h.outs)
}

// look opens the data folder as the next start does, and looks whether everything is whole.
func (h *harbour) look(data string, kill int) {
	d, err := desk.Open(data, desk.Options{})
	require.NoError(h, err)
	defer d.Close()
	for _, dir := range []string{filepath.Join(data, "coming"), filepath.Join(data, "setting"), h.temp} {
		left, err := os.ReadDir(dir)
		require.NoError(h, err)
		assert.Empty(h, left, "kill %d: %s", kill+1, dir)
	}
	docs, err := d.Documents(h.Context(), desk.Listing{Person: 1, Most: 100_000})
	require.NoError(h, err)
	there, parts, pages, files := map[string]int{}, map[string]int{}, 0, map[string]bool{}
	for _, row := range docs {
		there[row.Name]++
		if n, ok := strings.CutPrefix(row.Name, "Part "); ok {
			parts[strings.Fields(n)[0]]++
		}
		s, err := d.Look(h.Context(), 1, row.ID)
		require.NoError(h, err, "%s opens", row.Name)
		require.Equal(h, row.Pages, len(s.Pages()), row.Name)
		if row.Name == "Left" || row.Name == "Right" {
			pages += row.Pages
		}
	}
	assert.Equal(h, 80, pages, "kill %d: a page that is moved is in one of the two documents", kill+1)
	for n, k := range parts {
		assert.Equal(h, 4, k, "kill %d: the parts of split %s", kill+1, n)
	}
	for name := range h.names {
		assert.Equal(h, 1, there[name], "kill %d: %s was acknowledged", kill+1, name)
	}
	id, err := strconv.ParseUint(h.right, 10, 32)
	require.NoError(h, err)
	outs, err := d.HandOuts(h.Context(), uint(id), desk.Listing{Person: 1, Most: 10_000})
	require.NoError(h, err)
	for _, o := range outs {
		files[strings.TrimSuffix(o.Name, ".pdf")] = true
		kept, err := d.Document(h.Context(), 1, o.KeptID)
		require.NoError(h, err, "kill %d: %s is kept in its folder too", kill+1, o.Name)
		assert.Equal(h, o.Pages, kept.Pages)
		assert.FileExists(h, d.Store.Path(o.SHA))
	}
	for name := range h.outs {
		assert.True(h, files[name], "kill %d: %s was acknowledged", kill+1, name)
	}
}

// descendants gives the processes below one.
func descendants(pid int) (list []int) {
	children := map[int][]int{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range stats {
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		f := bytes.Fields(b[bytes.LastIndexByte(b, ')')+1:])
		if len(f) > 1 {
			id, _ := strconv.Atoi(filepath.Base(filepath.Dir(path)))
			parent, _ := strconv.Atoi(string(f[1]))
			children[parent] = append(children[parent], id)
		}
	}
	todo := children[pid]
	for len(todo) > 0 {
		list = append(list, todo[0])
		todo = append(todo[1:], children[todo[0]]...)
	}
	return list
}

// anyAlive reports whether one of some processes runs still; one that has ended and waits for its parent does not.
func anyAlive(pids []int) bool {
	for _, pid := range pids {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil || syscall.Kill(pid, 0) != nil {
			continue
		}
		if f := bytes.Fields(b[bytes.LastIndexByte(b, ')')+1:]); len(f) > 0 && f[0][0] != 'Z' {
			return true
		}
	}
	return false
}
