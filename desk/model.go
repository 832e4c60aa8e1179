// Package desk keeps what people work on: documents with their states and trails,
// files by their content, hand-outs, people and background work, in SQLite and a
// folder of files. It runs the steps of core on stored documents; it knows nothing
// of web pages.
package desk

import (
	"fmt"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// Person is someone who signs in.
type Person struct {
	ID        uint
	Name      string // as shown: "Isla Merrow"
	SignIn    string `gorm:"uniqueIndex"` // in lower case
	Hash      string // argon2id
	CreatedAt time.Time
}

// Initials gives the first letters of the first two names.
func (p *Person) Initials() string {
	out := ""
	word := true
	for _, r := range p.Name {
		if word && r != ' ' && len(out) < 2 {
			out += string(r)
		}
		word = r == ' '
	}
	return out
}

// Session is a signed-in browser, kept by the hash of its token.
type Session struct {
	Hash   string `gorm:"primaryKey"`
	Data   []byte
	Expiry time.Time `gorm:"index"`
}

// Invite is a one-time address: it lets its bearer set up the first person, or sign
// in as one.
type Invite struct {
	Hash     string `gorm:"primaryKey"`
	PersonID uint   // 0: sets up a person
	Expiry   time.Time
}

// Folder is a place for documents.
type Folder struct {
	ID   uint
	Name string `gorm:"uniqueIndex"`
}

// Document is a document in the house.
type Document struct {
	ID           uint
	FolderID     uint `gorm:"index"`
	Name         string
	OriginalSHA  string // the file as it came, or as it was replaced by
	OriginalName string
	HeadID       uint // the state people see
	TipID        uint // the state that redoing leads to
	TextID       uint // the state whose text is kept for searching
	NextNo       int  // number of the next step
	Pages        int
	Paper        string     // "A4", "A4 across", "several sizes"
	Weight       int64      // bytes: base and updates
	Arrived      string     // findings on arrival, JSON
	Locked       bool       // it came locked with a password; its base is not
	Lock         string     // what it takes to lock it again as it came, JSON (pdf.Kept)
	Working      bool       // its base is a working copy: not the file as it came
	Mended       string     // what was wrong with the file; its base is a mended copy
	MadeFrom     string     // "a picture", "4 documents"; empty for a PDF that was brought in
	AwayAt       *time.Time `gorm:"index"`
	CreatedAt    time.Time
	ChangedAt    time.Time `gorm:"index"`
	ChangedBy    uint
}

// State is a document at one point of its trail: a base and the updates that lead to
// it from there.
type State struct {
	ID         uint
	DocumentID uint   `gorm:"index"`
	ParentID   uint   // 0: the state stands on its base alone
	BaseSHA    string // the base of its chain of updates
	StepID     uint   // the step that led here from the parent
	Depth      int    // updates since the base
	FoldSHA    string // one update that stands for all since the base; later ones stand on it
}

// Step is one step of a document's trail.
type Step struct {
	ID         uint
	DocumentID uint   `gorm:"uniqueIndex:request"`
	RequestID  string `gorm:"uniqueIndex:request"` // of the request that asked for it
	StateID    uint   `gorm:"uniqueIndex"`         // the state it led to
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
}

// HandOut is a file that left: written anew, whole.
type HandOut struct {
	ID         uint
	DocumentID uint `gorm:"index"`
	StateID    uint
	Name       string
	SHA        string
	Size       int64
	Pages      int
	Replaced   bool // it took the original's place
	Signed     bool // the original with the changes behind it, so that its signature can be checked
	Locked     bool // locked again as it came
	PersonID   uint
	At         time.Time `gorm:"index"`
}

// smallUpdate is the largest update that is kept in its step's row, in bytes.
const smallUpdate = 64 << 10

// migrate brings the database to the newest form.
func migrate(db *gorm.DB) error {
	m := gormigrate.New(db, gormigrate.DefaultOptions, []*gormigrate.Migration{{
		ID: "1",
		Migrate: func(tx *gorm.DB) error {
			return tx.AutoMigrate(&Person{}, &Session{}, &Invite{}, &Folder{}, &Document{}, &State{}, &Step{}, &HandOut{})
		},
	}, {
		ID:      "2: documents that came locked or damaged",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Document{}) },
	}, {
		ID:      "3: folds, locking again, signed files handed out as they are",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&Document{}, &State{}, &HandOut{}) },
	}, {
		ID:      "4: the text of pages, searched",
		Migrate: textTables,
	}})
	if err := m.Migrate(); err != nil {
		return fmt.Errorf("bringing the database up to date: %w", err)
	}
	return nil
}
