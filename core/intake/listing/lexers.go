package listing

import (
	"archive/zip"
	"bytes"
	_ "embed"
	"io/fs"
	"sync"

	"github.com/alecthomas/chroma/v2"
)

// The lexers are those of github.com/alecthomas/chroma (MIT licence), written as data by tools/lexers.
//
//go:embed lexers.zip
var archive []byte

// lexers reads the archive once, when the first text is looked at: most runs of the program look at none.
var lexers = sync.OnceValue(func() *chroma.LexerRegistry {
	out := chroma.NewLexerRegistry()
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		return out
	}
	paths, err := fs.Glob(z, "*.xml")
	if err != nil {
		return out
	}
	for _, path := range paths {
		if l, err := chroma.NewXMLLexer(z, path); err == nil {
			out.Register(l)
		}
	}
	return out
})
