// Package structure is about the tag tree (ISO 32000-2, 14.7 and 14.8): it cuts the
// elements of pages that go and brings along those of pages that are copied.
package structure

import (
	"slices"

	"glenrain/core/annot"
	"glenrain/core/nav"
	"glenrain/core/pdf"
)

// Tagged reports whether the document has a structure tree.
func Tagged(doc *pdf.Document) bool {
	return doc.Dict(doc.Catalog().Get("StructTreeRoot")) != nil
}

// CutPages takes the content of the pages that gone names out of the tree, with all elements that are left without any, and tells how many
// went, and the titles of those that stay because they have content elsewhere. Without titles, those lose them.
func CutPages(doc *pdf.Document, gone func(pdf.Ref) bool, titles bool) (n int, stay []string) {
	root := doc.Dict(doc.Catalog().Get("StructTreeRoot"))
	if root == nil {
		return 0, nil
	}
	c := cutter{doc: doc, walk: doc.NewWalk(), gone: gone, titles: titles, cut: map[pdf.Ref]bool{}, annots: map[pdf.Ref]pdf.Ref{}}
	pages, err := doc.Pages()
	if err != nil {
		return 0, nil
	}
	keys := map[int]bool{}
	for _, l := range pages {
		if !gone(l.Ref) {
			continue
		}
		p := doc.Dict(l.Ref)
		if k, ok := doc.Resolve(p.Get("StructParents")).(pdf.Integer); ok {
			keys[int(k)] = true
		}
		for _, a := range annot.Refs(doc, l.Ref) {
			c.annots[a] = l.Ref
			if k, ok := doc.Resolve(doc.Dict(a).Get("StructParent")).(pdf.Integer); ok {
				keys[int(k)] = true
			}
		}
	}
	for _, l := range pages { // pages may share a key: it stays with those that stay
		if gone(l.Ref) || len(keys) == 0 {
			continue
		}
		if k, ok := doc.Resolve(doc.Dict(l.Ref).Get("StructParents")).(pdf.Integer); ok {
			delete(keys, int(k))
		}
	}
	kids, changed := c.kids(root.Get("K"), pdf.Ref{})
	rootRef, isRef := doc.Catalog().Get("StructTreeRoot").(pdf.Ref)
	if !isRef {
		return 0, nil
	}
	if changed {
		doc.Edit(rootRef).Set("K", kids)
	}
	if len(keys) > 0 {
		if tree, n := filterNumbers(doc, root.Get("ParentTree"), func(k int) bool { return !keys[k] }, doc.NewWalk()); n > 0 {
			doc.Edit(rootRef).Set("ParentTree", tree)
		}
	}
	if ids := root.Get("IDTree"); ids != nil && len(c.cut) > 0 {
		if tree, n := nav.FilterNames(doc, ids, func(o pdf.Object) bool { r, ok := o.(pdf.Ref); return !ok || !c.cut[r] }); n > 0 {
			doc.Edit(rootRef).Set("IDTree", tree)
		}
	}
	free := make([]pdf.Ref, 0, len(c.cut))
	for r := range c.cut {
		free = append(free, r)
	}
	slices.SortFunc(free, func(a, b pdf.Ref) int { return a.Num - b.Num })
	doc.Free(free...)
	return c.n, c.stay
}

type cutter struct {
	doc    *pdf.Document
	walk   *pdf.Walk
	gone   func(pdf.Ref) bool
	cut    map[pdf.Ref]bool
	annots map[pdf.Ref]pdf.Ref // annotations of gone pages
	titles bool
	stay   []string // titles of elements that lost a part
	n      int
}

// kids filters the /K of an element whose own page is pg: an element, a marked-content
// reference, an object reference, or an array of them (14.7.2, table 355).
func (c *cutter) kids(k pdf.Object, pg pdf.Ref) (pdf.Object, bool) {
	if list, ok := c.doc.Resolve(k).(pdf.Array); ok {
		var left pdf.Array
		changed := false
		for _, o := range list {
			stays, inside := c.kid(o, pg)
			changed = changed || !stays || inside
			if stays {
				left = append(left, o)
			}
		}
		if !changed {
			return k, false
		}
		if left == nil {
			return nil, true
		}
		return left, true
	}
	if k == nil {
		return nil, false
	}
	stays, inside := c.kid(k, pg)
	if !stays {
		return nil, true
	}
	return k, inside
}

