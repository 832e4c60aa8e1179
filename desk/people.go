package desk

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"gorm.io/gorm"
)

// ErrSignIn: name and password don't belong together.
var ErrSignIn = errors.New("the name and the password don't belong together")

// ErrInvite: a one-time address that was used, is too old, or never was.
var ErrInvite = errors.New("this address was used before or is too old")

// MinPassword is the least number of characters of a password.
const MinPassword = 10

// BadPerson is what is wrong with the data of a person to be set up.
type BadPerson struct{ Sentence string }

func (b *BadPerson) Error() string { return b.Sentence }

// AddPerson sets up a person.
func (d *Desk) AddPerson(ctx context.Context, name, signIn, password string) (*Person, error) {
	name, signIn = strings.TrimSpace(name), strings.ToLower(strings.TrimSpace(signIn))
	switch {
	case name == "" || utf8.RuneCountInString(name) > 80:
		return nil, &BadPerson{"A name has 1 to 80 characters."}
	case signIn == "" || utf8.RuneCountInString(signIn) > 80 || strings.ContainsAny(signIn, " \t\n"):
		return nil, &BadPerson{"The name to sign in with has 1 to 80 characters and no spaces."}
	case utf8.RuneCountInString(password) < MinPassword:
		return nil, &BadPerson{"A password has at least 10 characters."}
	case len(password) > 1000:
		return nil, &BadPerson{"A password has at most 1,000 bytes."}
	}
	hash, err := d.hash(ctx, password)
	if err != nil {
		return nil, err
	}
	p := &Person{Name: name, SignIn: signIn, Hash: hash, CreatedAt: d.now()}
	err = d.db.WithContext(ctx).Create(p).Error
	if err != nil && strings.Contains(err.Error(), "UNIQUE") {
		return nil, &BadPerson{"Somebody signs in with this name already."}
	}
	return p, err
}

// turn waits for a free place among those that hash passwords.
func (d *Desk) turn(ctx context.Context) (func(), error) {
	select {
	case d.hashing <- struct{}{}:
		return func() { <-d.hashing }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (d *Desk) hash(ctx context.Context, password string) (string, error) {
	done, err := d.turn(ctx)
	if err != nil {
		return "", err
	}
	defer done()
	return argon2id.CreateHash(password, &hashing)
}

// hashing is what a hash costs: the least that OWASP's guidance for argon2id asks, since forty people may sign in at nine o'clock.
// Hashes of another cost stay good: each says its own.
var hashing = argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// nobody is the hash that a wrong name is compared with, so that it takes as long as a
// wrong password.
const nobody = "$argon2id$v=19$m=19456,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$FjZmZ8F1hXo2vAdbAZqhzZ3sZ3bWlrX4KfBx5sYVuqU"

// SignIn gives the person that name and password belong to.
func (d *Desk) SignIn(ctx context.Context, signIn, password string) (*Person, error) {
	var p Person
	err := d.db.WithContext(ctx).First(&p, "sign_in = ?", strings.ToLower(strings.TrimSpace(signIn))).Error
	known := err == nil
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	if !known {
		p.Hash = nobody
	}
	done, err := d.turn(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	match, err := argon2id.ComparePasswordAndHash(password, p.Hash)
	if err != nil || !match || !known {
		return nil, ErrSignIn
	}
	return &p, nil
}

// Person gives a person by id.
func (d *Desk) Person(ctx context.Context, id uint) (*Person, error) {
	var p Person
	if err := d.db.WithContext(ctx).First(&p, id).Error; err != nil {
		return nil, missing(err)
	}
	return &p, nil
}

// People gives the names of all people by id.
func (d *Desk) People(ctx context.Context) (map[uint]string, error) {
	var all []Person
	if err := d.db.WithContext(ctx).Find(&all).Error; err != nil {
		return nil, err
	}
	out := map[uint]string{}
	for _, p := range all {
		out[p.ID] = p.Name
	}
	return out, nil
}

// Empty reports whether nobody is set up yet.
func (d *Desk) Empty(ctx context.Context) (bool, error) {
	var n int64
	err := d.db.WithContext(ctx).Model(&Person{}).Count(&n).Error
	return n == 0, err
}

func newToken() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return base64.RawURLEncoding.EncodeToString(b)
}

func tokenHash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// Invite makes a one-time token that signs in as the person, or, with 0, sets up the first one.
func (d *Desk) Invite(ctx context.Context, person uint, valid time.Duration) (string, error) {
	token := newToken()
	return token, d.db.WithContext(ctx).Create(&Invite{Hash: tokenHash(token), PersonID: person, Expiry: d.now().Add(valid)}).Error
}

// InviteFor tells whom a one-time token is for, without using it up.
func (d *Desk) InviteFor(ctx context.Context, token string) (person uint, err error) {
	var in Invite
	err = d.db.WithContext(ctx).First(&in, "hash = ? and expiry > ?", tokenHash(token), d.now()).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return 0, ErrInvite
	}
	return in.PersonID, err
}

// UseInvite uses a one-time token up.
func (d *Desk) UseInvite(ctx context.Context, token string) error {
	res := d.db.WithContext(ctx).Delete(&Invite{}, "hash = ?", tokenHash(token))
	if res.Error == nil && res.RowsAffected == 0 {
		return ErrInvite
	}
	return res.Error
}

// Sessions keeps the sessions of signed-in browsers (the store that scs asks for).
type Sessions struct{ db *gorm.DB }

// Sessions gives the store of sessions.
func (d *Desk) Sessions() *Sessions { return &Sessions{d.db} }

// Find gives the data of a session that has not run out.
func (s *Sessions) Find(token string) ([]byte, bool, error) {
	var row Session
	err := s.db.First(&row, "hash = ? and expiry > ?", tokenHash(token), time.Now()).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, false, nil
	}
	return row.Data, err == nil, err
}

// Commit stores a session. One that only lasts longer from now on need not be written each time,
// and can't be where the disk is full: who is signed in can still look at what is there.
func (s *Sessions) Commit(token string, b []byte, expiry time.Time) error {
	var was Session
	err := s.db.First(&was, "hash = ?", tokenHash(token)).Error
	if err == nil && bytes.Equal(b, was.Data) && expiry.Sub(was.Expiry) < expiryStep {
		return nil
	}
	known := err == nil
	err = s.db.Save(&Session{Hash: tokenHash(token), Data: b, Expiry: expiry}).Error
	if known && NoSpace(err) {
		return nil
	}
	return err
}

// expiryStep is by how much a session is made to last longer at a time.
const expiryStep = 10 * time.Minute

// Delete ends a session.
func (s *Sessions) Delete(token string) error {
	return s.db.Delete(&Session{}, "hash = ?", tokenHash(token)).Error
}

// Choice is how a person left something on the screens.
type Choice struct {
	PersonID uint   `gorm:"primaryKey;autoIncrement:false"`
	Name     string `gorm:"primaryKey"`
	Value    string
}

// Choice gives how a person left something; empty where it was never chosen.
func (d *Desk) Choice(ctx context.Context, person uint, name string) string {
	var c Choice
	if d.db.WithContext(ctx).Limit(1).Find(&c, "person_id = ? and name = ?", person, name).Error != nil {
		return ""
	}
	return c.Value
}

// Choose keeps it.
func (d *Desk) Choose(ctx context.Context, person uint, name, value string) error {
	return d.db.WithContext(ctx).Save(&Choice{person, name, value}).Error
}
