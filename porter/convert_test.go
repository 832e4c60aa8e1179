package porter

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/intake"
	"glenrain/core/intake/intaketest"
	"glenrain/core/pdf"
)

func conversion(t *testing.T, name string, data []byte) Conversion {
	t.Helper()
	path := filepath.Join(t.TempDir(), "in")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	r := bytes.NewReader(data)
	return Conversion{Path: path, Size: r.Size(), Name: name, Kind: intake.Find(t.Context(), name, r, r.Size()), Folder: t.TempDir(), Out: path + ".pdf"}
}

// converted turns a file into pages and gives them; its folder is empty after that.
func converted(t *testing.T, c Conversion) (*Converted, *bytes.Buffer) {
	t.Helper()
	told, err := Convert(t.Context(), c)
	require.NoError(t, err)
	left, err := os.ReadDir(c.Folder)
	require.NoError(t, err)
	assert.Empty(t, left)
	out, err := os.ReadFile(c.Out)
	require.NoError(t, err)
	return told, bytes.NewBuffer(out)
}

// A long listing is set in runs that are one document: every line once, in order, the pages counted on.
func TestConvertLong(t *testing.T) {
	if testing.Short() {
		t.Skip("several runs")
	}
	var b bytes.Buffer
	for i := range 6000 {
		_, _ = b.WriteString("reading " + string(rune('a'+i%26)) + "\n")
	}
	told, out := converted(t, conversion(t, "log.txt", b.Bytes()))
	assert.Equal(t, "utf-8", told.Encoding)
	doc, err := pdf.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	pages, err := doc.Pages()
	require.NoError(t, err)
	assert.Len(t, pages, 100, "60 lines of 12 points stand on 728 points")
	in := filepath.Join(t.TempDir(), "in.pdf")
	require.NoError(t, os.WriteFile(in, out.Bytes(), 0o600))
	a := Arrival{Path: in, Size: int64(out.Len()), Working: filepath.Join(t.TempDir(), "w")}
	require.NoError(t, os.WriteFile(a.Working, nil, 0o600))
	r, err := Arrive(t.Context(), a)
	require.NoError(t, err)
	require.Len(t, r.Texts, 100)
	assert.Contains(t, r.Texts[99].Reading, "100 of 100")
	assert.True(t, r.About.Tagged)
	assert.Zero(t, r.About.LooseFonts)
}

// A sheet of many rows: each once, in order, over the ends of runs.
func TestConvertManyRows(t *testing.T) {
	if testing.Short() {
		t.Skip("several runs")
	}
	var rows bytes.Buffer
	rows.WriteString("No,Berth,Depth\n")
	const n = 2900
	for i := range n {
		_, _ = rows.WriteString("r" + string(rune('0'+i%10)) + ",North face,4.2\n")
	}
	told, out := converted(t, conversion(t, "berths.csv", rows.Bytes()))
	assert.Contains(t, told.Told, "In a table this long, headers and footers show the page number without the total.")
	in := filepath.Join(t.TempDir(), "in.pdf")
	require.NoError(t, os.WriteFile(in, out.Bytes(), 0o600))
	a := Arrival{Path: in, Size: int64(out.Len()), Working: filepath.Join(t.TempDir(), "w")}
	require.NoError(t, os.WriteFile(a.Working, nil, 0o600))
	r, err := Arrive(t.Context(), a)
	require.NoError(t, err)
	seen := 0
	for _, text := range r.Texts {
		for i := 0; i+1 < len(text.Reading); i++ {
			if text.Reading[i] == 'r' && text.Reading[i+1] == byte('0'+seen%10) && (i == 0 || text.Reading[i-1] == '\n' || text.Reading[i-1] == ' ' || text.Reading[i-1] == '\t') {
				seen++
			}
		}
	}
	assert.Equal(t, n, seen, "every row, in its order")
}

func TestNotConverted(t *testing.T) {
	var not *NotConverted
	_, err := Convert(t.Context(), conversion(t, "a.docx", intaketest.Docx("<w:p>")))
	require.ErrorAs(t, err, &not)
	assert.Equal(t, "the file is damaged: its contents can’t be read", not.Sentence)
	_, err = Convert(t.Context(), conversion(t, "a.doc", []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")))
	require.ErrorAs(t, err, &not)
	assert.Contains(t, not.Sentence, "save it as docx")
	bad := filepath.Join(t.TempDir(), "bad.png")
	require.NoError(t, os.WriteFile(bad, []byte("\x89PNG\r\n\x1a\nnothing"), 0o600))
	err = PlacePictures(t.Context(), Pictures{Files: []PictureFile{{Path: bad, Size: 15, Name: "Mark"}}, Placement: draw.Placement{}, Working: bad + ".pdf"}, nil)
	require.ErrorAs(t, err, &not)
	assert.Contains(t, not.Sentence, "“Mark”")
}
