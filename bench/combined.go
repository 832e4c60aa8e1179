package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"

	"glenrain/core/pdf"
)

// combined compares the sizes of files made of several. What ours keeps for each of them, and the reference does not, is told by itself: bookmarks, tags, labels
// and links, which in the reference's file all lead into the first copy.
func combined(ctx context.Context, dir string) error {
	fmt.Print("## Combined files\n\nBytes. The reference is qpdf with object streams, which drops bookmarks, tags, page labels and what named places stand for, and lets the links of " +
		"all copies lead into one; ours keeps them for each. The last two columns are both files without bookmarks, tags, labels and links.\n\n" +
		"| what | ours | qpdf | ours, bare | ratio, bare |\n|---|---:|---:|---:|---:|\n")
	papers := filepath.Join(os.Getenv("GLENRAIN_PAPERS"), "debian")
	copies := func(path string, n int) []string { // by one name, which qpdf then opens only once
		if _, err := os.Stat(path); err != nil {
			return nil
		}
		return slices.Repeat([]string{path}, n)
	}
	all := func(pattern string) []string {
		list, _ := filepath.Glob(pattern) // of a fixed pattern
		slices.Sort(list)
		return list
	}
	for _, set := range []struct {
		what  string
		files []string
	}{
		{"20 copies of a survey of 22 pages", copies(filepath.Join(dir, "Quay wall survey.pdf"), 20)},
		{"5 copies of a letter", copies(filepath.Join(dir, "Letter to berth holders.pdf"), 5)},
		{"10 copies of a tide table", copies(filepath.Join(dir, "Tide table 2027.pdf"), 10)},
		{"2 copies of byelaws of 1,200 pages", copies(filepath.Join(dir, "Byelaws, consolidated.pdf"), 2)},
		{"10 copies of a manual of 311 pages", copies(filepath.Join(papers, "gnuplot-doc", "gnuplot.pdf"), 10)},
		{"10 copies of a manual of 196 pages", copies(filepath.Join(papers, "asymptote-doc", "asymptote.pdf"), 10)},
		{"all manuals of one package", all(filepath.Join(papers, "octave-doc", "*.pdf"))},
		{"all manuals of another", all(filepath.Join(papers, "erlang-doc", "*.pdf"))},
		{"all of a third, with tags", all(filepath.Join(papers, "fp-docs-3.2.2", "*.pdf"))},
		{"all of a fourth", all(filepath.Join(papers, "debian-handbook", "*.pdf"))},
	} {
		if len(set.files) == 0 { // real files are there where make corpus gathered them
			continue
		}
		ours, ref := filepath.Join(dir, "ours.pdf"), filepath.Join(dir, "ref.pdf")
		if out, err := exec.Command("./glenrain", append(append([]string{"combine"}, set.files...), "-o", ours)...).CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %s", err, out)
		}
		args := append(append([]string{"--empty", "--object-streams=generate", "--pages"}, set.files...), "--", ref)
		if out, err := exec.Command("qpdf", args...).CombinedOutput(); err != nil && exitCode(err) != 3 {
			return fmt.Errorf("%s: %s", err, out)
		}
		a, bare, err := weighed(ctx, ours)
		if err != nil {
			return err
		}
		b, bareRef, err := weighed(ctx, ref)
		if err != nil {
			return err
		}
		fmt.Printf("| %s | %d | %d | %d | %.3f |\n", set.what, a, b, bare, float64(bare)/float64(bareRef))
	}
	fmt.Println()
	return nil
}

func exitCode(err error) int {
	if e, ok := err.(*exec.ExitError); ok {
		return e.ExitCode()
	}
	return -1
}

// weighed gives a file's size, and that of the same without what the reference drops or shares.
func weighed(ctx context.Context, path string) (size, bare int64, err error) {
	doc, err := openCopy(path)
	if err != nil {
		return 0, 0, err
	}
	size = doc.Size()
	d := doc.Fork()
	catalog := d.Edit(d.Root())
	for _, k := range []pdf.Name{"Outlines", "StructTreeRoot", "MarkInfo", "PageLabels", "PageMode", "Names", "Dests"} {
		catalog.Delete(k)
	}
	pages, err := d.Pages()
	if err != nil {
		return 0, 0, err
	}
	for _, l := range pages {
		page := d.Edit(l.Ref)
		page.Delete("StructParents")
		left := slices.DeleteFunc(slices.Clone(d.Array(page.Get("Annots"))), func(o pdf.Object) bool { return d.Name(d.Dict(o).Get("Subtype")) == "Link" })
		if page.Delete("Annots"); len(left) > 0 {
			page.Set("Annots", left)
		}
	}
	var n counting
	if err := d.WriteFull(ctx, &n, pdf.FullOptions{}); err != nil { // as it is, nothing joined
		return 0, 0, err
	}
	return size, int64(n), nil
}

type counting int64

func (c *counting) Write(b []byte) (int, error) {
	*c += counting(len(b))
	return len(b), nil
}
