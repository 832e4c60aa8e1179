// Package finding is about what is the matter with a document: what is told when a
// file arrives, and the loose ends that should be mended before one goes out. Each
// is found by computation. A finding names its page and where it is mended.
package finding

import (
	"context"
	"errors"
	"fmt"

	"glenrain/core/field"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// Finding is one thing that is the matter.
type Finding struct {
	Kind     string `json:"kind"`           // stable: "no-text", "stale", "untagged", "signed"; what mends it names it so
	Sentence string `json:"sentence"`       // for people
	Page     int    `json:"page,omitempty"` // from 1 on; 0 for the document
	Asks     bool   `json:"asks,omitempty"` // handing out asks first
	Open     int    `json:"open,omitempty"` // how many pages or places there are to put right; 0 where there is nothing to do about it
}

// Asking gives those of the findings because of which exporting asks first.
func Asking(list []Finding) (out []Finding) {
	for _, f := range list {
		if f.Asks {
			out = append(out, f)
		}
	}
	return out
}

// Check is one way of finding.
type Check func(*pdf.Document) ([]Finding, error)

// Arrival are the checks when a file is added.
var Arrival = []Check{signed, rights, elsewhere, withoutText, nowhere, untagged}

// General are the checks before a file goes out that belong to no job.
var General = []Check{signed, rights, withoutText, noTitle, nowhere, untagged}

// Unchecked is the kind of a finding that says that something could not be checked.
const Unchecked = "unchecked"

// Run runs checks one after another. One that fails, by whatever fault, is a finding of its own, and the others go on. An error is that ctx has ended,
// or that looking took more than a piece of work may (pdf.Document.Over): what was found until then comes with it.
func Run(ctx context.Context, doc *pdf.Document, checks []Check) ([]Finding, error) {
	var out []Finding
	failed := 0
	doc = doc.In(ctx)
	for _, c := range checks {
		f, err := try(doc, c)
		if over := errors.Join(doc.Over(), ctx.Err()); over != nil {
			return out, over
		}
		if err != nil {
			failed++
			continue
		}
		out = append(out, f...)
	}
	if failed > 0 {
		out = append(out, Finding{Kind: Unchecked, Asks: true, Sentence: fmt.Sprintf("%s failed on this document: a problem may go unnoticed", step.Count(failed, "check"))})
	}
	return out, nil
}

// try runs a check, and takes a panic for its failure.
func try(doc *pdf.Document, c Check) (f []Finding, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a check failed: %v", p)
		}
	}()
	return c(doc)
}

func signed(doc *pdf.Document) ([]Finding, error) {
	s := Signed(doc)
	if s == "" {
		return nil, nil
	}
	return []Finding{{Kind: "signed", Sentence: s}}, nil
}

// Signed says who signed a document and what becomes of the signature; empty where nobody did.
func Signed(doc *pdf.Document) string {
	all := field.Signatures(doc)
	for _, s := range all {
		if s.Certifies != 0 {
			return "certified" + by(s.Signer) + ", who allows " + s.Certifies.Allows() + ": other changes make the signature invalid"
		}
	}
	if len(all) > 0 {
		return "signed" + by(all[0].Signer) + ": any change makes the signature invalid"
	}
	// The form may say that there is a signature which is not found among the fields (12.7.3, table 225).
	flags, _ := pdf.Number(doc.Resolve(doc.Dict(doc.Catalog().Get("AcroForm")).Get("SigFlags")))
	if int(flags)&3 == 3 {
		return "signed: any change makes the signature invalid"
	}
	return ""
}

func by(signer string) string {
	if signer == "" {
		return ""
	}
	return " by " + signer
}

// rights finds what a signature allows certain programs to do (ISO 32000-2, 12.8.2.3).
func rights(doc *pdf.Document) ([]Finding, error) {
	if !HasRights(doc) {
		return nil, nil
	}
	return []Finding{{Kind: "rights", Sentence: "its usage rights (extra permissions for some programs) end with any change"}}, nil
}

// HasRights reports whether a signature gives certain programs rights, which end with any change.
func HasRights(doc *pdf.Document) bool {
	perms := doc.Dict(doc.Catalog().Get("Perms"))
	return perms.Has("UR3") || perms.Has("UR")
}

