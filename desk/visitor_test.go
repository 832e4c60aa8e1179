package desk

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// callers are visitors who are no people of the house: a gate of their own.
type callers map[uint]*people.Guest

func (c callers) Visitor(_ context.Context, id uint) (people.Visitor, error) {
	if g := c[id]; g != nil {
		return g, nil
	}
	return nil, people.ErrNobody
}

func (c callers) People(context.Context) (map[uint]string, error) {
	out := map[uint]string{}
	for id, g := range c {
		out[id] = g.Name
	}
	return out, nil
}

// A visitor who is no person looks at one document as it is now, and marks text in it; trail and record have their name; nothing else of the house is there for them.
func TestVisitorIsNoPerson(t *testing.T) {
	const fen, past, stray = people.FirstGuest + 7, people.FirstGuest + 8, people.FirstGuest + 9
	guests := callers{}
	d, err := Open(t.TempDir(), Options{PDFiumCache: raster.CacheForTests(), Guests: guests})
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	ctx := t.Context()
	_, err = d.AddPerson(ctx, "Isla Merrow", "isla", password)
	require.NoError(t, err)
	mine, other := bring(t, d, "Dredging plan.pdf", pdftest.Text(3)), bring(t, d, "Berth dues.pdf", pdftest.Text(3))
	guests[fen] = &people.Guest{Name: "Fen Aldous, Saltmarsh Surveys", Document: mine.ID, Acts: []people.Act{people.ActLook, people.ActComment, people.ActChange, people.ActAdminister}}
	guests[past] = &people.Guest{Name: "Ewan Tarbet", Document: mine.ID, Acts: []people.Act{people.ActLook}, Until: time.Now().Add(-time.Hour)}
	guests[3] = &people.Guest{Name: "Under a person’s id", Document: mine.ID, Acts: []people.Act{people.ActLook}}
	mustDo(t, d, mine.ID, "rotate", `{"pages":["0.1"],"by":90}`)

	head, err := d.Look(ctx, fen, mine.ID)
	require.NoError(t, err)
	_, err = d.Picture(ctx, fen, mine.ID, step.Key{Ordinal: 1}, head.Pages()[0].Version, 60, 60)
	require.NoError(t, err)
	list, err := d.Documents(ctx, Listing{Person: fen, Most: 9})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.NoError(t, d.ReadAll(ctx, 1))
	text, err := d.SearchText(ctx, fen, "page 2", 9)
	require.NoError(t, err)
	assert.Equal(t, 1, text.Pages)

	change := func(name, params string) (*Outcome, error) {
		return d.Do(ctx, Change{Document: mine.ID, Seen: snapshot(t, d, mine.ID).State.ID, RequestID: name + params, Person: fen, Name: name, Params: []byte(params)})
	}
	out, err := change("mark-text", `{"page":["0.2"],"quads":[[10,20,30,20,10,10,30,10]],"how":"highlight","colour":"#f6dd8f"}`)
	require.NoError(t, err)
	assert.Equal(t, uint(fen), out.Step.PersonID)
	names, err := d.People(ctx)
	require.NoError(t, err)
	assert.Equal(t, "Fen Aldous, Saltmarsh Surveys", names[out.Step.PersonID])
	assert.Equal(t, "Isla Merrow", names[1])
	lines, err := d.Records(ctx, 1, people.RecordQuery{What: "changed", Most: 9})
	require.NoError(t, err)
	require.NotEmpty(t, lines)
	assert.Equal(t, "Fen Aldous, Saltmarsh Surveys", lines[0].Who)
	undone, err := d.Undo(ctx, mine.ID, out.Snapshot.State.ID, fen)
	require.NoError(t, err, "their own mark")

	_, err = change("rotate", `{"pages":["0.1"],"by":90}`)
	refuses[*people.Forbidden](t, err, "you can’t do this")
	_, err = d.Undo(ctx, mine.ID, undone.Snapshot.State.ID, fen)
	refuses[*people.Forbidden](t, err, "you can’t do this")
	for what, err := range map[string]error{
		"another document": errOf(d.Look(ctx, fen, other.ID)),
		"its row":          errOf(d.Document(ctx, fen, other.ID)),
		"its picture":      errOf(d.Picture(ctx, fen, other.ID, step.Key{Ordinal: 1}, 0, 60, 60)),
		"an earlier page":  errOf(d.Picture(ctx, fen, mine.ID, step.Key{Ordinal: 1}, 0, 60, 60)),
	} {
		assert.ErrorIs(t, err, store.ErrMissing, what)
	}
	_, _, arrival := d.Against(ctx, fen, mine.ID, "arrival")
	_, _, original := d.OpenOriginal(ctx, fen, mine.ID)
	for what, err := range map[string]error{
		"an earlier version": errOf(d.LookAt(ctx, fen, mine.HeadID)), "compared with it": arrival, "the file as it came": original,
		"a step": errOf(d.StepOf(ctx, fen, mine.ID, out.Step.ID)), "a step, before and after": errOf(d.BeforeAfter(ctx, fen, mine.ID, out.Step.ID)),
		"adding": d.May(ctx, fen, people.ActAdd, 0), "administering": d.May(ctx, fen, people.ActAdminister, 0), "deleting": d.Bin(ctx, fen, []uint{mine.ID}),
	} {
		var no *people.Forbidden
		assert.ErrorAs(t, err, &no, what)
	}
	assert.ErrorIs(t, errOf(d.Folders(ctx, fen)), people.ErrNobody)
	require.NoError(t, d.Begin(ctx, "a token", fen, "a browser"))
	assert.ErrorIs(t, errOf(d.Whose(ctx, "a token")), people.ErrNobody, "no session of people")
	for _, id := range []uint{past, stray, 3} {
		assert.ErrorIs(t, errOf(d.Look(ctx, id, mine.ID)), people.ErrNobody, id)
	}
	require.NoError(t, d.Bin(ctx, 1, []uint{mine.ID}))
	assert.ErrorIs(t, errOf(d.Look(ctx, fen, mine.ID)), store.ErrMissing)
	assert.ErrorIs(t, errOf(d.Document(ctx, fen, mine.ID)), store.ErrMissing)
}

func errOf[T any](_ T, err error) error { return err }
