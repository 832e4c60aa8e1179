package desk

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

const password = "low water springs"

// refuses asserts that an error is a sentence of a kind.
func refuses[T error](t *testing.T, err error, words string) {
	t.Helper()
	var kind T
	require.ErrorAs(t, err, &kind)
	assert.Contains(t, err.Error(), words)
}

// Fifty who send one address at once: one account. Earlier addresses are void once somebody exists.
func TestInvitationsRaced(t *testing.T) {
	d := openEmpty(t, t.TempDir())
	t.Cleanup(func() { _ = d.Close() })
	void, err := d.InviteFirst(t.Context(), time.Hour)
	require.NoError(t, err)
	token, err := d.InviteFirst(t.Context(), time.Hour)
	require.NoError(t, err)
	_, err = d.Accept(t.Context(), void, Accepted{"Isla Merrow", "isla", password})
	require.ErrorIs(t, err, ErrInvite, "an address of an earlier start")
	race := func(token string, name string) (in, out int) {
		var mu sync.Mutex
		var wg sync.WaitGroup
		for i := range 50 {
			wg.Go(func() {
				_, err := d.Accept(t.Context(), token, Accepted{"Somebody", fmt.Sprint(name, i), password})
				mu.Lock()
				defer mu.Unlock()
				switch {
				case err == nil:
					in++
				case errors.Is(err, ErrInvite):
					out++
				default:
					t.Error(err)
				}
			})
		}
		wg.Wait()
		return in, out
	}
	in, out := race(token, "first")
	assert.Equal(t, []int{1, 49}, []int{in, out})
	all, err := d.AllPeople(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, Administrator, all[0].Role)
	joins, err := d.Join(t.Context(), 1, Reader, "Rona")
	require.NoError(t, err)
	in, out = race(joins, "joins")
	assert.Equal(t, []int{1, 49}, []int{in, out})
	late, err := d.InviteFirst(t.Context(), time.Hour)
	require.NoError(t, err)
	_, err = d.Accept(t.Context(), late, Accepted{"Late", "late", password})
	assert.ErrorIs(t, err, ErrInvite, "somebody is set up")
	// A wrong entry does not use the address up.
	joins, err = d.Join(t.Context(), 1, Member, "")
	require.NoError(t, err)
	_, err = d.Accept(t.Context(), joins, Accepted{"Tomas", "tomas", "password123"})
	refuses[*BadPerson](t, err, "too common")
	p, err := d.Accept(t.Context(), joins, Accepted{"To\u202emas", "tomas", password})
	require.NoError(t, err)
	assert.Equal(t, "Tomas", p.Name, "nothing turns the writing round")
	assert.Equal(t, Member, p.Role)
	var n int64
	require.NoError(t, d.db.Model(&Invite{}).Where("kind = ?", InviteFirst).Count(&n).Error)
	assert.Zero(t, n)
}

func TestPasswords(t *testing.T) {
	for pw, words := range map[string]string{
		"short": "at least 10", "1234567890": "too common", "aaaaaaaaaaaaaa": "too common", "islaislaisla": "guessed", "isla merrow": "guessed",
		"Glenrain1!": "guessed", strings.Repeat("low water ", 101): "at most",
	} {
		refuses[*BadPerson](t, checkPassword(pw, "isla", "Isla Merrow"), words)
	}
	for _, pw := range []string{password, "ten letter", "ñandúes en la bahía", strings.Repeat("long ", 40)} {
		assert.NoError(t, checkPassword(pw, "isla", "Isla Merrow"), pw)
	}
}

