package draw_test

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// boxes gives the words that poppler finds, with their left, top, right and bottom in points from the upper left corner.
func boxes(t *testing.T, file []byte) (words []string, at [][4]float64) {
	t.Helper()
	for _, m := range regexp.MustCompile(`<word xMin="([\d.]+)" yMin="([\d.]+)" xMax="([\d.]+)" yMax="([\d.]+)">([^<]*)</word>`).FindAllStringSubmatch(pdftest.Tool(t, file, "pdftotext", "-bbox", "FILE", "-"), -1) {
		var b [4]float64
		for i := range b {
			b[i], _ = strconv.ParseFloat(m[i+1], 64)
		}
		words, at = append(words, m[5]), append(at, b)
	}
	return words, at
}

func invisible() *draw.Invisible {
	return &draw.Invisible{Note: "93", Lines: []draw.InvisibleLine{
		{Size: 12, Words: []draw.InvisibleWord{{"Soundings", 50, 200, 60}, {"(of", 114.4, 200, 14}, {"Hafenm\u00e4uer\u2019s)", 131, 200, 90}, {"\\", 230, 200, 4}}},
		{Size: 9.4, Words: []draw.InvisibleWord{{"a", 50, 180.26, 5}, {"\u0394\u0436\U0001f6a2", 60, 180.26, 20}}},
		{Size: 12, Angle: 3, Words: []draw.InvisibleWord{{"askew", 60, 100, 40}, {"line", 103.946, 102.303, 25}}},
		{Size: 12, Angle: 90, Words: []draw.InvisibleWord{{"upwards", 280, 50, 50}}},
	}}
}

// What is set is read back, found by another program where it was set, not seen, and costs little.
func TestInvisible(t *testing.T) {
	blank := pdftest.Text(1)
	d := pdftest.Open(t, blank)
	page := pdftest.Refs(t, d)[0]
	before := pdftest.Tool(t, blank, "pdftoppm", "-r", "60", "FILE")
	require.NoError(t, draw.PutInvisible(d, page, invisible()))
	back, ok := draw.ReadInvisible(d, page)
	require.True(t, ok)
	want := invisible()
	assert.Equal(t, "93", back.Note)
	require.Len(t, back.Lines, 4)
	for i, l := range back.Lines {
		assert.InDelta(t, want.Lines[i].Angle, l.Angle, 0.002)
		assert.Equal(t, want.Lines[i].Size, l.Size)
		require.Len(t, l.Words, len(want.Lines[i].Words))
		for k, w := range l.Words {
			o := want.Lines[i].Words[k]
			assert.Equal(t, strings.ReplaceAll(o.Text, "\U0001f6a2", "\ufffd"), w.Text)
			assert.InDelta(t, o.X, w.X, 0.15, w.Text)
			assert.InDelta(t, o.Y, w.Y, 0.15, w.Text)
			assert.InDelta(t, o.Long, w.Long, 0.5, w.Text)
		}
	}
	file := pdftest.Whole(t, d)
	pdftest.Check(t, file)
	assert.Equal(t, before, pdftest.Tool(t, file, "pdftoppm", "-r", "60", "FILE"), "nothing is seen")
	words, at := boxes(t, file)
	high := d.Geometry(page).Visible.Y1
	found := func(w string) [4]float64 {
		for i := range words {
			if words[i] == w {
				return at[i]
			}
		}
		require.Contains(t, words, w)
		return [4]float64{}
	}
	b := found("Soundings")
	assert.InDelta(t, 50, b[0], 0.2)
	assert.InDelta(t, 110, b[2], 0.4)
	assert.InDelta(t, high-200-12*0.905, b[1], 0.3)
	assert.InDelta(t, high-200+12*0.212, b[3], 0.3)
	b = found("Hafenm\u00e4uer\u2019s)")
	assert.InDelta(t, 131, b[0], 0.2)
	assert.InDelta(t, 221, b[2], 0.6)
	assert.Contains(t, words, "line")
	assert.Contains(t, words, "upwards")
	assert.Contains(t, pdftest.Tool(t, file, "mutool", "draw", "-q", "-F", "txt", "FILE"), "askew line")
	assert.Regexp(t, `Unseen\s+CID TrueType\s+Identity-H\s+yes\s+yes\s+yes`, pdftest.Tool(t, file, "pdffonts", "FILE"))
	assert.Contains(t, words, "Δж\ufffd")
	// A word is put right: the rest stays where it was to the byte.
	back.Lines[0].Words[0].Text = "Soundlngs"
	require.NoError(t, draw.PutInvisible(d, page, back))
	again, ok := draw.ReadInvisible(d, page)
	require.True(t, ok)
	assert.Equal(t, "Soundlngs", again.Lines[0].Words[0].Text)
	assert.Equal(t, back.Lines[1:], again.Lines[1:])
	assert.Len(t, d.Array(d.Dict(page).Get("Contents")), 4, "one layer, and the page's own content in its fence")
	back.Lines[0].Words[0].Text = "潮汐表"
	require.NoError(t, draw.PutInvisible(d, page, back))
	assert.Contains(t, pdftest.Tool(t, pdftest.Whole(t, d), "pdftotext", "FILE", "-"), "潮汐表", "letters beyond the usual ones")
	// Taken off, the page is as it was.
	was := pdftest.Open(t, blank)
	dropped, err := draw.DropInvisible(d, page)
	require.NoError(t, err)
	assert.True(t, dropped)
	assert.Equal(t, fmt.Sprint(was.Dict(page).Get("Contents")), fmt.Sprint(d.Dict(page).Get("Contents")))
	_, ok = draw.ReadInvisible(d, page)
	assert.False(t, ok)
	dropped, err = draw.DropInvisible(d, page)
	require.NoError(t, err)
	assert.False(t, dropped)
}

