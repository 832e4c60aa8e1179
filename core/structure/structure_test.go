package structure

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// tagged is a file of three pages: a heading on page 1, a paragraph that runs from page 1
// to page 2, a table on page 2, and a paragraph on page 3 with a link.
func tagged(name string) []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/StructTreeRoot 10 0 R/MarkInfo<</Marked true>>/Lang(en)>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R]/Count 3/MediaBox[0 0 300 300]/Resources<</Font<</F 9 0 R>>>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 6 0 R/StructParents 0>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 7 0 R/StructParents 1>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 8 0 R/StructParents 2/Annots[20 0 R]>>")
	text := func(mcid int, tag, s string) string {
		return fmt.Sprintf("/%s <</MCID %d>> BDC BT /F 12 Tf 20 %d Td (%s %s) Tj ET EMC ", tag, mcid, 250-40*mcid, name, s)
	}
	f.Add("%s", pdftest.Stream("", text(0, "H1", "heading")+text(1, "P", "begun")))
	f.Add("%s", pdftest.Stream("", text(0, "P", "ended")+text(1, "TD", "cell")))
	f.Add("%s", pdftest.Stream("", text(0, "P", "last")))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	f.Add("<</Type/StructTreeRoot/K 11 0 R/RoleMap<</Chapter/Sect>>/IDTree<</Names[(cell-%s) 16 0 R(note) 17 0 R]>>/ParentTree<</Kids[18 0 R 19 0 R]>>/ParentTreeNextKey 4>>", name)
	f.Add("<</Type/StructElem/S/Chapter/P 10 0 R/K[12 0 R 13 0 R 14 0 R 17 0 R]>>")       // 11
	f.Add("<</Type/StructElem/S/H1/P 11 0 R/Pg 3 0 R/K 0>>")                              // 12
	f.Add("<</Type/StructElem/S/P/P 11 0 R/Pg 3 0 R/K[1<</Type/MCR/Pg 4 0 R/MCID 0>>]>>") // 13
	f.Add("<</Type/StructElem/S/Table/P 11 0 R/K[15 0 R]>>")                              // 14
	f.Add("<</Type/StructElem/S/TR/P 14 0 R/K[16 0 R]>>")                                 // 15
	f.Add("<</Type/StructElem/S/TD/P 15 0 R/Pg 4 0 R/K[1]/ID(cell-%s)>>", name)           // 16
	f.Add("<</Type/StructElem/S/P/P 11 0 R/Pg 5 0 R/K[0<</Type/OBJR/Obj 20 0 R>>]>>")     // 17
	f.Add("<</Limits[0 1]/Nums[0[12 0 R 13 0 R]1[13 0 R 16 0 R]]>>")                      // 18
	f.Add("<</Limits[2 3]/Nums[2[17 0 R]3 17 0 R]>>")                                     // 19
	f.Add("<</Type/Annot/Subtype/Link/Rect[0 0 9 9]/StructParent 3/A<</S/URI/URI(https://harbour.example)>>>>")
	return f.Bytes()
}

// shape writes the tree as poppler reads it, in one line.
func shape(t *testing.T, file []byte) string {
	return strings.Join(strings.Fields(pdftest.Tool(t, file, "pdfinfo", "-struct-text", "FILE")), " ")
}

