package desk

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
	"path/filepath"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"glenrain/core/step"
)

// Setting is one of the office's settings: a value under a key of the capability that it belongs to, "office.name".
type Setting struct {
	Key      string `gorm:"primaryKey"`
	Value    []byte // JSON; encrypted where it is sealed
	Sealed   bool
	PersonID uint // who set it
	At       time.Time
}

// OfficeName is the key of the name of the office, as it is shown at the top.
const OfficeName = "office.name"

// longest is how long the value of a setting may be, in bytes of JSON.
const longest = 64 << 10

// Setting reads a setting into v; it gives false, and leaves v as it is, where there is none. A sealed one is refused: see Unseal.
func (d *Desk) Setting(ctx context.Context, key string, v any) (bool, error) {
	s, err := setting(d.db.WithContext(ctx), key)
	if err != nil || s == nil {
		return false, err
	}
	if s.Sealed {
		return false, fmt.Errorf("the setting %q is sealed", key)
	}
	return true, json.Unmarshal(s.Value, v)
}

func setting(tx *gorm.DB, key string) (*Setting, error) {
	var rows []Setting
	if err := tx.Limit(1).Find(&rows, "key = ?", key).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// Set sets a setting; only an administrator may. label says in the activity log what was set.
func (d *Desk) Set(ctx context.Context, person uint, key, label string, v any) error {
	value, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return d.set(ctx, person, label, &Setting{Key: key, Value: value})
}

// Seal sets a setting that is a secret: it is kept encrypted (AES-256-GCM), with a key that is in no backup.
func (d *Desk) Seal(ctx context.Context, person uint, key, label, secret string) error {
	box, err := d.sealing(true)
	if err != nil {
		return err
	}
	nonce := make([]byte, box.NonceSize())
	_, _ = rand.Read(nonce) // never fails
	return d.set(ctx, person, label, &Setting{Key: key, Sealed: true, Value: box.Seal(nonce, nonce, []byte(secret), []byte(key))})
}

func (d *Desk) set(ctx context.Context, person uint, label string, s *Setting) error {
	if err := d.may(ctx, person, ActAdminister, nil); err != nil {
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
		return d.noteIn(ctx, tx, Record{PersonID: person, What: "house", Detail: label})
	})
}

// ErrUnsealed: a secret can't be read, since its key is not here: the data folder was restored from a backup without it.
var ErrUnsealed = errors.New("this secret can’t be read here, because its key is missing: enter it again")

// Unseal reads a sealed setting; it gives false where there is none.
func (d *Desk) Unseal(ctx context.Context, key string) (secret string, ok bool, err error) {
	s, err := setting(d.db.WithContext(ctx), key)
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

// sealKeyName is the key's file, where Options.SealKey names none. Backups do not have it.
const sealKeyName = "seal.key"

// sealing gives what encrypts secrets; with make, the key is made where there is none.
func (d *Desk) sealing(make bool) (cipher.AEAD, error) {
	path := d.sealKey
	if path == "" {
		path = filepath.Join(d.dir, sealKeyName)
	}
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

// Range is a range of numbers of the office: file numbers, codes.
type Range struct {
	Next   int    `json:"next"`
	Before string `json:"before,omitempty"` // what is written before each
	Digits int    `json:"digits,omitempty"` // at least so many, with noughts before them
}

// Number writes the next number.
func (r Range) Number() string {
	return fmt.Sprintf("%s%0*d", r.Before, max(1, min(r.Digits, 20)), r.Next)
}

// errTaken: somebody else took the number meanwhile.
var errTaken = errors.New("someone else took the number first")

// mostTaken is how often a number is tried for that others take meanwhile.
const mostTaken = 20

// DoNumbered does a step that takes the next number of a range. The number is taken within the transaction that stores the step: where the step fails
// it is free, and no two steps have the same. params makes the step's parameters of it.
func (d *Desk) DoNumbered(ctx context.Context, c Change, key string, params func(number string) (json.RawMessage, error)) (*Outcome, error) {
	for range mostTaken {
		was, err := setting(d.db.WithContext(ctx), key)
		if err != nil {
			return nil, err
		}
		var r Range
		if was == nil || was.Sealed || json.Unmarshal(was.Value, &r) != nil {
			return nil, step.Refuse("there is no range of numbers “%s”: an administrator must set it first", key)
		}
		if c.Params, err = params(r.Number()); err != nil {
			return nil, err
		}
		r.Next++
		next, err := json.Marshal(r)
		if err != nil {
			return nil, err
		}
		c.with = func(tx *gorm.DB) error {
			res := tx.Model(&Setting{}).Where("key = ? and value = ?", key, was.Value).Update("value", next)
			if res.Error == nil && res.RowsAffected == 0 {
				return errTaken
			}
			return res.Error
		}
		out, err := d.Do(ctx, c)
		if !errors.Is(err, errTaken) {
			return out, err
		}
	}
	return nil, step.Refuse("other people took every number that was tried: try again")
}
