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
		Path: "arrange", Name: "Arrange", Words: "move, rotate, remove pages", Surface: station.Board, Files: files,
		Jobs: []station.Job{{
			Words: "pages", Slip: "pages.html", Module: "pages.js", View: pagesView,
			Steps: []station.Form{{Step: "move"}, {Step: "rotate"}, {Step: "remove"}},
			Finds: []station.Find{
				{Text: "Move pages", Words: "arrange move order drag pages reorder cut paste"},
				{Text: "Rotate pages", Words: "rotate turn pages upright landscape portrait sideways"},
				{Text: "Remove pages", Words: "remove delete take out drop pages"},
			},
			Keys: []station.Key{
				{Keys: []string{"r"}, Act: "rotate-right", What: "rotate right"},
				{Keys: []string{"l"}, Act: "rotate-left", What: "rotate left"},
				{Keys: []string{"Delete", "Backspace"}, Act: "remove", What: "remove"},
				{Keys: []string{"x"}, Act: "cut", What: "cut, to paste elsewhere"},
				{Keys: []string{"v"}, Act: "paste", What: "paste before the cursor"},
				{Keys: []string{"Shift+v"}, Act: "paste-after", What: "paste after the cursor"},
				{Keys: []string{"Enter"}, Act: "apply", What: "do what the slip says"},
				{Keys: []string{"Escape"}, Act: "cancel", What: "cancel it"},
			},
		}},
	}
}

// shown is what the slip shows besides.
type shown struct {
	Headings bool // there may be headings of pages over others: bookmarks below one another, or tags
}

func pagesView(visit *station.Visit) (any, error) {
	doc := visit.Snapshot.PDF.In(visit.Request.Context())
	for _, it := range nav.Outline(doc) {
		if len(it.Kids) > 0 {
			return shown{true}, nil
		}
	}
	return shown{structure.Tagged(doc)}, nil
}
