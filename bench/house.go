package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"time"

	driver "github.com/glebarez/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"glenrain/core/pdf"
	"glenrain/demo"
	"glenrain/desk"
	"glenrain/web"
)

// browser asks a server as a signed-in person's browser does.
type browser struct {
	http *http.Client
	base string
}

func (b *browser) ask(method, path string, form url.Values) (string, time.Duration, error) {
	start := time.Now()
	req, err := http.NewRequest(method, b.base+path, strings.NewReader(form.Encode()))
	if err != nil {
		return "", 0, err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := b.http.Do(req)
	if err != nil {
		return "", 0, err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	took := time.Since(start)
	if err == nil && res.StatusCode >= 300 {
		err = fmt.Errorf("%s %s: %d %.200s", method, path, res.StatusCode, body)
	}
	return string(body), took, err
}

// served serves a desk and signs somebody in.
func served(d *desk.Desk) (b *browser, stop func(), err error) {
	s, err := web.New(d, web.Options{House: demo.House, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, nil, err
	}
	server := httptest.NewServer(s.Handler())
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, nil, err
	}
	b = &browser{&http.Client{Jar: jar}, server.URL}
	_, _, err = b.ask(http.MethodPost, "/enter", url.Values{"name": {"isla"}, "password": {demo.Password}})
	return b, server.Close, err
}

// times asks n times and gives the median and the longest.
func times(n int, ask func(i int) (time.Duration, error)) (mid, worst time.Duration, err error) {
	var took []time.Duration
	for i := range n {
		t, err := ask(i)
		if err != nil {
			return 0, 0, err
		}
		took = append(took, t)
		worst = max(worst, t)
	}
	return median(took), worst, nil
}

var seenIn = regexp.MustCompile(`data-seen="(\d+)"`)

// stock writes a document to a file and brings it into a desk.
func stock(ctx context.Context, d *desk.Desk, path string, doc *pdf.Document) (*desk.Document, error) {
	if err := write(ctx, doc, path); err != nil {
		return nil, err
	}
	return bring(ctx, d, path)
}

// previews measures the preview of page numbers, from the request to the last byte of the page's picture, and opening the desk.
func previews(ctx context.Context, dir string, docs map[int]*pdf.Document) error {
	d, err := openDesk(filepath.Join(dir, "previews"))
	if err != nil {
		return err
	}
	defer d.Close()
	b, stop, err := served(d)
	if err != nil {
		return err
	}
	defer stop()
	fmt.Print("\n## A preview, and opening the desk\n\nPage numbers on all pages, seen on page 5: from the request to the last byte of the page's picture (960 pixels), and of that the step and the picture " +
		"alone; by HTTP, warm, medians of 15, ms. The desk's screen with all its pages, and the same after a step.\n\n" +
		"| pages | preview | its picture alone | the rest | desk's screen | a step, with the screen after it |\n|---:|---:|---:|---:|---:|---:|\n")
	form := url.Values{"pages": {"all"}, "wording.field": {"page", "", "pages"}, "wording.text": {"", " of ", ""}, "_page": {"0.5"}, "_box": {"960"}}
	for _, n := range sizes {
		row, err := stock(ctx, d, filepath.Join(dir, fmt.Sprintf("preview-%d.pdf", n)), docs[n])
		if err != nil {
			return err
		}
		at := fmt.Sprintf("/desk/%d", row.ID)
		screen, _, err := b.ask(http.MethodGet, at+"/furnish", nil)
		if err != nil {
			return err
		}
		form.Set("_seen", seenIn.FindStringSubmatch(screen)[1])
		for range 3 { // both renderers are warm
			if _, _, err := b.ask(http.MethodPost, at+"/preview/number", form); err != nil {
				return err
			}
		}
		whole, _, err := times(15, func(int) (time.Duration, error) {
			_, t, err := b.ask(http.MethodPost, at+"/preview/number", form)
			return t, err
		})
		if err != nil {
			return err
		}
		picture, _, err := times(15, func(i int) (time.Duration, error) { // of other sizes, so that none is kept
			_, t, err := b.ask(http.MethodGet, fmt.Sprintf("%s/picture/0.5/0/%d", at, 932+4*i), nil)
			return t, err
		})
		if err != nil {
			return err
		}
		open, _, err := times(15, func(int) (time.Duration, error) {
			_, t, err := b.ask(http.MethodGet, at+"/furnish", nil)
			return t, err
		})
		if err != nil {
			return err
		}
		seen := form.Get("_seen")
		did, _, err := times(15, func(i int) (time.Duration, error) {
			body, t, err := b.ask(http.MethodPost, at+"/do/rotate", url.Values{"_seen": {seen}, "_request": {fmt.Sprint("r", i)}, "_place": {"arrange"}, "pages": {fmt.Sprintf("0.%d", i%9+1)}, "by": {"90"}})
			if err == nil {
				seen = seenIn.FindStringSubmatch(body)[1]
			}
			return t, err
		})
		if err != nil {
			return err
		}
		fmt.Printf("| %d | %.0f | %.0f | %.0f | %.1f | %.1f |\n", n, ms(whole), ms(picture), ms(whole-picture), ms(open), ms(did))
	}
	return nil
}

// longTrail is how many steps the long trail has.
const longTrail = 4000

// trails measures a document with a long trail.
func trails(ctx context.Context, dir string, docs map[int]*pdf.Document) error {
	folder, err := os.MkdirTemp("/dev/shm", "glenrain-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	d, err := openDesk(folder)
	if err != nil {
		return err
	}
	row, err := stock(ctx, d, filepath.Join(dir, "trail.pdf"), docs[100])
	if err != nil {
		return err
	}
	s, err := d.Snapshot(ctx, row.ID)
	if err != nil {
		return err
	}
	start := time.Now()
	for i := range longTrail {
		out, err := d.Do(ctx, desk.Change{Document: row.ID, Seen: s.State.ID, RequestID: fmt.Sprint(i), Person: 1, Name: "rotate", Params: json.RawMessage(fmt.Sprintf(`{"pages":["0.%d"],"by":90}`, i%97+1))})
		if err != nil {
			return err
		}
		s = out.Snapshot
	}
	made := time.Since(start)
	if err := d.Close(); err != nil {
		return err
	}
	if d, err = openDesk(folder); err != nil {
		return err
	}
	defer d.Close()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	start = time.Now()
	if s, err = d.Snapshot(ctx, row.ID); err != nil {
		return err
	}
	opened := time.Since(start)
	runtime.ReadMemStats(&after)
	undos := func(n int) (time.Duration, error) {
		start := time.Now()
		for range n {
			out, err := d.Undo(ctx, row.ID, s.State.ID, 1)
			if err != nil {
				return 0, err
			}
			s = out.Snapshot
		}
		return time.Since(start), nil
	}
	thirty, err := undos(30)
	if err != nil {
		return err
	}
	part, _, err := times(11, func(int) (time.Duration, error) {
		start := time.Now()
		_, err := d.Trail(ctx, s, 0, 31)
		return time.Since(start), err
	})
	if err != nil {
		return err
	}
	fmt.Printf("\n## A trail of %d steps\n\n| what | ours |\n|---|---:|\n| each step, through the desk, in memory, ms | %.2f |\n| opening it after a start, ms | %.1f |\n| and what that allocates, MB | %.1f |\n"+
		"| 30 undos after that, ms in all | %.0f |\n| the newest 30 steps for the screen, ms | %.2f |\n",
		longTrail, ms(made)/longTrail, ms(opened), float64(after.TotalAlloc-before.TotalAlloc)/1e6, ms(thirty), ms(part))
	return nil
}

func database(folder string) (*gorm.DB, func() error, error) {
	db, err := gorm.Open(driver.Open("file:"+filepath.Join(folder, "glenrain.db")+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)&_pragma=cache_size(-200000)"), &gorm.Config{Logger: logger.Discard})
	if err != nil {
		return nil, nil, err
	}
	sql, err := db.DB()
	if err != nil {
		return nil, nil, err
	}
	return db, sql.Close, nil
}

const (
	manyDocuments = 10_000
	manyOuts      = 100_000
)

// lists measures the lists of a house with many documents and files handed out.
func lists(ctx context.Context, dir string, docs map[int]*pdf.Document) error {
	folder := filepath.Join(dir, "lists")
	d, err := openDesk(folder)
	if err != nil {
		return err
	}
	one, err := stock(ctx, d, filepath.Join(dir, "listed.pdf"), docs[10])
	if err != nil {
		return err
	}
	if err := d.Close(); err != nil {
		return err
	}
	db, closed, err := database(folder)
	if err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(1, 2))
	now := time.Now()
	err = db.Transaction(func(tx *gorm.DB) error {
		var rows []desk.Document
		for i := range manyDocuments {
			row := *one
			row.ID, row.Name, row.ChangedAt = 0, fmt.Sprintf("Berth paper %d", i), now.Add(-time.Duration(r.IntN(1e6))*time.Second)
			row.NameKey = strings.ToLower(row.Name)
			row.SortKey = row.NameKey
			rows = append(rows, row)
		}
		if err := tx.CreateInBatches(rows, 200).Error; err != nil {
			return err
		}
		var outs []desk.HandOut
		for i := range manyOuts {
			name := fmt.Sprintf("Handed out %d.pdf", i)
			outs = append(outs, desk.HandOut{DocumentID: uint(r.IntN(manyDocuments) + 1), Name: name, NameKey: strings.ToLower(name), SHA: one.OriginalSHA, Pages: 10, Size: 1000, PersonID: 1, At: now.Add(-time.Duration(r.IntN(1e6)) * time.Second)})
		}
		return tx.CreateInBatches(outs, 500).Error
	})
	if err == nil {
		err = closed()
	}
	if err != nil {
		return err
	}
	if d, err = openDesk(folder); err != nil {
		return err
	}
	defer d.Close()
	b, stop, err := served(d)
	if err != nil {
		return err
	}
	defer stop()
	fmt.Printf("\n## Lists\n\nOf a house with %d documents and %d files handed out; screens by HTTP, medians of 21 (and the longest), ms.\n\n| screen | ms | longest |\n|---|---:|---:|\n", manyDocuments, manyOuts)
	for _, row := range []struct{ what, path string }{
		{"Documents, the first part", "/documents"}, {"Documents, a part far down", "/documents/more/here?after=5000"}, {"Handed out, the first part", "/documents/out"},
		{"Handed out, a part far down", "/documents/more/out?after=50000"}, {"the finder, a name", "/find?q=paper+77"}, {"the finder, a name that there is none of", "/find?q=lighthouse"},
		{"a row's first page, kept", fmt.Sprintf("/documents/%d/first", one.ID)}, {"Release, with a free name found", fmt.Sprintf("/desk/%d/release", one.ID)},
	} {
		if _, _, err := b.ask(http.MethodGet, row.path, nil); err != nil {
			return err
		}
		mid, worst, err := times(21, func(int) (time.Duration, error) {
			_, t, err := b.ask(http.MethodGet, row.path, nil)
			return t, err
		})
		if err != nil {
			return err
		}
		fmt.Printf("| %s | %.1f | %.1f |\n", row.what, ms(mid), ms(worst))
	}
	return manyRows(b)
}

// manyPages is how many pages the large search has; wordsOnPage how many words each.
const (
	manyPages   = 1_000_000
	wordsOnPage = 40
)

// searches measures the search in all texts of a house with a million pages, made by a generator: words as often as in a language (the n-th
// most frequent 1/n as often as the first), a page in twenty with a line of Chinese letters.
func searches(ctx context.Context, dir string) error {
	folder := filepath.Join(dir, "search")
	d, err := openDesk(folder)
	if err != nil {
		return err
	}
	if err := d.Close(); err != nil {
		return err
	}
	db, closed, err := database(folder)
	if err != nil {
		return err
	}
	start := time.Now()
	r := rand.New(rand.NewPCG(7, 7))
	words := vocabulary(r, 40_000)
	frequent := rand.NewZipf(r, 1.07, 2, uint64(len(words)-1))
	letters := []rune("港湾的冬季係留水深海岸船舶航行安全管理規則通知料金")
	row := func(i int) desk.PageText {
		var b strings.Builder
		for range wordsOnPage {
			b.WriteString(words[frequent.Uint64()] + " ")
		}
		p := desk.PageText{DocumentID: uint(i/100 + 1), Key: fmt.Sprintf("0.%d", i%100+1), Number: i%100 + 1}
		if i%20 == 0 {
			for range 12 {
				c := letters[r.IntN(len(letters))]
				b.WriteRune(c)
				p.Spaced += string(c) + " "
			}
		}
		p.Text = b.String()
		return p
	}
	for i := 0; i < manyPages/100; i += 1000 {
		var rows []desk.Document
		for k := range 1000 {
			rows = append(rows, desk.Document{Name: fmt.Sprintf("Volume %d", i+k), NameKey: fmt.Sprintf("volume %d", i+k), Pages: 100, HeadID: 1, TextID: 1, ChangedAt: time.Now()})
		}
		if err := db.CreateInBatches(rows, 100).Error; err != nil {
			return err
		}
	}
	for i := 0; i < manyPages; i += 20_000 {
		err := db.Transaction(func(tx *gorm.DB) error {
			for k := 0; k < 20_000; k += 500 {
				part := make([]desk.PageText, 500)
				for n := range part {
					part[n] = row(i + k + n)
				}
				if err := tx.Create(&part).Error; err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	if err := closed(); err != nil {
		return err
	}
	made := time.Since(start)
	if d, err = openDesk(folder); err != nil {
		return err
	}
	defer d.Close()
	b, stop, err := served(d)
	if err != nil {
		return err
	}
	defer stop()
	fmt.Printf("\n## Search in %d pages\n\n%d words a page, made and indexed in %.0f s. By HTTP, medians of 9 (and the longest), ms.\n\n| typed | pages | in the finder, at once | its first lines, after that | the whole search |\n|---|---:|---:|---:|---:|\n", manyPages, wordsOnPage, made.Seconds())
	for _, row := range []struct{ what, q string }{
		{"two letters", words[0][:2]}, {"the most frequent word", words[0]}, {"three frequent words", words[0] + " " + words[3] + " " + words[7]}, {"a frequent and a rare word", words[1] + " " + words[30_000]},
		{"the beginning of many words", words[5][:3]}, {"a rare word", words[39_000]}, {"a phrase of two frequent words", `"` + words[0] + " " + words[1] + `"`}, {"one Chinese letter", "港"}, {"two Chinese letters", "港湾"},
		{"four Chinese letters", "冬季係留"}, {"nothing that there is", "zzyzx"},
	} {
		found, err := d.SearchText(ctx, 1, row.q, 5)
		if err != nil {
			return err
		}
		line := fmt.Sprintf("| %s | %d", row.what, found.Pages)
		if found.More {
			line = fmt.Sprintf("| %s | over %d", row.what, found.Pages)
		}
		for _, path := range []string{"/find?q=", "/find/text?q=", "/documents/text?q="} {
			mid, worst, err := times(9, func(int) (time.Duration, error) {
				_, t, err := b.ask(http.MethodGet, path+url.QueryEscape(row.q), nil)
				return t, err
			})
			if err != nil {
				return err
			}
			line += fmt.Sprintf(" | %.1f (%.1f)", ms(mid), ms(worst))
		}
		fmt.Println(line + " |")
	}
	return nil
}

// vocabulary makes words of syllables.
func vocabulary(r *rand.Rand, n int) []string {
	syllables := strings.Fields("ha ber mo ring tide quay wa ter sal ter no el ri ver do ck pi le an chor bu oy cha nnel sou nd gra nt lo ck be rth wi nd st on e")
	seen := map[string]bool{}
	var out []string
	for len(out) < n {
		w := ""
		for range 2 + r.IntN(3) {
			w += syllables[r.IntN(len(syllables))]
		}
		if !seen[w] {
			seen[w] = true
			out = append(out, w)
		}
	}
	return out
}
