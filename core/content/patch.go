package content

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"glenrain/core/font"
	"glenrain/core/pdf"
)

// Patch replaces the bytes from Start to End of an invocation's body. All other bytes stay as they are. Where Draw is set, that XObject is drawn
// there, through Through, instead of New.
type Patch struct {
	Invocation int
	Start, End int
	New        []byte
	Draw       pdf.Ref
	Through    pdf.Matrix
	// Make, where set, gives New: name gives the name under which a resource of a kind can be used there.
	Make func(name func(kind pdf.Name, ref pdf.Ref) pdf.Name) []byte
}

// Apply writes patches into doc, which holds the page that p was read from. The page's own streams are replaced where they change; a
// form or pattern that changes becomes a new object under a new name, drawn by this one invocation, so other drawings of it stay. Resources that change
// are the page's or the form's own afterwards, without the names that nothing there uses any more.
func Apply(doc *pdf.Document, p *Page, patches []Patch) error {
	byInvocation := map[int][]Patch{}
	for _, c := range patches {
		if c.Invocation < 0 || c.Invocation >= len(p.Invocations) || c.Start < 0 || c.End < c.Start || c.End > len(p.Invocations[c.Invocation].Body.Data) {
			return fmt.Errorf("a patch from %d to %d is outside content %d", c.Start, c.End, c.Invocation)
		}
		byInvocation[c.Invocation] = append(byInvocation[c.Invocation], c)
	}
	names := map[int][]added{}  // new names by invocation
	repainted := map[int]bool{} // patterns that were changed
	// Those that are drawn come behind those that draw them, so the last come first.
	for i := len(p.Invocations) - 1; i >= 0; i-- {
		list := append(byInvocation[i], oldColours(p, i, repainted)...)
		if len(list) == 0 {
			continue
		}
		slices.SortStableFunc(list, func(a, b Patch) int { return cmp.Or(cmp.Compare(a.Start, b.Start), cmp.Compare(a.End, b.End)) })
		for k := 1; k < len(list); k++ {
			if list[k].Start < list[k-1].End {
				return fmt.Errorf("two patches of content %d overlap at %d", i, list[k].Start)
			}
		}
		v := &p.Invocations[i]
		for k := range list {
			c := &list[k]
			if !c.Draw.IsZero() {
				name := fresh(doc, "XObject", v.Resources, names[i], "Part")
				names[i] = append(names[i], added{"XObject", name, c.Draw})
				c.New = fmt.Appendf(nil, "q %s cm %s Do Q", c.Through, pdf.AppendObject(nil, name))
			}
			if c.Make != nil {
				c.New = c.Make(func(kind pdf.Name, ref pdf.Ref) pdf.Name {
					for _, a := range names[i] {
						if a.kind == kind && a.ref == ref {
							return a.name
						}
					}
					name := fresh(doc, kind, v.Resources, names[i], "Part")
					names[i] = append(names[i], added{kind, name, ref})
					return name
				})
			}
		}
		res := changed(doc, v.Resources, names[i])
		switch v.Kind {
		case PageBody:
			patchPage(doc, p, v, list, res)
		case FormBody, AppearanceBody, PatternBody:
			s, ok := doc.Resolve(v.Ref).(*pdf.Stream)
			if !ok {
				return fmt.Errorf("the content that %s draws is missing", v.Ref)
			}
			data := patched(v.Body.Data, list)
			dict := s.Dict.Clone()
			for _, k := range []pdf.Name{"Filter", "DecodeParms", "Length", "F", "FFilter", "FDecodeParms"} {
				dict.Delete(k)
			}
			dict.Set("Resources", dropUnused(doc, res, data))
			ref := doc.Add(pdf.NewFlateStream(dict, data))
			kind := pdf.Name("XObject")
			switch v.Kind {
			case AppearanceBody:
				setAppearance(doc, v, ref)
				continue
			case PatternBody:
				kind = "Pattern"
			}
			name := fresh(doc, kind, p.Invocations[v.Parent].Resources, names[v.Parent], v.Name)
			names[v.Parent] = append(names[v.Parent], added{kind, name, ref})
			byInvocation[v.Parent] = append(byInvocation[v.Parent], drawing(v, name))
			if v.Kind == PatternBody {
				repainted[i] = true
			}
		default:
			return fmt.Errorf("the glyph of a Type 3 font can't be changed for one drawing alone")
		}
	}
	return nil
}

