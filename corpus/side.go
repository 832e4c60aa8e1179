package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// side is one of two files that are held against each other, as qpdf and poppler tell it.
type side struct {
	*graph
	path   string
	pages  []leaf
	index  map[string]int // of page objects
	labels []string
	texts  []string
	root   map[string]any
	dests  map[string]any
	tags   map[int][]string // by page, in the order of the tree
	firsts []int            // pages in the order in which the tree comes to them first
	last   int              // the page of the last tag
	jumps  bool             // the tree goes back to pages before
	spans  []map[int]bool   // the pages of elements that stand on several
	said   map[int][]string // strings of tags that stand on one page alone
	layers map[string]bool  // of optional content groups: seen by default
}

func openSide(path string) (*side, error) {
	g, err := readGraph(path)
	if err != nil {
		return nil, err
	}
	s := &side{graph: g, path: path, pages: g.leaves(), index: map[string]int{}, root: g.dict(g.trailer["/Root"]), dests: map[string]any{}}
	for i, l := range s.pages {
		if l.ref != "" {
			s.index[l.ref] = i
		}
	}
	if err := s.readLabels(); err != nil {
		return nil, err
	}
	out, _ := said(path, []string{"pdftotext", "FILE", "-"})
	s.texts = strings.Split(string(out), "\f")
	for k, v := range s.dict(s.root["/Dests"]) {
		s.dests[k] = v
	}
	s.tree(s.dict(s.root["/Names"])["/Dests"], "/Names", func(k, v any) {
		n, ok := k.(string)
		if _, twice := s.dests[n]; ok && !twice {
			s.dests[n] = v
		}
	})
	s.readLayers()
	s.readTags()
	return s, nil
}

// list gives an array.
func (g *graph) list(v any) []any { o, _ := g.at(v); l, _ := o.([]any); return l }

// tree walks a name or number tree.
func (g *graph) tree(v any, leaves string, put func(k, v any)) {
	seen := map[string]bool{}
	var walk func(any)
	walk = func(v any) {
		o, ref := g.at(v)
		d, _ := o.(map[string]any)
		if d == nil || ref != "" && seen[ref] {
			return
		}
		seen[ref] = true
		l := g.list(d[leaves])
		for i := 0; i+1 < len(l); i += 2 {
			k, _ := g.at(l[i])
			put(k, l[i+1])
		}
		for _, kid := range g.list(d["/Kids"]) {
			walk(kid)
		}
	}
	walk(v)
}

// readLabels makes the labels of all pages (ISO 32000-2, 12.4.2).
func (s *side) readLabels() error {
	s.labels = make([]string, len(s.pages))
	starts := map[int]map[string]any{}
	s.tree(s.root["/PageLabels"], "/Nums", func(k, v any) {
		if n, ok := k.(json.Number); ok {
			at, _ := n.Int64()
			starts[int(at)] = s.dict(v)
		}
	})
	var at map[string]any
	first := 0
	for i := range s.pages {
		if d, ok := starts[i]; ok {
			at, first = d, i
		}
		if at == nil {
			s.labels[i] = "physical"
			if len(starts) == 0 {
				s.labels[i] = ""
			}
			continue
		}
		n := 1
		if v, ok := at["/St"].(json.Number); ok {
			m, _ := v.Int64()
			n = int(m)
		}
		n += i - first
		prefix, _ := s.at(at["/P"])
		p, _ := prefix.(string)
		p = strings.TrimPrefix(strings.TrimPrefix(p, "u:"), "b:")
		switch s.name(at["/S"]) {
		case "/D":
			p += strconv.Itoa(n)
		case "/R", "/r", "/A", "/a":
			p += s.name(at["/S"]) + strconv.Itoa(n)
		}
		s.labels[i] = p
	}
	return nil
}

func (s *side) readLayers() {
	s.layers = map[string]bool{}
	d := s.dict(s.dict(s.root["/OCProperties"])["/D"])
	for _, o := range s.list(s.dict(s.root["/OCProperties"])["/OCGs"]) {
		if r, ok := o.(string); ok {
			s.layers[r] = s.name(d["/BaseState"]) != "/OFF"
		}
	}
	for k, on := range map[string]bool{"/ON": true, "/OFF": false} {
		for _, o := range s.list(d[k]) {
			if r, ok := o.(string); ok {
				s.layers[r] = on
			}
		}
	}
}

