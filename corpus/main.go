// Command corpus holds what Glenrain reads and writes against other programs, over a folder of real files, and writes its parts of
// docs/COMPATIBILITY.md: "anew" the count of pages by poppler's, and the file that is written anew against the one it was written
// from; "walk" each file after steps by chance against what it was.
package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"glenrain/core/child"
	"glenrain/core/pdf"
)

func main() {
	child.Main()
	seed := flag.Uint64("seed", 1, "of the walks")
	only := flag.String("only", "", "walk only files whose path contains this, and write no document")
	flag.StringVar(&keepOut, "out", "", "leave the last file that was handed out here")
	flag.Parse()
	if flag.NArg() != 3 {
		fmt.Fprintln(os.Stderr, "usage: corpus [-seed N] [-only PART] anew|walk|office DIR DOCUMENT")
		os.Exit(2)
	}
	if err := run(flag.Arg(0), flag.Arg(1), flag.Arg(2), *seed, *only); err != nil {
		fmt.Fprintln(os.Stderr, "corpus:", err)
		os.Exit(1)
	}
}

// paper is one file and what came of it.
type paper struct {
	group, path string
	poppler     int      // pages by poppler; 0 where it does not open the file
	ours        int      // pages by our reader; 0 where it does not
	refused     string   // our sentence, where the file was refused
	mended      string   // what was wrong with it
	misses      []string // what of the file written anew is not as it was
	bytes, anew int64
	steps, told []string // of its walk
}

// each does something with each paper, a few at a time.
func each(papers []*paper, do func(*paper)) {
	next := make(chan *paper)
	var wg sync.WaitGroup
	for range runtime.NumCPU() {
		wg.Go(func() {
			for p := range next {
				start := time.Now()
				do(p)
				if t := time.Since(start); t > 30*time.Second {
					fmt.Fprintf(os.Stderr, "%s took %.0f s\n", p.path, t.Seconds())
				}
			}
		})
	}
	for i, p := range papers {
		if i%100 == 0 {
			fmt.Fprintf(os.Stderr, "%d of %d\n", i, len(papers))
		}
		next <- p
	}
	close(next)
	wg.Wait()
}

// put puts a part of the document into its place.
func put(path, part string, text []byte) error {
	old, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	begin, end := []byte("<!-- "+part+" -->\n"), []byte("<!-- end of "+part+" -->\n")
	text = append(append(slices.Clone(begin), bytes.TrimRight(text, "\n")...), append([]byte("\n"), end...)...)
	before, rest, found := bytes.Cut(old, begin)
	_, after, closed := bytes.Cut(rest, end)
	if !found || !closed {
		before, after = append(bytes.TrimRight(old, "\n"), "\n\n"...), nil
	}
	return os.WriteFile(path, slices.Concat(before, text, after), 0o644)
}

func run(part, dir, document string, seed uint64, only string) error {
	if part == "office" {
		all, err := offices(dir, only)
		if err != nil || only != "" {
			return err
		}
		return put(document, part, reportOffice(all))
	}
	var papers []*paper
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && strings.HasSuffix(strings.ToLower(path), ".pdf") {
			rel, _ := filepath.Rel(dir, path)
			papers = append(papers, &paper{group: strings.Split(rel, string(filepath.Separator))[0], path: path})
		}
		return err
	})
	if err != nil {
		return err
	}
	if len(papers) == 0 {
		return errors.New("no PDF files in " + dir)
	}
	var text []byte
	switch part {
	case "anew":
		each(papers, (*paper).look)
		text = report(dir, papers)
	case "walk":
		if err := walks(papers, seed, only); err != nil || only != "" {
			return err
		}
		text = reportWalk(dir, papers)
	default:
		return fmt.Errorf("there is no part %q", part)
	}
	return put(document, part, text)
}

