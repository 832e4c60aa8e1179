package pdf

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"sync"
)

// Document is an open PDF: the objects of a file, read when asked for, and an
// overlay of changed ones. Reading is safe from several goroutines as long as
// none changes the document; a change is made on a Fork.
type Document struct {
	src  *Parts
	size int64 // bytes in src

	base    []entry       // by object number, of the base; never changed after Open
	over    map[int]entry // of the updates; replaced, never changed
	trailer *Dict
	end     int64 // of the base: just after its last startxref
	start   int64 // offset of the newest cross-reference section
	kind    xrefKind
	version string

	shared *cache // objects of the base, shared by every fork and update
	own    *cache // objects of the updates

	crypt   *crypt // nil where the file is not encrypted
	lenient bool   // what can't be read is null

	repaired bool // its table of objects was made again by Repair

	overlay map[int]Object // changed and new objects; a nil value is a freed object
	changed []int          // keys of overlay in the order of first change
	next    int            // next free object number

	pages  []Leaf // page list, nil until asked for; never changed, only replaced
	nodes  map[Ref]node
	common bool        // nodes belongs to a fork too: copied before it is changed
	mu     *sync.Mutex // guards the three
	work   *work       // that this document is read for
}

// cache holds parsed objects and unpacked object streams.
type cache struct {
	mu      sync.Mutex
	objects map[int]Object
	streams map[int]*objectStream
	briefs  map[int]*Dict // of pages: see Document.brief
	failed  map[int]error // objects that can't be read, and object streams: neither is tried again
	seen    lately
	ahead   *ahead // of a walk that is going on; nil otherwise
}

// A cache over this many objects is emptied: what is parsed again costs little,
// what stays costs memory.
const (
	cacheObjects, cacheStreams = 60_000, 64
	cacheUnpacked              = 96 << 20 // bytes of object streams
)

func newCache() *cache {
	return &cache{objects: map[int]Object{}, streams: map[int]*objectStream{}, failed: map[int]error{}}
}

var headerRE = regexp.MustCompile(`%PDF-(\d\.\d)`)

// Open reads the cross-reference data of a PDF of size bytes. Objects are parsed
// later, from r, which must stay readable. Bytes before the header are passed over.
//
// A locked file that opens without a password is opened; another one is refused with
// ErrLocked: see OpenLocked.
func Open(r io.ReaderAt, size int64) (*Document, error) { return OpenLocked(r, size, "") }

// OpenLocked opens a file with its user's or owner's password (ISO 32000-2, 7.6.4). What
// it gives is decrypted as it is read; written anew, it is not locked any more.
func OpenLocked(r io.ReaderAt, size int64, password string) (*Document, error) {
	head := make([]byte, min(size, 1024))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, fmt.Errorf("reading the file: %w", err)
	}
	m := headerRE.FindSubmatchIndex(head)
	if m == nil {
		return nil, refuse(ErrNotPDF, notPDF(head, size))
	}
	version := string(head[m[2]:m[3]])
	// Offsets count from the header (7.5.2); where bytes stand before it, some
	// writers count from the start of the file instead.
	d, err := open(io.NewSectionReader(r, int64(m[0]), size-int64(m[0])), size-int64(m[0]), version, password)
	if err != nil && m[0] > 0 {
		if whole, err := open(r, size, version, password); err == nil {
			return whole, nil
		}
	}
	return d, err
}

