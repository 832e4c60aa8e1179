package pdf_test

import (
	"bytes"
	"crypto/rand"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// secret is a file with text, a document information string and clear metadata.
func secret() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Metadata 5 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 300 300]/Resources<</Font<</F 6 0 R>>>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 4 0 R/Note(low water: 0.4 m)>>")
	f.Add("%s", pdftest.Stream("", "BT /F 20 Tf 30 100 Td (NORTHFACE) Tj ET"))
	f.Add("%s", pdftest.Stream("/Type/Metadata/Subtype/XML", "<x:xmpmeta xmlns:x='adobe:ns:meta/'>HARBOURMETA</x:xmpmeta>"))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	return f.Bytes()
}

func TestEveryRevision(t *testing.T) {
	const user, owner = "ebb und flüt", "größer geheim"
	for name, args := range map[string][]string{
		"R2 40-bit RC4":           {"--allow-weak-crypto", "--encrypt", user, owner, "40", "--print=n", "--"},
		"R3 128-bit RC4":          {"--allow-weak-crypto", "--encrypt", user, owner, "128", "--use-aes=n", "--modify=none", "--"},
		"R4 128-bit AES":          {"--allow-weak-crypto", "--encrypt", user, owner, "128", "--use-aes=y", "--modify=none", "--"},
		"R4 with clear metadata":  {"--allow-weak-crypto", "--encrypt", user, owner, "128", "--force-V4", "--cleartext-metadata", "--"},
		"R5 256-bit AES":          {"--allow-weak-crypto", "--encrypt", user, owner, "256", "--force-R5", "--"},
		"R6 256-bit AES":          {"--encrypt", user, owner, "256", "--modify=none", "--"},
		"R6, object streams":      {"--object-streams=generate", "--encrypt", user, owner, "256", "--cleartext-metadata", "--"},
		"R6, empty user password": {"--encrypt", "", owner, "256", "--"},
	} {
		t.Run(name, func(t *testing.T) {
			locked := []byte(qpdf(t, secret(), args...))
			assert.NotContains(t, string(locked), "NORTHFACE")
			open := func(pw string) (*pdf.Document, error) {
				return pdf.OpenLocked(bytes.NewReader(locked), int64(len(locked)), pw)
			}
			passwords := map[string]bool{user: false, owner: true}
			if args[0] == "--encrypt" && args[1] == "" {
				passwords = map[string]bool{"": false, owner: true}
			} else {
				_, err := open("")
				require.ErrorIs(t, err, pdf.ErrLocked)
				_, err = open("wrong")
				require.ErrorIs(t, err, pdf.ErrLocked)
			}
			for pw, isOwner := range passwords {
				d, err := open(pw)
				require.NoError(t, err, "password %q", pw)
				e := d.Encryption()
				require.NotNil(t, e)
				assert.Equal(t, isOwner, e.Owner)
				assert.Equal(t, int(name[1]-'0'), e.Revision)
				assert.True(t, isOwner || e.Allows(pdf.PermitModify) == !bytes.Contains([]byte(name+"|"+join(args)), []byte("--modify=none")))
				page := d.Dict(pdftest.Refs(t, d)[0])
				assert.Equal(t, pdf.String("low water: 0.4 m"), page.Get("Note"))
				for _, keep := range []bool{true, false} {
					var b bytes.Buffer
					require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{KeepNumbers: keep}))
					pdftest.Check(t, b.Bytes())
					assert.Equal(t, []string{"NORTHFACE"}, pdftest.PageTexts(t, b.Bytes()))
					plain := pdftest.Tool(t, b.Bytes(), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
					assert.Contains(t, plain, "HARBOURMETA")
					assert.Contains(t, plain, "(low water: 0.4 m)")
					assert.NotContains(t, plain, "/Encrypt")
				}
				again(t, d, user, owner, args)
				_, err = d.Fork().Update([16]byte{})
				assert.Error(t, err, "a locked file is never updated in place")
			}
		})
	}
}

func join(a []string) (s string) {
	for _, v := range a {
		s += v + " "
	}
	return
}

