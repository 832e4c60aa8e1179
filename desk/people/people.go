// Package people keeps the people of a house and the record of what they did, and is its gate: it says who somebody is, what they may do, and which documents they see.
// It knows no documents but by the conditions on their rows.
package people

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"gorm.io/gorm"

	"glenrain/core/naming"
	"glenrain/desk/store"
)

// Register is the people of a house and who visits it: people with their roles, sessions and invitations, the gate, and the record of what was done.
type Register struct {
	db      *gorm.DB
	log     *slog.Logger
	now     func() time.Time
	guests  Gate          // knows visitors who are no people; nil where there are none
	hashing chan struct{} // argon2id takes 19 MB each: only so many at once
	guesses guesses

	mu      sync.Mutex
	persons map[uint]Person       // those who asked for something
	opened  map[[2]uint]time.Time // who opened which document when: see Opened
}

// NewRegister gives the register in a database. guests knows those who are no people of the house; nil where there are none.
func NewRegister(db *gorm.DB, log *slog.Logger, now func() time.Time, guests Gate) *Register {
	return &Register{db: db, log: log, now: now, guests: guests, hashing: make(chan struct{}, 2), persons: map[uint]Person{}, opened: map[[2]uint]time.Time{}}
}

// ErrNobody: whoever asks is not known, or not any more.
var ErrNobody = errors.New("no one is signed in")

// Person is someone who signs in.
type Person struct {
	ID        uint
	Name      string // as shown: "Isla Merrow"
	SignIn    string `gorm:"uniqueIndex"` // in lower case
	Hash      string // argon2id
	Role      Role
	CreatedAt time.Time
	RemovedAt *time.Time // removed people keep their names in trails and in the record
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

// ErrSignIn: name and password don't belong together.
var ErrSignIn = errors.New("the name or the password is wrong")

// MinPassword is the least number of characters of a password.
const MinPassword = 10

// BadPerson is what is wrong with the data of a person to be set up.
type BadPerson struct{ Sentence string }

func (b *BadPerson) Error() string { return b.Sentence }

// checkPerson says what is wrong with the data of a person, and tidies it.
func checkPerson(name, signIn, password *string) error {
	*name, *signIn = naming.Harmless(strings.TrimSpace(*name)), strings.ToLower(strings.TrimSpace(*signIn))
	switch {
	case *name == "" || utf8.RuneCountInString(*name) > 80:
		return &BadPerson{"A name has 1 to 80 characters."}
	case *signIn == "" || utf8.RuneCountInString(*signIn) > 80 || *signIn != naming.Harmless(*signIn) || strings.ContainsFunc(*signIn, unicode.IsSpace):
		return &BadPerson{"The name to sign in with has 1 to 80 characters and no spaces."}
	}
	return checkPassword(*password, *signIn, *name)
}

// checkPassword says what is wrong with a new password (NIST SP 800-63B-4, 3.1.1.2: length, and no value that is known or plain from the
// context; nothing about its composition).
func checkPassword(password, signIn, name string) error {
	n := utf8.RuneCountInString(password)
	low := strings.ToLower(password)
	switch {
	case n < MinPassword:
		return &BadPerson{"A password needs at least 10 characters."}
	case len(password) > 1000:
		return &BadPerson{"A password has at most 1,000 bytes."}
	case commonPasswords[low], strings.Count(low, low[:1]) == len(low):
		return &BadPerson{"This password is too common: choose another one."}
	case signIn != "" && strings.ReplaceAll(low, signIn, "") == "", name != "" && low == strings.ToLower(name), strings.Contains(low, "glenrain") && n < 16:
		return &BadPerson{"This password can be guessed from your name or the program’s: choose another one."}
	}
	return nil
}

// AddPerson sets up a person: the first one is an administrator, others are members.
func (d *Register) AddPerson(ctx context.Context, name, signIn, password string) (*Person, error) {
	return d.AddPersonAs(ctx, "", name, signIn, password)
}

// AddPersonAs sets up a person with a role.
func (d *Register) AddPersonAs(ctx context.Context, role Role, name, signIn, password string) (*Person, error) {
	if err := checkPerson(&name, &signIn, &password); err != nil {
		return nil, err
	}
	hash, err := d.hash(ctx, password)
	if err != nil {
		return nil, err
	}
	p := &Person{Name: name, SignIn: signIn, Hash: hash, Role: role}
	return p, d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return d.create(tx, p) })
}

