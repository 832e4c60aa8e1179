package desk

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// Listing asks for a part of a list: so many rows behind one that was given before.
type Listing struct {
	Person uint   // who asks: what they may not see is not listed
	Binned bool   // documents in the Bin instead of those in the house
	Folder uint   // only those of a folder; 0 for all
	Below  bool   // of the folders in it too
	Trait  string // only those that have it
	Words  string // only those whose names have them
	Sort   Sort
	After  uint // the id of the row before the first that is wanted; 0 from the first on
	Most   int
}

// Sort is what a list of documents is sorted by.
type Sort string

// The orders there are.
const (
	ByChange Sort = "" // newest first
	ByName   Sort = "name"
	ByPages  Sort = "pages"  // most first
	ByWeight Sort = "weight" // heaviest first
)

// orders are the columns of each order, and whether it goes down.
var orders = map[Sort]struct {
	column string
	down   bool
}{ByChange: {"changed_at", true}, ByName: {"sort_key", false}, ByPages: {"pages", true}, ByWeight: {"weight", true}}

// listed gives the rows of a list, without their order.
func (d *Desk) listed(ctx context.Context, l Listing) (*gorm.DB, error) {
	in, args, err := d.Scoped(ctx, l.Person, "documents")
	if err != nil {
		return nil, err
	}
	q := d.db.WithContext(ctx).Model(&Document{}).Where(in, args...)
	switch {
	case l.Folder != 0 && l.Below:
		q = q.Where("folder_id IN (WITH RECURSIVE below(id) AS (SELECT ? UNION SELECT folders.id FROM folders JOIN below ON folders.parent_id = below.id) SELECT id FROM below)", l.Folder)
	case l.Folder != 0:
		q = q.Where("folder_id = ?", l.Folder)
	}
	if l.Trait != "" {
		q = q.Where("documents.id IN (SELECT document_id FROM traits WHERE kind = ?)", l.Trait)
	}
	for w := range strings.FieldsSeq(nameKey(l.Words)) {
		q = q.Where(`name_key like ? escape '\'`, "%"+store.EscapeLike(w)+"%")
	}
	if l.Binned {
		return q.Where("away_at is not null"), nil
	}
	return q.Where("away_at is null"), nil
}

// CountDocuments tells how many rows a list has.
func (d *Desk) CountDocuments(ctx context.Context, l Listing) (n int64, err error) {
	q, err := d.listed(ctx, l)
	if err != nil {
		return 0, err
	}
	return n, q.Count(&n).Error
}

// Documents lists what is in the house.
func (d *Desk) Documents(ctx context.Context, l Listing) ([]Document, error) {
	q, err := d.listed(ctx, l)
	if err != nil {
		return nil, err
	}
	o, ok := orders[l.Sort]
	if !ok {
		o = orders[ByChange]
	}
	way, after := "asc", ">"
	if o.down {
		way, after = "desc", "<"
	}
	q = q.Order(o.column + " " + way + ", id " + way).Limit(l.Most)
	if l.After != 0 {
		q = q.Where("("+o.column+", id) "+after+" (select "+o.column+", id from documents where id = ?)", l.After)
	}
	var out []Document
	return out, q.Find(&out).Error
}

// Counts tells how many documents there are for a person, how many are in the Bin and how many
// files were handed out.
func (d *Desk) Counts(ctx context.Context, person uint) (here, binned, out int64, err error) {
	in, args, err := d.Scoped(ctx, person, "documents")
	if err != nil {
		return 0, 0, 0, err
	}
	db := d.db.WithContext(ctx)
	if err = db.Model(&Document{}).Where("away_at is null").Where(in, args...).Count(&here).Error; err != nil {
		return
	}
	if err = db.Model(&Document{}).Where("away_at is not null").Where(in, args...).Count(&binned).Error; err != nil {
		return
	}
	if in, args, err = d.handedOutOf(ctx, person); err != nil {
		return
	}
	outs := db.Model(&HandOut{})
	if in != people.Everything { // all of them are counted without being looked at
		outs = outs.Where(in, args...)
	}
	err = outs.Count(&out).Error
	return
}

// row gives a document's row, to whomever it may belong.
func (d *Desk) row(ctx context.Context, id uint) (*Document, error) {
	var row Document
	if err := d.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return nil, store.Missing(err)
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
	columns := map[string]any{"name": name, "name_key": nameKey(name), "sort_key": sortKey(name)}
	row, err := d.setRow(ctx, person, people.ActRename, id, columns, func(row *Document) { row.Name, row.NameKey, row.SortKey = name, nameKey(name), sortKey(name) })
	if err == nil {
		d.Note(ctx, people.Record{PersonID: person, What: "renamed", DocumentID: id, Document: row.Name, Detail: "was “" + was.Name + "”"})
	}
	return row, err
}

