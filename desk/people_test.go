package desk

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/naming"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

const password = "low water springs"

// refuses asserts that an error is a sentence of a kind.
func refuses[T error](t *testing.T, err error, words string) {
	t.Helper()
	var kind T
	require.ErrorAs(t, err, &kind)
	assert.Contains(t, err.Error(), words)
}

// house is a desk with one of each role, a document open to everyone, and one in a folder that only Tomas was chosen for.
type house struct {
	*Desk
	isla, tomas, petra, rona uint // administrator; member, chosen; member; reader
	open, closed             *Document
	folder                   *Folder
}

func newHouse(t *testing.T) *house {
	h := &house{Desk: newDesk(t), isla: 1}
	h.tomas, h.petra, h.rona = somebody(t, h.Desk, "tomas", people.Member), somebody(t, h.Desk, "petra", people.Member), somebody(t, h.Desk, "rona", people.Reader)
	h.open, h.closed = bring(t, h.Desk, "Open.pdf", pdftest.Text(3)), bring(t, h.Desk, "Secret soundings.pdf", pdftest.Text(3))
	var err error
	h.folder, err = h.MakeFolder(t.Context(), h.isla, "Licences")
	require.NoError(t, err)
	_, err = h.MoveTo(t.Context(), h.isla, []uint{h.closed.ID}, h.folder.ID)
	require.NoError(t, err)
	require.NoError(t, h.OpenFolder(t.Context(), h.isla, h.folder.ID, true, []uint{h.tomas}))
	return h
}

// What one may not see does not exist for one, wherever it is looked for.
func TestWhatIsNotSeen(t *testing.T) {
	h := newHouse(t)
	require.NoError(t, h.ReadAll(t.Context(), 1))
	sees := func(person uint) (n int) {
		ctx := t.Context()
		has := func(ok bool) {
			if ok {
				n++
			}
		}
		list, err := h.Documents(ctx, Listing{Person: person, Most: 9})
		require.NoError(t, err)
		has(len(list) == 2)
		here, _, _, err := h.Counts(ctx, person)
		require.NoError(t, err)
		has(here == 2)
		found, err := h.Search(ctx, person, "soundings", 9)
		require.NoError(t, err)
		has(len(found) == 1)
		text, err := h.SearchText(ctx, person, "page 2", 9)
		require.NoError(t, err)
		has(text.Pages == 2)
		folders, err := h.Folders(ctx, person)
		require.NoError(t, err)
		has(len(folders) == 1)
		for _, f := range []func() error{
			func() error { _, err := h.Document(ctx, person, h.closed.ID); return err },
			func() error { _, err := h.Look(ctx, person, h.closed.ID); return err },
			func() error { _, err := h.LookAt(ctx, person, h.closed.HeadID); return err },
			func() error {
				_, err := h.Picture(ctx, person, h.closed.ID, step.Key{Ordinal: 1}, 0, 40, 40)
				return err
			},
			func() error { _, err := h.FirstPicture(ctx, person, h.closed.ID, 40); return err },
			func() error {
				f, _, err := h.OpenOriginal(ctx, person, h.closed.ID)
				if err == nil {
					_ = f.Close()
				}
				return err
			},
		} {
			err := f()
			has(err == nil)
			if err != nil {
				require.ErrorIs(t, err, store.ErrMissing)
			}
		}
		return n
	}
	for person, want := range map[uint]int{h.isla: 11, h.tomas: 11, h.petra: 0, h.rona: 0} {
		assert.Equal(t, want, sees(person), "person %d", person)
	}
	_, err := h.Documents(t.Context(), Listing{Most: 9})
	assert.ErrorIs(t, err, people.ErrNobody)
	// Nor can its pages be brought into another document, or combined.
	_, err = h.Do(t.Context(), Change{Document: h.open.ID, Seen: h.open.HeadID, RequestID: "x", Person: h.petra, Name: "insert", Params: []byte(fmt.Sprintf(`{"from":"state:%d","pages":"all","to":"end"}`, h.closed.HeadID))})
	refuses[*step.Refusal](t, err, "doesn’t exist, or you have no access")
	_, err = h.Do(t.Context(), Change{Document: h.open.ID, Seen: h.open.HeadID, RequestID: "y", Person: h.petra, Name: "insert", Params: []byte(`{"from":"sha256:` + h.closed.OriginalSHA + `","pages":"all","to":"end"}`)})
	refuses[*step.Refusal](t, err, "can't be named")
	w := h.Start(h.petra, "combine", func(ctx context.Context, w *background.Work) (any, error) {
		return h.Combine(ctx, w, Combination{Documents: []uint{h.open.ID, h.closed.ID}, Person: h.petra})
	})
	assert.ErrorIs(t, w.Wait(t.Context()).Err, store.ErrMissing)
	// Passed on, it is there; taken back, it is not.
	require.NoError(t, h.PassOn(t.Context(), h.tomas, h.closed.ID, h.petra))
	_, err = h.Look(t.Context(), h.petra, h.closed.ID)
	require.NoError(t, err)
	require.NoError(t, h.TakeBack(t.Context(), h.tomas, h.closed.ID, h.petra))
	_, err = h.Look(t.Context(), h.petra, h.closed.ID)
	require.ErrorIs(t, err, store.ErrMissing)
	refuses[*people.Forbidden](t, h.OpenFolder(t.Context(), h.tomas, h.folder.ID, false, nil), "the folder’s owner")
	require.NoError(t, h.OpenFolder(t.Context(), h.isla, h.folder.ID, false, nil))
	_, err = h.Look(t.Context(), h.rona, h.closed.ID)
	require.NoError(t, err)
}

