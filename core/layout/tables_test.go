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
	p, err := content.NewReader(doc).Page(t.Context(), pdftest.Refs(t, doc)[0], content.Options{})
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

// Rules say what belongs together: a form is read row by row, in whichever order its words are shown, merged cells are one, and a head over
// columns does not join them.
func TestRuledOrder(t *testing.T) {
	text := func(x, y float64, s string) string { return fmt.Sprintf("BT /F 10 Tf %g %g Td (%s) Tj ET\n", x, y, s) }
	rule := func(a, b, c, d float64) string { return fmt.Sprintf("%g %g m %g %g l S\n", a, b, c, d) }
	reading := func(content string) []string {
		return strings.FieldsFunc(set(t, content).Reading().Text, func(r rune) bool { return r == '\n' })
	}
	// A form: numbers, questions of one to three lines, answers.
	var rules, numbers, questions, answers string
	y := 700.0
	rules += rule(50, y, 540, y)
	for i, q := range [][]string{{"Name of the vessel"}, {"Flag state and port of registry,", "as entered in the certificate"}, {"Draught on arrival, fore and aft,", "in metres, at the time of the", "inspection"}, {"Agent"}} {
		numbers += text(60, y-14, fmt.Sprint(i+1))
		for k, line := range q {
			questions += text(90, y-14-12*float64(k), line)
		}
		answers += text(320, y-14, fmt.Sprintf("Answer %d", i+1))
		y -= 12*float64(len(q)) + 8
		rules += rule(50, y, 540, y)
	}
	for _, x := range []float64{50, 80, 310, 540} {
		rules += rule(x, 700, x, y)
	}
	want := []string{"1\tName of the vessel\tAnswer 1", "2\tFlag state and port of registry, as entered in the certificate\tAnswer 2",
		"3\tDraught on arrival, fore and aft, in metres, at the time of the inspection\tAnswer 3", "4\tAgent\tAnswer 4"}
	assert.Equal(t, want, reading(rules+numbers+questions+answers))
	assert.Equal(t, want, reading(answers+questions+rules+numbers))
	var level string // with rules between the rows alone
	for _, line := range strings.SplitAfter(rules, "\n")[:5] {
		level += line
	}
	assert.Equal(t, want, reading(level+numbers+questions+answers))
	assert.Equal(t, want, reading(level+answers+questions+numbers))
	for _, turned := range []string{"0 1 -1 0 750 50 cm ", "0 -1 1 0 -150 750 cm ", "-1 0 0 -1 600 800 cm "} { // upwards, downwards, upside down
		assert.Equal(t, want, reading(turned+rules+answers+questions+numbers), turned)
	}

	// Three rules around a table of rows leave it one.
	rows := rule(50, 700, 400, 700) + rule(50, 680, 400, 680) + rule(50, 620, 400, 620)
	for i, row := range [][]string{{"Berth", "Depth"}, {"North quay", "8.2"}, {"South quay", "7.4"}, {"Fish pier", "5.0"}} {
		rows += text(60, 686-20*float64(i), row[0]) + text(300, 686-20*float64(i), row[1])
	}
	assert.Equal(t, []string{"Berth\tDepth", "North quay\t8.2", "South quay\t7.4", "Fish pier\t5.0"}, reading(rows))

	// And so does a grid whose rows are not parted by rules.
	columns := rule(50, 700, 400, 700) + rule(50, 680, 400, 680) + rule(50, 600, 400, 600)
	for _, x := range []float64{50, 280, 400} {
		columns += rule(x, 600, x, 700)
	}
	assert.Equal(t, []string{"Berth\tDepth", "North quay\t8.2", "South quay\t7.4", "Fish pier\t5.0"}, reading(columns+rows))

	// Merged header cells.
	var table string
	for _, y := range []float64{790, 750, 730, 710} {
		table += rule(50, y, 540, y)
	}
	table += rule(180, 770, 420, 770) + rule(310, 710, 310, 770)
	for _, x := range []float64{50, 180, 420, 540} {
		table += rule(x, 710, x, 790)
	}
	table += text(255, 776, "Depth in metres") + text(60, 765, "Berth") + text(430, 765, "Remarks") + text(190, 756, "High water") + text(320, 756, "Low water")
	for i, row := range [][]string{{"North quay", "8.2", "4.1", "Dredged"}, {"Fish pier", "5.0", "2.2", "Boats"}} {
		for k, x := range []float64{60, 190, 320, 430} {
			table += text(x, 736-20*float64(i), row[k])
		}
	}
	assert.Equal(t, []string{"Berth\tDepth in metres\tRemarks", "High water\tLow water", "North quay\t8.2\t4.1\tDredged", "Fish pier\t5.0\t2.2\tBoats"}, reading(table))

	// Two columns of running text under heads, shown row by row; with the heads in ruled cells and without.
	left := []string{"The trust has reviewed the berths that are", "let for the winter and found that most of", "them are in good repair, and that the north", "quay has four metres along all of it."}
	right := []string{"Applications for the season are to be sent", "to the office before the end of the month,", "and are dealt with in the order in which", "they arrive, within three weeks."}
	columns = ""
	for i := range left {
		columns += text(60, 740-13*float64(i), left[i]) + text(305, 740-13*float64(i), right[i])
	}
	heads := text(230, 783, "Winter berths and dredging") + text(60, 760, "Report") + text(305, 760, "Rules")
	boxes := "50 775 490 25 re S " + "50 755 490 20 re S " + rule(295, 755, 295, 775)
	assert.Equal(t, []string{"Winter berths and dredging", "Report\tRules", strings.Join(left, " "), strings.Join(right, " ")}, reading(boxes+heads+columns))
	assert.Equal(t, []string{"Winter berths and dredging", "Report", strings.Join(left, " "), "Rules", strings.Join(right, " ")}, reading(heads+columns))

	// A frame around text is no table, and more rules than any table has are none.
	assert.Equal(t, []string{"Report " + left[0]}, reading("50 700 490 90 re S "+text(60, 760, "Report "+left[0])))
	assert.Equal(t, []string{"Report"}, reading(strings.Repeat("50 700 490 90 re S ", 3000)+text(60, 760, "Report")))
}

