package arrange

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"glenrain/core/bookmark"
	"glenrain/core/draw"
	"glenrain/core/furnish"
	"glenrain/core/layout"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// markView is a bookmark as the tree shows it.
type markView struct {
	ID    string
	At    string // its place: "2.1"
	Under string // that of the one above it
	Place int    // among those beside it, from 1
	Level int
	Depth int // as the tree is drawn
	Kids  int
	Title string
	Key   string // of the page that it leads to
	Page  string // what that is called
	Lost  bool
}

type marksView struct {
	Items    []markView
	More     int
	Lost     int
	Depths   []int
	Contents []contentsView
	New      contentsView
}

// contentsView is a table of contents as its sentence shows it.
type contentsView struct {
	furnish.ContentsValues
	ID     string
	Stale  bool
	Depths []int
	Fonts  []string
}

// Points writes the size of its font.
func (v contentsView) Points() string {
	return strconv.FormatFloat(float64(v.Size), 'f', -1, 64) + " pt"
}

// Millimetres writes its margin.
func (v contentsView) Millimetres() string {
	return pdf.Millimetres(float64(v.Margin))
}

// mostMarks is how many bookmarks the tree shows.
const mostMarks = 4000

func showMarks(v *station.Visit) (any, error) {
	doc := v.Snapshot.PDF.In(v.Request.Context())
	out := &marksView{Depths: []int{1, 2, 3, 4, 5, 6}}
	labels := v.Snapshot.Labels()
	called := func(i int) string {
		if labels != nil {
			return labels[i]
		}
		return strconv.Itoa(i + 1)
	}
	var walk func([]*nav.Item, nav.Path)
	walk = func(list []*nav.Item, under nav.Path) {
		for i, it := range list {
			lost := it.Lost(doc)
			if lost {
				out.Lost++
			}
			path := append(append(nav.Path{}, under...), i+1)
			if len(out.Items) >= mostMarks {
				out.More++
			} else {
				m := markView{At: path.String(), Under: under.String(), Place: i + 1, Level: len(path), Depth: min(len(path)-1, 11), Kids: len(it.Kids), Title: it.Title, Lost: lost}
				m.ID = fmt.Sprint(len(out.Items) + 1)
				if page, _ := it.Leads(doc); !page.IsZero() {
					n := doc.PageIndex(page)
					m.Key, m.Page = v.Snapshot.Keys.Key(page).String(), called(n)
				}
				out.Items = append(out.Items, m)
			}
			walk(it.Kids, path)
		}
	}
	walk(nav.Outline(doc), nil)
	of := func(v furnish.ContentsValues) contentsView {
		return contentsView{ContentsValues: v, Depths: out.Depths, Fonts: []string{"Sans", "Serif"}}
	}
	for _, p := range draw.List(doc) {
		if values, ok := furnish.ReadContents(p); ok {
			c := of(*values)
			c.ID, c.Stale = p.ID, p.Stale
			out.Contents = append(out.Contents, c)
		}
	}
	out.New = of(furnish.UsualContents())
	return out, nil
}

// headView is a heading as scripts get it.
type headView struct {
	Title string  `json:"title"`
	Level int     `json:"level"`
	Page  string  `json:"page"`
	Top   float64 `json:"top"` // points from the upper edge
}

// headings finds the headings of a document, or offers the lines of one page that are set larger than the rest.
func (s *bench) headings(w http.ResponseWriter, r *http.Request) error {
	snap, err := s.Desk().Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	out := []headView{}
	if key := r.FormValue("page"); key != "" {
		k, err := step.ParseKey(key)
		if err != nil {
			return desk.ErrMissing
		}
		if out, err = s.headsOf(r.Context(), snap, k); err != nil {
			return err
		}
		return station.SendJSON(w, map[string]any{"headings": out})
	}
	levels, err := strconv.Atoi(r.FormValue("levels"))
	if err != nil || levels < 1 || levels > 6 {
		levels = 3
	}
	ctx, cancel := context.WithTimeout(r.Context(), 90*time.Second)
	defer cancel()
	list, err := bookmark.Headings(ctx, snap.PDF.In(ctx), snap.Keys, levels, nil)
	if err != nil {
		return err
	}
	for _, e := range list {
		out = append(out, headView{e.Title, e.Level, e.Page.String(), float64(e.Top)})
	}
	return station.SendJSON(w, map[string]any{"headings": out})
}

// mostOffered is how many lines of a page are offered as titles.
const mostOffered = 8

func (s *bench) headsOf(ctx context.Context, snap *desk.Snapshot, k step.Key) ([]headView, error) {
	page, g, err := s.Desk().ReadPage(ctx, snap, k)
	if err != nil {
		return nil, err
	}
	out := []headView{}
	for _, h := range layout.Standing(page, mostOffered) {
		out = append(out, headView{h.Text, 1, k.String(), topOf(g, h.Top)})
	}
	return out, nil
}

// topOf gives how far a height in user space is below the upper edge of a page, in points.
func topOf(g pdf.Geometry, y float64) float64 { return max(0, (g.Visible.Y1-y)*g.UserUnit) }
