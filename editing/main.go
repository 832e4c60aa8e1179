// Editing changes paragraphs of real documents, and holds what other programs read and draw afterwards against what was there: the new text is read, all other text is what
// it was, and no pixel outside the paragraph's column changed. It prints docs/EDITING.md.
package main

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"hash/fnv"
	"image"
	"image/png"
	"io/fs"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"glenrain/core/child"
	"glenrain/core/content"
	"glenrain/core/edit"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

func main() {
	child.Main()
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "editing DIR [part of a name]")
		os.Exit(2)
	}
	only := ""
	if len(os.Args) > 2 {
		only = os.Args[2]
	}
	if err := run(context.Background(), os.Args[1], only); err != nil {
		fmt.Fprintln(os.Stderr, "editing:", err)
		os.Exit(1)
	}
}

// Bounds of what is tried.
const (
	perFile     = 3       // paragraphs
	leastWords  = 12      // of a paragraph
	mostFile    = 8 << 20 // bytes
	mostPages   = 300
	dpi         = 60
	nearPixels  = 3.0 // points around a paragraph in which pixels may change
	shownMisses = 12
)

type outcome struct {
	tried, done, refused int
	misses               []string
	whys                 map[string]int
}

func run(ctx context.Context, dir, only string) error {
	var files []string
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && strings.HasSuffix(path, ".pdf") {
			files = append(files, path)
		}
		return err
	})
	if err != nil {
		return err
	}
	slices.Sort(files)
	fmt.Println("# Editing")
	fmt.Println()
	fmt.Println("Made by `make editing`: in real documents, up to three paragraphs each, chosen by a seed, get a word replaced by a longer one, a sentence added, and a word removed. Afterwards the page's words, as poppler reads them, have to be those that were there, but for the change; and no pixel of the page, as mupdf draws it, may differ outside the paragraph's column.")
	fmt.Println()
	fmt.Println("| file | producer | tried | as it should be | refused | not as it should be |\n|---|---|---:|---:|---:|---|")
	all := outcome{whys: map[string]int{}}
	producers := map[string]int{} // their names are not for us to print: by number
	n := 0
	for _, file := range files {
		if only != "" && !strings.Contains(file, only) {
			continue
		}
		if st, err := os.Stat(file); err != nil || st.Size() > mostFile {
			continue
		}
		o, producer, err := try(ctx, file)
		if err != nil || o.tried == 0 {
			if only != "" {
				fmt.Fprintln(os.Stderr, filepath.Base(file), err)
			}
			continue
		}
		n++
		if producers[producer] == 0 {
			producers[producer] = len(producers) + 1
		}
		fmt.Printf("| %s | %d | %d | %d | %d | %s |\n", filepath.Base(file), producers[producer], o.tried, o.done, o.refused, strings.Join(o.misses[:min(len(o.misses), shownMisses)], "; "))
		all.tried, all.done, all.refused = all.tried+o.tried, all.done+o.done, all.refused+o.refused
		for w, k := range o.whys {
			all.whys[w] += k
		}
	}
	fmt.Printf("\n%d changes in %d files of %d producers: %d as they should be, %d refused in a sentence, %d not as they should be.\n\nRefused because:\n\n", all.tried, n, len(producers), all.done, all.refused, all.tried-all.done-all.refused)
	for _, w := range slices.Sorted(keys(all.whys)) {
		fmt.Printf("- %s: %d\n", w, all.whys[w])
	}
	return again(ctx, files, only)
}

// Bounds of setting paragraphs again as they are.
const (
	againFiles = 60
	againEach  = 5
	againMoved = 0.3      // points that a letter may move
	againLevel = 1.0 / 16 // of 255, that pixels may differ by on average
)