// drawing gives the patch in the parent's body that lets an invocation draw what has the name: another operand of Do, or another
// colour ahead of the path that the pattern paints.
func drawing(v *Invocation, name pdf.Name) Patch {
	if v.Kind == FormBody {
		return Patch{Invocation: v.Parent, Start: v.Start, End: v.End, New: append(pdf.AppendObject(nil, name), " Do"...)}
	}
	return Patch{Invocation: v.Parent, Start: v.Start, End: v.Start, New: append(v.colour(name), '\n')}
}

// colour writes the operator that makes the pattern of that name the colour, with the components of one that is not coloured itself.
func (v *Invocation) colour(name pdf.Name) (b []byte) {
	for _, c := range v.Paint.Values[:v.Paint.N] {
		b = append(AppendNumber(b, c), ' ')
	}
	b = pdf.AppendObject(b, name)
	if v.Stroke {
		return append(b, " SCN"...)
	}
	return append(b, " scn"...)
}

// oldColours gives the patches in body i for the patterns that were changed in paths that it paints. Behind such a path the
// colour is what it was; but a pattern that paints nothing else any more is not named any more.
func oldColours(p *Page, i int, repainted map[int]bool) (out []Patch) {
	stays := map[pdf.Name]bool{} // whether a pattern that was changed paints something else too
	dead := false
	for _, k := range slices.Sorted(maps.Keys(repainted)) {
		v := &p.Invocations[k]
		if v.Parent != i {
			continue
		}
		if _, known := stays[v.Name]; !known {
			stays[v.Name] = paintsElse(p, i, v.Name, repainted)
		}
		if stays[v.Name] {
			out = append(out, Patch{Invocation: i, Start: v.End, End: v.End, New: append([]byte{'\n'}, v.colour(v.Name)...)})
		} else {
			dead = true
		}
	}
	if !dead {
		return out
	}
	s := Scanner{Data: p.Invocations[i].Body.Data}
	var o Op
	for s.Next(&o) {
		if (o.Code == opscn || o.Code == opSCN || o.Code == opsc || o.Code == opSC) && len(o.Args) > 0 {
			if a := o.Args[len(o.Args)-1]; a.Kind == Name {
				if paints, changed := stays[pdf.Name(a.Bytes)]; changed && !paints {
					out = append(out, Patch{Invocation: i, Start: o.Start, End: o.End})
				}
			}
		}
	}
	return out
}

// paintsElse reports whether body i paints with a pattern where it was not changed, or shows text with it.
func paintsElse(p *Page, i int, name pdf.Name, repainted map[int]bool) bool {
	for k, v := range p.Invocations {
		if v.Kind == PatternBody && v.Parent == i && v.Name == name && !repainted[k] {
			return true
		}
	}
	return slices.ContainsFunc(p.Shows, func(s Show) bool {
		return s.Invocation == i && (s.State.Fill.Pattern == name || s.State.Stroke.Pattern == name)
	})
}

type added struct {
	kind pdf.Name
	name pdf.Name
	ref  pdf.Ref
}

// patched gives data with patches applied, which are sorted.
func patched(data []byte, list []Patch) []byte {
	out := make([]byte, 0, len(data)+64)
	at := 0
	for _, c := range list {
		out = append(append(out, data[at:c.Start]...), c.New...)
		at = c.End
	}
	return append(out, data[at:]...)
}

// patchPage replaces those streams of a page that patches fall into.
func patchPage(doc *pdf.Document, p *Page, v *Invocation, list []Patch, res *pdf.Dict) {
	contents := make(pdf.Array, len(v.Body.Parts))
	for k, part := range v.Body.Parts {
		contents[k] = part.Ref
		var own []Patch
		for _, c := range list {
			if c.End < part.Start || c.Start > part.End || c.Start == c.End && c.Start == part.Start && k > 0 && v.Body.Parts[k-1].End+1 >= c.Start {
				continue
			}
			from, to := max(c.Start, part.Start), min(c.End, part.End)
			if from > to {
				continue
			}
			o := Patch{Start: from - part.Start, End: to - part.Start}
			if c.Start >= part.Start { // what is new stands in the part where it begins
				o.New = c.New
			} else if from == to {
				continue
			}
			own = append(own, o)
		}
		if len(own) > 0 {
			contents[k] = doc.Add(pdf.NewFlateStream(pdf.NewDict(), patched(v.Body.Data[part.Start:part.End], own)))
		}
	}
	page := doc.Edit(p.Ref)
	if len(contents) == 1 {
		page.Set("Contents", contents[0])
	} else {
		page.Set("Contents", contents)
	}
	page.Set("Resources", dropUnused(doc, res, patched(v.Body.Data, list)))
}

