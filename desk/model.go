// Package desk keeps what people work on: documents with their states and trails,
// files by their content, hand-outs, people and background work, in SQLite and a
// folder of files. It runs the steps of core on stored documents; it knows nothing
// of web pages.
package desk

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"glenrain/core/intake"
	"glenrain/core/step"
	"glenrain/desk/formerly"
	"glenrain/desk/office"
	"glenrain/desk/people"
)

// Document is a document in the house.
type Document struct {
	ID           uint
	FolderID     uint `gorm:"index"`
	OwnerID      uint `gorm:"index"` // who added it, or to whom it passed
	Name         string
	NameKey      string `gorm:"index"`                            // the name in lower case
	SortKey      string `gorm:"index:documents_named,priority:2"` // what names are sorted by: 2 before 10
	OriginalSHA  string `gorm:"index"`                            // the file as it came, or as it was replaced by
	OriginalName string
	HeadID       uint       // the state people see
	TipID        uint       // the state that redoing leads to
	TextID       uint       // the state whose text is kept for searching
	NextNo       int        // number of the next step
	Pages        int        `gorm:"index:documents_paged,priority:2"`
	Paper        string     // "A4", "A4 landscape", "several sizes"
	Weight       int64      `gorm:"index:documents_weighed,priority:2"` // bytes: base and updates
	Arrived      string     // findings on arrival, JSON
	Locked       bool       // it came locked with a password; its base is not
	Lock         string     // what it takes to lock it again as it came, JSON (pdf.Kept)
	Working      bool       // its base is a working copy: not the file as it came
	Mended       string     // what was wrong with the file; its base is a mended copy
	Made         Made       `gorm:"serializer:json"` // what it was made of; zero for a PDF that was added as it is
	BinnedAt     *time.Time `gorm:"column:away_at;index:documents_changed,priority:1;index:documents_named,priority:1;index:documents_paged,priority:1;index:documents_weighed,priority:1"`
	CreatedAt    time.Time
	ChangedAt    time.Time `gorm:"index:documents_changed,priority:2"`
	ChangedBy    uint
	FirstKey     string // of the first page, and the version of its picture
	FirstVersion uint
	About        string // what it is made of, JSON (About), at the state TextID
	Weightiest   string // the first of what one would act on: see Trait
	Unreadable   bool   // its text could not be read: it is not tried again by itself
	ReadingTries int    // how often its text was begun to be read and not ended, since the server stopped
}

// Made says what a document was made of.
type Made struct {
	Of       string         `json:"of,omitempty"`   // "picture", "documents", "pictures", "file", "pages" or "step"
	Name     string         `json:"name,omitempty"` // of the document that the pages are of; or what was done to which
	Picture  string         `json:"picture,omitempty"`
	Count    int            `json:"count,omitempty"` // of documents or pictures
	Kind     intake.Kind    `json:"kind,omitempty"`  // of a file that was turned into pages
	Options  intake.Options `json:"options,omitzero"`
	Encoding string         `json:"encoding,omitempty"` // that its text was read in
	Warnings []string       `json:"warnings,omitempty"`
}

// String says it in words: "a JPEG picture", "4 documents".
func (m Made) String() string {
	switch m.Of {
	case "picture":
		return "a " + m.Picture + " picture"
	case "documents":
		return step.Count(m.Count, "document")
	case "pictures":
		return step.Count(m.Count, "picture")
	case "file":
		return m.Kind.Title()
	case "step":
		return m.Name
	case "pages":
		return step.Count(m.Count, "page") + " of “" + m.Name + "”"
	}
	return ""
}

// readMade reads what earlier versions kept as a sentence.
func readMade(s string) (m Made) {
	what, warnings, _ := strings.Cut(s, ". ")
	if warnings != "" {
		m.Warnings = []string{warnings}
	}
	if kind, ok := strings.CutSuffix(what, " picture"); ok {
		m.Of, m.Picture = "picture", strings.TrimPrefix(kind, "a ")
	} else if n, ok := strings.CutSuffix(strings.TrimSuffix(what, "s"), " document"); ok {
		m.Of = "documents"
		m.Count, _ = strconv.Atoi(strings.ReplaceAll(n, ",", ""))
	}
	return m
}

