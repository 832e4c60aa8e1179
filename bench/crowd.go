package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"glenrain/core/child"
	"glenrain/core/pdf"
	"glenrain/demo"
	"glenrain/desk"
	"glenrain/web"
)

// person is somebody who works on a document of their own.
type person struct {
	browser
	r    *rand.Rand
	doc  string // its address
	seen string
	n    int
}

// crowd measures how long people wait while many work at once: each looks at pages, types in a paragraph, takes steps and looks at previews, with two to four seconds between,
// on a document of ten pages of their own. Pictures are of sizes that nobody asked for before, so that each is drawn. Server and people share the machine.
func crowd(ctx context.Context, dir string, docs map[int]*pdf.Document) error {
	d, err := openDesk(filepath.Join(dir, "crowd"))
	if err != nil {
		return err
	}
	defer d.Close()
	s, err := web.New(d, web.Options{House: demo.House, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	server := httptest.NewServer(s.Handler())
	defer server.Close()
	path := filepath.Join(dir, "crowd.pdf")
	if err := write(ctx, docs[10], path); err != nil {
		return err
	}
	var all []*person
	for i := range 200 {
		row, err := bring(ctx, d, path)
		if err != nil {
			return err
		}
		name := fmt.Sprintf("person%d", i)
		if _, err := d.AddPerson(ctx, fmt.Sprintf("Person %d", i), name, demo.Password); err != nil {
			return err
		}
		jar, err := cookiejar.New(nil)
		if err != nil {
			return err
		}
		all = append(all, &person{browser: browser{&http.Client{Jar: jar}, server.URL}, r: rand.New(rand.NewPCG(uint64(i), 40)), doc: fmt.Sprintf("/desk/%d", row.ID)})
	}
	fmt.Print("\n## Many people at once\n\nEach on a document of ten pages of their own: page pictures that nobody asked for before, letters typed in a paragraph (with the picture that comes of them), steps and previews, with two to four seconds between. " +
		"The server and the people share the machine; by HTTP, p95 in ms, and in brackets how many.\n\n| people | signing in, all at once | all requests | pictures | typing | steps | previews | screens | no answer |\n|---:|---:|---:|---:|---:|---:|---:|---:|---:|\n")
	signed := 0
	for _, n := range []int{40, 200} {
		people := all[:n]
		var in waits
		var wg sync.WaitGroup
		for i, p := range people[signed:] {
			wg.Go(func() {
				_, t, err := p.ask(http.MethodPost, "/enter", url.Values{"name": {fmt.Sprintf("person%d", signed+i)}, "password": {demo.Password}})
				in.add("sign in", t, err)
			})
		}
		wg.Wait()
		signed = n
		var w waits
		end := time.Now().Add(time.Minute)
		for _, p := range people {
			wg.Go(func() {
				for time.Now().Before(end) {
					time.Sleep(time.Duration(2000+p.r.IntN(2000)) * time.Millisecond)
					kind, t, err := p.act()
					w.add(kind, t, err)
				}
			})
		}
		wg.Wait()
		fmt.Printf("| %d | %s | %s | %s | %s | %s | %s | %s | %d |\n", n, in.of("sign in"), w.of(""), w.of("picture"), w.of("typing"), w.of("step"), w.of("preview"), w.of("screen"), w.failed+in.failed)
		if w.why != nil {
			return w.why
		}
	}
	return errors.Join(besideTexts(ctx, dir, d, docs), besideListings(ctx, d))
}

// besideListings measures how long a note of three lines waits to arrive while somebody else has four long listings set.
func besideListings(ctx context.Context, d *desk.Desk) error {
	arrive := func(ctx context.Context, name, text string) error {
		in, err := d.Store.Create()
		if err != nil {
			return err
		}
		if _, err := in.Write([]byte(text)); err != nil {
			in.Drop()
			return err
		}
		_, err = d.Arrive(ctx, desk.Arrival{Person: 1, Name: name}, in)
		return err
	}
	long, stop := context.WithCancel(child.For(ctx, "isla"))
	var wg sync.WaitGroup
	for i := range 4 {
		wg.Go(func() {
			_ = arrive(long, fmt.Sprintf("levels %d.txt", i), strings.Repeat("level 1.2 at the north quay, wind of force 4 from the west\n", 100_000)) // it is stopped
		})
	}
	time.Sleep(2 * time.Second)
	mid, worst, err := times(5, func(i int) (time.Duration, error) {
		start := time.Now()
		err := arrive(child.For(ctx, "tomas"), fmt.Sprintf("note %d.md", i), "# Berth 4\n\nThe berth is clear.\n")
		return time.Since(start), err
	})
	stop()
	wg.Wait()
	if err != nil {
		return err
	}
	fmt.Printf("\nA note of three lines, while somebody else has four listings of 100,000 lines set: %.1f s (median of 5), %.1f s at most, until it is a document.\n", mid.Seconds(), worst.Seconds())
	return nil
}

// besideTexts measures how long others wait to write, and to open a document, while a document of 5,000 pages arrives and its texts are written.
func besideTexts(ctx context.Context, dir string, d *desk.Desk, docs map[int]*pdf.Document) error {
	path := filepath.Join(dir, "beside.pdf")
	if err := write(ctx, docs[5000], path); err != nil {
		return err
	}
	var w waits
	ended := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for i := 0; ; i++ {
			select {
			case <-ended:
				return
			case <-time.After(5 * time.Millisecond):
			}
			start := time.Now()
			err := d.Choose(ctx, 1, "zoom review", fmt.Sprint(i))
			w.add("write", time.Since(start), err)
			start = time.Now()
			s, err := d.Look(ctx, 1, 1)
			if err == nil {
				d.LooseEnds(s)
			}
			w.add("open", time.Since(start), err)
		}
	})
	start := time.Now()
	row, err := bring(ctx, d, path)
	if err == nil {
		err = d.ReadAll(ctx, 1)
	}
	took := time.Since(start)
	close(ended)
	wg.Wait()
	if err != nil {
		return err
	}
	fmt.Printf("\nWhile a document of %d pages arrived and its texts were written (%.1f s), %d other writes waited %.1f ms (p95), %.0f ms at most; opening a document took %.1f ms (p95), %.0f ms at most.\n",
		row.Pages, took.Seconds(), len(w.by["write"]), ms(share(w.by["write"], 95)), ms(slices.Max(w.by["write"])), ms(share(w.by["open"], 95)), ms(slices.Max(w.by["open"])))
	return w.why
}

