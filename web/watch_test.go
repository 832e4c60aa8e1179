package web

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
	"glenrain/desk"
)

// watching opens /watch and gives its lines as they come; the channel is closed when it ends.
func (c *client) watching(docs string) (lines chan string, code int, stop func()) {
	c.t.Helper()
	ctx, cancel := context.WithCancel(c.t.Context())
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/watch?docs="+docs, nil)
	require.NoError(c.t, err)
	res, err := c.http.Do(r)
	require.NoError(c.t, err)
	lines = make(chan string, 100)
	go func() {
		defer close(lines)
		defer res.Body.Close()
		for s := bufio.NewScanner(res.Body); s.Scan(); {
			if s.Text() != "" {
				lines <- s.Text()
			}
		}
	}()
	return lines, res.StatusCode, cancel
}

func next(t *testing.T, lines chan string) string {
	t.Helper()
	select {
	case l := <-lines:
		return l
	case <-time.After(20 * time.Second):
		t.Fatal("nothing is told")
		return ""
	}
}

// Windows are told of each new state of what they show, of what happened before they asked, and when it is gone; of nothing that is not theirs to see, and not
// any number of windows.
func TestWatch(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	a, b := c.bring("Tides.pdf", pdftest.Text(3)), c.bring("Berths.pdf", pdftest.Text(2))
	seenA, seenB := o.seen(a), o.seen(b)
	turn := func(id string) uint {
		out, err := o.desk.Do(t.Context(), desk.Change{Document: number(id), Seen: o.seen(id), Person: 1, RequestID: fmt.Sprint("w", o.seen(id)), Name: "rotate", Params: []byte(`{"pages":["0.1"],"by":90}`)})
		require.NoError(t, err)
		return out.Snapshot.State.ID
	}
	lines, code, stop := c.watching(fmt.Sprintf("%s:%d,%s:%d", a, seenA, b, seenB))
	require.Equal(t, http.StatusOK, code)
	assert.Equal(t, "retry: 3000", next(t, lines))
	now := turn(b)
	assert.Equal(t, "event: moved", next(t, lines))
	assert.Equal(t, fmt.Sprintf("data: %s:%d", b, now), next(t, lines))
	now = turn(a)
	assert.Equal(t, "event: moved", next(t, lines))
	assert.Equal(t, fmt.Sprintf("data: %s:%d", a, now), next(t, lines))
	require.NoError(t, o.desk.Bin(t.Context(), 1, []uint{number(b)}))
	assert.Equal(t, "event: gone", next(t, lines))
	assert.Equal(t, "data: "+b, next(t, lines))
	stop()

	lines, _, stop = c.watching(fmt.Sprintf("%s:%d", a, seenA)) // a window that was away meanwhile
	assert.Equal(t, "retry: 3000", next(t, lines))
	assert.Equal(t, "event: moved", next(t, lines))
	assert.Equal(t, fmt.Sprintf("data: %s:%d", a, now), next(t, lines))
	stop()

	for _, bad := range []string{"", "x", a, a + ":y", strings.Repeat(a+":1,", 20) + a + ":1"} {
		_, code, stop := c.watching(bad)
		assert.Equal(t, http.StatusUnprocessableEntity, code, bad)
		stop()
	}
	_, code, stop = c.watching("9999:1")
	assert.Equal(t, http.StatusNotFound, code)
	stop()
	folder, err := o.desk.MakeFolder(t.Context(), 1, "Closed")
	require.NoError(t, err)
	_, err = o.desk.MoveTo(t.Context(), 1, []uint{number(a)}, folder.ID)
	require.NoError(t, err)
	require.NoError(t, o.desk.OpenFolder(t.Context(), 1, folder.ID, true, nil))
	_, err = o.desk.AddPerson(t.Context(), "Tomas Quill", "tomas", demo.Password)
	require.NoError(t, err)
	tomas := o.client()
	tomas.signIn("tomas")
	_, code, stop = tomas.watching(fmt.Sprintf("%s:%d", a, now))
	assert.Equal(t, http.StatusNotFound, code, "a document in a closed folder")
	stop()

	// Forty windows of one person watch; one more is told to do without.
	var stops []func()
	for range 40 {
		_, code, stop := c.watching(fmt.Sprintf("%s:%d", a, now))
		require.Equal(t, http.StatusOK, code)
		stops = append(stops, stop)
	}
	_, code, stop = c.watching(fmt.Sprintf("%s:%d", a, now))
	assert.Equal(t, http.StatusUnprocessableEntity, code)
	stop()
	stops[0]()
	require.Eventually(t, func() bool {
		_, code, stop := c.watching(fmt.Sprintf("%s:%d", a, now))
		stops = append(stops, stop)
		return code == http.StatusOK
	}, 10*time.Second, 50*time.Millisecond, "one that was closed makes room")
	for _, stop := range stops {
		stop()
	}
	require.Eventually(t, func() bool { // the server sees a little later that the forty are gone
		if lines, code, stop = c.watching(fmt.Sprintf("%s:%d", a, now)); code != http.StatusOK {
			stop()
		}
		return code == http.StatusOK
	}, 10*time.Second, 50*time.Millisecond)
	defer stop()
	assert.Equal(t, "retry: 3000", next(t, lines))
	o.stop() // a server that ends does not wait for windows that watch
	for range lines {
	}
}
