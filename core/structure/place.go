package structure

import (
	"slices"

	"glenrain/core/annot"
	"glenrain/core/nav"
	"glenrain/core/pdf"
)

// tree is a tag tree that objects are moved in: what pages its elements have content on.
type tree struct {
	doc     *pdf.Document
	rootRef pdf.Ref
	at      map[pdf.Ref]int // pages, by their place
	roles   *pdf.Dict
}

func open(doc *pdf.Document) (*tree, bool) {
	rootRef, ok := doc.Catalog().Get("StructTreeRoot").(pdf.Ref)
	root := doc.Dict(rootRef)
	pages, err := doc.Pages()
	if !ok || root == nil || err != nil {
		return nil, false
	}
	t := &tree{doc: doc, rootRef: rootRef, at: make(map[pdf.Ref]int, len(pages)), roles: doc.Dict(root.Get("RoleMap"))}
	for i, p := range pages {
		t.at[p.Ref] = i
	}
	return t, true
}

// edge gives the first or the last page on which an element has content, or -1: pg is the page of the element it stands in.
func (t *tree) edge(o pdf.Object, pg pdf.Ref, last bool, w *pdf.Walk) int {
	place := func(r pdf.Ref) int {
		if i, ok := t.at[r]; ok {
			return i
		}
		return -1
	}
	if _, mcid := t.doc.Resolve(o).(pdf.Integer); mcid {
		return place(pg)
	}
	d := w.Enter(o)
	if d == nil {
		return -1
	}
	defer w.Leave()
	if own, ok := d.Get("Pg").(pdf.Ref); ok {
		pg = own
	}
	switch t.doc.Name(d.Get("Type")) {
	case "MCR", "OBJR":
		return place(pg)
	}
	kids := list(t.doc, d.Get("K"))
	if last {
		slices.Reverse(kids)
	}
	for _, k := range kids {
		if i := t.edge(k, pg, last, w); i >= 0 {
			return i
		}
	}
	return -1
}

// groups are the types of elements that are only there to hold others together (14.8.4.3, 14.8.4.4): others may be put among what they hold.
var groups = map[pdf.Name]bool{"Document": true, "DocumentFragment": true, "Part": true, "Art": true, "Sect": true, "Div": true, "Aside": true, "NonStruct": true}

func (t *tree) role(d *pdf.Dict) pdf.Name {
	s := t.doc.Name(d.Get("S"))
	if groups[s] {
		return s
	}
	return resolved(t.doc, t.roles, s)
}

// Place moves elements that stand at the end of the tree to where their pages stand: behind what is on pages ahead of page number at
// (from 0 on), and ahead of what comes from there on.
func Place(doc *pdf.Document, tops []pdf.Ref, at int) {
	t, ok := open(doc)
	if !ok || len(tops) == 0 {
		return
	}
	root := doc.Edit(t.rootRef)
	kids := list(doc, root.Get("K"))
	kids = slices.DeleteFunc(kids, func(o pdf.Object) bool { r, ok := o.(pdf.Ref); return ok && slices.Contains(tops, r) })
	root.Set("K", kids)
	t.put(tops, at)
}

// put puts elements that stand nowhere into the tree, ahead of what is on page number at and later.
func (t *tree) put(elements []pdf.Ref, at int) {
	parent := t.rootRef
	own := map[pdf.Ref]bool{}
	for _, e := range elements {
		own[e] = true
	}
	visited := map[pdf.Ref]bool{}
	for range pdf.MaxDepth {
		visited[parent] = true
		kids := list(t.doc, t.doc.Dict(parent).Get("K"))
		i := t.behind(kids, at)
		if i > 0 {
			before, isRef := kids[i-1].(pdf.Ref)
			d := t.doc.Dict(before)
			if isRef && !visited[before] && d.Has("S") && groups[t.role(d)] && t.edge(before, pdf.Ref{}, true, t.doc.NewWalk()) >= at {
				parent = before // what it holds is partly ahead of the place, and partly behind it
				continue
			}
		}
		if i == len(kids) && parent == t.rootRef && i > 0 { // at the end of the document: beside what is there
			if only, ok := kids[i-1].(pdf.Ref); ok && len(kids) == 1 && !t.documents(elements) && t.role(t.doc.Dict(only)) == "Document" {
				parent = only
				continue
			}
		}
		var in pdf.Array
		for _, e := range elements {
			t.doc.Edit(e).Set("P", parent)
			in = append(in, e)
		}
		t.doc.Edit(parent).Set("K", slices.Insert(kids, i, in...))
		return
	}
}