// A throttled account and a throttled office: whoever signs in right from a browser that is known gets in.
func TestThrottling(t *testing.T) {
	d := openEmpty(t, t.TempDir())
	t.Cleanup(func() { _ = d.Close() })
	isla, err := d.AddPerson(t.Context(), "Isla Merrow", "isla", password)
	require.NoError(t, err)
	tomas, err := d.AddPerson(t.Context(), "Tomas Quill", "tomas", password)
	require.NoError(t, err)
	from := func(address string) context.Context { return From(t.Context(), address) }
	device := d.NewDevice()
	require.NoError(t, d.Remember(t.Context(), device, isla.ID))
	var throttled *Throttled
	// Many addresses at one account.
	for i := range accountTries {
		_, err := d.Enter(from(fmt.Sprintf("203.0.113.%d", i)), "isla", "wrong", "")
		require.ErrorIs(t, err, ErrSignIn)
	}
	_, err = d.Enter(from("198.51.100.1"), "isla", password, "")
	require.ErrorAs(t, err, &throttled, "also with the right one: it can't be told apart from a guess")
	_, err = d.Enter(from("203.0.113.1"), "isla", password, device)
	require.NoError(t, err, "from a browser that is known")
	_, err = d.Enter(from("203.0.113.1"), "tomas", password, "")
	require.NoError(t, err, "another account")
	_, err = d.Enter(from("203.0.113.1"), "tomas", password, device)
	require.NoError(t, err, "the browser of another person is nobody's")
	// Many accounts from one address.
	for i := range addressTries {
		_, err := d.Enter(from("192.0.2.7"), fmt.Sprint("nobody", i), "wrong", "")
		require.ErrorIs(t, err, ErrSignIn)
	}
	_, err = d.Enter(from("192.0.2.7"), "tomas", password, "")
	require.ErrorAs(t, err, &throttled)
	_, err = d.Enter(from("192.0.2.7"), "isla", password, device)
	require.NoError(t, err)
	// A network of IPv6 counts as one.
	for i := range addressTries {
		_, err := d.Enter(from(fmt.Sprintf("2001:db8::%x", i+1)), fmt.Sprint("somebody", i), "wrong", "")
		require.ErrorIs(t, err, ErrSignIn)
	}
	_, err = d.Enter(from("2001:db8::ffff"), "tomas", password, "")
	require.ErrorAs(t, err, &throttled)
	// A known browser in other hands is known no longer.
	for range deviceTries {
		_, err := d.Enter(from("203.0.113.9"), "isla", "wrong", device)
		require.ErrorIs(t, err, ErrSignIn)
	}
	known, err := d.knownDevice(t.Context(), device, "isla")
	require.NoError(t, err)
	assert.Zero(t, known)
	list, err := d.Records(t.Context(), isla.ID, RecordQuery{What: "sign-in failed", Most: 1000})
	require.NoError(t, err)
	assert.Greater(t, len(list), accountTries+2*addressTries)
	assert.Equal(t, "203.0.113.9", list[0].Address)
	assert.NotZero(t, tomas.ID)
}