// A reader looks and comments, undoes their own comment, and changes nothing.
func TestReader(t *testing.T) {
	h := newHouse(t)
	ctx := t.Context()
	mark := func(seen uint, person uint, request string) (*Outcome, error) {
		return h.Do(ctx, Change{Document: h.open.ID, Seen: seen, RequestID: request, Person: person, Name: "mark-text", Params: []byte(`{"page":"1","quads":[[10,20,30,20,10,10,30,10]],"how":"highlight","colour":"#f6dd8f"}`)})
	}
	out, err := mark(h.open.HeadID, h.rona, "a")
	require.NoError(t, err)
	back, err := h.Undo(ctx, h.open.ID, out.Snapshot.State.ID, h.rona)
	require.NoError(t, err)
	again, err := h.Redo(ctx, h.open.ID, back.Snapshot.State.ID, h.rona)
	require.NoError(t, err)
	theirs, err := mark(again.Snapshot.State.ID, h.tomas, "b")
	require.NoError(t, err)
	never := "because you are a reader"
	beneath, err := h.Undo(ctx, h.open.ID, theirs.Snapshot.State.ID, h.rona)
	require.NoError(t, err, "their own, beneath that of somebody else")
	head := beneath.Snapshot.State.ID
	_, err = h.Undo(ctx, h.open.ID, head, h.rona)
	refuses[*people.Forbidden](t, err, never)
	_, err = h.Do(ctx, Change{Document: h.open.ID, Seen: head, RequestID: "c", Person: h.rona, Name: "rotate", Params: []byte(`{"pages":"1","by":90}`)})
	refuses[*people.Forbidden](t, err, never)
	_, err = h.Revise(ctx, Revision{Document: h.open.ID, Seen: head, Person: h.rona, Step: out.Step.ID})
	refuses[*people.Forbidden](t, err, never)
	_, err = h.Rename(ctx, h.rona, h.open.ID, "Mine")
	refuses[*people.Forbidden](t, err, never)
	refuses[*people.Forbidden](t, h.Bin(ctx, h.rona, []uint{h.open.ID}), never)
	_, err = h.HandOut(ctx, nil, Order{Document: h.open.ID, Seen: head, Person: h.rona, Name: "x"})
	refuses[*people.Forbidden](t, err, never)
	in, err := h.Store.Create()
	require.NoError(t, err)
	_, err = h.Arrive(ctx, Arrival{Person: h.rona, Name: "x.pdf"}, in)
	refuses[*people.Forbidden](t, err, never)
	_, err = h.MakeFolder(ctx, h.rona, "x")
	refuses[*people.Forbidden](t, err, never)
	// Members are no administrators.
	_, err = h.AllPeople(ctx, h.tomas)
	refuses[*people.Forbidden](t, err, "only an administrator")
	_, err = h.Join(ctx, h.tomas, people.Administrator, "")
	refuses[*people.Forbidden](t, err, "only an administrator")
	refuses[*people.Forbidden](t, h.SetRole(ctx, h.tomas, h.tomas, people.Administrator), "only an administrator")
	_, err = h.Records(ctx, h.tomas, people.RecordQuery{})
	refuses[*people.Forbidden](t, err, "only an administrator")
	refuses[*people.Forbidden](t, h.Keep(ctx, h.tomas, people.House{RecordDays: 30}), "only an administrator")
}

