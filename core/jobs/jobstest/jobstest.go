// Package jobstest runs steps in tests, one after another on a document, and holds what they say against the patterns of plain English.
package jobstest

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/house"
	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/step"
)

// Memory gives sources from bytes by name.
type Memory map[string][]byte

// Open opens one.
func (m Memory) Open(_ context.Context, ref step.SourceRef) (*step.Source, error) {
	b, ok := m[string(ref)]
	if !ok {
		return nil, step.Refuse("there is no %s", ref)
	}
	return &step.Source{Name: string(ref), Data: bytes.NewReader(b), Size: int64(len(b))}, nil
}

// Bench is a document on which steps are run one after another.
type Bench struct {
	T    testing.TB
	Reg  *step.Registry
	Base []byte
	Doc  *pdf.Document
	Keys *step.Keys
	Src  Memory
	N    int
	Ups  [][]byte
}

// New opens a file to run steps of a registry on.
func New(t testing.TB, reg *step.Registry, data []byte) *Bench {
	d := pdftest.Open(t, data)
	pages, err := d.Pages()
	require.NoError(t, err)
	return &Bench{T: t, Reg: reg, Base: data, Doc: d, Keys: step.NewKeys(pages), Src: Memory{"other": pdftest.Text(9)}}
}

// Env is what the next step runs in.
func (b *Bench) Env() *step.Env {
	return &step.Env{Now: time.Unix(1_800_000_000, 0).UTC(), Seed: [16]byte{byte(b.N), 7}, Step: b.N, Keys: b.Keys, Sources: b.Src}
}

// Run runs a step, which must be done.
func (b *Bench) Run(name, params string) *step.Result {
	b.T.Helper()
	res, err := b.Try(name, params)
	require.NoError(b.T, err)
	return res
}

// Reads holds what a step says against the patterns of plain English.
func Reads(t testing.TB, sentences ...string) {
	t.Helper()
	for _, s := range sentences {
		words, instead := house.Wrong(s)
		assert.Empty(t, words, "%s: %s", s, instead)
	}
}

// Try runs a step; where it is refused the document stays as it is.
func (b *Bench) Try(name, params string) (*step.Result, error) {
	s, err := b.Reg.New(name, json.RawMessage(params))
	if err != nil {
		return nil, err
	}
	b.N++
	_, res, err := b.Reg.Run(b.T.Context(), b.Doc, s, b.Env())
	if err != nil {
		Reads(b.T, err.Error())
		return nil, err
	}
	Reads(b.T, append([]string{res.Sentence}, res.Warnings...)...)
	b.Doc, err = b.Doc.With(res.Update)
	require.NoError(b.T, err)
	b.Keys = b.Keys.With(b.N, res.Created)
	b.Ups = append(b.Ups, res.Update)
	return res, nil
}

// Texts gives the text of each page, as another program reads it.
func (b *Bench) Texts() []string { return pdftest.PageTexts(b.T, pdftest.Whole(b.T, b.Doc)) }

// File is base and updates, as they stand on the disk.
func (b *Bench) File() []byte {
	return append(bytes.Clone(b.Base), bytes.Join(b.Ups, nil)...)
}

