package draw

import (
	"bytes"
	"encoding/hex"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"glenrain/core/pdf"
)

// Placed is a furnishing as the document keeps it: a rule that stays, so that what
// it put on pages can be listed, changed, updated and removed, also after the
// file was handed out and added again. It stands in the catalog's
// PieceInfo (ISO 32000-2, 14.5).
type Placed struct {
	ID     string    // 32 hexadecimal digits
	Kind   string    // which job it belongs to: "numbers"
	Values []byte    // the rule's values, JSON
	Pages  []pdf.Ref // the pages it is for, where the rule names pages singly
	Stale  bool      // pages moved since: what stands on them may be wrong
	// Uses are objects that the rule draws with and the document keeps for it, by the rule's own names: pictures, fonts of the office's own.
	Uses map[string]pdf.Ref
}

// Item is what one furnishing drew on one page.
type Item struct {
	ID   string
	Made string // what was drawn and where, as given to Put

	stream pdf.Ref
}

// Private gives Glenrain's dictionary in the catalog's PieceInfo, in the overlay.
func Private(doc *pdf.Document) (*pdf.Dict, error) {
	catalog := doc.Edit(doc.Root())
	if catalog == nil {
		return nil, errors.New("the document has no catalog")
	}
	info := doc.Dict(catalog.Get("PieceInfo")).Clone()
	app := doc.Dict(info.Get("Glenrain")).Clone()
	data := doc.Dict(app.Get("Private")).Clone()
	app.Set("Private", data)
	info.Set("Glenrain", app)
	catalog.Set("PieceInfo", info)
	return data, nil
}

// ReadPrivate gives the same dictionary to be read; nil where there is none.
func ReadPrivate(doc *pdf.Document) *pdf.Dict {
	return doc.Dict(doc.Dict(doc.Dict(doc.Catalog().Get("PieceInfo")).Get("Glenrain")).Get("Private"))
}

// List gives the document's furnishings, in the order they were placed.
func List(doc *pdf.Document) []Placed {
	var out []Placed
	for _, o := range doc.Array(ReadPrivate(doc).Get("Furnishings")) {
		d := doc.Dict(o)
		id, _ := doc.Resolve(d.Get("ID")).(pdf.String)
		if len(id) != 16 {
			continue
		}
		values, _ := doc.Resolve(d.Get("Values")).(pdf.String)
		stale, _ := doc.Resolve(d.Get("Stale")).(pdf.Boolean)
		p := Placed{ID: hex.EncodeToString([]byte(id)), Kind: string(doc.Name(d.Get("Kind"))), Values: []byte(pdf.Text(values)), Stale: bool(stale)}
		for _, r := range doc.Array(d.Get("Pages")) {
			if r, ok := r.(pdf.Ref); ok {
				p.Pages = append(p.Pages, r)
			}
		}
		for _, e := range doc.Dict(d.Get("Uses")).Entries() {
			if r, ok := e.Value.(pdf.Ref); ok {
				if p.Uses == nil {
					p.Uses = map[string]pdf.Ref{}
				}
				p.Uses[string(e.Key)] = r
			}
		}
		out = append(out, p)
	}
	return out
}

// Find gives the furnishing of that id.
func Find(doc *pdf.Document, id string) (Placed, bool) {
	for _, p := range List(doc) {
		if p.ID == id {
			return p, true
		}
	}
	return Placed{}, false
}

// Keep stores p, in its old place where its id is known, else at the end.
func Keep(doc *pdf.Document, p Placed, now time.Time) error {
	id, err := hex.DecodeString(p.ID)
	if err != nil || len(id) != 16 {
		return errors.New("an id has 128 bits")
	}
	d := pdf.NewDict("ID", pdf.String(id), "Kind", pdf.Name(p.Kind), "Values", pdf.TextString(string(p.Values)))
	if p.Stale {
		d.Set("Stale", pdf.Boolean(true))
	}
	if p.Pages != nil {
		list := make(pdf.Array, len(p.Pages))
		for i, r := range p.Pages {
			list[i] = r
		}
		d.Set("Pages", list)
	}
	if len(p.Uses) > 0 {
		uses := pdf.NewDict()
		for _, name := range slices.Sorted(maps.Keys(p.Uses)) {
			uses.Set(pdf.Name(name), p.Uses[name])
		}
		d.Set("Uses", uses)
	}
	return edit(doc, now, func(list pdf.Array) pdf.Array {
		for i, o := range list {
			if doc.Dict(o).Get("ID") == pdf.String(id) {
				list[i] = d
				return list
			}
		}
		return append(list, d)
	})
}

// FreshID draws ids until one is not in use in doc.
func FreshID(doc *pdf.Document, newID func() [16]byte) [16]byte {
	for {
		id := newID()
		if _, taken := Find(doc, hex.EncodeToString(id[:])); !taken {
			return id
		}
	}
}

