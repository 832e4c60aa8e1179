package step

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/pdf"
)

// Pages says which pages: a rule such as "3-8, last", evaluated again on every
// run, or pages named singly by key.
type Pages struct {
	Rule string
	Keys []Key
}

// IsZero reports whether nothing is said.
func (p Pages) IsZero() bool { return p.Rule == "" && len(p.Keys) == 0 }

// MarshalJSON writes the rule as a string or the keys as an array of strings.
func (p Pages) MarshalJSON() ([]byte, error) {
	if p.Keys != nil {
		return json.Marshal(p.Keys)
	}
	return json.Marshal(p.Rule)
}

// UnmarshalJSON reads a rule, one page number, or an array of keys.
func (p *Pages) UnmarshalJSON(b []byte) error {
	var n int
	if json.Unmarshal(b, &n) == nil {
		p.Rule = strconv.Itoa(n)
		return nil
	}
	if len(b) > 0 && b[0] == '[' {
		return json.Unmarshal(b, &p.Keys)
	}
	if err := json.Unmarshal(b, &p.Rule); err != nil || p.Rule == "" {
		return err
	}
	return checkRule(p.Rule)
}

// UnmarshalText reads keys ("0.3 0.4"), or else a rule.
func (p *Pages) UnmarshalText(b []byte) error {
	*p = Pages{}
	words := strings.Fields(string(b))
	for _, w := range words {
		k, err := ParseKey(w)
		if err != nil {
			p.Keys = nil
			break
		}
		p.Keys = append(p.Keys, k)
	}
	if len(words) == 0 || p.Keys != nil {
		return nil
	}
	p.Rule = strings.Join(words, " ")
	return checkRule(p.Rule)
}

