package arrange

import (
	"context"
	"fmt"

	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Sheet is what a blank page is: its paper, and how it is ruled.
type Sheet struct {
	Paper   string      `json:"paper" enum:"like its neighbour,A3,A4,A5,A6,Letter,Legal,own size" labels:"like its neighbour=same as the neighbouring page,own size=custom size" help:"which paper"`
	Turned  string      `json:"turned" enum:"portrait,landscape" help:"paper orientation, if it differs from the neighbouring page"`
	Width   step.Length `json:"width,omitempty" min:"0" max:"14400" help:"width of a custom size"`
	Height  step.Length `json:"height,omitempty" min:"0" max:"14400" help:"height of a custom size"`
	Ruling  string      `json:"ruling" enum:"plain,lines,squares,dots" help:"plain, or ruled for writing"`
	Spacing step.Length `json:"spacing" min:"4" max:"200" help:"distance between lines, squares or dots"`
	Border  step.Length `json:"border" min:"0" max:"400" help:"margin of a ruled page"`
	Colour  step.Colour `json:"colour" help:"colour of the ruling"`
}

const mm = pdf.MM

func usualSheet() Sheet {
	return Sheet{Paper: "like its neighbour", Turned: "portrait", Ruling: "plain", Spacing: 5 * mm, Border: 10 * mm, Colour: "#9fb0a6"}
}

// size gives the width and height of the sheet, in points, where like is the page beside it.
func (s *Sheet) size(doc *pdf.Document, like pdf.Ref) (w, h float64, err error) {
	switch s.Paper {
	case "like its neighbour":
		w, h = doc.Geometry(like).Seen()
		return w, h, nil
	case "own size":
		if s.Width < 10 || s.Height < 10 {
			return 0, 0, step.Refuse("a custom size needs a width and a height of at least 10 points")
		}
		return float64(s.Width), float64(s.Height), nil
	}
	p := pdf.Papers[s.Paper]
	if s.Turned == "landscape" {
		p[0], p[1] = p[1], p[0]
	}
	return p[0], p[1], nil
}

// sheets makes blank pages, which stand nowhere yet: like[i] is the page beside the one at i. Sheets of one size share their content.
func (s *Sheet) sheets(doc *pdf.Document, like []pdf.Ref) ([]pdf.Ref, error) {
	type size struct{ w, h float64 }
	ruled := map[size]pdf.Ref{}
	out := make([]pdf.Ref, len(like))
	for i, near := range like {
		w, h, err := s.size(doc, near)
		if err != nil {
			return nil, err
		}
		page := pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Rect{X1: w, Y1: h}.Array(), "Resources", pdf.NewDict())
		if s.Ruling != "plain" {
			c, ok := ruled[size{w, h}]
			if !ok {
				data, err := s.rule(w, h)
				if err != nil {
					return nil, err
				}
				c = doc.Add(pdf.NewFlateStream(pdf.NewDict(), data))
				ruled[size{w, h}] = c
			}
			page.Set("Contents", c)
		}
		out[i] = doc.Add(page)
	}
	return out, nil
}

// mostRuled is how many lines or dots a sheet has at most.
const mostRuled = 200_000

// rule draws the ruling, as an artifact: nobody has to hear it (14.8.2.2).
func (s *Sheet) rule(w, h float64) ([]byte, error) {
	r, g, b, err := s.Colour.RGB()
	if err != nil {
		return nil, err
	}
	step1, edge := float64(s.Spacing), float64(s.Border)
	nx, ny := int(min((w-2*edge)/step1+1e-6, 1e9)), int(min((h-2*edge)/step1+1e-6, 1e9))
	if nx < 1 || ny < 1 {
		return nil, step.Refuse("the sheet is too small for that ruling: no line fits between its borders")
	}
	many := map[string]float64{"lines": float64(ny), "squares": float64(nx) + float64(ny), "dots": float64(nx) * float64(ny)}[s.Ruling]
	if many > mostRuled || w > 14400 || h > 14400 {
		return nil, step.Refuse("the sheet is too large for that ruling: it would have more than %s %s", step.Thousands(mostRuled), map[bool]string{true: "dots", false: "lines"}[s.Ruling == "dots"])
	}
	// The ruling stands in the middle of what the borders leave.
	x0, y0 := (w-float64(nx)*step1)/2, (h-float64(ny)*step1)/2
	x1, y1 := x0+float64(nx)*step1, y0+float64(ny)*step1
	var c draw.Content
	c.Op("BMC", pdf.Name("Artifact")).Op("q").Op("RG", r, g, b)
	line := func(xa, ya, xb, yb float64) { c.Op("m", xa, ya).Op("l", xb, yb) }
	switch s.Ruling {
	case "lines":
		c.Op("w", 0.5)
		for i := range ny + 1 {
			y := y1 - float64(i)*step1
			line(edge, y, w-edge, y)
		}
	case "squares":
		c.Op("w", 0.35)
		for i := range ny + 1 {
			line(x0, y0+float64(i)*step1, x1, y0+float64(i)*step1)
		}
		for i := range nx + 1 {
			line(x0+float64(i)*step1, y0, x0+float64(i)*step1, y1)
		}
	case "dots": // lines of no length with round ends
		c.Op("w", 1.2).Op("J", 1)
		for k := range ny + 1 {
			for i := range nx + 1 {
				x, y := x0+float64(i)*step1, y0+float64(k)*step1
				line(x, y, x, y)
			}
		}
	}
	c.Op("S").Op("Q").Op("EMC")
	return c.Bytes(), nil
}

