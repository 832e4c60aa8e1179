package people

import (
	"context"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"

	"glenrain/core/naming"
	"glenrain/core/step"
	"glenrain/desk/store"
)

// InviteKind is what a one-time address does.
type InviteKind string

// The kinds there are.
const (
	InviteFirst InviteKind = "first" // sets up the first person
	InviteJoin  InviteKind = "join"  // sets up somebody with a role
	InviteReset InviteKind = "reset" // sets a new password
	InviteEnter InviteKind = "enter" // signs in: the demo's
)

// Invite is a one-time address, kept by the hash of its token.
type Invite struct {
	Hash     string `gorm:"primaryKey"`
	Number   string `gorm:"index"` // by which it is named on screens
	Kind     InviteKind
	PersonID uint   // whom it signs in, or whose password it sets
	Role     Role   // of whom it sets up
	For      string // whom it was made for, in the words of who made it
	By       uint
	At       time.Time
	Expiry   time.Time
}

// ErrInvite: a one-time address that was used, is too old, or never was.
var ErrInvite = errors.New("this link was used before or has expired")

// Valid is how long a one-time address can be used.
const Valid = 3 * 24 * time.Hour

// invite makes a one-time address and gives its token, which is kept nowhere.
func (d *Register) invite(ctx context.Context, in Invite, valid time.Duration) (token string, err error) {
	token = NewToken()
	in.Hash, in.Number, in.At, in.Expiry = tokenHash(token), NewToken()[:12], d.now(), d.now().Add(valid)
	return token, d.db.WithContext(ctx).Create(&in).Error
}

// InviteFirst makes the address that sets up the first person. Earlier ones are void.
func (d *Register) InviteFirst(ctx context.Context, valid time.Duration) (string, error) {
	if err := d.db.WithContext(ctx).Delete(&Invite{}, "kind = ?", InviteFirst).Error; err != nil {
		return "", err
	}
	return d.invite(ctx, Invite{Kind: InviteFirst, Role: Administrator}, valid)
}

// InviteToEnter makes an address that signs in as a person. Earlier ones are void.
func (d *Register) InviteToEnter(ctx context.Context, person uint, valid time.Duration) (string, error) {
	if err := d.db.WithContext(ctx).Delete(&Invite{}, "kind = ? and person_id = ?", InviteEnter, person).Error; err != nil {
		return "", err
	}
	return d.invite(ctx, Invite{Kind: InviteEnter, PersonID: person}, valid)
}

// Join makes an address that sets up somebody with a role. person 0 is whoever has the machine.
func (d *Register) Join(ctx context.Context, person uint, role Role, who string) (string, error) {
	if person != 0 {
		if err := d.Admits(ctx, person, ActAdminister); err != nil {
			return "", err
		}
	}
	if !validRole(role) {
		return "", step.Refuse("choose a role: administrator, member or reader")
	}
	who = naming.Harmless(strings.TrimSpace(clip(who, 80)))
	token, err := d.invite(ctx, Invite{Kind: InviteJoin, Role: role, By: person, For: who}, Valid)
	if err == nil {
		d.Note(ctx, Record{PersonID: person, Who: atMachine(person), What: "invited", Detail: strings.TrimSpace(string(role) + " " + who)})
	}
	return token, err
}

// Reset makes an address that sets a new password for a person; earlier ones are void, and nothing else changes until it is used.
func (d *Register) Reset(ctx context.Context, person, of uint) (string, error) {
	if person != 0 {
		if err := d.Admits(ctx, person, ActAdminister); err != nil {
			return "", err
		}
	}
	p, err := d.Person(ctx, of)
	if err != nil {
		return "", err
	}
	if err := d.db.WithContext(ctx).Delete(&Invite{}, "kind = ? and person_id = ?", InviteReset, of).Error; err != nil {
		return "", err
	}
	token, err := d.invite(ctx, Invite{Kind: InviteReset, PersonID: of, By: person, For: p.Name}, Valid)
	if err == nil {
		d.Note(ctx, Record{PersonID: person, Who: atMachine(person), What: "password", Detail: "a link to set a new one, for " + p.Name})
	}
	return token, err
}

