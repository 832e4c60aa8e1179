package desk

import (
	"context"
	"errors"
	"strings"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// Folder is a place for documents: open to the house, or closed to all but chosen people.
type Folder struct {
	ID       uint
	ParentID uint   `gorm:"uniqueIndex:folders_in,priority:1;default:0"` // the folder it is in; 0 at the top
	Name     string `gorm:"uniqueIndex:folders_in,priority:2"`
	OwnerID  uint   // who made it; 0 for the house's own
	Closed   bool   // only for those in FolderPerson, the owners of documents in it, and administrators
}

// FolderPerson lets a person into a closed folder.
type FolderPerson struct {
	FolderID uint `gorm:"primaryKey;autoIncrement:false"`
	PersonID uint `gorm:"primaryKey;autoIncrement:false;index"`
}

// PassedOn lets a person see a document wherever it is.
type PassedOn struct {
	DocumentID uint `gorm:"primaryKey;autoIncrement:false"`
	PersonID   uint `gorm:"primaryKey;autoIncrement:false;index"`
	By         uint
}

// EnsureFolder gives the folder of that name, which is made where there is none: the house's own, open to all.
func (d *Desk) EnsureFolder(ctx context.Context, name string) (*Folder, error) {
	db := d.db.WithContext(ctx)
	var f Folder
	err := db.First(&f, "name = ? and parent_id = 0", name).Error
	if errors.Is(err, gorm.ErrRecordNotFound) { // two may make it at the same time
		if err = db.Clauses(clause.OnConflict{DoNothing: true}).Create(&Folder{Name: name}).Error; err == nil {
			err = db.First(&f, "name = ? and parent_id = 0", name).Error
		}
	}
	return &f, err
}

// FolderView is a folder as lists show it.
type FolderView struct {
	Folder
	Documents int
	People    []uint // who were chosen, where it is closed
	Mine      bool   // may rename and move it, and say who sees it
	Depth     int    // 0 at the top
	Path      string // "Berths / Winter 2027"
}

// Folders lists the folders that a person may see, as a tree: each before those in it, by name.
func (d *Desk) Folders(ctx context.Context, person uint) ([]FolderView, error) {
	p, err := d.Person(ctx, person)
	if err != nil {
		return nil, people.ErrNobody
	}
	q := d.db.WithContext(ctx).Model(&Folder{}).Order("name collate nocase")
	if p.Role != people.Administrator {
		q = q.Where("NOT closed OR owner_id = ? OR id IN (SELECT folder_id FROM folder_people WHERE person_id = ?)", person, person)
	}
	var rows []Folder
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	var chosen []FolderPerson
	if err := d.db.WithContext(ctx).Find(&chosen).Error; err != nil {
		return nil, err
	}
	selected := map[uint][]uint{}
	for _, c := range chosen {
		selected[c.FolderID] = append(selected[c.FolderID], c.PersonID)
	}
	seen := map[uint]bool{}
	for _, f := range rows {
		seen[f.ID] = true
	}
	in := map[uint][]Folder{}
	for _, f := range rows {
		if !seen[f.ParentID] { // the one it is in is not seen
			f.ParentID = 0
		}
		in[f.ParentID] = append(in[f.ParentID], f)
	}
	var out []FolderView
	var add func(parent uint, depth int, path string)
	add = func(parent uint, depth int, path string) {
		for _, f := range in[parent] {
			v := FolderView{Folder: f, Mine: p.Role == people.Administrator || p.Role.Allows(people.ActFolder) && f.OwnerID == person, People: selected[f.ID], Depth: depth, Path: path + f.Name}
			out = append(out, v)
			if depth < maxFolders {
				add(f.ID, depth+1, v.Path+" / ")
			}
		}
	}
	add(0, 0, "")
	return out, nil
}

// CountFolders fills in how many documents that a person may see are in each folder.
func (d *Desk) CountFolders(ctx context.Context, person uint, list []FolderView) error {
	in, args, err := d.Scoped(ctx, person, "documents")
	if err != nil {
		return err
	}
	var rows []struct {
		FolderID uint
		N        int
	}
	if err := d.db.WithContext(ctx).Model(&Document{}).Select("folder_id, count(*) n").Where("away_at is null").Where(in, args...).Group("folder_id").Scan(&rows).Error; err != nil {
		return err
	}
	n := map[uint]int{}
	for _, r := range rows {
		n[r.FolderID] = r.N
	}
	for i := range list {
		list[i].Documents = n[list[i].ID]
	}
	return nil
}

// Folder gives a folder that a person may see; a zero one where there is none.
func (d *Desk) Folder(ctx context.Context, person, id uint) (*FolderView, error) {
	list, err := d.Folders(ctx, person)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].ID == id {
			return &list[i], nil
		}
	}
	return &FolderView{}, nil
}

// FolderName gives a folder's name to somebody who sees a document in it.
func (d *Desk) FolderName(ctx context.Context, id uint) (string, error) {
	var f Folder
	err := d.db.WithContext(ctx).Limit(1).Find(&f, "id = ?", id).Error
	return f.Name, err
}

// MakeFolder makes a folder that is open to the house.
func (d *Desk) MakeFolder(ctx context.Context, person uint, name string) (*Folder, error) {
	return d.MakeFolderIn(ctx, person, 0, name)
}

