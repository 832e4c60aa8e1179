package store

import (
	"context"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
)

// Who wants to write waits for one transaction of somebody who writes on and on, not for all of them.
func TestWritersTakeTurns(t *testing.T) {
	db, end, err := OpenWritten(t.TempDir(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer end()
	require.NoError(t, db.Exec("CREATE TABLE houses (bin_days INTEGER)").Error)
	var written atomic.Int64
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for ctx.Err() == nil {
			_ = db.Transaction(func(tx *gorm.DB) error {
				time.Sleep(5 * time.Millisecond)
				written.Add(1)
				return tx.Exec("UPDATE houses SET bin_days = 1").Error
			})
		}
	}()
	require.Eventually(t, func() bool { return written.Load() > 2 }, 10*time.Second, time.Millisecond)
	passed := int64(0)
	for range 20 {
		before := written.Load()
		require.NoError(t, db.Exec("UPDATE houses SET bin_days = 2").Error)
		passed = max(passed, written.Load()-before)
	}
	assert.LessOrEqual(t, passed, int64(4), "transactions of the other one between asking and writing")
	// Whoever goes away while waiting leaves no turn behind.
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	assert.Error(t, db.WithContext(gone).Exec("UPDATE houses SET bin_days = 3").Error)
	stop()
	<-ended
	require.NoError(t, db.Exec("UPDATE houses SET bin_days = 4").Error)
	assert.Error(t, db.Transaction(func(tx *gorm.DB) error { return tx.Exec("UPDATE nothing SET x = 1").Error }))
	require.NoError(t, db.Exec("UPDATE houses SET bin_days = 5").Error, "a transaction that failed has given back its turn")
}

// Of a statement the log has its first words, and no value.
func TestShape(t *testing.T) {
	for statement, want := range map[string]string{
		"INSERT INTO `page_texts` (`text`) VALUES (\"Zanzibar\")": "INSERT INTO `page_texts`", "SELECT * FROM `documents` WHERE name = 'x'": "SELECT * FROM `documents` WHERE name",
		"UPDATE `steps` SET `sentence`='a b'": "UPDATE `steps` SET", "INSERT INTO t VALUES ('a b c d')": "INSERT INTO t VALUES", "": "",
	} {
		assert.Equal(t, want, shape(statement))
	}
}
