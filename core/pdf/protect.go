package pdf

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"fmt"
	"io"
	"slices"
)

// Protection locks a file that is written whole: AES with 256 bits, revision 6 (ISO 32000-2,
// 7.6.4.4). Passwords are prepared as the standard says.
type Protection struct {
	User        string // opens the file; empty lets everybody open it
	Owner       string // opens it without restrictions; must differ from User and not be empty
	Permissions int32  // what User permits, as Permit bits; the rest of table 22 is set as it must be
	Again       *Kept  // where set, the file is locked just as it came, and the fields above say nothing
	Rand        io.Reader
}

// locker encrypts what the full writer writes.
type locker struct {
	crypt
	rand io.Reader
	dict *Dict // the encryption dictionary
	doc  *Document
}

// again makes the locker that locks a file as it came.
func again(k *Kept, rand io.Reader) (*locker, error) {
	lost := refuse(ErrUnsupported, "the file’s lock can’t be read")
	o, err := (&Lexer{Data: []byte(k.Dict)}).Next()
	dict, ok := o.(*Dict)
	if err != nil || !ok || len(k.Key) == 0 {
		return nil, lost
	}
	c, _, err := New().readCrypt(dict)
	if err != nil {
		return nil, err
	}
	if c.aes256 && len(k.Key) != 32 {
		return nil, lost
	}
	c.key = k.Key
	return &locker{crypt: *c, rand: rand, dict: dict}, nil
}

// reservedOnes are the bits of /P that must be 1 (table 22), as far as they are reserved.
const reservedOnes = int32(-1) &^ (PermitPrint | PermitModify | PermitCopy | PermitAnnotate | PermitFill | 1<<9 | PermitAssemble | 1<<11 | 3)

func newLocker(p *Protection, doc *Document) (*locker, error) {
	if p.Again != nil {
		l, err := again(p.Again, p.Rand)
		if err == nil {
			l.doc = doc
		}
		return l, err
	}
	if p.Owner == "" || p.Owner == p.User {
		return nil, refuse(ErrUnsupported, "the owner's password can't be empty or the same as the user's")
	}
	l := &locker{rand: p.Rand, doc: doc}
	l.Revision, l.aes256, l.metadata = 6, true, true
	l.streams, l.strings, l.files = cipherAES, cipherAES, cipherAES
	l.Permissions = reservedOnes | p.Permissions | 1<<9 // accessibility is always permitted
	if p.Permissions&PermitPrint != 0 {
		l.Permissions |= 1 << 11
	}
	random := make([]byte, 32+4*8+4)
	if _, err := io.ReadFull(p.Rand, random); err != nil {
		return nil, fmt.Errorf("making a key: %w", err)
	}
	l.key = random[:32]
	salts, last := random[32:64], random[64:]
	user, owner := prepare(p.User), prepare(p.Owner)
	u := slices.Concat(l.hash(user, salts[:8], nil), salts[:16])
	ue := cbc(l.hash(user, salts[8:16], nil), make([]byte, aes.BlockSize), l.key)
	o := slices.Concat(l.hash(owner, salts[16:24], u), salts[16:32])
	oe := cbc(l.hash(owner, salts[24:32], u), make([]byte, aes.BlockSize), l.key)
	// Algorithm 10: the permissions, so that nobody changes /P invisible.
	perms := binary.LittleEndian.AppendUint32(nil, uint32(l.Permissions))
	perms = append(perms, 0xff, 0xff, 0xff, 0xff, 'T', 'a', 'd', 'b')
	perms = append(perms, last...)
	block, err := aes.NewCipher(l.key)
	if err != nil {
		return nil, err
	}
	block.Encrypt(perms, perms)
	l.dict = NewDict("Filter", Name("Standard"), "V", Integer(5), "R", Integer(6), "Length", Integer(256), "P", Integer(l.Permissions),
		"U", String(u), "UE", String(ue), "O", String(o), "OE", String(oe), "Perms", String(perms), "StmF", Name("StdCF"), "StrF", Name("StdCF"),
		"CF", NewDict("StdCF", NewDict("CFM", Name("AESV3"), "AuthEvent", Name("DocOpen"), "Length", Integer(32))))
	return l, nil
}

func cbc(key, iv, data []byte) []byte {
	block, err := aes.NewCipher(key)
	if err != nil {
		panic(err) // keys here are 32 bytes long
	}
	out := make([]byte, len(data))
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(out, data)
	return out
}

// seal encrypts bytes of the object num (7.6.3.1): by RC4, or AES with a random first block and
// padding to whole blocks.
func (l *locker) seal(data []byte, num int, kind cipherKind) ([]byte, error) {
	switch kind {
	case cipherRC4:
		return rc4ed(l.objectKey(num, 0, kind), data), nil
	case cipherNone:
		return data, nil
	}
	iv := make([]byte, aes.BlockSize)
	if _, err := io.ReadFull(l.rand, iv); err != nil {
		return nil, fmt.Errorf("encrypting: %w", err)
	}
	n := aes.BlockSize - len(data)%aes.BlockSize
	padded := slices.Concat(data, slices.Repeat([]byte{byte(n)}, n))
	return append(iv, cbc(l.objectKey(num, 0, kind), iv, padded)...), nil
}

// packs reports whether objects may stand in object streams: their strings are locked only with
// the stream.
func (l *locker) packs() bool { return l.streams != cipherNone || l.strings == cipherNone }

// object gives an object as it is written under num: strings and the bytes of a stream sealed.
func (l *locker) object(o Object, num int) (Object, error) {
	s, ok := o.(*Stream)
	if !ok {
		return l.sealStrings(DeepClone(o), num)
	}
	if s.Dict.Get("Type") == Name("XRef") {
		return s, nil
	}
	raw, err := s.Raw()
	if err != nil {
		return nil, err
	}
	if raw, err = l.seal(raw, num, l.of(l.doc, s, nil)); err != nil {
		return nil, err
	}
	dict, err := l.sealStrings(DeepClone(s.Dict), num)
	if err != nil {
		return nil, err
	}
	return NewStream(dict.(*Dict), raw), nil
}

func (l *locker) sealStrings(o Object, num int) (Object, error) {
	var err error
	switch v := o.(type) {
	case String:
		b, err := l.seal([]byte(v), num, l.strings)
		return String(b), err
	case Array:
		for i := range v {
			if v[i], err = l.sealStrings(v[i], num); err != nil {
				return nil, err
			}
		}
	case *Dict:
		for i := range v.entries {
			if clearContents(v, v.entries[i].Key) {
				continue
			}
			if v.entries[i].Value, err = l.sealStrings(v.entries[i].Value, num); err != nil {
				return nil, err
			}
		}
	}
	return o, nil
}
