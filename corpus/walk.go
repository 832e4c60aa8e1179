package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"glenrain/core/annot"
	"glenrain/core/draw"
	"glenrain/core/house"
	"glenrain/core/jobs"
	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Of one walk.
const (
	walkSteps = 20
	walkTries = 8       // how often a step that was refused is tried with other values
	mostLent  = 3 << 20 // bytes of a file that others insert pages of
	mostPages = 400     // pages of the same
	mostWalk  = 40 << 20
)

// walked is a file on its walk: what was done to it, and which pages that concerned.
type walked struct {
	*paper
	rng     *rand.Rand
	seed    uint64
	lenders []string
	base    string             // the file as it was: a working copy where it is locked or was mended
	doc     *pdf.Document      // of base
	named   map[pdf.Ref]bool   // pages whose look a step changed
	from    map[pdf.Ref]origin // pages that were inserted
	marks   map[pdf.Ref][]int  // marks that were made, by page: object numbers
	done    []string           // the steps
	told    []string           // what they told
	kinds   map[string]int     // how often each kind was done
	reg     *step.Registry
}

// origin is where an inserted page came from.
type origin struct {
	path string // empty for a picture
	page int    // its index there
	turn int    // which insertion it was, since a page may come several times
}

// lender opens sources by path.
type lender struct{ open []*os.File }

func (l *lender) Open(_ context.Context, ref step.SourceRef) (*step.Source, error) {
	path := strings.TrimPrefix(string(ref), "path:")
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	l.open = append(l.open, f)
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	return &step.Source{Name: strings.TrimSuffix(filepath.Base(path), ".pdf"), Data: f, Size: st.Size()}, nil
}

func (l *lender) close() {
	for _, f := range l.open {
		_ = f.Close()
	}
}

// lends reports whether pages of a file can be inserted and be held against it afterwards: it is sound, open, and of a modest size.
func (p *paper) lends(ctx context.Context) bool {
	if p.bytes > mostLent {
		return false
	}
	f, err := os.Open(p.path)
	if err != nil {
		return false
	}
	defer f.Close()
	doc, wrong, anew, err := pdf.OpenVerified(ctx, f, p.bytes, "")
	if err != nil || len(wrong) > 0 || anew || doc.Encryption() != nil {
		return false
	}
	pages, err := doc.Pages()
	if err != nil || len(pages) == 0 || len(pages) > mostPages {
		return false
	}
	if shared, err := doc.SplitSharedPages(); err != nil || shared > 0 {
		return false
	}
	return checks(p.path) == 0
}

// walk takes a file through steps, hands it out, and holds it against what it was.
func (p *paper) walk(lenders []string, seed uint64) {
	defer func() {
		if r := recover(); r != nil {
			p.misses = append(p.misses, fmt.Sprintf("PANIC: %v\n%s", r, debug.Stack()))
		}
	}()
	h := fnv.New64a()
	_, _ = h.Write([]byte(filepath.Base(p.path))) // to memory
	w := &walked{paper: p, rng: rand.New(rand.NewPCG(seed, h.Sum64())), lenders: lenders, named: map[pdf.Ref]bool{}, from: map[pdf.Ref]origin{},
		marks: map[pdf.Ref][]int{}, kinds: map[string]int{}, reg: jobs.Registry(), seed: seed}
	dir, err := os.MkdirTemp("", "walk-")
	if err != nil {
		p.refused = err.Error()
		return
	}
	defer os.RemoveAll(dir)
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	done, err := w.open(ctx, dir)
	if err != nil {
		p.refused = err.Error()
		return
	}
	defer done()
	q := &step.Sequence{Registry: w.reg, Doc: w.doc}
	pages, err := w.doc.Pages()
	if err != nil {
		p.refused = err.Error()
		return
	}
	q.Keys = step.NewKeys(pages)
	lent := &lender{}
	defer lent.close()
	for n := 1; n <= walkSteps; n++ {
		w.one(ctx, q, n, lent)
	}
	out := filepath.Join(dir, "out.pdf")
	final := q.Doc.Fork()
	opt := outgoing.Prepare(final, time.Unix(1_800_000_000, 0).UTC())
	f, err := os.Create(out)
	if err == nil {
		err = errors.Join(final.WriteFull(ctx, f, opt), f.Close())
	}
	if err != nil {
		p.miss("not handed out: %v", err)
		return
	}
	if checks(out) > checks(w.base) {
		p.miss("qpdf --check: worse than before")
	}
	w.hold(q.Doc, out)
	if keepOut != "" {
		_ = os.Rename(out, keepOut)
	}
	p.steps, p.told = w.done, w.told
}

