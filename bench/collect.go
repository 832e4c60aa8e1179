package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"glenrain/core/content"
	"glenrain/core/finding"
	"glenrain/core/intake"
	"glenrain/core/intake/intaketest"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/desk"
)

// collect measures what comes in: uploads, what is found out about a document, files of other kinds turned into pages, a list of many documents.
func collect(ctx context.Context, dir, byelaws string) error {
	fmt.Print("## Collect\n\n| what | ours | reference | its figure | ratio |\n|---|---:|---|---:|---:|\n")
	d, err := openDesk(filepath.Join(dir, "collect"))
	if err != nil {
		return err
	}
	defer d.Close()
	one := pdftest.Text(4)
	start := time.Now()
	for i := range 100 {
		in, err := d.Store.Create()
		if err != nil {
			return err
		}
		if _, err := in.Write(append(bytes.Clone(one), fmt.Sprintf("%% %d\n", i)...)); err != nil {
			return err
		}
		if _, err := d.Arrive(ctx, desk.Arrival{Person: 1, Name: fmt.Sprintf("Paper %d.pdf", i)}, in); err != nil {
			return err
		}
	}
	ours := time.Since(start)
	path := filepath.Join(dir, "one.pdf")
	if err := os.WriteFile(path, one, 0o600); err != nil {
		return err
	}
	check, err := measure("qpdf", "--check", path)
	if err != nil {
		return err
	}
	text, err := measure("pdftotext", path, os.DevNull)
	if err != nil {
		return err
	}
	ref := 100 * (check.Wall + text.Wall)
	fmt.Printf("| 100 files of 4 pages added, one after another: read in a child, looked through, stored on the disk | %.0f ms | qpdf --check and pdftotext, 100 times | %.0f ms | %.2f |\n", ms(ours), ms(ref), float64(ours)/float64(ref))

	doc, err := openCopy(byelaws)
	if err != nil {
		return err
	}
	pages, err := doc.Pages()
	if err != nil {
		return err
	}
	refs := make([]pdf.Ref, len(pages))
	for i, p := range pages {
		refs[i] = p.Ref
	}
	start = time.Now()
	if _, err := finding.Describe(ctx, doc); err != nil {
		return err
	}
	if _, err := finding.Run(ctx, doc, finding.Arrival); err != nil {
		return err
	}
	err = layout.Pages(ctx, doc, refs, content.Options{Images: true}, 0, func(_ int, l *layout.Page, b []byte) []byte {
		if finding.LookAt(doc, l.Source, doc.Geometry(l.Source.Ref)).Shown > 0 {
			return append(b, 1)
		}
		return append(b, 0)
	}, func(int, []byte) error { return nil })
	if err != nil {
		return err
	}
	ours = time.Since(start)
	var sum time.Duration
	for _, tool := range []string{"pdfinfo", "pdffonts", "pdfimages", "pdftotext"} {
		args := map[string][]string{"pdfinfo": {"-struct", byelaws}, "pdffonts": {byelaws}, "pdfimages": {"-list", byelaws}, "pdftotext": {byelaws, os.DevNull}}[tool]
		c, err := measureQuiet(tool, args...)
		if err != nil {
			return err
		}
		sum += c
	}
	fmt.Printf("| what a document of %d pages is made of: fonts, weight, kinds of pages, findings | %.0f ms | pdfinfo -struct, pdffonts, pdfimages -list, pdftotext | %.0f ms | %.2f |\n", len(pages), ms(ours), ms(sum), float64(ours)/float64(sum))
	if err := converted(ctx, dir); err != nil {
		return err
	}
	fmt.Println()
	return nil
}

// measureQuiet times a program whose output nobody reads.
func measureQuiet(name string, args ...string) (time.Duration, error) {
	c, err := measure("sh", append([]string{"-c", `exec "$0" "$@" >/dev/null 2>&1`, name}, args...)...)
	return c.Wall, err
}

