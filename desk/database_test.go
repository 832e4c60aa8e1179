package desk

import (
	"bytes"
	"context"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"glenrain/core/pdf/pdftest"
)

// Who wants to write waits for one transaction of somebody who writes on and on, not for all of them.
func TestWritersTakeTurns(t *testing.T) {
	d := newDesk(t)
	var written atomic.Int64
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for ctx.Err() == nil {
			_ = d.db.Transaction(func(tx *gorm.DB) error {
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
		require.NoError(t, d.db.Exec("UPDATE houses SET bin_days = 2").Error)
		passed = max(passed, written.Load()-before)
	}
	assert.LessOrEqual(t, passed, int64(4), "transactions of the other one between asking and writing")
	// Whoever goes away while waiting leaves no turn behind.
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	assert.Error(t, d.db.WithContext(gone).Exec("UPDATE houses SET bin_days = 3").Error)
	stop()
	<-ended
	require.NoError(t, d.db.Exec("UPDATE houses SET bin_days = 4").Error)
	assert.Error(t, d.db.Transaction(func(tx *gorm.DB) error { return tx.Exec("UPDATE nothing SET x = 1").Error }))
	require.NoError(t, d.db.Exec("UPDATE houses SET bin_days = 5").Error, "a transaction that failed has given back its turn")
}

// Texts are written many transactions long, and each is short.
func TestTextsAreWrittenInPieces(t *testing.T) {
	list := make([]int, 5000)
	longest, pieces := 0, 0
	require.NoError(t, inPieces(list, func(part []int) error {
		pieces++
		longest = max(longest, len(part))
		time.Sleep(time.Duration(len(part)) * 100 * time.Microsecond) // a row takes a tenth of a millisecond
		return nil
	}))
	assert.LessOrEqual(t, longest, 320, "20 ms of rows, and a little")
	assert.Greater(t, pieces, 15)
}

// The log says which statement was slow or failed, and nothing that was in it.
func TestLogHoldsNoContent(t *testing.T) {
	var out bytes.Buffer
	d := newDesk(t)
	d.db.Logger = quietLog{log: slog.New(slog.NewTextHandler(&out, nil)), slow: time.Nanosecond}
	doc := bring(t, d, "Berths.pdf", pdftest.Noted(secrets[0], "BT ET"))
	mustDo(t, d, doc.ID, "edit-paragraph", `{"page":"1","paragraph":0,"text":"`+secrets[1]+`"}`)
	require.NoError(t, d.ReadAll(t.Context(), 1))
	_, err := d.SearchText(t.Context(), 1, secrets[1], 9)
	require.NoError(t, err)
	require.Error(t, d.db.Exec("INSERT INTO nothing VALUES ('"+secrets[0]+"')").Error)
	assert.Contains(t, out.String(), "INSERT INTO `page_texts`")
	assert.Contains(t, out.String(), "code=1", "SQLITE_ERROR")
	for _, w := range append(secrets, "Berths") {
		assert.NotContains(t, out.String(), w)
	}
	for statement, want := range map[string]string{
		"INSERT INTO `page_texts` (`text`) VALUES (\"Zanzibar\")": "INSERT INTO `page_texts`", "SELECT * FROM `documents` WHERE name = 'x'": "SELECT * FROM `documents` WHERE name",
		"UPDATE `steps` SET `sentence`='a b'": "UPDATE `steps` SET", "INSERT INTO t VALUES ('a b c d')": "INSERT INTO t VALUES", "": "",
	} {
		assert.Equal(t, want, shape(statement))
	}
}
