package desk

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// A state gets a name, is listed, and is gone back to; undoing leads to where one was.
func TestStatesWithNames(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Letter.pdf", pdftest.Text(3))
	mustDo(t, d, doc.ID, "rotate", `{"pages":"1","by":90}`)
	s, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	first := s.State.ID
	require.NoError(t, d.CallState(t.Context(), 1, doc.ID, first, "  Sent   to the pilots "))
	assert.ErrorIs(t, d.CallState(t.Context(), 1, doc.ID, 9999, "Nowhere"), ErrMissing)
	var no *step.Refusal
	assert.ErrorAs(t, d.CallState(t.Context(), 1, doc.ID, first, string(make([]rune, 300))+"x"), &no)
	mustDo(t, d, doc.ID, "remove", `{"pages":"2"}`)
	named, err := d.NamedStates(t.Context(), doc.ID)
	require.NoError(t, err)
	require.Len(t, named, 1)
	assert.Equal(t, "Sent to the pilots", named[0].Called)
	called, err := d.Called(t.Context(), doc.ID, []uint{first, first + 1})
	require.NoError(t, err)
	assert.Equal(t, map[uint]string{first: "Sent to the pilots"}, called)

	now, err := d.Snapshot(t.Context(), doc.ID)
	require.NoError(t, err)
	out, err := d.GoBack(t.Context(), doc.ID, now.State.ID, 1, first)
	require.NoError(t, err)
	assert.Equal(t, "Went back to “Sent to the pilots”", out.Undone)
	assert.Len(t, out.Snapshot.Pages(), 3)
	_, err = d.GoBack(t.Context(), doc.ID, now.State.ID, 1, first)
	var conflict *Conflict
	assert.ErrorAs(t, err, &conflict, "somebody who has not seen it")
	back, err := d.Undo(t.Context(), doc.ID, out.Snapshot.State.ID, 1)
	require.NoError(t, err)
	assert.Len(t, back.Snapshot.Pages(), 2)
	require.NoError(t, d.CallState(t.Context(), 1, doc.ID, first, ""))
	named, err = d.NamedStates(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.Empty(t, named)
}

// Two states are compared page by page: words, looks, pages that went and came; and two documents by their texts.
func TestCompareStates(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Letter.pdf", pdftest.Text(4))
	mustDo(t, d, doc.ID, "replace-text", `{"pages":"2","pairs":[{"find":"Page","with":"Leaf"}]}`)
	mustDo(t, d, doc.ID, "rotate", `{"pages":"3","by":90}`)
	mustDo(t, d, doc.ID, "remove", `{"pages":"4"}`)
	mustDo(t, d, doc.ID, "blank", `{"to":1}`)
	now, then, err := d.Against(t.Context(), 1, doc.ID, "arrival")
	require.NoError(t, err)
	c, err := d.Compare(t.Context(), then, now)
	require.NoError(t, err)
	require.Len(t, c.Pages, 4)
	came, words, looks, went := c.Pages[0], c.Pages[1], c.Pages[2], c.Pages[3]
	assert.Nil(t, came.Then)
	assert.Equal(t, []ComparedWords{{Was: "Page", Is: "Leaf", After: "2"}}, words.Words)
	assert.True(t, looks.Looks)
	assert.Nil(t, went.Now)
	places, err := d.ComparePage(t.Context(), then, now, words.Then.Key, words.Now.Key)
	require.NoError(t, err)
	assert.Equal(t, [][2]int{{0, 4}}, places.A)
	assert.Equal(t, [][2]int{{0, 4}}, places.B)
	assert.NotEmpty(t, places.Looks)

	other := bring(t, d, "Other.pdf", pdftest.Text(3))
	now, then, err = d.Against(t.Context(), 1, doc.ID, "doc:"+toText(other.ID))
	require.NoError(t, err)
	c, err = d.Compare(t.Context(), then, now)
	require.NoError(t, err)
	assert.NotEmpty(t, c.Pages)
	for _, bad := range []string{"", "state:99999", "doc:99999", "page:1"} {
		_, _, err := d.Against(t.Context(), 1, doc.ID, bad)
		assert.Error(t, err, bad)
	}
}

func toText(id uint) string {
	b, _ := json.Marshal(id) // of a number
	return string(b)
}
