// Package office keeps the settings of the office: values by key, and secrets, which are encrypted.
package office

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"glenrain/core/step"
	"glenrain/desk/people"
)

// Setting is one of the office's settings: a value under a key of the capability that it belongs to, "office.name".
type Setting struct {
	Key      string `gorm:"primaryKey"`
	Value    []byte // JSON; encrypted where it is sealed
	Sealed   bool
	PersonID uint // who set it
	At       time.Time
}

// Settings are the settings of the office.
type Settings struct {
	db      *gorm.DB
	gate    *people.Register
	now     func() time.Time
	keyFile string // with what secrets are encrypted
}

// NewSettings gives the settings in a database. keyFile has the key of secrets; it is made where there is none.
func NewSettings(db *gorm.DB, gate *people.Register, now func() time.Time, keyFile string) *Settings {
	return &Settings{db, gate, now, keyFile}
}

// OfficeName is the key of the name of the office, as it is shown at the top.
const OfficeName = "office.name"

// longest is how long the value of a setting may be, in bytes of JSON.
const longest = 64 << 10

// Setting reads a setting into v; it gives false, and leaves v as it is, where there is none. A sealed one is refused: see Unseal.
func (d *Settings) Setting(ctx context.Context, key string, v any) (bool, error) {
	s, err := Find(d.db.WithContext(ctx), key)
	if err != nil || s == nil {
		return false, err
	}
	if s.Sealed {
		return false, fmt.Errorf("the setting %q is sealed", key)
	}
	return true, json.Unmarshal(s.Value, v)
}

// Find reads the row of a setting, within a transaction where its value is to be changed by what it was; nil where there is none.
func Find(tx *gorm.DB, key string) (*Setting, error) {
	var rows []Setting
	if err := tx.Limit(1).Find(&rows, "key = ?", key).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// Set sets a setting; only an administrator may. label says in the activity log what was set.
func (d *Settings) Set(ctx context.Context, person uint, key, label string, v any) error {
	value, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return d.set(ctx, person, label, &Setting{Key: key, Value: value})
}

// Seal sets a setting that is a secret: it is kept encrypted (AES-256-GCM), with a key that is in no backup.
func (d *Settings) Seal(ctx context.Context, person uint, key, label, secret string) error {
	box, err := d.sealing(true)
	if err != nil {
		return err
	}
	nonce := make([]byte, box.NonceSize())
	_, _ = rand.Read(nonce) // never fails
	return d.set(ctx, person, label, &Setting{Key: key, Sealed: true, Value: box.Seal(nonce, nonce, []byte(secret), []byte(key))})
}

func (d *Settings) set(ctx context.Context, person uint, label string, s *Setting) error {
	if err := d.gate.Admits(ctx, person, people.ActAdminister); err != nil {
		return err
	}
	if len(s.Value) > longest {
		return step.Refuse("this is too long: %d KB at most", longest>>10)
	}
	s.PersonID, s.At = person, d.now()
	return d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(s).Error; err != nil {
			return err
		}
		return d.gate.NoteIn(ctx, tx, people.Record{PersonID: person, What: "house", Detail: label})
	})
}

// ErrUnsealed: a secret can't be read, since its key is not here: the data folder was restored from a backup without it.
var ErrUnsealed = errors.New("this secret can’t be read here, because its key is missing: enter it again")

// Unseal reads a sealed setting; it gives false where there is none.
func (d *Settings) Unseal(ctx context.Context, key string) (secret string, ok bool, err error) {
	s, err := Find(d.db.WithContext(ctx), key)
	if err != nil || s == nil || !s.Sealed {
		return "", false, err
	}
	box, err := d.sealing(false)
	if err != nil {
		return "", false, err
	}
	n := box.NonceSize()
	if len(s.Value) < n {
		return "", false, ErrUnsealed
	}
	plain, err := box.Open(nil, s.Value[:n], s.Value[n:], []byte(key))
	if err != nil {
		return "", false, ErrUnsealed
	}
	return string(plain), true, nil
}

// sealing gives what encrypts secrets; with make, the key is made where there is none.
func (d *Settings) sealing(make bool) (cipher.AEAD, error) {
	path := d.keyFile
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && make {
		key = newKey()
		f, cerr := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if cerr != nil {
			return nil, fmt.Errorf("the key of secrets: %w", cerr)
		}
		_, err = f.Write(key)
		if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
			_ = os.Remove(path)
			return nil, fmt.Errorf("the key of secrets: %w", err)
		}
	}
	if err != nil || len(key) != 32 {
		return nil, ErrUnsealed
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

func newKey() []byte {
	key := make([]byte, 32)
	_, _ = rand.Read(key) // never fails
	return key
}
