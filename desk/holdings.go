package desk

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"gorm.io/gorm"

	"glenrain/desk/people"
	"glenrain/desk/store"
)

// Holding is a place in which something of a document's content is kept: every one there is stands in Desk.Holdings. Purging takes a document out of
// all of them, and whoever proves that something is gone looks into all of them.
type Holding struct {
	Name   string   // in plain words: "the text of pages"
	Tables []string // of the database, where it is one
	Folder string   // below the data folder, where it is one
	Fields []string // of Desk, where it is memory
	// Rows takes a document's rows out, within the transaction that removes the document.
	Rows func(ctx context.Context, tx *gorm.DB, f *forgetting) error
	// Forget takes the rest out, once its rows are gone.
	Forget func(ctx context.Context, f *forgetting) error
}

// forgetting is a document that is being taken out of all holdings.
type forgetting struct {
	document uint
	files    []string // that its rows named
}

// rowsOf is a holding's Rows for tables whose rows name their document.
func rowsOf(of ...any) func(context.Context, *gorm.DB, *forgetting) error {
	return func(_ context.Context, tx *gorm.DB, f *forgetting) error {
		for _, row := range of {
			if err := tx.Where("document_id = ?", f.document).Delete(row).Error; err != nil {
				return err
			}
		}
		return nil
	}
}

// Holdings is the inventory of what holds content of documents. A new place comes into this list; a test fails on one that is in neither this list nor
// among those that hold none.
func (d *Desk) Holdings() []Holding {
	list := []Holding{
		{Name: "the trail: states and steps with their values, sentences and changes", Tables: []string{"states", "steps"}, Rows: rowsOf(&Step{}, &State{})},
		{Name: "exported files, also zips that hold it beside others", Tables: []string{"hand_outs", "requests"}, Rows: d.forgetHandOuts},
		{Name: "the text of pages and its index", Tables: []string{"page_texts", "page_search"}, Rows: rowsOf(&PageText{}), Forget: func(_ context.Context, f *forgetting) error { d.forgetTexts(f.document); return nil }, Fields: []string{"texts"}},
		{Name: "results of work on many documents", Tables: []string{"many_items"}, Rows: rowsOf(&ManyItem{})},
		{Name: "its details", Tables: []string{"documents", "traits"}, Rows: func(ctx context.Context, tx *gorm.DB, f *forgetting) error {
			if err := rowsOf(&Trait{}, &PassedOn{}, &Gathered{})(ctx, tx, f); err != nil {
				return err
			}
			return tx.Delete(&Document{}, f.document).Error
		}},
		{Name: "details in the activity log", Tables: []string{"records"}, Rows: func(_ context.Context, tx *gorm.DB, f *forgetting) error {
			return tx.Model(&people.Record{}).Where("document_id = ? and what = ? and detail <> ''", f.document, "changed").Update("detail", "").Error
		}},
		{Name: "files", Folder: "files", Fields: []string{"Store", "bases"}, Forget: func(_ context.Context, f *forgetting) error {
			d.removeUnused(f.files...)
			d.mu.Lock()
			defer d.mu.Unlock()
			for _, sha := range f.files {
				delete(d.bases, sha)
			}
			return nil
		}},
		{Name: "pictures of pages", Folder: "pages", Fields: []string{"pictures"}, Forget: func(_ context.Context, f *forgetting) error { return d.pictures.drop(f.document) }},
		{Name: "what was read of scanned pages", Folder: "readings", Fields: []string{"readings"}, Forget: func(context.Context, *forgetting) error { d.readings.forget(); return nil }},
		{Name: "open documents, and what of them was drawn or looked up", Fields: []string{"live", "pool", "onInk"}, Forget: func(_ context.Context, f *forgetting) error {
			d.mu.Lock()
			if l := d.live[f.document]; l != nil {
				l.snap = nil
			}
			d.mu.Unlock()
			d.pool.Renew()
			return nil
		}},
		{Name: "results of background work", Fields: []string{"work", "scans"}, Forget: func(_ context.Context, f *forgetting) error {
			d.work.Forget(f.document, &Told{Sentence: "The document was deleted for good."})
			d.scans.forget(f.document)
			return nil
		}},
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	return append(list, d.others...)
}

// Hold adds a place outside this package, such as a screen's memory, to the inventory: forget takes a document out of it. What is read of the document
// and kept after forget must not be: see Purged.
func (d *Desk) Hold(name string, forget func(document uint)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.others = append(d.others, Holding{Name: name, Forget: func(_ context.Context, f *forgetting) error { forget(f.document); return nil }})
}

// Purged reports whether a document was purged since the server started. Whatever keeps something of a document looks, under the lock with which it is
// forgotten, so that nothing comes back that was read before.
func (d *Desk) Purged(document uint) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.purged[document]
}

// forgetHandOuts removes the files that were exported of a document, and the zips in which it stands beside others.
func (d *Desk) forgetHandOuts(ctx context.Context, tx *gorm.DB, f *forgetting) error {
	zips, err := zipsWith(tx, f.document)
	if err != nil {
		return err
	}
	for _, z := range zips {
		if err := tx.Where("hand_out_id = ?", z.ID).Delete(&Request{}).Error; err != nil {
			return err
		}
		if err := tx.Delete(&HandOut{}, z.ID).Error; err != nil {
			return err
		}
	}
	return rowsOf(&HandOut{}, &Request{})(ctx, tx, f)
}

// zipsWith gives the zips of other documents in which a document stands, too.
func zipsWith(tx *gorm.DB, document uint) ([]HandOut, error) {
	var rows, out []HandOut
	if err := tx.Where("also like ?", "%"+strconv.Itoa(int(document))+"%").Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, r := range rows {
		var also []uint
		if err := json.Unmarshal([]byte(r.Also), &also); err == nil && slices.Contains(also, document) {
			out = append(out, r)
		}
	}
	return out, nil
}

// uncleanName is the file that stands in the data folder while something that was purged is still being cleaned out, so that a server which is stopped
// meanwhile goes on with it.
const uncleanName = "unclean"

// clean takes out what purging leaves behind in places that are shared: the index of texts, which by itself only notes that something is gone, and the
// database's log of writes.
func (d *Desk) clean(ctx context.Context) error {
	d.cleaning.Lock()
	defer d.cleaning.Unlock()
	path := filepath.Join(d.dir, uncleanName)
	before, err := os.Stat(path)
	if err != nil {
		return nil
	}
	if err := d.cleanIndex(ctx); err != nil {
		return err
	}
	if err := d.emptyLog(ctx); err != nil {
		return err
	}
	if now, err := os.Stat(path); err == nil && !now.ModTime().Equal(before.ModTime()) { // something was purged meanwhile, and cleans after this
		return nil
	}
	return os.Remove(path)
}

// sweepPurged finishes, at the start, what a purge was stopped in: caches that are shared are emptied, and those of documents that are gone removed.
func (d *Desk) sweepPurged() error {
	if _, err := os.Stat(filepath.Join(d.dir, uncleanName)); err != nil {
		return nil
	}
	d.readings.forget()
	folders, err := filepath.Glob(filepath.Join(d.pictures.dir, "*", "*"))
	if err != nil {
		return err
	}
	for _, f := range folders {
		id, err := strconv.ParseUint(filepath.Base(f), 10, 63)
		if err != nil {
			continue
		}
		switch err := present(d.db, uint(id)); {
		case errors.Is(err, store.ErrMissing):
			if err := os.RemoveAll(f); err != nil {
				return err
			}
		case err != nil:
			return err
		}
	}
	return nil
}
