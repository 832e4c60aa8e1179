package edit

import (
	"fmt"
	"net/http"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// comparing is the job that shows what changed: since arrival, since a step or a named state, or against another document.
func comparing() station.Job {
	return station.Job{
		Path: "compare", Words: "compare", Slip: "compare.html", Module: "compare.js", View: compareView,
		Finds: []station.Find{
			{Text: "Compare with the original version", Words: "compare before after changes changed difference diff versions"},
			{Text: "Compare with another document", Words: "compare difference diff versions two documents", Query: "other=1"},
		},
		Keys: []station.Key{
			{Keys: []string{"."}, Act: "change-next", What: "next change"},
			{Keys: []string{","}, Act: "change-back", What: "previous change"},
		},
	}
}

type withOption struct {
	Value, Text string
	Chosen      bool
}

type compareSlip struct {
	States []withOption
	Others []withOption
}

// Offered in the sentence.
const (
	mostStates = 60
	mostOthers = 80
)

func compareView(v *station.Visit) (any, error) {
	ctx := v.Request.Context()
	out := &compareSlip{States: []withOption{{Value: "arrival", Text: "original version"}}}
	asked := v.Request.URL.Query().Get("with")
	named, err := v.Desk.NamedStates(ctx, v.Snapshot.Document.ID)
	if err != nil {
		return nil, err
	}
	for _, s := range named {
		out.States = append(out.States, withOption{Value: fmt.Sprintf("state:%d", s.ID), Text: "version “" + s.Called + "”"})
	}
	steps, err := v.Desk.Trail(ctx, v.Snapshot, 0, mostStates)
	if err != nil {
		return nil, err
	}
	for i, s := range steps {
		if i > 0 {
			out.States = append(out.States, withOption{Value: fmt.Sprintf("state:%d", s.StateID), Text: "after: " + s.Sentence})
		}
	}
	rows, err := v.Desk.Documents(ctx, desk.Listing{Person: v.Person.ID, Most: mostOthers})
	if err != nil {
		return nil, err
	}
	for _, d := range rows {
		if d.ID != v.Snapshot.Document.ID {
			out.Others = append(out.Others, withOption{Value: fmt.Sprintf("doc:%d", d.ID), Text: d.Name})
		}
	}
	other := v.Request.URL.Query().Get("other") != ""
	for _, list := range [][]withOption{out.States, out.Others} {
		for i := range list {
			list[i].Chosen = list[i].Value == asked
		}
	}
	if other && asked == "" && len(out.Others) > 0 {
		out.Others[0].Chosen = true
	}
	return out, nil
}

type sideView struct {
	Doc     uint    `json:"doc"`
	Key     string  `json:"key"`
	Version uint    `json:"version"`
	Number  int     `json:"number"`
	W       float64 `json:"w"`
	H       float64 `json:"h"`
}

type comparedView struct {
	Then  *sideView          `json:"then"`
	Now   *sideView          `json:"now"`
	Words []comparedWordView `json:"words"`
	Looks bool               `json:"looks,omitempty"`
	Moved bool               `json:"moved,omitempty"`
}

type comparedWordView struct {
	Before string `json:"before"`
	Was    string `json:"was"`
	Is     string `json:"is"`
	After  string `json:"after"`
}

func side(doc uint, p *desk.PageInfo, at int) *sideView {
	if p == nil {
		return nil
	}
	return &sideView{doc, p.Key.String(), p.Version, at + 1, p.W, p.H}
}

// compared lists what differs.
func compared(_ *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	person := station.Person(r).ID
	now, then, err := d.Against(r.Context(), person, station.ID(r, "id"), r.FormValue("with"))
	if err != nil {
		return err
	}
	c, err := d.Compare(r.Context(), then, now)
	if err != nil {
		return err
	}
	out := struct {
		Pages    []comparedView `json:"pages"`
		Pairs    []sideView     `json:"pairs"` // the page of before for each page of now; no key where there is none
		Unlooked int            `json:"unlooked,omitempty"`
	}{Pages: []comparedView{}, Pairs: []sideView{}, Unlooked: c.Unlooked}
	for _, p := range c.Pages {
		v := comparedView{Then: side(p.ThenDoc, p.Then, p.ThenAt), Now: side(p.NowDoc, p.Now, p.NowAt), Words: []comparedWordView{}, Looks: p.Looks, Moved: p.Moved}
		for _, c := range p.Words {
			v.Words = append(v.Words, comparedWordView(c))
		}
		out.Pages = append(out.Pages, v)
	}
	return station.SendJSON(w, out)
}

// comparedPage tells where a page differs from what it was.
func comparedPage(_ *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	person := station.Person(r).ID
	key, err := station.PageKey(r, "key")
	if err != nil {
		return err
	}
	was, err := step.ParseKey(r.FormValue("was"))
	if err != nil {
		return desk.ErrMissing
	}
	now, then, err := d.Against(r.Context(), person, station.ID(r, "id"), r.FormValue("with"))
	if err != nil {
		return err
	}
	places, err := d.ComparePage(r.Context(), then, now, was, key)
	if err != nil {
		return err
	}
	out := struct {
		Was   [][8]float64 `json:"was"`
		Is    [][8]float64 `json:"is"`
		Looks [][4]float64 `json:"looks"`
	}{[][8]float64{}, [][8]float64{}, places.Looks}
	for i, s := range []*desk.Snapshot{then, now} {
		l, g, err := d.ReadPage(r.Context(), s, []step.Key{was, key}[i])
		if err != nil {
			return err
		}
		reading := l.Reading()
		for _, at := range [][][2]int{places.A, places.B}[i] {
			for _, q := range l.Quads(reading, at[0], at[1]) {
				c := station.Corners(g, q)
				if i == 0 {
					out.Was = append(out.Was, c)
				} else {
					out.Is = append(out.Is, c)
				}
			}
		}
	}
	return station.SendJSON(w, out)
}