// State is a document at one point of its trail: a base and the updates that lead to
// it from there.
type State struct {
	ID         uint
	DocumentID uint   `gorm:"index"`
	ParentID   uint   // the state before it in the trail; 0 for the first
	BackID     uint   // the state that undoing leads to, where that is not the parent
	Act        string // what led here where it was no step: "“Page 2 rotated right” undone"
	BaseSHA    string // the base of its chain of updates
	Rooted     bool   // it stands on a base of its own, without updates, although it has a parent
	StepID     uint   // the step that led here from the parent
	Depth      int    // updates since the base
	FoldSHA    string // one update that stands for all since the base; later ones stand on it
	WithoutID  uint   // the step that was undone beneath later ones, which were run again: redoing leads to BackID, and undoing goes on from the parent
	Called     string // the name that somebody gave it
	Noted      string // what is known of the pages at a fold or a new base, so that no step before it need be read (see notes)
}

// back gives the state that undoing leads to; 0 where there is none.
func (s *State) back() uint {
	if s.WithoutID != 0 {
		return s.ParentID
	}
	return cmp.Or(s.BackID, s.ParentID)
}

// Step is one step of a document's trail.
type Step struct {
	ID         uint
	DocumentID uint   `gorm:"uniqueIndex:request"`
	RequestID  string `gorm:"uniqueIndex:request"` // of the request that asked for it
	StateID    uint   `gorm:"uniqueIndex"`         // the state it led to
	Together   string `gorm:"index"`               // shared by the steps of several documents that are one act, undone as one
	No         int    // its number in page keys; kept by a replay
	PersonID   uint
	At         time.Time
	Seed       []byte
	Name       string
	Params     string // JSON
	Sources    string // JSON array of what Params names outside the document
	Created    string // JSON array of the page objects it made
	Pages      string // JSON array of the keys it concerned
	All        bool
	Redrawn    int
	Moved      bool
	Sentence   string
	Warnings   string // JSON array
	Show       string // the key the view goes to
	UpdateSize int64
	UpdateSHA  string // of an update over smallUpdate bytes, in the store
	Update     []byte // a smaller one

	parent uint // the state before it, where a trail was asked for
}

// AfterFind puts what a step says into today's words.
func (s *Step) AfterFind(*gorm.DB) error {
	s.Sentence, s.Warnings = formerly.Today(s.Sentence), formerly.Today(s.Warnings)
	return nil
}

// HandOut is a file that left: written anew, whole.
type HandOut struct {
	ID         uint
	DocumentID uint `gorm:"index:hand_outs_of,priority:1"`
	StateID    uint
	Name       string
	NameKey    string `gorm:"index"` // the name in lower case
	SHA        string
	Size       int64
	Pages      int
	Replaced   bool   // it took the original's place
	Signed     bool   // the original with the changes behind it, so that its signature can be checked
	Locked     bool   // locked again as it came
	Files      int    // in a zip; 0 for a PDF
	Also       string // JSON array of the other documents whose files are in a zip
	KeptID     uint   // the document that it is kept as, in a folder
	PersonID   uint
	At         time.Time `gorm:"index;index:hand_outs_of,priority:2"`
}

// Request is one that made something, by the id that whoever asked gave it: asked again, it gives the same and makes nothing.
type Request struct {
	ID         string `gorm:"primaryKey"`
	PersonID   uint
	DocumentID uint // that was added or combined
	HandOutID  uint // or the file that was handed out
	At         time.Time
}

// smallUpdate is the largest update that is kept in its step's row, in bytes.
const smallUpdate = 64 << 10

// migrate5 also makes data of what was kept as a sentence, and rebuilds the index of texts.
func migrate5(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&Document{}, &State{}, &HandOut{}, &Request{}, &PageText{}, &people.Choice{}); err != nil {
		return err
	}
	for _, sql := range []string{
		"UPDATE documents SET name_key = lower(name)", "UPDATE hand_outs SET name_key = lower(name)",
		"DROP INDEX IF EXISTS idx_documents_away_at", "DROP INDEX IF EXISTS idx_documents_changed_at", "DROP INDEX IF EXISTS idx_hand_outs_document_id",
	} {
		if err := tx.Exec(sql).Error; err != nil {
			return err
		}
	}
	if tx.Migrator().HasColumn(&Document{}, "made_from") {
		var rows []struct {
			ID       uint
			MadeFrom string
		}
		if err := tx.Raw("SELECT id, made_from FROM documents WHERE made_from <> ''").Scan(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			if err := tx.Model(&Document{ID: r.ID}).Select("Made").Updates(&Document{Made: readMade(r.MadeFrom)}).Error; err != nil {
				return err
			}
		}
	}
	for _, sql := range []string{
		"UPDATE documents SET paper = replace(paper, ' across', ' landscape') WHERE paper LIKE '% across'",
		"UPDATE documents SET made = '{}' WHERE made IS NULL OR made = ''",
	} {
		if err := tx.Exec(sql).Error; err != nil {
			return err
		}
	}
	return searchTables(tx)
}

