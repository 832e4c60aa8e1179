package arrange

import (
	"context"
	"fmt"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/claim"
	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Sheets is the step "sheets": several pages on one side of a sheet, to print.
type Sheets struct {
	Pages   step.Pages  `json:"pages" required:"yes" help:"which pages; the sheets take the place of the first"`
	Kind    string      `json:"kind" enum:"grid,booklet" help:"pages in rows and columns, or a booklet: two on each side, to print double-sided and fold in the middle"`
	Columns int         `json:"columns" min:"1" max:"16" help:"columns of a grid"`
	Rows    int         `json:"rows" min:"1" max:"16" help:"rows of a grid"`
	Down    bool        `json:"down,omitempty" help:"down the columns, instead of along the rows"`
	Fold    string      `json:"fold" enum:"one stack,sets" labels:"one stack=all sheets together" help:"fold all sheets of a booklet together, or in sets that are bound side by side"`
	Set     int         `json:"set" min:"1" max:"64" help:"sheets in a set"`
	RTL     bool        `json:"rtl,omitempty" help:"read the booklet, or each row, from right to left"`
	Paper   string      `json:"paper" enum:"A3,A4,A5,Letter,Legal,as needed" labels:"as needed=large enough for the pages" help:"paper of the sheets; “as needed” fits the pages together"`
	Turned  string      `json:"turned" enum:"as fits,portrait,landscape" labels:"as fits=whichever fits" help:"paper orientation"`
	Margin  step.Length `json:"margin" min:"0" max:"400" help:"margin of the sheet"`
	Gap     step.Length `json:"gap" min:"0" max:"400" help:"gap between pages"`
	Frame   bool        `json:"frame,omitempty" help:"a thin line around each page"`
}

// mostOnSheet is how many pages one side of a sheet has.
const mostOnSheet = 64

// Fold gives the order of pages of a booklet of n pages, two on each side, left and right, front and back of each sheet in turn: indexes from 0, -1 for
// a place that stays empty. With four pages to a sheet, the outermost sheet has the last and the first page outside. per is how many sheets are
// folded together; 0 for all.
func Fold(n, per int) [][2]int {
	var out [][2]int
	if per == 0 {
		per = (n + 3) / 4
	}
	page := func(i int) int {
		if i >= n {
			return -1
		}
		return i
	}
	for from := 0; from < n; from += 4 * per {
		sheets := min(per, (n-from+3)/4)
		last := 4*sheets - 1
		for s := range sheets {
			out = append(out, [2]int{page(from + last - 2*s), page(from + 2*s)}, [2]int{page(from + 2*s + 1), page(from + last - 2*s - 1)})
		}
	}
	return out
}

// sides gives what stands on each side of the sheets, of n pages, by cell: along the rows from the upper left one; -1 for none.
func (s *Sheets) sides(n int) [][]int {
	var out [][]int
	if s.Kind == "booklet" {
		per := 0
		if s.Fold == "sets" {
			per = s.Set
		}
		for _, p := range Fold(n, per) {
			if s.RTL {
				p[0], p[1] = p[1], p[0]
			}
			out = append(out, p[:])
		}
		return out
	}
	each := s.Columns * s.Rows
	for from := 0; from < n; from += each {
		side := slices.Repeat([]int{-1}, each)
		for i := range min(each, n-from) {
			col, row := i%s.Columns, i/s.Columns
			if s.Down {
				col, row = i/s.Rows, i%s.Rows
			}
			if s.RTL {
				col = s.Columns - 1 - col
			}
			side[row*s.Columns+col] = from + i
		}
		out = append(out, side)
	}
	return out
}

// Apply puts the pages on sheets, which take their places. The sheets are for printing: comments and fields become part of the picture, links and tags go.
// Bookmarks lead to the sheets.
func (s *Sheets) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if _, err := doc.SplitSharedPages(); err != nil {
		return nil, err
	}
	refs, err := s.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	columns, rows := s.Columns, s.Rows
	if s.Kind == "booklet" {
		columns, rows = 2, 1
	}
	if columns*rows > mostOnSheet {
		return nil, step.Refuse("a side has room for %d pages at most", mostOnSheet)
	}
	if columns*rows == 1 {
		return nil, step.Refuse("the document already has one page on each sheet: choose more columns or rows")
	}
	var w, h float64 // the largest page
	for _, r := range refs {
		pw, ph := doc.Geometry(r).Seen()
		w, h = max(w, pw), max(h, ph)
	}
	W, H, err := s.paper(w, h, columns, rows)
	if err != nil {
		return nil, err
	}
	cw := (W - 2*float64(s.Margin) - float64(columns-1)*float64(s.Gap)) / float64(columns)
	ch := (H - 2*float64(s.Margin) - float64(rows-1)*float64(s.Gap)) / float64(rows)
	if cw < 5 || ch < 5 {
		return nil, step.Refuse("the margins leave no room for the pages")
	}
	at := doc.PageIndexes(refs)
	named := step.NamedIn(doc, at)
	keepLabels := nav.KeepLabels(doc)
	labels := nav.LabelsOf(doc, doc, at)
	links, comments, fields := annotations(doc, refs)
	forms := make([]pdf.Ref, len(refs))
	where := map[pdf.Ref]int{} // on which side
	sides := s.sides(len(refs))
	sheets := make([]pdf.Ref, len(sides))
	called := map[pdf.Ref]nav.Label{}
	for i, side := range sides {
		page, first := s.side(doc, refs, forms, side, W, H, cw, ch, columns)
		if page.err != nil {
			return nil, step.Refuse("the pages can’t be placed on sheets: %v", page.err)
		}
		sheets[i] = page.ref
		if labels != nil && first >= 0 {
			called[page.ref] = labels[first]
		}
		for _, n := range side {
			if n >= 0 {
				where[refs[n]] = i
			}
		}
	}
	// What led to the pages leads to their sheets.
	nav.Rewrite(doc, func(dest pdf.Array) pdf.Array {
		if len(dest) == 0 {
			return nil
		}
		r, _ := dest[0].(pdf.Ref)
		if i, ok := where[r]; ok {
			return pdf.Array{sheets[i], pdf.Name("Fit")}
		}
		return nil
	})
	gone := make(map[pdf.Ref]bool, len(refs))
	for _, r := range refs {
		gone[r] = true
	}
	tags, _ := structure.CutPages(doc, func(r pdf.Ref) bool { return gone[r] }, false)
	field.CutPages(doc, refs)
	var free []pdf.Ref
	for r := range annot.Only(doc, refs) {
		free = append(free, r)
	}
	slices.SortFunc(free, func(a, b pdf.Ref) int { return a.Num - b.Num })
	if err := doc.InsertPages(at[0], sheets); err != nil {
		return nil, err
	}
	nav.CutPages(doc, gone, true) // beads
	if err := doc.RemovePages(refs); err != nil {
		return nil, err
	}
	keepLabels(called)
	doc.Free(append(free, refs...)...)
	res := &step.Result{Moved: true, Created: sheets, Redrawn: step.RedrawPages, Pages: env.Keys.Of(refs)}
	if s.Frame {
		res.Adds = claim.Colour
	}
	for i := range sheets {
		res.Pages = append(res.Pages, step.Key{Step: env.Step, Ordinal: i + 1})
	}
	res.Show = step.Key{Step: env.Step, Ordinal: 1}
	s.said(res, named, sides, columns*rows)
	if lost := counted(links, "link", comments, "comment", fields, "form field", tags, "tag"); lost != "" {
		res.Warnings = append(res.Warnings, "Sheets are for printing: comments and fields are now fixed content, and links and tags were removed ("+lost+").")
	}
	if field.DropXFA(doc) {
		res.Warnings = append(res.Warnings, droppedXFA)
	}
	res.Warnings = append(res.Warnings, shiftPages(doc)...)
	return res, nil
}

