package nav

import (
	"glenrain/core/pdf"
)

// Rewrite has change look at each explicit destination (12.3.2.2) of a document: of bookmarks, named places, links, and where it opens. What change gives
// instead of nil stands there afterwards.
func Rewrite(doc *pdf.Document, change func(dest pdf.Array) pdf.Array) {
	w := rewriter{doc: doc, change: change, done: map[pdf.Ref]bool{}}
	defer doc.Forget(namedDests)
	root := doc.Root()
	catalog := doc.Catalog()
	if o := catalog.Get("OpenAction"); o != nil {
		if doc.Dict(o) != nil {
			w.action(root, "OpenAction")
		} else {
			w.entry(root, "OpenAction")
		}
	}
	w.dests(catalog)
	if names := doc.Dict(catalog.Get("Names")); names.Has("Dests") {
		if tree, changed := w.tree(names.Get("Dests"), doc.NewWalk()); changed {
			own := names.Clone()
			own.Set("Dests", tree)
			replace(doc, root, "Names", own)
		}
	}
	var items func([]*Item)
	items = func(list []*Item) {
		for _, it := range list {
			w.holder(it.ref)
			items(it.Kids)
		}
	}
	items(Outline(doc))
	pages, err := doc.Pages()
	if err != nil {
		return
	}
	for _, l := range pages {
		if doc.Over() != nil {
			return
		}
		annots := doc.Array(doc.Dict(l.Ref).Get("Annots"))
		for i, o := range annots {
			d := doc.Dict(o)
			if doc.Name(d.Get("Subtype")) != "Link" && doc.Name(doc.Dict(d.Get("A")).Get("S")) != "GoTo" {
				continue
			}
			r, ok := o.(pdf.Ref)
			if !ok { // it stands in the list itself
				if w.change(Explicit(doc, Of(doc, d))) == nil {
					continue
				}
				r = doc.Add(d.Clone())
				list := append(pdf.Array{}, annots...)
				list[i] = r
				annots = list
				doc.Edit(l.Ref).Set("Annots", list)
			}
			w.holder(r)
		}
	}
}

type rewriter struct {
	doc    *pdf.Document
	change func(pdf.Array) pdf.Array
	done   map[pdf.Ref]bool
}

// value gives what stands in the place of a destination; names are left, since what they stand for is rewritten.
func (w *rewriter) value(o pdf.Object) (pdf.Object, bool) { return w.within(o, 4) }

// within looks through so many dictionaries, as Explicit does.
func (w *rewriter) within(o pdf.Object, depth int) (pdf.Object, bool) {
	r, isRef := o.(pdf.Ref)
	if isRef && w.done[r] || depth == 0 {
		return o, false
	}
	switch v := w.doc.Resolve(o).(type) {
	case pdf.Array:
		to := w.change(byObject(w.doc, v))
		if to == nil {
			return o, false
		}
		if isRef {
			w.done[r] = true
			w.doc.Set(r, to)
			return o, false
		}
		return to, true
	case *pdf.Dict:
		to, changed := w.within(v.Get("D"), depth-1)
		if !changed {
			return o, false
		}
		if isRef {
			w.done[r] = true
			w.doc.Edit(r).Set("D", to)
			return o, false
		}
		own := v.Clone()
		own.Set("D", to)
		return own, true
	}
	return o, false
}

// entry rewrites the destination under a key of the dictionary at r.
func (w *rewriter) entry(r pdf.Ref, key pdf.Name) {
	if to, changed := w.value(w.doc.Dict(r).Get(key)); changed {
		w.doc.Edit(r).Set(key, to)
	}
}

// action rewrites the destination of a go-to action under a key of the dictionary at r.
func (w *rewriter) action(r pdf.Ref, key pdf.Name) {
	o := w.doc.Dict(r).Get(key)
	a := w.doc.Dict(o)
	if w.doc.Name(a.Get("S")) != "GoTo" {
		return
	}
	if own, ok := o.(pdf.Ref); ok {
		if !w.done[own] {
			w.done[own] = true
			w.entry(own, "D")
		}
		return
	}
	if to, changed := w.value(a.Get("D")); changed {
		d := a.Clone()
		d.Set("D", to)
		w.doc.Edit(r).Set(key, d)
	}
}

// holder rewrites the destination of a bookmark or an annotation.
func (w *rewriter) holder(r pdf.Ref) {
	if w.done[r] {
		return
	}
	w.done[r] = true
	if w.doc.Dict(r).Has("Dest") {
		w.entry(r, "Dest")
	}
	w.action(r, "A")
}

// dests rewrites the dictionary of named destinations of PDF 1.1.
func (w *rewriter) dests(catalog *pdf.Dict) {
	old := w.doc.Dict(catalog.Get("Dests"))
	own := old.Clone()
	any := false
	for _, e := range old.Entries() {
		if to, changed := w.value(e.Value); changed {
			own.Set(e.Key, to)
			any = true
		}
	}
	if any {
		replace(w.doc, w.doc.Root(), "Dests", own)
	}
}

// tree rewrites the values of a name tree.
func (w *rewriter) tree(node pdf.Object, walk *pdf.Walk) (pdf.Object, bool) {
	d := walk.Enter(node)
	if d == nil {
		return node, false
	}
	defer walk.Leave()
	own := d.Clone()
	any := false
	if names := w.doc.Array(d.Get("Names")); names != nil {
		list := append(pdf.Array{}, names...)
		for i := 1; i < len(list); i += 2 {
			if to, changed := w.value(list[i]); changed {
				list[i], any = to, true
			}
		}
		own.Set("Names", list)
	}
	if kids := w.doc.Array(d.Get("Kids")); kids != nil {
		list := append(pdf.Array{}, kids...)
		for i, k := range list {
			if to, changed := w.tree(k, walk); changed {
				list[i], any = to, true
			}
		}
		own.Set("Kids", list)
	}
	if !any {
		return node, false
	}
	if r, ok := node.(pdf.Ref); ok {
		w.doc.Set(r, own)
		return r, false
	}
	return own, true
}

// Moved gives a destination on a page whose content was moved and scaled by m, in user space: without turning it. nil where it names no
// coordinates.
func Moved(dest pdf.Array, m pdf.Matrix) pdf.Array {
	if len(dest) < 2 {
		return nil
	}
	kind, _ := dest[1].(pdf.Name)
	var axes string // which coordinate each operand is
	switch kind {
	case "XYZ":
		axes = "xy"
	case "FitH", "FitBH":
		axes = "y"
	case "FitV", "FitBV":
		axes = "x"
	case "FitR":
		axes = "xyxy"
	default:
		return nil
	}
	out := append(pdf.Array{}, dest...)
	any := false
	for i, axis := range axes {
		if i+2 >= len(out) {
			break
		}
		v, ok := pdf.Number(out[i+2])
		if !ok {
			continue
		}
		x, y := m.Apply(v, v)
		if axis == 'y' {
			x = y
		}
		out[i+2] = pdf.Real(x)
		any = true
	}
	if !any {
		return nil
	}
	return out
}
