package pdf

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"slices"
)

// identities are the types of objects that are known by which one they are, and not by what they say.
var identities = map[Name]bool{"Page": true, "Pages": true, "Catalog": true, "Annot": true, "OCG": true, "StructElem": true, "StructTreeRoot": true,
	"Outlines": true, "Bead": true, "Thread": true, "Sig": true, "DocTimeStamp": true, "ObjStm": true, "XRef": true}

// mostRefined bounds how often a reference is compared, on average; past it, nothing is joined.
const mostRefined = 100

// alike is what is known of an object that may stand once.
type alike struct {
	num   int
	stem  [16]byte // of what it says, references left out
	refs  []int    // of what it refers to, in order
	raw   *Stream  // whose bytes are not in stem yet
	class int
	users []*alike // that refer to it
	due   bool     // it is compared in the next round
}

// same tells for objects that say the same as another one, of lower number, which that is: streams and whatever pages draw with. Two
// that refer to one another's likes are alike too, so that fonts whose descendants were copied apart join. What is known by its
// identity (pages, annotations, layers, tags, fields, bookmarks) is never joined.
func (d *Document) same() (map[int]int, error) {
	nums, err := d.mayJoin()
	if err != nil {
		return nil, err
	}
	list := make([]*alike, 0, len(nums))
	at := make(map[int]*alike, len(nums))
	lengths := map[[16]byte][]*alike{}
	var text []byte
	for _, n := range nums {
		o, err := d.Load(Ref{Num: n})
		if err != nil || o == nil {
			continue
		}
		a := &alike{num: n}
		text = text[:0]
		if s, ok := o.(*Stream); ok {
			a.raw = s
			dict := s.Dict
			if dict.Has("Length") {
				dict = dict.Clone()
				dict.Delete("Length")
			}
			o = dict
			text = append(append(text, "stream "...), byte(0))
			text = binary.BigEndian.AppendUint64(text, uint64(s.RawLen()))
		}
		text = appendMapped(text, o, func(r Ref) Object {
			a.refs = append(a.refs, r.Num)
			return Keyword("R")
		})
		sum := sha256.Sum256(text)
		a.stem = [16]byte(sum[:16])
		list = append(list, a)
		at[n] = a
		if a.raw != nil {
			lengths[a.stem] = append(lengths[a.stem], a)
		}
	}
	for _, group := range lengths {
		if len(group) == 1 {
			continue
		}
		for _, a := range group { // only these are read
			b, err := a.raw.Raw()
			if err != nil {
				return nil, err
			}
			sum := sha256.Sum256(append(slices.Clone(a.stem[:]), sum256(b)...))
			a.stem = [16]byte(sum[:16])
		}
	}
	if err := d.Over(); err != nil {
		return nil, err
	}
	return join(list, at), nil
}

func sum256(b []byte) []byte { s := sha256.Sum256(b); return s[:] }

// join refines classes of objects until two in one class refer to the same classes, and gives for each that is not the first
// of its class the first one. In each round only those are compared that refer to what got another class in the last one: all others of a class
// are still like one another (Hopcroft, "An n log n algorithm for minimizing states in a finite automaton", 1971, without the choice of the smaller part).
func join(list []*alike, at map[int]*alike) map[int]int {
	stems := map[[16]byte]int{}
	var size []int // members of each class
	for _, a := range list {
		c, ok := stems[a.stem]
		if !ok {
			c = len(size)
			stems[a.stem] = c
			size = append(size, 0)
		}
		a.class = c
		size[c]++
		for _, r := range a.refs {
			if b := at[r]; b != nil {
				b.users = append(b.users, a)
			}
		}
	}
	var due []*alike
	for _, a := range list {
		if size[a.class] > 1 { // others can't fall apart
			due = append(due, a)
		}
	}
	left := 0
	for _, a := range list {
		left += mostRefined * (1 + len(a.refs))
	}
	for len(due) > 0 {
		for _, a := range due {
			if left -= 1 + len(a.refs); left < 0 {
				return nil
			}
		}
		changed := split(due, at, &size)
		due = due[:0]
		for _, a := range changed {
			for _, u := range a.users {
				if !u.due && size[u.class] > 1 {
					u.due = true
					due = append(due, u)
				}
			}
		}
		for _, a := range due {
			a.due = false
		}
	}
	out := map[int]int{}
	first := map[int]int{}
	for _, a := range list { // in the order of numbers
		if n, ok := first[a.class]; ok {
			out[a.num] = n
		} else {
			first[a.class] = a.num
		}
	}
	return out
}

// split parts the classes of some objects by what these refer to, and gives those that got another class. The largest part of a class keeps its number.
func split(due []*alike, at map[int]*alike, size *[]int) (changed []*alike) {
	type part struct {
		class int
		of    []*alike
	}
	parts := map[string]*part{}
	var order []*part
	largest := map[int]*part{} // of a class all of whose members are compared
	seen := map[int]int{}
	var key []byte
	for _, a := range due {
		key = binary.AppendVarint(key[:0], int64(a.class))
		for _, r := range a.refs {
			if b := at[r]; b != nil {
				key = binary.AppendVarint(key, int64(b.class))
			} else {
				key = binary.AppendVarint(key, -int64(r)-1)
			}
		}
		p := parts[string(key)]
		if p == nil {
			p = &part{class: a.class}
			parts[string(key)] = p
			order = append(order, p)
		}
		p.of = append(p.of, a)
		seen[a.class]++
	}
	for _, p := range order {
		if seen[p.class] == (*size)[p.class] && (largest[p.class] == nil || len(p.of) > len(largest[p.class].of)) {
			largest[p.class] = p
		}
	}
	for _, p := range order {
		if largest[p.class] == p {
			continue
		}
		(*size)[p.class] -= len(p.of)
		for _, a := range p.of {
			a.class = len(*size)
		}
		*size = append(*size, len(p.of))
		changed = append(changed, p.of...)
	}
	return changed
}

