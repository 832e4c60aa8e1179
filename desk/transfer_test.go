package desk

import (
	"archive/zip"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/naming"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
)

// wholeTexts reads a document's pages at its head, by another program.
func wholeTexts(t *testing.T, d *Desk, id uint) string {
	t.Helper()
	s, err := d.Snapshot(t.Context(), id)
	require.NoError(t, err)
	return strings.Join(pdftest.PageTexts(t, pdftest.Whole(t, s.PDF)), ",")
}

func headOf(t *testing.T, d *Desk, id uint) *Snapshot {
	t.Helper()
	s, err := d.Snapshot(t.Context(), id)
	require.NoError(t, err)
	return s
}

// A move between documents is one act: stored in both, undone and redone in both, from either.
func TestMoveBetween(t *testing.T) {
	d := newDesk(t)
	a, b := bring(t, d, "Berths.pdf", pdftest.Text(4)), bring(t, d, "Tides.pdf", pdftest.Text(3))
	move := Transfer{From: a.ID, To: b.ID, SeenFrom: a.HeadID, SeenTo: b.HeadID, Person: 1, RequestID: "m1", Pages: step.Pages{Keys: []step.Key{{Ordinal: 2}, {Ordinal: 4}}},
		Place: step.Place{Before: step.Key{Ordinal: 2}}}
	out, err := d.Transfer(t.Context(), move)
	require.NoError(t, err)
	assert.Equal(t, "2 pages moved from “Berths” into “Tides”", out.Sentence)
	assert.Equal(t, "Page 1,Page 3", wholeTexts(t, d, a.ID))
	assert.Equal(t, "Page 1,Page 2,Page 4,Page 2,Page 3", wholeTexts(t, d, b.ID))
	assert.Equal(t, "Pages 2, 4 removed, into “Tides”", out.From.Step.Sentence)
	again, err := d.Transfer(t.Context(), move) // the same request once more
	require.NoError(t, err)
	assert.Equal(t, out.To.Step.ID, again.To.Step.ID)
	assert.Equal(t, "Page 1,Page 3", wholeTexts(t, d, a.ID))

	undone, err := d.Undo(t.Context(), b.ID, headOf(t, d, b.ID).State.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, "Berths", undone.Other)
	assert.Equal(t, "Page 1,Page 2,Page 3,Page 4", wholeTexts(t, d, a.ID))
	assert.Equal(t, "Page 1,Page 2,Page 3", wholeTexts(t, d, b.ID))
	redone, err := d.Redo(t.Context(), a.ID, headOf(t, d, a.ID).State.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, "Tides", redone.Other)
	assert.Equal(t, "Page 1,Page 3", wholeTexts(t, d, a.ID))
	assert.Equal(t, "Page 1,Page 2,Page 4,Page 2,Page 3", wholeTexts(t, d, b.ID))

	// The other one was changed since: nothing is undone by halves.
	_, err = d.Do(t.Context(), Change{Document: b.ID, Seen: headOf(t, d, b.ID).State.ID, RequestID: "r", Person: 1, Name: "rotate", Params: json.RawMessage(`{"pages":"1","by":90}`)})
	require.NoError(t, err)
	_, err = d.Undo(t.Context(), a.ID, headOf(t, d, a.ID).State.ID, 1)
	assert.ErrorContains(t, err, "“Tides”, which was changed since")
	assert.Equal(t, "Page 1,Page 3", wholeTexts(t, d, a.ID))
	_, err = d.Undo(t.Context(), b.ID, headOf(t, d, b.ID).State.ID, 1)
	require.NoError(t, err)
	_, err = d.Undo(t.Context(), a.ID, headOf(t, d, a.ID).State.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, "Page 1,Page 2,Page 3,Page 4", wholeTexts(t, d, a.ID))

	// All pages, the wrong state, the same document: refused, and nothing is changed.
	all := move
	all.RequestID, all.Pages, all.SeenFrom, all.SeenTo = "m2", step.Pages{Rule: "all"}, headOf(t, d, a.ID).State.ID, headOf(t, d, b.ID).State.ID
	_, err = d.Transfer(t.Context(), all)
	assert.ErrorContains(t, err, "needs at least one page")
	stale := all
	stale.Pages, stale.SeenTo = step.Pages{Keys: []step.Key{{Ordinal: 1}}}, b.HeadID+1000
	stale.Place = step.Place{Number: 1}
	_, err = d.Transfer(t.Context(), stale)
	var conflict *Conflict
	require.ErrorAs(t, err, &conflict)
	same := all
	same.To = same.From
	_, err = d.Transfer(t.Context(), same)
	assert.ErrorContains(t, err, "the same document")
	assert.Equal(t, "Page 1,Page 2,Page 3,Page 4", wholeTexts(t, d, a.ID))
	assert.Equal(t, "Page 1,Page 2,Page 3", wholeTexts(t, d, b.ID))

	copied := all
	copied.RequestID, copied.Copy = "m3", true
	_, err = d.Transfer(t.Context(), copied)
	require.NoError(t, err)
	assert.Equal(t, "Page 1,Page 2,Page 3,Page 4", wholeTexts(t, d, a.ID))
	assert.Equal(t, 7, headOf(t, d, b.ID).Document.Pages)
}

