package pdf

import "fmt"

// Copier brings objects of one document into another, each once. It stops at page
// objects: a reference to a page that was not brought along becomes null.
type Copier struct {
	dst, src *Document
	refs     map[Ref]Ref
	work     []Ref
	tree     map[Ref]bool
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
// pages inherit is written into them; /Parent, /B (article beads) are dropped.
func (c *Copier) Pages(pages []Ref) ([]Ref, error) {
	out := make([]Ref, len(pages))
	for i, p := range pages {
		if _, twice := c.refs[p]; twice {
			return nil, fmt.Errorf("page object %d is brought twice", p.Num)
		}
		out[i] = c.dst.Add(nil)
		c.refs[p] = out[i]
	}
	for i, p := range pages {
		page := c.src.Dict(p)
		if page == nil {
			return nil, refuse(ErrDamaged, "a page of the file can't be read")
		}
		page = page.Clone()
		for _, k := range inheritable {
			page.Set(k, c.src.Inherited(p, k))
		}
		page.Delete("Parent")
		page.Delete("B")
		c.dst.Set(out[i], c.mapped(page))
	}
	return out, c.drain()
}

// Object copies o and all that it refers to.
func (c *Copier) Object(o Object) (Object, error) {
	m := c.mapped(o)
	return m, c.drain()
}

// Become makes every reference to from, in the source, one to the object to of the
// destination, which is there already.
func (c *Copier) Become(from, to Ref) { c.refs[from] = to }

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
		c.dst.Set(c.refs[r], c.mapped(o))
	}
	return nil
}

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
