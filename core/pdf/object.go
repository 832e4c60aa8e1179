package pdf

import (
	"fmt"
	"slices"
)

// Object is any PDF object (ISO 32000-2, 7.3): nil for null, Boolean, Integer,
// Real, String, Name, Array, *Dict, *Stream or Ref. Objects that a Document gave
// out are shared: they are read, never changed. A change starts with a Clone.
type Object any

type (
	// Boolean is a boolean object (7.3.2).
	Boolean bool
	// Integer is an integer object (7.3.3).
	Integer int64
	// Real is a real number object (7.3.3).
	Real float64
	// String holds the decoded bytes of a string object (7.3.4).
	String string
	// Name is a name object without its solidus, #xx decoded (7.3.5).
	Name string
	// Array is an array object (7.3.6).
	Array []Object
)

// Ref is an indirect reference (7.3.10).
type Ref struct {
	Num int
	Gen int
}

func (r Ref) String() string { return fmt.Sprintf("%d %d R", r.Num, r.Gen) }

// IsZero reports whether r refers to nothing.
func (r Ref) IsZero() bool { return r.Num == 0 }

// Entry is one key and its value in a Dict.
type Entry struct {
	Key   Name
	Value Object
}

// Dict is a dictionary object (7.3.7) that keeps the order of its keys.
type Dict struct {
	entries []Entry
	index   map[Name]int // only for large dictionaries
}

const indexFrom = 24

// NewDict returns a dictionary of the given keys and values, in that order:
// NewDict("Type", Name("Page"), "Rotate", Integer(90)).
func NewDict(pairs ...any) *Dict {
	d := &Dict{entries: make([]Entry, 0, len(pairs)/2)}
	for i := 0; i+1 < len(pairs); i += 2 {
		switch k := pairs[i].(type) {
		case string:
			d.Set(Name(k), pairs[i+1])
		case Name:
			d.Set(k, pairs[i+1])
		}
	}
	return d
}

func (d *Dict) find(k Name) int {
	if d.index != nil {
		if i, ok := d.index[k]; ok {
			return i
		}
		return -1
	}
	for i := range d.entries {
		if d.entries[i].Key == k {
			return i
		}
	}
	return -1
}

// Get returns the value of k as it stands (a Ref is not followed), or nil.
func (d *Dict) Get(k Name) Object {
	if d == nil {
		return nil
	}
	if i := d.find(k); i >= 0 {
		return d.entries[i].Value
	}
	return nil
}

// Has reports whether k is there.
func (d *Dict) Has(k Name) bool { return d != nil && d.find(k) >= 0 }

// Set puts v under k, at the end if k is new. A null value takes the key away,
// which is the same to the standard (7.3.7). In a nil Dict nothing is set.
func (d *Dict) Set(k Name, v Object) {
	if d == nil {
		return
	}
	if v == nil {
		d.Delete(k)
		return
	}
	if i := d.find(k); i >= 0 {
		d.entries[i].Value = v
		return
	}
	d.entries = append(d.entries, Entry{k, v})
	switch {
	case d.index != nil:
		d.index[k] = len(d.entries) - 1
	case len(d.entries) >= indexFrom:
		d.reindex()
	}
}

func (d *Dict) reindex() {
	d.index = make(map[Name]int, len(d.entries))
	for i, e := range d.entries {
		d.index[e.Key] = i
	}
}

// Delete takes k away.
func (d *Dict) Delete(k Name) {
	if d == nil {
		return
	}
	i := d.find(k)
	if i < 0 {
		return
	}
	d.entries = slices.Delete(d.entries, i, i+1)
	if d.index != nil {
		d.reindex()
	}
}

// Len is the number of keys.
func (d *Dict) Len() int {
	if d == nil {
		return 0
	}
	return len(d.entries)
}

// Entries gives the keys and values in their order. The slice is not to be changed.
func (d *Dict) Entries() []Entry {
	if d == nil {
		return nil
	}
	return d.entries
}

// Clone copies d one level deep.
func (d *Dict) Clone() *Dict {
	if d == nil {
		return NewDict()
	}
	c := &Dict{entries: slices.Clone(d.entries)}
	if len(c.entries) >= indexFrom {
		c.reindex()
	}
	return c
}

// DeepClone copies o with all arrays and dictionaries in it; references and the
// bytes of streams stay shared.
func DeepClone(o Object) Object {
	switch v := o.(type) {
	case Array:
		c := make(Array, len(v))
		for i := range v {
			c[i] = DeepClone(v[i])
		}
		return c
	case *Dict:
		c := &Dict{entries: make([]Entry, 0, len(v.entries))}
		for _, e := range v.entries {
			c.entries = append(c.entries, Entry{e.Key, DeepClone(e.Value)})
		}
		if len(c.entries) >= indexFrom {
			c.reindex()
		}
		return c
	case *Stream:
		s := *v
		s.Dict = DeepClone(v.Dict).(*Dict)
		return &s
	}
	return o
}

// Number gives the value of an Integer or Real.
func Number(o Object) (float64, bool) {
	switch v := o.(type) {
	case Integer:
		return float64(v), true
	case Real:
		return float64(v), true
	}
	return 0, false
}
