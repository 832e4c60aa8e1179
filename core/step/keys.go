package step

import (
	"fmt"
	"strconv"
	"strings"

	"glenrain/core/pdf"
)

// Key names a page for good: the number of the step that made it and its ordinal
// among the pages that step made, both from 1 on; step 0 is the base.
type Key struct{ Step, Ordinal int }

func (k Key) String() string { return fmt.Sprintf("%d.%d", k.Step, k.Ordinal) }

// IsZero reports whether k names no page.
func (k Key) IsZero() bool { return k.Ordinal == 0 }

// MarshalText writes "step.ordinal".
func (k Key) MarshalText() ([]byte, error) {
	if k.IsZero() {
		return nil, nil
	}
	return []byte(k.String()), nil
}

// UnmarshalText reads "step.ordinal".
func (k *Key) UnmarshalText(b []byte) error {
	if len(b) == 0 {
		*k = Key{}
		return nil
	}
	v, err := ParseKey(string(b))
	*k = v
	return err
}

// ParseKey reads "step.ordinal".
func ParseKey(s string) (Key, error) {
	a, b, ok := strings.Cut(s, ".")
	step, err1 := strconv.Atoi(a)
	ord, err2 := strconv.Atoi(b)
	if !ok || err1 != nil || err2 != nil || step < 0 || ord < 1 {
		return Key{}, fmt.Errorf("%q is not the key of a page", s)
	}
	return Key{step, ord}, nil
}

// Keys maps keys to the page objects of one document and back. It never changes:
// With gives a larger one.
type Keys struct {
	refs  map[Key]pdf.Ref
	keys  map[pdf.Ref]Key
	below *Keys
	depth int
}

// NewKeys starts from the pages of a base.
func NewKeys(base []pdf.Leaf) *Keys {
	refs := make([]pdf.Ref, len(base))
	for i, l := range base {
		refs[i] = l.Ref
	}
	return newKeys(0, refs, nil)
}

// KeysOf maps the pages of a base that has keys already: keys[i] is that of base[i].
func KeysOf(base []pdf.Leaf, keys []Key) *Keys {
	k := &Keys{make(map[Key]pdf.Ref, len(base)), make(map[pdf.Ref]Key, len(base)), nil, 0}
	for i, l := range base[:min(len(base), len(keys))] {
		k.refs[keys[i]], k.keys[l.Ref] = l.Ref, keys[i]
	}
	return k
}

// flattenAt is how many layers are looked through before they are joined.
const flattenAt = 24

func newKeys(step int, created []pdf.Ref, below *Keys) *Keys {
	k := &Keys{make(map[Key]pdf.Ref, len(created)), make(map[pdf.Ref]Key, len(created)), below, 0}
	if below != nil {
		k.depth = below.depth + 1
	}
	if k.depth >= flattenAt {
		for at := below; at != nil; at = at.below {
			for key, r := range at.refs {
				if _, newer := k.refs[key]; !newer {
					k.refs[key], k.keys[r] = r, key
				}
			}
		}
		k.below, k.depth = nil, 0
	}
	for i, r := range created {
		key := Key{step, i + 1}
		k.refs[key], k.keys[r] = r, key
	}
	return k
}

// With adds the page objects that a step made.
func (k *Keys) With(step int, created []pdf.Ref) *Keys {
	if len(created) == 0 {
		return k
	}
	return newKeys(step, created, k)
}

// Ref gives the page object of a key.
func (k *Keys) Ref(key Key) (pdf.Ref, bool) {
	for ; k != nil; k = k.below {
		if r, ok := k.refs[key]; ok {
			return r, true
		}
	}
	return pdf.Ref{}, false
}

// Key gives the key of a page object; zero where it has none.
func (k *Keys) Key(r pdf.Ref) Key {
	for ; k != nil; k = k.below {
		if key, ok := k.keys[r]; ok {
			return key
		}
	}
	return Key{}
}

// Of gives the keys of several page objects.
func (k *Keys) Of(refs []pdf.Ref) []Key {
	out := make([]Key, len(refs))
	for i, r := range refs {
		out[i] = k.Key(r)
	}
	return out
}
