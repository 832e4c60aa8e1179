package nav

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// labelled is a file of n pages with a number tree of labels, as it is written in a file.
func labelled(t *testing.T, n int, tree string, more ...string) *pdf.Document {
	t.Helper()
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/PageLabels %s>>", tree)
	var kids strings.Builder
	for i := range n {
		fmt.Fprintf(&kids, "%d 0 R ", 3+len(more)+i)
	}
	f.Add("<</Type/Pages/Kids[%s]/Count %d/MediaBox[0 0 99 99]>>", kids.String(), n)
	for _, m := range more {
		f.Add("%s", m)
	}
	for range n {
		f.Add("<</Type/Page/Parent 2 0 R>>")
	}
	return pdftest.Open(t, f.Bytes()).Fork()
}

func called(labels []Label) string {
	var out []string
	for _, l := range labels {
		out = append(out, l.String())
	}
	return strings.Join(out, " ")
}

// The example of the standard (ISO 32000-2, 12.4.2): i, ii, iii, iv, 1, 2, 3, A-8, A-9.
func TestLabelsOfTheStandard(t *testing.T) {
	d := labelled(t, 9, "<</Nums[0<</S/r>>4<</S/D>>7<</S/D/P(A-)/St 8>>]>>")
	assert.Equal(t, "i ii iii iv 1 2 3 A-8 A-9", called(Labels(d)))
	assert.Equal(t, []string{"i", "ii", "iii", "iv", "1", "2", "3", "A-8", "A-9"}, Called(d))
	assert.Empty(t, Twice(Labels(d)))
	assert.Equal(t, "1 2 3 4 5 6 7 8 9", called(Placed(d)))
	assert.Equal(t, "A-8", Twice(append(Labels(d), Labels(d)[7])))
}

func TestLabelStyles(t *testing.T) {
	for want, l := range map[string]Label{
		"12": {Style: "D", Number: 12}, "mcmxciv": {Style: "r", Number: 1994}, "MMMCMXCIX": {Style: "R", Number: 3999}, "4000": {Style: "r", Number: 4000},
		"z": {Style: "a", Number: 26}, "aa": {Style: "a", Number: 27}, "ZZ": {Style: "A", Number: 52}, "bbb": {Style: "a", Number: 54}, // 12.4.2: a to z, then aa to zz
		"Annex ": {Prefix: "Annex ", Number: 9}, "B-1": {Style: "D", Prefix: "B-", Number: 1}, "0": {Style: "a"}, "1665": {Style: "A", Number: 1665}, "": {Style: "X", Number: 3},
	} {
		assert.Equal(t, want, l.String(), "%+v", l)
	}
}

// What a file says wrongly is passed over: keys that are no numbers or no pages, starts below one, trees that lead back to themselves.
func TestLabelsOfBadTrees(t *testing.T) {
	for want, tree := range map[string]string{
		"1 2 x1": "<</Nums[2<</S/D/P(x)>>]>>", // nothing for the first
		"1 2 3":  "<</Nums[0<</S/D/St -4>>(a)<</S/r>>-1<</S/r>>9<</S/r>>1 null]>>",
		"i ii C": "<</Kids[3 0 R 3 0 R<</Nums[2<</S/A/St 3>>]>>]>>",
		"A B C":  "<</Nums[1<</S/A/St 2>>0<</S/A>>]>>", // not in order
		"1 2 1":  "<</Nums[0<</S/D/St 1e12>>2<</S/D>>]>>",
	} {
		d := labelled(t, 3, tree, "<</Nums[0<</S/r>>]/Kids[3 0 R]>>")
		assert.Equal(t, want, called(Labels(d)), tree)
	}
	assert.Nil(t, Labels(labelled(t, 2, "null")))
	assert.Nil(t, Called(labelled(t, 2, "<</Nums[0<</S/D>>]>>")), "called by their place, as they would be anyway")
	assert.Nil(t, Labels(labelled(t, 2, "<</Nums[]>>")))
}

// Labels are written as ranges, as another program reads them.
func TestSetLabels(t *testing.T) {
	d := labelled(t, 7, "null")
	labels := []Label{{Style: "r", Number: 1}, {Style: "r", Number: 2}, {Style: "D", Number: 1}, {Style: "D", Number: 2}, {Prefix: "Plan"}, {Prefix: "Plan", Number: 4}, {Style: "D", Prefix: "Ü", Number: 3}}
	SetLabels(d, labels)
	out := pdftest.Whole(t, d)
	pdftest.Check(t, out)
	var said struct {
		PageLabels []struct {
			Index int
			Label map[string]any
		}
	}
	require.NoError(t, json.Unmarshal([]byte(pdftest.Tool(t, out, "qpdf", "--json=2", "--json-key=pagelabels", "FILE")), &said))
	var read []string
	for _, l := range said.PageLabels {
		read = append(read, fmt.Sprintf("%d %v %v %v", l.Index, l.Label["/S"], l.Label["/P"], l.Label["/St"]))
	}
	assert.Equal(t, []string{"0 /r <nil> 1", "2 /D <nil> 1", "4 <nil> u:Plan 1", "6 /D u:Ü 3"}, read)
	assert.Equal(t, "i ii 1 2 Plan Plan Ü3", called(Labels(pdftest.Open(t, out))))

	again := KeepLabels(d)
	pages, err := d.Pages()
	require.NoError(t, err)
	again(map[pdf.Ref]Label{pages[0].Ref: {Style: "A", Number: 4}})
	assert.Equal(t, "D ii 1 2 Plan Plan Ü3", called(Labels(d)))
	bare := labelled(t, 2, "null")
	KeepLabels(bare)(nil)
	assert.Nil(t, Labels(bare), "where nothing has labels there are none afterwards")
	assert.Equal(t, "2", called(LabelsOf(d, bare, []int{1})), "called by its place, among pages that have labels")
	assert.Nil(t, LabelsOf(bare, bare, []int{1}))
}

