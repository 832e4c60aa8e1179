package field

import "glenrain/core/pdf"

// XFA tells whether a form is also described in XFA (ISO 32000-1, 12.7.8; withdrawn in ISO 32000-2), and whether in nothing else: its pages
// then are made by a program that knows it, and show no more than that.
func XFA(doc *pdf.Document) (has, only bool) {
	form := doc.Dict(doc.Catalog().Get("AcroForm"))
	if doc.Resolve(form.Get("XFA")) == nil {
		return false, false
	}
	renders, _ := doc.Resolve(doc.Catalog().Get("NeedsRendering")).(pdf.Boolean)
	return true, bool(renders) || len(doc.Array(form.Get("Fields"))) == 0
}

// DropXFA takes the XFA description out of a form, with the values of fields that it holds: it knows nothing of pages and fields that came,
// went or moved. It tells whether there was one.
func DropXFA(doc *pdf.Document) bool {
	if doc.Resolve(doc.Dict(doc.Catalog().Get("AcroForm")).Get("XFA")) == nil {
		return false
	}
	form := editForm(doc)
	free := []pdf.Ref{}
	if r, ok := form.Get("XFA").(pdf.Ref); ok {
		free = append(free, r)
	}
	for _, o := range doc.Array(form.Get("XFA")) {
		if r, ok := o.(pdf.Ref); ok && doc.Stream(r) != nil {
			free = append(free, r)
		}
	}
	form.Delete("XFA")
	doc.Free(free...)
	if doc.Catalog().Has("NeedsRendering") {
		doc.Edit(doc.Root()).Delete("NeedsRendering")
	}
	return true
}