// look reads one file, writes it anew and holds both side by side.
func (p *paper) look() {
	defer func() {
		if r := recover(); r != nil {
			p.misses = append(p.misses, fmt.Sprint("PANIC: ", r))
		}
	}()
	p.poppler = popplerPages(p.path)
	f, err := os.Open(p.path)
	if err != nil {
		p.refused = err.Error()
		return
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		p.refused = err.Error()
		return
	}
	p.bytes = st.Size()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	doc, wrong, _, err := pdf.OpenVerified(ctx, f, st.Size(), "")
	if err != nil {
		p.refused = err.Error()
		return
	}
	p.mended = strings.Join(wrong, "; ")
	pages, err := doc.Pages()
	if err != nil {
		p.refused = err.Error()
		return
	}
	p.ours = len(pages)
	if doc.FilesLocked() {
		p.refused = "attached files are locked"
		return
	}
	// Both under one name, since programs tell the name in what they write.
	dir, err := os.MkdirTemp("", "papers-")
	if err != nil {
		p.refused = err.Error()
		return
	}
	defer os.RemoveAll(dir)
	was, is := filepath.Join(dir, "was", "paper.pdf"), filepath.Join(dir, "is", "paper.pdf")
	at, err := filepath.Abs(p.path)
	err = errors.Join(err, os.Mkdir(filepath.Dir(was), 0o700), os.Mkdir(filepath.Dir(is), 0o700), os.Symlink(at, was))
	if err != nil {
		p.refused = err.Error()
		return
	}
	out, err := os.Create(is)
	if err != nil {
		p.refused = err.Error()
		return
	}
	err = errors.Join(doc.WriteFull(ctx, out, pdf.FullOptions{}), out.Close())
	if err != nil {
		p.miss("not written: %v", err)
		return
	}
	p.against(was, is)
}

func (p *paper) miss(format string, args ...any) {
	p.misses = append(p.misses, fmt.Sprintf(format, args...))
}

// against holds the new file against the old one.
func (p *paper) against(was, anew string) {
	data, err := os.ReadFile(anew)
	if err != nil {
		p.miss("%v", err)
		return
	}
	p.anew = int64(len(data))
	if n := bytes.Count(data, []byte("\nstartxref\n")); n != 1 {
		p.miss("%d cross-reference sections", n)
	}
	if a, b := checks(was), checks(anew); b > a {
		p.miss("qpdf --check: %s before, %s after", verdicts[a], verdicts[b])
	}
	if n := popplerPages(anew); p.poppler != 0 && n != p.poppler {
		p.miss("%d pages by poppler before, %d after", p.poppler, n)
	}
	p.misses = append(p.misses, graphs(was, anew)...)
	for _, ask := range []struct {
		what string
		args []string
	}{
		{"fonts", []string{"pdffonts", "FILE"}},
		{"text", []string{"pdftotext", "FILE", "-"}},
		{"attachments", []string{"pdfdetach", "-list", "FILE"}},
		{"outlines", []string{"pdftohtml", "-xml", "-i", "-l", "1", "-stdout", "FILE"}},
		{"tags", []string{"pdfinfo", "-struct", "FILE"}},
	} {
		a, err1 := said(was, ask.args)
		b, err2 := said(anew, ask.args)
		if ask.what == "fonts" {
			a, b = sortedFonts(a), sortedFonts(b)
		}
		if err1 == nil && err2 != nil || err1 == nil && !bytes.Equal(a, b) {
			p.miss("%s differ", ask.what)
		}
	}
	n := max(p.poppler, 1)
	for _, page := range slices.Compact([]int{1, min(2, n), n}) {
		at := strconv.Itoa(page)
		args := []string{"pdftoppm", "-r", "60", "-f", at, "-l", at, "FILE"}
		a, err1 := said(was, args)
		b, err2 := said(anew, args)
		if err1 == nil && (err2 != nil || sha256.Sum256(a) != sha256.Sum256(b)) {
			p.miss("pixels of page %d differ", page)
		}
	}
}

