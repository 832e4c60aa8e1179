package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ownToDesk are methods that the desk has of the rooms below it, for the rooms among themselves: they ask no gate, or are a part of it, so no screen calls them.
var ownToDesk = map[string]bool{"Snapshot": true, "Visitor": true, "Admits": true, "Scoped": true, "NameOf": true, "Note": true, "NoteIn": true, "MayLookFor": true, "LookedInVain": true}

// Screens ask the desk by what the gate guards.
func TestScreensAskTheGate(t *testing.T) {
	defined := map[string]bool{}
	each := func(root string, look func(path string, f *ast.File)) {
		require.NoError(t, filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
			if err == nil {
				look(path, f)
			}
			return err
		}))
	}
	each("../../desk", func(_ string, f *ast.File) {
		for _, d := range f.Decls {
			if fn, ok := d.(*ast.FuncDecl); ok && fn.Recv != nil {
				defined[fn.Name.Name] = true
			}
		}
	})
	for name := range ownToDesk {
		assert.True(t, defined[name], "the desk has a method %s", name)
	}
	calls := 0
	each("../../web", func(path string, f *ast.File) {
		ast.Inspect(f, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			if sel, ok := call.Fun.(*ast.SelectorExpr); ok {
				calls++
				assert.False(t, ownToDesk[sel.Sel.Name], "%s calls %s", path, sel.Sel.Name)
			}
			return true
		})
	})
	assert.Greater(t, calls, 1000)
}
