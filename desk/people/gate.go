package people

import (
	"slices"
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
