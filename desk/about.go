package desk

import (
	"context"
	"encoding/json"
	"fmt"

	"gorm.io/gorm"

	"glenrain/core/finding"
	"glenrain/core/step"
	"glenrain/desk/store"
)

// About is what a document is made of: what the porter tells of it, and what kinds of pages it has.
type About struct {
	finding.About
	Known                                                     bool // it was looked through
	TextPages, PicturePages, LayerPages, PartPages, NonePages int
	FirstPicture, FirstPart                                   int // page numbers from 1 on; 0 for none
}

// Trait is something of a document that one looks for or acts on, kept as a row so that lists can be filtered by it.
type Trait struct {
	DocumentID uint   `gorm:"primaryKey;autoIncrement:false;index:traits_kind,priority:2"`
	Kind       string `gorm:"primaryKey;index:traits_kind,priority:1"`
}

// TraitKind describes a trait: how the filter calls it, and what the list says of it.
type TraitKind struct {
	Kind string
	Name string // "without text"
	Acts bool   // one would act on it: it stands in the list, the weightiest first
}

// TraitKinds are the traits there are, in the order of their weight.
var TraitKinds = []TraitKind{
	{"no-text", "without searchable text", true},
	{"part-text", "partly scanned", true},
	{"xfa", "form not shown", true},
	{"mended", "damaged and repaired", true},
	{"signed", "signed", true},
	{"locked", "was locked", true},
	{"fonts", "fonts not embedded", true},
	{"left-out", "something left out", true},
	{"heavy", "over 10 MB", true},
	{"scripts", "scripts", true},
	{"comments", "comments", false},
	{"form", "form fields", false},
	{"attachments", "attached files", false},
	{"layers", "layers", false},
	{"text-layer", "text layer", false},
	{"sizes", "several page sizes", false},
	{"untagged", "not tagged", false},
}

// heavy is from how many bytes on a document is heavy: about what many mail servers take.
const heavy = 10 << 20

// traits gives what a document has, the weightiest first.
func traits(row *Document, a *About) (out []string) {
	has := map[string]bool{
		"no-text": a.PicturePages > 0 && row.Made.Of != "picture" && row.Made.Of != "pictures", "part-text": a.PartPages > 0 && row.Made.Of != "picture",
		"mended": row.Mended != "", "locked": row.Locked, "fonts": a.LooseFonts > 0, "heavy": row.Weight > heavy, "scripts": a.Scripts > 0, "comments": a.Comments > 0, "form": a.Fields > 0,
		"attachments": a.Attachments > 0, "layers": a.Layers > 0, "text-layer": a.LayerPages > 0, "sizes": len(a.Sizes) > 1, "untagged": !a.Tagged,
		"left-out": row.Made.Of == "file" && len(row.Made.Warnings) > 0,
	}
	for _, f := range row.Found() {
		if f.Kind == "signed" || f.Kind == "xfa" || f.Kind == "locked" || f.Kind == "mended" {
			has[f.Kind] = true
		}
	}
	for _, k := range TraitKinds {
		if has[k.Kind] {
			out = append(out, k.Kind)
		}
	}
	return out
}

// Say says a trait of a document in a few words, as its list does.
func (a *About) Say(kind string, row *Document) string {
	pages := func(n int, is, are string) string {
		switch {
		case n == row.Pages && n > 1:
			return "all pages " + are
		case n == 1:
			return "1 page " + is
		}
		return step.Count(n, "page") + " " + are
	}
	switch kind {
	case "no-text":
		return pages(a.PicturePages, "is a picture with no searchable text", "are pictures with no searchable text")
	case "part-text":
		return pages(a.PartPages, "is a scan with a little text on it", "are scans with a little text on them")
	case "fonts":
		if a.LooseFonts == 1 {
			return "1 font is not embedded"
		}
		return fmt.Sprintf("%d fonts are not embedded", a.LooseFonts)
	case "scripts":
		return step.Count(a.Scripts, "script") + " in it"
	case "heavy":
		return "over 10 MB"
	case "mended":
		return "was damaged and has been repaired"
	case "locked":
		return "was locked with a password"
	}
	for _, f := range row.Found() {
		if f.Kind == kind {
			return f.Sentence
		}
	}
	for _, k := range TraitKinds {
		if k.Kind == kind {
			return k.Name
		}
	}
	return kind
}

