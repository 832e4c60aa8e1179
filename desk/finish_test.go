package desk

import (
	"bytes"
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/finding"
	"glenrain/core/naming"
	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/desk/background"
	"glenrain/desk/people"
)

// number writes a file number into the document's title, where its name has none.
var numberFinisher = Finisher{
	Name: "number",
	Can:  func(s *Snapshot) bool { return s.Document.Name != "No number" },
	Missed: func(*Snapshot) *finding.Finding {
		return &finding.Finding{Kind: "number", Asks: true, Sentence: "It has no file number"}
	},
	Make: func(context.Context, *Snapshot) (outgoing.Finisher, error) {
		return outgoing.Finisher{Name: "number", Prepare: func(_ context.Context, doc *pdf.Document) error {
			doc.Trailer().Set("Info", doc.Add(pdf.NewDict("Title", pdf.String("HT-7"))))
			return nil
		}}, nil
	},
}

// seal puts a signature's dictionary behind the file, whose value is how many bytes it covers.
var sealFinisher = Finisher{
	Name: "seal",
	Can:  func(*Snapshot) bool { return true },
	Note: func(h *HandOut) { h.Signed = true },
	Make: func(context.Context, *Snapshot) (outgoing.Finisher, error) {
		return outgoing.Finisher{Name: "seal", Sign: func(_ context.Context, file io.ReaderAt, size int64) ([]byte, error) {
			doc, err := pdf.Open(file, size)
			if err != nil {
				return nil, err
			}
			doc = doc.Fork()
			sig := doc.Add(pdf.NewDict("Type", pdf.Name("Sig")))
			doc.Edit(doc.Root()).Set("Seal", sig)
			s, err := doc.UpdateToSign([16]byte{}, sig, 16)
			if err != nil {
				return nil, err
			}
			n, err := io.Copy(io.Discard, s.Covered(file))
			if err != nil {
				return nil, err
			}
			return s.Update, s.Put([]byte{byte(n >> 8), byte(n)})
		}}, nil
	},
}

