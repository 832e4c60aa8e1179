package desk

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// scanned is a file of five pages: a scan of paper with dust on it, one with a line of writing, nothing at all, white on white, and a thin line.
func scanned() []byte {
	grey := func(dark func(x, y int) bool) string {
		var b bytes.Buffer
		for y := range 200 {
			for x := range 140 {
				v := 0xee - (x*7+y*3)%9 // paper
				if dark(x, y) {
					v = 0x30
				}
				fmt.Fprintf(&b, "%02x", v)
			}
		}
		return b.String() + ">"
	}
	image := func(dark func(x, y int) bool) string {
		return pdftest.Stream("/Type/XObject/Subtype/Image/Width 140/Height 200/BitsPerComponent 8/ColorSpace/DeviceGray/Filter/ASCIIHexDecode", grey(dark))
	}
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R 6 0 R 7 0 R]/Count 5/MediaBox[0 0 420 595]/Resources<</XObject<</A 8 0 R/B 9 0 R>>>>>>")
	for _, c := range []string{"10", "11", "", "12", "13"} {
		if c != "" {
			c = "/Contents " + c + " 0 R"
		}
		f.Add("<</Type/Page/Parent 2 0 R%s>>", c)
	}
	f.Add("%s", image(func(x, y int) bool { return x == 70 && y == 90 || x < 2 })) // dust, and the edge of the scanner
	f.Add("%s", image(func(x, y int) bool { return y > 60 && y < 66 && x > 20 && x < 110 && x%3 > 0 }))
	f.Add("%s", pdftest.Stream("", "q 420 0 0 595 0 0 cm /A Do Q"))
	f.Add("%s", pdftest.Stream("", "q 420 0 0 595 0 0 cm /B Do Q"))
	f.Add("%s", pdftest.Stream("", "1 g 0 0 420 595 re f"))
	f.Add("%s", pdftest.Stream("", "0.3 w 100 100 m 300 100 l S"))
	return f.Bytes()
}

func TestBlankPages(t *testing.T) {
	d := newDesk(t)
	a := bring(t, d, "Scans.pdf", scanned())
	s, err := d.Snapshot(t.Context(), a.ID)
	require.NoError(t, err)
	var looked []string
	got, err := d.BlankPages(t.Context(), s, func(done, of int) { looked = append(looked, fmt.Sprintf("%d/%d", done, of)) })
	require.NoError(t, err)
	assert.Equal(t, []step.Key{{Ordinal: 1}, {Ordinal: 3}, {Ordinal: 4}}, got)
	assert.Equal(t, "0/5 1/5 2/5 3/5 4/5", strings.Join(looked, " "))
}
