// Package nav is about the ways through a document: destinations, named
// destinations and outlines (bookmarks). It reads them, cuts what leads to pages
// that go, and brings along what belongs to pages that are copied.
package nav

import (
	"glenrain/core/pdf"
)

// Explicit gives the destination array that o stands for (ISO 32000-2, 12.3.2): o is
// an array, a dictionary with /D, or the name of a named destination; nil where it
// leads nowhere.
func Explicit(doc *pdf.Document, o pdf.Object) pdf.Array {
	for range 4 {
		switch v := doc.Resolve(o).(type) {
		case pdf.Array:
			return byObject(doc, v)
		case *pdf.Dict:
			o = v.Get("D")
		case pdf.Name:
			o = doc.Dict(doc.Catalog().Get("Dests")).Get(v)
		case pdf.String:
			o = named(doc, v)
		default:
			return nil
		}
	}
	return nil
}

// byObject gives a destination that names its page by number, which is meant for other files but found in many, by its object.
func byObject(doc *pdf.Document, dest pdf.Array) pdf.Array {
	if len(dest) == 0 {
		return dest
	}
	n, ok := dest[0].(pdf.Integer)
	if !ok || n < 0 {
		return dest
	}
	pages, err := doc.Pages()
	if err != nil || int(n) >= len(pages) {
		return dest
	}
	return append(pdf.Array{pages[n].Ref}, dest[1:]...)
}

// Target gives the page that a destination leads to; zero where it is none of this document.
func Target(doc *pdf.Document, o pdf.Object) pdf.Ref {
	a := Explicit(doc, o)
	if len(a) == 0 {
		return pdf.Ref{}
	}
	r, _ := a[0].(pdf.Ref)
	return r
}

// Of gives the destination of an outline item or link: its /Dest, or the /D of its
// go-to action (12.6.4.2). nil where it has neither.
func Of(doc *pdf.Document, d *pdf.Dict) pdf.Object {
	if o := d.Get("Dest"); o != nil {
		return o
	}
	if a := doc.Dict(d.Get("A")); doc.Name(a.Get("S")) == "GoTo" {
		return a.Get("D")
	}
	return nil
}

// namedDests are the named destinations of a document, which many links may ask for.
const namedDests = "named destinations"

// named gives the value of a name in the tree of destinations (12.3.2.4); of a name that stands twice, the first.
func named(doc *pdf.Document, key pdf.String) pdf.Object {
	all := doc.Memo(namedDests, func() any {
		all := map[pdf.String]pdf.Object{}
		Names(doc, doc.Dict(doc.Catalog().Get("Names")).Get("Dests"), func(k pdf.String, v pdf.Object) {
			if _, twice := all[k]; !twice {
				all[k] = v
			}
		})
		return all
	}).(map[pdf.String]pdf.Object)
	return all[key]
}

// Names goes through a name tree (7.9.6).
func Names(doc *pdf.Document, tree pdf.Object, each func(pdf.String, pdf.Object)) {
	names(doc, tree, doc.NewWalk(), each)
}

func names(doc *pdf.Document, node pdf.Object, w *pdf.Walk, each func(pdf.String, pdf.Object)) {
	d := w.Enter(node)
	if d == nil {
		return
	}
	defer w.Leave()
	list := doc.Array(d.Get("Names"))
	for i := 0; i+1 < len(list); i += 2 {
		if k, ok := doc.Resolve(list[i]).(pdf.String); ok {
			each(k, list[i+1])
		}
	}
	for _, k := range doc.Array(d.Get("Kids")) {
		names(doc, k, w, each)
	}
}

// Cut counts what led to pages that went.
type Cut struct {
	Bookmarks, Destinations int
	Headings                []string // titles of bookmarks that stay since others stand below them, and lead nowhere now
}

// CutPages removes bookmarks, named destinations, the opening action and article
// beads that lead to the pages in gone. A bookmark with others below it stays as a heading; without headings, it goes and they move up.
func CutPages(doc *pdf.Document, gone map[pdf.Ref]bool, headings bool) (c Cut) {
	leads := func(o pdf.Object) bool { return gone[Target(doc, o)] }
	// Bookmarks first: they are found through the named destinations.
	c.Bookmarks, c.Headings = cutOutline(doc, leads, headings)
	root := doc.Root()
	catalog := doc.Catalog()
	if o := catalog.Get("OpenAction"); o != nil {
		dest := o
		if a := doc.Dict(o); a != nil {
			dest = a.Get("D")
		}
		if leads(dest) {
			doc.Edit(root).Delete("OpenAction")
		}
	}
	if old := doc.Dict(catalog.Get("Dests")); old != nil {
		left := old.Clone()
		for _, e := range old.Entries() {
			if leads(e.Value) {
				left.Delete(e.Key)
				c.Destinations++
			}
		}
		if left.Len() < old.Len() {
			replace(doc, root, "Dests", left)
		}
	}
	if names := doc.Dict(catalog.Get("Names")); names.Has("Dests") {
		tree, n := FilterNames(doc, names.Get("Dests"), func(v pdf.Object) bool { return !leads(v) })
		if n > 0 {
			c.Destinations += n
			own := names.Clone()
			own.Set("Dests", tree)
			replace(doc, root, "Names", own)
		}
	}
	if catalog.Has("Threads") {
		cutThreads(doc, gone)
	}
	return
}

