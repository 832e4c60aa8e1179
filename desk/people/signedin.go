package people

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"glenrain/core/naming"
	"glenrain/core/step"
	"glenrain/desk/store"
)

// SignedIn is a browser in which somebody is signed in: by the hash of its session's token.
type SignedIn struct {
	Hash     string `gorm:"primaryKey"`
	Number   string `gorm:"index"` // by which it is named on screens
	PersonID uint   `gorm:"index"`
	Browser  string // as it calls itself, in short
	Address  string
	At       time.Time
	SeenAt   time.Time
	Expiry   time.Time // whatever happens
}

// Device is a browser in which a person signed in before: by the hash of a token that it keeps. Tries to sign in elsewhere do not
// hold up who signs in here.
type Device struct {
	Hash     string `gorm:"primaryKey"`
	PersonID uint   `gorm:"primaryKey;autoIncrement:false;index"`
	SeenAt   time.Time
}

// Longest is how long somebody stays signed in, at most, and Idle, without asking for anything.
const (
	Longest = 30 * 24 * time.Hour
	Idle    = 7 * 24 * time.Hour
)

// Begin notes that a person is signed in with a session.
func (d *Register) Begin(ctx context.Context, token string, person uint, browser string) error {
	now := d.now()
	s := SignedIn{Hash: tokenHash(token), Number: NewToken()[:12], PersonID: person, Browser: browserName(browser), Address: addressOf(ctx), At: now, SeenAt: now, Expiry: now.Add(Longest)}
	if err := d.db.WithContext(ctx).Save(&s).Error; err != nil {
		return err
	}
	d.Note(ctx, Record{PersonID: person, What: "signed in", Detail: s.Browser})
	return nil
}

// seenEvery is how often it is written down that somebody is still there.
const seenEvery = 5 * time.Minute

// Whose gives the person who is signed in with a session; ErrNobody where it has ended.
func (d *Register) Whose(ctx context.Context, token string) (*Person, error) {
	if token == "" {
		return nil, ErrNobody
	}
	var s SignedIn
	now := d.now()
	err := d.db.WithContext(ctx).First(&s, "hash = ? and expiry > ? and seen_at > ?", tokenHash(token), now, now.Add(-Idle)).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, ErrNobody
	}
	if err != nil {
		return nil, err
	}
	p, err := d.Person(ctx, s.PersonID)
	if errors.Is(err, store.ErrMissing) {
		return nil, ErrNobody
	}
	if err == nil && now.Sub(s.SeenAt) > seenEvery {
		err = d.db.WithContext(ctx).Model(&SignedIn{}).Where("hash = ?", s.Hash).Updates(map[string]any{"seen_at": now, "address": addressOf(ctx)}).Error
		if store.NoSpace(err) { // who is signed in can still look at what is there
			err = nil
		}
	}
	return p, err
}

// Leave ends a session.
func (d *Register) Leave(ctx context.Context, token string) error {
	p, err := d.Whose(ctx, token)
	if err != nil {
		return nil // it has ended
	}
	if err := d.db.WithContext(ctx).Delete(&SignedIn{}, "hash = ?", tokenHash(token)).Error; err != nil {
		return err
	}
	d.Note(ctx, Record{PersonID: p.ID, What: "signed out"})
	return nil
}

// SessionView is a session as lists show it.
type SessionView struct {
	SignedIn
	Here bool // the one that asks
}

// SessionsOf lists where a person is signed in, newest first: for themselves, or for an administrator. token is that of who asks.
func (d *Register) SessionsOf(ctx context.Context, person, of uint, token string) ([]SessionView, error) {
	if person != of {
		if err := d.Admits(ctx, person, ActAdminister); err != nil {
			return nil, err
		}
	}
	var rows []SignedIn
	now := d.now()
	if err := d.db.WithContext(ctx).Order("seen_at desc").Find(&rows, "person_id = ? and expiry > ? and seen_at > ?", of, now, now.Add(-Idle)).Error; err != nil {
		return nil, err
	}
	out := make([]SessionView, len(rows))
	for i, s := range rows {
		out[i] = SessionView{s, s.Hash == tokenHash(token)}
	}
	return out, nil
}

