// Package arrange is the station where pages are put in order, rotated and removed, on a board of all of them.
package arrange

import (
	"embed"

	"glenrain/core/nav"
	"glenrain/core/structure"
	"glenrain/web/station"
)

//go:embed *.html *.js
var files embed.FS

// Station is the value that the list of stations has.
func Station() station.Station {
	return station.Station{
		Path: "arrange", Name: "Arrange", Words: "pages, split, bookmarks", Surface: station.Board, Files: files,
		Routes: func(r station.Router, h station.Host) { (&bench{h}).routes(r) },
		Jobs: []station.Job{{
			Words: "pages", Slip: "pages.html", Module: "pages.js", View: pagesView,
			Steps: []station.Form{{Step: "move"}, {Step: "rotate"}, {Step: "remove"}, {Step: "duplicate"}, {Step: "reverse"}, {Step: "interleave"}, {Step: "replace"}},
			Finds: []station.Find{
				{Text: "Move pages", Words: "arrange move order drag pages reorder cut paste"},
				{Text: "Rotate pages", Words: "rotate turn pages upright landscape portrait sideways"},
				{Text: "Remove pages", Words: "remove delete take out drop pages"},
				{Text: "Open another document in a lane", Words: "lane beside second document side by side compare insert"},
				{Text: "Duplicate pages", Words: "duplicate copy pages twice"},
				{Text: "Reverse the order of pages", Words: "reverse order backwards pages"},
				{Text: "Interleave two stacks", Words: "interleave stacks fronts backs duplex scan collate mix"},
				{Text: "Extract pages", Words: "extract pages new document save"},
				{Text: "Replace pages", Words: "replace exchange page swap"},
			},
			Keys: []station.Key{
				{Keys: []string{"r"}, Act: "rotate-right", What: "rotate right"},
				{Keys: []string{"l"}, Act: "rotate-left", What: "rotate left"},
				{Keys: []string{"Delete", "Backspace"}, Act: "remove", What: "remove"},
				{Keys: []string{"x"}, Act: "cut", What: "cut, to paste elsewhere"},
				{Keys: []string{"c"}, Act: "copy", What: "copy, to paste elsewhere"},
				{Keys: []string{"v"}, Act: "paste", What: "paste before the cursor"},
				{Keys: []string{"Shift+v"}, Act: "paste-after", What: "paste after the cursor"},
				{Keys: []string{"d"}, Act: "duplicate", What: "duplicate"},
				{Keys: []string{"k"}, Act: "open-lane", What: "open another document in a lane"},
				{Keys: []string{"j"}, Act: "next-lane", What: "to the next lane"},
				{Keys: []string{"Enter"}, Act: "apply", What: "do what the slip says"},
				{Keys: []string{"Escape"}, Act: "cancel", What: "cancel it"},
			},
		}},
	}
}

// shown is what the slip shows besides.
type shown struct {
	Headings bool // there may be headings of pages over others: bookmarks below one another, or tags
	Labels   bool // pages are called otherwise than by their place
}

func pagesView(visit *station.Visit) (any, error) {
	doc := visit.Snapshot.PDF.In(visit.Request.Context())
	v := shown{Headings: structure.Tagged(doc), Labels: visit.Snapshot.Labels() != nil}
	for _, it := range nav.Outline(doc) {
		v.Headings = v.Headings || len(it.Kids) > 0
	}
	return v, nil
}
