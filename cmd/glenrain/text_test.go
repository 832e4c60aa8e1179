package main

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
)

func TestText(t *testing.T) {
	in := write(t, "a.pdf", pdftest.Text(4))
	code, out, errs := glenrain(t, "", "text", in, "--pages", "2-3")
	require.Zero(t, code, errs)
	assert.Equal(t, "Page 2\n\fPage 3\n\f", out)
	code, out, _ = glenrain(t, "", "text", in, "--json", "--pages", "3")
	require.Zero(t, code)
	var page struct {
		Page     int
		MediaBox []float64
		CropBox  []float64
		Rotate   int
		UserUnit float64
		Chars    []struct {
			T    string
			X, Y float64
		}
		Words []struct {
			T        string
			X0, Base float64
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &page))
	assert.Equal(t, 3, page.Page)
	assert.Equal(t, []float64{20, 30, 500, 800}, page.CropBox, "the page has a CropBox")
	assert.Equal(t, "Page", page.Words[0].T)
	assert.InDelta(t, 36, page.Words[0].X0, 1e-6, "scaled by half")
	assert.InDelta(t, 350, page.Words[0].Base, 1e-6)
	assert.Len(t, page.Chars, 6, "the space, too")

	for want, args := range map[int][]string{
		exitUse:      {"text", in, "--pages", "9"},
		exitRead:     {"text", write(t, "b.pdf", []byte("no PDF"))},
		exitPassword: {"text", locked(t, in)},
	} {
		code, out, errs := glenrain(t, "", args...)
		assert.Equal(t, want, code, errs)
		assert.Empty(t, out)
		assert.NotEmpty(t, errs)
	}
	code, out, _ = glenrain(t, "", "text", locked(t, in), "--password", "quay", "--pages", "1")
	assert.Zero(t, code)
	assert.Equal(t, "Page 1\n\f", out)
}

func locked(t *testing.T, in string) string {
	t.Helper()
	out := filepath.Join(t.TempDir(), "locked.pdf")
	require.NoError(t, exec.Command("qpdf", "--encrypt", "quay", "wall", "256", "--", in, out).Run())
	return out
}

// The text of the demo's papers holds the words that pdftotext reads, in paragraphs; without headers and footers where that is asked for.
func TestTextOfPapers(t *testing.T) {
	files, err := demo.Files()
	require.NoError(t, err)
	for _, f := range files {
		if !strings.HasSuffix(f.Name, ".pdf") || strings.HasPrefix(f.Name, "Byelaws") && testing.Short() {
			continue
		}
		in := write(t, "paper.pdf", f.Data)
		code, out, errs := glenrain(t, "", "text", in)
		require.Zero(t, code, errs)
		theirs, err := exec.Command("pdftotext", in, "-").Output()
		require.NoError(t, err)
		count := func(text string) map[string]int {
			m := map[string]int{}
			for w := range strings.FieldsSeq(text) {
				m[w]++
			}
			return m
		}
		ours, lacks, all := count(out), 0, 0
		for w, n := range count(string(theirs)) {
			lacks += max(0, n-ours[w])
			all += n
		}
		assert.LessOrEqual(t, float64(lacks), 0.002*float64(all), f.Name)
		assert.Equal(t, strings.Count(string(theirs), "\f"), strings.Count(out, "\f"), f.Name)
	}
	for _, f := range files {
		if f.Name != "Quay wall survey.pdf" {
			continue
		}
		in := write(t, "survey.pdf", f.Data)
		_, whole, _ := glenrain(t, "", "text", in)
		_, body, _ := glenrain(t, "", "text", "--body", in)
		const head = "Quay wall survey, October 2026"
		assert.Greater(t, strings.Count(whole, head), 15)
		assert.LessOrEqual(t, strings.Count(body, head), 1)
		assert.Contains(t, body, "North 1\t4.00\t3.55\t−0.45\n", "a table's row")
		assert.Equal(t, strings.Count(whole, "\f"), strings.Count(body, "\f"))
	}
}

// A document of 5,000 pages is read in memory that does not grow with it.
func TestTextOfMany(t *testing.T) {
	if testing.Short() {
		t.Skip("5,000 pages are made")
	}
	in := write(t, "many.pdf", pdftest.Text(5000))
	code, out, errs := glenrain(t, "", "text", in)
	require.Zero(t, code, errs)
	pages := strings.Split(out, "\f")
	require.Len(t, pages, 5001)
	for i, p := range pages[:5000] {
		if p != fmt.Sprintf("Page %d\n", i+1) {
			t.Fatalf("page %d reads %q", i+1, p)
		}
	}
}
