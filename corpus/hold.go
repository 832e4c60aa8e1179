package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"

	"glenrain/core/pdf"
)

// match is a page of the file that was handed out, and the one that it was.
type match struct {
	after, before int
	side          *side
	turn          int // of the insertion that brought it; 0 for a page of the file itself
	named         bool
}

// sides keeps lenders, which many files hold pages against.
var sides sync.Map

func lenderSide(path string) (*side, error) {
	if s, ok := sides.Load(path); ok {
		return s.(*side), nil
	}
	s, err := openSide(path)
	if err == nil {
		sides.Store(path, s)
	}
	return s, err
}

// hold holds the file that was handed out against what its pages were.
func (w *walked) hold(final *pdf.Document, out string) {
	was, err := openSide(w.base)
	if err != nil {
		return // qpdf can't read the file as it came: nothing to hold it against
	}
	is, err := openSide(out)
	if err != nil {
		w.miss("qpdf can't read what was handed out")
		return
	}
	own := map[pdf.Ref]int{}
	before, err := w.doc.Pages()
	if err != nil {
		w.miss("%v", err)
		return
	}
	for i, l := range before {
		own[l.Ref] = i
	}
	pages, err := final.Pages()
	if err != nil || len(pages) != len(is.pages) || len(before) != len(was.pages) {
		w.miss("%d pages, %d by qpdf; %d and %d before (%v)", len(pages), len(is.pages), len(before), len(was.pages), err)
		return
	}
	// Where each page is now, by the turn that brought it and its index there.
	at := map[[2]int]int{}
	var list []match
	for i, l := range pages {
		if n, ok := own[l.Ref]; ok {
			list = append(list, match{i, n, was, 0, w.named[l.Ref]})
			at[[2]int{0, n}] = i
			continue
		}
		o := w.from[l.Ref]
		if o.path == "" { // made here
			continue
		}
		src, err := lenderSide(o.path)
		if err != nil {
			continue
		}
		list = append(list, match{i, o.page, src, o.turn, w.named[l.Ref]})
		at[[2]int{o.turn, o.page}] = i
	}
	h := &holder{walked: w, is: is, at: at, pairs: map[int]*pair{}, cut: map[int]bool{}, changed: map[int]bool{}}
	for _, m := range list {
		if m.named {
			h.changed[m.after] = true
		}
	}
	for _, m := range list {
		if !m.named {
			h.page(m)
		}
	}
	h.flush()
	h.pixels(list)
	h.catalog(was)
	for turn, src := range h.turns(list, was) {
		h.outline(src, turn)
	}
	h.order(list)
	h.removed(was, list, len(before))
	w.misses = append(w.misses, unreachable(is.graph)...)
}

type holder struct {
	*walked
	is    *side
	at    map[[2]int]int
	pairs map[int]*pair // by turn
	cut   map[int]bool  // pages that lost a link, and with it a frame that it may have had

	changed map[int]bool // pages that steps changed: places on them may have moved
}

// like reports whether two destinations on a page show it in the same way; only the way, where places on it may have moved.
func (h *holder) like(page int, a, b string) bool {
	if a == b || !h.changed[page] {
		return a == b
	}
	kind := func(s string) string {
		s, _, _ = strings.Cut(strings.TrimPrefix(s, "["), " ")
		return strings.TrimSuffix(s, "]")
	}
	return kind(a) == kind(b)
}

// turns gives the files that pages came from, by turn.
func (h *holder) turns(list []match, was *side) map[int]*side {
	out := map[int]*side{0: was}
	for _, m := range list {
		out[m.turn] = m.side
	}
	return out
}

// skipped are keys that lead away from a page, or that are numbers only; what they stand for is held elsewhere.
var skipped = map[string]bool{"/Parent": true, "/StructParents": true, "/StructParent": true, "/Dest": true, "/B": true, "/P": true, "/Pg": true, "/Annots": true, "/Dests": true}

// ofFields are a field's entries, which a widget may have inherited or have itself.
var ofFields = []string{"/T", "/TU", "/TM", "/V", "/DV", "/FT", "/Ff", "/DA", "/Q", "/Kids", "/MaxLen", "/Opt", "/Lock", "/SV", "/DS", "/RV", "/A", "/AA", "/AP", "/TI", "/I"}

