package pdf_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// variants are files of 12 pages in each kind of cross-reference data.
func variants(t *testing.T) map[string][]byte {
	table := pdftest.Text(12)
	var stream bytes.Buffer
	require.NoError(t, pdftest.Open(t, table).WriteFull(t.Context(), &stream, pdf.FullOptions{}))
	var kept bytes.Buffer
	require.NoError(t, pdftest.Open(t, table).WriteFull(t.Context(), &kept, pdf.FullOptions{KeepNumbers: true}))
	return map[string][]byte{
		"table": table, "stream": stream.Bytes(), "kept": kept.Bytes(),
		"linearized": []byte(qpdf(t, table, "--linearize")),
		"hybrid":     hybrid(),
		"offset":     append([]byte("bytes before the header\n"), table...),
	}
}

// qpdf rewrites a file.
func qpdf(t *testing.T, data []byte, args ...string) string {
	out := filepath.Join(t.TempDir(), "out.pdf")
	pdftest.Tool(t, data, "qpdf", append(args, "FILE", out)...)
	b, err := os.ReadFile(out)
	require.NoError(t, err)
	return string(b)
}

// hybrid is a file whose second page stands in an object stream that only /XRefStm
// leads to (ISO 32000-2, 7.5.8.4).
func hybrid() []byte {
	var b bytes.Buffer
	offs := map[int]int{}
	add := func(n int, s string) {
		offs[n] = b.Len()
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", n, s)
	}
	b.WriteString("%PDF-1.5\n")
	add(1, "<</Type/Catalog/Pages 2 0 R>>")
	add(2, "<</Type/Pages/Kids[3 0 R 5 0 R]/Count 2/MediaBox[0 0 200 200]>>")
	add(3, "<</Type/Page/Parent 2 0 R>>")
	hidden := "5 0 <</Type/Page/Parent 2 0 R/Rotate 90>>"
	add(4, pdftest.Stream("/Type/ObjStm/N 1/First 4", hidden))
	offs[6] = b.Len()
	rows := []byte{2, 0, 4, 0, 1, byte(offs[6] >> 8), byte(offs[6]), 0} // object 5: the first in stream 4; the stream itself
	fmt.Fprintf(&b, "6 0 obj\n<</Type/XRef/Size 7/W[1 2 1]/Index[5 2]/Length %d>>\nstream\n%s\nendstream\nendobj\n", len(rows), rows)
	at := b.Len()
	b.WriteString("xref\n0 5\n0000000000 65535 f \n")
	for i := 1; i <= 4; i++ {
		fmt.Fprintf(&b, "%010d 00000 n \n", offs[i])
	}
	fmt.Fprintf(&b, "trailer\n<</Size 7/Root 1 0 R/XRefStm %d>>\nstartxref\n%d\n%%%%EOF\n", offs[6], at)
	return b.Bytes()
}

func TestOpenEveryKind(t *testing.T) {
	for name, data := range variants(t) {
		t.Run(name, func(t *testing.T) {
			d := pdftest.Open(t, data)
			want := 12
			if name == "hybrid" {
				want = 2
			}
			refs := pdftest.Refs(t, d)
			require.Len(t, refs, want)
			assert.Equal(t, 90, d.Geometry(refs[1]).Rotate)
			whole := pdftest.Whole(t, d)
			pdftest.Check(t, whole)
			if name == "hybrid" {
				return
			}
			assert.Equal(t, pdf.Rect{X0: 20, Y0: 30, X1: 500, Y1: 800}, d.Geometry(refs[2]).Visible)
			for i, text := range pdftest.PageTexts(t, whole) {
				assert.Equal(t, fmt.Sprintf("Page %d", i+1), text)
			}
		})
	}
}