// open opens the file, or a working copy of it where it is locked, was mended or has pages that stand twice.
func (w *walked) open(ctx context.Context, dir string) (done func(), err error) {
	f, err := os.Open(w.path)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	w.bytes = st.Size()
	if w.bytes > mostWalk {
		return nil, errors.New("larger than is walked")
	}
	doc, wrong, anew, err := pdf.OpenVerified(ctx, f, w.bytes, "")
	if err != nil {
		return nil, err
	}
	if doc.FilesLocked() {
		return nil, errors.New("attached files are locked")
	}
	shared, err := doc.SplitSharedPages()
	if err != nil {
		return nil, err
	}
	w.base, w.doc = w.path, doc
	if len(wrong) == 0 && !anew && shared == 0 && doc.Encryption() == nil && doc.Size() == w.bytes {
		return func() { _ = f.Close() }, nil
	}
	w.base = filepath.Join(dir, "base.pdf")
	g, err := os.Create(w.base)
	if err != nil {
		return nil, err
	}
	if err := doc.WriteFull(ctx, g, pdf.FullOptions{KeepNumbers: true}); err != nil {
		return nil, err
	}
	size, err := g.Seek(0, io.SeekCurrent)
	if err != nil {
		return nil, err
	}
	w.doc, err = pdf.Open(g, size)
	return func() { _, _ = f.Close(), g.Close() }, err
}

// reads holds sentences that people get against the house's patterns of plain English.
func (w *walked) reads(kind string, sentences ...string) {
	for _, s := range sentences {
		if words, instead := house.Wrong(s); words != "" {
			w.miss("step %s says %q: %q (%s)", kind, s, words, instead)
		}
	}
}

// one does one step of a random kind.
func (w *walked) one(ctx context.Context, q *step.Sequence, n int, lent *lender) {
	kinds := w.reg.Kinds()
	for range walkTries {
		kind := kinds[w.rng.IntN(len(kinds))].Name
		params, what := w.values(kind, q)
		if params == nil {
			continue
		}
		raw, err := json.Marshal(params)
		if err != nil {
			w.miss("step %s: %v", kind, err)
			return
		}
		s, err := w.reg.New(kind, raw)
		if err != nil {
			w.miss("step %s %s: %v", kind, raw, err)
			return
		}
		before := q.Doc
		res, err := q.Run(ctx, s, &step.Env{Now: time.Unix(1_800_000_000, 0).UTC(), Seed: [16]byte{byte(n), byte(w.seed)}, Step: n, Sources: lent})
		var refusal *step.Refusal
		if errors.As(err, &refusal) {
			w.reads(kind, refusal.Sentence)
			continue
		}
		if err != nil {
			w.miss("step %s %s: %v", kind, raw, err)
			return
		}
		w.reads(kind, append([]string{res.Sentence}, res.Warnings...)...)
		w.kinds[kind]++
		w.done = append(w.done, fmt.Sprintf("%s %s", kind, raw))
		w.told = append(w.told, res.Warnings...)
		for i, r := range res.Created {
			o := origin{turn: n}
			if i < len(what.pages) {
				o = origin{what.path, what.pages[i], n}
			}
			w.from[r] = o
		}
		switch kind {
		case "insert", "move", "remove", "reverse", "interleave", "blank", "blank-odd":
		default:
			for _, k := range res.Pages {
				if r, ok := q.Keys.Ref(k); ok {
					w.named[r] = true
				}
			}
			if res.All {
				pages, _ := q.Doc.Pages()
				for _, l := range pages {
					w.named[l.Ref] = true
				}
			}
		}
		if kind == "mark-text" {
			for r := range w.named {
				for _, m := range annot.Markups(q.Doc, r) {
					if m.Ref.Num > 0 && before.Dict(m.Ref) == nil {
						w.marks[r] = append(w.marks[r], m.Ref.Num)
					}
				}
			}
		}
		return
	}
}

// keepOut, where set, is where the last file that was handed out is left, to be looked at.
var keepOut string

// lent are the pages that an insertion asks for.
type lentPages struct {
	path  string
	pages []int
}

