package desk

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"

	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
)

// openBase is a base file with its objects, shared by all that stands on it. Its file
// is closed when nothing uses it any more (os.File closes itself then).
type openBase struct {
	doc   *pdf.Document
	pages []pdf.Leaf
	part  raster.Part
}

// openBases is how many bases stay open.
const openBases = 32

func (d *Desk) base(sha string) (*openBase, error) {
	d.mu.Lock()
	b, ok := d.bases[sha]
	d.mu.Unlock()
	if ok {
		return b, nil
	}
	f, err := d.Store.Open(sha)
	if err != nil {
		return nil, fmt.Errorf("opening a stored file: %w", err)
	}
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	doc, err := pdf.Open(f, st.Size())
	if err != nil {
		return nil, fmt.Errorf("opening a stored file: %w", err)
	}
	pages, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	b = &openBase{doc, pages, raster.Part{Path: d.Store.Path(sha), Size: st.Size()}}
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.bases) >= openBases {
		for k := range d.bases { // any: it is opened again in a moment if it is needed
			delete(d.bases, k)
			break
		}
	}
	d.bases[sha] = b
	return b, nil
}

// Snapshot is a document at one state. It never changes.
type Snapshot struct {
	Document Document
	State    State
	Steps    []Step // from the base on, without their updates
	PDF      *pdf.Document
	Keys     *step.Keys

	base     *openBase
	parts    []raster.Part     // the base, a fold if it stands on one, and the updates since
	folded   bool              // it was read through the fold of its own state
	versions map[step.Key]uint // the step that last redrew a page
	all      uint              // the step that last redrew all pages
	sizes    *sizes
	before   *Snapshot // the state before, while it is kept
}

// sizes caches the seen sizes of pages, of all states of a document.
type sizes struct {
	mu sync.Mutex
	of map[drawn][2]float64
}

// drawn is a page as one step left it.
type drawn struct {
	page    pdf.Ref
	version uint
}

// manySizes is how many sizes are kept.
const manySizes = 100_000

// PageInfo is a page as screens list it.
type PageInfo struct {
	Key     step.Key
	Version uint    // of its picture
	W, H    float64 // points, as it is seen
}

// Pages lists the pages in order.
func (s *Snapshot) Pages() []PageInfo {
	leaves, err := s.PDF.Pages()
	if err != nil {
		return nil
	}
	out := make([]PageInfo, len(leaves))
	s.sizes.mu.Lock()
	defer s.sizes.mu.Unlock()
	if len(s.sizes.of) > manySizes {
		clear(s.sizes.of)
	}
	for i, l := range leaves {
		key := s.Keys.Key(l.Ref)
		at := drawn{l.Ref, s.version(key)}
		wh, ok := s.sizes.of[at]
		if !ok {
			wh[0], wh[1] = s.PDF.Geometry(l.Ref).Seen()
			s.sizes.of[at] = wh
		}
		out[i] = PageInfo{key, at.version, wh[0], wh[1]}
	}
	return out
}

// version is the step that a page's picture stands for.
func (s *Snapshot) version(k step.Key) uint { return max(s.versions[k], s.all) }

// Index gives a page's place, from 0, or -1.
func (s *Snapshot) Index(k step.Key) int {
	r, ok := s.Keys.Ref(k)
	if !ok {
		return -1
	}
	return s.PDF.PageIndex(r)
}

// source names the snapshot for the renderer.
func (s *Snapshot) source() raster.Source {
	key := fmt.Sprintf("state-%d", s.State.ID)
	if s.folded {
		key += "-folded"
	}
	return raster.Source{Key: key, Parts: s.parts}
}

// live is a document that is worked on: its newest snapshot, and the lock that those
// who change it hold.
type live struct {
	mu    sync.Mutex
	snap  *Snapshot // guarded by Desk.mu
	users int       // who holds or waits for mu, or loads; guarded by Desk.mu
}

const (
	liveDocuments = 24 // documents kept open
	keptBefore    = 24 // states before the head that are kept for undoing
)

