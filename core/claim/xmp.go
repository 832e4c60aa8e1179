package claim

import (
	"bytes"
	"encoding/xml"
	"io"
	"regexp"
	"strings"

	"glenrain/core/pdf"
)

// The namespaces of the properties that matter here (ISO 19005-1, 6.7.11; ISO 14289-1, 5; XMP part 1, 8.4).
const (
	rdf      = "http://www.w3.org/1999/02/22-rdf-syntax-ns#"
	xmpBasic = "http://ns.adobe.com/xap/1.0/"
)

var standards = map[string]string{
	"http://www.aiim.org/pdfa/ns/id/":  "PDF/A",
	"http://www.aiim.org/pdfua/ns/id/": "PDF/UA",
}

// mostMetadata is how many bytes of XMP are looked at.
const mostMetadata = 8 << 20

// span is a part of the text, from and to in bytes.
type span struct{ from, to int }

// property is one of XMP, in either of its two forms: an element, or an attribute of rdf:Description.
type property struct {
	space, local, value string
	whole, in           span // all of it, and its value
}

type edit struct {
	span
	by string
}

// metadata are a document's, in XMP (ISO 16684-1).
type metadata struct {
	ref    pdf.Ref
	stream *pdf.Stream
	text   []byte
	props  []property
	end    int    // where rdf:RDF ends: a description more can stand before it
	about  string // what the descriptions are about
	edits  []edit
}

// open reads the metadata; nil where there are none, or where they can't be read.
func open(doc *pdf.Document) *metadata {
	ref, _ := doc.Catalog().Get("Metadata").(pdf.Ref)
	s := doc.Stream(ref)
	if s == nil {
		return nil
	}
	text, rest, err := doc.DecodeMost(s, mostMetadata)
	if err != nil || len(rest) > 0 {
		return nil
	}
	m := &metadata{ref: ref, stream: s, text: text}
	if m.read() != nil {
		return nil
	}
	return m
}

var attribute = regexp.MustCompile(`([\w.-]+):([\w.-]+)\s*=\s*("[^"]*"|'[^']*')`)

func wanted(space string) bool { return standards[space] != "" || space == xmpBasic }

func (m *metadata) read() error {
	dec := xml.NewDecoder(bytes.NewReader(m.text))
	prefixes := map[string]string{}
	var inside *property
	depth := 0 // within it
	for {
		from := int(dec.InputOffset())
		t, err := dec.Token()
		to := int(dec.InputOffset())
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		switch t := t.(type) {
		case xml.StartElement:
			if inside != nil {
				depth++
				continue
			}
			for _, a := range t.Attr {
				if a.Name.Space == "xmlns" {
					prefixes[a.Name.Local] = a.Value
				}
				if a.Name.Space == rdf && a.Name.Local == "about" && t.Name.Local == "Description" {
					m.about = escaped(a.Value)
				}
			}
			if wanted(t.Name.Space) {
				inside = &property{space: t.Name.Space, local: t.Name.Local, whole: span{from, 0}, in: span{to, 0}}
				depth = 0
				continue
			}
			for _, at := range attribute.FindAllSubmatchIndex(m.text[from:to], -1) {
				for i := range at {
					at[i] += from
				}
				space := prefixes[string(m.text[at[2]:at[3]])]
				if !wanted(space) {
					continue
				}
				m.props = append(m.props, property{space: space, local: string(m.text[at[4]:at[5]]), value: string(m.text[at[6]+1 : at[7]-1]),
					whole: span{at[0], at[1]}, in: span{at[6] + 1, at[7] - 1}})
			}
		case xml.CharData:
			if inside != nil {
				inside.value += string(t)
			}
		case xml.EndElement:
			switch {
			case inside != nil && depth > 0:
				depth--
			case inside != nil:
				inside.whole.to, inside.in.to = to, from
				m.props = append(m.props, *inside)
				inside = nil
			case t.Name.Space == rdf && t.Name.Local == "RDF":
				m.end = from
			}
		}
	}
}

func escaped(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // to memory
	return b.String()
}

// put puts a text in the place of a part.
func (m *metadata) put(at span, by string) {
	if at.from >= 0 && at.to >= at.from && at.to <= len(m.text) {
		m.edits = append(m.edits, edit{at, by})
	}
}

// cut takes out properties.
func (m *metadata) cut(which func(property) bool) {
	for _, p := range m.props {
		if which(p) {
			m.put(p.whole, "")
		}
	}
}