// Resolve gives the indexes (from 0) of the pages meant in doc, in document order,
// each once. Keys of pages that are gone are an error.
func (p Pages) Resolve(doc *pdf.Document, keys *Keys) ([]int, error) {
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	if p.Keys == nil {
		return EvalRule(p.Rule, len(all))
	}
	refs := make([]pdf.Ref, len(p.Keys))
	for i, k := range p.Keys {
		refs[i], _ = keys.Ref(k)
	}
	out := doc.PageIndexes(refs)
	if slices.Contains(out, -1) {
		return nil, Refuse("a page that was selected is not in the document any more")
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// Refs gives the page objects meant in doc, in document order.
func (p Pages) Refs(doc *pdf.Document, keys *Keys) ([]pdf.Ref, error) {
	at, err := p.Resolve(doc, keys)
	if err != nil {
		return nil, err
	}
	if len(at) == 0 {
		return nil, Refuse("no page is selected")
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	out := make([]pdf.Ref, len(at))
	for i, n := range at {
		out[i] = all[n].Ref
	}
	return out, nil
}

func checkRule(rule string) error {
	_, err := EvalRule(rule, 1)
	return err
}

// EvalRule evaluates a page set for a document of n pages and gives indexes from 0,
// in document order, each once. A set is parts between commas; a part is a page
// ("7"), a range ("3-8", "10-", "-4"), "all", "first", "last", or "odd" or "even",
// alone or before a range ("even 10-"). "last" also stands for a number ("5-last").
// What follows "all but" is left out. Pages past the end are simply not there.
func EvalRule(rule string, n int) ([]int, error) {
	s := strings.ToLower(strings.TrimSpace(rule))
	if rest, ok := strings.CutPrefix(s, "all but "); ok {
		out, err := EvalRule(rest, n)
		if err != nil {
			return nil, err
		}
		var left []int
		for i := range n {
			if _, found := slices.BinarySearch(out, i); !found {
				left = append(left, i)
			}
		}
		return left, nil
	}
	var out []int
	for part := range strings.SplitSeq(s, ",") {
		from, to, every, err := evalPart(strings.TrimSpace(part), n)
		if err != nil {
			return nil, err
		}
		for i := max(from, 1); i <= min(to, n); i++ {
			if every == 0 || i%2 == every%2 {
				out = append(out, i-1)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// evalPart gives the range from-to (from 1) and every: 0 all, 1 odd, 2 even.
func evalPart(part string, n int) (from, to, every int, err error) {
	bad := Refuse("%q is not a page set: write it like 3-8, last or even 10-", part)
	for word, e := range map[string]int{"odd": 1, "even": 2} {
		if rest, ok := strings.CutPrefix(part, word); ok {
			every, part = e, strings.TrimSpace(rest)
			if part == "" {
				return 1, n, every, nil
			}
			break
		}
	}
	switch part {
	case "all":
		return 1, n, every, nil
	case "first":
		return 1, 1, every, nil
	case "last":
		return n, n, every, nil
	case "":
		return 0, 0, 0, bad
	}
	number := func(s string, def int) (int, bool) {
		s = strings.TrimSpace(s)
		switch s {
		case "":
			return def, true
		case "last":
			return n, true
		case "first":
			return 1, true
		}
		v, err := strconv.Atoi(s)
		return v, err == nil && v >= 1 && v <= 100_000_000
	}
	a, b, isRange := strings.Cut(part, "-")
	from, ok1 := number(a, 1)
	to, ok2 := from, true
	if isRange {
		to, ok2 = number(b, n)
	}
	if !ok1 || !ok2 || part == "-" {
		return 0, 0, 0, bad
	}
	if isRange && from > to && strings.TrimSpace(b) != "" && strings.TrimSpace(b) != "last" {
		from, to = to, from
	}
	return from, to, every, nil
}

// WriteSet writes indexes (from 0) as a page set: "3-8, 11".
func WriteSet(at []int) string {
	var parts []string
	for i := 0; i < len(at); {
		j := i
		for j+1 < len(at) && at[j+1] == at[j]+1 {
			j++
		}
		if i == j {
			parts = append(parts, strconv.Itoa(at[i]+1))
		} else {
			parts = append(parts, fmt.Sprintf("%d-%d", at[i]+1, at[j]+1))
		}
		i = j + 1
	}
	return strings.Join(parts, ", ")
}

// Place is a place between pages: before a page named by key, before a page
// number, or at the end.
type Place struct {
	Before Key
	Number int // from 1; 0 with a zero Before means the end
}

// MarshalJSON writes "end", the number, or the key.
func (p Place) MarshalJSON() ([]byte, error) {
	switch {
	case !p.Before.IsZero():
		return json.Marshal(p.Before.String())
	case p.Number > 0:
		return json.Marshal(p.Number)
	}
	return []byte(`"end"`), nil
}

// UnmarshalJSON reads "end", "first", a page number to stand before, or a page's key.
func (p *Place) UnmarshalJSON(b []byte) error {
	var n int
	if json.Unmarshal(b, &n) == nil {
		if n < 1 {
			return Refuse("a place is before a page from 1 on, or at the end")
		}
		*p = Place{Number: n}
		return nil
	}
	var s string
	if err := json.Unmarshal(b, &s); err != nil {
		return err
	}
	return p.UnmarshalText([]byte(s))
}

// UnmarshalText reads "end" or nothing, "first", a page number to stand before, or a page's key.
func (p *Place) UnmarshalText(b []byte) error {
	s := strings.TrimSpace(string(b))
	switch s {
	case "end", "":
		*p = Place{}
		return nil
	case "first":
		*p = Place{Number: 1}
		return nil
	}
	if n, err := strconv.Atoi(s); err == nil && n >= 1 {
		*p = Place{Number: n}
		return nil
	}
	k, err := ParseKey(s)
	if err != nil {
		return Refuse("%q is not a place: write a page number to stand before, or \"end\"", s)
	}
	*p = Place{Before: k}
	return nil
}

// Index gives the index (from 0) that the place means in doc; the number of pages means the end.
func (p Place) Index(doc *pdf.Document, keys *Keys) (int, error) {
	all, err := doc.Pages()
	if err != nil {
		return 0, err
	}
	switch {
	case !p.Before.IsZero():
		r, ok := keys.Ref(p.Before)
		if ok {
			if i := slices.IndexFunc(all, func(l pdf.Leaf) bool { return l.Ref == r }); i >= 0 {
				return i, nil
			}
		}
		return 0, Refuse("the page that marks the place is not in the document any more")
	case p.Number > 0:
		return min(p.Number-1, len(all)), nil
	}
	return len(all), nil
}

// CountRule tells how many pages of n a page set means; that it means none is a refusal.
func CountRule(rule string, n int) (int, error) {
	at, err := EvalRule(rule, n)
	if err == nil && len(at) == 0 {
		err = Refuse("there are no pages %s in %s", rule, Count(n, "page"))
	}
	return len(at), err
}
