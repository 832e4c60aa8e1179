package pdf_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// damage breaks a sound file in one way.
func damages() map[string]func(string) string {
	startxref := regexp.MustCompile(`startxref\n\d+`)
	entry := regexp.MustCompile(`(\d{10}) 00000 n`)
	return map[string]func(string) string{
		"no header":                 func(s string) string { return strings.Replace(s, "%PDF-1.4", "%XXX-1.4", 1) },
		"garbage before the header": func(s string) string { return strings.Repeat("garbage \x00\x01", 300) + s },
		"wrong startxref":           func(s string) string { return startxref.ReplaceAllString(s, "startxref\n17") },
		"startxref past the end":    func(s string) string { return startxref.ReplaceAllString(s, "startxref\n99999999") },
		"no startxref":              func(s string) string { return s[:strings.LastIndex(s, "startxref")] },
		"truncated end":             func(s string) string { return s[:strings.LastIndex(s, "\nxref\n")] },
		"no trailer":                func(s string) string { return strings.Replace(s, "trailer", "       ", 1) },
		"all offsets shifted": func(s string) string {
			return entry.ReplaceAllStringFunc(s, func(e string) string {
				var n int
				_, _ = fmt.Sscanf(e, "%d", &n)
				return fmt.Sprintf("%010d 00000 n", n+7)
			})
		},
		"one offset wrong": func(s string) string {
			all := entry.FindAllStringIndex(s, -1)
			i := all[len(all)-2]
			return s[:i[0]] + "0000000099" + s[i[0]+10:]
		},
		"missing endobj":   func(s string) string { return strings.ReplaceAll(s, "endobj", "      ") },
		"wrong lengths":    func(s string) string { return regexp.MustCompile(`/Length \d\d`).ReplaceAllString(s, "/Length 03") },
		"lines end in CR":  func(s string) string { return strings.ReplaceAll(s, "\n", "\r") },
		"CRLF for each LF": func(s string) string { return strings.ReplaceAll(s, "\n", "\r\n") },
		"page tree in ring": func(s string) string {
			return strings.Replace(s, "/Type/Pages/Parent 2 0 R/Kids[", "/Type/Pages/Parent 2 0 R/Kids[2 0 R ", 1)
		},
		"wrong counts": func(s string) string { return regexp.MustCompile(`/Count \d`).ReplaceAllString(s, "/Count 7") },
		"no types": func(s string) string {
			return strings.ReplaceAll(strings.ReplaceAll(s, "/Type/Pages", "/Tipe/Pages"), "/Type/Page/", "/Tipe/Page/")
		},
		"wrong parents": func(s string) string {
			return regexp.MustCompile(`/Type/Page/Parent \d`).ReplaceAllString(s, "/Type/Page/Parent 1")
		},
		"null kids": func(s string) string { return strings.Replace(s, "/Kids[7 0 R", "/Kids[null 7 0 R 999 0 R", 1) },
	}
}

// mended opens a file as arrival does.
func mended(t *testing.T, data []byte) (*pdf.Document, []string) {
	t.Helper()
	d, wrong, err := pdf.OpenMended(t.Context(), bytes.NewReader(data), int64(len(data)), "")
	require.NoError(t, err)
	return d, wrong
}

func TestRepair(t *testing.T) {
	want := []string{"Page 1", "Page 2", "Page 3", "Page 4", "Page 5", "Page 6", "Page 7"}
	for name, damage := range damages() {
		t.Run(name, func(t *testing.T) {
			data := []byte(damage(string(pdftest.Text(7))))
			d, wrong := mended(t, data)
			harmless := name == "missing endobj" || name == "wrong lengths" || name == "lines end in CR"
			assert.Equal(t, harmless, len(wrong) == 0, "%v", wrong)
			var b bytes.Buffer
			require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{KeepNumbers: true}))
			pdftest.Check(t, b.Bytes())
			assert.Equal(t, want, pdftest.PageTexts(t, b.Bytes()))
			again, wrong := mended(t, b.Bytes())
			assert.Empty(t, wrong, "the working copy is sound")
			assert.Len(t, pdftest.Refs(t, again), 7)
		})
	}
}

