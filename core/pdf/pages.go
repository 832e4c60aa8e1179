package pdf

import (
	"fmt"
	"slices"
)

// Leaf is a page's place in the page tree (7.7.3).
type Leaf struct {
	Ref    Ref // the page object
	parent Ref // the node whose /Kids it stands in
}

// node is what is known of an interior node: the one above it (zero for the
// root) and the pages below it, counted and not believed.
type node struct {
	parent Ref
	count  int
}

// inheritable are the attributes that a page may take from a node above it (7.7.3.4).
var inheritable = []Name{"Resources", "MediaBox", "CropBox", "Rotate"}

// Pages walks the page tree and gives its pages in order. The slice is not to be
// changed. The tree's own /Count is not believed. Only a document under construction
// has none: see ErrNoPages.
func (d *Document) Pages() ([]Leaf, error) {
	d.mu.Lock()
	pages := d.pages
	d.mu.Unlock()
	if pages != nil {
		return pages, nil
	}
	if err := d.Over(); err != nil {
		return nil, err
	}
	root, ok := d.Catalog().Get("Pages").(Ref)
	if !ok {
		return nil, refuse(ErrDamaged, "the file has no page tree")
	}
	nodes := map[Ref]node{}
	pages, err := d.walkPages(root, Ref{}, nodes, make([]Leaf, 0, 16), 0)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	d.pages, d.nodes, d.common = pages, nodes, false
	d.mu.Unlock()
	return pages, nil
}

func (d *Document) walkPages(at, parent Ref, nodes map[Ref]node, out []Leaf, depth int) ([]Leaf, error) {
	if depth > MaxDepth {
		return nil, ErrTooDeep
	}
	if _, twice := nodes[at]; twice {
		return nil, refuse(ErrDamaged, "the file is damaged: its page tree runs in a circle")
	}
	dict := d.brief(at)
	if dict == nil { // a null kid counts for nothing
		_, err := d.Load(at)
		return out, err
	}
	kids, isNode := d.Resolve(dict.Get("Kids")).(Array)
	if !isNode && (depth == 0 || at == d.Root()) {
		return nil, refuse(ErrDamaged, "the file is damaged: its page tree has no pages")
	}
	if !isNode {
		return append(out, Leaf{at, parent}), nil
	}
	nodes[at] = node{parent: parent}
	before := len(out)
	for _, k := range kids {
		if d.work.over.Load() {
			return nil, d.work.why()
		}
		r, ok := k.(Ref)
		if !ok {
			if _, direct := k.(*Dict); direct {
				return nil, refuse(ErrDamaged, "the file is damaged: a page is not an object of its own")
			}
			continue
		}
		var err error
		if out, err = d.walkPages(r, at, nodes, out, depth+1); err != nil {
			return nil, err
		}
		if len(out) > MaxPages {
			return nil, ErrTooManyPages
		}
	}
	nodes[at] = node{parent, len(out) - before}
	return out, nil
}

// Page gives the dictionary of the page under r.
func (d *Document) Page(r Ref) *Dict { return d.Dict(r) }

// Inherited gives an attribute of a page, its own or that of the nearest node
// above it that has one (7.7.3.4). References are not followed.
func (d *Document) Inherited(page Ref, key Name) Object {
	dict := d.Dict(page)
	for range MaxDepth {
		if dict == nil {
			return nil
		}
		if v := dict.Get(key); v != nil {
			return v
		}
		dict = d.Dict(dict.Get("Parent"))
	}
	return nil
}

// settle writes the attributes a page inherits into the page itself.
func (d *Document) settle(page Ref) {
	own := d.Dict(page)
	if own == nil {
		return
	}
	var edit *Dict
	for _, k := range inheritable {
		if own.Has(k) {
			continue
		}
		if v := d.Inherited(page, k); v != nil {
			if edit == nil {
				edit = d.Edit(page)
			}
			edit.Set(k, v)
		}
	}
}

// RemovePages takes the pages out of the page tree. The page objects stay as they
// are; taking away the last page of a document is refused.
func (d *Document) RemovePages(pages []Ref) error {
	all, err := d.Pages()
	if err != nil {
		return err
	}
	gone := make(map[Ref]bool, len(pages))
	for _, r := range pages {
		gone[r] = true
	}
	keep := make([]Leaf, 0, len(all))
	out := map[Ref]map[Ref]bool{} // parent -> kids that go
	order := []Ref{}
	for _, l := range all {
		if !gone[l.Ref] {
			keep = append(keep, l)
			continue
		}
		if out[l.parent] == nil {
			out[l.parent] = map[Ref]bool{}
			order = append(order, l.parent)
		}
		out[l.parent][l.Ref] = true
	}
	if len(keep) == 0 {
		return refuse(ErrUnsupported, "you can’t remove the last page, because a document needs one: delete the document instead")
	}
	for _, parent := range order {
		d.dropKids(parent, out[parent])
	}
	d.setPages(keep)
	return nil
}

