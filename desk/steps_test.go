package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/arrange"
	"glenrain/core/furnish"
	"glenrain/core/jobs"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// squeeze is a step that can't append: it packs the content of all pages anew.
type squeeze struct{}

func (*squeeze) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	pages, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	for _, l := range pages {
		o := doc.Page(l.Ref).Get("Contents")
		if r, ok := o.(pdf.Ref); ok && doc.Stream(r) != nil {
			data, _, err := doc.Decode(doc.Stream(r))
			if err != nil {
				return nil, err
			}
			doc.Set(r, pdf.NewFlateStream(nil, data))
		}
	}
	return &step.Result{Whole: true, All: true, Redrawn: step.RedrawAll, Sentence: "Squeezed", Show: env.Keys.Key(pages[0].Ref)}, nil
}

// sounding is a step with long work: it makes a file a page, and then sets the title from them.
type sounding struct {
	Pages int              `json:"pages"`
	Made  []step.SourceRef `json:"made,omitempty"`
	Also  struct {
		From step.SourceRef `json:"from,omitempty"`
	} `json:"also"`

	begun func(n int)
}

var soundings struct {
	sync.Mutex
	works int
}

func (s *sounding) Work(ctx context.Context, _ *pdf.Document, env *step.Env) error {
	if len(s.Made) == s.Pages {
		return nil // done before
	}
	for n := range s.Pages {
		if s.begun != nil {
			s.begun(n)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		ref, err := env.Files.Keep(func(w io.Writer) error { _, err := fmt.Fprintf(w, "depth of page %d", n); return err })
		if err != nil {
			return err
		}
		s.Made = append(s.Made, ref)
		env.Report(n+1, s.Pages)
	}
	soundings.Lock()
	soundings.works++
	soundings.Unlock()
	return nil
}

func (s *sounding) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	title := ""
	for _, ref := range s.Made {
		src, err := env.Sources.Open(ctx, ref)
		if err != nil {
			return nil, err
		}
		b, err := io.ReadAll(io.NewSectionReader(src.Data, 0, src.Size))
		if err != nil {
			return nil, err
		}
		title += string(b) + ". "
	}
	doc.Edit(doc.Root()).Set("GLRN_Test", pdf.TextString(title))
	return &step.Result{All: true, Sentence: fmt.Sprintf("Sounded %d pages", s.Pages)}, nil
}

// testDesk opens a desk whose registry has squeeze and sounding besides steps of the house.
func testDesk(t *testing.T, dir string, begun func(int)) *Desk {
	t.Helper()
	g := step.NewRegistry(furnish.Hooks(), append(append(arrange.Kinds(), furnish.Kinds()...),
		step.Kind{Name: "squeeze", New: func() step.Step { return &squeeze{} }},
		step.Kind{Name: "sound", Title: "Sound the pages", Slow: true, New: func() step.Step { return &sounding{begun: begun} }})...)
	d, err := Open(dir, Options{PDFiumCache: raster.CacheForTests(), Registry: g})
	require.NoError(t, err)
	if empty, _ := d.Empty(t.Context()); empty {
		somebody(t, d, "rona", people.Administrator)
	}
	return d
}

