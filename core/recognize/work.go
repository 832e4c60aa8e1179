package recognize

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"

	"glenrain/core/content"
	"glenrain/core/finding"
	"glenrain/core/ocr"
	"glenrain/core/pdf"
	"glenrain/core/scan"
	"glenrain/core/spelling"
	"glenrain/core/step"
)

// candidate is a page that may be recognized, with its parts.
type candidate struct {
	ref   pdf.Ref
	at    int
	geo   pdf.Geometry
	kind  Needs
	parts []part
}

// candidates looks through pages for those that need it.
func candidates(ctx context.Context, doc *pdf.Document, refs []pdf.Ref, again bool) (out []candidate, layered int, err error) {
	reader := content.NewReader(doc)
	index := doc.PageIndexes(refs)
	var p *content.Page
	for i, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, 0, err
		}
		if p, err = reader.Page(ctx, ref, content.Options{Images: true, Paths: true, Into: p}); err != nil {
			return nil, 0, err
		}
		if p.Cut {
			continue
		}
		g := doc.Geometry(ref)
		c := candidate{ref: ref, at: index[i], geo: g, kind: NeedsOf(finding.LookAt(doc, p, g))}
		if c.kind == Layered {
			if layered++; !again {
				continue
			}
			c.kind = Whole
		}
		if c.kind == Nothing {
			continue
		}
		if c.parts = partsOf(doc, p, g); len(c.parts) > 0 {
			out = append(out, c)
		}
	}
	return out, layered, nil
}

// Work reads the pages.
func (r *Recognize) Work(ctx context.Context, doc *pdf.Document, env *step.Env) error {
	if r.Made != "" {
		return nil // it was done before
	}
	codes, err := codesOf(r.Languages)
	if err != nil {
		return err
	}
	refs, err := r.Pages.Refs(doc, env.Keys)
	if err != nil {
		return err
	}
	e, err := Engine()
	if err != nil {
		return err
	}
	if len(codes) > 0 {
		if err := e.Check(codes); err != nil {
			return step.Refuse("%v", err)
		}
	}
	list, layered, err := candidates(ctx, doc, refs, r.Again)
	if err != nil {
		return err
	}
	if !env.Only.IsZero() {
		list = slices.DeleteFunc(list, func(c candidate) bool { return !env.Wants(c.ref) })
	}
	if len(list) == 0 {
		if layered > 0 {
			return step.Refuse("nothing to recognize: %s a text layer already, and replacing it isn’t selected", map[bool]string{true: "the page has", false: "the pages have"}[layered == 1])
		}
		return step.Refuse("nothing to recognize: these pages have text, or no picture that may contain text")
	}
	read := &Reading{Engine: e.Version, Asked: len(list)}
	env.Report(0, len(list))
	w := &worker{doc: doc, env: env, engine: e}
	if len(codes) == 0 {
		if codes, err = w.languages(ctx, list); err != nil {
			return err
		}
		read.Found = true
	}
	read.Languages, w.codes = codes, codes
	defer debug.FreeOSMemory() // pictures are needed no more
	if err := w.all(ctx, list, read); err != nil {
		return err
	}
	read.House = houseWords(read, env.Knows)
	read.check()
	if len(read.Pages) == 0 && read.Left > 0 && len(read.Failed) == 0 {
		return context.Canceled // stopped before there was anything to keep
	}
	r.fresh = read
	if env.Files == nil {
		return nil
	}
	r.Made, err = env.Files.Keep(func(out io.Writer) error { return json.NewEncoder(out).Encode(read) })
	return err
}

// check notes which words are doubted.
func (r *Reading) check() {
	sp := spelling.For(r.Languages, func(w string) bool { return slices.Contains(r.House, w) })
	for i := range r.Pages {
		p := &r.Pages[i]
		p.Doubts, _ = doubt(p.Lines, sp)
		p.Checked = true
	}
}