// again sets each word of paragraphs anew, by its own letters: nothing may move.
func again(ctx context.Context, files []string, only string) error {
	fmt.Println("\n## Set again as they are\n\nEach word of a paragraph that is set in one way is taken out and put back. No letter may come to stand 0.3 pt from where it stood, and the page, as mupdf draws it, may not differ by more than 1/16 of a level (of 255) on average: lines that say what they said stay as they are. Then a point is set behind the last word, which has the last line set anew with letters that are encoded anew: how far its letters come to stand from where they stood tells how well widths, kerning and spaces are kept.\n\n| file | paragraphs | farthest a letter of the last line moved, pt | page differs, levels | not as they should be |\n|---|---:|---:|---:|---|")
	n, good, done := 0, 0, 0
	for _, file := range files {
		if only != "" && !strings.Contains(file, only) || done >= againFiles {
			continue
		}
		if st, err := os.Stat(file); err != nil || st.Size() > mostFile {
			continue
		}
		r, err := againIn(ctx, file)
		if err != nil || r.n == 0 {
			continue
		}
		done++
		n, good = n+r.n, good+r.n-len(r.misses)
		fmt.Printf("| %s | %d | %.3f | %.4f | %s |\n", filepath.Base(file), r.n, r.far, r.level, strings.Join(r.misses[:min(4, len(r.misses))], "; "))
	}
	fmt.Printf("\n%d paragraphs of %d files: %d as they were.\n", n, done, good)
	fmt.Print(eye)
	return nil
}

// eye is what people saw who looked at documents that were edited; it is written by hand.
//
//go:embed eye.md
var eye string

type repeated struct {
	n          int
	far, level float64
	misses     []string
}

func againIn(ctx context.Context, file string) (r repeated, err error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return r, err
	}
	doc, _, _, err := pdf.OpenVerified(ctx, bytes.NewReader(data), int64(len(data)), "")
	if err != nil {
		return r, err
	}
	pages, err := doc.Pages()
	if err != nil || len(pages) > mostPages {
		return r, errors.Join(err, errors.New("too long"))
	}
	h := fnv.New64a()
	h.Write([]byte(filepath.Base(file)))
	rng := rand.New(rand.NewPCG(h.Sum64(), 2))
	for range 20 {
		if r.n >= againEach {
			break
		}
		at := rng.IntN(len(pages))
		timed, cancel := context.WithTimeout(ctx, 5*time.Second)
		sheet, err := edit.Open(timed, doc, pages[at].Ref)
		cancel()
		if err != nil {
			continue
		}
		var here []int
		for i, b := range sheet.Blocks() {
			if len(strings.Fields(b.Text)) >= leastWords {
				here = append(here, i)
			}
		}
		if len(here) == 0 {
			continue
		}
		i := here[rng.IntN(len(here))]
		was, err := sheet.Begin(&edit.Paragraph{At: i})
		if err != nil {
			continue
		}
		is, err := sheet.Try(ctx, &edit.Paragraph{At: i, Edits: itself(was, 0)})
		var no *step.Refusal
		if errors.As(err, &no) {
			continue
		}
		r.n++
		miss := func(text string, args ...any) {
			r.misses = append(r.misses, fmt.Sprintf("p. %d ¶ %d: ", at+1, i)+fmt.Sprintf(text, args...))
		}
		if err != nil {
			miss("%v", err)
			continue
		}
		a, b, err := both(ctx, doc, is.Doc, at)
		if err != nil {
			miss("%v", err)
			continue
		}
		last := was.Carets[len(was.Carets)-1].Row
		edits := itself(was, last)
		n := len([]rune(was.Text))
		longer, err := sheet.Try(ctx, &edit.Paragraph{At: i, Edits: append(edits, edit.Edit{From: n, To: n, Text: "."})})
		far := max(farthest(was, is, 0), 0)
		if err == nil && len(longer.Lack) == 0 && longer.Rows == was.Rows {
			r.far = max(r.far, farthest(was, longer, last))
		}
		switch level := apart(a, b); {
		case far > againMoved:
			miss("a letter moved by %.2f pt", far)
		case level > againLevel:
			miss("the page differs by %.3f", level)
		default:
			r.level = max(r.level, level)
		}
	}
	return r, nil
}