func (h *holder) pair(m match) *pair {
	p := h.pairs[m.turn]
	if p == nil {
		p = &pair{a: m.side.graph, b: h.is.graph, seen: map[[2]string]bool{}, pageA: map[string]int{}, pageB: map[string]int{}, skip: skipped}
		for ref, i := range m.side.index {
			p.pageA[ref] = -1 - i // gone
			if j, ok := h.at[[2]int{m.turn, i}]; ok {
				p.pageA[ref] = j
			}
		}
		maps.Copy(p.pageB, h.is.index)
		h.pairs[m.turn] = p
	}
	return p
}

func (h *holder) flush() {
	for turn, p := range h.pairs {
		p.run()
		for _, m := range p.misses {
			if turn > 0 {
				m += fmt.Sprintf(" (inserted by step %d)", turn)
			}
			h.misses = append(h.misses, m)
		}
	}
}

// page holds one page.
func (h *holder) page(m match) {
	a, b := m.side, h.is
	where := fmt.Sprintf("page %d", m.after+1)
	if m.turn > 0 {
		where += fmt.Sprintf(" (inserted by step %d, page %d of %s)", m.turn, m.before+1, m.side.path)
	}
	p := h.pair(m)
	x, y := a.pages[m.before].dict, b.pages[m.after].dict
	lang := false // content of an untagged source may be marked with its language
	if m.turn > 0 {
		n, k := len(contents(a, x)), len(contents(b, y))
		lang = k == n+2 && n > 0
		if lang {
			x, y = without(x, "/Contents"), without(y, "/Contents")
		}
	}
	for _, d := range []*map[string]any{&x, &y} { // what stands for nothing
		if v, ok := (*d)["/Rotate"].(json.Number); ok && v == "0" {
			*d = without(*d, "/Rotate")
		}
		if *d = without(*d, ""); (*d)["/MediaBox"] == nil { // which programs take where a page has none
			(*d)["/MediaBox"] = []any{json.Number("0"), json.Number("0"), json.Number("612"), json.Number("792")}
		}
	}
	p.dicts(x, y, where)

	if la, lb := a.labels[m.before], b.labels[m.after]; la != lb && !(la == "" && lb == "physical") {
		if _, err := strconv.Atoi(lb); la != "" && la != "physical" || err != nil { // where there are no labels, the place is the label, at the time when labels come
			h.miss("%s: label %q, was %q", where, lb, la)
		}
	}
	if m.before < len(a.texts) && m.after < len(b.texts) && a.texts[m.before] != b.texts[m.after] && !h.drawnByUs(m) {
		h.miss("%s: text differs", where)
	}
	h.annots(m, where)
	if la, lb := a.seen(m.before), b.seen(m.after); !slices.Equal(la, lb) {
		h.miss("%s: layers %v, were %v", where, lb, la)
	}
	ta, tb := a.tags[m.before], b.tags[m.after]
	links := func(tag string) bool {
		return strings.HasSuffix(tag, "object /Link") || strings.HasSuffix(tag, "object ")
	} // some went
	ta, tb = slices.DeleteFunc(slices.Clone(ta), links), slices.DeleteFunc(slices.Clone(tb), links)
	if !slices.Equal(ta, tb) {
		i := 0
		for i < min(len(ta), len(tb)) && ta[i] == tb[i] {
			i++
		}
		h.miss("%s: %d tags, were %d; from the %dth on %.120s, were %.120s", where, len(tb), len(ta), i+1, fmt.Sprint(tb[i:]), fmt.Sprint(ta[i:]))
	}
}

func contents(s *side, page map[string]any) []any {
	if l := s.list(page["/Contents"]); l != nil {
		return l
	}
	if v, ok := page["/Contents"]; ok && !isNull(s.graph, v) {
		return []any{v}
	}
	return nil
}

// drawnByUs reports whether a page has fields that programs draw in their own way before, and in ours after.
func (h *holder) drawnByUs(m match) bool {
	form := m.side.dict(m.side.root["/AcroForm"])
	needs := m.side.plain(form["/NeedAppearances"], 1) == "true" || h.is.plain(h.is.dict(h.is.root["/AcroForm"])["/NeedAppearances"], 1) == "true"
	for _, o := range m.side.list(m.side.pages[m.before].dict["/Annots"]) {
		d := m.side.dict(o)
		if m.turn > 0 && m.side.name(d["/Subtype"]) == "/Widget" && (needs || m.side.dict(d["/AP"]) == nil) {
			return true
		}
	}
	return false
}

