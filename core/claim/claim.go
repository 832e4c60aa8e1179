// Package claim reads what a document says of itself, that it follows a standard (PDF/A, PDF/UA), and takes such a claim out where a change
// does not keep it.
package claim

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"glenrain/core/pdf"
)

// Claim is a standard that a document says it follows.
type Claim struct {
	Standard string // "PDF/A" or "PDF/UA"
	Part     int
	Level    string // of PDF/A: "a", "b", "u", or nothing
}

func (c Claim) String() string { return fmt.Sprintf("%s-%d%s", c.Standard, c.Part, c.Level) }

// Effect is what a change brings in that a standard may not allow.
type Effect uint

// The effects there are. Moving, rotating, cropping and removing pages has none of them.
const (
	Colour       Effect = 1 << iota // text or drawings in DeviceRGB
	Transparency                    // blending, or opacity below 1
	Comment                         // an annotation that no tag holds
	Foreign                         // content of another file, which may keep nothing of it
)

// bears reports whether the standard allows for a change of that effect.
func (c Claim) bears(doc *pdf.Document, e Effect) bool {
	if e&Foreign != 0 {
		return false
	}
	if c.Standard == "PDF/UA" {
		return e&Comment == 0 // ISO 14289-1, 7.18.1
	}
	if e&Transparency != 0 && c.Part == 1 { // ISO 19005-1, 6.4
		return false
	}
	return e&Colour == 0 || printsRGB(doc) // ISO 19005-1, 6.2.3.3; -2 and -3, 6.2.4.3
}

// printsRGB reports whether the document's output intent for PDF/A is a profile of three components.
func printsRGB(doc *pdf.Document) bool {
	s := intent(doc)
	if s == nil {
		return false
	}
	n, _ := doc.Resolve(s.Dict.Get("N")).(pdf.Integer)
	return n == 3
}

// intent gives the profile of the document's output intent for PDF/A; nil where it has none.
func intent(doc *pdf.Document) *pdf.Stream {
	for _, o := range doc.Array(doc.Catalog().Get("OutputIntents")) {
		if d := doc.Dict(o); doc.Name(d.Get("S")) == "GTS_PDFA1" {
			return doc.Stream(d.Get("DestOutputProfile"))
		}
	}
	return nil
}

// profile identifies that profile; zero for none.
func profile(doc *pdf.Document) (sum [32]byte) {
	if s := intent(doc); s != nil {
		if b, _, err := doc.DecodeMost(s, mostProfile); err == nil {
			return sha256.Sum256(b)
		}
	}
	return sum
}

// mostProfile is how many bytes of a profile are looked at.
const mostProfile = 16 << 20

// Of lists what a document claims.
func Of(doc *pdf.Document) []Claim {
	m := open(doc)
	if m == nil {
		return nil
	}
	return m.claims()
}

// Keeps reports whether pages of from keep whatever doc claims: the source claims it too, and its colours are made for the same printing condition.
func Keeps(doc, from *pdf.Document) bool {
	has := Of(from)
	for _, want := range Of(doc) {
		if !slices.ContainsFunc(has, func(c Claim) bool { return c.covers(want) }) || want.Standard == "PDF/A" && profile(doc) != profile(from) {
			return false
		}
	}
	return true
}

// covers reports whether whatever follows c follows want too.
func (c Claim) covers(want Claim) bool {
	rank := map[string]int{"b": 1, "u": 2, "a": 3} // each includes those before
	return c.Standard == want.Standard && c.Part == want.Part && (c.Level == want.Level || rank[want.Level] > 0 && rank[c.Level] > rank[want.Level])
}

// Settle takes those claims out of a document that a change of that effect does not keep, and gives them.
func Settle(doc *pdf.Document, e Effect) []Claim {
	if e == 0 {
		return nil
	}
	m := open(doc)
	if m == nil {
		return nil
	}
	var gone []Claim
	for _, c := range m.claims() {
		if !c.bears(doc, e) {
			gone = append(gone, c)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	m.cut(func(p property) bool {
		standard, ours := standards[p.space]
		return ours && slices.ContainsFunc(gone, func(c Claim) bool { return c.Standard == standard })
	})
	m.keep(doc)
	return gone
}

// Told says which claims were taken out; nothing for none.
func Told(gone []Claim) []string {
	if len(gone) == 0 {
		return nil
	}
	return []string{"The document claims to be " + Names(gone) + ". This change breaks that, so the claim was removed."}
}

// Names names them: "PDF/A-1b and PDF/UA-1".
func Names(claims []Claim) string {
	names := make([]string, len(claims))
	for i, c := range claims {
		names[i] = c.String()
	}
	return strings.Join(names, " and ")
}

// Date sets the time of the last change in the document's XMP metadata, where there are any: an ISO 8601 date as XMP writes it (XMP part 1, 8.2.1.2).
func Date(doc *pdf.Document, iso string) {
	m := open(doc)
	if m == nil {
		return
	}
	for _, local := range []string{"ModifyDate", "MetadataDate"} {
		if i := slices.IndexFunc(m.props, func(p property) bool { return p.space == xmpBasic && p.local == local }); i >= 0 {
			m.put(m.props[i].in, iso)
		} else if local == "ModifyDate" && m.end > 0 {
			m.put(span{m.end, m.end}, fmt.Sprintf(`<rdf:Description xmlns:rdf="%s" rdf:about="%s" xmlns:xmp="%s"><xmp:ModifyDate>%s</xmp:ModifyDate></rdf:Description>`,
				rdf, m.about, xmpBasic, iso))
		}
	}
	m.keep(doc)
}

// claims reads them from the properties.
func (m *metadata) claims() []Claim {
	got := map[string]*Claim{}
	for _, p := range m.props {
		standard, ours := standards[p.space]
		if !ours {
			continue
		}
		c := got[standard]
		if c == nil {
			c = &Claim{Standard: standard}
			got[standard] = c
		}
		switch v := strings.TrimSpace(p.value); p.local {
		case "part":
			if len(v) == 1 && v[0] >= '1' && v[0] <= '9' {
				c.Part = int(v[0] - '0')
			}
		case "conformance":
			c.Level = strings.ToLower(v)
		}
	}
	var out []Claim
	for _, c := range got {
		if c.Part > 0 {
			out = append(out, *c)
		}
	}
	slices.SortFunc(out, func(a, b Claim) int { return cmp.Compare(a.Standard, b.Standard) })
	return out
}

// keep writes the changed metadata, unpacked, as ISO 19005-1, 6.7.2 wants them.
func (m *metadata) keep(doc *pdf.Document) {
	slices.SortFunc(m.edits, func(a, b edit) int { return cmp.Compare(a.from, b.from) })
	var out bytes.Buffer
	at := 0
	for _, e := range m.edits {
		if e.from < at { // within another one that goes
			continue
		}
		out.Write(m.text[at:e.from])
		out.WriteString(e.by)
		at = e.to
	}
	out.Write(m.text[at:])
	d := m.stream.Dict.Clone()
	for _, k := range []pdf.Name{"Filter", "DecodeParms", "Length"} {
		d.Delete(k)
	}
	made := pdf.NewStream(d, out.Bytes())
	if m.ref.IsZero() {
		return
	}
	doc.Set(m.ref, made)
}
