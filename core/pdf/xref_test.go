package pdf_test

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// Harmless oddities of real files: they are read as if nothing were wrong.
func TestOddButHarmless(t *testing.T) {
	plain := string(pdftest.Text(2))
	for name, data := range map[string]string{
		"CRLF after each entry":      strings.ReplaceAll(plain, " n \n", " n\r\n"),
		"no white space after entry": strings.ReplaceAll(plain, " n \n", " n\n"),
		"bytes after the end":        plain + "\n\n<!-- served with care -->\n",
		"no end of line at the end":  strings.TrimRight(plain, "\r\n"),
		"a comment in the trailer":   strings.Replace(plain, "trailer\n", "trailer % newest\n", 1),
		"startxref on the same line": strings.Replace(plain, "startxref\n", "startxref ", 1),
		"a missing endobj":           strings.Replace(plain, "endstream\nendobj", "endstream\n       ", 1),
	} {
		t.Run(name, func(t *testing.T) {
			d := pdftest.Open(t, []byte(data))
			require.Len(t, pdftest.Refs(t, d), 2)
			assert.Equal(t, []string{"Page 1", "Page 2"}, pdftest.PageTexts(t, pdftest.Whole(t, d)))
		})
	}
}

// A stream whose /Length lies is read up to its endstream.
func TestWrongLength(t *testing.T) {
	plain := string(pdftest.Text(1))
	i := strings.Index(plain, "/Length ")
	j := i + len("/Length ") + strings.IndexAny(plain[i+len("/Length "):], ">/ ")
	for _, length := range []string{"1", "9"} {
		n := j - i - len("/Length ")
		lied := plain[:i] + "/Length " + strings.Repeat("0", n-len(length)) + length + plain[j:]
		require.Len(t, lied, len(plain))
		d := pdftest.Open(t, []byte(lied))
		content := d.Stream(d.Dict(pdftest.Refs(t, d)[0]).Get("Contents"))
		data, rest, err := d.Decode(content)
		require.NoError(t, err)
		assert.Empty(t, rest)
		assert.True(t, strings.HasPrefix(string(data), "BT /F1"), string(data))
		assert.True(t, strings.HasSuffix(string(data), "re f"), string(data))
	}
}

func TestBrokenTables(t *testing.T) {
	plain := string(pdftest.Text(2))
	at := strings.Index(plain, "\nxref\n")
	for name, data := range map[string]string{
		"a letter in an entry":     strings.Replace(plain, "0000000000 65535 f", "00000x0000 65535 f", 1),
		"a count beyond the file":  strings.Replace(plain, "\nxref\n0 ", "\nxref\n0 99", 1),
		"no trailer":               strings.Replace(plain, "trailer", "sailor!", 1),
		"no root":                  strings.Replace(plain, "/Root", "/Boot", 1),
		"startxref outside":        strings.Replace(plain, fmt.Sprintf("startxref\n%d", at+1), "startxref\n99999999", 1),
		"startxref into an object": strings.Replace(plain, fmt.Sprintf("startxref\n%d", at+1), "startxref\n20", 1),
		"an object elsewhere":      strings.Replace(plain, "2 0 obj", "7 0 obj", 1),
	} {
		d, err := pdf.Open(strings.NewReader(data), int64(len(data)))
		if err == nil {
			_, err = d.Pages()
		}
		if err == nil {
			err = d.WriteFull(t.Context(), io.Discard, pdf.FullOptions{})
		}
		var e *pdf.Error
		require.ErrorAs(t, err, &e, name)
		assert.ErrorIs(t, err, pdf.ErrDamaged, name)
	}
}

// A chain of sections that leads back to itself ends.
func TestLoopOfSections(t *testing.T) {
	plain := string(pdftest.Text(1))
	at := strings.Index(plain, "\nxref\n") + 1
	data := strings.Replace(plain, "trailer\n<<", fmt.Sprintf("trailer\n<</Prev %d", at), 1)
	d := pdftest.Open(t, []byte(data))
	assert.Len(t, pdftest.Refs(t, d), 1)
}

