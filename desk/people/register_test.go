package people

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/step"
	"glenrain/desk/store"
)

const aPassword = "low water at nine"

// newRegister is a register in a database of its own; of the tables of documents it has what is said there of people.
func newRegister(t *testing.T) *Register {
	t.Helper()
	log := slog.New(slog.DiscardHandler)
	db, end, err := store.OpenWritten(t.TempDir(), log)
	require.NoError(t, err)
	t.Cleanup(func() {
		end()
		if sql, err := db.DB(); err == nil {
			_ = sql.Close()
		}
	})
	require.NoError(t, db.AutoMigrate(&Person{}, &Session{}, &Invite{}, &SignedIn{}, &Device{}, &Choice{}))
	require.NoError(t, RecordTables(db))
	for _, sql := range []string{"documents (owner_id)", "folders (id, owner_id)", "folder_people (folder_id, person_id, UNIQUE (folder_id, person_id))", "passed_ons (person_id)"} {
		require.NoError(t, db.Exec("CREATE TABLE "+sql).Error)
	}
	return NewRegister(db, log, time.Now, nil)
}

// refused asserts that an error is of a kind, and says some words.
func refused[T error](t *testing.T, err error, words string) {
	t.Helper()
	var kind T
	require.ErrorAs(t, err, &kind)
	assert.Contains(t, err.Error(), words)
}

// Fifty who send one address at once: one account. Earlier addresses are void once somebody exists.
func TestInvitationsRaced(t *testing.T) {
	d := newRegister(t)
	void, err := d.InviteFirst(t.Context(), time.Hour)
	require.NoError(t, err)
	token, err := d.InviteFirst(t.Context(), time.Hour)
	require.NoError(t, err)
	_, err = d.Accept(t.Context(), void, Accepted{"Isla Merrow", "isla", aPassword})
	require.ErrorIs(t, err, ErrInvite, "an address of an earlier start")
	race := func(token string, name string) (in, out int) {
		var mu sync.Mutex
		var wg sync.WaitGroup
		for i := range 50 {
			wg.Go(func() {
				_, err := d.Accept(t.Context(), token, Accepted{"Somebody", fmt.Sprint(name, i), aPassword})
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
	_, err = d.Accept(t.Context(), late, Accepted{"Late", "late", aPassword})
	assert.ErrorIs(t, err, ErrInvite, "somebody is set up")
	// A wrong entry does not use the address up.
	joins, err = d.Join(t.Context(), 1, Member, "")
	require.NoError(t, err)
	_, err = d.Accept(t.Context(), joins, Accepted{"Tomas", "tomas", "password123"})
	refused[*BadPerson](t, err, "too common")
	p, err := d.Accept(t.Context(), joins, Accepted{"To\u202emas", "tomas", aPassword})
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
		refused[*BadPerson](t, checkPassword(pw, "isla", "Isla Merrow"), words)
	}
	for _, pw := range []string{aPassword, "ten letter", "ñandúes en la bahía", strings.Repeat("long ", 40)} {
		assert.NoError(t, checkPassword(pw, "isla", "Isla Merrow"), pw)
	}
}

// A throttled account and a throttled office: whoever signs in right from a browser that is known gets in.
func TestThrottling(t *testing.T) {
	d := newRegister(t)
	isla, err := d.AddPerson(t.Context(), "Isla Merrow", "isla", aPassword)
	require.NoError(t, err)
	tomas, err := d.AddPerson(t.Context(), "Tomas Quill", "tomas", aPassword)
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
	_, err = d.Enter(from("198.51.100.1"), "isla", aPassword, "")
	require.ErrorAs(t, err, &throttled, "also with the right one: it can't be told apart from a guess")
	_, err = d.Enter(from("203.0.113.1"), "isla", aPassword, device)
	require.NoError(t, err, "from a browser that is known")
	_, err = d.Enter(from("203.0.113.1"), "tomas", aPassword, "")
	require.NoError(t, err, "another account")
	_, err = d.Enter(from("203.0.113.1"), "tomas", aPassword, device)
	require.NoError(t, err, "the browser of another person is nobody's")
	// Many accounts from one address.
	for i := range addressTries {
		_, err := d.Enter(from("192.0.2.7"), fmt.Sprint("nobody", i), "wrong", "")
		require.ErrorIs(t, err, ErrSignIn)
	}
	_, err = d.Enter(from("192.0.2.7"), "tomas", aPassword, "")
	require.ErrorAs(t, err, &throttled)
	_, err = d.Enter(from("192.0.2.7"), "isla", aPassword, device)
	require.NoError(t, err)
	// A network of IPv6 counts as one.
	for i := range addressTries {
		_, err := d.Enter(from(fmt.Sprintf("2001:db8::%x", i+1)), fmt.Sprint("somebody", i), "wrong", "")
		require.ErrorIs(t, err, ErrSignIn)
	}
	_, err = d.Enter(from("2001:db8::ffff"), "tomas", aPassword, "")
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

// Sessions end at once: one's own, by an administrator, by a new aPassword, a reset, a removal.
func TestSessionsEnd(t *testing.T) {
	d := newRegister(t)
	isla, err := d.AddPerson(t.Context(), "Isla Merrow", "isla", aPassword)
	require.NoError(t, err)
	tomas, err := d.AddPerson(t.Context(), "Tomas Quill", "tomas", aPassword)
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
	refused[*Forbidden](t, err, "only an administrator")
	refused[*Forbidden](t, d.EndSession(t.Context(), tomas.ID, isla.ID, "", ""), "only an administrator")
	begin("b")
	refused[*step.Refusal](t, d.SetPassword(t.Context(), tomas.ID, "wrong", "neap tides too", "a"), "isn’t your current password")
	require.NoError(t, d.SetPassword(t.Context(), tomas.ID, aPassword, "neap tides too", "a"))
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
	refused[*step.Refusal](t, d.SetRole(t.Context(), isla.ID, isla.ID, Member), "last administrator")
	require.NoError(t, d.RemovePerson(t.Context(), isla.ID, tomas.ID, isla.ID))
	assert.False(t, in("d"))
	_, err = d.SignIn(t.Context(), "tomas", "spring tides again")
	require.ErrorIs(t, err, ErrSignIn)
	_, err = d.AddPerson(t.Context(), "Tomas Keel", "tomas", aPassword)
	require.NoError(t, err, "the name is free again")
	refused[*step.Refusal](t, d.RemovePerson(t.Context(), isla.ID, isla.ID, 3), "someone else has to remove you")
}
func TestMain(m *testing.M) {
	CheapHashesForTests()
	os.Exit(m.Run())
}
