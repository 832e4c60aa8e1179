package page

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/png"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"
)

func whole(s *Sheet) string { return string(s.End()[0].HTML) }

// Whatever a file says, it stands in the sheet as text: no tag, no attribute, no end of the style comes of it.
func TestNothingGetsOut(t *testing.T) {
	bad := "</style></title><script>alert(1)</script>\" onload='x' \x00\x1b\u0085\ufffe&amp; \xff"
	s := New(nil)
	s.Title, s.Lang = bad, bad
	s.Raw("<p", Attr("title", bad), ">")
	s.Text(bad)
	s.Raw("</p>")
	s.CSS("@page{%s}", Running{Centre: []Piece{{Text: bad}}}.Boxes("top", "color:#000000"))
	text := whole(s)
	root, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	elements := map[string]int{}
	said := ""
	for n := range root.Descendants() {
		switch n.Type {
		case html.ElementNode:
			elements[n.Data]++
			for _, a := range n.Attr {
				assert.Contains(t, []string{"lang", "charset", "title"}, a.Key)
			}
		case html.TextNode:
			if n.Parent.Data == "p" {
				said += n.Data
			}
		}
	}
	assert.Equal(t, map[string]int{"html": 1, "head": 1, "meta": 1, "title": 1, "style": 1, "body": 1, "p": 1}, elements)
	assert.Equal(t, "</style></title><script>alert(1)</script>\" onload='x' &amp; \ufffd", said, "controls are dropped, the rest is as it was")
}

func TestString(t *testing.T) { // CSS Syntax 3, 4.3.7: an escape ends with one space
	assert.Equal(t, `"Berth \22 4\22 , \3c b\3e \26  \5c  \a é港"`, String("Berth \"4\", <b>& \\ \né港"))
	assert.Equal(t, "\"\ufffd\"", String("\xff"))
}

func TestColour(t *testing.T) {
	for in, want := range map[string]string{"#FF8000": "#ff8000", " 00ff00 ": "#00ff00", "80112233": "#112233", "auto": "", "#12345": "", "gggggg": "", "": "", "1234567": "", "-12345": ""} {
		assert.Equal(t, want, Colour(in), in)
	}
}

func TestPt(t *testing.T) {
	for want, in := range map[string]float64{"12pt": 12, "0.33pt": 1.0 / 3, "-20000pt": -1e9, "20000pt": math.MaxFloat64, "0pt": math.NaN(), "1.5pt": 1.499999} {
		assert.Equal(t, want, Pt(in))
	}
	assert.Equal(t, "0pt", Pt(math.Inf(1)))
}

// Only addresses that do nothing by themselves stay, and places in the file have names that can't be ours.
func TestLink(t *testing.T) {
	for in, want := range map[string]string{
		"https://tides.example/a?b=c#d": "https://tides.example/a?b=c#d", " mailto:isla@orrinquay.example ": "mailto:isla@orrinquay.example", "TEL:+44": "tel:+44",
		"javascript:alert(1)": "", "JavaScript:alert(1)": "", "java\nscript:alert(1)": "", "data:text/html,x": "", "file:///etc/passwd": "", "//other.example/x": "", "x.html": "", "#": "",
		"#Low water": "#to-Low_water", "#a\"b": "#to-a%22b", "https://" + strings.Repeat("x", 2000): "", "http://[::1": "",
	} {
		assert.Equal(t, want, Link(in), in)
	}
	assert.Equal(t, "to-a_b%2Fc", Anchor("a b/c"))
}

func TestDeclarations(t *testing.T) {
	assert.Equal(t, "color:red;margin:0", Declarations("color", "red", "width", "", "margin", "0", "left"))
	assert.Equal(t, ` style="color:red"`, Style("color", "red"))
	assert.Empty(t, Style("color", ""))
	s := New(nil)
	assert.Empty(t, s.Class(""))
	first := s.Class("color:red")
	assert.Equal(t, ` class="q1"`, first)
	assert.Equal(t, ` class="q2"`, s.Class("color:blue"))
	assert.Equal(t, first, s.Class("color:red"), "one rule for those that are alike")
	assert.Equal(t, 1, strings.Count(whole(s), ".q1{"))
}

// A picture is kept once, by what it is and not by its name; one that no program should open is not shown.
func TestPicture(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, 7, 3))))
	s := New(nil)
	assert.Equal(t, "p1.png", s.Picture(b.Bytes()))
	assert.Equal(t, "p1.png", s.Picture(bytes.Clone(b.Bytes())))
	assert.Equal(t, "p2.jpg", s.Picture([]byte("\xff\xd8\xff\xe0")))
	assert.Equal(t, "p3.webp", s.Picture([]byte("RIFF\x00\x00\x00\x00WEBPVP8 ")))
	for _, no := range []string{"", "%PDF-1.7", "<svg onload='x'/>", "RIFF\x00\x00\x00\x00WAVEfmt "} {
		assert.Empty(t, s.Picture([]byte(no)), no)
	}
	bomb := bytes.Clone(b.Bytes())
	binary.BigEndian.PutUint32(bomb[16:], 29_000)
	binary.BigEndian.PutUint32(bomb[20:], 29_000)
	assert.Empty(t, s.Picture(bomb), "841 million pixels")
	binary.BigEndian.PutUint32(bomb[16:], 30_001)
	binary.BigEndian.PutUint32(bomb[20:], 1)
	assert.Empty(t, s.Picture(bomb), "longer than anything that is shown")
	assert.Equal(t, 7, PixelWidth(b.Bytes()))
	assert.Zero(t, PixelWidth([]byte("GIF8")))
	s.Raw("<p>")
	require.Len(t, s.End()[0].Files, 3)
	assert.Equal(t, "image/png", s.End()[0].Files["p1.png"].Type)
	assert.False(t, s.Over())
}

