package layout_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// ruled sets a table of three columns with rules, in which a cell has two lines and one has none.
func ruled() string {
	var b strings.Builder
	for i := range 4 {
		fmt.Fprintf(&b, "50 %d m 350 %d l S\n", 700-30*i, 700-30*i)
	}
	for _, x := range []int{50, 150, 250, 350} {
		fmt.Fprintf(&b, "%d 610 0.8 90 re f\n", x)
	}
	for _, c := range []struct {
		x, y int
		s    string
	}{{55, 682, "Berth"}, {155, 682, "Length"}, {255, 682, "Dues"}, {55, 658, "North"}, {55, 646, "face"}, {155, 652, "40 m"}, {255, 652, "1,200"}, {55, 622, "Slip"}, {255, 622, "90"}} {
		fmt.Fprintf(&b, "BT /F 10 Tf %d %d Td (%s) Tj ET\n", c.x, c.y, c.s)
	}
	return b.String()
}

func TestTables(t *testing.T) {
	var f pdftest.File
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Count 1/Kids[3 0 R]>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 600 800]/Contents 4 0 R/Resources<</Font<</F 5 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", ruled()))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	doc := pdftest.Open(t, f.Bytes())
	p, err := content.NewReader(doc).Page(t.Context(), pdftest.Refs(t, doc)[0], content.Options{Paths: true})
	require.NoError(t, err)
	l := layout.Read(p, pdf.Rect{X1: 600, Y1: 800}, nil)
	tables := l.Tables()
	require.Len(t, tables, 1)
	assert.True(t, tables[0].Ruled)
	assert.Equal(t, [][]string{{"Berth", "Length", "Dues"}, {"North face", "40 m", "1,200"}, {"Slip", "", "90"}}, tables[0].Rows)
	assert.Equal(t, "Berth\tLength\tDues\nNorth face\t40 m\t1,200\nSlip\t\t90", l.Copied(pdf.Rect{X0: 45, Y0: 605, X1: 355, Y1: 705}))
	assert.Equal(t, "Length\n40 m\n", l.Copied(pdf.Rect{X0: 140, Y0: 605, X1: 260, Y1: 705}))

	// Without rules: by what stands over one another.
	l, _ = made(t, "table", 3)
	tables = l.Tables()
	require.Len(t, tables, 1)
	assert.False(t, tables[0].Ruled)
	assert.Greater(t, len(tables[0].Rows), 5)
	for _, row := range tables[0].Rows {
		assert.Len(t, row, 4)
		assert.NotContains(t, row, "")
	}
}

// Headers and footers are known by standing in the same place with the same words, but for figures; on every second page, too.
func TestRepeats(t *testing.T) {
	var edges [][]layout.Edge
	for i := range 6 {
		side := []string{"Orrin Quay Harbour Trust", "Byelaws"}[i%2]
		l := set(t, fmt.Sprintf("BT /F 9 Tf 72 770 Td (%s) Tj ET BT /F 10 Tf 72 700 Td (What page %d says of berths.) Tj ET BT /F 9 Tf 290 40 Td (%d of 6) Tj ET BT /F 9 Tf 72 730 Td (Only on page %c) Tj ET", side, i+1, i+1, 'a'+i))
		edges = append(edges, l.Edges(pdf.Rect{X1: 600, Y1: 800}))
		require.Len(t, edges[i], 3)
	}
	for i, r := range layout.Repeats(edges) {
		var got []string
		for _, e := range edges[i] {
			if r[e.Paragraph] {
				got = append(got, e.Text)
			}
		}
		assert.Equal(t, []string{[]string{"Orrin Quay Harbour Trust", "Byelaws"}[i%2], "# of #"}, got)
	}
}
