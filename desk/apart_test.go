package desk

import (
	"bytes"
	"context"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/jobs"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/people"
)

// wipe is a throw-away step that takes the content off pages, for good.
type wipe struct {
	Pages step.Pages `json:"pages" required:"yes" help:"which pages"`
}

func (w *wipe) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	refs, err := w.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	for _, r := range refs {
		doc.Edit(r).Delete("Contents")
	}
	return &step.Result{Pages: env.Keys.Of(refs), Redrawn: step.RedrawPages, Sentence: "Pages wiped", Warnings: []string{"Their size was kept."}}, nil
}

// A step may end in a document of its own: nothing of what was there is in its file, its trail or its text, the old one stays, and what is not sure is not made.
func TestApart(t *testing.T) {
	kinds := append(jobs.Registry().Kinds(), step.Kind{Name: "wipe", Meaning: "Wipes pages.", Apart: true, New: func() step.Step { return &wipe{} }})
	d, err := Open(t.TempDir(), Options{PDFiumCache: raster.CacheForTests(), Registry: step.NewRegistry(nil, kinds...)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	isla, reader := somebody(t, d, "isla", people.Administrator), somebody(t, d, "tam", people.Reader)
	doc := bring(t, d, "Claims.pdf", wording([]string{"Paid to Hollis Brand in full."}, []string{"Nothing of interest."}))
	mustDo(t, d, doc.ID, "rotate", `{"pages":"2","by":90}`)
	c := Change{Document: doc.ID, Seen: snapshot(t, d, doc.ID).State.ID, RequestID: "w1", Person: isla, Name: "wipe", Params: []byte(`{"pages":"1"}`)}
	_, err = d.Do(t.Context(), c)
	require.ErrorContains(t, err, "makes a new document")

	looked := false
	a := Apart{Change: c, New: "Claims, public", Sure: func(ctx context.Context, doc *pdf.Document) error {
		looked = true
		pages, err := doc.Pages()
		if err == nil && doc.Dict(pages[0].Ref).Has("Contents") {
			return step.Refuse("there is something left")
		}
		return err
	}}
	made, warnings, err := d.DoApart(t.Context(), a)
	require.NoError(t, err)
	assert.True(t, looked)
	assert.Equal(t, []string{"Their size was kept."}, warnings)
	assert.Equal(t, "Claims, public", made.Name)
	assert.Equal(t, "“Claims”: pages wiped", made.Made.String())
	f, _, err := d.OpenOriginal(t.Context(), isla, made.ID)
	require.NoError(t, err)
	data, err := io.ReadAll(f)
	_ = f.Close()
	require.NoError(t, err)
	pdftest.Check(t, data)
	assert.Equal(t, []string{"", "Nothing of interest."}, trimAll(pdftest.PageTexts(t, data)))
	assert.False(t, bytes.Contains([]byte(pdftest.Tool(t, data, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")), []byte("Hollis")))
	s := snapshot(t, d, made.ID)
	assert.False(t, s.CanUndo())
	steps, err := d.Trail(t.Context(), s, 0, 9)
	require.NoError(t, err)
	assert.Empty(t, steps)
	assert.Equal(t, 90, s.PDF.Geometry(pdftest.Refs(t, s.PDF)[1]).Rotate, "what was done before is in it")
	assert.Equal(t, c.Seen, snapshot(t, d, doc.ID).State.ID, "the old one stays")

	// The same request gives the same document; one that is not sure makes none, and neither may who adds nothing.
	again, _, err := d.DoApart(t.Context(), a)
	require.NoError(t, err)
	assert.Equal(t, made.ID, again.ID)
	before, err := d.used()
	require.NoError(t, err)
	a.RequestID, a.Sure = "w2", func(context.Context, *pdf.Document) error { return step.Refuse("a name is left on page 2") }
	_, _, err = d.DoApart(t.Context(), a)
	require.ErrorContains(t, err, "a name is left")
	after, err := d.used()
	require.NoError(t, err)
	assert.Len(t, after, len(before))
	n, err := d.CountDocuments(t.Context(), Listing{Person: isla})
	require.NoError(t, err)
	assert.Equal(t, int64(2), n)
	a.RequestID, a.Person = "w3", reader
	_, _, err = d.DoApart(t.Context(), a)
	var forbidden *people.Forbidden
	assert.ErrorAs(t, err, &forbidden)
	a.RequestID, a.Person, a.Name, a.Params = "w4", isla, "rotate", []byte(`{"pages":"1","by":90}`)
	_, _, err = d.DoApart(t.Context(), a)
	assert.ErrorContains(t, err, "changes the document itself")
}

func trimAll(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = string(bytes.TrimSpace([]byte(s)))
	}
	return out
}
