package desk

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/hhrutter/tiff"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/child"
	"glenrain/core/draw"
	"glenrain/core/intake"
	"glenrain/core/intake/intaketest"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// arriveEach has a file arrive, and gives what came of each file in it.
func arriveEach(t *testing.T, d *Desk, a Arrival, data []byte) (out []Arrived) {
	t.Helper()
	in, err := d.Store.Create()
	require.NoError(t, err)
	_, err = in.Write(data)
	require.NoError(t, err)
	if a.Person == 0 {
		a.Person = 1
	}
	require.NoError(t, d.ArriveEach(t.Context(), a, in, func(one Arrived) { out = append(out, one) }))
	return out
}

// A zip brings in what is in it, with its folders; one bad file in it stops nothing; what systems put there is passed over. The same zip
// again makes no folder twice, and says which documents are the same.
func TestZip(t *testing.T) {
	d := newDesk(t)
	f, err := d.EnsureFolder(t.Context(), "Documents")
	require.NoError(t, err)
	z := intaketest.Zip("Plans/Plan.pdf", string(pdftest.Text(2)), "Plans/old/broken.pdf", "no PDF", "__MACOSX/Plans/._x", "junk", "Plans/.DS_Store", "junk", "../../out/../Up.pdf", string(pdftest.Text(1)), "Inner.zip", string(intaketest.Zip("Deep/Note.pdf", string(pdftest.Text(3)))))
	got := arriveEach(t, d, Arrival{Folder: f.ID, Name: "From a colleague.zip", RequestID: "z"}, z)
	names := map[string]string{}
	for _, a := range got {
		s := "in"
		if a.Err != nil {
			s = a.Err.Error()
		}
		names[a.Name] = s
	}
	assert.Equal(t, map[string]string{"Plans/Plan.pdf": "in", "Plans/old/broken.pdf": "“broken.pdf”: the file is plain text, not a PDF; nothing was changed", "../../out/../Up.pdf": "in", "Deep/Note.pdf": "in"}, names)
	paths := func() (out []string) {
		list, err := d.Folders(t.Context(), 1)
		require.NoError(t, err)
		for _, f := range list {
			out = append(out, f.Path)
		}
		return out
	}
	want := []string{"Documents", "Documents / Deep", "Documents / Plans", "Documents / Plans / old"}
	assert.Equal(t, want, paths())
	// The same request again adds nothing; another one does, and tells which are the same.
	arriveEach(t, d, Arrival{Folder: f.ID, Name: "From a colleague.zip", RequestID: "z"}, z)
	here, _, _, err := d.Counts(t.Context(), 1)
	require.NoError(t, err)
	assert.EqualValues(t, 3, here)
	for _, a := range arriveEach(t, d, Arrival{Folder: f.ID, Name: "Again.zip"}, z) {
		if a.Err == nil {
			require.NotNil(t, a.Same, a.Name)
			assert.Equal(t, a.Document.Name, a.Same.Name)
		}
	}
	assert.Equal(t, want, paths())
	for name, data := range map[string][]byte{"empty.zip": intaketest.Zip(), "cut.zip": z[:len(z)/2], "no.zip": []byte("PK\x03\x04")} {
		one := arriveEach(t, d, Arrival{Folder: f.ID, Name: name}, data)
		require.Len(t, one, 1, name)
		require.Error(t, one[0].Err, name)
	}
}

// A mail is a page with its text, and each of its attachments a document.
func TestMailArrives(t *testing.T) {
	if testing.Short() {
		t.Skip("children do the work, which takes them long under the race detector")
	}
	d := newDesk(t)
	mail := "From: rona@quay.example\r\nSubject: Readings\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nPlease see the readings.\r\n--b\r\nContent-Type: text/csv\r\nContent-Disposition: attachment; filename=\"levels.csv\"\r\n\r\ntime,level\r\n06:00,1.2\r\n--b--\r\n"
	got := arriveEach(t, d, Arrival{Name: "Readings.eml"}, []byte(mail))
	require.Len(t, got, 2)
	assert.Equal(t, [2]string{"an email", "a table of values (CSV)"}, [2]string{got[0].Document.Made.String(), got[1].Document.Made.String()})
	s, err := d.Snapshot(t.Context(), got[0].Document.ID)
	require.NoError(t, err)
	texts, err := d.Texts(t.Context(), s)
	require.NoError(t, err)
	assert.Contains(t, texts[0].Text, "Please see the readings.")
	assert.Contains(t, texts[0].Text, "levels.csv")
}

