// Command agree holds the text that Glenrain reads against what other programs read, over a folder of real files, and writes
// the table of docs/AGREEMENT.md to standard output: characters against mutool, words against pdftotext.
package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
)

var (
	showMisses = flag.Int("misses", 0, "print so many of the misses of each file")
	pixels     = flag.Bool("pixels", true, "draw patched pages")
	only       = flag.String("only", "", "only files whose path holds this")
)

func main() {
	flag.Parse()
	if flag.NArg() != 1 {
		fmt.Fprintln(os.Stderr, "usage: agree [flags] DIR")
		os.Exit(2)
	}
	if err := run(flag.Arg(0)); err != nil {
		fmt.Fprintln(os.Stderr, "agree:", err)
		os.Exit(1)
	}
}

// paper is one file and how far the readings agree.
type paper struct {
	path  string
	group string
	read  int // pages
	err   error
	chars score
	words score
	identity
	cjk   bool
	notes []string
	made  string // its producer
}

// score counts what was found on both sides.
type score struct{ both, ours, theirs int }

// f1 is the harmonic mean of precision and recall; 1 where neither side has anything.
func (s score) f1() float64 {
	if s.ours+s.theirs == 0 {
		return 1
	}
	return 2 * float64(s.both) / float64(s.ours+s.theirs)
}

func run(dir string) error {
	var papers []*paper
	for _, group := range []string{"pdfcpu", "debian"} {
		err := filepath.WalkDir(filepath.Join(dir, group), func(path string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() && strings.HasSuffix(strings.ToLower(path), ".pdf") && strings.Contains(path, *only) {
				papers = append(papers, &paper{path: path, group: group})
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	if len(papers) == 0 {
		return errors.New("no PDF files in " + dir)
	}
	next := make(chan *paper)
	var wg sync.WaitGroup
	for range runtime.NumCPU() {
		wg.Go(func() {
			for p := range next {
				start := time.Now()
				p.look()
				if t := time.Since(start); t > 30*time.Second {
					fmt.Fprintf(os.Stderr, "%s took %.0f s\n", p.path, t.Seconds())
				}
			}
		})
	}
	for _, p := range papers {
		next <- p
	}
	close(next)
	wg.Wait()
	report(dir, papers)
	return nil
}

// mostPages is how many pages of a file are read, spread evenly over it.
const mostPages = 60

func (p *paper) look() {
	defer func() {
		if r := recover(); r != nil {
			p.err = fmt.Errorf("PANIC: %v", r)
		}
	}()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	f, err := os.Open(p.path)
	if err != nil {
		p.err = err
		return
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		p.err = err
		return
	}
	doc, wrong, err := pdf.OpenMended(ctx, f, st.Size(), "")
	if err != nil {
		p.err = err
		return
	}
	leaves, err := doc.Pages()
	if err != nil {
		p.err = err
		return
	}
	if s, ok := doc.Resolve(doc.Dict(doc.Trailer().Get("Info")).Get("Producer")).(pdf.String); ok {
		p.made = pdf.Text(s)
	}
	var pages []int
	step := max(1, (len(leaves)+mostPages-1)/mostPages)
	for i := 0; i < len(leaves); i += step {
		pages = append(pages, i+1)
	}
	p.read = len(pages)
	theirs, err := mutoolChars(p.path, pages)
	if err != nil {
		p.err = err
		return
	}
	theirWords, err := pdftotextWords(p.path, pages)
	if err != nil {
		p.err = err
		return
	}
	r := content.NewReader(doc)
	cjk := 0
	for i, n := range pages {
		pg, err := r.Page(ctx, leaves[n-1].Ref, content.Options{})
		if err != nil {
			p.err = err
			return
		}
		ours := ourChars(pg, doc.Geometry(leaves[n-1].Ref))
		for _, c := range ours {
			if c.r >= 0x2e80 && c.r <= 0x9fff || c.r >= 0xac00 && c.r <= 0xd7ff || c.r >= 0xf900 && c.r <= 0xffef {
				cjk++
			}
		}
		g := doc.Geometry(leaves[n-1].Ref)
		ws, wlost, wextra := matchWords(ourWords(layout.Read(pg, g.MediaBox, nil), g), theirWords[i])
		p.words.both += ws.both
		p.words.ours += ws.ours
		p.words.theirs += ws.theirs
		for k := 0; k < min(len(wlost), *showMisses); k++ {
			p.notes = append(p.notes, fmt.Sprintf("page %d: lacks word %q at %.1f-%.1f %.1f", n, wlost[k].text, wlost[k].x0, wlost[k].x1, wlost[k].y0))
		}
		for k := 0; k < min(len(wextra), *showMisses); k++ {
			p.notes = append(p.notes, fmt.Sprintf("page %d: has word %q at %.1f-%.1f %.1f", n, wextra[k].text, wextra[k].x0, wextra[k].x1, wextra[k].by))
		}
		s, lost, extra := match(ours, theirs[i])
		p.chars.both += s.both
		p.chars.ours += s.ours
		p.chars.theirs += s.theirs
		for k := 0; k < min(len(lost), *showMisses); k++ {
			p.notes = append(p.notes, fmt.Sprintf("page %d: lacks %q at %.1f %.1f", n, lost[k].r, lost[k].x, lost[k].y))
		}
		for k := 0; k < min(len(extra), *showMisses); k++ {
			p.notes = append(p.notes, fmt.Sprintf("page %d: has %q at %.1f %.1f", n, extra[k].r, extra[k].x, extra[k].y))
		}
	}
	p.cjk = cjk*10 > p.chars.ours
	for i := 0; i < len(pages); i += max(1, len(pages)/mostPatched) {
		notes, err := p.identity.patch(ctx, doc, leaves[pages[i]-1].Ref, p.path, pages[i], *pixels && len(wrong) == 0)
		if err != nil {
			p.err = err
			return
		}
		p.notes = append(p.notes, notes...)
	}
}

func report(dir string, papers []*paper) {
	slices.SortStableFunc(papers, func(a, b *paper) int { return cmp.Compare(a.words.f1(), b.words.f1()) })
	var all identity
	var chars, words []float64
	for _, p := range papers {
		rel, _ := filepath.Rel(dir, p.path)
		if p.err != nil {
			fmt.Printf("%s: %v\n", rel, p.err)
			continue
		}
		fmt.Printf("%7.3f %7.3f  %8d %8d  %s  %s %v\n", 100*p.chars.f1(), 100*p.words.f1(), p.chars.ours, p.chars.theirs, rel, p.made, p.cjk)
		all.streams += p.streams
		all.rebuilt += p.rebuilt
		all.pages += p.identity.pages
		all.same += p.same
		all.taken += p.taken
		all.still += p.still
		for _, n := range p.notes {
			fmt.Println("    ", n)
		}
		if p.chars.theirs > 0 {
			chars = append(chars, p.chars.f1())
			words = append(words, p.words.f1())
		}
	}
	fmt.Printf("%+v\n", all)
	slices.Sort(chars)
	slices.Sort(words)
	if n := len(chars); n > 0 {
		fmt.Printf("median %.3f tenth percentile %.3f of %d; words %.3f %.3f\n", 100*chars[n/2], 100*chars[n/10], n, 100*words[n/2], 100*words[n/10])
	}
}