// EndSession ends a session of a person, by its number; all of them but that of token if number is empty.
func (d *Register) EndSession(ctx context.Context, person, of uint, number, token string) error {
	if person != of {
		if err := d.Admits(ctx, person, ActAdminister); err != nil {
			return err
		}
	}
	who := d.NameOf(ctx, of)
	if number == "" {
		if err := d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return endAll(tx, of, token) }); err != nil {
			return err
		}
		d.Note(ctx, Record{PersonID: person, What: "sessions", Detail: "all others of " + who + " ended"})
		return nil
	}
	res := d.db.WithContext(ctx).Delete(&SignedIn{}, "person_id = ? and number = ?", of, number)
	if res.Error != nil {
		return res.Error
	}
	if res.RowsAffected == 0 {
		return store.ErrMissing
	}
	d.Note(ctx, Record{PersonID: person, What: "sessions", Detail: "one of " + who + " ended"})
	return nil
}

// endAll ends the sessions of a person but one, and forgets the browsers that they signed in with.
func endAll(tx *gorm.DB, person uint, but string) error {
	if err := tx.Delete(&SignedIn{}, "person_id = ? and hash <> ?", person, tokenHash(but)).Error; err != nil {
		return err
	}
	if but != "" {
		return nil
	}
	return tx.Delete(&Device{}, "person_id = ?", person).Error
}

// SetPassword changes a person's own password, and ends their other sessions.
func (d *Register) SetPassword(ctx context.Context, person uint, was, password, token string) error {
	p, err := d.Person(ctx, person)
	if err != nil {
		return ErrNobody
	}
	if err := d.guesses.check(d.now(), own(person)); err != nil {
		return err
	}
	done, err := d.turn(ctx)
	if err != nil {
		return err
	}
	match, err := argon2id.ComparePasswordAndHash(clip(was, 1000), p.Hash)
	done()
	if err != nil || !match {
		d.guesses.failed(d.now(), own(person))
		return step.Refuse("that isn’t your current password; nothing was changed")
	}
	if err := checkPassword(password, p.SignIn, p.Name); err != nil {
		return err
	}
	hash, err := d.hash(ctx, password)
	if err != nil {
		return err
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Model(p).Update("hash", hash).Error; err != nil {
			return err
		}
		return endAll(tx, person, token)
	})
	d.personChanged(person)
	if err == nil {
		d.Note(ctx, Record{PersonID: person, What: "password", Detail: "changed; other sessions ended"})
	}
	return err
}

// SetRole gives a person a role. The last administrator stays one.
func (d *Register) SetRole(ctx context.Context, person, of uint, role Role) error {
	if err := d.Admits(ctx, person, ActAdminister); err != nil {
		return err
	}
	if !validRole(role) {
		return step.Refuse("choose a role: administrator, member or reader")
	}
	p, err := d.Person(ctx, of)
	if err != nil {
		return err
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if role != Administrator {
			if err := anotherAdministrator(tx, of); err != nil {
				return err
			}
		}
		return tx.Model(&Person{ID: of}).Update("role", role).Error
	})
	d.personChanged(of)
	if err == nil {
		d.Note(ctx, Record{PersonID: person, What: "role", Detail: p.Name + " is " + string(role) + ", was " + string(p.Role)})
	}
	return err
}

func anotherAdministrator(tx *gorm.DB, but uint) error {
	var n int64
	if err := tx.Model(&Person{}).Where("role = ? and removed_at is null and id <> ?", Administrator, but).Count(&n).Error; err != nil {
		return err
	}
	if n == 0 {
		return step.Refuse("you can’t change the last administrator’s role: make someone else an administrator first")
	}
	return nil
}

