package annot

import (
	"slices"

	"glenrain/core/pdf"
)

// CutOutside takes the annotations that lie wholly outside a frame off a page's list, with the pop-ups of such comments, and gives them; their objects are
// for the caller to free.
func CutOutside(doc *pdf.Document, page pdf.Ref, frame pdf.Rect) (gone []Removed) {
	list := doc.Array(doc.Dict(page).Get("Annots"))
	out := map[pdf.Ref]bool{}
	var left pdf.Array
	lies := func(o pdf.Object) bool {
		b, ok := doc.Rect(doc.Dict(o).Get("Rect"))
		return ok && !(b.X1 > frame.X0 && b.X0 < frame.X1 && b.Y1 > frame.Y0 && b.Y0 < frame.Y1)
	}
	for _, o := range list {
		if doc.Name(doc.Dict(o).Get("Subtype")) != "Popup" && lies(o) {
			if r, ok := o.(pdf.Ref); ok {
				out[r] = true
				gone = append(gone, removed(doc, r))
			} else {
				gone = append(gone, Removed{Key: -1})
			}
			continue
		}
		left = append(left, o)
	}
	left = slices.DeleteFunc(left, func(o pdf.Object) bool { // what hangs on a comment that went goes with it
		d := doc.Dict(o)
		up, ok := d.Get("Parent").(pdf.Ref)
		r, isRef := o.(pdf.Ref)
		if !ok || !isRef || doc.Name(d.Get("Subtype")) != "Popup" || !out[up] {
			return false
		}
		gone = append(gone, removed(doc, r))
		return true
	})
	if len(gone) > 0 {
		setAnnots(doc, page, left)
	}
	return gone
}
