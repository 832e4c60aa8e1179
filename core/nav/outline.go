package nav

import (
	"slices"

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

// idle reports whether a bookmark does nothing: it leads nowhere and has no action (12.6).
func (it *Item) idle(doc *pdf.Document) bool {
	if it.Dest != nil {
		page := Target(doc, it.Dest)
		return page.IsZero() || doc.Dict(page) == nil
	}
	return doc.Dict(doc.Dict(it.ref).Get("A")) == nil
}

// maxDepth is how many levels of bookmarks are read.
const maxDepth = 64

// Outline reads the bookmarks. Loops end where they close.
func Outline(doc *pdf.Document) []*Item {
	root := doc.Dict(doc.Catalog().Get("Outlines"))
	return readItems(doc, root.Get("First"), doc.NewWalk(), 0)
}

func readItems(doc *pdf.Document, first pdf.Object, w *pdf.Walk, depth int) (out []*Item) {
	for o := first; depth < maxDepth; {
		r, ok := o.(pdf.Ref)
		if !ok || !w.Once(r) {
			return
		}
		d := doc.Dict(r)
		if d == nil {
			return
		}
		title, _ := doc.Resolve(d.Get("Title")).(pdf.String)
		count, _ := pdf.Number(doc.Resolve(d.Get("Count")))
		out = append(out, &Item{
			Title: pdf.Text(title), Dest: Of(doc, d), Open: count > 0, ref: r,
			Kids: readItems(doc, d.Get("First"), w, depth+1),
		})
		o = d.Get("Next")
	}
	return
}

// cutOutline removes the items whose destination leads to a gone page. An item with others below it that stay does so too, as a heading that
// leads nowhere; without headings, those below it take its place. It tells how many it removed, and the headings.
func cutOutline(doc *pdf.Document, leads func(pdf.Object) bool, headings bool) (n int, stay []string) {
	items := Outline(doc)
	var prune func([]*Item) []*Item
	prune = func(list []*Item) (left []*Item) {
		for _, it := range list {
			before := len(it.Kids)
			it.Kids = prune(it.Kids)
			if it.Dest != nil && leads(it.Dest) {
				if len(it.Kids) == 0 || !headings {
					n++
					left = append(left, it.Kids...)
					continue
				}
				stay = append(stay, it.Title)
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
	if n+len(stay) == 0 {
		return 0, nil
	}
	if len(items) == 0 {
		doc.Edit(doc.Root()).Delete("Outlines")
		return n, nil
	}
	link(doc, ownRoot(doc), items, true)
	return n, stay
}

// ownRoot gives the object at the root of the outline. It is made where there is none, or where the catalog holds it directly.
func ownRoot(doc *pdf.Document) pdf.Ref {
	o := doc.Catalog().Get("Outlines")
	if r, ok := o.(pdf.Ref); ok && doc.Dict(r) != nil && r != doc.Root() {
		return r
	}
	root := pdf.NewDict("Type", pdf.Name("Outlines"))
	if d, direct := o.(*pdf.Dict); direct {
		root = d.Clone()
	}
	r := doc.Add(root)
	doc.Edit(doc.Root()).Set("Outlines", r)
	return r
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
		if !same(d.Get(k), pairs[i+1]) {
			doc.Edit(r).Set(k, pairs[i+1])
			d = doc.Dict(r)
		}
	}
}

// Brought tells what became of a source's bookmarks.
type Brought struct {
	Leading int // those that lead to brought pages, or do something else: open an address, run a script
	Nowhere int // those that came, and led nowhere in the source already
	Behind  int // those that stayed behind, with the pages they lead to
}

// Bring copies the bookmarks of src, with their actions, colours and styles, to the end of dst's, below one item of the given title that leads to
// first, or without a title as they are: all of them where whole is set, else those that lead to pages copied with c, and the headings above them.
func Bring(dst, src *pdf.Document, c *pdf.Copier, title string, first pdf.Ref, whole bool) (n Brought, err error) {
	var build func([]*Item) []*Item
	build = func(list []*Item) (out []*Item) {
		for _, it := range list {
			kids := build(it.Kids)
			was := src.Dict(it.ref)
			d := pdf.NewDict("Title", pdf.TextString(it.Title))
			if t, ok := src.Resolve(was.Get("Title")).(pdf.String); ok { // to the byte
				d.Set("Title", t)
			}
			dest := Explicit(src, it.Dest)
			var page pdf.Ref
			leads := false
			if len(dest) > 0 {
				if r, isRef := dest[0].(pdf.Ref); isRef {
					page, leads = c.Ref(r)
				}
			}
			switch idle := it.idle(src); {
			case leads:
				to := pdf.Array{page}
				for _, o := range dest[1:] {
					to = append(to, src.Resolve(o))
				}
				d.Set("Dest", to)
				n.Leading++
			case it.Dest == nil && !idle && (whole || len(kids) > 0):
				var action pdf.Object
				if action, err = c.Object(src.Resolve(was.Get("A"))); err != nil {
					return nil
				}
				d.Set("A", action)
				n.Leading++
			case idle && it.Dest != nil && whole:
				n.Nowhere++
			case idle && (whole || len(kids) > 0): // a heading
			case len(kids) > 0:
				n.Behind++
			default:
				n.Behind++
				continue
			}
			for _, k := range []pdf.Name{"C", "F"} {
				d.Set(k, pdf.DeepClone(src.Resolve(was.Get(k))))
			}
			out = append(out, &Item{Open: it.Open, Kids: kids, ref: dst.Add(d)})
		}
		return
	}
	kids := build(Outline(src))
	if err != nil || len(kids) == 0 {
		return n, err
	}
	if title == "" {
		link(dst, ownRoot(dst), append(Outline(dst), kids...), true)
		return n, nil
	}
	return n, hang(dst, &Item{Kids: kids, ref: dst.Add(titled(title, first))})
}

func titled(title string, page pdf.Ref) *pdf.Dict {
	return pdf.NewDict("Title", pdf.TextString(title), "Dest", pdf.Array{page, pdf.Name("Fit")})
}

// hang puts an item behind the last of the outline, which is made where there is none.
func hang(doc *pdf.Document, it *Item) error {
	link(doc, ownRoot(doc), append(Outline(doc), it), true)
	return nil
}

// Title adds a bookmark with a title that leads to page, at the end.
func Title(doc *pdf.Document, title string, page pdf.Ref) error {
	return hang(doc, &Item{ref: doc.Add(titled(title, page))})
}

// same compares what can be compared: references and numbers.
func same(a, b pdf.Object) bool {
	switch a.(type) {
	case nil, pdf.Ref, pdf.Integer:
		return a == b
	}
	return false
}

// Nowhere gives the titles of bookmarks that lead nowhere although they should: their destination is gone, or never was.
func Nowhere(doc *pdf.Document) (out []string) {
	var walk func([]*Item)
	walk = func(list []*Item) {
		for _, it := range list {
			if it.Dest != nil && it.idle(doc) || it.Dest == nil && len(it.Kids) == 0 && it.idle(doc) {
				out = append(out, it.Title)
			}
			walk(it.Kids)
		}
	}
	walk(Outline(doc))
	return
}

// Unwrap puts the bookmarks below those at the top that have the title in their places.
func Unwrap(doc *pdf.Document, title string) {
	var out []*Item
	for _, it := range Outline(doc) {
		if it.Title == title {
			out = append(out, it.Kids...)
		} else {
			out = append(out, it)
		}
	}
	link(doc, ownRoot(doc), out, true)
}

// Starts gives the indexes of the pages that bookmarks of a level lead to (1 is the top), and of the levels above it: ascending, each once.
func Starts(doc *pdf.Document, level int) []int {
	refs := make([]pdf.Ref, 0, 64)
	var walk func([]*Item, int)
	walk = func(list []*Item, depth int) {
		for _, it := range list {
			if it.Dest != nil {
				if r := Target(doc, it.Dest); !r.IsZero() {
					refs = append(refs, r)
				}
			}
			if depth < level {
				walk(it.Kids, depth+1)
			}
		}
	}
	walk(Outline(doc), 1)
	at := doc.PageIndexes(refs)
	slices.Sort(at)
	at = slices.Compact(at)
	if len(at) > 0 && at[0] < 0 { // what leads nowhere
		at = at[1:]
	}
	return at
}