// share gives the percentile of waits.
func share(list []time.Duration, of int) time.Duration {
	list = slices.Sorted(slices.Values(list))
	return list[len(list)*of/100]
}

// act does one thing, and tells what and how long it took.
func (p *person) act() (kind string, took time.Duration, err error) {
	p.n++
	page := fmt.Sprintf("0.%d", 1+p.r.IntN(10))
	if p.seen == "" {
		return "screen", p.look(&took), nil
	}
	switch k := p.r.IntN(20); {
	case k < 8:
		_, took, err = p.ask(http.MethodGet, fmt.Sprintf("%s/region/%s?scale=%.3f&x=0&y=0&w=600&h=800", p.doc, page, 1+p.r.Float64()/2), nil)
		return "picture", took, err
	case k < 13:
		took, err = p.types(page)
		return "typing", took, err
	case k < 16:
		body, t, err := p.ask(http.MethodPost, p.doc+"/do/rotate", url.Values{"_seen": {p.seen}, "_request": {fmt.Sprint("crowd ", p.n)}, "_place": {"arrange"}, "pages": {page}, "by": {"90"}})
		if m := seenIn.FindStringSubmatch(body); err == nil && m != nil {
			p.seen = m[1]
		}
		return "step", t, err
	case k < 18:
		_, took, err = p.ask(http.MethodPost, p.doc+"/preview/number", url.Values{"_seen": {p.seen}, "pages": {"all"}, "wording.field": {"page"}, "wording.text": {""}, "_page": {page}, "_box": {"960"}, "size": {fmt.Sprintf("%dpt", 8+p.r.IntN(6))}})
		return "preview", took, err
	}
	return "screen", p.look(&took), nil
}

// look loads the document's screen.
func (p *person) look(took *time.Duration) time.Duration {
	body, t, err := p.ask(http.MethodGet, p.doc+"/arrange", nil)
	if m := seenIn.FindStringSubmatch(body); err == nil && m != nil {
		p.seen = m[1]
	}
	*took = t
	return t
}

// types sends a letter more of a paragraph, and reads what comes of it.
func (p *person) types(page string) (time.Duration, error) {
	sent, err := json.Marshal(map[string]any{"paragraph": 0, "line": 0, "last_line": 0, "join": 0, "seen": json.Number(p.seen), "box": 960, "clip": []int{0, 0, 700, 900},
		"edits": []map[string]any{{"from": 1, "to": 1, "text": strings.Repeat("e", 1+p.n%5)}}})
	if err != nil {
		return 0, err
	}
	start := time.Now()
	res, err := p.http.Post(p.base+p.doc+"/edit/set/"+page, "application/json", bytes.NewReader(sent))
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err == nil && res.StatusCode >= 300 && res.StatusCode != http.StatusUnprocessableEntity {
		err = fmt.Errorf("typing: %d %.200s", res.StatusCode, b)
	}
	return time.Since(start), err
}

// waits are how long people waited, by what for.
type waits struct {
	mu     sync.Mutex
	by     map[string][]time.Duration
	failed int
	why    error
}

func (w *waits) add(kind string, t time.Duration, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err != nil {
		w.failed++
		w.why = err
		return
	}
	if w.by == nil {
		w.by = map[string][]time.Duration{}
	}
	w.by[kind] = append(w.by[kind], t)
}

// of gives the 95th percentile of a kind, or of all, with how many there were.
func (w *waits) of(kind string) string {
	list := w.by[kind]
	if kind == "" {
		list = slices.Concat(slices.Collect(maps.Values(w.by))...)
	}
	if len(list) == 0 {
		return "–"
	}
	return fmt.Sprintf("%.0f (%d)", ms(share(list, 95)), len(list))
}