func open(r io.ReaderAt, size int64, version, password string) (*Document, error) {
	d := &Document{
		src:     NewParts().With(r, size),
		size:    size,
		version: version,
		shared:  newCache(),
		own:     newCache(),
		overlay: map[int]Object{},
		mu:      &sync.Mutex{},
		work:    &work{},
	}
	start, err := d.findStart()
	if err != nil {
		return nil, err
	}
	chain, err := d.readChain(start)
	if err != nil {
		return nil, err
	}
	d.start, d.kind, d.trailer = start, chain[0].kind, chain[0].trailer
	top := 0
	for _, s := range chain {
		for _, e := range s.entries {
			top = max(top, e.num)
		}
	}
	if n, ok := d.trailer.Get("Size").(Integer); ok && n > 0 && int(n)-1 <= MaxObjects {
		d.next = int(n)
	}
	d.next = max(d.next, top+1)
	d.base = make([]entry, top+1)
	set := make([]bool, top+1)
	for _, s := range chain { // newest first: the first to name an object wins
		for _, e := range s.entries {
			if !set[e.num] {
				set[e.num], d.base[e.num] = true, e.entry
			}
		}
	}
	if d.trailer.Has("Encrypt") {
		if err := d.unlock(password); err != nil {
			return nil, err
		}
		d.shared = newCache() // what was read before is still encrypted
	}
	if d.itself(d.Root()) == nil {
		return nil, refuse(ErrDamaged, "the file has no document catalog")
	}
	return d, nil
}

func notPDF(head []byte, size int64) string {
	if size == 0 {
		return "the file is empty"
	}
	for _, c := range head {
		if c < 9 || c > 13 && c < 32 && c != 27 {
			return "the file is not a PDF"
		}
	}
	return "the file is plain text, not a PDF"
}

var startRE = regexp.MustCompile(`startxref\s+(\d+)`)

func (d *Document) findStart() (int64, error) {
	for _, n := range []int64{1024, 64 << 10} {
		off := max(0, d.size-n)
		buf, _, err := d.window(off, n)
		if err != nil {
			return 0, err
		}
		if all := startRE.FindAllSubmatchIndex(buf, -1); len(all) > 0 {
			m := all[len(all)-1]
			v, err := strconv.ParseInt(string(buf[m[2]:m[3]]), 10, 64)
			if err == nil && v < d.size {
				d.end = off + int64(m[1])
				return v, nil
			}
		}
	}
	return 0, refuse(ErrDamaged, "the file is damaged: its end is missing or does not lead to its contents")
}

// With gives the document as it is after an incremental update, without its
// overlay. The receiver stays as it is.
func (d *Document) With(update []byte) (*Document, error) {
	n := d.Fork()
	n.Discard()
	n.src = d.src.With(bytes.NewReader(update), int64(len(update)))
	n.size = n.src.Size()
	m := startRE.FindAllSubmatch(update[max(0, len(update)-128):], -1)
	if m == nil {
		return nil, refuse(ErrDamaged, "a stored change has no end")
	}
	start, err := strconv.ParseInt(string(m[len(m)-1][1]), 10, 64)
	if err != nil {
		return nil, refuse(ErrDamaged, "a stored change has no end")
	}
	s, err := n.readSection(start)
	if err != nil {
		return nil, fmt.Errorf("a stored change: %w", err)
	}
	if s.prev != d.start {
		return nil, refuse(ErrDamaged, "a stored change does not belong to this document")
	}
	n.over = maps.Clone(d.over)
	if n.over == nil {
		n.over = make(map[int]entry, len(s.entries))
	}
	// Objects cached from earlier updates stay good unless this one writes them.
	n.own = newCache()
	d.own.mu.Lock()
	maps.Copy(n.own.objects, d.own.objects)
	maps.Copy(n.own.streams, d.own.streams)
	maps.Copy(n.own.failed, d.own.failed)
	d.own.mu.Unlock()
	for _, e := range s.entries {
		n.over[e.num] = e.entry
		delete(n.own.objects, e.num)
		delete(n.own.failed, e.num)
		n.next = max(n.next, e.num+1)
	}
	if v, ok := s.trailer.Get("Size").(Integer); ok {
		n.next = max(n.next, int(v))
	}
	n.start, n.trailer = start, s.trailer
	n.mu.Lock()
	n.pages, n.nodes = nil, nil
	n.mu.Unlock()
	return n, nil
}

