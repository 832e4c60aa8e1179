package house

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every test that docs/SECURITY.md names for one of its points is there.
func TestSecurityIsTested(t *testing.T) {
	root := filepath.Join("..", "..")
	page, err := os.ReadFile(filepath.Join(root, "docs", "SECURITY.md"))
	require.NoError(t, err)
	var tests strings.Builder
	require.NoError(t, filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		tests.Write(b)
		return err
	}))
	names := regexp.MustCompile("`(Test\\w+)`").FindAllStringSubmatch(string(page), -1)
	require.Greater(t, len(names), 40)
	for _, n := range names {
		assert.Contains(t, tests.String(), "\nfunc "+n[1]+"(t *testing.T)", "docs/SECURITY.md names a test that is not there")
	}
}
