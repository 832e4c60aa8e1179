package main

// causes says why the characters of a file agree in less than 99 of 100: found by looking at the glyphs, by hand.
var causes = map[string]string{
	"debian/lilypond-doc-pdf/cary.preview.pdf":          "notes and rests of a music font, of which nothing says what they stand for: ours count as unknown characters, mutool leaves them out",
	"debian/lilypond-doc-pdf/bach-schenker.pdf":         "as cary.preview: music glyphs",
	"debian/lilypond-doc-pdf/bach-schenker.preview.pdf": "as cary.preview: music glyphs",
	"debian/lilypond-doc-pdf/granados.pdf":              "as cary.preview: music glyphs",
	"debian/texlive-metapost-doc/grdemo.pdf":            "13 characters in all: a pointing hand of ZapfDingbats that mutool leaves out",
	"debian/texlive-lang-cyrillic/zanabazr.pdf":         "bitmap fonts whose glyphs are named by numbers (a143): codes that are no characters of WinAnsi are unknown to us, controls to mutool",
	"module/6d684558.pdf":                               "mathematical letters beyond the basic plane: mutool gives U+FFFD for each half of their UTF-16, ours the letter",
}

// byEye tells what was seen of paragraphs on real pages.
const byEye = `
## Paragraphs by eye

On made pages of fourteen styles the paragraphs that were set are found exactly (a test of core/layout holds 95 of 100; 99.9 were found). On real pages they were drawn
around and looked at. [Six pages of the demo's papers](paragraphs.png): every paragraph, heading, caption and cell is one, in the order of reading; a table's cells go row by row.
Of the documents above: R-intro (contents and text), debian-faq page 20, glpk graphs page 8, ltnews16 (two columns), gnuplot page 150, abinit report_MGGA page 3, DCT_Filter page 5 (ragged
text), schmager_plateau10 page 2 (two columns with listings), itu-t81 page 20 (figures), octave refcard-a4 (three columns of pairs), Walden page 1, ltnews18, mail-server (a drawing). What
is not as a person would have it: each line of a program listing is a paragraph of its own; in refcard-a4 some pairs are read as two columns; labels in figures are read one by one; of two
title lines set apart one may stand alone.
`