// documents reports whether elements are whole documents.
func (t *tree) documents(elements []pdf.Ref) bool {
	for _, e := range elements {
		if t.role(t.doc.Dict(e)) != "Document" {
			return false
		}
	}
	return true
}

// looked is up to how many kids are looked at one by one.
const looked = 4096

// behind gives the place in kids behind the last one that begins ahead of page number at.
func (t *tree) behind(kids pdf.Array, at int) int {
	first := func(i int) int { return t.edge(kids[i], pdf.Ref{}, false, t.doc.NewWalk()) }
	if len(kids) <= looked {
		for i := len(kids) - 1; i >= 0; i-- {
			if f := first(i); f >= 0 && f < at {
				return i + 1
			}
		}
		return 0
	}
	lo, hi := 0, len(kids) // by halves, as if they stood in the order of pages
	for lo < hi {
		mid := (lo + hi) / 2
		i := mid
		f := first(i)
		for f < 0 && i+1 < hi {
			i++
			f = first(i)
		}
		if f >= 0 && f < at {
			lo = i + 1
		} else {
			hi = mid
		}
	}
	return lo
}

// Move lets the reading order follow pages that moved: their content is taken from where it stands in the tree and put where the pages
// stand now. An element that has content elsewhere, too, is parted, unless it says something of all of it (ActualText, Alt).
func Move(doc *pdf.Document, pages []pdf.Ref) {
	t, ok := open(doc)
	if !ok || len(pages) == 0 {
		return
	}
	m := mover{tree: t, moving: map[pdf.Ref]bool{}, marked: map[pdf.Ref]bool{}, owner: map[pdf.Ref]pdf.Ref{}, split: map[pdf.Ref]pdf.Ref{}}
	for _, p := range pages {
		m.moving[p] = true
	}
	root := doc.Dict(t.rootRef)
	for _, p := range pages {
		m.mark(m.look(root, doc.Dict(p).Get("StructParents")))
		for _, a := range annot.Refs(doc, p) {
			m.owner[a] = p
			m.mark(m.look(root, doc.Dict(a).Get("StructParent")))
		}
	}
	if !m.marked[t.rootRef] {
		return
	}
	taken, _ := m.take(t.rootRef, pdf.Ref{})
	if len(taken) == 0 {
		return
	}
	m.parents(root, pages)
	at := len(t.at)
	for _, p := range pages {
		at = min(at, t.at[p])
	}
	t.put(taken, at)
}

type mover struct {
	*tree
	moving map[pdf.Ref]bool
	marked map[pdf.Ref]bool    // elements with content on moving pages, and all above them
	owner  map[pdf.Ref]pdf.Ref // annotations of moving pages
	split  map[pdf.Ref]pdf.Ref // elements that were parted, and the part that moves
}

// look finds a key's value in the parent tree.
func (m *mover) look(root *pdf.Dict, key pdf.Object) pdf.Object {
	k, ok := m.doc.Resolve(key).(pdf.Integer)
	if !ok {
		return nil
	}
	return nav.Number(m.doc, root.Get("ParentTree"), int(k))
}

// mark marks elements and all above them.
func (m *mover) mark(o pdf.Object) {
	switch v := o.(type) {
	case pdf.Ref:
		if a, ok := m.doc.Resolve(v).(pdf.Array); ok {
			m.mark(a)
			return
		}
		for at, n := v, 0; n < pdf.MaxDepth && !m.marked[at]; n++ {
			d := m.doc.Dict(at)
			if d == nil {
				return
			}
			m.marked[at] = true
			up, ok := d.Get("P").(pdf.Ref)
			if !ok {
				return
			}
			at = up
		}
	case pdf.Array:
		for _, e := range v {
			if _, isRef := e.(pdf.Ref); isRef {
				m.mark(e)
			}
		}
	}
}