// Somebody who may not change the other document can't move its pages, nor undo that.
func TestMoveBetweenRights(t *testing.T) {
	d := newDesk(t)
	reader := somebody(t, d, "reader", people.Reader)
	a, b := bring(t, d, "Berths.pdf", pdftest.Text(4)), bring(t, d, "Tides.pdf", pdftest.Text(3))
	_, err := d.Transfer(t.Context(), Transfer{From: a.ID, To: b.ID, SeenFrom: a.HeadID, SeenTo: b.HeadID, Person: reader, RequestID: "m", Pages: step.Pages{Rule: "1"}})
	assert.Error(t, err)
	assert.Equal(t, 4, headOf(t, d, a.ID).Document.Pages)
	assert.Equal(t, 3, headOf(t, d, b.ID).Document.Pages)
}

// Two people move pages in opposite directions at once: nobody waits for ever, and no page is lost or doubled.
func TestMovesAtOnce(t *testing.T) {
	d := newDesk(t)
	a, b := bring(t, d, "Berths.pdf", pdftest.Text(20)), bring(t, d, "Tides.pdf", pdftest.Text(20))
	done := make(chan error, 20)
	for i := range 10 {
		for k, ids := range [][2]uint{{a.ID, b.ID}, {b.ID, a.ID}} {
			go func() {
				_, err := d.Transfer(t.Context(), Transfer{From: ids[0], To: ids[1], SeenFrom: headOf(t, d, ids[0]).State.ID, SeenTo: headOf(t, d, ids[1]).State.ID, Person: 1,
					RequestID: fmt.Sprintf("%d-%d", i, k), Pages: step.Pages{Keys: []step.Key{{Ordinal: i + 1}}}, Place: step.Place{}})
				done <- err
			}()
		}
	}
	for range 20 {
		select {
		case <-done: // a conflict is an answer
		case <-time.After(60 * time.Second):
			t.Fatal("they wait for each other")
		}
	}
	assert.Equal(t, 40, headOf(t, d, a.ID).Document.Pages+headOf(t, d, b.ID).Document.Pages)
}

func TestExtract(t *testing.T) {
	d := newDesk(t)
	a := bring(t, d, "Berths.pdf", pdftest.Text(6))
	made, out, err := d.Extract(t.Context(), &background.Work{}, Extraction{Document: a.ID, Seen: a.HeadID, Person: 1, RequestID: "x", Pages: step.Pages{Rule: "2-3"}, Remove: true})
	require.NoError(t, err)
	assert.Equal(t, "Berths, pages 2 and 3", made.Name)
	assert.Equal(t, "2 pages of “Berths”", made.Made.String())
	assert.Equal(t, "Page 2,Page 3", wholeTexts(t, d, made.ID))
	assert.Equal(t, "Pages 2 and 3 removed", out.Step.Sentence)
	assert.Equal(t, "Page 1,Page 4,Page 5,Page 6", wholeTexts(t, d, a.ID))
	again, _, err := d.Extract(t.Context(), &background.Work{}, Extraction{Document: a.ID, Seen: a.HeadID, Person: 1, RequestID: "x", Pages: step.Pages{Rule: "2-3"}})
	require.NoError(t, err)
	assert.Equal(t, made.ID, again.ID, "the same request makes nothing more")
	_, _, err = d.Extract(t.Context(), &background.Work{}, Extraction{Document: a.ID, Seen: headOf(t, d, a.ID).State.ID, Person: 1, RequestID: "y", Pages: step.Pages{Rule: "all"}, Remove: true})
	assert.ErrorContains(t, err, "needs at least one page")
}

