// Package edit is the station at which words on pages are changed.
package edit

import (
	"embed"
	"fmt"
	"net/http"
	"net/url"

	editing "glenrain/core/edit"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html *.js
var files embed.FS

// Station is the value that the list of stations has.
func Station() station.Station {
	return station.Station{
		Path: "edit", Name: "Edit", Words: "text, pictures", Surface: station.Paper, Zoom: "width", Files: files, Routes: routes,
		Jobs: []station.Job{writing(), arranging(), drawing(), replacing(), spell(), comparing()},
	}
}

func replacing() station.Job {
	return station.Job{
		Path: "replace", Words: "replace", Slip: "replace.html", Module: "replace.js",
		Steps: []station.Form{{Step: "replace-text", Fill: fill}},
		Finds: []station.Find{{Text: "Replace words throughout the document", Words: "find replace change text typo name date correct edit words edit"}},
	}
}

// fill reads the pairs, each of which has two fields.
func fill(v *station.Visit, s step.Step) error {
	r, ok := s.(*editing.ReplaceText)
	if !ok {
		return step.Refuse("no words to replace are given")
	}
	r.Pairs = pairs(v.Request.Form)
	return nil
}

func pairs(form url.Values) (out []editing.Pair) {
	with := form["with"]
	for i, find := range form["find"] {
		if find == "" || len(out) >= 100 {
			continue
		}
		p := editing.Pair{Find: find}
		if i < len(with) {
			p.With = with[i]
		}
		out = append(out, p)
	}
	return out
}

// hit is a place that would be changed, as the script gets it.
type hit struct {
	Name   string `json:"name"` // by which it is left out
	Page   string `json:"page"`
	Number int    `json:"number"`
	Before string `json:"before"`
	Found  string `json:"found"`
	With   string `json:"with"`
	After  string `json:"after"`
	Why    string `json:"why,omitempty"`
	Face   string `json:"face,omitempty"`
}

// Bounds of the list of hits.
const (
	mostListed = 300
	mostRead   = 150 // pages
)

func routes(r station.Router, h station.Host) {
	r.Post("/edit/hits", func(w http.ResponseWriter, r *http.Request) error { return hits(h.Desk(), w, r) })
	pages := &sheets{}
	h.Desk().Hold("pages that are written on", pages.forget)
	with := func(f func(*sheets, *desk.Desk, http.ResponseWriter, *http.Request) error) station.Handler {
		return func(w http.ResponseWriter, r *http.Request) error { return f(pages, h.Desk(), w, r) }
	}
	r.Get("/edit/blocks/{key}", with(blocks))
	r.Get("/edit/begin/{key}", with(begin))
	r.PostLarge("/edit/set/{key}", mostTyped, with(set))
	r.Get("/edit/found/{key}", with(found))
	r.Get("/edit/spelled", with(spelled))
	r.Get("/edit/spelled/{key}", with(spelledPage))
	r.Post("/edit/learn", with(learn))
	r.Get("/edit/compared", with(compared))
	r.Get("/edit/compared/{key}", with(comparedPage))
	r.Post("/edit/carry/{key}", with(carry))
	r.Get("/edit/taken/{key}", with(taken))
	r.PostLarge("/edit/bring/{key}", mostPicture, with(bring))
}

// hits lists what would be changed: pages whose text has none of it are passed over.
func hits(d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	snap, err := d.Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	if err := r.ParseForm(); err != nil {
		return step.Refuse("the form can't be read")
	}
	s := &editing.ReplaceText{Pairs: pairs(r.Form), Case: r.FormValue("match_case") == "yes", Whole: r.FormValue("whole_words") == "yes"}
	out := struct {
		Hits []hit `json:"hits"`
		More bool  `json:"more"` // than are listed
	}{Hits: []hit{}}
	if len(s.Pairs) == 0 {
		return station.SendJSON(w, out)
	}
	if err := s.Pages.UnmarshalText([]byte(r.FormValue("pages"))); err != nil {
		return err
	}
	doc := snap.PDF.In(r.Context())
	refs, err := s.Pages.Refs(doc, snap.Keys)
	if err != nil {
		return err
	}
	texts, err := d.Texts(r.Context(), snap)
	if err != nil {
		return err
	}
	if refs, out.More, err = having(doc, refs, texts, s); err != nil {
		return err
	}
	list, err := s.Find(r.Context(), doc, refs, mostListed+1)
	if err != nil {
		return err
	}
	if len(list) > mostListed {
		list, out.More = list[:mostListed], true
	}
	for _, one := range list {
		key := snap.Keys.Key(one.Page).String()
		out.Hits = append(out.Hits, hit{fmt.Sprintf("%s:%d:%d", key, one.Pair, one.Number), key, doc.PageIndex(one.Page) + 1, one.Before, one.Found, one.With, one.After, one.Why, one.Face})
	}
	return station.SendJSON(w, out)
}

// having gives those of some pages whose text has something that is looked for.
func having(doc *pdf.Document, refs []pdf.Ref, texts []desk.PageText, s *editing.ReplaceText) (out []pdf.Ref, more bool, err error) {
	in, err := s.In()
	if err != nil {
		return nil, false, err
	}
	for i, at := range doc.PageIndexes(refs) {
		if at < 0 || at >= len(texts) {
			continue
		}
		if !in(texts[at].Text) {
			continue
		}
		if len(out) >= mostRead {
			return out, true, nil
		}
		out = append(out, refs[i])
	}
	return out, false, nil
}
