package field

import "glenrain/core/pdf"

// Signature is a signature field that was signed (ISO 32000-2, 12.8).
type Signature struct {
	Field     string    // the field's name
	Signer    string    // /Name of the signature dictionary; may be empty
	Certifies Certified // whether and how it restricts changes
}

// Certified is what a certification allows (12.8.2.2, table 257); 0 for a plain signature.
type Certified int

// The access permissions of DocMDP.
const (
	NoChanges     Certified = 1
	FormsOnly     Certified = 2 // filling in form fields, and signing
	FormsAndNotes Certified = 3 // and annotations
)

// Allows says in words what a certification allows to change.
func (c Certified) Allows() string {
	switch c {
	case NoChanges:
		return "no changes"
	case FormsOnly:
		return "only filling in its form"
	case FormsAndNotes:
		return "only filling in its form and adding notes"
	}
	return "any change"
}

// Signatures lists the signatures in a document.
func Signatures(doc *pdf.Document) []Signature {
	out, _ := signatures(doc)
	return out
}

// Unsign takes the signatures out of a document that is written anew, which none of them would fit:
// their fields stay, empty, and look as they did. Rights that depend on a signature (12.8.2.3, 12.8.4) go with them.
func Unsign(doc *pdf.Document) {
	all, fields := signatures(doc)
	if doc.Catalog().Has("Perms") {
		doc.Edit(doc.Root()).Delete("Perms")
	}
	if len(all) == 0 {
		return
	}
	for _, r := range fields {
		if f := doc.Edit(r); f != nil {
			f.Delete("V")
		}
	}
	editForm(doc).Delete("SigFlags")
}

// signatures lists the signatures, and the fields that are objects of their own.
func signatures(doc *pdf.Document) ([]Signature, []pdf.Ref) {
	var fields []pdf.Ref
	certifying := doc.Dict(doc.Dict(doc.Catalog().Get("Perms")).Get("DocMDP"))
	var out []Signature
	w := doc.NewWalk()
	var walk func(list pdf.Array, name string, isSig bool)
	walk = func(list pdf.Array, name string, isSig bool) {
		for _, o := range list {
			f := w.Enter(o)
			if f == nil {
				continue
			}
			full, sig := name, isSig
			if t, ok := doc.Resolve(f.Get("T")).(pdf.String); ok {
				if full != "" {
					full += "."
				}
				full += pdf.Text(t)
			}
			if ft := doc.Name(f.Get("FT")); ft != "" {
				sig = ft == "Sig"
			}
			if v := doc.Dict(f.Get("V")); sig && v != nil {
				s := Signature{Field: full}
				signer, _ := doc.Resolve(v.Get("Name")).(pdf.String)
				s.Signer = pdf.Text(signer)
				if v == certifying {
					s.Certifies = certified(doc, v)
				}
				out = append(out, s)
				if r, ok := o.(pdf.Ref); ok {
					fields = append(fields, r)
				}
			}
			walk(doc.Array(f.Get("Kids")), full, sig)
			w.Leave()
		}
	}
	walk(doc.Array(doc.Dict(doc.Catalog().Get("AcroForm")).Get("Fields")), "", false)
	return out, fields
}

// certified reads /P of the DocMDP transform parameters; 2 where it is not said.
func certified(doc *pdf.Document, sig *pdf.Dict) Certified {
	for _, r := range doc.Array(sig.Get("Reference")) {
		ref := doc.Dict(r)
		if doc.Name(ref.Get("TransformMethod")) != "DocMDP" {
			continue
		}
		if p, ok := pdf.Number(doc.Resolve(doc.Dict(ref.Get("TransformParams")).Get("P"))); ok && p >= 1 && p <= 3 {
			return Certified(p)
		}
	}
	return FormsOnly
}