func TestParts(t *testing.T) {
	p := pdf.NewParts()
	for _, s := range []string{"Orrin ", "", "Quay ", "Harbour", " Trust"} {
		p = p.With(strings.NewReader(s), int64(len(s)))
	}
	all, err := io.ReadAll(io.NewSectionReader(p, 0, p.Size()))
	require.NoError(t, err)
	assert.Equal(t, "Orrin Quay Harbour Trust", string(all))
	for from := range len(all) {
		for n := 1; from+n <= len(all); n++ {
			b := make([]byte, n)
			_, err := p.ReadAt(b, int64(from))
			require.NoError(t, err)
			require.Equal(t, string(all[from:from+n]), string(b))
		}
	}
	b := make([]byte, 10)
	n, err := p.ReadAt(b, p.Size()-3)
	assert.Equal(t, 3, n)
	assert.Equal(t, io.EOF, err)
	_, err = p.ReadAt(b, p.Size())
	assert.Equal(t, io.EOF, err)
	shorter := pdf.NewParts().With(strings.NewReader("ab"), 5)
	_, err = shorter.ReadAt(make([]byte, 5), 0)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "a part that is shorter than was said")
}

func TestGeometry(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R 6 0 R]/Count 4/MediaBox[0 0 100 200]/Rotate 90>>")
	f.Add("<</Type/Page/Parent 2 0 R/CropBox[-50 20 80 900]>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[300 400 100 100]/Rotate -450/UserUnit 2>>")
	f.Add("<</Type/Page/Parent 2 0 R/CropBox[500 500 600 600]/Rotate 0>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 0 0]/Rotate 47>>")
	d := pdftest.Open(t, f.Bytes())
	r := pdftest.Refs(t, d)
	g := d.Geometry(r[0])
	assert.Equal(t, pdf.Rect{X0: 0, Y0: 20, X1: 80, Y1: 200}, g.Visible, "the crop box is cut to the media box")
	w, h := g.Seen()
	assert.Equal(t, [2]float64{180, 80}, [2]float64{w, h}, "inherited turn: lying")
	g = d.Geometry(r[1])
	assert.Equal(t, pdf.Rect{X0: 100, Y0: 100, X1: 300, Y1: 400}, g.Visible, "corners in any order")
	assert.Equal(t, 270, g.Rotate)
	w, h = g.Seen()
	assert.Equal(t, [2]float64{600, 400}, [2]float64{w, h})
	g = d.Geometry(r[2])
	assert.Equal(t, g.MediaBox, g.Visible, "a crop box beside the page counts for nothing")
	assert.Equal(t, 0, g.Rotate)
	g = d.Geometry(r[3])
	assert.Equal(t, 612.0, g.Visible.W(), "an empty media box: what readers assume")
	assert.Equal(t, 0, g.Rotate, "47 degrees are none")
}

// A copier brings each object once and stops at pages.
func TestCopier(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2/MediaBox[0 0 100 100]/Resources<</Font<</F 6 0 R>>>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 5 0 R/Next 4 0 R/B[7 0 R]/Self 3 0 R>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 5 0 R>>")
	f.Add("%s", pdftest.Stream("", "BT ET"))
	f.Add("<</Type/Font/Loop 8 0 R>>")
	f.Add("<</Bead true>>")
	f.Add("<</Back 6 0 R/Root 1 0 R>>")
	src := pdftest.Open(t, f.Bytes())
	refs := pdftest.Refs(t, src)
	dst := pdf.New()
	c, err := pdf.NewCopier(dst, src)
	require.NoError(t, err)
	got, err := c.Pages(refs[:1])
	require.NoError(t, err)
	require.NoError(t, dst.InsertPages(0, got))
	page := dst.Dict(got[0])
	assert.Nil(t, page.Get("Next"), "a page that stayed behind")
	assert.Nil(t, page.Get("B"), "article beads stay behind")
	assert.Equal(t, got[0], page.Get("Self"))
	assert.Equal(t, pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(100), pdf.Integer(100)}, page.Get("MediaBox"), "inherited")
	font := dst.Dict(dst.Dict(page.Get("Resources")).Get("Font")).Get("F")
	assert.Equal(t, font, dst.Dict(dst.Dict(font).Get("Loop")).Get("Back"), "a loop stays a loop")
	assert.Nil(t, dst.Dict(dst.Dict(font).Get("Loop")).Get("Root"), "never the catalog")
	assert.Equal(t, 2, c.Lost)
	before := dst.Objects()
	_, err = c.Object(src.Dict(refs[0]).Get("Contents"))
	require.NoError(t, err)
	assert.Equal(t, before, dst.Objects(), "brought once")
	_, err = c.Pages(refs[:1])
	assert.Error(t, err)
	pdftest.Check(t, pdftest.Whole(t, dst))
}

