package arrange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"glenrain/core/layout"
	"glenrain/core/naming"
	"glenrain/core/nav"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// mostLevels is how many levels of bookmarks are offered to cut at.
const mostLevels = 4

// levels gives the levels of bookmarks that a document has.
func levels(items []*nav.Item) (out []int) {
	for n := 1; n <= mostLevels && len(items) > 0; n++ {
		out = append(out, n)
		var below []*nav.Item
		for _, it := range items {
			below = append(below, it.Kids...)
		}
		items = below
	}
	return out
}

// piece is one of a name, with what it is called.
type piece struct {
	naming.Piece
	Title string
}

type splitView struct {
	Levels  []int
	Pattern []piece
	Fields  []naming.Field
	Folder  desk.FolderView
	Zip     string
	Request string
	Made    *made
	Binned  bool
}

type made struct {
	Documents []desk.Document
	Zip       *desk.HandOut
}

// Piece gives a piece for the templates that are added.
func (v *splitView) Piece(field string) piece { return pieceOf(naming.Piece{Field: field}) }

func pieceOf(p naming.Piece) piece {
	i := slices.IndexFunc(naming.Fields, func(f naming.Field) bool { return f.Name == p.Field })
	if i < 0 {
		return piece{Piece: p}
	}
	return piece{p, naming.Fields[i].Title}
}

func showSplit(v *station.Visit) (any, error) {
	doc := v.Snapshot.PDF.In(v.Request.Context())
	out := &splitView{Levels: levels(nav.Outline(doc)), Fields: naming.Fields}
	usual := []naming.Piece{{Field: "name"}, {Text: " "}, {Field: "number"}}
	if len(out.Levels) > 0 {
		usual = []naming.Piece{{Field: "number"}, {Text: " "}, {Field: "title"}}
	}
	for _, p := range usual {
		out.Pattern = append(out.Pattern, pieceOf(p))
	}
	folders, err := v.Desk.Folders(v.Request.Context(), v.Person.ID)
	if err != nil {
		return nil, err
	}
	if i := slices.IndexFunc(folders, func(f desk.FolderView) bool { return f.ID == v.Snapshot.Document.FolderID }); i >= 0 {
		out.Folder = folders[i]
	}
	if out.Zip, err = v.Desk.FreeName(v.Request.Context(), v.Person.ID, v.Snapshot.Document.Name+", parts"); err != nil {
		return nil, err
	}
	out.Request = v.Request.FormValue("made")
	docs, zip, err := v.Desk.MadeBy(v.Request.Context(), v.Person.ID, out.Request)
	if err != nil {
		return nil, err
	}
	if len(docs) > 0 || zip != nil {
		out.Made = &made{docs, zip}
		out.Binned = len(docs) > 0 && !slices.ContainsFunc(docs, func(d desk.Document) bool { return d.BinnedAt == nil })
	}
	return out, nil
}

// placed are cuts that a rule sets.
type placed struct {
	Cuts   []step.Key          `json:"cuts"`
	Titles map[step.Key]string `json:"titles,omitempty"`
	Skip   []step.Key          `json:"skip,omitempty"` // the first pages of parts that are left out
}

// cuts sets cuts by a rule.
func (s *bench) cuts(w http.ResponseWriter, r *http.Request) error {
	snap, err := s.Desk().Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(r.Context(), 60*time.Second)
	defer cancel()
	out, err := s.place(ctx, r, snap)
	if err != nil {
		return err
	}
	if len(out.Cuts) == 0 {
		return step.Refuse("nothing to split at was found: the document would stay in one part")
	}
	return station.SendJSON(w, out)
}

