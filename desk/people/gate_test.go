package people

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/desk/store"
)

// What each role may do stands in one table; nobody but an administrator deletes for good or manages people.
func TestRoles(t *testing.T) {
	all := []Act{ActLook, ActDownload, ActHistory, ActComment, ActAdd, ActChange, ActRename, ActMove, ActPass, ActBin, ActRestore, ActHandOut, ActFolder, ActPurge, ActAdminister}
	may := map[Role]int{}
	for _, r := range Roles {
		assert.NotEmpty(t, r.Means())
		for _, a := range all {
			p := &Person{Name: "Isla Merrow", Role: r}
			err := p.May(a)
			assert.Equal(t, r.Allows(a), err == nil, "%s %s", r, a)
			if err == nil {
				may[r]++
				continue
			}
			var no *Forbidden
			require.ErrorAs(t, err, &no)
			switch {
			case a == ActPurge || a == ActAdminister:
				assert.Contains(t, no.Sentence, "administrator")
			case r == Reader:
				assert.Contains(t, no.Sentence, "reader")
			}
		}
	}
	assert.Equal(t, map[Role]int{Administrator: 15, Member: 13, Reader: 4}, may)
	assert.Equal(t, "an administrator", Administrator.A())
	assert.Equal(t, "a reader", Reader.A())
	assert.False(t, Role("harbour master").Allows(ActLook), "a role that is none")
	assert.Equal(t, "IM", (&Person{Name: "Isla Merrow Quill"}).Initials())
	assert.Empty(t, (&Person{}).Initials())
}

// A guest has one document and what they were asked for, of what guests can be asked for at all.
func TestGuest(t *testing.T) {
	g := &Guest{Name: "Fen Aldous", Document: 7, Acts: []Act{ActLook, ActChange, ActAdminister}}
	assert.NoError(t, g.May(ActLook))
	for _, a := range []Act{ActComment, ActChange, ActAdminister, ActHistory, ActDownload} {
		refused[*Forbidden](t, g.May(a), "invited")
	}
	in, args := g.Scope("d")
	assert.Equal(t, "(d.id = ? AND d.away_at IS NULL)", in)
	assert.Equal(t, []any{uint(7)}, args)
}

// The gate knows people of the house and guests by their ids, and neither for the other.
func TestVisitors(t *testing.T) {
	d := newRegister(t)
	guests := guestList{FirstGuest + 1: &Guest{Name: "Fen Aldous"}, FirstGuest + 2: &Guest{Name: "Ewan Tarbet", Until: time.Now().Add(-time.Minute)}, 1: &Guest{Name: "Under a person’s id"}}
	_, err := d.Visitor(t.Context(), FirstGuest+1)
	assert.ErrorIs(t, err, ErrNobody, "nobody invites guests here")
	d.guests = guests
	_, err = d.Visitor(t.Context(), 1)
	assert.ErrorIs(t, err, ErrNobody, "no person, and no guest")
	p, err := d.AddPerson(t.Context(), "Isla Merrow", "isla", aPassword)
	require.NoError(t, err)
	v, err := d.Visitor(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, "Isla Merrow", v.Called())
	in, args, err := d.Scoped(t.Context(), p.ID, "documents")
	require.NoError(t, err)
	assert.Equal(t, Everything, in)
	assert.Empty(t, args)
	v, err = d.Visitor(t.Context(), FirstGuest+1)
	require.NoError(t, err)
	assert.Equal(t, "Fen Aldous", v.Called())
	for _, id := range []uint{0, 99, FirstGuest, FirstGuest + 2} {
		_, err = d.Visitor(t.Context(), id)
		assert.ErrorIs(t, err, ErrNobody, "%d", id)
		assert.ErrorIs(t, d.Admits(t.Context(), id, ActLook), ErrNobody, "%d", id)
		_, _, err = d.Scoped(t.Context(), id, "d")
		assert.ErrorIs(t, err, ErrNobody, "%d", id)
	}
	refused[*Forbidden](t, d.Admits(t.Context(), FirstGuest+1, ActAdminister), "invited")
	names, err := d.People(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[uint]string{p.ID: "Isla Merrow", FirstGuest + 1: "Fen Aldous", FirstGuest + 2: "Ewan Tarbet"}, names)

	// What a guest did stands in the record with their name, also when they are gone.
	d.Note(t.Context(), Record{PersonID: FirstGuest + 2, What: "changed", Detail: "Text highlighted"})
	lines, err := d.Records(t.Context(), p.ID, RecordQuery{What: "changed"})
	require.NoError(t, err)
	require.Len(t, lines, 1)
	assert.Equal(t, "Ewan Tarbet", lines[0].Who)
}

type guestList map[uint]*Guest

func (l guestList) Visitor(_ context.Context, id uint) (Visitor, error) {
	if g := l[id]; g != nil {
		return g, nil
	}
	return nil, ErrNobody
}