// Sessions end at once: one's own, by an administrator, by a new password, a reset, a removal.
func TestSessionsEnd(t *testing.T) {
	d := openEmpty(t, t.TempDir())
	t.Cleanup(func() { _ = d.Close() })
	isla, err := d.AddPerson(t.Context(), "Isla Merrow", "isla", password)
	require.NoError(t, err)
	tomas, err := d.AddPerson(t.Context(), "Tomas Quill", "tomas", password)
	require.NoError(t, err)
	begin := func(token string) {
		require.NoError(t, d.Begin(t.Context(), token, tomas.ID, "Mozilla/5.0 (X11; Linux x86_64) Firefox/150.0"))
	}
	in := func(token string) bool {
		p, err := d.Whose(t.Context(), token)
		if err != nil {
			require.ErrorIs(t, err, ErrNobody)
		}
		return err == nil && p.ID == tomas.ID
	}
	begin("a")
	begin("b")
	require.True(t, in("a") && in("b"))
	list, err := d.SessionsOf(t.Context(), tomas.ID, tomas.ID, "a")
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "Firefox on Linux", list[0].Browser)
	for _, s := range list {
		if !s.Here {
			require.NoError(t, d.EndSession(t.Context(), tomas.ID, tomas.ID, s.Number, "a"))
		}
	}
	assert.True(t, in("a") && !in("b"))
	_, err = d.SessionsOf(t.Context(), tomas.ID, isla.ID, "")
	refuses[*Forbidden](t, err, "only an administrator")
	refuses[*Forbidden](t, d.EndSession(t.Context(), tomas.ID, isla.ID, "", ""), "only an administrator")
	begin("b")
	refuses[*step.Refusal](t, d.SetPassword(t.Context(), tomas.ID, "wrong", "neap tides too", "a"), "isn’t your current password")
	require.NoError(t, d.SetPassword(t.Context(), tomas.ID, password, "neap tides too", "a"))
	assert.True(t, in("a") && !in("b"), "the others end")
	require.NoError(t, d.EndSession(t.Context(), isla.ID, tomas.ID, "", ""))
	assert.False(t, in("a"))
	begin("c")
	token, err := d.Reset(t.Context(), isla.ID, tomas.ID)
	require.NoError(t, err)
	assert.True(t, in("c"), "until it is used")
	_, err = d.Accept(t.Context(), token, Accepted{Password: "spring tides again"})
	require.NoError(t, err)
	assert.False(t, in("c"))
	_, err = d.SignIn(t.Context(), "tomas", "spring tides again")
	require.NoError(t, err)
	begin("d")
	refuses[*step.Refusal](t, d.SetRole(t.Context(), isla.ID, isla.ID, Member), "last administrator")
	require.NoError(t, d.RemovePerson(t.Context(), isla.ID, tomas.ID, isla.ID))
	assert.False(t, in("d"))
	_, err = d.SignIn(t.Context(), "tomas", "spring tides again")
	require.ErrorIs(t, err, ErrSignIn)
	_, err = d.AddPerson(t.Context(), "Tomas Keel", "tomas", password)
	require.NoError(t, err, "the name is free again")
	refuses[*step.Refusal](t, d.RemovePerson(t.Context(), isla.ID, isla.ID, 3), "someone else has to remove you")
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
	h.tomas, h.petra, h.rona = somebody(t, h.Desk, "tomas", Member), somebody(t, h.Desk, "petra", Member), somebody(t, h.Desk, "rona", Reader)
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
				require.ErrorIs(t, err, ErrMissing)
			}
		}
		return n
	}
	for person, want := range map[uint]int{h.isla: 11, h.tomas: 11, h.petra: 0, h.rona: 0} {
		assert.Equal(t, want, sees(person), "person %d", person)
	}
	_, err := h.Documents(t.Context(), Listing{Most: 9})
	assert.ErrorIs(t, err, ErrNobody)
	// Nor can its pages be brought into another document, or combined.
	_, err = h.Do(t.Context(), Change{Document: h.open.ID, Seen: h.open.HeadID, RequestID: "x", Person: h.petra, Name: "insert", Params: []byte(fmt.Sprintf(`{"from":"state:%d","pages":"all","to":"end"}`, h.closed.HeadID))})
	refuses[*step.Refusal](t, err, "doesn’t exist, or you have no access")
	_, err = h.Do(t.Context(), Change{Document: h.open.ID, Seen: h.open.HeadID, RequestID: "y", Person: h.petra, Name: "insert", Params: []byte(`{"from":"sha256:` + h.closed.OriginalSHA + `","pages":"all","to":"end"}`)})
	refuses[*step.Refusal](t, err, "can't be named")
	w := h.Start(h.petra, "combine", func(ctx context.Context, w *Work) (any, error) {
		return h.Combine(ctx, w, Combination{Documents: []uint{h.open.ID, h.closed.ID}, Person: h.petra})
	})
	assert.ErrorIs(t, w.Wait(t.Context()).Err, ErrMissing)
	// Passed on, it is there; taken back, it is not.
	require.NoError(t, h.PassOn(t.Context(), h.tomas, h.closed.ID, h.petra))
	_, err = h.Look(t.Context(), h.petra, h.closed.ID)
	require.NoError(t, err)
	require.NoError(t, h.TakeBack(t.Context(), h.tomas, h.closed.ID, h.petra))
	_, err = h.Look(t.Context(), h.petra, h.closed.ID)
	require.ErrorIs(t, err, ErrMissing)
	refuses[*Forbidden](t, h.OpenFolder(t.Context(), h.tomas, h.folder.ID, false, nil), "the folder’s owner")
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
	head := theirs.Snapshot.State.ID
	never := "because you are a reader"
	_, err = h.Undo(ctx, h.open.ID, head, h.rona)
	refuses[*Forbidden](t, err, never)
	_, err = h.Do(ctx, Change{Document: h.open.ID, Seen: head, RequestID: "c", Person: h.rona, Name: "rotate", Params: []byte(`{"pages":"1","by":90}`)})
	refuses[*Forbidden](t, err, never)
	_, err = h.Revise(ctx, Revision{Document: h.open.ID, Seen: head, Person: h.rona, Step: out.Step.ID})
	refuses[*Forbidden](t, err, never)
	_, err = h.Rename(ctx, h.rona, h.open.ID, "Mine")
	refuses[*Forbidden](t, err, never)
	refuses[*Forbidden](t, h.Bin(ctx, h.rona, []uint{h.open.ID}), never)
	_, err = h.HandOut(ctx, nil, Order{Document: h.open.ID, Seen: head, Person: h.rona, Name: "x"})
	refuses[*Forbidden](t, err, never)
	in, err := h.Store.Create()
	require.NoError(t, err)
	_, err = h.Arrive(ctx, Arrival{Person: h.rona, Name: "x.pdf"}, in)
	refuses[*Forbidden](t, err, never)
	_, err = h.MakeFolder(ctx, h.rona, "x")
	refuses[*Forbidden](t, err, never)
	// Members are no administrators.
	_, err = h.AllPeople(ctx, h.tomas)
	refuses[*Forbidden](t, err, "only an administrator")
	_, err = h.Join(ctx, h.tomas, Administrator, "")
	refuses[*Forbidden](t, err, "only an administrator")
	refuses[*Forbidden](t, h.SetRole(ctx, h.tomas, h.tomas, Administrator), "only an administrator")
	_, err = h.Records(ctx, h.tomas, RecordQuery{})
	refuses[*Forbidden](t, err, "only an administrator")
	refuses[*Forbidden](t, h.Keep(ctx, h.tomas, House{RecordDays: 30}), "only an administrator")
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
	refuses[*Forbidden](t, h.Purge(ctx, h.tomas, h.closed.ID), "only an administrator")
	assert.ErrorIs(t, h.Purge(ctx, h.petra, h.closed.ID), ErrMissing)
	refuses[*step.Refusal](t, h.Purge(ctx, h.isla, h.open.ID), "not in the Bin")
	// The other document has the same bytes: its file stays.
	require.Equal(t, h.open.OriginalSHA, h.closed.OriginalSHA)
	require.NoError(t, h.Purge(ctx, h.isla, h.closed.ID))
	_, err = h.Document(ctx, h.isla, h.closed.ID)
	require.ErrorIs(t, err, ErrMissing)
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
	require.NoError(t, h.Keep(ctx, h.isla, House{RecordDays: 30, BinDays: 3}))
	require.NoError(t, h.Bin(ctx, h.isla, []uint{old.ID}))
	require.NoError(t, h.purgeOld(ctx))
	_, err = h.Document(ctx, h.isla, old.ID)
	require.NoError(t, err)
	require.NoError(t, h.db.Model(&Document{}).Where("id = ?", old.ID).Update("away_at", h.now().Add(-4*24*time.Hour)).Error)
	require.NoError(t, h.purgeOld(ctx))
	_, err = h.Document(ctx, h.isla, old.ID)
	require.ErrorIs(t, err, ErrMissing)
}