// values draws values for a step of a kind; nil where there is nothing that it could be done to.
func (w *walked) values(kind string, q *step.Sequence) (map[string]any, lentPages) {
	all, err := q.Doc.Pages()
	if err != nil {
		return nil, lentPages{}
	}
	n := len(all)
	page := func() int { return w.rng.IntN(n) + 1 }
	// some gives a range of pages, a tenth of the document at most.
	some := func() string {
		from := page()
		return fmt.Sprintf("%d-%d", from, min(n, from+w.rng.IntN(max(1, n/10))))
	}
	place := func() any {
		if w.rng.IntN(4) == 0 {
			return "end"
		}
		return page()
	}
	pick := w.pick
	switch kind {
	case "mark-text":
		x, y := 20+200*w.rng.Float64(), 20+200*w.rng.Float64()
		return map[string]any{"page": fmt.Sprint(page()), "quads": [][8]float64{{x, y + 12, x + 90, y + 12, x, y, x + 90, y}},
			"how": pick("highlight", "underline", "strike out"), "text": "the berth"}, lentPages{}
	case "mark-change", "mark-remove":
		return w.aMark(kind, q, all), lentPages{}
	case "insert":
		path := w.lenders[w.rng.IntN(len(w.lenders))]
		f, err := os.Open(path)
		if err != nil {
			return nil, lentPages{}
		}
		defer f.Close()
		st, err := f.Stat()
		if err != nil {
			return nil, lentPages{}
		}
		doc, err := pdf.Open(f, st.Size())
		if err != nil {
			return nil, lentPages{}
		}
		pages, err := doc.Pages()
		if err != nil || len(pages) == 0 {
			return nil, lentPages{}
		}
		from := w.rng.IntN(len(pages))
		to := min(len(pages)-1, from+w.rng.IntN(4))
		if len(pages) <= 12 && w.rng.IntN(2) == 0 {
			from, to = 0, len(pages)-1
		}
		l := lentPages{path: path}
		for i := from; i <= to; i++ {
			l.pages = append(l.pages, i)
		}
		return map[string]any{"from": "path:" + path, "pages": fmt.Sprintf("%d-%d", from+1, to+1), "to": place()}, l
	case "move":
		return map[string]any{"pages": some(), "to": place()}, lentPages{}
	case "remove":
		return map[string]any{"pages": some(), "headings": pick("keep", "remove")}, lentPages{}
	case "rotate":
		return map[string]any{"pages": some(), "by": 90 * (1 + w.rng.IntN(3))}, lentPages{}
	case "reverse":
		return map[string]any{"pages": some()}, lentPages{}
	case "interleave":
		from := page()
		to := min(n, from+2*(w.rng.IntN(4)+1)-1)
		if to-from < 1 {
			return nil, lentPages{}
		}
		half := (from + to) / 2
		return map[string]any{"fronts": fmt.Sprintf("%d-%d", from, half), "backs": fmt.Sprintf("%d-%d", half+1, to), "reversed": w.rng.IntN(2) == 0}, lentPages{}
	case "blank":
		return map[string]any{"to": place(), "count": 1 + w.rng.IntN(2), "ruling": pick("plain", "lines", "dots")}, lentPages{}
	case "blank-odd":
		return map[string]any{"starts": some()}, lentPages{}
	case "crop":
		return map[string]any{"pages": some(), "to": pick("edges", "print"), "left": 10 + w.rng.IntN(40), "bottom": w.rng.IntN(40), "remove": w.rng.IntN(3) == 0}, lentPages{}
	case "uncrop", "recognize-remove":
		return map[string]any{"pages": "all"}, lentPages{}
	case "straighten":
		return map[string]any{"pages": some()}, lentPages{}
	case "paper":
		return map[string]any{"pages": some(), "paper": pick("A3", "A4", "A5"), "fit": pick("scale", "keep", "shrink only"), "stands": pick("middle", "top left")}, lentPages{}
	case "binding":
		return map[string]any{"pages": some(), "margin": "12mm", "how": pick("wider paper", "move", "make smaller")}, lentPages{}
	case "label", "labels-remove", "bookmark-add", "bookmark-change", "bookmark-move", "bookmark-remove", "bookmarks-make", "contents", "contents-change",
		"duplicate", "replace", "sheets",
		"recognize", "recognize-words", "set-text", "replace-text", "edit-paragraph",
		"add-text", "move-objects", "bring-objects", "remove-objects", "change-picture", "tone-pages", "replace-picture", "add-picture", "add-shape", "change-shape":
		// They change by intention what is held here: labels, bookmarks, or which page comes from where; or words, which editing holds against other programs; or they need the engine that reads pictures, for seconds a page. core/jobs tries them by themselves.
		return nil, lentPages{}
	case "number":
		return map[string]any{"pages": some(), "edge": pick("top", "bottom")}, lentPages{}
	case "number-change", "furnishing-remove", "furnishing-update":
		list := draw.List(q.Doc)
		if len(list) == 0 {
			return nil, lentPages{}
		}
		v := map[string]any{"id": list[w.rng.IntN(len(list))].ID}
		if kind == "number-change" {
			v["pages"], v["edge"] = some(), pick("top", "bottom")
		}
		return v, lentPages{}
	}
	w.miss("there is no way to try the step %q", kind)
	return nil, lentPages{}
}

