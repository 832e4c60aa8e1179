package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"glenrain/core/layout"
	"glenrain/desk"
)

// texts measures reading the text of whole documents, and finding in it.
func texts(ctx context.Context, dir, byelaws, big string) error {
	fmt.Print("\n## Text\n\nWhole programs, medians of 7 runs: ours writes words, lines and paragraphs in the order of reading, the reference its text.\n\n" +
		"| document | ours, wall ms | pdftotext, wall ms | wall ratio | CPU ratio | peak memory of ours, MB |\n|---|---:|---:|---:|---:|---:|\n")
	list := [][2]string{{"byelaws, 1,200 pages", byelaws}, {"combination, 5,000 pages", big}}
	for _, p := range [][2]string{{"a manual of 2,415 pages", "r-doc-pdf/fullrefman.pdf"}, {"a manual of 1,158 pages", "octave-doc/octave.pdf"},
		{"a manual of 480 pages", "zsh-doc/zsh.pdf"}, {"a manual of 311 pages", "gnuplot-doc/gnuplot.pdf"}, {"a manual of 178 pages", "glpk-doc/glpk.pdf"}} {
		path := filepath.Join(os.Getenv("GLENRAIN_PAPERS"), "debian", p[1])
		if _, err := os.Stat(path); err == nil {
			list = append(list, [2]string{p[0], path})
		}
	}
	for _, p := range list {
		a, err := measure("./glenrain", "text", p[1])
		if err != nil {
			return err
		}
		b, err := measure("pdftotext", p[1], "-")
		if err != nil {
			return err
		}
		fmt.Printf("| %s | %.0f | %.0f | %.2f | %.2f | %d |\n", p[0], ms(a.Wall), ms(b.Wall), float64(a.Wall)/float64(b.Wall), float64(a.CPU)/float64(b.CPU), a.Peak>>20)
	}
	d, err := openDesk(filepath.Join(dir, "texts"))
	if err != nil {
		return err
	}
	defer d.Close()
	doc, err := bring(ctx, d, byelaws)
	if err != nil {
		return err
	}
	find := func(q string) (time.Duration, int, error) {
		s, err := d.Snapshot(ctx, doc.ID)
		if err != nil {
			return 0, 0, err
		}
		start := time.Now()
		found, err := d.Find(ctx, s, layout.Query{Text: q})
		if err != nil {
			return 0, 0, err
		}
		return time.Since(start), found.Hits, nil
	}
	first, _, err := find("mooring ring")
	if err != nil {
		return err
	}
	var took []time.Duration
	hits := 0
	for i := range 21 {
		t, n, err := find([]string{"mooring ring", "harbour master", "Spring"}[i%3])
		if err != nil {
			return err
		}
		took, hits = append(took, t), max(hits, n)
	}
	var after []time.Duration
	for i := range 11 {
		if _, err := inDeskOnce(ctx, d, doc.ID, i); err != nil {
			return err
		}
		t, _, err := find("mooring ring")
		if err != nil {
			return err
		}
		after = append(after, t)
	}
	fmt.Printf("\nFinding in %d pages, ms: the first time, all pages read and kept, %.0f; then all hits (up to %d), median, %.1f; after a page was rotated, that page read again, %.1f.\n",
		doc.Pages, ms(first), hits, ms(median(took)), ms(median(after)))
	return nil
}

// inDeskOnce turns one page.
func inDeskOnce(ctx context.Context, d *desk.Desk, id uint, i int) (*desk.Outcome, error) {
	s, err := d.Snapshot(ctx, id)
	if err != nil {
		return nil, err
	}
	return d.Do(ctx, desk.Change{Document: id, Seen: s.State.ID, RequestID: fmt.Sprint("text", i), Person: 1, Name: "rotate", Params: json.RawMessage(fmt.Sprintf(`{"pages":["0.%d"],"by":90}`, 100+i))})
}
