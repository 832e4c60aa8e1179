package pdf_test

import (
	"bytes"
	"crypto/sha256"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// unsigned is a document with a signature field whose value is a new dictionary.
func unsigned(t *testing.T) (file []byte, doc *pdf.Document, sig pdf.Ref) {
	file = pdftest.Text(2)
	doc = pdftest.Open(t, file).Fork()
	sig = doc.Add(pdf.NewDict("Type", pdf.Name("Sig"), "Filter", pdf.Name("Adobe.PPKLite"), "SubFilter", pdf.Name("adbe.pkcs7.detached"), "Contents", pdf.String("an older one")))
	page := pdftest.Refs(t, doc)[0]
	field := doc.Add(pdf.NewDict("Type", pdf.Name("Annot"), "Subtype", pdf.Name("Widget"), "FT", pdf.Name("Sig"), "T", pdf.String("harbour master"), "V", sig,
		"Rect", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(0), pdf.Integer(0)}, "P", page))
	doc.Edit(page).Set("Annots", pdf.Array{field})
	doc.Edit(doc.Root()).Set("AcroForm", pdf.NewDict("SigFlags", pdf.Integer(3), "Fields", pdf.Array{field}))
	return file, doc, sig
}

// The place covers all but itself, and other programs verify what is put there.
func TestSigning(t *testing.T) {
	file, doc, sig := unsigned(t)
	s, err := doc.UpdateToSign([16]byte{1}, sig, 4096)
	require.NoError(t, err)
	whole := append(file[:len(file):len(file)], s.Update...)
	r := s.Range()
	assert.Equal(t, [2]int64{0, int64(len(whole))}, [2]int64{r[0], r[2] + r[3]})
	assert.Equal(t, int64(2*4096+2), r[2]-r[1])
	assert.Equal(t, byte('<'), whole[r[1]])
	assert.Equal(t, byte('>'), whole[r[2]-1])
	covered, err := io.ReadAll(s.Covered(bytes.NewReader(file)))
	require.NoError(t, err)
	assert.Equal(t, append(whole[:r[1]:r[1]], whole[r[2]:]...), covered)

	dir := t.TempDir()
	in := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(in("covered"), covered, 0o600))
	for _, args := range [][]string{
		{"req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", in("key"), "-out", in("cert"), "-subj", "/CN=Rona Tarbet/O=Orrin Quay Harbour Trust", "-days", "30"},
		{"cms", "-sign", "-binary", "-in", in("covered"), "-signer", in("cert"), "-inkey", in("key"), "-md", "sha256", "-outform", "DER", "-out", in("value")},
	} {
		said, err := exec.Command("openssl", args...).CombinedOutput()
		require.NoError(t, err, "%s", said)
	}
	value, err := os.ReadFile(in("value"))
	require.NoError(t, err)
	require.NoError(t, s.Put(value))
	whole = append(file[:len(file):len(file)], s.Update...)
	pdftest.Check(t, whole)
	said := pdftest.Tool(t, whole, "pdfsig", "-nocert", "FILE")
	assert.Contains(t, said, "Signature is Valid")
	assert.Contains(t, said, "Total document signed")
	assert.Contains(t, said, "Rona Tarbet")
	// One byte elsewhere, and it is not.
	whole[len(file)/2] ^= 1
	assert.NotContains(t, pdftest.Tool(t, whole, "pdfsig", "-nocert", "FILE"), "Signature is Valid")
}

func TestSigningRefused(t *testing.T) {
	_, doc, sig := unsigned(t)
	s, err := doc.UpdateToSign([16]byte{}, sig, 32)
	require.NoError(t, err)
	was := sha256.Sum256(s.Update)
	require.ErrorIs(t, s.Put(make([]byte, 33)), pdf.ErrNoRoom)
	assert.Equal(t, was, sha256.Sum256(s.Update))
	require.NoError(t, s.Put([]byte{0xab}))
	assert.Contains(t, string(s.Update), "/Contents<ab00")
	assert.NotContains(t, string(s.Update), "an older one")
	for _, room := range []int{0, -1, 2 << 20} {
		_, err = doc.UpdateToSign([16]byte{}, sig, room)
		assert.Error(t, err)
	}
	_, err = doc.UpdateToSign([16]byte{}, pdf.Ref{Num: 1 << 20}, 32)
	assert.Error(t, err)
}
