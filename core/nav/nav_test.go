package nav

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// book is a file of six pages with nested bookmarks, a name tree of two levels, an old-style
// dictionary of destinations and an article over pages 2, 3 and 5.
func book() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Outlines 10 0 R/Names<</Dests 20 0 R>>/Dests<</old[4 0 R/Fit]/older[8 0 R/Fit]>>/Threads[30 0 R]/OpenAction<</S/GoTo/D[5 0 R/Fit]>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R 6 0 R 7 0 R 8 0 R]/Count 6/MediaBox[0 0 100 100]>>")
	for range 6 { // 3 to 8
		f.Add("<</Type/Page/Parent 2 0 R>>")
	}
	f.Add("null")
	f.Add("<</Type/Outlines/First 11 0 R/Last 15 0 R/Count 4>>")                                            // 10
	f.Add("<</Title(Part 1)/Parent 10 0 R/Next 15 0 R/First 12 0 R/Last 14 0 R/Count 3/Dest[3 0 R/Fit]>>")  // 11
	f.Add("<</Title(Chapter 1)/Parent 11 0 R/Next 13 0 R/Dest(chapter-1)>>")                                // 12
	f.Add("<</Title(Chapter 2)/Parent 11 0 R/Prev 12 0 R/Next 14 0 R/Dest/old>>")                           // 13
	f.Add("<</Title(Chapter 3)/Parent 11 0 R/Prev 13 0 R/A<</S/GoTo/D[5 0 R/XYZ 0 50 null]>>>>")            // 14
	f.Add("<</Title(Part 2)/Parent 10 0 R/Prev 11 0 R/First 16 0 R/Last 16 0 R/Count -1/Dest[7 0 R/Fit]>>") // 15
	f.Add("<</Title(Chapter 4)/Parent 15 0 R/Dest(chapter-4)>>")                                            // 16
	for range 3 {
		f.Add("null")
	}
	f.Add("<</Kids[21 0 R 22 0 R]>>")                                                                      // 20
	f.Add("<</Limits[(chapter-1)(chapter-3)]/Names[(chapter-1)[3 0 R/Fit](chapter-3)<</D[5 0 R/Fit]>>]>>") // 21
	f.Add("<</Limits[(chapter-4)(chapter-4)]/Names[(chapter-4)[8 0 R/Fit]]>>")                             // 22
	for range 7 {
		f.Add("null")
	}
	f.Add("<</F 31 0 R/I<</Title(News)>>>>")         // 30
	f.Add("<</T 30 0 R/N 32 0 R/V 33 0 R/P 4 0 R>>") // 31
	f.Add("<</T 30 0 R/N 33 0 R/V 31 0 R/P 5 0 R>>") // 32
	f.Add("<</T 30 0 R/N 31 0 R/V 32 0 R/P 7 0 R>>") // 33
	return f.Bytes()
}

// tree writes an outline as text: "Part 1@1+[Chapter 1@1 ...]", with the page and + where it is open.
func tree(d *pdf.Document, items []*Item) string {
	var parts []string
	for _, it := range items {
		s := it.Title
		if p := Target(d, it.Dest); !p.IsZero() {
			s += fmt.Sprintf("@%d", d.PageIndex(p)+1)
		}
		if len(it.Kids) > 0 {
			if it.Open {
				s += "+"
			}
			s += "[" + tree(d, it.Kids) + "]"
		}
		parts = append(parts, s)
	}
	return strings.Join(parts, ", ")
}

func TestOutline(t *testing.T) {
	d := pdftest.Open(t, book())
	assert.Equal(t, "Part 1@1+[Chapter 1@1, Chapter 2@2, Chapter 3@3], Part 2@5[Chapter 4@6]", tree(d, Outline(d)))
	assert.Equal(t, pdf.Ref{}, Target(d, pdf.String("nowhere")))
	assert.Equal(t, pdf.Ref{Num: 5}, Target(d, pdf.String("chapter-3")))
	assert.Equal(t, pdf.Ref{Num: 8}, Target(d, pdf.Name("older")))
	assert.Nil(t, Explicit(d, pdf.Integer(3)))
}

// An outline that runs in circles is read once.
func TestOutlineLoop(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R/Outlines 4 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 9 9]>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	f.Add("<</First 5 0 R/Last 5 0 R>>")
	f.Add("<</Title(A)/Next 5 0 R/First 4 0 R>>")
	assert.Len(t, Outline(pdftest.Open(t, f.Bytes())), 1)
}

