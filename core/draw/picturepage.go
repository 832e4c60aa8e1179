package draw

import (
	"errors"
	"fmt"
	"io"
	"math"

	"glenrain/core/pdf"
	"glenrain/core/picture"
)

// Placement says what page a picture stands on. The zero value is a page of exactly the picture's own size.
type Placement struct {
	Width, Height float64 // of the paper in points, portrait; 0 for the picture's own size
	Margin        float64 // points, on all sides
	Turn          Turn    // how the paper lies
	Fill          bool    // the picture covers all that is inside the margins, and what is over is cut off; otherwise all of it is seen
}

// Turn says how paper lies.
type Turn string

// As each picture has it the wider, or all the same way.
const (
	TurnEach      Turn = ""
	TurnPortrait  Turn = "portrait"
	TurnLandscape Turn = "landscape"
)

// PlacedPicture is where a picture comes to stand, in points.
type PlacedPicture struct {
	PageW, PageH float64
	X, Y, W, H   float64 // the upright picture, from the lower left corner; it may reach over what is seen of it
	Inner        [4]float64
}

// Borders gives how wide the white borders are that the picture leaves, in points: left and right, above and below. They are never negative.
func (p PlacedPicture) Borders() (side, above float64) {
	return math.Max(p.X, p.Inner[0]), math.Max(p.Y, p.Inner[1])
}

// Cut gives how much of the picture's width and height is cut off, of 1.
func (p PlacedPicture) Cut() (w, h float64) {
	return math.Max(0, 1-(p.Inner[2]-p.Inner[0])/p.W), math.Max(0, 1-(p.Inner[3]-p.Inner[1])/p.H)
}

// ErrMargin: the margins leave no room.
var ErrMargin = errors.New("the margins leave no room for a picture on this paper")

// Place works out where a picture of a size in points comes to stand.
func (pl Placement) Place(w, h float64) (out PlacedPicture, err error) {
	if pl.Width == 0 {
		m := pl.Margin
		return PlacedPicture{w + 2*m, h + 2*m, m, m, w, h, [4]float64{m, m, m + w, m + h}}, nil
	}
	out.PageW, out.PageH = pl.Width, pl.Height
	if pl.Turn == TurnLandscape || pl.Turn == TurnEach && w > h {
		out.PageW, out.PageH = pl.Height, pl.Width
	}
	m := pl.Margin
	in := [4]float64{m, m, out.PageW - m, out.PageH - m}
	iw, ih := in[2]-in[0], in[3]-in[1]
	if iw < 10 || ih < 10 {
		return out, ErrMargin
	}
	scale := math.Min(iw/w, ih/h)
	if pl.Fill {
		scale = math.Max(iw/w, ih/h)
	}
	out.W, out.H, out.Inner = w*scale, h*scale, in
	out.X, out.Y = in[0]+(iw-out.W)/2, in[1]+(ih-out.H)/2
	return out, nil
}

// PicturePage adds a page object that shows a picture upright: of exactly its own size, or placed on paper. The page is not in the
// page tree yet.
func PicturePage(doc *pdf.Document, p *picture.Picture, pl Placement) (pdf.Ref, error) {
	w, h := p.Points()
	at, err := pl.Place(w, h)
	if err != nil {
		return pdf.Ref{}, err
	}
	image, err := p.XObject(doc)
	if err != nil {
		return pdf.Ref{}, err
	}
	var c Content
	c.Op("q")
	if cw, ch := at.Cut(); cw > 0 || ch > 0 {
		c.Op("re", pdf.Real(at.Inner[0]), pdf.Real(at.Inner[1]), pdf.Real(at.Inner[2]-at.Inner[0]), pdf.Real(at.Inner[3]-at.Inner[1])).Op("W").Op("n")
	}
	c.Matrix(p.Matrix(at.W, at.H).Mul(pdf.Matrix{1, 0, 0, 1, at.X, at.Y})).Op("Do", pdf.Name("Picture")).Op("Q")
	return doc.Add(pdf.NewDict(
		"Type", pdf.Name("Page"), "MediaBox", pdf.Array{pdf.Integer(0), pdf.Integer(0), pdf.Real(at.PageW), pdf.Real(at.PageH)},
		"Resources", pdf.NewDict("XObject", pdf.NewDict("Picture", image)),
		"Contents", doc.Add(pdf.NewStream(nil, c.Bytes())),
	)), nil
}

// MaxPictureFile is the largest picture file that is read, in bytes.
const MaxPictureFile = 192 << 20

// ReadPictures reads the pictures of an image file of that size, as far as their headers. What can't be read is refused in words.
func ReadPictures(r io.ReaderAt, size int64) ([]*picture.Picture, error) {
	if size > MaxPictureFile {
		return nil, fmt.Errorf("the picture is over 192 MB: %w", picture.ErrFormat)
	}
	data := make([]byte, size)
	if _, err := r.ReadAt(data, 0); err != nil && err != io.EOF {
		return nil, err
	}
	return picture.DecodeAll(data)
}

// PictureFile reads an image file of that size and adds a page for each of its pictures, placed as said.
func PictureFile(doc *pdf.Document, r io.ReaderAt, size int64, pl Placement) (pages []pdf.Ref, kind string, err error) {
	all, err := ReadPictures(r, size)
	if err != nil {
		return nil, "", err
	}
	for i, p := range all {
		page, err := PicturePage(doc, p, pl)
		if err != nil {
			if len(all) > 1 {
				err = fmt.Errorf("its page %d: %w", i+1, err)
			}
			return nil, "", err
		}
		pages = append(pages, page)
	}
	return pages, all[0].Kind, nil
}

// IsPicture reports whether a file begins like one that PictureFile reads.
func IsPicture(r io.ReaderAt) bool {
	head := make([]byte, picture.HeadSize)
	n, _ := r.ReadAt(head, 0)
	return picture.Is(head[:n])
}
