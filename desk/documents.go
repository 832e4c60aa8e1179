package desk

import (
	"context"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"glenrain/core/step"
)

// Documents lists what is in the house, newest change first; away lists what was taken away.
func (d *Desk) Documents(ctx context.Context, away bool) ([]Document, error) {
	q := d.db.WithContext(ctx).Order("changed_at desc, id desc")
	if away {
		q = q.Where("away_at is not null")
	} else {
		q = q.Where("away_at is null")
	}
	var out []Document
	return out, q.Find(&out).Error
}

// Counts tells how many documents there are, how many were taken away and how many
// files were handed out.
func (d *Desk) Counts(ctx context.Context) (here, away, out int64, err error) {
	db := d.db.WithContext(ctx)
	if err = db.Model(&Document{}).Where("away_at is null").Count(&here).Error; err != nil {
		return
	}
	if err = db.Model(&Document{}).Where("away_at is not null").Count(&away).Error; err != nil {
		return
	}
	err = db.Model(&HandOut{}).Count(&out).Error
	return
}

// Document gives a document's row.
func (d *Desk) Document(ctx context.Context, id uint) (*Document, error) {
	var row Document
	if err := d.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return nil, missing(err)
	}
	return &row, nil
}

// Rename gives a document another name.
func (d *Desk) Rename(ctx context.Context, id uint, name string) (*Document, error) {
	name = cleanName(strings.TrimSpace(name))
	return d.setRow(ctx, id, "name", name, func(row *Document) { row.Name = name })
}

// TakeAway puts documents out of sight; BringBack puts them back.
func (d *Desk) TakeAway(ctx context.Context, ids []uint) error {
	now := d.now()
	return d.setAway(ctx, ids, &now)
}

// BringBack undoes TakeAway.
func (d *Desk) BringBack(ctx context.Context, ids []uint) error { return d.setAway(ctx, ids, nil) }

func (d *Desk) setAway(ctx context.Context, ids []uint, at *time.Time) error {
	for _, id := range ids {
		if _, err := d.setRow(ctx, id, "away_at", at, func(row *Document) { row.AwayAt = at }); err != nil {
			return err
		}
	}
	return nil
}

// setRow changes one column of a document, also in the snapshot that is open.
func (d *Desk) setRow(ctx context.Context, id uint, column string, value any, set func(*Document)) (*Document, error) {
	l, done := d.document(id)
	defer done()
	l.mu.Lock()
	defer l.mu.Unlock()
	res := d.db.WithContext(ctx).Model(&Document{}).Where("id = ?", id).Update(column, value)
	if res.Error != nil {
		return nil, res.Error
	}
	if res.RowsAffected == 0 {
		return nil, ErrMissing
	}
	d.mu.Lock()
	if l.snap != nil {
		c := *l.snap
		set(&c.Document)
		l.snap = &c
	}
	d.mu.Unlock()
	return d.Document(ctx, id)
}

// EnsureFolder gives the folder of that name, which is made where there is none.
func (d *Desk) EnsureFolder(ctx context.Context, name string) (*Folder, error) {
	db := d.db.WithContext(ctx)
	var f Folder
	err := db.First(&f, "name = ?", name).Error
	if errors.Is(err, gorm.ErrRecordNotFound) { // two may make it at the same time
		if err = db.Clauses(clause.OnConflict{DoNothing: true}).Create(&Folder{Name: name}).Error; err == nil {
			err = db.First(&f, "name = ?", name).Error
		}
	}
	return &f, err
}

// Folder gives a folder by id; a zero one where there is none.
func (d *Desk) Folder(ctx context.Context, id uint) (*Folder, error) {
	var f Folder
	err := d.db.WithContext(ctx).First(&f, id).Error
	if missing(err) == ErrMissing {
		return &f, nil
	}
	return &f, err
}

// Search gives the documents whose names hold all the words, newest change first.
func (d *Desk) Search(ctx context.Context, text string, most int) ([]Document, error) {
	q := d.db.WithContext(ctx).Where("away_at is null").Order("changed_at desc").Limit(most)
	for w := range strings.FieldsSeq(text) {
		escaped := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(w)
		q = q.Where(`name like ? escape '\'`, "%"+escaped+"%")
	}
	var out []Document
	return out, q.Find(&out).Error
}

// HandOuts lists the files that were handed out, newest first; of one document with id.
func (d *Desk) HandOuts(ctx context.Context, document uint) ([]HandOut, error) {
	q := d.db.WithContext(ctx).Order("at desc, id desc")
	if document != 0 {
		q = q.Where("document_id = ?", document)
	}
	var out []HandOut
	return out, q.Find(&out).Error
}

// HandedOut gives one of them.
func (d *Desk) HandedOut(ctx context.Context, id uint) (*HandOut, error) {
	var h HandOut
	if err := d.db.WithContext(ctx).First(&h, id).Error; err != nil {
		return nil, missing(err)
	}
	return &h, nil
}

// nameTaken reports whether a file was handed out under this name.
func nameTaken(tx *gorm.DB, name string) (bool, error) {
	var n int64
	err := tx.Model(&HandOut{}).Where("lower(name) = lower(?)", name).Count(&n).Error
	return n > 0, err
}

// FreeName gives a name for a copy that nothing was handed out under yet.
func (d *Desk) FreeName(ctx context.Context, name string) (string, error) {
	for i := 1; ; i++ {
		try := name
		if i > 1 {
			try = name + " " + step.Thousands(i)
		}
		taken, err := nameTaken(d.db.WithContext(ctx), try+".pdf")
		if err != nil || !taken {
			return try, err
		}
	}
}
