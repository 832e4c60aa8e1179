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

// maxFolders is how deeply folders are nested.
const maxFolders = 12

// below gives the ids of a folder and of those in it.
func below(tx *gorm.DB, id uint) (ids []uint, err error) {
	err = tx.Raw("WITH RECURSIVE below(id) AS (SELECT ? UNION SELECT folders.id FROM folders JOIN below ON folders.parent_id = below.id) SELECT id FROM below", id).Scan(&ids).Error
	return ids, err
}

// setSeers says who sees a folder and those in it.
func setSeers(tx *gorm.DB, id uint, closed bool, people []uint) error {
	ids, err := below(tx, id)
	if err != nil {
		return err
	}
	if err := tx.Model(&Folder{}).Where("id in ?", ids).Update("closed", closed).Error; err != nil {
		return err
	}
	if err := tx.Delete(&FolderPerson{}, "folder_id in ?", ids).Error; err != nil || !closed {
		return err
	}
	for _, f := range ids {
		for _, p := range people {
			if p == 0 {
				continue
			}
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&FolderPerson{FolderID: f, PersonID: p}).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// seersLike gives a folder, and those in it, the people who see the one it is in, where that is for chosen people.
func seersLike(tx *gorm.DB, id uint, up *FolderView) error {
	if up == nil || !up.Closed {
		return nil
	}
	return setSeers(tx, id, true, up.People)
}

// parent gives the folder that another one is to be in; nil at the top.
func (d *Desk) parent(ctx context.Context, person, id uint) (*FolderView, error) {
	if id == 0 {
		return nil, nil
	}
	up, err := d.Folder(ctx, person, id)
	if err != nil {
		return nil, err
	}
	if up.ID == 0 {
		return nil, step.Refuse("this folder has been deleted")
	}
	if up.Depth+1 >= maxFolders {
		return nil, step.Refuse("folders are nested up to %d deep", maxFolders)
	}
	return up, nil
}

// folderName makes a name fit for a folder.
func folderName(name string) (string, error) {
	if strings.TrimSpace(name) == "" {
		return "", step.Refuse("a folder needs a name")
	}
	return cleanName(name), nil
}

func taken(err error) error {
	if err != nil && strings.Contains(err.Error(), "UNIQUE") {
		return step.Refuse("a folder with this name already exists: use another name")
	}
	return err
}

// MakeFolderIn makes a folder in another one, 0 for the top. Those see it who see that one.
func (d *Desk) MakeFolderIn(ctx context.Context, person, in uint, name string) (*Folder, error) {
	if err := d.may(ctx, person, people.ActFolder, nil); err != nil {
		return nil, err
	}
	name, err := folderName(name)
	if err != nil {
		return nil, err
	}
	up, err := d.parent(ctx, person, in)
	if err != nil {
		return nil, err
	}
	f := &Folder{ParentID: in, Name: name, OwnerID: person}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(f).Error; err != nil {
			return err
		}
		return seersLike(tx, f.ID, up)
	})
	if err := taken(err); err != nil {
		return nil, err
	}
	d.Note(ctx, people.Record{PersonID: person, What: "folder", Detail: "“" + f.Name + "” created"})
	return f, nil
}

// EnsurePath gives the folder that a path of names leads to from another one; what is not there is made.
func (d *Desk) EnsurePath(ctx context.Context, person, from uint, names []string) (uint, error) {
	for _, name := range names {
		if name == "" || name == "." || name == ".." {
			continue
		}
		name = cleanName(name)
		list, err := d.Folders(ctx, person)
		if err != nil {
			return 0, err
		}
		found := uint(0)
		for _, f := range list {
			if f.ParentID == from && strings.EqualFold(f.Name, name) {
				found = f.ID
			}
		}
		if found == 0 {
			f, err := d.MakeFolderIn(ctx, person, from, name)
			var refusal *step.Refusal
			if errors.As(err, &refusal) && strings.Contains(refusal.Sentence, "already") { // another file of the same folder made it meanwhile
				var rows []Folder
				if ferr := d.db.WithContext(ctx).Limit(1).Find(&rows, "parent_id = ? and name = ?", from, name).Error; ferr == nil && len(rows) == 1 {
					found = rows[0].ID
					err = nil
				}
			}
			if err != nil {
				return 0, err
			}
			if f != nil {
				found = f.ID
			}
		}
		from = found
	}
	return from, nil
}