// annots holds the annotations of a page: all are there but links to pages that are not.
func (h *holder) annots(m match, where string) {
	a, b := m.side, h.is
	var la, lb []map[string]any
	for _, o := range a.list(a.pages[m.before].dict["/Annots"]) {
		d := a.dict(o)
		if d == nil {
			continue
		}
		page, _ := a.target(d)
		if page >= 0 {
			if _, here := h.at[[2]int{m.turn, page}]; !here {
				h.cut[m.after] = true
				continue
			}
		}
		la = append(la, d)
	}
	for _, o := range b.list(b.pages[m.after].dict["/Annots"]) {
		if d := b.dict(o); d != nil {
			lb = append(lb, d)
		}
	}
	if len(la) != len(lb) {
		var to []string
		for _, d := range la {
			page, how := a.target(d)
			to = append(to, fmt.Sprintf("%s to %d %.40s", a.name(d["/Subtype"]), page+1, how))
		}
		h.miss("%s: %d annotations, were %d: %.200s (page %d then)", where, len(lb), len(la), strings.Join(to, ", "), m.before+1)
		return
	}
	p := h.pair(m)
	for i := range la {
		x, y := la[i], lb[i]
		at := fmt.Sprintf("%s annotation %d", where, i+1)
		pageA, howA := a.target(x)
		pageB, howB := b.target(y)
		if pageA >= 0 {
			pageA = h.at[[2]int{m.turn, pageA}]
		}
		if howA == "nowhere" && m.turn > 0 { // a name that meant nothing there may be kept or not
			howA, howB = "", ""
		}
		if pageA != pageB || !h.like(pageB, howA, howB) {
			h.miss("%s leads to page %d %.60s, should lead to page %d %.60s", at, pageB+1, howB, pageA+1, howA)
		}
		if a.name(x["/Subtype"]) == "/Widget" {
			if fa, fb := a.field(x), b.field(y); fa != fb && !strings.Contains(fa, "(no font)") {
				h.miss("%s: field %.300s, was %.300s", at, fb, fa)
			}
			if apA := x["/AP"]; !isNull(a.graph, apA) && !h.drawnByUs(m) {
				p.later(apA, y["/AP"], at+"/AP")
			}
			for _, k := range ofFields {
				x, y = without(x, k), without(y, k)
			}
		}
		if s := a.name(a.dict(x["/A"])["/S"]); s == "/GoTo" || x["/Dest"] != nil {
			x, y = without(without(x, "/A"), "/Dest"), without(without(y, "/A"), "/Dest")
		}
		p.dicts(x, y, at)
	}
	// What the form's own entries say is for all its fields.
	if m.turn == 0 && len(la) > 0 {
		na, nb := a.plain(a.dict(a.root["/AcroForm"])["/NeedAppearances"], 1), b.plain(b.dict(b.root["/AcroForm"])["/NeedAppearances"], 1)
		if na != nb && (na == "true" || nb == "true") && a.dict(a.root["/AcroForm"]) != nil {
			h.miss("%s: NeedAppearances is %s, was %s", where, nb, na)
		}
	}
}

// mostPixels is how many pages of a kind are drawn.
const mostPixels = 2

// pixels draws a few pages, of the file itself and of those that came, by two programs.
func (h *holder) pixels(list []match) {
	left := map[bool]int{false: mostPixels, true: mostPixels}
	for _, i := range h.rng.Perm(len(list)) {
		m := list[i]
		if m.named || left[m.turn > 0] == 0 || h.drawnByUs(m) || h.cut[m.after] {
			continue
		}
		left[m.turn > 0]--
		for name, draw := range map[string]func(path string, page int) ([]byte, error){
			"poppler": func(path string, page int) ([]byte, error) {
				at := strconv.Itoa(page)
				return said(path, []string{"pdftoppm", "-r", "40", "-f", at, "-l", at, "FILE"})
			},
			"mutool": func(path string, page int) ([]byte, error) {
				return said(path, []string{"mutool", "draw", "-q", "-r", "40", "-F", "pnm", "-o", "-", "FILE", strconv.Itoa(page)})
			},
		} {
			a, err1 := draw(m.side.path, m.before+1)
			b, err2 := draw(h.is.path, m.after+1)
			if err1 == nil && len(a) > 0 && (err2 != nil || !bytes.Equal(a, b)) {
				h.miss("page %d (step %d, page %d of %s): pixels by %s differ", m.after+1, m.turn, m.before+1, m.side.path, name)
			}
		}
	}
}

