package pdf

import (
	"bytes"
	"fmt"
)

// Copier brings objects of one document into another, each once. It stops at page
// objects: a reference to a page that was not brought along becomes null.
type Copier struct {
	dst, src *Document
	refs     map[Ref]Ref
	work     []Ref
	tree     map[Ref]bool
	known    map[int]int // objects of the source that may be in the destination already
	verdicts map[int]bool
	left     int // how many objects may still be compared
	tagged   []Ref
	// Lost counts the references that became null because their page stayed behind.
	Lost int
}

// NewCopier prepares to copy from src into dst.
func NewCopier(dst, src *Document) (*Copier, error) {
	pages, err := src.Pages()
	if err != nil {
		return nil, err
	}
	c := &Copier{dst: dst, src: src, refs: map[Ref]Ref{}, tree: make(map[Ref]bool, len(pages))}
	for _, p := range pages {
		c.tree[p.Ref] = true
	}
	return c, nil
}

// Pages copies page objects with all they draw, without a place in the tree. What
// pages inherit is written into them; /Parent, /B (article beads) and /DPart (a part of the document, 14.12) are dropped.
func (c *Copier) Pages(pages []Ref) ([]Ref, error) {
	out := make([]Ref, len(pages))
	for i := range pages {
		out[i] = c.dst.Add(nil)
	}
	return out, c.PagesAs(pages, out)
}

// PagesAs copies page objects like Pages, each to the object of the destination that as names: what leads there leads to the copy. Where that
// is a page in the tree, it keeps its place there.
func (c *Copier) PagesAs(pages, as []Ref) error {
	for i, p := range pages {
		if _, twice := c.refs[p]; twice {
			return fmt.Errorf("page object %d is brought twice", p.Num)
		}
		c.refs[p] = as[i]
	}
	for i, p := range pages {
		page := c.src.Dict(p)
		if page == nil {
			return refuse(ErrDamaged, "a page of the file can't be read")
		}
		page = page.Clone()
		for _, k := range inheritable {
			page.Set(k, c.src.Inherited(p, k))
		}
		page.Delete("Parent")
		page.Delete("B")
		page.Delete("DPart")
		page = c.mapped(page).(*Dict)
		if parent := c.dst.Dict(as[i]).Get("Parent"); parent != nil {
			page.Set("Parent", parent)
		}
		c.dst.Set(as[i], page)
	}
	return c.drain()
}

// Share says that the source is the destination as it was, and has what the pages draw with stay the same objects in both: their streams and
// resources, but for the appearances of annotations. Pages that are not copied are the same in both, too.
func (c *Copier) Share(pages []Ref) error {
	nums, err := c.src.drawnWith(pages, false)
	if err != nil {
		return err
	}
	for _, n := range nums {
		if r := (Ref{Num: n, Gen: c.src.gen(n)}); !c.tree[r] { // resources that name a page don't draw with it
			c.refs[r] = r
		}
	}
	copied := make(map[Ref]bool, len(pages))
	for _, p := range pages {
		copied[p] = true
		list := Array{c.src.Dict(p).Get("Contents")}
		if a := c.src.Array(list[0]); a != nil {
			list = append(list, a...)
		}
		for _, o := range list {
			if r, ok := o.(Ref); ok && !c.tree[r] && c.src.Stream(r) != nil {
				c.refs[r] = r
			}
		}
	}
	for p := range c.tree {
		if !copied[p] {
			c.refs[p] = p
		}
	}
	for _, o := range c.src.Array(c.src.Dict(c.src.Catalog().Get("OCProperties")).Get("OCGs")) {
		if r, ok := o.(Ref); ok {
			c.refs[r] = r
		}
	}
	return nil
}

// Object copies o and all that it refers to.
func (c *Copier) Object(o Object) (Object, error) {
	m := c.mapped(o)
	return m, c.drain()
}

// Become makes every reference to from, in the source, one to the object to of the
// destination, which is there already.
func (c *Copier) Become(from, to Ref) { c.refs[from] = to }

// mostCompared bounds how many objects are compared to find out what the destination has already.
const mostCompared = 2_000_000

// Known says which objects of the source may stand in the destination already, by number. Each is compared before it is
// taken for the other; one that is not the same any more is copied.
func (c *Copier) Known(pairs map[int]int) {
	c.known, c.verdicts, c.left = pairs, map[int]bool{}, mostCompared
}

// there gives the object of the destination that says what r of the source says.
func (c *Copier) there(r Ref) (Ref, bool) {
	n, ok := c.known[r.Num]
	if !ok {
		return Ref{}, false
	}
	if same, asked := c.verdicts[r.Num]; asked {
		return Ref{Num: n}, same
	}
	if c.tree[r] || c.left < 0 {
		return Ref{}, false
	}
	seen := map[int]bool{}
	same := c.compare(r.Num, n, seen)
	if same { // all that it leads to is the same, too
		for num := range seen {
			c.verdicts[num] = true
		}
	}
	c.verdicts[r.Num] = same
	return Ref{Num: n}, same
}