// mine gives a folder that a person may rename, move or remove.
func (d *Desk) mine(ctx context.Context, person, id uint) (*FolderView, error) {
	if err := d.may(ctx, person, people.ActFolder, nil); err != nil {
		return nil, err
	}
	f, err := d.Folder(ctx, person, id)
	if err != nil {
		return nil, err
	}
	if f.ID == 0 {
		return nil, store.ErrMissing
	}
	if !f.Mine {
		return nil, &people.Forbidden{Sentence: "only an administrator or the folder’s owner can change it"}
	}
	return f, nil
}

// RenameFolder gives a folder another name.
func (d *Desk) RenameFolder(ctx context.Context, person, id uint, name string) (*Folder, error) {
	f, err := d.mine(ctx, person, id)
	if err != nil {
		return nil, err
	}
	if name, err = folderName(name); err != nil {
		return nil, err
	}
	if err := taken(d.db.WithContext(ctx).Model(&Folder{ID: id}).Update("name", name).Error); err != nil {
		return nil, err
	}
	d.Note(ctx, people.Record{PersonID: person, What: "folder", Detail: "“" + f.Name + "” renamed to “" + name + "”"})
	f.Folder.Name = name
	return &f.Folder, nil
}

// MoveFolder puts a folder, with what is in it, into another one; 0 for the top.
func (d *Desk) MoveFolder(ctx context.Context, person, id, to uint) (*Folder, error) {
	f, err := d.mine(ctx, person, id)
	if err != nil {
		return nil, err
	}
	up, err := d.parent(ctx, person, to)
	if err != nil {
		return nil, err
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		ids, err := below(tx, id)
		if err != nil {
			return err
		}
		for _, in := range ids {
			if in == to {
				return step.Refuse("“%s” can't be moved into itself", f.Name)
			}
		}
		if err := tx.Model(&Folder{ID: id}).Update("parent_id", to).Error; err != nil {
			return err
		}
		return seersLike(tx, id, up)
	})
	if err := taken(err); err != nil {
		return nil, err
	}
	where := "to the top"
	if up != nil {
		where = "into “" + up.Name + "”"
	}
	d.Note(ctx, people.Record{PersonID: person, What: "folder", Detail: "“" + f.Name + "” moved " + where})
	return &f.Folder, nil
}

// RemoveFolder removes a folder that is empty. Documents of it that are in the Bin come back to where it was.
func (d *Desk) RemoveFolder(ctx context.Context, person, id uint) (*Folder, error) {
	f, err := d.mine(ctx, person, id)
	if err != nil {
		return nil, err
	}
	if f.ParentID == 0 && f.Name == "Documents" {
		return nil, step.Refuse("you can’t change “Documents”, because new files go there")
	}
	home := f.ParentID
	if home == 0 {
		top, err := d.EnsureFolder(ctx, "Documents")
		if err != nil {
			return nil, err
		}
		home = top.ID
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var here, inside int64
		if err := tx.Model(&Document{}).Where("folder_id = ? and away_at is null", id).Count(&here).Error; err != nil {
			return err
		}
		if err := tx.Model(&Folder{}).Where("parent_id = ?", id).Count(&inside).Error; err != nil {
			return err
		}
		if here+inside > 0 {
			return step.Refuse("“%s” is not empty: move or delete its contents first", f.Name)
		}
		var binned int64
		if err := tx.Model(&Document{}).Where("folder_id = ?", id).Count(&binned).Error; err != nil {
			return err
		}
		if binned > 0 && f.Closed { // they would come out among all
			return step.Refuse("the Bin has documents from “%s” that only selected people can see: delete them for good or move them first", f.Name)
		}
		if err := tx.Model(&Document{}).Where("folder_id = ?", id).Update("folder_id", home).Error; err != nil {
			return err
		}
		if err := tx.Delete(&FolderPerson{}, "folder_id = ?", id).Error; err != nil {
			return err
		}
		return tx.Delete(&Folder{}, id).Error
	})
	if err != nil {
		return nil, err
	}
	d.Note(ctx, people.Record{PersonID: person, What: "folder", Detail: "“" + f.Name + "” removed"})
	return &f.Folder, nil
}
