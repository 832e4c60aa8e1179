package draw

import (
	"fmt"
	"io"

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
	c.Op("q").Matrix(p.Matrix(w, h)).Op("Do", pdf.Name("Picture")).Op("Q")
	return doc.Add(pdf.NewDict(
		"Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Real(w), pdf.Real(h)},
		"Resources", pdf.NewDict("XObject", pdf.NewDict("Picture", image)),
		"Contents", doc.Add(pdf.NewStream(nil, c.Bytes())),
	)), nil
}

// MaxPictureFile is the largest picture file that is read, in bytes.
const MaxPictureFile = 192 << 20

// PictureFile reads an image file of that size and adds a page of the picture's own size that shows it. What can't be read is
// refused in words.
func PictureFile(doc *pdf.Document, r io.ReaderAt, size int64) (page pdf.Ref, kind string, err error) {
	if size > MaxPictureFile {
		return page, "", fmt.Errorf("the picture is over 192 MB: %w", picture.ErrFormat)
	}
	data := make([]byte, size)
	if _, err := r.ReadAt(data, 0); err != nil && err != io.EOF {
		return page, "", err
	}
	p, err := picture.Decode(data)
	if err != nil {
		return page, "", err
	}
	page, err = PicturePage(doc, p)
	return page, p.Kind, err
}

// IsPicture reports whether a file begins like one that PictureFile reads.
func IsPicture(r io.ReaderAt) bool {
	head := make([]byte, 16)
	n, _ := r.ReadAt(head, 0)
	return picture.Is(head[:n])
}
