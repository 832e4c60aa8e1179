package desk

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"gorm.io/gorm"

	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
)

// Gathered is an entry of the list of what a person is about to combine: a document, or a page set of one. The list is kept while they look on.
type Gathered struct {
	ID         uint
	PersonID   uint   `gorm:"index:gathered_of,priority:1"`
	Position   int    `gorm:"index:gathered_of,priority:2"`
	DocumentID uint   `gorm:"index"`
	Pages      string // a page set; "" for all
}

// TableName: gathered has no plural.
func (Gathered) TableName() string { return "gathered" }

// GatheredView is an entry with what it brings.
type GatheredView struct {
	Gathered
	Name    string
	Of      int // pages of the document
	Count   int // pages that come in
	Paper   string
	Wrong   string // why it can't be combined
	Changed string // when, for sorting
}

// Outcome of a list: what combining it gives.
type GatheredOutcome struct {
	Entries []GatheredView
	Pages   int
	Weight  int64    // about, in bytes
	Papers  []string // the names of the pages' sizes
	Wrong   bool
}

// maxGathered is how many entries a list has.
const maxGathered = 2000

// Gather puts documents at the end of a person's list.
func (d *Desk) Gather(ctx context.Context, person uint, ids []uint, pages string) error {
	for _, id := range ids {
		if err := d.seen(ctx, person, id, people.ActLook); err != nil {
			return err
		}
	}
	return d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&Gathered{}).Where("person_id = ?", person).Count(&n).Error; err != nil {
			return err
		}
		if int(n)+len(ids) > maxGathered {
			return step.Refuse("the list can have up to %s entries", step.Thousands(maxGathered))
		}
		for i, id := range ids {
			if err := tx.Create(&Gathered{PersonID: person, Position: int(n) + i, DocumentID: id, Pages: pages}).Error; err != nil {
				return err
			}
		}
		return renumber(tx, person, nil)
	})
}

// renumber puts a list into an order of ids, and those that are not named behind them as they stand.
func renumber(tx *gorm.DB, person uint, order []uint) error {
	var rows []Gathered
	if err := tx.Where("person_id = ?", person).Order("position, id").Find(&rows).Error; err != nil {
		return err
	}
	at := func(id uint) int {
		if i := slices.Index(order, id); i >= 0 {
			return i
		}
		return len(order)
	}
	slices.SortStableFunc(rows, func(a, b Gathered) int { return cmp.Compare(at(a.ID), at(b.ID)) })
	for i, r := range rows {
		if r.Position != i {
			if err := tx.Model(&Gathered{ID: r.ID}).Update("position", i).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// OrderGathered puts a person's list into an order.
func (d *Desk) OrderGathered(ctx context.Context, person uint, order []uint) error {
	return d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return renumber(tx, person, order) })
}

// SortGathered sorts a person's list by name (2 before 10) or by date, the oldest first.
func (d *Desk) SortGathered(ctx context.Context, person uint, by string) error {
	column := map[string]string{"name": "documents.sort_key", "date": "documents.created_at"}[by]
	if column == "" {
		return step.Refuse("the list is sorted by name or by date")
	}
	var order []uint
	err := d.db.WithContext(ctx).Table("gathered").Joins("JOIN documents ON documents.id = gathered.document_id").Where("gathered.person_id = ?", person).
		Order(column+", gathered.position").Pluck("gathered.id", &order).Error
	if err != nil {
		return err
	}
	return d.OrderGathered(ctx, person, order)
}

// Ungather takes entries off a person's list; none named: all.
func (d *Desk) Ungather(ctx context.Context, person uint, ids []uint) error {
	return d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		q := tx.Where("person_id = ?", person)
		if ids != nil {
			q = q.Where("id in ?", ids)
		}
		if err := q.Delete(&Gathered{}).Error; err != nil {
			return err
		}
		return renumber(tx, person, nil)
	})
}

// GatherPages says which pages of an entry are taken.
func (d *Desk) GatherPages(ctx context.Context, person, id uint, pages string) error {
	if pages == "all" {
		pages = ""
	}
	if len(pages) > 400 {
		return step.Refuse("this page set is too long")
	}
	return d.db.WithContext(ctx).Model(&Gathered{}).Where("id = ? and person_id = ?", id, person).Update("pages", pages).Error
}

// GatheredList gives a person's list, with what combining it gives.
func (d *Desk) GatheredList(ctx context.Context, person uint) (*GatheredOutcome, error) {
	in, args, err := d.Scoped(ctx, person, "documents")
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Gathered
		Name   string
		Of     int
		Paper  string
		Weight int64
	}
	err = d.db.WithContext(ctx).Table("gathered").Select("gathered.*, documents.name, documents.pages AS of, documents.paper, documents.weight").
		Joins("JOIN documents ON documents.id = gathered.document_id").Where("gathered.person_id = ? and documents.away_at is null", person).Where(in, args...).
		Order("gathered.position, gathered.id").Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := &GatheredOutcome{}
	papers := map[string]bool{}
	for _, r := range rows {
		v := GatheredView{Gathered: r.Gathered, Name: r.Name, Of: r.Of, Count: r.Of, Paper: r.Paper}
		if r.Pages != "" {
			n, err := step.CountRule(r.Pages, r.Of)
			if err != nil {
				v.Wrong, v.Count, out.Wrong = err.Error(), 0, true
			} else {
				v.Count = n
			}
		}
		out.Pages += v.Count
		if r.Of > 0 {
			out.Weight += r.Weight * int64(v.Count) / int64(r.Of)
		}
		if v.Count > 0 && !papers[r.Paper] {
			papers[r.Paper] = true
			out.Papers = append(out.Papers, r.Paper)
		}
		out.Entries = append(out.Entries, v)
	}
	return out, nil
}

// CombineGathered makes one document of a person's list, which is empty then.
func (d *Desk) CombineGathered(ctx context.Context, w *background.Work, c Combination) (*Document, error) {
	list, err := d.GatheredList(ctx, c.Person)
	if err != nil {
		return nil, err
	}
	if len(list.Entries) == 0 {
		if was, err := d.asked(ctx, c.Person, c.RequestID); err == nil && was != nil {
			return d.row(ctx, was.DocumentID)
		}
		return nil, step.Refuse("there is nothing on the list")
	}
	c.Documents, c.Pages = nil, nil
	ids := make([]uint, len(list.Entries))
	for i, e := range list.Entries {
		if e.Wrong != "" {
			return nil, step.Refuse("the pages of “%s”: %s", e.Name, e.Wrong)
		}
		c.Documents, c.Pages = append(c.Documents, e.DocumentID), append(c.Pages, e.Pages)
		ids[i] = e.ID
	}
	out, err := d.Combine(ctx, w, c)
	if err != nil {
		return nil, err
	}
	if err := d.Ungather(ctx, c.Person, ids); err != nil {
		d.log.Warn("a list that was combined was not emptied", "person", c.Person, "err", err)
	}
	return out, nil
}

// String says an entry in words.
func (v GatheredView) String() string {
	if v.Pages == "" {
		return fmt.Sprintf("%s (%s)", v.Name, step.Count(v.Of, "page"))
	}
	return fmt.Sprintf("%s (pages %s)", v.Name, v.Pages)
}
