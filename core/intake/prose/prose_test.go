package prose

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"glenrain/core/intake/page"
)

// put gives the body that a text in HTML comes to, and the sheet.
func put(t *testing.T, text string, files Files) (string, *page.Sheet) {
	t.Helper()
	s := page.New(nil)
	require.NoError(t, HTML(t.Context(), s, text, files, page.A4))
	all := string(s.End()[0].HTML)
	_, body, ok := strings.Cut(all, "<body>")
	require.True(t, ok)
	return strings.TrimSuffix(body, "</body></html>"), s
}

// Nothing of a file acts or fetches: whatever it holds, only elements and attributes of the list come out.
func TestNothingActs(t *testing.T) {
	body, s := put(t, `<p onclick="x()" style="background:url(https://spy.example)" class=q1 id=top>Dues</p><script>alert(1)</script><style>*{display:none}</style>
		<iframe src="https://spy.example"></iframe><img src="https://spy.example/p.png" alt="a chart" onerror="x()"><a href="javascript:x()">press</a> <a href="https://tides.example" target=_blank>tides</a>
		<svg><script>alert(2)</script></svg><form action="https://spy.example"><input value="x"><button>send</button><p>inside</p></form><video src=v></video><object data=d>fallback</object><!-- a note --><x-own>own</x-own>
		<meta http-equiv="refresh" content="0;url=https://spy.example"><link rel=stylesheet href="https://spy.example/s.css"><base href="https://spy.example/">`, nil)
	root, err := html.Parse(strings.NewReader(body))
	require.NoError(t, err)
	for n := range root.Descendants() {
		if n.Type != html.ElementNode {
			assert.NotEqual(t, html.CommentNode, n.Type)
			continue
		}
		assert.NotContains(t, []string{"script", "style", "iframe", "svg", "input", "button", "video", "object", "meta", "link", "base", "form"}, n.Data)
		for _, a := range n.Attr {
			assert.False(t, strings.HasPrefix(a.Key, "on") || a.Key == "style" && strings.Contains(a.Val, "url"), "%s of %s", a.Key, n.Data)
			assert.NotContains(t, a.Val, "spy.example")
			assert.NotContains(t, a.Val, "javascript")
		}
	}
	for _, kept := range []string{"Dues", "press", "tides", "inside", "own", `href="https://tides.example"`} {
		assert.Contains(t, body, kept)
	}
	for _, gone := range []string{"alert", "a note", "send"} {
		assert.NotContains(t, body, gone)
	}
	assert.Contains(t, s.Told, "Scripts were left out.")
	assert.Contains(t, s.Told, "Frames that show other pages were left out.")
}

// Title and language come from the file, the title else from its first heading.
func TestTitles(t *testing.T) {
	for text, want := range map[string][2]string{
		"<html lang=de><title> Gebühren\n2026 </title><h1>Anders</h1>": {"Gebühren 2026", "de"},
		"<h1>Winter <em>berths</em></h1><p>x":                          {"Winter berths", ""},
		"<p>x":                                                         {"", ""},
		"<html lang=" + strings.Repeat("x", 40) + "><p>x":              {"", ""},
	} {
		_, s := put(t, text, nil)
		assert.Equal(t, want, [2]string{s.Title, s.Lang}, "%.40s", text)
	}
	s := page.New(nil)
	require.NoError(t, Markdown(t.Context(), s, "---\ntitle: \"Tide tables\"\nlang: en-GB\nauthor: Fen\n---\n# Low water\n\n- [x] done\n\nA ~~wrong~~ line.[^1]\n\n[^1]: A note.\n", nil, page.A4))
	assert.Equal(t, "Tide tables", s.Title)
	assert.Equal(t, "en-GB", s.Lang)
	out := string(s.End()[0].HTML)
	assert.NotContains(t, out, "author: Fen")
	assert.Contains(t, out, "<del>wrong</del>")
	assert.Contains(t, out, "A note.")
	s = page.New(nil)
	require.NoError(t, Markdown(t.Context(), s, "---\nno settings here\n---\ntext\n", nil, page.A4))
	assert.Contains(t, string(s.End()[0].HTML), "no settings here", "a rule and a heading, as the text is")
}

// A picture beside the file is shown, under a name of ours; one that is not there leaves its words.
func TestPicturesBeside(t *testing.T) {
	var asked []string
	body, s := put(t, `<img src="plans/quay%201.png" alt="the quay" width=40><img src="../../etc/passwd" alt="nothing there"><img src="gone.png" alt="a chart of the river">`, func(path string) []byte {
		asked = append(asked, path)
		if strings.Contains(path, "quay") {
			return []byte("\x89PNG\r\n\x1a\n")
		}
		return nil
	})
	assert.NotEmpty(t, asked)
	assert.Contains(t, body, `src="p1.png"`)
	assert.Contains(t, body, "the quay")
	assert.Contains(t, body, "a chart of the river")
	assert.NotContains(t, body, "passwd")
	files := s.End()[0].Files
	_, first := files["p1.png"]
	_, second := files["p2.png"]
	assert.True(t, first && !second, "one picture, besides the faces")
}

// What is nested without end, and what takes too long, ends.
func TestEnds(t *testing.T) {
	err := HTML(t.Context(), page.New(nil), strings.Repeat("<div>", 5000)+"x", nil, page.A4)
	assert.ErrorIs(t, err, ErrDeep)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, HTML(ctx, page.New(nil), strings.Repeat("<p>x</p>", 3000), nil, page.A4), context.Canceled)
}
