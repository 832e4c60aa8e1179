package nav

import (
	"slices"
	"strconv"
	"strings"

	"glenrain/core/pdf"
)

// Label is what one page is called (ISO 32000-2, 12.4.2): the prefix, and the number in a style: D, R, r, A or a; no style, no number.
type Label struct {
	Style  pdf.Name
	Prefix string
	Number int
}

// String gives the label as people read it.
func (l Label) String() string {
	switch n := l.Number; l.Style {
	case "D":
		return l.Prefix + strconv.Itoa(n)
	case "R":
		return l.Prefix + strings.ToUpper(Roman(n))
	case "r":
		return l.Prefix + Roman(n)
	case "A", "a":
		if n < 1 || n > 26*64 { // which no document counts in letters
			return l.Prefix + strconv.Itoa(n)
		}
		s := strings.Repeat(string(rune('a'+(n-1)%26)), 1+(n-1)/26)
		if l.Style == "A" {
			s = strings.ToUpper(s)
		}
		return l.Prefix + s
	}
	return l.Prefix
}

// Roman writes n in small Roman figures; what is below 1 and over 3,999 in Arabic ones.
func Roman(n int) string {
	if n < 1 || n > 3999 {
		return strconv.Itoa(n)
	}
	var b strings.Builder
	for _, d := range []struct {
		n int
		s string
	}{{1000, "m"}, {900, "cm"}, {500, "d"}, {400, "cd"}, {100, "c"}, {90, "xc"}, {50, "l"}, {40, "xl"}, {10, "x"}, {9, "ix"}, {5, "v"}, {4, "iv"}, {1, "i"}} {
		for ; n >= d.n; n -= d.n {
			b.WriteString(d.s)
		}
	}
	return b.String()
}

// Labels gives the labels of all pages, in order; nil where the document has none, and pages are called by their place.
func Labels(doc *pdf.Document) []Label {
	pages, err := doc.Pages()
	tree := doc.Catalog().Get("PageLabels")
	if err != nil || doc.Dict(tree) == nil {
		return nil
	}
	type span struct {
		at int
		Label
	}
	var spans []span
	Numbers(doc, tree, func(at int, v pdf.Object) {
		d := doc.Dict(v)
		if d == nil || at < 0 || at >= len(pages) {
			return
		}
		l := Label{Style: doc.Name(d.Get("S")), Number: 1}
		if s, ok := doc.Resolve(d.Get("P")).(pdf.String); ok {
			l.Prefix = pdf.Text(s)
		}
		if n, ok := pdf.Number(doc.Resolve(d.Get("St"))); ok && n >= 1 && n < 1e9 {
			l.Number = int(n)
		}
		spans = append(spans, span{at, l})
	})
	if len(spans) == 0 {
		return nil
	}
	slices.SortStableFunc(spans, func(a, b span) int { return a.at - b.at })
	out := placed(0, len(pages)) // pages ahead of the first range, which the standard does not allow
	for i, s := range spans {
		end := len(pages)
		if i+1 < len(spans) {
			end = spans[i+1].at
		}
		for p := s.at; p < end; p++ {
			out[p] = s.Label
			out[p].Number += p - s.at
		}
	}
	return out
}

// placed gives labels of pages that are called by their place, from one on.
func placed(from, n int) []Label {
	out := make([]Label, n)
	for i := range out {
		out[i] = Label{Style: "D", Number: from + i + 1}
	}
	return out
}

// Placed gives labels that say the place of each page of a document.
func Placed(doc *pdf.Document) []Label {
	pages, err := doc.Pages()
	if err != nil {
		return nil
	}
	return placed(0, len(pages))
}

// Twice gives a label that more than one page has; empty where there is none.
func Twice(labels []Label) string {
	seen := make(map[string]bool, len(labels))
	for _, l := range labels {
		s := l.String()
		if seen[s] {
			return s
		}
		seen[s] = true
	}
	return ""
}

// Called gives what each page is called, in order, where that is not just its place; nil where no page is called otherwise.
func Called(doc *pdf.Document) []string {
	labels := Labels(doc)
	other := false
	out := make([]string, len(labels))
	for i, l := range labels {
		out[i] = l.String()
		other = other || out[i] != strconv.Itoa(i+1)
	}
	if !other {
		return nil
	}
	return out
}

// Numbers goes through a number tree (7.9.7).
func Numbers(doc *pdf.Document, tree pdf.Object, each func(int, pdf.Object)) {
	numbers(doc, tree, doc.NewWalk(), each)
}

func numbers(doc *pdf.Document, node pdf.Object, w *pdf.Walk, each func(int, pdf.Object)) {
	d := w.Enter(node)
	if d == nil {
		return
	}
	defer w.Leave()
	nums := doc.Array(d.Get("Nums"))
	for i := 0; i+1 < len(nums); i += 2 {
		if k, ok := doc.Resolve(nums[i]).(pdf.Integer); ok {
			each(int(k), nums[i+1])
		}
	}
	for _, k := range doc.Array(d.Get("Kids")) {
		numbers(doc, k, w, each)
	}
}

// KeepLabels notes what the pages of a document are called, and gives a function that lets them be called so again after pages came, went
// or moved. Pages that came are called as brought says, by page; where neither they nor the document have labels, there are none afterwards.
func KeepLabels(doc *pdf.Document) (again func(brought map[pdf.Ref]Label)) {
	before := Labels(doc)
	pages, err := doc.Pages()
	if err != nil && before == nil {
		pages = nil // a document that is being made
	}
	return func(brought map[pdf.Ref]Label) {
		if before == nil && len(brought) == 0 {
			return
		}
		if before == nil {
			before = placed(0, len(pages))
		}
		called := make(map[pdf.Ref]Label, len(pages)+len(brought))
		for i, p := range pages {
			called[p.Ref] = before[i]
		}
		for r, l := range brought {
			called[r] = l
		}
		after, err := doc.Pages()
		if err != nil {
			return
		}
		labels := make([]Label, len(after))
		for i, p := range after {
			l, ok := called[p.Ref]
			if !ok {
				l = Label{Style: "D", Number: i + 1}
			}
			labels[i] = l
		}
		SetLabels(doc, labels)
	}
}

