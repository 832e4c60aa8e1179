package edit

import (
	"context"
	"errors"
	"fmt"
	"image"
	"math"

	"glenrain/core/claim"
	"glenrain/core/content"
	"glenrain/core/pdf"
	"glenrain/core/picture"
	"glenrain/core/step"
)

// ChangePicture is the step "change-picture".
type ChangePicture struct {
	Page       step.Pages `json:"page" required:"yes" help:"the page it is on"`
	Picture    int        `json:"picture" names:"yes" min:"0" help:"the picture’s number on the page, counted from 0"`
	Everywhere bool       `json:"everywhere,omitempty" help:"change every copy in the document; if no, only this one"`
	Flip       string     `json:"flip,omitempty" enum:",across,down" labels:"=no,across=left to right,down=top to bottom" help:"flip left to right, or top to bottom"`
	// Parts of the width and height that are cut off, per cent.
	Left       float64 `json:"cut_left,omitempty" min:"0" max:"99" help:"crop at the left, per cent of the width"`
	Top        float64 `json:"cut_top,omitempty" min:"0" max:"99" help:"crop at the top, per cent of the height"`
	Right      float64 `json:"cut_right,omitempty" min:"0" max:"99" help:"crop at the right, per cent of the width"`
	Bottom     float64 `json:"cut_bottom,omitempty" min:"0" max:"99" help:"crop at the bottom, per cent of the height"`
	Opacity    float64 `json:"opacity,omitempty" min:"0" max:"100" help:"opacity, per cent; 0 for unchanged"`
	Order      string  `json:"order,omitempty" enum:",front,back" labels:"=unchanged,front=bring to front,back=send to back" help:"bring to the front of the page, or send to the back"`
	Brightness float64 `json:"brightness,omitempty" min:"-100" max:"100" help:"lighter or darker"`
	Contrast   float64 `json:"contrast,omitempty" min:"-100" max:"100" help:"more or less contrast"`
	Colours    string  `json:"colours,omitempty" enum:",gray,black-and-white" labels:"=kept,gray=greyscale,black-and-white=black and white" help:"without colours"`
}

// ReplacePicture is the step "replace-picture".
type ReplacePicture struct {
	Page       step.Pages     `json:"page" required:"yes" help:"the page it is on"`
	Picture    int            `json:"picture" names:"yes" min:"0" help:"the picture’s number on the page, counted from 0"`
	From       step.SourceRef `json:"from" required:"choose a picture" help:"the new picture: path:FILE"`
	Fit        string         `json:"fit,omitempty" enum:"fit,fill,stretch" labels:"fit=fitted inside the frame,fill=filling the space,stretch=stretched to the frame" help:"how it fits the old frame: fitted inside, filling it, or stretched to it"`
	Everywhere bool           `json:"everywhere,omitempty" help:"change every copy in the document; if no, only this one"`
}

// AddPicture is the step "add-picture". Places are on the page as it is seen: points from its upper left corner.
type AddPicture struct {
	Page   step.Pages     `json:"page" required:"yes" help:"the page"`
	From   step.SourceRef `json:"from" required:"choose a picture" help:"the picture: path:FILE"`
	X      step.Length    `json:"x" help:"its left edge"`
	Y      step.Length    `json:"y" help:"its upper edge"`
	Width  step.Length    `json:"width,omitempty" min:"0" max:"14400" help:"the width of its frame; its own size if empty"`
	Height step.Length    `json:"height,omitempty" min:"0" max:"14400" help:"the height of its frame"`
	Fit    string         `json:"fit,omitempty" enum:"fit,fill,stretch" labels:"fit=fitted inside the frame,fill=filling the space,stretch=stretched to the frame" help:"how it fits the frame"`
}

// PictureKinds are the steps on pictures.
func pictureKinds() []step.Kind {
	return []step.Kind{
		{Name: "change-picture", Title: "Change a picture", Meaning: "Flips or crops a picture on a page, changes its opacity, brightness or colours, or brings it to the front or back.", New: func() step.Step { return &ChangePicture{} }},
		{Name: "tone-pages", Title: "Change the tones of pictures", Meaning: "Makes all pictures on pages lighter, darker, greyscale or black and white.", Slow: true, New: func() step.Step { return &TonePages{Pages: step.Pages{Rule: "all"}} }},
		{Name: "replace-picture", Title: "Replace a picture", Meaning: "Replaces a picture on a page, in the same frame.", New: func() step.Step { return &ReplacePicture{Fit: "fit"} }},
		{Name: "add-picture", Title: "Add a picture", Meaning: "Adds a picture to a page, at a place or in a frame.", New: func() step.Step { return &AddPicture{Fit: "fit"} }},
	}
}