// take takes what is on moving pages out of an element, whose kids without a page of their own are on pg. It gives that as elements, and
// reports whether anything is left.
func (m *mover) take(r, pg pdf.Ref) (taken []pdf.Ref, left bool) {
	d := m.doc.Dict(r)
	if own, ok := d.Get("Pg").(pdf.Ref); ok {
		pg = own
	}
	var stay, goes pdf.Array // goes: what is taken, in its order
	moving, changed := false, false
	take := func(list ...pdf.Ref) {
		for _, e := range list {
			taken = append(taken, e)
			goes = append(goes, e)
		}
	}
	for _, k := range list(m.doc, d.Get("K")) {
		kid, isRef := k.(pdf.Ref)
		kd := m.doc.Dict(k)
		switch {
		case kd == nil, m.doc.Name(kd.Get("Type")) == "MCR", m.doc.Name(kd.Get("Type")) == "OBJR":
			if m.moves(k, kd, pg) {
				goes = append(goes, k)
				moving = true
			} else {
				stay = append(stay, k)
			}
		case !isRef || !m.marked[kid]:
			stay = append(stay, k)
		default:
			m.marked[kid] = false // it may be named twice
			whole, part := m.whole(kid, pg)
			switch {
			case whole:
				take(kid)
				changed = true
			case part && (kd.Has("ActualText") || kd.Has("Alt")):
				stay = append(stay, k)
			default:
				inner, rest := m.take(kid, pg)
				take(inner...)
				if rest {
					stay = append(stay, k)
				} else {
					changed = true
				}
			}
		}
	}
	if r == m.rootRef {
		if changed {
			m.doc.Edit(r).Set("K", stay)
		}
		return taken, true
	}
	if !moving && (len(taken) == 0 || groups[m.role(d)]) { // a group is not parted: what it held stands for itself
		if changed {
			m.doc.Edit(r).Set("K", stay)
		}
		return taken, len(stay) > 0
	}
	part := d.Clone()
	for _, k := range []pdf.Name{"ID", "T", "Ref", "E"} {
		part.Delete(k)
	}
	ref := m.doc.Add(nil)
	for _, e := range taken {
		m.doc.Edit(e).Set("P", ref)
	}
	part.Set("K", goes)
	if pg, ok := d.Get("Pg").(pdf.Ref); ok && !m.moving[pg] && !moving {
		part.Delete("Pg")
	}
	m.doc.Set(ref, part)
	m.split[r] = ref
	m.doc.Edit(r).Set("K", stay)
	return []pdf.Ref{ref}, len(stay) > 0
}

// moves reports whether a marked-content or object reference is on a moving page.
func (m *mover) moves(k pdf.Object, d *pdf.Dict, pg pdf.Ref) bool {
	if d == nil {
		_, mcid := m.doc.Resolve(k).(pdf.Integer)
		return mcid && m.moving[pg]
	}
	if own, ok := d.Get("Pg").(pdf.Ref); ok {
		return m.moving[own]
	}
	if obj, ok := d.Get("Obj").(pdf.Ref); ok {
		if _, mine := m.owner[obj]; mine {
			return true
		}
	}
	return m.moving[pg]
}

// whole reports whether all content of an element is on moving pages; part, whether some is.
func (m *mover) whole(r, pg pdf.Ref) (whole, part bool) {
	whole = true
	w := m.doc.NewWalk()
	var walk func(o pdf.Object, pg pdf.Ref)
	walk = func(o pdf.Object, pg pdf.Ref) {
		if _, mcid := m.doc.Resolve(o).(pdf.Integer); mcid {
			part = part || m.moving[pg]
			whole = whole && m.moving[pg]
			return
		}
		d := w.Enter(o)
		if d == nil || !whole && part {
			if d != nil {
				w.Leave()
			}
			return
		}
		defer w.Leave()
		switch m.doc.Name(d.Get("Type")) {
		case "MCR", "OBJR":
			moves := m.moves(o, d, pg)
			part = part || moves
			whole = whole && moves
			return
		}
		if own, ok := d.Get("Pg").(pdf.Ref); ok {
			pg = own
		}
		for _, k := range list(m.doc, d.Get("K")) {
			walk(k, pg)
		}
	}
	walk(r, pg)
	return whole && part, part
}

