package edit

import (
	"context"
	"errors"
	"image/png"
	"io"
	"math"
	"slices"

	"glenrain/core/claim"
	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/picture"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// bring reads a picture file and makes an object of it.
func bring(ctx context.Context, doc *pdf.Document, env *step.Env, from step.SourceRef) (*picture.Picture, pdf.Ref, error) {
	src, err := env.Sources.Open(ctx, from)
	if err != nil {
		return nil, pdf.Ref{}, err
	}
	if src.Size > draw.MaxPictureFile {
		return nil, pdf.Ref{}, step.Refuse("the picture is over %d MB", draw.MaxPictureFile>>20)
	}
	data := make([]byte, src.Size)
	if _, err := src.Data.ReadAt(data, 0); err != nil && err != io.EOF {
		return nil, pdf.Ref{}, err
	}
	p, err := picture.Decode(data)
	if err == nil {
		var ref pdf.Ref
		if ref, err = p.XObject(doc); err == nil {
			return p, ref, nil
		}
	}
	if errors.Is(err, picture.ErrFormat) {
		return nil, pdf.Ref{}, step.Refuse("%s can’t be read as a picture: use JPEG, PNG, TIFF, BMP, GIF, WebP or HEIC", src.Name)
	}
	return nil, pdf.Ref{}, err
}

// fitted gives the matrix by which an upright picture of a width and height comes into the unit square as a frame of fw by fh points, and
// whether it reaches over the frame.
func fitted(p *picture.Picture, fit string, fw, fh float64) (m pdf.Matrix, over bool) {
	w, h := p.Points()
	if fit != "stretch" && w > 0 && h > 0 && fw > 0 && fh > 0 {
		scale := min(fw/w, fh/h)
		if fit == "fill" {
			scale = max(fw/w, fh/h)
		}
		w, h = w*scale, h*scale
	} else {
		w, h = fw, fh
	}
	m = p.Matrix(w, h).Mul(pdf.Matrix{1, 0, 0, 1, (fw - w) / 2, (fh - h) / 2}).Mul(pdf.Matrix{1 / fw, 0, 0, 1 / fh, 0, 0})
	return m, w > fw+0.01 || h > fh+0.01
}

// Apply replaces the picture.
func (s *ReplacePicture) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	ref, err := onePage(&s.Page, doc, env, "a picture is replaced")
	if err != nil {
		return nil, err
	}
	page, l, err := opened(ctx, doc, ref)
	if err != nil {
		return nil, err
	}
	if _, err := objectsOf(doc, page, l, []Object{{What: "picture", At: s.Picture}}); err != nil {
		return nil, err
	}
	p, now, err := bring(ctx, doc, env, s.From)
	if err != nil {
		return nil, err
	}
	old := page.Images[s.Picture]
	pages := []pdf.Ref{ref}
	one := func(page *content.Page, l *layout.Page, same func(*content.ImageUse) bool) error {
		m := &mover{doc: doc, page: page, lay: l}
		m.set.at(page)
		for i := range page.Images {
			im := &page.Images[i]
			if !same(im) {
				continue
			}
			unit, over := fitted(p, s.Fit, math.Hypot(im.Matrix[0], im.Matrix[1]), math.Hypot(im.Matrix[2], im.Matrix[3]))
			m.set.extra = append(m.set.extra, content.Patch{Invocation: im.Invocation, Start: im.Start, End: im.End, Make: func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
				b := append([]byte("q "), numbers(im.Matrix.Mul(im.State.CTM.Invert()))...)
				b = append(b, "cm "...)
				if over {
					b = append(b, "0 0 1 1 re W n "...)
				}
				b = append(append(b, numbers(unit)...), "cm "...)
				return append(append(pdf.AppendObject(b, name("XObject", now)), " Do"...), " Q"...)
			}})
		}
		return m.set.apply(doc)
	}
	err = one(page, l, func(im *content.ImageUse) bool {
		return im.Invocation == old.Invocation && im.Start == old.Start || s.Everywhere && !old.Ref.IsZero() && im.Ref == old.Ref
	})
	if err != nil {
		return nil, err
	}
	if s.Everywhere && !old.Ref.IsZero() {
		leaves, err := doc.Pages()
		if err != nil {
			return nil, err
		}
		reader := content.NewReader(doc)
		for i, leaf := range leaves {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			env.Report(i, len(leaves))
			if leaf.Ref == ref || !shows(doc, doc.Dict(doc.Inherited(leaf.Ref, "Resources")), old.Ref, map[pdf.Ref]bool{}, 0) {
				continue
			}
			other, err := reader.Page(ctx, leaf.Ref, wanted)
			if err != nil {
				return nil, err
			}
			if other.Cut || !slices.ContainsFunc(other.Images, func(im content.ImageUse) bool { return im.Ref == old.Ref }) {
				continue
			}
			if err := one(other, nil, func(im *content.ImageUse) bool { return im.Ref == old.Ref }); err != nil {
				return nil, err
			}
			pages = append(pages, leaf.Ref)
		}
	}
	res := &step.Result{Pages: env.Keys.Of(pages), Redrawn: step.RedrawPages, Show: env.Keys.Key(ref)}
	res.Adds |= claim.Colour
	res.Sentence = "Picture replaced on " + inSentence(doc, doc.PageIndexes(pages))
	return res, nil
}

