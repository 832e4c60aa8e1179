package nav

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// places is a file that leads to its first page in every way there is: bookmarks, names of both kinds, links, where it opens; some of them go in circles.
func places() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R/Outlines 4 0 R/OpenAction 9 0 R/Dests<</old[3 0 R/XYZ 10 20 0]/round 10 0 R>>/Names<</Dests<</Kids[11 0 R 11 0 R]>>>>>>")
	f.Add("<</Type/Pages/Kids[3 0 R]/Count 1/MediaBox[0 0 200 200]>>")
	f.Add("<</Type/Page/Parent 2 0 R/Annots[7 0 R<</Type/Annot/Subtype/Link/Rect[0 0 9 9]/Dest[3 0 R/FitR 10 20 30 40]>>8 0 R]>>")
	f.Add("<</First 5 0 R/Last 6 0 R>>")
	f.Add("<</Title(One)/Parent 4 0 R/Next 6 0 R/Dest[3 0 R/XYZ 10 20 0]>>")
	f.Add("<</Title(Two)/Parent 4 0 R/Prev 5 0 R/A<</S/GoTo/D[3 0 R/FitH 20]>>>>")
	f.Add("<</Type/Annot/Subtype/Link/Rect[0 0 9 9]/A 9 0 R>>")
	f.Add("<</Type/Annot/Subtype/Link/Rect[0 0 9 9]/Dest 10 0 R>>")
	f.Add("<</S/GoTo/D[3 0 R/FitV 10]>>")
	f.Add("<</D 10 0 R>>") // leads to itself
	f.Add("<</Names[(a)[3 0 R/XYZ 10 20 0](b)<</D[3 0 R/Fit]>>]/Kids[11 0 R]>>")
	return f.Bytes()
}

// Each destination is looked at, once, and what leads in circles ends.
func TestRewrite(t *testing.T) {
	d := pdftest.Open(t, places()).Fork()
	done := make(chan []string, 1)
	go func() {
		var seen []string
		Rewrite(d, func(dest pdf.Array) pdf.Array {
			if len(dest) < 2 {
				return nil
			}
			to := Moved(dest, pdf.Matrix{2, 0, 0, 2, 100, 0})
			seen = append(seen, fmt.Sprint(dest[1:]))
			return to
		})
		done <- seen
	}()
	select {
	case seen := <-done:
		assert.Len(t, seen, 8, strings.Join(seen, " "))
	case <-time.After(5 * time.Second):
		t.Fatal("it does not end")
	}
	out := pdftest.Tool(t, pdftest.Whole(t, d), "qpdf", "--qdf", "--object-streams=disable", "FILE", "-")
	flat := strings.Join(strings.Fields(out), " ")
	for _, want := range []string{"/XYZ 120 40 0", "/FitH 40", "/FitV 120", "/FitR 120 40 160 80"} {
		assert.Contains(t, flat, want)
	}
	assert.Equal(t, 3, strings.Count(flat, "/XYZ 120 40 0"), "a bookmark, and a name of each kind")
	for _, it := range Outline(d) {
		page, does := it.Leads(d)
		require.True(t, does)
		assert.Equal(t, 0, d.PageIndex(page))
	}
}
