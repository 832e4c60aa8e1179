// Package scanning is where paper comes in: a scanner is chosen, asked what it can do, and its pages come into a document, or make a new one.
package scanning

import (
	"embed"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html *.js
var files embed.FS

// Lent is scanning into a document that is open, for the station at which it is done.
func Lent() station.Lent {
	return station.Lent{Files: files, Job: station.Job{
		Path: "scan", Words: "scan paper", Slip: "scan.html", Module: "scanning.js", Surface: station.Board, View: view,
		Finds: []station.Find{{Text: "Scan paper into this document", Words: "scan scanner paper feeder glass adf"}},
	}}
}

// Screen is scanning into a new document.
func Screen() station.Screen {
	return station.Screen{
		Name: "scanning", Title: "Scan paper", Files: files,
		Routes: func(r station.Router, h station.Host) { (&screen{h}).routes(r) },
		Places: []station.Place{{Text: "Scan paper", Words: "scan scanner paper feeder new document", URL: "/scan", Act: desk.ActAdd}},
	}
}

type slip struct {
	station.Around
	Doc      uint
	Folder   string
	Scanners []desk.Scanner
	Chosen   uint
	Scan     *cameIn
	Keys     any
}

// cameIn is what came of a scan.
type cameIn struct {
	Running bool
	ID      uint
	N       int
	Problem string
	Looked  bool
	Blank   []string // keys
	BlankAt string   // and the pages as people call them
	Turned  []turned
	Said    []string // what the steps did that followed
	// Fronts and Backs are the pages of the scan before and of this one, where they may be two sides of the same sheets.
	Fronts, Backs []string
}

type turned struct {
	By   int // degrees clockwise
	Keys []string
	At   string
}

func view(v *station.Visit) (any, error) {
	out := &slip{Doc: v.Snapshot.Document.ID}
	var err error
	if out.Scanners, err = v.Desk.Scanners(v.Request.Context()); err != nil {
		return nil, err
	}
	if len(out.Scanners) > 0 {
		out.Chosen = out.Scanners[0].ID
	}
	if id := station.FormID(v.Request, "scan"); id != 0 {
		if s, ok := v.Desk.Scanned(v.Person.ID, id); ok && s.Document == out.Doc {
			out.Scan = came(v.Snapshot, id, s)
			out.Scan.sides(v.Snapshot, v.Desk.ScannedBefore(v.Person.ID, id), s.Keys)
		}
	}
	return out, nil
}

// came tells what came in, as far as its pages are there still.
func came(snap *desk.Snapshot, id uint, s desk.Scanned) *cameIn {
	c := &cameIn{Running: !s.Done, ID: id, N: len(s.Keys), Problem: s.Problem, Looked: s.Looked, Said: s.Said}
	pages := snap.Pages()
	at := func(keys []step.Key) (names []string, set string) {
		var list []int
		for i, k := range snap.Indexes(keys) {
			if k >= 0 {
				list = append(list, k)
				names = append(names, keys[i].String())
			}
		}
		slices.Sort(list)
		return names, strings.ReplaceAll(step.WriteSet(list), ",", ", ")
	}
	if len(s.Blank) < len(pages) {
		c.Blank, c.BlankAt = at(s.Blank)
	}
	for quarters := 1; quarters < 4; quarters++ {
		var keys []step.Key
		for _, k := range s.Keys {
			if s.Turned[k] == quarters {
				keys = append(keys, k)
			}
		}
		if names, set := at(keys); len(names) > 0 {
			c.Turned = append(c.Turned, turned{90 * quarters, names, set})
		}
	}
	return c
}

// sides tells two scans that may be the fronts and the backs of the same sheets: as many pages, one run behind the other.
func (c *cameIn) sides(snap *desk.Snapshot, before, now []step.Key) {
	if len(before) != len(now) || len(now) < 2 || c.Running {
		return
	}
	all := append(slices.Clone(before), now...)
	list := snap.Indexes(all)
	for i, at := range list {
		if at < 0 || i > 0 && at != list[i-1]+1 {
			return
		}
	}
	for i, k := range all {
		if i < len(before) {
			c.Fronts = append(c.Fronts, k.String())
		} else {
			c.Backs = append(c.Backs, k.String())
		}
	}
}

type screen struct{ station.Host }

func (s *screen) routes(r station.Router) {
	r.Get("/scan", func(w http.ResponseWriter, r *http.Request) error {
		if err := s.Desk().May(r.Context(), station.Person(r).ID, desk.ActAdd, 0); err != nil {
			return err
		}
		list, err := s.Desk().Scanners(r.Context())
		if err != nil {
			return err
		}
		v := &slip{Around: s.Screen(r, "Scan paper"), Scanners: list, Folder: r.FormValue("folder")}
		if len(list) > 0 {
			v.Chosen = list[0].ID
		}
		return s.Render(w, http.StatusOK, "scanning", v)
	})
	r.Get("/scan/choices", s.choices)
	r.Get("/scan/look", s.look)
	r.Post("/scan/scanners", s.add)
	r.Post("/scan/scanners/{id}/remove", s.remove)
	r.Post("/scan/start", s.start)
}

// choices are what a scanner offers, as the sentence in which it is chosen.
type choices struct {
	Scanner     uint
	Doc         uint
	Folder      string
	Wrong       string
	Name        string
	Feeder      bool
	Backs       bool
	Glass       bool
	FeederSays  string
	Loaded      bool
	Colours     []named
	Resolutions []int
	Usual       int
	Formats     []string
}

type named struct{ Value, Name string }

var colours = []named{{"Grayscale8", "greyscale"}, {"RGB24", "colour"}, {"BlackAndWhite1", "black and white"}}

func (s *screen) choices(w http.ResponseWriter, r *http.Request) error {
	v := choices{Scanner: station.FormID(r, "scanner"), Doc: station.FormID(r, "doc"), Folder: r.FormValue("folder")}
	can, st, err := s.Desk().AskScanner(r.Context(), station.Person(r).ID, v.Scanner)
	var refused *step.Refusal
	if errors.As(err, &refused) {
		v.Wrong = step.Sentence(refused.Sentence) + "."
		return s.Render(w, http.StatusOK, "scan-choices", v)
	}
	if err != nil {
		return err
	}
	v.Name, v.Feeder, v.Backs, v.Glass = can.Name, can.Feeder != nil || can.Backs != nil, can.Backs != nil, can.Glass != nil
	src := can.Feeder
	if src == nil {
		src = can.Backs
	}
	if src == nil {
		src = can.Glass
	}
	for _, c := range colours {
		if slices.Contains(src.Colours, c.Value) {
			v.Colours = append(v.Colours, c)
		}
	}
	v.Resolutions = src.Resolutions
	v.Usual = 300
	if !slices.Contains(v.Resolutions, 300) && len(v.Resolutions) > 0 {
		v.Usual = v.Resolutions[len(v.Resolutions)-1]
	}
	switch st.Feeder {
	case "ScannerAdfLoaded":
		v.FeederSays, v.Loaded = "There is paper in the feeder.", true
	case "ScannerAdfEmpty":
		v.FeederSays = "The feeder is empty: load sheets, or place one on the flatbed."
	case "ScannerAdfJam", "ScannerAdfMispick", "ScannerAdfMultipickDetected":
		v.FeederSays = "There is a paper jam in the feeder."
	case "ScannerAdfHatchOpen":
		v.FeederSays = "A lid of the scanner is open."
	}
	if st.State == "Processing" {
		v.FeederSays = strings.TrimSpace("The scanner is busy. " + v.FeederSays)
	}
	return s.Render(w, http.StatusOK, "scan-choices", v)
}

func (s *screen) look(w http.ResponseWriter, r *http.Request) error {
	data, err := s.Desk().LookOnGlass(r.Context(), station.Person(r).ID, station.FormID(r, "scanner"))
	if err != nil {
		return err
	}
	w.Header().Set("Cache-Control", "no-store")
	if kind := http.DetectContentType(data); kind == "image/jpeg" || kind == "image/png" {
		w.Header().Set("Content-Type", kind)
	} else {
		return step.Refuse("the scanner sent data that isn’t a picture")
	}
	_, _ = w.Write(data)
	return nil
}

func (s *screen) add(w http.ResponseWriter, r *http.Request) error {
	if _, err := s.Desk().AddScanner(r.Context(), station.Person(r).ID, r.FormValue("address")); err != nil {
		return err
	}
	return s.again(w, r)
}

func (s *screen) remove(w http.ResponseWriter, r *http.Request) error {
	if err := s.Desk().RemoveScanner(r.Context(), station.Person(r).ID, station.ID(r, "id")); err != nil {
		return err
	}
	return s.again(w, r)
}

// again shows the scanners that there are now.
func (s *screen) again(w http.ResponseWriter, r *http.Request) error {
	list, err := s.Desk().Scanners(r.Context())
	if err != nil {
		return err
	}
	v := &slip{Scanners: list, Doc: station.FormID(r, "doc"), Folder: r.FormValue("folder")}
	if len(list) > 0 {
		v.Chosen = list[len(list)-1].ID
	}
	return s.Render(w, http.StatusOK, "scan-with", v)
}

// papers are the sizes that are offered, in points.
var papers = map[string][2]float64{"A4": {595.28, 841.89}, "A5": {419.53, 595.28}, "Letter": {612, 792}, "Legal": {612, 1008}}

func (s *screen) start(w http.ResponseWriter, r *http.Request) error {
	size, ok := papers[r.FormValue("paper")]
	dpi, err := strconv.Atoi(r.FormValue("dpi"))
	colour := r.FormValue("colour")
	if !ok || err != nil || dpi < 50 || dpi > 1200 || !slices.ContainsFunc(colours, func(c named) bool { return c.Value == colour }) {
		return step.Refuse("choose paper, colour and resolution")
	}
	in := desk.Scanning{Person: station.Person(r).ID, Scanner: station.FormID(r, "scanner"), Document: station.FormID(r, "doc"), Folder: station.FormID(r, "folder"), Name: r.FormValue("name"),
		Settings: desk.ScanSettings{Source: "Platen", Colour: colour, Resolution: dpi, Width: size[0], Height: size[1]}}
	switch r.FormValue("from") {
	case "feeder":
		in.Settings.Source = "Feeder"
	case "both":
		in.Settings.Source, in.Settings.Duplex = "Feeder", true
	}
	for _, name := range strings.Fields(r.FormValue("then")) {
		if name != "straighten" && name != "recognize" {
			return step.Refuse("“%s” can’t be done to scanned pages", name)
		}
		in.Then = append(in.Then, name)
	}
	if r.FormValue("where") == "new" {
		in.Document = 0
	}
	if in.Document != 0 {
		snap, err := s.Desk().Look(r.Context(), in.Person, in.Document)
		if err != nil {
			return err
		}
		if before := strings.TrimSpace(r.FormValue("before")); before != "" {
			at, err := step.EvalIn(snap.PDF, before)
			if err != nil || len(at) != 1 {
				return step.Refuse("“%s” isn’t a page of this document", before)
			}
			in.Before = snap.Pages()[at[0]].Key.String()
		}
	}
	work, err := s.Desk().Scan(r.Context(), in)
	if err != nil {
		return err
	}
	return s.Work(w, r, work)
}