// An update is in the base's own kind, other programs read it, and it can be applied again and again.
func TestUpdateEveryKind(t *testing.T) {
	for name, data := range variants(t) {
		t.Run(name, func(t *testing.T) {
			d := pdftest.Open(t, data)
			file := data[len(data)-int(d.Size()):] // from the header on
			for i, r := range pdftest.Refs(t, d) {
				if i > 5 {
					break
				}
				fork := d.Fork()
				fork.Edit(r).Set("Rotate", pdf.Integer(180))
				fork.Edit(r).Set("GLRN_Test", pdf.TextString(fmt.Sprint("step ", i)))
				up, err := fork.Update([16]byte{byte(i)})
				require.NoError(t, err)
				again, err := fork.Update([16]byte{byte(i)})
				require.NoError(t, err)
				require.Equal(t, up, again, "the same change gives the same bytes")
				file = append(bytes.Clone(file), up...)
				if d, err = d.With(up); err != nil {
					require.NoError(t, err)
				}
				require.Equal(t, int64(len(file)), d.Size())
				assert.Equal(t, 180, d.Geometry(r).Rotate)
			}
			pdftest.Check(t, file)
			tail := string(file[len(data):])
			assert.Equal(t, name == "stream" || name == "kept" || name == "linearized" && !strings.Contains(string(data), "\nxref\n"),
				strings.Contains(tail, "/Type/XRef"), "own kind of cross-reference data")

			cold := pdftest.Open(t, file)
			assert.Equal(t, 180, cold.Geometry(pdftest.Refs(t, cold)[0]).Rotate)
			assert.Equal(t, pdftest.Whole(t, d), pdftest.Whole(t, cold), "read warm or cold, it is the same document")
		})
	}
}

// Unknown keys and private data survive a full write; what can't be reached does not.
func TestFullWrite(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R/PieceInfo<</Acme<</LastModified(D:2026)/Private 6 0 R>>>>/Odd[1.50 null 7 0 R]>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 10 10]/Contents 4 0 R/Mine(kept)>>")
	f.Add("%s", pdftest.Stream("/Extra/Yes", "q Q"))
	f.Add("(nobody refers to me: SECRET)")
	f.Add("<</Deep<</Deeper[<</Value 42>>]>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 8 0 R/MediaBox[0 0 10 10]>>") // a page outside the tree
	f.Add("%s", pdftest.Stream("", "BT (STRAY) Tj ET"))
	d := pdftest.Open(t, f.Bytes())
	for _, keep := range []bool{false, true} {
		var b bytes.Buffer
		require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{KeepNumbers: keep}))
		var b2 bytes.Buffer
		require.NoError(t, d.WriteFull(t.Context(), &b2, pdf.FullOptions{KeepNumbers: keep}))
		assert.Equal(t, b.Bytes(), b2.Bytes(), "the same document gives the same bytes")
		plain := qpdf(t, b.Bytes(), "--qdf", "--object-streams=disable")
		assert.Contains(t, plain, "/Extra /Yes")
		assert.Contains(t, plain, "/Value 42")
		assert.Contains(t, plain, "(kept)")
		assert.NotContains(t, plain, "SECRET")
		assert.NotContains(t, plain, "STRAY")
		assert.Equal(t, 1, strings.Count(plain, "/Type /Page\n"))
		w := pdftest.Open(t, b.Bytes())
		assert.Equal(t, keep, pdftest.Refs(t, w)[0] == pdf.Ref{Num: 3})
	}
}

func TestFullWriteBalancesTheTree(t *testing.T) {
	d := pdftest.Open(t, pdftest.Whole(t, pdftest.Open(t, pdftest.Text(300))))
	var widest, leaves int
	var walk func(o pdf.Object) int
	walk = func(o pdf.Object) int {
		n := d.Dict(o)
		kids := d.Array(n.Get("Kids"))
		if kids == nil {
			leaves++
			return 1
		}
		widest = max(widest, len(kids))
		sum := 0
		for _, k := range kids {
			sum += walk(k)
			assert.Equal(t, o, d.Dict(k).Get("Parent"))
		}
		assert.Equal(t, pdf.Integer(sum), n.Get("Count"))
		return sum
	}
	walk(d.Catalog().Get("Pages"))
	assert.Equal(t, 300, leaves)
	assert.LessOrEqual(t, widest, 64)
}