// Forks don't see one another's changes; the document they came from sees none.
func TestForks(t *testing.T) {
	d := pdftest.Open(t, pdftest.Text(3))
	r := pdftest.Refs(t, d)[0]
	a := d.Fork()
	a.Edit(r).Set("Rotate", pdf.Integer(90))
	b := a.Fork()
	b.Edit(r).Set("Rotate", pdf.Integer(180))
	added := b.Add(pdf.NewDict("New", pdf.Boolean(true)))
	assert.Equal(t, []int{0, 90, 180}, []int{d.Geometry(r).Rotate, a.Geometry(r).Rotate, b.Geometry(r).Rotate})
	assert.Nil(t, a.Resolve(added))
	assert.Equal(t, []pdf.Ref{r, added}, b.Changed())
	b.Discard()
	assert.Equal(t, 0, b.Geometry(r).Rotate)
	assert.Empty(t, b.Changed())
}

// An update that belongs to another document, or is none, is refused.
func TestForeignUpdates(t *testing.T) {
	d := pdftest.Open(t, pdftest.Text(2))
	f := d.Fork()
	f.Edit(pdftest.Refs(t, d)[0]).Set("Rotate", pdf.Integer(90))
	up, err := f.Update([16]byte{})
	require.NoError(t, err)
	_, err = pdftest.Open(t, pdftest.Text(9)).With(up)
	assert.ErrorIs(t, err, pdf.ErrDamaged)
	_, err = d.With([]byte("nothing"))
	assert.ErrorIs(t, err, pdf.ErrDamaged)
	_, err = d.With(up)
	assert.NoError(t, err)
}

// A freed object is null, whatever refers to it.
func TestNullObjects(t *testing.T) {
	data := pdftest.Text(2)
	d := pdftest.Open(t, data).Fork()
	c, _ := d.Dict(pdftest.Refs(t, d)[0]).Get("Contents").(pdf.Ref)
	d.Set(c, nil)
	up, err := d.Update([16]byte{})
	require.NoError(t, err)
	file := append(bytes.Clone(data), up...)
	pdftest.Check(t, file)
	cold := pdftest.Open(t, file)
	o, err := cold.Load(c)
	require.NoError(t, err)
	assert.Nil(t, o)
	assert.Equal(t, []string{"", "Page 2"}, pdftest.PageTexts(t, pdftest.Whole(t, cold)))
}

func TestDates(t *testing.T) {
	// ISO 32000-2, 7.9.4: the example of the standard, December 23, 1998, at 7:52 PM, U.S. Pacific Standard Time
	pst := time.FixedZone("PST", -8*3600)
	assert.Equal(t, pdf.String("D:19981223195200-08'00'"), pdf.DateString(time.Date(1998, 12, 23, 19, 52, 0, 0, pst)))
	assert.Equal(t, pdf.String("D:20261125100000Z"), pdf.DateString(time.Date(2026, 11, 25, 10, 0, 0, 0, time.UTC)))
	assert.Equal(t, pdf.String("D:20260701120000+05'30'"), pdf.DateString(time.Date(2026, 7, 1, 12, 0, 0, 0, time.FixedZone("", 19800))))
}

// Large insertions don't make one node wide, and a document can be emptied down to one page.
func TestTreeUnderLoad(t *testing.T) {
	d := pdftest.Open(t, pdftest.Text(3)).Fork()
	refs := pdftest.Refs(t, d)
	var more []pdf.Ref
	for range 300 {
		p := d.Dict(refs[0]).Clone()
		p.Set("MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(10), pdf.Integer(10)})
		more = append(more, d.Add(p))
	}
	require.NoError(t, d.InsertPages(1, more))
	assert.Len(t, pdftest.Refs(t, d), 303)
	assert.Equal(t, 302, d.PageIndex(refs[2]))
	assert.Equal(t, -1, d.PageIndex(pdf.Ref{Num: 9999}))
	root := d.Dict(d.Catalog().Get("Pages"))
	assert.Equal(t, pdf.Integer(303), root.Get("Count"))
	pdftest.Check(t, pdftest.Whole(t, d))
	all := pdftest.Refs(t, d)
	require.NoError(t, d.RemovePages(all[1:]))
	assert.Equal(t, pdf.Integer(1), d.Dict(d.Catalog().Get("Pages")).Get("Count"))
	pdftest.Check(t, pdftest.Whole(t, d))
	assert.Error(t, d.InsertPages(5, more[:1]))
}