func TestSplit(t *testing.T) {
	d := newDesk(t)
	a := bring(t, d, "Applications.pdf", pdftest.Text(9))
	key := func(n int) step.Key { return step.Key{Ordinal: n} }
	s := headOf(t, d, a.ID)
	parts, err := d.Parts(t.Context(), s, []step.Key{key(4), key(8)})
	require.NoError(t, err)
	require.Len(t, parts, 3)
	assert.Equal(t, [2]int{3, 7}, [2]int{parts[1].From, parts[1].To})
	split := Splitting{Document: a.ID, Seen: s.State.ID, Person: 1, RequestID: "s1", Cuts: []step.Key{key(4), key(8)}, Names: []string{"Ann", "Bo", "Cy"}}
	out, err := d.Split(t.Context(), &background.Work{}, split)
	require.NoError(t, err)
	require.Len(t, out.Documents, 3)
	assert.Equal(t, "Page 4,Page 5,Page 6,Page 7", wholeTexts(t, d, out.Documents[1]))
	for i, id := range out.Documents { // what was said of the weight
		row, err := d.Document(t.Context(), 1, id)
		require.NoError(t, err)
		assert.InDelta(t, row.Weight, parts[i].Weight, 1500)
		assert.Equal(t, split.Names[i], row.Name)
	}
	again, err := d.Split(t.Context(), &background.Work{}, split)
	require.NoError(t, err)
	assert.Equal(t, out.Documents, again.Documents)

	split.RequestID, split.Zip, split.Skip = "s2", "Applications in parts", []bool{false, true, false}
	out, err = d.Split(t.Context(), &background.Work{}, split)
	require.NoError(t, err)
	require.NotNil(t, out.Zip)
	f, name, err := d.OpenHandedOut(t.Context(), 1, out.Zip.ID)
	require.NoError(t, err)
	assert.Equal(t, "Applications in parts.zip", name)
	files := unzipped(t, f)
	assert.Equal(t, []string{"Page 1", "Page 2", "Page 3"}, pdftest.PageTexts(t, files["Ann.pdf"]))
	assert.Equal(t, []string{"Page 8", "Page 9"}, pdftest.PageTexts(t, files["Cy.pdf"]))
	assert.Len(t, files, 2)
	pdftest.Check(t, files["Ann.pdf"])

	before := 0
	require.NoError(t, d.db.Raw("SELECT count(*) FROM documents WHERE away_at IS NULL").Scan(&before).Error)
	for what, change := range map[string]func(*Splitting){
		"an empty part":                     func(p *Splitting) { p.Cuts = []step.Key{key(1), key(4)} },
		"two cuts":                          func(p *Splitting) { p.Cuts = []step.Key{key(4), key(4)} },
		"has been removed":                  func(p *Splitting) { p.Cuts = []step.Key{key(4), key(40)} },
		"no cuts yet":                       func(p *Splitting) { p.Cuts = nil },
		"would be called “ann”":             func(p *Splitting) { p.Names = []string{"Ann", "Bo", "ann"} },
		"part 2 has no name":                func(p *Splitting) { p.Names = []string{"Ann", " ", "Cy"} },
		"every part is left out":            func(p *Splitting) { p.Skip = []bool{true, true, true} },
		"check the parts again":             func(p *Splitting) { p.Names = []string{"Ann"} },
		"this folder has been deleted":      func(p *Splitting) { p.Folder = 4711 },
		"was exported before":               func(p *Splitting) { p.Zip = "applications IN parts" },
		"someone else changed the document": func(p *Splitting) { p.Seen = 999 },
	} {
		p := Splitting{Document: a.ID, Seen: s.State.ID, Person: 1, RequestID: what, Cuts: []step.Key{key(4), key(8)}, Names: []string{"Ann", "Bo", "Cy"}}
		change(&p)
		_, err := d.Split(t.Context(), &background.Work{}, p)
		assert.ErrorContains(t, err, what)
	}
	after := 0
	require.NoError(t, d.db.Raw("SELECT count(*) FROM documents WHERE away_at IS NULL").Scan(&after).Error)
	assert.Equal(t, before, after, "what was refused made nothing")

	cuts, err := s.CutsBySize(t.Context(), parts[0].Weight)
	require.NoError(t, err)
	parts, err = d.Parts(t.Context(), s, cuts)
	require.NoError(t, err)
	for _, p := range parts {
		assert.LessOrEqual(t, p.To-p.From, 3)
	}
}

