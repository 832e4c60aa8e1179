package station

import (
	"context"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk"
)

func TestWeight(t *testing.T) {
	for n, want := range map[int64]string{0: "0 bytes", 999: "999 bytes", 1000: "1 KB", 84_400: "84 KB", 999_499: "999 KB", 999_500: "1.0 MB", 3_140_000: "3.1 MB", 999_499_999: "999.5 MB", 999_500_000: "1.00 GB", 12_345_678_900: "12.35 GB"} {
		assert.Equal(t, want, Weight(n))
	}
}

func TestWhen(t *testing.T) {
	now := time.Now()
	noon := time.Date(now.Year(), now.Month(), now.Day(), 12, 34, 56, 0, time.Local)
	assert.Equal(t, "today 12:34", When(noon))
	assert.Equal(t, "yesterday 12:34", When(noon.AddDate(0, 0, -1)))
	assert.Equal(t, "5 Mar 1999", When(time.Date(1999, 3, 5, 1, 2, 3, 0, time.Local)))
	assert.Equal(t, "5 Mar 1999 01:02:03", Moment(time.Date(1999, 3, 5, 1, 2, 3, 0, time.Local)))
	assert.Equal(t, "5 Mar 01:02", Day(time.Date(1999, 3, 5, 1, 2, 3, 0, time.Local)))
}

// A form that is sent again as it was asks for the same; with other values, for something new. Values can't be shifted from one field to the next.
func TestRequestID(t *testing.T) {
	assert.Empty(t, RequestID("", "a"))
	same := RequestID("r1", "a", "b")
	assert.Len(t, same, 32)
	assert.Equal(t, same, RequestID("r1", "a", "b"))
	for _, other := range []string{RequestID("r2", "a", "b"), RequestID("r1", "a"), RequestID("r1", "b", "a"), RequestID("r1", "ab"), RequestID("r1", "", "ab")} {
		assert.NotEqual(t, same, other)
	}
}

// request has parts of the address, as the router finds them.
func request(method, target string, params map[string]string) *http.Request {
	r := httptest.NewRequest(method, target, nil)
	c := chi.NewRouteContext()
	for k, v := range params {
		c.URLParams.Add(k, v)
	}
	return r.WithContext(WithPerson(context.WithValue(r.Context(), chi.RouteCtxKey, c), &desk.Person{ID: 4}))
}

func TestRequests(t *testing.T) {
	r := request("GET", "/?_seen=17&bad=-1&big=99999999999", map[string]string{"id": "12", "not": "12a", "key": "3.2", "word": "numbers"})
	assert.Equal(t, uint(12), ID(r, "id"))
	assert.Zero(t, ID(r, "not"))
	assert.Zero(t, ID(r, "nowhere"))
	assert.Equal(t, uint(17), FormID(r, "_seen"))
	assert.Zero(t, FormID(r, "bad"))
	assert.Zero(t, FormID(r, "big"), "beyond every id there is")
	assert.Equal(t, "numbers", Text(r, "word"))
	assert.Equal(t, uint(4), Person(r).ID)
	assert.Nil(t, Person(httptest.NewRequest("GET", "/", nil)))
	k, err := PageKey(r, "key")
	require.NoError(t, err)
	assert.Equal(t, step.Key{Step: 3, Ordinal: 2}, k)
	_, err = PageKey(r, "word")
	assert.ErrorIs(t, err, desk.ErrMissing)
	assert.False(t, OnlyPart(r))
	r.Header.Set("HX-Request", "true")
	assert.True(t, OnlyPart(r))
}