// create stores a person, and voids the addresses that set up the first one.
func (d *Register) create(tx *gorm.DB, p *Person) error {
	var n int64
	if err := tx.Model(&Person{}).Where("removed_at is null").Count(&n).Error; err != nil {
		return err
	}
	if n == 0 {
		p.Role = Administrator
	} else if p.Role == "" {
		p.Role = Member
	}
	p.CreatedAt = d.now()
	if err := tx.Create(p).Error; err != nil {
		if strings.Contains(err.Error(), "UNIQUE") {
			return &BadPerson{"Someone already signs in with this name."}
		}
		return err
	}
	return tx.Delete(&Invite{}, "kind = ?", InviteFirst).Error
}

// turn waits for a free place among those that hash passwords.
func (d *Register) turn(ctx context.Context) (func(), error) {
	select {
	case d.hashing <- struct{}{}:
		return func() { <-d.hashing }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (d *Register) hash(ctx context.Context, password string) (string, error) {
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

// CheapHashesForTests makes hashing passwords cheap.
func CheapHashesForTests() {
	hashing = argon2id.Params{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}
}

// nobody is the hash that a wrong name is compared with, so that it takes as long as a
// wrong password.
var nobody = sync.OnceValues(func() (string, error) { return argon2id.CreateHash(NewToken(), &hashing) })

// SignIn gives the person that name and password belong to.
func (d *Register) SignIn(ctx context.Context, signIn, password string) (*Person, error) {
	var p Person
	err := d.db.WithContext(ctx).First(&p, "sign_in = ? and removed_at is null", strings.ToLower(strings.TrimSpace(signIn))).Error
	known := err == nil
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	if !known {
		if p.Hash, err = nobody(); err != nil {
			return nil, err
		}
	}
	done, err := d.turn(ctx)
	if err != nil {
		return nil, err
	}
	defer done()
	if len(password) > 1000 {
		password = ""
	}
	match, err := argon2id.ComparePasswordAndHash(password, p.Hash)
	if err != nil || !match || !known {
		return nil, ErrSignIn
	}
	return &p, nil
}

// Person gives a person by id.
func (d *Register) Person(ctx context.Context, id uint) (*Person, error) {
	d.mu.Lock()
	p, ok := d.persons[id]
	d.mu.Unlock()
	if ok {
		return &p, nil
	}
	if err := d.db.WithContext(ctx).First(&p, "id = ? and removed_at is null", id).Error; err != nil {
		return nil, store.Missing(err)
	}
	d.mu.Lock()
	if d.persons != nil {
		d.persons[id] = p
	}
	d.mu.Unlock()
	return &p, nil
}

// personChanged has a person read anew: everything asks who somebody is.
func (d *Register) personChanged(id uint) {
	d.mu.Lock()
	delete(d.persons, id)
	d.mu.Unlock()
}

func (d *Register) NameOf(ctx context.Context, id uint) string {
	var p Person
	_ = d.db.WithContext(ctx).Limit(1).Find(&p, "id = ?", id).Error // without a name otherwise
	return p.Name
}

// Empty reports whether nobody is set up yet.
func (d *Register) Empty(ctx context.Context) (bool, error) {
	var n int64
	err := d.db.WithContext(ctx).Model(&Person{}).Where("removed_at is null").Count(&n).Error
	return n == 0, err
}

func NewToken() string {
	b := make([]byte, 24)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return base64.RawURLEncoding.EncodeToString(b)
}

func tokenHash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// Sessions keeps the sessions of signed-in browsers (the store that scs asks for).
type Sessions struct{ db *gorm.DB }

// Sessions gives the store of sessions.
func (d *Register) Sessions() *Sessions { return &Sessions{d.db} }

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
	if known && store.NoSpace(err) {
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
func (d *Register) Choice(ctx context.Context, person uint, name string) string {
	var c Choice
	if d.db.WithContext(ctx).Limit(1).Find(&c, "person_id = ? and name = ?", person, name).Error != nil {
		return ""
	}
	return c.Value
}

// Choose keeps it.
func (d *Register) Choose(ctx context.Context, person uint, name, value string) error {
	return d.db.WithContext(ctx).Save(&Choice{person, name, value}).Error
}