// farthest is how far a letter from a line on moved, in points.
func farthest(was, is *edit.Tried, row int) (far float64) {
	letters := []rune(was.Text)
	for k := range letters {
		if k < len(is.Carets) && letters[k] != ' ' && letters[k] != '\n' && was.Carets[k].Row >= row {
			far = max(far, math.Hypot(was.Carets[k].X0-is.Carets[k].X0, was.Carets[k].Y0-is.Carets[k].Y0))
		}
	}
	return far
}

// itself are edits that put each word from a line on in its own place; words that a hyphen parts stay.
func itself(t *edit.Tried, row int) (out []edit.Edit) {
	letters := []rune(t.Text)
	for from := 0; from < len(letters); {
		if letters[from] == ' ' || letters[from] == '\n' {
			from++
			continue
		}
		to := from
		for to < len(letters) && letters[to] != ' ' && letters[to] != '\n' {
			to++
		}
		if t.Carets[from].Row == t.Carets[to-1].Row && t.Carets[from].Row >= row {
			whole := slices.ContainsFunc(t.Runs, func(r edit.Run) bool { return r.From <= from && to <= r.To })
			if whole && letters[from] != '|' { // taken out and put back, as what is written over itself stays
				out = append(out, edit.Edit{From: from, To: to, Text: "|"}, edit.Edit{From: from, To: from + 1, Text: string(letters[from:to])})
			}
		}
		from = to
	}
	return out
}

func both(ctx context.Context, was, is *pdf.Document, at int) (a, b image.Image, err error) {
	before, err := page(ctx, was, at)
	if err != nil {
		return nil, nil, err
	}
	defer os.Remove(before)
	after, err := page(ctx, is, at)
	if err != nil {
		return nil, nil, err
	}
	defer os.Remove(after)
	return drawn(before, after)
}

// apart is by how many levels, of 255, two pictures differ on average.
func apart(a, b image.Image) float64 {
	r := a.Bounds()
	sum, n := 0.0, 0
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			r1, g1, b1, _ := a.At(x, y).RGBA()
			r2, g2, b2, _ := b.At(x, y).RGBA()
			for _, d := range [3][2]uint32{{r1, r2}, {g1, g2}, {b1, b2}} {
				sum += float64(max(d[0], d[1])-min(d[0], d[1])) / 257
				n++
			}
		}
	}
	return sum / float64(n)
}

func keys(m map[string]int) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// candidate is a paragraph that may be edited.
type candidate struct {
	page int
	at   int
	text string
	box  pdf.Rect
}