// Objects in object streams are found too, and those of the newest update count.
func TestRepairStreams(t *testing.T) {
	whole := pdftest.Whole(t, pdftest.Open(t, pdftest.Text(9)))
	cut := whole[:bytes.LastIndex(whole, []byte("/XRef"))-20]
	d, wrong := mended(t, cut)
	assert.NotEmpty(t, wrong)
	assert.Equal(t, "Page 9", pdftest.PageTexts(t, pdftest.Whole(t, d))[8])

	base := pdftest.Text(3)
	f := pdftest.Open(t, base).Fork()
	f.Edit(pdftest.Refs(t, f)[0]).Set("Rotate", pdf.Integer(180))
	up, err := f.Update([16]byte{})
	require.NoError(t, err)
	both := append(bytes.Clone(base), up...)
	d, _ = mended(t, both[:bytes.LastIndex(both, []byte("xref"))-10])
	assert.Equal(t, 180, d.Geometry(pdftest.Refs(t, d)[0]).Rotate)
}

// Pages of which the catalog is lost get a new one, and it is said what went with the old.
func TestLostCatalog(t *testing.T) {
	data := regexp.MustCompile(`(?s)\n1 0 obj.*?endobj`).ReplaceAllLiteral(pdftest.Text(3), nil)
	d, wrong := mended(t, data)
	assert.Contains(t, wrong, "its catalog was lost, with bookmarks and everything else outside the pages")
	assert.Equal(t, []string{"Page 1", "Page 2", "Page 3"}, pdftest.PageTexts(t, pdftest.Whole(t, d)))
}

// A sound file is not called damaged.
func TestNothingWrong(t *testing.T) {
	for name, data := range variants(t) {
		d, wrong := mended(t, data)
		assert.Empty(t, wrong, name)
		assert.Empty(t, d.Changed(), name)
	}
}

func TestBeyondRepair(t *testing.T) {
	for _, data := range []string{"%PDF-1.4\n", "%PDF-1.4\n1 0 obj\n<</Type/Catalog>>\nendobj\n", "%PDF-1.4 " + strings.Repeat("1 0 obj ", 5000), "nothing at all"} {
		_, _, err := pdf.Repair(t.Context(), strings.NewReader(data), int64(len(data)), "")
		var e *pdf.Error
		require.ErrorAs(t, err, &e, data[:min(len(data), 40)])
	}
}

func FuzzRepair(f *testing.F) {
	f.Add(pdftest.Text(3))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, _, err := pdf.Repair(t.Context(), bytes.NewReader(data), int64(len(data)), "")
		if err == nil {
			_ = d.WriteFull(t.Context(), &bytes.Buffer{}, pdf.FullOptions{KeepNumbers: true})
		}
	})
}

// Bytes struck out, doubled and swapped at random: every file is opened, mended or refused
// in words, and what opens can be written anew.
func TestBatteredFiles(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 25))
	plain := pdftest.Text(8)
	sorts := [][]byte{plain, pdftest.Whole(t, pdftest.Open(t, plain)), hybrid(), []byte(qpdf(t, plain, "--linearize"))}
	opened := 0
	const tries = 800
	for i := range tries {
		data := bytes.Clone(sorts[i%len(sorts)])
		for range 1 + r.IntN(6) {
			at, n := r.IntN(len(data)), 1+r.IntN(40)
			end := min(at+n, len(data))
			switch r.IntN(4) {
			case 0:
				data = append(data[:at:at], data[end:]...)
			case 1:
				data = append(data[:end:end], data[at:]...)
			case 2:
				for j := at; j < end; j++ {
					data[j] = byte(r.IntN(256))
				}
			default:
				data[at] ^= 1 << r.IntN(8)
			}
			if len(data) == 0 {
				break
			}
		}
		start := time.Now()
		d, _, _, err := pdf.OpenVerified(t.Context(), bytes.NewReader(data), int64(len(data)), "")
		if err == nil {
			opened++
			var b bytes.Buffer
			err = d.WriteFull(t.Context(), &b, pdf.FullOptions{KeepNumbers: true})
			if err == nil {
				_, _, err = pdf.OpenMended(t.Context(), bytes.NewReader(b.Bytes()), int64(b.Len()), "")
				require.NoError(t, err, "try %d: what was written reads back", i)
			}
		}
		var e *pdf.Error
		if err != nil {
			require.ErrorAs(t, err, &e, "try %d", i)
		}
		require.Less(t, time.Since(start), 10*time.Second)
	}
	t.Log(opened, tries)
	assert.Greater(t, opened, tries*85/100, "most of them can be mended")
}
