package pdf_test

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"io"
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

// Each limit has an error of its own, which says in a sentence what is the matter.
func TestLimits(t *testing.T) {
	bomb := pdf.Deflate(pdf.Deflate(make([]byte, 64<<20)))
	twice := pdf.NewDict("Filter", pdf.Array{pdf.Name("FlateDecode"), pdf.Name("FlateDecode")})
	_, _, err := pdf.New().Decode(pdf.NewStream(twice, bomb))
	assert.ErrorIs(t, err, pdf.ErrTooDense)

	once := pdf.NewDict("Filter", pdf.Name("FlateDecode"))
	data, _, err := pdf.New().Decode(pdf.NewStream(once, pdf.Deflate(make([]byte, 30<<20)))) // a blank scan
	require.NoError(t, err)
	assert.Len(t, data, 30<<20)

	var many pdf.Array
	for range pdf.MaxFilters + 1 {
		many = append(many, pdf.Name("ASCIIHexDecode"))
	}
	_, _, err = pdf.New().Decode(pdf.NewStream(pdf.NewDict("Filter", many), nil))
	assert.ErrorIs(t, err, pdf.ErrTooDense)

	_, err = (&pdf.Lexer{Data: []byte(strings.Repeat("[", 5000))}).Next()
	assert.ErrorIs(t, err, pdf.ErrTooDeep)

	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	for i := range pdf.MaxDepth + 10 {
		f.Add("<</Type/Pages/Kids[%d 0 R]/Count 1>>", i+3)
	}
	f.Add("<</Type/Page/MediaBox[0 0 9 9]>>")
	_, err = pdftest.Open(t, f.Bytes()).Pages()
	assert.ErrorIs(t, err, pdf.ErrTooDeep)
	for _, e := range []error{pdf.ErrTooDeep, pdf.ErrTooManyPages, pdf.ErrTooManySections, pdf.ErrTooLarge, pdf.ErrTooDense, pdf.ErrTooMuch, pdf.ErrTooManyPixels, pdf.ErrTooLong} {
		assert.ErrorIs(t, e, pdf.ErrLimit)
	}
}

// What lies about its size or runs in circles is over quickly, and takes little.
func TestHostile(t *testing.T) {
	text := string(pdftest.Text(3))
	loop := &pdftest.File{}
	loop.Add("<</Type/Catalog/Pages 2 0 R>>")
	loop.Add("<</Type/Pages/Kids[3 0 R 3 0 R 3 0 R]/Count 100000000>>")
	loop.Add("<</Type/Pages/Kids[2 0 R 2 0 R 3 0 R]/Parent 2 0 R/Count 100000000>>")
	for name, data := range map[string]string{
		"a count of 100 million": strings.ReplaceAll(text, "/Count 3", "/Count 100000000"),
		"a size of 8 million":    strings.Replace(text, "/Size ", "/Size 838860", 1),
		"nodes in circles":       string(loop.Bytes()),
		"updates in a circle":    strings.Replace(text, "/Size", "/Prev 0000000009/Size", 1),
		"a length of itself":     strings.Replace(text, "/Length ", "/Length 4 0 R/L ", 1),
		"a length past the end":  strings.Replace(text, "/Length ", "/Length 99999999", 1),
		"many objects in a row":  text + strings.Repeat("1 0 obj [", 100_000),
		"a thousand trailers":    text + strings.Repeat("trailer <</Root 1 0 R/Prev 15>>\n", 1000),
		"a table of 8 million":   strings.Replace(text, "xref\n0 ", "xref\n0 838860", 1),
	} {
		t.Run(name, func(t *testing.T) {
			start := time.Now()
			d, _, err := pdf.OpenMended(t.Context(), strings.NewReader(data), int64(len(data)), "")
			if err == nil {
				err = d.WriteFull(t.Context(), io.Discard, pdf.FullOptions{})
			}
			var said *pdf.Error
			if err != nil {
				assert.ErrorAs(t, err, &said)
			}
			assert.Less(t, time.Since(start), 10*time.Second)
		})
	}
}

