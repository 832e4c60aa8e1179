package pdftest

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"strings"
	"sync"
)

// Hostile is a file that is made to stop whoever reads it.
type Hostile struct {
	Name string // with its ending
	Data []byte
}

// Hostiles gives PDFs of many kinds that are small and ask for endless time, memory or depth.
var Hostiles = sync.OnceValue(hostiles)

// HostilePictures gives pictures of that kind.
var HostilePictures = sync.OnceValue(func() []Hostile {
	return []Hostile{{"eighteen thousand squared.png", hugePNG(18_000, 18_000)}, {"nine thousand squared.png", hugePNG(9_000, 9_000)}}
})

func hostiles() []Hostile {
	var out []Hostile
	add := func(name string, data []byte) { out = append(out, Hostile{name, data}) }
	// one writes a file of one page with the text "Hello"; more are its objects from 5 on, catalog and page what is added to theirs.
	one := func(catalog, page string, more ...string) []byte {
		f := &File{Version: "1.7"}
		f.put("<</Type/Catalog/Pages 2 0 R" + catalog + ">>")
		f.put("<</Type/Pages/Kids[3 0 R]/Count 1>>")
		f.put("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R" + page + ">>")
		f.put(streamOf("", "BT /F 24 Tf 50 700 Td (Hello) Tj ET"))
		for _, o := range more {
			f.put(o)
		}
		return f.Bytes()
	}
	font := "/Resources<</Font<</F<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>>>>>"
	fan := func(what string) string { return "[" + strings.Repeat(what+" ", 12) + "]" }
	page := func(content string) []byte {
		f := &File{Version: "1.7"}
		f.put("<</Type/Catalog/Pages 2 0 R>>")
		f.put("<</Type/Pages/Kids[3 0 R]/Count 1>>")
		f.put("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R" + font + ">>")
		f.put(content)
		return f.Bytes()
	}

	// Objects that are needed for themselves.
	f := &File{Version: "1.7"}
	f.put("<</Type/Catalog/Pages 2 0 R>>")
	f.put("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.put("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R" + font + ">>")
	f.put("<</Length 5 0 R>>stream\nBT /F 24 Tf 50 700 Td (Hello) Tj ET\nendstream")
	f.put("<</Length 4 0 R>>stream\n \nendstream")
	add("lengths in a circle.pdf", f.Bytes())
	f = &File{Version: "1.7"}
	f.put("<</Type/Catalog/Pages 2 0 R>>")
	f.put("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.put("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R" + font + ">>")
	for i := range 30_000 {
		f.put(fmt.Sprintf("<</Length %d 0 R>>stream\nBT ET\nendstream", i+5))
	}
	add("a length for each length.pdf", f.Bytes())

	// Trees and chains that lead back.
	add("a name tree in itself.pdf", one("/Names<</Dests 5 0 R/EmbeddedFiles 5 0 R/JavaScript 5 0 R>>/Outlines 7 0 R", font+"/Annots[6 0 R]",
		"<</Kids"+fan("5 0 R")+">>", "<</Type/Annot/Subtype/Link/Rect[0 0 9 9]/Dest(foo)>>", "<</First 8 0 R/Last 8 0 R/Count 1>>", "<</Title(a)/Parent 7 0 R/Dest(foo)>>"))
	add("fields in themselves.pdf", one("/AcroForm<</SigFlags 3/Fields[5 0 R]>>", font, "<</FT/Sig/T(a)/V 6 0 R/Kids"+fan("5 0 R")+">>", "<</Type/Sig/Name(x)>>"))
	add("tags in themselves.pdf", one("/MarkInfo<</Marked true>>/StructTreeRoot 5 0 R", font, "<</Type/StructTreeRoot/K 6 0 R/ParentTree 7 0 R/IDTree 8 0 R/RoleMap<</A/B/B/A>>>>",
		"<</S/A/P 5 0 R/K"+fan("6 0 R")+"/Pg 3 0 R>>", "<</Kids"+fan("7 0 R")+">>", "<</Kids"+fan("8 0 R")+">>"))
	add("layers in themselves.pdf", one("/OCProperties<</OCGs[6 0 R]/D<</Order 5 0 R/OFF[6 0 R]>>>>", "/Resources<</Properties<</O<</Type/OCMD/VE 7 0 R>>>>>>",
		fan("5 0 R"), "<</Type/OCG/Name(a)>>", "[/And"+strings.Repeat(" 7 0 R", 12)+"]"))
	add("labels in themselves.pdf", one("/PageLabels 5 0 R", font, "<</Kids"+fan("5 0 R")+">>"))
	add("bookmarks in themselves.pdf", one("/Outlines 5 0 R", font, "<</First 6 0 R/Last 6 0 R/Count 1>>", "<</Title(a)/Parent 6 0 R/First 6 0 R/Next 5 0 R/Dest[3 0 R/Fit]>>"))
	var levels []string // each names the next twice: 2^60 ways through
	for i := range 60 {
		levels = append(levels, fmt.Sprintf("<</Kids[%[1]d 0 R %[1]d 0 R]/T(a)/S/Sect/K[%[1]d 0 R %[1]d 0 R]>>", 6+i))
	}
	levels = append(levels, "<</Names[(x)[3 0 R/Fit]]/T(z)/S/P/K 0>>")
	add("doubled at each level.pdf", one("/Names<</Dests 5 0 R>>/AcroForm<</Fields[5 0 R]>>/StructTreeRoot<</Type/StructTreeRoot/K 5 0 R/ParentTree 5 0 R>>", font+"/Annots[<</Subtype/Link/Rect[0 0 9 9]/Dest(zz)>>]", levels...))
	deep := []string{}
	for i := range 50_000 {
		deep = append(deep, fmt.Sprintf("<</Kids[%d 0 R]/T(a)/S/Sect/K[%d 0 R]>>", 6+i, 6+i))
	}
	deep = append(deep, "<</Names[]>>")
	add("fifty thousand levels.pdf", one("/Names<</Dests 5 0 R>>/AcroForm<</Fields[5 0 R]>>/StructTreeRoot<</Type/StructTreeRoot/K 5 0 R/ParentTree 5 0 R>>", font, deep...))

	// Little that becomes much.
	many := streamOf("/Filter/FlateDecode", string(packed(17<<20, "BT /F 1 Tf 1 0 0 1 5 5 Tm (Quay) Tj ET\n")))
	f = &File{Version: "1.7"}
	f.put("<</Type/Catalog/Pages 2 0 R>>")
	f.put("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.put("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents[" + strings.Repeat("4 0 R ", 20) + "]" + font + ">>")
	f.put(many)
	add("one stream twenty times.pdf", f.Bytes())
	add("packed twice.pdf", page(streamOf("/Filter[/FlateDecode/FlateDecode]", string(deflated(packed(600<<20, "0"))))))
	add("ten million lines.pdf", page(streamOf("/Filter/FlateDecode", string(packed(100<<20, "1 1 m 9 9 l\n")))))
	add("two million letters at once.pdf", page(streamOf("/Filter/FlateDecode", string(deflated([]byte("BT /F 9 Tf 50 50 Td ("+strings.Repeat("quay ", 400_000)+") Tj ET"))))))
	add("marks without end.pdf", page(streamOf("/Filter/FlateDecode", string(packed(48<<20, "/P<</MCID 1>>BDC\n")))))
	var forms []string
	for i := range 40 {
		next := fmt.Sprintf("/Resources<</XObject<</X %d 0 R>>>>", 6+i)
		if i == 39 {
			next = ""
		}
		forms = append(forms, streamOf("/Type/XObject/Subtype/Form/BBox[0 0 600 800]"+next, "/X Do /X Do 0 0 9 9 re f"))
	}
	add("forms that double.pdf", one("", "/Resources<</XObject<</X 5 0 R>>>>/Annots[<</Subtype/Stamp/Rect[0 0 99 99]/AP<</N 5 0 R>>>>]", forms...))
	add("a form in itself.pdf", one("", "/Resources<</XObject<</X 5 0 R>>>>", streamOf("/Type/XObject/Subtype/Form/BBox[0 0 600 800]/Resources<</XObject<</X 5 0 R>>>>", "/X Do /X Do")))
	f = &File{Version: "1.7"}
	f.put("<</Type/Catalog/Pages 2 0 R>>")
	f.put("<</Type/Pages/Kids[" + strings.Repeat("3 0 R ", 1_000_000) + "]/Count 1000000>>")
	f.put("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]>>")
	add("a million times one page.pdf", f.Bytes())
	program := streamOf("/Filter/FlateDecode", string(packed(40<<20, "\x00\x01\x00\x00")))
	var fonts strings.Builder
	var text strings.Builder
	for i := range 400 {
		fmt.Fprintf(&fonts, "/F%d<</Type/Font/Subtype/TrueType/BaseFont/A%d/FirstChar 32/LastChar 32/Widths[500]/FontDescriptor<</Type/FontDescriptor/Flags 4/FontName/A%d/FontFile2 5 0 R>>>>", i, i, i)
		fmt.Fprintf(&text, "/F%d 9 Tf (quay) Tj ", i)
	}
	f = &File{Version: "1.7"}
	f.put("<</Type/Catalog/Pages 2 0 R>>")
	f.put("<</Type/Pages/Kids[3 0 R]/Count 1>>")
	f.put("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<<" + fonts.String() + ">>>>>>")
	f.put(streamOf("", "BT "+text.String()+"ET"))
	f.put(program)
	add("one font program four hundred times.pdf", f.Bytes())
	add("a picture of all the world.pdf", one("", "/Resources<</XObject<</X 5 0 R>>>>",
		streamOf("/Type/XObject/Subtype/Image/Width 100000/Height 100000/BitsPerComponent 8/ColorSpace/DeviceRGB/Filter/FlateDecode", string(packed(1<<20, "\x00")))))
	add("a name tree, a million links.pdf", func() []byte {
		var names, links strings.Builder
		for i := range 20_000 {
			fmt.Fprintf(&names, "(n%05d)[3 0 R/Fit]", i)
			fmt.Fprintf(&links, "<</Subtype/Link/Rect[0 0 9 9]/Dest(n%05d)>>", 19_999-i)
		}
		return one("/Names<</Dests<</Names["+names.String()+"]>>>>", font+"/Annots["+links.String()+"]")
	}())
	return out
}

// put adds an object as it is written.
func (f *File) put(object string) { f.Add("%s", object) }

func streamOf(dict, data string) string {
	return fmt.Sprintf("<<%s/Length %d>>stream\n%s\nendstream", dict, len(data), data)
}

// packed gives so many bytes that repeat what, deflated.
func packed(n int, what string) []byte {
	var b bytes.Buffer
	w, _ := zlib.NewWriterLevel(&b, zlib.BestSpeed) // the level is a known one
	part := []byte(strings.Repeat(what, max(1, 64<<10/len(what))))
	for left := n; left > 0; left -= len(part) {
		_, _ = w.Write(part[:min(left, len(part))])
	}
	_ = w.Close()
	return b.Bytes()
}

func deflated(data []byte) []byte {
	var b bytes.Buffer
	w := zlib.NewWriter(&b)
	_, _ = w.Write(data)
	_ = w.Close()
	return b.Bytes()
}

// hugePNG gives a clear picture with transparency.
func hugePNG(w, h int) []byte {
	var b bytes.Buffer
	b.WriteString("\x89PNG\r\n\x1a\n")
	chunk := func(kind string, data []byte) {
		_ = binary.Write(&b, binary.BigEndian, uint32(len(data)))
		sum := crc32.NewIEEE()
		_, _ = io.MultiWriter(&b, sum).Write(append([]byte(kind), data...))
		_ = binary.Write(&b, binary.BigEndian, sum.Sum32())
	}
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(w)), uint32(h))
	chunk("IHDR", append(head, 8, 6, 0, 0, 0))
	chunk("IDAT", packed((4*w+1)*h, "\x00"))
	chunk("IEND", nil)
	return b.Bytes()
}