// OpenFolder says who sees a folder: the house, or the people chosen.
func (d *Desk) OpenFolder(ctx context.Context, person, id uint, closed bool, selected []uint) error {
	if err := d.may(ctx, person, people.ActFolder, nil); err != nil {
		return err
	}
	f, err := d.Folder(ctx, person, id)
	if err != nil {
		return err
	}
	if f.ID == 0 {
		return store.ErrMissing
	}
	if !f.Mine {
		return &people.Forbidden{Sentence: "only an administrator or the folder’s owner can change who sees it"}
	}
	if f.ParentID != 0 {
		if up, err := d.Folder(ctx, person, f.ParentID); err == nil && up.Closed {
			return step.Refuse("“%s” is in “%s”, which is restricted: change who sees it there", f.Name, up.Name)
		}
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		return setSeers(tx, id, closed, append([]uint{f.OwnerID}, selected...))
	})
	if err != nil {
		return err
	}
	what := "“" + f.Name + "” is visible to everyone"
	if closed {
		what = "“" + f.Name + "” is for " + step.Count(len(selected), "selected person")
		what = strings.Replace(what, "persons", "people", 1)
	}
	d.Note(ctx, people.Record{PersonID: person, What: "folder", Detail: what})
	return nil
}

// MoveTo moves documents to a folder.
func (d *Desk) MoveTo(ctx context.Context, person uint, ids []uint, folder uint) (*Folder, error) {
	f, err := d.Folder(ctx, person, folder)
	if err != nil {
		return nil, err
	}
	if f.ID == 0 {
		return nil, step.Refuse("this folder has been deleted")
	}
	for _, id := range ids {
		row, err := d.setRow(ctx, person, people.ActMove, id, map[string]any{"folder_id": folder}, func(row *Document) { row.FolderID = folder })
		if err != nil {
			return nil, err
		}
		d.Note(ctx, people.Record{PersonID: person, What: "moved", DocumentID: id, Document: row.Name, Detail: "to “" + f.Name + "”"})
	}
	return &f.Folder, nil
}

// PassOn lets a person see a document, wherever it is.
func (d *Desk) PassOn(ctx context.Context, person, document, to uint) error {
	row, err := d.row(ctx, document)
	if err == nil {
		err = d.may(ctx, person, people.ActPass, row)
	}
	if err != nil {
		return err
	}
	p, err := d.Person(ctx, to)
	if err != nil {
		return step.Refuse("choose who to share the document with")
	}
	if err := d.db.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(&PassedOn{DocumentID: document, PersonID: to, By: person}).Error; err != nil {
		return err
	}
	d.Note(ctx, people.Record{PersonID: person, What: "passed on", DocumentID: document, Document: row.Name, Detail: "to " + p.Name})
	return nil
}

// TakeBack undoes PassOn.
func (d *Desk) TakeBack(ctx context.Context, person, document, from uint) error {
	row, err := d.row(ctx, document)
	if err == nil {
		err = d.may(ctx, person, people.ActPass, row)
	}
	if err != nil {
		return err
	}
	if err := d.db.WithContext(ctx).Delete(&PassedOn{}, "document_id = ? and person_id = ?", document, from).Error; err != nil {
		return err
	}
	d.Note(ctx, people.Record{PersonID: person, What: "passed on", DocumentID: document, Document: row.Name, Detail: "no longer to " + d.NameOf(ctx, from)})
	return nil
}

// Seers tells who sees a document besides administrators: everybody who may sign in, or those named, each by id.
func (d *Desk) Seers(ctx context.Context, document *Document) (everybody bool, people []uint, passed []uint, err error) {
	var f Folder
	if err := d.db.WithContext(ctx).Limit(1).Find(&f, "id = ?", document.FolderID).Error; err != nil {
		return false, nil, nil, err
	}
	if err := d.db.WithContext(ctx).Model(&PassedOn{}).Where("document_id = ?", document.ID).Pluck("person_id", &passed).Error; err != nil {
		return false, nil, nil, err
	}
	if !f.Closed {
		return true, nil, passed, nil
	}
	err = d.db.WithContext(ctx).Model(&FolderPerson{}).Where("folder_id = ?", f.ID).Pluck("person_id", &people).Error
	return false, people, passed, err
}

// FolderHit is a folder that was looked for, with the names of some that is in it.
type FolderHit struct {
	FolderView
	Inside []string
}

// FindFolders gives folders whose path has all the words, each with the names of the documents in it that were changed last.
func (d *Desk) FindFolders(ctx context.Context, person uint, words string, most, inside int) ([]FolderHit, error) {
	all, err := d.Folders(ctx, person)
	if err != nil {
		return nil, err
	}
	var out []FolderHit
	for _, f := range all {
		path := nameKey(f.Path)
		fits := true
		for w := range strings.FieldsSeq(nameKey(words)) {
			fits = fits && strings.Contains(path, w)
		}
		if !fits || len(out) == most {
			continue
		}
		docs, err := d.Documents(ctx, Listing{Person: person, Folder: f.ID, Most: inside})
		if err != nil {
			return nil, err
		}
		hit := FolderHit{FolderView: f}
		for _, row := range docs {
			hit.Inside = append(hit.Inside, row.Name)
		}
		out = append(out, hit)
	}
	return out, nil
}