// ReadAbout gives what is known of a document.
func (row *Document) ReadAbout() *About {
	a := &About{}
	_ = json.Unmarshal([]byte(row.About), a)
	return a
}

// keepAbout keeps what a document is made of at a state, with the looks of its pages.
func (d *Desk) keepAbout(tx *gorm.DB, s *Snapshot, state uint, about *finding.About, rows []PageText) error {
	a := About{About: *about, Known: true}
	for i := range rows {
		var l finding.PageLook
		_ = json.Unmarshal([]byte(rows[i].Look), &l)
		switch l.Kind() {
		case finding.Words:
			a.TextPages++
		case finding.Picture:
			if a.PicturePages++; a.FirstPicture == 0 {
				a.FirstPicture = i + 1
			}
		case finding.TextLayer:
			a.LayerPages++
		case finding.PartlyText:
			if a.PartPages++; a.FirstPart == 0 {
				a.FirstPart = i + 1
			}
		default:
			a.NonePages++
		}
	}
	row := s.Document
	kinds := traits(&row, &a)
	weightiest := ""
	for _, k := range TraitKinds {
		if weightiest == "" && k.Acts && len(kinds) > 0 && has(kinds, k.Kind) {
			weightiest = a.Say(k.Kind, &row)
		}
	}
	if err := tx.Where("document_id = ?", row.ID).Delete(&Trait{}).Error; err != nil {
		return err
	}
	for _, k := range kinds {
		if err := tx.Create(&Trait{row.ID, k}).Error; err != nil {
			return err
		}
	}
	return tx.Model(&Document{}).Where("id = ? and head_id = ?", row.ID, state).Updates(map[string]any{"text_id": state, "about": toJSON(a), "weightiest": weightiest}).Error
}

func has(list []string, v string) bool {
	for _, s := range list {
		if s == v {
			return true
		}
	}
	return false
}

// About gives what a document is made of to a person who sees it.
func (d *Desk) About(ctx context.Context, person, id uint) (*Document, *About, error) {
	row, err := d.Document(ctx, person, id)
	if err != nil {
		return nil, nil, err
	}
	return row, row.ReadAbout(), nil
}

// Traits counts the traits of the documents that a person sees in a folder, or in all.
func (d *Desk) Traits(ctx context.Context, person uint, l Listing) (map[string]int, error) {
	in, args, err := d.Scoped(ctx, person, "documents")
	if err != nil {
		return nil, err
	}
	q := d.db.WithContext(ctx).Table("traits").Select("traits.kind, count(*) n").Joins("JOIN documents ON documents.id = traits.document_id").
		Where("documents.away_at is null").Where(in, args...).Group("traits.kind")
	if l.Folder != 0 {
		q = q.Where("documents.folder_id = ?", l.Folder)
	}
	var rows []struct {
		Kind string
		N    int
	}
	if err := q.Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := map[string]int{}
	for _, r := range rows {
		out[r.Kind] = r.N
	}
	return out, nil
}

// TraitsOf gives the traits of a document, the weightiest first.
func (d *Desk) TraitsOf(row *Document, a *About) (out []TraitKind) {
	if !a.Known {
		return nil
	}
	kinds := traits(row, a)
	for _, k := range TraitKinds {
		if has(kinds, k.Kind) {
			out = append(out, k)
		}
	}
	return out
}

// PageAt gives the key of a page of a document's head by its number, from 1 on.
func (d *Desk) PageAt(ctx context.Context, id uint, n int) (string, error) {
	s, err := d.Snapshot(ctx, id)
	if err != nil {
		return "", err
	}
	pages := s.Pages()
	if n < 1 || n > len(pages) {
		return "", store.ErrMissing
	}
	return pages[n-1].Key.String(), nil
}
