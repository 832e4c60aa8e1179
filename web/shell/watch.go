package shell

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

const (
	mostWatched = 20               // documents of one window
	mostWindows = 40               // of one person that watch at once
	watchFor    = 20 * time.Minute // until the window asks again
	watchBeat   = 15 * time.Second // so that a connection that is gone is noticed
)

// watch tells a window, as server-sent events, when documents that it shows have changed: the address names them with the states that it shows,
// "docs=3:120,5:88". Each event is the id of a document and its newest state.
func (s *Server) watch(w http.ResponseWriter, r *http.Request) error {
	seen := map[uint]uint{}
	var ids []uint
	for part := range strings.SplitSeq(r.FormValue("docs"), ",") {
		a, b, _ := strings.Cut(part, ":")
		id, err1 := strconv.ParseUint(a, 10, 32)
		state, err2 := strconv.ParseUint(b, 10, 32)
		if err1 != nil || err2 != nil || len(ids) >= mostWatched {
			return step.Refuse("these are no documents to watch")
		}
		if err := s.desk.May(r.Context(), station.Person(r).ID, desk.ActLook, uint(id)); err != nil {
			return err
		}
		ids = append(ids, uint(id))
		seen[uint(id)] = uint(state)
	}
	person := station.Person(r).ID
	s.watchers.Lock()
	if s.watching == nil {
		s.watching = map[uint]int{}
	}
	many := s.watching[person] >= mostWindows
	if !many {
		s.watching[person]++
	}
	s.watchers.Unlock()
	if many {
		return step.Refuse("you have too many windows open: reload this one to see changes")
	}
	defer func() {
		s.watchers.Lock()
		defer s.watchers.Unlock()
		if s.watching[person]--; s.watching[person] == 0 {
			delete(s.watching, person)
		}
	}()
	changed, stop := s.desk.Watch(ids)
	defer stop()
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	flush := http.NewResponseController(w)
	tell := func(id uint) error {
		snap, err := s.desk.Look(r.Context(), station.Person(r).ID, id)
		if err != nil { // it was deleted, or closed to this person
			_, err = fmt.Fprintf(w, "event: gone\ndata: %d\n\n", id)
			return err
		}
		if snap.State.ID == seen[id] {
			return nil
		}
		seen[id] = snap.State.ID
		_, err = fmt.Fprintf(w, "event: moved\ndata: %d:%d\n\n", id, snap.State.ID)
		return err
	}
	if _, err := fmt.Fprint(w, "retry: 3000\n\n"); err != nil {
		return nil // whoever asked has gone
	}
	for _, id := range ids { // what happened before it was watched
		if err := tell(id); err != nil {
			return nil
		}
	}
	beat := time.NewTicker(watchBeat)
	defer beat.Stop()
	end := time.After(watchFor)
	for {
		if err := flush.Flush(); err != nil {
			return nil
		}
		select {
		case id := <-changed:
			if err := tell(id); err != nil {
				return nil
			}
		case <-beat.C:
			if _, err := fmt.Fprint(w, ": here\n\n"); err != nil {
				return nil
			}
		case <-end:
			return nil
		case <-r.Context().Done():
			return nil
		case <-s.closing:
			return nil
		}
	}
}
