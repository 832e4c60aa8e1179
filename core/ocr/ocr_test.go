package ocr

import (
	"context"
	"fmt"
	"image"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// engine is a program of a few lines of shell in place of the real one.
func engine(t *testing.T, script string) *Engine {
	t.Helper()
	path := filepath.Join(t.TempDir(), "engine")
	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+script+"\n"), 0o700))
	return &Engine{Program: path, Languages: []string{"deu", "eng"}, OSD: true}
}

func paper(w, h int) *image.Gray {
	g := image.NewGray(image.Rect(0, 0, w, h))
	for i := range g.Pix {
		g.Pix[i] = 255
	}
	return g
}

const head = "level\tpage_num\tblock_num\tpar_num\tline_num\tword_num\tleft\ttop\twidth\theight\tconf\ttext\n"

// row is a word as the program's table has it.
func row(block, par, line, word, x, y, w, h int, sure, text string) string {
	return fmt.Sprintf("5\t1\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%s\t%s\n", block, par, line, word, x, y, w, h, sure, text)
}

func TestParse(t *testing.T) {
	lines, err := parse([]byte(head+"1\t1\t0\t0\t0\t0\t0\t0\t100\t100\t-1\t\n"+
		row(1, 1, 1, 1, 10, 10, 30, 8, "96.5", "Berth")+row(1, 1, 1, 2, 45, 9, 10, 10, "41", "7")+
		row(1, 1, 2, 1, 10, 30, 40, 8, "120", "winter\r")+
		row(1, 2, 1, 1, 90, 50, 40, 8, "-3", "cut")+ // it ends beyond the picture
		row(1, 2, 1, 2, 10, 50, 0, 8, "90", "nothing")+row(1, 2, 1, 3, 500, 50, 9, 9, "90", "outside")+row(1, 2, 1, 4, 10, 50, 9, 9, "90", "  ")+
		row(1, 2, 1, 5, 10, 50, 9, 9, "ninety", "no number")+"5\t1\t2\n"+"5\tx\t1\t1\t1\t1\t1\t1\t9\t9\t90\tno number\n"+
		row(2, 1, 1, 1, 10, 80, 9, 9, "50", "a\xffb")+row(2, 1, 1, 2, 20, 80, 9, 9, "50", strings.Repeat("x", mostLetter+1))), image.Pt(100, 100))
	require.NoError(t, err)
	require.Len(t, lines, 4)
	assert.Equal(t, Line{Block: 1, Par: 1, Box: image.Rect(10, 9, 55, 19), Words: []Word{{"Berth", image.Rect(10, 10, 40, 18), 96.5}, {"7", image.Rect(45, 9, 55, 19), 41}}}, lines[0])
	assert.Equal(t, []Word{{"winter", image.Rect(10, 30, 50, 38), 100}}, lines[1].Words)
	assert.Equal(t, []Word{{"cut", image.Rect(90, 50, 100, 58), 0}}, lines[2].Words)
	assert.Equal(t, 2, lines[2].Par)
	assert.Equal(t, "a\ufffdb", lines[3].Words[0].Text, "bytes that are no text")
	assert.Len(t, lines[3].Words, 1)
	sure, letters := Sure(lines)
	assert.Equal(t, 5+1+6+3+3, letters)
	assert.InDelta(t, (5*96.5+41+6*100+0+3*50)/18, sure, 1e-9)
	sure, letters = Sure(nil)
	assert.Zero(t, sure+float64(letters))

	_, err = parse([]byte(strings.Repeat(row(1, 1, 1, 1, 1, 1, 9, 9, "90", "x"), mostWords+1)), image.Pt(100, 100))
	assert.ErrorIs(t, err, ErrMuch)
}

// The program gets the picture as a portable graymap, and the languages, resolution and kind of page that were asked for; one core is its own.
func TestAsked(t *testing.T) {
	dir := t.TempDir()
	e := engine(t, `echo "$OMP_THREAD_LIMIT $*" > `+dir+`/args; cat > `+dir+`/picture; printf '`+strings.ReplaceAll(head+row(1, 1, 1, 1, 1, 1, 2, 2, "77", "Quay"), "\t", `\t`)+`'`)
	g := paper(6, 4)
	g.Pix[7] = 9
	part := g.SubImage(image.Rect(1, 1, 5, 3)).(*image.Gray)
	part = &image.Gray{Pix: part.Pix, Stride: part.Stride, Rect: image.Rect(0, 0, 4, 2)} // rows are longer than it is wide
	lines, err := e.Read(t.Context(), part, Options{Languages: []string{"eng", "deu"}, DPI: 5})
	require.NoError(t, err)
	require.Len(t, lines, 1)
	assert.Equal(t, "Quay", lines[0].Words[0].Text)
	args, err := os.ReadFile(dir + "/args")
	require.NoError(t, err)
	assert.Equal(t, "1 stdin stdout -l eng+deu --dpi 70 --psm 3 -c debug_file=/dev/null tsv\n", string(args), "a resolution that can't be is the least there is")
	picture, err := os.ReadFile(dir + "/picture")
	require.NoError(t, err)
	assert.Equal(t, "P5\n4 2\n255\n\x09\xff\xff\xff\xff\xff\xff\xff", string(picture))
	_, err = e.Read(t.Context(), part, Options{Languages: []string{"eng"}, DPI: 9000, Mode: 6})
	require.NoError(t, err)
	args, err = os.ReadFile(dir + "/args")
	require.NoError(t, err)
	assert.Contains(t, string(args), "--dpi 2400 --psm 6")
}