// RemovePerson ends a person's being here: they can't sign in any more, and their documents pass to somebody. Their name stays in trails and in
// the record.
func (d *Register) RemovePerson(ctx context.Context, person, of, to uint) error {
	if err := d.Admits(ctx, person, ActAdminister); err != nil {
		return err
	}
	if person == of {
		return step.Refuse("someone else has to remove you")
	}
	p, err := d.Person(ctx, of)
	if err != nil {
		return err
	}
	heir, err := d.Person(ctx, to)
	if err != nil || to == of {
		return step.Refuse("choose a new owner for the documents of %s", p.Name)
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := anotherAdministrator(tx, of); err != nil {
			return err
		}
		now := d.now()
		// The name to sign in with is free again.
		if err := tx.Model(&Person{ID: of}).Updates(map[string]any{"removed_at": now, "hash": "", "sign_in": p.SignIn + " " + NewToken()[:8]}).Error; err != nil {
			return err
		}
		if err := endAll(tx, of, ""); err != nil {
			return err
		}
		for _, sql := range []string{
			"UPDATE documents SET owner_id = ? WHERE owner_id = ?", "UPDATE folders SET owner_id = ? WHERE owner_id = ?",
			"INSERT OR IGNORE INTO folder_people(folder_id, person_id) SELECT folder_id, ? FROM folder_people WHERE person_id = ? AND folder_id IN (SELECT id FROM folders WHERE owner_id = ?)",
		} {
			args := []any{to, of}
			if strings.Count(sql, "?") == 3 {
				args = append(args, to)
			}
			if err := tx.Exec(sql, args...).Error; err != nil {
				return err
			}
		}
		for _, table := range []string{"folder_people", "passed_ons", "choices", "invites"} {
			if err := tx.Exec("DELETE FROM "+table+" WHERE person_id = ?", of).Error; err != nil {
				return err
			}
		}
		return d.NoteIn(ctx, tx, Record{PersonID: person, What: "removed person", Detail: p.Name + "; their documents pass to " + heir.Name})
	})
	d.personChanged(of)
	return err
}

// PersonView is a person as the list of people shows them.
type PersonView struct {
	Person
	Sessions  int
	SeenAt    time.Time
	Documents int // that they own
}

// AllPeople lists the people of the house for an administrator, by name.
func (d *Register) AllPeople(ctx context.Context, person uint) ([]PersonView, error) {
	if err := d.Admits(ctx, person, ActAdminister); err != nil {
		return nil, err
	}
	var rows []Person
	if err := d.db.WithContext(ctx).Order("name collate nocase").Find(&rows, "removed_at is null").Error; err != nil {
		return nil, err
	}
	now := d.now()
	var in []SignedIn
	if err := d.db.WithContext(ctx).Find(&in, "expiry > ? and seen_at > ?", now, now.Add(-Idle)).Error; err != nil {
		return nil, err
	}
	var own []struct {
		OwnerID uint
		N       int
	}
	if err := d.db.WithContext(ctx).Table("documents").Select("owner_id, count(*) AS n").Group("owner_id").Scan(&own).Error; err != nil {
		return nil, err
	}
	out := make([]PersonView, len(rows))
	for i, p := range rows {
		out[i] = PersonView{Person: p}
		for _, s := range in {
			if s.PersonID == p.ID {
				out[i].Sessions++
				if s.SeenAt.After(out[i].SeenAt) {
					out[i].SeenAt = s.SeenAt
				}
			}
		}
		for _, o := range own {
			if o.OwnerID == p.ID {
				out[i].Documents = o.N
			}
		}
	}
	return out, nil
}

// Others lists the names of those who may sign in, but one, for choosing somebody.
func (d *Register) Others(ctx context.Context, but uint) ([]Person, error) {
	var out []Person
	return out, d.db.WithContext(ctx).Omit("hash").Order("name collate nocase").Find(&out, "removed_at is null and id <> ?", but).Error
}