func atMachine(person uint) string {
	if person == 0 {
		return "at the machine"
	}
	return ""
}

func validRole(r Role) bool { return r == Administrator || r == Member || r == Reader }

// Invites lists the addresses that wait to be used.
func (d *Register) Invites(ctx context.Context, person uint) ([]Invite, error) {
	if err := d.Admits(ctx, person, ActAdminister); err != nil {
		return nil, err
	}
	var out []Invite
	return out, d.db.WithContext(ctx).Order("at desc").Find(&out, "expiry > ? and kind <> ?", d.now(), InviteEnter).Error
}

// Void makes an address void.
func (d *Register) Void(ctx context.Context, person uint, number string) error {
	if err := d.Admits(ctx, person, ActAdminister); err != nil {
		return err
	}
	var in Invite
	if err := d.db.WithContext(ctx).First(&in, "number = ?", number).Error; err != nil {
		return store.Missing(err)
	}
	if err := d.db.WithContext(ctx).Delete(&Invite{}, "number = ?", number).Error; err != nil {
		return err
	}
	d.Note(ctx, Record{PersonID: person, What: "invited", Detail: "the link for " + strings.TrimSpace(string(in.Role)+" "+in.For) + " cancelled"})
	return nil
}

// InviteFor tells what a one-time address does, without using it up.
func (d *Register) InviteFor(ctx context.Context, token string) (*Invite, error) {
	var in Invite
	err := d.db.WithContext(ctx).First(&in, "hash = ? and expiry > ?", tokenHash(token), d.now()).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, ErrInvite
	}
	return &in, err
}

// Accepted is what somebody fills in at a one-time address.
type Accepted struct{ Name, SignIn, Password string }

// Accept uses a one-time address up and does what it is for, in one transaction: of many who send it at once, one gets in.
func (d *Register) Accept(ctx context.Context, token string, a Accepted) (*Person, error) {
	in, err := d.InviteFor(ctx, token)
	if err != nil {
		return nil, err
	}
	p := &Person{Role: in.Role}
	switch in.Kind {
	case InviteFirst, InviteJoin:
		if err := checkPerson(&a.Name, &a.SignIn, &a.Password); err != nil {
			return nil, err
		}
		p.Name, p.SignIn = a.Name, a.SignIn
	case InviteReset, InviteEnter:
		if p, err = d.Person(ctx, in.PersonID); err != nil {
			return nil, ErrInvite
		}
		if in.Kind == InviteReset {
			if err := checkPassword(a.Password, p.SignIn, p.Name); err != nil {
				return nil, err
			}
		}
	default:
		return nil, ErrInvite
	}
	if in.Kind != InviteEnter {
		if p.Hash, err = d.hash(ctx, a.Password); err != nil {
			return nil, err
		}
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		res := tx.Delete(&Invite{}, "hash = ? and expiry > ?", in.Hash, d.now())
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected != 1 {
			return ErrInvite
		}
		switch in.Kind {
		case InviteFirst:
			var n int64
			if err := tx.Model(&Person{}).Where("removed_at is null").Count(&n).Error; err != nil {
				return err
			}
			if n > 0 {
				return ErrInvite
			}
			fallthrough
		case InviteJoin:
			if err := d.create(tx, p); err != nil {
				return err
			}
			return d.NoteIn(ctx, tx, Record{PersonID: p.ID, Who: p.Name, What: "joined", Detail: "as " + string(p.Role)})
		case InviteReset:
			if err := tx.Model(p).Update("hash", p.Hash).Error; err != nil {
				return err
			}
			if err := endAll(tx, p.ID, ""); err != nil {
				return err
			}
			return d.NoteIn(ctx, tx, Record{PersonID: p.ID, What: "password", Detail: "set by a one-time link; all sessions ended"})
		}
		return nil
	})
	d.personChanged(p.ID)
	return p, err
}
