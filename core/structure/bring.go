package structure

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"glenrain/core/annot"
	"glenrain/core/nav"
	"glenrain/core/pdf"
)

// Bring takes the tags of pages that were copied with c over to the end of dst's tree, from where Place brings them to their pages. It gives
// dst's pages new keys in its parent tree, and the elements that came. Roles, classes and identifiers of which dst has others by the same name
// get new names (14.7.3, 14.7.5.2, 14.7.2); namespaces and pronunciations come along; the language of the source's document is written into its
// elements where dst's is another. src must have been cut down to the copied pages before (CutPages on a fork).
func Bring(dst, src *pdf.Document, c *pdf.Copier, pages []pdf.Ref) ([]pdf.Ref, error) {
	srcRoot := src.Dict(src.Catalog().Get("StructTreeRoot"))
	if srcRoot == nil {
		dropKeys(dst, c, pages)
		return nil, nil
	}
	rootRef, ok := dst.Catalog().Get("StructTreeRoot").(pdf.Ref)
	if !ok || dst.Dict(rootRef) == nil || rootRef == dst.Root() {
		rootRef = dst.Add(pdf.NewDict("Type", pdf.Name("StructTreeRoot")))
		dst.Edit(dst.Root()).Set("StructTreeRoot", rootRef)
	}
	if r, ok := src.Catalog().Get("StructTreeRoot").(pdf.Ref); ok {
		c.Become(r, rootRef)
	}
	copied, err := c.Object(list(src, srcRoot.Get("K")))
	if err != nil {
		return nil, err
	}
	root := dst.Edit(rootRef)
	kids := list(dst, root.Get("K"))
	var tops []pdf.Ref
	for _, o := range copied.(pdf.Array) {
		if r, ok := o.(pdf.Ref); ok && dst.Dict(r) != nil && !slices.Contains(tops, r) {
			dst.Edit(r).Set("P", rootRef)
			kids = append(kids, r)
			tops = append(tops, r)
		}
	}
	root.Set("K", kids)
	b := bringer{dst: dst, src: src, c: c, root: root, srcRoot: srcRoot, tops: tops}
	for _, do := range []func() error{b.names, b.listed} {
		if err := do(); err != nil {
			return nil, err
		}
	}
	if err := bringParents(dst, src, c, root, srcRoot, pages); err != nil {
		return nil, err
	}
	b.language()
	return tops, nil
}

// list gives what stands in /K, which may be one object or several.
func list(doc *pdf.Document, k pdf.Object) pdf.Array {
	switch v := doc.Resolve(k).(type) {
	case pdf.Array:
		return slices.Clone(v)
	case nil:
		return pdf.Array{}
	}
	return pdf.Array{k}
}

type bringer struct {
	dst, src      *pdf.Document
	c             *pdf.Copier
	root, srcRoot *pdf.Dict
	tops          []pdf.Ref
	used          map[pdf.Name]bool // types of dst's own elements; nil until they are asked for
}

// resolved follows a role map until a type that it does not map.
func resolved(doc *pdf.Document, roles *pdf.Dict, role pdf.Name) pdf.Name {
	for range 16 {
		to := doc.Name(roles.Get(role))
		if to == "" || to == role {
			break
		}
		role = to
	}
	return role
}

// means reports whether a type means something in dst without its role map: it is one of the standard's, or dst's elements use it.
func (b *bringer) means(s pdf.Name) bool {
	if standardTypes[s] {
		return true
	}
	if b.used == nil {
		b.used = map[pdf.Name]bool{}
		brought := make(map[pdf.Ref]bool, len(b.tops))
		for _, t := range b.tops {
			brought[t] = true
		}
		w := b.dst.NewWalk()
		var walk func(o pdf.Object)
		walk = func(o pdf.Object) {
			if r, ok := o.(pdf.Ref); ok && brought[r] {
				return
			}
			d := w.Enter(o)
			if d == nil {
				return
			}
			defer w.Leave()
			b.used[b.dst.Name(d.Get("S"))] = true
			for _, k := range list(b.dst, d.Get("K")) {
				walk(k)
			}
		}
		for _, k := range list(b.dst, b.root.Get("K")) {
			walk(k)
		}
	}
	return b.used[s]
}

