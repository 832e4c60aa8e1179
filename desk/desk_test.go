package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

func TestMain(m *testing.M) {
	child.Main()
	people.CheapHashesForTests() // hundreds of people sign in
	os.Exit(m.Run())
}

func openEmpty(t *testing.T, dir string) *Desk {
	t.Helper()
	at := time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)
	var mu sync.Mutex
	d, err := Open(dir, Options{PDFiumCache: raster.CacheForTests(), Now: func() time.Time {
		mu.Lock()
		defer mu.Unlock()
		at = at.Add(time.Second)
		return at
	}})
	require.NoError(t, err)
	return d
}

// openDesk opens a data folder in which person 1 does what tests do.
func openDesk(t *testing.T, dir string) *Desk {
	d := openEmpty(t, dir)
	empty, err := d.Empty(t.Context())
	require.NoError(t, err)
	if empty {
		somebody(t, d, "isla", people.Administrator)
	}
	return d
}

func newDesk(t *testing.T) *Desk {
	d := openDesk(t, t.TempDir())
	t.Cleanup(func() { _ = d.Close() })
	return d
}

// somebody sets up a person without a password.
func somebody(t *testing.T, d *Desk, name string, role people.Role) uint {
	t.Helper()
	p := &people.Person{Name: name, SignIn: name, Role: role, CreatedAt: time.Now()}
	require.NoError(t, d.db.Create(p).Error)
	return p.ID
}

func arrive(t *testing.T, d *Desk, name string, data []byte) (*Document, error) {
	t.Helper()
	in, err := d.Store.Create()
	require.NoError(t, err)
	_, err = in.Write(data)
	require.NoError(t, err)
	return d.Arrive(t.Context(), Arrival{Person: 1, Name: name}, in)
}

func bring(t *testing.T, d *Desk, name string, data []byte) *Document {
	t.Helper()
	row, err := arrive(t, d, name, data)
	require.NoError(t, err)
	return row
}

var requests int

func do(t *testing.T, d *Desk, doc, seen uint, name, params string) (*Outcome, error) {
	t.Helper()
	requests++
	return d.Do(t.Context(), Change{Document: doc, Seen: seen, RequestID: fmt.Sprint("r", requests), Person: 1, Name: name, Params: json.RawMessage(params)})
}

func mustDo(t *testing.T, d *Desk, doc uint, name, params string) *Outcome {
	t.Helper()
	s, err := d.Snapshot(t.Context(), doc)
	require.NoError(t, err)
	out, err := do(t, d, doc, s.State.ID, name, params)
	require.NoError(t, err)
	return out
}

// trail gives the steps that led to a snapshot, the first one first.
func trail(t *testing.T, d *Desk, s *Snapshot) []Step {
	t.Helper()
	steps, err := d.Trail(t.Context(), s, 0, 10_000)
	require.NoError(t, err)
	slices.Reverse(steps)
	return steps
}

func bytesOf(t *testing.T, s *Snapshot) []byte {
	t.Helper()
	b, err := io.ReadAll(io.NewSectionReader(s.PDF.Source(), 0, s.PDF.Size()))
	require.NoError(t, err)
	return b
}

func photo(t *testing.T) []byte {
	img := image.NewRGBA(image.Rect(0, 0, 300, 200))
	for i := range img.Pix {
		img.Pix[i] = byte(i * i >> 7)
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, nil))
	return b.Bytes()
}

