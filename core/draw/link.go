package draw

import (
	"encoding/hex"

	"glenrain/core/pdf"
)

// Link puts a link (12.5.6.5) on a page that belongs to a furnishing: it goes with it (Erase). rect is in default user space; description is what people who
// listen hear.
func Link(doc *pdf.Document, page pdf.Ref, id string, rect pdf.Rect, dest pdf.Array, description string) error {
	raw, err := hex.DecodeString(id)
	if err != nil {
		return err
	}
	a := doc.Add(pdf.NewDict("Type", pdf.Name("Annot"), "Subtype", pdf.Name("Link"), "Rect", rect.Array(), "Border", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Integer(0)},
		"F", pdf.Integer(flagPrint), "P", page, "Dest", dest, "Contents", pdf.TextString(description), keyID, pdf.String(raw)))
	list := append(pdf.Array{}, doc.Array(doc.Dict(page).Get("Annots"))...)
	doc.Edit(page).Set("Annots", append(list, a))
	return nil
}

// eraseLinks removes the links of a furnishing from a page.
func eraseLinks(doc *pdf.Document, page pdf.Ref, raw pdf.String) {
	list := doc.Array(doc.Dict(page).Get("Annots"))
	var left pdf.Array
	var gone []pdf.Ref
	for _, o := range list {
		if doc.Resolve(doc.Dict(o).Get(keyID)) == pdf.Object(raw) {
			if r, ok := o.(pdf.Ref); ok {
				gone = append(gone, r)
			}
			continue
		}
		left = append(left, o)
	}
	if len(left) == len(list) {
		return
	}
	if len(left) == 0 {
		doc.Edit(page).Delete("Annots")
	} else {
		doc.Edit(page).Set("Annots", left)
	}
	doc.Free(gone...)
}