// standardTypes are the standard structure types of PDF 1.7 and 2.0 (ISO 32000-2, 14.8.4, Annex M).
var standardTypes = func() map[pdf.Name]bool {
	m := map[pdf.Name]bool{}
	for _, s := range strings.Fields("Document DocumentFragment Part Art Sect Div Aside BlockQuote Caption TOC TOCI Index NonStruct Private P H H1 H2 H3 H4 H5 H6 Title FENote " +
		"L LI Lbl LBody Table TR TH TD THead TBody TFoot Span Quote Note Reference BibEntry Code Link Annot Ruby RB RT RP Warichu WT WP Figure Formula Form Em Strong Sub Artifact") {
		m[pdf.Name(s)] = true
	}
	return m
}()

// names merges role map, class map and identifiers, and gives brought elements new names where dst has others.
func (b *bringer) names() error {
	roles, srcRoles := b.dst.Dict(b.root.Get("RoleMap")).Clone(), b.src.Dict(b.srcRoot.Get("RoleMap"))
	classes, srcClasses := b.dst.Dict(b.root.Get("ClassMap")).Clone(), b.src.Dict(b.srcRoot.Get("ClassMap"))
	hadRoles, hadClasses := roles.Clone(), classes.Clone()
	ids := map[pdf.String]bool{}
	var entries []named
	nav.Names(b.dst, b.root.Get("IDTree"), func(k pdf.String, v pdf.Object) {
		ids[k] = true
		entries = append(entries, named{k, v})
	})
	newRole, newClass, newID := map[pdf.Name]pdf.Name{}, map[pdf.Name]pdf.Name{}, map[pdf.String]pdf.String{}
	role := func(s pdf.Name) pdf.Name {
		if to, ok := newRole[s]; ok {
			return to
		}
		is, was := resolved(b.dst, hadRoles, s), resolved(b.src, srcRoles, s)
		to := s
		switch {
		case is == was && hadRoles.Has(s):
		case hadRoles.Has(s), srcRoles.Has(s) && was != s && b.means(s): // there it means something else
			to = free(s, func(n pdf.Name) bool { return roles.Has(n) || srcRoles.Has(n) })
			roles.Set(to, was)
		case srcRoles.Has(s):
			next := b.src.Name(srcRoles.Get(s))
			if resolved(b.dst, hadRoles, next) != was {
				next = was
			}
			roles.Set(s, next)
		}
		newRole[s] = to
		return to
	}
	class := func(o pdf.Object) (pdf.Object, error) {
		s, ok := b.dst.Resolve(o).(pdf.Name)
		if !ok {
			return o, nil
		}
		if to, ok := newClass[s]; ok {
			return to, nil
		}
		newClass[s] = s
		if srcClasses.Has(s) {
			v, err := b.c.Object(srcClasses.Get(s))
			if err != nil {
				return nil, err
			}
			if hadClasses.Has(s) && !b.dst.Alike(hadClasses.Get(s), v) {
				newClass[s] = free(s, func(n pdf.Name) bool { return classes.Has(n) || srcClasses.Has(n) })
			}
			if !hadClasses.Has(newClass[s]) {
				classes.Set(newClass[s], v)
			}
		}
		return newClass[s], nil
	}
	var all []pdf.Ref
	w := b.dst.NewWalk()
	var walk func(o pdf.Object) error
	walk = func(o pdf.Object) error {
		r, ok := o.(pdf.Ref)
		d := w.Enter(o)
		if d == nil {
			return nil
		}
		defer w.Leave()
		switch b.dst.Name(d.Get("Type")) {
		case "MCR", "OBJR":
			return nil
		}
		if ok && d.Has("S") {
			all = append(all, r)
			if s := b.dst.Name(d.Get("S")); d.Get("NS") == nil {
				if to := role(s); to != s {
					b.dst.Edit(r).Set("S", to)
				}
			}
			if cls := d.Get("C"); cls != nil {
				to, err := b.classes(cls, class)
				if err != nil {
					return err
				}
				if to != nil {
					b.dst.Edit(r).Set("C", to)
				}
			}
			if id, ok := b.dst.Resolve(d.Get("ID")).(pdf.String); ok {
				to := id
				for i := 2; ids[to]; i++ {
					to = pdf.String(fmt.Sprintf("%s-%d", id, i))
				}
				if to != id {
					newID[id] = to
					b.dst.Edit(r).Set("ID", to)
				}
				ids[to] = true
				entries = append(entries, named{to, r})
			}
		}
		for _, k := range list(b.dst, d.Get("K")) {
			if err := walk(k); err != nil {
				return err
			}
		}
		return nil
	}
	for _, t := range b.tops {
		if err := walk(t); err != nil {
			return err
		}
	}
	if len(newID) > 0 {
		for _, r := range all {
			b.headers(r, newID)
		}
	}
	b.setNames(roles, srcRoles, classes, entries, len(newID)+len(ids) > 0)
	return nil
}

