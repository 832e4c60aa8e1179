package content

import "glenrain/core/pdf"

// layers knows which optional content is off by the document's default configuration (8.11.4).
type layers struct {
	doc *pdf.Document
	off map[pdf.Ref]bool
	all bool // BaseState OFF: only those in on are visible
	on  map[pdf.Ref]bool
}

// readLayers gives nil where all is visible.
func readLayers(doc *pdf.Document) *layers {
	props := doc.Dict(doc.Catalog().Get("OCProperties"))
	if props == nil {
		return nil
	}
	d := doc.Dict(props.Get("D"))
	l := &layers{doc: doc, off: map[pdf.Ref]bool{}, on: map[pdf.Ref]bool{}, all: doc.Name(d.Get("BaseState")) == "OFF"}
	for _, o := range doc.Array(d.Get("OFF")) {
		if r, ok := o.(pdf.Ref); ok {
			l.off[r] = true
		}
	}
	for _, o := range doc.Array(d.Get("ON")) {
		if r, ok := o.(pdf.Ref); ok {
			l.on[r] = true
		}
	}
	return l
}

// hides reports whether a group or membership dictionary is off.
func (l *layers) hides(o pdf.Object) bool {
	if l == nil || o == nil {
		return false
	}
	d := l.doc.Dict(o)
	if l.doc.Name(d.Get("Type")) != "OCMD" {
		r, ok := o.(pdf.Ref)
		return ok && l.isOff(r)
	}
	if ve := l.doc.Array(d.Get("VE")); ve != nil {
		return !l.expression(ve, l.doc.NewWalk(), 0)
	}
	var groups []pdf.Ref
	switch v := d.Get("OCGs").(type) {
	case pdf.Ref:
		if a := l.doc.Array(v); a != nil {
			groups = refs(a)
		} else {
			groups = []pdf.Ref{v}
		}
	case pdf.Array:
		groups = refs(v)
	}
	if len(groups) == 0 {
		return false
	}
	off := 0
	for _, g := range groups {
		if l.isOff(g) {
			off++
		}
	}
	switch l.doc.Name(d.Get("P")) {
	case "AllOn":
		return off > 0
	case "AnyOff":
		return off == 0
	case "AllOff":
		return off < len(groups)
	}
	return off == len(groups)
}

func refs(a pdf.Array) (out []pdf.Ref) {
	for _, o := range a {
		if r, ok := o.(pdf.Ref); ok {
			out = append(out, r)
		}
	}
	return out
}

func (l *layers) isOff(r pdf.Ref) bool {
	if l.all {
		return !l.on[r]
	}
	return l.off[r]
}

// expression evaluates a visibility expression (table 97).
func (l *layers) expression(a pdf.Array, w *pdf.Walk, depth int) bool {
	if len(a) == 0 || depth > 20 {
		return true
	}
	val := func(o pdf.Object) bool {
		if inner := l.doc.Array(o); inner != nil {
			return !w.Once(o) || l.expression(inner, w, depth+1)
		}
		r, ok := o.(pdf.Ref)
		return !ok || !l.isOff(r)
	}
	switch l.doc.Name(a[0]) {
	case "And":
		for _, o := range a[1:] {
			if !val(o) {
				return false
			}
		}
		return true
	case "Or":
		for _, o := range a[1:] {
			if val(o) {
				return true
			}
		}
		return false
	case "Not":
		return len(a) < 2 || !val(a[1])
	}
	return true
}
