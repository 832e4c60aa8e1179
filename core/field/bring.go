package field

import (
	"fmt"
	"regexp"
	"slices"

	"glenrain/core/annot"
	"glenrain/core/pdf"
)

// Brought tells what came of a source's form.
type Brought struct {
	Fields, Renamed int
	Drawn           int  // widgets that got their appearance here
	Unsigned        int  // signatures that were taken out, since they hold for another file
	Scripts         bool // fields run scripts, which may need those of the document
}

// adrift gives the fields of widgets on pages which their form does not list: they are drawn with what the form says all the same.
func adrift(doc *pdf.Document, pages, listed []pdf.Ref) (out []pdf.Ref) {
	seen := map[pdf.Ref]bool{}
	for _, r := range listed {
		seen[r] = true
	}
	for _, p := range pages {
		for _, r := range annot.Refs(doc, p) {
			if doc.Name(doc.Dict(r).Get("Subtype")) != "Widget" {
				continue
			}
			for range pdf.MaxDepth {
				up, ok := doc.Dict(r).Get("Parent").(pdf.Ref)
				if !ok || doc.Dict(up) == nil {
					break
				}
				r = up
			}
			if !seen[r] {
				seen[r] = true
				out = append(out, r)
			}
		}
	}
	return out
}

// Bring takes the fields of pages that were copied with c into dst's form. A field whose name is taken gets a number behind it. What a
// field had from its own form (default appearance and alignment, 12.7.3) is written into it, and its fonts come along, under other names
// where there are others of the same name: neither form changes what the fields of the other look like. Where the source leaves it to
// programs to draw its fields (NeedAppearances), they are drawn here.
func Bring(dst, src *pdf.Document, c *pdf.Copier, pages []pdf.Ref) (b Brought, err error) {
	srcForm := src.Dict(src.Catalog().Get("AcroForm"))
	if srcForm == nil {
		return b, nil
	}
	here := map[pdf.Ref]bool{} // widgets on the copied pages
	for _, p := range pages {
		for _, a := range annot.Refs(dst, p) {
			here[a] = true
		}
	}
	var tops []pdf.Ref
	w := dst.NewWalk()
	for _, o := range src.Array(srcForm.Get("Fields")) {
		r, ok := o.(pdf.Ref)
		if !ok {
			continue
		}
		if top, ok := c.Ref(r); ok && keepHere(dst, top, here, w) {
			tops = append(tops, top)
		}
	}
	loose := adrift(dst, pages, tops)
	if len(tops)+len(loose) == 0 {
		return b, nil
	}
	form := editForm(dst)
	fields := slices.Clone(dst.Array(form.Get("Fields")))
	taken := map[string]bool{}
	for _, o := range fields {
		taken[fieldName(dst, o)] = true
	}
	for _, top := range tops {
		name := fieldName(dst, top)
		if taken[name] {
			i := 2
			for taken[fmt.Sprintf("%s %d", name, i)] {
				i++
			}
			name = fmt.Sprintf("%s %d", name, i)
			dst.Edit(top).Set("T", pdf.TextString(name))
			b.Renamed++
		}
		taken[name] = true
		fields = append(fields, top)
		settle(dst, src, top, form, srcForm)
	}
	for _, top := range loose {
		settle(dst, src, top, form, srcForm)
	}
	b.Fields = len(tops)
	form.Set("Fields", fields)
	names, err := mergeResources(dst, src, c, form, srcForm)
	if err != nil {
		return b, err
	}
	var all []pdf.Ref // with their widgets
	each(dst, append(slices.Clip(tops), loose...), func(r pdf.Ref, d *pdf.Dict) { all = append(all, r) })
	for _, p := range pages {
		for _, a := range annot.Refs(dst, p) {
			if !slices.Contains(all, a) && dst.Dict(a).Has("DA") { // text that is written on a page uses the form's fonts, too
				renameFont(dst, a, names)
			}
		}
	}
	needs, _ := src.Resolve(srcForm.Get("NeedAppearances")).(pdf.Boolean)
	d := dresser{doc: dst, form: form, again: bool(needs)}
	for _, r := range all {
		renameFont(dst, r, names)
		f := dst.Dict(r)
		b.Scripts = b.Scripts || f.Has("AA") || dst.Name(dst.Dict(f.Get("A")).Get("S")) == "JavaScript"
		if dst.Name(inherited(dst, r, "FT")) == "Sig" && f.Has("V") {
			dst.Edit(r).Delete("V")
			b.Unsigned++
		}
	}
	for _, r := range all {
		if d.dress(r) {
			b.Drawn++
		}
	}
	d.finish()
	var order pdf.Array
	for _, o := range src.Array(srcForm.Get("CO")) {
		if r, ok := o.(pdf.Ref); ok {
			if n, ok := c.Ref(r); ok && slices.Contains(all, n) {
				order = append(order, n)
			}
		}
	}
	if len(order) > 0 {
		form.Set("CO", append(slices.Clone(dst.Array(form.Get("CO"))), order...))
	}
	return b, nil
}

