// Package pack opens the packages that office files are (ZIP, APPNOTE 6.3.10; ECMA-376 part 2; OpenDocument 1.3 part 2) and reads the XML in
// them, within limits that no honest file reaches: what a member unpacks to, all members together, how deep elements are nested and how
// many there are. Nothing is unpacked that nobody asks for.
package pack

import (
	"archive/zip"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"
)

// Why a package can't be read.
var (
	ErrDamaged = errors.New("the file is damaged: its contents can’t be read")
	ErrLocked  = errors.New("the file is locked with a password by the program that wrote it: remove the password there first")
	ErrTooMuch = errors.New("the file unpacks to more than can be opened")
	ErrTooDeep = errors.New("the file’s elements are nested too deeply to open safely")
	ErrTooMany = errors.New("the file has too much content to turn into pages")
)

// Limits.
const (
	MaxMembers  = 20_000
	MaxMember   = 256 << 20 // bytes that one unpacks to
	MaxAll      = 600 << 20 // bytes that all that are asked for unpack to
	maxRatio    = 300       // by how much a member may grow, once it takes freeGrowth
	freeGrowth  = 24 << 20
	maxDepth    = 400
	maxElements = 12_000_000
)

// Package is an open one.
type Package struct {
	files map[string]*zip.File
	names []string
	spent int64
	one   int64 // bytes that one member may unpack to
	most  int64 // and all together
	ctx   context.Context
}

// Allow sets how many bytes one member may unpack to, and all that are asked for together.
func (p *Package) Allow(one, all int64) { p.one, p.most = one, all }

// Open lists the members of a package. Names are compared without regard to case, as ECMA-376 part 2, 6.2.2 says.
func Open(ctx context.Context, r io.ReaderAt, size int64) (*Package, error) {
	head := make([]byte, 8)
	if n, _ := r.ReadAt(head, 0); n == 8 && string(head) == "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" {
		return nil, ErrLocked // a compound file holds the encrypted package ([MS-OFFCRYPTO] 2.3.4)
	}
	z, err := list(r, size)
	if err != nil {
		return nil, err
	}
	p := &Package{files: map[string]*zip.File{}, ctx: ctx, one: MaxMember, most: MaxAll}
	for _, f := range z.File {
		if f.NonUTF8 { // the code page of the machines that zips come from (APPNOTE, D.1)
			if s, err := charmap.CodePage437.NewDecoder().String(f.Name); err == nil {
				f.Name = s
			}
		}
		name := clean(f.Name)
		if _, twice := p.files[name]; name == "" || twice || f.FileInfo().IsDir() {
			continue
		}
		p.files[name] = f
		p.names = append(p.names, f.Name)
	}
	slices.SortStableFunc(p.names, func(a, b string) int { return strings.Compare(path.Dir(a), path.Dir(b)) })
	return p, nil
}

func clean(name string) string {
	return strings.ToLower(strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(name, "\\", "/")), "/"))
}

// Has reports whether there is a member of that name.
func (p *Package) Has(name string) bool { return p.files[clean(name)] != nil }

// Passed reports whether a member of a zip that brings files is none of them: what systems put there for themselves.
func Passed(name string) bool {
	base := path.Base(name)
	return strings.HasPrefix(name, "__MACOSX/") || strings.HasPrefix(base, ".") || strings.HasPrefix(base, "~$") || strings.EqualFold(base, "thumbs.db") || strings.EqualFold(base, "desktop.ini")
}

// Names lists the members as they stand.
func (p *Package) Names() []string { return p.names }

// counted fails once more is read than may be.
type counted struct {
	r      io.ReadCloser
	p      *Package
	n, max int64
}