func (d *Document) setPages(p []Leaf) {
	d.mu.Lock()
	d.pages = p
	d.mu.Unlock()
}

// dropKids takes kids from a node, and the node itself from the one above when it is left empty.
func (d *Document) dropKids(parent Ref, gone map[Ref]bool) {
	kids := d.Array(d.Dict(parent).Get("Kids"))
	left := make(Array, 0, len(kids))
	n := 0
	for _, k := range kids {
		if r, ok := k.(Ref); ok && gone[r] {
			n++
			continue
		}
		left = append(left, k)
	}
	d.Edit(parent).Set("Kids", left)
	d.addCount(parent, -n)
	if up := d.nodes[parent].parent; len(left) == 0 && !up.IsZero() {
		delete(d.ownNodes(), parent)
		d.dropKids(up, map[Ref]bool{parent: true})
		d.addCount(up, 1) // the empty node counted for no page
	}
}

func (d *Document) addCount(at Ref, n int) {
	for range MaxDepth {
		if at.IsZero() || n == 0 {
			return
		}
		info := d.nodes[at]
		info.count += n
		d.ownNodes()[at] = info
		d.Edit(at).Set("Count", Integer(info.count))
		at = info.parent
	}
}

// wideNode is the most kids that Glenrain puts into one node of the page tree.
const wideNode = 64

// InsertPages puts page objects into the page tree so that the first of them
// becomes page at (0 is the first of the document). Their /Parent is set; what they
// need of inherited attributes they must have themselves (see DetachPages), and what they do not have they do not inherit here.
func (d *Document) InsertPages(at int, pages []Ref) error {
	all, err := d.Pages()
	if err != nil {
		return err
	}
	if at < 0 || at > len(all) {
		return fmt.Errorf("inserting pages at %d of %d", at, len(all))
	}
	if len(pages) == 0 {
		return nil
	}
	parent, _ := d.Catalog().Get("Pages").(Ref) // where the tree is still empty
	i := 0
	var kids Array
	if len(all) > 0 {
		beside := all[min(at, len(all)-1)]
		parent = beside.parent
		kids = d.Array(d.Dict(parent).Get("Kids"))
		i = slices.IndexFunc(kids, func(o Object) bool { return o == beside.Ref })
		if at == len(all) {
			i++
		}
	}
	added := make([]Leaf, 0, len(pages))
	var newKids Array
	if len(pages) <= wideNode {
		for _, p := range pages {
			d.Edit(p).Set("Parent", parent)
			newKids = append(newKids, p)
			added = append(added, Leaf{p, parent})
		}
	} else {
		for group := range slices.Chunk(pages, wideNode) {
			n := d.Add(nil)
			members := make(Array, len(group))
			for j, p := range group {
				d.Edit(p).Set("Parent", n)
				members[j] = p
				added = append(added, Leaf{p, n})
			}
			d.Set(n, NewDict("Type", Name("Pages"), "Parent", parent, "Kids", members, "Count", Integer(len(group))))
			d.ownNodes()[n] = node{parent, len(group)}
			newKids = append(newKids, n)
		}
	}
	for _, p := range pages {
		d.shield(p)
	}
	d.Edit(parent).Set("Kids", slices.Insert(slices.Clone(kids), i, newKids...))
	d.addCount(parent, len(pages))
	d.setPages(slices.Insert(slices.Clone(all), at, added...))
	return nil
}

// shield writes what stands for nothing into a page that would otherwise inherit something, which was not meant for it, from where it was put.
func (d *Document) shield(page Ref) {
	own := d.Dict(page)
	for _, k := range inheritable {
		if own.Has(k) || d.Inherited(page, k) == nil {
			continue
		}
		switch k {
		case "MediaBox": // which a page needs, but some lack: programs take this one then
			d.Edit(page).Set(k, Rect{X1: 612, Y1: 792}.Array())
		case "Rotate":
			d.Edit(page).Set(k, Integer(0))
		case "CropBox":
			if box := d.Dict(page).Get("MediaBox"); box != nil {
				d.Edit(page).Set(k, box)
			}
		case "Resources":
			d.Edit(page).Set(k, NewDict())
		}
	}
}

// DetachPages takes pages out of the tree to be inserted elsewhere: what they
// inherit is written into them first. At least one page must stay.
func (d *Document) DetachPages(pages []Ref) error {
	for _, p := range pages {
		d.settle(p)
	}
	return d.RemovePages(pages)
}

// PageIndex finds a page's place, 0 for the first, or -1.
func (d *Document) PageIndex(r Ref) int {
	all, err := d.Pages()
	if err != nil {
		return -1
	}
	return slices.IndexFunc(all, func(l Leaf) bool { return l.Ref == r })
}

