package desk

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/layout"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
	"glenrain/desk/store"
)

// wording makes a document of pages that each show lines of text.
func wording(pages ...[]string) []byte {
	var f pdftest.File
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	kids := ""
	for i := range pages {
		kids += fmt.Sprintf("%d 0 R ", 4+2*i)
	}
	f.Add("<</Type/Pages/Count %d/Kids[%s]>>", len(pages), kids)
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	for i, lines := range pages {
		f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents %d 0 R/Resources<</Font<</F 3 0 R>>>>>>", 5+2*i)
		content := "BT /F 11 Tf 72 770 Td 14 TL "
		for _, l := range lines {
			content += "(" + l + ") Tj T* "
		}
		f.Add("%s", pdftest.Stream("", content+"ET"))
	}
	return f.Bytes()
}

func find(t *testing.T, d *Desk, id uint, q layout.Query) *Found {
	t.Helper()
	s, err := d.Snapshot(t.Context(), id)
	require.NoError(t, err)
	f, err := d.Find(t.Context(), s, q)
	require.NoError(t, err)
	return f
}

// Hits are found over line ends and hyphens, and the index follows the document: only pages that changed are read again.
func TestFind(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Dredging.pdf", wording(
		[]string{"The contractor shall keep the fairway clear of all the plant and of the har-", "bour launches which lie at the inner berths in winter, as agreed."},
		[]string{"Harbour dues are payable in advance. HARBOUR launches are free of dues."},
		[]string{},
	))
	f := find(t, d, doc.ID, layout.Query{Text: "harbour launches"})
	assert.Equal(t, 2, f.Hits, "over a line's end and a hyphen, and in capitals")
	require.Len(t, f.Pages, 2)
	assert.Equal(t, "harbour launches", f.Pages[0].Lines[0].Text)
	assert.Len(t, f.Unread, 1)
	assert.Equal(t, 1, find(t, d, doc.ID, layout.Query{Text: "HARBOUR", Case: true}).Hits)
	assert.Equal(t, 3, find(t, d, doc.ID, layout.Query{Text: "harbour"}).Hits)
	assert.Equal(t, 1, find(t, d, doc.ID, layout.Query{Text: "har-bour"}).Hits, "the hyphen may be the word's own")
	assert.Equal(t, 0, find(t, d, doc.ID, layout.Query{Text: "harb", Words: true}).Hits)
	assert.Equal(t, 2, find(t, d, doc.ID, layout.Query{Text: `dues (are|\.)`, Pattern: true}).Hits+find(t, d, doc.ID, layout.Query{Text: `^harbour`, Pattern: true}).Hits)

	// A page moved and one turned: the text is as it was, under new numbers.
	mustDo(t, d, doc.ID, "move", `{"pages":["0.2"],"to":"0.1"}`)
	f = find(t, d, doc.ID, layout.Query{Text: "harbour"})
	assert.Equal(t, 3, f.Hits)
	assert.Equal(t, 1, f.Pages[0].Number)
	assert.Equal(t, "0.2", f.Pages[0].Key.String())
	mustDo(t, d, doc.ID, "remove", `{"pages":["0.2"]}`)
	assert.Equal(t, 1, find(t, d, doc.ID, layout.Query{Text: "harbour"}).Hits)
	var rows int64
	require.NoError(t, d.db.Model(&PageText{}).Count(&rows).Error)
	assert.EqualValues(t, 2, rows, "the page that was taken out is not kept")
	out, err := d.Undo(t.Context(), doc.ID, snapshot(t, d, doc.ID).State.ID, 1)
	require.NoError(t, err)
	require.NotNil(t, out)
	assert.Equal(t, 3, find(t, d, doc.ID, layout.Query{Text: "harbour"}).Hits)

	_, err = layout.Query{Text: "(", Pattern: true}.Compile()
	assert.ErrorIs(t, err, layout.ErrPatternQuery)
}