// elsewhere finds a form of which only programs for XFA know.
func elsewhere(doc *pdf.Document) ([]Finding, error) {
	if _, only := field.XFA(doc); !only {
		return nil, nil
	}
	return []Finding{{Kind: "xfa", Sentence: "it is an XFA form, which can’t be shown here: the pages may show only a placeholder"}}, nil
}

// nowhere finds bookmarks that lead to no page.
func nowhere(doc *pdf.Document) ([]Finding, error) {
	lost := nav.Nowhere(doc)
	if len(lost) == 0 {
		return nil, nil
	}
	first := []rune(lost[0])
	if len(first) > 40 {
		first = append(first[:38], '…')
	}
	s := fmt.Sprintf("the bookmark “%s” has no target page", string(first))
	if len(lost) > 1 {
		s = fmt.Sprintf("%s have no target page; the first is “%s”", step.Count(len(lost), "bookmark"), string(first))
	}
	return []Finding{{Kind: "nowhere", Sentence: s, Open: len(lost)}}, nil
}

func untagged(doc *pdf.Document) ([]Finding, error) {
	if structure.Tagged(doc) {
		return nil, nil
	}
	return []Finding{{Kind: "untagged", Sentence: "not tagged for screen readers"}}, nil
}

func noTitle(doc *pdf.Document) ([]Finding, error) {
	title, _ := doc.Resolve(doc.Dict(doc.Trailer().Get("Info")).Get("Title")).(pdf.String)
	if title != "" {
		return nil, nil
	}
	return []Finding{{Kind: "no-title", Sentence: "the document has no title"}}, nil
}

// withoutText finds pages that can show no text, because nothing they draw with has a
// font: they are pictures.
func withoutText(doc *pdf.Document) ([]Finding, error) {
	pages, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	fonts := &fontFinder{doc, map[int]bool{}}
	var at []int
	for i, l := range pages {
		if !fonts.in(doc.Inherited(l.Ref, "Resources"), doc.NewWalk()) && !fonts.inNotes(l.Ref) {
			at = append(at, i)
		}
	}
	if len(at) == 0 {
		return nil, nil
	}
	s := fmt.Sprintf("%s %s without text", step.Count(len(at), "page"), map[bool]string{true: "is a picture", false: "are pictures"}[len(at) == 1])
	if len(at) == len(pages) && len(at) > 1 {
		s = "all pages are pictures without text"
	}
	return []Finding{{Kind: "no-text", Sentence: s, Page: at[0] + 1, Open: len(at)}}, nil
}

// mostNotes is how many annotations of a page are looked at for text.
const mostNotes = 200

// inNotes reports whether an annotation of a page has an appearance that can show text.
func (f *fontFinder) inNotes(page pdf.Ref) bool {
	doc := f.doc
	notes := doc.Array(doc.Page(page).Get("Annots"))
	for _, o := range notes[:min(len(notes), mostNotes)] {
		a := doc.Dict(o)
		n := doc.Dict(a.Get("AP")).Get("N")
		s := doc.Stream(n)
		if s == nil {
			s = doc.Stream(doc.Dict(n).Get(doc.Name(a.Get("AS"))))
		}
		if s != nil && f.in(s.Dict.Get("Resources"), doc.NewWalk()) || s == nil && doc.Name(a.Get("Subtype")) == "FreeText" && doc.Resolve(a.Get("Contents")) != nil {
			return true
		}
	}
	return false
}

// fontFinder finds out what has a font to show text with. known are resources and forms that were looked through.
type fontFinder struct {
	doc   *pdf.Document
	known map[int]bool
}

// in reports whether resources have a font, or one of the forms in them does.
func (f *fontFinder) in(res pdf.Object, w *pdf.Walk) (found bool) {
	if r, ok := res.(pdf.Ref); ok {
		if v, ok := f.known[r.Num]; ok {
			return v
		}
		defer func() { f.known[r.Num] = found }()
	}
	d := w.Enter(res)
	if d == nil {
		return false
	}
	defer w.Leave()
	if f.doc.Dict(d.Get("Font")).Len() > 0 {
		return true
	}
	for _, e := range f.doc.Dict(d.Get("XObject")).Entries() {
		x := f.doc.Dict(e.Value)
		if f.doc.Name(x.Get("Subtype")) == "Form" && w.Once(e.Value) && f.in(x.Get("Resources"), w) {
			return true
		}
	}
	return false
}
