package demo

import (
	"archive/zip"
	"bytes"
	"fmt"
	"image"
	"strings"

	"github.com/hhrutter/tiff"
	"github.com/xuri/excelize/v2"
)

// berthApplications is the office's workbook of who wants which berth.
func berthApplications() (File, error) {
	f := excelize.NewFile()
	const sheet = "Applications"
	err := f.SetSheetName("Sheet1", sheet)
	do := func(e error) {
		if err == nil {
			err = e
		}
	}
	style := func(s excelize.Style) int {
		id, e := f.NewStyle(&s)
		do(e)
		return id
	}
	money, day, metres := "#,##0.00", "d mmm yyyy", "0.0"
	lines := []excelize.Border{{Type: "bottom", Style: 1, Color: "CFD6CD"}}
	head := style(excelize.Style{Font: &excelize.Font{Bold: true, Color: "FFFFFF"}, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"2F6149"}}, Alignment: &excelize.Alignment{WrapText: true, Vertical: "center"}})
	title := style(excelize.Style{Font: &excelize.Font{Bold: true, Size: 14}})
	text := style(excelize.Style{Border: lines})
	fee := style(excelize.Style{CustomNumFmt: &money, Border: lines})
	date := style(excelize.Style{CustomNumFmt: &day, Border: lines, Alignment: &excelize.Alignment{Horizontal: "right"}})
	length := style(excelize.Style{CustomNumFmt: &metres, Border: lines})
	sum := style(excelize.Style{CustomNumFmt: &money, Font: &excelize.Font{Bold: true}, Border: []excelize.Border{{Type: "top", Style: 2, Color: "22302C"}}})
	do(f.SetCellValue(sheet, "A1", "Winter berths 2027: applications"))
	do(f.SetCellStyle(sheet, "A1", "A1", title))
	do(f.SetSheetRow(sheet, "A3", &[]any{"No.", "Vessel", "Holder", "Length (m)", "Berth requested", "Received", "Fee (crowns)"}))
	do(f.SetCellStyle(sheet, "A3", "G3", head))
	vessels := []string{"Grey Petrel", "Skerry Lass", "Nine Fathoms", "Old Ebb", "Kittiwake", "Sound Reason", "Morning Slack", "The Second Bell", "Brae Head", "Turnstone"}
	holders := []string{"E. Marwick", "J. Flett", "R. Inkster", "S. Drever", "M. Leask"}
	places := []string{"North face", "Ice quay", "Inner basin"}
	const n = 46
	for i := range n {
		row := i + 4
		do(f.SetSheetRow(sheet, fmt.Sprintf("A%d", row), &[]any{i + 1, vessels[i*7%len(vessels)] + map[bool]string{true: " II"}[i > 22], holders[i*3%len(holders)], 4.5 + float64(i*37%90)/10, places[i%3], 46350 + i/3}))
		do(f.SetCellFormula(sheet, fmt.Sprintf("G%d", row), fmt.Sprintf("ROUND(40*D%d+IF(E%d=\"North face\",60,20),0)", row, row)))
	}
	last := n + 3
	do(f.SetCellStyle(sheet, "A4", fmt.Sprintf("C%d", last), text))
	do(f.SetCellStyle(sheet, "D4", fmt.Sprintf("D%d", last), length))
	do(f.SetCellStyle(sheet, "E4", fmt.Sprintf("E%d", last), text))
	do(f.SetCellStyle(sheet, "F4", fmt.Sprintf("F%d", last), date))
	do(f.SetCellStyle(sheet, "G4", fmt.Sprintf("G%d", last), fee))
	do(f.SetCellValue(sheet, fmt.Sprintf("F%d", last+1), "Total"))
	do(f.SetCellFormula(sheet, fmt.Sprintf("G%d", last+1), fmt.Sprintf("SUM(G4:G%d)", last)))
	do(f.SetCellStyle(sheet, fmt.Sprintf("F%d", last+1), fmt.Sprintf("G%d", last+1), sum))
	for col, w := range map[string]float64{"A": 6, "B": 24, "C": 16, "D": 11, "E": 15, "F": 14, "G": 14} {
		do(f.SetColWidth(sheet, col, col, w))
	}
	do(f.SetDefinedName(&excelize.DefinedName{Name: "_xlnm.Print_Titles", RefersTo: sheet + "!$1:$3", Scope: sheet}))
	do(f.SetHeaderFooter(sheet, &excelize.HeaderFooterOptions{OddFooter: "&LOrrin Quay Harbour Trust&RPage &P of &N"}))
	do(f.SetDocProps(&excelize.DocProperties{Title: "Winter berths 2027: applications", Language: "en-GB", Created: "2026-11-20T09:00:00Z", Modified: "2026-11-20T09:00:00Z"}))
	var b bytes.Buffer
	do(f.Write(&b))
	return File{"Berth applications.xlsx", b.Bytes()}, err
}