// seen lists the layers of a page by name, with whether they are seen.
func (s *side) seen(i int) (out []string) {
	put := func(v any) {
		r, _ := v.(string)
		if on, ok := s.layers[r]; ok {
			out = append(out, fmt.Sprintf("%v %v", s.dict(r)["/Name"], on))
		}
	}
	res := s.dict(s.pages[i].dict["/Resources"])
	for _, v := range s.dict(res["/Properties"]) {
		put(v)
		for _, o := range s.list(s.dict(v)["/OCGs"]) {
			put(o)
		}
		put(s.dict(v)["/OCGs"])
	}
	for _, v := range s.dict(res["/XObject"]) {
		put(s.dict(v)["/OC"])
	}
	for _, a := range s.list(s.pages[i].dict["/Annots"]) {
		put(s.dict(a)["/OC"])
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// role follows the role map.
func (s *side) role(v any) string {
	n := s.name(v)
	roles := s.dict(s.dict(s.root["/StructTreeRoot"])["/RoleMap"])
	for range 10 {
		to := s.name(roles[n])
		if to == "" || to == n {
			break
		}
		n = to
	}
	return n
}

// readTags walks the structure tree.
func (s *side) readTags() {
	s.tags, s.said = map[int][]string{}, map[int][]string{}
	seen := map[string]bool{}
	come := map[int]bool{}
	var walk func(v any, page int, role string) map[int]bool // the pages that it stands on
	walk = func(v any, page int, role string) map[int]bool {
		on := map[int]bool{}
		o, ref := s.at(v)
		put := func(page int, what string) {
			if page < 0 {
				return
			}
			on[page] = true
			s.jumps = s.jumps || page < s.last
			s.last = page
			if !come[page] {
				come[page] = true
				s.firsts = append(s.firsts, page)
			}
			s.tags[page] = append(s.tags[page], role+" "+what)
		}
		pageOf := func(d map[string]any) int {
			if r, ok := d["/Pg"].(string); ok {
				if i, ok := s.index[r]; ok {
					return i
				}
				return -1
			}
			return page
		}
		switch d := o.(type) {
		case json.Number:
			put(page, d.String())
		case []any:
			for _, k := range d {
				maps.Copy(on, walk(k, page, role))
			}
		case map[string]any:
			if ref != "" {
				if seen[ref] {
					return on
				}
				seen[ref] = true
			}
			at := pageOf(d)
			switch s.name(d["/Type"]) {
			case "/MCR":
				n, _ := s.at(d["/MCID"])
				put(at, fmt.Sprint(n))
				return on
			case "/OBJR":
				put(at, "object "+s.name(s.dict(d["/Obj"])["/Subtype"]))
				return on
			}
			maps.Copy(on, walk(d["/K"], at, s.role(d["/S"])))
			if len(on) > 1 {
				s.spans = append(s.spans, maps.Clone(on))
			}
			if len(on) == 1 {
				for p := range on {
					for _, k := range []string{"/Alt", "/ActualText", "/T", "/E"} {
						if x, ok := s.text(d[k]); ok {
							s.said[p] = append(s.said[p], x)
						}
					}
				}
			}
		}
		return on
	}
	walk(s.dict(s.root["/StructTreeRoot"])["/K"], -1, "")
}

// text gives a string.
func (g *graph) text(v any) (string, bool) {
	o, _ := g.at(v)
	s, ok := o.(string)
	if !ok || !strings.HasPrefix(s, "u:") {
		return "", false
	}
	return s[2:], true
}

// target tells where an annotation or an outline item leads: to a page of this file (with where on it), or by whichever action.
func (s *side) target(d map[string]any) (page int, how string) {
	if v, ok := d["/Dest"]; ok && !isNull(s.graph, v) {
		return s.dest(v)
	}
	a := s.dict(d["/A"])
	if a == nil {
		return -1, ""
	}
	if s.name(a["/S"]) == "/GoTo" {
		return s.dest(a["/D"])
	}
	return -1, s.plain(a, 6)
}

func (s *side) dest(v any) (int, string) {
	for range 4 {
		o, _ := s.at(v)
		switch d := o.(type) {
		case string:
			next, ok := s.dests[d]
			if !ok {
				return -1, "nowhere"
			}
			v = next
			continue
		case map[string]any:
			v = d["/D"]
			continue
		case []any:
			if len(d) == 0 {
				return -1, "nowhere"
			}
			how := s.plain(d[1:], 3)
			if n, ok := d[0].(json.Number); ok {
				i, _ := n.Int64()
				if int(i) < len(s.pages) {
					return int(i), how
				}
				return -1, "nowhere"
			}
			r, _ := d[0].(string)
			if i, ok := s.index[r]; ok {
				return i, how
			}
		}
		return -1, "nowhere"
	}
	return -1, "nowhere"
}

// plain writes a value with what it refers to, a few levels deep, without numbers of objects.
func (g *graph) plain(v any, depth int) string {
	if depth == 0 {
		return "…"
	}
	o, _ := g.at(v)
	switch d := o.(type) {
	case map[string]any:
		var b strings.Builder
		for _, k := range slices.Sorted(maps.Keys(d)) {
			if k != "/Parent" && k != "/P" && k != "/Pg" && !isNull(g, d[k]) {
				b.WriteString(k + " " + g.plain(d[k], depth-1) + " ")
			}
		}
		return "<<" + b.String() + ">>"
	case []any:
		var b strings.Builder
		for _, e := range d {
			b.WriteString(g.plain(e, depth-1) + " ")
		}
		return "[" + b.String() + "]"
	case stream:
		return fmt.Sprintf("stream %x", d.sum[:4])
	case json.Number:
		f, _ := d.Float64()
		return strconv.FormatFloat(f, 'g', 9, 64)
	}
	return fmt.Sprint(o)
}

// inherit gives a field's entry, from those above it where it has none.
func (s *side) inherit(d map[string]any, key string) any {
	for range 20 {
		if d == nil {
			return nil
		}
		if v, ok := d[key]; ok && !isNull(s.graph, v) {
			return v
		}
		d = s.dict(d["/Parent"])
	}
	return nil
}

// field writes a widget with what it is and what it is drawn with, defaults resolved: the name of the font in DA gives way to the font.
func (s *side) field(w map[string]any) string {
	form := s.dict(s.root["/AcroForm"])
	da := s.inherit(w, "/DA")
	if da == nil {
		da = form["/DA"]
	}
	q := s.inherit(w, "/Q")
	if q == nil {
		q = form["/Q"]
	}
	if q == nil {
		q = json.Number("0")
	}
	how, _ := s.text(da)
	words := strings.Fields(how)
	for i, word := range words {
		if !strings.HasPrefix(word, "/") {
			continue
		}
		words[i] = "(no font)"
		if f := s.dict(s.dict(s.dict(form["/DR"])["/Font"])[word]); f != nil {
			words[i] = s.plain(f, 4)
		}
	}
	value := s.plain(s.inherit(w, "/V"), 4)
	if s.name(s.inherit(w, "/FT")) == "/Sig" {
		value = ""
	}
	return strings.Join([]string{s.name(s.inherit(w, "/FT")), value, strings.Join(words, " "), s.plain(q, 1), s.plain(s.inherit(w, "/Ff"), 1), s.plain(s.inherit(w, "/Opt"), 4)}, "|")
}

// item is one of the outline's.
type item struct {
	title string
	page  int
	how   string
	look  string // colour and style
	kids  bool
}

func (s *side) outline() (out []item) {
	seen := map[string]bool{}
	var walk func(v any, depth int)
	walk = func(v any, depth int) {
		for depth < 60 {
			o, ref := s.at(v)
			d, _ := o.(map[string]any)
			if d == nil || seen[ref] {
				return
			}
			seen[ref] = true
			page, how := s.target(d)
			look := s.plain([]any{d["/C"], d["/F"]}, 3)
			out = append(out, item{s.plain(d["/Title"], 1), page, how, look, d["/First"] != nil})
			walk(d["/First"], depth+1)
			v = d["/Next"]
		}
	}
	walk(s.dict(s.root["/Outlines"])["/First"], 0)
	return out
}

// named lists a name tree of the catalog: names with their values in short.
func (s *side) named(key string) (out []string) {
	s.tree(s.dict(s.root["/Names"])[key], "/Names", func(k, v any) { out = append(out, s.plain(v, 5)) })
	slices.Sort(out)
	return out
}