// setNames writes the maps of roles and classes, and the identifiers where there are some.
func (b *bringer) setNames(roles, srcRoles, classes *pdf.Dict, entries []named, identified bool) {
	for _, e := range srcRoles.Entries() { // also those that no element here uses
		if !roles.Has(e.Key) && !b.means(e.Key) {
			if v, ok := b.src.Resolve(e.Value).(pdf.Name); ok {
				roles.Set(e.Key, v)
			}
		}
	}
	if roles.Len() > 0 {
		b.root.Set("RoleMap", roles)
	}
	if classes.Len() > 0 {
		b.root.Set("ClassMap", classes)
	}
	if len(entries) > 0 && identified {
		slices.SortStableFunc(entries, func(x, y named) int { return cmp.Compare(x.key, y.key) })
		b.root.Set("IDTree", b.dst.Add(nameTree(b.dst, entries)))
	}
}

type named struct {
	key   pdf.String
	value pdf.Object
}

// nameTree writes entries, in order, as a name tree of two levels at most (7.9.6).
func nameTree(doc *pdf.Document, entries []named) *pdf.Dict {
	const leaf = 128
	flat := func(part []named) (a pdf.Array) {
		for _, e := range part {
			a = append(a, e.key, e.value)
		}
		return
	}
	if len(entries) <= leaf {
		return pdf.NewDict("Names", flat(entries))
	}
	var kids pdf.Array
	for part := range slices.Chunk(entries, leaf) {
		kids = append(kids, doc.Add(pdf.NewDict("Names", flat(part), "Limits", pdf.Array{part[0].key, part[len(part)-1].key})))
	}
	return pdf.NewDict("Kids", kids)
}

// free gives a name behind which a number makes it one that is not taken.
func free(s pdf.Name, taken func(pdf.Name) bool) pdf.Name {
	for i := 2; ; i++ {
		if n := pdf.Name(fmt.Sprintf("%s-%d", s, i)); !taken(n) {
			return n
		}
	}
}

// classes renames the classes of an element, one or several; nil where all stay.
func (b *bringer) classes(o pdf.Object, class func(pdf.Object) (pdf.Object, error)) (pdf.Object, error) {
	a, several := b.dst.Resolve(o).(pdf.Array)
	if !several {
		a = pdf.Array{b.dst.Resolve(o)}
	}
	out := make(pdf.Array, len(a))
	changed := false
	for i, e := range a {
		to, err := class(e)
		if err != nil {
			return nil, err
		}
		out[i] = to
		if n, ok := b.dst.Resolve(e).(pdf.Name); ok && to != n {
			changed = true
		}
	}
	switch {
	case !changed:
		return nil, nil
	case several:
		return out, nil
	}
	return out[0], nil
}

