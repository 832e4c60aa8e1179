// Package outgoing makes a document ready to be written anew, whole, as a file to give away.
package outgoing

import (
	"slices"
	"time"

	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/pdf"
)

// Prepare takes out of a document, which is a fork of its own, whatever would be wrong in or of no use to a file written anew: signatures, which
// would not fit it, the rights that depend on one, and what was kept for the work only. It dates the change. It gives how the
// file is to be written so that what it says of itself holds: a PDF/A-1 file has neither object streams nor cross-reference
// streams (ISO 19005-1, 6.1.4).
func Prepare(doc *pdf.Document, at time.Time) pdf.FullOptions {
	field.Unsign(doc)
	draw.Tidy(doc)
	if info, ok := doc.Trailer().Get("Info").(pdf.Ref); ok && info != doc.Root() {
		if d := doc.Edit(info); d != nil {
			d.Set("ModDate", pdf.DateString(at))
		}
	}
	claim.Date(doc, at.Format("2006-01-02T15:04:05-07:00"))
	first := slices.ContainsFunc(claim.Of(doc), func(c claim.Claim) bool { return c.Standard == "PDF/A" && c.Part == 1 })
	return pdf.FullOptions{Once: true, Classic: first}
}