func TestPaper(t *testing.T) {
	w, h := A4.Inner()
	assert.InDelta(t, 170*72/25.4, w, 1e-6)
	assert.InDelta(t, 257*72/25.4, h, 1e-6)
	p := Paper{Width: math.NaN(), Height: 1e9, Left: -5, Right: 1000, Top: math.NaN(), Bottom: 9000}.Sane()
	assert.Equal(t, Paper{Width: 72, Height: 14400, Right: 72 * 0.45, Bottom: 14400 * 0.45 * 0, Top: 0}, Paper{Width: p.Width, Height: p.Height, Right: p.Right, Left: p.Left, Top: p.Top})
	assert.InDelta(t, 6480, p.Bottom, 1e-6, "a page keeps room for text")
	assert.Equal(t, "size:72pt 14400pt;margin:0pt 32.4pt 6480pt 0pt", p.Rule())
	s := New(nil)
	s.CSS("@page{%s}@page wide{%s}", A4.Rule(), A4.Rule())
	s.Raw("<p>")
	assert.Equal(t, [][2]float64{{595.28, 841.89}}, s.End()[0].Sizes, "each size once")
}

func TestRunning(t *testing.T) {
	r := Running{Left: []Piece{{Text: "Dues"}}, Right: []Piece{{Field: "page", Format: "lower-roman"}, {Text: " of "}, {Field: "pages"}, {Picture: "url(p1.png)"}}}
	assert.False(t, r.Empty())
	assert.True(t, Running{}.Empty())
	css := r.Boxes("bottom", "color:red")
	assert.Contains(t, css, `@bottom-left{content:"Dues";white-space:pre-wrap;vertical-align:top;text-align:left;padding:6pt 0;color:red}`)
	assert.Contains(t, css, `@bottom-right{content:counter(page,lower-roman) " of " counter(pages) url(p1.png);`)
	assert.NotContains(t, css, "center{")
	assert.Contains(t, r.Boxes("top", ""), "vertical-align:bottom")
	assert.True(t, r.Untotal())
	assert.Equal(t, []Piece{{Field: "page", Format: "lower-roman"}, {Picture: "url(p1.png)"}}, r.Right, "with the words before it")
	assert.False(t, r.Untotal())
}

// Runs and the rows of long tables are cut where they were said to begin; nothing stands twice and nothing is lost.
func TestCuts(t *testing.T) {
	s := New(nil)
	s.Raw("<h1>A</h1>")
	s.Cut()
	s.Raw("<table>")
	s.Row(true, false)
	s.Raw("<tr>1")
	s.Row(false, false)
	s.Raw("<tr>2")
	s.Row(false, true)
	s.Raw("<tr>2b")
	s.Rows()
	s.Raw("</table><p>end")
	s.Cut()
	s.Raw("<h1>B</h1>")
	runs := s.End()
	require.Len(t, runs, 3)
	assert.Contains(t, string(runs[0].HTML), "<body><h1>A</h1></body>")
	require.NotNil(t, runs[1].Long)
	assert.True(t, bytes.HasSuffix(runs[1].Long.Before, []byte("<body><table>")))
	var rows []string
	for _, r := range runs[1].Long.Rows {
		rows = append(rows, string(r.HTML))
	}
	assert.Equal(t, []string{"<tr>1", "<tr>2", "<tr>2b"}, rows)
	assert.Equal(t, []bool{false, false, true}, []bool{runs[1].Long.Rows[0].Inside, runs[1].Long.Rows[1].Inside, runs[1].Long.Rows[2].Inside})
	assert.Equal(t, "</table><p>end</body></html>", string(runs[1].Long.After))
	assert.Contains(t, string(runs[2].HTML), "<body><h1>B</h1></body>")
	require.Len(t, New(nil).End(), 1, "a file with nothing in it is a page")
}

func TestTell(t *testing.T) {
	s := New(nil)
	for range 3 {
		s.Tell("Videos are left out.")
	}
	s.Tell("Sounds are left out.")
	assert.Equal(t, []string{"Videos are left out.", "Sounds are left out."}, s.Told)
}

// There is an end to what is taken.
func TestOver(t *testing.T) {
	s := New(nil)
	long := strings.Repeat("x", 1<<20)
	for range MaxHTML>>20 + 2 {
		s.Raw(long)
	}
	assert.True(t, s.Over())
	assert.Less(t, s.body.Len(), MaxHTML+2<<20)
}