// Blank is the step "blank".
type Blank struct {
	To    step.Place `json:"to" help:"where: before this page, or at the end"`
	Count int        `json:"count" min:"1" max:"1000" help:"how many"`
	Sheet
}

// Apply inserts blank pages.
func (b *Blank) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	at, err := b.To.Index(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	near := all[max(0, min(at, len(all))-1)].Ref // the one ahead of them
	like := make([]pdf.Ref, b.Count)
	for i := range like {
		like[i] = near
	}
	where := "at the end"
	if at < len(all) {
		where = "before " + step.NamedIn(doc, []int{at})
	}
	places := make([]int, b.Count)
	for i := range places {
		places[i] = at
	}
	res, err := b.put(doc, env, places, like)
	if err != nil {
		return nil, err
	}
	res.Sentence = fmt.Sprintf("%s inserted %s", b.counted(b.Count), where)
	return res, nil
}

// counted says how many of such sheets: "2 blank pages".
func (s *Sheet) counted(n int) string {
	if s.Ruling == "plain" {
		return step.Count(n, "blank page")
	}
	return step.Count(n, "page") + " ruled with " + s.Ruling
}

// put inserts a sheet ahead of the page that stands at each of the indexes, which are ascending and of the document as it is.
func (s *Sheet) put(doc *pdf.Document, env *step.Env, places []int, like []pdf.Ref) (*step.Result, error) {
	keepLabels := nav.KeepLabels(doc)
	pages, err := s.sheets(doc, like)
	if err != nil {
		return nil, err
	}
	called := map[pdf.Ref]nav.Label{}
	if labels := nav.Labels(doc); labels != nil {
		for i, at := range places {
			n := 0
			for n < i && places[i-1-n] == at {
				n++
			}
			called[pages[i]] = nav.Between(labels, at, n)
		}
	}
	for i := len(places) - 1; i >= 0; i-- {
		if err := doc.InsertPages(places[i], pages[i:i+1]); err != nil {
			return nil, err
		}
	}
	keepLabels(called)
	res := &step.Result{Moved: true, Created: pages, Redrawn: step.RedrawPages}
	if s.Ruling != "plain" {
		res.Adds = claim.Colour
	}
	for i := range pages {
		res.Pages = append(res.Pages, step.Key{Step: env.Step, Ordinal: i + 1})
	}
	res.Show = res.Pages[0]
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, droppedXFA)
	}
	res.Warnings = append(res.Warnings, shiftPages(doc)...)
	return res, nil
}

// BlankOdd is the step "blank-odd": for printing on both sides, each part begins on the front of a sheet.
type BlankOdd struct {
	Starts
	Sheet
}

// Starts says where parts begin.
type Starts struct {
	Pages step.Pages `json:"starts" help:"the first pages of parts; or give a level of bookmarks"`
	Level int        `json:"level,omitempty" min:"0" max:"64" help:"parts begin at bookmarks down to this level: 1 is the top"`
}

// at gives the indexes of the pages on which parts begin, ascending, each once.
func (s Starts) at(doc *pdf.Document, env *step.Env) ([]int, error) {
	switch {
	case s.Level > 0:
		at := nav.Starts(doc, s.Level)
		if len(at) == 0 {
			return nil, step.Refuse("no bookmark of that level has a target page")
		}
		return at, nil
	case s.Pages.IsZero():
		return nil, step.Refuse("choose where parts begin: select their first pages, or a level of bookmarks")
	}
	return s.Pages.Resolve(doc, env.Keys)
}

// Apply puts a blank page ahead of each part that would begin on an even page.
func (b *BlankOdd) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	starts, err := b.at(doc, env)
	if err != nil {
		return nil, err
	}
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	var places []int
	var like []pdf.Ref
	for _, at := range starts {
		if (at+len(places))%2 == 1 { // from 0: it would stand on an even page
			places = append(places, at)
			like = append(like, all[at-1].Ref)
		}
	}
	if len(places) == 0 {
		return nil, step.Refuse("each part already begins on an odd page")
	}
	res, err := b.put(doc, env, places, like)
	if err != nil {
		return nil, err
	}
	res.Sentence = fmt.Sprintf("%s inserted, so that each of %s begins on an odd page", b.counted(len(places)), step.Count(len(starts), "part"))
	return res, nil
}
