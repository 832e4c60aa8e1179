package people

import (
	"cmp"
	"context"
	"encoding/csv"
	"io"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"glenrain/core/step"
	"glenrain/desk/formerly"
	"glenrain/desk/store"
)

// Record is a line of the record: who did what, when, and from where. Nothing on the screens changes one; the database refuses to.
type Record struct {
	ID         uint
	At         time.Time
	PersonID   uint   `gorm:"index"`
	Who        string // as they were called then; of a sign-in that failed, the name that was typed
	What       string // "signed in", "changed", "handed out"; see Whats
	DocumentID uint
	Document   string // as it was called then
	Detail     string
	Address    string
}

// Whats are what the record has lines of.
var Whats = []string{"signed in", "sign-in failed", "signed out", "invited", "joined", "role", "password", "sessions", "removed person", "added", "opened", "changed", "renamed",
	"moved", "passed on", "deleted", "restored", "handed out", "downloaded", "purged", "folder", "house", "record"}

// whatNames are what people read for those whose stored name is another.
var whatNames = map[string]string{"role": "role changed", "password": "password changed", "sessions": "sessions ended", "removed person": "person removed", "passed on": "shared",
	"handed out": "exported", "purged": "deleted for good", "folder": "folder changed", "house": "office settings changed", "record": "activity log"}

// WhatName is what people read for one of Whats.
func WhatName(what string) string { return cmp.Or(whatNames[what], what) }

// Did is what the line tells, in people’s words.
func (r *Record) Did() string { return WhatName(r.What) }

// AfterFind puts details that are sentences of ours into today's words; others are names.
func (r *Record) AfterFind(*gorm.DB) error {
	if r.What == "changed" || r.What == "folder" || r.What == "house" {
		r.Detail = formerly.Today(r.Detail)
	}
	return nil
}

type addressKey struct{}

// From notes the address that a context's requests come from, for the record.
func From(ctx context.Context, address string) context.Context {
	return context.WithValue(ctx, addressKey{}, address)
}

// FromSame notes in a context the address that another one has: for work that goes on when the request has been answered.
func FromSame(ctx, as context.Context) context.Context { return From(ctx, addressOf(as)) }

func addressOf(ctx context.Context) string {
	a, _ := ctx.Value(addressKey{}).(string)
	return a
}

// Note writes a line of the record for something that was done. It is done already: where the line can't be written, the log has it.
func (d *Register) Note(ctx context.Context, r Record) {
	if err := d.NoteIn(ctx, d.db.WithContext(context.WithoutCancel(ctx)), r); err != nil {
		d.log.Error("a line of the record could not be written", "what", r.What, "person", r.PersonID, "document", r.DocumentID, "err", err)
	}
}

// NoteIn is note within a transaction, with which it stands or falls.
func (d *Register) NoteIn(ctx context.Context, tx *gorm.DB, r Record) error {
	r.At, r.Address = d.now().UTC(), addressOf(ctx)
	if r.Who == "" && r.PersonID >= FirstGuest {
		names, err := d.People(ctx) // the invitation may be over by now
		if err != nil {
			return err
		}
		r.Who = names[r.PersonID]
	}
	if r.Who == "" && r.PersonID != 0 {
		p, err := d.Person(ctx, r.PersonID)
		if err != nil { // removed by now, or within this transaction
			p = &Person{}
			if err := tx.Limit(1).Find(p, "id = ?", r.PersonID).Error; err != nil {
				return err
			}
		}
		r.Who = p.Name
	}
	r.Detail = clip(r.Detail, 500)
	r.Who = clip(r.Who, 200)
	return tx.Create(&r).Error
}

func clip(s string, most int) string {
	if len(s) > most {
		s = strings.ToValidUTF8(s[:most], "") + "…"
	}
	return s
}

// openedAgain is after how long looking at a document is a line of its own again.
const openedAgain = time.Hour

// Opened notes that a person opened a document: once in a while.
func (d *Register) Opened(ctx context.Context, person, document uint, name string) {
	d.mu.Lock()
	key := [2]uint{person, document}
	now := d.now()
	again := now.Sub(d.opened[key]) < openedAgain
	if !again {
		if len(d.opened) > 10_000 {
			clear(d.opened)
		}
		d.opened[key] = now
	}
	d.mu.Unlock()
	if !again {
		d.Note(ctx, Record{PersonID: person, What: "opened", DocumentID: document, Document: name})
	}
}

// Downloaded notes that a person took a file away.
func (d *Register) Downloaded(ctx context.Context, person, document uint, name, which string) {
	d.Note(ctx, Record{PersonID: person, What: "downloaded", DocumentID: document, Document: name, Detail: which})
}

// RecordQuery asks for lines of the record, newest first.
type RecordQuery struct {
	Person   uint
	What     string
	Words    string // in names of people and documents, details and addresses
	From, To time.Time
	After    uint // lines behind this one
	Most     int
}