func try(ctx context.Context, file string) (o outcome, producer string, err error) {
	o.whys = map[string]int{}
	data, err := os.ReadFile(file)
	if err != nil {
		return o, "", err
	}
	doc, _, _, err := pdf.OpenVerified(ctx, bytes.NewReader(data), int64(len(data)), "")
	if err != nil {
		return o, "", err
	}
	pages, err := doc.Pages()
	if err != nil || len(pages) > mostPages {
		return o, "", errors.Join(err, errors.New("too long"))
	}
	if info := doc.Dict(doc.Trailer().Get("Info")); info != nil {
		if s, ok := doc.Resolve(info.Get("Producer")).(pdf.String); ok {
			producer = strings.NewReplacer("|", " ", "\n", " ").Replace(pdf.Text(s))
		}
	}
	h := fnv.New64a()
	h.Write([]byte(filepath.Base(file)))
	rng := rand.New(rand.NewPCG(h.Sum64(), 1))
	reader := content.NewReader(doc)
	var list []candidate
	for range 12 {
		if len(list) >= perFile {
			break
		}
		at := rng.IntN(len(pages))
		timed, cancel := context.WithTimeout(ctx, 5*time.Second)
		p, err := reader.Page(timed, pages[at].Ref, content.Options{Images: true})
		cancel()
		if err != nil || p.Cut {
			continue
		}
		l := layout.Read(p, doc.Geometry(pages[at].Ref).Visible, nil)
		var here []int
		for i := range l.Paragraphs {
			if len(strings.Fields(l.ParagraphText(&l.Paragraphs[i]))) >= leastWords && !l.Annotation(&l.Words[l.Lines[l.Paragraphs[i].Lines[0]].Words[0]]) {
				here = append(here, i)
			}
		}
		if len(here) == 0 {
			continue
		}
		i := here[rng.IntN(len(here))]
		list = append(list, candidate{at, i, l.ParagraphText(&l.Paragraphs[i]), l.Paragraphs[i].Box})
	}
	for _, c := range list {
		words := strings.Fields(c.text)
		k := 1 + rng.IntN(len(words)-2)
		longer := slices.Clone(words)
		longer[k] = "harbourmaster"
		for _, now := range []string{strings.Join(longer, " "), c.text + " The berths are open.", strings.Join(slices.Delete(slices.Clone(words), k, k+1), " ")} {
			o.tried++
			err := one(ctx, doc, pages[c.page].Ref, c, now)
			var no *step.Refusal
			switch {
			case err == nil:
				o.done++
			case errors.As(err, &no):
				o.refused++
				why := no.Sentence
				if i := strings.Index(why, "”"); i > 0 {
					why = "“…" + why[i:]
				}
				o.whys[strings.Map(func(r rune) rune {
					if unicode.IsDigit(r) {
						return 'N'
					}
					return r
				}, why)]++
			default:
				o.misses = append(o.misses, fmt.Sprintf("p. %d ¶ %d: %v", c.page+1, c.at, err))
			}
		}
	}
	return o, producer, nil
}

// one edits a paragraph and looks at what came of it.
func one(ctx context.Context, doc *pdf.Document, ref pdf.Ref, c candidate, now string) error {
	pages, err := doc.Pages()
	if err != nil {
		return err
	}
	keys := step.NewKeys(pages)
	timed, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	out, res, err := step.NewRegistry(nil, edit.Kinds()...).Run(timed, doc, &edit.Paragraph{Page: step.Pages{Rule: strconv.Itoa(c.page + 1)}, At: c.at, Text: now}, &step.Env{Keys: keys, Step: 1})
	if err != nil {
		return err
	}
	before, err := page(ctx, doc, c.page)
	if err != nil {
		return err
	}
	defer os.Remove(before)
	after, err := page(ctx, out, c.page)
	if err != nil {
		return err
	}
	defer os.Remove(after)
	was, is := bag(text(before)), bag(text(after))
	for w, n := range bag(c.text) {
		was[w] -= n
	}
	for w, n := range bag(now) {
		was[w] += n
	}
	var off []string
	for w, n := range was {
		if is[w] != n {
			off = append(off, fmt.Sprintf("%q %+d", w, is[w]-n))
		}
	}
	for w, n := range is {
		if _, ok := was[w]; !ok {
			off = append(off, fmt.Sprintf("%q %+d", w, n))
		}
	}
	// Words that a hyphen parts at a line's end are counted by their letters alone.
	if len(off) > 0 && letters(was) != letters(is) {
		slices.Sort(off)
		return fmt.Errorf("other words: %s", strings.Join(off[:min(4, len(off))], ", "))
	}
	a, b, err := drawn(before, after)
	if err != nil {
		return err
	}
	if a.Bounds() != b.Bounds() {
		return errors.New("another size")
	}
	if strings.Contains(res.Sentence, "moved down") {
		return below(doc, ref, c, a, b)
	}
	return outside(doc, ref, c, a, b)
}

// below holds a page on which what stands below a paragraph moved down against what it was: above, nothing changed, and the ink is what it
// was, but for the change: nothing was lost, or came to lie over something else.
func below(doc *pdf.Document, ref pdf.Ref, c candidate, a, b image.Image) error {
	moved := c
	moved.box.X0, moved.box.X1 = -1e6, 1e6
	moved.box.Y0 = -1e6
	if err := outside(doc, ref, moved, a, b); err != nil {
		return err
	}
	x, y := ink(a), ink(b)
	if y < x*0.97 {
		return fmt.Errorf("ink was lost: %.0f of %.0f is left", y, x)
	}
	return nil
}

