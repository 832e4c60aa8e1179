package shell

import (
	"io/fs"
	"path"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/web/station"
)

func TestWeight(t *testing.T) {
	for n, want := range map[int64]string{0: "0 bytes", 999: "999 bytes", 1000: "1 KB", 84_200: "84 KB", 999_499: "999 KB", 999_500: "1.0 MB", 3_140_000: "3.1 MB", 1_250_000_000: "1.25 GB"} {
		assert.Equal(t, want, station.Weight(n))
	}
}

func TestWhen(t *testing.T) {
	now := time.Now()
	noon := time.Date(now.Year(), now.Month(), now.Day(), 12, 0, 0, 0, time.Local)
	assert.Equal(t, "today 12:00", station.When(noon))
	assert.Equal(t, "yesterday 12:00", station.When(noon.AddDate(0, 0, -1)))
	assert.Equal(t, "3 Mar 2019", station.When(time.Date(2019, 3, 3, 9, 0, 0, 0, time.Local)))
}

func TestLocalPath(t *testing.T) {
	for in, want := range map[string]string{
		"/desk/3/arrange?page=0.1": "/desk/3/arrange?page=0.1", "": "", "//elsewhere.example": "",
		"https://elsewhere.example": "", `/\elsewhere.example`: "", "/\t/elsewhere.example": "",
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
	_, err := icon("../mark.css\x00")
	assert.Error(t, err)
	base, err := files.ReadFile("html/base.html")
	require.NoError(t, err)
	n := 0
	require.NoError(t, fs.WalkDir(files, "static", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || strings.Contains(path, "vendor") || !strings.HasSuffix(path, ".js") && !strings.HasSuffix(path, ".css") {
			return err
		}
		if strings.HasSuffix(path, ".css") {
			assert.Contains(t, string(base), strings.TrimPrefix(path, "static/"), "each style sheet is linked")
		}
		b, err := files.ReadFile(path)
		assert.NotRegexp(t, `(?:https?:)?//[a-z0-9-]+\.[a-z]{2,}/`, strings.ReplaceAll(string(b), "http://www.w3.org/2000/svg", ""), path)
		assert.NotContains(t, string(b), "eval(", path)
		n++
		return err
	}))
	assert.Greater(t, n, 15)
}

// Scripts import one another without circles; state, dom and what only computes import nothing.
func TestScriptsHaveNoCircles(t *testing.T) {
	imports := map[string][]string{}
	named := regexp.MustCompile(`(?m)^import .*from "([^"]+)";$`)
	require.NoError(t, fs.WalkDir(files, "static", func(at string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(at, ".js") || strings.Contains(at, "vendor") {
			return err
		}
		b, err := files.ReadFile(at)
		imports[at] = nil
		for _, m := range named.FindAllStringSubmatch(string(b), -1) {
			imports[at] = append(imports[at], path.Join(path.Dir(at), m[1]))
		}
		return err
	}))
	state := map[string]int{} // 1 under way, 2 done
	var visit func(at string, way []string)
	visit = func(at string, way []string) {
		to, there := imports[at]
		require.True(t, there, "%s is imported by %v and is not there", at, way)
		require.NotEqual(t, 1, state[at], "a circle: %v", append(way, at))
		if state[at] == 2 {
			return
		}
		state[at] = 1
		for _, next := range to {
			visit(next, append(way, at))
		}
		state[at] = 2
	}
	for at := range imports {
		visit(at, nil)
	}
	for _, pure := range []string{"state", "dom", "geometry", "sentence/units", "sentence/pageset", "gesture/press"} {
		assert.Empty(t, imports["static/"+pure+".js"], pure)
	}
}
