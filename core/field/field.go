// Package field is about form fields (ISO 32000-2, 12.7): it cuts those whose place
// on a page goes, and brings along those of pages that are copied.
package field

import (
	"slices"

	"glenrain/core/annot"
	"glenrain/core/pdf"
)

// CutPages removes the fields that stood only on the pages given, and tells how many.
func CutPages(doc *pdf.Document, pages []pdf.Ref) int {
	form := doc.Dict(doc.Catalog().Get("AcroForm"))
	if form == nil {
		return 0
	}
	return CutWidgets(doc, annot.Only(doc, pages))
}

// CutWidgets removes widgets from the form, and the fields that have none left; it tells how many.
func CutWidgets(doc *pdf.Document, gone map[pdf.Ref]bool) int {
	form := doc.Dict(doc.Catalog().Get("AcroForm"))
	if form == nil {
		return 0
	}
	n := 0
	var free []pdf.Ref
	fields, changed := prune(doc, doc.Array(form.Get("Fields")), gone, &n, &free, doc.NewWalk())
	doc.Free(free...)
	if !changed {
		return 0
	}
	edited := editForm(doc)
	edited.Set("Fields", fields)
	if order := doc.Array(form.Get("CO")); order != nil {
		edited.Set("CO", slices.DeleteFunc(slices.Clone(order), func(o pdf.Object) bool {
			r, ok := o.(pdf.Ref)
			return ok && gone[r]
		}))
	}
	return n
}

// editForm gives the interactive form dictionary in the overlay; it is made where there is none.
func editForm(doc *pdf.Document) *pdf.Dict {
	catalog := doc.Edit(doc.Root())
	if r, ok := catalog.Get("AcroForm").(pdf.Ref); ok && r != doc.Root() {
		if d := doc.Edit(r); d != nil {
			return d
		}
	}
	own := doc.Dict(catalog.Get("AcroForm")).Clone()
	if own.Len() == 0 {
		own.Set("Fields", pdf.Array{})
	}
	catalog.Set("AcroForm", own)
	return own
}

// prune drops widgets in gone from a list of fields, and fields that have none left.
func prune(doc *pdf.Document, list pdf.Array, gone map[pdf.Ref]bool, n *int, free *[]pdf.Ref, w *pdf.Walk) (pdf.Array, bool) {
	left := pdf.Array{}
	changed := false
	for _, o := range list {
		r, ok := o.(pdf.Ref)
		if !ok {
			left = append(left, o)
			continue
		}
		if gone[r] {
			if doc.Dict(r).Has("T") {
				*n++
			}
			changed = true
			continue
		}
		field := w.Enter(r)
		if field == nil { // it is none, or stands here a second time
			left = append(left, o)
			continue
		}
		kids := doc.Array(field.Get("Kids"))
		if kids == nil {
			w.Leave()
			left = append(left, o)
			continue
		}
		stay, cut := prune(doc, kids, gone, n, free, w)
		w.Leave()
		changed = changed || cut
		if cut && len(stay) == 0 {
			if doc.Dict(r).Has("T") {
				*n++
			}
			gone[r] = true
			*free = append(*free, r)
			continue
		}
		if cut {
			doc.Edit(r).Set("Kids", stay)
		}
		left = append(left, o)
	}
	return left, changed
}

func fieldName(doc *pdf.Document, o pdf.Object) string {
	s, _ := doc.Resolve(doc.Dict(o).Get("T")).(pdf.String)
	return pdf.Text(s)
}

// keepHere drops kids of a copied field that are on no copied page; false where none is left.
func keepHere(doc *pdf.Document, r pdf.Ref, here map[pdf.Ref]bool, w *pdf.Walk) bool {
	if here[r] {
		return true
	}
	field := w.Enter(r)
	if field == nil {
		return false
	}
	defer w.Leave()
	kids := doc.Array(field.Get("Kids"))
	var left pdf.Array
	for _, o := range kids {
		k, ok := o.(pdf.Ref)
		if ok && keepHere(doc, k, here, w) {
			left = append(left, k)
		}
	}
	if len(left) == 0 {
		return false
	}
	if len(left) < len(kids) {
		doc.Edit(r).Set("Kids", left)
	}
	return true
}
