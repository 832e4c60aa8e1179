package naming

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestName(t *testing.T) {
	p, err := Parse([]byte(`[{"field":"typed"},{"text":" - "},{"field":"number"},{"text":"  "},{"field":"title"},{"text":" ("},{"field":"pages"},{"text":", "},{"field":"date"},{"text":")"}]`))
	require.NoError(t, err)
	day := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	v := Values{Name: "Applications", Title: "North quay", Pages: "3-8", Typed: "HT-2041", Date: day, Number: 7, Of: 120}
	assert.Equal(t, "HT-2041 - 007 North quay (3-8, 2026-11-27)", p.Name(v))
	v.Title = ""
	assert.Contains(t, p.Name(v), "Applications", "without a title, the document's name stands for it")
	assert.True(t, p.Has("typed"))
	assert.False(t, p.Has("name"))
	for _, bad := range []string{`[{"field":"weather"}]`, `[{"field":"name","text":"x"}]`, `[{"word":"x"}]`, `{`} {
		_, err := Parse([]byte(bad))
		assert.Error(t, err, bad)
	}
	a, b, found := Twice([]string{"North", "South", "east", "SOUTH"})
	assert.True(t, found)
	assert.Equal(t, []int{1, 3}, []int{a, b})
	_, _, found = Twice([]string{"North", "South"})
	assert.False(t, found)
}
