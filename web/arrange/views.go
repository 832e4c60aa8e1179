package arrange

import (
	"fmt"

	"glenrain/core/nav"
	"glenrain/core/step"
	"glenrain/web/station"
)

// papers are those that pages are put on, sheets those that are printed on.
var (
	papers = []string{"A3", "A4", "A5", "A6", "Letter", "Legal"}
	sheets = []string{"A3", "A4", "A5", "Letter", "Legal"}
)

type paperView struct {
	Papers []string
	Sheets []string
	Levels []int
	Here   string // the page that is looked at, as a page set
	Ranges []string
}

// showPapers gives what the slips about paper offer.
func showPapers(v *station.Visit) (any, error) {
	out := &paperView{Papers: papers, Sheets: sheets, Here: "1"}
	out.Levels = levels(nav.Outline(v.Snapshot.PDF.In(v.Request.Context())))
	if k, err := step.ParseKey(v.Request.FormValue("page")); err == nil {
		if i := v.Snapshot.Index(k); i >= 0 {
			out.Here = fmt.Sprint(i + 1)
		}
	}
	return out, nil
}

// showLabels says what pages are called, by ranges.
func showLabels(v *station.Visit) (any, error) {
	out := &paperView{}
	labels := nav.Labels(v.Snapshot.PDF)
	for from := 0; from < len(labels); {
		to := from
		for to+1 < len(labels) && follows(labels[to], labels[to+1]) {
			to++
		}
		said := fmt.Sprintf("Page %d is %s", from+1, shownLabel(labels[from]))
		if to > from {
			said = fmt.Sprintf("Pages %d to %d are %s to %s", from+1, to+1, shownLabel(labels[from]), shownLabel(labels[to]))
		}
		if len(out.Ranges) == mostRanges {
			out.Ranges = append(out.Ranges, "… and others")
			break
		}
		out.Ranges = append(out.Ranges, said)
		from = to + 1
	}
	return out, nil
}

const mostRanges = 40

func shownLabel(l nav.Label) string {
	if s := l.String(); s != "" {
		return s
	}
	return "without a label"
}

func follows(a, b nav.Label) bool {
	if a.Style == "" {
		return b == a
	}
	return b.Style == a.Style && b.Prefix == a.Prefix && b.Number == a.Number+1
}
