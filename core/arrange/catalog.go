package arrange

import (
	"fmt"
	"strings"

	"glenrain/core/claim"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// What is said where something that hangs on the document does not fit its pages any more.
const (
	droppedXFA   = "The form’s XFA copy was removed, because it can’t follow this change. The form itself is kept."
	droppedRange = "The list of pages to print was removed, because it used page numbers."
	droppedParts = "The division into parts for printing (DPart) was removed, because it used page ranges."
)

// quoted names a few titles.
func quoted(titles []string) string {
	const most = 5
	var out []string
	for i, t := range titles {
		if i == most {
			return strings.Join(out, ", ") + fmt.Sprintf(" and %s", step.Count(len(titles)-most, "other"))
		}
		if r := []rune(t); len(r) > 60 {
			t = string(r[:58]) + "…"
		}
		out = append(out, "“"+t+"”")
	}
	return strings.Join(out, ", ")
}

// shiftPrinting forgets the pages that the document proposes to print (ISO 32000-2, 12.2, table 147): they are named by number. It tells whether
// there were any.
func shiftPrinting(doc *pdf.Document) bool {
	v := doc.Dict(doc.Catalog().Get("ViewerPreferences"))
	if !v.Has("PrintPageRange") {
		return false
	}
	left := v.Clone()
	left.Delete("PrintPageRange")
	if r, ok := doc.Catalog().Get("ViewerPreferences").(pdf.Ref); ok {
		doc.Set(r, left)
	} else {
		doc.Edit(doc.Root()).Set("ViewerPreferences", left)
	}
	return true
}

// shiftPages forgets what the document says of its pages by number or range, which does not hold once pages come, go or change places. It tells what.
func shiftPages(doc *pdf.Document) (told []string) {
	if shiftPrinting(doc) {
		told = append(told, droppedRange)
	}
	if !doc.Catalog().Has("DPartRoot") {
		return told
	}
	doc.Edit(doc.Root()).Delete("DPartRoot")
	if pages, err := doc.Pages(); err == nil {
		for _, l := range pages {
			if doc.Dict(l.Ref).Has("DPart") {
				doc.Edit(l.Ref).Delete("DPart")
			}
		}
	}
	return append(told, droppedParts)
}

// fromFirst are entries of the catalog that a new document takes from the first one put into it: how it wants to be shown, its language,
// the printing condition that its colours are made for, and whether it is tagged (7.7.2, table 29).
var fromFirst = []pdf.Name{"ViewerPreferences", "PageLayout", "Lang", "OutputIntents", "MarkInfo", "Extensions"}

// bringCatalog does for entries of the source's catalog that belong to no page what docs/KEEPING.md says, and tells what was left behind and may be missed.
func bringCatalog(doc, src *pdf.Document, c *pdf.Copier, name string) (told []string) {
	from := src.Catalog()
	pages, err := doc.Pages()
	if err == nil && len(pages) == 0 { // the first pages of a new document
		for _, k := range fromFirst {
			v := src.Resolve(from.Get(k))
			if v == nil {
				continue
			}
			if copied, err := c.Object(v); err == nil {
				doc.Edit(doc.Root()).Set(k, copied)
			}
		}
		shiftPrinting(doc)
	} else if intents := from.Get("OutputIntents"); len(src.Array(intents)) > 0 || len(doc.Array(doc.Catalog().Get("OutputIntents"))) > 0 {
		if came, err := c.Object(src.Resolve(intents)); err != nil || !doc.Alike(doc.Catalog().Get("OutputIntents"), came) {
			told = append(told, fmt.Sprintf("“%s” uses a different printing condition from the document: its colours may print differently.", name))
		}
	}
	if claims := claim.Of(src); doc.Size() == 0 && len(claims) > 0 { // a new document
		told = append(told, fmt.Sprintf("“%s” claims to be %s; the new document doesn’t.", name, claim.Names(claims)))
	}
	if from.Has("AA") || doc.Name(src.Dict(from.Get("OpenAction")).Get("S")) == "JavaScript" {
		told = append(told, fmt.Sprintf("The actions that “%s” runs when it is opened, printed or closed were left out.", name))
	}
	if src.Dict(from.Get("Collection")) != nil {
		told = append(told, fmt.Sprintf("“%s” is a collection of files: its presentation settings were left out.", name))
	}
	if len(src.Array(from.Get("Threads"))) > 0 {
		told = append(told, fmt.Sprintf("The article threads of “%s” were left out.", name))
	}
	if src.Version() > doc.Version() {
		doc.Edit(doc.Root()).Set("Version", pdf.Name(src.Version()))
	}
	return told
}

// spoken lets the language of an untagged source stay with its pages where the document's is another: their content becomes marked content of
// that language (14.9.2.2).
func spoken(doc, src *pdf.Document, pages []pdf.Ref) {
	lang, _ := src.Resolve(src.Catalog().Get("Lang")).(pdf.String)
	all, err := doc.Pages()
	own, _ := doc.Resolve(doc.Catalog().Get("Lang")).(pdf.String)
	if lang == "" || lang == own || err != nil || len(all) == 0 || src.Dict(src.Catalog().Get("StructTreeRoot")) != nil {
		return
	}
	begin := doc.Add(pdf.NewStream(nil, append(pdf.AppendObject([]byte("/Span "), pdf.NewDict("Lang", lang)), " BDC\n"...)))
	end := doc.Add(pdf.NewStream(nil, []byte("\nEMC\n")))
	for _, p := range pages {
		var list pdf.Array
		switch v := doc.Dict(p).Get("Contents").(type) {
		case pdf.Array:
			list = v
		case pdf.Ref:
			if a := doc.Array(v); a != nil {
				list = a
			} else if doc.Stream(v) != nil {
				list = pdf.Array{v}
			}
		}
		if len(list) > 0 {
			doc.Edit(p).Set("Contents", append(append(pdf.Array{begin}, list...), end))
		}
	}
}
