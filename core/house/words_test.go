package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// text is a string that people may read, and where it is written.
type text struct {
	at   string
	says string
}

// speaking are the folders whose strings people read. What the demo's papers say is the harbour trust's.
var speaking = []string{"core", "desk", "web", "cmd", "porter", "scanner"}

// No string of the program is put in a way that Patterns lists.
func TestWords(t *testing.T) {
	root := "../.."
	var all []text
	kinds := map[string]int{}
	for _, dir := range speaking {
		require.NoError(t, filepath.WalkDir(filepath.Join(root, dir), func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			at, _ := filepath.Rel(root, path)
			if strings.HasSuffix(at, "_test.go") || strings.Contains(at, "pdftest") || strings.HasPrefix(at, "core/house") || strings.Contains(at, "testdata") {
				return nil
			}
			data, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			var found []text
			switch filepath.Ext(at) {
			case ".go":
				found = goTexts(t, at, data)
			case ".html":
				found = pageTexts(at, string(data))
			case ".js":
				if !strings.Contains(at, "vendor") {
					found = scriptTexts(at, string(data))
				}
			}
			kinds[filepath.Ext(at)] += len(found)
			all = append(all, found...)
			return nil
		}))
	}
	assert.Greater(t, kinds[".go"], 1000)
	assert.Greater(t, kinds[".html"], 200)
	assert.Greater(t, kinds[".js"], 200)
	used := map[string]bool{}
	for _, s := range all {
		words, instead := Wrong(s.says)
		if words == "" {
			continue
		}
		if ok := right(s, words); ok != "" {
			used[ok] = true
			continue
		}
		t.Errorf("%s: %q: %q (%s)", s.at, s.says, words, instead)
	}
	for key := range fine {
		assert.True(t, used[key], "no string contains the exception %q: take it off the list", key)
	}
}

// fine are strings that are right as they are, by a piece of them, and why.
var fine = map[string]string{
	"passed on":  "the stored name of a line in the activity log; people read “shared”",
	"handed out": "the stored name of a line in the activity log; people read “exported”",
}

func right(s text, words string) string {
	for piece := range fine {
		if strings.Contains(s.says, piece) && strings.Contains(piece, words) {
			return piece
		}
	}
	return ""
}

// styles are those of style sheets and databases, which the program writes.
var styles = regexp.MustCompile(`[a-z]\{[a-z-]+:|;[a-z-]+:[^ ]|^\.?\d[\d.]*pt \w+|^(SELECT|UPDATE|INSERT|DELETE|CREATE|DROP|PRAGMA|WITH|ALTER) `)

// worded tells a sentence, or a label, from a name in the program.
func worded(s string) bool {
	if styles.MatchString(s) {
		return false
	}
	return strings.ContainsRune(strings.TrimSpace(s), ' ') && regexp.MustCompile(`[a-z]{2}`).MatchString(s)
}

// goTexts gives the strings of a Go file, and what the tags of its fields say; not what is logged.
func goTexts(t *testing.T, at string, data []byte) (out []text) {
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, at, data, parser.SkipObjectResolution)
	require.NoError(t, err)
	add := func(n ast.Node, s string) {
		if worded(s) {
			out = append(out, text{at + ":" + strconv.Itoa(set.Position(n.Pos()).Line), s})
		}
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.ImportSpec:
			return false
		case *ast.Field:
			if n.Tag != nil {
				tag, _ := strconv.Unquote(n.Tag.Value)
				for _, k := range []string{"help", "required"} {
					add(n, reflect.StructTag(tag).Get(k))
				}
				for pair := range strings.SplitSeq(reflect.StructTag(tag).Get("labels"), ",") {
					_, label, _ := strings.Cut(pair, "=")
					add(n, label)
				}
			}
			return n.Tag == nil
		case *ast.CallExpr:
			if f, ok := n.Fun.(*ast.SelectorExpr); ok {
				if on, ok := f.X.(*ast.SelectorExpr); ok && on.Sel.Name == "log" {
					return false
				}
				if x, ok := f.X.(*ast.Ident); ok && (x.Name == "regexp" || x.Name == "slog") || f.Sel.Name == "Exec" || f.Sel.Name == "Raw" || f.Sel.Name == "Where" {
					return false
				}
			}
		case *ast.BasicLit:
			if n.Kind == token.STRING {
				s, err := strconv.Unquote(n.Value)
				require.NoError(t, err)
				add(n, s)
			}
		}
		return true
	})
	return out
}

