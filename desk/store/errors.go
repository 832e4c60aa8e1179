package store

import (
	"errors"
	"io/fs"
	"strings"
	"syscall"

	sqlite "github.com/glebarez/go-sqlite"
	"gorm.io/gorm"
)

// ErrMissing: what was asked for is not there, or not for whoever asks.
var ErrMissing = errors.New("it doesn’t exist or has been deleted")

// NoSpace reports whether an error came of a disk that is full or can't be written to.
func NoSpace(err error) bool {
	for _, e := range []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EFBIG, syscall.EROFS, fs.ErrPermission} {
		if errors.Is(err, e) {
			return true
		}
	}
	var db *sqlite.Error
	if errors.As(err, &db) {
		switch db.Code() & 0xff { // SQLite's result codes: IOERR, READONLY, FULL, CANTOPEN
		case 8, 10, 13, 14:
			return true
		}
	}
	return false
}

// Missing turns gorm's "not found" into ErrMissing.
func Missing(err error) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return ErrMissing
	}
	return err
}

func EscapeLike(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}