// A step that can't append makes a new base: pages keep their keys, earlier states stay, a restart and a long trail on top change nothing.
func TestNewBase(t *testing.T) {
	dir := t.TempDir()
	d := testDesk(t, dir, nil)
	doc := bring(t, d, "Tariffs.pdf", pdftest.Text(6))
	mustDo(t, d, doc.ID, "move", `{"pages":["0.6"],"to":"0.1"}`)
	mustDo(t, d, doc.ID, "rotate", `{"pages":["0.2"],"by":90}`)
	before := snapshot(t, d, doc.ID)
	out := mustDo(t, d, doc.ID, "squeeze", `{}`)
	s := out.Snapshot
	assert.NotEqual(t, before.State.BaseSHA, s.State.BaseSHA)
	assert.Equal(t, before.State.ID, s.State.ParentID)
	pdftest.Check(t, bytesOf(t, s))
	keys := func(s *Snapshot) (out []string) {
		for _, p := range s.Pages() {
			out = append(out, p.Key.String())
		}
		return out
	}
	assert.Equal(t, keys(before), keys(s))
	mustDo(t, d, doc.ID, "remove", `{"pages":["0.3"]}`)
	after := mustDo(t, d, doc.ID, "rotate", `{"pages":["0.6"],"by":90}`).Snapshot
	assert.Len(t, trail(t, d, after), 5, "the trail goes on over it")
	want, pages := bytesOf(t, after), after.Pages()
	require.NoError(t, d.Close())
	d = testDesk(t, dir, nil)
	t.Cleanup(func() { _ = d.Close() })
	again := snapshot(t, d, doc.ID)
	assert.True(t, bytes.Equal(want, bytesOf(t, again)))
	assert.Equal(t, pages, again.Pages())
	updates, err := d.Replay(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.Len(t, updates, 2, "from the new base on")
	for range 3 {
		_, err := d.Undo(t.Context(), doc.ID, snapshot(t, d, doc.ID).State.ID, 1)
		require.NoError(t, err)
	}
	assert.True(t, bytes.Equal(bytesOf(t, before), bytesOf(t, snapshot(t, d, doc.ID))), "what was before it is there")
	for range 3 {
		_, err := d.Redo(t.Context(), doc.ID, snapshot(t, d, doc.ID).State.ID, 1)
		require.NoError(t, err)
	}
	assert.True(t, bytes.Equal(want, bytesOf(t, snapshot(t, d, doc.ID))))
	// It is previewed, and stands in the middle of what is replayed.
	pre, err := d.Preview(t.Context(), Change{Document: doc.ID, Seen: again.State.ID, Person: 1, Name: "squeeze"}, Previewed{At: step.Key{Ordinal: 1}, W: 100, H: 100})
	require.NoError(t, err)
	assert.NotEmpty(t, pre.Picture.Data)
	rotated := trail(t, d, again)[1]
	revised, err := d.Revise(t.Context(), Revision{Document: doc.ID, Seen: again.State.ID, Person: 1, Step: rotated.ID})
	require.NoError(t, err)
	pdftest.Check(t, bytesOf(t, revised.Snapshot))
	assert.Equal(t, keys(again), keys(revised.Snapshot))
	assert.Len(t, trail(t, d, revised.Snapshot), 4)
	require.NoError(t, d.Close())
	d = testDesk(t, dir, nil)
	assert.True(t, bytes.Equal(bytesOf(t, revised.Snapshot), bytesOf(t, snapshot(t, d, doc.ID))))
	require.NoError(t, d.Close())
}

// A slow step reserves the document: others read it and are told who works on it; cancelled it leaves nothing; done it is a step like
// others, whose work a replay does not do again.
func TestSlowStep(t *testing.T) {
	dir := t.TempDir()
	started, goOn := make(chan int), make(chan bool)
	d := testDesk(t, dir, func(n int) { started <- n; <-goOn })
	isla, err := d.AddPerson(t.Context(), "Isla Merrow", "isla", "low water springs")
	require.NoError(t, err)
	doc := bring(t, d, "Soundings.pdf", pdftest.Text(3))
	files := func() int {
		n := 0
		require.NoError(t, filepath.WalkDir(filepath.Join(dir, "files"), func(_ string, e os.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				n++
			}
			return err
		}))
		return n
	}
	had := files()
	change := func(id string) Change {
		return Change{Document: doc.ID, Seen: snapshot(t, d, doc.ID).State.ID, RequestID: id, Person: isla.ID, Name: "sound", Params: json.RawMessage(`{"pages":2}`)}
	}
	w, done, err := d.DoLater(t.Context(), change("first"))
	require.NoError(t, err)
	require.Nil(t, done)
	assert.Equal(t, 0, <-started)
	var busy *Busy
	_, err = do(t, d, doc.ID, snapshot(t, d, doc.ID).State.ID, "rotate", `{"pages":["0.1"],"by":90}`)
	require.ErrorAs(t, err, &busy)
	assert.Equal(t, "Isla Merrow is running “Sound the pages” on this document; you can read it now and change it when that finishes", busy.Error())
	_, _, err = d.DoLater(t.Context(), change("second"))
	require.ErrorAs(t, err, &busy)
	_, err = d.Picture(t.Context(), 1, doc.ID, step.Key{Ordinal: 1}, 0, 60, 60)
	require.NoError(t, err, "others read it")
	assert.Equal(t, isla.ID, d.Reserved(doc.ID).Person)
	goOn <- true
	assert.Equal(t, 1, <-started)
	assert.Equal(t, [2]int{1, 2}, [2]int{w.Look().Done, w.Look().Total})
	w.Cancel()
	goOn <- true
	assert.Equal(t, background.WorkCancelled, w.Wait(t.Context()).State)
	assert.Nil(t, d.Reserved(doc.ID))
	assert.Equal(t, had, files(), "nothing is left of what was cancelled")
	assert.Empty(t, trail(t, d, snapshot(t, d, doc.ID)))

	w, _, err = d.DoLater(t.Context(), change("third"))
	require.NoError(t, err)
	for range 2 {
		<-started
		goOn <- true
	}
	p := w.Wait(t.Context())
	require.NoError(t, p.Err)
	out := p.Result.(*Outcome)
	assert.Equal(t, "Sounded 2 pages", out.Step.Sentence)
	assert.Len(t, step.NamedSources(mustStep(t, d, out.Step)), 2, "the row names what the work made")
	_, done, err = d.DoLater(t.Context(), change("third"))
	require.NoError(t, err)
	assert.Equal(t, out.Step.ID, done.Step.ID, "the same request does nothing more")
	works := soundings.works
	updates, err := d.Replay(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.Len(t, updates, 1)
	assert.Equal(t, works, soundings.works, "a replay does not do the work again")
	// The sweep keeps what the step names.
	require.NoError(t, d.Close())
	d = testDesk(t, dir, nil)
	_, err = d.Replay(t.Context(), doc.ID)
	require.NoError(t, err)
	require.NoError(t, d.Close())
}

func mustStep(t *testing.T, d *Desk, row *Step) step.Step {
	t.Helper()
	s, err := d.registry.New(row.Name, json.RawMessage(row.Params))
	require.NoError(t, err)
	return s
}

// Waiting for the document's lock heeds whoever waits.
func TestLockIsLeft(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "doc.pdf", pdftest.Text(2))
	s := snapshot(t, d, doc.ID)
	l, done := d.document(doc.ID)
	defer done()
	require.NoError(t, l.lock(t.Context()))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, err := d.Do(ctx, Change{Document: doc.ID, Seen: s.State.ID, RequestID: "waits", Person: 1, Name: "rotate", Params: json.RawMessage(`{"pages":"1","by":90}`)})
	require.ErrorIs(t, err, context.DeadlineExceeded)
	l.unlock()
	mustDo(t, d, doc.ID, "rotate", `{"pages":"1","by":90}`)
}

