package pdf_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// within runs f, which must end soon.
func within(t *testing.T, limit time.Duration, f func()) {
	t.Helper()
	done := make(chan struct{})
	go func() { defer close(done); f() }()
	select {
	case <-done:
	case <-time.After(limit):
		t.Fatal("it does not end")
	}
}

func hostile(t *testing.T, name string) []byte {
	t.Helper()
	for _, h := range pdftest.Hostiles() {
		if h.Name == name {
			return h.Data
		}
	}
	t.Fatalf("there is no %q", name)
	return nil
}

// Objects that are needed for themselves are read as far as they can be, in whatever order they are asked for.
func TestObjectsInACircle(t *testing.T) {
	data := hostile(t, "lengths in a circle.pdf")
	for _, order := range [][]int{{4, 5}, {5, 4}} {
		d, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		within(t, 5*time.Second, func() {
			for _, n := range order {
				s := d.Stream(pdf.Ref{Num: n})
				require.NotNil(t, s, "%d", n)
			}
			content, _, err := d.Decode(d.Stream(pdf.Ref{Num: 4}))
			require.NoError(t, err)
			assert.Contains(t, string(content), "(Hello) Tj ET")
		})
	}
	data = hostile(t, "a length for each length.pdf")
	within(t, 10*time.Second, func() {
		d, _, _, err := pdf.OpenVerified(t.Context(), bytes.NewReader(data), int64(len(data)), "")
		require.NoError(t, err)
		assert.Len(t, pdftest.Refs(t, d), 1)
	})
}

// When the time of the work is over, nothing is read any more, and why is told; another piece of work reads on.
func TestWorkThatIsOver(t *testing.T) {
	data := pdftest.Text(3)
	d, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	ctx, cancel := context.WithCancelCause(t.Context())
	in, fork := d.In(ctx), d.ForkIn(ctx)
	require.NoError(t, in.Over())
	assert.NotNil(t, in.Catalog())
	why := errors.New("the tide")
	cancel(why)
	require.Eventually(t, func() bool { return in.Over() != nil && fork.Over() != nil }, time.Second, time.Millisecond)
	assert.Equal(t, why, in.Over())
	_, err = fork.Load(d.Root())
	assert.Equal(t, why, err)
	assert.Nil(t, in.Catalog())
	assert.False(t, in.NewWalk().Once(pdf.Ref{Num: 1}))
	assert.NotNil(t, d.Catalog(), "the document itself goes on")
	assert.NotNil(t, d.Fork().Catalog())
	assert.NotNil(t, d.In(ctx).Over(), "begun too late")
	assert.ErrorIs(t, fork.WriteFull(ctx, &bytes.Buffer{}, pdf.FullOptions{}), why)
}

// A walk enters each object once, however often it is named, and no deeper than it goes.
func TestWalk(t *testing.T) {
	d := pdf.New()
	leaf := d.Add(pdf.NewDict("Leaf", pdf.Boolean(true)))
	top := d.Add(nil)
	d.Set(top, pdf.NewDict("Kids", pdf.Array{top, leaf, leaf, top}))
	visits := 0
	var walk func(w *pdf.Walk, o pdf.Object)
	walk = func(w *pdf.Walk, o pdf.Object) {
		n := w.Enter(o)
		if n == nil {
			return
		}
		defer w.Leave()
		visits++
		for _, k := range d.Array(n.Get("Kids")) {
			walk(w, k)
		}
	}
	walk(d.NewWalk(), top)
	assert.Equal(t, 2, visits)
	at := d.Add(pdf.NewDict())
	for range 5000 {
		at = d.Add(pdf.NewDict("Kids", pdf.Array{at}))
	}
	visits = 0
	walk(d.NewWalk(), at)
	assert.Equal(t, 1000, visits)
	assert.Nil(t, d.NewWalk().Enter(pdf.Integer(3)), "no dictionary")
}