func TestCutPages(t *testing.T) {
	for _, c := range []struct {
		gone []int
		cut  int
		has  []string
		not  []string
	}{
		{[]int{2}, 3, []string{"A heading", "A begun", "A last"}, []string{"A ended", "A cell", "Table", "TR"}},
		{[]int{1}, 1, []string{"A ended", "A cell", "A last"}, []string{"A heading", "A begun", "H1"}},
		{[]int{3}, 1, []string{"A heading", "A cell"}, []string{"A last"}},
		{[]int{1, 2}, 5, []string{"A last"}, []string{"A heading", "A cell", "A ended", "H1", "Table"}},
	} {
		d := pdftest.Open(t, tagged("A")).Fork()
		gone := map[pdf.Ref]bool{}
		refs := pdftest.Refs(t, d)
		var out []pdf.Ref
		for _, n := range c.gone {
			gone[refs[n-1]] = true
			out = append(out, refs[n-1])
		}
		cut, _ := CutPages(d, func(r pdf.Ref) bool { return gone[r] }, true)
		assert.Equal(t, c.cut, cut, "%v", c.gone)
		require.NoError(t, d.RemovePages(out))
		file := pdftest.Whole(t, d)
		pdftest.Check(t, file)
		got := shape(t, file)
		for _, s := range c.has {
			assert.Contains(t, got, s, "%v", c.gone)
		}
		for _, s := range c.not {
			assert.NotContains(t, got, s, "%v", c.gone)
		}
		plain := pdftest.Tool(t, file, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
		assert.Equal(t, !gone[refs[1]], strings.Contains(plain, "cell-A"), "the tree of names follows")
	}
	untagged := pdftest.Open(t, pdftest.Text(2)).Fork()
	n, _ := CutPages(untagged, func(pdf.Ref) bool { return true }, true)
	assert.Zero(t, n)
	assert.Empty(t, untagged.Changed())
}

// Tags of two documents stand one behind the other, and each page finds its own again.
func TestBring(t *testing.T) {
	dst := pdftest.Open(t, tagged("A")).Fork()
	src := pdftest.Open(t, tagged("B"))
	c, err := pdf.NewCopier(dst, src)
	require.NoError(t, err)
	pages, err := c.Pages(pdftest.Refs(t, src))
	require.NoError(t, err)
	tops, err := Bring(dst, src, c, pages)
	require.NoError(t, err)
	assert.Len(t, tops, 1)
	require.NoError(t, dst.InsertPages(3, pages))
	file := pdftest.Whole(t, dst)
	pdftest.Check(t, file)
	got := shape(t, file)
	at := -1
	for _, s := range []string{"A heading", "A begun", "A ended", "A cell", "A last", "B heading", "B begun", "B ended", "B cell", "B last"} {
		i := strings.Index(got, s)
		assert.Greater(t, i, at, s)
		at = i
	}
	// Keys in the parent tree: no two pages share one, and each leads to elements of its own document.
	d := pdftest.Open(t, file)
	root := d.Dict(d.Catalog().Get("StructTreeRoot"))
	parents := map[int]pdf.Object{}
	nav.Numbers(d, root.Get("ParentTree"), func(k int, v pdf.Object) { parents[k] = v })
	assert.Len(t, parents, 8)
	seen := map[pdf.Object]bool{}
	for _, r := range pdftest.Refs(t, d) {
		k := d.Dict(r).Get("StructParents")
		require.NotNil(t, k)
		assert.False(t, seen[k], "key %v is used twice", k)
		seen[k] = true
		elem := d.Dict(d.Array(parents[int(k.(pdf.Integer))])[0])
		assert.NotNil(t, elem)
	}
	next, _ := root.Get("ParentTreeNextKey").(pdf.Integer)
	for k := range parents {
		assert.Less(t, k, int(next))
	}
}

// Pages of an untagged document lose keys that lead nowhere; a new document is as tagged as its first pages.
func TestBringUntagged(t *testing.T) {
	src := pdftest.Open(t, tagged("A"))
	dst := pdf.New()
	fork := src.Fork()
	first := pdftest.Refs(t, src)[0]
	CutPages(fork, func(r pdf.Ref) bool { return r != first }, true)
	c, err := pdf.NewCopier(dst, fork)
	require.NoError(t, err)
	pages, err := c.Pages([]pdf.Ref{first})
	require.NoError(t, err)
	_, err = Bring(dst, fork, c, pages)
	require.NoError(t, err)
	require.NoError(t, dst.InsertPages(0, pages))
	got := shape(t, pdftest.Whole(t, dst))
	assert.Contains(t, got, "A heading")
	assert.NotContains(t, got, "A cell")

	plain := pdftest.Open(t, pdftest.Text(1)).Fork()
	stray := pdftest.Refs(t, plain)[0]
	plain.Edit(stray).Set("StructParents", pdf.Integer(7))
	dropKeys(plain, c, []pdf.Ref{stray})
	assert.False(t, plain.Dict(stray).Has("StructParents"))
}

// long is a document of three pages with a list that goes on from the first to the second, whose items hold text beside lists of their own.
func long() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/MarkInfo<</Marked true>>/StructTreeRoot 20 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R]/Count 3/MediaBox[0 0 300 300]/Resources<</Font<</F 9 0 R>>>>>>")
	for i := range 3 {
		f.Add("<</Type/Page/Parent 2 0 R/Contents %d 0 R/StructParents %d>>", 6+i, i)
	}
	mark := func(words ...string) string {
		var b strings.Builder
		for i, w := range words {
			fmt.Fprintf(&b, "/Span <</MCID %d>> BDC BT /F 10 Tf 20 %d Td (%s) Tj ET EMC ", i, 250-20*i, w)
		}
		return b.String()
	}
	f.Add("%s", pdftest.Stream("", mark("one", "two a")))
	f.Add("%s", pdftest.Stream("", mark("two b", "two inner", "three", "three inner")))
	f.Add("%s", pdftest.Stream("", mark("four")))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	for len(f.Objects) < 19 {
		f.Add("null")
	}
	f.Add("<</Type/StructTreeRoot/K 21 0 R/ParentTree<</Nums[0[24 0 R 26 0 R]1[26 0 R 27 0 R 29 0 R 30 0 R]2[31 0 R]]>>/ParentTreeNextKey 3>>") // 20
	f.Add("<</S/Document/P 20 0 R/K[22 0 R 31 0 R]>>")
	f.Add("<</S/L/P 21 0 R/K[23 0 R 25 0 R 28 0 R]>>")
	f.Add("<</S/LI/P 22 0 R/K 24 0 R>>")
	f.Add("<</S/LBody/P 23 0 R/Pg 3 0 R/K 0>>")
	f.Add("<</S/LI/P 22 0 R/K 26 0 R>>") // 25
	f.Add("<</S/LBody/P 25 0 R/K[<</Type/MCR/Pg 3 0 R/MCID 1>> <</Type/MCR/Pg 4 0 R/MCID 0>> 27 0 R]>>")
	f.Add("<</S/P/P 26 0 R/Pg 4 0 R/K 1>>")
	f.Add("<</S/LI/P 22 0 R/K 29 0 R>>")
	f.Add("<</S/LBody/P 28 0 R/Pg 4 0 R/K[2 30 0 R]>>")
	f.Add("<</S/P/P 29 0 R/Pg 4 0 R/K 3>>") // 30
	f.Add("<</S/P/P 21 0 R/Pg 5 0 R/K 0>>")
	return f.Bytes()
}

