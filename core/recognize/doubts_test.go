package recognize

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// given is a source that is a reading.
type given []byte

func (g given) Open(context.Context, step.SourceRef) (*step.Source, error) {
	return &step.Source{Name: "reading", Data: bytes.NewReader(g), Size: int64(len(g))}, nil
}

func (given) Keep(func(io.Writer) error) (step.SourceRef, error) { return "", nil }

// Which words are uncertain is kept with the reading: done again where other dictionaries are installed, the step gives the same.
func TestDoubtsStayWithTheReading(t *testing.T) {
	read := &Reading{Engine: "5", Languages: []string{"eng"}, Asked: 1, Pages: []PageReading{{Page: step.Key{Ordinal: 1}, Lines: []Line{
		{Words: []Word{{Text: "soundings", Sure: 80, X: 10, Y: 10, Long: 60}, {Text: "qzxv", Sure: 80, X: 90, Y: 10, Long: 30}}},
	}}}}
	doubts := func() []Doubt {
		data, err := json.Marshal(read)
		require.NoError(t, err)
		base := pdftest.Open(t, pdftest.Text(1))
		pages, err := base.Pages()
		require.NoError(t, err)
		doc := base.Fork()
		_, err = (&Recognize{Made: "sha256:x"}).Apply(t.Context(), doc, &step.Env{Keys: step.NewKeys(pages), Sources: given(data)})
		require.NoError(t, err)
		_, note, ok := Layer(doc, pages[0].Ref)
		require.True(t, ok)
		return note.Doubts
	}
	read.check()
	require.True(t, read.Pages[0].Checked)
	assert.Equal(t, read.Pages[0].Doubts, doubts())
	read.Pages[0].Doubts = []Doubt{{Word: 0, Sure: 80}} // as other dictionaries had it
	assert.Equal(t, []Doubt{{Word: 0, Sure: 80}}, doubts())
	read.Pages[0].Doubts = nil // as one that knows all of them
	assert.Empty(t, doubts())
	read.Pages[0].Checked = false // a reading of before keeps none
	assert.NotEmpty(t, doubts())
}
