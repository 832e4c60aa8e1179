package desk

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/desk/formerly"
	"glenrain/desk/people"
)

func TestToday(t *testing.T) {
	for was, now := range map[string]string{
		"“Taken off” amended on page 1; what stands below moved down by 12.0 pt": "“Taken off” edited on page 1; text below moved down 12.0 pt",
		"3 things taken off page 2":                         "3 objects removed from page 2",
		"Page 3 rotated right":                              "Page 3 rotated right",
		"Pages 1-4 put on 2 sheets, 2 on each":              "Pages 1-4 placed on 2 sheets, 2 on each",
		"Text of page 1 recognized: 90 words, 93 % sure":    "Text of page 1 recognized: 90 words, 93% confidence",
		"“Dues, handed out” is open to the house":           "“Dues, handed out” is visible to everyone",
		"All of pages 2 and 3 shown again":                  "pages 2 and 3 uncropped",
		"a quotation that does not end, “taken off":         "a quotation that does not end, “taken off",
		"Went back to “put on hold”":                        "Returned to “put on hold”",
		"Bookmark “A” moved below “B”, behind “put right”.": "Bookmark “A” moved below “B”, after “put right”.",
	} {
		assert.Equal(t, now, formerly.Today(was))
	}
}

// A data folder of an earlier version reads as before: its trail in today's words, its steps under their names of then, its log, what it exported.
func TestFolderOfBefore(t *testing.T) {
	packed, err := os.ReadFile("testdata/earlier.tar.gz")
	require.NoError(t, err)
	z, err := gzip.NewReader(bytes.NewReader(packed))
	require.NoError(t, err)
	data, err := io.ReadAll(z)
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "data")
	_, err = Restore(bytes.NewReader(data), dir)
	require.NoError(t, err)
	d := openDesk(t, dir)
	t.Cleanup(func() { _ = d.Close() })
	var doc Document
	require.NoError(t, d.db.First(&doc).Error)
	s := snapshot(t, d, doc.ID)
	var said []string
	for _, st := range trail(t, d, s) {
		said = append(said, st.Sentence)
		assert.True(t, d.registry.Has(st.Name), "%s", st.Name)
	}
	assert.Equal(t, []string{"“Winter berths are let from the…” edited on page 1", "Paragraph moved on page 2", "Pages 1-3 reversed", "Paragraph removed from page 1", "Page 2 rotated right"}, said)

	// An earlier step is undone alone: those after it run again under the names they were stored with.
	first := trail(t, d, s)[2]
	out, err := d.Revise(t.Context(), Revision{Document: doc.ID, Step: first.ID, Seen: s.State.ID, Person: 1})
	require.NoError(t, err)
	assert.Len(t, trail(t, d, out.Snapshot), 4)

	log, err := d.Records(t.Context(), 1, people.RecordQuery{Most: 100})
	require.NoError(t, err)
	did := map[string]string{}
	for _, r := range log {
		did[r.Did()] = r.Detail
	}
	assert.Equal(t, "Dues, sent.pdf", did["exported"])
	assert.Contains(t, did, "folder changed")
	exported, err := d.Records(t.Context(), 1, people.RecordQuery{What: "handed out", Most: 9})
	require.NoError(t, err)
	assert.Len(t, exported, 1)
}