// A finisher more is a value: it is asked about where it was missed, refused where it can't be had, and does its part in its turn.
func TestFinishers(t *testing.T) {
	dir := t.TempDir()
	opened, err := Open(dir, Options{PDFiumCache: raster.CacheForTests(), Finishers: []Finisher{numberFinisher, sealFinisher}})
	require.NoError(t, err)
	d := opened
	t.Cleanup(func() { _ = d.Close() })
	somebody(t, d, "isla", people.Administrator)
	row := bring(t, d, "Berths.pdf", pdftest.Text(2))
	order := Order{Document: row.ID, Seen: row.HeadID, Person: 1, Name: "Out", RequestID: "o1"}
	_, err = d.HandOut(t.Context(), &background.Work{}, order)
	var asks *Asks
	require.ErrorAs(t, err, &asks)
	assert.Equal(t, "It has no file number", asks.Findings[0].Sentence)
	order.Finish = []string{"number", "seal"}
	for _, f := range finding.Asking(d.LooseEnds(snapshot(t, d, row.ID))) {
		t.Log(f.Sentence)
		order.AsItIs = true
	}
	h, err := d.HandOut(t.Context(), &background.Work{}, order)
	require.NoError(t, err)
	assert.True(t, h.Signed)
	assert.Equal(t, 2, h.Pages)
	f, _, err := d.OpenHandedOut(t.Context(), 1, h.ID)
	require.NoError(t, err)
	data, err := io.ReadAll(f)
	require.NoError(t, err)
	_ = f.Close()
	assert.Len(t, data, int(h.Size))
	pdftest.Check(t, data)
	doc := pdftest.Open(t, data)
	info := doc.Dict(doc.Trailer().Get("Info"))
	assert.Equal(t, pdf.String("HT-7"), info.Get("Title"))
	seal := doc.Dict(doc.Dict(doc.Root()).Get("Seal"))
	require.NotNil(t, seal)
	covered := len(data) - 2*16 - 2
	assert.Equal(t, []byte{byte(covered >> 8), byte(covered)}, []byte(seal.Get("Contents").(pdf.String))[:2], "it covers all but its own place")

	// In a zip too: what signs reads it before.
	out, err := handMany(t, d, Handing{Documents: []uint{row.ID}, Person: 1, RequestID: "z", Pattern: naming.Pattern{{Field: "name"}}, Zip: "Winter", AsItIs: true})
	require.NoError(t, err)
	f, _, err = d.OpenHandedOut(t.Context(), 1, out.Files[0])
	require.NoError(t, err)
	zipped := pdftest.Open(t, unzipped(t, f)["Berths.pdf"])
	assert.Equal(t, pdf.String("HT-7"), zipped.Dict(zipped.Trailer().Get("Info")).Get("Title"), "what is asked about where it is missed is usual")
	var b bytes.Buffer
	way, _, err := d.wayOut(t.Context(), snapshot(t, d, row.ID), []string{"seal"})
	require.NoError(t, err)
	require.NoError(t, d.writeInto(t.Context(), way, snapshot(t, d, row.ID).PDF.Fork(), &b))
	assert.NotNil(t, pdftest.Open(t, b.Bytes()).Dict(pdf.Ref{Num: 1}))
	assert.Contains(t, b.String(), "/ByteRange[")

	// One that can't be had is refused, and so is what there is not.
	plain := bring(t, d, "No number.pdf", pdftest.Text(1))
	for _, finish := range [][]string{{"number"}, {"nothing known"}, {FinishLock}, {FinishSigned}} {
		_, err = d.HandOut(t.Context(), &background.Work{}, Order{Document: plain.ID, Seen: plain.HeadID, Person: 1, Name: "Plain", AsItIs: true, Finish: finish})
		assert.ErrorContains(t, err, "can’t export the document this way", finish)
	}
	// What signs needs a file of its own; a zip is told so, and leaves nothing behind.
	assert.ErrorIs(t, (&outgoing.Way{Finishers: []outgoing.Finisher{{Name: "seal", Sign: func(context.Context, io.ReaderAt, int64) ([]byte, error) { return nil, nil }}}}).
		Write(t.Context(), pdftest.Open(t, pdftest.Text(1)).Fork(), &bytes.Buffer{}), outgoing.ErrTogether)
}

// A document that came locked leaves locked also in a zip.
func TestLockedInZip(t *testing.T) {
	d := newDesk(t)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.pdf"), pdftest.Text(2), 0o600))
	require.NoError(t, exec.Command("qpdf", "--encrypt", "harbour", "owner", "256", "--", filepath.Join(dir, "a.pdf"), filepath.Join(dir, "l.pdf")).Run())
	data, err := os.ReadFile(filepath.Join(dir, "l.pdf"))
	require.NoError(t, err)
	in, err := d.Store.Create()
	require.NoError(t, err)
	defer in.Drop()
	_, err = in.Write(data)
	require.NoError(t, err)
	locked, err := d.Arrive(t.Context(), Arrival{Person: 1, Name: "Licence.pdf", Password: "owner"}, in)
	require.NoError(t, err)
	open := bring(t, d, "Tides.pdf", pdftest.Text(1))
	out, err := handMany(t, d, Handing{Documents: []uint{locked.ID, open.ID}, Person: 1, RequestID: "z", Pattern: naming.Pattern{{Field: "name"}}, Zip: "Winter", AsItIs: true})
	require.NoError(t, err)
	f, _, err := d.OpenHandedOut(t.Context(), 1, out.Files[0])
	require.NoError(t, err)
	files := unzipped(t, f)
	_, err = pdf.Open(bytes.NewReader(files["Licence.pdf"]), int64(len(files["Licence.pdf"])))
	require.ErrorIs(t, err, pdf.ErrLocked)
	again, err := pdf.OpenLocked(bytes.NewReader(files["Licence.pdf"]), int64(len(files["Licence.pdf"])), "harbour")
	require.NoError(t, err)
	assert.Len(t, pdftest.Refs(t, again), 2)
	pdftest.Check(t, files["Tides.pdf"])
}
