package documents

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strings"

	"glenrain/core/draw"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// picturesView is the slip that puts pictures on pages, with what comes of it.
type picturesView struct {
	IDs      string
	Count    int // of pictures
	Paper    string
	Papers   []choice
	Turns    []choice
	Margin   string
	Width    string
	Height   string
	Fill     bool
	Each     bool
	Name     string
	Wrong    string
	Pictures []placedView
	Outcome  string
}

// placedView is a picture on its page, drawn small.
type placedView struct {
	desk.PlacedOn
	Borders string // in words, with millimetres
	Cut     string
}

// placement reads what the slip says.
func placement(r *http.Request) (pl draw.Placement, err error) {
	length := func(name string) (float64, error) {
		s := strings.TrimSpace(r.FormValue(name))
		if s == "" {
			return 0, nil
		}
		var l step.Length
		if err := l.UnmarshalText([]byte(s)); err != nil {
			return 0, err
		}
		return float64(l), nil
	}
	switch paper := r.FormValue("paper"); paper {
	case "", "own":
	case "size":
		if pl.Width, err = length("width"); err == nil {
			pl.Height, err = length("height")
		}
		if err == nil && (pl.Width < 20 || pl.Height < 20 || pl.Width > 14400 || pl.Height > 14400) {
			err = step.Refuse("pages can be from 20 points to 200 inches wide and high")
		}
		pl.Width, pl.Height = min(pl.Width, pl.Height), max(pl.Width, pl.Height)
	default:
		size, ok := pdf.Papers[paper]
		if !ok {
			return pl, step.Refuse("there is no paper size %q", paper)
		}
		pl.Width, pl.Height = size[0], size[1]
	}
	if err == nil {
		pl.Margin, err = length("margin")
	}
	if err == nil && (pl.Margin < 0 || pl.Margin > 1440) {
		err = step.Refuse("margins can be from 0 to 20 inches")
	}
	switch t := draw.Turn(r.FormValue("turn")); t {
	case draw.TurnEach, draw.TurnPortrait, draw.TurnLandscape:
		pl.Turn = t
	default:
		err = step.Refuse("choose portrait, landscape, or the orientation of each picture")
	}
	pl.Fill = r.FormValue("fit") == "fill"
	return pl, err
}

func (s *screen) picturesView(r *http.Request) (*picturesView, desk.PicturePages, error) {
	_ = r.ParseForm()
	ids := selected(r)
	in := desk.PicturePages{Person: station.Person(r).ID, Documents: ids, Each: r.FormValue("as") == "each", Name: strings.TrimSpace(r.FormValue("name"))}
	v := &picturesView{Count: len(ids), Paper: r.FormValue("paper"), Margin: r.FormValue("margin"), Width: r.FormValue("width"), Height: r.FormValue("height"), Fill: r.FormValue("fit") == "fill", Each: in.Each, Name: in.Name}
	words := make([]string, len(ids))
	for i, id := range ids {
		words[i] = fmt.Sprint(id)
	}
	v.IDs = strings.Join(words, ",")
	for _, p := range []choice{{Value: "own", Text: "of their own size"}, {Value: "A3", Text: "of A3 paper"}, {Value: "A4", Text: "of A4 paper"}, {Value: "A5", Text: "of A5 paper"}, {Value: "Letter", Text: "of Letter paper"}, {Value: "Legal", Text: "of Legal paper"}, {Value: "size", Text: "of this size:"}} {
		p.Chosen = p.Value == v.Paper
		v.Papers = append(v.Papers, p)
	}
	for _, t := range []choice{{Value: "", Text: "as each picture does"}, {Value: "portrait", Text: "portrait"}, {Value: "landscape", Text: "landscape"}} {
		t.Chosen = t.Value == r.FormValue("turn")
		v.Turns = append(v.Turns, t)
	}
	var err error
	if in.Placement, err = placement(r); err != nil {
		v.Wrong = err.Error()
		return v, in, nil
	}
	placed, err := s.desk.PlacePictures(r.Context(), in)
	if err != nil {
		return nil, in, err
	}
	for _, p := range placed {
		if p.Err != nil {
			v.Wrong = p.Err.Error()
			continue
		}
		v.Pictures = append(v.Pictures, placedView{p, borders(p), cut(p)})
	}
	pages := step.Count(len(v.Pictures), "page")
	v.Outcome = pages + " in one document"
	if in.Each {
		v.Outcome = step.Count(len(ids), "document") + " with " + pages
	}
	return v, in, nil
}

// borders says how wide the white borders will be.
func borders(p desk.PlacedOn) string {
	side, above := p.PlacedPicture.Borders()
	small := func(v float64) bool { return v < 0.05 }
	switch {
	case small(side) && small(above):
		return "no border"
	case small(side):
		return pdf.Millimetres(above) + " white above and below"
	case small(above):
		return pdf.Millimetres(side) + " white left and right"
	case math.Abs(side-above) < 0.15:
		return pdf.Millimetres(side) + " white on all sides"
	}
	return pdf.Millimetres(above) + " white above and below, " + pdf.Millimetres(side) + " left and right"
}

// cut says how much of the picture is cut off.
func cut(p desk.PlacedOn) string {
	w, h := p.PlacedPicture.Cut()
	switch {
	case w > 0.001:
		return fmt.Sprintf("%.0f%% of its width is cropped", math.Ceil(w*100))
	case h > 0.001:
		return fmt.Sprintf("%.0f%% of its height is cropped", math.Ceil(h*100))
	}
	return ""
}

// pictures shows the slip, or only what comes of what it says.
func (s *screen) pictures(w http.ResponseWriter, r *http.Request) error {
	p, _, err := s.picturesView(r)
	if err != nil {
		return err
	}
	if p.Count == 0 {
		return step.Refuse("select pictures to place on pages")
	}
	if r.Header.Get("HX-Target") == "placed" || r.FormValue("part") != "" {
		return s.Render(w, http.StatusOK, "placed", p)
	}
	v, err := s.view(r, "pictures")
	if err != nil {
		return err
	}
	v.Pics = p
	return s.render(w, r, v)
}

// makePictures does it.
func (s *screen) makePictures(w http.ResponseWriter, r *http.Request) error {
	for _, id := range append(selected(r), 0) { // each of them is seen, and documents may be added
		act := desk.ActLook
		if id == 0 {
			act = desk.ActAdd
		}
		if err := s.desk.May(r.Context(), station.Person(r).ID, act, id); err != nil {
			return err
		}
	}
	p, in, err := s.picturesView(r)
	if err != nil {
		return err
	}
	if p.Wrong != "" {
		return step.Refuse("%s", p.Wrong)
	}
	in.RequestID = station.RequestID(r.FormValue("_request"), fmt.Sprintf("%+v", in))
	return s.Work(w, r, s.desk.Start(in.Person, "Putting "+step.Count(p.Count, "picture")+" on pages", func(ctx context.Context, w *desk.Work) (any, error) {
		out, err := s.desk.MakePicturePages(desk.FromSame(ctx, r.Context()), w, in)
		if err != nil {
			return nil, err
		}
		if len(out) == 1 {
			return fmt.Sprintf("/desk/%d", out[0].ID), nil
		}
		return Home, nil
	}))
}
