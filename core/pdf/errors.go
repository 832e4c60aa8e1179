package pdf

import "errors"

// The kinds of refusal. Each error of this package that a person may read wraps
// one of them and is a sentence of its own.
var (
	// ErrNotPDF: the bytes are not a PDF file at all.
	ErrNotPDF = errors.New("not a PDF")
	// ErrDamaged: a PDF whose structure can't be followed.
	ErrDamaged = errors.New("damaged PDF")
	// ErrLocked: the file needs a password that was not given.
	ErrLocked = errors.New("locked PDF")
	// ErrUnsupported: lawful, but not handled here.
	ErrUnsupported = errors.New("unsupported PDF")
	// ErrLimit: larger or deeper than any honest file.
	ErrLimit = errors.New("over a limit")
)

// ErrNoPages: a file whose page tree is empty.
var ErrNoPages = refuse(ErrDamaged, "the file has no pages")

// Error is a refusal with a plain sentence.
type Error struct {
	Kind     error  // one of the Err values above
	Sentence string // for people: what is the matter
}

func (e *Error) Error() string { return e.Sentence }
func (e *Error) Unwrap() error { return e.Kind }

func refuse(kind error, sentence string) error { return &Error{kind, sentence} }