// inCatalog are entries of the catalog that belong to pages, or that are held by themselves.
var inCatalog = []string{"/Pages", "/Names", "/Dests", "/Outlines", "/StructTreeRoot", "/AcroForm", "/OCProperties", "/PageLabels", "/Perms", "/Metadata",
	"/ViewerPreferences", "/OpenAction", "/Threads", "/Version", "/NeedsRendering", "/PieceInfo", "/MarkInfo"}

// catalog holds the entries of the file's own catalog.
func (h *holder) catalog(was *side) {
	p := h.pair(match{side: was})
	p.misses = nil
	a, b := was.root, h.is.root
	for _, k := range inCatalog {
		a, b = without(a, k), without(b, k)
	}
	p.dicts(a, b, "Root")
	pa, pb := was.dict(was.root["/ViewerPreferences"]), h.is.dict(h.is.root["/ViewerPreferences"])
	p.dicts(without(pa, "/PrintPageRange"), without(pb, "/PrintPageRange"), "Root/ViewerPreferences")
	p.run()
	h.misses = append(h.misses, p.misses...)
	for _, key := range []string{"/EmbeddedFiles", "/JavaScript"} {
		has := h.is.named(key)
		for _, v := range was.named(key) {
			if !slices.Contains(has, v) {
				h.miss("%s: %.80s is gone", key, v)
			}
		}
	}
	if page, how := was.dest(was.root["/OpenAction"]); page >= 0 {
		want, here := h.at[[2]int{0, page}]
		got, howB := h.is.dest(h.is.root["/OpenAction"])
		if here && (got != want || !h.like(got, how, howB)) {
			h.miss("OpenAction leads to page %d, should lead to %d", got+1, want+1)
		}
	}
}

// outline holds bookmarks: those that lead to a page that is here, or do something else, are there in their order.
func (h *holder) outline(src *side, turn int) {
	has := h.is.outline()
	i := 0
	items := src.outline()
	for _, it := range items {
		if it.page >= 0 {
			to, here := h.at[[2]int{turn, it.page}]
			if !here {
				continue
			}
			it.page = to
		} else if turn > 0 || it.how == "" || it.how == "nowhere" {
			continue // of a source only those come that lead to its pages, unless all of it came
		}
		from := i
		for i < len(has) && !(has[i].title == it.title && has[i].page == it.page && h.like(it.page, has[i].how, it.how) && has[i].look == it.look) {
			i++
		}
		if i == len(has) {
			h.miss("bookmark %.60s to page %d %.40s is gone (step %d)", it.title, it.page+1, it.how, turn)
			i = from
			continue
		}
		i++
	}
}

// order holds that tags come in the order of pages where they did before.
func (h *holder) order(list []match) {
	for _, s := range h.turns(list, nil) {
		if s != nil && s.jumps {
			return
		}
	}
	for i := 1; i < len(h.is.firsts); i++ {
		x, y := h.is.firsts[i-1], h.is.firsts[i]
		if x > y && !h.is.bound(x, y) {
			h.miss("tags come to page %d before page %d: %.100s", x+1, y+1, fmt.Sprint(h.is.firsts))
			return
		}
	}
}

// bound reports whether tags can't but come to page x before y: an element holds x together with a page before y, and not y.
func (s *side) bound(x, y int) bool {
	for _, on := range s.spans {
		if !on[x] || on[y] {
			continue
		}
		for p := range on {
			if p < y {
				return true
			}
		}
	}
	return false
}

var wordRE = regexp.MustCompile(`[\p{L}\p{N}]{8,}`)

// longWords gives the words of eight letters and more.
func longWords(s string, into map[string]bool) {
	for _, w := range wordRE.FindAllString(s, -1) {
		if strings.IndexFunc(w, unicode.IsLetter) >= 0 {
			into[w] = true
		}
	}
}

