package edit_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/edit"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// row is a line of words as poppler reads them: left and right edge, base, and text.
type row struct {
	x0, x1, y float64
	text      string
}

// rows gives the lines of a file whose bases lie between two heights from the upper edge, from the top.
func rows(t *testing.T, file []byte, top, bottom float64) (out []row) {
	t.Helper()
	for line := range strings.Lines(pdftest.Tool(t, file, "pdftotext", "-bbox", "-cropbox", "FILE", "-")) {
		var x0, y0, x1, y1 float64
		var word string
		if n, _ := fmt.Sscanf(strings.TrimSpace(line), `<word xMin="%f" yMin="%f" xMax="%f" yMax="%f">%s`, &x0, &y0, &x1, &y1, &word); n != 5 || y1 < top || y1 > bottom {
			continue
		}
		word, _, _ = strings.Cut(word, "<")
		if k := len(out) - 1; k >= 0 && out[k].y-y1 < 3 && y1-out[k].y < 3 && x0 >= out[k].x1 {
			out[k].x1, out[k].text = x1, out[k].text+" "+word
			continue
		}
		out = append(out, row{x0, x1, y1, word})
	}
	return out
}

// lineAbout writes a line of Helvetica 11 about a middle: Helvetica's widths in thousandths of its size.
func lineAbout(text string, x, y float64) string {
	width := 0.0
	for _, r := range text {
		switch {
		case strings.ContainsRune("ijl", r):
			width += 222
		case strings.ContainsRune(" ft.,:", r):
			width += 278
		case r == 'r':
			width += 333
		case strings.ContainsRune("ckvsxyz", r):
			width += 500
		case r == 'w':
			width += 722
		case r == 'm':
			width += 833
		default:
			width += 556
		}
	}
	return fmt.Sprintf("1 0 0 1 %.3f %.3f Tm (%s) Tj ", x-width*0.011/2, y, text)
}

func centred(x float64) []byte {
	var b strings.Builder
	b.WriteString("BT /F1 11 Tf ")
	for i, l := range []string{"the soundings of the north berth were", "taken on the fourth of the month and", "agree with those before within five", "hundredths of a metre in all places"} {
		b.WriteString(lineAbout(l, x, 700-14*float64(i)))
	}
	b.WriteString("1 0 0 1 72 500 Tm (the office is open) Tj ET")
	return set("%s", b.String())
}

// What is centred stays so about its middle, however long the lines become.
func TestCentredStays(t *testing.T) {
	const x = 300
	file := centred(x)
	middle := func(r row) float64 { return (r.x0 + r.x1) / 2 }
	for _, r := range rows(t, file, 120, 250) {
		require.InDelta(t, x, middle(r), 1.5, "as it is made: %s", r.text)
	}
	for _, with := range []string{"n", "northern and the western", "lee"} {
		b := newBench(t, file)
		b.run(replace("north", with))
		out := pdftest.Whole(t, b.doc)
		pdftest.Check(t, out)
		list := rows(t, out, 120, 250)
		require.NotEmpty(t, list)
		for _, r := range list {
			assert.InDelta(t, x, middle(r), 1.5, "%s: %s", with, r.text)
		}
		assert.Contains(t, b.text(), "the soundings of the "+with+" berth were taken on the fourth")
		last := rows(t, out, 300, 400)
		require.Len(t, last, 1)
		assert.InDelta(t, 72, last[0].x0, 0.3, "what stands below stays")
	}
}

// A first line that is set in, and lines that hang, stay so.
func TestIndentsStay(t *testing.T) {
	for name, first := range map[string]float64{"set in": 24, "hanging": -24} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, set(`BT /F1 11 Tf 14 TL %.0f 700 Td (the soundings of the north berth were taken at low water on the fourth of October) Tj
%.0f -14 Td (and agree with those of the spring within five centimetres, and what has come) Tj T*
(down the river since is soft, and is to be taken away before the winter begins, as in) Tj T* (other years.) Tj ET`, 120+first, -first))
			for _, with := range []string{"north", "northernmost and the western", "lee"} {
				b.run(replace("north", with))
				list := rows(t, pdftest.Whole(t, b.doc), 120, 300)
				require.Greater(t, len(list), 2)
				assert.InDelta(t, 120+first, list[0].x0, 1)
				for _, r := range list[1:] {
					assert.InDelta(t, 120, r.x0, 1, r.text)
					assert.Less(t, r.x1, 570.0, "within the page: %s", r.text)
				}
				b.run(replace(with, "north"))
			}
			assert.Contains(t, b.text(), "north berth were taken at low water on the fourth of October and agree with")
		})
	}
}