// Apply changes the picture.
func (s *ChangePicture) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	ref, err := onePage(&s.Page, doc, env, "a picture is changed")
	if err != nil {
		return nil, err
	}
	if s.Left+s.Right > 99 || s.Top+s.Bottom > 99 {
		return nil, step.Refuse("the whole picture would be cropped away")
	}
	tones := s.Brightness != 0 || s.Contrast != 0 || s.Colours != ""
	shape := s.Flip != "" || s.Left+s.Top+s.Right+s.Bottom > 0 || s.Opacity > 0 || s.Order != ""
	if !tones && !shape {
		return nil, step.Refuse("choose at least one change to the picture")
	}
	m, list, err := taken(ctx, doc, ref, []Object{{What: "picture", At: s.Picture}})
	if err != nil {
		return nil, err
	}
	im := &m.page.Images[s.Picture]
	target := im.Ref
	pages := []pdf.Ref{ref}
	if tones {
		if im.Ref.IsZero() {
			return nil, step.Refuse("the picture is part of the page’s content, so its colours can’t be changed")
		}
		if target, err = s.tone().of(doc, im.Ref); err != nil {
			return nil, err
		}
		if s.Everywhere {
			if pages, err = swapEverywhere(ctx, doc, im.Ref, target, ref); err != nil {
				return nil, err
			}
		}
	}
	if shape || tones && !s.Everywhere {
		if err := s.draw(m, im, target); err != nil {
			return nil, err
		}
	}
	if err := m.set.apply(doc); err != nil {
		return nil, err
	}
	if len(m.carried) > 0 {
		if err := m.put(doc, ref); err != nil {
			return nil, err
		}
	}
	res := &step.Result{Pages: env.Keys.Of(pages), Redrawn: step.RedrawPages, Show: env.Keys.Key(ref), Warnings: m.warnings}
	if s.Opacity > 0 && s.Opacity < 100 {
		res.Adds |= claim.Transparency
	}
	what := "changed"
	switch {
	case s.Flip != "":
		what = "flipped"
	case s.Left+s.Top+s.Right+s.Bottom > 0:
		what = "cropped"
	case s.Colours == "gray":
		what = "changed to greyscale"
	case s.Colours != "":
		what = "changed to black and white"
	case s.Order == "front":
		what = "brought to the front"
	case s.Order == "back":
		what = "sent to the back"
	}
	res.Sentence = fmt.Sprintf("%s %s on %s", called(list), what, inSentence(doc, doc.PageIndexes(pages)))
	return res, nil
}

// draw draws the picture in another way, in its place.
func (s *ChangePicture) draw(m *mover, im *content.ImageUse, target pdf.Ref) error {
	body := m.page.Invocations[im.Invocation].Body.Data
	unit := pdf.Identity // of the unit square, before it goes to its place
	switch s.Flip {
	case "across":
		unit = pdf.Matrix{-1, 0, 0, 1, 1, 0}
	case "down":
		unit = pdf.Matrix{1, 0, 0, -1, 0, 1}
	}
	cut := pdf.Rect{X0: s.Left / 100, Y0: s.Bottom / 100, X1: 1 - s.Right/100, Y1: 1 - s.Top/100}
	cuts := cut != pdf.Rect{X1: 1, Y1: 1}
	if cuts {
		done := false
		if !target.IsZero() {
			own := unit.Bounds(cut) // of the picture itself, where it is mirrored
			ref, at, err := picture.Cut(m.doc, target, pdf.Identity, own)
			switch {
			case err == nil:
				target, done, cuts = ref, true, false
				unit = at.Mul(unit)
			case !errors.Is(err, picture.ErrUncut):
				return err
			}
		}
		if !done {
			m.warn("The cropped part is hidden but still in the file, because this picture’s format can’t be cropped here.")
		}
	}
	invocation := &m.page.Invocations[im.Invocation]
	use := func(name func(pdf.Name, pdf.Ref) pdf.Name, b []byte) []byte {
		if s.Opacity > 0 && s.Opacity < 100 {
			gs := m.doc.Add(pdf.NewDict("Type", pdf.Name("ExtGState"), "ca", pdf.Real(s.Opacity/100)))
			b = append(pdf.AppendObject(b, name("ExtGState", gs)), " gs "...)
		} else if s.Opacity == 100 && alpha(im.State) < 1 {
			gs := m.doc.Add(pdf.NewDict("Type", pdf.Name("ExtGState"), "ca", pdf.Real(1)))
			b = append(pdf.AppendObject(b, name("ExtGState", gs)), " gs "...)
		}
		if cuts {
			for _, v := range [4]float64{cut.X0, cut.Y0, cut.X1 - cut.X0, cut.Y1 - cut.Y0} {
				b = append(content.AppendNumber(b, v), ' ')
			}
			b = append(b, "re W n "...)
		}
		if unit != pdf.Identity {
			b = append(append(b, numbers(unit)...), "cm "...)
		}
		if target.IsZero() {
			return append(b, body[im.Start:im.End]...)
		}
		return append(pdf.AppendObject(b, name("XObject", target)), " Do"...)
	}
	drawAt := func(ctm pdf.Matrix) func(func(pdf.Name, pdf.Ref) pdf.Name) []byte {
		return func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
			b := append([]byte("\nq "), numbers(im.Matrix.Mul(ctm.Invert()))...)
			return append(use(name, append(b, "cm "...)), " Q\n"...)
		}
	}
	m.set.at(m.page)
	if s.Order == "" {
		m.set.extra = append(m.set.extra, content.Patch{Invocation: im.Invocation, Start: im.Start, End: im.End, Make: drawAt(im.State.CTM)})
		return nil
	}
	if target.IsZero() {
		return step.Refuse("the picture is part of the page’s content, so its order can’t be changed")
	}
	if invocation.Kind == content.PatternBody {
		return step.Refuse("the picture is part of a pattern, so its order can’t be changed")
	}
	if im.Mark >= 0 && m.page.Marks[im.Mark].MCID >= 0 {
		m.warn("The picture has lost its tag, so screen readers skip it.")
	}
	m.set.extra = append(m.set.extra, content.Patch{Invocation: im.Invocation, Start: im.Start, End: im.End})
	if s.Order == "front" {
		m.carried = append(m.carried, carried{drawAt(pdf.Identity)})
		return nil
	}
	m.set.extra = append(m.set.extra, content.Patch{Invocation: 0, Start: 0, End: 0, Make: drawAt(pdf.Identity)})
	return nil
}

