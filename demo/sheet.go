package demo

import (
	"context"
	"crypto/md5"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"glenrain/core/draw"
	"glenrain/core/font"
	"glenrain/core/nav"
	"glenrain/core/pdf"
)

const mm = 72 / 25.4

// sheet sets simple papers: headings, paragraphs, tables and pictures, page after page.
type sheet struct {
	doc           *pdf.Document
	w, h          float64
	side, top, ft float64 // margins
	faces         map[string]*font.Embedding
	fonts         *pdf.Dict
	fontsRef      pdf.Ref
	content       *draw.Content
	images        *pdf.Dict
	y             float64
	pages         []pdf.Ref
	marks         []mark
	running       func(page int) string // a running head, "" for none
	err           error
}

type mark struct {
	title string
	page  pdf.Ref
}

func newSheet(w, h, side, top, foot float64) *sheet {
	s := &sheet{doc: pdf.New(), w: w, h: h, side: side, top: top, ft: foot, faces: map[string]*font.Embedding{}, fonts: pdf.NewDict()}
	s.fontsRef = s.doc.Add(s.fonts)
	return s
}

func (s *sheet) face(name string) *font.Embedding {
	if e, ok := s.faces[name]; ok {
		return e
	}
	f, err := font.Face(name)
	if err != nil {
		s.err = err
		f, _ = font.Face("Sans")
	}
	e := font.Embed(s.doc, f)
	s.faces[name] = e
	s.fonts.Set(pdf.Name(strings.ReplaceAll(name, " ", "")), e.Ref())
	return e
}

func (s *sheet) page() {
	s.close()
	s.content, s.images = &draw.Content{}, pdf.NewDict()
	s.y = s.h - s.top
	s.pages = append(s.pages, s.doc.Add(nil))
	if s.running != nil {
		if head := s.running(len(s.pages)); head != "" {
			s.line("Sans", 8, s.side, s.h-s.top*0.55, head)
		}
	}
}

func (s *sheet) close() {
	if s.content == nil {
		return
	}
	res := pdf.NewDict("Font", s.fontsRef)
	if s.images.Len() > 0 {
		res.Set("XObject", s.images)
	}
	s.doc.Set(s.pages[len(s.pages)-1], pdf.NewDict(
		"Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Real(s.w), pdf.Real(s.h)},
		"Resources", res, "Contents", s.doc.Add(pdf.NewFlateStream(nil, s.content.Bytes())),
	))
	s.content = nil
}

func (s *sheet) width(face string, size float64, text string) float64 {
	_, w, _ := s.face(face).Encode(text)
	return w * size / 1000
}

// line sets one line with its baseline at y.
func (s *sheet) line(face string, size, x, y float64, text string) {
	s.lineSpaced(face, size, x, y, text, 0)
}

func (s *sheet) lineSpaced(face string, size, x, y float64, text string, space float64) {
	e := s.face(face)
	name := pdf.Name(strings.ReplaceAll(face, " ", ""))
	s.content.Op("BT").Op("Tf", name, size).Op("Td", x, y)
	if space == 0 {
		codes, _, _ := e.Encode(text)
		s.content.Op("Tj", pdf.String(codes))
	} else { // two-byte codes: spaces are widened one by one
		var a pdf.Array
		for i, w := range strings.Split(text, " ") {
			if i > 0 {
				codes, _, _ := e.Encode(" ")
				a = append(a, pdf.String(codes), pdf.Real(-space*1000/size))
			}
			codes, _, _ := e.Encode(w)
			a = append(a, pdf.String(codes))
		}
		s.content.Op("TJ", a)
	}
	s.content.Op("ET")
}

func (s *sheet) colour(hex string) {
	var r, g, b int
	_, _ = fmt.Sscanf(hex, "%02x%02x%02x", &r, &g, &b)
	s.content.Op("rg", float64(r)/255, float64(g)/255, float64(b)/255)
}

// room starts a new page where less than need points are left.
func (s *sheet) room(need float64) {
	if s.content == nil || s.y-need < s.ft {
		s.page()
	}
}

func (s *sheet) space(pt float64) { s.y -= pt }

func (s *sheet) bookmark(title string) {
	s.marks = append(s.marks, mark{title, s.pages[len(s.pages)-1]})
}

