// Package furnish is the station of what is put on pages by rule: page numbers.
package furnish

import (
	"embed"
	"fmt"
	"slices"
	"strconv"

	"glenrain/core/draw"
	furnishing "glenrain/core/furnish"
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
		Path: "furnish", Name: "Finish", Words: "page numbers", Surface: station.Paper, Files: files,
		Jobs: []station.Job{{
			Words: "page numbers", Slip: "numbers.html", Module: "numbers.js", View: numbersView,
			Steps: []station.Form{{Step: "number", Spot: numberSpot}, {Step: "number-change", Spot: numberSpot}, {Step: "furnishing-remove"}, {Step: "furnishing-update"}},
			Finds: []station.Find{
				{Text: "Number the pages", Words: "number page numbers footer header pagination numbering", Query: "new=1"},
				{Text: "Change existing page numbers and contents", Words: "change remove page numbers wording header footer"},
			},
			Fixes: []string{"stale"},
		}},
	}
}

// placed is one furnishing in the list.
type placed struct {
	ID     string
	Title  string
	Reads  string // its wording, with examples for the values
	Pages  string
	Stale  bool
	Edited bool

	Since  string // what put it out of date
	Change string // the address where it is changed; empty where it is being changed, or can't be
}

type view struct {
	List   []placed
	Values *furnishing.Values // of the sentence
	Edit   string             // the id of what is changed; empty for a new one
	Own    bool               // the colour has no name
	New    bool               // the sentence is open
}

// houseColours are those that the sentence offers.
var houseColours = []string{"slate", "ink", "moss", "ochre", "black"}

// Colours and Fonts are what the sentence offers.
func (v *view) Colours() []string { return houseColours }

// Fonts are the names of the fonts that come with Glenrain.
func (v *view) Fonts() []string {
	return []string{"Sans", "Sans Bold", "Sans Italic", "Serif", "Serif Bold", "Serif Italic", "Mono"}
}

// Millimetres writes a length for the sentence.
func (v *view) Millimetres(l step.Length) string {
	return pdf.Millimetres(float64(l))
}

// Points writes a size for the sentence.
func (v *view) Points(l step.Length) string {
	return strconv.FormatFloat(float64(l), 'f', -1, 64) + " pt"
}

// Piece makes a piece of a wording.
func (v *view) Piece(field string) furnishing.Piece { return furnishing.Piece{Field: field} }

// changes are where kinds of furnishings are changed, below the address of the document: a kind that is changed elsewhere has a line here.
var changes = map[string]func(p draw.Placed) string{
	"numbers":  func(p draw.Placed) string { return "furnish?edit=" + p.ID },
	"contents": func(draw.Placed) string { return "arrange/bookmarks" },
}

func numbersView(visit *station.Visit) (any, error) {
	ask, doc := visit.Request.URL.Query(), visit.Snapshot.PDF
	v := &view{Edit: ask.Get("edit")}
	numbers := 0
	for _, p := range draw.List(doc) {
		f := placed{ID: p.ID, Title: furnishing.Title(p.Kind), Since: furnishing.Since(p.Kind), Stale: p.Stale}
		if p.Pages != nil {
			at := doc.PageIndexes(p.Pages)
			slices.Sort(at)
			f.Pages = step.WriteSet(slices.DeleteFunc(at, func(i int) bool { return i < 0 }))
		}
		if change, ok := changes[p.Kind]; ok {
			f.Change = fmt.Sprintf("/desk/%d/", visit.Snapshot.Document.ID) + change(p)
		}
		if furnishing.IsNumbers(p) {
			numbers++
			values, err := furnishing.ReadNumbers(doc, p)
			if err != nil {
				return nil, err
			}
			f.Pages = values.Pages.Rule
			for _, piece := range values.Wording {
				if piece.Field != "" {
					f.Reads += "‹" + piece.Field + "›"
				} else {
					f.Reads += piece.Text
				}
			}
			if p.ID == v.Edit {
				f.Edited, f.Change = true, ""
				v.Values = values
			}
		}
		v.List = append(v.List, f)
	}
	if v.Values == nil {
		v.Edit = ""
		v.New = numbers == 0 || ask.Get("new") != ""
		v.Values = &furnishing.Values{
			Pages: step.Pages{Rule: "all but first"}, Edge: "bottom", Align: "centre", Figures: "1 2 3", First: 2, Font: "Sans", Size: 9,
			Colour: "slate", Margin: step.Length(12 * pdf.MM),
			Wording: []furnishing.Piece{{Field: "page"}, {Text: " of "}, {Field: "pages"}},
		}
		if visit.Snapshot.Document.Pages == 1 {
			v.Values.Pages.Rule, v.Values.First = "all", 1
		}
	}
	v.Own = !slices.Contains(houseColours, string(v.Values.Colour))
	return v, nil
}

// numberSpot is where the number of the page that is shown comes to stand.
func numberSpot(p *desk.Preview) (station.Spot, bool) {
	var v furnishing.Values
	id := ""
	switch s := p.Step.(type) {
	case *furnishing.Number:
		v = s.Values
	case *furnishing.NumberChange:
		v, id = s.Values, s.ID
	}
	at, ok := furnishing.SpotOf(p.Doc, id, p.Ref)
	where := "centred on the visible page"
	if v.Align != "centre" {
		where = "at the " + v.Align
	}
	length := (&view{}).Millimetres(v.Margin)
	return station.Spot{X: at.X, Y: at.Y, W: at.W, H: at.H, Title: "The number goes here", Text: fmt.Sprintf("%s from the %s, %s", length, v.Edge, where)}, ok
}
