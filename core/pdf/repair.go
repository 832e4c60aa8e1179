package pdf

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"sync"
)

// OpenMended opens a file as it is where it is sound, and mends it where it is not: first
// its page tree, then by Repair. It gives a document of the caller's own, and what was
// wrong; where something was, the document is to be written anew before it is changed.
func OpenMended(ctx context.Context, r io.ReaderAt, size int64, password string) (*Document, []string, error) {
	doc, err := OpenLocked(r, size, password)
	if err == nil {
		fork := doc.Fork()
		wrong, tableWrong, merr := fork.mend()
		if merr == nil && !tableWrong {
			return fork, wrong, nil
		}
		if errors.Is(merr, ErrLimit) {
			return nil, nil, merr
		}
	} else if !errors.Is(err, ErrDamaged) && !errors.Is(err, ErrNotPDF) {
		return nil, nil, err
	}
	mended, wrong, rerr := Repair(ctx, r, size, password)
	if rerr != nil {
		return nil, nil, cmp.Or(err, rerr)
	}
	return mended, wrong, nil
}

// Repair opens a damaged file by looking through all its bytes for objects, and tells
// what was wrong in short sentences. Where objects of one number stand several times, the
// last one counts. What can't be read of it is left out: a repaired document is to be
// written anew (FullOptions.KeepNumbers), never updated in place.
func Repair(ctx context.Context, r io.ReaderAt, size int64, password string) (*Document, []string, error) {
	head := make([]byte, min(size, 1<<16))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, nil, fmt.Errorf("reading the file: %w", err)
	}
	var wrong []string
	version, off := "1.4", int64(0)
	if m := headerRE.FindSubmatchIndex(head); m != nil {
		version, off = string(head[m[2]:m[3]]), int64(m[0])
	} else {
		wrong = append(wrong, "its header was missing")
	}
	d := &Document{
		src: NewParts().With(io.NewSectionReader(r, off, size-off), size-off), size: size - off, version: version,
		shared: newCache(), own: newCache(), overlay: map[int]Object{}, mu: &sync.Mutex{}, work: &work{}, lenient: true, repaired: true, trailer: NewDict(),
	}
	s := &scanner{d: d}
	if err := s.scan(ctx); err != nil {
		return nil, nil, err
	}
	if len(d.base) == 0 {
		return nil, nil, refuse(ErrDamaged, "the file is damaged: no objects are left in it")
	}
	wrong = append(wrong, "its table of objects was rebuilt")
	if d.trailer.Has("Encrypt") {
		if err := d.unlock(password); err != nil {
			return nil, nil, err
		}
		d.shared = newCache()
	}
	s.objectStreams()
	if d.Dict(d.trailer.Get("Root")) == nil || d.Name(d.Catalog().Get("Type")) != "Catalog" {
		if !s.catalog.IsZero() {
			d.trailer.Set("Root", s.catalog)
		}
	}
	if root := d.itself(d.Root()); root == nil || d.Name(root.Get("Type")) != "Catalog" && !root.Has("Pages") {
		d.trailer.Set("Root", d.Add(NewDict("Type", Name("Catalog"))))
		wrong = append(wrong, "its catalog was lost, with bookmarks and everything else outside the pages")
	}
	more, err := d.mendTree(true)
	if err != nil {
		return nil, nil, err
	}
	return d, append(wrong, more...), nil
}

// scanner finds objects and trailers by their words.
type scanner struct {
	d       *Document
	streams []int // numbers of object streams, in file order
	catalog Ref   // the last catalog found
}

const (
	scanStep    = 4 << 20
	scanOverlap = 64
)

func (s *scanner) scan(ctx context.Context) error {
	d := s.d
	word, tail := []byte("obj"), []byte("trailer")
	for pos := int64(0); pos < d.size; pos += scanStep {
		if err := ctx.Err(); err != nil {
			return err
		}
		start := max(0, pos-scanOverlap)
		buf, _, err := d.window(start, pos-start+scanStep+scanOverlap)
		if err != nil {
			return err
		}
		for at := 0; ; {
			i := bytes.Index(buf[at:], word)
			if i < 0 {
				break
			}
			at += i + len(word)
			if num, gen, off, ok := objectBefore(buf, at-len(word)); ok && start+int64(off) >= pos-scanOverlap {
				s.found(num, gen, start+int64(off))
			}
		}
		for at := 0; ; {
			i := bytes.Index(buf[at:], tail)
			if i < 0 {
				break
			}
			at += i + len(tail)
			s.trailer(start + int64(at))
		}
	}
	return nil
}