// Forget drops the furnishing's rule; what it drew is removed page by page with Erase.
func Forget(doc *pdf.Document, id string, now time.Time) error {
	raw, err := hex.DecodeString(id)
	if err != nil {
		return err
	}
	return edit(doc, now, func(list pdf.Array) pdf.Array {
		return slices.DeleteFunc(list, func(o pdf.Object) bool { return doc.Dict(o).Get("ID") == pdf.String(raw) })
	})
}

func edit(doc *pdf.Document, now time.Time, f func(pdf.Array) pdf.Array) error {
	data, err := Private(doc)
	if err != nil {
		return err
	}
	list := f(slices.Clone(doc.Array(data.Get("Furnishings"))))
	if len(list) == 0 {
		data.Delete("Furnishings")
		leaveNothing(doc, false)
		return nil
	}
	data.Set("Furnishings", list)
	app := doc.Dict(doc.Dict(doc.Catalog().Get("PieceInfo")).Get("Glenrain"))
	app.Set("LastModified", pdf.DateString(now)) // a clone of its own since Private()
	return nil
}

// Tidy takes away what the document keeps only as long as it is worked on: before it goes out. Furnishings stay, with what
// changing them later needs.
func Tidy(doc *pdf.Document) { leaveNothing(doc, true) }

// leaveNothing takes the fences away where no furnishing needs them, and with out what else is only for working on the document; where
// nothing is left, the dictionaries go too.
func leaveNothing(doc *pdf.Document, out bool) {
	was := ReadPrivate(doc)
	if was == nil {
		return
	}
	left := was.Clone()
	furnished := len(doc.Array(was.Get("Furnishings"))) > 0
	for _, e := range was.Entries() {
		fence := strings.HasPrefix(string(e.Key), prefixFence)
		if e.Key != "Furnishings" && (out || fence) && (!fence || !furnished) {
			left.Delete(e.Key)
		}
	}
	if left.Len() == was.Len() && left.Len() > 0 {
		return
	}
	catalog := doc.Edit(doc.Root())
	info := doc.Dict(catalog.Get("PieceInfo")).Clone()
	app := doc.Dict(info.Get("Glenrain")).Clone()
	if left.Len() > 0 {
		app.Set("Private", left)
		info.Set("Glenrain", app)
	} else {
		info.Delete("Glenrain")
	}
	if info.Len() == 0 {
		catalog.Delete("PieceInfo")
		return
	}
	catalog.Set("PieceInfo", info)
}

// Items tells what furnishings drew on a page, in drawing order.
func Items(doc *pdf.Document, page pdf.Ref) []Item {
	var out []Item
	for _, o := range contents(doc, page) {
		s := doc.Stream(o)
		if s == nil {
			continue
		}
		id, ok := doc.Resolve(s.Dict.Get(keyID)).(pdf.String)
		if !ok {
			continue
		}
		made, _ := doc.Resolve(s.Dict.Get(keyMade)).(pdf.String)
		ref, _ := o.(pdf.Ref)
		out = append(out, Item{hex.EncodeToString([]byte(id)), pdf.Text(made), ref})
	}
	return out
}

// Stamp is one thing to draw on a page for a furnishing.
type Stamp struct {
	ID      string
	Subtype pdf.Name // Header, Footer or Watermark (14.8.2.2)
	Edge    pdf.Name // Top or Bottom: the edge it is attached to
	Form    pdf.Ref
	At      pdf.Matrix // from the form's space to the page's default user space
	Made    string     // kept beside it: tells later whether it would be drawn the same again
	Under   bool       // under what stands on the page, instead of over it
}

// Put draws m on the page as a pagination artifact with a content stream of its own (14.8.2.2.2): over all that stands there
// already, or under the page's own content and over what was put under it before. broken: the page's own content has mistakes, so that some programs
// may not come to draw it.
func Put(doc *pdf.Document, page pdf.Ref, m Stamp) (broken bool, err error) {
	id, err := hex.DecodeString(m.ID)
	if err != nil {
		return false, err
	}
	if broken, err = fence(doc, page); err != nil {
		return false, err
	}
	xobjects := ownResources(doc, page, "XObject")
	name := freeName(xobjects, "Furnishing")
	xobjects.Set(name, m.Form)
	if d := doc.Edit(m.Form); d != nil {
		d.Set(keyID, pdf.String(id))
	}
	props := pdf.NewDict("Type", pdf.Name("Pagination"))
	if m.Subtype != "" {
		props.Set("Subtype", m.Subtype)
	}
	if m.Edge != "" {
		props.Set("Attached", pdf.Array{m.Edge})
	}
	props.Set(keyID, pdf.String(id))
	var c Content
	c.Op("BDC", pdf.Name("Artifact"), props).Op("q").Matrix(m.At).Op("Do", name).Op("Q").Op("EMC")
	stream := doc.Add(pdf.NewStream(pdf.NewDict(keyID, pdf.String(id), keyMade, pdf.TextString(m.Made)), c.Bytes()))
	list := slices.Clone(contents(doc, page))
	at := len(list)
	if m.Under {
		at = max(0, slices.IndexFunc(list, func(o pdf.Object) bool { return isFence(doc, o) }))
	}
	doc.Edit(page).Set("Contents", slices.Insert(list, at, pdf.Object(stream)))
	return broken, nil
}

