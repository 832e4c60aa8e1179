package pdf

// Weigher estimates what parts of a document weigh as files of their own: what their pages draw with counts once, however many of them use it.
type Weigher struct {
	doc   *Document
	pages []Ref
	sizes map[int]int64 // of objects, by number
	of    [][]int       // the objects of each page, as far as they are kept
	kept  int           // how many of them are
}

// mostKept bounds how many objects of pages are kept from one question to the next.
const mostKept = 4 << 20

// Bytes that a file, and a page of it, take besides what they draw with.
const (
	fileBytes   = 900
	pageBytes   = 180
	streamBytes = 40
)

// NewWeigher prepares to weigh parts of a document.
func NewWeigher(doc *Document) (*Weigher, error) {
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	w := &Weigher{doc: doc, sizes: map[int]int64{}, of: make([][]int, len(all))}
	for _, l := range all {
		w.pages = append(w.pages, l.Ref)
	}
	return w, nil
}

// objects gives the objects that a page draws with.
func (w *Weigher) objects(i int) []int {
	if w.of[i] != nil {
		return w.of[i]
	}
	page := w.pages[i]
	nums, err := w.doc.drawnWith([]Ref{page}, false)
	if err != nil {
		nums = nil
	}
	add := func(o Object) {
		if r, ok := o.(Ref); ok {
			nums = append(nums, r.Num)
		}
	}
	contents := w.doc.Dict(page).Get("Contents")
	if list := w.doc.Array(contents); list != nil {
		for _, o := range list {
			add(o)
		}
	} else {
		add(contents)
	}
	for _, o := range w.doc.Array(w.doc.Dict(page).Get("Annots")) {
		add(o)
		add(w.doc.Dict(w.doc.Dict(o).Get("AP")).Get("N"))
	}
	out := make([]int, 0, len(nums))
	for _, n := range nums {
		if _, known := w.sizes[n]; !known {
			size := int64(30)
			if o, err := w.doc.Load(Ref{Num: n, Gen: w.doc.gen(n)}); err == nil {
				if s, ok := o.(*Stream); ok {
					size = int64(s.RawLen()) + streamBytes
				}
			}
			w.sizes[n] = size
		}
		out = append(out, n)
	}
	if w.kept += len(out); w.kept < mostKept {
		w.of[i] = out
	}
	return out
}

// Part estimates the bytes of a file of the pages from one index to another, which is not among them.
func (w *Weigher) Part(from, to int) int64 {
	total := int64(fileBytes)
	seen := map[int]bool{}
	for i := from; i < to; i++ {
		total += pageBytes
		for _, n := range w.objects(i) {
			if !seen[n] {
				seen[n] = true
				total += w.sizes[n]
			}
		}
	}
	return total
}

// Fill gives the indexes at which parts begin that are as large as they may be and weigh no more than most bytes each; a page that is heavier by itself
// is a part of its own.
func (w *Weigher) Fill(most int64) []int {
	var cuts []int
	total, from := int64(fileBytes), 0
	seen := map[int]bool{}
	for i := range w.pages {
		add := int64(pageBytes)
		for _, n := range w.objects(i) {
			if !seen[n] {
				add += w.sizes[n]
			}
		}
		if i > from && total+add > most {
			cuts, from = append(cuts, i), i
			total = fileBytes
			clear(seen)
			add = pageBytes
			for _, n := range w.objects(i) {
				if !seen[n] {
					seen[n] = true
					add += w.sizes[n]
				}
			}
			total += add
			continue
		}
		for _, n := range w.objects(i) {
			seen[n] = true
		}
		total += add
	}
	return cuts
}