// objectBefore reads "n g " backwards from the word obj at i.
func objectBefore(b []byte, i int) (num, gen, off int, ok bool) {
	back := func() (v, from int, ok bool) {
		end := i
		for end > 0 && IsSpace(b[end-1]) {
			end--
		}
		from = end
		for from > 0 && b[from-1] >= '0' && b[from-1] <= '9' && end-from < 10 {
			from--
		}
		v, err := strconv.Atoi(string(b[from:end]))
		return v, from, err == nil && from < end
	}
	if i > 2 && bytes.HasSuffix(b[:i], []byte("end")) {
		return 0, 0, 0, false
	}
	gen, from, ok := back()
	if !ok || from == i || from == 0 || !IsSpace(b[from-1]) || gen > 65535 {
		return 0, 0, 0, false
	}
	i = from
	num, from, ok = back()
	return num, gen, from, ok && num > 0 && num <= MaxObjects
}

func (s *scanner) found(num, gen int, off int64) {
	d := s.d
	if num >= len(d.base) {
		d.base = append(d.base, make([]entry, num+1-len(d.base))...)
	}
	d.base[num] = entry{kind: 1, gen: uint16(gen), off: off}
	d.next = max(d.next, len(d.base))
	d.shared.mu.Lock()
	delete(d.shared.objects, num)
	delete(d.shared.failed, num)
	d.shared.mu.Unlock()
	head, _, err := d.window(off, 400)
	if err != nil {
		return
	}
	switch {
	case bytes.Contains(head, []byte("/ObjStm")):
		s.streams = append(slices.DeleteFunc(s.streams, func(n int) bool { return n == num }), num)
	case bytes.Contains(head, []byte("/XRef")):
		if _, o, err := d.parseAt(off, nil); err == nil {
			if st, ok := o.(*Stream); ok && st.Dict.Get("Type") == Name("XRef") {
				s.merge(st.Dict)
			}
		}
	case bytes.Contains(head, []byte("/Catalog")):
		s.catalog = Ref{Num: num, Gen: gen}
	}
}

func (s *scanner) trailer(off int64) {
	buf, _, err := s.d.window(off, 16<<10)
	if err != nil {
		return
	}
	l := Lexer{Data: buf, Refs: true}
	if o, err := l.Next(); err == nil {
		if t, ok := o.(*Dict); ok {
			s.merge(t)
		}
	}
}

// merge takes the keys of a trailer that matter; later ones win.
func (s *scanner) merge(t *Dict) {
	for _, k := range []Name{"Root", "Info", "ID", "Encrypt"} {
		if v := t.Get(k); v != nil {
			s.d.trailer.Set(k, v)
		}
	}
}

// objectStreams adds the objects that stand in object streams (7.5.7) and nowhere later.
func (s *scanner) objectStreams() {
	d := s.d
	for _, container := range s.streams {
		where := d.base[container]
		if _, err := d.fromStream(container, 0, -1, d.shared, nil); err != nil {
			// the number -1 is in none: the stream is unpacked by then, or can't be
			if d.shared.streams[container] == nil {
				continue
			}
		}
		for i, num := range d.shared.streams[container].nums {
			if num <= 0 || num > MaxObjects {
				continue
			}
			if num >= len(d.base) {
				d.base = append(d.base, make([]entry, num+1-len(d.base))...)
				d.next = max(d.next, len(d.base))
			}
			if e := d.base[num]; e.kind == 1 && e.off > where.off {
				continue
			}
			d.base[num] = entry{kind: 2, off: int64(container), idx: int32(i)}
			if dict := d.Dict(Ref{Num: num}); dict != nil && dict.Get("Type") == Name("Catalog") {
				s.catalog = Ref{Num: num}
			}
		}
	}
}

var objectRE = regexp.MustCompile(`\d+\s+\d+\s+obj\b`)

// mend looks for damage that opening does not meet: entries of the table that lead to
// other objects, and a page tree that is not as it should be. It gives short sentences
// and what it could mend is mended in the overlay; tableWrong asks for Repair.
func (d *Document) mend() (wrong []string, tableWrong bool, err error) {
	// Objects behind the last startxref: an update was cut off.
	tail, _, err := d.window(d.end, 1<<20)
	if err != nil {
		return nil, false, err
	}
	if objectRE.Match(tail) {
		return nil, true, nil
	}
	if ok, err := d.tableLeadsToObjects(); err != nil || !ok {
		return nil, !ok, err
	}
	wrong, err = d.mendTree(false)
	return wrong, false, err
}

// tableLeadsToObjects looks whether each entry of the table has its object where it says.
func (d *Document) tableLeadsToObjects() (bool, error) {
	var all []numbered
	for num, e := range d.base {
		if e.kind == 1 && num > 0 {
			all = append(all, numbered{num, e})
		}
	}
	slices.SortFunc(all, func(a, b numbered) int { return cmp.Compare(a.off, b.off) })
	const need, ahead = 32, 64 << 10
	room := make([]byte, ahead)
	var buf []byte
	start := int64(-1)
	for _, e := range all {
		if e.off < 0 || e.off >= d.size {
			return false, nil
		}
		if start < 0 || e.off+need > start+int64(len(buf)) {
			n, err := d.src.ReadAt(room[:min(ahead, d.size-e.off)], e.off)
			if err != nil && err != io.EOF {
				return false, fmt.Errorf("reading the file at byte %d: %w", e.off, err)
			}
			start, buf = e.off, room[:n]
		}
		if e.off < start || e.off >= start+int64(len(buf)) {
			return false, nil
		}
		l := Lexer{Data: buf[e.off-start : min(e.off-start+need, int64(len(buf)))]}
		num, ok := l.natural()
		_, genOK := l.natural()
		l.SkipSpace()
		if rest := l.Data[l.Pos:]; !ok || !genOK || num != e.num || !bytes.HasPrefix(rest, []byte("obj")) || len(rest) > 3 && charClass[rest[3]] == 0 {
			return false, nil
		}
	}
	return true, nil
}

