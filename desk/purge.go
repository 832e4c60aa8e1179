package desk

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"gorm.io/gorm"

	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// Purge removes a document from the house for good: its rows, trail, texts, hand-outs, page pictures, and the files that nothing else
// refers to. Only what is in the Bin can be purged.
func (d *Desk) Purge(ctx context.Context, person, id uint) error {
	row, err := d.row(ctx, id)
	if err == nil {
		err = d.may(ctx, person, people.ActPurge, row)
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
		return store.Missing(err)
	}
	if row.BinnedAt == nil {
		return step.Refuse("“%s” is not in the Bin: delete it first", row.Name)
	}
	f := &forgetting{document: id}
	var err error
	if f.files, err = d.filesOf(ctx, row); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(d.dir, uncleanName), []byte(d.now().UTC().Format(time.RFC3339Nano)), 0o600); err != nil {
		return err
	}
	if err := d.purgeTexts(ctx, id); err != nil {
		return err
	}
	holdings := d.Holdings()
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for _, h := range holdings {
			if h.Rows == nil {
				continue
			}
			if err := h.Rows(ctx, tx, f); err != nil {
				return err
			}
		}
		return d.NoteIn(ctx, tx, people.Record{PersonID: person, What: "purged", DocumentID: id, Document: row.Name})
	})
	if err != nil {
		return err
	}
	d.mu.Lock()
	d.purged[id] = true
	d.mu.Unlock()
	for _, h := range holdings {
		if h.Forget != nil {
			err = errors.Join(err, h.Forget(ctx, f))
		}
	}
	d.cleanSoon(person)
	return err
}

// purgeTexts removes the texts of a document in the Bin little by little, so that others write meanwhile; where that is broken off they are read again.
func (d *Desk) purgeTexts(ctx context.Context, id uint) error {
	var rows []uint
	if err := d.db.WithContext(ctx).Model(&PageText{}).Where("document_id = ?", id).Pluck("id", &rows).Error; err != nil {
		return err
	}
	if err := d.db.WithContext(ctx).Model(&Document{}).Where("id = ?", id).Update("text_id", 0).Error; err != nil {
		return err
	}
	return inPieces(rows, func(part []uint) error { return d.db.WithContext(ctx).Delete(&PageText{}, part).Error })
}

// cleanSoon cleans in the background what purging left behind.
func (d *Desk) cleanSoon(person uint) {
	d.Start(person, "Cleaning the index", func(ctx context.Context, _ *background.Work) (any, error) {
		err := d.clean(ctx)
		if err != nil && ctx.Err() == nil {
			d.log.Warn("what was purged was not cleaned out of the index and the database’s log yet: the next start does it", "err", err)
		}
		return "", err
	})
}

// emptyLog empties the database's log of writes (the WAL), in which pages stand that were deleted since. It waits for those who read, and for nobody
// long: others write meanwhile.
func (d *Desk) emptyLog(ctx context.Context) error {
	db, err := d.db.DB()
	if err != nil {
		return err
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "PRAGMA busy_timeout = 50"); err != nil {
		return err
	}
	defer func() { _, _ = conn.ExecContext(context.WithoutCancel(ctx), "PRAGMA busy_timeout = 10000") }()
	for {
		var busy, logged, moved int
		if err := conn.QueryRowContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &logged, &moved); err != nil && ctx.Err() != nil {
			return err
		} else if err == nil && busy == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
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
	zips, err := zipsWith(db, row.ID)
	if err != nil {
		return nil, err
	}
	for _, z := range zips {
		out = append(out, z.SHA)
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
	err = d.db.WithContext(ctx).Delete(&people.Record{}, "at < ?", now.Add(-time.Duration(h.RecordDays)*24*time.Hour).UTC()).Error
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
