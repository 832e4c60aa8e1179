package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"glenrain/core/draw"
	"glenrain/core/furnish"
	"glenrain/core/step"
	"glenrain/desk"
)

var timeZero time.Time

func asConflict(err error, c **desk.Conflict) bool { return errors.As(err, c) }

// jobForms read the parameters of each step from the form of its slip.
var jobForms = map[string]func(*http.Request) (any, error){
	"turn":              turnForm,
	"move":              moveForm,
	"take-out":          takeOutForm,
	"insert":            insertForm,
	"number":            numberForm,
	"number-change":     numberChangeForm,
	"mark-change":       markChangeForm,
	"mark-remove":       markRemoveForm,
	"furnishing-remove": func(r *http.Request) (any, error) { return map[string]any{"id": r.FormValue("furnishing")}, nil },
	"furnishing-renew":  func(r *http.Request) (any, error) { return map[string]any{"id": r.FormValue("furnishing")}, nil },
}

// formPages reads a field that holds page keys ("0.3 0.4"), or else a page set.
func formPages(r *http.Request, keys, set string) (step.Pages, error) {
	var p step.Pages
	for _, f := range strings.Fields(r.FormValue(keys)) {
		k, err := step.ParseKey(f)
		if err != nil {
			return p, step.Refuse("%q names no page", f)
		}
		p.Keys = append(p.Keys, k)
	}
	if len(p.Keys) > 0 {
		return p, nil
	}
	p.Rule = strings.TrimSpace(r.FormValue(set))
	if p.Rule == "" {
		return p, step.Refuse("no page is chosen")
	}
	_, err := step.EvalRule(p.Rule, 1)
	return p, err
}

// formPlace reads where pages go: a key, a page number, or "end".
func formPlace(r *http.Request, name string) (step.Place, error) {
	var p step.Place
	b, err := json.Marshal(strings.TrimSpace(r.FormValue(name)))
	if err == nil {
		err = p.UnmarshalJSON(b)
	}
	return p, err
}

func turnForm(r *http.Request) (any, error) {
	pages, err := formPages(r, "keys", "set")
	by, berr := strconv.Atoi(r.FormValue("by"))
	if err == nil && berr != nil {
		err = step.Refuse("say which way to turn")
	}
	return map[string]any{"pages": pages, "by": by}, err
}

func moveForm(r *http.Request) (any, error) {
	pages, err := formPages(r, "keys", "set")
	if err != nil {
		return nil, err
	}
	to, err := formPlace(r, "to")
	return map[string]any{"pages": pages, "to": to}, err
}

func takeOutForm(r *http.Request) (any, error) {
	pages, err := formPages(r, "keys", "set")
	return map[string]any{"pages": pages}, err
}

func insertForm(r *http.Request) (any, error) {
	to, err := formPlace(r, "to")
	if err != nil {
		return nil, err
	}
	pages, err := formPages(r, "-", "pages")
	if err != nil {
		return nil, err
	}
	from := r.FormValue("from")
	if from == "" {
		return nil, step.Refuse("choose a document to bring pages from")
	}
	return map[string]any{"from": "state:" + from, "pages": pages, "to": to}, nil
}

// numberValues reads the sentence of the page numbers.
func numberValues(r *http.Request) (*furnish.Values, error) {
	v := &furnish.Values{
		Edge: r.FormValue("edge"), Align: r.FormValue("align"), Figures: r.FormValue("figures"), Face: r.FormValue("face"),
		Colour: step.Colour(r.FormValue("colour")),
	}
	if custom := r.FormValue("own-colour"); v.Colour == "own" {
		v.Colour = step.Colour(custom)
	}
	var err error
	if v.Pages, err = formPages(r, "keys", "pages"); err != nil {
		return nil, err
	}
	if v.Size, err = step.ParseLength(r.FormValue("size")); err != nil {
		return nil, err
	}
	if v.Margin, err = step.ParseLength(r.FormValue("margin")); err != nil {
		return nil, err
	}
	if v.First, err = strconv.Atoi(strings.TrimSpace(r.FormValue("first"))); err != nil {
		return nil, step.Refuse("%q is not a number to start with", r.FormValue("first"))
	}
	kinds, texts := r.Form["part"], r.Form["part-text"]
	for i, k := range kinds {
		switch {
		case k == "page" || k == "pages":
			v.Wording = append(v.Wording, furnish.Part{Field: k})
		case i < len(texts) && texts[i] != "":
			v.Wording = append(v.Wording, furnish.Part{Text: texts[i]})
		}
	}
	if len(v.Wording) == 0 {
		return nil, step.Refuse("the wording is empty: put in the page number or some text")
	}
	return v, nil
}