// seed adds small real files, where the environment names a folder of such.
func seed(f *testing.F) {
	for _, n := range []int{1, 5} {
		f.Add(pdftest.Text(n))
	}
	f.Add(secret())
	dir := os.Getenv("GLENRAIN_PAPERS")
	if dir == "" {
		return
	}
	err := filepath.Walk(dir, func(path string, info os.FileInfo, err error) error {
		if err != nil || info.Size() > 30_000 || filepath.Ext(path) != ".pdf" {
			return err
		}
		data, err := os.ReadFile(path)
		f.Add(data)
		return err
	})
	if err != nil {
		f.Fatal(err)
	}
}

// FuzzOpenAndWrite brings a file in and writes it anew, as arrival and hand-out do: what was written is sound.
func FuzzOpenAndWrite(f *testing.F) {
	seed(f)
	f.Fuzz(func(t *testing.T, data []byte) {
		d, _, err := pdf.OpenMended(t.Context(), bytes.NewReader(data), int64(len(data)), "")
		if err != nil {
			return
		}
		pages, err := d.Pages()
		if err != nil {
			return
		}
		var b bytes.Buffer
		if d.WriteFull(t.Context(), &b, pdf.FullOptions{}) != nil {
			return
		}
		again, err := pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
		if err != nil {
			t.Fatalf("what was written can't be read: %v", err)
		}
		if got, err := again.Pages(); err != nil || len(got) != len(pages) {
			t.Fatalf("%d pages were written, %d read: %v", len(pages), len(got), err)
		}
	})
}

// FuzzLexer reads objects until none is left: what is read, written and read again is the same.
func FuzzLexer(f *testing.F) {
	f.Add([]byte("<</A[1 -2.5(x\\051\\n)<48 69>/N#20x true null 3 0 R]>> BT 0.1 +.5 --3 endobj"))
	f.Add([]byte("% note\r[(\\\r\n((a)b))]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		l := &pdf.Lexer{Data: data, Refs: true}
		for l.Pos < len(data) {
			before := l.Pos
			o, err := l.Next()
			if err != nil {
				return
			}
			if l.Pos <= before {
				t.Fatalf("no way forward at %d", before)
			}
			if _, word := o.(pdf.Keyword); word {
				continue
			}
			once := pdf.AppendObject(nil, o)
			again, err := (&pdf.Lexer{Data: once, Refs: true}).Next()
			if ref, ok := o.(pdf.Ref); ok {
				again, err = ref, nil // a bare reference is read as numbers
			}
			if err != nil {
				t.Fatalf("%q can't be read: %v", once, err)
			}
			if twice := pdf.AppendObject(nil, again); !bytes.Equal(once, twice) {
				t.Fatalf("%q became %q", once, twice)
			}
		}
	})
}

// FuzzXRef puts any cross-reference data before a sound file's objects.
func FuzzXRef(f *testing.F) {
	text := pdftest.Text(2)
	at := bytes.LastIndex(text, []byte("\nxref\n")) + 1
	f.Add(text[at:])
	f.Add([]byte("9 0 obj <</Type/XRef/W[1 2 1]/Index[0 3]/Size 3/Root 1 0 R/Length 12>> stream\n0123456789ab\nendstream endobj\nstartxref\n0\n%%EOF"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file := append(append(bytes.Clone(text[:at]), data...), fmt.Sprintf("\nstartxref\n%d\n%%%%EOF", at)...)
		if d, err := pdf.Open(bytes.NewReader(file), int64(len(file))); err == nil {
			_, _ = d.Pages()
			for i := range min(d.Objects(), 2000) {
				_, _ = d.Load(pdf.Ref{Num: i})
			}
		}
	})
}

