package main

// causes says why the characters of a file agree in less than 99 of 100: found by looking at the glyphs, by hand.
var causes = map[string]string{
	"debian/lilypond-doc-pdf/cary.preview.pdf":          "notes and rests of a music font, of which nothing says what they stand for: ours count as unknown characters, mutool leaves them out",
	"debian/lilypond-doc-pdf/bach-schenker.pdf":         "as cary.preview: music glyphs",
	"debian/lilypond-doc-pdf/bach-schenker.preview.pdf": "as cary.preview: music glyphs",
	"debian/lilypond-doc-pdf/granados.pdf":              "as cary.preview: music glyphs",
	"debian/texlive-metapost-doc/grdemo.pdf":            "13 characters in all: a pointing hand of ZapfDingbats that mutool leaves out",
	"debian/texlive-lang-cyrillic/zanabazr.pdf":         "bitmap fonts whose glyphs are named by numbers (a143): codes that are no characters of WinAnsi are unknown to us, controls to mutool",
	"pdfcpu/testdata_adobe_supplement_iso32000_1.pdf":   "mathematical letters beyond the basic plane: mutool gives U+FFFD for each half of their UTF-16, ours the letter",
}