// again locks what was opened with one password just as it came: other programs open it with both.
func again(t *testing.T, d *pdf.Document, user, owner string, args []string) {
	t.Helper()
	kept, ok := d.Kept()
	require.True(t, ok)
	kept.Key, kept.ID = slices.Clone(kept.Key), slices.Clone(kept.ID)
	var work, b bytes.Buffer
	require.NoError(t, d.WriteFull(t.Context(), &work, pdf.FullOptions{KeepNumbers: true}))
	copied := pdftest.Open(t, work.Bytes()) // as a stored working copy, which is not locked
	require.NoError(t, copied.WriteFull(t.Context(), &b, pdf.FullOptions{Protect: &pdf.Protection{Again: &kept, Rand: rand.Reader}}))
	assert.NotContains(t, b.String(), "NORTHFACE")
	assert.Equal(t, slices.Contains(args, "--cleartext-metadata"), strings.Contains(b.String(), "HARBOURMETA"))
	if slices.Contains(args, "") {
		user = ""
	}
	before := ""
	for _, pw := range []string{user, owner} {
		pdftest.Tool(t, b.Bytes(), "qpdf", "--check", "--password="+pw, "FILE")
		plain := pdftest.Tool(t, b.Bytes(), "qpdf", "--qdf", "--object-streams=disable", "--decrypt", "--password="+pw, "FILE", "-")
		assert.Contains(t, plain, "HARBOURMETA")
		assert.Contains(t, plain, "(low water: 0.4 m)")
		typed := user
		if d.Encryption().Revision < 5 { // poppler takes the bytes as they are
			typed = strings.ReplaceAll(user, "ü", "\xfc")
		}
		assert.Contains(t, pdftest.Tool(t, b.Bytes(), "pdftotext", "-upw", typed, "FILE", "-"), "NORTHFACE")
		said := pdftest.Tool(t, b.Bytes(), "qpdf", "--show-encryption", "--password="+owner, "FILE")
		assert.Equal(t, strings.Contains(join(args), "--modify=none"), strings.Contains(said, "modify other: not allowed"))
		if before == "" {
			before = said
		}
		assert.Equal(t, before, said)
	}
}

// A file in which only what is attached is locked opens without its password; the attached file does not.
func TestOnlyAttachmentsLocked(t *testing.T) {
	f := &pdftest.File{Version: "2.0"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Names<</EmbeddedFiles<</Names[(soundings)5 0 R]>>>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 300 300]/Resources<</Font<</F 7 0 R>>>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 4 0 R>>")
	f.Add("%s", pdftest.Stream("", "BT /F 20 Tf 30 100 Td (NORTHFACE) Tj ET"))
	f.Add("<</Type/Filespec/F(soundings)/UF(soundings)/EF<</F 6 0 R>>>>")
	f.Add("%s", pdftest.Stream("/Type/EmbeddedFile", "DEPTHS 4.1 4.3"))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	locked := []byte(qpdf(t, f.Bytes(), "--compress-streams=n", "--encrypt", "ebb", "flow", "256", "--"))
	d, err := pdf.OpenLocked(bytes.NewReader(locked), int64(len(locked)), "ebb")
	require.NoError(t, err)
	kept, ok := d.Kept()
	require.True(t, ok)
	kept.Dict = strings.NewReplacer("/StmF/StdCF", "/StmF/Identity", "/StrF/StdCF", "/StrF/Identity/EFF/StdCF").Replace(kept.Dict)
	require.Contains(t, kept.Dict, "/EFF")
	var b bytes.Buffer
	require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{Protect: &pdf.Protection{Again: &kept, Rand: rand.Reader}}))
	assert.NotContains(t, b.String(), "DEPTHS")
	assert.Contains(t, b.String(), "NORTHFACE")
	for _, pw := range []string{"ebb", "flow"} {
		said := pdftest.Tool(t, b.Bytes(), "qpdf", "--show-encryption", "--password="+pw, "FILE")
		assert.Contains(t, said, "stream encryption method: none")
		assert.Contains(t, said, "file encryption method: AESv3")
	}

	open, err := pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	assert.True(t, open.FilesLocked())
	_, ok = open.Kept()
	assert.False(t, ok)
	file := func(d *pdf.Document) *pdf.Stream {
		spec := d.Dict(d.Array(d.Dict(d.Dict(d.Catalog().Get("Names")).Get("EmbeddedFiles")).Get("Names"))[1])
		return d.Stream(d.Dict(spec.Get("EF")).Get("F"))
	}
	data, _, err := open.Decode(open.Stream(open.Dict(pdftest.Refs(t, open)[0]).Get("Contents")))
	require.NoError(t, err)
	assert.Contains(t, string(data), "NORTHFACE")
	_, err = file(open).Raw()
	assert.ErrorIs(t, err, pdf.ErrLocked)
	assert.ErrorIs(t, open.WriteFull(t.Context(), io.Discard, pdf.FullOptions{}), pdf.ErrLocked, "it can't be written without its attached file")

	_, err = pdf.OpenLocked(bytes.NewReader(b.Bytes()), int64(b.Len()), "wrong")
	assert.ErrorIs(t, err, pdf.ErrLocked)
	whole, err := pdf.OpenLocked(bytes.NewReader(b.Bytes()), int64(b.Len()), "ebb")
	require.NoError(t, err)
	data, err = file(whole).Raw()
	require.NoError(t, err)
	assert.Equal(t, "DEPTHS 4.1 4.3", string(data))
}

