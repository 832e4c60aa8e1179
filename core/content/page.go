package content

import (
	"glenrain/core/font"
	"glenrain/core/pdf"
)

// Page is what the contents of a page, and its annotations, show. All places are in default user space: points, not
// rotated, whatever the page's Rotate says.
type Page struct {
	Ref         pdf.Ref
	Invocations []Invocation
	Marks       []MarkedContent
	Shows       []Show
	Glyphs      []Glyph
	Images      []ImageUse
	Paths       []PathUse
	Points      []Point // of the paths
	Rules       []Rule  // in the order in which they are painted; none where there are too many
	// Cut says that the page holds more than the limits allow; what was read until then is there.
	Cut bool

	states []State // the last of the blocks that snapshots are made in
}

// reset makes a page empty, to be filled again in the same memory.
func (p *Page) reset(ref pdf.Ref) {
	p.Ref, p.Cut = ref, false
	clear(p.Invocations)
	clear(p.Shows)
	p.Invocations, p.Marks, p.Shows, p.Glyphs = p.Invocations[:0], p.Marks[:0], p.Shows[:0], p.Glyphs[:0]
	p.Images, p.Paths, p.Points, p.Rules, p.states = p.Images[:0], p.Paths[:0], p.Points[:0], p.Rules[:0], nil
}

// full reports whether the page holds all that the limits allow.
func (p *Page) full() bool {
	return len(p.Glyphs) > maxGlyphs || len(p.Shows) > maxMade || len(p.Marks) > maxMade || len(p.Images) > maxMade ||
		len(p.Paths) > maxPaths || len(p.Points) > maxPoints
}

// BodyKind is what a content stream belongs to.
type BodyKind uint8

// The kinds of bodies (7.8.2).
const (
	PageBody BodyKind = iota
	FormBody
	AppearanceBody
	PatternBody
	GlyphBody // a glyph of a Type 3 font
)

// Body is a decoded content stream; a page's are joined with a line feed between them.
type Body struct {
	Data  []byte
	Parts []Span
}

// Span is one stream of a body and the bytes it takes there.
type Span struct {
	Ref        pdf.Ref
	Start, End int
}

// Invocation is one run of a body: the page itself, or what a Do, a pattern or an annotation draws. They are a
// tree; patches go from its leaves up.
type Invocation struct {
	Kind       BodyKind
	Body       *Body
	Ref        pdf.Ref  // of the form, pattern or appearance stream
	Name       pdf.Name // under which the parent's resources have it
	Parent     int      // -1 for the page and for appearances
	Start, End int      // the operator in the parent's body that draws it; of a pattern, with the path that it paints
	Matrix     pdf.Matrix
	Resources  *pdf.Dict
	Annotation pdf.Ref
	Paint      Paint // of a pattern, the colour that it is
	Stroke     bool  // of a pattern: for stroking
}

// State is what of the graphics state text and pictures are shown with (8.4, 9.3). It is shared and never changed.
type State struct {
	CTM          pdf.Matrix // to default user space
	Font         *font.Font
	FontName     pdf.Name
	Size         float64 // Tfs
	CharSpace    float64 // Tc
	WordSpace    float64 // Tw
	Scale        float64 // Tz / 100
	Leading      float64 // TL
	Rise         float64 // Ts
	Render       int     // Tr
	LineWidth    float64
	Fill, Stroke Paint
	Alpha        float64  // of filling (ca); 1 where nothing says otherwise
	Clip         pdf.Rect // around the clipping path; only where paths are asked for
}

// Paint is a colour: its space and components.
type Paint struct {
	Space   pdf.Object // a name or an array, nil for DeviceGray
	Values  [4]float64
	N       int      // how many of Values there are; 0 for the space's first colour
	Pattern pdf.Name // of a Pattern space
}

// MarkedContent is marked content (14.6) that was open somewhere.
type MarkedContent struct {
	Tag        pdf.Name
	Props      *pdf.Dict
	MCID       int // -1 without
	Parent     int // -1 at the outside
	Invocation int
	Start      int  // of BMC or BDC
	Hidden     bool // by optional content that is off, here or outside
}

