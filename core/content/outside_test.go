package content_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/content"
	"glenrain/core/pdf"
)

func readWhole(t *testing.T, d *pdf.Document, ref pdf.Ref) *content.Page {
	t.Helper()
	return read(t, d, ref, content.Options{Images: true, Paths: true, NoAnnotations: true})
}

// What is printed: letters and not the spaces beside them, lines with their width, areas that are not white, only what a clip lets through, and
// nothing that is not drawn.
func TestPrinted(t *testing.T) {
	page_ := pdf.Rect{X1: 600, Y1: 800}
	for name, c := range map[string]struct {
		stream string
		want   pdf.Rect
		none   bool
	}{
		"nothing":                    {stream: "q Q", none: true},
		"spaces":                     {stream: "BT /F 12 Tf 50 50 Td (    ) Tj ET", none: true},
		"white on the whole page":    {stream: "1 g 0 0 600 800 re f", none: true},
		"white of other spaces":      {stream: "1 1 1 rg 0 0 600 800 re f 0 0 0 0 k 0 0 600 800 re f", none: true},
		"invisible words":            {stream: "BT 3 Tr /F 12 Tf 50 50 Td (said) Tj ET", none: true},
		"an area":                    {stream: "0.9 g 100 200 30 40 re f", want: pdf.Rect{X0: 100, Y0: 200, X1: 130, Y1: 240}},
		"a line with its width":      {stream: "6 w 100 200 m 200 200 l S", want: pdf.Rect{X0: 97, Y0: 197, X1: 203, Y1: 203}},
		"a line, scaled":             {stream: "2 0 0 2 0 0 cm 6 w 50 100 m 100 100 l S", want: pdf.Rect{X0: 94, Y0: 194, X1: 206, Y1: 206}},
		"white with a line":          {stream: "1 g 2 w 100 100 10 10 re B", want: pdf.Rect{X0: 99, Y0: 99, X1: 111, Y1: 111}},
		"clipped":                    {stream: "q 100 100 10 10 re W n 0.5 g 0 0 600 800 re f Q", want: pdf.Rect{X0: 100, Y0: 100, X1: 110, Y1: 110}},
		"beyond the edge":            {stream: "0.5 g 590 -20 50 50 re f", want: pdf.Rect{X0: 590, Y0: 0, X1: 600, Y1: 30}},
		"two, far apart":             {stream: "0.5 g 10 10 1 1 re f 500 700 1 1 re f", want: pdf.Rect{X0: 10, Y0: 10, X1: 501, Y1: 701}},
		"wholly outside of the page": {stream: "0.5 g 700 900 10 10 re f", none: true},
	} {
		t.Run(name, func(t *testing.T) {
			d, ref := page(t, c.stream, "")
			box, any := readWhole(t, d, ref).Printed(page_)
			assert.Equal(t, !c.none, any)
			if c.none {
				return
			}
			assert.InDelta(t, c.want.X0, box.X0, 0.01)
			assert.InDelta(t, c.want.Y0, box.Y0, 0.01)
			assert.InDelta(t, c.want.X1, box.X1, 0.01)
			assert.InDelta(t, c.want.Y1, box.Y1, 0.01)
		})
	}
}

// Taking away what is outside: the operators that are left, one by one.
func TestOutside(t *testing.T) {
	frame := pdf.Rect{X0: 100, Y0: 100, X1: 200, Y1: 200}
	uncut := errors.New("no")
	for name, c := range map[string]struct {
		stream  string
		gone    []string // which are not in what is left
		stays   []string
		emptied []int
	}{
		"a path outside":                 {stream: "0.5 g 10 10 20 20 re f 150 150 9 9 re f", gone: []string{"10 10 20 20 re"}, stays: []string{"150 150 9 9 re", "0.5 g"}},
		"a path that crosses":            {stream: "90 90 20 20 re f", stays: []string{"90 90 20 20 re"}},
		"a line whose width reaches in":  {stream: "20 w 95 0 m 95 300 l S", stays: []string{"95 0 m"}},
		"what clips stays":               {stream: "q 0 0 50 50 re W f 150 150 9 9 re f Q", stays: []string{"0 0 50 50 re", "W"}},
		"marked content without a rest":  {stream: "/P <</MCID 4>> BDC 0 0 9 9 re f EMC /P <</MCID 5>> BDC 150 150 9 9 re f EMC", gone: []string{"0 0 9 9 re"}, stays: []string{"/MCID 4", "/MCID 5"}, emptied: []int{4}},
		"what is said in its place goes": {stream: "/Span <</ActualText(secret)>> BDC 0 0 9 9 re f EMC", gone: []string{"secret", "ActualText"}, stays: []string{"/Span BMC", "EMC"}},
		"what is said of a part stays":   {stream: "/Span <</ActualText(both)>> BDC 0 0 9 9 re f 150 150 9 9 re f EMC", gone: []string{"0 0 9 9 re"}, stays: []string{"both"}},
		"a layer keeps its name":         {stream: "/OC /L BDC 0 0 9 9 re f EMC", gone: []string{"0 0 9 9 re"}, stays: []string{"/OC /L BDC"}},
		"words, and those that stay":     {stream: "BT /F 10 Tf 60 150 Td (gone) Tj 60 0 Td (left) Tj ET", gone: []string{"gone"}, stays: []string{"left"}},
	} {
		t.Run(name, func(t *testing.T) {
			d, ref := page(t, c.stream, "/Properties<</L<</Type/OCG/Name(Soundings)>>>>")
			p := readWhole(t, d, ref)
			patches, emptied, err := p.Outside(frame, func(*content.ImageUse) (pdf.Ref, pdf.Matrix, error) { return pdf.Ref{}, pdf.Identity, uncut })
			require.NoError(t, err)
			assert.Equal(t, c.emptied, emptied)
			require.NoError(t, content.Apply(d, p, patches))
			data, _, err := d.Decode(d.Stream(d.Dict(ref).Get("Contents")))
			require.NoError(t, err)
			for _, s := range c.gone {
				assert.NotContains(t, string(data), s)
			}
			for _, s := range c.stays {
				assert.Contains(t, string(data), s)
			}
		})
	}
	// Pictures: outside ones go unasked, those that cross are asked for; part of the content can't be.
	d, ref := page(t, "q 20 0 0 20 0 0 cm /I Do Q q 20 0 0 20 140 140 cm /I Do Q q 20 0 0 20 90 90 cm /I Do Q", "/XObject<</I 6 0 R>>",
		"<</Type/XObject/Subtype/Image/Width 1/Height 1/BitsPerComponent 8/ColorSpace/DeviceGray/Length 1>>\nstream\nx\nendstream")
	var asked []pdf.Rect
	patches, _, err := readWhole(t, d, ref).Outside(frame, func(u *content.ImageUse) (pdf.Ref, pdf.Matrix, error) {
		asked = append(asked, u.Box())
		return pdf.Ref{}, pdf.Identity, nil
	})
	require.NoError(t, err)
	assert.Equal(t, []pdf.Rect{{X0: 90, Y0: 90, X1: 110, Y1: 110}}, asked)
	assert.Len(t, patches, 1, "the one outside")
	d, ref = page(t, "q 20 0 0 20 90 90 cm BI /W 1 /H 1 /BPC 8 /CS /G ID x EI Q", "")
	_, _, err = readWhole(t, d, ref).Outside(frame, nil)
	assert.ErrorContains(t, err, "part of the content")
}
