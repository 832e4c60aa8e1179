package content

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"

	"glenrain/core/pdf"
)

// mostFreeText is how many characters of a free text annotation are shown.
const mostFreeText = 20_000

// freeText gives the appearance of a free text annotation that has none (12.5.6.6), which programs draw by themselves from its contents and
// default appearance. Its lines are broken by a rule of thumb, as the programs' are by others; the text is what it says.
func (x *runner) freeText(a *pdf.Dict) *pdf.Stream {
	s, _ := x.doc.Resolve(a.Get("Contents")).(pdf.String)
	rect, ok := x.doc.Rect(a.Get("Rect"))
	text := []rune(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(pdf.Text(s)))
	if x.doc.Name(a.Get("Subtype")) != "FreeText" || !ok || len(text) == 0 || rect.W() <= 0 || rect.H() <= 0 {
		return nil
	}
	text = text[:min(len(text), mostFreeText)]
	size := x.sizeIn(a.Get("DA"))
	// A code for each character, and a way back to what it stands for.
	const first, last = 33, 255
	codes := map[rune]byte{' ': ' '}
	var back strings.Builder
	var show strings.Builder
	fmt.Fprintf(&show, "BT /F %.4g Tf %.4g TL %.4g %.4g Td\n", size, size*1.2, 2.0, rect.H()-size*1.1)
	for _, line := range brokenLines(text, max(1, int(rect.W()/(size*0.5)))) {
		show.WriteByte('<')
		for _, r := range line {
			if unicode.IsSpace(r) {
				r = ' '
			}
			c, known := codes[r]
			if !known {
				if first+len(codes) > last {
					continue // more characters than a simple font has codes
				}
				c = byte(first + len(codes) - 1)
				codes[r] = c
				var hex strings.Builder
				for _, u := range utf16.Encode([]rune{r}) {
					fmt.Fprintf(&hex, "%04X", u)
				}
				fmt.Fprintf(&back, "1 beginbfchar\n<%02X> <%s>\nendbfchar\n", c, hex.String())
			}
			fmt.Fprintf(&show, "%02X", c)
		}
		show.WriteString("> Tj T*\n")
	}
	show.WriteString("ET")
	cmap := "begincmap\n1 begincodespacerange\n<00> <FF>\nendcodespacerange\n1 beginbfchar\n<20> <0020>\nendbfchar\n" + back.String() + "endcmap"
	font := pdf.NewDict("Type", pdf.Name("Font"), "Subtype", pdf.Name("Type1"), "BaseFont", pdf.Name("Helvetica"), "ToUnicode", pdf.NewStream(nil, []byte(cmap)))
	return pdf.NewStream(pdf.NewDict("BBox", pdf.Rect{X1: rect.W(), Y1: rect.H()}.Array(), "Resources", pdf.NewDict("Font", pdf.NewDict("F", font))), []byte(show.String()))
}

// sizeIn reads the font size of a default appearance; 12 where there is none that can be meant.
func (x *runner) sizeIn(da pdf.Object) float64 {
	s, _ := x.doc.Resolve(da).(pdf.String)
	size := 0.0
	scan := Scanner{Data: []byte(s)}
	var o Op
	for scan.Next(&o) {
		if o.Code == opTf && len(o.Args) == 2 && o.Args[1].Kind == Number {
			size = o.Args[1].Num
		}
	}
	if !(size >= 1 && size <= 1000) {
		return 12
	}
	return size
}

// brokenLines breaks a text at its ends of line, and between words where a line would have more than wide characters.
func brokenLines(text []rune, wide int) (out [][]rune) {
	for len(text) > 0 {
		end, space := 0, -1
		for end < len(text) && text[end] != '\n' && (end <= wide || space < 0) {
			if text[end] == ' ' {
				space = end
			}
			end++
		}
		next := end + 1
		if end < len(text) && text[end] != '\n' {
			end, next = space, space+1
		}
		out = append(out, text[:end])
		text = text[min(next, len(text)):]
	}
	return out
}
