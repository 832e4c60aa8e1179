package jobs

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/draw"
	"glenrain/core/jobs/jobstest"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// inkedOf is where something stands on the first page once the furnishings are gone.
func inkedOf(t *testing.T, doc *pdf.Document, _ string) [4]float64 {
	d := doc.Fork()
	for _, f := range draw.List(d) {
		_, err := draw.Erase(d, pdftest.Refs(t, d)[0], f.ID)
		require.NoError(t, err)
	}
	return jobstest.Inked(t, jobstest.Out(t, d), 1)
}

func TestPaper(t *testing.T) {
	for _, rotate := range []int{0, 90, 180, 270} {
		b := jobstest.New(t, Registry(), jobstest.Placed(rotate))
		b.Run("number", `{"pages":"all"}`)
		was := inkedOf(t, b.Doc, "furnishing-remove")
		res := b.Run("paper", `{"pages":"all","paper":"own size","width":600,"height":600,"fit":"scale","margin":100}`)
		assert.Contains(t, jobstest.Told(res), "Page numbers")
		assert.Equal(t, "600x600", jobstest.Sizes(t, jobstest.Out(t, b.Doc)))
		b.Run("furnishing-remove", fmt.Sprintf(`{"id":%q}`, draw.List(b.Doc)[0].ID))
		got := jobstest.Out(t, b.Doc)
		pdftest.Check(t, got)
		now := jobstest.Inked(t, got, 1)
		for i := range 4 { // 200 points of the page come to 400, behind 100 of margin
			assert.InDelta(t, was[i]*2+100, now[i], 2, "rotated %d", rotate)
		}
		d := b.Doc
		page := pdftest.Refs(t, d)[0]
		dest := d.Array(d.Dict(pdf.Ref{Num: 11}).Get("Dest"))
		x, _ := pdf.Number(dest[2])
		y, _ := pdf.Number(dest[3])
		assert.InDelta(t, (60-50)*2+100, x, 0.01)
		assert.InDelta(t, (250-50)*2+100, y, 0.01)
		assert.Nil(t, dest[4])
		rect, _ := d.Rect(d.Dict(d.Array(d.Dict(page).Get("Annots"))[0]).Get("Rect"))
		assert.InDelta(t, 120, rect.X0, 0.01)
		assert.InDelta(t, 200, rect.X1, 0.01)
	}
	b := jobstest.New(t, Registry(), pdftest.Text(2))
	res := b.Run("paper", `{"pages":"1","paper":"A5","fit":"keep","stands":"top left"}`)
	assert.Contains(t, jobstest.Told(res), "hidden, not removed")
	assert.Contains(t, jobstest.Sizes(t, jobstest.Out(t, b.Doc)), "420x595 ")
	_, err := b.Try("paper", `{"pages":"1","paper":"A5","fit":"keep","stands":"top left"}`)
	assert.ErrorContains(t, err, "already")
}
