package people

import (
	"context"
	"slices"
	"time"
)

// Visitor is who does something in the house: one of its people, or a guest, who has one document. The id of a visitor stands with
// whatever they do, in steps and in the record; the gate knows who it is.
type Visitor interface {
	// Called is the name that trails and the record show.
	Called() string
	// May says why the visitor may not do something at all (*Forbidden); nil where they may, as far as it goes without a document.
	May(act Act) error
	// Scope gives the condition, with its arguments, on rows of documents under an alias, that the visitor may see them.
	Scope(alias string) (condition string, args []any)
}

// Gate knows the visitors. Before each act the house asks it who somebody is, and the visitor whether they may.
type Gate interface {
	// Visitor gives a visitor by id; ErrNobody where there is none, or none any more.
	Visitor(ctx context.Context, id uint) (Visitor, error)
	// People gives what visitors are called, by id: also of those who were here before.
	People(ctx context.Context) (map[uint]string, error)
}

// FirstGuest is where the ids of guests begin, so that none is a person's.
const FirstGuest = 1 << 31

// What Scope gives where a visitor sees every document, or none.
const (
	Everything = "1 = 1"
	Nothing    = "1 = 0"
)

// Called is the person's name.
func (p *Person) Called() string { return p.Name }

// May asks the person's role.
func (p *Person) May(act Act) error {
	if !p.Role.Allows(act) {
		return forbidden(p.Role, act)
	}
	return nil
}

// Scope gives the documents that they own or that were passed on to them, and those in folders that are open to the house or to them.
func (p *Person) Scope(alias string) (string, []any) {
	if p.Role == Administrator {
		return Everything, nil
	}
	return "(" + alias + ".owner_id = ? OR " + alias + ".folder_id NOT IN (SELECT id FROM folders WHERE closed)" +
		" OR " + alias + ".folder_id IN (SELECT folder_id FROM folder_people WHERE person_id = ?)" +
		" OR " + alias + ".id IN (SELECT document_id FROM passed_ons WHERE person_id = ?))", []any{p.ID, p.ID, p.ID}
}

// Guest is a visitor from outside: they have one document, as it is now, and may do with it what they were asked for.
type Guest struct {
	Name     string
	Document uint
	Acts     []Act
	Until    time.Time // zero for no end
}

// guestActs are what guests can be asked for: nothing that is not about their document, or changes what others wrote.
var guestActs = []Act{ActLook, ActComment}

// Called is the guest's name.
func (g *Guest) Called() string { return g.Name }

// May reports what the guest was asked for.
func (g *Guest) May(act Act) error {
	if slices.Contains(guestActs, act) && slices.Contains(g.Acts, act) {
		return nil
	}
	return &Forbidden{"you can’t do this with a document that you were invited to"}
}

// Scope is the one document, unless it is in the Bin.
func (g *Guest) Scope(alias string) (string, []any) {
	return "(" + alias + ".id = ? AND " + alias + ".away_at IS NULL)", []any{g.Document}
}

// Visitor gives whoever has an id: people by the register's own table, guests by whoever invites them.
func (d *Register) Visitor(ctx context.Context, id uint) (Visitor, error) {
	if id < FirstGuest {
		if p, err := d.Person(ctx, id); err == nil {
			return p, nil
		}
		return nil, ErrNobody
	}
	if d.guests == nil {
		return nil, ErrNobody
	}
	v, err := d.guests.Visitor(ctx, id)
	if guest, ok := v.(*Guest); err == nil && ok && !guest.Until.IsZero() && !d.now().Before(guest.Until) {
		return nil, ErrNobody
	}
	return v, err
}

// People gives names by id: those of people, also of removed ones, and of guests.
func (d *Register) People(ctx context.Context) (map[uint]string, error) {
	var all []Person
	if err := d.db.WithContext(ctx).Find(&all).Error; err != nil {
		return nil, err
	}
	out := map[uint]string{}
	for _, p := range all {
		out[p.ID] = p.Name
	}
	if d.guests == nil {
		return out, nil
	}
	guests, err := d.guests.People(ctx)
	if err != nil {
		return nil, err
	}
	for id, name := range guests {
		if id >= FirstGuest {
			out[id] = name
		}
	}
	return out, nil
}

// Admits asks a visitor about an act, as far as it goes without a document.
func (d *Register) Admits(ctx context.Context, visitor uint, act Act) error {
	v, err := d.Visitor(ctx, visitor)
	if err != nil {
		return err
	}
	return v.May(act)
}

// Scoped gives the condition, with its arguments, on rows of documents under an alias, that a visitor may see them.
func (d *Register) Scoped(ctx context.Context, visitor uint, alias string) (string, []any, error) {
	v, err := d.Visitor(ctx, visitor)
	if err != nil {
		return "", nil, err
	}
	in, args := v.Scope(alias)
	return in, args, nil
}