func (s *bench) place(ctx context.Context, r *http.Request, snap *desk.Snapshot) (out placed, err error) {
	pages := snap.Pages()
	switch by, level, _ := strings.Cut(r.FormValue("by"), " "); by {
	case "level":
		n, err := strconv.Atoi(level)
		if err != nil || n < 1 || n > 64 {
			return out, step.Refuse("that level doesn’t exist")
		}
		out.Cuts, out.Titles = snap.CutsAt(n)
	case "blank":
		blank, err := s.Desk().BlankPages(ctx, snap, nil)
		if err != nil {
			return out, err
		}
		is := map[step.Key]bool{}
		for _, k := range blank {
			is[k] = true
		}
		for i, p := range pages {
			was := i > 0 && is[pages[i-1].Key]
			if i > 0 && is[p.Key] != was {
				out.Cuts = append(out.Cuts, p.Key)
			}
			if is[p.Key] && !was {
				out.Skip = append(out.Skip, p.Key)
			}
		}
	case "text":
		found, err := s.Desk().Find(ctx, snap, layout.Query{Text: r.FormValue("text")})
		if err != nil {
			return out, err
		}
		out.Titles = map[step.Key]string{}
		for _, p := range found.Pages {
			if i := snap.Index(p.Key); i > 0 {
				out.Cuts = append(out.Cuts, p.Key)
			}
			if len(p.Lines) > 0 {
				out.Titles[p.Key] = firstWords(p.Lines[0].Text + p.Lines[0].After)
			}
		}
	case "every":
		n, err := strconv.Atoi(strings.TrimSpace(r.FormValue("every")))
		if err != nil || n < 1 {
			return out, step.Refuse("type the pages per part: a whole number from 1")
		}
		for i := n; i < len(pages); i += n {
			out.Cuts = append(out.Cuts, pages[i].Key)
		}
	case "size":
		mb, err := strconv.ParseFloat(strings.ReplaceAll(strings.TrimSpace(strings.TrimSuffix(strings.ToUpper(strings.TrimSpace(r.FormValue("size"))), "MB")), ",", "."), 64)
		if err != nil || !(mb > 0 && mb < 1e6) {
			return out, step.Refuse("type the most megabytes per part, such as 5 or 0.5")
		}
		if out.Cuts, err = snap.CutsBySize(ctx, int64(mb*1e6)); err != nil {
			return out, err
		}
	default:
		return out, step.Refuse("that way of splitting doesn’t exist")
	}
	return out, nil
}

// firstWords gives the beginning of a text, as a title.
func firstWords(s string) string {
	words := strings.Fields(s)
	for len(words) > 0 && len(strings.Join(words, " ")) > 60 {
		words = words[:len(words)-1]
	}
	return strings.Trim(strings.Join(words, " "), " .,;:")
}

// partView is a part before it is made.
type partView struct {
	Name   string `json:"name"`
	Pages  string `json:"pages"`
	Weight string `json:"weight"`
}

func keysOf(text string) ([]step.Key, error) {
	var out []step.Key
	for word := range strings.FieldsSeq(text) {
		k, err := step.ParseKey(word)
		if err != nil {
			return nil, step.Refuse("there is no page %q", word)
		}
		out = append(out, k)
	}
	return out, nil
}

// parts tells the names, pages and weights of the parts that cuts make.
func (s *bench) parts(w http.ResponseWriter, r *http.Request) error {
	snap, err := s.Desk().Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	cuts, err := keysOf(r.FormValue("cuts"))
	if err != nil {
		return err
	}
	list, err := s.Desk().Parts(r.Context(), snap, cuts)
	if err != nil {
		return err
	}
	pattern, err := naming.Parse([]byte(r.FormValue("pattern")))
	if err != nil {
		return step.Refuse("the names can’t be created: %v", err)
	}
	var titles []string
	_ = json.Unmarshal([]byte(r.FormValue("titles")), &titles) // none is as good
	out := make([]partView, len(list))
	for i, p := range list {
		at := make([]int, 0, p.To-p.From)
		for n := p.From; n < p.To; n++ {
			at = append(at, n)
		}
		v := naming.Values{Name: snap.Document.Name, Pages: step.WriteSet(at), Typed: r.FormValue("typed"), Date: time.Now(), Number: i + 1, Of: len(list)}
		if i < len(titles) {
			v.Title = titles[i]
		}
		out[i] = partView{pattern.Name(v), v.Pages, station.Weight(p.Weight)}
	}
	return station.SendJSON(w, map[string]any{"parts": out})
}