// compare reports whether object num of the source says the same as object n of the destination, taking for granted what seen has.
func (c *Copier) compare(num, n int, seen map[int]bool) bool {
	if seen[num] {
		return true
	}
	if same, asked := c.verdicts[num]; asked {
		return same
	}
	if c.left--; c.left < 0 || len(seen) > 10_000 {
		return false
	}
	seen[num] = true
	a, err1 := c.src.Load(Ref{Num: num})
	b, err2 := c.dst.Load(Ref{Num: n})
	same := err1 == nil && err2 == nil && a != nil && c.alike(a, b, seen)
	if !same {
		c.verdicts[num] = false
	}
	return same
}

// alike compares two values, references by what they lead to.
func (c *Copier) alike(a, b Object, seen map[int]bool) bool {
	switch v := a.(type) {
	case Ref:
		w, ok := b.(Ref)
		return ok && c.known[v.Num] == w.Num && w.Num != 0 && c.compare(v.Num, w.Num, seen)
	case Array:
		w, ok := b.(Array)
		if !ok || len(v) != len(w) {
			return false
		}
		for i := range v {
			if !c.alike(v[i], w[i], seen) {
				return false
			}
		}
		return true
	case *Dict:
		w, ok := b.(*Dict)
		if !ok || v.Len() != w.Len() {
			return false
		}
		for _, e := range v.entries {
			if e.Key != "Length" && !c.alike(e.Value, w.Get(e.Key), seen) {
				return false
			}
		}
		return true
	case *Stream:
		w, ok := b.(*Stream)
		if !ok || v.RawLen() != w.RawLen() || !c.alike(v.Dict, w.Dict, seen) {
			return false
		}
		x, err1 := v.Raw()
		y, err2 := w.Raw()
		return err1 == nil && err2 == nil && bytes.Equal(x, y)
	}
	return a == b
}

// DrawnWith gives what was copied of that which the pages, of the destination, draw with: its number in the source, and in the destination.
func (c *Copier) DrawnWith(pages []Ref) (map[int]int, error) {
	nums, err := c.dst.drawnWith(pages, false)
	if err != nil {
		return nil, err
	}
	in := make(map[int]bool, len(nums))
	for _, n := range nums {
		in[n] = true
	}
	out := map[int]int{}
	for from, to := range c.refs {
		if in[to.Num] {
			out[from.Num] = to.Num
		}
	}
	return out, nil
}

// Ref tells what a reference of the source has become, if it was brought.
func (c *Copier) Ref(r Ref) (Ref, bool) {
	n, ok := c.refs[r]
	return n, ok
}

func (c *Copier) drain() error {
	for len(c.work) > 0 {
		r := c.work[len(c.work)-1]
		c.work = c.work[:len(c.work)-1]
		o, err := c.src.Load(r)
		if err != nil {
			return fmt.Errorf("bringing object %d: %w", r.Num, err)
		}
		if s, ok := o.(*Stream); ok && (s.Dict.Has("StructParents") || s.Dict.Has("StructParent")) {
			c.tagged = append(c.tagged, c.refs[r])
		}
		c.dst.Set(c.refs[r], c.mapped(o))
	}
	return nil
}

// Tagged gives the copied forms and pictures that have keys in the parent tree of tags (14.7.5.4).
func (c *Copier) Tagged() []Ref { return c.tagged }

// mapped copies o with its references turned into those of the destination.
func (c *Copier) mapped(o Object) Object {
	switch v := o.(type) {
	case Ref:
		if n, ok := c.refs[v]; ok {
			return n
		}
		if c.tree[v] {
			c.Lost++
			return nil
		}
		t, err := c.src.Load(v)
		if err == nil {
			if t == nil {
				return nil
			}
			if dict, ok := t.(*Dict); ok {
				switch c.src.Resolve(dict.Get("Type")) {
				case Name("Page"), Name("Pages"), Name("Catalog"):
					c.Lost++
					return nil
				}
			}
		}
		if n, ok := c.there(v); ok {
			c.refs[v] = n
			return n
		}
		n := c.dst.Add(nil)
		c.refs[v] = n
		c.work = append(c.work, v)
		return n
	case Array:
		out := make(Array, len(v))
		for i := range v {
			out[i] = c.mapped(v[i])
		}
		return out
	case *Dict:
		out := &Dict{entries: make([]Entry, 0, len(v.entries))}
		for _, e := range v.entries {
			out.Set(e.Key, c.mapped(e.Value))
		}
		return out
	case *Stream:
		s := *v
		dict := c.mapped(v.Dict).(*Dict)
		dict.Delete("Length")
		dict.Set("Length", Integer(v.RawLen()))
		s.Dict = dict
		return &s
	}
	return o
}