func TestArrive(t *testing.T) {
	d := newDesk(t)
	row := bring(t, d, `C:\papers\Survey.pdf`, pdftest.Text(3))
	assert.Equal(t, "Survey", row.Name)
	assert.Equal(t, 3, row.Pages)
	assert.Equal(t, "several sizes", row.Paper, "one page is turned")
	assert.NotZero(t, row.Weight)
	pic := bring(t, d, "quay.jpg", photo(t))
	assert.Equal(t, [3]any{1, "a JPEG picture", "79 × 53 mm"}, [3]any{pic.Pages, pic.Made.String(), pic.Paper})
	assert.Contains(t, pic.Found()[0].Sentence, "without text")
	shifted := bring(t, d, "shifted.pdf", append([]byte("junk before\n"), pdftest.Text(2)...))
	assert.Equal(t, 2, shifted.Pages)

	_, err := arrive(t, d, "notes.pdf", []byte("Minutes of the berth meeting"))
	var refused *Refused
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "the file is plain text, not a PDF; nothing was changed", refused.Sentence)
	_, err = arrive(t, d, "stub.pdf", []byte("%PDF-1.7\nnothing more"))
	require.ErrorAs(t, err, &refused)
	// A damaged file is mended, and it is said what was wrong.
	whole := pdftest.Text(3)
	cut := bring(t, d, "cut.pdf", whole[:bytes.LastIndex(whole, []byte("\nxref\n"))])
	assert.Equal(t, 3, cut.Pages)
	assert.Equal(t, "was damaged and has been repaired: its table of objects was rebuilt", cut.Found()[0].Sentence)
	mustDo(t, d, cut.ID, "rotate", `{"pages":"1","by":90}`)
	snap, err := d.Snapshot(t.Context(), cut.ID)
	require.NoError(t, err)
	pdftest.Check(t, bytesOf(t, snap))
	// One that the renderer does not open as it is gets a working copy that it does: its object streams don't say what they are.
	odd := bring(t, d, "odd.pdf", bytes.ReplaceAll(pdftest.Whole(t, pdftest.Open(t, pdftest.Text(4))), []byte("/Type/ObjStm"), []byte("/Type/Soundg")))
	assert.True(t, odd.Working)
	assert.Empty(t, odd.Mended, "an oddity, no damage")
	drawn, err := d.Picture(t.Context(), 1, odd.ID, step.Key{Ordinal: 4}, 0, 200, 200)
	require.NoError(t, err)
	assert.NotEmpty(t, drawn)
	assert.False(t, row.Working, "a sound file stays as it came")
	left, err := os.ReadDir(d.dir + "/coming")
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left of a refused file")
	all, err := d.Documents(t.Context(), Listing{Person: 1, Most: 100})
	require.NoError(t, err)
	assert.Len(t, all, 5)
}

// A trail of 300 steps: each undone and redone gives the same bytes as before, and the
// trail run again from the base gives the same updates.
func TestLongTrail(t *testing.T) {
	if testing.Short() {
		t.Skip("takes its time; nothing in it happens at once")
	}
	d := newDesk(t)
	doc := bring(t, d, "long.pdf", pdftest.Text(20))
	d2 := bring(t, d, "other.pdf", pdftest.Text(4))
	other, err := d.Snapshot(t.Context(), d2.ID)
	require.NoError(t, err)
	n := 300
	if testing.Short() {
		n = 60
	}
	files := map[uint][]byte{}
	s, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	files[s.State.ID] = bytesOf(t, s)
	for i := range n {
		name, params := "rotate", fmt.Sprintf(`{"pages":"%d","by":90}`, i%10+1)
		switch {
		case i%10 == 3:
			name, params = "move", fmt.Sprintf(`{"pages":["0.%d"],"to":"end"}`, i/10%9+1)
		case i%50 == 7:
			name, params = "insert", fmt.Sprintf(`{"from":"state:%d","pages":"2-3","to":%d}`, other.State.ID, i%9+1)
		case i%50 == 15:
			name, params = "remove", `{"pages":"12"}`
		case i == 20:
			name, params = "number", `{"pages":"all but first"}`
		case i%60 == 40:
			name, params = "furnishing-update", fmt.Sprintf(`{"id":%q}`, draw.List(s.PDF)[0].ID)
		}
		out := mustDo(t, d, doc.ID, name, params)
		s = out.Snapshot
		files[s.State.ID] = bytesOf(t, s)
	}
	tip := s.State.ID
	for range n {
		out, err := d.Undo(t.Context(), doc.ID, s.State.ID, 1)
		require.NoError(t, err)
		s = out.Snapshot
		require.True(t, bytes.Equal(files[s.State.ID], bytesOf(t, s)))
	}
	_, err = d.Undo(t.Context(), doc.ID, s.State.ID, 1)
	var refusal *step.Refusal
	require.ErrorAs(t, err, &refusal)
	for range n {
		out, err := d.Redo(t.Context(), doc.ID, s.State.ID, 1)
		require.NoError(t, err)
		s = out.Snapshot
		require.True(t, bytes.Equal(files[s.State.ID], bytesOf(t, s)))
	}
	assert.Equal(t, tip, s.State.ID)
	_, err = d.Redo(t.Context(), doc.ID, s.State.ID, 1)
	require.ErrorAs(t, err, &refusal)

	updates, err := d.Replay(t.Context(), doc.ID)
	require.NoError(t, err)
	require.Len(t, updates, n)
	steps := trail(t, d, s)
	for i, st := range steps {
		var row Step
		require.NoError(t, d.db.First(&row, st.ID).Error)
		stored, err := d.updateOf(&row)
		require.NoError(t, err)
		require.True(t, bytes.Equal(stored, updates[i]), "run again, the trail gives the same update %d", i)
	}
	pdftest.Check(t, files[tip])

	if n < foldAfter {
		return
	}
	// The long trail is read through a fold, and is the same document as without it.
	states, err := d.chain(t.Context(), doc.ID, tip)
	require.NoError(t, err)
	require.Len(t, states, n-foldAfter+1, "no state before the fold is read")
	require.NotEmpty(t, states[0].FoldSHA)
	assert.Equal(t, foldAfter, states[0].Depth)
	assert.Equal(t, n-foldAfter+1, s.unfolded())
	opened, err := d.load(t.Context(), s.Document, tip)
	require.NoError(t, err)
	assert.Equal(t, s.Pages(), opened.Pages(), "keys and versions of pictures are known from the fold on")
	whole, err := d.load(t.Context(), s.Document, states[0].ID)
	require.NoError(t, err)
	assert.Equal(t, foldAfter, whole.unfolded(), "the state itself is read through its own updates")
	folded, err := d.fold(whole)
	require.NoError(t, err)
	assert.Equal(t, pdftest.Whole(t, whole.PDF), pdftest.Whole(t, folded.PDF))
	pdftest.Check(t, bytesOf(t, folded))
	key := whole.Pages()[3].Key
	assert.Equal(t, drawPage(t, d, whole, key), drawPage(t, d, folded, key))
}