// ink is how dark a picture is, all in all.
func ink(m image.Image) (sum float64) {
	r := m.Bounds()
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			c, g, b, _ := m.At(x, y).RGBA()
			sum += 1 - float64(c+g+b)/3/65535
		}
	}
	return sum
}

// page writes one page of a document as a file.
func page(ctx context.Context, doc *pdf.Document, at int) (string, error) {
	f, err := os.CreateTemp("", "editing-*.pdf")
	if err != nil {
		return "", err
	}
	defer f.Close()
	if err := doc.WriteFull(ctx, f, pdf.FullOptions{}); err != nil {
		return "", err
	}
	one := f.Name() + ".one.pdf"
	if out, err := exec.CommandContext(ctx, "qpdf", "--warning-exit-0", f.Name(), "--pages", ".", strconv.Itoa(at+1), "--", one).CombinedOutput(); err != nil {
		return "", fmt.Errorf("qpdf: %s", firstLine(out))
	}
	return f.Name(), os.Rename(one, f.Name())
}

func firstLine(b []byte) string {
	s, _, _ := strings.Cut(string(b), "\n")
	return s
}

func text(file string) string {
	out, _ := exec.Command("pdftotext", "-raw", file, "-").Output()
	return string(out)
}

func bag(s string) map[string]int {
	out := map[string]int{}
	for w := range strings.FieldsSeq(strings.NewReplacer("\u00ad", "", "\u00a0", " ").Replace(s)) {
		out[w]++
	}
	return out
}

// letters gives how often each letter stands in some words, without hyphens.
func letters(m map[string]int) string {
	count := map[rune]int{}
	for w, n := range m {
		for _, r := range w {
			if r != '-' && r != '\u2010' {
				count[r] += n
			}
		}
	}
	var list []string
	for r, n := range count {
		if n != 0 {
			list = append(list, fmt.Sprintf("%c%d", r, n))
		}
	}
	slices.Sort(list)
	return strings.Join(list, " ")
}

func drawn(files ...string) (a, b image.Image, err error) {
	var out []image.Image
	for _, f := range files {
		data, err := exec.Command("mutool", "draw", "-q", "-r", strconv.Itoa(dpi), "-F", "png", "-o", "-", f).Output()
		if err != nil {
			return nil, nil, err
		}
		img, err := png.Decode(bytes.NewReader(data))
		if err != nil {
			return nil, nil, err
		}
		out = append(out, img)
	}
	return out[0], out[1], nil
}

// outside reports pixels that differ above the paragraph, beside its column, or where it had no room to grow.
func outside(doc *pdf.Document, ref pdf.Ref, c candidate, a, b image.Image) error {
	g := doc.Geometry(ref)
	if g.Rotate != 0 {
		return nil
	}
	s := float64(dpi) / 72 * g.UserUnit
	box := c.box
	box.Y0 -= 60 // it may have grown
	n := 0
	r := a.Bounds()
	for y := r.Min.Y; y < r.Max.Y; y++ {
		py := g.Visible.Y1 - (float64(y)+0.5)/s
		for x := r.Min.X; x < r.Max.X; x++ {
			px := g.Visible.X0 + (float64(x)+0.5)/s
			if px > box.X0-nearPixels && py > box.Y0-nearPixels && py < box.Y1+nearPixels {
				continue
			}
			r1, g1, b1, _ := a.At(x, y).RGBA()
			r2, g2, b2, _ := b.At(x, y).RGBA()
			if far(r1, r2) || far(g1, g2) || far(b1, b2) {
				n++
			}
		}
	}
	if n > 0 {
		return fmt.Errorf("%d pixels elsewhere differ", n)
	}
	return nil
}

func far(a, b uint32) bool { return max(a, b)-min(a, b) > 16<<8 }
