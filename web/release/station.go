// Package release is the last station: the document goes out as a file.
package release

import (
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"glenrain/core/finding"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html *.js
var files embed.FS

// Station is the value that the list of stations has.
func Station() station.Station {
	return station.Station{
		Path: "release", Name: "Release", Words: "export", Surface: station.Paper, Files: files, Routes: routes,
		Jobs: []station.Job{{
			Words: "export", Slip: "out.html", Module: "out.js", View: func(v *station.Visit) (any, error) { return outView(v.Request, v.Desk, v.Snapshot) },
			Finds: []station.Find{{Text: "Export", Words: "save export download release finish send copy original replace"}},
			Fixes: []string{"signed"},
		}},
	}
}

type view struct {
	Name    string // offered for a copy
	Outs    []desk.HandOut
	Written *desk.HandOut
	First   desk.PageInfo
	Asks    []finding.Finding
	Chosen  string          // "copy" or "replace"
	Folder  desk.FolderView // that the file is kept in

	Signed     string // by whom, and what becomes of it; empty where the signature can't leave with the file
	KeepSigned bool
	CanLock    bool
	Unlock     bool
}

// CanUpdate reports whether what is asked about can be mended at once.
func (v *view) CanUpdate() bool {
	return slices.ContainsFunc(v.Asks, func(f finding.Finding) bool { return f.Kind == "stale" })
}

// listed is how many earlier files of the document are listed.
const listed = 20

func outView(r *http.Request, d *desk.Desk, snap *desk.Snapshot) (*view, error) {
	name, err := d.FreeName(r.Context(), station.Person(r).ID, snap.Document.Name)
	if err != nil {
		return nil, err
	}
	outs, err := d.HandOuts(r.Context(), snap.Document.ID, desk.Listing{Person: station.Person(r).ID, Most: listed})
	v := &view{Name: name, Outs: outs, Chosen: "copy", CanLock: d.CanFinish(snap, desk.FinishLock), First: snap.Pages()[0]}
	if d.CanFinish(snap, desk.FinishSigned) {
		v.Signed, v.KeepSigned = finding.Signed(snap.PDF), snap.State.ParentID == 0
	}
	if id := station.FormID(r, "out"); id != 0 {
		if h, err := d.HandedOut(r.Context(), station.Person(r).ID, id); err == nil && h.DocumentID == snap.Document.ID {
			v.Written = h
		}
	}
	return v, err
}

func routes(r station.Router, h station.Host) {
	r.Post("/out", func(w http.ResponseWriter, r *http.Request) error { return handOut(h, w, r) })
	r.Get("/release/name", func(w http.ResponseWriter, r *http.Request) error { return nameFree(h, w, r) })
}

// nameFree tells whether a name can be handed out under, and one that can.
func nameFree(h station.Host, w http.ResponseWriter, r *http.Request) error {
	who := station.Person(r).ID
	if err := h.Desk().May(r.Context(), who, desk.ActLook, station.ID(r, "id")); err != nil {
		return err
	}
	name := strings.TrimSpace(r.FormValue("name"))
	if name == "" || len(name) > 400 {
		return station.SendJSON(w, map[string]any{"taken": false, "free": name})
	}
	free, err := h.Desk().FreeName(r.Context(), who, name)
	if err != nil {
		return err
	}
	return station.SendJSON(w, map[string]any{"taken": free != name, "free": free})
}

// soon is how long an answer waits for what handing out asks about first.
const soon = 800 * time.Millisecond

func handOut(h station.Host, w http.ResponseWriter, r *http.Request) error {
	d := h.Desk()
	order := desk.Order{
		Document: station.ID(r, "id"), Seen: station.FormID(r, "_seen"), Person: station.Person(r).ID, Name: r.FormValue("name"),
		Replace: r.FormValue("how") == "replace", AsItIs: r.FormValue("as-it-is") != "" || r.FormValue("update") != "",
		Folder: station.FormID(r, "folder"),
	}
	for name, chosen := range map[string]bool{desk.FinishLock: r.FormValue("lock") != "", desk.FinishSigned: r.FormValue("signed") == "keep"} {
		if chosen {
			order.Finish = append(order.Finish, name)
		}
	}
	slices.Sort(order.Finish) // the request's id is made of it
	order.RequestID = station.RequestID(r.FormValue("_request"), fmt.Sprintf("%+v", order))
	if r.FormValue("update") != "" { // chosen instead of handing out what is out of date
		out, err := d.Do(r.Context(), desk.Change{Document: order.Document, Seen: order.Seen, RequestID: order.RequestID + "-update",
			Person: order.Person, Name: "furnishing-update", Params: json.RawMessage("{}")})
		if err != nil {
			return err
		}
		order.Seen = out.Snapshot.State.ID
	}
	work := d.Start(order.Person, "Exporting", func(ctx context.Context, w *desk.Work) (any, error) {
		out, err := d.HandOut(desk.FromSame(ctx, r.Context()), w, order)
		if err != nil {
			return nil, err
		}
		return fmt.Sprintf("/desk/%d/release?out=%d", order.Document, out.ID), nil
	})
	select { // loose ends and conflicts are told at once
	case <-work.Ended():
	case <-time.After(soon):
	}
	p := work.Look()
	var asks *desk.Asks
	if errors.As(p.Err, &asks) {
		snap, err := d.Look(r.Context(), order.Person, order.Document)
		if err != nil {
			return err
		}
		v, err := outView(r, d, snap)
		if err != nil {
			return err
		}
		v.Asks, v.Name, v.Chosen = asks.Findings, order.Name, r.FormValue("how")
		v.KeepSigned, v.Unlock = slices.Contains(order.Finish, desk.FinishSigned), !slices.Contains(order.Finish, desk.FinishLock)
		return h.Show(w, r, station.Shown{Snapshot: snap, Code: http.StatusConflict, View: v})
	}
	if p.Err != nil {
		return p.Err
	}
	return h.Work(w, r, work)
}
