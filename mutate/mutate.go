package main

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/pdf"
)

// mutator changes sound files in ways that no writer does, and that the strict way of reading still gets past: what stands where the
// file says is damaged, not the way to it.
type mutator struct {
	r     *rand.Rand
	files [][]byte
}

// next gives a changed file, and what was done to it.
func (m *mutator) next() (data []byte, how string) {
	data = bytes.Clone(m.files[m.r.IntN(len(m.files))])
	if m.r.IntN(2) == 0 {
		if out, how, ok := m.objects(data); ok {
			return out, how
		}
	}
	for range 1 + m.r.IntN(6) {
		how += m.bytes(&data) + " "
	}
	return data, how
}

var (
	refRE    = regexp.MustCompile(`\b\d+ 0 R\b`)
	numberRE = regexp.MustCompile(`\b\d+\b`)
	objRE    = regexp.MustCompile(`(?s)\b\d+ 0 obj\b.*?endobj`)
	nameRE   = regexp.MustCompile(`/[A-Za-z]+`)
)

// find gives the place of one of the first matches of a pattern, or nil.
func (m *mutator) find(re *regexp.Regexp, data []byte) []int {
	all := re.FindAllIndex(data, 4000)
	if len(all) == 0 {
		return nil
	}
	return all[m.r.IntN(len(all))]
}

// bytes changes the bytes of a file; most changes leave every object where it was.
func (m *mutator) bytes(data *[]byte) string {
	b := *data
	if len(b) == 0 {
		return "nothing"
	}
	// over writes text in the place of a match, of the same length.
	over := func(at []int, text string) bool {
		if at == nil || len(text) > at[1]-at[0] {
			return false
		}
		copy(b[at[0]:at[1]], text+strings.Repeat(" ", at[1]-at[0]-len(text)))
		return true
	}
	switch m.r.IntN(9) {
	case 0:
		for range 1 + m.r.IntN(8) {
			b[m.r.IntN(len(b))] ^= 1 << m.r.IntN(8)
		}
		return "bits"
	case 1, 2:
		from, to := m.find(refRE, b), m.find(refRE, b)
		if from != nil && over(to, string(b[from[0]:from[1]])) {
			return "reference"
		}
		return "no reference"
	case 3:
		values := []string{"0", "1", "-1", "9", "99999", "-2147483648", "4294967296", "1e9", "65536", strconv.Itoa(m.r.IntN(len(b)))}
		over(m.find(numberRE, b), values[m.r.IntN(len(values))])
		return "number"
	case 4: // an object that stands twice: the second one counts where the file is mended
		if at := m.find(objRE, b); at != nil && at[1]-at[0] < 64<<10 {
			*data = append(b, b[at[0]:at[1]]...)
		}
		return "doubled"
	case 5: // the bodies of two objects crossed
		x, y := m.find(objRE, b), m.find(objRE, b)
		if x != nil && y != nil {
			over(y, string(bytes.Clone(b[x[0]:min(x[1], x[0]+y[1]-y[0])])))
		}
		return "crossed"
	case 6:
		x, y := m.find(nameRE, b), m.find(nameRE, b)
		if x != nil && y != nil {
			over(y, string(bytes.Clone(b[x[0]:x[1]])))
		}
		return "name"
	case 7:
		from := m.r.IntN(len(b))
		n := min(m.r.IntN(200), len(b)-from)
		*data = slices.Delete(b, from, from+n)
		return "cut"
	default:
		*data = b[:m.r.IntN(len(b))+1]
		if m.r.IntN(4) > 0 { // seldom
			*data = b
		}
		return "end"
	}
}

// objects changes objects of a document and writes it anew: the file is as sound as a file can be that says such things.
func (m *mutator) objects(data []byte) (out []byte, how string, ok bool) {
	defer func() {
		if recover() != nil { // the tool's own trouble; the worker looks at the file
			ok = false
		}
	}()
	doc, err := pdf.Open(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, "", false
	}
	doc = doc.Fork()
	n := doc.Objects()
	if n < 4 || n > 20_000 {
		return nil, "", false
	}
	any := func() pdf.Ref { return pdf.Ref{Num: 1 + m.r.IntN(n-1)} }
	for range 1 + m.r.IntN(5) {
		r := any()
		o, err := doc.Load(r)
		if err != nil || o == nil {
			continue
		}
		if s, isStream := o.(*pdf.Stream); isStream && m.r.IntN(3) == 0 {
			o = s.Dict
		}
		how += fmt.Sprintf("%d ", r.Num)
		switch v := pdf.DeepClone(o).(type) {
		case *pdf.Dict:
			m.dict(v, any)
			doc.Set(r, v)
		case *pdf.Stream:
			m.dict(v.Dict, any)
			doc.Set(r, v)
		case pdf.Array:
			for range 1 + m.r.IntN(3) {
				if len(v) > 0 {
					v[m.r.IntN(len(v))] = m.value(v[m.r.IntN(len(v))], any)
				}
			}
			if m.r.IntN(4) == 0 {
				v = append(v, v...)
			}
			doc.Set(r, v)
		}
	}
	var b bytes.Buffer
	ctx, cancel := context.WithTimeout(context.Background(), tooLong)
	defer cancel()
	if doc.WriteFull(ctx, &b, pdf.FullOptions{KeepNumbers: true}) != nil {
		return nil, "", false
	}
	return b.Bytes(), "objects " + how, true
}

func (m *mutator) dict(d *pdf.Dict, any func() pdf.Ref) {
	entries := d.Entries()
	if len(entries) == 0 {
		return
	}
	e := entries[m.r.IntN(len(entries))]
	switch m.r.IntN(6) {
	case 0:
		d.Delete(e.Key)
	case 1: // another entry's value
		d.Set(e.Key, entries[m.r.IntN(len(entries))].Value)
	case 2:
		keys := []pdf.Name{"Kids", "K", "First", "Next", "Parent", "Length", "Filter", "Contents", "Resources", "Names", "Nums", "Limits", "Font", "XObject",
			"DescendantFonts", "ToUnicode", "Encoding", "Annots", "AP", "Dest", "A", "V", "P", "Pg", "StructParents", "MediaBox", "Count", "D", "UseCMap", "CIDToGIDMap", "W", "Widths"}
		d.Set(keys[m.r.IntN(len(keys))], m.value(e.Value, any))
	default:
		d.Set(e.Key, m.value(e.Value, any))
	}
}

// value gives another value in the place of one.
func (m *mutator) value(was pdf.Object, any func() pdf.Ref) pdf.Object {
	switch m.r.IntN(8) {
	case 0, 1, 2:
		return any()
	case 3:
		return pdf.Array{was, was, any()}
	case 4:
		return pdf.NewDict("Kids", pdf.Array{any(), any()}, "Type", pdf.Name("Pages"))
	case 5:
		return pdf.Integer([]int64{0, -1, 1, 1 << 31, -1 << 62, 7, 300}[m.r.IntN(7)])
	case 6:
		return pdf.Real([]float64{0, -1e300, 1e300, 0.0001}[m.r.IntN(4)])
	default:
		return []pdf.Object{pdf.String("\xfe\xff\x00"), pdf.Name("Page"), nil, pdf.Boolean(true)}[m.r.IntN(4)]
	}
}
