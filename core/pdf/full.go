package pdf

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
)

// FullOptions says how a whole new file is written.
type FullOptions struct {
	// KeepNumbers keeps object numbers and the page tree as they are: a working
	// copy. Otherwise objects are numbered anew and the page tree is rebuilt with
	// at most 64 kids a node: a file to hand out.
	KeepNumbers bool
	// Once lets streams and whatever pages draw with stand once where they say the same.
	Once bool
	// Classic writes each object by itself and a cross-reference table (7.5.4) where the file is not locked, as programs for PDF up to 1.4
	// need it, and keeps the version.
	Classic bool
	// ID becomes the second part of the trailer's /ID (14.4).
	ID [16]byte
	// Protect, where set, locks the file.
	Protect *Protection
	// Progress, where set, is told how many objects are written.
	Progress func(done int)
}

const perObjectStream = 200

// WriteFull writes the document whole: only objects that can be reached, those that
// may stand in object streams in such (7.5.7), one cross-reference stream
// (7.5.8), and no page object outside the page tree. The same document gives the
// same bytes.
func (d *Document) WriteFull(ctx context.Context, w io.Writer, opt FullOptions) error {
	f := &fullWriter{doc: d.ForkIn(ctx), opt: opt, out: &counter{w: bufio.NewWriterSize(w, 256<<10)}, numbers: map[int]int{}}
	if opt.Protect != nil {
		var err error
		if f.lock, err = newLocker(opt.Protect, f.doc); err != nil {
			return err
		}
	}
	if err := f.write(ctx); err != nil {
		return err
	}
	return f.out.w.Flush()
}

type counter struct {
	w *bufio.Writer
	n int64
}

