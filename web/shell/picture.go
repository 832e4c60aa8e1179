package shell

import (
	"image"
	"net/http"
	"strconv"

	"github.com/go-chi/chi/v5"

	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// boxOK reports whether pages are drawn in a size: its longest side in pixels, in steps
// of 4 so that a cache has a chance.
func boxOK(box int) bool { return box >= 40 && box <= 4400 && box%4 == 0 }

func (s *Server) picture(w http.ResponseWriter, r *http.Request) error {
	key, err := station.PageKey(r, "key")
	box, berr := strconv.Atoi(chi.URLParam(r, "box"))
	if err != nil || berr != nil || !boxOK(box) {
		return desk.ErrMissing
	}
	data, err := s.desk.Picture(r.Context(), station.Person(r).ID, station.ID(r, "id"), key, station.ID(r, "version"), box, box)
	if station.Undrawn(err) {
		return station.SendUndrawn(w, box < 300)
	}
	if err != nil {
		return err
	}
	station.SendPicture(w, r, data, "31536000, immutable")
	return nil
}

// region draws a part of a page at any scale: x, y, w and h in pixels of the page at
// scale pixels a point.
func (s *Server) region(w http.ResponseWriter, r *http.Request) error {
	key, err := station.PageKey(r, "key")
	scale, serr := strconv.ParseFloat(r.FormValue("scale"), 64)
	var v [4]int
	for i, k := range []string{"x", "y", "w", "h"} {
		n, nerr := strconv.Atoi(r.FormValue(k))
		if nerr != nil {
			serr = nerr
		}
		v[i] = n
	}
	if err != nil || serr != nil || !(scale > 0 && scale <= 40) || v[2] < 1 || v[3] < 1 || v[2] > 4000 || v[3] > 4000 {
		return step.Refuse("this part of the page can’t be shown")
	}
	pic, err := s.desk.Region(r.Context(), raster.Request{Scale: scale, Region: image.Rect(v[0], v[1], v[0]+v[2], v[1]+v[3]), Format: raster.Auto}, station.Person(r).ID, station.ID(r, "id"), key)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", pic.Type)
	_, _ = w.Write(pic.Data)
	return nil
}