// mendTree sets right what is wrong in the page tree: missing or wrong /Type, /Parent and
// /Count, kids that are null, nodes that lead back to themselves. A tree that can't be
// walked is made anew of all page objects, in the order of their numbers. Where whole is set, pages that can't be read are left out.
func (d *Document) mendTree(whole bool) (wrong []string, err error) {
	root, ok := d.Catalog().Get("Pages").(Ref)
	if _, isNode := d.Resolve(d.itself(root).Get("Kids")).(Array); ok && isNode && root != d.Root() {
		m := mender{d: d, whole: whole, seen: map[Ref]bool{}}
		end := d.unpackAhead()
		m.node(root, Ref{}, 0)
		end()
		d.setPages(nil)
		pages, err := d.Pages()
		if errors.Is(err, ErrLimit) || d.Over() != nil {
			return nil, err
		}
		if err == nil && len(pages) > 0 {
			if m.fixed > 0 {
				wrong = append(wrong, "its page tree had errors, which were corrected")
			}
			return wrong, nil
		}
	}
	var kids Array
	for num := range d.next {
		r := Ref{Num: num}
		if dict := d.itself(r); dict != nil && d.Name(dict.Get("Type")) == "Page" {
			kids = append(kids, r)
		}
		if len(kids) > MaxPages {
			return nil, ErrTooManyPages
		}
	}
	if len(kids) == 0 {
		return nil, refuse(ErrDamaged, "the file is damaged: no page is left in it")
	}
	at := d.Add(NewDict("Type", Name("Pages"), "Kids", kids, "Count", Integer(len(kids))))
	for _, k := range kids {
		d.settle(k.(Ref))
		d.Edit(k.(Ref)).Set("Parent", at)
	}
	d.Edit(d.Root()).Set("Pages", at)
	d.setPages(nil)
	return []string{"its page tree was lost: pages are in the order of their object numbers"}, nil
}

// itself gives the dictionary that is the object under r, not one that it refers to.
func (d *Document) itself(r Ref) *Dict {
	o, _ := d.Load(r)
	dict, _ := o.(*Dict)
	return dict
}

type mender struct {
	d     *Document
	whole bool
	seen  map[Ref]bool
	fixed int
}

// set gives a key its value; false where the object, of which only a part was read so far, can't be read whole.
func (m *mender) set(r Ref, dict *Dict, k Name, v Object) bool {
	if dict.Get(k) == v {
		return true
	}
	whole := m.d.Edit(r)
	if whole == nil {
		return false
	}
	whole.Set(k, v)
	m.fixed++
	return true
}

// node mends one node and gives how many pages are below it.
func (m *mender) node(at, parent Ref, depth int) int {
	m.seen[at] = true
	node := m.d.Dict(at)
	if !parent.IsZero() {
		m.set(at, node, "Parent", parent)
	}
	m.set(at, node, "Type", Name("Pages"))
	kids := m.d.Array(node.Get("Kids"))
	left := make(Array, 0, len(kids))
	count := 0
	for _, o := range kids {
		r, isRef := o.(Ref)
		if direct, ok := o.(*Dict); ok { // a page that is no object of its own becomes one
			r, isRef = m.d.Add(direct.Clone()), true
			m.fixed++
		}
		dict := m.d.brief(r)
		if m.whole {
			dict = m.d.itself(r)
		}
		if !isRef || dict == nil || depth > MaxDepth || r == m.d.Root() {
			m.fixed++
			continue
		}
		if _, isNode := m.d.Resolve(dict.Get("Kids")).(Array); isNode {
			if m.seen[r] {
				m.fixed++ // it leads back to a node above, or stands twice
				continue
			}
			count += m.node(r, at, depth+1)
			left = append(left, r)
			continue
		}
		if !m.set(r, dict, "Type", Name("Page")) {
			m.fixed++
			continue
		}
		if !m.seen[r] { // a page listed twice is split later
			m.seen[r] = true
			m.set(r, dict, "Parent", at)
		}
		left = append(left, r)
		count++
	}
	if len(left) != len(kids) || slices.ContainsFunc(kids, func(o Object) bool { _, direct := o.(*Dict); return direct }) {
		if whole := m.d.Edit(at); whole != nil {
			whole.Set("Kids", left)
		}
	}
	m.set(at, m.d.Dict(at), "Count", Integer(count))
	return count
}
