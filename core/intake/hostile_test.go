package intake

import (
	"bytes"
	"errors"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"glenrain/core/intake/intaketest"
)

// Each hostile file is read, or refused in a sentence, in bounded time and memory, and without a fault.
func TestHostile(t *testing.T) {
	for _, h := range intaketest.Hostiles() {
		t.Run(h.Name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			at := time.Now()
			r := bytes.NewReader(h.Data)
			kind := Find(t.Context(), h.Name, r, r.Size())
			if kind == None || kind == Zip {
				return // read elsewhere
			}
			out, err := Read(t.Context(), kind, h.Name, r, r.Size(), Options{})
			var refusal *Refusal
			if err != nil {
				assert.True(t, errors.As(err, &refusal), "%v", err)
				assert.NotContains(t, err.Error(), "runtime error")
				assert.NotContains(t, err.Error(), "XML syntax")
			} else {
				assert.NotEmpty(t, out.Sheets)
			}
			runtime.ReadMemStats(&after)
			t.Logf("%s: %v, %d MB given, %v", kind, time.Since(at).Round(time.Millisecond), (after.TotalAlloc-before.TotalAlloc)>>20, err)
			assert.Less(t, time.Since(at), time.Minute, "it ends")
		})
	}
}