func numberForm(r *http.Request) (any, error) { return numberValues(r) }

func numberChangeForm(r *http.Request) (any, error) {
	v, err := numberValues(r)
	if err != nil {
		return nil, err
	}
	return struct {
		ID string `json:"id"`
		*furnish.Values
	}{r.FormValue("furnishing"), v}, nil
}

// furnishingView is one furnishing in the list.
type furnishingView struct {
	ID      string
	Title   string
	Reads   string // its wording, with examples for the values
	Pages   string
	Stale   bool
	Edited  bool
	Numbers *furnish.Values
}

type furnishView struct {
	List   []furnishingView
	Values *furnish.Values // of the sentence
	Edit   string          // the id of what is changed; empty for a new one
	Own    bool            // the colour has no name
	New    bool            // the sentence is open
}

// faces and colours that the sentence offers.
var houseColours = []string{"slate", "ink", "moss", "ochre", "black"}

func (v *furnishView) Colours() []string { return houseColours }
func (v *furnishView) Faces() []string {
	return []string{"Sans", "Sans Bold", "Sans Italic", "Serif", "Serif Bold", "Serif Italic", "Mono"}
}

// Millimetres writes a length for the sentence.
func (v *furnishView) Millimetres(l step.Length) string {
	return strconv.FormatFloat(float64(int(float64(l)*25.4/72*10+0.5))/10, 'f', -1, 64) + "mm"
}

// Points writes a size for the sentence.
func (v *furnishView) Points(l step.Length) string {
	return strconv.FormatFloat(float64(l), 'f', -1, 64) + "pt"
}

func (s *Server) furnishView(r *http.Request, snap *desk.Snapshot) (*furnishView, error) {
	v := &furnishView{Edit: r.URL.Query().Get("edit")}
	for _, p := range draw.List(snap.PDF) {
		f := furnishingView{ID: p.ID, Title: furnish.Title(p.Kind), Stale: p.Stale, Edited: p.ID == v.Edit}
		if furnish.IsNumbers(p) {
			values, err := furnish.ReadNumbers(snap.PDF, p)
			if err != nil {
				return nil, err
			}
			f.Numbers, f.Pages = values, values.Pages.Rule
			for _, part := range values.Wording {
				switch part.Field {
				case "page":
					f.Reads += "‹page›"
				case "pages":
					f.Reads += "‹pages›"
				default:
					f.Reads += part.Text
				}
			}
			if f.Edited {
				v.Values = values
			}
		}
		v.List = append(v.List, f)
	}
	if v.Values == nil {
		v.Edit = ""
		v.New = len(v.List) == 0 || r.URL.Query().Get("new") != ""
		v.Values = &furnish.Values{
			Pages: step.Pages{Rule: "all but first"}, Edge: "foot", Align: "middle", Figures: "1 2 3", First: 2, Face: "Sans", Size: 9,
			Colour: "slate", Margin: step.Length(12 * 72 / 25.4),
			Wording: []furnish.Part{{Field: "page"}, {Text: " of "}, {Field: "pages"}},
		}
		if snap.Document.Pages == 1 {
			v.Values.Pages.Rule, v.Values.First = "all", 1
		}
	}
	v.Own = !slices.Contains(houseColours, string(v.Values.Colour))
	return v, nil
}

