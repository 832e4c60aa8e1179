package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"

	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/store"
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
	if _, err := os.Stat(b.part.Path); err != nil { // it was removed while it was opened, and is not kept
		return nil, fmt.Errorf("opening a stored file: %w", err)
	}
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
	PDF      *pdf.Document
	Keys     *step.Keys

	base     *openBase
	parts    []raster.Part     // the base, a fold if it stands on one, and the updates since
	folded   bool              // it was read through the fold of its own state
	versions map[step.Key]uint // the step that last redrew a page
	all      uint              // the step that last redrew all pages
	sizes    *sizes
	found    *found    // loose ends, once they were looked for
	before   *Snapshot // the state before, while it is kept
}

// sizes caches the seen sizes of pages, of all states of a document.
type sizes struct {
	mu sync.Mutex
	of map[drawn][2]float64
}

func newSizes() *sizes { return &sizes{of: map[drawn][2]float64{}} }

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

// Indexes gives the places of pages, from 0, or -1, as they are asked for.
func (s *Snapshot) Indexes(keys []step.Key) []int {
	refs := make([]pdf.Ref, len(keys))
	for i, k := range keys {
		refs[i], _ = s.Keys.Ref(k)
	}
	return s.PDF.PageIndexes(refs)
}

// source names the snapshot for the renderer.
func (s *Snapshot) source() raster.Source {
	key := fmt.Sprintf("state-%d", s.State.ID)
	if s.folded {
		key += "-folded"
	}
	return raster.Source{Key: key, Parts: s.parts}
}

// load builds the snapshot of a state from its base and updates: from the last fold or new base on, if there is one.
func (d *Desk) load(ctx context.Context, row Document, state uint) (*Snapshot, error) {
	states, err := d.chain(ctx, row.ID, state)
	if err != nil {
		return nil, err
	}
	first := states[0]
	b, err := d.base(first.BaseSHA)
	if err != nil {
		return nil, err
	}
	s := &Snapshot{
		Document: row, State: first, PDF: b.doc, Keys: step.NewKeys(b.pages), base: b,
		parts: []raster.Part{b.part}, versions: map[step.Key]uint{}, sizes: newSizes(), found: &found{},
	}
	// The updates before the last fold are not read: but not the one of the state itself, on which
	// only later ones stand, so that a state is the same bytes however it is come to.
	fold := -1
	for i, st := range states[:len(states)-1] {
		if st.FoldSHA != "" {
			fold = i
		}
	}
	if fold >= 0 {
		if err := s.openFold(d.Store.Path(states[fold].FoldSHA)); err != nil {
			return nil, err
		}
	}
	if first.Noted != "" && (fold == 0 || first.Rooted) {
		if err := s.readNotes(first.Noted); err != nil {
			return nil, err
		}
	}
	for group := range slices.Chunk(states[1:], 200) {
		ids := make([]uint, len(group))
		for i, st := range group {
			ids[i] = st.StepID
		}
		var rows []Step
		if err := d.db.WithContext(ctx).Where("id in ?", ids).Find(&rows).Error; err != nil {
			return nil, err
		}
		byID := map[uint]Step{}
		for _, r := range rows {
			byID[r.ID] = r
		}
		for _, st := range group {
			r, ok := byID[st.StepID]
			if !ok {
				return nil, fmt.Errorf("step %d of a trail is missing", st.StepID)
			}
			if st.Depth <= states[max(fold, 0)].Depth { // only in trails of before, whose folds have no notes
				s.note(r)
				continue
			}
			update, err := d.updateOf(&r)
			if err != nil {
				return nil, err
			}
			if s.PDF, err = s.PDF.With(update); err != nil {
				return nil, err
			}
			s.addPart(&r, update, d.Store.Path(r.UpdateSHA))
			s.note(r)
		}
	}
	s.State = states[len(states)-1]
	return s, nil
}

// openFold goes to the state that the update in a file stands for.
func (s *Snapshot) openFold(path string) error {
	update, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading a stored change: %w", err)
	}
	if s.PDF, err = s.base.doc.With(update); err != nil {
		return err
	}
	s.parts = append(s.parts, raster.Part{Path: path, Size: int64(len(update))})
	return nil
}

// addPart takes a step's update into the parts that the renderer reads.
func (s *Snapshot) addPart(r *Step, update []byte, path string) {
	part := raster.Part{Data: update}
	if r.UpdateSHA != "" {
		part = raster.Part{Path: path, Size: int64(len(update))}
	}
	s.parts = append(s.parts[:len(s.parts):len(s.parts)], part)
}

// note takes a step into the bookkeeping: the pages it made, and whose pictures changed.
func (s *Snapshot) note(r Step) {
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

// notes are what is known of the pages of a state besides its bytes: the step that last redrew all of them, their keys in
// order, and for each the step that last redrew it, or 0.
type notes struct {
	All      uint   `json:"all"`
	Keys     string `json:"keys"`
	Versions []uint `json:"versions"`
}

// writeNotes writes the notes of a snapshot.
func (s *Snapshot) writeNotes() (string, error) {
	pages, err := s.PDF.Pages()
	if err != nil {
		return "", err
	}
	n := notes{All: s.all, Versions: make([]uint, len(pages))}
	var b strings.Builder
	for i, l := range pages {
		k := s.Keys.Key(l.Ref)
		b.WriteString(k.String() + " ")
		n.Versions[i] = s.versions[k]
	}
	n.Keys = b.String()
	return toJSON(n), nil
}

// readNotes sets keys and versions from notes; the PDF is that of their state.
func (s *Snapshot) readNotes(text string) error {
	var n notes
	if err := json.Unmarshal([]byte(text), &n); err != nil {
		return fmt.Errorf("the notes on pages: %w", err)
	}
	pages, err := s.PDF.Pages()
	if err != nil {
		return err
	}
	words := strings.Fields(n.Keys)
	if len(words) != len(pages) || len(n.Versions) != len(pages) {
		return errors.New("the notes on pages belong to another state")
	}
	keys := make([]step.Key, len(words))
	for i, w := range words {
		if keys[i], err = step.ParseKey(w); err != nil {
			return err
		}
		if v := n.Versions[i]; v != 0 {
			s.versions[keys[i]] = v
		}
	}
	s.Keys, s.all = step.KeysOf(pages, keys), n.All
	return nil
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

// chain gives the states that lead to the one of that id, as far as it takes to read it: from the last fold before it that has
// notes, or else from a base on.
func (d *Desk) chain(ctx context.Context, document, state uint) ([]State, error) {
	var out []State
	err := d.db.WithContext(ctx).Raw(`WITH RECURSIVE c AS (
			SELECT *, 0 AS n FROM states WHERE id = ? AND document_id = ?
			UNION ALL
			SELECT s.*, c.n + 1 FROM states s JOIN c ON s.id = c.parent_id WHERE NOT coalesce(c.rooted, 0) AND (c.n = 0 OR coalesce(c.noted, '') = '')
		) SELECT * FROM c ORDER BY n DESC`, state, document).Scan(&out).Error
	if err == nil && len(out) == 0 {
		err = store.ErrMissing
	}
	return out, err
}

// At gives a document at an earlier state.
func (d *Desk) At(ctx context.Context, state uint) (*Snapshot, error) {
	var st State
	if err := d.db.WithContext(ctx).First(&st, state).Error; err != nil {
		return nil, store.Missing(err)
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
