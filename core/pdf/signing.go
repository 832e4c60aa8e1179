package pdf

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Signing is an update with a place for a signature's value (12.8.1). The signature covers the file with the update, but for that place.
type Signing struct {
	Base   int64  // bytes of the file before the update
	Update []byte // the bytes to put behind them
	at     int    // where the value's < stands in Update
	room   int    // bytes of the value
}

// ErrNoRoom: a signature's value is longer than the place kept for it.
var ErrNoRoom = errors.New("the signature is longer than the place kept for it")

// mostRoom is the longest value that a place is kept for, in bytes.
const mostRoom = 1 << 20

// UpdateToSign is Update with a place for a signature in the dictionary sig, which is a changed or new object: its /ByteRange and /Contents are written
// here, with room bytes for the value, which is nulls until Put puts it there.
func (d *Document) UpdateToSign(id [16]byte, sig Ref, room int) (*Signing, error) {
	if room <= 0 || room > mostRoom {
		return nil, refuse(ErrUnsupported, fmt.Sprintf("there is no place for a signature of %d bytes", room))
	}
	if _, ok := d.overlay[sig.Num].(*Dict); !ok || !slices.Contains(d.changed, sig.Num) {
		return nil, refuse(ErrUnsupported, "only a new or changed dictionary can be signed")
	}
	s := &Signing{Base: d.size, room: room}
	b, err := d.update(id, func(b *bytes.Buffer, num, gen int, o Object) error {
		if num != sig.Num {
			return appendIndirect(b, num, gen, o)
		}
		s.write(b, num, gen, o.(*Dict))
		return nil
	})
	if err != nil {
		return nil, err
	}
	s.Update = b
	// The lengths are known now. Numbers may have leading zeros (7.3.3).
	r := s.Range()
	begin := bytes.LastIndex(b[:s.at], []byte(rangeKey)) + len(rangeKey)
	copy(b[begin:], fmt.Sprintf("[%020d %020d %020d %020d]", r[0], r[1], r[2], r[3]))
	return s, nil
}

const rangeKey = "/ByteRange"

// write writes the signature's dictionary with the two entries behind the others.
func (s *Signing) write(b *bytes.Buffer, num, gen int, o *Dict) {
	others := o.Clone()
	others.Set("ByteRange", nil)
	others.Set("Contents", nil)
	fmt.Fprintf(b, "%d %d obj\n", num, gen)
	b.Write(bytes.TrimSuffix(AppendObject(nil, others), []byte(">>")))
	fmt.Fprintf(b, "%s[%020d %020d %020d %020d]/Contents", rangeKey, 0, 0, 0, 0)
	s.at = b.Len()
	b.WriteByte('<')
	b.Write(bytes.Repeat([]byte{'0'}, 2*s.room))
	b.WriteString(">>>\nendobj\n")
}

// Range is the /ByteRange: offset and length, in bytes, of what is before and behind the value with its brackets.
func (s *Signing) Range() [4]int64 {
	before := s.Base + int64(s.at)
	behind := before + int64(2*s.room) + 2
	return [4]int64{0, before, behind, s.Base + int64(len(s.Update)) - behind}
}

// Covered is what the signature is of; file is what was there before the update.
func (s *Signing) Covered(file io.ReaderAt) io.Reader {
	return io.MultiReader(io.NewSectionReader(file, 0, s.Base), bytes.NewReader(s.Update[:s.at]), bytes.NewReader(s.Update[s.at+2*s.room+2:]))
}

// Put puts the value in its place. An error is ErrNoRoom; nothing was changed then.
func (s *Signing) Put(value []byte) error {
	if len(value) > s.room {
		return ErrNoRoom
	}
	hex.Encode(s.Update[s.at+1:], value)
	return nil
}