func drawPage(t *testing.T, d *Desk, s *Snapshot, k step.Key) []byte {
	t.Helper()
	pic, err := d.pool.Render(t.Context(), raster.Request{Source: s.source(), Page: s.Index(k), Width: 200, Height: 200, Format: raster.Raw})
	require.NoError(t, err)
	return pic.Data
}

func TestRevise(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "doc.pdf", pdftest.Text(5))
	mustDo(t, d, doc.ID, "move", `{"pages":["0.1"],"to":"end"}`)
	middle := mustDo(t, d, doc.ID, "rotate", `{"pages":["0.4"],"by":90}`)
	last := mustDo(t, d, doc.ID, "move", `{"pages":["0.5"],"to":"0.2"}`)
	before := last.Snapshot
	ref, _ := before.Keys.Ref(step.Key{Ordinal: 4})
	require.Equal(t, 90, before.PDF.Geometry(ref).Rotate)

	out, err := d.Revise(t.Context(), Revision{Document: doc.ID, Seen: before.State.ID, Person: 1, Step: middle.Step.ID})
	require.NoError(t, err)
	assert.Equal(t, 0, out.Snapshot.PDF.Geometry(ref).Rotate)
	want := []string{"Page 5", "Page 2", "Page 3", "Page 4", "Page 1"}
	assert.Equal(t, want, pdftest.PageTexts(t, pdftest.Whole(t, out.Snapshot.PDF)))
	assert.Len(t, trail(t, d, out.Snapshot), 2)

	// A step that the later ones need can't go: nothing is changed.
	src := bring(t, d, "src.pdf", pdftest.Text(2))
	srcSnap, err := d.Snapshot(t.Context(), src.ID)
	require.NoError(t, err)
	ins := mustDo(t, d, doc.ID, "insert", fmt.Sprintf(`{"from":"state:%d","to":"end"}`, srcSnap.State.ID))
	key := ins.Step.keys()[0]
	after := mustDo(t, d, doc.ID, "rotate", fmt.Sprintf(`{"pages":[%q],"by":90}`, key))
	_, err = d.Revise(t.Context(), Revision{Document: doc.ID, Seen: after.Snapshot.State.ID, Person: 1, Step: ins.Step.ID})
	require.ErrorContains(t, err, "depends on this step")
	s, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.Equal(t, after.Snapshot.State.ID, s.State.ID)
}

