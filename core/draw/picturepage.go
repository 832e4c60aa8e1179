package draw

import (
	"glenrain/core/pdf"
	"glenrain/core/picture"
)

// PicturePage adds a page object of exactly the picture's own size that shows it
// upright. The page is not in the page tree yet.
func PicturePage(doc *pdf.Document, p *picture.Picture) (pdf.Ref, error) {
	image, err := p.XObject(doc)
	if err != nil {
		return pdf.Ref{}, err
	}
	w, h := p.Points()
	var c Content
	c.Op("q").Matrix(Matrix(p.Matrix(w, h))).Op("Do", pdf.Name("Picture")).Op("Q")
	return doc.Add(pdf.NewDict(
		"Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Real(w), pdf.Real(h)},
		"Resources", pdf.NewDict("XObject", pdf.NewDict("Picture", image)),
		"Contents", doc.Add(pdf.NewStream(nil, c.Bytes())),
	)), nil
}