func (q RecordQuery) on(db *gorm.DB) *gorm.DB {
	db = db.Order("id desc")
	if q.Person != 0 {
		db = db.Where("person_id = ?", q.Person)
	}
	if q.What != "" {
		db = db.Where("what = ?", q.What)
	}
	if !q.From.IsZero() {
		db = db.Where("at >= ?", q.From.UTC())
	}
	if !q.To.IsZero() {
		db = db.Where("at < ?", q.To.UTC())
	}
	if q.After != 0 {
		db = db.Where("id < ?", q.After)
	}
	for w := range strings.FieldsSeq(q.Words) {
		like := "%" + store.EscapeLike(w) + "%"
		db = db.Where(`who like ? escape '\' or document like ? escape '\' or detail like ? escape '\' or address like ? escape '\'`, like, like, like, like)
	}
	if q.Most > 0 {
		db = db.Limit(q.Most)
	}
	return db
}

// Records gives lines of the record to an administrator.
func (d *Register) Records(ctx context.Context, person uint, q RecordQuery) ([]Record, error) {
	if err := d.Admits(ctx, person, ActAdminister); err != nil {
		return nil, err
	}
	var out []Record
	return out, q.on(d.db.WithContext(ctx)).Find(&out).Error
}

// ExportRecords writes lines of the record as CSV (RFC 4180). A field that a spreadsheet would take for a formula gets an apostrophe before it.
func (d *Register) ExportRecords(ctx context.Context, person uint, q RecordQuery, w io.Writer) error {
	if err := d.Admits(ctx, person, ActAdminister); err != nil {
		return err
	}
	c := csv.NewWriter(w)
	_ = c.Write([]string{"number", "time", "person", "did", "document number", "document", "detail", "address"})
	q.After = 0
	for q.Most = 1000; ; {
		var part []Record
		if err := q.on(d.db.WithContext(ctx)).Find(&part).Error; err != nil {
			return err
		}
		for _, r := range part {
			line := []string{strconv.Itoa(int(r.ID)), r.At.UTC().Format(time.RFC3339), r.Who, WhatName(r.What), "", r.Document, r.Detail, r.Address}
			if r.DocumentID != 0 {
				line[4] = strconv.Itoa(int(r.DocumentID))
			}
			for i, f := range line {
				if f != "" && strings.ContainsRune("=+-@\t\r", rune(f[0])) {
					line[i] = "'" + f
				}
			}
			if err := c.Write(line); err != nil {
				return err
			}
		}
		if len(part) < q.Most {
			break
		}
		q.After = part[len(part)-1].ID
	}
	c.Flush()
	d.Note(ctx, Record{PersonID: person, What: "record", Detail: "exported"})
	return c.Error()
}

// House is what the house keeps, and for how long.
type House struct {
	ID         uint
	RecordDays int // lines of the record
	BinDays    int // documents in the Bin, which are purged then; 0 for as long as nobody purges them
}

// defaultHouse is what holds before somebody said otherwise.
var defaultHouse = House{ID: 1, RecordDays: 365}

// House gives what holds.
func (d *Register) House(ctx context.Context) (House, error) {
	h := defaultHouse
	var rows []House
	if err := d.db.WithContext(ctx).Limit(1).Find(&rows).Error; err != nil {
		return h, err
	}
	if len(rows) > 0 {
		h = rows[0]
	}
	return h, nil
}

// Keep sets how long lines of the record and documents in the Bin are kept.
func (d *Register) Keep(ctx context.Context, person uint, h House) error {
	if err := d.Admits(ctx, person, ActAdminister); err != nil {
		return err
	}
	switch {
	case h.RecordDays < 30 || h.RecordDays > 3650:
		return step.Refuse("the activity log can be kept for 30 to 3,650 days")
	case h.BinDays < 0 || h.BinDays > 3650:
		return step.Refuse("documents can stay in the Bin for up to 3,650 days; 0 keeps them until someone deletes them for good")
	}
	h.ID = 1
	if err := d.db.WithContext(ctx).Save(&h).Error; err != nil {
		return err
	}
	d.Note(ctx, Record{PersonID: person, What: "house", Detail: "the activity log is kept for " + step.Count(h.RecordDays, "day") + ", the Bin for " + step.Count(h.BinDays, "day")})
	return nil
}

// RecordTables makes the record, whose lines the database itself keeps from being changed.
func RecordTables(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&Record{}, &House{}); err != nil {
		return err
	}
	return tx.Exec(`CREATE TRIGGER IF NOT EXISTS records_stay BEFORE UPDATE ON records BEGIN SELECT RAISE(ABORT, 'the record is not changed'); END`).Error
}

// RecordForgets lets one thing of the record be changed: the detail of a line goes with the document that it tells of, whose text it may quote.
func RecordForgets(tx *gorm.DB) error {
	if err := tx.Exec("DROP TRIGGER IF EXISTS records_stay").Error; err != nil {
		return err
	}
	return tx.Exec(`CREATE TRIGGER records_stay BEFORE UPDATE ON records
		WHEN NOT (NEW.detail = '' AND OLD.what = 'changed' AND NEW.id IS OLD.id AND NEW.at IS OLD.at AND NEW.person_id IS OLD.person_id AND NEW.who IS OLD.who
			AND NEW.what IS OLD.what AND NEW.document_id IS OLD.document_id AND NEW.document IS OLD.document AND NEW.address IS OLD.address)
		BEGIN SELECT RAISE(ABORT, 'the record is not changed'); END`).Error
}
