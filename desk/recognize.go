package desk

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"glenrain/core/finding"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/recognize"
	"glenrain/core/step"
	"glenrain/desk/background"
)

// memory remembers parts of long work in files, so that work which was broken off, by whatever, goes on where it was. It is a cache: the oldest go where it
// grows too large.
type memory struct {
	dir  string
	work string // where files are written before they are put into dir
	mu   sync.Mutex
	n    int // stored since it was last cleared
	era  int // changes when all is forgotten
}

// Bounds of what is remembered.
const (
	mostRemembered = 256 << 20 // bytes
	leftRemembered = 192 << 20
)

// since gives the memory to a piece of work that begins now: what it reads is not stored once all was forgotten.
func (m *memory) since() *remembering {
	m.mu.Lock()
	defer m.mu.Unlock()
	return &remembering{m, m.era}
}

// remembering is a memory as a piece of work has it.
type remembering struct {
	*memory
	era int
}

// Store keeps a part.
func (r *remembering) Store(of [32]byte, data []byte) { r.store(of, data, r.era) }

// Recall gives what was stored.
func (m *memory) Recall(of [32]byte) ([]byte, bool) {
	b, err := os.ReadFile(m.path(of))
	return b, err == nil
}

func (m *memory) path(of [32]byte) string { return filepath.Join(m.dir, hex.EncodeToString(of[:])) }

// store keeps a part, of work that began in an era; where that fails it is made again.
func (m *memory) store(of [32]byte, data []byte, era int) {
	if err := os.MkdirAll(m.dir, 0o700); err != nil {
		return
	}
	f, err := os.CreateTemp(m.work, "reading-*")
	if err != nil {
		return
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Close())
	m.mu.Lock()
	defer m.mu.Unlock()
	if err == nil && era == m.era {
		err = os.Rename(f.Name(), m.path(of))
	}
	if err != nil || era != m.era {
		_ = os.Remove(f.Name())
	}
	if m.n++; m.n%64 == 0 {
		m.clear()
	}
}

// clear removes the oldest until what is left is small enough.
func (m *memory) clear() {
	type kept struct {
		path string
		size int64
		at   int64
	}
	var all []kept
	sum := int64(0)
	_ = filepath.WalkDir(m.dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		if info, err := e.Info(); err == nil {
			all = append(all, kept{path, info.Size(), info.ModTime().UnixNano()})
			sum += info.Size()
		}
		return nil
	})
	if sum <= mostRemembered {
		return
	}
	slices.SortFunc(all, func(a, b kept) int { return int(a.at - b.at) })
	for _, k := range all {
		if sum <= leftRemembered {
			return
		}
		if os.Remove(k.path) == nil {
			sum -= k.size
		}
	}
}

// forget forgets all, also what is being read now.
func (m *memory) forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.era++
	_ = os.RemoveAll(m.dir)
}

// tools gives a step's work what it needs besides the document; done frees it.
func (d *Desk) tools(env *step.Env, who string) (done func()) {
	drawer := raster.NewDrawer(who, d.workFolder(), func() (*raster.Pool, error) { return d.pool, nil })
	env.Draw, env.Remember, env.Knows = drawer, d.readings.since(), d.KnowsWord
	return drawer.Close
}

// PageNeeds is what recognizing text may do for a page.
type PageNeeds struct {
	Key    step.Key
	Number int
	Needs  recognize.Needs
	Sure   int // of a layer of ours, in hundredths; -1 without one
	Doubts int // words of it that are doubted
}

// Needs tells of each page of a document's head what recognizing text may do for it, from what the page was found to show when its text was read. known is false
// while that goes on.
func (d *Desk) Needs(ctx context.Context, s *Snapshot) (out []PageNeeds, known bool, err error) {
	var rows []PageText
	if err := d.db.WithContext(ctx).Select("key", "version", "look", "text").Where("document_id = ?", s.Document.ID).Find(&rows).Error; err != nil {
		return nil, false, err
	}
	looks := make(map[string]*PageText, len(rows))
	for i := range rows {
		looks[rows[i].Key] = &rows[i]
	}
	doc := s.PDF.In(ctx)
	known = true
	var layered []int // pages with invisible text of others
	for i, p := range s.Pages() {
		n := PageNeeds{Key: p.Key, Number: i + 1, Sure: -1}
		row := looks[p.Key.String()]
		if ref, ok := s.Keys.Ref(p.Key); ok { // what was recognized just now is known before its text is read
			if u, note, ok := recognize.Layer(doc, ref); ok {
				n.Needs, n.Sure, n.Doubts = recognize.Layered, note.Sure, len(recognize.Doubted(u, note, d.KnowsWord))
			}
		}
		switch {
		case n.Sure >= 0:
		case row == nil || row.Version != p.Version:
			known = false
		default:
			var l finding.PageLook
			_ = json.Unmarshal([]byte(row.Look), &l)
			if n.Needs = recognize.NeedsOf(l); n.Needs == recognize.Layered && recognize.Poorly(ctx, row.Text) {
				n.Needs = recognize.Poor
			}
			if n.Needs == recognize.Layered {
				layered = append(layered, i)
			}
		}
		out = append(out, n)
	}
	if d.misplaced(ctx, s, doc, layered) {
		for _, i := range layered {
			out[i].Needs = recognize.Poor
		}
	}
	return out, known, nil
}

// onInk remembers of documents' states whether their invisible text lies on its letters.
type onInk struct {
	mu sync.Mutex
	of map[uint]bool // by state
}

const mostPlaced = 500