// changed gives a resource dictionary of its own with new XObjects and patterns in it.
func changed(doc *pdf.Document, res *pdf.Dict, more []added) *pdf.Dict {
	out := res.Clone()
	for _, a := range more {
		x := doc.Dict(out.Get(a.kind)).Clone()
		x.Set(a.name, a.ref)
		out.Set(a.kind, x)
	}
	return out
}

// fresh gives a name that neither the resources nor what was added to them have.
func fresh(doc *pdf.Document, kind pdf.Name, res *pdf.Dict, more []added, like pdf.Name) pdf.Name {
	have := doc.Dict(res.Get(kind))
	for n := 1; ; n++ {
		name := like + pdf.Name("-"+strconv.Itoa(n))
		if !have.Has(name) && !slices.ContainsFunc(more, func(a added) bool { return a.kind == kind && a.name == name }) {
			return name
		}
	}
}

func setAppearance(doc *pdf.Document, v *Invocation, ref pdf.Ref) {
	a := doc.Edit(v.Annotation)
	ap := doc.Dict(a.Get("AP")).Clone()
	if n := doc.Dict(ap.Get("N")); n != nil && doc.Stream(ap.Get("N")) == nil { // one for each state
		states := n.Clone()
		states.Set(doc.Name(a.Get("AS")), ref)
		ap.Set("N", states)
	} else {
		ap.Set("N", ref)
	}
	a.Set("AP", ap)
}

// kinds are the categories of resources that operators name (7.8.3, table 34).
var kinds = []pdf.Name{"XObject", "Font", "ExtGState", "ColorSpace", "Pattern", "Shading", "Properties"}

// dropUnused takes from resources the names that a content stream does not use. Where forms or fonts in them
// have no resources of their own, and so may use these, all stay.
func dropUnused(doc *pdf.Document, res *pdf.Dict, data []byte) *pdf.Dict {
	used := Names(data)
	for _, e := range doc.Dict(res.Get("XObject")).Entries() {
		s := doc.Stream(e.Value)
		if s != nil && used["XObject"][e.Key] && doc.Name(s.Dict.Get("Subtype")) == "Form" && doc.Dict(s.Dict.Get("Resources")) == nil {
			return res
		}
	}
	for _, e := range doc.Dict(res.Get("Font")).Entries() {
		f := doc.Dict(e.Value)
		if used["Font"][e.Key] && doc.Name(f.Get("Subtype")) == "Type3" && doc.Dict(f.Get("Resources")) == nil {
			return res
		}
	}
	out := res.Clone()
	for _, kind := range kinds {
		have := doc.Dict(res.Get(kind))
		if have == nil {
			continue
		}
		left := pdf.NewDict()
		for _, e := range have.Entries() {
			if used[kind][e.Key] || kind == "ColorSpace" && (e.Key == "DefaultGray" || e.Key == "DefaultRGB" || e.Key == "DefaultCMYK") {
				left.Set(e.Key, e.Value)
			}
		}
		switch {
		case left.Len() == have.Len():
		case left.Len() == 0:
			out.Delete(kind)
		default:
			out.Set(kind, left)
		}
	}
	return out
}

// Names gives the resource names that a content stream uses, by category.
func Names(data []byte) map[pdf.Name]map[pdf.Name]bool {
	used := map[pdf.Name]map[pdf.Name]bool{}
	for _, k := range kinds {
		used[k] = map[pdf.Name]bool{}
	}
	add := func(kind pdf.Name, a Operand) {
		if a.Kind == Name {
			used[kind][pdf.Name(a.Bytes)] = true
		}
	}
	s := Scanner{Data: data}
	var o Op
	for s.Next(&o) {
		if o.Image != nil {
			if n, ok := o.Image.Get("CS", "ColorSpace").(pdf.Name); ok {
				used["ColorSpace"][n] = true
			}
			continue
		}
		if len(o.Args) == 0 {
			continue
		}
		switch first, last := o.Args[0], o.Args[len(o.Args)-1]; o.Code {
		case opDo:
			add("XObject", first)
		case opTf:
			add("Font", first)
		case opgs:
			add("ExtGState", first)
		case opcs, opCS:
			add("ColorSpace", first)
		case opscn, opSCN, opsc, opSC:
			add("Pattern", last)
		case opsh:
			add("Shading", first)
		case opBDC, opDP:
			add("Properties", last)
		}
	}
	return used
}

