package desk

import (
	"bytes"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/desk/store"
)

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
	d.db.Logger = store.Quiet(slog.New(slog.NewTextHandler(&out, nil)), time.Nanosecond)
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
}