// Linked is a file in which a bookmark, a named place, links, tags and a form field lead to page 2.
func Linked() []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add(`<</Type/Catalog/Pages 2 0 R/Outlines 10 0 R/Names<</Dests 14 0 R>>/StructTreeRoot 20 0 R/MarkInfo<</Marked true>>/AcroForm<</Fields[30 0 R 31 0 R]/DA(/F1 9 Tf)>>/OpenAction[4 0 R/Fit]>>`)
	f.Add(`<</Type/Pages/Kids[3 0 R 4 0 R 5 0 R]/Count 3/MediaBox[0 0 300 300]/Resources<</Font<</F1 9 0 R>>>>>>`)
	f.Add(`<</Type/Page/Parent 2 0 R/Contents 6 0 R/StructParents 0/Annots[15 0 R 16 0 R 17 0 R]>>`)
	f.Add(`<</Type/Page/Parent 2 0 R/Contents 7 0 R/StructParents 1/Annots[30 0 R 32 0 R]>>`)
	f.Add(`<</Type/Page/Parent 2 0 R/Contents 8 0 R/StructParents 2/Annots[33 0 R]>>`)
	for i, s := range []string{"FIRST", "HARBOURSECRET", "THIRD"} {
		f.Add("%s", pdftest.Stream("", fmt.Sprintf("/P <</MCID 0>> BDC BT /F1 20 Tf 30 %d Td (%s) Tj ET EMC", 200-i, s)))
	}
	f.Add(`<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>`)                                                         // 9
	f.Add(`<</Type/Outlines/First 11 0 R/Last 13 0 R/Count 3>>`)                                                     // 10
	f.Add(`<</Title(One)/Parent 10 0 R/Next 12 0 R/Dest[3 0 R/Fit]>>`)                                               // 11
	f.Add(`<</Title(Secret bookmark)/Parent 10 0 R/Prev 11 0 R/Next 13 0 R/A<</S/GoTo/D(second)>>>>`)                // 12
	f.Add(`<</Title(Three)/Parent 10 0 R/Prev 12 0 R/Dest[5 0 R/Fit]>>`)                                             // 13
	f.Add(`<</Names[(first)[3 0 R/Fit](second)<</D[4 0 R/Fit]>>]>>`)                                                 // 14
	f.Add(`<</Type/Annot/Subtype/Link/Rect[0 0 50 50]/Dest[4 0 R/Fit]>>`)                                            // 15
	f.Add(`<</Type/Annot/Subtype/Link/Rect[0 50 50 90]/A<</S/GoTo/D(second)>>>>`)                                    // 16
	f.Add(`<</Type/Annot/Subtype/Link/Rect[0 90 50 120]/Dest(first)>>`)                                              // 17
	f.Add(`null`)                                                                                                    // 18
	f.Add(`null`)                                                                                                    // 19
	f.Add(`<</Type/StructTreeRoot/K[21 0 R]/ParentTree<</Nums[0[22 0 R]1[23 0 R]2[24 0 R]]>>/ParentTreeNextKey 3>>`) // 20
	f.Add(`<</Type/StructElem/S/Document/P 20 0 R/K[22 0 R 23 0 R 24 0 R]>>`)                                        // 21
	f.Add(`<</Type/StructElem/S/P/P 21 0 R/Pg 3 0 R/K 0>>`)                                                          // 22
	f.Add(`<</Type/StructElem/S/P/P 21 0 R/Pg 4 0 R/K 0/ActualText(HARBOURSECRET spoken)>>`)                         // 23
	f.Add(`<</Type/StructElem/S/P/P 21 0 R/K<</Type/MCR/Pg 5 0 R/MCID 0>>>>`)                                        // 24
	for range 5 {                                                                                                    // 25-29
		f.Add(`null`)
	}
	f.Add(`<</Type/Annot/Subtype/Widget/FT/Tx/T(secret field)/V(HARBOURSECRET value)/Rect[0 0 9 9]/P 4 0 R>>`) // 30
	f.Add(`<</FT/Tx/T(both)/Kids[32 0 R 33 0 R]>>`)                                                            // 31
	f.Add(`<</Type/Annot/Subtype/Widget/Parent 31 0 R/Rect[0 10 9 19]/P 4 0 R/Contents(HARBOURSECRET note)>>`) // 32
	f.Add(`<</Type/Annot/Subtype/Widget/Parent 31 0 R/Rect[0 10 9 19]/P 5 0 R>>`)                              // 33
	return f.Bytes()
}

// Out hands a document out.
func Out(t *testing.T, doc *pdf.Document) []byte {
	t.Helper()
	d := doc.Fork()
	opt := outgoing.Prepare(d, time.Unix(1_800_000_000, 0).UTC())
	var b bytes.Buffer
	require.NoError(t, d.WriteFull(t.Context(), &b, opt))
	return b.Bytes()
}

// Plain is a file in clear, as qpdf writes it.
func Plain(t *testing.T, data []byte) string {
	return pdftest.Tool(t, data, "qpdf", "--qdf", "--object-streams=disable", "--no-original-object-ids", "FILE", "-")
}

// Made writes a file: catalog, pages and what they name. more are objects from 10 on; pages say what is added to each, behind its text and a bar.
func Made(catalog string, pages []string, more ...string) []byte {
	f := &pdftest.File{Version: "1.7"}
	f.Add("<</Type/Catalog/Pages 2 0 R%s>>", catalog)
	var kids strings.Builder
	for i := range pages {
		fmt.Fprintf(&kids, "%d 0 R ", 100+i)
	}
	f.Add("<</Type/Pages/Kids[%s]/Count %d/MediaBox[0 0 300 300]>>", kids.String(), len(pages))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Courier>>")
	for len(f.Objects) < 9 {
		f.Add("null")
	}
	for _, o := range more {
		f.Add("%s", o)
	}
	for len(f.Objects) < 99 {
		f.Add("null")
	}
	for i, p := range pages {
		_, own, _ := strings.Cut(p, "|")
		f.Add("<</Type/Page/Parent 2 0 R/Contents %d 0 R/Resources<</Font<</F 3 0 R>>>>%s>>", 100+len(pages)+i, own)
	}
	for _, p := range pages {
		text, _, _ := strings.Cut(p, "|")
		f.Add("%s", pdftest.Stream("", "BT /F 12 Tf 20 250 Td ("+text+") Tj ET"))
	}
	return f.Bytes()
}

