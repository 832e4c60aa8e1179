package step

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"glenrain/core/pdf"
)

// Length is a length in points. In JSON it is a number of points, or a string with
// a unit: "12mm", "1.5cm", "0.5in", "9pt", or picas and points, "1p6".
type Length float64

// units in points (1 in = 25.4 mm = 72 pt = 6 pica)
var units = map[string]float64{"pt": 1, "mm": pdf.MM, "cm": 10 * pdf.MM, "in": 72}

// number reads a decimal number that is one: not infinite, and not "NaN".
func number(s string) (float64, error) {
	v, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		return 0, Refuse("%q is not a number", s)
	}
	return v, nil
}

// ParseLength reads a length with its unit; without one it is in points.
func ParseLength(s string) (Length, error) {
	t := strings.ToLower(strings.ReplaceAll(strings.TrimSpace(s), " ", ""))
	bad := Refuse("%q is not a length: type it like 12 mm, 0.5 in, 9 pt or 1p6", s)
	for u, f := range units {
		if n, ok := strings.CutSuffix(t, u); ok {
			v, err := number(n)
			if err != nil {
				return 0, bad
			}
			return Length(v * f), nil
		}
	}
	if a, b, ok := strings.Cut(t, "p"); ok {
		picas, err1 := number(a)
		points, err2 := number("0" + b)
		if err1 != nil || err2 != nil {
			return 0, bad
		}
		return Length(picas*12 + points), nil
	}
	v, err := number(t)
	if err != nil {
		return 0, bad
	}
	return Length(v), nil
}

// UnmarshalText reads a length with its unit.
func (l *Length) UnmarshalText(b []byte) (err error) {
	*l, err = ParseLength(string(b))
	return err
}

// UnmarshalJSON reads a number of points or a string with a unit.
func (l *Length) UnmarshalJSON(b []byte) error {
	var f float64
	if json.Unmarshal(b, &f) == nil {
		*l = Length(f)
		return nil
	}
	var s string
	if err := json.Unmarshal(b, &s); err != nil {
		return err
	}
	v, err := ParseLength(s)
	*l = v
	return err
}

// HouseColours are the colours that have a name here.
var HouseColours = map[string]string{
	"slate": "#55645e", "ink": "#22302c", "moss": "#2f6149", "ochre": "#9c5f00", "black": "#000000", "white": "#ffffff",
}

// Colour is an RGB colour: "#rrggbb" or the name of a house colour.
type Colour string

// RGB gives the components, 0 to 1.
func (c Colour) RGB() (r, g, b float64, err error) {
	s := string(c)
	if named, ok := HouseColours[s]; ok {
		s = named
	}
	v, perr := strconv.ParseUint(strings.TrimPrefix(s, "#"), 16, 32)
	if len(s) != 7 || s[0] != '#' || perr != nil {
		names := slices.Sorted(maps.Keys(HouseColours))
		return 0, 0, 0, Refuse("%q isn’t a colour: type #rrggbb or one of %s", string(c), strings.Join(names, ", "))
	}
	f := func(shift int) float64 { return float64(v>>shift&0xff) / 255 }
	return f(16), f(8), f(0), nil
}

// UnmarshalText reads and checks a colour.
func (c *Colour) UnmarshalText(b []byte) error {
	*c = Colour(strings.TrimSpace(string(b)))
	_, _, _, err := c.RGB()
	return err
}

// Count writes a number with its noun: "1 page", "2,415 pages". The plural is the noun with an s, unless it is given.
func Count(n int, noun string, plural ...string) string {
	if n == 1 {
		return "1 " + noun
	}
	if len(plural) > 0 {
		return Thousands(n) + " " + plural[0]
	}
	return Thousands(n) + " " + noun + "s"
}

// Within writes a sentence as part of another one: it begins with a small letter.
func Within(sentence string) string {
	r, n := utf8.DecodeRuneInString(sentence)
	if n == 0 {
		return ""
	}
	return strings.ToLower(string(r)) + sentence[n:]
}

// Thousands writes n with commas.
func Thousands(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Named says which pages in a sentence: "page 4", "pages 3-8" or "12 pages".
func Named(at []int) string {
	set := WriteSet(at)
	switch {
	case len(at) == 1:
		return "page " + set
	case len(at) == 2 && at[1] == at[0]+1:
		return fmt.Sprintf("pages %d and %d", at[0]+1, at[1]+1)
	case len(set) <= 14:
		return "pages " + set
	}
	return Count(len(at), "page")
}

// Sentence begins s with a capital letter.
func Sentence(s string) string {
	if s == "" {
		return s
	}
	if s[0] >= utf8.RuneSelf { // a quotation mark, which has no capital
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
