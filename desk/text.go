package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"gorm.io/gorm"

	"glenrain/core/finding"
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
	var about finding.About
	_ = json.Unmarshal([]byte(row.About), &about)
	err = d.writeTexts(ctx, row.ID, textChange{changed: list, first: true}, func(tx *gorm.DB) error { return d.keepAbout(tx, s, row.HeadID, &about, list) })
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
	turn  chan struct{} // taken by whoever reads or looks
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
		t = &docText{turn: make(chan struct{}, 1)}
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
	select {
	case t.turn <- struct{}{}:
		defer func() { <-t.turn }()
	case <-ctx.Done(): // whoever waits for a reading that somebody else asked for may go away
		return nil, ctx.Err()
	}
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
		in := porter.Reading{Parts: s.parts, Pages: refs, Workers: workers, Low: workers == 1, About: func(a *finding.About) { about = a }}
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
	older := false // the document has another state by now
	err = d.writeTexts(ctx, s.Document.ID, textChange{gone: slices.Collect(maps.Keys(byKey)), changed: changed, renumbered: renumbered}, func(tx *gorm.DB) error {
		if about != nil { // else it is known
			if err := d.keepAbout(tx, s, s.State.ID, about, rows); err != nil {
				return err
			}
		}
		kept := tx.Model(&Document{}).Where("id = ? and head_id = ?", s.Document.ID, s.State.ID).Update("text_id", s.State.ID)
		older = kept.RowsAffected == 0
		return kept.Error
	})
	if err != nil {
		return nil, fmt.Errorf("keeping the text of pages: %w", err)
	}
	for i, k := range read {
		rows[k].ID = changed[i].ID
	}
	t.state, t.rows, t.err = s.State.ID, rows, nil
	if older {
		d.wakeReading()
	}
	return rows, nil
}