// said runs a program on a file and gives what it writes.
func said(file string, args []string) ([]byte, error) {
	args = slices.Clone(args)
	for i := range args {
		if args[i] == "FILE" {
			args[i] = file
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, args[0], args[1:]...).Output()
	if args[0] == "pdfinfo" { // object numbers say nothing
		out = objectRE.ReplaceAll(out, nil)
	}
	return out, err
}

var objectRE = regexp.MustCompile(`Object \d+ \d+`)

// sortedFonts drops object numbers, and the order, which follows them.
func sortedFonts(list []byte) []byte {
	lines := strings.Split(string(list), "\n")
	for i, l := range lines {
		lines[i] = strings.Join(strings.Fields(l[:max(0, len(l)-10)]), " ")
	}
	slices.Sort(lines)
	return []byte(strings.Join(lines, "\n"))
}

func popplerPages(path string) int {
	out, err := said(path, []string{"pdfinfo", "FILE"})
	if err != nil {
		return 0
	}
	for l := range strings.Lines(string(out)) {
		if v, ok := strings.CutPrefix(l, "Pages:"); ok {
			n, _ := strconv.Atoi(strings.TrimSpace(v))
			return n
		}
	}
	return 0
}

var verdicts = []string{"clean", "warnings", "errors"}

// checks gives qpdf's verdict, as an index of verdicts.
func checks(path string) int {
	_, err := said(path, []string{"qpdf", "--check", "FILE"})
	var exit *exec.ExitError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &exit) && exit.ExitCode() == 3:
		return 1
	}
	return 2
}

func report(dir string, papers []*paper) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "## Written anew\n\nMade by `make corpus`: real files read, counted, written anew, and held against poppler and qpdf.\n\n")
	fmt.Fprintf(&b, "| files | how many | poppler opens | same count | ours alone | mended | refused by both | written anew without a miss |\n|---|---:|---:|---:|---:|---:|---:|---:|\n")
	groups := map[string][]*paper{}
	for _, p := range papers {
		groups[p.group] = append(groups[p.group], p)
		groups["~all"] = append(groups["~all"], p)
	}
	names := []string{}
	for g := range groups {
		names = append(names, g)
	}
	slices.Sort(names)
	for _, g := range names {
		var open, same, alone, mended, both, written, clean int
		for _, p := range groups[g] {
			switch {
			case p.poppler > 0:
				open++
				if p.ours == p.poppler {
					same++
				}
			case p.ours > 0:
				alone++
			default:
				both++
			}
			if p.mended != "" {
				mended++
			}
			if p.anew > 0 {
				written++
				if len(p.misses) == 0 {
					clean++
				}
			}
		}
		fmt.Fprintf(&b, "| %s | %d | %d | %d (%.2f %%) | %d | %d | %d | %d of %d |\n", strings.TrimPrefix(g, "~"), len(groups[g]), open, same, 100*float64(same)/float64(max(open, 1)), alone, mended, both, clean, written)
	}
	fmt.Fprintf(&b, "\nHeld side by side for each file: qpdf --check no worse; one cross-reference section; no object that can't be reached; "+
		"the same graph from the trailer on (qpdf --json=2, streams by hash, numbers ignored); the same fonts, text, attachments, outlines and tags by poppler; "+
		"the first, second and last page equal in pixels.\n\n")
	for _, p := range papers {
		rel, _ := filepath.Rel(dir, p.path)
		if p.poppler > 0 && p.ours != p.poppler {
			why := p.refused
			if why == "" {
				why = fmt.Sprintf("%d pages", p.ours)
			}
			fmt.Fprintf(&b, "- `%s`: poppler counts %d; ours: %s%s\n", rel, p.poppler, why, because(rel))
		}
		if len(p.misses) > 0 {
			fmt.Fprintf(&b, "- `%s`: %s%s%s\n", rel, strings.ReplaceAll(strings.Join(p.misses, "; "), "\x00", "␀"), within(p.mended), because(rel))
		}
	}
	return b.Bytes()
}

func within(mended string) string {
	if mended == "" {
		return ""
	}
	return " (mended: " + mended + ")"
}
