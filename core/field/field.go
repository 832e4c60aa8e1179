// Package field is about form fields (ISO 32000-2, 12.7): it cuts those whose place
// on a page goes, and brings along those of pages that are copied.
package field

import (
	"fmt"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/pdf"
)

const maxDepth = 32

// CutPages removes the fields that stood only on the pages given, and tells how many.
func CutPages(doc *pdf.Document, pages []pdf.Ref) int {
	form := doc.Dict(doc.Catalog().Get("AcroForm"))
	if form == nil {
		return 0
	}
	gone := map[pdf.Ref]bool{}
	for _, p := range pages {
		for _, a := range annot.Refs(doc, p) {
			gone[a] = true
		}
	}
	n := 0
	fields, changed := prune(doc, doc.Array(form.Get("Fields")), gone, &n, 0)
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
	if r, ok := catalog.Get("AcroForm").(pdf.Ref); ok {
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
func prune(doc *pdf.Document, list pdf.Array, gone map[pdf.Ref]bool, n *int, depth int) (pdf.Array, bool) {
	left := pdf.Array{}
	changed := false
	for _, o := range list {
		r, ok := o.(pdf.Ref)
		if !ok || depth > maxDepth {
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
		kids := doc.Array(doc.Dict(r).Get("Kids"))
		if kids == nil {
			left = append(left, o)
			continue
		}
		stay, cut := prune(doc, kids, gone, n, depth+1)
		changed = changed || cut
		if cut && len(stay) == 0 {
			if doc.Dict(r).Has("T") {
				*n++
			}
			gone[r] = true
			doc.Set(r, nil)
			continue
		}
		if cut {
			doc.Edit(r).Set("Kids", stay)
		}
		left = append(left, o)
	}
	return left, changed
}

// Bring takes the fields of pages that were copied with c into dst's form. A field
// whose name is taken gets a number behind it. It tells how many were brought and renamed.
func Bring(dst, src *pdf.Document, c *pdf.Copier, pages []pdf.Ref) (brought, renamed int, err error) {
	srcForm := src.Dict(src.Catalog().Get("AcroForm"))
	if srcForm == nil {
		return 0, 0, nil
	}
	here := map[pdf.Ref]bool{} // widgets on the copied pages
	for _, p := range pages {
		for _, a := range annot.Refs(dst, p) {
			here[a] = true
		}
	}
	var tops pdf.Array
	for _, o := range src.Array(srcForm.Get("Fields")) {
		r, ok := o.(pdf.Ref)
		if !ok {
			continue
		}
		if top, ok := c.Ref(r); ok && keepHere(dst, top, here, 0) {
			tops = append(tops, top)
		}
	}
	if len(tops) == 0 {
		return 0, 0, nil
	}
	form := editForm(dst)
	fields := slices.Clone(dst.Array(form.Get("Fields")))
	taken := map[string]bool{}
	for _, o := range fields {
		taken[fieldName(dst, o)] = true
	}
	for _, o := range tops {
		name := fieldName(dst, o)
		if taken[name] {
			i := 2
			for taken[fmt.Sprintf("%s %d", name, i)] {
				i++
			}
			name = fmt.Sprintf("%s %d", name, i)
			dst.Edit(o.(pdf.Ref)).Set("T", pdf.TextString(name))
			renamed++
		}
		taken[name] = true
		fields = append(fields, o)
	}
	form.Set("Fields", fields)
	for _, k := range []pdf.Name{"DA", "NeedAppearances", "Q"} {
		if !form.Has(k) {
			form.Set(k, src.Resolve(srcForm.Get(k)))
		}
	}
	return len(tops), renamed, mergeResources(dst, src, c, form, srcForm)
}

// mergeResources adds the default resources of the source's form that dst lacks.
func mergeResources(dst, src *pdf.Document, c *pdf.Copier, form, srcForm *pdf.Dict) error {
	from := src.Dict(srcForm.Get("DR"))
	if from == nil {
		return nil
	}
	copied, err := c.Object(pdf.DeepClone(from))
	if err != nil {
		return err
	}
	into := dst.Dict(form.Get("DR")).Clone()
	for _, e := range copied.(*pdf.Dict).Entries() {
		had := dst.Dict(into.Get(e.Key))
		if had == nil {
			into.Set(e.Key, e.Value)
			continue
		}
		merged := had.Clone()
		for _, x := range dst.Dict(e.Value).Entries() {
			if !merged.Has(x.Key) {
				merged.Set(x.Key, x.Value)
			}
		}
		into.Set(e.Key, merged)
	}
	form.Set("DR", into)
	return nil
}

func fieldName(doc *pdf.Document, o pdf.Object) string {
	s, _ := doc.Resolve(doc.Dict(o).Get("T")).(pdf.String)
	return pdf.Text(s)
}

// keepHere drops kids of a copied field that are on no copied page; false where none is left.
func keepHere(doc *pdf.Document, r pdf.Ref, here map[pdf.Ref]bool, depth int) bool {
	if here[r] {
		return true
	}
	kids := doc.Array(doc.Dict(r).Get("Kids"))
	var left pdf.Array
	for _, o := range kids {
		k, ok := o.(pdf.Ref)
		if ok && depth < maxDepth && keepHere(doc, k, here, depth+1) {
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