// Two windows on one document: nothing is lost and nothing is done twice.
func TestTwoWindows(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "doc.pdf", pdftest.Text(6))
	s, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	seen := s.State.ID
	c := Change{Document: doc.ID, Seen: seen, RequestID: "same", Person: 1, Name: "rotate", Params: json.RawMessage(`{"pages":["0.2"],"by":90}`)}
	first, err := d.Do(t.Context(), c)
	require.NoError(t, err)
	again, err := d.Do(t.Context(), c)
	require.NoError(t, err)
	assert.Equal(t, first.Snapshot.State.ID, again.Snapshot.State.ID, "the same request does nothing more")

	// The other window still shows the old state: other pages may be changed ...
	_, err = do(t, d, doc.ID, seen, "rotate", `{"pages":["0.5"],"by":90}`)
	require.NoError(t, err)
	// ... the same page, or what a rule means, may not.
	var conflict *Conflict
	_, err = do(t, d, doc.ID, seen, "rotate", `{"pages":["0.2"],"by":90}`)
	require.ErrorAs(t, err, &conflict)
	_, err = do(t, d, doc.ID, seen, "rotate", `{"pages":"odd","by":90}`)
	require.ErrorAs(t, err, &conflict)
	_, err = d.Undo(t.Context(), doc.ID, seen, 1)
	require.ErrorAs(t, err, &conflict)
	assert.Len(t, trail(t, d, conflict.Head), 2)

	// Many at once: each is done once.
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			_, err := d.Do(context.Background(), Change{Document: doc.ID, Seen: conflict.Head.State.ID, RequestID: fmt.Sprint("p", i%4), Person: 1,
				Name: "rotate", Params: json.RawMessage(fmt.Sprintf(`{"pages":["0.%d"],"by":90}`, []int{1, 3, 4, 6}[i%4]))})
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	s, err = d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.Len(t, trail(t, d, s), 6)
}

func TestCombineAndHandOut(t *testing.T) {
	dir := t.TempDir()
	d := openDesk(t, dir)
	a, b := bring(t, d, "Letter.pdf", pdftest.Text(2)), bring(t, d, "Survey.pdf", pdftest.Text(3))
	p := bring(t, d, "quay.jpg", photo(t))
	w := d.Start(1, "Combine", func(ctx context.Context, w *background.Work) (any, error) {
		return d.Combine(ctx, w, Combination{Person: 1, Documents: []uint{b.ID, p.ID, a.ID}, Name: "Winter papers"})
	})
	prog := w.Wait(t.Context())
	require.NoError(t, prog.Err)
	require.Equal(t, background.WorkDone, prog.State)
	doc := prog.Result.(*Document)
	assert.Equal(t, 6, doc.Pages)
	mustDo(t, d, doc.ID, "number", `{"pages":"all but first","first":2}`)
	moved := mustDo(t, d, doc.ID, "move", `{"pages":["0.2"],"to":"end"}`)
	seen := moved.Snapshot.State.ID

	quiet := &background.Work{}
	var asks *Asks
	_, err := d.HandOut(t.Context(), quiet, Order{Document: doc.ID, Seen: seen, Person: 1, Name: "Out"})
	require.ErrorAs(t, err, &asks, "stale numbers are asked about")
	_, err = d.HandOut(t.Context(), quiet, Order{Document: doc.ID, Seen: seen - 1, Person: 1, Name: "Out"})
	var conflict *Conflict
	require.ErrorAs(t, err, &conflict)
	mustDo(t, d, doc.ID, "furnishing-update", `{}`)
	s, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	h, err := d.HandOut(t.Context(), quiet, Order{Document: doc.ID, Seen: s.State.ID, Person: 1, Name: "Winter papers 2027.pdf"})
	require.NoError(t, err)
	assert.Equal(t, [2]any{"Winter papers 2027.pdf", 6}, [2]any{h.Name, h.Pages})
	file, err := os.ReadFile(d.Store.Path(h.SHA))
	require.NoError(t, err)
	pdftest.Check(t, file)
	assert.Equal(t, []string{"Page 1", "Page 3 2", "3", "Page 1 4", "Page 2 5", "Page 2 6"}, pdftest.PageTexts(t, file))
	_, err = d.HandOut(t.Context(), quiet, Order{Document: doc.ID, Seen: s.State.ID, Person: 1, Name: "winter papers 2027"})
	require.ErrorContains(t, err, "use another name")
	free, err := d.FreeName(t.Context(), 1, "Winter papers 2027")
	require.NoError(t, err)
	assert.Equal(t, "Winter papers 2027 2", free)
	_, err = d.HandOut(t.Context(), quiet, Order{Document: doc.ID, Seen: s.State.ID, Person: 1, Replace: true})
	require.NoError(t, err)

	// After a restart all is there, and only one server works on a folder.
	_, err = Open(dir, Options{PDFiumCache: raster.CacheForTests()})
	require.ErrorIs(t, err, ErrInUse)
	before := bytesOf(t, s)
	require.NoError(t, d.Close())
	d = openDesk(t, dir)
	t.Cleanup(func() { _ = d.Close() })
	s2, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(before, bytesOf(t, s2)))
	assert.Len(t, trail(t, d, s2), 3)
	outs, err := d.HandOuts(t.Context(), doc.ID, Listing{Person: 1, Most: 10})
	require.NoError(t, err)
	assert.Len(t, outs, 2)
	assert.True(t, d.CanRedo(t.Context(), s2) == false)
}

