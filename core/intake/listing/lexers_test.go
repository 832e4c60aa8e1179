package listing

import (
	"testing"

	"github.com/alecthomas/chroma/v2"
	library "github.com/alecthomas/chroma/v2/lexers"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every name of a file tells the language that the library tells by it, and what is coloured is coloured alike.
func TestLexers(t *testing.T) {
	assert.Len(t, lexers().Lexers, len(library.GlobalLexerRegistry.Lexers), "run: go run ./tools/lexers core/intake/listing/lexers.zip")
	for _, name := range []string{"quay.go", "tides.py", "berths.sql", "a.c", "a.h", "a.cpp", "Makefile", "makefile", "a.json", "a.yaml", "a.toml", "a.ini", "a.sh", "a.bat", "a.ps1", "a.js", "a.ts", "a.css", "a.xml", "a.java",
		"a.rb", "a.rs", "a.pl", "a.php", "a.r", "a.tex", "a.vb", "a.diff", "a.patch", "Dockerfile", "a.lisp", "a.svelte", "a.rst", "nothing.known", "a.txt", "a", "a.go.bak", "crontab.orig", "a.pas", "a.f90", "a.cs", "a.kt", "a.swift"} {
		want := ""
		if l := library.Match(name); l != nil && l.Config().Name != "plaintext" {
			want = l.Config().Name
		}
		assert.Equal(t, want, Lexer(name), name)
	}
	for name, text := range map[string]string{"a.go": "package a // berth\n\nvar b = `4` + \"5\"\n", "a.py": "def tide(at): # metres\n    return 6.1\n", "a.sql": "SELECT berth FROM dues WHERE year = 2026;\n"} {
		got, err := chroma.Tokenise(chroma.Coalesce(lexers().Match(name)), nil, text)
		require.NoError(t, err)
		want, err := chroma.Tokenise(chroma.Coalesce(library.Match(name)), nil, text)
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
	}
}