var (
	action   = regexp.MustCompile(`(?s)\{\{.*?\}\}`)
	quoted   = regexp.MustCompile(`"((?:[^"\\]|\\.)*)"`)
	comment  = regexp.MustCompile(`(?s)<!--.*?-->`)
	script   = regexp.MustCompile(`(?s)<(script|style)[^>]*>.*?</(script|style)>`)
	tag      = regexp.MustCompile(`(?s)<[^>]*>`)
	attr     = regexp.MustCompile(`(?:aria-label|title|placeholder|alt|data-[a-z-]+)="([^"]*)"`)
	inline   = regexp.MustCompile(`</?(a|b|i|em|kbd|strong|span|label|code|time)\b[^>]*>`)
	newlines = regexp.MustCompile(`\s+`)
)

// asking are labels that ask where a noun names the field, and options that are clauses.
var asking = regexp.MustCompile(`aria-label="(?:What|How|Who|Whom|Where|Which|To )[^"]*"|<option[^>]*>(?:it|its|they|their|what|as|by) [^<]*|>(?:Do it|Keep|Leave it|Lead|Let) [^<]*</button>`)

// No field is labelled by a question, and no option is a clause.
func TestLabels(t *testing.T) {
	seen := 0
	require.NoError(t, filepath.WalkDir("../../web", func(path string, d fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".html" {
			return err
		}
		data, err := os.ReadFile(path)
		seen++
		for _, found := range asking.FindAllString(string(data), -1) {
			t.Errorf("%s: %s", path, found)
		}
		return err
	}))
	assert.Greater(t, seen, 20)
}

// pageTexts gives what a template shows: its texts, the words of its attributes, and the strings in its actions.
func pageTexts(at, data string) (out []text) {
	add := func(s string) {
		if s = strings.TrimSpace(newlines.ReplaceAllString(s, " ")); worded(s) {
			line := 1 + strings.Count(data[:max(0, strings.Index(data, strings.SplitN(s, " ", 2)[0]))], "\n")
			out = append(out, text{at + ":" + strconv.Itoa(line), s})
		}
	}
	data = script.ReplaceAllString(comment.ReplaceAllString(data, ""), "")
	for _, a := range action.FindAllString(data, -1) {
		for _, q := range quoted.FindAllStringSubmatch(a, -1) {
			add(q[1])
		}
	}
	plain := action.ReplaceAllString(data, " ")
	for _, a := range attr.FindAllStringSubmatch(plain, -1) {
		add(a[1])
	}
	for _, s := range tag.Split(inline.ReplaceAllString(plain, ""), -1) {
		add(s)
	}
	return out
}

// scriptTexts gives the strings of a script.
func scriptTexts(at, data string) (out []text) {
	line := 1
	for i := 0; i < len(data); i++ {
		switch c := data[i]; {
		case c == '\n':
			line++
		case strings.HasPrefix(data[i:], "//") && (i == 0 || data[i-1] == ' ' || data[i-1] == '\n'):
			for i+1 < len(data) && data[i+1] != '\n' {
				i++
			}
		case strings.HasPrefix(data[i:], "/*"):
			for i+1 < len(data) && !strings.HasPrefix(data[i:], "*/") {
				if data[i] == '\n' {
					line++
				}
				i++
			}
		case c == '"' || c == '`' || c == '\'' && i > 0 && strings.ContainsRune(" (,=:[", rune(data[i-1])):
			k := i + 1
			for k < len(data) && data[k] != c && (c == '`' || data[k] != '\n') {
				if data[k] == '\\' {
					k++
				}
				k++
			}
			if k >= len(data) {
				return out
			}
			if s := data[i+1 : k]; worded(s) {
				out = append(out, text{at + ":" + strconv.Itoa(line), s})
			}
			line += strings.Count(data[i:k], "\n")
			i = k
		}
	}
	return out
}
