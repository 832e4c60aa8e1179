package desk

import (
	"context"
	"slices"

	"glenrain/core/step"
)

// Act is something that a person does in the house, as the gate asks about it.
type Act string

// The acts there are.
const (
	ActLook       Act = "look"       // at a document, its pages and its text
	ActDownload   Act = "download"   // an original, or a file that was handed out
	ActComment    Act = "comment"    // the steps that are marks and comments
	ActAdd        Act = "add"        // files, and documents combined of others
	ActChange     Act = "change"     // steps, undo, redo
	ActRename     Act = "rename"     //
	ActMove       Act = "move"       // to another folder
	ActPass       Act = "share"      // let somebody else see a document
	ActBin        Act = "bin"        // delete to the Bin
	ActRestore    Act = "restore"    // from the Bin
	ActHandOut    Act = "export"     //
	ActFolder     Act = "folder"     // make one, say who sees it
	ActPurge      Act = "purge"      // a document, for good
	ActAdminister Act = "administer" // people, the record, what the house keeps and for how long
)

// Role is what a person may do.
type Role string

// The roles there are, in plain words.
const (
	Administrator Role = "administrator"
	Member        Role = "member"
	Reader        Role = "reader"
)

// Roles lists them, and Means says what each may do.
var Roles = []Role{Administrator, Member, Reader}

// A gives the role with its article: "an administrator".
func (r Role) A() string {
	if r == Administrator {
		return "an administrator"
	}
	return "a " + string(r)
}

// Means says what a role may do.
func (r Role) Means() string {
	switch r {
	case Administrator:
		return "can do everything, sees every document, and manages people and the activity log"
	case Member:
		return "can add, change and export documents"
	}
	return "can read documents and comment on them, but not change them"
}

// allowed is what each role may do; an administrator may do everything.
var allowed = map[Role][]Act{
	Member: {ActLook, ActDownload, ActComment, ActAdd, ActChange, ActRename, ActMove, ActPass, ActBin, ActRestore, ActHandOut, ActFolder},
	Reader: {ActLook, ActDownload, ActComment},
}

// Allows reports whether a role may do something, as far as the role goes.
func (r Role) Allows(a Act) bool { return r == Administrator || slices.Contains(allowed[r], a) }

// Forbidden is an act that a person's role does not allow.
type Forbidden struct{ Sentence string }

func (f *Forbidden) Error() string { return f.Sentence }

func forbidden(r Role, a Act) error {
	switch {
	case a == ActAdminister, a == ActPurge:
		return &Forbidden{"only an administrator can do this"}
	case r == Reader:
		return &Forbidden{"you can’t change documents, because you are a reader: ask an administrator to make you a member"}
	}
	return &Forbidden{"your role does not allow this"}
}

// binned are the acts that a document in the Bin can be the object of.
var binned = []Act{ActBin, ActRestore, ActPurge}

var errBinned = step.Refuse("this document is in the Bin: restore it to open it")

// may is the one gate: it is asked before every act, with the document that it is about (nil where it is about none, or a new one). What a
// person may not see is not there for them (ErrMissing); what their role does not allow is *Forbidden.
func (d *Desk) may(ctx context.Context, person uint, act Act, document *Document) error {
	_, err := d.who(ctx, person, act, document)
	return err
}

// May asks the gate about an act on a document; 0 where it is about none, or a new one.
func (d *Desk) May(ctx context.Context, person uint, act Act, document uint) error {
	if document == 0 {
		return d.may(ctx, person, act, nil)
	}
	return d.seen(ctx, person, document, act)
}

// who is may, and gives the person.
func (d *Desk) who(ctx context.Context, person uint, act Act, document *Document) (*Person, error) {
	p, err := d.Person(ctx, person)
	if err != nil {
		return nil, ErrNobody
	}
	if document != nil {
		n := int64(1)
		if p.Role != Administrator {
			in, args := scope(p, "documents")
			if err := d.db.WithContext(ctx).Model(&Document{}).Where("documents.id = ?", document.ID).Where(in, args...).Limit(1).Count(&n).Error; err != nil {
				return nil, err
			}
		}
		if n == 0 {
			return nil, ErrMissing
		}
		if document.BinnedAt != nil && !slices.Contains(binned, act) {
			return nil, errBinned
		}
	}
	if !p.Role.Allows(act) {
		return nil, forbidden(p.Role, act)
	}
	return p, nil
}

// scope gives the condition, with its arguments, on rows of documents under an alias, that a person may see them: those they own or that
// were passed on to them, and those in folders that are open to the house or to them.
func scope(p *Person, alias string) (string, []any) {
	if p.Role == Administrator {
		return "1 = 1", nil
	}
	return "(" + alias + ".owner_id = ? OR " + alias + ".folder_id NOT IN (SELECT id FROM folders WHERE closed)" +
		" OR " + alias + ".folder_id IN (SELECT folder_id FROM folder_people WHERE person_id = ?)" +
		" OR " + alias + ".id IN (SELECT document_id FROM passed_ons WHERE person_id = ?))", []any{p.ID, p.ID, p.ID}
}

// handedOutOf gives the condition on rows of hand_outs that a person may see the documents they are of.
func handedOutOf(p *Person) (string, []any) {
	if p.Role == Administrator {
		return "1 = 1", nil
	}
	in, args := scope(p, "d")
	return "EXISTS (SELECT 1 FROM documents d WHERE d.id = hand_outs.document_id AND d.away_at IS NULL AND " + in + ")", args
}

// scoped is scope for somebody by their id; ErrNobody where there is no such person.
func (d *Desk) scoped(ctx context.Context, person uint, alias string) (string, []any, error) {
	p, err := d.Person(ctx, person)
	if err != nil {
		return "", nil, ErrNobody
	}
	in, args := scope(p, alias)
	return in, args, nil
}

// Look gives a document at its head to a person.
func (d *Desk) Look(ctx context.Context, person, id uint) (*Snapshot, error) {
	row, err := d.Document(ctx, person, id)
	if err != nil {
		return nil, err
	}
	if err := d.may(ctx, person, ActLook, row); err != nil {
		return nil, err
	}
	return d.Snapshot(ctx, id)
}

// LookAt gives a document as it was at a state.
func (d *Desk) LookAt(ctx context.Context, person, state uint) (*Snapshot, error) {
	var st State
	if err := d.db.WithContext(ctx).First(&st, state).Error; err != nil {
		return nil, missing(err)
	}
	if _, err := d.Look(ctx, person, st.DocumentID); err != nil {
		return nil, err
	}
	return d.At(ctx, state)
}

// Document gives the row of a document that a person may see, wherever it is.
func (d *Desk) Document(ctx context.Context, person, id uint) (*Document, error) {
	row, err := d.row(ctx, id)
	if err != nil {
		return nil, err
	}
	act := ActLook
	if row.BinnedAt != nil {
		act = ActBin // it is only seen
		if p, err := d.Person(ctx, person); err == nil && p.Role == Reader {
			return nil, ErrMissing // who could not restore it
		}
	}
	return row, d.may(ctx, person, act, row)
}