// KnownDevice reports whether a person signed in before with the browser that keeps a token.
func (d *Register) knownDevice(ctx context.Context, token, signIn string) (uint, error) {
	if token == "" {
		return 0, nil
	}
	var ids []uint
	err := d.db.WithContext(ctx).Raw("SELECT p.id FROM devices d JOIN people p ON p.id = d.person_id WHERE d.hash = ? AND p.sign_in = ? AND p.removed_at IS NULL AND d.seen_at > ?",
		tokenHash(token), signIn, d.now().Add(-Remembered)).Scan(&ids).Error
	if err != nil || len(ids) == 0 {
		return 0, err
	}
	return ids[0], nil
}

// Remembered is how long a browser is remembered in which somebody signed in.
const Remembered = 180 * 24 * time.Hour

// NewDevice makes a token for a browser that has none.
func (d *Register) NewDevice() string { return NewToken() }

// Remember notes that a person signed in with the browser that keeps a token.
func (d *Register) Remember(ctx context.Context, token string, person uint) error {
	return d.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&Device{tokenHash(token), person, d.now()}).Error
}

// Enter is SignIn for a visitor: with throttling by account and by address, and lines of the record. device is the token that the browser keeps.
func (d *Register) Enter(ctx context.Context, signIn, password, device string) (*Person, error) {
	signIn = strings.ToLower(strings.TrimSpace(clip(signIn, 200)))
	known, err := d.knownDevice(ctx, device, signIn)
	if err != nil {
		return nil, err
	}
	keys := []guessKey{{"account", signIn, accountTries}, {"address", addressOf(ctx), addressTries}}
	if known != 0 {
		keys = []guessKey{{"device", tokenHash(device), deviceTries}}
	}
	if err := d.guesses.check(d.now(), keys...); err != nil {
		if d.guesses.first(keys...) { // one line for each quarter of an hour, however often they try
			d.Note(ctx, Record{Who: d.triedAs(ctx, signIn), What: "sign-in failed", Detail: "held up: too many tries"})
		}
		return nil, err
	}
	p, err := d.SignIn(ctx, signIn, password)
	if errors.Is(err, ErrSignIn) {
		d.guesses.failed(d.now(), keys...)
		who := d.triedAs(ctx, signIn)
		d.log.Warn("a sign-in failed", "name", who, "address", addressOf(ctx))
		d.Note(ctx, Record{Who: who, What: "sign-in failed"})
		if known != 0 && d.guesses.check(d.now(), keys...) != nil { // somebody else has the browser
			err = errors.Join(err, d.db.WithContext(ctx).Delete(&Device{}, "hash = ?", tokenHash(device)).Error)
		}
		return nil, err
	}
	if err == nil {
		d.guesses.right(guessKey{"device", tokenHash(device), deviceTries})
		if known == 0 {
			d.guesses.right(guessKey{"account", signIn, accountTries})
		}
	}
	return p, err
}

// triedAs gives the name that somebody tried to sign in with, if anybody does: else it may be a password in the wrong field.
func (d *Register) triedAs(ctx context.Context, signIn string) string {
	var n int64
	if err := d.db.WithContext(ctx).Model(&Person{}).Where("sign_in = ? and removed_at is null", signIn).Count(&n).Error; err != nil || n == 0 {
		return "an unknown name"
	}
	return signIn
}

// browserName says in a few words what a browser calls itself.
func browserName(agent string) string {
	has := func(s string) bool { return strings.Contains(agent, s) }
	name := "a browser"
	switch {
	case agent == "":
		return "a program"
	case has("Edg/"):
		name = "Edge"
	case has("Firefox/"):
		name = "Firefox"
	case has("Chrome/"), has("Chromium/"):
		name = "Chromium"
	case has("Safari/"):
		name = "Safari"
	case !has("Mozilla/"):
		return clip(naming.Harmless(agent), 40)
	}
	for _, system := range []string{"Windows", "Android", "iPhone", "iPad", "Mac OS", "Linux"} {
		if has(system) {
			return name + " on " + strings.Replace(system, "Mac OS", "a Mac", 1)
		}
	}
	return name
}