// shows reports whether resources, or those of forms in them, name an object.
func shows(doc *pdf.Document, res *pdf.Dict, ref pdf.Ref, seen map[pdf.Ref]bool, depth int) bool {
	for _, e := range doc.Dict(res.Get("XObject")).Entries() {
		r, ok := e.Value.(pdf.Ref)
		if r == ref {
			return true
		}
		if !ok || seen[r] || depth > 40 {
			continue
		}
		seen[r] = true
		if s := doc.Stream(r); s != nil && doc.Name(s.Dict.Get("Subtype")) == "Form" && shows(doc, doc.Dict(s.Dict.Get("Resources")), ref, seen, depth+1) {
			return true
		}
	}
	return false
}

// Apply puts the picture on the page.
func (s *AddPicture) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	ref, err := onePage(&s.Page, doc, env, "a picture is put")
	if err != nil {
		return nil, err
	}
	p, image, err := bring(ctx, doc, env, s.From)
	if err != nil {
		return nil, err
	}
	g := doc.Geometry(ref)
	seenW, seenH := g.Seen()
	x, y, w, h := float64(s.X), float64(s.Y), float64(s.Width), float64(s.Height)
	if !(x >= -seenW && y >= -seenH && x < seenW && y < seenH) {
		return nil, step.Refuse("the place is not on the page")
	}
	pw, ph := p.Points()
	switch {
	case w == 0 && h == 0:
		scale := min(1, (seenW-max(0, x))/pw, (seenH-max(0, y))/ph)
		w, h = pw*scale, ph*scale
	case h == 0:
		h = w * ph / pw
	case w == 0:
		w = h * pw / ph
	}
	if w < 1 || h < 1 {
		return nil, step.Refuse("the frame is too small for a picture")
	}
	unit, over := fitted(p, s.Fit, w, h)
	err = draw.Onto(doc, ref, func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
		b := append([]byte("q "), numbers(pdf.Matrix{w, 0, 0, h, x, seenH - y - h}.Mul(draw.Upright(g)))...)
		b = append(b, "cm "...)
		if over {
			b = append(b, "0 0 1 1 re W n "...)
		}
		b = append(append(b, numbers(unit)...), "cm "...)
		return append(append(pdf.AppendObject(b, name("XObject", image)), " Do"...), " Q\n"...)
	})
	if err != nil {
		return nil, err
	}
	res := &step.Result{Pages: env.Keys.Of([]pdf.Ref{ref}), Redrawn: step.RedrawPages, Show: env.Keys.Key(ref)}
	res.Adds |= claim.Colour
	if structure.Tagged(doc) {
		res.Warnings = append(res.Warnings, "The document is tagged but the picture isn’t, so screen readers skip it.")
	}
	res.Sentence = "Picture added to " + inSentence(doc, doc.PageIndexes([]pdf.Ref{ref}))
	return res, nil
}

// PictureFile writes a picture of the page as a file: a JPEG as it is stored, everything else as a PNG. kind is "jpg" or "png".
func (s *Sheet) PictureFile(at int, w io.Writer) (kind string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if at < 0 || at >= len(s.page.Images) || s.page.Images[at].Ref.IsZero() {
		return "", step.Refuse("the picture can’t be saved as a file")
	}
	ref := s.page.Images[at].Ref
	st := s.Doc.Stream(ref)
	if st == nil {
		return "", errNoObject
	}
	if raw, ok := picture.StoredJPEG(s.Doc, st); ok {
		_, err := w.Write(raw)
		return "jpg", err
	}
	img, err := picture.Pixelled(s.Doc, ref)
	if errors.Is(err, picture.ErrUncut) {
		return "", step.Refuse("this picture’s format can’t be saved as a file")
	}
	if err != nil {
		return "", err
	}
	return "png", png.Encode(w, img)
}