// In the Bin nothing is opened; what is purged leaves nothing.
func TestBinAndPurge(t *testing.T) {
	h := newHouse(t)
	ctx := t.Context()
	mustDo(t, h.Desk, h.closed.ID, "rotate", `{"pages":"1","by":90}`)
	_, err := h.Picture(ctx, h.isla, h.closed.ID, step.Key{Ordinal: 2}, 0, 40, 40)
	require.NoError(t, err)
	require.NoError(t, h.ReadAll(ctx, 1))
	require.NoError(t, h.Bin(ctx, h.tomas, []uint{h.closed.ID}))
	_, err = h.Look(ctx, h.isla, h.closed.ID)
	refuses[*step.Refusal](t, err, "in the Bin")
	_, err = h.Picture(ctx, h.isla, h.closed.ID, step.Key{Ordinal: 2}, 0, 40, 40)
	refuses[*step.Refusal](t, err, "in the Bin")
	_, _, err = h.OpenOriginal(ctx, h.isla, h.closed.ID)
	refuses[*step.Refusal](t, err, "in the Bin")
	_, err = h.Undo(ctx, h.closed.ID, 0, h.isla)
	refuses[*step.Refusal](t, err, "in the Bin")
	refuses[*people.Forbidden](t, h.Purge(ctx, h.tomas, h.closed.ID), "only an administrator")
	assert.ErrorIs(t, h.Purge(ctx, h.petra, h.closed.ID), store.ErrMissing)
	refuses[*step.Refusal](t, h.Purge(ctx, h.isla, h.open.ID), "not in the Bin")
	// The other document has the same bytes: its file stays.
	require.Equal(t, h.open.OriginalSHA, h.closed.OriginalSHA)
	require.NoError(t, h.Purge(ctx, h.isla, h.closed.ID))
	_, err = h.Document(ctx, h.isla, h.closed.ID)
	require.ErrorIs(t, err, store.ErrMissing)
	for _, table := range []string{"states", "steps", "page_texts", "hand_outs", "requests", "passed_ons"} {
		var n int64
		require.NoError(t, h.db.Table(table).Where("document_id = ?", h.closed.ID).Count(&n).Error)
		assert.Zero(t, n, table)
	}
	assert.NoDirExists(t, h.pictures.folder(h.closed.ID))
	require.NoError(t, h.cleanIndex(ctx))
	_, err = h.Look(ctx, h.isla, h.open.ID)
	require.NoError(t, err)
	require.NoError(t, h.Bin(ctx, h.isla, []uint{h.open.ID}))
	require.NoError(t, h.Purge(ctx, h.isla, h.open.ID))
	left, err := filepath.Glob(filepath.Join(h.dir, "files", "*", "*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing refers to the file any more")
	// By time.
	old := bring(t, h.Desk, "Old.pdf", pdftest.Text(2))
	require.NoError(t, h.Keep(ctx, h.isla, people.House{RecordDays: 30, BinDays: 3}))
	require.NoError(t, h.Bin(ctx, h.isla, []uint{old.ID}))
	require.NoError(t, h.purgeOld(ctx))
	_, err = h.Document(ctx, h.isla, old.ID)
	require.NoError(t, err)
	require.NoError(t, h.db.Model(&Document{}).Where("id = ?", old.ID).Update("away_at", h.now().Add(-4*24*time.Hour)).Error)
	require.NoError(t, h.purgeOld(ctx))
	_, err = h.Document(ctx, h.isla, old.ID)
	require.ErrorIs(t, err, store.ErrMissing)
}

// The record tells who did what, is filtered and exported, and can't be changed; what is older than the office keeps goes.
func TestRecord(t *testing.T) {
	h := newHouse(t)
	ctx := people.From(t.Context(), "192.0.2.1")
	_, err := h.Rename(ctx, h.tomas, h.open.ID, "=1+1")
	require.NoError(t, err)
	mustDo(t, h.Desk, h.open.ID, "rotate", `{"pages":"1","by":90}`)
	list, err := h.Records(ctx, h.isla, people.RecordQuery{Person: h.tomas, Most: 9})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, []string{"tomas", "renamed", "=1+1", "was “Open”", "192.0.2.1"}, []string{list[0].Who, list[0].What, list[0].Document, list[0].Detail, list[0].Address})
	list, err = h.Records(ctx, h.isla, people.RecordQuery{What: "changed", Words: "rotated page", Most: 9})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "Page 1 rotated right", list[0].Detail)
	list, err = h.Records(ctx, h.isla, people.RecordQuery{Words: "100%_", Most: 9})
	require.NoError(t, err)
	assert.Empty(t, list)
	var b bytes.Buffer
	require.NoError(t, h.ExportRecords(ctx, h.isla, people.RecordQuery{Person: h.tomas}, &b))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, "'=1+1", rows[1][5], "no formula")
	refuses[*people.Forbidden](t, h.ExportRecords(ctx, h.tomas, people.RecordQuery{}, &b), "only an administrator")
	assert.ErrorContains(t, h.db.Model(&people.Record{}).Where("id = 1").Update("who", "nobody").Error, "the record is not changed")
	for _, bad := range []people.House{{RecordDays: 1}, {RecordDays: 365, BinDays: -1}} {
		refuses[*step.Refusal](t, h.Keep(ctx, h.isla, bad), "days")
	}
	require.NoError(t, h.db.Create(&people.Record{At: h.now().Add(-400 * 24 * time.Hour), What: "signed in"}).Error)
	require.NoError(t, h.purgeOld(ctx))
	list, err = h.Records(ctx, h.isla, people.RecordQuery{What: "signed in", Most: 9})
	require.NoError(t, err)
	assert.Empty(t, list)
}