// document gives the live document of an id, to be given back with done; its snapshot may
// not be loaded yet. The ones least used lately, and by nobody now, are closed.
func (d *Desk) document(id uint) (l *live, done func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.order = append(slices.DeleteFunc(d.order, func(x uint) bool { return x == id }), id)
	l, ok := d.live[id]
	if !ok {
		l = &live{}
		d.live[id] = l
	}
	l.users++
	for i := 0; len(d.order) > liveDocuments && i < len(d.order); {
		if d.live[d.order[i]].users > 0 {
			i++
			continue
		}
		delete(d.live, d.order[i])
		d.order = slices.Delete(d.order, i, i+1)
	}
	return l, func() {
		d.mu.Lock()
		l.users--
		d.mu.Unlock()
	}
}

// Snapshot gives a document at its head.
func (d *Desk) Snapshot(ctx context.Context, id uint) (*Snapshot, error) {
	l, done := d.document(id)
	defer done()
	d.mu.Lock()
	s := l.snap
	d.mu.Unlock()
	if s != nil {
		return s, nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return d.current(ctx, l, id)
}

// current gives the snapshot of a live document whose lock is held, loading it if need be.
func (d *Desk) current(ctx context.Context, l *live, id uint) (*Snapshot, error) {
	d.mu.Lock()
	s := l.snap
	d.mu.Unlock()
	if s != nil {
		return s, nil
	}
	var row Document
	if err := d.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return nil, missing(err)
	}
	s, err := d.load(ctx, row, row.HeadID)
	if err != nil {
		return nil, err
	}
	d.put(l, s)
	return s, nil
}

func (d *Desk) put(l *live, s *Snapshot) {
	at := s
	for range keptBefore {
		if at == nil {
			break
		}
		at = at.before
	}
	d.mu.Lock()
	if at != nil {
		at.before = nil
	}
	l.snap = s
	d.mu.Unlock()
}

// load builds the snapshot of a state from its base and updates.
func (d *Desk) load(ctx context.Context, row Document, state uint) (*Snapshot, error) {
	states, err := d.chain(ctx, row.ID, state)
	if err != nil {
		return nil, err
	}
	b, err := d.base(states[0].BaseSHA)
	if err != nil {
		return nil, err
	}
	s := &Snapshot{
		Document: row, State: states[0], PDF: b.doc, Keys: step.NewKeys(b.pages), base: b,
		parts: []raster.Part{b.part}, versions: map[step.Key]uint{}, sizes: &sizes{of: map[drawn][2]float64{}},
	}
	ids := make([]uint, 0, len(states))
	for _, st := range states[1:] {
		ids = append(ids, st.StepID)
	}
	// The updates before the last fold are not read: but not the one of the state itself, on which
	// only later ones stand, so that a state is the same bytes however it is come to.
	fold := 0
	for i, st := range states[:len(states)-1] {
		if st.FoldSHA != "" {
			fold = i
		}
	}
	if fold > 0 {
		bytes, err := os.ReadFile(d.Store.Path(states[fold].FoldSHA))
		if err != nil {
			return nil, fmt.Errorf("reading a stored change: %w", err)
		}
		if s.PDF, err = b.doc.With(bytes); err != nil {
			return nil, err
		}
		s.parts = append(s.parts, raster.Part{Path: d.Store.Path(states[fold].FoldSHA), Size: int64(len(bytes))})
	}
	done := 0
	for group := range slices.Chunk(ids, 200) {
		var rows []Step
		q := d.db.WithContext(ctx)
		if done+len(group) <= fold {
			q = q.Omit("update")
		}
		if err := q.Where("id in ?", group).Find(&rows).Error; err != nil {
			return nil, err
		}
		byID := map[uint]Step{}
		for _, r := range rows {
			byID[r.ID] = r
		}
		for _, id := range group {
			r, ok := byID[id]
			if !ok {
				return nil, fmt.Errorf("step %d of a trail is missing", id)
			}
			if done++; done <= fold {
				s.note(r)
				continue
			}
			update, err := d.updateOf(&r)
			if err != nil {
				return nil, err
			}
			next, err := s.PDF.With(update)
			if err != nil {
				return nil, err
			}
			s.PDF = next
			s.add(r, update, d.Store.Path(r.UpdateSHA))
		}
	}
	s.State = states[len(states)-1]
	return s, nil
}

// add takes a step into the bookkeeping of a snapshot under construction.
func (s *Snapshot) add(r Step, update []byte, path string) {
	part := raster.Part{Data: update}
	if r.UpdateSHA != "" {
		part = raster.Part{Path: path, Size: int64(len(update))}
	}
	s.parts = append(s.parts[:len(s.parts):len(s.parts)], part)
	s.note(r)
}