// In a table whose words run from the right, so do the cells of a row.
func TestRuledFromTheRight(t *testing.T) {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 600 800]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 4 0 R/Resources<</Font<</F 5 0 R>>>>>>")
	set0 := ""
	for _, y := range []int{700, 680, 660} {
		set0 += fmt.Sprintf("50 %d m 450 %d l S\n", y, y)
	}
	for _, x := range []int{50, 250, 450} {
		set0 += fmt.Sprintf("%d 660 m %d 700 l S\n", x, x)
	}
	for i, s := range []string{"AB", "CD", "EF", "GH"} { // of the first row the right cell is first
		set0 += fmt.Sprintf("BT /F 10 Tf %d %d Td (%s) Tj ET\n", 400-200*(i%2), 686-20*(i/2), s)
	}
	f.Add("%s", pdftest.Stream("", set0))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/ToUnicode 6 0 R>>")
	f.Add("%s", pdftest.Stream("", "begincmap 1 begincodespacerange <00> <FF> endcodespacerange 1 beginbfrange <41> <48> <05D0> endbfrange endcmap"))
	doc := pdftest.Open(t, f.Bytes())
	ref := pdftest.Refs(t, doc)[0]
	p, err := content.NewReader(doc).Page(t.Context(), ref, content.Options{})
	require.NoError(t, err)
	rows := strings.Split(strings.TrimSpace(layout.Read(p, doc.Geometry(ref).Visible, nil).Reading().Text), "\n")
	require.Len(t, rows, 2)
	for i, want := range [][2]string{{"אב", "גד"}, {"הו", "זח"}} {
		cells := strings.Split(rows[i], "\t")
		require.Len(t, cells, 2, rows[i])
		for k := range cells { // a word's letters may stand in either order here: they are set from the left
			assert.ElementsMatch(t, []rune(want[k]), []rune(cells[k]), rows[i])
		}
	}
}