// Fork gives a document with the same objects whose changes are its own.
func (d *Document) Fork() *Document {
	d.mu.Lock()
	d.common = true // here and in the copy
	n := *d
	d.mu.Unlock()
	n.overlay = make(map[int]Object, len(d.overlay))
	for num, o := range d.overlay {
		switch v := o.(type) {
		case *Dict:
			o = v.Clone()
		case *Stream:
			c := *v
			c.Dict = v.Dict.Clone()
			o = &c
		}
		n.overlay[num] = o
	}
	n.changed = slices.Clone(d.changed)
	n.mu = &sync.Mutex{}
	n.work = &work{}
	return &n
}

// KeepPages takes the page list of other, which must be the same document after
// the same changes: With(update) of what other has in its overlay.
func (d *Document) KeepPages(other *Document) {
	other.mu.Lock()
	pages, nodes := other.pages, other.nodes
	other.common = true
	other.mu.Unlock()
	d.mu.Lock()
	d.pages, d.nodes, d.common = pages, nodes, true
	d.mu.Unlock()
}

// ownNodes gives the interior nodes of the page tree, to be changed.
func (d *Document) ownNodes() map[Ref]node {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.common {
		d.nodes, d.common = maps.Clone(d.nodes), false
	}
	return d.nodes
}

// Discard drops all changes that are not written.
func (d *Document) Discard() {
	d.overlay = map[int]Object{}
	d.changed = nil
	d.mu.Lock()
	d.pages, d.nodes = nil, nil
	d.mu.Unlock()
}

// Size is the number of bytes of the file and its updates.
func (d *Document) Size() int64 { return d.size }

// Source gives the bytes of the file and its updates.
func (d *Document) Source() io.ReaderAt { return d.src }

// Trailer is the newest trailer dictionary (7.5.5).
func (d *Document) Trailer() *Dict { return d.trailer }

// Version is the PDF version, of the header or the catalog, whichever is later (7.5.2).
func (d *Document) Version() string {
	if v, ok := d.Resolve(d.Catalog().Get("Version")).(Name); ok && string(v) > d.version && len(v) == 3 {
		return string(v)
	}
	return d.version
}

// Catalog is the document catalog (7.7.2).
func (d *Document) Catalog() *Dict {
	c, _ := d.Resolve(d.trailer.Get("Root")).(*Dict)
	return c
}

// Objects is one more than the highest object number in use.
func (d *Document) Objects() int { return d.next }

func (d *Document) lookup(num int) (e entry, updated bool) {
	if e, ok := d.over[num]; ok {
		return e, true
	}
	if num < len(d.base) {
		return d.base[num], false
	}
	return entry{}, false
}

// Load gives the object that r refers to; null where there is none (7.3.10). Once the work that the document
// is read for is over (see In), it gives nothing any more.
func (d *Document) Load(r Ref) (Object, error) { return d.load(r, nil) }

func (d *Document) load(r Ref, up *loading) (Object, error) {
	if d.work.over.Load() {
		return nil, d.work.why()
	}
	if o, ok := d.overlay[r.Num]; ok {
		return o, nil
	}
	e, updated := d.lookup(r.Num)
	if e.kind == 0 || e.kind > 2 || e.kind == 1 && int(e.gen) != r.Gen && r.Gen != 0 {
		return nil, nil
	}
	c := d.shared
	if updated {
		c = d.own
	}
	c.mu.Lock()
	o, ok := c.objects[r.Num]
	err := c.failed[r.Num]
	c.mu.Unlock()
	if ok {
		return o, nil
	}
	if err == nil {
		o, err = d.read(r, e, c, up)
		if lasting(err) && !up.has(r.Num) {
			c.mu.Lock()
			c.failed[r.Num] = err
			c.mu.Unlock()
		}
	}
	if err != nil && d.lenient && !d.work.over.Load() {
		if err == errLoading {
			return nil, nil
		}
		o, err = nil, nil
	}
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	if len(c.objects) >= cacheObjects {
		clear(c.objects)
	}
	c.objects[r.Num] = o
	c.mu.Unlock()
	return o, nil
}

