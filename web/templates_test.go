package web

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWeight(t *testing.T) {
	for n, want := range map[int64]string{0: "0 bytes", 999: "999 bytes", 1000: "1 KB", 84_200: "84 KB", 999_499: "999 KB", 999_500: "1.0 MB", 3_140_000: "3.1 MB", 1_250_000_000: "1.25 GB"} {
		assert.Equal(t, want, weight(n))
	}
}

func TestWhen(t *testing.T) {
	now := time.Now()
	noon := time.Date(now.Year(), now.Month(), now.Day(), 12, 0, 0, 0, time.Local)
	assert.Equal(t, "today 12:00", when(noon))
	assert.Equal(t, "yesterday 12:00", when(noon.AddDate(0, 0, -1)))
	assert.Equal(t, "3 Mar 2019", when(time.Date(2019, 3, 3, 9, 0, 0, 0, time.Local)))
}

func TestLocalPath(t *testing.T) {
	for in, want := range map[string]string{
		"/desk/3/arrange?page=0.1": "/desk/3/arrange?page=0.1", "": "/documents", "//elsewhere.example": "/documents",
		"https://elsewhere.example": "/documents", `/\elsewhere.example`: "/documents",
	} {
		assert.Equal(t, want, localPath(in))
	}
}

func TestAllWords(t *testing.T) {
	assert.True(t, allWords("page numbers footer", "foot num"))
	assert.False(t, allWords("page numbers footer", "foot turn"))
}

// Every icon that a template names is there, and scripts and styles name no outside address.
func TestFiles(t *testing.T) {
	for _, name := range []string{"search", "arrow-counterclockwise", "arrow-clockwise", "eye", "inbox", "x-lg", "pencil", "dash", "plus", "download", "question-lg"} {
		h, err := icon(name)
		require.NoError(t, err)
		assert.Contains(t, string(h), `aria-hidden="true"`)
	}
	_, err := icon("../theme.css\x00")
	assert.Error(t, err)
	for _, name := range []string{"app.js", "board.js", "desk.js", "documents.js", "finder.js", "keys.js", "leaves.js", "paper.js", "reader.js", "ribbon.js", "slip.js", "theme.css"} {
		b, err := files.ReadFile("static/" + name)
		require.NoError(t, err)
		assert.NotRegexp(t, `(?:https?:)?//[a-z0-9-]+\.[a-z]{2,}/`, string(b), name)
		assert.NotContains(t, string(b), "eval(")
	}
}