// Told is what a step warns of.
func Told(res *step.Result) string { return strings.Join(res.Warnings, "\n") }

// Drawn is a page as poppler and mutool draw it, in short.
func Drawn(t *testing.T, data []byte, page int) string {
	n := fmt.Sprint(page)
	return fmt.Sprintf("%x", Hash([]byte(pdftest.Tool(t, data, "pdftoppm", "-r", "50", "-f", n, "-l", n, "FILE")+pdftest.Tool(t, data, "mutool", "draw", "-q", "-r", "50", "-F", "pnm", "-o", "-", "FILE", n))))
}

// Labels are a document's, as qpdf tells the ranges.
func Labels(t *testing.T, data []byte) (out []string) {
	var j struct {
		PageLabels []struct {
			Index int            `json:"index"`
			Label map[string]any `json:"label"`
		} `json:"pagelabels"`
		Pages []any `json:"pages"`
	}
	require.NoError(t, json.Unmarshal([]byte(pdftest.Tool(t, data, "qpdf", "--json=2", "--json-key=pagelabels", "--json-key=pages", "FILE")), &j))
	for i := range j.Pages {
		label := ""
		for _, r := range j.PageLabels {
			if r.Index <= i {
				first, _ := r.Label["/St"].(float64)
				prefix, _ := r.Label["/P"].(string)
				label = strings.TrimPrefix(prefix, "u:")
				if s, ok := r.Label["/S"].(string); ok {
					label += s[1:] + fmt.Sprint(int(max(first, 1))+i-r.Index)
				}
			}
		}
		out = append(out, label)
	}
	return out
}

// Hash tells bytes apart.
func Hash(b []byte) (h uint64) {
	for _, c := range b {
		h = h*1099511628211 + uint64(c)
	}
	return
}

// Sizes are the sizes of pages by another program, in whole points.
func Sizes(t *testing.T, data []byte) string {
	var out []string
	for _, m := range regexp.MustCompile(`Page +\d+ size: +([\d.]+) x ([\d.]+)`).FindAllStringSubmatch(pdftest.Tool(t, data, "pdfinfo", "-l", "99", "FILE"), -1) {
		var w, h float64
		_, _ = fmt.Sscan(m[1], &w)
		_, _ = fmt.Sscan(m[2], &h)
		out = append(out, fmt.Sprintf("%.0fx%.0f", w, h))
	}
	return strings.Join(out, " ")
}

// Inked gives the rectangle of what is not white on a page that another program drew, in points from the upper left corner.
func Inked(t *testing.T, data []byte, page int) [4]float64 {
	const dpi = 144
	dir := t.TempDir()
	pdftest.Tool(t, data, "pdftoppm", "-png", "-cropbox", "-r", fmt.Sprint(dpi), "-f", fmt.Sprint(page), "-l", fmt.Sprint(page), "FILE", filepath.Join(dir, "p"))
	files, err := filepath.Glob(filepath.Join(dir, "p*.png"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	f, err := os.Open(files[0])
	require.NoError(t, err)
	defer f.Close()
	img, _, err := image.Decode(f)
	require.NoError(t, err)
	b := img.Bounds()
	x0, y0, x1, y1 := b.Max.X, b.Max.Y, 0, 0
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			if r, g, bl, _ := img.At(x, y).RGBA(); r < 0xf000 || g < 0xf000 || bl < 0xf000 {
				x0, y0, x1, y1 = min(x0, x), min(y0, y), max(x1, x+1), max(y1, y+1)
			}
		}
	}
	k := 72.0 / dpi
	return [4]float64{float64(x0) * k, float64(y0) * k, float64(x1) * k, float64(y1) * k}
}

// Placed is a file of one page with a box, a link to itself, and a comment; rotate is the page's.
func Placed(rotate int) []byte {
	return Made("/Outlines 10 0 R", []string{fmt.Sprintf("Berth|/Rotate %d/CropBox[50 50 250 250]/Annots[12 0 R 13 0 R]", rotate)},
		"<</Type/Outlines/First 11 0 R/Last 11 0 R/Count 1>>",
		"<</Title(Berth)/Parent 10 0 R/Dest[100 0 R/XYZ 60 250 null]>>",
		"<</Type/Annot/Subtype/Link/Border[0 0 0]/Rect[60 60 100 100]/Dest[100 0 R/FitR 60 60 100 100]>>",
		"<</Type/Annot/Subtype/Square/Rect[100 100 200 150]/C[1 0 0]/AP<</N 14 0 R>>/F 4>>",
		pdftest.Stream("/Type/XObject/Subtype/Form/BBox[0 0 100 50]", "1 0 0 rg 0 0 100 50 re f"))
}