// One step undone alone, changed, undone and redone: the trail is a line of acts, each of which can be taken back.
func TestReviseIsUndone(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "doc.pdf", pdftest.Text(4))
	first := mustDo(t, d, doc.ID, "rotate", `{"pages":["0.1"],"by":90}`)
	mustDo(t, d, doc.ID, "rotate", `{"pages":["0.2"],"by":90}`)
	last := mustDo(t, d, doc.ID, "move", `{"pages":["0.4"],"to":"0.1"}`)
	sentences := func() (out []string) {
		for _, s := range trail(t, d, snapshot(t, d, doc.ID)) {
			out = append(out, s.Sentence)
		}
		return out
	}
	all := sentences()
	out, err := d.Revise(t.Context(), Revision{Document: doc.ID, Seen: last.Snapshot.State.ID, Person: 1, Step: first.Step.ID, Params: json.RawMessage(`{"pages":["0.3"],"by":270}`)})
	require.NoError(t, err)
	assert.Equal(t, "“Page 1 rotated right” changed", out.Undone)
	assert.Equal(t, []string{"Page 3 rotated left", all[1], all[2]}, sentences())
	_, err = d.Revise(t.Context(), Revision{Document: doc.ID, Seen: out.Snapshot.State.ID, Person: 1, Step: 999})
	require.ErrorIs(t, err, store.ErrMissing)
	steps := trail(t, d, out.Snapshot)
	out, err = d.Revise(t.Context(), Revision{Document: doc.ID, Seen: out.Snapshot.State.ID, Person: 1, Step: steps[1].ID})
	require.NoError(t, err)
	assert.Equal(t, []string{"Page 3 rotated left", all[2]}, sentences())
	undone, err := d.Undo(t.Context(), doc.ID, out.Snapshot.State.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, "“Page 2 rotated right” undone", undone.Undone)
	assert.Equal(t, []string{"Page 3 rotated left", all[1], all[2]}, sentences())
	undone, err = d.Undo(t.Context(), doc.ID, undone.Snapshot.State.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, all, sentences())
	assert.True(t, bytes.Equal(bytesOf(t, last.Snapshot), bytesOf(t, undone.Snapshot)))
	for range 2 {
		undone, err = d.Redo(t.Context(), doc.ID, undone.Snapshot.State.ID, 1)
		require.NoError(t, err)
	}
	assert.Equal(t, "“Page 2 rotated right” undone", undone.Undone)
	assert.Equal(t, []string{"Page 3 rotated left", all[2]}, sentences())
	assert.False(t, d.CanRedo(t.Context(), undone.Snapshot))

	// A step's page before and after.
	v, err := d.BeforeAfter(t.Context(), 1, doc.ID, trail(t, d, undone.Snapshot)[0].ID)
	require.NoError(t, err)
	assert.Equal(t, step.Key{Ordinal: 3}, v.Page)
	assert.Equal(t, [2]float64{v.Before.H, v.Before.W}, [2]float64{v.After.W, v.After.H})
	gone := mustDo(t, d, doc.ID, "remove", `{"pages":["0.2"]}`)
	v, err = d.BeforeAfter(t.Context(), 1, doc.ID, gone.Step.ID)
	require.NoError(t, err)
	assert.Nil(t, v.After)
	assert.Equal(t, step.Key{Ordinal: 2}, v.Page)
}

