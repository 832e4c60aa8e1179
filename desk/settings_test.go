package desk

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/desk/office"
	"glenrain/desk/people"
)

func TestSettings(t *testing.T) {
	d := newDesk(t)
	type look struct{ Colour string }
	v := look{"as it was"}
	ok, err := d.Setting(t.Context(), "draft.look", &v)
	require.NoError(t, err)
	assert.False(t, ok)
	assert.Equal(t, "as it was", v.Colour)
	require.NoError(t, d.Set(t.Context(), 1, "draft.look", "the look of draft marks", look{"moss"}))
	require.NoError(t, d.Set(t.Context(), 1, "draft.look", "the look of draft marks", look{"ochre"}))
	ok, err = d.Setting(t.Context(), "draft.look", &v)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "ochre", v.Colour)
	var forbidden *people.Forbidden
	assert.ErrorAs(t, d.Set(t.Context(), somebody(t, d, "tam", people.Member), "draft.look", "", look{"black"}), &forbidden)
	assert.ErrorContains(t, d.Set(t.Context(), 1, "draft.look", "", strings.Repeat("x", 64<<10)), "too long")
	var lines []people.Record
	require.NoError(t, d.db.Find(&lines, "what = ?", "house").Error)
	assert.Len(t, lines, 2)
}

// A secret is nowhere in the data folder in plain, and in no backup with its key.
func TestSealed(t *testing.T) {
	dir := t.TempDir()
	d := openDesk(t, dir)
	const secret = "the harbour master's word"
	_, ok, err := d.Unseal(t.Context(), "store.password")
	require.NoError(t, err)
	assert.False(t, ok)
	require.NoError(t, d.Seal(t.Context(), 1, "store.password", "the password of the records store", secret))
	got, ok, err := d.Unseal(t.Context(), "store.password")
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, secret, got)
	var v string
	_, err = d.Setting(t.Context(), "store.password", &v)
	assert.ErrorContains(t, err, "is sealed")
	st, err := os.Stat(filepath.Join(dir, sealKeyName))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	// A value that is put under another key, or changed, is not read.
	require.NoError(t, d.db.Exec("insert into settings select 'other', value, sealed, person_id, at from settings where key = 'store.password'").Error)
	_, _, err = d.Unseal(t.Context(), "other")
	require.ErrorIs(t, err, office.ErrUnsealed)
	require.NoError(t, d.Close())
	require.NoError(t, filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			b, rerr := os.ReadFile(path)
			require.NoError(t, rerr)
			assert.NotContains(t, string(b), secret, path)
		}
		return err
	}))

	var b bytes.Buffer
	_, err = Backup(dir, &b)
	require.NoError(t, err)
	for r := tar.NewReader(bytes.NewReader(b.Bytes())); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		assert.NotContains(t, h.Name, "key")
	}
	again := filepath.Join(t.TempDir(), "again")
	_, err = Restore(&b, again)
	require.NoError(t, err)
	d = openDesk(t, again)
	_, _, err = d.Unseal(t.Context(), "store.password")
	require.ErrorIs(t, err, office.ErrUnsealed)
	require.NoError(t, d.Close())
	d, err = Open(again, Options{PDFiumCache: raster.CacheForTests(), SealKey: filepath.Join(dir, sealKeyName)})
	require.NoError(t, err)
	got, _, err = d.Unseal(t.Context(), "store.password")
	require.NoError(t, err)
	assert.Equal(t, secret, got, "with the key from elsewhere")
	require.NoError(t, d.Close())
}

// Many at once take numbers for their steps: each has one of its own, none is left out, and a step that fails takes none.
func TestNumbers(t *testing.T) {
	d := newDesk(t)
	turn := func(id uint, request string, bad bool) (string, error) {
		taken := ""
		_, err := d.DoNumbered(t.Context(), Change{Document: id, Seen: snapshot(t, d, id).State.ID, RequestID: request, Person: 1, Name: "rotate"}, "files.numbers", func(number string) (json.RawMessage, error) {
			taken = number
			if bad {
				return json.RawMessage(`{"pages":"9","by":90}`), nil
			}
			return json.RawMessage(`{"pages":"1","by":90}`), nil
		})
		return taken, err
	}
	first := bring(t, d, "First.pdf", pdftest.Text(1))
	_, err := turn(first.ID, "none", false)
	require.ErrorContains(t, err, "an administrator must set it first")
	require.NoError(t, d.Set(t.Context(), 1, "files.numbers", "file numbers", Range{Next: 7, Before: "HT-", Digits: 4}))
	_, err = turn(first.ID, "bad", true)
	require.Error(t, err)
	ids := make([]uint, 8)
	for i := range ids {
		ids[i] = bring(t, d, fmt.Sprintf("Paper %d.pdf", i), pdftest.Text(1)).ID
	}
	var mu sync.Mutex
	all := map[string]bool{}
	var wg sync.WaitGroup
	for i, id := range ids {
		wg.Go(func() {
			n, err := turn(id, fmt.Sprint("n", i), false)
			if assert.NoError(t, err) {
				mu.Lock()
				all[n] = true
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	for i := range ids {
		assert.True(t, all[fmt.Sprintf("HT-%04d", 7+i)], i)
	}
	var r Range
	_, err = d.Setting(t.Context(), "files.numbers", &r)
	require.NoError(t, err)
	assert.Equal(t, 15, r.Next)
}
