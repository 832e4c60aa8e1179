package main

// causes says why a file that is known to differ does so: found by reading both files, by hand.
var causes = map[string]string{
	"qpdf/bookmarks_5.pdf":               "the newest cross-reference section frees the outline; poppler rebuilds the table of the original by scanning and shows it again, of ours it believes the table",
	"qpdf/qpdf_append-page-content.pdf":  "as bookmarks_5: poppler rebuilds the original's table and shows an outline that was deleted",
	"qpdf/qpdf_delete-and-reuse.pdf":     "as bookmarks_5: poppler shows an outline of the original that was deleted",
	"qpdf/qpdf_lin-delete-and-reuse.pdf": "as bookmarks_5: poppler shows an outline of the original that was deleted",
	"qpdf/qpdf_append-xref-loop.pdf":     "its sections refer to one another in a circle; our scan finds an outline that qpdf's reading of the sections leaves out",
	"qpdf/qpdf_bad22.pdf":                "a stream without a length: ours leaves out the end of line before endstream, qpdf's mending keeps it",
	"qpdf/qpdf_bad23.pdf":                "as bad22",
	"qpdf/qpdf_bad24.pdf":                "as bad22",
	"qpdf/qpdf_direct-pages.pdf":         "its pages are direct objects: poppler shows nothing of the original and the pages of ours, which was mended",
	"qpdf/qpdf_fuzz-16214.pdf":           "found by fuzzing: no header, and hardly a catalog; poppler shows one empty page, and so does ours; qpdf finds none",
	"qpdf/qpdf_issue-120.pdf":            "an object stream in which catalog and page tree are scribbled over: poppler and qpdf find no page, ours makes a tree of the one that is left",
	"qpdf/qpdf_indirect-r-arg.pdf":       "an R after two references instead of two numbers: qpdf makes objects of it, ours reads null",
	"qpdf/qpdf_issue-117.pdf":            "found by fuzzing: streams whose lengths are wrong end elsewhere in qpdf's mending",
	"qpdf/qpdf_name-pound-images.pdf":    "a number sign in a name that begins no escape: ours keeps the sign, as poppler does, qpdf puts a zero in its place",
	"qpdf/qpdf_no-pages-types.pdf":       "a page without a type: ours has it, as the standard wants it",
	"qpdf/qpdf_stream-line-enders.pdf":   "the word stream with a lone carriage return behind it: poppler reads the original's content shifted by a byte, qpdf and ours do not",
}

// walkCauses says the same of walks.
var walkCauses = map[string]string{
	"qpdf/qpdf_indirect-r-arg.pdf": "as above: of an R after two references qpdf makes objects, ours reads null; an entry of its catalog leads to the catalog itself, which changes with the steps",
}

// because gives the cause of a miss, as the end of a line.
func because(rel string) string { return cause(causes[rel]) }

func cause(c string) string {
	if c != "" {
		return ". Cause: " + c + "."
	}
	return ". CAUSE NOT KNOWN."
}
