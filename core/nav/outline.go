package nav

import (
	"glenrain/core/pdf"
)

// Item is a bookmark (12.3.3) with those below it.
type Item struct {
	Title string
	Dest  pdf.Object // as the file has it; nil where it has none
	Open  bool
	Kids  []*Item

	ref pdf.Ref
}

// Outline reads the bookmarks. Loops end where they close.
func Outline(doc *pdf.Document) []*Item {
	root := doc.Dict(doc.Catalog().Get("Outlines"))
	seen := map[pdf.Ref]bool{}
	return readItems(doc, root.Get("First"), seen, 0)
}

func readItems(doc *pdf.Document, first pdf.Object, seen map[pdf.Ref]bool, depth int) (out []*Item) {
	for o := first; depth < maxDepth; {
		r, ok := o.(pdf.Ref)
		if !ok || seen[r] {
			return
		}
		seen[r] = true
		d := doc.Dict(r)
		if d == nil {
			return
		}
		title, _ := doc.Resolve(d.Get("Title")).(pdf.String)
		count, _ := pdf.Number(doc.Resolve(d.Get("Count")))
		out = append(out, &Item{
			Title: pdf.Text(title), Dest: Of(doc, d), Open: count > 0, ref: r,
			Kids: readItems(doc, d.Get("First"), seen, depth+1),
		})
		o = d.Get("Next")
	}
	return
}

// cutOutline removes the items whose destination leads to a gone page: an item
// with others below it stays, but leads nowhere. It tells how many it changed.
func cutOutline(doc *pdf.Document, leads func(pdf.Object) bool) int {
	rootRef, ok := doc.Catalog().Get("Outlines").(pdf.Ref)
	if !ok {
		return 0
	}
	items := Outline(doc)
	n := 0
	var prune func([]*Item) []*Item
	prune = func(list []*Item) (left []*Item) {
		for _, it := range list {
			before := len(it.Kids)
			it.Kids = prune(it.Kids)
			if it.Dest != nil && leads(it.Dest) {
				n++
				if len(it.Kids) == 0 {
					continue
				}
				d := doc.Edit(it.ref)
				d.Delete("Dest")
				d.Delete("A")
				d.Delete("SE")
			} else if before > 0 && len(it.Kids) == 0 && it.Dest == nil {
				continue // a heading whose last entry went
			}
			left = append(left, it)
		}
		return
	}
	items = prune(items)
	if n == 0 {
		return 0
	}
	if len(items) == 0 {
		doc.Edit(doc.Root()).Delete("Outlines")
		return n
	}
	link(doc, rootRef, items, true)
	return n
}

// link writes /First, /Last, /Next, /Prev, /Parent and /Count of items that hang below
// parent, where they differ from what stands there, and gives how many are visible.
func link(doc *pdf.Document, parent pdf.Ref, items []*Item, open bool) int {
	visible := 0
	for i, it := range items {
		var prev, next pdf.Object
		if i > 0 {
			prev = items[i-1].ref
		}
		if i+1 < len(items) {
			next = items[i+1].ref
		}
		setEach(doc, it.ref, "Parent", parent, "Prev", prev, "Next", next)
		visible++
		below := link(doc, it.ref, it.Kids, it.Open)
		if it.Open {
			visible += below
		}
	}
	var first, last, count pdf.Object
	if len(items) > 0 {
		first, last = items[0].ref, items[len(items)-1].ref
		count = pdf.Integer(visible)
		if !open {
			count = pdf.Integer(-visible)
		}
	}
	setEach(doc, parent, "First", first, "Last", last, "Count", count)
	return visible
}

func setEach(doc *pdf.Document, r pdf.Ref, pairs ...any) {
	d := doc.Dict(r)
	for i := 0; i < len(pairs); i += 2 {
		k := pdf.Name(pairs[i].(string))
		if d.Get(k) != pairs[i+1] {
			doc.Edit(r).Set(k, pairs[i+1])
			d = doc.Dict(r)
		}
	}
}

// Bring copies the bookmarks of src that lead to pages copied with c to the end of
// dst's, below one item of the given title that leads to first. It tells how many.
func Bring(dst, src *pdf.Document, c *pdf.Copier, title string, first pdf.Ref) (int, error) {
	n := 0
	var build func([]*Item) []*Item
	build = func(list []*Item) (out []*Item) {
		for _, it := range list {
			kids := build(it.Kids)
			dest := Explicit(src, it.Dest)
			var page pdf.Ref
			ok := false
			if len(dest) > 0 {
				if r, isRef := dest[0].(pdf.Ref); isRef {
					page, ok = c.Ref(r)
				}
			}
			if !ok && len(kids) == 0 {
				continue
			}
			d := pdf.NewDict("Title", pdf.TextString(it.Title))
			if ok {
				to := pdf.Array{page}
				for _, o := range dest[1:] {
					to = append(to, src.Resolve(o))
				}
				d.Set("Dest", to)
				n++
			}
			out = append(out, &Item{Open: it.Open, Kids: kids, ref: dst.Add(d)})
		}
		return
	}
	kids := build(Outline(src))
	if n == 0 {
		return 0, nil
	}
	return n, hang(dst, &Item{Kids: kids, ref: dst.Add(titled(title, first))})
}

func titled(title string, page pdf.Ref) *pdf.Dict {
	return pdf.NewDict("Title", pdf.TextString(title), "Dest", pdf.Array{page, pdf.Name("Fit")})
}

// hang puts an item behind the last of the outline, which is made where there is none.
func hang(doc *pdf.Document, it *Item) error {
	root, ok := doc.Catalog().Get("Outlines").(pdf.Ref)
	if !ok {
		root = doc.Add(pdf.NewDict("Type", pdf.Name("Outlines")))
		doc.Edit(doc.Root()).Set("Outlines", root)
	}
	link(doc, root, append(Outline(doc), it), true)
	return nil
}

// Title adds a bookmark with a title that leads to page, at the end.
func Title(doc *pdf.Document, title string, page pdf.Ref) error {
	return hang(doc, &Item{ref: doc.Add(titled(title, page))})
}