// headers follows new identifiers in the attribute by which a cell names its header cells (14.8.5.7).
func (b *bringer) headers(r pdf.Ref, ids map[pdf.String]pdf.String) {
	attributes := b.dst.Dict(r).Get("A")
	if attributes == nil {
		return
	}
	a, several := b.dst.Resolve(attributes).(pdf.Array)
	if !several {
		a = pdf.Array{b.dst.Resolve(attributes)}
	}
	out := slices.Clone(a)
	changed := false
	for i, o := range a {
		d := b.dst.Dict(o)
		if d == nil {
			continue
		}
		names := slices.Clone(b.dst.Array(d.Get("Headers")))
		renamed := false
		for j, n := range names {
			if id, ok := b.dst.Resolve(n).(pdf.String); ok && ids[id] != "" {
				names[j] = ids[id]
				renamed = true
			}
		}
		if renamed {
			d = d.Clone()
			d.Set("Headers", names)
			out[i] = d
			changed = true
		}
	}
	switch {
	case !changed:
	case several:
		b.dst.Edit(r).Set("A", out)
	default:
		b.dst.Edit(r).Set("A", out[0])
	}
}

// listed brings what the root lists: namespaces, pronunciation lexicons and associated files (14.7.4, 14.9.6, 14.13).
func (b *bringer) listed() error {
	for _, k := range []pdf.Name{"Namespaces", "PronunciationLexicon", "AF"} {
		from := b.src.Array(b.srcRoot.Get(k))
		if len(from) == 0 {
			continue
		}
		copied, err := b.c.Object(from)
		if err != nil {
			return err
		}
		have := slices.Clone(b.dst.Array(b.root.Get(k)))
		for _, o := range copied.(pdf.Array) {
			if o != nil && !slices.ContainsFunc(have, func(h pdf.Object) bool { r, ok := h.(pdf.Ref); return ok && o == pdf.Object(r) }) {
				have = append(have, o)
			}
		}
		b.root.Set(k, have)
	}
	return nil
}

// language writes the source's language into its elements where the document's is another; "" is a language that is not known (14.9.2).
func (b *bringer) language() {
	was, _ := b.src.Resolve(b.src.Catalog().Get("Lang")).(pdf.String)
	is, has := b.dst.Resolve(b.dst.Catalog().Get("Lang")).(pdf.String)
	if was == is && (was != "" || !has) {
		return
	}
	for _, t := range b.tops {
		if !b.dst.Dict(t).Has("Lang") {
			b.dst.Edit(t).Set("Lang", was)
		}
	}
}

// dropKeys removes the parent tree keys of pages that have no tree any more.
func dropKeys(doc *pdf.Document, c *pdf.Copier, pages []pdf.Ref) {
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
	for _, r := range c.Tagged() {
		d := doc.Edit(r)
		d.Delete("StructParents")
		d.Delete("StructParent")
	}
}

// bringParents gives the copied pages, their annotations, forms and pictures keys behind those in use, and copies their entries of the parent
// tree (14.7.5.4). What shared a key in the source does so here.
func bringParents(dst, src *pdf.Document, c *pdf.Copier, root, srcRoot *pdf.Dict, pages []pdf.Ref) error {
	next := 0
	var nums pdf.Array
	nav.Numbers(dst, root.Get("ParentTree"), func(k int, v pdf.Object) {
		next = max(next, k+1)
		nums = append(nums, pdf.Integer(k), v)
	})
	if n, ok := dst.Resolve(root.Get("ParentTreeNextKey")).(pdf.Integer); ok {
		next = max(next, int(n))
	}
	entries := map[int]pdf.Object{}
	nav.Numbers(src, srcRoot.Get("ParentTree"), func(k int, v pdf.Object) { entries[k] = v })
	moved := map[int]int{}
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
		if to, ok := moved[int(k)]; ok {
			dst.Edit(r).Set(key, pdf.Integer(to))
			return nil
		}
		copied, err := c.Object(v)
		if err != nil {
			return err
		}
		dst.Edit(r).Set(key, pdf.Integer(next))
		moved[int(k)] = next
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
	for _, r := range c.Tagged() {
		for _, key := range []pdf.Name{"StructParents", "StructParent"} {
			if err := move(r, key); err != nil {
				return err
			}
		}
	}
	root.Set("ParentTreeNextKey", pdf.Integer(next))
	root.Set("ParentTree", dst.Add(nav.NumberTree(dst, nums)))
	return nil
}