// replace sets the value of a key that may stand directly in the dictionary under
// r or in an object of its own.
func replace(doc *pdf.Document, r pdf.Ref, key pdf.Name, v *pdf.Dict) {
	if own, ok := doc.Dict(r).Get(key).(pdf.Ref); ok {
		doc.Set(own, v)
		return
	}
	doc.Edit(r).Set(key, v)
}

// FilterNames drops the entries of a name tree (7.9.6) whose values keep refuses. It
// gives the tree as it is then (nil when empty) and how many went; limits are set anew.
func FilterNames(doc *pdf.Document, tree pdf.Object, keep func(pdf.Object) bool) (pdf.Object, int) {
	defer doc.Forget(namedDests) // also what was looked up meanwhile
	out, _, _, n := filterNode(doc, tree, keep, doc.NewWalk())
	return out, n
}

func filterNode(doc *pdf.Document, node pdf.Object, keep func(pdf.Object) bool, w *pdf.Walk) (out pdf.Object, lo, hi pdf.Object, n int) {
	d := w.Enter(node)
	if d == nil {
		return node, nil, nil, 0
	}
	defer w.Leave()
	own := d.Clone()
	if names := doc.Array(d.Get("Names")); names != nil {
		var left pdf.Array
		for i := 0; i+1 < len(names); i += 2 {
			if keep(names[i+1]) {
				left = append(left, names[i], names[i+1])
			} else {
				n++
			}
		}
		if len(left) > 0 {
			lo, hi = left[0], left[len(left)-2]
		}
		own.Set("Names", left)
		if left == nil {
			own.Delete("Names")
		}
	}
	if kids := doc.Array(d.Get("Kids")); kids != nil {
		var left pdf.Array
		for _, k := range kids {
			o, a, b, m := filterNode(doc, k, keep, w)
			n += m
			if o == nil {
				continue
			}
			if lo == nil {
				lo = a
			}
			if b != nil {
				hi = b
			}
			left = append(left, o)
		}
		own.Set("Kids", left)
		if left == nil {
			own.Delete("Kids")
		}
	}
	if n == 0 {
		limits := doc.Array(d.Get("Limits"))
		if len(limits) == 2 {
			lo, hi = limits[0], limits[1]
		}
		return node, lo, hi, 0
	}
	if !own.Has("Names") && !own.Has("Kids") {
		return nil, nil, nil, n
	}
	if own.Has("Limits") && lo != nil && hi != nil {
		own.Set("Limits", pdf.Array{lo, hi})
	}
	if r, ok := node.(pdf.Ref); ok {
		doc.Set(r, own)
		return r, lo, hi, n
	}
	return own, lo, hi, n
}

// cutThreads takes the beads of article threads (12.4.3) that lie on gone pages out of their rings.
func cutThreads(doc *pdf.Document, gone map[pdf.Ref]bool) {
	var left pdf.Array
	changed := false
	for _, t := range doc.Array(doc.Catalog().Get("Threads")) {
		thread, ok := t.(pdf.Ref)
		first, ok2 := doc.Dict(t).Get("F").(pdf.Ref)
		if !ok || !ok2 {
			left = append(left, t)
			continue
		}
		var ring, stay []pdf.Ref
		for at, w := first, doc.NewWalk(); w.Once(at); {
			ring = append(ring, at)
			bead := doc.Dict(at)
			if p, _ := bead.Get("P").(pdf.Ref); !gone[p] {
				stay = append(stay, at)
			}
			next, ok := bead.Get("N").(pdf.Ref)
			if !ok {
				break
			}
			at = next
		}
		if len(stay) == len(ring) {
			left = append(left, t)
			continue
		}
		changed = true
		if len(stay) == 0 {
			continue
		}
		for i, b := range stay {
			bead := doc.Edit(b)
			bead.Set("N", stay[(i+1)%len(stay)])
			bead.Set("V", stay[(i+len(stay)-1)%len(stay)])
		}
		doc.Edit(stay[0]).Set("T", thread)
		doc.Edit(thread).Set("F", stay[0])
		left = append(left, t)
	}
	if !changed {
		return
	}
	if left == nil {
		doc.Edit(doc.Root()).Delete("Threads")
		return
	}
	doc.Edit(doc.Root()).Set("Threads", left)
}