// settle writes into a top field what it has from its form, where it would have something else from dst's.
func settle(dst, src *pdf.Document, top pdf.Ref, form, srcForm *pdf.Dict) {
	for _, k := range []pdf.Name{"DA", "Q"} {
		if dst.Dict(top).Has(k) {
			continue
		}
		if v := src.Resolve(srcForm.Get(k)); v != nil {
			dst.Edit(top).Set(k, v)
		} else if form.Has(k) {
			dst.Edit(top).Set(k, map[pdf.Name]pdf.Object{"DA": pdf.String(""), "Q": pdf.Integer(0)}[k])
		}
	}
}

// each goes through fields and what is below them.
func each(doc *pdf.Document, tops []pdf.Ref, f func(pdf.Ref, *pdf.Dict)) {
	w := doc.NewWalk()
	var walk func(o pdf.Object)
	walk = func(o pdf.Object) {
		d := w.Enter(o)
		if d == nil {
			return
		}
		defer w.Leave()
		if r, ok := o.(pdf.Ref); ok {
			f(r, d)
		}
		for _, k := range doc.Array(d.Get("Kids")) {
			walk(k)
		}
	}
	for _, t := range tops {
		walk(t)
	}
}

// inherited gives what a field has of its own, or of those above it (12.7.4.1).
func inherited(doc *pdf.Document, r pdf.Ref, key pdf.Name) pdf.Object {
	d := doc.Dict(r)
	for range pdf.MaxDepth {
		if d == nil {
			return nil
		}
		if v := doc.Resolve(d.Get(key)); v != nil {
			return v
		}
		d = doc.Dict(d.Get("Parent"))
	}
	return nil
}

// daFont finds the font and the size in a default appearance (12.7.4.3).
var daFont = regexp.MustCompile(`/([^\s/\[\]()<>%]*)\s+(-?[0-9.]+)\s+Tf\b`)

// renameFont gives the font in a default appearance its name in the form that it came to.
func renameFont(doc *pdf.Document, r pdf.Ref, names map[string]string) {
	if len(names) == 0 {
		return
	}
	da, ok := doc.Resolve(doc.Dict(r).Get("DA")).(pdf.String)
	if !ok {
		return
	}
	m := daFont.FindStringSubmatchIndex(string(da))
	if m == nil {
		return
	}
	if to, ok := names[string(da[m[2]:m[3]])]; ok {
		doc.Edit(r).Set("DA", da[:m[2]]+pdf.String(to)+da[m[3]:])
	}
}

// mergeResources adds the default resources of the source's form to dst's. A font of which dst has another one by the same name gets a
// new name, which it tells.
func mergeResources(dst, src *pdf.Document, c *pdf.Copier, form, srcForm *pdf.Dict) (map[string]string, error) {
	from := src.Dict(srcForm.Get("DR"))
	if from == nil {
		return nil, nil
	}
	copied, err := c.Object(pdf.DeepClone(from))
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	into := dst.Dict(form.Get("DR")).Clone()
	for _, e := range copied.(*pdf.Dict).Entries() {
		came := dst.Dict(e.Value)
		if came == nil && into.Has(e.Key) { // ProcSet
			continue
		}
		had := dst.Dict(into.Get(e.Key))
		if had == nil {
			into.Set(e.Key, e.Value)
			continue
		}
		merged, ok := pdf.DeepClone(had).(*pdf.Dict) // what it names may be what holds the form
		if !ok {
			continue
		}
		for _, x := range came.Entries() {
			switch {
			case !merged.Has(x.Key):
				merged.Set(x.Key, x.Value)
			case e.Key == "Font" && !dst.Alike(merged.Get(x.Key), x.Value):
				name := x.Key
				for i := 2; merged.Has(name) || came.Has(name); i++ {
					name = pdf.Name(fmt.Sprintf("%s-%d", x.Key, i))
				}
				merged.Set(name, x.Value)
				names[string(x.Key)] = string(name)
			}
		}
		into.Set(e.Key, merged)
	}
	form.Set("DR", into)
	return names, nil
}