// Property: a replay that is cancelled at any moment, or whose commit fails, leaves the trail as it was or as it should be, and the
// next step is done.
func TestReviseCancelled(t *testing.T) {
	dir := t.TempDir()
	d := openDesk(t, dir)
	t.Cleanup(func() { _ = d.Close() })
	doc := bring(t, d, "doc.pdf", pdftest.Text(8))
	for i := range 40 {
		mustDo(t, d, doc.ID, []string{"rotate", "move"}[i%2], []string{fmt.Sprintf(`{"pages":["0.%d"],"by":90}`, i%8+1), fmt.Sprintf(`{"pages":["0.%d"],"to":"end"}`, i%7+1)}[i%2])
	}
	rounds := 40
	if testing.Short() {
		rounds = 8
	}
	cancelled, through := 0, 0
	for i := range rounds {
		before := snapshot(t, d, doc.ID)
		steps := trail(t, d, before)
		target := steps[rand.IntN(len(steps))]
		ctx, cancel := context.WithCancel(t.Context())
		if i%5 != 3 { // one in five is left alone
			go func() {
				time.Sleep(time.Duration(rand.IntN(60*(i%4+1))) * 100 * time.Microsecond)
				cancel()
			}()
		}
		fail := i%5 == 4
		if fail { // the last thing that a commit does is refused
			require.NoError(t, d.db.Exec("CREATE TRIGGER broken BEFORE UPDATE OF head_id ON documents BEGIN SELECT RAISE(ABORT, 'broken'); END").Error)
		}
		out, err := d.Revise(ctx, Revision{Document: doc.ID, Seen: before.State.ID, Person: 1, Step: target.ID})
		cancel()
		if fail {
			require.NoError(t, d.db.Exec("DROP TRIGGER broken").Error)
		}
		now := snapshot(t, d, doc.ID)
		var row Document
		require.NoError(t, d.db.First(&row, doc.ID).Error)
		require.Equal(t, row.HeadID, now.State.ID, "the open document and the stored one agree")
		if err != nil {
			cancelled++
			require.Equal(t, before.State.ID, now.State.ID)
			require.Len(t, trail(t, d, now), len(steps))
			var refusal *step.Refusal
			require.False(t, errors.As(err, &refusal) && strings.Contains(err.Error(), "head"), err)
		} else {
			through++
			require.Equal(t, out.Snapshot.State.ID, now.State.ID)
			require.Len(t, trail(t, d, now), len(steps)-1)
		}
		loaded, err := d.load(t.Context(), row, row.HeadID)
		require.NoError(t, err)
		require.True(t, bytes.Equal(bytesOf(t, now), bytesOf(t, loaded)))
		mustDo(t, d, doc.ID, "rotate", fmt.Sprintf(`{"pages":["0.%d"],"by":90}`, i%8+1))
	}
	assert.NotZero(t, cancelled)
	assert.NotZero(t, through)
	pdftest.Check(t, bytesOf(t, snapshot(t, d, doc.ID)))
}

