// Command fontdata writes core/font/data: the Adobe Glyph List, the metrics of the standard 14 fonts, and
// the public CMaps of the four CJK collections, taken from Debian's packages texlive-base,
// r-base-core and poppler-data, which it is given unpacked in one folder:
//
//	apt-get download texlive-base r-base-core poppler-data
//	for f in *.deb; do dpkg-deb -x $f x; done
//	go run ./tools/fontdata x
package main

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/flate"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

const to = "core/font/data"

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: fontdata DIR")
		os.Exit(2)
	}
	for _, part := range []func(string) error{glyphs, metrics, cmaps} {
		if err := part(os.Args[1]); err != nil {
			fmt.Fprintln(os.Stderr, "fontdata:", err)
			os.Exit(1)
		}
	}
}

func glyphs(dir string) error {
	b, err := os.ReadFile(filepath.Join(dir, "usr/share/texlive/texmf-dist/fonts/map/glyphlist/glyphlist.txt"))
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(to, "glyphlist.txt"), b, 0o644)
}

// metrics keeps of each file its name, the font's box and heights, and code, width and name of each character.
func metrics(dir string) error {
	from := filepath.Join(dir, "usr/lib/R/library/grDevices/afm")
	var out bytes.Buffer
	fmt.Fprintln(&out, "# Metrics of the standard 14 fonts, taken from Adobe's Core14 AFM files; modified: only the lines that are used here, shortened.")
	fmt.Fprintln(&out, "# Copyright (c) 1985, 1987, 1989, 1990, 1991, 1992, 1993, 1997 Adobe Systems Incorporated. All Rights Reserved.")
	for _, name := range []string{"Courier", "Courier-Bold", "Courier-Oblique", "Courier-BoldOblique", "Helvetica", "Helvetica-Bold", "Helvetica-Oblique",
		"Helvetica-BoldOblique", "Times-Roman", "Times-Bold", "Times-Italic", "Times-BoldItalic", "Symbol", "ZapfDingbats"} {
		b, err := os.ReadFile(filepath.Join(from, name+".afm.gz"))
		if err != nil {
			return err
		}
		z, err := gzip.NewReader(bytes.NewReader(b))
		if err != nil {
			return err
		}
		fmt.Fprintln(&out, "font", name)
		for lines := bufio.NewScanner(z); lines.Scan(); {
			f := strings.Fields(lines.Text())
			switch {
			case len(f) == 2 && (f[0] == "Ascender" || f[0] == "Descender" || f[0] == "CapHeight"):
				fmt.Fprintln(&out, f[0], f[1])
			case len(f) > 8 && f[0] == "C":
				fmt.Fprintln(&out, f[1], f[4], f[7])
			}
		}
	}
	b, err := os.ReadFile(filepath.Join(from, "MustRead.html"))
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(to, "MustRead.html"), b, 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(to, "metrics.txt"), out.Bytes(), 0o644)
}

// cmaps packs the files without their comments; the licence, which is the same in all, stands beside them.
func cmaps(dir string) error {
	files, err := filepath.Glob(filepath.Join(dir, "usr/share/poppler/cMap/*/*"))
	if err != nil {
		return err
	}
	slices.Sort(files)
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { return flate.NewWriter(w, flate.BestCompression) })
	for _, path := range files {
		name := filepath.Base(path)
		ucs2 := strings.HasPrefix(name, "Adobe-") && strings.HasSuffix(name, "-UCS2")
		if strings.Contains(name, "UTF8") || strings.Contains(name, "UCS2C") || strings.HasPrefix(name, "UCS2-") ||
			strings.HasPrefix(name, "Adobe-") && !ucs2 || strings.HasSuffix(name, "-UCS2") && !ucs2 {
			continue
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate})
		if err != nil {
			return err
		}
		var licence bytes.Buffer
		for l := range strings.Lines(string(b)) {
			switch {
			case strings.HasPrefix(l, "%%Copyright:"):
				licence.WriteString(strings.TrimSpace(strings.TrimPrefix(l, "%%Copyright:")) + "\n")
			case strings.HasPrefix(l, "%") || strings.TrimSpace(l) == "":
			default:
				if _, err := io.WriteString(w, strings.TrimSpace(l)+"\n"); err != nil {
					return err
				}
			}
		}
		if err := os.WriteFile(filepath.Join(to, "cmaps-licence.txt"), licence.Bytes(), 0o644); err != nil {
			return err
		}
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(to, "cmaps.zip"), out.Bytes(), 0o644)
}