// Erase removes what a furnishing drew on the page and tells whether there was
// anything. With the last furnishing the fence goes too, and the page's content is
// as it was before.
func Erase(doc *pdf.Document, page pdf.Ref, id string) (bool, error) {
	raw, err := hex.DecodeString(id)
	if err != nil {
		return false, err
	}
	eraseLinks(doc, page, pdf.String(raw))
	list := contents(doc, page)
	keep := make(pdf.Array, 0, len(list))
	others := false
	for _, o := range list {
		if s := doc.Stream(o); s != nil && s.Dict.Has(keyInvisible) {
			others = true
		} else if s != nil && s.Dict.Has(keyID) {
			if doc.Resolve(s.Dict.Get(keyID)) == pdf.String(raw) {
				continue
			}
			others = true
		}
		keep = append(keep, o)
	}
	if len(keep) == len(list) {
		return false, nil
	}
	if !others {
		keep = slices.DeleteFunc(keep, func(o pdf.Object) bool { return isFence(doc, o) })
	}
	p := doc.Edit(page)
	switch len(keep) {
	case 0:
		p.Delete("Contents")
	case 1:
		p.Set("Contents", keep[0])
	default:
		p.Set("Contents", keep)
	}
	xobjects := ownResources(doc, page, "XObject")
	for _, e := range slices.Clone(xobjects.Entries()) {
		if s := doc.Stream(e.Value); s != nil && doc.Resolve(s.Dict.Get(keyID)) == pdf.String(raw) {
			xobjects.Delete(e.Key)
		}
	}
	if xobjects.Len() == 0 {
		doc.Dict(p.Get("Resources")).Delete("XObject") // ownResources made it the page's own
	}
	return true, nil
}

// Carry takes over the furnishings of pages that were copied from src into dst.
// Where dst has one of the same id, the copies get a new one from newID. The
// carried rule names the brought pages singly. bring copies what it draws with. It gives the carried furnishings.
func Carry(dst, src *pdf.Document, pages []pdf.Ref, bring func(pdf.Object) (pdf.Object, error), newID func() [16]byte, now time.Time) ([]Placed, error) {
	touched := map[string][]pdf.Ref{}
	for _, p := range pages {
		for _, it := range Items(dst, p) {
			touched[it.ID] = append(touched[it.ID], p)
		}
	}
	var out []Placed
	for _, f := range List(src) {
		on := touched[f.ID]
		if len(on) == 0 {
			continue
		}
		f.Pages = on
		for name, r := range f.Uses {
			o, err := bring(r)
			if err != nil {
				return nil, err
			}
			if f.Uses[name], _ = o.(pdf.Ref); f.Uses[name].IsZero() {
				delete(f.Uses, name)
			}
		}
		if _, clash := Find(dst, f.ID); clash {
			old := f.ID
			id := FreshID(dst, newID)
			f.ID = hex.EncodeToString(id[:])
			for _, p := range on {
				rename(dst, p, old, id)
			}
		}
		if err := Keep(dst, f, now); err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// rename gives what a furnishing drew on a page another id.
func rename(doc *pdf.Document, page pdf.Ref, old string, id [16]byte) {
	raw, _ := hex.DecodeString(old)
	was := pdf.AppendObject(nil, pdf.String(raw))
	now := pdf.AppendObject(nil, pdf.String(id[:]))
	for _, it := range Items(doc, page) {
		if it.ID != old || it.stream.IsZero() {
			continue
		}
		s := doc.Stream(it.stream)
		data, _, err := doc.Decode(s)
		if err != nil {
			continue
		}
		dict := s.Dict.Clone()
		dict.Delete("Filter")
		dict.Set(keyID, pdf.String(id[:]))
		doc.Set(it.stream, pdf.NewStream(dict, bytes.ReplaceAll(data, was, now)))
	}
	for _, o := range doc.Array(doc.Dict(page).Get("Annots")) {
		if r, ok := o.(pdf.Ref); ok && doc.Resolve(doc.Dict(r).Get(keyID)) == pdf.Object(pdf.String(raw)) {
			doc.Edit(r).Set(keyID, pdf.String(id[:]))
		}
	}
	for _, e := range doc.Dict(doc.Dict(doc.Inherited(page, "Resources")).Get("XObject")).Entries() {
		r, ok := e.Value.(pdf.Ref)
		if s := doc.Stream(r); ok && s != nil && doc.Resolve(s.Dict.Get(keyID)) == pdf.String(raw) {
			doc.Edit(r).Set(keyID, pdf.String(id[:]))
		}
	}
}

// IsPlaced reports whether the dictionary of a form is that of something that was placed on pages and is kept as an object of its own.
func IsPlaced(d *pdf.Dict) bool { return d.Has(keyID) || d.Has(keyMade) }
