package documents

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// combine makes one document of the documents named, in their order; without any, of the list.
func (s *screen) combine(w http.ResponseWriter, r *http.Request) error {
	c := desk.Combination{Documents: selected(r), Name: strings.TrimSpace(r.FormValue("name")), Person: station.Person(r).ID, Marks: r.FormValue("bookmarks"), Moves: r.FormValue("transitions")}
	if !slices.Contains([]string{"", "under one of its name", "as they are", "none"}, c.Marks) || !slices.Contains([]string{"", "keep", "drop"}, c.Moves) {
		return step.Refuse("that way of combining doesn’t exist")
	}
	c.RequestID = station.RequestID(r.FormValue("_request"), fmt.Sprintf("%+v", c))
	make := s.desk.Combine
	n := len(c.Documents)
	if n == 0 && r.FormValue("list") != "" {
		list, err := s.desk.GatheredList(r.Context(), c.Person)
		if err != nil {
			return err
		}
		n, make = len(list.Entries), s.desk.CombineGathered
	} else if n < 2 {
		return step.Refuse("select at least two documents to combine")
	}
	for _, id := range c.Documents { // told at once, and not by the work
		if err := s.desk.May(r.Context(), c.Person, desk.ActLook, id); err != nil {
			return err
		}
	}
	if err := s.desk.May(r.Context(), c.Person, desk.ActAdd, 0); err != nil {
		return err
	}
	return s.Work(w, r, s.desk.Start(c.Person, "Combining "+step.Count(n, "document"), func(ctx context.Context, w *desk.Work) (any, error) {
		d, err := make(desk.FromSame(ctx, r.Context()), w, c)
		if err != nil {
			return nil, err
		}
		return fmt.Sprintf("/desk/%d", d.ID), nil
	}))
}

// gather puts documents on the list of what is to be combined.
func (s *screen) gather(w http.ResponseWriter, r *http.Request) error {
	ids := selected(r)
	for _, id := range ids {
		if err := s.desk.May(r.Context(), station.Person(r).ID, desk.ActLook, id); err != nil {
			return err
		}
	}
	if err := s.desk.May(r.Context(), station.Person(r).ID, desk.ActAdd, 0); err != nil {
		return err
	}
	if len(ids) == 0 {
		return step.Refuse("select documents to add to the list")
	}
	if err := s.desk.Gather(r.Context(), station.Person(r).ID, ids, r.FormValue("pages")); err != nil {
		return err
	}
	return s.list(w, r)
}

// gathered changes the list, and answers with it.
func (s *screen) gathered(w http.ResponseWriter, r *http.Request) error {
	me, ctx := station.Person(r).ID, r.Context()
	if err := s.desk.May(ctx, me, desk.ActAdd, 0); err != nil {
		return err
	}
	var err error
	switch station.Text(r, "what") {
	case "order":
		err = s.desk.OrderGathered(ctx, me, selected(r))
	case "sort":
		err = s.desk.SortGathered(ctx, me, r.FormValue("by"))
	case "pages":
		err = s.desk.GatherPages(ctx, me, station.FormID(r, "entry"), strings.TrimSpace(r.FormValue("pages")))
	case "remove":
		err = s.desk.Ungather(ctx, me, []uint{station.FormID(r, "entry")})
	case "clear":
		err = s.desk.Ungather(ctx, me, nil)
	default:
		err = desk.ErrMissing
	}
	if err != nil {
		return err
	}
	return s.list(w, r)
}

func (s *screen) list(w http.ResponseWriter, r *http.Request) error {
	list, err := s.desk.GatheredList(r.Context(), station.Person(r).ID)
	if err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, "gather-list", &view{List: list})
}
