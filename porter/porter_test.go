package porter

import (
	"bytes"
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
)

func TestMain(m *testing.M) {
	child.Main()
	os.Exit(m.Run())
}

// put writes a file, and gives its path with an empty one for a working copy.
func put(t *testing.T, data []byte) Arrival {
	t.Helper()
	dir := t.TempDir()
	a := Arrival{Path: filepath.Join(dir, "in"), Working: filepath.Join(dir, "working"), Size: int64(len(data))}
	require.NoError(t, os.WriteFile(a.Path, data, 0o600))
	require.NoError(t, os.WriteFile(a.Working, nil, 0o600))
	return a
}

func TestArrive(t *testing.T) {
	r, err := Arrive(t.Context(), put(t, pdftest.Text(130)))
	require.NoError(t, err)
	assert.Empty(t, r.Problem)
	assert.False(t, r.Working || r.Partial || r.Locked)
	assert.Equal(t, 130, r.Pages)
	require.Len(t, r.Texts, 130)
	assert.Equal(t, "Page 70", r.Texts[69].Reading)
	r, err = Arrive(t.Context(), put(t, pdftest.Noted("Berth 4", "BT /F 12 Tf 5 10 Td (Ask the pilot) Tj ET")))
	require.NoError(t, err)
	require.Len(t, r.Texts, 1)
	assert.Contains(t, r.Texts[0].Reading, "Ask the pilot")
	assert.Regexp(t, `^\[\[\d+,\d+\]\]$`, r.Texts[0].Annotated)

	// A damaged one is mended in a working copy, whose pages it is.
	whole := pdftest.Text(5)
	a := put(t, bytes.Replace(whole, []byte("xref\n"), []byte("xxxx\n"), 1))
	r, err = Arrive(t.Context(), a)
	require.NoError(t, err)
	assert.True(t, r.Working)
	assert.NotEmpty(t, r.Wrong)
	copied, err := os.ReadFile(a.Working)
	require.NoError(t, err)
	assert.Len(t, pdftest.Refs(t, pdftest.Open(t, copied)), 5)

	for words, data := range map[string][]byte{"the file is empty": nil, "the file is plain text, not a PDF": []byte("Minutes of the berth meeting"), "the file is damaged": []byte("%PDF-1.7\n1 0 obj\n<</Type/Catalog>>\nendobj\n")} {
		r, err := Arrive(t.Context(), put(t, data))
		require.NoError(t, err)
		assert.NotEmpty(t, r.Problem)
		assert.Contains(t, r.Sentence, words)
	}
	_, err = Arrive(t.Context(), Arrival{Path: filepath.Join(t.TempDir(), "nothing")})
	var stopped *Stopped
	require.Error(t, err)
	assert.NotErrorAs(t, err, &stopped)
}

// Each hostile file ends in a report or in a sentence, within the time; none takes the program that asks along.
func TestHostiles(t *testing.T) {
	for _, h := range pdftest.Hostiles() {
		t.Run(h.Name, func(t *testing.T) {
			start := time.Now()
			r, err := Arrive(t.Context(), put(t, h.Data))
			assert.Less(t, time.Since(start), 20*time.Second)
			var stopped *Stopped
			if errors.As(err, &stopped) {
				assert.Contains(t, stopped.Sentence, "stopped")
				return
			}
			require.NoError(t, err)
			assert.True(t, r.Problem == "" && r.Pages > 0 || r.Sentence != "", "%+v", r)
		})
	}
}

// What a picture says of its pixels gives it no more time: a TIFF file of a few bytes may say that it has any number of them.
func TestTimeOfPictures(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("II*\x00\x08\x00\x00\x00\x03\x00")
	for _, tag := range []byte{0, 1, 2} { // width and length of 65,535 (TIFF 6.0, section 3), and a strip
		b.Write([]byte{tag, 1, 4, 0, 1, 0, 0, 0, 255, 255, 0, 0})
	}
	b.Write(make([]byte, 400))
	a := put(t, b.Bytes())
	assert.Equal(t, pictureCPU, readCPU(a.Path, a.Size))
	assert.LessOrEqual(t, pictureCPU, 60*time.Second)
	start := time.Now()
	r, err := Arrive(t.Context(), a)
	require.NoError(t, err)
	assert.Equal(t, Refused, r.Problem)
	assert.Less(t, time.Since(start), 20*time.Second)
}

