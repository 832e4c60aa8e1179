package structure

import (
	"slices"

	"glenrain/core/nav"
	"glenrain/core/pdf"
)

// Silence takes what is said instead of content (ActualText, Alt, E, and titles; 14.9.3 to 14.9.5) from elements of which nothing is left: those that
// hold nothing but the marked content of a page that emptied names.
func Silence(doc *pdf.Document, page pdf.Ref, emptied []int) {
	root := doc.Dict(doc.Catalog().Get("StructTreeRoot"))
	key, ok := doc.Resolve(doc.Dict(page).Get("StructParents")).(pdf.Integer)
	if root == nil || !ok || len(emptied) == 0 {
		return
	}
	elements := doc.Array(nav.Number(doc, root.Get("ParentTree"), int(key)))
	silent := map[pdf.Ref]bool{}
	rootRef, _ := doc.Catalog().Get("StructTreeRoot").(pdf.Ref)
	for _, id := range emptied {
		if id >= len(elements) {
			continue
		}
		at, ok := elements[id].(pdf.Ref)
		for n := 0; ok && n < pdf.MaxDepth && at != rootRef && !silent[at]; n++ {
			d := doc.Dict(at)
			if d == nil || !hollow(doc, d, page, emptied, silent) {
				break
			}
			silent[at] = true
			for _, k := range []pdf.Name{"ActualText", "Alt", "E", "T"} {
				if d.Has(k) {
					doc.Edit(at).Delete(k)
				}
			}
			at, ok = d.Get("P").(pdf.Ref)
		}
	}
}

// hollow reports whether all that an element holds is content that was emptied, or elements that are silent.
func hollow(doc *pdf.Document, d *pdf.Dict, page pdf.Ref, emptied []int, silent map[pdf.Ref]bool) bool {
	pg, _ := d.Get("Pg").(pdf.Ref)
	for _, k := range list(doc, d.Get("K")) {
		if r, ok := k.(pdf.Ref); ok && silent[r] {
			continue
		}
		on, id := pg, -1
		switch v := doc.Resolve(k).(type) {
		case pdf.Integer:
			id = int(v)
		case *pdf.Dict:
			if own, ok := v.Get("Pg").(pdf.Ref); ok {
				on = own
			}
			if n, ok := doc.Resolve(v.Get("MCID")).(pdf.Integer); ok && v.Get("Stm") == nil {
				id = int(n)
			}
		}
		if _, gone := slices.BinarySearch(emptied, id); !gone || on != page {
			return false
		}
	}
	return true
}
