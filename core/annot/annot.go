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

// Removed is an annotation that was removed from a page: Key is its key in the parent tree of tags (14.7.5.4), or -1.
type Removed struct {
	Ref pdf.Ref
	Key int
}

// removed tells what a page loses with an annotation.
func removed(doc *pdf.Document, r pdf.Ref) Removed {
	if k, ok := doc.Resolve(doc.Dict(r).Get("StructParent")).(pdf.Integer); ok && k >= 0 {
		return Removed{r, int(k)}
	}
	return Removed{r, -1}
}

// Only gives the annotations that stand on the given pages and on no other one: some programs put one on two pages, although the standard has
// it on one (12.5.2).
func Only(doc *pdf.Document, pages []pdf.Ref) map[pdf.Ref]bool {
	out := map[pdf.Ref]bool{}
	these := make(map[pdf.Ref]bool, len(pages))
	for _, p := range pages {
		these[p] = true
		for _, r := range Refs(doc, p) {
			out[r] = true
		}
	}
	all, err := doc.Pages()
	if err != nil || len(out) == 0 {
		return out
	}
	for _, l := range all {
		if !these[l.Ref] {
			for _, r := range Refs(doc, l.Ref) {
				delete(out, r)
			}
		}
	}
	return out
}

// CutLinks removes from one page the links that lead to a page of which gone says so, and gives them. It must run while the named destinations still stand.
func CutLinks(doc *pdf.Document, page pdf.Ref, gone func(pdf.Ref) bool) (cut []Removed) {
	list := doc.Array(doc.Dict(page).Get("Annots"))
	var left pdf.Array
	var free []pdf.Ref
	for _, o := range list {
		d := doc.Dict(o)
		if doc.Name(d.Get("Subtype")) == "Link" {
			if dest := nav.Of(doc, d); dest != nil {
				if t := nav.Target(doc, dest); !t.IsZero() && gone(t) {
					if r, ok := o.(pdf.Ref); ok {
						cut = append(cut, removed(doc, r))
						free = append(free, r)
					} else {
						cut = append(cut, Removed{Key: -1})
					}
					continue
				}
			}
		}
		left = append(left, o)
	}
	if len(cut) > 0 {
		setAnnots(doc, page, left)
		doc.Free(free...)
	}
	return cut
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
