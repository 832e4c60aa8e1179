// Command bench measures Glenrain beside the tools that people know, on the same files
// in the same run, and writes the table of docs/BENCH.md to standard output.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"syscall"
	"time"

	"glenrain/core/jobs"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/demo"
	"glenrain/desk"
)

func main() {
	raster.ChildMain()
	if len(os.Args) > 2 && os.Args[1] == "measure" {
		c, err := measureHere(os.Args[2], os.Args[3:])
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		_ = json.NewEncoder(os.Stdout).Encode(c)
		return
	}
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
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
	var byelaws string
	for _, f := range files {
		p := filepath.Join(dir, f.Name)
		if err := os.WriteFile(p, f.Data, 0o600); err != nil {
			return err
		}
		if f.Name == "Byelaws, consolidated.pdf" {
			byelaws = p
		}
	}
	if err := whole(dir, byelaws, filepath.Join(dir, "Quay wall survey.pdf")); err != nil {
		return err
	}
	if err := steps(ctx, byelaws); err != nil {
		return err
	}
	return stored(ctx, dir, byelaws)
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
func whole(dir, byelaws, survey string) error {
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
	for _, row := range []struct {
		what string
		ours []string
		ref  []string
	}{
		{"open and count, 1,200 pages", []string{"info", byelaws}, []string{"qpdf", "--show-npages", byelaws}},
		{"write anew, 1,200 pages", []string{"run", empty, byelaws, "-o", out}, []string{"qpdf", byelaws, out}},
		{"combine 20 files of 22 pages", append(append([]string{"combine"}, twenty...), "-o", out), append([]string{"qpdf"}, qpdfPages...)},
		{"first page as a picture, cold", []string{"render", byelaws, "--page", "1", "--dpi", "96", "-o", filepath.Join(dir, "p.png")}, []string{"pdftoppm", "-r", "96", "-f", "1", "-l", "1", "-png", byelaws, filepath.Join(dir, "q")}},
	} {
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
func steps(ctx context.Context, byelaws string) error {
	fmt.Print("## One step in a document that is open\n\nFrom the step to its update, applied; without the disk. The reference is qpdf doing the same to the whole file.\n\n" +
		"| step | 10 pages, ms | 100 | 1,000 | 5,000 | 5,000 : 10 | bytes at 5,000 | qpdf at 5,000, ms | ratio |\n|---|---:|---:|---:|---:|---:|---:|---:|---:|\n")
	data, err := os.ReadFile(byelaws)
	if err != nil {
		return err
	}
	from, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err
	}
	sizes := []int{10, 100, 1000, 5000}
	docs := map[int]*pdf.Document{}
	for _, n := range sizes {
		if docs[n], err = sized(ctx, from, n); err != nil {
			return err
		}
	}
	big := filepath.Join(filepath.Dir(byelaws), "big.pdf")
	f, err := os.Create(big)
	if err != nil {
		return err
	}
	if err := docs[5000].WriteFull(ctx, f, pdf.FullOptions{}); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	out := filepath.Join(filepath.Dir(byelaws), "out2.pdf")
	reg := jobs.Registry()
	for _, row := range []struct {
		name, params string
		ref          []string
	}{
		{"turn", `{"pages":["0.5"],"by":90}`, []string{big, "--rotate=+90:5", out}},
		{"move", `{"pages":["0.9"],"to":"0.2"}`, []string{big, "--pages", big, "1,9,2-8,10-z", "--", out}},
		{"take-out", `{"pages":["0.5"]}`, []string{big, "--pages", big, "1-4,6-z", "--", out}},
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

// stored measures a step through the desk, from the request to the row on the disk, and
// page pictures.
func stored(ctx context.Context, dir, byelaws string) error {
	d, err := desk.Open(filepath.Join(dir, "data"), desk.Options{PDFiumCache: raster.CacheForTests()})
	if err != nil {
		return err
	}
	defer d.Close()
	in, err := d.Store.Create()
	if err != nil {
		return err
	}
	data, err := os.ReadFile(byelaws)
	if err != nil {
		return err
	}
	if _, err := in.Write(data); err != nil {
		return err
	}
	row, err := d.Arrive(ctx, 1, 0, "Byelaws.pdf", "", in)
	if err != nil {
		return err
	}
	s, err := d.Snapshot(ctx, row.ID)
	if err != nil {
		return err
	}
	var took []time.Duration
	var bytesOnDisk int64
	for i := range 20 {
		start := time.Now()
		out, err := d.Do(ctx, desk.Change{Document: row.ID, Seen: s.State.ID, RequestID: fmt.Sprint(i), Person: 1, Name: "turn",
			Params: json.RawMessage(fmt.Sprintf(`{"pages":["0.%d"],"by":90}`, 600+i))})
		if err != nil {
			return err
		}
		took = append(took, time.Since(start))
		s, bytesOnDisk = out.Snapshot, out.Step.UpdateSize
	}
	fmt.Printf("## Through the desk, in the byelaws of %d pages\n\n| what | figure |\n|---|---:|\n", row.Pages)
	fmt.Printf("| a page turned, from the request to its row on the disk (with fsync), median of 20 | %.1f ms |\n", ms(median(took)))
	fmt.Printf("| what it adds to the document | %d bytes |\n", bytesOnDisk)
	var pics []time.Duration
	pages := s.Pages()
	if _, err := d.Picture(ctx, row.ID, pages[0].Key, 0, 640, 640); err != nil {
		return err
	}
	for i := range 20 {
		start := time.Now()
		if _, err := d.Picture(ctx, row.ID, pages[100+i].Key, pages[100+i].Version, 640, 640); err != nil {
			return err
		}
		pics = append(pics, time.Since(start))
	}
	warm := median(pics)
	ref, err := measure("pdftoppm", "-f", "101", "-l", "101", "-scale-to", "640", "-png", byelaws, filepath.Join(dir, "w"))
	if err != nil {
		return err
	}
	fmt.Printf("| a page picture of 640 pixels, warm, median of 20 | %.1f ms |\n| pdftoppm's whole process for the same | %.1f ms, ratio %.2f |\n", ms(warm), ms(ref.Wall), float64(warm)/float64(ref.Wall))
	return nil
}