// A guess can be changed later: the document is made anew of the file that came, and the old one waits in the Bin.
func TestAgain(t *testing.T) {
	if testing.Short() {
		t.Skip("children do the work, which takes them long under the race detector")
	}
	d := newDesk(t)
	was := arriveEach(t, d, Arrival{Name: "French.txt"}, []byte("S\xe9ance"))[0].Document
	assert.Equal(t, "windows-1252", was.Made.Encoding)
	require.NoError(t, d.Gather(t.Context(), 1, []uint{was.ID}, ""))
	now, err := d.Again(t.Context(), 1, was.ID, intake.Options{Encoding: "iso-8859-5", Paper: "A5"}, "")
	require.NoError(t, err)
	assert.Equal(t, [3]any{"French", "A5", was.OriginalSHA}, [3]any{now.Name, now.Paper, now.OriginalSHA})
	list, err := d.GatheredList(t.Context(), 1)
	require.NoError(t, err)
	require.Len(t, list.Entries, 1)
	assert.Equal(t, now.ID, list.Entries[0].DocumentID, "the list follows")
	s, err := d.Snapshot(t.Context(), now.ID)
	require.NoError(t, err)
	texts, err := d.Texts(t.Context(), s)
	require.NoError(t, err)
	assert.Contains(t, texts[0].Text, "Sщance")
	gone, err := d.row(t.Context(), was.ID)
	require.NoError(t, err)
	assert.NotNil(t, gone.BinnedAt)
	_, err = d.Again(t.Context(), 1, now.ID, intake.Options{Paper: "B5"}, "")
	require.ErrorContains(t, err, "no paper")
	pdf := bring(t, d, "a.pdf", pdftest.Text(1))
	_, err = d.Again(t.Context(), 1, pdf.ID, intake.Options{Paper: "A5"}, "")
	require.ErrorContains(t, err, "was not created from a file")
}