// The record tells who did what, is filtered and exported, and can't be changed; what is older than the office keeps goes.
func TestRecord(t *testing.T) {
	h := newHouse(t)
	ctx := From(t.Context(), "192.0.2.1")
	_, err := h.Rename(ctx, h.tomas, h.open.ID, "=1+1")
	require.NoError(t, err)
	mustDo(t, h.Desk, h.open.ID, "rotate", `{"pages":"1","by":90}`)
	list, err := h.Records(ctx, h.isla, RecordQuery{Person: h.tomas, Most: 9})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, []string{"tomas", "renamed", "=1+1", "was “Open”", "192.0.2.1"}, []string{list[0].Who, list[0].What, list[0].Document, list[0].Detail, list[0].Address})
	list, err = h.Records(ctx, h.isla, RecordQuery{What: "changed", Words: "rotated page", Most: 9})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "Page 1 rotated right", list[0].Detail)
	list, err = h.Records(ctx, h.isla, RecordQuery{Words: "100%_", Most: 9})
	require.NoError(t, err)
	assert.Empty(t, list)
	var b bytes.Buffer
	require.NoError(t, h.ExportRecords(ctx, h.isla, RecordQuery{Person: h.tomas}, &b))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, "'=1+1", rows[1][5], "no formula")
	refuses[*Forbidden](t, h.ExportRecords(ctx, h.tomas, RecordQuery{}, &b), "only an administrator")
	assert.ErrorContains(t, h.db.Model(&Record{}).Where("id = 1").Update("who", "nobody").Error, "the record is not changed")
	for _, bad := range []House{{RecordDays: 1}, {RecordDays: 365, BinDays: -1}} {
		refuses[*step.Refusal](t, h.Keep(ctx, h.isla, bad), "days")
	}
	require.NoError(t, h.db.Create(&Record{At: h.now().Add(-400 * 24 * time.Hour), What: "signed in"}).Error)
	require.NoError(t, h.purgeOld(ctx))
	list, err = h.Records(ctx, h.isla, RecordQuery{What: "signed in", Most: 9})
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
	require.ErrorIs(t, err, ErrNobody)
	names, err := h.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, "tomas", names[h.tomas])
	others, err := h.Others(ctx, h.isla)
	require.NoError(t, err)
	assert.Len(t, others, 2)
}

func TestHarmless(t *testing.T) {
	assert.Equal(t, "invoicefdp.exe", harmless("invoice\u202efdp.exe"))
	assert.Equal(t, "a b", harmless("a\u200b \u2066b\u2069\x00\u2028"))
	assert.Equal(t, "Hafenübersicht 港", harmless("Hafenübersicht 港"))
	assert.Equal(t, "Tide fdp", cleanName("Tide\u202e fdp"))
}
