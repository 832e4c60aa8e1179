package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"glenrain/core/content"
	"glenrain/core/finding"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/porter"
)

// PageText is the text of a page of a document's head, kept so that it is read again only when the page changes.
type PageText struct {
	ID         uint
	DocumentID uint   `gorm:"uniqueIndex:page_text"`
	Key        string `gorm:"uniqueIndex:page_text"`
	Version    uint   // of the page's picture, which changes with what it is made of
	Number     int    // from 1
	Text       string // a layout.Reading's, without the marks of hyphens that were undone
	Hyphens    string // where these stand, as a JSON array of bytes
	Annotated  string // the parts of the reading that stand in annotations, as a JSON array of from and to in bytes
	Spaced     string // what of the text is written without spaces, letter by letter (see spaced)
	Look       string // what the page shows, JSON (finding.PageLook)

	reading   string // with the marks
	annotated [][2]int
}

// keep takes a reading.
func (p *PageText) keep(reading string) {
	p.reading = reading
	var plain strings.Builder
	var at []int
	for _, r := range reading {
		if r == '\u00ad' {
			at = append(at, plain.Len())
			continue
		}
		plain.WriteRune(r)
	}
	p.Text, p.Hyphens = plain.String(), ""
	p.Spaced = spaced(p.Text)
	p.annotated = nil
	_ = json.Unmarshal([]byte(p.Annotated), &p.annotated)
	if at != nil {
		p.Hyphens = toJSON(at)
	}
}

// take takes what the porter read.
func (p *PageText) take(t porter.Text) {
	p.Annotated, p.Look = t.Annotated, toJSON(t.Look)
	p.keep(t.Reading)
}

// keepTexts keeps the texts of a document that was just added. Where that fails they are read again in the background.
func (d *Desk) keepTexts(ctx context.Context, row *Document, texts []porter.Text) {
	s, err := d.Snapshot(ctx, row.ID)
	if err != nil || s.State.ID != row.HeadID {
		return
	}
	pages := s.Pages()
	if len(pages) != len(texts) {
		return
	}
	list := make([]PageText, len(pages))
	for i, p := range pages {
		list[i] = PageText{DocumentID: row.ID, Key: p.Key.String(), Version: p.Version, Number: i + 1}
		list[i].take(texts[i])
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		for part := range slices.Chunk(list, 200) {
			if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&part).Error; err != nil {
				return err
			}
		}
		var about finding.About
		_ = json.Unmarshal([]byte(row.About), &about)
		return d.keepAbout(tx, s, row.HeadID, &about, list)
	})
	if err != nil {
		d.log.Warn("texts that were read on arrival were not kept", "document", row.ID, "err", err)
	}
}

// back puts a reading together again.
func (p *PageText) back() {
	p.reading = p.Text
	_ = json.Unmarshal([]byte(p.Annotated), &p.annotated) // empty for most
	if p.Hyphens == "" {
		return
	}
	var at []int
	if json.Unmarshal([]byte(p.Hyphens), &at) != nil {
		return
	}
	var b strings.Builder
	last := 0
	for _, i := range at {
		if i < last || i > len(p.Text) {
			return
		}
		b.WriteString(p.Text[last:i] + "\u00ad")
		last = i
	}
	p.reading = b.String() + p.Text[last:]
}

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

// texts keeps the texts of documents that are searched now, and the reader that goes through new ones in the background.
type texts struct {
	mu    sync.Mutex
	of    map[uint]*docText
	order []uint // least recent first

	wake   chan struct{}
	cancel context.CancelFunc
	ended  chan struct{}
}

// docText is the text of one document: rows in the order of its pages at a state.
type docText struct {
	mu    sync.Mutex
	state uint
	rows  []PageText
	err   error // why the text of the state can't be read
}

const searchedDocuments = 8 // whose texts stay in memory

func (d *Desk) docText(id uint) *docText {
	d.texts.mu.Lock()
	defer d.texts.mu.Unlock()
	t, ok := d.texts.of[id]
	if !ok {
		t = &docText{}
		d.texts.of[id] = t
	}
	d.texts.order = append(slices.DeleteFunc(d.texts.order, func(x uint) bool { return x == id }), id)
	if len(d.texts.order) > searchedDocuments {
		delete(d.texts.of, d.texts.order[0])
		d.texts.order = d.texts.order[1:]
	}
	return t
}

// forgetTexts drops the texts of a document from memory.
func (d *Desk) forgetTexts(id uint) {
	d.texts.mu.Lock()
	delete(d.texts.of, id)
	d.texts.mu.Unlock()
}

// Texts gives the texts of a snapshot's pages, in order. Pages that changed since they were read last are read now.
func (d *Desk) Texts(ctx context.Context, s *Snapshot) ([]PageText, error) {
	return d.readTexts(ctx, s, 0)
}

