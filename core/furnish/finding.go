package furnish

import (
	"glenrain/core/draw"
	"glenrain/core/finding"
	"glenrain/core/pdf"
)

// Checks find what is the matter with furnishings.
func Checks() []finding.Check { return []finding.Check{stale} }

func stale(doc *pdf.Document) ([]finding.Finding, error) {
	var out []finding.Finding
	for _, p := range draw.List(doc) {
		if p.Stale {
			out = append(out, finding.Finding{Kind: "stale", Sentence: kindOf(p.Kind).OutOfDate, Asks: true, Open: 1})
		}
	}
	return out, nil
}