// pilotLetter is a letter as a text program writes one.
func pilotLetter() (File, error) {
	const space = `xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"`
	p := func(style, text string) string {
		return `<w:p><w:pPr>` + style + `</w:pPr><w:r><w:t xml:space="preserve">` + text + `</w:t></w:r></w:p>`
	}
	item := func(text string) string {
		return p(`<w:numPr><w:ilvl w:val="0"/><w:numId w:val="1"/></w:numPr>`, text)
	}
	var rows strings.Builder
	cell := func(text string) string { return `<w:tc><w:tcPr/>` + p(`<w:spacing w:after="0"/>`, text) + `</w:tc>` }
	rows.WriteString(`<w:tr><w:trPr><w:tblHeader/></w:trPr>` + cell("Signal") + cell("Meaning") + cell("Answered by") + `</w:tr>`)
	for _, r := range [][3]string{{"One long", "The dredger leaves the face", "One long from the office"}, {"Two short", "Keep to the eastern side", "Nothing"}, {"Five short", "Stop where you are", "Five short"}} {
		rows.WriteString(`<w:tr>` + cell(r[0]) + cell(r[1]) + cell(r[2]) + `</w:tr>`)
	}
	line := func(side string) string { return `<w:` + side + ` w:val="single" w:sz="4" w:color="9AA59D"/>` }
	body := p(`<w:pStyle w:val="Title"/>`, "To the pilots of Orrin Quay") + p("", "Harbour Office, The Knuckle, 24 November 2026") +
		p(`<w:pStyle w:val="Head"/>`, "While the dredger works") + p("", "From 11 January to 5 March 2027 the dredger lies along the north face by day. The fairway keeps its width, but not its depth: between the knuckle and station 14 there are spoil barges at anchor, lit as the byelaws ask.") +
		p("", "We ask that all pilots:") + item("bring vessels over 30 metres in on the flood alone;") + item("give an hour’s notice to the office, on channel 11;") + item("take the inner leading line as given, and not the old one.") +
		p(`<w:pStyle w:val="Head"/>`, "Signals") + `<w:tbl><w:tblPr><w:tblBorders>` + line("top") + line("left") + line("bottom") + line("right") + line("insideH") + line("insideV") + `</w:tblBorders></w:tblPr><w:tblGrid><w:gridCol w:w="2200"/><w:gridCol w:w="4200"/><w:gridCol w:w="2900"/></w:tblGrid>` + rows.String() + `</w:tbl>` +
		p(`<w:spacing w:before="240"/>`, "The tide table of the year is with this letter. Ask for more copies at the office.") + p("", "Tomas Quill, deputy harbour master") +
		`<w:sectPr><w:footerReference w:type="default" r:id="f"/><w:pgSz w:w="11906" w:h="16838"/><w:pgMar w:top="1418" w:right="1304" w:bottom="1418" w:left="1304"/></w:sectPr>`
	rel := func(id, kind, target string) string {
		return `<Relationship Id="` + id + `" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/` + kind + `" Target="` + target + `"/>`
	}
	const rels = `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">`
	const part = "application/vnd.openxmlformats-officedocument.wordprocessingml."
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, m := range [][2]string{
		{"[Content_Types].xml", `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Override PartName="/word/document.xml" ContentType="` + part + `document.main+xml"/><Override PartName="/word/styles.xml" ContentType="` + part + `styles+xml"/><Override PartName="/word/numbering.xml" ContentType="` + part + `numbering+xml"/><Override PartName="/word/footer1.xml" ContentType="` + part + `footer+xml"/></Types>`},
		{"_rels/.rels", rels + rel("d", "officeDocument", "word/document.xml") + `</Relationships>`},
		{"word/_rels/document.xml.rels", rels + rel("s", "styles", "styles.xml") + rel("n", "numbering", "numbering.xml") + rel("f", "footer", "footer1.xml") + `</Relationships>`},
		{"word/document.xml", `<?xml version="1.0" encoding="UTF-8"?><w:document ` + space + `><w:body>` + body + `</w:body></w:document>`},
		{"word/styles.xml", `<w:styles ` + space + `><w:docDefaults><w:rPrDefault><w:rPr><w:rFonts w:ascii="Liberation Serif" w:hAnsi="Liberation Serif"/><w:sz w:val="23"/><w:lang w:val="en-GB"/></w:rPr></w:rPrDefault><w:pPrDefault><w:pPr><w:spacing w:after="140" w:line="276" w:lineRule="auto"/></w:pPr></w:pPrDefault></w:docDefaults><w:style w:type="paragraph" w:default="1" w:styleId="Normal"><w:name w:val="Normal"/></w:style><w:style w:type="paragraph" w:styleId="Title"><w:name w:val="heading 1"/><w:rPr><w:rFonts w:ascii="Liberation Sans"/><w:b/><w:color w:val="2F6149"/><w:sz w:val="36"/></w:rPr></w:style><w:style w:type="paragraph" w:styleId="Head"><w:name w:val="heading 2"/><w:pPr><w:keepNext/><w:spacing w:before="240"/></w:pPr><w:rPr><w:rFonts w:ascii="Liberation Sans"/><w:b/><w:sz w:val="26"/></w:rPr></w:style></w:styles>`},
		{"word/numbering.xml", `<w:numbering ` + space + `><w:abstractNum w:abstractNumId="0"><w:lvl w:ilvl="0"><w:start w:val="1"/><w:numFmt w:val="lowerLetter"/><w:lvlText w:val="%1)"/><w:pPr><w:ind w:left="720" w:hanging="360"/></w:pPr></w:lvl></w:abstractNum><w:num w:numId="1"><w:abstractNumId w:val="0"/></w:num></w:numbering>`},
		{"word/footer1.xml", `<w:ftr ` + space + `><w:p><w:r><w:t>Orrin Quay Harbour Trust</w:t></w:r><w:r><w:tab/></w:r><w:r><w:tab/></w:r><w:fldSimple w:instr=" PAGE "><w:r><w:t>1</w:t></w:r></w:fldSimple></w:p></w:ftr>`},
	} {
		w, err := z.Create(m[0])
		if err == nil {
			_, err = w.Write([]byte(m[1]))
		}
		if err != nil {
			return File{}, err
		}
	}
	err := z.Close()
	return File{"Letter to the pilots.docx", b.Bytes()}, err
}