func (l guestList) People(context.Context) (map[uint]string, error) {
	out := map[uint]string{}
	for id, g := range l {
		out[id] = g.Name
	}
	return out, nil
}

// Lines of the record are found by what they say, kept from being changed, and exported so that no spreadsheet takes one for a formula.
func TestRecords(t *testing.T) {
	d := newRegister(t)
	p, err := d.AddPerson(t.Context(), "Isla Merrow", "isla", aPassword)
	require.NoError(t, err)
	ctx := From(t.Context(), "192.0.2.8")
	d.Note(ctx, Record{PersonID: p.ID, What: "added", DocumentID: 4, Document: "=HYPERLINK(1)"})
	d.Note(ctx, Record{PersonID: p.ID, What: "renamed", DocumentID: 4, Document: "100 % sure_thing", Detail: strings.Repeat("x", 600)})
	d.Opened(ctx, p.ID, 4, "Berths")
	d.Opened(ctx, p.ID, 4, "Berths")
	count := func(q RecordQuery) int {
		lines, err := d.Records(t.Context(), p.ID, q)
		require.NoError(t, err)
		return len(lines)
	}
	assert.Equal(t, 3, count(RecordQuery{}), "opened once")
	assert.Equal(t, 1, count(RecordQuery{Words: "100 %"}))
	assert.Equal(t, 1, count(RecordQuery{Words: "sure_"}))
	assert.Zero(t, count(RecordQuery{Words: "sureXthing"}), "an underscore stands for itself")
	assert.Equal(t, 3, count(RecordQuery{Words: "192.0.2.8 Isla"}))
	assert.Zero(t, count(RecordQuery{Person: 99}))
	assert.Equal(t, 2, count(RecordQuery{Most: 2}))
	assert.Zero(t, count(RecordQuery{From: time.Now().Add(time.Hour)}))
	assert.Zero(t, count(RecordQuery{To: time.Now().Add(-time.Hour)}))
	assert.Error(t, d.db.Exec("UPDATE records SET who = 'Nobody'").Error, "a line stays as it was written")

	var b bytes.Buffer
	require.NoError(t, d.ExportRecords(ctx, p.ID, RecordQuery{}, &b))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	assert.Equal(t, "'=HYPERLINK(1)", rows[3][5])
	assert.LessOrEqual(t, len(rows[2][6]), 503)
	assert.Equal(t, "added", rows[3][3])
	member, err := d.AddPerson(t.Context(), "Tomas Quill", "tomas", aPassword)
	require.NoError(t, err)
	_, err = d.Records(t.Context(), member.ID, RecordQuery{})
	refused[*Forbidden](t, err, "only an administrator")
	refused[*Forbidden](t, d.ExportRecords(ctx, member.ID, RecordQuery{}, &b), "only an administrator")
	refused[*Forbidden](t, d.Keep(ctx, member.ID, House{RecordDays: 90}), "only an administrator")
	for _, h := range []House{{RecordDays: 29}, {RecordDays: 3651}, {RecordDays: 90, BinDays: -1}, {RecordDays: 90, BinDays: 3651}} {
		assert.Error(t, d.Keep(ctx, p.ID, h), "%+v", h)
	}
	require.NoError(t, d.Keep(ctx, p.ID, House{RecordDays: 90, BinDays: 30}))
	h, err := d.House(t.Context())
	require.NoError(t, err)
	assert.Equal(t, House{ID: 1, RecordDays: 90, BinDays: 30}, h)
	assert.True(t, errors.Is(store.Missing(d.db.First(&Person{}, 99).Error), store.ErrMissing))
}

// How somebody left a screen is theirs, and goes with them.
func TestChoices(t *testing.T) {
	d := newRegister(t)
	isla, err := d.AddPerson(t.Context(), "Isla Merrow", "isla", aPassword)
	require.NoError(t, err)
	tomas, err := d.AddPerson(t.Context(), "Tomas Quill", "tomas", aPassword)
	require.NoError(t, err)
	require.NoError(t, d.Choose(t.Context(), tomas.ID, "zoom", "width"))
	require.NoError(t, d.Choose(t.Context(), tomas.ID, "zoom", "page"))
	assert.Equal(t, "page", d.Choice(t.Context(), tomas.ID, "zoom"))
	assert.Empty(t, d.Choice(t.Context(), isla.ID, "zoom"))
	require.NoError(t, d.RemovePerson(t.Context(), isla.ID, tomas.ID, isla.ID))
	assert.Empty(t, d.Choice(t.Context(), tomas.ID, "zoom"))
	names, err := d.People(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "Tomas Quill", names[tomas.ID], "the name stays in trails")
	_, err = d.Person(t.Context(), tomas.ID)
	assert.ErrorIs(t, err, store.ErrMissing)
}