func TestCutPages(t *testing.T) {
	for _, c := range []struct {
		gone         []int // page objects
		outline      string
		bookmarks    int
		destinations int
		threads      int
		opens        bool
	}{
		{[]int{5}, "Part 1@1+[Chapter 1@1, Chapter 2@2], Part 2@5[Chapter 4@6]", 1, 1, 1, false},
		{[]int{8}, "Part 1@1+[Chapter 1@1, Chapter 2@2, Chapter 3@3], Part 2@5", 1, 2, 1, true},
		{[]int{7, 8}, "Part 1@1+[Chapter 1@1, Chapter 2@2, Chapter 3@3]", 2, 2, 1, true},
		{[]int{3}, "Part 1+[Chapter 2@2, Chapter 3@3], Part 2@5[Chapter 4@6]", 1, 1, 1, true},
		{[]int{4, 5, 7}, "Part 1@1+[Chapter 1@1], Part 2[Chapter 4@6]", 2, 2, 0, false},
		{[]int{6}, "Part 1@1+[Chapter 1@1, Chapter 2@2, Chapter 3@3], Part 2@5[Chapter 4@6]", 0, 0, 1, true},
	} {
		data := book()
		d := pdftest.Open(t, data).Fork()
		gone := map[pdf.Ref]bool{}
		for _, n := range c.gone {
			gone[pdf.Ref{Num: n}] = true
		}
		got := CutPages(d, gone, true)
		assert.Equal(t, c.bookmarks, got.Bookmarks, "%v", c.gone)
		assert.Equal(t, c.destinations, got.Destinations, "%v", c.gone)
		assert.Equal(t, c.outline, tree(d, Outline(d)), "%v", c.gone)
		assert.Len(t, d.Array(d.Catalog().Get("Threads")), c.threads, "%v", c.gone)
		assert.Equal(t, c.opens, d.Catalog().Has("OpenAction"), "%v", c.gone)
		up, err := d.Update([16]byte{})
		require.NoError(t, err)
		pdftest.Check(t, append(data, up...))
		// Nothing that is kept leads to a gone page any more.
		for _, v := range []pdf.Object{pdf.String("chapter-1"), pdf.String("chapter-3"), pdf.String("chapter-4"), pdf.Name("old"), pdf.Name("older")} {
			assert.False(t, gone[Target(d, v)])
		}
	}
}

// The ring of an article stays a ring without the bead that went.
func TestCutThread(t *testing.T) {
	d := pdftest.Open(t, book()).Fork()
	CutPages(d, map[pdf.Ref]bool{{Num: 4}: true}, true) // the first bead's page
	thread := d.Dict(d.Array(d.Catalog().Get("Threads"))[0])
	first, _ := thread.Get("F").(pdf.Ref)
	assert.Equal(t, pdf.Ref{Num: 32}, first)
	next, _ := d.Dict(first).Get("N").(pdf.Ref)
	assert.Equal(t, pdf.Ref{Num: 33}, next)
	assert.Equal(t, first, d.Dict(next).Get("N"))
	assert.Equal(t, next, d.Dict(first).Get("V"))
}

// The counts of an outline tell how many items are visible (ISO 32000-2, 12.3.3).
func TestCounts(t *testing.T) {
	d := pdftest.Open(t, book()).Fork()
	CutPages(d, map[pdf.Ref]bool{{Num: 4}: true}, true)
	root := d.Dict(d.Catalog().Get("Outlines"))
	assert.Equal(t, pdf.Integer(4), root.Get("Count"), "Part 1, its two chapters, Part 2")
	assert.Equal(t, pdf.Integer(2), d.Dict(root.Get("First")).Get("Count"))
	assert.Equal(t, pdf.Integer(-1), d.Dict(root.Get("Last")).Get("Count"), "closed")
}

func TestBring(t *testing.T) {
	src := pdftest.Open(t, book())
	dst := pdftest.Open(t, pdftest.Text(2)).Fork()
	c, err := pdf.NewCopier(dst, src)
	require.NoError(t, err)
	refs := pdftest.Refs(t, src)
	pages, err := c.Pages([]pdf.Ref{refs[1], refs[5]})
	require.NoError(t, err)
	require.NoError(t, dst.InsertPages(2, pages))
	n, err := Bring(dst, src, c, "The book", pages[0], false)
	require.NoError(t, err)
	assert.Equal(t, Brought{Leading: 2, Behind: 4}, n)
	assert.Equal(t, "The book@3[Part 1+[Chapter 2@3], Part 2[Chapter 4@4]]", tree(dst, Outline(dst)))
	require.NoError(t, Title(dst, "Appendix", pages[1]))
	assert.Equal(t, "The book@3[Part 1+[Chapter 2@3], Part 2[Chapter 4@4]], Appendix@4", tree(dst, Outline(dst)))
	out := pdftest.Whole(t, dst)
	pdftest.Check(t, out)
	assert.Contains(t, pdftest.Tool(t, out, "mutool", "show", "FILE", "outline"), "Chapter 4")
}
