package desk

import (
	"context"
	"errors"
	"os"
	"strings"
	"time"

	"gorm.io/gorm"

	"glenrain/core/step"
)

// Listing asks for a part of a list, newest first: so many rows behind one that was given before.
type Listing struct {
	Person uint // who asks: what they may not see is not listed
	Binned bool // documents in the Bin instead of those in the house
	Folder uint // only those of a folder; 0 for all
	After  uint // the id of the row before the first that is wanted; 0 from the newest on
	Most   int
}

// Documents lists what is in the house, newest change first.
func (d *Desk) Documents(ctx context.Context, l Listing) ([]Document, error) {
	in, args, err := d.scoped(ctx, l.Person, "documents")
	if err != nil {
		return nil, err
	}
	q := d.db.WithContext(ctx).Where(in, args...).Order("changed_at desc, id desc").Limit(l.Most)
	if l.Folder != 0 {
		q = q.Where("folder_id = ?", l.Folder)
	}
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

// Counts tells how many documents there are for a person, how many are in the Bin and how many
// files were handed out.
func (d *Desk) Counts(ctx context.Context, person uint) (here, binned, out int64, err error) {
	p, err := d.Person(ctx, person)
	if err != nil {
		return 0, 0, 0, ErrNobody
	}
	in, args := scope(p, "documents")
	db := d.db.WithContext(ctx)
	if err = db.Model(&Document{}).Where("away_at is null").Where(in, args...).Count(&here).Error; err != nil {
		return
	}
	if err = db.Model(&Document{}).Where("away_at is not null").Where(in, args...).Count(&binned).Error; err != nil {
		return
	}
	outs := db.Model(&HandOut{})
	if p.Role != Administrator { // all of them are counted without being looked at
		in, args = handedOutOf(p)
		outs = outs.Where(in, args...)
	}
	err = outs.Count(&out).Error
	return
}

// row gives a document's row, to whomever it may belong.
func (d *Desk) row(ctx context.Context, id uint) (*Document, error) {
	var row Document
	if err := d.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return nil, missing(err)
	}
	return &row, nil
}

// Rename gives a document another name.
func (d *Desk) Rename(ctx context.Context, person, id uint, name string) (*Document, error) {
	name = cleanName(strings.TrimSpace(name))
	was, err := d.row(ctx, id)
	if err != nil {
		return nil, err
	}
	row, err := d.setRow(ctx, person, ActRename, id, map[string]any{"name": name, "name_key": nameKey(name)}, func(row *Document) { row.Name, row.NameKey = name, nameKey(name) })
	if err == nil {
		d.note(ctx, Record{PersonID: person, What: "renamed", DocumentID: id, Document: row.Name, Detail: "was “" + was.Name + "”"})
	}
	return row, err
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
		act, what := ActBin, "deleted"
		if at == nil {
			act, what = ActRestore, "restored"
		}
		row, err := d.setRow(ctx, person, act, id, map[string]any{"away_at": at}, func(row *Document) { row.BinnedAt = at })
		if err != nil {
			return err
		}
		d.note(ctx, Record{PersonID: person, What: what, DocumentID: id, Document: row.Name})
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
	row, err := d.row(ctx, id)
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
	return d.row(ctx, id)
}

// Search gives the documents whose names hold all the words, newest change first.
func (d *Desk) Search(ctx context.Context, person uint, text string, most int) ([]Document, error) {
	in, args, err := d.scoped(ctx, person, "documents")
	if err != nil {
		return nil, err
	}
	q := d.db.WithContext(ctx).Where(in, args...).Where("away_at is null").Order("changed_at desc, id desc").Limit(most)
	for w := range strings.FieldsSeq(nameKey(text)) {
		q = q.Where(`name_key like ? escape '\'`, "%"+escapeLike(w)+"%")
	}
	var out []Document
	return out, q.Find(&out).Error
}

func escapeLike(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}

// HandOuts lists files that were handed out, newest first: of all documents that a person may open, or of one.
func (d *Desk) HandOuts(ctx context.Context, document uint, l Listing) ([]HandOut, error) {
	p, err := d.Person(ctx, l.Person)
	if err != nil {
		return nil, ErrNobody
	}
	in, args := handedOutOf(p)
	q := d.db.WithContext(ctx).Where(in, args...).Order("at desc, id desc").Limit(l.Most)
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
func (d *Desk) HandedOut(ctx context.Context, person, id uint) (*HandOut, error) {
	h, err := d.handedOut(ctx, id)
	if err != nil {
		return nil, err
	}
	row, err := d.row(ctx, h.DocumentID)
	if err != nil {
		return nil, err
	}
	return h, d.may(ctx, person, ActDownload, row)
}

func (d *Desk) handedOut(ctx context.Context, id uint) (*HandOut, error) {
	var h HandOut
	if err := d.db.WithContext(ctx).First(&h, id).Error; err != nil {
		return nil, missing(err)
	}
	return &h, nil
}

// OpenHandedOut opens such a file for a person, and notes it in the record; OpenOriginal, the original of a document.
func (d *Desk) OpenHandedOut(ctx context.Context, person, id uint) (*os.File, string, error) {
	h, err := d.HandedOut(ctx, person, id)
	if err != nil {
		return nil, "", err
	}
	f, err := d.openKept(h.SHA)
	if err == nil {
		d.Downloaded(ctx, person, h.DocumentID, h.Name, "a file that was handed out")
	}
	return f, h.Name, err
}

// OpenOriginal opens a document's original for a person, and notes it in the record.
func (d *Desk) OpenOriginal(ctx context.Context, person, id uint) (*os.File, string, error) {
	row, err := d.row(ctx, id)
	if err == nil {
		err = d.may(ctx, person, ActDownload, row)
	}
	if err != nil {
		return nil, "", err
	}
	f, err := d.openKept(row.OriginalSHA)
	if err == nil {
		d.Downloaded(ctx, person, row.ID, row.Name, "the original")
	}
	return f, row.OriginalName, err
}

func (d *Desk) openKept(sha string) (*os.File, error) {
	f, err := d.Store.Open(sha)
	if os.IsNotExist(err) {
		err = ErrMissing
	}
	return f, err
}

// nameTaken refuses a name that a file was handed out under which a person may see.
func (d *Desk) nameTaken(ctx context.Context, tx *gorm.DB, person uint, name string) error {
	p, err := d.Person(ctx, person)
	if err != nil {
		return ErrNobody
	}
	in, args := handedOutOf(p)
	var n int64
	if err := tx.Model(&HandOut{}).Where("name_key = ?", nameKey(name)).Where(in, args...).Limit(1).Count(&n).Error; err != nil || n == 0 {
		return err
	}
	return step.Refuse("something was handed out under the name “%s” already: use another name", trimPDF(name))
}

// FreeName gives a name for a copy that nothing was handed out under yet.
func (d *Desk) FreeName(ctx context.Context, person uint, name string) (string, error) {
	for i := 1; ; i++ {
		try := name
		if i > 1 {
			try = name + " " + step.Thousands(i)
		}
		err := d.nameTaken(ctx, d.db.WithContext(ctx), person, try+".pdf")
		var taken *step.Refusal
		if !errors.As(err, &taken) {
			return try, err
		}
	}
}
