package desk

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/store"
)

// What is measured is what comes of the step, to the byte but for the chance of its ids, and nothing is kept of it.
func TestMeasure(t *testing.T) {
	d := newDesk(t)
	doc, short := bring(t, d, "Berths.pdf", pdftest.Text(12)), bring(t, d, "Tides.pdf", pdftest.Text(2))
	c := Change{Document: doc.ID, Seen: doc.HeadID, Person: 1, Name: "remove", Params: []byte(`{"pages":"3-11"}`)}
	m, err := d.Measure(t.Context(), c)
	require.NoError(t, err)
	assert.Equal(t, "Pages 3-11 removed", m.Sentence)
	assert.Less(t, m.After, m.Before)
	assert.Equal(t, doc.HeadID, snapshot(t, d, doc.ID).State.ID)
	export := func(name string) int64 {
		s := snapshot(t, d, doc.ID)
		h, err := d.HandOut(t.Context(), &background.Work{}, Order{Document: doc.ID, Seen: s.State.ID, Person: 1, Name: name, AsItIs: true})
		require.NoError(t, err)
		return h.Size
	}
	assert.InDelta(t, export("Before"), m.Before, 40)
	mustDo(t, d, doc.ID, c.Name, string(c.Params))
	assert.InDelta(t, export("After"), m.After, 40)

	// On several: what can't be done on one is said there.
	list, err := d.MeasureMany(t.Context(), &background.Work{}, 1, "rotate", []byte(`{"pages":"3","by":90}`), []uint{short.ID, doc.ID})
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Contains(t, list[0].Refused, "page")
	assert.Zero(t, list[0].After)
	assert.Empty(t, list[1].Refused)
	assert.Equal(t, []step.Key{{Ordinal: 12}}, list[1].Pages)
	assert.Equal(t, "Tides", list[0].Document.Name)

	_, err = d.Measure(t.Context(), Change{Document: doc.ID, Seen: 1, Person: 1, Name: "rotate", Params: []byte(`{"pages":"1","by":90}`)})
	var conflict *Conflict
	assert.ErrorAs(t, err, &conflict)
	_, err = d.MeasureMany(t.Context(), &background.Work{}, 1, "rotate", []byte(`{"pages":"1","by":90}`), []uint{99})
	assert.ErrorIs(t, err, store.ErrMissing)
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = d.MeasureMany(gone, &background.Work{}, 1, "rotate", []byte(`{"pages":"1","by":90}`), []uint{doc.ID})
	assert.ErrorIs(t, err, context.Canceled)
	_, err = d.MeasureMany(t.Context(), &background.Work{}, 1, "rotate", nil, make([]uint, mostAtOnce+1))
	assert.ErrorContains(t, err, "up to 500 documents")
}