// LabelsOf gives what the pages of src, by their place in it, are to be called elsewhere; nil where src has no labels and the document they
// come to has none.
func LabelsOf(dst, src *pdf.Document, at []int) []Label {
	all := Labels(src)
	if all == nil {
		if Labels(dst) == nil {
			return nil
		}
		pages, err := src.Pages()
		if err != nil {
			return nil
		}
		all = placed(0, len(pages))
	}
	out := make([]Label, len(at))
	for i, n := range at {
		out[i] = all[n]
	}
	return out
}

// SetLabels writes the labels of all pages, in order, as ranges.
func SetLabels(doc *pdf.Document, labels []Label) {
	var nums pdf.Array
	for i, l := range labels {
		if i > 0 {
			was := labels[i-1]
			was.Number++
			if l.Style == "" { // it has no number
				was.Number = l.Number
			}
			if was == l {
				continue
			}
		}
		d := pdf.NewDict()
		if l.Style != "" {
			d.Set("S", l.Style)
			if l.Number != 1 {
				d.Set("St", pdf.Integer(l.Number))
			}
		}
		if l.Prefix != "" {
			d.Set("P", pdf.TextString(l.Prefix))
		}
		nums = append(nums, pdf.Integer(i), d)
	}
	tree := NumberTree(doc, nums)
	if r, ok := doc.Catalog().Get("PageLabels").(pdf.Ref); ok && doc.Dict(r) != nil && r != doc.Root() {
		doc.Set(r, tree)
		return
	}
	doc.Edit(doc.Root()).Set("PageLabels", tree)
}

// NumberTree writes keys and values, already in order, as a number tree of at most two levels (7.9.7); its leaves are added to the document.
func NumberTree(doc *pdf.Document, nums pdf.Array) *pdf.Dict {
	const leaf = 128
	if len(nums) <= leaf {
		return pdf.NewDict("Nums", nums)
	}
	var kids pdf.Array
	for part := range slices.Chunk(nums, leaf) {
		kids = append(kids, doc.Add(pdf.NewDict("Nums", slices.Clone(part), "Limits", pdf.Array{part[0], part[len(part)-2]})))
	}
	return pdf.NewDict("Kids", kids)
}

// Number finds the value of a key in a number tree, by the limits of its nodes.
func Number(doc *pdf.Document, tree pdf.Object, key int) (value pdf.Object) {
	w := doc.NewWalk()
	var find func(node pdf.Object) bool
	find = func(node pdf.Object) bool {
		d := w.Enter(node)
		if d == nil {
			return false
		}
		defer w.Leave()
		if limits := doc.Array(d.Get("Limits")); len(limits) == 2 {
			lo, ok1 := doc.Resolve(limits[0]).(pdf.Integer)
			hi, ok2 := doc.Resolve(limits[1]).(pdf.Integer)
			if ok1 && ok2 && (key < int(lo) || key > int(hi)) {
				return false
			}
		}
		nums := doc.Array(d.Get("Nums"))
		for i := 0; i+1 < len(nums); i += 2 {
			if k, ok := doc.Resolve(nums[i]).(pdf.Integer); ok && int(k) == key {
				value = nums[i+1]
				return true
			}
		}
		return slices.ContainsFunc(doc.Array(d.Get("Kids")), find)
	}
	find(tree)
	return
}

// SetNumbers replaces values in the number tree under a key of the dictionary at r; keys that are not in it stay out.
func SetNumbers(doc *pdf.Document, r pdf.Ref, key pdf.Name, values map[int]pdf.Object) {
	if len(values) == 0 {
		return
	}
	w := doc.NewWalk()
	var walk func(node pdf.Object) pdf.Object
	walk = func(node pdf.Object) pdf.Object {
		d := w.Enter(node)
		if d == nil {
			return node
		}
		defer w.Leave()
		own := d.Clone()
		changed := false
		nums := slices.Clone(doc.Array(d.Get("Nums")))
		for i := 0; i+1 < len(nums); i += 2 {
			k, ok := doc.Resolve(nums[i]).(pdf.Integer)
			if v, there := values[int(k)]; ok && there {
				nums[i+1] = v
				changed = true
			}
		}
		if changed {
			own.Set("Nums", nums)
		}
		kids := slices.Clone(doc.Array(d.Get("Kids")))
		for i, k := range kids {
			_, direct := k.(*pdf.Dict)
			if to := walk(k); direct {
				kids[i] = to
				changed = true
			}
		}
		if !changed {
			return node
		}
		if len(kids) > 0 {
			own.Set("Kids", kids)
		}
		if ref, ok := node.(pdf.Ref); ok {
			doc.Set(ref, own)
			return node
		}
		return own
	}
	tree := doc.Dict(r).Get(key)
	if to, ok := walk(tree).(*pdf.Dict); ok {
		doc.Edit(r).Set(key, to)
	}
}

// Between gives the label of a page that is put ahead of the one at an index: that of the page before it with a letter behind, as is usual for
// pages that are put in later; n is how many were put there ahead of it.
func Between(labels []Label, at, n int) Label {
	before := ""
	if at > 0 {
		before = labels[min(at, len(labels))-1].String()
	}
	return Label{Prefix: before + Label{Style: "a", Number: n + 1}.String()}
}
