// Package structure is about the tag tree (ISO 32000-2, 14.7 and 14.8): it cuts the
// elements of pages that go and brings along those of pages that are copied.
package structure

import (
	"slices"

	"glenrain/core/annot"
	"glenrain/core/nav"
	"glenrain/core/pdf"
)

const maxDepth = 512

// Tagged reports whether the document has a structure tree.
func Tagged(doc *pdf.Document) bool {
	return doc.Dict(doc.Catalog().Get("StructTreeRoot")) != nil
}

// CutPages takes the content of the pages that gone names out of the tree, with all
// elements that are left empty, and tells how many elements went.
func CutPages(doc *pdf.Document, gone func(pdf.Ref) bool) int {
	root := doc.Dict(doc.Catalog().Get("StructTreeRoot"))
	if root == nil {
		return 0
	}
	c := cutter{doc: doc, gone: gone, cut: map[pdf.Ref]bool{}, annots: map[pdf.Ref]pdf.Ref{}}
	pages, err := doc.Pages()
	if err != nil {
		return 0
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
	kids, changed := c.kids(root.Get("K"), pdf.Ref{}, 0)
	rootRef, isRef := doc.Catalog().Get("StructTreeRoot").(pdf.Ref)
	if !isRef {
		return 0
	}
	if changed {
		doc.Edit(rootRef).Set("K", kids)
	}
	if len(keys) > 0 {
		if tree, n := filterNumbers(doc, root.Get("ParentTree"), func(k int) bool { return !keys[k] }, 0); n > 0 {
			doc.Edit(rootRef).Set("ParentTree", tree)
		}
	}
	if ids := root.Get("IDTree"); ids != nil && len(c.cut) > 0 {
		if tree, n := nav.FilterNames(doc, ids, func(o pdf.Object) bool { r, ok := o.(pdf.Ref); return !ok || !c.cut[r] }); n > 0 {
			doc.Edit(rootRef).Set("IDTree", tree)
		}
	}
	return c.n
}

type cutter struct {
	doc    *pdf.Document
	gone   func(pdf.Ref) bool
	cut    map[pdf.Ref]bool
	annots map[pdf.Ref]pdf.Ref // annotations of gone pages
	n      int
}

// kids filters the /K of an element whose own page is pg: an element, a marked-content
// reference, an object reference, or an array of them (14.7.2, table 355).
func (c *cutter) kids(k pdf.Object, pg pdf.Ref, depth int) (pdf.Object, bool) {
	if list, ok := c.doc.Resolve(k).(pdf.Array); ok {
		var left pdf.Array
		changed := false
		for _, o := range list {
			stays, inside := c.kid(o, pg, depth)
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
	stays, inside := c.kid(k, pg, depth)
	if !stays {
		return nil, true
	}
	return k, inside
}

// kid tells whether one kid stays, and whether something in it was changed directly
// (only for elements that are no objects of their own).
func (c *cutter) kid(o pdf.Object, pg pdf.Ref, depth int) (stays, inside bool) {
	if depth > maxDepth {
		return true, false
	}
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
	had := d.Get("K") != nil
	left, changed := c.kids(d.Get("K"), own, depth+1)
	if (changed || !had) && left == nil && (had || hasPg && c.gone(own)) {
		c.n++
		c.cut[r] = true
		c.doc.Set(r, nil)
		return false, false
	}
	if changed {
		c.doc.Edit(r).Set("K", left)
	}
	if hasPg && c.gone(own) {
		c.doc.Edit(r).Delete("Pg")
	}
	return true, false
}

// filterNumbers drops keys of a number tree (7.9.7).
func filterNumbers(doc *pdf.Document, node pdf.Object, keep func(int) bool, depth int) (pdf.Object, int) {
	d := doc.Dict(node)
	if d == nil || depth > maxDepth {
		return node, 0
	}
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
		o, m := filterNumbers(doc, k, keep, depth+1)
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

// Bring takes the tags of pages that were copied with c over to the end of dst's tree.
// It gives dst's pages new keys in its parent tree and tells how many elements came.
// src must have been cut down to the copied pages before (CutPages on a fork).
func Bring(dst, src *pdf.Document, c *pdf.Copier, pages []pdf.Ref) (int, error) {
	srcRoot := src.Dict(src.Catalog().Get("StructTreeRoot"))
	if srcRoot == nil {
		dropKeys(dst, pages)
		return 0, nil
	}
	wasTagged := Tagged(dst)
	rootRef, ok := dst.Catalog().Get("StructTreeRoot").(pdf.Ref)
	if !ok {
		rootRef = dst.Add(pdf.NewDict("Type", pdf.Name("StructTreeRoot")))
		dst.Edit(dst.Root()).Set("StructTreeRoot", rootRef)
	}
	if r, ok := src.Catalog().Get("StructTreeRoot").(pdf.Ref); ok {
		c.Become(r, rootRef)
	}
	var tops pdf.Array
	switch k := src.Resolve(srcRoot.Get("K")).(type) {
	case pdf.Array:
		tops = slices.Clone(k)
	case *pdf.Dict:
		tops = pdf.Array{srcRoot.Get("K")}
	}
	copied, err := c.Object(tops)
	if err != nil {
		return 0, err
	}
	root := dst.Edit(rootRef)
	var kids pdf.Array
	switch k := dst.Resolve(root.Get("K")).(type) {
	case pdf.Array:
		kids = slices.Clone(k)
	case *pdf.Dict:
		kids = pdf.Array{root.Get("K")}
	}
	came := 0
	for _, o := range copied.(pdf.Array) {
		if r, ok := o.(pdf.Ref); ok && dst.Dict(r) != nil {
			dst.Edit(r).Set("P", rootRef)
			kids = append(kids, r)
			came++
		}
	}
	root.Set("K", kids)
	for _, k := range []pdf.Name{"RoleMap", "ClassMap"} {
		from := src.Dict(srcRoot.Get(k))
		if from == nil {
			continue
		}
		merged := dst.Dict(root.Get(k)).Clone()
		for _, e := range from.Entries() {
			if merged.Has(e.Key) {
				continue
			}
			v, err := c.Object(e.Value)
			if err != nil {
				return 0, err
			}
			merged.Set(e.Key, v)
		}
		root.Set(k, merged)
	}
	if err := bringParents(dst, src, c, root, srcRoot, pages); err != nil {
		return 0, err
	}
	if !wasTagged {
		all, err := dst.Pages()
		if err == nil && len(all) == 0 { // the first pages of a new document: as tagged as they were
			mark, err := c.Object(src.Resolve(src.Catalog().Get("MarkInfo")))
			if err != nil {
				return 0, err
			}
			dst.Edit(dst.Root()).Set("MarkInfo", mark)
			dst.Edit(dst.Root()).Set("Lang", src.Resolve(src.Catalog().Get("Lang")))
		}
	}
	return came, nil
}

// dropKeys removes the parent tree keys of pages that have no tree any more.
func dropKeys(doc *pdf.Document, pages []pdf.Ref) {
	for _, p := range pages {
		if doc.Dict(p).Has("StructParents") {
			doc.Edit(p).Delete("StructParents")
		}
		for _, a := range annot.Refs(doc, p) {
			if doc.Dict(a).Has("StructParent") {
				doc.Edit(a).Delete("StructParent")
			}
		}
	}
}

// bringParents gives the copied pages and their annotations keys behind those in use,
// and copies their entries of the parent tree (14.7.4.4).
func bringParents(dst, src *pdf.Document, c *pdf.Copier, root, srcRoot *pdf.Dict, pages []pdf.Ref) error {
	next := 0
	var nums pdf.Array
	flatten(dst, root.Get("ParentTree"), 0, func(k int, v pdf.Object) {
		next = max(next, k+1)
		nums = append(nums, pdf.Integer(k), v)
	})
	if n, ok := dst.Resolve(root.Get("ParentTreeNextKey")).(pdf.Integer); ok {
		next = max(next, int(n))
	}
	entries := map[int]pdf.Object{}
	flatten(src, srcRoot.Get("ParentTree"), 0, func(k int, v pdf.Object) { entries[k] = v })
	move := func(r pdf.Ref, key pdf.Name) error {
		k, ok := dst.Resolve(dst.Dict(r).Get(key)).(pdf.Integer)
		if !ok {
			return nil
		}
		v, there := entries[int(k)]
		if !there {
			dst.Edit(r).Delete(key)
			return nil
		}
		copied, err := c.Object(v)
		if err != nil {
			return err
		}
		dst.Edit(r).Set(key, pdf.Integer(next))
		nums = append(nums, pdf.Integer(next), copied)
		next++
		return nil
	}
	for _, p := range pages {
		if err := move(p, "StructParents"); err != nil {
			return err
		}
		for _, a := range annot.Refs(dst, p) {
			if err := move(a, "StructParent"); err != nil {
				return err
			}
		}
	}
	root.Set("ParentTreeNextKey", pdf.Integer(next))
	root.Set("ParentTree", dst.Add(numberTree(dst, nums)))
	return nil
}

func flatten(doc *pdf.Document, node pdf.Object, depth int, f func(int, pdf.Object)) {
	d := doc.Dict(node)
	if d == nil || depth > maxDepth {
		return
	}
	nums := doc.Array(d.Get("Nums"))
	for i := 0; i+1 < len(nums); i += 2 {
		if k, ok := doc.Resolve(nums[i]).(pdf.Integer); ok {
			f(int(k), nums[i+1])
		}
	}
	for _, k := range doc.Array(d.Get("Kids")) {
		flatten(doc, k, depth+1, f)
	}
}

// numberTree writes keys and values, already in order, as a tree of two levels.
func numberTree(doc *pdf.Document, nums pdf.Array) *pdf.Dict {
	const leaf = 128
	if len(nums) <= leaf {
		return pdf.NewDict("Nums", nums)
	}
	var kids pdf.Array
	for part := range slices.Chunk(nums, leaf) {
		kids = append(kids, doc.Add(pdf.NewDict("Nums", slices.Clone(part), "Limits", pdf.Array{part[0], part[len(part)-2]})))
	}
	return pdf.NewDict("Kids", kids)
}