// annotations counts what is on pages.
func annotations(doc *pdf.Document, refs []pdf.Ref) (links, comments, fields int) {
	for _, r := range refs {
		for _, a := range annot.Refs(doc, r) {
			switch doc.Name(doc.Dict(a).Get("Subtype")) {
			case "Link":
				links++
			case "Widget":
				fields++
			case "Popup":
			default:
				comments++
			}
		}
	}
	return links, comments, fields
}

// said tells what was put on sheets, each pages on a side.
func (s *Sheets) said(res *step.Result, named string, sides [][]int, each int) {
	res.Sentence = fmt.Sprintf("%s placed on %s, %d on each", step.Sentence(named), step.Count(len(sides), "sheet"), each)
	if s.Kind == "booklet" {
		res.Sentence = fmt.Sprintf("%s arranged as a booklet of %s", step.Sentence(named), step.Count((len(sides)+1)/2, "sheet"))
		empty := 0
		for _, side := range sides {
			for _, n := range side {
				if n < 0 {
					empty++
				}
			}
		}
		if empty > 0 {
			res.Warnings = append(res.Warnings, fmt.Sprintf("A sheet has four pages: %s at the end of the booklet %s empty.", step.Count(empty, "page"), plural(empty, "stays", "stay")))
		}
	}
}

