package furnish

import (
	"fmt"
	"time"

	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Kind is one kind of furnishing.
type Kind struct {
	Name      string // in the file; stable
	Title     string // for people: "Page numbers"
	OutOfDate string // what is said of one that is: "Page numbers are out of date: update them before you export." without its end
	Them      string // "it" or "them"
	Since     string // what made it so: "pages have changed"
	Left      string // a warning of what stays where it is removed; may be empty
	Read      func(values []byte) (Rule, error)
}

// table has the kinds there are.
var table = []Kind{
	{Name: kindNumbers, Title: "Page numbers", OutOfDate: "Page numbers are out of date", Them: "them", Since: "pages have changed", Read: func(values []byte) (Rule, error) { return readNumbers(values) }},
	{Name: kindContents, Title: "Contents", OutOfDate: "The table of contents is out of date", Them: "it", Since: "bookmarks or pages have changed", Left: "Its pages are blank now: remove them in Arrange if you don’t need them.",
		Read: func(values []byte) (Rule, error) { return readContents(values) }},
}

// kindOf gives the row of a kind; one that says little where there is none, as of a newer version.
func kindOf(name string) *Kind {
	for i := range table {
		if table[i].Name == name {
			return &table[i]
		}
	}
	return &Kind{Name: name, Title: "Furnishing", OutOfDate: "Something on the pages is out of date", Them: "it", Since: "the document has changed", Read: func([]byte) (Rule, error) {
		return nil, step.Refuse("you can’t change this, because it comes from a newer version of Glenrain")
	}}
}

// Rule is a furnishing's values: they say which pages it is for, what it draws there and where.
type Rule interface {
	// On is the page set it is for; not asked where the furnishing names pages singly (draw.Placed.Pages).
	On() step.Pages
	// Plan says what stands on the pages at those indexes, which are ascending, in the order in which it is drawn; work on a page is only done where g.Wants agrees.
	Plan(g *Ground, at []int) (map[pdf.Ref][]Item, error)
	// Painter prepares for drawing.
	Painter(g *Ground) (Painter, error)
	// Adds is what drawing it brings in that a standard may not allow.
	Adds() claim.Effect
}

// Painter draws items.
type Painter interface {
	// Form gives the form XObject of an item. Items that are alike (Item.form) share one.
	Form(it Item) (pdf.Ref, error)
	// Finish is called at the end and gives warnings.
	Finish() []string
}

// Ground is the document that is furnished, and what a rule may write of it.
type Ground struct {
	Doc  *pdf.Document
	Now  time.Time          // of the step
	Name string             // of the document, as its file is called, without the ending
	Uses map[string]pdf.Ref // objects that the furnishing keeps: pictures, fonts of the office's own

	wants func(pdf.Ref) bool
}

// Wants reports whether work on a page is asked for.
func (g *Ground) Wants(page pdf.Ref) bool { return g.wants == nil || g.wants(page) }

// Title is the title in the document's properties; its name where there is none.
func (g *Ground) Title() string {
	if s, ok := g.Doc.Resolve(g.Doc.Dict(g.Doc.Trailer().Get("Info")).Get("Title")).(pdf.String); ok && pdf.Text(s) != "" {
		return pdf.Text(s)
	}
	return g.Name
}

// Item is one thing to draw on a page: the form's origin comes to At, and W by H points from there along the form's axes are taken.
type Item struct {
	Text  string // what it says, or is made of
	Look  string // whatever else its form depends on; empty where that is the same in all of a rule
	At    pdf.Matrix
	W, H  float64
	Loose bool       // it may lie over the edge of the page
	Stamp draw.Stamp // how it is attached: to which edge, over or under the page's own content
	Links []Link
}

// Link is a link that goes with what is drawn.
type Link struct {
	Rect pdf.Rect // in default user space
	Dest pdf.Array
	Said string
}

// Grower is a rule with pages of its own, which may need more of them.
type Grower interface {
	Grow(doc *pdf.Document, p *draw.Placed) (created []pdf.Ref, err error)
}

// ofHeight is how much of an item's height its text takes above its line.
const ofHeight = 0.8

// upright is the rectangle that an item takes on the page as it is seen, in points from its lower left corner.
func (it Item) upright(g pdf.Geometry) pdf.Rect {
	return it.At.Mul(draw.Upright(g).Invert()).Bounds(pdf.Rect{X1: it.W, Y1: it.H * ofHeight})
}

// fits reports whether all of it stands on what is seen of the page.
func (it Item) fits(g pdf.Geometry) bool {
	const slack = 0.5
	w, h := g.Seen()
	r := it.upright(g)
	return it.Loose || r.X0 >= -slack && r.Y0 >= -slack && r.X1 <= w+slack && r.Y1 <= h+slack
}

// form is what the form depends on.
func (it Item) form() [2]string { return [2]string{it.Text, it.Look} }

// made is kept beside what was drawn: whatever would be drawn otherwise has another one.
func (it Item) made() string {
	if it.Look == "" {
		return it.Text + " @ " + it.At.String()
	}
	return fmt.Sprintf("%s @ %s, %s", it.Text, it.At.String(), it.Look)
}