// The font is one for all pages, and costs some hundred bytes; a page of usual type costs a few thousand.
func TestInvisibleWeight(t *testing.T) {
	d := pdftest.Open(t, pdftest.Text(30))
	refs := pdftest.Refs(t, d)
	plain := len(pdftest.Whole(t, d))
	words := strings.Fields(strings.Repeat("the soundings of the north berth were taken at low water on the fourth of October and agree with those of spring ", 25))
	layer := func() *draw.Invisible {
		u := &draw.Invisible{}
		for at, y := 0, 780.0; at < len(words); y -= 14 {
			l := draw.InvisibleLine{Size: 10.4}
			for x := 60.0; at < len(words) && x < 520; at++ {
				long := float64(len(words[at])) * (5 + float64(at*7919%13)/50)
				l.Words = append(l.Words, draw.InvisibleWord{words[at], x, y, long})
				x += long + 2.6
			}
			u.Lines = append(u.Lines, l)
		}
		return u
	}
	require.NoError(t, draw.PutInvisible(d, refs[0], layer()))
	one := len(pdftest.Whole(t, d)) - plain
	for _, r := range refs[1:] {
		require.NoError(t, draw.PutInvisible(d, r, layer()))
	}
	each := (len(pdftest.Whole(t, d)) - plain - one) / (len(refs) - 1)
	t.Logf("the font %d bytes, each page of %d words %d bytes", one-each, len(words), each)
	assert.Less(t, one-each, 1800)
	assert.Less(t, each, 4096)
	var fonts []pdf.Ref
	for _, r := range refs {
		for _, e := range d.Dict(d.Dict(d.Inherited(r, "Resources")).Get("Font")).Entries() {
			if ref, ok := e.Value.(pdf.Ref); ok && d.Name(d.Dict(ref).Get("Subtype")) == "Type0" && len(fonts) == 0 || ok && len(fonts) > 0 && ref == fonts[0] {
				fonts = append(fonts, ref)
			}
		}
	}
	assert.Len(t, fonts, len(refs))
}