// paper gives the size of the sheets.
func (s *Sheets) paper(w, h float64, columns, rows int) (W, H float64, err error) {
	needW := float64(columns)*w + float64(columns-1)*float64(s.Gap) + 2*float64(s.Margin)
	needH := float64(rows)*h + float64(rows-1)*float64(s.Gap) + 2*float64(s.Margin)
	if s.Paper == "as needed" {
		if needW > 14400 || needH > 14400 {
			return 0, 0, step.Refuse("the sheet would be larger than 200 inches, the most that programs show: choose a paper size")
		}
		return needW, needH, nil
	}
	p := pdf.Papers[s.Paper]
	W, H = p[0], p[1]
	if s.Turned == "landscape" || s.Turned == "as fits" && min(H/needW, W/needH) > min(W/needW, H/needH) {
		W, H = H, W
	}
	return W, H, nil
}

// made is a side that was made, or why it was not.
type made struct {
	ref pdf.Ref
	err error
}

// side makes one side of a sheet, and tells the first page on it in the order of reading.
func (s *Sheets) side(doc *pdf.Document, refs, forms []pdf.Ref, side []int, W, H, cw, ch float64, columns int) (made, int) {
	xobjects := pdf.NewDict()
	var c draw.Content
	first := -1
	for cell, n := range side {
		if n < 0 {
			continue
		}
		if first < 0 || n < first {
			first = n
		}
		if forms[n].IsZero() {
			form, err := draw.AsForm(doc, refs[n])
			if err != nil {
				return made{err: err}, 0
			}
			forms[n] = form
		}
		col, row := cell%columns, cell/columns
		x := float64(s.Margin) + float64(col)*(cw+float64(s.Gap))
		y := H - float64(s.Margin) - float64(row)*(ch+float64(s.Gap)) - ch
		g := doc.Geometry(refs[n])
		pw, ph := g.Seen()
		k := min(cw/pw, ch/ph)
		dx, dy := (cw-k*pw)/2, (ch-k*ph)/2
		if s.Kind == "booklet" { // pages meet at the fold
			dx = float64(1-col) * (cw - k*pw)
		}
		to := draw.Upright(g).Invert().Mul(pdf.Matrix{k, 0, 0, k, x + dx, y + dy})
		name := pdf.Name(fmt.Sprintf("Page%d", cell+1))
		xobjects.Set(name, forms[n])
		c.Op("q").Matrix(to).Op("Do", name).Op("Q")
		if s.Frame {
			c.Op("q").Op("RG", 0.62, 0.69, 0.65).Op("w", 0.5).Op("re", x+dx, y+dy, k*pw, k*ph).Op("S").Op("Q")
		}
	}
	page := pdf.NewDict("Type", pdf.Name("Page"), "MediaBox", pdf.Rect{X1: W, Y1: H}.Array(), "Resources", pdf.NewDict("XObject", xobjects),
		"Contents", doc.Add(pdf.NewFlateStream(pdf.NewDict(), c.Bytes())))
	return made{ref: doc.Add(page)}, first
}