func (c *counted) Read(b []byte) (int, error) {
	if err := c.p.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := c.r.Read(b)
	c.n += int64(n)
	c.p.spent += int64(n)
	if c.n > c.max || c.p.spent > c.p.most {
		return 0, ErrTooMuch
	}
	if err != nil && err != io.EOF && !errors.Is(err, ErrTooMuch) {
		err = fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return n, err
}

func (c *counted) Close() error { return c.r.Close() }

// Reader opens a member; nil where there is none.
func (p *Package) Reader(name string) (io.ReadCloser, error) {
	f := p.files[clean(name)]
	if f == nil {
		return nil, nil
	}
	if f.Flags&1 != 0 {
		return nil, ErrLocked
	}
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	most := min(p.one, max(freeGrowth, int64(f.CompressedSize64)*maxRatio))
	return &counted{r: r, p: p, max: most}, nil
}

// Read reads a member whole; nil where there is none.
func (p *Package) Read(name string) ([]byte, error) {
	r, err := p.Reader(name)
	if r == nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// Node is an element of XML with what is in it: elements, and text as nodes without a name. Names have no prefix, attributes neither: the
// formats that are read here use no two of the same local name in one place but where Space tells them apart.
type Node struct {
	Space, Name string // the namespace as it is written, and the local name
	Attrs       []xml.Attr
	Text        string
	Kids        []*Node
}

// XML reads a member as a tree; nil where there is none.
func (p *Package) XML(name string) (*Node, error) {
	r, err := p.Reader(name)
	if r == nil {
		return nil, err
	}
	defer r.Close()
	d := Decoder(r)
	root := &Node{}
	stack := []*Node{root}
	for n := 0; ; n++ {
		t, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, Broken(err)
		}
		if n > maxElements {
			return nil, ErrTooMany
		}
		top := stack[len(stack)-1]
		switch t := t.(type) {
		case xml.StartElement:
			k := &Node{Space: t.Name.Space, Name: t.Name.Local, Attrs: t.Attr}
			top.Kids = append(top.Kids, k)
			if stack = append(stack, k); len(stack) > maxDepth {
				return nil, ErrTooDeep
			}
		case xml.EndElement:
			stack = stack[:len(stack)-1]
		case xml.CharData:
			if len(stack) > 1 {
				top.Kids = append(top.Kids, &Node{Text: string(t)})
			}
		}
	}
	for _, k := range root.Kids {
		if k.Name != "" {
			return k, nil
		}
	}
	return nil, ErrDamaged
}

// Decoder reads XML. It expands no entities but the five of XML itself, so that they can't multiply.
func Decoder(r io.Reader) *xml.Decoder {
	d := xml.NewDecoder(r)
	d.CharsetReader = func(label string, in io.Reader) (io.Reader, error) {
		enc, err := htmlindex.Get(label)
		if err != nil {
			return nil, err
		}
		return enc.NewDecoder().Reader(in), nil
	}
	return d
}

// Broken gives the error that is said for one of a decoder.
func Broken(err error) error {
	for _, own := range []error{ErrTooMuch, ErrDamaged, context.Canceled, context.DeadlineExceeded} {
		if errors.Is(err, own) {
			return err
		}
	}
	return fmt.Errorf("%w: %w", ErrDamaged, err)
}

// Attr gives an attribute by its local name.
func (n *Node) Attr(name string) string {
	if n == nil {
		return ""
	}
	for _, a := range n.Attrs {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// Has reports whether there is an attribute of that local name.
func (n *Node) Has(name string) bool {
	if n == nil {
		return false
	}
	for _, a := range n.Attrs {
		if a.Name.Local == name {
			return true
		}
	}
	return false
}

// First gives the first child of that name; path names go down.
func (n *Node) First(names ...string) *Node {
	for _, name := range names {
		if n == nil {
			return nil
		}
		var found *Node
		for _, k := range n.Kids {
			if k.Name == name {
				found = k
				break
			}
		}
		n = found
	}
	return n
}

// All gives the children of that name.
func (n *Node) All(name string) (out []*Node) {
	if n == nil {
		return nil
	}
	for _, k := range n.Kids {
		if k.Name == name {
			out = append(out, k)
		}
	}
	return out
}

// Find gives the first descendant of that name, n itself too.
func (n *Node) Find(name string) *Node {
	if n == nil || n.Name == name {
		return n
	}
	for _, k := range n.Kids {
		if f := k.Find(name); f != nil {
			return f
		}
	}
	return nil
}

// Words gives all text in n.
func (n *Node) Words() string {
	var b strings.Builder
	n.words(&b)
	return b.String()
}

func (n *Node) words(b *strings.Builder) {
	if n == nil {
		return
	}
	b.WriteString(n.Text)
	for _, k := range n.Kids {
		k.words(b)
	}
}

// Relations reads a part's relationships (ECMA-376 part 2, 6.5): targets by id, those inside the package as names of members.
func (p *Package) Relations(part string) (map[string]Relation, error) {
	name := "_rels/.rels"
	if part != "" {
		name = path.Join(path.Dir(part), "_rels", path.Base(part)+".rels")
	}
	root, err := p.XML(name)
	if err != nil {
		return nil, err
	}
	out := map[string]Relation{}
	for _, r := range root.All("Relationship") {
		rel := Relation{Type: path.Base(r.Attr("Type")), Target: r.Attr("Target"), External: r.Attr("TargetMode") == "External"}
		if !rel.External {
			if strings.HasPrefix(rel.Target, "/") {
				rel.Target = strings.TrimPrefix(path.Clean(rel.Target), "/")
			} else {
				rel.Target = strings.TrimPrefix(path.Clean("/"+path.Join(path.Dir(part), rel.Target)), "/")
			}
		}
		out[r.Attr("Id")] = rel
	}
	return out, nil
}

// Relation is where a part leads to.
type Relation struct {
	Type, Target string
	External     bool
}

// Nodes gives the children that are elements.
func (n *Node) Nodes() (out []*Node) {
	if n == nil {
		return nil
	}
	for _, k := range n.Kids {
		if k.Name != "" {
			out = append(out, k)
		}
	}
	return out
}