// What a document is made of is known when it has arrived, and follows its steps; lists are filtered by it.
func TestAbout(t *testing.T) {
	d := newDesk(t)
	text := bring(t, d, "Text.pdf", pdftest.Text(3))
	noted := bring(t, d, "Noted.pdf", pdftest.Noted("Berth 4", "BT /F 12 Tf 5 10 Td (Ask the pilot) Tj ET"))
	pic := bring(t, d, "quay.jpg", photo(t))
	row, about, err := d.About(t.Context(), 1, text.ID)
	require.NoError(t, err)
	require.True(t, about.Known)
	assert.Equal(t, 3, about.TextPages)
	assert.Equal(t, 1, about.LooseFonts)
	assert.Equal(t, []string{"Helvetica"}, about.Loose)
	assert.Equal(t, "1 font is not embedded", row.Weightiest)
	assert.Equal(t, row.Weight, about.Weight.Pictures+about.Weight.Fonts+about.Weight.Content+about.Weight.Rest)
	_, a, err := d.About(t.Context(), 1, noted.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, a.Comments)
	prow, a, err := d.About(t.Context(), 1, pic.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, a.PicturePages)
	assert.Greater(t, a.Weight.Pictures, a.Weight.Rest)
	assert.Empty(t, prow.Weightiest, "that a picture is a picture is no news")
	// Combined with text, it is.
	all, err := d.Combine(t.Context(), &background.Work{}, Combination{Documents: []uint{text.ID, pic.ID}, Pages: []string{"2-", ""}, Person: 1})
	require.NoError(t, err)
	assert.Equal(t, 3, all.Pages)
	require.NoError(t, d.ReadAll(t.Context(), 1))
	all, a, err = d.About(t.Context(), 1, all.ID)
	require.NoError(t, err)
	assert.Equal(t, [3]int{2, 1, 3}, [3]int{a.TextPages, a.PicturePages, a.FirstPicture})
	assert.Equal(t, "1 page is a picture with no searchable text", all.Weightiest)
	list, err := d.Documents(t.Context(), Listing{Person: 1, Trait: "no-text", Most: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	counts, err := d.Traits(t.Context(), 1, Listing{})
	require.NoError(t, err)
	assert.Equal(t, 1, counts["no-text"])
	// A step that removes the picture takes it off the list.
	s, err := d.Snapshot(t.Context(), all.ID)
	require.NoError(t, err)
	_, err = d.Do(t.Context(), Change{Document: all.ID, Person: 1, Seen: s.State.ID, Name: "remove", Params: []byte(`{"pages":"3"}`), RequestID: "r"})
	require.NoError(t, err)
	require.NoError(t, d.ReadAll(t.Context(), 1))
	all, _, err = d.About(t.Context(), 1, all.ID)
	require.NoError(t, err)
	assert.Equal(t, "1 font is not embedded", all.Weightiest)
}

// Names are sorted as people count; parts of the list follow one another in every order.
func TestListing(t *testing.T) {
	d := newDesk(t)
	for _, n := range []int{10, 2, 1, 21, 3} {
		bring(t, d, fmt.Sprintf("Page %d.pdf", n), pdftest.Text(n))
	}
	for sort, want := range map[Sort]string{ByName: "[Page 1 Page 2 Page 3 Page 10 Page 21]", ByPages: "[Page 21 Page 10 Page 3 Page 2 Page 1]", ByWeight: "[Page 21 Page 10 Page 3 Page 2 Page 1]", ByChange: "[Page 3 Page 21 Page 1 Page 2 Page 10]"} {
		var names []string
		after := uint(0)
		for {
			part, err := d.Documents(t.Context(), Listing{Person: 1, Sort: sort, After: after, Most: 2})
			require.NoError(t, err)
			if len(part) == 0 {
				break
			}
			for _, r := range part {
				names = append(names, r.Name)
			}
			after = part[len(part)-1].ID
		}
		assert.Equal(t, want, fmt.Sprint(names), sort)
	}
	n, err := d.CountDocuments(t.Context(), Listing{Person: 1, Words: "page 1"})
	require.NoError(t, err)
	assert.EqualValues(t, 3, n)
}

// Folders in folders: those in a closed one are seen by the same people, wherever they came from; nothing is moved into itself.
func TestTree(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	tomas := somebody(t, d, "tomas", people.Member)
	make := func(in uint, name string) *Folder {
		f, err := d.MakeFolderIn(ctx, 1, in, name)
		require.NoError(t, err)
		return f
	}
	a := make(0, "Licences")
	b := make(a.ID, "2027")
	c := make(0, "Open")
	_, err := d.MakeFolderIn(ctx, 1, a.ID, "2027")
	require.ErrorContains(t, err, "already")
	_ = make(c.ID, "2027") // the same name elsewhere
	require.NoError(t, d.OpenFolder(ctx, 1, a.ID, true, nil))
	row := bring(t, d, "Secret.pdf", pdftest.Text(1))
	_, err = d.MoveTo(ctx, 1, []uint{row.ID}, b.ID)
	require.NoError(t, err)
	_, err = d.Look(ctx, tomas, row.ID)
	assert.ErrorIs(t, err, store.ErrMissing, "the folder it is in is in a closed one")
	require.ErrorContains(t, d.OpenFolder(ctx, 1, b.ID, false, nil), "change who sees it there")
	// A folder that is moved into a closed one is closed, with what is in it.
	_, err = d.MoveFolder(ctx, 1, c.ID, a.ID)
	require.NoError(t, err)
	list, err := d.Folders(ctx, tomas)
	require.NoError(t, err)
	assert.Empty(t, list)
	_, err = d.MoveFolder(ctx, 1, a.ID, b.ID)
	require.ErrorContains(t, err, "into itself")
	_, err = d.RemoveFolder(ctx, 1, b.ID)
	require.ErrorContains(t, err, "not empty")
	_, err = d.RenameFolder(ctx, tomas, a.ID, "Mine")
	require.ErrorIs(t, err, store.ErrMissing)
	renamed, err := d.RenameFolder(ctx, 1, b.ID, "2028")
	require.NoError(t, err)
	assert.Equal(t, "2028", renamed.Name)
	// All those below are listed where that is asked for.
	n, err := d.CountDocuments(ctx, Listing{Person: 1, Folder: a.ID, Below: true})
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	// A folder that was emptied goes; what is in the Bin of a closed one keeps it.
	require.NoError(t, d.Bin(ctx, 1, []uint{row.ID}))
	_, err = d.RemoveFolder(ctx, 1, b.ID)
	require.ErrorContains(t, err, "delete them for good or move them first")
	require.NoError(t, d.Purge(ctx, 1, row.ID))
	_, err = d.RemoveFolder(ctx, 1, b.ID)
	require.NoError(t, err)
	deep := uint(0)
	for i := range maxFolders {
		deep = make(deep, fmt.Sprint("level ", i)).ID
	}
	_, err = d.MakeFolderIn(ctx, 1, deep, "too deep")
	require.ErrorContains(t, err, "nested up to")
}

// The list of what is to be combined: kept, ordered, with page sets; its outcome is what comes of it.
func TestGather(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	two, ten := bring(t, d, "B 2.pdf", pdftest.Text(2)), bring(t, d, "B 10.pdf", pdftest.Text(10))
	pic := bring(t, d, "quay.jpg", photo(t))
	require.NoError(t, d.Gather(ctx, 1, []uint{ten.ID, pic.ID, two.ID, ten.ID}, ""))
	list := func() *GatheredOutcome {
		l, err := d.GatheredList(ctx, 1)
		require.NoError(t, err)
		return l
	}
	l := list()
	require.NoError(t, d.GatherPages(ctx, 1, l.Entries[3].ID, "9-"))
	require.NoError(t, d.GatherPages(ctx, 1, l.Entries[0].ID, "30"))
	l = list()
	assert.True(t, l.Wrong)
	assert.Contains(t, l.Entries[0].Wrong, "no pages 30")
	_, err := d.CombineGathered(ctx, &background.Work{}, Combination{Person: 1})
	require.ErrorContains(t, err, "no pages 30")
	require.NoError(t, d.GatherPages(ctx, 1, l.Entries[0].ID, "all"))
	require.NoError(t, d.SortGathered(ctx, 1, "name"))
	l = list()
	assert.Equal(t, "B 2 B 10 B 10 quay", l.Entries[0].Name+" "+l.Entries[1].Name+" "+l.Entries[2].Name+" "+l.Entries[3].Name)
	require.NoError(t, d.OrderGathered(ctx, 1, []uint{l.Entries[3].ID}))
	assert.Equal(t, "quay", list().Entries[0].Name)
	assert.Equal(t, 2+10+2+1, list().Pages)
	assert.Len(t, list().Papers, 2)
	out, err := d.CombineGathered(ctx, &background.Work{}, Combination{Person: 1, RequestID: "c", Name: "All"})
	require.NoError(t, err)
	assert.Equal(t, 15, out.Pages)
	assert.Empty(t, list().Entries)
	same, err := d.CombineGathered(ctx, &background.Work{}, Combination{Person: 1, RequestID: "c", Name: "All"})
	require.NoError(t, err)
	assert.Equal(t, out.ID, same.ID, "the same request again")
	// What is deleted is off the list, and another person's list is their own.
	require.NoError(t, d.Gather(ctx, 1, []uint{two.ID}, ""))
	require.NoError(t, d.Bin(ctx, 1, []uint{two.ID}))
	assert.Empty(t, list().Entries)
}

// Pictures on paper, and a picture file of several pages.
func TestPicturesOnPaper(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	var two bytes.Buffer
	require.NoError(t, tiff.EncodeAll(&two, []image.Image{image.NewGray(image.Rect(0, 0, 60, 40)), image.NewGray(image.Rect(0, 0, 40, 60))}, nil))
	views := bring(t, d, "Two views.tiff", two.Bytes())
	assert.Equal(t, 2, views.Pages)
	pic := bring(t, d, "quay.jpg", photo(t))
	a4 := draw.Placement{Width: 595.28, Height: 841.89}
	placed, err := d.PlacePictures(ctx, PicturePages{Person: 1, Documents: []uint{views.ID, pic.ID}, Placement: a4})
	require.NoError(t, err)
	require.Len(t, placed, 3)
	assert.Equal(t, [2]bool{true, false}, [2]bool{placed[0].PageW > placed[0].PageH, placed[1].PageW > placed[1].PageH}, "each as it is")
	out, err := d.MakePicturePages(ctx, &background.Work{}, PicturePages{Person: 1, Documents: []uint{views.ID, pic.ID}, Placement: a4, RequestID: "p"})
	require.NoError(t, err)
	require.Len(t, out, 1)
	assert.Equal(t, [2]any{3, "2 pictures"}, [2]any{out[0].Pages, out[0].Made.String()})
	again, err := d.MakePicturePages(ctx, &background.Work{}, PicturePages{Person: 1, Documents: []uint{views.ID, pic.ID}, Placement: a4, RequestID: "p"})
	require.NoError(t, err)
	assert.Equal(t, out[0].ID, again[0].ID)
	each, err := d.MakePicturePages(ctx, &background.Work{}, PicturePages{Person: 1, Documents: []uint{views.ID, pic.ID}, Placement: a4, Each: true})
	require.NoError(t, err)
	assert.Len(t, each, 2)
	pdf := bring(t, d, "a.pdf", pdftest.Text(1))
	_, err = d.MakePicturePages(ctx, &background.Work{}, PicturePages{Person: 1, Documents: []uint{pdf.ID}, Placement: a4})
	var refusal *step.Refusal
	require.ErrorAs(t, err, &refusal)
}

// Lists of ten thousand documents stay quick, in every order and narrowed.
func TestManyDocuments(t *testing.T) {
	if testing.Short() {
		t.Skip("many rows")
	}
	d := newDesk(t)
	rows := make([]Document, 10_000)
	for i := range rows {
		name := fmt.Sprintf("Paper %d", i)
		rows[i] = Document{Name: name, NameKey: nameKey(name), SortKey: sortKey(name), OwnerID: 1, Pages: i % 300, Weight: int64(i * 37 % 90_000), ChangedAt: time.Unix(int64(i), 0), CreatedAt: time.Unix(0, 0)}
	}
	require.NoError(t, d.db.CreateInBatches(rows, 500).Error)
	for _, l := range []Listing{{}, {Sort: ByName}, {Sort: ByWeight}, {Sort: ByPages}, {Words: "777"}, {Trait: "no-text"}} {
		l.Person, l.Most = 1, 51
		list, err := d.Documents(t.Context(), l)
		require.NoError(t, err)
		if l.Trait == "" && l.Words == "" {
			assert.Len(t, list, 51)
		}
	}
	var plan []struct{ Detail string }
	require.NoError(t, d.db.Raw("EXPLAIN QUERY PLAN SELECT * FROM documents WHERE away_at is null ORDER BY sort_key asc, id asc LIMIT 51").Scan(&plan).Error)
	for _, p := range plan {
		assert.NotContains(t, p.Detail, "TEMP B-TREE FOR ORDER BY", "sorted by an index")
	}
}

// A short note does not wait behind the long listings that somebody else has had set meanwhile.
func TestNoteBesideListings(t *testing.T) {
	if testing.Short() {
		t.Skip("long listings")
	}
	d := newDesk(t)
	tomas := somebody(t, d, "tomas", people.Member)
	put := func(text string) *store.Incoming {
		in, err := d.Store.Create()
		require.NoError(t, err)
		_, err = in.Write([]byte(text))
		require.NoError(t, err)
		return in
	}
	listing := strings.Repeat("level 1.2 at the north quay, wind of force 4 from the west\n", 40_000)
	ctx, stop := context.WithCancel(child.For(t.Context(), "isla"))
	var wg sync.WaitGroup
	for i := range 4 {
		in := put(listing)
		wg.Go(func() {
			_, _ = d.Arrive(ctx, Arrival{Person: 1, Name: fmt.Sprintf("levels %d.txt", i)}, in)
		})
	}
	time.Sleep(1500 * time.Millisecond) // they are at it
	row, err := d.Arrive(child.For(t.Context(), "tomas"), Arrival{Person: tomas, Name: "note.md"}, put("# Berth 4\n\nThe berth is clear.\n"))
	var n int64
	require.NoError(t, d.db.Model(&Document{}).Count(&n).Error)
	stop()
	wg.Wait()
	require.NoError(t, err)
	assert.Equal(t, 1, row.Pages)
	assert.Equal(t, int64(1), n, "all the listings are under way still")
	assert.Eventually(t, func() bool {
		left, err := os.ReadDir(d.workFolder())
		return err == nil && len(left) == 0
	}, 30*time.Second, 50*time.Millisecond, "nothing is left below the data folder")
}
