package intake

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/go-fonts/dejavu/dejavusans"
	"github.com/go-fonts/dejavu/dejavusansbold"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"glenrain/core/intake/encoded"
	"glenrain/core/typeset"
)

// zipped makes a package of members: name, content, name, content.
func zipped(t *testing.T, members ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i+1 < len(members); i += 2 {
		w, err := z.Create(members[i])
		require.NoError(t, err)
		_, err = w.Write([]byte(members[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

const (
	wordSpace = `xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships" xmlns:wp="http://schemas.openxmlformats.org/drawingml/2006/wordprocessingDrawing" xmlns:a="http://schemas.openxmlformats.org/drawingml/2006/main" xmlns:pic="http://schemas.openxmlformats.org/drawingml/2006/picture"`
	rootRels  = `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="word/document.xml"/></Relationships>`
)

// letter makes a text document of a body, with parts of its own.
func letter(t *testing.T, body string, more ...string) []byte {
	return zipped(t, append([]string{"[Content_Types].xml", "<Types/>", "_rels/.rels", rootRels, "word/document.xml", `<?xml version="1.0"?><w:document ` + wordSpace + `><w:body>` + body + `</w:body></w:document>`}, more...)...)
}

func read(t *testing.T, name string, data []byte, o Options) *Result {
	t.Helper()
	r := bytes.NewReader(data)
	kind := Find(t.Context(), name, r, r.Size())
	out, err := Read(t.Context(), kind, name, r, r.Size(), o)
	require.NoError(t, err)
	return out
}

// set gives the file of a sheet that is set.
func set(t *testing.T, s typeset.Sheet) string {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, typeset.Set(t.Context(), s, typeset.Limits{}, &b))
	path := filepath.Join(t.TempDir(), "out.pdf")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	for line := range strings.Lines(said(t, "pdffonts", path)) {
		if f := strings.Fields(line); len(f) > 5 && f[0] != "name" && !strings.HasPrefix(f[0], "--") {
			assert.Equal(t, "yes", f[len(f)-5], "embedded: %s", line)
		}
	}
	return path
}

func said(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).Output()
	require.NoError(t, err)
	return string(out)
}

func body(r *Result) string {
	_, b, _ := strings.Cut(string(r.Sheets[0].HTML), "<body>")
	return strings.TrimSuffix(b, "</body></html>")
}

func style(r *Result) string {
	s, _, _ := strings.Cut(string(r.Sheets[0].HTML), "</style>")
	return s
}

func TestKinds(t *testing.T) {
	for _, c := range []struct {
		name string
		data string
		want Kind
	}{
		{"a.md", "# x", "markdown"}, {"a.csv", "a,b", "csv"}, {"a.txt", "x", "text"}, {"a.go", "package a", Source}, {"a.html", "<p>x", "html"}, {"page", "<!DOCTYPE html><p>x", "html"}, {"a.eml", "From: a\n\nx", Mail},
		{"notes", "only words", "text"}, {"a.pdf", "only words", None}, {"a.jpg", "only words", None}, {"a.bin", "a\x00\x01\x02b", None}, {"a.txt", "", None}, {"a.doc", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", Foreign},
		{"a.docx", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "docx"}, {"x.txt", "%PDF-1.7", None},
		{"a.docx", string(letter(t, "")), "docx"}, {"whatever", string(letter(t, "")), "docx"}, {"a.zip", string(zipped(t, "a.txt", "x")), Zip}, {"a.pptx", string(zipped(t, "[Content_Types].xml", "<Types/>", "ppt/presentation.xml", "")), Foreign},
		{"a.odt", string(zipped(t, "mimetype", "application/vnd.oasis.opendocument.text", "content.xml", "")), "odt"}, {"a.odp", string(zipped(t, "mimetype", "application/vnd.oasis.opendocument.presentation")), Foreign},
	} {
		r := strings.NewReader(c.data)
		assert.Equal(t, c.want, Find(t.Context(), c.name, r, r.Size()), "%s: %.20q", c.name, c.data)
	}
}

// A wrong guess can be said better; UTF-16 with and without its mark, Windows-1252, UTF-8.
func TestEncodings(t *testing.T) {
	const text = "Séance du quai — 5 €"
	for name, data := range map[string]string{
		encoded.UTF8: text, encoded.UTF16LE: "\xff\xfe" + wide(text, 0), encoded.UTF16BE: wide(text, 1), encoded.Windows1252: "S\xe9ance du quai \x97 5 \x80",
	} {
		got, found := encoded.Decode([]byte(data), "")
		assert.Equal(t, text, got, name)
		assert.Equal(t, name, found)
	}
	got, _ := encoded.Decode([]byte("S\xe9ance"), "iso-8859-5")
	assert.Equal(t, "Sщance", got, "as somebody says, and not as it was guessed")
	got, _ = encoded.Decode([]byte("a\r\nb\rc"), "")
	assert.Equal(t, "a\nb\nc", got)
	r := read(t, "a.txt", []byte("S\xe9ance"), Options{})
	assert.Equal(t, encoded.Windows1252, r.Encoding)
	assert.Contains(t, body(r), "Séance")
}

func wide(s string, first int) string {
	var b strings.Builder
	for _, r := range s {
		pair := []byte{byte(r), byte(r >> 8)}
		b.WriteByte(pair[first])
		b.WriteByte(pair[1-first])
	}
	return b.String()
}

// A listing has the source's text, line by line; long lines are wrapped and the sign of it is no text.
func TestListing(t *testing.T) {
	long := strings.Repeat("soundings ", 30)
	src := "package quay\n\n// Depth is in metres.\nfunc Depth() float64 { return 4.2 } // \"" + long + "\"\n\tx\n"
	r := read(t, "depth.go", []byte(src), Options{})
	text := said(t, "pdftotext", "-layout", set(t, r.Sheets[0]), "-")
	squeeze := func(s string) string { return strings.Join(strings.Fields(s), "") }
	_, inner, _ := strings.Cut(squeeze(text), "depth.go1of1")
	assert.Equal(t, squeeze(src), inner)
	assert.Contains(t, body(r), `<span class="k">func</span>`)
	assert.Contains(t, body(r), `<span class="w"></span>`, "the wrap is marked")
	assert.NotContains(t, body(read(t, "depth.go", []byte(src), Options{Plain: true})), `class="k"`)
	numbered := body(read(t, "depth.go", []byte(src), Options{Numbers: true}))
	assert.Contains(t, numbered, `<span class="n">5</span>`)
	assert.NotContains(t, numbered, `<span class="n">6</span>`)
	assert.Contains(t, style(read(t, "a.txt", []byte("x"), Options{Paper: "A5", Landscape: true})), "size:595.28pt 419.53pt")
}

func TestMarkdown(t *testing.T) {
	r := read(t, "Notice.md", []byte("---\ntitle: Ramp closed\nlang: en-GB\n---\n# The ramp\n\nClosed from **Monday**. [Tides](https://tides.example/x)\n\n- one\n  - inner\n- two\n\n1. first\n\n| Berth | Crowns |\n|---|--:|\n| North 1 | 310 |\n\n![a mark](mark.png)\n\n<script>alert(1)</script>\n\n<b onclick=\"x()\">kept</b> [bad](javascript:alert(1))\n\n- [x] done\n"), Options{})
	b := body(r)
	assert.Contains(t, b, "<td style=\"text-align:right\">310</td>")
	assert.Contains(t, b, "☑")
	for _, never := range []string{"<script", "onclick", "javascript:", "alert"} {
		assert.NotContains(t, b, never)
	}
	assert.Contains(t, b, "<b>kept</b>")
	assert.ElementsMatch(t, []string{"Scripts were left out.", "Linked pictures were replaced by their descriptions."}, r.Told)
	path := set(t, r.Sheets[0])
	tags := said(t, "pdfinfo", "-struct-text", path)
	for _, want := range []string{"H1", `"The ramp"`, "LI", "Table", "TH", "Link"} {
		assert.Contains(t, tags, want)
	}
	assert.Regexp(t, `Title: +Ramp closed`, said(t, "pdfinfo", path))
	assert.Contains(t, said(t, "mutool", "show", path, "outline"), "The ramp")
	assert.Contains(t, said(t, "qpdf", "--json", path), `"/Lang": "u:en-GB"`)
}

// The examples of CommonMark 0.31 for what offices write: their HTML, as the specification gives it.
func TestCommonMark(t *testing.T) {
	for src, want := range map[string]string{
		"Foo *bar*\n=========\n":                 "<h1 id=\"to-foo-bar\">Foo <em>bar</em></h1>", // example 80, with an anchor
		"1.  A paragraph\n    with two lines.\n": "<ol>\n<li>A paragraph\nwith two lines.</li>\n</ol>",
		"> bar\nbaz\n> foo\n":                    "<blockquote>\n<p>bar\nbaz\nfoo</p>\n</blockquote>",                  // example 234
		"foo  \nbaz\n":                           "<p>foo<br>\nbaz</p>",                                                // example 633
		"`` foo ` bar ``\n":                      "<p><code>foo ` bar</code></p>",                                      // example 329
		"- foo\n- bar\n+ baz\n":                  "<ul>\n<li>foo</li>\n<li>bar</li>\n</ul>\n<ul>\n<li>baz</li>\n</ul>", // example 301
	} {
		assert.Contains(t, body(read(t, "a.md", []byte(src), Options{})), want)
	}
}

// RFC 4180: quotation marks, commas and line ends in values; other separators are found out.
func TestCSV(t *testing.T) {
	r := read(t, "log.csv", []byte("\"time\",level,note\r\n06:00,1.2,\"said \"\"low\"\"\"\r\n12:10,4.9,\"two\r\nlines, one\"\r\n"), Options{})
	b := body(r)
	assert.Contains(t, b, `<th scope="col" class="x1">time</th>`)
	assert.Contains(t, b, "said &#34;low&#34;")
	assert.Contains(t, b, "two<br>lines, one")
	assert.Regexp(t, `<td class="x0"[^>]*style="text-align:right"[^>]*>4.9</td>|<td class="x0" style="text-align:right">4.9</td>`, b)
	for _, sep := range []string{";", "\t", "|"} {
		assert.Equal(t, 2, strings.Count(body(read(t, "a.csv", []byte("x"+sep+"y\n1,5"+sep+"2,5\n"), Options{})), "<td "), "separated by %q", sep)
	}
	const open = "a,b\n1,\"never closed\n2,3\n"
	assert.Contains(t, body(read(t, "a.csv", []byte(open), Options{})), "never closed<br>2,3", "nothing is lost")
	path := set(t, r.Sheets[0])
	assert.Contains(t, said(t, "pdfinfo", "-struct-text", path), "TH")
}

func workbook(t *testing.T) []byte {
	f := excelize.NewFile()
	must := func(err error) {
		t.Helper()
		require.NoError(t, err)
	}
	must(f.SetSheetName("Sheet1", "Berths"))
	for cell, v := range map[string]any{"A1": "Winter berths 2027", "A2": "Berth", "B2": "Length (m)", "C2": "Fee", "D2": "From", "A3": "North 1", "B3": 7.5, "C3": 505, "A4": "North 2", "B4": 12.25, "C4": 947.5, "A6": true, "D3": 46033} {
		must(f.SetCellValue("Berths", cell, v))
	}
	must(f.SetCellFormula("Berths", "B5", "SUM(B3:B4)"))
	must(f.SetCellFormula("Berths", "C5", "ROUND(AVERAGE(C3:C4)*2,1)"))
	must(f.MergeCell("Berths", "A1", "D1"))
	money := "#,##0.00"
	id, err := f.NewStyle(&excelize.Style{CustomNumFmt: &money, Font: &excelize.Font{Bold: true, Color: "2F6149"}, Fill: excelize.Fill{Type: "pattern", Pattern: 1, Color: []string{"DFEAE2"}}, Border: []excelize.Border{{Type: "bottom", Style: 2, Color: "000000"}}})
	must(err)
	must(f.SetCellStyle("Berths", "C3", "C5", id))
	day := "yyyy-mm-dd"
	date, err := f.NewStyle(&excelize.Style{CustomNumFmt: &day})
	must(err)
	must(f.SetCellStyle("Berths", "D3", "D3", date))
	must(f.SetColWidth("Berths", "A", "A", 20))
	must(f.SetDefinedName(&excelize.DefinedName{Name: "_xlnm.Print_Titles", RefersTo: "Berths!$1:$2", Scope: "Berths"}))
	_, err = f.NewSheet("Away")
	must(err)
	must(f.SetCellValue("Away", "A1", "hidden"))
	must(f.SetSheetVisible("Away", false))
	_, err = f.NewSheet("Notes")
	must(err)
	must(f.SetCellValue("Notes", "A1", "see the tariff"))
	size, orient := 8, "landscape"
	must(f.SetPageLayout("Notes", &excelize.PageLayoutOptions{Size: &size, Orientation: &orient}))
	var b bytes.Buffer
	must(f.Write(&b))
	return b.Bytes()
}

// Values as shown, formulas without values worked out (by hand: 7.5 + 12.25 = 19.75; (505 + 947.5) / 2 x 2 = 1452.5), merged cells, header
// rows, styles, sheets with paper of their own.
func TestWorkbook(t *testing.T) {
	r := read(t, "Berths.xlsx", workbook(t), Options{})
	b := body(r)
	for _, want := range []string{">19.75</td>", ">1,452.50</td>", ">505.00</td>", ">2026-01-11</td>", ">TRUE</td>", "<h2>Berths</h2>", "<h2>Notes</h2>"} {
		assert.Contains(t, b, want)
	}
	assert.Regexp(t, `<th scope="col" colspan="4"[^>]*>Winter berths 2027</th>`, b)
	assert.Regexp(t, `<thead>.*<th scope="col"[^>]*>Length \(m\)</th>.*</thead>`, b)
	assert.NotContains(t, b, "hidden")
	assert.Contains(t, r.Told, "Hidden sheets were left out.")
	css := style(r)
	assert.Regexp(t, `font-weight:700;color:#2f6149;background:#dfeae2`, css)
	assert.Contains(t, css, "border-bottom:1pt solid #000000")
	path := set(t, r.Sheets[0])
	sizes := said(t, "pdfinfo", "-f", "1", "-l", "2", path)
	assert.Regexp(t, `Page +1 size: +595\.28 x 841\.89`, sizes)
	assert.Regexp(t, `Page +2 size: +1190\.55 x 841\.89`, sizes, "A3 landscape (ISO 216: 420 x 297 mm)")
	text := said(t, "pdftotext", "-layout", path, "-")
	assert.Regexp(t, `North 2 +12\.25 +947\.50`, text)
	assert.Contains(t, said(t, "pdfinfo", "-struct-text", path), "TH")
}

// The value that another writer cached and the one that is calculated without it are the same.
func TestFormulas(t *testing.T) {
	f := excelize.NewFile()
	rows := [][2]string{ // formulas, and their values worked by hand
		{"1+2*3", "7"}, {"(1+2)*3", "9"}, {"2^10", "1024"}, {`IF(3>2,"deep","shallow")`, "deep"}, {`CONCATENATE("North ",1)`, "North 1"}, {"MAX(4,19,7)", "19"}, {"MOD(17,5)", "2"},
		{`LEFT("Orrin Quay",5)`, "Orrin"}, {"ROUND(2.345,2)", "2.35"}, {"COUNT(1,2,3)", "3"}, {`LEN("quay")`, "4"}, {"AND(TRUE,FALSE)", "FALSE"},
	}
	for i, r := range rows {
		require.NoError(t, f.SetCellFormula("Sheet1", fmt.Sprintf("A%d", i+1), r[0]))
	}
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	got := regexp.MustCompile(`<td[^>]*>([^<]*)</td>`).FindAllStringSubmatch(body(read(t, "f.xlsx", b.Bytes(), Options{})), -1)
	require.Len(t, got, len(rows))
	for i, r := range rows {
		assert.Equal(t, r[1], got[i][1], r[0])
	}
}

// A wide sheet: fitted, spread over pages side by side with its header column repeated, or as the person says.
func TestWideSheets(t *testing.T) {
	f := excelize.NewFile()
	for c := 1; c <= 30; c++ {
		for r := 1; r <= 3; r++ {
			cell, _ := excelize.CoordinatesToCellName(c, r)
			require.NoError(t, f.SetCellValue("Sheet1", cell, fmt.Sprintf("c%d r%d", c, r)))
		}
	}
	require.NoError(t, f.SetPanes("Sheet1", &excelize.Panes{Freeze: true, XSplit: 1, YSplit: 1, TopLeftCell: "B2", ActivePane: "bottomRight"}))
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	fit := read(t, "w.xlsx", b.Bytes(), Options{Fit: "width"})
	assert.Equal(t, 1, strings.Count(body(fit), "<table"))
	spread := read(t, "w.xlsx", b.Bytes(), Options{Fit: "spread"})
	n := strings.Count(body(spread), "<table")
	assert.Greater(t, n, 2)
	assert.Equal(t, n, strings.Count(body(spread), ">c1 r2</th>"), "the header column stands on each page")
	text := said(t, "pdftotext", "-layout", set(t, fit.Sheets[0]), "-")
	assert.Regexp(t, `Pages: +1\n`, said(t, "pdfinfo", set(t, fit.Sheets[0])))
	assert.Contains(t, text, "c30 r3")
	assert.Regexp(t, fmt.Sprintf(`Pages: +%d\n`, n), said(t, "pdfinfo", set(t, spread.Sheets[0])))
}

const wordStyles = `<w:styles ` + wordSpace + `><w:docDefaults><w:rPrDefault><w:rPr><w:rFonts w:ascii="Calibri"/><w:sz w:val="22"/><w:lang w:val="en-GB"/></w:rPr></w:rPrDefault><w:pPrDefault><w:pPr><w:spacing w:after="160" w:line="259" w:lineRule="auto"/></w:pPr></w:pPrDefault></w:docDefaults>
<w:style w:type="paragraph" w:default="1" w:styleId="Normal"><w:name w:val="Normal"/></w:style><w:style w:type="paragraph" w:styleId="H1"><w:name w:val="heading 1"/><w:basedOn w:val="Normal"/><w:pPr><w:keepNext/></w:pPr><w:rPr><w:b/><w:sz w:val="32"/></w:rPr></w:style>
<w:style w:type="paragraph" w:styleId="H2"><w:name w:val="heading 2"/><w:basedOn w:val="H1"/></w:style></w:styles>`

const wordNumbers = `<w:numbering ` + wordSpace + `><w:abstractNum w:abstractNumId="1"><w:lvl w:ilvl="0"><w:start w:val="3"/><w:numFmt w:val="decimal"/><w:lvlText w:val="%1."/><w:pPr><w:ind w:left="720" w:hanging="360"/></w:pPr></w:lvl><w:lvl w:ilvl="1"><w:start w:val="1"/><w:numFmt w:val="lowerLetter"/><w:lvlText w:val="%1.%2)"/><w:pPr><w:ind w:left="1440" w:hanging="360"/></w:pPr></w:lvl></w:abstractNum>
<w:abstractNum w:abstractNumId="2"><w:lvl w:ilvl="0"><w:numFmt w:val="bullet"/><w:lvlText w:val="&#xF0B7;"/></w:lvl></w:abstractNum><w:num w:numId="1"><w:abstractNumId w:val="1"/></w:num><w:num w:numId="2"><w:abstractNumId w:val="2"/></w:num></w:numbering>`

func para(text string, pPr string) string {
	return `<w:p><w:pPr>` + pPr + `</w:pPr><w:r><w:t xml:space="preserve">` + text + `</w:t></w:r></w:p>`
}

func item(text, num, level string) string {
	return para(text, `<w:numPr><w:ilvl w:val="`+level+`"/><w:numId w:val="`+num+`"/></w:numPr>`)
}

func TestTextDocument(t *testing.T) {
	rel := func(id, kind, target, mode string) string {
		return `<Relationship Id="` + id + `" Type="http://x/` + kind + `" Target="` + target + `"` + mode + `/>`
	}
	rels := `<Relationships>` + rel("s", "styles", "styles.xml", "") + rel("n", "numbering", "numbering.xml", "") + rel("f", "footnotes", "footnotes.xml", "") + rel("h", "header", "header1.xml", "") + rel("h1", "header", "header2.xml", "") + rel("g", "footer", "footer1.xml", "") + rel("u", "settings", "settings.xml", "") + rel("l", "hyperlink", "https://tides.example/", ` TargetMode="External"`) + `</Relationships>`
	doc := letter(t, para("Dredging &amp; berths", `<w:pStyle w:val="H1"/>`)+
		`<w:p><w:r><w:t>Dear </w:t></w:r><w:r><w:rPr><w:b/><w:color w:val="9C5F00"/></w:rPr><w:t>berth holder</w:t></w:r><w:r><w:footnoteReference w:id="2"/></w:r><w:del><w:r><w:delText>gone</w:delText></w:r></w:del><w:ins><w:r><w:t>, new</w:t></w:r></w:ins></w:p>`+
		item("third", "1", "0")+item("inner", "1", "1")+item("inner two", "1", "1")+item("fourth", "1", "0")+item("dot", "2", "0")+
		`<w:p><w:hyperlink r:id="l"><w:r><w:t>tides</w:t></w:r></w:hyperlink><w:r><w:fldChar w:fldCharType="begin"/></w:r><w:r><w:instrText> HYPERLINK "javascript:x" </w:instrText></w:r><w:r><w:fldChar w:fldCharType="separate"/></w:r><w:r><w:t>value</w:t></w:r><w:r><w:fldChar w:fldCharType="end"/></w:r></w:p>`+
		`<w:tbl><w:tblPr/><w:tblGrid><w:gridCol w:w="2000"/><w:gridCol w:w="2000"/><w:gridCol w:w="2000"/></w:tblGrid><w:tr><w:trPr><w:tblHeader/></w:trPr><w:tc><w:tcPr><w:gridSpan w:val="2"/></w:tcPr>`+para("Berth", "")+`</w:tc><w:tc>`+para("Fee", "")+`</w:tc></w:tr>
		<w:tr><w:tc><w:tcPr><w:vMerge w:val="restart"/></w:tcPr>`+para("North", "")+`</w:tc><w:tc>`+para("1", "")+`</w:tc><w:tc>`+para("505", "")+`</w:tc></w:tr><w:tr><w:tc><w:tcPr><w:vMerge/></w:tcPr>`+para("", "")+`</w:tc><w:tc>`+para("2", "")+`</w:tc><w:tc>`+para("628", "")+`</w:tc></w:tr></w:tbl>`+
		`<w:p><w:r><w:t>before</w:t></w:r><w:r><w:br w:type="page"/></w:r><w:r><w:t>behind</w:t></w:r></w:p>`+
		`<w:p><w:pPr><w:sectPr><w:headerReference w:type="default" r:id="h"/><w:headerReference w:type="first" r:id="h1"/><w:footerReference w:type="default" r:id="g"/><w:pgSz w:w="11906" w:h="16838"/><w:pgMar w:top="1440" w:right="1134" w:bottom="1440" w:left="1134"/><w:titlePg/></w:sectPr></w:pPr></w:p>`+
		para("The plan", `<w:pStyle w:val="H2"/>`)+`<w:sectPr><w:pgSz w:w="16838" w:h="11906" w:orient="landscape"/><w:pgMar w:top="720" w:right="720" w:bottom="720" w:left="720"/></w:sectPr>`,
		"word/_rels/document.xml.rels", rels, "word/styles.xml", wordStyles, "word/numbering.xml", wordNumbers,
		"word/footnotes.xml", `<w:footnotes `+wordSpace+`><w:footnote w:id="2"><w:p><w:r><w:footnoteRef/></w:r><w:r><w:t>As of October.</w:t></w:r></w:p></w:footnote></w:footnotes>`,
		"word/header1.xml", `<w:hdr `+wordSpace+`><w:p><w:r><w:t>Orrin Quay</w:t></w:r><w:r><w:tab/></w:r><w:r><w:tab/></w:r><w:r><w:t>Page </w:t></w:r><w:fldSimple w:instr=" PAGE "><w:r><w:t>9</w:t></w:r></w:fldSimple></w:p></w:hdr>`,
		"word/header2.xml", `<w:hdr `+wordSpace+`><w:p><w:r><w:t>First page alone</w:t></w:r></w:p></w:hdr>`, "word/footer1.xml", `<w:ftr `+wordSpace+`><w:p><w:pPr><w:jc w:val="center"/></w:pPr><w:r><w:t>Harbour office</w:t></w:r></w:p></w:ftr>`,
		"word/settings.xml", `<w:settings `+wordSpace+`/>`, "docProps/core.xml", `<cp:coreProperties xmlns:cp="x" xmlns:dc="y"><dc:title>Berths</dc:title><dc:language>en-GB</dc:language></cp:coreProperties>`)
	r := read(t, "Letter.docx", doc, Options{})
	b := body(r)
	assert.Regexp(t, `<h1[^>]*>Dredging &amp; berths</h1>`, b)
	assert.NotContains(t, b, "gone")
	assert.Contains(t, b, ", new")
	assert.Contains(t, b, `<a href="https://tides.example/">tides</a>`)
	assert.NotContains(t, b, "javascript")
	assert.Regexp(t, `<th[^>]*scope="col" colspan="2"[^>]*>`, b)
	assert.Contains(t, b, `rowspan="2"`)
	assert.ElementsMatch(t, []string{"Changes that were tracked are shown as accepted.", "Footnotes are at the end of the text, with links to and from them."}, r.Told)
	path := set(t, r.Sheets[0])
	text := said(t, "pdftotext", "-layout", path, "-")
	assert.Regexp(t, `(?s)3\. +third.*3\.a\) +inner.*3\.b\) +inner two.*4\. +fourth.*• +dot`, text, "numbered as the file says: from 3 on, by letters below")
	pages := strings.Split(text, "\f")
	require.Greater(t, len(pages), 2)
	assert.Contains(t, pages[0], "First page alone")
	assert.NotContains(t, pages[0], "Orrin Quay")
	assert.Regexp(t, `Orrin Quay +Page 2`, pages[1])
	assert.Contains(t, pages[1], "Harbour office")
	assert.Contains(t, pages[0], "before")
	assert.Contains(t, pages[1], "behind")
	assert.Regexp(t, `Page +3 size: +841\.\d+ x 595\.\d`, said(t, "pdfinfo", "-f", "1", "-l", "3", path))
	tags := said(t, "pdfinfo", "-struct-text", path)
	for _, want := range []string{"H1", "H2", "LI", "TH", "Link"} {
		assert.Contains(t, tags, want)
	}
	outline := said(t, "mutool", "show", path, "outline")
	assert.Contains(t, outline, "Dredging & berths")
	assert.Contains(t, outline, "The plan")
}

func TestOpenDocument(t *testing.T) {
	const space = `xmlns:office="o" xmlns:text="t" xmlns:table="tb" xmlns:style="s" xmlns:fo="f" xmlns:xlink="x" xmlns:draw="d" xmlns:svg="v"`
	odt := zipped(t, "mimetype", "application/vnd.oasis.opendocument.text", "content.xml", `<office:document-content `+space+`><office:automatic-styles><style:style style:name="B" style:family="text"><style:text-properties fo:font-weight="bold"/></style:style><text:list-style style:name="L"><text:list-level-style-number text:level="1" style:num-format="1" style:num-suffix="."/></text:list-style></office:automatic-styles><office:body><office:text>
		<text:h text:outline-level="1">The ramp</text:h><text:p>Closed <text:span text:style-name="B">from<text:s text:c="2"/>Monday</text:span><text:note><text:note-citation>1</text:note-citation><text:note-body><text:p>Or later.</text:p></text:note-body></text:note> <text:a xlink:href="https://tides.example/">tides</text:a></text:p>
		<text:list text:style-name="L"><text:list-item><text:p>one</text:p></text:list-item><text:list-item><text:p>two</text:p></text:list-item></text:list>
		<table:table><table:table-column table:number-columns-repeated="2"/><table:table-header-rows><table:table-row><table:table-cell><text:p>Berth</text:p></table:table-cell><table:table-cell><text:p>Fee</text:p></table:table-cell></table:table-row></table:table-header-rows><table:table-row><table:table-cell table:number-columns-spanned="2"><text:p>all</text:p></table:table-cell><table:covered-table-cell/></table:table-row></table:table></office:text></office:body></office:document-content>`,
		"styles.xml", `<office:document-styles `+space+`><office:automatic-styles><style:page-layout style:name="P"><style:page-layout-properties fo:page-width="148mm" fo:page-height="210mm" fo:margin="15mm"/></style:page-layout></office:automatic-styles><office:master-styles><style:master-page style:name="Standard" style:page-layout-name="P"><style:footer><text:p>Sheet <text:page-number/></text:p></style:footer></style:master-page></office:master-styles></office:document-styles>`)
	path := set(t, read(t, "Ramp.odt", odt, Options{}).Sheets[0])
	assert.Regexp(t, `Page size: +419\.53 x 595\.28`, said(t, "pdfinfo", path), "148 x 210 mm")
	text := said(t, "pdftotext", "-layout", path, "-")
	assert.Regexp(t, `(?s)The ramp.*Closed from\s+Monday ?1 tides.*1\. +one.*2\. +two.*Berth +Fee.*all.*Or later\..*Sheet 1`, text)
	tags := said(t, "pdfinfo", "-struct-text", path)
	for _, want := range []string{"H1", "LI", "TH", "Link"} {
		assert.Contains(t, tags, want)
	}
	ods := zipped(t, "mimetype", "application/vnd.oasis.opendocument.spreadsheet", "content.xml", `<office:document-content `+space+`><office:body><office:spreadsheet><table:table table:name="Levels"><table:table-column table:number-columns-repeated="1024"/><table:table-row><table:table-cell table:number-columns-spanned="2"><text:p>Readings</text:p></table:table-cell><table:covered-table-cell/></table:table-row><table:table-row><table:table-cell office:value-type="float" office:value="4.9"><text:p>4.90 m</text:p></table:table-cell><table:table-cell table:number-columns-repeated="3"><text:p>same</text:p></table:table-cell></table:table-row><table:table-row table:number-rows-repeated="1048574"><table:table-cell table:number-columns-repeated="1024"/></table:table-row></table:table></office:spreadsheet></office:body></office:document-content>`)
	b := body(read(t, "Levels.ods", ods, Options{}))
	assert.Contains(t, b, `colspan="2"`)
	assert.Contains(t, b, ">4.90 m</td>")
	assert.Equal(t, 3, strings.Count(b, ">same</td>"))
	assert.Less(t, len(b), 4000, "a million empty rows are none")
}

func TestMail(t *testing.T) {
	mail := "From: Rona Skerry <rona@quay.example>\r\nTo: isla@quay.example\r\nSubject: =?utf-8?q?Rapport_de_s=C3=A9ance?=\r\nDate: Wed, 25 Nov 2026 10:00:00 +0000\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain; charset=iso-8859-1\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nLa s=E9ance\r\nest finie.\r\n--b\r\nContent-Type: text/csv; name=levels.csv\r\nContent-Disposition: attachment; filename=levels.csv\r\nContent-Transfer-Encoding: base64\r\n\r\nYSxiCjEsMgo=\r\n--b--\r\n"
	b := body(read(t, "m.eml", []byte(mail), Options{}))
	for _, want := range []string{"Rapport de séance", "Rona Skerry", "La séance<br>est finie.", "levels.csv"} {
		assert.Contains(t, b, want)
	}
}

// Faces of the office's own, in a folder, are used for the fonts of their names; what is no face there is passed over.
func TestOwnFaces(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "house.ttf"), dejavusans.TTF, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "house-bold.ttf"), dejavusansbold.TTF, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "none.ttf"), []byte("no face"), 0o600))
	doc := letter(t, `<w:p><w:r><w:rPr><w:rFonts w:ascii="DejaVu Sans"/></w:rPr><w:t>In the office’s own face</w:t></w:r></w:p>`)
	r := read(t, "a.docx", doc, Options{Fonts: dir})
	assert.Contains(t, style(r), "font-family:'Own 0';font-weight:700")
	assert.Equal(t, dejavusans.TTF, r.Sheets[0].Files["f-own-0-0.ttf"].Data)
	assert.Contains(t, said(t, "pdffonts", set(t, r.Sheets[0])), "DejaVuSans")
	assert.NotContains(t, style(read(t, "a.docx", doc, Options{})), "Own 0")
}

// Text from right to left, and in letters that are wider than Latin ones: the direction of a page in HTML is kept, words of cells are whole.
func TestOtherScripts(t *testing.T) {
	assert.Contains(t, body(read(t, "a.html", []byte(`<html dir="rtl" lang="he"><p>שלום</p>`), Options{})), `<div dir="rtl"><p>שלום</p>`)
	text := said(t, "pdftotext", set(t, read(t, "a.csv", []byte("שם,מספר\nרציף,5\n"), Options{}).Sheets[0]), "-")
	assert.Contains(t, text, "מספר")
	doc := letter(t, `<w:p><w:pPr><w:bidi/></w:pPr><w:r><w:t>שלום לנמל</w:t></w:r></w:p>`)
	assert.Contains(t, body(read(t, "a.docx", doc, Options{})), `dir="rtl"`)
}