func (s *sheet) heading(size float64, text string) {
	s.room(size * 4)
	s.y -= size * 1.2
	s.colour("2a4a3c")
	s.line("Sans Bold", size, s.side, s.y, text)
	s.colour("1d2522")
	s.y -= size * 0.55
}

// para sets a paragraph of justified text.
func (s *sheet) para(face string, size float64, text string) {
	lead := size * 1.42
	full := s.w - 2*s.side
	words := strings.Fields(text)
	spaceW := s.width(face, size, " ")
	for len(words) > 0 {
		n, w := 0, 0.0
		for n < len(words) {
			next := s.width(face, size, words[n])
			if n > 0 {
				next += spaceW
			}
			if w+next > full && n > 0 {
				break
			}
			w += next
			n++
		}
		s.room(lead)
		s.y -= lead
		extra := 0.0
		if n < len(words) && n > 1 {
			extra = (full - w) / float64(n-1)
		}
		s.lineSpaced(face, size, s.side, s.y, strings.Join(words[:n], " "), extra)
		words = words[n:]
	}
	s.y -= size * 0.6
}

// table sets rows below a head; columns are shares of the full width, numbers stand right.
func (s *sheet) table(size float64, shares []float64, head []string, rows [][]string) {
	lead := size * 1.75
	full := s.w - 2*s.side
	row := func(face string, cells []string, fill string) {
		s.room(lead)
		s.y -= lead
		if fill != "" {
			s.colour(fill)
			s.content.Op("re", s.side, s.y-size*0.5, full, lead).Op("f")
			s.colour("1d2522")
		}
		x := s.side
		for i, c := range cells {
			w := shares[i] * full
			at := x + 5
			if i > 0 {
				at = x + w - 6 - s.width(face, size, c)
			}
			s.line(face, size, at, s.y, c)
			x += w
		}
	}
	s.room(lead * 3)
	s.y -= 4
	row("Sans Bold", head, "e3ebe5")
	for i, r := range rows {
		row("Sans", r, map[bool]string{true: "f4f7f4"}[i%2 == 1])
	}
	s.y -= size
}

// picture places an image XObject across the full width, with a line below it.
func (s *sheet) picture(image pdf.Ref, pxW, pxH int, caption string) {
	w := s.w - 2*s.side
	h := w * float64(pxH) / float64(pxW)
	s.room(h + 30)
	s.y -= h
	name := pdf.Name(fmt.Sprintf("P%d", s.images.Len()+1))
	s.images.Set(name, image)
	s.content.Op("q").Op("cm", w, 0.0, 0.0, h, s.side, s.y).Op("Do", name).Op("Q")
	s.y -= 14
	s.line("Serif Italic", 9, s.side, s.y, caption)
	s.y -= 12
}

// chart draws measured values as bars, with a line below it.
func (s *sheet) chart(height float64, values []float64, caption string) {
	s.room(height + 34)
	s.y -= height
	w := s.w - 2*s.side
	top := slices.Max(values) * 1.15
	s.colour("f4f7f4")
	s.content.Op("re", s.side, s.y, w, height).Op("f")
	step := w / float64(len(values))
	for i, v := range values {
		s.colour(map[bool]string{true: "9c5f00", false: "4d7c66"}[v > top*0.72])
		s.content.Op("re", s.side+step*(float64(i)+0.2), s.y, step*0.6, height*v/top).Op("f")
	}
	s.colour("1d2522")
	s.y -= 14
	s.line("Serif Italic", 9, s.side, s.y, caption)
	s.y -= 12
}

func (s *sheet) write(w io.Writer) error {
	s.close()
	for _, name := range slices.Sorted(maps.Keys(s.faces)) {
		s.faces[name].Finish(s.doc)
	}
	if err := s.doc.InsertPages(0, s.pages); err != nil {
		return err
	}
	for _, m := range s.marks {
		if err := nav.Title(s.doc, m.title, m.page); err != nil {
			return err
		}
	}
	if s.err != nil {
		return s.err
	}
	return s.doc.WriteFull(context.Background(), w, pdf.FullOptions{ID: md5.Sum(fmt.Append(nil, len(s.pages), s.w))})
}