// FuzzObjectStream makes any bytes the content of an object stream.
func FuzzObjectStream(f *testing.F) {
	f.Add([]byte("5 0 6 20 <</Type/Page>> [1 2 3]"), 9, 2)
	f.Add([]byte("5 0 5 0 5 0"), 11, 3)
	f.Fuzz(func(t *testing.T, data []byte, first, n int) {
		var b bytes.Buffer
		b.WriteString("%PDF-1.5\n")
		at := b.Len()
		fmt.Fprintf(&b, "4 0 obj <</Type/ObjStm/N %d/First %d/Length %d>> stream\n%s\nendstream endobj\n", n, first, len(data), data)
		x := b.Len()
		rows := []byte{0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 2, 0, 0, 0, 3, 0, 0, 0, 4, 0, 0, 0, 0, 0, 0, 0}
		for i := range 4 {
			copy(rows[5*(i+1):], []byte{2, 0, 0, 4, byte(i)})
		}
		copy(rows[20:], []byte{1, 0, 0, byte(at), 0})
		copy(rows[25:], []byte{2, 0, 0, 4, 0})
		fmt.Fprintf(&b, "9 0 obj <</Type/XRef/W[1 3 1]/Size 6/Root 5 0 R/Length %d>> stream\n%s\nendstream endobj\nstartxref\n%d\n%%%%EOF", len(rows), rows, x)
		d, err := pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
		if err != nil {
			return
		}
		for i := range 6 {
			_, _ = d.Load(pdf.Ref{Num: i})
		}
		_ = d.WriteFull(t.Context(), io.Discard, pdf.FullOptions{})
	})
}

// FuzzFilters undoes any chain of filters with any parameters.
func FuzzFilters(f *testing.F) {
	f.Add([]byte("<</Filter/FlateDecode/DecodeParms<</Predictor 12/Columns 4>>>>"), pdf.Deflate([]byte("\x02abcd\x02efgh")))
	f.Add([]byte("<</Filter[/ASCII85Decode/LZWDecode]>>"), []byte("J..)6T`?p&<!J9%_[umg\"B7/Z7KNXbN'S+,*Q/&\"OLT'F~>"))
	f.Add([]byte("<</Filter[/AHx/RL]/DP[null null]>>"), []byte("02414243fe5a80>"))
	f.Fuzz(func(t *testing.T, dict, data []byte) {
		o, err := (&pdf.Lexer{Data: dict}).Next()
		d, ok := o.(*pdf.Dict)
		if err != nil || !ok {
			return
		}
		out, _, err := pdf.New().Decode(pdf.NewStream(d, data))
		if err == nil && len(out) > pdf.MaxInflated {
			t.Fatal("more than the limit")
		}
	})
}

// FuzzDecrypt opens a file whose encryption dictionary is any.
func FuzzDecrypt(f *testing.F) {
	d := pdftest.Open(f, secret())
	var b bytes.Buffer
	if err := d.WriteFull(f.Context(), &b, pdf.FullOptions{Protect: &pdf.Protection{User: "", Owner: "o", Rand: rand.Reader}}); err != nil {
		f.Fatal(err)
	}
	locked, err := pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		f.Fatal(err)
	}
	kept, _ := locked.Kept()
	f.Add([]byte(kept.Dict), "")
	f.Add([]byte("<</Filter/Standard/V 4/R 4/P -4/StmF/A/StrF/A/CF<</A<</CFM/AESV2>>>>/O(x)/U(y)>>"), "u")
	f.Add([]byte("<</Filter/Standard/V 1/R 2/P -4/O(x)/U(y)/EFF/Identity>>"), "u")
	f.Fuzz(func(t *testing.T, dict []byte, password string) {
		data := bytes.Replace(secret(), []byte("trailer\n<<"), append([]byte("trailer\n<</Encrypt "), dict...), 1)
		d, err := pdf.OpenLocked(bytes.NewReader(data), int64(len(data)), password)
		if err != nil {
			return
		}
		_ = d.WriteFull(t.Context(), io.Discard, pdf.FullOptions{})
		if kept, ok := d.Kept(); ok {
			_ = d.WriteFull(t.Context(), io.Discard, pdf.FullOptions{Protect: &pdf.Protection{Again: &kept, Rand: rand.Reader}})
		}
	})
}