// The same request twice, also at the same time, adds, combines and hands out once; a name that is taken is refused before anything is
// written; what fails leaves no file.
func TestRequestsOnce(t *testing.T) {
	dir := t.TempDir()
	d := openDesk(t, dir)
	t.Cleanup(func() { _ = d.Close() })
	add := func(request string, data []byte) *Document {
		in, err := d.Store.Create()
		require.NoError(t, err)
		_, err = in.Write(data)
		require.NoError(t, err)
		row, err := d.Arrive(t.Context(), Arrival{Person: 1, Name: "Letter.pdf", RequestID: request}, in)
		require.NoError(t, err)
		return row
	}
	a := add("a", pdftest.Text(2))
	assert.Equal(t, a.ID, add("a", pdftest.Text(2)).ID)
	assert.NotEqual(t, a.ID, add("", pdftest.Text(2)).ID, "without an id each is a request of its own")
	ids := make([]uint, 6)
	var wg sync.WaitGroup
	for i := range ids {
		wg.Go(func() { ids[i] = add("b", pdftest.Text(3)).ID })
	}
	wg.Wait()
	for _, id := range ids {
		assert.Equal(t, ids[0], id)
	}
	combine := Combination{Documents: []uint{a.ID, ids[0]}, Person: 1, RequestID: "c"}
	one, err := d.Combine(t.Context(), &background.Work{}, combine)
	require.NoError(t, err)
	two, err := d.Combine(t.Context(), &background.Work{}, combine)
	require.NoError(t, err)
	assert.Equal(t, one.ID, two.ID)
	assert.Equal(t, Made{Of: "documents", Count: 2}, Made{Of: one.Made.Of, Count: one.Made.Count})
	out := Order{Document: a.ID, Seen: snapshot(t, d, a.ID).State.ID, Person: 1, RequestID: "d", Name: "Letter, final"}
	h, err := d.HandOut(t.Context(), &background.Work{}, out)
	require.NoError(t, err)
	again, err := d.HandOut(t.Context(), &background.Work{}, out)
	require.NoError(t, err)
	assert.Equal(t, h.ID, again.ID)
	_, err = d.HandOut(t.Context(), &background.Work{}, Order{Document: a.ID, Seen: out.Seen, Person: 2, RequestID: "d", Name: "Another"})
	require.Error(t, err, "an id is one person's: nobody gets another's file by it")
	files := func() (n int) {
		require.NoError(t, filepath.WalkDir(filepath.Join(dir, "files"), func(_ string, e os.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				n++
			}
			return err
		}))
		return n
	}
	had := files()
	out.RequestID, out.Name = "e", "LETTER, FINAL"
	_, err = d.HandOut(t.Context(), &background.Work{}, out)
	require.ErrorContains(t, err, "use another name")
	assert.Equal(t, had, files())
	// The same name, asked for twice at once: one file leaves, nothing of the other stays.
	errs := make([]error, 4)
	for i := range errs {
		wg.Go(func() {
			_, errs[i] = d.HandOut(context.Background(), &background.Work{}, Order{Document: a.ID, Seen: out.Seen, Person: 1, Name: "At once"})
		})
	}
	wg.Wait()
	failed := 0
	for _, err := range errs {
		if err != nil {
			failed++
		}
	}
	assert.Equal(t, 3, failed)
	assert.Equal(t, had+1, files())
	assert.Zero(t, d.Store.Pinned())
	_, err = d.Do(t.Context(), Change{Document: a.ID, Seen: out.Seen, RequestID: "f", Name: "rotate", Params: json.RawMessage(`{"pages":"1","by":90}`)})
	require.ErrorIs(t, err, people.ErrNobody, "every act is somebody's")
}

// Trails and step files of before are read: old names of steps, of their parameters and of values.
func TestOldNames(t *testing.T) {
	g := jobs.Registry()
	s, err := g.New("turn", json.RawMessage(`{"pages":"1","by":90}`))
	require.NoError(t, err)
	assert.IsType(t, &arrange.Rotate{}, s)
	s, err = g.New("take-out", json.RawMessage(`{"pages":"1"}`))
	require.NoError(t, err)
	assert.IsType(t, &arrange.Remove{}, s)
	s, err = g.New("number", json.RawMessage(`{"pages":"all","edge":"head","align":"middle","face":"Serif","wording":[{"field":"page"}]}`))
	require.NoError(t, err)
	v := s.(*furnish.Number).Values
	assert.Equal(t, [3]string{"top", "centre", "Serif"}, [3]string{v.Edge, v.Align, v.Font})
	for text, want := range map[string]Made{
		"a JPEG picture": {Of: "picture", Picture: "JPEG"}, "4 documents": {Of: "documents", Count: 4},
		"1,204 documents. Links fell away. More.": {Of: "documents", Count: 1204, Warnings: []string{"Links fell away. More."}}, "": {},
	} {
		assert.Equal(t, want, readMade(text))
	}
}

