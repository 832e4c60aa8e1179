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

// Listing asks for a part of a list, newest first: so many rows behind one that was given before.
type Listing struct {
	Binned bool // documents in the Bin instead of those in the house
	After  uint // the id of the row before the first that is wanted; 0 from the newest on
	Most   int
}

// Documents lists what is in the house, newest change first.
func (d *Desk) Documents(ctx context.Context, l Listing) ([]Document, error) {
	q := d.db.WithContext(ctx).Order("changed_at desc, id desc").Limit(l.Most)
	if l.Binned {
		q = q.Where("away_at is not null")
	} else {
		q = q.Where("away_at is null")
	}
	if l.After != 0 {
		q = q.Where("(changed_at, id) < (select changed_at, id from documents where id = ?)", l.After)
	}
	var out []Document
	return out, q.Find(&out).Error
}

// Counts tells how many documents there are, how many are in the Bin and how many
// files were handed out.
func (d *Desk) Counts(ctx context.Context) (here, binned, out int64, err error) {
	db := d.db.WithContext(ctx)
	if err = db.Model(&Document{}).Where("away_at is null").Count(&here).Error; err != nil {
		return
	}
	if err = db.Model(&Document{}).Where("away_at is not null").Count(&binned).Error; err != nil {
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
func (d *Desk) Rename(ctx context.Context, person, id uint, name string) (*Document, error) {
	name = cleanName(strings.TrimSpace(name))
	return d.setRow(ctx, person, ActRename, id, map[string]any{"name": name, "name_key": nameKey(name)}, func(row *Document) { row.Name, row.NameKey = name, nameKey(name) })
}

// nameKey is what names are compared and looked for by.
func nameKey(name string) string { return strings.ToLower(name) }

// Bin puts documents into the Bin; Restore takes them out of it.
func (d *Desk) Bin(ctx context.Context, person uint, ids []uint) error {
	now := d.now()
	return d.setBinned(ctx, person, ids, &now)
}

// Restore undoes Bin.
func (d *Desk) Restore(ctx context.Context, person uint, ids []uint) error {
	return d.setBinned(ctx, person, ids, nil)
}

func (d *Desk) setBinned(ctx context.Context, person uint, ids []uint, at *time.Time) error {
	for _, id := range ids {
		if _, err := d.setRow(ctx, person, ActBin, id, map[string]any{"away_at": at}, func(row *Document) { row.BinnedAt = at }); err != nil {
			return err
		}
	}
	return nil
}

// setRow changes columns of a document, also in the snapshot that is open.
func (d *Desk) setRow(ctx context.Context, person uint, act Act, id uint, columns map[string]any, set func(*Document)) (*Document, error) {
	l, done := d.document(id)
	defer done()
	if err := l.lock(ctx); err != nil {
		return nil, err
	}
	defer l.unlock()
	row, err := d.Document(ctx, id)
	if err == nil {
		err = d.may(ctx, person, act, row)
	}
	if err != nil {
		return nil, err
	}
	if err := d.db.WithContext(ctx).Model(&Document{}).Where("id = ?", id).Updates(columns).Error; err != nil {
		return nil, err
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
	q := d.db.WithContext(ctx).Where("away_at is null").Order("changed_at desc, id desc").Limit(most)
	for w := range strings.FieldsSeq(nameKey(text)) {
		q = q.Where(`name_key like ? escape '\'`, "%"+escapeLike(w)+"%")
	}
	var out []Document
	return out, q.Find(&out).Error
}

func escapeLike(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}

// HandOuts lists files that were handed out, newest first: of all documents, or of one.
func (d *Desk) HandOuts(ctx context.Context, document uint, l Listing) ([]HandOut, error) {
	q := d.db.WithContext(ctx).Order("at desc, id desc").Limit(l.Most)
	if document != 0 {
		q = q.Where("document_id = ?", document)
	}
	if l.After != 0 {
		q = q.Where("(at, id) < (select at, id from hand_outs where id = ?)", l.After)
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

// nameTaken refuses a name that a file was handed out under.
func nameTaken(tx *gorm.DB, name string) error {
	var n int64
	if err := tx.Model(&HandOut{}).Where("name_key = ?", nameKey(name)).Limit(1).Count(&n).Error; err != nil || n == 0 {
		return err
	}
	return step.Refuse("something was handed out under the name “%s” already: use another name", trimPDF(name))
}

// FreeName gives a name for a copy that nothing was handed out under yet.
func (d *Desk) FreeName(ctx context.Context, name string) (string, error) {
	for i := 1; ; i++ {
		try := name
		if i > 1 {
			try = name + " " + step.Thousands(i)
		}
		err := nameTaken(d.db.WithContext(ctx), try+".pdf")
		var taken *step.Refusal
		if !errors.As(err, &taken) {
			return try, err
		}
	}
}