// tone is how light a picture is made, and of which colours.
type tone struct {
	Brightness, Contrast float64
	Colours              string
}

func (s *ChangePicture) tone() tone { return tone{s.Brightness, s.Contrast, s.Colours} }

// of makes a picture of other tones of one; its masks stay.
func (s tone) of(doc *pdf.Document, ref pdf.Ref) (pdf.Ref, error) {
	was := doc.Stream(ref)
	if was == nil {
		return ref, errNoObject
	}
	bare := ref
	if was.Dict.Has("SMask") || was.Dict.Has("Mask") {
		d := was.Dict.Clone()
		d.Delete("SMask")
		d.Delete("Mask")
		raw, err := was.Raw()
		if err != nil {
			return ref, err
		}
		bare = doc.Add(pdf.NewStream(d, raw))
		defer doc.Free(bare)
	}
	p, err := picture.ReadPlanar(doc, bare)
	if errors.Is(err, picture.ErrUncut) {
		return ref, step.Refuse("this picture’s format can’t be recoloured here")
	}
	if err != nil {
		return ref, err
	}
	var table [256]byte
	factor := math.Pow(2, s.Contrast/50)
	for i := range table {
		v := (float64(i)-127.5)*factor + 127.5 + 2.55*s.Brightness
		table[i] = byte(max(0, min(255, v)) + 0.5)
	}
	for _, plane := range p.Planes {
		for i, v := range plane.Pix {
			plane.Pix[i] = table[v]
		}
	}
	if s.Colours != "" {
		p = p.Grayed()
	}
	if s.Colours == "black-and-white" {
		at := threshold(p.Planes[0])
		for i, v := range p.Planes[0].Pix {
			p.Planes[0].Pix[i] = 0
			if v > at {
				p.Planes[0].Pix[i] = 255
			}
		}
		p.Bilevel, p.Lossy = true, false
	}
	out, err := p.Add(doc, bare)
	if err != nil {
		return ref, err
	}
	for _, k := range []pdf.Name{"SMask", "Mask"} {
		if v := was.Dict.Get(k); v != nil {
			doc.Edit(out).Set(k, v)
		}
	}
	return out, nil
}

// threshold parts dark from light so that both vary least (Otsu's method).
func threshold(g *image.Gray) uint8 {
	var h [256]float64
	for _, v := range g.Pix {
		h[v]++
	}
	total, sum := float64(len(g.Pix)), 0.0
	for i, n := range h {
		sum += float64(i) * n
	}
	best, at, w, s := -1.0, 127, 0.0, 0.0
	for i, n := range h {
		w += n
		s += float64(i) * n
		if w == 0 || w == total {
			continue
		}
		d := s/w - (sum-s)/(total-w)
		if v := w * (total - w) * d * d; v > best {
			best, at = v, i
		}
	}
	return uint8(at)
}