func (w *walked) pick(of ...string) string { return of[w.rng.IntN(len(of))] }

// aMark draws values for a change of a mark that is there; nil where there is none.
func (w *walked) aMark(kind string, q *step.Sequence, all []pdf.Leaf) map[string]any {
	var where []pdf.Ref
	for _, l := range all {
		if len(w.marks[l.Ref]) > 0 {
			where = append(where, l.Ref)
		}
	}
	if len(where) == 0 {
		return nil
	}
	r := where[w.rng.IntN(len(where))]
	list := w.marks[r]
	v := map[string]any{"page": []string{q.Keys.Key(r).String()}, "mark": list[w.rng.IntN(len(list))]}
	if kind == "mark-change" {
		v["how"] = w.pick("highlight", "underline", "strike out")
		v["colour"] = w.pick("moss", "ochre", "slate")
	}
	return v
}

// walks takes all papers through their walks.
func walks(papers []*paper, seed uint64, only string) error {
	var lenders []string
	var mu sync.Mutex
	each(papers, func(p *paper) {
		if st, err := os.Stat(p.path); err == nil {
			p.bytes = st.Size()
		}
		if p.lends(context.Background()) {
			mu.Lock()
			lenders = append(lenders, p.path)
			mu.Unlock()
		}
	})
	slices.Sort(lenders)
	fmt.Fprintf(os.Stderr, "%d lend pages\n", len(lenders))
	if only != "" {
		papers = slices.DeleteFunc(papers, func(p *paper) bool { return !strings.Contains(p.path, only) })
	}
	each(papers, func(p *paper) {
		p.walk(lenders, seed)
		if len(p.misses) > 0 {
			fmt.Fprintf(os.Stderr, "%s: %s\n", p.path, strings.Join(p.misses, "; "))
			if only != "" {
				fmt.Fprintln(os.Stderr, "  "+strings.Join(p.steps, "\n  ")+"\n  told: "+strings.Join(p.told, "\n  told: "))
			}
		}
	})
	return nil
}

// reportWalk writes the part of the walks.
func reportWalk(dir string, papers []*paper) []byte {
	var b bytes.Buffer
	walked, clean, done := 0, 0, 0
	for _, p := range papers {
		if p.refused != "" {
			continue
		}
		walked++
		done += len(p.steps)
		if len(p.misses) == 0 {
			clean++
		}
	}
	fmt.Fprintf(&b, "## What was not asked for\n\nMade by `make walk`: each file goes through %d steps drawn by chance from all that there are, pages of the other files among them, and is handed out. "+
		"Held against what it was: for every page that no step named, and for every page that came from another file, the graph of its objects by qpdf (numbers ignored), its label, its text, "+
		"the targets of its links, its fields with value, appearance and resolved defaults, which of its layers are seen, its tags in the order they are read in, and for a choice of pages their pixels by poppler and by mutool; "+
		"the entries of the catalog as in KEEPING.md; and that nothing which was said on removed pages alone is in the file.\n\n", walkSteps)
	fmt.Fprintf(&b, "%d files, %d steps; %d files (%.2f %%) without a miss.\n\n", walked, done, clean, 100*float64(clean)/float64(max(1, walked)))
	for _, p := range papers {
		if len(p.misses) > 0 {
			rel, _ := filepath.Rel(dir, p.path)
			fmt.Fprintf(&b, "- `%s`: %s%s\n", rel, strings.ReplaceAll(strings.Join(p.misses, "; "), "\x00", "␀"), cause(walkCauses[rel]))
		}
	}
	return b.Bytes()
}
