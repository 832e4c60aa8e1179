package draw

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"glenrain/core/content"
	"glenrain/core/pdf"
)

// Private keys that Glenrain writes into a PDF, with a prefix of its own as annex E
// of ISO 32000-2 asks.
const (
	keyFence = pdf.Name("GLRN_Fence") // on a fence stream: how many q or Q it holds
	keyID    = pdf.Name("GLRN_ID")    // on what belongs to a furnishing: its id
	keyMade  = pdf.Name("GLRN_Made")  // on a furnishing's stream: what was drawn and where
)

// prefixFence begins the keys of fence streams in Glenrain's private dictionary.
const prefixFence = "Fence_"

// contents gives a page's content streams, in order.
func contents(doc *pdf.Document, page pdf.Ref) pdf.Array {
	switch v := doc.Dict(page).Get("Contents").(type) {
	case pdf.Array:
		return v
	case pdf.Ref:
		if a, ok := doc.Resolve(v).(pdf.Array); ok {
			return a
		}
		if doc.Stream(v) != nil {
			return pdf.Array{v}
		}
	}
	return nil
}

// fence puts a page's own streams between q and Q, so that what is drawn after
// them starts from a clean graphics state. Operators that are left open or closed
// once too often in the page's own streams are made up for. broken: the content has mistakes behind which programs go on in
// different ways, or not at all; it is not looked at where the fence stands already.
func fence(doc *pdf.Document, page pdf.Ref) (broken bool, err error) {
	own := contents(doc, page)
	if len(own) == 0 || fenced(doc, own) {
		return false, nil
	}
	type left struct{ missing, extra int }
	known := map[pdf.Ref]left{} // a page may name one stream many times
	missing, extra := 0, 0
	for _, o := range own {
		ref, isRef := o.(pdf.Ref)
		b, ok := known[ref]
		if s := doc.Stream(o); s != nil && !ok {
			data, rest, err := doc.DecodeMost(s, pdf.MaxContent)
			switch {
			case errors.Is(err, pdf.ErrLimit): // what is left open in it can't be known
				return false, fmt.Errorf("the content of a page: %w", err)
			case err == nil && len(rest) == 0: // what can't be read draws nothing, and leaves nothing open
				var bad bool
				b.missing, b.extra, bad = balance(data)
				broken = broken || bad
			default:
				broken = true
			}
			if isRef {
				known[ref] = b
			}
		}
		extra += max(0, b.extra-missing)
		missing = max(0, missing-b.extra) + b.missing
	}
	open, err := fenceStream(doc, "q", 1+extra)
	if err != nil {
		return false, err
	}
	closing, err := fenceStream(doc, "Q", 1+missing)
	if err != nil {
		return false, err
	}
	list := make(pdf.Array, 0, len(own)+2)
	list = append(append(append(list, open), own...), closing)
	doc.Edit(page).Set("Contents", list)
	return broken, nil
}

func fenced(doc *pdf.Document, list pdf.Array) bool {
	return slices.ContainsFunc(list, func(o pdf.Object) bool { return isFence(doc, o) })
}

func isFence(doc *pdf.Document, o pdf.Object) bool {
	s := doc.Stream(o)
	return s != nil && s.Dict.Has(keyFence)
}

// fenceStream gives the document's shared stream of n times the operator.
func fenceStream(doc *pdf.Document, operator string, n int) (pdf.Ref, error) {
	own, err := Private(doc)
	if err != nil {
		return pdf.Ref{}, err
	}
	key := pdf.Name(fmt.Sprintf("%s%s%d", prefixFence, operator, n))
	if r, ok := own.Get(key).(pdf.Ref); ok {
		if s := doc.Stream(r); s != nil && s.Dict.Has(keyFence) {
			return r, nil
		}
	}
	r := doc.Add(pdf.NewStream(pdf.NewDict(keyFence, pdf.Integer(n)), []byte(strings.Repeat(operator+" ", n))))
	own.Set(key, r)
	return r, nil
}

// balance counts q without Q (missing) and Q without q (extra) in content, and tells whether it has mistakes.
func balance(data []byte) (missing, extra int, broken bool) {
	scan := content.Scanner{Data: data}
	var o content.Op
	for scan.Next(&o) {
		broken = broken || !o.Code.Standard()
		switch string(data[o.At:o.End]) {
		case "q":
			missing++
		case "Q":
			if missing > 0 {
				missing--
			} else {
				extra++
			}
		}
	}
	return missing, extra, broken || scan.Broken
}

// ownResources gives the page a resource dictionary of its own in which entries of
// the category may be set: what is shared with other pages is cloned first.
func ownResources(doc *pdf.Document, page pdf.Ref, category pdf.Name) *pdf.Dict {
	res := doc.Dict(doc.Inherited(page, "Resources")).Clone()
	sub := doc.Dict(res.Get(category)).Clone()
	res.Set(category, sub)
	doc.Edit(page).Set("Resources", res)
	return sub
}

// freeName gives a resource name that d does not have.
func freeName(d *pdf.Dict, prefix string) pdf.Name {
	for i := 1; ; i++ {
		if n := pdf.Name(fmt.Sprintf("%s%d", prefix, i)); !d.Has(n) {
			return n
		}
	}
}
