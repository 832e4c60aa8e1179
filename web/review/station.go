// Package review is the station where a document is read: text is selected, copied and marked.
package review

import (
	"embed"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"glenrain/core/annotate"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html *.js
var files embed.FS

// Station is the value that the list of stations has.
func Station() station.Station {
	return station.Station{
		Path: "review", Name: "Review", Words: "read, copy, mark text", Surface: station.Paper, Zoom: "width", Files: files, Routes: routes,
		Jobs: []station.Job{{
			Words: "text", Slip: "text.html", Module: "text.js", Reads: true,
			View:  func(*station.Visit) (any, error) { return colours, nil },
			Steps: []station.Form{{Step: "mark-text", Fill: fillMark}, {Step: "mark-change"}, {Step: "mark-remove"}},
			Finds: []station.Find{
				{Text: "Search the text", Words: "find search text words look"},
				{Text: "Highlight, underline or copy text", Words: "highlight underline strike out mark text comment copy select"},
			},
			Keys: []station.Key{
				{Keys: []string{"ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"}, Act: "go", What: "through the text", Show: []string{"←", "→", "↑", "↓"}},
				{Keys: []string{"Shift+ArrowLeft", "Shift+ArrowRight", "Shift+ArrowUp", "Shift+ArrowDown"}, Act: "extend", What: "select text while moving", Show: []string{"Shift", "arrow"}},
				{Keys: []string{"g"}, Act: "grain", What: "by word, line, paragraph, column"},
				{Keys: []string{"Ctrl+c"}, Act: "copy", What: "copy the selection"},
				{Keys: []string{"m"}, Act: "mark", What: "mark it"},
				{Keys: []string{"Escape"}, Act: "cancel", What: "clear the selection"},
			},
		}},
	}
}

// colour is one that is offered for marks.
type colour struct{ Name, Value string }

var colours = []colour{{"straw", "#f6dd8f"}, {"fern", "#b9e2bf"}, {"sky", "#b5d9f2"}, {"rose", "#f3bdb6"}, {"ochre", "#9c5f00"}, {"ink", "#22302c"}}

func routes(r station.Router, h station.Host) {
	r.Get("/words/{key}", func(w http.ResponseWriter, r *http.Request) error { return pageWords(h.Desk(), w, r) })
	r.Get("/frame/{key}", func(w http.ResponseWriter, r *http.Request) error { return frameText(h.Desk(), w, r) })
	r.Get("/marks", func(w http.ResponseWriter, r *http.Request) error { return marks(h, w, r) })
}

// pageWords gives the words of a page in the order of reading, for selecting text: each with what stands between it and the one before it,
// its place, and the line, paragraph and column that it is in.
func pageWords(d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	l, g, err := station.ReadPage(d, r)
	if err != nil {
		return err
	}
	type word struct {
		T string     `json:"t"`
		S string     `json:"s"` // what stands before it
		Q [8]float64 `json:"q"`
		L int        `json:"l"`
		P int        `json:"p"`
		C int        `json:"c"`
	}
	reading := l.Reading()
	paragraph := map[int]int{}
	column := map[int]int{}
	for i, p := range l.Paragraphs {
		for _, k := range p.Lines {
			paragraph[k], column[k] = i, p.Block
		}
	}
	out := make([]word, len(reading.Words))
	last := 0
	for i, at := range reading.Words {
		lw := &l.Words[at.Word]
		o := word{T: strings.TrimSuffix(reading.Text[at.From:at.To], "\u00ad"), S: reading.Text[last:at.From], L: lw.Line, P: paragraph[lw.Line], C: column[lw.Line]}
		if q := l.Quads(reading, at.From, at.To); len(q) > 0 {
			o.Q = station.Corners(g, q[0])
		}
		out[i], last = o, at.To
	}
	return station.SendJSON(w, out)
}

// frameText gives the text in a rectangle of the page as it is seen, as rows and columns.
func frameText(d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	l, g, err := station.ReadPage(d, r)
	if err != nil {
		return err
	}
	frame, err := station.Frame(r.FormValue("at"))
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	_, _ = fmt.Fprint(w, l.Copied(station.InvisibleRect(g, frame[0], frame[1], frame[2], frame[3])))
	return nil
}

// fillMark looks up what is to be marked: words by their places in the page's order of reading, as "3-17 22-30".
func fillMark(v *station.Visit, s step.Step) error {
	m, ok := s.(*annotate.MarkText)
	if !ok || len(m.Page.Keys) != 1 {
		return step.Refuse("you can mark text on one page at a time")
	}
	var ranges [][2]int
	for part := range strings.FieldsSeq(v.Request.FormValue("_words")) {
		a, b, _ := strings.Cut(part, "-")
		from, err1 := strconv.Atoi(a)
		to, err2 := strconv.Atoi(b)
		if err1 != nil || err2 != nil {
			return step.Refuse("no text is selected")
		}
		ranges = append(ranges, [2]int{from, to})
	}
	var err error
	m.Quads, m.Text, err = v.Desk.Taken(v.Request.Context(), v.Snapshot, m.Page.Keys[0], ranges)
	m.Author = v.Person.Name
	return err
}

// markView is a mark in the list of the slip.
type markView struct {
	desk.Mark
	Key    string // of its page
	Done   string
	Colour string // #rrggbb
	Named  bool   // the colour is one of those that are offered
}

// marks sends the list of what is marked in a document, with what it takes to change it.
func marks(h station.Host, w http.ResponseWriter, r *http.Request) error {
	snap, err := h.Desk().Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	list, err := h.Desk().Marks(r.Context(), snap)
	if err != nil {
		return err
	}
	v := struct {
		Doc     desk.Document
		Seen    uint
		Place   string
		Marks   []markView
		Colours []colour
		Hows    []string
	}{snap.Document, snap.State.ID, "review", nil, colours, []string{"highlight", "underline", "strike out"}}
	for _, m := range list {
		o := markView{Mark: m, Key: m.Page.String(), Done: map[string]string{"highlight": "highlighted", "underline": "underlined", "strike out": "struck out"}[m.How],
			Colour: fmt.Sprintf("#%02x%02x%02x", int(m.Colour[0]*255+0.5), int(m.Colour[1]*255+0.5), int(m.Colour[2]*255+0.5))}
		o.Named = slices.ContainsFunc(colours, func(c colour) bool { return c.Value == o.Colour })
		v.Marks = append(v.Marks, o)
	}
	return h.Render(w, http.StatusOK, "marks", v)
}