func unzipped(t *testing.T, f *os.File) map[string][]byte {
	t.Helper()
	defer f.Close()
	st, err := f.Stat()
	require.NoError(t, err)
	z, err := zip.NewReader(f, st.Size())
	require.NoError(t, err)
	out := map[string][]byte{}
	for _, e := range z.File {
		r, err := e.Open()
		require.NoError(t, err)
		out[e.Name], err = io.ReadAll(r)
		require.NoError(t, err)
		_ = r.Close()
	}
	return out
}

// handMany hands out and waits.
func handMany(t *testing.T, d *Desk, h Handing) (*HandedMany, error) {
	t.Helper()
	w, err := d.HandOutMany(t.Context(), h)
	if err != nil {
		return nil, err
	}
	p := w.Wait(t.Context())
	if p.Err != nil {
		return nil, p.Err
	}
	out, ok := p.Result.(*HandedMany)
	require.True(t, ok, "%T", p.Result)
	return out, nil
}

func handedOut(t *testing.T, d *Desk, id uint) *HandOut {
	t.Helper()
	h, err := d.HandedOut(t.Context(), 1, id)
	require.NoError(t, err)
	return h
}

func TestHandOutMany(t *testing.T) {
	if testing.Short() {
		t.Skip("takes its time; nothing in it happens at once")
	}
	d := newDesk(t)
	a, b := bring(t, d, "Berths.pdf", pdftest.Text(2)), bring(t, d, "Tides.pdf", pdftest.Text(3))
	pattern := naming.Pattern{{Field: "typed"}, {Text: " "}, {Field: "name"}}
	h := Handing{Documents: []uint{a.ID, b.ID}, Person: 1, RequestID: "h1", Pattern: pattern, Typed: "HT-7"}
	plan, err := d.PlanHanding(t.Context(), h)
	require.NoError(t, err)
	assert.Equal(t, []string{"HT-7 Berths.pdf", "HT-7 Tides.pdf"}, []string{plan[0].Name, plan[1].Name})
	folder, err := d.MakeFolderIn(t.Context(), 1, 0, "Out for the winter")
	require.NoError(t, err)
	h.Folder = folder.ID
	out, err := handMany(t, d, h)
	require.NoError(t, err)
	require.Len(t, out.Files, 2)
	assert.Empty(t, out.Failed)
	kept, err := d.Document(t.Context(), 1, handedOut(t, d, out.Files[1]).KeptID)
	require.NoError(t, err)
	assert.Equal(t, folder.ID, kept.FolderID)
	assert.Equal(t, "Page 1,Page 2,Page 3", wholeTexts(t, d, kept.ID))

	// The same names are told before, and stop nobody else.
	plan, err = d.PlanHanding(t.Context(), h)
	require.NoError(t, err)
	assert.Contains(t, plan[0].Wrong, "exported before")
	h.RequestID, h.Pattern = "h2", naming.Pattern{{Text: "Winter papers"}}
	plan, err = d.PlanHanding(t.Context(), h)
	require.NoError(t, err)
	assert.Contains(t, plan[1].Wrong, "“Berths” would have the same name")
	out, err = handMany(t, d, h)
	require.NoError(t, err)
	assert.Len(t, out.Files, 1)
	assert.Len(t, out.Failed, 1)
	assert.Contains(t, out.Failed[0], "“Tides” was not exported")

	h.RequestID, h.Zip = "h3", "Winter"
	_, err = handMany(t, d, h)
	assert.ErrorContains(t, err, "same name")
	h.Pattern, h.Folder = naming.Pattern{{Field: "number"}, {Text: " "}, {Field: "name"}}, 0
	out, err = handMany(t, d, h)
	require.NoError(t, err)
	f, _, err := d.OpenHandedOut(t.Context(), 1, out.Files[0])
	require.NoError(t, err)
	files := unzipped(t, f)
	assert.Equal(t, []string{"Page 1", "Page 2", "Page 3"}, pdftest.PageTexts(t, files["2 Tides.pdf"]))
	h.Pattern = pattern
	h.Typed = " "
	plan, err = d.PlanHanding(t.Context(), h)
	require.NoError(t, err)
	assert.Contains(t, plan[0].Wrong, "type the file number")
}