func (d *Desk) readTexts(ctx context.Context, s *Snapshot, workers int) ([]PageText, error) {
	t := d.docText(s.Document.ID)
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.state == s.State.ID && (t.rows != nil || t.err != nil) {
		return t.rows, t.err
	}
	have := t.rows
	if have == nil {
		if err := d.db.WithContext(ctx).Where("document_id = ?", s.Document.ID).Find(&have).Error; err != nil {
			return nil, err
		}
		for i := range have {
			have[i].back()
		}
	}
	byKey := make(map[string]PageText, len(have))
	for _, r := range have {
		byKey[r.Key] = r
	}
	pages := s.Pages()
	rows := make([]PageText, len(pages))
	var refs []pdf.Ref
	var read []int
	var renumbered []PageText
	for i, p := range pages {
		key := p.Key.String()
		row, ok := byKey[key]
		delete(byKey, key)
		if !ok {
			row = PageText{DocumentID: s.Document.ID, Key: key}
		}
		if !ok || row.Version != p.Version || row.Look == "" {
			ref, _ := s.Keys.Ref(p.Key)
			refs = append(refs, ref)
			read = append(read, i)
			row.Version = p.Version
		} else if row.Number != i+1 {
			renumbered = append(renumbered, row)
			renumbered[len(renumbered)-1].Number = i + 1
		}
		row.Number = i + 1
		rows[i] = row
	}
	n := 0
	var err error
	var about *finding.About
	if len(refs) > 0 || s.Document.TextID != s.State.ID {
		in := porter.Reading{Parts: s.parts, Pages: refs, Workers: workers, About: func(a *finding.About) { about = a }}
		err = porter.Read(ctx, in, func(list []porter.Text) error {
			for _, text := range list {
				rows[read[n]].take(text)
				n++
			}
			return nil
		})
	}
	var stopped *porter.Stopped
	if errors.As(err, &stopped) { // it would be again
		err = step.Refuse("the text of this document can't be read: %s", stopped.Sentence)
		t.state, t.rows, t.err = s.State.ID, nil, err
	}
	if err != nil {
		return nil, err
	}
	changed := make([]PageText, len(read))
	for i, k := range read {
		changed[i] = rows[k]
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var gone []string
		for k := range byKey {
			gone = append(gone, k)
		}
		for part := range slices.Chunk(gone, 500) {
			if err := tx.Where("document_id = ? and key in ?", s.Document.ID, part).Delete(&PageText{}).Error; err != nil {
				return err
			}
		}
		for part := range slices.Chunk(changed, 200) {
			if err := tx.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "document_id"}, {Name: "key"}},
				DoUpdates: clause.AssignmentColumns([]string{"version", "number", "text", "hyphens", "annotated", "spaced", "look"})}).Create(&part).Error; err != nil {
				return err
			}
		}
		for _, r := range renumbered {
			if err := tx.Model(&r).Update("number", r.Number).Error; err != nil {
				return err
			}
		}
		if about == nil { // it is known
			return tx.Model(&Document{}).Where("id = ?", s.Document.ID).Update("text_id", s.State.ID).Error
		}
		return d.keepAbout(tx, s, s.State.ID, about, rows)
	})
	if err != nil {
		return nil, fmt.Errorf("keeping the text of pages: %w", err)
	}
	for i, k := range read {
		rows[k].ID = changed[i].ID
	}
	t.state, t.rows, t.err = s.State.ID, rows, nil
	return rows, nil
}

// readAhead is how long after a change its text is read in the background.
const readAhead = 400 * time.Millisecond

// startReading reads in the background the texts of documents that were added or changed, so that a search finds them.
func (d *Desk) startReading() {
	ctx, cancel := context.WithCancel(context.Background())
	d.texts = texts{of: map[uint]*docText{}, wake: make(chan struct{}, 1), cancel: cancel, ended: make(chan struct{})}
	d.wakeReading()
	go func() {
		defer close(d.texts.ended)
		tick := time.NewTicker(expireEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				if err := errors.Join(d.expire(), d.purgeOld(ctx)); err != nil {
					d.log.Error("what has run out was not removed", "err", err)
				}
				continue
			case <-d.texts.wake:
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(readAhead):
			}
			if err := d.ReadAll(ctx, 1); err != nil && ctx.Err() == nil {
				d.log.Error("reading texts failed", "err", err)
			}
		}
	}()
}

func (d *Desk) wakeReading() {
	select {
	case d.texts.wake <- struct{}{}:
	default:
	}
}

func (d *Desk) stopReading() {
	if d.texts.cancel != nil {
		d.texts.cancel()
		<-d.texts.ended
	}
}

