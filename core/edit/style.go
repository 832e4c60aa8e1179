package edit

import (
	"math"
	"slices"
	"strings"

	"glenrain/core/claim"
	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// style is what of a character's look is not that of the operator which shows it.
type style struct {
	face          string // one of the shipped families, or a face of the house; "" is the font that is there
	bold, italic  string // "yes", "no"; "" as it is
	under, strike string
	size          float64 // points; 0 as it is
	colour        *[3]float64
	opacity       float64 // 0 to 1; negative as it is
	spacing       float64 // points between letters
	level         string  // "raised", "lowered"; "" as it is
}

// Look is what a stretch of text is to look like; what is empty stays.
type Look struct {
	Face      string      `json:"face,omitempty" help:"the font: Sans, Serif, Mono, or one of the office’s own"`
	Size      step.Length `json:"size,omitempty" min:"0" max:"1000" help:"size of the letters"`
	Bold      string      `json:"bold,omitempty" enum:",yes,no" labels:"=unchanged" help:"bold"`
	Italic    string      `json:"italic,omitempty" enum:",yes,no" labels:"=unchanged" help:"italic"`
	Underline string      `json:"underline,omitempty" enum:",yes,no" labels:"=unchanged" help:"underline"`
	Strike    string      `json:"strike,omitempty" enum:",yes,no" labels:"=unchanged" help:"strikethrough"`
	Colour    string      `json:"colour,omitempty" help:"colour: #rrggbb or the name of an office colour"`
	Opacity   float64     `json:"opacity,omitempty" min:"0" max:"100" help:"opacity of the colour, per cent"`
	Spacing   string      `json:"spacing,omitempty" help:"extra space between letters, such as 0.5 pt"`
	Level     string      `json:"level,omitempty" enum:",raised,lowered,level" labels:"=unchanged,raised=superscript,lowered=subscript,level=on the line" help:"superscript or subscript"`
}

func (l *Look) empty() bool { return *l == Look{} }

// adds tells what a look brings into a document that a standard may not allow for.
func (l *Look) adds() (e claim.Effect) {
	if l.Colour != "" {
		e |= claim.Colour
	}
	if l.Opacity != 0 && l.Opacity < 100 {
		e |= claim.Transparency
	}
	return e
}

// Bounds of what text can be made to look like.
const (
	raisedBy   = 0.33 // em
	loweredBy  = 0.16
	raisedSize = 0.66 // of the size
	mostSize   = 1000 // points
	mostSpaced = 72   // points
)

// over gives a style with what a look says laid over it.
func (l *Look) over(was *style, p *para) (*style, error) {
	s := style{opacity: -1}
	if was != nil {
		s = *was
	}
	set := func(to *string, v string) {
		if v != "" {
			*to = v
		}
	}
	set(&s.face, l.Face)
	set(&s.bold, l.Bold)
	set(&s.italic, l.Italic)
	set(&s.under, l.Underline)
	set(&s.strike, l.Strike)
	set(&s.level, l.Level)
	if l.Face != "" && !slices.Contains(Families(), l.Face) && p.fontNamed(l.Face, -1) == nil {
		return nil, step.Refuse("there is no font named “%s” here", l.Face)
	}
	if l.Size != 0 {
		if l.Size < 1 || l.Size > mostSize {
			return nil, step.Refuse("letters can be 1 to %d pt large", mostSize)
		}
		s.size = float64(l.Size)
	}
	if l.Colour != "" {
		r, g, b, err := step.Colour(l.Colour).RGB()
		if err != nil {
			return nil, err
		}
		s.colour = &[3]float64{r, g, b}
	}
	if l.Opacity != 0 {
		if l.Opacity < 0 || l.Opacity > 100 {
			return nil, step.Refuse("opacity can be 1 to 100 per cent")
		}
		s.opacity = l.Opacity / 100
	}
	if l.Spacing != "" {
		v, err := step.ParseLength(l.Spacing)
		if err != nil {
			return nil, err
		}
		if math.Abs(float64(v)) > mostSpaced {
			return nil, step.Refuse("letter spacing can be up to %d pt", mostSpaced)
		}
		s.spacing = float64(v)
	}
	return &s, nil
}

// Families are the faces that text can be set in here: those that ship with the program, and those of the house.
func Families() []string { return append([]string{"Sans", "Serif", "Mono"}, font.OwnFaces()...) }

// refits reports whether letters have to be shown by other glyphs, or at another size.
func (s *style) refits() bool {
	return s != nil && (s.face != "" || s.bold != "" || s.italic != "" || s.size != 0 || s.level == "raised" || s.level == "lowered")
}

// dress gives the characters from one place to another a look.
func (p *para) dress(from, to int, l *Look) error {
	if l.empty() {
		return nil
	}
	var chars []char
	last, lastStyle := (*style)(nil), (*style)(nil)
	for i := range p.chars {
		c := p.chars[i]
		if i < from || i >= to {
			chars = append(chars, c)
			continue
		}
		if lastStyle == nil || c.style != last {
			s, err := l.over(c.style, p)
			if err != nil {
				return err
			}
			last, lastStyle = c.style, s
		}
		if l.Level != "" {
			c.up = c.level0(p)
			size := p.sizeOf(&c, lastStyle)
			switch l.Level {
			case "raised":
				c.up += raisedBy * size
			case "lowered":
				c.up -= loweredBy * size
			}
		}
		c.style = lastStyle
		if lastStyle.refits() && !c.space {
			if c.text == "" && !c.soft { // a piece of the letter before it
				continue
			}
			c.glyph, c.code, c.other = -1, nil, nil
			for _, r := range c.text {
				one := c
				one.text = string(r)
				chars = append(chars, one)
			}
			continue
		}
		if c.space && !c.fixed {
			c.glyph = -1
		}
		chars = append(chars, c)
	}
	p.chars = chars
	return nil
}

// level0 is the height at which a character stands that is neither raised nor lowered.
func (c *char) level0(p *para) float64 {
	if c.style != nil && (c.style.level == "raised" || c.style.level == "lowered") {
		return 0
	}
	if math.Abs(c.up) > 0.15*p.size { // it was raised as it came
		return 0
	}
	return c.up
}

// sizeOf is how large a character is set, in points, but for its being raised.
func (p *para) sizeOf(c *char, s *style) float64 {
	if s != nil && s.size != 0 {
		return s.size
	}
	sh := &p.page.Shows[c.show]
	own := sh.State.Size * unit(sh)
	if s != nil && s.level == "level" && own < 0.85*p.size { // it was raised as it came, and smaller for that
		return p.size
	}
	return own
}

// target is how characters of one style in one font are shown.
type target struct {
	own  *font.Font // one of the document's
	name pdf.Name   // under which its content has it
	face string     // of those that are here
}

// targetOf finds it; the font of the operator itself where nothing says otherwise.
func (p *para) targetOf(c *char, f *faces) target {
	sh := &p.page.Shows[c.show]
	of, s := sh.State.Font, c.style
	if s == nil || s.face == "" && s.bold == "" && s.italic == "" {
		return target{own: of, name: sh.State.FontName}
	}
	bold, italic := of.Style.Weight >= 600, of.Style.Italic
	if s.bold != "" {
		bold = s.bold == "yes"
	}
	if s.italic != "" {
		italic = s.italic == "yes"
	}
	if s.face != "" {
		if slices.Contains(Families(), s.face) {
			return target{face: faceName(s.face, bold, italic)}
		}
		if o := p.fontNamed(s.face, sh.Invocation); o != nil { // one of the document's own
			if s.bold == "" && s.italic == "" || (o.State.Font.Style.Weight >= 600) == bold && o.State.Font.Style.Italic == italic {
				return target{own: o.State.Font, name: o.State.FontName}
			}
		}
		if o := p.fontNamed(s.face, -1); o != nil { // which can't be named there
			of = o.State.Font
			return target{face: faceName(likeness(of), bold, italic)}
		}
	}
	if bold == (of.Style.Weight >= 600) && italic == of.Style.Italic {
		return target{own: of, name: sh.State.FontName}
	}
	stem := family(of.Name)
	for i := range p.page.Shows { // the document's own bold, where this content has it
		o := &p.page.Shows[i]
		g := o.State.Font
		if o.Invocation == sh.Invocation && g != nil && o.State.FontName != "" && !g.Vertical && (g.Style.Weight >= 600) == bold && g.Style.Italic == italic && family(g.Name) == stem {
			return target{own: g, name: o.State.FontName}
		}
	}
	return target{face: faceName(likeness(of), bold, italic)}
}

// fontNamed finds an operator of the page that shows text in a font of a name: of an invocation, or of any for -1.
func (p *para) fontNamed(name string, invocation int) *content.Show {
	for i := range p.page.Shows {
		o := &p.page.Shows[i]
		if f := o.State; f != nil && f.Font != nil && f.Font.Name == name && f.FontName != "" && !f.Font.Vertical && (invocation < 0 || o.Invocation == invocation) {
			return o
		}
	}
	return nil
}

// family is the name of a font without what says how bold or slanted it is.
func family(name string) string {
	s := strings.ToLower(name)
	for _, w := range []string{"bolditalic", "boldoblique", "semibold", "demibold", "bold", "italic", "oblique", "regular", "roman", "medium", "mt", "ps"} {
		s = strings.ReplaceAll(s, w, "")
	}
	return strings.NewReplacer(" ", "", "-", "", ",", "", "_", "").Replace(s)
}

// likeness gives the shipped family that is nearest to a font.
func likeness(f *font.Font) string {
	switch {
	case f.Style.Fixed:
		return "Mono"
	case f.Style.Serif:
		return "Serif"
	}
	return "Sans"
}

// faceName names the face of a family that is bold, or italic; a face of the house is only what it is.
func faceName(of string, bold, italic bool) string {
	if of != "Sans" && of != "Serif" && of != "Mono" {
		return of
	}
	if bold {
		of += " Bold"
	}
	if italic {
		of += " Italic"
	}
	return of
}

// restorable reports whether the colour of an operator can be set again behind words of another.
func (p *para) restorable(show int32) bool {
	sh := &p.page.Shows[show]
	_, ok := sh.State.Fill.Set(p.doc, p.page.Invocations[sh.Invocation].Resources, false)
	return ok
}

// alpha is how opaque an operator fills.
func alpha(st *content.State) float64 {
	if st.Alpha < 0 || st.Alpha > 1 {
		return 1
	}
	return st.Alpha
}