func TestPictures(t *testing.T) {
	w := httptest.NewRecorder()
	SendPicture(w, request("GET", "/", nil), []byte("\x89PNG\r\n\x1a\nrest"), "60")
	assert.Equal(t, "image/png", w.Header().Get("Content-Type"))
	assert.Equal(t, "private, max-age=60", w.Header().Get("Cache-Control"), "nobody between keeps a page of somebody's")
	w = httptest.NewRecorder()
	require.NoError(t, SendUndrawn(w, false))
	assert.Contains(t, w.Body.String(), "can’t be shown")
	w = httptest.NewRecorder()
	require.NoError(t, SendUndrawn(w, true))
	assert.NotContains(t, w.Body.String(), "<text")
	for _, err := range []error{raster.ErrTime, raster.ErrMemory, raster.ErrPage, raster.ErrDead, fmt.Errorf("page 3: %w", raster.ErrPage)} {
		assert.True(t, Undrawn(err))
	}
	assert.False(t, Undrawn(desk.ErrMissing))
	w = httptest.NewRecorder()
	require.NoError(t, SendJSON(w, map[string]int{"pages": 3}))
	assert.JSONEq(t, `{"pages":3}`, w.Body.String())
}

// Points are taken to the page as it is seen and back, however it is turned and wherever its box begins.
func TestSeen(t *testing.T) {
	box := pdf.Rect{X0: 10, Y0: 20, X1: 210, Y1: 320}
	for rotate, want := range map[int][2]float64{0: {30, 250}, 90: {50, 30}, 180: {170, 50}, 270: {250, 170}} {
		g := pdf.Geometry{MediaBox: box, Visible: box, Rotate: rotate, UserUnit: 1}
		x, y := SeenPoint(g, 40, 70)
		assert.Equal(t, want, [2]float64{x, y}, "%d", rotate)
		back := InvisibleRect(g, x, y, x, y)
		assert.InDelta(t, 40, back.X0, 0.01, "%d", rotate)
		assert.InDelta(t, 70, back.Y1, 0.01, "%d", rotate)
		r := InvisibleRect(g, x+5, y+5, x, y)
		assert.InDelta(t, 5, r.X1-r.X0, 0.01, "corners in any order")
		assert.InDelta(t, 5, r.Y1-r.Y0, 0.01)
		q := Corners(g, layout.Quad{{40, 70}, {60, 70}, {60, 80}, {40, 80}})
		assert.Equal(t, want, [2]float64{q[0], q[1]})
	}
}

func TestFrame(t *testing.T) {
	f, err := Frame(" 1 2.5  -3 4e2 ")
	require.NoError(t, err)
	assert.Equal(t, [4]float64{1, 2.5, -3, 400}, f)
	for _, bad := range []string{"", "1 2 3", "1 2 3 4 5", "1 2 3 x", "1 2 3 NaN", "1 2 3 Inf", "1 2 3 1e9"} {
		_, err := Frame(bad)
		var no *step.Refusal
		assert.ErrorAs(t, err, &no, bad)
	}
}

// Jobs that stand in folders of their own bring their files; where two have the same name the station's own counts.
func TestLend(t *testing.T) {
	file := func(s string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(s)} }
	st := &Station{Jobs: []Job{{Path: "own"}}, Surface: Board, Files: fstest.MapFS{"own.js": file("own"), "both.js": file("the station's")}}
	st.Lend(Lent{Job: Job{Path: "lent", Surface: Paper}, Files: fstest.MapFS{"lent.html": file("lent"), "both.js": file("the job's")}})
	require.Len(t, st.Jobs, 2)
	assert.Equal(t, Board, st.Shows(&st.Jobs[0]))
	assert.Equal(t, Paper, st.Shows(&st.Jobs[1]))
	for name, want := range map[string]string{"own.js": "own", "lent.html": "lent", "both.js": "the station's"} {
		b, err := fs.ReadFile(st.Files, name)
		require.NoError(t, err)
		assert.Equal(t, want, string(b))
	}
	_, err := st.Files.Open("none")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	list, err := fs.ReadDir(st.Files, ".")
	require.NoError(t, err)
	var names []string
	for _, e := range list {
		names = append(names, e.Name())
	}
	assert.Equal(t, "both.js lent.html own.js", strings.Join(names, " "))
}
