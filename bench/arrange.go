package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/proto"

	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/demo"
	"glenrain/desk"
	"glenrain/web"

	"log/slog"
	"net/http/httptest"
)

// arranged measures combining many files, splitting into many parts, and the board in a browser.
func arranged(ctx context.Context, dir, byelaws string, docs map[int]*pdf.Document) error {
	fmt.Print("## Arrange\n\n| what | ours | reference | its figure | ratio |\n|---|---:|---|---:|---:|\n")
	if err := combineMany(ctx, dir, byelaws); err != nil {
		return err
	}
	if err := splitMany(ctx, dir, docs); err != nil {
		return err
	}
	fmt.Println()
	return boards(ctx, dir, docs)
}

const (
	manyFiles  = 40
	filesPages = 3000
)

// combineMany combines 40 different files with 3,000 pages in all.
func combineMany(ctx context.Context, dir, byelaws string) error {
	var files []string
	each := filesPages / manyFiles
	for i := range manyFiles {
		path := filepath.Join(dir, fmt.Sprintf("part %02d.pdf", i+1))
		from := i*27%(1200-each) + 1
		if out, err := exec.Command("qpdf", byelaws, "--pages", ".", fmt.Sprintf("%d-%d", from, from+each-1), "--", path).CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		files = append(files, path)
	}
	ours, ref := filepath.Join(dir, "ours.pdf"), filepath.Join(dir, "ref.pdf")
	a, err := measure("./glenrain", append(append([]string{"combine"}, files...), "-o", ours)...)
	if err != nil {
		return err
	}
	b, err := measure("qpdf", append(append([]string{"--empty", "--object-streams=generate", "--pages"}, files...), "--", ref)...)
	if err != nil {
		return err
	}
	fmt.Printf("| %d files with %d pages combined, ms | %.0f | qpdf | %.0f | %.2f |\n", manyFiles, filesPages, ms(a.Wall), ms(b.Wall), float64(a.Wall)/float64(b.Wall))
	_, bare, err := weighed(ctx, ours)
	if err != nil {
		return err
	}
	_, bareRef, err := weighed(ctx, ref)
	if err != nil {
		return err
	}
	fmt.Printf("| and what that weighs without bookmarks, tags, labels and links, bytes | %d | qpdf | %d | %.3f |\n", bare, bareRef, float64(bare)/float64(bareRef))
	return nil
}

// splitMany splits 2,000 pages into 200 parts, as documents and as a zip.
func splitMany(ctx context.Context, dir string, docs map[int]*pdf.Document) error {
	const pages, parts = 2000, 200
	doc, err := sized(ctx, docs[1000], pages)
	if err != nil {
		return err
	}
	d, err := openDesk(filepath.Join(dir, "split"))
	if err != nil {
		return err
	}
	defer d.Close()
	path := filepath.Join(dir, "long.pdf")
	row, err := stock(ctx, d, path, doc)
	if err != nil {
		return err
	}
	s, err := d.Snapshot(ctx, row.ID)
	if err != nil {
		return err
	}
	p := desk.Splitting{Document: row.ID, Seen: s.State.ID, Person: 1, Names: make([]string, parts)}
	for i := range parts {
		p.Names[i] = fmt.Sprintf("Part %03d", i+1)
		if i > 0 {
			p.Cuts = append(p.Cuts, step.Key{Ordinal: i*pages/parts + 1})
		}
	}
	start := time.Now()
	if _, err := d.Parts(ctx, s, p.Cuts); err != nil {
		return err
	}
	weighing := time.Since(start)
	p.Zip, p.RequestID = "Parts", "bench-zip"
	start = time.Now()
	if _, err := d.Split(ctx, &desk.Work{}, p); err != nil {
		return err
	}
	zipped := time.Since(start)
	p.Zip, p.RequestID = "", "bench-documents"
	start = time.Now()
	if _, err := d.Split(ctx, &desk.Work{}, p); err != nil {
		return err
	}
	made := time.Since(start)
	folder := filepath.Join(dir, "parts")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	ref, err := measure("qpdf", "--object-streams=generate", fmt.Sprintf("--split-pages=%d", pages/parts), path, filepath.Join(folder, "p.pdf"))
	if err != nil {
		return err
	}
	fmt.Printf("| %d pages split into %d files in a zip, on the disk, ms | %.0f | qpdf --split-pages | %.0f | %.2f |\n", pages, parts, ms(zipped), ms(ref.Wall), float64(zipped)/float64(ref.Wall))
	fmt.Printf("| and into %d documents, each looked through and stored | %.0f | | | |\n", parts, ms(made))
	fmt.Printf("| and what each part will weigh, told before | %.0f | | | |\n", ms(weighing))
	return nil
}

