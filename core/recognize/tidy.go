package recognize

import (
	"context"
	"errors"
	"fmt"
	"image"
	"math"
	"runtime/debug"
	"strings"

	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/picture"
	"glenrain/core/scan"
	"glenrain/core/step"
)

// Straighten is the step "straighten".
type Straighten struct {
	Pages    step.Pages `json:"pages" help:"which pages; those that aren’t a single scan are skipped"`
	Straight bool       `json:"straight" help:"straighten tilted pages"`
	Edges    bool       `json:"edges" help:"remove dark edges"`
	Light    bool       `json:"light" help:"even out the lighting"`
}

// sheet is a page that is one picture of paper.
type sheet struct {
	page *content.Page
	geo  pdf.Geometry
	use  *content.ImageUse
}

// errSheet says why a page is none.
type errSheet struct{ why string }

func (e *errSheet) Error() string { return e.why }

// leastSheet is how much of a page its picture covers.
const leastSheet = 0.5

// sheetOf gives the one picture that a page consists of. What was placed on it besides does not matter.
func sheetOf(ctx context.Context, doc *pdf.Document, reader *content.Reader, ref pdf.Ref) (*sheet, error) {
	p, err := reader.Page(ctx, ref, content.Options{Images: true, Paths: true})
	if err != nil {
		return nil, err
	}
	if p.Cut {
		return nil, &errSheet{"there is too much content to examine"}
	}
	g := doc.Geometry(ref)
	list := partsOf(doc, p, g)
	if len(list) == 0 {
		return nil, &errSheet{"not a scan"}
	}
	if len(list) > 1 || len(list[0].own) > 1 {
		return nil, &errSheet{"consists of several pictures"}
	}
	f := list[0].frame
	if f.W()*f.H() < leastSheet*g.Visible.W()*g.Visible.H() {
		return nil, &errSheet{"the scan covers only part of the page"}
	}
	for i := range p.Images {
		if u := &p.Images[i]; !u.Hidden && !u.Ref.IsZero() && u.Ref == list[0].own[0].ref {
			if m := u.Matrix; m[0]*m[3] == m[1]*m[2] {
				break
			}
			return &sheet{p, g, u}, nil
		}
	}
	return nil, &errSheet{"the picture is stored in the content itself"}
}

var errLarge = &errSheet{fmt.Sprintf("the picture has more than %d million pixels", mostLook/1_000_000)}

// turns lets one page at a time be worked on as a whole: its pixels may take some 400 MB.
var turns = make(chan struct{}, 1)