// read reads the object under r from where e says.
func (d *Document) read(r Ref, e entry, c *cache, up *loading) (o Object, err error) {
	here, err := up.with(r.Num)
	if err != nil {
		return nil, err
	}
	if e.kind == 1 {
		var num int
		num, o, err = d.parseAt(e.off, here)
		if err == nil && num != r.Num {
			err = refuse(ErrDamaged, fmt.Sprintf("the file is damaged: object %d is not where the table says", r.Num))
		}
	} else {
		o, err = d.fromStream(int(e.off), int(e.idx), r.Num, c, here)
	}
	return o, err
}

// Resolve follows references until an object that is none. What can't be read is
// null here; Load tells why.
func (d *Document) Resolve(o Object) Object { return d.resolve(o, nil) }

func (d *Document) resolve(o Object, up *loading) Object {
	for range 32 {
		r, ok := o.(Ref)
		if !ok {
			return o
		}
		var err error
		if o, err = d.load(r, up); err != nil {
			return nil
		}
	}
	return nil
}

// Dict follows o to a dictionary, or to that of a stream; nil where it is of another type.
func (d *Document) Dict(o Object) *Dict {
	switch v := d.Resolve(o).(type) {
	case *Dict:
		return v
	case *Stream:
		return v.Dict
	}
	return nil
}

// Array follows o to an array.
func (d *Document) Array(o Object) Array { a, _ := d.Resolve(o).(Array); return a }

// Stream follows o to a stream.
func (d *Document) Stream(o Object) *Stream { s, _ := d.Resolve(o).(*Stream); return s }

// Name follows o to a name.
func (d *Document) Name(o Object) Name { n, _ := d.Resolve(o).(Name); return n }

// Set makes o the object under r, in the overlay.
func (d *Document) Set(r Ref, o Object) {
	if _, there := d.overlay[r.Num]; !there {
		d.changed = append(d.changed, r.Num)
	}
	d.overlay[r.Num] = o
	d.next = max(d.next, r.Num+1)
}

// Free makes objects null. What the document can't be without, its catalog and the pages and nodes of its page tree, stays,
// whatever names it: a file may call its catalog an annotation.
func (d *Document) Free(refs ...Ref) {
	if len(refs) == 0 {
		return
	}
	keep := map[int]bool{d.Root().Num: true}
	pages, err := d.Pages()
	if err != nil {
		return
	}
	for _, p := range pages {
		keep[p.Ref.Num] = true
	}
	d.mu.Lock()
	for r := range d.nodes {
		keep[r.Num] = true
	}
	d.mu.Unlock()
	for _, r := range refs {
		if !keep[r.Num] {
			d.Set(r, nil)
		}
	}
}

// Add puts o under a new object number.
func (d *Document) Add(o Object) Ref {
	r := Ref{Num: d.next}
	d.Set(r, o)
	return r
}

// Edit gives a copy of the dictionary under r that is in the overlay already: what
// is set in it is set in the document. It is nil where r is no dictionary, and nothing is set then.
func (d *Document) Edit(r Ref) *Dict {
	o, err := d.Load(r)
	if err != nil {
		return nil
	}
	if _, mine := d.overlay[r.Num]; !mine {
		switch v := o.(type) {
		case *Dict:
			o = v.Clone()
		case *Stream:
			s := *v
			s.Dict = v.Dict.Clone()
			o = &s
		default:
			return nil
		}
		d.Set(r, o)
	}
	switch v := o.(type) {
	case *Dict:
		return v
	case *Stream:
		return v.Dict
	}
	return nil
}

// Root is the reference to the catalog.
func (d *Document) Root() Ref { r, _ := d.trailer.Get("Root").(Ref); return r }

// Changed tells which objects are in the overlay, in the order they came in.
func (d *Document) Changed() []Ref {
	out := make([]Ref, len(d.changed))
	for i, n := range d.changed {
		out[i] = Ref{Num: n, Gen: d.gen(n)}
	}
	return out
}

func (d *Document) gen(num int) int {
	if e, _ := d.lookup(num); e.kind == 1 {
		return int(e.gen)
	}
	return 0
}