// closureNotice is a notice as somebody types it.
func closureNotice() (File, error) {
	return File{"Ferry ramp closed.md", []byte(`---
title: The ferry ramp is closed in February
lang: en-GB
---
# The ferry ramp is closed in February

From **Monday 1 February** to **Friday 12 February 2027** the ferry ramp is closed: its hinge is renewed.

- Foot passengers use the steps at the ice quay.
- Vehicles cross at Brae Sound.
- Freight for the island is taken at the north face, if it is brought the day before.

| Day | First boat | Last boat |
|---|--:|--:|
| Monday to Friday | 07:10 | 18:40 |
| Saturday | 08:00 | 17:20 |
| Sunday | 09:30 | 16:00 |

> Who depends on a vehicle on the island, please tell the harbour office by 22 January.
`)}, nil
}

// gaugeLog is a log of readings.
func gaugeLog() (File, error) {
	var b strings.Builder
	b.WriteString("time,gauge,level (m),wind,remark\n")
	for i := range 96 {
		level := 2.6 + 2.1*float64((i*7)%25-12)/12
		remark := ""
		if i%17 == 0 {
			remark = "\"read by hand, by R. Skerry\""
		}
		fmt.Fprintf(&b, "2026-11-%02d %02d:00,%s,%.2f,%d,%s\n", 20+i/24, i%24, []string{"knuckle", "ice quay"}[i%2], level, 2+i%7, remark)
	}
	return File{"Gauge readings.csv", []byte(b.String())}, nil
}

// photographersTIFF is two photographs in one file, as a photographer delivers them.
func photographersTIFF() (File, error) {
	var pages []image.Image
	for i, seed := range []uint64{21, 34} {
		img, err := decoded(scene(750+30*i, 500+20*i, seed, 0))
		if err != nil {
			return File{}, err
		}
		pages = append(pages, img)
	}
	var b bytes.Buffer
	err := tiff.EncodeAll(&b, pages, &tiff.Options{Compression: tiff.Deflate, Predictor: true})
	return File{"North face from the air.tiff", b.Bytes()}, err
}

func decoded(data []byte) (image.Image, error) {
	img, _, err := image.Decode(bytes.NewReader(data))
	return img, err
}
