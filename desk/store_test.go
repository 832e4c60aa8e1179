package desk

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStore(t *testing.T) {
	dir := t.TempDir()
	s, err := newStore(dir)
	require.NoError(t, err)
	put := func(text string) string {
		sha, n, err := s.Put(func(w io.Writer) error { _, err := io.WriteString(w, text); return err })
		require.NoError(t, err)
		assert.Equal(t, int64(len(text)), n)
		return sha
	}
	// SHA-256 of "abc": FIPS 180-4, the first example of the standard's test values
	assert.Equal(t, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", put("abc"))
	assert.Equal(t, put("abc"), put("abc"), "the same bytes stand once")
	f, err := s.Open(put("harbour"))
	require.NoError(t, err)
	b, err := io.ReadAll(f)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	assert.Equal(t, "harbour", string(b))
	st, err := os.Stat(s.Path(put("harbour")))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm(), "nobody else reads it")

	// A write that fails leaves nothing.
	broken := errors.New("broken")
	_, _, err = s.Put(func(w io.Writer) error { _, _ = io.WriteString(w, "half"); return broken })
	require.ErrorIs(t, err, broken)
	left, err := os.ReadDir(filepath.Join(dir, "coming"))
	require.NoError(t, err)
	assert.Empty(t, left)

	// What was still coming when the server stopped is gone at the next start.
	in, err := s.Create()
	require.NoError(t, err)
	_, err = in.Write([]byte("half a file"))
	require.NoError(t, err)
	_, err = newStore(dir)
	require.NoError(t, err)
	left, err = os.ReadDir(filepath.Join(dir, "coming"))
	require.NoError(t, err)
	assert.Empty(t, left)
	in.Drop()
	_, err = s.Open("../../etc/passwd")
	assert.Error(t, err)
	_, err = s.Open("")
	assert.Error(t, err)
}

// What somebody kept and has not named yet stays, also where somebody else kept the same bytes for something that failed.
func TestPins(t *testing.T) {
	s, err := newStore(t.TempDir())
	require.NoError(t, err)
	put := func() string {
		sha, _, err := s.Put(func(w io.Writer) error { _, err := io.WriteString(w, "soundings"); return err })
		require.NoError(t, err)
		return sha
	}
	unused := func(string) (bool, error) { return false, nil }
	sha := put()
	require.NoError(t, s.drop([]string{sha}, unused))
	assert.FileExists(t, s.Path(sha), "it was kept a moment ago")
	put() // the same, by somebody else
	s.unpin(sha)
	require.NoError(t, s.drop([]string{sha}, unused))
	assert.FileExists(t, s.Path(sha), "one of the two failed")
	s.unpin(sha)
	require.NoError(t, s.drop([]string{sha}, func(string) (bool, error) { return true, nil }))
	assert.FileExists(t, s.Path(sha), "a row names it")
	require.NoError(t, s.drop([]string{sha}, unused))
	assert.NoFileExists(t, s.Path(sha))
	s.unpin(sha) // once more than it was pinned
	assert.Empty(t, s.pins)
	put()
	require.NoError(t, s.drop([]string{sha}, unused))
	assert.FileExists(t, s.Path(sha))
}

func TestNames(t *testing.T) {
	for in, want := range map[string]string{
		"Quay wall survey":       "Quay wall survey",
		" . ":                    "Untitled",
		"a/b\\c:d*e?f\"g<h>i|j":  "abcdefghij",
		"line\nbreak\x00\x7f":    "linebreak",
		"Größe 漢字.pdf":           "Größe 漢字.pdf",
		strings.Repeat("é", 300): strings.Repeat("é", 90),
	} {
		assert.Equal(t, want, cleanName(in))
	}
	for in, want := range map[string]string{"a.pdf": "a", "a.b.jpeg": "a.b", "no": "no", ".pdf": ".pdf", "Minutes, 3 Nov.": "Minutes, 3 Nov.", "v1.20261125": "v1.20261125"} {
		assert.Equal(t, want, trimExt(in))
	}
	assert.Equal(t, "Out", trimPDF("Out.PDF"))
	assert.Equal(t, ".pdf", trimPDF(".pdf"))
}

func TestPaper(t *testing.T) {
	// ISO 216: A4 is 210 x 297 mm, A5 148 x 210 mm; ANSI/ASME Y14.1: Letter is 8.5 x 11 in
	mm := 72 / 25.4
	for want, size := range map[string][2]float64{
		"A4": {210 * mm, 297 * mm}, "A4 landscape": {297 * mm, 210 * mm}, "A5": {148 * mm, 210 * mm}, "Letter": {8.5 * 72, 11 * 72},
		"Letter landscape": {792, 612}, "297 × 198 mm": {297 * mm, 198 * mm}, "A3": {842, 1191},
	} {
		assert.Equal(t, want, Paper(size[0], size[1]))
	}
}
