package desk

import (
	"context"
	"errors"
	"slices"

	"glenrain/core/step"
)

// Act is something that a person does in the house, as the gate asks about it.
type Act string

// The acts there are.
const (
	ActLook       Act = "look"       // at a document, its pages and its text
	ActDownload   Act = "download"   // an original, or a file that was handed out
	ActHistory    Act = "history"    // look at earlier states, the file as it came, and files that were exported
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
	Member: {ActLook, ActDownload, ActHistory, ActComment, ActAdd, ActChange, ActRename, ActMove, ActPass, ActBin, ActRestore, ActHandOut, ActFolder},
	Reader: {ActLook, ActDownload, ActHistory, ActComment},
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

// may asks the gate before an act, with the document that it is about (nil where it is about none, or a new one). What a
// visitor may not see is not there for them (ErrMissing); what they may not do is *Forbidden.
func (d *Desk) may(ctx context.Context, visitor uint, act Act, document *Document) error {
	v, err := d.gate.Visitor(ctx, visitor)
	if err != nil {
		return err
	}
	if document != nil {
		if in, args := v.Scope("documents"); in != everything {
			var n int64
			if err := d.db.WithContext(ctx).Model(&Document{}).Where("documents.id = ?", document.ID).Where(in, args...).Limit(1).Count(&n).Error; err != nil {
				return err
			}
			if n == 0 {
				return ErrMissing
			}
		}
		if document.BinnedAt != nil && !slices.Contains(binned, act) {
			return errBinned
		}
	}
	return v.May(act)
}

// mayHistory is may for what shows a document as it was before.
func (d *Desk) mayHistory(ctx context.Context, visitor uint, act Act, document *Document) error {
	if err := d.may(ctx, visitor, act, document); err != nil {
		return err
	}
	return d.may(ctx, visitor, ActHistory, document)
}

// May asks the gate about an act on a document; 0 where it is about none, or a new one.
func (d *Desk) May(ctx context.Context, visitor uint, act Act, document uint) error {
	if document == 0 {
		return d.may(ctx, visitor, act, nil)
	}
	return d.seen(ctx, visitor, document, act)
}

// scoped gives the condition, with its arguments, on rows of documents under an alias, that a visitor may see them.
func (d *Desk) scoped(ctx context.Context, visitor uint, alias string) (string, []any, error) {
	v, err := d.gate.Visitor(ctx, visitor)
	if err != nil {
		return "", nil, err
	}
	in, args := v.Scope(alias)
	return in, args, nil
}

// handedOutOf gives the condition on rows of hand_outs that a visitor may see the documents they are of.
func (d *Desk) handedOutOf(ctx context.Context, visitor uint) (string, []any, error) {
	v, err := d.gate.Visitor(ctx, visitor)
	if err != nil {
		return "", nil, err
	}
	if v.May(ActHistory) != nil {
		return nothing, nil, nil
	}
	in, args := v.Scope("d")
	if in == everything {
		return everything, nil, nil
	}
	return "EXISTS (SELECT 1 FROM documents d WHERE d.id = hand_outs.document_id AND d.away_at IS NULL AND " + in + ")", args, nil
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
	s, err := d.Look(ctx, person, st.DocumentID)
	if err != nil {
		return nil, err
	}
	if s.State.ID == state {
		return s, nil
	}
	if err := d.may(ctx, person, ActHistory, &s.Document); err != nil {
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
		var no *Forbidden
		if errors.As(d.may(ctx, person, ActRestore, nil), &no) {
			return nil, ErrMissing // for those who could not restore it
		}
	}
	return row, d.may(ctx, person, act, row)
}