// inBrowser serves a desk of its own and signs in to it in Chromium, at its list of documents.
func inBrowser(dir string) (d *desk.Desk, page *rod.Page, stop func(), err error) {
	if d, err = openDesk(dir); err != nil {
		return nil, nil, nil, err
	}
	s, err := web.New(d, web.Options{House: demo.House, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, nil, nil, err
	}
	server := httptest.NewServer(s.Handler())
	u, err := launcher.New().Bin("/usr/bin/chromium").Headless(true).NoSandbox(true).Leakless(false).Set("disable-gpu").Set("disable-quic").Launch()
	if err != nil {
		return nil, nil, nil, err
	}
	b := rod.New().ControlURL(u)
	if err := b.Connect(); err != nil {
		return nil, nil, nil, err
	}
	stop = func() {
		_ = b.Close()
		server.Close()
		s.Stop()
		d.Close()
	}
	err = rod.Try(func() {
		page = b.MustPage(server.URL + "/enter").Timeout(5 * time.Minute)
		page.MustSetViewport(1280, 800, 1, false)
		page.MustElement("#name").MustInput("isla")
		page.MustElement("#password").MustInput(demo.Password)
		wait := page.MustWaitNavigation()
		page.MustElement("button.btn-primary").MustClick()
		wait()
		page.MustNavigate(server.URL + "/documents").MustWaitLoad()
	})
	return d, page, stop, err
}

// boards measures the board of pages in the real browser.
func boards(ctx context.Context, dir string, docs map[int]*pdf.Document) error {
	d, page, stop, err := inBrowser(filepath.Join(dir, "boards"))
	if err != nil {
		return err
	}
	defer stop()
	fmt.Print("The board of all pages in Chromium, 1280 x 800 without a graphics card, ms: until the first pages are drawn, of a document that was looked at before; and from frame to frame " +
		"while one scrolls through all of it, and while one drags a page over it.\n\n| pages | first pages seen | scrolling, median frame | longest | dragging, median frame | longest |\n|---:|---:|---:|---:|---:|---:|\n")
	return rod.Try(func() {
		base := page.MustEval(`() => location.origin`).Str()
		for _, n := range []int{10, 1000, 5000} {
			row, err := stock(ctx, d, filepath.Join(dir, fmt.Sprintf("board-%d.pdf", n)), docs[n])
			if err != nil {
				panic(err)
			}
			seen := func() float64 {
				page.MustNavigate(fmt.Sprintf("%s/desk/%d/arrange", base, row.ID))
				page.MustElement(".leaf img")
				return page.MustEval(`async () => { while (![...document.querySelectorAll(".leaf img")].every((i) => i.complete && i.naturalWidth)) await new Promise((r) => setTimeout(r, 2)); return performance.now(); }`).Num()
			}
			seen()
			first := seen()
			for range 4 {
				first = min(first, seen())
			}
			page.MustElement(`body[data-ready]`)
			frames := func(js string) (mid, most float64) {
				v := page.MustEval(`async () => {
					const took = []; let last = performance.now();
					const board = document.getElementById("board");
					for (let i = 0; i < 120; i++) {
						` + js + `
						await new Promise((r) => requestAnimationFrame(r));
						const now = performance.now(); took.push(now - last); last = now;
					}
					took.sort((a, b) => a - b);
					return [took[60], took[119]];
				}`).Arr()
				return v[0].Num(), v[1].Num()
			}
			sm, sl := frames(`board.scrollTop = (i / 119) * (board.scrollHeight - board.clientHeight);`)
			page.MustEval(`() => { document.getElementById("board").scrollTop = 0; }`)
			box := page.MustElement(`.leaf[data-index="1"] img`).MustShape().OnePointInside()
			page.Mouse.MustMoveTo(box.X, box.Y)
			page.Mouse.MustDown(proto.InputMouseButtonLeft)
			page.Mouse.MustMoveTo(box.X+40, box.Y+30)
			dm, dl := frames(`document.dispatchEvent(new PointerEvent("pointermove", { pointerId: 1, clientX: 400 + (i * 37) % 700, clientY: 200 + (i * 23) % 450, bubbles: true }));`)
			page.Keyboard.MustType(input.Escape)
			page.Mouse.MustUp(proto.InputMouseButtonLeft)
			fmt.Println(strings.Join([]string{fmt.Sprintf("| %d", n), fmt.Sprintf("%.0f", first), fmt.Sprintf("%.1f", sm), fmt.Sprintf("%.1f", sl), fmt.Sprintf("%.1f", dm), fmt.Sprintf("%.1f |", dl)}, " | "))
		}
		fmt.Println()
	})
}
