package desk

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"

	"glenrain/core/step"
)

// Purge removes a document from the house for good: its rows, trail, texts, hand-outs, page pictures, and the files that nothing else
// refers to. Only what is in the Bin can be purged.
func (d *Desk) Purge(ctx context.Context, person, id uint) error {
	row, err := d.row(ctx, id)
	if err == nil {
		err = d.may(ctx, person, ActPurge, row)
	}
	if err != nil {
		return err
	}
	return d.purge(ctx, person, id)
}

func (d *Desk) purge(ctx context.Context, person, id uint) error {
	l, done := d.document(id)
	defer done()
	if err := l.lock(ctx); err != nil {
		return err
	}
	defer l.unlock()
	if r := d.reservation(l); r != nil {
		return &Busy{*r}
	}
	var row Document
	if err := d.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return missing(err)
	}
	if row.BinnedAt == nil {
		return step.Refuse("“%s” is not in the Bin: delete it first", row.Name)
	}
	files, err := d.filesOf(ctx, row)
	if err != nil {
		return err
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, of := range []any{&Step{}, &State{}, &HandOut{}, &PageText{}, &Request{}, &PassedOn{}, &Trait{}, &Gathered{}} {
			if err := tx.Where("document_id = ?", id).Delete(of).Error; err != nil {
				return err
			}
		}
		if err := tx.Delete(&Document{}, id).Error; err != nil {
			return err
		}
		return d.noteIn(ctx, tx, Record{PersonID: person, What: "purged", DocumentID: id, Document: row.Name})
	})
	d.readings.forget() // it may hold text of it
	if err != nil {
		return err
	}
	d.forget(l)
	d.forgetTexts(id)
	d.removeUnused(files...)
	d.mu.Lock()
	for _, sha := range files {
		delete(d.bases, sha)
	}
	d.mu.Unlock()
	d.Start(person, "Cleaning the index", func(ctx context.Context, _ *Work) (any, error) {
		err := d.cleanIndex(ctx)
		if err != nil {
			d.log.Warn("the index of texts was not cleaned of what was purged", "err", err)
		}
		return "", err
	})
	return d.pictures.drop(id)
}

// cleanIndex takes what was deleted out of the index of texts, which by itself only notes that it is gone: all its parts are merged into one
// (FTS5, the merge command), a little at a time, so that others write meanwhile.
func (d *Desk) cleanIndex(ctx context.Context) error {
	for pages := -mergePages; ; pages = mergePages {
		if err := ctx.Err(); err != nil {
			return err
		}
		var before, after int64
		err := d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			if err := tx.Raw("SELECT total_changes()").Scan(&before).Error; err != nil {
				return err
			}
			if err := tx.Exec("INSERT INTO page_search(page_search, rank) VALUES ('merge', ?)", pages).Error; err != nil {
				return err
			}
			return tx.Raw("SELECT total_changes()").Scan(&after).Error
		})
		if err != nil || after-before < 2 {
			return err
		}
	}
}

// mergePages is how many pages of the index are merged at a time.
const mergePages = 400

// filesOf gives the files that a document's rows name.
func (d *Desk) filesOf(ctx context.Context, row Document) (out []string, err error) {
	db := d.db.WithContext(ctx)
	out = append(out, row.OriginalSHA)
	for _, of := range []struct {
		model  any
		column string
	}{{&State{}, "base_sha"}, {&State{}, "fold_sha"}, {&Step{}, "update_sha"}, {&HandOut{}, "sha"}} {
		var list []string
		if err := db.Model(of.model).Distinct().Where("document_id = ? and "+of.column+" <> ''", row.ID).Pluck(of.column, &list).Error; err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	var sources []string
	if err := db.Model(&Step{}).Where("document_id = ? and sources like '%sha256:%'", row.ID).Pluck("sources", &sources).Error; err != nil {
		return nil, err
	}
	for _, s := range sources {
		var list []string
		_ = json.Unmarshal([]byte(s), &list)
		for _, ref := range list {
			if sha, ok := strings.CutPrefix(ref, "sha256:"); ok {
				out = append(out, sha)
			}
		}
	}
	return out, nil
}

// purgeOld purges what has been in the Bin for longer than the house keeps it, and drops old lines of the record.
func (d *Desk) purgeOld(ctx context.Context) error {
	h, err := d.House(ctx)
	if err != nil {
		return err
	}
	now := d.now()
	err = d.db.WithContext(ctx).Delete(&Record{}, "at < ?", now.Add(-time.Duration(h.RecordDays)*24*time.Hour).UTC()).Error
	if h.BinDays == 0 {
		return err
	}
	var ids []uint
	perr := d.db.WithContext(ctx).Model(&Document{}).Where("away_at < ?", now.Add(-time.Duration(h.BinDays)*24*time.Hour)).Pluck("id", &ids).Error
	for _, id := range ids {
		perr = errors.Join(perr, d.purge(ctx, 0, id))
	}
	return errors.Join(err, perr)
}