func TestWatch(t *testing.T) {
	d := newDesk(t)
	a, b := bring(t, d, "Berths.pdf", pdftest.Text(2)), bring(t, d, "Tides.pdf", pdftest.Text(3))
	changed, stop := d.Watch([]uint{a.ID})
	for _, row := range []*Document{b, a} {
		_, err := d.Do(t.Context(), Change{Document: row.ID, Seen: row.HeadID, RequestID: "r", Person: 1, Name: "rotate", Params: json.RawMessage(`{"pages":"1","by":90}`)})
		require.NoError(t, err)
	}
	select {
	case id := <-changed:
		assert.Equal(t, a.ID, id)
	case <-time.After(5 * time.Second):
		t.Fatal("nothing was told")
	}
	stop()
	assert.Empty(t, d.watch.of)
}

// Of a split all parts are there or none, whatever goes wrong in storing them; extracting pages and removing them is one act, and so are exporting a file
// and keeping it in a folder.
func TestAllOrNone(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Papers.pdf", pdftest.Text(9))
	s := snapshot(t, d, doc.ID)
	keys := s.Pages()
	before := files(t, d)
	counts := func() [3]int64 {
		var n [3]int64
		for i, of := range []any{&Document{}, &HandOut{}, &Request{}} {
			require.NoError(t, d.db.Model(of).Count(&n[i]).Error)
		}
		return n
	}
	was := counts()
	broken := func(sql string, f func() error) {
		t.Helper()
		require.NoError(t, d.db.Exec("CREATE TRIGGER broken "+sql+" BEGIN SELECT RAISE(ABORT, 'broken'); END").Error)
		require.ErrorContains(t, f(), "broken")
		require.NoError(t, d.db.Exec("DROP TRIGGER broken").Error)
		assert.Equal(t, was, counts())
		assert.Equal(t, before, files(t, d), "what was written for it is gone")
		now := snapshot(t, d, doc.ID)
		assert.Equal(t, []any{s.State.ID, 9}, []any{now.State.ID, now.Document.Pages})
		assert.Zero(t, d.Store.Pinned())
	}
	split := Splitting{Document: doc.ID, Seen: s.State.ID, Person: 1, RequestID: "split", Cuts: []step.Key{keys[3].Key, keys[6].Key}, Names: []string{"A", "B", "C"}}
	broken("BEFORE INSERT ON documents WHEN NEW.name = 'C'", func() error { _, err := d.Split(t.Context(), &background.Work{}, split); return err })
	extract := Extraction{Document: doc.ID, Seen: s.State.ID, Person: 1, RequestID: "extract", Pages: step.Pages{Rule: "2-3"}, Name: "E", Remove: true}
	for _, sql := range []string{"BEFORE UPDATE OF head_id ON documents", "BEFORE INSERT ON documents WHEN NEW.name = 'E'"} {
		broken(sql, func() error { _, _, err := d.Extract(t.Context(), &background.Work{}, extract); return err })
	}
	folder, err := d.MakeFolder(t.Context(), 1, "Kept")
	require.NoError(t, err)
	order := Order{Document: doc.ID, Seen: s.State.ID, Person: 1, Name: "Out", RequestID: "out", AsItIs: true, Folder: folder.ID}
	for _, sql := range []string{"BEFORE INSERT ON documents WHEN NEW.name = 'Out'", "BEFORE INSERT ON hand_outs"} {
		broken(sql, func() error { _, err := d.HandOut(t.Context(), &background.Work{}, order); return err })
	}
	// Unbroken, each is done, and asked for once more does nothing more.
	for range 2 {
		done, err := d.Split(t.Context(), &background.Work{}, split)
		require.NoError(t, err)
		assert.Len(t, done.Documents, 3)
		h, err := d.HandOut(t.Context(), &background.Work{}, order)
		require.NoError(t, err)
		kept, err := d.Document(t.Context(), 1, h.KeptID)
		require.NoError(t, err)
		assert.Equal(t, folder.ID, kept.FolderID)
	}
	made, out, err := d.Extract(t.Context(), &background.Work{}, extract)
	require.NoError(t, err)
	again, _, err := d.Extract(t.Context(), &background.Work{}, Extraction{Document: doc.ID, Seen: out.Snapshot.State.ID, Person: 1, RequestID: "extract", Pages: step.Pages{Rule: "2-3"}, Name: "E", Remove: true})
	require.NoError(t, err)
	assert.Equal(t, made.ID, again.ID)
	assert.Equal(t, []int{2, 7}, []int{made.Pages, snapshot(t, d, doc.ID).Document.Pages})
	assert.Equal(t, was[0]+5, counts()[0])
	assert.Zero(t, d.Store.Pinned())
}
