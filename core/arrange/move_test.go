package arrange

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/jobs/jobstest"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// newBench is a document on which steps of this job are run.
func newBench(t testing.TB, data []byte) *jobstest.Bench {
	return jobstest.New(t, step.NewRegistry(nil, Kinds()...), data)
}

func TestMove(t *testing.T) {
	b := newBench(t, pdftest.Text(8))
	res := b.Run("move", `{"pages":["0.2","0.6"],"to":"0.5"}`)
	assert.Equal(t, "Pages 2, 6 moved before page 5", res.Sentence)
	assert.Equal(t, "Page 1,Page 3,Page 4,Page 2,Page 6,Page 5,Page 7,Page 8", strings.Join(b.Texts(), ","))
	b.Run("move", `{"pages":"1","to":"end"}`)
	b.Run("move", `{"pages":"last","to":1}`)
	b.Run("move", `{"pages":["0.8"],"to":"first"}`)
	assert.Equal(t, "Page 8,Page 1,Page 3,Page 4,Page 2,Page 6,Page 5,Page 7", strings.Join(b.Texts(), ","))
	pdftest.Check(t, b.File())
	_, err := b.Try("move", `{"pages":["0.8"],"to":"first"}`)
	assert.ErrorContains(t, err, "already there")
	_, err = b.Try("move", `{"pages":"20","to":"first"}`)
	assert.ErrorContains(t, err, "no page")
}

func TestRotate(t *testing.T) {
	b := newBench(t, pdftest.Text(3))
	b.Run("rotate", `{"pages":"all","by":90}`)
	r := pdftest.Refs(t, b.Doc)
	assert.Equal(t, []int{90, 180, 90}, []int{b.Doc.Geometry(r[0]).Rotate, b.Doc.Geometry(r[1]).Rotate, b.Doc.Geometry(r[2]).Rotate})
	b.Run("rotate", `{"pages":"2","to":0}`)
	b.Run("rotate", `{"pages":"1","by":-180}`)
	assert.Equal(t, 0, b.Doc.Geometry(r[1]).Rotate)
	assert.Equal(t, 270, b.Doc.Geometry(r[0]).Rotate)
	for _, bad := range []string{`{"pages":"1"}`, `{"pages":"1","by":90,"to":0}`, `{"pages":"1","by":45}`, `{"pages":"1","to":45}`} {
		_, err := b.Try("rotate", bad)
		assert.Error(t, err, bad)
	}
}

// A page that bookmarks, links, tags and fields point to is nowhere in the file that is handed out.
func TestRemoveLeavesNothing(t *testing.T) {
	b := newBench(t, jobstest.Linked())
	require.Contains(t, string(pdftest.Tool(t, b.Base, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")), "HARBOURSECRET")
	res := b.Run("remove", `{"pages":["0.2"]}`)
	assert.Equal(t, []string{"Removed with them, because they pointed there: 1 bookmark, 1 named place, 2 links, 1 form field, 1 tag."}, res.Warnings)
	assert.Equal(t, step.Key{Ordinal: 3}, res.Show)
	pdftest.Check(t, b.File())

	out := pdftest.Whole(t, b.Doc)
	pdftest.Check(t, out)
	plain := pdftest.Tool(t, out, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	assert.NotContains(t, plain, "SECRET")
	assert.NotContains(t, plain, "ecret")
	assert.Equal(t, 2, strings.Count(plain, "/Type /Page\n"))
	assert.Equal(t, []string{"FIRST", "THIRD"}, pdftest.PageTexts(t, out))
	for _, left := range []string{"(One)", "(Three)", "(first)", "(both)", "/OBJR", "/OpenAction"} {
		want := left != "/OBJR" && left != "/OpenAction"
		assert.Equal(t, want, strings.Contains(plain, left), left)
	}
	d := pdftest.Open(t, out)
	assert.Len(t, d.Array(d.Dict(pdftest.Refs(t, d)[0]).Get("Annots")), 1, "the link to the first page stays")
	assert.Contains(t, pdftest.Tool(t, out, "pdfinfo", "-struct-text", "FILE"), "THIRD")

	_, err := b.Try("remove", `{"pages":"all"}`)
	assert.ErrorContains(t, err, "because a document needs one")
}

func TestInsertBringsWhatBelongs(t *testing.T) {
	b := newBench(t, pdftest.Text(3))
	b.Src["linked"] = jobstest.Linked()
	res := b.Run("insert", `{"from":"linked","pages":"1, 3","to":"0.2","name":"Harbour papers"}`)
	assert.Equal(t, "Pages 1, 3 of “Harbour papers” inserted before page 2", res.Sentence)
	assert.Equal(t, []string{"2 links to pages that were not inserted removed."}, res.Warnings)
	assert.Equal(t, []step.Key{{Step: 1, Ordinal: 1}, {Step: 1, Ordinal: 2}}, res.Pages)
	assert.Equal(t, "Page 1,FIRST,THIRD,Page 2,Page 3", strings.Join(b.Texts(), ","))
	// The same once more: the form field gets another name.
	res = b.Run("insert", `{"from":"linked","to":"end","name":"Again"}`)
	assert.Contains(t, strings.Join(res.Warnings, " "), "1 form field renamed")
	out := pdftest.Whole(t, b.Doc)
	pdftest.Check(t, out)
	pdftest.Check(t, b.File())
	plain := pdftest.Tool(t, out, "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	assert.Equal(t, 1, strings.Count(plain, "HARBOURSECRET value"), "page 2 came only the second time")
	assert.Contains(t, plain, "(both 2)")
	assert.Contains(t, plain, "(Harbour papers)")
	d := pdftest.Open(t, out)
	refs := pdftest.Refs(t, d)
	link := d.Dict(d.Array(d.Dict(refs[1]).Get("Annots"))[0])
	assert.Equal(t, refs[1], d.Array(link.Get("Dest"))[0], "a named place became the page itself")
	assert.Contains(t, pdftest.Tool(t, out, "pdfinfo", "-struct-text", "FILE"), "HARBOURSECRET")

	_, err := b.Try("insert", `{"from":"nowhere","to":"end"}`)
	assert.Error(t, err)
	b.Src["text"] = []byte("just text")
	_, err = b.Try("insert", `{"from":"text","to":"end"}`)
	assert.ErrorContains(t, err, "plain text")
}

// What two pages share comes once.
func TestInsertOnce(t *testing.T) {
	f := &pdftest.File{}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R]/Count 2/MediaBox[0 0 100 100]/Resources<</XObject<</Im 5 0 R>>>>>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 6 0 R>>")
	f.Add("<</Type/Page/Parent 2 0 R/Contents 6 0 R>>")
	noise := make([]byte, 40_000)
	for i := range noise {
		noise[i] = byte(i*i>>3 ^ i)
	}
	f.Add("%s", pdftest.Stream("/Type/XObject/Subtype/Image/Width 200/Height 200/ColorSpace/DeviceGray/BitsPerComponent 8", string(noise)))
	f.Add("%s", pdftest.Stream("", "100 0 0 100 0 0 cm /Im Do"))
	b := newBench(t, pdftest.Text(2))
	b.Src["pictures"] = f.Bytes()
	res := b.Run("insert", `{"from":"pictures","to":"end"}`)
	assert.Greater(t, len(res.Update), 40_000)
	assert.Less(t, len(res.Update), 44_000)
}
