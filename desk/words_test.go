package desk

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/desk/people"
)

// Words of the office are kept without what stands around them, each once, and known at once; readers teach none.
func TestLearnWord(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	assert.False(t, d.KnowsWord("Netlofts"))
	for range 2 {
		w, err := d.LearnWord(ctx, 1, " Netlofts, ")
		require.NoError(t, err)
		assert.Equal(t, "Netlofts", w)
	}
	assert.True(t, d.KnowsWord("Netlofts"))
	assert.False(t, d.KnowsWord("netlofts"))
	list, n, err := d.LearnedWords(ctx, 10)
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	for _, no := range []string{"", "12.5", "two words", "…"} {
		_, err := d.LearnWord(ctx, 1, no)
		assert.ErrorContains(t, err, "can’t be added to the dictionary", no)
	}
	rona, err := d.AddPersonAs(ctx, people.Reader, "Rona Skerry", "rona", "neap tides too")
	require.NoError(t, err)
	_, err = d.LearnWord(ctx, rona.ID, "Quill")
	assert.Error(t, err)
	require.NoError(t, d.ForgetWord(ctx, 1, list[0].ID))
	assert.False(t, d.KnowsWord("Netlofts"))
}