func snapshot(t *testing.T, d *Desk, id uint) *Snapshot {
	t.Helper()
	s, err := d.Snapshot(t.Context(), id)
	require.NoError(t, err)
	return s
}

// A search goes through all documents, and follows their changes.
func TestSearchText(t *testing.T) {
	d := newDesk(t)
	a := bring(t, d, "Dues.pdf", wording([]string{"Winter berths are let from October. Caf\\351 hours are as posted."}, []string{"Nothing of interest."}))
	b := bring(t, d, "Survey.pdf", wording([]string{"The quay wall and the winter berths were surveyed in September, from the eastern steps to the dol-", "phin off the pier head."}))
	require.NoError(t, d.ReadAll(t.Context(), 1))
	search := func(q string) []TextHit {
		found, err := d.SearchText(t.Context(), 1, q, 10)
		require.NoError(t, err)
		assert.Equal(t, len(found.Hits), found.Pages)
		return found.Hits
	}
	assert.Len(t, search("winter berths"), 2)
	assert.Len(t, search(`"berths winter"`), 0)
	hits := search("cafe")
	require.Len(t, hits, 1, "accents don't matter")
	assert.Contains(t, hits[0].Parts, TextPart{"Café", true})
	assert.Equal(t, a.ID, hits[0].DocumentID)
	hits = search("dolphin")
	require.Len(t, hits, 1)
	assert.Equal(t, b.ID, hits[0].DocumentID)
	assert.Len(t, search("survey"), 1, "words that begin so")
	mustDo(t, d, a.ID, "remove", `{"pages":["0.1"]}`)
	require.NoError(t, d.ReadAll(t.Context(), 1))
	assert.Len(t, search("winter"), 1)
	require.NoError(t, d.Bin(t.Context(), 1, []uint{b.ID}))
	assert.Empty(t, search("winter"))
	assert.Empty(t, search(`" OR (`))
}

// Scripts without spaces are searched within their lines.
func TestSearchUnspaced(t *testing.T) {
	d := newDesk(t)
	row := PageText{DocumentID: bring(t, d, "Notice.pdf", wording([]string{"Notice"})).ID, Key: "0.9", Number: 9}
	row.keep("港湾の冬季係留について")
	require.NoError(t, d.ReadAll(t.Context(), 1))
	require.NoError(t, d.db.Create(&row).Error)
	for q, want := range map[string]int{"冬季": 1, "係留に": 1, "夏季": 0, "%": 0} {
		found, err := d.SearchText(t.Context(), 1, q, 10)
		require.NoError(t, err)
		assert.Len(t, found.Hits, want, q)
		assert.Equal(t, want, found.Pages)
		if want == 1 {
			assert.Contains(t, found.Hits[0].Parts, TextPart{q, true})
		}
	}
}

// Marks are listed with the words under them, those of other programs too; they come and go with the trail.
func TestMarks(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Dues.pdf", wording([]string{"Winter berths are let from October."}, []string{"Nothing of interest."}))
	list := func() []Mark {
		m, err := d.Marks(t.Context(), snapshot(t, d, doc.ID))
		require.NoError(t, err)
		return m
	}
	assert.Empty(t, list())
	quads, text, err := d.Taken(t.Context(), snapshot(t, d, doc.ID), step.Key{Ordinal: 1}, [][2]int{{1, 3}})
	require.NoError(t, err)
	require.Len(t, quads, 1)
	assert.Equal(t, "berths are let", text)
	_, _, err = d.Taken(t.Context(), snapshot(t, d, doc.ID), step.Key{Ordinal: 1}, [][2]int{{4, 60}})
	assert.Error(t, err)
	mustDo(t, d, doc.ID, "mark-text", fmt.Sprintf(`{"page":["0.1"],"quads":%s,"how":"underline","colour":"ink","author":"Isla Merrow"}`, toJSON(quads)))
	marks := list()
	require.Len(t, marks, 1)
	assert.Equal(t, "berths are let", marks[0].Text)
	assert.Equal(t, "underline", marks[0].How)
	assert.Equal(t, "Isla Merrow", marks[0].Author)
	assert.Equal(t, 1, marks[0].Number)
	mustDo(t, d, doc.ID, "move", `{"pages":["0.1"],"to":"end"}`)
	assert.Equal(t, 2, list()[0].Number, "a mark goes with its page")
	_, err = d.Undo(t.Context(), doc.ID, snapshot(t, d, doc.ID).State.ID, 1)
	require.NoError(t, err)
	_, err = d.Undo(t.Context(), doc.ID, snapshot(t, d, doc.ID).State.ID, 1)
	require.NoError(t, err)
	assert.Empty(t, list())
	_, _, err = d.ReadPage(t.Context(), snapshot(t, d, doc.ID), step.Key{Ordinal: 9})
	assert.ErrorIs(t, err, store.ErrMissing)
}

