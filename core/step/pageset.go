package step

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/nav"
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
// each once. Keys of pages that are gone are an error, and labels that no page has.
func (p Pages) Resolve(doc *pdf.Document, keys *Keys) ([]int, error) {
	if p.Keys == nil {
		return EvalIn(doc, p.Rule)
	}
	refs := make([]pdf.Ref, len(p.Keys))
	for i, k := range p.Keys {
		refs[i], _ = keys.Ref(k)
	}
	out := doc.PageIndexes(refs)
	if slices.Contains(out, -1) {
		return nil, Refuse("a selected page has been removed")
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

// checkRule looks whether a rule can be read at all. What its labels mean is for the document to say.
func checkRule(rule string) error {
	_, err := evaluate(rule, 1, func(string) (int, bool) { return 0, true })
	return err
}

// EvalIn evaluates a page set for a document, in which pages may have labels (ISO 32000-2, 12.4.2). A label stands for its page where it is no page set
// by itself, "iv" or "A-1"; in double quotes it always does, also where it is a number: "7" in quotes is the page that is called 7, wherever it stands.
func EvalIn(doc *pdf.Document, rule string) ([]int, error) {
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	var by map[string]int
	return evaluate(rule, len(all), func(label string) (int, bool) {
		if by == nil {
			called := nav.Labels(doc)
			by = make(map[string]int, len(called))
			for i := len(called) - 1; i >= 0; i-- { // the first of those that are called the same
				by[strings.ToLower(called[i].String())] = i
			}
			for i := range called { // as it is written comes first
				if s := called[i].String(); s != strings.ToLower(s) {
					if _, taken := by[s]; !taken {
						by[s] = i
					}
				}
			}
		}
		if i, ok := by[label]; ok {
			return i + 1, true
		}
		i, ok := by[strings.ToLower(label)]
		return i + 1, ok
	})
}

// EvalRule evaluates a page set for a document of n pages and gives indexes from 0,
// in document order, each once. A set is parts between commas; a part is a page
// ("7"), a range ("3-8", "10-", "-4"), "all", "first", "last", or "odd" or "even",
// alone or before a range ("even 10-"). "last" also stands for a number ("5-last").
// What follows "all but" is left out. Pages past the end are simply not there.
func EvalRule(rule string, n int) ([]int, error) {
	return evaluate(rule, n, func(string) (int, bool) { return 0, false })
}

// evaluate evaluates a page set; called gives the number of the page with a label.
func evaluate(rule string, n int, called func(string) (int, bool)) ([]int, error) {
	s := strings.TrimSpace(rule)
	if low := strings.ToLower(s); strings.HasPrefix(low, "all but ") {
		out, err := evaluate(s[len("all but "):], n, called)
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
	for _, part := range parts(s) {
		from, to, every, err := evalPart(strings.TrimSpace(part), n, called)
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

// parts parts a page set at its commas, but for those between quotes.
func parts(s string) (out []string) {
	quoted, from := false, 0
	for i := range len(s) {
		switch {
		case s[i] == '"':
			quoted = !quoted
		case s[i] == ',' && !quoted:
			out = append(out, s[from:i])
			from = i + 1
		}
	}
	return append(out, s[from:])
}

// evalPart gives the range from-to (from 1) and every: 0 all, 1 odd, 2 even.
func evalPart(part string, n int, called func(string) (int, bool)) (from, to, every int, err error) {
	bad := Refuse("%q isn’t a page set: type it like 3-8, last or even 10-", part)
	low := strings.ToLower(part)
	for word, e := range map[string]int{"odd": 1, "even": 2} {
		if low == word {
			return 1, n, e, nil
		}
		if strings.HasPrefix(low, word+" ") {
			every, part = e, strings.TrimSpace(part[len(word):])
			break
		}
	}
	if part == "" {
		return 0, 0, 0, bad
	}
	switch strings.ToLower(part) {
	case "all":
		return 1, n, every, nil
	case "first":
		return 1, 1, every, nil
	case "last":
		return n, n, every, nil
	}
	missing := ""
	number := func(s string, def int) (int, bool) {
		s = strings.TrimSpace(s)
		switch strings.ToLower(s) {
		case "":
			return def, true
		case "last":
			return n, true
		case "first":
			return 1, true
		}
		if v, err := strconv.Atoi(s); err == nil {
			return v, v >= 1 && v <= 100_000_000
		}
		if q := len(s); q > 2 && s[0] == '"' && s[q-1] == '"' {
			s = s[1 : q-1]
		}
		v, ok := 0, false
		if labelled(s) {
			if v, ok = called(s); !ok {
				missing = s
			}
		}
		return v, ok
	}
	if v, ok := number(part, 0); ok { // one page, by its number or its label, in which there may be a hyphen
		return v, v, every, nil
	}
	a, b, isRange := cutRange(part)
	if isRange {
		missing = ""
	}
	from, ok1 := number(a, 1)
	to, ok2 := from, true
	if isRange {
		to, ok2 = number(b, n)
	}
	if (!ok1 || !ok2) && missing != "" {
		return 0, 0, 0, Refuse("there is no page “%s”: type a page set like 3-8, last or even 10-", missing)
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
			return Refuse("a place is before a page, or at the end")
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
		return Refuse("%q is not a place: type the page number to place them before, or \"end\"", s)
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
		return 0, Refuse("the page that marks the place has been removed")
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

// cutRange parts a range at its hyphen: one that stands between quoted labels, else the first.
func cutRange(s string) (from, to string, is bool) {
	quoted := false
	for i := range len(s) {
		switch {
		case s[i] == '"':
			quoted = !quoted
		case s[i] == '-' && !quoted:
			return s[:i], s[i+1:], true
		}
	}
	return s, "", false
}

// labelled reports whether s may be the label of a page in a page set.
func labelled(s string) bool {
	if s == "" || len(s) > 200 {
		return false
	}
	return !strings.ContainsAny(s, "\",\n\r\t") && strings.TrimSpace(s) == s
}

// NamedIn says which pages of a document in a sentence, as they are called: "page iv", "pages ii to v"; by their places where they have no labels of
// their own. It must be asked before they go or move.
func NamedIn(doc *pdf.Document, at []int) string {
	called := nav.Called(doc)
	own := false
	for _, i := range at {
		own = own || i < len(called) && called[i] != strconv.Itoa(i+1)
	}
	if !own || len(at) == 0 {
		return Named(at)
	}
	name := func(i int) string {
		if called[i] == "" {
			return fmt.Sprintf("%d (without a label)", i+1)
		}
		return called[i]
	}
	switch {
	case len(at) == 1:
		return "page " + name(at[0])
	case at[len(at)-1]-at[0] == len(at)-1:
		return fmt.Sprintf("pages %s to %s", name(at[0]), name(at[len(at)-1]))
	case len(at) <= 4:
		parts := make([]string, len(at))
		for i, n := range at {
			parts[i] = name(n)
		}
		return "pages " + strings.Join(parts, ", ")
	}
	return Count(len(at), "page")
}