// nameKey is what names are compared and looked for by.
func nameKey(name string) string { return strings.ToLower(name) }

// sortKey is what names are sorted by: in lower case, each number with as many digits as any other, so that 2 comes before 10.
func sortKey(name string) string {
	const digits = 12
	var b strings.Builder
	key := nameKey(name)
	for i := 0; i < len(key); {
		j := i
		for j < len(key) && key[j] >= '0' && key[j] <= '9' {
			j++
		}
		if j == i {
			b.WriteByte(key[i])
			i++
			continue
		}
		number := strings.TrimLeft(key[i:j], "0")
		b.WriteString(strings.Repeat("0", max(0, digits-len(number))) + number)
		i = j
	}
	return b.String()
}

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
		act, what := people.ActBin, "deleted"
		if at == nil {
			act, what = people.ActRestore, "restored"
		}
		row, err := d.setRow(ctx, person, act, id, map[string]any{"away_at": at}, func(row *Document) { row.BinnedAt = at })
		if err != nil {
			return err
		}
		d.Note(ctx, people.Record{PersonID: person, What: what, DocumentID: id, Document: row.Name})
		d.watch.moved(id)
	}
	return nil
}

// setRow changes columns of a document, also in the snapshot that is open.
func (d *Desk) setRow(ctx context.Context, person uint, act people.Act, id uint, columns map[string]any, set func(*Document)) (*Document, error) {
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
	in, args, err := d.Scoped(ctx, person, "documents")
	if err != nil {
		return nil, err
	}
	q := d.db.WithContext(ctx).Where(in, args...).Where("away_at is null").Order("changed_at desc, id desc").Limit(most)
	for w := range strings.FieldsSeq(nameKey(text)) {
		q = q.Where(`name_key like ? escape '\'`, "%"+store.EscapeLike(w)+"%")
	}
	var out []Document
	return out, q.Find(&out).Error
}

// HandOuts lists files that were handed out, newest first: of all documents that a person may open, or of one.
func (d *Desk) HandOuts(ctx context.Context, document uint, l Listing) ([]HandOut, error) {
	in, args, err := d.handedOutOf(ctx, l.Person)
	if err != nil {
		return nil, err
	}
	q := d.db.WithContext(ctx).Where(in, args...).Order("at desc, id desc").Limit(l.Most)
	if document != 0 {
		q = q.Where("document_id = ?", document)
	}
	if l.After != 0 {
		q = q.Where("(at, id) < (select at, id from hand_outs where id = ?)", l.After)
	}
	var out []HandOut
	if err := q.Find(&out).Error; err != nil {
		return nil, err
	}
	return slices.DeleteFunc(out, func(h HandOut) bool { // a zip is for those who may have all that is in it
		if h.Also == "" {
			return false
		}
		_, err := d.HandedOut(ctx, l.Person, h.ID)
		return err != nil
	}), nil
}

// HandedOut gives one of them.
func (d *Desk) HandedOut(ctx context.Context, person, id uint) (*HandOut, error) {
	h, err := d.handedOut(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, id := range h.documents() {
		row, err := d.row(ctx, id)
		if err != nil {
			return nil, err
		}
		if err := d.mayHistory(ctx, person, people.ActDownload, row); err != nil {
			return nil, err
		}
	}
	return h, nil
}

// documents are those whose pages are in what was handed out.
func (h *HandOut) documents() []uint {
	ids := []uint{h.DocumentID}
	if h.Also != "" {
		var also []uint
		_ = json.Unmarshal([]byte(h.Also), &also)
		ids = append(ids, also...)
	}
	return ids
}

func (d *Desk) handedOut(ctx context.Context, id uint) (*HandOut, error) {
	var h HandOut
	if err := d.db.WithContext(ctx).First(&h, id).Error; err != nil {
		return nil, store.Missing(err)
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
		d.Downloaded(ctx, person, h.DocumentID, h.Name, "an exported file")
	}
	return f, h.Name, err
}

// OpenOriginal opens a document's original for a person, and notes it in the record.
func (d *Desk) OpenOriginal(ctx context.Context, person, id uint) (*os.File, string, error) {
	row, err := d.row(ctx, id)
	if err == nil {
		err = d.mayHistory(ctx, person, people.ActDownload, row)
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
		err = store.ErrMissing
	}
	return f, err
}

// nameTaken refuses a name that a file was handed out under which a person may see.
func (d *Desk) nameTaken(ctx context.Context, tx *gorm.DB, person uint, name string) error {
	in, args, err := d.handedOutOf(ctx, person)
	if err != nil {
		return err
	}
	var n int64
	if err := tx.Model(&HandOut{}).Where("name_key = ?", nameKey(name)).Where(in, args...).Limit(1).Count(&n).Error; err != nil || n == 0 {
		return err
	}
	return step.Refuse("a file named “%s” was exported before: use another name", trimPDF(name))
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