// TonePages is the step "tone-pages".
type TonePages struct {
	Pages      step.Pages `json:"pages" help:"on which pages"`
	Brightness float64    `json:"brightness,omitempty" min:"-100" max:"100" help:"lighter or darker"`
	Contrast   float64    `json:"contrast,omitempty" min:"-100" max:"100" help:"more or less contrast"`
	Colours    string     `json:"colours,omitempty" enum:",gray,black-and-white" labels:"=kept,gray=greyscale,black-and-white=black and white" help:"without colours"`
}

// Apply changes the pictures of the pages.
func (s *TonePages) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if s.Brightness == 0 && s.Contrast == 0 && s.Colours == "" {
		return nil, step.Refuse("choose at least one change to the pictures")
	}
	refs, err := s.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	t := tone{s.Brightness, s.Contrast, s.Colours}
	reader := content.NewReader(doc)
	made := map[pdf.Ref]pdf.Ref{} // zero for those that can't be
	var pages []pdf.Ref
	n, left := 0, 0
	for i, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		env.Report(i, len(refs))
		page, err := reader.Page(ctx, ref, wanted)
		if err != nil {
			return nil, err
		}
		if page.Cut || len(page.Images) == 0 {
			continue
		}
		pages = append(pages, ref)
		if !env.Wants(ref) {
			n++
			continue
		}
		var set laid
		set.at(page)
		for k := range page.Images {
			im := &page.Images[k]
			if im.Ref.IsZero() || !page.Invocations[im.Invocation].Annotation.IsZero() || page.Invocations[im.Invocation].Kind == content.PatternBody {
				left++
				continue
			}
			now, known := made[im.Ref]
			if !known {
				var no *step.Refusal
				if now, err = t.of(doc, im.Ref); errors.As(err, &no) {
					now = pdf.Ref{}
				} else if err != nil {
					return nil, err
				}
				made[im.Ref] = now
			}
			if now.IsZero() {
				left++
				continue
			}
			n++
			set.extra = append(set.extra, content.Patch{Invocation: im.Invocation, Start: im.Start, End: im.End, Make: func(name func(pdf.Name, pdf.Ref) pdf.Name) []byte {
				return append(pdf.AppendObject(nil, name("XObject", now)), " Do"...)
			}})
		}
		if err := set.apply(doc); err != nil {
			return nil, err
		}
	}
	if n == 0 {
		if left > 0 {
			return nil, step.Refuse("the formats of these pictures can’t be recoloured here")
		}
		return nil, step.Refuse("there are no pictures on these pages")
	}
	res := &step.Result{Pages: env.Keys.Of(pages), Redrawn: step.RedrawPages, Show: env.Keys.Key(pages[0])}
	if left > 0 {
		res.Warnings = append(res.Warnings, fmt.Sprintf("%s unchanged: the format can’t be recoloured here.", step.Count(left, "picture")))
	}
	res.Sentence = fmt.Sprintf("Tones of pictures changed on %s", step.Count(len(pages), "page"))
	return res, nil
}

// swapEverywhere puts a picture in the place of another wherever the document's pages show it, and gives these pages, with the first at the head.
func swapEverywhere(ctx context.Context, doc *pdf.Document, was, now pdf.Ref, first pdf.Ref) ([]pdf.Ref, error) {
	leaves, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	pages := []pdf.Ref{first}
	done := map[pdf.Ref]bool{} // resources, of pages and forms, that were looked at
	holds := map[pdf.Ref]bool{}
	var look func(res *pdf.Dict, depth int) (*pdf.Dict, bool)
	look = func(res *pdf.Dict, depth int) (*pdf.Dict, bool) {
		x := doc.Dict(res.Get("XObject"))
		found := false
		var fresh *pdf.Dict
		for _, e := range x.Entries() {
			r, ok := e.Value.(pdf.Ref)
			switch {
			case !ok:
			case r == was:
				if fresh == nil {
					fresh = x.Clone()
				}
				fresh.Set(e.Key, now)
				found = true
			case depth < 40:
				s := doc.Stream(r)
				if s == nil || doc.Name(s.Dict.Get("Subtype")) != "Form" {
					continue
				}
				if done[r] {
					found = found || holds[r]
					continue
				}
				done[r] = true
				if changed, has := look(doc.Dict(s.Dict.Get("Resources")), depth+1); has {
					holds[r], found = true, true
					if changed != nil {
						doc.Edit(r).Set("Resources", changed)
					}
				}
			}
		}
		if fresh == nil {
			return nil, found
		}
		out := res.Clone()
		out.Set("XObject", fresh)
		return out, true
	}
	for _, l := range leaves {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		changed, has := look(doc.Dict(doc.Inherited(l.Ref, "Resources")), 0)
		if changed != nil {
			doc.Edit(l.Ref).Set("Resources", changed)
		}
		if has && l.Ref != first {
			pages = append(pages, l.Ref)
		}
	}
	return pages, nil
}