// TakeOut gives the patches that take glyphs, by their indexes, out of their operators and leave all others where they are: a
// number in a TJ array stands for each (9.4.3), with the digits it needs.
func TakeOut(p *Page, glyphs []int) []Patch {
	gone := map[int]bool{}
	shows := map[int32]bool{}
	var order []int32
	for _, g := range glyphs {
		gone[g] = true
		if s := p.Glyphs[g].Show; !shows[s] {
			shows[s] = true
			order = append(order, s)
		}
	}
	slices.Sort(order)
	var out []Patch
	for _, at := range order {
		sh := &p.Shows[at]
		if b, ok := showing(p, sh, func(g int) bool { return !gone[g] }, false); ok {
			out = append(out, Patch{Invocation: sh.Invocation, Start: sh.Start, End: sh.End, New: b})
		}
	}
	return out
}

// Only writes an operator that shows those of another's glyphs that keep names, from the text matrix on that the other began with: each stands in
// relation to it as it did. It sets nothing but the text position. false where the operator can't be read again.
func Only(p *Page, sh *Show, keep func(glyph int) bool) ([]byte, bool) {
	return showing(p, sh, keep, true)
}

// showing writes an operator that shows text again, without some of its glyphs. bare: without what it does before it shows.
func showing(p *Page, sh *Show, keep func(int) bool, bare bool) ([]byte, bool) {
	size := sh.State.Size
	flat := size == 0 // only spacing moves on, and no number in a TJ array does: that takes a size of 1 for a moment
	if flat {
		size = 1
	}
	s := Scanner{Data: p.Invocations[sh.Invocation].Body.Data, Pos: sh.Start}
	var o Op
	if !s.Next(&o) || len(o.Args) == 0 {
		return nil, false
	}
	items := o.Args[len(o.Args)-1:]
	if items[0].Kind == Array {
		items = items[0].Items
	}
	var b []byte
	if o.Code == opQuote2 && len(o.Args) >= 3 && !bare {
		b = append(AppendNumber(b, o.Args[0].Num), " Tw "...)
		b = append(AppendNumber(b, o.Args[1].Num), " Tc "...)
	}
	if (o.Code == opQuote || o.Code == opQuote2) && !bare {
		b = append(b, "T* "...)
	}
	b = append(b, '[')
	var run []byte
	shift := 0.0
	flushRun := func() {
		if len(run) > 0 {
			b = AppendString(b, run)
			run = run[:0]
		}
	}
	flushShift := func() {
		switch {
		case shift == 0:
		case !flat:
			b = append(AppendNumber(b, shift), ' ')
		case sh.State.FontName != "": // else it came from a graphics state dictionary and has no name here
			font := pdf.AppendObject(nil, sh.State.FontName)
			b = append(append(append(b, "] TJ "...), font...), " 1 Tf ["...)
			b = append(append(append(AppendNumber(b, shift), "] TJ "...), font...), " 0 Tf ["...)
		}
		shift = 0
	}
	g := sh.First
	for i := range items {
		it := &items[i]
		switch it.Kind {
		case Number:
			flushRun()
			if !flat {
				shift += it.Num
			}
		case String:
			for g < sh.First+sh.N && int(p.Glyphs[g].Item) == i {
				gl := &p.Glyphs[g]
				code := it.Bytes[gl.Byte : int(gl.Byte)+int(gl.Char.Bytes)]
				if !keep(g) {
					flushRun()
					shift -= advance(sh.State, gl.Char, code) * 1000 / size
				} else {
					flushShift()
					run = append(run, code...)
				}
				g++
			}
		}
	}
	flushRun()
	flushShift()
	return append(b, "] TJ"...), true
}

// advance is how far a glyph moves the text position, in unscaled text space units before Tz (9.4.4).
func advance(st *State, c *font.Char, code []byte) float64 {
	w := c.Width
	if st.Font.Vertical {
		w = c.Down
	}
	adv := w*st.Size + st.CharSpace
	if len(code) == 1 && code[0] == ' ' {
		adv += st.WordSpace
	}
	return adv
}