// A program that fails, answers without end, never ends or is not there is told in a sentence, and leaves nothing running.
func TestTrouble(t *testing.T) {
	read := func(ctx context.Context, script string) error {
		_, err := engine(t, script).Read(ctx, paper(2000, 2000), Options{Languages: []string{"eng"}})
		return err
	}
	err := read(t.Context(), "cat > /dev/null; echo 'Error: no such data' >&2; echo more >&2; exit 3")
	assert.ErrorContains(t, err, "exit status 3: Error: no such data")
	assert.NotContains(t, err.Error(), "more")
	err = read(t.Context(), "exit 0")
	assert.ErrorContains(t, err, "did not take the picture")
	assert.ErrorIs(t, read(t.Context(), "cat > /dev/null; exec yes berth"), ErrMuch)
	err = read(t.Context(), "yes trouble | head -c 3000000 >&2; cat > /dev/null; exit 1")
	assert.ErrorContains(t, err, "exit status 1: trouble", "what it says beside is cut")
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	began := time.Now()
	assert.ErrorIs(t, read(ctx, "sleep 600 & cat > /dev/null; wait"), context.DeadlineExceeded)
	assert.Less(t, time.Since(began), 30*time.Second, "also what it started is stopped")
	_, err = (&Engine{Program: filepath.Join(t.TempDir(), "none"), Languages: []string{"eng"}}).Read(t.Context(), paper(9, 9), Options{Languages: []string{"eng"}})
	assert.ErrorIs(t, err, ErrNone)
}

func TestLanguages(t *testing.T) {
	e := engine(t, "exit 9")
	assert.NoError(t, e.Check([]string{"eng", "deu"}))
	assert.EqualError(t, e.Check([]string{"eng", "chi_sim"}), `the language "chi_sim" is not installed; on Debian it is in the package tesseract-ocr-chi-sim`)
	assert.ErrorContains(t, e.Check(nil), "no language")
	assert.Equal(t, "tesseract-ocr-latin", Package("script/Latin"))
	_, err := e.Read(t.Context(), paper(9, 9), Options{Languages: []string{"fra"}})
	assert.ErrorContains(t, err, `"fra" is not installed`, "before the program is asked")
}

func TestOrientation(t *testing.T) {
	answer := func(s string) *Engine { return engine(t, "cat > /dev/null; printf '"+s+"'") }
	for said, quarters := range map[string]int{"0": 0, "90": 1, "180": 2, "270": 3, "-90": 3} {
		turned, ok, err := answer(`Page number: 0\nRotate: `+said+`\nOrientation confidence: 7.5\nScript: Latin\n`).Orientation(t.Context(), paper(9, 9), 300)
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, Turned{Quarters: quarters, Sure: 7.5, Script: "Latin"}, turned)
	}
	_, ok, err := engine(t, "cat > /dev/null; exit 1").Orientation(t.Context(), paper(9, 9), 300)
	require.NoError(t, err, "too few letters to tell")
	assert.False(t, ok)
	_, ok, err = answer("nothing").Orientation(t.Context(), paper(9, 9), 300)
	require.NoError(t, err)
	assert.False(t, ok)
	e := answer("Rotate: 90")
	e.OSD = false
	_, ok, err = e.Orientation(t.Context(), paper(9, 9), 300)
	require.NoError(t, err)
	assert.False(t, ok, "it has not what it takes")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = answer("Rotate: 90").Orientation(ctx, paper(9, 9), 300)
	assert.ErrorIs(t, err, context.Canceled)
}

// The real program is found with its languages, and asked once.
func TestFind(t *testing.T) {
	if _, err := exec.LookPath("tesseract"); err != nil {
		t.Skip("tesseract is not installed")
	}
	e, err := Find()
	require.NoError(t, err)
	assert.Contains(t, e.Languages, "eng")
	assert.NotContains(t, e.Languages, "osd")
	assert.Contains(t, e.Version, "tesseract")
	again, err := Find()
	require.NoError(t, err)
	assert.Same(t, e, again)
	lines, err := e.Read(t.Context(), paper(300, 200), Options{Languages: []string{"eng"}, DPI: 150})
	require.NoError(t, err)
	assert.Empty(t, lines, "nothing is on the paper")
	t.Setenv("PATH", t.TempDir())
	_, err = Find()
	assert.ErrorIs(t, err, ErrNone)
}
