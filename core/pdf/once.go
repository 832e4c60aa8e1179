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

// mostRounds bounds how deep objects may be nested that say the same; past it, nothing is joined.
const mostRounds = 500

// alike is what is known of an object that may stand once.
type alike struct {
	num   int
	stem  [16]byte // of what it says, references left out
	refs  []int    // of what it refers to, in order
	raw   *Stream  // whose bytes are not in stem yet
	class int
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
// of its class the first one.
func join(list []*alike, at map[int]*alike) map[int]int {
	stems := map[[16]byte]int{}
	for _, a := range list {
		c, ok := stems[a.stem]
		if !ok {
			c = len(stems)
			stems[a.stem] = c
		}
		a.class = c
	}
	for count, round := len(stems), 0; ; round++ {
		if round == mostRounds {
			return nil
		}
		members := make([]int, count)
		for _, a := range list {
			members[a.class]++
		}
		// Only classes of several can fall apart.
		next := count
		first := map[string]int{}
		firstOf := map[int]string{}
		changed := make([]int, len(list))
		var key []byte
		for i, a := range list {
			changed[i] = a.class
			if members[a.class] == 1 {
				continue
			}
			key = binary.AppendVarint(key[:0], int64(a.class))
			for _, r := range a.refs {
				if b := at[r]; b != nil {
					key = binary.AppendVarint(key, int64(b.class))
				} else {
					key = binary.AppendVarint(key, -int64(r)-1)
				}
			}
			c, ok := first[string(key)]
			if !ok {
				c = a.class
				if was, taken := firstOf[a.class]; taken && was != string(key) {
					c = next
					next++
				} else {
					firstOf[a.class] = string(key)
				}
				first[string(key)] = c
			}
			changed[i] = c
		}
		if next == count {
			break
		}
		for i, a := range list {
			a.class = changed[i]
		}
		count = next
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