// Somebody who is removed leaves their documents to whom was named; their name stays in the trail.
func TestRemoved(t *testing.T) {
	h := newHouse(t)
	ctx := t.Context()
	require.NoError(t, h.db.Model(&Document{}).Where("id = ?", h.closed.ID).Update("owner_id", h.tomas).Error)
	refuses[*step.Refusal](t, h.RemovePerson(ctx, h.isla, h.tomas, h.tomas), "choose a new owner")
	require.NoError(t, h.RemovePerson(ctx, h.isla, h.tomas, h.petra))
	_, err := h.Look(ctx, h.petra, h.closed.ID)
	require.NoError(t, err)
	_, err = h.Look(ctx, h.tomas, h.closed.ID)
	require.ErrorIs(t, err, people.ErrNobody)
	names, err := h.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, "tomas", names[h.tomas])
	others, err := h.Others(ctx, h.isla)
	require.NoError(t, err)
	assert.Len(t, others, 2)
}

func TestHarmless(t *testing.T) {
	assert.Equal(t, "invoicefdp.exe", naming.Harmless("invoice\u202efdp.exe"))
	assert.Equal(t, "a b", naming.Harmless("a\u200b \u2066b\u2069\x00\u2028"))
	assert.Equal(t, "Hafenübersicht 港", naming.Harmless("Hafenübersicht 港"))
	assert.Equal(t, "Tide fdp", cleanName("Tide\u202e fdp"))
}
