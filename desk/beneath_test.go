package desk

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/step"
	"glenrain/desk/people"
)

// marked is a document that several people work on.
type marked struct {
	*house
	t *testing.T
}

func (m *marked) head() *Snapshot {
	s, err := m.Snapshot(m.t.Context(), m.open.ID)
	require.NoError(m.t, err)
	return s
}

// does has a person do a step on the newest state.
func (m *marked) does(person uint, name, params string) {
	m.t.Helper()
	_, err := m.Do(m.t.Context(), Change{Document: m.open.ID, Seen: m.head().State.ID, RequestID: people.NewToken(), Person: person, Name: name, Params: []byte(params)})
	require.NoError(m.t, err)
}

func (m *marked) marks(person uint, page string) {
	m.t.Helper()
	name := map[uint]string{m.isla: "isla", m.tomas: "tomas", m.rona: "rona"}[person]
	m.does(person, "mark-text", `{"page":["`+page+`"],"quads":[[10,20,30,20,10,10,30,10]],"how":"highlight","colour":"#f6dd8f","author":"`+name+`"}`)
}

// looks says how page 1 is turned, how many pages there are, and whose marks are on them.
func (m *marked) looks() (turned, pages int, whose []string) {
	m.t.Helper()
	s := m.head()
	list, err := s.PDF.Pages()
	require.NoError(m.t, err)
	all, err := m.Marks(m.t.Context(), s)
	require.NoError(m.t, err)
	for _, a := range all {
		whose = append(whose, a.Author)
	}
	return s.PDF.Geometry(list[0].Ref).Rotate, len(list), whose
}

func (m *marked) is(turned, pages int, whose ...string) {
	m.t.Helper()
	t, p, w := m.looks()
	assert.Equal(m.t, []int{turned, pages}, []int{t, p})
	assert.ElementsMatch(m.t, whose, w)
}

func newMarked(t *testing.T) *marked { return &marked{newHouse(t), t} }

func (m *marked) undo(person uint) string {
	m.t.Helper()
	out, err := m.Undo(m.t.Context(), m.open.ID, m.head().State.ID, person)
	require.NoError(m.t, err)
	return out.Undone
}

func (m *marked) redo(person uint) string {
	m.t.Helper()
	out, err := m.Redo(m.t.Context(), m.open.ID, m.head().State.ID, person)
	require.NoError(m.t, err)
	return out.Undone
}

// Undo takes back one's own newest step, beneath marks that others added since, and redo brings it again: the marks stay through all of it.
func TestUndoBeneathMarks(t *testing.T) {
	m := newMarked(t)
	m.does(m.tomas, "rotate", `{"pages":"1","by":90}`)
	m.does(m.tomas, "remove", `{"pages":"3"}`)
	m.marks(m.rona, "0.2")
	m.is(90, 2, "rona")
	assert.Equal(t, "Page 3 removed", m.undo(m.tomas))
	m.is(90, 3, "rona")
	assert.Equal(t, "Page 1 rotated right", m.undo(m.tomas))
	m.is(0, 3, "rona")
	_, err := m.Undo(t.Context(), m.open.ID, m.head().State.ID, m.tomas)
	refuses[*step.Refusal](t, err, "is by rona, and none of the latest changes is yours")
	assert.Equal(t, "Page 1 rotated right", m.redo(m.tomas))
	m.is(90, 3, "rona")
	assert.Equal(t, "Page 3 removed", m.redo(m.tomas))
	m.is(90, 2, "rona")
	assert.False(t, m.CanRedo(t.Context(), m.head()))
	// Whoever made the mark undoes it, and nothing else.
	m.undo(m.tomas)
	m.undo(m.rona)
	m.is(90, 3)
	m.redo(m.rona)
	m.is(90, 3, "rona")
	// A reader's own, beneath that of somebody else.
	m.marks(m.isla, "0.1")
	m.undo(m.rona)
	m.is(90, 3, "isla")
	assert.Contains(t, m.redo(m.rona), "ighlight")
	m.is(90, 3, "isla", "rona")
	// The trail runs again as it is stored.
	_, err = m.Replay(t.Context(), m.open.ID)
	require.NoError(t, err)
}

