package step

import "cmp"

// labels are what people read for values of an enum whose name in files is another.
var labels = map[string]string{
	"":                      "unchanged",
	"own size":              "custom size",
	"like its neighbour":    "same as the neighbouring page",
	"as the page":           "same way up as the page",
	"as fits":               "whichever fits",
	"as needed":             "large enough for the pages",
	"shrink only":           "only if too large",
	"wider paper":           "enlarge the paper",
	"make smaller":          "reduce the pages",
	"behind each":           "after each",
	"behind the others":     "after the others",
	"edges":                 "at the edges",
	"print":                 "to the content",
	"one stack":             "all sheets together",
	"under one of its name": "under its name",
	"none":                  "none",
	"gray":                  "greyscale",
	"black-and-white":       "black and white",
	"across":                "left to right",
	"down":                  "top to bottom",
	"front":                 "bring to front",
	"back":                  "send to back",
	"fit":                   "fitted inside the frame",
	"fill":                  "filling the space",
	"stretch":               "stretched to the frame",
	"push":                  "move text below down",
	"tighten":               "tighten the line spacing",
	"raised":                "superscript",
	"lowered":               "subscript",
	"level":                 "on the line",
	"stroke":                "freehand stroke",
}

// Label is what people read for a value of an enum.
func Label(value string) string { return cmp.Or(labels[value], value) }