// kid tells whether one kid stays, and whether something in it was changed directly
// (only for elements that are no objects of their own).
func (c *cutter) kid(o pdf.Object, pg pdf.Ref) (stays, inside bool) {
	if _, mcid := c.doc.Resolve(o).(pdf.Integer); mcid {
		return !c.gone(pg), false
	}
	d := c.doc.Dict(o)
	if d == nil {
		return true, false
	}
	own, hasPg := d.Get("Pg").(pdf.Ref)
	if !hasPg {
		own = pg
	}
	switch c.doc.Name(d.Get("Type")) {
	case "MCR":
		return !c.gone(own), false
	case "OBJR":
		if obj, ok := d.Get("Obj").(pdf.Ref); ok {
			if _, onGone := c.annots[obj]; onGone {
				return false, false
			}
			if !hasPg {
				return true, false
			}
		}
		return !c.gone(own), false
	}
	r, isRef := o.(pdf.Ref)
	if !isRef {
		return true, false // an element must be an object of its own; leave what is not
	}
	if c.cut[r] {
		return false, false
	}
	if c.walk.Enter(r) == nil { // it stands here a second time, or in itself
		return true, false
	}
	defer c.walk.Leave()
	had := d.Get("K") != nil
	left, changed := c.kids(d.Get("K"), own)
	if changed && left != nil && !c.content(left, own, 0) { // rows of empty cells, items that are left with their sign
		c.drop(left, 0)
		left = nil
	}
	if (changed || !had) && left == nil && (had || hasPg && c.gone(own)) {
		c.n++
		c.cut[r] = true
		return false, false
	}
	if changed {
		e := c.doc.Edit(r)
		e.Set("K", left)
		e.Delete("ActualText") // of all that it had
		e.Delete("E")
		if t, ok := c.doc.Resolve(d.Get("T")).(pdf.String); ok && t != "" {
			c.stay = append(c.stay, pdf.Text(t))
			if !c.titles {
				e.Delete("T")
			}
		}
	}
	if hasPg && c.gone(own) {
		c.doc.Edit(r).Delete("Pg")
	}
	return true, false
}

// content reports whether there is anything on a page in the kids of an element whose page is pg.
func (c *cutter) content(k pdf.Object, pg pdf.Ref, depth int) bool {
	if depth > pdf.MaxDepth {
		return true
	}
	switch v := c.doc.Resolve(k).(type) {
	case pdf.Integer:
		return true
	case pdf.Array:
		for _, o := range v {
			if c.content(o, pg, depth+1) {
				return true
			}
		}
	case *pdf.Dict:
		switch c.doc.Name(v.Get("Type")) {
		case "MCR", "OBJR":
			return true
		}
		if own, ok := v.Get("Pg").(pdf.Ref); ok && !c.gone(own) && v.Get("K") == nil || v.Has("Alt") {
			return true
		}
		return c.content(v.Get("K"), pg, depth+1)
	}
	return false
}

// drop lets elements go that have nothing on any page.
func (c *cutter) drop(k pdf.Object, depth int) {
	switch v := k.(type) {
	case pdf.Ref:
		d := c.doc.Dict(v)
		if d == nil || c.cut[v] || depth > pdf.MaxDepth {
			if a := c.doc.Array(v); a != nil && depth <= pdf.MaxDepth {
				c.drop(a, depth+1)
			}
			return
		}
		c.cut[v] = true
		c.n++
		c.drop(d.Get("K"), depth+1)
	case pdf.Array:
		for _, o := range v {
			c.drop(o, depth+1)
		}
	}
}

// filterNumbers drops keys of a number tree (7.9.7).
func filterNumbers(doc *pdf.Document, node pdf.Object, keep func(int) bool, w *pdf.Walk) (pdf.Object, int) {
	d := w.Enter(node)
	if d == nil {
		return node, 0
	}
	defer w.Leave()
	n := 0
	own := d.Clone()
	if nums := doc.Array(d.Get("Nums")); nums != nil {
		left := pdf.Array{}
		for i := 0; i+1 < len(nums); i += 2 {
			k, ok := doc.Resolve(nums[i]).(pdf.Integer)
			if ok && !keep(int(k)) {
				n++
				continue
			}
			left = append(left, nums[i], nums[i+1])
		}
		own.Set("Nums", left)
		if own.Has("Limits") && len(left) > 1 {
			own.Set("Limits", pdf.Array{left[0], left[len(left)-2]})
		}
	}
	var left pdf.Array
	for _, k := range doc.Array(d.Get("Kids")) {
		o, m := filterNumbers(doc, k, keep, w)
		n += m
		kd := doc.Dict(o)
		if m > 0 && len(doc.Array(kd.Get("Nums"))) == 0 && len(doc.Array(kd.Get("Kids"))) == 0 {
			continue
		}
		left = append(left, o)
	}
	if n == 0 {
		return node, 0
	}
	if own.Has("Kids") {
		own.Set("Kids", left)
		if len(left) > 0 && own.Has("Limits") {
			lo := doc.Array(doc.Dict(left[0]).Get("Limits"))
			hi := doc.Array(doc.Dict(left[len(left)-1]).Get("Limits"))
			if len(lo) == 2 && len(hi) == 2 {
				own.Set("Limits", pdf.Array{lo[0], hi[1]})
			}
		}
	}
	if r, ok := node.(pdf.Ref); ok {
		doc.Set(r, own)
		return r, n
	}
	return own, n
}
