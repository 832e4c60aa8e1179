package draw

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

func TestBalance(t *testing.T) {
	for content, want := range map[string][2]int{
		"q Q":               {0, 0},
		"q q Q":             {1, 0},
		"Q q":               {1, 1},
		"Q Q":               {0, 2},
		"(q) Tj [(Q) 3] TJ": {0, 0},
		"q BI /W 1 /H 1 /BPC 8 /CS /G ID \xf0 Q q EIq EI Q":      {0, 0},
		"q BI /W 16 /H 1 /BPC 8 /CS /G ID q EI q q q EI qq EI Q": {0, 0}, // unpacked data that looks like content
		"% q in a comment\nq": {1, 0},
	} {
		missing, extra, broken := balance([]byte(content))
		assert.Equal(t, want, [2]int{missing, extra}, content)
		assert.False(t, broken, content)
	}
	for _, content := range []string{"q (no end", "[(a) 3 Tj Q", "<4a", "q )", "<</A 1", "[1 2", "12 0 0 12 re W berth", "(a\\"} {
		_, _, broken := balance([]byte(content))
		assert.True(t, broken, content)
	}
}

func TestMatrix(t *testing.T) {
	g := pdf.Geometry{Visible: pdf.Rect{X0: 10, Y0: 20, X1: 110, Y1: 220}, UserUnit: 2}
	for rotate, want := range map[int][2]float64{0: {15, 30}, 90: {100, 25}, 180: {105, 210}, 270: {20, 215}} {
		g.Rotate = rotate
		m := pdf.Translate(10, 20).Mul(Upright(g)) // 10 and 20 points as seen are 5 and 10 units
		assert.InDeltaSlice(t, want[:], m[4:], 1e-9, "turned by %d", rotate)
		back := m.Mul(m.Invert())
		assert.InDeltaSlice(t, []float64{1, 0, 0, 1, 0, 0}, back[:], 1e-9)
	}
}

// What is put under a page's own content is covered by it, over what was put under before; what is put over covers all. Each goes alone, and
// the page is as it was.
func TestUnderAndOver(t *testing.T) {
	doc := pdftest.Open(t, pdftest.Text(1))
	page := pdftest.Refs(t, doc)[0]
	was := doc.Page(page).Get("Contents")
	form := func() pdf.Ref { return Form(doc, pdf.Rect{X1: 10, Y1: 10}, nil, []byte("0 0 10 10 re f")) }
	ids := []string{"01", "02", "03", "04"}
	for i, under := range []bool{true, false, true, false} {
		_, err := Put(doc, page, Stamp{ID: strings.Repeat(ids[i], 16), Subtype: "Watermark", Form: form(), At: pdf.Identity, Under: under})
		require.NoError(t, err)
	}
	order := func() (out string) {
		for _, o := range contents(doc, page) {
			s := doc.Stream(o)
			id, _ := doc.Resolve(s.Dict.Get(keyID)).(pdf.String)
			switch {
			case id != "":
				out += string('0' + id[0])
			case isFence(doc, o):
				out += "|"
			default:
				out += "p"
			}
		}
		return out
	}
	assert.Equal(t, "13|p|24", order())
	file := pdftest.Whole(t, doc)
	pdftest.Check(t, file)
	assert.Equal(t, []string{"Page 1"}, pdftest.PageTexts(t, file))
	for i, left := range []string{"3|p|24", "3|p|4", "|p|4", "p"} {
		done, err := Erase(doc, page, strings.Repeat(ids[i], 16))
		require.NoError(t, err)
		assert.True(t, done)
		assert.Equal(t, left, order())
	}
	assert.Equal(t, was, doc.Page(page).Get("Contents"))
}
