// Package intaketest makes files of other kinds than PDF that are meant to bring down what reads them, for the tests of several rooms.
package intaketest

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/png"
	"strings"
	"sync"
)

// Hostile is one such file.
type Hostile struct {
	Name string
	Data []byte
}

// Zip makes a package of members: name, content, name, content.
func Zip(members ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i+1 < len(members); i += 2 {
		w, err := z.Create(members[i])
		if err == nil {
			_, err = w.Write([]byte(members[i+1]))
		}
		if err != nil {
			panic(err) // a bytes.Buffer does not fail
		}
	}
	if err := z.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

const space = `xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"`

// Docx makes a text document with a body and more parts.
func Docx(body string, more ...string) []byte {
	return Zip(append([]string{"[Content_Types].xml", "<Types/>",
		"_rels/.rels", `<Relationships><Relationship Id="a" Type="x/officeDocument" Target="word/document.xml"/></Relationships>`,
		"word/document.xml", `<w:document ` + space + `><w:body>` + body + `</w:body></w:document>`}, more...)...)
}

// Xlsx makes a workbook of one sheet.
func Xlsx(sheet string) []byte {
	const main = `xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"`
	return Zip("[Content_Types].xml", `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/></Types>`,
		"_rels/.rels", `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml", `<workbook `+main+`><sheets><sheet name="S" sheetId="1" r:id="rId1"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels", `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/></Relationships>`,
		"xl/worksheets/sheet1.xml", `<worksheet `+main+`>`+sheet+`</worksheet>`)
}

// lying makes a zip whose member says that it unpacks to many times what is there, of zeros.
func lying(name string, says uint64, zeros int) []byte {
	var packed bytes.Buffer
	f, _ := flate.NewWriter(&packed, flate.BestSpeed)
	sum := crc32.NewIEEE()
	chunk := make([]byte, 1<<20)
	for range zeros >> 20 {
		_, _ = f.Write(chunk)
		_, _ = sum.Write(chunk)
	}
	_ = f.Close()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Deflate, CRC32: sum.Sum32(), CompressedSize64: uint64(packed.Len()), UncompressedSize64: says})
	if err == nil {
		_, err = w.Write(packed.Bytes())
	}
	if err != nil || z.Close() != nil {
		panic(err)
	}
	return b.Bytes()
}

// directory makes a zip whose directory has n entries for one member (APPNOTE 6.3.10, 4.3.12, and 4.3.14 to 4.3.16 for so many).
func directory(n int) []byte {
	var b bytes.Buffer
	le := func(v ...any) {
		for _, x := range v {
			_ = binary.Write(&b, binary.LittleEndian, x) // to memory
		}
	}
	le(uint32(0x04034b50), uint16(20), [4]uint16{}, [3]uint32{}, uint16(1), uint16(0), byte('a'))
	at := uint64(b.Len())
	var e bytes.Buffer
	_ = binary.Write(&e, binary.LittleEndian, uint32(0x02014b50))
	_, _ = e.Write([]byte{20, 0, 20, 0})
	_, _ = e.Write(make([]byte, 20))
	_, _ = e.Write([]byte{1, 0})
	_, _ = e.Write(make([]byte, 16))
	_ = e.WriteByte('a')
	b.Write(bytes.Repeat(e.Bytes(), n))
	end := uint64(b.Len())
	le(uint32(0x06064b50), uint64(44), [2]uint16{45, 45}, [2]uint32{}, [2]uint64{uint64(n), uint64(n)}, end-at, at)
	le(uint32(0x07064b50), uint32(0), end, uint32(1))
	le(uint32(0x06054b50), [2]uint16{}, [2]uint16{0xffff, 0xffff}, [2]uint32{0xffffffff, 0xffffffff}, uint16(0))
	return b.Bytes()
}

// mails makes a mail in a mail, n deep.
func mails(n int) []byte {
	inner := []byte("From: a\r\nSubject: level 0\r\nContent-Type: text/plain\r\n\r\nthe innermost\r\n")
	for i := range n {
		packed := base64.StdEncoding.EncodeToString(inner)
		inner = fmt.Appendf(nil, "From: a\r\nSubject: level %d\r\nContent-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\nContent-Type: text/plain\r\n\r\nsee below\r\n--b%d\r\nContent-Type: message/rfc822\r\nContent-Disposition: attachment; filename=inner.eml\r\nContent-Transfer-Encoding: base64\r\n\r\n%s\r\n--b%d--\r\n", i+1, i, i, i, packed, i)
		if len(inner) > 4<<20 {
			break
		}
	}
	return inner
}

