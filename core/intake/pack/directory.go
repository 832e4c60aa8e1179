package pack

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
)

// The directory of a package stands at its end, and the records that lead to it say how many members it lists (APPNOTE 6.3.10, 4.3.14 to 4.3.16). They are read
// before it is, and it is read no further than mostDirectory, whatever they say.
const (
	endSize       = 22      // of the end of central directory record, without its comment
	mostComment   = 1 << 16 // bytes behind it
	end64Locator  = 20      // bytes ahead of it, in files of Zip64
	end64Size     = 56
	mostDirectory = 6 << 20 // bytes: 20,000 members with names of 200 letters
)

// members tells how many members the end record of a package says there are. An error is ErrDamaged.
func members(r io.ReaderAt, size int64) (uint64, error) {
	tail := make([]byte, min(size, endSize+mostComment))
	if n, err := r.ReadAt(tail, size-int64(len(tail))); n < len(tail) && err != nil {
		return 0, ErrDamaged
	}
	at := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if at < 0 || len(tail)-at < endSize {
		return 0, ErrDamaged
	}
	n := uint64(binary.LittleEndian.Uint16(tail[at+10:]))
	if n != 0xffff {
		return n, nil
	}
	locator := make([]byte, end64Locator)
	where := size - int64(len(tail)) + int64(at) - end64Locator
	if where < 0 {
		return n, nil
	}
	if _, err := r.ReadAt(locator, where); err != nil || !bytes.HasPrefix(locator, []byte("PK\x06\x07")) {
		return n, nil // 65,535 of them
	}
	end := make([]byte, end64Size)
	off := binary.LittleEndian.Uint64(locator[8:])
	if off > uint64(size) {
		return 0, ErrDamaged
	}
	if _, err := r.ReadAt(end, int64(off)); err != nil || !bytes.HasPrefix(end, []byte("PK\x06\x06")) {
		return 0, ErrDamaged
	}
	return binary.LittleEndian.Uint64(end[32:]), nil
}

// bounded lets the directory of a package be read, and no more than that.
type bounded struct {
	io.ReaderAt
	left int64
	open bool // the directory was read: members are
}

func (b *bounded) ReadAt(p []byte, off int64) (int, error) {
	if !b.open {
		if b.left -= int64(len(p)); b.left < 0 {
			return 0, ErrTooMany
		}
	}
	return b.ReaderAt.ReadAt(p, off)
}

// list reads the directory of a package.
func list(r io.ReaderAt, size int64) (*zip.Reader, error) {
	n, err := members(r, size)
	if err != nil {
		return nil, err
	}
	if n > MaxMembers {
		return nil, ErrTooMany
	}
	b := &bounded{ReaderAt: r, left: mostDirectory + 4*mostComment}
	z, err := zip.NewReader(b, size)
	if errors.Is(err, ErrTooMany) || b.left < 0 || err == nil && len(z.File) > MaxMembers {
		return nil, ErrTooMany
	}
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, ErrDamaged
	}
	b.open = true
	return z, nil
}
