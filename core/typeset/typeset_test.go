package typeset

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func set(t *testing.T, s Sheet) (path string) {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, Set(context.Background(), s, Limits{}, &b))
	path = filepath.Join(t.TempDir(), "out.pdf")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	return path
}

func TestSet(t *testing.T) {
	at := time.Now()
	path := set(t, Sheet{HTML: []byte(`<!DOCTYPE html><html lang="en"><title>Notice</title><style>@page{size:A5;margin:20mm}</style><h1>Low water</h1><p>Take care.`)})
	out, err := exec.Command("pdfinfo", "-struct-text", path).Output()
	t.Log(time.Since(at), string(out))
	require.NoError(t, err)
	require.Contains(t, string(out), "Low water")
}