func (c *counter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

type fullWriter struct {
	doc     *Document
	opt     FullOptions
	out     *counter
	numbers map[int]int // object number in the document -> in the file
	known   []Object    // by object number in the document: what target gave for it, or absent; nil where it was not asked yet
	queue   []Ref       // objects to write, in the order they were found
	last    int         // highest number given in the file
	inTree  map[Ref]bool
	oldTree map[Ref]bool // nodes of the page tree that was replaced
	newRoot Ref
	entries []numbered
	pack    []packed    // waiting for the next object stream
	tree    []packed    // the same of the page tree, which has streams of its own: what counts pages need unpack no others
	lock    *locker     // nil where the file is not locked
	same    map[int]int // objects that say the same as another one, which stands for them
}

type packed struct {
	num  int
	body []byte
}

func (f *fullWriter) write(ctx context.Context) error {
	d := f.doc
	pages, err := d.Pages()
	if err != nil {
		return err
	}
	if len(pages) == 0 {
		return ErrNoPages
	}
	f.inTree = make(map[Ref]bool, len(pages))
	for _, p := range pages {
		f.inTree[p.Ref] = true
	}
	if f.opt.Once {
		if f.same, err = d.same(); err != nil {
			return err
		}
	}
	if f.opt.KeepNumbers {
		f.last = d.next - 1
	} else {
		if err := f.rebuildTree(pages); err != nil {
			return err
		}
	}
	f.known = make([]Object, len(d.base))
	version := d.Version()
	if !f.classic() {
		version = max(version, "1.5")
	}
	if f.lock != nil && f.lock.Revision >= 5 {
		version = max(version, "2.0") // where revision 6 comes from
	} else if f.lock != nil {
		version = max(version, "1.6")
	}
	fmt.Fprintf(f.out, "%%PDF-%s\n%%\xe2\xe3\xcf\xd3\n", version)
	trailer := NewDict("Root", f.target(d.Root()))
	switch info := d.trailer.Get("Info").(type) {
	case Ref:
		trailer.Set("Info", f.target(info))
	case *Dict: // must be an object of its own (7.5.5)
		d.next = max(d.next, MaxObjects+1)
		trailer.Set("Info", f.target(d.Add(info)))
	}
	for i := 0; i < len(f.queue); i++ {
		if i%512 == 0 {
			if err := ctx.Err(); err != nil {
				return err
			}
			if f.opt.Progress != nil {
				f.opt.Progress(i)
			}
		}
		if err := f.object(f.queue[i]); err != nil {
			return err
		}
	}
	if len(f.tree)+len(f.pack) <= perObjectStream { // what is left, in one
		f.tree, f.pack = append(f.tree, f.pack...), nil
	}
	if err := errors.Join(f.flush(&f.tree), f.flush(&f.pack)); err != nil {
		return err
	}
	return f.xref(trailer)
}

// classic reports whether no object streams and no cross-reference stream are written.
func (f *fullWriter) classic() bool { return f.opt.Classic && f.lock == nil }

// rebuildTree gives the pages a new, balanced page tree in the overlay.
func (f *fullWriter) rebuildTree(pages []Leaf) error {
	d := f.doc
	f.oldTree = make(map[Ref]bool, len(d.nodes))
	for r := range d.nodes {
		f.oldTree[r] = true
	}
	type branch struct {
		ref   Ref
		count int
	}
	// New nodes stand above all numbers that may occur: a reference to an object that is not there,
	// which is null, must not come to mean one of them.
	d.next = max(d.next, MaxObjects+1)
	level := make([]branch, len(pages))
	for i, p := range pages {
		if d.itself(p.Ref) == nil {
			return refuse(ErrDamaged, fmt.Sprintf("the file is damaged: page %d can't be read", i+1))
		}
		d.settle(p.Ref)
		level[i] = branch{p.Ref, 1}
	}
	for {
		var up []branch
		for group := range slices.Chunk(level, wideNode) {
			at := d.Add(nil)
			kids := make(Array, len(group))
			count := 0
			for i, k := range group {
				kids[i] = k.ref
				count += k.count
				d.Edit(k.ref).Set("Parent", at)
			}
			d.Set(at, NewDict("Type", Name("Pages"), "Kids", kids, "Count", Integer(count)))
			up = append(up, branch{at, count})
		}
		level = up
		if len(level) == 1 {
			break
		}
	}
	f.newRoot = level[0].ref
	root := d.Root()
	d.Edit(root).Set("Pages", f.newRoot)
	return nil
}

// absent stands in fullWriter.known for null.
const absent = Boolean(false)

// target gives the reference that stands in the file for r, and queues what is
// new; null for a page that is not in the tree and for what does not exist.
func (f *fullWriter) target(r Ref) Object {
	if r.Gen != 0 || r.Num < 0 || r.Num >= len(f.known) {
		return f.find(r)
	}
	to := f.known[r.Num]
	if to == nil {
		if to = f.find(r); to == nil {
			to = absent
		}
		f.known[r.Num] = to
	}
	if to == absent {
		return nil
	}
	return to
}

// find is target for a reference that was not met before.
func (f *fullWriter) find(r Ref) Object {
	if f.oldTree[r] {
		r = f.newRoot
	}
	if n, ok := f.same[r.Num]; ok {
		r = Ref{Num: n}
	}
	if n, ok := f.numbers[r.Num]; ok {
		if n == 0 {
			return nil
		}
		return Ref{Num: n}
	}
	if !f.inTree[r] && r != f.doc.Root() { // whatever type a damaged file gives its catalog
		o, err := f.doc.Load(r)
		if err == nil && (o == nil || f.strayPage(o)) {
			f.numbers[r.Num] = 0
			return nil
		}
	}
	n := r.Num
	if !f.opt.KeepNumbers || n > MaxObjects { // which only a new object has
		f.last++
		n = f.last
	}
	f.numbers[r.Num] = n
	f.queue = append(f.queue, r)
	return Ref{Num: n}
}

// strayPage reports whether o is a page object; it is asked only of what is not in the tree.
func (f *fullWriter) strayPage(o Object) bool {
	dict, ok := o.(*Dict)
	if !ok {
		return false
	}
	switch f.doc.Resolve(dict.Get("Type")) {
	case Name("Page"):
		return true
	case nil:
		return dict.Has("Parent") && dict.Has("Contents") && (dict.Has("MediaBox") || dict.Has("Resources"))
	}
	return false
}

func (f *fullWriter) object(r Ref) error {
	o, err := f.doc.Load(r)
	if err != nil {
		return fmt.Errorf("object %d: %w", r.Num, err)
	}
	num := f.numbers[r.Num]
	s, isStream := o.(*Stream)
	if !isStream && (f.classic() || f.lock != nil && !f.lock.packs()) {
		if f.lock != nil {
			if o, err = f.lock.object(o, num); err != nil {
				return err
			}
		}
		f.entries = append(f.entries, numbered{num, entry{kind: 1, off: f.out.n}})
		_, err = f.out.Write(append(appendMapped(fmt.Appendf(nil, "%d 0 obj\n", num), o, f.target), "\nendobj\n"...))
		return err
	}
	if !isStream {
		pack := &f.pack
		if dict, ok := o.(*Dict); ok && (f.inTree[r] || dict.Get("Type") == Name("Pages")) {
			pack = &f.tree
		}
		*pack = append(*pack, packed{num, appendMapped(nil, o, f.target)})
		if len(*pack) >= perObjectStream {
			return f.flush(pack)
		}
		return nil
	}
	if f.lock != nil {
		sealed, err := f.lock.object(s, num)
		if err != nil {
			return fmt.Errorf("object %d: %w", r.Num, err)
		}
		s = sealed.(*Stream)
	}
	f.entries = append(f.entries, numbered{num, entry{kind: 1, off: f.out.n}})
	fmt.Fprintf(f.out, "%d 0 obj\n", num)
	if _, err := f.out.Write(appendMapped(nil, withLength(s), f.target)); err != nil {
		return err
	}
	if _, err := io.WriteString(f.out, "\nstream\n"); err != nil {
		return err
	}
	if err := s.rawTo(f.out); err != nil {
		return fmt.Errorf("object %d: %w", r.Num, err)
	}
	_, err = io.WriteString(f.out, "\nendstream\nendobj\n")
	return err
}

// flush writes objects that wait as one object stream.
func (f *fullWriter) flush(pack *[]packed) error {
	if len(*pack) == 0 {
		return nil
	}
	f.last++
	container := f.last
	var head, body bytes.Buffer
	for i, p := range *pack {
		fmt.Fprintf(&head, "%d %d ", p.num, body.Len())
		body.Write(p.body)
		body.WriteByte('\n')
		f.entries = append(f.entries, numbered{p.num, entry{kind: 2, off: int64(container), idx: int32(i)}})
	}
	dict := NewDict("Type", Name("ObjStm"), "N", Integer(len(*pack)), "First", Integer(head.Len()))
	head.Write(body.Bytes())
	*pack = (*pack)[:0]
	var s Object = NewFlateStream(dict, head.Bytes())
	if f.lock != nil {
		var err error
		if s, err = f.lock.object(s, container); err != nil {
			return err
		}
	}
	return f.emit(container, s)
}

func (f *fullWriter) emit(num int, s Object) error {
	f.entries = append(f.entries, numbered{num, entry{kind: 1, off: f.out.n}})
	var b bytes.Buffer
	if err := appendIndirect(&b, num, 0, s); err != nil {
		return err
	}
	_, err := f.out.Write(b.Bytes())
	return err
}

func (f *fullWriter) xref(trailer *Dict) error {
	if f.lock != nil { // the dictionary itself is written in clear, in no object stream
		f.last++
		if err := f.emit(f.last, f.lock.dict); err != nil {
			return err
		}
		trailer.Set("Encrypt", Ref{Num: f.last})
	}
	firstID := String(f.opt.ID[:])
	if f.opt.Protect != nil && f.opt.Protect.Again != nil {
		firstID = String(f.opt.Protect.Again.ID)
	} else if a := f.doc.Array(f.doc.trailer.Get("ID")); len(a) == 2 {
		if s, ok := f.doc.Resolve(a[0]).(String); ok && s != "" {
			firstID = s
		}
	}
	id := Array{firstID, String(f.opt.ID[:])}
	if f.classic() {
		return f.table(trailer, id)
	}
	f.last++
	self, at := f.last, f.out.n
	f.entries = append(f.entries, numbered{0, entry{}}, numbered{self, entry{kind: 1, off: at}})
	slices.SortFunc(f.entries, func(a, b numbered) int { return a.num - b.num })
	width := 3
	for int64(1)<<(8*width) <= at || 1<<(8*width) <= self {
		width++
	}
	nums := make([]int, len(f.entries))
	var data []byte
	for i, e := range f.entries {
		nums[i] = e.num
		data = append(data, e.kind)
		data = appendBig(data, e.off, width)
		if e.num == 0 {
			data = appendBig(data, 65535, 2)
		} else {
			data = appendBig(data, int64(e.idx), 2)
		}
	}
	var index Array
	runs(nums, func(i, j int) { index = append(index, Integer(nums[i]), Integer(j-i)) })
	row := width + 3
	t := NewDict("Type", Name("XRef"), "Size", Integer(self+1), "W", Array{Integer(1), Integer(width), Integer(2)})
	if len(index) > 2 {
		t.Set("Index", index)
	}
	for _, e := range trailer.Entries() {
		t.Set(e.Key, e.Value)
	}
	t.Set("ID", id)
	t.Set("DecodeParms", NewDict("Predictor", Integer(12), "Columns", Integer(row)))
	t.Set("Filter", Name("FlateDecode"))
	if err := f.emit(self, NewStream(t, Deflate(predictUp(data, row)))); err != nil {
		return err
	}
	_, err := fmt.Fprintf(f.out, "startxref\n%d\n%%%%EOF\n", at)
	return err
}

// table writes a cross-reference table and the trailer (7.5.4, 7.5.5).
func (f *fullWriter) table(trailer *Dict, id Array) error {
	at := f.out.n
	kinds := map[int]int64{}
	for _, e := range f.entries {
		kinds[e.num] = e.off
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "xref\n0 %d\n", f.last+1)
	// Numbers that are not in use form a list that begins and ends with object 0.
	next := make([]int, f.last+1)
	free := 0
	for n := f.last; n >= 0; n-- {
		if _, used := kinds[n]; !used {
			next[n], free = free, n
		}
	}
	for n := range f.last + 1 {
		if off, used := kinds[n]; used {
			fmt.Fprintf(&b, "%010d 00000 n \n", off)
		} else {
			fmt.Fprintf(&b, "%010d 65535 f \n", next[n])
		}
	}
	trailer.Set("Size", Integer(f.last+1))
	trailer.Set("ID", id)
	b.WriteString("trailer\n")
	b.Write(AppendObject(nil, trailer))
	fmt.Fprintf(&b, "\nstartxref\n%d\n%%%%EOF\n", at)
	_, err := f.out.Write(b.Bytes())
	return err
}

// predictUp applies the PNG Up predictor to rows of n bytes (7.4.4.4).
func predictUp(data []byte, n int) []byte {
	out := make([]byte, 0, len(data)+len(data)/n+1)
	for i := 0; i < len(data); i += n {
		out = append(out, 2)
		for j := i; j < i+n; j++ {
			c := data[j]
			if i > 0 {
				c -= data[j-n]
			}
			out = append(out, c)
		}
	}
	return out
}