// Show is one operator that shows text.
type Show struct {
	Invocation int
	Code       Code
	Start, End int // of the operator and its operands, in its body
	At         int // of the keyword
	State      *State
	Line       pdf.Matrix // the text line matrix before
	Before     pdf.Matrix // the text matrix before the first glyph
	After      pdf.Matrix // and after the last
	First, N   int        // its glyphs
	Mark       int        // innermost marked content; -1 outside any
	Hidden     bool       // by optional content that is off
	// Along is the direction of the baseline (unit vector on the page) and Up the vector of one em upwards from it.
	Along, Up [2]float64
}

// Glyph is one shown code.
type Glyph struct {
	X, Y float64 // its origin
	// EX and EY are where it ends: its origin moved by its width, without spacing.
	EX, EY float64
	Char   *font.Char
	Show   int32
	Item   int32 // which operand of a TJ array; 0 for other operators
	Byte   int32 // where in the operand's decoded bytes it begins
}

// Box gives the smallest upright rectangle around a glyph's cell: from its origin to its end, from the font's descent to its ascent.
func (p *Page) Box(g *Glyph) pdf.Rect {
	sh := &p.Shows[g.Show]
	up, down := 0.75, -0.25
	if f := sh.State.Font; f != nil {
		up, down = f.Ascent, f.Descent
	}
	out := pdf.Rect{X0: g.X, Y0: g.Y, X1: g.X, Y1: g.Y}
	for _, at := range [4][2]float64{{g.X + up*sh.Up[0], g.Y + up*sh.Up[1]}, {g.X + down*sh.Up[0], g.Y + down*sh.Up[1]},
		{g.EX + up*sh.Up[0], g.EY + up*sh.Up[1]}, {g.EX + down*sh.Up[0], g.EY + down*sh.Up[1]}} {
		out.X0, out.Y0, out.X1, out.Y1 = min(out.X0, at[0]), min(out.Y0, at[1]), max(out.X1, at[0]), max(out.Y1, at[1])
	}
	return out
}

// OnPage reports whether any of a glyph's cell lies in the visible part of the page.
func (p *Page) OnPage(g *Glyph, visible pdf.Rect) bool {
	if g.X >= visible.X0 && g.X <= visible.X1 && g.Y >= visible.Y0 && g.Y <= visible.Y1 {
		return true
	}
	b := p.Box(g)
	return b.X1 > visible.X0 && b.X0 < visible.X1 && b.Y1 > visible.Y0 && b.Y0 < visible.Y1
}

// ImageUse is one drawing of a picture.
type ImageUse struct {
	Invocation int
	Start, End int
	Name       pdf.Name
	Ref        pdf.Ref // zero for an inline image
	Inline     *Inline
	Matrix     pdf.Matrix // the unit square to the page
	State      *State
	Mark       int
	Hidden     bool
}

// PathUse is one painted path.
type PathUse struct {
	Invocation int
	Start, End int // from the first construction operator to behind the painting operator
	Paint      Code
	Bounds     pdf.Rect
	First, N   int // its points
	State      *State
	Mark       int
	Hidden     bool
}

// Fills reports whether the path's inside is painted, Strokes whether its line is.
func (p PathUse) Fills() bool {
	switch p.Paint {
	case opf, opF, opfstar, opB, opBstar, opb, opbstar:
		return true
	}
	return false
}

// Strokes reports whether the path's line is painted.
func (p PathUse) Strokes() bool {
	switch p.Paint {
	case opS, ops, opB, opBstar, opb, opbstar:
		return true
	}
	return false
}

// Point is a point of a path on the page.
type Point struct {
	X, Y float64
	Op   PointOp
}

// PointOp is how a path comes to a point.
type PointOp uint8

// A curve has three points: two controls and its end.
const (
	MoveTo PointOp = iota
	LineTo
	CurveTo
	Close
)