// onPage gathers what a page says: its text, its annotations, its fields' values, its tags.
func (s *side) onPage(i int, into map[string]bool) {
	if i < len(s.texts) {
		longWords(s.texts[i], into)
	}
	for _, o := range s.list(s.pages[i].dict["/Annots"]) {
		d := s.dict(o)
		for _, k := range []string{"/Contents", "/T", "/TU", "/V", "/DV", "/RC", "/Subj"} {
			if x, ok := s.text(s.inherit(d, k)); ok {
				longWords(x, into)
			}
		}
		if _, how := s.target(d); how != "" {
			longWords(how, into)
		}
	}
	for _, x := range s.said[i] {
		longWords(x, into)
	}
}

// removed holds that what removed pages alone said is nowhere in the file.
func (h *holder) removed(was *side, list []match, pages int) {
	gone, stay := map[string]bool{}, map[string]bool{"Identity": true} // which is in each composite font
	here := map[int]bool{}
	through := map[*side]map[string]bool{}
	for _, m := range list {
		if through[m.side] == nil {
			through[m.side] = map[string]bool{}
		}
		m.side.within(m.side.pages[m.before].dict["/Resources"], through[m.side], func(x string) { longWords(x, stay) })
		m.side.onPage(m.before, stay)
		if m.turn == 0 {
			here[m.before] = true
		}
	}
	if len(here) == pages {
		return
	}
	for i := range pages {
		if !here[i] {
			was.onPage(i, gone)
		}
	}
	// What belongs to no page stays: the document's own words, and headings that were asked to stay.
	for _, k := range []string{"/Info", "/ID"} {
		longWords(was.plain(was.trailer[k], 4), stay)
	}
	for k, v := range was.root {
		switch k {
		case "/Pages", "/Outlines", "/StructTreeRoot", "/AcroForm", "/Names", "/Dests":
		default:
			longWords(was.plain(v, 12), stay)
		}
	}
	for _, it := range was.outline() {
		if it.page < 0 || here[it.page] || it.kids {
			longWords(it.title+it.how, stay)
		} else {
			longWords(it.title, gone)
		}
	}
	for name, v := range was.dests { // also of places on pages that stay
		if page, _ := was.dest(v); page < 0 || here[page] {
			longWords(name, stay)
		}
	}
	for _, t := range h.told {
		longWords(t, stay)
	}
	for _, m := range list {
		longWords(m.side.plain(m.side.trailer["/Info"], 3), stay)
		if m.turn > 0 { // what a source brings
			for _, it := range m.side.outline() {
				longWords(it.title+it.how, stay)
			}
			for _, o := range m.side.objects {
				h.strings(o, func(x string) { longWords(x, stay) })
			}
			longWords(m.side.path, stay)
		}
	}
	for _, key := range []string{"/EmbeddedFiles", "/JavaScript"} {
		for _, v := range was.named(key) {
			longWords(v, stay)
		}
	}
	for _, m := range list {
		for _, x := range h.is.said[m.after] {
			longWords(x, stay)
		}
	}
	var left []string
	for ref, o := range h.is.objects {
		h.strings(o, func(x string) {
			found := map[string]bool{}
			longWords(x, found)
			for word := range found {
				if gone[word] && !stay[word] {
					left = append(left, word+" in "+ref)
				}
			}
		})
	}
	if len(left) > 0 {
		slices.Sort(left)
		h.miss("%d words of removed pages are left: %.160s", len(left), strings.Join(left, ", "))
	}
}

// within calls f with all strings that a value leads to.
func (s *side) within(v any, seen map[string]bool, f func(string)) {
	todo := []any{v}
	for len(todo) > 0 {
		v := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if d, ok := v.(stream); ok {
			v = d.dict
		}
		switch d := v.(type) {
		case string:
			if isRef(d) {
				if !seen[d] {
					seen[d] = true
					todo = append(todo, s.objects[d])
				}
			} else if x, ok := strings.CutPrefix(d, "u:"); ok {
				f(x)
			}
		case []any:
			todo = append(todo, d...)
		case map[string]any:
			for k, e := range d {
				if k != "/Parent" {
					todo = append(todo, e)
				}
			}
		}
	}
}

// strings calls f with all strings within a value.
func (h *holder) strings(v any, f func(string)) {
	switch d := v.(type) {
	case string:
		if s, ok := strings.CutPrefix(d, "u:"); ok {
			f(s)
		}
	case []any:
		for _, e := range d {
			h.strings(e, f)
		}
	case map[string]any:
		for _, e := range d {
			h.strings(e, f)
		}
	case stream:
		h.strings(d.dict, f)
	}
}