// An edit in one column leaves the other alone, and lines stay within their column.
func TestColumnsStayApart(t *testing.T) {
	left := []string{"the soundings of the north berth were", "taken at low water on the fourth of", "October and agree with those of the", "spring within five centimetres."}
	right := []string{"The dues for the winter berths are", "paid in two parts, the first of them", "before the ice, the second when the", "last of the vessels has left."}
	var c strings.Builder
	c.WriteString("BT /F1 11 Tf ")
	for i := range left {
		fmt.Fprintf(&c, "1 0 0 1 60 %d Tm (%s) Tj 1 0 0 1 310 %d Tm (%s) Tj ", 700-14*i, left[i], 700-14*i, right[i])
	}
	c.WriteString("ET")
	file := set("%s", c.String())
	before := wordsAt(t, file)
	b := newBench(t, file)
	b.run(replace("north berth", "northernmost of all the berths"))
	b.run(replace("centimetres", "hundredths of a metre"))
	out := pdftest.Whole(t, b.doc)
	pdftest.Check(t, out)
	after := wordsAt(t, out)
	for _, w := range []string{"dues", "winter", "paid", "parts,", "ice,", "second", "vessels", "left."} {
		assert.InDelta(t, before[w][0], after[w][0], 0.1, w)
		assert.InDelta(t, before[w][1], after[w][1], 0.1, w)
	}
	for _, w := range []string{"soundings", "northernmost", "October", "hundredths", "metre."} {
		require.Contains(t, after, w)
		assert.Less(t, after[w][0], 290.0, "%s stays in its column", w)
	}
}

// In a table with rules an edit stays in its cell, and leaves the others where they are; text that does not fit is left, and it is said.
func TestCellsStay(t *testing.T) {
	var c strings.Builder
	c.WriteString("0.5 w ")
	for i := range 4 {
		fmt.Fprintf(&c, "60 %d m 420 %d l S ", 600+30*i, 600+30*i)
		fmt.Fprintf(&c, "%d 600 m %d 690 l S ", 60+120*i, 60+120*i)
	}
	c.WriteString("BT /F1 11 Tf ")
	cells := [][]string{{"Vessel", "Berth", "Dues"}, {"Tern", "four", "120.00"}, {"Skua", "seven", "95.50"}}
	for i, r := range cells {
		for k, v := range r {
			fmt.Fprintf(&c, "1 0 0 1 %d %d Tm (%s) Tj ", 66+120*k, 670-30*i, v)
		}
	}
	c.WriteString("ET")
	file := set("%s", c.String())
	before := wordsAt(t, file)
	b := newBench(t, file)
	b.run(replace("four", "four, north"))
	b.run(replace("95.50", "1,095.50"))
	after := wordsAt(t, pdftest.Whole(t, b.doc))
	for _, w := range []string{"Vessel", "Berth", "Dues", "Tern", "120.00", "Skua", "seven"} {
		assert.InDelta(t, before[w][0], after[w][0], 0.1, w)
		assert.InDelta(t, before[w][1], after[w][1], 0.1, w)
	}
	assert.InDelta(t, before["four"][1], after["north"][1], 0.1, "in one line")
	assert.Contains(t, b.text(), "1,095.50")
	_, err := b.try(&edit.ReplaceText{Pages: step.Pages{Rule: "all"}, Pairs: []edit.Pair{{Find: "Skua", With: strings.Repeat("the old pilot vessel ", 60)}}})
	require.Error(t, err)
	assert.Contains(t, err.Error(), "more space below")
	again := wordsAt(t, pdftest.Whole(t, b.doc))
	assert.Equal(t, after, again, "nothing was changed")
}