// What we lock opens in other programs with either password, and with no other; permissions read back.
func TestProtect(t *testing.T) {
	const user, owner = "ebb und flüt", "größer geheim"
	d := pdftest.Open(t, secret())
	for _, permit := range []int32{0, pdf.PermitPrint | pdf.PermitFill, pdf.PermitModify | pdf.PermitCopy | pdf.PermitAssemble} {
		var b bytes.Buffer
		require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{Protect: &pdf.Protection{User: user, Owner: owner, Permissions: permit, Rand: rand.Reader}}))
		for _, clear := range []string{"NORTHFACE", "HARBOURMETA", "low water", "/Helvetica"} {
			assert.NotContains(t, b.String(), clear)
		}
		for _, pw := range []string{user, owner} {
			pdftest.Tool(t, b.Bytes(), "qpdf", "--check", "--password="+pw, "FILE")
			plain := pdftest.Tool(t, b.Bytes(), "qpdf", "--qdf", "--object-streams=disable", "--decrypt", "--password="+pw, "FILE", "-")
			assert.Contains(t, plain, "HARBOURMETA")
			assert.Contains(t, plain, "(low water: 0.4 m)")
			mine, err := pdf.OpenLocked(bytes.NewReader(b.Bytes()), int64(b.Len()), pw)
			require.NoError(t, err)
			assert.Equal(t, pw == owner, mine.Encryption().Owner)
			// Unlocked again, it is the same document, but for the version in the first line.
			_, was, _ := strings.Cut(string(pdftest.Whole(t, d)), "\n")
			_, is, _ := strings.Cut(string(pdftest.Whole(t, mine)), "\n")
			assert.True(t, was == is)
		}
		assert.Contains(t, pdftest.Tool(t, b.Bytes(), "pdftotext", "-upw", user, "FILE", "-"), "NORTHFACE")
		said := pdftest.Tool(t, b.Bytes(), "qpdf", "--show-encryption", "--password="+user, "FILE")
		yes := func(what string, bit int32) {
			t.Helper()
			assert.Equal(t, permit&bit != 0, strings.Contains(said, what+": allowed"), said)
		}
		yes("extract for any purpose", pdf.PermitCopy)
		yes("print low resolution", pdf.PermitPrint)
		yes("modify document assembly", pdf.PermitAssemble)
		yes("modify forms", pdf.PermitFill)
		yes("modify other", pdf.PermitModify)
		_, err := pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
		assert.ErrorIs(t, err, pdf.ErrLocked)
	}
	for _, p := range []pdf.Protection{{User: "a"}, {User: "a", Owner: "a"}} {
		p.Rand = rand.Reader
		assert.Error(t, d.WriteFull(t.Context(), io.Discard, pdf.FullOptions{Protect: &p}))
	}
}

// The hash of revision 6 runs a number of rounds that depends on what it hashes: many salts are tried.
func TestManySalts(t *testing.T) {
	for range 12 {
		locked := []byte(qpdf(t, secret(), "--encrypt", "u", "o", "256", "--"))
		for _, pw := range []string{"u", "o"} {
			d, err := pdf.OpenLocked(bytes.NewReader(locked), int64(len(locked)), pw)
			require.NoError(t, err)
			data, _, err := d.Decode(d.Stream(d.Dict(pdftest.Refs(t, d)[0]).Get("Contents")))
			require.NoError(t, err)
			require.Contains(t, string(data), "NORTHFACE")
		}
	}
}

// Pages of a locked file can be copied into another.
func TestCopyFromLocked(t *testing.T) {
	locked := []byte(qpdf(t, secret(), "--encrypt", "u", "o", "256", "--"))
	src, err := pdf.OpenLocked(bytes.NewReader(locked), int64(len(locked)), "u")
	require.NoError(t, err)
	dst := pdf.New()
	c, err := pdf.NewCopier(dst, src)
	require.NoError(t, err)
	pages, err := c.Pages(pdftest.Refs(t, src))
	require.NoError(t, err)
	require.NoError(t, dst.InsertPages(0, pages))
	out := pdftest.Whole(t, dst)
	pdftest.Check(t, out)
	assert.Equal(t, []string{"NORTHFACE"}, pdftest.PageTexts(t, out))
}

func TestUnknownHandlers(t *testing.T) {
	for encrypt, kind := range map[string]error{
		"<</Filter/Adobe.PubSec/SubFilter/adbe.pkcs7.s5/V 4>>": pdf.ErrUnsupported,
		"<</Filter/HouseLock/V 1>>":                            pdf.ErrUnsupported,
		"<</Filter/Standard/V 9/R 9>>":                         pdf.ErrUnsupported,
		"<</Filter/Standard/V 5/R 6>>":                         pdf.ErrLocked,
		"<</Filter/Standard/V 2/R 3/Length 900/U()/O()>>":      pdf.ErrLocked,
		"7": pdf.ErrDamaged,
	} {
		data := bytes.Replace(secret(), []byte("trailer\n<<"), []byte("trailer\n<</Encrypt "+encrypt), 1)
		_, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
		assert.ErrorIs(t, err, kind, encrypt)
	}
}

func FuzzLocked(f *testing.F) {
	f.Add(secret())
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := pdf.OpenLocked(bytes.NewReader(data), int64(len(data)), "u")
		if err != nil {
			return
		}
		_ = d.WriteFull(t.Context(), io.Discard, pdf.FullOptions{})
	})
}