func TestPicturesAndPreview(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "doc.pdf", pdftest.Text(4))
	s, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	key := step.Key{Ordinal: 1}
	upright, err := d.Picture(t.Context(), 1, doc.ID, key, 0, 200, 200)
	require.NoError(t, err)
	pre, err := d.Preview(t.Context(), Change{Document: doc.ID, Seen: s.State.ID, Person: 1, Name: "rotate", Params: json.RawMessage(`{"pages":["0.1"],"by":90}`)}, Previewed{At: key, W: 200, H: 200})
	require.NoError(t, err)
	assert.NotEqual(t, upright, pre.Picture.Data)
	// Another page is shown where the step does not concern the one that is looked at; and no more is done than that page takes.
	number := func(pages string, v Previewed) *Preview {
		v.W, v.H = 200, 200
		p, err := d.Preview(t.Context(), Change{Document: doc.ID, Seen: s.State.ID, Person: 1, Name: "number", Params: json.RawMessage(`{"pages":"` + pages + `"}`)}, v)
		require.NoError(t, err)
		return p
	}
	fourth := step.Key{Ordinal: 4}
	for _, c := range []struct {
		pages string
		v     Previewed
		want  uint32
		forms int
	}{
		{"2-", Previewed{At: fourth, Else: true}, 4, 1}, {"2-3", Previewed{At: fourth, Else: true}, 2, 1}, {"2-3", Previewed{At: fourth}, 4, 0},
		{"2-", Previewed{}, 2, 3}, {"all but 2", Previewed{At: step.Key{Ordinal: 2}, Else: true}, 1, 1},
	} {
		p := number(c.pages, c.v)
		assert.EqualValues(t, c.want, p.Key.Ordinal, "%+v", c)
		assert.EqualValues(t, c.want-1, p.Page)
		assert.Equal(t, c.forms, bytes.Count(p.Result.Update, []byte("/Subtype/Form")), "%+v", c)
	}

	out := mustDo(t, d, doc.ID, "rotate", `{"pages":["0.1"],"by":90}`)
	v := out.Snapshot.Pages()[0].Version
	assert.Equal(t, out.Step.ID, v)
	turned, err := d.Picture(t.Context(), 1, doc.ID, key, v, 200, 200)
	require.NoError(t, err)
	assert.Equal(t, pre.Picture.Data, turned, "the preview is the result")
	assert.Equal(t, uint(0), out.Snapshot.Pages()[1].Version, "other pages keep their pictures")
	// The old version can still be drawn when its picture was lost.
	require.NoError(t, os.RemoveAll(d.pictures.dir))
	old, err := d.Picture(t.Context(), 1, doc.ID, key, 0, 200, 200)
	require.NoError(t, err)
	assert.Equal(t, upright, old)
	_, err = d.Picture(t.Context(), 1, doc.ID, step.Key{Ordinal: 99}, 0, 200, 200)
	assert.ErrorIs(t, err, store.ErrMissing)
}

