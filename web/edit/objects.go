package edit

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"glenrain/core/draw"
	editing "glenrain/core/edit"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// arranging is the job in which what stands on a page is moved and changed as a whole.
func arranging() station.Job {
	return station.Job{
		Path: "objects", Words: "pictures, objects", Slip: "objects.html", Module: "objects.js", View: objectsView,
		Steps: []station.Form{{Step: "move-objects", Fill: fillMove}, {Step: "remove-objects", Fill: fillRemove}, {Step: "change-picture"}, {Step: "tone-pages"}},
		Finds: []station.Find{
			{Text: "Move, resize or remove pictures and blocks of text", Words: "move resize turn rotate copy remove delete picture image block align distribute drawing"},
			{Text: "Replace a picture", Words: "replace change swap picture image photo logo crop brightness contrast grey"},
			{Text: "Add a picture to a page", Words: "add insert put picture image photo logo"},
		},
		Keys: []station.Key{
			{Keys: []string{"."}, Act: "object-next", What: "next object"},
			{Keys: []string{","}, Act: "object-back", What: "previous object"},
			{Keys: []string{"ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"}, Act: "object-move", What: "move it 1 pt", Show: []string{"←", "→", "↑", "↓"}},
			{Keys: []string{"Shift+ArrowLeft", "Shift+ArrowRight", "Shift+ArrowUp", "Shift+ArrowDown"}, Act: "object-move", What: "move it 10 pt", Show: []string{"Shift", "arrow"}},
			{Keys: []string{"Delete", "Backspace"}, Act: "object-remove", What: "remove", Show: []string{"Delete"}},
			{Keys: []string{"Escape"}, Act: "object-none", What: "clear selection"},
		},
	}
}

// drawing is the job in which shapes are drawn.
func drawing() station.Job {
	return station.Job{
		Path: "shapes", Words: "shapes", Slip: "shapes.html", Module: "shapes.js",
		Steps: []station.Form{{Step: "add-shape"}, {Step: "change-shape"}},
		Finds: []station.Find{{Text: "Draw a line, an arrow, a rectangle or another shape", Words: "draw shape line arrow rectangle ellipse circle polygon freehand box"}},
	}
}

type objectsSlip struct{ Others []withOption }

// objectsView offers other documents that objects can be brought to.
func objectsView(v *station.Visit) (any, error) {
	rows, err := v.Desk.Documents(v.Request.Context(), desk.Listing{Person: v.Person.ID, Most: mostOthers})
	if err != nil {
		return nil, err
	}
	out := &objectsSlip{}
	for _, d := range rows {
		if d.ID != v.Snapshot.Document.ID {
			out.Others = append(out.Others, withOption{Value: fmt.Sprint(d.ID), Text: d.Name})
		}
	}
	return out, nil
}

// carry brings objects of the page that is shown to a page of another document.
func carry(s *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	person := station.Person(r).ID
	other := station.FormID(r, "to")
	if err := d.MayStep(r.Context(), person, other, "bring-objects"); err != nil {
		return err
	}
	p, err := s.place(d, r)
	if err != nil {
		return err
	}
	head, err := d.Look(r.Context(), person, other)
	if err != nil {
		return err
	}
	var list []editing.Object
	if err := readObjects(r, &list); err != nil {
		return err
	}
	number := strings.TrimSpace(r.FormValue("page"))
	if _, err := strconv.Atoi(number); err != nil {
		return step.Refuse("type the page number in the other document")
	}
	params, err := json.Marshal(map[string]any{"from": fmt.Sprintf("state:%d", p.snap.State.ID), "from_page": p.snap.PDF.PageIndex(p.sheet.Ref) + 1, "objects": list, "page": number})
	if err != nil {
		return err
	}
	c := desk.Change{Document: other, Seen: head.State.ID, Person: person, Name: "bring-objects", Params: params, RequestID: station.RequestID(r.FormValue("request"), "carry")}
	if c.RequestID == "" {
		return step.Refuse("the request has no id of its own")
	}
	out, err := d.Do(r.Context(), c)
	if err != nil {
		return err
	}
	return station.SendJSON(w, map[string]any{"said": out.Step.Sentence + ".", "warnings": out.Step.WarningList()})
}

func fillMove(v *station.Visit, s step.Step) error {
	m, ok := s.(*editing.MoveObjects)
	if !ok {
		return step.Refuse("nothing is selected to move")
	}
	return readObjects(v.Request, &m.Objects)
}

func fillRemove(v *station.Visit, s step.Step) error {
	m, ok := s.(*editing.RemoveObjects)
	if !ok {
		return step.Refuse("nothing is selected to remove")
	}
	return readObjects(v.Request, &m.Objects)
}

func readObjects(r *http.Request, into *[]editing.Object) error {
	if err := json.Unmarshal([]byte(r.FormValue("_objects")), into); err != nil {
		return step.Refuse("select an object on the page")
	}
	return nil
}

