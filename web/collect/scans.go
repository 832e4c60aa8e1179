package collect

import (
	"net/http"

	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/recognize"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// straightening is the job in which scans are set straight and cleaned.
func straightening() station.Job {
	return station.Job{
		Path: "straighten", Words: "straighten scans", Slip: "straighten.html", Module: "straighten.js", View: scansView, Steps: []station.Form{{Step: "straighten"}},
		Finds: []station.Find{{Text: "Straighten and clean scanned pages", Words: "straighten deskew crooked tilted skew clean shadow border light scan"}},
	}
}

// setting is the job in which recognized text becomes real text.
func setting() station.Job {
	return station.Job{
		Path: "set-text", Words: "editable text", Slip: "settext.html", Module: "settext.js", View: scansView, Steps: []station.Form{{Step: "set-text"}},
		Finds: []station.Find{{Text: "Make recognized text editable", Words: "editable edit scan recognized text letters ocr convert"}},
	}
}

type scansSlip struct {
	Known  bool   // the pages were looked through
	Pages  string // those that the job proposes
	Doubts int
}

// scansView proposes pages: to straighten those that are pictures, to set as text those whose text was recognized here.
func scansView(v *station.Visit) (any, error) {
	needs, known, err := v.Desk.Needs(v.Request.Context(), v.Snapshot)
	if err != nil {
		return nil, err
	}
	out := &scansSlip{Known: known}
	var at []int
	for i, n := range needs {
		ours := n.Sure >= 0
		if v.Job.Path == "set-text" && ours || v.Job.Path == "straighten" && n.Needs.Scan() {
			at = append(at, i)
			out.Doubts += n.Doubts
		}
	}
	out.Pages = step.WriteSet(at)
	return out, nil
}

// block is a block of recognized text as the script gets it.
type block struct {
	Q    [8]float64 `json:"q"`
	Text string     `json:"text"`
}

const mostShown = 60 // letters of a block in the list

func blocksOf(d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	doc, ref, err := pageOf(d, r)
	if err != nil {
		return err
	}
	list, err := recognize.Blocks(r.Context(), doc, ref)
	if err != nil {
		return err
	}
	g := doc.Geometry(ref)
	out := []block{}
	for _, b := range list {
		text := []rune(b.Text)
		if len(text) > mostShown {
			text = append(text[:mostShown], '…')
		}
		out = append(out, block{station.Corners(g, quadOf(b.Box)), string(text)})
	}
	return station.SendJSON(w, out)
}

// quadOf gives the corners of a rectangle, with a little room around it.
func quadOf(r pdf.Rect) layout.Quad {
	const room = 2
	return layout.Quad{{r.X0 - room, r.Y1 + room}, {r.X1 + room, r.Y1 + room}, {r.X1 + room, r.Y0 - room}, {r.X0 - room, r.Y0 - room}}
}
