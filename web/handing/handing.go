// Package handing is the screen on which several documents are handed out at once, under names by a pattern: each by itself, or all in a zip.
package handing

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"glenrain/core/finding"
	"glenrain/core/naming"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html *.js
var files embed.FS

// Screen is the value that the list of screens has.
func Screen() station.Screen {
	return station.Screen{
		Name: "handing", Title: "Export several", Files: files,
		Routes: func(r station.Router, h station.Host) { (&screen{h}).routes(r) },
	}
}

type screen struct{ station.Host }

func (s *screen) routes(r station.Router) {
	r.Get("/handing", s.show)
	r.Post("/handing/plan", s.plan)
	r.Post("/handing", s.handOut)
}

// Piece is one of a name, with what it is called.
type piece struct {
	naming.Piece
	Title string
}

func pieceOf(p naming.Piece) piece {
	i := slices.IndexFunc(naming.Fields, func(f naming.Field) bool { return f.Name == p.Field })
	if i < 0 {
		return piece{Piece: p}
	}
	return piece{p, naming.Fields[i].Title}
}

type view struct {
	station.Around
	IDs     string
	Plan    []desk.Planned
	Wrong   int // how many can't be handed out so
	Asks    int // how many have loose ends that ask
	Pattern []piece
	Fields  []naming.Field
	Folder  desk.FolderView
	Zip     string
	Made    []desk.HandOut
	Failed  []string
	Keys    any
}

// Piece gives a piece for the templates that are added.
func (v *view) Piece(field string) piece { return pieceOf(naming.Piece{Field: field}) }

// fields of a pattern for whole documents: they begin with no bookmark, and all their pages go.
func fields() []naming.Field {
	return slices.DeleteFunc(slices.Clone(naming.Fields), func(f naming.Field) bool { return f.Name == "title" || f.Name == "pages" })
}

// usual is the pattern that is offered first.
var usual = naming.Pattern{{Field: "name"}}

// mostIDs is how many documents the address names.
const mostIDs = 500

// asked reads what the form, or the address, asks for.
func asked(r *http.Request) (desk.Handing, error) {
	h := desk.Handing{Person: station.Person(r).ID, Pattern: usual, Typed: r.FormValue("typed"), Folder: station.FormID(r, "folder"), AsItIs: r.FormValue("as-it-is") != ""}
	for part := range strings.SplitSeq(r.FormValue("id"), ",") {
		id, err := strconv.ParseUint(strings.TrimSpace(part), 10, 32)
		if err != nil || id == 0 {
			return h, desk.ErrMissing
		}
		if !slices.Contains(h.Documents, uint(id)) {
			h.Documents = append(h.Documents, uint(id))
		}
	}
	if len(h.Documents) > mostIDs {
		return h, step.Refuse("you can export up to %s at once", step.Count(mostIDs, "document"))
	}
	if p := r.FormValue("pattern"); p != "" {
		var err error
		if h.Pattern, err = naming.Parse([]byte(p)); err != nil {
			return h, step.Refuse("the names can’t be created: %v", err)
		}
	}
	if r.FormValue("into") == "zip" {
		if h.Zip = strings.TrimSpace(r.FormValue("zip")); h.Zip == "" {
			return h, step.Refuse("the zip needs a name")
		}
	}
	return h, nil
}

// made reads what was handed out from the address.
func (s *screen) made(r *http.Request) (out []desk.HandOut) {
	for part := range strings.SplitSeq(r.FormValue("made"), ",") {
		id, err := strconv.ParseUint(part, 10, 32)
		if err != nil || len(out) > mostIDs {
			continue
		}
		if h, err := s.Desk().HandedOut(r.Context(), station.Person(r).ID, uint(id)); err == nil {
			out = append(out, *h)
		}
	}
	return out
}

func (s *screen) show(w http.ResponseWriter, r *http.Request) error {
	h, err := asked(r)
	if err != nil {
		return err
	}
	v := &view{Around: s.Screen(r, "Export"), IDs: r.FormValue("id"), Fields: fields(), Made: s.made(r)}
	if text := r.FormValue("failed"); text != "" {
		_ = json.Unmarshal([]byte(text), &v.Failed)
	}
	for _, p := range h.Pattern {
		v.Pattern = append(v.Pattern, pieceOf(p))
	}
	if err := s.planned(r, h, v); err != nil {
		return err
	}
	if v.Zip, err = s.Desk().FreeName(r.Context(), h.Person, "Papers "+time.Now().Format("2006-01-02")); err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, "handing", v)
}

// planned fills in what would be handed out.
func (s *screen) planned(r *http.Request, h desk.Handing, v *view) (err error) {
	if v.Plan, err = s.Desk().PlanHanding(r.Context(), h); err != nil {
		return err
	}
	for i := range v.Plan {
		if v.Plan[i].Wrong != "" {
			v.Wrong++
			continue
		}
		snap, err := s.Desk().Look(r.Context(), h.Person, v.Plan[i].Document.ID)
		if err != nil {
			return err
		}
		if len(v.Plan) > mostLooked {
			continue
		}
		v.Plan[i].Asks = finding.Asking(s.Desk().LooseEnds(snap))
		if len(v.Plan[i].Asks) > 0 {
			v.Asks++
		}
	}
	return nil
}

// mostLooked is up to how many documents are looked through for loose ends before they are handed out.
const mostLooked = 60

func (s *screen) plan(w http.ResponseWriter, r *http.Request) error {
	h, err := asked(r)
	if err != nil {
		return err
	}
	v := &view{}
	if err := s.planned(r, h, v); err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, "handing-plan", v)
}

func (s *screen) handOut(w http.ResponseWriter, r *http.Request) error {
	h, err := asked(r)
	if err != nil {
		return err
	}
	for _, id := range h.Documents {
		if err := s.Desk().May(r.Context(), h.Person, desk.ActHandOut, id); err != nil {
			return err
		}
	}
	h.RequestID = station.RequestID(r.FormValue("_request"), fmt.Sprintf("%+v", h))
	ids := r.FormValue("id")
	work, err := s.Desk().HandOutMany(r.Context(), h)
	if err != nil {
		return err
	}
	work.Shows(func(result any) any { return address(ids, result) })
	select { // what can't be done is told at once
	case <-work.Ended():
	case <-time.After(800 * time.Millisecond):
	}
	if err := work.Look().Err; err != nil && !errors.Is(err, context.Canceled) {
		return err
	}
	return s.Work(w, r, work)
}

// address is where what came of exporting is shown.
func address(ids string, result any) any {
	out, ok := result.(*desk.HandedMany)
	if !ok {
		return result
	}
	made := make([]string, len(out.Files))
	for i, id := range out.Files {
		made[i] = fmt.Sprint(id)
	}
	to := "/handing?id=" + ids + "&made=" + strings.Join(made, ",")
	if len(out.Failed) > 0 {
		list, _ := json.Marshal(out.Failed[:min(len(out.Failed), 20)])
		to += "&failed=" + url.QueryEscape(string(list))
	}
	return to
}
