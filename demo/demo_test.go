package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/jobs"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
	"glenrain/core/step"
)

type one struct{ doc *pdf.Document }

func (o one) Open(context.Context, step.SourceRef) (*step.Source, error) {
	return &step.Source{Name: "Byelaws", Doc: o.doc, Data: o.doc.Source(), Size: o.doc.Size()}, nil
}

func TestPapers(t *testing.T) {
	files, err := Files()
	require.NoError(t, err)
	again, err := Files()
	require.NoError(t, err)
	by := map[string][]byte{}
	for i, f := range files {
		by[f.Name] = f.Data
		assert.True(t, bytes.Equal(f.Data, again[i].Data), "%s is made the same each time", f.Name)
		if strings.HasSuffix(f.Name, ".pdf") {
			pdftest.Check(t, f.Data)
			continue
		}
		_, err := picture.Decode(f.Data)
		require.NoError(t, err, f.Name)
	}
	volume := pdftest.Open(t, by["Byelaws, consolidated.pdf"])
	assert.Len(t, pdftest.Refs(t, volume), 1200)
	p, err := picture.Decode(by["Ladder 14.jpg"])
	require.NoError(t, err)
	w, h := p.Points()
	assert.Equal(t, 6, p.Orientation)
	assert.Greater(t, h, w, "held upright")
	assert.Greater(t, len(by["Knuckle at low water.jpg"]), 1_000_000, "heavy, as photographs are")
	// The scanned sheet has no text, the letter has.
	texts := pdftest.PageTexts(t, by["Mooring licence, signed.pdf"])
	assert.Equal(t, []string{""}, texts)
	assert.Contains(t, pdftest.PageTexts(t, by["Letter to berth holders.pdf"])[0], "Dear berth holder,")

	// A page of the volume costs another document little, and turning one costs next to nothing.
	letter := pdftest.Open(t, by["Letter to berth holders.pdf"])
	pages, err := letter.Pages()
	require.NoError(t, err)
	reg := jobs.Registry()
	s, err := reg.New("insert", json.RawMessage(`{"from":"state:1","pages":"600","to":"end","name":"Byelaws"}`))
	require.NoError(t, err)
	_, res, err := reg.Run(t.Context(), letter, s, &step.Env{Step: 1, Keys: step.NewKeys(pages), Sources: one{volume}})
	require.NoError(t, err)
	assert.Less(t, len(res.Update), 50_000)
	next, err := letter.With(res.Update)
	require.NoError(t, err)
	assert.Contains(t, pdftest.PageTexts(t, pdftest.Whole(t, next))[2], "Byelaws of the Orrin Quay")

	pages, err = volume.Pages()
	require.NoError(t, err)
	s, err = reg.New("turn", json.RawMessage(`{"pages":"700","by":90}`))
	require.NoError(t, err)
	_, res, err = reg.Run(t.Context(), volume, s, &step.Env{Step: 1, Keys: step.NewKeys(pages)})
	require.NoError(t, err)
	assert.Less(t, len(res.Update), 2000)
}