// What can't be without a step that is to go refuses, and nothing is changed.
func TestUndoBeneathRefused(t *testing.T) {
	m := newMarked(t)
	m.does(m.tomas, "blank", `{"to":"2"}`)
	m.marks(m.rona, "1.1")
	before := m.head().State.ID
	_, err := m.Undo(t.Context(), m.open.ID, before, m.tomas)
	refuses[*step.Refusal](t, err, "depends on this step")
	assert.Equal(t, before, m.head().State.ID)
	m.is(0, 4, "rona")
	_, err = m.Undo(t.Context(), m.open.ID, before, m.petra)
	refuses[*step.Refusal](t, err, "in the trail")
	// After a return, which is no step, what was before it is left alone.
	first, err := m.Arrival(t.Context(), m.head())
	require.NoError(t, err)
	_, err = m.GoBack(t.Context(), m.open.ID, before, m.tomas, first)
	require.NoError(t, err)
	m.is(0, 3)
	m.does(m.tomas, "rotate", `{"pages":"1","by":90}`)
	m.marks(m.rona, "0.1")
	m.undo(m.tomas)
	m.is(0, 3, "rona")
}

// Pages that came from another document since are of both: what is beneath is not undone alone.
func TestUndoBeneathTransfer(t *testing.T) {
	m := newMarked(t)
	m.does(m.tomas, "rotate", `{"pages":["0.1"],"by":90}`)
	from, err := m.Snapshot(t.Context(), m.closed.ID)
	require.NoError(t, err)
	_, err = m.Transfer(t.Context(), Transfer{From: m.closed.ID, To: m.open.ID, SeenFrom: from.State.ID, SeenTo: m.head().State.ID, Person: m.isla, RequestID: "moved", Pages: step.Pages{Rule: "1"}, Place: step.Place{}})
	require.NoError(t, err)
	m.is(90, 4)
	before := m.head().State.ID
	_, err = m.Undo(t.Context(), m.open.ID, before, m.tomas)
	refuses[*step.Refusal](t, err, "move them back first")
	assert.Equal(t, before, m.head().State.ID)
	m.undo(m.isla)
	m.is(90, 3)
	m.undo(m.tomas)
	m.is(0, 3)
}

// Returning to a version keeps the marks that others added since, and says which it can't keep.
func TestReturnKeepsMarks(t *testing.T) {
	m := newMarked(t)
	first, err := m.Arrival(t.Context(), m.head())
	require.NoError(t, err)
	m.does(m.tomas, "rotate", `{"pages":"1","by":90}`)
	m.marks(m.rona, "0.2")
	m.marks(m.tomas, "0.3")
	m.does(m.tomas, "blank", `{"to":"1"}`)
	m.marks(m.isla, "4.1")
	before := m.head().State.ID
	out, err := m.GoBack(t.Context(), m.open.ID, before, m.tomas, first)
	require.NoError(t, err)
	assert.Equal(t, "Returned to “original version”; 1 change to marks by others removed, because what they marked is not in this version", out.Undone)
	m.is(0, 3, "rona")
	lines, err := m.Records(t.Context(), m.isla, people.RecordQuery{What: "changed", Most: 1})
	require.NoError(t, err)
	assert.Equal(t, out.Undone, lines[0].Detail)
	m.undo(m.tomas)
	assert.Equal(t, before, m.head().State.ID, "undoing leads back to where one was")
	// Marks that are in the version already are not added twice.
	m.does(m.tomas, "rotate", `{"pages":"1","by":90}`)
	_, err = m.GoBack(t.Context(), m.open.ID, m.head().State.ID, m.tomas, before)
	require.NoError(t, err)
	m.is(0, 4, "rona", "tomas", "isla")
}