// converted measures files of other kinds beside Chromium alone on the same sheet, where that is one run.
func converted(ctx context.Context, dir string) error {
	var body strings.Builder
	for i := range 1000 {
		if i%12 == 0 {
			fmt.Fprintf(&body, `<w:p><w:pPr><w:pStyle w:val="H"/></w:pPr><w:r><w:t>Part %d</w:t></w:r></w:p>`, i/12+1)
		}
		body.WriteString(`<w:p><w:r><w:t xml:space="preserve">` + strings.Repeat("The survey of October found up to half a metre of silt between the stations. ", 9) + `</w:t></w:r></w:p>`)
	}
	letter := intaketest.Docx(body.String(), "word/_rels/document.xml.rels", `<Relationships><Relationship Id="s" Type="x/styles" Target="styles.xml"/></Relationships>`,
		"word/styles.xml", `<w:styles xmlns:w="w"><w:style w:type="paragraph" w:styleId="H"><w:name w:val="heading 1"/></w:style></w:styles>`)
	files := map[string][]byte{"a text document (docx) of over 100 pages": letter}
	order := []string{"a text document (docx) of over 100 pages"}
	for _, n := range []int{1000, 20_000} {
		f := excelize.NewFile()
		w, err := f.NewStreamWriter("Sheet1")
		if err != nil {
			return err
		}
		for r := 1; r <= n; r++ {
			cell, _ := excelize.CoordinatesToCellName(1, r)
			if err := w.SetRow(cell, []any{r, fmt.Sprintf("Berth %d", r%400), r * 7 % 1000, 1.25 * float64(r%97), "North face", "2027-01-11", r % 3, "paid"}); err != nil {
				return err
			}
		}
		if err := w.Flush(); err != nil {
			return err
		}
		var b bytes.Buffer
		if err := f.Write(&b); err != nil {
			return err
		}
		name := fmt.Sprintf("a sheet (xlsx) of %d rows of 8", n)
		files[name], order = b.Bytes(), append(order, name)
	}
	for _, name := range order {
		ext := "xlsx"
		if strings.Contains(name, "docx") {
			ext = "docx"
		}
		in, out := filepath.Join(dir, "in."+ext), filepath.Join(dir, "converted.pdf")
		if err := os.WriteFile(in, files[name], 0o600); err != nil {
			return err
		}
		c, err := measureQuietCost("./glenrain", "combine", in, "-o", out)
		if err != nil {
			return err
		}
		st, err := os.Stat(out)
		if err != nil {
			return err
		}
		made, err := openCopy(out)
		if err != nil {
			return err
		}
		pages, err := made.Pages()
		if err != nil {
			return err
		}
		ref, figure, ratio := "", "", ""
		r := bytes.NewReader(files[name])
		sheet, err := intake.Read(ctx, intake.Find(ctx, in, r, r.Size()), in, r, r.Size(), intake.Options{})
		if err != nil {
			return err
		}
		if len(sheet.Sheets) == 1 && sheet.Sheets[0].Long == nil { // its fonts are not there for it, which makes it no slower
			html := filepath.Join(dir, "sheet.html")
			if err := os.WriteFile(html, sheet.Sheets[0].HTML, 0o600); err != nil {
				return err
			}
			a, err := measureQuietCost("chromium", "--headless", "--no-sandbox", "--disable-gpu", "--generate-pdf-document-outline", "--print-to-pdf="+filepath.Join(dir, "alone.pdf"), "--no-pdf-header-footer", "file://"+html)
			if err != nil {
				return err
			}
			ref, figure, ratio = "chromium alone on the same sheet", fmt.Sprintf("%.1f s", a.Wall.Seconds()), fmt.Sprintf("%.2f", float64(c.Wall)/float64(a.Wall))
		}
		fmt.Printf("| %s: %d pages, %d bytes a page, %d MB in our own process | %.1f s | %s | %s | %s |\n", name, len(pages), st.Size()/int64(len(pages)), c.Peak>>20, c.Wall.Seconds(), ref, figure, ratio)
	}
	return nil
}

func measureQuietCost(name string, args ...string) (cost, error) {
	return measure("sh", append([]string{"-c", `exec "$0" "$@" >/dev/null 2>&1`, name}, args...)...)
}

// manyRows measures the list of documents in its orders, and narrowed.
func manyRows(b *browser) error {
	fmt.Print("\n| the list of documents, its first part | ms | longest |\n|---|---:|---:|\n")
	for _, row := range [][2]string{{"by name", "/documents?sort=name"}, {"heaviest first", "/documents?sort=weight"}, {"most pages first", "/documents?sort=pages"}, {"named like", "/documents?words=77"}, {"without text", "/documents?trait=no-text"}} {
		mid, worst, err := times(21, func(int) (time.Duration, error) {
			_, t, err := b.ask(http.MethodGet, row[1], nil)
			return t, err
		})
		if err != nil {
			return err
		}
		fmt.Printf("| %s | %.1f | %.1f |\n", row[0], ms(mid), ms(worst))
	}
	return nil
}