// split makes the parts.
func (s *bench) split(w http.ResponseWriter, r *http.Request) error {
	open, who := station.ID(r, "id"), station.Person(r).ID
	if err := s.Desk().MayStep(r.Context(), who, open, "remove"); err != nil {
		return err
	}
	p := desk.Splitting{Document: open, Seen: station.FormID(r, "_seen"), Person: who, Names: r.Form["name"], Folder: station.FormID(r, "folder")}
	var err error
	if p.Cuts, err = keysOf(r.FormValue("cuts")); err != nil {
		return err
	}
	for _, v := range r.Form["skip"] {
		p.Skip = append(p.Skip, v == "yes")
	}
	if r.FormValue("into") == "zip" {
		if p.Zip = strings.TrimSpace(r.FormValue("zip")); p.Zip == "" {
			return step.Refuse("the zip needs a name")
		}
	}
	p.RequestID = station.RequestID(r.FormValue("_request"), fmt.Sprintf("%+v", p))
	if p.RequestID == "" {
		return step.Refuse("the request has no id of its own")
	}
	work := s.Desk().Start(who, "Splitting", func(ctx context.Context, w *desk.Work) (any, error) {
		if _, err := s.Desk().Split(desk.FromSame(ctx, r.Context()), w, p); err != nil {
			return nil, err
		}
		return fmt.Sprintf("/desk/%d/arrange/split?made=%s", open, p.RequestID), nil
	})
	select { // what can't be done is told at once
	case <-work.Ended():
	case <-time.After(600 * time.Millisecond):
	}
	var conflict *desk.Conflict
	if err := work.Look().Err; errors.As(err, &conflict) || err != nil {
		return err
	}
	return s.Work(w, r, work)
}

// binParts moves the documents that came of a split to the Bin, or restores them: undoing it, and redoing it.
func (s *bench) binParts(w http.ResponseWriter, r *http.Request) error {
	open, who := station.ID(r, "id"), station.Person(r).ID
	if err := s.Desk().MayStep(r.Context(), who, open, "remove"); err != nil {
		return err
	}
	docs, _, err := s.Desk().MadeBy(r.Context(), who, r.FormValue("made"))
	if err != nil {
		return err
	}
	if len(docs) == 0 {
		return desk.ErrMissing
	}
	ids := make([]uint, len(docs))
	for i, d := range docs {
		ids[i] = d.ID
	}
	m := &station.Message{Text: fmt.Sprintf("Undone: %s moved to the Bin.", step.Count(len(ids), "document"))}
	if station.Text(r, "what") == "restore" {
		m.Text = fmt.Sprintf("Redone: %s restored.", step.Count(len(ids), "document"))
		err = s.Desk().Restore(r.Context(), who, ids)
	} else {
		err = s.Desk().Bin(r.Context(), who, ids)
	}
	if err != nil {
		return err
	}
	snap, err := s.Desk().Look(r.Context(), who, open)
	if err != nil {
		return err
	}
	return s.Show(w, r, station.Shown{Snapshot: snap, Place: r.FormValue("_place"), Message: m})
}

// blank lists the blank pages of a document.
func (s *bench) blank(w http.ResponseWriter, r *http.Request) error {
	snap, err := s.Desk().Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(r.Context(), 60*time.Second)
	defer cancel()
	found, err := s.Desk().BlankPages(ctx, snap, nil)
	if err != nil {
		return err
	}
	if found == nil {
		found = []step.Key{}
	}
	return station.SendJSON(w, map[string]any{"pages": found})
}