// misplaced reports whether the invisible text of some pages stands beside the letters of their pictures: a few of them are looked at, since one program made them all.
func (d *Desk) misplaced(ctx context.Context, s *Snapshot, doc *pdf.Document, pages []int) bool {
	if len(pages) == 0 {
		return false
	}
	d.onInk.mu.Lock()
	known, ok := d.onInk.of[s.State.ID]
	d.onInk.mu.Unlock()
	if ok {
		return known
	}
	all := s.Pages()
	bad, good := 0, 0
	for _, at := range []int{0, len(pages) / 2, len(pages) - 1} {
		ref, ok := s.Keys.Ref(all[pages[at]].Key)
		if !ok || ctx.Err() != nil {
			continue
		}
		if on, ok := recognize.OnInk(ctx, doc, ref); ok && recognize.Misplaced(on) {
			bad++
		} else if ok {
			good++
		}
	}
	d.onInk.mu.Lock()
	defer d.onInk.mu.Unlock()
	if len(d.onInk.of) >= mostPlaced || d.onInk.of == nil {
		d.onInk.of = map[uint]bool{}
	}
	d.onInk.of[s.State.ID] = bad > good
	return bad > good
}

// recognizing is recognizing the text of many documents.
var recognizing = ManyKind{
	Name:  "recognize",
	Label: func(n int) string { return "Recognize the text of " + step.Count(n, "document") },
	Told: func(done, of int) string {
		return fmt.Sprintf("Text of %d of %s recognized.", done, step.Count(of, "document"))
	},
	Do: func(ctx context.Context, d *Desk, w *background.Work, m *Many, it *ManyItem, report func(done, of int)) (string, error) {
		var p recognize.Recognize
		if err := m.Read(&p); err != nil {
			return "", err
		}
		out, err := d.doStepOf(ctx, w, m, it, "recognize", &p, report)
		if err != nil {
			return "", err
		}
		return out.Step.Sentence, nil
	},
}

// RecognizeMany recognizes the text of several documents, one after the other, in the background. One that fails stops nothing. Its result is a *Told.
func (d *Desk) RecognizeMany(ctx context.Context, person uint, ids []uint, languages string) (*background.Work, error) {
	if _, err := recognize.Engine(); err != nil {
		return nil, err
	}
	for _, id := range ids[:min(len(ids), mostAtOnce)] {
		if err := d.MayStep(ctx, person, id, "recognize"); err != nil {
			return nil, err
		}
	}
	return d.Many(ctx, person, recognizing.Name, &recognize.Recognize{Pages: step.Pages{Rule: "all"}, Languages: languages}, ids, "")
}

// sentenceOf is an error in a clause that people read.
func sentenceOf(err error) string {
	var refused *step.Refusal
	if errors.As(err, &refused) {
		return strings.TrimSuffix(refused.Sentence, ".")
	}
	return strings.TrimSuffix(err.Error(), ".")
}

// doStepOf does a slow step on one document of many.
func (d *Desk) doStepOf(ctx context.Context, w *background.Work, m *Many, it *ManyItem, name string, params any, report func(done, of int)) (*Outcome, error) {
	s, err := d.Look(ctx, m.PersonID, it.DocumentID)
	if err != nil {
		return nil, err
	}
	p, err := json.Marshal(params)
	if err != nil {
		return nil, err
	}
	out, err := d.doAlong(ctx, w, Change{Document: it.DocumentID, Seen: s.State.ID, Person: m.PersonID, Name: name, Params: p, RequestID: m.request(it)}, report)
	if err == nil {
		it.StateID = out.Step.StateID
	}
	return out, err
}

// doAlong does a slow step as a part of other work, and waits for it; when that is asked to stop, the step is.
func (d *Desk) doAlong(ctx context.Context, w *background.Work, c Change, progress func(done, total int)) (*Outcome, error) {
	one, done, err := d.DoLater(ctx, c)
	if err != nil || done != nil {
		return done, err
	}
	for {
		select {
		case <-ctx.Done():
			one.Cancel()
			one.Wait(context.Background())
			return nil, ctx.Err()
		case <-one.Ended():
			p := one.Look()
			if p.Err != nil {
				return nil, p.Err
			}
			out, ok := p.Result.(*Outcome)
			if !ok {
				return nil, fmt.Errorf("the step %q gave %T", c.Name, p.Result)
			}
			return out, nil
		case <-one.Changed():
			p := one.Look()
			progress(p.Done, p.Total)
			if w.Enough() {
				one.Stop()
			}
		}
	}
}

// Languages gives the languages that text can be recognized in here, and the ones that were used last; wrong says in a sentence why there are none.
func (d *Desk) Languages() (codes []string, last string, wrong string) {
	e, err := recognize.Engine()
	if err != nil {
		return nil, "", sentenceOf(err)
	}
	if b, err := os.ReadFile(filepath.Join(d.dir, "languages")); err == nil && len(b) < 100 {
		last = strings.TrimSpace(string(b))
	}
	return e.Languages, last, ""
}

// KeepLanguages remembers for the house which languages were confirmed.
func (d *Desk) KeepLanguages(codes string) {
	if codes != "" && len(codes) < 100 {
		_ = os.WriteFile(filepath.Join(d.dir, "languages"), []byte(codes+"\n"), 0o600)
	}
}

// GuessLanguage reads a page or two of a document and tells what it seems to be written in.
func (d *Desk) GuessLanguage(ctx context.Context, s *Snapshot, pages step.Pages, again bool) (*recognize.Guess, error) {
	env := &step.Env{Keys: s.Keys}
	defer d.tools(env, "guess")()
	return recognize.FindLanguage(ctx, s.PDF.In(ctx), env, pages, again)
}