// note takes a step into the bookkeeping without its update.
func (s *Snapshot) note(r Step) {
	r.Update = nil
	s.Steps = append(s.Steps[:len(s.Steps):len(s.Steps)], r)
	s.Keys = s.Keys.With(r.No, r.created())
	switch step.Redrawn(r.Redrawn) {
	case step.RedrawAll:
		s.all = r.ID
	case step.RedrawPages:
		if r.All {
			s.all = r.ID
		}
		for _, k := range r.keys() {
			s.versions[k] = r.ID
		}
	}
}

// updateOf gives the bytes of a step's update.
func (d *Desk) updateOf(r *Step) ([]byte, error) {
	if r.UpdateSHA == "" {
		return r.Update, nil
	}
	b, err := os.ReadFile(d.Store.Path(r.UpdateSHA))
	if err != nil {
		return nil, fmt.Errorf("reading a stored change: %w", err)
	}
	return b, nil
}

// chain gives the states from a base to the one of that id.
func (d *Desk) chain(ctx context.Context, document, state uint) ([]State, error) {
	var all []State
	if err := d.db.WithContext(ctx).Where("document_id = ?", document).Find(&all).Error; err != nil {
		return nil, err
	}
	byID := make(map[uint]State, len(all))
	for _, s := range all {
		byID[s.ID] = s
	}
	var out []State
	for id := state; id != 0; {
		s, ok := byID[id]
		if !ok {
			return nil, ErrMissing
		}
		out = append(out, s)
		if p, ok := byID[s.ParentID]; ok && p.BaseSHA != s.BaseSHA {
			break
		}
		id = s.ParentID
	}
	slices.Reverse(out)
	if len(out) == 0 {
		return nil, ErrMissing
	}
	return out, nil
}

// At gives a document at an earlier state.
func (d *Desk) At(ctx context.Context, state uint) (*Snapshot, error) {
	var st State
	if err := d.db.WithContext(ctx).First(&st, state).Error; err != nil {
		return nil, missing(err)
	}
	head, err := d.Snapshot(ctx, st.DocumentID)
	if err != nil {
		return nil, err
	}
	if head.State.ID == state {
		return head, nil
	}
	return d.load(ctx, head.Document, state)
}

func (r *Step) created() []pdf.Ref {
	var out []pdf.Ref
	if r.Created != "" {
		_ = json.Unmarshal([]byte(r.Created), &out)
	}
	return out
}

func (r *Step) keys() []step.Key {
	var out []step.Key
	if r.Pages != "" {
		_ = json.Unmarshal([]byte(r.Pages), &out)
	}
	return out
}

// WarningList gives the step's warnings.
func (r *Step) WarningList() []string {
	var out []string
	_ = json.Unmarshal([]byte(r.Warnings), &out)
	return out
}

// sources opens what steps name, from the house.
type sources struct {
	desk *Desk
	open []io.Closer
}

func (s *sources) close() {
	for _, c := range s.open {
		_ = c.Close()
	}
}

// Open opens "state:ID" and "sha256:HASH".
func (s *sources) Open(ctx context.Context, ref string) (*step.Source, error) {
	if state, ok := strings.CutPrefix(ref, "state:"); ok {
		id, err := strconv.ParseUint(state, 10, 63)
		if err != nil {
			return nil, step.Refuse("%q is not a source", ref)
		}
		snap, err := s.desk.At(ctx, uint(id))
		if err != nil {
			return nil, step.Refuse("the document to bring pages from is not there any more")
		}
		return &step.Source{Name: snap.Document.Name, Doc: snap.PDF, Data: snap.PDF.Source(), Size: snap.PDF.Size()}, nil
	}
	if sha, ok := strings.CutPrefix(ref, "sha256:"); ok && isHash(sha) {
		f, err := s.desk.Store.Open(sha)
		if err != nil {
			return nil, step.Refuse("the file to bring pages from is not there any more")
		}
		s.open = append(s.open, f)
		st, err := f.Stat()
		if err != nil {
			return nil, err
		}
		return &step.Source{Name: "file", Data: f, Size: st.Size()}, nil
	}
	return nil, step.Refuse("the source %q can't be opened here", ref)
}

func isHash(s string) bool {
	b, err := hex.DecodeString(s)
	return err == nil && len(b) == sha256.Size
}