// PageIndexes finds the places of pages, in the order given; -1 for one that is not there.
func (d *Document) PageIndexes(refs []Ref) []int {
	out := make([]int, len(refs))
	all, err := d.Pages()
	if len(refs) <= 8 || err != nil {
		for i, r := range refs {
			out[i] = slices.IndexFunc(all, func(l Leaf) bool { return l.Ref == r })
		}
		return out
	}
	at := make(map[Ref]int, len(all))
	for i, l := range all {
		at[l.Ref] = i
	}
	for i, r := range refs {
		out[i] = -1
		if n, ok := at[r]; ok {
			out[i] = n
		}
	}
	return out
}

// SplitSharedPages gives every page that the tree lists more than once an object
// for each place, and tells how many were made.
func (d *Document) SplitSharedPages() (int, error) {
	all, err := d.Pages()
	if err != nil {
		return 0, err
	}
	seen := map[Ref]bool{}
	done := map[Ref]bool{}
	made := 0
	for _, l := range all {
		if done[l.parent] {
			continue
		}
		done[l.parent] = true
		kids := d.Array(d.Dict(l.parent).Get("Kids"))
		var edited Array
		for j, k := range kids {
			r, ok := k.(Ref)
			if _, isNode := d.nodes[r]; !ok || isNode {
				continue
			}
			if !seen[r] {
				seen[r] = true
				continue
			}
			if made == MaxShared {
				return 0, ErrTooOften
			}
			page, ok := DeepClone(d.Dict(r)).(*Dict)
			if !ok || page == nil {
				continue
			}
			page.Set("Parent", l.parent)
			if edited == nil {
				edited = slices.Clone(kids)
			}
			edited[j] = d.Add(page)
			made++
		}
		if edited != nil {
			d.Edit(l.parent).Set("Kids", edited)
		}
	}
	if made > 0 {
		d.setPages(nil)
	}
	return made, nil
}

// Rect is a rectangle in default user space units (7.9.5), normalised.
type Rect struct{ X0, Y0, X1, Y1 float64 }

// W and H are the sides.
func (r Rect) W() float64 { return r.X1 - r.X0 }

// H is the height.
func (r Rect) H() float64 { return r.Y1 - r.Y0 }

// Array gives r as an array object.
func (r Rect) Array() Array { return Array{Real(r.X0), Real(r.Y0), Real(r.X1), Real(r.Y1)} }

// Rect reads a rectangle, corners in any order.
func (d *Document) Rect(o Object) (Rect, bool) {
	a := d.Array(o)
	if len(a) < 4 {
		return Rect{}, false
	}
	var v [4]float64
	for i := range v {
		n, ok := Number(d.Resolve(a[i]))
		if !ok {
			return Rect{}, false
		}
		v[i] = n
	}
	return Rect{min(v[0], v[2]), min(v[1], v[3]), max(v[0], v[2]), max(v[1], v[3])}, true
}

// Geometry is where a page is seen: its boxes in default user space, its turn and
// the size of its unit (7.7.3.3, 14.11.2).
type Geometry struct {
	MediaBox Rect
	Visible  Rect // CropBox cut to MediaBox: what a viewer shows
	Rotate   int  // clockwise: 0, 90, 180 or 270
	UserUnit float64
}

// Letter size is what readers assume where a page has no MediaBox at all.
var noBox = Rect{0, 0, 612, 792}

// Geometry gives the geometry of a page.
func (d *Document) Geometry(page Ref) Geometry {
	g := Geometry{UserUnit: 1}
	own := d.brief(page)
	var media, crop, rotate Object
	for dict, n := own, 0; dict != nil && n < MaxDepth && (media == nil || crop == nil || rotate == nil); n++ {
		media, crop, rotate = first(media, dict.Get("MediaBox")), first(crop, dict.Get("CropBox")), first(rotate, dict.Get("Rotate"))
		dict = d.Dict(dict.Get("Parent"))
	}
	var ok bool
	if g.MediaBox, ok = d.Rect(media); !ok || g.MediaBox.W() <= 0 || g.MediaBox.H() <= 0 {
		g.MediaBox = noBox
	}
	g.Visible = g.MediaBox
	if c, ok := d.Rect(crop); ok {
		cut := Rect{max(c.X0, g.MediaBox.X0), max(c.Y0, g.MediaBox.Y0), min(c.X1, g.MediaBox.X1), min(c.Y1, g.MediaBox.Y1)}
		if cut.W() > 0 && cut.H() > 0 {
			g.Visible = cut
		}
	}
	if r, ok := Number(d.Resolve(rotate)); ok {
		g.Rotate = ((int(r)/90*90)%360 + 360) % 360
	}
	if u, ok := Number(d.Resolve(own.Get("UserUnit"))); ok && u > 0 {
		g.UserUnit = u
	}
	return g
}

// Seen gives width and height as a viewer shows the page, in points.
func (g Geometry) Seen() (w, h float64) {
	w, h = g.Visible.W()*g.UserUnit, g.Visible.H()*g.UserUnit
	if g.Rotate%180 != 0 {
		w, h = h, w
	}
	return
}