// houseWords gives those words that were read which the house has learned.
func houseWords(read *Reading, knows func(string) bool) (out []string) {
	if knows == nil {
		return nil
	}
	seen := map[string]bool{}
	for _, p := range read.Pages {
		for _, l := range p.Lines {
			for _, w := range l.Words {
				core := spelling.Core(w.Text)
				for _, one := range []string{core, strings.ToLower(core)} {
					if one != "" && !seen[one] {
						if seen[one] = true; knows(one) {
							out = append(out, one)
						}
					}
				}
			}
		}
	}
	slices.Sort(out)
	return out
}

// worker reads pages of one document.
type worker struct {
	doc    *pdf.Document
	env    *step.Env
	engine *ocr.Engine
	codes  []string
	known  map[int]known // by page: what was read to find the language
}

// known is a reading that is at hand.
type known struct {
	codes string
	lines []ocr.Line
	found scan.Found
}

// all reads the pages, one a core.
func (w *worker) all(ctx context.Context, list []candidate, read *Reading) error {
	type result struct {
		at   int
		page *PageReading
		err  error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	next := make(chan int)
	results := make(chan result)
	var wg sync.WaitGroup
	for range min(len(list), max(1, runtime.NumCPU())) {
		doc := w.doc.In(ctx) // each with memory of its own
		wg.Go(func() {
			for i := range next {
				p, err := w.guarded(ctx, doc, &list[i])
				select {
				case results <- result{i, p, err}:
				case <-ctx.Done():
					return
				}
			}
		})
	}
	go func() {
		defer close(next)
		for i := range list {
			if w.env.Stopped() {
				return
			}
			select {
			case next <- i:
			case <-ctx.Done():
				return
			}
		}
	}()
	go func() { wg.Wait(); close(results) }()
	pages := make([]*PageReading, len(list))
	done := 0
	var fatal error
	for r := range results {
		done++
		w.env.Report(done, len(list))
		switch {
		case r.err == nil:
			pages[r.at] = r.page
		case ctx.Err() != nil:
		case errors.Is(r.err, ocr.ErrNone):
			if fatal == nil {
				fatal = step.Refuse("%v", r.err)
			}
			cancel()
		default:
			read.Failed = append(read.Failed, Failure{w.env.Keys.Key(list[r.at].ref), why(r.err)})
		}
	}
	if fatal != nil {
		return fatal
	}
	if err := context.Cause(ctx); err != nil && w.env.Enough == nil {
		return err
	}
	if err := ctx.Err(); err != nil && !w.env.Stopped() {
		return err
	}
	for _, p := range pages {
		if p != nil {
			read.Pages = append(read.Pages, *p)
		}
	}
	read.Left = len(list) - len(read.Pages) - len(read.Failed)
	return nil
}

// why says in a clause why a page could not be read.
func why(err error) string {
	var refused *step.Refusal
	if errors.As(err, &refused) {
		return refused.Sentence
	}
	return strings.TrimSuffix(err.Error(), ".")
}

func (w *worker) guarded(ctx context.Context, doc *pdf.Document, c *candidate) (p *PageReading, err error) {
	defer func() {
		if r := recover(); r != nil {
			p, err = nil, fmt.Errorf("a fault in the program: %v", r)
		}
	}()
	return w.page(ctx, doc, c)
}

// page reads one page.
func (w *worker) page(ctx context.Context, doc *pdf.Document, c *candidate) (*PageReading, error) {
	out := &PageReading{Page: w.env.Keys.Key(c.ref)}
	pars := 0
	for i := range c.parts {
		px, err := w.pixels(ctx, doc, c, &c.parts[i])
		if err != nil {
			return nil, err
		}
		k, ok := w.known[c.at]
		lines, f := k.lines, k.found
		if !ok || i > 0 || k.codes != strings.Join(w.codes, "+") {
			if lines, f, err = w.read(ctx, px); err != nil {
				return nil, err
			}
		}
		var placed []Line
		placed, pars = place(lines, px, &f, c.parts[i].text, pars)
		out.Lines = append(out.Lines, placed...)
		if i == 0 {
			out.Skew, out.Dark = f.Skew, f.Dark
			out.Turn = turnOf(px, &f, c.geo)
		}
	}
	return out, nil
}

// turnOf tells by how many quarters a page has to be turned clockwise for what was read to stand upright.
func turnOf(px *pixels, f *scan.Found, g pdf.Geometry) int {
	w, h := px.gray.Rect.Dx(), px.gray.Rect.Dy()
	at := func(x, y float64) (float64, float64) {
		x, y = f.Place(w, h, x, y)
		return px.toPage.Apply(x, y)
	}
	x0, y0 := at(0, 0)
	x1, y1 := at(100, 0)
	dx, dy := x1-x0, y1-y0 // the reading direction, in default user space
	quarter := 0           // clockwise quarters of the direction against the x axis
	switch {
	case dx > 0 && dx > abs(dy):
	case dy < 0 && -dy > abs(dx):
		quarter = 1
	case dx < 0 && -dx > abs(dy):
		quarter = 2
	default:
		quarter = 3
	}
	return ((-quarter-g.Rotate/90)%4 + 8) % 4
}

func abs(v float64) float64 { return max(v, -v) }

// pixels gives the picture of a part: its own where that is all there is to be seen, else what is drawn there.
func (w *worker) pixels(ctx context.Context, doc *pdf.Document, c *candidate, p *part) (*pixels, error) {
	if !p.drawn && len(p.own) == 1 {
		px, err := p.ownPixels(doc, c.geo.UserUnit)
		if err == nil {
			if px.gray.Rect.Dx()*px.gray.Rect.Dy() > mostLook {
				return nil, step.Refuse("its picture has more than %d million pixels", mostLook/1_000_000)
			}
			return px, nil
		}
	}
	if w.env.Draw == nil {
		return nil, step.Refuse("its scan’s format can’t be read here")
	}
	dpi := float64(drawnDPI)
	if area := c.geo.Visible.W() * c.geo.Visible.H() * c.geo.UserUnit * c.geo.UserUnit / 72 / 72 * dpi * dpi; area > mostLook {
		return nil, step.Refuse("the page is too large")
	}
	all, err := w.env.Draw.Draw(ctx, w.doc, c.at, dpi)
	if err != nil {
		return nil, err
	}
	return p.crop(all, c.geo, dpi), nil
}

// memory is what is remembered of one reading.
type memory struct {
	Lines []ocr.Line `json:"lines"`
	Found scan.Found `json:"found"`
}

// read reads a picture, made fit for it; a page that is turned is turned back. What was read of the same picture before is remembered.
func (w *worker) read(ctx context.Context, px *pixels) ([]ocr.Line, scan.Found, error) {
	var key [32]byte
	if w.env.Remember != nil {
		key = w.keyOf(px)
		if data, ok := w.env.Remember.Recall(key); ok {
			var m memory
			if json.Unmarshal(data, &m) == nil {
				return m.Lines, m.Found, nil
			}
		}
	}
	lines, f, err := w.readNow(ctx, px)
	if err == nil && w.env.Remember != nil {
		if data, err := json.Marshal(memory{lines, f}); err == nil {
			w.env.Remember.Store(key, data)
		}
	}
	return lines, f, err
}

const reader = 2 // changes when pictures are read in another way

func (w *worker) keyOf(px *pixels) [32]byte {
	h := sha256.New()
	fmt.Fprintf(h, "%d %s %s %v %d ", reader, w.engine.Version, strings.Join(w.codes, "+"), px.gray.Rect, int(px.dpi))
	for y := range px.gray.Rect.Dy() {
		h.Write(px.gray.Pix[y*px.gray.Stride:][:px.gray.Rect.Dx()])
	}
	var out [32]byte
	h.Sum(out[:0])
	return out
}

// unsure is how sure a reading must be as a whole to be taken as it is: below it the page may stand on its head.
const (
	unsure     = 62
	misled     = 90 // below it a page with rules is read again without them
	fewLetters = 12
)

func (w *worker) readNow(ctx context.Context, px *pixels) ([]ocr.Line, scan.Found, error) {
	quarters := 0
	asked := false
	small := scan.Shrink(px.gray)
	if small.Lying() { // turned by a quarter: which way, the program tells
		t, ok, err := w.orientation(ctx, px)
		if err != nil {
			return nil, scan.Found{}, err
		}
		asked = true
		if ok {
			quarters = t.Quarters
		}
	}
	lines, f, err := w.readTurned(ctx, px, small, quarters)
	if err != nil {
		return nil, f, err
	}
	sure, n := ocr.Sure(lines)
	if sure >= unsure && n >= fewLetters || asked {
		return lines, f, nil
	}
	t, ok, err := w.orientation(ctx, px)
	if err != nil || !ok || t.Quarters == 0 {
		return lines, f, err
	}
	other, of, err := w.readTurned(ctx, px, scan.Shrink(px.gray), t.Quarters)
	if err != nil {
		return nil, f, err
	}
	if s, m := ocr.Sure(other); s*float64(m) > sure*float64(n) {
		return other, of, nil
	}
	return lines, f, nil
}

func (w *worker) readTurned(ctx context.Context, px *pixels, small *scan.Small, quarters int) ([]ocr.Line, scan.Found, error) {
	ready, f := scan.Ready(px.gray, small, quarters)
	read := func() ([]ocr.Line, error) {
		lines, err := w.engine.Read(ctx, ready, ocr.Options{Languages: w.codes, DPI: int(px.dpi + 0.5)})
		toInk(ready, lines)
		return lines, err
	}
	lines, err := read()
	if err != nil {
		return nil, f, err
	}
	sure, n := ocr.Sure(lines)
	if n < fewLetters || sure >= misled || !scan.Rules(ready) {
		return lines, f, nil
	}
	other, err := read() // rules may be what it was misled by
	if err != nil {
		return nil, f, err
	}
	if s, m := ocr.Sure(other); s*math.Sqrt(float64(m)) > sure*math.Sqrt(float64(n)) {
		return other, f, nil
	}
	return lines, f, nil
}

// orientation asks how a picture is turned, in a size that is enough for it.
func (w *worker) orientation(ctx context.Context, px *pixels) (ocr.Turned, bool, error) {
	ready, _ := scan.Ready(px.gray, scan.Shrink(px.gray), 0)
	return w.engine.Orientation(ctx, ready, int(px.dpi+0.5))
}

// Turned finds pages that are pictures and stand on their head or side: by how many quarters each has to be turned clockwise to stand upright. Where there is no
// engine it finds none.
func Turned(ctx context.Context, doc *pdf.Document, env *step.Env, keys []step.Key) map[step.Key]int {
	out := map[step.Key]int{}
	e, err := ocr.Find()
	if err != nil || !e.OSD {
		return out
	}
	var refs []pdf.Ref
	for _, k := range keys {
		if ref, ok := env.Keys.Ref(k); ok {
			refs = append(refs, ref)
		}
	}
	list, _, err := candidates(ctx, doc, refs, true)
	if err != nil {
		return out
	}
	w := &worker{doc: doc, env: env, engine: e}
	for i := range list {
		c := &list[i]
		if ctx.Err() != nil {
			return out
		}
		px, err := w.pixels(ctx, doc, c, &c.parts[0])
		if err != nil {
			continue
		}
		t, ok, err := w.orientation(ctx, px)
		if err != nil || !ok || t.Quarters == 0 || t.Sure < 1.5 {
			continue
		}
		f := scan.Found{Quarter: t.Quarters}
		if n := turnOf(px, &f, c.geo); n != 0 {
			out[env.Keys.Key(c.ref)] = n
		}
	}
	return out
}