// inTurn does something when it is its turn.
func inTurn(ctx context.Context, f func() error) error {
	select {
	case turns <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() {
		debug.FreeOSMemory() // the pixels are needed no more, and children need the room
		<-turns
	}()
	return f()
}

// planes decodes the picture.
func (s *sheet) planes(doc *pdf.Document) (*picture.Planar, error) {
	if x := doc.Stream(s.use.Ref); x != nil {
		w, _ := pdf.Number(doc.Resolve(x.Dict.Get("Width")))
		h, _ := pdf.Number(doc.Resolve(x.Dict.Get("Height")))
		if w*h > mostLook {
			return nil, errLarge
		}
	}
	px, err := picture.ReadPlanar(doc, s.use.Ref)
	switch {
	case errors.Is(err, picture.ErrUncut):
		return nil, &errSheet{"the scan’s format can’t be changed here"}
	case err != nil:
		return nil, err
	case px.W()*px.H() > mostLook:
		return nil, errLarge
	}
	return px, nil
}

// toPage takes pixels, from the upper left corner, to default user space.
func (s *sheet) toPage(px *picture.Planar) pdf.Matrix {
	return pdf.Matrix{1 / float64(px.W()), 0, 0, -1 / float64(px.H()), 0, 1}.Mul(s.use.Matrix)
}

// dpi is how fine the picture is.
func (s *sheet) dpi(px *picture.Planar) float64 {
	m := s.use.Matrix
	return 72 * float64(px.W()) / max(1, math.Hypot(m[0], m[1])*s.geo.UserUnit)
}

// swap draws another picture in the place of the sheet's.
func (s *sheet) swap(doc *pdf.Document, px *picture.Planar) error {
	ref, err := px.Add(doc, s.use.Ref)
	if err != nil {
		return err
	}
	return content.Apply(doc, s.page, []content.Patch{{Invocation: s.use.Invocation, Start: s.use.Start, End: s.use.End, Draw: ref, Through: pdf.Identity}})
}

// leftOut gathers pages that a step leaves as they are, by why.
type leftOut struct {
	whys []string
	at   map[string][]int
}

func (l *leftOut) add(why string, page int) {
	if l.at == nil {
		l.at = map[string][]int{}
	}
	if len(l.at[why]) == 0 {
		l.whys = append(l.whys, why)
	}
	l.at[why] = append(l.at[why], page)
}

// tell says which pages were left, a sentence for each reason.
func (l *leftOut) tell(doc *pdf.Document) (out []string) {
	for _, why := range l.whys {
		out = append(out, fmt.Sprintf("%s left: %s.", step.Sentence(step.NamedIn(doc, l.at[why])), why))
	}
	return out
}

// Apply sets pages straight and cleans them.
func (s *Straighten) Apply(ctx context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	wish := scan.Wish{Straight: s.Straight, Edges: s.Edges, Light: s.Light}
	if wish == (scan.Wish{}) {
		return nil, step.Refuse("choose at least one change to the pages")
	}
	refs, err := s.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	res := &step.Result{Redrawn: step.RedrawPages}
	reader := content.NewReader(doc)
	index := doc.PageIndexes(refs)
	var left leftOut
	var done []pdf.Ref
	var what scan.Found
	for i, ref := range refs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if !env.Wants(ref) {
			done = append(done, ref)
			continue
		}
		var f scan.Found
		err := inTurn(ctx, func() (err error) {
			f, err = straighten(ctx, doc, reader, ref, wish)
			return err
		})
		var not *errSheet
		switch {
		case errors.As(err, &not):
			left.add(not.why, index[i])
		case err != nil:
			return nil, err
		case f == scan.Found{}:
			left.add("nothing needs to be done", index[i])
		default:
			done = append(done, ref)
			what.Lid, what.Uneven = what.Lid || f.Lid, what.Uneven || f.Uneven
			if math.Abs(f.Skew) > math.Abs(what.Skew) {
				what.Skew = f.Skew
			}
		}
		env.Report(i+1, len(refs))
	}
	res.Warnings = left.tell(doc)
	if len(done) == 0 {
		why := "nothing needs to be done to these pages"
		if len(left.whys) > 0 && (len(left.whys) > 1 || left.whys[0] != "nothing needs to be done") {
			why = strings.Join(res.Warnings, " ")
		}
		return nil, step.Refuse("%s", strings.TrimSuffix(why, "."))
	}
	res.Pages, res.Show = env.Keys.Of(done), env.Keys.Key(done[0])
	var parts []string
	if what.Skew != 0 {
		one := fmt.Sprintf("straightened by up to %.1f degrees", math.Abs(what.Skew))
		if len(done) == 1 {
			one = fmt.Sprintf("straightened by %.1f degrees", math.Abs(what.Skew))
		}
		parts = append(parts, one)
	}
	if what.Lid {
		parts = append(parts, "dark edges removed")
	}
	if what.Uneven {
		parts = append(parts, "lighting evened out")
	}
	if len(parts) == 0 {
		parts = append(parts, "straightened and cleaned")
	}
	res.Sentence = step.Sentence(step.NamedIn(doc, doc.PageIndexes(done))) + " " + strings.Join(parts, ", ")
	return res, nil
}

// straighten does what is wished to one page; recognized text of it goes along.
func straighten(ctx context.Context, doc *pdf.Document, reader *content.Reader, ref pdf.Ref, wish scan.Wish) (scan.Found, error) {
	s, err := sheetOf(ctx, doc, reader, ref)
	if err != nil {
		return scan.Found{}, err
	}
	px, err := s.planes(doc)
	if err != nil {
		return scan.Found{}, err
	}
	to := s.toPage(px)
	gray := px.Gray()
	if len(px.Planes) == 1 {
		gray = &image.Gray{Pix: append([]uint8(nil), gray.Pix...), Stride: gray.Stride, Rect: gray.Rect}
	}
	var f scan.Found
	px.Planes, f = scan.Tidy(px.Planes, gray, wish)
	if f == (scan.Found{}) {
		return f, nil
	}
	u, _, layered := Layer(doc, ref)
	if err := s.swap(doc, px); err != nil {
		return f, err
	}
	if layered && f.Skew != 0 {
		turn(u, to, px.W(), px.H(), f.Skew)
		return f, draw.PutInvisible(doc, ref, u)
	}
	return f, nil
}

// turn moves a layer with a picture of w by h pixels that was set straight.
func turn(u *draw.Invisible, to pdf.Matrix, w, h int, degrees float64) {
	back := to.Invert()
	at := func(x, y float64) (float64, float64) {
		x, y = back.Apply(x, y)
		x, y = scan.Moved(w, h, degrees, x, y)
		return to.Apply(x, y)
	}
	for i := range u.Lines {
		l := &u.Lines[i]
		sin, cos := math.Sincos(l.Angle * math.Pi / 180)
		for k := range l.Words {
			word := &l.Words[k]
			x, y := at(word.X, word.Y)
			ex, ey := at(word.X+cos, word.Y+sin)
			if k == 0 {
				l.Angle = math.Round(math.Atan2(ey-y, ex-x)*180/math.Pi*20) / 20
			}
			word.X, word.Y = x, y
		}
	}
}
