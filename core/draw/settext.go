package draw

import (
	"math"
	"slices"

	"glenrain/core/font"
	"glenrain/core/pdf"
)

// SetLine is a line of real text: words that stand at places of their own along it.
type SetLine struct {
	Face    *font.Embedding
	Size    float64    // in units of the page's default user space
	Stretch float64    // hundredths of the width that the face has (9.3.4)
	Angle   float64    // degrees counterclockwise that it climbs by in default user space
	Colour  [3]float64 // red, green and blue, of 0 to 1
	Words   []InvisibleWord
}

// SetText sets lines of text over what the page itself shows, and under what was placed on it. They are content of the page like all other.
func SetText(doc *pdf.Document, page pdf.Ref, lines []SetLine) error {
	if len(lines) == 0 {
		return nil
	}
	return Onto(doc, page, func(name func(kind pdf.Name, ref pdf.Ref) pdf.Name) []byte {
		names := map[*font.Embedding]pdf.Name{}
		for i := range lines {
			f := lines[i].Face
			if _, ok := names[f]; !ok {
				names[f] = name("Font", f.Ref())
			}
		}
		return setContent(lines, names)
	})
}

// prefixes begin the names of resources that are added to a page.
var prefixes = map[pdf.Name]string{"Font": "T", "XObject": "P", "ExtGState": "O", "Properties": "M"}

// Onto puts content over what the page itself shows, and under what was placed on it; it is content of the page like all other. write writes
// it: name gives the name under which a resource of a kind can be used there.
func Onto(doc *pdf.Document, page pdf.Ref, write func(name func(kind pdf.Name, ref pdf.Ref) pdf.Name) []byte) error {
	if _, err := fence(doc, page); err != nil {
		return err
	}
	text := doc.Add(pdf.NewFlateStream(nil, write(func(kind pdf.Name, ref pdf.Ref) pdf.Name {
		for _, e := range doc.Dict(doc.Dict(doc.Inherited(page, "Resources")).Get(kind)).Entries() {
			if e.Value == pdf.Object(ref) {
				return e.Key
			}
		}
		own := ownResources(doc, page, kind)
		name := freeName(own, prefixes[kind])
		own.Set(name, ref)
		return name
	})))
	list := slices.Clone(contents(doc, page))
	at := -1
	for i, o := range list { // what keeps the page's own content apart becomes its own, as the text relies on it
		if isFence(doc, o) {
			raw, err := doc.Stream(o).Raw()
			if err != nil {
				return err
			}
			list[i] = doc.Add(pdf.NewStream(nil, raw))
			at = i
		}
	}
	if at < 0 { // it had no content
		list = append(list, text)
	} else {
		list = slices.Insert(list, at+1, pdf.Object(text))
	}
	doc.Edit(page).Set("Contents", list)
	return nil
}

func setContent(lines []SetLine, names map[*font.Embedding]pdf.Name) []byte {
	var c Content
	c.Op("q")
	for i := range lines {
		l := &lines[i]
		if len(l.Words) == 0 {
			continue
		}
		sin, cos := math.Sincos(l.Angle * math.Pi / 180)
		stretch := l.Stretch / 100
		c.Op("BT")
		if l.Colour == [3]float64{} {
			c.Op("g", 0)
		} else {
			c.Op("rg", l.Colour[0], l.Colour[1], l.Colour[2])
		}
		c.Op("Tf", names[l.Face], l.Size)
		c.Op("Tz", l.Stretch)
		c.Op("Tm", cos, sin, -sin, cos, l.Words[0].X, l.Words[0].Y)
		var parts pdf.Array
		x := 0.0 // how far along the line the text has come
		for k, w := range l.Words {
			text := w.Text
			if k < len(l.Words)-1 {
				text += " "
			}
			codes, wide, _ := l.Face.Encode(text)
			to := (w.X-l.Words[0].X)*cos + (w.Y-l.Words[0].Y)*sin
			if off := (x - to) / l.Size / stretch * 1000; math.Abs(off) >= 1 {
				parts = append(parts, pdf.Real(math.Round(off)))
				x = to
			}
			parts = append(parts, pdf.String(codes))
			x += wide / 1000 * l.Size * stretch
		}
		c.Op("TJ", parts)
		c.Op("ET")
	}
	return c.Op("Q").Bytes()
}
