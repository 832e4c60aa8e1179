package documents

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// move moves documents to a folder.
func (s *screen) move(w http.ResponseWriter, r *http.Request) error {
	ids := selected(r)
	f, err := s.desk.MoveTo(r.Context(), station.Person(r).ID, ids, station.FormID(r, "to"))
	if err != nil {
		return err
	}
	return s.show(w, r, "here", &station.Message{Text: fmt.Sprintf("%s moved to “%s”.", step.Count(len(ids), "document"), f.Name)})
}

// purge removes a document in the Bin for good.
func (s *screen) purge(w http.ResponseWriter, r *http.Request) error {
	ids := selected(r)
	for _, id := range ids {
		if err := s.desk.Purge(r.Context(), station.Person(r).ID, id); err != nil {
			return err
		}
	}
	return s.show(w, r, "bin", &station.Message{Text: step.Count(len(ids), "document") + " deleted for good, except from earlier backups."})
}

func (s *screen) folders(w http.ResponseWriter, r *http.Request) error {
	return s.show(w, r, "folders", nil)
}

// peopleOf fills in who sees the folders.
func (s *screen) peopleOf(r *http.Request, v *view) (err error) {
	if v.People, err = s.desk.Others(r.Context(), 0); err != nil {
		return err
	}
	v.Chosen = map[uint]string{}
	for _, f := range v.Folders {
		v.Chosen[f.ID] = chosen(f, v.People)
	}
	return nil
}

func (s *screen) makeFolder(w http.ResponseWriter, r *http.Request) error {
	f, err := s.desk.MakeFolderIn(r.Context(), station.Person(r).ID, station.FormID(r, "in"), r.FormValue("name"))
	if err != nil {
		return err
	}
	text := fmt.Sprintf("Folder “%s” created. Everyone can see it.", f.Name)
	if up, err := s.desk.Folder(r.Context(), station.Person(r).ID, f.ParentID); err == nil && up.Closed {
		text = fmt.Sprintf("Folder “%s” created. It is visible to everyone who can see “%s”.", f.Name, up.Name)
	}
	return s.show(w, r, "folders", &station.Message{Text: text})
}

func (s *screen) renameFolder(w http.ResponseWriter, r *http.Request) error {
	f, err := s.desk.RenameFolder(r.Context(), station.Person(r).ID, station.ID(r, "id"), r.FormValue("name"))
	if err != nil {
		return err
	}
	return s.show(w, r, "folders", &station.Message{Text: fmt.Sprintf("Folder renamed to “%s”.", f.Name)})
}

// moveFolder puts a folder into another one: from the list of folders, or dragged in the tree.
func (s *screen) moveFolder(w http.ResponseWriter, r *http.Request) error {
	to := station.FormID(r, "to")
	f, err := s.desk.MoveFolder(r.Context(), station.Person(r).ID, station.ID(r, "id"), to)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("Folder “%s” moved to the top level.", f.Name)
	if to != 0 {
		up, err := s.desk.Folder(r.Context(), station.Person(r).ID, to)
		if err != nil {
			return err
		}
		text = fmt.Sprintf("The folder “%s” is in “%s” now.", f.Name, up.Name)
		if up.Closed {
			text += " It is visible to everyone who can see that folder."
		}
	}
	return s.show(w, r, "folders", &station.Message{Text: text})
}

func (s *screen) removeFolder(w http.ResponseWriter, r *http.Request) error {
	f, err := s.desk.RemoveFolder(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	return s.show(w, r, "folders", &station.Message{Text: fmt.Sprintf("The folder “%s” was removed.", f.Name)})
}

// openFolder says who sees a folder.
func (s *screen) openFolder(w http.ResponseWriter, r *http.Request) error {
	var people []uint
	for _, v := range r.Form["person"] {
		var id uint
		if _, err := fmt.Sscan(v, &id); err == nil {
			people = append(people, id)
		}
	}
	closed := r.FormValue("for") == "chosen"
	if err := s.desk.OpenFolder(r.Context(), station.Person(r).ID, station.ID(r, "id"), closed, people); err != nil {
		return err
	}
	text := "Everyone can see it."
	if closed {
		text = "Only the selected people and administrators can see it."
	}
	return s.show(w, r, "folders", &station.Message{Text: text})
}

// chosen names those who were chosen for a folder, but for administrators.
func chosen(f desk.FolderView, people []desk.Person) string {
	var names []string
	for _, p := range people {
		if p.Role != desk.Administrator && slices.Contains(f.People, p.ID) {
			names = append(names, p.Name)
		}
	}
	return strings.Join(append(names, "administrators"), ", ")
}

// seersView is who sees a document.
type seersView struct {
	Document  *desk.Document
	Everybody bool
	Owner     string
	People    []string // who see it by its folder
	Passed    []desk.Person
	Others    []desk.Person // to whom it can be passed on
}

func (s *screen) seersOf(r *http.Request) (*seersView, error) {
	me, ctx := station.Person(r), r.Context()
	row, err := s.desk.Document(ctx, me.ID, station.ID(r, "id"))
	if err != nil {
		return nil, err
	}
	everybody, people, passed, err := s.desk.Seers(ctx, row)
	if err != nil {
		return nil, err
	}
	all, err := s.desk.Others(ctx, 0)
	if err != nil {
		return nil, err
	}
	v := &seersView{Document: row, Everybody: everybody}
	for _, p := range all {
		switch {
		case p.ID == row.OwnerID:
			v.Owner = p.Name
		case slices.Contains(passed, p.ID):
			v.Passed = append(v.Passed, p)
		case slices.Contains(people, p.ID):
			v.People = append(v.People, p.Name)
		case p.Role != desk.Administrator:
			v.Others = append(v.Others, p)
		}
	}
	return v, nil
}

func (s *screen) seers(w http.ResponseWriter, r *http.Request) error {
	v, err := s.seersOf(r)
	if err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, "seers", v)
}

// passOn lets somebody see a document, or no longer.
func (s *screen) passOn(w http.ResponseWriter, r *http.Request) error {
	me, id := station.Person(r).ID, station.ID(r, "id")
	var err error
	if from := station.FormID(r, "from"); from != 0 {
		err = s.desk.TakeBack(r.Context(), me, id, from)
	} else {
		err = s.desk.PassOn(r.Context(), me, id, station.FormID(r, "to"))
	}
	if err != nil {
		return err
	}
	return s.seers(w, r)
}

// Folders that are offered, and documents in each that are named.
const (
	foldersOffered = 10
	insideNamed    = 4
)

// findFolders answers a field in which a folder is found by a part of its name.
func (s *screen) findFolders(w http.ResponseWriter, r *http.Request) error {
	words := r.FormValue("words")
	if len(words) > 400 {
		words = words[:400]
	}
	list, err := s.desk.FindFolders(r.Context(), station.Person(r).ID, words, foldersOffered, insideNamed)
	if err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, "folder-hits", list)
}
