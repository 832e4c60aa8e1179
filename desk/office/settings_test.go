package office

import (
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"glenrain/desk/people"
	"glenrain/desk/store"
)

// newSettings are settings in a database of their own, with an administrator (1) and a member (2).
func newSettings(t *testing.T) (*Settings, *gorm.DB, string) {
	t.Helper()
	dir := t.TempDir()
	db, end, err := store.OpenWritten(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() {
		end()
		if sql, err := db.DB(); err == nil {
			_ = sql.Close()
		}
	})
	require.NoError(t, db.AutoMigrate(&Setting{}, &people.Person{}))
	require.NoError(t, people.RecordTables(db))
	for _, p := range []people.Person{{ID: 1, Name: "Isla Merrow", SignIn: "isla", Role: people.Administrator}, {ID: 2, Name: "Tomas Quill", SignIn: "tomas", Role: people.Member}} {
		require.NoError(t, db.Create(&p).Error)
	}
	key := filepath.Join(dir, "seal.key")
	return NewSettings(db, people.NewRegister(db, slog.New(slog.DiscardHandler), time.Now, nil), time.Now, key), db, key
}

func TestSettings(t *testing.T) {
	d, db, _ := newSettings(t)
	ctx := t.Context()
	v := map[string]int{"kept": 1}
	ok, err := d.Setting(ctx, "draft.look", &v)
	require.NoError(t, err)
	assert.False(t, ok)
	assert.Equal(t, map[string]int{"kept": 1}, v, "a default stays where nothing is set")
	require.NoError(t, d.Set(ctx, 1, "draft.look", "the look of draft marks", map[string]int{"turned": 45}))
	require.NoError(t, d.Set(ctx, 1, "draft.look", "the look of draft marks", map[string]int{"turned": 30}))
	ok, err = d.Setting(ctx, "draft.look", &v)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, 30, v["turned"])
	var forbidden *people.Forbidden
	require.ErrorAs(t, d.Set(ctx, 2, "draft.look", "x", 1), &forbidden)
	require.ErrorAs(t, d.Seal(ctx, 2, "store.password", "x", "y"), &forbidden)
	assert.ErrorContains(t, d.Set(ctx, 1, "draft.look", "x", strings.Repeat("x", longest)), "64 KB at most")
	assert.Error(t, d.Set(ctx, 1, "draft.look", "x", func() {}), "what is no value")
	row, err := Find(db, "draft.look")
	require.NoError(t, err)
	assert.Equal(t, uint(1), row.PersonID)
	row, err = Find(db, "nothing")
	require.NoError(t, err)
	assert.Nil(t, row)
	var lines []people.Record
	require.NoError(t, db.Find(&lines, "what = 'house'").Error)
	assert.Len(t, lines, 2, "one for each time it was set, and none for a refusal")
}

// A secret is read with the key that it was sealed with, under the name that it was sealed under, and nowhere stands in plain.
func TestSealed(t *testing.T) {
	d, db, key := newSettings(t)
	ctx := t.Context()
	_, ok, err := d.Unseal(ctx, "store.password")
	require.NoError(t, err)
	assert.False(t, ok)
	assert.NoFileExists(t, key, "reading makes no key")
	require.NoError(t, d.Seal(ctx, 1, "store.password", "the password of the records store", "neap tides"))
	st, err := os.Stat(key)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode().Perm())
	secret, ok, err := d.Unseal(ctx, "store.password")
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "neap tides", secret)
	row, err := Find(db, "store.password")
	require.NoError(t, err)
	assert.NotContains(t, string(row.Value), "neap")
	var plain string
	_, err = d.Setting(ctx, "store.password", &plain)
	assert.ErrorContains(t, err, "is sealed")
	_, ok, err = d.Unseal(ctx, "draft.look")
	require.NoError(t, err)
	assert.False(t, ok)

	// The same value under another name, one that was changed, and one without its key are no secrets of ours.
	moved := *row
	moved.Key = "other.password"
	require.NoError(t, db.Create(&moved).Error)
	_, _, err = d.Unseal(ctx, "other.password")
	assert.ErrorIs(t, err, ErrUnsealed)
	row.Value[len(row.Value)-1] ^= 1
	require.NoError(t, db.Save(row).Error)
	_, _, err = d.Unseal(ctx, "store.password")
	assert.ErrorIs(t, err, ErrUnsealed)
	row.Value = row.Value[:4]
	require.NoError(t, db.Save(row).Error)
	_, _, err = d.Unseal(ctx, "store.password")
	assert.ErrorIs(t, err, ErrUnsealed)
	require.NoError(t, os.WriteFile(key, []byte("short"), 0o600))
	assert.ErrorIs(t, d.Seal(ctx, 1, "store.password", "x", "y"), ErrUnsealed, "a key that is none is not written over")
	require.NoError(t, os.Remove(key))
	_, _, err = d.Unseal(ctx, "store.password")
	assert.ErrorIs(t, err, ErrUnsealed)
	require.NoError(t, d.Seal(ctx, 1, "store.password", "x", "spring tides"), "entered again, with a new key")
	secret, _, err = d.Unseal(ctx, "store.password")
	require.NoError(t, err)
	assert.Equal(t, "spring tides", secret)
}