// parents lets the parent tree name the parts that moved for what is in them.
func (m *mover) parents(root *pdf.Dict, pages []pdf.Ref) {
	if len(m.split) == 0 {
		return
	}
	moved := func(o pdf.Object) pdf.Object {
		if r, ok := o.(pdf.Ref); ok {
			if to, ok := m.split[r]; ok {
				return to
			}
		}
		return o
	}
	set := map[int]pdf.Object{}
	for _, p := range pages {
		k, ok := m.doc.Resolve(m.doc.Dict(p).Get("StructParents")).(pdf.Integer)
		if a := m.doc.Array(nav.Number(m.doc, root.Get("ParentTree"), int(k))); ok && a != nil {
			own := slices.Clone(a)
			for i := range own {
				own[i] = moved(own[i])
			}
			set[int(k)] = own
		}
		for _, a := range annot.Refs(m.doc, p) {
			if k, ok := m.doc.Resolve(m.doc.Dict(a).Get("StructParent")).(pdf.Integer); ok {
				v := nav.Number(m.doc, root.Get("ParentTree"), int(k))
				if to := moved(v); to != v {
					set[int(k)] = to
				}
			}
		}
	}
	nav.SetNumbers(m.doc, m.rootRef, "ParentTree", set)
}

// CutObjects takes annotations that were removed from pages out of the tree, by their keys in the parent tree, and elements that are left
// without content with them.
func CutObjects(doc *pdf.Document, gone []annot.Removed) {
	rootRef, ok := doc.Catalog().Get("StructTreeRoot").(pdf.Ref)
	root := doc.Dict(rootRef)
	if !ok || root == nil {
		return
	}
	keys := map[int]bool{}
	var free []pdf.Ref
	for _, g := range gone {
		if g.Key < 0 {
			continue
		}
		keys[g.Key] = true
		at, _ := nav.Number(doc, root.Get("ParentTree"), g.Key).(pdf.Ref)
		drop := func(o pdf.Object) bool {
			obj, ok := doc.Dict(o).Get("Obj").(pdf.Ref)
			return ok && obj == g.Ref
		}
		for range pdf.MaxDepth {
			d := doc.Dict(at)
			if d == nil || at == rootRef {
				break
			}
			was := list(doc, d.Get("K"))
			left := slices.DeleteFunc(slices.Clone(was), drop)
			if len(left) == len(was) {
				break
			}
			if len(left) > 0 {
				doc.Edit(at).Set("K", left)
				break
			}
			self, up := at, pdf.Ref{}
			if up, ok = d.Get("P").(pdf.Ref); !ok {
				break
			}
			free = append(free, self)
			drop = func(o pdf.Object) bool { return o == pdf.Object(self) }
			if up == rootRef {
				doc.Edit(rootRef).Set("K", slices.DeleteFunc(list(doc, root.Get("K")), drop))
			}
			at = up
		}
	}
	if len(keys) > 0 {
		if tree, n := filterNumbers(doc, root.Get("ParentTree"), func(k int) bool { return !keys[k] }, doc.NewWalk()); n > 0 {
			doc.Edit(rootRef).Set("ParentTree", tree)
		}
	}
	doc.Free(free...)
}

// Follow brings the tags of pages into the order in which the pages stand: given in that order, each comes behind what is on the pages ahead of it.
func Follow(doc *pdf.Document, pages []pdf.Ref) {
	if !Tagged(doc) {
		return
	}
	for _, p := range pages {
		Move(doc, []pdf.Ref{p})
	}
}
