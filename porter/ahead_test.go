package porter

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
)

// waits gives the child that waits for a question, which stays there.
func waits(t *testing.T) int {
	t.Helper()
	pid := 0
	require.Eventually(t, func() bool {
		select {
		case c := <-waiting:
			pid = c.PID()
			waiting <- c
		default:
		}
		return pid != 0
	}, 20*time.Second, 5*time.Millisecond)
	return pid
}

// After a question a child waits for the next one. It has the limits of what it is asked then, and one that was killed while it waited harms nobody.
func TestStartedAhead(t *testing.T) {
	_, err := Arrive(t.Context(), put(t, pdftest.Text(2)))
	require.NoError(t, err)
	first := waits(t)
	require.NoError(t, syscall.Kill(first, syscall.SIGKILL))
	r, err := Arrive(t.Context(), put(t, pdftest.Text(3)))
	require.NoError(t, err)
	assert.Equal(t, 3, r.Pages)

	second := waits(t)
	assert.NotEqual(t, first, second)
	limit := func() string {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/limits", second))
		if err != nil {
			return ""
		}
		for line := range strings.SplitSeq(string(b), "\n") {
			if rest, ok := strings.CutPrefix(line, "Max cpu time"); ok {
				return strings.Fields(rest)[0]
			}
		}
		return ""
	}
	assert.Equal(t, "unlimited", limit())
	seen := ""
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range 2000 {
			if s := limit(); s != "" && s != "unlimited" {
				seen = s
				return
			}
			time.Sleep(time.Millisecond)
		}
	}()
	_, err = Arrive(t.Context(), put(t, pdftest.Text(2000))) // long enough to look at the child that reads it
	require.NoError(t, err)
	<-done
	assert.NotEmpty(t, seen, "seconds of processor time")
}