// Hostiles are files that each end in a sentence, or in sound pages.
var Hostiles = sync.OnceValue(func() []Hostile {
	good := Docx("<w:p><w:r><w:t>hello</w:t></w:r></w:p>")
	rows := func(n int, row string) string {
		var b strings.Builder
		b.WriteString("<sheetData>")
		for i := range n {
			fmt.Fprintf(&b, row, i+1)
		}
		b.WriteString("</sheetData>")
		return b.String()
	}
	deep := func(open, middle, end string, n int) string {
		return strings.Repeat(open, n) + middle + strings.Repeat(end, n)
	}
	var big bytes.Buffer
	_ = png.Encode(&big, image.NewGray(image.Rect(0, 0, 14_000, 14_000)))
	entities := `<?xml version="1.0"?><!DOCTYPE w [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;"><!ENTITY c "&b;&b;&b;&b;&b;&b;&b;&b;">]><w:document ` + space + `><w:body><w:p><w:r><w:t>&c;&c;&c;</w:t></w:r></w:p></w:body></w:document>`
	var many []string
	for i := range 3000 {
		many = append(many, fmt.Sprintf("f%d.txt", i), "x")
	}
	nested := Zip("a.txt", "inside")
	for i := range 6 {
		nested = Zip(fmt.Sprintf("level%d.zip", i), string(nested))
	}
	const odf = `xmlns:office="o" xmlns:text="t" xmlns:table="tb" xmlns:style="s"`
	circle := `<w:styles ` + space + `><w:style w:type="paragraph" w:styleId="A"><w:basedOn w:val="B"/></w:style><w:style w:type="paragraph" w:styleId="B"><w:basedOn w:val="A"/></w:style></w:styles>`
	rels := `<Relationships><Relationship Id="s" Type="x/styles" Target="styles.xml"/><Relationship Id="p" Type="x/image" Target="media/p.png"/></Relationships>`
	drawing := `<w:p><w:r><w:drawing><inline><extent cx="9525000" cy="9525000"/><blip r:embed="p"/></inline></w:drawing></w:r></w:p>`
	return []Hostile{
		{"cut in the middle.docx", good[:len(good)/2]},
		{"no text.docx", Zip("[Content_Types].xml", "<Types/>", "word/document.xml", "")},
		{"entities.docx", Zip("[Content_Types].xml", "<Types/>", "word/document.xml", entities)},
		{"locked.docx", append([]byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"), make([]byte, 4096)...)},
		{"a hundred thousand levels.docx", Docx(deep("<w:sdt><w:sdtContent>", "<w:p/>", "</w:sdtContent></w:sdt>", 100_000))},
		{"tables in tables.docx", Docx(deep("<w:tbl><w:tr><w:tc>", "<w:p/>", "</w:tc></w:tr></w:tbl>", 100))},
		{"styles in a circle.docx", Docx(`<w:p><w:pPr><w:pStyle w:val="A"/></w:pPr><w:r><w:t>hello</w:t></w:r></w:p>`, "word/_rels/document.xml.rels", rels, "word/styles.xml", circle)},
		{"two hundred million pixels.docx", Docx(drawing, "word/_rels/document.xml.rels", rels, "word/styles.xml", circle, "word/media/p.png", big.String())},
		{"a hundred million runs.docx", lying("word/document.xml", 10<<30, 64<<20)},
		{"ten gigabytes of zeros.zip", lying("zeros.txt", 10<<30, 64<<20)},
		{"three thousand files.zip", Zip(many...)},
		{"zips in zips.zip", nested},
		{"out of the folder.zip", Zip("../../../../tmp/out.txt", "x", "/etc/out.txt", "y", "a/../../b.txt", "z")},
		{"a directory of millions.zip", Zip("inner.zip", string(directory(2_000_000)))},
		{"no directory.zip", []byte("PK\x03\x04" + strings.Repeat("\x00", 200))},
		{"a million rows.xlsx", Xlsx(rows(1_000_000, `<row r="%d"><c><v>1</v></c></row>`))},
		{"merged over all.xlsx", Xlsx(`<sheetData><row r="1"><c r="A1"><v>1</v></c></row></sheetData><mergeCells><mergeCell ref="A1:XFD1048576"/></mergeCells>`)},
		{"a far cell.xlsx", Xlsx(`<sheetData><row r="1048576"><c r="XFD1048576"><v>1</v></c></row></sheetData>`)},
		{"formulas of themselves.xlsx", Xlsx(`<sheetData><row r="1"><c r="A1"><f>A2</f></c></row><row r="2"><c r="A2"><f>A1+1</f></c></row><row r="3"><c r="A3"><f>SUM(A1:XFD1048576)</f></c></row></sheetData>`)},
		{"columns.csv", []byte(strings.Repeat("a,", 1_000_000) + "\n")},
		{"sixteen thousand columns.csv", []byte(strings.Repeat(",", 16_383) + "\n")},
		{"a listing of eight megabytes.txt", bytes.Repeat([]byte("level 1.2 at the north quay, wind of force 4 from the west, all is well\n"), 8<<20/71)},
		{"one line.txt", bytes.Repeat([]byte("x"), 20<<20)},
		{"tables in tables.html", []byte(strings.Repeat("<table><tr><td>", 100_000))},
		{"everything.html", []byte(strings.Repeat(`<b><i><a href="javascript:x"><img src="http://127.0.0.1:1/x"><iframe src="file:///etc/passwd">`, 20_000))},
		{"quotations.md", []byte(strings.Repeat("> ", 50_000) + "x")},
		{"brackets.md", []byte(strings.Repeat("[", 200_000))},
		{"a million rows.ods", Zip("mimetype", "application/vnd.oasis.opendocument.spreadsheet", "content.xml", `<office:document-content `+odf+`><office:body><office:spreadsheet><table:table><table:table-row table:number-rows-repeated="1048576"><table:table-cell table:number-columns-repeated="1024"><text:p>x</text:p></table:table-cell></table:table-row></table:table></office:spreadsheet></office:body></office:document-content>`)},
		{"lists in lists.odt", Zip("mimetype", "application/vnd.oasis.opendocument.text", "content.xml", `<office:document-content `+odf+`><office:body><office:text>`+deep("<text:list><text:list-item>", "<text:p>x</text:p>", "</text:list-item></text:list>", 150)+`</office:text></office:body></office:document-content>`)},
		{"parts in parts.eml", []byte("From: a\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n" + strings.Repeat("--b\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n", 5000))},
		{"mails in mails.eml", mails(60)},
		{"letters.eml", []byte("From: a\r\nContent-Type: text/plain\r\nContent-Transfer-Encoding: base64\r\n\r\n" + strings.Repeat("!!!!", 1_000_000))},
	}
})
