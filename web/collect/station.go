// Package collect is the station where pages come in from elsewhere.
package collect

import (
	"embed"
	"fmt"
	"net/http"
	"strings"

	arranging "glenrain/core/arrange"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html *.js
var files embed.FS

// Station is the value that the list of stations has.
func Station(lent ...station.Lent) station.Station {
	s := station.Station{
		Path: "collect", Name: "Collect", Words: "insert, scan, recognize text", Surface: station.Paper, Files: files, Routes: routes,
		Jobs: []station.Job{{
			Words: "insert pages", Slip: "insert.html", Module: "insert.js", View: insertView,
			Steps: []station.Form{{Step: "insert", Spot: insertSpot}},
			Finds: []station.Find{{Text: "Insert pages of another document", Words: "insert add bring collect pages picture document merge import"}},
		}},
	}
	s.Lend(lent...)
	s.Jobs = append(s.Jobs, straightening(), recognizing(), setting())
	return s
}

// offered is how many documents the sentence offers; more are found by typing.
const offered = 60

type view struct {
	Documents []desk.Document
	More      bool // there are more: the field that searches is shown
}

func insertView(v *station.Visit) (any, error) {
	return find(v.Request, v.Desk, v.Snapshot.Document.ID, "")
}

// find gives documents to insert pages from: those changed last, or those whose name has the words.
func find(r *http.Request, d *desk.Desk, but uint, words string) (*view, error) {
	var list []desk.Document
	var err error
	if strings.TrimSpace(words) == "" {
		list, err = d.Documents(r.Context(), desk.Listing{Person: station.Person(r).ID, Most: offered + 2})
	} else {
		list, err = d.Search(r.Context(), station.Person(r).ID, words, offered+2)
	}
	if err != nil {
		return nil, err
	}
	out := &view{}
	for _, row := range list {
		if row.ID == but {
			continue
		}
		if len(out.Documents) == offered {
			out.More = true
			break
		}
		out.Documents = append(out.Documents, row)
	}
	return out, nil
}

func routes(r station.Router, h station.Host) {
	recognizeRoutes(r, h)
	r.Get("/collect/documents", func(w http.ResponseWriter, r *http.Request) error {
		if err := h.Desk().May(r.Context(), station.Person(r).ID, desk.ActLook, station.ID(r, "id")); err != nil {
			return err
		}
		v, err := find(r, h.Desk(), station.ID(r, "id"), r.FormValue("words"))
		if err != nil {
			return err
		}
		return h.Render(w, http.StatusOK, "insert-documents", v)
	})
}

// insertSpot says beside the page that is shown that it comes in, and where.
func insertSpot(p *desk.Preview) (station.Spot, bool) {
	in, ok := p.Step.(*arranging.Insert)
	if !ok {
		return station.Spot{}, false
	}
	s := station.Spot{Y: 8, Title: "This page is inserted", Text: "at the end"}
	if in.To != (step.Place{}) {
		s.Text = fmt.Sprintf("as page %d", p.Page+1)
	}
	if n := len(p.Result.Pages); n > 1 {
		s.Text = "as the first, " + s.Text
	}
	return s, true
}