// A page that moves takes its part of what goes over pages along, in its order.
func TestMove(t *testing.T) {
	words := func(doc *pdf.Document) string {
		file := pdftest.Whole(t, doc)
		pdftest.Check(t, file)
		var out []string
		for line := range strings.Lines(pdftest.Tool(t, file, "pdfinfo", "-struct-text", "FILE")) {
			if s := strings.TrimSpace(line); strings.HasPrefix(s, `"`) {
				out = append(out, strings.Trim(s, `"`))
			}
		}
		return strings.Join(out, ", ")
	}
	doc := pdftest.Open(t, long())
	require.Equal(t, "one, two a, two b, two inner, three, three inner, four", words(doc))
	pages := pdftest.Refs(t, doc)
	for _, c := range []struct {
		page, to int
		want     string
	}{
		{1, 0, "two b, two inner, three, three inner, one, two a, four"},
		{1, 2, "one, two a, four, two b, two inner, three, three inner"},
		{2, 0, "four, one, two a, two b, two inner, three, three inner"},
		{0, 2, "two b, two inner, three, three inner, four, one, two a"},
	} {
		d := doc.Fork()
		require.NoError(t, d.DetachPages(pages[c.page:c.page+1]))
		require.NoError(t, d.InsertPages(c.to, pages[c.page:c.page+1]))
		Move(d, pages[c.page:c.page+1])
		assert.Equal(t, c.want, words(d), "page %d to %d", c.page+1, c.to+1)
	}
}

// What is brought stands where its pages stand.
func TestPlace(t *testing.T) {
	for at, want := range []string{"B A", "A B A", "A B A", "A B"} {
		dst := pdftest.Open(t, long()).Fork()
		src := pdftest.Open(t, tagged("B"))
		c, err := pdf.NewCopier(dst, src)
		require.NoError(t, err)
		pages, err := c.Pages(pdftest.Refs(t, src))
		require.NoError(t, err)
		tops, err := Bring(dst, src, c, pages)
		require.NoError(t, err)
		require.NoError(t, dst.InsertPages(at, pages))
		Place(dst, tops, at)
		file := pdftest.Whole(t, dst)
		pdftest.Check(t, file)
		var got []string
		for line := range strings.Lines(pdftest.Tool(t, file, "pdfinfo", "-struct-text", "FILE")) {
			s := strings.TrimSpace(line)
			if !strings.HasPrefix(s, `"`) {
				continue
			}
			whose := "A"
			if strings.HasPrefix(s, `"B `) {
				whose = "B"
			}
			if len(got) == 0 || got[len(got)-1] != whose {
				got = append(got, whose)
			}
		}
		assert.Equal(t, want, strings.Join(got, " "), "at %d", at)
	}
}
