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
	for _, group := range []string{"module", "debian"} {
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
	slices.SortStableFunc(papers, func(a, b *paper) int {
		return cmp.Or(cmp.Compare(a.chars.f1(), b.chars.f1()), cmp.Compare(a.words.f1(), b.words.f1()), cmp.Compare(a.path, b.path))
	})
	var all identity
	var chars, cjk, words []float64
	var failed []string
	makers := map[string]bool{}
	pages, glyphs := 0, 0
	for _, p := range papers {
		rel, _ := filepath.Rel(dir, p.path)
		if p.err != nil {
			failed = append(failed, fmt.Sprintf("- `%s`: %v", rel, p.err))
			continue
		}
		all.streams += p.streams
		all.rebuilt += p.rebuilt
		all.forms += p.forms
		all.alike += p.alike
		all.pages += p.identity.pages
		all.same += p.same
		all.taken += p.taken
		all.still += p.still
		pages += p.read
		glyphs += p.chars.theirs
		if p.chars.theirs == 0 {
			continue
		}
		makers[strings.Fields(p.made + " -")[0]] = true
		if p.cjk {
			cjk = append(cjk, p.chars.f1())
		} else {
			chars = append(chars, p.chars.f1())
		}
		words = append(words, p.words.f1())
	}
	fmt.Printf("# Agreement\n\nMade by `make agree`: the text of real files as Glenrain reads it, against what other programs read. %d documents with text, "+
		"%d pages (%d of each document at most, spread over it), %d characters, programs of %d makers.\n\n", len(words), pages, mostPages, glyphs, len(makers))
	fmt.Print("Characters are held against `mutool draw -F stext`: the same text after NFKC, its origin within a point, each counted once; F1, so that what lacks and what is " +
		"too much both count. White space is left out, a glyph of which nothing is known counts as U+FFFD, the further letters of a ligature stand at its end. Words are held against " +
		"`pdftotext -bbox`: the same text, both ends within a point, the baseline in its rectangle; of right-to-left words the letters in any order.\n\n")
	fmt.Printf("| | documents | median | tenth percentile | least |\n|---|---:|---:|---:|---:|\n")
	line := func(what string, v []float64) {
		slices.Sort(v)
		if n := len(v); n > 0 {
			fmt.Printf("| %s | %d | %.2f %% | %.2f %% | %.2f %% |\n", what, n, 100*v[n/2], 100*v[n/10], 100*v[0])
		}
	}
	line("characters, without CJK", chars)
	line("characters, CJK", cjk)
	line("words", words)
	fmt.Printf("\n## Identity\n\nOn %d pages of each document: of %d content streams, %d are given again to the byte by the ranges of their operators and what lies between. "+
		"Of %d pages of which every operator was written again, %d have the same glyphs in the same places, and the same pixels by poppler; of %d forms and appearances, %d. Of %d glyphs that were taken out of an operator, %d moved no other by "+
		"more than 1e-6 em.\n", mostPatched, all.streams, all.rebuilt, all.pages, all.same, all.forms, all.alike, all.taken, all.still)
	if len(failed) > 0 {
		fmt.Printf("\n## Not read\n\n%s\n", strings.Join(failed, "\n"))
	}
	fmt.Print("\n## Each document\n\n| document | pages | characters | agree | words | agree |\n|---|---:|---:|---:|---:|---:|\n")
	var why []string
	for _, p := range papers {
		if p.err != nil || p.chars.theirs == 0 {
			continue
		}
		rel, _ := filepath.Rel(dir, p.path)
		fmt.Printf("| %s | %d | %d | %.2f %% | %d | %.2f %% |\n", rel, p.read, p.chars.theirs, 100*p.chars.f1(), p.words.theirs, 100*p.words.f1())
		if p.chars.f1() < 0.99 {
			cause := causes[rel]
			if cause == "" {
				cause = "NOT KNOWN"
			}
			why = append(why, fmt.Sprintf("- `%s`, %.2f %%: %s.", rel, 100*p.chars.f1(), cause))
		}
		for _, n := range p.notes {
			fmt.Fprintln(os.Stderr, rel, n)
		}
	}
	fmt.Printf("\n## Characters under 99 %%\n\n%s\n", strings.Join(why, "\n"))
	fmt.Print(byEye)
	fmt.Print("\n## Words that differ\n\nMost of them are of these kinds: letters of scripts that join or stack (Arabic with vowel signs, Devanagari, Korean of separate letters), where pdftotext parts words at each " +
		"mark; raised and lowered parts, which pdftotext sometimes joins and ours keeps apart; CJK text, which pdftotext parts where the font changes; and large operators of formulas whose glyphs hang below their baseline.\n")
}