// mayJoin gives the numbers of objects that may stand once, ascending.
func (d *Document) mayJoin() ([]int, error) {
	leaves, err := d.Pages()
	if err != nil {
		return nil, err
	}
	pages := make([]Ref, len(leaves))
	for i, l := range leaves {
		pages[i] = l.Ref
	}
	return d.drawnWith(pages, true)
}

// drawnWith gives the numbers of what the pages draw with, ascending: all that their resources lead to; with all, also their content, what
// their annotations draw, the form's resources and the colours of output. What is known by its identity is not in it.
func (d *Document) drawnWith(pages []Ref, all bool) ([]int, error) {
	w := drawing{doc: d, seen: make(map[int]bool, d.next/2)}
	for _, p := range pages {
		w.seen[p.Num] = true
	}
	keys := []Name{"Resources"}
	if all {
		keys = []Name{"Resources", "Contents", "Thumb", "Group"}
	}
	for _, p := range pages {
		if err := d.Over(); err != nil {
			return nil, err
		}
		for _, k := range keys {
			w.from(d.Inherited(p, k))
		}
		if !all {
			continue
		}
		for _, a := range d.Array(d.Dict(p).Get("Annots")) {
			w.from(d.Dict(a).Get("AP"))
			w.from(d.Dict(a).Get("MK"))
		}
	}
	if all {
		catalog := d.Catalog()
		w.from(d.Dict(catalog.Get("AcroForm")).Get("DR"))
		for _, o := range d.Array(catalog.Get("OutputIntents")) {
			w.from(d.Dict(o).Get("DestOutputProfile"))
		}
	}
	slices.Sort(w.nums)
	return w.nums, nil
}

// drawing gathers what pages draw with; each object is looked at once.
type drawing struct {
	doc  *Document
	seen map[int]bool
	nums []int
	todo []Object
}

func (w *drawing) from(o Object) {
	w.look(o)
	for len(w.todo) > 0 && !w.doc.work.over.Load() {
		next := w.todo[len(w.todo)-1]
		w.todo = w.todo[:len(w.todo)-1]
		w.look(next)
	}
}

func (w *drawing) look(o Object) {
	switch v := o.(type) {
	case Ref:
		if w.seen[v.Num] {
			return
		}
		w.seen[v.Num] = true
		t, err := w.doc.Load(v)
		if err != nil || t == nil {
			return
		}
		dict, _ := t.(*Dict)
		if s, ok := t.(*Stream); ok {
			dict = s.Dict
			if dict.Has("StructParents") || dict.Has("StructParent") { // its tags know it
				return
			}
			t = dict
		}
		if dict != nil && (identities[w.doc.Name(dict.Get("Type"))] || dict.Has("GLRN_ID")) {
			return
		}
		w.nums = append(w.nums, v.Num)
		w.todo = append(w.todo, t)
	case Array:
		for _, e := range v {
			w.look(e)
		}
	case *Dict:
		for _, e := range v.entries {
			switch e.Key {
			case "Parent", "P", "Pg", "OCGs":
			default:
				w.look(e.Value)
			}
		}
	}
}

// Alike reports whether two values of the document say the same, references by what they lead to.
func (d *Document) Alike(a, b Object) bool {
	seen := map[[2]int]bool{}
	left := 100_000
	var alike func(a, b Object) bool
	alike = func(a, b Object) bool {
		ra, _ := a.(Ref)
		rb, _ := b.(Ref)
		if left--; left < 0 {
			return false
		}
		if ra.Num != 0 && ra.Num == rb.Num {
			return true
		}
		if ra.Num != 0 && rb.Num != 0 {
			if seen[[2]int{ra.Num, rb.Num}] {
				return true
			}
			seen[[2]int{ra.Num, rb.Num}] = true
		}
		switch v := d.Resolve(a).(type) {
		case Array:
			w, ok := d.Resolve(b).(Array)
			if !ok || len(v) != len(w) {
				return false
			}
			for i := range v {
				if !alike(v[i], w[i]) {
					return false
				}
			}
			return true
		case *Dict:
			w, ok := d.Resolve(b).(*Dict)
			if !ok || v.Len() != w.Len() {
				return false
			}
			for _, e := range v.entries {
				if !alike(e.Value, w.Get(e.Key)) {
					return false
				}
			}
			return true
		case *Stream:
			w, ok := d.Resolve(b).(*Stream)
			if !ok || v.RawLen() != w.RawLen() || v.Dict.Len() != w.Dict.Len() {
				return false
			}
			for _, e := range v.Dict.entries {
				if e.Key != "Length" && !alike(e.Value, w.Dict.Get(e.Key)) {
					return false
				}
			}
			x, err1 := v.Raw()
			y, err2 := w.Raw()
			return err1 == nil && err2 == nil && bytes.Equal(x, y)
		default:
			return v == d.Resolve(b)
		}
	}
	return alike(a, b)
}
