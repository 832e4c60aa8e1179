package store

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStore(t *testing.T) {
	dir := t.TempDir()
	s, err := New(dir)
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
	_, err = New(dir)
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
	s, err := New(t.TempDir())
	require.NoError(t, err)
	put := func() string {
		sha, _, err := s.Put(func(w io.Writer) error { _, err := io.WriteString(w, "soundings"); return err })
		require.NoError(t, err)
		return sha
	}
	unused := func(string) (bool, error) { return false, nil }
	sha := put()
	require.NoError(t, s.Drop([]string{sha}, unused))
	assert.FileExists(t, s.Path(sha), "it was kept a moment ago")
	put() // the same, by somebody else
	s.Unpin(sha)
	require.NoError(t, s.Drop([]string{sha}, unused))
	assert.FileExists(t, s.Path(sha), "one of the two failed")
	s.Unpin(sha)
	require.NoError(t, s.Drop([]string{sha}, func(string) (bool, error) { return true, nil }))
	assert.FileExists(t, s.Path(sha), "a row names it")
	require.NoError(t, s.Drop([]string{sha}, unused))
	assert.NoFileExists(t, s.Path(sha))
	s.Unpin(sha) // once more than it was pinned
	assert.Zero(t, s.Pinned())
	put()
	require.NoError(t, s.Drop([]string{sha}, unused))
	assert.FileExists(t, s.Path(sha))
}
