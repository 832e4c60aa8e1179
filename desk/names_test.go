package desk

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNames(t *testing.T) {
	for in, want := range map[string]string{
		"Quay wall survey":       "Quay wall survey",
		" . ":                    "Untitled",
		"a/b\\c:d*e?f\"g<h>i|j":  "abcdefghij",
		"line\nbreak\x00\x7f":    "linebreak",
		"Größe 漢字.pdf":           "Größe 漢字.pdf",
		strings.Repeat("é", 300): strings.Repeat("é", 90),
	} {
		assert.Equal(t, want, cleanName(in))
	}
	for in, want := range map[string]string{"a.pdf": "a", "a.b.jpeg": "a.b", "no": "no", ".pdf": ".pdf", "Minutes, 3 Nov.": "Minutes, 3 Nov.", "v1.20261125": "v1.20261125"} {
		assert.Equal(t, want, trimExt(in))
	}
	assert.Equal(t, "Out", trimPDF("Out.PDF"))
	assert.Equal(t, ".pdf", trimPDF(".pdf"))
}

func TestPaper(t *testing.T) {
	// ISO 216: A4 is 210 x 297 mm, A5 148 x 210 mm; ANSI/ASME Y14.1: Letter is 8.5 x 11 in
	mm := 72 / 25.4
	for want, size := range map[string][2]float64{
		"A4": {210 * mm, 297 * mm}, "A4 landscape": {297 * mm, 210 * mm}, "A5": {148 * mm, 210 * mm}, "Letter": {8.5 * 72, 11 * 72},
		"Letter landscape": {792, 612}, "297 × 198 mm": {297 * mm, 198 * mm}, "A3": {842, 1191},
	} {
		assert.Equal(t, want, Paper(size[0], size[1]))
	}
}