// A page between others is called like the one before it, with a letter behind.
func TestBetween(t *testing.T) {
	labels := []Label{{Style: "D", Number: 1}, {Style: "D", Prefix: "A-", Number: 7}}
	assert.Equal(t, "A-7a", Between(labels, 2, 0).String())
	assert.Equal(t, "1c", Between(labels, 1, 2).String())
	assert.Equal(t, "a", Between(labels, 0, 0).String())
	assert.Equal(t, "A-7b", Between(labels, 99, 1).String())
}

// Keys are found and set in trees of any shape, and only those that are there.
func TestNumberTrees(t *testing.T) {
	var nums pdf.Array
	for i := range 300 {
		nums = append(nums, pdf.Integer(2*i), pdf.Integer(i))
	}
	d := labelled(t, 1, "null")
	small := NumberTree(d, nums[:20])
	assert.False(t, small.Has("Kids"))
	tree := NumberTree(d, nums)
	require.Len(t, d.Array(tree.Get("Kids")), 5, "leaves of 64 pairs")
	leaf := d.Dict(d.Array(tree.Get("Kids"))[1])
	assert.Equal(t, "[128 254]", string(pdf.AppendObject(nil, leaf.Get("Limits"))))
	for key, want := range map[int]pdf.Object{0: pdf.Integer(0), 128: pdf.Integer(64), 598: pdf.Integer(299), 129: nil, 600: nil, -2: nil} {
		assert.Equal(t, want, Number(d, tree, key), "%d", key)
	}
	d.Edit(d.Root()).Set("PageLabels", tree)
	SetNumbers(d, d.Root(), "PageLabels", map[int]pdf.Object{128: pdf.Name("Set"), 131: pdf.Name("New"), 598: pdf.Name("Last")})
	tree = d.Dict(d.Catalog().Get("PageLabels"))
	assert.Equal(t, pdf.Name("Set"), Number(d, tree, 128))
	assert.Equal(t, pdf.Name("Last"), Number(d, tree, 598))
	assert.Equal(t, pdf.Integer(65), Number(d, tree, 130))
	assert.Nil(t, Number(d, tree, 131), "one that is not there stays out")
	n := 0
	Numbers(d, tree, func(int, pdf.Object) { n++ })
	assert.Equal(t, 300, n)

	// A tree that leads back to itself ends.
	d = labelled(t, 1, "3 0 R", "<</Kids[3 0 R<</Limits[5 9]/Nums[7(seven)]>>]>>")
	assert.Equal(t, pdf.String("seven"), Number(d, d.Catalog().Get("PageLabels"), 7))
	SetNumbers(d, d.Root(), "PageLabels", map[int]pdf.Object{7: pdf.Name("VII")})
	assert.Equal(t, pdf.Name("VII"), Number(d, d.Catalog().Get("PageLabels"), 7))
	assert.Nil(t, Number(d, d.Catalog().Get("PageLabels"), 8))
}

func TestPaths(t *testing.T) {
	p, err := ParsePath(" 2. 1 .13")
	require.NoError(t, err)
	assert.Equal(t, "2.1.13", p.String())
	p, err = ParsePath(" ")
	require.NoError(t, err)
	assert.Empty(t, p)
	for _, bad := range []string{"0", "2.", ".", "a", "2.-1", strings.Repeat("1.", 500) + "1"} {
		_, err := ParsePath(bad)
		assert.ErrorContains(t, err, "type it like 2.1", bad)
	}
	assert.True(t, Path{2, 1}.Below(Path{2}))
	assert.True(t, Path{2}.Below(nil))
	assert.False(t, Path{2}.Below(Path{2, 1}))
	assert.False(t, Path{3, 1}.Below(Path{2}))
	items := []*Item{{Kids: []*Item{{}, {}}}, {}}
	list, i, ok := At(&items, Path{1, 2})
	require.True(t, ok)
	assert.Same(t, items[0].Kids[1], (*list)[i])
	for _, p := range []Path{nil, {3}, {1, 3}, {2, 1}} {
		_, _, ok := At(&items, p)
		assert.False(t, ok, "%v", p)
	}
}
