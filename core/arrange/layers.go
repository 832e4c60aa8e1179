package arrange

import (
	"slices"

	"glenrain/core/pdf"
)

// bringLayers lists the optional content groups that came with copied pages in dst's catalog (ISO 32000-2, 8.11.4): what was visible
// in the source's default configuration stays visible, what was hidden hidden, whatever dst's own is for groups that it does not
// name. Their place in the list for people, locks, groups of which one at a time is on, and automatic states come along.
func bringLayers(dst, src *pdf.Document, c *pdf.Copier) {
	props := src.Dict(src.Catalog().Get("OCProperties"))
	if props == nil {
		return
	}
	m := layerMap{src: src, c: c, came: map[pdf.Ref]bool{}}
	var came pdf.Array
	for _, o := range src.Array(props.Get("OCGs")) {
		if n, ok := m.group(o); ok && !m.came[n] {
			m.came[n] = true
			came = append(came, n)
		}
	}
	own := dst.Dict(dst.Catalog().Get("OCProperties")).Clone()
	groups := slices.Clone(dst.Array(own.Get("OCGs")))
	listed := map[pdf.Ref]bool{}
	for _, o := range groups {
		if r, ok := o.(pdf.Ref); ok {
			listed[r] = true
		}
	}
	came = slices.DeleteFunc(came, func(o pdf.Object) bool { return listed[o.(pdf.Ref)] })
	if len(came) == 0 {
		return
	}
	for r := range m.came {
		if listed[r] {
			delete(m.came, r)
		}
	}
	config := src.Dict(props.Get("D"))
	d := dst.Dict(own.Get("D")).Clone()
	hidden := m.named(config.Get("OFF"))
	if src.Name(config.Get("BaseState")) == "OFF" {
		shown := m.named(config.Get("ON"))
		for r := range m.came {
			hidden[r] = !shown[r] || hidden[r]
		}
	}
	var on, off pdf.Array
	for _, o := range came {
		if hidden[o.(pdf.Ref)] {
			off = append(off, o)
		} else {
			on = append(on, o)
		}
	}
	dark := dst.Name(d.Get("BaseState")) == "OFF"
	if len(off) > 0 && !dark {
		d.Set("OFF", append(slices.Clone(dst.Array(d.Get("OFF"))), off...))
	}
	if len(on) > 0 && dark {
		d.Set("ON", append(slices.Clone(dst.Array(d.Get("ON"))), on...))
	}
	order := slices.Clone(dst.Array(d.Get("Order")))
	if brought := m.order(config.Get("Order"), src.NewWalk(), 0); len(brought) > 0 {
		order = append(order, brought...)
	}
	if len(order) > 0 {
		d.Set("Order", order)
	}
	if locked := m.list(config.Get("Locked")); len(locked) > 0 {
		d.Set("Locked", append(slices.Clone(dst.Array(d.Get("Locked"))), locked...))
	}
	radio := slices.Clone(dst.Array(d.Get("RBGroups")))
	for _, o := range src.Array(config.Get("RBGroups")) {
		if set := m.list(o); len(set) > 1 {
			radio = append(radio, set)
		}
	}
	if len(radio) > 0 {
		d.Set("RBGroups", radio)
	}
	auto := slices.Clone(dst.Array(d.Get("AS")))
	for _, o := range src.Array(config.Get("AS")) {
		usage := src.Dict(o)
		set := m.list(usage.Get("OCGs"))
		if len(set) == 0 {
			continue
		}
		auto = append(auto, pdf.NewDict("Event", src.Resolve(usage.Get("Event")), "OCGs", set, "Category", pdf.DeepClone(src.Resolve(usage.Get("Category")))))
	}
	if len(auto) > 0 {
		d.Set("AS", auto)
	}
	own.Set("OCGs", append(groups, came...))
	own.Set("D", d)
	dst.Edit(dst.Root()).Set("OCProperties", own)
}

// layerMap turns groups of the source into those that came.
type layerMap struct {
	src  *pdf.Document
	c    *pdf.Copier
	came map[pdf.Ref]bool
}

func (m *layerMap) group(o pdf.Object) (pdf.Ref, bool) {
	r, ok := o.(pdf.Ref)
	if !ok {
		return pdf.Ref{}, false
	}
	return m.c.Ref(r)
}

// list gives the groups of an array that came.
func (m *layerMap) list(o pdf.Object) (out pdf.Array) {
	for _, g := range m.src.Array(o) {
		if n, ok := m.group(g); ok && m.came[n] {
			out = append(out, n)
		}
	}
	return
}

func (m *layerMap) named(o pdf.Object) map[pdf.Ref]bool {
	out := map[pdf.Ref]bool{}
	for _, g := range m.list(o) {
		out[g.(pdf.Ref)] = true
	}
	return out
}

// mostNested is how deep a list of layers for people is nested; what is deeper is left out.
const mostNested = 32

// order gives what came of a list for people: groups, and lists in it, which may begin with a heading.
func (m *layerMap) order(o pdf.Object, w *pdf.Walk, depth int) (out pdf.Array) {
	if depth > mostNested || !w.Once(o) {
		return nil
	}
	for _, e := range m.src.Array(o) {
		if r, ok := e.(pdf.Ref); ok {
			if n, ok := m.c.Ref(r); ok && m.came[n] {
				out = append(out, n)
				continue
			}
		}
		if m.src.Array(e) == nil {
			continue
		}
		inner := m.order(e, w, depth+1)
		if len(inner) == 0 {
			continue
		}
		if title, ok := m.src.Resolve(m.src.Array(e)[0]).(pdf.String); ok {
			inner = append(pdf.Array{title}, inner...)
		}
		out = append(out, inner)
	}
	return
}
