package desk

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"glenrain/desk/store"
)

// textTables makes the table of texts and its full-text index, which follows it.
func textTables(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&PageText{}, &Document{}); err != nil {
		return err
	}
	for _, sql := range []string{
		`CREATE VIRTUAL TABLE page_search USING fts5(text, content='page_texts', content_rowid='id', tokenize="unicode61 remove_diacritics 2", prefix='2 3')`,
		`CREATE TRIGGER page_texts_new AFTER INSERT ON page_texts BEGIN
			INSERT INTO page_search(rowid, text) VALUES (new.id, new.text); END`,
		`CREATE TRIGGER page_texts_gone AFTER DELETE ON page_texts BEGIN
			INSERT INTO page_search(page_search, rowid, text) VALUES ('delete', old.id, old.text); END`,
		`CREATE TRIGGER page_texts_changed AFTER UPDATE OF text ON page_texts BEGIN
			INSERT INTO page_search(page_search, rowid, text) VALUES ('delete', old.id, old.text);
			INSERT INTO page_search(rowid, text) VALUES (new.id, new.text); END`,
	} {
		if err := tx.Exec(sql).Error; err != nil {
			return err
		}
	}
	return nil
}

// textChange is what is to become of the texts of a document's pages: those that are gone, by key, those that were read, and those that only stand elsewhere.
type textChange struct {
	gone                []string
	changed, renumbered []PageText
	first               bool // they are the document's first: rows that are there already are newer
}

// writeTexts changes the texts of a document, many small transactions long, so that others write meanwhile, and calls last in the final one. A document
// that was purged meanwhile gets none (ErrMissing). What was written before an error is right, and is found when the texts are read again.
func (d *Desk) writeTexts(ctx context.Context, document uint, c textChange, last func(tx *gorm.DB) error) error {
	write := func(f func(tx *gorm.DB) error) error {
		return d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			if err := present(tx, document); err != nil {
				return err
			}
			return f(tx)
		})
	}
	var err error
	if !c.first && len(c.gone)+len(c.changed)+len(c.renumbered) > 0 { // till all are written they are those of no state, whichever the document goes to meanwhile
		err = write(func(tx *gorm.DB) error {
			return tx.Model(&Document{}).Where("id = ?", document).Update("text_id", 0).Error
		})
	}
	if err == nil {
		err = inPieces(c.gone, func(part []string) error {
			return write(func(tx *gorm.DB) error {
				return tx.Where("document_id = ? and key in ?", document, part).Delete(&PageText{}).Error
			})
		})
	}
	known := clause.OnConflict{DoNothing: true}
	if !c.first {
		known = clause.OnConflict{Columns: []clause.Column{{Name: "document_id"}, {Name: "key"}},
			DoUpdates: clause.AssignmentColumns([]string{"version", "number", "text", "hyphens", "annotated", "spaced", "look"})}
	}
	if err == nil {
		err = inPieces(c.changed, func(part []PageText) error {
			return write(func(tx *gorm.DB) error { return tx.Clauses(known).Create(&part).Error })
		})
	}
	if err == nil {
		err = inPieces(c.renumbered, func(part []PageText) error {
			return write(func(tx *gorm.DB) error {
				for _, r := range part {
					if err := tx.Model(&r).Update("number", r.Number).Error; err != nil {
						return err
					}
				}
				return nil
			})
		})
	}
	if err != nil {
		return err
	}
	return write(last)
}

// present tells, within a transaction, whether a document is there still: rows that hold something of it are written only then.
func present(tx *gorm.DB, document uint) error {
	var n int64
	if err := tx.Model(&Document{}).Where("id = ?", document).Count(&n).Error; err != nil {
		return err
	}
	if n == 0 {
		return store.ErrMissing
	}
	return nil
}

const (
	pieceTime = 20 * time.Millisecond // that a small transaction is to take
	leastRows = 4
	mostRows  = 400
)

// inPieces gives f a list in pieces of as many rows as it does in about pieceTime.
func inPieces[T any](list []T, f func(part []T) error) error {
	for n := 32; len(list) > 0; {
		part := list[:min(n, len(list))]
		list = list[len(part):]
		begun := time.Now()
		if err := f(part); err != nil {
			return err
		}
		took := max(time.Since(begun), time.Millisecond)
		n = max(leastRows, min(mostRows, int(int64(len(part))*int64(pieceTime)/int64(took))))
	}
	return nil
}
