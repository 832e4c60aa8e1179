// Command bench measures Glenrain beside the tools that people know, on the same files
// in the same run, and writes the table of docs/BENCH.md to standard output.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"syscall"
	"time"

	"glenrain/core/child"
	"glenrain/core/jobs"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/demo"
	"glenrain/desk"
)

func main() {
	child.Main()
	if len(os.Args) > 2 && os.Args[1] == "measure" {
		c, err := measureHere(os.Args[2], os.Args[3:])
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		_ = json.NewEncoder(os.Stdout).Encode(c)
		return
	}
	only := ""
	if len(os.Args) > 1 {
		only = os.Args[1]
	}
	if err := run(context.Background(), only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, only string) error {
	dir, err := os.MkdirTemp("", "glenrain-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	fmt.Printf("# Bench\n\nMade by `make bench`: each row is a figure of ours beside the reference on the same file in the same run. %d cores, %s.\n\n", runtime.NumCPU(), runtime.Version())
	files, err := demo.Files()
	if err != nil {
		return err
	}
	var byelaws, scan string
	for _, f := range files {
		p := filepath.Join(dir, f.Name)
		if err := os.WriteFile(p, f.Data, 0o600); err != nil {
			return err
		}
		if f.Name == "Byelaws, consolidated.pdf" {
			byelaws = p
		}
		if f.Name == "Mooring licence, signed.pdf" {
			scan = p
		}
	}
	from, err := openCopy(byelaws)
	if err != nil {
		return err
	}
	docs := map[int]*pdf.Document{}
	for _, n := range sizes {
		if docs[n], err = sized(ctx, from, n); err != nil {
			return err
		}
	}
	big := filepath.Join(dir, "big.pdf")
	if err := write(ctx, docs[5000], big); err != nil {
		return err
	}
	switch only { // a part alone, to look at
	case "whole":
		return whole(dir, byelaws, big, filepath.Join(dir, "Quay wall survey.pdf"))
	case "steps":
		return steps(ctx, docs, big)
	case "texts":
		return texts(ctx, dir, byelaws, big)
	case "combined":
		return combined(ctx, dir)
	case "desk":
		return deskSteps(ctx, dir, docs, big)
	case "previews":
		return previews(ctx, dir, docs)
	case "trails":
		return trails(ctx, dir, docs)
	case "collect":
		return collect(ctx, dir, byelaws)
	case "arrange":
		return arranged(ctx, dir, byelaws, docs)
	case "edit":
		return edited(ctx, dir, byelaws, docs)
	case "lists":
		return lists(ctx, dir, docs)
	case "crowd":
		return crowd(ctx, dir, docs)
	case "beside":
		d, err := openDesk(filepath.Join(dir, "beside"))
		if err != nil {
			return err
		}
		defer d.Close()
		if _, err := stock(ctx, d, filepath.Join(dir, "ten.pdf"), docs[10]); err != nil {
			return err
		}
		return errors.Join(besideTexts(ctx, dir, d, docs), besideListings(ctx, d))
	case "searches":
		return searches(ctx, dir)
	}
	if err := whole(dir, byelaws, big, filepath.Join(dir, "Quay wall survey.pdf")); err != nil {
		return err
	}
	if err := combined(ctx, dir); err != nil {
		return err
	}
	if err := steps(ctx, docs, big); err != nil {
		return err
	}
	if err := deskSteps(ctx, dir, docs, big); err != nil {
		return err
	}
	if err := pictures(ctx, dir, byelaws, scan); err != nil {
		return err
	}
	if err := texts(ctx, dir, byelaws, big); err != nil {
		return err
	}
	if err := previews(ctx, dir, docs); err != nil {
		return err
	}
	if err := trails(ctx, dir, docs); err != nil {
		return err
	}
	if err := collect(ctx, dir, byelaws); err != nil {
		return err
	}
	if err := arranged(ctx, dir, byelaws, docs); err != nil {
		return err
	}
	if err := edited(ctx, dir, byelaws, docs); err != nil {
		return err
	}
	if err := lists(ctx, dir, docs); err != nil {
		return err
	}
	if err := crowd(ctx, dir, docs); err != nil {
		return err
	}
	return searches(ctx, dir)
}

// sizes are the pages of documents that steps are measured in.
var sizes = []int{10, 100, 1000, 5000}

func openCopy(path string) (*pdf.Document, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return pdf.Open(bytes.NewReader(data), int64(len(data)))
}

func write(ctx context.Context, doc *pdf.Document, path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	return errors.Join(doc.WriteFull(ctx, f, pdf.FullOptions{}), f.Close())
}

// cost is what a run of a program took: medians of several runs.
type cost struct {
	Wall, CPU time.Duration
	Peak      int64 // bytes, not under the 10 MB or so of this program itself
}

// runs is how often a program is run; one that takes over slow runs once.
const (
	runs = 7
	slow = 2 * time.Second
)

// measure runs a program in a small process of its own, since a program's peak memory is
// never told smaller than that of the process that started it.
func measure(name string, args ...string) (c cost, err error) {
	exe, err := os.Executable()
	if err != nil {
		return c, err
	}
	cmd := exec.Command(exe, append([]string{"measure", name}, args...)...)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return c, fmt.Errorf("%s %v: %w", name, args, err)
	}
	return c, json.Unmarshal(out, &c)
}

func measureHere(name string, args []string) (cost, error) {
	var walls, cpus []time.Duration
	var peak int64
	for range runs {
		cmd := exec.Command(name, args...)
		cmd.Stderr = os.Stderr
		start := time.Now()
		if err := cmd.Run(); err != nil {
			return cost{}, err
		}
		walls = append(walls, time.Since(start))
		use := cmd.ProcessState.SysUsage().(*syscall.Rusage)
		cpus = append(cpus, cmd.ProcessState.UserTime()+cmd.ProcessState.SystemTime())
		peak = max(peak, use.Maxrss*1024)
		if walls[0] > slow {
			break
		}
	}
	return cost{median(walls), median(cpus), peak}, nil
}

func median(d []time.Duration) time.Duration {
	slices.Sort(d)
	return d[len(d)/2]
}

// whole compares whole programs.
func whole(dir, byelaws, big, survey string) error {
	fmt.Print("## Whole programs\n\nMedians of 7 runs; a ratio under 1 means that ours takes less.\n\n" +
		"| what | ours, wall ms | reference | its wall ms | wall ratio | CPU ratio | peak memory ratio |\n|---|---:|---|---:|---:|---:|---:|\n")
	empty := filepath.Join(dir, "empty.json")
	if err := os.WriteFile(empty, []byte(`{"steps":[]}`), 0o600); err != nil {
		return err
	}
	out := filepath.Join(dir, "out.pdf")
	data, err := os.ReadFile(survey)
	if err != nil {
		return err
	}
	var twenty []string // files of their own: qpdf opens one of the same name only once
	for i := range 20 {
		p := filepath.Join(dir, fmt.Sprintf("survey-%d.pdf", i))
		if err := os.WriteFile(p, data, 0o600); err != nil {
			return err
		}
		twenty = append(twenty, p)
	}
	qpdfPages := append(append([]string{"--empty", "--pages"}, twenty...), "--", out)
	type pair struct {
		what string
		ours []string
		ref  []string
	}
	rows := []pair{}
	both := func(what, path string) {
		rows = append(rows, pair{"open and count, " + what, []string{"info", path}, []string{"qpdf", "--show-npages", path}},
			pair{"write anew, " + what, []string{"run", empty, path, "-o", out}, []string{"qpdf", path, out}})
	}
	both("byelaws, 1,200 pages", byelaws)
	both("combination, 5,000 pages", big)
	for name, what := range map[string]string{"r-doc-pdf/fullrefman.pdf": "a manual of 2,415 pages", "octave-doc/octave.pdf": "a manual of 1,158 pages"} {
		path := filepath.Join(os.Getenv("GLENRAIN_PAPERS"), "debian", name) // where make corpus gathers real files
		if _, err := os.Stat(path); err == nil {
			both(what, path)
		}
	}
	rows = append(rows, []pair{
		{"combine 20 files of 22 pages", append(append([]string{"combine"}, twenty...), "-o", out), append([]string{"qpdf"}, qpdfPages...)},
		{"first page as a picture, cold, the renderer's compiled form there", []string{"render", byelaws, "--page", "1", "--dpi", "96", "-o", filepath.Join(dir, "p.png")}, []string{"pdftoppm", "-r", "96", "-f", "1", "-l", "1", "-png", byelaws, filepath.Join(dir, "q")}},
	}...)
	if _, err := measure("./glenrain", rows[len(rows)-1].ours...); err != nil { // a new machine compiles it once
		return err
	}
	for _, row := range rows {
		a, err := measure("./glenrain", row.ours...)
		if err != nil {
			return err
		}
		b, err := measure(row.ref[0], row.ref[1:]...)
		if err != nil {
			return err
		}
		fmt.Printf("| %s | %.1f | %s | %.1f | %.2f | %.2f | %.2f |\n", row.what, ms(a.Wall), row.ref[0], ms(b.Wall),
			float64(a.Wall)/float64(b.Wall), float64(a.CPU)/float64(b.CPU), float64(a.Peak)/float64(b.Peak))
	}
	fmt.Println()
	return nil
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// sized gives a document of n pages, made of the first pages of another.
func sized(ctx context.Context, from *pdf.Document, n int) (*pdf.Document, error) {
	doc := pdf.New()
	for have := 0; have < n; {
		c, err := pdf.NewCopier(doc, from)
		if err != nil {
			return nil, err
		}
		all, err := from.Pages()
		if err != nil {
			return nil, err
		}
		var refs []pdf.Ref
		for _, l := range all[:min(len(all), n-have)] {
			refs = append(refs, l.Ref)
		}
		pages, err := c.Pages(refs)
		if err != nil {
			return nil, err
		}
		if err := doc.InsertPages(have, pages); err != nil {
			return nil, err
		}
		have += len(pages)
	}
	var b bytes.Buffer
	if err := doc.WriteFull(ctx, &b, pdf.FullOptions{}); err != nil {
		return nil, err
	}
	return pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
}

// steps shows how the work of one step grows with the document, which is open.
func steps(ctx context.Context, docs map[int]*pdf.Document, big string) error {
	fmt.Print("## One step in a document that is open\n\nFrom the step to its update, applied; without the disk. The reference is qpdf doing the same to the whole file.\n\n" +
		"| step | 10 pages, ms | 100 | 1,000 | 5,000 | 5,000 : 10 | bytes at 5,000 | qpdf at 5,000, ms | ratio |\n|---|---:|---:|---:|---:|---:|---:|---:|---:|\n")
	out := filepath.Join(filepath.Dir(big), "out2.pdf")
	reg := jobs.Registry()
	for _, row := range []struct {
		name, params string
		ref          []string
	}{
		{"rotate", `{"pages":["0.5"],"by":90}`, []string{big, "--rotate=+90:5", out}},
		{"move", `{"pages":["0.9"],"to":"0.2"}`, []string{big, "--pages", big, "1,9,2-8,10-z", "--", out}},
		{"remove", `{"pages":["0.5"]}`, []string{big, "--pages", big, "1-4,6-z", "--", out}},
		{"number", `{"pages":["0.5"]}`, nil},
	} {
		var took []time.Duration
		size := 0
		for _, n := range sizes {
			d, bytes, err := timeStep(ctx, reg, docs[n], row.name, row.params)
			if err != nil {
				return err
			}
			took, size = append(took, d), bytes
		}
		fmt.Printf("| %s one page", row.name)
		for _, d := range took {
			fmt.Printf(" | %.2f", ms(d))
		}
		fmt.Printf(" | %.1f | %d", float64(took[3])/float64(took[0]), size)
		if row.ref == nil {
			fmt.Println(" | | |")
			continue
		}
		ref, err := measure("qpdf", row.ref...)
		if err != nil {
			return err
		}
		fmt.Printf(" | %.0f | %.4f |\n", ms(ref.Wall), float64(took[3])/float64(ref.Wall))
	}
	fmt.Println()
	return nil
}

func timeStep(ctx context.Context, reg *step.Registry, doc *pdf.Document, name, params string) (time.Duration, int, error) {
	pages, err := doc.Pages()
	if err != nil {
		return 0, 0, err
	}
	keys := step.NewKeys(pages)
	var took []time.Duration
	size := 0
	for i := range 15 {
		s, err := reg.New(name, json.RawMessage(params))
		if err != nil {
			return 0, 0, err
		}
		start := time.Now()
		fork, res, err := reg.Run(ctx, doc, s, &step.Env{Now: start, Seed: [16]byte{byte(i)}, Step: 1, Keys: keys})
		if err != nil {
			return 0, 0, err
		}
		next, err := doc.With(res.Update)
		if err != nil {
			return 0, 0, err
		}
		next.KeepPages(fork)
		took = append(took, time.Since(start))
		size = len(res.Update)
	}
	return median(took), size, nil
}

// bring makes a document of a file.
func bring(ctx context.Context, d *desk.Desk, path string) (*desk.Document, error) {
	in, err := d.Store.Create()
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if _, err := in.Write(data); err != nil {
		return nil, err
	}
	return d.Arrive(ctx, desk.Arrival{Person: 1, Name: filepath.Base(path)}, in)
}

// inDesk measures one kind of step through the desk, from the request to its row.
func inDesk(ctx context.Context, d *desk.Desk, id uint, name string, params func(i int) string) (time.Duration, error) {
	var took []time.Duration
	for i := range 21 {
		s, err := d.Snapshot(ctx, id)
		if err != nil {
			return 0, err
		}
		start := time.Now()
		_, err = d.Do(ctx, desk.Change{Document: id, Seen: s.State.ID, RequestID: fmt.Sprint(name, i), Person: 1, Name: name, Params: json.RawMessage(params(i))})
		if err != nil {
			return 0, err
		}
		took = append(took, time.Since(start))
	}
	return median(took), nil
}

// deskSteps measures steps from the request to the committed row: in memory, where a sync costs nothing, and
// beside it on the disk.
func deskSteps(ctx context.Context, dir string, docs map[int]*pdf.Document, big string) error {
	memory, err := os.MkdirTemp("/dev/shm", "glenrain-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(memory)
	d, err := openDesk(memory)
	if err != nil {
		return err
	}
	defer d.Close()
	onDisk, err := openDesk(filepath.Join(dir, "disk"))
	if err != nil {
		return err
	}
	defer onDisk.Close()
	other := filepath.Join(dir, "other.pdf")
	if err := write(ctx, docs[10], other); err != nil {
		return err
	}
	from, err := bring(ctx, d, other)
	if err != nil {
		return err
	}
	flat := filepath.Join(dir, "flat.pdf")
	if _, err := measure("qpdf", "--empty", "--pages", big, "1-z", "--", flat); err != nil { // which puts all pages under one node
		return err
	}
	fmt.Print("## One step through the desk\n\nFrom the request to the committed row, median of 21, ms; in memory, so without the time that a disk takes to be sure.\n\n" +
		"| step | 10 pages | 5,000, balanced tree | 5,000, all under one node | balanced : 10 |\n|---|---:|---:|---:|---:|\n")
	params := map[string]func(int) string{
		"rotate": func(i int) string { return fmt.Sprintf(`{"pages":["0.%d"],"by":90}`, i%9+1) },
		"move":   func(i int) string { return fmt.Sprintf(`{"pages":["0.%d"],"to":"0.2"}`, i%7+3) },
		"insert": func(i int) string {
			return fmt.Sprintf(`{"from":"state:%d","pages":"%d","to":"0.2"}`, from.HeadID, i%9+1)
		},
		"remove": func(i int) string { return `{"pages":"5"}` },
	}
	for _, name := range []string{"rotate", "move", "insert", "remove"} {
		var took []time.Duration
		for _, path := range []string{other, big, flat} {
			row, err := bring(ctx, d, path)
			if err != nil {
				return err
			}
			if name == "remove" { // the small one must not run out of pages
				for i := range 3 {
					s, err := d.Snapshot(ctx, row.ID)
					if err != nil {
						return err
					}
					if _, err := d.Do(ctx, desk.Change{Document: row.ID, Seen: s.State.ID, RequestID: fmt.Sprint("more", i), Person: 1, Name: "insert",
						Params: json.RawMessage(fmt.Sprintf(`{"from":"state:%d","pages":"all","to":"end"}`, from.HeadID))}); err != nil {
						return err
					}
				}
			}
			t, err := inDesk(ctx, d, row.ID, name, params[name])
			if err != nil {
				return err
			}
			took = append(took, t)
		}
		fmt.Printf("| %s one page | %.2f | %.2f | %.2f | %.1f |\n", name, ms(took[0]), ms(took[1]), ms(took[2]), float64(took[1])/float64(took[0]))
	}
	row, err := bring(ctx, onDisk, big)
	if err != nil {
		return err
	}
	t, err := inDesk(ctx, onDisk, row.ID, "rotate", params["rotate"])
	if err != nil {
		return err
	}
	fmt.Printf("\nOn this machine's disk, with the sync, a page rotated in 5,000 takes %.1f ms.\n\n", ms(t))
	return nil
}

// pictures measures pages drawn by a renderer that runs, beside whole processes of pdftoppm.
func pictures(ctx context.Context, dir, byelaws, scan string) error {
	d, err := openDesk(filepath.Join(dir, "data"))
	if err != nil {
		return err
	}
	defer d.Close()
	one, err := openCopy(scan)
	if err != nil {
		return err
	}
	twenty, err := sized(ctx, one, 20)
	if err != nil {
		return err
	}
	scans := filepath.Join(dir, "scans.pdf")
	if err := write(ctx, twenty, scans); err != nil {
		return err
	}
	fmt.Print("## Page pictures of 640 pixels\n\nMedians of 20 pages, ms.\n\n| pages | ours, warm | pdftoppm, whole process | ratio |\n|---|---:|---:|---:|\n")
	for _, row := range []struct {
		what, path string
		from       int
	}{{"of text", byelaws, 100}, {"that are scans", scans, 0}} {
		doc, err := bring(ctx, d, row.path)
		if err != nil {
			return err
		}
		s, err := d.Snapshot(ctx, doc.ID)
		if err != nil {
			return err
		}
		pages := s.Pages()
		if _, err := d.Picture(ctx, 1, doc.ID, pages[0].Key, 0, 100, 100); err != nil {
			return err
		}
		var ours, theirs []time.Duration
		for i := row.from; i < row.from+20; i++ {
			start := time.Now()
			if _, err := d.Picture(ctx, 1, doc.ID, pages[i].Key, pages[i].Version, 640, 640); err != nil {
				return err
			}
			ours = append(ours, time.Since(start))
			start = time.Now()
			at := fmt.Sprint(i + 1)
			if err := exec.Command("pdftoppm", "-f", at, "-l", at, "-scale-to", "640", "-png", row.path, filepath.Join(dir, "w")).Run(); err != nil {
				return err
			}
			theirs = append(theirs, time.Since(start))
		}
		a, b := median(ours), median(theirs)
		fmt.Printf("| %s | %.1f | %.1f | %.2f |\n", row.what, ms(a), ms(b), float64(a)/float64(b))
	}
	s, err := d.Snapshot(ctx, 1)
	if err != nil {
		return err
	}
	start := time.Now()
	for _, p := range s.Pages()[300:400] {
		if _, err := d.Picture(ctx, 1, 1, p.Key, p.Version, 640, 640); err != nil {
			return err
		}
	}
	row := time.Since(start)
	ref, err := measure("pdftoppm", "-f", "301", "-l", "400", "-scale-to", "640", "-png", byelaws, filepath.Join(dir, "r"))
	if err != nil {
		return err
	}
	fmt.Printf("| 100 of text in a row | %.0f | %.0f | %.2f |\n", ms(row), ms(ref.Wall), float64(row)/float64(ref.Wall))
	return nil
}

// openDesk opens a data folder, with somebody in it who does what is measured.
func openDesk(dir string) (*desk.Desk, error) {
	d, err := desk.Open(dir, desk.Options{PDFiumCache: raster.CacheForTests()})
	if err != nil {
		return nil, err
	}
	empty, err := d.Empty(context.Background())
	if err == nil && empty {
		_, err = d.AddPerson(context.Background(), "Isla Merrow", "isla", demo.Password)
	}
	return d, err
}
