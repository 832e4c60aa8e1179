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
				{Text: "Remove pages", Words: "remove delete drop pages"},
				{Text: "Open another document beside it", Words: "lane beside second document side by side compare insert"},
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
				{Keys: []string{"Ctrl+x"}, Act: "cut", What: "cut, to paste elsewhere"},
				{Keys: []string{"Ctrl+c"}, Act: "copy", What: "copy, to paste elsewhere"},
				{Keys: []string{"Ctrl+v"}, Act: "paste", What: "paste before the cursor"},
				{Keys: []string{"Ctrl+Shift+v"}, Act: "paste-after", What: "paste after the cursor"},
				{Keys: []string{"d"}, Act: "duplicate", What: "duplicate"},
				{Keys: []string{"o"}, Act: "open-lane", What: "open another document beside it"},
				{Keys: []string{"."}, Act: "next-lane", What: "go to the next document"},
				{Keys: []string{"f"}, Act: "add-files", What: "add files before the cursor"},
				{Keys: []string{"Enter"}, Act: "apply", What: "apply"},
				{Keys: []string{"Escape"}, Act: "cancel", What: "cancel it"},
			},
		}, {
			Path: "blank", Words: "blank pages", Slip: "blank.html", Module: "blank.js", View: showPapers,
			Steps: []station.Form{{Step: "blank"}, {Step: "blank-odd"}},
			Finds: []station.Find{
				{Text: "Insert blank pages", Words: "insert blank empty page ruled lines squares dots notes"},
				{Text: "Start each part on an odd page", Words: "odd page recto begin part chapter double sided duplex"},
				{Text: "Find blank pages", Words: "find blank empty pages remove"},
			},
			Keys: []station.Key{{Keys: []string{"s"}, Act: "set-mark", What: "insert before the page under the cursor"}},
		}, {
			Path: "size", Words: "page size", Slip: "size.html", Module: "size.js", View: showPapers, Surface: station.Paper,
			Steps: []station.Form{{Step: "crop"}, {Step: "uncrop"}, {Step: "paper"}, {Step: "binding"}},
			Finds: []station.Find{
				{Text: "Crop pages", Words: "crop cut trim edges margins frame"},
				{Text: "Change the paper size", Words: "paper size scale resize a4 a3 a5 letter"},
				{Text: "Add a binding margin", Words: "binding margin gutter punch holes"},
			},
		}, {
			Path: "sheets", Words: "pages per sheet", Slip: "sheets.html", Module: "sheets.js", View: showPapers, Surface: station.Paper,
			Steps: []station.Form{{Step: "sheets"}},
			Finds: []station.Find{
				{Text: "Place several pages on a sheet", Words: "several pages sheet two four print n-up handout"},
				{Text: "Make a booklet", Words: "booklet fold brochure print imposition"},
			},
		}, {
			Path: "split", Words: "split", Slip: "split.html", Module: "split.js", View: showSplit,
			Finds: []station.Find{{Text: "Split the document", Words: "split cut parts divide separate zip size bookmarks"}},
			Keys:  []station.Key{{Keys: []string{"s"}, Act: "set-mark", What: "split before the page under the cursor, or remove the cut"}},
		}, {
			Path: "bookmarks", Words: "bookmarks", Slip: "bookmarks.html", Module: "bookmarks.js", View: showMarks, Surface: station.Paper,
			Steps: []station.Form{{Step: "bookmark-add"}, {Step: "bookmark-change"}, {Step: "bookmark-move"}, {Step: "bookmark-remove"}, {Step: "bookmarks-make"}, {Step: "contents"}, {Step: "contents-change"}},
			Fixes: []string{"nowhere"},
			Finds: []station.Find{
				{Text: "Bookmarks", Words: "bookmarks outline chapters add rename nest order"},
				{Text: "Insert a table of contents", Words: "contents table toc index page list bookmarks printed"},
				{Text: "Create bookmarks from headings", Words: "bookmarks headings make automatic outline"},
			},
		}, {
			Path: "labels", Words: "page labels", Slip: "labels.html", Module: "labels.js", View: showLabels,
			Steps: []station.Form{{Step: "label"}, {Step: "labels-remove"}},
			Finds: []station.Find{{Text: "Label pages", Words: "page labels numbering roman foreword annex names"}},
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