// A document whose text can't be read is passed over by the reader in the background until it has a new base; whoever looks for something
// in it is told.
func TestUnreadable(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "doc.pdf", pdftest.Text(2))
	require.NoError(t, d.ReadAll(t.Context(), 1))
	mustDo(t, d, doc.ID, "rotate", `{"pages":"1","by":90}`)
	require.NoError(t, d.db.Exec("CREATE TRIGGER broken BEFORE UPDATE ON page_texts BEGIN SELECT RAISE(ABORT, 'broken'); END").Error)
	row := func() (r Document) {
		require.NoError(t, d.db.First(&r, doc.ID).Error)
		return r
	}
	require.Eventually(t, func() bool {
		require.NoError(t, d.ReadAll(t.Context(), 1))
		return row().Unreadable
	}, 5*time.Second, 20*time.Millisecond)
	_, err := d.Find(t.Context(), snapshot(t, d, doc.ID), layout.Query{Text: "page"})
	require.Error(t, err)
	require.NoError(t, d.db.Exec("DROP TRIGGER broken").Error)
	mustDo(t, d, doc.ID, "rotate", `{"pages":"1","by":90}`)
	require.NoError(t, d.ReadAll(t.Context(), 1))
	assert.NotEqual(t, row().HeadID, row().TextID, "not tried again after a change")
	found, err := d.Find(t.Context(), snapshot(t, d, doc.ID), layout.Query{Text: "page"})
	require.NoError(t, err)
	assert.Equal(t, 2, found.Hits, "and read when somebody asks")
}

// A row's picture is known without opening the document; lists go on where they were left, and have an order that ties can't upset.
func TestLists(t *testing.T) {
	if testing.Short() {
		t.Skip("takes its time; nothing in it happens at once")
	}
	dir := t.TempDir()
	d := openDesk(t, dir)
	at := time.Date(2027, 1, 1, 9, 0, 0, 0, time.UTC)
	for i := range 7 {
		row := bring(t, d, fmt.Sprintf("Paper %d.pdf", i), pdftest.Text(2))
		require.NoError(t, d.db.Model(row).UpdateColumn("changed_at", at.Add(time.Duration(i/3)*time.Hour)).Error)
		_, err := d.HandOut(t.Context(), &background.Work{}, Order{Document: row.ID, Seen: row.HeadID, Person: 1, Name: fmt.Sprintf("Ölpier %d", i)})
		require.NoError(t, err)
	}
	var names []string
	for after := uint(0); ; {
		part, err := d.Documents(t.Context(), Listing{Person: 1, After: after, Most: 2})
		require.NoError(t, err)
		if len(part) == 0 {
			break
		}
		for _, r := range part {
			names = append(names, r.Name)
		}
		after = part[len(part)-1].ID
	}
	assert.Equal(t, []string{"Paper 6", "Paper 5", "Paper 4", "Paper 3", "Paper 2", "Paper 1", "Paper 0"}, names)
	outs, err := d.HandOuts(t.Context(), 0, Listing{Person: 1, Most: 3})
	require.NoError(t, err)
	more, err := d.HandOuts(t.Context(), 0, Listing{Person: 1, After: outs[2].ID, Most: 3})
	require.NoError(t, err)
	assert.Equal(t, "Ölpier 3.pdf", more[0].Name)
	free, err := d.FreeName(t.Context(), 1, "ÖLPIER 3")
	require.NoError(t, err)
	assert.Equal(t, "ÖLPIER 3 2", free, "names are compared in lower case, whatever their letters")
	found, err := d.Search(t.Context(), 1, "PAPER 4", 5)
	require.NoError(t, err)
	assert.Len(t, found, 1)

	mustDo(t, d, 1, "move", `{"pages":["0.2"],"to":"0.1"}`)
	changed := mustDo(t, d, 1, "rotate", `{"pages":["0.2"],"by":90}`)
	want, err := d.FirstPicture(t.Context(), 1, 1, 80)
	require.NoError(t, err)
	direct, err := d.Picture(t.Context(), 1, 1, step.Key{Ordinal: 2}, changed.Step.ID, 80, 80)
	require.NoError(t, err)
	assert.Equal(t, direct, want)
	require.NoError(t, d.Close())
	d = openDesk(t, dir)
	got, err := d.FirstPicture(t.Context(), 1, 1, 80)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	assert.Empty(t, d.live, "no document was opened for it")
	require.NoError(t, d.Close())
}