// migrate7 makes the first person an administrator and the others members, and whoever added a document its owner.
func migrate7(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&people.Person{}, &people.Invite{}, &Folder{}, &FolderPerson{}, &PassedOn{}, &Document{}, &people.SignedIn{}, &people.Device{}); err != nil {
		return err
	}
	for _, sql := range []string{
		"UPDATE people SET role = CASE WHEN id = (SELECT min(id) FROM people) THEN 'administrator' ELSE 'member' END WHERE coalesce(role, '') = ''",
		"UPDATE documents SET owner_id = changed_by WHERE coalesce(owner_id, 0) = 0",
		"UPDATE folders SET closed = 0 WHERE closed IS NULL",
		"UPDATE folders SET owner_id = 0 WHERE owner_id IS NULL",
		"DELETE FROM invites",  // they had no kinds
		"DELETE FROM sessions", // nor were these known by person: everybody signs in once more
	} {
		if err := tx.Exec(sql).Error; err != nil {
			return err
		}
	}
	return people.RecordTables(tx)
}

// migrate8 makes room for what documents are made of; all are looked through again in the background.
func migrate8(tx *gorm.DB) error {
	if err := tx.Exec("DROP INDEX IF EXISTS idx_folders_name").Error; err != nil {
		return err
	}
	if err := tx.AutoMigrate(&Document{}, &PageText{}, &Folder{}, &Trait{}, &Gathered{}); err != nil {
		return err
	}
	var rows []Document
	if err := tx.Select("id", "name").Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		if err := tx.Model(&Document{ID: r.ID}).Update("sort_key", sortKey(r.Name)).Error; err != nil {
			return err
		}
	}
	for _, sql := range []string{
		"UPDATE folders SET parent_id = 0 WHERE parent_id IS NULL",
		"UPDATE page_texts SET look = ''",
		"UPDATE documents SET about = '', weightiest = '', text_id = 0",
	} {
		if err := tx.Exec(sql).Error; err != nil {
			return err
		}
	}
	return nil
}

// migrate9 makes room for what concerns several documents at once.
func migrate9(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&Step{}, &HandOut{}); err != nil {
		return err
	}
	return tx.Exec("UPDATE steps SET together = '' WHERE together IS NULL").Error
}

// migrate brings the database to the newest form.
func migrate(db *gorm.DB) error {
	m := gormigrate.New(db, gormigrate.DefaultOptions, []*gormigrate.Migration{{
		ID: "1",
		Migrate: func(tx *gorm.DB) error {
			return tx.AutoMigrate(&people.Person{}, &people.Session{}, &people.Invite{}, &Folder{}, &Document{}, &State{}, &Step{}, &HandOut{})
		},
	}, {
		ID:      "2: locked and damaged documents",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Document{}) },
	}, {
		ID:      "3: folds, locking again, signed files exported as they are",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Document{}, &State{}, &HandOut{}) },
	}, {
		ID:      "4: the text of pages, searched",
		Migrate: textTables,
	}, {
		ID:      "5: requests, trails that are read in part, lists by page, a search of a million pages",
		Migrate: migrate5,
	}, {
		ID:      "6: texts that are read by a process of its own",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Document{}) },
	}, {
		ID:      "7: roles, closed folders, sessions of people, the record",
		Migrate: migrate7,
	}, {
		ID:      "8: details of documents, a tree of folders, the combine list",
		Migrate: migrate8,
	}, {
		ID:      "9: acts in several documents, splits, files that are kept in a folder",
		Migrate: migrate9,
	}, {
		ID:      "10: scanners",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Scanner{}) },
	}, {
		ID:      "11: the office dictionary",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&LearnedWord{}) },
	}, {
		ID:      "12: names of states",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&State{}) },
	}, {
		ID:      "13: the record forgets what quotes a document that is purged",
		Migrate: people.RecordForgets,
	}, {
		ID:      "14: work on many documents",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Many{}, &ManyItem{}) },
	}, {
		ID:      "15: the office's settings",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&office.Setting{}) },
	}, {
		ID:      "16: steps undone beneath others'",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&State{}) },
	}})
	if err := m.Migrate(); err != nil {
		return fmt.Errorf("bringing the database up to date: %w", err)
	}
	return nil
}