func TestPeople(t *testing.T) {
	d := openEmpty(t, t.TempDir())
	t.Cleanup(func() { _ = d.Close() })
	empty, err := d.Empty(t.Context())
	require.NoError(t, err)
	require.True(t, empty)
	token, err := d.InviteFirst(t.Context(), time.Hour)
	require.NoError(t, err)
	in, err := d.InviteFor(t.Context(), token)
	require.NoError(t, err)
	assert.Equal(t, people.InviteFirst, in.Kind)
	p, err := d.Accept(t.Context(), token, people.Accepted{Name: "Isla Merrow", SignIn: "Isla", Password: "low water springs"})
	require.NoError(t, err)
	assert.Equal(t, "IM", p.Initials())
	assert.Equal(t, people.Administrator, p.Role)
	_, err = d.Accept(t.Context(), token, people.Accepted{Name: "Isla Merrow", SignIn: "Isla2", Password: "low water springs"})
	require.ErrorIs(t, err, people.ErrInvite)
	_, err = d.InviteFor(t.Context(), token)
	require.ErrorIs(t, err, people.ErrInvite)

	got, err := d.SignIn(t.Context(), " ISLA ", "low water springs")
	require.NoError(t, err)
	assert.Equal(t, p.ID, got.ID)
	for _, c := range [][2]string{{"isla", "wrong"}, {"nobody", "low water springs"}, {"", ""}} {
		_, err = d.SignIn(t.Context(), c[0], c[1])
		require.ErrorIs(t, err, people.ErrSignIn)
	}
	var bad *people.BadPerson
	for _, c := range [][3]string{{"", "x", "long enough pw"}, {"X", "a b", "long enough pw"}, {"X", "x", "short"}, {"Isla", "isla", "long enough pw"}} {
		_, err = d.AddPerson(t.Context(), c[0], c[1], c[2])
		require.ErrorAs(t, err, &bad)
	}
	s := d.Sessions()
	require.NoError(t, s.Commit("token", []byte("data"), time.Now().Add(time.Hour)))
	data, ok, err := s.Find("token")
	require.NoError(t, err)
	assert.Equal(t, "data", string(data))
	assert.True(t, ok)
	require.NoError(t, s.Delete("token"))
	_, ok, err = s.Find("token")
	require.NoError(t, err)
	assert.False(t, ok)
}

func TestWork(t *testing.T) {
	d := newDesk(t)
	started := make(chan struct{})
	w := d.Start(1, "slow", func(ctx context.Context, w *background.Work) (any, error) {
		w.Set(1, 10)
		close(started)
		<-ctx.Done()
		return nil, ctx.Err()
	})
	<-started
	assert.Equal(t, background.WorkRunning, w.Look().State)
	w.Cancel()
	assert.Equal(t, background.WorkCancelled, w.Wait(t.Context()).State)
	w = d.Start(1, "faulty", func(context.Context, *background.Work) (any, error) { panic("x") })
	assert.Equal(t, background.WorkFailed, w.Wait(t.Context()).State)
	w = d.Start(1, "failing", func(context.Context, *background.Work) (any, error) { return nil, errors.New("no") })
	assert.EqualError(t, w.Wait(t.Context()).Err, "no")
	_, err := d.Work(999)
	assert.ErrorIs(t, err, store.ErrMissing)
}

func TestBin(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Tide table.pdf", pdftest.Text(1))
	_, err := d.Rename(t.Context(), 1, doc.ID, "  Tide table: January / 2027 ")
	require.NoError(t, err)
	found, err := d.Search(t.Context(), 1, "january TIDE", 5)
	require.NoError(t, err)
	require.Len(t, found, 1)
	require.NoError(t, d.Bin(t.Context(), 1, []uint{doc.ID}))
	here, away, _, err := d.Counts(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, [2]int64{0, 1}, [2]int64{here, away})
	require.NoError(t, d.Restore(t.Context(), 1, []uint{doc.ID}))
	list, err := d.Documents(t.Context(), Listing{Person: 1, Most: 100})
	require.NoError(t, err)
	assert.Len(t, list, 1)
	assert.ErrorIs(t, d.Bin(t.Context(), 1, []uint{99}), store.ErrMissing)
}

// The last resort for a file that our reader does not understand: what the renderer's library saves of it.
func TestSaved(t *testing.T) {
	d := newDesk(t)
	of := func(data []byte) (int, error) {
		in, err := d.Store.Create()
		require.NoError(t, err)
		defer in.Drop()
		_, err = in.Write(data)
		require.NoError(t, err)
		copied, err := d.Store.Create()
		require.NoError(t, err)
		defer copied.Drop()
		r, err := d.saved(t.Context(), in, copied)
		if err != nil {
			return 0, err
		}
		sha, err := copied.KeepWritten()
		require.NoError(t, err)
		f, err := d.Store.Open(sha)
		require.NoError(t, err)
		defer f.Close()
		doc, err := pdf.Open(f, copied.Size)
		require.NoError(t, err)
		assert.Len(t, pdftest.Refs(t, doc), r.Pages)
		return r.Pages, nil
	}
	whole := pdftest.Text(6)
	pages, err := of(whole[:bytes.LastIndex(whole, []byte("startxref"))])
	require.NoError(t, err)
	assert.Equal(t, 6, pages)
	_, err = of([]byte("%PDF-1.7\nMinutes of the berth meeting"))
	assert.Error(t, err)
}
