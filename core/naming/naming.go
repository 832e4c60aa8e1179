// Package naming makes names of files by a pattern: pieces of text, and values that differ from file to file, such as a name, a date or a counter.
package naming

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Piece is one piece of a pattern: text as it is, or a value.
type Piece struct {
	Text  string `json:"text,omitempty"`
	Field string `json:"field,omitempty"` // one of Fields
}

// Pattern is what a name is made of.
type Pattern []Piece

// Field is a value that a pattern can have.
type Field struct{ Name, Title, Example string }

// Fields are the values that there are.
var Fields = []Field{
	{"name", "name", "Berth applications"},
	{"number", "counter", "03"},
	{"date", "date", "2026-11-27"},
	{"title", "bookmark or found text", "North quay"},
	{"pages", "pages", "12-19"},
	{"typed", "file number", "HT-2041"},
}

// Values are those of one file.
type Values struct {
	Name   string // of the document
	Title  string // of the bookmark, or the text, that it begins with
	Pages  string // which pages of the document, as a page set
	Typed  string // what was typed once for all, such as a file number
	Date   time.Time
	Number int // from 1
	Of     int
}

// mostPieces is how many pieces a pattern has at most.
const mostPieces = 40

// UnmarshalJSON reads a piece; it is a text or one of the fields.
func (p *Piece) UnmarshalJSON(b []byte) error {
	type plain Piece
	var v plain
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&v); err != nil {
		return fmt.Errorf("a piece of a name must be a text or a value: %w", err)
	}
	if v.Field != "" && (v.Text != "" || !slices.ContainsFunc(Fields, func(f Field) bool { return f.Name == v.Field })) {
		return fmt.Errorf("a name has no value %q", v.Field)
	}
	*p = Piece(v)
	return nil
}

// Parse reads a pattern from JSON.
func Parse(data []byte) (Pattern, error) {
	var p Pattern
	if err := json.Unmarshal(data, &p); err != nil {
		return nil, err
	}
	if len(p) > mostPieces {
		return nil, fmt.Errorf("a name can have up to %d pieces", mostPieces)
	}
	return p, nil
}

// Has reports whether a value is in the pattern.
func (p Pattern) Has(field string) bool {
	return slices.ContainsFunc(p, func(x Piece) bool { return x.Field == field })
}

// Name makes the name of one file. The counter has as many digits as the last one needs.
func (p Pattern) Name(v Values) string {
	var b strings.Builder
	for _, x := range p {
		switch x.Field {
		case "":
			b.WriteString(x.Text)
		case "name":
			b.WriteString(v.Name)
		case "title":
			if v.Title == "" {
				b.WriteString(v.Name)
			} else {
				b.WriteString(v.Title)
			}
		case "pages":
			b.WriteString(v.Pages)
		case "typed":
			b.WriteString(v.Typed)
		case "date":
			b.WriteString(v.Date.Format("2006-01-02"))
		case "number":
			fmt.Fprintf(&b, "%0*d", len(strconv.Itoa(max(v.Of, 1))), v.Number)
		}
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

// Twice gives the first two names that are the same, but for small and capital letters, by their indexes.
func Twice(names []string) (a, b int, found bool) {
	seen := make(map[string]int, len(names))
	for i, n := range names {
		k := strings.ToLower(n)
		if first, ok := seen[k]; ok {
			return first, i, true
		}
		seen[k] = i
	}
	return 0, 0, false
}
