package nav

import (
	"fmt"
	"strconv"
	"strings"

	"glenrain/core/pdf"
)

// Path names a bookmark by its place: "2.1" is the first below the second at the top.
type Path []int

// ParsePath reads a path; empty is the place above all bookmarks.
func ParsePath(s string) (Path, error) {
	var out Path
	if strings.TrimSpace(s) == "" {
		return nil, nil
	}
	for part := range strings.SplitSeq(s, ".") {
		n, err := strconv.Atoi(strings.TrimSpace(part))
		if err != nil || n < 1 || len(out) >= maxDepth {
			return nil, fmt.Errorf("%q isn’t the place of a bookmark: type it like 2.1", s)
		}
		out = append(out, n)
	}
	return out, nil
}

// String writes it.
func (p Path) String() string {
	parts := make([]string, len(p))
	for i, n := range p {
		parts[i] = strconv.Itoa(n)
	}
	return strings.Join(parts, ".")
}

// Below reports whether p is under, or lies below it.
func (p Path) Below(under Path) bool {
	if len(p) < len(under) {
		return false
	}
	for i, n := range under {
		if p[i] != n {
			return false
		}
	}
	return true
}

// At gives the bookmark of a path, the list that it stands in, and its index there.
func At(items *[]*Item, p Path) (list *[]*Item, i int, ok bool) {
	list = items
	for k, n := range p {
		if n > len(*list) {
			return nil, 0, false
		}
		if k == len(p)-1 {
			return list, n - 1, true
		}
		list = &(*list)[n-1].Kids
	}
	return nil, 0, false
}

// Leads gives the page that a bookmark leads to; zero where it leads nowhere in the document. does tells whether it does anything: something
// else than leading to a page, where the page is zero.
func (it *Item) Leads(doc *pdf.Document) (page pdf.Ref, does bool) {
	if it.Dest != nil {
		if r := Target(doc, it.Dest); !r.IsZero() && doc.PageIndex(r) >= 0 {
			return r, true
		}
		return pdf.Ref{}, false
	}
	return pdf.Ref{}, doc.Dict(doc.Dict(it.ref).Get("A")) != nil
}

// Lost reports whether a bookmark should lead somewhere and does not: a heading over others may lead nowhere.
func (it *Item) Lost(doc *pdf.Document) bool {
	_, does := it.Leads(doc)
	return !does && (it.Dest != nil || len(it.Kids) == 0)
}

// New makes a bookmark, which stands nowhere yet.
func New(doc *pdf.Document, title string, dest pdf.Array) *Item {
	d := pdf.NewDict("Title", pdf.TextString(title))
	if dest != nil {
		d.Set("Dest", dest)
	}
	return &Item{Title: title, Dest: dest, ref: doc.Add(d)}
}

// Rename gives a bookmark another title.
func (it *Item) Rename(doc *pdf.Document, title string) {
	it.Title = title
	doc.Edit(it.ref).Set("Title", pdf.TextString(title))
}

// Aim has a bookmark lead to a place, whatever it did before.
func (it *Item) Aim(doc *pdf.Document, dest pdf.Array) {
	it.Dest = dest
	d := doc.Edit(it.ref)
	d.Delete("A")
	d.Delete("SE")
	d.Set("Dest", dest)
}

// Write makes items the document's bookmarks. Those of gone that are not among them any more are freed.
func Write(doc *pdf.Document, items []*Item, gone ...*Item) {
	if len(items) == 0 {
		doc.Edit(doc.Root()).Delete("Outlines")
	} else {
		link(doc, ownRoot(doc), items, true)
	}
	var free []pdf.Ref
	var walk func([]*Item)
	walk = func(list []*Item) {
		for _, it := range list {
			free = append(free, it.ref)
			walk(it.Kids)
		}
	}
	walk(gone)
	doc.Free(free...)
}

// Place is a destination that shows a page from a height on, in default user space (12.3.2.2).
func Place(page pdf.Ref, top float64) pdf.Array {
	return pdf.Array{page, pdf.Name("XYZ"), nil, pdf.Real(top), nil}
}

// Height gives the height that a destination shows a page from, where it says one.
func Height(doc *pdf.Document, o pdf.Object) (float64, bool) {
	dest := Explicit(doc, o)
	if len(dest) < 2 {
		return 0, false
	}
	at := map[pdf.Name]int{"XYZ": 3, "FitH": 2, "FitBH": 2, "FitR": 5}[doc.Name(dest[1])]
	if at == 0 || at >= len(dest) {
		return 0, false
	}
	return pdf.Number(doc.Resolve(dest[at]))
}
