package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

func TestMain(m *testing.M) {
	child.Main()
	os.Exit(m.Run())
}

// What was found once is not found again.
func TestSeeds(t *testing.T) {
	list, err := filepath.Glob("seeds/*.pdf")
	require.NoError(t, err)
	require.NotEmpty(t, list)
	for _, path := range list {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		v := try(data)
		assert.Empty(t, v.Wrong, path)
		assert.Positive(t, v.Done, path)
	}
}

// The mutator is no toy: most of what it makes still opens and is worked on, and all of it ends well.
func TestMutants(t *testing.T) {
	m := &mutator{r: rand.New(rand.NewPCG(9, 1)), files: [][]byte{pdftest.Text(3), pdftest.Noted("page", "BT /F 12 Tf 5 10 Td (note) Tj ET")}}
	for _, h := range pdftest.Hostiles() {
		if len(h.Data) < 10_000 {
			m.files = append(m.files, h.Data)
		}
	}
	worked, changed := 0, 0
	for range 80 {
		data, how := m.next()
		require.NotEmpty(t, how)
		v := try(data)
		assert.Empty(t, v.Wrong, how)
		if v.Done > 5 {
			worked++
		}
		changed++
	}
	assert.Greater(t, worked, changed/3)
}

// The worker sees what must not be: a fault, and an error that is no sentence; a sentence is none.
func TestVerdict(t *testing.T) {
	tr := &trial{}
	tr.step("fault", func(context.Context) error { var p *trial; return errors.New(p.Wrong[0]) })
	tr.step("words", func(context.Context) error { return errors.New("unexpected EOF") })
	require.Len(t, tr.Wrong, 2)
	assert.Contains(t, tr.Wrong[0], "fault: panic")
	assert.Equal(t, "words: unexpected EOF", tr.Wrong[1])
	tr.step("sentence", func(context.Context) error { return fmt.Errorf("info: %w", pdf.ErrTooDeep) })
	assert.Len(t, tr.Wrong, 2)
	assert.Equal(t, kind([]string{"a 12 at\npanic(x)\n core/pdf/pages.go:7 core/draw/page.go:9 core/x/y.go:1"}), "a # at core/pdf/pages.go:7 core/draw/page.go:9")
}