type objectView struct {
	What   string      `json:"what"`
	At     int         `json:"at"`
	Q      [8]float64  `json:"q"`
	Name   string      `json:"name"`
	Text   string      `json:"text,omitempty"`
	Detail string      `json:"detail,omitempty"`
	Uses   int         `json:"uses,omitempty"`
	Inline bool        `json:"inline,omitempty"`
	Why    string      `json:"why,omitempty"`
	Shape  *shapeView  `json:"shape,omitempty"`
	Points [][]float64 `json:"points,omitempty"`
	Bases  []float64   `json:"bases,omitempty"` // heights of its lines' baselines
}

type shapeView struct {
	Kind    string  `json:"kind"`
	Stroke  string  `json:"stroke"`
	Fill    string  `json:"fill"`
	Width   float64 `json:"width"`
	Dash    string  `json:"dash"`
	Opacity float64 `json:"opacity"`
}

// found lists what stands on a page.
func found(s *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	p, err := s.place(d, r)
	if err != nil {
		return err
	}
	out := []objectView{}
	count := map[string]int{}
	var list []editing.Found
	err = d.ForSomebody(r.Context(), "reading a page", func(context.Context) error {
		list = p.sheet.Objects()
		return nil
	})
	if err != nil {
		return err
	}
	for _, f := range list {
		count[f.What]++
		v := objectView{What: f.What, At: f.At, Q: p.corners(f.Quad), Name: fmt.Sprintf("%s %d", strings.ToUpper(f.What[:1])+f.What[1:], count[f.What]), Text: f.Text, Inline: f.Inline, Why: f.Why}
		if f.What == "picture" && f.W > 0 {
			v.Detail = fmt.Sprintf("%s by %s pixels, %.0f dpi here, %s, %s", step.Thousands(f.W), step.Thousands(f.H), f.DPI, station.Weight(f.Bytes), f.Kind)
			v.Uses = f.Uses
		}
		for _, at := range f.Bases {
			_, y := station.SeenPoint(p.g, at[0], at[1])
			v.Bases = append(v.Bases, y)
		}
		if sh := f.Shape; sh != nil {
			v.Shape = &shapeView{sh.Kind, sh.Stroke, sh.Fill, float64(sh.Width), sh.Dash, sh.Opacity}
			for part := range strings.FieldsSeq(sh.Points) {
				a, b, _ := strings.Cut(part, ",")
				x, _ := strconv.ParseFloat(a, 64)
				y, _ := strconv.ParseFloat(b, 64)
				x, y = station.SeenPoint(p.g, x, y)
				v.Points = append(v.Points, []float64{x, y})
			}
		}
		out = append(out, v)
	}
	return station.SendJSON(w, out)
}

// taken sends a picture of the page as a file.
func taken(s *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	p, err := s.place(d, r)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	kind, err := p.sheet.PictureFile(int(station.FormID(r, "picture")), &b)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", map[string]string{"jpg": "image/jpeg", "png": "image/png"}[kind])
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="picture-%d.%s"`, station.FormID(r, "picture")+1, kind))
	_, _ = w.Write(b.Bytes())
	return nil
}

// bring replaces a picture by the file that is sent, or puts it on the page.
func bring(_ *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	ask := r.URL.Query()
	key := station.Text(r, "key")
	c := desk.Change{Document: station.ID(r, "id"), Person: station.Person(r).ID, Name: "replace-picture", RequestID: station.RequestID(ask.Get("request"), key)}
	seen, _ := strconv.ParseUint(ask.Get("seen"), 10, 32)
	c.Seen = uint(seen)
	if err := d.MayStep(r.Context(), c.Person, c.Document, c.Name); err != nil { // before anything of what is sent is looked at
		return err
	}
	if c.RequestID == "" {
		return step.Refuse("the request has no id of its own")
	}
	params := map[string]any{"page": []string{key}}
	if ask.Has("x") {
		c.Name = "add-picture"
	}
	for _, k := range []string{"x", "y", "width", "height"} {
		if ask.Get(k) != "" {
			params[k] = ask.Get(k) + "pt"
		}
	}
	if n, err := strconv.Atoi(ask.Get("picture")); err == nil {
		params["picture"] = n
	}
	if ask.Get("fit") != "" {
		params["fit"] = ask.Get("fit")
	}
	if ask.Get("everywhere") == "yes" {
		params["everywhere"] = true
	}
	out, err := d.DoWith(r.Context(), c, r.Body, func(from string) (json.RawMessage, error) {
		params["from"] = from
		return json.Marshal(params)
	})
	if err != nil {
		return err
	}
	return station.SendJSON(w, map[string]any{"said": out.Step.Sentence + ".", "page": out.Step.Show, "warnings": out.Step.WarningList()})
}

const mostPicture = draw.MaxPictureFile