// ReadAll reads the texts of all documents whose text is not that of their head, with so many workers.
func (d *Desk) ReadAll(ctx context.Context, workers int) error {
	var ids []uint
	if err := d.db.WithContext(ctx).Model(&Document{}).Where("text_id <> head_id and away_at is null and not unreadable").Order("changed_at desc").Pluck("id", &ids).Error; err != nil {
		return err
	}
	for _, id := range ids {
		s, err := d.Snapshot(ctx, id)
		if err == nil {
			err = d.readMarked(ctx, s, workers)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil { // the next one may do; this one is not tried again by itself
			d.log.Error("reading the text of a document failed", "document", id, "err", err)
			if err := d.db.WithContext(ctx).Model(&Document{}).Where("id = ?", id).Update("unreadable", true).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// readMarked reads a document's text in the background. It is marked before, so that one that stops the server is passed over when
// it starts again.
func (d *Desk) readMarked(ctx context.Context, s *Snapshot, workers int) error {
	tries := s.Document.ReadingTries
	mark := func(n int) error {
		return d.db.Model(&Document{}).Where("id = ?", s.Document.ID).Update("reading_tries", n).Error
	}
	if err := mark(tries + 1); err != nil {
		return err
	}
	_, err := d.readTexts(ctx, s, workers)
	if ctx.Err() != nil { // the server is stopping, as it was asked to
		return errors.Join(err, mark(tries))
	}
	return errors.Join(err, mark(0))
}

// mostTries is how often a document's text may be begun and not ended, since the server stopped: once may be somebody else's fault.
const mostTries = 2

// passOver marks as unreadable what was being read when the server stopped.
func (d *Desk) passOver() error {
	res := d.db.Model(&Document{}).Where("reading_tries >= ?", mostTries).Updates(map[string]any{"reading_tries": 0, "unreadable": true})
	if res.RowsAffected > 0 {
		d.log.Warn("the server stopped while it read the text of documents, which are passed over now", "documents", res.RowsAffected)
	}
	return res.Error
}

// Found is what a search in one document gives.
type Found struct {
	Hits  int // in all
	Pages []FoundPage
	// Unread are pages that show something but no text, by key: pictures, which can't be searched.
	Unread []step.Key
	More   bool // there are more hits than are counted
}

// FoundPage is a page with hits.
type FoundPage struct {
	Key    step.Key
	Number int
	Hits   int
	Lines  []FoundLine // the first of them
}

// FoundLine is a hit with what stands around it.
type FoundLine struct {
	N                   int // which of the page's hits, from 0
	Before, Text, After string
	Annotation          bool // it stands in an annotation
}

const (
	mostHits  = 20_000
	mostLines = 400 // hits that are given with what stands around them
)

// maxFinding is how long a document is looked through.
const maxFinding = 5 * time.Second

// Find looks for a query in a document.
func (d *Desk) Find(ctx context.Context, s *Snapshot, q layout.Query) (*Found, error) {
	f, err := q.Compile()
	if err != nil {
		return nil, &step.Refusal{Sentence: err.Error(), Cause: err}
	}
	rows, err := d.Texts(ctx, s)
	if err != nil {
		return nil, err
	}
	out := &Found{}
	until := time.Now().Add(maxFinding)
	lines := 0
	for _, r := range rows {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if time.Now().After(until) {
			return nil, step.Refuse("this takes too long to look for in a document of %s: look for something plainer", step.Count(len(rows), "page"))
		}
		if r.Text == "" {
			if k, err := step.ParseKey(r.Key); err == nil {
				out.Unread = append(out.Unread, k)
			}
			continue
		}
		hits := f.Find(r.reading, mostHits-out.Hits+1)
		if len(hits) == 0 {
			continue
		}
		if out.Hits+len(hits) > mostHits {
			out.More = true
			hits = hits[:mostHits-out.Hits]
		}
		key, err := step.ParseKey(r.Key)
		if err != nil {
			return nil, err
		}
		p := FoundPage{Key: key, Number: r.Number, Hits: len(hits)}
		for n, h := range hits {
			if lines >= mostLines {
				break
			}
			lines++
			l := FoundLine{N: n}
			l.Before, l.Text, l.After = layout.Around(r.reading, h, 48)
			l.Annotation = slices.ContainsFunc(r.annotated, func(part [2]int) bool { return h[0] >= part[0] && h[0] < part[1] })
			p.Lines = append(p.Lines, l)
		}
		out.Hits += len(hits)
		out.Pages = append(out.Pages, p)
		if out.More {
			break
		}
	}
	return out, nil
}

// maxPage is how long a page may be read for somebody who looks at it.
const maxPage = 4 * time.Second

var errPage = step.Refuse("this page takes longer to read than any honest page, and was given up")

// ReadPage interprets and groups one page of a snapshot.
func (d *Desk) ReadPage(ctx context.Context, s *Snapshot, k step.Key) (*layout.Page, pdf.Geometry, error) {
	ref, ok := s.Keys.Ref(k)
	if !ok || s.PDF.PageIndex(ref) < 0 {
		return nil, pdf.Geometry{}, ErrMissing
	}
	g := s.PDF.Geometry(ref)
	timed, cancel := context.WithTimeoutCause(ctx, maxPage, errPage)
	defer cancel()
	l, err := bounded(timed, d, "reading a page", func(ctx context.Context) (*layout.Page, error) {
		p, err := content.NewReader(s.PDF.In(ctx)).Page(ctx, ref, content.Options{})
		if err != nil {
			return nil, err
		}
		return layout.Read(p, g.Visible, nil), nil
	}, nil)
	if err != nil && ctx.Err() == nil && timed.Err() != nil {
		err = errPage
	}
	return l, g, err
}