// The catalog and what is in the page tree can't be freed, whatever names it.
func TestFree(t *testing.T) {
	d := pdftest.Open(t, pdftest.Text(2)).Fork()
	refs := pdftest.Refs(t, d)
	root, _ := d.Catalog().Get("Pages").(pdf.Ref)
	other := d.Add(pdf.NewDict("A", pdf.Integer(1)))
	d.Free(d.Root(), root, refs[0], refs[1], other)
	assert.NotNil(t, d.Catalog())
	assert.Len(t, pdftest.Refs(t, d), 2)
	assert.NotNil(t, d.Dict(refs[1]))
	assert.Nil(t, d.Dict(other))
	require.NoError(t, d.RemovePages(refs[:1]))
	d.Free(refs[0])
	assert.Nil(t, d.Dict(refs[0]), "it is in the tree no longer")
}

// What is made of a document is kept for one piece of work, until it is forgotten.
func TestMemo(t *testing.T) {
	d := pdf.New()
	made := 0
	get := func(d *pdf.Document) any { return d.Memo("names", func() any { made++; return made }) }
	assert.Equal(t, []any{1, 1}, []any{get(d), get(d)})
	d.Forget("names")
	assert.Equal(t, 2, get(d))
	assert.Equal(t, 3, get(d.Fork()))
}

// Over their limits, streams, pages and trees end in sentences.
func TestBudgets(t *testing.T) {
	d := pdf.New()
	big := pdf.NewStream(pdf.NewDict("Filter", pdf.Name("FlateDecode")), pdf.Deflate(make([]byte, 3<<20)))
	_, _, err := d.DecodeMost(big, 1<<20)
	assert.ErrorIs(t, err, pdf.ErrTooLarge)
	data, _, err := d.DecodeMost(big, 4<<20)
	require.NoError(t, err)
	assert.Len(t, data, 3<<20)
	kept := 0
	for ; kept <= pdf.MaxKept && err == nil; kept += 3 << 20 {
		_, _, err = d.DecodeKept(big, 4<<20)
	}
	assert.ErrorIs(t, err, pdf.ErrTooMuch)
	_, _, err = d.Fork().DecodeKept(big, 4<<20)
	assert.NoError(t, err, "another piece of work has a budget of its own")
	shared := hostile(t, "a million times one page.pdf")
	_, _, _, err = pdf.OpenVerified(t.Context(), bytes.NewReader(shared), int64(len(shared)), "")
	assert.ErrorIs(t, err, pdf.ErrTooManyPages)
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	kids := bytes.Repeat([]byte("3 0 R "), pdf.MaxShared+2)
	f.Add("<</Type/Pages/Kids[%s]/Count %d>>", kids, pdf.MaxShared+2)
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 9 9]>>")
	_, err = pdftest.Open(t, f.Bytes()).Fork().SplitSharedPages()
	assert.ErrorIs(t, err, pdf.ErrTooOften)
	for _, e := range []error{pdf.ErrTooOften, pdf.ErrTooManyNodes, pdf.ErrTooManyPages, pdf.ErrTooMuch} {
		assert.ErrorIs(t, e, pdf.ErrLimit)
		assert.Greater(t, len(fmt.Sprint(e)), 30)
	}
}

// A page tree that leads to the catalog, or to no node at all, is no page tree.
func TestPageTreeOfOtherThings(t *testing.T) {
	for name, objects := range map[string][]string{
		"the catalog as a page": {"<</Type/Catalog/Pages 2 0 R>>", "<</Type/Pages/Kids[1 0 R 3 0 R]/Count 2>>", "<</Type/Page/Parent 2 0 R/MediaBox[0 0 9 9]>>"},
		"kids that are none":    {"<</Type/Catalog/Pages 2 0 R>>", "<</Type/Pages/Kids 3 0 R/Count 1>>", "<</Type/Page/Parent 2 0 R/MediaBox[0 0 9 9]>>"},
	} {
		f := &pdftest.File{}
		for _, o := range objects {
			f.Add("%s", o)
		}
		data := f.Bytes()
		d, wrong, anew, err := pdf.OpenVerified(t.Context(), bytes.NewReader(data), int64(len(data)), "")
		require.NoError(t, err, name)
		assert.NotEmpty(t, wrong, name)
		assert.True(t, anew, name)
		assert.Equal(t, []pdf.Ref{{Num: 3}}, pdftest.Refs(t, d), name)
		var b bytes.Buffer
		require.NoError(t, d.WriteFull(t.Context(), &b, pdf.FullOptions{}))
		pdftest.Check(t, b.Bytes())
	}
}