func TestPicturesInStrips(t *testing.T) {
	if testing.Short() {
		t.Skip("hundreds of millions of pixels")
	}
	big, within := pdftest.HostilePictures()[0], pdftest.HostilePictures()[1]
	r, err := Arrive(t.Context(), put(t, big.Data))
	require.NoError(t, err)
	assert.Equal(t, Refused, r.Problem)
	assert.Contains(t, r.Sentence, "more pixels than the 200 million")
	a := put(t, within.Data)
	r, err = Arrive(t.Context(), a)
	require.NoError(t, err)
	assert.Equal(t, []any{"PNG", 1, true}, []any{r.Picture, r.Pages, r.Working})
	copied, err := os.ReadFile(a.Working)
	require.NoError(t, err)
	assert.Len(t, pdftest.Refs(t, pdftest.Open(t, copied)), 1)
}

// Texts are those of a base with its updates.
func TestRead(t *testing.T) {
	base := pdftest.Text(3)
	d := pdftest.Open(t, base).Fork()
	refs := pdftest.Refs(t, d)
	content, _ := d.Dict(refs[1]).Get("Contents").(pdf.Ref)
	d.Set(content, pdf.NewStream(nil, []byte("BT /F 24 Tf 50 700 Td (Changed) Tj ET")))
	update, err := d.Update([16]byte{1})
	require.NoError(t, err)
	var got []string
	read := func(pages []pdf.Ref) error {
		return Read(t.Context(), Reading{Parts: []raster.Part{{Data: base}, {Data: update}}, Pages: pages}, func(list []Text) error {
			for _, x := range list {
				got = append(got, x.Reading)
			}
			return nil
		})
	}
	require.NoError(t, read(refs))
	assert.Len(t, got, 3)
	assert.Equal(t, []string{"Page 1", "Page 3"}, []string{got[0], got[2]})
	assert.NotEqual(t, "Page 2", got[1])
	fault := errors.New("the disk is full")
	err = Read(t.Context(), Reading{Parts: []raster.Part{{Data: base}}, Pages: refs}, func([]Text) error { return fault })
	assert.ErrorIs(t, err, fault)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, Read(ctx, Reading{Parts: []raster.Part{{Data: base}}, Pages: refs}, func([]Text) error { return nil }), context.Canceled)
}

// A child that is killed while it reads is asked once more; one that dies of the file is not asked for ever.
func TestKilledWhileReading(t *testing.T) {
	kill := time.AfterFunc(120*time.Millisecond, func() {
		list, _ := filepath.Glob("/proc/[0-9]*/stat")
		for _, path := range list {
			b, _ := os.ReadFile(path)
			var pid, parent int
			if i := bytes.LastIndexByte(b, ')'); i > 0 {
				_, _ = fmt.Sscan(string(b), &pid)
				_, _ = fmt.Sscanf(string(b[i+2:]), "%c %d", new(rune), &parent)
			}
			if parent == os.Getpid() {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	})
	defer kill.Stop()
	r, err := Arrive(t.Context(), put(t, pdftest.Text(4000)))
	require.NoError(t, err)
	assert.Equal(t, 4000, r.Pages)
	assert.Len(t, r.Texts, 4000)
	base := pdftest.Text(4000)
	kill.Reset(150 * time.Millisecond)
	var got []Text
	require.NoError(t, Read(t.Context(), Reading{Parts: []raster.Part{{Data: base}}, Pages: pdftest.Refs(t, pdftest.Open(t, base))}, func(list []Text) error { got = append(got, list...); return nil }))
	require.Len(t, got, 4000, "each once, also where it was begun anew")
	assert.Equal(t, "Page 3999", got[3998].Reading)
	for why, words := range map[error]string{child.ErrTime: "took too long", child.ErrMemory: "too much memory", child.ErrCrowded: "too much memory", child.ErrDead: "because of a fault", child.ErrEnded: "from outside", io.EOF: "EOF"} {
		assert.ErrorContains(t, stopped(why), words)
	}
	assert.Less(t, cpuFor(1<<10), cpuFor(100<<20))
	var b bytes.Buffer
	require.NoError(t, gob.NewEncoder(&b).Encode(question{}))
	assert.True(t, strings.Contains(b.String(), "Arrival"))
}