func TestPageTree(t *testing.T) {
	data := pdftest.Text(17)
	d := pdftest.Open(t, data).Fork()
	refs := pdftest.Refs(t, d)
	require.NoError(t, d.DetachPages([]pdf.Ref{refs[2], refs[16]}))
	require.NoError(t, d.InsertPages(0, []pdf.Ref{refs[16], refs[2]}))
	require.NoError(t, d.RemovePages([]pdf.Ref{refs[5], refs[6], refs[7], refs[8], refs[9]})) // a whole node
	up, err := d.Update([16]byte{})
	require.NoError(t, err)
	file := append(bytes.Clone(data), up...)
	pdftest.Check(t, file)
	want := []string{"Page 17", "Page 3", "Page 1", "Page 2", "Page 4", "Page 5", "Page 11", "Page 12", "Page 13", "Page 14", "Page 15", "Page 16"}
	assert.Equal(t, want, pdftest.PageTexts(t, file))
	cold := pdftest.Open(t, file)
	assert.Equal(t, pdftest.Refs(t, d), pdftest.Refs(t, cold))
	assert.Equal(t, 595.0, cold.Geometry(refs[16]).Visible.W(), "what was inherited came along")
	assert.ErrorIs(t, d.RemovePages(pdftest.Refs(t, d)), pdf.ErrUnsupported)
}

func TestSharedPages(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 3 0 R 3 0 R]/Count 4/MediaBox[0 0 100 100]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Rotate 90>>")
	f.Add("<</Type/Page/Parent 2 0 R>>")
	d := pdftest.Open(t, f.Bytes()).Fork()
	n, err := d.SplitSharedPages()
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	refs := pdftest.Refs(t, d)
	require.Len(t, refs, 4)
	assert.Len(t, map[pdf.Ref]bool{refs[0]: true, refs[1]: true, refs[2]: true, refs[3]: true}, 4)
	assert.Equal(t, []int{90, 0, 90, 90}, []int{d.Geometry(refs[0]).Rotate, d.Geometry(refs[1]).Rotate, d.Geometry(refs[2]).Rotate, d.Geometry(refs[3]).Rotate})
	pdftest.Check(t, pdftest.Whole(t, d))
}

func TestRefusals(t *testing.T) {
	text := pdftest.Text(2)
	locked := []byte(qpdf(t, text, "--encrypt", "user", "owner", "256", "--"))
	for _, c := range []struct {
		name string
		data []byte
		kind error
	}{
		{"empty", nil, pdf.ErrNotPDF},
		{"text", []byte("Minutes of the meeting\n"), pdf.ErrNotPDF},
		{"binary", []byte{0, 1, 2, 3, 0xff}, pdf.ErrNotPDF},
		{"no end", text[:len(text)/2], pdf.ErrDamaged},
		{"header only", []byte("%PDF-1.7\n"), pdf.ErrDamaged},
		{"locked", locked, pdf.ErrLocked},
	} {
		_, err := pdf.Open(bytes.NewReader(c.data), int64(len(c.data)))
		var e *pdf.Error
		require.ErrorAs(t, err, &e, c.name)
		assert.ErrorIs(t, err, c.kind, c.name)
		assert.NotEmpty(t, e.Sentence)
	}
	circle := &pdftest.File{}
	circle.Add("<</Type/Catalog/Pages 2 0 R>>")
	circle.Add("<</Type/Pages/Kids[2 0 R]/Count 1>>")
	_, err := pdftest.Open(t, circle.Bytes()).Pages()
	assert.ErrorIs(t, err, pdf.ErrDamaged)
}

func FuzzOpen(f *testing.F) {
	f.Add(pdftest.Text(3))
	f.Add(hybrid())
	f.Fuzz(func(t *testing.T, data []byte) {
		start := time.Now()
		defer func() {
			if took := time.Since(start); took > 5*time.Second {
				t.Fatalf("took %v", took)
			}
		}()
		d, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return
		}
		if _, err := d.Pages(); err != nil {
			return
		}
		var b bytes.Buffer
		_ = d.WriteFull(t.Context(), &b, pdf.FullOptions{})
	})
}
