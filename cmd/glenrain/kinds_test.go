package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/demo"
)

// combine and insert take files of every kind, wherever they take a file; what can't be turned into pages ends in a sentence and writes nothing.
func TestKinds(t *testing.T) {
	if testing.Short() {
		t.Skip("several files are turned into pages")
	}
	others, err := demo.Others()
	require.NoError(t, err)
	dir := t.TempDir()
	out := filepath.Join(dir, "out.pdf")
	args := []string{"combine", write(t, "a.pdf", pdftest.Text(1)), write(t, "depth.go", []byte("package quay\n"))}
	for _, f := range others {
		args = append(args, write(t, f.Name, f.Data))
	}
	code, said, errs := glenrain(t, "", append(args, "-o", out)...)
	require.Zero(t, code, errs)
	assert.Empty(t, said, "nothing of these was left out")
	text, err := exec.Command("pdftotext", "-layout", out, "-").Output()
	require.NoError(t, err)
	for _, want := range []string{"package quay", "read by hand, by R. Skerry", "Foot passengers use the steps", "Nine Fathoms", "bring vessels over 30 metres in on the flood alone"} {
		assert.Contains(t, string(text), want)
	}
	outline, err := exec.Command("mutool", "show", out, "outline").Output()
	require.NoError(t, err)
	for _, want := range []string{"Berth applications", "The ferry ramp is closed in February", "While the dredger works"} {
		assert.Contains(t, string(outline), want)
	}
	steps := write(t, "s.json", []byte(`{"steps":[{"name":"insert","params":{"from":"path:`+args[4]+`","to":"end"}}]}`))
	code, said, errs = glenrain(t, "", "run", steps, args[1], "-o", out)
	require.Zero(t, code, errs)
	assert.Contains(t, said, "inserted at the end")
	require.NoError(t, os.Remove(out))
	for name, data := range map[string]string{"old.doc": "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "cut.docx": "PK\x03\x04", "a.zip": "PK\x05\x06" + string(make([]byte, 18))} {
		code, _, errs := glenrain(t, "", "combine", write(t, name, []byte(data)), "-o", out)
		assert.Equal(t, exitRead, code, name)
		assert.Contains(t, errs, "glenrain: "+name)
		assert.NoFileExists(t, out)
	}
}