// Many look for things while others change the document: each finds what its own state holds.
func TestFindWhileChanging(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Pages.pdf", pdftest.Text(30))
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for range 8 {
				s, err := d.Snapshot(t.Context(), doc.ID)
				if !assert.NoError(t, err) {
					return
				}
				pages := len(s.Pages())
				f, err := d.Find(t.Context(), s, layout.Query{Text: "page"})
				if !assert.NoError(t, err) {
					return
				}
				assert.Equal(t, pages, f.Hits)
			}
		})
	}
	for i := range 8 {
		mustDo(t, d, doc.ID, "remove", fmt.Sprintf(`{"pages":["0.%d"]}`, 3+i))
	}
	wg.Wait()
	require.NoError(t, d.ReadAll(t.Context(), 1))
	found, err := d.SearchText(t.Context(), 1, "page", 100)
	require.NoError(t, err)
	assert.Equal(t, 22, found.Pages)
	assert.Len(t, found.Hits, 22)
	unread, err := d.Unread(t.Context(), 1)
	require.NoError(t, err)
	assert.Zero(t, unread)
}

// What was read is there after a start; what was not yet is read then.
func TestTextsKept(t *testing.T) {
	dir := t.TempDir()
	d := openDesk(t, dir)
	doc := bring(t, d, "Dues.pdf", wording([]string{"Winter berths are let from the first of Oc-", "tober on, to all who ask the harbour master for one."}))
	require.NoError(t, d.ReadAll(t.Context(), 1))
	require.NoError(t, d.Close())
	d = openDesk(t, dir)
	var row Document
	require.NoError(t, d.db.First(&row, doc.ID).Error)
	assert.Equal(t, row.HeadID, row.TextID)
	assert.Equal(t, 1, find(t, d, doc.ID, layout.Query{Text: "oc-tober"}).Hits, "the hyphen is remembered")
	assert.Equal(t, 1, find(t, d, doc.ID, layout.Query{Text: "october"}).Hits)
	require.NoError(t, d.Close())
}

// Whoever takes a step back while the text of its state is being read finds the text of the document as it is, however that ends.
func TestTextsOfAStateThatWasLeft(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Dues.pdf", wording([]string{"Winter berths are let from October."}, []string{"Nothing of interest."}))
	require.NoError(t, d.ReadAll(t.Context(), 1))
	mustDo(t, d, doc.ID, "rotate", `{"pages":["0.1"],"by":90}`)
	turned := snapshot(t, d, doc.ID)
	_, err := d.Undo(t.Context(), doc.ID, turned.State.ID, 1)
	require.NoError(t, err)
	now := snapshot(t, d, doc.ID)
	_, known, err := d.Needs(t.Context(), now)
	require.NoError(t, err)
	require.True(t, known)

	require.NoError(t, d.readMarked(t.Context(), turned, 1)) // it had begun before
	assert.Eventually(t, func() bool {
		_, known, err := d.Needs(t.Context(), now)
		var row Document
		return err == nil && known && d.db.First(&row, doc.ID).Error == nil && row.TextID == row.HeadID
	}, 20*time.Second, 20*time.Millisecond, "the reader comes back to it by itself")
}