// preview runs a step in memory and sends the page as it would be; the headers say what
// the step would do.
func (s *Server) preview(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<20)
	c, err := s.change(r)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	var at step.Key
	if k := r.FormValue("at"); k != "" {
		if at, err = step.ParseKey(k); err != nil {
			s.fail(w, r, step.Refuse("%q names no page", k))
			return
		}
	}
	box := int(formNumber(r, "box"))
	if !boxOK(box) {
		box = 960
	}
	p, err := s.desk.Preview(r.Context(), c, at, box, box)
	if err != nil {
		s.fail(w, r, err)
		return
	}
	keys := make([]string, len(p.Result.Pages))
	for i, k := range p.Result.Pages {
		keys[i] = k.String()
	}
	h := w.Header()
	h.Set("Preview-Pages", strconv.Itoa(len(keys)))
	h.Set("Preview-Sentence", url.PathEscape(p.Result.Sentence))
	h.Set("Preview-Warnings", url.PathEscape(strings.Join(p.Result.Warnings, "\n")))
	h.Set("Preview-Show", p.Result.Show.String())
	seenW, seenH := p.Doc.Geometry(p.Ref).Seen()
	h.Set("Preview-Size", fmt.Sprintf("%.2f %.2f", seenW, seenH))
	if x, y, sw, sh, ok := furnish.Spot(p.Doc, c.Name, c.Params, p.Ref); ok {
		h.Set("Preview-Spot", fmt.Sprintf("%.2f %.2f %.2f %.2f", x, y, sw, sh))
	}
	const most = 6000 // characters of keys that fit a header
	if list := strings.Join(keys, " "); len(list) <= most {
		h.Set("Preview-Keys", list)
	}
	h.Set("Content-Type", p.Picture.Type)
	_, _ = w.Write(p.Picture.Data)
}

func (s *Server) handOut(w http.ResponseWriter, r *http.Request) {
	order := desk.Order{
		Document: number(r, "id"), Seen: formNumber(r, "seen"), Person: person(r).ID, Name: r.FormValue("name"),
		Replace: r.FormValue("how") == "replace", AsItIs: r.FormValue("as-it-is") != "" || r.FormValue("renew") != "",
		Lock: r.FormValue("lock") != "", Signed: r.FormValue("signed") == "keep",
	}
	// A renewal that the person chose instead of handing out stale values.
	if r.FormValue("renew") != "" {
		out, err := s.desk.Do(r.Context(), desk.Change{Document: order.Document, Seen: order.Seen, RequestID: r.FormValue("request") + "-renew",
			Person: order.Person, Name: "furnishing-renew", Params: json.RawMessage("{}")})
		if err != nil {
			s.refuse(w, r, err)
			return
		}
		order.Seen = out.Snapshot.State.ID
	}
	work := s.desk.Start(order.Person, "Handing out", func(ctx context.Context, w *desk.Work) (any, error) {
		h, err := s.desk.HandOut(ctx, w, order)
		if err != nil {
			return nil, err
		}
		return fmt.Sprintf("/desk/%d/release?out=%d", order.Document, h.ID), nil
	})
	select { // loose ends and conflicts are told at once
	case <-work.Ended():
	case <-time.After(2 * quick):
	}
	var asks *desk.Asks
	p := work.Look()
	if errors.As(p.Err, &asks) {
		snap, err := s.desk.Snapshot(r.Context(), order.Document)
		if err != nil {
			s.fail(w, r, err)
			return
		}
		v, err := s.deskView(r, snap, "release")
		if err != nil {
			s.fail(w, r, err)
			return
		}
		v.Release.Asks, v.Release.Name, v.Release.Chosen = asks.Findings, order.Name, r.FormValue("how")
		v.Release.KeepSigned, v.Release.Unlock = order.Signed, !order.Lock
		s.showDesk(w, r, http.StatusConflict, v)
		return
	}
	if p.Err != nil {
		s.refuse(w, r, p.Err)
		return
	}
	s.showWork(w, r, work)
}
