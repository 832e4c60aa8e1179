// Package annot is about annotations (ISO 32000-2, 12.5): it lists those of a page
// and removes the ones that lead to pages that are not there.
package annot

import (
	"glenrain/core/nav"
	"glenrain/core/pdf"
)

// Refs gives a page's annotations that are objects of their own.
func Refs(doc *pdf.Document, page pdf.Ref) []pdf.Ref {
	var out []pdf.Ref
	for _, o := range doc.Array(doc.Dict(page).Get("Annots")) {
		if r, ok := o.(pdf.Ref); ok {
			out = append(out, r)
		}
	}
	return out
}

// CutLinks removes from one page the links that lead to a page of which gone says so, and tells how many. It must run while the named destinations still stand.
func CutLinks(doc *pdf.Document, page pdf.Ref, gone func(pdf.Ref) bool) int {
	list := doc.Array(doc.Dict(page).Get("Annots"))
	var left pdf.Array
	n := 0
	for _, o := range list {
		d := doc.Dict(o)
		if doc.Name(d.Get("Subtype")) == "Link" {
			if dest := nav.Of(doc, d); dest != nil {
				if t := nav.Target(doc, dest); !t.IsZero() && gone(t) {
					n++
					if r, ok := o.(pdf.Ref); ok {
						doc.Set(r, nil)
					}
					continue
				}
			}
		}
		left = append(left, o)
	}
	if n > 0 {
		setAnnots(doc, page, left)
	}
	return n
}

func setAnnots(doc *pdf.Document, page pdf.Ref, list pdf.Array) {
	p := doc.Edit(page)
	if len(list) == 0 {
		p.Delete("Annots")
		return
	}
	p.Set("Annots", list)
}

// Explicit replaces named destinations of a page's links by the places they stand
// for, so that the page can leave its document.
func Explicit(doc *pdf.Document, page pdf.Ref) {
	list := doc.Array(doc.Dict(page).Get("Annots"))
	var direct pdf.Array
	for i, o := range list {
		d := doc.Dict(o)
		if doc.Name(d.Get("Subtype")) != "Link" {
			continue
		}
		dest := nav.Of(doc, d)
		switch doc.Resolve(dest).(type) {
		case pdf.Name, pdf.String:
		default:
			continue
		}
		to := nav.Explicit(doc, dest)
		if to == nil {
			continue
		}
		if r, ok := o.(pdf.Ref); ok {
			d = doc.Edit(r)
		} else {
			d = d.Clone()
			if direct == nil {
				direct = append(direct, list...)
			}
			direct[i] = d
		}
		d.Delete("A")
		d.Set("Dest", to)
	}
	if direct != nil {
		doc.Edit(page).Set("Annots", direct)
	}
}