// A match in an annotation says so, now and after a start.
func TestFindInAnnotation(t *testing.T) {
	dir := t.TempDir()
	d := openDesk(t, dir)
	doc := bring(t, d, "Noted.pdf", pdftest.Noted("A berth on the page", "BT /F 12 Tf 5 10 Td (Another berth, noted) Tj ET"))
	look := func() []bool {
		var out []bool
		for _, l := range find(t, d, doc.ID, layout.Query{Text: "berth"}).Pages[0].Lines {
			out = append(out, l.Annotation)
		}
		return out
	}
	assert.Equal(t, []bool{false, true}, look())
	require.NoError(t, d.ReadAll(t.Context(), 1))
	require.NoError(t, d.Close())
	d = openDesk(t, dir)
	assert.Equal(t, []bool{false, true}, look())
	found, err := d.SearchText(t.Context(), 1, "noted", 5)
	require.NoError(t, err)
	assert.Equal(t, 1, found.Pages)
	require.NoError(t, d.Close())
}

// Marks that several make at once, on one page or by a rule of pages, all stand; whatever else touched the page is still a conflict, and a mark that went meanwhile is told.
func TestMarksAtOnce(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Dues.pdf", wording([]string{"Winter berths are let from October."}, []string{"Nothing of interest."}))
	seen := doc.HeadID
	quads, _, err := d.Taken(t.Context(), snapshot(t, d, doc.ID), step.Key{Ordinal: 1}, [][2]int{{1, 3}})
	require.NoError(t, err)
	mark := func(page, how string, seen uint) error {
		_, err := do(t, d, doc.ID, seen, "mark-text", fmt.Sprintf(`{"page":%s,"quads":%s,"how":%q,"colour":"ink"}`, page, toJSON(quads), how))
		return err
	}
	for _, page := range []string{`["0.1"]`, `["0.1"]`, `"1"`, `["0.2"]`, `"2"`} {
		require.NoError(t, mark(page, "underline", seen), page)
	}
	marks, err := d.Marks(t.Context(), snapshot(t, d, doc.ID))
	require.NoError(t, err)
	require.Len(t, marks, 5)
	now := snapshot(t, d, doc.ID).State.ID
	change := fmt.Sprintf(`{"page":["0.1"],"mark":%d,"how":"highlight","colour":"#f6dd8f"}`, marks[0].Object)
	_, err = do(t, d, doc.ID, now, "mark-remove", fmt.Sprintf(`{"page":["0.1"],"mark":%d}`, marks[1].Object))
	require.NoError(t, err)
	_, err = do(t, d, doc.ID, now, "mark-change", change)
	require.NoError(t, err, "another one of the same page was removed meanwhile")
	_, err = do(t, d, doc.ID, now, "mark-change", fmt.Sprintf(`{"page":["0.1"],"mark":%d,"how":"highlight","colour":"#f6dd8f"}`, marks[1].Object))
	assert.ErrorContains(t, err, "the mark has been removed")

	now = snapshot(t, d, doc.ID).State.ID
	mustDo(t, d, doc.ID, "rotate", `{"pages":["0.2"],"by":90}`)
	var conflict *Conflict
	assert.NoError(t, mark(`["0.1"]`, "underline", now))
	assert.ErrorAs(t, mark(`["0.2"]`, "underline", now), &conflict)
	assert.ErrorAs(t, mark(`"1"`, "underline", now), &conflict, "pages are counted as they were seen")
	_, err = do(t, d, doc.ID, seen, "rotate", `{"pages":["0.1"],"by":90}`)
	assert.ErrorAs(t, err, &conflict, "what is no mark still conflicts with one")
}
